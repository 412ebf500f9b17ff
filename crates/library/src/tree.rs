//! What is in a folder tree or an archive, looked at without changing anything.
//!
//! [`walk`] tells what a tree holds, [`Tree::open`] opens one file of it, and [`read_archive`] goes through an archive from its start to
//! its end. Nothing in here writes, and no name from outside becomes a place on a disk.

use std::{
    ffi::OsStr,
    fs::{self, File, OpenOptions},
    io::{self, Read, Seek, SeekFrom},
    os::unix::{ffi::OsStrExt, fs::OpenOptionsExt},
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use ypogeion_core::adopt::{ArchiveKind, What};

use crate::{LibraryError, failed};

/// Bytes of an archive's table of contents. A million entries need about a hundred; it is held in memory while it is read.
const MOST_CONTENTS: u64 = 24 << 20;
/// A compressed archive may unpack to this many times its size before it is given up: pictures do not shrink.
const MOST_GROWTH: u64 = 200;
/// Archives that unpack to less are not held to it.
const SMALL: u64 = 1 << 30;
/// Folders within folders.
const DEEPEST: usize = 100;

/// Something in a tree or an archive.
#[derive(Clone, Debug)]
pub struct Node {
    /// From the top, as bytes: names on a disk need not be text.
    pub path: Vec<u8>,
    /// What it is.
    pub what: What,
    /// Bytes, as announced.
    pub size: u64,
    /// Bytes that it takes in its archive.
    pub packed: Option<u64>,
    /// When it was last changed, if that is known as a moment.
    pub modified: Option<SystemTime>,
}

/// A folder tree that is read and never written.
#[derive(Clone, Debug)]
pub struct Tree {
    root: PathBuf,
}

impl Tree {
    /// The tree at a folder, or the single archive there. All links on the way are resolved now, once.
    pub fn at(place: &Path) -> Result<Self, LibraryError> {
        Ok(Tree { root: place.canonicalize().map_err(failed("open", place))? })
    }

    /// Where it is.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Whether it is a single archive instead of a folder.
    pub fn archive(&self) -> Option<ArchiveKind> {
        let name = self.root.file_name()?.to_str()?;
        ArchiveKind::of(name).filter(|_| self.root.is_file())
    }

    /// Where a file of the tree is. A path that leads out of it is refused.
    pub fn locate(&self, path: &[u8]) -> Result<PathBuf, LibraryError> {
        let relative = Path::new(OsStr::from_bytes(path));
        let inside = relative.components().all(|c| matches!(c, std::path::Component::Normal(_)));
        if !inside {
            let source = io::Error::new(io::ErrorKind::InvalidInput, "this path leads out of its folder");
            return Err(LibraryError::Io { what: "open", path: relative.to_owned(), source });
        }
        Ok(self.root.join(relative))
    }

    /// Opens a file of the tree for reading. A link is not followed.
    pub fn open(&self, path: &[u8]) -> Result<File, LibraryError> {
        let place = self.locate(path)?;
        // No folder on the way may have become a link since it was walked.
        if place.canonicalize().map_err(failed("open", &place))? != place {
            return Err(LibraryError::Missing { what: "open", path: place });
        }
        let no_follow = rustix::fs::OFlags::NOFOLLOW.bits() as i32;
        let file = OpenOptions::new().read(true).custom_flags(no_follow).open(&place).map_err(failed("open", &place))?;
        if !file.metadata().map_err(failed("look at", &place))?.is_file() {
            return Err(LibraryError::Missing { what: "open", path: place });
        }
        Ok(file)
    }

    /// Tells everything below the folder, folders themselves left out. `skip` are places that are not entered: the library, if it
    /// lies inside. What cannot be listed is told with its reason, and the rest goes on. `tell` says `false` to stop.
    pub fn walk(&self, skip: &[PathBuf], tell: &mut dyn FnMut(Result<Node, LibraryError>) -> bool) {
        let mut folders = vec![(PathBuf::new(), 0)];
        while let Some((folder, depth)) = folders.pop() {
            let here = self.root.join(&folder);
            let entries = match fs::read_dir(&here) {
                Ok(entries) => entries,
                Err(e) => {
                    if !tell(Err(failed("list", &here)(e))) {
                        return;
                    }
                    continue;
                }
            };
            for entry in entries {
                let told = entry.map_err(failed("list", &here)).and_then(|entry| {
                    let path = folder.join(entry.file_name());
                    // Of a link itself, not of what it points to.
                    let meta = entry.metadata().map_err(failed("look at", entry.path()))?;
                    if meta.is_dir() {
                        if depth < DEEPEST && !skip.contains(&self.root.join(&path)) {
                            folders.push((path, depth + 1));
                        }
                        return Ok(None);
                    }
                    Ok(Some(Node {
                        path: path.as_os_str().as_bytes().to_owned(),
                        what: if meta.is_file() { What::File } else { What::NoFile },
                        size: meta.len(),
                        packed: None,
                        modified: meta.modified().ok().filter(|m| is_a_time(*m)),
                    }))
                });
                if let Some(told) = told.transpose()
                    && !tell(told)
                {
                    return;
                }
            }
        }
    }
}

/// Goes through an archive. `take` gets each entry and a reader of its bytes, which it may read or leave; it says `false` to stop.
///
/// # Errors
/// If the archive cannot be read, is cut off, or would grow beyond reason. What came before was told.
pub fn read_archive(
    file: File,
    kind: ArchiveKind,
    name: &Path,
    take: &mut dyn FnMut(&Node, &mut dyn Read) -> bool,
) -> Result<(), LibraryError> {
    match kind {
        ArchiveKind::Zip => read_zip(file, take),
        ArchiveKind::Tar => read_tar(io::BufReader::with_capacity(256 << 10, file), take),
        ArchiveKind::TarGz => {
            let packed = file.metadata().map_err(failed("look at", name))?.len();
            let most = packed.saturating_mul(MOST_GROWTH).max(SMALL);
            let unpacked = flate2::read::MultiGzDecoder::new(io::BufReader::with_capacity(256 << 10, file));
            read_tar(Bounded { inner: unpacked, left: most }, take)
        }
    }
    .map_err(|source| LibraryError::Io { what: "read the archive", path: name.to_owned(), source })
}

fn read_zip(mut file: File, take: &mut dyn FnMut(&Node, &mut dyn Read) -> bool) -> io::Result<()> {
    let contents = contents_of_zip(&mut file)?;
    if contents > MOST_CONTENTS {
        return Err(io::Error::other("its table of contents is too large to be read safely; unpack it and adopt the folder"));
    }
    let mut archive = zip::ZipArchive::new(io::BufReader::with_capacity(256 << 10, file)).map_err(of_zip)?;
    for n in 0..archive.len() {
        let node = {
            let entry = archive.by_index_raw(n).map_err(of_zip)?;
            if entry.is_dir() {
                continue;
            }
            Node {
                // Its text, if it has one; a name in no known code keeps its bytes.
                path: entry.name().map_or_else(|_| entry.name_raw().to_owned(), |n| n.as_bytes().to_owned()),
                what: match (entry.is_file(), entry.encrypted()) {
                    (false, _) => What::NoFile,
                    (true, true) => What::Locked,
                    (true, false) => What::File,
                },
                size: entry.size(),
                packed: Some(entry.compressed_size()),
                // A clock on some wall, two seconds at a time: the sidecar or the picture knows better.
                modified: None,
            }
        };
        let go_on = if node.what == What::File {
            match archive.by_index(n) {
                // Never more than was announced, whatever the compressed bytes hold.
                Ok(entry) => take(&node, &mut Bounded { inner: entry, left: node.size }),
                Err(e) => take(&node, &mut Broken(Some(of_zip(e)))),
            }
        } else {
            take(&node, &mut io::empty())
        };
        if !go_on {
            break;
        }
    }
    Ok(())
}

fn of_zip(error: zip::result::ZipError) -> io::Error {
    match error {
        zip::result::ZipError::Io(e) => e,
        other => io::Error::new(io::ErrorKind::InvalidData, other.to_string()),
    }
}

/// How large a ZIP's table of contents says it is (APPNOTE.TXT, 4.3.14 to 4.3.16), before anything is read into memory.
fn contents_of_zip(file: &mut File) -> io::Result<u64> {
    const LONGEST_END: u64 = 22 + 65_535;
    let length = file.seek(SeekFrom::End(0))?;
    let start = length.saturating_sub(LONGEST_END + 20);
    file.seek(SeekFrom::Start(start))?;
    let mut tail = Vec::new();
    file.take(LONGEST_END + 20).read_to_end(&mut tail)?;
    file.seek(SeekFrom::Start(0))?;
    let no_end = || io::Error::new(io::ErrorKind::InvalidData, "it has no end; it may have been cut off on its way");
    let at = tail.windows(4).rposition(|w| w == b"PK\x05\x06").ok_or_else(no_end)?;
    let size = tail.get(at + 12..at + 16).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes).ok_or_else(no_end)?;
    if size < u32::MAX {
        return Ok(u64::from(size));
    }
    let locator =
        at.checked_sub(20).and_then(|l| tail.get(l..l + 16)).filter(|l| l.starts_with(b"PK\x06\x07")).ok_or_else(no_end)?;
    let place = u64::from_le_bytes(locator[8..16].try_into().map_err(|_| no_end())?);
    let mut record = [0; 48];
    file.seek(SeekFrom::Start(place))?;
    file.read_exact(&mut record)?;
    file.seek(SeekFrom::Start(0))?;
    Ok(u64::from_le_bytes(record[40..48].try_into().map_err(|_| no_end())?))
}

fn read_tar(reader: impl Read, take: &mut dyn FnMut(&Node, &mut dyn Read) -> bool) -> io::Result<()> {
    let mut archive = tar::Archive::new(reader);
    for entry in archive.entries()? {
        let mut entry = entry?;
        let kind = entry.header().entry_type();
        if kind.is_dir() || kind.is_pax_global_extensions() {
            continue;
        }
        let seconds = entry.header().mtime().ok();
        let node = Node {
            path: entry.path_bytes().into_owned(),
            what: if kind.is_file() || kind.is_contiguous() { What::File } else { What::NoFile },
            size: entry.size(),
            packed: Some(entry.size()),
            modified: seconds.and_then(|s| SystemTime::UNIX_EPOCH.checked_add(Duration::from_secs(s))).filter(|m| is_a_time(*m)),
        };
        if !take(&node, &mut entry) {
            break;
        }
    }
    Ok(())
}

/// Whether a file's time can be written as a date of four digits. Headers can hold times beyond that, which no calendar here knows.
fn is_a_time(time: SystemTime) -> bool {
    const YEAR_10000: u64 = 253_402_300_800;
    time.duration_since(SystemTime::UNIX_EPOCH).map_or(true, |since| since.as_secs() < YEAR_10000)
}

/// Reads no more than so many bytes; more is an error and not an end.
struct Bounded<R> {
    inner: R,
    left: u64,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.left = self.left.checked_sub(n as u64).ok_or_else(|| io::Error::other("it unpacks to more than it should"))?;
        Ok(n)
    }
}

/// Something that cannot be read, and says why.
struct Broken(Option<io::Error>);

impl Read for Broken {
    fn read(&mut self, _buffer: &mut [u8]) -> io::Result<usize> {
        self.0.take().map_or(Ok(0), Err)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn names(nodes: &[Node]) -> Vec<String> {
        let mut names: Vec<String> =
            nodes.iter().map(|n| format!("{} {:?} {}", String::from_utf8_lossy(&n.path), n.what, n.size)).collect();
        names.sort();
        names
    }

    fn walk(tree: &Tree, skip: &[PathBuf]) -> Vec<Node> {
        let mut nodes = Vec::new();
        tree.walk(skip, &mut |node| {
            nodes.push(node.unwrap());
            true
        });
        nodes
    }

    fn archive(bytes: &[u8]) -> (tempfile::TempDir, PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a");
        fs::write(&path, bytes).unwrap();
        (folder, path)
    }

    type Read1 = Result<Vec<u8>, String>;

    fn read(path: &Path, kind: ArchiveKind) -> (Vec<Node>, Vec<Read1>, Result<(), LibraryError>) {
        let (mut nodes, mut bytes) = (Vec::new(), Vec::new());
        let end = read_archive(File::open(path).unwrap(), kind, path, &mut |node, reader| {
            let mut all = Vec::new();
            bytes.push(reader.read_to_end(&mut all).map(|_| all).map_err(|e| e.to_string()));
            nodes.push(node.clone());
            true
        });
        (nodes, bytes, end)
    }

    fn zip_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
        let mut writer = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
        for (name, bytes) in entries {
            let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
            writer.start_file(*name, options).unwrap();
            writer.write_all(bytes).unwrap();
        }
        writer.finish().unwrap().into_inner()
    }

    #[test]
    fn a_tree_is_told_without_following_links() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().join("disk");
        fs::create_dir_all(root.join("2019/Rome")).unwrap();
        fs::create_dir_all(root.join("library")).unwrap();
        fs::write(root.join("2019/Rome/a.jpg"), b"kite").unwrap();
        fs::write(root.join("library/b.jpg"), b"ours").unwrap();
        fs::write(folder.path().join("secret"), b"secret").unwrap();
        std::os::unix::fs::symlink(folder.path().join("secret"), root.join("link.jpg")).unwrap();
        std::os::unix::fs::symlink(folder.path(), root.join("up")).unwrap();
        let tree = Tree::at(&root).unwrap();
        let found = names(&walk(&tree, &[tree.root().join("library")]));
        assert_eq!(found.len(), 3);
        assert_eq!(found[0], "2019/Rome/a.jpg File 4");
        assert!(found[1].starts_with("link.jpg NoFile") && found[2].starts_with("up NoFile"), "{found:?}");
        assert!(tree.open(b"link.jpg").is_err());
        fs::create_dir_all(root.join("turned")).unwrap();
        fs::remove_dir(root.join("turned")).unwrap();
        std::os::unix::fs::symlink(folder.path(), root.join("turned")).unwrap();
        assert!(tree.open(b"turned/secret").is_err(), "a folder that has become a link leads nowhere");
        assert!(tree.open(b"../secret").is_err() && tree.open(b"/etc/passwd").is_err() && tree.open(b"2019").is_err());
        let mut text = String::new();
        tree.open(b"2019/Rome/a.jpg").unwrap().read_to_string(&mut text).unwrap();
        assert_eq!(text, "kite");
    }

    #[test]
    fn archives_are_read_from_start_to_end() {
        let (_folder, path) = archive(&zip_of(&[("Album/a.jpg", b"kite"), ("../up.jpg", b"weir")]));
        let (nodes, bytes, end) = read(&path, ArchiveKind::Zip);
        end.unwrap();
        assert_eq!(names(&nodes), ["../up.jpg File 4", "Album/a.jpg File 4"]);
        assert_eq!(bytes, [Ok(b"kite".to_vec()), Ok(b"weir".to_vec())]);

        let mut builder = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_gnu();
        header.set_size(4);
        header.set_mtime(1_700_000_000);
        builder.append_data(&mut header, "Album/a.jpg", &b"kite"[..]).unwrap();
        let mut link = tar::Header::new_gnu();
        link.set_entry_type(tar::EntryType::Symlink);
        link.set_size(0);
        builder.append_link(&mut link, "b.jpg", "/etc/passwd").unwrap();
        let tarred = builder.into_inner().unwrap();
        let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packer.write_all(&tarred).unwrap();
        for (bytes, kind) in [(tarred, ArchiveKind::Tar), (packer.finish().unwrap(), ArchiveKind::TarGz)] {
            let (_folder, path) = archive(&bytes);
            let (nodes, bytes, end) = read(&path, kind);
            end.unwrap();
            assert_eq!(names(&nodes), ["Album/a.jpg File 4", "b.jpg NoFile 0"]);
            assert_eq!(bytes[0], Ok(b"kite".to_vec()));
            let time = SystemTime::UNIX_EPOCH + Duration::from_secs(1_700_000_000);
            assert_eq!(nodes[0].modified, Some(time));
        }
    }

    #[test]
    fn an_absurd_time_is_no_time_and_the_rest_goes_on() {
        let mut builder = tar::Builder::new(Vec::new());
        for (name, time) in [("a.jpg", u64::MAX >> 1), ("b.jpg", 253_402_300_800), ("c.jpg", 1_700_000_000)] {
            let mut header = tar::Header::new_gnu();
            header.set_size(4);
            header.set_mtime(time);
            builder.append_data(&mut header, name, &b"kite"[..]).unwrap();
        }
        let (_folder, path) = archive(&builder.into_inner().unwrap());
        let (nodes, _, end) = read(&path, ArchiveKind::Tar);
        end.unwrap();
        assert_eq!(nodes.iter().map(|n| n.modified.is_some()).collect::<Vec<_>>(), [false, false, true]);
    }

    #[test]
    fn an_entry_gives_no_more_than_it_announced() {
        let mut bytes = zip_of(&[("a.jpg", &[7; 5000])]);
        // The announced size, in the table of contents and in front of the bytes.
        for at in (0..bytes.len() - 4).filter(|&at| bytes[at..].starts_with(&5000u32.to_le_bytes())).collect::<Vec<_>>() {
            bytes[at..at + 4].copy_from_slice(&40u32.to_le_bytes());
        }
        let (_folder, path) = archive(&bytes);
        let (nodes, bytes, _) = read(&path, ArchiveKind::Zip);
        assert_eq!(nodes[0].size, 40);
        assert!(bytes[0].is_err(), "{bytes:?}");
    }

    #[test]
    fn what_is_no_archive_or_was_cut_off_is_said() {
        let whole = zip_of(&[("a.jpg", b"kite"), ("b.jpg", b"weir")]);
        let (_folder, cut) = archive(&whole[..whole.len() - 30]);
        let (_, _, end) = read(&cut, ArchiveKind::Zip);
        assert!(crate::tests::chain(&end.unwrap_err()).contains("cut off"));
        for kind in [ArchiveKind::Zip, ArchiveKind::Tar, ArchiveKind::TarGz] {
            let (_folder, nonsense) = archive(&[42; 3000]);
            assert!(read(&nonsense, kind).2.is_err());
        }
        // A table of contents that claims to be enormous is not read.
        let mut claims = whole;
        let at = claims.len() - 22 + 12;
        claims[at..at + 4].copy_from_slice(&0x7fff_ffffu32.to_le_bytes());
        let (_folder, claims) = archive(&claims);
        assert!(crate::tests::chain(&read(&claims, ArchiveKind::Zip).2.unwrap_err()).contains("too large"));
    }

    #[test]
    fn a_compressed_archive_does_not_grow_without_end() {
        let mut bounded = Bounded { inner: io::repeat(0), left: 1 << 20 };
        assert!(io::copy(&mut bounded, &mut io::sink()).is_err());
    }
}
