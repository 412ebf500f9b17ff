//! Bytes of an upload on their way to the disk.

use bytes::Bytes;
use ring::digest::{Algorithm, Context};
use tokio::{sync::mpsc, task::JoinHandle};
use ypogeion_core::UploadId;
use ypogeion_library::{Finished, LibraryError, PartWriter};

use crate::{
    engine::Engine,
    error::{Error, Result},
    writing::Writing,
};

/// Bytes on their way from a connection to a part, hashed and written by a thread of their own.
pub struct Intake {
    sender: mpsc::Sender<Bytes>,
    disk: JoinHandle<Result<Written, LibraryError>>,
    came: u64,
    room: u64,
}

impl Intake {
    /// Begins to write at `start`. More than `most` bytes in all are refused; with `whole` bytes the part is finished.
    pub fn begin(
        engine: &Engine,
        id: UploadId,
        start: u64,
        most: u64,
        whole: Option<u64>,
        checksum: Option<Checksum>,
        writing: Writing,
    ) -> Self {
        let incoming = engine.library.incoming().clone();
        let (sender, receiver) = mpsc::channel::<Bytes>(16);
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
    pub async fn take(&mut self, chunk: Bytes) -> Result<bool> {
        if self.came + chunk.len() as u64 > self.room {
            return Err(Error::TooLarge("More bytes came than the upload was created for.".to_owned()));
        }
        self.came += chunk.len() as u64;
        Ok(self.sender.send(chunk).await.is_ok())
    }

    /// No more bytes come.
    pub async fn end(self) -> Result<Written> {
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
    mut chunks: mpsc::Receiver<Bytes>,
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
    /// What the bytes should have.
    pub fn new(algorithm: &'static Algorithm, expected: Vec<u8>) -> Self {
        Checksum { context: Context::new(algorithm), expected }
    }

    fn fits(self) -> bool {
        self.context.finish().as_ref() == self.expected
    }
}
