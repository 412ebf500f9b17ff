//! Background work, and the append-only record.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{DeviceId, OriginalId};

/// One kind of background work in numbers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WorkKind {
    /// `preview`, `replicate`, `ledger`, `prove`, `group`, `refile`, `adopt`, `derive`, `reading`, `listing`, `drill`, `heal`, `hold`, `release`,
    /// `remove`, `fetch`, `reseal`, `town`, `words` or `film`.
    pub kind: String,
    /// Waiting its turn.
    pub waiting: u64,
    /// Under way.
    pub running: u64,
    /// Failed and waiting to be tried again.
    pub retrying: u64,
    /// Given up; waits for somebody.
    pub failed: u64,
}

/// One piece of work that failed at least once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WorkFault {
    /// Its number.
    pub id: i64,
    /// The kind.
    pub kind: String,
    /// What it is about, for a person.
    pub about: String,
    /// How often it was tried.
    pub attempts: i32,
    /// What happened last.
    pub error: String,
    /// When it is tried next; absent if it was given up.
    pub due: Option<DateTime<Utc>>,
}

/// All background work.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Work {
    /// In numbers.
    pub kinds: Vec<WorkKind>,
    /// Faults, worst first: at most as many as were asked for.
    pub faults: Vec<WorkFault>,
    /// How many there are in all.
    pub faults_in_all: u64,
}

/// How many were given another chance.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Retried {
    /// Pieces of work.
    pub count: u64,
}

/// One line of the append-only record: who did what, and when.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecordLine {
    /// When.
    pub at: DateTime<Utc>,
    /// Who: a member's name, a device's name, or `Ypogeion`.
    pub who: String,
    /// What, in a sentence.
    pub what: String,
    /// How often that was said on that day, by the server's clock; this is the last time.
    pub times: u64,
}

/// What the service tells listeners as server-sent events. The event's name is the kind; its data is this, as JSON.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum LiveEvent {
    /// Numbers changed; ask for the overview again.
    Overview,
    /// These originals came, left, or are otherwise now. Only their member hears of it.
    Originals {
        /// Which.
        #[schema(value_type = Vec<Uuid>)]
        ids: Vec<OriginalId>,
        /// The months (`2026-04`) in which they were taken: whatever is shown of those may be otherwise.
        #[schema(example = json!(["2026-04"]))]
        months: Vec<String>,
    },
    /// Originals changed, more than are named, or how they are filed.
    Library,
    /// Devices or pairings changed, and what these devices have. Their member and keepers hear of it.
    Devices {
        /// Which; empty: nobody knows.
        #[schema(value_type = Vec<Uuid>)]
        ids: Vec<DeviceId>,
    },
    /// A backup began, went on, or ended.
    Runs,
    /// A store's state or backlog changed.
    Offsite,
    /// An album, or what is in one, changed.
    Albums,
    /// Background work changed.
    Work,
    /// The house's record has a line more.
    Record,
}
