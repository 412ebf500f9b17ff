//! Hashes of files that were seen before, so that a second run is done in a moment.
//!
//! A file counts as unchanged while its size, its modification time (to the nanosecond) and its inode are. The cache also
//! remembers to which device pairing a file was acknowledged; losing the cache costs hashing and nothing else.

use std::{marker::PhantomData, path::Path};

use redb::{Database, ReadOnlyTable, ReadableDatabase, ReadableTable, TableDefinition};
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest, RunId};

/// Path → size, mtime seconds, mtime nanoseconds, inode, digest, id of the pairing that acknowledged it (zero: none).
type Row = (u64, i64, u32, u64, [u8; 32], u128);
const FILES: TableDefinition<'_, &str, Row> = TableDefinition::new("files-1");

/// Path → size, mtime seconds, mtime nanoseconds, inode, digest, id of the pairing, place of the upload on the server.
type UploadRow = (u64, i64, u32, u64, [u8; 32], u128, String);
const UPLOADS: TableDefinition<'_, &str, UploadRow> = TableDefinition::new("uploads-1");

/// Id of the pairing → the last run in which a file was acknowledged.
const RUNS: TableDefinition<'_, u128, u128> = TableDefinition::new("runs-1");

/// What tells whether a file changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stamp {
    /// Length in bytes.
    pub size: u64,
    /// Modification time, seconds since 1970.
    pub seconds: i64,
    /// And nanoseconds.
    pub nanos: u32,
    /// Inode number.
    pub inode: u64,
}

/// What is known of a file that has not changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Known {
    /// Its hash.
    pub digest: Digest,
    /// Whether the service of this pairing acknowledged it.
    pub acknowledged: bool,
}

/// The cache failed.
#[derive(Debug, thiserror::Error)]
#[error("the cache of hashes could not be used: {0}. It may be deleted; the next run is then slower, once")]
pub struct CacheError(String);

fn failed(e: impl std::fmt::Display) -> CacheError {
    CacheError(e.to_string())
}

/// The cache on disk.
pub struct Cache(Database);

/// The cache as it was when a run began, whatever is written meanwhile.
///
/// It borrows the cache: what it has not looked at yet is read from there, and a database that was closed answers every question with
/// an error.
///
/// ```compile_fail
/// # use ypogeion_agent::cache::{Cache, Snapshot};
/// # fn open() -> Cache { unimplemented!() }
/// # let device = ypogeion_core::DeviceId(uuid::Uuid::nil());
/// let snapshot: Snapshot<'_> = open().snapshot(device).unwrap();
/// snapshot.known("/a", unimplemented!());
/// ```
pub struct Snapshot<'c> {
    /// `None`: nothing was ever remembered.
    files: Option<ReadOnlyTable<&'static str, Row>>,
    pairing: u128,
    cache: PhantomData<&'c Cache>,
}

impl Cache {
    /// Opens or makes the cache.
    pub fn open(path: &Path) -> Result<Self, CacheError> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(failed)?;
        }
        Ok(Cache(Database::create(path).map_err(failed)?))
    }

    /// What is known now, for the pairing of this device.
    pub fn snapshot(&self, device: DeviceId) -> Result<Snapshot<'_>, CacheError> {
        let read = self.0.begin_read().map_err(failed)?;
        let files = match read.open_table(FILES) {
            Ok(table) => Some(table),
            Err(redb::TableError::TableDoesNotExist(_)) => None,
            Err(e) => return Err(failed(e)),
        };
        Ok(Snapshot { files, pairing: device.0.as_u128(), cache: PhantomData })
    }

    /// Remembers files: path, stamp, digest, and whether they were acknowledged; in this run, then.
    pub fn remember(&self, device: DeviceId, run: RunId, files: &[(String, Stamp, Digest, bool)]) -> Result<(), CacheError> {
        if files.is_empty() {
            // A run with nothing new need not wait for the disk.
            return Ok(());
        }
        let write = self.0.begin_write().map_err(failed)?;
        {
            let mut table = write.open_table(FILES).map_err(failed)?;
            for (path, s, digest, acknowledged) in files {
                let pairing = if *acknowledged { device.0.as_u128() } else { 0 };
                table
                    .insert(path.as_str(), (s.size, s.seconds, s.nanos, s.inode, *digest.as_bytes(), pairing))
                    .map_err(failed)?;
            }
            if files.iter().any(|(.., acknowledged)| *acknowledged) {
                let mut runs = write.open_table(RUNS).map_err(failed)?;
                runs.insert(device.0.as_u128(), run.0.as_u128()).map_err(failed)?;
            }
        }
        write.commit().map_err(failed)
    }

    /// The last run in which a file was acknowledged to this pairing.
    pub fn last_run(&self, device: DeviceId) -> Result<Option<RunId>, CacheError> {
        let read = self.0.begin_read().map_err(failed)?;
        let runs = match read.open_table(RUNS) {
            Ok(runs) => runs,
            Err(redb::TableError::TableDoesNotExist(_)) => return Ok(None),
            Err(e) => return Err(failed(e)),
        };
        Ok(runs.get(device.0.as_u128()).map_err(failed)?.map(|run| RunId(Uuid::from_u128(run.value()))))
    }

    /// Nothing counts as acknowledged to this pairing any more: whoever acknowledged it does not know of it. The hashes are kept.
    pub fn forget_acknowledged(&self, device: DeviceId) -> Result<(), CacheError> {
        let pairing = device.0.as_u128();
        let write = self.0.begin_write().map_err(failed)?;
        {
            let mut table = write.open_table(FILES).map_err(failed)?;
            let mut own = Vec::new();
            for entry in table.iter().map_err(failed)? {
                let (path, row) = entry.map_err(failed)?;
                if row.value().5 == pairing {
                    own.push((path.value().to_owned(), row.value()));
                }
            }
            for (path, (size, seconds, nanos, inode, digest, _)) in own {
                table.insert(path.as_str(), (size, seconds, nanos, inode, digest, 0)).map_err(failed)?;
            }
            write.open_table(RUNS).map_err(failed)?.remove(pairing).map_err(failed)?;
        }
        write.commit().map_err(failed)
    }
}

/// An upload that was begun and not finished: of which bytes, for which pairing, and where it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Begun {
    /// What tells whether the file changed.
    pub stamp: Stamp,
    /// Its hash.
    pub digest: Digest,
    /// Where the upload is on the server.
    pub place: String,
}

impl Cache {
    /// The unfinished upload of a file, if it has one for this pairing.
    pub fn begun(&self, device: DeviceId, path: &str) -> Result<Option<Begun>, CacheError> {
        let read = self.0.begin_read().map_err(failed)?;
        let table = match read.open_table(UPLOADS) {
            Ok(table) => table,
            Err(redb::TableError::TableDoesNotExist(_)) => return Ok(None),
            Err(e) => return Err(failed(e)),
        };
        let row = table.get(path).map_err(failed)?;
        Ok(row.map(|r| r.value()).filter(|r| r.5 == device.0.as_u128()).map(|(size, seconds, nanos, inode, digest, _, place)| {
            Begun { stamp: Stamp { size, seconds, nanos, inode }, digest: Digest::from(digest), place }
        }))
    }

    /// Remembers an unfinished upload, or (`None`) forgets it.
    pub fn set_begun(&self, device: DeviceId, path: &str, begun: Option<&Begun>) -> Result<(), CacheError> {
        let write = self.0.begin_write().map_err(failed)?;
        {
            let mut table = write.open_table(UPLOADS).map_err(failed)?;
            match begun {
                Some(b) => {
                    let Stamp { size, seconds, nanos, inode } = b.stamp;
                    let row = (size, seconds, nanos, inode, *b.digest.as_bytes(), device.0.as_u128(), b.place.clone());
                    table.insert(path, row).map_err(failed)?;
                }
                None => drop(table.remove(path).map_err(failed)?),
            }
        }
        write.commit().map_err(failed)
    }
}

impl Snapshot<'_> {
    /// What is known of the file at `path`, if it has not changed.
    ///
    /// # Errors
    /// If the cache cannot be read: nobody knows then, which is not the same as that nothing is known.
    pub fn known(&self, path: &str, now: Stamp) -> Result<Option<Known>, CacheError> {
        let Some(files) = &self.files else { return Ok(None) };
        let Some(row) = files.get(path).map_err(failed)? else { return Ok(None) };
        let (size, seconds, nanos, inode, digest, pairing) = row.value();
        let then = Stamp { size, seconds, nanos, inode };
        Ok((then == now).then(|| Known { digest: Digest::from(digest), acknowledged: pairing == self.pairing }))
    }
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;

    #[test]
    fn an_unfinished_upload_is_remembered_for_its_pairing() {
        let folder = tempfile::tempdir().unwrap();
        let (mine, other) = (DeviceId(Uuid::from_u128(1)), DeviceId(Uuid::from_u128(2)));
        let stamp = Stamp { size: 4, seconds: 10, nanos: 5, inode: 7 };
        let begun = Begun { stamp, digest: Digest::of(b"kite"), place: "tus/x".into() };
        let cache = Cache::open(&folder.path().join("hashes.redb")).unwrap();
        assert_eq!(cache.begun(mine, "/a").unwrap(), None);
        cache.set_begun(mine, "/a", Some(&begun)).unwrap();
        assert_eq!(cache.begun(mine, "/a").unwrap(), Some(begun));
        assert_eq!(cache.begun(other, "/a").unwrap(), None);
        cache.set_begun(mine, "/a", None).unwrap();
        assert_eq!(cache.begun(mine, "/a").unwrap(), None);
    }

    #[test]
    fn only_unchanged_files_are_known_and_only_to_their_pairing() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sub/hashes.redb");
        let (mine, other) = (DeviceId(Uuid::from_u128(1)), DeviceId(Uuid::from_u128(2)));
        let stamp = Stamp { size: 4, seconds: 10, nanos: 5, inode: 7 };
        let (digest, run) = (Digest::of(b"kite"), RunId(Uuid::from_u128(9)));
        Cache::open(&path)
            .unwrap()
            .remember(mine, run, &[("/a".into(), stamp, digest, true), ("/b".into(), stamp, digest, false)])
            .unwrap();
        let cache = Cache::open(&path).unwrap();
        let known = cache.snapshot(mine).unwrap();
        assert_eq!(known.known("/a", stamp).unwrap(), Some(Known { digest, acknowledged: true }));
        assert_eq!(known.known("/b", stamp).unwrap(), Some(Known { digest, acknowledged: false }));
        assert_eq!(known.known("/a", Stamp { nanos: 6, ..stamp }).unwrap(), None);
        assert_eq!(known.known("/c", stamp).unwrap(), None);
        assert!(!cache.snapshot(other).unwrap().known("/a", stamp).unwrap().unwrap().acknowledged);
        assert_eq!((cache.last_run(mine).unwrap(), cache.last_run(other).unwrap()), (Some(run), None));
        // A run in which nothing was acknowledged is no reason to believe anything.
        cache.remember(mine, RunId(Uuid::from_u128(10)), &[("/b".into(), stamp, digest, false)]).unwrap();
        assert_eq!(cache.last_run(mine).unwrap(), Some(run));
        // Another pairing forgets what is its own.
        cache.forget_acknowledged(other).unwrap();
        assert!(cache.snapshot(mine).unwrap().known("/a", stamp).unwrap().unwrap().acknowledged);
        cache.forget_acknowledged(mine).unwrap();
        assert_eq!(cache.snapshot(mine).unwrap().known("/a", stamp).unwrap(), Some(Known { digest, acknowledged: false }));
        assert_eq!(cache.last_run(mine).unwrap(), None);
    }
}
