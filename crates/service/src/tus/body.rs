//! Bytes of an upload on their way to the disk.

use std::sync::Arc;

use actix_web::{HttpRequest, web};
use chrono::{DateTime, Utc};
use data_encoding::BASE64;
use futures_util::StreamExt;
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use tokio::sync::mpsc;
use ypogeion_catalog::uploads::Upload;
use ypogeion_library::{Finished, LibraryError, PartWriter};
use ypogeion_wire::problem::ProblemType;

use super::{CHECKSUMS, header};
use crate::{
    app::{App, Writing},
    failure::{Answer, Failure},
    landing,
};

/// How far an upload has come.
pub struct Taken {
    /// Bytes that are there.
    pub offset: u64,
    /// When it ends if nothing more comes.
    pub expires_at: DateTime<Utc>,
    /// The original, once it has landed.
    pub original: Option<ypogeion_core::OriginalId>,
}

/// Takes a body from `start` on. Whatever ends the body early, what came is kept; the checksum decides about all of it.
pub async fn append(
    app: &Arc<App>,
    upload: &Upload,
    start: u64,
    checksum: Option<Checksum>,
    mut body: web::Payload,
    writing: Writing,
) -> Answer<Taken> {
    let (incoming, id, room) = (app.library.incoming().clone(), upload.id, upload.length - start);
    let (sender, receiver) = mpsc::channel::<web::Bytes>(16);
    let (length, partial) = (upload.length, upload.is_partial());
    // The right to write goes with the writing: it is given back when the disk is done, not when the request is dropped.
    let disk = tokio::task::spawn_blocking(move || {
        let result = take(incoming.writer(id, start)?, receiver, checksum, length, partial);
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
    partial: bool,
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
    if writer.at() == length && !partial {
        return Ok(Written::Finished(Box::new(writer.finish())));
    }
    Ok(Written::Paused { offset: writer.pause()?.length })
}

/// The checksum that came with a body.
pub struct Checksum {
    context: Context,
    expected: Vec<u8>,
}

impl Checksum {
    fn fits(self) -> bool {
        self.context.finish().as_ref() == self.expected
    }
}

/// The checksum that came with a request, if one did.
pub fn checksum(request: &HttpRequest) -> Answer<Option<Checksum>> {
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
