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

enum Sealed {
    InMemory(Vec<u8>, Both),
    Spooled(Entry),
}

/// Seals the file at `home` and stores it as `name`. Returns once the store has taken all bytes with their checksums and
/// tells the right size when asked again; where no checksum is checked, once they were read again.
///
/// `expected` is the original's identity; `spool` is a folder at home, of this store alone, for sealed bodies that are too large for
/// memory. What is in it goes on where it was interrupted; [`spool::forget`] it once the confirmation is written down.
pub async fn send(replica: &Replica, home: &Path, expected: Digest, name: &str, spool: &Path) -> Result<ObjectRecord, SendError> {
    let (keys, home, spool_in, named) = (replica.keys.clone(), home.to_owned(), spool.to_owned(), name.to_owned());
    let sealed = tokio::task::spawn_blocking(move || -> std::io::Result<Sealed> {
        let file = File::open(&home)?;
        let length = file.metadata()?.len();
        let reader = BufReader::with_capacity(256 << 10, file);
        if length <= PART as u64 - (64 << 10) {
            let mut out = Vec::with_capacity(length as usize + length as usize / 4000 + 1024);
            let both = seal(&keys, reader, &mut out)?;
            Ok(Sealed::InMemory(out, both))
        } else {
            Ok(Sealed::Spooled(spool::seal_into(&spool_in, &named, expected, |out| seal(&keys, reader, out))?))
        }
    })
    .await
    .map_err(|e| Fault::Passing(e.to_string()))?
    .map_err(SendError::Unreadable)?;
    let both = match &sealed {
        Sealed::InMemory(_, both) => *both,
        Sealed::Spooled(entry) => entry.both(),
    };
    if both.plain.digest != expected {
        spool::forget(spool, name).map_err(Fault::Home)?;
        return Err(SendError::Rotten { found: both.plain.digest });
    }
    match sealed {
        Sealed::InMemory(bytes, _) => replica.store.put(name, Bytes::from(bytes)).await?,
        Sealed::Spooled(mut entry) => replica.store.put_entry(name, &mut entry).await?,
    }
    let kept = replica.store.size(name).await?;
    if kept != both.sealed.length {
        return Err(Fault::Passing(format!("{name} should have {} bytes in the store and has {kept}", both.sealed.length)).into());
    }
    if !replica.store.checks_sums() && replica.store.digest_of(name).await? != both.sealed.digest {
        return Err(Fault::Passing(format!("{name} is not there as it was written")).into());
    }
    Ok(ObjectRecord { name: name.to_owned(), size: both.sealed.length, sha256: both.sealed.digest })
}
