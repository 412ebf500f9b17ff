//! Filing what is there by another plan.
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

use ypogeion_catalog::{refilings::ToFile, work::Job};
use ypogeion_core::{
    Digest, OriginalId, OriginalName,
    filing::{Filed, FiledPath, FilingPlan},
    kind::MediaKind,
    layers::Outcome,
};
use ypogeion_library::Publish;
use ypogeion_wire::work::LiveEvent;

use super::Ended;
use crate::{
    app::{App, Reserved},
    failure::{Answer, chain},
};

/// Moves between two looks at whether somebody said "pause".
const BATCH: i64 = 50;
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

pub(super) async fn refile(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let Some(refiling) = app.catalog.refilings(Some(job.key), 1).await?.pop() else {
        // The work of one original, whose time was corrected.
        put_in_place(app, OriginalId(job.key)).await?;
        return Ok(Ended::Done);
    };
    let Ok(plan) = FilingPlan::parse(&refiling.plan) else {
        return Ok(Ended::GivenUp("the filing plan cannot be used any more".to_owned()));
    };
    loop {
        let state = app.catalog.refilings(Some(job.key), 1).await?.pop().map_or_else(String::new, |r| r.state);
        if state != "running" {
            // Paused or stopped: going on puts the work down again.
            return Ok(Ended::Done);
        }
        let batch = app.catalog.next_moves(job.key, BATCH).await?;
        if batch.is_empty() {
            break;
        }
        for of in batch {
            if let Err(e) = move_one(app, &plan, of.id, of.wanted.as_deref(), Some(job.key)).await {
                // One file that cannot be moved stays where it is, and keeps no other from going.
                tracing::warn!(path = of.path, error = %chain(&e), "a file could not be filed by the new plan");
                app.catalog.move_done(job.key, of.id, Some(&chain(&e)), app.now()).await?;
            }
        }
        app.live.changed(&[LiveEvent::Library]);
    }
    if app.catalog.set_refiling_state(job.key, &["running"], "done", app.now()).await? {
        list_anew(app).await?;
        let what = format!("filed the library by {}", refiling.plan);
        app.catalog.write_record(app.now(), &refiling.made_by, &what).await?;
    }
    app.live.changed(&[LiveEvent::Library, LiveEvent::Work]);
    Ok(Ended::Done)
}

/// The ledgers say where everything is now.
pub(super) async fn list_anew(app: &Arc<App>) -> Answer<()> {
    for store in app.catalog.stores().await? {
        app.catalog.want_ledger(store.id, app.now() + app.settings.offsite.ledger_after).await?;
    }
    Ok(())
}

/// Files one original where the household's plan puts it now, because its time of capture changed.
async fn put_in_place(app: &Arc<App>, id: OriginalId) -> Answer<()> {
    let plan = app.catalog.house_rules().await?.filing;
    move_one(app, &plan, id, None, None).await?;
    list_anew(app).await
}

async fn move_one(
    app: &Arc<App>,
    plan: &FilingPlan,
    id: OriginalId,
    wanted: Option<&str>,
    refiling: Option<uuid::Uuid>,
) -> Answer<()> {
    let _moving = app.moves.lock().await;
    // Looked at now, not when the list was made: it may have been deleted, or taken back, since.
    let Some(of) = app.catalog.one_to_file(id).await? else {
        return match refiling {
            Some(refiling) => Ok(app.catalog.move_done(refiling, id, None, app.now()).await?),
            None => Ok(()),
        };
    };
    let Ok(from) = FiledPath::parse(&of.path) else { return Ok(()) };
    if let Some(other) = of.moving_to.as_deref().and_then(|p| FiledPath::parse(p).ok()) {
        // An earlier move could not take its old name away.
        unlink(app, &other, &from).await?;
    }
    let name = OriginalName::from_device(&of.name);
    let place = filed(&of, &name);
    let wanted = wanted.and_then(|w| FiledPath::parse(w).ok());
    let in_place = match &wanted {
        Some(wanted) => *wanted == from,
        None => plan.agrees(&place, &from),
    };
    if !in_place {
        let choices = wanted.into_iter().chain(plan.places(&place));
        if relocate(app, refiling, id, &from, choices).await?.is_some() {
            // What was made from it lies beside it.
            return Ok(app.catalog.derive_one(id, app.now()).await?);
        }
    }
    match refiling {
        Some(refiling) => Ok(app.catalog.move_done(refiling, id, None, app.now()).await?),
        None => Ok(()),
    }
}

/// Gives an original the first free name of `choices` in the place of the one it has, by the steps above. `None`: its present name came
/// first. The caller holds [`App::moves`].
pub(super) async fn relocate(
    app: &Arc<App>,
    refiling: Option<uuid::Uuid>,
    id: OriginalId,
    from: &FiledPath,
    choices: impl Iterator<Item = FiledPath>,
) -> Answer<Option<FiledPath>> {
    let Some((to, _reserved)) = give_name(app, id, from, choices).await? else { return Ok(None) };
    app.catalog.moved(refiling, id, from, &to, app.now()).await?;
    unlink(app, from, &to).await?;
    app.catalog.old_name_gone(id).await?;
    Ok(Some(to))
}

/// Gives a file the first free name of `choices` beside the one it has. `None`: its present name came first.
async fn give_name(
    app: &Arc<App>,
    id: OriginalId,
    from: &FiledPath,
    mut choices: impl Iterator<Item = FiledPath>,
) -> Answer<Option<(FiledPath, Reserved)>> {
    loop {
        let some: Vec<FiledPath> = choices.by_ref().take(NAMES_AT_ONCE).collect();
        if some.is_empty() {
            return Ok(None);
        }
        let taken = app.catalog.taken_paths(&some).await?;
        for to in some {
            if to == *from {
                app.catalog.old_name_gone(id).await?;
                return Ok(None);
            }
            // A name that differs in case alone is this very file where case does not count; it is not worth a detour.
            if taken.contains(&to.folded()) {
                continue;
            }
            let Some(reserved) = app.reserve(to.folded()) else { continue };
            app.catalog.set_moving(id, &to).await?;
            let (library, old, new) = (Arc::clone(&app.library), from.clone(), to.clone());
            if tokio::task::spawn_blocking(move || library.link(&old, &new)).await?? == Publish::Done {
                return Ok(Some((to, reserved)));
            }
        }
    }
}

pub(super) async fn unlink(app: &Arc<App>, extra: &FiledPath, kept: &FiledPath) -> Answer<()> {
    let (library, extra, kept) = (Arc::clone(&app.library), extra.clone(), kept.clone());
    Ok(tokio::task::spawn_blocking(move || library.unlink(&extra, &kept)).await??)
}

/// Whether the bytes of an original are at this place. Read to the end: it is about to count as theirs.
async fn holds(app: &Arc<App>, path: &FiledPath, digest: Digest) -> Answer<bool> {
    let (library, path) = (Arc::clone(&app.library), path.clone());
    let (outcome, _) = tokio::task::spawn_blocking(move || library.reread(&path, digest)).await??;
    Ok(outcome == Outcome::Right)
}

/// Puts right what a kill left between two paths. Run at the start, before any request is answered and before uploads are
/// settled: a name too many must not be taken for a file that has just arrived.
pub async fn settle(app: &Arc<App>) -> Answer<()> {
    for between in app.catalog.between_paths().await? {
        if app.library.is_there(&between.path)? {
            // A new name that was given goes, and the re-filing gives it again; or an old one that was to go anyway.
            unlink(app, &between.other, &between.path).await?;
        } else if holds(app, &between.other, between.digest).await? {
            // A file system without second names: the file has the new one only.
            app.catalog.moved(None, between.id, &between.path, &between.other, app.now()).await?;
        } else {
            // It is at neither: a loss, which is not settled by forgetting where it might be.
            continue;
        }
        app.catalog.old_name_gone(between.id).await?;
    }
    Ok(())
}
