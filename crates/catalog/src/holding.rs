//! What was deleted: into holding, back out of it, and, after its time, gone.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Nullable, SmallInt, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, PersonId, StoreId,
    filing::FiledPath,
    layers::{Act, Observation, Outcome, Place},
    offer::{DELETED_GONE, DELETED_HELD, Known},
    retention::{Leaving, Retention},
};

use crate::{
    Catalog, CatalogError, Count, Prepare, Result,
    columns::{HashColumn, PathColumn},
    evidence::{HOME, observe_in},
    numbers::amount,
    shots::lock_shots,
    unsigned,
    work::{Kind, WISH, WISH_NOW},
};

/// Something in holding, as its member sees it.
#[derive(Clone, Debug)]
pub struct Held {
    /// The original.
    pub id: OriginalId,
    /// Where it was.
    pub was_at: String,
    /// The kind's word.
    pub kind: String,
    /// Its bytes.
    pub size: u64,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// Who deleted it.
    pub deleted_by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// When it leaves holding, or, once it has, the last store that has it; none: never.
    pub until: Option<DateTime<Utc>>,
    /// When it left the home disk, if it has: stores still have it then.
    pub gone_at: Option<DateTime<Utc>>,
}

/// An original whose place on the disk is to follow what was decided.
#[derive(Clone, Debug)]
pub struct ToSettle {
    /// Where it is.
    pub path: FiledPath,
    /// Another name that it may have, because a move was stopped.
    pub moving_to: Option<FiledPath>,
    /// Where it was before it was deleted.
    pub was_at: FiledPath,
    /// Where it should be.
    pub wanted: Wanted,
}

/// Where an original should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// Among the others.
    Filed,
    /// In holding.
    Held,
    /// Nowhere on this disk.
    Gone,
}

/// What removing a copy from a store has to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Removal {
    /// Remove this object, and say [`Catalog::removed`] then.
    Object {
        /// Its name.
        name: String,
        /// The original's bytes.
        digest: Digest,
    },
    /// Not yet: the store's ledger still names the original.
    AfterLedger,
    /// Nothing: somebody else has the same bytes, it was taken back, or it has been removed.
    Nothing,
}

#[derive(QueryableByName)]
struct IdRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
}

#[derive(QueryableByName)]
struct HeldRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    was_at: String,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Text)]
    preview: String,
    #[diesel(sql_type = Nullable<Text>)]
    placeholder: Option<String>,
    #[diesel(sql_type = Text)]
    deleted_by: String,
    #[diesel(sql_type = Timestamptz)]
    at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    until: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    gone_at: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct ToSettleRow {
    #[diesel(sql_type = Text)]
    path: PathColumn,
    #[diesel(sql_type = Nullable<Text>)]
    moving_to: Option<PathColumn>,
    #[diesel(sql_type = Text)]
    was_at: PathColumn,
    #[diesel(sql_type = Bool)]
    held: bool,
    #[diesel(sql_type = Bool)]
    gone: bool,
}

#[derive(QueryableByName)]
struct LeavingRow {
    #[diesel(sql_type = BigInt)]
    library: i64,
    #[diesel(sql_type = BigInt)]
    library_bytes: i64,
    #[diesel(sql_type = BigInt)]
    gone: i64,
    #[diesel(sql_type = BigInt)]
    gone_bytes: i64,
    #[diesel(sql_type = BigInt)]
    due: i64,
    #[diesel(sql_type = BigInt)]
    due_bytes: i64,
}

/// The stores' ledgers are to say what is known of these originals now, and their files are to follow. First what is known, then the work, as
/// everybody does who changes both.
async fn settle_soon(c: &mut AsyncPgConnection, ids: &[Uuid], now: DateTime<Utc>) -> Result<()> {
    sql_query("UPDATE standing SET listed = false WHERE place <> $1 AND original = ANY($2)")
        .bind::<SqlUuid, _>(HOME)
        .bind::<Array<SqlUuid>, _>(ids)
        .prepared()
        .execute(c)
        .await?;
    sql_query(format!(
        "WITH ledgers AS (
             INSERT INTO job (kind, key, store, priority, due) SELECT 'ledger', id, id, 15, $1 FROM store ORDER BY id {WISH}
         )
         INSERT INTO job (kind, key, priority, due) SELECT 'hold', id, 19, $1 FROM unnest($2) id {WISH_NOW}"
    ))
    .bind::<Timestamptz, _>(now)
    .bind::<Array<SqlUuid>, _>(ids)
    .prepared()
    .execute(c)
    .await?;
    Ok(())
}

fn ids(rows: &[IdRow]) -> Vec<Uuid> {
    rows.iter().map(|r| r.id).collect()
}

impl Catalog {
    /// The household's rule for what was deleted.
    pub async fn retention(&self) -> Result<Retention> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Nullable<SmallInt>)]
            home_days: Option<i16>,
            #[diesel(sql_type = SmallInt)]
            offsite_days: i16,
            #[diesel(sql_type = SmallInt)]
            brake_percent: i16,
        }
        let mut c = self.connection().await?;
        let row: Row =
            sql_query("SELECT home_days, offsite_days, brake_percent FROM household").prepared().get_result(&mut c).await?;
        Ok(Retention {
            home_days: row.home_days.map(i16::unsigned_abs),
            offsite_days: row.offsite_days.unsigned_abs(),
            brake_percent: u8::try_from(row.brake_percent).unwrap_or(Retention::default().brake_percent),
        })
    }

    /// Changes it, for what is deleted from now on.
    pub async fn change_retention(&self, rule: Retention) -> Result<()> {
        let days = |d: u16| i16::try_from(d).unwrap_or(i16::MAX);
        let mut c = self.connection().await?;
        sql_query("UPDATE household SET home_days = $1, offsite_days = $2, brake_percent = $3")
            .bind::<Nullable<SmallInt>, _>(rule.home_days.map(days))
            .bind::<SmallInt, _>(days(rule.offsite_days))
            .bind::<SmallInt, _>(i16::from(rule.brake_percent))
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Deletes originals of a member: they and the rest of their shots go to holding, until `until`. Returns all of them. Their devices
    /// are told so when they ask.
    pub async fn hold(
        &self,
        person: PersonId,
        originals: &[OriginalId],
        who: &str,
        now: DateTime<Utc>,
        until: Option<DateTime<Utc>>,
    ) -> Result<Vec<OriginalId>> {
        let mut c = self.connection().await?;
        let held = whole!(c, {
            // A shot that is just being put together must not end up half deleted.
            lock_shots(c, person).await?;
            let whole: Vec<IdRow> = sql_query(
                "WITH whole AS (
                     UPDATE original SET held_at = $3 WHERE held_at IS NULL AND person = $1
                         AND shot IN (SELECT shot FROM living WHERE person = $1 AND id = ANY($2))
                     RETURNING id, path, digest
                 ), noted AS (
                     -- One that was taken back and has not been moved yet is where it was deleted from before.
                     INSERT INTO held (original, was_at, deleted_by, at, until) SELECT id, path, $4, $3, $5 FROM whole
                     ON CONFLICT (original) DO UPDATE SET deleted_by = excluded.deleted_by, at = excluded.at, until = excluded.until,
                         looked_at = NULL
                 ), told AS (
                     UPDATE sighting g SET refused = $6 FROM whole w, device d
                     WHERE d.person = $1 AND g.device = d.id AND g.digest = w.digest
                 )
                 SELECT id FROM whole",
            )
            .bind::<SqlUuid, _>(person.0)
            .bind::<Array<SqlUuid>, _>(originals.iter().map(|o| o.0).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(now)
            .bind::<Text, _>(who)
            .bind::<Nullable<Timestamptz>, _>(until)
            .bind::<Text, _>(DELETED_HELD)
            .prepared()
            .load(c)
            .await?;
            let ids = ids(&whole);
            settle_soon(c, &ids, now).await?;
            if let Some(until) = until {
                look_at_holding(c, until).await?;
            }
            Ok::<_, CatalogError>(ids)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(held.into_iter().map(OriginalId).collect())
    }

    /// What a member has in holding, or, after that, in stores alone; what was deleted last comes first, after a given one.
    pub async fn holding(&self, person: PersonId, after: Option<(DateTime<Utc>, OriginalId)>, limit: i64) -> Result<Vec<Held>> {
        let (at, id) = after.unzip();
        let mut c = self.connection().await?;
        let rows: Vec<HeldRow> = sql_query(
            "SELECT o.id, h.was_at, o.kind, o.size, o.preview, o.placeholder, h.deleted_by, h.at, o.gone_at,
                    CASE WHEN o.gone_at IS NULL THEN h.until ELSE (SELECT max(due) FROM job WHERE kind = 'remove' AND key = o.id) END AS until
             FROM held h JOIN original o ON o.id = h.original
             WHERE o.person = $1 AND o.held_at IS NOT NULL AND (h.at, h.original) < (coalesce($2, 'infinity'), coalesce($3, 'ffffffff-ffff-ffff-ffff-ffffffffffff'::uuid))
               AND (o.gone_at IS NULL OR (
                   EXISTS (SELECT 1 FROM standing s WHERE s.original = o.id AND s.good)
                   AND NOT EXISTS (SELECT 1 FROM original x WHERE x.person = $1 AND x.digest = o.digest AND x.gone_at IS NULL)))
             ORDER BY h.at DESC, h.original DESC LIMIT $4",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<Nullable<Timestamptz>, _>(at)
        .bind::<Nullable<SqlUuid>, _>(id.map(|i| i.0))
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Held {
                id: OriginalId(r.id),
                was_at: r.was_at,
                kind: r.kind,
                size: unsigned(r.size),
                preview: r.preview,
                placeholder: r.placeholder,
                deleted_by: r.deleted_by,
                at: r.at,
                until: r.until,
                gone_at: r.gone_at,
            })
            .collect())
    }

    /// Takes originals of a member back. Those that are still on the disk go to where they were; those that have left it are fetched
    /// from a store by healing, to a free one of `places` each. Returns how many came back.
    pub async fn take_back(&self, person: PersonId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<Vec<OriginalId>> {
        let mut c = self.connection().await?;
        let back = whole!(c, {
            let whole: Vec<IdRow> = sql_query(format!(
                "WITH whole AS (
                     UPDATE original SET held_at = NULL, shot = id WHERE person = $1 AND id = ANY($2) AND held_at IS NOT NULL AND gone_at IS NULL
                     RETURNING id, digest
                 ), told AS (
                     UPDATE sighting g SET refused = NULL FROM whole w, device d
                     WHERE d.person = $1 AND g.device = d.id AND g.digest = w.digest
                 ), shots AS (
                     INSERT INTO job (kind, key, priority, due) SELECT 'group', id, 18, $3 FROM whole {WISH}
                 ), made AS (
                     INSERT INTO job (kind, key, priority, due) SELECT 'derive', w.id, 22, $3 FROM whole w, household h
                     WHERE h.derive_jpeg {WISH}
                 )
                 SELECT id FROM whole"
            ))
            .bind::<SqlUuid, _>(person.0)
            .bind::<Array<SqlUuid>, _>(originals.iter().map(|o| o.0).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(now)
            .prepared()
            .load(c)
            .await?;
            let ids = ids(&whole);
            settle_soon(c, &ids, now).await?;
            Ok::<_, CatalogError>(ids)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(back.into_iter().map(OriginalId).collect())
    }

    /// Takes back one that has left the home disk and that a store still has: it is filed at `path`, which must be free, and fetched
    /// from there. `false`: it is too late, or its member has the same bytes again.
    pub async fn take_back_gone(&self, id: OriginalId, path: &FiledPath, now: DateTime<Utc>) -> Result<bool> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Binary)]
            digest: HashColumn,
        }
        let mut c = self.connection().await?;
        let back = whole!(c, {
            // Whoever removes the object from its store locks both rows as well, in this order: one of the two is first.
            sql_query("SELECT 1 FROM original WHERE id = $1 FOR UPDATE").bind::<SqlUuid, _>(id.0).prepared().execute(c).await?;
            sql_query(
                "SELECT 1 FROM object b JOIN original o ON o.digest = b.digest WHERE o.id = $1 AND NOT b.leaving FOR UPDATE OF b",
            )
            .bind::<SqlUuid, _>(id.0)
            .prepared()
            .execute(c)
            .await?;
            let row: Option<Row> = sql_query(
                "UPDATE original o SET held_at = NULL, gone_at = NULL, shot = id, preview = 'waiting', placeholder = NULL, path = $2, folded = $3
                 WHERE id = $1 AND gone_at IS NOT NULL
                   AND EXISTS (SELECT 1 FROM standing s JOIN object b ON b.store = s.place AND b.digest = o.digest
                               WHERE s.original = o.id AND s.good AND NOT b.leaving)
                   AND NOT EXISTS (SELECT 1 FROM original x WHERE x.person = o.person AND x.digest = o.digest AND x.gone_at IS NULL)
                 RETURNING digest",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<Text, _>(path.as_str())
            .bind::<Text, _>(path.folded())
            .prepared()
            .get_result(c)
            .await
            .optional()?;
            let Some(row) = row else { return Ok(false) };
            sql_query(format!(
                "WITH late AS (DELETE FROM job WHERE kind = 'remove' AND key = $1 AND lease_end IS NULL),
                 past AS (DELETE FROM held WHERE original = $1),
                 told AS (
                     UPDATE sighting g SET refused = NULL FROM original o, device d
                     WHERE o.id = $1 AND d.person = o.person AND g.device = d.id AND g.digest = o.digest
                 )
                 INSERT INTO job (kind, key, priority, due) VALUES ('preview', $1, 20, $2), ('group', $1, 18, $2) {WISH}"
            ))
            .bind::<SqlUuid, _>(id.0)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            // It is not at home, and that is mended like every other loss.
            let seen = Observation { place: Place::Home, act: Act::Reread, at: now, digest: None, outcome: Outcome::Missing };
            observe_in(c, id, row.digest.0, &seen).await?;
            settle_soon(c, &[id.0], now).await?;
            Ok::<_, CatalogError>(true)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(back)
    }

    /// Where an original of a member was that has left the home disk.
    pub async fn gone_from(&self, person: PersonId, id: OriginalId) -> Result<Option<String>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            was_at: String,
        }
        let mut c = self.connection().await?;
        let row: Option<Row> = sql_query(
            "SELECT h.was_at FROM held h JOIN original o ON o.id = h.original WHERE o.id = $1 AND o.person = $2 AND o.gone_at IS NOT NULL",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<SqlUuid, _>(person.0)
        .prepared()
        .get_result(&mut c)
        .await
        .optional()?;
        Ok(row.map(|r| r.was_at))
    }

    /// Originals of a member leave holding now, as far as the brake lets them. Returns how many.
    pub async fn end_holding(&self, person: PersonId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let row: Count = sql_query(
            "WITH over AS (
                 UPDATE held h SET until = least(h.until, $3) FROM original o WHERE o.id = h.original AND o.person = $1 AND o.id = ANY($2)
                     AND o.held_at IS NOT NULL AND o.gone_at IS NULL RETURNING 1
             ) SELECT count(*) AS n FROM over",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<Array<SqlUuid>, _>(originals.iter().map(|o| o.0).collect::<Vec<_>>())
        .bind::<Timestamptz, _>(now)
        .prepared()
        .get_result(&mut c)
        .await?;
        look_at_holding(&mut c, now).await?;
        self.work_added(&Kind::ALL);
        Ok(unsigned(row.n))
    }

    /// The keeper has looked at what the brake holds, and lets it go. Returns how many.
    pub async fn release_brake(&self, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let row: Count = sql_query(
            "WITH looked AS (
                 UPDATE held h SET looked_at = $1 FROM original o WHERE o.id = h.original AND o.held_at IS NOT NULL AND o.gone_at IS NULL
                     AND h.until <= $1 AND h.looked_at IS NULL RETURNING 1
             ) SELECT count(*) AS n FROM looked",
        )
        .bind::<Timestamptz, _>(now)
        .prepared()
        .get_result(&mut c)
        .await?;
        look_at_holding(&mut c, now).await?;
        self.work_added(&Kind::ALL);
        Ok(unsigned(row.n))
    }

    /// What the brake looks at.
    pub async fn leaving(&self, now: DateTime<Utc>) -> Result<Leaving> {
        let mut c = self.connection().await?;
        let r: LeavingRow = sql_query(
            "SELECT k.n AS library, k.bytes AS library_bytes, g.n AS gone, g.bytes AS gone_bytes, d.n AS due, d.bytes AS due_bytes FROM (
                 SELECT coalesce(sum(n), 0)::bigint AS n, coalesce(sum(bytes), 0)::bigint AS bytes FROM counts
                 WHERE about = ANY(ARRAY(SELECT id FROM person)) AND fact = 'kept'
             ) k, (
                 SELECT count(*) AS n, coalesce(sum(o.size), 0)::bigint AS bytes FROM original o LEFT JOIN held h ON h.original = o.id
                 WHERE o.gone_at > $2 AND h.looked_at IS NULL
             ) g, (
                 SELECT count(*) AS n, coalesce(sum(o.size), 0)::bigint AS bytes FROM original o JOIN held h ON h.original = o.id
                 WHERE o.held_at IS NOT NULL AND o.gone_at IS NULL AND h.until <= $1 AND h.looked_at IS NULL
             ) d",
        )
        .bind::<Timestamptz, _>(now)
        .bind::<Timestamptz, _>(now - TimeDelta::days(1))
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(Leaving {
            library: amount(r.library, r.library_bytes),
            gone_today: amount(r.gone, r.gone_bytes),
            due: amount(r.due, r.due_bytes),
        })
    }

    /// Lets some of what is due go; all of it, or only what the keeper has looked at. Their rows say so from then on, their files and
    /// their copies in stores (at `away_at`) follow. Returns how many; none: nothing is left to do.
    pub async fn remove_due(&self, all: bool, now: DateTime<Utc>, away_at: DateTime<Utc>, limit: i64) -> Result<u64> {
        let mut c = self.connection().await?;
        let gone = whole!(c, {
            let whole: Vec<IdRow> = sql_query(format!(
                "WITH whole AS (
                     UPDATE original SET gone_at = $1 WHERE id IN (
                         SELECT o.id FROM held h JOIN original o ON o.id = h.original
                         WHERE h.until <= $1 AND ($2 OR h.looked_at IS NOT NULL) AND o.held_at IS NOT NULL AND o.gone_at IS NULL
                         ORDER BY h.until, o.id LIMIT $4 FOR UPDATE OF o
                     ) RETURNING id
                 ), home AS (
                     DELETE FROM standing WHERE place = $5 AND original IN (SELECT id FROM whole)
                 ), idle AS (
                     DELETE FROM job WHERE key IN (SELECT id FROM whole) AND lease_end IS NULL
                         AND kind IN ('preview', 'derive', 'group', 'refile', 'replicate', 'prove', 'heal')
                 ), away AS (
                     INSERT INTO job (kind, key, store, priority, due)
                     SELECT 'remove', w.id, s.place, 1, $3 FROM whole w JOIN standing s ON s.original = w.id AND s.place <> $5
                     {WISH}
                 ), told AS (
                     UPDATE sighting g SET refused = $6 FROM original o, device d
                     WHERE o.id IN (SELECT id FROM whole) AND d.person = o.person AND g.device = d.id AND g.digest = o.digest
                 )
                 SELECT id FROM whole"
            ))
            .bind::<Timestamptz, _>(now)
            .bind::<Bool, _>(all)
            .bind::<Timestamptz, _>(away_at)
            .bind::<BigInt, _>(limit)
            .bind::<SqlUuid, _>(HOME)
            .bind::<Text, _>(DELETED_GONE)
            .prepared()
            .load(c)
            .await?;
            settle_soon(c, &ids(&whole), now).await?;
            Ok::<_, CatalogError>(whole.len() as u64)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(gone)
    }

    /// When the next original leaves holding, if any does.
    pub async fn next_leaving(&self) -> Result<Option<DateTime<Utc>>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Nullable<Timestamptz>)]
            until: Option<DateTime<Utc>>,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query(
            "SELECT min(h.until) AS until FROM held h JOIN original o ON o.id = h.original WHERE o.held_at IS NOT NULL AND o.gone_at IS NULL",
        )
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(row.until)
    }

    /// Where an original is and where it should be; none if it was never deleted, or is settled.
    pub async fn to_settle(&self, id: OriginalId) -> Result<Option<ToSettle>> {
        let mut c = self.connection().await?;
        let row: Option<ToSettleRow> = sql_query(
            "SELECT o.path, o.moving_to, h.was_at, o.held_at IS NOT NULL AS held, o.gone_at IS NOT NULL AS gone
             FROM original o JOIN held h ON h.original = o.id WHERE o.id = $1",
        )
        .bind::<SqlUuid, _>(id.0)
        .prepared()
        .get_result(&mut c)
        .await
        .optional()?;
        Ok(row.map(|r| ToSettle {
            path: r.path.0,
            moving_to: r.moving_to.map(|p| p.0),
            was_at: r.was_at.0,
            wanted: match (r.gone, r.held) {
                (true, _) => Wanted::Gone,
                (false, true) => Wanted::Held,
                (false, false) => Wanted::Filed,
            },
        }))
    }

    /// An original that was taken back is among the others again, unless it was deleted once more meanwhile.
    pub async fn is_back(&self, id: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("DELETE FROM held h USING original o WHERE h.original = $1 AND o.id = $1 AND o.held_at IS NULL")
            .bind::<SqlUuid, _>(id.0)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The file of an original that has gone is gone too: its name is free.
    pub async fn is_gone(&self, id: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE original SET folded = 'gone/' || id, moving_to = NULL, preview = 'none', placeholder = NULL WHERE id = $1 AND gone_at IS NOT NULL")
            .bind::<SqlUuid, _>(id.0)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Begins to remove the copy of an original that has gone from a store. From then on until [`Catalog::removed`], nobody counts on
    /// the object.
    pub async fn begin_removal(&self, id: OriginalId, store: StoreId) -> Result<Removal> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Binary)]
            digest: HashColumn,
            #[diesel(sql_type = Bool)]
            listed: bool,
        }
        #[derive(QueryableByName)]
        struct Object {
            #[diesel(sql_type = Text)]
            name: String,
            #[diesel(sql_type = BigInt)]
            needed: i64,
        }
        let mut c = self.connection().await?;
        whole!(c, {
            let row: Option<Row> = sql_query(
                "SELECT o.digest, s.listed OR NOT s.good AS listed FROM original o JOIN standing s ON s.original = o.id AND s.place = $2
                 WHERE o.id = $1 AND o.gone_at IS NOT NULL FOR UPDATE OF o",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<SqlUuid, _>(store.0)
            .prepared()
            .get_result(c)
            .await
            .optional()?;
            let Some(row) = row else { return Ok(Removal::Nothing) };
            if !row.listed {
                return Ok(Removal::AfterLedger);
            }
            // The row is locked first: what is asked about its bytes afterwards holds until this is committed.
            sql_query("SELECT 1 FROM object WHERE store = $1 AND digest = $2 FOR UPDATE")
                .bind::<SqlUuid, _>(store.0)
                .bind::<Binary, _>(row.digest.0.as_bytes().as_slice())
                .prepared()
                .execute(c)
                .await?;
            let object: Option<Object> = sql_query(
                "SELECT b.name, (SELECT count(*) FROM original x WHERE x.digest = b.digest AND x.gone_at IS NULL) AS needed
                 FROM object b WHERE b.store = $1 AND b.digest = $2",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(row.digest.0.as_bytes().as_slice())
            .prepared()
            .get_result(c)
            .await
            .optional()?;
            match object {
                Some(object) if object.needed == 0 => {
                    sql_query("UPDATE object SET leaving = true WHERE store = $1 AND digest = $2")
                        .bind::<SqlUuid, _>(store.0)
                        .bind::<Binary, _>(row.digest.0.as_bytes().as_slice())
                        .prepared()
                        .execute(c)
                        .await?;
                    Ok::<_, CatalogError>(Removal::Object { name: object.name, digest: row.digest.0 })
                }
                _ => {
                    sql_query("DELETE FROM standing WHERE original = $1 AND place = $2")
                        .bind::<SqlUuid, _>(id.0)
                        .bind::<SqlUuid, _>(store.0)
                        .prepared()
                        .execute(c)
                        .await?;
                    Ok(Removal::Nothing)
                }
            }
        })
        .await
    }

    /// The store has removed the object. Who needs it there again sends it.
    pub async fn removed(&self, store: StoreId, digest: Digest, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "WITH gone AS (DELETE FROM object WHERE store = $1 AND digest = $2 AND leaving RETURNING size, confirmed_at), noted AS (
                 INSERT INTO removed_object (store, size, confirmed_at, removed_at) SELECT $1, size, confirmed_at, $3 FROM gone
             )
             DELETE FROM standing s USING original o WHERE s.place = $1 AND o.id = s.original AND o.digest = $2 AND o.gone_at IS NOT NULL",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Binary, _>(digest.as_bytes().as_slice())
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Whether a store is just removing its object of these bytes. A removal that was broken off (its process was killed, or the store
    /// refused) says nothing of whether the object is there still: it is forgotten here, and who needs the bytes there sends them anew,
    /// under the same name.
    pub async fn is_leaving(&self, store: StoreId, digest: Digest) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count = sql_query(
            "WITH removing AS (
                 SELECT 1 FROM job j JOIN original o ON o.id = j.key
                 WHERE j.kind = 'remove' AND j.store = $1 AND o.digest = $2 AND j.lease_end IS NOT NULL
             ), broken_off AS (
                 DELETE FROM object WHERE store = $1 AND digest = $2 AND leaving AND NOT EXISTS (SELECT 1 FROM removing)
             )
             SELECT count(*) AS n FROM object WHERE store = $1 AND digest = $2 AND leaving AND EXISTS (SELECT 1 FROM removing)",
        )
        .bind::<SqlUuid, _>(store.0)
        .bind::<Binary, _>(digest.as_bytes().as_slice())
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(row.n > 0)
    }

    /// What is known of a member's bytes that a device offers, in their order.
    pub async fn known(&self, person: PersonId, digests: &[Digest]) -> Result<Vec<Known>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Binary)]
            digest: HashColumn,
            #[diesel(sql_type = Bool)]
            held: bool,
            #[diesel(sql_type = Bool)]
            gone: bool,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Row> = sql_query(
            "SELECT o.digest, o.held_at IS NOT NULL AS held, o.gone_at IS NOT NULL AS gone FROM original o
             LEFT JOIN standing s ON s.original = o.id AND s.place = $3 AND s.good
             WHERE o.person = $1 AND o.digest = ANY($2) AND (o.gone_at IS NOT NULL OR s.good)",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<Array<Binary>, _>(digests.iter().map(|d| d.as_bytes().as_slice()).collect::<Vec<_>>())
        .bind::<SqlUuid, _>(HOME)
        .prepared()
        .load(&mut c)
        .await?;
        let mut known = std::collections::HashMap::with_capacity(rows.len());
        for row in rows {
            let says = match (row.gone, row.held) {
                (true, _) => Known::Gone,
                (false, true) => Known::Held,
                (false, false) => Known::Home,
            };
            // Bytes that have gone may have come again since: what is here counts.
            let entry = known.entry(row.digest.0).or_insert(says);
            if says != Known::Gone {
                *entry = says;
            }
        }
        Ok(digests.iter().map(|d| known.get(d).copied().unwrap_or(Known::New)).collect())
    }
}

/// Puts down that something leaves holding then, and looks earlier if it was to look later.
async fn look_at_holding(c: &mut AsyncPgConnection, at: DateTime<Utc>) -> Result<()> {
    sql_query(format!("INSERT INTO job (kind, key, priority, due) VALUES ('release', $1, 2, $2) {WISH_NOW}"))
        .bind::<SqlUuid, _>(HOME)
        .bind::<Timestamptz, _>(at)
        .prepared()
        .execute(c)
        .await?;
    Ok(())
}
