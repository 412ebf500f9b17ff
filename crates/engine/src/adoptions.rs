//! Taking over what lies on an old disk or in an archive, as the keeper orders it: a look first, then a plan, then file by file. What does it
//! is [`crate::work`].

use std::{
    fs, io,
    path::{Path, PathBuf},
};

use uuid::Uuid;
use ypogeion_catalog::{CatalogError, adoptions, devices::NewDevice};
use ypogeion_core::{DeviceId, OriginalName, adopt::ArchiveKind, state::AdoptionOrder};
use ypogeion_wire::adoption::{AdoptablePlace, AdoptablePlaces, AdoptedFile, Adoption, NewAdoption, Tally};

use crate::{
    engine::Engine,
    error::{Error, Result},
    landing,
    live::Change,
    secrets,
};

/// Names listed of one folder.
const MOST_PLACES: usize = 500;
const PAGE: i64 = 200;
/// The last adoptions are told.
const TOLD: i64 = 20;

/// What may be adopted: folders and archives below the folders that the settings name, one level at a time.
pub async fn places(engine: &Engine, folder: Option<String>) -> Result<AdoptablePlaces> {
    let Some(folder) = folder.filter(|f| !f.is_empty()) else {
        let places = engine.settings.adopt_from.iter().map(|p| place(p)).collect();
        return Ok(AdoptablePlaces { folder: String::new(), above: None, places, more: false });
    };
    let here = allowed(engine, &folder)?;
    let above = here.parent().filter(|p| allowed(engine, &p.to_string_lossy()).is_ok()).map(|p| p.display().to_string());
    let listed = tokio::task::spawn_blocking(move || {
        let mut places = Vec::new();
        for entry in fs::read_dir(&here)?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let Ok(kind) = entry.file_type() else { continue };
            if !name.starts_with('.') && (kind.is_dir() || kind.is_file() && ArchiveKind::of(&name).is_some()) {
                places.push(place(&entry.path()));
            }
        }
        Ok::<_, io::Error>((here, places))
    });
    let (here, mut places) = listed.await?.map_err(|e| Error::invalid(format!("{folder} cannot be listed: {e}.")))?;
    places.sort_by_key(|p| (p.archive, p.name.to_lowercase()));
    let more = places.len() > MOST_PLACES;
    places.truncate(MOST_PLACES);
    Ok(AdoptablePlaces { folder: here.display().to_string(), above, places, more })
}

fn place(path: &Path) -> AdoptablePlace {
    let name = path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned());
    AdoptablePlace { path: path.display().to_string(), archive: ArchiveKind::of(&name).is_some() && path.is_file(), name }
}

/// A place that the settings allow to be adopted, with all links resolved. Whoever holds the keeper's session must not be able to
/// read the rest of the server by it.
fn allowed(engine: &Engine, path: &str) -> Result<PathBuf> {
    if engine.settings.adopt_from.is_empty() {
        let words =
            "No folder of this server may be adopted yet. Name some in the settings (adopt_from), and start the service again.";
        return Err(Error::NotAllowed(words.to_owned()));
    }
    let refused =
        || Error::NotAllowed(format!("{path} is not there, or not below a folder that the settings name (adopt_from)."));
    let real = Path::new(path).canonicalize().map_err(|_| refused())?;
    let below = |folder: &PathBuf| folder.canonicalize().is_ok_and(|folder| real.starts_with(folder));
    if !engine.settings.adopt_from.iter().any(below) {
        return Err(refused());
    }
    if [&engine.settings.library, &engine.settings.data_folder].into_iter().any(below) {
        return Err(Error::NotAllowed("This is the library itself, or this service's own folder.".to_owned()));
    }
    Ok(real)
}

async fn view(engine: &Engine, a: adoptions::Adoption) -> Result<Adoption> {
    let tally = |t: adoptions::Tally| Tally { files: t.files, bytes: t.bytes };
    let room = match landing::room(engine, a.person).await {
        Ok(room) => Some(room.left()),
        // Nobody knows, and the rest is known all the same.
        Err(Error::LibraryAway(_)) => None,
        Err(e) => return Err(e),
    };
    Ok(Adoption {
        room,
        id: a.id,
        path: a.place,
        person_name: a.person_name,
        in_place: a.in_place,
        everything: a.everything,
        made_by: a.made_by,
        began_at: a.began_at,
        ended_at: a.ended_at,
        state: a.state,
        problem: a.problem,
        files: tally(a.files),
        known: tally(a.known),
        waiting: tally(a.waiting),
        copied: tally(a.copied),
        pointed: tally(a.pointed),
        present: tally(a.present),
        failed: tally(a.failed),
        left_out: tally(a.left_out),
    })
}

async fn find(engine: &Engine, id: Uuid) -> Result<adoptions::Adoption> {
    engine.catalog.adoptions(Some(id), 1).await?.pop().ok_or(Error::NotFound)
}

/// Looks through a folder or an archive, in the background, and makes a plan. Nothing is taken by it.
pub async fn plan(engine: &Engine, who: &str, new: &NewAdoption) -> Result<Adoption> {
    let real = allowed(engine, &new.path)?;
    let place = real.to_str().ok_or_else(|| Error::invalid("The name of this folder is not text; rename it first."))?;
    if !real.is_dir() && ArchiveKind::of(place).is_none() {
        return Err(Error::invalid(format!("{place} is neither a folder nor a zip or tar archive.")));
    }
    let person = engine.catalog.person(new.person).await?.id;
    let id = Uuid::now_v7();
    let new = adoptions::NewAdoption { person, place, in_place: new.in_place, everything: new.everything, made_by: who };
    engine.catalog.create_adoption(id, &new, engine.now()).await?;
    engine.live.changed(&[Change::Work]);
    view(engine, find(engine, id).await?).await
}

/// The last adoptions, newest first.
pub async fn list(engine: &Engine) -> Result<Vec<Adoption>> {
    let mut views = Vec::new();
    for adoption in engine.catalog.adoptions(None, TOLD).await? {
        views.push(view(engine, adoption).await?);
    }
    Ok(views)
}

/// Begins a plan, pauses it, lets it go on, stops it, or tries again what failed. What was taken stays.
pub async fn change(engine: &Engine, who: &str, id: Uuid, order: AdoptionOrder) -> Result<Adoption> {
    let (now, adoption) = (engine.now(), find(engine, id).await?);
    let Some(to) = adoption.state.after(order, adoption.device.is_some()) else {
        return Err(Error::NotNow(format!("This adoption is {}; that cannot be done with it now.", adoption.state)));
    };
    if order == AdoptionOrder::Begin {
        let device = add_device(engine, &adoption).await?;
        engine.catalog.set_adoption_device(id, device).await?;
    }
    if order == AdoptionOrder::TryAgain {
        engine.catalog.adoption_try_again(id).await?;
    }
    if !engine.catalog.set_adoption_state(id, &[adoption.state], to, None, now).await? {
        return Err(Error::NotNow("Somebody else has just changed this adoption; look again.".to_owned()));
    }
    let what = match order {
        AdoptionOrder::Begin => Some("began adopting"),
        AdoptionOrder::Stop => Some("stopped adopting"),
        AdoptionOrder::Pause | AdoptionOrder::Resume | AdoptionOrder::TryAgain => None,
    };
    if let Some(what) = what {
        engine.catalog.write_record(now, who, &format!("{what} {}", adoption.place)).await?;
    }
    engine.live.changed(&[Change::Work, Change::Devices]);
    view(engine, find(engine, id).await?).await
}

/// An old disk is a device like every other, so what it had can be held against what is here. It has a token that nobody knows.
async fn add_device(engine: &Engine, adoption: &adoptions::Adoption) -> Result<DeviceId> {
    let name = OriginalName::from_device(adoption.place.rsplit('/').next().unwrap_or("old disk"));
    let kind = if ArchiveKind::of(name.as_str()).is_some() { "archive" } else { "disk" };
    let (id, hash) = (DeviceId(Uuid::now_v7()), secrets::hash(&secrets::token()));
    let device = NewDevice { id, name: name.as_str(), kind, client: "", token_hash: hash.as_bytes() };
    engine.catalog.add_device(adoption.person, &device, engine.now()).await?;
    Ok(id)
}

/// Files of an adoption with one outcome, two hundred at a time.
pub async fn files(engine: &Engine, id: Uuid, outcome: &str, offset: u32) -> Result<Vec<AdoptedFile>> {
    let files = match engine.catalog.adoption_files(id, outcome, i64::from(offset), PAGE).await {
        Err(CatalogError::NotFound) => Vec::new(),
        other => other?,
    };
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let view = |f: adoptions::AdoptedFile| AdoptedFile {
        archive: text(&f.archive),
        path: text(&f.path),
        size: f.size,
        reason: f.reason,
    };
    Ok(files.into_iter().map(view).collect())
}
