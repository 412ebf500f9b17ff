//! How a piece of work ended.

use chrono::{DateTime, Utc};

/// How a piece of work ended.
pub(crate) enum Ended {
    /// Done; forget it.
    Done,
    /// To be tried again then, because of this.
    Again(DateTime<Utc>, String),
    /// Cannot be done until somebody looks.
    GivenUp(String),
    /// Over for this time; its next round is put down already.
    Round,
    /// Could not be tried yet, and it is nobody's fault: then.
    Later(DateTime<Utc>),
    /// Could not be tried: its store waits. Not the work's fault.
    Waits,
    /// Somebody else does not let it be done, for this reason; then it is tried again, however often.
    NotYet(DateTime<Utc>, String),
}
