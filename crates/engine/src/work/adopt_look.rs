//! The look through a tree that is to be adopted: everything in it, what is to become of it, and what of it is here already. It changes nothing.

use std::{
    collections::HashSet,
    path::{Path, PathBuf},
    sync::Arc,
};

use chrono::{DateTime, Utc};
use tokio::sync::mpsc;
use ypogeion_catalog::adoptions::{AdoptedFile, Adoption};
use ypogeion_core::{
    Digest,
    adopt::{self, ArchiveKind, Found, What},
    offer::Known,
    state::AdoptionState,
};
use ypogeion_library::{
    LibraryError,
    shelf::hash_of,
    tree::{Node, Tree, read_archive},
};

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    live::Change,
};

/// Files put down, or asked for, together.
pub(super) const PAGE: usize = 500;

/// The tree of an adoption, and the one archive in it that is meant, if it is not the whole folder.
pub(super) fn tree_of(adoption: &Adoption) -> Result<(Tree, Option<PathBuf>)> {
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

/// A path as text, for people.
pub(super) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// What kind of archive a path names, if it is one.
pub(super) fn archive_kind(path: &[u8]) -> Option<ArchiveKind> {
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
pub(super) async fn look(engine: &Arc<Engine>, adoption: &Adoption) -> Result<()> {
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
        engine.live.changed(&[Change::Work]);
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
        LibraryError::InUse(path) | LibraryError::Away { path, .. } | LibraryError::Elsewhere { path, .. } => path.as_path(),
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
