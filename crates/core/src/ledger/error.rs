//! Why a line or a segment of a ledger cannot be used.

use uuid::Uuid;

use super::records::FORMAT;

/// Why a line or a segment could not be taken.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// Written by a newer version.
    #[error("the ledger is in format {found}, and this program reads up to {FORMAT}; use a newer version")]
    TooNew {
        /// The format found.
        found: u32,
    },
    /// The first line is not a segment head.
    #[error("the segment does not begin with its head")]
    NoHead,
    /// It belongs to another replica.
    #[error("the segment belongs to another replica ({found})")]
    AnotherReplica {
        /// The replica found.
        found: Uuid,
    },
    /// A line is not a record.
    #[error("line {line} is not a ledger record")]
    NotARecord {
        /// Counted from 1.
        line: usize,
        /// What the JSON reader said.
        #[source]
        source: serde_json::Error,
    },
    /// Its proof does not fit.
    #[error("its proof does not fit: somebody else wrote it, or changed it")]
    Forged,
    /// It is of a version that carries a proof, and has none.
    #[error("it has no proof of who wrote it, and should have one")]
    NoProof,
    /// It does not say of itself what its name says.
    #[error("it is under the name of another one")]
    Renamed,
    /// What was read could not be kept.
    #[error("what was read of the ledger could not be kept")]
    Table(#[source] Box<dyn std::error::Error + Send + Sync>),
}
