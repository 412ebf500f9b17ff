//! What is said about a picture: a title, and a caption. Its file may say it, and people may write it.

use chrono::NaiveDateTime;

use crate::album::turns;

/// A title has so many characters at most.
pub const LONGEST_TITLE: usize = 200;
/// A caption has so many.
pub const LONGEST_CAPTION: usize = 5_000;

/// What devices write into every picture where words of people belong, in small letters. It says nothing of the picture.
const OF_DEVICES: [&str; 9] =
    ["dcim", "exif_jpeg_picture", "jpeg", "image", "default", "untitled", "created with gimp", "created with the gimp", "photo"];
/// The same behind the name of their maker, all in capitals.
const OF_MAKERS: [&str; 3] = ["DIGITAL CAMERA", "DIGITAL STILL CAMERA", "DSC"];

/// What is said about a picture; empty: nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Caption {
    /// In one line.
    pub title: String,
    /// In as many as it takes.
    pub caption: String,
}

impl Caption {
    /// Whether nothing is said.
    pub fn is_empty(&self) -> bool {
        self.title.is_empty() && self.caption.is_empty()
    }
}

/// What people said about a picture, to lie beside its file.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Note {
    /// What is said about it.
    pub words: Caption,
    /// Where it was taken: degrees north and east.
    pub place: Option<(f64, f64)>,
    /// When: what a clock on the wall showed.
    pub taken: Option<NaiveDateTime>,
    /// How it is to be shown, as Exif says it (1 to 8), of one that somebody turned.
    pub orientation: Option<u8>,
}

impl Note {
    /// Whether nobody said anything.
    pub fn is_empty(&self) -> bool {
        *self == Note::default()
    }
}

impl From<Caption> for Note {
    fn from(words: Caption) -> Self {
        Note { words, ..Note::default() }
    }
}

/// A title as it is kept: one line, without what cannot be seen. `None`: it is too long.
///
/// ```
/// use ypogeion_core::caption::title;
/// assert_eq!(title("  The weir \n in flood ").as_deref(), Some("The weir in flood"));
/// ```
pub fn title(typed: &str) -> Option<String> {
    let spaced: String = typed.chars().filter(|c| !turns(*c)).map(|c| if c.is_control() { ' ' } else { c }).collect();
    let title = spaced.split_whitespace().collect::<Vec<_>>().join(" ");
    (title.chars().count() <= LONGEST_TITLE).then_some(title)
}

/// A caption as it is kept; lines stay lines. `None`: it is too long.
pub fn caption(typed: &str) -> Option<String> {
    let kept = typed.replace("\r\n", "\n").replace('\r', "\n");
    let kept: String = kept.chars().filter(|c| *c == '\n' || !c.is_control() && !turns(*c)).collect();
    let kept = kept.trim().to_owned();
    (kept.chars().count() <= LONGEST_CAPTION).then_some(kept)
}

/// What a file says as its title: as [`title`], and cut where that is too long. `None`: nothing that people wrote.
pub fn title_read(text: &str) -> Option<String> {
    read(text, LONGEST_TITLE, title)
}

/// What a file says as its caption, the same way.
pub fn caption_read(text: &str) -> Option<String> {
    read(text, LONGEST_CAPTION, caption)
}

fn read(text: &str, most: usize, clean: fn(&str) -> Option<String>) -> Option<String> {
    // However long it is, no more of it is looked at than may be kept, and the white space around that.
    let text: String = text.trim_matches(|c: char| c.is_control() || c.is_whitespace()).chars().take(4 * most).collect();
    let text = match clean(&text) {
        Some(text) => text,
        None => clean(&text.chars().take(most - 1).collect::<String>()).unwrap_or_default() + "…",
    };
    (!text.is_empty() && !is_of_a_device(&text)).then_some(text)
}

/// Whether a device writes this into all of its pictures.
fn is_of_a_device(text: &str) -> bool {
    OF_DEVICES.contains(&text.to_lowercase().as_str())
        || OF_MAKERS.iter().any(|known| text.ends_with(known) && text.split_whitespace().count() <= 5)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn what_is_kept_is_kept_again() {
        let parts = ["weir", " ", "\n", "\r\n", "\u{202e}", "\u{0}", "ß", "\u{85}", "\u{a0}", "🪁", "\r", "<b>", "\u{200f}"];
        for n in 0..parts.len().pow(4) {
            let typed: String = (0..4).map(|at| parts[n / parts.len().pow(at) % parts.len()]).collect();
            for clean in [title, caption] {
                let kept = clean(&typed).expect("it is short");
                assert_eq!(clean(&kept).as_ref(), Some(&kept), "{typed:?}");
                assert!(kept.chars().all(|c| c == '\n' || !c.is_control() && !turns(c)), "{typed:?}");
            }
            assert!(!title(&typed).unwrap().contains('\n'));
            assert_eq!(title_read(&typed), title(&typed).filter(|t| !t.is_empty()), "{typed:?}");
        }
    }

    #[test]
    fn what_is_too_long_is_refused_of_people_and_cut_of_files() {
        let long = "ß".repeat(LONGEST_CAPTION + 1);
        assert_eq!(
            (title(&long[..2 * LONGEST_TITLE]).map(|t| t.chars().count()), title(&long[..2 * LONGEST_TITLE + 2])),
            (Some(LONGEST_TITLE), None)
        );
        assert_eq!((caption(&long[2..]).map(|t| t.chars().count()), caption(&long)), (Some(LONGEST_CAPTION), None));
        let cut = caption_read(&"weir ".repeat(100_000)).unwrap();
        assert!(cut.chars().count() <= LONGEST_CAPTION && cut.starts_with("weir weir") && cut.ends_with('…'), "{}", cut.len());
        assert_eq!(caption(&cut).as_ref(), Some(&cut), "what was cut is not cut again");
    }

    #[rstest]
    #[case("OLYMPUS DIGITAL CAMERA")]
    #[case("KONICA MINOLTA DIGITAL CAMERA")]
    #[case("          ")]
    #[case("SONY DSC")]
    #[case("DCIM")]
    #[case("Exif_JPEG_PICTURE")]
    #[case("Created with GIMP")]
    #[case("untitled\0\0\0")]
    #[case("image")]
    fn what_a_device_writes_everywhere_is_nobodys_words(#[case] text: &str) {
        assert_eq!(caption_read(text), None);
    }

    #[rstest]
    #[case("Grandfather and his first digital camera, on the pier")]
    #[case("A mirror image")]
    #[case("Kites")]
    #[case("Grandfather’s digital camera")]
    #[case("Created with love")]
    #[case("Untitled, but not by us")]
    fn what_people_write_is_theirs(#[case] text: &str) {
        assert_eq!(caption_read(text).as_deref(), Some(text));
    }
}
