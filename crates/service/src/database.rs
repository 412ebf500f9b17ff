//! The catalogue of a command that works with a data folder, and nobody else beside it.

use std::{
    fs::{self, File, TryLockError},
    io,
    os::unix::fs::PermissionsExt,
    path::Path,
};

use ypogeion_catalog::{
    Catalog,
    cluster::{Cluster, Durability},
};

use ypogeion_engine::error::{Cannot, failed};

use crate::settings::Settings;

/// The catalogue, and the private cluster if it is ours to stop.
pub struct Database {
    /// The catalogue.
    pub catalog: Catalog,
    cluster: Option<Cluster>,
    /// Whoever else would start, or stop, the same cluster, is refused while this is held.
    _lock: File,
}

impl Database {
    /// Connects to the given database, or starts the private one.
    pub async fn open(settings: &Settings) -> Result<Self, Cannot> {
        make_data_folder(&settings.house.data_folder)?;
        let lock = lock(&settings.house.data_folder)?;
        let durability = match std::env::var_os("YPOGEION_THROW_AWAY") {
            // For tests, whose households nobody will miss.
            Some(_) => Durability::ThrownAway,
            None => Durability::Kept,
        };
        let (cluster, url) = match &settings.database {
            Some(address) => (None, address.0.clone()),
            None => {
                let folder = settings.cluster_folder();
                let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder, durability))
                    .await
                    .map_err(failed("start the database"))?
                    .map_err(failed("start the database"))?;
                let url = cluster.url();
                (Some(cluster), url)
            }
        };
        let catalog = Catalog::open(&url).await.map_err(failed("open the database"))?;
        Ok(Database { catalog, cluster, _lock: lock })
    }

    /// Stops the private cluster, if there is one.
    pub async fn close(self) -> Result<(), Cannot> {
        drop(self.catalog);
        if let Some(cluster) = self.cluster {
            tokio::task::spawn_blocking(move || cluster.stop())
                .await
                .map_err(failed("stop the database"))?
                .map_err(failed("stop the database"))?;
        }
        Ok(())
    }
}

/// Held by the one process that works with a data folder, until it ends however it ends.
fn lock(folder: &Path) -> Result<File, Cannot> {
    let path = folder.join("lock");
    let file = File::create(&path).map_err(failed(format!("open {}", path.display())))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(TryLockError::WouldBlock) => Err(failed(format!("use the data folder {}", folder.display()))(
            "the service, or another of its commands, is running with it; stop that first",
        )),
        Err(TryLockError::Error(e)) => Err(failed(format!("lock {}", path.display()))(e)),
    }
}

fn make_data_folder(folder: &Path) -> Result<(), Cannot> {
    let cannot = |e: io::Error| failed::<io::Error>(format!("make the data folder {}", folder.display()))(e);
    fs::create_dir_all(folder.join("spool")).map_err(cannot)?;
    // Nobody else's; only where the database has a user of its own, that one passes through, and lists nothing.
    let mode = if rustix::process::geteuid().is_root() { 0o711 } else { 0o700 };
    fs::set_permissions(folder, fs::Permissions::from_mode(mode)).map_err(cannot)
}
