//! A JPEG beside a HEIC, for readers that know no HEIC.
//!
//! It is no original: it can be made again at any time, is never sent offsite, and never counts. It lies beside its original, also
//! after that was filed elsewhere. A kill between two steps is settled by doing the work again: the same bytes are made, and a
//! file that has them already is taken for what it is.

use std::{sync::Arc, time::SystemTime};

use uuid::Uuid;
use ypogeion_catalog::{CatalogError, derived::DerivedFile, originals::OriginalRow, work::Job};
use ypogeion_core::{OriginalId, UploadId, filing::FiledPath, layers::Outcome};
use ypogeion_library::{Finished, LibraryError, Publish};

use super::ended::Ended;
use crate::{
    at_home,
    engine::Engine,
    error::{Result, chain},
    live::changed,
};

pub(super) async fn derive(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let id = OriginalId(job.key);
    loop {
        let row = match engine.catalog.original(id, None).await {
            Err(CatalogError::NotFound) => return Ok(Ended::Done),
            other => other?,
        };
        let path = row.path.clone();
        let ended = put_beside(engine, row).await?;
        // Filed elsewhere meanwhile: the work that this puts down met this piece, which is still there, and added none.
        if engine.catalog.original(id, None).await?.path == path {
            return Ok(ended);
        }
    }
}

async fn put_beside(engine: &Arc<Engine>, row: OriginalRow) -> Result<Ended> {
    let id = row.id;
    let before = engine.catalog.derived_from(id).await?;
    if before.is_none() {
        // Its device has made one itself, or nobody wants them any more.
        let own = engine.catalog.parts_of(row.shot).await?.iter().any(|p| p.part == "twin");
        if own || !engine.catalog.wants_derived().await? {
            return Ok(Ended::Done);
        }
    }
    if let Some(there) = &before {
        let folder = |p: &FiledPath| p.as_str().rsplit_once('/').map(|(folder, _)| folder.to_owned());
        if folder(&there.path) == folder(&row.path) && is_whole(engine, there).await? {
            return Ok(Ended::Done);
        }
    }
    let part = match make(engine, &row.path, row.digest, row.taken_at.into()).await? {
        Ok(part) => part,
        // Not every file that says it is one can be decoded. It is kept all the same.
        Err(why) => {
            at_home::open(engine, (id, row.digest), row.path.clone()).await?;
            tracing::info!(path = %row.path, why, "no JPEG was made");
            return Ok(Ended::Done);
        }
    };
    let (upload, digest, size) = (part.id, part.digest, part.length);
    let placed = place(engine, &row.path, before.as_ref().map(|b| &b.path), part).await?;
    let library = Arc::clone(&engine.library);
    tokio::task::spawn_blocking(move || library.incoming().remove(upload)).await??;
    let Some(path) = placed else {
        return Ok(Ended::GivenUp("no free name could be found beside the original".to_owned()));
    };
    // The old one goes before the row forgets where it is: killed between the two, this is done again and nothing is left over.
    // Only what was made here goes; anything else that lies there by now stays.
    if let Some(old) = before.filter(|b| b.path != path)
        && is_whole(engine, &old).await?
    {
        let library = Arc::clone(&engine.library);
        tokio::task::spawn_blocking(move || library.remove_derived(&old.path)).await??;
    }
    engine.catalog.set_derived(id, &DerivedFile { path, digest, size }, engine.now()).await?;
    engine.live.changed(&[changed(&row)]);
    Ok(Ended::Done)
}

/// Whether a file that was made here is where it was put, with its bytes.
async fn is_whole(engine: &Engine, file: &DerivedFile) -> Result<bool> {
    let (library, path, digest) = (Arc::clone(&engine.library), file.path.clone(), file.digest);
    Ok(tokio::task::spawn_blocking(move || library.reread(&path, digest)).await??.0 == Outcome::Right)
}

/// Makes the JPEG in the limited child process, and seals it.
async fn make(
    engine: &Arc<Engine>,
    original: &FiledPath,
    digest: ypogeion_core::Digest,
    taken: SystemTime,
) -> Result<Result<Finished, String>> {
    let (there, original) = (Arc::clone(engine), original.clone());
    let made = tokio::task::spawn_blocking(move || {
        let incoming = there.library.incoming();
        let id = UploadId(Uuid::now_v7());
        incoming.create(id)?;
        let name = original.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        let from = match there.library.place_to_read(&original) {
            Ok(from) => from,
            Err(e) => {
                incoming.remove(id)?;
                return Ok(Err(chain(&e)));
            }
        };
        if let Err(why) = there.previewer.derive(&from, &name, digest, &incoming.path(id)) {
            incoming.remove(id)?;
            return Ok(Err(why));
        }
        let length = incoming.part(id)?.length;
        let part = incoming.writer(id, length)?.finish();
        part.seal(taken)?;
        Ok::<_, LibraryError>(Ok(part))
    });
    Ok(made.await??)
}

/// Gives it the first name beside its original that is free, or that has these very bytes already.
async fn place(
    engine: &Arc<Engine>,
    original: &FiledPath,
    before: Option<&FiledPath>,
    part: Finished,
) -> Result<Option<FiledPath>> {
    let part = Arc::new(part);
    for path in original.names_of_derived() {
        let Some(_reserved) = engine.names.reserve(&path) else { continue };
        if before != Some(&path) && engine.catalog.has_path(&path).await? {
            continue;
        }
        let (library, part, target) = (Arc::clone(&engine.library), Arc::clone(&part), path.clone());
        let placed = tokio::task::spawn_blocking(move || match library.publish(&part, &target)? {
            Publish::Done => Ok::<_, LibraryError>(true),
            Publish::NameTaken => Ok(library.reread(&target, part.digest)?.0 == Outcome::Right),
        });
        if placed.await?? {
            return Ok(Some(path));
        }
    }
    Ok(None)
}
