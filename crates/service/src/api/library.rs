//! The library: months, originals, bytes, previews. Everybody sees their own, and what albums show them.

use std::{fs::File, sync::Arc};

use actix_files::NamedFile;
use actix_web::{HttpRequest, HttpResponse, get, http::header::HeaderValue, post, web};
use data_encoding::BASE64;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::{originals::OriginalRow, scope::Scope};
use ypogeion_core::{AlbumId, Digest, OriginalId, StoreId, filing::FiledPath};
use ypogeion_engine::{
    albums, at_home, find as finding,
    library::{self, After},
    own_folders, store_copy,
};
use ypogeion_library::LibraryError;
use ypogeion_wire::{
    find::Found,
    folder::Folder,
    original::{BringForward, Forward, Month, MonthShape, Original, Originals, SayVersion},
    problem::ProblemType,
};

use crate::{
    app::App,
    caller::Caller,
    digest_header::tell_digest,
    disposition::disposition,
    failure::{Answer, Failure},
};

/// What of the library is meant.
#[derive(Deserialize, IntoParams)]
pub struct SoughtQuery {
    /// Only what this line finds, see `/api/find`.
    find: Option<String>,
    /// Only what is in this album, whosever it is; none: one's own library.
    album: Option<Uuid>,
}

/// At what somebody looks. Devices look at their member's own library.
pub(super) async fn scope(app: &App, caller: &Caller, album: Option<Uuid>) -> Answer<Scope> {
    let viewer = if album.is_some() { caller.person()?.id } else { caller.owner()? };
    Ok(albums::scope(&app.engine, viewer, album.map(AlbumId)).await?)
}

/// An original that the caller may see: one of their own, or, for people, one that an album shows them.
async fn seen(app: &App, caller: &Caller, id: Uuid) -> Answer<OriginalRow> {
    let id = OriginalId(id);
    Ok(match caller {
        Caller::Person(person, _) => app.engine.catalog.original_seen(id, person.id).await?,
        _ => app.engine.catalog.original(id, Some(caller.owner()?)).await?,
    })
}

/// What somebody looks for.
#[derive(Deserialize, IntoParams)]
pub struct FindQuery {
    /// As they typed it, up to 500 characters.
    line: String,
    /// Whether to say what it may become.
    #[serde(default)]
    suggest: bool,
    /// In this album; none: in one's own library.
    album: Option<Uuid>,
}

/// How a line is understood that says in words which pictures are meant, and how many there are.
#[utoipa::path(params(FindQuery), responses((status = 200, body = Found)))]
#[get("/api/find")]
pub async fn find(app: web::Data<App>, caller: Caller, query: web::Query<FindQuery>) -> Answer<web::Json<Found>> {
    let scope = scope(&app, &caller, query.album).await?;
    Ok(web::Json(finding::found(&app.engine, scope, &query.line, query.suggest).await?))
}

/// The months in which something was taken, newest first.
#[utoipa::path(params(SoughtQuery), responses((status = 200, body = Vec<Month>)))]
#[get("/api/months")]
pub async fn list_months(app: web::Data<App>, caller: Caller, query: web::Query<SoughtQuery>) -> Answer<web::Json<Vec<Month>>> {
    let scope = scope(&app, &caller, query.album).await?;
    let sought = finding::sought(&app.engine, scope, query.find.as_deref()).await?;
    let months = library::months(&app.engine, scope, sought.as_ref()).await?;
    Ok(web::Json(months.into_iter().map(|(month, count)| Month { month, count }).collect()))
}

/// How the pictures of a month lie, newest first, before any of them is asked for.
#[utoipa::path(params(SoughtQuery), responses((status = 200, body = MonthShape)))]
#[get("/api/months/{month}/shape")]
pub async fn show_month(
    app: web::Data<App>,
    caller: Caller,
    month: web::Path<String>,
    query: web::Query<SoughtQuery>,
) -> Answer<web::Json<MonthShape>> {
    let (scope, month) = (scope(&app, &caller, query.album).await?, library::month(&month)?);
    let sought = finding::sought(&app.engine, scope, query.find.as_deref()).await?;
    let shape = library::shape(&app.engine, scope, month, sought.as_ref()).await?;
    let starts = shape.starts.into_iter().map(told).collect();
    Ok(web::Json(MonthShape { proportions: BASE64.encode(&shape.proportions), portion: shape.portion, starts }))
}

/// Which originals.
#[derive(Deserialize, IntoParams)]
pub struct OriginalsQuery {
    /// Only of this month, `2026-04`.
    month: Option<String>,
    /// `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 500.
    limit: Option<i64>,
    /// Only what this line finds, see `/api/find`.
    find: Option<String>,
    /// Only what is in this album, whosever it is; none: one's own library.
    album: Option<Uuid>,
}

/// A page of originals, newest first.
#[utoipa::path(params(OriginalsQuery), responses((status = 200, body = Originals)))]
#[get("/api/originals")]
pub async fn list_originals(
    app: web::Data<App>,
    caller: Caller,
    query: web::Query<OriginalsQuery>,
) -> Answer<web::Json<Originals>> {
    let limit = query.limit.unwrap_or(200).clamp(1, 500);
    let month = query.month.as_deref().map(library::month).transpose()?;
    let after = query
        .after
        .as_deref()
        .map(|text| cursor(text).ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out.")));
    let (scope, after) = (scope(&app, &caller, query.album).await?, after.transpose()?);
    let sought = finding::sought(&app.engine, scope, query.find.as_deref()).await?;
    let (originals, last) = library::page(&app.engine, scope, month, after, limit, sought.as_ref()).await?;
    Ok(web::Json(Originals { originals, next: last.map(told) }))
}

pub(super) fn told((taken, id): After) -> String {
    format!("{}~{id}", taken.and_utc().timestamp_micros())
}

pub(super) fn cursor(text: &str) -> Option<After> {
    let (micros, id) = text.split_once('~')?;
    let time = chrono::DateTime::from_timestamp_micros(micros.parse().ok()?)?.naive_utc();
    Some((time, id.parse().ok()?))
}

/// One original, with facts, layers and evidence. `find` says of which pictures the next ones are told.
#[utoipa::path(params(SoughtQuery), responses((status = 200, body = Original)))]
#[get("/api/originals/{id}")]
pub async fn show_original(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    query: web::Query<SoughtQuery>,
) -> Answer<web::Json<Original>> {
    let scope = scope(&app, &caller, query.album).await?;
    let sought = finding::sought(&app.engine, scope, query.find.as_deref()).await?;
    let row = seen(&app, &caller, *id).await?;
    Ok(web::Json(library::one(&app.engine, scope, row, sought.as_ref()).await?))
}

/// Has this file of a picture of one's own stand for it, or the one that does so by the rules.
#[utoipa::path(responses((status = 200, body = Forward)))]
#[post("/api/originals/{id}/forward")]
pub async fn bring_forward(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<BringForward>,
) -> Answer<web::Json<Forward>> {
    let id = library::bring_forward(&app.engine, caller.owner()?, OriginalId(*id), body.forward).await?;
    Ok(web::Json(Forward { id }))
}

/// Has this file be a version of another picture of one's own, or a picture by itself again. Returns which file stands for its picture then.
#[utoipa::path(responses((status = 200, body = Forward)))]
#[post("/api/originals/{id}/version")]
pub async fn say_version(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<SayVersion>,
) -> Answer<web::Json<Forward>> {
    let id = library::say_version(&app.engine, caller.owner()?, OriginalId(*id), body.of).await?;
    Ok(web::Json(Forward { id }))
}

/// How to hand the bytes over.
#[derive(Deserialize, IntoParams)]
pub struct DownloadQuery {
    /// `true`: to look at in the browser; otherwise to keep as a file.
    #[serde(default)]
    look: bool,
}

/// The bytes as they were received. Ranges and conditional requests work; `Repr-Digest` (RFC 9530) tells the hash.
#[utoipa::path(params(DownloadQuery), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 206)))]
#[get("/api/originals/{id}/bytes")]
pub async fn download_original(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<Uuid>,
    query: web::Query<DownloadQuery>,
) -> Answer<HttpResponse> {
    let row = seen(&app, &caller, *id).await?;
    let (file, path) = at_home::open(&app.engine, (row.id, row.digest), row.path).await?;
    send_file(&request, file, &path, row.facts.media_type.as_deref(), row.digest, query.look)
}

/// A JPEG that was made from a HEIC, for readers that know none. It is no original.
#[utoipa::path(responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 206)))]
#[get("/api/originals/{id}/derived")]
pub async fn download_derived(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<Uuid>,
) -> Answer<HttpResponse> {
    let row = seen(&app, &caller, *id).await?;
    let derived = app.engine.catalog.derived_from(row.id).await?.ok_or_else(Failure::not_found)?;
    let (library, path) = (Arc::clone(&app.engine.library), derived.path.clone());
    let file = match tokio::task::spawn_blocking(move || library.open_original(&path)).await? {
        // It is made again, and nobody has missed it.
        Err(LibraryError::Missing { .. }) => return Err(Failure::not_found()),
        other => other?,
    };
    send_file(&request, file, &derived.path, Some("image/jpeg"), derived.digest, false)
}

/// What people wrote about a picture, as an XMP packet (ISO 16684-1) to lie beside its file. Not found if nobody wrote anything.
#[utoipa::path(responses((status = 200, content_type = "application/rdf+xml", body = Vec<u8>)))]
#[get("/api/originals/{id}/words.xmp")]
pub async fn download_words(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    let row = seen(&app, &caller, *id).await?;
    let words = library::words_for_programs(&app.engine, row.shot).await?.ok_or_else(Failure::not_found)?;
    let name = format!("{}.xmp", library::last_of(row.path.as_str()));
    Ok(HttpResponse::Ok().content_type("application/rdf+xml").insert_header(disposition(name, false)).body(words))
}

/// Hands a file of the library over: ranges, conditions, digest. `look`: to be shown by a browser, if it is of a kind for that.
pub(super) fn send_file(
    request: &HttpRequest,
    file: File,
    path: &FiledPath,
    media_type: Option<&str>,
    digest: Digest,
    look: bool,
) -> Answer<HttpResponse> {
    // Only what a browser shows as a picture or plays is shown; everything else is handed over as a file, never run.
    let media_type =
        media_type.and_then(|t| t.parse::<mime_guess::Mime>().ok()).unwrap_or(mime_guess::mime::APPLICATION_OCTET_STREAM);
    let shown = look && matches!(media_type.type_().as_str(), "image" | "video");
    let name = path.as_str().rsplit('/').next().unwrap_or("original").to_owned();
    let disposition = disposition(name, shown);
    let file = NamedFile::from_file(file, path.as_str()).map_err(|_| Failure::not_found())?;
    let mut response =
        file.set_content_type(media_type).set_content_disposition(disposition).prefer_utf8(false).into_response(request);
    let headers = response.headers_mut();
    tell_digest(headers, digest);
    headers.insert(actix_web::http::header::CONTENT_SECURITY_POLICY, HeaderValue::from_static("sandbox; default-src 'none'"));
    headers.insert(actix_web::http::header::CACHE_CONTROL, HeaderValue::from_static("private, max-age=86400"));
    Ok(response)
}

/// A version of a film that browsers play (H.264 and AAC in MP4, up to 1,920 pixels), if one was made; ranges work.
#[utoipa::path(responses((status = 200, content_type = "video/mp4", body = Vec<u8>), (status = 206)))]
#[get("/api/originals/{id}/film")]
pub async fn show_film(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    let row = seen(&app, &caller, *id).await?;
    let mut response = made_film(&app, &request, row.id).await?;
    response.headers_mut().insert(actix_web::http::header::CACHE_CONTROL, HeaderValue::from_static("private, max-age=604800"));
    Ok(response)
}

/// Which folder.
#[derive(Deserialize, IntoParams)]
pub struct FolderQuery {
    /// `path` of one that was told; none: one's own part of the library.
    #[serde(default)]
    of: String,
}

/// What is in a folder of one's own part of the library, as it is on the disk.
#[utoipa::path(params(FolderQuery), responses((status = 200, body = Folder)))]
#[get("/api/folders")]
pub async fn look_in_folder(app: web::Data<App>, caller: Caller, query: web::Query<FolderQuery>) -> Answer<web::Json<Folder>> {
    Ok(web::Json(own_folders::look(&app.engine, caller.owner()?, &query.of).await?))
}

/// Whether it is to be looked at.
#[derive(Deserialize, IntoParams)]
pub struct CopyQuery {
    /// A picture is shown in the browser, not kept as a file.
    #[serde(default)]
    look: bool,
}

/// The copy that a store has of one's own picture: fetched, opened and compared before the first byte of it is handed over. Taking something out of a store may
/// cost money; a range costs the whole.
#[utoipa::path(params(CopyQuery), responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 206)))]
#[get("/api/originals/{id}/copies/{store}")]
pub async fn fetch_copy(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid)>,
    query: web::Query<CopyQuery>,
) -> Answer<HttpResponse> {
    let (id, store) = path.into_inner();
    let row = app.engine.catalog.original(OriginalId(id), Some(caller.owner()?)).await?;
    let file = store_copy::fetched(&app.engine, &row, StoreId(store)).await?;
    let media_type = row.facts.media_type.as_deref();
    let look = query.look && media_type.is_some_and(|t| t.starts_with("image/"));
    let mut response = send_file(&request, file, &row.path, media_type, row.digest, look)?;
    // The next look is another one.
    response.headers_mut().insert(actix_web::http::header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    Ok(response)
}

/// The version of a film that was made for browsers.
pub(super) async fn made_film(app: &App, request: &HttpRequest, id: OriginalId) -> Answer<HttpResponse> {
    let file = NamedFile::open_async(app.engine.settings.film_path(id)).await.map_err(|_| Failure::not_found())?;
    let mp4 = "video/mp4".parse().unwrap_or(mime_guess::mime::APPLICATION_OCTET_STREAM);
    Ok(file.set_content_type(mp4).into_response(request))
}

/// A preview, `small` or `large`, as JPEG.
#[utoipa::path(responses((status = 200, content_type = "image/jpeg", body = Vec<u8>)))]
#[get("/api/originals/{id}/preview/{size}")]
pub async fn show_preview(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, String)>,
) -> Answer<HttpResponse> {
    let (id, size) = path.into_inner();
    if !matches!(size.as_str(), "small" | "large") {
        return Err(Failure::not_found());
    }
    let row = seen(&app, &caller, id).await?;
    preview(&app, &request, &row, &size).await
}

/// The preview of an original that somebody may see.
pub(super) async fn preview(app: &App, request: &HttpRequest, row: &OriginalRow, size: &str) -> Answer<HttpResponse> {
    let place = app.engine.settings.preview_path(row.id, size);
    let file = NamedFile::open_async(&place).await.map_err(|_| {
        Failure::new(
            ProblemType::NoPreview,
            if row.preview == "waiting" { "The preview is still being made." } else { "There is no preview of this file." },
        )
    })?;
    let mut response = file.set_content_type(mime_guess::mime::IMAGE_JPEG).into_response(request);
    response.headers_mut().insert(actix_web::http::header::CACHE_CONTROL, HeaderValue::from_static("private, max-age=604800"));
    Ok(response)
}
