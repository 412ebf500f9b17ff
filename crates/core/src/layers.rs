//! How deep has an original sunk? A conclusion from observations, never a flag that somebody set.
//!
//! An [`Observation`] says who read or wrote which bytes where, and what came of it. [`Standing`] is what all observations
//! of one original at one place add up to. [`layer`] is what the standings of one original add up to.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::{Digest, StoreId, state::Layer};

/// Where something was observed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// The home disk.
    Home,
    /// A store.
    Store(StoreId),
}

impl Place {
    /// A store, or, with none, the home disk.
    pub fn of(store: Option<StoreId>) -> Self {
        store.map_or(Self::Home, Self::Store)
    }

    /// The store, if it is one.
    pub fn store(self) -> Option<StoreId> {
        match self {
            Self::Home => None,
            Self::Store(id) => Some(id),
        }
    }
}

/// What was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Received, hashed, synced and filed at home.
    Landed,
    /// Read again at home and hashed.
    Reread,
    /// Sent to a store that confirmed size and checksum of the sealed object.
    Confirmed,
    /// Read back from a store, opened, and its plaintext hashed.
    Opened,
    /// Looked for in a store's list.
    Listed,
    /// Its sealed bytes were read back from a store and are those that were sent; nobody there could open them.
    Compared,
}

impl Act {
    /// Every act, for tables and tests.
    pub const ALL: [Act; 6] = [Self::Landed, Self::Reread, Self::Confirmed, Self::Opened, Self::Listed, Self::Compared];

    /// The word stored in the database.
    pub fn word(self) -> &'static str {
        match self {
            Self::Landed => "landed",
            Self::Reread => "reread",
            Self::Confirmed => "confirmed",
            Self::Opened => "opened",
            Self::Listed => "listed",
            Self::Compared => "compared",
        }
    }

    /// The act for a stored word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|a| a.word() == word)
    }
}

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The bytes were there and their hash was right.
    Right,
    /// There were bytes, and their hash was wrong or they did not open.
    Wrong,
    /// Nothing was there.
    Missing,
}

impl Outcome {
    /// Every outcome, for tables and tests.
    pub const ALL: [Outcome; 3] = [Self::Right, Self::Wrong, Self::Missing];

    /// The word stored in the database.
    pub fn word(self) -> &'static str {
        match self {
            Self::Right => "right",
            Self::Wrong => "wrong",
            Self::Missing => "missing",
        }
    }

    /// The outcome for a stored word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|o| o.word() == word)
    }
}

/// One observation. Only ever added, never changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Observation {
    /// Where.
    pub place: Place,
    /// What was done.
    pub act: Act,
    /// When.
    pub at: DateTime<Utc>,
    /// The plaintext hash that was found, if bytes were read.
    pub digest: Option<Digest>,
    /// What came of it.
    pub outcome: Outcome,
}

/// What all observations of one original at one place add up to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// Whether a good copy is believed to be there.
    pub good: bool,
    /// When the present state of `good` began.
    pub since: DateTime<Utc>,
    /// When the plaintext was last read from there and found right. `None` after a bad reading.
    pub proven_at: Option<DateTime<Utc>>,
}

impl Standing {
    /// Adds an observation. `expected` is the original's identity: a reading that claims to be right with another hash is
    /// counted as wrong, whoever made it.
    pub fn after(before: Option<Standing>, seen: &Observation, expected: Digest) -> Standing {
        let good = seen.outcome == Outcome::Right && seen.digest.is_none_or(|d| d == expected);
        let read = matches!(seen.act, Act::Landed | Act::Reread | Act::Opened) && seen.digest.is_some();
        Standing {
            good,
            since: before.filter(|b| b.good == good).map_or(seen.at, |b| b.since),
            proven_at: match (good, read) {
                (true, true) => Some(seen.at),
                (true, false) => before.and_then(|b| b.proven_at).filter(|_| before.is_some_and(|b| b.good)),
                (false, _) => None,
            },
        }
    }
}

/// The layer that follows from the standings of one original. `proven_for` is how long a reading from a store counts.
///
/// A good copy offsite counts even when the one at home has gone bad: depth says how safe the picture is, not where it
/// was read last.
pub fn layer(standings: &[(Place, Standing)], now: DateTime<Utc>, proven_for: TimeDelta) -> Layer {
    standings
        .iter()
        .filter(|(_, s)| s.good)
        .map(|(place, s)| match place {
            Place::Home => Layer::Home,
            Place::Store(_) if s.proven_at.is_some_and(|at| now - at <= proven_for) => Layer::Proven,
            Place::Store(_) => Layer::Offsite,
        })
        .max()
        .unwrap_or(Layer::Device)
}

/// Which files a number of the overview counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Counted {
    /// Good at home.
    Home,
    /// In at least one store outside of the house.
    Offsite,
    /// At home, and in no such store.
    Exposed,
    /// In such a store, and read back from one lately.
    Proven,
    /// In such a store, and not read back lately.
    Unproven,
    /// Bad or missing at home, and not on their way there.
    Damaged,
    /// On their way home from a store.
    Coming,
}

impl Counted {
    /// All of them.
    pub const ALL: [Counted; 7] =
        [Self::Home, Self::Offsite, Self::Exposed, Self::Proven, Self::Unproven, Self::Damaged, Self::Coming];

    /// The word in the API and in addresses.
    pub fn word(self) -> &'static str {
        match self {
            Self::Home => "home",
            Self::Offsite => "offsite",
            Self::Exposed => "exposed",
            Self::Proven => "proven",
            Self::Unproven => "unproven",
            Self::Damaged => "damaged",
            Self::Coming => "coming",
        }
    }

    /// By its word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|c| c.word() == word)
    }

    /// Whether files that are good in these places may be among them: at home, and in a store outside of the house.
    pub fn of(self, home: bool, away: bool) -> bool {
        match self {
            Self::Home => home,
            Self::Offsite | Self::Proven | Self::Unproven => away,
            Self::Exposed => home && !away,
            Self::Damaged | Self::Coming => !home,
        }
    }

    /// Whether it is asked when they were read back: lately, or not.
    pub fn lately(self) -> Option<bool> {
        match self {
            Self::Proven => Some(true),
            Self::Unproven => Some(false),
            Self::Home | Self::Offsite | Self::Exposed | Self::Damaged | Self::Coming => None,
        }
    }

    /// Whether it is asked if they are on their way home: they are, or they are not.
    pub fn coming(self) -> Option<bool> {
        match self {
            Self::Coming => Some(true),
            Self::Damaged => Some(false),
            Self::Home | Self::Offsite | Self::Exposed | Self::Proven | Self::Unproven => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use uuid::Uuid;

    use super::*;

    #[test]
    fn each_number_counts_what_its_word_says() {
        for counted in Counted::ALL {
            assert_eq!(Counted::from_word(counted.word()), Some(counted));
        }
        assert_eq!(Counted::from_word("everything"), None);
        for (home, away) in [(false, false), (false, true), (true, false), (true, true)] {
            let of = |counted: Counted| counted.of(home, away);
            // What is at home is offsite or exposed, what is offsite is proven or not, and nothing is at home and damaged.
            assert_eq!(of(Counted::Home), of(Counted::Exposed) || home && of(Counted::Offsite));
            assert!(!(of(Counted::Exposed) && of(Counted::Offsite)));
            assert_eq!((of(Counted::Proven), of(Counted::Unproven)), (away, away));
            assert_ne!(of(Counted::Home), of(Counted::Damaged));
            assert_eq!(of(Counted::Damaged), of(Counted::Coming));
        }
        let lately: Vec<_> = Counted::ALL.into_iter().filter_map(Counted::lately).collect();
        assert_eq!(lately, [true, false]);
        let coming: Vec<_> = Counted::ALL.into_iter().filter_map(Counted::coming).collect();
        assert_eq!(coming, [false, true]);
    }

    fn day(n: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::days(20_000 + n)
    }

    fn store() -> Place {
        Place::Store(StoreId(Uuid::from_u128(7)))
    }

    fn saw(place: Place, act: Act, on: i64, outcome: Outcome) -> Observation {
        let digest = (act != Act::Confirmed && outcome != Outcome::Missing).then(|| Digest::of(b"kite"));
        Observation { place, act, at: day(on), digest, outcome }
    }

    fn layer_after(seen: &[Observation], on: i64) -> Layer {
        let mut standings: Vec<(Place, Standing)> = Vec::new();
        for o in seen {
            let before = standings.iter().position(|(p, _)| *p == o.place);
            let after = Standing::after(before.map(|i| standings[i].1), o, Digest::of(b"kite"));
            match before {
                Some(i) => standings[i].1 = after,
                None => standings.push((o.place, after)),
            }
        }
        layer(&standings, day(on), TimeDelta::days(90))
    }

    #[rstest]
    #[case::nothing_seen(&[], Layer::Device)]
    #[case::landed(&[saw(Place::Home, Act::Landed, 0, Outcome::Right)], Layer::Home)]
    #[case::confirmed(&[saw(Place::Home, Act::Landed, 0, Outcome::Right), saw(store(), Act::Confirmed, 1, Outcome::Right)], Layer::Offsite)]
    #[case::opened(&[saw(store(), Act::Confirmed, 1, Outcome::Right), saw(store(), Act::Opened, 2, Outcome::Right)], Layer::Proven)]
    #[case::rotten_in_the_store(&[saw(Place::Home, Act::Landed, 0, Outcome::Right), saw(store(), Act::Opened, 2, Outcome::Wrong)], Layer::Home)]
    #[case::lost_in_the_store(&[saw(store(), Act::Confirmed, 1, Outcome::Right), saw(store(), Act::Opened, 2, Outcome::Missing)], Layer::Device)]
    #[case::rotten_at_home(&[saw(Place::Home, Act::Reread, 3, Outcome::Wrong), saw(store(), Act::Opened, 2, Outcome::Right)], Layer::Proven)]
    fn depth_follows_from_what_was_seen(#[case] seen: &[Observation], #[case] expected: Layer) {
        assert_eq!(layer_after(seen, 3), expected);
    }

    #[test]
    fn a_proof_grows_old() {
        let seen = [saw(store(), Act::Opened, 2, Outcome::Right)];
        assert_eq!(layer_after(&seen, 92), Layer::Proven);
        assert_eq!(layer_after(&seen, 93), Layer::Offsite);
    }

    #[test]
    fn sending_again_after_a_loss_is_no_proof() {
        let seen = [
            saw(store(), Act::Opened, 1, Outcome::Right),
            saw(store(), Act::Opened, 2, Outcome::Missing),
            saw(store(), Act::Confirmed, 3, Outcome::Right),
        ];
        assert_eq!(layer_after(&seen, 3), Layer::Offsite);
    }

    #[test]
    fn sealed_bytes_that_nobody_opened_are_no_proof() {
        let sealed = Observation { digest: None, ..saw(store(), Act::Compared, 2, Outcome::Right) };
        assert_eq!(layer_after(&[saw(store(), Act::Confirmed, 1, Outcome::Right), sealed.clone()], 3), Layer::Offsite);
        let before = saw(store(), Act::Opened, 1, Outcome::Right);
        assert_eq!(layer_after(&[before.clone(), sealed.clone()], 3), Layer::Proven, "an earlier proof stays one");
        assert_eq!(layer_after(&[before, Observation { outcome: Outcome::Wrong, ..sealed }], 3), Layer::Device);
    }

    #[test]
    fn a_claim_with_another_hash_counts_as_wrong() {
        let lie = Observation { digest: Some(Digest::of(b"another")), ..saw(Place::Home, Act::Landed, 0, Outcome::Right) };
        assert_eq!(layer_after(&[lie], 0), Layer::Device);
    }

    #[test]
    fn words_read_back() {
        assert!(Act::ALL.iter().all(|a| Act::from_word(a.word()) == Some(*a)));
        assert!(Outcome::ALL.iter().all(|o| Outcome::from_word(o.word()) == Some(*o)));
    }
}
