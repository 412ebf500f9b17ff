//! SHA-256, the identity of an original (FIPS 180-4). `sha256sum` over the library prints the same digits.

use std::{fmt, str::FromStr};

use data_encoding::{BASE64, HEXLOWER, HEXLOWER_PERMISSIVE};
use serde::{Deserialize, Serialize};

/// The SHA-256 of some bytes.
///
/// * Always 32 bytes; written as 64 lower-case hexadecimal digits, in text and in JSON.
///
/// ```
/// use ypogeion_core::Digest;
/// let empty: Digest = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855".parse().unwrap();
/// assert_eq!(empty, Digest::of(b""));
/// assert!("e3b0c4".parse::<Digest>().is_err());
/// ```
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Digest([u8; 32]);

/// The text or the bytes were not a SHA-256 digest.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("a SHA-256 digest is 64 hexadecimal digits (32 bytes); this is something else")]
pub struct NotADigest;

impl Digest {
    /// The digest of bytes that are already in memory.
    pub fn of(bytes: &[u8]) -> Self {
        let mut hasher = Hasher::new();
        hasher.update(bytes);
        hasher.finish()
    }

    /// Takes over 32 raw bytes.
    pub fn from_slice(bytes: &[u8]) -> Result<Self, NotADigest> {
        bytes.try_into().map(Digest).map_err(|_| NotADigest)
    }

    /// The base64 form that the tus checksum extension, RFC 9530 and S3 use.
    pub fn from_base64(text: &str) -> Result<Self, NotADigest> {
        BASE64.decode(text.trim().as_bytes()).map_err(|_| NotADigest).and_then(|b| Self::from_slice(&b))
    }

    /// The base64 form that the tus checksum extension, RFC 9530 and S3 use.
    pub fn to_base64(self) -> String {
        BASE64.encode(&self.0)
    }

    /// The 32 raw bytes.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }
}

impl From<[u8; 32]> for Digest {
    fn from(bytes: [u8; 32]) -> Self {
        Digest(bytes)
    }
}

impl FromStr for Digest {
    type Err = NotADigest;
    fn from_str(text: &str) -> Result<Self, NotADigest> {
        HEXLOWER_PERMISSIVE.decode(text.as_bytes()).map_err(|_| NotADigest).and_then(|b| Self::from_slice(&b))
    }
}

impl TryFrom<String> for Digest {
    type Error = NotADigest;
    fn try_from(text: String) -> Result<Self, NotADigest> {
        text.parse()
    }
}

impl From<Digest> for String {
    fn from(digest: Digest) -> String {
        digest.to_string()
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&HEXLOWER.encode(&self.0))
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Digest({self})")
    }
}

/// Computes a [`Digest`] while bytes stream by.
#[derive(Clone)]
pub struct Hasher(openssl::sha::Sha256);

impl Default for Hasher {
    fn default() -> Self {
        Self::new()
    }
}

impl Hasher {
    /// Starts with no bytes.
    pub fn new() -> Self {
        Hasher(openssl::sha::Sha256::new())
    }

    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// The digest of everything taken.
    pub fn finish(self) -> Digest {
        Digest(self.0.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_digest_survives_text_and_json() {
        let digest = Digest::of(b"weir at dusk");
        assert_eq!(digest.to_string().parse::<Digest>().unwrap(), digest);
        assert_eq!(Digest::from_base64(&digest.to_base64()).unwrap(), digest);
        let json = serde_json::to_string(&digest).unwrap();
        assert_eq!(serde_json::from_str::<Digest>(&json).unwrap(), digest);
        assert_eq!(digest.to_string().to_uppercase().parse::<Digest>().unwrap(), digest);
    }

    #[test]
    fn hashing_in_pieces_is_hashing_at_once() {
        let mut hasher = Hasher::new();
        hasher.update(b"harbour ");
        hasher.update(b"in fog");
        assert_eq!(hasher.finish(), Digest::of(b"harbour in fog"));
    }

    #[test]
    fn what_is_not_a_digest_is_refused() {
        for text in ["", "zz", "e3b0", &"g".repeat(64), &"a".repeat(66)] {
            assert_eq!(text.parse::<Digest>(), Err(NotADigest), "{text}");
        }
        assert_eq!(Digest::from_base64("AAAA"), Err(NotADigest));
    }
}
