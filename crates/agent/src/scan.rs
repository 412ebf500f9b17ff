//! What is in the sources.

use std::{
    fs::{File, Metadata},
    io::{self, Read},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};

use chrono::{DateTime, Utc};
use walkdir::WalkDir;
use ypogeion_core::{
    Digest, Hasher,
    source::{self as rule, Sort},
};

use crate::{cache::Stamp, home::Source};

/// A file of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Where it is.
    pub path: PathBuf,
    /// The source it is in.
    pub source: String,
    /// Its path inside the source.
    pub name: String,
    /// What tells whether it changes.
    pub stamp: Stamp,
}

impl Found {
    /// Its modification time.
    pub fn file_time(&self) -> Option<DateTime<Utc>> {
        DateTime::from_timestamp(self.stamp.seconds, self.stamp.nanos)
    }

    /// Its path as the cache knows it.
    pub fn key(&self) -> String {
        self.path.to_string_lossy().into_owned()
    }
}

/// Something in a source that is not sent, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// The source.
    pub source: String,
    /// Its path inside the source.
    pub name: String,
    /// Why, for a person.
    pub reason: String,
    /// Whether that is a failure, or as it should be.
    pub failed: bool,
}

/// What tells whether a file changes.
pub fn stamp(meta: &Metadata) -> Stamp {
    Stamp { size: meta.len(), seconds: meta.mtime(), nanos: u32::try_from(meta.mtime_nsec()).unwrap_or(0), inode: meta.ino() }
}

/// Walks a source. Hidden files and folders are passed over; links are not followed, so that nothing outside is sent.
pub fn walk(source: &Source, mut found: impl FnMut(Found), mut left_out: impl FnMut(LeftOut)) {
    let inside = |path: &Path| path.strip_prefix(&source.folder).unwrap_or(path).to_string_lossy().into_owned();
    let hidden = |e: &walkdir::DirEntry| e.depth() > 0 && e.file_name().as_encoded_bytes().first() == Some(&b'.');
    for entry in WalkDir::new(&source.folder).into_iter().filter_entry(|e| !hidden(e)) {
        let out = |name: String, reason: String, failed| LeftOut { source: source.name.clone(), name, reason, failed };
        match entry {
            Ok(entry) if entry.file_type().is_dir() => {}
            Ok(entry) if !entry.file_type().is_file() => {
                left_out(out(inside(entry.path()), "it is a link or a special file".to_owned(), false));
            }
            Ok(entry) => match entry.metadata() {
                Ok(meta) => {
                    let name = inside(entry.path());
                    if let Err(why) = chosen(source, entry.path(), &name, &meta) {
                        left_out(out(name, why.to_string(), false));
                        continue;
                    }
                    found(Found { source: source.name.clone(), name, stamp: stamp(&meta), path: entry.into_path() });
                }
                Err(e) => left_out(out(inside(entry.path()), e.to_string(), true)),
            },
            Err(e) => {
                let name = e.path().map_or_else(String::new, inside);
                let reason = e.io_error().map_or_else(|| e.to_string(), |io| io.to_string());
                left_out(out(name, format!("it could not be read: {reason}"), true));
            }
        }
    }
}

/// Asks the source's rule about a file.
fn chosen(source: &Source, path: &Path, name: &str, meta: &Metadata) -> Result<(), rule::LeftOut> {
    let rule = &source.rule;
    if !rule.is_partial() {
        return Ok(());
    }
    // Only where it matters: looking for a neighbour costs a few questions to the disk.
    let told_apart = rule.sorts.contains(&Sort::Videos) != rule.sorts.contains(&Sort::MotionHalves);
    let beside_still = told_apart && Sort::of(name, false) == Sort::Videos && has_still(path);
    let stamp = stamp(meta);
    let modified = DateTime::from_timestamp(stamp.seconds, stamp.nanos);
    rule.check(&rule::Seen { path: name, sort: Sort::of(name, beside_still), modified })
}

/// Whether a still picture of the same name lies beside a video.
fn has_still(video: &Path) -> bool {
    ["heic", "HEIC", "jpg", "JPG", "jpeg", "JPEG"].iter().any(|extension| video.with_extension(extension).exists())
}

/// Hashes a file; says if it changed meanwhile.
pub fn hash(file: &Found) -> io::Result<Digest> {
    let mut open = File::open(&file.path)?;
    let mut hasher = Hasher::new();
    let mut buffer = vec![0; 256 << 10];
    loop {
        match open.read(&mut buffer) {
            Ok(0) => break,
            Ok(n) => hasher.update(&buffer[..n]),
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    if stamp(&open.metadata()?) != file.stamp {
        return Err(io::Error::other("it changed while it was read; the next backup sends it"));
    }
    Ok(hasher.finish())
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn a_walk_finds_files_and_says_what_it_leaves_out() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir_all(folder.path().join("2026/.trash")).unwrap();
        fs::write(folder.path().join("2026/a.jpg"), b"kite").unwrap();
        fs::write(folder.path().join("2026/.trash/b.jpg"), b"gone").unwrap();
        std::os::unix::fs::symlink("/etc/passwd", folder.path().join("link")).unwrap();
        let source = Source::new("Pictures", folder.path());
        let (mut found, mut out) = (Vec::new(), Vec::new());
        walk(&source, |f| found.push(f), |o| out.push(o));
        assert_eq!(found.iter().map(|f| f.name.as_str()).collect::<Vec<_>>(), ["2026/a.jpg"]);
        assert_eq!(out.iter().map(|o| (o.name.as_str(), o.failed)).collect::<Vec<_>>(), [("link", false)]);
        assert_eq!(hash(&found[0]).unwrap(), Digest::of(b"kite"));
        fs::write(&found[0].path, b"another kite").unwrap();
        assert!(hash(&found[0]).unwrap_err().to_string().contains("changed"));
    }

    #[test]
    fn a_rule_leaves_out_and_says_why() {
        let folder = tempfile::tempdir().unwrap();
        for name in ["IMG_1.HEIC", "IMG_1.MOV", "clip.MOV", "notes.txt"] {
            fs::write(folder.path().join(name), name).unwrap();
        }
        let mut source = Source::new("Camera", folder.path());
        source.rule.sorts = [Sort::Photos, Sort::Videos].into();
        let (mut found, mut out) = (Vec::new(), Vec::new());
        walk(&source, |f| found.push(f.name), |o| out.push(format!("{}: {}", o.name, o.reason)));
        found.sort();
        out.sort();
        assert_eq!(found, ["IMG_1.HEIC", "clip.MOV"]);
        assert_eq!(
            out,
            ["IMG_1.MOV: motion-halves are not backed up from here", "notes.txt: others are not backed up from here"]
        );
    }

    #[test]
    fn a_source_that_is_gone_is_a_failure() {
        let source = Source::new("Card", Path::new("/no/such/card"));
        let mut out = Vec::new();
        walk(&source, |_| panic!("nothing is there"), |o| out.push(o));
        assert!(out[0].failed);
    }
}
