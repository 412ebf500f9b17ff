//! One upload made of several that were sent side by side.
//!
//! Partial uploads are uploads that never land by themselves. A final one names them; its bytes are put together on the
//! disk, hashed on the way, and it lands like any other. Put together is only what is missing: after a kill it goes on where
//! it stopped, at the next start or when its device asks.

use std::{
    collections::HashSet,
    fs::File,
    io::{Read, Seek, SeekFrom},
    sync::Arc,
};

use ypogeion_catalog::{CatalogError, uploads::Upload};
use ypogeion_core::{DeviceId, OriginalId, UploadId};
use ypogeion_library::{Finished, LibraryError, PartWriter};

use crate::{
    engine::Engine,
    error::{Error, Result},
    landing::{self, check_length},
    writing::Writing,
};

/// Of so many parts may an upload be made.
const MOST_PARTS: usize = 1_000;

/// What an upload is of another one, as its device said it and the catalogue keeps it: the header `Upload-Concat` of tus.
#[derive(Debug, PartialEq, Eq)]
pub enum Concat {
    /// This upload will be a part of another one.
    Partial,
    /// This upload is made of these, in this order.
    Final(Vec<UploadId>),
}

impl Concat {
    /// Reads the header. Parts are named by address, whole or without the host.
    pub fn parse(text: &str) -> Result<Self> {
        let not_understood = || {
            Error::invalid(
                "The header Upload-Concat is \"partial\", or \"final;\" and the addresses of partial uploads, separated by spaces.",
            )
        };
        if text.trim() == "partial" {
            return Ok(Concat::Partial);
        }
        let parts = text.trim().strip_prefix("final;").ok_or_else(not_understood)?;
        let ids: Option<Vec<UploadId>> = parts.split_whitespace().map(upload_id).collect();
        ids.filter(|ids| !ids.is_empty()).map(Concat::Final).ok_or_else(not_understood)
    }
}

fn upload_id(address: &str) -> Option<UploadId> {
    let path = address.split_once("://").map_or(address, |(_, rest)| rest.split_once('/').map_or("", |(_, path)| path));
    path.trim_start_matches('/').strip_prefix("tus/")?.parse().ok()
}

/// The length of an upload that is to be made of these, if all of them are there and complete.
pub async fn length_of(engine: &Engine, device: DeviceId, parts: &[UploadId]) -> Result<u64> {
    if parts.len() > MOST_PARTS || parts.iter().collect::<HashSet<_>>().len() < parts.len() {
        return Err(Error::invalid(format!("An upload is made of at most {MOST_PARTS} others, and of none of them twice.")));
    }
    let mut length = 0u64;
    for id in parts {
        length = length.saturating_add(complete_part(engine, device, *id).await?);
    }
    check_length(length)
}

async fn complete_part(engine: &Engine, device: DeviceId, id: UploadId) -> Result<u64> {
    let gone = || Error::UploadGone("One of the parts expired, was ended, or never was. Send it again.".to_owned());
    let upload = match engine.catalog.upload(id, device).await {
        Ok(upload) => upload,
        Err(CatalogError::NotFound) => return Err(gone()),
        Err(e) => return Err(e.into()),
    };
    if !upload.is_partial() {
        return Err(Error::invalid("One of the parts was not created as a partial upload."));
    }
    match engine.part(id).await? {
        Some(length) if length == upload.length => Ok(length),
        Some(length) => {
            Err(Error::WrongOffset(format!("One of the parts is at byte {length} of {}. Finish it first.", upload.length)))
        }
        None => Err(gone()),
    }
}

/// Puts together what is missing of a final upload, and lands it. The right to write goes with the writing.
pub async fn go_on(engine: &Arc<Engine>, upload: &Upload, writing: Writing) -> Result<OriginalId> {
    let parts = match upload.concat.as_deref().map(Concat::parse).transpose()? {
        Some(Concat::Final(parts)) => parts,
        _ => return Err(Error::invalid("This upload is not made of others.")),
    };
    let (incoming, id, length, sources) = (engine.library.incoming().clone(), upload.id, upload.length, parts.clone());
    let disk = tokio::task::spawn_blocking(move || {
        let start = incoming.part(id)?.length;
        let files = sources.iter().map(|id| incoming.path(*id)).collect::<Vec<_>>();
        let joined = put_together(incoming.writer(id, start)?, &files, length);
        drop(writing);
        joined
    });
    let finished = match disk.await? {
        Err(LibraryError::Missing { .. }) => {
            landing::discard(engine, upload.id).await?;
            return Err(Error::UploadGone("A part of this upload is gone. Begin it again.".to_owned()));
        }
        other => other?,
    };
    // Landing goes on even if the device hangs up now.
    let (inner, landed) = (Arc::clone(engine), upload.clone());
    let original = tokio::spawn(async move { landing::land(&inner, &landed, finished).await }).await??;
    for part in parts {
        // What a kill leaves behind here expires by itself.
        landing::discard(engine, part).await?;
    }
    Ok(original)
}

fn put_together(mut writer: PartWriter, files: &[std::path::PathBuf], length: u64) -> Result<Finished, LibraryError> {
    let mut buffer = vec![0; 1 << 20];
    let mut passed = 0u64;
    for path in files {
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LibraryError::Missing { what: "read", path: path.clone() },
            _ => LibraryError::Io { what: "read", path: path.clone(), source },
        };
        let mut file = File::open(path).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        let skip = writer.at().saturating_sub(passed).min(size);
        file.seek(SeekFrom::Start(skip)).map_err(failed)?;
        loop {
            match file.read(&mut buffer).map_err(failed)? {
                0 => break,
                n => writer.write(&buffer[..n])?,
            }
        }
        passed += size;
    }
    if writer.at() == length {
        return Ok(writer.finish());
    }
    // A part is shorter than it was when the upload was created: a power cut took its end.
    tracing::warn!(at = writer.at(), length, "parts of an upload are shorter than they were");
    Err(LibraryError::Missing { what: "put together", path: files.first().cloned().unwrap_or_default() })
}
