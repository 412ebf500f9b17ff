//! What people say about when and where pictures were taken (migration 54), and how they turn them (56). No file is changed by it, and what its file says counts
//! again when they want.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, NaiveDateTime, TimeDelta, Utc};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    OriginalId, PersonId,
    caption::Note,
    capture::EARLIEST,
    kind::MediaKind,
    ledger::{GivenPlaceRecord, GivenTimeRecord, GivenTurnRecord},
    spot::Spot,
    turn::Turn,
};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    db::*,
    originals::{Touched, facts_of},
    places::TownAt,
    shots::{lock_shots, time_changed},
    wishes::{due_for, ledgers_due},
    work::Kind,
};

/// Nobody moves a picture by more seconds: four hundred years.
pub const MOST_GIVEN: i64 = 400 * 366 * 86_400;
/// Pictures between which and one there is more time tell nothing of where that was taken.
const BESIDE: TimeDelta = TimeDelta::hours(24);

/// Where a picture was taken from now on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// There.
    At(Spot),
    /// It has no place.
    Nowhere,
    /// Where its file says.
    AsInFile,
}

/// When a picture was taken from now on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Time {
    /// So much later than it is now.
    Later(TimeDelta),
    /// When it was before anybody said anything.
    AsBefore,
}

/// What came of saying when pictures were taken.
#[derive(Clone, Debug)]
pub enum Moved {
    /// These are otherwise now, each as it was, and as it is; the pictures that were named and are there: so many.
    To(Vec<Touched>, u64),
    /// One of them would be from before there were pictures, or from days to come: then.
    Unbelievable(NaiveDateTime),
}

/// How pictures are shown from now on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Turned {
    /// Turned by so much more.
    By(Turn),
    /// As their files say.
    AsInFile,
}

/// What people said about some originals, as ledgers say it.
#[derive(Debug, Default)]
pub struct GivenRecords {
    /// About when they were taken.
    pub times: HashMap<OriginalId, GivenTimeRecord>,
    /// About where.
    pub places: HashMap<OriginalId, GivenPlaceRecord>,
    /// How they turned them.
    pub turns: HashMap<OriginalId, GivenTurnRecord>,
}

/// What people said about one picture.
#[derive(Clone, Debug, Default)]
pub struct Given {
    /// About when it was taken.
    pub time: Option<GivenTime>,
    /// About where.
    pub place: Option<GivenPlace>,
}

/// That somebody said when a picture was taken.
#[derive(Clone, Debug)]
pub struct GivenTime {
    /// What the wall's clock showed before they did.
    pub before: NaiveDateTime,
    /// Who, if they are still there.
    pub by: Option<String>,
    /// When they did.
    pub at: DateTime<Utc>,
}

/// That somebody said where a picture was taken.
#[derive(Clone, Debug)]
pub struct GivenPlace {
    /// What its file says.
    pub in_file: Option<(f64, f64)>,
    /// Who, if they are still there.
    pub by: Option<String>,
    /// When they did.
    pub at: DateTime<Utc>,
}

/// A picture with a place that was taken shortly before or after another one.
#[derive(Clone, Debug)]
pub struct Beside {
    /// Which.
    pub picture: OriginalId,
    /// What the wall's clock showed.
    pub taken_local: NaiveDateTime,
    /// Degrees north and east.
    pub place: (f64, f64),
    /// The town that it was taken near, if it is known yet.
    pub town: Option<TownAt>,
    /// How somebody turned it.
    pub turn: Turn,
}

/// A file of a picture, its picture, and when it was taken.
type File = (Uuid, Uuid, NaiveDateTime);

/// The files of somebody's own pictures that were named by any of these. Nobody else puts files together until the end of the transaction.
async fn files_of(c: &mut AsyncPgConnection, person: PersonId, pictures: &[OriginalId]) -> Result<Vec<File>> {
    lock_shots(c, person).await?;
    let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
    let own = || original::table.filter(original::person.eq(person.0).and(is_living()));
    let shots: Vec<Uuid> = own().filter(original::id.eq_any(ids)).select(original::shot).distinct().load(c).await?;
    let files = own().filter(original::shot.eq_any(shots)).order(original::id).for_no_key_update();
    Ok(files.select((original::id, original::shot, original::taken_local)).load(c).await?)
}

/// How many pictures these are of.
fn pictures_of(files: &[File]) -> u64 {
    files.iter().map(|(_, shot, _)| shot).collect::<HashSet<_>>().len() as u64
}

impl Catalog {
    /// Somebody says where pictures of their own were taken. Returns what is otherwise now, by their files, and how many pictures those are.
    pub async fn give_place(
        &self,
        person: PersonId,
        pictures: &[OriginalId],
        place: Place,
        now: DateTime<Utc>,
    ) -> Result<(Vec<Touched>, u64)> {
        let places: Vec<(OriginalId, Place)> = pictures.iter().map(|id| (*id, place)).collect();
        self.give_places(person, &places, now).await
    }

    /// The same for pictures that were taken each somewhere else.
    pub async fn give_places(
        &self,
        person: PersonId,
        places: &[(OriginalId, Place)],
        now: DateTime<Utc>,
    ) -> Result<(Vec<Touched>, u64)> {
        let pictures: Vec<OriginalId> = places.iter().map(|(id, _)| *id).collect();
        let mut c = self.connection().await?;
        let files = whole!(c, {
            let files = files_of(c, person, &pictures).await?;
            // Of a picture that was named by several of its files, the last counts.
            let shots: HashMap<Uuid, Uuid> = files.iter().map(|(id, shot, _)| (*id, *shot)).collect();
            let of: HashMap<Uuid, Place> = places.iter().filter_map(|(id, place)| Some((*shots.get(&id.0)?, *place))).collect();
            // Each file with what was said of its picture.
            let given = files.iter().filter_map(|(id, shot, _)| Some((*id, *of.get(shot)?)));
            let (as_in_file, said): (Vec<_>, Vec<_>) = given.partition(|(_, place)| *place == Place::AsInFile);
            let as_in_file = as_in_file.into_iter().map(|(id, _)| id);
            delete(given_place::table.filter(given_place::original.eq_any(as_in_file))).execute(c).await?;
            let row = |(id, place): &(Uuid, Place)| {
                let spot = if let Place::At(spot) = place { Some((spot.north(), spot.east())) } else { None };
                let (north, east) = spot.unzip();
                let at = (given_place::north.eq(north), given_place::east.eq(east));
                (given_place::original.eq(*id), at, given_place::given_by.eq(Some(person.0)), given_place::given_at.eq(now))
            };
            let rows = insert_into(given_place::table).values(said.iter().map(row).collect::<Vec<_>>());
            let anew = (
                given_place::north.eq(excluded(given_place::north)),
                given_place::east.eq(excluded(given_place::east)),
                given_place::given_by.eq(excluded(given_place::given_by)),
                given_place::given_at.eq(excluded(given_place::given_at)),
            );
            let rows = rows.on_conflict(given_place::original).do_update().set(anew);
            diesel_async::RunQueryDsl::execute(rows, c).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(files)
        })
        .await?;
        self.counted.notify_one();
        self.work_added(&[Kind::Ledger, Kind::Town]);
        let touched = files.iter().map(|(id, _, taken_local)| Touched { person, id: OriginalId(*id), taken_local: *taken_local });
        Ok((touched.collect(), pictures_of(&files)))
    }

    /// When pictures of somebody's own were taken, by the files that were named, and whether each has a place.
    pub async fn when_taken(&self, person: PersonId, pictures: &[OriginalId]) -> Result<Vec<(OriginalId, DateTime<Utc>, bool)>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let own = original::table.filter(original::person.eq(person.0).and(is_living()).and(original::id.eq_any(ids)));
        let rows: Vec<(Uuid, DateTime<Utc>, bool)> =
            own.select((original::id, original::taken_at, original::spot.is_not_null())).load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, at, placed)| (OriginalId(id), at, placed)).collect())
    }

    /// The same of all that somebody has from between two instants, as far as each stands for its picture and was not put away; no more than `most`.
    pub async fn taken_between(
        &self,
        person: PersonId,
        (from, until): (DateTime<Utc>, DateTime<Utc>),
        most: i64,
    ) -> Result<Vec<(OriginalId, DateTime<Utc>, bool)>> {
        // What a clock on the wall showed is in the index: no zone is further from another.
        let zones = TimeDelta::hours(15);
        let wall = original::taken_local.between(from.naive_utc() - zones, until.naive_utc() + zones);
        let mut c = self.connection().await?;
        let own = original::table
            .filter(original::person.eq(person.0).and(is_living()).and(original::leads).and(not(original::put_away)));
        let rows: Vec<(Uuid, DateTime<Utc>, bool)> = own
            .filter(wall.and(original::taken_at.between(from, until)))
            .order(original::taken_local)
            .limit(most)
            .select((original::id, original::taken_at, original::spot.is_not_null()))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(id, at, placed)| (OriginalId(id), at, placed)).collect())
    }

    /// Somebody says when pictures of their own were taken: all of their files are of another time then, and are filed where they belong.
    pub async fn give_time(&self, person: PersonId, pictures: &[OriginalId], time: Time, now: DateTime<Utc>) -> Result<Moved> {
        let mut c = self.connection().await?;
        let moved = whole!(c, {
            let files = files_of(c, person, pictures).await?;
            let ids: Vec<Uuid> = files.iter().map(|(id, ..)| *id).collect();
            let mut by: HashMap<Uuid, i64> = HashMap::new();
            match time {
                Time::Later(by_all) => {
                    let to = |(_, _, taken): &File| taken.checked_add_signed(by_all).unwrap_or(NaiveDateTime::MAX);
                    let believable = |t: &NaiveDateTime| *t >= EARLIEST && *t <= now.naive_utc() + TimeDelta::days(2);
                    if let Some(odd) = files.iter().map(to).find(|t| !believable(t)) {
                        return Ok(Moved::Unbelievable(odd));
                    }
                    by.extend(ids.iter().map(|id| (*id, by_all.num_seconds())));
                    let row = |id: &Uuid| {
                        let who = (given_time::given_by.eq(Some(person.0)), given_time::given_at.eq(now));
                        (given_time::original.eq(*id), given_time::seconds.eq(by_all.num_seconds()), who)
                    };
                    let rows = insert_into(given_time::table).values(ids.iter().map(row).collect::<Vec<_>>());
                    let anew = (
                        given_time::seconds.eq(given_time::seconds + excluded(given_time::seconds)),
                        given_time::given_by.eq(excluded(given_time::given_by)),
                        given_time::given_at.eq(excluded(given_time::given_at)),
                    );
                    let rows = rows.on_conflict(given_time::original).do_update().set(anew);
                    diesel_async::RunQueryDsl::execute(rows, c).await?;
                    let none = given_time::original.eq_any(&ids).and(given_time::seconds.eq(0));
                    delete(given_time::table.filter(none)).execute(c).await?;
                }
                Time::AsBefore => {
                    let given = delete(given_time::table.filter(given_time::original.eq_any(&ids)));
                    let given: Vec<(Uuid, i64)> = given.returning((given_time::original, given_time::seconds)).load(c).await?;
                    by.extend(given.into_iter().map(|(id, seconds)| (id, -seconds)));
                }
            }
            let mut apart: HashMap<i64, Vec<Uuid>> = HashMap::new();
            by.iter().for_each(|(id, by)| apart.entry(*by).or_default().push(*id));
            for (by, ids) in apart {
                let later = (
                    original::taken_at.eq(original::taken_at + seconds(by)),
                    original::taken_local.eq(original::taken_local + seconds(by)),
                );
                update(original::table.filter(original::id.eq_any(ids))).set(later).execute(c).await?;
            }
            let changed: Vec<Uuid> = by.keys().copied().collect();
            time_changed(c, &changed, now).await?;
            ledgers_due(c, now + DECIDED).await?;
            let touched =
                files.iter().filter_map(|(id, _, taken)| Some((*id, *taken, *by.get(id)?))).flat_map(|(id, taken, by)| {
                    let after = taken.checked_add_signed(TimeDelta::seconds(by)).unwrap_or(taken);
                    [taken, after].map(|taken_local| Touched { person, id: OriginalId(id), taken_local })
                });
            Ok::<_, CatalogError>(Moved::To(touched.collect(), pictures_of(&files)))
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Group, Kind::Refile]);
        Ok(moved)
    }

    /// Somebody turns pictures of their own: all their files that are no films, as far as they are here by now. What is shown of them is made anew. Returns
    /// what is otherwise now, how many pictures those are, and how many were named and are there.
    pub async fn give_turn(
        &self,
        person: PersonId,
        pictures: &[OriginalId],
        turned: Turned,
        now: DateTime<Utc>,
    ) -> Result<(Vec<Touched>, u64, u64)> {
        let mut c = self.connection().await?;
        let (files, named) = whole!(c, {
            let files = files_of(c, person, pictures).await?;
            let ids: Vec<Uuid> = files.iter().map(|(id, ..)| *id).collect();
            let named = pictures_of(&files);
            let still = [MediaKind::Photo, MediaKind::Raw].map(MediaKind::word);
            let of_these = original::table.filter(original::id.eq_any(&ids).and(original::kind.eq_any(still)));
            let lying: HashSet<Uuid> = of_these.select(original::id).load::<Uuid>(c).await?.into_iter().collect();
            let before = given_turn::table.filter(given_turn::original.eq_any(&ids));
            let before: HashMap<Uuid, i16> =
                before.select((given_turn::original, given_turn::quarters)).load::<(Uuid, i16)>(c).await?.into_iter().collect();
            // Nobody else turns one of them meanwhile: their rows are ours.
            let mut after: HashMap<Turn, Vec<Uuid>> = HashMap::new();
            for id in &lying {
                let was = Turn::of(before.get(id).copied().unwrap_or_default().into());
                let now_is = match turned {
                    Turned::By(more) => was.and(more),
                    Turned::AsInFile => Turn::default(),
                };
                if now_is != was {
                    after.entry(now_is).or_default().push(*id);
                }
            }
            let changed: HashSet<Uuid> = after.values().flatten().copied().collect();
            let as_in_file = after.remove(&Turn::default()).unwrap_or_default();
            delete(given_turn::table.filter(given_turn::original.eq_any(as_in_file))).execute(c).await?;
            for (turn, ids) in after {
                let row = |id: &Uuid| {
                    let who = (given_turn::given_by.eq(Some(person.0)), given_turn::given_at.eq(now));
                    (given_turn::original.eq(*id), given_turn::quarters.eq(i16::from(turn.quarters())), who)
                };
                let rows = insert_into(given_turn::table).values(ids.iter().map(row).collect::<Vec<_>>());
                let anew = (
                    given_turn::quarters.eq(excluded(given_turn::quarters)),
                    given_turn::given_by.eq(excluded(given_turn::given_by)),
                    given_turn::given_at.eq(excluded(given_turn::given_at)),
                );
                let rows = rows.on_conflict(given_turn::original).do_update().set(anew);
                diesel_async::RunQueryDsl::execute(rows, c).await?;
            }
            let files: Vec<File> = files.into_iter().filter(|(id, ..)| changed.contains(id)).collect();
            let ids: Vec<Uuid> = files.iter().map(|(id, ..)| *id).collect();
            due_for(c, Kind::Preview, &ids, 20, now).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>((files, named))
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Preview]);
        let touched = files.iter().map(|(id, _, taken_local)| Touched { person, id: OriginalId(*id), taken_local: *taken_local });
        Ok((touched.collect(), pictures_of(&files), named))
    }

    /// What somebody said about when and where a picture was taken, by the file that stands for it.
    pub async fn given(&self, id: OriginalId) -> Result<Given> {
        type TimeRow = (i64, NaiveDateTime, DateTime<Utc>, Option<String>);
        type PlaceRow = (serde_json::Value, DateTime<Utc>, Option<String>);
        let mut c = self.connection().await?;
        let time: Option<TimeRow> = given_time::table
            .inner_join(original::table)
            .left_join(person::table.on(given_time::given_by.eq(person::id.nullable())))
            .filter(given_time::original.eq(id.0))
            .select((given_time::seconds, original::taken_local, given_time::given_at, person::name.nullable()))
            .get_result(&mut c)
            .await
            .optional()?;
        let place: Option<PlaceRow> = given_place::table
            .inner_join(original::table)
            .left_join(person::table.on(given_place::given_by.eq(person::id.nullable())))
            .filter(given_place::original.eq(id.0))
            .select((original::facts, given_place::given_at, person::name.nullable()))
            .get_result(&mut c)
            .await
            .optional()?;
        let time = time.map(|(seconds, taken, at, by)| GivenTime { before: taken - TimeDelta::seconds(seconds), by, at });
        let place = place.map(|(facts, at, by)| GivenPlace {
            in_file: facts.get("place_in_file").and_then(|place| serde_json::from_value(place.clone()).ok()),
            by,
            at,
        });
        Ok(Given { time, place })
    }

    /// What people said about some originals.
    pub async fn given_to(&self, originals: &[OriginalId]) -> Result<GivenRecords> {
        type PlaceRow = (Uuid, Option<f64>, Option<f64>, Option<Uuid>, DateTime<Utc>);
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let times: Vec<(Uuid, i64, Option<Uuid>, DateTime<Utc>)> = given_time::table
            .filter(given_time::original.eq_any(&ids))
            .select((given_time::original, given_time::seconds, given_time::given_by, given_time::given_at))
            .load(&mut c)
            .await?;
        let places: Vec<PlaceRow> = given_place::table
            .filter(given_place::original.eq_any(&ids))
            .select((given_place::original, given_place::north, given_place::east, given_place::given_by, given_place::given_at))
            .load(&mut c)
            .await?;
        let turns: Vec<(Uuid, i16, Option<Uuid>, DateTime<Utc>)> = given_turn::table
            .filter(given_turn::original.eq_any(&ids))
            .select((given_turn::original, given_turn::quarters, given_turn::given_by, given_turn::given_at))
            .load(&mut c)
            .await?;
        let time = |(id, seconds, by, at): (Uuid, i64, Option<Uuid>, DateTime<Utc>)| {
            (OriginalId(id), GivenTimeRecord { seconds, by: by.map(PersonId), at })
        };
        let place = |(id, north, east, by, at): PlaceRow| {
            (OriginalId(id), GivenPlaceRecord { place: north.zip(east), by: by.map(PersonId), at })
        };
        let turn = |(id, quarters, by, at): (Uuid, i16, Option<Uuid>, DateTime<Utc>)| {
            let quarters = Turn::of(quarters.into()).quarters();
            (OriginalId(id), GivenTurnRecord { quarters, by: by.map(PersonId), at })
        };
        Ok(GivenRecords {
            times: times.into_iter().map(time).collect(),
            places: places.into_iter().map(place).collect(),
            turns: turns.into_iter().map(turn).collect(),
        })
    }

    /// What people said about some pictures, by the files that stand for them; of those of which they said nothing that can lie beside a file, nothing.
    pub async fn notes(&self, shots: &[OriginalId]) -> Result<HashMap<OriginalId, Note>> {
        let words = self.written_about_pictures(shots).await?;
        let mut notes: HashMap<OriginalId, Note> = words.into_iter().map(|(id, words)| (id, words.into())).collect();
        let mut c = self.connection().await?;
        for some in shots.chunks(AT_ONCE) {
            let ids: Vec<Uuid> = some.iter().map(|id| id.0).collect();
            let places: Vec<(Uuid, Option<f64>, Option<f64>)> = given_place::table
                .filter(given_place::original.eq_any(&ids).and(given_place::north.is_not_null()))
                .select((given_place::original, given_place::north, given_place::east))
                .load(&mut c)
                .await?;
            let times: Vec<(Uuid, NaiveDateTime)> = given_time::table
                .inner_join(original::table)
                .filter(given_time::original.eq_any(&ids))
                .select((given_time::original, original::taken_local))
                .load(&mut c)
                .await?;
            let turns: Vec<(Uuid, i16, serde_json::Value)> = given_turn::table
                .inner_join(original::table)
                .filter(given_turn::original.eq_any(&ids))
                .select((given_turn::original, given_turn::quarters, original::facts))
                .load(&mut c)
                .await?;
            for (id, quarters, facts) in turns {
                let shown = Turn::of(quarters.into()).after(facts_of(facts).orientation);
                notes.entry(OriginalId(id)).or_default().orientation = Some(shown);
            }
            places.into_iter().for_each(|(id, north, east)| notes.entry(OriginalId(id)).or_default().place = north.zip(east));
            times.into_iter().for_each(|(id, taken)| notes.entry(OriginalId(id)).or_default().taken = Some(taken));
        }
        Ok(notes)
    }

    /// The pictures with a place of the same person that were taken next before and next after a picture, within a day.
    pub async fn beside_in_time(&self, id: OriginalId) -> Result<Vec<Beside>> {
        type Row = (Uuid, NaiveDateTime, serde_json::Value, Option<i32>);
        let mut c = self.connection().await?;
        let this: (Uuid, Uuid, NaiveDateTime) = original::table
            .find(id.0)
            .select((original::person, original::shot, original::taken_local))
            .get_result(&mut c)
            .await?;
        let (person, shot, taken) = this;
        let with_place = || {
            let own = original::table
                .filter(original::person.eq(person).and(original::leads).and(not(original::put_away)).and(is_living()));
            own.filter(original::spot.is_not_null().and(original::shot.ne(shot))).select((
                original::id,
                original::taken_local,
                original::facts,
                original::town,
            ))
        };
        let before: Option<Row> = with_place()
            .filter(original::taken_local.between(taken - BESIDE, taken))
            .order((original::taken_local.desc(), original::id.desc()))
            .limit(1)
            .get_result(&mut c)
            .await
            .optional()?;
        let after: Option<Row> = with_place()
            .filter(original::taken_local.gt(taken).and(original::taken_local.le(taken + BESIDE)))
            .order((original::taken_local, original::id))
            .limit(1)
            .get_result(&mut c)
            .await
            .optional()?;
        drop(c);
        let mut beside = Vec::new();
        for (id, taken_local, facts, town) in [before, after].into_iter().flatten() {
            let facts = facts_of(facts);
            let Some(place) = facts.place else { continue };
            let town = self.towns(town.as_slice()).await?.pop();
            beside.push(Beside { picture: OriginalId(id), taken_local, place, town, turn: Turn::of(facts.turned.into()) });
        }
        Ok(beside)
    }
}
