//! A file in a device's tree while it is written or read.

use std::{fmt, fs::File, io::SeekFrom, os::unix::fs::FileExt, sync::Arc, time::SystemTime};

use actix_web::web::Bytes;
use chrono::{DateTime, Utc};
use dav_server::fs::{DavFile, DavMetaData, FsError, FsFuture, FsResult};
use uuid::Uuid;
use ypogeion_catalog::{
    folder_view::{Entry, source_and_name},
    uploads::Upload,
};
use ypogeion_core::{OriginalId, UploadId};
use ypogeion_engine::{
    at_home,
    engine::Engine,
    intake::{Intake, Written},
    landing::{self, LARGEST, check_length, room},
};
use ypogeion_wire::problem::ProblemType;

use super::view::{Meta, Piece, View};
use crate::{
    failure::{Answer, Failure},
    tus::busy,
};

/// A file that is being sent. Nothing of it is in the tree before all its bytes have landed; what was there before stays
/// until then, and in the library for good.
pub struct Writing {
    view: View,
    place: String,
    there: Option<Entry>,
    /// Bytes that the request says it brings.
    expected: Option<u64>,
    state: State,
}

enum State {
    /// No byte has come.
    New,
    /// Bytes come. The flag says whether the catalogue knows the upload.
    Taking(Intake, Box<Upload>, bool),
    /// All that was to come has come.
    Done(Meta),
}

impl Writing {
    /// A file that is about to be sent to `place`.
    pub fn new(view: View, place: String, there: Option<Entry>, expected: Option<u64>) -> Self {
        Writing { view, place, there, expected, state: State::New }
    }

    fn upload(&self, length: u64) -> Upload {
        let (engine, device) = (self.view.engine(), self.view.device());
        let (source, name) = source_and_name(&self.place);
        Upload {
            id: UploadId(Uuid::now_v7()),
            device: device.id,
            person: device.person,
            length,
            digest: None,
            name,
            source,
            file_time: None,
            expires_at: engine.now() + engine.settings.upload_life,
            metadata: String::new(),
            concat: None,
            target: None,
            original: None,
            touched_at: engine.now(),
            brought: None,
        }
    }

    /// The upload that an earlier piece of this file began, and how far it has come.
    async fn begun(&self, piece: Piece) -> Answer<Option<(Upload, u64)>> {
        let engine = self.view.engine();
        let Some(id) = self.there.as_ref().and_then(|e| e.upload) else { return Ok(None) };
        let upload = match engine.catalog.upload(id, self.view.device().id).await {
            Ok(upload) if upload.original.is_none() && upload.length == piece.whole => upload,
            Ok(_) | Err(ypogeion_catalog::CatalogError::NotFound) => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        Ok(engine.part(id).await?.map(|length| (upload, length)))
    }

    /// Begins to write. A file of unknown length is put down in the catalogue when its length is known; a kill before that
    /// leaves a part that nobody was told of, and the next start removes it.
    async fn begin(&self) -> Answer<State> {
        let engine = self.view.engine();
        if let Some(piece) = self.view.piece()
            && let Some((upload, stands)) = self.begun(piece).await?
        {
            let writing = engine.busy.take(upload.id).ok_or_else(busy)?;
            if piece.start < stands {
                // A piece that came before and is sent again, because its answer was lost.
                let (id, start) = (upload.id, piece.start);
                engine.on_disk(move |library| library.incoming().shorten(id, start)).await??;
            }
            landing::still_promised(engine, &upload, piece.start.min(stands)).await?;
            let intake = Intake::begin(engine, upload.id, piece.start, piece.whole, Some(piece.whole), None, writing);
            return Ok(State::Taking(intake, Box::new(upload), true));
        }
        if let Some(given_up) = self.there.as_ref().and_then(|e| e.upload) {
            // The file is sent afresh; what had come of it before was never acknowledged.
            let _writing = engine.busy.take(given_up).ok_or_else(busy)?;
            landing::discard(engine, given_up).await?;
        }
        let length = self.view.piece().map(|p| p.whole).or(self.expected);
        length.map(check_length).transpose()?;
        let upload = self.upload(length.unwrap_or(0));
        let writing = engine.busy.take(upload.id).ok_or_else(busy)?;
        match length {
            Some(_) => landing::begin(engine, &upload, &[]).await?,
            None => {
                room(engine, self.view.device().person).await?.check(1)?;
                landing::open_part(engine, upload.id).await?;
            }
        }
        if self.view.piece().is_some() {
            engine.catalog.set_folder_file(self.view.device().id, &self.place, None, Some(upload.id), engine.now()).await?;
        }
        let intake = Intake::begin(engine, upload.id, 0, length.unwrap_or(LARGEST), length, None, writing);
        Ok(State::Taking(intake, Box::new(upload), length.is_some()))
    }

    async fn take(&mut self, bytes: Bytes) -> Answer<()> {
        if bytes.is_empty() {
            return Ok(());
        }
        if matches!(self.state, State::New) {
            self.state = self.begin().await?;
        }
        let State::Taking(intake, upload, known) = &mut self.state else {
            return Err(Failure::bad("More bytes came after the end of the file."));
        };
        // Nobody said how much would come: looked at again and again, so that the reserve is kept.
        if !*known && intake.came() % LOOK_EVERY + bytes.len() as u64 >= LOOK_EVERY {
            room(self.view.engine(), upload.person).await?.check(LOOK_EVERY)?;
        }
        if !intake.take(bytes).await? {
            // The disk failed; the other side knows why.
            let State::Taking(intake, ..) = std::mem::replace(&mut self.state, State::New) else { return Ok(()) };
            intake.end().await?;
            return Err(Failure::new(ProblemType::Internal, "The home disk could not be written; the log has the reason."));
        }
        Ok(())
    }

    async fn finish(&mut self) -> Answer<()> {
        let came = match &self.state {
            State::Taking(intake, ..) => intake.came(),
            State::New => 0,
            State::Done(_) => return Ok(()),
        };
        // The library says "all has come" also when less came than was announced.
        if self.expected.is_some_and(|e| came < e) {
            return Err(Failure::bad("The connection was lost before the whole file had come. Send the file again."));
        }
        let (engine, device) = (Arc::clone(self.view.engine()), self.view.device().id);
        let (intake, mut upload, known) = match std::mem::replace(&mut self.state, State::New) {
            State::Taking(intake, upload, known) => (intake, upload, known),
            _ => {
                // An empty file: many programs make one first and fill it afterwards. There is nothing to keep of it yet.
                engine.catalog.set_folder_file(device, &self.place, None, None, engine.now()).await?;
                self.state = State::Done(Meta::of(engine.now(), 0));
                return Ok(());
            }
        };
        // The right to write is kept until the file has landed.
        let (part, writing) = match intake.end().await? {
            Written::Finished(part, writing) => (*part, Some(writing)),
            Written::Paused { offset } if known => {
                engine.catalog.extend_upload(upload.id, offset, engine.now() + engine.settings.upload_life, engine.now()).await?;
                self.state = State::Done(Meta::of(engine.now(), offset));
                return Ok(());
            }
            Written::Paused { offset } => {
                // Nobody said how much it would be; the quota is asked now that it is known.
                upload.length = offset;
                if let Err(full) = landing::promise(&engine, &upload, &[], offset).await {
                    landing::discard(&engine, upload.id).await?;
                    return Err(full.into());
                }
                let (incoming, id) = (engine.library.incoming().clone(), upload.id);
                (tokio::task::spawn_blocking(move || incoming.writer(id, offset).map(|w| w.finish())).await??, None)
            }
            Written::WrongChecksum => return Err(Failure::bad("A checksum was wrong.")),
        };
        let (digest, length) = (part.digest, part.length);
        let (place, landed) = (self.place.clone(), Arc::clone(&engine));
        // Goes on even if the program hangs up now: it is nearly done.
        tokio::spawn(async move {
            let _writing = writing;
            let original = landing::land(&landed, &upload, part).await?;
            put_in_tree(&landed, device, &place, original).await
        })
        .await??;
        self.state = State::Done(Meta { digest: Some(digest), ..Meta::of(engine.now(), length) });
        Ok(())
    }
}

async fn put_in_tree(engine: &Engine, device: ypogeion_core::DeviceId, place: &str, original: OriginalId) -> Answer<()> {
    Ok(engine.catalog.set_folder_file(device, place, Some(original), None, engine.now()).await?)
}

/// How often a file of unknown length is held against the room there is.
const LOOK_EVERY: u64 = 64 << 20;

impl Drop for Writing {
    /// The connection broke, or the disk failed. Pieces are kept for the program to go on with; a file that came in one request
    /// comes again from its start.
    fn drop(&mut self) {
        let State::Taking(intake, upload, _) = std::mem::replace(&mut self.state, State::New) else { return };
        let (engine, keep) = (Arc::clone(self.view.engine()), self.view.piece().is_some());
        tokio::spawn(async move {
            let ended = intake.end().await;
            if keep && ended.is_ok() {
                return;
            }
            if let Err(e) = landing::discard(&engine, upload.id).await {
                tracing::warn!(upload = %upload.id, error = %e, "an interrupted upload could not be removed; it expires");
            }
        });
    }
}

impl Meta {
    fn of(changed: DateTime<Utc>, length: u64) -> Self {
        let changed = SystemTime::from(changed);
        Meta { folder: false, length, digest: None, made: changed, changed }
    }
}

impl fmt::Debug for Writing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Writing").field("place", &self.place).finish_non_exhaustive()
    }
}

impl DavFile for Writing {
    fn metadata(&'_ mut self) -> FsFuture<'_, Box<dyn DavMetaData>> {
        Box::pin(async move {
            match (&self.state, &self.there) {
                (State::Done(meta), _) => Ok(Box::new(meta.clone()) as Box<dyn DavMetaData>),
                (_, Some(entry)) => Ok(Box::new(self.view.meta(entry).await?) as Box<dyn DavMetaData>),
                _ => Err(FsError::NotFound),
            }
        })
    }

    fn write_buf(&'_ mut self, mut buf: Box<dyn bytes::Buf + Send>) -> FsFuture<'_, ()> {
        Box::pin(async move {
            let whole = buf.copy_to_bytes(buf.remaining());
            self.take(whole).await.map_err(|e| self.view.failed(e))
        })
    }

    fn write_bytes(&'_ mut self, buf: Bytes) -> FsFuture<'_, ()> {
        Box::pin(async move { self.take(buf).await.map_err(|e| self.view.failed(e)) })
    }

    fn read_bytes(&'_ mut self, _count: usize) -> FsFuture<'_, Bytes> {
        Box::pin(std::future::ready(Err(FsError::NotImplemented)))
    }

    /// Where a piece begins. It must not leave a gap.
    fn seek(&'_ mut self, pos: SeekFrom) -> FsFuture<'_, u64> {
        Box::pin(async move {
            let (SeekFrom::Start(start), Some(piece)) = (pos, self.view.piece()) else { return Err(FsError::NotImplemented) };
            let stands = self.begun(piece).await.map_err(|e| self.view.failed(e))?.map_or(0, |(_, stands)| stands);
            if start > stands {
                let words = format!("This file is at byte {stands}; continue from there.");
                return Err(self.view.failed(Failure::new(ProblemType::RangeNotSatisfiable, words)));
            }
            Ok(start)
        })
    }

    fn flush(&'_ mut self) -> FsFuture<'_, ()> {
        Box::pin(async move { self.finish().await.map_err(|e| self.view.failed(e)) })
    }
}

/// A file that is being read.
#[derive(Debug)]
pub struct Reading {
    /// Nothing for an empty file, which has no original.
    file: Option<Arc<File>>,
    at: u64,
    meta: Meta,
}

impl Reading {
    /// Opens the original of an entry, wherever it is by now.
    pub async fn open(view: &View, entry: &Entry, meta: Meta) -> Answer<Self> {
        let Some(id) = entry.original else {
            // A file that has not come in whole reads as far as it has come.
            let part = entry.upload.and_then(|u| File::open(view.engine().library.incoming().path(u)).ok());
            return Ok(Reading { file: part.map(Arc::new), at: 0, meta });
        };
        let row = view.engine().catalog.original(id, Some(view.device().person)).await?;
        let (file, _) = at_home::open(view.engine(), (id, row.digest), row.path).await?;
        Ok(Reading { file: Some(Arc::new(file)), at: 0, meta })
    }
}

fn not_for_writing<'a, T: Send + 'a>() -> FsFuture<'a, T> {
    Box::pin(std::future::ready(Err(FsError::Forbidden)))
}

impl DavFile for Reading {
    fn metadata(&'_ mut self) -> FsFuture<'_, Box<dyn DavMetaData>> {
        Box::pin(std::future::ready(Ok(Box::new(self.meta.clone()) as Box<dyn DavMetaData>)))
    }

    fn write_buf(&'_ mut self, _buf: Box<dyn bytes::Buf + Send>) -> FsFuture<'_, ()> {
        not_for_writing()
    }

    fn write_bytes(&'_ mut self, _buf: Bytes) -> FsFuture<'_, ()> {
        not_for_writing()
    }

    fn read_bytes(&'_ mut self, count: usize) -> FsFuture<'_, Bytes> {
        Box::pin(async move {
            let Some(file) = self.file.clone() else { return Ok(Bytes::new()) };
            let at = self.at;
            let read = tokio::task::spawn_blocking(move || {
                let mut buffer = vec![0; count];
                file.read_at(&mut buffer, at).map(|n| {
                    buffer.truncate(n);
                    Bytes::from(buffer)
                })
            });
            let bytes: FsResult<Bytes> = match read.await {
                Ok(Ok(bytes)) => Ok(bytes),
                _ => Err(FsError::GeneralFailure),
            };
            self.at += bytes.as_ref().map_or(0, |b| b.len() as u64);
            bytes
        })
    }

    fn seek(&'_ mut self, pos: SeekFrom) -> FsFuture<'_, u64> {
        let to = match pos {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
            SeekFrom::End(by) => self.meta.length.checked_add_signed(by),
        };
        self.at = to.unwrap_or(self.at);
        Box::pin(std::future::ready(to.ok_or(FsError::GeneralFailure)))
    }

    fn flush(&'_ mut self) -> FsFuture<'_, ()> {
        Box::pin(std::future::ready(Ok(())))
    }
}
