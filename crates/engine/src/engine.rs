//! What every part of the engine shares.

use std::{path::PathBuf, sync::Arc};

use chrono::{DateTime, Utc};
use tokio::sync::Semaphore;
use uuid::Uuid;
use ypogeion_catalog::{Catalog, people::Household};
use ypogeion_core::{UploadId, filing::FiledPath};
use ypogeion_library::{Library, LibraryError};
use ypogeion_media::worker::{Pool, Work};

use crate::{
    alike::Landings, connections::Connections, error::Result, filed_names::FiledNames, keys::Keyring, live::Live, said::Said,
    settings::Settings, towns::Towns, wakeups::Wakeups, writing::Busy,
};

/// So many downloads of many files run at the same time in the whole household.
const ZIPS: usize = 16;

/// The shared state of a house that runs.
pub struct Engine {
    /// The settings.
    pub settings: Settings,
    /// The catalogue.
    pub catalog: Catalog,
    /// The library.
    pub library: Arc<Library>,
    /// The household.
    pub household: Household,
    /// The household's keys.
    pub keyring: Arc<Keyring>,
    /// Reads facts from what has just arrived; people wait for it.
    pub reader: Arc<Pool>,
    /// Makes previews; nobody waits for it.
    pub previewer: Arc<Pool>,
    /// Makes films anew, one at a time.
    pub films: Arc<Pool>,
    /// The stores as they are used.
    pub connections: Connections,
    /// Names that are being given.
    pub names: FiledNames,
    /// Pictures that are landing.
    pub landings: Landings,
    /// Uploads that are being written to.
    pub busy: Busy,
    /// What listeners are told.
    pub live: Live,
    /// What anybody may ask.
    pub said: Said,
    /// Whom something wakes.
    pub wakeups: Wakeups,
    /// The names of towns.
    pub towns: Arc<Towns>,
    /// One for each download of many files that may run.
    pub zips: Arc<Semaphore>,
    /// This worker, for leases.
    pub me: Uuid,
}

/// Everything an [`Engine`] is made of that is not made by itself.
pub struct Parts {
    /// See [`Engine::settings`].
    pub settings: Settings,
    /// See [`Engine::catalog`].
    pub catalog: Catalog,
    /// See [`Engine::library`].
    pub library: Library,
    /// See [`Engine::household`].
    pub household: Household,
    /// See [`Engine::keyring`].
    pub keyring: Keyring,
    /// The program that serves as media worker.
    pub program: PathBuf,
    /// See [`Engine::me`].
    pub me: Uuid,
}

impl Engine {
    /// Puts the parts together.
    pub fn new(parts: Parts) -> Self {
        let wakeups = Wakeups::default();
        let gone = Arc::clone(&wakeups.home_gone);
        parts.library.presence().when_away(move || gone.notify_one());
        if parts.library.presence().away().is_some() {
            wakeups.home_gone.notify_one();
        }
        let pool = |most| Arc::new(Pool::new(parts.program.clone(), vec!["media-worker".to_owned()], most, Work::Pictures));
        let films = Arc::new(Pool::new(parts.program.clone(), vec!["film-worker".to_owned()], 1, Work::Films));
        let keyring = Arc::new(parts.keyring);
        Engine {
            reader: pool(parts.settings.media_workers),
            previewer: pool(parts.settings.media_workers),
            films,
            connections: Connections::new(Arc::clone(&keyring), parts.household.replica, parts.settings.offsite.parallel),
            settings: parts.settings,
            catalog: parts.catalog,
            library: Arc::new(parts.library),
            household: parts.household,
            keyring,
            names: FiledNames::default(),
            landings: Landings::default(),
            busy: Busy::default(),
            live: Live::default(),
            said: Said::default(),
            wakeups,
            towns: Arc::default(),
            zips: Arc::new(Semaphore::new(ZIPS)),
            me: parts.me,
        }
    }

    /// Now. The one place where the house reads the clock for what it writes down.
    pub fn now(&self) -> DateTime<Utc> {
        // PostgreSQL keeps microseconds; what is compared later must have been rounded before.
        chrono::SubsecRound::trunc_subsecs(Utc::now(), 6)
    }

    /// Readings from before this moment do not count as proofs any more.
    pub fn proven_since(&self) -> DateTime<Utc> {
        self.now() - self.settings.offsite.proven_for
    }

    /// Asks the library's disk something. Not on a thread that answers requests: a disk that is busy, or dying, takes its time even for a name.
    pub async fn on_disk<T: Send + 'static>(
        &self,
        ask: impl FnOnce(&Library) -> Result<T, LibraryError> + Send + 'static,
    ) -> Result<Result<T, LibraryError>> {
        let library = Arc::clone(&self.library);
        Ok(tokio::task::spawn_blocking(move || ask(&library)).await?)
    }

    /// Looks whether the library's disk is there.
    pub async fn home_is_there(&self) -> Result<()> {
        Ok(self.on_disk(|library| library.presence().check()).await??)
    }

    /// Bytes that are free on it.
    pub async fn free(&self) -> Result<u64> {
        Ok(self.on_disk(Library::free).await??)
    }

    /// Whether anything is at a place in the library.
    pub async fn is_there(&self, path: &FiledPath) -> Result<bool> {
        let path = path.clone();
        Ok(self.on_disk(move |library| library.is_there(&path)).await??)
    }

    /// How much of an upload is on the disk; none: there is no part of it.
    pub async fn part(&self, id: UploadId) -> Result<Option<u64>> {
        match self.on_disk(move |library| library.incoming().part(id)).await? {
            Ok(part) => Ok(Some(part.length)),
            Err(LibraryError::Missing { .. }) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }
}
