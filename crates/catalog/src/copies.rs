//! In which places originals have good copies, and what a store is paid for.
//!
//! Nothing here judges: originals are put together by the set of places that have a good copy (there are few such sets, however many
//! originals), and `core::copies` says of each set what it lacks.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName,
    data_types::PgInterval,
    sql_query,
    sql_types::{Array, BigInt, Double, Interval, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{
    OriginalId, StoreId,
    cost::{Holdings, LOOKED_BACK_DAYS},
    layers::Place,
};

use crate::{Catalog, Keep, Result, evidence::place_of, numbers::Amount, unsigned};

/// Originals that have their good copies in the same places.
#[derive(Clone, Debug)]
pub struct Together {
    /// The places.
    pub places: Vec<Place>,
    /// How many, and how large.
    pub amount: Amount,
    /// The places as the catalogue writes them, to ask for these originals.
    pub key: String,
}

/// An original that is asked for by the places of its copies.
#[derive(Clone, Debug)]
pub struct Placed {
    /// The original.
    pub id: OriginalId,
    /// Whose it is.
    pub person: String,
    /// Where it is in the library.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// See [`Together::key`].
    pub key: String,
}

#[derive(QueryableByName)]
struct TogetherRow {
    #[diesel(sql_type = Text)]
    key: String,
    #[diesel(sql_type = BigInt)]
    n: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

#[derive(QueryableByName)]
struct PlacedRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    person: String,
    #[diesel(sql_type = Text)]
    path: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Text)]
    key: String,
}

#[derive(QueryableByName)]
struct HoldingsRow {
    #[diesel(sql_type = BigInt)]
    objects: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
    #[diesel(sql_type = BigInt)]
    new_objects: i64,
    #[diesel(sql_type = BigInt)]
    new_bytes: i64,
    #[diesel(sql_type = Double)]
    early: f64,
}

/// The places of one original's good copies, in a fixed order.
const KEY: &str =
    "(SELECT coalesce(string_agg(s.place::text, ' ' ORDER BY s.place), '') FROM standing s WHERE s.original = o.id AND s.good)";

fn places(key: &str) -> Vec<Place> {
    key.split_ascii_whitespace().filter_map(|id| id.parse().ok()).map(place_of).collect()
}

impl Catalog {
    /// All living originals, put together by the places of their good copies.
    pub async fn copies(&self) -> Result<Vec<Together>> {
        let mut c = self.connection().await?;
        let rows: Vec<TogetherRow> = sql_query(
            "SELECT key, count(*) AS n, coalesce(sum(size), 0)::bigint AS bytes FROM (
                 SELECT o.size, coalesce(string_agg(s.place::text, ' ' ORDER BY s.place), '') AS key
                 FROM original o LEFT JOIN standing s ON s.original = o.id AND s.good WHERE o.held_at IS NULL GROUP BY o.id
             ) o GROUP BY key ORDER BY key",
        )
        .kept()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| Together { places: places(&r.key), amount: Amount::new(r.n, r.bytes), key: r.key }).collect())
    }

    /// Living originals that belong to one of these sets of places, the oldest at home first, after a given one.
    pub async fn placed(&self, keys: &[String], after: Option<OriginalId>, limit: i64) -> Result<Vec<Placed>> {
        let mut c = self.connection().await?;
        let rows: Vec<PlacedRow> = sql_query(format!(
            "SELECT o.id, p.name AS person, o.path, o.size, o.key FROM (
                 SELECT o.id, o.person, o.path, o.size, {KEY} AS key FROM living o WHERE $2 IS NULL OR o.id > $2
             ) o JOIN person p ON p.id = o.person WHERE o.key = ANY($1) ORDER BY o.id LIMIT $3"
        ))
        .bind::<Array<Text>, _>(keys)
        .bind::<Nullable<SqlUuid>, _>(after.map(|o| o.0))
        .bind::<BigInt, _>(limit)
        .kept()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Placed { id: OriginalId(r.id), person: r.person, path: r.path, size: unsigned(r.size), key: r.key })
            .collect())
    }

    /// What a store is paid for. `minimum_days`: so long it is paid for an object, even if that is removed before.
    pub async fn paid_for(&self, store: StoreId, minimum_days: u16, cover: TimeDelta, now: DateTime<Utc>) -> Result<Holdings> {
        let mut c = self.connection().await?;
        let row: HoldingsRow = sql_query(
            "SELECT count(*) AS objects, coalesce(sum(b.size), 0)::bigint AS bytes, count(*) FILTER (WHERE n.new) AS new_objects,
                    coalesce(sum(b.size) FILTER (WHERE n.new), 0)::bigint AS new_bytes,
                    -- As long as it is still paid for, from now on.
                    (SELECT coalesce(sum(g.size * extract(epoch FROM g.confirmed_at + $4 - $3) / 86400.0), 0)::double precision
                     FROM removed_object g WHERE g.store = $1 AND g.confirmed_at + $4 > $3) AS early
             FROM object b, LATERAL (
                 SELECT EXISTS (SELECT 1 FROM original o WHERE o.digest = b.digest AND o.gone_at IS NULL AND o.taken_at > $2) AS new
             ) n WHERE b.store = $1",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Timestamptz, _>(now - TimeDelta::days(i64::from(LOOKED_BACK_DAYS)))
        .bind::<Timestamptz, _>(now)
        .bind::<Interval, _>(PgInterval::from_days(i32::from(minimum_days)))
        .kept()
        .get_result(&mut c)
        .await?;
        Ok(Holdings {
            objects: unsigned(row.objects),
            bytes: unsigned(row.bytes),
            new_objects: unsigned(row.new_objects),
            new_bytes: unsigned(row.new_bytes),
            cover_days: u32::try_from(cover.num_days()).unwrap_or(0),
            early_byte_days: row.early,
        })
    }
}
