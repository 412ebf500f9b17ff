//! Filing the library by another plan: what is to be moved, how far it has come, and what was moved from where to where.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{Digest, OriginalId, filing::FiledPath, state::RefilingState};

use crate::{
    Catalog, CatalogError, Prepare, Result,
    columns::{HashColumn, PathColumn, WordColumn},
    evidence::HOME,
    unsigned,
    work::{Kind, WISH},
};

/// A re-filing, and how far it has come.
#[derive(Clone, Debug)]
pub struct Refiling {
    /// Its id.
    pub id: Uuid,
    /// The plan's pattern.
    pub plan: String,
    /// The pattern before.
    pub before: String,
    /// The re-filing that this one takes back.
    pub undoes: Option<Uuid>,
    /// Who began it.
    pub made_by: String,
    /// When.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// `running`, `paused`, `done` or `stopped`.
    pub state: RefilingState,
    /// Originals looked at or to be looked at.
    pub total: u64,
    /// Looked at.
    pub looked: u64,
    /// Of these, moved.
    pub moved: u64,
    /// Of these, left where they were because something was in the way.
    pub failed: u64,
}

/// An original with what decides where it is filed.
#[derive(Clone, Debug)]
pub struct ToFile {
    /// The original.
    pub id: OriginalId,
    /// Where it is.
    pub path: String,
    /// Another name that it may have beside its path, because a move was stopped.
    pub moving_to: Option<String>,
    /// Where it is to go, if that is not for the plan to say.
    pub wanted: Option<String>,
    /// The member's folder.
    pub member_folder: String,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// Name on the device.
    pub name: String,
    /// The device's name.
    pub device: String,
    /// Album or folder there.
    pub source: String,
    /// Maker and model of the camera.
    pub camera: String,
    /// The kind's word.
    pub kind: String,
}

/// An original that has, or may have, another name beside its path.
#[derive(Clone, Debug)]
pub struct InterruptedMove {
    /// The original.
    pub id: OriginalId,
    /// What its bytes are.
    pub digest: Digest,
    /// Where it is.
    pub path: FiledPath,
    /// The name that it was being given, or that was being taken from it.
    pub other: FiledPath,
}

#[derive(QueryableByName)]
struct RefilingRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    plan: String,
    #[diesel(sql_type = Text)]
    before: String,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    undoes: Option<Uuid>,
    #[diesel(sql_type = Text)]
    made_by: String,
    #[diesel(sql_type = Timestamptz)]
    began_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ended_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Text)]
    state: WordColumn<RefilingState>,
    #[diesel(sql_type = BigInt)]
    total: i64,
    #[diesel(sql_type = BigInt)]
    looked: i64,
    #[diesel(sql_type = BigInt)]
    moved: i64,
    #[diesel(sql_type = BigInt)]
    failed: i64,
}

#[derive(QueryableByName)]
struct ToFileRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    path: String,
    #[diesel(sql_type = Nullable<Text>)]
    moving_to: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    wanted: Option<String>,
    #[diesel(sql_type = Text)]
    member_folder: String,
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    device: String,
    #[diesel(sql_type = Text)]
    source: String,
    #[diesel(sql_type = Text)]
    camera: String,
    #[diesel(sql_type = Text)]
    kind: String,
}

#[derive(QueryableByName)]
struct InterruptedMoveRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = Text)]
    path: PathColumn,
    #[diesel(sql_type = Text)]
    other: PathColumn,
}

const TO_FILE: &str =
    "o.id, o.path, o.moving_to, p.folder AS member_folder, o.taken_local, o.name, coalesce(d.name, '') AS device,
    o.source, coalesce(o.facts->>'camera', '') AS camera, o.kind";
const JOINS: &str = "JOIN person p ON p.id = o.person LEFT JOIN device d ON d.id = o.device";

impl From<ToFileRow> for ToFile {
    fn from(r: ToFileRow) -> Self {
        ToFile {
            id: OriginalId(r.id),
            path: r.path,
            moving_to: r.moving_to,
            wanted: r.wanted,
            member_folder: r.member_folder,
            taken_local: r.taken_local,
            name: r.name,
            device: r.device,
            source: r.source,
            camera: r.camera,
            kind: r.kind,
        }
    }
}

impl Catalog {
    /// Begins a re-filing of the whole library: the household's plan changes, and everything that is there is put down to be
    /// looked at. One that is under way already is [`CatalogError::Taken`].
    pub async fn begin_refiling(&self, id: Uuid, plan: &str, undoes: Option<Uuid>, who: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query(
                "INSERT INTO refiling (id, plan, before, undoes, made_by, began_at, state)
                 SELECT $1, $2, h.filing, $3, $4, $5, 'running' FROM household h",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<Text, _>(plan)
            .bind::<Nullable<SqlUuid>, _>(undoes)
            .bind::<Text, _>(who)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            sql_query("UPDATE household SET filing = $1").bind::<Text, _>(plan).prepared().execute(c).await?;
            match undoes {
                None => {
                    sql_query("INSERT INTO refiling_move (refiling, original, from_path) SELECT $1, id, path FROM living")
                        .bind::<SqlUuid, _>(id)
                        .prepared()
                        .execute(c)
                        .await?
                }
                // Back to where each one was; what arrived since is filed by the plan that holds again.
                Some(other) => {
                    sql_query(
                        "INSERT INTO refiling_move (refiling, original, from_path, wanted)
                         SELECT $1, o.id, o.path, m.from_path FROM living o
                         LEFT JOIN refiling_move m ON m.refiling = $2 AND m.original = o.id AND m.to_path IS NOT NULL",
                    )
                    .bind::<SqlUuid, _>(id)
                    .bind::<SqlUuid, _>(other)
                    .prepared()
                    .execute(c)
                    .await?
                }
            };
            sql_query(format!("INSERT INTO job (kind, key, priority, due) VALUES ('refile', $1, 5, $2) {WISH}"))
                .bind::<SqlUuid, _>(id)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Refile]);
        Ok(())
    }

    /// The last re-filings, newest first.
    pub async fn refilings(&self, only: Option<Uuid>, limit: i64) -> Result<Vec<Refiling>> {
        let mut c = self.connection().await?;
        let rows: Vec<RefilingRow> = sql_query(
            "SELECT r.id, r.plan, r.before, r.undoes, r.made_by, r.began_at, r.ended_at, r.state, m.total, m.looked, m.moved, m.failed
             FROM refiling r, LATERAL (
                 SELECT count(*) AS total, count(done_at) AS looked,
                        count(*) FILTER (WHERE done_at IS NOT NULL AND to_path <> from_path) AS moved, count(error) AS failed
                 FROM refiling_move WHERE refiling = r.id
             ) m WHERE ($1 IS NULL OR r.id = $1) ORDER BY r.began_at DESC, r.id LIMIT $2",
        )
        .bind::<Nullable<SqlUuid>, _>(only)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Refiling {
                id: r.id,
                plan: r.plan,
                before: r.before,
                undoes: r.undoes,
                made_by: r.made_by,
                began_at: r.began_at,
                ended_at: r.ended_at,
                state: r.state.0,
                total: unsigned(r.total),
                looked: unsigned(r.looked),
                moved: unsigned(r.moved),
                failed: unsigned(r.failed),
            })
            .collect())
    }

    /// Changes the state of a re-filing that is in one of the states `from`; one that is to run is put down as work in the same step.
    /// `false`: it is in another one.
    pub async fn set_refiling_state(
        &self,
        id: Uuid,
        from: &[RefilingState],
        to: RefilingState,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        let mut c = self.connection().await?;
        let n = sql_query(format!(
            "WITH changed AS (
                 UPDATE refiling SET state = $3, ended_at = CASE WHEN $5 THEN $4 END WHERE id = $1 AND state = ANY($2) RETURNING id
             ), put AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'refile', id, 5, $4 FROM changed WHERE $6 {WISH}
             ) SELECT id FROM changed"
        ))
        .bind::<SqlUuid, _>(id)
        .bind::<Array<Text>, _>(from.iter().map(|s| s.word()).collect::<Vec<_>>())
        .bind::<Text, _>(to.word())
        .bind::<Timestamptz, _>(now)
        .bind::<Bool, _>(to.is_over())
        .bind::<Bool, _>(to == RefilingState::Running)
        .prepared()
        .execute(&mut c)
        .await?;
        if to == RefilingState::Running {
            self.work_added(&[Kind::Refile]);
        }
        Ok(n > 0)
    }

    /// The next originals of a re-filing that have not been looked at.
    pub async fn next_moves(&self, refiling: Uuid, limit: i64) -> Result<Vec<ToFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<ToFileRow> = sql_query(format!(
            "SELECT {TO_FILE}, m.wanted FROM refiling_move m JOIN living o ON o.id = m.original {JOINS}
             WHERE m.refiling = $1 AND m.done_at IS NULL ORDER BY m.original LIMIT $2"
        ))
        .bind::<SqlUuid, _>(refiling)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(ToFile::from).collect())
    }

    /// A page of all originals with what decides where they are filed, for trying a plan out.
    pub async fn to_file(&self, after: Option<OriginalId>, limit: i64) -> Result<Vec<ToFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<ToFileRow> = sql_query(format!(
            "SELECT {TO_FILE}, NULL::text AS wanted FROM living o {JOINS} WHERE o.id > $1 ORDER BY o.id LIMIT $2"
        ))
        .bind::<SqlUuid, _>(after.map_or(Uuid::nil(), |a| a.0))
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(ToFile::from).collect())
    }

    /// One original with what decides where it is filed.
    pub async fn one_to_file(&self, id: OriginalId) -> Result<Option<ToFile>> {
        let mut c = self.connection().await?;
        let row: Option<ToFileRow> =
            sql_query(format!("SELECT {TO_FILE}, NULL::text AS wanted FROM living o {JOINS} WHERE o.id = $1"))
                .bind::<SqlUuid, _>(id.0)
                .prepared()
                .get_result(&mut c)
                .await
                .optional()?;
        Ok(row.map(ToFile::from))
    }

    /// An original is about to be given this name beside the one it has.
    pub async fn set_moving(&self, original: OriginalId, to: &FiledPath) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE original SET moving_to = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(original.0)
            .bind::<Text, _>(to.as_str())
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// An original has one name again. Not forced to the disk: looking again does no harm.
    pub async fn old_name_gone(&self, original: OriginalId) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query("UPDATE original SET moving_to = NULL WHERE id = $1")
            .bind::<SqlUuid, _>(original.0)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// An original has its new path; its old name is now the other one, until it is gone. The stores' ledgers are to say so,
    /// too.
    pub async fn moved(
        &self,
        refiling: Option<Uuid>,
        original: OriginalId,
        from: &FiledPath,
        to: &FiledPath,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "WITH here AS (
                 UPDATE original SET path = $3, folded = $4, moving_to = $7 WHERE id = $2
             ), said AS (
                 UPDATE standing SET listed = false WHERE original = $2 AND place <> $6
             )
             UPDATE refiling_move SET to_path = $3, done_at = $5, error = NULL WHERE refiling = $1 AND original = $2",
        )
        .bind::<Nullable<SqlUuid>, _>(refiling)
        .bind::<SqlUuid, _>(original.0)
        .bind::<Text, _>(to.as_str())
        .bind::<Text, _>(to.folded())
        .bind::<Timestamptz, _>(now)
        .bind::<SqlUuid, _>(HOME)
        .bind::<Text, _>(from.as_str())
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// A move is done without moving: it was in its place already, or something was in the way.
    pub async fn move_done(&self, refiling: Uuid, original: OriginalId, error: Option<&str>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query(
            "UPDATE refiling_move SET done_at = coalesce(done_at, $4), to_path = coalesce(to_path, from_path), error = $3
             WHERE refiling = $1 AND original = $2",
        )
        .bind::<SqlUuid, _>(refiling)
        .bind::<SqlUuid, _>(original.0)
        .bind::<Nullable<Text>, _>(error)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Originals that may have another name beside their path, because a move was stopped.
    pub async fn interrupted_moves(&self) -> Result<Vec<InterruptedMove>> {
        let mut c = self.connection().await?;
        let rows: Vec<InterruptedMoveRow> =
            sql_query("SELECT id, digest, path, moving_to AS other FROM original WHERE moving_to IS NOT NULL ORDER BY id")
                .prepared()
                .load(&mut c)
                .await?;
        let between = |r: InterruptedMoveRow| InterruptedMove {
            id: OriginalId(r.id),
            digest: r.digest.0,
            path: r.path.0,
            other: r.other.0,
        };
        Ok(rows.into_iter().map(between).collect())
    }
}
