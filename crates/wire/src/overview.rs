//! The section through the ground, in numbers.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{offsite::Store, people::Device};

/// How many, and how large together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Amount {
    /// Originals.
    pub count: u64,
    /// Bytes.
    pub bytes: u64,
}

/// The state of the house, for anybody who asks.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HouseState {
    /// `setup`, `well`, `busy`, `look` or `trouble`.
    pub state: String,
    /// One sentence that names nobody.
    pub reason: String,
    /// The service's version.
    pub version: String,
}

/// Everything on the Overview.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// `well`, `busy`, `look` or `trouble`.
    pub state: String,
    /// The most exposed fact.
    pub sentence: String,
    /// The rest.
    pub rest: String,
    /// Offered by devices, wanted, and not here yet.
    pub waiting: Amount,
    /// Good at home.
    pub home: Amount,
    /// Confirmed by at least one store.
    pub offsite: Amount,
    /// Read back from a store, opened and found right lately.
    pub proven: Amount,
    /// How many days a proof counts.
    pub proven_days: u32,
    /// At home and in no store.
    pub exposed: Amount,
    /// When the oldest exposed one came home.
    pub exposed_since: Option<DateTime<Utc>>,
    /// Found bad or gone at home.
    pub damaged: u64,
    /// On their way home from a store, after the house was rebuilt.
    pub coming: Amount,
    /// Background work that gave up.
    pub failed_work: u64,
    /// The devices that are not revoked.
    pub devices: Vec<Device>,
    /// The stores.
    pub stores: Vec<Store>,
    /// Free on the library's disk, above the reserve.
    pub free_bytes: u64,
}
