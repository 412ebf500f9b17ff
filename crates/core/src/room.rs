//! Is there room? Quota and reserve, asked before a byte is sent.

use chrono::TimeDelta;
use serde::Serialize;

use crate::words::size;

/// So long after its last bytes an upload's room is kept for it. A phone that goes to sleep finds it still there; a promise that nobody
/// keeps does not hold the disk for ever.
pub const PROMISED_FOR: TimeDelta = TimeDelta::hours(1);
/// So many uploads may a device have under way.
pub const OPEN_OF_DEVICE: u64 = 1_000;
/// And all devices of a member together.
pub const OPEN_OF_PERSON: u64 = 4_000;
/// So many rows may a device make in all: names of what it has, sources, folders, runs and their logs.
pub const ROWS_OF_DEVICE: u64 = 10_000_000;

/// What is known about the room for one more original, all in bytes.
#[derive(Clone, Copy, Debug)]
pub struct Room {
    /// Free on the library's file system, for an unprivileged user.
    pub free: u64,
    /// Promised to uploads that are under way, of everybody, and not yet written.
    pub promised: u64,
    /// Of the member's quota: what has come of uploads that are under way, and what was promised to them.
    pub promised_own: u64,
    /// Always kept free.
    pub reserve: u64,
    /// What the member holds already.
    pub used: u64,
    /// The member's hard quota, if there is one.
    pub quota: Option<u64>,
}

/// Why there is no room.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, thiserror::Error)]
#[serde(rename_all = "kebab-case", tag = "why")]
pub enum NoRoom {
    /// The member's quota would be exceeded.
    #[error("this needs {} and only {} of the quota of {} is left; the keeper can raise it", size(*.needed), size(*.left), size(*.quota))]
    OverQuota {
        /// Bytes asked for.
        needed: u64,
        /// Bytes of the quota that are left.
        left: u64,
        /// The quota.
        quota: u64,
    },
    /// The reserve on the home disk would be touched.
    #[error("the home disk has {} left above its reserve and this needs {}; free some space or lower the reserve", size(*.left), size(*.needed))]
    DiskFull {
        /// Bytes asked for.
        needed: u64,
        /// Bytes free above the reserve.
        left: u64,
    },
}

impl Room {
    /// Says whether `needed` more bytes fit.
    pub fn check(&self, needed: u64) -> Result<(), NoRoom> {
        self.check_quota(needed)?;
        self.check_disk(needed)
    }

    /// Says whether the disk has room for `needed` more bytes, whosesoever.
    pub fn check_disk(&self, needed: u64) -> Result<(), NoRoom> {
        let left = self.left_on_disk();
        if needed > left {
            return Err(NoRoom::DiskFull { needed, left });
        }
        Ok(())
    }

    /// Says whether the member may have `needed` more bytes, wherever they are.
    pub fn check_quota(&self, needed: u64) -> Result<(), NoRoom> {
        match self.left_of_quota() {
            Some((left, quota)) if needed > left => Err(NoRoom::OverQuota { needed, left, quota }),
            _ => Ok(()),
        }
    }

    /// The most that would fit, in bytes.
    pub fn left(&self) -> u64 {
        self.left_of_quota().map_or(u64::MAX, |(left, _)| left).min(self.left_on_disk())
    }

    fn left_of_quota(&self) -> Option<(u64, u64)> {
        self.quota.map(|quota| (quota.saturating_sub(self.used).saturating_sub(self.promised_own), quota))
    }

    fn left_on_disk(&self) -> u64 {
        self.free.saturating_sub(self.reserve).saturating_sub(self.promised)
    }
}

/// How a member stands against their quota.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum QuotaState {
    /// There is no quota, or plenty of it left.
    Well,
    /// The soft quota is passed, or nine tenths of the hard one: time to talk about it. Everything still goes in.
    Near,
    /// Less than one large photo is left of the hard quota.
    Full,
}

/// Less than this is as good as nothing.
const ONE_PHOTO: u64 = 20_000_000;

impl QuotaState {
    /// The word on the wire.
    pub fn word(self) -> &'static str {
        match self {
            Self::Well => "well",
            Self::Near => "near",
            Self::Full => "full",
        }
    }

    /// Judges by what is used and the quotas that are set, all in bytes. `soft` warns; `hard` refuses.
    pub fn of(used: u64, soft: Option<u64>, hard: Option<u64>) -> Self {
        match hard {
            Some(hard) if hard.saturating_sub(used) < ONE_PHOTO.min(hard / 10) => Self::Full,
            Some(hard) if soft.is_none() && used >= hard - hard / 10 => Self::Near,
            _ if soft.is_some_and(|soft| used >= soft) => Self::Near,
            _ => Self::Well,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ROOM: Room = Room { free: 1000, promised: 100, promised_own: 100, reserve: 200, used: 50, quota: Some(400) };

    #[test]
    fn what_fits_is_let_in_to_the_last_byte() {
        assert_eq!(ROOM.check(250), Ok(()));
        assert!(matches!(ROOM.check(251), Err(NoRoom::OverQuota { left: 250, .. })));
    }

    #[test]
    fn what_others_were_promised_is_not_of_ones_quota_and_not_free_either() {
        let room = Room { promised: 700, promised_own: 0, ..ROOM };
        assert_eq!(room.check(100), Ok(()));
        assert_eq!(room.check(101), Err(NoRoom::DiskFull { needed: 101, left: 100 }));
        assert_eq!(room.check_quota(350), Ok(()));
    }

    #[rstest::rstest]
    #[case::no_quota(u64::MAX, None, None, QuotaState::Well)]
    #[case::plenty(50, None, Some(1000), QuotaState::Well)]
    #[case::nine_tenths(900, None, Some(1000), QuotaState::Near)]
    #[case::the_soft_one_decides_when_to_warn(900, Some(950), Some(1000), QuotaState::Well)]
    #[case::soft(500, Some(500), None, QuotaState::Near)]
    #[case::full(1000, Some(500), Some(1000), QuotaState::Full)]
    #[case::over(2000, None, Some(1000), QuotaState::Full)]
    #[case::as_good_as_full(99_990_000_000, None, Some(100_000_000_000), QuotaState::Full)]
    fn a_quota_warns_before_it_refuses(
        #[case] used: u64,
        #[case] soft: Option<u64>,
        #[case] hard: Option<u64>,
        #[case] expected: QuotaState,
    ) {
        assert_eq!(QuotaState::of(used, soft, hard), expected);
    }

    #[test]
    fn the_reserve_is_never_touched() {
        let room = Room { quota: None, ..ROOM };
        assert_eq!(room.check(700), Ok(()));
        assert_eq!(room.check(701), Err(NoRoom::DiskFull { needed: 701, left: 700 }));
        let full = Room { free: 10, quota: None, ..ROOM };
        assert_eq!(full.check(1), Err(NoRoom::DiskFull { needed: 1, left: 0 }));
    }
}
