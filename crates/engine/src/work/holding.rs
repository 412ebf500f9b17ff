//! What was deleted: into holding and out of it, away when its time has come, and then out of the stores.
//!
//! The catalogue says where an original should be, and [`settle`] brings its file there, by the same steps as a re-filing: at every
//! instant its path has its bytes, and a kill anywhere is settled by doing it again. [`release`] decides what goes; it only ever says so in
//! the catalogue. A file is removed by [`settle`] alone, from holding alone, after that was said. A store's copy is removed by [`remove`]
//! after the store's ledger has stopped naming it, so that no ledger ever names what is not there.

use std::{fs, sync::Arc};

use chrono::TimeDelta;
use ypogeion_catalog::{holding::ToSettle, removal::ToRemove, work::Job};
use ypogeion_core::{
    OriginalId,
    deletion::Stage,
    filing::FiledPath,
    retention::{Release, safety_stop},
    words,
};
use ypogeion_offsite::Fault;

use super::{ended::Ended, store};
use crate::{
    engine::Engine,
    error::Result,
    live::Change,
    renaming::{free_place, list_anew, relocate, unlink},
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
pub(super) async fn settle(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let id = OriginalId(job.key);
    let _moving = engine.names.moving().await;
    let Some(of) = engine.catalog.to_settle(id).await? else { return Ok(Ended::Done) };
    if let Some(other) = &of.moving_to {
        // An earlier move could not take its old name away.
        unlink(engine, other, &of.path).await?;
        engine.catalog.old_name_gone(id).await?;
    }
    match of.stage {
        Stage::Held => {
            without_derived(engine, id).await?;
            into_holding(engine, id, &of).await?;
        }
        Stage::Living => {
            // What lies in its old place by now keeps it; this one gets a number.
            if of.path.is_in_holding() && engine.is_there(&of.path).await? {
                relocate(engine, None, id, &of.path, of.was_at.numbered()).await?;
            } else if of.path.is_in_holding() {
                // It was lost there. Where it is healed to is where it belongs.
                let (place, _reserved) = free_place(engine, &of.was_at).await?;
                engine.catalog.moved(None, id, &of.path, &place, engine.now()).await?;
                engine.catalog.old_name_gone(id).await?;
            }
            engine.catalog.is_back(id).await?;
            engine.catalog.derive_one(id, engine.now()).await?;
        }
        Stage::LeavingHome => {
            without_derived(engine, id).await?;
            if let Some(path) = into_holding(engine, id, &of).await? {
                let library = Arc::clone(&engine.library);
                tokio::task::spawn_blocking(move || library.remove_held(&path)).await??;
            }
            for size in ["small", "large"] {
                // A preview that is not there was never made.
                let _ = fs::remove_file(engine.settings.preview_path(id, size));
            }
            // The same of a film that browsers played as it was.
            let _ = fs::remove_file(engine.settings.film_path(id));
            engine.catalog.forget_film(id).await?;
            engine.catalog.is_gone(id).await?;
        }
        // It has no name any more. Whatever lies where it was is another's by now.
        Stage::InStores | Stage::Gone => return Ok(Ended::Done),
    }
    list_anew(engine).await?;
    let (_, touched) = engine.catalog.last_path(id).await?;
    engine.live.changed(&[Change::from(touched)]);
    Ok(Ended::Done)
}

/// Moves a file into holding, unless it is there. Returns where it is; none: there is no file to move.
async fn into_holding(engine: &Arc<Engine>, id: OriginalId, of: &ToSettle) -> Result<Option<FiledPath>> {
    if !engine.is_there(&of.path).await? {
        return Ok(None);
    }
    if of.path.is_in_holding() {
        return Ok(Some(of.path.clone()));
    }
    relocate(engine, None, id, &of.path, of.was_at.in_holding()).await
}

/// What was made from an original does not stay behind alone.
async fn without_derived(engine: &Arc<Engine>, id: OriginalId) -> Result<()> {
    let Some(derived) = engine.catalog.derived_from(id).await? else { return Ok(()) };
    let library = Arc::clone(&engine.library);
    tokio::task::spawn_blocking(
        move || {
            if library.is_there(&derived.path)? { library.remove_derived(&derived.path) } else { Ok(()) }
        },
    )
    .await??;
    Ok(engine.catalog.forget_derived(id).await?)
}

/// Lets go of what has waited long enough, as far as the safety stop allows.
pub(super) async fn release(engine: &Arc<Engine>) -> Result<Ended> {
    let now = engine.now();
    let rule = engine.catalog.retention().await?;
    let leaving = engine.catalog.leaving(now).await?;
    let held_back = safety_stop(&leaving, rule.safety_stop_percent);
    let release = Release::by(held_back);
    let mut gone = 0;
    loop {
        // What the keeper has looked at goes in any case.
        match engine.catalog.remove_due(release, now, rule.offsite_until(now), BATCH).await? {
            0 => break,
            some => gone += some,
        }
    }
    if gone > 0 {
        let line = format!("removed {}, whose time was over", words::counted(gone, "deleted file"));
        engine.catalog.write_record(now, "Ypogeion", &line).await?;
    }
    if let Err(held_back) = held_back {
        tracing::warn!(
            originals = held_back.due.count,
            percent = held_back.percent,
            "the safety stop keeps what would be removed"
        );
    }
    engine.live.changed(&[Change::Library, Change::Overview]);
    match engine.catalog.next_leaving().await? {
        // Nothing in holding has an end: whoever deletes something puts this down again.
        None => Ok(Ended::Done),
        // Held by the safety stop: the keeper's look puts this down again.
        Some(next) if next <= now => Ok(Ended::Later(now + LOOK_AGAIN)),
        Some(next) => Ok(Ended::Later(next.min(now + LOOK_AGAIN))),
    }
}

/// Removes the copy of an original that has gone from a store.
pub(super) async fn remove(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (store, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let (name, digest) = match engine.catalog.begin_removal(OriginalId(job.key), store.id).await? {
        ToRemove::Nothing => return Ok(Ended::Done),
        ToRemove::AfterLedger => {
            engine.catalog.want_ledger(store.id, engine.now()).await?;
            return Ok(Ended::Later(engine.now() + AWAIT_LEDGER));
        }
        ToRemove::Object { name, digest } => (name, digest),
    };
    let kept = |why: &str| {
        Ended::NotYet(engine.now() + ASK_AGAIN, format!("{} keeps a copy of something deleted: {why}", store.address.name))
    };
    match replica.store.remove(&name).await {
        Ok(true) => {}
        Ok(false) => return Ok(kept("it says that it was removed, and has it still; it may be locked, or slow to tell")),
        // Keys that may only add are a good idea, and so is a lock. Neither is a reason to send no more copies there.
        Err(Fault::Refused(why)) => return Ok(kept(&format!("{why}, or its time of retention is not over"))),
        Err(fault) => return store::note_fault(engine, &store, job, fault).await,
    }
    engine.catalog.removed(store.id, digest, engine.now()).await?;
    engine.catalog.store_well(store.id, engine.now()).await?;
    engine.live.changed(&[Change::Offsite]);
    Ok(Ended::Done)
}
