//! Making a bad copy good: home from a store, a store from home, a store from another one by way of home.
//!
//! What is bad is set aside at home, never overwritten; in a store, the object is sent again under its name. Where the bytes come
//! from, and when it is enough, is `core::heal`'s to say. A kill anywhere costs the fetching: nothing has the original's name that is
//! not whole and right.

use std::{sync::Arc, time::SystemTime};

use chrono::{Local, TimeDelta};
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, originals::OriginalRow, work::Job};
use ypogeion_core::{
    OriginalId, StoreId, UploadId,
    capture::{self, CaptureRule},
    filing::FiledPath,
    heal::{LATELY, Remedy, remedy},
    layers::{Act, Observation, Outcome, Place},
    retry,
};
use ypogeion_library::{Finished, LibraryError, Publish};
use ypogeion_offsite::{
    Fault,
    prove::{FetchError, fetch},
    seal::OpenError,
};

use super::{ended::Ended, store};
use crate::{
    at_home::{repair, reread},
    engine::Engine,
    error::{Result, chain},
    evidence::{name_of, note},
    landing::{self, Part},
    live::changed,
    secrets,
};

/// A good copy that is out of reach is looked for again after this.
const LOOK_AGAIN: TimeDelta = TimeDelta::minutes(5);

/// Makes one copy good.
pub(super) async fn heal(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let id = OriginalId(job.key);
    let row = match engine.catalog.original(id, None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let place = Place::of(job.store);
    let lately = engine.catalog.healed_since(id, place, engine.now() - LATELY).await?;
    let standings = engine.catalog.standings(id).await?;
    // A good copy in a drawer is no help today if there is another one.
    let mut in_reach = Vec::new();
    for (at, standing) in &standings {
        if *at == place || reachable(engine, &row.path, *at).await? {
            in_reach.push((*at, *standing));
        }
    }
    let now = remedy(place, &in_reach, lately);
    if now == Remedy::Nowhere && remedy(place, &standings, lately) != Remedy::Nowhere {
        return Ok(Ended::Later(engine.now() + LOOK_AGAIN));
    }
    match now {
        Remedy::None => Ok(Ended::Done),
        Remedy::SendAgain => {
            let Place::Store(store) = place else { return Ok(Ended::Done) };
            engine.catalog.note_healing(id, place, Place::Home, engine.now()).await?;
            engine.catalog.send_again(store, row.digest, engine.now()).await?;
            let line = format!("sends {} to {} again", row.path, name_of(engine, place).await?);
            engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?;
            Ok(Ended::Done)
        }
        Remedy::FetchFrom(store) => fetch_home(engine, job, &row, store, Why::Heal).await,
        Remedy::ByWayOfHome(store) => match fetch_home(engine, job, &row, store, Why::Heal).await? {
            // Home has it now; the next look sends it on.
            Ended::Done => Ok(Ended::Later(engine.now())),
            other => Ok(other),
        },
        Remedy::Nowhere => Ok(Ended::GivenUp(
            "there is no good copy, at home or in a store; if its device still has it, the next backup replaces it".to_owned(),
        )),
        Remedy::EnoughTried => Ok(Ended::GivenUp(format!(
            "it was replaced {lately} times within a month and was damaged again; look at {}",
            name_of(engine, place).await?
        ))),
    }
}

/// Whether a copy could be fetched from there now, as far as is known.
async fn reachable(engine: &Engine, path: &FiledPath, place: Place) -> Result<bool> {
    let Place::Store(id) = place else {
        let path = path.clone();
        let opened = engine.on_disk(move |library| library.open_original(&path).map(drop)).await?;
        return Ok(!matches!(opened, Err(LibraryError::Away { .. } | LibraryError::Elsewhere { .. })));
    };
    Ok(engine.catalog.store(id).await?.waits_for(Local::now().naive_local()).is_none())
}

/// Why something is fetched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Why {
    /// The copy at home was good and is not.
    Heal,
    /// Home has nothing yet, after a rebuild.
    Rebuild,
}

/// Sees that an original which is known from a ledger alone is at home, and fetches it if it is not.
pub(super) async fn bring(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let id = OriginalId(job.key);
    let mut row = match engine.catalog.original(id, None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let (outcome, found);
    ((outcome, found), row.path) = reread(engine, id, row.path, row.digest).await?;
    if outcome == Outcome::Right {
        let seen = Observation { place: Place::Home, act: Act::Reread, at: engine.now(), digest: found, outcome };
        engine.catalog.observe(id, row.digest, &seen).await?;
        return at_home_again(engine, &row).await;
    }
    let standings = engine.catalog.standings(id).await?;
    let mut in_reach = Vec::new();
    for (at, standing) in &standings {
        if *at != Place::Home && reachable(engine, &row.path, *at).await? {
            in_reach.push((*at, *standing));
        }
    }
    // Nobody has tried this before: what was healed before the house was lost is not known here.
    match (remedy(Place::Home, &in_reach, 0), remedy(Place::Home, &standings, 0)) {
        (Remedy::FetchFrom(store), _) => match fetch_home(engine, job, &row, store, Why::Rebuild).await? {
            Ended::Done => at_home_again(engine, &row).await,
            other => Ok(other),
        },
        (_, Remedy::FetchFrom(_)) => Ok(Ended::Later(engine.now() + LOOK_AGAIN)),
        _ => {
            // Counted among what is damaged from now on; if its device still has it, the next backup mends it.
            note(engine, (id, row.digest), Place::Home, Act::Reread, (outcome, found)).await?;
            Ok(Ended::GivenUp("it is not at home, and no store has it".to_owned()))
        }
    }
}

/// Reads from the file what no ledger says, and lets everything follow that follows an arrival.
async fn at_home_again(engine: &Arc<Engine>, row: &OriginalRow) -> Result<Ended> {
    let (there, path, name) = (Arc::clone(engine), row.path.clone(), row.name.clone());
    engine.wakeups.activity.notify_one();
    let read = move || Ok::<_, LibraryError>(there.reader.facts(&there.library.place_to_read(&path)?, &name));
    let facts = tokio::task::spawn_blocking(read).await??;
    // What could not be read when it came was dated without it; what somebody else said of its time stays, and so does any date, if it cannot be read
    // now either: after a rebuilding it is the ledger's, and better than a guess.
    let guessed =
        row.facts.problem.is_some() && facts.problem.is_none() && !row.corrected && row.taken_rule != CaptureRule::Sidecar.word();
    let dated = guessed.then(|| capture::decide(&facts, None, &row.name, row.file_time, row.landed_at, &Local));
    engine.catalog.fetched(row.id, &facts, dated, engine.now()).await?;
    engine.live.changed(&[changed(row)]);
    Ok(Ended::Done)
}

/// Fetches the copy of a store to home.
async fn fetch_home(engine: &Arc<Engine>, job: &Job, row: &OriginalRow, store: StoreId, why: Why) -> Result<Ended> {
    engine.home_is_there().await?;
    let (source, replica) = match store::open(engine, &Job { store: Some(store), ..job.clone() }).await? {
        Ok(opened) => opened,
        // What it waits for is noted with the store.
        Err(_) => return Ok(Ended::Later(engine.now() + LOOK_AGAIN)),
    };
    let Some(object) = engine.catalog.object(store, row.digest).await? else {
        return Ok(later(engine, job, why, "first it is sent again to the store that had a good copy".to_owned()));
    };
    let upload = UploadId(Uuid::now_v7());
    landing::open_part(engine, upload).await?;
    let writer = engine.library.incoming().writer(upload, 0)?;
    let fetched = fetch(&replica, &object.name, Part(writer)).await;
    let bad = match fetched {
        Ok((_, Part(writer))) => {
            let part = writer.finish();
            if part.digest == row.digest {
                return put_in_place(engine, job, row, part, (store, &source.address.name), why).await;
            }
            (Outcome::Wrong, Some(part.digest))
        }
        Err(FetchError::Open(OpenError::Io(e))) => {
            landing::remove_part(engine, upload).await?;
            return Ok(later(engine, job, why, format!("the home disk could not be written: {e}")));
        }
        // Nothing is known of the copy by that.
        Err(FetchError::Open(OpenError::NoKey)) => {
            landing::remove_part(engine, upload).await?;
            return store::note_fault(engine, &source, job, Fault::Locked).await;
        }
        Err(FetchError::Open(_)) => (Outcome::Wrong, None),
        Err(FetchError::Store(Fault::Missing(_))) => (Outcome::Missing, None),
        Err(FetchError::Store(fault)) => {
            landing::remove_part(engine, upload).await?;
            let said = chain(&fault);
            if matches!(fault, Fault::Refused(_)) {
                // The store stops, with its reason, where the keeper sees it.
                store::note_fault(engine, &source, job, fault).await?;
            }
            return Ok(later(engine, job, why, said));
        }
    };
    landing::remove_part(engine, upload).await?;
    // That copy is bad as well. Noted, so that the next look takes another one, or knows of none.
    note(engine, (row.id, row.digest), Place::Store(store), Act::Opened, bad).await?;
    Ok(Ended::Later(engine.now()))
}

/// Something stood in the way; it is tried again after a while.
fn later(engine: &Engine, job: &Job, why: Why, reason: String) -> Ended {
    let due = engine.now() + retry::wait(job.attempts, secrets::chance());
    match why {
        Why::Heal => Ended::Again(due, reason),
        // A whole house is waited for, however long its store is away.
        Why::Rebuild => Ended::NotYet(due, reason),
    }
}

/// Puts good bytes in the place of bad ones, which are kept aside, and notes that.
async fn put_in_place(
    engine: &Arc<Engine>,
    job: &Job,
    row: &OriginalRow,
    part: Finished,
    (store, name): (StoreId, &str),
    why: Why,
) -> Result<Ended> {
    let seen =
        Observation { place: Place::Home, act: Act::Reread, at: engine.now(), digest: Some(row.digest), outcome: Outcome::Right };
    // The store's copy was read, opened and right: that is what a proof is, whatever becomes of these bytes here.
    engine.catalog.observe(row.id, row.digest, &Observation { place: Place::Store(store), act: Act::Opened, ..seen }).await?;
    let (upload, time) = (part.id, SystemTime::from(row.taken_at));
    let part = tokio::task::spawn_blocking(move || part.seal(time).map(|()| Arc::new(part))).await??;
    let (published, path) = repair(engine, row.id, part).await?;
    if published == Publish::NameTaken {
        landing::remove_part(engine, upload).await?;
        return Ok(later(engine, job, why, "something else lies in its place; move that away".to_owned()));
    }
    engine.catalog.observe(row.id, row.digest, &Observation { at: engine.now(), ..seen }).await?;
    if why == Why::Rebuild {
        return Ok(Ended::Done);
    }
    engine.catalog.note_healing(row.id, Place::Home, Place::Store(store), engine.now()).await?;
    let line = format!("replaced {path} at home by the copy in {name}");
    engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?;
    engine.live.changed(&[changed(row)]);
    Ok(Ended::Done)
}
