//! Where pictures were taken. Everybody sees their own, and what albums show them.

use actix_web::{get, web};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_core::OriginalId;
use ypogeion_engine::{find as finding, given, places};
use ypogeion_wire::{
    given::Beside,
    place::{MapCells, Town},
};

use super::library::scope;
use crate::{app::App, caller::Caller, failure::Answer};

/// What a map shows.
#[derive(Deserialize, IntoParams)]
pub struct MapQuery {
    /// The part of the earth: `52.15/4.48..52.17/4.5`, degrees north and east of its south-western corner and of its north-eastern one. Over the date
    /// line, its west is greater than its east.
    area: String,
    /// How often the earth is halved, in both directions, to get cells: 4, 6, 8, 10, 12, 14, 16 or 18.
    level: u8,
    /// Only what this line finds, see `/api/find`.
    find: Option<String>,
    /// Only what is in this album, whosever it is; none: one's own library.
    album: Option<Uuid>,
}

/// How many pictures were taken where, in cells of a map.
#[utoipa::path(params(MapQuery), responses((status = 200, body = MapCells)))]
#[get("/api/map")]
pub async fn show_map(app: web::Data<App>, caller: Caller, query: web::Query<MapQuery>) -> Answer<web::Json<MapCells>> {
    let scope = scope(&app, &caller, query.album).await?;
    let sought = finding::sought(&app.engine, scope, query.find.as_deref()).await?;
    Ok(web::Json(places::map(&app.engine, scope, (&query.area, query.level), sought.as_ref()).await?))
}

/// The towns that one's own pictures were taken near, those with most first.
#[utoipa::path(responses((status = 200, body = Vec<Town>)))]
#[get("/api/towns")]
pub async fn list_towns(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Town>>> {
    Ok(web::Json(places::towns(&app.engine, caller.owner()?).await?))
}

/// Where the pictures were taken that were taken next before and next after a picture of one's own, within a day.
#[utoipa::path(responses((status = 200, body = Vec<Beside>)))]
#[get("/api/originals/{id}/beside")]
pub async fn list_beside(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Vec<Beside>>> {
    let row = app.engine.catalog.original(OriginalId(*id), Some(caller.owner()?)).await?;
    Ok(web::Json(given::beside(&app.engine, row.id).await?))
}
