//! The store of a piece of work: opened, and what becomes of it when it fails.

use std::sync::Arc;

use chrono::{Local, TimeDelta};
use ypogeion_catalog::{CatalogError, stores::StoreRow, work::Job};
use ypogeion_core::{retry, window::Pace};
use ypogeion_offsite::{Fault, Replica, layout::ReplicaError};

use super::ended::{Broken, Ended};
use crate::{
    engine::Engine,
    error::{Result, chain},
    live::Change,
    secrets,
};

/// A disk that is away is looked for this often.
const LOOK_FOR_DISK: TimeDelta = TimeDelta::minutes(2);

/// What needs the key of the recovery kit is tried again after this, and when one is lent.
const AWAIT_KEY: TimeDelta = TimeDelta::hours(1);

/// The store of a piece of work, opened. `Err`: how the work ends if it cannot be.
pub(super) async fn open(engine: &Arc<Engine>, job: &Job) -> Result<Result<(StoreRow, Replica), Ended>> {
    let Some(id) = job.store else { return Ok(Err(Ended::Done)) };
    let row = match engine.catalog.store(id).await {
        Err(CatalogError::NotFound) => return Ok(Err(Ended::Done)),
        other => other?,
    };
    // A clock on the wall of this house: that is what its keeper had in mind.
    let local = Local::now();
    if row.week.at(local.naive_local()) == Pace::Rest {
        let until = row.week.change_after(local.naive_local()).map_or(TimeDelta::hours(1), |c| c - local.naive_local());
        engine.catalog.store_rests(&row, engine.now() + until).await?;
        return Ok(Err(Ended::Waits));
    }
    match engine.connections.replica(&row, engine.now()).await {
        Ok(replica) => Ok(Ok((row, replica))),
        Err(ReplicaError::Store(fault)) => Ok(Err(note_fault(engine, &row, job, fault).await?)),
        Err(e) => {
            stop(engine, &row, &e.to_string()).await?;
            Ok(Err(Ended::Waits))
        }
    }
}

async fn stop(engine: &Arc<Engine>, store: &StoreRow, reason: &str) -> Result<()> {
    tracing::warn!(store = store.address.name, reason, "a store takes no more copies");
    engine.connections.forget_replica(store.id);
    engine.catalog.store_stopped(store.id, reason).await?;
    engine
        .catalog
        .write_record(engine.now(), "Ypogeion", &format!("stopped sending to {}: {reason}", store.address.name))
        .await?;
    engine.live.changed(&[Change::Offsite]);
    Ok(())
}

/// What becomes of work that its store, or the house, did not let go on.
pub(super) async fn note_broken(engine: &Arc<Engine>, store: &StoreRow, job: &Job, broken: Broken) -> Result<Ended> {
    match broken {
        Broken::Store(fault) => note_fault(engine, store, job, fault).await,
        Broken::House(e) => Err(e),
    }
}

/// A fault of the store: one that may pass makes the whole store wait, one that does not stops it.
pub(super) async fn note_fault(engine: &Arc<Engine>, store: &StoreRow, job: &Job, fault: Fault) -> Result<Ended> {
    match fault {
        Fault::Refused(reason) => {
            stop(engine, store, &reason.to_string()).await?;
            Ok(Ended::Waits)
        }
        Fault::Home(e) => {
            let due = engine.now() + retry::wait(job.attempts, secrets::chance());
            Ok(Ended::Again(due, format!("the home disk could not be read or written: {e}")))
        }
        Fault::Locked => Ok(Ended::NotYet(engine.now() + AWAIT_KEY, chain(&fault))),
        Fault::Away(_) => {
            // Nobody's fault, and nothing that more patience would mend: looked for now and then.
            let now = engine.now();
            engine.connections.forget_replica(store.id);
            engine.catalog.store_failing(store.id, &fault.to_string(), now, now + LOOK_FOR_DISK).await?;
            engine.live.changed(&[Change::Offsite]);
            Ok(Ended::Waits)
        }
        Fault::Missing(_) | Fault::Passing(_) | Fault::Disorder(_) => {
            let reason = fault.to_string();
            tracing::info!(store = store.address.name, reason, "a store failed and will be tried again");
            let now = engine.now();
            engine.connections.send_failed(store.id);
            // As long as the store asks for, if it does; and never all at once when it is over.
            let asked = engine.connections.asked_to_wait(store.id).unwrap_or_default();
            let wait = retry::wait(store.faults + 1, secrets::chance()).max(asked);
            engine.catalog.store_failing(store.id, &reason, now, now + wait).await?;
            engine.live.changed(&[Change::Offsite]);
            // This piece goes behind the others, so that one that fails always does not keep all from going.
            Ok(Ended::Waits)
        }
    }
}
