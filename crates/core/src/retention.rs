//! When what was deleted goes for good, and when nothing goes until somebody has looked.
//!
//! What is deleted waits in holding at home, and its sealed copies stay in the stores for a while longer. Only then it goes, unless so
//! much would go within one day that it looks like a mistake or a thief: then the safety stop holds everything until the keeper has looked.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::amount::Amount;

/// How long what was deleted stays.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Retention {
    /// Days in holding at home; none: for ever.
    pub home_days: Option<u16>,
    /// Days that a store keeps its copy after home has let go of its own.
    pub offsite_days: u16,
    /// The largest share of the library, in percent of its originals or of its bytes, that may go within one day. Ledgers have it
    /// under its first name, so that a program of any version brings a household back.
    #[serde(rename = "brake_percent")]
    pub safety_stop_percent: u8,
}

impl Default for Retention {
    fn default() -> Self {
        Retention { home_days: Some(60), offsite_days: 30, safety_stop_percent: 5 }
    }
}

/// Why a rule cannot be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadRetention {
    /// Not one of [`Retention::HOME_DAYS`].
    #[error("deleted pictures are kept for 30, 60, 90, 180 or 365 days, or for ever")]
    Home,
    /// More than [`Retention::MOST_OFFSITE_DAYS`].
    #[error("stores keep deleted pictures for at most 365 days more")]
    Offsite,
    /// Not between 1 and 100.
    #[error("the safety stop is between 1 and 100 percent")]
    SafetyStop,
}

impl Retention {
    /// The days that can be chosen for home; for ever is the other choice.
    pub const HOME_DAYS: [u16; 5] = [30, 60, 90, 180, 365];
    /// The most days that stores keep what home has let go of.
    pub const MOST_OFFSITE_DAYS: u16 = 365;

    /// Checks what somebody chose.
    pub fn check(self) -> Result<Self, BadRetention> {
        match self {
            Retention { home_days: Some(days), .. } if !Self::HOME_DAYS.contains(&days) => Err(BadRetention::Home),
            Retention { offsite_days, .. } if offsite_days > Self::MOST_OFFSITE_DAYS => Err(BadRetention::Offsite),
            Retention { safety_stop_percent, .. } if !(1..=100).contains(&safety_stop_percent) => Err(BadRetention::SafetyStop),
            fine => Ok(fine),
        }
    }

    /// Until when something that is deleted now stays in holding; none: for ever.
    pub fn home_until(self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.home_days.map(|days| now + TimeDelta::days(days.into()))
    }

    /// Until when the stores keep what home lets go of now.
    pub fn offsite_until(self, now: DateTime<Utc>) -> DateTime<Utc> {
        now + TimeDelta::days(self.offsite_days.into())
    }
}

/// What the safety stop looks at.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Leaving {
    /// Everything on the home disk, in holding or not.
    pub library: Amount,
    /// What has gone within the last day without having been looked at by the keeper.
    pub gone_today: Amount,
    /// What would go now, and the keeper has not looked at.
    pub due: Amount,
}

/// The safety stop holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HeldBack {
    /// What would go now.
    pub due: Amount,
    /// The share of the library that would have gone within one day, in percent, rounded down; of its originals or of its bytes,
    /// whichever is more.
    pub percent: u8,
}

/// What of what is due may go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Release {
    /// All of it.
    All,
    /// The safety stop holds: only what the keeper has looked at.
    LookedAt,
}

impl Release {
    /// What follows from the safety stop.
    pub fn by(safety_stop: Result<(), HeldBack>) -> Self {
        if safety_stop.is_ok() { Release::All } else { Release::LookedAt }
    }
}

/// Whether what is due may go: `Err` if more than `percent` of what the library held a day ago would have gone by then.
///
/// ```
/// use ypogeion_core::{amount::Amount, retention::{Leaving, safety_stop}};
/// let amount = |count| Amount { count, bytes: count * 4_000_000 };
/// let leaving = Leaving { library: amount(960), gone_today: amount(40), due: amount(10) };
/// assert!(safety_stop(&leaving, 5).is_ok());
/// let more = Leaving { due: amount(11), ..leaving };
/// assert_eq!(safety_stop(&more, 5).unwrap_err().due.count, 11);
/// ```
pub fn safety_stop(leaving: &Leaving, percent: u8) -> Result<(), HeldBack> {
    let Leaving { library, gone_today, due } = leaving;
    if due.count == 0 {
        return Ok(());
    }
    let hundredfold = |due: u64, gone: u64| (u128::from(due) + u128::from(gone)) * 100;
    let before = |left: u64, gone: u64| (u128::from(left) + u128::from(gone)).max(1);
    let (originals, bytes) = (hundredfold(due.count, gone_today.count), hundredfold(due.bytes, gone_today.bytes));
    let (all, all_bytes) = (before(library.count, gone_today.count), before(library.bytes, gone_today.bytes));
    let limit = u128::from(percent);
    if originals <= limit * all && bytes <= limit * all_bytes {
        return Ok(());
    }
    let share = (originals / all).max(bytes / all_bytes).min(100);
    Err(HeldBack { due: *due, percent: u8::try_from(share).unwrap_or(100) })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn amount(count: u64, bytes: u64) -> Amount {
        Amount { count, bytes }
    }

    #[rstest]
    #[case::nothing_due(amount(100, 100), amount(90, 90), amount(0, 0), None)]
    #[case::just_below(amount(100, 1000), amount(0, 0), amount(5, 50), None)]
    #[case::one_too_many(amount(100, 1000), amount(0, 0), amount(6, 6), Some(6))]
    #[case::few_and_large(amount(1000, 1000), amount(0, 0), amount(1, 600), Some(60))]
    #[case::little_by_little(amount(96, 960), amount(4, 40), amount(2, 20), Some(6))]
    #[case::all_of_it(amount(7, 70), amount(0, 0), amount(7, 70), Some(100))]
    #[case::what_is_left_when_nearly_all_went(amount(1, 1), amount(99, 99), amount(1, 1), Some(100))]
    #[case::empty_files(amount(100, 0), amount(0, 0), amount(1, 0), None)]
    fn the_safety_stop_holds_when_too_much_would_go_in_a_day(
        #[case] library: Amount,
        #[case] gone_today: Amount,
        #[case] due: Amount,
        #[case] held_at: Option<u8>,
    ) {
        let said = safety_stop(&Leaving { library, gone_today, due }, 5);
        assert_eq!(said.err().map(|b| b.percent), held_at);
    }

    #[test]
    fn numbers_larger_than_any_library_do_no_harm() {
        let most = amount(u64::MAX, u64::MAX);
        let said = safety_stop(&Leaving { library: most, gone_today: most, due: most }, 99);
        assert_eq!(said.unwrap_err().percent, 100);
        let whole = Leaving { library: amount(3, 3), gone_today: amount(0, 0), due: amount(3, 3) };
        assert!(safety_stop(&whole, 100).is_ok(), "a keeper who wants no safety stop has none");
    }

    #[rstest]
    #[case(Some(60), 30, 5, None)]
    #[case(None, 0, 100, None)]
    #[case(Some(1), 30, 5, Some(BadRetention::Home))]
    #[case(Some(365), 366, 5, Some(BadRetention::Offsite))]
    #[case(Some(30), 1, 0, Some(BadRetention::SafetyStop))]
    #[case(Some(30), 1, 101, Some(BadRetention::SafetyStop))]
    fn only_sensible_rules_are_taken(
        #[case] home_days: Option<u16>,
        #[case] offsite_days: u16,
        #[case] safety_stop_percent: u8,
        #[case] bad: Option<BadRetention>,
    ) {
        assert_eq!(Retention { home_days, offsite_days, safety_stop_percent }.check().err(), bad);
    }

    #[test]
    fn for_ever_has_no_end_and_stores_keep_longer() {
        let now = DateTime::UNIX_EPOCH;
        let rule = Retention::default();
        assert_eq!(rule.home_until(now), Some(now + TimeDelta::days(60)));
        assert_eq!(Retention { home_days: None, ..rule }.home_until(now), None);
        assert!(rule.offsite_until(now + TimeDelta::days(60)) > rule.home_until(now).unwrap());
    }
}
