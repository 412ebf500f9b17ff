//! How bytes that have all arrived become an original.
//!
//! The order is the promise (I1): hash, facts, file time, sync, name without replacing, sync of the folder, row, and only
//! then an answer. A kill between two steps leaves a state that [`crate::settling`] can finish from what is on the disk:
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
    io::{self, Write},
    path::{Path, PathBuf},
    sync::Arc,
    time::SystemTime,
};

use chrono::Local;
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    landing::Landing,
    sightings::Sighting,
    uploads::{Promise, Terms, Upload},
};
use ypogeion_core::{
    Digest, OriginalId, OriginalName, PersonId, UploadId,
    capture::{self, Captured, Facts},
    filing::{Filed, FiledPath},
    kind::MediaKind,
    layers::{Act, Observation, Outcome, Place},
    room::{PROMISED_FOR, Room},
};
use ypogeion_library::{Finished, LibraryError, NewName, PartWriter, Publish};

use crate::{
    at_home::{look_at, repair},
    engine::Engine,
    error::{Error, Result},
    filed_names::Reserved,
    live::{Change, changed},
};

/// Names tried together against the catalogue.
const NAMES_AT_ONCE: usize = 16;

/// Turns a finished part into an original. When this returns an id, the original is acknowledged.
pub async fn land(engine: &Arc<Engine>, upload: &Upload, part: Finished) -> Result<OriginalId> {
    land_or_find(engine, upload, part).await.map(|landed| landed.id)
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
pub async fn land_or_find(engine: &Arc<Engine>, upload: &Upload, part: Finished) -> Result<Landed> {
    if let Some(expected) = upload.digest.filter(|d| *d != part.digest) {
        // Not this device's fault alone: bytes change on bad memory and bad cables. It sends them again.
        discard(engine, upload.id).await?;
        return Err(Error::DigestMismatch(format!(
            "The file did not arrive as it was sent: its checksum is {}, not {expected}. Send it again.",
            part.digest
        )));
    }
    if upload.digest.is_none() && upload.brought.is_none() {
        // A program that announced nothing: what it has is known only now. Counted before it lands, so that a kill between
        // the two leaves something that is still to come, not something that is here and was never counted.
        match note(engine, upload, part.digest).await {
            // Whatever its device has too much of, the picture is safe first.
            Err(e @ Error::TooMany(_)) => {
                tracing::warn!(device = %upload.device, "a name is not noted: {e}")
            }
            noted => noted?,
        }
    }
    let _alone = engine.landings.alone(upload.person, part.digest).await;
    match engine.catalog.original_of(upload.person, part.digest).await {
        Ok((id, path)) => return already_here(engine, upload, part, id, path).await,
        Err(CatalogError::NotFound) => {}
        Err(e) => return Err(e.into()),
    }
    let name = OriginalName::from_device(&upload.name);
    let (part, facts) = read_facts(engine, part, &name).await?;
    let captured = capture::decide(&facts, None, name.as_str(), upload.file_time, engine.now(), &Local);
    let part = seal(part, captured).await?;
    let names = names(engine, upload, &name, &facts, captured).await?;
    let (name, _reserved) = file(engine, names, &Bytes::Part(upload.id, Arc::clone(&part))).await?;
    commit(engine, upload, part.digest, Named::Now(name), &facts, captured).await
}

/// Makes an original of a file that stays where it is, outside of the library: its filed name points there. Its bytes were read to
/// their end and have this digest. Nothing is made of it if its member has them already.
///
/// A kill between the name and the row leaves a name that points there; taken again, it is the same name.
pub async fn point(engine: &Arc<Engine>, upload: &Upload, digest: Digest, outside: &Path) -> Result<Landed> {
    let _alone = engine.landings.alone(upload.person, digest).await;
    match engine.catalog.original_of(upload.person, digest).await {
        Ok((id, _)) => return Ok(Landed { id, new: false }),
        Err(CatalogError::NotFound) => {}
        Err(e) => return Err(e.into()),
    }
    let name = OriginalName::from_device(&upload.name);
    let (reader, place, called) = (Arc::clone(&engine.reader), outside.to_owned(), name.as_str().to_owned());
    engine.wakeups.activity.notify_one();
    let facts = tokio::task::spawn_blocking(move || reader.facts(&place, &called)).await?;
    let captured = capture::decide(&facts, None, name.as_str(), upload.file_time, engine.now(), &Local);
    let names = names(engine, upload, &name, &facts, captured).await?;
    let (name, _reserved) = file(engine, names, &Bytes::Outside(outside.to_owned())).await?;
    commit(engine, upload, digest, Named::Now(name), &facts, captured).await
}

/// The names that the household's plan has for a file, the best one first.
async fn names(
    engine: &Engine,
    upload: &Upload,
    name: &OriginalName,
    facts: &Facts,
    captured: Captured,
) -> Result<impl Iterator<Item = FiledPath> + use<>> {
    let filing = engine.catalog.filing_of(upload.person, upload.device).await?;
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
pub async fn promise(engine: &Engine, upload: &Upload, instead: &[UploadId], there: u64) -> Result<()> {
    let terms = Terms { free: engine.free().await?, reserve: engine.settings.reserve, there, instead };
    match engine.catalog.promise(upload, &terms, engine.now()).await? {
        Promise::Given => Ok(()),
        Promise::No(no) => {
            // A program that only knows that something went wrong tells nobody; here it is known what is missing.
            if upload.concat.is_none() && upload.brought.is_none() {
                // Until it comes, nothing says what its bytes are: a hash that no picture has.
                let digest = upload.digest.unwrap_or_else(|| Digest::of(format!("refused {}", upload.id).as_bytes()));
                let refused = Some(no.to_string());
                engine.catalog.note_sighting(upload.device, &Sighting { refused, ..sighting(upload, digest) }, engine.now()).await?;
                engine.live.changed(&[Change::Device(upload.person, upload.device)]);
            }
            Err(no.into())
        }
        Promise::TooMany => Err(Error::TooMany("Too many uploads were begun and not finished. Finish or end some of them; what nothing more comes of ends by itself.".to_owned())),
    }
}

/// No file of a household is larger; a length beyond this is a mistake. 16 TiB, the limit of ext4.
pub const LARGEST: u64 = 16 << 40;

/// Refuses a length that no file has.
pub fn check_length(length: u64) -> Result<u64> {
    if length > LARGEST {
        return Err(Error::TooLarge("No file can be larger than 16 TiB here.".to_owned()));
    }
    Ok(length)
}

/// The room that a member has for more, as of now.
pub async fn room(engine: &Engine, person: PersonId) -> Result<Room> {
    Ok(engine.catalog.room(person, engine.free().await?, engine.settings.reserve, engine.now()).await?)
}

/// Promises an upload its room and makes its part. Whoever could not be given a part keeps no promise either.
pub async fn begin(engine: &Arc<Engine>, upload: &Upload, instead: &[UploadId]) -> Result<()> {
    promise(engine, upload, instead, 0).await?;
    if let Err(e) = open_part(engine, upload.id).await {
        discard(engine, upload.id).await?;
        return Err(e);
    }
    Ok(())
}

/// As [`promise`], for an upload that goes on from byte `stands` after a long rest: its room may be somebody else's by now.
pub async fn still_promised(engine: &Engine, upload: &Upload, stands: u64) -> Result<()> {
    if upload.original.is_some() || engine.now() - upload.touched_at < PROMISED_FOR {
        return Ok(());
    }
    promise(engine, upload, &[], stands).await
}

/// Counts a file among what its device says it has.
pub async fn note(engine: &Engine, upload: &Upload, digest: Digest) -> Result<()> {
    Ok(engine.catalog.note_sighting(upload.device, &sighting(upload, digest), engine.now()).await?)
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
async fn file(engine: &Arc<Engine>, mut names: impl Iterator<Item = FiledPath>, bytes: &Bytes) -> Result<(NewName, Reserved)> {
    loop {
        let some: Vec<FiledPath> = names.by_ref().take(NAMES_AT_ONCE).collect();
        if some.is_empty() {
            return Err(Error::internal("No free name could be found for this file."));
        }
        let taken = engine.catalog.taken_paths(&some).await?;
        for path in some {
            if taken.contains(&path.folded()) {
                continue;
            }
            let Some(reserved) = engine.names.reserve(&path) else { continue };
            let (library, target) = (Arc::clone(&engine.library), path.clone());
            let published = match bytes {
                Bytes::Part(upload, part) => {
                    engine.catalog.set_target(*upload, &path).await?;
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
pub(crate) enum Named {
    /// This process gave it just now, and may take it back.
    Now(NewName),
    /// It was found there. Nobody here may take it away.
    Found(FiledPath),
}

/// Commits the row of a file that has its name.
pub(crate) async fn commit(
    engine: &Arc<Engine>,
    upload: &Upload,
    digest: Digest,
    named: Named,
    facts: &Facts,
    captured: Captured,
) -> Result<Landed> {
    let path = match &named {
        Named::Now(name) => name.path(),
        Named::Found(path) => path,
    };
    let landing = Landing { upload, id: OriginalId(Uuid::now_v7()), digest, path, facts, captured, at: engine.now() };
    let landed = match engine.catalog.land(&landing).await? {
        Some(id) => Landed { id, new: true },
        None => {
            let (id, kept) = engine.catalog.original_of(upload.person, digest).await?;
            match named {
                // Somebody else committed these bytes first: another run of this service, or what a kill left was settled meanwhile. Both
                // are filed, one is known.
                Named::Now(name) if kept != *name.path() => {
                    let library = Arc::clone(&engine.library);
                    tokio::task::spawn_blocking(move || library.unpublish(name)).await??;
                }
                Named::Found(path) if kept != path => found_again(engine, id, path).await?,
                _ => {}
            }
            Landed { id, new: false }
        }
    };
    if upload.brought.is_some() {
        engine.live.changed(&[Change::Albums]);
    }
    let seen = Change::Original(upload.person, landed.id, captured.local);
    engine.live.changed(&[seen, Change::Device(upload.person, upload.device), Change::Offsite]);
    Ok(landed)
}

/// The bytes of an original lie at another place than the one that its row names. If nothing is at that one, this is where it went: it
/// was moved after the last word that is known of it. Otherwise both stay, and somebody is told; which of them is wanted, no program knows.
async fn found_again(engine: &Arc<Engine>, id: OriginalId, found: FiledPath) -> Result<()> {
    let _moving = engine.names.moving().await;
    let row = engine.catalog.original(id, None).await?;
    if engine.is_there(&row.path).await? {
        let line = format!("found {found} with the same bytes as {}: both are kept", row.path);
        return Ok(engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?);
    }
    engine.catalog.moved(None, id, &row.path, &found, engine.now()).await?;
    engine.catalog.old_name_gone(id).await?;
    // The line has the ledgers look.
    let line = format!("found {} at {found}, and goes on with it there", row.path);
    Ok(engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?)
}

/// The member has these bytes. Believed only after looking: if the copy at home was seen damaged, or is not there as it
/// should be, this one takes its place.
async fn already_here(engine: &Arc<Engine>, upload: &Upload, part: Finished, id: OriginalId, path: FiledPath) -> Result<Landed> {
    let digest = part.digest;
    let mut path = path;
    let held = engine.catalog.original(id, None).await?.held.is_some();
    if held && upload.brought.is_some() {
        // Its member deleted it, and nobody outside brings it back.
        engine.catalog.link_upload(upload.id, id).await?;
        remove_part(engine, upload.id).await?;
        return Ok(Landed { id, new: false });
    }
    if held {
        // Its member deleted it, and here it is again by their own hand: a device that only backs up was told to leave it.
        engine.catalog.take_back(upload.person, &[id], engine.now()).await?;
        path = engine.catalog.original(id, None).await?.path;
    }
    let known_good = engine.catalog.standings(id).await?.iter().any(|(place, s)| *place == Place::Home && s.good);
    let length = part.length;
    let (there, _) = look_at(engine, id, path, move |library, path| {
        let file = match library.open_original(path) {
            // What was left on a disk that is not connected is no help now, and here it is again.
            Err(LibraryError::Missing { .. } | LibraryError::Elsewhere { .. }) => return Ok(None),
            other => other?,
        };
        // A disk that cannot say how long it is has no whole one.
        Ok(file.metadata().is_ok_and(|m| m.len() == length).then_some(()))
    })
    .await?;
    if there.is_none() || !known_good {
        let row = engine.catalog.original(id, None).await?;
        let captured = Captured { at: row.taken_at, local: row.taken_local, rule: capture::CaptureRule::Received };
        let (published, path) = repair(engine, id, seal(part, captured).await?).await?;
        if published == Publish::NameTaken {
            // Somebody put something there just now. Nothing is acknowledged that is not in its place.
            return Err(Error::OriginalDamaged {
                detail: format!(
                    "The copy of this picture at home is damaged, and something else lies in its place ({path}). Move that away and send it again."
                ),
                source: None,
            });
        }
        let seen =
            Observation { place: Place::Home, act: Act::Reread, at: engine.now(), digest: Some(digest), outcome: Outcome::Right };
        engine.catalog.observe(id, digest, &seen).await?;
        engine
            .catalog
            .write_record(
                engine.now(),
                "Ypogeion",
                &format!("replaced {path}, which was damaged, by the copy that a device sent again"),
            )
            .await?;
    }
    engine.catalog.link_upload(upload.id, id).await?;
    remove_part(engine, upload.id).await?;
    let row = engine.catalog.original(id, None).await?;
    engine.live.changed(&[changed(&row), Change::Device(upload.person, upload.device)]);
    Ok(Landed { id, new: false })
}

async fn read_facts(engine: &Arc<Engine>, part: Finished, name: &OriginalName) -> Result<(Finished, Facts)> {
    let (reader, name) = (Arc::clone(&engine.reader), name.as_str().to_owned());
    engine.wakeups.activity.notify_one();
    Ok(tokio::task::spawn_blocking(move || {
        let facts = reader.facts(part.path(), &name);
        (part, facts)
    })
    .await?)
}

async fn seal(part: Finished, captured: Captured) -> Result<Arc<Finished>> {
    let time = SystemTime::from(captured.at);
    Ok(tokio::task::spawn_blocking(move || part.seal(time).map(|()| Arc::new(part))).await??)
}

/// Makes the empty part of a new upload. Not on the thread that answers requests: while others sync, a disk takes its time even for
/// a name.
pub async fn open_part(engine: &Arc<Engine>, id: UploadId) -> Result<()> {
    let library = Arc::clone(&engine.library);
    Ok(tokio::task::spawn_blocking(move || library.incoming().create(id)).await??)
}

/// A part as something that bytes are written to.
pub(crate) struct Part(pub(crate) PartWriter);

impl Write for Part {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes).map_err(io::Error::other)?;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Removes the part of an upload that is not to land.
pub async fn remove_part(engine: &Arc<Engine>, id: UploadId) -> Result<()> {
    let library = Arc::clone(&engine.library);
    Ok(tokio::task::spawn_blocking(move || library.incoming().remove(id)).await??)
}

/// Forgets an upload that is not to land: its part and its row.
pub async fn discard(engine: &Arc<Engine>, id: UploadId) -> Result<()> {
    remove_part(engine, id).await?;
    Ok(engine.catalog.remove_upload(id).await?)
}
