//! Sealing with age (the format at C2SP `age`, X25519 recipients), so that ordinary tools can open what we wrote.

use std::{
    io::{self, Read, Write},
    str::FromStr,
};

use age::secrecy::ExposeSecret;
use data_encoding::BASE64;
use ypogeion_core::{Digest, Hasher};

/// The household's key. It opens everything; what is sealed needs only its public half.
#[derive(Clone)]
pub struct Identity(age::x25519::Identity);

impl std::fmt::Debug for Identity {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Identity(public {})", self.0.to_public())
    }
}

/// The text is not an age key.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("this is not an age key; it should begin with AGE-SECRET-KEY-1")]
pub struct NotAKey;

impl Identity {
    /// Makes a new key from the system's random source.
    pub fn generate() -> Self {
        Identity(age::x25519::Identity::generate())
    }

    /// The secret in its text form, `AGE-SECRET-KEY-1…`: for the recovery kit and the key file, never for a log.
    pub fn reveal(&self) -> String {
        self.0.to_string().expose_secret().to_owned()
    }

    /// The public half, `age1…`.
    pub fn recipient(&self) -> String {
        self.0.to_public().to_string()
    }
}

impl FromStr for Identity {
    type Err = NotAKey;
    fn from_str(text: &str) -> Result<Self, NotAKey> {
        text.trim().parse().map(Identity).map_err(|_| NotAKey)
    }
}

/// Length and SHA-256 of what passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Passed {
    /// Bytes.
    pub length: u64,
    /// Their hash.
    pub digest: Digest,
}

/// Both sides of a sealing or an opening.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Both {
    /// The original's side.
    pub plain: Passed,
    /// The sealed side.
    pub sealed: Passed,
}

/// Hashes and counts what passes through a reader or writer.
struct Counted<T> {
    inner: T,
    hasher: Hasher,
    length: u64,
}

impl<T> Counted<T> {
    fn new(inner: T) -> Self {
        Counted { inner, hasher: Hasher::new(), length: 0 }
    }

    fn take(&mut self, bytes: &[u8]) {
        self.hasher.update(bytes);
        self.length += bytes.len() as u64;
    }

    fn passed(self) -> Passed {
        Passed { length: self.length, digest: self.hasher.finish() }
    }
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let n = self.inner.read(buffer)?;
        self.take(&buffer[..n]);
        Ok(n)
    }
}

impl<W: Write> Write for Counted<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let n = self.inner.write(bytes)?;
        self.take(&bytes[..n]);
        Ok(n)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// Seals everything from `plain` into `sealed`. Blocks; not for an async thread.
pub fn seal(identity: &Identity, plain: impl Read, sealed: impl Write) -> io::Result<Both> {
    let recipient = identity.0.to_public();
    let encryptor =
        age::Encryptor::with_recipients(std::iter::once(&recipient as &dyn age::Recipient)).map_err(io::Error::other)?;
    let mut plain = Counted::new(plain);
    let mut sealed = Counted::new(sealed);
    let mut writer = encryptor.wrap_output(&mut sealed)?;
    let mut buffer = vec![0; 64 << 10];
    loop {
        match plain.read(&mut buffer)? {
            0 => break,
            n => writer.write_all(&buffer[..n])?,
        }
    }
    writer.finish()?.flush()?;
    Ok(Both { plain: plain.passed(), sealed: sealed.passed() })
}

/// Before a secret that was sealed into text.
const SEALED: &str = "age:";

/// Seals a short secret into text, so that whoever reads the database learns nothing from it without the household's key.
pub fn seal_secret(identity: &Identity, secret: &str) -> io::Result<String> {
    let mut sealed = Vec::new();
    seal(identity, secret.as_bytes(), &mut sealed)?;
    Ok(format!("{SEALED}{}", BASE64.encode(&sealed)))
}

/// Whether a text is a sealed secret.
pub fn is_sealed(text: &str) -> bool {
    text.starts_with(SEALED)
}

/// Opens what [`seal_secret`] has sealed. A text that was never sealed is the secret itself.
pub fn open_secret(identity: &Identity, text: &str) -> Result<String, OpenError> {
    let Some(sealed) = text.strip_prefix(SEALED) else { return Ok(text.to_owned()) };
    let sealed = BASE64.decode(sealed.as_bytes()).map_err(|_| OpenError::Damaged)?;
    let mut secret = Vec::new();
    open(identity, sealed.as_slice(), &mut secret)?;
    String::from_utf8(secret).map_err(|_| OpenError::Damaged)
}

/// Why sealed bytes could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// Sealed for another key.
    #[error("it was sealed for another key; this recovery kit belongs to another household or replica")]
    AnotherKey,
    /// The sealed bytes are damaged or cut short.
    #[error("its sealed bytes are damaged")]
    Damaged,
    /// Reading or writing failed.
    #[error("it could not be read or written")]
    Io(#[source] io::Error),
}

/// Opens everything from `sealed` into `plain`. Blocks; not for an async thread. What was written to `plain` before an
/// error was authentic as far as it went, and is not the whole.
pub fn open(identity: &Identity, sealed: impl Read, plain: impl Write) -> Result<Both, OpenError> {
    let mut sealed = Counted::new(sealed);
    let decryptor = age::Decryptor::new(&mut sealed).map_err(|e| match e {
        age::DecryptError::Io(e) => from_io(e),
        _ => OpenError::Damaged,
    })?;
    let mut reader = decryptor.decrypt(std::iter::once(&identity.0 as &dyn age::Identity)).map_err(|e| match e {
        age::DecryptError::NoMatchingKeys => OpenError::AnotherKey,
        age::DecryptError::Io(e) => from_io(e),
        _ => OpenError::Damaged,
    })?;
    let mut plain = Counted::new(plain);
    let mut buffer = vec![0; 64 << 10];
    loop {
        match reader.read(&mut buffer) {
            Ok(0) => break,
            Ok(n) => plain.write_all(&buffer[..n]).map_err(OpenError::Io)?,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(from_io(e)),
        }
    }
    plain.flush().map_err(OpenError::Io)?;
    let plain = plain.passed();
    // Whatever follows the last chunk does not belong there, but it is part of the object's hash.
    io::copy(&mut sealed, &mut io::sink()).map_err(OpenError::Io)?;
    Ok(Both { plain, sealed: sealed.passed() })
}

/// age reports damage as these kinds; everything else came from the disk or the network.
fn from_io(e: io::Error) -> OpenError {
    match e.kind() {
        io::ErrorKind::InvalidData | io::ErrorKind::UnexpectedEof => OpenError::Damaged,
        _ => OpenError::Io(e),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn sealed(identity: &Identity, plain: &[u8]) -> (Vec<u8>, Both) {
        let mut out = Vec::new();
        let both = seal(identity, plain, &mut out).unwrap();
        (out, both)
    }

    #[rstest]
    #[case::empty(0)]
    #[case::one(1)]
    #[case::a_chunk(64 << 10)]
    #[case::chunks(200_000)]
    fn what_was_sealed_opens_again(#[case] length: usize) {
        let identity = Identity::generate();
        let plain: Vec<u8> = (0..length).map(|i| (i * 31) as u8).collect();
        let (bytes, both) = sealed(&identity, &plain);
        assert_eq!((both.plain.digest, both.sealed.digest), (Digest::of(&plain), Digest::of(&bytes)));
        let mut out = Vec::new();
        assert_eq!(open(&identity, bytes.as_slice(), &mut out).unwrap(), both);
        assert_eq!(out, plain);
    }

    #[test]
    fn every_flipped_bit_is_noticed() {
        let identity = Identity::generate();
        let (bytes, _) = sealed(&identity, &vec![7; 100_000]);
        for at in (0..bytes.len()).step_by(997) {
            let mut bad = bytes.clone();
            bad[at] ^= 4;
            assert!(open(&identity, bad.as_slice(), io::sink()).is_err(), "byte {at}");
        }
    }

    #[test]
    fn cut_bytes_and_other_keys_are_told_apart() {
        let identity = Identity::generate();
        let (bytes, _) = sealed(&identity, b"kite");
        assert!(matches!(open(&identity, &bytes[..bytes.len() - 1], io::sink()), Err(OpenError::Damaged)));
        assert!(matches!(open(&Identity::generate(), bytes.as_slice(), io::sink()), Err(OpenError::AnotherKey)));
        assert!(matches!(open(&identity, b"".as_slice(), io::sink()), Err(OpenError::Damaged)));
    }

    #[test]
    fn a_secret_is_sealed_into_text_and_opens_with_its_own_key_alone() {
        let identity = Identity::generate();
        let sealed = seal_secret(&identity, "ember & ash").unwrap();
        assert!(is_sealed(&sealed) && !sealed.contains("ember"));
        assert_eq!(open_secret(&identity, &sealed).unwrap(), "ember & ash");
        assert!(matches!(open_secret(&Identity::generate(), &sealed), Err(OpenError::AnotherKey)));
        assert!(matches!(open_secret(&identity, "age:nonsense"), Err(OpenError::Damaged)));
        assert!(!is_sealed("ember & ash"));
        assert_eq!(open_secret(&identity, "ember & ash").unwrap(), "ember & ash");
    }

    #[test]
    fn a_key_reads_back_and_does_not_print() {
        let identity = Identity::generate();
        let again: Identity = identity.reveal().parse().unwrap();
        assert_eq!(again.recipient(), identity.recipient());
        assert!(!format!("{identity:?}").contains("SECRET"));
        assert_eq!("age1nonsense".parse::<Identity>().unwrap_err(), NotAKey);
    }
}
