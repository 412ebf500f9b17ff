//! May a run go on just now? Asked before it begins and once a second while it runs.

use std::{path::PathBuf, sync::Arc, time::Duration};

use chrono::NaiveDateTime;
use tokio::sync::watch;
use url::Url;
use ypogeion_core::condition::{Conditions, Verdict, Waiting, check};

use crate::{
    order::{self, Order},
    platform::Platform,
};

/// How often the readings are looked at while a run is under way.
const LOOK: Duration = Duration::from_secs(1);

/// Whether a run may go on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Gate {
    /// It may.
    Open,
    /// It may, but no videos, because of this.
    PhotosOnly(Waiting),
    /// A person said so.
    Paused,
    /// A person said so, of this run.
    Stopped,
    /// Conditions are not met; the first is the one to tell.
    Held(Vec<Waiting>),
    /// Nobody could find out. A phone on a costly line must not send because of that.
    Unknown,
}

impl Gate {
    /// Why a run has to end here, for a person. `None`: it need not.
    pub fn reason(&self) -> Option<String> {
        match self {
            Gate::Open | Gate::PhotosOnly(_) => None,
            Gate::Paused => Some("paused".to_owned()),
            Gate::Stopped => Some("stopped".to_owned()),
            Gate::Unknown => Some("it could not be found out whether sending is allowed now".to_owned()),
            Gate::Held(waiting) => waiting.first().map(|w| format!("waiting for {}", w.words())),
        }
    }
}

/// Everything the gate is decided by.
#[derive(Clone)]
pub struct Watcher {
    /// The device's own folder.
    pub folder: PathBuf,
    /// Where the service is.
    pub server: Url,
    /// What the owner demands.
    pub conditions: Conditions,
    /// When the last complete run before this one began, by the device's clock: a run that was due stays due while it runs.
    pub last: Option<NaiveDateTime>,
    /// Whether a person asked for this run.
    pub asked: bool,
    /// The machine.
    pub platform: Arc<dyn Platform>,
}

impl Watcher {
    /// The gate as it is now.
    pub fn look(&self) -> Gate {
        match order::read(&self.folder) {
            Order::Pause => return Gate::Paused,
            Order::Stop => return Gate::Stopped,
            Order::Go => {}
        }
        match check(&self.conditions, &self.platform.readings(&self.server), self.last, self.asked) {
            Verdict::Go => Gate::Open,
            Verdict::PhotosOnly(why) => Gate::PhotosOnly(why),
            Verdict::Wait(waiting) => Gate::Held(waiting),
        }
    }

    /// The same, aside: resolving a name may block.
    pub async fn look_aside(&self) -> Gate {
        let watcher = self.clone();
        tokio::task::spawn_blocking(move || watcher.look()).await.unwrap_or(Gate::Unknown)
    }

    /// Keeps looking until the receivers are gone.
    pub async fn keep_looking(self, gate: watch::Sender<Gate>) {
        while !gate.is_closed() {
            tokio::time::sleep(LOOK).await;
            let now = self.look_aside().await;
            gate.send_if_modified(|before| {
                let changed = *before != now;
                *before = now;
                changed
            });
        }
    }
}
