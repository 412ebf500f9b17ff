//! Maker notes: the one fact that is worth taking a maker's own format apart for, the identifier that a still shares with
//! its moving half.

const HEADER: &[u8] = b"Apple iOS\0\0\x01MM";
/// ContentIdentifier, as text.
const IDENTIFIER: u16 = 0x0011;
const MOST_ENTRIES: usize = 256;

/// The pair identifier of a still, if its maker note has one. The note is a big-endian directory behind a header; offsets
/// count from the note's first byte.
pub fn pair(note: &[u8]) -> Option<String> {
    let directory = note.strip_prefix(HEADER)?;
    let u16_at = |at: usize| Some(u16::from_be_bytes(directory.get(at..at + 2)?.try_into().ok()?));
    let entries = usize::from(u16_at(0)?).min(MOST_ENTRIES);
    let entry = (0..entries).map(|i| 2 + i * 12).find(|at| u16_at(*at) == Some(IDENTIFIER))?;
    let fields = directory.get(entry..entry + 12)?;
    let number = |at: usize| u32::from_be_bytes([fields[at], fields[at + 1], fields[at + 2], fields[at + 3]]) as usize;
    let (length, offset) = (number(4), number(8));
    let text = if length <= 4 { fields.get(8..8 + length)? } else { note.get(offset..offset.checked_add(length)?)? };
    clean(text)
}

/// An identifier is short and plain, or it is none.
pub fn clean(text: &[u8]) -> Option<String> {
    let text = std::str::from_utf8(text).ok()?.trim_end_matches('\0').trim();
    let fine = (8..=64).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
    fine.then(|| text.to_ascii_uppercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(tag: u16, length: u32, offset: u32, text: &[u8]) -> Vec<u8> {
        let mut note = HEADER.to_vec();
        note.extend(1u16.to_be_bytes());
        note.extend(tag.to_be_bytes());
        note.extend(2u16.to_be_bytes());
        note.extend(length.to_be_bytes());
        note.extend(offset.to_be_bytes());
        note.extend(0u32.to_be_bytes());
        note.extend(text);
        note
    }

    #[test]
    fn the_identifier_is_found_where_the_directory_says() {
        let id = b"6f2a9c1e-0000-4000-8000-00805f9b34fb\0";
        let at = note(IDENTIFIER, 0, 0, b"").len() as u32;
        assert_eq!(pair(&note(IDENTIFIER, id.len() as u32, at, id)).unwrap(), "6F2A9C1E-0000-4000-8000-00805F9B34FB");
        assert_eq!(pair(&note(0x0012, id.len() as u32, at, id)), None);
    }

    #[test]
    fn notes_that_lie_are_no_identifier() {
        assert_eq!(pair(&note(IDENTIFIER, u32::MAX, 20, b"x")), None);
        assert_eq!(pair(&note(IDENTIFIER, 20, u32::MAX, b"x")), None);
        assert_eq!(pair(&HEADER[..10]), None);
        assert_eq!(pair(b"Another maker"), None);
        assert_eq!(clean(b"<script>alert(1)</script>"), None);
        assert_eq!(clean(b"short"), None);
    }
}
