//! Many files as one: what somebody chose, as a zip that can be interrupted and goes on from where it was.
//!
//! What is in a zip and where is put down when it is made, so each of its bytes is the same whenever it is asked for, and its length is known at once.
//! Nothing is written to a disk for it: the files are read when their turn comes. Their checksums become known then, too; where a download goes on
//! in the middle of a file whose checksum nobody knows, or behind one, that file is read again from its beginning.

use std::{
    collections::{HashMap, HashSet},
    fs::File,
    os::unix::fs::FileExt,
    sync::Arc,
};

use bytes::Bytes;
use chrono::TimeDelta;
use tokio::sync::{OwnedSemaphorePermit, mpsc};
use uuid::Uuid;
use ypogeion_catalog::{
    choosing::ChosenFile,
    zips::{Found, Zip, ZipFile},
};
use ypogeion_core::{
    OriginalId, PersonId,
    caption::Note,
    words::count,
    zip::{Entry, Layout, Names},
};
use ypogeion_media::xmp;
use ypogeion_wire::choosing::{Choice, MadeZip};

use crate::{
    at_home, choosing,
    engine::Engine,
    error::{Error, Result},
    library::last_of,
};

/// More are several zips.
const MOST_FILES: i64 = 100_000;
/// A zip can be downloaded for so long after it was made, or asked for last.
const KEPT: TimeDelta = TimeDelta::days(7);
/// So much is read at once.
const AT_ONCE: usize = 1 << 20;
/// So many of those wait for whoever downloads.
const AHEAD: usize = 3;
/// So many files are asked of the catalogue at once.
const FILES: i64 = 500;

/// Makes a zip of what is chosen.
pub async fn make(engine: &Engine, owner: PersonId, choice: &Choice) -> Result<MadeZip> {
    let (scope, chosen) = choosing::chosen(engine, owner, choice).await?;
    let files = engine.catalog.chosen_files(scope, &chosen, MOST_FILES + 1).await?;
    if files.is_empty() {
        return Err(Error::invalid("Nothing was chosen."));
    }
    if files.len() as i64 > MOST_FILES {
        let most = count(MOST_FILES.unsigned_abs());
        return Err(Error::TooLarge(format!("A zip has {most} files at most. Choose less at once.")));
    }
    let all = files.len();
    let files: Vec<ChosenFile> = files.into_iter().filter(|f| f.at_home).collect();
    if files.is_empty() {
        return Err(Error::NotNow("None of these files has a good copy at home. They are replaced from a store.".to_owned()));
    }
    let name = name_of(&files);
    let left_out = (all - files.len()) as u64;
    let shots: HashSet<OriginalId> = files.iter().map(|f| f.shot).collect();
    let said = engine.catalog.notes(&shots.into_iter().collect::<Vec<_>>()).await?;
    let (files, layout) = laid(files, scope.album.is_some(), &said);
    let now = engine.now();
    let zip = Zip { id: Uuid::new_v4(), name, ends_at: now + KEPT, files: files.len() as u64, length: layout.length() };
    engine.catalog.add_zip(owner, &zip, &files, now).await?;
    let notes = files.iter().filter(|f| f.text.is_some()).count() as u64;
    Ok(MadeZip {
        id: zip.id,
        name: zip.name,
        files: zip.files - notes,
        notes,
        length: zip.length,
        left_out,
        ends_at: zip.ends_at,
    })
}

/// Named by the months that are in it.
fn name_of(files: &[ChosenFile]) -> String {
    let month = |f: Option<&ChosenFile>| f.map_or_else(String::new, |f| f.taken_local.format("%Y-%m").to_string());
    let (first, last) = (month(files.first()), month(files.last()));
    if first == last { format!("Pictures {first}.zip") } else { format!("Pictures {first} to {last}.zip") }
}

/// Each file with its name in the zip, and where it starts; behind the first of a picture that somebody said something about, that, as XMP. `bare`: of an
/// album, without the folders, which are the libraries' of those whose pictures they are.
fn laid(files: Vec<ChosenFile>, bare: bool, said: &HashMap<OriginalId, Note>) -> (Vec<ZipFile>, Layout) {
    let mut names = Names::default();
    let mut give = |path: &str, id: OriginalId| if bare { names.give_bare(&last_of(path), id) } else { names.give(path, id) };
    // What devices sent has its own name first.
    let own: Vec<String> = files.iter().map(|f| give(&f.path, f.id)).collect();
    // The file that stands for a picture has its words beside it; without that one, the first that is there.
    let leads: HashSet<OriginalId> = files.iter().filter(|f| f.id == f.shot).map(|f| f.id).collect();
    let mut told = HashSet::new();
    let mut all = Vec::with_capacity(files.len() + said.len());
    for (f, name) in files.into_iter().zip(own) {
        let said = said.get(&f.shot).filter(|_| (f.id == f.shot || !leads.contains(&f.shot)) && told.insert(f.shot));
        let note = said.map(|said| (give(&format!("{}.xmp", f.path), f.id), xmp::write(said).into_bytes()));
        let (changed, local) = (f.taken_at, f.taken_local);
        let file = ZipFile { original: f.id, name, size: f.size, changed, local, starts: 0, crc: None, text: None };
        let note = note.map(|(name, text)| ZipFile {
            name,
            size: text.len() as u64,
            crc: Some(crc32fast::hash(&text)),
            text: Some(text),
            ..file.clone()
        });
        all.push(file);
        all.extend(note);
    }
    let mut layout = Layout::default();
    for file in &mut all {
        file.starts = layout.add(&entry(file));
    }
    (all, layout)
}

fn entry(file: &ZipFile) -> Entry<'_> {
    Entry { name: &file.name, size: file.size, changed: file.changed, local: file.local }
}

/// A zip of somebody, as it was made.
pub async fn find(engine: &Engine, owner: PersonId, id: Uuid) -> Result<Zip> {
    let now = engine.now();
    engine.catalog.zip(owner, id, now, now + KEPT).await.map_err(|e| match e.into() {
        Error::NotFound => ended(),
        other => other,
    })
}

/// The bytes of somebody's zip from one place to another, as they are read. An error ends them early: then they can be asked for again, from there on.
pub async fn bytes(
    engine: &Arc<Engine>,
    owner: PersonId,
    zip: Zip,
    from: u64,
    until: u64,
) -> Result<mpsc::Receiver<Result<Bytes>>> {
    let Ok(permit) = Arc::clone(&engine.zips).try_acquire_owned() else {
        return Err(Error::TooMany("Many downloads are running just now. Try again in a moment.".to_owned()));
    };
    let (to, out) = mpsc::channel(AHEAD);
    let writing = Writing { engine: Arc::clone(engine), owner, zip, to, at: 0, from, until, read: Vec::new(), _permit: permit };
    tokio::spawn(writing.run());
    Ok(out)
}

/// Why no more is written.
enum End {
    /// All that was asked for is written, or nobody wants more.
    Done,
    Failed(Error),
}

impl<E: Into<Error>> From<E> for End {
    fn from(e: E) -> Self {
        End::Failed(e.into())
    }
}

/// A zip that is being written from its beginning to its end; what was not asked for goes nowhere.
struct Writing {
    engine: Arc<Engine>,
    owner: PersonId,
    zip: Zip,
    to: mpsc::Sender<Result<Bytes>>,
    /// What comes next is this byte of the zip.
    at: u64,
    from: u64,
    until: u64,
    /// Checksums that are known since a moment ago, by the numbers of their files.
    read: Vec<(u64, u32)>,
    _permit: OwnedSemaphorePermit,
}

impl Writing {
    async fn run(mut self) {
        let ended = self.write().await;
        let kept = self.keep().await;
        for end in [ended, kept].into_iter().filter_map(Result::err) {
            if let End::Failed(e) = end {
                tracing::warn!(zip = %self.zip.id, at = self.at, error = %e, "a download was broken off");
                // Whoever downloads may be gone: then nobody is to be told.
                let _ = self.to.send(Err(e)).await;
            }
        }
    }

    async fn write(&mut self) -> Result<(), End> {
        let mut n = self.engine.catalog.zip_file_at(self.zip.id, self.from).await?;
        while n < self.zip.files {
            let files = self.some_files(n).await?;
            for found in &files {
                self.at = found.file.starts;
                self.file(n, found).await?;
                n += 1;
            }
            self.keep().await?;
        }
        self.list().await
    }

    /// A file with what stands before and behind it.
    async fn file(&mut self, n: u64, found: &Found) -> Result<(), End> {
        let file = &found.file;
        self.put(entry(file).head().into()).await?;
        let crc = match file.crc {
            // It is known, so what nobody asked for need not be read.
            Some(crc) => {
                let before = self.from.saturating_sub(self.at).min(file.size);
                self.at += before;
                self.data(found, before, true).await?;
                crc
            }
            None => {
                let crc = self.data(found, 0, true).await?;
                self.read.push((n, crc));
                crc
            }
        };
        self.put(entry(file).tail(crc).into()).await
    }

    /// Reads a file from one of its bytes on, and writes it or not. Returns the checksum of what was read.
    async fn data(&mut self, found: &Found, from: u64, write: bool) -> Result<u32, End> {
        let mut hasher = crc32fast::Hasher::new();
        let mut left = found.file.size - from;
        if left == 0 {
            return Ok(hasher.finalize());
        }
        if let Some(text) = &found.file.text {
            // Whoever may not see the picture any more is told nothing about it either.
            found.at.as_ref().ok_or_else(ended)?;
            let text = text.get(usize::try_from(from).unwrap_or(usize::MAX)..).unwrap_or_default();
            hasher.update(text);
            if write {
                self.put(Bytes::copy_from_slice(text)).await?;
            }
            return Ok(hasher.finalize());
        }
        let (path, digest) = found.at.clone().ok_or_else(ended)?;
        let (mut file, _) = at_home::open(&self.engine, (found.file.original, digest), path).await?;
        while left > 0 {
            // What nobody is told of is read for nobody who has gone.
            if self.to.is_closed() {
                return Err(End::Done);
            }
            let (want, place) = (AT_ONCE.min(usize::try_from(left).unwrap_or(AT_ONCE)), found.file.size - left);
            let reading = tokio::task::spawn_blocking(move || some_of(file, place, want, hasher));
            let (back, chunk, so_far) = reading.await.map_err(Error::from)?.map_err(unreadable)?;
            (file, hasher) = (back, so_far);
            left -= chunk.len() as u64;
            if write {
                self.put(chunk).await?;
            }
        }
        Ok(hasher.finalize())
    }

    /// The list of all files, and the end.
    async fn list(&mut self) -> Result<(), End> {
        let (mut layout, mut n) = (Layout::default(), 0);
        while n < self.zip.files {
            let files = self.some_files(n).await?;
            let mut list = Vec::new();
            for found in &files {
                let crc = match found.file.crc {
                    Some(crc) => crc,
                    // Nobody has downloaded it yet, who wants the end first.
                    None => {
                        let crc = self.data(found, 0, false).await?;
                        self.read.push((n, crc));
                        crc
                    }
                };
                layout.add(&entry(&found.file));
                list.extend(entry(&found.file).listed(found.file.starts, crc));
                n += 1;
            }
            self.put(list.into()).await?;
            self.keep().await?;
        }
        self.put(layout.end().into()).await
    }

    async fn some_files(&self, from: u64) -> Result<Vec<Found>, End> {
        let files = self.engine.catalog.zip_files(self.owner, self.zip.id, from, FILES).await?;
        if files.is_empty() { Err(ended().into()) } else { Ok(files) }
    }

    /// Writes what of these bytes was asked for.
    async fn put(&mut self, bytes: Bytes) -> Result<(), End> {
        let (starts, ends) = (self.at, self.at + bytes.len() as u64);
        self.at = ends;
        let within = |place: u64| usize::try_from(place.clamp(starts, ends) - starts).unwrap_or(usize::MAX);
        let wanted = bytes.slice(within(self.from)..within(self.until).max(within(self.from)));
        let is_last = ends >= self.until;
        if !wanted.is_empty() && self.to.send(Ok(wanted)).await.is_err() || is_last {
            return Err(End::Done);
        }
        Ok(())
    }

    /// Puts down the checksums that became known.
    async fn keep(&mut self) -> Result<(), End> {
        if !self.read.is_empty() {
            self.engine.catalog.zip_files_read(self.zip.id, &std::mem::take(&mut self.read)).await?;
        }
        Ok(())
    }
}

fn ended() -> Error {
    Error::Gone("This download has ended, or a file of it was removed. Choose the pictures again.".to_owned())
}

fn unreadable(e: std::io::Error) -> Error {
    Error::OriginalDamaged { detail: "A file could not be read from the home disk.".to_owned(), source: Some(e.into()) }
}

/// So many bytes of a file from a place on, and the checksum with them.
pub(crate) fn some_of(
    file: File,
    place: u64,
    want: usize,
    mut hasher: crc32fast::Hasher,
) -> std::io::Result<(File, Bytes, crc32fast::Hasher)> {
    let mut chunk = vec![0; want];
    // One that is shorter than it was is an error.
    file.read_exact_at(&mut chunk, place)?;
    hasher.update(&chunk);
    Ok((file, chunk.into(), hasher))
}
