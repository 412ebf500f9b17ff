//! The header that tells the hash of what is handed over (`Repr-Digest`, RFC 9530).

use actix_web::http::header::{HeaderMap, HeaderName, HeaderValue};
use ypogeion_core::Digest;

/// Adds it.
pub fn tell_digest(headers: &mut HeaderMap, digest: Digest) {
    if let Ok(value) = HeaderValue::from_str(&format!("sha-256=:{}:", digest.to_base64())) {
        headers.insert(HeaderName::from_static("repr-digest"), value);
    }
}
