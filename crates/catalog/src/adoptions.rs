//! Adoptions: what was found on an old disk or in an archive, what the plan for it is, and what became of each file.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, state::AdoptionState};

use crate::{
    Catalog, CatalogError, Prepare, Result,
    columns::WordColumn,
    signed, unsigned,
    work::{Kind, WISH},
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

#[derive(QueryableByName)]
struct AdoptionRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    person: Uuid,
    #[diesel(sql_type = Text)]
    person_name: String,
    #[diesel(sql_type = Text)]
    place: String,
    #[diesel(sql_type = Bool)]
    in_place: bool,
    #[diesel(sql_type = Bool)]
    everything: bool,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    device: Option<Uuid>,
    #[diesel(sql_type = Text)]
    made_by: String,
    #[diesel(sql_type = Timestamptz)]
    began_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ended_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Text)]
    state: WordColumn<AdoptionState>,
    #[diesel(sql_type = Nullable<Text>)]
    problem: Option<String>,
    // Files and bytes of each group, in the order of `GROUPS`.
    #[diesel(sql_type = Array<BigInt>)]
    tallies: Vec<i64>,
}

impl From<AdoptionRow> for Adoption {
    fn from(r: AdoptionRow) -> Self {
        let tally = |n: usize| Tally {
            files: r.tallies.get(2 * n).copied().map_or(0, unsigned),
            bytes: r.tallies.get(2 * n + 1).copied().map_or(0, unsigned),
        };
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
            files: tally(0),
            known: tally(1),
            waiting: tally(2),
            copied: tally(3),
            pointed: tally(4),
            present: tally(5),
            failed: tally(6),
            left_out: tally(7),
            place: r.place,
        }
    }
}

/// The groups of files that are counted, in the order of the fields of [`Adoption`].
const GROUPS: [&str; 8] = [
    "outcome IS NULL OR outcome NOT IN ('left-out', 'archive')",
    "known",
    "outcome IS NULL",
    "outcome = 'copied'",
    "outcome = 'pointed'",
    "outcome = 'present'",
    "outcome = 'failed'",
    "outcome = 'left-out'",
];

#[derive(QueryableByName)]
struct FileRow {
    #[diesel(sql_type = Binary)]
    archive: Vec<u8>,
    #[diesel(sql_type = Binary)]
    path: Vec<u8>,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    file_time: Option<DateTime<Utc>>,
    #[diesel(sql_type = Bool)]
    known: bool,
    #[diesel(sql_type = Nullable<Text>)]
    outcome: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
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

const FILE: &str = "SELECT archive, path, size, file_time, known, outcome, reason FROM adopted_file";

impl Catalog {
    /// Puts an adoption down, and the work of looking through it.
    pub async fn create_adoption(&self, id: Uuid, new: &NewAdoption<'_>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(format!(
            "WITH made AS (
                 INSERT INTO adoption (id, person, place, in_place, everything, made_by, began_at, state)
                 VALUES ($1, $2, $3, $4, $5, $6, $7, 'looking') RETURNING id
             ) INSERT INTO job (kind, key, priority, due) SELECT 'adopt', id, 6, $7 FROM made {WISH}"
        ))
        .bind::<SqlUuid, _>(id)
        .bind::<SqlUuid, _>(new.person.0)
        .bind::<Text, _>(new.place)
        .bind::<Bool, _>(new.in_place)
        .bind::<Bool, _>(new.everything)
        .bind::<Text, _>(new.made_by)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        drop(c);
        self.work_added(&[Kind::Adopt]);
        Ok(())
    }

    /// Adoptions, newest first; or one.
    pub async fn adoptions(&self, only: Option<Uuid>, limit: i64) -> Result<Vec<Adoption>> {
        let mut c = self.connection().await?;
        let tallies: Vec<String> = GROUPS
            .iter()
            .map(|g| format!("count(*) FILTER (WHERE {g}), coalesce(sum(size) FILTER (WHERE {g}), 0)::bigint"))
            .collect();
        let rows: Vec<AdoptionRow> = sql_query(format!(
            "SELECT a.id, a.person, p.name AS person_name, a.place, a.in_place, a.everything, a.device, a.made_by, a.began_at, a.ended_at,
                    a.state, a.problem, f.tallies
             FROM adoption a JOIN person p ON p.id = a.person,
                  LATERAL (SELECT ARRAY[{}] AS tallies FROM adopted_file WHERE adoption = a.id) f
             WHERE ($1 IS NULL OR a.id = $1) ORDER BY a.began_at DESC, a.id LIMIT $2",
            tallies.join(", ")
        ))
        .bind::<Nullable<SqlUuid>, _>(only)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(Adoption::from).collect())
    }

    /// The state of an adoption alone; it is asked often.
    pub async fn adoption_state(&self, id: Uuid) -> Result<AdoptionState> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            state: WordColumn<AdoptionState>,
        }
        let mut c = self.connection().await?;
        let row: Row =
            sql_query("SELECT state FROM adoption WHERE id = $1").bind::<SqlUuid, _>(id).prepared().get_result(&mut c).await?;
        Ok(row.state.0)
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
        let mut c = self.connection().await?;
        let n = sql_query(format!(
            "WITH changed AS (
                 UPDATE adoption SET state = $3, problem = $4, ended_at = CASE WHEN $6 THEN $5 END
                 WHERE id = $1 AND state = ANY($2) RETURNING id
             ), put AS (
                 INSERT INTO job (kind, key, priority, due) SELECT 'adopt', id, 6, $5 FROM changed WHERE $7 {WISH}
             ) SELECT id FROM changed"
        ))
        .bind::<SqlUuid, _>(id)
        .bind::<Array<Text>, _>(from.iter().map(|s| s.word()).collect::<Vec<_>>())
        .bind::<Text, _>(to.word())
        .bind::<Nullable<Text>, _>(problem)
        .bind::<Timestamptz, _>(now)
        .bind::<Bool, _>(to.is_over())
        .bind::<Bool, _>(matches!(to, AdoptionState::Looking | AdoptionState::Running))
        .prepared()
        .execute(&mut c)
        .await?;
        drop(c);
        self.work_added(&[Kind::Adopt]);
        Ok(n > 0)
    }

    /// Says which device an adoption is.
    pub async fn set_adoption_device(&self, id: Uuid, device: DeviceId) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE adoption SET device = coalesce(device, $2) WHERE id = $1")
            .bind::<SqlUuid, _>(id)
            .bind::<SqlUuid, _>(device.0)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Puts down what was found. What was found before stays as it is: looking again does no harm.
    pub async fn add_found(&self, id: Uuid, files: &[AdoptedFile]) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query(
            "INSERT INTO adopted_file (adoption, archive, path, size, file_time, outcome, reason)
             SELECT $1, u.archive, u.path, u.size, u.file_time, u.outcome, u.reason
             FROM unnest($2, $3, $4, $5, $6, $7) AS u (archive, path, size, file_time, outcome, reason) ON CONFLICT DO NOTHING",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<Array<Binary>, _>(files.iter().map(|f| f.archive.as_slice()).collect::<Vec<_>>())
        .bind::<Array<Binary>, _>(files.iter().map(|f| f.path.as_slice()).collect::<Vec<_>>())
        .bind::<Array<BigInt>, _>(files.iter().map(|f| signed(f.size)).collect::<Vec<_>>())
        .bind::<Array<Nullable<Timestamptz>>, _>(files.iter().map(|f| f.file_time).collect::<Vec<_>>())
        .bind::<Array<Nullable<Text>>, _>(files.iter().map(|f| f.outcome.as_deref()).collect::<Vec<_>>())
        .bind::<Array<Nullable<Text>>, _>(files.iter().map(|f| f.reason.as_deref()).collect::<Vec<_>>())
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// The archives of an adoption that hold something that waits, and one empty name for what waits outside of any.
    pub async fn adoption_archives(&self, id: Uuid) -> Result<Vec<Vec<u8>>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Binary)]
            archive: Vec<u8>,
        }
        let mut c = self.connection().await?;
        let rows: Vec<Row> =
            sql_query("SELECT DISTINCT archive FROM adopted_file WHERE adoption = $1 AND outcome IS NULL ORDER BY archive")
                .bind::<SqlUuid, _>(id)
                .prepared()
                .load(&mut c)
                .await?;
        Ok(rows.into_iter().map(|r| r.archive).collect())
    }

    /// Files of one archive (or of none) that wait, by path, after `after`.
    pub async fn adoption_waiting(&self, id: Uuid, archive: &[u8], after: &[u8], limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = sql_query(format!(
            "{FILE} WHERE adoption = $1 AND archive = $2 AND path > $3 AND outcome IS NULL ORDER BY path LIMIT $4"
        ))
        .bind::<SqlUuid, _>(id)
        .bind::<Binary, _>(archive)
        .bind::<Binary, _>(after)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }

    /// Of files that wait, those that could be here already: something of their size is. Only these need to be read to know.
    pub async fn adoption_doubtful(&self, id: Uuid, archive: &[u8], after: &[u8], limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = sql_query(
            "SELECT f.archive, f.path, f.size, f.file_time, f.known, f.outcome, f.reason
             FROM adopted_file f JOIN adoption a ON a.id = f.adoption
             WHERE f.adoption = $1 AND f.archive = $2 AND f.path > $3 AND f.outcome IS NULL AND NOT f.known
               AND EXISTS (SELECT 1 FROM living o WHERE o.person = a.person AND o.size = f.size) ORDER BY f.path LIMIT $4",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<Binary, _>(archive)
        .bind::<Binary, _>(after)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }

    /// Notes that these are here already.
    pub async fn adoption_known(&self, id: Uuid, archive: &[u8], paths: &[Vec<u8>]) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query("UPDATE adopted_file SET known = true WHERE adoption = $1 AND archive = $2 AND path = ANY($3)")
            .bind::<SqlUuid, _>(id)
            .bind::<Binary, _>(archive)
            .bind::<Array<Binary>, _>(paths.iter().map(Vec::as_slice).collect::<Vec<_>>())
            .prepared()
            .execute(&mut c)
            .await?;
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
        let n = sql_query(
            "WITH done AS (
                 UPDATE adopted_file SET outcome = $4, reason = $5 WHERE adoption = $1 AND archive = $2 AND path = $3 RETURNING adoption
             ), left_there AS (
                 INSERT INTO elsewhere (folder) SELECT convert_to(a.place, 'UTF8') FROM adoption a JOIN done d ON d.adoption = a.id
                 WHERE $4 = 'pointed' ON CONFLICT DO NOTHING
             ) SELECT adoption FROM done",
        )
            .bind::<SqlUuid, _>(id)
            .bind::<Binary, _>(archive)
            .bind::<Binary, _>(path)
            .bind::<Text, _>(outcome)
            .bind::<Nullable<Text>, _>(reason)
            .prepared()
            .execute(&mut c)
            .await?;
        if n == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// Lets what could not be taken wait again.
    pub async fn adoption_try_again(&self, id: Uuid) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE adopted_file SET outcome = NULL, reason = NULL WHERE adoption = $1 AND outcome = 'failed'")
            .bind::<SqlUuid, _>(id)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Files of an adoption with one outcome (`waiting` for none yet), a page of them.
    pub async fn adoption_files(&self, id: Uuid, outcome: &str, offset: i64, limit: i64) -> Result<Vec<AdoptedFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = sql_query(format!(
            "{FILE} WHERE adoption = $1 AND coalesce(outcome, 'waiting') = $2 ORDER BY archive, path OFFSET $3 LIMIT $4"
        ))
        .bind::<SqlUuid, _>(id)
        .bind::<Text, _>(outcome)
        .bind::<BigInt, _>(offset)
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(AdoptedFile::from).collect())
    }
}
