//! Deleting, and taking back. Everybody does it with their own; no device can.

use actix_web::{get, post, web};
use chrono::DateTime;
use serde::Deserialize;
use utoipa::IntoParams;
use ypogeion_core::OriginalId;
use ypogeion_engine::deletion::{self, After, By};
use ypogeion_wire::holding::{Changed, Chosen, Holding, NowHeld};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
};

fn by(caller: &Caller) -> Answer<By<'_>> {
    Ok(By { owner: caller.owner()?, name: &caller.person()?.name })
}

/// Deletes originals, with the other files of their shots: they go to holding, and can be taken back.
#[utoipa::path(responses((status = 200, body = NowHeld)))]
#[post("/api/holding")]
pub async fn hold_originals(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<NowHeld>> {
    Ok(web::Json(deletion::hold(&app.engine, by(&caller)?, &body.originals).await?))
}

/// Which page of holding.
#[derive(Deserialize, IntoParams)]
pub struct HoldingQuery {
    /// `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 500.
    limit: Option<i64>,
}

fn place(text: &str) -> Option<After> {
    let (micros, id) = text.split_once('~')?;
    Some((DateTime::from_timestamp_micros(micros.parse().ok()?)?, id.parse::<OriginalId>().ok()?))
}

/// What was deleted and can be taken back, what was deleted last first.
#[utoipa::path(params(HoldingQuery), responses((status = 200, body = Holding)))]
#[get("/api/holding")]
pub async fn list_holding(app: web::Data<App>, caller: Caller, query: web::Query<HoldingQuery>) -> Answer<web::Json<Holding>> {
    let limit = query.limit.unwrap_or(100).clamp(1, 500);
    let after = query
        .after
        .as_deref()
        .map(|text| place(text).ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out.")));
    // The keeper looks after the whole household's safety stop.
    let whole = caller.scope()?.is_none();
    let (mut page, last) = deletion::held(&app.engine, caller.owner()?, after.transpose()?, limit, whole).await?;
    page.next = last.map(|(at, id)| format!("{}~{id}", at.timestamp_micros()));
    Ok(web::Json(page))
}

/// Takes originals back: to where they were, or, if their files have left the home disk, from a store.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/back")]
pub async fn take_back(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<Changed>> {
    Ok(web::Json(deletion::take_back(&app.engine, by(&caller)?, &body.originals).await?))
}

/// Has originals leave holding now, as far as the safety stop allows. Their sealed copies stay in the stores for their time.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/end")]
pub async fn end_holding(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<Changed>> {
    Ok(web::Json(deletion::end(&app.engine, by(&caller)?, &body.originals).await?))
}

/// The keeper has looked at what the safety stop holds, and lets it go.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/release")]
pub async fn release_stopped(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Changed>> {
    Ok(web::Json(deletion::release(&app.engine, &caller.person()?.name).await?))
}
