//! Adoptions: what was found on an old disk or in an archive, what the plan for it is, and what became of each file.

use chrono::{DateTime, Utc};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, state::AdoptionState};

use crate::{
    Catalog, CatalogError, Result,
    columns::WordColumn,
    db::*,
    signed, unsigned,
    wishes::{wish, work_row},
    work::Kind,
};

/// An adoption, and how far it has come.
#[derive(Clone, Debug)]
pub struct Adoption {
    /// Its id.
    pub id: Uuid,
    /// Whose originals they become.
    pub person: PersonId,
    /// That member's name.
    pub person_name: String,
    /// The folder or archive.
    pub place: String,
    /// The originals stay where they are, and the library points to them.
    pub in_place: bool,
    /// Files of any sort are taken.
    pub everything: bool,
    /// What it is among the devices, once it has begun.
    pub device: Option<DeviceId>,
    /// Who began it.
    pub made_by: String,
    /// When.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// `looking`, `planned`, `running`, `paused`, `done` or `stopped`.
    pub state: AdoptionState,
    /// Why it does not go on by itself.
    pub problem: Option<String>,
    /// Files to be taken, and their bytes.
    pub files: Tally,
    /// Of these, those whose bytes are here already as far as the plan could tell.
    pub known: Tally,
    /// Of these, those that wait.
    pub waiting: Tally,
    /// Copied into the library.
    pub copied: Tally,
    /// Pointed to from the library.
    pub pointed: Tally,
    /// Here already when it came to them.
    pub present: Tally,
    /// Could not be taken.
    pub failed: Tally,
    /// Left where they are.
    pub left_out: Tally,
}

/// An adoption that is about to be begun.
#[derive(Clone, Copy, Debug)]
pub struct NewAdoption<'a> {
    /// Whose originals they are to be.
    pub person: PersonId,
    /// The folder or archive.
    pub place: &'a str,
    /// The originals are to stay where they are.
    pub in_place: bool,
    /// Files of any sort are to be taken.
    pub everything: bool,
    /// Who begins it.
    pub made_by: &'a str,
}

/// A number of files and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// How many.
    pub files: u64,
    /// Bytes.
    pub bytes: u64,
}

/// A file of an adoption.
#[derive(Clone, Debug)]
pub struct AdoptedFile {
    /// The archive that it is in; empty outside of one.
    pub archive: Vec<u8>,
    /// Where in the tree or archive.
    pub path: Vec<u8>,
    /// Bytes, as announced.
    pub size: u64,
    /// When it was last changed.
    pub file_time: Option<DateTime<Utc>>,
    /// Its bytes are here already, as far as the plan could tell.
    pub known: bool,
    /// What became of it; `None` while it waits.
    pub outcome: Option<String>,
    /// Why.
    pub reason: Option<String>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = adoption)]
struct AdoptionRow {
    id: Uuid,
    person: Uuid,
    #[diesel(select_expression = person::name)]
    person_name: String,
    place: String,
    in_place: bool,
    everything: bool,
    device: Option<Uuid>,
    made_by: String,
    began_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
    state: WordColumn<AdoptionState>,
    problem: Option<String>,
}

/// Files of an adoption with one outcome, known or not, and their bytes.
type Group = (Option<String>, bool, i64, i64);

impl AdoptionRow {
    fn with(self, groups: &[Group]) -> Adoption {
        let r = self;
        let tally = |which: &dyn Fn(Option<&str>, bool) -> bool| {
            groups.iter().filter(|(outcome, known, ..)| which(outcome.as_deref(), *known)).fold(
                Tally::default(),
                |all, (_, _, n, bytes)| Tally { files: all.files + unsigned(*n), bytes: all.bytes + unsigned(*bytes) },
            )
        };
        let of = |word: &'static str| tally(&move |outcome, _| outcome == Some(word));
        Adoption {
            id: r.id,
            person: PersonId(r.person),
            person_name: r.person_name,
            in_place: r.in_place,
            everything: r.everything,
            device: r.device.map(DeviceId),
            made_by: r.made_by,
            began_at: r.began_at,
            ended_at: r.ended_at,
            state: r.state.0,
            problem: r.problem,
            files: tally(&|outcome, _| !matches!(outcome, Some("left-out" | "archive"))),
            known: tally(&|_, known| known),
            waiting: tally(&|outcome, _| outcome.is_none()),
            copied: of("copied"),
            pointed: of("pointed"),
            present: of("present"),
            failed: of("failed"),
            left_out: of("left-out"),
            place: r.place,
        }
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = adopted_file)]
struct FileRow {
    archive: Vec<u8>,
    path: Vec<u8>,
    size: i64,
    file_time: Option<DateTime<Utc>>,
    known: bool,
    outcome: Option<String>,
    reason: Option<String>,
}

impl From<FileRow> for AdoptedFile {
    fn from(r: FileRow) -> Self {
        AdoptedFile {
            archive: r.archive,
            path: r.path,
            size: unsigned(r.size),
            file_time: r.file_time,
            known: r.known,
            outcome: r.outcome,
            reason: r.reason,
        }
    }
}

/// The work of an adoption, if it is in a state in which something is done.
async fn adoption_due(c: &mut AsyncPgConnection, id: Uuid, state: AdoptionState, now: DateTime<Utc>) -> Result<()> {
    if matches!(state, AdoptionState::Looking | AdoptionState::Running) {
        wish!(values work_row(Kind::Adopt, id, None, 6, now)).execute(c).await?;
    }
    Ok(())
}

impl Catalog {
    /// Puts an adoption down, and the work of looking through it.
    pub async fn create_adoption(&self, id: Uuid, new: &NewAdoption<'_>, now: DateTime<Utc>) -> Result<()> {
        let row = (
            adoption::id.eq(id),
            adoption::person.eq(new.person.0),
            adoption::place.eq(new.place),
            adoption::in_place.eq(new.in_place),
            adoption::everything.eq(new.everything),
            adoption::made_by.eq(new.made_by),
            adoption::began_at.eq(now),
            adoption::state.eq(AdoptionState::Looking.word()),
        );
        let mut c = self.connection().await?;
        whole!(c, {
            insert_into(adoption::table).values(row).execute(c).await?;
            adoption_due(c, id, AdoptionState::Looking, now).await
        })
        .await?;
        drop(c);
        self.work_added(&[Kind::Adopt]);
        Ok(())
    }

    /// Adoptions, newest first; or one.
    pub async fn adoptions(&self, only: Option<Uuid>, limit: i64) -> Result<Vec<Adoption>> {
        let mut c = self.connection().await?;
        let mut which = adoption::table.inner_join(person::table).select(AdoptionRow::as_select()).into_boxed();
        if let Some(only) = only {
            which = which.filter(adoption::id.eq(only));
        }
        let rows: Vec<AdoptionRow> = which.order((adoption::began_at.desc(), adoption::id)).limit(limit).load(&mut c).await?;
        let mut all = Vec::with_capacity(rows.len());
        for row in rows {
            let groups: Vec<Group> = adopted_file::table
                .filter(adopted_file::adoption.eq(row.id))
                .group_by((adopted_file::outcome, adopted_file::known))
                .select((adopted_file::outcome, adopted_file::known, count_star(), total(adopted_file::size)))
                .load(&mut c)
                .await?;
            all.push(row.with(&groups));
        }
        Ok(all)
    }

    /// The state of an adoption alone; it is asked often.
    pub async fn adoption_state(&self, id: Uuid) -> Result<AdoptionState> {
        let mut c = self.connection().await?;
        let state: WordColumn<AdoptionState> = adoption::table.find(id).select(adoption::state).get_result(&mut c).await?;
        Ok(state.0)
    }

    /// Takes an adoption from one of these states to another. Says whether it was in one of them. One that is to run is put down
    /// as work.
    pub async fn set_adoption_state(
        &self,
        id: Uuid,
        from: &[AdoptionState],
        to: AdoptionState,
        problem: Option<&str>,
        now: DateTime<Utc>,
    ) -> Result<bool> {
        let from: Vec<&str> = from.iter().map(|s| s.word()).collect();
        let mut c = self.connection().await?;
        let changed = whole!(c, {
            let changed = update(adoption::table.find(id).filter(adoption::state.eq_any(&from)))
                .set((
                    adoption::state.eq(to.word()),
                    adoption::problem.eq(problem),
                    adoption::ended_at.eq(to.is_over().then_some(now)),
                ))
                .execute(c)
                .await?;
            if changed > 0 {
                adoption_due(c, id, to, now).await?;
            }
            Ok::<_, CatalogError>(changed > 0)
        })
        .await?;
        drop(c);
        self.work_added(&[Kind::Adopt]);
        Ok(changed)
    }

    /// Says which device an adoption is.
    pub async fn set_adoption_device(&self, id: Uuid, device: DeviceId) -> Result<()> {
        let mut c = self.connection().await?;
        let without = adoption::table.find(id).filter(adoption::device.is_null());
        update(without).set(adoption::device.eq(device.0)).execute(&mut c).await?;
        Ok(())
    }

    /// Puts down what was found. What was found before stays as it is: looking again does no harm.
    pub async fn add_found(&self, id: Uuid, files: &[AdoptedFile]) -> Result<()> {
        let row = |f: &AdoptedFile| {
            (
                adopted_file::adoption.eq(id),
                adopted_file::archive.eq(f.archive.clone()),
                adopted_file::path.eq(f.path.clone()),
                adopted_file::size.eq(signed(f.size)),
                adopted_file::file_time.eq(f.file_time),
                adopted_file::outcome.eq(f.outcome.clone()),
                adopted_file::reason.eq(f.reason.clone()),
            )
        };
        let mut c = self.async_commit_connection().await?;
        for some in files.chunks(AT_ONCE) {
            let rows: Vec<_> = some.iter().map(row).collect();
            let rows = insert_into(adopted_file::table).values(rows).on_conflict_do_nothing();
            diesel_async::RunQueryDsl::execute(rows, &mut c).await?;
        }
        Ok(())
    }

    /// The archives of an adoption that hold something that waits, and one empty name for what waits outside of any.
    pub async fn adoption_archives(&self, id: Uuid) -> Result<Vec<Vec<u8>>> {
        let mut c = self.connection().await?;
        let waiting = adopted_file::table.filter(adopted_file::adoption.eq(id).and(adopted_file::outcome.is_null()));
        Ok(waiting.select(adopted_file::archive).distinct().order(adopted_file::archive).load(&mut c).await?)
    }

    /// Files of one archive (or of none) that wait, by path, after `after`.
    pub async fn adoption_waiting(&self, id: Uuid, archive: &[u8], after: &[u8], limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = adopted_file::table
            .filter(adopted_file::adoption.eq(id).and(adopted_file::archive.eq(archive)).and(adopted_file::path.gt(after)))
            .filter(adopted_file::outcome.is_null())
            .order(adopted_file::path)
            .limit(limit)
            .select(FileRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }

    /// Of files that wait, those that could be here already: something of their size is. Only these need to be read to know.
    pub async fn adoption_doubtful(&self, id: Uuid, archive: &[u8], after: &[u8], limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let of_that_size = original::table
            .filter(original::person.eq(adoption::person).and(original::size.eq(adopted_file::size)).and(is_living()));
        let rows: Vec<FileRow> = adopted_file::table
            .inner_join(adoption::table)
            .filter(adopted_file::adoption.eq(id).and(adopted_file::archive.eq(archive)).and(adopted_file::path.gt(after)))
            .filter(adopted_file::outcome.is_null().and(not(adopted_file::known)))
            .filter(exists(of_that_size.select(original::id)))
            .order(adopted_file::path)
            .limit(limit)
            .select(FileRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }

    /// Notes that these are here already.
    pub async fn adoption_known(&self, id: Uuid, archive: &[u8], paths: &[Vec<u8>]) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let these = adopted_file::table
            .filter(adopted_file::adoption.eq(id).and(adopted_file::archive.eq(archive)).and(adopted_file::path.eq_any(paths)));
        update(these).set(adopted_file::known.eq(true)).execute(&mut c).await?;
        Ok(())
    }

    /// Notes what became of a file, and of the first that is left in place, that its folder is needed from now on. Not forced to the disk: a file that is taken twice is here once.
    pub async fn adoption_file_done(
        &self,
        id: Uuid,
        archive: &[u8],
        path: &[u8],
        outcome: &str,
        reason: Option<&str>,
    ) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        whole!(c, {
            let done = update(adopted_file::table.find((id, archive, path)))
                .set((adopted_file::outcome.eq(outcome), adopted_file::reason.eq(reason)))
                .execute(c)
                .await?;
            if done == 0 {
                return Err(CatalogError::NotFound);
            }
            if outcome == "pointed" {
                let place: String = adoption::table.find(id).select(adoption::place).get_result(c).await?;
                let row = elsewhere::folder.eq(place.as_bytes());
                insert_into(elsewhere::table).values(row).on_conflict_do_nothing().execute(c).await?;
            }
            Ok(())
        })
        .await
    }

    /// Lets what could not be taken wait again.
    pub async fn adoption_try_again(&self, id: Uuid) -> Result<()> {
        let mut c = self.connection().await?;
        let failed = adopted_file::table.filter(adopted_file::adoption.eq(id).and(adopted_file::outcome.eq("failed")));
        update(failed)
            .set((adopted_file::outcome.eq(None::<String>), adopted_file::reason.eq(None::<String>)))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Files of an adoption with one outcome (`waiting` for none yet), a page of them.
    pub async fn adoption_files(&self, id: Uuid, outcome: &str, offset: i64, limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = adopted_file::table
            .filter(adopted_file::adoption.eq(id).and(coalesce(adopted_file::outcome, "waiting").eq(outcome)))
            .order((adopted_file::archive, adopted_file::path))
            .offset(offset)
            .limit(limit)
            .select(FileRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }
}
