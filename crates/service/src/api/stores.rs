//! Stores, and what was sent to them.

use actix_web::{HttpResponse, get, patch, post, web};
use uuid::Uuid;
use ypogeion_core::StoreId;
use ypogeion_engine::stores;
use ypogeion_wire::offsite::{History, NewStore, ResumeStore, Store, StoreChange, Trial};

use crate::{app::App, caller::Caller, failure::Answer};

/// The stores, with their numbers.
#[utoipa::path(responses((status = 200, body = Vec<Store>)))]
#[get("/api/stores")]
pub async fn list_stores(app: web::Data<App>) -> Answer<web::Json<Vec<Store>>> {
    Ok(web::Json(stores::list(&app.engine).await?))
}

/// What was sent in the last two weeks, and how exposed the house was, hour by hour; the present hour as it is now.
#[utoipa::path(responses((status = 200, body = History)))]
#[get("/api/history")]
pub async fn show_history(app: web::Data<App>) -> Answer<web::Json<History>> {
    Ok(web::Json(stores::history(&app.engine).await?))
}

/// Adds a store, after it was reached, signed in to, written to and read back. Sending begins at once.
#[utoipa::path(responses((status = 201, body = Store)))]
#[post("/api/stores")]
pub async fn add_store(app: web::Data<App>, caller: Caller, body: web::Json<NewStore>) -> Answer<HttpResponse> {
    // A readable one is handed everything.
    caller.proved(app.engine.now())?;
    let added = stores::add(&app.engine, &caller.person()?.name, body.into_inner()).await?;
    Ok(HttpResponse::Created().json(added))
}

/// Tries a store out without adding it: what works, step by step.
#[utoipa::path(responses((status = 200, body = Trial)))]
#[post("/api/stores/trial")]
pub async fn try_store(app: web::Data<App>, body: web::Json<NewStore>) -> Answer<web::Json<Trial>> {
    Ok(web::Json(stores::try_new(&app.engine, body.into_inner()).await?))
}

/// Tries a store out that was added before, with the keys that it has.
#[utoipa::path(responses((status = 200, body = Trial)))]
#[post("/api/stores/{id}/trial")]
pub async fn try_store_again(app: web::Data<App>, id: web::Path<Uuid>) -> Answer<web::Json<Trial>> {
    Ok(web::Json(stores::try_again(&app.engine, StoreId(*id)).await?))
}

/// Goes on after a stop, with new keys or another trusted certificate if they are given.
#[utoipa::path(responses((status = 200, body = Store)))]
#[post("/api/stores/{id}/resume")]
pub async fn resume_store(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<ResumeStore>,
) -> Answer<web::Json<Store>> {
    let proved = caller.has_proved(app.engine.now())?;
    Ok(web::Json(stores::resume(&app.engine, &caller.person()?.name, StoreId(*id), &body, proved).await?))
}

/// Has a store wait, lets it go on, gives it another week or other prices, or says whether it is away from home.
#[utoipa::path(responses((status = 200, body = Store)))]
#[patch("/api/stores/{id}")]
pub async fn change_store(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<StoreChange>,
) -> Answer<web::Json<Store>> {
    Ok(web::Json(stores::change(&app.engine, &caller.person()?.name, StoreId(*id), body.into_inner()).await?))
}
