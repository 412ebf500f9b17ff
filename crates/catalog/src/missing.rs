//! Work that follows from how things are: what should be down as background work and is not.
//!
//! Whoever changes something puts the work that follows down in the same transaction, so nothing should ever be found here. But rows can be
//! lost in ways that nobody thought of (an earlier version's fault, a hand in the database), and then a picture would wait for ever
//! without anybody knowing. So a look at everything, a few rows at a time, puts down what is missing; no row is needed to remember it.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::OriginalId;

use crate::{Catalog, Result, db::*, evidence::HOME, stores::EXPOSURE, unsigned, wishes::WISH, work::Kind};

/// What a look at some originals found.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Looked {
    /// The last one that was looked at; the next look goes on after it.
    pub last: OriginalId,
    /// Pieces of work that were missing, and are down now.
    pub missing: u64,
}

impl Catalog {
    /// Looks at up to `limit` originals after `after`, in the order of their ids, and puts down what is missing of their work. `None`: there
    /// are no more; then the work of the stores' ledgers and of holding has been looked at as well.
    pub async fn derive_work(&self, after: OriginalId, limit: i64, now: DateTime<Utc>) -> Result<Option<Looked>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = SqlUuid)]
            last: Uuid,
            #[diesel(sql_type = BigInt)]
            missing: i64,
        }
        let mut c = self.async_commit_connection().await?;
        // Text: one look at all that follows from some rows.
        let row: Option<Row> = sql_query(format!(
            "WITH few AS MATERIALIZED (
                 SELECT * FROM original WHERE id > $1 ORDER BY id LIMIT $2
             ), due AS (
                 -- What is at home and in no store that there is; a copy that is bad is healing's.
                 SELECT 'replicate' AS kind, o.id AS key, s.id AS store, {EXPOSURE} AS priority, $3 AS due
                 FROM few o JOIN standing h ON h.original = o.id AND h.place = $4 AND h.good CROSS JOIN store s
                 WHERE o.gone_at IS NULL AND o.held_at IS NULL AND NOT EXISTS (SELECT 1 FROM standing t WHERE t.original = o.id AND t.place = s.id)
                 UNION ALL
                 SELECT 'heal', t.original, nullif(t.place, $4), 14, $3 FROM few o JOIN standing t ON t.original = o.id
                 WHERE NOT t.good AND o.gone_at IS NULL
                 UNION ALL
                 -- Known from a ledger alone.
                 SELECT 'fetch', o.id, NULL, CASE WHEN o.held_at IS NULL THEN 16 ELSE 3 END, $3 FROM few o
                 WHERE o.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM standing h WHERE h.original = o.id AND h.place = $4)
                 UNION ALL
                 SELECT 'preview', o.id, NULL, 20, $3 FROM few o JOIN standing h ON h.original = o.id AND h.place = $4 AND h.good
                 WHERE o.preview = 'waiting' AND o.held_at IS NULL AND o.gone_at IS NULL
                 UNION ALL
                 SELECT 'film', o.id, NULL, 26, $3 FROM few o JOIN standing h ON h.original = o.id AND h.place = $4 AND h.good
                 WHERE (o.kind = 'video' OR o.facts ->> 'film_inside' IS NOT NULL) AND o.held_at IS NULL AND o.gone_at IS NULL AND NOT EXISTS (SELECT 1 FROM film f WHERE f.original = o.id)
                 UNION ALL
                 -- Not where its row says that it should be.
                 SELECT 'hold', o.id, NULL, 19, $3 FROM few o WHERE CASE
                     WHEN o.gone_at IS NOT NULL THEN o.folded IS NOT NULL
                     WHEN o.held_at IS NOT NULL THEN o.path NOT LIKE 'holding/%'
                     ELSE o.path LIKE 'holding/%' END
                 UNION ALL
                 SELECT 'remove', o.id, t.place, 1, o.gone_at + h.offsite_days * interval '1 day'
                 FROM few o JOIN standing t ON t.original = o.id AND t.place <> $4 CROSS JOIN household h WHERE o.gone_at IS NOT NULL
             ), put AS (
                 INSERT INTO job (kind, key, store, priority, due) SELECT d.kind, d.key, d.store, d.priority, d.due FROM due d
                 WHERE NOT EXISTS (SELECT 1 FROM job j WHERE j.kind = d.kind AND j.key = d.key AND j.store IS NOT DISTINCT FROM d.store)
                 {WISH} RETURNING 1
             )
             SELECT max(id::text)::uuid AS last, (SELECT count(*) FROM put) AS missing FROM few HAVING count(*) > 0"
        ))
        .bind::<SqlUuid, _>(after.0)
        .bind::<BigInt, _>(limit)
        .bind::<Timestamptz, _>(now)
        .bind::<SqlUuid, _>(HOME)
        .get_result(&mut c)
        .await
        .optional()?;
        if let Some(row) = row {
            drop(c);
            if row.missing > 0 {
                self.work_added(&Kind::ALL);
            }
            return Ok(Some(Looked { last: OriginalId(row.last), missing: unsigned(row.missing) }));
        }
        // Text: the same of the stores.
        sql_query(format!(
            "WITH due AS (
                 -- Every ledger: it may be behind by a decision as well, and one that has nothing new to say writes nothing.
                 SELECT 'ledger' AS kind, s.id AS key, s.id AS store, 15 AS priority, $1 AS due FROM store s
                 UNION ALL
                 SELECT 'release', $2, NULL, 2, (SELECT min(until) FROM held h JOIN original o ON o.id = h.original WHERE o.gone_at IS NULL)
                 WHERE EXISTS (SELECT 1 FROM held h JOIN original o ON o.id = h.original WHERE h.until IS NOT NULL AND o.gone_at IS NULL)
             )
             INSERT INTO job (kind, key, store, priority, due) SELECT d.kind, d.key, d.store, d.priority, d.due FROM due d
             WHERE NOT EXISTS (SELECT 1 FROM job j WHERE j.kind = d.kind AND j.key = d.key AND j.store IS NOT DISTINCT FROM d.store) {WISH}"
        ))
        .bind::<Timestamptz, _>(now)
        .bind::<SqlUuid, _>(HOME)
        .execute(&mut c)
        .await?;
        drop(c);
        self.work_added(&Kind::ALL);
        Ok(None)
    }
}
