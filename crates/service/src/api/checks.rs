//! Checks of copies: how they went, and one now.

use actix_web::{HttpResponse, get, post, web};
use ypogeion_engine::checks;
use ypogeion_wire::checks::{Checks, WantCheck};

use crate::{app::App, caller::Caller, failure::Answer};

/// How every place was checked last, what is under way, and when the next check is.
#[utoipa::path(responses((status = 200, body = Checks)))]
#[get("/api/checks")]
pub async fn list_checks(app: web::Data<App>) -> Answer<web::Json<Checks>> {
    Ok(web::Json(checks::list(&app.engine).await?))
}

/// Checks a place now; all of it, not a portion. One that is under way becomes a whole one.
#[utoipa::path(responses((status = 202)))]
#[post("/api/checks")]
pub async fn want_check(app: web::Data<App>, caller: Caller, body: web::Json<WantCheck>) -> Answer<HttpResponse> {
    checks::want(&app.engine, &caller.person()?.name, &body).await?;
    Ok(HttpResponse::Accepted().finish())
}
