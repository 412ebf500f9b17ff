//! Health, the state of the house, the overview, and the household's own rules.

use actix_web::{HttpResponse, get, patch, web};
use serde::Deserialize;
use utoipa::IntoParams;
use ypogeion_engine::{
    household, overview as numbers,
    three_two_one::{self, Which},
};
use ypogeion_wire::{
    overview::{CopiedFiles, Lamp, Overview},
    people::{Household, HouseholdChange, Place},
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

/// Is the service alive, and does its database answer?
#[utoipa::path(responses((status = 200)))]
#[get("/api/health")]
pub async fn health(app: web::Data<App>) -> Answer<HttpResponse> {
    app.engine.said.health(async || app.engine.catalog.ping().await).await?;
    Ok(HttpResponse::Ok().json(serde_json::json!({ "health": "well", "version": env!("CARGO_PKG_VERSION") })))
}

/// The state of the house in one word and a sentence that names nobody: for a lamp or a dashboard.
#[utoipa::path(responses((status = 200, body = Lamp)))]
#[get("/api/state")]
pub async fn house_state(app: web::Data<App>) -> Answer<web::Json<Lamp>> {
    let (state, reason) = app.engine.said.state(async || numbers::house_state(&app.engine).await).await?;
    Ok(web::Json(Lamp { state, reason: reason.into(), version: env!("CARGO_PKG_VERSION").into() }))
}

/// Numbers and headline: of the household for its keeper, of their own for everybody else.
#[utoipa::path(responses((status = 200, body = Overview)))]
#[get("/api/overview")]
pub async fn overview(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Overview>> {
    Ok(web::Json(numbers::overview(&app.engine, caller.scope()?).await?))
}

/// Files of the household with their copies, a page of them: `short` (too few copies, and what each needs), or what a number of the overview counts (`home`,
/// `offsite`, `exposed`, `proven`, `unproven`, `damaged`, `coming`).
#[utoipa::path(params(CopiesQuery), responses((status = 200, body = CopiedFiles)))]
#[get("/api/copies/{which}")]
pub async fn list_copies(
    app: web::Data<App>,
    which: web::Path<String>,
    query: web::Query<CopiesQuery>,
) -> Answer<web::Json<CopiedFiles>> {
    let which = Which::from_word(&which).ok_or_else(Failure::not_found)?;
    let after = query.after.as_deref().map(|id| id.parse().map_err(|_| Failure::bad("That is not a place in this list.")));
    let limit = i64::from(query.limit.unwrap_or(100).clamp(1, 500));
    Ok(web::Json(three_two_one::list(&app.engine, which, after.transpose()?, limit).await?))
}

/// Which page.
#[derive(Deserialize, IntoParams)]
pub struct CopiesQuery {
    /// The `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 500.
    limit: Option<u32>,
}

/// The household's own rules.
#[utoipa::path(responses((status = 200, body = Household)))]
#[get("/api/household")]
pub async fn show_household(app: web::Data<App>) -> Answer<web::Json<Household>> {
    Ok(web::Json(household::show(&app.engine).await?))
}

/// Changes the household's own rules. A new filing plan is for what arrives from now on.
#[utoipa::path(responses((status = 200, body = Household)))]
#[patch("/api/household")]
pub async fn change_household(
    app: web::Data<App>,
    caller: Caller,
    body: web::Json<HouseholdChange>,
) -> Answer<web::Json<Household>> {
    let proved = caller.has_proved(app.engine.now())?;
    Ok(web::Json(household::change(&app.engine, &caller.person()?.name, &body, proved).await?))
}

/// The library's place: how much room there is, and what is to be thought about. Tried out now.
#[utoipa::path(responses((status = 200, body = Place)))]
#[get("/api/place")]
pub async fn show_place(app: web::Data<App>) -> Answer<web::Json<Place>> {
    Ok(web::Json(household::place(&app.engine).await?))
}
