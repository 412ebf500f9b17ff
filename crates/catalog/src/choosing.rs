//! What somebody has chosen in their library: pictures one by one, and stretches of it, however many pictures those have.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    QueryableByName,
    sql_types::{Array, BigInt, Bool, Nullable, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::OriginalId;

use crate::{
    Catalog, Result,
    evidence::HOME,
    find::{Asking, Sought, instant},
    scope::Scope,
    unsigned,
};

/// Where a picture is in the library.
pub type Spot = (NaiveDateTime, OriginalId);

/// What is chosen of a library, or of an album.
#[derive(Clone, Debug)]
pub struct Choice {
    /// Among which pictures it was chosen; none: all.
    pub sought: Option<Sought>,
    /// Stretches: from the oldest picture of each to the newest, both with it.
    pub stretches: Vec<(Spot, Spot)>,
    /// Pictures one by one.
    pub pictures: Vec<OriginalId>,
    /// Those that are not meant, though they are in a stretch.
    pub except: Vec<OriginalId>,
    /// What came later was not there to be chosen.
    pub as_of: DateTime<Utc>,
}

/// How much is chosen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ChosenNumbers {
    /// Pictures.
    pub pictures: u64,
    /// Files that belong to them.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files without a good copy at home.
    pub not_at_home: u64,
    /// What the wall's clock showed when the oldest was taken.
    pub oldest: Option<NaiveDateTime>,
}

/// A file of a picture that is chosen.
#[derive(Clone, Debug)]
pub struct ChosenFile {
    /// Which.
    pub id: OriginalId,
    /// The one that stands for its picture.
    pub shot: OriginalId,
    /// Where it is in the library.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// When it was taken.
    pub taken_at: DateTime<Utc>,
    /// What a clock on the wall showed then.
    pub taken_local: NaiveDateTime,
    /// Whether its copy at home is good.
    pub at_home: bool,
}

#[derive(QueryableByName)]
struct NumbersRow {
    #[diesel(sql_type = BigInt)]
    pictures: i64,
    #[diesel(sql_type = BigInt)]
    files: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
    #[diesel(sql_type = BigInt)]
    not_at_home: i64,
    #[diesel(sql_type = Nullable<Timestamp>)]
    oldest: Option<NaiveDateTime>,
}

#[derive(QueryableByName)]
struct SpotRow {
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
}

#[derive(QueryableByName)]
struct FileRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    shot: Uuid,
    #[diesel(sql_type = Text)]
    path: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Timestamptz)]
    taken_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
    #[diesel(sql_type = Bool)]
    at_home: bool,
}

impl Asking<'_> {
    /// The pictures that are chosen, as `chosen`: what follows asks them.
    fn of_chosen(scope: Scope, choice: &Choice) -> Self {
        let stretch = |spot: fn(&(Spot, Spot)) -> Spot| -> (Vec<NaiveDateTime>, Vec<Uuid>) {
            choice.stretches.iter().map(spot).map(|(taken, id)| (taken, id.0)).unzip()
        };
        let (from, first) = stretch(|s| s.0);
        let (until, last) = stretch(|s| s.1);
        // The times bound what the index is asked for; the ids decide among those of one moment.
        let asking = Asking::new("WITH chosen AS (SELECT o.id, o.taken_local FROM unnest(")
            .value::<Array<Timestamp>, _>(from)
            .text(", ")
            .value::<Array<SqlUuid>, _>(first)
            .text(", ")
            .value::<Array<Timestamp>, _>(until)
            .text(", ")
            .value::<Array<SqlUuid>, _>(last)
            .text(
                ") AS s (f, first, u, last) JOIN original o ON o.taken_local >= s.f AND o.taken_local <= s.u
                   AND (o.taken_local, o.id) >= (s.f, s.first) AND (o.taken_local, o.id) <= (s.u, s.last) WHERE",
            )
            .of_choice(scope, choice);
        let asking = match choice.sought.as_ref().and_then(Sought::days) {
            None => asking,
            Some(days) => {
                let (from, until): (Vec<_>, Vec<_>) = days.iter().map(|d| (instant(d.from), instant(d.until))).unzip();
                asking
                    .text(" AND EXISTS (SELECT FROM unnest(")
                    .value::<Array<Timestamp>, _>(from)
                    .text(", ")
                    .value::<Array<Timestamp>, _>(until)
                    .text(") AS d (f, u) WHERE o.taken_local >= d.f AND o.taken_local < d.u)")
            }
        };
        let pictures: Vec<Uuid> = choice.pictures.iter().map(|id| id.0).collect();
        asking
            .meets(scope, choice.sought.as_ref())
            .text(" UNION SELECT o.id, o.taken_local FROM original o WHERE")
            .of_choice(scope, choice)
            .text(" AND o.id = ANY(")
            .value::<Array<SqlUuid>, _>(pictures)
            .text(")) ")
            .typed()
    }

    fn of_choice(self, scope: Scope, choice: &Choice) -> Self {
        let except: Vec<Uuid> = choice.except.iter().map(|id| id.0).collect();
        self.shown(scope)
            .text(" AND o.landed_at <= ")
            .value::<Timestamptz, _>(choice.as_of)
            .text(" AND o.id <> ALL(")
            .value::<Array<SqlUuid>, _>(except)
            .text(")")
    }

    /// The files of the pictures that are chosen, as `f`, and their copies at home, as `h`.
    fn their_files(self) -> Self {
        self.text(" FROM chosen JOIN original f ON f.shot = chosen.id")
            .text(" AND f.held_at IS NULL AND f.gone_at IS NULL LEFT JOIN standing h ON h.original = f.id AND h.place = ")
            .value::<SqlUuid, _>(HOME)
    }
}

impl Catalog {
    /// How much is chosen.
    pub async fn chosen_numbers(&self, scope: Scope, choice: &Choice) -> Result<ChosenNumbers> {
        let mut c = self.connection().await?;
        let rows: Vec<NumbersRow> = Asking::of_chosen(scope, choice)
            .text(
                "SELECT (SELECT count(*) FROM chosen) AS pictures, min(chosen.taken_local) AS oldest, count(*) AS files, coalesce(sum(f.size), 0)::bigint AS bytes,
                        count(*) FILTER (WHERE h.good IS NOT TRUE) AS not_at_home",
            )
            .their_files()
            .load(&mut c)
            .await?;
        Ok(rows.first().map_or_else(ChosenNumbers::default, |r| ChosenNumbers {
            pictures: unsigned(r.pictures),
            files: unsigned(r.files),
            bytes: unsigned(r.bytes),
            not_at_home: unsigned(r.not_at_home),
            oldest: r.oldest,
        }))
    }

    /// A page of what is chosen, newest first.
    pub async fn chosen_pictures(&self, scope: Scope, choice: &Choice, after: Option<Spot>, limit: i64) -> Result<Vec<Spot>> {
        let mut c = self.connection().await?;
        let asking = Asking::of_chosen(scope, choice).text("SELECT taken_local, id FROM chosen");
        let asking = match after {
            None => asking,
            Some((taken, id)) => asking
                .text(" WHERE (taken_local, id) < (")
                .value::<Timestamp, _>(taken)
                .text(", ")
                .value::<SqlUuid, _>(id.0)
                .text(")"),
        };
        let asking = asking.text(" ORDER BY taken_local DESC, id DESC LIMIT ").value::<BigInt, _>(limit);
        let rows: Vec<SpotRow> = asking.load(&mut c).await?;
        Ok(rows.into_iter().map(|r| (r.taken_local, OriginalId(r.id))).collect())
    }

    /// The files of what is chosen, at most so many, oldest first and those of a picture together.
    pub async fn chosen_files(&self, scope: Scope, choice: &Choice, most: i64) -> Result<Vec<ChosenFile>> {
        let mut c = self.connection().await?;
        let rows: Vec<FileRow> = Asking::of_chosen(scope, choice)
            .text("SELECT f.id, f.shot, f.path, f.size, f.taken_at, f.taken_local, coalesce(h.good, false) AS at_home")
            .their_files()
            .text(" ORDER BY chosen.taken_local, chosen.id, f.path LIMIT ")
            .value::<BigInt, _>(most)
            .load(&mut c)
            .await?;
        let file = |r: FileRow| ChosenFile {
            id: OriginalId(r.id),
            shot: OriginalId(r.shot),
            path: r.path,
            size: unsigned(r.size),
            taken_at: r.taken_at,
            taken_local: r.taken_local,
            at_home: r.at_home,
        };
        Ok(rows.into_iter().map(file).collect())
    }
}
