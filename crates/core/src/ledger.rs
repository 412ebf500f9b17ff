//! The ledger: the store's own list of what it holds, so that a replica can be read without this server.
//!
//! A ledger is a row of numbered segments; a segment is JSON Lines, one [`Record`] a line, the first of them a
//! [`Record::Segment`]. A checkpoint says in parts of the same form, each opened by a [`Record::Checkpoint`], what all segments up to its
//! number add up to, so that not all of them have to be read. How segments are compressed, sealed and named is the offsite crate's business and is described in
//! `docs/formats/store-layout.md`; what the records mean is described here and in `docs/formats/ledger.md`.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::{
    DeviceId, Digest, OriginalId, PersonId,
    capture::CaptureRule,
    clearance::Depth,
    cost::Prices,
    filing::{FiledPath, FilingPlan},
    kind::MediaKind,
    name::OriginalName,
    retention::Retention,
    window::Week,
};

/// The version of the record format that this program writes. Higher ones are refused, never guessed at.
pub const FORMAT: u32 = 1;

/// One line of a ledger segment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum Record {
    /// Opens every segment.
    Segment(SegmentHead),
    /// Opens every part of a checkpoint.
    Checkpoint(CheckpointHead),
    /// The household itself. The last one counts.
    Household(HouseholdRecord),
    /// A member. The last one with an id counts.
    Person(PersonRecord),
    /// A device. The last one with an id counts.
    Device(DeviceRecord),
    /// An original whose object the store has confirmed. The last one with an id counts.
    Original(Box<OriginalRecord>),
    /// An original that was deleted for good: earlier records with its id do not count any more.
    Removed(RemovedRecord),
    /// A record of a kind that a later version added; ignored.
    #[serde(other)]
    Unknown,
}

/// The first line of a segment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SegmentHead {
    /// [`FORMAT`] of the writer.
    pub format: u32,
    /// The replica this segment belongs to, as in the store's `FORMAT.json`.
    pub replica: Uuid,
    /// Counts from 1.
    pub number: u64,
    /// When it was written.
    pub made_at: DateTime<Utc>,
}

/// The first line of a part of a checkpoint.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CheckpointHead {
    /// [`FORMAT`] of the writer.
    pub format: u32,
    /// The replica it belongs to.
    pub replica: Uuid,
    /// It stands for all segments up to this one.
    pub number: u64,
    /// Counts from 1.
    pub part: u32,
    /// Whether it is the last one. A checkpoint without its last part is none.
    pub last: bool,
    /// When it was written.
    pub made_at: DateTime<Utc>,
}

/// The household.
#[derive(Clone, PartialEq, Serialize, Deserialize)]
pub struct HouseholdRecord {
    /// What it calls itself.
    pub name: String,
    /// The key for object names, 64 hexadecimal digits (HMAC-SHA-256).
    pub name_key: String,
    /// What its keeper decided for the whole house.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rules: Option<RulesRecord>,
    /// What its keeper decided for each store.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stores: Vec<StoreRecord>,
    /// Who else can open what is sealed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub recipients: Vec<RecipientRecord>,
}

impl std::fmt::Debug for HouseholdRecord {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // Whoever has the key for names can tell which pictures are in a store.
        write!(f, "HouseholdRecord({}, {:?}, {:?})", self.name, self.rules, self.stores)
    }
}

/// What a keeper decided for a store. Where it is and how to sign in there is on the recovery kit.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StoreRecord {
    /// As in its address.
    pub endpoint: String,
    /// As in its address.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub bucket: String,
    /// As in its address.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub prefix: String,
    /// Whether it is away from home.
    pub away: bool,
    /// Whether it was seen to notice bytes that changed on their way.
    pub notices: bool,
    /// Whether it waits.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub paused: bool,
    /// When, and how fast, copies go there.
    pub week: Week,
    /// What it asks for.
    pub prices: Prices,
}

/// Somebody else who can open what is sealed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecipientRecord {
    /// `age1…`.
    pub recipient: String,
    /// What people call them.
    pub name: String,
    /// Since when.
    pub added_at: DateTime<Utc>,
}

/// What a keeper decided for the whole house.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RulesRecord {
    /// The filing plan, as a pattern.
    pub filing: FilingPlan,
    /// How deep before a device may let go of its copies.
    pub clear_at: Depth,
    /// Whether a JPEG is made beside each HEIC.
    pub derive_jpeg: bool,
    /// How long what was deleted stays.
    pub retention: Retention,
}

/// A member.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PersonRecord {
    /// Stable across devices and names.
    pub id: PersonId,
    /// As shown.
    pub name: String,
    /// `keeper`, `member` or `guest`.
    pub role: String,
    /// The member's folder in the library.
    pub folder: String,
    /// The most bytes that the member may have at home.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quota: Option<u64>,
    /// Above this the member is told that room runs out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub soft_quota: Option<u64>,
}

/// A device.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct DeviceRecord {
    /// Stable across names.
    pub id: DeviceId,
    /// Whose it is.
    pub person: PersonId,
    /// As shown.
    pub name: String,
    /// `phone`, `tablet`, `computer`, …
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
}

/// An original and its sealed object.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct OriginalRecord {
    /// Stable for this original.
    pub id: OriginalId,
    /// Whose it is.
    pub person: PersonId,
    /// The device that sent it first.
    pub device: Option<DeviceId>,
    /// SHA-256 of the original's bytes.
    pub sha256: Digest,
    /// Length of the original in bytes.
    pub size: u64,
    /// Where it is in the library.
    pub path: FiledPath,
    /// What the device called it.
    pub name: OriginalName,
    /// What sort of file it is.
    pub kind: MediaKind,
    /// When it was taken; also the file's time in the library.
    pub taken_at: DateTime<Utc>,
    /// What a clock on the wall showed then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_local: Option<NaiveDateTime>,
    /// How that is known.
    pub taken_rule: CaptureRule,
    /// When it came home.
    pub landed_at: DateTime<Utc>,
    /// The album or folder on its device.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub source: String,
    /// The file's time on its device.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file_time: Option<DateTime<Utc>>,
    /// The original that stands for its shot, if that is another one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shot: Option<OriginalId>,
    /// Set while it waits in holding, after somebody deleted it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held: Option<HeldRecord>,
    /// Its sealed object in this store.
    pub object: ObjectRecord,
}

/// What was deleted and can be taken back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct HeldRecord {
    /// When it was deleted.
    pub at: DateTime<Utc>,
    /// Until when it can be taken back; none: for ever.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<DateTime<Utc>>,
    /// Where it was before.
    pub was_at: FiledPath,
}

/// An original that was deleted for good.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RemovedRecord {
    /// The original.
    pub id: OriginalId,
    /// When.
    pub at: DateTime<Utc>,
}

/// A sealed object in a store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObjectRecord {
    /// Name below the store's prefix.
    pub name: String,
    /// Length of the sealed bytes.
    pub size: u64,
    /// SHA-256 of the sealed bytes, so that a damaged object is found without a key.
    pub sha256: Digest,
}

/// Why a line or a segment could not be taken.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// Written by a newer version.
    #[error("the ledger is in format {found}, and this program reads up to {FORMAT}; use a newer version")]
    TooNew {
        /// The format found.
        found: u32,
    },
    /// The first line is not a segment head.
    #[error("the segment does not begin with its head")]
    NoHead,
    /// It belongs to another replica.
    #[error("the segment belongs to another replica ({found})")]
    AnotherReplica {
        /// The replica found.
        found: Uuid,
    },
    /// A line is not a record.
    #[error("line {line} is not a ledger record")]
    NotARecord {
        /// Counted from 1.
        line: usize,
        /// What the JSON reader said.
        #[source]
        source: serde_json::Error,
    },
    /// What was read could not be kept.
    #[error("what was read of the ledger could not be kept")]
    Kept(#[source] Box<dyn std::error::Error + Send + Sync>),
}

/// What a record changes in the originals of a ledger.
#[derive(Clone, Debug, PartialEq)]
pub enum Change {
    /// This is what is known of it now.
    Put(Box<OriginalRecord>),
    /// It is named no more.
    Take(OriginalId),
}

/// Where the originals of a ledger are kept while it is read: in memory, or on a disk when there may be a million of them.
pub trait Kept {
    /// Applies the changes of one segment, all or none.
    ///
    /// # Errors
    /// Whatever keeps them failed.
    fn apply(&mut self, changes: Vec<Change>) -> Result<(), Box<dyn std::error::Error + Send + Sync>>;
}

impl Kept for BTreeMap<OriginalId, OriginalRecord> {
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
    /// The highest number of a segment.
    pub last_segment: u64,
}

impl<K: Kept> Holdings<K> {
    /// Nothing yet.
    pub fn new(originals: K) -> Self {
        Holdings { household: None, people: BTreeMap::new(), devices: BTreeMap::new(), originals, last_segment: 0 }
    }

    /// Takes the lines of one segment. Lines count only as a whole segment: on an error nothing of it is taken.
    pub fn take_segment(&mut self, replica: Uuid, text: &str) -> Result<SegmentHead, LedgerError> {
        let mut records = read(text)?.into_iter();
        let Some(Record::Segment(head)) = records.next() else { return Err(LedgerError::NoHead) };
        check(head.format, head.replica, replica)?;
        self.take(records)?;
        self.last_segment = self.last_segment.max(head.number);
        Ok(head)
    }

    /// Takes the lines of one part of a checkpoint, like those of a segment. The last segment is only known with the last part.
    pub fn take_part(&mut self, replica: Uuid, text: &str) -> Result<CheckpointHead, LedgerError> {
        let mut records = read(text)?.into_iter();
        let Some(Record::Checkpoint(head)) = records.next() else { return Err(LedgerError::NoHead) };
        check(head.format, head.replica, replica)?;
        self.take(records)?;
        if head.last {
            self.last_segment = self.last_segment.max(head.number);
        }
        Ok(head)
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
                Record::Segment(_) | Record::Checkpoint(_) | Record::Unknown => {}
            }
        }
        self.originals.apply(changes).map_err(LedgerError::Kept)
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

/// One record as its line, without the line's end.
pub fn line(record: &Record) -> String {
    serde_json::to_string(record).expect("a record holds only text, numbers and times, which JSON can say")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn original(id: u128, path: &str) -> Record {
        Record::Original(Box::new(OriginalRecord {
            id: OriginalId(Uuid::from_u128(id)),
            person: PersonId(Uuid::from_u128(1)),
            device: None,
            sha256: Digest::of(b"a"),
            size: 1,
            path: FiledPath::parse(path).unwrap(),
            name: OriginalName::from_device("a.jpg"),
            kind: MediaKind::Photo,
            taken_at: DateTime::UNIX_EPOCH,
            taken_local: None,
            taken_rule: CaptureRule::ExifLocal,
            landed_at: DateTime::UNIX_EPOCH,
            source: String::new(),
            file_time: None,
            shot: None,
            held: None,
            object: ObjectRecord { name: "objects/00/00.age".into(), size: 200, sha256: Digest::of(b"s") },
        }))
    }

    fn head(number: u64, format: u32) -> Record {
        Record::Segment(SegmentHead { format, replica: Uuid::nil(), number, made_at: DateTime::UNIX_EPOCH })
    }

    fn text(records: &[Record]) -> String {
        records.iter().map(|r| line(r) + "\n").collect()
    }

    #[test]
    fn later_records_replace_earlier_ones() {
        let mut holdings: Holdings = Holdings::default();
        holdings
            .take_segment(Uuid::nil(), &text(&[head(1, 1), original(5, "juno/2026/04/a.jpg"), original(6, "juno/2026/04/b.jpg")]))
            .unwrap();
        holdings.take_segment(Uuid::nil(), &text(&[head(2, 1), original(5, "juno/2026/05/a.jpg")])).unwrap();
        let paths: Vec<_> = holdings.originals.values().map(|o| o.path.as_str()).collect();
        assert_eq!(paths, ["juno/2026/05/a.jpg", "juno/2026/04/b.jpg"]);
    }

    #[test]
    fn what_was_deleted_for_good_is_not_named_any_more_unless_it_came_again() {
        let removed = Record::Removed(RemovedRecord { id: OriginalId(Uuid::from_u128(5)), at: DateTime::UNIX_EPOCH });
        let mut holdings: Holdings = Holdings::default();
        holdings.take_segment(Uuid::nil(), &text(&[head(1, 1), original(5, "a/b"), original(6, "a/c"), removed])).unwrap();
        assert_eq!(holdings.originals.keys().map(|id| id.0.as_u128()).collect::<Vec<_>>(), [6]);
        holdings.take_segment(Uuid::nil(), &text(&[head(2, 1), original(5, "a/b")])).unwrap();
        assert_eq!(holdings.originals.len(), 2);
    }

    #[test]
    fn kinds_of_records_from_the_future_are_passed_over() {
        let future =
            format!("{}\n{{\"type\":\"constellation\",\"stars\":7}}\n{}\n", line(&head(1, 1)), line(&original(5, "a/b")));
        let mut holdings: Holdings = Holdings::default();
        holdings.take_segment(Uuid::nil(), &future).unwrap();
        assert_eq!(holdings.originals.len(), 1);
    }

    #[test]
    fn a_segment_is_taken_whole_or_not_at_all() {
        let mut holdings: Holdings = Holdings::default();
        let torn = text(&[head(1, 1), original(5, "a/b")]) + "{\"type\":\"orig";
        assert!(matches!(holdings.take_segment(Uuid::nil(), &torn), Err(LedgerError::NotARecord { line: 3, .. })));
        assert!(matches!(holdings.take_segment(Uuid::nil(), &text(&[head(1, 2)])), Err(LedgerError::TooNew { found: 2 })));
        assert!(matches!(holdings.take_segment(Uuid::nil(), &text(&[original(5, "a/b")])), Err(LedgerError::NoHead)));
        assert!(matches!(holdings.take_segment(Uuid::max(), &text(&[head(1, 1)])), Err(LedgerError::AnotherReplica { .. })));
        assert!(holdings.originals.is_empty());
    }

    #[test]
    fn a_path_that_leads_outside_is_no_record() {
        let bad = line(&original(5, "a/b")).replace("a/b", "../b");
        let mut holdings: Holdings = Holdings::default();
        let lines = format!("{}\n{bad}\n", line(&head(1, 1)));
        assert!(matches!(holdings.take_segment(Uuid::nil(), &lines), Err(LedgerError::NotARecord { line: 2, .. })));
    }

    #[test]
    fn a_checkpoint_stands_for_the_segments_before_it_and_later_ones_come_on_top() {
        let part = |part: u32, last: bool, records: &[Record]| {
            let head = CheckpointHead { format: 1, replica: Uuid::nil(), number: 7, part, last, made_at: DateTime::UNIX_EPOCH };
            text(&[&[Record::Checkpoint(head)], records].concat())
        };
        let mut holdings: Holdings = Holdings::default();
        holdings.take_part(Uuid::nil(), &part(1, false, &[original(5, "a/b")])).unwrap();
        assert_eq!(holdings.last_segment, 0, "not before its last part");
        holdings.take_part(Uuid::nil(), &part(2, true, &[original(6, "a/c")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals.len()), (7, 2));
        holdings.take_segment(Uuid::nil(), &text(&[head(8, 1), original(5, "a/d")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals[&OriginalId(Uuid::from_u128(5))].path.as_str()), (8, "a/d"));
        assert!(matches!(holdings.take_segment(Uuid::nil(), &part(1, true, &[])), Err(LedgerError::NoHead)), "it is no segment");
        assert!(matches!(holdings.take_part(Uuid::max(), &part(1, true, &[])), Err(LedgerError::AnotherReplica { .. })));
    }

    /// A sample of the released format, word for word. It must be read for ever.
    #[test]
    fn format_1_is_read_as_released() {
        let sample = r#"{"type":"segment","format":1,"replica":"00000000-0000-0000-0000-000000000000","number":1,"made_at":"2026-11-23T08:00:00Z"}
{"type":"household","name":"Mill House","name_key":"00"}
{"type":"person","id":"0198a000-0000-7000-8000-000000000001","name":"Juno","role":"keeper","folder":"juno"}
{"type":"device","id":"0198a000-0000-7000-8000-000000000002","person":"0198a000-0000-7000-8000-000000000001","name":"Juno's phone"}
{"type":"original","id":"0198a000-0000-7000-8000-000000000003","person":"0198a000-0000-7000-8000-000000000001","device":"0198a000-0000-7000-8000-000000000002","sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855","size":0,"path":"juno/2026/04/IMG_2214.HEIC","name":"IMG_2214.HEIC","kind":"photo","taken_at":"2026-04-12T08:15:30Z","taken_rule":"exif-offset","landed_at":"2026-04-12T20:00:00Z","object":{"name":"objects/ab/abcd.age","size":200,"sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}}
"#;
        let mut holdings: Holdings = Holdings::default();
        assert_eq!(holdings.take_segment(Uuid::nil(), sample).unwrap().number, 1);
        assert_eq!((holdings.people.len(), holdings.devices.len(), holdings.originals.len()), (1, 1, 1));
    }
}
