//! Resumable uploads: tus 1.0.0 with creation, creation-with-upload, checksum, termination, expiration and concatenation.
//!
//! * This module has the routes. [`sender`] is who sends, [`metadata`] what they say about a file, [`body`] takes its bytes.
//!   What becomes of them is the engine's.
//!
//! A device that knows nothing but an address and a token can send with any program that speaks the protocol: offering
//! first, digests and our own metadata are all optional.

pub mod body;
mod headers;
pub mod metadata;
mod sender;

use actix_web::{
    HttpRequest, HttpResponse, delete,
    dev::ServiceRequest,
    head,
    http::{
        Method,
        header::{HeaderMap, HeaderName, HeaderValue},
    },
    options, patch, post, web,
};
use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, brought::Brought, uploads::Upload};
use ypogeion_core::UploadId;
use ypogeion_engine::{
    joining::{self, Concat},
    landing::{self, LARGEST, check_length},
    settling,
    writing::Writing,
};
use ypogeion_wire::problem::ProblemType;

pub use self::sender::Sender;
use self::{
    body::{append, checksum},
    headers::{CHECKSUMS, header, number},
    metadata::Metadata,
};
use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

/// The version of the protocol.
const VERSION: &str = "1.0.0";
const EXTENSIONS: &str = "creation,creation-with-upload,checksum,termination,expiration,concatenation";
const BODY: &str = "application/offset+octet-stream";

fn check_version(request: &HttpRequest) -> Answer<()> {
    match header(request, "tus-resumable") {
        Some(VERSION) => Ok(()),
        _ => Err(Failure::new(
            ProblemType::TusVersion,
            format!("Uploads are taken by tus {VERSION}; send \"Tus-Resumable: {VERSION}\"."),
        )),
    }
}

/// Clients behind a proxy that lets only GET and POST through say the method in a header; it counts instead of the real one.
pub fn override_method(request: &mut ServiceRequest) {
    let said = request.headers().get("x-http-method-override").and_then(|v| Method::from_bytes(v.as_bytes()).ok());
    if let Some(method) = said {
        request.head_mut().method = method;
    }
}

/// Adds the headers that every response to an upload carries, problems included.
pub fn mark(headers: &mut HeaderMap) {
    headers.insert(HeaderName::from_static("tus-resumable"), HeaderValue::from_static(VERSION));
    headers.insert(HeaderName::from_static("tus-version"), HeaderValue::from_static(VERSION));
    headers.insert(HeaderName::from_static("cache-control"), HeaderValue::from_static("no-store"));
}

/// What the uploads here can do.
#[utoipa::path(responses((status = 204)))]
#[options("/tus/")]
pub async fn upload_options() -> Answer<HttpResponse> {
    Ok(HttpResponse::NoContent()
        .insert_header(("Tus-Extension", EXTENSIONS))
        .insert_header(("Tus-Checksum-Algorithm", CHECKSUMS))
        .insert_header(("Tus-Max-Size", LARGEST))
        .finish())
}

/// Creates an upload, and takes its first bytes if they come with it.
#[utoipa::path(request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"), responses((status = 201)))]
#[post("/tus/")]
pub async fn create_upload(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    body: web::Payload,
) -> Answer<HttpResponse> {
    let (sender, app) = (Sender::of(&caller)?, app.into_inner());
    let metadata = asked(&request)?;
    let concat = header(&request, "upload-concat").map(Concat::parse).transpose()?;
    if let Some(Concat::Final(parts)) = &concat {
        return join(&app, &sender, &request, metadata, parts).await;
    }
    create(&app, &sender, &request, body, metadata, None).await
}

/// What the creation of an upload says of its file.
pub fn asked(request: &HttpRequest) -> Answer<Metadata> {
    check_version(request)?;
    if request.headers().contains_key("upload-defer-length") {
        return Err(Failure::bad("The length must be known when an upload is created."));
    }
    Metadata::parse(header(request, "upload-metadata").unwrap_or_default())
}

/// How long the file is that an upload is created for.
pub fn length(request: &HttpRequest) -> Answer<u64> {
    Ok(check_length(number(request, "upload-length")?)?)
}

/// Creates an upload that is made of no others. `brought`: for what it comes by a link.
pub async fn create(
    app: &App,
    sender: &Sender,
    request: &HttpRequest,
    body: web::Payload,
    metadata: Metadata,
    brought: Option<Brought>,
) -> Answer<HttpResponse> {
    let length = length(request)?;
    let with_body = match header(request, "content-type") {
        Some(BODY) => true,
        None => false,
        Some(other) if number(request, "content-length").unwrap_or(0) > 0 => {
            return Err(Failure::new(ProblemType::ContentType, format!("Bytes of an upload come as {BODY}, not as {other}.")));
        }
        Some(_) => false,
    };
    let upload = Upload { brought, ..begin(app, sender, request, metadata, length) };
    let id = upload.id;
    landing::promise(&app.engine, &upload, &[], 0).await?;
    let part = async { Ok(landing::open_part(&app.engine, id).await?) };
    if let Err(e) = tokio::try_join!(part, count(app, &upload)) {
        // It will hear of a failure and knows no address: nothing is kept for it.
        landing::discard(&app.engine, id).await?;
        return Err(e);
    }
    let mut response = HttpResponse::Created();
    response.insert_header(("Location", format!("{}/{id}", sender.at)));
    if with_body || length == 0 {
        let writing = app.engine.busy.take(id).ok_or_else(busy)?;
        let taken = append(app, sender, &upload, 0, checksum(request)?, body, writing).await?;
        response.insert_header(("Upload-Offset", taken.offset));
        sender.tell(&mut response, taken.original);
    }
    response.insert_header(("Upload-Expires", http_date(upload.expires_at)));
    Ok(response.finish())
}

/// An upload as its creation describes it.
fn begin(app: &App, sender: &Sender, request: &HttpRequest, metadata: Metadata, length: u64) -> Upload {
    Upload {
        id: UploadId(Uuid::now_v7()),
        device: sender.device,
        person: sender.person,
        length,
        digest: metadata.digest,
        name: metadata.name.into(),
        source: metadata.source,
        file_time: metadata.file_time,
        expires_at: app.engine.now() + app.engine.settings.upload_life,
        metadata: header(request, "upload-metadata").unwrap_or_default().to_owned(),
        concat: header(request, "upload-concat").map(str::to_owned),
        target: None,
        original: None,
        touched_at: app.engine.now(),
        brought: None,
    }
}

/// A device that did not offer a file first is counted against what it sends.
async fn count(app: &App, upload: &Upload) -> Answer<()> {
    match upload.digest {
        // What comes by a link is on nobody's device.
        Some(digest) if !upload.is_partial() && upload.brought.is_none() => Ok(landing::note(&app.engine, upload, digest).await?),
        // A part of another upload is no file; what announced nothing is known when it has come.
        _ => Ok(()),
    }
}

/// How far is an upload?
#[utoipa::path(responses((status = 200)))]
#[head("/tus/{id}")]
pub async fn show_upload(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    show(&app.into_inner(), &Sender::of(&caller)?, &request, *id).await
}

/// The same, of whoever sends.
pub async fn show(app: &App, sender: &Sender, request: &HttpRequest, id: Uuid) -> Answer<HttpResponse> {
    check_version(request)?;
    let upload = find(app, sender, id).await?;
    let mut response = HttpResponse::Ok();
    response.insert_header(("Upload-Length", upload.length)).insert_header(("Upload-Expires", http_date(upload.expires_at)));
    if !upload.metadata.is_empty() {
        response.insert_header(("Upload-Metadata", upload.metadata.clone()));
    }
    if let Some(concat) = &upload.concat {
        response.insert_header(("Upload-Concat", concat.clone()));
    }
    match upload.original {
        Some(original) => {
            sender.tell(&mut response, Some(original));
            response.insert_header(("Upload-Offset", upload.length));
        }
        None => match offset(app, &upload, None).await {
            Ok(offset) => drop(response.insert_header(("Upload-Offset", offset))),
            // While its parts are being joined, an upload has no offset that means anything.
            Err(e) if upload.is_final() && e.kind() == ProblemType::UploadBusy => {}
            Err(e) => return Err(e),
        },
    }
    Ok(response.finish())
}

/// Takes the next bytes.
#[utoipa::path(request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"), responses((status = 204)))]
#[patch("/tus/{id}")]
pub async fn append_upload(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<Uuid>,
    body: web::Payload,
) -> Answer<HttpResponse> {
    more(&app.into_inner(), &Sender::of(&caller)?, &request, *id, body).await
}

/// The same, of whoever sends.
pub async fn more(app: &App, sender: &Sender, request: &HttpRequest, id: Uuid, body: web::Payload) -> Answer<HttpResponse> {
    check_version(request)?;
    if header(request, "content-type") != Some(BODY) {
        return Err(Failure::new(ProblemType::ContentType, format!("Bytes of an upload come as {BODY}.")));
    }
    let claimed = number(request, "upload-offset")?;
    let checksum = checksum(request)?;
    let writing = app.engine.busy.take(UploadId(id)).ok_or_else(busy)?;
    let upload = find(app, sender, id).await?;
    if upload.is_final() {
        return Err(Failure::new(ProblemType::NotAllowed, "This upload is made of others; bytes cannot be added to it."));
    }
    let stands = match upload.original {
        Some(_) => upload.length,
        None => offset(app, &upload, Some(&writing)).await?,
    };
    if claimed != stands {
        return Err(wrong_offset(stands, claimed));
    }
    let mut response = HttpResponse::NoContent();
    if stands == upload.length && !upload.is_partial() {
        // The answer to the last PATCH was lost on its way, or its landing was interrupted; the device hears it again.
        if let Some(original) = app.engine.catalog.upload(upload.id, upload.device).await?.original {
            sender.tell(&mut response, Some(original));
            return Ok(response.insert_header(("Upload-Offset", upload.length)).finish());
        }
    }
    landing::still_promised(&app.engine, &upload, stands).await?;
    let taken = append(app, sender, &upload, stands, checksum, body, writing).await?;
    response.insert_header(("Upload-Offset", taken.offset)).insert_header(("Upload-Expires", http_date(taken.expires_at)));
    sender.tell(&mut response, taken.original);
    Ok(response.finish())
}

/// Ends an upload that is not complete. An original is not an upload any more and cannot be ended.
#[utoipa::path(responses((status = 204)))]
#[delete("/tus/{id}")]
pub async fn end_upload(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    check_version(&request)?;
    let app = app.into_inner();
    let _writing = app.engine.busy.take(UploadId(*id)).ok_or_else(busy)?;
    let upload = find(&app, &Sender::of(&caller)?, *id).await?;
    if upload.original.is_some() {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "This upload is finished. A device cannot delete what the household has.",
        ));
    }
    landing::discard(&app.engine, upload.id).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Somebody else is writing to it.
pub fn busy() -> Failure {
    Failure::new(ProblemType::UploadBusy, "Another request is writing to this upload; try again in a moment.")
}

fn wrong_offset(stands: u64, claimed: u64) -> Failure {
    Failure::new(
        ProblemType::WrongOffset,
        format!("The upload is at byte {stands}, not at {claimed}. Ask for its offset and continue from there."),
    )
}

async fn find(app: &App, sender: &Sender, id: Uuid) -> Answer<Upload> {
    let gone = || Failure::new(ProblemType::UploadGone, "This upload expired, was ended, or never was. Begin it again.");
    match app.engine.catalog.upload(UploadId(id), sender.device).await {
        Ok(upload) if upload.original.is_none() && upload.expires_at < app.engine.now() => Err(gone()),
        Ok(upload) => Ok(upload),
        Err(CatalogError::NotFound) => Err(gone()),
        Err(e) => Err(e.into()),
    }
}

/// Creates an upload that is made of others, puts it together and lands it.
async fn join(app: &App, sender: &Sender, request: &HttpRequest, metadata: Metadata, parts: &[UploadId]) -> Answer<HttpResponse> {
    if request.headers().contains_key("upload-length") {
        return Err(Failure::bad("An upload made of others has their length; leave Upload-Length out."));
    }
    let length = joining::length_of(&app.engine, sender.device, parts).await?;
    let upload = begin(app, sender, request, metadata, length);
    let writing = app.engine.busy.take(upload.id).ok_or_else(busy)?;
    // In the quota it takes the place of its parts; on the disk, both need to fit for a moment.
    landing::begin(&app.engine, &upload, parts).await?;
    count(app, &upload).await?;
    let original = joining::go_on(&app.engine, &upload, writing).await?;
    let mut response = HttpResponse::Created();
    response
        .insert_header(("Location", format!("{}/{}", sender.at, upload.id)))
        .insert_header(("Upload-Offset", length))
        .insert_header(("Upload-Expires", http_date(upload.expires_at)));
    sender.tell(&mut response, Some(original));
    Ok(response.finish())
}

/// Where an upload stands, as far as nobody else writes to it.
async fn offset(app: &App, upload: &Upload, held: Option<&Writing>) -> Answer<u64> {
    settling::offset(&app.engine, upload, held).await?.ok_or_else(busy)
}

fn http_date(at: DateTime<Utc>) -> String {
    at.format("%a, %d %b %Y %H:%M:%S GMT").to_string()
}
