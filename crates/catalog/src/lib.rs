//! The catalogue: PostgreSQL through Diesel.
//!
//! [`Catalog`] is the one door. Its methods are grouped by what they are about: [`people`], [`devices`], [`pairings`], [`sightings`],
//! [`inventories`], [`uploads`], [`landing`], [`originals`], [`places`], [`shots`], [`derived`], [`refilings`], [`clearances`], [`folder_view`],
//! [`adoptions`], [`evidence`], [`audits`], [`stores`], [`copies`], [`holding`], [`removal`], [`keys`], [`work`], [`missing`], [`runs`],
//! [`numbers`], [`history`]; what stores have confirmed is `objects`, how far their ledgers are is `segments`, and how work is put down is
//! `wishes`. [`growth`] keeps what the planner knows of them up to date. [`cluster`] keeps a private PostgreSQL when the keeper has none.
//! Queries are written with Diesel's builder (`db`) from the tables of `schema`; what it cannot say is text, and says why. Rows become
//! domain types before they leave this crate; what must be true together is one
//! statement or one transaction.

/// Runs, on the connection `c`, what has to be true together, or not at all; and once more when it met somebody else half way: of two that
/// wait for each other, PostgreSQL ends one, which has done nothing then. Nobody is refused because of that. (A function could not say that
/// what it is handed may go to another thread.)
macro_rules! whole {
    ($c:ident, $work:block) => {
        async {
            let mut left = 4;
            loop {
                match diesel_async::AsyncConnection::transaction(&mut *$c, async |$c| $work).await {
                    Err(e) if left > 0 && $crate::met_halfway(&e) => left -= 1,
                    ended => break ended,
                }
            }
        }
    };
}

pub mod adoptions;
pub mod albums;
pub mod arrangement;
pub mod audits;
pub mod brought;
pub mod choosing;
pub mod clearances;
pub mod cluster;
mod columns;
pub mod copied;
pub mod copies;
mod db;
pub mod derived;
pub mod devices;
pub mod elsewhere;
pub mod evidence;
pub mod favourites;
pub mod films;
pub mod find;
pub mod folder_view;
pub mod followed;
pub mod given;
pub mod growth;
pub mod history;
pub mod holding;
pub mod inventories;
pub mod keys;
pub mod landing;
pub mod links;
pub mod missing;
pub mod numbers;
mod objects;
mod offered;
pub mod originals;
pub mod own_folders;
pub mod pairings;
pub mod people;
pub mod places;
pub mod put_away;
pub mod rebuild;
pub mod refilings;
pub mod removal;
pub mod runs;
mod schema;
pub mod scope;
mod segments;
pub mod shots;
pub mod sightings;
pub mod stores;
pub mod upgrade;
pub mod uploads;
pub mod versions;
mod wishes;
pub mod words;
pub mod work;
pub mod zips;

use std::{
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use ::deadpool::managed::QueueMode;
use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName,
    result::{DatabaseErrorKind, Error as DieselError},
    sql_types::BigInt,
};
use diesel_async::{
    AsyncPgConnection,
    pooled_connection::{AsyncDieselConnectionManager, ManagerConfig, PoolError, PoolableConnection, RecyclingMethod, deadpool},
};
use diesel_migrations::{EmbeddedMigrations, embed_migrations};
use tokio::sync::Notify;

use db::*;
use growth::Growth;
use upgrade::Schema;
use wishes::ledgers_due;
use work::Kind;
use ypogeion_core::ledger::EntryRecord;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");
const CONNECTIONS: usize = 12;
const ASYNC_COMMIT_CONNECTIONS: usize = 6;
/// Notices of new work are gathered for this long: PostgreSQL lets only one transaction that notifies commit at a time.
const GATHER: Duration = Duration::from_millis(50);
/// Decisions are gathered for this long before the ledgers say them.
const DECIDED: chrono::TimeDelta = chrono::TimeDelta::seconds(2);
/// A connection that was used a moment ago is there; one that rested for longer is asked first.
const FRESH: Duration = Duration::from_secs(1);

/// The catalogue of one household.
#[derive(Clone)]
pub struct Catalog {
    pool: deadpool::Pool<AsyncPgConnection>,
    soft: deadpool::Pool<AsyncPgConnection>,
    added: Arc<AddedWork>,
    growth: Arc<Growth>,
    /// Something was counted, perhaps, and waits to be added up.
    counted: Arc<Notify>,
    /// A line was written into the record.
    recorded: Arc<Notify>,
    url: String,
}

/// Work that was added and that nobody has been told of.
#[derive(Default)]
struct AddedWork {
    /// Its kinds, a bit each.
    kinds: AtomicU32,
    told: Notify,
}

/// Why the catalogue could not answer.
#[derive(Debug, thiserror::Error)]
pub enum CatalogError {
    /// Nothing like that is there (or it is somebody else's, which nobody is told apart).
    #[error("there is no such thing here")]
    NotFound,
    /// Something with that name is there already.
    #[error("that name is taken")]
    Taken,
    /// A device has made more rows than any device needs.
    #[error("this device has too much of it")]
    TooMany,
    /// The database cannot be reached.
    #[error("the database does not answer")]
    Away(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// The database refused a statement: a fault in this program, or a damaged database.
    #[error("the database refused a statement")]
    Refused(#[source] DieselError),
    /// An earlier version of this program made the database; see [`upgrade::upgrade`].
    #[error("the database is of an earlier version, and was not brought up to this one")]
    Earlier,
    /// A later version of this program had the database.
    #[error(
        "a later version of this program had the database (its step {step} is not known here); nothing was changed. Install that version again, or \
         put the database back as it was before, with: ypogeiond undo-upgrade"
    )]
    Later {
        /// A migration that is not known here.
        step: String,
    },
    /// The private cluster could not be made or started.
    #[error("could not {what}: {said}")]
    Cluster {
        /// The attempt.
        what: &'static str,
        /// What the tool or the system said.
        said: String,
    },
}

impl From<DieselError> for CatalogError {
    fn from(e: DieselError) -> Self {
        match e {
            DieselError::NotFound => CatalogError::NotFound,
            DieselError::DatabaseError(DatabaseErrorKind::UniqueViolation, _) => CatalogError::Taken,
            DieselError::DatabaseError(DatabaseErrorKind::CheckViolation, ref info)
                if info.constraint_name() == Some("device_makes_no_more") =>
            {
                CatalogError::TooMany
            }
            DieselError::DatabaseError(DatabaseErrorKind::ClosedConnection | DatabaseErrorKind::UnableToSendCommand, _)
            | DieselError::BrokenTransactionManager => CatalogError::Away(Box::new(e)),
            DieselError::DatabaseError(_, ref info) if going_down(info.message()) => CatalogError::Away(Box::new(e)),
            e => CatalogError::Refused(e),
        }
    }
}

fn met_halfway(e: &CatalogError) -> bool {
    matches!(e, CatalogError::Refused(DieselError::DatabaseError(_, info)) if info.message() == "deadlock detected")
}

/// What PostgreSQL and its client say while the server stops, starts, or has just vanished.
fn going_down(message: &str) -> bool {
    ["terminating connection", "shutting down", "starting up", "connection closed", "error communicating", "recovery mode"]
        .iter()
        .any(|m| message.contains(m))
}

/// The result of asking the catalogue.
pub type Result<T> = std::result::Result<T, CatalogError>;
type Connection = deadpool::Object<AsyncPgConnection>;

#[derive(QueryableByName)]
struct Count {
    #[diesel(sql_type = BigInt)]
    n: i64,
}

impl Catalog {
    /// Connects, and makes the tables of an empty database; one of another version is refused, see [`upgrade`]. Must be called on a
    /// multi-threaded tokio runtime.
    pub async fn open(url: &str) -> Result<Self> {
        let mut harness = upgrade::harness(url).await?;
        match upgrade::schema(&mut harness)? {
            Schema::Current => {}
            Schema::New => upgrade::migrate(harness, None).await?,
            Schema::Earlier(_) => return Err(CatalogError::Earlier),
            Schema::Later(step) => return Err(CatalogError::Later { step }),
        }
        // Every answer is small, or is one that nobody waits for: to start others for it takes longer than the answer.
        let alone = "options=-c%20max_parallel_workers_per_gather%3D0%20-c%20jit%3Doff";
        let separator = if url.contains('?') { '&' } else { '?' };
        let pool = pool_of(&format!("{url}{separator}{alone}"), CONNECTIONS)?;
        let soft = pool_of(&format!("{url}{separator}{alone}%20-c%20synchronous_commit%3Doff"), ASYNC_COMMIT_CONNECTIONS)?;
        Ok(Catalog {
            pool,
            soft,
            added: Arc::default(),
            growth: Arc::default(),
            counted: Arc::default(),
            recorded: Arc::default(),
            url: url.to_owned(),
        })
    }

    /// A connection whose commits are not forced to the disk. For what a power cut may take back because it is only done
    /// again: taking and finishing work, and what is known of uploads before they land. The order of commits is kept, so
    /// that what it takes back, it takes back from the end.
    async fn async_commit_connection(&self) -> Result<Connection> {
        self.soft.get().await.map_err(|e| CatalogError::Away(Box::new(e)))
    }

    /// Work of these kinds was added: whoever does it is told, soon.
    fn work_added(&self, kinds: &[Kind]) {
        self.added.kinds.fetch_or(kinds.iter().fold(0, |all, kind| all | kind.bit()), Ordering::Relaxed);
        self.added.told.notify_one();
        self.counted.notify_one();
    }

    /// Tells all processes of new work, as long as the future is polled.
    pub async fn tell_of_work(&self) {
        loop {
            self.added.told.notified().await;
            tokio::time::sleep(GATHER).await;
            let kinds = self.added.kinds.swap(0, Ordering::Relaxed);
            if kinds == 0 {
                // They were told of the last time round.
                continue;
            }
            let words: Vec<&str> = Kind::ALL.into_iter().filter(|k| kinds & k.bit() != 0).map(Kind::word).collect();
            let told = async {
                let mut c = self.async_commit_connection().await?;
                diesel::select(pg_notify("job", words.join(" "))).execute(&mut c).await?;
                Ok::<_, CatalogError>(())
            };
            if told.await.is_err() {
                // The database is away. Those who listen look for work when it is back.
                self.added.kinds.fetch_or(kinds, Ordering::Relaxed);
                self.added.told.notify_one();
                tokio::time::sleep(Duration::from_secs(1)).await;
            }
        }
    }

    async fn connection(&self) -> Result<Connection> {
        self.pool.get().await.map_err(|e| CatalogError::Away(Box::new(e)))
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        let mut c = self.connection().await?;
        diesel::select(true.into_sql::<diesel::sql_types::Bool>()).execute(&mut c).await?;
        Ok(())
    }

    /// Adds a line to the append-only record: who did what.
    /// Whatever is worth a line here may be something that the stores' ledgers have to say as well: they look.
    pub async fn write_record(&self, at: DateTime<Utc>, who: &str, what: &str) -> Result<()> {
        let mut c = self.connection().await?;
        if ledgers_due(&mut c, at + DECIDED).await? > 0 {
            self.work_added(&[Kind::Ledger]);
        }
        let line = RecordLine { at, who: who.to_owned(), what: what.to_owned() };
        insert_into(record::table).values(line).execute(&mut c).await?;
        self.recorded.notify_one();
        Ok(())
    }

    /// Returns once this process has written a line into the record since it was asked last.
    pub async fn recorded(&self) {
        self.recorded.notified().await;
    }

    /// Lines of the record after a number, with theirs, oldest first.
    pub async fn record_after(&self, after: u64, limit: i64) -> Result<Vec<EntryRecord>> {
        let mut c = self.connection().await?;
        let lines = record::table.filter(record::id.gt(signed(after))).order(record::id).limit(limit);
        let rows: Vec<(i64, RecordLine)> = lines.select((record::id, RecordLine::as_select())).load(&mut c).await?;
        let entry = |(id, l): (i64, RecordLine)| EntryRecord { number: unsigned(id), at: l.at, who: l.who, what: l.what };
        Ok(rows.into_iter().map(entry).collect())
    }

    /// The last lines of the record, newest first.
    pub async fn read_record(&self, limit: i64) -> Result<Vec<RecordLine>> {
        let mut c = self.connection().await?;
        let last = record::table.order(record::id.desc()).limit(limit);
        Ok(last.select(RecordLine::as_select()).load(&mut c).await?)
    }
}

fn pool_of(url: &str, size: usize) -> Result<deadpool::Pool<AsyncPgConnection>> {
    let mut config = ManagerConfig::<AsyncPgConnection>::default();
    // Whether a connection was closed is known without a question; see `FRESH` for one whose end nobody may have noticed.
    config.recycling_method = RecyclingMethod::Fast;
    let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new_with_config(url, config);
    let ask = deadpool::Hook::async_fn(|c: &mut AsyncPgConnection, metrics| {
        let rested = metrics.last_used();
        Box::pin(async move {
            if rested < FRESH {
                return Ok(());
            }
            c.ping(&RecyclingMethod::Verified).await.map_err(|e| deadpool::HookError::Backend(PoolError::QueryError(e)))
        })
    });
    // The one that was used last: it has the plans of what is asked, and a quiet house needs two and not all of them.
    let builder = deadpool::Pool::builder(manager).max_size(size).queue_mode(QueueMode::Lifo);
    builder.pre_recycle(ask).build().map_err(|e| CatalogError::Away(Box::new(e)))
}

/// One line of the append-only record.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = record)]
pub struct RecordLine {
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    pub who: String,
    /// What.
    pub what: String,
}

/// Bytes and counts are never negative; PostgreSQL has no unsigned type.
fn unsigned(n: i64) -> u64 {
    u64::try_from(n).unwrap_or(0)
}

/// A size from outside, as PostgreSQL can hold it.
fn signed(n: u64) -> i64 {
    i64::try_from(n).unwrap_or(i64::MAX)
}
