//! Sealing with age (the format at C2SP `age`, X25519 recipients), so that ordinary tools can open what we wrote.

use std::{
    io::{self, Read, Write},
    str::FromStr,
};

use age::secrecy::ExposeSecret;
use data_encoding::BASE64;
use ypogeion_core::{
    Digest, Hasher,
    checksum::{HashAlgorithm, ObjectHash, ObjectHasher},
    ledger::LedgerKey,
};

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

/// For whom things are sealed, and with what they are opened.
///
/// * What is sealed opens with the key of any of its recipients.
/// * A server in the strict setting has recipients and no identity: it seals, and opens nothing.
/// * Identities of earlier recovery kits stay, for what was sealed before.
#[derive(Clone, Debug, Default)]
pub struct Keys {
    identities: Vec<Identity>,
    recipients: Vec<Recipient>,
    /// Recipients that things were sealed for earlier.
    earlier: Vec<String>,
    /// How often the recipients have changed.
    epoch: i16,
    /// Nothing is sealed, and nothing has to be opened: a store that is readable.
    plain: bool,
    /// Proves who wrote a ledger.
    ledger: Option<LedgerKey>,
}

/// The public half of a key, `age1…`.
#[derive(Clone)]
pub struct Recipient(age::x25519::Recipient);

impl std::fmt::Debug for Recipient {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Recipient({})", self.0)
    }
}

impl std::fmt::Display for Recipient {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

/// The text is not the public half of an age key.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("this is not the public half of an age key; it begins with age1")]
pub struct NotARecipient;

impl FromStr for Recipient {
    type Err = NotARecipient;
    fn from_str(text: &str) -> Result<Self, NotARecipient> {
        text.trim().parse().map(Recipient).map_err(|_| NotARecipient)
    }
}

impl From<Identity> for Keys {
    fn from(identity: Identity) -> Self {
        Keys {
            recipients: vec![Recipient(identity.0.to_public())],
            identities: vec![identity],
            earlier: Vec::new(),
            epoch: 0,
            plain: false,
            ledger: None,
        }
    }
}

impl Keys {
    /// Seals for `recipients`, the household's own first, and opens with `identities`.
    pub fn new(recipients: Vec<Recipient>, identities: Vec<Identity>, earlier: Vec<String>, epoch: i16) -> Self {
        Keys { identities, recipients, earlier, epoch, plain: false, ledger: None }
    }

    /// How often the recipients have changed. What is not sealed at all is sealed for nobody else.
    pub fn epoch(&self) -> i16 {
        if self.plain { 0 } else { self.epoch }
    }

    /// The same for a store that is readable: bytes pass as they are, hashed on their way like sealed ones.
    pub fn plainly(self) -> Self {
        Keys { plain: true, ..self }
    }

    /// The same with the key that proves who wrote a ledger.
    pub fn proving(self, ledger: Option<LedgerKey>) -> Self {
        Keys { ledger, ..self }
    }

    /// That key, if it is known.
    pub fn ledger_key(&self) -> Option<&LedgerKey> {
        self.ledger.as_ref()
    }

    /// How the bytes that a store gets are hashed. What is not sealed has its SHA-256 already; and whoever cannot prove a ledger writes its
    /// first format, which knows no other.
    pub(crate) fn hash_algorithm(&self) -> HashAlgorithm {
        if self.plain || self.ledger.is_none() { HashAlgorithm::Sha256 } else { HashAlgorithm::Blake3 }
    }

    /// Whether nothing is sealed.
    pub fn is_plain(&self) -> bool {
        self.plain
    }

    /// The same with more keys to open with.
    pub fn and_open_with(mut self, more: impl IntoIterator<Item = Identity>) -> Self {
        self.identities.extend(more);
        self
    }

    /// Whether it opens what it seals.
    pub fn can_open(&self) -> bool {
        self.plain || self.recipients.first().is_some_and(|r| self.identities.iter().any(|i| i.recipient() == r.to_string()))
    }

    /// The household's own public half.
    pub fn recipient(&self) -> String {
        self.recipients.first().map(ToString::to_string).unwrap_or_default()
    }

    /// Whether a public half is one that things are or were sealed for, or that can be opened.
    pub fn knows(&self, recipient: &str) -> bool {
        self.recipients.iter().any(|r| r.to_string() == recipient)
            || self.earlier.iter().any(|r| r == recipient)
            || self.identities.iter().any(|i| i.recipient() == recipient)
    }
}

/// Length and SHA-256 of an original's bytes that passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Passed {
    /// Bytes.
    pub length: u64,
    /// Their hash.
    pub digest: Digest,
}

/// Length and hash of what a store gets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sealed {
    /// Bytes.
    pub length: u64,
    /// Their hash.
    pub hash: ObjectHash,
}

/// Both sides of a sealing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Both {
    /// The original's side.
    pub plain: Passed,
    /// The sealed side.
    pub sealed: Sealed,
}

/// Hashes and counts an original's bytes that pass.
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

/// Hashes and counts what a store gets.
struct Going<W> {
    inner: W,
    hasher: ObjectHasher,
    length: u64,
}

impl<W: Write> Write for Going<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let n = self.inner.write(bytes)?;
        self.hasher.update(&bytes[..n]);
        self.length += n as u64;
        Ok(n)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.inner.flush()
    }
}

/// Seals everything from `plain` into `sealed`. Blocks; not for an async thread.
pub fn seal(keys: &Keys, plain: impl Read, sealed: impl Write) -> io::Result<Both> {
    if keys.plain {
        // Bytes as they are, hashed once: both sides are the same.
        let plain = pass(plain, sealed)?;
        return Ok(Both { plain, sealed: Sealed { length: plain.length, hash: plain.digest.into() } });
    }
    let mut sealed = Going { inner: sealed, hasher: ObjectHasher::new(keys.hash_algorithm()), length: 0 };
    let recipients = keys.recipients.iter().map(|r| &r.0 as &dyn age::Recipient);
    let encryptor = age::Encryptor::with_recipients(recipients).map_err(io::Error::other)?;
    let mut plain = Counted::new(plain);
    let mut writer = encryptor.wrap_output(&mut sealed)?;
    let mut buffer = vec![0; 64 << 10];
    loop {
        match plain.read(&mut buffer)? {
            0 => break,
            n => writer.write_all(&buffer[..n])?,
        }
    }
    writer.finish()?.flush()?;
    Ok(Both { plain: plain.passed(), sealed: Sealed { length: sealed.length, hash: sealed.hasher.finish() } })
}

fn pass(from: impl Read, mut to: impl Write) -> io::Result<Passed> {
    let mut from = Counted::new(from);
    io::copy(&mut from, &mut to)?;
    to.flush()?;
    Ok(from.passed())
}

/// Before a secret that was sealed into text.
const SEALED: &str = "age:";

/// Seals a short secret into text, so that whoever reads the database learns nothing from it without the household's key.
pub fn seal_secret(keys: &Keys, secret: &str) -> io::Result<String> {
    let mut sealed = Vec::new();
    seal(keys, secret.as_bytes(), &mut sealed)?;
    Ok(format!("{SEALED}{}", BASE64.encode(&sealed)))
}

/// Whether a text is a sealed secret.
pub fn is_sealed(text: &str) -> bool {
    text.starts_with(SEALED)
}

/// Opens what [`seal_secret`] has sealed. A text that was never sealed is the secret itself.
pub fn open_secret(keys: &Keys, text: &str) -> Result<String, OpenError> {
    let Some(sealed) = text.strip_prefix(SEALED) else { return Ok(text.to_owned()) };
    let sealed = BASE64.decode(sealed.as_bytes()).map_err(|_| OpenError::Damaged)?;
    let mut secret = Vec::new();
    open(keys, sealed.as_slice(), &mut secret)?;
    String::from_utf8(secret).map_err(|_| OpenError::Damaged)
}

/// Why sealed bytes could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// Sealed for another key.
    #[error("it was sealed for another key; this recovery kit belongs to another household or to other copies")]
    AnotherKey,
    /// There is no key here that opens anything.
    #[error("this server keeps no key that opens copies")]
    NoKey,
    /// The sealed bytes are damaged or cut short.
    #[error("its sealed bytes are damaged")]
    Damaged,
    /// Reading or writing failed.
    #[error("it could not be read or written")]
    Io(#[source] io::Error),
}

/// Opens everything from `sealed` into `plain`. Blocks; not for an async thread. What was written to `plain` before an
/// error was authentic as far as it went, and is not the whole.
pub fn open(keys: &Keys, mut sealed: impl Read, plain: impl Write) -> Result<Passed, OpenError> {
    if keys.plain {
        return pass(sealed, plain).map_err(OpenError::Io);
    }
    if keys.identities.is_empty() {
        return Err(OpenError::NoKey);
    }
    let decryptor = age::Decryptor::new(&mut sealed).map_err(|e| match e {
        age::DecryptError::Io(e) => from_io(e),
        _ => OpenError::Damaged,
    })?;
    let mut reader = decryptor.decrypt(keys.identities.iter().map(|i| &i.0 as &dyn age::Identity)).map_err(|e| match e {
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
    Ok(plain.passed())
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

    fn keys() -> Keys {
        Identity::generate().into()
    }

    fn sealed(keys: &Keys, plain: &[u8]) -> (Vec<u8>, Both) {
        let mut out = Vec::new();
        let both = seal(keys, plain, &mut out).unwrap();
        (out, both)
    }

    #[rstest]
    #[case::empty(0)]
    #[case::one(1)]
    #[case::a_chunk(64 << 10)]
    #[case::chunks(200_000)]
    fn what_was_sealed_opens_again(#[case] length: usize) {
        let identity = keys();
        let plain: Vec<u8> = (0..length).map(|i| (i * 31) as u8).collect();
        let (bytes, both) = sealed(&identity, &plain);
        assert_eq!((both.plain.digest, both.sealed.length), (Digest::of(&plain), bytes.len() as u64));
        assert_eq!(both.sealed.hash, Digest::of(&bytes).into(), "without proofs, as the first format has it");
        let mut out = Vec::new();
        assert_eq!(open(&identity, bytes.as_slice(), &mut out).unwrap(), both.plain);
        assert_eq!(out, plain);
        let proving = identity.proving(Some(LedgerKey::new([7; 32])));
        let (bytes, both) = sealed(&proving, &plain);
        assert_eq!(both.sealed.hash, ObjectHash::of(HashAlgorithm::Blake3, &bytes));
        let (bytes, both) = sealed(&proving.plainly(), &plain);
        assert_eq!((bytes, both.sealed.hash), (plain, both.plain.digest.into()), "readable: one hash for both");
    }

    #[test]
    fn every_flipped_bit_is_noticed() {
        let identity = keys();
        let (bytes, _) = sealed(&identity, &vec![7; 100_000]);
        for at in (0..bytes.len()).step_by(997) {
            let mut bad = bytes.clone();
            bad[at] ^= 4;
            assert!(open(&identity, bad.as_slice(), io::sink()).is_err(), "byte {at}");
        }
    }

    #[test]
    fn cut_bytes_and_other_keys_are_told_apart() {
        let identity = keys();
        let (bytes, _) = sealed(&identity, b"kite");
        assert!(matches!(open(&identity, &bytes[..bytes.len() - 1], io::sink()), Err(OpenError::Damaged)));
        assert!(matches!(open(&identity, [&bytes[..], b"x"].concat().as_slice(), io::sink()), Err(OpenError::Damaged)));
        assert!(matches!(open(&keys(), bytes.as_slice(), io::sink()), Err(OpenError::AnotherKey)));
        assert!(matches!(open(&identity, b"".as_slice(), io::sink()), Err(OpenError::Damaged)));
    }

    #[test]
    fn a_secret_is_sealed_into_text_and_opens_with_its_own_key_alone() {
        let identity = keys();
        let sealed = seal_secret(&identity, "ember & ash").unwrap();
        assert!(is_sealed(&sealed) && !sealed.contains("ember"));
        assert_eq!(open_secret(&identity, &sealed).unwrap(), "ember & ash");
        assert!(matches!(open_secret(&keys(), &sealed), Err(OpenError::AnotherKey)));
        assert!(matches!(open_secret(&identity, "age:nonsense"), Err(OpenError::Damaged)));
        assert!(!is_sealed("ember & ash"));
        assert_eq!(open_secret(&identity, "ember & ash").unwrap(), "ember & ash");
    }

    #[test]
    fn several_recipients_open_what_is_sealed_for_all_and_earlier_keys_what_was_before() {
        let (old, new, aunt) = (Identity::generate(), Identity::generate(), Identity::generate());
        let (before, _) = sealed(&old.clone().into(), b"kite");
        let public = |i: &Identity| i.recipient().parse::<Recipient>().unwrap();
        let strict = Keys::new(vec![public(&new), public(&aunt)], Vec::new(), vec![old.recipient()], 1);
        let (now, _) = sealed(&strict, b"weir");
        assert!(!strict.can_open() && matches!(open(&strict, now.as_slice(), io::sink()), Err(OpenError::NoKey)));
        for identity in [&new, &aunt] {
            let mut out = Vec::new();
            open(&identity.clone().into(), now.as_slice(), &mut out).unwrap();
            assert_eq!(out, b"weir");
        }
        assert!(matches!(open(&old.clone().into(), now.as_slice(), io::sink()), Err(OpenError::AnotherKey)));
        let whole = strict.clone().and_open_with([new.clone(), old.clone()]);
        assert!(whole.can_open() && open(&whole, before.as_slice(), io::sink()).is_ok());
        assert!(
            strict.knows(&old.recipient()) && strict.knows(&new.recipient()) && !strict.knows(&Identity::generate().recipient())
        );
        assert_eq!(strict.recipient(), new.recipient());
        assert_eq!("AGE-SECRET-KEY-1X".parse::<Recipient>().unwrap_err(), NotARecipient);
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
