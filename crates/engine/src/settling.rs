//! What a kill, a power cut or a database that went away left between two steps of a landing: see the table in [`crate::landing`].

use std::{collections::HashSet, path::PathBuf, sync::Arc};

use chrono::Local;
use ypogeion_catalog::uploads::Upload;
use ypogeion_core::{Digest, OriginalId, UploadId, capture, filing::FiledPath};
use ypogeion_library::{LibraryError, shelf::hash_of};

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    joining,
    landing::{self, Named},
    writing::Writing,
};

/// Settles what a kill, a power cut or a database that went away left between two steps. Run at the start, before any
/// request is answered; and for one upload when its device asks for it.
pub async fn settle(engine: &Arc<Engine>) -> Result<()> {
    let open = engine.catalog.open_uploads().await?;
    for upload in &open {
        if let Err(e) = settle_one(engine, upload).await {
            // One file that cannot be settled must not keep the house shut; it stays as it is and is tried again.
            tracing::warn!(upload = %upload.id, name = %upload.name, error = %chain(&e), "an interrupted upload could not be settled");
        }
    }
    // Parts whose row a power cut forgot were never acknowledged; their devices begin again.
    let known: HashSet<UploadId> = open.iter().map(|u| u.id).collect();
    let strays = engine.on_disk(move |library| {
        let incoming = library.incoming();
        incoming.list()?.into_iter().filter(|id| !known.contains(id)).try_for_each(|id| incoming.remove(id))
    });
    Ok(strays.await??)
}

/// Settles one upload; says what it became, if it has landed now.
pub async fn settle_one(engine: &Arc<Engine>, upload: &Upload) -> Result<Option<OriginalId>> {
    if upload.is_partial() {
        // It lands as a part of another one.
        return Ok(None);
    }
    match engine.part(upload.id).await? {
        Some(length) if length == upload.length => {
            let id = upload.id;
            let finished = engine.on_disk(move |library| library.incoming().writer(id, length).map(|w| w.finish()));
            return landing::land(engine, upload, finished.await??).await.map(Some);
        }
        Some(_) if upload.is_final() => {
            let Some(writing) = engine.busy.take(upload.id) else { return Ok(None) };
            return joining::go_on(engine, upload, writing).await.map(Some);
        }
        Some(_) => return Ok(None),
        None => {}
    }
    let candidates = match &upload.target {
        Some(target) => vec![target.clone()],
        None => files_without_row(engine, upload).await?,
    };
    for path in candidates {
        if engine.catalog.has_path(&path).await? {
            continue;
        }
        let (library, place) = (Arc::clone(&engine.library), path.clone());
        let found: Option<(Digest, PathBuf)> = tokio::task::spawn_blocking(move || {
            let mut file = match library.open_original(&place) {
                // Nor is it a file that this upload made, if it was left elsewhere.
                Err(LibraryError::Missing { .. } | LibraryError::Elsewhere { .. }) => return Ok(None),
                other => other?,
            };
            let digest =
                hash_of(&mut file).map_err(|source| LibraryError::Io { what: "read", path: library.locate(&place), source })?;
            Ok::<_, LibraryError>(Some((digest, library.place_to_read(&place)?)))
        })
        .await??;
        let Some((digest, place)) = found.filter(|(d, _)| upload.digest.is_none_or(|e| e == *d)) else { continue };
        let (reader, name) = (Arc::clone(&engine.reader), upload.name.clone());
        let facts = tokio::task::spawn_blocking(move || reader.facts(&place, &name)).await?;
        let captured = capture::decide(&facts, None, &upload.name, upload.file_time, engine.now(), &Local);
        return landing::commit(engine, upload, digest, Named::Found(path), &facts, captured).await.map(|landed| Some(landed.id));
    }
    // Neither a part nor a filed file: nothing was acknowledged and nothing is there.
    engine.catalog.remove_upload(upload.id).await?;
    Ok(None)
}

async fn files_without_row(engine: &Arc<Engine>, upload: &Upload) -> Result<Vec<FiledPath>> {
    let folder = engine.catalog.person(upload.person).await?.folder;
    let (library, length) = (Arc::clone(&engine.library), upload.length);
    let files = tokio::task::spawn_blocking(move || library.files_of(&folder)).await??;
    Ok(files.into_iter().filter(|(_, size)| *size == length).map(|(path, _)| path).collect())
}

/// Where an upload stands. One whose part is gone was interrupted while it landed; that is settled now, with the right to write that
/// the caller holds, or with one taken for it. `None`: somebody else is writing to it.
pub async fn offset(engine: &Arc<Engine>, upload: &Upload, held: Option<&Writing>) -> Result<Option<u64>> {
    match engine.part(upload.id).await? {
        Some(length) if upload.is_final() && length < upload.length => {
            let Some(writing) = engine.busy.take(upload.id) else { return Ok(None) };
            joining::go_on(engine, upload, writing).await.map(|_| Some(upload.length))
        }
        Some(length) if length < upload.length || upload.is_partial() => Ok(Some(length)),
        Some(_) | None => {
            // It may be landing at this moment, by the request that brought its last byte.
            let taken = if held.is_some() { None } else { engine.busy.take(upload.id) };
            if held.is_none() && taken.is_none() {
                return Ok(None);
            }
            if engine.catalog.upload(upload.id, upload.device).await?.original.is_some() {
                return Ok(Some(upload.length));
            }
            match settle_one(engine, upload).await? {
                Some(_) => Ok(Some(upload.length)),
                None => Err(Error::UploadGone("This upload was lost before it was acknowledged. Begin it again.".to_owned())),
            }
        }
    }
}
