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
    /// Do not send it, for this reason.
    No {
        /// A sentence for the person who owns the device.
        reason: String,
    },
}

/// Answers a batch of offers in order. `known` says for each entry whether its bytes are at home; `sizes` are in bytes.
///
/// Room is counted down along the batch, so that the answers hold together: what is wanted fits. An entry that is twice
/// in one batch is wanted twice here; landing keeps the bytes once.
pub fn answer_all(sizes: &[u64], known: &[bool], mut room: Room) -> Vec<Answer> {
    sizes
        .iter()
        .zip(known)
        .map(|(&size, &known)| {
            if known {
                return Answer::Have;
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wanted_fits_together() {
        let room = Room { free: 100, promised: 0, reserve: 0, used: 0, quota: None };
        let answers = answer_all(&[60, 60, 40, 1], &[false, false, false, true], room);
        assert_eq!(answers[0], Answer::Want);
        assert!(matches!(&answers[1], Answer::No { reason } if reason.contains("40 bytes left")));
        assert_eq!(answers[2..], [Answer::Want, Answer::Have]);
    }
}
