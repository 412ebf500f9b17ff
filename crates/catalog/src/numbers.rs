//! What is counted, for every page: kept up to date by the database itself with whatever changes it (migration 31), so that asking costs the
//! same with a million originals as with ten. [`Catalog::keep_counts`] adds up what came, and [`Catalog::miscounts`] counts in full.

use std::time::Duration;

use chrono::{DateTime, NaiveTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};

use ypogeion_core::{PersonId, StoreId, amount::Amount};

use crate::{Catalog, CatalogError, Result, db::*, unsigned};

/// So many lines are added up at a time.
const FOLD: i32 = 10_000;
/// What comes in between is few enough to be added up by whoever asks.
const BETWEEN_FOLDS: Duration = Duration::from_secs(1);

pub(crate) fn amount(count: i64, bytes: i64) -> Amount {
    Amount { count: unsigned(count), bytes: unsigned(bytes) }
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

/// The first moment of the day after: whole days are kept as counts, of the day before only a part counts.
pub(crate) fn next_day(at: DateTime<Utc>) -> DateTime<Utc> {
    at.date_naive().succ_opt().map_or(DateTime::<Utc>::MAX_UTC, |d| d.and_time(NaiveTime::MIN).and_utc())
}

/// A store in numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct StoreNumbers {
    /// Confirmed there.
    pub held: Amount,
    /// Of these, read back lately.
    pub proven: Amount,
    /// Good at home and not there.
    pub to_go: Amount,
    /// Confirmed and not in the ledger.
    pub unlisted: u64,
    /// When it last took a copy.
    pub confirmed_at: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct NumbersRow {
    #[diesel(sql_type = BigInt)]
    held: i64,
    #[diesel(sql_type = BigInt)]
    held_bytes: i64,
    #[diesel(sql_type = BigInt)]
    proven: i64,
    #[diesel(sql_type = BigInt)]
    proven_bytes: i64,
    #[diesel(sql_type = BigInt)]
    to_go: i64,
    #[diesel(sql_type = BigInt)]
    to_go_bytes: i64,
    #[diesel(sql_type = BigInt)]
    unlisted: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    confirmed_at: Option<DateTime<Utc>>,
}

impl Catalog {
    /// The layers in numbers, as they are kept; however much there is, nothing is counted. `proven_since`: readings from before do not count any more.
    pub async fn depths(&self, person: Option<PersonId>, proven_since: DateTime<Utc>) -> Result<Depths> {
        let mut c = self.connection().await?;
        // Text: all of it is one look, so that no number on a page contradicts another.
        let r: Row = sql_query(
            "WITH who AS (
                 SELECT id FROM person WHERE $1 IS NULL OR id = $1
             ), edge AS (
                 -- Of the day on which proofs begin to count: that one is not in it as a whole.
                 SELECT count(*) AS n, coalesce(sum(c.size), 0) AS bytes FROM counted c
                 WHERE c.living AND c.away AND c.proven_at >= $2 AND c.proven_at < $3 AND ($1 IS NULL OR c.person = $1) AND c.original IN (
                     SELECT s.original FROM store a JOIN standing s ON s.place = a.id AND s.good AND s.proven_at >= $2 AND s.proven_at < $3
                     WHERE a.away)
             ), facts AS (
                 SELECT fact, sum(n)::bigint AS n, sum(bytes)::bigint AS bytes FROM counts
                 WHERE about = ANY(ARRAY(SELECT id FROM who)) AND fact IN ('home', 'offsite', 'exposed', 'lost', 'coming') GROUP BY fact
                 UNION ALL
                 SELECT 'proven', coalesce(sum(n), 0)::bigint + (SELECT n FROM edge), (coalesce(sum(bytes), 0) + (SELECT bytes FROM edge))::bigint
                 FROM counts WHERE about = ANY(ARRAY(SELECT id FROM who)) AND fact = 'proven' AND day >= ($3 AT TIME ZONE 'UTC')::date
             )
             SELECT coalesce(sum(n) FILTER (WHERE fact = 'home'), 0)::bigint AS home,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'home'), 0)::bigint AS home_bytes,
                    coalesce(sum(n) FILTER (WHERE fact = 'offsite'), 0)::bigint AS offsite,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'offsite'), 0)::bigint AS offsite_bytes,
                    coalesce(sum(n) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven_bytes,
                    coalesce(sum(n) FILTER (WHERE fact = 'exposed'), 0)::bigint AS exposed,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'exposed'), 0)::bigint AS exposed_bytes,
                    (SELECT min(x.landed_at) FROM who, LATERAL (
                        SELECT landed_at FROM counted WHERE person = who.id AND living AND home AND NOT away ORDER BY landed_at LIMIT 1
                    ) x) AS exposed_since,
                    coalesce(sum(n) FILTER (WHERE fact = 'lost'), 0)::bigint AS damaged,
                    coalesce(sum(n) FILTER (WHERE fact = 'coming'), 0)::bigint AS coming,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'coming'), 0)::bigint AS coming_bytes,
                    (SELECT count(*) FROM job WHERE gave_up AND $1 IS NULL) AS failed_work
             FROM facts",
        )
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<Timestamptz, _>(proven_since)
        .bind::<Timestamptz, _>(next_day(proven_since))
        .get_result(&mut c)
        .await?;
        Ok(Depths {
            home: amount(r.home, r.home_bytes),
            offsite: amount(r.offsite, r.offsite_bytes),
            proven: amount(r.proven, r.proven_bytes),
            exposed: amount(r.exposed, r.exposed_bytes),
            exposed_since: r.exposed_since,
            damaged: unsigned(r.damaged),
            coming: amount(r.coming, r.coming_bytes),
            failed_work: unsigned(r.failed_work),
        })
    }

    /// A store in numbers. `proven_since`: readings from before do not count any more.
    pub async fn store_numbers(&self, id: StoreId, proven_since: DateTime<Utc>) -> Result<StoreNumbers> {
        let mut c = self.connection().await?;
        // Text: one look, so that no number on a page contradicts another.
        let r: NumbersRow = sql_query(
            "WITH facts AS (
                 SELECT fact, sum(n)::bigint AS n, sum(bytes)::bigint AS bytes FROM counts
                 WHERE about = $1 AND (fact IN ('held', 'also at home') OR fact = 'proven' AND day >= ($3 AT TIME ZONE 'UTC')::date) GROUP BY fact
                 UNION ALL
                 SELECT 'home', sum(n)::bigint, sum(bytes)::bigint FROM counts WHERE about = ANY(ARRAY(SELECT id FROM person)) AND fact = 'home'
                 UNION ALL
                 -- Of the day on which proofs begin to count: that one is not in it as a whole.
                 SELECT 'proven', count(*), coalesce(sum(c.size), 0)::bigint FROM standing s JOIN counted c ON c.original = s.original AND c.living
                 WHERE s.place = $1 AND s.good AND s.proven_at >= $2 AND s.proven_at < $3
             )
             SELECT coalesce(sum(n) FILTER (WHERE fact = 'held'), 0)::bigint AS held,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'held'), 0)::bigint AS held_bytes,
                    coalesce(sum(n) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven_bytes,
                    (coalesce(sum(n) FILTER (WHERE fact = 'home'), 0) - coalesce(sum(n) FILTER (WHERE fact = 'also at home'), 0))::bigint AS to_go,
                    (coalesce(sum(bytes) FILTER (WHERE fact = 'home'), 0) - coalesce(sum(bytes) FILTER (WHERE fact = 'also at home'), 0))::bigint
                        AS to_go_bytes,
                    (SELECT count(*) FROM standing WHERE place = $1 AND good AND NOT listed) AS unlisted,
                    (SELECT max(confirmed_at) FROM object WHERE store = $1) AS confirmed_at
             FROM facts",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Timestamptz, _>(proven_since)
        .bind::<Timestamptz, _>(next_day(proven_since))
        .get_result(&mut c)
        .await?;
        Ok(StoreNumbers {
            held: amount(r.held, r.held_bytes),
            proven: amount(r.proven, r.proven_bytes),
            to_go: amount(r.to_go, r.to_go_bytes),
            unlisted: unsigned(r.unlisted),
            confirmed_at: r.confirmed_at,
        })
    }

    /// Originals and bytes of one member.
    pub async fn usage(&self, person: PersonId) -> Result<Amount> {
        let mut c = self.connection().await?;
        let kept = counts::table.filter(counts::about.eq(person.0).and(counts::fact.eq("kept")));
        let (n, bytes): (i64, i64) = kept.select((total(counts::n), total(counts::bytes))).get_result(&mut c).await?;
        Ok(amount(n, bytes))
    }

    /// Adds up what was counted since, soon after somebody counted, as long as the future is polled.
    pub async fn keep_counts(&self) {
        loop {
            self.counted.notified().await;
            if let Err(e) = self.fold_counts().await {
                // Slower, not wrong; the next that is counted is another chance.
                tracing::warn!(error = %e, "counts could not be added up");
            }
            tokio::time::sleep(BETWEEN_FOLDS).await;
        }
    }

    /// Looks again at the names that devices gave to what came, went, or was named since; then their counts are as what is at home.
    pub(crate) async fn look_at_names(&self) -> Result<()> {
        loop {
            let mut c = self.async_commit_connection().await?;
            let looked: i64 = select(look_at_names(FOLD)).get_result(&mut c).await?;
            if looked < i64::from(FOLD) {
                return Ok(());
            }
        }
    }

    /// Adds up what was counted since, until there is nothing left.
    pub async fn fold_counts(&self) -> Result<()> {
        self.look_at_names().await?;
        loop {
            let mut c = self.async_commit_connection().await?;
            let folded: i64 = select(fold_tally(FOLD)).get_result(&mut c).await?;
            let spots: i64 = select(fold_spots(FOLD)).get_result(&mut c).await?;
            if folded.max(spots) < i64::from(FOLD) {
                return Ok(());
            }
        }
    }

    /// Counts in full, and puts right what differs. Returns what differed, in words for the log; nothing, as long as everything that changes a
    /// count says so.
    pub async fn miscounts(&self) -> Result<Vec<String>> {
        #[derive(QueryableByName)]
        struct Wrong {
            #[diesel(sql_type = Text)]
            what: String,
        }
        let mut c = self.async_commit_connection().await?;
        // Months and days of which nothing is left.
        delete(tally::table.filter(tally::n.eq(0).and(tally::bytes.eq(0)))).execute(&mut c).await?;
        delete(spot_tally::table.filter(spot_tally::n.eq(0).and(spot_tally::x.eq(0)).and(spot_tally::y.eq(0))))
            .execute(&mut c)
            .await?;
        delete(town_tally::table.filter(town_tally::n.eq(0))).execute(&mut c).await?;
        // Text: a view that is read here only.
        let wrong: Vec<Wrong> = sql_query("SELECT what FROM discrepancy ORDER BY what LIMIT 100").load(&mut c).await?;
        if !wrong.is_empty() {
            whole!(c, {
                select(count_right()).execute(c).await?;
                Ok::<_, CatalogError>(())
            })
            .await?;
        }
        Ok(wrong.into_iter().map(|w| w.what).collect())
    }
}
