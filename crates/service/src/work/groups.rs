//! Finding what belongs to one press of the shutter.

use std::sync::Arc;

use chrono::Local;
use ypogeion_catalog::work::Job;
use ypogeion_core::OriginalId;
use ypogeion_wire::work::LiveEvent;

use super::Ended;
use crate::{app::App, failure::Answer};

pub(super) async fn group(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    app.catalog.regroup(OriginalId(job.key), &Local, app.now()).await?;
    app.live.changed(&[LiveEvent::Library]);
    Ok(Ended::Done)
}
