//! What the segments of a ledger add up to.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use uuid::Uuid;

use super::{
    error::LedgerError,
    heads::{CheckpointHead, SegmentHead},
    proof::{LedgerKey, Proof, proof},
    records::{DeviceRecord, EntryRecord, FORMAT, HouseholdRecord, OriginalRecord, PROVEN_FROM, PersonRecord, Record},
};
use crate::{DeviceId, OriginalId, PersonId};

/// What a record changes in the originals of a ledger.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// This is what is known of it now.
    Put(Box<OriginalRecord>),
    /// It is named no more.
    Take(OriginalId),
}

/// Where the originals of a ledger are kept while it is read: in memory, or on a disk when there may be a million of them.
pub trait OriginalsTable {
    /// Applies the changes of one segment, all or none.
    ///
    /// # Errors
    /// Whatever keeps them failed.
    fn apply(&mut self, changes: Vec<Change>) -> Result<(), Box<dyn std::error::Error + Send + Sync>>;
}

impl OriginalsTable for BTreeMap<OriginalId, OriginalRecord> {
    fn apply(&mut self, changes: Vec<Change>) -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
        for change in changes {
            match change {
                Change::Put(o) => drop(self.insert(o.id, *o)),
                Change::Take(id) => drop(self.remove(&id)),
            }
        }
        Ok(())
    }
}

/// What all records of a ledger add up to.
#[derive(Clone, Debug, Default)]
pub struct Holdings<K = BTreeMap<OriginalId, OriginalRecord>> {
    /// The household, if a record named it.
    pub household: Option<HouseholdRecord>,
    /// The members by id.
    pub people: BTreeMap<PersonId, PersonRecord>,
    /// The devices by id.
    pub devices: BTreeMap<DeviceId, DeviceRecord>,
    /// The originals.
    pub originals: K,
    /// The house's record by number.
    pub entries: BTreeMap<u64, EntryRecord>,
    /// The highest number of a segment.
    pub last_segment: u64,
    /// When that one was written, if it was read itself.
    pub last_made_at: Option<DateTime<Utc>>,
}

impl<K: OriginalsTable> Holdings<K> {
    /// Nothing yet.
    pub fn new(originals: K) -> Self {
        Holdings {
            household: None,
            people: BTreeMap::new(),
            devices: BTreeMap::new(),
            originals,
            entries: BTreeMap::new(),
            last_segment: 0,
            last_made_at: None,
        }
    }

    /// Takes the lines of one segment. Lines count only as a whole segment: on an error nothing of it is taken. `key`: to tell whether the
    /// household wrote it; `number`: what its name says.
    pub fn take_segment(
        &mut self,
        (replica, number): (Uuid, u64),
        key: Option<&LedgerKey>,
        text: &str,
    ) -> Result<(SegmentHead, Proof), LedgerError> {
        let mut records = read(text)?.into_iter();
        let Some(Record::Segment(head)) = records.next() else { return Err(LedgerError::NoHead) };
        check(head.format, head.replica, replica)?;
        let proof = proof(head.format, key, text)?;
        if head.number != number {
            return Err(LedgerError::Renamed);
        }
        self.take(records)?;
        if head.number >= self.last_segment {
            (self.last_segment, self.last_made_at) = (head.number, Some(head.made_at));
        }
        Ok((head, proof))
    }

    /// Takes the lines of one part of a checkpoint, like those of a segment. The last segment is only known with the last part.
    /// `folder`: where it lies.
    pub fn take_part(
        &mut self,
        (replica, folder): (Uuid, &str),
        key: Option<&LedgerKey>,
        text: &str,
    ) -> Result<(CheckpointHead, Proof), LedgerError> {
        let mut records = read(text)?.into_iter();
        let Some(Record::Checkpoint(head)) = records.next() else { return Err(LedgerError::NoHead) };
        check(head.format, head.replica, replica)?;
        let proof = proof(head.format, key, text)?;
        if head.format >= PROVEN_FROM && head.folder.as_deref() != Some(folder) {
            return Err(LedgerError::Renamed);
        }
        self.take(records)?;
        if head.last && head.number >= self.last_segment {
            (self.last_segment, self.last_made_at) = (head.number, Some(head.made_at));
        }
        Ok((head, proof))
    }

    fn take(&mut self, records: impl Iterator<Item = Record>) -> Result<(), LedgerError> {
        let mut changes = Vec::new();
        for record in records {
            match record {
                Record::Household(h) => self.household = Some(h),
                Record::Person(p) => drop(self.people.insert(p.id, p)),
                Record::Device(d) => drop(self.devices.insert(d.id, d)),
                Record::Original(o) => changes.push(Change::Put(o)),
                Record::Removed(r) => changes.push(Change::Take(r.id)),
                Record::Entry(e) => drop(self.entries.insert(e.number, e)),
                Record::Segment(_) | Record::Checkpoint(_) | Record::Mac(_) | Record::Unknown => {}
            }
        }
        self.originals.apply(changes).map_err(LedgerError::Table)
    }
}

/// When a segment was written, by its own first line; none if that is not the head of one.
pub fn made_at(text: &str) -> Option<DateTime<Utc>> {
    match serde_json::from_str(text.lines().next()?).ok()? {
        Record::Segment(head) => Some(head.made_at),
        _ => None,
    }
}

fn read(text: &str) -> Result<Vec<Record>, LedgerError> {
    let line = |(number, line)| serde_json::from_str(line).map_err(|source| LedgerError::NotARecord { line: number + 1, source });
    text.lines().enumerate().map(line).collect()
}

fn check(format: u32, found: Uuid, replica: Uuid) -> Result<(), LedgerError> {
    match () {
        () if format > FORMAT => Err(LedgerError::TooNew { found: format }),
        () if found != replica => Err(LedgerError::AnotherReplica { found }),
        () => Ok(()),
    }
}
