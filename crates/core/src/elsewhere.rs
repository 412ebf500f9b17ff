//! Folders outside the library in which originals were left: which of them are out of reach.

use std::path::{Path, PathBuf};

use chrono::{DateTime, Utc};

use crate::state::LeftFolderState;

/// A folder in which originals were left, as far as anybody has looked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Folder {
    /// Where it is.
    pub path: PathBuf,
    /// Since when it is empty or not there; none: it is there.
    pub unseen_since: Option<DateTime<Utc>>,
    /// When somebody said that it does not come back.
    pub given_up_at: Option<DateTime<Utc>>,
}

/// How it stands with a folder. What was said of one is said of all that is in it.
pub fn state(all: &[Folder], of: &Folder) -> LeftFolderState {
    match of.unseen_since {
        None => LeftFolderState::There,
        Some(_) if is_given_up(all, &of.path) => LeftFolderState::GivenUp,
        Some(_) => LeftFolderState::OutOfReach,
    }
}

/// Whether somebody said of this place, or of a folder above it, that it does not come back.
pub fn is_given_up(all: &[Folder], path: &Path) -> bool {
    all.iter().any(|f| f.given_up_at.is_some() && path.starts_with(&f.path))
}

/// Those that are out of reach, by name; of folders within each other the outer one, because one disk is the reason for both.
pub fn out_of_reach(all: &[Folder]) -> Vec<&Path> {
    let away = |f: &&Folder| state(all, f) == LeftFolderState::OutOfReach;
    let mut outer: Vec<&Path> = Vec::new();
    let mut paths: Vec<&Path> = all.iter().filter(away).map(|f| f.path.as_path()).collect();
    paths.sort_unstable();
    for path in paths {
        if !outer.iter().any(|above| path.starts_with(above)) {
            outer.push(path);
        }
    }
    outer
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn folders(of: &[(&str, bool, bool)]) -> Vec<Folder> {
        let at = |yes: bool| yes.then(|| DateTime::from_timestamp(1_000, 0).unwrap());
        of.iter()
            .map(|(path, unseen, given_up)| Folder { path: path.into(), unseen_since: at(*unseen), given_up_at: at(*given_up) })
            .collect()
    }

    #[rstest]
    #[case::all_there(&[("/a", false, false), ("/b", false, false)], &[])]
    #[case::the_outer_one(&[("/mnt/old/2019", true, false), ("/mnt/old", true, false), ("/mnt/other", true, false)], &["/mnt/old", "/mnt/other"])]
    #[case::a_name_is_not_a_folder_above(&[("/mnt/old", true, false), ("/mnt/older", true, false)], &["/mnt/old", "/mnt/older"])]
    #[case::given_up_with_all_in_it(&[("/mnt/old", true, true), ("/mnt/old/2019", true, false)], &[])]
    #[case::given_up_within_one_that_is_away(&[("/mnt/old", true, false), ("/mnt/old/2019", true, true)], &["/mnt/old"])]
    #[case::one_in_it_is_there(&[("/mnt/old", true, false), ("/mnt/old/2019", false, false)], &["/mnt/old"])]
    fn the_outer_folder_is_named(#[case] all: &[(&str, bool, bool)], #[case] named: &[&str]) {
        let all = folders(all);
        assert_eq!(out_of_reach(&all), named.iter().map(Path::new).collect::<Vec<_>>());
    }

    #[test]
    fn one_that_is_there_is_there_whatever_was_said() {
        let all = folders(&[("/mnt/old", true, true), ("/mnt/old/2019", false, false), ("/mnt/old/2020", true, false)]);
        assert_eq!(
            all.iter().map(|f| state(&all, f)).collect::<Vec<_>>(),
            [LeftFolderState::GivenUp, LeftFolderState::There, LeftFolderState::GivenUp]
        );
    }
}
