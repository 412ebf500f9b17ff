//! Clearances: may a device remove its copies?

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest};

/// The most entries in one request.
pub const LARGEST_CLEARANCE: usize = 100;
/// The most bytes in one request: every one of them is read again at home before the answer.
pub const MOST_BYTES_CLEARED: u64 = 2_000_000_000;

/// One file that a device would like to remove.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClearanceEntry {
    /// SHA-256 of the device's copy, read just now.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// Its length in bytes.
    pub size: u64,
    /// Its name on the device.
    pub name: String,
    /// The album or folder it is in.
    pub source: String,
}

/// Asks for clearances.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClearanceRequest {
    /// Made up by the device for this one request, 16 to 64 letters and digits. The answer carries it, so that an old answer
    /// clears nothing.
    pub nonce: String,
    /// At most [`LARGEST_CLEARANCE`] entries of at most [`MOST_BYTES_CLEARED`] together (one larger file may stand alone).
    pub entries: Vec<ClearanceEntry>,
    /// Look and say, but clear nothing.
    #[serde(default)]
    pub rehearse: bool,
}

/// The answer to one entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum ClearanceAnswer {
    /// The device may remove its copy.
    Clear {
        /// When the copy at home was read from start to end and found right.
        home_read_at: DateTime<Utc>,
        /// The store that counts, where one was demanded.
        store: Option<String>,
        /// When it was last read back from there and found right.
        proven_at: Option<DateTime<Utc>>,
    },
    /// The device keeps its copy.
    Keep {
        /// Why, for the person who owns the device.
        reason: String,
    },
}

/// The answers, in the order of the entries.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Clearances {
    /// Names this clearance when the device says what it removed. Absent when nothing is cleared.
    pub clearance: Option<Uuid>,
    /// The nonce of the request.
    pub nonce: String,
    /// The device it is for.
    #[schema(value_type = Uuid)]
    pub device: DeviceId,
    /// How many seconds it holds, from the moment of asking, by whatever clock the device counts seconds with.
    pub holds_seconds: u32,
    /// How deep the keeper demands: `home`, `offsite` or `proven`.
    pub demanded: String,
    /// One for each entry.
    pub answers: Vec<ClearanceAnswer>,
}

/// What a device removed with a clearance. Said once.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Removed {
    /// A part of the entries that were cleared.
    pub entries: Vec<ClearanceEntry>,
}
