//! Bytes of an upload on their way to the disk.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use actix_web::{HttpRequest, web};
use chrono::{DateTime, Utc};
use data_encoding::BASE64;
use futures_util::StreamExt;
use ring::digest::{SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use ypogeion_catalog::uploads::Upload;
use ypogeion_core::OriginalId;
use ypogeion_engine::{
    intake::{Checksum, Intake, Written},
    landing,
    writing::Writing,
};
use ypogeion_wire::problem::ProblemType;

use super::{
    headers::{CHECKSUMS, header},
    sender::Sender,
};
use crate::{
    app::App,
    failure::{Answer, Failure},
};

/// That bytes come is written down this often, beside at their end.
const KEPT_EVERY: Duration = Duration::from_secs(600);

/// How far an upload has come.
pub struct Taken {
    /// Bytes that are there.
    pub offset: u64,
    /// When it ends if nothing more comes.
    pub expires_at: DateTime<Utc>,
    /// The original, once it has landed.
    pub original: Option<OriginalId>,
}

/// Takes a body from `start` on. Whatever ends the body early, what came is kept; the checksum decides about all of it.
pub async fn append(
    app: &App,
    sender: &Sender,
    upload: &Upload,
    start: u64,
    checksum: Option<Checksum>,
    mut body: web::Payload,
    writing: Writing,
) -> Answer<Taken> {
    let whole = (!upload.is_partial()).then_some(upload.length);
    let mut intake = Intake::begin(&app.engine, upload.id, start, upload.length, whole, checksum, writing);
    let (mut trouble, mut kept_at) = (None, Instant::now());
    while let Some(chunk) = body.next().await {
        let taken = match chunk {
            Ok(chunk) => intake.take(chunk).await.map_err(Failure::from),
            // The connection broke. Nobody hears the answer, and what came is kept.
            Err(e) => Err(Failure::bad(format!("The connection was lost: {e}."))),
        };
        match taken {
            // A large file on a slow line: its room is kept while its bytes come.
            Ok(true) if kept_at.elapsed() > KEPT_EVERY => {
                kept_at = Instant::now();
                let now = app.engine.now();
                app.engine
                    .catalog
                    .extend_upload(upload.id, start + intake.came(), now + app.engine.settings.upload_life, now)
                    .await?;
            }
            Ok(true) => {}
            Ok(false) => break, // The disk failed; its side says why.
            Err(e) => {
                trouble = Some(e);
                break;
            }
        }
    }
    match intake.end().await? {
        Written::Paused { offset } => {
            let expires_at = app.engine.now() + app.engine.settings.upload_life;
            app.engine.catalog.extend_upload(upload.id, offset, expires_at, app.engine.now()).await?;
            trouble.map_or(Ok(Taken { offset, original: None, expires_at }), Err)
        }
        Written::WrongChecksum => Err(Failure::new(
            ProblemType::DigestMismatch,
            "These bytes do not have the checksum that came with them. They were not kept; send them again.",
        )),
        Written::Finished(part, writing) => {
            if let Some(link) = sender.link
                && !app.engine.catalog.link_opens(link, app.engine.now()).await?
            {
                // Withdrawn while it came: nobody sends anything by it any more.
                landing::discard(&app.engine, upload.id).await?;
                return Err(Failure::new(
                    ProblemType::UploadGone,
                    "This link has ended, or was withdrawn. Nothing of this file was kept.",
                ));
            }
            // Landing goes on even if the device hangs up now: it is nearly done, and the device will ask.
            let (engine, landed) = (Arc::clone(&app.engine), upload.clone());
            let landing = async move {
                // Whoever asks meanwhile must not land the same part once more.
                let _writing = writing;
                landing::land(&engine, &landed, *part).await
            };
            let original = tokio::spawn(landing).await??;
            trouble.map_or(Ok(Taken { offset: upload.length, original: Some(original), expires_at: upload.expires_at }), Err)
        }
    }
}

/// The checksum that came with a request, if one did.
pub fn checksum(request: &HttpRequest) -> Answer<Option<Checksum>> {
    let Some(text) = header(request, "upload-checksum") else { return Ok(None) };
    let parsed = text.split_once(' ').and_then(|(algorithm, value)| {
        let algorithm = match algorithm {
            "sha256" => &SHA256,
            // The tus specification demands SHA-1; it guards against accidents, not against people.
            "sha1" => &SHA1_FOR_LEGACY_USE_ONLY,
            _ => return None,
        };
        Some(Checksum::new(algorithm, BASE64.decode(value.trim().as_bytes()).ok()?))
    });
    parsed
        .map(Some)
        .ok_or_else(|| Failure::bad(format!("The header Upload-Checksum must be one of {CHECKSUMS}, a space, and base64.")))
}
