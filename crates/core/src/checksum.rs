//! Two sums of an object's bytes: the one that a store is asked to verify as they arrive, and the one by which they are told again later
//! without opening them.

use std::fmt;

use data_encoding::{HEXLOWER, HEXLOWER_PERMISSIVE};
use serde::{Deserialize, Serialize};

use crate::{Digest, Hasher, state::words};

words! {
    /// A checksum that goes along with bytes, so that a store can refuse what changed on its way. None of them is a secret: they find
    /// accidents, not forgers.
    Checksum {
        /// CRC-64/NVME: costs a tenth of the other one.
        Crc64Nvme = "crc64nvme",
        /// SHA-256.
        Sha256 = "sha256",
    }
}

words! {
    /// How the bytes of an object are hashed.
    HashAlgorithm {
        /// SHA-256 (FIPS 180-4), as `sha256sum` does.
        Sha256 = "sha256",
        /// BLAKE3 with 32 bytes, as `b3sum` does: several times faster where the processor has no instructions for SHA-256.
        Blake3 = "blake3",
    }
}

/// The hash of an object's bytes as they lie in a store. In JSON it is a field named after its algorithm, with 64 hexadecimal digits:
/// `"blake3": "af13…"`.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct ObjectHash {
    algorithm: HashAlgorithm,
    bytes: [u8; 32],
}

/// The text or the bytes were not the hash of an object.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("the hash of an object is 64 hexadecimal digits (32 bytes), as sha256 or as blake3; this is something else")]
pub struct NotAHash;

/// One of the two.
#[derive(Serialize, Deserialize)]
struct Written {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    sha256: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    blake3: Option<String>,
}

impl TryFrom<Written> for ObjectHash {
    type Error = NotAHash;
    fn try_from(written: Written) -> Result<Self, NotAHash> {
        let (algorithm, digits) = match (written.sha256, written.blake3) {
            (Some(digits), None) => (HashAlgorithm::Sha256, digits),
            (None, Some(digits)) => (HashAlgorithm::Blake3, digits),
            _ => return Err(NotAHash),
        };
        let bytes = HEXLOWER_PERMISSIVE.decode(digits.as_bytes()).map_err(|_| NotAHash)?;
        Self::new(algorithm, &bytes)
    }
}

impl From<ObjectHash> for Written {
    fn from(hash: ObjectHash) -> Self {
        let digits = Some(hash.digits());
        match hash.algorithm {
            HashAlgorithm::Sha256 => Written { sha256: digits, blake3: None },
            HashAlgorithm::Blake3 => Written { sha256: None, blake3: digits },
        }
    }
}

impl ObjectHash {
    /// Takes over 32 raw bytes.
    ///
    /// # Errors
    /// If they are not 32.
    pub fn new(algorithm: HashAlgorithm, bytes: &[u8]) -> Result<Self, NotAHash> {
        Ok(ObjectHash { algorithm, bytes: bytes.try_into().map_err(|_| NotAHash)? })
    }

    /// The hash of bytes that are in memory.
    pub fn of(algorithm: HashAlgorithm, bytes: &[u8]) -> Self {
        let mut hasher = ObjectHasher::new(algorithm);
        hasher.update(bytes);
        hasher.finish()
    }

    /// How it was made.
    pub fn algorithm(&self) -> HashAlgorithm {
        self.algorithm
    }

    /// The 32 raw bytes.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.bytes
    }

    /// 64 hexadecimal digits.
    pub fn digits(&self) -> String {
        HEXLOWER.encode(&self.bytes)
    }
}

impl From<Digest> for ObjectHash {
    fn from(digest: Digest) -> Self {
        ObjectHash { algorithm: HashAlgorithm::Sha256, bytes: *digest.as_bytes() }
    }
}

impl fmt::Debug for ObjectHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.algorithm, self.digits())
    }
}

/// Computes an [`ObjectHash`] while bytes stream by.
pub struct ObjectHasher(Inner);

enum Inner {
    Sha256(Hasher),
    // Two kilobytes.
    Blake3(Box<blake3::Hasher>),
}

impl ObjectHasher {
    /// Starts with no bytes.
    pub fn new(algorithm: HashAlgorithm) -> Self {
        ObjectHasher(match algorithm {
            HashAlgorithm::Sha256 => Inner::Sha256(Hasher::new()),
            HashAlgorithm::Blake3 => Inner::Blake3(Box::default()),
        })
    }

    /// Takes the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        match &mut self.0 {
            Inner::Sha256(hasher) => hasher.update(bytes),
            Inner::Blake3(hasher) => {
                hasher.update(bytes);
            }
        }
    }

    /// The hash of everything taken.
    pub fn finish(self) -> ObjectHash {
        match self.0 {
            Inner::Sha256(hasher) => hasher.finish().into(),
            Inner::Blake3(hasher) => ObjectHash { algorithm: HashAlgorithm::Blake3, bytes: *hasher.finalize().as_bytes() },
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    // FIPS 180-4, appendix; and test_vectors.json of the BLAKE3 reference, the input of no bytes and that of 0, 1, 2.
    #[rstest]
    #[case(HashAlgorithm::Sha256, b"abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad")]
    #[case(HashAlgorithm::Blake3, b"", "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262")]
    #[case(HashAlgorithm::Blake3, &[0, 1, 2], "e1be4d7a8ab5560aa4199eea339849ba8e293d55ca0a81006726d184519e647f")]
    fn hashes_are_those_of_the_standards(#[case] algorithm: HashAlgorithm, #[case] bytes: &[u8], #[case] digits: &str) {
        assert_eq!(ObjectHash::of(algorithm, bytes).digits(), digits);
    }

    #[test]
    fn in_pieces_it_is_the_same() {
        let bytes: Vec<u8> = (0..100_000u32).map(|n| n as u8).collect();
        for &algorithm in HashAlgorithm::ALL {
            let mut hasher = ObjectHasher::new(algorithm);
            bytes.chunks(777).for_each(|piece| hasher.update(piece));
            assert_eq!(hasher.finish(), ObjectHash::of(algorithm, &bytes));
        }
    }

    #[test]
    fn its_field_is_named_after_its_algorithm() {
        for &algorithm in HashAlgorithm::ALL {
            let hash = ObjectHash::of(algorithm, b"kite");
            let text = serde_json::to_string(&hash).unwrap();
            assert_eq!(text, format!("{{\"{algorithm}\":\"{}\"}}", hash.digits()));
            assert_eq!(serde_json::from_str::<ObjectHash>(&text).unwrap(), hash);
        }
        let kite = ObjectHash::of(HashAlgorithm::Blake3, b"kite").digits();
        for wrong in [
            "{}".to_owned(),
            format!("{{\"sha256\":\"{kite}\",\"blake3\":\"{kite}\"}}"),
            format!("{{\"blake3\":\"{}\"}}", &kite[2..]),
            "{\"md5\":\"00\"}".to_owned(),
        ] {
            assert!(serde_json::from_str::<ObjectHash>(&wrong).is_err(), "{wrong}");
        }
    }
}
