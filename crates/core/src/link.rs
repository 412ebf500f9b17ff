//! Links for people outside: what a link hands out, and a JPEG without everything that is written in it beside the picture.

use chrono::TimeDelta;

use crate::{amount::Amount, kind::MediaKind, name::source_name, turn::Turn};

/// What whoever has a link can take along.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HandsOut {
    /// What is shown, and nothing else: pictures of up to 2,048 pixels, without places.
    Previews,
    /// JPEGs in full, without places and anything else that is written in them; of everything else what is shown.
    Copies,
    /// The originals as they are, with all that is in them.
    Originals,
}

impl HandsOut {
    /// All of them.
    pub const ALL: [HandsOut; 3] = [HandsOut::Previews, HandsOut::Copies, HandsOut::Originals];

    /// The word in the database and the API.
    pub fn word(self) -> &'static str {
        match self {
            HandsOut::Previews => "previews",
            HandsOut::Copies => "copies",
            HandsOut::Originals => "originals",
        }
    }

    /// By its word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|h| h.word() == word)
    }
}

/// A link lasts so long at least.
pub const SHORTEST: TimeDelta = TimeDelta::days(1);
/// And so long at most.
pub const LONGEST: TimeDelta = TimeDelta::days(366);
/// After opening it, a browser may look for so long before it opens it again.
pub const VISIT: TimeDelta = TimeDelta::hours(12);

/// So many files may wait for somebody who made links, with those that are on their way: who has a link fills nobody's disk.
pub const MOST_BROUGHT: u64 = 2_000;
/// And so many bytes.
pub const MOST_BROUGHT_BYTES: u64 = 50 << 30;
/// Whoever brings something may say who they are, in so many characters.
const LONGEST_BRINGER: usize = 60;

/// Why something is not taken from somebody outside.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotTaken {
    /// Its name is of no picture and no film.
    Kind,
    /// With what waits already, it is more than there may be.
    Much,
}

/// Whether a file of this name and length is taken from somebody outside, where so much waits already.
pub fn is_taken(name: &str, length: u64, waiting: Amount) -> Result<(), NotTaken> {
    if !matches!(MediaKind::from_extension(name), MediaKind::Photo | MediaKind::Video | MediaKind::Raw) {
        return Err(NotTaken::Kind);
    }
    let much = waiting.count >= MOST_BROUGHT || waiting.bytes.saturating_add(length) > MOST_BROUGHT_BYTES;
    if much { Err(NotTaken::Much) } else { Ok(()) }
}

/// Who somebody says that they are, in one line that can be seen; empty: they say nothing.
///
/// ```
/// use ypogeion_core::link::bringer;
/// assert_eq!(bringer("  Ada\n of the mill "), "Ada of the mill");
/// assert_eq!(bringer(" \u{202e} "), "");
/// ```
pub fn bringer(typed: &str) -> String {
    let said: String = typed.chars().take(1_000).collect::<String>();
    let said = crate::album::one_line(&said);
    said.chars().take(LONGEST_BRINGER).collect::<String>().trim_end().to_owned()
}

/// As which folder of a device what somebody brings comes: each browser's apart, or two pictures of one name would be taken for one.
pub fn bringers_folder(by: &str, visit: &str) -> String {
    source_name(&format!("{} {visit}", if by.is_empty() { "By a link" } else { by }))
}

const START: u8 = 0xd8;
const END: u8 = 0xd9;
const SCAN: u8 = 0xda;

/// A JPEG without what is written in it beside the picture: place, time, camera, words, previews of itself, and whatever follows its end (a
/// moving part has a place of its own). Its pixels stay bit for bit; how it is to be turned, also by what somebody said of it, and its colours stay said. `None`: it
/// is not read as a JPEG.
pub fn bare_jpeg(bytes: &[u8], turn: Turn) -> Option<Vec<u8>> {
    if bytes.get(..2)? != [0xff, START] {
        return None;
    }
    let mut bare = Vec::with_capacity(bytes.len());
    bare.extend([0xff, START]);
    if let turned @ 2..=8 = turn.after(orientation(bytes)) {
        bare.extend(only_turned(turned));
    }
    let mut at = 2;
    loop {
        if *bytes.get(at)? != 0xff {
            return None;
        }
        // Any number of them may stand before a marker.
        while *bytes.get(at + 1)? == 0xff {
            at += 1;
        }
        let marker = bytes[at + 1];
        at += 2;
        match marker {
            END => {
                bare.extend([0xff, END]);
                return Some(bare);
            }
            0x01 | 0xd0..=0xd7 => bare.extend([0xff, marker]),
            0x00 | START => return None,
            _ => {
                let length = usize::from(u16::from_be_bytes([*bytes.get(at)?, *bytes.get(at + 1)?]));
                let body = bytes.get(at + 2..at + length)?;
                if is_needed(marker, body) {
                    bare.extend([0xff, marker]);
                    bare.extend(&bytes[at..at + length]);
                }
                at += length;
                if marker == SCAN {
                    let data = scan(&bytes[at..])?;
                    bare.extend(&bytes[at..at + data]);
                    at += data;
                }
            }
        }
    }
}

/// How long the data of a scan is: up to the next marker that does not belong to it.
fn scan(bytes: &[u8]) -> Option<usize> {
    let mut at = 0;
    loop {
        at += bytes.get(at..)?.iter().position(|b| *b == 0xff)?;
        match *bytes.get(at + 1)? {
            0x00 | 0xd0..=0xd7 => at += 2,
            _ => return Some(at),
        }
    }
}

/// Whether a decoder needs a segment to show the picture as it is.
fn is_needed(marker: u8, body: &[u8]) -> bool {
    match marker {
        0xe0 => body.starts_with(b"JFIF\0"),
        0xe2 => body.starts_with(b"ICC_PROFILE\0"),
        0xee => body.starts_with(b"Adobe"),
        0xe0..=0xef | 0xfe => false,
        _ => true,
    }
}

/// How a picture is to be turned, as its Exif says (TIFF tag 0x0112).
fn orientation(jpeg: &[u8]) -> Option<u8> {
    let mut at = 2;
    let tiff = loop {
        let marker = *jpeg.get(at + 1)?;
        if *jpeg.get(at)? != 0xff || marker == SCAN {
            return None;
        }
        let length = usize::from(u16::from_be_bytes([*jpeg.get(at + 2)?, *jpeg.get(at + 3)?]));
        let body = jpeg.get(at + 4..at + 2 + length)?;
        if marker == 0xe1 && body.starts_with(b"Exif\0\0") {
            break &body[6..];
        }
        at += 2 + length;
    };
    let little = match tiff.get(..2)? {
        b"II" => true,
        b"MM" => false,
        _ => return None,
    };
    let two = |at: usize| {
        let bytes = [*tiff.get(at)?, *tiff.get(at + 1)?];
        Some(if little { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) })
    };
    let four = |at: usize| {
        let bytes: [u8; 4] = tiff.get(at..at.checked_add(4)?)?.try_into().ok()?;
        Some(if little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
    };
    let first = usize::try_from(four(4)?).ok()?;
    let entries = usize::from(two(first)?);
    let entry = (0..entries).map(|n| first + 2 + n * 12).find(|at| two(*at) == Some(0x0112))?;
    u8::try_from(two(entry + 8)?).ok()
}

/// A segment that says how a picture is to be turned, and nothing else.
fn only_turned(how: u8) -> [u8; 36] {
    let mut segment = *b"\xff\xe1\x00\x22Exif\0\0MM\0\x2a\0\0\0\x08\0\x01\x01\x12\0\x03\0\0\0\x01\0\0\0\0\0\0\0\0";
    segment[29] = how;
    segment
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_and_films_are_taken_and_not_without_end() {
        let none = Amount::default();
        for name in ["IMG_1.jpg", "a.HEIC", "b.mp4", "c.dng"] {
            assert_eq!(is_taken(name, 1, none), Ok(()), "{name}");
        }
        for name in ["a.exe", "jpg", "", "note.xmp", "page.html", "a.jpg.zip"] {
            assert_eq!(is_taken(name, 1, none), Err(NotTaken::Kind), "{name}");
        }
        let waits = |count, bytes| is_taken("a.jpg", 10, Amount { count, bytes });
        assert_eq!(waits(MOST_BROUGHT - 1, MOST_BROUGHT_BYTES - 10), Ok(()));
        assert_eq!(waits(MOST_BROUGHT, 0), Err(NotTaken::Much));
        assert_eq!(waits(0, MOST_BROUGHT_BYTES - 9), Err(NotTaken::Much));
        assert_eq!(is_taken("a.jpg", u64::MAX, Amount { count: 0, bytes: 1 }), Err(NotTaken::Much));
    }

    #[test]
    fn whoever_brings_something_is_a_line_and_each_browser_a_folder() {
        assert_eq!(bringer(&"ß".repeat(5_000)).chars().count(), LONGEST_BRINGER);
        assert_ne!(bringers_folder("Ada", "3f2a"), bringers_folder("Ada", "3f2b"));
        assert!(!bringers_folder("", "3f2a").is_empty());
        for typed in ["../..", "a/b", "\u{0}", "<b>", "Ada"] {
            let said = bringer(typed);
            assert_eq!(bringer(&said), said, "{typed:?}");
            assert!(!said.contains(['\n', '\u{0}']), "{said:?}");
        }
    }

    fn segment(marker: u8, body: &[u8]) -> Vec<u8> {
        let length = u16::try_from(body.len() + 2).unwrap().to_be_bytes();
        [&[0xff, marker], &length[..], body].concat()
    }

    /// What of a JPEG is not its picture, for each byte order.
    fn exif(little: bool, turned: u16) -> Vec<u8> {
        let two = |n: u16| if little { n.to_le_bytes() } else { n.to_be_bytes() };
        let four = |n: u32| if little { n.to_le_bytes() } else { n.to_be_bytes() };
        let entry = |tag, value: u16| [&two(tag)[..], &two(3), &four(1), &two(value), &[0, 0]].concat();
        let order: &[u8] = if little { b"II\x2a\0" } else { b"MM\0\x2a" };
        segment(0xe1, &[b"Exif\0\0", order, &four(8), &two(2), &entry(0x0111, 77), &entry(0x0112, turned), &four(0)].concat())
    }

    fn jpeg(before: &[Vec<u8>], after: &[u8]) -> Vec<u8> {
        let data = b"\x12\xff\x00\x34\xff\xd3\x56";
        [
            &[0xff, 0xd8][..],
            &before.concat(),
            &segment(0xdb, &[1; 8]),
            &segment(0xda, &[1, 2]),
            data,
            &segment(0xc4, &[9]),
            &segment(0xda, &[3]),
            data,
            &[0xff, 0xd9],
            after,
        ]
        .concat()
    }

    #[test]
    fn only_the_picture_stays() {
        let (profile, adobe, jfif) =
            (segment(0xe2, b"ICC_PROFILE\0\x01\x01rgb"), segment(0xee, b"Adobe\0d"), segment(0xe0, b"JFIF\0\x01"));
        let told = [
            segment(0xe1, b"http://ns.adobe.com/xap/1.0/\0<place>"),
            segment(0xed, b"Photoshop 3.0\0Leiden"),
            segment(0xe2, b"MPF\0more"),
            segment(0xe0, b"JFXX\0small"),
            segment(0xfe, b"a comment"),
            segment(0xef, b"whatever"),
        ];
        let all = [&[jfif.clone(), exif(true, 1), profile.clone(), adobe.clone()][..], &told].concat();
        let bare = bare_jpeg(&jpeg(&all, b"a film behind it, with its place"), Turn::default()).unwrap();
        assert_eq!(bare, jpeg(&[jfif, profile, adobe], b""));
        assert_eq!(bare_jpeg(&bare, Turn::default()).unwrap(), bare, "there is nothing more to take");
    }

    #[test]
    fn how_it_is_turned_stays_said() {
        for little in [true, false] {
            for turned in 0..=12 {
                let bare = bare_jpeg(&jpeg(&[segment(0xe0, b"JFIF\0"), exif(little, turned)], b""), Turn::default()).unwrap();
                let wanted = (2..=8).contains(&turned).then(|| u8::try_from(turned).unwrap());
                assert_eq!(orientation(&bare), wanted, "{little} {turned}");
                assert!(bare.len() < jpeg(&[], b"").len() + 60);
            }
        }
    }

    #[test]
    fn what_is_no_jpeg_or_half_of_one_is_handed_to_nobody() {
        let whole = jpeg(&[exif(false, 6), segment(0xfe, b"words")], b"");
        for length in 0..whole.len() {
            assert_eq!(bare_jpeg(&whole[..length], Turn::default()), None, "{length}");
        }
        assert_eq!(bare_jpeg(b"\x89PNG", Turn::default()), None);
        // Whatever is in it, it ends.
        for at in 0..whole.len() {
            for byte in [0x00, 0xff, 0xd8, 0xd9, 0xda, 0xe1] {
                let mut other = whole.clone();
                other[at] = byte;
                let _ = bare_jpeg(&other, Turn::default());
                let _ = orientation(&other);
            }
        }
    }
}
