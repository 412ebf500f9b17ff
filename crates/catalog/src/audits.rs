//! Checks of copies: which are due, what was found, what was made good.

use chrono::{DateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{Digest, OriginalId, StoreId, filing::FiledPath, layers::Place};

use crate::{
    Catalog, CatalogError, Count, Prepare, Result,
    columns::{HashColumn, PathColumn},
    evidence::{HOME, place_id, place_of},
    signed, unsigned,
    work::Kind,
};

/// How a place is checked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Check {
    /// Copies are read from start to end and their hashes compared.
    Reading,
    /// A store's list is compared with what should be there.
    Listing,
    /// A random sample is brought back as if home were gone.
    Drill,
}

impl Check {
    /// Every way.
    pub const ALL: [Check; 3] = [Self::Reading, Self::Listing, Self::Drill];

    /// The word in the table and on the wire.
    pub fn word(self) -> &'static str {
        match self {
            Self::Reading => "reading",
            Self::Listing => "listing",
            Self::Drill => "drill",
        }
    }

    /// The way with that word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|c| c.word() == word)
    }

    /// The work that does it.
    pub fn work(self) -> Kind {
        match self {
            Self::Reading => Kind::Reading,
            Self::Listing => Kind::Listing,
            Self::Drill => Kind::Drill,
        }
    }
}

/// One check of one place.
#[derive(Clone, Debug)]
pub struct Audit {
    /// Its id.
    pub id: Uuid,
    /// What is checked.
    pub place: Place,
    /// How.
    pub check: Check,
    /// Everything is read, not a portion.
    pub whole: bool,
    /// When it began; what was looked at since then has had its turn.
    pub began_at: Option<DateTime<Utc>>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// What came of it so far.
    pub found: Found,
    /// What it says, or why it could not be done.
    pub said: Option<String>,
    /// It could not be done.
    pub failed: bool,
}

/// What a check found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// Copies that should be there.
    pub population: u64,
    /// Looked at.
    pub checked: u64,
    /// Bytes of these.
    pub bytes: u64,
    /// Damaged.
    pub wrong: u64,
    /// Not there.
    pub missing: u64,
    /// Out of reach: the folder that they were left in is empty, or not there.
    pub unseen: u64,
    /// There, and known to nobody.
    pub unknown: u64,
}

impl std::ops::AddAssign for Found {
    fn add_assign(&mut self, more: Self) {
        self.population += more.population;
        self.checked += more.checked;
        self.bytes += more.bytes;
        self.wrong += more.wrong;
        self.missing += more.missing;
        self.unseen += more.unseen;
        self.unknown += more.unknown;
    }
}

/// A copy that is to be read.
#[derive(Clone, Debug)]
pub struct CopyToRead {
    /// The original.
    pub id: OriginalId,
    /// What its bytes are.
    pub digest: Digest,
    /// How many.
    pub size: u64,
    /// Where it is at home.
    pub path: FiledPath,
}

/// An object that a store should hold.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expected {
    /// Its name in the store.
    pub name: String,
    /// Its size there.
    pub size: u64,
    /// What it opens to.
    pub digest: Digest,
}

#[derive(QueryableByName)]
struct AuditRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    place: Uuid,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Bool)]
    whole: bool,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    began_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ended_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = BigInt)]
    population: i64,
    #[diesel(sql_type = BigInt)]
    checked: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
    #[diesel(sql_type = BigInt)]
    wrong: i64,
    #[diesel(sql_type = BigInt)]
    missing: i64,
    #[diesel(sql_type = BigInt)]
    unseen: i64,
    #[diesel(sql_type = BigInt)]
    unknown: i64,
    #[diesel(sql_type = Nullable<Text>)]
    said: Option<String>,
    #[diesel(sql_type = Bool)]
    failed: bool,
}

impl AuditRow {
    fn audit(self) -> Option<Audit> {
        Some(Audit {
            id: self.id,
            place: place_of(self.place),
            check: Check::from_word(&self.kind)?,
            whole: self.whole,
            began_at: self.began_at,
            ended_at: self.ended_at,
            found: Found {
                population: unsigned(self.population),
                checked: unsigned(self.checked),
                bytes: unsigned(self.bytes),
                wrong: unsigned(self.wrong),
                missing: unsigned(self.missing),
                unseen: unsigned(self.unseen),
                unknown: unsigned(self.unknown),
            },
            said: self.said,
            failed: self.failed,
        })
    }
}

#[derive(QueryableByName)]
struct CopyToReadRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Text)]
    path: PathColumn,
}

#[derive(QueryableByName)]
struct ExpectedRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
}

const AUDIT: &str =
    "id, place, kind, whole, began_at, ended_at, population, checked, bytes, wrong, missing, unseen, unknown, said, failed";

impl Catalog {
    /// Sees to it that every place is checked in every way that it can be. `first` is when the first check of a new place is.
    pub async fn want_rounds(&self, first: impl Fn(Check) -> DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "INSERT INTO job (kind, key, store, priority, due)
             SELECT 'reading', $1, NULL, 2, $2
             UNION ALL SELECT 'reading', id, id, 1, $2 FROM store
             UNION ALL SELECT 'listing', id, id, 3, $3 FROM store
             UNION ALL SELECT 'drill', id, id, 4, $4 FROM store
             -- No wish: a round that is there goes on as it was.
             ON CONFLICT DO NOTHING",
        )
        .bind::<SqlUuid, _>(HOME)
        .bind::<Timestamptz, _>(first(Check::Reading))
        .bind::<Timestamptz, _>(first(Check::Listing))
        .bind::<Timestamptz, _>(first(Check::Drill))
        .prepared()
        .execute(&mut c)
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// The keeper wants a check now, of everything. One that is under way becomes a whole one.
    pub async fn want_check(&self, id: Uuid, place: Place, check: Check, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query(
                "INSERT INTO audit (id, place, kind, whole, wanted_at) VALUES ($1, $2, $3, true, $4)
                 ON CONFLICT (place, kind) WHERE ended_at IS NULL DO UPDATE SET whole = true",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<SqlUuid, _>(place_id(place))
            .bind::<Text, _>(check.word())
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            sql_query(
                "UPDATE job SET wishes = wishes + 1, due = least(due, $3), gave_up = false, error = NULL, attempts = 0 WHERE kind = $1 AND key = $2",
            )
            .bind::<Text, _>(check.work().word())
            .bind::<SqlUuid, _>(place_id(place))
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Begins a check, or goes on with the one that is open, or that the keeper wanted.
    pub async fn begin_audit(&self, new: Uuid, place: Place, check: Check, population: u64, now: DateTime<Utc>) -> Result<Audit> {
        let mut c = self.connection().await?;
        let row: AuditRow = sql_query(format!(
            "INSERT INTO audit (id, place, kind, wanted_at, began_at, population) VALUES ($1, $2, $3, $4, $4, $5)
             ON CONFLICT (place, kind) WHERE ended_at IS NULL
                 DO UPDATE SET began_at = coalesce(audit.began_at, excluded.began_at), population = excluded.population
             RETURNING {AUDIT}"
        ))
        .bind::<SqlUuid, _>(new)
        .bind::<SqlUuid, _>(place_id(place))
        .bind::<Text, _>(check.word())
        .bind::<Timestamptz, _>(now)
        .bind::<BigInt, _>(signed(population))
        .prepared()
        .get_result(&mut c)
        .await?;
        row.audit().ok_or(CatalogError::NotFound)
    }

    /// Adds to what a reading has found, so that one that is stopped goes on counting.
    pub async fn count_audit(&self, id: Uuid, more: Found) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query(
            "UPDATE audit SET checked = checked + $2, bytes = bytes + $3, wrong = wrong + $4, missing = missing + $5,
                              unseen = unseen + $6 WHERE id = $1",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<BigInt, _>(signed(more.checked))
        .bind::<BigInt, _>(signed(more.bytes))
        .bind::<BigInt, _>(signed(more.wrong))
        .bind::<BigInt, _>(signed(more.missing))
        .bind::<BigInt, _>(signed(more.unseen))
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// The next round of a check is then; or at once, if the keeper wants another one by now.
    pub async fn next_round(&self, id: i64, check: Check, due: DateTime<Utc>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "UPDATE job SET leased_by = NULL, lease_end = NULL, error = NULL, attempts = 0, lost = 0, due = CASE
                 WHEN EXISTS (SELECT 1 FROM audit WHERE place = job.key AND kind = $2 AND ended_at IS NULL) THEN $4 ELSE $3 END
             WHERE id = $1",
        )
        .bind::<BigInt, _>(id)
        .bind::<Text, _>(check.word())
        .bind::<Timestamptz, _>(due)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Ends a check with what it found, in all, and what that says; `failed`: with why it could not be done.
    pub async fn end_audit(&self, id: Uuid, found: Found, said: &str, failed: bool, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "UPDATE audit SET checked = $2, bytes = $3, wrong = $4, missing = $5, unknown = $6, said = $7, failed = $8, ended_at = $9,
                    unseen = $10
             WHERE id = $1",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<BigInt, _>(signed(found.checked))
        .bind::<BigInt, _>(signed(found.bytes))
        .bind::<BigInt, _>(signed(found.wrong))
        .bind::<BigInt, _>(signed(found.missing))
        .bind::<BigInt, _>(signed(found.unknown))
        .bind::<Text, _>(said)
        .bind::<Bool, _>(failed)
        .bind::<Timestamptz, _>(now)
        .bind::<BigInt, _>(signed(found.unseen))
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// The last check of every place in every way, and those that are under way.
    pub async fn audits(&self) -> Result<Vec<Audit>> {
        let mut c = self.connection().await?;
        let rows: Vec<AuditRow> = sql_query(format!(
            "SELECT {AUDIT} FROM audit WHERE ended_at IS NULL
             UNION ALL (SELECT DISTINCT ON (place, kind) {AUDIT} FROM audit WHERE ended_at IS NOT NULL ORDER BY place, kind, ended_at DESC)"
        ))
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().filter_map(AuditRow::audit).collect())
    }

    /// When each place is to be checked next, in each way.
    pub async fn rounds(&self) -> Result<Vec<(Place, Check, DateTime<Utc>)>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            kind: String,
            #[diesel(sql_type = SqlUuid)]
            key: Uuid,
            #[diesel(sql_type = Timestamptz)]
            due: DateTime<Utc>,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Row> = sql_query("SELECT kind, key, due FROM job WHERE kind IN ('reading', 'listing', 'drill')")
            .prepared()
            .load(&mut c)
            .await?;
        let check = |word: &str| Check::ALL.into_iter().find(|c| c.work().word() == word);
        Ok(rows.iter().filter_map(|r| Some((place_of(r.key), check(&r.kind)?, r.due))).collect())
    }

    /// Copies at a place, those first that have not been looked at for longest; only ones not looked at since `since`, which
    /// were there before it. Not those that are to be sent to their store again: there is nothing to read.
    pub async fn copies_to_read(&self, place: Place, since: DateTime<Utc>, limit: i64) -> Result<Vec<CopyToRead>> {
        let mut c = self.connection().await?;
        let rows: Vec<CopyToReadRow> = sql_query(
            "SELECT o.id, o.digest, o.size, o.path FROM standing s JOIN original o ON o.id = s.original
             WHERE s.place = $1 AND (s.looked_at IS NULL OR s.looked_at < $2) AND s.since < $2
               AND ($1 = $4 OR EXISTS (SELECT 1 FROM object b WHERE b.store = $1 AND b.digest = o.digest AND NOT b.leaving))
             ORDER BY s.looked_at NULLS FIRST, s.original LIMIT $3",
        )
        .bind::<SqlUuid, _>(place_id(place))
        .bind::<Timestamptz, _>(since)
        .bind::<BigInt, _>(limit)
        .bind::<SqlUuid, _>(HOME)
        .prepared()
        .load(&mut c)
        .await?;
        rows.into_iter()
            .map(|r| Ok(CopyToRead { id: OriginalId(r.id), digest: r.digest.0, size: unsigned(r.size), path: r.path.0 }))
            .collect()
    }

    /// The last check of each place in each way, where it could not be done, or where a drill did not bring everything back.
    pub async fn failed_checks(&self) -> Result<Vec<Audit>> {
        let mut c = self.connection().await?;
        let rows: Vec<AuditRow> = sql_query(format!(
            "SELECT * FROM (
                 SELECT DISTINCT ON (place, kind) {AUDIT} FROM audit WHERE ended_at IS NOT NULL ORDER BY place, kind, ended_at DESC
             ) last WHERE failed OR (kind = 'drill' AND wrong + missing > 0) ORDER BY ended_at"
        ))
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().filter_map(AuditRow::audit).collect())
    }

    /// Copies that should be at a place, and their bytes.
    pub async fn copies_at(&self, place: Place) -> Result<(u64, u64)> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = BigInt)]
            count: i64,
            #[diesel(sql_type = BigInt)]
            bytes: i64,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query(
            "SELECT count(*) AS count, coalesce(sum(o.size), 0)::bigint AS bytes FROM standing s JOIN original o ON o.id = s.original
             WHERE s.place = $1",
        )
        .bind::<SqlUuid, _>(place_id(place))
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok((unsigned(row.count), unsigned(row.bytes)))
    }

    /// Copies at a place that are bad, as far as is known.
    pub async fn bad_at(&self, place: Place) -> Result<u64> {
        let mut c = self.connection().await?;
        let row: Count = sql_query("SELECT count(*) AS n FROM standing WHERE place = $1 AND NOT good")
            .bind::<SqlUuid, _>(place_id(place))
            .prepared()
            .get_result(&mut c)
            .await?;
        Ok(unsigned(row.n))
    }

    /// Objects that a store confirmed before then, in the order of their names' bytes, after a given one.
    pub async fn expected_objects(
        &self,
        store: StoreId,
        after: &str,
        before: DateTime<Utc>,
        limit: i64,
    ) -> Result<Vec<Expected>> {
        let mut c = self.connection().await?;
        let rows: Vec<ExpectedRow> = sql_query(
            "SELECT name, size, digest FROM object WHERE store = $1 AND name COLLATE \"C\" > $2 AND confirmed_at < $3 AND NOT leaving
             ORDER BY name COLLATE \"C\" LIMIT $4",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Text, _>(after)
        .bind::<Timestamptz, _>(before)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| Expected { name: r.name, size: unsigned(r.size), digest: r.digest.0 }).collect())
    }

    /// Whether a store has confirmed an object of this name by now, or has one of this name that was sealed anew.
    pub async fn knows_object(&self, store: StoreId, name: &str) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count = sql_query(
            "SELECT (SELECT count(*) FROM object WHERE store = $1 AND name COLLATE \"C\" = $2)
                  + (SELECT count(*) FROM superseded WHERE store = $1 AND name = $2) AS n",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Text, _>(name)
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(row.n > 0)
    }

    /// Puts down that copies are to be read back from a store soon.
    pub async fn want_proof(&self, store: StoreId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "INSERT INTO job (kind, key, store, priority, due) SELECT 'prove', o, $1, 5, $3 FROM unnest($2) AS o
             ON CONFLICT (kind, key, store) DO UPDATE SET wishes = job.wishes + 1, due = least(job.due, excluded.due), priority = 5, gave_up = false,
                 attempts = 0",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Array<SqlUuid>, _>(originals.iter().map(|o| o.0).collect::<Vec<_>>())
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        self.work_added(&[Kind::Prove]);
        Ok(())
    }

    /// The originals, of anybody, that have these bytes.
    pub async fn sharing(&self, digest: Digest) -> Result<Vec<OriginalId>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = SqlUuid)]
            id: Uuid,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Row> = sql_query("SELECT id FROM original WHERE digest = $1 ORDER BY id")
            .bind::<Binary, _>(digest.as_bytes().as_slice())
            .prepared()
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|r| OriginalId(r.id)).collect())
    }

    /// How often a copy was made good since then.
    pub async fn healed_since(&self, original: OriginalId, place: Place, since: DateTime<Utc>) -> Result<u32> {
        let mut c = self.connection().await?;
        let row: Count = sql_query("SELECT count(*) AS n FROM healing WHERE original = $1 AND place = $2 AND at >= $3")
            .bind::<SqlUuid, _>(original.0)
            .bind::<SqlUuid, _>(place_id(place))
            .bind::<Timestamptz, _>(since)
            .prepared()
            .get_result(&mut c)
            .await?;
        Ok(u32::try_from(row.n).unwrap_or(u32::MAX))
    }

    /// Notes that a copy was made good, with the bytes of another place.
    pub async fn note_healing(&self, original: OriginalId, place: Place, source: Place, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("INSERT INTO healing (original, place, source, at) VALUES ($1, $2, $3, $4)")
            .bind::<SqlUuid, _>(original.0)
            .bind::<SqlUuid, _>(place_id(place))
            .bind::<SqlUuid, _>(place_id(source))
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Copies made good since then, at home and in stores.
    pub async fn healings(&self, since: DateTime<Utc>) -> Result<(u64, u64)> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = BigInt)]
            home: i64,
            #[diesel(sql_type = BigInt)]
            away: i64,
        }
        let mut c = self.connection().await?;
        let row: Option<Row> = sql_query(
            "SELECT count(*) FILTER (WHERE place = $1) AS home, count(*) FILTER (WHERE place <> $1) AS away FROM healing WHERE at >= $2",
        )
        .bind::<SqlUuid, _>(HOME)
        .bind::<Timestamptz, _>(since)
        .prepared()
        .get_result(&mut c)
        .await
        .optional()?;
        Ok(row.map_or((0, 0), |r| (unsigned(r.home), unsigned(r.away))))
    }
}
