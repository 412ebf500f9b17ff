//! Resumable uploads: tus 1.0.0 with creation, creation-with-upload, checksum, termination and expiration.
//!
//! Beside the standard metadata key `filename`, these are understood: `sha256` (64 hexadecimal digits, compared before the
//! file lands), `source` (album or folder) and `mtime` (RFC 3339). None of them is needed.

use std::{collections::HashMap, sync::Arc};

use actix_web::{
    HttpRequest, HttpResponse, delete, head,
    http::header::{HeaderName, HeaderValue},
    options, patch, post, web,
};
use chrono::{DateTime, Utc};
use data_encoding::BASE64;
use futures_util::StreamExt;
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use tokio::sync::mpsc;
use uuid::Uuid;
use ypogeion_catalog::{devices::Sighting, uploads::Upload};
use ypogeion_core::{Digest, OriginalName, UploadId, room::Room};
use ypogeion_library::{Finished, LibraryError, PartWriter};
use ypogeion_wire::problem::ProblemType;

use crate::{
    app::{App, Writing},
    caller::Caller,
    failure::{Answer, Failure},
    landing,
};

/// The version of the protocol.
const VERSION: &str = "1.0.0";
const EXTENSIONS: &str = "creation,creation-with-upload,checksum,termination,expiration";
const CHECKSUMS: &str = "sha256,sha1";
const BODY: &str = "application/offset+octet-stream";
/// No file of a household is larger; a length beyond this is a mistake. 16 TiB, the limit of ext4.
const LARGEST: u64 = 16 << 40;
/// The response header that names the original, once it has landed.
const ORIGINAL: HeaderName = HeaderName::from_static("ypogeion-original");

fn header<'a>(request: &'a HttpRequest, name: &str) -> Option<&'a str> {
    request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::trim)
}

fn number(request: &HttpRequest, name: &str) -> Answer<u64> {
    header(request, name)
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

/// Adds the headers that every response to an upload carries, problems included.
pub fn mark(headers: &mut actix_web::http::header::HeaderMap) {
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
    let app = app.into_inner();
    let metadata = Metadata::parse(header(&request, "upload-metadata").unwrap_or_default())?;
    room(&app, device.person).await?.check(length)?;
    let (id, now) = (UploadId(Uuid::now_v7()), app.now());
    let upload = Upload {
        id,
        device: device.id,
        person: device.person,
        length,
        digest: metadata.digest,
        name: metadata.name.into(),
        source: metadata.source,
        file_time: metadata.file_time,
        expires_at: now + app.settings.upload_life,
        target: None,
        original: None,
    };
    app.library.incoming().create(id)?;
    app.catalog.create_upload(&upload, now).await?;
    if let Some(digest) = upload.digest {
        // A device that did not offer it first is counted against what it sends.
        let seen = Sighting {
            source: upload.source.clone(),
            name: upload.name.clone(),
            digest,
            size: length,
            file_time: upload.file_time,
            refused: None,
        };
        app.catalog.note_sightings(device.id, &[seen], now).await?;
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

/// How far is an upload?
#[utoipa::path(responses((status = 200)))]
#[head("/tus/{id}")]
pub async fn show_upload(app: web::Data<App>, caller: Caller, request: HttpRequest, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    check_version(&request)?;
    let app = app.into_inner();
    let upload = find(&app, &caller, *id).await?;
    let mut response = HttpResponse::Ok();
    let offset = match upload.original {
        Some(original) => {
            response.insert_header((ORIGINAL, original.to_string()));
            upload.length
        }
        None => offset(&app, &upload).await?,
    };
    Ok(response
        .insert_header(("Upload-Offset", offset))
        .insert_header(("Upload-Length", upload.length))
        .insert_header(("Upload-Expires", http_date(upload.expires_at)))
        .finish())
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
    let mut response = HttpResponse::NoContent();
    if let Some(original) = upload.original {
        // The answer to the last PATCH was lost on its way; the device hears it again.
        if claimed != upload.length {
            return Err(wrong_offset(upload.length, claimed));
        }
        return Ok(response
            .insert_header(("Upload-Offset", upload.length))
            .insert_header((ORIGINAL, original.to_string()))
            .finish());
    }
    let stands = offset(&app, &upload).await?;
    if claimed != stands {
        return Err(wrong_offset(stands, claimed));
    }
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
            "This upload has landed. A device cannot take back what the household has.",
        ));
    }
    landing::discard(&app, upload.id).await?;
    Ok(HttpResponse::NoContent().finish())
}

fn busy() -> Failure {
    Failure::new(ProblemType::UploadBusy, "Another request is writing to this upload; try again in a moment.")
}

fn wrong_offset(stands: u64, claimed: u64) -> Failure {
    Failure::new(
        ProblemType::WrongOffset,
        format!("The upload stands at byte {stands}, not at {claimed}. Ask for its offset and go on from there."),
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

/// Where an upload stands. One whose part is gone was interrupted while it landed; that is settled now.
async fn offset(app: &Arc<App>, upload: &Upload) -> Answer<u64> {
    match app.library.incoming().part(upload.id) {
        Ok(part) if part.length < upload.length => Ok(part.length),
        Ok(_) | Err(LibraryError::Missing { .. }) => match landing::settle_one(app, upload).await? {
            Some(_) => Ok(upload.length),
            None => {
                Err(Failure::new(ProblemType::UploadGone, "This upload was lost before it was acknowledged. Begin it again."))
            }
        },
        Err(e) => Err(e.into()),
    }
}

/// The room that a member has for more.
pub async fn room(app: &App, person: ypogeion_core::PersonId) -> Answer<Room> {
    let quota = app.catalog.person(person).await?.quota;
    let (used, promised) = match quota {
        Some(_) => (app.catalog.used(person).await?, app.catalog.promised(Some(person)).await?),
        None => (0, app.catalog.promised(None).await?),
    };
    Ok(Room { free: app.library.free()?, promised, reserve: app.settings.reserve, used, quota })
}

struct Taken {
    offset: u64,
    expires_at: DateTime<Utc>,
    original: Option<ypogeion_core::OriginalId>,
}

/// Takes a body from `start` on. Whatever ends the body early, what came is kept; the checksum decides about all of it.
async fn append(
    app: &Arc<App>,
    upload: &Upload,
    start: u64,
    checksum: Option<Checksum>,
    mut body: web::Payload,
    writing: Writing,
) -> Answer<Taken> {
    let (incoming, id, room) = (app.library.incoming().clone(), upload.id, upload.length - start);
    let (sender, receiver) = mpsc::channel::<web::Bytes>(16);
    let length = upload.length;
    // The right to write goes with the writing: it is given back when the disk is done, not when the request is dropped.
    let disk = tokio::task::spawn_blocking(move || {
        let result = take(incoming.writer(id, start)?, receiver, checksum, length);
        drop(writing);
        result
    });
    let (mut came, mut trouble) = (0u64, None);
    while let Some(chunk) = body.next().await {
        match chunk {
            Ok(chunk) => {
                came += chunk.len() as u64;
                if came > room {
                    trouble = Some(Failure::new(ProblemType::TooLarge, "More bytes came than the upload was created for."));
                    break;
                }
                if sender.send(chunk).await.is_err() {
                    break; // The disk failed; its side says why.
                }
            }
            // The connection broke. Nobody hears the answer, and what came is kept.
            Err(e) => {
                trouble = Some(Failure::bad(format!("The connection broke off: {e}.")));
                break;
            }
        }
    }
    drop(sender);
    match disk.await?? {
        Written::Paused { offset } => {
            let expires_at = app.now() + app.settings.upload_life;
            app.catalog.extend_upload(upload.id, expires_at).await?;
            trouble.map_or(Ok(Taken { offset, original: None, expires_at }), Err)
        }
        Written::WrongChecksum => Err(Failure::new(
            ProblemType::DigestMismatch,
            "These bytes do not have the checksum that came with them. They were not kept; send them again.",
        )),
        Written::Finished(part) => {
            // Landing goes on even if the device hangs up now: it is nearly done, and the device will ask.
            let (app, landed) = (Arc::clone(app), upload.clone());
            let original = tokio::spawn(async move { landing::land(&app, &landed, *part).await }).await??;
            trouble.map_or(Ok(Taken { offset: length, original: Some(original), expires_at: upload.expires_at }), Err)
        }
    }
}

enum Written {
    Paused { offset: u64 },
    WrongChecksum,
    Finished(Box<Finished>),
}

fn take(
    mut writer: PartWriter,
    mut chunks: mpsc::Receiver<web::Bytes>,
    mut checksum: Option<Checksum>,
    length: u64,
) -> Result<Written, LibraryError> {
    while let Some(chunk) = chunks.blocking_recv() {
        if let Err(e) = writer.write(&chunk) {
            // What fitted stays; pausing may fail for the same reason, and then the mark is simply older.
            let _ = writer.pause();
            return Err(e);
        }
        if let Some(checksum) = &mut checksum {
            checksum.context.update(&chunk);
        }
    }
    if checksum.is_some_and(|c| !c.fits()) {
        writer.take_back()?;
        return Ok(Written::WrongChecksum);
    }
    if writer.at() == length {
        return Ok(Written::Finished(Box::new(writer.finish())));
    }
    Ok(Written::Paused { offset: writer.pause()?.length })
}

/// The checksum that came with a body.
struct Checksum {
    context: Context,
    expected: Vec<u8>,
}

impl Checksum {
    fn fits(self) -> bool {
        self.context.finish().as_ref() == self.expected
    }
}

fn checksum(request: &HttpRequest) -> Answer<Option<Checksum>> {
    let Some(text) = header(request, "upload-checksum") else { return Ok(None) };
    let parsed = text.split_once(' ').and_then(|(algorithm, value)| {
        let context = match algorithm {
            "sha256" => Context::new(&SHA256),
            // The tus specification demands SHA-1; it guards against accidents, not against people.
            "sha1" => Context::new(&SHA1_FOR_LEGACY_USE_ONLY),
            _ => return None,
        };
        Some(Checksum { context, expected: BASE64.decode(value.trim().as_bytes()).ok()? })
    });
    parsed
        .map(Some)
        .ok_or_else(|| Failure::bad(format!("The header Upload-Checksum must be one of {CHECKSUMS}, a space, and base64.")))
}

/// What a device says about a file in `Upload-Metadata`.
struct Metadata {
    name: OriginalName,
    source: String,
    digest: Option<Digest>,
    file_time: Option<DateTime<Utc>>,
}

impl Metadata {
    fn parse(text: &str) -> Answer<Self> {
        let mut pairs = HashMap::new();
        for pair in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
            let (key, value) = pair.split_once(' ').unwrap_or((pair, ""));
            let bytes = BASE64
                .decode(value.trim().as_bytes())
                .map_err(|_| Failure::bad(format!("The metadata {key:?} is not base64.")))?;
            pairs.insert(key.to_ascii_lowercase(), String::from_utf8_lossy(&bytes).into_owned());
        }
        let digest = match pairs.get("sha256") {
            Some(text) => Some(text.parse().map_err(|_| Failure::bad("The metadata \"sha256\" is not 64 hexadecimal digits."))?),
            None => None,
        };
        let mtime = pairs.get("mtime").and_then(|t| DateTime::parse_from_rfc3339(t).ok()).map(|t| t.to_utc());
        Ok(Metadata {
            name: OriginalName::from_device(pairs.get("filename").or_else(|| pairs.get("name")).map_or("", String::as_str)),
            source: source_name(pairs.get("source").map_or("", String::as_str)),
            digest,
            file_time: mtime,
        })
    }
}

/// The name of a source, as clean as that of an original; sources may be folders in folders.
pub fn source_name(reported: &str) -> String {
    if reported.trim().is_empty() { String::new() } else { OriginalName::from_device(reported).into() }
}

fn http_date(at: DateTime<Utc>) -> String {
    at.format("%a, %d %b %Y %H:%M:%S GMT").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_is_read_and_cleaned() {
        let encode = |t: &str| BASE64.encode(t.as_bytes());
        let text = format!(
            "filename {},sha256 {},source {},mtime {},is_empty",
            encode("../a\n.jpg"),
            encode(&"ab".repeat(32)),
            encode("Camera"),
            encode("2026-04-12T10:00:00+02:00")
        );
        let m = Metadata::parse(&text).unwrap();
        assert_eq!((m.name.as_str(), m.source.as_str()), ("../a_.jpg", "Camera"));
        assert_eq!(m.file_time.unwrap().to_rfc3339(), "2026-04-12T08:00:00+00:00");
        assert!(m.digest.is_some());
        assert!(Metadata::parse("filename !!!").is_err());
        assert!(Metadata::parse(&format!("sha256 {}", encode("ab"))).is_err());
        assert_eq!(Metadata::parse("").unwrap().name.as_str(), "unnamed");
    }
}
