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
pub const DELETED_HELD: &str = "deleted at home; it can be taken back under Restore";
/// What a device is told of bytes that have gone.
pub const DELETED_GONE: &str = "deleted at home for good; to have it there again, add it by hand on the night page";

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

/// What a device has by its own word, and how much of that is still to come home. `in_sources`: files that it counted before
/// hashing; `named`: files that it named with their hashes; `waiting`: of those, wanted and not here.
pub fn coverage(in_sources: u64, named: u64, waiting: u64) -> (u64, u64) {
    // What was counted and not named yet cannot be here; what was named long ago may have left the sources.
    (in_sources.max(named), waiting.max(in_sources.saturating_sub(named)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_counted_and_not_named_is_still_to_come() {
        assert_eq!(coverage(5000, 200, 0), (5000, 4800));
        assert_eq!(coverage(38, 38, 31), (38, 31));
        assert_eq!(coverage(0, 40, 2), (40, 2), "a client that counts nothing beforehand");
        assert_eq!(coverage(10, 40, 0), (40, 0));
    }

    #[test]
    fn what_is_wanted_fits_together() {
        let room = Room { free: 100, promised: 0, reserve: 0, used: 0, quota: None };
        let answers = answer_all(&[60, 60, 40, 1], &[Known::New, Known::New, Known::New, Known::Home], room);
        assert_eq!(answers[0], Answer::Want);
        assert!(matches!(&answers[1], Answer::No { reason } if reason.contains("40 bytes left")));
        assert_eq!(answers[2..], [Answer::Want, Answer::Have]);
    }

    #[test]
    fn what_was_deleted_at_home_is_not_wanted_again() {
        let room = Room { free: 100, promised: 0, reserve: 0, used: 0, quota: None };
        let answers = answer_all(&[1, 1], &[Known::Held, Known::Gone], room);
        assert!(matches!(&answers[0], Answer::Leave { reason } if reason.contains("taken back")));
        assert!(matches!(&answers[1], Answer::Leave { reason } if reason.contains("for good")));
    }
}
