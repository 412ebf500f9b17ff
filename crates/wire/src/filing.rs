//! Filing plans: trying one out, and filing the library by it.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::state::RefilingState;

/// A plan to try out or to apply.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanChoice {
    /// The word of a ready-made plan, or a pattern.
    pub plan: String,
}

/// What a plan would do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanPreview {
    /// The plan's pattern.
    pub plan: String,
    /// Originals in the library.
    pub total: u64,
    /// How many would be moved.
    pub moves: u64,
    /// A few of them, from all over the library.
    pub examples: Vec<PlannedMove>,
}

/// One original's way.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlannedMove {
    /// Where it is.
    pub from: String,
    /// Where it would go (with a number if that name is taken by then).
    pub to: String,
}

/// A re-filing and how far it has come.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Refiling {
    /// Its id.
    pub id: Uuid,
    /// The plan's pattern.
    pub plan: String,
    /// The pattern before.
    pub before: String,
    /// The re-filing that this one takes back.
    pub undoes: Option<Uuid>,
    /// Who began it.
    pub made_by: String,
    /// When.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// `running`, `paused`, `done` or `stopped`.
    pub state: RefilingState,
    /// Originals in it.
    pub total: u64,
    /// Looked at so far.
    pub looked: u64,
    /// Of these, moved.
    pub moved: u64,
    /// Of these, left where they were because something was in the way.
    pub failed: u64,
}

/// What to do with a re-filing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RefilingOrder {
    /// Rest until somebody says to go on.
    Pause,
    /// Go on.
    Resume,
    /// End it here. What was moved stays moved, and can be taken back.
    Stop,
    /// Take it back: everything to where it was.
    Undo,
}

/// An order for a re-filing.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefilingChange {
    /// The order.
    pub order: RefilingOrder,
}

/// Puts the clock of a device right, for what it took in a range.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewCorrection {
    /// First local time of capture, as it is now.
    pub from: NaiveDateTime,
    /// Last local time of capture, as it is now.
    pub to: NaiveDateTime,
    /// Seconds to add; negative when the clock was ahead.
    pub seconds: i64,
}

/// A correction of a device's clock.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Correction {
    /// Its id.
    pub id: Uuid,
    /// First local time of capture, as it was before.
    pub from: NaiveDateTime,
    /// Last one.
    pub to: NaiveDateTime,
    /// Seconds added.
    pub seconds: i64,
    /// How many originals it moved.
    pub originals: u64,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// When it was taken back.
    pub undone_at: Option<DateTime<Utc>>,
}
