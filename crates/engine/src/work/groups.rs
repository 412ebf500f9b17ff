//! Finding what belongs to one press of the shutter.

use std::sync::Arc;

use chrono::Local;
use ypogeion_catalog::work::Job;
use ypogeion_core::OriginalId;

use super::ended::Ended;
use crate::{engine::Engine, error::Result, live::each};

pub(super) async fn group(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let regrouped = engine.catalog.regroup(OriginalId(job.key), &Local, engine.now()).await?;
    if !regrouped.is_empty() {
        engine.live.changed(&each(regrouped));
    }
    Ok(Ended::Done)
}
