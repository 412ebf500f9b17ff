//! Checks of copies: which are due, what was found, what was made good.

use chrono::{DateTime, Utc};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{Digest, OriginalId, StoreId, filing::FiledPath, layers::Place};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, PathColumn},
    db::*,
    evidence::{HOME, place_id, place_of},
    signed, unsigned,
    wishes::{work_for, work_row},
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

#[derive(Queryable, Selectable)]
#[diesel(table_name = audit)]
struct AuditRow {
    id: Uuid,
    place: Uuid,
    kind: String,
    whole: bool,
    began_at: Option<DateTime<Utc>>,
    ended_at: Option<DateTime<Utc>>,
    population: i64,
    checked: i64,
    bytes: i64,
    wrong: i64,
    missing: i64,
    unseen: i64,
    unknown: i64,
    said: Option<String>,
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

/// A check of a place that is open, or is to be begun: there is one of each kind.
macro_rules! open_audit {
    ($row:expr) => {
        insert_into(audit::table)
            .values($row)
            .on_conflict((audit::place, audit::kind))
            .filter_target(audit::ended_at.is_null())
            .do_update()
    };
}

impl Catalog {
    /// Sees to it that every place is checked in every way that it can be. `first` is when the first check of a new place is.
    pub async fn want_rounds(&self, first: impl Fn(Check) -> DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let stores: Vec<Uuid> = store::table.order(store::id).select(store::id).load(&mut c).await?;
        let mut rounds = vec![work_row(Kind::Reading, HOME, None, 2, first(Check::Reading))];
        for id in stores {
            let round = |check: Check, priority| work_row(check.work(), id, Some(StoreId(id)), priority, first(check));
            rounds.extend([round(Check::Reading, 1), round(Check::Listing, 3), round(Check::Drill, 4)]);
        }
        // No wish: a round that is there goes on as it was.
        let rows = insert_into(job::table).values(rounds).on_conflict_do_nothing();
        diesel_async::RunQueryDsl::execute(rows, &mut c).await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// The keeper wants a check now, of everything. One that is under way becomes a whole one.
    pub async fn want_check(&self, id: Uuid, place: Place, check: Check, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let row = (
                audit::id.eq(id),
                audit::place.eq(place_id(place)),
                audit::kind.eq(check.word()),
                audit::whole.eq(true),
                audit::wanted_at.eq(now),
            );
            open_audit!(row).set(audit::whole.eq(true)).execute(c).await?;
            update(job::table.filter(job::kind.eq(check.work().word()).and(job::key.eq(place_id(place)))))
                .set((
                    job::wishes.eq(job::wishes + 1),
                    job::due.eq(least(job::due, now)),
                    job::gave_up.eq(false),
                    job::error.eq(None::<String>),
                    job::attempts.eq(0),
                ))
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
        let row = (
            audit::id.eq(new),
            audit::place.eq(place_id(place)),
            audit::kind.eq(check.word()),
            audit::wanted_at.eq(now),
            audit::began_at.eq(now),
            audit::population.eq(signed(population)),
        );
        let mut c = self.connection().await?;
        let row: AuditRow = open_audit!(row)
            .set((
                audit::began_at.eq(or_else(audit::began_at, excluded(audit::began_at))),
                audit::population.eq(excluded(audit::population)),
            ))
            .returning(AuditRow::as_returning())
            .get_result(&mut c)
            .await?;
        row.audit().ok_or(CatalogError::NotFound)
    }

    /// Adds to what a reading has found, so that one that is stopped goes on counting.
    pub async fn count_audit(&self, id: Uuid, more: Found) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(audit::table.find(id))
            .set((
                audit::checked.eq(audit::checked + signed(more.checked)),
                audit::bytes.eq(audit::bytes + signed(more.bytes)),
                audit::wrong.eq(audit::wrong + signed(more.wrong)),
                audit::missing.eq(audit::missing + signed(more.missing)),
                audit::unseen.eq(audit::unseen + signed(more.unseen)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The next round of a check is then; or at once, if the keeper wants another one by now.
    pub async fn next_round(&self, id: i64, check: Check, due: DateTime<Utc>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let wanted =
            audit::table.filter(audit::place.eq(job::key).and(audit::kind.eq(check.word())).and(audit::ended_at.is_null()));
        let due = due.into_sql::<diesel::sql_types::Timestamptz>();
        update(job::table.find(id))
            .set((
                job::leased_by.eq(None::<Uuid>),
                job::lease_end.eq(None::<DateTime<Utc>>),
                job::error.eq(None::<String>),
                job::attempts.eq(0),
                job::lost.eq(0),
                job::due
                    .eq(case_when(exists(wanted.select(audit::id)), now.into_sql::<diesel::sql_types::Timestamptz>())
                        .otherwise(due)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Ends a check with what it found, in all, and what that says; `failed`: with why it could not be done.
    pub async fn end_audit(&self, id: Uuid, found: Found, said: &str, failed: bool, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        update(audit::table.find(id))
            .set((
                audit::checked.eq(signed(found.checked)),
                audit::bytes.eq(signed(found.bytes)),
                audit::wrong.eq(signed(found.wrong)),
                audit::missing.eq(signed(found.missing)),
                audit::unseen.eq(signed(found.unseen)),
                audit::unknown.eq(signed(found.unknown)),
                audit::said.eq(said),
                audit::failed.eq(failed),
                audit::ended_at.eq(now),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The last check of every place in every way, and those that are under way.
    pub async fn audits(&self) -> Result<Vec<Audit>> {
        let mut c = self.connection().await?;
        let open = audit::table.filter(audit::ended_at.is_null()).select(AuditRow::as_select());
        let mut all: Vec<AuditRow> = open.load(&mut c).await?;
        all.extend(last_audits(&mut c).await?);
        Ok(all.into_iter().filter_map(AuditRow::audit).collect())
    }

    /// When each place is to be checked next, in each way.
    pub async fn rounds(&self) -> Result<Vec<(Place, Check, DateTime<Utc>)>> {
        let mut c = self.connection().await?;
        let words = Check::ALL.map(|c| c.work().word());
        let rows: Vec<(String, Uuid, DateTime<Utc>)> =
            job::table.filter(job::kind.eq_any(words)).select((job::kind, job::key, job::due)).load(&mut c).await?;
        let check = |word: &str| Check::ALL.into_iter().find(|c| c.work().word() == word);
        Ok(rows.iter().filter_map(|(kind, key, due)| Some((place_of(*key), check(kind)?, *due))).collect())
    }

    /// Copies at a place, those first that have not been looked at for longest; only ones not looked at since `since`, which
    /// were there before it. Not those that are to be sent to their store again: there is nothing to read.
    pub async fn copies_to_read(&self, place: Place, since: DateTime<Utc>, limit: i64) -> Result<Vec<CopyToRead>> {
        let mut c = self.connection().await?;
        let at = place_id(place);
        let turn = standing::looked_at.is_null().or(standing::looked_at.lt(since).assume_not_null());
        let mut which = standing::table
            .inner_join(original::table)
            .filter(standing::place.eq(at).and(turn).and(standing::since.lt(since)))
            .order((standing::looked_at.asc().nulls_first(), standing::original))
            .limit(limit)
            .select((original::id, original::digest, original::size, original::path))
            .into_boxed();
        if place != Place::Home {
            let there =
                object::table.filter(object::store.eq(at).and(object::digest.eq(original::digest)).and(not(object::leaving)));
            which = which.filter(exists(there.select(object::name)));
        }
        let rows: Vec<(Uuid, HashColumn, i64, PathColumn)> = which.load(&mut c).await?;
        let copy = |(id, digest, size, path): (Uuid, HashColumn, i64, PathColumn)| CopyToRead {
            id: OriginalId(id),
            digest: digest.0,
            size: unsigned(size),
            path: path.0,
        };
        Ok(rows.into_iter().map(copy).collect())
    }

    /// The last check of each place in each way, where it could not be done, or where a drill did not bring everything back.
    pub async fn failed_checks(&self) -> Result<Vec<Audit>> {
        let mut c = self.connection().await?;
        let bad = |a: &AuditRow| a.failed || a.kind == Check::Drill.word() && a.wrong + a.missing > 0;
        let mut last: Vec<AuditRow> = last_audits(&mut c).await?.into_iter().filter(bad).collect();
        last.sort_by_key(|a| a.ended_at);
        Ok(last.into_iter().filter_map(AuditRow::audit).collect())
    }

    /// Copies that should be at a place, and their bytes.
    pub async fn copies_at(&self, place: Place) -> Result<(u64, u64)> {
        let mut c = self.connection().await?;
        let there = standing::table.inner_join(original::table).filter(standing::place.eq(place_id(place)));
        let (n, bytes): (i64, i64) = there.select((count_star(), total(original::size))).get_result(&mut c).await?;
        Ok((unsigned(n), unsigned(bytes)))
    }

    /// Copies at a place that are bad, as far as is known.
    pub async fn bad_at(&self, place: Place) -> Result<u64> {
        let mut c = self.connection().await?;
        let bad = standing::table.filter(standing::place.eq(place_id(place)).and(not(standing::good)));
        Ok(unsigned(bad.count().get_result(&mut c).await?))
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
        let rows: Vec<(String, i64, HashColumn)> = object::table
            .filter(object::store.eq(store.0).and(by_bytes(object::name).gt(after)).and(object::confirmed_at.lt(before)))
            .filter(not(object::leaving))
            .order(by_bytes(object::name))
            .limit(limit)
            .select((object::name, object::size, object::digest))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(name, size, digest)| Expected { name, size: unsigned(size), digest: digest.0 }).collect())
    }

    /// Whether a store has confirmed an object of this name by now, or has one of this name that was sealed anew.
    pub async fn knows_object(&self, store: StoreId, name: &str) -> Result<bool> {
        let mut c = self.connection().await?;
        let in_use = object::table.filter(object::store.eq(store.0).and(by_bytes(object::name).eq(name)));
        let before = superseded::table.find((store.0, name));
        let known = exists(in_use.select(object::name)).or(exists(before.select(superseded::name)));
        Ok(select(known).get_result(&mut c).await?)
    }

    /// Puts down that copies are to be read back from a store soon.
    pub async fn want_proof(&self, store: StoreId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let ids: Vec<Uuid> = originals.iter().map(|o| o.0).collect();
        let at = Some(store.0).into_sql::<diesel::sql_types::Nullable<diesel::sql_types::Uuid>>();
        let these = original::table.filter(original::id.eq_any(ids)).order(original::id);
        // A wish, and it goes before what is read in its turn.
        insert_into(job::table)
            .values(these.select(work_for!(Kind::Prove, original::id, at, 5, now)))
            .into_columns((job::kind, job::key, job::store, job::priority, job::due))
            .on_conflict((job::kind, job::key, job::store))
            .do_update()
            .set((
                job::wishes.eq(job::wishes + 1),
                job::due.eq(least(job::due, excluded(job::due))),
                job::priority.eq(5),
                job::gave_up.eq(false),
                job::attempts.eq(0),
            ))
            .execute(&mut c)
            .await?;
        self.work_added(&[Kind::Prove]);
        Ok(())
    }

    /// The originals, of anybody, that have these bytes.
    pub async fn sharing(&self, digest: Digest) -> Result<Vec<OriginalId>> {
        let mut c = self.connection().await?;
        let all = original::table.filter(original::digest.eq(HashColumn(digest))).order(original::id);
        let ids: Vec<Uuid> = all.select(original::id).load(&mut c).await?;
        Ok(ids.into_iter().map(OriginalId).collect())
    }

    /// How often a copy was made good since then.
    pub async fn healed_since(&self, original: OriginalId, place: Place, since: DateTime<Utc>) -> Result<u32> {
        let mut c = self.connection().await?;
        let n: i64 = healing::table
            .filter(healing::original.eq(original.0).and(healing::place.eq(place_id(place))).and(healing::at.ge(since)))
            .count()
            .get_result(&mut c)
            .await?;
        Ok(u32::try_from(n).unwrap_or(u32::MAX))
    }

    /// Notes that a copy was made good, with the bytes of another place.
    pub async fn note_healing(&self, original: OriginalId, place: Place, source: Place, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let row = (
            healing::original.eq(original.0),
            healing::place.eq(place_id(place)),
            healing::source.eq(place_id(source)),
            healing::at.eq(now),
        );
        insert_into(healing::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// Copies made good since then, at home and in stores.
    pub async fn healings(&self, since: DateTime<Utc>) -> Result<(u64, u64)> {
        let mut c = self.connection().await?;
        let at = |home: bool| count(healing::id).aggregate_filter(healing::place.eq(HOME).eq(home));
        let (home, away): (i64, i64) =
            healing::table.filter(healing::at.ge(since)).select((at(true), at(false))).get_result(&mut c).await?;
        Ok((unsigned(home), unsigned(away)))
    }
}

/// Of each place, the check of each kind that ended last.
async fn last_audits(c: &mut AsyncPgConnection) -> Result<Vec<AuditRow>> {
    Ok(audit::table
        .filter(audit::ended_at.is_not_null())
        .distinct_on((audit::place, audit::kind))
        .order((audit::place, audit::kind, audit::ended_at.desc()))
        .select(AuditRow::as_select())
        .load(c)
        .await?)
}
