//! The ledger: the store's own list of what it holds, so that a replica can be read without this server.
//!
//! A ledger is a row of numbered segments; a segment is JSON Lines, one [`Record`] a line, the first of them a
//! [`Record::Segment`]. A checkpoint says in parts of the same form, each opened by a [`Record::Checkpoint`], what all segments up to its
//! number add up to, so that not all of them have to be read. How segments are compressed, sealed and named is the offsite crate's business and is described in
//! `docs/formats/store-layout.md`; what the records mean is described here and in `docs/formats/ledger.md`.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDateTime, Utc};
use data_encoding::{HEXLOWER, HEXLOWER_PERMISSIVE};
use ring::hmac;
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
pub const FORMAT: u32 = 2;

/// From this version on every segment carries a proof of who wrote it ([`MacRecord`]).
const PROVEN_FROM: u32 = 2;

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
    /// A line of the house's record: who did what, and when. The last one with a number counts.
    Entry(EntryRecord),
    /// Ends every segment and every part of a checkpoint: proves that the household wrote the lines before it.
    Mac(MacRecord),
    /// A record of a kind that a later version added; ignored.
    #[serde(other)]
    Unknown,
}

/// A line of the house's record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct EntryRecord {
    /// Counts up in one house.
    pub number: u64,
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    pub who: String,
    /// What they did.
    pub what: String,
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
    /// The one that was written before it; none for the first one, and for the first one after format 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<SegmentRef>,
}

/// Which segment, and with which bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SegmentRef {
    /// Its name below the store's prefix.
    pub name: String,
    /// SHA-256 of its bytes in the store.
    pub sha256: Digest,
}

/// The last segment of a ledger that somebody knows of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LedgerEnd {
    /// Its number.
    pub number: u64,
    /// Which one it is.
    #[serde(flatten)]
    pub segment: SegmentRef,
}

impl LedgerEnd {
    /// The number in a segment's name, if it has the form of one.
    pub fn number_of(name: &str) -> Option<u64> {
        name.strip_prefix("ledger/")?.split('-').next()?.parse().ok()
    }

    /// That segment, by its name.
    pub fn of(segment: SegmentRef) -> Option<Self> {
        Some(LedgerEnd { number: Self::number_of(&segment.name)?, segment })
    }
}

/// The last line of a segment, or of a part of a checkpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MacRecord {
    /// HMAC-SHA-256 (RFC 2104) of all bytes before this line, under the household's [`LedgerKey`], in 64 hexadecimal digits.
    pub hmac_sha256: String,
}

/// The household's key for its ledgers: with it the household proves that it wrote them. Neither a store nor whoever can seal for the
/// household has it; it is on the recovery kit, and opens nothing.
#[derive(Clone, PartialEq, Eq)]
pub struct LedgerKey([u8; 32]);

impl std::fmt::Debug for LedgerKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("LedgerKey(…)")
    }
}

impl LedgerKey {
    /// Takes 32 bytes from a secure random source.
    pub fn new(bytes: [u8; 32]) -> Self {
        LedgerKey(bytes)
    }

    /// Reads the form written by [`LedgerKey::reveal`].
    pub fn parse(hex: &str) -> Option<Self> {
        HEXLOWER_PERMISSIVE.decode(hex.as_bytes()).ok()?.try_into().ok().map(LedgerKey)
    }

    /// The key as 64 hexadecimal digits, for the recovery kit.
    pub fn reveal(&self) -> String {
        HEXLOWER.encode(&self.0)
    }

    /// The HMAC of some text.
    pub fn mac(&self, text: &str) -> String {
        HEXLOWER.encode(hmac::sign(&self.signing(), text.as_bytes()).as_ref())
    }

    /// Whether that is the HMAC of this text.
    pub fn wrote(&self, text: &str, mac: &str) -> bool {
        let mac = HEXLOWER_PERMISSIVE.decode(mac.as_bytes());
        mac.is_ok_and(|mac| hmac::verify(&self.signing(), text.as_bytes(), &mac).is_ok())
    }

    fn signing(&self) -> hmac::Key {
        hmac::Key::new(hmac::HMAC_SHA256, &self.0)
    }
}

/// What speaks for the lines of a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Proof {
    /// The household wrote them.
    Proven,
    /// Nothing does: they are of format 1, or the reader has no key to tell.
    None,
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
    /// The name of its folder, so that no part of one passes for a part of another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// The last segment that it stands for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upto: Option<SegmentRef>,
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
    /// Where its own ledger ended when this was written: so that each store knows of the others' ledgers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ledger_end: Option<LedgerEnd>,
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
    /// Its proof does not fit.
    #[error("its proof does not fit: somebody else wrote it, or changed it")]
    Forged,
    /// It is of a version that carries a proof, and has none.
    #[error("it has no proof of who wrote it, and should have one")]
    NoProof,
    /// It does not say of itself what its name says.
    #[error("it is under the name of another one")]
    Renamed,
    /// What was read could not be kept.
    #[error("what was read of the ledger could not be kept")]
    Table(#[source] Box<dyn std::error::Error + Send + Sync>),
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

fn read(text: &str) -> Result<Vec<Record>, LedgerError> {
    let line = |(number, line)| serde_json::from_str(line).map_err(|source| LedgerError::NotARecord { line: number + 1, source });
    text.lines().enumerate().map(line).collect()
}

/// What speaks for a text of lines.
fn proof(format: u32, key: Option<&LedgerKey>, text: &str) -> Result<Proof, LedgerError> {
    if format < PROVEN_FROM {
        return Ok(Proof::None);
    }
    // The last line, and everything before it to the byte.
    let body = text.trim_end_matches('\n');
    let (said, last) = body.rfind('\n').map_or(("", body), |at| body.split_at(at + 1));
    let Ok(Record::Mac(mac)) = serde_json::from_str(last) else { return Err(LedgerError::NoProof) };
    match key {
        None => Ok(Proof::None),
        Some(key) if key.wrote(said, &mac.hmac_sha256) => Ok(Proof::Proven),
        Some(_) => Err(LedgerError::Forged),
    }
}

/// Lines with the one that proves who wrote them.
pub fn with_proof(mut lines: String, key: &LedgerKey) -> String {
    let mac = Record::Mac(MacRecord { hmac_sha256: key.mac(&lines) });
    lines += &line(&mac);
    lines.push('\n');
    lines
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
        Record::Segment(SegmentHead { format, replica: Uuid::nil(), number, made_at: DateTime::UNIX_EPOCH, before: None })
    }

    fn text(records: &[Record]) -> String {
        records.iter().map(|r| line(r) + "\n").collect()
    }

    #[test]
    fn later_records_replace_earlier_ones() {
        let mut holdings: Holdings = Holdings::default();
        holdings
            .take_segment(
                (Uuid::nil(), 1),
                None,
                &text(&[head(1, 1), original(5, "juno/2026/04/a.jpg"), original(6, "juno/2026/04/b.jpg")]),
            )
            .unwrap();
        holdings.take_segment((Uuid::nil(), 2), None, &text(&[head(2, 1), original(5, "juno/2026/05/a.jpg")])).unwrap();
        let paths: Vec<_> = holdings.originals.values().map(|o| o.path.as_str()).collect();
        assert_eq!(paths, ["juno/2026/05/a.jpg", "juno/2026/04/b.jpg"]);
    }

    #[test]
    fn what_was_deleted_for_good_is_not_named_any_more_unless_it_came_again() {
        let removed = Record::Removed(RemovedRecord { id: OriginalId(Uuid::from_u128(5)), at: DateTime::UNIX_EPOCH });
        let mut holdings: Holdings = Holdings::default();
        holdings
            .take_segment((Uuid::nil(), 1), None, &text(&[head(1, 1), original(5, "a/b"), original(6, "a/c"), removed]))
            .unwrap();
        assert_eq!(holdings.originals.keys().map(|id| id.0.as_u128()).collect::<Vec<_>>(), [6]);
        holdings.take_segment((Uuid::nil(), 2), None, &text(&[head(2, 1), original(5, "a/b")])).unwrap();
        assert_eq!(holdings.originals.len(), 2);
    }

    #[test]
    fn kinds_of_records_from_the_future_are_passed_over() {
        let future =
            format!("{}\n{{\"type\":\"constellation\",\"stars\":7}}\n{}\n", line(&head(1, 1)), line(&original(5, "a/b")));
        let mut holdings: Holdings = Holdings::default();
        holdings.take_segment((Uuid::nil(), 1), None, &future).unwrap();
        assert_eq!(holdings.originals.len(), 1);
    }

    #[test]
    fn a_segment_is_taken_whole_or_not_at_all() {
        let mut holdings: Holdings = Holdings::default();
        let torn = text(&[head(1, 1), original(5, "a/b")]) + "{\"type\":\"orig";
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &torn), Err(LedgerError::NotARecord { line: 3, .. })));
        assert!(matches!(
            holdings.take_segment((Uuid::nil(), 1), None, &text(&[head(1, 3)])),
            Err(LedgerError::TooNew { found: 3 })
        ));
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &text(&[original(5, "a/b")])), Err(LedgerError::NoHead)));
        assert!(matches!(
            holdings.take_segment((Uuid::max(), 1), None, &text(&[head(1, 1)])),
            Err(LedgerError::AnotherReplica { .. })
        ));
        assert!(holdings.originals.is_empty());
    }

    #[test]
    fn a_path_that_leads_outside_is_no_record() {
        let bad = line(&original(5, "a/b")).replace("a/b", "../b");
        let mut holdings: Holdings = Holdings::default();
        let lines = format!("{}\n{bad}\n", line(&head(1, 1)));
        assert!(matches!(holdings.take_segment((Uuid::nil(), 1), None, &lines), Err(LedgerError::NotARecord { line: 2, .. })));
    }

    #[test]
    fn a_checkpoint_stands_for_the_segments_before_it_and_later_ones_come_on_top() {
        let part = |part: u32, last: bool, records: &[Record]| {
            let head = CheckpointHead {
                format: 1,
                replica: Uuid::nil(),
                number: 7,
                part,
                last,
                made_at: DateTime::UNIX_EPOCH,
                folder: None,
                upto: None,
            };
            text(&[&[Record::Checkpoint(head)], records].concat())
        };
        let mut holdings: Holdings = Holdings::default();
        holdings.take_part((Uuid::nil(), "00000007-1234"), None, &part(1, false, &[original(5, "a/b")])).unwrap();
        assert_eq!(holdings.last_segment, 0, "not before its last part");
        holdings.take_part((Uuid::nil(), "00000007-1234"), None, &part(2, true, &[original(6, "a/c")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals.len()), (7, 2));
        holdings.take_segment((Uuid::nil(), 8), None, &text(&[head(8, 1), original(5, "a/d")])).unwrap();
        assert_eq!((holdings.last_segment, holdings.originals[&OriginalId(Uuid::from_u128(5))].path.as_str()), (8, "a/d"));
        assert!(
            matches!(holdings.take_segment((Uuid::nil(), 1), None, &part(1, true, &[])), Err(LedgerError::NoHead)),
            "it is no segment"
        );
        assert!(matches!(
            holdings.take_part((Uuid::max(), "00000007-1234"), None, &part(1, true, &[])),
            Err(LedgerError::AnotherReplica { .. })
        ));
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
        assert_eq!(holdings.take_segment((Uuid::nil(), 1), None, sample).unwrap().0.number, 1);
        assert_eq!((holdings.people.len(), holdings.devices.len(), holdings.originals.len()), (1, 1, 1));
    }

    #[test]
    fn who_wrote_a_segment_is_proven_and_nothing_of_it_can_be_changed() {
        let (key, other) = (LedgerKey::new([7; 32]), LedgerKey::new([8; 32]));
        let lines = text(&[head(1, 2), original(5, "a/b"), original(6, "a/c")]);
        let proven = with_proof(lines.clone(), &key);
        let take = |text: &str, key: Option<&LedgerKey>, number| {
            let mut holdings: Holdings = Holdings::default();
            let taken = holdings.take_segment((Uuid::nil(), number), key, text).map(|(_, proof)| proof);
            assert_eq!(holdings.originals.len(), if taken.is_ok() { 2 } else { 0 });
            taken
        };
        assert_eq!(take(&proven, Some(&key), 1).unwrap(), Proof::Proven);
        assert_eq!(take(&proven, None, 1).unwrap(), Proof::None, "nobody can tell without the key");
        assert!(matches!(take(&proven, Some(&other), 1), Err(LedgerError::Forged)));
        assert!(matches!(take(&proven, Some(&key), 2), Err(LedgerError::Renamed)));
        assert!(matches!(take(&lines, Some(&key), 1), Err(LedgerError::NoProof)));
        assert!(matches!(take(&lines, None, 1), Err(LedgerError::NoProof)));
        // A line less, a line more, another order, another byte anywhere.
        let all: Vec<&str> = proven.lines().collect();
        let joined = |lines: &[&str]| lines.join("\n") + "\n";
        let less = joined(&[all[0], all[1], all[3]]);
        let turned = joined(&[all[0], all[2], all[1], all[3]]);
        let more = joined(&[all[0], all[1], all[2], all[1], all[3]]);
        let after = joined(&[all[0], all[1], all[3], all[2]]);
        let repeated = joined(&[all[0], all[1], all[2], all[3], all[3]]);
        for changed in [less, turned, more, after, repeated] {
            assert!(take(&changed, Some(&key), 1).is_err(), "{changed}");
        }
        for at in 0..proven.len() - 1 {
            let mut bytes = proven.clone().into_bytes();
            bytes[at] ^= 1;
            if let Ok(text) = String::from_utf8(bytes) {
                assert!(take(&text, Some(&key), 1).is_err(), "byte {at}");
            }
        }
        // One that says it is older than proofs are has none, and the reader hears that.
        let older = text(&[head(1, 1), original(5, "a/b"), original(6, "a/c")]);
        assert_eq!(take(&older, Some(&key), 1).unwrap(), Proof::None);
    }

    #[test]
    fn a_part_of_one_checkpoint_is_no_part_of_another() {
        let key = LedgerKey::new([7; 32]);
        let head = CheckpointHead {
            format: 2,
            replica: Uuid::nil(),
            number: 7,
            part: 1,
            last: true,
            made_at: DateTime::UNIX_EPOCH,
            folder: Some("00000007-1234".into()),
            upto: None,
        };
        let part = with_proof(text(&[Record::Checkpoint(head), original(5, "a/b")]), &key);
        let mut holdings: Holdings = Holdings::default();
        assert_eq!(holdings.take_part((Uuid::nil(), "00000007-1234"), Some(&key), &part).unwrap().1, Proof::Proven);
        let moved = holdings.take_part((Uuid::nil(), "00000009-1234"), Some(&key), &part);
        assert!(matches!(moved, Err(LedgerError::Renamed)));
    }

    /// A sample of the released format, word for word, with a proof that `openssl` computes as well.
    #[test]
    fn format_2_is_read_as_released() {
        let key = LedgerKey::parse("000102030405060708090a0b0c0d0e0f101112131415161718191a1b1c1d1e1f").unwrap();
        let sample = r#"{"type":"segment","format":2,"replica":"00000000-0000-0000-0000-000000000000","number":2,"made_at":"2026-11-28T08:00:00Z","before":{"name":"ledger/00000001-9d2c44e1.jsonl.gz.age","sha256":"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"}}
{"type":"person","id":"0198a000-0000-7000-8000-000000000001","name":"Juno","role":"keeper","folder":"juno"}
{"type":"mac","hmac_sha256":"c588e4e2ae0c688c317a74c3e53af7ddf63c52e75f87080fa3fb1ca7ec108524"}
"#;
        let mut holdings: Holdings = Holdings::default();
        let (head, proof) = holdings.take_segment((Uuid::nil(), 2), Some(&key), sample).unwrap();
        assert_eq!((head.before.unwrap().name.as_str(), proof), ("ledger/00000001-9d2c44e1.jsonl.gz.age", Proof::Proven));
    }
}
