//! Filing what is there by another plan.
//!
//! One file at a time, in the steps of [`crate::renaming`].

use std::sync::Arc;

use ypogeion_catalog::work::Job;
use ypogeion_core::{
    OriginalId, OriginalName,
    filing::{FiledPath, FilingPlan},
    state::RefilingState,
};

use super::ended::Ended;
use crate::{
    engine::Engine,
    error::{Result, chain},
    live::Change,
    renaming::{filed, list_anew, relocate, unlink},
};

/// Moves between two looks at whether somebody said "pause".
const BATCH: i64 = 50;

pub(super) async fn refile(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let Some(refiling) = engine.catalog.refilings(Some(job.key), 1).await?.pop() else {
        // The work of one original, whose time was corrected.
        put_in_place(engine, OriginalId(job.key)).await?;
        return Ok(Ended::Done);
    };
    let Ok(plan) = FilingPlan::parse(&refiling.plan) else {
        return Ok(Ended::GivenUp("the filing plan cannot be used any more".to_owned()));
    };
    loop {
        let state = engine.catalog.refilings(Some(job.key), 1).await?.pop().map(|r| r.state);
        if state != Some(RefilingState::Running) {
            // Paused or stopped: going on puts the work down again.
            return Ok(Ended::Done);
        }
        let batch = engine.catalog.next_moves(job.key, BATCH).await?;
        if batch.is_empty() {
            break;
        }
        for of in batch {
            if let Err(e) = move_one(engine, &plan, of.id, of.wanted.as_deref(), Some(job.key)).await {
                // One file that cannot be moved stays where it is, and keeps no other from going.
                tracing::warn!(path = of.path, error = %chain(&e), "a file could not be filed by the new plan");
                engine.catalog.move_done(job.key, of.id, Some(&chain(&e)), engine.now()).await?;
            }
        }
        engine.live.changed(&[Change::Library]);
    }
    if engine.catalog.set_refiling_state(job.key, &[RefilingState::Running], RefilingState::Done, engine.now()).await? {
        list_anew(engine).await?;
        let what = format!("filed the library by {}", refiling.plan);
        engine.catalog.write_record(engine.now(), &refiling.made_by, &what).await?;
    }
    engine.live.changed(&[Change::Library, Change::Work]);
    Ok(Ended::Done)
}

/// Files one original where the household's plan puts it now, because its time of capture changed.
async fn put_in_place(engine: &Arc<Engine>, id: OriginalId) -> Result<()> {
    let plan = engine.catalog.house_rules().await?.filing;
    move_one(engine, &plan, id, None, None).await?;
    list_anew(engine).await
}

async fn move_one(
    engine: &Arc<Engine>,
    plan: &FilingPlan,
    id: OriginalId,
    wanted: Option<&str>,
    refiling: Option<uuid::Uuid>,
) -> Result<()> {
    let _moving = engine.names.moving().await;
    // Looked at now, not when the list was made: it may have been deleted, or taken back, since.
    let Some(of) = engine.catalog.one_to_file(id).await? else {
        return match refiling {
            Some(refiling) => Ok(engine.catalog.move_done(refiling, id, None, engine.now()).await?),
            None => Ok(()),
        };
    };
    let Ok(from) = FiledPath::parse(&of.path) else { return Ok(()) };
    if let Some(other) = of.moving_to.as_deref().and_then(|p| FiledPath::parse(p).ok()) {
        // An earlier move could not take its old name away.
        unlink(engine, &other, &from).await?;
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
        if relocate(engine, refiling, id, &from, choices).await?.is_some() {
            // What was made from it lies beside it.
            return Ok(engine.catalog.derive_one(id, engine.now()).await?);
        }
    }
    match refiling {
        Some(refiling) => Ok(engine.catalog.move_done(refiling, id, None, engine.now()).await?),
        None => Ok(()),
    }
}
