//! Bytes of an upload on their way to the disk.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use actix_web::{HttpRequest, web};
use chrono::{DateTime, Utc};
use data_encoding::BASE64;
use futures_util::StreamExt;
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256};
use tokio::{sync::mpsc, task::JoinHandle};
use ypogeion_catalog::uploads::Upload;
use ypogeion_core::UploadId;
use ypogeion_library::{Finished, LibraryError, PartWriter};
use ypogeion_wire::problem::ProblemType;

use super::{CHECKSUMS, header};
use crate::{
    app::{App, Writing},
    failure::{Answer, Failure},
    landing,
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
    let whole = (!upload.is_partial()).then_some(upload.length);
    let mut intake = Intake::begin(app, upload.id, start, upload.length, whole, checksum, writing);
    let (mut trouble, mut kept_at) = (None, Instant::now());
    while let Some(chunk) = body.next().await {
        let taken = match chunk {
            Ok(chunk) => intake.take(chunk).await,
            // The connection broke. Nobody hears the answer, and what came is kept.
            Err(e) => Err(Failure::bad(format!("The connection was lost: {e}."))),
        };
        match taken {
            // A large file on a slow line: its room is kept while its bytes come.
            Ok(true) if kept_at.elapsed() > KEPT_EVERY => {
                kept_at = Instant::now();
                let now = app.now();
                app.catalog.extend_upload(upload.id, start + intake.came(), now + app.settings.upload_life, now).await?;
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
            let expires_at = app.now() + app.settings.upload_life;
            app.catalog.extend_upload(upload.id, offset, expires_at, app.now()).await?;
            trouble.map_or(Ok(Taken { offset, original: None, expires_at }), Err)
        }
        Written::WrongChecksum => Err(Failure::new(
            ProblemType::DigestMismatch,
            "These bytes do not have the checksum that came with them. They were not kept; send them again.",
        )),
        Written::Finished(part, writing) => {
            // Landing goes on even if the device hangs up now: it is nearly done, and the device will ask.
            let (app, landed) = (Arc::clone(app), upload.clone());
            let landing = async move {
                // Whoever asks meanwhile must not land the same part once more.
                let _writing = writing;
                landing::land(&app, &landed, *part).await
            };
            let original = tokio::spawn(landing).await??;
            trouble.map_or(Ok(Taken { offset: upload.length, original: Some(original), expires_at: upload.expires_at }), Err)
        }
    }
}

/// Bytes on their way from a connection to a part, hashed and written by a thread of their own.
pub struct Intake {
    sender: mpsc::Sender<web::Bytes>,
    disk: JoinHandle<Result<Written, LibraryError>>,
    came: u64,
    room: u64,
}

impl Intake {
    /// Begins to write at `start`. More than `most` bytes in all are refused; with `whole` bytes the part is finished.
    pub fn begin(
        app: &App,
        id: UploadId,
        start: u64,
        most: u64,
        whole: Option<u64>,
        checksum: Option<Checksum>,
        writing: Writing,
    ) -> Self {
        let incoming = app.library.incoming().clone();
        let (sender, receiver) = mpsc::channel::<web::Bytes>(16);
        // The right to write goes with the writing: it is given back when the disk is done, not when the request is dropped.
        let disk = tokio::task::spawn_blocking(move || {
            let ended = incoming.writer(id, start).and_then(|writer| take(writer, receiver, checksum, whole))?;
            Ok(match ended {
                Ended::Finished(part) => Written::Finished(part, writing),
                Ended::Paused { offset } => Written::Paused { offset },
                Ended::WrongChecksum => Written::WrongChecksum,
            })
        });
        Intake { sender, disk, came: 0, room: most - start }
    }

    /// Bytes taken since the beginning.
    pub fn came(&self) -> u64 {
        self.came
    }

    /// Takes some bytes. `false`: the disk failed, and [`Self::end`] says why.
    pub async fn take(&mut self, chunk: web::Bytes) -> Answer<bool> {
        if self.came + chunk.len() as u64 > self.room {
            return Err(Failure::new(ProblemType::TooLarge, "More bytes came than the upload was created for."));
        }
        self.came += chunk.len() as u64;
        Ok(self.sender.send(chunk).await.is_ok())
    }

    /// No more bytes come.
    pub async fn end(self) -> Answer<Written> {
        drop(self.sender);
        Ok(self.disk.await??)
    }
}

/// What became of a part when no more bytes came.
pub enum Written {
    /// It is not complete.
    Paused {
        /// Bytes that are there.
        offset: u64,
    },
    /// What came was not what its checksum said, and was taken back.
    WrongChecksum,
    /// It is complete. The right to write to it goes along until it has landed.
    Finished(Box<Finished>, Writing),
}

/// The same, before the right to write is given back or goes along.
enum Ended {
    Paused { offset: u64 },
    WrongChecksum,
    Finished(Box<Finished>),
}

fn take(
    mut writer: PartWriter,
    mut chunks: mpsc::Receiver<web::Bytes>,
    mut checksum: Option<Checksum>,
    whole: Option<u64>,
) -> Result<Ended, LibraryError> {
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
        return Ok(Ended::WrongChecksum);
    }
    if whole == Some(writer.at()) {
        return Ok(Ended::Finished(Box::new(writer.finish())));
    }
    Ok(Ended::Paused { offset: writer.pause()?.length })
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
