//! Where pictures were taken: as a map shows it, and by the names of towns.

use ypogeion_catalog::{find::Sought, originals::OriginalRow, scope::Scope};
use ypogeion_core::{
    PersonId,
    spot::{self, Area, LEVELS, Spot},
    town,
};
use ypogeion_wire::place::{MapCell, MapCells, Town};

use crate::{
    engine::Engine,
    error::{Error, Result},
};

/// From this level on, what is near a picture of a cell is near all of it: cells are at most 10 km wide.
const NAMED: u8 = 12;

/// What a map of this part of the earth shows, in cells of this level.
pub async fn map(engine: &Engine, scope: Scope, (area, level): (&str, u8), sought: Option<&Sought>) -> Result<MapCells> {
    let area = Area::read(area)
        .ok_or_else(|| Error::invalid("A part of the earth is written like 52.15/4.48..52.17/4.5: south/west..north/east."))?;
    if !LEVELS.contains(&level) {
        return Err(Error::invalid(format!("Pictures are counted in cells of the levels {LEVELS:?}.")));
    }
    let found = engine.catalog.cells(scope, (area, level), sought).await?;
    let cells = found.cells.into_iter().map(|c| MapCell {
        at: (c.middle.north(), c.middle.east()),
        count: c.count,
        picture: c.picture,
        preview: c.preview,
        turned: c.turn.quarters(),
        near: c.near.filter(|t| level >= NAMED && t.town.is_near(t.spot, c.middle)).map(|t| t.town.near(t.spot, c.middle)),
        line: spot::area_of(level, c.cell).to_string(),
    });
    Ok(MapCells { cells: cells.collect(), more: found.more })
}

/// The towns that somebody's pictures were taken near, those with most first.
pub async fn towns(engine: &Engine, person: PersonId) -> Result<Vec<Town>> {
    let towns = engine.catalog.towns_near(person).await?.into_iter().map(|t| Town {
        country: town::country(&t.at.town.country).to_owned(),
        name: t.at.town.name,
        region: t.at.town.region,
        at: (t.at.spot.north(), t.at.spot.east()),
        count: t.count,
        picture: t.picture,
    });
    Ok(towns.collect())
}

/// What a picture was taken near, in words.
pub(crate) async fn near(engine: &Engine, row: &OriginalRow) -> Result<Option<String>> {
    let Some(spot) = row.facts.place.and_then(|(north, east)| Spot::new(north, east)) else { return Ok(None) };
    Ok(engine.catalog.town_of(row.id).await?.map(|t| t.town.near(t.spot, spot)))
}
