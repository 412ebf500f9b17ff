//! The one statement with which an original has landed.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Binary, Bool, Jsonb, Nullable, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId,
    capture::{Captured, Facts},
    filing::FiledPath,
    kind::MediaKind,
    layers::{Act, Observation, Outcome, Place, Standing},
    shot::{self, Part},
};

use crate::{Catalog, Result, db::*, evidence::HOME, signed, uploads::Upload, wishes::WISH, work::Kind};

/// An original that is on the disk and about to be acknowledged.
#[derive(Clone, Debug)]
pub struct Landing<'a> {
    /// The upload it came by.
    pub upload: &'a Upload,
    /// Its id to be.
    pub id: OriginalId,
    /// What its bytes are.
    pub digest: Digest,
    /// Where it was filed.
    pub path: &'a FiledPath,
    /// What was read from it.
    pub facts: &'a Facts,
    /// When it was taken.
    pub captured: Captured,
    /// Now.
    pub at: DateTime<Utc>,
}

#[derive(QueryableByName)]
struct LandedRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Bool)]
    new: bool,
}

impl Catalog {
    /// The original has landed: its row, its first observation, and the work that follows from it, in one statement. When
    /// this returns, they are on the disk.
    ///
    /// `Ok(None)`: the member had these bytes already (two uploads of one picture); the upload was linked to that one, and
    /// the file just filed is one too many.
    pub async fn land(&self, landing: &Landing<'_>) -> Result<Option<OriginalId>> {
        let Landing { upload, id, digest, path, facts, captured, at } = landing;
        let seen = Observation { place: Place::Home, act: Act::Landed, at: *at, digest: Some(*digest), outcome: Outcome::Right };
        let standing = Standing::after(None, &seen, *digest);
        let kind = facts.kind.unwrap_or_else(|| MediaKind::from_extension(&upload.name));
        let (folder, bare) = shot::place_on_device(&upload.source, &upload.name);
        let shot_key = shot::key(Some(upload.device), &folder, &bare);
        let part = Part::of_kind(kind);
        let facts_json = serde_json::to_value(facts).expect("facts are text and numbers");
        let mut c = self.connection().await?;
        // Text: a picture is not acknowledged before all of this is on the disk, and one statement is one way there.
        let row: Option<LandedRow> = sql_query(format!(
            "WITH added AS (
                 INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at,
                     source, file_time, pair, shot_key, shot, part, put_away)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $22, $23, $24, $25, $1, $26, $27 IS NOT NULL)
                 ON CONFLICT (person, digest) WHERE gone_at IS NULL DO NOTHING RETURNING id
             ), seen AS (
                 INSERT INTO observation (original, place, act, at, digest, outcome) SELECT id, $15, $16, $14, $4, $17 FROM added
             ), stands AS (
                 INSERT INTO standing (original, place, good, since, proven_at, looked_at) SELECT id, $15, $18, $19, $20, $20 FROM added
             ), pictures AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'preview', id, 20, $14 FROM added {WISH}
             ), films AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'film', id, 26, $14 FROM added WHERE $9 = 'video' OR $13->>'film_inside' IS NOT NULL {WISH}
             ), copies AS (
                 INSERT INTO job (kind, key, store, priority, due) SELECT 'replicate', a.id, s.id, 13, $14 FROM added a, store s {WISH}
             ), made AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'derive', a.id, 22, $14 FROM added a, household h
                 WHERE h.derive_jpeg AND $13->>'media_type' IN ('image/heic', 'image/avif') {WISH}
             ), company AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'group', a.id, 18, $14 FROM added a
                 WHERE EXISTS (SELECT 1 FROM living WHERE person = $2 AND shot_key = $25)
                    OR EXISTS (SELECT 1 FROM living WHERE person = $2 AND pair = $24) {WISH}
             ), inbox AS (
                 INSERT INTO brought (original, person, album, brought_by, brought_at)
                 SELECT id, $2, (SELECT id FROM album WHERE id = $27), $28, $14 FROM added WHERE $27 IS NOT NULL
             ), which AS (
                 SELECT id, true AS new FROM added
                 UNION ALL SELECT id, false FROM original WHERE person = $2 AND digest = $4 AND gone_at IS NULL
             ), linked AS (
                 UPDATE upload SET original = (SELECT id FROM which LIMIT 1) WHERE id = $21
             )
             SELECT id, new FROM which ORDER BY new DESC LIMIT 1"
        ))
        .bind::<SqlUuid, _>(id.0)
        .bind::<SqlUuid, _>(upload.person.0)
        .bind::<SqlUuid, _>(upload.device.0)
        .bind::<Binary, _>(digest.as_bytes().as_slice())
        .bind::<BigInt, _>(signed(upload.length))
        .bind::<Text, _>(&upload.name)
        .bind::<Text, _>(path.as_str())
        .bind::<Text, _>(path.folded())
        .bind::<Text, _>(kind.word())
        .bind::<Timestamptz, _>(captured.at)
        .bind::<Timestamp, NaiveDateTime>(captured.local)
        .bind::<Text, _>(captured.rule.word())
        .bind::<Jsonb, _>(facts_json)
        .bind::<Timestamptz, _>(*at)
        .bind::<SqlUuid, _>(HOME)
        .bind::<Text, _>(Act::Landed.word())
        .bind::<Text, _>(Outcome::Right.word())
        .bind::<Bool, _>(standing.good)
        .bind::<Timestamptz, _>(standing.since)
        .bind::<Nullable<Timestamptz>, _>(standing.proven_at)
        .bind::<SqlUuid, _>(upload.id.0)
        .bind::<Text, _>(&upload.source)
        .bind::<Nullable<Timestamptz>, _>(upload.file_time)
        .bind::<Nullable<Text>, _>(&facts.pair)
        .bind::<Text, _>(&shot_key)
        .bind::<Text, _>(part.word())
        .bind::<Nullable<SqlUuid>, _>(upload.brought.as_ref().map(|b| b.album.0))
        .bind::<Nullable<Text>, _>(upload.brought.as_ref().map(|b| b.by.as_str()))
        .get_result(&mut c)
        .await
        .optional()?;
        match row {
            Some(row) => {
                if row.new {
                    // Its company may have been committed a moment ago, unseen by the statement above.
                    self.look_for_company(&mut c, OriginalId(row.id), *at).await?;
                }
                self.grew(1);
                self.work_added(&[Kind::Preview, Kind::Replicate, Kind::Derive, Kind::Group, Kind::Town, Kind::Film]);
                Ok(row.new.then_some(OriginalId(row.id)))
            }
            None => {
                // The same bytes were committed by another upload after this statement began: the insert met them, and the
                // statement's own view of the table is older. The next statement sees them.
                drop(c);
                let (there, _) = self.original_of(upload.person, *digest).await?;
                self.link_upload(upload.id, there).await?;
                Ok(None)
            }
        }
    }

    async fn look_for_company(&self, c: &mut crate::Connection, id: OriginalId, now: DateTime<Utc>) -> Result<()> {
        // Text: the table with itself, twice.
        sql_query(format!(
            "INSERT INTO job (kind, key, priority, due) SELECT 'group', o.id, 18, $2 FROM original o WHERE o.id = $1 AND (
                 EXISTS (SELECT 1 FROM living x WHERE x.person = o.person AND x.shot_key = o.shot_key AND x.id <> o.id)
                 OR EXISTS (SELECT 1 FROM living x WHERE x.person = o.person AND x.pair = o.pair AND x.id <> o.id)
             ) {WISH}"
        ))
        .bind::<SqlUuid, _>(id.0)
        .bind::<Timestamptz, _>(now)
        .execute(c)
        .await?;
        Ok(())
    }
}
