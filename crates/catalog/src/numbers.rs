//! The layers in numbers, for the overview.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Nullable, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use ypogeion_core::PersonId;

use crate::{Catalog, Keep, Result, evidence::HOME, unsigned};

/// How many, and how large together.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Amount {
    /// Originals.
    pub count: u64,
    /// Bytes.
    pub bytes: u64,
}

impl Amount {
    pub(crate) fn new(count: i64, bytes: i64) -> Self {
        Amount { count: unsigned(count), bytes: unsigned(bytes) }
    }
}

/// The layers of one member's originals, or of all.
#[derive(Clone, Copy, Debug, Default)]
pub struct Depths {
    /// Good at home.
    pub home: Amount,
    /// Confirmed by at least one store.
    pub offsite: Amount,
    /// Read back from a store lately.
    pub proven: Amount,
    /// Good at home and in no store.
    pub exposed: Amount,
    /// When the oldest of those came home.
    pub exposed_since: Option<DateTime<Utc>>,
    /// Bad or gone at home, and not on their way.
    pub damaged: u64,
    /// On their way home, from a store, after a rebuild.
    pub coming: Amount,
    /// Background work that gave up.
    pub failed_work: u64,
}

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    home: i64,
    #[diesel(sql_type = BigInt)]
    home_bytes: i64,
    #[diesel(sql_type = BigInt)]
    offsite: i64,
    #[diesel(sql_type = BigInt)]
    offsite_bytes: i64,
    #[diesel(sql_type = BigInt)]
    proven: i64,
    #[diesel(sql_type = BigInt)]
    proven_bytes: i64,
    #[diesel(sql_type = BigInt)]
    exposed: i64,
    #[diesel(sql_type = BigInt)]
    exposed_bytes: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    exposed_since: Option<DateTime<Utc>>,
    #[diesel(sql_type = BigInt)]
    damaged: i64,
    #[diesel(sql_type = BigInt)]
    coming: i64,
    #[diesel(sql_type = BigInt)]
    coming_bytes: i64,
    #[diesel(sql_type = BigInt)]
    failed_work: i64,
}

impl Catalog {
    /// Counts the layers. `proven_since`: readings from before do not count any more.
    pub async fn depths(&self, person: Option<PersonId>, proven_since: DateTime<Utc>) -> Result<Depths> {
        let mut c = self.connection().await?;
        let r: Row = sql_query(
            "SELECT count(*) FILTER (WHERE home) AS home, coalesce(sum(size) FILTER (WHERE home), 0)::bigint AS home_bytes,
                    count(*) FILTER (WHERE away) AS offsite, coalesce(sum(size) FILTER (WHERE away), 0)::bigint AS offsite_bytes,
                    count(*) FILTER (WHERE proven) AS proven, coalesce(sum(size) FILTER (WHERE proven), 0)::bigint AS proven_bytes,
                    count(*) FILTER (WHERE home AND NOT away) AS exposed,
                    coalesce(sum(size) FILTER (WHERE home AND NOT away), 0)::bigint AS exposed_bytes,
                    min(landed_at) FILTER (WHERE home AND NOT away) AS exposed_since,
                    count(*) FILTER (WHERE NOT home AND NOT coming) AS damaged,
                    count(*) FILTER (WHERE NOT home AND coming) AS coming,
                    coalesce(sum(size) FILTER (WHERE NOT home AND coming), 0)::bigint AS coming_bytes,
                    (SELECT count(*) FROM job WHERE gave_up AND $1 IS NULL) AS failed_work
             FROM (
                 SELECT o.size, o.landed_at, coalesce(bool_or(s.good) FILTER (WHERE s.place = $2), false) AS home,
                        coalesce(bool_or(s.good) FILTER (WHERE a.id IS NOT NULL), false) AS away,
                        coalesce(bool_or(s.good AND s.proven_at >= $3) FILTER (WHERE a.id IS NOT NULL), false) AS proven,
                        NOT coalesce(bool_or(s.good) FILTER (WHERE s.place = $2), false)
                            AND EXISTS (SELECT 1 FROM job j WHERE j.kind = 'fetch' AND j.key = o.id AND NOT j.gave_up) AS coming
                 FROM original o LEFT JOIN standing s ON s.original = o.id LEFT JOIN store a ON a.id = s.place AND a.away
                 WHERE o.held_at IS NULL AND ($1 IS NULL OR o.person = $1) GROUP BY o.id
             ) o",
        )
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<SqlUuid, _>(HOME)
        .bind::<Timestamptz, _>(proven_since)
        .kept()
        .get_result(&mut c)
        .await?;
        Ok(Depths {
            home: Amount::new(r.home, r.home_bytes),
            offsite: Amount::new(r.offsite, r.offsite_bytes),
            proven: Amount::new(r.proven, r.proven_bytes),
            exposed: Amount::new(r.exposed, r.exposed_bytes),
            exposed_since: r.exposed_since,
            damaged: unsigned(r.damaged),
            coming: Amount::new(r.coming, r.coming_bytes),
            failed_work: unsigned(r.failed_work),
        })
    }

    /// Originals and bytes of one member.
    pub async fn usage(&self, person: PersonId) -> Result<Amount> {
        #[derive(QueryableByName)]
        struct Usage {
            #[diesel(sql_type = BigInt)]
            n: i64,
            #[diesel(sql_type = BigInt)]
            bytes: i64,
        }
        let mut c = self.connection().await?;
        let r: Usage = sql_query(
            "SELECT count(*) AS n, coalesce(sum(size), 0)::bigint AS bytes FROM original WHERE person = $1 AND gone_at IS NULL",
        )
        .bind::<SqlUuid, _>(person.0)
        .kept()
        .get_result(&mut c)
        .await?;
        Ok(Amount::new(r.n, r.bytes))
    }
}
