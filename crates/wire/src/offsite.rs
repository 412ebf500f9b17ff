//! Stores and the recovery kit.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::{
    StoreId,
    state::{KitWorth, StoreState},
};

use crate::amount::Amount;

/// A store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Store {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: StoreId,
    /// As shown.
    pub name: String,
    /// URL of the endpoint.
    pub endpoint: String,
    /// Bucket.
    pub bucket: String,
    /// Prefix.
    pub prefix: String,
    /// Region.
    pub region: String,
    /// `idle` (everything is there, and its ledger names it), `listing` (everything is there, and the ledger follows), `sending`, `resting` (its week says so), `paused` (the keeper says so), `away` (a disk that is not connected),
    /// `failing` (tried again by itself) or `stopped` (waits for the keeper).
    pub state: StoreState,
    /// Why it failed or stopped.
    pub reason: Option<String>,
    /// When it will be tried again.
    pub retry_at: Option<DateTime<Utc>>,
    /// Confirmed there.
    pub held: Amount,
    /// Of these, read back lately.
    pub proven: Amount,
    /// Not there yet.
    pub to_go: Amount,
    /// Bytes of originals per second over the last minute of sending; 0 when idle.
    pub rate: u64,
    /// Number of the last ledger segment.
    pub ledger_segment: u64,
    /// Originals confirmed and not yet in the ledger.
    pub unlisted: u64,
    /// Parts of the ledger are missing or cannot be read any more, or it has keys of the past: all of it is to be written once more.
    pub ledger_due: bool,
    /// When it last took a copy.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// When, and how fast, copies go there.
    pub week: StoreWeek,
    /// What may leave just now.
    pub pace: StorePace,
    /// When that changes.
    pub pace_until: Option<DateTime<Utc>>,
    /// When everything will be there, by what its line has carried so far and the hours to come; none if that cannot be said.
    pub caught_up_at: Option<DateTime<Utc>>,
    /// Whether it is away from home. What is on a disk that stays in the house is a copy, and not offsite.
    pub away: bool,
    /// Whether what goes there is sealed; otherwise it is readable for whoever has it.
    pub sealed: bool,
    /// SHA-256 of the one certificate that is trusted there, if that is one for which no authority vouches.
    pub certificate: Option<String>,
    /// What it asks for, as the keeper wrote it down.
    pub prices: Prices,
    /// What that comes to; none while there are no prices.
    pub cost: Option<Cost>,
}

/// What a store asks for, in whole units of a currency. A gigabyte is 10⁹ bytes, a month a twelfth of a year.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Prices {
    /// The currency's sign or word, at most 8 letters.
    pub currency: String,
    /// For a gigabyte kept for a month.
    pub storage: f64,
    /// Gigabytes kept for nothing.
    pub free_storage: f64,
    /// For a thousand requests that write or list.
    pub writing: f64,
    /// For a thousand requests that read.
    pub reading: f64,
    /// For a gigabyte that is fetched.
    pub egress: f64,
    /// Gigabytes fetched in a month for nothing.
    pub free_egress: f64,
    /// Days that an object is paid for, even if it is removed before.
    pub minimum_days: u16,
    /// For each month, whatever is kept.
    pub fee: f64,
}

/// What the copies in a store cost, in its currency.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cost {
    /// A month of keeping what is there now.
    pub keeping: f64,
    /// A month of reading copies again, as the checks do.
    pub checking: f64,
    /// A month of sending what is new.
    pub sending: f64,
    /// A month in all.
    pub month: f64,
    /// The coming year, with the library growing as it does now.
    pub year: f64,
    /// A month in a year from now.
    pub month_in_a_year: f64,
    /// What is still paid for after it was removed.
    pub early: f64,
    /// Bringing everything home once.
    pub recovery: f64,
    /// Sealed bytes that come in a month, by what was taken within the last ninety days.
    pub growth: u64,
}

/// The last two weeks, hour by hour.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// What stores took; hours with nothing are left out.
    pub traffic: Vec<TrafficHour>,
    /// What was at home alone; hours in which nobody looked are left out.
    pub exposure: Vec<ExposedHour>,
}

/// What a store took in an hour.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrafficHour {
    /// The store.
    pub store: Uuid,
    /// What people call it.
    pub name: String,
    /// The beginning of the hour.
    pub hour: DateTime<Utc>,
    /// Sealed bytes.
    pub bytes: u64,
}

/// What was at home alone, the worst that was seen in an hour.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExposedHour {
    /// The beginning of the hour.
    pub hour: DateTime<Utc>,
    /// How many.
    pub originals: u64,
    /// Their bytes.
    pub bytes: u64,
    /// For how many hours the oldest of them had been at home.
    pub oldest_hours: u64,
}

/// When, and how fast, copies go to a store. The first window that holds decides.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreWeek {
    /// Hours with a pace of their own.
    pub windows: Vec<StoreWindow>,
    /// Outside of them.
    pub otherwise: StorePace,
}

/// Hours of some days.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StoreWindow {
    /// `mon` to `sun`; none means every day.
    pub days: Vec<String>,
    /// `HH:MM`, by the clock of the house.
    pub from: String,
    /// Until shortly before then; may be past midnight.
    pub until: String,
    /// What may leave then.
    pub pace: StorePace,
}

/// What may leave.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StorePace {
    /// `rest`, `limited` or `full`.
    pub may: String,
    /// For `limited`: bytes per second, at least 32,000.
    pub rate: Option<u64>,
}

/// Changes to how a store is sent to.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct StoreChange {
    /// Whether it waits.
    #[serde(default)]
    pub paused: Option<bool>,
    /// Another week.
    #[serde(default)]
    pub week: Option<StoreWeek>,
    /// Whether it is away from home.
    #[serde(default)]
    pub away: Option<bool>,
    /// What it asks for.
    #[serde(default)]
    pub prices: Option<Prices>,
}

/// Add a store, or give one new keys.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewStore {
    /// As shown.
    pub name: String,
    /// URL of the S3-compatible endpoint, with the bucket in its host name or not; `davs://` (or `dav://`) and the rest of the address of
    /// a WebDAV share, with a name and a password as its keys; or `file://` and the whole path of a folder of the server, for a disk,
    /// which needs nothing else but its name.
    pub endpoint: String,
    /// Region.
    #[serde(default)]
    pub region: String,
    /// Bucket; it must exist.
    #[serde(default)]
    pub bucket: String,
    /// Prefix; may be empty.
    #[serde(default)]
    pub prefix: String,
    /// Access key id.
    #[serde(default)]
    pub access_key: String,
    /// Secret access key.
    #[serde(default)]
    pub secret_key: String,
    /// Whether it is away from home; not said means that it is. A disk that stays in the house is not.
    #[serde(default)]
    pub away: Option<bool>,
    /// Copies that anybody who has the store can look at, with names that make sense, instead of sealed ones. Cannot be changed afterwards.
    #[serde(default)]
    pub readable: bool,
    /// SHA-256 of the one certificate that is trusted there, with colons or without: for a store for which no authority vouches. With an
    /// address that is spoken to by TLS alone.
    #[serde(default)]
    pub certificate: Option<String>,
}

/// A store that was tried out.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trial {
    /// Whether it can be used.
    pub usable: bool,
    /// The steps that were tried; what comes after one that went badly was not.
    pub steps: Vec<TrialStep>,
}

/// One step of a trial.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialStep {
    /// `reach`, `clock`, `sign-in`, `write`, `read-back`, `notice`, `list`, `conditional`, `lock`, `delete` or `speed`.
    pub step: String,
    /// `well`, `noted` (not needed, and good to know) or `badly`.
    pub went: String,
    /// What that means, in a sentence.
    pub said: String,
    /// SHA-256 of the certificate that was shown (`3F:0A:…`, as `openssl x509 -fingerprint -sha256` prints it), where that is not trusted.
    /// Whoever knows that it is the store's may trust it.
    pub certificate: Option<String>,
}

/// Go on after a stop.
#[derive(Default, Serialize, Deserialize, ToSchema)]
pub struct ResumeStore {
    /// New access key id, if it changed.
    #[serde(default)]
    pub access_key: Option<String>,
    /// New secret access key, if it changed.
    #[serde(default)]
    pub secret_key: Option<String>,
    /// SHA-256 of the certificate that is trusted from now on, if it was given a new one.
    #[serde(default)]
    pub certificate: Option<String>,
}

/// The household's key, as far as the server has it and anybody may know.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseKey {
    /// Its public half, `age1…`.
    pub recipient: String,
    /// When it was made.
    pub made_at: Option<DateTime<Utc>>,
    /// How many it had before.
    pub earlier: u64,
    /// How many of the household's keys this server does not keep, though it is to open copies: it was not given all of the kit.
    pub lacks: u64,
    /// The server was told to forget what opens copies.
    pub strict: bool,
    /// Whether the server can open copies just now.
    pub opens: bool,
    /// For so long a lent key opens them.
    pub lent_seconds: Option<u64>,
    /// Others who can open copies.
    pub others: Vec<OtherRecipient>,
    /// The recovery kit.
    pub kit: KitState,
    /// Copies that are sealed for earlier recipients and will be sealed anew, a part each day.
    pub to_reseal: u64,
    /// Their bytes.
    pub to_reseal_bytes: u64,
}

/// How the recovery kit is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KitState {
    /// `needless` (there is no store), `missing` (never shown), `outdated` (keys or stores have changed since), `unproven` (nobody has shown
    /// that it was kept) or `proven`.
    pub state: KitWorth,
    /// When it was shown last.
    pub shown_at: Option<DateTime<Utc>>,
    /// When a part of it was typed back.
    pub proven_at: Option<DateTime<Utc>>,
}

/// Somebody else who can open copies.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OtherRecipient {
    /// The public half of their key, `age1…`.
    pub recipient: String,
    /// What people call them.
    pub name: String,
    /// Since when.
    pub added_at: DateTime<Utc>,
}

/// Let somebody else open copies as well.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewRecipient {
    /// The public half of their key, `age1…`.
    pub recipient: String,
    /// What people call them.
    pub name: String,
    /// The keeper's password, again.
    pub password: String,
}

/// Lend the server the key of the recovery kit.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct LendKey {
    /// The kit's line `Key`, and its lines `Older key`, if there are any; or all of the kit. What else is in it is passed over.
    pub key: String,
    /// For good, not for an hour.
    #[serde(default)]
    pub keep: bool,
}

/// Show that the recovery kit was kept.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct KitProof {
    /// The last eight characters of its line `Key`.
    pub key_end: String,
    /// Its line `Check`.
    pub check: String,
}

/// Ask for the recovery kit.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ShowKit {
    /// The keeper's password, again.
    pub password: String,
}

/// The recovery kit.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct Kit {
    /// The text to keep.
    pub text: String,
    /// The same as a QR code (SVG).
    pub qr_svg: String,
}
