//! Taking over what lies elsewhere: a folder tree, and the archives in it.
//!
//! First a look, which changes nothing: everything found is put down with what is to become of it ([`look`]). Then, once the
//! keeper has seen that plan and said so, file by file ([`run`]), each landing like every other original. A kill anywhere costs the
//! file that was under way: what waits is in the catalogue, and a file that is taken twice is here once.
//!
//! Nothing in the tree is ever written, moved or removed. "In place" means that the library points to the file where it is;
//! what is in an archive cannot be pointed to and is copied.

use std::{
    collections::HashSet,
    fs::File,
    io::Read,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use chrono::{DateTime, Utc};
use futures_util::{StreamExt, stream};
use tokio::{runtime::Handle, sync::mpsc};
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    adoptions::{AdoptedFile, Adoption},
    uploads::Upload,
    work::Job,
};
use ypogeion_core::{
    DeviceId, Digest, OriginalName, UploadId,
    adopt::{self, ArchiveKind, Found, What},
    name::source_name,
    offer::Known,
    state::AdoptionState,
};
use ypogeion_library::{
    Finished, Incoming, LibraryError,
    shelf::hash_of,
    tree::{Node, Tree, read_archive},
};
use ypogeion_wire::work::LiveEvent;

use super::ended::Ended;
use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    landing,
};

/// Files put down, or asked for, together.
const PAGE: usize = 500;
/// Files taken at once. One disk is read, and another written.
const AT_ONCE: usize = 3;

/// Why something was not done.
enum Trouble {
    /// This file cannot be taken; the others can.
    File(String),
    /// Nothing can be taken until somebody does something.
    All(Error),
}

impl From<Error> for Trouble {
    fn from(e: Error) -> Self {
        Trouble::All(e)
    }
}

impl From<CatalogError> for Trouble {
    fn from(e: CatalogError) -> Self {
        Trouble::All(e.into())
    }
}

pub(super) async fn adopt(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let Some(adoption) = engine.catalog.adoptions(Some(job.key), 1).await?.pop() else { return Ok(Ended::Done) };
    let ended = match adoption.state {
        AdoptionState::Looking => look(engine, &adoption).await,
        AdoptionState::Running => run(engine, &adoption).await,
        // Going on puts the work down again.
        AdoptionState::Planned | AdoptionState::Paused | AdoptionState::Done | AdoptionState::Stopped => Ok(()),
    };
    engine.live.changed(&[LiveEvent::Library, LiveEvent::Devices, LiveEvent::Work]);
    match ended {
        Ok(()) => Ok(Ended::Done),
        // It comes back by itself.
        Err(e @ (Error::DatabaseAway(_) | Error::LibraryAway(_))) => Err(e),
        Err(e) => {
            let now = engine.now();
            engine
                .catalog
                .set_adoption_state(
                    adoption.id,
                    &[AdoptionState::Looking, AdoptionState::Running],
                    AdoptionState::Paused,
                    Some(&e.to_string()),
                    now,
                )
                .await?;
            tracing::warn!(place = adoption.place, error = %chain(&e), "an adoption waits for somebody");
            Ok(Ended::Done)
        }
    }
}

/// The tree of an adoption, and the one archive in it that is meant, if it is not the whole folder.
fn tree_of(adoption: &Adoption) -> Result<(Tree, Option<PathBuf>)> {
    let away = |_| {
        let words = format!("{} cannot be read now. If it is a disk, connect it again and resume.", adoption.place);
        Error::Gone(words)
    };
    let tree = Tree::at(Path::new(&adoption.place)).map_err(away)?;
    // What was allowed was this very place. If links lead elsewhere now, it is not that place any more.
    if tree.root() != Path::new(&adoption.place) {
        let words = format!("{} is another folder now. Stop this, and look through the new one.", adoption.place);
        return Err(Error::NotAllowed(words));
    }
    match (tree.archive(), tree.root().parent(), tree.root().file_name()) {
        (Some(_), Some(folder), Some(name)) => Ok((Tree::at(folder).map_err(away)?, Some(name.into()))),
        _ => Ok((tree, None)),
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn archive_kind(path: &[u8]) -> Option<ArchiveKind> {
    ArchiveKind::of(&text(path))
}

/// What the look through a tree tells as it goes.
enum Seen {
    File(AdoptedFile),
    /// An archive that could not be read to its end, and why.
    Broken(Vec<u8>, String),
}

fn seen(archive: &[u8], node: &Node, everything: bool) -> AdoptedFile {
    let path = text(&node.path);
    let found = Found { path: &path, what: node.what, size: node.size, packed: node.packed };
    let left = adopt::judge(&found, everything).err();
    AdoptedFile {
        archive: archive.to_owned(),
        // The catalogue's bytes can be anything; a name of nothing is kept as it is.
        path: node.path.clone(),
        size: node.size,
        file_time: node.modified.map(DateTime::<Utc>::from),
        known: false,
        outcome: left.map(|_| "left-out".to_owned()),
        reason: left.map(|l| l.sentence().to_owned()),
    }
}

/// Looks through everything and puts it down; then reads what could be here already, to know whether it is.
async fn look(engine: &Arc<Engine>, adoption: &Adoption) -> Result<()> {
    let (tree, only) = tree_of(adoption)?;
    let (sender, mut receiver) = mpsc::channel(PAGE);
    let ours = [&engine.settings.library, &engine.settings.data_folder];
    let skip: Vec<PathBuf> = ours.into_iter().filter_map(|p| p.canonicalize().ok()).collect();
    let (everything, walked) = (adoption.everything, tree.clone());
    let walk = tokio::task::spawn_blocking(move || walk_all(&walked, only.as_deref(), &skip, everything, &sender));
    let mut batch = Vec::with_capacity(PAGE);
    loop {
        let more = receiver.recv_many(&mut batch, PAGE).await;
        let (mut files, mut broken) = (Vec::new(), Vec::new());
        for seen in batch.drain(..) {
            match seen {
                Seen::File(file) => files.push(file),
                Seen::Broken(path, why) => broken.push((path, why)),
            }
        }
        engine.catalog.add_found(adoption.id, &files).await?;
        for (path, why) in broken {
            engine.catalog.adoption_file_done(adoption.id, b"", &path, "failed", Some(&why)).await?;
        }
        if more == 0 {
            break;
        }
        if engine.catalog.adoption_state(adoption.id).await? != AdoptionState::Looking {
            return Ok(());
        }
        engine.live.changed(&[LiveEvent::Work]);
    }
    walk.await?;
    for archive in engine.catalog.adoption_archives(adoption.id).await? {
        recognise(engine, adoption, &tree, &archive).await?;
    }
    engine.catalog.set_adoption_state(adoption.id, &[AdoptionState::Looking], AdoptionState::Planned, None, engine.now()).await?;
    Ok(())
}

/// Runs in a thread of its own. Ends early when nobody listens any more.
fn walk_all(tree: &Tree, only: Option<&Path>, skip: &[PathBuf], everything: bool, tell: &mpsc::Sender<Seen>) {
    use std::os::unix::ffi::OsStrExt;
    let mut archives = Vec::new();
    match only {
        Some(archive) => archives.push(archive.as_os_str().as_bytes().to_owned()),
        None => tree.walk(skip, &mut |node| {
            let file = match node {
                Ok(node) if node.what == What::File && archive_kind(&node.path).is_some() => {
                    archives.push(node.path.clone());
                    AdoptedFile { outcome: Some("archive".to_owned()), reason: None, ..seen(b"", &node, true) }
                }
                Ok(node) => seen(b"", &node, everything),
                Err(e) => unreadable(tree, &e),
            };
            tell.blocking_send(Seen::File(file)).is_ok()
        }),
    }
    for archive in archives {
        let Some(kind) = archive_kind(&archive) else { continue };
        let read = tree.open(&archive).and_then(|file| {
            read_archive(file, kind, Path::new(&text(&archive)), &mut |node, _| {
                tell.blocking_send(Seen::File(seen(&archive, node, everything))).is_ok()
            })
        });
        if let Err(e) = read {
            // Whatever was told of it before the fault is taken all the same.
            let file = AdoptedFile { outcome: Some("failed".to_owned()), reason: Some(chain(&e)), ..of_archive(&archive) };
            let _ = tell.blocking_send(Seen::File(file));
            let _ = tell.blocking_send(Seen::Broken(archive, chain(&e)));
        }
    }
}

fn of_archive(path: &[u8]) -> AdoptedFile {
    AdoptedFile {
        archive: Vec::new(),
        path: path.to_owned(),
        size: 0,
        file_time: None,
        known: false,
        outcome: None,
        reason: None,
    }
}

/// A folder or a name that could not be looked at.
fn unreadable(tree: &Tree, error: &LibraryError) -> AdoptedFile {
    let place = match error {
        LibraryError::Full { path, .. } | LibraryError::Missing { path, .. } | LibraryError::Io { path, .. } => path.as_path(),
        LibraryError::InUse(path) | LibraryError::Away { path, .. } => path.as_path(),
    };
    let path = place.strip_prefix(tree.root()).unwrap_or(place).to_string_lossy().into_owned().into_bytes();
    AdoptedFile { outcome: Some("failed".to_owned()), reason: Some(chain(error)), ..of_archive(&path) }
}

/// Reads those files whose size is that of something that is here, and notes which of them are here.
async fn recognise(engine: &Arc<Engine>, adoption: &Adoption, tree: &Tree, archive: &[u8]) -> Result<()> {
    let mut after = Vec::new();
    let mut doubtful = HashSet::new();
    loop {
        let page = engine.catalog.adoption_doubtful(adoption.id, archive, &after, PAGE as i64).await?;
        let Some(last) = page.last() else { break };
        after = last.path.clone();
        if archive.is_empty() {
            let (tree, page) = (tree.clone(), page);
            let hashed = tokio::task::spawn_blocking(move || {
                let hash = |f: AdoptedFile| Some((tree.open(&f.path).ok().and_then(|mut o| hash_of(&mut o).ok())?, f.path));
                page.into_iter().filter_map(hash).collect::<Vec<_>>()
            });
            note_known(engine, adoption, archive, hashed.await?).await?;
        } else {
            doubtful.extend(page.into_iter().map(|f| f.path));
        }
        if engine.catalog.adoption_state(adoption.id).await? != AdoptionState::Looking {
            return Ok(());
        }
    }
    if doubtful.is_empty() {
        return Ok(());
    }
    let (tree, name) = (tree.clone(), archive.to_owned());
    let hashed = tokio::task::spawn_blocking(move || {
        let mut hashed = Vec::new();
        let Some(kind) = archive_kind(&name) else { return hashed };
        let _ = tree.open(&name).and_then(|file| {
            read_archive(file, kind, Path::new(&text(&name)), &mut |node, mut bytes| {
                if doubtful.contains(&node.path)
                    && let Ok(digest) = hash_of(&mut bytes)
                {
                    hashed.push((digest, node.path.clone()));
                }
                true
            })
        });
        hashed
    });
    note_known(engine, adoption, archive, hashed.await?).await
}

async fn note_known(engine: &Arc<Engine>, adoption: &Adoption, archive: &[u8], hashed: Vec<(Digest, Vec<u8>)>) -> Result<()> {
    for some in hashed.chunks(PAGE) {
        let digests: Vec<Digest> = some.iter().map(|(d, _)| *d).collect();
        let here = engine.catalog.known(adoption.person, &digests).await?;
        let paths: Vec<Vec<u8>> =
            some.iter().zip(here).filter(|(_, known)| *known == Known::Home).map(|((_, p), _)| p.clone()).collect();
        engine.catalog.adoption_known(adoption.id, archive, &paths).await?;
    }
    Ok(())
}

/// Takes what waits, archive by archive, and first what is in none.
async fn run(engine: &Arc<Engine>, adoption: &Adoption) -> Result<()> {
    let Some(device) = adoption.device else {
        return Err(Error::internal("This adoption was never begun; begin it again."));
    };
    let (tree, _) = tree_of(adoption)?;
    let taking = Taking { engine: Arc::clone(engine), adoption: adoption.clone(), device, tree };
    for begun in engine.catalog.open_uploads().await?.into_iter().filter(|u| u.device == device) {
        // A kill left it half taken. Its file waits still and is taken from its start; the room promised to it is free again.
        landing::discard(engine, begun.id).await?;
    }
    for archive in engine.catalog.adoption_archives(adoption.id).await? {
        let went_on = if archive.is_empty() { taking.plain_files().await? } else { taking.archive(archive).await? };
        if !went_on {
            return Ok(());
        }
    }
    if engine.catalog.set_adoption_state(adoption.id, &[AdoptionState::Running], AdoptionState::Done, None, engine.now()).await? {
        let end = engine.catalog.adoptions(Some(adoption.id), 1).await?.pop().unwrap_or_else(|| adoption.clone());
        let what = format!(
            "adopted {}: {} copied, {} left in place, {} here already, {} failed",
            end.place, end.copied.files, end.pointed.files, end.present.files, end.failed.files
        );
        engine.catalog.write_record(engine.now(), &adoption.made_by, &what).await?;
    }
    Ok(())
}

/// An adoption that is under way.
#[derive(Clone)]
struct Taking {
    engine: Arc<Engine>,
    adoption: Adoption,
    device: DeviceId,
    tree: Tree,
}

impl Taking {
    async fn goes_on(&self) -> Result<bool> {
        self.engine.live.changed(&[LiveEvent::Work]);
        Ok(self.engine.catalog.adoption_state(self.adoption.id).await? == AdoptionState::Running)
    }

    /// `false`: somebody said "pause" or "stop".
    async fn plain_files(&self) -> Result<bool> {
        let mut after = Vec::new();
        loop {
            let page = self.engine.catalog.adoption_waiting(self.adoption.id, b"", &after, 60).await?;
            let Some(last) = page.last() else { return Ok(true) };
            after = last.path.clone();
            // What ends it begins nothing more, and lets what is under way come to its end: a file that has landed is to be noted.
            let ending = AtomicBool::new(false);
            let take = async |file| match ending.load(Ordering::Relaxed) {
                true => Ok(()),
                false => self.plain_file(file).await.inspect_err(|_| ending.store(true, Ordering::Relaxed)),
            };
            let taken: Vec<Result<()>> = stream::iter(page).map(take).buffer_unordered(AT_ONCE).collect().await;
            taken.into_iter().collect::<Result<()>>()?;
            if !self.goes_on().await? {
                return Ok(false);
            }
        }
    }

    async fn plain_file(&self, file: AdoptedFile) -> Result<()> {
        if archive_kind(&file.path).is_some() {
            let why = "this archive could not be read; unpack it and adopt the folder".to_owned();
            return self.note(&file.archive, &file.path, Err(Trouble::File(why))).await;
        }
        let taken = if self.adoption.in_place { self.point(&file).await } else { self.copy(&file).await };
        self.note(&file.archive, &file.path, taken).await
    }

    async fn note(&self, archive: &[u8], path: &[u8], taken: Result<&'static str, Trouble>) -> Result<()> {
        let (outcome, reason) = match taken {
            Ok(outcome) => (outcome, None),
            Err(Trouble::File(why)) => ("failed", Some(why)),
            // Nothing more can be taken now, and that is no fault of this file.
            Err(Trouble::All(e @ (Error::NoRoom(_) | Error::DiskFull(_) | Error::DatabaseAway(_) | Error::LibraryAway(_)))) => {
                return Err(e);
            }
            Err(Trouble::All(e)) => ("failed", Some(e.to_string())),
        };
        Ok(self.engine.catalog.adoption_file_done(self.adoption.id, archive, path, outcome, reason.as_deref()).await?)
    }

    fn upload(&self, file: &AdoptedFile) -> Upload {
        let top = if file.archive.is_empty() { self.adoption.place.clone().into_bytes() } else { file.archive.clone() };
        let top = text(&top);
        let (source, name) = adopt::source_and_name(top.rsplit('/').next().unwrap_or_default(), &text(&file.path));
        Upload {
            id: UploadId(Uuid::now_v7()),
            device: self.device,
            person: self.adoption.person,
            length: file.size,
            digest: None,
            name: OriginalName::from_device(&name).into(),
            source: source_name(&source),
            file_time: file.file_time,
            expires_at: self.engine.now() + self.engine.settings.upload_life,
            metadata: String::new(),
            concat: None,
            target: None,
            original: None,
            touched_at: self.engine.now(),
        }
    }

    /// Promises the room for a file to its upload.
    async fn begin(&self, file: &AdoptedFile) -> Result<Upload, Trouble> {
        let upload = self.upload(file);
        landing::begin(&self.engine, &upload, &[]).await?;
        Ok(upload)
    }

    /// Copies one file out of the tree into the library.
    async fn copy(&self, file: &AdoptedFile) -> Result<&'static str, Trouble> {
        let upload = self.begin(file).await?;
        let (tree, path, incoming) = (self.tree.clone(), file.path.clone(), self.engine.library.incoming().clone());
        let id = upload.id;
        let taken = tokio::task::spawn_blocking(move || {
            let mut from = tree.open(&path).map_err(|e| Trouble::File(chain(&e)))?;
            take_bytes(&incoming, id, &mut from)
        });
        self.land(upload, taken.await.map_err(Error::from)?).await
    }

    /// Turns what was taken into an original, or gives its upload up.
    async fn land(&self, upload: Upload, taken: Result<Finished, Trouble>) -> Result<&'static str, Trouble> {
        let whole = taken.and_then(|part| match part.length == upload.length {
            true => Ok(part),
            false => Err(Trouble::File("it changed while it was read; try it again".to_owned())),
        });
        match whole {
            Ok(part) => {
                let landed = landing::land_or_find(&self.engine, &upload, part).await?;
                Ok(if landed.new { "copied" } else { "present" })
            }
            Err(trouble) => {
                landing::discard(&self.engine, upload.id).await?;
                Err(trouble)
            }
        }
    }

    /// Points to one file of the tree from the library.
    async fn point(&self, file: &AdoptedFile) -> Result<&'static str, Trouble> {
        let (tree, path) = (self.tree.clone(), file.path.clone());
        let read = tokio::task::spawn_blocking(move || {
            let mut from: File = tree.open(&path)?;
            let place = tree.locate(&path)?;
            let digest = hash_of(&mut from).map_err(|source| LibraryError::Io { what: "read", path: place.clone(), source })?;
            let length =
                from.metadata().map_err(|source| LibraryError::Io { what: "look at", path: place.clone(), source })?.len();
            Ok::<_, LibraryError>((digest, length, place))
        });
        let (digest, length, place) = read.await.map_err(Error::from)?.map_err(|e| Trouble::File(chain(&e)))?;
        let upload = Upload { length, ..self.upload(file) };
        landing::note(&self.engine, &upload, digest).await?;
        match self.engine.catalog.original_of(upload.person, digest).await {
            Ok(_) => Ok("present"),
            Err(CatalogError::NotFound) => {
                let landed = landing::point(&self.engine, &upload, digest, &place).await?;
                Ok(if landed.new { "pointed" } else { "present" })
            }
            Err(e) => Err(e.into()),
        }
    }

    /// Takes what waits of one archive, in one pass through it. `false`: somebody said "pause" or "stop".
    async fn archive(&self, archive: Vec<u8>) -> Result<bool> {
        let Some(kind) = archive_kind(&archive) else { return Ok(true) };
        let mut waiting = std::collections::HashMap::new();
        let mut after = Vec::new();
        loop {
            let page = self.engine.catalog.adoption_waiting(self.adoption.id, &archive, &after, PAGE as i64).await?;
            let Some(last) = page.last() else { break };
            after = last.path.clone();
            waiting.extend(page.into_iter().map(|f| (f.path.clone(), f)));
        }
        let (taking, handle) = (self.clone(), Handle::current());
        tokio::task::spawn_blocking(move || {
            let name = PathBuf::from(text(&archive));
            let mut ended: Result<bool> = Ok(true);
            let read = taking.tree.open(&archive).and_then(|file| {
                read_archive(file, kind, &name, &mut |node, mut bytes| {
                    let Some(file) = waiting.remove(&node.path) else { return true };
                    let taken = taking.entry(&handle, &file, &mut bytes);
                    ended = handle.block_on(async {
                        taking.note(&file.archive, &file.path, taken).await?;
                        taking.goes_on().await
                    });
                    matches!(ended, Ok(true))
                })
            });
            if matches!(ended, Ok(true)) {
                // What the archive promised and did not give.
                let why = read.err().map_or_else(|| "it was not found in its archive any more".to_owned(), |e| chain(&e));
                for (path, _) in waiting {
                    handle.block_on(taking.note(&archive, &path, Err(Trouble::File(why.clone()))))?;
                }
            }
            ended
        })
        .await?
    }

    fn entry(&self, handle: &Handle, file: &AdoptedFile, bytes: &mut dyn Read) -> Result<&'static str, Trouble> {
        let upload = handle.block_on(self.begin(file))?;
        let taken = take_bytes(self.engine.library.incoming(), upload.id, bytes);
        handle.block_on(self.land(upload, taken))
    }
}

/// Writes all bytes of a reader into a part.
fn take_bytes(incoming: &Incoming, id: UploadId, from: &mut dyn Read) -> Result<Finished, Trouble> {
    let ours = |e: LibraryError| Trouble::All(e.into());
    let mut writer = incoming.writer(id, 0).map_err(ours)?;
    let mut buffer = vec![0; 256 << 10];
    loop {
        match from.read(&mut buffer) {
            Ok(0) => return Ok(writer.finish()),
            Ok(n) => writer.write(&buffer[..n]).map_err(ours)?,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => {}
            Err(e) => return Err(Trouble::File(format!("it could not be read: {e}"))),
        }
    }
}
