//! The library's disk goes away and comes back.
//!
//! While it is away, work that needs it is not begun ([`needs`]), and what was under way ends without having been tried. The day it is
//! back, what was interrupted is settled as at a start, what had given up meanwhile is tried again, and all of it goes on by itself.

use std::{sync::Arc, time::Duration};

use ypogeion_catalog::work::Kind;
use ypogeion_wire::{problem::ProblemType, work::LiveEvent};

use crate::{
    app::App,
    failure::{Answer, chain},
    landing,
};

/// A disk that is away is looked for this often.
const LOOK_FOR: Duration = Duration::from_secs(3);

/// Whether work of this kind reads or writes the library.
pub(super) fn needs(kind: Kind) -> bool {
    match kind {
        Kind::Preview
        | Kind::Replicate
        | Kind::Refile
        | Kind::Adopt
        | Kind::Derive
        | Kind::Heal
        | Kind::Fetch
        | Kind::Hold
        | Kind::Reseal
        // One of its rows is home's.
        | Kind::Audit => true,
        Kind::Ledger | Kind::Prove | Kind::Group | Kind::Survey | Kind::Drill | Kind::Release | Kind::Remove => false,
    }
}

/// Waits until the library is there, if it is known to be away.
pub(super) async fn wait(app: &App) {
    let back = app.home_back.notified();
    tokio::pin!(back);
    // From here on, whoever says that it is back is heard.
    back.as_mut().enable();
    if app.library.presence().away().is_some() {
        back.await;
    }
}

/// Settles what was interrupted: moves first, so that no name too many is taken for a file that has just arrived.
pub async fn settle(app: &Arc<App>) -> Answer<()> {
    app.home_is_there().await?;
    super::refile::settle(app).await?;
    landing::settle(app).await
}

/// Sees to a disk that went away until it is back; sleeps while it is there.
pub(super) async fn watch(app: Arc<App>) {
    loop {
        app.home_gone.notified().await;
        let why = app.library.presence().away().map(|(_, why)| why.to_string());
        let why = why.unwrap_or_else(|| "it was not there for a moment".to_owned());
        tracing::warn!(why, "the library is away");
        app.said.forget().await;
        note(&app, &format!("found that the library’s disk is not connected: {why}")).await;
        app.live.changed(&[LiveEvent::Overview, LiveEvent::Library, LiveEvent::Work]);
        loop {
            match come_back(&app).await {
                Ok(()) => break,
                Err(e) if e.kind() == ProblemType::LibraryAway => {}
                Err(e) => tracing::warn!(error = %chain(&e), "the library is there, and cannot be taken up yet"),
            }
            tokio::time::sleep(LOOK_FOR).await;
        }
        tracing::info!("the library is there again");
        app.said.forget().await;
        note(&app, "found the library’s disk again, and continues").await;
        app.home_back.notify_waiters();
        app.wake_workers();
        app.live.changed(&[LiveEvent::Overview, LiveEvent::Library, LiveEvent::Work, LiveEvent::Devices]);
    }
}

async fn come_back(app: &Arc<App>) -> Answer<()> {
    settle(app).await?;
    if let Some(id) = app.library.presence().id() {
        app.catalog.set_library(id.0).await?;
    }
    // What failed meanwhile may have failed because of that.
    app.catalog.retry_work(app.now()).await?;
    Ok(())
}

async fn note(app: &App, line: &str) {
    if let Err(e) = app.catalog.write_record(app.now(), "Ypogeion", line).await {
        tracing::warn!(error = %chain(&e), line, "could not be written into the record");
    }
}
