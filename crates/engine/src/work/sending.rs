//! Sending originals to the stores, and reading them back.

use std::sync::Arc;

use chrono::TimeDelta;
use ypogeion_catalog::{CatalogError, originals::OriginalRow, stores::StoreRow, work::Job};
use ypogeion_core::{
    OriginalId,
    layers::{Act, Outcome, Place},
    object::readable_name,
    retry,
};
use ypogeion_offsite::{
    Replica,
    replicate::{SendError, send},
    spool,
};

use super::{
    checks,
    ended::Ended,
    store::{note_fault, open},
};
use crate::{
    at_home,
    engine::Engine,
    error::{Result, chain},
    evidence::note,
    live::{Change, changed, each},
    secrets,
};

/// The store of a piece of work, opened, with the original that it is about.
async fn open_with_original(engine: &Arc<Engine>, job: &Job) -> Result<Result<(OriginalRow, StoreRow, Replica), Ended>> {
    let row = match engine.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Err(Ended::Done)),
        other => other?,
    };
    Ok(open(engine, job).await?.map(|(store, replica)| (row, store, replica)))
}

/// Sends one original to one store.
pub(super) async fn replicate(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (row, store, replica) = match open_with_original(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let (object, epoch) = match engine.catalog.object_of_epoch(store.id, row.digest).await? {
        // Another member has the same bytes, or a kill came between the confirmation and the end of the work.
        Some(object) => object,
        None if engine.catalog.is_leaving(store.id, row.digest).await? => {
            // The same bytes are just being removed there: they are sent after that, under the same name.
            return Ok(Ended::Later(engine.now() + TimeDelta::seconds(5)));
        }
        None => {
            let epoch = replica.keys.epoch();
            let name = if replica.keys.is_plain() {
                readable_name(&row.path, row.taken_local, &row.digest)
            } else {
                engine.household.name_key.object_name(&row.digest, epoch)
            };
            let (Some(home), _) = at_home::find(engine, row.id, row.path.clone()).await? else {
                return damaged(engine, row.id, row.digest, None).await;
            };
            match send(&replica, home, row.digest, &name, &engine.settings.spool_of(store.id)).await {
                Ok(object) => (object, epoch),
                Err(SendError::Store(fault)) => return note_fault(engine, &store, job, fault).await,
                Err(SendError::Rotten { found }) => return damaged(engine, row.id, row.digest, Some(found)).await,
                Err(e) => {
                    let due = engine.now() + retry::wait(job.attempts, secrets::chance());
                    return Ok(Ended::Again(due, chain(&e)));
                }
            }
        }
    };
    let (now, offsite) = (engine.now(), engine.settings.offsite);
    let confirmed = engine
        .catalog
        .confirm(store.id, row.digest, &object, (now, epoch), (now + offsite.ledger_after, now + offsite.prove_after))
        .await?;
    // Only now: a kill before this line finds it sent, and one before the line above finds all its parts sent.
    if let Err(e) = spool::forget(&engine.settings.spool_of(store.id), &object.name) {
        tracing::warn!(error = %e, "a sealed body could not be taken out of the spool; it is tidied away later");
    }
    engine.catalog.store_well(store.id, engine.now()).await?;
    engine.connections.sent(store.id, row.size);
    engine.live.changed(&[Change::Offsite]);
    engine.live.changed(&each(confirmed));
    Ok(Ended::Done)
}

/// The copy at home is not what was received. It is noted, and it does not go out as good.
async fn damaged(
    engine: &Arc<Engine>,
    id: OriginalId,
    expected: ypogeion_core::Digest,
    found: Option<ypogeion_core::Digest>,
) -> Result<Ended> {
    // Not so if the disk went away: `note` asks.
    let outcome = if found.is_some() { Outcome::Wrong } else { Outcome::Missing };
    note(engine, (id, expected), Place::Home, Act::Reread, (outcome, found)).await?;
    Ok(Ended::GivenUp(match found {
        Some(_) => {
            "the copy at home is damaged and was not sent; a good copy may be in another store or on its device".to_owned()
        }
        None => "the file at home is missing; a copy may be in another store or on its device".to_owned(),
    }))
}

/// Reads one original back from a store, opens it and checks its hash.
pub(super) async fn prove(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (row, store, replica) = match open_with_original(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let Some(object) = engine.catalog.object(store.id, row.digest).await? else { return Ok(Ended::Done) };
    let (act, seen) = match checks::read_back(&replica, &object, row.digest).await {
        Ok(found) => found,
        Err(fault) => return note_fault(engine, &store, job, fault).await,
    };
    note(engine, (row.id, row.digest), Place::Store(store.id), act, seen).await?;
    engine.catalog.store_well(store.id, engine.now()).await?;
    engine.live.changed(&[Change::Offsite, changed(&row)]);
    Ok(Ended::Done)
}
