//! Watching: a run when something changed and has been quiet for a while, as soon as the conditions allow it.
//!
//! The kernel tells what changes in the sources and in the device's own folder (a pause, another setting). Batteries and
//! networks tell nobody, so while there is something to send they are looked at now and then; while there is nothing, this
//! sleeps.

use std::{path::Path, sync::Arc, time::Duration};

use notify::{EventKind, RecursiveMode, Watcher as _};
use tokio::{sync::mpsc, time::Instant};

use crate::{
    backup::{Account, Options, RunError, Sent, Told, backup},
    gate::Gate,
    home::{Home, HomeError},
    platform::Platform,
};

/// How to watch.
#[derive(Clone, Copy, Debug)]
pub struct Watching {
    /// A run begins when nothing has changed for this long, and leaves alone what was written to within this time.
    pub quiet: Duration,
    /// How often the conditions are looked at while they hold something up.
    pub look: Duration,
}

impl Default for Watching {
    fn default() -> Self {
        Watching { quiet: Duration::from_secs(10), look: Duration::from_secs(30) }
    }
}

/// What watching says.
#[derive(Clone, Debug)]
pub enum Seen {
    /// A run did this.
    Ran(Box<Account>),
    /// Something is to be sent, and waits for this.
    Waits(String),
    /// A run failed; it is tried again.
    Failed(String),
}

/// What changed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Change {
    Files,
    Own,
}

/// Watches until the future is dropped. Sources that appear later (a card, a disk) are found at the next look.
pub async fn watch(
    folder: &Path,
    platform: &Arc<dyn Platform>,
    watching: Watching,
    mut tell: impl FnMut(Seen),
) -> Result<(), RunError> {
    let (changed, mut changes) = mpsc::unbounded_channel();
    let mut home = Home::open(folder)?;
    // Held as long as it is listened to.
    let mut _listening = listen(&home, changed.clone())?;
    // What happened while nobody watched.
    let mut due = Some(Instant::now());
    let mut told: Option<String> = None;
    loop {
        tokio::select! {
            change = changes.recv() => {
                match change {
                    Some(Change::Files) => due = Some(Instant::now() + watching.quiet),
                    Some(Change::Own) => {
                        // A pause, or other sources: both may be read half written; then the next change tells.
                        if let Ok(now) = Home::open(folder) {
                            if now.state.sources != home.state.sources {
                                _listening = listen(&now, changed.clone())?;
                                due = Some(Instant::now());
                            }
                            home = now;
                        }
                        if due.is_some() {
                            due = Some(Instant::now());
                        }
                    }
                    None => return Ok(()),
                }
                continue;
            }
            () = async { match due { Some(at) => tokio::time::sleep_until(at).await, None => std::future::pending().await } } => {}
        }
        let gate = home.watcher(platform, false)?;
        let gate = tokio::task::spawn_blocking(move || gate.look()).await.unwrap_or(Gate::Open);
        if let Some(reason) = gate.reason() {
            if told.as_ref() != Some(&reason) {
                // Told once, here and on the server, not at every look.
                let _ = backup(&home, platform, options(watching), &Sent::default(), |_: Told| {}).await;
                tell(Seen::Waits(reason.clone()));
                told = Some(reason);
            }
            due = Some(Instant::now() + watching.look);
            continue;
        }
        told = None;
        due = match backup(&home, platform, options(watching), &Sent::default(), |_: Told| {}).await {
            Ok(account) => {
                let again = account.unsettled > 0 || account.halted.is_some();
                tell(Seen::Ran(Box::new(account)));
                again.then(|| Instant::now() + watching.quiet)
            }
            Err(e) => {
                tell(Seen::Failed(e.to_string()));
                Some(Instant::now() + watching.look)
            }
        };
    }
}

fn options(watching: Watching) -> Options {
    Options { quiet: Some(watching.quiet), ..Options::default() }
}

fn listen(home: &Home, changed: mpsc::UnboundedSender<Change>) -> Result<notify::RecommendedWatcher, HomeError> {
    let own = home.folder().canonicalize().unwrap_or_else(|_| home.folder().to_owned());
    let inside = own.clone();
    let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
        let Ok(event) = event else { return };
        // Reading is no change, and this engine reads a lot.
        if matches!(event.kind, EventKind::Access(_)) {
            return;
        }
        // Its own logs and hashes are no news.
        let ours = |p: &std::path::PathBuf| p.parent() == Some(&inside);
        let order = |p: &std::path::PathBuf| p.file_name().is_some_and(|n| n == "order" || n == "device.json");
        let change = match event.paths.iter().any(ours) {
            true if event.paths.iter().any(order) => Change::Own,
            true => return,
            false if event.paths.iter().all(|p| p.starts_with(&inside)) => return,
            false => Change::Files,
        };
        // Nobody receives any more: watching is over.
        let _ = changed.send(change);
    })
    .map_err(failed)?;
    watcher.watch(&own, RecursiveMode::NonRecursive).map_err(failed)?;
    for source in &home.state.sources {
        // A source that is not there now is a failure of the run, and is said there.
        let _ = watcher.watch(&source.folder, RecursiveMode::Recursive);
    }
    Ok(watcher)
}

fn failed(e: notify::Error) -> HomeError {
    HomeError::order(std::io::Error::other(e))
}
