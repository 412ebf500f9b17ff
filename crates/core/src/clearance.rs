//! May a device remove its copy? Clearances, and the choice of what to remove.
//!
//! Two sides, one rule each. The server [`decide`]s about one original from what it has just read and what was observed.
//! The device [`choose`]s what it would like to remove, and removes only what a clearance names.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::{
    Digest, StoreId,
    kind::MediaKind,
    layers::{Outcome, Place, Standing},
};

/// How long a clearance holds. Long enough to remove a batch of files, short enough that nothing changes meanwhile.
pub const HOLDS_FOR: TimeDelta = TimeDelta::minutes(10);

/// How deep an original must have sunk before a device may let go of it. The keeper's choice.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Depth {
    /// At home, read again just now.
    Home,
    /// And confirmed by a store.
    Offsite,
    /// And read back from a store, opened, and found right lately.
    #[default]
    Proven,
}

impl Depth {
    /// Every depth, for tables and tests.
    pub const ALL: [Depth; 3] = [Self::Home, Self::Offsite, Self::Proven];

    /// The word in settings, database and API.
    pub fn word(self) -> &'static str {
        match self {
            Self::Home => "home",
            Self::Offsite => "offsite",
            Self::Proven => "proven",
        }
    }

    /// The depth for a word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|d| d.word() == word)
    }
}

/// What was found when the copy at home was read from start to end for this clearance.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HomeReading {
    /// What came of it.
    pub outcome: Outcome,
    /// The hash that was found.
    pub digest: Option<Digest>,
    /// When.
    pub at: DateTime<Utc>,
}

/// Why an original may be removed from a device: who read which bytes where, and when.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Evidence {
    /// The copy at home was read and right at this moment.
    pub home_read_at: DateTime<Utc>,
    /// The store that counts, if one was demanded.
    pub store: Option<StoreId>,
    /// Since when that store is known to have it.
    pub offsite_since: Option<DateTime<Utc>>,
    /// When it was last read back from there and found right.
    pub proven_at: Option<DateTime<Utc>>,
    /// What was demanded.
    pub demanded: Depth,
}

/// Why a device has to keep its copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[serde(rename_all = "kebab-case", tag = "why")]
pub enum Keep {
    /// The member has no such bytes at home.
    #[error("it is not at home yet")]
    NotHome,
    /// It was deleted at home.
    #[error("it was deleted at home, and this may be the only other copy")]
    Deleted,
    /// The copy at home is not there.
    #[error("the copy at home is missing; sending it again will replace it")]
    HomeMissing,
    /// The copy at home is damaged.
    #[error("the copy at home is damaged; sending it again will replace it")]
    HomeDamaged,
    /// No store has a good copy.
    #[error("it is not offsite yet")]
    NotOffsite,
    /// No store's copy was read back lately.
    #[error("it is offsite, but that copy has not been read back lately")]
    NotProven,
    /// The server could not look just now.
    #[error("the server could not read its copy just now")]
    NotRead,
}

/// Decides from what was read just now and what was observed before. `proven_for` is how long a reading from a store
/// counts as a proof.
pub fn decide(
    expected: Digest,
    read: &HomeReading,
    standings: &[(Place, Standing)],
    demanded: Depth,
    now: DateTime<Utc>,
    proven_for: TimeDelta,
) -> Result<Evidence, Keep> {
    match (read.outcome, read.digest) {
        (Outcome::Right, Some(found)) if found == expected => {}
        (Outcome::Missing, _) => return Err(Keep::HomeMissing),
        _ => return Err(Keep::HomeDamaged),
    }
    if now - read.at > HOLDS_FOR || read.at > now {
        return Err(Keep::NotRead);
    }
    let evidence = Evidence { home_read_at: read.at, store: None, offsite_since: None, proven_at: None, demanded };
    Ok(match deep_enough(standings, demanded, now, proven_for)? {
        None => evidence,
        Some((store, standing)) => {
            Evidence { store: Some(store), offsite_since: Some(standing.since), proven_at: standing.proven_at, ..evidence }
        }
    })
}

/// Whether the copies in stores are enough, and which one counts; none: none is demanded. Where they are not, the copy at home need not be read.
pub fn deep_enough(
    standings: &[(Place, Standing)],
    demanded: Depth,
    now: DateTime<Utc>,
    proven_for: TimeDelta,
) -> Result<Option<(StoreId, Standing)>, Keep> {
    if demanded == Depth::Home {
        return Ok(None);
    }
    let good = standings.iter().filter_map(|(place, s)| match place {
        Place::Store(id) if s.good => Some((*id, *s)),
        _ => None,
    });
    let (store, standing) = good.max_by_key(|(_, s)| s.proven_at).ok_or(Keep::NotOffsite)?;
    if demanded == Depth::Proven && !standing.proven_at.is_some_and(|at| at <= now && now - at <= proven_for) {
        return Err(Keep::NotProven);
    }
    Ok(Some((store, standing)))
}

/// What a device would like to remove.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct RoomRule {
    /// Only what was taken at least this many days ago.
    pub older_than_days: Option<u32>,
    /// Only as much as is needed to have this many bytes free. `None`: everything that the other rules allow.
    pub until_free: Option<u64>,
    /// Only videos.
    pub videos_only: bool,
    /// Videos before everything else; within both, the oldest first.
    pub videos_first: bool,
}

/// A file that a device could remove.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Candidate {
    /// What sort it is.
    pub kind: MediaKind,
    /// When it was taken, as far as the device knows.
    pub taken: NaiveDate,
    /// Bytes.
    pub size: u64,
}

/// Chooses, in the order of removal; the numbers are places in `candidates`. `free` is what the device has free now.
pub fn choose(candidates: &[Candidate], rule: &RoomRule, free: u64, today: NaiveDate) -> Vec<usize> {
    let old_enough = |c: &Candidate| rule.older_than_days.is_none_or(|days| (today - c.taken).num_days() >= i64::from(days));
    let mut chosen: Vec<usize> = (0..candidates.len())
        .filter(|&i| old_enough(&candidates[i]) && (!rule.videos_only || candidates[i].kind == MediaKind::Video))
        .collect();
    let later = |i: usize| rule.videos_first && candidates[i].kind != MediaKind::Video;
    chosen.sort_by_key(|&i| (later(i), candidates[i].taken, i));
    if let Some(goal) = rule.until_free {
        let mut free = free;
        let enough = chosen.iter().position(|&i| {
            let done = free >= goal;
            free = free.saturating_add(candidates[i].size);
            done
        });
        chosen.truncate(enough.unwrap_or(chosen.len()));
    }
    chosen
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use uuid::Uuid;

    use super::*;

    fn day(n: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::days(20_000 + n)
    }

    fn kite() -> Digest {
        Digest::of(b"kite")
    }

    fn right() -> HomeReading {
        HomeReading { outcome: Outcome::Right, digest: Some(kite()), at: day(0) }
    }

    fn quay(good: bool, proven: Option<i64>) -> (Place, Standing) {
        (Place::Store(StoreId(Uuid::from_u128(7))), Standing { good, since: day(-50), proven_at: proven.map(day) })
    }

    fn home() -> (Place, Standing) {
        (Place::Home, Standing { good: true, since: day(-50), proven_at: Some(day(-50)) })
    }

    #[rstest]
    #[case::home_is_enough(right(), &[home()], Depth::Home, Ok(()))]
    #[case::not_offsite(right(), &[home()], Depth::Offsite, Err(Keep::NotOffsite))]
    #[case::lost_offsite(right(), &[home(), quay(false, None)], Depth::Offsite, Err(Keep::NotOffsite))]
    #[case::offsite(right(), &[home(), quay(true, None)], Depth::Offsite, Ok(()))]
    #[case::never_read_back(right(), &[home(), quay(true, None)], Depth::Proven, Err(Keep::NotProven))]
    #[case::read_back_too_long_ago(right(), &[home(), quay(true, Some(-91))], Depth::Proven, Err(Keep::NotProven))]
    #[case::proven(right(), &[home(), quay(true, Some(-90))], Depth::Proven, Ok(()))]
    #[case::rotten(HomeReading { outcome: Outcome::Wrong, digest: Some(Digest::of(b"kitf")), ..right() }, &[home(), quay(true, Some(-1))], Depth::Home, Err(Keep::HomeDamaged))]
    #[case::claims_to_be_right(HomeReading { digest: Some(Digest::of(b"kitf")), ..right() }, &[home(), quay(true, Some(-1))], Depth::Home, Err(Keep::HomeDamaged))]
    #[case::gone(HomeReading { outcome: Outcome::Missing, digest: None, ..right() }, &[home(), quay(true, Some(-1))], Depth::Proven, Err(Keep::HomeMissing))]
    #[case::read_yesterday(HomeReading { at: day(-1), ..right() }, &[home(), quay(true, Some(-1))], Depth::Home, Err(Keep::NotRead))]
    fn only_evidence_gives_a_clearance(
        #[case] read: HomeReading,
        #[case] standings: &[(Place, Standing)],
        #[case] demanded: Depth,
        #[case] expected: Result<(), Keep>,
    ) {
        assert_eq!(decide(kite(), &read, standings, demanded, day(0), TimeDelta::days(90)).map(drop), expected);
    }

    #[test]
    fn the_best_store_counts_and_is_named() {
        let other =
            (Place::Store(StoreId(Uuid::from_u128(8))), Standing { good: true, since: day(-9), proven_at: Some(day(-2)) });
        let evidence =
            decide(kite(), &right(), &[quay(true, Some(-80)), other, home()], Depth::Proven, day(0), TimeDelta::days(90))
                .unwrap();
        assert_eq!((evidence.store, evidence.proven_at), (Some(StoreId(Uuid::from_u128(8))), Some(day(-2))));
    }

    fn file(kind: MediaKind, days_ago: i64, size: u64) -> Candidate {
        Candidate { kind, taken: day(-days_ago).date_naive(), size }
    }

    #[rstest]
    #[case::everything_oldest_first(RoomRule::default(), &[3, 1, 2, 0])]
    #[case::older_than(RoomRule { older_than_days: Some(30), ..RoomRule::default() }, &[3, 1])]
    #[case::videos_only(RoomRule { videos_only: true, ..RoomRule::default() }, &[1, 2])]
    #[case::videos_first(RoomRule { videos_first: true, ..RoomRule::default() }, &[1, 2, 3, 0])]
    #[case::until_there_is_room(RoomRule { until_free: Some(50), ..RoomRule::default() }, &[3, 1])]
    #[case::there_is_room_already(RoomRule { until_free: Some(10), ..RoomRule::default() }, &[])]
    #[case::never_enough(RoomRule { until_free: Some(1 << 40), ..RoomRule::default() }, &[3, 1, 2, 0])]
    fn rules_choose_what_goes_and_in_which_order(#[case] rule: RoomRule, #[case] expected: &[usize]) {
        let files = [
            file(MediaKind::Photo, 1, 5),
            file(MediaKind::Video, 40, 30),
            file(MediaKind::Video, 2, 40),
            file(MediaKind::Photo, 100, 10),
        ];
        assert_eq!(choose(&files, &rule, 10, day(0).date_naive()), expected);
    }

    #[test]
    fn words_read_back() {
        assert!(Depth::ALL.iter().all(|d| Depth::from_word(d.word()) == Some(*d)));
    }
}
