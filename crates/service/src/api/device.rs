//! What a device asks: offers, items, its own status, its runs.

use actix_web::{HttpResponse, get, patch, post, put, web};
use data_encoding::BASE64URL_NOPAD;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_core::RunId;
use ypogeion_engine::offers;
use ypogeion_wire::{
    device::{DeviceStatus, Items, Offer, OfferAnswers},
    inventory::Inventory,
    run::{BeginRun, BegunRun, RunReport},
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

/// What the server knows of the device that asks.
#[utoipa::path(responses((status = 200, body = DeviceStatus)))]
#[get("/api/device")]
pub async fn device_status(app: web::Data<App>, caller: Caller) -> Answer<web::Json<DeviceStatus>> {
    Ok(web::Json(offers::status(&app.engine, caller.device()?).await?))
}

/// Tells what a device has; the answers say what is wanted of it.
#[utoipa::path(responses((status = 200, body = OfferAnswers)))]
#[post("/api/device/offers")]
pub async fn offer(app: web::Data<App>, caller: Caller, body: web::Json<Offer>) -> Answer<web::Json<OfferAnswers>> {
    let answers = offers::answer(&app.engine, caller.device()?, body.into_inner().entries).await?;
    Ok(web::Json(OfferAnswers { answers }))
}

/// Which page of items.
#[derive(Deserialize, IntoParams)]
pub struct ItemsQuery {
    /// `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 1,000.
    limit: Option<i64>,
}

fn place(text: &str) -> Option<(String, String)> {
    serde_json::from_slice(&BASE64URL_NOPAD.decode(text.as_bytes()).ok()?).ok()
}

/// What this device has sent or said it has, and how deep each has sunk.
#[utoipa::path(params(ItemsQuery), responses((status = 200, body = Items)))]
#[get("/api/device/items")]
pub async fn list_items(app: web::Data<App>, caller: Caller, query: web::Query<ItemsQuery>) -> Answer<web::Json<Items>> {
    let limit = query.limit.unwrap_or(200).clamp(1, 1000);
    let after = query
        .after
        .as_deref()
        .map(|text| place(text).ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out.")));
    let (items, last) = offers::items(&app.engine, caller.device()?, after.transpose()?.as_ref(), limit).await?;
    let next = last.map(|place| BASE64URL_NOPAD.encode(serde_json::json!(place).to_string().as_bytes()));
    Ok(web::Json(Items { items, next }))
}

/// Notes what a device has in its sources, before anything is hashed, and what it waits for.
#[utoipa::path(responses((status = 204)))]
#[put("/api/device/inventory")]
pub async fn report_inventory(app: web::Data<App>, caller: Caller, body: web::Json<Inventory>) -> Answer<HttpResponse> {
    offers::note_inventory(&app.engine, caller.device()?, &body).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Begins a run. The answer also says how much of what this device said it has is not here (any more).
#[utoipa::path(params(BeginRun), responses((status = 201, body = BegunRun)))]
#[post("/api/device/runs")]
pub async fn begin_run(app: web::Data<App>, caller: Caller, told: web::Query<BeginRun>) -> Answer<HttpResponse> {
    Ok(HttpResponse::Created().json(offers::begin_run(&app.engine, caller.device()?, *told).await?))
}

/// Reports what a run has done so far, or at its end.
#[utoipa::path(responses((status = 204)))]
#[patch("/api/device/runs/{id}")]
pub async fn report_run(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<RunReport>,
) -> Answer<HttpResponse> {
    offers::note_run(&app.engine, caller.device()?, RunId(*id), &body).await?;
    Ok(HttpResponse::NoContent().finish())
}
