//! A device tells what it has; the server says what it wants of it.

use serde::{Deserialize, Serialize};

use crate::room::Room;

/// The server's answer to one offered original.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "answer")]
pub enum Answer {
    /// Send it.
    Want,
    /// These bytes are at home already.
    Have,
    /// Do not send it: nothing is wrong, its owner has decided so.
    Leave {
        /// A sentence for that person.
        reason: String,
    },
    /// It cannot be taken, for this reason.
    No {
        /// A sentence for the person who owns the device.
        reason: String,
    },
}

/// What a device is told of bytes that wait in holding.
pub const DELETED_HELD: &str = "deleted at home; it can be brought back under Restore";
/// What a device is told of bytes that have gone.
pub const DELETED_GONE: &str = "deleted at home for good; to add it again, choose it by hand on the night page";

/// What is known of bytes that are offered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Known {
    /// Nothing.
    New,
    /// They are at home.
    Home,
    /// Their member deleted them at home, and they wait in holding.
    Held,
    /// Their member deleted them at home, and they have gone.
    Gone,
}

/// Answers a batch of offers in order. `known` says for each entry what is known of its bytes; `sizes` are in bytes.
///
/// What somebody deleted at home is not sent again by a device that still has it, or deleting would be in vain.
///
/// Room is counted down along the batch, so that the answers hold together: what is wanted fits. An entry that is twice
/// in one batch is wanted twice here; landing keeps the bytes once.
pub fn answer_all(sizes: &[u64], known: &[Known], mut room: Room) -> Vec<Answer> {
    sizes
        .iter()
        .zip(known)
        .map(|(&size, &known)| {
            match known {
                Known::Home => return Answer::Have,
                Known::Held => return Answer::Leave { reason: DELETED_HELD.to_owned() },
                Known::Gone => return Answer::Leave { reason: DELETED_GONE.to_owned() },
                Known::New => {}
            }
            match room.check(size) {
                Ok(()) => {
                    room.promised += size;
                    Answer::Want
                }
                Err(why) => Answer::No { reason: why.to_string() },
            }
        })
        .collect()
}

/// What is known of what a device has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Told {
    /// Files that its last inventory counted; none, if it counts nothing.
    pub in_sources: Option<u64>,
    /// Of these, not sent yet by its own word when it counted.
    pub fresh: Option<u64>,
    /// Named with their hashes, ever.
    pub named: u64,
    /// Of these, since that inventory.
    pub named_since: u64,
    /// Named, wanted and not here, in a source that no inventory counted.
    pub uncounted: u64,
    /// Named, wanted, and not here.
    pub waiting: u64,
    /// Named, refused, and not here.
    pub refused: u64,
    /// Named, and here.
    pub home: u64,
}

/// A device, number against number.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Coverage {
    /// What it has: what its last inventory counted, and what it named beyond that. A name that it offered once may have left it since.
    pub has: u64,
    /// Of these, here.
    pub home: u64,
    /// Of these, still to come.
    pub to_come: u64,
}

/// What a device has by its own word, and how much of that is here, and still to come.
pub fn coverage(told: Told) -> Coverage {
    let Told { in_sources, fresh, named, named_since, uncounted, waiting, refused, home } = told;
    let has = match (in_sources, fresh) {
        (None, _) => named,
        // What it named beyond what that inventory announced came to it afterwards.
        (Some(counted), Some(fresh)) => counted + named_since.saturating_sub(fresh) + uncounted,
        (Some(counted), None) => counted + uncounted,
    };
    // What was counted and not named yet cannot be here.
    let unnamed = match (in_sources, fresh) {
        (None, _) => 0,
        (Some(_), Some(fresh)) => fresh.saturating_sub(named_since),
        // An earlier version of the client does not say how much is new.
        (Some(counted), None) => counted.saturating_sub(named),
    };
    let to_come = if fresh.is_some() { waiting + unnamed } else { waiting.max(unnamed) };
    Coverage { has, to_come, home: home.min(has.saturating_sub(to_come).saturating_sub(refused)) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_counted_and_not_named_is_still_to_come() {
        let of = |in_sources, fresh, named, named_since, waiting, home| {
            let told = Told { in_sources, fresh, named, named_since, waiting, home, ..Told::default() };
            let Coverage { has, home, to_come } = coverage(told);
            (has, home, to_come)
        };
        // An earlier client, which does not say what is new.
        assert_eq!(of(Some(5000), None, 200, 200, 0, 200), (5000, 200, 4800));
        assert_eq!(of(Some(38), None, 38, 38, 31, 7), (38, 7, 31));
        assert_eq!(of(None, None, 40, 0, 2, 38), (40, 38, 2), "a client that counts nothing beforehand");
        // 6,000 of which 500 were deleted and 500 renamed: it has 5,500, whatever it once named.
        assert_eq!(of(Some(5500), Some(500), 6500, 500, 0, 6500), (5500, 5500, 0));
        // 500 deleted and 500 others taken, counted and not named yet: they are not here, though as many names are.
        assert_eq!(of(Some(6000), Some(500), 6000, 0, 0, 6000), (6000, 5500, 500));
        assert_eq!(of(Some(6000), Some(500), 6200, 200, 150, 6050), (6000, 5550, 450));
        // 31 named after an inventory that counted 7: nothing of what is here has left it.
        assert_eq!(of(Some(7), Some(7), 38, 38, 31, 7), (38, 7, 31));
        assert_eq!(of(Some(7), Some(0), 38, 31, 31, 7), (38, 7, 31));
    }

    #[test]
    fn what_waits_in_a_source_nobody_counted_is_there() {
        let told = Told {
            in_sources: Some(7),
            fresh: Some(7),
            named: 38,
            named_since: 7,
            uncounted: 31,
            waiting: 31,
            home: 7,
            refused: 0,
        };
        assert_eq!(coverage(told), Coverage { has: 38, home: 7, to_come: 31 });
    }

    #[test]
    fn what_was_refused_is_not_here() {
        let told = Told { in_sources: Some(30), fresh: Some(30), named: 30, named_since: 30, refused: 30, ..Told::default() };
        assert_eq!(coverage(told), Coverage { has: 30, home: 0, to_come: 0 });
    }

    #[test]
    fn what_is_wanted_fits_together() {
        let room = Room { free: 100, promised: 0, promised_own: 0, reserve: 0, used: 0, quota: None };
        let answers = answer_all(&[60, 60, 40, 1], &[Known::New, Known::New, Known::New, Known::Home], room);
        assert_eq!(answers[0], Answer::Want);
        assert!(matches!(&answers[1], Answer::No { reason } if reason.contains("40 bytes left")));
        assert_eq!(answers[2..], [Answer::Want, Answer::Have]);
    }

    #[test]
    fn what_was_deleted_at_home_is_not_wanted_again() {
        let room = Room { free: 100, promised: 0, promised_own: 0, reserve: 0, used: 0, quota: None };
        let answers = answer_all(&[1, 1], &[Known::Held, Known::Gone], room);
        assert!(matches!(&answers[0], Answer::Leave { reason } if reason.contains("brought back")));
        assert!(matches!(&answers[1], Answer::Leave { reason } if reason.contains("for good")));
    }
}
