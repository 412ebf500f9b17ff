//! The household's keys as the server has them: a file with what opens copies (none in the strict setting), the public halves in the
//! catalogue, a key of the server's own for its own secrets, and, for an hour, a key that the keeper has lent.

use std::{
    fs, io,
    path::Path,
    sync::{PoisonError, RwLock},
    time::{Duration, Instant},
};

use ypogeion_catalog::keys::Sealing;
use ypogeion_core::ledger::LedgerKey;
use ypogeion_offsite::{Identity, Keys, seal::Recipient};

use crate::private::write_private;

/// A lent key is forgotten after this.
pub const LENT_FOR: Duration = Duration::from_secs(3600);

/// What was lent, and when.
type Lent = Option<(Vec<Identity>, Instant)>;

/// See the module.
pub struct Keyring {
    /// Seals the server's own secrets and opens them. Never holds a key of the household: that can be forgotten.
    pub own: Keys,
    /// Proves who wrote the ledgers.
    pub ledger: LedgerKey,
    now: RwLock<(Keys, Lent)>,
}

impl Keyring {
    /// Puts it together. `kept`: the identities of the key file, the present one first.
    pub fn new(own: Identity, kept: Vec<Identity>, sealing: &Sealing, ledger: LedgerKey) -> Self {
        let keys = composed(kept, sealing).proving(Some(ledger.clone()));
        Keyring { own: own.into(), ledger, now: RwLock::new((keys, None)) }
    }

    /// For whom things are sealed, and with what they are opened just now.
    pub fn keys(&self) -> Keys {
        let now = self.now.read().unwrap_or_else(PoisonError::into_inner);
        match &now.1 {
            Some((lent, since)) if since.elapsed() < LENT_FOR => now.0.clone().and_open_with(lent.clone()),
            _ => now.0.clone(),
        }
    }

    /// Whether a key is lent, and for how long it still is.
    pub fn lent_for(&self) -> Option<Duration> {
        let now = self.now.read().unwrap_or_else(PoisonError::into_inner);
        now.1.as_ref().and_then(|(_, since)| LENT_FOR.checked_sub(since.elapsed()))
    }

    /// Lends keys for an hour.
    pub fn lend(&self, keys: Vec<Identity>) {
        self.now.write().unwrap_or_else(PoisonError::into_inner).1 = Some((keys, Instant::now()));
    }

    /// Forgets a lent key whose hour is over. Whether there was one: whatever was opened with it is to be forgotten as well.
    pub fn forget_lent(&self) -> bool {
        let mut now = self.now.write().unwrap_or_else(PoisonError::into_inner);
        let over = now.1.as_ref().is_some_and(|(_, since)| since.elapsed() >= LENT_FOR);
        if over {
            now.1 = None;
        }
        over
    }

    /// Something has changed: the identities that are kept, or whom things are sealed for.
    pub fn change(&self, kept: Vec<Identity>, sealing: &Sealing) {
        self.now.write().unwrap_or_else(PoisonError::into_inner).0 = composed(kept, sealing).proving(Some(self.ledger.clone()));
    }
}

fn composed(kept: Vec<Identity>, sealing: &Sealing) -> Keys {
    let own = sealing.own.first().map(|k| k.recipient.as_str());
    // Written by this program, from keys.
    let recipients: Vec<Recipient> =
        own.into_iter().chain(sealing.others.iter().map(|o| o.recipient.as_str())).filter_map(|r| r.parse().ok()).collect();
    let earlier = sealing.own.iter().skip(1).map(|k| k.recipient.clone()).collect();
    Keys::new(recipients, kept, earlier, sealing.epoch)
}

/// The identities in a text that somebody took from a recovery kit: a key, several, or all of the kit.
///
/// # Errors
/// With the reason, if what begins like a key is none.
pub fn in_text(text: &str) -> Result<Vec<Identity>, String> {
    let words = text.split_whitespace().filter(|w| w.to_ascii_uppercase().starts_with("AGE-SECRET-KEY-"));
    words.map(|w| w.parse::<Identity>().map_err(|e| e.to_string())).collect()
}

/// The identities in a key file, the present one first. Lines that begin with `#` are for people, so `age -i` reads it as well.
pub fn read_file(path: &Path) -> io::Result<Vec<Identity>> {
    let text = fs::read_to_string(path)?;
    let keys = text.lines().map(str::trim).filter(|l| !l.is_empty() && !l.starts_with('#'));
    keys.map(|l| l.parse().map_err(|e| io::Error::new(io::ErrorKind::InvalidData, e))).collect()
}

/// Writes it.
pub fn write_file(path: &Path, keys: &[Identity]) -> io::Result<()> {
    let mut text = String::from(
        "# What opens the household's copies: the present key first, earlier ones below. The recovery kit has them, too.\n",
    );
    if keys.is_empty() {
        text += "# This server keeps none: it seals copies and cannot open them. The recovery kit can.\n";
    }
    for key in keys {
        text += &key.reveal();
        text.push('\n');
    }
    write_private(path, text.as_bytes())
}

/// The server's own key, made when it is needed first.
pub fn own(path: &Path) -> io::Result<Identity> {
    match read_file(path) {
        Ok(mut keys) if !keys.is_empty() => Ok(keys.swap_remove(0)),
        Ok(_) => Err(io::Error::new(io::ErrorKind::InvalidData, "there is no key in it")),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let key = Identity::generate();
            write_private(path, format!("# Opens this server's own secrets, and no copy.\n{}\n", key.reveal()).as_bytes())?;
            Ok(key)
        }
        Err(e) => Err(e),
    }
}
