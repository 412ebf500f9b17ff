//! The stores as this process uses them: which are opened, at what pace things are sent there, and how many at once.

use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_catalog::{Catalog, stores::StoreRow};
use ypogeion_core::{StoreId, concurrency::Concurrency, kit::StoreAddress};
use ypogeion_offsite::{
    Fault, Pacer, Replica, Store,
    layout::ReplicaError,
    seal::{OpenError, is_sealed, open_secret, seal_secret},
    store::Refusal,
};

use crate::{error::Result, keys::Keyring};

/// What was sent within this time is the pace of now.
const RATE_WINDOW: Duration = Duration::from_secs(60);
/// Nothing is being sent where nothing was for this long.
const STILL: Duration = Duration::from_secs(10);

/// All of them. Cheap to clone.
#[derive(Clone)]
pub struct Connections {
    keyring: Arc<Keyring>,
    /// The replica that is begun where there is none.
    replica: Uuid,
    /// So many originals are sent to one at once, at most.
    parallel: usize,
    began: Instant,
    all: Arc<Mutex<HashMap<StoreId, Used>>>,
}

/// One of them.
struct Used {
    replica: Option<Replica>,
    /// At what pace things are sent there: all requests of this process share it.
    pacer: Arc<Pacer>,
    /// What was sent lately.
    sent: VecDeque<(Instant, u64)>,
    /// The fastest that was seen, in bytes per second.
    fastest: u64,
    /// How many originals are worth sending at once, and how many are under way.
    concurrency: Concurrency,
    under_way: usize,
}

impl Connections {
    /// None is used yet.
    pub fn new(keyring: Arc<Keyring>, replica: Uuid, parallel: usize) -> Self {
        Connections { keyring, replica, parallel, began: Instant::now(), all: Arc::default() }
    }

    /// No code that can panic runs under this lock.
    fn lock(&self) -> MutexGuard<'_, HashMap<StoreId, Used>> {
        self.all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn used<T>(&self, store: StoreId, act: impl FnOnce(&mut Used) -> T) -> T {
        act(self.lock().entry(store).or_insert_with(|| Used {
            replica: None,
            pacer: Arc::default(),
            sent: VecDeque::new(),
            fastest: 0,
            concurrency: Concurrency::new(self.parallel),
            under_way: 0,
        }))
    }

    /// Those that have as many originals under way as is worth it.
    pub fn full(&self) -> Vec<StoreId> {
        self.lock().iter().filter(|(_, s)| s.under_way > 0 && s.under_way >= s.concurrency.allowed()).map(|(id, _)| *id).collect()
    }

    /// An original is under way to a store, as long as this is kept.
    pub fn take_slot(&self, store: StoreId) -> Slot {
        self.used(store, |s| s.under_way += 1);
        Slot { connections: self.clone(), store }
    }

    /// A store did not do what it should: it is given less to do at once.
    pub fn send_failed(&self, store: StoreId) {
        self.used(store, |s| s.concurrency.failed());
    }

    /// For how long a store has asked to be left alone.
    pub fn asked_to_wait(&self, store: StoreId) -> Option<Duration> {
        self.lock().get(&store)?.pacer.asked_to_wait()
    }

    /// The replica in a store, opened or begun.
    pub async fn replica(&self, store: &StoreRow, now: DateTime<Utc>) -> Result<Replica, ReplicaError> {
        if let Some(replica) = self.used(store.id, |s| s.replica.clone()) {
            return Ok(replica);
        }
        let way = Store::by(&self.address_of(store)?, self.pacer(store), store.checksum)?;
        let keys = self.keyring.keys();
        let keys = if store.address.sealed { keys } else { keys.plainly() };
        let opened = if !store.address.is_bucket() {
            // An empty folder is what is left where a disk is not mounted, here or in the box that shares it. A replica is begun there only
            // when it is added.
            match Replica::open(way, keys).await {
                Err(ReplicaError::None) => return Err(Fault::Away(store.address.name.clone()).into()),
                other => other?,
            }
        } else {
            Replica::open_or_begin(way, keys, self.replica, now).await?
        };
        self.used(store.id, |s| s.replica = Some(opened.clone()));
        Ok(opened)
    }

    /// Forgets an opened replica, because it failed or its store changed.
    pub fn forget_replica(&self, store: StoreId) {
        self.used(store, |s| s.replica = None);
    }

    /// Forgets all of them: the keys have changed.
    pub fn forget_replicas(&self) {
        self.lock().values_mut().for_each(|s| s.replica = None);
    }

    /// Where a store is and how to sign in, with its secret opened. The catalogue has it sealed.
    pub fn address_of(&self, store: &StoreRow) -> Result<StoreAddress, Fault> {
        let secret = &store.address.secret_key;
        // Before there was a key of the server's own, secrets were sealed for the household's; they are sealed anew at the start.
        let opened = open_secret(&self.keyring.own, secret).or_else(|e| match e {
            OpenError::AnotherKey => open_secret(&self.keyring.keys(), secret),
            e => Err(e),
        });
        let secret_key =
            opened.map_err(|e| Fault::Refused(Refusal::Secret { name: store.address.name.clone(), why: e.to_string() }))?;
        Ok(StoreAddress { secret_key, ..store.address.clone() })
    }

    /// Seals the secrets of stores that were added before they were sealed, or before there was a key of the server's own.
    pub async fn seal_secrets(&self, catalog: &Catalog) -> Result<()> {
        for store in catalog.stores().await? {
            let secret = &store.address.secret_key;
            // In the clear, or sealed for the household's key, which the server may be told to forget.
            let ours = is_sealed(secret) && open_secret(&self.keyring.own, secret).is_ok();
            if !secret.is_empty() && !ours {
                match self.address_of(&store) {
                    Ok(address) => catalog.set_store_secret(store.id, &self.sealed(&address.secret_key)?).await?,
                    // The server's own key was made anew. That store waits for its keys to be entered again; the house does not.
                    Err(fault) => {
                        tracing::warn!(store = store.address.name, error = %fault, "the keys of a store cannot be opened");
                        catalog.store_stopped(store.id, &fault.to_string()).await?;
                    }
                }
            }
        }
        Ok(())
    }

    /// A secret as the catalogue keeps it. A disk has none.
    pub fn sealed(&self, secret: &str) -> Result<String, Fault> {
        if secret.is_empty() { Ok(String::new()) } else { seal_secret(&self.keyring.own, secret).map_err(Fault::Home) }
    }

    /// What holds requests to a store to its week's pace.
    fn pacer(&self, store: &StoreRow) -> Arc<Pacer> {
        let pacer = self.used(store.id, |s| Arc::clone(&s.pacer));
        pacer.set_week(store.week.clone());
        pacer
    }

    /// Keeps to a store's new week at once, also with what is under way.
    pub fn week_changed(&self, store: &StoreRow) {
        drop(self.pacer(store));
    }

    /// Notes bytes that a store has just taken.
    pub fn sent(&self, store: StoreId, bytes: u64) {
        let since = self.began.elapsed();
        self.used(store, |s| {
            s.concurrency.sent(bytes, since);
            s.sent.push_back((Instant::now(), bytes));
            while s.sent.front().is_some_and(|(at, _)| at.elapsed() > RATE_WINDOW) {
                s.sent.pop_front();
            }
        });
    }

    /// Bytes of originals per second that a store took over the last minute, counted from the first of them.
    pub fn rate(&self, store: StoreId) -> u64 {
        self.lock().get(&store).map_or(0, |s| rate(&s.sent))
    }

    /// What the line to a store carries when nothing holds it back, as far as that was seen: bytes per second.
    pub fn carries(&self, store: StoreId) -> Option<u64> {
        self.used(store, |s| {
            s.fastest = s.fastest.max(rate(&s.sent));
            Some(s.fastest).filter(|r| *r > 0)
        })
    }
}

fn rate(sent: &VecDeque<(Instant, u64)>) -> u64 {
    let recent = || sent.iter().filter(|(at, _)| at.elapsed() < RATE_WINDOW);
    let still = sent.back().is_none_or(|(at, _)| at.elapsed() > STILL);
    match recent().next() {
        Some((first, _)) if !still => {
            let seconds = first.elapsed().as_secs_f64().max(1.0);
            (recent().map(|(_, bytes)| *bytes).sum::<u64>() as f64 / seconds) as u64
        }
        _ => 0,
    }
}

/// A place among those originals that are sent to a store at once.
pub struct Slot {
    connections: Connections,
    store: StoreId,
}

impl Drop for Slot {
    fn drop(&mut self) {
        self.connections.used(self.store, |s| s.under_way = s.under_way.saturating_sub(1));
    }
}
