//! Checks of copies: what was read again, and what it says.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::StoreId;

/// All places, with how they were checked last.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Checks {
    /// One line for each place and kind of check.
    pub checks: Vec<Check>,
    /// Copies made good at home within the last thirty days.
    pub healed_home: u64,
    /// Every copy is read again within so many days.
    pub cover_days: u32,
    /// Copies made good in stores within the last thirty days.
    pub healed_away: u64,
}

/// One kind of check of one place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Check {
    /// The store; none for the home disk.
    #[schema(value_type = Option<Uuid>)]
    pub store: Option<StoreId>,
    /// What people call the place.
    pub place: String,
    /// `reading` (copies read from start to end), `listing` (a store's list compared) or `drill` (a random sample brought back).
    pub kind: String,
    /// Copies of that place that are bad now, whatever was found when.
    pub bad_now: u64,
    /// Why nothing is looked at there just now: its store waits.
    pub waits_for: Option<String>,
    /// When the next one is due; none while one is under way.
    pub next_at: Option<DateTime<Utc>>,
    /// The one that is under way.
    pub now: Option<CheckResult>,
    /// The last one that ended.
    pub last: Option<CheckResult>,
}

/// How one check went.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckResult {
    /// When it began; none while it waits its turn.
    pub began_at: Option<DateTime<Utc>>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Everything is read, not a portion.
    pub whole: bool,
    /// Copies that should be there.
    pub population: u64,
    /// Looked at.
    pub checked: u64,
    /// Bytes of these, as originals.
    pub bytes: u64,
    /// Damaged.
    pub wrong: u64,
    /// Not there. In a drill: could not be had.
    pub missing: u64,
    /// Out of reach: the folder outside the library that they were left in is empty, or not there.
    pub unseen: u64,
    /// There, and known to nobody.
    pub unknown: u64,
    /// What it says, in a sentence, or why it could not be done.
    pub said: Option<String>,
    /// It could not be done.
    pub failed: bool,
}

/// Check something now, all of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WantCheck {
    /// The store; none for the home disk.
    #[serde(default)]
    #[schema(value_type = Option<Uuid>)]
    pub store: Option<StoreId>,
    /// `reading`, `listing` or `drill`; the home disk has only `reading`.
    pub kind: String,
}
