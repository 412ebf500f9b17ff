//! The library as somebody asks for it: the conditions that pictures must meet, as PostgreSQL reads them.

use chrono::{DateTime, Datelike, Local, NaiveDate, NaiveDateTime, NaiveTime, TimeDelta, TimeZone, Utc};
use diesel::{
    QueryableByName,
    pg::Pg,
    query_builder::{BoxedSqlQuery, SqlQuery},
    sql_query,
    sql_types::{Array, BigInt, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{
    find::{
        Copies, Places, Request, Vocabulary, What,
        days::{Span, both},
    },
    kind::MediaKind,
};

use crate::{Catalog, Connection, Count, Result, db::*, scope::Scope, unsigned};

/// What somebody asks for, where it is known what their library has.
#[derive(Clone, Debug)]
pub struct Sought {
    /// What must be so.
    request: Request,
    /// When a picture may have been taken, in order and apart; `None`: whenever.
    spans: Option<Vec<Span>>,
    /// A copy that was read before this instant counts as read no more.
    proven_since: DateTime<Utc>,
}

impl Sought {
    /// `years`: the first and the last of the library's pictures.
    pub fn new(request: Request, years: (i32, i32), proven_since: DateTime<Utc>) -> Self {
        Sought { spans: request.taken(years.0, years.1), request, proven_since }
    }

    /// The days on which a picture may have been taken; none: any.
    pub(crate) fn days(&self) -> Option<&[Span]> {
        self.spans.as_deref()
    }

    /// The parts of a span in which a picture may have been taken, newest first.
    pub(crate) fn within(&self, span: Span) -> Vec<Span> {
        let mut spans = self.spans.as_deref().map_or_else(|| vec![span], |all| both(all, &[span]));
        spans.reverse();
        spans
    }
}

type Statement<'a> = BoxedSqlQuery<'a, Pg, SqlQuery>;

/// A statement that is put together from parts, each with its values.
pub(crate) struct Asking<'a> {
    statement: Statement<'a>,
    values: usize,
    /// Whether it has what somebody typed.
    typed: bool,
}

impl<'a> Asking<'a> {
    pub(crate) fn new(text: &str) -> Self {
        // Text: what is asked has as many parts as somebody typed.
        Asking { statement: sql_query(text).into_boxed(), values: 0, typed: false }
    }

    pub(crate) fn text(mut self, text: &str) -> Self {
        self.statement = self.statement.sql(text);
        self
    }

    pub(crate) fn value<S, V>(mut self, value: V) -> Self
    where
        Pg: diesel::sql_types::HasSqlType<S>,
        V: diesel::serialize::ToSql<S, Pg> + Send + 'a,
        S: Send + 'a,
    {
        self.values += 1;
        self.statement = self.statement.sql(format!("${}", self.values)).bind::<S, V>(value);
        self
    }

    /// It has what somebody typed or chose.
    pub(crate) fn typed(mut self) -> Self {
        self.typed = true;
        self
    }

    /// All rows. What is asked again and again is kept by the server, with its plan; what somebody typed is planned for what they typed.
    pub(crate) async fn load<R>(self, c: &mut Connection) -> Result<Vec<R>>
    where
        R: QueryableByName<Pg> + Send + 'static,
    {
        if self.typed {
            return Ok(diesel_async::RunQueryDsl::load(self.statement, c).await?);
        }
        Ok(Run::load(self.statement, c).await?)
    }

    /// What the sheet shows, as `o`.
    pub(crate) fn shown(self, scope: Scope) -> Self {
        self.among(scope, ["o.person", "o.id"]).text(" AND o.leads AND o.held_at IS NULL AND o.gone_at IS NULL")
    }

    /// What somebody looks at: by whose it is, or by the file that stands for it.
    fn among(self, scope: Scope, [person, shot]: [&str; 2]) -> Self {
        match scope.album {
            None => self.text(&format!(" {person} = ")).value::<SqlUuid, _>(scope.viewer.0),
            Some(album) => {
                let asking = self.text(&format!(" {shot} IN (SELECT i.shot FROM in_album i WHERE i.album = "));
                let asking = asking.value::<SqlUuid, _>(album.0).text(")");
                if !scope.own {
                    return asking;
                }
                asking.text(&format!(" AND {person} = ")).value::<SqlUuid, _>(scope.viewer.0)
            }
        }
    }

    pub(crate) fn taken_in(self, span: Span) -> Self {
        let [from, until] = [span.from, span.until].map(instant);
        self.text(" AND o.taken_local >= ").value::<Timestamp, _>(from).text(" AND o.taken_local < ").value::<Timestamp, _>(until)
    }

    /// What must be so of `o` besides its days. What was put away is in one's library only for those who ask for it.
    ///
    /// What is asked of a picture's files is answered once, for all pictures, and kept: a planner that may choose asks it again for each picture, if it
    /// thinks that there is one. All that must be is one such question; of several, it might compare each with each.
    pub(crate) fn meets(mut self, scope: Scope, sought: Option<&Sought>) -> Self {
        let put_away = sought.is_some_and(|s| s.request.terms.iter().any(|t| t.what == What::PutAway && !t.not));
        self = match (scope.album, put_away) {
            (None, false) => self.text(" AND NOT o.put_away"),
            (None, true) => self.text(" AND o.put_away"),
            // What others put away is theirs to know.
            (Some(_), _) => self,
        };
        let Some(sought) = sought else { return self };
        self.typed = true;
        let since = sought.proven_since;
        let terms = || sought.request.terms.iter();
        let of_files =
            |so: bool| terms().filter(move |t| (t.not != is_denied(&t.what)) != so && is_of_files(&t.what)).map(|t| &t.what);
        let mut asking = self;
        for (n, what) in of_files(true).enumerate() {
            asking = asking
                .text(if n == 0 { " AND o.id IN (WITH so AS MATERIALIZED (" } else { " INTERSECT " })
                .files(scope, what, since);
        }
        if of_files(true).next().is_some() {
            asking = asking.text(") SELECT shot FROM so)");
        }
        for what in of_files(false) {
            asking = asking
                .text(" AND NOT EXISTS (SELECT FROM (WITH otherwise AS MATERIALIZED (")
                .files(scope, what, since)
                .text(") SELECT shot FROM otherwise) x WHERE x.shot = o.id)");
        }
        terms().fold(asking, |asking, term| {
            let and = if term.not { " AND NOT " } else { " AND " };
            match &term.what {
                What::Kind(kind) if !is_of_files(&term.what) => asking.text(and).text("o.kind = ").value::<Text, _>(kind.word()),
                What::By { devices, cameras } => {
                    let devices: Vec<Uuid> = devices.iter().map(|(id, _)| id.0).collect();
                    // Of what nobody knows it is not so, and its opposite is. Asked plainly where that makes no difference: an index is of no use to the other.
                    let (open, close) = if term.not { ("coalesce(", ", false)") } else { ("", "") };
                    let mut asking = asking.text(and).text("(false");
                    if !devices.is_empty() {
                        asking = asking.text(" OR ").text(open).text("o.device = ANY(").value::<Array<SqlUuid>, _>(devices);
                        asking = asking.text(")").text(close);
                    }
                    if !cameras.is_empty() {
                        asking = asking.text(" OR ").text(open).text("o.camera = ANY(").value::<Array<Text>, _>(cameras.clone());
                        asking = asking.text(")").text(close);
                    }
                    asking.text(")")
                }
                What::Near { towns, named, .. } => asking.text(and).near(scope, towns, named),
                What::Within(area) => asking.text(and).within(*area),
                What::Arrived(days) => {
                    let mut asking = asking.text(and).text("(false");
                    for span in days.spans(FIRST_ARRIVAL, since.year() + 1) {
                        let [from, until] = [span.from, span.until].map(|day| house_time(instant(day)));
                        asking = asking.text(" OR o.landed_at >= ").value::<Timestamptz, _>(from);
                        asking = asking.text(" AND o.landed_at < ").value::<Timestamptz, _>(until);
                    }
                    asking.text(")")
                }
                What::PutAway => {
                    asking.text(and).text("(o.put_away AND o.person = ").value::<SqlUuid, _>(scope.viewer.0).text(")")
                }
                // Its days are asked for apart, by the order of the library.
                _ => asking,
            }
        })
    }

    /// The pictures that have a file which is so; of what a picture is only if all of its files are, those that have one which is not.
    fn files(self, scope: Scope, what: &What, proven_since: DateTime<Utc>) -> Self {
        match what {
            What::Screenshot => {
                let asking = self.file(scope).text(" AND (false");
                SCREENSHOTS.iter().fold(asking, |asking, name| asking.text(" OR").named("f", scope, name)).text(")")
            }
            What::Named(text) => {
                let asking = self.text("(").file(scope).text(" AND").named("f", scope, text);
                let asking = asking.text(" UNION ALL SELECT s.shot FROM said s WHERE").said(text).text(" AND");
                asking.among(scope, ["s.person", "s.shot"]).text(")")
            }
            What::Favourite => {
                let asking = self.file(scope).text(" AND f.id IN (SELECT original FROM favourite WHERE person = ");
                asking.value::<SqlUuid, _>(scope.viewer.0).text(")")
            }
            What::In(albums) => {
                let albums: Vec<Uuid> = albums.iter().map(|(id, _)| id.0).collect();
                self.text("SELECT i.shot FROM in_album i WHERE i.album = ANY(").value::<Array<SqlUuid>, _>(albums).text(")")
            }
            What::Copies(Copies::OnlyHome | Copies::Offsite) => self.counted(scope).text(" AND NOT c.away"),
            What::Copies(Copies::Damaged) => self.counted(scope).text(" AND NOT c.home"),
            What::Copies(Copies::Proven) => {
                let asking = self.counted(scope).text(" AND (NOT c.away OR coalesce(c.proven_at < ");
                asking.value::<Timestamptz, _>(proven_since).text(", true))")
            }
            What::Kind(kind) => self.file(scope).text(" AND f.kind = ").value::<Text, _>(kind.word()),
            What::Folder(path) => {
                let [after, before] = below(path);
                let asking = self.file(scope).text(" AND f.folded > ").value::<Text, _>(after);
                asking.text(" AND f.folded < ").value::<Text, _>(before)
            }
            // None of these is asked of files.
            What::Taken(_) | What::Arrived(_) | What::By { .. } | What::Near { .. } | What::Within(_) | What::PutAway => {
                self.file(scope)
            }
        }
    }

    /// A file, as `f`.
    fn file(self, scope: Scope) -> Self {
        let asking = self.text("SELECT f.shot FROM original f WHERE").among(scope, ["f.person", "f.shot"]);
        asking.text(" AND f.held_at IS NULL AND f.gone_at IS NULL")
    }

    /// A file as what is counted of it: `c`.
    fn counted(self, scope: Scope) -> Self {
        let asking = self.text("SELECT f.shot FROM counted c JOIN original f ON f.id = c.original WHERE");
        asking.among(scope, ["c.person", "f.shot"]).text(" AND c.living")
    }

    /// This is said about `o` somewhere.
    pub(crate) fn in_words(self, text: &str) -> Self {
        self.text(" o.id IN (SELECT s.shot FROM said s WHERE").said(text).text(")")
    }

    /// What is said, as `s`, has this somewhere.
    fn said(self, text: &str) -> Self {
        self.text(" s.searched LIKE '%' || plain(").value::<Text, _>(escaped(text)).text(") || '%'")
    }

    /// A name of this file has this somewhere: of somebody else's, its own name; in which folders it is, is not told.
    pub(crate) fn named(self, file: &str, scope: Scope, text: &str) -> Self {
        let escaped = escaped(text);
        let has = |asking: Self, column: &str| {
            asking.text(&format!(" {column} LIKE '%' || plain(")).value::<Text, _>(escaped.clone()).text(") || '%'")
        };
        if scope.own {
            return has(self, &format!("{file}.searched"));
        }
        let asking = self.text(&format!(" ({file}.person = ")).value::<SqlUuid, _>(scope.viewer.0).text(" AND");
        has(has(asking, &format!("{file}.searched")).text(" OR"), &format!("plain({file}.name)")).text(")")
    }
}

/// Between these is what is in a folder or below, by its path as names are compared: "/", and what follows that in the order of all letters.
pub(crate) fn below(folder: &str) -> [String; 2] {
    let folder = folder.to_lowercase();
    [format!("{folder}/"), format!("{folder}0")]
}

/// What LIKE reads as a sign is a letter here.
fn escaped(text: &str) -> String {
    text.chars().flat_map(|c| matches!(c, '%' | '_' | '\\').then_some('\\').into_iter().chain([c])).collect()
}

/// Whether it is asked of all files of a picture: a raw file stands behind the JPEG that was taken with it.
fn is_of_files(what: &What) -> bool {
    match what {
        What::Kind(kind) => *kind == MediaKind::Raw,
        What::Screenshot | What::Favourite | What::Copies(_) | What::In(_) | What::Named(_) | What::Folder(_) => true,
        What::Taken(_) | What::Arrived(_) | What::By { .. } | What::Near { .. } | What::Within(_) | What::PutAway => false,
    }
}

/// Whether a picture is so if none of its files is otherwise.
fn is_denied(what: &What) -> bool {
    matches!(what, What::Copies(Copies::Offsite | Copies::Proven))
}

/// What devices call pictures of their own screens, in the languages of the household's neighbours.
const SCREENSHOTS: [&str; 7] =
    ["screenshot", "screen shot", "bildschirmfoto", "schermafbeelding", "schermafdruk", "captura de pantalla", "capture d’écran"];

/// Nothing came to any library before this year.
const FIRST_ARRIVAL: i32 = 2020;

/// The instant at which the clocks of the house show this; of an hour that they show twice, the first; of one that they pass over, a later one.
fn house_time(shown: NaiveDateTime) -> DateTime<Utc> {
    let found = (0..4).find_map(|h| Local.from_local_datetime(&(shown + TimeDelta::hours(h))).earliest());
    found.map_or_else(|| shown.and_utc(), |at| at.with_timezone(&Utc))
}

/// The first instant of a day, as the database has it.
pub(crate) fn instant(day: NaiveDate) -> NaiveDateTime {
    // PostgreSQL has fewer years than chrono.
    let (first, last) = (NaiveDate::from_ymd_opt(-4000, 1, 1), NaiveDate::from_ymd_opt(200_000, 1, 1));
    day.max(first.unwrap_or(day)).min(last.unwrap_or(day)).and_time(NaiveTime::MIN)
}

#[derive(QueryableByName)]
struct MonthRow {
    #[diesel(sql_type = Timestamp)]
    month: NaiveDateTime,
    #[diesel(sql_type = BigInt)]
    n: i64,
}

#[derive(QueryableByName)]
struct CameraRow {
    #[diesel(sql_type = Text)]
    camera: String,
}

impl Catalog {
    /// What may be asked for: a member's devices, also former ones, their cameras, and the albums that they see; of an album, the cameras of its pictures.
    pub async fn vocabulary(&self, scope: Scope) -> Result<Vocabulary> {
        let (person, mut c) = (scope.viewer, self.connection().await?);
        if scope.album.is_some() {
            let asking = Asking::new("SELECT DISTINCT o.camera FROM original o WHERE o.camera IS NOT NULL AND").shown(scope);
            let cameras: Vec<CameraRow> = asking.text(" ORDER BY 1 LIMIT 1000").load(&mut c).await?;
            let cameras = cameras.into_iter().map(|row| row.camera).collect();
            drop(c);
            let places = Places::of(&self.towns_told(scope).await?);
            return Ok(Vocabulary {
                devices: Vec::new(),
                cameras,
                albums: Vec::new(),
                places,
                folder: String::new(),
                of_others: !scope.own,
            });
        }
        let seen = album_seen::table.filter(album_seen::person.eq(person.0)).select(album_seen::album);
        let albums = album::table.filter(album::id.eq_any(seen)).order((album::name, album::id)).select((album::id, album::name));
        let albums: Vec<(Uuid, String)> = albums.load(&mut c).await?;
        let devices = device::table.filter(device::person.eq(person.0)).order(device::name).select((device::id, device::name));
        let devices: Vec<(Uuid, String)> = devices.load(&mut c).await?;
        // Text: from one camera to the next, as many looks into the index as there are cameras, however many pictures.
        let cameras: Vec<CameraRow> = sql_query(
            "WITH RECURSIVE known (camera) AS (
                 (SELECT camera FROM original WHERE person = $1 AND camera IS NOT NULL AND leads AND held_at IS NULL AND gone_at IS NULL ORDER BY camera LIMIT 1)
                 UNION ALL
                 SELECT (SELECT o.camera FROM original o WHERE o.person = $1 AND o.camera > k.camera AND o.leads AND o.held_at IS NULL AND o.gone_at IS NULL ORDER BY o.camera LIMIT 1)
                 FROM known k WHERE k.camera IS NOT NULL
             ) SELECT camera FROM known WHERE camera IS NOT NULL LIMIT 1000",
        )
        .bind::<SqlUuid, _>(person.0)
        .load(&mut c)
        .await?;
        let folder: Option<String> = person::table.find(person.0).select(person::folder).get_result(&mut c).await.optional()?;
        drop(c);
        Ok(Vocabulary {
            folder: folder.unwrap_or_default(),
            places: Places::of(&self.towns_told(scope).await?),
            devices: devices.into_iter().map(|(id, name)| (ypogeion_core::DeviceId(id), name)).collect(),
            cameras: cameras.into_iter().map(|row| row.camera).collect(),
            of_others: false,
            albums: albums.into_iter().map(|(id, name)| (ypogeion_core::AlbumId(id), name)).collect(),
        })
    }

    /// The years of the first and of the last picture; none without any.
    pub async fn years(&self, scope: Scope) -> Result<Option<(i32, i32)>> {
        let mut c = self.connection().await?;
        let mut end = async |order: &str| -> Result<Option<i32>> {
            let asking = Asking::new("SELECT o.taken_local AS month, 1::bigint AS n FROM original o WHERE").shown(scope);
            let asking = asking.text(&format!(" ORDER BY o.taken_local {order}, o.id {order} LIMIT 1"));
            let rows: Vec<MonthRow> = asking.load(&mut c).await?;
            Ok(rows.first().map(|row| row.month.year()))
        };
        let (first, last) = (end("ASC").await?, end("DESC").await?);
        Ok(first.zip(last))
    }

    /// The months with pictures that somebody asks for, newest first, with their counts; of everything, if nothing is sought.
    pub async fn months_of(&self, scope: Scope, sought: Option<&Sought>) -> Result<Vec<(String, u64)>> {
        let select = "SELECT date_trunc('month', o.taken_local) AS month, count(*) AS n FROM ";
        let asking = match sought.and_then(Sought::days) {
            Some([]) => return Ok(Vec::new()),
            None => Asking::new(select).text("original o WHERE").shown(scope),
            Some([one]) => Asking::new(select).text("original o WHERE").shown(scope).taken_in(*one),
            Some(many) => {
                let (from, until): (Vec<_>, Vec<_>) = many.iter().map(|s| (instant(s.from), instant(s.until))).unzip();
                let asking = Asking::new(select)
                    .text("unnest(")
                    .value::<Array<Timestamp>, _>(from)
                    .text(", ")
                    .value::<Array<Timestamp>, _>(until);
                asking.text(") AS s (f, u) JOIN original o ON o.taken_local >= s.f AND o.taken_local < s.u WHERE").shown(scope)
            }
        };
        let asking = asking.meets(scope, sought).text(" GROUP BY 1 ORDER BY 1 DESC");
        let mut c = self.connection().await?;
        let rows: Vec<MonthRow> = asking.load(&mut c).await?;
        Ok(rows.into_iter().map(|r| (r.month.format("%Y-%m").to_string(), unsigned(r.n))).collect())
    }

    /// How many pictures somebody asks for: no more than `most` are counted.
    pub async fn count_of(&self, scope: Scope, sought: &Sought, most: u64) -> Result<u64> {
        let (mut counted, mut c) = (0, self.connection().await?);
        for span in sought.within(Span::ALL) {
            let asking = Asking::new("SELECT count(*) AS n FROM (SELECT FROM original o WHERE")
                .shown(scope)
                .taken_in(span)
                .meets(scope, Some(sought));
            let asking =
                asking.text(" LIMIT ").value::<BigInt, _>(i64::try_from(most - counted).unwrap_or(i64::MAX)).text(") found");
            let found: Vec<Count> = asking.load(&mut c).await?;
            counted += found.first().map_or(0, |row| unsigned(row.n));
            if counted >= most {
                break;
            }
        }
        Ok(counted)
    }
}
