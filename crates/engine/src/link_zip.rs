//! All that a link hands out, as one zip. It is written while it is read, so nobody knows beforehand how long it is, and who loses the connection begins again:
//! what is handed out without places is made for whoever asks, picture by picture.

use std::{fs::File, sync::Arc, time::Duration};

use bytes::Bytes;
use chrono::{DateTime, NaiveDateTime, Utc};
use tokio::{
    sync::{Semaphore, SemaphorePermit, mpsc},
    time::timeout,
};
use ypogeion_catalog::{links::Shown, originals::OriginalRow};
use ypogeion_core::{
    OriginalId,
    words::counted,
    zip::{Entry, Layout, Names},
};

use crate::{
    engine::Engine,
    error::{Error, Result},
    library::{self, After},
    links::{Handed, Patience, handed_of},
    zips::some_of,
};

/// So many people outside download all of something at the same time.
static DOWNLOADS: Semaphore = Semaphore::const_new(4);
/// Pictures that are asked of the catalogue at once.
const PAGE: i64 = 200;
/// So much is read at once, and so many of those wait for whoever downloads.
const AT_ONCE: usize = 512 << 10;
const AHEAD: usize = 3;
/// Whoever takes nothing for so long is not waited for: others want to download, too.
const TAKES_NOTHING: Duration = Duration::from_secs(120);
/// What could not be handed out is said in a file of this name.
pub const LEFT_OUT: &str = "not in here.txt";

/// All that a link hands out.
pub async fn all(engine: &Arc<Engine>, shown: &Shown) -> Result<mpsc::Receiver<Result<Bytes>>> {
    let Ok(permit) = DOWNLOADS.try_acquire() else {
        return Err(Error::TooMany("Many people are downloading all of something just now. Try again in a while.".to_owned()));
    };
    let (engine, shown) = (Arc::clone(engine), shown.clone());
    let first = library::page(&engine, shown.scope(), None, None, PAGE, None).await?;
    if first.0.is_empty() {
        return Err(Error::NotNow("There is no picture here just now.".to_owned()));
    }
    let (to, out) = mpsc::channel(AHEAD);
    let (layout, names) = (Layout::default(), Names::default());
    let writing = Writing { engine, shown, to, layout, names, list: Vec::new(), left_out: Vec::new(), _permit: permit };
    tokio::spawn(writing.run(first));
    Ok(out)
}

/// A page of what a link shows, and where the next one begins.
type Page = (Vec<ypogeion_wire::original::OriginalCard>, Option<After>);

/// Why no more is written.
enum End {
    /// Nobody wants more.
    NotWanted,
    Failed(Error),
}

impl<E: Into<Error>> From<E> for End {
    fn from(e: E) -> Self {
        End::Failed(e.into())
    }
}

/// What goes into the zip next: bytes that are here, or a file of so many.
enum What {
    Here(Bytes),
    File(File, u64),
}

struct Writing {
    engine: Arc<Engine>,
    shown: Shown,
    to: mpsc::Sender<Result<Bytes>>,
    layout: Layout,
    names: Names,
    /// The list at the end, as far as it is known.
    list: Vec<u8>,
    /// What could not be handed out.
    left_out: Vec<String>,
    _permit: SemaphorePermit<'static>,
}

impl Writing {
    async fn run(mut self, first: Page) {
        match self.write(first).await {
            Ok(()) | Err(End::NotWanted) => {}
            Err(End::Failed(e)) => {
                tracing::warn!(link = %self.shown.link, error = %e, "a download by a link was broken off");
                // Whoever downloads may be gone: then nobody is to be told.
                let _ = self.to.send(Err(e)).await;
            }
        }
    }

    async fn write(&mut self, (mut pictures, mut after): Page) -> Result<(), End> {
        loop {
            for picture in &pictures {
                self.picture(picture.id, &picture.name).await?;
            }
            if after.is_none() {
                break;
            }
            (pictures, after) = library::page(&self.engine, self.shown.scope(), None, after, PAGE, None).await?;
        }
        if !self.left_out.is_empty() {
            let n = self.left_out.len() as u64;
            let head = format!("{} could not be handed out when this was downloaded:", counted(n, "picture"));
            let text = [&[head][..], &self.left_out].concat().join("\r\n") + "\r\n";
            let now = self.engine.now();
            self.entry(LEFT_OUT, What::Here(text.into()), (now, now.naive_local())).await?;
        }
        let list = std::mem::take(&mut self.list);
        self.put(list.into()).await?;
        self.put(self.layout.end().into()).await
    }

    async fn picture(&mut self, id: OriginalId, name: &str) -> Result<(), End> {
        // Withdrawn is withdrawn, also of what was begun before: it breaks off, so that nobody takes it for all.
        if !self.engine.catalog.link_opens(self.shown.link, self.engine.now()).await? {
            return Err(Error::Gone("This link has ended, or was withdrawn.".to_owned()).into());
        }
        let row = match self.engine.catalog.shown_by(&self.shown, id).await.map_err(Error::from) {
            // Deleted since a moment ago, or taken out of the album.
            Err(Error::NotFound) => return Ok(()),
            other => other?,
        };
        let times = (row.taken_at, row.taken_local);
        match self.found(row).await {
            // Of what cannot be had now, the rest of the zip is no worse; of it is said that it is not there.
            Err(Error::OriginalDamaged { .. } | Error::NotNow(_)) => self.left_out.push(name.to_owned()),
            other => {
                // What makes it stays in memory until it is sent.
                let (name, what, _room) = other?;
                self.entry(&name, what, times).await?;
            }
        }
        Ok(())
    }

    /// What is handed out of a picture, and its name.
    async fn found(&self, row: OriginalRow) -> Result<(String, What, Option<SemaphorePermit<'static>>)> {
        Ok(match handed_of(&self.engine, &self.shown, row, Patience::Waits).await? {
            Handed::Original(row, file) => (library::last_of(row.path.as_str()), What::File(file, row.size), None),
            Handed::Bare { name, bytes, room } => (name, What::Here(bytes), Some(room)),
            Handed::Preview(id, name) => {
                let place = self.engine.settings.preview_path(id, "large");
                let opened = tokio::task::spawn_blocking(move || {
                    let file = File::open(place)?;
                    let length = file.metadata()?.len();
                    Ok::<_, std::io::Error>((file, length))
                });
                let opened = opened.await?;
                let (file, length) = opened.map_err(|_| Error::NotNow("There is no picture of this file.".to_owned()))?;
                (name, What::File(file, length), None)
            }
        })
    }

    async fn entry(&mut self, name: &str, what: What, (changed, local): (DateTime<Utc>, NaiveDateTime)) -> Result<(), End> {
        let name = self.names.give_bare(name, self.list.len());
        let size = match &what {
            What::Here(bytes) => bytes.len() as u64,
            What::File(_, size) => *size,
        };
        let entry = Entry { name: &name, size, changed, local };
        self.put(entry.head().into()).await?;
        let mut hasher = crc32fast::Hasher::new();
        match what {
            What::Here(mut bytes) => {
                hasher.update(&bytes);
                while !bytes.is_empty() {
                    let piece = bytes.split_to(AT_ONCE.min(bytes.len()));
                    self.put(piece).await?;
                }
            }
            What::File(mut file, size) => {
                let mut at = 0;
                while at < size {
                    let want = AT_ONCE.min(usize::try_from(size - at).unwrap_or(AT_ONCE));
                    let read = tokio::task::spawn_blocking(move || some_of(file, at, want, hasher)).await?;
                    let (back, piece, so_far) = read.map_err(|e| Error::OriginalDamaged {
                        detail: "A file could not be read from the home disk.".to_owned(),
                        source: Some(e.into()),
                    })?;
                    (file, hasher) = (back, so_far);
                    at += piece.len() as u64;
                    self.put(piece).await?;
                }
            }
        }
        let crc = hasher.finalize();
        self.put(entry.tail(crc).into()).await?;
        let starts = self.layout.add(&entry);
        self.list.extend(entry.listed(starts, crc));
        Ok(())
    }

    async fn put(&self, bytes: Bytes) -> Result<(), End> {
        match timeout(TAKES_NOTHING, self.to.send(Ok(bytes))).await {
            Ok(Ok(())) => Ok(()),
            Ok(Err(_)) | Err(_) => Err(End::NotWanted),
        }
    }
}
