//! Which originals belong to one shot, and corrections of a device's clock. The rules are `core::shot` and `core::capture`;
//! here is what they are asked about, and where their answers are kept.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, NaiveDateTime, TimeDelta, TimeZone, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Jsonb, Nullable, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use uuid::Uuid;
use ypogeion_core::{
    DeviceId, OriginalId, PersonId,
    capture::{CaptureRule, Facts, Told, decide},
    kind::MediaKind,
    shot::{Part, Piece, Shot, group, place_on_device},
};

use crate::{
    Catalog, CatalogError, Count, Prepare, Result,
    columns::HashColumn,
    originals::facts_of,
    unsigned,
    work::{Kind, WISH},
};

/// A file of a shot, as it is shown.
#[derive(Clone, Debug)]
pub struct PartView {
    /// The original.
    pub id: OriginalId,
    /// The part's word.
    pub part: String,
    /// Where it is in the library.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// The kind's word.
    pub kind: String,
}

/// A correction of a device's clock.
#[derive(Clone, Debug)]
pub struct Correction {
    /// Its id.
    pub id: Uuid,
    /// First local time of capture, as it was before.
    pub from: NaiveDateTime,
    /// Last one.
    pub to: NaiveDateTime,
    /// Seconds added.
    pub seconds: i64,
    /// How many originals it moved.
    pub originals: u64,
    /// Who made it.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// When it was taken back.
    pub undone_at: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct PieceRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    device: Option<Uuid>,
    #[diesel(sql_type = Text)]
    source: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Jsonb)]
    facts: serde_json::Value,
    #[diesel(sql_type = Timestamptz)]
    taken_at: DateTime<Utc>,
    #[diesel(sql_type = Text)]
    taken_rule: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    file_time: Option<DateTime<Utc>>,
    #[diesel(sql_type = Timestamptz)]
    landed_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    correction: Option<Uuid>,
    #[diesel(sql_type = Text)]
    shot_key: String,
    #[diesel(sql_type = Nullable<Text>)]
    pair: Option<String>,
    #[diesel(sql_type = SqlUuid)]
    shot: Uuid,
    #[diesel(sql_type = Text)]
    part: String,
}

#[derive(QueryableByName)]
struct PartRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    part: String,
    #[diesel(sql_type = Text)]
    path: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Text)]
    kind: String,
}

#[derive(QueryableByName)]
struct CorrectionRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Timestamp)]
    from_local: NaiveDateTime,
    #[diesel(sql_type = Timestamp)]
    to_local: NaiveDateTime,
    #[diesel(sql_type = BigInt)]
    seconds: i64,
    #[diesel(sql_type = BigInt)]
    originals: i64,
    #[diesel(sql_type = Text)]
    made_by: String,
    #[diesel(sql_type = Timestamptz)]
    made_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    undone_at: Option<DateTime<Utc>>,
}

impl PieceRow {
    fn piece(&self, facts: &Facts) -> Piece {
        let (folder, name) = place_on_device(&self.source, &self.name);
        let own = CaptureRule::from_word(&self.taken_rule).is_some_and(CaptureRule::is_of_the_file);
        Piece {
            id: OriginalId(self.id),
            digest: self.digest.0,
            device: self.device.map(DeviceId),
            folder,
            name,
            kind: MediaKind::from_word(&self.kind),
            media_type: facts.media_type.clone(),
            taken: own.then_some(self.taken_at),
            seconds: facts.seconds,
            pair: facts.pair.clone(),
        }
    }
}

impl Catalog {
    /// Groups an original with everything that may belong to it, afresh. The same files make the same shots in whatever order
    /// and however often this is called. Where a sidecar tells the time, the files follow as work of their own.
    pub async fn regroup<Z: TimeZone + Sync>(&self, id: OriginalId, zone: &Z, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let mut rows: Vec<PieceRow> =
                sql_query(format!("{PIECE} WHERE o.id = $1")).bind::<SqlUuid, _>(id.0).prepared().load(c).await?;
            let Some(person) = owner(c, id).await? else { return Ok(()) };
            // One at a time for a member: two that see half of a shot each would undo each other's work.
            lock_shots(c, person).await?;
            // Names lead to pairs and pairs to names; two rounds reach everything that a camera makes.
            for _ in 0..2 {
                let keys: BTreeSet<String> = rows.iter().map(|r| r.shot_key.clone()).filter(|k| !k.is_empty()).collect();
                let pairs: BTreeSet<String> = rows.iter().filter_map(|r| r.pair.clone()).collect();
                let shots: BTreeSet<Uuid> = rows.iter().map(|r| r.shot).collect();
                rows = together(c, person, keys, pairs, shots).await?;
            }
            let facts: Vec<Facts> = rows.iter().map(|r| facts_of(r.facts.clone())).collect();
            let pieces: Vec<Piece> = rows.iter().zip(&facts).map(|(r, f)| r.piece(f)).collect();
            let shots = group(&pieces);
            keep_shots(c, &rows, &shots).await?;
            tell_times(c, &rows, &facts, &shots, zone, now).await
        })
        .await?;
        self.work_added(&[Kind::Refile]);
        Ok(())
    }

    /// The files of one shot, the one that stands for it first.
    pub async fn parts_of(&self, shot: OriginalId) -> Result<Vec<PartView>> {
        let mut c = self.connection().await?;
        let rows: Vec<PartRow> =
            sql_query("SELECT id, part, path, size, kind FROM living WHERE shot = $1 ORDER BY id <> shot, part, path")
                .bind::<SqlUuid, _>(shot.0)
                .prepared()
                .load(&mut c)
                .await?;
        Ok(rows
            .into_iter()
            .map(|r| PartView { id: OriginalId(r.id), part: r.part, path: r.path, size: unsigned(r.size), kind: r.kind })
            .collect())
    }

    /// Puts the times of a device's originals right: all that were taken by the camera's own clock between two local times,
    /// and not corrected before. Returns how many.
    pub async fn correct_clock(
        &self,
        id: Uuid,
        device: DeviceId,
        (from, to): (NaiveDateTime, NaiveDateTime),
        shift: TimeDelta,
        who: &str,
        now: DateTime<Utc>,
    ) -> Result<u64> {
        let rules: Vec<&str> = CaptureRule::ALL.into_iter().filter(|r| r.by_camera_clock()).map(CaptureRule::word).collect();
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query(
                "INSERT INTO clock_correction (id, device, from_local, to_local, seconds, originals, made_by, made_at)
                 VALUES ($1, $2, $3, $4, $5, 0, $6, $7)",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<SqlUuid, _>(device.0)
            .bind::<Timestamp, _>(from)
            .bind::<Timestamp, _>(to)
            .bind::<BigInt, _>(shift.num_seconds())
            .bind::<Text, _>(who)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            let moved: Count = sql_query(format!(
                "WITH right_now AS (
                     UPDATE original SET taken_at = taken_at + $4 * interval '1 second',
                         taken_local = taken_local + $4 * interval '1 second', correction = $1
                     WHERE device = $2 AND taken_local BETWEEN $3 AND $5 AND correction IS NULL AND taken_rule = ANY($6) RETURNING id
                 ), {}",
                follows()
            ))
            .bind::<SqlUuid, _>(id)
            .bind::<SqlUuid, _>(device.0)
            .bind::<Timestamp, _>(from)
            .bind::<BigInt, _>(shift.num_seconds())
            .bind::<Timestamp, _>(to)
            .bind::<Array<Text>, _>(&rules)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .get_result(c)
            .await?;
            sql_query("UPDATE clock_correction SET originals = $2 WHERE id = $1")
                .bind::<SqlUuid, _>(id)
                .bind::<BigInt, _>(moved.n)
                .prepared()
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(unsigned(moved.n))
        })
        .await
        .inspect(|_| self.work_added(&Kind::ALL))
    }

    /// Takes a correction back. Twice does no harm. Returns how many originals have their old time again.
    pub async fn undo_correction(&self, id: Uuid, device: DeviceId, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        whole!(c, {
            let open: Count = sql_query("SELECT count(*) AS n FROM clock_correction WHERE id = $1 AND device = $2")
                .bind::<SqlUuid, _>(id)
                .bind::<SqlUuid, _>(device.0)
                .prepared()
                .get_result(c)
                .await?;
            if open.n == 0 {
                return Err(CatalogError::NotFound);
            }
            sql_query("UPDATE clock_correction SET undone_at = coalesce(undone_at, $2) WHERE id = $1")
                .bind::<SqlUuid, _>(id)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            let back: Count = sql_query(format!(
                "WITH right_now AS (
                     UPDATE original o SET taken_at = taken_at - k.seconds * interval '1 second',
                         taken_local = taken_local - k.seconds * interval '1 second', correction = NULL
                     FROM clock_correction k WHERE o.correction = k.id AND k.id = $1 RETURNING o.id
                 ), {}",
                follows().replace("$7", "$2")
            ))
            .bind::<SqlUuid, _>(id)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .get_result(c)
            .await?;
            Ok::<_, CatalogError>(unsigned(back.n))
        })
        .await
        .inspect(|_| self.work_added(&Kind::ALL))
    }

    /// The corrections of a device's clock, newest first.
    pub async fn corrections(&self, device: DeviceId) -> Result<Vec<Correction>> {
        let mut c = self.connection().await?;
        let rows: Vec<CorrectionRow> = sql_query(
            "SELECT id, from_local, to_local, seconds, originals, made_by, made_at, undone_at FROM clock_correction
             WHERE device = $1 ORDER BY made_at DESC, id",
        )
        .bind::<SqlUuid, _>(device.0)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Correction {
                id: r.id,
                from: r.from_local,
                to: r.to_local,
                seconds: r.seconds,
                originals: unsigned(r.originals),
                made_by: r.made_by,
                made_at: r.made_at,
                undone_at: r.undone_at,
            })
            .collect())
    }
}

const PIECE: &str =
    "SELECT o.id, o.digest, o.device, o.source, o.name, o.kind, o.facts, o.taken_at, o.taken_rule, o.file_time, o.landed_at,
    o.correction, o.shot_key, o.pair, o.shot, o.part FROM living o";

/// What follows when the time of originals (`right_now`) changed: shots afresh, and files where they belong. `$7` is now.
fn follows() -> String {
    format!(
        "shots AS (
        INSERT INTO job (kind, key, priority, due) SELECT 'group', id, 18, $7 FROM right_now {WISH}
    ), files AS (
        INSERT INTO job (kind, key, priority, due) SELECT 'refile', id, 4, $7 FROM right_now {WISH}
    )
    SELECT count(*) AS n FROM right_now"
    )
}

/// Until the end of the transaction, nobody else puts a member's shots together or takes them apart.
pub(crate) async fn lock_shots(c: &mut AsyncPgConnection, person: PersonId) -> Result<()> {
    sql_query("SELECT pg_advisory_xact_lock(hashtextextended($1, 7))")
        .bind::<Text, _>(person.to_string())
        .prepared()
        .execute(c)
        .await?;
    Ok(())
}

async fn owner(c: &mut AsyncPgConnection, id: OriginalId) -> Result<Option<PersonId>> {
    #[derive(QueryableByName)]
    struct Row {
        #[diesel(sql_type = SqlUuid)]
        person: Uuid,
    }
    let rows: Vec<Row> =
        sql_query("SELECT person FROM original WHERE id = $1").bind::<SqlUuid, _>(id.0).prepared().load(c).await?;
    Ok(rows.into_iter().next().map(|r| PersonId(r.person)))
}

/// Everything of a member that shares a name, a pair, or a present shot.
async fn together(
    c: &mut AsyncPgConnection,
    person: PersonId,
    keys: BTreeSet<String>,
    pairs: BTreeSet<String>,
    shots: BTreeSet<Uuid>,
) -> Result<Vec<PieceRow>> {
    Ok(sql_query(format!(
        "{PIECE} WHERE o.id IN (
             SELECT id FROM original WHERE person = $1 AND shot_key = ANY($2)
             UNION SELECT id FROM original WHERE person = $1 AND pair = ANY($3)
             UNION SELECT id FROM original WHERE person = $1 AND shot = ANY($4)
         ) ORDER BY o.id LIMIT 5000"
    ))
    .bind::<SqlUuid, _>(person.0)
    .bind::<Array<Text>, _>(keys.into_iter().collect::<Vec<_>>())
    .bind::<Array<Text>, _>(pairs.into_iter().collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(shots.into_iter().collect::<Vec<_>>())
    .prepared()
    .load(c)
    .await?)
}

async fn keep_shots(c: &mut AsyncPgConnection, rows: &[PieceRow], shots: &[Shot]) -> Result<()> {
    let now: BTreeMap<Uuid, (Uuid, Part)> =
        shots.iter().flat_map(|s| s.parts.iter().map(|(id, part)| (id.0, (s.lead().0, *part)))).collect();
    let changed: Vec<(Uuid, Uuid, &str)> = rows
        .iter()
        .filter_map(|r| {
            let (lead, part) = now.get(&r.id)?;
            (r.shot != *lead || r.part != part.word()).then_some((r.id, *lead, part.word()))
        })
        .collect();
    if changed.is_empty() {
        return Ok(());
    }
    sql_query(
        "UPDATE original o SET shot = u.shot, part = u.part FROM unnest($1, $2, $3) AS u (id, shot, part) WHERE o.id = u.id",
    )
    .bind::<Array<SqlUuid>, _>(changed.iter().map(|c| c.0).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(changed.iter().map(|c| c.1).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(changed.iter().map(|c| c.2).collect::<Vec<_>>())
    .prepared()
    .execute(c)
    .await?;
    Ok(())
}

/// Lets the words in a shot's sidecar tell the time of files that do not know it better themselves.
async fn tell_times<Z: TimeZone>(
    c: &mut AsyncPgConnection,
    rows: &[PieceRow],
    facts: &[Facts],
    shots: &[Shot],
    zone: &Z,
    now: DateTime<Utc>,
) -> Result<()> {
    let place = |id: OriginalId| rows.iter().position(|r| r.id == id.0);
    for shot in shots.iter().filter(|s| s.parts.len() > 1) {
        let words: Option<Told> =
            shot.parts.iter().filter(|(_, p)| *p == Part::Sidecar).find_map(|(id, _)| place(*id).and_then(|i| facts[i].told));
        let Some(words) = words else { continue };
        for i in shot.parts.iter().filter_map(|(id, _)| place(*id)) {
            let row = &rows[i];
            if row.correction.is_some() || facts[i].told == Some(words) {
                continue;
            }
            let captured = decide(&facts[i], Some(words), &row.name, row.file_time, row.landed_at, zone);
            if captured.rule == CaptureRule::Sidecar && (captured.at != row.taken_at || captured.rule.word() != row.taken_rule) {
                sql_query(format!(
                    "WITH told AS (
                         UPDATE original SET taken_at = $2, taken_local = $3, taken_rule = $4 WHERE id = $1 RETURNING id
                     ) INSERT INTO job (kind, key, priority, due) SELECT 'refile', id, 4, $5 FROM told {WISH}"
                ))
                .bind::<SqlUuid, _>(row.id)
                .bind::<Timestamptz, _>(captured.at)
                .bind::<Timestamp, _>(captured.local)
                .bind::<Text, _>(captured.rule.word())
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            }
        }
    }
    Ok(())
}
