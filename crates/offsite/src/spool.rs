//! The spool: sealed bodies that are too large for memory, and how far each of them has come. A file of four gigabytes goes on at the part
//! where it was interrupted, whatever was killed, because its sealed bytes (which are different each time) stay until they are confirmed.
//!
//! An entry is two files named after the object: the sealed bytes, and a note in JSON beside them. The note is replaced by renaming, so
//! it is always whole; the bytes are hashed again before an entry is trusted. An entry that does not fit is thrown away and made anew.

use std::{
    fs::{self, File},
    io::{self, BufReader, BufWriter, Read, Write},
    path::{Path, PathBuf},
    time::{Duration, SystemTime},
};

use serde::{Deserialize, Serialize};
use ypogeion_core::{
    Digest,
    checksum::{Checksum, ObjectHash, ObjectHasher},
};

use crate::seal::{Both, Passed, Sealed};

/// What an earlier version left is sealed anew.
const VERSION: u32 = 2;

/// What is known of an entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Note {
    version: u32,
    name: String,
    plain: Digest,
    plain_length: u64,
    sealed: ObjectHash,
    sealed_length: u64,
    upload: Option<Upload>,
}

/// An upload in parts that a store has begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Upload {
    /// The store's name for it.
    pub(crate) id: String,
    /// The checksum that each part has. One that was begun with another begins again.
    pub(crate) checksum: Option<Checksum>,
    /// Bytes of each part but the last.
    pub(crate) part: u64,
    /// What the store said of each part that it has, by its number.
    pub(crate) parts: Vec<Option<String>>,
}

/// A sealed body.
#[derive(Debug)]
pub(crate) struct Entry {
    bytes: PathBuf,
    note: Note,
}

impl Entry {
    /// The sealed bytes.
    pub(crate) fn bytes(&self) -> &Path {
        &self.bytes
    }

    /// Both sides.
    pub(crate) fn both(&self) -> Both {
        Both {
            plain: Passed { length: self.note.plain_length, digest: self.note.plain },
            sealed: Sealed { length: self.note.sealed_length, hash: self.note.sealed },
        }
    }

    /// The upload that was begun.
    pub(crate) fn upload(&self) -> Option<&Upload> {
        self.note.upload.as_ref()
    }

    /// Notes how far the upload has come; `None`: it has to begin again.
    pub(crate) fn set_upload(&mut self, upload: Option<Upload>) -> io::Result<()> {
        self.note.upload = upload;
        write_note(&self.bytes, &self.note)
    }
}

fn note_of(bytes: &Path) -> PathBuf {
    bytes.with_extension("json")
}

fn write_note(bytes: &Path, note: &Note) -> io::Result<()> {
    let (place, new) = (note_of(bytes), bytes.with_extension("json.new"));
    fs::write(&new, serde_json::to_vec(note)?)?;
    fs::rename(new, place)
}

/// Where the sealed bytes of an object are. The last part of its name is its own.
fn place(spool: &Path, name: &str) -> PathBuf {
    spool.join(name.rsplit('/').next().unwrap_or(name))
}

/// Seals into the spool, or finds what was sealed there before for the same plaintext. Blocks.
///
/// `seal` writes the sealed bytes and says both sides. What it says of the plaintext is for the caller to judge.
pub(crate) fn seal_into(
    spool: &Path,
    name: &str,
    expected: Digest,
    seal: impl FnOnce(&mut dyn Write) -> io::Result<Both>,
) -> io::Result<Entry> {
    fs::create_dir_all(spool)?;
    let bytes = place(spool, name);
    if let Some(entry) = found(&bytes, name, expected)? {
        return Ok(entry);
    }
    forget(spool, name)?;
    let mut writer = BufWriter::with_capacity(256 << 10, File::create(&bytes)?);
    let both = seal(&mut writer)?;
    writer.flush()?;
    let note = Note {
        version: VERSION,
        name: name.to_owned(),
        plain: both.plain.digest,
        plain_length: both.plain.length,
        sealed: both.sealed.hash,
        sealed_length: both.sealed.length,
        upload: None,
    };
    write_note(&bytes, &note)?;
    Ok(Entry { bytes, note })
}

/// An entry that is whole: after a power cut, a note may be there whose bytes are not.
fn found(bytes: &Path, name: &str, expected: Digest) -> io::Result<Option<Entry>> {
    let Ok(text) = fs::read(note_of(bytes)) else { return Ok(None) };
    let Ok(note) = serde_json::from_slice::<Note>(&text) else { return Ok(None) };
    if note.version != VERSION || note.name != name || note.plain != expected {
        return Ok(None);
    }
    let mut file = match File::open(bytes) {
        Ok(file) => BufReader::with_capacity(256 << 10, file),
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(e) => return Err(e),
    };
    let (mut hasher, mut length, mut buffer) = (ObjectHasher::new(note.sealed.algorithm()), 0, vec![0; 256 << 10]);
    loop {
        match file.read(&mut buffer)? {
            0 => break,
            n => {
                hasher.update(&buffer[..n]);
                length += n as u64;
            }
        }
    }
    let whole = length == note.sealed_length && hasher.finish() == note.sealed;
    Ok(whole.then(|| Entry { bytes: bytes.to_owned(), note }))
}

/// Takes an entry away: it was confirmed and that is written down, or it is no use. None there is no fault.
pub fn forget(spool: &Path, name: &str) -> io::Result<()> {
    let bytes = place(spool, name);
    for file in [note_of(&bytes), bytes.with_extension("json.new"), bytes] {
        match fs::remove_file(file) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
            _ => {}
        }
    }
    Ok(())
}

/// Takes away what nobody has touched for so long: its original was deleted meanwhile, or its store is no more.
pub fn tidy(spool: &Path, older_than: Duration) -> io::Result<()> {
    let entries = match fs::read_dir(spool) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
        other => other?,
    };
    for entry in entries {
        let entry = entry?;
        let (path, meta) = (entry.path(), entry.metadata()?);
        let old = meta.modified().is_ok_and(|at| SystemTime::now().duration_since(at).is_ok_and(|age| age > older_than));
        if meta.is_dir() {
            tidy(&path, older_than)?;
        } else if old
            && note_of(&path)
                .metadata()
                .and_then(|m| m.modified())
                .map_or(true, |at| SystemTime::now().duration_since(at).is_ok_and(|age| age > older_than))
        {
            fs::remove_file(path)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use ypogeion_core::checksum::HashAlgorithm;

    use super::*;

    fn seal(bytes: &'static [u8]) -> impl FnOnce(&mut dyn Write) -> io::Result<Both> {
        move |out| {
            out.write_all(bytes)?;
            let sealed = Sealed { length: bytes.len() as u64, hash: ObjectHash::of(HashAlgorithm::Blake3, bytes) };
            Ok(Both { plain: Passed { length: 4, digest: Digest::of(b"kite") }, sealed })
        }
    }

    fn never(_: &mut dyn Write) -> io::Result<Both> {
        panic!("it was sealed again")
    }

    #[test]
    fn what_was_sealed_before_is_found_and_goes_on_where_it_was() {
        let spool = tempfile::tempdir().unwrap();
        let mut entry = seal_into(spool.path(), "sealed/ab/abcd.age", Digest::of(b"kite"), seal(b"sealed kite")).unwrap();
        assert!(entry.upload().is_none());
        let upload = Upload { id: "u1".into(), checksum: None, part: 16, parts: vec![Some("etag".into()), None] };
        entry.set_upload(Some(upload.clone())).unwrap();
        let again = seal_into(spool.path(), "sealed/ab/abcd.age", Digest::of(b"kite"), never).unwrap();
        assert_eq!((again.upload(), again.both()), (Some(&upload), entry.both()));
        forget(spool.path(), "sealed/ab/abcd.age").unwrap();
        assert_eq!(fs::read_dir(spool.path()).unwrap().count(), 0);
        forget(spool.path(), "sealed/ab/abcd.age").unwrap();
    }

    #[test]
    fn what_does_not_fit_is_sealed_anew() {
        let spool = tempfile::tempdir().unwrap();
        let (name, kite) = ("sealed/ab/abcd.age", Digest::of(b"kite"));
        let mut entry = seal_into(spool.path(), name, kite, seal(b"sealed kite")).unwrap();
        entry.set_upload(Some(Upload { id: "u1".into(), checksum: None, part: 16, parts: Vec::new() })).unwrap();
        // Bytes that were not on the disk yet when the power went.
        fs::write(entry.bytes(), b"sealed ki\0\0").unwrap();
        let mut entry = seal_into(spool.path(), name, kite, seal(b"sealed again")).unwrap();
        assert!(entry.upload().is_none(), "an upload of other bytes is no use");
        entry.set_upload(Some(Upload { id: "u2".into(), checksum: None, part: 16, parts: Vec::new() })).unwrap();
        // A note that was cut off, and one of a later version.
        for text in [&b"{\"version\":1,"[..], b"{\"version\":3}"] {
            fs::write(note_of(entry.bytes()), text).unwrap();
            assert!(seal_into(spool.path(), name, kite, seal(b"sealed again")).unwrap().upload().is_none());
        }
        // The original has other bytes by now.
        seal_into(spool.path(), name, Digest::of(b"weir"), seal(b"sealed weir")).unwrap();
        assert_eq!(fs::read(entry.bytes()).unwrap(), b"sealed weir");
    }

    #[test]
    fn only_what_nobody_touched_for_long_is_taken_away() {
        let spool = tempfile::tempdir().unwrap();
        let store = spool.path().join("store");
        let entry = seal_into(&store, "sealed/ab/abcd.age", Digest::of(b"kite"), seal(b"sealed kite")).unwrap();
        tidy(spool.path(), Duration::from_secs(60)).unwrap();
        assert!(entry.bytes().exists());
        let old = SystemTime::now() - Duration::from_secs(3600);
        File::options().write(true).open(entry.bytes()).unwrap().set_modified(old).unwrap();
        tidy(spool.path(), Duration::from_secs(60)).unwrap();
        assert!(entry.bytes().exists(), "its upload is still being noted");
        File::options().write(true).open(note_of(entry.bytes())).unwrap().set_modified(old).unwrap();
        tidy(spool.path(), Duration::from_secs(60)).unwrap();
        assert!(!entry.bytes().exists() && !note_of(entry.bytes()).exists());
        tidy(&spool.path().join("nowhere"), Duration::from_secs(60)).unwrap();
    }
}
