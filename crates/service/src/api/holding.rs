//! Deleting, and taking back. Everybody does it with their own; no device can.

use std::sync::Arc;

use actix_web::{get, post, web};
use chrono::DateTime;
use serde::Deserialize;
use utoipa::IntoParams;
use ypogeion_core::{OriginalId, PersonId, filing::FiledPath, retention::brake, words};
use ypogeion_wire::{
    holding::{Brake, Changed, Chosen, HeldOriginal, Holding, NowHeld},
    problem::ProblemType,
    work::LiveEvent,
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    work::holding::free_place,
};

/// More would be a request that takes too long to answer.
const MOST: usize = 1000;

fn chosen(body: &Chosen) -> Answer<&[OriginalId]> {
    match body.originals.len() {
        0 => Err(Failure::bad("Nothing was chosen.")),
        1..=MOST => Ok(&body.originals),
        _ => Err(Failure::new(ProblemType::TooLarge, format!("One request has at most {MOST} files; send several."))),
    }
}

async fn noted(app: &App, caller: &Caller, what: &str) -> Answer<()> {
    app.catalog.write_record(app.now(), &caller.person()?.name, what).await?;
    app.live.changed(&[LiveEvent::Library, LiveEvent::Devices, LiveEvent::Overview]);
    Ok(())
}

/// Deletes originals, with the other files of their shots: they go to holding, and can be taken back.
#[utoipa::path(responses((status = 200, body = NowHeld)))]
#[post("/api/holding")]
pub async fn hold_originals(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<NowHeld>> {
    let (person, rule, now) = (caller.owner()?, app.catalog.retention().await?, app.now());
    let until = rule.home_until(now);
    let held = app.catalog.hold(person, chosen(&body)?, &caller.person()?.name, now, until).await?;
    if held.is_empty() {
        return Err(Failure::not_found());
    }
    noted(&app, &caller, &format!("deleted {}", words::counted(held.len() as u64, "file"))).await?;
    Ok(web::Json(NowHeld { count: held.len() as u64, until, offsite_days: rule.offsite_days }))
}

/// Which page of holding.
#[derive(Deserialize, IntoParams)]
pub struct HoldingQuery {
    /// `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 500.
    limit: Option<i64>,
}

/// What was deleted and can be taken back, what was deleted last first.
#[utoipa::path(params(HoldingQuery), responses((status = 200, body = Holding)))]
#[get("/api/holding")]
pub async fn list_holding(app: web::Data<App>, caller: Caller, query: web::Query<HoldingQuery>) -> Answer<web::Json<Holding>> {
    let limit = query.limit.unwrap_or(100).clamp(1, 500);
    let after = match &query.after {
        None => None,
        Some(text) => {
            let place = text.split_once('~').and_then(|(micros, id)| {
                Some((DateTime::from_timestamp_micros(micros.parse().ok()?)?, id.parse::<OriginalId>().ok()?))
            });
            Some(place.ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out."))?)
        }
    };
    let rows = app.catalog.holding(caller.owner()?, after, limit).await?;
    let next = rows.last().filter(|_| rows.len() as i64 == limit).map(|l| format!("{}~{}", l.at.timestamp_micros(), l.id));
    let rule = app.catalog.retention().await?;
    let held = rows
        .into_iter()
        .map(|h| {
            let (folder, name) = h.was_at.rsplit_once('/').unwrap_or(("", &h.was_at));
            HeldOriginal {
                id: h.id,
                name: name.to_owned(),
                folder: folder.to_owned(),
                kind: h.kind,
                size: h.size,
                preview: h.preview,
                placeholder: h.placeholder,
                deleted_by: h.deleted_by,
                deleted_at: h.at,
                leaves_at: h.until,
                at_home: h.gone_at.is_none(),
            }
        })
        .collect();
    // The keeper looks after the whole household's brake; nobody else is told what others deleted.
    let brake = if caller.scope()?.is_none() { braked(&app).await? } else { None };
    Ok(web::Json(Holding { held, next, home_days: rule.home_days.unwrap_or(0), offsite_days: rule.offsite_days, brake }))
}

/// What the brake holds now, if it does.
pub async fn braked(app: &App) -> Answer<Option<Brake>> {
    let (rule, leaving) = (app.catalog.retention().await?, app.catalog.leaving(app.now()).await?);
    Ok(brake(&leaving, rule.brake_percent).err().map(|b| Brake {
        count: b.due.count,
        bytes: b.due.bytes,
        percent: b.percent,
        limit: rule.brake_percent,
    }))
}

/// Takes originals back: to where they were, or, if their files have left the home disk, from a store.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/back")]
pub async fn take_back(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<Changed>> {
    let (person, app) = (caller.owner()?, app.into_inner());
    let chosen = chosen(&body)?;
    let back = app.catalog.take_back(person, chosen, app.now()).await?;
    let mut fetched = 0;
    for id in chosen.iter().filter(|id| !back.contains(id)) {
        fetched += u64::from(fetch_back(&app, person, *id).await?);
    }
    let count = back.len() as u64 + fetched;
    if count == 0 {
        return Err(Failure::new(ProblemType::NotFound, "It is too late: neither this server nor a store has it any more."));
    }
    noted(&app, &caller, &format!("brought back {}", words::counted(count, "deleted file"))).await?;
    Ok(web::Json(Changed { count, fetched }))
}

async fn fetch_back(app: &Arc<App>, person: PersonId, id: OriginalId) -> Answer<bool> {
    let Some(of) = app.catalog.gone_from(person, id).await? else { return Ok(false) };
    let was_at = FiledPath::parse(&of).map_err(|_| Failure::not_found())?;
    let (place, _reserved) = free_place(app, &was_at).await?;
    Ok(app.catalog.take_back_gone(id, &place, app.now()).await?)
}

/// Has originals leave holding now, as far as the brake allows. Their sealed copies stay in the stores for their time.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/end")]
pub async fn end_holding(app: web::Data<App>, caller: Caller, body: web::Json<Chosen>) -> Answer<web::Json<Changed>> {
    let count = app.catalog.end_holding(caller.owner()?, chosen(&body)?, app.now()).await?;
    if count == 0 {
        return Err(Failure::not_found());
    }
    noted(&app, &caller, &format!("removed {} before the time was over", words::counted(count, "deleted file"))).await?;
    Ok(web::Json(Changed { count, fetched: 0 }))
}

/// The keeper has looked at what the brake holds, and lets it go.
#[utoipa::path(responses((status = 200, body = Changed)))]
#[post("/api/holding/release")]
pub async fn release_brake(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Changed>> {
    let count = app.catalog.release_brake(app.now()).await?;
    noted(
        &app,
        &caller,
        &format!("confirmed the removal of {}, which the safety stop had held back", words::counted(count, "deleted file")),
    )
    .await?;
    Ok(web::Json(Changed { count, fetched: 0 }))
}
