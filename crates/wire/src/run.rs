//! Backup runs and their logs.

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use ypogeion_core::{DeviceId, RunId, state::RunState};

/// What a run did, in numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct RunCounts {
    /// Files looked at.
    pub checked: u64,
    /// Sent and landed.
    pub sent: u64,
    /// At home already.
    pub present: u64,
    /// Left out, with a reason.
    pub skipped: u64,
    /// Failed, with a reason.
    pub failed: u64,
    /// Bytes sent.
    pub bytes: u64,
}

/// A run.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Run {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: RunId,
    /// Its device.
    #[schema(value_type = Uuid)]
    pub device: DeviceId,
    /// The device's name.
    pub device_name: String,
    /// When it began.
    pub began_at: DateTime<Utc>,
    /// When it ended; absent while it runs.
    pub ended_at: Option<DateTime<Utc>>,
    /// `running`, `complete`, `partly`, `halted` or `broken-off`.
    pub state: RunState,
    /// Why it ended before it was done.
    pub halted: Option<String>,
    /// In numbers.
    pub counts: RunCounts,
    /// The day on which it began, by the server's clock.
    pub day: NaiveDate,
    /// It ended by itself, and found nothing to send.
    pub nothing_new: bool,
    /// So many more of that device and day found nothing new either and are not listed, where that was asked for.
    pub alike: u64,
}

/// What a device says when it begins a run.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, IntoParams)]
pub struct BeginRun {
    /// The last of its runs in which something was acknowledged, if it remembers one.
    #[param(value_type = Option<Uuid>)]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<RunId>,
}

/// A run that has just begun.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct BegunRun {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub run: RunId,
    /// Of what this device said it has, how much is wanted and not at home. More than 0 before anything is offered means
    /// that something was interrupted, or was lost at home: the device offers everything again.
    pub waiting: u64,
    /// The server does not know that the run which the device named as its last ever ended: its database is from before that. What it
    /// acknowledged to the device since may be unknown here, and the device offers everything again.
    #[serde(default)]
    pub forgotten: bool,
}

/// What became of one file in a run.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RunEntry {
    /// Name on the device.
    pub name: String,
    /// Album or folder.
    pub source: String,
    /// `sent`, `present`, `skipped` or `failed`.
    pub outcome: String,
    /// Why, where that is not plain.
    #[serde(default)]
    pub reason: Option<String>,
    /// Bytes.
    pub size: u64,
}

/// A page of a run's log.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RunEntries {
    /// In the order they were reported.
    pub entries: Vec<RunEntry>,
    /// How many there are with this filter.
    pub total: u64,
}

/// Report on a run: new entries, the numbers so far, and its end.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RunReport {
    /// New entries since the last report; at most 10,000. What is only `present` need not be listed.
    #[serde(default)]
    pub entries: Vec<RunEntry>,
    /// The numbers so far.
    pub counts: RunCounts,
    /// Whether the run is over.
    #[serde(default)]
    pub ended: bool,
    /// Why it is over before it was done: `paused`, `stopped`, `waiting for …`.
    #[serde(default)]
    pub halted: Option<String>,
}
