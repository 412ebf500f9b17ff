//! Three copies, in two kinds of place, one of them away from home: is that so for an original?
//!
//! Only copies that were observed count. What a device says it has may be gone from it by tonight.

use serde::{Deserialize, Serialize};

/// What a copy lies on. Two of one kind may fail for one reason.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Medium {
    /// The disk that the server works on.
    HomeDisk,
    /// A disk that holds copies and nothing else, and may be unplugged.
    Disk,
    /// Computers elsewhere, over the network: object storage, a share.
    Network,
}

/// A good copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Copy {
    /// What it lies on.
    pub medium: Medium,
    /// Whether that is away from home.
    pub away: bool,
}

/// What an original lacks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Lacking {
    /// Copies, up to three.
    pub copies: u8,
    /// A second kind of place.
    pub kind: bool,
    /// One away from home.
    pub away: bool,
}

impl Lacking {
    /// Whether nothing is lacking.
    pub fn nothing(self) -> bool {
        self == Lacking::default()
    }

    /// What it takes, for a person: `needs 2 more copies, one of them offsite`. Empty if nothing is lacking.
    pub fn sentence(self) -> String {
        // Whoever adds one away from home has another kind of place as well, whatever it is.
        let place = match self {
            Lacking { away: true, .. } => Some("offsite"),
            Lacking { kind: true, .. } => Some("on another kind of place"),
            _ => None,
        };
        match (self.copies, place) {
            (0, None) => String::new(),
            (0, Some(place)) => format!("needs a copy {place}"),
            (1, None) => "needs 1 more copy".to_owned(),
            (1, Some(place)) => format!("needs 1 more copy, {place}"),
            (n, None) => format!("needs {n} more copies"),
            // One of these, and not one beside them.
            (n, Some(place)) => format!("needs {n} more copies, one of them {place}"),
        }
    }
}

/// Judges the good copies of one original.
///
/// ```
/// use ypogeion_core::copies::{Copy, Medium, lacking};
/// let home = Copy { medium: Medium::HomeDisk, away: false };
/// let quay = Copy { medium: Medium::Network, away: true };
/// assert_eq!(lacking(&[home, quay]).copies, 1);
/// let drawer = Copy { medium: Medium::Disk, away: false };
/// assert!(lacking(&[home, quay, drawer]).nothing());
/// ```
pub fn lacking(copies: &[Copy]) -> Lacking {
    let first = copies.first().map(|c| c.medium);
    Lacking {
        copies: 3u8.saturating_sub(u8::try_from(copies.len()).unwrap_or(u8::MAX)),
        kind: !copies.iter().any(|c| Some(c.medium) != first),
        away: !copies.iter().any(|c| c.away),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const HOME: Copy = Copy { medium: Medium::HomeDisk, away: false };
    const QUAY: Copy = Copy { medium: Medium::Network, away: true };
    const OTHER: Copy = Copy { medium: Medium::Network, away: true };
    const DRAWER: Copy = Copy { medium: Medium::Disk, away: false };
    const UNCLE: Copy = Copy { medium: Medium::Disk, away: true };

    #[rstest]
    #[case::nowhere(&[], 3, true, true)]
    #[case::home_alone(&[HOME], 2, true, true)]
    #[case::a_disk_in_the_house_is_not_away(&[HOME, DRAWER], 1, false, true)]
    #[case::a_store(&[HOME, QUAY], 1, false, false)]
    #[case::two_stores(&[HOME, QUAY, OTHER], 0, false, false)]
    #[case::home_is_lost(&[QUAY, OTHER], 1, true, false)]
    #[case::more_than_enough(&[HOME, QUAY, OTHER, DRAWER, UNCLE], 0, false, false)]
    #[case::a_disk_at_the_uncles(&[HOME, UNCLE, DRAWER], 0, false, false)]
    fn each_part_of_the_rule_by_itself(#[case] copies: &[Copy], #[case] more: u8, #[case] kind: bool, #[case] away: bool) {
        assert_eq!(lacking(copies), Lacking { copies: more, kind, away });
    }

    #[rstest]
    #[case::nothing(&[HOME, QUAY, DRAWER], "")]
    #[case::home_alone(&[HOME], "needs 2 more copies, one of them offsite")]
    #[case::one_more(&[HOME, QUAY], "needs 1 more copy")]
    #[case::one_more_away(&[HOME, DRAWER], "needs 1 more copy, offsite")]
    #[case::all_at_home(&[HOME, DRAWER, DRAWER], "needs a copy offsite")]
    #[case::one_kind(&[QUAY, OTHER], "needs 1 more copy, on another kind of place")]
    fn people_are_told_what_it_takes(#[case] copies: &[Copy], #[case] sentence: &str) {
        assert_eq!(lacking(copies).sentence(), sentence);
    }
}
