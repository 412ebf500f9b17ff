//! The copy that a store has of a file, for whoever wants to see it: fetched, opened, compared, and handed over only if each byte is right. To have seen it
//! so is a proof, and what is found wrong is replaced, as if the house itself had looked.

use std::{fs::File, sync::Arc};

use chrono::Local;
use tokio::sync::{Semaphore, SemaphorePermit};
use uuid::Uuid;
use ypogeion_catalog::{originals::OriginalRow, stores::StoreRow};
use ypogeion_core::{
    StoreId, UploadId,
    layers::{Act, Observation, Outcome, Place},
};
use ypogeion_offsite::{
    Fault, Replica,
    prove::{FetchError, fetch},
    seal::OpenError,
};

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    evidence::note,
    landing::{self, Part},
    live::changed,
};

/// So many are fetched at the same time: stores cost money by what is taken from them.
static FETCHES: Semaphore = Semaphore::const_new(2);

/// The copy that a store has of an original, right to the last byte.
pub async fn fetched(engine: &Arc<Engine>, row: &OriginalRow, store: StoreId) -> Result<File> {
    let from = engine.catalog.store(store).await?;
    let name = &from.address.name;
    let has = engine.catalog.standings(row.id).await?.iter().any(|(place, s)| *place == Place::Store(store) && s.good);
    let Some(object) = engine.catalog.object(store, row.digest).await?.filter(|_| has) else {
        return Err(Error::NotNow(format!("{name} has no good copy of this file.")));
    };
    if let Some(why) = from.waits_for(Local::now().naive_local()) {
        return Err(Error::NotNow(format!("Nothing can be had from {name} just now: {why}.")));
    }
    if engine.free().await? < row.size.saturating_add(engine.settings.reserve) {
        return Err(Error::NotNow(format!("There is no room at home to fetch the copy in {name}.")));
    }
    let replica = engine.connections.replica(&from, engine.now()).await;
    let replica = replica.map_err(|e| Error::NotNow(format!("{name} cannot be reached just now: {}.", chain(&e))))?;
    let Ok(permit) = FETCHES.try_acquire() else {
        return Err(Error::TooMany("Other copies are being fetched just now. Try again in a moment.".to_owned()));
    };
    let fetching = Fetching { engine: Arc::clone(engine), row: row.clone(), from, replica, _permit: permit };
    // To its end, also when whoever asked has gone: no part of a file stays behind.
    tokio::spawn(fetching.run(object.name)).await?
}

struct Fetching {
    engine: Arc<Engine>,
    row: OriginalRow,
    from: StoreRow,
    replica: Replica,
    _permit: SemaphorePermit<'static>,
}

impl Fetching {
    async fn run(self, object: String) -> Result<File> {
        let upload = UploadId(Uuid::now_v7());
        landing::open_part(&self.engine, upload).await?;
        let found = self.read(upload, &object).await;
        landing::remove_part(&self.engine, upload).await?;
        found
    }

    async fn read(&self, upload: UploadId, object: &str) -> Result<File> {
        let (engine, row, name) = (&self.engine, &self.row, &self.from.address.name);
        let writer = engine.library.incoming().writer(upload, 0)?;
        let place = Place::Store(self.from.id);
        let bad = match fetch(&self.replica, object, Part(writer)).await {
            Ok((_, Part(writer))) => {
                let digest = writer.finish().digest;
                if digest == row.digest {
                    let path = engine.library.incoming().path(upload);
                    let opened = tokio::task::spawn_blocking(move || File::open(path)).await?;
                    let file = opened.map_err(|e| Error::internal(format!("what was fetched could not be opened: {e}")))?;
                    let outcome = Outcome::Right;
                    let seen = Observation { place, act: Act::Opened, at: engine.now(), digest: Some(digest), outcome };
                    engine.catalog.observe(row.id, row.digest, &seen).await?;
                    engine.live.changed(&[changed(row)]);
                    return Ok(file);
                }
                (Outcome::Wrong, Some(digest))
            }
            // Nothing is known of the copy by these.
            Err(FetchError::Open(OpenError::Io(e))) => {
                return Err(Error::internal(format!("what was fetched could not be written at home: {e}")));
            }
            Err(FetchError::Open(OpenError::NoKey)) => {
                return Err(Error::NotNow(
                    "This server does not have the key that opens it. It is on the recovery kit, and can be lent to the server for an hour.".to_owned(),
                ));
            }
            Err(FetchError::Open(_)) => (Outcome::Wrong, None),
            Err(FetchError::Store(Fault::Missing(_))) => (Outcome::Missing, None),
            Err(FetchError::Store(fault)) => {
                return Err(Error::NotNow(format!("{name} did not hand it over just now: {}.", chain(&fault))));
            }
        };
        note(engine, (row.id, row.digest), place, Act::Opened, bad).await?;
        Err(Error::NotNow(format!("The copy in {name} is damaged or missing. It was noted, and is replaced by itself.")))
    }
}
