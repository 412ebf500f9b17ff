//! Taking over what lies elsewhere: a folder tree, and the archives in it.
//!
//! First a look, which changes nothing: everything found is put down with what is to become of it ([`super::adopt_look`]). Then, once the
//! keeper has seen that plan and said so, file by file ([`run`]), each landing like every other original. A kill anywhere costs the
//! file that was under way: what waits is in the catalogue, and a file that is taken twice is here once.
//!
//! Nothing in the tree is ever written, moved or removed. "In place" means that the library points to the file where it is;
//! what is in an archive cannot be pointed to and is copied.

use std::{
    fs::File,
    io::Read,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use futures_util::{StreamExt, stream};
use tokio::runtime::Handle;
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    adoptions::{AdoptedFile, Adoption},
    uploads::Upload,
    work::Job,
};
use ypogeion_core::{DeviceId, OriginalName, UploadId, adopt, name::source_name, state::AdoptionState};
use ypogeion_library::{
    Finished, Incoming, LibraryError,
    shelf::hash_of,
    tree::{Tree, read_archive},
};

use super::{
    adopt_look::{PAGE, archive_kind, look, text, tree_of},
    ended::Ended,
};
use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    landing::{self, Landed},
    live::Change,
};

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
    engine.live.changed(&[Change::Library, Change::Devices, Change::Work]);
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
        self.engine.live.changed(&[Change::Work]);
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
            brought: None,
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
                Ok(if self.took(&upload, landed).await? { "copied" } else { "present" })
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
        let landed = landing::point(&self.engine, &upload, digest, &place).await?;
        Ok(if self.took(&upload, landed).await? { "pointed" } else { "present" })
    }

    /// Whether this adoption took the file: now, or a moment ago, when the disk went before that could be noted.
    async fn took(&self, upload: &Upload, landed: Landed) -> Result<bool, Trouble> {
        if landed.new {
            return Ok(true);
        }
        let there = self.engine.catalog.original(landed.id, None).await?;
        let by_us = there.device == Some(self.device) && there.landed_at >= self.adoption.began_at;
        // Another file of the tree with the same bytes has another name, or another folder.
        Ok(by_us && there.source == upload.source && there.name == upload.name)
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
