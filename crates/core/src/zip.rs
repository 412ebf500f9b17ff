//! A zip file whose length is known before any byte of what goes into it was read, and of which any part can be made alone.
//!
//! Pictures do not get smaller, so they are stored as they are, and nothing but their checksums is missing from what can be said
//! beforehand. Those stand behind each file and in the list at the end, and are as long whatever they say. A download of 400 GB that was
//! interrupted goes on from where it was, and a browser can tell how far it is.
//!
//! The format is PKWARE's (APPNOTE 6.3.10): method 0 with a data descriptor (4.3.9), names in UTF-8 (4.4.4, bit 11), sizes and places
//! beyond 4 GB by Zip64 (4.5.3). The instant that a file was changed is in Info-ZIP's field 0x5455, because the format's own has no time
//! zone and even seconds only. Packages that write zips want to write all of one, from its beginning.

use std::{collections::HashSet, fmt::Display};

use chrono::{DateTime, Datelike, NaiveDateTime, Timelike, Utc};

/// Sizes, places and checksums of 32 bits end here: what is as large is told elsewhere.
const FULL: u32 = u32::MAX;
/// A checksum stands behind the file; the name is UTF-8.
const FLAGS: u16 = 1 << 3 | 1 << 11;
/// Version 2.0 of the format knows folders, 4.5 knows Zip64.
const PLAIN: u16 = 20;
const LARGE: u16 = 45;
/// Made on a system with the rights of Unix.
const UNIX: u16 = 3 << 8;
/// A file that its owner may write and all may read.
const RIGHTS: u32 = 0o100_644 << 16;

/// A file in a zip.
#[derive(Clone, Debug)]
pub struct Entry<'a> {
    /// Its path in the zip, with `/`; at most 65,535 bytes.
    pub name: &'a str,
    /// Its bytes.
    pub size: u64,
    /// When it was changed.
    pub changed: DateTime<Utc>,
    /// What a clock on the wall showed then.
    pub local: NaiveDateTime,
}

impl Entry<'_> {
    /// What stands before the bytes.
    pub fn head(&self) -> Vec<u8> {
        let mut head = Vec::with_capacity(64 + self.name.len());
        head.extend(0x0403_4b50u32.to_le_bytes());
        head.extend(self.version().to_le_bytes());
        self.kind(&mut head);
        // The checksum and the sizes: behind the file.
        head.extend([0; 4]);
        let sizes = if self.is_large() { FULL } else { 0 };
        head.extend([sizes.to_le_bytes(), sizes.to_le_bytes()].concat());
        let mut extra = Vec::new();
        if self.is_large() {
            field(&mut extra, 0x0001, &[0; 16]);
        }
        self.instant(&mut extra);
        self.named(&mut head, &extra);
        head.extend(self.name.as_bytes());
        head.extend(extra);
        head
    }

    /// What stands behind them: `crc` is the CRC-32 of the bytes.
    pub fn tail(&self, crc: u32) -> Vec<u8> {
        let mut tail = Vec::with_capacity(24);
        tail.extend(0x0807_4b50u32.to_le_bytes());
        tail.extend(crc.to_le_bytes());
        for _ in ["stored", "as it is"] {
            match u32::try_from(self.size) {
                Ok(size) if !self.is_large() => tail.extend(size.to_le_bytes()),
                _ => tail.extend(self.size.to_le_bytes()),
            }
        }
        tail
    }

    /// What the list at the end says of a file that starts at `starts`.
    pub fn listed(&self, starts: u64, crc: u32) -> Vec<u8> {
        let small = |n: u64| u32::try_from(n).ok().filter(|n| *n < FULL);
        let mut large = Vec::new();
        if self.is_large() {
            large.extend([self.size.to_le_bytes(), self.size.to_le_bytes()].concat());
        }
        if small(starts).is_none() {
            large.extend(starts.to_le_bytes());
        }
        let mut line = Vec::with_capacity(96 + self.name.len());
        line.extend(0x0201_4b50u32.to_le_bytes());
        let version = if large.is_empty() { PLAIN } else { LARGE };
        line.extend((UNIX | LARGE).to_le_bytes());
        line.extend(version.to_le_bytes());
        self.kind(&mut line);
        line.extend(crc.to_le_bytes());
        let size = if self.is_large() { FULL } else { small(self.size).unwrap_or(FULL) };
        line.extend([size.to_le_bytes(), size.to_le_bytes()].concat());
        let mut extra = Vec::new();
        if !large.is_empty() {
            field(&mut extra, 0x0001, &large);
        }
        self.instant(&mut extra);
        self.named(&mut line, &extra);
        // No comment, the first disk, bytes and no text.
        line.extend([0; 6]);
        line.extend(RIGHTS.to_le_bytes());
        line.extend(small(starts).unwrap_or(FULL).to_le_bytes());
        line.extend(self.name.as_bytes());
        line.extend(extra);
        line
    }

    fn is_large(&self) -> bool {
        self.size >= u64::from(FULL)
    }

    fn version(&self) -> u16 {
        if self.is_large() { LARGE } else { PLAIN }
    }

    /// Flags, method and time.
    fn kind(&self, out: &mut Vec<u8>) {
        let [time, date] = in_dos(self.local);
        out.extend([FLAGS, 0, time, date].iter().flat_map(|n| n.to_le_bytes()));
    }

    /// How long the name and what follows it are.
    fn named(&self, out: &mut Vec<u8>, extra: &[u8]) {
        for length in [self.name.len(), extra.len()] {
            out.extend(u16::try_from(length).unwrap_or(u16::MAX).to_le_bytes());
        }
    }

    /// When it was changed, if 32 bits can say it.
    fn instant(&self, extra: &mut Vec<u8>) {
        if let Ok(seconds) = i32::try_from(self.changed.timestamp()) {
            field(extra, 0x5455, &[[1].as_slice(), &seconds.to_le_bytes()].concat());
        }
    }
}

fn field(extra: &mut Vec<u8>, id: u16, value: &[u8]) {
    extra.extend(id.to_le_bytes());
    extra.extend(u16::try_from(value.len()).unwrap_or(u16::MAX).to_le_bytes());
    extra.extend(value);
}

/// Time and date as the format has them: even seconds, from 1980 to 2107.
fn in_dos(local: NaiveDateTime) -> [u16; 2] {
    let bits = |n: u32| u16::try_from(n).unwrap_or(0);
    match local.year() {
        ..1980 => [0, 1 << 5 | 1],
        2108.. => [23 << 11 | 59 << 5 | 29, 127 << 9 | 12 << 5 | 31],
        year => [
            bits(local.hour()) << 11 | bits(local.minute()) << 5 | (bits(local.second()) / 2),
            u16::try_from(year - 1980).unwrap_or(0) << 9 | bits(local.month()) << 5 | bits(local.day()),
        ],
    }
}

/// The names of the files in a zip: where each is in the library, below its member's own folder. What lies in other folders may be called
/// alike there, and on a disk that knows no capitals; no two are here.
#[derive(Debug, Default)]
pub struct Names(HashSet<String>);

/// More files of one name are told apart by a folder each.
const MOST_NUMBERED: usize = 100;

impl Names {
    /// The name of a file in the library; `id` is nobody else's.
    pub fn give(&mut self, path: &str, id: impl Display) -> String {
        let short = path.split_once('/').map_or(path, |(_, rest)| rest);
        let free = [short, path].into_iter().find(|name| self.0.insert(name.to_lowercase()));
        free.map_or_else(|| format!("{id}/{short}"), str::to_owned)
    }

    /// The name of a file without its folders: numbered, if others are called so, too.
    pub fn give_bare(&mut self, name: &str, id: impl Display) -> String {
        let (stem, ending) = name.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()).unwrap_or((name, ""));
        let dot = if ending.is_empty() { "" } else { "." };
        let numbered = (2..MOST_NUMBERED).map(|n| format!("{stem} ({n}){dot}{ending}"));
        let free = std::iter::once(name.to_owned()).chain(numbered).find(|name| self.0.insert(name.to_lowercase()));
        free.unwrap_or_else(|| format!("{id}/{name}"))
    }
}

/// Where everything is in a zip: files first, one behind the other, then the list of them.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Layout {
    count: u64,
    list_starts: u64,
    list: u64,
}

impl Layout {
    /// Adds a file. Returns where it starts.
    pub fn add(&mut self, entry: &Entry<'_>) -> u64 {
        let starts = self.list_starts;
        self.count += 1;
        self.list_starts += entry.head().len() as u64 + entry.size + entry.tail(0).len() as u64;
        self.list += entry.listed(starts, 0).len() as u64;
        starts
    }

    /// Where the list starts.
    pub fn list_starts(&self) -> u64 {
        self.list_starts
    }

    /// How long the whole zip is.
    pub fn length(&self) -> u64 {
        self.list_starts + self.list + self.end().len() as u64
    }

    /// What stands behind the list.
    pub fn end(&self) -> Vec<u8> {
        let Layout { count, list_starts, list } = *self;
        let mut end = Vec::new();
        let is_large = count >= u64::from(u16::MAX) || list >= u64::from(FULL) || list_starts >= u64::from(FULL);
        if is_large {
            end.extend(0x0606_4b50u32.to_le_bytes());
            end.extend(44u64.to_le_bytes());
            end.extend([UNIX | LARGE, LARGE].iter().flat_map(|n| n.to_le_bytes()));
            end.extend([0; 8]);
            end.extend([count, count, list, list_starts].iter().flat_map(|n| n.to_le_bytes()));
            end.extend(0x0706_4b50u32.to_le_bytes());
            end.extend([0; 4]);
            end.extend((list_starts + list).to_le_bytes());
            end.extend(1u32.to_le_bytes());
        }
        end.extend(0x0605_4b50u32.to_le_bytes());
        end.extend([0; 4]);
        let files = if is_large { u16::MAX } else { u16::try_from(count).unwrap_or(u16::MAX) };
        end.extend([files, files].iter().flat_map(|n| n.to_le_bytes()));
        for n in [list, list_starts] {
            end.extend(if is_large { FULL } else { u32::try_from(n).unwrap_or(FULL) }.to_le_bytes());
        }
        end.extend([0; 2]);
        end
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Cursor, Read, Seek, SeekFrom};

    use rstest::rstest;

    use super::*;

    fn entry(name: &str, size: u64) -> Entry<'_> {
        let changed = DateTime::from_timestamp(1_775_900_001, 0).unwrap_or_default();
        Entry { name, size, changed, local: changed.naive_utc() }
    }

    fn written(files: &[(&str, &[u8])]) -> (Vec<u8>, Layout) {
        let (mut out, mut layout, mut list) = (Vec::new(), Layout::default(), Vec::new());
        for (name, bytes) in files {
            let entry = entry(name, bytes.len() as u64);
            let crc = crc32fast::hash(bytes);
            let starts = layout.add(&entry);
            assert_eq!(starts, out.len() as u64);
            out.extend([entry.head(), bytes.to_vec(), entry.tail(crc)].concat());
            list.extend(entry.listed(starts, crc));
        }
        assert_eq!(layout.list_starts(), out.len() as u64);
        out.extend(list);
        out.extend(layout.end());
        (out, layout)
    }

    #[rstest]
    #[case::none(&[])]
    #[case::one(&[("2026/04/IMG_1.jpg", b"kite".as_slice())])]
    #[case::empty_long_and_foreign(&[("a", b"".as_slice()), ("Мельница/naïve – 水.heic", &[7; 70_000]), ("b/c", b"x")])]
    fn a_package_that_reads_zips_reads_it(#[case] files: &[(&str, &[u8])]) {
        let (bytes, layout) = written(files);
        assert_eq!(layout.length(), bytes.len() as u64);
        let mut read = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
        assert_eq!(read.len(), files.len());
        for (n, (name, expected)) in files.iter().enumerate() {
            let mut file = read.by_index(n).unwrap();
            assert_eq!((file.name().unwrap().as_ref(), file.size()), (*name, expected.len() as u64));
            assert_eq!(file.last_modified().map(|t| (t.year(), t.month(), t.day(), t.hour())), Some((2026, 4, 11, 9)));
            let mut bytes = Vec::new();
            // It compares the checksum.
            file.read_to_end(&mut bytes).unwrap();
            assert_eq!(bytes, *expected);
        }
    }

    /// A zip of which nothing is kept but what is not zero: files of any size.
    struct Sparse {
        parts: Vec<(u64, Vec<u8>)>,
        length: u64,
        at: u64,
    }

    impl Read for Sparse {
        fn read(&mut self, to: &mut [u8]) -> std::io::Result<usize> {
            let n = to.len().min(usize::try_from(self.length - self.at).unwrap_or(usize::MAX));
            to[..n].fill(0);
            for (starts, part) in &self.parts {
                for (i, byte) in part.iter().enumerate() {
                    if let Some(place) =
                        (starts + i as u64).checked_sub(self.at).and_then(|p| usize::try_from(p).ok()).filter(|p| *p < n)
                    {
                        to[place] = *byte;
                    }
                }
            }
            self.at += n as u64;
            Ok(n)
        }
    }

    impl Seek for Sparse {
        fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
            self.at = match to {
                SeekFrom::Start(at) => at,
                SeekFrom::End(by) => self.length.saturating_add_signed(by),
                SeekFrom::Current(by) => self.at.saturating_add_signed(by),
            };
            Ok(self.at)
        }
    }

    #[rstest]
    #[case::just_below(u64::from(u32::MAX) - 1)]
    #[case::at_the_limit(u64::from(u32::MAX))]
    #[case::a_film(9_000_000_000)]
    #[case::all_of_it(400_000_000_000)]
    fn a_large_one_is_read_too(#[case] size: u64) {
        let files = [entry("film.mov", size), entry("behind.jpg", 5)];
        let mut layout = Layout::default();
        let starts = files.each_ref().map(|file| layout.add(file));
        let mut parts = Vec::new();
        for (file, starts) in files.iter().zip(starts) {
            parts.push((starts, file.head()));
            parts.push((starts + file.head().len() as u64 + file.size, file.tail(1)));
        }
        let list: Vec<u8> = files.iter().zip(starts).flat_map(|(file, starts)| file.listed(starts, 1)).collect();
        parts.push((layout.list_starts(), [list, layout.end()].concat()));
        let mut read = zip::ZipArchive::new(Sparse { parts, length: layout.length(), at: 0 }).unwrap();
        let told: Vec<_> = (0..2).map(|n| read.by_index_raw(n).map(|f| (f.size(), f.header_start())).unwrap()).collect();
        assert_eq!(told, [(size, 0), (5, starts[1])]);
    }

    #[test]
    fn more_files_than_sixteen_bits_can_count() {
        let names: Vec<String> = (0..70_000).map(|n| format!("{n}")).collect();
        let files: Vec<(&str, &[u8])> = names.iter().map(|n| (n.as_str(), b"x".as_slice())).collect();
        let (bytes, _) = written(&files);
        let mut read = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
        assert_eq!(read.len(), 70_000);
        assert_eq!(read.by_name("69999").unwrap().size(), 1);
    }

    #[test]
    fn names_without_folders_are_numbered_and_never_lead_elsewhere() {
        let mut names = Names::default();
        let given: Vec<String> = ["IMG_1.jpg", "img_1.JPG", "IMG_1.jpg", "IMG_1 (2).jpg", "notes", "notes", ".hidden", ".hidden"]
            .iter()
            .enumerate()
            .map(|(n, name)| names.give_bare(name, n))
            .collect();
        let wanted =
            ["IMG_1.jpg", "img_1 (2).JPG", "IMG_1 (3).jpg", "IMG_1 (2) (2).jpg", "notes", "notes (2)", ".hidden", ".hidden (2)"];
        assert_eq!(given, wanted);
        let many: std::collections::HashSet<String> = (0..500).map(|n| names.give_bare("same.jpg", n).to_lowercase()).collect();
        assert!(many.len() == 500 && many.iter().all(|name| !name.starts_with('/')), "each is another one");
    }

    #[test]
    fn no_two_files_have_one_name() {
        let mut names = Names::default();
        let given = [
            names.give("juno/2026/04/a.jpg", 1),
            names.give("old disk/2026/04/A.JPG", 2),
            names.give("x/old disk/2026/04/a.jpg", 3),
            names.give("y/2026/04/a.jpg", 4),
            names.give("z/y/2026/04/a.jpg", 5),
            names.give("alone.jpg", 6),
        ];
        assert_eq!(
            given,
            [
                "2026/04/a.jpg",
                "old disk/2026/04/A.JPG",
                "x/old disk/2026/04/a.jpg",
                "y/2026/04/a.jpg",
                "z/y/2026/04/a.jpg",
                "alone.jpg"
            ]
        );
        assert_eq!(names.give("y/2026/04/a.jpg", 7), "7/2026/04/a.jpg");
    }

    #[rstest]
    #[case::before_the_format("1912-01-01T00:00:00", [0, 33])]
    #[case::after_it("2200-01-01T00:00:00", [0xbf7d, 0xff9f])]
    #[case::now("2026-04-11T09:33:21", [0x4c2a, 0x5c8b])]
    fn times_are_told_as_well_as_can_be(#[case] local: NaiveDateTime, #[case] told: [u16; 2]) {
        assert_eq!(in_dos(local), told);
    }
}
