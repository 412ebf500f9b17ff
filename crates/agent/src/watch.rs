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
    home::{Home, HomeError},
    platform::Platform,
};

/// How to watch.
#[derive(Clone, Copy, Debug)]
pub struct Watching {
    /// A run begins when nothing has changed for this long, and leaves alone what was written to within this time.
    pub settle: Duration,
    /// How often the conditions are looked at while they hold something up, and sources that were not there.
    pub look: Duration,
    /// How often everything is looked through while there is a source whose changes nobody tells.
    pub unheard: Duration,
}

impl Default for Watching {
    fn default() -> Self {
        Watching { settle: Duration::from_secs(10), look: Duration::from_secs(30), unheard: Duration::from_secs(900) }
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
    /// The changes in these folders are told by nobody (the system watches no more folders than a limit says): they are looked through now
    /// and then. With the reason.
    Unheard(Vec<(String, String)>),
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
    tell: impl FnMut(Seen),
) -> Result<(), RunError> {
    let (changed, mut changes) = mpsc::unbounded_channel();
    let home = Home::open(folder)?;
    let ear = Ear::listen(&home, changed.clone())?;
    // What happened while nobody watched, first of all.
    let (due, looked) = (Some(Instant::now()), Instant::now());
    let mut watch = Watch { platform, watching, home, ear, changed, due, looked, told: None, unheard: Vec::new(), tell };
    loop {
        watch.tell_unheard();
        // One that was taken out meanwhile is listened to no more.
        watch.ear.absent = watch.ear.absent.max(absent(&watch.home));
        let (due, hears_all) = (watch.due, watch.ear.hears_all());
        tokio::select! {
            change = changes.recv() => match change {
                Some(change) => watch.heard(change, folder)?,
                None => return Ok(()),
            },
            () = async { match due { Some(at) => tokio::time::sleep_until(at).await, None => std::future::pending().await } } => {
                watch.run().await?;
            }
            () = async { if hears_all { std::future::pending().await } else { tokio::time::sleep(watching.look).await } } => {
                watch.look_again()?;
            }
        }
    }
}

/// A computer that is watched.
struct Watch<'a, T: FnMut(Seen)> {
    platform: &'a Arc<dyn Platform>,
    watching: Watching,
    home: Home,
    /// Held as long as it is listened to.
    ear: Ear,
    changed: mpsc::UnboundedSender<Change>,
    /// When the next backup is; none: when something changes.
    due: Option<Instant>,
    /// When all folders were last looked through.
    looked: Instant,
    /// What it waits for, as it was said.
    told: Option<String>,
    /// The folders of which nobody tells, as they were said.
    unheard: Vec<(String, String)>,
    tell: T,
}

impl<T: FnMut(Seen)> Watch<'_, T> {
    fn tell_unheard(&mut self) {
        if self.ear.unheard != self.unheard {
            self.unheard.clone_from(&self.ear.unheard);
            if !self.unheard.is_empty() {
                (self.tell)(Seen::Unheard(self.unheard.clone()));
            }
        }
    }

    fn heard(&mut self, change: Change, folder: &Path) -> Result<(), RunError> {
        match change {
            Change::Files => self.due = Some(Instant::now() + self.watching.settle),
            Change::Own => {
                // A pause, or other sources: both may be read half written; then the next change tells.
                if let Ok(now) = Home::open(folder) {
                    if now.state.sources != self.home.state.sources {
                        self.ear = Ear::listen(&now, self.changed.clone())?;
                        self.due = Some(Instant::now());
                    }
                    self.home = now;
                }
                if self.due.is_some() {
                    self.due = Some(Instant::now());
                }
            }
        }
        Ok(())
    }

    /// A card or a disk may be there now; and what nobody tells is looked for.
    fn look_again(&mut self) -> Result<(), RunError> {
        let unheard = !self.ear.unheard.is_empty() && self.looked.elapsed() >= self.watching.unheard;
        if absent(&self.home) < self.ear.absent || unheard {
            // The old one first: the system counts what is watched.
            self.ear.forget();
            self.ear = Ear::listen(&self.home, self.changed.clone())?;
            self.due = self.due.or(Some(Instant::now()));
        }
        Ok(())
    }

    async fn run(&mut self) -> Result<(), RunError> {
        let gate = self.home.watcher(self.platform, false)?.look_aside().await;
        self.looked = Instant::now();
        if let Some(reason) = gate.reason() {
            if self.told.as_ref() != Some(&reason) {
                // Told once, here and on the server, not at every look.
                let _ = self.back_up().await;
                (self.tell)(Seen::Waits(reason.clone()));
                self.told = Some(reason);
            }
            self.due = Some(Instant::now() + self.watching.look);
            return Ok(());
        }
        self.told = None;
        self.due = match self.back_up().await {
            Ok(account) => {
                let again = account.unsettled > 0 || account.halted.is_some();
                (self.tell)(Seen::Ran(Box::new(account)));
                again.then(|| Instant::now() + self.watching.settle)
            }
            Err(e) => {
                (self.tell)(Seen::Failed(e.to_string()));
                Some(Instant::now() + self.watching.look)
            }
        };
        Ok(())
    }

    async fn back_up(&self) -> Result<Account, RunError> {
        backup(&self.home, self.platform, options(self.watching), &Sent::default(), |_: Told| {}).await
    }
}

fn options(watching: Watching) -> Options {
    Options { settle: Some(watching.settle), ..Options::default() }
}

/// What the kernel tells, and what it does not.
struct Ear {
    /// None: it hears nothing any more.
    watcher: Option<notify::RecommendedWatcher>,
    /// How many sources are not there.
    absent: usize,
    /// Sources that are there, and whose changes are not told, with the reason.
    unheard: Vec<(String, String)>,
}

impl Ear {
    fn forget(&mut self) {
        self.watcher = None;
    }

    fn hears_all(&self) -> bool {
        self.absent == 0 && self.unheard.is_empty()
    }

    fn listen(home: &Home, changed: mpsc::UnboundedSender<Change>) -> Result<Self, HomeError> {
        let own = home.folder().canonicalize().unwrap_or_else(|_| home.folder().to_owned());
        let inside = own.clone();
        let mut watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
            let change = match event {
                Ok(event) => change_of(&event, &inside),
                // Something was not told: anything may have changed.
                Err(_) => Some(Change::Files),
            };
            if let Some(change) = change {
                // Nobody receives any more: watching is over.
                let _ = changed.send(change);
            }
        })
        .map_err(failed)?;
        watcher.watch(&own, RecursiveMode::NonRecursive).map_err(failed)?;
        let (mut absent, mut unheard) = (0, Vec::new());
        for source in &home.state.sources {
            match watcher.watch(&source.folder, RecursiveMode::Recursive) {
                Ok(()) => {}
                // That it is not there now is a failure of the run, and is said there.
                Err(_) if !source.folder.exists() => absent += 1,
                Err(e) => unheard.push((source.name.clone(), e.to_string())),
            }
        }
        Ok(Ear { watcher: Some(watcher), absent, unheard })
    }
}

/// How many sources are not there now.
fn absent(home: &Home) -> usize {
    home.state.sources.iter().filter(|s| !s.folder.exists()).count()
}

fn change_of(event: &notify::Event, own: &Path) -> Option<Change> {
    if event.need_rescan() {
        // More happened at once than the kernel keeps: it names nothing.
        return Some(Change::Files);
    }
    // Reading is no change, and this engine reads a lot.
    if matches!(event.kind, EventKind::Access(_)) {
        return None;
    }
    // Its own logs and hashes are no news.
    let ours = |p: &std::path::PathBuf| p.parent() == Some(own);
    let order = |p: &std::path::PathBuf| p.file_name().is_some_and(|n| n == "order" || n == "device.json");
    match event.paths.iter().any(ours) {
        true => event.paths.iter().any(order).then_some(Change::Own),
        false if event.paths.iter().all(|p| p.starts_with(own)) => None,
        false => Some(Change::Files),
    }
}
fn failed(e: notify::Error) -> HomeError {
    HomeError::order(std::io::Error::other(e))
}

#[cfg(test)]
mod tests {
    use notify::{Event, event::Flag};

    use super::*;

    #[test]
    fn what_the_kernel_could_not_tell_is_looked_for() {
        let (own, picture) = (Path::new("/home/juno/.config/ypogeion"), Path::new("/home/juno/Pictures/IMG_1.jpg"));
        let at = |path: &Path| Event::new(EventKind::Any).add_path(path.to_owned());
        let change = |event: Event| change_of(&event, own);
        assert!(matches!(change(Event::new(EventKind::Other).set_flag(Flag::Rescan)), Some(Change::Files)));
        assert!(matches!(change(at(picture)), Some(Change::Files)));
        assert!(matches!(change(at(&own.join("order"))), Some(Change::Own)));
        assert!(change(at(&own.join("hashes.redb"))).is_none());
        assert!(change(at(&own.join("runs/1.json"))).is_none());
    }
}
