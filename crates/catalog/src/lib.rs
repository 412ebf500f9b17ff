//! The catalogue: PostgreSQL through Diesel.
//!
//! [`Catalog`] is the one door. Its methods are grouped by what they are about: [`people`], [`devices`], [`uploads`],
//! [`originals`], [`evidence`], [`stores`], [`work`], [`runs`], [`numbers`]. [`cluster`] keeps a private PostgreSQL when
//! the keeper has none. Rows become domain types before they leave this crate; what must be true together is one
//! statement or one transaction.

pub mod cluster;
pub mod devices;
pub mod evidence;
pub mod numbers;
pub mod originals;
pub mod people;
pub mod runs;
pub mod stores;
pub mod uploads;
pub mod work;

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName,
    result::{DatabaseErrorKind, Error as DieselError},
    sql_types::{BigInt, Text, Timestamptz},
};
use diesel_async::{
    AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl,
    pooled_connection::{AsyncDieselConnectionManager, deadpool},
};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!("migrations");
const CONNECTIONS: usize = 12;

/// The catalogue of one household.
#[derive(Clone)]
pub struct Catalog {
    pool: deadpool::Pool<AsyncPgConnection>,
    url: String,
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
    /// The database cannot be reached.
    #[error("the database does not answer")]
    Away(#[source] Box<dyn std::error::Error + Send + Sync>),
    /// The database refused a statement: a fault in this program, or a damaged database.
    #[error("the database refused a statement")]
    Refused(#[source] DieselError),
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
            DieselError::DatabaseError(DatabaseErrorKind::ClosedConnection | DatabaseErrorKind::UnableToSendCommand, _)
            | DieselError::BrokenTransactionManager => CatalogError::Away(Box::new(e)),
            DieselError::DatabaseError(_, ref info) if going_down(info.message()) => CatalogError::Away(Box::new(e)),
            e => CatalogError::Refused(e),
        }
    }
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
    /// Connects and brings the schema up to date. Must be called on a multi-threaded tokio runtime.
    pub async fn open(url: &str) -> Result<Self> {
        let connection = AsyncPgConnection::establish(url).await.map_err(|e| CatalogError::Away(Box::new(e)))?;
        let mut harness = AsyncMigrationHarness::new(connection);
        harness.run_pending_migrations(MIGRATIONS).map_err(CatalogError::Away)?;
        let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new(url);
        let pool = deadpool::Pool::builder(manager).max_size(CONNECTIONS).build().map_err(|e| CatalogError::Away(Box::new(e)))?;
        Ok(Catalog { pool, url: url.to_owned() })
    }

    async fn connection(&self) -> Result<Connection> {
        self.pool.get().await.map_err(|e| CatalogError::Away(Box::new(e)))
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        let mut c = self.connection().await?;
        diesel::sql_query("SELECT 1").execute(&mut c).await?;
        Ok(())
    }

    /// Adds a line to the append-only record: who did what.
    pub async fn write_record(&self, at: DateTime<Utc>, who: &str, what: &str) -> Result<()> {
        let mut c = self.connection().await?;
        diesel::sql_query("INSERT INTO record (at, who, what) VALUES ($1, $2, $3)")
            .bind::<Timestamptz, _>(at)
            .bind::<Text, _>(who)
            .bind::<Text, _>(what)
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The last lines of the record, newest first.
    pub async fn read_record(&self, limit: i64) -> Result<Vec<RecordLine>> {
        let mut c = self.connection().await?;
        Ok(diesel::sql_query("SELECT at, who, what FROM record ORDER BY id DESC LIMIT $1")
            .bind::<BigInt, _>(limit)
            .load(&mut c)
            .await?)
    }
}

/// One line of the append-only record.
#[derive(Clone, Debug, QueryableByName)]
pub struct RecordLine {
    /// When.
    #[diesel(sql_type = Timestamptz)]
    pub at: DateTime<Utc>,
    /// Who.
    #[diesel(sql_type = Text)]
    pub who: String,
    /// What.
    #[diesel(sql_type = Text)]
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
