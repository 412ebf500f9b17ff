//! Looking at an original's copy at home, wherever it is by now.
//!
//! A re-filing may give a file another name between the moment its path was read from the catalogue and the moment it is opened.
//! The catalogue says the new path before the old name goes, so asking it again after a vain look is decisive.

use std::{fs::File, sync::Arc};

use ypogeion_core::{
    Digest, OriginalId,
    filing::FiledPath,
    layers::{Act, Outcome, Place},
};
use ypogeion_library::{Finished, Library, LibraryError, Publish};

use crate::{elsewhere, engine::Engine, error::Result, evidence::note};

/// Looks at the copy: `look` says `None` where nothing is. Returns what it saw, and the path at which it is or should be.
pub async fn look_at<T: Send + 'static>(
    engine: &Engine,
    id: OriginalId,
    mut path: FiledPath,
    look: impl Fn(&Library, &FiledPath) -> Result<Option<T>, LibraryError> + Clone + Send + 'static,
) -> Result<(Option<T>, FiledPath)> {
    loop {
        let (library, place, look) = (Arc::clone(&engine.library), path.clone(), look.clone());
        match tokio::task::spawn_blocking(move || look(&library, &place)).await? {
            Ok(Some(seen)) => return Ok((Some(seen), path)),
            Ok(None) => {}
            Err(e) => {
                if let LibraryError::Elsewhere { folder, .. } = &e {
                    elsewhere::met(engine, folder).await?;
                }
                return Err(e.into());
            }
        }
        let now = engine.catalog.original(id, None).await?.path;
        if now == path {
            // Nothing is there: which is only so if the library is.
            engine.home_is_there().await?;
            return Ok((None, path));
        }
        path = now;
    }
}

/// Opens an original for reading, wherever it is by now; none if it is missing.
pub async fn find(engine: &Engine, id: OriginalId, path: FiledPath) -> Result<(Option<File>, FiledPath)> {
    look_at(engine, id, path, |library, path| match library.open_original(path) {
        Err(LibraryError::Missing { .. }) => Ok(None),
        other => other.map(Some),
    })
    .await
}

/// Opens an original for reading, wherever it is by now. That it is missing is written down.
pub async fn open(engine: &Engine, (id, digest): (OriginalId, Digest), path: FiledPath) -> Result<(File, FiledPath)> {
    let (file, path) = find(engine, id, path).await?;
    match file {
        Some(file) => Ok((file, path)),
        None => {
            // Once: whoever asks for it again and again adds nothing to what is known, nor to the record.
            let standings = engine.catalog.standings(id).await?;
            if !standings.iter().any(|(place, standing)| *place == Place::Home && !standing.good) {
                note(engine, (id, digest), Place::Home, Act::Reread, (Outcome::Missing, None)).await?;
            }
            Err(LibraryError::Missing { what: "open", path: engine.library.locate(&path) }.into())
        }
    }
}

/// Reads an original again, wherever it is by now, and says what its hash is.
pub async fn reread(
    engine: &Engine,
    id: OriginalId,
    path: FiledPath,
    digest: Digest,
) -> Result<((Outcome, Option<Digest>), FiledPath)> {
    let (seen, path) = look_at(engine, id, path, move |library, path| match library.reread(path, digest)? {
        (Outcome::Missing, _) => Ok(None),
        seen => Ok(Some(seen)),
    })
    .await?;
    Ok((seen.unwrap_or((Outcome::Missing, None)), path))
}

/// Puts good bytes in the place of an original whose copy is bad or gone; what lies there is set aside, never overwritten. Returns where
/// that is, and whether the place was free then: somebody may put something there at the same moment.
pub async fn repair(engine: &Engine, id: OriginalId, part: Arc<Finished>) -> Result<(Publish, FiledPath)> {
    // Whoever files the library anew, or deletes, waits until this is done.
    let _moving = engine.names.moving().await;
    let path = engine.catalog.original(id, None).await?.path;
    let (library, place) = (Arc::clone(&engine.library), path.clone());
    let published = tokio::task::spawn_blocking(move || {
        library.set_aside(&place, id)?;
        library.publish(&part, &place)
    })
    .await??;
    Ok((published, path))
}
