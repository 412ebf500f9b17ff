//! When, and how fast, copies may leave the house; and when they will have left.

use std::time::Duration;

use chrono::{Datelike, Days, NaiveDateTime, NaiveTime, TimeDelta, Weekday};
use serde::{Deserialize, Serialize};

use crate::condition::Hours;

/// The slowest limit, in bytes per second. Below it, stores give up waiting for the rest of an object.
pub const SLOWEST: u64 = 32_000;
/// An estimate that goes beyond this is no estimate.
const HORIZON: TimeDelta = TimeDelta::days(400);

/// What may leave just now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "may")]
pub enum Pace {
    /// Nothing.
    Rest,
    /// At most so many bytes per second.
    Limited {
        /// Bytes per second.
        rate: u64,
    },
    /// As fast as it goes.
    Full,
}

impl Pace {
    /// Bytes per second with a line that carries `line`.
    fn of_line(self, line: u64) -> u64 {
        match self {
            Pace::Rest => 0,
            Pace::Limited { rate } => rate.min(line),
            Pace::Full => line,
        }
    }
}

/// Hours of some days with a pace of their own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Window {
    /// Days of the week; none means every day. Hours that go over midnight belong to the day on which they begin.
    #[serde(default)]
    pub days: Vec<Weekday>,
    /// Hours of the day.
    pub hours: Hours,
    /// What may leave then.
    pub pace: Pace,
}

impl Window {
    fn holds(&self, at: NaiveDateTime) -> bool {
        let on = |day: Weekday| self.days.is_empty() || self.days.contains(&day);
        if !self.hours.contain(at.time()) {
            return false;
        }
        let after_midnight = self.hours.from > self.hours.until && at.time() < self.hours.until;
        on(if after_midnight { at.weekday().pred() } else { at.weekday() })
    }
}

/// A store's week. The first window that holds decides; outside of all, `otherwise`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Week {
    /// The windows, most important first.
    #[serde(default)]
    pub windows: Vec<Window>,
    /// What may leave outside of them.
    #[serde(default = "full")]
    pub otherwise: Pace,
}

fn full() -> Pace {
    Pace::Full
}

impl Default for Week {
    fn default() -> Self {
        Week { windows: Vec::new(), otherwise: Pace::Full }
    }
}

/// Why a week cannot be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadWeek {
    /// Nothing could ever leave.
    #[error("at no hour of the week may anything leave; to stop for a while, pause the store instead")]
    Never,
    /// A limit below [`SLOWEST`].
    #[error("a limit must be at least 32 kB/s: a store does not wait for ever for the rest of a picture")]
    TooSlow,
    /// More windows than a person could oversee.
    #[error("a week has at most 20 windows")]
    TooMany,
}

impl Week {
    /// Looks for what cannot work.
    pub fn check(&self) -> Result<(), BadWeek> {
        let paces = || self.windows.iter().map(|w| w.pace).chain([self.otherwise]);
        if self.windows.len() > 20 {
            return Err(BadWeek::TooMany);
        }
        if paces().any(|p| matches!(p, Pace::Limited { rate } if rate < SLOWEST)) {
            return Err(BadWeek::TooSlow);
        }
        let monday = NaiveDateTime::default();
        let mut at = monday;
        while at < monday + TimeDelta::days(8) {
            if self.at(at) != Pace::Rest {
                return Ok(());
            }
            match self.change_after(at) {
                Some(next) => at = next,
                None => break,
            }
        }
        Err(BadWeek::Never)
    }

    /// Whether a limit holds at some hour.
    pub fn has_limits(&self) -> bool {
        self.windows.iter().map(|w| w.pace).chain([self.otherwise]).any(|p| matches!(p, Pace::Limited { .. }))
    }

    /// What may leave at a time, as a clock on the wall shows it.
    pub fn at(&self, local: NaiveDateTime) -> Pace {
        self.windows.iter().find(|w| w.holds(local)).map_or(self.otherwise, |w| w.pace)
    }

    /// When that changes next. `None`: never.
    pub fn change_after(&self, local: NaiveDateTime) -> Option<NaiveDateTime> {
        let now = self.at(local);
        let mut edges: Vec<NaiveTime> =
            self.windows.iter().flat_map(|w| [w.hours.from, w.hours.until]).chain([NaiveTime::MIN]).collect();
        edges.sort_unstable();
        edges.dedup();
        (0..=8)
            .filter_map(|n| local.date().checked_add_days(Days::new(n)))
            .flat_map(|day| edges.iter().map(move |t| day.and_time(*t)))
            .find(|t| *t > local && self.at(*t) != now)
    }

    /// How long until `bytes` have left, by a line that carries `line` bytes per second when nothing holds it back. `None`: never,
    /// or not within a year.
    pub fn estimate(&self, local: NaiveDateTime, bytes: u64, line: u64) -> Option<TimeDelta> {
        let (mut at, mut left) = (local, bytes as f64);
        while at - local < HORIZON {
            let rate = self.at(at).of_line(line) as f64;
            let change = self.change_after(at);
            let seconds = change.map_or(f64::INFINITY, |c| (c - at).as_seconds_f64());
            if rate > 0.0 && left <= rate * seconds {
                let rest = TimeDelta::milliseconds((left / rate * 1000.0).min(HORIZON.num_milliseconds() as f64) as i64);
                return Some(at - local + rest).filter(|whole| *whole < HORIZON);
            }
            left -= rate * seconds.min(HORIZON.as_seconds_f64());
            at = change?;
        }
        None
    }
}

/// A token bucket: whoever sends takes bytes out of it, and waits until they are there. Time is handed in.
#[derive(Clone, Copy, Debug)]
pub struct Bucket {
    /// Bytes per second; 0 for no limit.
    rate: u64,
    /// Bytes that may go at once; less than nothing while a debt is paid off.
    level: f64,
    /// When `level` was right.
    at: Duration,
}

impl Bucket {
    /// A bucket with nothing in it.
    pub fn new(rate: u64, now: Duration) -> Self {
        Bucket { rate, level: 0.0, at: now }
    }

    /// What fits in: a quarter of a second's worth.
    fn depth(&self) -> f64 {
        self.rate as f64 / 4.0
    }

    /// Another rate from now on. Debts of a slower time are forgiven.
    pub fn set_rate(&mut self, rate: u64, now: Duration) {
        if rate != self.rate {
            *self = Bucket::new(rate, now);
        }
    }

    /// Takes bytes, and says how long to wait before they may go.
    pub fn take(&mut self, bytes: u64, now: Duration) -> Duration {
        if self.rate == 0 {
            return Duration::ZERO;
        }
        let gone = now.saturating_sub(self.at).as_secs_f64();
        self.level = (self.level + gone * self.rate as f64).min(self.depth()) - bytes as f64;
        self.at = now.max(self.at);
        Duration::from_secs_f64((-self.level / self.rate as f64).max(0.0))
    }
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;
    use rstest::rstest;

    use super::*;

    fn time(text: &str) -> NaiveTime {
        text.parse().unwrap()
    }

    /// Monday is day 0.
    fn at(day: u64, text: &str) -> NaiveDateTime {
        NaiveDate::from_ymd_opt(2026, 4, 13).unwrap().checked_add_days(Days::new(day)).unwrap().and_time(time(text))
    }

    fn window(days: &[Weekday], from: &str, until: &str, pace: Pace) -> Window {
        Window { days: days.to_vec(), hours: Hours { from: time(from), until: time(until) }, pace }
    }

    /// Full speed at night, nothing on weekday mornings, a trickle by day.
    fn mill_house() -> Week {
        use Weekday::{Fri, Mon, Thu, Tue, Wed};
        Week {
            windows: vec![
                window(&[Mon, Tue, Wed, Thu, Fri], "09:00:00", "12:00:00", Pace::Rest),
                window(&[], "23:00:00", "06:00:00", Pace::Full),
            ],
            otherwise: Pace::Limited { rate: 100_000 },
        }
    }

    #[rstest]
    #[case::night(0, "02:00:00", Pace::Full)]
    #[case::evening(0, "23:00:00", Pace::Full)]
    #[case::dawn(0, "06:00:00", Pace::Limited { rate: 100_000 })]
    #[case::calls(0, "09:00:00", Pace::Rest)]
    #[case::calls_are_over(0, "12:00:00", Pace::Limited { rate: 100_000 })]
    #[case::saturday(5, "10:00:00", Pace::Limited { rate: 100_000 })]
    fn the_first_window_that_holds_decides(#[case] day: u64, #[case] time: &str, #[case] pace: Pace) {
        assert_eq!(mill_house().at(at(day, time)), pace);
    }

    #[test]
    fn hours_over_midnight_belong_to_the_day_they_begin_on() {
        let week = Week { windows: vec![window(&[Weekday::Sun], "22:00:00", "04:00:00", Pace::Full)], otherwise: Pace::Rest };
        assert_eq!(week.at(at(6, "23:00:00")), Pace::Full);
        assert_eq!(week.at(at(7, "03:59:59")), Pace::Full, "early on Monday");
        assert_eq!(week.at(at(6, "03:00:00")), Pace::Rest, "early on Sunday");
    }

    #[test]
    fn changes_are_found_over_days_without_any() {
        assert_eq!(mill_house().change_after(at(0, "07:00:00")), Some(at(0, "09:00:00")));
        assert_eq!(mill_house().change_after(at(4, "23:30:00")), Some(at(5, "06:00:00")));
        assert_eq!(Week::default().change_after(at(0, "07:00:00")), None);
        let once = Week { windows: vec![window(&[Weekday::Mon], "08:00:00", "09:00:00", Pace::Full)], otherwise: Pace::Rest };
        assert_eq!(once.change_after(at(0, "09:00:00")), Some(at(7, "08:00:00")));
    }

    #[rstest]
    #[case::all_night(at(0, "23:00:00"), 3600 * 5_000_000, Some(TimeDelta::hours(1)))]
    #[case::nothing_left(at(0, "10:00:00"), 0, Some(TimeDelta::hours(2)))]
    #[case::behind_the_calls(at(0, "08:30:00"), 100_000 * (1800 + 60), Some(TimeDelta::minutes(30 + 180 + 1)))]
    #[case::into_the_night(at(5, "22:00:00"), 3600 * 100_000 + 5_000_000, Some(TimeDelta::seconds(3601)))]
    #[case::too_much(at(0, "00:00:00"), u64::MAX, None)]
    fn an_estimate_walks_through_the_hours_to_come(
        #[case] from: NaiveDateTime,
        #[case] bytes: u64,
        #[case] takes: Option<TimeDelta>,
    ) {
        assert_eq!(mill_house().estimate(from, bytes, 5_000_000), takes);
    }

    #[test]
    fn a_line_that_carries_nothing_never_gets_there() {
        assert_eq!(Week::default().estimate(at(0, "00:00:00"), 1, 0), None);
        assert_eq!(mill_house().estimate(at(0, "00:00:00"), 1, 0), None);
    }

    #[test]
    fn weeks_that_cannot_work_are_refused() {
        assert_eq!(mill_house().check(), Ok(()));
        assert_eq!(Week { windows: Vec::new(), otherwise: Pace::Rest }.check(), Err(BadWeek::Never));
        let hidden = vec![window(&[], "00:00:00", "00:00:00", Pace::Rest), window(&[], "01:00:00", "02:00:00", Pace::Full)];
        assert_eq!(
            Week { windows: hidden, otherwise: Pace::Full }.check(),
            Err(BadWeek::Never),
            "the first one covers everything"
        );
        assert_eq!(Week { windows: Vec::new(), otherwise: Pace::Limited { rate: 31_999 } }.check(), Err(BadWeek::TooSlow));
        let text = serde_json::to_string(&mill_house()).unwrap();
        assert_eq!(serde_json::from_str::<Week>(&text).unwrap(), mill_house());
        assert_eq!(serde_json::from_str::<Week>("{}").unwrap(), Week::default());
    }

    #[rstest]
    #[case(100_000, 16_384)]
    #[case(2_000_000, 16_384)]
    #[case(50_000, 200_000)]
    fn a_bucket_holds_its_rate_within_a_twentieth(#[case] rate: u64, #[case] piece: u64) {
        let mut bucket = Bucket::new(rate, Duration::ZERO);
        let (mut now, mut sent) = (Duration::ZERO, 0u64);
        while now < Duration::from_secs(60) {
            now += bucket.take(piece, now);
            sent += piece;
            // The line itself takes its time; a pause in between must not be made up for by a flood.
            now += Duration::from_millis(1);
        }
        let measured = sent as f64 / now.as_secs_f64();
        assert!((measured / rate as f64 - 1.0).abs() < 0.05, "{measured} instead of {rate}");
        now += Duration::from_secs(3600);
        assert_eq!(bucket.take(rate / 4, now), Duration::ZERO);
        assert!(bucket.take(rate, now) >= Duration::from_millis(990), "an hour of rest is not saved up");
    }

    #[test]
    fn another_rate_holds_at_once() {
        let mut bucket = Bucket::new(1000, Duration::ZERO);
        assert!(bucket.take(1_000_000, Duration::ZERO) > Duration::from_secs(900));
        bucket.set_rate(0, Duration::from_secs(1));
        assert_eq!(bucket.take(u64::MAX, Duration::from_secs(1)), Duration::ZERO);
    }
}
