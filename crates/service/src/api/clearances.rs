//! Clearances: every copy at home is read from start to end before a device hears that it may remove its own.

use actix_web::{HttpResponse, post, web};
use uuid::Uuid;
use ypogeion_engine::clearing;
use ypogeion_wire::clearance::{ClearanceRequest, Clearances, Removed};

use crate::{app::App, caller::Caller, failure::Answer};

/// Asks which of its copies this device may remove. The copies at home are read now; the answer holds for ten minutes.
#[utoipa::path(responses((status = 200, body = Clearances)))]
#[post("/api/device/clearances")]
pub async fn ask_clearance(
    app: web::Data<App>,
    caller: Caller,
    body: web::Json<ClearanceRequest>,
) -> Answer<web::Json<Clearances>> {
    Ok(web::Json(clearing::ask(&app.engine, caller.device()?, body.into_inner()).await?))
}

/// What was removed with a clearance. Said once; a clearance that was used, or is another device's, is gone.
#[utoipa::path(responses((status = 204)))]
#[post("/api/device/clearances/{id}/removed")]
pub async fn report_removed(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<Removed>,
) -> Answer<HttpResponse> {
    clearing::removed(&app.engine, caller.device()?, *id, &body).await?;
    Ok(HttpResponse::NoContent().finish())
}
