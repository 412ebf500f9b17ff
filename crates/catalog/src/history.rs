//! What was sent in each hour, and how exposed the house was.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use uuid::Uuid;

use crate::{Catalog, Result, db::*, numbers::Depths, signed};

/// What a store took in an hour.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = traffic)]
pub struct Traffic {
    /// The store.
    pub store: Uuid,
    /// The beginning of the hour.
    pub hour: DateTime<Utc>,
    /// Sealed bytes.
    pub bytes: i64,
}

/// What was at home alone, at some moment of an hour: the worst that was seen in it.
#[derive(Clone, Debug, Queryable, Selectable, Insertable)]
#[diesel(table_name = exposure)]
pub struct Exposed {
    /// The beginning of the hour.
    pub hour: DateTime<Utc>,
    /// How many.
    pub originals: i64,
    /// Their bytes.
    pub bytes: i64,
    /// When the oldest of them came home.
    pub since: Option<DateTime<Utc>>,
}

/// The beginning of the hour that a moment is in.
pub(crate) fn hour_of(at: DateTime<Utc>) -> DateTime<Utc> {
    at.duration_trunc(TimeDelta::hours(1)).unwrap_or(at)
}

/// History is kept for so long.
const KEPT: TimeDelta = TimeDelta::days(366);

impl Catalog {
    /// Notes how exposed the house is. Of several looks within an hour the worst one stays.
    pub async fn note_exposure(&self, depths: &Depths, now: DateTime<Utc>) -> Result<()> {
        let row = Exposed {
            hour: hour_of(now),
            originals: signed(depths.exposed.count),
            bytes: signed(depths.exposed.bytes),
            since: depths.exposed_since,
        };
        let mut c = self.async_commit_connection().await?;
        let worst = insert_into(exposure::table).values(row).on_conflict(exposure::hour).do_update().set((
            exposure::originals.eq(excluded(exposure::originals)),
            exposure::bytes.eq(excluded(exposure::bytes)),
            exposure::since.eq(excluded(exposure::since)),
        ));
        only_if(worst, excluded(exposure::originals).gt(exposure::originals)).execute(&mut c).await?;
        delete(exposure::table.filter(exposure::hour.lt(now - KEPT))).execute(&mut c).await?;
        delete(traffic::table.filter(traffic::hour.lt(now - KEPT))).execute(&mut c).await?;
        Ok(())
    }

    /// What every store took in each hour since then, the oldest first. Hours with nothing are left out.
    pub async fn traffic(&self, since: DateTime<Utc>) -> Result<Vec<Traffic>> {
        let mut c = self.connection().await?;
        let from = traffic::table.filter(traffic::hour.ge(since)).order((traffic::hour, traffic::store));
        Ok(from.select(Traffic::as_select()).load(&mut c).await?)
    }

    /// How exposed the house was in each hour since then, the oldest first. Hours in which nobody looked are left out.
    pub async fn exposure(&self, since: DateTime<Utc>) -> Result<Vec<Exposed>> {
        let mut c = self.connection().await?;
        let from = exposure::table.filter(exposure::hour.ge(since)).order(exposure::hour);
        Ok(from.select(Exposed::as_select()).load(&mut c).await?)
    }
}
