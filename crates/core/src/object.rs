//! What an original's sealed object is called in a store.

use chrono::NaiveDateTime;
use data_encoding::{BASE32_NOPAD, HEXLOWER};
use ring::hmac;

use crate::{Digest, filing::FiledPath};

/// The folder of sealed objects.
const SEALED: &str = "sealed";
/// The folder of readable ones.
const READABLE: &str = "pictures";
/// The folder of the sealed objects of earlier versions, which stay where they are.
const SEALED_BEFORE: &str = "objects";

/// The folders that a store's objects are in, in the order of their names.
pub fn folders(readable: bool) -> &'static [&'static str] {
    if readable { &[READABLE] } else { &[SEALED_BEFORE, SEALED] }
}

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

    /// `sealed/a7/a7cdef….age`: HMAC-SHA-256 (RFC 2104) of the content's digest, in base 32 (RFC 4648, small letters). The same bytes have
    /// the same name, whoever owns them, so they are stored once. A folder of a million copies has about a thousand of them: one page of a
    /// store's list, one answer of a share.
    ///
    /// `epoch`: how often the household's recipients have changed. What is sealed anew for others has another name, so that nothing is
    /// ever overwritten: `sealed/a7/a7cdef…-2.age`.
    pub fn object_name(&self, content: &Digest, epoch: i16) -> String {
        let key = hmac::Key::new(hmac::HMAC_SHA256, &self.0);
        let code = BASE32_NOPAD.encode(hmac::sign(&key, content.as_bytes()).as_ref()).to_ascii_lowercase();
        let again = if epoch == 0 { String::new() } else { format!("-{epoch}") };
        format!("{SEALED}/{}/{code}{again}.age", &code[..2])
    }
}

/// What an original is called in a store that is readable: `pictures/juno 2026-04/IMG_2214 3f0a9c12d4e5.HEIC`.
///
/// Whose it is and when it was taken; its name in the library, with what is no plain letter, digit, dot, hyphen or blank replaced, because
/// stores differ in the rest; and the first digits of its hash, so that no two ever meet in one name.
pub fn readable_name(path: &FiledPath, taken: NaiveDateTime, content: &Digest) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | ' ') { c } else { '_' };
    let whole: String = path.as_str().chars().map(|c| if c == '/' { c } else { plain(c) }).collect();
    let (owner, name) = (whole.split('/').next().unwrap_or_default(), whole.rsplit('/').next().unwrap_or_default());
    let (stem, extension) = match name.rsplit_once('.') {
        Some((stem, extension)) if !stem.is_empty() => (stem, format!(".{extension}")),
        _ => (name, String::new()),
    };
    let hash = &content.to_string()[..12];
    format!("{READABLE}/{owner} {}/{} {hash}{extension}", taken.format("%Y-%m"), stem.trim())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn readable_names_make_sense_and_never_meet() {
        let taken = chrono::NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, 15, 0).unwrap();
        let name = |path: &str, bytes: &[u8]| readable_name(&FiledPath::parse(path).unwrap(), taken, &Digest::of(bytes));
        let kite = &Digest::of(b"kite").to_string()[..12];
        assert_eq!(name("juno/2026/04/IMG_2214.HEIC", b"kite"), format!("pictures/juno 2026-04/IMG_2214 {kite}.HEIC"));
        assert_eq!(name("juno/2026/04/Fanø #3.tar.gz", b"kite"), format!("pictures/juno 2026-04/Fan_ _3.tar {kite}.gz"));
        assert_eq!(name("juno/2026/04/harbour", b"kite"), format!("pictures/juno 2026-04/harbour {kite}"));
        assert_ne!(name("juno/2026/04/a.jpg", b"kite"), name("juno/2026/04/a.jpg", b"weir"));
    }

    #[test]
    fn names_depend_on_key_and_content_and_tell_neither() {
        let content = Digest::of(b"allotment");
        let (one, two) = (NameKey::new([1; 32]), NameKey::new([2; 32]));
        assert_eq!(one.object_name(&content, 0), one.object_name(&content, 0));
        assert_ne!(one.object_name(&content, 0), two.object_name(&content, 0));
        assert_ne!(one.object_name(&content, 0), one.object_name(&Digest::of(b"weir"), 0));
        assert_eq!(one.object_name(&content, 2), one.object_name(&content, 0).replace(".age", "-2.age"));
        assert!(!one.object_name(&content, 0).contains(&content.to_string()[..16]));
        let name = one.object_name(&content, 0);
        assert!(name.starts_with("sealed/") && name[7..9] == name[10..12] && name.len() == 7 + 3 + 52 + 4, "{name}");
    }

    #[test]
    fn what_is_named_is_in_a_folder_that_is_listed_and_folders_are_in_order() {
        let (content, path) = (Digest::of(b"weir"), FiledPath::parse("juno/2026/weir.jpg").unwrap());
        for (readable, name) in [
            (false, NameKey::new([1; 32]).object_name(&content, 0)),
            (true, readable_name(&path, chrono::NaiveDateTime::default(), &content)),
        ] {
            let folders = folders(readable);
            assert!(folders.iter().any(|f| name.starts_with(&format!("{f}/"))) && folders.is_sorted(), "{name}");
        }
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
