//! Which originals belong to one shot, and corrections of a device's clock. The rules are `core::shot` and `core::capture`;
//! here is what they are asked about, and where their answers are kept.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use chrono::{DateTime, NaiveDateTime, TimeDelta, TimeZone, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, Text, Timestamp, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    DeviceId, OriginalId, PersonId,
    capture::{CaptureRule, Facts, Told, decide},
    kind::MediaKind,
    shot::{MOST_VERSIONS, Part, Piece, Shot, group, place_on_device},
};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    columns::HashColumn,
    db::*,
    originals::{Touched, facts_of},
    unsigned,
    wishes::{due_for, ledgers_due},
    work::Kind,
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

#[derive(Queryable, Selectable)]
#[diesel(table_name = original)]
struct PieceRow {
    id: Uuid,
    digest: HashColumn,
    device: Option<Uuid>,
    source: String,
    name: String,
    kind: String,
    facts: serde_json::Value,
    taken_at: DateTime<Utc>,
    taken_local: NaiveDateTime,
    taken_rule: String,
    file_time: Option<DateTime<Utc>>,
    landed_at: DateTime<Utc>,
    correction: Option<Uuid>,
    shot_key: String,
    pair: Option<String>,
    shot: Uuid,
    part: String,
}

impl PieceRow {
    fn piece(&self, facts: &Facts, forward: Option<DateTime<Utc>>, version_of: Option<Uuid>) -> Piece {
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
            forward,
            version_of: version_of.map(OriginalId),
        }
    }
}

impl Catalog {
    /// Groups an original with everything that may belong to it, afresh. The same files make the same shots in whatever order
    /// and however often this is called. Where a sidecar tells the time, the files follow as work of their own. Returns what is otherwise now.
    pub async fn regroup<Z: TimeZone + Sync>(&self, id: OriginalId, zone: &Z, now: DateTime<Utc>) -> Result<Vec<Touched>> {
        let mut c = self.connection().await?;
        let changed = whole!(c, {
            let this = original::table.filter(original::id.eq(id.0).and(is_living()));
            let mut rows: Vec<PieceRow> = this.select(PieceRow::as_select()).load(c).await?;
            let owner: Option<Uuid> = original::table.find(id.0).select(original::person).get_result(c).await.optional()?;
            let Some(person) = owner.map(PersonId) else { return Ok(Vec::new()) };
            // One at a time for a member: two that see half of a shot each would undo each other's work.
            lock_shots(c, person).await?;
            // Names lead to pairs and pairs to names; two rounds reach everything that a camera makes. What people say leads on from there, until nothing is added.
            let mut versions = HashMap::new();
            for round in 0..MOST_ROUNDS {
                let before: Vec<Uuid> = rows.iter().map(|r| r.id).collect();
                let by_files = || rows.iter().filter(|_| round < 2);
                let keys: BTreeSet<String> = by_files().map(|r| r.shot_key.clone()).collect();
                let pairs: BTreeSet<String> = by_files().filter_map(|r| r.pair.clone()).collect();
                let shots: BTreeSet<Uuid> = rows.iter().map(|r| r.shot).collect();
                versions = said_of(c, &before).await?;
                let said = versions.iter().flat_map(|(version, of)| [*version, *of]).collect();
                rows = together(c, person, (keys, pairs), (shots, said)).await?;
                of_one_side(c, id, &mut rows).await?;
                if rows.iter().map(|r| r.id).eq(before) {
                    break;
                }
            }
            // When somebody said that a picture was taken tells nothing of which files belong together.
            let given = given_to(c, &mut rows).await?;
            let facts: Vec<Facts> = rows.iter().map(|r| facts_of(r.facts.clone())).collect();
            let forward = forward::table.filter(forward::original.eq_any(rows.iter().map(|r| r.id).collect::<Vec<_>>()));
            let forward = forward.select((forward::original, forward::forward_at)).load::<(Uuid, DateTime<Utc>)>(c).await?;
            let forward: HashMap<Uuid, DateTime<Utc>> = forward.into_iter().collect();
            let piece = |(r, f): (&PieceRow, _)| r.piece(f, forward.get(&r.id).copied(), versions.get(&r.id).copied());
            let pieces: Vec<Piece> = rows.iter().zip(&facts).map(piece).collect();
            let shots = group(&pieces);
            let mut changed = keep_shots(c, &rows, &shots).await?;
            let has_company = !changed.is_empty();
            changed.extend(tell_times(c, (&rows, &given), &facts, &shots, zone, now).await?);
            if has_company {
                // Last: what was said is added to what a note beside the file tells.
                changed.extend(say_of_all(c, &shots, now).await?);
            }
            let touched = |(id, taken_local)| Touched { person, id: OriginalId(id), taken_local };
            Ok::<_, CatalogError>(changed.into_iter().map(touched).collect())
        })
        .await?;
        self.work_added(&[Kind::Refile]);
        Ok(changed)
    }

    /// Has a file of somebody's picture stand for it from now on, once it is grouped again; without `forward`, the one that does so by the rules. Not found, if
    /// it is not theirs, or is nothing that can stand for a picture.
    pub async fn bring_forward(&self, person: PersonId, id: OriginalId, forward: bool, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            lock_shots(c, person).await?;
            let own = original::table.find(id.0).filter(original::person.eq(person.0).and(is_living()));
            let (shot, part): (Uuid, String) = own.select((original::shot, original::part)).get_result(c).await?;
            if !Part::from_word(&part).is_some_and(Part::can_stand) {
                return Err(CatalogError::NotFound);
            }
            let files: Vec<Uuid> = original::table.filter(original::shot.eq(shot)).select(original::id).load(c).await?;
            delete(forward::table.filter(forward::original.eq_any(files))).execute(c).await?;
            if forward {
                let row = (forward::original.eq(id.0), forward::forward_at.eq(now));
                insert_into(forward::table).values(row).execute(c).await?;
            }
            // Should nobody come to group it after this, the work does.
            due_for(c, Kind::Group, &[id.0], 18, now).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Group]);
        Ok(())
    }

    /// Of some files, when they were last brought forward.
    pub async fn brought_forward(&self, files: &[OriginalId]) -> Result<HashMap<OriginalId, DateTime<Utc>>> {
        let ids: Vec<Uuid> = files.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let these = forward::table.filter(forward::original.eq_any(ids)).select((forward::original, forward::forward_at));
        let rows: Vec<(Uuid, DateTime<Utc>)> = these.load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, at)| (OriginalId(id), at)).collect())
    }

    /// The files of one shot, the one that stands for it first.
    pub async fn parts_of(&self, shot: OriginalId) -> Result<Vec<PartView>> {
        let mut c = self.connection().await?;
        let rows: Vec<(Uuid, String, String, i64, String)> = original::table
            .filter(original::shot.eq(shot.0).and(is_living()))
            .order((original::id.ne(original::shot), original::part, original::path))
            .select((original::id, original::part, original::path, original::size, original::kind))
            .load(&mut c)
            .await?;
        let part = |(id, part, path, size, kind)| PartView { id: OriginalId(id), part, path, size: unsigned(size), kind };
        Ok(rows.into_iter().map(part).collect())
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
            let row = (
                clock_correction::id.eq(id),
                clock_correction::device.eq(device.0),
                clock_correction::from_local.eq(from),
                clock_correction::to_local.eq(to),
                clock_correction::seconds.eq(shift.num_seconds()),
                clock_correction::originals.eq(0),
                clock_correction::made_by.eq(who),
                clock_correction::made_at.eq(now),
            );
            insert_into(clock_correction::table).values(row).execute(c).await?;
            // Of what somebody said when it was taken, that is right.
            let wrong = original::table
                .filter(original::device.eq(device.0).and(original::taken_local.between(from, to)))
                .filter(original::id.ne_all(given_time::table.select(given_time::original)))
                .filter(original::correction.is_null().and(original::taken_rule.eq_any(&rules)));
            let moved: Vec<Uuid> = update(wrong)
                .set((
                    original::taken_at.eq(original::taken_at + seconds(shift.num_seconds())),
                    original::taken_local.eq(original::taken_local + seconds(shift.num_seconds())),
                    original::correction.eq(id),
                ))
                .returning(original::id)
                .load(c)
                .await?;
            time_changed(c, &moved, now).await?;
            let counted = clock_correction::originals.eq(i64::try_from(moved.len()).unwrap_or(i64::MAX));
            update(clock_correction::table.find(id)).set(counted).execute(c).await?;
            Ok::<_, CatalogError>(moved.len() as u64)
        })
        .await
        .inspect(|_| self.work_added(&Kind::ALL))
    }

    /// Takes a correction back. Twice does no harm. Returns how many originals have their old time again.
    pub async fn undo_correction(&self, id: Uuid, device: DeviceId, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        whole!(c, {
            let this = clock_correction::table.find(id).filter(clock_correction::device.eq(device.0));
            let by: i64 = this.select(clock_correction::seconds).get_result(c).await?;
            let undone = clock_correction::undone_at.eq(coalesce(clock_correction::undone_at, now).nullable());
            update(clock_correction::table.find(id)).set(undone).execute(c).await?;
            // What somebody said since then when it was taken stays so, and what it would be otherwise is what it was.
            let corrected = original::table.filter(original::correction.eq(id));
            let given = given_time::table.filter(given_time::original.eq_any(corrected.select(original::id)));
            let given: Vec<Uuid> = update(given)
                .set(given_time::seconds.eq(given_time::seconds + by))
                .returning(given_time::original)
                .load(c)
                .await?;
            let uncorrected = original::correction.eq(None::<Uuid>);
            update(original::table.filter(original::id.eq_any(given))).set(uncorrected).execute(c).await?;
            let back: Vec<Uuid> = update(original::table.filter(original::correction.eq(id)))
                .set((
                    original::taken_at.eq(original::taken_at - seconds(by)),
                    original::taken_local.eq(original::taken_local - seconds(by)),
                    original::correction.eq(None::<Uuid>),
                ))
                .returning(original::id)
                .load(c)
                .await?;
            time_changed(c, &back, now).await?;
            Ok::<_, CatalogError>(back.len() as u64)
        })
        .await
        .inspect(|_| self.work_added(&Kind::ALL))
    }

    /// The corrections of a device's clock, newest first.
    pub async fn corrections(&self, device: DeviceId) -> Result<Vec<Correction>> {
        type Row = (Uuid, NaiveDateTime, NaiveDateTime, i64, i64, String, DateTime<Utc>, Option<DateTime<Utc>>);
        let mut c = self.connection().await?;
        let rows: Vec<Row> = clock_correction::table
            .filter(clock_correction::device.eq(device.0))
            .order((clock_correction::made_at.desc(), clock_correction::id))
            .select((
                clock_correction::id,
                clock_correction::from_local,
                clock_correction::to_local,
                clock_correction::seconds,
                clock_correction::originals,
                clock_correction::made_by,
                clock_correction::made_at,
                clock_correction::undone_at,
            ))
            .load(&mut c)
            .await?;
        let correction = |(id, from, to, seconds, originals, made_by, made_at, undone_at): Row| Correction {
            id,
            from,
            to,
            seconds,
            originals: unsigned(originals),
            made_by,
            made_at,
            undone_at,
        };
        Ok(rows.into_iter().map(correction).collect())
    }
}

/// What follows when the time of originals has changed: shots afresh, and files where they belong.
pub(crate) async fn time_changed(c: &mut AsyncPgConnection, originals: &[Uuid], now: DateTime<Utc>) -> Result<()> {
    due_for(c, Kind::Group, originals, 18, now).await?;
    due_for(c, Kind::Refile, originals, 4, now).await
}

/// Until the end of the transaction, nobody else puts a member's shots together or takes them apart.
pub(crate) async fn lock_shots(c: &mut AsyncPgConnection, person: PersonId) -> Result<()> {
    select(pg_advisory_xact_lock(hashtextextended(person.to_string(), 7))).execute(c).await?;
    Ok(())
}

/// Has the pictures of these files until the end of the transaction, with all of their files, in one order. Whoever writes what a file says has them first: what is
/// said is kept of a picture, and somebody else may write about another file of it.
pub(crate) async fn lock_pictures(c: &mut AsyncPgConnection, files: &[Uuid]) -> Result<()> {
    let shots: Vec<Uuid> = original::table.filter(original::id.eq_any(files)).select(original::shot).distinct().load(c).await?;
    let all = original::table.filter(original::shot.eq_any(shots)).order(original::id).for_no_key_update();
    all.select(original::id).load::<Uuid>(c).await?;
    Ok(())
}

/// So often is looked what belongs to what belongs together, at most: a chain of versions of versions is as long as somebody made it.
const MOST_ROUNDS: usize = MOST_VERSIONS + 2;
/// More files than this are no press of a shutter.
const MOST_TOGETHER: i64 = 5_000;

/// Everything of a member that shares a name, a pair, or a present shot, or is said to belong to it.
async fn together(
    c: &mut AsyncPgConnection,
    person: PersonId,
    (keys, pairs): (BTreeSet<String>, BTreeSet<String>),
    (shots, said): (BTreeSet<Uuid>, BTreeSet<Uuid>),
) -> Result<Vec<PieceRow>> {
    // Each by its own index.
    let own = || original::table.filter(original::person.eq(person.0)).select(original::id);
    let these = own()
        .filter(original::shot_key.eq_any(keys))
        .union(own().filter(original::pair.eq_any(pairs)))
        .union(own().filter(original::shot.eq_any(shots)))
        .union(own().filter(original::id.eq_any(said)));
    let ids: Vec<Uuid> = these.load(c).await?;
    let living = original::table.filter(original::id.eq_any(ids).and(is_living()));
    Ok(living.order(original::id).limit(MOST_TOGETHER).select(PieceRow::as_select()).load(c).await?)
}

/// Which of some files are versions, which are versions of them, and of which file's picture each is.
async fn said_of(c: &mut AsyncPgConnection, files: &[Uuid]) -> Result<HashMap<Uuid, Uuid>> {
    let these = version::table.filter(version::original.eq_any(files).or(version::version_of.eq_any(files)));
    Ok(these.select((version::original, version::version_of)).load::<(Uuid, Uuid)>(c).await?.into_iter().collect())
}

/// Whether all of these files were brought by people outside and wait to be taken, or none.
pub(crate) async fn is_of_one_side(c: &mut AsyncPgConnection, files: &[Uuid]) -> Result<bool> {
    let waiting = brought::table.filter(brought::original.eq_any(files)).select(count_star());
    let waiting: i64 = waiting.get_result(c).await?;
    Ok(waiting == 0 || usize::try_from(waiting).is_ok_and(|n| n == files.len()))
}

/// What people outside brought and nobody has taken yet is of no picture of the household's own: who lies about what belongs together reaches nothing of that.
async fn of_one_side(c: &mut AsyncPgConnection, id: OriginalId, rows: &mut Vec<PieceRow>) -> Result<()> {
    let ids: Vec<Uuid> = rows.iter().map(|r| r.id).collect();
    let brought = brought::table.filter(brought::original.eq_any(ids)).select(brought::original);
    let brought: HashSet<Uuid> = brought.load::<Uuid>(c).await?.into_iter().collect();
    let side = brought.contains(&id.0);
    rows.retain(|r| brought.contains(&r.id) == side);
    Ok(())
}

/// An original, and when it was taken by the wall's clock.
type Taken = (Uuid, NaiveDateTime);

#[derive(QueryableByName)]
struct MovedRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
}

/// Which of them somebody said another time of. They are as they were before.
async fn given_to(c: &mut AsyncPgConnection, rows: &mut [PieceRow]) -> Result<HashSet<Uuid>> {
    let ids: Vec<Uuid> = rows.iter().map(|r| r.id).collect();
    let of_these = given_time::table.filter(given_time::original.eq_any(ids));
    let given: HashMap<Uuid, i64> =
        of_these.select((given_time::original, given_time::seconds)).load(c).await?.into_iter().collect();
    for row in rows {
        let by = TimeDelta::seconds(given.get(&row.id).copied().unwrap_or_default());
        row.taken_at -= by;
    }
    Ok(given.into_keys().collect())
}

/// Keeps what belongs together. Returns what did not belong so before.
async fn keep_shots(c: &mut AsyncPgConnection, rows: &[PieceRow], shots: &[Shot]) -> Result<Vec<Taken>> {
    let now: BTreeMap<Uuid, (Uuid, Part)> =
        shots.iter().flat_map(|s| s.parts.iter().map(|(id, part)| (id.0, (s.lead().0, *part)))).collect();
    let changed: Vec<(&PieceRow, Uuid, &str)> = rows
        .iter()
        .filter_map(|r| {
            let (lead, part) = now.get(&r.id)?;
            (r.shot != *lead || r.part != part.word()).then_some((r, *lead, part.word()))
        })
        .collect();
    if changed.is_empty() {
        return Ok(Vec::new());
    }
    // As whoever says something of one of these pictures has their files: in one order.
    let all = original::table.filter(original::id.eq_any(rows.iter().map(|r| r.id).collect::<Vec<_>>()));
    all.order(original::id).for_no_key_update().select(original::id).load::<Uuid>(c).await?;
    // Text: joined with rows that are handed in.
    sql_query(
        "UPDATE original o SET shot = u.shot, part = u.part FROM unnest($1, $2, $3) AS u (id, shot, part) WHERE o.id = u.id",
    )
    .bind::<Array<SqlUuid>, _>(changed.iter().map(|c| c.0.id).collect::<Vec<_>>())
    .bind::<Array<SqlUuid>, _>(changed.iter().map(|c| c.1).collect::<Vec<_>>())
    .bind::<Array<Text>, _>(changed.iter().map(|c| c.2).collect::<Vec<_>>())
    .execute(c)
    .await?;
    // What comes to a picture that was put away is out of the way with it.
    let leads: BTreeSet<Uuid> = changed.iter().map(|c| c.1).collect();
    let of_these = original::table.filter(original::shot.eq_any(leads).and(is_living()));
    let away: Vec<Uuid> = of_these.filter(original::put_away).select(original::shot).distinct().load(c).await?;
    let visible = original::table.filter(original::shot.eq_any(away).and(not(original::put_away)));
    update(visible).set(original::put_away.eq(true)).execute(c).await?;
    Ok(changed.iter().map(|c| (c.0.id, c.0.taken_local)).collect())
}

/// What people said about when and where a picture was taken, they said of all of it: also of what came to it just now. Returns what is of another time then.
async fn say_of_all(c: &mut AsyncPgConnection, shots: &[Shot], now: DateTime<Utc>) -> Result<Vec<Taken>> {
    // Text: a function that changes rows and gives some back is no table to Diesel.
    let moved: Vec<MovedRow> = sql_query("SELECT id, taken_local FROM original WHERE id IN (SELECT given_to_all($1))")
        .bind::<Array<SqlUuid>, _>(shots.iter().map(|s| s.lead().0).collect::<Vec<_>>())
        .load(c)
        .await?;
    let ids: Vec<Uuid> = moved.iter().map(|m| m.id).collect();
    due_for(c, Kind::Refile, &ids, 4, now).await?;
    Ok(moved.into_iter().map(|m| (m.id, m.taken_local)).collect())
}

/// Lets the words in a shot's sidecar tell the time of files that do not know it better themselves. Returns these, with the time that each
/// had and with the one that it has.
async fn tell_times<Z: TimeZone>(
    c: &mut AsyncPgConnection,
    (rows, given): (&[PieceRow], &HashSet<Uuid>),
    facts: &[Facts],
    shots: &[Shot],
    zone: &Z,
    now: DateTime<Utc>,
) -> Result<Vec<Taken>> {
    let mut told = Vec::new();
    let place = |id: OriginalId| rows.iter().position(|r| r.id == id.0);
    for shot in shots.iter().filter(|s| s.parts.len() > 1) {
        let words: Option<Told> =
            shot.parts.iter().filter(|(_, p)| *p == Part::Sidecar).find_map(|(id, _)| place(*id).and_then(|i| facts[i].told));
        let Some(words) = words else { continue };
        for i in shot.parts.iter().filter_map(|(id, _)| place(*id)) {
            let row = &rows[i];
            if row.correction.is_some() || given.contains(&row.id) || facts[i].told == Some(words) {
                continue;
            }
            let captured = decide(&facts[i], Some(words), &row.name, row.file_time, row.landed_at, zone);
            if captured.rule == CaptureRule::Sidecar && (captured.at != row.taken_at || captured.rule.word() != row.taken_rule) {
                update(original::table.find(row.id))
                    .set((
                        original::taken_at.eq(captured.at),
                        original::taken_local.eq(captured.local),
                        original::taken_rule.eq(captured.rule.word()),
                    ))
                    .execute(c)
                    .await?;
                due_for(c, Kind::Refile, &[row.id], 4, now).await?;
                told.extend([(row.id, row.taken_local), (row.id, captured.local)]);
            }
        }
    }
    Ok(told)
}
