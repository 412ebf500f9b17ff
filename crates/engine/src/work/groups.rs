//! Finding what belongs to one press of the shutter.

use std::sync::Arc;

use chrono::Local;
use ypogeion_catalog::work::Job;
use ypogeion_core::OriginalId;
use ypogeion_wire::work::LiveEvent;

use super::ended::Ended;
use crate::{engine::Engine, error::Result};

pub(super) async fn group(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    engine.catalog.regroup(OriginalId(job.key), &Local, engine.now()).await?;
    engine.live.changed(&[LiveEvent::Library]);
    Ok(Ended::Done)
}
