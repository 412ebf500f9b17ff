//! Sending one original: read, check, seal, send, confirm.

use std::{fs::File, io::BufReader, path::Path};

use bytes::Bytes;
use ypogeion_core::{Digest, ledger::ObjectRecord};

use crate::{
    Fault, Replica,
    seal::{Both, seal},
    spool::{self, Entry},
    store::PART,
};

/// Why an original was not sent.
#[derive(Debug, thiserror::Error)]
pub enum SendError {
    /// The bytes at home are not the original's any more. They do not go out as good.
    #[error("the copy at home is damaged: its hash is {found}")]
    Rotten {
        /// The hash that was found.
        found: Digest,
    },
    /// The copy at home could not be read.
    #[error("the copy at home could not be read")]
    Unreadable(#[source] std::io::Error),
    /// The store failed.
    #[error(transparent)]
    Store(#[from] Fault),
}

enum Body {
    InMemory(Bytes, Both),
    Spooled(Entry),
}

/// Seals the file `home` and stores it as `name`. Returns once the store has taken all bytes, has verified their checksums, and
/// tells the right size when asked again; where it verifies none, once they were read again.
///
/// `expected` is the original's identity; `spool` is a folder at home, of this store alone, for sealed bodies that are too large for
/// memory. What is in it goes on where it was interrupted; [`spool::forget`] it once the confirmation is written down.
pub async fn send(replica: &Replica, home: File, expected: Digest, name: &str, spool: &Path) -> Result<ObjectRecord, SendError> {
    let (keys, spool_in, named) = (replica.keys.clone(), spool.to_owned(), name.to_owned());
    let body = tokio::task::spawn_blocking(move || -> std::io::Result<Body> {
        let length = home.metadata()?.len();
        let reader = BufReader::with_capacity(256 << 10, home);
        if length <= PART as u64 - (64 << 10) {
            let mut out = Vec::with_capacity(length as usize + length as usize / 4000 + 1024);
            let both = seal(&keys, reader, &mut out)?;
            Ok(Body::InMemory(out.into(), both))
        } else {
            Ok(Body::Spooled(spool::seal_into(&spool_in, &named, expected, |out| seal(&keys, reader, out))?))
        }
    })
    .await
    .map_err(|e| Fault::odd(e.to_string()))?
    .map_err(SendError::Unreadable)?;
    let both = match &body {
        Body::InMemory(_, both) => *both,
        Body::Spooled(entry) => entry.both(),
    };
    if both.plain.digest != expected {
        spool::forget(spool, name).map_err(Fault::Home)?;
        return Err(SendError::Rotten { found: both.plain.digest });
    }
    let stored = match body {
        Body::InMemory(bytes, _) => replica.store.put(name, bytes).await?,
        Body::Spooled(mut entry) => replica.store.put_entry(name, &mut entry).await?,
    };
    replica.store.confirm(name, stored, both.sealed).await?;
    Ok(ObjectRecord { name: name.to_owned(), size: both.sealed.length, hash: both.sealed.hash })
}
