//! The records of a ledger, and what each of them says.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Deserializer, Serialize};

use super::heads::{CheckpointHead, LedgerEnd, SegmentHead};
use crate::{
    AlbumId, DeviceId, Digest, OriginalId, PersonId,
    arrangement::Step,
    capture::CaptureRule,
    checksum::{Checksum, ObjectHash},
    clearance::Depth,
    cost::Prices,
    filing::{FiledPath, FilingPlan},
    kind::MediaKind,
    name::OriginalName,
    retention::Retention,
    window::Week,
};

/// The version of the record format that this program writes. Higher ones are refused, never guessed at.
pub const FORMAT: u32 = 3;

/// From this version on every segment carries a proof of who wrote it ([`MacRecord`]).
pub(super) const PROVEN_FROM: u32 = 2;

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

/// One record as its line, without the line's end.
pub fn line(record: &Record) -> String {
    serde_json::to_string(record).expect("a record holds only text, numbers and times, which JSON can say")
}

/// The last line of a segment, or of a part of a checkpoint.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MacRecord {
    /// HMAC-SHA-256 (RFC 2104) of all bytes before this line, under the household's ledger key, in 64 hexadecimal digits.
    pub hmac_sha256: String,
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
    /// Its albums, all of them: one that is not here is none any more.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub albums: Vec<AlbumRecord>,
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
    /// The checksum that it was seen to verify; none: it takes whatever arrives. Up to format 2 it was called `notices`, and told whether
    /// it verified SHA-256.
    #[serde(default, alias = "notices", deserialize_with = "word_or_whether", skip_serializing_if = "Option::is_none")]
    pub checksum: Option<Checksum>,
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

/// A checksum by its word; or, as it was written before there were several, whether SHA-256 was verified.
fn word_or_whether<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Checksum>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Told {
        Word(Checksum),
        Whether(bool),
    }
    Ok(match Told::deserialize(from)? {
        Told::Word(checksum) => Some(checksum),
        Told::Whether(verifies) => verifies.then_some(Checksum::Sha256),
    })
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

/// Pictures that somebody gathered. Which ones, these say themselves: [`OriginalRecord::albums`].
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AlbumRecord {
    /// Stable across names.
    pub id: AlbumId,
    /// Whose it is.
    pub person: PersonId,
    /// As shown.
    pub name: String,
    /// What is written about it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub words: String,
    /// What everybody may who lives in the household: `look` or `add`; absent: nothing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub household: Option<String>,
    /// Whom it is shared with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<AlbumShareRecord>,
    /// The picture that stands for it, if one was chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cover: Option<OriginalId>,
    /// In which order, and with which words between, if somebody arranged it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arrangement: Option<Vec<Step>>,
    /// The line that it follows, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follows: Option<FollowsRecord>,
    /// Since when there is one.
    pub made_at: DateTime<Utc>,
}

/// What an album follows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FollowsRecord {
    /// The line.
    pub line: String,
    /// How it was read when it was written ([`crate::find::followed::reading`]).
    pub read_as: String,
}

/// Somebody whom an album is shared with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AlbumShareRecord {
    /// Who.
    pub person: PersonId,
    /// `look` or `add`.
    pub may: String,
}

/// That an original is in an album; with it, all of its picture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct InAlbumRecord {
    /// Which.
    pub album: AlbumId,
    /// Who put it there, if anybody knows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<PersonId>,
    /// When.
    pub at: DateTime<Utc>,
    /// Whether it came in because the album follows a line.
    #[serde(default, skip_serializing_if = "is_false")]
    pub followed: bool,
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
    /// Who likes it best.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub favourite_of: Vec<PersonId>,
    /// The albums that it is in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub albums: Vec<InAlbumRecord>,
    /// The albums that it was taken out of, and does not come into again because they follow a line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without: Vec<AlbumId>,
    /// What people wrote about it; what its file says is in its file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<WordsRecord>,
    /// What people said about when it was taken. The times here are with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given_time: Option<GivenTimeRecord>,
    /// What people said about where it was taken; what its file says is in its file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given_place: Option<GivenPlaceRecord>,
    /// How somebody turned it; how it lies otherwise is in its file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub given_turn: Option<GivenTurnRecord>,
    /// Whether its picture was put away.
    #[serde(default, skip_serializing_if = "is_false")]
    pub put_away: bool,
    /// When its person last had it stand for its shot, if they did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forward: Option<DateTime<Utc>>,
    /// The file of whose picture it is a version, because its person said so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version_of: Option<OriginalId>,
    /// Set while it waits for its person to take it, after somebody outside brought it by a link.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub brought: Option<BroughtRecord>,
    /// Its sealed object in this store.
    pub object: ObjectRecord,
}

fn is_false(value: &bool) -> bool {
    !*value
}

/// What somebody wrote about a picture. Both empty: that nothing is said, whatever its file says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WordsRecord {
    /// In one line.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// The same at length.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub caption: String,
    /// Who wrote it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<PersonId>,
    /// When.
    pub at: DateTime<Utc>,
}

/// That somebody said when a picture was taken.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenTimeRecord {
    /// So many were added to what is known otherwise.
    pub seconds: i64,
    /// Who said it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<PersonId>,
    /// When they did.
    pub at: DateTime<Utc>,
}

/// That somebody said where a picture was taken.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct GivenPlaceRecord {
    /// Degrees north and east. None: that it has no place, whatever its file says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<(f64, f64)>,
    /// Who said it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<PersonId>,
    /// When they did.
    pub at: DateTime<Utc>,
}

/// That somebody turned a picture.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GivenTurnRecord {
    /// Quarters to the right: 1 to 3.
    pub quarters: u8,
    /// Who did.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<PersonId>,
    /// When.
    pub at: DateTime<Utc>,
}

/// That somebody outside brought it by a link.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BroughtRecord {
    /// The album that it is to be in, if there still is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub album: Option<AlbumId>,
    /// Who said that they sent it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub by: String,
    /// When it came.
    pub at: DateTime<Utc>,
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
    /// The hash of the sealed bytes, so that a damaged object is found without a key. SHA-256 up to format 2.
    #[serde(flatten)]
    pub hash: ObjectHash,
}
