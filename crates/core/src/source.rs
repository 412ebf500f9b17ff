//! What of a source is backed up: kinds, albums or folders, from a date on.
//!
//! A device decides this without opening its files, from names, folders and file times, so that a walk stays as fast as
//! the disk. What it leaves out it leaves out with a reason.

use std::collections::BTreeSet;

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};

use crate::{capture::from_name, kind::MediaKind, name::split};

/// What sort of file a device holds, as people choose among them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Sort {
    /// Photos.
    Photos,
    /// Videos.
    Videos,
    /// Raw files of cameras.
    Raw,
    /// Screenshots.
    Screenshots,
    /// The moving half of a photo that moves.
    MotionHalves,
    /// Everything else: sidecars, documents, archives.
    Others,
}

impl Sort {
    /// Every sort, for tables and tests.
    pub const ALL: [Sort; 6] = [Self::Photos, Self::Videos, Self::Raw, Self::Screenshots, Self::MotionHalves, Self::Others];

    /// The word on the command line and in settings.
    pub fn word(self) -> &'static str {
        match self {
            Self::Photos => "photos",
            Self::Videos => "videos",
            Self::Raw => "raw",
            Self::Screenshots => "screenshots",
            Self::MotionHalves => "motion-halves",
            Self::Others => "others",
        }
    }

    /// The sort for a word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.word() == word)
    }

    /// The sort of a file by its path inside the source. `beside_still` says whether a still picture of the same name
    /// lies beside it.
    pub fn of(path: &str, beside_still: bool) -> Self {
        match MediaKind::from_extension(path) {
            MediaKind::Photo if is_screenshot(path) => Self::Screenshots,
            MediaKind::Photo => Self::Photos,
            MediaKind::Video if beside_still => Self::MotionHalves,
            MediaKind::Video => Self::Videos,
            MediaKind::Raw => Self::Raw,
            MediaKind::Sidecar | MediaKind::Other => Self::Others,
        }
    }

    /// Whether it counts as video where mobile data is for photos only.
    pub fn is_video(self) -> bool {
        matches!(self, Self::Videos | Self::MotionHalves)
    }
}

fn is_screenshot(path: &str) -> bool {
    path.to_ascii_lowercase().contains("screenshot")
}

/// Which files of a source are backed up. The default is: all of them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct SourceRule {
    /// These sorts.
    pub sorts: BTreeSet<Sort>,
    /// Only in these folders or albums, if any are named. A pattern is a folder and all below it; `*` stands for any part
    /// of one name, `**` for any folders.
    pub include: Vec<String>,
    /// Not in these; stronger than `include`.
    pub exclude: Vec<String>,
    /// Only what was taken on this day or later.
    pub since: Option<NaiveDate>,
    /// Only what appeared after this moment ("only what is new from now on").
    pub new_from: Option<DateTime<Utc>>,
}

impl Default for SourceRule {
    fn default() -> Self {
        SourceRule { sorts: Sort::ALL.into(), include: Vec::new(), exclude: Vec::new(), since: None, new_from: None }
    }
}

/// What a walk knows of a file.
#[derive(Clone, Copy, Debug)]
pub struct Seen<'a> {
    /// Its path inside the source, with `/` between folders.
    pub path: &'a str,
    /// Its sort.
    pub sort: Sort,
    /// Its modification time.
    pub modified: Option<DateTime<Utc>>,
}

/// Why a file is left out, by the owner's own choice.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum LeftOut {
    /// Its sort was not chosen.
    #[error("{} are not backed up from here", .0.word())]
    Sort(Sort),
    /// It is not in one of the chosen folders.
    #[error("its folder was not chosen")]
    NotIncluded,
    /// Its folder was taken out.
    #[error("its folder was taken out by \"{0}\"")]
    Excluded(String),
    /// It is older than the first day that was chosen.
    #[error("it was taken before {0}")]
    Before(NaiveDate),
    /// It was there before only new files were chosen.
    #[error("only what is new since {} is backed up", .0.format("%-d %B %Y"))]
    NotNew(DateTime<Utc>),
}

impl SourceRule {
    /// Says why a file is left out, or nothing.
    pub fn check(&self, file: &Seen<'_>) -> Result<(), LeftOut> {
        if !self.sorts.contains(&file.sort) {
            return Err(LeftOut::Sort(file.sort));
        }
        if let Some(pattern) = self.exclude.iter().find(|p| matches(p, file.path)) {
            return Err(LeftOut::Excluded(pattern.clone()));
        }
        if !self.include.is_empty() && !self.include.iter().any(|p| matches(p, file.path)) {
            return Err(LeftOut::NotIncluded);
        }
        if let Some(since) = self.since.filter(|since| taken(file).is_some_and(|day| day < *since)) {
            return Err(LeftOut::Before(since));
        }
        if let Some(from) = self.new_from.filter(|from| file.modified.is_some_and(|m| m < *from)) {
            return Err(LeftOut::NotNew(from));
        }
        Ok(())
    }

    /// The rule in a few words, for a table.
    pub fn words(&self) -> String {
        if !self.is_partial() {
            return "everything".to_owned();
        }
        let mut words = Vec::new();
        if self.sorts.len() < Sort::ALL.len() {
            words.push(self.sorts.iter().map(|s| s.word()).collect::<Vec<_>>().join(", "));
        }
        if !self.include.is_empty() {
            words.push(format!("in {}", self.include.join(", ")));
        }
        if !self.exclude.is_empty() {
            words.push(format!("not in {}", self.exclude.join(", ")));
        }
        words.extend(self.since.map(|day| format!("taken since {day}")));
        words.extend(self.new_from.map(|t| format!("new since {}", t.format("%-d %B %Y"))));
        words.join("; ")
    }

    /// Whether anything at all may be left out, so that a device can say that it is only partly covered.
    pub fn is_partial(&self) -> bool {
        *self != SourceRule::default()
    }
}

/// The day a file was probably taken: its name says it best, its time otherwise.
pub fn taken(file: &Seen<'_>) -> Option<NaiveDate> {
    let name = file.path.rsplit('/').next().unwrap_or(file.path);
    from_name(name).map(|t| t.date()).or(file.modified.map(|m| m.date_naive()))
}

/// The name of a file without its extension, as it is compared with its neighbours.
pub fn stem(path: &str) -> String {
    split(path).0.to_lowercase()
}

/// Whether a file lies in (or below) a folder that a pattern names. A pattern that names a file exactly matches it, too.
/// Case does not matter: phones and cards disagree about it.
pub fn matches(pattern: &str, path: &str) -> bool {
    let lower = (pattern.trim_matches('/').to_lowercase(), path.to_lowercase());
    let pattern: Vec<&str> = lower.0.split('/').filter(|p| !p.is_empty()).collect();
    let path: Vec<&str> = lower.1.split('/').filter(|p| !p.is_empty()).collect();
    !pattern.is_empty() && folders_match(&pattern, &path)
}

fn folders_match(pattern: &[&str], path: &[&str]) -> bool {
    match (pattern.split_first(), path.split_first()) {
        (None, _) => true,
        (Some((&"**", rest)), _) => (0..=path.len()).any(|n| folders_match(rest, &path[n..])),
        (Some((first, rest)), Some((name, below))) => {
            name_matches(first.as_bytes(), name.as_bytes()) && folders_match(rest, below)
        }
        (Some(_), None) => false,
    }
}

/// `*` for any run of bytes, `?` for one. Linear: on a mismatch only the last star is tried again.
fn name_matches(pattern: &[u8], name: &[u8]) -> bool {
    let (mut p, mut n) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p, n));
                p += 1;
            }
            Some(c) if *c == b'?' || *c == name[n] => {
                p += 1;
                n += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    p = at + 1;
                    n = from + 1;
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == b'*')
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use rstest::rstest;

    use super::*;

    fn day(n: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::days(20_000 + n)
    }

    fn seen(path: &str) -> Seen<'_> {
        Seen { path, sort: Sort::of(path, false), modified: Some(day(0)) }
    }

    #[rstest]
    #[case("Camera/IMG_1.jpg", false, Sort::Photos)]
    #[case("Screenshots/Screenshot_20260412.png", false, Sort::Screenshots)]
    #[case("Camera/clip.mp4", false, Sort::Videos)]
    #[case("Camera/IMG_1.MOV", true, Sort::MotionHalves)]
    #[case("R0001.DNG", false, Sort::Raw)]
    #[case("R0001.xmp", false, Sort::Others)]
    fn sorts_are_told_by_name_and_place(#[case] path: &str, #[case] beside_still: bool, #[case] expected: Sort) {
        assert_eq!(Sort::of(path, beside_still), expected);
    }

    #[rstest]
    #[case::folder("Camera", "Camera/a.jpg", true)]
    #[case::below("Camera", "Camera/2026/a.jpg", true)]
    #[case::case_does_not_matter("camera/", "Camera/a.jpg", true)]
    #[case::not_a_prefix_of_a_name("Cam", "Camera/a.jpg", false)]
    #[case::star("20*", "2026/a.jpg", true)]
    #[case::star_in_the_middle("20*6/04", "2026/04/a.jpg", true)]
    #[case::any_depth("**/Raw", "2026/04/Raw/a.dng", true)]
    #[case::any_depth_none("**/Raw", "Raw/a.dng", true)]
    #[case::file_type("**/*.gif", "2026/04/party.GIF", true)]
    #[case::one_letter("?.jpg", "a.jpg", true)]
    #[case::deeper_than_the_path("a/b/c/d", "a/b", false)]
    #[case::empty("", "a.jpg", false)]
    #[case::slashes_only("///", "a.jpg", false)]
    fn patterns_name_folders(#[case] pattern: &str, #[case] path: &str, #[case] expected: bool) {
        assert_eq!(matches(pattern, path), expected);
    }

    #[test]
    fn many_stars_do_not_take_for_ever() {
        assert!(!matches(&"*a".repeat(200), &"a".repeat(150)));
    }

    #[test]
    fn everything_is_backed_up_unless_somebody_chose() {
        let rule = SourceRule::default();
        for path in ["a.jpg", "x/y/z.mov", "notes.txt", ""] {
            assert_eq!(rule.check(&seen(path)), Ok(()));
        }
        assert!(!rule.is_partial());
    }

    #[test]
    fn what_is_left_out_has_its_reason() {
        let rule = SourceRule {
            sorts: [Sort::Photos, Sort::Videos].into(),
            include: vec!["Camera".into()],
            exclude: vec!["Camera/Trash".into()],
            since: Some(day(-10).date_naive()),
            new_from: Some(day(-1)),
        };
        assert!(rule.is_partial());
        assert_eq!(rule.check(&seen("Camera/a.jpg")), Ok(()));
        assert_eq!(rule.check(&seen("Camera/a.dng")), Err(LeftOut::Sort(Sort::Raw)));
        assert_eq!(rule.check(&seen("Chat/a.jpg")), Err(LeftOut::NotIncluded));
        assert_eq!(rule.check(&seen("Camera/Trash/a.jpg")), Err(LeftOut::Excluded("Camera/Trash".into())));
        let old = Seen { modified: Some(day(-5)), ..seen("Camera/a.jpg") };
        assert_eq!(rule.check(&old), Err(LeftOut::NotNew(day(-1))));
        // The name knows better than the file's time, which a copy changes.
        let named = Seen { modified: Some(day(0)), ..seen("Camera/IMG_20200101_101500.jpg") };
        assert_eq!(rule.check(&named), Err(LeftOut::Before(day(-10).date_naive())));
        assert_eq!(LeftOut::Sort(Sort::Raw).to_string(), "raw are not backed up from here");
    }

    #[test]
    fn a_rule_is_told_in_words() {
        assert_eq!(SourceRule::default().words(), "everything");
        let rule = SourceRule {
            sorts: [Sort::Photos, Sort::Videos].into(),
            exclude: vec!["Chat".into()],
            since: "2026-04-01".parse().ok(),
            ..SourceRule::default()
        };
        assert_eq!(rule.words(), "photos, videos; not in Chat; taken since 2026-04-01");
    }

    #[test]
    fn a_file_without_a_time_is_never_left_out_for_its_age() {
        let rule = SourceRule { since: Some(day(0).date_naive()), new_from: Some(day(0)), ..SourceRule::default() };
        assert_eq!(rule.check(&Seen { modified: None, ..seen("scan.jpg") }), Ok(()));
    }

    #[test]
    fn words_read_back() {
        assert!(Sort::ALL.iter().all(|s| Sort::from_word(s.word()) == Some(*s)));
    }
}
