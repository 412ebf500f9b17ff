//! The originals of a ledger on a disk, so that a million of them need no more memory than ten thousand: by id while the ledger is read,
//! newest first for those who bring them back, by object for those who compare a store's list.
//!
//! A scratch file that is thrown away: nothing of it is ever the only copy of anything.

use std::{collections::BTreeSet, error::Error, path::Path};

use redb::{Database, Durability, ReadableDatabase, ReadableTable, ReadableTableMetadata, Table, TableDefinition};
use ypogeion_core::{
    OriginalId,
    ledger::{Change, Holdings, OriginalRecord, OriginalsTable},
};

/// What a ledger says, with its originals on a disk.
pub type Ledger = Holdings<Contents>;

type Failure = Box<dyn Error + Send + Sync>;

/// What was kept could not be read back.
#[derive(Debug, thiserror::Error)]
#[error("what was read of the ledger could not be read back: {0}")]
pub struct Broken(String);

fn broken(e: impl std::fmt::Display) -> Broken {
    Broken(e.to_string())
}

const ORIGINALS: TableDefinition<u128, &[u8]> = TableDefinition::new("originals");
/// Newest first: what is left of time after it was taken, then its path.
const NEWEST: TableDefinition<&[u8], u128> = TableDefinition::new("newest");
/// The object's name, a zero, the id: two members may share an object.
const OBJECTS: TableDefinition<&[u8], u128> = TableDefinition::new("objects");
/// What stays in memory, whatever the size.
const CACHE: usize = 24 << 20;

/// See the module.
#[derive(Debug)]
pub struct Contents {
    database: Database,
    bytes: u64,
    _scratch: tempfile::TempDir,
}

impl Contents {
    /// Begins with nothing, in a new folder below `scratch` that goes with it.
    pub fn below(scratch: &Path) -> Result<Self, Failure> {
        std::fs::create_dir_all(scratch)?;
        let folder = tempfile::Builder::new().prefix("ledger-").tempdir_in(scratch)?;
        let database = Database::builder().set_cache_size(CACHE).create(folder.path().join("contents"))?;
        let begin = database.begin_write()?;
        begin.open_table(ORIGINALS)?;
        begin.open_table(NEWEST)?;
        begin.open_table(OBJECTS)?;
        begin.commit()?;
        Ok(Contents { database, bytes: 0, _scratch: folder })
    }

    /// How many.
    pub fn count(&self) -> Result<u64, Broken> {
        let count = || Ok::<_, Failure>(self.database.begin_read()?.open_table(ORIGINALS)?.len()?);
        count().map_err(broken)
    }

    /// Their bytes, together.
    pub fn bytes(&self) -> u64 {
        self.bytes
    }

    /// All of them, the newest first.
    pub fn newest_first(&self) -> Result<impl Iterator<Item = Result<OriginalRecord, Broken>> + Send + use<>, Broken> {
        self.in_order(NEWEST).map_err(broken)
    }

    /// All of them, in the order of their objects' names.
    pub fn by_object(&self) -> Result<impl Iterator<Item = Result<OriginalRecord, Broken>> + Send + use<>, Broken> {
        self.in_order(OBJECTS).map_err(broken)
    }

    fn in_order(
        &self,
        index: TableDefinition<&[u8], u128>,
    ) -> Result<impl Iterator<Item = Result<OriginalRecord, Broken>> + Send + use<>, Failure> {
        let read = self.database.begin_read()?;
        let (order, originals) = (read.open_table(index)?, read.open_table(ORIGINALS)?);
        Ok(order.range::<&[u8]>(..)?.map(move |entry| {
            let id = entry.map_err(broken)?.1.value();
            let found = originals.get(id).map_err(broken)?.ok_or_else(|| broken("an index without its entry"))?;
            parsed(found.value()).map_err(broken)
        }))
    }

    /// Those with these numbers, in the order of their ids, counted from 0.
    pub fn drawn(&self, numbers: &BTreeSet<u64>) -> Result<Vec<OriginalRecord>, Broken> {
        let draw = || {
            let originals = self.database.begin_read()?.open_table(ORIGINALS)?;
            let mut drawn = Vec::with_capacity(numbers.len());
            for (number, entry) in originals.iter()?.enumerate() {
                let entry = entry?;
                if numbers.contains(&(number as u64)) {
                    drawn.push(parsed(entry.1.value())?);
                }
            }
            Ok::<_, Failure>(drawn)
        };
        draw().map_err(broken)
    }
}

fn parsed(bytes: &[u8]) -> Result<OriginalRecord, Failure> {
    Ok(serde_json::from_slice(bytes)?)
}

fn place_in_time(o: &OriginalRecord) -> Vec<u8> {
    let after = i128::from(i64::MAX) - i128::from(o.taken_at.timestamp_micros());
    let mut key = after.to_be_bytes().to_vec();
    key.extend_from_slice(o.path.as_str().as_bytes());
    key.push(0);
    key.extend_from_slice(o.id.0.as_bytes());
    key
}

fn place_among_objects(o: &OriginalRecord) -> Vec<u8> {
    let mut key = o.object.name.as_bytes().to_vec();
    key.push(0);
    key.extend_from_slice(o.id.0.as_bytes());
    key
}

/// The tables of one change.
struct Tables<'t> {
    originals: Table<'t, u128, &'static [u8]>,
    newest: Table<'t, &'static [u8], u128>,
    objects: Table<'t, &'static [u8], u128>,
}

impl Tables<'_> {
    /// Returns the bytes that are named now and were not before.
    fn put(&mut self, o: &OriginalRecord) -> Result<u64, Failure> {
        let id = o.id.0.as_u128();
        self.originals.insert(id, serde_json::to_vec(o)?.as_slice())?;
        self.newest.insert(place_in_time(o).as_slice(), id)?;
        self.objects.insert(place_among_objects(o).as_slice(), id)?;
        Ok(o.size)
    }

    /// Returns the bytes that are named no more.
    fn take(&mut self, id: OriginalId) -> Result<u64, Failure> {
        let before = match self.originals.remove(id.0.as_u128())? {
            Some(bytes) => parsed(bytes.value())?,
            None => return Ok(0),
        };
        self.newest.remove(place_in_time(&before).as_slice())?;
        self.objects.remove(place_among_objects(&before).as_slice())?;
        Ok(before.size)
    }
}

impl OriginalsTable for Contents {
    fn apply(&mut self, changes: Vec<Change>) -> Result<(), Failure> {
        let mut write = self.database.begin_write()?;
        // It is thrown away after a crash: nothing waits for the disk.
        write.set_durability(Durability::None)?;
        let mut bytes = self.bytes;
        let mut tables = Tables {
            originals: write.open_table(ORIGINALS)?,
            newest: write.open_table(NEWEST)?,
            objects: write.open_table(OBJECTS)?,
        };
        for change in changes {
            match change {
                Change::Put(o) => {
                    bytes -= tables.take(o.id)?;
                    bytes += tables.put(&o)?;
                }
                Change::Take(id) => bytes -= tables.take(id)?,
            }
        }
        drop(tables);
        write.commit()?;
        self.bytes = bytes;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use chrono::{DateTime, TimeDelta};
    use uuid::Uuid;
    use ypogeion_core::{
        Digest, OriginalName, PersonId, capture::CaptureRule, filing::FiledPath, kind::MediaKind, ledger::ObjectRecord,
    };

    use super::*;

    fn original(id: u128, path: &str, day: i64, size: u64) -> Change {
        Change::Put(Box::new(OriginalRecord {
            id: OriginalId(Uuid::from_u128(id)),
            person: PersonId(Uuid::from_u128(1)),
            device: None,
            sha256: Digest::of(b"a"),
            size,
            path: FiledPath::parse(path).unwrap(),
            name: OriginalName::from_device("a.jpg"),
            kind: MediaKind::Photo,
            taken_at: DateTime::UNIX_EPOCH + TimeDelta::days(day),
            taken_local: None,
            taken_rule: CaptureRule::ExifLocal,
            landed_at: DateTime::UNIX_EPOCH,
            source: String::new(),
            file_time: None,
            shot: None,
            held: None,
            favourite_of: Vec::new(),
            albums: Vec::new(),
            without: Vec::new(),
            words: None,
            given_time: None,
            given_place: None,
            given_turn: None,
            put_away: false,
            forward: None,
            version_of: None,
            brought: None,
            object: ObjectRecord { name: format!("objects/{:02}", 99 - id), size: 200, hash: Digest::of(b"s").into() },
        }))
    }

    fn ids(records: impl Iterator<Item = Result<OriginalRecord, Broken>>) -> Vec<u128> {
        records.map(|r| r.unwrap().id.0.as_u128()).collect()
    }

    #[test]
    fn what_is_said_last_counts_in_every_order() {
        let scratch = tempfile::tempdir().unwrap();
        let mut contents = Contents::below(scratch.path()).unwrap();
        let three = vec![original(1, "a/1", 10, 5), original(2, "a/2", 30, 7), original(3, "a/3", -20_000, 11)];
        contents.apply(three).unwrap();
        assert_eq!((contents.count().unwrap(), contents.bytes()), (3, 23));
        assert_eq!(ids(contents.newest_first().unwrap()), [2, 1, 3], "a picture from before 1970 is the oldest");
        assert_eq!(ids(contents.by_object().unwrap()), [3, 2, 1]);
        // Another time for one of them, and the end of another; then both again, in one segment.
        contents.apply(vec![original(1, "a/1", 40, 6), Change::Take(OriginalId(Uuid::from_u128(2)))]).unwrap();
        assert_eq!((ids(contents.newest_first().unwrap()), contents.bytes()), (vec![1, 3], 17));
        let two = OriginalId(Uuid::from_u128(2));
        contents.apply(vec![original(2, "a/2", 50, 7), Change::Take(two), original(2, "b/2", 1, 7)]).unwrap();
        assert_eq!((ids(contents.newest_first().unwrap()), ids(contents.by_object().unwrap())), (vec![1, 2, 3], vec![3, 2, 1]));
        contents.apply(vec![Change::Take(two), Change::Take(two)]).unwrap();
        assert_eq!((contents.count().unwrap(), contents.bytes()), (2, 17));
        let drawn = contents.drawn(&BTreeSet::from([1])).unwrap();
        assert_eq!((drawn.len(), drawn[0].id.0.as_u128()), (1, 3));
        drop(contents);
        assert_eq!(std::fs::read_dir(scratch.path()).unwrap().count(), 0, "nothing stays");
    }
}
