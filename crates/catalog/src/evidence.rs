//! Observations, and what they add up to.

use chrono::{DateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{Binary, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    layers::{Act, Observation, Outcome, Place, Standing},
};

use crate::{
    Catalog, Prepare, Result,
    columns::HashColumn,
    work::{Kind, WISH},
};

/// How the home disk is written in a `place` column.
pub const HOME: Uuid = Uuid::nil();

pub(crate) fn place_id(place: Place) -> Uuid {
    match place {
        Place::Home => HOME,
        Place::Store(StoreId(id)) => id,
    }
}

pub(crate) fn place_of(id: Uuid) -> Place {
    if id == HOME { Place::Home } else { Place::Store(StoreId(id)) }
}

#[derive(QueryableByName)]
struct StandingRow {
    #[diesel(sql_type = SqlUuid)]
    place: Uuid,
    #[diesel(sql_type = Bool)]
    good: bool,
    #[diesel(sql_type = Timestamptz)]
    since: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    proven_at: Option<DateTime<Utc>>,
}

impl StandingRow {
    fn standing(&self) -> Standing {
        Standing { good: self.good, since: self.since, proven_at: self.proven_at }
    }
}

#[derive(QueryableByName)]
struct ObservationRow {
    #[diesel(sql_type = SqlUuid)]
    place: Uuid,
    #[diesel(sql_type = Text)]
    act: String,
    #[diesel(sql_type = Timestamptz)]
    at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Binary>)]
    digest: Option<HashColumn>,
    #[diesel(sql_type = Text)]
    outcome: String,
}

impl Catalog {
    /// Adds an observation, brings the standing of that original at that place up to date, and, if that is bad now, puts down that it
    /// is to be made good; in one transaction.
    pub async fn observe(&self, original: OriginalId, expected: Digest, seen: &Observation) -> Result<()> {
        let mut c = self.connection().await?;
        let good = whole!(c, { observe_in(c, original, expected, seen).await }).await?;
        self.counted.notify_one();
        if !good {
            self.work_added(&[Kind::Heal]);
        }
        Ok(())
    }

    /// The same for a reading of a check: a power cut may take it back, because the copy is then read again.
    pub async fn observe_check(&self, original: OriginalId, expected: Digest, seen: &Observation) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let good = whole!(c, { observe_in(c, original, expected, seen).await }).await?;
        self.counted.notify_one();
        if !good {
            self.work_added(&[Kind::Heal]);
        }
        Ok(())
    }

    /// A copy at home had its turn and could not be looked at. What is known of it stays as it is.
    pub async fn could_not_look(&self, original: OriginalId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query("UPDATE standing SET looked_at = $3 WHERE original = $1 AND place = $2")
            .bind::<SqlUuid, _>(original.0)
            .bind::<SqlUuid, _>(HOME)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The observations of one original, newest first.
    pub async fn observations(&self, original: OriginalId) -> Result<Vec<Observation>> {
        let mut c = self.connection().await?;
        let rows: Vec<ObservationRow> =
            sql_query("SELECT place, act, at, digest, outcome FROM observation WHERE original = $1 ORDER BY id DESC LIMIT 200")
                .bind::<SqlUuid, _>(original.0)
                .prepared()
                .load(&mut c)
                .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                Some(Observation {
                    place: place_of(r.place),
                    act: Act::from_word(&r.act)?,
                    at: r.at,
                    digest: r.digest.map(|d| d.0),
                    outcome: Outcome::from_word(&r.outcome)?,
                })
            })
            .collect())
    }

    /// The standings of one original, everywhere.
    pub async fn standings(&self, original: OriginalId) -> Result<Vec<(Place, Standing)>> {
        self.standings_where(original, "true").await
    }

    /// The standings of one original that count for its depth: at home and away from home. A disk that stays in the house is neither.
    pub async fn standings_for_depth(&self, original: OriginalId) -> Result<Vec<(Place, Standing)>> {
        self.standings_where(original, "(place NOT IN (SELECT id FROM store) OR place IN (SELECT id FROM store WHERE away))")
            .await
    }

    async fn standings_where(&self, original: OriginalId, which: &'static str) -> Result<Vec<(Place, Standing)>> {
        let mut c = self.connection().await?;
        let rows: Vec<StandingRow> =
            sql_query(format!("SELECT place, good, since, proven_at FROM standing WHERE original = $1 AND {which}"))
                .bind::<SqlUuid, _>(original.0)
                .prepared()
                .load(&mut c)
                .await?;
        Ok(rows.iter().map(|r| (place_of(r.place), r.standing())).collect())
    }
}

/// The same inside a transaction that has more to do. Whether the copy is good now.
pub(crate) async fn observe_in(
    c: &mut AsyncPgConnection,
    original: OriginalId,
    expected: Digest,
    seen: &Observation,
) -> Result<bool> {
    let place = place_id(seen.place);
    let before: Option<StandingRow> =
        sql_query("SELECT place, good, since, proven_at FROM standing WHERE original = $1 AND place = $2 FOR UPDATE")
            .bind::<SqlUuid, _>(original.0)
            .bind::<SqlUuid, _>(place)
            .prepared()
            .get_result(c)
            .await
            .optional()?;
    let after = Standing::after(before.map(|b| b.standing()), seen, expected);
    sql_query("INSERT INTO observation (original, place, act, at, digest, outcome) VALUES ($1, $2, $3, $4, $5, $6)")
        .bind::<SqlUuid, _>(original.0)
        .bind::<SqlUuid, _>(place)
        .bind::<Text, _>(seen.act.word())
        .bind::<Timestamptz, _>(seen.at)
        .bind::<Nullable<Binary>, _>(seen.digest.map(|d| d.as_bytes().to_vec()))
        .bind::<Text, _>(seen.outcome.word())
        .prepared()
        .execute(c)
        .await?;
    sql_query(
        "INSERT INTO standing (original, place, good, since, proven_at, looked_at) VALUES ($1, $2, $3, $4, $5, $6)
         ON CONFLICT (original, place) DO UPDATE SET good = excluded.good, since = excluded.since, proven_at = excluded.proven_at,
             looked_at = coalesce(excluded.looked_at, standing.looked_at)",
    )
    .bind::<SqlUuid, _>(original.0)
    .bind::<SqlUuid, _>(place)
    .bind::<Bool, _>(after.good)
    .bind::<Timestamptz, _>(after.since)
    .bind::<Nullable<Timestamptz>, _>(after.proven_at)
    // A confirmation or a list is the store's word; nobody has read anything.
    .bind::<Nullable<Timestamptz>, _>((!matches!(seen.act, Act::Confirmed | Act::Listed)).then_some(seen.at))
    .prepared()
    .execute(c)
    .await?;
    if !after.good {
        // Put down together with what was seen: a kill in between would leave a copy that everybody knows to be bad and nobody mends.
        // What was given up is tried again.
        sql_query(format!("INSERT INTO job (kind, key, store, priority, due) VALUES ('heal', $1, $2, 14, $3) {WISH}"))
            .bind::<SqlUuid, _>(original.0)
            .bind::<Nullable<SqlUuid>, _>(seen.place.store().map(|s| s.0))
            .bind::<Timestamptz, _>(seen.at)
            .prepared()
            .execute(c)
            .await?;
    }
    Ok(after.good)
}
