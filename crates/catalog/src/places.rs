//! Where pictures were taken: the towns that they were taken near, and the cells of the earth that a map shows (migration 48).

use chrono::NaiveDateTime;
use diesel::{
    QueryableByName,
    result::Error as DieselError,
    sql_query,
    sql_types::{Array, BigInt, Integer, Nullable, SmallInt, Text, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{
    OriginalId, PersonId,
    spot::{Area, DEEPEST, Spot},
    town::Town,
    turn::Turn,
};

use crate::{
    Catalog, CatalogError, Result,
    db::*,
    find::{Asking, Sought, instant},
    originals::Touched,
    scope::Scope,
    unsigned,
};

/// No map has more cells, and nobody's pictures were taken near more towns that are told.
const MOST: i64 = 1000;
/// What a map shows of what is looked for, it counts picture by picture: of so many.
const MOST_COUNTED: i64 = 50_000;
/// An area is looked for in about so many ranges of cells.
const RANGES: usize = 16;

/// A town, and where it is.
#[derive(Clone, Debug)]
pub struct TownAt {
    /// The town.
    pub town: Town,
    /// Where it is.
    pub spot: Spot,
}

/// A town that pictures were taken near.
#[derive(Clone, Debug)]
pub struct NearTown {
    /// The town, and where it is.
    pub at: TownAt,
    /// How many.
    pub count: u64,
    /// The newest of them.
    pub picture: OriginalId,
}

/// A cell of a map with pictures in it.
#[derive(Clone, Debug)]
pub struct Cell {
    /// Its number.
    pub cell: i64,
    /// How many.
    pub count: u64,
    /// In the middle of them.
    pub middle: Spot,
    /// One of them.
    pub picture: OriginalId,
    /// Its preview: `waiting`, `ready` or `none`.
    pub preview: String,
    /// How somebody turned it.
    pub turn: Turn,
    /// The town that one was taken near, if it is known yet.
    pub near: Option<TownAt>,
}

/// The cells of a map.
#[derive(Clone, Debug)]
pub struct Cells {
    /// Those with most pictures first.
    pub cells: Vec<Cell>,
    /// There are more, or more pictures in them than were counted.
    pub more: bool,
}

#[derive(Queryable, Selectable, Clone)]
#[diesel(table_name = town)]
struct TownRow {
    id: i32,
    name: String,
    region: String,
    country: String,
    north: f64,
    east: f64,
}

impl TryFrom<TownRow> for TownAt {
    type Error = CatalogError;
    fn try_from(r: TownRow) -> Result<Self> {
        let nowhere = || DieselError::DeserializationError(format!("the town {} is nowhere", r.id).into());
        let spot = Spot::new(r.north, r.east).ok_or_else(nowhere)?;
        Ok(TownAt { town: Town { id: r.id, name: r.name, region: r.region, country: r.country }, spot })
    }
}

#[derive(QueryableByName)]
struct CellRow {
    #[diesel(sql_type = BigInt)]
    cell: i64,
    #[diesel(sql_type = BigInt)]
    n: i64,
    #[diesel(sql_type = BigInt)]
    x: i64,
    #[diesel(sql_type = BigInt)]
    y: i64,
    #[diesel(sql_type = SqlUuid)]
    picture: Uuid,
    #[diesel(sql_type = Text)]
    preview: String,
    #[diesel(sql_type = Nullable<SmallInt>)]
    turned: Option<i16>,
    #[diesel(sql_type = Nullable<Integer>)]
    town: Option<i32>,
}

#[derive(QueryableByName)]
struct TownId {
    #[diesel(sql_type = Integer)]
    town: i32,
}

#[derive(QueryableByName)]
struct NewestRow {
    #[diesel(sql_type = Integer)]
    town: i32,
    #[diesel(sql_type = BigInt)]
    n: i64,
    #[diesel(sql_type = SqlUuid)]
    picture: Uuid,
}

impl Asking<'_> {
    /// Taken near one of these towns, or named like it.
    pub(crate) fn near(self, scope: Scope, towns: &[i32], named: &str) -> Self {
        let asking = self.text(" (coalesce(o.town = ANY(").value::<Array<Integer>, _>(towns.to_vec()).text("), false)");
        if named.is_empty() {
            asking.text(")")
        } else {
            asking.text(" OR").named("o", scope, named).text(" OR").in_words(named).text(")")
        }
    }

    /// Taken in cells that this part of the earth has, and in few beside them.
    fn in_cells(self, area: Area) -> Self {
        let mut asking = self.text("(false");
        for (from, until) in area.ranges(RANGES) {
            asking = asking.text(" OR o.spot >= ").value::<BigInt, _>(from).text(" AND o.spot < ").value::<BigInt, _>(until);
        }
        asking.text(")")
    }

    /// Taken in this part of the earth: found by cells, and held to it.
    pub(crate) fn within(self, area: Area) -> Self {
        let mut asking = self.text(" (o.spot IS NOT NULL AND ").in_cells(area).text(" AND (false");
        for cells in area.cells() {
            asking = asking.text(" OR spot_column(o.spot) BETWEEN ").value::<BigInt, _>(cells.columns.0).text(" AND ");
            asking = asking.value::<BigInt, _>(cells.columns.1).text(" AND spot_row(o.spot) BETWEEN ");
            asking = asking.value::<BigInt, _>(cells.rows.0).text(" AND ").value::<BigInt, _>(cells.rows.1);
        }
        asking.text("))")
    }
}

impl Catalog {
    /// The towns that the pictures were taken near that somebody looks at, no more than a thousand: those with most pictures, where that is known.
    pub(crate) async fn towns_told(&self, scope: Scope) -> Result<Vec<Town>> {
        let mut c = self.connection().await?;
        let ids: Vec<i32> = if scope.album.is_some() {
            let asking = Asking::new("SELECT DISTINCT o.town FROM original o WHERE o.town IS NOT NULL AND").shown(scope);
            let rows: Vec<TownId> = asking.text(" LIMIT ").value::<BigInt, _>(MOST).load(&mut c).await?;
            rows.into_iter().map(|row| row.town).collect()
        } else {
            let own = town_count::table.filter(town_count::person.eq(scope.viewer.0)).group_by(town_count::town);
            let most = own.having(total(town_count::n).gt(0)).order((total(town_count::n).desc(), town_count::town)).limit(MOST);
            most.select(town_count::town).load(&mut c).await?
        };
        drop(c);
        Ok(self.towns(&ids).await?.into_iter().map(|t| t.town).collect())
    }

    /// Towns by their numbers, in the order of these.
    pub(crate) async fn towns(&self, ids: &[i32]) -> Result<Vec<TownAt>> {
        let mut c = self.connection().await?;
        let rows: Vec<TownRow> =
            town::table.filter(town::id.eq_any(ids)).order(town::id).select(TownRow::as_select()).load(&mut c).await?;
        let find = |id: &i32| rows.binary_search_by_key(id, |row| row.id).ok().map(|n| rows[n].clone());
        ids.iter().filter_map(find).map(TownAt::try_from).collect()
    }

    /// The town that a picture was taken near, and where it was taken as far as that is kept; none: it is not known, or not yet.
    pub async fn town_of(&self, id: OriginalId) -> Result<Option<TownAt>> {
        let mut c = self.connection().await?;
        let row: Option<TownRow> = original::table
            .inner_join(town::table)
            .filter(original::id.eq(id.0))
            .select(TownRow::as_select())
            .get_result(&mut c)
            .await
            .optional()?;
        row.map(TownAt::try_from).transpose()
    }

    /// The towns that a member's pictures were taken near, those with most first, each with its newest picture.
    pub async fn towns_near(&self, person: PersonId) -> Result<Vec<NearTown>> {
        let mut c = self.connection().await?;
        // Text: of each town the newest picture, by the index.
        let rows: Vec<NewestRow> = sql_query(
            "SELECT t.town, t.n, o.id AS picture FROM (
                 SELECT town, sum(n)::bigint AS n FROM town_count WHERE person = $1 GROUP BY town HAVING sum(n) > 0 ORDER BY 2 DESC, 1 LIMIT $2
             ) t CROSS JOIN LATERAL (
                 SELECT o.id FROM original o WHERE o.person = $1 AND o.town = t.town AND o.leads AND NOT o.put_away AND o.held_at IS NULL AND o.gone_at IS NULL
                 ORDER BY o.taken_local DESC, o.id DESC LIMIT 1
             ) o ORDER BY t.n DESC, t.town",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<BigInt, _>(MOST)
        .load(&mut c)
        .await?;
        drop(c);
        let towns = self.towns(&rows.iter().map(|r| r.town).collect::<Vec<_>>()).await?;
        let all =
            towns.into_iter().zip(rows).map(|(at, r)| NearTown { at, count: unsigned(r.n), picture: OriginalId(r.picture) });
        Ok(all.collect())
    }

    /// The cells of a level, one of [`ypogeion_core::spot::LEVELS`], with pictures in a part of the earth: of one's library as they are counted, of an album or of
    /// what is sought picture by picture.
    pub async fn cells(&self, scope: Scope, (area, level): (Area, u8), sought: Option<&Sought>) -> Result<Cells> {
        let by = i32::from(2 * (DEEPEST - level));
        let ranges = area.ranges(RANGES).into_iter().map(|(from, until)| (from >> by, ((until - 1) >> by) + 1));
        let (from, until): (Vec<i64>, Vec<i64>) = ranges.unzip();
        let mut c = self.connection().await?;
        let rows: Vec<CellRow> = match (scope.album, sought) {
            (None, None) => {
                let asking = Asking::new(
                    "SELECT f.cell, f.n, f.x, f.y, o.id AS picture, o.preview, o.turned, o.town FROM (
                     SELECT cell, sum(n)::bigint AS n, sum(x)::bigint AS x, sum(y)::bigint AS y FROM spot_count WHERE level = ",
                );
                let asking =
                    asking.value::<SmallInt, _>(i16::from(level)).text(" AND person = ").value::<SqlUuid, _>(scope.viewer.0);
                let asking = asking.text(" AND cell >= ").value::<BigInt, _>(from.first().copied().unwrap_or_default());
                let asking = asking.text(" AND cell < ").value::<BigInt, _>(until.last().copied().unwrap_or_default());
                let asking = asking.text(" AND EXISTS (SELECT FROM unnest(").value::<Array<BigInt>, _>(from).text(", ");
                let asking = asking.value::<Array<BigInt>, _>(until).text(") AS r (f, u) WHERE cell >= r.f AND cell < r.u)");
                let asking =
                    asking.text(" GROUP BY cell HAVING sum(n) > 0 ORDER BY 2 DESC, 1 LIMIT ").value::<BigInt, _>(MOST + 1);
                // Of each cell one picture, by the index.
                let asking = asking
                    .text(") f CROSS JOIN LATERAL (SELECT o.id, o.preview, (o.facts ->> 'turned')::smallint AS turned, o.town FROM original o WHERE")
                    .shown(scope)
                    .meets(scope, None);
                let asking =
                    asking.text(" AND o.spot >= f.cell << ").value::<Integer, _>(by).text(" AND o.spot < (f.cell + 1) << ");
                let asking = asking.value::<Integer, _>(by).text(" ORDER BY o.spot LIMIT 1) o ORDER BY f.n DESC, f.cell");
                asking.load(&mut c).await?
            }
            (_, sought) => {
                let asking = Asking::new("SELECT s.spot >> ").value::<Integer, _>(by);
                let asking = asking.text(
                    " AS cell, count(*) AS n, sum(spot_column(s.spot))::bigint AS x, sum(spot_row(s.spot))::bigint AS y,
                     (array_agg(s.id))[1] AS picture, (array_agg(s.preview))[1] AS preview, (array_agg(s.turned))[1] AS turned, (array_agg(s.town))[1] AS town
                     FROM (SELECT o.spot, o.id, o.preview, (o.facts ->> 'turned')::smallint AS turned, o.town FROM original o WHERE",
                );
                let asking =
                    asking.shown(scope).text(" AND o.spot IS NOT NULL AND ").in_cells(area).meets(scope, sought).in_spans(sought);
                let asking =
                    asking.text(" LIMIT ").value::<BigInt, _>(MOST_COUNTED).text(") s GROUP BY 1 ORDER BY 2 DESC, 1 LIMIT ");
                asking.value::<BigInt, _>(MOST + 1).load(&mut c).await?
            }
        };
        drop(c);
        let counted: i64 = rows.iter().map(|r| r.n).sum();
        let is_counted = scope.album.is_some() || sought.is_some();
        let more = rows.len() as i64 > MOST || is_counted && counted >= MOST_COUNTED;
        let mut near: Vec<i32> = rows.iter().filter_map(|r| r.town).collect();
        near.sort_unstable();
        near.dedup();
        let towns = self.towns(&near).await?;
        let cells = rows.into_iter().take(MOST as usize).filter_map(|r| {
            let near = r.town.and_then(|id| towns.iter().find(|t| t.town.id == id)).cloned();
            let middle = Spot::middle(r.n, r.x, r.y)?;
            Some(Cell {
                cell: r.cell,
                count: unsigned(r.n),
                middle,
                picture: OriginalId(r.picture),
                preview: r.preview,
                turn: Turn::of(r.turned.unwrap_or_default().into()),
                near,
            })
        });
        Ok(Cells { cells: cells.collect(), more })
    }

    /// Spots at which a member's pictures were taken of which nobody knows yet what they are near.
    pub async fn spots_without_town(&self, person: PersonId, limit: i64) -> Result<Vec<Spot>> {
        let mut c = self.connection().await?;
        let without =
            original::table.filter(original::person.eq(person.0).and(original::spot.is_not_null()).and(original::town.is_null()));
        let spots: Vec<i64> =
            without.select(original::spot.assume_not_null()).distinct().order(original::spot).limit(limit).load(&mut c).await?;
        Ok(spots.into_iter().map(Spot::of_cell).collect())
    }

    /// What the pictures are near that a member took at these spots: `id` of a town that is found is none yet. Returns those pictures.
    pub async fn name_spots(&self, person: PersonId, found: &[(Spot, TownAt)]) -> Result<Vec<Touched>> {
        let mut c = self.async_commit_connection().await?;
        let named = whole!(c, {
            let rows = found.iter().map(|(_, t)| {
                let (name, region, country) = (&t.town.name, &t.town.region, &t.town.country);
                let known = (town::name.eq(name), town::region.eq(region), town::country.eq(country));
                (known, town::north.eq(t.spot.north()), town::east.eq(t.spot.east()))
            });
            insert_into(town::table).values(rows.collect::<Vec<_>>()).on_conflict_do_nothing().execute(c).await?;
            let mut named = Vec::new();
            for (spot, at) in found {
                let is =
                    town::name.eq(&at.town.name).and(town::region.eq(&at.town.region)).and(town::country.eq(&at.town.country));
                let is = is.and(town::north.eq(at.spot.north())).and(town::east.eq(at.spot.east()));
                let id: i32 = town::table.filter(is).select(town::id).get_result(c).await?;
                let there = original::table
                    .filter(original::person.eq(person.0).and(original::spot.eq(spot.cell())).and(original::town.is_null()));
                let touched: Vec<(Uuid, NaiveDateTime)> =
                    update(there).set(original::town.eq(id)).returning((original::id, original::taken_local)).load(c).await?;
                named.extend(touched.into_iter().map(|(id, taken_local)| Touched { person, id: OriginalId(id), taken_local }));
            }
            Ok::<_, CatalogError>(named)
        })
        .await?;
        // How many there are near each is counted.
        self.counted.notify_one();
        Ok(named)
    }
}

impl<'a> Asking<'a> {
    /// Taken on one of the days that are sought.
    fn in_spans(self, sought: Option<&Sought>) -> Self {
        let Some(days) = sought.and_then(Sought::days) else { return self };
        let mut asking = self.text(" AND (false");
        for span in days {
            asking = asking.text(" OR o.taken_local >= ").value::<diesel::sql_types::Timestamp, _>(instant(span.from));
            asking = asking.text(" AND o.taken_local < ").value::<diesel::sql_types::Timestamp, _>(instant(span.until));
        }
        asking.text(")")
    }
}
