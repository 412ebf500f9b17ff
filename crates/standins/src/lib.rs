//! The outside world, small and simulated: what the demo and the tests use where a household has the real thing.
//!
//! [`phone`] is a phone with a camera roll, a battery and networks, which drives the real engine. [`store`] is an object store that speaks S3 over HTTP, checks signatures and checksums, keeps its objects on disk, and
//! fails in the ways that real ones fail, on request, while it runs ([`faults`]). [`share`] is a WebDAV share. [`disk`] is a disk
//! that loses power.

pub mod disk;
pub mod faults;
pub mod phone;
mod quirks;
pub mod share;
pub mod store;
