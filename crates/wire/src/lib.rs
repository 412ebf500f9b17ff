//! What travels between the service and its clients: request and response types, problem documents, the pairing address.
//!
//! One module for each part of the API. JSON field names are the Rust ones; times are RFC 3339 in UTC; sizes are bytes;
//! digests are 64 lower-case hexadecimal digits.

pub mod adoption;
pub mod album;
pub mod amount;
pub mod arrangement;
pub mod brought;
pub mod checks;
pub mod choosing;
pub mod clearance;
pub mod device;
pub mod door;
pub mod filing;
pub mod find;
pub mod folder;
pub mod given;
pub mod holding;
pub mod inventory;
pub mod link;
pub mod offsite;
pub mod original;
pub mod overview;
pub mod pairing;
pub mod people;
pub mod place;
pub mod problem;
pub mod run;
pub mod work;

/// The header that the console sends with every request that changes something. A form on another site cannot set it
/// (it would need a CORS permission that the service never gives), so its presence shows that the console is asking.
pub const CONSOLE_HEADER: &str = "x-ypogeion-console";

/// The header that carries a request's id in every response; log lines have the same one.
pub const REQUEST_ID_HEADER: &str = "x-request-id";
