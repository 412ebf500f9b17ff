//! Headers of uploads.

use actix_web::HttpRequest;

use crate::failure::{Answer, Failure};

/// The checksums that are understood.
pub const CHECKSUMS: &str = "sha256,sha1";

/// A header as text.
pub fn header<'a>(request: &'a HttpRequest, name: &str) -> Option<&'a str> {
    request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::trim)
}

/// A header that is a whole number.
pub fn number(request: &HttpRequest, name: &str) -> Answer<u64> {
    // A sign is not a digit, though Rust would read it.
    header(request, name)
        .filter(|v| v.bytes().all(|b| b.is_ascii_digit()))
        .and_then(|v| v.parse().ok())
        .ok_or_else(|| Failure::bad(format!("The header {name} is missing or is not a whole number.")))
}
