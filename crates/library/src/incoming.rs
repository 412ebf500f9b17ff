//! Bytes on their way in.
//!
//! Each upload is a file `<id>.part`, and beside it a note `<id>.mark` of how much of it is known to have reached the disk,
//! and during which run of the machine it was written. While the machine keeps running, the kernel holds what was
//! written even if this process is killed, and the file's length tells the truth. After a power cut only the marked part
//! does: the rest is cut off and sent again.

use std::{
    collections::HashMap,
    fs::{self, File, OpenOptions},
    io::{self, Read, Write},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
    time::SystemTime,
};

use ypogeion_core::{Digest, Hasher, UploadId};

use crate::{LibraryError, Presence};

/// Written bytes are forced to the disk at least this often, so that a power cut costs at most this much sending.
const MARK_EVERY: u64 = 64 << 20;

/// The running hash of a part, and how far it has come.
type Progress = (u64, Hasher);

/// The folder of unfinished uploads.
#[derive(Clone)]
pub struct Incoming {
    folder: PathBuf,
    boot: Arc<str>,
    /// Hashes of parts whose next bytes are expected soon. Only a saving: a part that is not in here is read again.
    progress: Arc<Mutex<HashMap<UploadId, Progress>>>,
    presence: Arc<Presence>,
}

/// A part as it is on the disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Part {
    /// Whose upload.
    pub id: UploadId,
    /// Bytes that are there and will not be asked for again.
    pub length: u64,
}

/// Takes the next bytes of one part. Only one may exist for a part at a time; the caller sees to that.
pub struct PartWriter {
    incoming: Incoming,
    id: UploadId,
    file: File,
    at: u64,
    marked: u64,
    hasher: Hasher,
    before: Progress,
}

/// A part that has all its bytes. Holding it is the proof that they were hashed.
pub struct Finished {
    /// Whose upload.
    pub id: UploadId,
    /// SHA-256 of all bytes.
    pub digest: Digest,
    /// Their number.
    pub length: u64,
    pub(crate) path: PathBuf,
    pub(crate) file: File,
    presence: Arc<Presence>,
}

impl Incoming {
    /// The folder is made when it is needed first: the library may be away now.
    pub(crate) fn of(folder: PathBuf, presence: Arc<Presence>) -> Self {
        // Differs after every start of the machine (Linux). Where it cannot be read, every start counts as a power cut.
        let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
        Incoming { folder, boot: boot.trim().into(), progress: Arc::default(), presence }
    }

    /// Makes the folder, if the library is there and has none.
    fn make_folder(&self) -> Result<(), LibraryError> {
        self.presence.check()?;
        fs::create_dir_all(&self.folder).map_err(self.presence.failed("create", &self.folder))
    }

    /// Where a part is, for reading facts from it.
    pub fn path(&self, id: UploadId) -> PathBuf {
        self.folder.join(format!("{id}.part"))
    }

    fn mark_path(&self, id: UploadId) -> PathBuf {
        self.folder.join(format!("{id}.mark"))
    }

    /// Makes an empty part. An existing one is an error: ids are never used twice.
    pub fn create(&self, id: UploadId) -> Result<(), LibraryError> {
        let path = self.path(id);
        if !self.folder.is_dir() {
            self.make_folder()?;
        }
        OpenOptions::new().write(true).create_new(true).open(&path).map_err(self.presence.failed("create", &path))?;
        Ok(())
    }

    /// How much of a part is there. Cuts off what a power cut made doubtful.
    pub fn part(&self, id: UploadId) -> Result<Part, LibraryError> {
        let path = self.path(id);
        let length = fs::metadata(&path).map_err(self.presence.failed("look at", &path))?.len();
        let mark = self.read_mark(id);
        let sure = match &mark {
            Some((boot, _)) if !boot.is_empty() && **boot == *self.boot => length,
            Some((_, marked)) => length.min(*marked),
            // Nothing was ever marked: either it was created during this run of the machine, or nothing is sure.
            None if self.written_since_boot(&path) => length,
            None => 0,
        };
        if sure < length {
            self.shorten(id, sure)?;
        }
        Ok(Part { id, length: sure })
    }

    /// Cuts a part off at `length`: what comes after it is sent again. Nobody may be writing to it.
    pub fn shorten(&self, id: UploadId, length: u64) -> Result<(), LibraryError> {
        let path = self.path(id);
        let file = OpenOptions::new().write(true).open(&path).map_err(self.presence.failed("open", &path))?;
        self.lock().remove(&id);
        file.set_len(length).and_then(|()| file.sync_all()).map_err(self.presence.failed("shorten", &path))?;
        self.lower_mark(id, length)
    }

    /// Starts writing at `offset`, which must be the part's length.
    pub fn writer(&self, id: UploadId, offset: u64) -> Result<PartWriter, LibraryError> {
        let path = self.path(id);
        let mut file = OpenOptions::new().read(true).write(true).open(&path).map_err(self.presence.failed("open", &path))?;
        if self.read_mark(id).is_some_and(|(boot, _)| *boot != *self.boot) {
            // Written during an earlier run of the machine, and looked at since: what is there is sure. Were the mark left as it is,
            // a look from now on would take what is about to be written for doubtful, and cut it off.
            self.write_mark(id, offset);
        }
        let kept = self.lock().remove(&id).filter(|(at, _)| *at == offset);
        let hasher = match kept {
            Some((_, hasher)) => hasher,
            None => hash_start(&mut file, offset).map_err(self.presence.failed("read", &path))?,
        };
        Ok(PartWriter { incoming: self.clone(), id, file, at: offset, marked: offset, before: (offset, hasher.clone()), hasher })
    }

    /// Removes a part for good, after it has landed elsewhere or was given up.
    pub fn remove(&self, id: UploadId) -> Result<(), LibraryError> {
        self.forget(id);
        let path = self.path(id);
        match fs::remove_file(&path).map_err(self.presence.failed("remove", &path)) {
            Err(LibraryError::Missing { .. }) => Ok(()),
            other => other,
        }
    }

    /// Drops what is remembered about a part beside the part itself.
    pub(crate) fn forget(&self, id: UploadId) {
        self.lock().remove(&id);
        // A mark without its part means nothing, and the next start removes it.
        let _ = fs::remove_file(self.mark_path(id));
    }

    /// The ids of all parts on the disk. Removes marks whose part is gone.
    pub fn list(&self) -> Result<Vec<UploadId>, LibraryError> {
        let mut ids = Vec::new();
        if !self.folder.is_dir() {
            self.make_folder()?;
        }
        for entry in fs::read_dir(&self.folder).map_err(self.presence.failed("list", &self.folder))? {
            let path = entry.map_err(self.presence.failed("list", &self.folder))?.path();
            let id = path.file_stem().and_then(|s| s.to_str()).and_then(|s| s.parse::<UploadId>().ok());
            match (id, path.extension().and_then(|e| e.to_str())) {
                (Some(id), Some("part")) => ids.push(id),
                (Some(id), Some("mark")) if !self.path(id).exists() => self.forget(id),
                _ => {}
            }
        }
        Ok(ids)
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<UploadId, Progress>> {
        self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn read_mark(&self, id: UploadId) -> Option<(String, u64)> {
        let text = fs::read_to_string(self.mark_path(id)).ok()?;
        let (boot, length) = text.trim().split_once(' ')?;
        Some((boot.to_owned(), length.parse().ok()?))
    }

    /// Not synced itself: a lost mark costs sending, and a mark is written only after the bytes it speaks of are safe.
    fn write_mark(&self, id: UploadId, length: u64) {
        let _ = fs::write(self.mark_path(id), format!("{} {length}\n", self.boot));
    }

    /// What was marked beyond this is not sure any more: other bytes come in its place. That is on the disk before they are, or a power cut
    /// would leave the old mark beside half of the new bytes.
    fn lower_mark(&self, id: UploadId, length: u64) -> Result<(), LibraryError> {
        let path = self.mark_path(id);
        let write = || {
            let mut file = File::create(&path)?;
            file.write_all(format!("{} {length}\n", self.boot).as_bytes())?;
            file.sync_all()
        };
        // Without room for it there is none: then nothing counts as sure after a power cut.
        let lowered = write().or_else(|_| fs::remove_file(&path).and_then(|()| File::open(&self.folder)?.sync_all()));
        lowered.map_err(self.presence.failed("write", &path))
    }

    fn written_since_boot(&self, path: &Path) -> bool {
        let up = fs::read_to_string("/proc/uptime").ok().and_then(|t| t.split(' ').next().and_then(|s| s.parse::<f64>().ok()));
        let modified = fs::metadata(path).and_then(|m| m.modified());
        match (up, modified) {
            (Some(up), Ok(modified)) => SystemTime::now().duration_since(modified).is_ok_and(|age| age.as_secs_f64() < up),
            _ => false,
        }
    }
}

fn hash_start(file: &mut File, length: u64) -> io::Result<Hasher> {
    let mut hasher = Hasher::new();
    let mut buffer = vec![0; 256 << 10];
    let mut start = file.take(length);
    loop {
        match start.read(&mut buffer)? {
            0 => break,
            n => hasher.update(&buffer[..n]),
        }
    }
    if start.limit() > 0 {
        return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the part is shorter than its offset"));
    }
    Ok(hasher)
}

impl PartWriter {
    /// The offset after the last byte taken.
    pub fn at(&self) -> u64 {
        self.at
    }

    /// Takes the next bytes.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), LibraryError> {
        self.file.write_all_at(bytes, self.at).map_err(self.incoming.presence.failed("write", self.incoming.path(self.id)))?;
        self.hasher.update(bytes);
        self.at += bytes.len() as u64;
        if self.at - self.marked >= MARK_EVERY {
            self.mark()?;
        }
        Ok(())
    }

    fn mark(&mut self) -> Result<(), LibraryError> {
        self.file.sync_data().map_err(self.incoming.presence.failed("sync", self.incoming.path(self.id)))?;
        self.incoming.write_mark(self.id, self.at);
        self.marked = self.at;
        Ok(())
    }

    /// Ends this writing before the part is complete; what was taken stays.
    pub fn pause(mut self) -> Result<Part, LibraryError> {
        self.mark()?;
        self.incoming.lock().insert(self.id, (self.at, self.hasher));
        Ok(Part { id: self.id, length: self.at })
    }

    /// Takes back everything since this writer was made: the bytes did not have the checksum that came with them.
    pub fn take_back(self) -> Result<Part, LibraryError> {
        let (length, hasher) = self.before;
        let shortened = self.file.set_len(length).and_then(|()| self.file.sync_all());
        shortened.map_err(self.incoming.presence.failed("shorten", self.incoming.path(self.id)))?;
        self.incoming.lower_mark(self.id, length)?;
        self.incoming.lock().insert(self.id, (length, hasher));
        Ok(Part { id: self.id, length })
    }

    /// All bytes are there. They are not synced yet; [`Finished::seal`] does that once the file's time is known.
    pub fn finish(self) -> Finished {
        let path = self.incoming.path(self.id);
        Finished {
            id: self.id,
            digest: self.hasher.finish(),
            length: self.at,
            path,
            file: self.file,
            presence: Arc::clone(&self.incoming.presence),
        }
    }
}

impl Finished {
    /// Sets the file's time and forces everything to the disk.
    pub fn seal(&self, time: SystemTime) -> Result<(), LibraryError> {
        // Times before 1970 do not fit every file system; such a file keeps the time of its arrival.
        if time > SystemTime::UNIX_EPOCH {
            self.file.set_modified(time).map_err(self.presence.failed("set the time of", &self.path))?;
        }
        self.file.sync_all().map_err(self.presence.failed("sync", &self.path))
    }

    /// Where the bytes are until they are published.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;

    fn incoming() -> (tempfile::TempDir, Incoming, UploadId) {
        let folder = tempfile::tempdir().unwrap();
        let presence = Arc::new(Presence::found(folder.path()).unwrap());
        let incoming = Incoming::of(folder.path().join("incoming"), presence);
        let id = UploadId(Uuid::now_v7());
        incoming.create(id).unwrap();
        (folder, incoming, id)
    }

    #[test]
    fn an_interrupted_upload_goes_on_at_the_last_byte() {
        let (folder, incoming, id) = incoming();
        let mut writer = incoming.writer(id, 0).unwrap();
        writer.write(b"harbour ").unwrap();
        assert_eq!(writer.pause().unwrap().length, 8);
        // A new process: nothing remembered, everything on disk.
        let presence = Arc::clone(&incoming.presence);
        let again = Incoming::of(folder.path().join("incoming"), presence);
        assert_eq!(again.list().unwrap(), [id]);
        let mut writer = again.writer(id, again.part(id).unwrap().length).unwrap();
        writer.write(b"in fog").unwrap();
        assert_eq!(writer.finish().digest, Digest::of(b"harbour in fog"));
    }

    #[test]
    fn a_killed_writer_leaves_what_it_wrote() {
        let (_folder, incoming, id) = incoming();
        let mut writer = incoming.writer(id, 0).unwrap();
        writer.write(b"weir").unwrap();
        drop(writer);
        assert_eq!(incoming.part(id).unwrap().length, 4);
    }

    #[test]
    fn after_a_power_cut_only_the_marked_part_counts() {
        let (folder, incoming, id) = incoming();
        let mut writer = incoming.writer(id, 0).unwrap();
        writer.write(b"sure").unwrap();
        writer.pause().unwrap();
        let mut writer = incoming.writer(id, 4).unwrap();
        writer.write(b"doubtful").unwrap();
        drop(writer);
        fs::write(incoming.mark_path(id), "another-boot 4\n").unwrap();
        assert_eq!(incoming.part(id).unwrap().length, 4);
        assert_eq!(fs::read(folder.path().join(format!("incoming/{id}.part"))).unwrap(), b"sure");
    }

    #[test]
    fn a_look_cuts_nothing_off_that_is_written_after_a_power_cut() {
        let (folder, incoming, id) = incoming();
        let mut writer = incoming.writer(id, 0).unwrap();
        writer.write(b"sure").unwrap();
        writer.pause().unwrap();
        fs::write(incoming.mark_path(id), "another-boot 4\n").unwrap();
        let mut writer = incoming.writer(id, incoming.part(id).unwrap().length).unwrap();
        writer.write(b" and new").unwrap();
        assert_eq!(incoming.part(id).unwrap().length, 12, "somebody asks how far it is");
        assert_eq!(writer.finish().digest, Digest::of(b"sure and new"));
        assert_eq!(fs::read(folder.path().join(format!("incoming/{id}.part"))).unwrap(), b"sure and new");
    }

    #[test]
    fn bytes_with_a_wrong_checksum_are_taken_back() {
        let (_folder, incoming, id) = incoming();
        let mut writer = incoming.writer(id, 0).unwrap();
        writer.write(b"good").unwrap();
        writer.pause().unwrap();
        let mut writer = incoming.writer(id, 4).unwrap();
        writer.write(b"spoilt").unwrap();
        assert_eq!(writer.take_back().unwrap().length, 4);
        let mut writer = incoming.writer(id, 4).unwrap();
        writer.write(b" night").unwrap();
        assert_eq!(writer.finish().digest, Digest::of(b"good night"));
    }

    #[test]
    fn a_part_shorter_than_its_offset_is_an_error() {
        let (_folder, incoming, id) = incoming();
        assert!(incoming.writer(id, 10).is_err());
    }
}
