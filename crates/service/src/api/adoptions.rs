//! Taking over what lies on an old disk or in an archive: a look first, then a plan, then file by file.

use std::{
    fs,
    path::{Path, PathBuf},
};

use actix_web::{HttpResponse, get, patch, post, web};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, adoptions, devices::NewDevice};
use ypogeion_core::{DeviceId, OriginalName, adopt::ArchiveKind};
use ypogeion_wire::{
    adoption::{AdoptablePlace, AdoptablePlaces, AdoptedFile, Adoption, AdoptionChange, NewAdoption, Tally},
    problem::ProblemType,
    work::LiveEvent,
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    security, tus,
};

/// Names listed of one folder.
const MOST_PLACES: usize = 500;
const PAGE: i64 = 200;

/// A folder of the server.
#[derive(Deserialize, IntoParams)]
pub struct PlaceQuery {
    /// Which; none for the folders that the settings name.
    folder: Option<String>,
}

/// What may be adopted: folders and archives below the folders that the settings name, one level at a time.
#[utoipa::path(params(PlaceQuery), responses((status = 200, body = AdoptablePlaces)))]
#[get("/api/adoptions/places")]
pub async fn list_adoptable(app: web::Data<App>, query: web::Query<PlaceQuery>) -> Answer<web::Json<AdoptablePlaces>> {
    let Some(folder) = query.into_inner().folder.filter(|f| !f.is_empty()) else {
        let places = app.settings.adopt_from.iter().map(|p| place(p)).collect();
        return Ok(web::Json(AdoptablePlaces { folder: String::new(), above: None, places, more: false }));
    };
    let here = allowed(&app, &folder)?;
    let above = here.parent().filter(|p| allowed(&app, &p.to_string_lossy()).is_ok()).map(|p| p.display().to_string());
    let listed = tokio::task::spawn_blocking(move || {
        let mut places = Vec::new();
        for entry in fs::read_dir(&here)?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let Ok(kind) = entry.file_type() else { continue };
            if !name.starts_with('.') && (kind.is_dir() || kind.is_file() && ArchiveKind::of(&name).is_some()) {
                places.push(place(&entry.path()));
            }
        }
        Ok::<_, std::io::Error>((here, places))
    });
    let (here, mut places) = listed.await?.map_err(|e| Failure::bad(format!("{folder} cannot be listed: {e}.")))?;
    places.sort_by_key(|p| (p.archive, p.name.to_lowercase()));
    let more = places.len() > MOST_PLACES;
    places.truncate(MOST_PLACES);
    Ok(web::Json(AdoptablePlaces { folder: here.display().to_string(), above, places, more }))
}

fn place(path: &Path) -> AdoptablePlace {
    let name = path.file_name().map_or_else(|| path.display().to_string(), |n| n.to_string_lossy().into_owned());
    AdoptablePlace { path: path.display().to_string(), archive: ArchiveKind::of(&name).is_some() && path.is_file(), name }
}

/// A place that the settings allow to be adopted, with all links resolved. Whoever holds the keeper's session must not be able to
/// read the rest of the server by it.
fn allowed(app: &App, path: &str) -> Answer<PathBuf> {
    if app.settings.adopt_from.is_empty() {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "No folder of this server may be adopted yet. Name some in the settings (adopt_from), and start the service again.",
        ));
    }
    let refused = || {
        let words = format!("{path} is not there, or not below a folder that the settings name (adopt_from).");
        Failure::new(ProblemType::NotAllowed, words)
    };
    let real = Path::new(path).canonicalize().map_err(|_| refused())?;
    let below = |folder: &PathBuf| folder.canonicalize().is_ok_and(|folder| real.starts_with(folder));
    let ours = [&app.settings.library, &app.settings.data_folder];
    if !app.settings.adopt_from.iter().any(below) {
        return Err(refused());
    }
    if ours.into_iter().any(below) {
        return Err(Failure::new(ProblemType::NotAllowed, "This is the library itself, or this service's own folder."));
    }
    Ok(real)
}

async fn view(app: &App, a: adoptions::Adoption) -> Answer<Adoption> {
    let tally = |t: adoptions::Tally| Tally { files: t.files, bytes: t.bytes };
    Ok(Adoption {
        room: tus::room(app, a.person).await?.left(),
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

async fn one(app: &App, id: Uuid) -> Answer<Adoption> {
    let found = app.catalog.adoptions(Some(id), 1).await?.pop().ok_or_else(Failure::not_found)?;
    view(app, found).await
}

/// Looks through a folder or an archive, in the background, and makes a plan. Nothing is taken by it.
#[utoipa::path(responses((status = 201, body = Adoption)))]
#[post("/api/adoptions")]
pub async fn plan_adoption(app: web::Data<App>, caller: Caller, body: web::Json<NewAdoption>) -> Answer<HttpResponse> {
    let real = allowed(&app, &body.path)?;
    let path = real.to_str().ok_or_else(|| Failure::bad("The name of this folder is not text; rename it first."))?;
    if !real.is_dir() && ArchiveKind::of(path).is_none() {
        return Err(Failure::bad(format!("{path} is neither a folder nor a zip or tar archive.")));
    }
    let person = app.catalog.person(body.person).await?;
    let (id, who) = (Uuid::now_v7(), caller.person()?.name.clone());
    let new = adoptions::NewAdoption {
        person: person.id,
        place: path,
        in_place: body.in_place,
        everything: body.everything,
        made_by: &who,
    };
    app.catalog.create_adoption(id, &new, app.now()).await?;
    app.live.changed(&[LiveEvent::Work]);
    Ok(HttpResponse::Created().json(one(&app, id).await?))
}

/// The last adoptions, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Adoption>)))]
#[get("/api/adoptions")]
pub async fn list_adoptions(app: web::Data<App>) -> Answer<web::Json<Vec<Adoption>>> {
    let mut views = Vec::new();
    for adoption in app.catalog.adoptions(None, 20).await? {
        views.push(view(&app, adoption).await?);
    }
    Ok(web::Json(views))
}

/// Begins a plan, pauses it, lets it go on, stops it, or tries again what failed. What was taken stays.
#[utoipa::path(responses((status = 200, body = Adoption)))]
#[patch("/api/adoptions/{id}")]
pub async fn change_adoption(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<AdoptionChange>,
) -> Answer<web::Json<Adoption>> {
    let (id, now) = (*id, app.now());
    let adoption = app.catalog.adoptions(Some(id), 1).await?.pop().ok_or_else(Failure::not_found)?;
    let (from, to): (&[&str], &str) = match body.order.as_str() {
        "begin" => (&["planned"], "running"),
        "pause" => (&["running"], "paused"),
        // One that stood still while it looked goes on looking.
        "resume" => (&["paused"], if adoption.device.is_some() { "running" } else { "looking" }),
        "stop" => (&["looking", "planned", "running", "paused"], "stopped"),
        "try-again" => (&["done", "paused", "stopped"], "running"),
        _ => return Err(Failure::bad("The order is one of begin, pause, resume, stop, try-again.")),
    };
    if !from.contains(&adoption.state.as_str()) || (body.order == "try-again" && adoption.device.is_none()) {
        let words = format!("This adoption is {}; that cannot be done with it now.", adoption.state);
        return Err(Failure::new(ProblemType::NameTaken, words));
    }
    if body.order == "begin" {
        let device = add_device(&app, &adoption).await?;
        app.catalog.set_adoption_device(id, device).await?;
    }
    if body.order == "try-again" {
        app.catalog.adoption_try_again(id).await?;
    }
    if !app.catalog.set_adoption_state(id, from, to, None, now).await? {
        return Err(Failure::new(ProblemType::NameTaken, "Somebody else has just changed this adoption; look again."));
    }
    if matches!(body.order.as_str(), "begin" | "stop") {
        let what = format!("{} adopting {}", if to == "running" { "began" } else { "stopped" }, adoption.place);
        app.catalog.write_record(now, &caller.person()?.name, &what).await?;
    }
    app.live.changed(&[LiveEvent::Work, LiveEvent::Devices]);
    Ok(web::Json(one(&app, id).await?))
}

/// An old disk is a device like every other, so what it had can be held against what is here. It has a token that nobody knows.
async fn add_device(app: &App, adoption: &adoptions::Adoption) -> Answer<DeviceId> {
    let name = OriginalName::from_device(adoption.place.rsplit('/').next().unwrap_or("old disk"));
    let kind = if ArchiveKind::of(name.as_str()).is_some() { "archive" } else { "disk" };
    let (id, hash) = (DeviceId(Uuid::now_v7()), security::hash(&security::token()));
    let device = NewDevice { id, name: name.as_str(), kind, client: "", token_hash: hash.as_bytes() };
    app.catalog.add_device(adoption.person, &device, app.now()).await?;
    Ok(id)
}

/// Which files.
#[derive(Deserialize, IntoParams)]
pub struct FilesQuery {
    /// `waiting`, `left-out`, `failed`, `copied`, `pointed` or `present`.
    outcome: String,
    /// How many to pass over.
    #[serde(default)]
    offset: u32,
}

/// Files of an adoption with one outcome, two hundred at a time.
#[utoipa::path(params(FilesQuery), responses((status = 200, body = Vec<AdoptedFile>)))]
#[get("/api/adoptions/{id}/files")]
pub async fn list_adopted(
    app: web::Data<App>,
    id: web::Path<Uuid>,
    query: web::Query<FilesQuery>,
) -> Answer<web::Json<Vec<AdoptedFile>>> {
    let files = match app.catalog.adoption_files(*id, &query.outcome, i64::from(query.offset), PAGE).await {
        Err(CatalogError::NotFound) => Vec::new(),
        other => other?,
    };
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Ok(web::Json(
        files
            .into_iter()
            .map(|f| AdoptedFile { archive: text(&f.archive), path: text(&f.path), size: f.size, reason: f.reason })
            .collect(),
    ))
}
