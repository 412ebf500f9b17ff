//! Filing what is there by another plan.
//!
//! One file at a time, in steps that a kill may come between:
//!
//! | step | on the disk | in the catalogue |
//! |---|---|---|
//! | write the new path down | the old name | old path, moving to the new one |
//! | give the file its new name | both names of one file | the same |
//! | commit | both names | new path; the move is done |
//! | take the old name away | the new name | the move is over |
//!
//! At every instant the path in the catalogue is there and has the right bytes (I1, I2), and a name too many is known by the
//! move it belongs to (I3). [`settle`] puts right what a kill left between two paths, before any request is answered.

use std::sync::Arc;

use ypogeion_catalog::{refilings::ToFile, work::Job};
use ypogeion_core::{
    OriginalId, OriginalName,
    filing::{Filed, FiledPath, FilingPlan},
    kind::MediaKind,
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
    clear_old_names(app, job).await?;
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
            if let Err(e) = move_one(app, &plan, &of, Some(job.key)).await {
                // One file that cannot be moved stays where it is, and keeps no other from going.
                tracing::warn!(path = of.path, error = %chain(&e), "a file could not be filed by the new plan");
                app.catalog.move_over(job.key, of.id, Some(&chain(&e)), app.now()).await?;
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
async fn list_anew(app: &Arc<App>) -> Answer<()> {
    for store in app.catalog.stores().await? {
        app.catalog.want_ledger(store.id, app.now() + app.settings.offsite.ledger_after).await?;
    }
    Ok(())
}

async fn clear_old_names(app: &Arc<App>, job: &Job) -> Answer<()> {
    for left in app.catalog.uncleared_moves(job.key).await? {
        if left.from != left.to {
            unlink(app, &left.from, &left.to).await?;
        }
        app.catalog.move_over(job.key, left.id, None, app.now()).await?;
    }
    Ok(())
}

/// Files one original where the household's plan puts it now, because its time of capture changed.
pub async fn put_in_place(app: &Arc<App>, id: OriginalId) -> Answer<()> {
    let plan = app.catalog.house_rules().await?.filing;
    // The page after the id before this one begins with it.
    let before = OriginalId(uuid::Uuid::from_u128(id.0.as_u128().saturating_sub(1)));
    let page = app.catalog.to_file(Some(before), 1).await?;
    let Some(of) = page.into_iter().find(|of| of.id == id) else { return Ok(()) };
    move_one(app, &plan, &of, None).await?;
    list_anew(app).await
}

async fn move_one(app: &Arc<App>, plan: &FilingPlan, of: &ToFile, refiling: Option<uuid::Uuid>) -> Answer<()> {
    let Ok(from) = FiledPath::parse(&of.path) else { return Ok(()) };
    let name = OriginalName::from_device(&of.name);
    let place = filed(of, &name);
    let wanted = of.wanted.as_deref().and_then(|w| FiledPath::parse(w).ok());
    let in_place = match &wanted {
        Some(wanted) => *wanted == from,
        None => plan.agrees(&place, &from),
    };
    if !in_place {
        let choices = wanted.into_iter().chain(plan.places(&place));
        if let Some((to, _reserved)) = give_name(app, of, &from, choices).await? {
            app.catalog.moved(refiling, of.id, &to, app.now()).await?;
            unlink(app, &from, &to).await?;
        }
    }
    if let Some(refiling) = refiling {
        app.catalog.move_over(refiling, of.id, None, app.now()).await?;
    }
    Ok(())
}

/// Gives a file the first free name of `choices` beside the one it has. `None`: its present name came first.
async fn give_name(
    app: &Arc<App>,
    of: &ToFile,
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
                app.catalog.set_moving(of.id, None).await?;
                return Ok(None);
            }
            // A name that differs in case alone is this very file where case does not count; it is not worth a detour.
            if taken.contains(&to.folded()) {
                continue;
            }
            let Some(reserved) = app.reserve(to.folded()) else { continue };
            app.catalog.set_moving(of.id, Some(&to)).await?;
            let (library, old, new) = (Arc::clone(&app.library), from.clone(), to.clone());
            if tokio::task::spawn_blocking(move || library.link(&old, &new)).await?? == Publish::Done {
                return Ok(Some((to, reserved)));
            }
        }
    }
}

async fn unlink(app: &Arc<App>, extra: &FiledPath, kept: &FiledPath) -> Answer<()> {
    let (library, extra, kept) = (Arc::clone(&app.library), extra.clone(), kept.clone());
    Ok(tokio::task::spawn_blocking(move || library.unlink(&extra, &kept)).await??)
}

/// Puts right what a kill left between two paths. Run at the start, before any request is answered.
pub async fn settle(app: &Arc<App>) -> Answer<()> {
    for left in app.catalog.between_paths().await? {
        if app.library.is_there(&left.from) {
            // The new name is taken back if it was given; the re-filing gives it again.
            unlink(app, &left.to, &left.from).await?;
            app.catalog.set_moving(left.id, None).await?;
        } else if app.library.is_there(&left.to) {
            // A file system without second names: the file has the new one only.
            app.catalog.moved(None, left.id, &left.to, app.now()).await?;
        }
    }
    Ok(())
}
