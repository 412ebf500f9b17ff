//! Deleting, and taking back.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{OriginalId, deletion::Stage};

/// Which originals; at most 1,000 at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Chosen {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub originals: Vec<OriginalId>,
}

/// What was deleted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NowHeld {
    /// So many went to holding, with the other files of their shots.
    pub count: u64,
    /// All of these: what brings them back is asked by them.
    #[schema(value_type = Vec<Uuid>)]
    pub files: Vec<OriginalId>,
    /// Until when they can be taken back at home; none: for ever.
    pub until: Option<DateTime<Utc>>,
    /// How many days longer the stores keep their sealed copies.
    pub offsite_days: u16,
}

/// A page of what was deleted and can be taken back, what was deleted last first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Holding {
    /// The originals.
    pub held: Vec<HeldOriginal>,
    /// For the next page; none: this is the last one.
    pub next: Option<String>,
    /// How many days something waits in holding from the day it is deleted; 0: for ever.
    pub home_days: u16,
    /// How many days longer the stores keep their sealed copies.
    pub offsite_days: u16,
    /// For the keeper: what the safety stop holds, of the whole household.
    pub safety_stop: Option<SafetyStop>,
}

/// Something that was deleted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HeldOriginal {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// Its name in the library.
    pub name: String,
    /// The folder where it was, and is again when it is taken back.
    pub folder: String,
    /// What sort of file it is.
    pub kind: String,
    /// Bytes.
    pub size: u64,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Quarters to the right that somebody turned it by: its preview is turned, too, and another one than before.
    pub turned: u8,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// Who deleted it.
    pub deleted_by: String,
    /// When.
    pub deleted_at: DateTime<Utc>,
    /// When it leaves the home disk, or, once it has, the last store that has it; none: never.
    pub leaves_at: Option<DateTime<Utc>>,
    /// Where it stands: `held` at home, or, once its time there is over, `leaving-home` or `in-stores`; then taking it back fetches it from a
    /// store.
    pub stage: Stage,
}

/// The safety stop: so much would leave holding within one day that somebody should look first.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct SafetyStop {
    /// Originals that wait.
    pub count: u64,
    /// Their bytes.
    pub bytes: u64,
    /// The share of the library that would have gone within one day, in percent.
    pub percent: u8,
    /// The share that may.
    pub limit: u8,
}

/// What came of taking back, ending, or letting go.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Changed {
    /// So many.
    pub count: u64,
    /// Of these, so many have to be fetched from a store.
    pub fetched: u64,
}
