//! Finding what belongs to one press of the shutter.

use std::sync::Arc;

use chrono::Local;
use ypogeion_catalog::work::Job;
use ypogeion_core::OriginalId;
use ypogeion_wire::work::LiveEvent;

use super::{Ended, refile};
use crate::{app::App, failure::Answer};

pub(super) async fn group(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    // Words in a sidecar may have told the time of files that came before it; those are filed where they belong now.
    for id in app.catalog.regroup(OriginalId(job.key), &Local).await? {
        refile::put_in_place(app, id).await?;
    }
    app.live.changed(&[LiveEvent::Library]);
    Ok(Ended::Done)
}
