//! What was deleted: into holding and out of it, away when its time has come, and then out of the stores.
//!
//! The catalogue says where an original should be, and [`settle`] brings its file there, by the same steps as a re-filing: at every
//! instant its path has its bytes, and a kill anywhere is settled by doing it again. [`release`] decides what goes; it only ever says so in
//! the catalogue. A file is removed by [`settle`] alone, from holding alone, after that was said. A store's copy is removed by [`remove`]
//! after the store's ledger has stopped naming it, so that no ledger ever names what is not there.

use std::{fs, sync::Arc};

use chrono::TimeDelta;
use ypogeion_catalog::{
    holding::{Removal, ToSettle, Wanted},
    work::Job,
};
use ypogeion_core::{OriginalId, filing::FiledPath, retention::brake, words};
use ypogeion_offsite::Fault;
use ypogeion_wire::{problem::ProblemType, work::LiveEvent};

use super::{
    Ended, offsite,
    refile::{list_anew, relocate, unlink},
};
use crate::{
    app::{App, Reserved},
    failure::{Answer, Failure},
};

/// Originals that are let go in one step.
const BATCH: i64 = 500;
/// The longest that nobody looks at what is due, so that a clock that was wrong does no harm.
const LOOK_AGAIN: TimeDelta = TimeDelta::days(1);
/// A store that does not remove what it should is asked again after this.
const ASK_AGAIN: TimeDelta = TimeDelta::days(1);
/// A ledger that still names what is to be removed is waited for.
const AWAIT_LEDGER: TimeDelta = TimeDelta::seconds(30);

/// Brings an original to where it should be.
pub(super) async fn settle(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let id = OriginalId(job.key);
    let _moving = app.moves.lock().await;
    let Some(of) = app.catalog.to_settle(id).await? else { return Ok(Ended::Done) };
    if let Some(other) = &of.moving_to {
        // An earlier move could not take its old name away.
        unlink(app, other, &of.path).await?;
        app.catalog.old_name_gone(id).await?;
    }
    match of.wanted {
        Wanted::Held => {
            without_derived(app, id).await?;
            into_holding(app, id, &of).await?;
        }
        Wanted::Filed => {
            // What lies in its old place by now keeps it; this one gets a number.
            if of.path.is_in_holding() && app.library.is_there(&of.path)? {
                relocate(app, None, id, &of.path, of.was_at.numbered()).await?;
            } else if of.path.is_in_holding() {
                // It was lost there. Where it is healed to is where it belongs.
                let (place, _reserved) = free_place(app, &of.was_at).await?;
                app.catalog.moved(None, id, &of.path, &place, app.now()).await?;
                app.catalog.old_name_gone(id).await?;
            }
            app.catalog.is_back(id).await?;
            app.catalog.derive_one(id, app.now()).await?;
        }
        Wanted::Gone => {
            without_derived(app, id).await?;
            if let Some(path) = into_holding(app, id, &of).await? {
                let library = Arc::clone(&app.library);
                tokio::task::spawn_blocking(move || library.let_go(&path)).await??;
            }
            for size in ["small", "large"] {
                // A preview that is not there was never made.
                let _ = fs::remove_file(app.preview_path(id, size));
            }
            app.catalog.is_gone(id).await?;
        }
    }
    list_anew(app).await?;
    app.live.changed(&[LiveEvent::Library, LiveEvent::Overview]);
    Ok(Ended::Done)
}

/// Moves a file into holding, unless it is there. Returns where it is; none: there is no file to move.
async fn into_holding(app: &Arc<App>, id: OriginalId, of: &ToSettle) -> Answer<Option<FiledPath>> {
    if !app.library.is_there(&of.path)? {
        return Ok(None);
    }
    if of.path.is_in_holding() {
        return Ok(Some(of.path.clone()));
    }
    relocate(app, None, id, &of.path, of.was_at.in_holding()).await
}

/// The first free place for an original that was at `was_at`.
pub async fn free_place(app: &Arc<App>, was_at: &FiledPath) -> Answer<(FiledPath, Reserved)> {
    for place in was_at.clone().numbered() {
        if app.catalog.taken_paths(std::slice::from_ref(&place)).await?.is_empty()
            && !app.library.is_there(&place)?
            && let Some(reserved) = app.reserve(place.folded())
        {
            return Ok((place, reserved));
        }
    }
    Err(Failure::new(ProblemType::Internal, "No free name could be found for this file."))
}

/// What was made from an original does not stay behind alone.
async fn without_derived(app: &Arc<App>, id: OriginalId) -> Answer<()> {
    let Some(derived) = app.catalog.derived_from(id).await? else { return Ok(()) };
    let library = Arc::clone(&app.library);
    tokio::task::spawn_blocking(
        move || {
            if library.is_there(&derived.path)? { library.remove_derived(&derived.path) } else { Ok(()) }
        },
    )
    .await??;
    Ok(app.catalog.forget_derived(id).await?)
}

/// Lets go of what has waited long enough, as far as the brake allows.
pub(super) async fn release(app: &Arc<App>) -> Answer<Ended> {
    let now = app.now();
    let rule = app.catalog.retention().await?;
    let leaving = app.catalog.leaving(now).await?;
    let braked = brake(&leaving, rule.brake_percent).err();
    let mut gone = 0;
    loop {
        // What the keeper has looked at goes in any case.
        match app.catalog.let_go(braked.is_none(), now, rule.offsite_until(now), BATCH).await? {
            0 => break,
            some => gone += some,
        }
    }
    if gone > 0 {
        let line = format!("removed {}, whose time was over", words::counted(gone, "deleted file"));
        app.catalog.write_record(now, "Ypogeion", &line).await?;
    }
    if let Some(braked) = braked {
        tracing::warn!(originals = braked.due.count, percent = braked.percent, "the safety stop keeps what would be removed");
    }
    app.live.changed(&[LiveEvent::Library, LiveEvent::Overview]);
    match app.catalog.next_leaving().await? {
        // Nothing in holding has an end: whoever deletes something puts this down again.
        None => Ok(Ended::Done),
        // Held by the brake: the keeper's look puts this down again.
        Some(next) if next <= now => Ok(Ended::Later(now + LOOK_AGAIN)),
        Some(next) => Ok(Ended::Later(next.min(now + LOOK_AGAIN))),
    }
}

/// Removes the copy of an original that has gone from a store.
pub(super) async fn remove(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let (store, replica) = match offsite::open(app, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let (name, digest) = match app.catalog.begin_removal(OriginalId(job.key), store.id).await? {
        Removal::Nothing => return Ok(Ended::Done),
        Removal::AfterLedger => {
            app.catalog.want_ledger(store.id, app.now()).await?;
            return Ok(Ended::Later(app.now() + AWAIT_LEDGER));
        }
        Removal::Object { name, digest } => (name, digest),
    };
    let kept = |why: &str| {
        Ended::NotYet(app.now() + ASK_AGAIN, format!("{} keeps a copy of something deleted: {why}", store.address.name))
    };
    match replica.store.remove(&name).await {
        Ok(true) => {}
        Ok(false) => return Ok(kept("it says that it was removed, and has it still; it may be locked, or slow to tell")),
        // Keys that may only add are a good idea, and so is a lock. Neither is a reason to send no more copies there.
        Err(Fault::Refused(why)) => return Ok(kept(&format!("{why}, or its time of retention is not over"))),
        Err(fault) => return offsite::note_fault(app, &store, job, fault).await,
    }
    app.catalog.removed(store.id, digest, app.now()).await?;
    app.catalog.store_well(store.id, app.now()).await?;
    app.live.changed(&[LiveEvent::Offsite]);
    Ok(Ended::Done)
}
