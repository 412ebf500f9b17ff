//! The way offsite and back.
//!
//! * [`seal`] turns an original into sealed bytes and back, hashing both sides while they stream by.
//! * [`store`] speaks to an S3-compatible object store, a share or a disk and says what its faults mean; [`trial`] tries one out.
//! * [`shape`] is the way out of the house, at the pace of a week; [`spool`] keeps what is sent in parts until it is there.
//! * [`layout`] opens a replica: its `FORMAT.json`, its ledger segments and checkpoints; [`contents`] is what they add up to.
//! * [`replicate`] sends one original and returns the store's confirmation; [`prove`] reads one back.
//! * [`recover`] brings everything back from a store and a recovery kit alone.
//!
//! What is written to a store is described in `docs/formats/store-layout.md`. This crate knows nothing of HTTP handlers
//! or of the database.

pub mod contents;
pub mod layout;
pub mod prove;
pub mod recover;
pub mod replicate;
pub mod seal;
pub mod shape;
pub mod spool;
pub mod store;
pub mod trial;

pub use contents::Ledger;
pub use layout::{LedgerRead, Replica};
pub use seal::{Identity, Keys};
pub use shape::Pacer;
pub use store::{Fault, Store};
