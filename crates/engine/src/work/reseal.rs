//! Sealing anew, over time, what is sealed for earlier recipients: after a new key, after somebody was let in or out.
//!
//! Each round seals a portion, as large as the checks' portion of a day, from the copy at home (which is hashed while it is sealed), under
//! another name. The catalogue and then the ledger name the new object; only then does the old one go. A kill anywhere leaves at most an
//! object too many, which is known by its row, or by the next list.

use std::{sync::Arc, time::Instant};

use chrono::TimeDelta;
use ypogeion_catalog::{CatalogError, keys::ToReseal, stores::StoreRow, work::Job};
use ypogeion_core::{Digest, ledger::ObjectRecord};
use ypogeion_offsite::{
    Fault, Replica,
    replicate::{SendError, send},
    spool,
};

use super::{ended::Ended, store};
use crate::{at_home, engine::Engine, error::Result, live::Change};

/// Objects asked for at once.
const BATCH: i64 = 100;
/// A ledger that has still to name the new ones is waited for.
const AWAIT_LEDGER: TimeDelta = TimeDelta::seconds(30);

/// One round for one store.
pub(super) async fn reseal(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (store, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    if replica.keys.is_plain() {
        return Ok(Ended::Done);
    }
    let epoch = replica.keys.epoch();
    if let Err(fault) = remove_superseded(engine, &store, &replica).await? {
        return store::note_fault(engine, &store, job, fault).await;
    }
    let rhythm = engine.settings.checks.rhythm;
    let left = engine.catalog.left_to_reseal(epoch).await?.1;
    let (portion, mut done, mut passed_over) = (rhythm.portion(left), 0, 0);
    let round = engine.catalog.to_reseal(store.id, epoch, BATCH).await?;
    let all = round.len();
    for object in round {
        let began = Instant::now();
        match anew(engine, &store, &replica, &object).await? {
            Ok(true) => done += object.size,
            Ok(false) => passed_over += 1,
            Err(fault) => return store::note_fault(engine, &store, job, fault).await,
        }
        engine.live.changed(&[Change::Offsite]);
        if done >= portion {
            break;
        }
        tokio::time::sleep(rhythm.rest(object.size, began.elapsed())).await;
    }
    let (now, more) = (engine.now(), engine.catalog.to_reseal(store.id, epoch, 1).await?);
    match () {
        () if more.is_empty() && engine.catalog.superseded_left(store.id).await? == 0 => Ok(Ended::Done),
        () if more.is_empty() => Ok(Ended::Later(now + AWAIT_LEDGER)),
        // There is more, and this day's portion is done, or none of it can be sealed now.
        () if done >= portion || passed_over == all => Ok(Ended::Later(now + rhythm.every)),
        () => Ok(Ended::Later(now)),
    }
}

/// `Ok(false)`: it cannot be sealed anew just now; it is healed first, or goes anyway.
async fn anew(engine: &Arc<Engine>, store: &StoreRow, replica: &Replica, old: &ToReseal) -> Result<Result<bool, Fault>> {
    let Some(object) = sent(engine, store, replica, old.digest).await? else { return Ok(Ok(false)) };
    let object = match object {
        Ok(object) => object,
        Err(fault) => return Ok(Err(fault)),
    };
    let before = (old.digest, old.name.as_str());
    engine.catalog.resealed(store.id, before, &object, replica.keys.epoch(), engine.now()).await?;
    if let Err(e) = spool::forget(&engine.settings.spool_of(store.id), &object.name) {
        tracing::warn!(error = %e, "a sealed body could not be taken out of the spool; it is tidied away later");
    }
    engine.connections.sent(store.id, old.size);
    Ok(Ok(true))
}

async fn sent(
    engine: &Arc<Engine>,
    store: &StoreRow,
    replica: &Replica,
    digest: Digest,
) -> Result<Option<Result<ObjectRecord, Fault>>> {
    let name = engine.household.name_key.object_name(&digest, replica.keys.epoch());
    for id in engine.catalog.sharing(digest).await? {
        let row = match engine.catalog.original(id, None).await {
            Err(CatalogError::NotFound) => continue,
            other => other?,
        };
        // Whatever is wrong with it at home, the checks find it, and it is made good first.
        let Ok((Some(home), _)) = at_home::find(engine, id, row.path).await else { return Ok(None) };
        return Ok(match send(replica, home, digest, &name, &engine.settings.spool_of(store.id)).await {
            Ok(object) => Some(Ok(object)),
            Err(SendError::Store(fault)) => Some(Err(fault)),
            // The checks find it, and it is made good first.
            Err(SendError::Rotten { .. } | SendError::Unreadable(_)) => None,
        });
    }
    Ok(None)
}

/// Removes what the ledger has stopped naming.
async fn remove_superseded(engine: &Engine, store: &StoreRow, replica: &Replica) -> Result<Result<(), Fault>> {
    for name in engine.catalog.superseded(store.id, BATCH).await? {
        match replica.store.remove(&name).await {
            // A lock keeps it for a while: asked again in the next round.
            Ok(false) | Err(Fault::Refused(_)) => return Ok(Ok(())),
            Ok(true) => engine.catalog.superseded_gone(store.id, &name).await?,
            Err(fault) => return Ok(Err(fault)),
        }
    }
    Ok(Ok(()))
}
