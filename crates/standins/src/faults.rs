//! What goes wrong at the store, on purpose.

use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;
use hyper::{Response, StatusCode};
use serde::{Deserialize, Serialize};

/// What goes wrong at the moment.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Faults {
    /// Every answer waits this long.
    pub latency_ms: u64,
    /// This share of requests is answered 503, in percent.
    pub error_percent: u8,
    /// In this share of requests the connection is cut without an answer, in percent.
    pub cut_percent: u8,
    /// No connection is served at all.
    pub outage: bool,
    /// Nothing more can be stored.
    pub full: bool,
    /// What is answered 503 asks for so many seconds of patience (`Retry-After`); 0: does not say.
    pub retry_after: u32,
    /// Bytes a second of each body, as if the line were slow; 0: as fast as it goes.
    pub trickle: u64,
    /// It holds at most so many bytes; 0: no limit.
    pub capacity: u64,
    /// Lists leave out what came within so many seconds.
    pub list_lag_seconds: u32,
    /// Its clock is ahead by so many seconds, or behind.
    pub clock_seconds: i64,
    /// A retention lock keeps everything for so many days; 0: none.
    pub locked_days: u32,
    /// It is in this region and takes signatures for no other; empty: takes all.
    pub region: String,
    /// It knows no checksum headers and refuses them.
    pub refuses_sums: bool,
    /// Of checksums it knows SHA-256 alone, and refuses the others.
    pub refuses_crc: bool,
    /// Of checksums it knows SHA-256 alone, and takes whatever comes with another.
    pub ignores_crc: bool,
    /// It looks at no signature, length or checksum of what is stored in one request.
    pub swallows: bool,
    /// It stores under a name that is taken even if it is asked not to.
    pub ignores_conditions: bool,
    /// This share of what it has just taken is gone at once, in percent.
    pub forget_percent: u8,
    /// This share of sealed objects arrives with one bit changed, in percent. Only with `swallows`: a store that looks would refuse it.
    pub spoil_percent: u8,
}

/// Turns shares of requests into decisions: the same requests in the same order meet the same faults.
#[derive(Debug, Default)]
pub(crate) struct Chances(AtomicU64);

impl Chances {
    /// Whether the next request meets a fault of this share. A fixed scramble of a counter, so that runs repeat.
    pub(crate) fn meets(&self, percent: u8, salt: u64) -> bool {
        let n = self.0.fetch_add(1, Ordering::Relaxed).wrapping_add(salt);
        let scrambled = n.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(31).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 33;
        scrambled % 100 < u64::from(percent)
    }
}

/// An answer that refuses, as such stores give it.
pub(crate) fn refusal(status: StatusCode, code: &str, message: &str) -> Response<s3s::Body> {
    let text =
        format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?><Error><Code>{code}</Code><Message>{message}</Message></Error>");
    let mut response = Response::new(s3s::Body::from(Bytes::from(text)));
    *response.status_mut() = status;
    response.headers_mut().insert("content-type", hyper::header::HeaderValue::from_static("application/xml"));
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_of_faults_are_about_right_and_repeat() {
        let run = |chances: Chances| (0..10_000).map(|_| chances.meets(5, 3)).collect::<Vec<_>>();
        let (a, b) = (run(Chances::default()), run(Chances::default()));
        assert_eq!(a, b);
        let met = a.iter().filter(|m| **m).count();
        assert!((350..650).contains(&met), "{met}");
    }
}
