//! Passwords, tokens, codes, and chance.

use argon2::{
    Argon2,
    password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash},
};
use data_encoding::{BASE64URL_NOPAD, Encoding, Specification};
use ring::rand::{SecureRandom, SystemRandom};
use tokio::sync::Semaphore;
use ypogeion_core::Digest;

use crate::error::{Error, Result};

/// The shortest password that is accepted.
pub const SHORTEST_PASSWORD: usize = 10;

/// Bytes from the system's random source.
pub fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    SystemRandom::new().fill(&mut bytes).expect("the system's random source always answers on Linux");
    bytes
}

/// A random number in `0.0..1.0`, for jitter.
pub fn chance() -> f64 {
    f64::from(u32::from_le_bytes(random())) / (f64::from(u32::MAX) + 1.0)
}

/// A bearer token with 256 random bits.
pub fn token() -> String {
    BASE64URL_NOPAD.encode(&random::<32>())
}

/// What is kept of a token or code. They are long and random (or short-lived and limited), so a plain hash is enough.
pub fn hash(secret: &str) -> Digest {
    Digest::of(secret.as_bytes())
}

/// A pairing code: eight letters and digits that are not mistaken for each other, 40 random bits.
pub fn pairing_code() -> String {
    let mut letters = Specification::new();
    letters.symbols.push_str("0123456789ABCDEFGHJKMNPQRSTVWXYZ");
    let encoding: Encoding = letters.encoding().expect("32 different symbols");
    encoding.encode(&random::<5>())
}

/// The code as it is read out: in two halves.
pub fn spoken(code: &str) -> String {
    format!("{}-{}", &code[..4], &code[4..])
}

/// The longest password that is looked at, in bytes: hashing costs by length, and nobody remembers more.
pub const LONGEST_PASSWORD: usize = 1024;
/// Passwords are hashed one after the other, so many at once: each takes 19 MiB and a tenth of a second, on purpose, and strangers may
/// ask for it.
static HASHING: Semaphore = Semaphore::const_new(2);

/// Hashes a password with Argon2id. Takes a tenth of a second on purpose; not for an async thread.
pub fn hash_password(password: &str) -> Result<String> {
    if password.chars().count() < SHORTEST_PASSWORD {
        return Err(Error::invalid(format!("A password needs at least {SHORTEST_PASSWORD} characters.")));
    }
    argon2(password)
}

fn argon2(secret: &str) -> Result<String> {
    if secret.len() > LONGEST_PASSWORD {
        return Err(Error::invalid("A password has at most a thousand characters."));
    }
    Argon2::default()
        .hash_password(secret.as_bytes())
        .map(|h| h.to_string())
        .map_err(|_| Error::internal("The password could not be stored."))
}

/// Hashes what somebody has to say beside something else that nobody guesses: however short it is.
pub async fn hashed(secret: String) -> Result<String> {
    tokio::task::spawn_blocking(move || argon2(&secret)).await?
}

/// Whether the password belongs to the hash. Waits for its turn.
pub async fn is_password(password: String, hash: String) -> Result<bool> {
    if password.len() > LONGEST_PASSWORD {
        return Ok(false);
    }
    let _turn = HASHING.acquire().await.expect("the semaphore is never closed");
    Ok(tokio::task::spawn_blocking(move || verify_password(&password, &hash)).await?)
}

/// Whether the password belongs to the hash. Not for an async thread.
pub fn verify_password(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash).is_ok_and(|hash| Argon2::default().verify_password(password.as_bytes(), &hash).is_ok())
}

/// A hash of no password, so that an unknown name takes as long to refuse as a wrong password.
pub const NOBODYS_HASH: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$1Ly3x4FtDiEXrsUxTLsjIb8X5O9cOvdZ9tFQLfAqzEw";
