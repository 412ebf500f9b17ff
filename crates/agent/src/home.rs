//! The device's own folder: its pairing and its sources in one small file, the cache beside it.

use std::{
    fs,
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use serde::{Deserialize, Serialize};
use url::Url;
use ypogeion_core::{DeviceId, Digest, condition::Conditions, source::SourceRule};

use crate::{
    cache::{Cache, CacheError},
    client::{Client, ClientError},
    gate::Watcher,
    platform::Platform,
    runlog,
};

const VERSION: u32 = 1;

/// A folder or album that is backed up.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Source {
    /// What it is called, here and on the server.
    pub name: String,
    /// The folder.
    pub folder: PathBuf,
    /// What of it is backed up.
    #[serde(default)]
    pub rule: SourceRule,
    /// The platform shows this device only a selection of what is there.
    #[serde(default)]
    pub selection_only: bool,
}

impl Source {
    /// A whole folder.
    pub fn new(name: &str, folder: &Path) -> Self {
        Source { name: name.to_owned(), folder: folder.to_owned(), rule: SourceRule::default(), selection_only: false }
    }
}

/// With whom this device is paired.
#[derive(Clone, Serialize, Deserialize)]
pub struct Paired {
    /// Address of the service.
    pub server: Url,
    /// SHA-256 of its certificate; none for plain http on this machine.
    pub certificate: Option<Digest>,
    /// This device's token.
    pub token: String,
    /// This device's id there.
    pub device: DeviceId,
    /// The household's name.
    pub household: String,
    /// Whose device this is.
    pub person: String,
}

/// Everything in the file.
#[derive(Clone, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct State {
    version: u32,
    /// The pairing, once there is one.
    pub paired: Option<Paired>,
    /// The sources.
    pub sources: Vec<Source>,
    /// When it may send by itself.
    pub conditions: Conditions,
}

/// Why the device's folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum HomeError {
    /// Not paired yet.
    #[error("this device is not paired yet; make a code in the console and run \"ypogeion pair\" with it")]
    NotPaired,
    /// The file was written by a newer version, or is damaged. It is left as it is.
    #[error("{0} is damaged or was written by a newer version; it was left as it is")]
    NotUnderstood(PathBuf),
    /// Reading or writing failed.
    #[error("could not read or write {path}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
    /// The cache failed.
    #[error(transparent)]
    Cache(#[from] CacheError),
    /// The client could not be made.
    #[error(transparent)]
    Client(#[from] ClientError),
}

impl HomeError {
    /// A small file beside the pairing could not be read or written.
    pub(crate) fn order(source: io::Error) -> Self {
        HomeError::Io { path: "the device's own folder".into(), source }
    }
}

/// The device's own folder.
pub struct Home {
    folder: PathBuf,
    /// What is in its file.
    pub state: State,
}

impl Home {
    /// Opens the folder. One without a file is a device that was never paired; a damaged file is an error, never "empty".
    pub fn open(folder: &Path) -> Result<Self, HomeError> {
        let path = folder.join("device.json");
        let state = match fs::read(&path) {
            Ok(bytes) => match serde_json::from_slice::<State>(&bytes) {
                Ok(state) if state.version <= VERSION => state,
                _ => return Err(HomeError::NotUnderstood(path)),
            },
            Err(e) if e.kind() == io::ErrorKind::NotFound => State::default(),
            Err(source) => return Err(HomeError::Io { path, source }),
        };
        Ok(Home { folder: folder.to_owned(), state })
    }

    /// Writes the file, whole or not at all. Only this user may read it: it holds the token.
    pub fn save(&mut self) -> Result<(), HomeError> {
        self.state.version = VERSION;
        let path = self.folder.join("device.json");
        let text = serde_json::to_vec_pretty(&self.state).expect("a pairing is text");
        let write = || {
            fs::create_dir_all(&self.folder)?;
            let new = self.folder.join("device.json.new");
            let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
            file.write_all(&text)?;
            file.sync_all()?;
            fs::rename(&new, &path)?;
            fs::File::open(&self.folder)?.sync_all()
        };
        write().map_err(|source| HomeError::Io { path: path.clone(), source })
    }

    /// The pairing.
    pub fn paired(&self) -> Result<&Paired, HomeError> {
        self.state.paired.as_ref().ok_or(HomeError::NotPaired)
    }

    /// What decides whether a run may go on just now.
    pub fn watcher(&self, platform: &Arc<dyn Platform>, asked: bool) -> Result<Watcher, HomeError> {
        Ok(Watcher {
            folder: self.folder.clone(),
            server: self.paired()?.server.clone(),
            conditions: self.state.conditions.clone(),
            last: runlog::last_complete(&self.folder),
            asked,
            platform: Arc::clone(platform),
        })
    }

    /// A client for the paired service.
    pub fn client(&self) -> Result<Client, HomeError> {
        let paired = self.paired()?;
        Ok(Client::new(&paired.server, paired.certificate, Some(paired.token.clone()))?)
    }

    /// The folder itself.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The hashes of files seen before.
    pub fn cache(&self) -> Result<Cache, HomeError> {
        Ok(Cache::open(&self.folder.join("hashes.redb"))?)
    }
}
