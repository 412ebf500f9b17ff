//! The section through the ground, in numbers.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{
    OriginalId,
    state::{HouseState, KitWorth},
};

use crate::{amount::Amount, offsite::Store, people::Device};

/// The state of the house, for anybody who asks.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Lamp {
    /// `setup`, `well`, `busy`, `look` or `trouble`.
    pub state: HouseState,
    /// One sentence that names nobody.
    pub reason: String,
    /// The service's version.
    pub version: String,
}

/// Everything on the Overview.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    /// `well`, `busy`, `look` or `trouble`.
    pub state: HouseState,
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
    pub free_bytes: Option<u64>,
    /// How the recovery kit is. For the keeper.
    pub kit: Option<KitWorth>,
    /// Three copies, in two kinds of place, one of them away from home. For the keeper.
    pub three_two_one: Option<ThreeTwoOne>,
}

/// By how many originals the rule of three copies, two kinds of place and one away is met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ThreeTwoOne {
    /// It is met by these.
    pub met: Amount,
    /// Not by these, put together by where their copies are; the most first.
    pub short: Vec<ShortOfCopies>,
}

/// Originals with good copies in the same places, of which there are too few.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ShortOfCopies {
    /// The places, as people call them.
    pub places: Vec<String>,
    /// What is lacking, for a person: `needs 1 more copy`.
    pub needs: String,
    /// How many.
    pub amount: Amount,
}

/// Files with their copies, a page of them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CopiedFiles {
    /// Those that came home first come first.
    pub files: Vec<CopiedFile>,
    /// For the next page; none on the last one.
    pub next: Option<String>,
}

/// One file with its copies.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CopiedFile {
    /// The original.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// Whose it is.
    pub person: String,
    /// Where it is in the library.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// Where it has good copies.
    pub places: Vec<String>,
    /// What the rule of three copies lacks; none: nothing.
    pub needs: Option<String>,
}
