//! How segments and parts of checkpoints begin, and how one names another.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::Digest;

/// The first line of a segment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SegmentHead {
    /// [`FORMAT`] of the writer.
    pub format: u32,
    /// The replica this segment belongs to, as in the store's `FORMAT.json`.
    pub replica: Uuid,
    /// Counts from 1.
    pub number: u64,
    /// When it was written.
    pub made_at: DateTime<Utc>,
    /// The one that was written before it; none for the first one, and for the first one after format 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<SegmentRef>,
}

/// Which segment, and with which bytes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SegmentRef {
    /// Its name below the store's prefix.
    pub name: String,
    /// SHA-256 of its bytes in the store.
    pub sha256: Digest,
}

/// The last segment of a ledger that somebody knows of.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LedgerEnd {
    /// Its number.
    pub number: u64,
    /// Which one it is.
    #[serde(flatten)]
    pub segment: SegmentRef,
}

impl LedgerEnd {
    /// The number in a segment's name, if it has the form of one.
    pub fn number_of(name: &str) -> Option<u64> {
        name.strip_prefix("ledger/")?.split('-').next()?.parse().ok()
    }

    /// That segment, by its name.
    pub fn of(segment: SegmentRef) -> Option<Self> {
        Some(LedgerEnd { number: Self::number_of(&segment.name)?, segment })
    }
}

/// The first line of a part of a checkpoint.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CheckpointHead {
    /// [`FORMAT`] of the writer.
    pub format: u32,
    /// The replica it belongs to.
    pub replica: Uuid,
    /// It stands for all segments up to this one.
    pub number: u64,
    /// Counts from 1.
    pub part: u32,
    /// Whether it is the last one. A checkpoint without its last part is none.
    pub last: bool,
    /// When it was written.
    pub made_at: DateTime<Utc>,
    /// The name of its folder, so that no part of one passes for a part of another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// The last segment that it stands for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upto: Option<SegmentRef>,
}
