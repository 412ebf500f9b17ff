//! Observations, and what they add up to.

use chrono::{DateTime, Utc};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    layers::{Act, Observation, Outcome, Place, Standing},
};

use crate::{
    Catalog, Result,
    columns::HashColumn,
    db::*,
    wishes::{ledger_due, wish, work_row},
    work::Kind,
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

#[derive(Queryable, Selectable)]
#[diesel(table_name = standing)]
struct StandingRow {
    place: Uuid,
    good: bool,
    since: DateTime<Utc>,
    proven_at: Option<DateTime<Utc>>,
}

impl StandingRow {
    fn standing(&self) -> Standing {
        Standing { good: self.good, since: self.since, proven_at: self.proven_at }
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = observation)]
struct ObservationRow {
    place: Uuid,
    act: String,
    at: DateTime<Utc>,
    digest: Option<HashColumn>,
    outcome: String,
}

impl Catalog {
    /// Adds an observation, brings the standing of that original at that place up to date, and, if that is bad now, puts down that it
    /// is to be made good; in one transaction.
    pub async fn observe(&self, original: OriginalId, expected: Digest, seen: &Observation) -> Result<()> {
        let mut c = self.connection().await?;
        let follows = whole!(c, { observe_in(c, original, expected, seen).await }).await?;
        self.counted.notify_one();
        if let Some(kind) = follows {
            self.work_added(&[kind]);
        }
        Ok(())
    }

    /// The same for a reading of a check: a power cut may take it back, because the copy is then read again.
    pub async fn observe_check(&self, original: OriginalId, expected: Digest, seen: &Observation) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let follows = whole!(c, { observe_in(c, original, expected, seen).await }).await?;
        self.counted.notify_one();
        if let Some(kind) = follows {
            self.work_added(&[kind]);
        }
        Ok(())
    }

    /// A copy at home had its turn and could not be looked at. What is known of it stays as it is.
    pub async fn could_not_look(&self, original: OriginalId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(standing::table.find((original.0, HOME))).set(standing::looked_at.eq(now)).execute(&mut c).await?;
        Ok(())
    }

    /// The observations of one original, newest first.
    pub async fn observations(&self, original: OriginalId) -> Result<Vec<Observation>> {
        let mut c = self.connection().await?;
        let rows: Vec<ObservationRow> = observation::table
            .filter(observation::original.eq(original.0))
            .order(observation::id.desc())
            .limit(200)
            .select(ObservationRow::as_select())
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
        let mut c = self.connection().await?;
        let all = standing::table.filter(standing::original.eq(original.0)).select(StandingRow::as_select());
        Ok(all.load(&mut c).await?.iter().map(|r| (place_of(r.place), r.standing())).collect())
    }

    /// The standings of one original that count for its depth: at home and away from home. A disk that stays in the house is neither.
    pub async fn standings_for_depth(&self, original: OriginalId) -> Result<Vec<(Place, Standing)>> {
        let mut c = self.connection().await?;
        let in_the_house = store::table.filter(not(store::away)).select(store::id);
        let these = standing::table.filter(standing::original.eq(original.0).and(standing::place.ne_all(in_the_house)));
        let rows = these.select(StandingRow::as_select()).load(&mut c).await?;
        Ok(rows.iter().map(|r| (place_of(r.place), r.standing())).collect())
    }
}

/// The same inside a transaction that has more to do. What work follows.
pub(crate) async fn observe_in(
    c: &mut AsyncPgConnection,
    original: OriginalId,
    expected: Digest,
    seen: &Observation,
) -> Result<Option<Kind>> {
    let place = place_id(seen.place);
    let stood = standing::table.find((original.0, place)).for_update().select(StandingRow::as_select());
    let before: Option<StandingRow> = stood.get_result(c).await.optional()?;
    let was_bad = before.as_ref().is_some_and(|b| !b.good);
    let after = Standing::after(before.map(|b| b.standing()), seen, expected);
    let row = (
        observation::original.eq(original.0),
        observation::place.eq(place),
        observation::act.eq(seen.act.word()),
        observation::at.eq(seen.at),
        observation::digest.eq(seen.digest.map(HashColumn)),
        observation::outcome.eq(seen.outcome.word()),
    );
    insert_into(observation::table).values(row).execute(c).await?;
    // A confirmation or a list is the store's word; nobody has read anything.
    let looked_at = (!matches!(seen.act, Act::Confirmed | Act::Listed)).then_some(seen.at);
    let row = (
        standing::original.eq(original.0),
        standing::place.eq(place),
        standing::good.eq(after.good),
        standing::since.eq(after.since),
        standing::proven_at.eq(after.proven_at),
        standing::looked_at.eq(looked_at),
    );
    insert_into(standing::table)
        .values(row)
        .on_conflict((standing::original, standing::place))
        .do_update()
        .set((
            standing::good.eq(excluded(standing::good)),
            standing::since.eq(excluded(standing::since)),
            standing::proven_at.eq(excluded(standing::proven_at)),
            standing::looked_at.eq(or_else(excluded(standing::looked_at), standing::looked_at)),
            // What was bad may have been left out where its ledger was said again: it is said once more.
            standing::listed.eq(standing::listed.and(standing::good)),
        ))
        .execute(c)
        .await?;
    if let Place::Store(store) = seen.place
        && was_bad
        && after.good
    {
        ledger_due(c, store, seen.at).await?;
        return Ok(Some(Kind::Ledger));
    }
    if !after.good {
        // Put down together with what was seen: a kill in between would leave a copy that everybody knows to be bad and nobody mends.
        // What was given up is tried again.
        wish!(values work_row(Kind::Heal, original.0, seen.place.store(), 14, seen.at)).execute(c).await?;
        return Ok(Some(Kind::Heal));
    }
    Ok(None)
}
