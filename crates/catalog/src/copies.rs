//! In which places originals have good copies, and what a store is paid for.
//!
//! Nothing here judges: originals are put together by the set of places that have a good copy (there are few such sets, however many
//! originals), and `core::copies` says of each set what it lacks.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName,
    data_types::PgInterval,
    sql_query,
    sql_types::{Array, BigInt, Bool, Double, Interval, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};

use uuid::Uuid;
use ypogeion_core::{
    OriginalId, StoreId,
    amount::Amount,
    cost::{Holdings, LOOKED_BACK_DAYS},
    layers::Place,
};

use crate::{
    Catalog, Result,
    db::*,
    evidence::{HOME, place_of},
    numbers::amount,
    unsigned,
};

/// Originals that have their good copies in the same places.
#[derive(Clone, Debug)]
pub struct SamePlaces {
    /// The places.
    pub places: Vec<Place>,
    /// How many, and how large.
    pub amount: Amount,
    /// The places as the catalogue writes them, to ask for these originals.
    pub key: String,
}

/// What else is so of originals that are asked for by the places of their copies; nothing said: whatever it is.
#[derive(Clone, Copy, Debug, Default)]
pub struct So {
    /// Whether they were read back from a store since then.
    pub read_back: Option<(bool, DateTime<Utc>)>,
    /// Whether they are on their way home.
    pub coming: Option<bool>,
}

/// An original that is asked for by the places of its copies.
#[derive(Clone, Debug)]
pub struct PlacedOriginal {
    /// The original.
    pub id: OriginalId,
    /// Whose it is.
    pub person: String,
    /// Where it is in the library.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// See [`SamePlaces::key`].
    pub key: String,
}

#[derive(QueryableByName)]
struct PlacedOriginalRow {
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

fn places(key: &str) -> Vec<Place> {
    key.split_ascii_whitespace().filter_map(|id| id.parse().ok()).map(place_of).collect()
}

impl Catalog {
    /// All living originals, put together by the places of their good copies.
    pub async fn copies(&self) -> Result<Vec<SamePlaces>> {
        let mut c = self.connection().await?;
        let rows: Vec<(String, i64, i64)> = counts::table
            .filter(counts::about.eq(HOME))
            .group_by(counts::fact)
            .having(total(counts::n).gt(0))
            .order(counts::fact)
            .select((counts::fact, total(counts::n), total(counts::bytes)))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(key, n, bytes)| SamePlaces { places: places(&key), amount: amount(n, bytes), key }).collect())
    }

    /// Living originals that belong to one of these sets of places, the oldest at home first, after a given one, as far as they are so
    /// otherwise.
    pub async fn placed(&self, keys: &[String], so: So, after: Option<OriginalId>, limit: i64) -> Result<Vec<PlacedOriginal>> {
        let mut c = self.connection().await?;
        // Text: of each set of places the first few, by an index.
        let rows: Vec<PlacedOriginalRow> = sql_query(
            "SELECT o.id, p.name AS person, o.path, o.size, c.key FROM (
                 SELECT k.key, few.original FROM unnest($1) k (key), LATERAL (
                     SELECT string_to_array(nullif(k.key, ''), ' ')::uuid[] AS places
                 ) p, LATERAL (
                     SELECT original FROM counted
                     WHERE living AND home = coalesce(p.places[1] = $4, false)
                       AND stores = CASE WHEN p.places[1] = $4 THEN p.places[2:] ELSE coalesce(p.places, '{}') END
                       AND original > coalesce($2, $4) AND ($5 IS NULL OR coalesce(proven_at >= $6, false) = $5) AND ($7 IS NULL OR coming = $7)
                     ORDER BY original LIMIT $3
                 ) few
             ) c JOIN original o ON o.id = c.original JOIN person p ON p.id = o.person ORDER BY o.id LIMIT $3",
        )
        .bind::<Array<Text>, _>(keys)
        .bind::<Nullable<SqlUuid>, _>(after.map(|o| o.0))
        .bind::<BigInt, _>(limit)
        .bind::<SqlUuid, _>(HOME)
        .bind::<Nullable<Bool>, _>(so.read_back.map(|(lately, _)| lately))
        .bind::<Nullable<Timestamptz>, _>(so.read_back.map(|(_, since)| since))
        .bind::<Nullable<Bool>, _>(so.coming)
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| PlacedOriginal { id: OriginalId(r.id), person: r.person, path: r.path, size: unsigned(r.size), key: r.key })
            .collect())
    }

    /// What a store is paid for. `minimum_days`: so long it is paid for an object, even if that is removed before.
    pub async fn paid_for(&self, store: StoreId, minimum_days: u16, cover: TimeDelta, now: DateTime<Utc>) -> Result<Holdings> {
        let mut c = self.connection().await?;
        // Text: reckons with times.
        let row: HoldingsRow = sql_query(
            "SELECT (SELECT coalesce(sum(n), 0)::bigint FROM counts WHERE about = $1 AND fact = 'objects') AS objects,
                    (SELECT coalesce(sum(bytes), 0)::bigint FROM counts WHERE about = $1 AND fact = 'objects') AS bytes,
                    count(*) AS new_objects, coalesce(sum(b.size), 0)::bigint AS new_bytes,
                    -- As long as it is still paid for, from now on.
                    (SELECT coalesce(sum(g.size * extract(epoch FROM g.confirmed_at + $4 - $3) / 86400.0), 0)::double precision
                     FROM removed_object g WHERE g.store = $1 AND g.confirmed_at + $4 > $3) AS early
             FROM (SELECT DISTINCT digest FROM original WHERE taken_at > $2 AND gone_at IS NULL) n
             JOIN object b ON b.store = $1 AND b.digest = n.digest",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Timestamptz, _>(now - TimeDelta::days(i64::from(LOOKED_BACK_DAYS)))
        .bind::<Timestamptz, _>(now)
        .bind::<Interval, _>(PgInterval::from_days(i32::from(minimum_days)))
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
