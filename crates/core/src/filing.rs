//! Where an original is filed: folders and names that make sense with any file manager, for ever.
//!
//! A [`FilingPlan`] is a pattern; the ready-made ones are patterns with a name. Whatever a pattern says, a filed path
//! begins with its member's folder and every component is a portable file name.

use chrono::NaiveDateTime;

use crate::{
    kind::MediaKind,
    name::{OriginalName, is_portable, numbered, portable_component, split},
};

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

/// Names tried for what is made from an original: as many files of one name in one folder are no accident.
const MOST_DERIVED: u32 = 100;

impl FiledPath {
    /// The names for what is made from an original, in its folder: `IMG_1.HEIC` becomes `IMG_1 (from HEIC).jpg`.
    pub fn names_of_derived(&self) -> impl Iterator<Item = FiledPath> + use<> {
        let (folder, name) = self.0.rsplit_once('/').map_or((String::new(), self.as_str()), |(f, n)| (format!("{f}/"), n));
        let (stem, extension) = split(name);
        let called = format!("{stem} (from {}).jpg", extension.trim_start_matches('.').to_uppercase());
        let called = OriginalName::from_device(&called).filed();
        (1..=MOST_DERIVED)
            .map(move |n| if n == 1 { called.clone() } else { numbered(&called, n) })
            .filter_map(move |name| FiledPath::parse(&format!("{folder}{name}")).ok())
    }

    /// Checks a path from outside (a ledger, a database row).
    pub fn parse(path: &str) -> Result<Self, NotAFiledPath> {
        let fine = !path.is_empty() && path.len() <= 4000 && path.split('/').all(is_portable);
        if fine { Ok(FiledPath(path.to_owned())) } else { Err(NotAFiledPath(path.to_owned())) }
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The same place in the folder of what was deleted, first choice first: `holding/juno/2026/04/IMG_2214.HEIC`, then `… (2).HEIC`.
    pub fn in_holding(&self) -> impl Iterator<Item = FiledPath> + use<> {
        FiledPath(format!("{HOLDING}/{}", self.0)).numbered()
    }

    /// Whether it is in the folder of what was deleted.
    pub fn is_in_holding(&self) -> bool {
        self.0.split_once('/').is_some_and(|(first, _)| first == HOLDING)
    }

    /// This path, and then the ones with a number in the name, as far as any folder reaches.
    pub fn numbered(self) -> impl Iterator<Item = FiledPath> + use<> {
        let (folder, file) = match self.0.rsplit_once('/') {
            Some((folder, file)) => (format!("{folder}/"), file.to_owned()),
            None => (String::new(), self.0),
        };
        (1..=MOST_NUMBERS).map(move |n| {
            let name = if n == 1 { file.clone() } else { numbered(&file, n) };
            FiledPath(format!("{folder}{name}"))
        })
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
    match joined.as_str() {
        "" => "member".to_owned(),
        HOLDING => format!("{HOLDING}-member"),
        _ => joined,
    }
}

/// The folder of what was deleted, beside the members' own.
pub const HOLDING: &str = "holding";
/// The longest pattern, in bytes.
const LONGEST_PATTERN: usize = 200;
/// More names than any folder holds.
const MOST_NUMBERS: u32 = 100_000;

/// What a plan can ask of an original.
#[derive(Clone, Copy, Debug)]
pub struct Filed<'a> {
    /// Folder of its member.
    pub member_folder: &'a str,
    /// What a clock on the wall showed when it was taken.
    pub taken: NaiveDateTime,
    /// Its name on the device.
    pub name: &'a OriginalName,
    /// Name of the device it came from.
    pub device: &'a str,
    /// Album or folder on the device.
    pub album: &'a str,
    /// Maker and model of the camera.
    pub camera: &'a str,
    /// What sort of file it is.
    pub kind: MediaKind,
}

/// The rule that decides folder and file name of every original.
///
/// * A pattern of at most 200 bytes; components are separated by `/`; the first one is always the member's folder.
/// * `%` and a letter: the time it was taken, by the codes of POSIX strftime listed in [`FilingPlan::CODES`], in English.
/// * `{…}`: a named part, one of [`FilingPlan::PARTS`]. The last component holds `{name}` or `{stem}`.
///
/// ```
/// use ypogeion_core::filing::FilingPlan;
/// assert!(FilingPlan::parse("%Y/%m %B/{name}").is_ok());
/// assert!(FilingPlan::parse("%Y/%m").is_err(), "no file name");
/// assert!(FilingPlan::parse("../{name}").is_err());
/// ```
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct FilingPlan {
    text: String,
    components: Vec<Vec<Piece>>,
}

/// Why a pattern is not a filing plan.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadPlan {
    /// A code that is not known.
    #[error("%{0} is not one of the codes for the time: {codes}", codes = FilingPlan::CODES)]
    Code(char),
    /// A part that is not known.
    #[error("{{{0}}} is not one of the parts: {parts}", parts = FilingPlan::PARTS.join(", "))]
    Part(String),
    /// A brace without its other half.
    #[error("there is a brace without its other half")]
    Brace,
    /// The last component does not say what the file is called.
    #[error("the last part must hold {{name}} or {{stem}}, or files would have no names of their own")]
    NoName,
    /// An empty component, `.` or `..`.
    #[error("{0:?} cannot be a folder")]
    Folder(String),
    /// Too long.
    #[error("a pattern has at most 200 letters")]
    TooLong,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Code(char),
    Part(usize),
}

impl Default for FilingPlan {
    fn default() -> Self {
        FilingPlan::ready("month").unwrap_or_else(|| unreachable!("\"month\" is in the table of ready-made plans"))
    }
}

impl TryFrom<String> for FilingPlan {
    type Error = BadPlan;
    fn try_from(text: String) -> Result<Self, BadPlan> {
        Self::parse(&text)
    }
}

impl From<FilingPlan> for String {
    fn from(plan: FilingPlan) -> String {
        plan.text
    }
}

impl FilingPlan {
    /// The ready-made plans: word, what it is called, pattern.
    pub const READY: [(&'static str, &'static str, &'static str); 5] = [
        ("month", "By month", "%Y/%m/{name}"),
        ("day", "By day", "%Y/%m/%d/{name}"),
        ("year", "By year", "%Y/{name}"),
        ("device-month", "By device, then month", "{device}/%Y/%m/{name}"),
        ("together", "Everything in one folder", "{name}"),
    ];

    /// The codes for the time it was taken: year, year of the century, month (04, April, Apr), day, day of the year, hour,
    /// minute, second, weekday (Sunday, Sun), week and its year (ISO 8601), and the sign itself.
    pub const CODES: &'static str = "Y y m B b d j H M S A a V G %";

    /// The named parts: the name with its extension, the name without it, the extension, the device, the album or folder
    /// on the device, the camera, and the kind of file.
    pub const PARTS: [&'static str; 7] = ["name", "stem", "extension", "device", "album", "camera", "kind"];

    /// A ready-made plan by its word.
    pub fn ready(word: &str) -> Option<Self> {
        Self::READY.iter().find(|(w, _, _)| *w == word).and_then(|(_, _, pattern)| Self::parse(pattern).ok())
    }

    /// The word of the ready-made plan that this is, if it is one.
    pub fn word(&self) -> Option<&'static str> {
        Self::READY.iter().find(|(_, _, pattern)| *pattern == self.text).map(|(word, _, _)| *word)
    }

    /// The pattern.
    pub fn pattern(&self) -> &str {
        &self.text
    }

    /// Takes a pattern, or the word of a ready-made plan.
    pub fn parse(text: &str) -> Result<Self, BadPlan> {
        let text = text.trim();
        if let Some(plan) = Self::READY.iter().find(|(w, _, _)| *w == text).map(|(_, _, pattern)| *pattern) {
            return Self::parse(plan);
        }
        if text.len() > LONGEST_PATTERN {
            return Err(BadPlan::TooLong);
        }
        let components = text
            .split('/')
            .map(|component| match component.trim() {
                "" | "." | ".." => Err(BadPlan::Folder(component.to_owned())),
                fine => pieces(fine),
            })
            .collect::<Result<Vec<_>, _>>()?;
        let names = |p: &Piece| matches!(p, Piece::Part(0 | 1));
        if !components.last().is_some_and(|last| last.iter().any(names)) {
            return Err(BadPlan::NoName);
        }
        Ok(FilingPlan { text: text.to_owned(), components })
    }

    /// The places to try for an original, first choice first: `member/2026/04/IMG_2214.HEIC`, then `… (2).HEIC`, and so on.
    /// The iterator ends after 100,000 names, which no folder reaches.
    pub fn places(&self, of: &Filed<'_>) -> impl Iterator<Item = FiledPath> + use<> {
        let name = of.name.filed();
        let (folders, last) = self.components.split_at(self.components.len() - 1);
        let mut folder = of.member_folder.to_owned();
        for pieces in folders {
            let made = render(pieces, of, &name);
            // A part that is empty (no camera, no album) leaves out its folder rather than inventing one.
            if !made.trim_matches(['.', ' ']).is_empty() {
                folder.push('/');
                folder.push_str(&portable_component(&made));
            }
        }
        let mut file = render(&last[0], of, &name);
        let (_, extension) = split(&name);
        if !file.ends_with(extension) {
            file.push_str(extension);
        }
        FiledPath(format!("{folder}/{}", portable_component(&file))).numbered()
    }

    /// Whether a path is where this plan would put an original, whatever number it got.
    pub fn agrees(&self, of: &Filed<'_>, path: &FiledPath) -> bool {
        let Some(first) = self.places(of).next() else { return false };
        if first == *path {
            return true;
        }
        let (Some((folder, name)), Some((there, had))) = (first.0.rsplit_once('/'), path.0.rsplit_once('/')) else {
            return false;
        };
        let ((stem, extension), (other, other_extension)) = (split(name), split(had));
        let number = other.strip_prefix(stem).and_then(|n| n.strip_prefix(" (")).and_then(|n| n.strip_suffix(')'));
        folder == there && extension == other_extension && number.is_some_and(|n| n.parse::<u32>().is_ok_and(|n| n > 1))
    }
}

fn pieces(component: &str) -> Result<Vec<Piece>, BadPlan> {
    let mut pieces = Vec::new();
    let mut text = String::new();
    let mut letters = component.chars();
    while let Some(letter) = letters.next() {
        let piece = match letter {
            '%' => {
                let code = letters.next().unwrap_or(' ');
                if !FilingPlan::CODES.contains(code) || code == ' ' {
                    return Err(BadPlan::Code(code));
                }
                Piece::Code(code)
            }
            '{' => {
                let rest = letters.as_str();
                let (part, after) = rest.split_once('}').ok_or(BadPlan::Brace)?;
                letters = after.chars();
                let known = FilingPlan::PARTS.iter().position(|p| *p == part);
                Piece::Part(known.ok_or_else(|| BadPlan::Part(part.to_owned()))?)
            }
            '}' => return Err(BadPlan::Brace),
            other => {
                text.push(other);
                continue;
            }
        };
        if !text.is_empty() {
            pieces.push(Piece::Text(std::mem::take(&mut text)));
        }
        pieces.push(piece);
    }
    if !text.is_empty() {
        pieces.push(Piece::Text(text));
    }
    Ok(pieces)
}

fn render(pieces: &[Piece], of: &Filed<'_>, name: &str) -> String {
    pieces.iter().fold(String::new(), |mut made, piece| {
        match piece {
            Piece::Text(text) => made.push_str(text),
            Piece::Code('%') => made.push('%'),
            Piece::Code(code) => made.push_str(&of.taken.format(&format!("%{code}")).to_string()),
            Piece::Part(part) => made.push_str(match FilingPlan::PARTS[*part] {
                "name" => name,
                "stem" => split(name).0,
                "extension" => split(name).1.trim_start_matches('.'),
                "device" => of.device,
                "album" => of.album,
                "camera" => of.camera,
                _ => of.kind.word(),
            }),
        }
        made
    })
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;
    use rstest::rstest;

    use super::*;

    #[test]
    fn what_is_made_from_an_original_says_so_in_its_name() {
        let original = FiledPath::parse("juno/2026/04/IMG_2214.HEIC").unwrap();
        let names: Vec<String> = original.names_of_derived().take(2).map(|p| p.as_str().to_owned()).collect();
        assert_eq!(names, ["juno/2026/04/IMG_2214 (from HEIC).jpg", "juno/2026/04/IMG_2214 (from HEIC) (2).jpg"]);
        assert_eq!(original.names_of_derived().count(), 100);
    }

    #[test]
    fn what_is_deleted_keeps_its_place_below_one_folder() {
        let path = FiledPath::parse("juno/2026/04/IMG_2214.HEIC").unwrap();
        let places: Vec<String> = path.in_holding().take(2).map(String::from).collect();
        assert_eq!(places, ["holding/juno/2026/04/IMG_2214.HEIC", "holding/juno/2026/04/IMG_2214 (2).HEIC"]);
        assert!(FiledPath::parse(&places[1]).unwrap().is_in_holding() && !path.is_in_holding());
        assert_eq!(member_folder("Holding"), "holding-member", "nobody's own folder is that one");
    }

    fn april() -> NaiveDateTime {
        NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, 0, 0).unwrap()
    }

    fn first(pattern: &str, name: &str) -> String {
        let plan = FilingPlan::parse(pattern).unwrap();
        places(&plan, name).next().unwrap().into()
    }

    fn places(plan: &FilingPlan, name: &str) -> impl Iterator<Item = FiledPath> + use<> {
        plan.places(&of(&OriginalName::from_device(name)))
    }

    fn of(name: &OriginalName) -> Filed<'_> {
        Filed {
            member_folder: "juno",
            taken: april(),
            name,
            device: "Juno's phone",
            album: "Kites: 2026/Day 1",
            camera: "",
            kind: MediaKind::Photo,
        }
    }

    #[rstest]
    #[case::month("month", "juno/2026/04/IMG_2214.HEIC")]
    #[case::day("day", "juno/2026/04/12/IMG_2214.HEIC")]
    #[case::year("year", "juno/2026/IMG_2214.HEIC")]
    #[case::device("device-month", "juno/Juno's phone/2026/04/IMG_2214.HEIC")]
    #[case::together("together", "juno/IMG_2214.HEIC")]
    #[case::words("%Y/%m %B/%A the %d at %H.%M - {name}", "juno/2026/04 April/Sunday the 12 at 10.00 - IMG_2214.HEIC")]
    #[case::week("%G week %V/{name}", "juno/2026 week 15/IMG_2214.HEIC")]
    #[case::parts("{kind}/{extension}/{stem}", "juno/photo/HEIC/IMG_2214.HEIC")]
    #[case::album_with_a_slash("{album}/{name}", "juno/Kites_ 2026_Day 1/IMG_2214.HEIC")]
    #[case::no_camera("{camera}/%Y/{name}", "juno/2026/IMG_2214.HEIC")]
    #[case::percent("100%% real/{name}", "juno/100% real/IMG_2214.HEIC")]
    #[case::colons("%H:%M {name}", "juno/10_00 IMG_2214.HEIC")]
    fn a_folder_makes_sense_without_this_program(#[case] pattern: &str, #[case] path: &str) {
        assert_eq!(first(pattern, "IMG_2214.HEIC"), path);
    }

    #[test]
    fn names_that_are_taken_get_a_number() {
        let mut paths = places(&FilingPlan::default(), "IMG_2214.HEIC").skip(1);
        assert_eq!(paths.next().unwrap().as_str(), "juno/2026/04/IMG_2214 (2).HEIC");
    }

    #[rstest]
    #[case::no_name("%Y/%m", BadPlan::NoName)]
    #[case::name_in_a_folder("{name}/%Y", BadPlan::NoName)]
    #[case::up("../{name}", BadPlan::Folder("..".into()))]
    #[case::root("/{name}", BadPlan::Folder(String::new()))]
    #[case::gap("%Y//{name}", BadPlan::Folder(String::new()))]
    #[case::code("%Q/{name}", BadPlan::Code('Q'))]
    #[case::code_at_the_end("{name}%", BadPlan::Code(' '))]
    #[case::part("{person}/{name}", BadPlan::Part("person".into()))]
    #[case::open("{name", BadPlan::Brace)]
    #[case::closed("name}", BadPlan::Brace)]
    #[case::empty("", BadPlan::Folder(String::new()))]
    fn a_pattern_that_cannot_work_is_refused(#[case] pattern: &str, #[case] why: BadPlan) {
        assert_eq!(FilingPlan::parse(pattern), Err(why));
    }

    #[test]
    fn whatever_a_device_calls_it_the_path_stays_inside() {
        for pattern in ["month", "{album}/{device}/{stem}", "{stem}/{stem}", "{device}{name}"] {
            for name in ["../../x", "/abs", "..", "con", "a/b/c.jpg", "\u{202e}x", "", &"é".repeat(500)] {
                let plan = FilingPlan::parse(pattern).unwrap();
                let name = OriginalName::from_device(name);
                let of = Filed { device: "../..", album: "\u{0}..", ..of(&name) };
                for path in plan.places(&of).take(3) {
                    assert!(FiledPath::parse(path.as_str()).is_ok(), "{path}");
                    assert!(path.as_str().starts_with("juno/"), "{path}");
                    assert!(plan.agrees(&of, &path), "{path}");
                }
            }
        }
    }

    #[test]
    fn a_plan_knows_its_own_places() {
        let name = OriginalName::from_device("IMG_1.JPG");
        let agrees = |path: &str| FilingPlan::default().agrees(&of(&name), &FiledPath::parse(path).unwrap());
        assert!(agrees("juno/2026/04/IMG_1.JPG") && agrees("juno/2026/04/IMG_1 (12).JPG"));
        for other in
            ["juno/2026/05/IMG_1.JPG", "juno/2026/04/IMG_1 (x).JPG", "juno/2026/04/IMG_1 (2).PNG", "juno/2026/04/IMG_12.JPG"]
        {
            assert!(!agrees(other), "{other}");
        }
    }

    #[test]
    fn ready_made_plans_are_patterns_with_a_name() {
        for (word, _, pattern) in FilingPlan::READY {
            let plan = FilingPlan::parse(word).unwrap();
            assert_eq!((plan.word(), plan.pattern()), (Some(word), pattern));
        }
        assert_eq!(FilingPlan::parse("%Y/{name} own").unwrap().word(), None);
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
