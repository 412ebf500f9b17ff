//! Members, sessions, devices and pairing codes.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId};

/// Sign in.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The member's name, in any case.
    pub name: String,
    /// The password.
    pub password: String,
}

/// The password, typed again.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ProvePassword {
    /// The member's own.
    pub password: String,
}

/// Change one's own password. All other sessions end by it.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ChangePassword {
    /// The one that counts now.
    pub old: String,
    /// The one that is to count, of at least ten characters.
    pub new: String,
}

/// Somewhere one is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignedIn {
    /// Its id.
    pub id: Uuid,
    /// What the browser says of itself, in a few words.
    pub browser: String,
    /// Since when.
    pub since: DateTime<Utc>,
    /// Used last, to a few minutes.
    pub seen_at: Option<DateTime<Utc>>,
    /// The one that asks.
    pub this: bool,
}

/// Who is signed in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The member's id.
    #[schema(value_type = Uuid)]
    pub id: PersonId,
    /// As shown.
    pub name: String,
    /// `keeper`, `member` or `guest`.
    pub role: String,
    /// The household's name.
    pub household: String,
}

/// What a browser finds when it comes here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    /// Whether there is a household. If not, there is a door.
    pub set_up: bool,
    /// Who is signed in with this browser; none: nobody.
    pub me: Option<Me>,
}

/// The household's own rules.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Household {
    /// What it calls itself.
    pub name: String,
    /// The filing plan as a pattern.
    pub filing: String,
    /// The word of the ready-made plan that this is, if it is one.
    pub filing_plan: Option<String>,
    /// The ready-made plans.
    pub plans: Vec<ReadyPlan>,
    /// How deep an original must have sunk before a device may let go of it: `home`, `offsite` or `proven`.
    pub clear_at: String,
    /// A JPEG is made beside each HEIC, for readers that know none.
    pub derive_jpeg: bool,
    /// How many days what was deleted waits in holding: 30, 60, 90, 180 or 365; 0: for ever.
    pub home_days: u16,
    /// How many days longer the stores keep their sealed copies; up to 365.
    pub offsite_days: u16,
    /// The safety stop: if more than this share of the library, in percent, would go within one day, nothing goes until the keeper has looked.
    pub safety_stop_percent: u8,
}

/// A ready-made filing plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReadyPlan {
    /// Its word.
    pub word: String,
    /// What people call it.
    pub title: String,
    /// Its pattern.
    pub pattern: String,
}

/// Where the library lives.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Place {
    /// The folder on the server.
    pub folder: String,
    /// Bytes free on its disk.
    pub free: u64,
    /// Bytes of the disk.
    pub total: u64,
    /// Bytes that are always kept free.
    pub reserve: u64,
    /// What is to be thought about, the gravest first.
    pub warnings: Vec<PlaceNote>,
}

/// Something about a place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlaceNote {
    /// It may cost pictures.
    pub grave: bool,
    /// What could happen, in plain words; begins small and has no full stop.
    pub sentence: String,
}

/// Change the household's own rules. What is left out stays.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct HouseholdChange {
    /// A filing plan: the word of a ready-made one, or a pattern.
    #[serde(default)]
    pub filing: Option<String>,
    /// `home`, `offsite` or `proven`.
    #[serde(default)]
    pub clear_at: Option<String>,
    /// Make a JPEG beside each HEIC. Turned off, those that are there stay.
    #[serde(default)]
    pub derive_jpeg: Option<bool>,
    /// 30, 60, 90, 180 or 365; 0: for ever. For what is deleted from now on.
    #[serde(default)]
    pub home_days: Option<u16>,
    /// Up to 365.
    #[serde(default)]
    pub offsite_days: Option<u16>,
    /// 1 to 100.
    #[serde(default)]
    pub safety_stop_percent: Option<u8>,
}

/// A member.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// The member's id.
    #[schema(value_type = Uuid)]
    pub id: PersonId,
    /// As shown.
    pub name: String,
    /// `keeper`, `member` or `guest`.
    pub role: String,
    /// The member's folder in the library.
    pub folder: String,
    /// Hard quota in bytes: what does not fit is refused.
    pub quota: Option<u64>,
    /// Soft quota in bytes: a warning, and nothing is refused.
    pub soft_quota: Option<u64>,
    /// `well`, `near` or `full`.
    pub quota_state: String,
    /// Originals at home.
    pub originals: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// Add a member.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewPerson {
    /// As shown; also used to sign in.
    pub name: String,
    /// `member` or `guest`.
    pub role: String,
    /// A first password, at least ten characters.
    pub password: String,
    /// Hard quota in bytes.
    #[serde(default)]
    pub quota: Option<u64>,
}

/// Change a member. What is left out stays.
#[derive(Default, Serialize, Deserialize, ToSchema)]
pub struct PersonChange {
    /// Hard quota in bytes; 0 takes the quota away.
    #[serde(default)]
    pub quota: Option<u64>,
    /// Soft quota in bytes; 0 takes it away.
    #[serde(default)]
    pub soft_quota: Option<u64>,
    /// A new password.
    #[serde(default)]
    pub password: Option<String>,
}

/// A paired device.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Device {
    /// The device's id.
    #[schema(value_type = Uuid)]
    pub id: DeviceId,
    /// Whose it is.
    #[schema(value_type = Uuid)]
    pub person: PersonId,
    /// The member's name.
    pub person_name: String,
    /// As shown.
    pub name: String,
    /// `phone`, `tablet`, `computer`, `program` (one that sends by an open protocol), `disk` or `archive` (adopted), or `other`.
    pub kind: String,
    /// When it was paired.
    pub paired_at: DateTime<Utc>,
    /// When its credential was taken away.
    pub revoked_at: Option<DateTime<Utc>>,
    /// Last contact.
    pub seen_at: Option<DateTime<Utc>>,
    /// When its credential ends because nobody used it, or ended. None: not soon.
    pub ends_at: Option<DateTime<Utc>>,
    /// End of its last complete run.
    pub complete_at: Option<DateTime<Utc>>,
    /// Version of its client.
    pub client: Option<String>,
    /// What it says it has, as of its last offer.
    pub offered: u64,
    /// Of these, at home.
    pub home: u64,
    /// Of these, wanted and not here yet.
    pub waiting: u64,
    /// Offered, refused, and not here: these are on the device alone.
    pub refused: u64,
    /// Why, of one of them.
    pub refused_why: Option<String>,
    /// Could not be read on the device in its last run.
    pub unread: u64,
    /// Bytes of what is waiting.
    pub waiting_bytes: u64,
    /// Whether a run is under way.
    pub sending: bool,
    /// What it has by its own word: counted in its sources, or named.
    pub has: u64,
    /// How much of that is still to come.
    pub to_come: u64,
    /// Whether it is only partly covered: by its owner's choice, or because it is shown a selection only.
    pub partial: bool,
    /// Why it does not send just now, in words that complete a sentence.
    pub waiting_for: Option<String>,
}

/// One source of a device against what is here.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceCoverage {
    /// What it is called.
    pub name: String,
    /// Files that are to be backed up, as the device said.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Of these, at home.
    pub home: u64,
    /// Of these, refused by the server.
    pub refused: u64,
    /// Removed by the device with a clearance; at home all the same.
    pub cleared: u64,
    /// Left out by the owner's choice.
    pub left_out: u64,
    /// That choice in a few words.
    pub rule: String,
    /// The platform shows the device only a selection.
    pub selection_only: bool,
    /// When the device said so.
    pub told_at: DateTime<Utc>,
}

/// Something that a device has and the household has not.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MissingFile {
    /// Source.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// Why the server does not want it, if that is why.
    pub refused: Option<String>,
    /// When the device last said that it has it.
    pub seen_at: DateTime<Utc>,
}

/// A device, number against number.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceCoverage {
    /// Its sources.
    pub sources: Vec<SourceCoverage>,
    /// The list of the difference: what was named and is not here, as much of it as was asked for.
    pub missing: Vec<MissingFile>,
    /// There is more of it.
    pub more: bool,
}

/// Rename a device.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceChange {
    /// The new name.
    pub name: String,
}

/// Make a pairing code.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct NewPairing {
    /// For whom; oneself if left out. Only the keeper may name somebody else.
    #[serde(default)]
    #[schema(value_type = Option<Uuid>)]
    pub person: Option<PersonId>,
}

/// A pairing code.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct Pairing {
    /// Its id, to ask about it and to withdraw it.
    pub id: Uuid,
    /// For whom.
    pub person_name: String,
    /// The code in the form to type, shown once.
    pub code: Option<String>,
    /// The pairing address, shown once.
    pub address: Option<String>,
    /// The address as a QR code (SVG), shown once.
    pub qr_svg: Option<String>,
    /// When it ends.
    pub expires_at: DateTime<Utc>,
    /// `waiting`, `claimed`, `withdrawn` or `expired`.
    pub state: String,
    /// The device that claimed it.
    pub device_name: Option<String>,
}

/// Claim a pairing code.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ClaimPairing {
    /// The code, as typed.
    pub code: String,
    /// What the device calls itself.
    pub device_name: String,
    /// `phone`, `tablet`, `computer` or `other`.
    pub device_kind: String,
    /// Name and version of the client.
    pub client: String,
}

/// Let a program send that speaks an open protocol and cannot be paired with a code.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NewProgram {
    /// What to call it, such as the program and the device it runs on. At most 60 characters.
    pub name: String,
}

/// What to type into such a program. The password is shown once; the server keeps only its hash.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct Connected {
    /// The device that the program is here.
    #[schema(value_type = Uuid)]
    pub device: DeviceId,
    /// Its name here.
    pub name: String,
    /// Address for programs that know folders (WebDAV).
    pub folders: String,
    /// Address for resumable uploads (tus 1.0). The password goes along as a bearer token.
    pub uploads: String,
    /// User name, for programs that ask for one.
    pub user: String,
    /// The password.
    pub password: String,
    /// SHA-256 of the service's certificate, for programs that show what they are about to trust.
    pub certificate: Option<String>,
}

/// A device's own credential. Shown once; the server keeps only its hash.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct Claimed {
    /// The device's id.
    #[schema(value_type = Uuid)]
    pub device: DeviceId,
    /// Its bearer token.
    pub token: String,
    /// The household's name.
    pub household: String,
    /// Whose device it is now.
    pub person_name: String,
    /// SHA-256 of the service's certificate.
    pub certificate: Option<String>,
    /// What the device may do from now on, in sentences.
    pub may: Vec<String>,
}
