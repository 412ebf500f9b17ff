//! Health, the state of the house, the overview.

use actix_web::{HttpResponse, get, web};
use ypogeion_wire::overview::{HouseState, Overview};

use crate::{app::App, caller::Caller, failure::Answer, overview as numbers};

/// Is the service alive, and does its database answer?
#[utoipa::path(responses((status = 200)))]
#[get("/api/health")]
pub async fn health(app: web::Data<App>) -> Answer<HttpResponse> {
    app.catalog.ping().await?;
    Ok(HttpResponse::Ok().json(serde_json::json!({ "health": "well", "version": env!("CARGO_PKG_VERSION") })))
}

/// The state of the house in one word and a sentence that names nobody: for a lamp or a dashboard.
#[utoipa::path(responses((status = 200, body = HouseState)))]
#[get("/api/state")]
pub async fn house_state(app: web::Data<App>) -> Answer<web::Json<HouseState>> {
    let (state, reason) = numbers::house_state(&app).await?;
    Ok(web::Json(HouseState {
        state: numbers::state_word(state).into(),
        reason: reason.into(),
        version: env!("CARGO_PKG_VERSION").into(),
    }))
}

/// Numbers and headline: of the household for its keeper, of their own for everybody else.
#[utoipa::path(responses((status = 200, body = Overview)))]
#[get("/api/overview")]
pub async fn overview(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Overview>> {
    Ok(web::Json(numbers::overview(&app, caller.scope()?).await?))
}
