//! Background work as rows: taken with `FOR UPDATE SKIP LOCKED`, woken by `NOTIFY`, leased so that a killed worker's work
//! comes back. Every kind of work is safe to do twice.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Integer, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::{AsyncConnection, AsyncPgConnection};
use futures_util::StreamExt;
use uuid::Uuid;
use ypogeion_core::StoreId;

use crate::{Catalog, CatalogError, Result, db::*, unsigned};

/// The kinds of background work.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Make the previews of an original. Key: the original.
    Preview,
    /// Send an original to a store. Key: the original.
    Replicate,
    /// Write what was confirmed into a store's ledger. Key: the store.
    Ledger,
    /// Read an original back from a store. Key: the original.
    Prove,
    /// Find what belongs to one press of the shutter. Key: the original.
    Group,
    /// File the library by another plan. Key: the re-filing.
    Refile,
    /// Take over what lies elsewhere. Key: the adoption.
    Adopt,
    /// Make a JPEG beside a HEIC. Key: the original.
    Derive,
    /// Read copies at home, or in a store, again. Key: the place.
    Reading,
    /// Compare a store's list with what should be there. Key: the store.
    Listing,
    /// Bring a random sample back from a store. Key: the store.
    Drill,
    /// Make a bad copy good, at home or, with a store, there. Key: the original.
    Heal,
    /// Put an original where it belongs after it was deleted, taken back, or let go. Key: the original.
    Hold,
    /// Let what has waited long enough in holding go. Key: nil.
    Release,
    /// Remove the copy of an original that has gone from a store. Key: the original.
    Remove,
    /// Seal anew what a store has for earlier recipients. Key: the store.
    Reseal,
    /// Bring an original home that only its rows are left of, or see that it is there. Key: the original.
    Fetch,
    /// Find the towns that a person's pictures were taken near. Key: one of these originals.
    Town,
    /// Read what files say in words that came before those were read. Key: nil.
    Words,
    /// Make a version of a film that browsers play. Key: the original.
    Film,
}

impl Kind {
    /// Every kind.
    pub const ALL: [Kind; 20] = [
        Self::Preview,
        Self::Replicate,
        Self::Ledger,
        Self::Prove,
        Self::Group,
        Self::Refile,
        Self::Adopt,
        Self::Derive,
        Self::Reading,
        Self::Listing,
        Self::Drill,
        Self::Heal,
        Self::Hold,
        Self::Release,
        Self::Remove,
        Self::Fetch,
        Self::Reseal,
        Self::Town,
        Self::Words,
        Self::Film,
    ];

    /// The word stored in the table.
    pub fn word(self) -> &'static str {
        match self {
            Self::Preview => "preview",
            Self::Replicate => "replicate",
            Self::Ledger => "ledger",
            Self::Prove => "prove",
            Self::Group => "group",
            Self::Refile => "refile",
            Self::Adopt => "adopt",
            Self::Derive => "derive",
            Self::Reading => "reading",
            Self::Listing => "listing",
            Self::Drill => "drill",
            Self::Heal => "heal",
            Self::Hold => "hold",
            Self::Release => "release",
            Self::Remove => "remove",
            Self::Fetch => "fetch",
            Self::Reseal => "reseal",
            Self::Town => "town",
            Self::Words => "words",
            Self::Film => "film",
        }
    }

    /// Its bit in a set of kinds.
    pub(crate) fn bit(self) -> u32 {
        1 << self as u32
    }

    fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.word() == word)
    }
}

/// A piece of work that was taken.
#[derive(Clone, Debug)]
pub struct Job {
    /// Its number.
    pub id: i64,
    /// What to do.
    pub kind: Kind,
    /// With what.
    pub key: Uuid,
    /// For which store.
    pub store: Option<StoreId>,
    /// How often it has been taken, this time included.
    pub attempts: u32,
    /// How often it had been wished for when it was taken. Whoever wants it done once more, while it is being done, adds a wish.
    pub wishes: i64,
    /// The number of this taking: who has an older one does not hold the work any more.
    pub taken: i64,
}

/// One kind of work in numbers.
#[derive(Clone, Debug)]
pub struct KindNumbers {
    /// The kind.
    pub kind: Kind,
    /// Waiting its turn.
    pub waiting: u64,
    /// Under way.
    pub running: u64,
    /// Failed and waiting to be tried again.
    pub retrying: u64,
    /// Given up.
    pub failed: u64,
}

/// A piece of work that failed at least once.
#[derive(Clone, Debug, Queryable)]
pub struct Fault {
    /// Its number.
    pub id: i64,
    /// The kind's word.
    pub kind: String,
    /// What it is about: a path in the library, or a store's name.
    pub about: String,
    /// How often it was tried.
    pub attempts: i32,
    /// What happened last.
    pub error: String,
    /// When it is tried next; `None` if it was given up.
    pub due: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct JobRow {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = SqlUuid)]
    key: Uuid,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    store: Option<Uuid>,
    #[diesel(sql_type = Integer)]
    attempts: i32,
    #[diesel(sql_type = BigInt)]
    wishes: i64,
    #[diesel(sql_type = BigInt)]
    taken: i64,
}

#[derive(QueryableByName)]
struct DueRow {
    #[diesel(sql_type = Nullable<Timestamptz>)]
    due: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct KindRow {
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = BigInt)]
    waiting: i64,
    #[diesel(sql_type = BigInt)]
    running: i64,
    #[diesel(sql_type = BigInt)]
    retrying: i64,
    #[diesel(sql_type = BigInt)]
    failed: i64,
}

/// Work during which so many processes ended, one after the other, is not begun once more: it may be what ends them. Before that it waits
/// longer each time, so that whatever else there is to do gets done.
const MOST_LOST: i32 = 8;

/// Work that may be taken: not given up, not leased to anybody alive.
const FREE: &str = "NOT j.gave_up AND (j.lease_end IS NULL OR j.lease_end < $1)";

/// Work that is put down long before its time.
const LATER: [&str; 6] = ["reading", "listing", "drill", "release", "remove", "reseal"];

impl Catalog {
    /// Takes up to `limit` pieces of work of one kind, most urgent first, until `lease` has passed. Work for a store that
    /// stopped, or that waits after a fault, is passed over.
    ///
    /// Looks at each priority by itself, the highest first, so that however much is due later is never looked at.
    ///
    /// `full`: stores that have as much under way as they can take; work for them is passed over as well.
    pub async fn take_work(
        &self,
        kind: Kind,
        me: Uuid,
        (now, lease): (DateTime<Utc>, TimeDelta),
        limit: i64,
        full: &[StoreId],
    ) -> Result<Vec<Job>> {
        let mut c = self.async_commit_connection().await?;
        // Text: walks down the priorities, and of each takes the first.
        let rows: Vec<JobRow> = sql_query(format!(
            "WITH RECURSIVE level AS (
                 SELECT max(priority) AS priority FROM job WHERE kind = $2 AND NOT gave_up
                 UNION ALL
                 SELECT (SELECT max(priority) FROM job WHERE kind = $2 AND NOT gave_up AND priority < level.priority)
                 FROM level WHERE level.priority IS NOT NULL
             ), away AS MATERIALIZED (
                 SELECT id FROM store WHERE stopped IS NOT NULL OR paused OR retry_at > $1 OR rest_until > $1 OR id = ANY($6)
             ), first AS (
                 SELECT due.id FROM level, LATERAL (
                     SELECT j.id, j.due FROM job j
                     WHERE j.kind = $2 AND j.priority = level.priority AND j.due <= $1 AND {FREE}
                       AND (j.store IS NULL OR j.store NOT IN (SELECT id FROM away))
                     ORDER BY j.due, j.id LIMIT $5
                 ) due ORDER BY level.priority DESC, due.due, due.id LIMIT $5
             ), mine AS (
                 SELECT j.id FROM job j WHERE j.id IN (SELECT id FROM first) AND {FREE} FOR UPDATE SKIP LOCKED
             )
             UPDATE job SET leased_by = $3, lease_end = $4, attempts = attempts + 1, taken = taken + 1,
                 lost = CASE WHEN leased_by IS NULL THEN lost ELSE lost + 1 END WHERE id IN (SELECT id FROM mine)
             RETURNING id, kind, key, store, attempts, wishes, taken"
        ))
        .bind::<Timestamptz, _>(now)
        .bind::<Text, _>(kind.word())
        .bind::<SqlUuid, _>(me)
        .bind::<Timestamptz, _>(now + lease)
        .bind::<BigInt, _>(limit)
        .bind::<Array<SqlUuid>, _>(full.iter().map(|s| s.0).collect::<Vec<_>>())
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                Some(Job {
                    id: r.id,
                    kind: Kind::from_word(&r.kind)?,
                    key: r.key,
                    store: r.store.map(StoreId),
                    attempts: u32::try_from(r.attempts).unwrap_or(0),
                    wishes: r.wishes,
                    taken: r.taken,
                })
            })
            .collect())
    }

    /// When the next piece of this kind of work is due, if there is any that nobody holds and that is not for one of the `full` stores.
    pub async fn next_due(&self, kind: Kind, now: DateTime<Utc>, full: &[StoreId]) -> Result<Option<DateTime<Utc>>> {
        let mut c = self.connection().await?;
        // Text: for each store, and for work without one, the first row of an index.
        let row: DueRow = sql_query(format!(
            "SELECT min(greatest(first.due, at.free_at)) AS due FROM (
                 SELECT id, greatest(retry_at, rest_until) AS free_at FROM store WHERE stopped IS NULL AND NOT paused AND id <> ALL($3)
                 UNION ALL SELECT NULL, NULL
             ) at, LATERAL (
                 (SELECT j.due FROM job j WHERE j.kind = $2 AND j.store = at.id AND {FREE} ORDER BY j.due LIMIT 1)
                 UNION ALL
                 (SELECT j.due FROM job j WHERE at.id IS NULL AND j.kind = $2 AND j.store IS NULL AND {FREE} ORDER BY j.due LIMIT 1)
             ) first"
        ))
            .bind::<Timestamptz, _>(now)
            .bind::<Text, _>(kind.word())
            .bind::<Array<SqlUuid>, _>(full.iter().map(|s| s.0).collect::<Vec<_>>())
            .get_result(&mut c)
            .await?;
        Ok(row.due)
    }

    /// Work is done; unless somebody has wished for it once more since it was taken: then it stays. Said by somebody who does not hold it
    /// any more, it means nothing.
    pub async fn finish_work(&self, done: &Job) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let mine = job::id.eq(done.id).and(job::taken.eq(done.taken));
        let gone = delete(job::table.filter(mine.and(job::wishes.eq(done.wishes)))).execute(&mut c).await?;
        if gone == 0 {
            // A statement of its own: it sees the wish for which the one above had to wait.
            update(job::table.filter(mine))
                .set((
                    job::leased_by.eq(None::<Uuid>),
                    job::lease_end.eq(None::<DateTime<Utc>>),
                    job::error.eq(None::<String>),
                    job::attempts.eq(0),
                    job::lost.eq(0),
                ))
                .execute(&mut c)
                .await?;
            drop(c);
            self.work_added(&[done.kind]);
        }
        Ok(())
    }

    /// Work is to be done again at `due`, or when somebody has wished for it since it was taken; with an error if that is why.
    pub async fn put_back_work(&self, back: &Job, error: Option<&str>, due: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        // Without an error it was not tried.
        let untried = i32::from(error.is_none());
        update(job::table.filter(job::id.eq(back.id).and(job::taken.eq(back.taken))))
            .set((
                job::leased_by.eq(None::<Uuid>),
                job::lease_end.eq(None::<DateTime<Utc>>),
                job::lost.eq(0),
                job::error.eq(error),
                job::due.eq(case_when(job::wishes.eq(back.wishes), due.into_sql::<Timestamptz>()).otherwise(job::due)),
                job::attempts.eq(greatest(job::attempts - untried, 0)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Work cannot be done until somebody looks; or, if somebody has wished for it since it was taken, as it is now.
    pub async fn give_up_work(&self, lost: &Job, error: &str) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(job::table.filter(job::id.eq(lost.id).and(job::taken.eq(lost.taken))))
            .set((
                job::leased_by.eq(None::<Uuid>),
                job::lease_end.eq(None::<DateTime<Utc>>),
                job::lost.eq(0),
                job::error.eq(error),
                job::gave_up.eq(job::wishes.eq(lost.wishes)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Keeps the leases of work that is still under way.
    pub async fn keep_leases(&self, me: Uuid, ids: &[i64], until: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let held = job::table.filter(job::leased_by.eq(me).and(job::id.eq_any(ids)));
        update(held).set(job::lease_end.eq(until)).execute(&mut c).await?;
        Ok(())
    }

    /// Frees all that this worker held before it was killed. What was under way in three ends of a process, one after the other, waits for
    /// four seconds, then for eight, and so on; it may be their reason, and is given up in the end.
    pub async fn free_leases(&self, me: Uuid, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        // Text: reckons with times.
        let n = sql_query(
            "UPDATE job SET leased_by = NULL, lease_end = NULL, lost = lost + 1, gave_up = gave_up OR lost + 1 >= $2,
                 due = CASE WHEN lost + 1 < 3 THEN due ELSE greatest(due, $3 + power(2, least(lost, 9)) * interval '1 second') END,
                 error = CASE WHEN lost + 1 >= $2 THEN 'the service ended ' || (lost + 1) || ' times while this was being done' ELSE error END
             WHERE leased_by = $1",
        )
            .bind::<SqlUuid, _>(me)
            .bind::<Integer, _>(MOST_LOST)
            .bind::<Timestamptz, _>(now)
            .execute(&mut c)
            .await?;
        Ok(n as u64)
    }

    /// Background work in numbers, by kind; kinds with nothing to do are left out.
    pub async fn work_numbers(&self, now: DateTime<Utc>) -> Result<Vec<KindNumbers>> {
        let mut c = self.connection().await?;
        // Text: one look at what is kept and at what is counted.
        let rows: Vec<KindRow> = sql_query(
            "WITH busy AS (
                 -- What is being done, waits for its next try, or has failed: little, and in indexes of its own.
                 SELECT kind, count(*) FILTER (WHERE lease_end >= $1) AS running,
                        count(*) FILTER (WHERE NOT gave_up AND error IS NOT NULL AND (lease_end IS NULL OR lease_end < $1)) AS retrying,
                        count(*) FILTER (WHERE gave_up) AS failed, count(*) FILTER (WHERE lease_end >= $1 OR gave_up OR error IS NOT NULL) AS n
                 FROM job WHERE lease_end IS NOT NULL OR error IS NOT NULL OR gave_up GROUP BY kind
             ), work AS (
                 SELECT fact AS kind, sum(n)::bigint AS n FROM counts
                 WHERE about = '00000000-0000-0000-0000-000000000001' AND fact <> ALL($2) GROUP BY fact
                 UNION ALL
                 -- The next round of a check is no work yet, nor is what leaves holding or a store some day.
                 SELECT k.kind, (SELECT count(*) FROM job j WHERE j.kind = k.kind AND NOT j.gave_up AND j.due <= $1)
                     + (SELECT count(*) FROM job j WHERE j.kind = k.kind AND j.due > $1 AND (j.lease_end >= $1 OR j.error IS NOT NULL) AND NOT j.gave_up)
                     + (SELECT count(*) FROM job j WHERE j.kind = k.kind AND j.gave_up)
                 FROM unnest($2) k (kind)
             )
             SELECT w.kind, greatest(w.n - coalesce(b.n, 0), 0)::bigint AS waiting, coalesce(b.running, 0) AS running,
                    coalesce(b.retrying, 0) AS retrying, coalesce(b.failed, 0) AS failed
             FROM work w LEFT JOIN busy b USING (kind) WHERE w.n > 0 ORDER BY w.kind",
        )
        .bind::<Timestamptz, _>(now)
        .bind::<Array<Text>, _>(LATER.as_slice())
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                Some(KindNumbers {
                    kind: Kind::from_word(&r.kind)?,
                    waiting: unsigned(r.waiting),
                    running: unsigned(r.running),
                    retrying: unsigned(r.retrying),
                    failed: unsigned(r.failed),
                })
            })
            .collect())
    }

    /// Work that failed at least once, given up first: at most so many, and how many there are in all.
    pub async fn work_faults(&self, most: i64) -> Result<(Vec<Fault>, u64)> {
        let mut c = self.connection().await?;
        let failed = job::table.filter(job::error.is_not_null());
        let all: i64 = failed.count().get_result(&mut c).await?;
        let about = coalesce(original::path.nullable(), coalesce(store::name.nullable(), ""));
        let due = case_when(not(job::gave_up), job::due);
        let rows: Vec<Fault> = job::table
            .left_join(original::table.on(original::id.eq(job::key)))
            .left_join(store::table.on(store::id.nullable().eq(job::store)))
            .filter(job::error.is_not_null())
            .order((job::gave_up.desc(), job::due, job::id))
            .limit(most)
            .select((job::id, job::kind, about, job::attempts, job::error.assume_not_null(), due))
            .load(&mut c)
            .await?;
        Ok((rows, unsigned(all)))
    }

    /// Gives failed work another chance, now.
    pub async fn retry_work(&self, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let again = update(job::table.filter(job::error.is_not_null().and(job::lease_end.is_null())))
            .set((job::gave_up.eq(false), job::due.eq(now), job::attempts.eq(0), job::lost.eq(0)))
            .execute(&mut c)
            .await?;
        self.work_added(&Kind::ALL);
        Ok(again as u64)
    }

    /// Calls `woken` with its kinds whenever work was added, by whatever process, until the connection ends. The caller listens again.
    pub async fn listen_for_work(&self, mut woken: impl FnMut(&[Kind])) -> Result<()> {
        let mut c = AsyncPgConnection::establish(&self.url).await.map_err(|e| CatalogError::Away(Box::new(e)))?;
        // Text: no query.
        sql_query("LISTEN job").execute(&mut c).await?;
        // Whatever came before the listening began.
        woken(&Kind::ALL);
        let mut notes = std::pin::pin!(c.notifications_stream());
        while let Some(note) = notes.next().await {
            let words = note.map_err(CatalogError::from)?.payload;
            if words.is_empty() {
                // Earlier versions name no kind.
                woken(&Kind::ALL);
                continue;
            }
            // A word that is not known here is work for a process that knows it.
            woken(&words.split(' ').filter_map(Kind::from_word).collect::<Vec<_>>());
        }
        Ok(())
    }
}
