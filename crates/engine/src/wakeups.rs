//! Whom something wakes that sleeps until then.

use std::{collections::HashMap, sync::Arc};

use tokio::sync::Notify;
use ypogeion_catalog::work::Kind;

/// All of them.
pub struct Wakeups {
    /// The background workers.
    workers: HashMap<Kind, Notify>,
    /// Told when work or reading begins, so that whoever looks after leases and children sleeps while there is none.
    pub activity: Notify,
    /// Told when the library's disk was seen to be away.
    pub home_gone: Arc<Notify>,
    /// Told, all who wait, when it is there again.
    pub home_back: Notify,
    /// Told when an album begins to follow a line.
    pub line_followed: Notify,
    /// Told when somebody asks how it stands with the folders outside the library.
    elsewhere: Notify,
}

impl Default for Wakeups {
    fn default() -> Self {
        Wakeups {
            workers: Kind::ALL.into_iter().map(|k| (k, Notify::new())).collect(),
            activity: Notify::new(),
            home_gone: Arc::default(),
            home_back: Notify::new(),
            line_followed: Notify::new(),
            elsewhere: Notify::new(),
        }
    }
}

impl Wakeups {
    /// What wakes the workers that do this kind of work.
    pub fn of(&self, kind: Kind) -> &Notify {
        &self.workers[&kind]
    }

    /// Wakes those that do these kinds of work.
    pub fn wake(&self, kinds: &[Kind]) {
        kinds.iter().for_each(|kind| self.of(*kind).notify_one());
    }

    /// Has somebody look at the folders outside the library in which originals were left.
    pub fn look_elsewhere(&self) {
        self.elsewhere.notify_one();
    }

    /// Returns once somebody has asked for that.
    pub async fn elsewhere_asked(&self) {
        self.elsewhere.notified().await;
    }

    /// Wakes all of them.
    pub fn wake_all(&self) {
        self.wake(&Kind::ALL);
    }
}
