//! Resumable uploads: tus 1.0.0 with creation, creation-with-upload, checksum, termination, expiration and concatenation.
//!
//! * This module has the routes. [`metadata`] is what a device says about a file, [`body`] takes bytes to the disk, and
//!   [`join`] makes one upload of several that were sent side by side.
//!
//! A device that knows nothing but an address and a token can send with any program that speaks the protocol: offering
//! first, digests and our own metadata are all optional.

pub mod body;
pub mod join;
pub mod metadata;

use std::sync::Arc;

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
use ypogeion_catalog::{devices::DeviceCaller, uploads::Upload};
use ypogeion_core::{UploadId, room::Room};
use ypogeion_library::LibraryError;
use ypogeion_wire::problem::ProblemType;

use self::{
    body::{append, checksum},
    join::Concat,
    metadata::Metadata,
};
use crate::{
    app::{App, Writing},
    caller::Caller,
    failure::{Answer, Failure},
    landing,
};

/// The version of the protocol.
const VERSION: &str = "1.0.0";
const EXTENSIONS: &str = "creation,creation-with-upload,checksum,termination,expiration,concatenation";
const CHECKSUMS: &str = "sha256,sha1";
const BODY: &str = "application/offset+octet-stream";
/// No file of a household is larger; a length beyond this is a mistake. 16 TiB, the limit of ext4.
pub const LARGEST: u64 = 16 << 40;
/// The response header that names the original, once it has landed.
const ORIGINAL: HeaderName = HeaderName::from_static("ypogeion-original");

fn header<'a>(request: &'a HttpRequest, name: &str) -> Option<&'a str> {
    request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::trim)
}

fn number(request: &HttpRequest, name: &str) -> Answer<u64> {
    // A sign is not a digit, though Rust would read it.
    header(request, name)
        .filter(|v| v.bytes().all(|b| b.is_ascii_digit()))
        .and_then(|v| v.parse().ok())
        .ok_or_else(|| Failure::bad(format!("The header {name} is missing or is not a whole number.")))
}

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
    check_version(&request)?;
    let device = caller.device()?;
    if request.headers().contains_key("upload-defer-length") {
        return Err(Failure::bad("The length must be known when an upload is created."));
    }
    let app = app.into_inner();
    let concat = header(&request, "upload-concat").map(Concat::parse).transpose()?;
    if let Some(Concat::Final(parts)) = &concat {
        return join::create(&app, device, &request, parts).await;
    }
    let length = number(&request, "upload-length")?;
    if length > LARGEST {
        return Err(Failure::new(ProblemType::TooLarge, "No file can be larger than 16 TiB here."));
    }
    let with_body = match header(&request, "content-type") {
        Some(BODY) => true,
        None => false,
        Some(other) if number(&request, "content-length").unwrap_or(0) > 0 => {
            return Err(Failure::new(ProblemType::ContentType, format!("Bytes of an upload come as {BODY}, not as {other}.")));
        }
        Some(_) => false,
    };
    let upload = begin(&app, device, &request, length).await?;
    let id = upload.id;
    landing::promise(&app, &upload, &[], 0).await?;
    if let Err(e) = tokio::try_join!(landing::open_part(&app, id), count(&app, &upload)) {
        // It will hear of a failure and knows no address: nothing is kept for it.
        landing::discard(&app, id).await?;
        return Err(e);
    }
    let mut response = HttpResponse::Created();
    response.insert_header(("Location", format!("/tus/{id}")));
    if with_body || length == 0 {
        let writing = app.busy.take(id).ok_or_else(busy)?;
        let taken = append(&app, &upload, 0, checksum(&request)?, body, writing).await?;
        response.insert_header(("Upload-Offset", taken.offset));
        if let Some(original) = taken.original {
            response.insert_header((ORIGINAL, original.to_string()));
        }
    }
    response.insert_header(("Upload-Expires", http_date(upload.expires_at)));
    Ok(response.finish())
}

/// An upload as its creation describes it.
async fn begin(app: &App, device: &DeviceCaller, request: &HttpRequest, length: u64) -> Answer<Upload> {
    let text = header(request, "upload-metadata").unwrap_or_default();
    let metadata = Metadata::parse(text)?;
    Ok(Upload {
        id: UploadId(Uuid::now_v7()),
        device: device.id,
        person: device.person,
        length,
        digest: metadata.digest,
        name: metadata.name.into(),
        source: metadata.source,
        file_time: metadata.file_time,
        expires_at: app.now() + app.settings.upload_life,
        metadata: text.to_owned(),
        concat: header(request, "upload-concat").map(str::to_owned),
        target: None,
        original: None,
        touched_at: app.now(),
    })
}

/// A device that did not offer a file first is counted against what it sends.
async fn count(app: &App, upload: &Upload) -> Answer<()> {
    match upload.digest {
        Some(digest) if !upload.is_partial() => landing::note(app, upload, digest).await,
        // A part of another upload is no file; what announced nothing is known when it has come.
        _ => Ok(()),
    }
}

/// How far is an upload?
#[utoipa::path(responses((status = 200)))]
#[head("/tus/{id}")]
pub async fn show_upload(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    check_version(&request)?;
    let app = app.into_inner();
    let upload = find(&app, &caller, *id).await?;
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
            response.insert_header((ORIGINAL, original.to_string())).insert_header(("Upload-Offset", upload.length));
        }
        None => match offset(&app, &upload, None).await {
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
    check_version(&request)?;
    if header(&request, "content-type") != Some(BODY) {
        return Err(Failure::new(ProblemType::ContentType, format!("Bytes of an upload come as {BODY}.")));
    }
    let app = app.into_inner();
    let claimed = number(&request, "upload-offset")?;
    let checksum = checksum(&request)?;
    let writing = app.busy.take(UploadId(*id)).ok_or_else(busy)?;
    let upload = find(&app, &caller, *id).await?;
    if upload.is_final() {
        return Err(Failure::new(ProblemType::NotAllowed, "This upload is made of others; bytes cannot be added to it."));
    }
    let stands = match upload.original {
        Some(_) => upload.length,
        None => offset(&app, &upload, Some(&writing)).await?,
    };
    if claimed != stands {
        return Err(wrong_offset(stands, claimed));
    }
    let mut response = HttpResponse::NoContent();
    if stands == upload.length && !upload.is_partial() {
        // The answer to the last PATCH was lost on its way, or its landing was interrupted; the device hears it again.
        if let Some(original) = app.catalog.upload(upload.id, upload.device).await?.original {
            return Ok(response
                .insert_header(("Upload-Offset", upload.length))
                .insert_header((ORIGINAL, original.to_string()))
                .finish());
        }
    }
    landing::still_promised(&app, &upload, stands).await?;
    let taken = append(&app, &upload, stands, checksum, body, writing).await?;
    response.insert_header(("Upload-Offset", taken.offset)).insert_header(("Upload-Expires", http_date(taken.expires_at)));
    if let Some(original) = taken.original {
        response.insert_header((ORIGINAL, original.to_string()));
    }
    Ok(response.finish())
}

/// Ends an upload that is not complete. An original is not an upload any more and cannot be ended.
#[utoipa::path(responses((status = 204)))]
#[delete("/tus/{id}")]
pub async fn end_upload(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    check_version(&request)?;
    let app = app.into_inner();
    let _writing = app.busy.take(UploadId(*id)).ok_or_else(busy)?;
    let upload = find(&app, &caller, *id).await?;
    if upload.original.is_some() {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "This upload is finished. A device cannot delete what the household has.",
        ));
    }
    landing::discard(&app, upload.id).await?;
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

async fn find(app: &Arc<App>, caller: &Caller, id: Uuid) -> Answer<Upload> {
    let gone = || Failure::new(ProblemType::UploadGone, "This upload expired, was ended, or never was. Begin it again.");
    match app.catalog.upload(UploadId(id), caller.device()?.id).await {
        Ok(upload) if upload.original.is_none() && upload.expires_at < app.now() => Err(gone()),
        Ok(upload) => Ok(upload),
        Err(ypogeion_catalog::CatalogError::NotFound) => Err(gone()),
        Err(e) => Err(e.into()),
    }
}

/// Where an upload stands. One whose part is gone was interrupted while it landed; that is settled now, with the right to write that
/// the caller holds, or with one taken for it.
async fn offset(app: &Arc<App>, upload: &Upload, held: Option<&Writing>) -> Answer<u64> {
    match app.library.incoming().part(upload.id) {
        Ok(part) if upload.is_final() && part.length < upload.length => {
            let writing = app.busy.take(upload.id).ok_or_else(busy)?;
            join::go_on(app, upload, writing).await.map(|_| upload.length)
        }
        Ok(part) if part.length < upload.length || upload.is_partial() => Ok(part.length),
        Ok(_) | Err(LibraryError::Missing { .. }) => {
            // It may be landing at this moment, by the request that brought its last byte.
            let _writing = match held {
                Some(_) => None,
                None => Some(app.busy.take(upload.id).ok_or_else(busy)?),
            };
            match app.catalog.upload(upload.id, upload.device).await?.original {
                Some(_) => Ok(upload.length),
                None => match landing::settle_one(app, upload).await? {
                    Some(_) => Ok(upload.length),
                    None => Err(Failure::new(
                        ProblemType::UploadGone,
                        "This upload was lost before it was acknowledged. Begin it again.",
                    )),
                },
            }
        }
        Err(e) => Err(e.into()),
    }
}

/// The room that a member has for more, as of now.
pub async fn room(app: &App, person: ypogeion_core::PersonId) -> Answer<Room> {
    Ok(app.catalog.room(person, app.library.free()?, app.settings.reserve, app.now()).await?)
}

fn http_date(at: DateTime<Utc>) -> String {
    at.format("%a, %d %b %Y %H:%M:%S GMT").to_string()
}
