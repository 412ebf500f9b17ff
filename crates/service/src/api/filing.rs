//! Filing plans, re-filing, and clocks that were wrong.

use actix_web::{HttpResponse, get, patch, post, web};
use uuid::Uuid;
use ypogeion_core::DeviceId;
use ypogeion_engine::{clocks, filing};
use ypogeion_wire::filing::{Correction, NewCorrection, PlanChoice, PlanPreview, Refiling, RefilingChange, RefilingOrder};

use crate::{app::App, caller::Caller, failure::Answer};

/// Says what a plan would do, with real names. Changes nothing.
#[utoipa::path(responses((status = 200, body = PlanPreview)))]
#[post("/api/filing/preview")]
pub async fn preview_filing(app: web::Data<App>, body: web::Json<PlanChoice>) -> Answer<web::Json<PlanPreview>> {
    Ok(web::Json(filing::preview(&app.engine, &body.plan).await?))
}

/// Files the library by another plan, in the background. What arrives from now on is filed by it, too.
#[utoipa::path(responses((status = 201, body = Refiling)))]
#[post("/api/filing")]
pub async fn begin_refiling(app: web::Data<App>, caller: Caller, body: web::Json<PlanChoice>) -> Answer<HttpResponse> {
    Ok(HttpResponse::Created().json(filing::begin(&app.engine, &caller.person()?.name, &body.plan).await?))
}

/// The last re-filings, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Refiling>)))]
#[get("/api/filing")]
pub async fn list_refilings(app: web::Data<App>) -> Answer<web::Json<Vec<Refiling>>> {
    Ok(web::Json(filing::list(&app.engine).await?))
}

/// Pauses a re-filing, lets it go on, stops it, or takes it back.
#[utoipa::path(responses((status = 200, body = Refiling), (status = 201, body = Refiling)))]
#[patch("/api/filing/{id}")]
pub async fn change_refiling(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<RefilingChange>,
) -> Answer<HttpResponse> {
    // Taking one back is a new one.
    let mut answer = if matches!(body.order, RefilingOrder::Undo) { HttpResponse::Created() } else { HttpResponse::Ok() };
    Ok(answer.json(filing::change(&app.engine, &caller.person()?.name, *id, body.into_inner().order).await?))
}

/// Puts the clock of a device right for what it took in a range, and files that where it belongs. Can be taken back.
#[utoipa::path(responses((status = 201, body = Correction)))]
#[post("/api/devices/{id}/clock")]
pub async fn correct_clock(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<NewCorrection>,
) -> Answer<HttpResponse> {
    let who = &caller.person()?.name;
    let made = clocks::correct(&app.engine, who, caller.scope()?, DeviceId(*id), &body).await?;
    Ok(HttpResponse::Created().json(made))
}

/// The corrections of a device's clock, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Correction>)))]
#[get("/api/devices/{id}/clock")]
pub async fn list_corrections(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Vec<Correction>>> {
    Ok(web::Json(clocks::list(&app.engine, caller.scope()?, DeviceId(*id)).await?))
}

/// Takes a correction back: everything has its old time again.
#[utoipa::path(responses((status = 204)))]
#[post("/api/devices/{id}/clock/{correction}/undo")]
pub async fn undo_correction(app: web::Data<App>, caller: Caller, ids: web::Path<(Uuid, Uuid)>) -> Answer<HttpResponse> {
    let (id, correction) = ids.into_inner();
    clocks::undo(&app.engine, &caller.person()?.name, caller.scope()?, DeviceId(id), correction).await?;
    Ok(HttpResponse::NoContent().finish())
}
