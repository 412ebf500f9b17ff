//! How bytes that have all arrived become an original.
//!
//! The order is the promise (I1): hash, facts, file time, sync, name without replacing, sync of the folder, row, and only
//! then an answer. A kill between two steps leaves a state that [`settle`] can finish from what is on the disk:
//!
//! | killed after | on the disk | in the catalogue | settled by |
//! |---|---|---|---|
//! | the last byte | the whole part | an open upload | landing it again from the start |
//! | the target was written down | the whole part | an open upload with a target | the same |
//! | the name was given | the filed file | an open upload with a target | its row |
//! | the same, and a power cut forgot the target | the filed file | an open upload | looking for it in its member's folder |
//! | the row was committed | the filed file | a landed upload | nothing to do |
//!
//! A name is taken away again only by who gave it a moment ago and holds the proof ([`NewName`]). What is found with a name, after a
//! kill or a rebuilding, keeps it: it may be the only copy there is.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::SystemTime,
};

use chrono::Local;
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    devices::Sighting,
    uploads::{Landing, Promise, Terms, Upload},
};
use ypogeion_core::{
    Digest, OriginalId, OriginalName, UploadId,
    capture::{self, Captured, Facts},
    filing::{Filed, FiledPath},
    kind::MediaKind,
    layers::{Act, Observation, Outcome, Place},
    room::PROMISED_FOR,
};
use ypogeion_library::{Finished, LibraryError, NewName, Publish};
use ypogeion_wire::{problem::ProblemType, work::LiveEvent};

use crate::{
    app::{App, Reserved},
    at_home::{look_at, put_right},
    failure::{Answer, Failure, chain},
    tus,
};

/// Names tried together against the catalogue.
const NAMES_AT_ONCE: usize = 16;

/// Turns a finished part into an original. When this returns an id, the original is acknowledged.
pub async fn land(app: &Arc<App>, upload: &Upload, part: Finished) -> Answer<OriginalId> {
    land_or_find(app, upload, part).await.map(|landed| landed.id)
}

/// What came of bytes that arrived.
#[derive(Clone, Copy, Debug)]
pub struct Landed {
    /// The original that has these bytes.
    pub id: OriginalId,
    /// Whether it is a new one; otherwise the member had it already.
    pub new: bool,
}

/// The same, and says whether the bytes were new.
pub async fn land_or_find(app: &Arc<App>, upload: &Upload, part: Finished) -> Answer<Landed> {
    if let Some(expected) = upload.digest.filter(|d| *d != part.digest) {
        // Not this device's fault alone: bytes change on bad memory and bad cables. It sends them again.
        discard(app, upload.id).await?;
        return Err(Failure::new(
            ProblemType::DigestMismatch,
            format!("The file did not arrive as it was sent: its checksum is {}, not {expected}. Send it again.", part.digest),
        ));
    }
    if upload.digest.is_none() {
        // A program that announced nothing: what it has is known only now. Counted before it lands, so that a kill between
        // the two leaves something that is still to come, not something that is here and was never counted.
        match note(app, upload, part.digest).await {
            // Whatever its device has too much of, the picture is safe first.
            Err(e) if e.kind() == ProblemType::TooMany => {
                tracing::warn!(device = %upload.device, "a name is not noted: {}", e.detail)
            }
            noted => noted?,
        }
    }
    match app.catalog.original_of(upload.person, part.digest).await {
        Ok((id, path)) => return already_here(app, upload, part, id, path).await,
        Err(CatalogError::NotFound) => {}
        Err(e) => return Err(e.into()),
    }
    let name = OriginalName::from_device(&upload.name);
    let (part, facts) = read_facts(app, part, &name).await?;
    let captured = capture::decide(&facts, None, name.as_str(), upload.file_time, app.now(), &Local);
    let part = seal(part, captured).await?;
    let names = names(app, upload, &name, &facts, captured).await?;
    let (name, _reserved) = file(app, names, &Bytes::Part(upload.id, Arc::clone(&part))).await?;
    commit(app, upload, part.digest, Named::Now(name), &facts, captured).await
}

/// Makes an original of a file that stays where it is, outside of the library: its filed name points there. Its bytes were read to
/// their end and have this digest.
///
/// A kill between the name and the row leaves a name that points there; taken again, it is the same name.
pub async fn point(app: &Arc<App>, upload: &Upload, digest: Digest, outside: &Path) -> Answer<Landed> {
    let name = OriginalName::from_device(&upload.name);
    let (reader, place, called) = (Arc::clone(&app.reader), outside.to_owned(), name.as_str().to_owned());
    app.stirred.notify_one();
    let facts = tokio::task::spawn_blocking(move || reader.facts(&place, &called)).await?;
    let captured = capture::decide(&facts, None, name.as_str(), upload.file_time, app.now(), &Local);
    let names = names(app, upload, &name, &facts, captured).await?;
    let (name, _reserved) = file(app, names, &Bytes::Outside(outside.to_owned())).await?;
    commit(app, upload, digest, Named::Now(name), &facts, captured).await
}

/// The names that the household's plan has for a file, the best one first.
async fn names(
    app: &App,
    upload: &Upload,
    name: &OriginalName,
    facts: &Facts,
    captured: Captured,
) -> Answer<impl Iterator<Item = FiledPath> + use<>> {
    let filing = app.catalog.filing_of(upload.person, upload.device).await?;
    let of = Filed {
        member_folder: &filing.folder,
        taken: captured.local,
        name,
        device: &filing.device,
        album: &upload.source,
        camera: facts.camera.as_deref().unwrap_or_default(),
        kind: facts.kind.unwrap_or_else(|| MediaKind::from_extension(name.as_str())),
    };
    Ok(filing.plan.places(&of))
}

/// Promises an upload its room and puts it down, or says why not. `instead`: uploads that end when it lands; `there`: bytes of it that are
/// on the disk already.
pub async fn promise(app: &App, upload: &Upload, instead: &[UploadId], there: u64) -> Answer<()> {
    let terms = Terms { free: app.library.free()?, reserve: app.settings.reserve, there, instead };
    match app.catalog.promise(upload, &terms, app.now()).await? {
        Promise::Given => Ok(()),
        Promise::No(no) => {
            // A program that only knows that something went wrong tells nobody; here it is known what is missing.
            if upload.concat.is_none() {
                // Until it comes, nothing says what its bytes are: a hash that no picture has.
                let digest = upload.digest.unwrap_or_else(|| Digest::of(format!("refused {}", upload.id).as_bytes()));
                let refused = Some(no.to_string());
                app.catalog.note_sighting(upload.device, &Sighting { refused, ..sighting(upload, digest) }, app.now()).await?;
                app.live.changed(&[LiveEvent::Devices]);
            }
            Err(no.into())
        }
        Promise::TooMany => Err(Failure::new(
            ProblemType::TooMany,
            "Too many uploads were begun and not finished. Finish or end some of them; what nothing more comes of ends by itself.",
        )),
    }
}

/// Promises an upload its room and makes its part. Whoever could not be given a part keeps no promise either.
pub async fn begin(app: &Arc<App>, upload: &Upload, instead: &[UploadId]) -> Answer<()> {
    promise(app, upload, instead, 0).await?;
    if let Err(e) = open_part(app, upload.id).await {
        discard(app, upload.id).await?;
        return Err(e);
    }
    Ok(())
}

/// As [`promise`], for an upload that goes on from byte `stands` after a long rest: its room may be somebody else's by now.
pub async fn still_promised(app: &App, upload: &Upload, stands: u64) -> Answer<()> {
    if upload.original.is_some() || app.now() - upload.touched_at < PROMISED_FOR {
        return Ok(());
    }
    promise(app, upload, &[], stands).await
}

/// Counts a file among what its device says it has.
pub async fn note(app: &App, upload: &Upload, digest: Digest) -> Answer<()> {
    Ok(app.catalog.note_sighting(upload.device, &sighting(upload, digest), app.now()).await?)
}

fn sighting(upload: &Upload, digest: Digest) -> Sighting {
    Sighting {
        source: upload.source.clone(),
        name: upload.name.clone(),
        digest,
        size: upload.length,
        file_time: upload.file_time,
        refused: None,
    }
}

/// Where the bytes are that are given a name.
enum Bytes {
    /// In the part of an upload, which is told which name it is about to be given.
    Part(UploadId, Arc<Finished>),
    /// In a file that stays where it is.
    Outside(PathBuf),
}

/// Gives a file the first free name.
async fn file(app: &Arc<App>, mut names: impl Iterator<Item = FiledPath>, bytes: &Bytes) -> Answer<(NewName, Reserved)> {
    loop {
        let some: Vec<FiledPath> = names.by_ref().take(NAMES_AT_ONCE).collect();
        if some.is_empty() {
            return Err(Failure::new(ProblemType::Internal, "No free name could be found for this file."));
        }
        let taken = app.catalog.taken_paths(&some).await?;
        for path in some {
            let folded = path.folded();
            if taken.contains(&folded) {
                continue;
            }
            let Some(reserved) = app.reserve(folded) else { continue };
            let (library, target) = (Arc::clone(&app.library), path.clone());
            let published = match bytes {
                Bytes::Part(upload, part) => {
                    app.catalog.set_target(*upload, &path).await?;
                    let part = Arc::clone(part);
                    tokio::task::spawn_blocking(move || library.publish_new(&part, &target)).await??
                }
                Bytes::Outside(outside) => {
                    let outside = outside.clone();
                    tokio::task::spawn_blocking(move || library.point_new(&outside, &target)).await??
                }
            };
            if let Some(name) = published {
                return Ok((name, reserved));
            }
        }
    }
}

/// How a file came by its name.
enum Named {
    /// This process gave it just now, and may take it back.
    Now(NewName),
    /// It was found there. Nobody here may take it away.
    Found(FiledPath),
}

/// Commits the row of a file that has its name.
async fn commit(
    app: &Arc<App>,
    upload: &Upload,
    digest: Digest,
    named: Named,
    facts: &Facts,
    captured: Captured,
) -> Answer<Landed> {
    let path = match &named {
        Named::Now(name) => name.path(),
        Named::Found(path) => path,
    };
    let landing = Landing { upload, id: OriginalId(Uuid::now_v7()), digest, path, facts, captured, at: app.now() };
    let landed = match app.catalog.land(&landing).await? {
        Some(id) => Landed { id, new: true },
        None => {
            let (id, kept) = app.catalog.original_of(upload.person, digest).await?;
            match named {
                // The same picture came twice at once, and the other one was committed first. Both are filed, one is known.
                Named::Now(name) if kept != *name.path() => {
                    let library = Arc::clone(&app.library);
                    tokio::task::spawn_blocking(move || library.unpublish(name)).await??;
                }
                Named::Found(path) if kept != path => found_again(app, id, path).await?,
                _ => {}
            }
            Landed { id, new: false }
        }
    };
    app.live.changed(&[LiveEvent::Library, LiveEvent::Devices, LiveEvent::Offsite]);
    Ok(landed)
}

/// The bytes of an original lie at another place than the one that its row names. If nothing is at that one, this is where it went: it
/// was moved after the last word that is known of it. Otherwise both stay, and somebody is told; which of them is wanted, no program knows.
async fn found_again(app: &Arc<App>, id: OriginalId, found: FiledPath) -> Answer<()> {
    let _moving = app.moves.lock().await;
    let row = app.catalog.original(id, None).await?;
    if app.library.is_there(&row.path)? {
        let line = format!("found {found} with the same bytes as {}: both are kept", row.path);
        return Ok(app.catalog.write_record(app.now(), "Ypogeion", &line).await?);
    }
    app.catalog.moved(None, id, &row.path, &found, app.now()).await?;
    app.catalog.old_name_gone(id).await?;
    // The line has the ledgers look.
    let line = format!("found {} at {found}, and goes on with it there", row.path);
    Ok(app.catalog.write_record(app.now(), "Ypogeion", &line).await?)
}

/// The member has these bytes. Believed only after looking: if the copy at home was seen damaged, or is not there as it
/// should be, this one takes its place.
async fn already_here(app: &Arc<App>, upload: &Upload, part: Finished, id: OriginalId, path: FiledPath) -> Answer<Landed> {
    let digest = part.digest;
    let mut path = path;
    if app.catalog.original(id, None).await?.held.is_some() {
        // Its member deleted it, and here it is again by their own hand: a device that only backs up was told to leave it.
        app.catalog.take_back(upload.person, &[id], app.now()).await?;
        path = app.catalog.original(id, None).await?.path;
    }
    let known_good = app.catalog.standings(id).await?.iter().any(|(place, s)| *place == Place::Home && s.good);
    let length = part.length;
    let (there, _) = look_at(app, id, path, move |library, path| {
        let file = match library.open_original(path) {
            Err(LibraryError::Missing { .. }) => return Ok(None),
            other => other?,
        };
        // A disk that cannot say how long it is has no whole one.
        Ok(file.metadata().is_ok_and(|m| m.len() == length).then_some(()))
    })
    .await?;
    if there.is_none() || !known_good {
        let row = app.catalog.original(id, None).await?;
        let captured = Captured { at: row.taken_at, local: row.taken_local, rule: capture::CaptureRule::Received };
        let (published, path) = put_right(app, id, seal(part, captured).await?).await?;
        if published == Publish::NameTaken {
            // Somebody put something there just now. Nothing is acknowledged that is not in its place.
            return Err(Failure::new(
                ProblemType::OriginalDamaged,
                format!(
                    "The copy of this picture at home is damaged, and something else lies in its place ({path}). Move that away and send it again."
                ),
            ));
        }
        let seen =
            Observation { place: Place::Home, act: Act::Reread, at: app.now(), digest: Some(digest), outcome: Outcome::Right };
        app.catalog.observe(id, digest, &seen).await?;
        app.catalog
            .write_record(
                app.now(),
                "Ypogeion",
                &format!("replaced {path}, which was damaged, by the copy that a device sent again"),
            )
            .await?;
    }
    app.catalog.link_upload(upload.id, id).await?;
    remove_part(app, upload.id).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(Landed { id, new: false })
}

async fn read_facts(app: &Arc<App>, part: Finished, name: &OriginalName) -> Answer<(Finished, Facts)> {
    let (reader, name) = (Arc::clone(&app.reader), name.as_str().to_owned());
    app.stirred.notify_one();
    Ok(tokio::task::spawn_blocking(move || {
        let facts = reader.facts(part.path(), &name);
        (part, facts)
    })
    .await?)
}

async fn seal(part: Finished, captured: Captured) -> Answer<Arc<Finished>> {
    let time = SystemTime::from(captured.at);
    Ok(tokio::task::spawn_blocking(move || part.seal(time).map(|()| Arc::new(part))).await??)
}

/// Makes the empty part of a new upload. Not on the thread that answers requests: while others sync, a disk takes its time even for
/// a name.
pub async fn open_part(app: &Arc<App>, id: UploadId) -> Answer<()> {
    let library = Arc::clone(&app.library);
    Ok(tokio::task::spawn_blocking(move || library.incoming().create(id)).await??)
}

/// Removes the part of an upload that is not to land.
pub async fn remove_part(app: &Arc<App>, id: UploadId) -> Answer<()> {
    let library = Arc::clone(&app.library);
    Ok(tokio::task::spawn_blocking(move || library.incoming().remove(id)).await??)
}

/// Forgets an upload that is not to land: its part and its row.
pub async fn discard(app: &Arc<App>, id: UploadId) -> Answer<()> {
    remove_part(app, id).await?;
    Ok(app.catalog.remove_upload(id).await?)
}

/// Settles what a kill, a power cut or a database that went away left between two steps. Run at the start, before any
/// request is answered; and for one upload when its device asks for it.
pub async fn settle(app: &Arc<App>) -> Answer<()> {
    let open = app.catalog.open_uploads().await?;
    for upload in &open {
        if let Err(e) = settle_one(app, upload).await {
            // One file that cannot be settled must not keep the house shut; it stays as it is and is tried again.
            tracing::warn!(upload = %upload.id, name = %upload.name, error = %chain(&e), "an interrupted upload could not be settled");
        }
    }
    // Parts whose row a power cut forgot were never acknowledged; their devices begin again.
    for id in app.library.incoming().list()? {
        if !open.iter().any(|u| u.id == id) {
            app.library.incoming().remove(id)?;
        }
    }
    Ok(())
}

/// Settles one upload; says what it became, if it has landed now.
pub async fn settle_one(app: &Arc<App>, upload: &Upload) -> Answer<Option<OriginalId>> {
    let incoming = app.library.incoming();
    if upload.is_partial() {
        // It lands as a part of another one.
        return Ok(None);
    }
    match incoming.part(upload.id) {
        Ok(part) if part.length == upload.length => {
            let (incoming, id) = (incoming.clone(), upload.id);
            let finished = tokio::task::spawn_blocking(move || incoming.writer(id, part.length).map(|w| w.finish())).await??;
            return land(app, upload, finished).await.map(Some);
        }
        Ok(_) if upload.is_final() => {
            let Some(writing) = app.busy.take(upload.id) else { return Ok(None) };
            return tus::join::go_on(app, upload, writing).await.map(Some);
        }
        Ok(_) => return Ok(None),
        Err(LibraryError::Missing { .. }) => {}
        Err(e) => return Err(e.into()),
    }
    let candidates = match &upload.target {
        Some(target) => vec![target.clone()],
        None => files_without_row(app, upload).await?,
    };
    for path in candidates {
        if app.catalog.has_path(&path).await? {
            continue;
        }
        let (library, place) = (Arc::clone(&app.library), path.clone());
        let found: Option<(Digest, PathBuf)> = tokio::task::spawn_blocking(move || {
            let mut file = match library.open_original(&place) {
                Err(LibraryError::Missing { .. }) => return Ok(None),
                other => other?,
            };
            let digest = ypogeion_library::shelf::hash_of(&mut file).map_err(|source| LibraryError::Io {
                what: "read",
                path: library.locate(&place),
                source,
            })?;
            Ok::<_, LibraryError>(Some((digest, library.place_to_read(&place)?)))
        })
        .await??;
        let Some((digest, place)) = found.filter(|(d, _)| upload.digest.is_none_or(|e| e == *d)) else { continue };
        let (reader, name) = (Arc::clone(&app.reader), upload.name.clone());
        let facts = tokio::task::spawn_blocking(move || reader.facts(&place, &name)).await?;
        let captured = capture::decide(&facts, None, &upload.name, upload.file_time, app.now(), &Local);
        return commit(app, upload, digest, Named::Found(path), &facts, captured).await.map(|landed| Some(landed.id));
    }
    // Neither a part nor a filed file: nothing was acknowledged and nothing is there.
    app.catalog.remove_upload(upload.id).await?;
    Ok(None)
}

async fn files_without_row(app: &Arc<App>, upload: &Upload) -> Answer<Vec<FiledPath>> {
    let folder = app.catalog.person(upload.person).await?.folder;
    let (library, length) = (Arc::clone(&app.library), upload.length);
    let files = tokio::task::spawn_blocking(move || library.files_of(&folder)).await??;
    Ok(files.into_iter().filter(|(_, size)| *size == length).map(|(path, _)| path).collect())
}
