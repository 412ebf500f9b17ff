//! What is made once, for tests, and then copied: a migrated database, or all of a household. Making one takes seconds, copying it less than
//! one. Every test still has a cluster of its own, with its own server.

use std::{
    env,
    fs::{self, File, Permissions},
    io,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Command,
};

use uuid::Uuid;

use crate::{
    Catalog, CatalogError, Result,
    cluster::{self, Cluster, Durability, cannot, done},
};

/// What was made; nobody makes it anew while this is held.
pub struct Made {
    /// The folder that it is in.
    pub folder: PathBuf,
    _lock: File,
}

/// What `make` makes in the folder that it is handed; kept in the folder `made`, and made anew when the running program, or one of `than`, is
/// newer than it.
pub async fn once<E: From<CatalogError>>(
    made: &Path,
    than: &[&Path],
    make: impl AsyncFnOnce(&Path) -> std::result::Result<(), E>,
) -> std::result::Result<Made, E> {
    fs::create_dir_all(made).map_err(cannot("keep what was made"))?;
    let lock = File::create(made.join("lock")).map_err(cannot("wait for what is made"))?;
    let locked = tokio::task::spawn_blocking(move || lock.lock().map(|()| lock)).await.map_err(io::Error::other);
    let lock = locked.flatten().map_err(cannot("wait for what is made"))?;
    let ready = made.join("ready");
    if !is_current(&ready, than).map_err(cannot("look at what was made"))? {
        // Made where the database's user can reach, and put in place when it is whole.
        let place = env::temp_dir().join(format!("ypogeion-{}", Uuid::now_v7()));
        fs::create_dir(&place).map_err(cannot("make a folder"))?;
        fs::set_permissions(&place, Permissions::from_mode(0o755)).map_err(cannot("open a folder"))?;
        let done = make(&place).await;
        let kept = done.and_then(|()| keep(&place, &ready).map_err(E::from));
        let removed = fs::remove_dir_all(&place).map_err(cannot("remove a folder"));
        kept?;
        removed?;
    }
    Ok(Made { folder: ready, _lock: lock })
}

fn is_current(ready: &Path, than: &[&Path]) -> io::Result<bool> {
    let mut newest = env::current_exe()?.metadata()?.modified()?;
    for program in than {
        newest = newest.max(program.metadata()?.modified()?);
    }
    match ready.metadata() {
        Ok(meta) => Ok(meta.modified()? > newest),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(e) => Err(e),
    }
}

fn keep(place: &Path, ready: &Path) -> Result<()> {
    let new = ready.with_file_name("new");
    for old in [&new, ready] {
        if old.exists() {
            fs::remove_dir_all(old).map_err(cannot("remove what was made before"))?;
        }
    }
    copy(place, &new)?;
    fs::rename(&new, ready).map_err(cannot("keep what was made"))?;
    // A copy keeps its times.
    File::open(ready).and_then(|f| f.set_modified(std::time::SystemTime::now())).map_err(cannot("keep what was made"))
}

/// A folder with all that is in it, and whose it is.
pub fn copy(from: &Path, to: &Path) -> Result<()> {
    done("copy what was made", Command::new("cp").args(["-a", "--reflink=auto"]).arg(from).arg(to).output())
}

/// Puts a cluster that has the newest schema and no rows where [`Cluster::start`] looks for one.
pub async fn put(made: &Path, folder: &Path) -> Result<()> {
    let made = once(made, &[], async |place: &Path| {
        let place = place.join("database");
        let migrated = async {
            let cluster = Cluster::start(&place, Durability::ThrownAway)?;
            Catalog::open(&cluster.url()).await.map(drop)
        };
        let migrated = migrated.await;
        cluster::stop(&place)?;
        migrated
    });
    let made = made.await?;
    fs::create_dir_all(folder.parent().unwrap_or(folder)).map_err(cannot("make the database's folder"))?;
    copy(&made.folder.join("database"), folder)
}
