//! Sending one original: read, check, seal, send, confirm.

use std::{
    fs::File,
    io::{BufReader, BufWriter, Write},
    path::Path,
};

use bytes::Bytes;
use futures_util::TryStreamExt;
use ypogeion_core::{Digest, Hasher, ledger::ObjectRecord};

use crate::{
    Fault, Replica,
    seal::{Both, seal},
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
    InMemory(Vec<u8>),
    InFile(tempfile::TempPath),
}

/// Seals the file at `home` and stores it as `name`. Returns once the store has taken all bytes with their checksums and
/// tells the right size when asked again.
///
/// `expected` is the original's identity; `spool` is a folder at home for sealed bodies that are too large for memory.
pub async fn send(replica: &Replica, home: &Path, expected: Digest, name: &str, spool: &Path) -> Result<ObjectRecord, SendError> {
    let (identity, home, spool) = (replica.identity.clone(), home.to_owned(), spool.to_owned());
    let (sealed, both) = tokio::task::spawn_blocking(move || -> std::io::Result<(Sealed, Both)> {
        let file = File::open(&home)?;
        let length = file.metadata()?.len();
        let reader = BufReader::with_capacity(256 << 10, file);
        if length <= PART as u64 - (64 << 10) {
            let mut out = Vec::with_capacity(length as usize + length as usize / 4000 + 1024);
            let both = seal(&identity, reader, &mut out)?;
            Ok((Sealed::InMemory(out), both))
        } else {
            let mut out = tempfile::NamedTempFile::new_in(&spool)?;
            let mut writer = BufWriter::with_capacity(256 << 10, out.as_file_mut());
            let both = seal(&identity, reader, &mut writer)?;
            writer.flush()?;
            drop(writer);
            Ok((Sealed::InFile(out.into_temp_path()), both))
        }
    })
    .await
    .map_err(|e| Fault::Passing(e.to_string()))?
    .map_err(SendError::Unreadable)?;
    if both.plain.digest != expected {
        return Err(SendError::Rotten { found: both.plain.digest });
    }
    match sealed {
        Sealed::InMemory(bytes) => replica.store.put(name, Bytes::from(bytes)).await?,
        Sealed::InFile(path) => replica.store.put_file(name, &path).await?,
    }
    let kept = replica.store.size(name).await?;
    if kept != both.sealed.length {
        return Err(Fault::Passing(format!("{name} should have {} bytes in the store and has {kept}", both.sealed.length)).into());
    }
    if replica.store.is_disk() {
        // A store checks the checksum that came with the object; a disk checks nothing, so it is read again.
        let found = sealed_digest(replica, name).await?;
        if found != both.sealed.digest {
            return Err(Fault::Passing(format!("{name} is not on the disk as it was written")).into());
        }
    }
    Ok(ObjectRecord { name: name.to_owned(), size: both.sealed.length, sha256: both.sealed.digest })
}

/// The hash of an object's sealed bytes.
async fn sealed_digest(replica: &Replica, name: &str) -> Result<Digest, Fault> {
    let (mut bytes, mut hasher) = (replica.store.stream(name).await?, Hasher::new());
    while let Some(piece) = bytes.try_next().await? {
        hasher.update(&piece);
    }
    Ok(hasher.finish())
}
