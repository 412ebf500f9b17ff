//! An album that somebody arranged: its pictures in an order of their own, with words between them.

use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};

use crate::{OriginalId, album};

/// An album of more pictures is shown by time.
pub const MOST_PICTURES: usize = 1_000;
/// An arrangement has so many steps, pictures and words together.
pub const MOST_STEPS: usize = 2_000;
/// And so many characters of words, all of them together: every segment of a ledger says them.
pub const MOST_WORDS: usize = 50_000;

/// A picture, or words; one of the two. A step that is neither, or both, is of a later version, and passed over.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// The picture, by any of its files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub picture: Option<OriginalId>,
    /// What stands there, in lines.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
}

impl Step {
    /// A picture.
    pub fn picture(id: OriginalId) -> Self {
        Step { picture: Some(id), words: None }
    }

    /// Words.
    pub fn words(text: impl Into<String>) -> Self {
        Step { picture: None, words: Some(text.into()) }
    }
}

/// Why an arrangement is not kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotKept {
    /// It has too many steps.
    Steps,
    /// What stands at one place is too long, or all of it together.
    Words,
}

/// An arrangement as it is kept: each picture once, at its first place, and no words of which nothing can be seen.
pub fn kept(steps: &[Step]) -> Result<Vec<Step>, NotKept> {
    if steps.len() > MOST_STEPS {
        return Err(NotKept::Steps);
    }
    let (mut seen, mut kept, mut letters) = (HashSet::new(), Vec::with_capacity(steps.len()), 0);
    for step in steps {
        match (step.picture, &step.words) {
            (Some(id), None) if seen.insert(id) => kept.push(Step::picture(id)),
            (None, Some(typed)) => {
                let words = album::words(typed).ok_or(NotKept::Words)?;
                letters += words.chars().count();
                if !words.is_empty() {
                    kept.push(Step::words(words));
                }
            }
            _ => {}
        }
    }
    if letters > MOST_WORDS { Err(NotKept::Words) } else { Ok(kept) }
}

/// An album as it is arranged: of its pictures, in the order in which they are handed in, those that the arrangement names at their places, and the others behind
/// them. `leads`: which file stands for the picture that one belongs to, where that is another one.
pub fn laid(steps: &[Step], present: &[OriginalId], leads: &HashMap<OriginalId, OriginalId>) -> Vec<Step> {
    let mut left: HashSet<OriginalId> = present.iter().copied().collect();
    let mut all: Vec<Step> = Vec::with_capacity(steps.len() + present.len());
    for step in steps {
        match (step.picture, &step.words) {
            (Some(id), None) => {
                let lead = leads.get(&id).copied().unwrap_or(id);
                if left.remove(&lead) {
                    all.push(Step::picture(lead));
                }
            }
            (None, Some(words)) => all.push(Step::words(words.clone())),
            _ => {}
        }
    }
    all.extend(present.iter().filter(|id| left.contains(id)).map(|id| Step::picture(*id)));
    all
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;

    fn id(n: u128) -> OriginalId {
        OriginalId(Uuid::from_u128(n))
    }

    fn pictures(all: &[u128]) -> Vec<Step> {
        all.iter().map(|n| Step::picture(id(*n))).collect()
    }

    #[test]
    fn what_is_kept_is_each_picture_once_and_words_that_can_be_seen() {
        let both = Step { picture: Some(id(9)), words: Some("both".into()) };
        let typed = [
            Step::words(" The weir\r\nin spring \u{202e}"),
            Step::picture(id(1)),
            Step::words(" \n "),
            Step::picture(id(2)),
            Step::picture(id(1)),
            both,
            Step::default(),
        ];
        let once = kept(&typed).unwrap();
        assert_eq!(once, [Step::words("The weir\nin spring"), Step::picture(id(1)), Step::picture(id(2))]);
        assert_eq!(kept(&once).unwrap(), once);
        let many: Vec<u128> = (0..=MOST_STEPS as u128).collect();
        assert_eq!((kept(&pictures(&many)), kept(&pictures(&many[1..])).map(|k| k.len())), (Err(NotKept::Steps), Ok(MOST_STEPS)));
        let long = |n: usize| kept(&vec![Step::words("ß".repeat(album::LONGEST_WORDS)); n]).map(|k| k.len());
        assert_eq!((long(25), long(26)), (Ok(25), Err(NotKept::Words)));
        assert_eq!(kept(&[Step::words("x".repeat(album::LONGEST_WORDS + 1))]), Err(NotKept::Words));
    }

    #[test]
    fn every_picture_of_the_album_is_shown_once_whatever_the_arrangement_says() {
        // All arrangements of up to four steps, of pictures of which some are in the album, some are files of others, and some are gone.
        let leads = HashMap::from([(id(5), id(1))]);
        let present = [id(1), id(2), id(3)];
        let steps =
            [Step::picture(id(1)), Step::picture(id(3)), Step::picture(id(5)), Step::picture(id(7)), Step::words("words")];
        for n in 0..steps.len().pow(4) {
            let chosen: Vec<Step> = (0..4).map(|at| steps[n / steps.len().pow(at) % steps.len()].clone()).collect();
            let all = laid(&chosen, &present, &leads);
            let mut shown: Vec<OriginalId> = all.iter().filter_map(|s| s.picture).collect();
            shown.sort();
            assert_eq!(shown, present, "{chosen:?}");
            let words = |steps: &[Step]| steps.iter().filter(|s| s.words.is_some()).count();
            assert_eq!(words(&all), words(&chosen));
        }
        assert_eq!(
            laid(&pictures(&[3, 5]), &present, &leads),
            pictures(&[3, 1, 2]),
            "a picture by another of its files; new ones at the end"
        );
        assert_eq!(laid(&[], &present, &leads), pictures(&[1, 2, 3]));
    }
}
