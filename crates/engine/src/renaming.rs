//! Giving an original another name.
//!
//! One file at a time, in steps that a kill may come between:
//!
//! | step | on the disk | in the catalogue |
//! |---|---|---|
//! | write the new path down | the old name | old path, moving to the new one |
//! | give the file its new name | both names of one file | the same |
//! | commit | both names | new path; the other name is the old one |
//! | take the old name away | the new name | the same |
//! | forget the old name | the new name | new path |
//!
//! At every instant the path in the catalogue is there and has the right bytes (I1, I2), and a name too many is written down
//! beside it (I3). So whatever a kill left, [`settle`] puts it right in one way, before any request is answered: the path counts,
//! and the other name goes.

use std::sync::Arc;

use ypogeion_catalog::refilings::ToFile;
use ypogeion_core::{
    Digest, OriginalId, OriginalName,
    filing::{Filed, FiledPath},
    kind::MediaKind,
    layers::Outcome,
};
use ypogeion_library::Publish;

use crate::{
    engine::Engine,
    error::{Error, Result},
    filed_names::Reserved,
};

/// Names tried together against the catalogue.
const NAMES_AT_ONCE: usize = 16;

/// What a plan is asked about an original.
pub fn filed<'a>(of: &'a ToFile, name: &'a OriginalName) -> Filed<'a> {
    Filed {
        member_folder: &of.member_folder,
        taken: of.taken_local,
        name,
        device: &of.device,
        album: &of.source,
        camera: &of.camera,
        kind: MediaKind::from_word(&of.kind),
    }
}

/// The ledgers say where everything is now.
pub(crate) async fn list_anew(engine: &Engine) -> Result<()> {
    for store in engine.catalog.stores().await? {
        engine.catalog.want_ledger(store.id, engine.now() + engine.settings.offsite.ledger_after).await?;
    }
    Ok(())
}

/// The first free place for an original that was at `was_at`.
pub async fn free_place(engine: &Engine, was_at: &FiledPath) -> Result<(FiledPath, Reserved)> {
    for place in was_at.clone().numbered() {
        if engine.catalog.taken_paths(std::slice::from_ref(&place)).await?.is_empty()
            && !engine.is_there(&place).await?
            && let Some(reserved) = engine.names.reserve(&place)
        {
            return Ok((place, reserved));
        }
    }
    Err(Error::internal("No free name could be found for this file."))
}

/// Gives an original the first free name of `choices` in the place of the one it has, by the steps above. `None`: its present name came
/// first. The caller holds the right to move ([`crate::filed_names::FiledNames::moving`]).
pub(crate) async fn relocate(
    engine: &Arc<Engine>,
    refiling: Option<uuid::Uuid>,
    id: OriginalId,
    from: &FiledPath,
    choices: impl Iterator<Item = FiledPath>,
) -> Result<Option<FiledPath>> {
    let Some((to, _reserved)) = give_name(engine, id, from, choices).await? else { return Ok(None) };
    engine.catalog.moved(refiling, id, from, &to, engine.now()).await?;
    unlink(engine, from, &to).await?;
    engine.catalog.old_name_gone(id).await?;
    Ok(Some(to))
}

/// Gives a file the first free name of `choices` beside the one it has. `None`: its present name came first.
async fn give_name(
    engine: &Arc<Engine>,
    id: OriginalId,
    from: &FiledPath,
    mut choices: impl Iterator<Item = FiledPath>,
) -> Result<Option<(FiledPath, Reserved)>> {
    loop {
        let some: Vec<FiledPath> = choices.by_ref().take(NAMES_AT_ONCE).collect();
        if some.is_empty() {
            return Ok(None);
        }
        let taken = engine.catalog.taken_paths(&some).await?;
        for to in some {
            if to == *from {
                engine.catalog.old_name_gone(id).await?;
                return Ok(None);
            }
            // A name that differs in case alone is this very file where case does not count; it is not worth a detour.
            if taken.contains(&to.folded()) {
                continue;
            }
            let Some(reserved) = engine.names.reserve(&to) else { continue };
            engine.catalog.set_moving(id, &to).await?;
            let (library, old, new) = (Arc::clone(&engine.library), from.clone(), to.clone());
            if tokio::task::spawn_blocking(move || library.link(&old, &new)).await?? == Publish::Done {
                return Ok(Some((to, reserved)));
            }
        }
    }
}

pub(crate) async fn unlink(engine: &Arc<Engine>, extra: &FiledPath, kept: &FiledPath) -> Result<()> {
    let (library, extra, kept) = (Arc::clone(&engine.library), extra.clone(), kept.clone());
    Ok(tokio::task::spawn_blocking(move || library.unlink(&extra, &kept)).await??)
}

/// Whether the bytes of an original are at this place. Read to the end: it is about to count as theirs.
async fn holds(engine: &Arc<Engine>, path: &FiledPath, digest: Digest) -> Result<bool> {
    let (library, path) = (Arc::clone(&engine.library), path.clone());
    let (outcome, _) = tokio::task::spawn_blocking(move || library.reread(&path, digest)).await??;
    Ok(outcome == Outcome::Right)
}

/// Puts right what a kill left between two paths. Run at the start, before any request is answered and before uploads are
/// settled: a name too many must not be taken for a file that has just arrived.
pub async fn settle(engine: &Arc<Engine>) -> Result<()> {
    for between in engine.catalog.interrupted_moves().await? {
        if engine.is_there(&between.path).await? {
            // A new name that was given goes, and the re-filing gives it again; or an old one that was to go anyway.
            unlink(engine, &between.other, &between.path).await?;
        } else if holds(engine, &between.other, between.digest).await? {
            // A file system without second names: the file has the new one only.
            engine.catalog.moved(None, between.id, &between.path, &between.other, engine.now()).await?;
        } else {
            // It is at neither: a loss, which is not settled by forgetting where it might be.
            continue;
        }
        engine.catalog.old_name_gone(between.id).await?;
    }
    Ok(())
}
