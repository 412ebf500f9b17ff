//! What was sent in each hour, and how exposed the house was.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Nullable, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;

use crate::{Catalog, Prepare, Result, numbers::Depths, signed};

/// What a store took in an hour.
#[derive(Clone, Debug, QueryableByName)]
pub struct Traffic {
    /// The store.
    #[diesel(sql_type = SqlUuid)]
    pub store: Uuid,
    /// The beginning of the hour.
    #[diesel(sql_type = Timestamptz)]
    pub hour: DateTime<Utc>,
    /// Sealed bytes.
    #[diesel(sql_type = BigInt)]
    pub bytes: i64,
}

/// What was at home alone, at some moment of an hour: the worst that was seen in it.
#[derive(Clone, Debug, QueryableByName)]
pub struct Exposed {
    /// The beginning of the hour.
    #[diesel(sql_type = Timestamptz)]
    pub hour: DateTime<Utc>,
    /// How many.
    #[diesel(sql_type = BigInt)]
    pub originals: i64,
    /// Their bytes.
    #[diesel(sql_type = BigInt)]
    pub bytes: i64,
    /// When the oldest of them came home.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub since: Option<DateTime<Utc>>,
}

/// History is kept for so long.
const KEPT: TimeDelta = TimeDelta::days(366);

impl Catalog {
    /// Notes how exposed the house is. Of several looks within an hour the worst one stays.
    pub async fn note_exposure(&self, depths: &Depths, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query(
            "INSERT INTO exposure (hour, originals, bytes, since) VALUES (date_trunc('hour', $1, 'UTC'), $2, $3, $4)
             ON CONFLICT (hour) DO UPDATE SET originals = excluded.originals, bytes = excluded.bytes, since = excluded.since
             WHERE excluded.originals > exposure.originals",
        )
        .bind::<Timestamptz, _>(now)
        .bind::<BigInt, _>(signed(depths.exposed.count))
        .bind::<BigInt, _>(signed(depths.exposed.bytes))
        .bind::<Nullable<Timestamptz>, _>(depths.exposed_since)
        .prepared()
        .execute(&mut c)
        .await?;
        sql_query("WITH old AS (DELETE FROM exposure WHERE hour < $1) DELETE FROM traffic WHERE hour < $1")
            .bind::<Timestamptz, _>(now - KEPT)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// What every store took in each hour since then, the oldest first. Hours with nothing are left out.
    pub async fn traffic(&self, since: DateTime<Utc>) -> Result<Vec<Traffic>> {
        let mut c = self.connection().await?;
        let rows = sql_query("SELECT store, hour, bytes FROM traffic WHERE hour >= $1 ORDER BY hour, store")
            .bind::<Timestamptz, _>(since)
            .prepared()
            .load(&mut c)
            .await?;
        Ok(rows)
    }

    /// How exposed the house was in each hour since then, the oldest first. Hours in which nobody looked are left out.
    pub async fn exposure(&self, since: DateTime<Utc>) -> Result<Vec<Exposed>> {
        let mut c = self.connection().await?;
        let rows = sql_query("SELECT hour, originals, bytes, since FROM exposure WHERE hour >= $1 ORDER BY hour")
            .bind::<Timestamptz, _>(since)
            .prepared()
            .load(&mut c)
            .await?;
        Ok(rows)
    }
}
