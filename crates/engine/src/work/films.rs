//! Making versions of films that browsers play, in the limited child process.

use std::{fs, io, sync::Arc};

use chrono::TimeDelta;
use ypogeion_catalog::{CatalogError, films::Film, originals::OriginalRow, work::Job};
use ypogeion_core::{
    OriginalId,
    kind::MediaKind,
    layers::{Act, Outcome, Place},
    words,
};
use ypogeion_media::video;

use super::ended::Ended;
use crate::{
    at_home,
    engine::Engine,
    error::{Error, Result},
    evidence::note,
    live::changed,
};

/// So much stays free on the disk of the service's own things.
const LEFT_FREE: u64 = 2 << 30;
/// What is made of a small film may have so many bytes.
const ALWAYS: u64 = 256 << 20;
/// One that is damaged at home is looked at again after this; by then it may have been replaced.
const AWAIT_REPLACED: TimeDelta = TimeDelta::days(1);
/// Without room for one it is tried again after this.
const AWAIT_ROOM: TimeDelta = TimeDelta::hours(6);

pub(super) async fn make(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let row = match engine.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let place = engine.settings.film_path(row.id);
    let has_film = row.kind == MediaKind::Video.word() || row.facts.film_inside.is_some();
    if !has_film || row.held.is_some() {
        return Ok(Ended::Done);
    }
    if let Some(Film::Plays | Film::None(_)) = engine.catalog.film(row.id).await? {
        return Ok(Ended::Done);
    }
    if place.exists() {
        return known(engine, &row).await;
    }
    let folder = engine.settings.data_folder.clone();
    let free = tokio::task::spawn_blocking(move || ypogeion_library::place::free_of(&folder)).await??;
    // What is made is about as large as what it is made from, or smaller. It must never take the room that the database needs.
    if free < row.size.saturating_add(LEFT_FREE) {
        let why = format!("a version of a film for browsers waits for room: {} are free for it", words::size(free));
        return Ok(Ended::NotYet(engine.now() + AWAIT_ROOM, why));
    }
    let most = row.size.saturating_mul(2).saturating_add(ALWAYS).min(free - LEFT_FREE / 2);
    let (there, name, new) = (Arc::clone(engine), row.name.clone(), place.with_extension("new"));
    let made = at_home::look_at(engine, row.id, row.path.clone(), move |library, path| {
        let source = match library.place_to_read(path) {
            Err(ypogeion_library::LibraryError::Missing { .. }) => return Ok(None),
            other => other?,
        };
        let made = new.parent().map_or(Ok(()), fs::create_dir_all).map_err(|e| e.to_string());
        Ok(Some(made.and_then(|()| there.films.film(&source, &name, &new, most))))
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
            known(engine, &row).await
        }
        nothing => {
            let gone = tokio::task::spawn_blocking(move || fs::remove_file(new)).await?;
            unless_missing(gone)?;
            if nothing.is_err() {
                // A film that is damaged says nothing of what it was.
                let ((outcome, found), _) = at_home::reread(engine, row.id, row.path.clone(), row.digest).await?;
                if outcome != Outcome::Right {
                    note(engine, (row.id, row.digest), Place::Home, Act::Reread, (outcome, found)).await?;
                    return Ok(Ended::NotYet(engine.now() + AWAIT_REPLACED, "its copy at home is damaged".to_owned()));
                }
            }
            let found = nothing.map_or_else(Film::None, |_| Film::Plays);
            put_down(engine, &row, &found).await
        }
    }
}

/// A version of a film is there.
async fn known(engine: &Engine, row: &OriginalRow) -> Result<Ended> {
    let place = engine.settings.film_path(row.id);
    let size = tokio::task::spawn_blocking(move || fs::metadata(place).map(|m| m.len())).await?;
    let size = size.map_err(|e| Error::internal(format!("a film could not be looked at: {e}")))?;
    let found = if size > 0 { Film::Made(size) } else { Film::None("an empty film was made".to_owned()) };
    put_down(engine, row, &found).await
}

/// Puts down what came of looking at a film.
async fn put_down(engine: &Engine, row: &OriginalRow, found: &Film) -> Result<Ended> {
    engine.catalog.set_film(row.id, found).await?;
    let gone = match engine.catalog.original(row.id, None).await {
        Err(CatalogError::NotFound) => true,
        there => there.map(|_| false)?,
    };
    if gone {
        // It was deleted for good meanwhile, and whoever removes what is left of it may have been here before.
        let place = engine.settings.film_path(row.id);
        unless_missing(tokio::task::spawn_blocking(move || fs::remove_file(place)).await?)?;
        engine.catalog.forget_film(row.id).await?;
    }
    engine.live.changed(&[changed(row)]);
    Ok(Ended::Done)
}

fn unless_missing(removed: io::Result<()>) -> Result<()> {
    match removed {
        Err(e) if e.kind() != io::ErrorKind::NotFound => Err(Error::internal(format!("a film could not be removed: {e}"))),
        _ => Ok(()),
    }
}
