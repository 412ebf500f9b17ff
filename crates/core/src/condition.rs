//! When may a device send? Conditions of power, network and time, as rules over readings that the platform hands in.
//!
//! A device asks [`check`] before a run and again while it runs. The answer names what it waits for, in words that the
//! device, the console and the client show alike.

use chrono::{Datelike, Days, Months, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, Weekday};
use serde::{Deserialize, Serialize};

/// What may go over a network that costs money.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mobile {
    /// Nothing.
    #[default]
    Never,
    /// Photos, but no videos.
    Photos,
    /// Everything.
    Everything,
}

/// How often a run begins by itself.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "every")]
pub enum Schedule {
    /// As soon as there is something new.
    #[default]
    Change,
    /// Once a day.
    Day {
        /// From this time on, by the device's clock.
        at: NaiveTime,
    },
    /// Once a week.
    Week {
        /// On this day.
        on: Weekday,
        /// From this time on.
        at: NaiveTime,
    },
    /// Once a month.
    Month {
        /// On this day, 1 to 31; in shorter months on the last one.
        day: u8,
        /// From this time on.
        at: NaiveTime,
    },
}

/// Hours of the day, by the device's clock. May go over midnight; from equal to until means the whole day.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hours {
    /// From then on.
    pub from: NaiveTime,
    /// Until shortly before then.
    pub until: NaiveTime,
}

impl Hours {
    /// Whether a time of day is within.
    pub fn contain(self, time: NaiveTime) -> bool {
        match self.from.cmp(&self.until) {
            std::cmp::Ordering::Less => self.from <= time && time < self.until,
            std::cmp::Ordering::Greater => time >= self.from || time < self.until,
            std::cmp::Ordering::Equal => true,
        }
    }
}

/// Everything that a device's owner can demand before it sends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Conditions {
    /// How often.
    pub schedule: Schedule,
    /// Only in these hours.
    pub hours: Option<Hours>,
    /// What may go over mobile data, or over any network that the platform calls metered.
    pub mobile: Mobile,
    /// Only on the network where the server is.
    pub home_network_only: bool,
    /// Only while charging.
    pub charging_only: bool,
    /// Not below this level, in percent, unless it charges.
    pub battery_at_least: u8,
}

impl Default for Conditions {
    fn default() -> Self {
        Conditions {
            schedule: Schedule::Change,
            hours: None,
            mobile: Mobile::Never,
            home_network_only: false,
            charging_only: false,
            battery_at_least: 30,
        }
    }
}

/// How a device is connected.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Network {
    /// Not at all.
    None,
    /// By cable.
    Wired,
    /// By Wi-Fi.
    Wifi,
    /// By mobile data.
    Mobile,
}

/// What the platform says just now. What it does not say is `None`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Readings {
    /// Percent; `None` for a computer without a battery.
    pub battery: Option<u8>,
    /// Whether it charges.
    pub charging: Option<bool>,
    /// How it is connected.
    pub network: Network,
    /// Whether that connection costs by the byte. Mobile data counts as metered unless said otherwise.
    pub metered: Option<bool>,
    /// Whether it is the network where the server is.
    pub at_home: Option<bool>,
    /// The device's own clock.
    pub clock: NaiveDateTime,
}

/// A condition that is not met.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "for")]
pub enum Waiting {
    /// There is no network.
    Network,
    /// The network costs by the byte.
    FreeNetwork,
    /// It is not the home network.
    HomeNetwork,
    /// It does not charge.
    Charger,
    /// The battery is too low.
    Battery {
        /// Percent now.
        has: u8,
        /// Percent demanded.
        needs: u8,
    },
    /// It is not the hour.
    Hours {
        /// The next hour that is, by the device's clock.
        from: NaiveTime,
    },
    /// The next run is due later.
    Schedule {
        /// Then, by the device's clock.
        at: NaiveDateTime,
    },
}

impl Waiting {
    /// What it waits for, for a person: completes "Waiting for …".
    pub fn words(self) -> String {
        match self {
            Waiting::Network => "a network".to_owned(),
            Waiting::FreeNetwork => "Wi-Fi; this network costs money for each byte".to_owned(),
            Waiting::HomeNetwork => "the network at home".to_owned(),
            Waiting::Charger => "the charger".to_owned(),
            Waiting::Battery { has, needs } => format!("the battery: it has {has} % and needs {needs} %"),
            Waiting::Hours { from } => format!("{}, when its hours begin", from.format("%H:%M")),
            Waiting::Schedule { at } => format!("its next time, {}", at.format("%A %-d %B, %H:%M")),
        }
    }
}

/// May it send?
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Yes, everything.
    Go,
    /// Yes, but no videos, because of this.
    PhotosOnly(Waiting),
    /// No, because of these; the first one is the one to tell.
    Wait(Vec<Waiting>),
}

/// Checks the conditions. `last` is when the last complete run began, by the device's clock; `asked` says that a person
/// has just asked for this run: then neither schedule, hours, charger nor battery hold it up. What costs money or leaves
/// the home network is never done because of a tap on a button.
pub fn check(conditions: &Conditions, now: &Readings, last: Option<NaiveDateTime>, asked: bool) -> Verdict {
    let mut waiting = Vec::new();
    let metered = now.metered.unwrap_or(now.network == Network::Mobile);
    if now.network == Network::None {
        waiting.push(Waiting::Network);
    } else if conditions.home_network_only && now.at_home != Some(true) {
        waiting.push(Waiting::HomeNetwork);
    } else if metered && conditions.mobile == Mobile::Never {
        waiting.push(Waiting::FreeNetwork);
    }
    if !asked {
        let charging = now.charging.unwrap_or(now.battery.is_none());
        if conditions.charging_only && !charging {
            waiting.push(Waiting::Charger);
        }
        if let Some(has) = now.battery.filter(|b| *b < conditions.battery_at_least && !charging) {
            waiting.push(Waiting::Battery { has, needs: conditions.battery_at_least });
        }
        if let Some(hours) = conditions.hours.filter(|h| !h.contain(now.clock.time())) {
            waiting.push(Waiting::Hours { from: hours.from });
        }
        if let Some(at) = due(conditions.schedule, last, now.clock).filter(|at| *at > now.clock) {
            waiting.push(Waiting::Schedule { at });
        }
    }
    match () {
        () if !waiting.is_empty() => Verdict::Wait(waiting),
        () if metered && conditions.mobile == Mobile::Photos => Verdict::PhotosOnly(Waiting::FreeNetwork),
        () => Verdict::Go,
    }
}

/// When the next run is due: a moment at or before `now` means now. `None`: whenever there is something new.
///
/// A device that never ran is due at once. So is one whose clock was set back to before its last run: a wrong clock must
/// not keep pictures waiting for months.
pub fn due(schedule: Schedule, last: Option<NaiveDateTime>, now: NaiveDateTime) -> Option<NaiveDateTime> {
    if schedule == Schedule::Change {
        return None;
    }
    let Some(last) = last.filter(|l| *l <= now) else { return Some(now) };
    Some(next_after(schedule, last))
}

/// The first moment of the schedule after `then`.
fn next_after(schedule: Schedule, then: NaiveDateTime) -> NaiveDateTime {
    let first = |dates: &mut dyn Iterator<Item = NaiveDate>, at: NaiveTime| {
        dates.map(|d| d.and_time(at)).find(|t| *t > then).unwrap_or(then + TimeDelta::days(31))
    };
    let today = then.date();
    let mut days = (0..=7).filter_map(|n| today.checked_add_days(Days::new(n)));
    match schedule {
        Schedule::Change => then,
        Schedule::Day { at } => first(&mut days, at),
        Schedule::Week { on, at } => first(&mut days.filter(|d| d.weekday() == on), at),
        Schedule::Month { day, at } => {
            let month = today.with_day(1).unwrap_or(today);
            let mut dates = (0..=2).filter_map(|n| month.checked_add_months(Months::new(n))).map(|m| on_day(m, day));
            first(&mut dates, at)
        }
    }
}

/// The given day of the month that begins with `first`, or its last one.
fn on_day(first: NaiveDate, day: u8) -> NaiveDate {
    let days = first.checked_add_months(Months::new(1)).map_or(28, |next| (next - first).num_days());
    let day = u32::from(day).clamp(1, u32::try_from(days).unwrap_or(28));
    first.with_day(day).unwrap_or(first)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn at(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M").unwrap()
    }

    fn time(hour: u32, minute: u32) -> NaiveTime {
        NaiveTime::from_hms_opt(hour, minute, 0).unwrap()
    }

    /// A phone at home in the evening, charged well enough.
    fn evening() -> Readings {
        Readings {
            battery: Some(80),
            charging: Some(false),
            network: Network::Wifi,
            metered: Some(false),
            at_home: Some(true),
            clock: at("2026-04-12 21:00"),
        }
    }

    fn computer() -> Readings {
        Readings { battery: None, charging: None, network: Network::Wired, metered: None, at_home: None, ..evening() }
    }

    fn conditions(change: impl FnOnce(&mut Conditions)) -> Conditions {
        let mut c = Conditions::default();
        change(&mut c);
        c
    }

    #[rstest]
    #[case::nothing_demanded(Conditions::default(), evening(), Verdict::Go)]
    #[case::no_network(Conditions::default(), Readings { network: Network::None, ..evening() }, Verdict::Wait(vec![Waiting::Network]))]
    #[case::mobile_data(Conditions::default(), Readings { network: Network::Mobile, metered: None, ..evening() }, Verdict::Wait(vec![Waiting::FreeNetwork]))]
    #[case::metered_wifi(Conditions::default(), Readings { metered: Some(true), ..evening() }, Verdict::Wait(vec![Waiting::FreeNetwork]))]
    #[case::free_mobile_data(Conditions::default(), Readings { network: Network::Mobile, metered: Some(false), ..evening() }, Verdict::Go)]
    #[case::photos_by_mobile_data(conditions(|c| c.mobile = Mobile::Photos), Readings { network: Network::Mobile, metered: None, ..evening() }, Verdict::PhotosOnly(Waiting::FreeNetwork))]
    #[case::everything_by_mobile_data(conditions(|c| c.mobile = Mobile::Everything), Readings { network: Network::Mobile, metered: None, ..evening() }, Verdict::Go)]
    #[case::elsewhere(conditions(|c| c.home_network_only = true), Readings { at_home: Some(false), ..evening() }, Verdict::Wait(vec![Waiting::HomeNetwork]))]
    #[case::nobody_knows_where(conditions(|c| c.home_network_only = true), Readings { at_home: None, ..evening() }, Verdict::Wait(vec![Waiting::HomeNetwork]))]
    #[case::not_charging(conditions(|c| c.charging_only = true), evening(), Verdict::Wait(vec![Waiting::Charger]))]
    #[case::charging(conditions(|c| c.charging_only = true), Readings { charging: Some(true), ..evening() }, Verdict::Go)]
    #[case::computer_on_mains(conditions(|c| c.charging_only = true), computer(), Verdict::Go)]
    #[case::low_battery(Conditions::default(), Readings { battery: Some(29), ..evening() }, Verdict::Wait(vec![Waiting::Battery { has: 29, needs: 30 }]))]
    #[case::just_enough(Conditions::default(), Readings { battery: Some(30), ..evening() }, Verdict::Go)]
    #[case::low_and_charging(Conditions::default(), Readings { battery: Some(5), charging: Some(true), ..evening() }, Verdict::Go)]
    #[case::out_of_hours(conditions(|c| c.hours = Some(Hours { from: time(23, 0), until: time(6, 0) })), evening(), Verdict::Wait(vec![Waiting::Hours { from: time(23, 0) }]))]
    #[case::in_hours_over_midnight(conditions(|c| c.hours = Some(Hours { from: time(20, 30), until: time(6, 0) })), evening(), Verdict::Go)]
    fn each_condition_holds_a_run_up_by_itself(#[case] demanded: Conditions, #[case] now: Readings, #[case] expected: Verdict) {
        assert_eq!(check(&demanded, &now, None, false), expected);
    }

    #[test]
    fn a_person_who_asks_need_not_wait_but_never_pays_for_it() {
        let strict = conditions(|c| {
            c.charging_only = true;
            c.hours = Some(Hours { from: time(1, 0), until: time(2, 0) });
            c.schedule = Schedule::Day { at: time(3, 0) };
        });
        let low = Readings { battery: Some(10), ..evening() };
        assert!(matches!(check(&strict, &low, Some(at("2026-04-12 20:00")), false), Verdict::Wait(w) if w.len() == 4));
        assert_eq!(check(&strict, &low, Some(at("2026-04-12 20:00")), true), Verdict::Go);
        let out = Readings { network: Network::Mobile, metered: None, ..low };
        assert_eq!(check(&strict, &out, None, true), Verdict::Wait(vec![Waiting::FreeNetwork]));
    }

    #[rstest]
    #[case::daily_done(Schedule::Day { at: time(3, 0) }, "2026-04-12 03:10", "2026-04-13 03:00")]
    #[case::daily_done_early(Schedule::Day { at: time(22, 0) }, "2026-04-12 20:00", "2026-04-12 22:00")]
    #[case::weekly(Schedule::Week { on: Weekday::Sun, at: time(3, 0) }, "2026-04-12 03:10", "2026-04-19 03:00")]
    #[case::monthly(Schedule::Month { day: 31, at: time(3, 0) }, "2026-03-31 03:10", "2026-04-30 03:00")]
    #[case::monthly_short(Schedule::Month { day: 31, at: time(3, 0) }, "2026-01-31 03:10", "2026-02-28 03:00")]
    #[case::monthly_at_new_year(Schedule::Month { day: 1, at: time(3, 0) }, "2025-12-02 00:00", "2026-01-01 03:00")]
    fn the_next_time_follows_from_the_last(#[case] schedule: Schedule, #[case] last: &str, #[case] next: &str) {
        assert_eq!(due(schedule, Some(at(last)), at("2026-12-30 00:00")), Some(at(next)));
    }

    #[test]
    fn a_missed_time_is_made_up_for_and_a_clock_set_back_keeps_nothing_waiting() {
        let demanded = conditions(|c| c.schedule = Schedule::Day { at: time(3, 0) });
        assert_eq!(check(&demanded, &evening(), Some(at("2026-04-10 03:00")), false), Verdict::Go);
        assert_eq!(check(&demanded, &evening(), None, false), Verdict::Go);
        assert_eq!(check(&demanded, &evening(), Some(at("2031-01-01 00:00")), false), Verdict::Go);
    }

    #[test]
    fn what_is_waited_for_is_said_in_words() {
        let all = [
            Waiting::Network,
            Waiting::FreeNetwork,
            Waiting::HomeNetwork,
            Waiting::Charger,
            Waiting::Battery { has: 12, needs: 30 },
            Waiting::Hours { from: time(23, 0) },
            Waiting::Schedule { at: at("2026-04-13 03:00") },
        ];
        let words: Vec<String> = all.into_iter().map(Waiting::words).collect();
        assert_eq!(words[4], "the battery: it has 12 % and needs 30 %");
        assert_eq!(words[6], "its next time, Monday 13 April, 03:00");
        for w in all {
            let there_and_back: Waiting = serde_json::from_value(serde_json::to_value(w).unwrap()).unwrap();
            assert_eq!(there_and_back, w);
        }
    }
}
