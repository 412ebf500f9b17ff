//! What listeners are told as it happens.
//!
//! Changes come in bursts (a phone sends a thousand pictures); listeners are told at most a few times a second what kind of
//! thing changed, and ask for the numbers themselves. Nothing wakes while nothing changes.

use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU8, Ordering},
    },
    time::Duration,
};

use tokio::sync::{Notify, broadcast, watch};
use ypogeion_core::PersonId;
use ypogeion_wire::work::LiveEvent;

/// So many pages of one person are told; each holds a connection.
const MOST_PAGES: usize = 64;
const GATHER: Duration = Duration::from_millis(400);
const KINDS: [LiveEvent; 5] = [LiveEvent::Overview, LiveEvent::Library, LiveEvent::Devices, LiveEvent::Offsite, LiveEvent::Work];

/// Gathers changes and tells listeners.
#[derive(Clone)]
pub struct Live {
    changed: Arc<AtomicU8>,
    wake: Arc<Notify>,
    listeners: broadcast::Sender<LiveEvent>,
    /// How many of them are whose.
    listening: Arc<Mutex<HashMap<PersonId, usize>>>,
    /// Whether the service is stopping: listeners are let go, or they would hold it for as long as they listen.
    stopping: Arc<watch::Sender<bool>>,
}

impl Default for Live {
    fn default() -> Self {
        Live {
            changed: Arc::default(),
            wake: Arc::default(),
            listeners: broadcast::channel(64).0,
            listening: Arc::default(),
            stopping: Arc::new(watch::Sender::new(false)),
        }
    }
}

impl Live {
    /// Notes a change. Every change may change the overview.
    pub fn changed(&self, what: &[LiveEvent]) {
        let bits = KINDS
            .iter()
            .enumerate()
            .filter(|(_, k)| **k == LiveEvent::Overview || what.contains(k))
            .fold(0, |b, (i, _)| b | 1 << i);
        self.changed.fetch_or(bits, Ordering::AcqRel);
        self.wake.notify_one();
    }

    /// Begins to listen, unless this person listens with too many pages already.
    pub fn listen(&self, person: PersonId) -> Option<Listener> {
        let mut listening = self.listening.lock().unwrap_or_else(PoisonError::into_inner);
        let pages = listening.entry(person).or_default();
        if *pages >= MOST_PAGES {
            return None;
        }
        *pages += 1;
        Some(Listener { heard: self.listeners.subscribe(), listening: Arc::clone(&self.listening), person })
    }

    /// Lets all listeners go.
    pub fn stop(&self) {
        self.stopping.send_replace(true);
    }

    /// Ends when listeners are let go.
    pub async fn stopped(&self) {
        // The sender is part of self, so that the channel cannot close while this waits.
        let _ = self.stopping.subscribe().wait_for(|stopping| *stopping).await;
    }

    /// Tells listeners for ever. May be cancelled at any await: a change that was not told yet is told by the next one.
    pub async fn tell(self) {
        loop {
            self.wake.notified().await;
            tokio::time::sleep(GATHER).await;
            let bits = self.changed.swap(0, Ordering::AcqRel);
            for (i, kind) in KINDS.iter().enumerate() {
                if bits & (1 << i) != 0 {
                    // Nobody listening is no fault.
                    let _ = self.listeners.send(kind.clone());
                }
            }
        }
    }
}

/// Somebody who listens, until dropped.
pub struct Listener {
    /// What is to be heard.
    pub heard: broadcast::Receiver<LiveEvent>,
    listening: Arc<Mutex<HashMap<PersonId, usize>>>,
    person: PersonId,
}

impl Drop for Listener {
    fn drop(&mut self) {
        let mut listening = self.listening.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(pages) = listening.get_mut(&self.person) {
            *pages -= 1;
            if *pages == 0 {
                listening.remove(&self.person);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_burst_is_told_once() {
        let live = Live::default();
        let mut listener = live.listen(PersonId(uuid::Uuid::nil())).unwrap();
        let heard = &mut listener.heard;
        tokio::spawn(live.clone().tell());
        for _ in 0..1000 {
            live.changed(&[LiveEvent::Library]);
        }
        assert_eq!(heard.recv().await.unwrap(), LiveEvent::Overview);
        assert_eq!(heard.recv().await.unwrap(), LiveEvent::Library);
        assert!(heard.try_recv().is_err());
    }

    #[test]
    fn nobody_listens_with_more_pages_than_anybody_has() {
        let (live, person) = (Live::default(), PersonId(uuid::Uuid::nil()));
        let all: Vec<_> = (0..MOST_PAGES).map(|_| live.listen(person).unwrap()).collect();
        assert!(live.listen(person).is_none());
        assert!(live.listen(PersonId(uuid::Uuid::max())).is_some());
        drop(all);
        assert!(live.listen(person).is_some());
        assert!(live.listening.lock().unwrap().is_empty());
    }
}
