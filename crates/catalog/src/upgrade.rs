//! The database of an earlier version of this program: copied, then brought up to this version, and put back if that was a mistake.
//!
//! No migration knows the way back, so that none runs over a household's rows before they lie beside it in a file that was read once from
//! end to end. All of them are one transaction: whatever happens, the database is as it was before, or as this version wants it.

use std::{
    collections::BTreeSet,
    fs::{self, File},
    io,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use chrono::{DateTime, Utc};
use diesel::{
    migration::{Migration, MigrationSource},
    pg::Pg,
};
use diesel_async::{AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, SimpleAsyncConnection, TransactionManager};
use diesel_migrations::MigrationHarness;
use tokio_postgres::config::Host;

use crate::{
    CatalogError, MIGRATIONS, RecordLine, Result,
    cluster::{Cluster, cannot, done, newest, program},
    db::*,
};

/// So many copies are kept; the oldest goes when an upgrade is complete.
const KEPT: usize = 3;
const BEFORE: &str = "before-upgrade-";
const PUT_BACK: &str = "put the copy of the database back; nothing was changed";
const RESTORING: &str = "ypogeion_restoring";

/// How far a database is, as its own list of migrations says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Schema {
    /// Nothing was ever in it.
    New,
    /// As this version wants it.
    Current,
    /// An earlier version made it; its last migration.
    Earlier(String),
    /// A later version had it; a migration that this one does not know.
    Later(String),
}

/// An upgrade that was done.
#[derive(Debug)]
pub struct Upgraded {
    /// Where the database lies as it was before.
    pub copy: PathBuf,
}

/// An upgrade that was undone.
#[derive(Debug)]
pub struct Undone {
    /// The copy that is the database now.
    pub copy: PathBuf,
    /// The database that it replaced, in the same cluster.
    pub set_aside: String,
}

pub(crate) type Harness = AsyncMigrationHarness<AsyncPgConnection>;

pub(crate) async fn harness(url: &str) -> Result<Harness> {
    Ok(Harness::new(AsyncPgConnection::establish(url).await.map_err(|e| CatalogError::Away(Box::new(e)))?))
}

/// How far the database is.
pub(crate) fn schema(harness: &mut Harness) -> Result<Schema> {
    let migrations: Vec<Box<dyn Migration<Pg>>> = MIGRATIONS.migrations().map_err(CatalogError::Away)?;
    let known: BTreeSet<String> = migrations.iter().map(|m| m.name().version().to_string()).collect();
    let applied: BTreeSet<String> =
        harness.applied_migrations().map_err(CatalogError::Away)?.into_iter().map(|v| v.to_string()).collect();
    if let Some(unknown) = applied.difference(&known).last() {
        return Ok(Schema::Later(unknown.clone()));
    }
    Ok(match applied.last() {
        None => Schema::New,
        Some(_) if applied.len() == known.len() => Schema::Current,
        Some(last) => Schema::Earlier(last.clone()),
    })
}

/// Runs what is missing, and writes what there is to say about it into the record: all or nothing.
pub(crate) async fn migrate(harness: Harness, said: Option<RecordLine>) -> Result<()> {
    type Transactions = <AsyncPgConnection as AsyncConnection>::TransactionManager;
    let mut connection = harness.into_inner();
    Transactions::begin_transaction(&mut connection).await?;
    let mut harness = Harness::new(connection);
    // An error leaves the transaction to the end of its connection, and is nothing that was committed.
    harness.run_pending_migrations(MIGRATIONS).map_err(|e| CatalogError::Cluster {
        what: "bring the database up to this version; it is as it was before",
        said: chain(&*e),
    })?;
    let mut connection = harness.into_inner();
    if let Some(line) = said {
        insert_into(record::table).values(line).execute(&mut connection).await?;
    }
    Ok(Transactions::commit_transaction(&mut connection).await?)
}

/// Brings the database of an earlier version up to this one, after a copy of it was put into `folder`. `None`: there was nothing to do. `cluster`
/// is whose the database is, where it is a private one.
pub async fn upgrade(url: &str, cluster: Option<&Cluster>, folder: &Path, now: DateTime<Utc>) -> Result<Option<Upgraded>> {
    let mut harness = harness(url).await?;
    let Schema::Earlier(last) = schema(&mut harness)? else {
        return Ok(None);
    };
    tracing::warn!(folder = %folder.display(), "the database is of an earlier version; it is copied, then brought up to this one");
    let tools = Tools::of(url, cluster)?;
    let copy = folder.join(format!("{BEFORE}{}-from-{last}.dump", now.format("%Y-%m-%dT%H%M%SZ")));
    let (place, kept) = (copy.clone(), folder.to_owned());
    blocking(move || tools.copy(&place)).await?;
    let what = format!("brought the database up to this version; as it was before, it lies in {}", copy.display());
    migrate(harness, Some(RecordLine { at: now, who: "Ypogeion".to_owned(), what })).await?;
    // The upgrade is done; an old copy that cannot be removed is only one too many.
    if let Err(e) = blocking(move || remove_old(&kept)).await {
        tracing::warn!(error = %e, "an old copy of the database could not be removed");
    }
    tracing::info!(copy = %copy.display(), "the database is of this version now; as it was before, it lies in the copy");
    Ok(Some(Upgraded { copy }))
}

/// The copies that were made before upgrades, the newest first.
pub fn copies(folder: &Path) -> Result<Vec<PathBuf>> {
    listed(folder, ".dump")
}

fn listed(folder: &Path, end: &str) -> Result<Vec<PathBuf>> {
    let entries = match fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(e) => return Err(cannot("look for copies of the database")(e)),
    };
    let names = entries.map(|e| e.map(|e| e.file_name())).collect::<io::Result<Vec<_>>>();
    let names = names.map_err(cannot("look for copies of the database"))?;
    let mut copies: Vec<String> = names.into_iter().filter_map(|n| n.into_string().ok()).collect();
    copies.retain(|n| n.starts_with(BEFORE) && n.ends_with(end));
    // Their times are in their names, and sort as text.
    copies.sort_by(|a, b| b.cmp(a));
    Ok(copies.into_iter().map(|n| folder.join(n)).collect())
}

/// Makes the copy the household's database. The one that was it until now is kept under another name.
pub async fn undo(cluster: &Cluster, copy: &Path, now: DateTime<Utc>) -> Result<Undone> {
    let (tools, place) = (Tools::of(&cluster.url(), Some(cluster))?, copy.to_owned());
    let own = tools.database.clone();
    let set_aside = format!("{own}_until_{}", now.format("%Y%m%d_%H%M%S"));
    let mut c = establish(&cluster.url_of("postgres")).await?;
    // What an interrupted attempt left.
    c.batch_execute(&format!("DROP DATABASE IF EXISTS {RESTORING}")).await?;
    c.batch_execute(&format!("CREATE DATABASE {RESTORING}")).await?;
    blocking(move || tools.restore(&place, RESTORING)).await?;
    // What was restored is a household's database of a version that this program knows, or it changes nothing.
    let restored = schema(&mut harness(&cluster.url_of(RESTORING)).await?)?;
    if !matches!(restored, Schema::Earlier(_) | Schema::Current) {
        c.batch_execute(&format!("DROP DATABASE {RESTORING}")).await?;
        return Err(match restored {
            Schema::Later(step) => CatalogError::Later { step },
            _ => CatalogError::Cluster { what: PUT_BACK, said: format!("{} is a copy of something else", copy.display()) },
        });
    }
    // Both or none: without either, the next start would find no database and make an empty one.
    let names = format!("ALTER DATABASE {own} RENAME TO {set_aside}; ALTER DATABASE {RESTORING} RENAME TO {own}");
    c.batch_execute(&format!("BEGIN; {names}; COMMIT")).await?;
    Ok(Undone { copy: copy.to_owned(), set_aside })
}

fn chain(e: &(dyn std::error::Error + 'static)) -> String {
    std::iter::successors(Some(e), |e| e.source()).map(ToString::to_string).collect::<Vec<_>>().join(": ")
}

async fn establish(url: &str) -> Result<AsyncPgConnection> {
    AsyncPgConnection::establish(url).await.map_err(|e| CatalogError::Away(Box::new(e)))
}

async fn blocking<T: Send + 'static>(what: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    tokio::task::spawn_blocking(what).await.map_err(|e| cannot("copy the database")(io::Error::other(e)))?
}

/// What attempts left that were cut off, but for `own`: each takes as much room as a whole copy.
fn remove_parts(folder: &Path, own: &Path) -> Result<()> {
    for left in listed(folder, ".part")?.into_iter().filter(|p| p != own) {
        fs::remove_file(left).map_err(cannot("remove half a copy of the database"))?;
    }
    Ok(())
}

fn remove_old(folder: &Path) -> Result<()> {
    for old in copies(folder)?.into_iter().skip(KEPT) {
        fs::remove_file(old).map_err(cannot("remove an old copy of the database"))?;
    }
    Ok(())
}

/// PostgreSQL's own tools for one database. Where it is and what opens it are told to them by their environment: everybody on a computer sees
/// the arguments of its processes.
struct Tools {
    version: u32,
    environment: Vec<(&'static str, String)>,
    database: String,
}

impl Tools {
    fn of(url: &str, cluster: Option<&Cluster>) -> Result<Self> {
        let version = match cluster {
            Some(cluster) => cluster.version()?,
            None => newest()?,
        };
        let said = |said: String| CatalogError::Cluster { what: "copy the database", said };
        let config: tokio_postgres::Config = url.parse().map_err(|e: tokio_postgres::Error| said(e.to_string()))?;
        let host = match config.get_hosts() {
            [Host::Tcp(name)] => name.clone(),
            [Host::Unix(folder)] => folder.display().to_string(),
            _ => return Err(said("its address names no server, or several".to_owned())),
        };
        let database =
            config.get_dbname().or(config.get_user()).ok_or_else(|| said("its address names no database".to_owned()))?;
        let database = database.to_owned();
        let mut environment = vec![("PGHOST", host), ("PGDATABASE", database.clone())];
        environment.extend(config.get_user().map(|user| ("PGUSER", user.to_owned())));
        environment.extend(config.get_ports().first().map(|p| ("PGPORT", p.to_string())));
        if let Some(password) = config.get_password() {
            let text = String::from_utf8(password.to_vec()).map_err(|_| said("its password is not text".to_owned()))?;
            environment.push(("PGPASSWORD", text));
        }
        Ok(Tools { version, environment, database })
    }

    fn tool(&self, name: &str) -> Command {
        let mut command = Command::new(program(name, self.version));
        command.env("LC_ALL", "C.UTF-8").envs(self.environment.iter().map(|(k, v)| (k, v))).stdin(Stdio::null());
        command
    }

    /// Writes a copy of the database, reads it once from end to end, and lets it have its name.
    fn copy(&self, place: &Path) -> Result<()> {
        let folder = place.parent().unwrap_or(Path::new("/"));
        fs::create_dir_all(folder).map_err(cannot("make the folder for copies of the database"))?;
        let part = place.with_extension("part");
        remove_parts(folder, &part)?;
        let copied = self.copy_into(&part, folder, place);
        if copied.is_err() {
            // The room may be needed; what is wrong is said by the error above all.
            let _ = fs::remove_file(&part);
        }
        copied
    }

    fn copy_into(&self, part: &Path, folder: &Path, place: &Path) -> Result<()> {
        let cannot = || cannot("write a copy of the database; it was not upgraded");
        let file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(part).map_err(cannot())?;
        let out = file.try_clone().map_err(cannot())?;
        let mut dump = self.tool("pg_dump");
        done("write a copy of the database; it was not upgraded", dump.arg("--format=custom").stdout(out).output())?;
        file.sync_all().map_err(cannot())?;
        let mut read = self.tool("pg_restore");
        read.arg("--file=-").arg(part).stdout(Stdio::null());
        done("read the copy of the database that was just written; it was not upgraded", read.output())?;
        fs::rename(part, place).map_err(cannot())?;
        File::open(folder).and_then(|f| f.sync_all()).map_err(cannot())
    }

    fn restore(&self, copy: &Path, database: &str) -> Result<()> {
        let mut restore = self.tool("pg_restore");
        restore.args(["--exit-on-error", "--no-owner", "--single-transaction", "--dbname", database]).arg(copy);
        done(PUT_BACK, restore.output())
    }
}
