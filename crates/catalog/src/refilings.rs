//! Filing the library by another plan: what is to be moved, how far it has come, and what was moved from where to where.

use chrono::{DateTime, NaiveDateTime, Utc};

use uuid::Uuid;
use ypogeion_core::{Digest, OriginalId, filing::FiledPath, state::RefilingState};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, PathColumn, WordColumn},
    db::*,
    evidence::HOME,
    unsigned,
    wishes::{wish, work_row},
    work::Kind,
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

#[derive(Queryable, Selectable)]
#[diesel(table_name = refiling)]
struct RefilingRow {
    id: Uuid,
    plan: String,
    before: String,
    undoes: Option<Uuid>,
    made_by: String,
    began_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
    state: WordColumn<RefilingState>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = original)]
struct ToFileRow {
    id: Uuid,
    path: String,
    moving_to: Option<String>,
    #[diesel(select_expression = person::folder)]
    member_folder: String,
    taken_local: NaiveDateTime,
    name: String,
    #[diesel(select_expression = device::name.nullable())]
    device: Option<String>,
    source: String,
    #[diesel(select_expression = original::facts.retrieve_as_text("camera").nullable())]
    camera: Option<String>,
    kind: String,
}

impl ToFileRow {
    /// `wanted`: where it is to go, if that is not for the plan to say.
    fn wanted(self, wanted: Option<String>) -> ToFile {
        let r = self;
        ToFile {
            id: OriginalId(r.id),
            path: r.path,
            moving_to: r.moving_to,
            wanted,
            member_folder: r.member_folder,
            taken_local: r.taken_local,
            name: r.name,
            device: r.device.unwrap_or_default(),
            source: r.source,
            camera: r.camera.unwrap_or_default(),
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
            let before: String = household::table.select(household::filing).for_update().get_result(c).await?;
            let row = (
                refiling::id.eq(id),
                refiling::plan.eq(plan),
                refiling::before.eq(before),
                refiling::undoes.eq(undoes),
                refiling::made_by.eq(who),
                refiling::began_at.eq(now),
                refiling::state.eq(RefilingState::Running.word()),
            );
            insert_into(refiling::table).values(row).execute(c).await?;
            update(household::table).set(household::filing.eq(plan)).execute(c).await?;
            // Back to where each one was; what arrived since is filed by the plan that holds again.
            let of_that_one = refiling_move::original
                .eq(original::id)
                .and(refiling_move::refiling.eq(undoes.unwrap_or_default()))
                .and(refiling_move::to_path.is_not_null());
            let all = original::table.left_join(refiling_move::table.on(of_that_one)).filter(is_living()).select((
                id.into_sql::<diesel::sql_types::Uuid>(),
                original::id,
                original::path,
                refiling_move::from_path.nullable(),
            ));
            insert_into(refiling_move::table)
                .values(all)
                .into_columns((refiling_move::refiling, refiling_move::original, refiling_move::from_path, refiling_move::wanted))
                .execute(c)
                .await?;
            wish!(values work_row(Kind::Refile, id, None, 5, now)).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Refile]);
        Ok(())
    }

    /// The last re-filings, newest first.
    pub async fn refilings(&self, only: Option<Uuid>, limit: i64) -> Result<Vec<Refiling>> {
        let mut c = self.connection().await?;
        let mut which = refiling::table.select(RefilingRow::as_select()).into_boxed();
        if let Some(only) = only {
            which = which.filter(refiling::id.eq(only));
        }
        let rows: Vec<RefilingRow> = which.order((refiling::began_at.desc(), refiling::id)).limit(limit).load(&mut c).await?;
        let mut all = Vec::with_capacity(rows.len());
        for r in rows {
            let elsewhere = refiling_move::to_path.ne(refiling_move::from_path.nullable()).assume_not_null();
            let (total, looked, moved, failed): (i64, i64, i64, i64) = refiling_move::table
                .filter(refiling_move::refiling.eq(r.id))
                .select((
                    count_star(),
                    count(refiling_move::done_at),
                    count(refiling_move::done_at).aggregate_filter(elsewhere),
                    count(refiling_move::error),
                ))
                .get_result(&mut c)
                .await?;
            all.push(Refiling {
                id: r.id,
                plan: r.plan,
                before: r.before,
                undoes: r.undoes,
                made_by: r.made_by,
                began_at: r.began_at,
                ended_at: r.ended_at,
                state: r.state.0,
                total: unsigned(total),
                looked: unsigned(looked),
                moved: unsigned(moved),
                failed: unsigned(failed),
            });
        }
        Ok(all)
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
        let from: Vec<&str> = from.iter().map(|s| s.word()).collect();
        let mut c = self.connection().await?;
        let changed = whole!(c, {
            let changed = update(refiling::table.find(id).filter(refiling::state.eq_any(&from)))
                .set((refiling::state.eq(to.word()), refiling::ended_at.eq(to.is_over().then_some(now))))
                .execute(c)
                .await?;
            if changed > 0 && to == RefilingState::Running {
                wish!(values work_row(Kind::Refile, id, None, 5, now)).execute(c).await?;
            }
            Ok::<_, CatalogError>(changed > 0)
        })
        .await?;
        if to == RefilingState::Running {
            self.work_added(&[Kind::Refile]);
        }
        Ok(changed)
    }

    /// The next originals of a re-filing that have not been looked at.
    pub async fn next_moves(&self, refiling: Uuid, limit: i64) -> Result<Vec<ToFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<(ToFileRow, Option<String>)> = refiling_move::table
            .inner_join(original::table.inner_join(person::table).left_join(device::table))
            .filter(refiling_move::refiling.eq(refiling).and(refiling_move::done_at.is_null()).and(is_living()))
            .order(refiling_move::original)
            .limit(limit)
            .select((ToFileRow::as_select(), refiling_move::wanted))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(row, wanted)| row.wanted(wanted)).collect())
    }

    /// A page of all originals with what decides where they are filed, for trying a plan out.
    pub async fn to_file(&self, after: Option<OriginalId>, limit: i64) -> Result<Vec<ToFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<ToFileRow> = original::table
            .inner_join(person::table)
            .left_join(device::table)
            .filter(is_living().and(original::id.gt(after.map_or(Uuid::nil(), |a| a.0))))
            .order(original::id)
            .limit(limit)
            .select(ToFileRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|row| row.wanted(None)).collect())
    }

    /// One original with what decides where it is filed.
    pub async fn one_to_file(&self, id: OriginalId) -> Result<Option<ToFile>> {
        let mut c = self.connection().await?;
        let row: Option<ToFileRow> = original::table
            .inner_join(person::table)
            .left_join(device::table)
            .filter(is_living().and(original::id.eq(id.0)))
            .select(ToFileRow::as_select())
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|row| row.wanted(None)))
    }

    /// An original is about to be given this name beside the one it has.
    pub async fn set_moving(&self, original: OriginalId, to: &FiledPath) -> Result<()> {
        let mut c = self.connection().await?;
        update(original::table.find(original.0)).set(original::moving_to.eq(to.as_str())).execute(&mut c).await?;
        Ok(())
    }

    /// An original has one name again. Not forced to the disk: looking again does no harm.
    pub async fn old_name_gone(&self, original: OriginalId) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(original::table.find(original.0)).set(original::moving_to.eq(None::<String>)).execute(&mut c).await?;
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
        whole!(c, {
            update(original::table.find(original.0))
                .set((original::path.eq(to.as_str()), original::folded.eq(to.folded()), original::moving_to.eq(from.as_str())))
                .execute(c)
                .await?;
            let in_stores = standing::table.filter(standing::original.eq(original.0).and(standing::place.ne(HOME)));
            update(in_stores).set(standing::listed.eq(false)).execute(c).await?;
            if let Some(refiling) = refiling {
                update(refiling_move::table.find((refiling, original.0)))
                    .set((
                        refiling_move::to_path.eq(to.as_str()),
                        refiling_move::done_at.eq(now),
                        refiling_move::error.eq(None::<String>),
                    ))
                    .execute(c)
                    .await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// A move is done without moving: it was in its place already, or something was in the way.
    pub async fn move_done(&self, refiling: Uuid, original: OriginalId, error: Option<&str>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(refiling_move::table.find((refiling, original.0)))
            .set((
                refiling_move::done_at.eq(coalesce(refiling_move::done_at, now).nullable()),
                refiling_move::to_path.eq(coalesce(refiling_move::to_path, refiling_move::from_path).nullable()),
                refiling_move::error.eq(error),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Originals that may have another name beside their path, because a move was stopped.
    pub async fn interrupted_moves(&self) -> Result<Vec<InterruptedMove>> {
        let mut c = self.connection().await?;
        let rows: Vec<(Uuid, HashColumn, PathColumn, PathColumn)> = original::table
            .filter(original::moving_to.is_not_null())
            .order(original::id)
            .select((original::id, original::digest, original::path, original::moving_to.assume_not_null()))
            .load(&mut c)
            .await?;
        let between = |(id, digest, path, other): (Uuid, HashColumn, PathColumn, PathColumn)| InterruptedMove {
            id: OriginalId(id),
            digest: digest.0,
            path: path.0,
            other: other.0,
        };
        Ok(rows.into_iter().map(between).collect())
    }
}
