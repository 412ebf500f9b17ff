//! The library's disk goes away and comes back.
//!
//! While it is away, work that needs it is not begun ([`needs`]), and what was under way ends without having been tried. The day it is
//! back, what was interrupted is settled as at a start, what had given up meanwhile is tried again, and all of it goes on by itself.

use std::{sync::Arc, time::Duration};

use ypogeion_catalog::work::Kind;

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    live::Change,
    renaming, settling,
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
        | Kind::Words
        | Kind::Film
        // One of its rows is home's.
        | Kind::Reading => true,
        Kind::Ledger
        | Kind::Prove
        | Kind::Group
        | Kind::Listing
        | Kind::Drill
        | Kind::Release
        | Kind::Remove
        | Kind::Town => false,
    }
}

/// Waits until the library is there, if it is known to be away.
pub(super) async fn wait(engine: &Engine) {
    let back = engine.wakeups.home_back.notified();
    tokio::pin!(back);
    // From here on, whoever says that it is back is heard.
    back.as_mut().enable();
    if engine.library.presence().away().is_some() {
        back.await;
    }
}

/// Settles what was interrupted: moves first, so that no name too many is taken for a file that has just arrived.
pub async fn settle(engine: &Arc<Engine>) -> Result<()> {
    engine.home_is_there().await?;
    renaming::settle(engine).await?;
    settling::settle(engine).await
}

/// Sees to a disk that went away until it is back; sleeps while it is there.
pub(super) async fn watch(engine: Arc<Engine>) {
    loop {
        engine.wakeups.home_gone.notified().await;
        let why = engine.library.presence().away().map(|(_, why)| why.to_string());
        let why = why.unwrap_or_else(|| "it was not there for a moment".to_owned());
        tracing::warn!(why, "the library is away");
        engine.said.forget().await;
        note(&engine, &format!("found that the library’s disk is not connected: {why}")).await;
        engine.live.changed(&[Change::Overview, Change::Library, Change::Work]);
        loop {
            match come_back(&engine).await {
                Ok(()) => break,
                Err(Error::LibraryAway(_)) => {}
                Err(e) => tracing::warn!(error = %chain(&e), "the library is there, and cannot be taken up yet"),
            }
            tokio::time::sleep(LOOK_FOR).await;
        }
        tracing::info!("the library is there again");
        engine.said.forget().await;
        note(&engine, "found the library’s disk again, and continues").await;
        engine.wakeups.home_back.notify_waiters();
        engine.wakeups.wake_all();
        engine.live.changed(&[Change::Overview, Change::Library, Change::Work, Change::Devices]);
    }
}

async fn come_back(engine: &Arc<Engine>) -> Result<()> {
    settle(engine).await?;
    if let Some(id) = engine.library.presence().id() {
        engine.catalog.set_library(id.0).await?;
    }
    // What failed meanwhile may have failed because of that.
    engine.catalog.retry_work(engine.now()).await?;
    Ok(())
}

async fn note(engine: &Engine, line: &str) {
    if let Err(e) = engine.catalog.write_record(engine.now(), "Ypogeion", line).await {
        tracing::warn!(error = %chain(&e), line, "could not be written into the record");
    }
}
