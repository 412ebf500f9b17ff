//! Folders outside the library in which originals were left: which of them are out of reach, and whether they come back.
//!
//! What was left in a folder that is empty, or not there, says nothing about itself: it is neither missing nor damaged, is not fetched from a
//! store, and is not sent. The keeper is told, and says whether it comes back.
//!
//! One task looks at the folders; everybody else reads what it found. A folder on another machine may take for ever to answer, and then only
//! that task's question waits for it.

use std::{
    collections::HashMap,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

use tokio::task::JoinHandle;
use uuid::Uuid;
use ypogeion_catalog::audits::Check;
use ypogeion_core::{
    elsewhere::{Folder, out_of_reach, state},
    layers::Place,
    state::LeftFolderState,
};
use ypogeion_wire::adoption::LeftFolder;

use crate::{
    engine::Engine,
    error::{Error, Result, chain},
    live::Change,
};

/// While one is out of reach, it is looked for this often at first; each time that nobody asked meanwhile, twice as late, up to `LOOK_FOR_LATER`.
const LOOK_FOR: Duration = Duration::from_secs(20);
const LOOK_FOR_LATER: Duration = Duration::from_secs(300);
/// Else nobody may look for so long, and somebody should be told.
const LOOK: Duration = Duration::from_secs(3600);
/// However many pages ask, nobody looks more often than this.
const REST: Duration = Duration::from_secs(2);
/// A folder that has not answered by then is out of reach.
const ANSWER: Duration = Duration::from_secs(10);

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
        engine.wakeups.look_elsewhere();
    }
    Ok(())
}

/// The folders that were out of reach when somebody looked last, and are not given up; of folders within each other the outer one. Has
/// somebody look again, who tells if anything has changed.
pub async fn known_out_of_reach(engine: &Engine) -> Result<Vec<PathBuf>> {
    let folders = engine.catalog.elsewhere().await?;
    if !folders.is_empty() {
        engine.wakeups.look_elsewhere();
    }
    Ok(out_of_reach(&folders).into_iter().map(Path::to_owned).collect())
}

/// What one look at a folder finds: the first folder on the way to it that is out of reach.
type Look = JoinHandle<Option<PathBuf>>;

/// Looks at every folder in which something was left. One that has not answered since it was looked at last is not asked once more. Says
/// whether one is out of reach.
async fn look(engine: &Engine, asked: &mut HashMap<PathBuf, Look>) -> Result<bool> {
    let folders = engine.catalog.elsewhere().await?;
    asked.retain(|path, _| folders.iter().any(|f| f.path == *path));
    for folder in &folders {
        asked.entry(folder.path.clone()).or_insert_with(|| {
            let (library, path) = (Arc::clone(&engine.library), folder.path.clone());
            tokio::task::spawn_blocking(move || library.out_of_reach(&path))
        });
    }
    let (until, mut there) = (Instant::now() + ANSWER, Vec::new());
    for folder in &folders {
        let Some(look) = asked.get_mut(&folder.path) else { continue };
        let unseen = match tokio::time::timeout(until.saturating_duration_since(Instant::now()), &mut *look).await {
            Ok(unseen) => {
                asked.remove(&folder.path);
                unseen?
            }
            Err(_) => Some(folder.path.clone()),
        };
        match unseen {
            None => there.push(folder.path.clone()),
            Some(from) if state(&folders, folder) != LeftFolderState::GivenUp => {
                // What is known is not written down again: an idle house writes nothing.
                let known = |path: &Path| folders.iter().any(|f| f.path == path && f.unseen_since.is_some());
                for path in [&folder.path, &from] {
                    if !known(path) {
                        met(engine, path).await?;
                    }
                }
            }
            Some(_) => {}
        }
    }
    if folders.iter().any(|f| (f.unseen_since.is_some() || f.given_up_at.is_some()) && there.contains(&f.path)) {
        came_back(engine, &there).await?;
    }
    Ok(!out_of_reach(&engine.catalog.elsewhere().await?).is_empty())
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
    engine.live.changed(&[Change::Overview, Change::Library, Change::Work]);
    Ok(())
}

/// The folders, for the keeper.
pub async fn list(engine: &Engine) -> Result<Vec<LeftFolder>> {
    let folders = engine.catalog.elsewhere().await?;
    if !folders.is_empty() {
        engine.wakeups.look_elsewhere();
    }
    let told = |f: &Folder| LeftFolder {
        path: f.path.to_string_lossy().into_owned(),
        state: state(&folders, f),
        unseen_since: f.unseen_since,
    };
    Ok(folders.iter().map(told).collect())
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
    engine.live.changed(&[Change::Overview, Change::Library, Change::Offsite, Change::Work]);
    Ok(())
}

/// Looks at the folders: whenever somebody asks for it, and also while nobody has the console open.
pub(crate) async fn watch(engine: Arc<Engine>) {
    let (mut asked, mut look_for) = (HashMap::new(), LOOK_FOR);
    loop {
        let away = match look(&engine, &mut asked).await {
            Ok(away) => away,
            Err(e) => {
                tracing::warn!(error = %chain(&e), "could not look at the folders in which pictures were left");
                true
            }
        };
        if !away {
            look_for = LOOK_FOR;
        }
        tokio::time::sleep(REST).await;
        let wait = if away { look_for } else { LOOK };
        if tokio::time::timeout(wait, engine.wakeups.elsewhere_asked()).await.is_err() {
            look_for = (look_for * 2).min(LOOK_FOR_LATER);
        }
    }
}

/// A folder's name, for a sentence.
pub(crate) fn named(folders: &[PathBuf]) -> Option<String> {
    folders.first().map(|f| f.to_string_lossy().into_owned())
}
