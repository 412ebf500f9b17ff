//! The JPEG that a raw file carries for its preview, found by walking the container.
//!
//! Most raw formats are TIFF with other magic numbers; two are not. Nothing is read whole: directories are looked at with
//! bounded reads, and only the place of the largest JPEG that a viewer could show comes back.

use std::{
    collections::VecDeque,
    io::{self, Read, Seek, SeekFrom},
};

/// More directories and entries than any camera writes.
const MOST_DIRECTORIES: usize = 64;
const MOST_ENTRIES: u16 = 1024;
/// How far into a JPEG its frame header is looked for.
const HEAD: usize = 256 << 10;

/// Where the embedded JPEG is: offset and length in bytes.
pub fn find(file: &mut (impl Read + Seek)) -> Option<(u64, u64)> {
    let length = file.seek(SeekFrom::End(0)).ok()?;
    let mut head = [0u8; 96];
    read_at(file, 0, &mut head).ok()?;
    let candidates = match () {
        () if head.starts_with(b"FUJIFILMCCD-RAW") => vec![(be32(&head, 84)?, be32(&head, 88)?)],
        () if head.get(4..8) == Some(b"ftyp") => boxed(file, length),
        () => tiff(file, &head, length),
    };
    let mut best: Option<(u64, u64)> = None;
    for (at, size) in candidates {
        let inside = at.checked_add(size).is_some_and(|end| end <= length);
        if inside && size > 1024 && best.is_none_or(|(_, b)| size > b) && shows(file, at, size) {
            best = Some((at, size));
        }
    }
    best
}

fn read_at(file: &mut (impl Read + Seek), at: u64, into: &mut [u8]) -> io::Result<()> {
    file.seek(SeekFrom::Start(at))?;
    file.read_exact(into)
}

fn be32(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?).into())
}

/// Byte order of a TIFF.
#[derive(Clone, Copy)]
enum Order {
    Little,
    Big,
}

impl Order {
    fn u16(self, b: &[u8]) -> u16 {
        let b = [b[0], b[1]];
        match self {
            Order::Little => u16::from_le_bytes(b),
            Order::Big => u16::from_be_bytes(b),
        }
    }

    fn u32(self, b: &[u8]) -> u32 {
        let b = [b[0], b[1], b[2], b[3]];
        match self {
            Order::Little => u32::from_le_bytes(b),
            Order::Big => u32::from_be_bytes(b),
        }
    }
}

/// All JPEGs that the directories of a TIFF name.
fn tiff(file: &mut (impl Read + Seek), head: &[u8], length: u64) -> Vec<(u64, u64)> {
    let order = match &head[..2] {
        b"II" => Order::Little,
        b"MM" => Order::Big,
        _ => return Vec::new(),
    };
    let mut found = Vec::new();
    let mut waiting = VecDeque::from([u64::from(order.u32(&head[4..8]))]);
    let mut seen = Vec::new();
    while let Some(at) = waiting.pop_front() {
        if at == 0 || at >= length || seen.contains(&at) || seen.len() >= MOST_DIRECTORIES {
            continue;
        }
        seen.push(at);
        // A damaged directory ends its branch, not the search.
        let _ = directory(file, order, at, &mut found, &mut waiting);
    }
    found
}

fn directory(
    file: &mut (impl Read + Seek),
    order: Order,
    at: u64,
    found: &mut Vec<(u64, u64)>,
    waiting: &mut VecDeque<u64>,
) -> io::Result<()> {
    let mut count = [0u8; 2];
    read_at(file, at, &mut count)?;
    let count = order.u16(&count).min(MOST_ENTRIES);
    let mut entries = vec![0u8; usize::from(count) * 12 + 4];
    let got = {
        file.seek(SeekFrom::Start(at + 2))?;
        let mut taken = 0;
        while taken < entries.len() {
            match file.read(&mut entries[taken..])? {
                0 => break,
                n => taken += n,
            }
        }
        taken
    };
    let (mut jpeg, mut strip, mut compression) = ((0u64, 0u64), (0u64, 0u64), 0u32);
    for entry in entries[..got.min(usize::from(count) * 12)].chunks_exact(12) {
        let (tag, kind, values) = (order.u16(entry), order.u16(&entry[2..]), order.u32(&entry[4..]));
        let value = if kind == 3 { u32::from(order.u16(&entry[8..])) } else { order.u32(&entry[8..]) };
        match tag {
            0x0201 => jpeg.0 = value.into(),
            0x0202 => jpeg.1 = value.into(),
            0x0103 => compression = value,
            0x0111 if values == 1 => strip.0 = value.into(),
            0x0117 if values == 1 => strip.1 = value.into(),
            // A whole JPEG as the value of a tag.
            0x002e if kind == 7 => found.push((value.into(), values.into())),
            0x014a if values == 1 => waiting.push_back(value.into()),
            0x014a => {
                let mut list = vec![0u8; values.min(16) as usize * 4];
                read_at(file, value.into(), &mut list)?;
                waiting.extend(list.chunks_exact(4).map(|b| u64::from(order.u32(b))));
            }
            _ => {}
        }
    }
    found.push(jpeg);
    if matches!(compression, 6 | 7) {
        found.push(strip);
    }
    if got == entries.len() {
        waiting.push_back(order.u32(&entries[entries.len() - 4..]).into());
    }
    Ok(())
}

/// The preview box of a raw file that is built like a movie (ISO/IEC 14496-12): a JPEG inside a `PRVW` box.
fn boxed(file: &mut (impl Read + Seek), length: u64) -> Vec<(u64, u64)> {
    let mut at = 0u64;
    for _ in 0..MOST_DIRECTORIES {
        let mut head = [0u8; 16];
        if at + 16 > length || read_at(file, at, &mut head).is_err() {
            break;
        }
        let size = match be32(&head, 0) {
            Some(1) => u64::from_be_bytes(head[8..16].try_into().unwrap_or_default()),
            Some(0) | None => length - at,
            Some(n) => n,
        };
        if &head[4..8] == b"uuid" {
            let mut inside = vec![0u8; size.clamp(16, 4096) as usize];
            if at + inside.len() as u64 <= length && read_at(file, at, &mut inside).is_ok() {
                let box_at = inside.windows(4).position(|w| w == b"PRVW");
                let jpeg_at = box_at.and_then(|b| Some(b + inside[b..].windows(3).position(|w| w == b"\xff\xd8\xff")?));
                if let Some(jpeg_at) = jpeg_at {
                    let start = at + jpeg_at as u64;
                    return vec![(start, (at + size).saturating_sub(start))];
                }
            }
        }
        if size < 8 {
            break;
        }
        at = at.saturating_add(size);
    }
    Vec::new()
}

/// Whether there is a JPEG that a viewer can show: raw data is often a lossless JPEG, which it cannot.
fn shows(file: &mut (impl Read + Seek), at: u64, size: u64) -> bool {
    let mut head = vec![0u8; (size as usize).min(HEAD)];
    if read_at(file, at, &mut head).is_err() || !head.starts_with(b"\xff\xd8\xff") {
        return false;
    }
    let mut place = 2;
    while let Some(&[0xff, marker, high, low]) = head.get(place..place + 4).and_then(|b| <&[u8; 4]>::try_from(b).ok()) {
        match marker {
            0xc0..=0xc2 => return true,
            0xc3 | 0xc5..=0xc7 | 0xc9..=0xcb | 0xcd..=0xcf | 0xda => return false,
            0xff => place += 1,
            _ => place += 2 + usize::from(u16::from_be_bytes([high, low])),
        }
    }
    false
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;

    fn jpeg(side: u32) -> Vec<u8> {
        let picture = image::RgbImage::from_fn(side, side, |x, y| image::Rgb([(x * 7) as u8, (y * 5) as u8, (x ^ y) as u8]));
        let mut bytes = Cursor::new(Vec::new());
        picture.write_to(&mut bytes, image::ImageFormat::Jpeg).unwrap();
        bytes.into_inner()
    }

    /// A little-endian TIFF with one directory of (tag, type, count, value).
    fn tiff_with(entries: &[(u16, u16, u32, u32)], rest: &[u8]) -> Vec<u8> {
        let mut bytes = b"II*\0\x08\0\0\0".to_vec();
        bytes.extend((entries.len() as u16).to_le_bytes());
        for (tag, kind, count, value) in entries {
            bytes.extend(tag.to_le_bytes());
            bytes.extend(kind.to_le_bytes());
            bytes.extend(count.to_le_bytes());
            bytes.extend(value.to_le_bytes());
        }
        bytes.extend(0u32.to_le_bytes());
        bytes.resize(256, 0);
        bytes.extend(rest);
        bytes
    }

    #[test]
    fn the_largest_picture_that_can_be_shown_is_found() {
        let (small, large) = (jpeg(40), jpeg(200));
        let rest = [small.clone(), large.clone()].concat();
        let entries = [
            (0x0201, 4, 1, 256),
            (0x0202, 4, 1, small.len() as u32),
            (0x0103, 3, 1, 7),
            (0x0111, 4, 1, 256 + small.len() as u32),
            (0x0117, 4, 1, large.len() as u32),
        ];
        let found = find(&mut Cursor::new(tiff_with(&entries, &rest)));
        assert_eq!(found, Some((256 + small.len() as u64, large.len() as u64)));
    }

    #[test]
    fn lossless_raw_data_is_not_taken_for_a_picture() {
        let mut raw = jpeg(200);
        let frame = raw.windows(2).position(|w| w == [0xff, 0xc0]).unwrap();
        raw[frame + 1] = 0xc3;
        let entries = [(0x0103, 3, 1, 7), (0x0111, 4, 1, 256), (0x0117, 4, 1, raw.len() as u32)];
        assert_eq!(find(&mut Cursor::new(tiff_with(&entries, &raw))), None);
    }

    #[test]
    fn directories_that_lie_lead_nowhere() {
        for entries in [
            vec![(0x0201, 4, 1, 256), (0x0202, 4, 1, u32::MAX)],
            vec![(0x014a, 4, u32::MAX, 8), (0x0201, 4, 1, u32::MAX), (0x0202, 4, 1, 9000)],
            // A directory that names itself.
            vec![(0x014a, 4, 1, 8)],
        ] {
            assert_eq!(find(&mut Cursor::new(tiff_with(&entries, b""))), None);
        }
        assert_eq!(find(&mut Cursor::new(b"II*\0\xff\xff\xff\xff".to_vec())), None);
        assert_eq!(find(&mut Cursor::new(Vec::new())), None);
    }

    #[test]
    fn a_preview_box_is_found() {
        let picture = jpeg(100);
        let mut bytes = b"\0\0\0\x14ftypcrx \0\0\0\0crx ".to_vec();
        let inside = [b"0123456789abcdef\0\0\0\0\0\0\0\0PRVW\0\0\0\0".as_slice(), &picture].concat();
        bytes.extend((8 + inside.len() as u32).to_be_bytes());
        bytes.extend(b"uuid");
        bytes.extend(&inside);
        let (at, size) = find(&mut Cursor::new(bytes.clone())).unwrap();
        assert_eq!(&bytes[at as usize..(at + size) as usize], picture);
    }
}
