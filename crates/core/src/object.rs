//! What an original's sealed object is called in a store.

use data_encoding::HEXLOWER;
use ring::hmac;

use crate::Digest;

/// The household's key for object names. 32 secret bytes, so that nobody who sees the store can test whether it holds a
/// picture that they know.
#[derive(Clone)]
pub struct NameKey([u8; 32]);

impl std::fmt::Debug for NameKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("NameKey(…)")
    }
}

impl NameKey {
    /// Takes 32 bytes from a secure random source.
    pub fn new(bytes: [u8; 32]) -> Self {
        NameKey(bytes)
    }

    /// Reads the form written by [`NameKey::reveal`].
    pub fn parse(hex: &str) -> Option<Self> {
        HEXLOWER.decode(hex.as_bytes()).ok()?.try_into().ok().map(NameKey)
    }

    /// The key as 64 hexadecimal digits, for the sealed ledger.
    pub fn reveal(&self) -> String {
        HEXLOWER.encode(&self.0)
    }

    /// `objects/ab/abcdef….age`: HMAC-SHA-256 (RFC 2104) of the content's digest. The same bytes have the same name,
    /// whoever owns them, so they are stored once.
    ///
    /// `epoch`: how often the household's recipients have changed. What is sealed anew for others has another name, so that nothing is
    /// ever overwritten: `objects/ab/abcdef…-2.age`.
    pub fn object_name(&self, content: &Digest, epoch: i16) -> String {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.0);
        let hex = HEXLOWER.encode(hmac::sign(&key, content.as_bytes()).as_ref());
        let again = if epoch == 0 { String::new() } else { format!("-{epoch}") };
        format!("objects/{}/{hex}{again}.age", &hex[..2])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_depend_on_key_and_content_and_tell_neither() {
        let content = Digest::of(b"allotment");
        let (one, two) = (NameKey::new([1; 32]), NameKey::new([2; 32]));
        assert_eq!(one.object_name(&content, 0), one.object_name(&content, 0));
        assert_ne!(one.object_name(&content, 0), two.object_name(&content, 0));
        assert_ne!(one.object_name(&content, 0), one.object_name(&Digest::of(b"weir"), 0));
        assert_eq!(one.object_name(&content, 2), one.object_name(&content, 0).replace(".age", "-2.age"));
        assert!(!one.object_name(&content, 0).contains(&content.to_string()[..16]));
        assert!(one.object_name(&content, 0).starts_with("objects/") && one.object_name(&content, 0).len() == 8 + 3 + 64 + 4);
    }

    #[test]
    fn the_key_reads_back_and_does_not_print() {
        let key = NameKey::new([9; 32]);
        assert_eq!(
            NameKey::parse(&key.reveal()).unwrap().object_name(&Digest::of(b"a"), 0),
            key.object_name(&Digest::of(b"a"), 0)
        );
        assert!(NameKey::parse("09").is_none());
        assert!(!format!("{key:?}").contains("09"));
    }
}
