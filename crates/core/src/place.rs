//! Is this a good place for a library? Judged before it is accepted, and shown afterwards; a warning says what could
//! happen, and a keeper may overrule it.

use serde::{Deserialize, Serialize};

use crate::words::size;

/// What was found by trying the place out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceFacts {
    /// It is on the disk that the system starts from.
    pub system_disk: bool,
    /// It is reached over a network.
    pub network: bool,
    /// Bytes free.
    pub free: u64,
    /// Bytes altogether.
    pub total: u64,
    /// A file's time is kept to the nanosecond (a hundred of them is fine).
    pub fine_times: bool,
    /// `a` and `A` are two files.
    pub case_sensitive: bool,
    /// Files and folders can be forced to the disk.
    pub syncs: bool,
    /// A file can have two names.
    pub links: bool,
}

/// Something to think about before the library lives there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[serde(rename_all = "kebab-case", tag = "warning")]
pub enum PlaceWarning {
    /// Nothing can be promised there.
    #[error("this disk does not write files safely: after a power cut, pictures that were received may be lost")]
    NoSync,
    /// There is less than the reserve.
    #[error("{} are free and {} are always kept free, so nothing would be received. Choose another disk or lower the reserve", size(*.free), size(*.reserve))]
    NoRoom {
        /// Bytes free.
        free: u64,
        /// Bytes kept free.
        reserve: u64,
    },
    /// A full one takes the machine down.
    #[error("the system runs from this disk: if pictures fill it, the whole machine stops, and if it breaks, both are lost")]
    SystemDisk,
    /// It may go away, or lie about having written.
    #[error(
        "this folder is on another machine: without the network nothing can be received, and some such machines say that a file is written before it is"
    )]
    Network,
    /// Times are cut off.
    #[error(
        "this disk stores the times of files without fractions of a second; the times in the pictures themselves are kept exactly"
    )]
    CoarseTimes,
    /// Names that differ in case alone get a number.
    #[error("on this disk, capital and small letters are the same; names that differ only in these get a number")]
    CaseBlind,
    /// Moves are less safe.
    #[error("a file cannot have two names on this disk; if the power fails while files are moved, the next start corrects it")]
    NoLinks,
}

impl PlaceWarning {
    /// Whether somebody has to say that the place is wanted all the same. The others are only good to know.
    pub fn is_grave(self) -> bool {
        matches!(self, Self::NoSync | Self::NoRoom { .. } | Self::SystemDisk | Self::Network)
    }
}

/// Judges a place, the gravest first.
pub fn judge(facts: &PlaceFacts, reserve: u64) -> Vec<PlaceWarning> {
    let no_room = PlaceWarning::NoRoom { free: facts.free, reserve };
    [
        (!facts.syncs, PlaceWarning::NoSync),
        (facts.free <= reserve, no_room),
        (facts.system_disk, PlaceWarning::SystemDisk),
        (facts.network, PlaceWarning::Network),
        (!facts.links, PlaceWarning::NoLinks),
        (!facts.fine_times, PlaceWarning::CoarseTimes),
        (!facts.case_sensitive, PlaceWarning::CaseBlind),
    ]
    .into_iter()
    .filter_map(|(found, warning)| found.then_some(warning))
    .collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const GOOD: PlaceFacts = PlaceFacts {
        system_disk: false,
        network: false,
        free: 1 << 40,
        total: 2 << 40,
        fine_times: true,
        case_sensitive: true,
        syncs: true,
        links: true,
    };

    #[rstest]
    #[case::good(GOOD, &[])]
    #[case::system_disk(PlaceFacts { system_disk: true, ..GOOD }, &[PlaceWarning::SystemDisk])]
    #[case::share(PlaceFacts { network: true, syncs: false, ..GOOD }, &[PlaceWarning::NoSync, PlaceWarning::Network])]
    #[case::full(PlaceFacts { free: 5, ..GOOD }, &[PlaceWarning::NoRoom { free: 5, reserve: 5 }])]
    #[case::memory_stick(PlaceFacts { fine_times: false, case_sensitive: false, links: false, ..GOOD }, &[PlaceWarning::NoLinks, PlaceWarning::CoarseTimes, PlaceWarning::CaseBlind])]
    fn a_place_is_judged_before_anything_lives_there(#[case] facts: PlaceFacts, #[case] expected: &[PlaceWarning]) {
        assert_eq!(judge(&facts, 5), expected);
    }

    #[test]
    fn only_what_can_cost_pictures_has_to_be_overruled() {
        assert!(PlaceWarning::NoSync.is_grave() && PlaceWarning::SystemDisk.is_grave());
        assert!(!PlaceWarning::CaseBlind.is_grave());
        let said = PlaceWarning::NoRoom { free: 1_000_000_000, reserve: 5_000_000_000 }.to_string();
        assert!(said.starts_with("1.0 GB are free and 5.0 GB are always kept free"), "{said}");
    }
}
