//! The words that agencies, and programs after them, write into a JPEG: IPTC-IIM (version 4.2), in the resource 0x0404 of a segment APP13.

use ypogeion_core::{caption, capture::Facts};

/// What the segment begins with.
const NAME: &[u8] = b"Photoshop 3.0\0";
/// The resource that has them.
const WORDS: u16 = 0x0404;
/// Datasets, as record and number.
const CHARACTERS: (u8, u8) = (1, 90);
const TITLE: (u8, u8) = (2, 5);
const CAPTION: (u8, u8) = (2, 120);
/// The characters are UTF-8 (ISO 2022).
const UTF_8: &[u8] = b"\x1b%G";

/// The words of a segment APP13. `None`: it has none.
pub fn in_segment(body: &[u8]) -> Option<&[u8]> {
    let mut rest = body.strip_prefix(NAME)?;
    while let Some(resource) = rest.strip_prefix(b"8BIM") {
        let id = u16::from_be_bytes([*resource.first()?, *resource.get(1)?]);
        // A name, with its length before it, and a size; both parts are of even length.
        let name = 1 + usize::from(*resource.get(2)?);
        let at = 2 + name + name % 2;
        let size: [u8; 4] = resource.get(at..at + 4)?.try_into().ok()?;
        let size = usize::try_from(u32::from_be_bytes(size)).ok()?;
        let data = resource.get(at + 4..)?;
        if id == WORDS {
            return data.get(..size.min(data.len()));
        }
        rest = data.get(size.checked_add(size % 2)?..)?;
    }
    None
}

/// Reads them. What is known already stays.
pub fn read(mut words: &[u8], facts: &mut Facts) {
    let (mut utf_8, mut title, mut text) = (false, None, None);
    while let [0x1c, record, dataset, high, low, rest @ ..] = words {
        let size = usize::from(u16::from_be_bytes([*high, *low]));
        // Beyond 32,767 bytes the length has a length: no such words are.
        let Some(value) = rest.get(..size).filter(|_| size < 0x8000) else { break };
        match (*record, *dataset) {
            CHARACTERS => utf_8 = value == UTF_8,
            TITLE => title = title.or(Some(value)),
            CAPTION => text = text.or(Some(value)),
            _ => {}
        }
        words = &rest[size..];
    }
    let said = |value: Option<&[u8]>| value.map(|v| decoded(v, utf_8));
    facts.title = facts.title.take().or_else(|| said(title).as_deref().and_then(caption::title_read));
    facts.caption = facts.caption.take().or_else(|| said(text).as_deref().and_then(caption::caption_read));
}

/// What does not say that it is UTF-8 may be all the same: nothing else looks like it.
fn decoded(value: &[u8], utf_8: bool) -> String {
    match std::str::from_utf8(value) {
        Ok(text) => text.to_owned(),
        Err(_) if utf_8 => String::from_utf8_lossy(value).into_owned(),
        Err(_) => value.iter().map(|b| char::from(*b)).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn dataset(record: u8, number: u8, value: &[u8]) -> Vec<u8> {
        [&[0x1c, record, number], &(value.len() as u16).to_be_bytes()[..], value].concat()
    }

    fn resource(id: u16, data: &[u8]) -> Vec<u8> {
        let pad = vec![0; data.len() % 2];
        [b"8BIM".as_slice(), &id.to_be_bytes(), &[0, 0], &(data.len() as u32).to_be_bytes(), data, &pad].concat()
    }

    fn said(words: &[u8]) -> (Option<String>, Option<String>) {
        let mut facts = Facts::default();
        read(words, &mut facts);
        (facts.title, facts.caption)
    }

    #[test]
    fn words_are_found_in_their_segment_and_read() {
        let words =
            [dataset(1, 90, UTF_8), dataset(2, 0, &[0, 4]), dataset(2, 5, b"Weir"), dataset(2, 120, "Über dem Wehr".as_bytes())]
                .concat();
        let segment = [NAME, &resource(0x03ed, b"odd"), &resource(WORDS, &words)].concat();
        assert_eq!(in_segment(&segment), Some(words.as_slice()));
        assert_eq!(said(&words), (Some("Weir".into()), Some("Über dem Wehr".into())));
        // In the characters of western Europe, which nothing says.
        assert_eq!(said(&dataset(2, 120, b"\xdcber dem Wehr")).1.as_deref(), Some("Über dem Wehr"));
        assert_eq!(said(&dataset(2, 120, b"OLYMPUS DIGITAL CAMERA   ")), (None, None));
    }

    #[test]
    fn what_is_cut_or_wrong_says_nothing_and_does_no_harm() {
        let words = [dataset(2, 5, b"Weir"), dataset(2, 120, b"In flood")].concat();
        let segment = [NAME, &resource(0x0400, b"a"), &resource(WORDS, &words)].concat();
        for cut in 0..segment.len() {
            in_segment(&segment[..cut]);
        }
        for cut in 0..words.len() {
            said(&words[..cut]);
        }
        for at in 0..segment.len() {
            for value in [0, 1, 0x1c, 0x7f, 0x80, 0xff] {
                let mut other = segment.clone();
                other[at] = value;
                if let Some(words) = in_segment(&other) {
                    said(words);
                }
            }
        }
        assert_eq!(said(&[0x1c, 2, 120, 0x80, 4, 0, 0, 0, 9]), (None, None));
    }
}
