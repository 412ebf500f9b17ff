//! Folders outside the library in which originals were left: which of them are out of reach, and whether they come back.
//!
//! What was left in a folder that is empty, or not there, says nothing about itself: it is neither missing nor damaged, is not fetched from a
//! store, and is not sent. The keeper is told, and says whether it comes back.

use std::{
    collections::BTreeSet,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use uuid::Uuid;
use ypogeion_catalog::{audits::Check, elsewhere::Folder};
use ypogeion_core::layers::Place;
use ypogeion_wire::{adoption::LeftFolder, work::LiveEvent};

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
};

/// While one is out of reach, it is looked for this often.
const LOOK_FOR: Duration = Duration::from_secs(20);
/// Else nobody may look for so long, and somebody should be told.
const LOOK: Duration = Duration::from_secs(3600);

/// Has the library know which folders do not come back.
pub async fn tell_library(engine: &Engine) -> Result<()> {
    let given_up = engine.catalog.elsewhere().await?.into_iter().filter(|f| f.given_up_at.is_some()).map(|f| f.path);
    engine.library.give_up(given_up);
    Ok(())
}

/// Somebody met a folder that is out of reach.
pub async fn met(engine: &Engine, folder: &Path) -> Result<()> {
    if engine.catalog.note_unseen(folder, engine.now()).await? {
        tracing::warn!(folder = %folder.display(), "a folder in which pictures were left is out of reach");
        tell(engine, &format!("found nothing in {}, where pictures were left", folder.display())).await?;
    }
    Ok(())
}

/// Looks at every folder in which something was left. Returns those that are out of reach, and not given up, from above: of folders within
/// each other the outer one.
pub async fn look(engine: &Engine) -> Result<Vec<PathBuf>> {
    let folders = engine.catalog.elsewhere().await?;
    if folders.is_empty() {
        return Ok(Vec::new());
    }
    let paths: Vec<PathBuf> = folders.iter().map(|f| f.path.clone()).collect();
    let unseen = engine.on_disk(move |library| Ok(paths.iter().map(|p| library.out_of_reach(p)).collect::<Vec<_>>())).await??;
    let (mut away, mut there) = (BTreeSet::new(), Vec::new());
    for (folder, unseen) in folders.iter().zip(unseen) {
        match unseen {
            None => there.push(folder.path.clone()),
            Some(_) if is_given_up(&folders, &folder.path) => {}
            Some(from) => {
                if folder.unseen_since.is_none() {
                    met(engine, &folder.path).await?;
                }
                away.insert(from);
            }
        }
    }
    if folders.iter().any(|f| (f.unseen_since.is_some() || f.given_up_at.is_some()) && there.contains(&f.path)) {
        came_back(engine, &there).await?;
    }
    Ok(away.iter().filter(|f| !f.ancestors().skip(1).any(|above| away.contains(above))).cloned().collect())
}

/// What was said of a folder is said of all that is in it.
fn is_given_up(folders: &[Folder], path: &Path) -> bool {
    folders.iter().any(|f| f.given_up_at.is_some() && path.starts_with(&f.path))
}

async fn came_back(engine: &Engine, there: &[PathBuf]) -> Result<()> {
    let news = engine.catalog.note_seen(there).await?;
    if news.is_empty() {
        return Ok(());
    }
    tell_library(engine).await?;
    for folder in &news {
        tell(engine, &format!("found {} again, where pictures were left", folder.display())).await?;
    }
    // What waited for it goes on.
    engine.catalog.retry_work(engine.now()).await?;
    engine.wakeups.wake_all();
    Ok(())
}

async fn tell(engine: &Engine, line: &str) -> Result<()> {
    engine.said.forget().await;
    engine.catalog.write_record(engine.now(), "Ypogeion", line).await?;
    engine.live.changed(&[LiveEvent::Overview, LiveEvent::Library, LiveEvent::Work]);
    Ok(())
}

/// The folders, for the keeper.
pub async fn list(engine: &Engine) -> Result<Vec<LeftFolder>> {
    look(engine).await?;
    let folders = engine.catalog.elsewhere().await?;
    Ok(folders
        .iter()
        .map(|f| LeftFolder {
            path: f.path.to_string_lossy().into_owned(),
            unseen_since: f.unseen_since,
            given_up: is_given_up(&folders, &f.path),
        })
        .collect())
}

/// The keeper says that a folder that is out of reach does not come back, or may do so after all. Then the home disk is read: what is missing is
/// found by that, and made good from the stores.
pub async fn give_up(engine: &Engine, who: &str, folder: &str, yes: bool) -> Result<()> {
    let folders = engine.catalog.elsewhere().await?;
    let known = folders.into_iter().find(|f| f.path.to_string_lossy() == folder).ok_or(Error::NotFound)?;
    if known.unseen_since.is_none() {
        return Err(Error::invalid(format!("{folder} is there, with what was left in it.")));
    }
    engine.catalog.give_up_folder(&known.path, yes, engine.now()).await?;
    tell_library(engine).await?;
    engine.said.forget().await;
    let line = if yes {
        format!("said that {folder} does not come back: what was left there is fetched from the stores")
    } else {
        format!("said that {folder} may come back")
    };
    engine.catalog.write_record(engine.now(), who, &line).await?;
    if yes {
        // What waited for it finds out that it is missing.
        engine.catalog.retry_work(engine.now()).await?;
        engine.catalog.want_check(Uuid::now_v7(), Place::Home, Check::Reading, engine.now()).await?;
    }
    engine.wakeups.wake_all();
    engine.live.changed(&[LiveEvent::Overview, LiveEvent::Library, LiveEvent::Offsite, LiveEvent::Work]);
    Ok(())
}

/// Sees to it that somebody looks, also while nobody has the console open.
pub(crate) async fn watch(engine: Arc<Engine>) {
    loop {
        let away = match look(&engine).await {
            Ok(away) => !away.is_empty(),
            Err(e) => {
                tracing::warn!(error = %chain(&e), "could not look at the folders in which pictures were left");
                true
            }
        };
        tokio::time::sleep(if away { LOOK_FOR } else { LOOK }).await;
    }
}

/// A folder's name, for a sentence.
pub(crate) fn named(folders: &[PathBuf]) -> Option<String> {
    folders.first().map(|f| String::from_utf8_lossy(f.as_os_str().as_bytes()).into_owned())
}
