//! What a device says and asks: offers, items, its own status.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{
    DeviceId, Digest, OriginalId,
    state::{HouseState, Layer},
};

/// The most entries in one offer.
pub const LARGEST_OFFER: usize = 10_000;

/// One original that a device has.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OfferEntry {
    /// SHA-256 of its bytes.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// Length in bytes.
    pub size: u64,
    /// Its name on the device.
    pub name: String,
    /// The album or folder it is in.
    pub source: String,
    /// Its modification time on the device.
    #[serde(default)]
    pub file_time: Option<DateTime<Utc>>,
}

/// A batch of what a device has.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Offer {
    /// At most [`LARGEST_OFFER`] entries.
    pub entries: Vec<OfferEntry>,
}

/// The answers, in the order of the entries.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct OfferAnswers {
    /// One for each entry.
    pub answers: Vec<OfferAnswer>,
}

/// The answer to one entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum OfferAnswer {
    /// Send it.
    Want,
    /// These bytes are at home already.
    Have,
    /// Do not send it: nothing is wrong, its owner deleted it at home.
    Leave {
        /// A sentence for that person.
        reason: String,
    },
    /// It cannot be taken.
    No {
        /// A sentence for the person who owns the device.
        reason: String,
    },
}

/// What the server knows of the device that asks.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeviceStatus {
    /// The device's id.
    #[schema(value_type = Uuid)]
    pub device: DeviceId,
    /// Its name.
    pub name: String,
    /// Whose it is.
    pub person_name: String,
    /// The household's name.
    pub household: String,
    /// Offered by this device.
    pub offered: u64,
    /// Of these, at home.
    pub home: u64,
    /// Of these, in a store.
    pub offsite: u64,
    /// Of these, read back from a store lately.
    pub proven: u64,
    /// Of these, wanted and not here yet.
    pub waiting: u64,
    /// The state of the house, in one word.
    pub house: HouseState,
    /// The same in a sentence.
    pub sentence: String,
}

/// One file of a device and how deep it has sunk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Item {
    /// The original at home, if it is there.
    #[schema(value_type = Option<Uuid>)]
    pub original: Option<OriginalId>,
    /// Name on the device.
    pub name: String,
    /// Album or folder.
    pub source: String,
    /// SHA-256.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// Bytes.
    pub size: u64,
    /// Where it is in the library.
    pub path: Option<String>,
    /// `device`, `home`, `offsite` or `proven`.
    pub layer: Layer,
}

/// A page of items.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Items {
    /// In the order of source and name.
    pub items: Vec<Item>,
    /// Give this back as `after` for the next page; absent on the last one.
    pub next: Option<String>,
}
