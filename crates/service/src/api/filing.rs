//! Filing plans, re-filing, and clocks that were wrong.

use actix_web::{HttpResponse, get, patch, post, web};
use chrono::TimeDelta;
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, refilings, shots};
use ypogeion_core::{DeviceId, OriginalName, filing::FilingPlan};
use ypogeion_wire::{
    filing::{Correction, NewCorrection, PlanChoice, PlanPreview, PlannedMove, Refiling, RefilingChange, RefilingOrder},
    problem::ProblemType,
    work::LiveEvent,
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    work::refile,
};

const PAGE: i64 = 2000;
const EXAMPLES: usize = 24;
/// Ten years: no clock that anybody would correct is further off.
const LARGEST_SHIFT: i64 = 10 * 366 * 86_400;

fn plan(text: &str) -> Answer<FilingPlan> {
    FilingPlan::parse(text).map_err(|e| Failure::bad(format!("This filing plan cannot be used: {e}.")))
}

fn view(r: refilings::Refiling) -> Refiling {
    Refiling {
        id: r.id,
        plan: r.plan,
        before: r.before,
        undoes: r.undoes,
        made_by: r.made_by,
        began_at: r.began_at,
        ended_at: r.ended_at,
        state: r.state,
        total: r.total,
        looked: r.looked,
        moved: r.moved,
        failed: r.failed,
    }
}

/// Says what a plan would do, with real names. Changes nothing.
#[utoipa::path(responses((status = 200, body = PlanPreview)))]
#[post("/api/filing/preview")]
pub async fn preview_filing(app: web::Data<App>, body: web::Json<PlanChoice>) -> Answer<web::Json<PlanPreview>> {
    let plan = plan(&body.plan)?;
    let (mut total, mut moves, mut examples, mut after) = (0u64, 0u64, Vec::new(), None);
    loop {
        let page = app.catalog.to_file(after, PAGE).await?;
        let Some(last) = page.last() else { break };
        after = Some(last.id);
        for of in &page {
            total += 1;
            let name = OriginalName::from_device(&of.name);
            let place = refile::filed(of, &name);
            let here = ypogeion_core::filing::FiledPath::parse(&of.path);
            if here.is_ok_and(|path| plan.agrees(&place, &path)) {
                continue;
            }
            moves += 1;
            // The first ones, then fewer and fewer: examples from all over, in one pass and little memory.
            if let Some(to) = plan.places(&place).next().filter(|_| examples.len() < EXAMPLES / 2 || moves.is_power_of_two()) {
                examples.push(PlannedMove { from: of.path.clone(), to: to.into() });
            }
        }
    }
    examples.truncate(EXAMPLES);
    Ok(web::Json(PlanPreview { plan: plan.pattern().to_owned(), total, moves, examples }))
}

/// Files the library by another plan, in the background. What arrives from now on is filed by it, too.
#[utoipa::path(responses((status = 201, body = Refiling)))]
#[post("/api/filing")]
pub async fn begin_refiling(app: web::Data<App>, caller: Caller, body: web::Json<PlanChoice>) -> Answer<HttpResponse> {
    let plan = plan(&body.plan)?;
    begin(&app, &caller, plan.pattern(), None).await
}

async fn begin(app: &App, caller: &Caller, plan: &str, undoes: Option<Uuid>) -> Answer<HttpResponse> {
    let (id, who) = (Uuid::now_v7(), caller.person()?.name.clone());
    match app.catalog.begin_refiling(id, plan, undoes, &who, app.now()).await {
        Err(CatalogError::Taken) => {
            return Err(Failure::new(
                ProblemType::NameTaken,
                "The library is being filed already. Wait for that, or stop it first.",
            ));
        }
        other => other?,
    }
    app.catalog.write_record(app.now(), &who, &format!("began to file the library by {plan}")).await?;
    app.live.changed(&[LiveEvent::Work, LiveEvent::Library]);
    let begun = app.catalog.refilings(Some(id), 1).await?.pop().ok_or_else(Failure::not_found)?;
    Ok(HttpResponse::Created().json(view(begun)))
}

/// The last re-filings, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Refiling>)))]
#[get("/api/filing")]
pub async fn list_refilings(app: web::Data<App>) -> Answer<web::Json<Vec<Refiling>>> {
    Ok(web::Json(app.catalog.refilings(None, 20).await?.into_iter().map(view).collect()))
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
    let now = app.now();
    let there = app.catalog.refilings(Some(*id), 1).await?.pop().ok_or_else(Failure::not_found)?;
    let changed = match body.order {
        RefilingOrder::Pause => app.catalog.set_refiling_state(*id, &["running"], "paused", now).await?,
        RefilingOrder::Resume => app.catalog.set_refiling_state(*id, &["paused"], "running", now).await?,
        RefilingOrder::Stop => app.catalog.set_refiling_state(*id, &["running", "paused"], "stopped", now).await?,
        RefilingOrder::Undo => {
            app.catalog.set_refiling_state(*id, &["running", "paused"], "stopped", now).await?;
            return begin(&app, &caller, &there.before, Some(*id)).await;
        }
    };
    if !changed {
        return Err(Failure::bad(format!("This re-filing is {}; that cannot be done with it.", there.state)));
    }
    app.live.changed(&[LiveEvent::Work, LiveEvent::Library]);
    let now = app.catalog.refilings(Some(*id), 1).await?.pop().ok_or_else(Failure::not_found)?;
    Ok(HttpResponse::Ok().json(view(now)))
}

fn correction(c: shots::Correction) -> Correction {
    Correction {
        id: c.id,
        from: c.from,
        to: c.to,
        seconds: c.seconds,
        originals: c.originals,
        made_by: c.made_by,
        made_at: c.made_at,
        undone_at: c.undone_at,
    }
}

async fn own_device(app: &App, caller: &Caller, id: Uuid) -> Answer<DeviceId> {
    let views = app.catalog.devices(caller.scope()?, Some(DeviceId(id)), app.now()).await?;
    views.first().map(|d| d.id).ok_or_else(Failure::not_found)
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
    let device = own_device(&app, &caller, *id).await?;
    if body.to < body.from || body.seconds == 0 || body.seconds.abs() > LARGEST_SHIFT {
        return Err(Failure::bad("A correction has a first and a last moment in this order, and a shift of at most ten years."));
    }
    let (correction_id, who) = (Uuid::now_v7(), caller.person()?.name.clone());
    let shift = TimeDelta::seconds(body.seconds);
    let moved = app.catalog.correct_clock(correction_id, device, (body.from, body.to), shift, &who, app.now()).await?;
    follow(&app, &who, &format!("corrected the time of {moved} files by {} seconds", body.seconds)).await?;
    let made = app.catalog.corrections(device).await?.into_iter().find(|c| c.id == correction_id);
    Ok(HttpResponse::Created().json(correction(made.ok_or_else(Failure::not_found)?)))
}

/// The corrections of a device's clock, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Correction>)))]
#[get("/api/devices/{id}/clock")]
pub async fn list_corrections(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Vec<Correction>>> {
    let device = own_device(&app, &caller, *id).await?;
    Ok(web::Json(app.catalog.corrections(device).await?.into_iter().map(correction).collect()))
}

/// Takes a correction back: everything has its old time again.
#[utoipa::path(responses((status = 204)))]
#[post("/api/devices/{id}/clock/{correction}/undo")]
pub async fn undo_correction(app: web::Data<App>, caller: Caller, ids: web::Path<(Uuid, Uuid)>) -> Answer<HttpResponse> {
    let (id, correction) = ids.into_inner();
    let device = own_device(&app, &caller, id).await?;
    let back = app.catalog.undo_correction(correction, device, app.now()).await?;
    let who = caller.person()?.name.clone();
    follow(&app, &who, &format!("undid a correction of the time of {back} files")).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Writes it down, and tells who watches. Shots and files follow in the background.
async fn follow(app: &App, who: &str, what: &str) -> Answer<()> {
    app.catalog.write_record(app.now(), who, what).await?;
    app.live.changed(&[LiveEvent::Library]);
    Ok(())
}
