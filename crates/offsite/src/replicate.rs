//! Sending one original: read, check, seal, send, confirm.

use std::{fs::File, io::BufReader, path::Path};

use bytes::Bytes;
use ypogeion_core::{Digest, ledger::ObjectRecord};

use crate::{
    Fault, Replica,
    seal::{Passed, seal, seal_unsummed},
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

enum Sealed {
    InMemory(Bytes, Passed),
    Spooled(Entry),
}

/// Seals the file `home` and stores it as `name`. Returns once the store has taken all bytes with their checksums and
/// tells the right size when asked again; where no checksum is checked, once they were read again.
///
/// `expected` is the original's identity; `spool` is a folder at home, of this store alone, for sealed bodies that are too large for
/// memory. What is in it goes on where it was interrupted; [`spool::forget`] it once the confirmation is written down.
pub async fn send(replica: &Replica, home: File, expected: Digest, name: &str, spool: &Path) -> Result<ObjectRecord, SendError> {
    let (keys, spool_in, named) = (replica.keys.clone(), spool.to_owned(), name.to_owned());
    let sealed = tokio::task::spawn_blocking(move || -> std::io::Result<Sealed> {
        let length = home.metadata()?.len();
        let reader = BufReader::with_capacity(256 << 10, home);
        if length <= PART as u64 - (64 << 10) {
            let mut out = Vec::with_capacity(length as usize + length as usize / 4000 + 1024);
            let plain = seal_unsummed(&keys, reader, &mut out)?;
            Ok(Sealed::InMemory(out.into(), plain))
        } else {
            Ok(Sealed::Spooled(spool::seal_into(&spool_in, &named, expected, |out| seal(&keys, reader, out))?))
        }
    })
    .await
    .map_err(|e| Fault::Passing(e.to_string()))?
    .map_err(SendError::Unreadable)?;
    let plain = match &sealed {
        Sealed::InMemory(_, plain) => *plain,
        Sealed::Spooled(entry) => entry.both().plain,
    };
    if plain.digest != expected {
        spool::forget(spool, name).map_err(Fault::Home)?;
        return Err(SendError::Rotten { found: plain.digest });
    }
    let sent = match sealed {
        Sealed::InMemory(bytes, _) => {
            // The hash that went with the bytes is theirs; only where none did is it taken here.
            let digest = replica.store.put(name, bytes.clone()).await?.unwrap_or_else(|| Digest::of(&bytes));
            Passed { length: bytes.len() as u64, digest }
        }
        Sealed::Spooled(mut entry) => {
            replica.store.put_entry(name, &mut entry).await?;
            entry.both().sealed
        }
    };
    let kept = replica.store.size(name).await?;
    if kept != sent.length {
        return Err(Fault::Passing(format!("{name} should have {} bytes in the store and has {kept}", sent.length)).into());
    }
    if !replica.store.checks_sums() && replica.store.digest_of(name).await? != sent.digest {
        return Err(Fault::Passing(format!("{name} is not there as it was written")).into());
    }
    Ok(ObjectRecord { name: name.to_owned(), size: sent.length, sha256: sent.digest })
}
