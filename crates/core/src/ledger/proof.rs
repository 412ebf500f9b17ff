//! Who wrote a segment: the household's key for that, and the line that proves it.

use data_encoding::{HEXLOWER, HEXLOWER_PERMISSIVE};
use ring::hmac;

use super::{
    error::LedgerError,
    records::{MacRecord, PROVEN_FROM, Record, line},
};

/// The household's key for its ledgers: with it the household proves that it wrote them. Neither a store nor whoever can seal for the
/// household has it; it is on the recovery kit, and opens nothing.
#[derive(Clone, PartialEq, Eq)]
pub struct LedgerKey([u8; 32]);

impl std::fmt::Debug for LedgerKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("LedgerKey(…)")
    }
}

impl LedgerKey {
    /// Takes 32 bytes from a secure random source.
    pub fn new(bytes: [u8; 32]) -> Self {
        LedgerKey(bytes)
    }

    /// Reads the form written by [`LedgerKey::reveal`].
    pub fn parse(hex: &str) -> Option<Self> {
        HEXLOWER_PERMISSIVE.decode(hex.as_bytes()).ok()?.try_into().ok().map(LedgerKey)
    }

    /// The key as 64 hexadecimal digits, for the recovery kit.
    pub fn reveal(&self) -> String {
        HEXLOWER.encode(&self.0)
    }

    /// The HMAC of some text.
    pub fn mac(&self, text: &str) -> String {
        HEXLOWER.encode(hmac::sign(&self.signing(), text.as_bytes()).as_ref())
    }

    /// Whether that is the HMAC of this text.
    pub fn wrote(&self, text: &str, mac: &str) -> bool {
        let mac = HEXLOWER_PERMISSIVE.decode(mac.as_bytes());
        mac.is_ok_and(|mac| hmac::verify(&self.signing(), text.as_bytes(), &mac).is_ok())
    }

    fn signing(&self) -> hmac::Key {
        hmac::Key::new(hmac::HMAC_SHA256, &self.0)
    }
}

/// What speaks for the lines of a segment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Proof {
    /// The household wrote them.
    Proven,
    /// Nothing does: they are of format 1, or the reader has no key to tell.
    None,
}

/// What speaks for a text of lines.
pub(super) fn proof(format: u32, key: Option<&LedgerKey>, text: &str) -> Result<Proof, LedgerError> {
    if format < PROVEN_FROM {
        return Ok(Proof::None);
    }
    // The last line, and everything before it to the byte.
    let body = text.trim_end_matches('\n');
    let (said, last) = body.rfind('\n').map_or(("", body), |at| body.split_at(at + 1));
    let Ok(Record::Mac(mac)) = serde_json::from_str(last) else { return Err(LedgerError::NoProof) };
    match key {
        None => Ok(Proof::None),
        Some(key) if key.wrote(said, &mac.hmac_sha256) => Ok(Proof::Proven),
        Some(_) => Err(LedgerError::Forged),
    }
}

/// Lines with the one that proves who wrote them.
pub fn with_proof(mut lines: String, key: &LedgerKey) -> String {
    let mac = Record::Mac(MacRecord { hmac_sha256: key.mac(&lines) });
    lines += &line(&mac);
    lines.push('\n');
    lines
}
