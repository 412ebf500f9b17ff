//! Where an original is filed: folders and names that make sense with any file manager, for ever.

use chrono::{Datelike, NaiveDateTime};

use crate::name::{OriginalName, is_portable, numbered};

/// A path inside the library, with `/` between components.
///
/// * Relative; no component is empty, `.` or `..`; every component is a portable file name.
///
/// ```
/// use ypogeion_core::filing::FiledPath;
/// assert!(FiledPath::parse("juno/2026/04/IMG_2214.HEIC").is_ok());
/// assert!(FiledPath::parse("../etc/passwd").is_err());
/// assert!(FiledPath::parse("/etc/passwd").is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct FiledPath(String);

/// A path that must not be used inside a library.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("{0:?} is not a path inside a library")]
pub struct NotAFiledPath(String);

impl FiledPath {
    /// Checks a path from outside (a ledger, a database row).
    pub fn parse(path: &str) -> Result<Self, NotAFiledPath> {
        let fine = !path.is_empty() && path.len() <= 4000 && path.split('/').all(is_portable);
        if fine { Ok(FiledPath(path.to_owned())) } else { Err(NotAFiledPath(path.to_owned())) }
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// What two paths share when a file system that ignores case would take them for the same.
    pub fn folded(&self) -> String {
        self.0.to_lowercase()
    }
}

impl TryFrom<String> for FiledPath {
    type Error = NotAFiledPath;
    fn try_from(path: String) -> Result<Self, NotAFiledPath> {
        Self::parse(&path)
    }
}

impl From<FiledPath> for String {
    fn from(path: FiledPath) -> String {
        path.0
    }
}

impl std::fmt::Display for FiledPath {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

/// The folder name for a member: readable, portable, lower case so that no two differ by case alone.
pub fn member_folder(name: &str) -> String {
    let filed = OriginalName::from_device(name).filed().to_lowercase();
    let joined = filed.split_whitespace().collect::<Vec<_>>().join("-");
    if joined.is_empty() { "member".to_owned() } else { joined }
}

/// The places to try for an original, first choice first: `member/2026/04/IMG_2214.HEIC`, then `… (2).HEIC`, and so on.
/// Filed by month of the local capture time. The iterator ends after 100,000 names, which no folder reaches.
pub fn by_month(member_folder: &str, taken: NaiveDateTime, name: &OriginalName) -> impl Iterator<Item = FiledPath> + use<> {
    let folder = format!("{member_folder}/{:04}/{:02}", taken.year(), taken.month());
    let filed = name.filed();
    (1..=100_000u32).map(move |n| {
        let name = if n == 1 { filed.clone() } else { numbered(&filed, n) };
        FiledPath(format!("{folder}/{name}"))
    })
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;
    use rstest::rstest;

    use super::*;

    fn april() -> NaiveDateTime {
        NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, 0, 0).unwrap()
    }

    #[test]
    fn a_folder_makes_sense_without_this_program() {
        let mut paths = by_month("juno", april(), &OriginalName::from_device("IMG_2214.HEIC"));
        assert_eq!(paths.next().unwrap().as_str(), "juno/2026/04/IMG_2214.HEIC");
        assert_eq!(paths.next().unwrap().as_str(), "juno/2026/04/IMG_2214 (2).HEIC");
    }

    #[test]
    fn whatever_a_device_calls_it_the_path_stays_inside() {
        for name in ["../../x", "/abs", "..", "con", "a/b/c.jpg", "\u{202e}x", "", &"é".repeat(500)] {
            for path in by_month("juno", april(), &OriginalName::from_device(name)).take(3) {
                assert!(FiledPath::parse(path.as_str()).is_ok(), "{path}");
                assert!(path.as_str().starts_with("juno/2026/04/"));
            }
        }
    }

    #[rstest]
    #[case("Oma Liesl", "oma-liesl")]
    #[case("Juno", "juno")]
    #[case("../..", "unnamed")]
    fn member_folders_are_readable(#[case] name: &str, #[case] folder: &str) {
        assert_eq!(member_folder(name), folder);
    }

    #[rstest]
    #[case("")]
    #[case("a//b")]
    #[case("a/./b")]
    #[case("a/../b")]
    #[case("a\\b")]
    #[case("a/b/")]
    #[case("a/.hidden")]
    fn paths_from_outside_are_checked(#[case] path: &str) {
        assert!(FiledPath::parse(path).is_err());
    }
}
