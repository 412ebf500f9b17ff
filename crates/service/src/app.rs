//! What every part of the service shares.

use std::{
    collections::{HashMap, HashSet, VecDeque},
    path::PathBuf,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use chrono::{DateTime, Utc};
use tokio::sync::Notify;
use url::Url;
use uuid::Uuid;
use ypogeion_catalog::{Catalog, people::Household, stores::StoreRow, work::Kind};
use ypogeion_core::{Digest, OriginalId, StoreId, UploadId, concurrency::Concurrency, kit::StoreAddress};
use ypogeion_library::Library;
use ypogeion_media::worker::Pool;
use ypogeion_offsite::{
    Fault, Line, Replica, Store,
    layout::ReplicaError,
    seal::{OpenError, is_sealed, open_secret, seal_secret},
};

use crate::{dav::locks::Locks, failure::Answer, keys::Keyring, live::Live, said::Said, security::Limiter, settings::Settings};

/// The shared state.
pub struct App {
    /// The settings.
    pub settings: Settings,
    /// The catalogue.
    pub catalog: Catalog,
    /// The library.
    pub library: Arc<Library>,
    /// The household.
    pub household: Household,
    /// The household's keys.
    pub keyring: Keyring,
    /// Reads facts from what has just arrived; people wait for it.
    pub reader: Arc<Pool>,
    /// Makes previews; nobody waits for it.
    pub previewer: Arc<Pool>,
    /// What listeners are told.
    pub live: Live,
    /// Limits on guessing.
    pub limiter: Limiter,
    /// What anybody may ask.
    pub said: Said,
    /// Fingerprint of the certificate.
    pub certificate: Digest,
    /// The address that devices are told.
    pub address: Url,
    /// This worker, for leases.
    pub me: Uuid,
    /// Uploads that are being written to.
    pub busy: Busy,
    /// Locks on files in devices' folders.
    pub locks: Locks,
    /// Filed names that were chosen and are not in the catalogue yet.
    pub reserved: Mutex<HashSet<String>>,
    /// Held by whoever gives an original another name, or puts other bytes in its place: one at a time, and after a new look at where it is.
    pub moves: tokio::sync::Mutex<()>,
    /// Told when work or reading begins, so that whoever looks after leases and children sleeps while there is none.
    pub stirred: Notify,
    /// Told when the library's disk was seen to be away.
    pub home_gone: Arc<Notify>,
    /// Told, all who wait, when it is there again.
    pub home_back: Notify,
    /// Wakes the background workers.
    pub wake: HashMap<Kind, Notify>,
    /// Opened replicas.
    replicas: Mutex<HashMap<StoreId, Replica>>,
    /// The ways to the stores.
    lines: Mutex<HashMap<StoreId, Arc<Line>>>,
    /// What was sent lately.
    rates: Mutex<HashMap<StoreId, VecDeque<(Instant, u64)>>>,
    /// How many originals go to each store at once, and how many are under way.
    lanes: Mutex<HashMap<StoreId, (Concurrency, usize)>>,
    /// Since then lanes are measured.
    began: Instant,
    /// The fastest that each line has carried since the start, in bytes per second.
    carried: Mutex<HashMap<StoreId, u64>>,
}

/// Everything an [`App`] is made of that is not made by itself.
pub struct Parts {
    /// See [`App::settings`].
    pub settings: Settings,
    /// See [`App::catalog`].
    pub catalog: Catalog,
    /// See [`App::library`].
    pub library: Library,
    /// See [`App::household`].
    pub household: Household,
    /// See [`App::keyring`].
    pub keyring: Keyring,
    /// The program that serves as media worker.
    pub program: PathBuf,
    /// See [`App::certificate`].
    pub certificate: Digest,
    /// See [`App::address`].
    pub address: Url,
    /// See [`App::me`].
    pub me: Uuid,
}

const RATE_WINDOW: Duration = Duration::from_secs(60);

impl App {
    /// Puts the parts together.
    pub fn new(parts: Parts) -> Self {
        let home_gone = Arc::new(Notify::new());
        let gone = Arc::clone(&home_gone);
        parts.library.presence().when_away(move || gone.notify_one());
        if parts.library.presence().away().is_some() {
            home_gone.notify_one();
        }
        let pool = |most| Arc::new(Pool::new(parts.program.clone(), vec!["media-worker".to_owned()], most));
        App {
            reader: pool(parts.settings.media_workers),
            previewer: pool(parts.settings.media_workers),
            settings: parts.settings,
            catalog: parts.catalog,
            library: Arc::new(parts.library),
            household: parts.household,
            keyring: parts.keyring,
            live: Live::default(),
            limiter: Limiter::default(),
            said: Said::default(),
            certificate: parts.certificate,
            address: parts.address,
            me: parts.me,
            busy: Busy::default(),
            locks: Locks::default(),
            reserved: Mutex::default(),
            moves: tokio::sync::Mutex::default(),
            stirred: Notify::new(),
            home_gone,
            home_back: Notify::new(),
            wake: Kind::ALL.into_iter().map(|k| (k, Notify::new())).collect(),
            replicas: Mutex::default(),
            lines: Mutex::default(),
            carried: Mutex::default(),
            rates: Mutex::default(),
            lanes: Mutex::default(),
            began: Instant::now(),
        }
    }

    /// Stores that have as many originals under way as is worth it.
    pub fn full_stores(&self) -> Vec<StoreId> {
        lock(&self.lanes).iter().filter(|(_, (lanes, busy))| *busy >= lanes.allowed()).map(|(id, _)| *id).collect()
    }

    /// An original is under way to a store, as long as this is kept.
    pub fn take_lane(self: &Arc<Self>, store: StoreId) -> Lane {
        let most = self.settings.offsite.parallel;
        lock(&self.lanes).entry(store).or_insert_with(|| (Concurrency::new(most), 0)).1 += 1;
        Lane { app: Arc::clone(self), store }
    }

    /// A store did not do what it should: it is given less to do at once.
    pub fn lane_failed(&self, store: StoreId) {
        if let Some((lanes, _)) = lock(&self.lanes).get_mut(&store) {
            lanes.failed();
        }
    }

    /// For how long a store has asked to be left alone.
    pub fn asked_to_wait(&self, store: StoreId) -> Option<Duration> {
        lock(&self.lines).get(&store)?.asked_to_wait()
    }

    /// Where sealed bodies for a store wait that are too large for memory.
    pub fn spool_of(&self, store: StoreId) -> PathBuf {
        self.settings.data_folder.join("spool").join(store.0.to_string())
    }

    /// Now. The one place where the service reads the clock for what it writes down.
    pub fn now(&self) -> DateTime<Utc> {
        // PostgreSQL keeps microseconds; what is compared later must have been rounded before.
        chrono::SubsecRound::trunc_subsecs(Utc::now(), 6)
    }

    /// Readings from before this moment do not count as proofs any more.
    pub fn proven_since(&self) -> DateTime<Utc> {
        self.now() - self.settings.offsite.proven_for
    }

    /// Wakes the background workers of all kinds.
    pub fn wake_workers(&self) {
        self.wake_for(&Kind::ALL);
    }

    /// Wakes those background workers that do these kinds of work.
    pub fn wake_for(&self, kinds: &[Kind]) {
        kinds.iter().for_each(|kind| self.wake[kind].notify_one());
    }

    /// Where a preview is. `size` is `small` or `large`.
    pub fn preview_path(&self, id: OriginalId, size: &str) -> PathBuf {
        let name = id.0.simple().to_string();
        // The last digits of a version 7 UUID are random; the first ones are the time.
        self.settings.data_folder.join("previews").join(&name[30..]).join(format!("{id}-{size}.jpg"))
    }

    /// The replica in a store, opened or begun.
    pub async fn replica(&self, store: &StoreRow) -> Result<Replica, ReplicaError> {
        if let Some(replica) = lock(&self.replicas).get(&store.id) {
            return Ok(replica.clone());
        }
        let way = Store::by(&self.address_of(store)?, self.line(store))?.that_notices(store.notices);
        let keys = self.keyring.keys();
        let keys = if store.address.sealed { keys } else { keys.plainly() };
        let opened = if way.is_disk() {
            // An empty folder is what is left where a disk is not mounted. A replica is begun there only when it is added.
            match Replica::open(way, keys).await {
                Err(ReplicaError::None) => return Err(Fault::Away(store.address.name.clone()).into()),
                other => other?,
            }
        } else {
            Replica::open_or_begin(way, keys, self.household.replica, self.now()).await?
        };
        lock(&self.replicas).insert(store.id, opened.clone());
        Ok(opened)
    }

    /// Where a store is and how to sign in, with its secret opened. The catalogue has it sealed.
    pub fn address_of(&self, store: &StoreRow) -> Result<StoreAddress, Fault> {
        let secret = &store.address.secret_key;
        // Before there was a key of the server's own, secrets were sealed for the household's; they are sealed anew at the start.
        let opened = open_secret(&self.keyring.own, secret).or_else(|e| match e {
            OpenError::AnotherKey => open_secret(&self.keyring.keys(), secret),
            e => Err(e),
        });
        let secret_key = opened.map_err(|e| {
            Fault::Refused(format!("the secret key of {} cannot be opened: {e}; enter it again", store.address.name))
        })?;
        Ok(StoreAddress { secret_key, ..store.address.clone() })
    }

    /// Seals the secrets of stores that were added before they were sealed, or before there was a key of the server's own.
    pub async fn seal_secrets(&self) -> Answer<()> {
        for store in self.catalog.stores().await? {
            let secret = &store.address.secret_key;
            // In the clear, or sealed for the household's key, which the server may be told to forget.
            let ours = is_sealed(secret) && open_secret(&self.keyring.own, secret).is_ok();
            if !secret.is_empty() && !ours {
                match self.address_of(&store) {
                    Ok(address) => self.catalog.set_store_secret(store.id, &self.sealed(&address.secret_key)?).await?,
                    // The server's own key was made anew. That store waits for its keys to be entered again; the house does not.
                    Err(fault) => {
                        tracing::warn!(store = store.address.name, error = %fault, "the keys of a store cannot be opened");
                        self.catalog.store_stopped(store.id, &fault.to_string()).await?;
                    }
                }
            }
        }
        Ok(())
    }

    /// A secret as the catalogue keeps it. A disk has none.
    pub fn sealed(&self, secret: &str) -> Answer<String> {
        if secret.is_empty() { Ok(String::new()) } else { Ok(seal_secret(&self.keyring.own, secret).map_err(Fault::Home)?) }
    }

    /// The way to a store, at its week's pace. All requests of this process to that store share it.
    fn line(&self, store: &StoreRow) -> Arc<Line> {
        let line = Arc::clone(lock(&self.lines).entry(store.id).or_default());
        line.set_week(store.week.clone());
        line
    }

    /// Keeps to a store's new week at once, also with what is under way.
    pub fn week_changed(&self, store: &StoreRow) {
        drop(self.line(store));
    }

    /// Looks whether the library's disk is there. Not on the thread that answers requests: a disk that is dying takes its time.
    pub async fn home_is_there(&self) -> Answer<()> {
        let library = Arc::clone(&self.library);
        Ok(tokio::task::spawn_blocking(move || library.presence().check()).await??)
    }

    /// Forgets an opened replica, because its keys changed or it failed.
    pub fn forget_replica(&self, store: StoreId) {
        lock(&self.replicas).remove(&store);
    }

    /// Forgets all of them: the keys have changed.
    pub fn forget_replicas(&self) {
        lock(&self.replicas).clear();
    }

    /// Notes bytes that a store has just taken.
    pub fn sent(&self, store: StoreId, bytes: u64) {
        if let Some((lanes, _)) = lock(&self.lanes).get_mut(&store) {
            lanes.sent(bytes, self.began.elapsed());
        }
        let mut rates = lock(&self.rates);
        let sent = rates.entry(store).or_default();
        sent.push_back((Instant::now(), bytes));
        while sent.front().is_some_and(|(at, _)| at.elapsed() > RATE_WINDOW) {
            sent.pop_front();
        }
    }

    /// Bytes of originals per second that a store took over the last minute, counted from the first of them.
    pub fn rate(&self, store: StoreId) -> u64 {
        let rates = lock(&self.rates);
        let recent: Vec<_> = rates.get(&store).into_iter().flatten().filter(|(at, _)| at.elapsed() < RATE_WINDOW).collect();
        let idle = recent.last().is_none_or(|(at, _)| at.elapsed() > Duration::from_secs(10));
        match recent.first() {
            Some((first, _)) if !idle => {
                let seconds = first.elapsed().as_secs_f64().max(1.0);
                (recent.iter().map(|(_, b)| *b).sum::<u64>() as f64 / seconds) as u64
            }
            _ => 0,
        }
    }

    /// What the line to a store carries when nothing holds it back, as far as that was seen: bytes per second.
    pub fn carries(&self, store: StoreId) -> Option<u64> {
        let now = self.rate(store);
        let mut carried = lock(&self.carried);
        let most = carried.entry(store).or_default();
        *most = now.max(*most);
        Some(*most).filter(|r| *r > 0)
    }

    /// Reserves a filed name until the guard is dropped. `None`: somebody else is about to use it.
    pub fn reserve(self: &Arc<Self>, folded: String) -> Option<Reserved> {
        lock(&self.reserved).insert(folded.clone()).then(|| Reserved { app: Arc::clone(self), folded })
    }
}

/// A place among those that a store is sent at once.
pub struct Lane {
    app: Arc<App>,
    store: StoreId,
}

impl Drop for Lane {
    fn drop(&mut self) {
        if let Some((_, busy)) = lock(&self.app.lanes).get_mut(&self.store) {
            *busy = busy.saturating_sub(1);
        }
    }
}

/// A filed name that nobody else may choose.
pub struct Reserved {
    app: Arc<App>,
    folded: String,
}

impl Drop for Reserved {
    fn drop(&mut self) {
        lock(&self.app.reserved).remove(&self.folded);
    }
}

/// Uploads that are being written to: one request at a time.
#[derive(Clone, Default)]
pub struct Busy(Arc<Mutex<HashSet<UploadId>>>);

/// The right to write to an upload.
pub struct Writing(Busy, UploadId);

impl Busy {
    /// Takes the right, if nobody has it.
    pub fn take(&self, id: UploadId) -> Option<Writing> {
        lock(&self.0).insert(id).then(|| Writing(self.clone(), id))
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        lock(&self.0.0).remove(&self.1);
    }
}

/// No code that can panic runs under these locks.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
