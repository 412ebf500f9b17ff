//! The library as people see it: months, pages, one original.

use chrono::{DateTime, NaiveDate, NaiveDateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{
    DeviceId, Digest, OriginalId, PersonId, capture::Facts, filing::FiledPath, find::days::Span, ledger::HeldRecord, turn::Turn,
};

use diesel::{
    QueryableByName,
    sql_types::{BigInt, Bool, Jsonb, Nullable, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};

use crate::{
    Catalog, CatalogError, Count, Result,
    columns::{HashColumn, PathColumn},
    db::*,
    find::{Asking, Sought, instant},
    scope::Scope,
    unsigned,
};

/// An original as the contact sheet shows it.
#[derive(Clone, Debug)]
pub struct Card {
    /// Its id.
    pub id: OriginalId,
    /// Where it is in the library.
    pub path: String,
    /// The kind's word.
    pub kind: String,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// What was read from it.
    pub facts: Facts,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// Whether the copy at home is good.
    pub home: bool,
    /// Whether a store has it.
    pub offsite: bool,
    /// When it was last read back from a store.
    pub proven_at: Option<DateTime<Utc>>,
    /// What else belongs to its shot: the parts' words, joined by commas; empty for one that is alone.
    pub company: String,
    /// Whether whoever looks likes it best.
    pub favourite: bool,
    /// Whether it is theirs who looks.
    pub own: bool,
    /// What is said about it, in short.
    pub words: Option<String>,
}

/// No month has more pictures; further ones are not on its page.
const MOST_IN_A_MONTH: i64 = 200_000;

/// A picture of the contact sheet, before anything but its size is known.
#[derive(Clone, Copy, Debug)]
pub struct PictureSize {
    /// Its id.
    pub id: OriginalId,
    /// What a clock on the wall showed when it was taken.
    pub taken_local: NaiveDateTime,
    /// Pixels.
    pub width: Option<u32>,
    /// Pixels.
    pub height: Option<u32>,
}

/// An original that is otherwise now.
#[derive(Clone, Copy, Debug)]
pub struct Touched {
    /// Whose it is.
    pub person: PersonId,
    /// Which.
    pub id: OriginalId,
    /// What a clock on the wall showed when it was taken.
    pub taken_local: NaiveDateTime,
}

/// An original with its row's facts.
#[derive(Clone, Debug)]
pub struct OriginalRow {
    /// Its id.
    pub id: OriginalId,
    /// Whose it is.
    pub person: PersonId,
    /// The device that sent it first.
    pub device: Option<DeviceId>,
    /// That device's name.
    pub device_name: Option<String>,
    /// What its bytes are.
    pub digest: Digest,
    /// How many.
    pub size: u64,
    /// Name on the device.
    pub name: String,
    /// Where it is in the library.
    pub path: FiledPath,
    /// The kind's word.
    pub kind: String,
    /// The instant it was taken.
    pub taken_at: DateTime<Utc>,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// The rule's word.
    pub taken_rule: String,
    /// What was read from it.
    pub facts: Facts,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// When it came home.
    pub landed_at: DateTime<Utc>,
    /// The original that stands for its shot; itself, if it is alone.
    pub shot: OriginalId,
    /// Whether its time was corrected afterwards.
    pub corrected: bool,
    /// The album or folder on its device.
    pub source: String,
    /// The file's time there.
    pub file_time: Option<DateTime<Utc>>,
    /// Set while it is in holding, and after that.
    pub held: Option<HeldRecord>,
    /// When it left the home disk for good.
    pub gone_at: Option<DateTime<Utc>>,
    /// Whether its picture was put away.
    pub put_away: bool,
    /// Which state of its row this is: another one after each change of it.
    pub version: String,
}

#[derive(QueryableByName)]
struct CardRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    path: String,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
    #[diesel(sql_type = Jsonb)]
    facts: serde_json::Value,
    #[diesel(sql_type = Text)]
    preview: String,
    #[diesel(sql_type = Nullable<Text>)]
    placeholder: Option<String>,
    #[diesel(sql_type = Bool)]
    home: bool,
    #[diesel(sql_type = Bool)]
    offsite: bool,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    proven_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Text)]
    company: String,
    #[diesel(sql_type = Bool)]
    favourite: bool,
    #[diesel(sql_type = SqlUuid)]
    person: Uuid,
    #[diesel(sql_type = Nullable<Text>)]
    words: Option<String>,
}

#[derive(QueryableByName)]
struct SizeRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Timestamp)]
    taken_local: NaiveDateTime,
    #[diesel(sql_type = Nullable<Text>)]
    width: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    height: Option<String>,
}

#[derive(QueryableByName)]
struct IdRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
}

/// An original that a ledger does not name yet, and which state the row of its copy there was in.
#[derive(Debug)]
pub struct Unlisted {
    /// The original.
    pub original: OriginalRow,
    pub(crate) copy: String,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = original)]
pub(crate) struct FullRow {
    id: Uuid,
    person: Uuid,
    device: Option<Uuid>,
    #[diesel(select_expression = device::name.nullable())]
    device_name: Option<String>,
    digest: HashColumn,
    size: i64,
    name: String,
    path: PathColumn,
    kind: String,
    taken_at: DateTime<Utc>,
    taken_local: NaiveDateTime,
    taken_rule: String,
    facts: serde_json::Value,
    preview: String,
    landed_at: DateTime<Utc>,
    shot: Uuid,
    #[diesel(select_expression = original::correction.is_not_null())]
    corrected: bool,
    source: String,
    file_time: Option<DateTime<Utc>>,
    held_at: Option<DateTime<Utc>>,
    gone_at: Option<DateTime<Utc>>,
    put_away: bool,
    #[diesel(select_expression = held::until.nullable())]
    held_until: Option<DateTime<Utc>>,
    #[diesel(select_expression = held::was_at.nullable())]
    was_at: Option<PathColumn>,
    #[diesel(select_expression = OriginalVersion, select_expression_type = OriginalVersion)]
    version: String,
}

/// Facts of a later version may hold what this one does not know; those are passed over.
pub(crate) fn facts_of(value: serde_json::Value) -> Facts {
    serde_json::from_value(value).unwrap_or_default()
}

/// Originals with all that [`FullRow`] asks for.
macro_rules! full {
    () => {
        original::table
            .left_join(device::table)
            .left_join(held::table.on(held::original.eq(original::id).and(original::held_at.is_not_null())))
    };
}

impl TryFrom<FullRow> for OriginalRow {
    type Error = CatalogError;
    fn try_from(r: FullRow) -> Result<Self> {
        Ok(OriginalRow {
            id: OriginalId(r.id),
            person: PersonId(r.person),
            device: r.device.map(DeviceId),
            device_name: r.device_name,
            digest: r.digest.0,
            size: unsigned(r.size),
            name: r.name,
            path: r.path.0,
            kind: r.kind,
            taken_at: r.taken_at,
            taken_local: r.taken_local,
            taken_rule: r.taken_rule,
            facts: facts_of(r.facts),
            preview: r.preview,
            landed_at: r.landed_at,
            shot: OriginalId(r.shot),
            corrected: r.corrected,
            source: r.source,
            file_time: r.file_time,
            held: match (r.held_at, r.was_at) {
                (Some(at), Some(was_at)) => Some(HeldRecord { at, until: r.held_until, was_at: was_at.0 }),
                _ => None,
            },
            gone_at: r.gone_at,
            put_away: r.put_away,
            version: r.version,
        })
    }
}

impl Catalog {
    /// The months in which a member took something, newest first, with their counts of shots.
    pub async fn months(&self, person: PersonId) -> Result<Vec<(String, u64)>> {
        let mut c = self.connection().await?;
        let rows: Vec<(NaiveDate, i64)> = counts::table
            .filter(counts::about.eq(person.0).and(counts::fact.eq("month")))
            .group_by(counts::day)
            .having(total(counts::n).gt(0))
            .order(counts::day.desc())
            .select((counts::day, total(counts::n)))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(day, n)| (day.format("%Y-%m").to_string(), unsigned(n))).collect())
    }

    /// A page of shots, newest first, each by the original that stands for it: of a span, and of what is sought, if anything is. `after` is
    /// the last one of the page before.
    pub async fn originals(
        &self,
        scope: Scope,
        span: Span,
        after: Option<(NaiveDateTime, OriginalId)>,
        limit: i64,
        sought: Option<&Sought>,
    ) -> Result<Vec<Card>> {
        let mut cards: Vec<Card> = Vec::new();
        for span in sought.map_or_else(|| vec![span], |s| s.within(span)) {
            let left = limit - cards.len() as i64;
            if left == 0 {
                break;
            }
            cards.extend(self.page(scope, span, after, left, sought).await?);
        }
        Ok(cards)
    }

    async fn page(
        &self,
        scope: Scope,
        span: Span,
        after: Option<(NaiveDateTime, OriginalId)>,
        limit: i64,
        sought: Option<&Sought>,
    ) -> Result<Vec<Card>> {
        // One upper bound, and it is always there: an index begins at it. Of two, it would begin at one and walk to the other.
        let until = (instant(span.until), Uuid::nil());
        let before = after.map_or(until, |(time, id)| until.min((time, id.0)));
        // Text: what is asked of each card is asked of this page's alone, by a query of its own for each.
        let asking = Asking::new(
            "SELECT o.id, o.person, o.path, o.kind, o.taken_local, o.facts, o.preview, o.placeholder, s.home, s.offsite, s.proven_at, p.company, p.favourite,
                    (SELECT left(coalesce(nullif(w.title, ''), split_part(w.caption, E'\\n', 1)), 200) FROM said w WHERE w.shot = o.id) AS words
             FROM (SELECT * FROM original o WHERE",
        )
        .shown(scope)
        .text(" AND o.taken_local >= ")
        .value::<Timestamp, _>(instant(span.from))
        .text(" AND (o.taken_local, o.id) < (")
        .value::<Timestamp, _>(before.0)
        .text(", ")
        .value::<SqlUuid, _>(before.1)
        .text(")")
        .meets(scope, sought)
        .text(" ORDER BY o.taken_local DESC, o.id DESC LIMIT ")
        .value::<BigInt, _>(limit)
        .text(
            ") o, LATERAL (
                 SELECT coalesce(bool_or(s.good) FILTER (WHERE s.place = '00000000-0000-0000-0000-000000000000'), false) AS home,
                        coalesce(bool_or(s.good) FILTER (WHERE a.id IS NOT NULL), false) AS offsite,
                        max(s.proven_at) FILTER (WHERE a.id IS NOT NULL AND s.good) AS proven_at
                 FROM standing s LEFT JOIN store a ON a.id = s.place AND a.away WHERE s.original = o.id
             ) s, LATERAL (
                 SELECT coalesce(string_agg(f.part, ',' ORDER BY f.part) FILTER (WHERE f.id <> o.id), '') AS company,
                        coalesce(bool_or(v.person IS NOT NULL), false) AS favourite
                 FROM living f LEFT JOIN favourite v ON v.original = f.id AND v.person = ",
        )
        .value::<SqlUuid, _>(scope.viewer.0)
        .text(" WHERE f.shot = o.id) p ORDER BY o.taken_local DESC, o.id DESC");
        let mut c = self.connection().await?;
        let rows: Vec<CardRow> = asking.load(&mut c).await?;
        Ok(rows
            .into_iter()
            .map(|r| Card {
                id: OriginalId(r.id),
                path: r.path,
                kind: r.kind,
                taken_local: r.taken_local,
                facts: facts_of(r.facts),
                preview: r.preview,
                placeholder: r.placeholder,
                home: r.home,
                offsite: r.offsite,
                proven_at: r.proven_at,
                company: r.company,
                favourite: r.favourite,
                own: r.person == scope.viewer.0,
                words: r.words.filter(|w| !w.is_empty()),
            })
            .collect())
    }

    /// How large the pictures of a span are, newest first; of what is sought, if anything is.
    pub async fn sizes_of(&self, scope: Scope, span: Span, sought: Option<&Sought>) -> Result<Vec<PictureSize>> {
        let (mut sizes, mut c) = (Vec::new(), self.connection().await?);
        for span in sought.map_or_else(|| vec![span], |s| s.within(span)) {
            let asking = Asking::new(
                "SELECT o.taken_local, o.id, o.facts ->> 'width' AS width, o.facts ->> 'height' AS height FROM original o WHERE",
            );
            let asking =
                asking.shown(scope).taken_in(span).meets(scope, sought).text(" ORDER BY o.taken_local DESC, o.id DESC LIMIT ");
            let rows: Vec<SizeRow> = asking.value::<BigInt, _>(MOST_IN_A_MONTH).load(&mut c).await?;
            sizes.extend(rows);
        }
        // What is not a number is a size that nobody knows.
        let pixels = |text: Option<String>| text.and_then(|t| t.parse().ok());
        let size = |r: SizeRow| PictureSize {
            id: OriginalId(r.id),
            taken_local: r.taken_local,
            width: pixels(r.width),
            height: pixels(r.height),
        };
        Ok(sizes.into_iter().map(size).collect())
    }

    /// How many pictures were taken after one, in a span that it is in.
    pub async fn newer_in(&self, scope: Scope, span: Span, taken: NaiveDateTime, id: OriginalId) -> Result<u64> {
        let asking = Asking::new("SELECT count(*) AS n FROM original o WHERE").shown(scope).taken_in(span).meets(scope, None);
        let asking = asking.text(" AND (o.taken_local, o.id) > (").value::<Timestamp, _>(taken).text(", ");
        let mut c = self.connection().await?;
        let rows: Vec<Count> = asking.value::<SqlUuid, _>(id.0).text(")").load(&mut c).await?;
        Ok(rows.first().map_or(0, |row| unsigned(row.n)))
    }

    /// What is shown next to a picture that was taken then: the next newer one, and the next older one; of what is sought, if
    /// anything is.
    pub async fn beside(
        &self,
        scope: Scope,
        taken: NaiveDateTime,
        id: OriginalId,
        sought: Option<&Sought>,
    ) -> Result<(Option<OriginalId>, Option<OriginalId>)> {
        let day = taken.date();
        let (newer, older) = (Span { from: day, ..Span::ALL }, Span { until: day.succ_opt().unwrap_or(day), ..Span::ALL });
        let spans = |span: Span| sought.map_or_else(|| vec![span], |s| s.within(span));
        // The time bounds what the index is asked for; the id decides among those of one moment.
        let newer = self.next(scope, spans(newer).into_iter().rev(), (taken, id), ["> (", "ASC"], sought).await?;
        let older = self.next(scope, spans(older).into_iter(), (taken, id), ["< (", "DESC"], sought).await?;
        Ok((newer, older))
    }

    /// The first picture in spans beyond one, in an order.
    async fn next(
        &self,
        scope: Scope,
        spans: impl Iterator<Item = Span>,
        (taken, id): (NaiveDateTime, OriginalId),
        [beyond, order]: [&str; 2],
        sought: Option<&Sought>,
    ) -> Result<Option<OriginalId>> {
        let mut c = self.connection().await?;
        for span in spans {
            let asking = Asking::new("SELECT o.id FROM original o WHERE").shown(scope).taken_in(span);
            let asking = asking
                .text(" AND (o.taken_local, o.id) ")
                .text(beyond)
                .value::<Timestamp, _>(taken)
                .text(", ")
                .value::<SqlUuid, _>(id.0);
            let asking = asking.text(")").meets(scope, sought);
            let asking = asking.text(&format!(" ORDER BY o.taken_local {order}, o.id {order} LIMIT 1"));
            let found: Vec<IdRow> = asking.load(&mut c).await?;
            if let Some(row) = found.first() {
                return Ok(Some(OriginalId(row.id)));
            }
        }
        Ok(None)
    }

    /// One original. `person` limits it to that member's.
    pub async fn original(&self, id: OriginalId, person: Option<PersonId>) -> Result<OriginalRow> {
        let mut c = self.connection().await?;
        let this = full!().filter(original::id.eq(id.0).and(original::gone_at.is_null()));
        let row: FullRow = this.select(FullRow::as_select()).get_result(&mut c).await?;
        if person.is_some_and(|p| p.0 != row.person) {
            return Err(CatalogError::NotFound);
        }
        row.try_into()
    }

    /// Where an original is filed, or was, if it has left home and a store may still have it; and what a page knows it by.
    pub async fn last_path(&self, id: OriginalId) -> Result<(String, Touched)> {
        let mut c = self.connection().await?;
        let row = original::table.find(id.0).select((original::path, original::person, original::taken_local));
        let (path, person, taken_local): (String, Uuid, NaiveDateTime) = row.get_result(&mut c).await?;
        Ok((path, Touched { person: PersonId(person), id, taken_local }))
    }

    /// Says how the making of previews ended that are turned so: with a placeholder, or with none to be had. Not so, if somebody turned the picture otherwise
    /// meanwhile: `false`.
    pub async fn set_preview(&self, id: OriginalId, turn: Turn, placeholder: Option<&str>) -> Result<bool> {
        let mut c = self.async_commit_connection().await?;
        let made = if placeholder.is_some() { "ready" } else { "none" };
        let ended = (original::preview.eq(made), original::placeholder.eq(placeholder));
        whole!(c, {
            // Whoever turns it has its row first, too.
            let row = original::table.find(id.0).for_no_key_update().select(original::id);
            row.get_result::<Uuid>(c).await.optional()?;
            let quarters: Option<i16> =
                given_turn::table.find(id.0).select(given_turn::quarters).get_result(c).await.optional()?;
            if Turn::of(quarters.unwrap_or_default().into()) != turn {
                return Ok(false);
            }
            update(original::table.find(id.0)).set(ended).execute(c).await?;
            Ok::<_, CatalogError>(true)
        })
        .await
    }

    /// Where some originals should be in the library: so many of the latest, and of the first.
    pub async fn some_paths(&self, each: i64) -> Result<Vec<FiledPath>> {
        let mut c = self.connection().await?;
        let living = || original::table.filter(is_living()).limit(each).select((original::id, original::path));
        let mut rows: Vec<(Uuid, PathColumn)> = living().order(original::id.desc()).load(&mut c).await?;
        rows.extend(living().order(original::id).load::<(Uuid, PathColumn)>(&mut c).await?);
        rows.sort_unstable_by_key(|(id, _)| *id);
        rows.dedup_by_key(|(id, _)| *id);
        Ok(rows.into_iter().map(|(_, path)| path.0).collect())
    }

    /// What a checkpoint says: originals of which a store has a good copy, in the order of their ids. Also those that the next segment will say:
    /// what changed since the last one is in none of those that the checkpoint stands for as it is now, and a house may be gone before the next.
    pub async fn copies_in(&self, store: ypogeion_core::StoreId, after: OriginalId, limit: i64) -> Result<Vec<OriginalRow>> {
        let mut c = self.connection().await?;
        let there = standing::original.eq(original::id).and(standing::place.eq(store.0)).and(standing::good);
        let rows: Vec<FullRow> = full!()
            .inner_join(standing::table.on(there))
            .filter(original::id.gt(after.0).and(original::gone_at.is_null()))
            .order(original::id)
            .limit(limit)
            .select(FullRow::as_select())
            .load(&mut c)
            .await?;
        rows.into_iter().map(OriginalRow::try_from).collect()
    }

    /// Originals that a store has confirmed and its ledger does not name yet, oldest first. One whose object is just being sent again is not
    /// among them: it comes with its new object.
    pub async fn unlisted(&self, store: ypogeion_core::StoreId, limit: i64) -> Result<Vec<Unlisted>> {
        let mut c = self.connection().await?;
        let there = standing::original.eq(original::id).and(standing::place.eq(store.0)).and(standing::good);
        let sent = object::table.filter(object::store.eq(store.0).and(object::digest.eq(original::digest)));
        let rows: Vec<(FullRow, String)> = full!()
            .inner_join(standing::table.on(there.and(not(standing::listed))))
            .filter(original::gone_at.is_not_null().or(exists(sent.select(object::name))))
            .order(original::id)
            .limit(limit)
            .select((FullRow::as_select(), CopyVersion))
            .load(&mut c)
            .await?;
        rows.into_iter().map(|(row, copy)| Ok(Unlisted { original: row.try_into()?, copy })).collect()
    }
}
