//! Making versions of films that browsers play, in the limited child process.

use std::{fs, io, sync::Arc};

use chrono::TimeDelta;
use ypogeion_catalog::{CatalogError, films::Film, work::Job};
use ypogeion_core::{OriginalId, words};
use ypogeion_media::video;

use super::ended::Ended;
use crate::{
    at_home,
    engine::Engine,
    error::{Error, Result},
    live::changed,
};

/// So much stays free on the disk of the service's own things.
const LEFT_FREE: u64 = 2 << 30;
/// Without room for one it is tried again after this.
const AWAIT_ROOM: TimeDelta = TimeDelta::hours(6);

pub(super) async fn make(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let row = match engine.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let place = engine.settings.film_path(row.id);
    if row.kind != "video" || row.held.is_some() || row.gone_at.is_some() {
        return Ok(Ended::Done);
    }
    if let Some(Film::Plays | Film::None(_)) = engine.catalog.film(row.id).await? {
        return Ok(Ended::Done);
    }
    if place.exists() {
        return known(engine, row.id, &row).await;
    }
    // What is made is about as large as what it is made from, or smaller.
    let folder = engine.settings.data_folder.clone();
    let free = tokio::task::spawn_blocking(move || ypogeion_library::place::free_of(&folder)).await??;
    if free < row.size.saturating_add(LEFT_FREE) {
        let why = format!("a version of a film for browsers waits for room: {} are free for it", words::size(free));
        return Ok(Ended::NotYet(engine.now() + AWAIT_ROOM, why));
    }
    let (there, name, new) = (Arc::clone(engine), row.name.clone(), place.with_extension("new"));
    let made = at_home::look_at(engine, row.id, row.path.clone(), move |library, path| {
        let source = match library.place_to_read(path) {
            Err(ypogeion_library::LibraryError::Missing { .. }) => return Ok(None),
            other => other?,
        };
        let made = new.parent().map_or(Ok(()), fs::create_dir_all).map_err(|e| e.to_string());
        Ok(Some(made.and_then(|()| there.films.film(&source, &name, &new))))
    });
    let (Some(made), _) = made.await? else {
        // It is noted as missing by who reads it; should it come back, this is wanted again.
        at_home::open(engine, (row.id, row.digest), row.path.clone()).await?;
        return Ok(Ended::Later(engine.now()));
    };
    let new = place.with_extension("new");
    match made {
        Ok(video::Film::Made) => {
            // Not synced: one that a power cut takes is made again.
            let put = tokio::task::spawn_blocking(move || fs::rename(new, place)).await?;
            put.map_err(|e| Error::internal(format!("a film could not be put in its place: {e}")))?;
            known(engine, row.id, &row).await
        }
        nothing => {
            let gone = tokio::task::spawn_blocking(move || fs::remove_file(new)).await?;
            gone.or_else(|e| if e.kind() == io::ErrorKind::NotFound { Ok(()) } else { Err(e) })
                .map_err(|e| Error::internal(format!("half a film could not be removed: {e}")))?;
            let found = nothing.map_or_else(Film::None, |_| Film::Plays);
            engine.catalog.set_film(row.id, &found).await?;
            engine.live.changed(&[changed(&row)]);
            Ok(Ended::Done)
        }
    }
}

/// A version of a film is there.
async fn known(engine: &Engine, id: OriginalId, row: &ypogeion_catalog::originals::OriginalRow) -> Result<Ended> {
    let place = engine.settings.film_path(id);
    let size = tokio::task::spawn_blocking(move || fs::metadata(place).map(|m| m.len())).await?;
    let size = size.map_err(|e| Error::internal(format!("a film could not be looked at: {e}")))?;
    let found = if size > 0 { Film::Made(size) } else { Film::None("an empty film was made".to_owned()) };
    engine.catalog.set_film(id, &found).await?;
    engine.live.changed(&[changed(row)]);
    Ok(Ended::Done)
}
