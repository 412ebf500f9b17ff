//! What an original is called: on its device, and on the home disk.

use std::fmt;

use serde::{Deserialize, Serialize};
use unicode_normalization::UnicodeNormalization;

/// The longest name kept from a device, in bytes of UTF-8.
const LONGEST_REPORTED: usize = 1024;
/// The longest file name made for the home disk, in bytes. Most file systems allow 255; the rest is left for " (12345)"
/// and for names that encryption layers lengthen.
const LONGEST_FILED: usize = 200;
/// Room for the number that tells files of one name apart.
const NUMBER_ROOM: usize = 16;

/// The name that a device gave an original.
///
/// * Never empty; at most 1024 bytes of UTF-8; no control characters and no line or paragraph separators.
/// * May contain anything else, path separators included: it is shown and recorded, and is never used as a path. Only
///   [`OriginalName::filed`] makes a file name of it.
///
/// ```
/// use ypogeion_core::OriginalName;
/// assert_eq!(OriginalName::from_device("IMG_2214.HEIC").as_str(), "IMG_2214.HEIC");
/// assert_eq!(OriginalName::from_device("../../etc/passwd").filed(), "passwd");
/// assert_eq!(OriginalName::from_device("").as_str(), "unnamed");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct OriginalName(String);

impl OriginalName {
    /// Takes whatever a device says. A backup must not refuse a file because of its name, so what cannot be kept is
    /// replaced by `_` rather than refused.
    pub fn from_device(reported: &str) -> Self {
        let clean: String = reported.chars().map(|c| if hidden(c) { '_' } else { c }).collect();
        let clean = cut(&clean, LONGEST_REPORTED);
        OriginalName(if clean.trim().is_empty() { "unnamed".to_owned() } else { clean.to_owned() })
    }

    /// The name as reported.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The file name for the home disk: the last component, safe on every file system that a household is likely to
    /// use (the union of what POSIX, NTFS, exFAT and SMB forbid).
    ///
    /// * Never empty, never `.` or `..`, at most 200 bytes, in Unicode's composed form (NFC).
    /// * None of `/ \ : * ? " < > |`, no control or invisible direction characters, no trailing dot or space, no
    ///   leading dot (a hidden file in a library is a lost file), no reserved device name such as `CON` or `LPT1.jpg`.
    pub fn filed(&self) -> String {
        let last = self.0.rsplit(['/', '\\']).find(|part| !part.trim_matches(['.', ' ']).is_empty()).unwrap_or("unnamed");
        portable(last, LONGEST_FILED)
    }
}

/// Whether a path component could have come from [`OriginalName::filed`], with or without a number.
pub fn is_portable(component: &str) -> bool {
    portable(component, LONGEST_FILED + NUMBER_ROOM) == component
}

/// A path component made of any text, as safe as [`OriginalName::filed`]. What stands for a separator becomes `_`.
pub fn portable_component(text: &str) -> String {
    portable(text, LONGEST_FILED)
}

fn portable(text: &str, longest: usize) -> String {
    let mapped: String = text.nfc().map(|c| if forbidden(c) || hidden(c) { '_' } else { c }).collect();
    let trimmed = mapped.trim_start_matches(['.', ' ']).trim_end_matches(['.', ' ']);
    let (stem, extension) = split(trimmed);
    let stem = stem.trim_end_matches(['.', ' ']);
    let stem = if reserved(stem) { format!("{stem}_") } else { stem.to_owned() };
    let room = longest - extension.len();
    let stem = cut(&stem, room).trim_end_matches(['.', ' ']);
    if stem.is_empty() { format!("unnamed{extension}") } else { format!("{stem}{extension}") }
}

impl From<String> for OriginalName {
    fn from(text: String) -> Self {
        Self::from_device(&text)
    }
}

impl From<OriginalName> for String {
    fn from(name: OriginalName) -> String {
        name.0
    }
}

impl fmt::Display for OriginalName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The name of a source, as clean as that of an original; sources may be folders in folders, and may have no name at all.
///
/// ```
/// use ypogeion_core::name::source_name;
/// assert_eq!(source_name("Camera\n"), "Camera_");
/// assert_eq!(source_name("  "), "");
/// ```
pub fn source_name(reported: &str) -> String {
    if reported.trim().is_empty() { String::new() } else { OriginalName::from_device(reported).into() }
}

/// `name` with a number before its extension: `IMG_0001.JPG`, 2 → `IMG_0001 (2).JPG`.
pub fn numbered(name: &str, number: u32) -> String {
    let (stem, extension) = split(name);
    format!("{stem} ({number}){extension}")
}

/// Splits before the last dot, if what follows looks like an extension. The dot belongs to the extension.
pub fn split(name: &str) -> (&str, &str) {
    match name.rfind('.') {
        Some(at) if at > 0 && name.len() - at <= 12 => name.split_at(at),
        _ => (name, ""),
    }
}

fn forbidden(c: char) -> bool {
    matches!(c, '/' | '\\' | ':' | '*' | '?' | '"' | '<' | '>' | '|')
}

/// Control characters, and characters that only change how the rest is shown (direction marks, zero width).
fn hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}')
}

fn reserved(stem: &str) -> bool {
    let first = stem.split('.').next().unwrap_or_default().trim_end().to_ascii_uppercase();
    matches!(first.as_str(), "CON" | "PRN" | "AUX" | "NUL")
        || (first.len() == 4 && (first.starts_with("COM") || first.starts_with("LPT")) && first.as_bytes()[3].is_ascii_digit())
}

fn cut(text: &str, bytes: usize) -> &str {
    &text[..text.floor_char_boundary(bytes.min(text.len()))]
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::kept("IMG_2214.HEIC", "IMG_2214.HEIC")]
    #[case::traversal("../../../etc/passwd", "passwd")]
    #[case::backslashes("C:\\Users\\x\\DSC1.JPG", "DSC1.JPG")]
    #[case::only_dots("..", "unnamed")]
    #[case::slash_at_the_end("album/", "album")]
    #[case::forbidden("what? \"no\" <a|b>:*.jpg", "what_ _no_ _a_b___.jpg")]
    #[case::hidden_file(".secret.jpg", "secret.jpg")]
    #[case::trailing_dots("photo.jpg. .", "photo.jpg")]
    #[case::reserved("con.jpg", "con_.jpg")]
    #[case::reserved_port("LPT1", "LPT1_")]
    #[case::almost_reserved("console.jpg", "console.jpg")]
    #[case::right_to_left("invoice\u{202e}gpj.exe", "invoice_gpj.exe")]
    #[case::decomposed("Cafe\u{301}.jpg", "Café.jpg")]
    #[case::newline("a\nb.jpg", "a_b.jpg")]
    #[case::nothing("", "unnamed")]
    #[case::nul("\0", "_")]
    fn filed_names_are_safe_everywhere(#[case] reported: &str, #[case] filed: &str) {
        assert_eq!(OriginalName::from_device(reported).filed(), filed);
    }

    #[test]
    fn a_long_name_keeps_its_extension_and_whole_characters() {
        let name = OriginalName::from_device(&format!("{}.jpeg", "ö".repeat(300))).filed();
        assert!(name.len() <= LONGEST_FILED && name.ends_with("ö.jpeg"), "{name}");
    }

    #[test]
    fn numbers_stand_before_the_extension() {
        assert_eq!(numbered("IMG_0001.JPG", 2), "IMG_0001 (2).JPG");
        assert_eq!(numbered("README", 3), "README (3)");
        assert_eq!(numbered(".hidden", 2), ".hidden (2)");
    }
}
