//! The catalogue of a command that works with a data folder, and nobody else beside it.

use std::{
    fs::{self, File, TryLockError},
    io,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
};

use chrono::Utc;
use ypogeion_catalog::{
    Catalog, CatalogError,
    cluster::{Cluster, Durability},
    upgrade,
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

/// The server of a database, before anything is asked of the database itself.
struct Server {
    cluster: Option<Cluster>,
    url: String,
    lock: File,
}

impl Server {
    /// Reaches the given database, or starts the private one.
    async fn start(settings: &Settings) -> Result<Self, Cannot> {
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
        Ok(Server { cluster, url, lock })
    }
}

async fn stop(cluster: Option<Cluster>) -> Result<(), Cannot> {
    let Some(cluster) = cluster else { return Ok(()) };
    tokio::task::spawn_blocking(move || cluster.stop())
        .await
        .map_err(failed("stop the database"))?
        .map_err(failed("stop the database"))
}

impl Database {
    /// Connects to the given database, or starts the private one. One of an earlier version is copied, and brought up to this one.
    pub async fn open(settings: &Settings) -> Result<Self, Cannot> {
        let Server { cluster, url, lock } = Server::start(settings).await?;
        upgrade::upgrade(&url, cluster.as_ref(), &settings.upgrades_folder(), Utc::now())
            .await
            .map_err(failed("bring the database up to this version"))?;
        let catalog = Catalog::open(&url).await.map_err(failed("open the database"))?;
        Ok(Database { catalog, cluster, _lock: lock })
    }

    /// Stops the private cluster, if there is one.
    pub async fn close(self) -> Result<(), Cannot> {
        drop(self.catalog);
        stop(self.cluster).await
    }
}

/// Puts the database back as it was before an upgrade: as in this copy, or in the newest one.
pub async fn undo_upgrade(settings: &Settings, copy: Option<&Path>) -> Result<(), Cannot> {
    let cannot = || failed::<CatalogError>("undo the upgrade");
    let copies = upgrade::copies(&settings.upgrades_folder()).map_err(cannot())?;
    let Some(copy) = copy.or(copies.first().map(PathBuf::as_path)) else {
        return Err(failed("undo the upgrade")(format!(
            "{} holds no copy of the database",
            settings.upgrades_folder().display()
        )));
    };
    if !copy.is_file() {
        return Err(failed("undo the upgrade")(format!("{} is not a file", copy.display())));
    }
    let Server { cluster, lock, .. } = Server::start(settings).await?;
    let Some(cluster) = cluster else {
        return Err(failed("undo the upgrade")(
            "the settings name a database that is not this program's own. Its copies are files for PostgreSQL's pg_restore",
        ));
    };
    let undone = upgrade::undo(&cluster, copy, Utc::now()).await;
    let stopped = stop(Some(cluster)).await;
    drop(lock);
    let undone = undone.map_err(cannot())?;
    println!("The database is as it was in {}.", undone.copy.display());
    println!(
        "Install the version of Ypogeion that had it then before you start it again: this one would bring the database up once more. Pictures \
         that came after the upgrade stay on the disk, unknown to the database; devices send those again that they still have."
    );
    println!("The database that was replaced is kept in PostgreSQL as {}.", undone.set_aside);
    stopped
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
