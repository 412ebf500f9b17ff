//! Finding the towns that a person's pictures were taken near.

use std::sync::Arc;

use ypogeion_catalog::{CatalogError, work::Job};
use ypogeion_core::OriginalId;

use super::ended::Ended;
use crate::{engine::Engine, error::Result, live::each};

/// Spots that are named together.
const AT_ONCE: i64 = 500;

pub(super) async fn name(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let person = match engine.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?.person,
    };
    loop {
        let spots = engine.catalog.spots_without_town(person, AT_ONCE).await?;
        if spots.is_empty() {
            return Ok(Ended::Done);
        }
        let towns = Arc::clone(&engine.towns);
        let asked = spots.len();
        let found = tokio::task::spawn_blocking(move || towns.nearest(&spots)).await?;
        let towns = Arc::clone(&engine.towns);
        tokio::spawn(async move { towns.rest().await });
        if found.len() < asked {
            return Ok(Ended::GivenUp("the list of towns has one that is nowhere".to_owned()));
        }
        engine.live.changed(&each(engine.catalog.name_spots(person, &found).await?));
    }
}
