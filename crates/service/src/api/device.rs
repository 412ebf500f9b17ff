//! What a device asks: offers, items, its own status, its runs.

use actix_web::{HttpResponse, get, patch, post, put, web};
use data_encoding::BASE64URL_NOPAD;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::{
    devices::{ItemView, Sighting},
    inventories::SourceTold,
    runs::{Counts, Entry, RunEnd},
};
use ypogeion_core::{
    OriginalName, RunId,
    layers::Layer,
    name::source_name,
    offer::{Answer as Said, answer_all},
};
use ypogeion_wire::{
    device::{DeviceStatus, Item, Items, LARGEST_OFFER, Offer, OfferAnswer, OfferAnswers},
    inventory::Inventory,
    problem::ProblemType,
    run::{BegunRun, RunReport},
    work::LiveEvent,
};

use super::library::layer_word;
use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    overview::{self, state_word},
    tus,
};

const MOST_SOURCES: usize = 1000;

/// What the server knows of the device that asks.
#[utoipa::path(responses((status = 200, body = DeviceStatus)))]
#[get("/api/device")]
pub async fn device_status(app: web::Data<App>, caller: Caller) -> Answer<web::Json<DeviceStatus>> {
    let device = caller.device()?;
    let view = app.catalog.devices(None, Some(device.id), app.now()).await?.pop().ok_or_else(Failure::not_found)?;
    let (offsite, proven) = app.catalog.device_depths(device.id, app.proven_since()).await?;
    let (state, sentence) = overview::house_state(&app).await?;
    Ok(web::Json(DeviceStatus {
        device: view.id,
        name: view.name,
        person_name: view.person_name,
        household: app.household.name.clone(),
        offered: view.offered,
        home: view.home,
        offsite,
        proven,
        waiting: view.waiting,
        house: state_word(state).into(),
        sentence: sentence.into(),
    }))
}

fn depth(app: &App, item: &ItemView) -> Layer {
    match item.proven_at {
        Some(at) if item.offsite && at >= app.proven_since() => Layer::Proven,
        _ if item.offsite => Layer::Offsite,
        _ if item.home => Layer::Home,
        _ => Layer::Device,
    }
}

/// Tells what a device has; the answers say what is wanted of it.
#[utoipa::path(responses((status = 200, body = OfferAnswers)))]
#[post("/api/device/offers")]
pub async fn offer(app: web::Data<App>, caller: Caller, body: web::Json<Offer>) -> Answer<web::Json<OfferAnswers>> {
    let (device, entries) = (caller.device()?, body.into_inner().entries);
    if entries.len() > LARGEST_OFFER {
        return Err(Failure::new(ProblemType::TooLarge, format!("An offer has at most {LARGEST_OFFER} entries; send several.")));
    }
    let digests: Vec<_> = entries.iter().map(|e| e.digest).collect();
    let known = app.catalog.known(device.person, &digests).await?;
    let sizes: Vec<u64> = entries.iter().map(|e| e.size).collect();
    let answers = answer_all(&sizes, &known, tus::room(&app, device.person).await?);
    let sightings: Vec<Sighting> = entries
        .into_iter()
        .zip(&answers)
        .map(|(e, answer)| Sighting {
            source: source_name(&e.source),
            name: OriginalName::from_device(&e.name).into(),
            digest: e.digest,
            size: e.size,
            file_time: e.file_time,
            refused: match answer {
                Said::No { reason } | Said::Leave { reason } => Some(reason.clone()),
                _ => None,
            },
        })
        .collect();
    app.catalog.note_sightings(device.id, &sightings, app.now()).await?;
    app.live.changed(&[LiveEvent::Devices]);
    let answers = answers
        .into_iter()
        .map(|a| match a {
            Said::Want => OfferAnswer::Want,
            Said::Have => OfferAnswer::Have,
            Said::Leave { reason } => OfferAnswer::Leave { reason },
            Said::No { reason } => OfferAnswer::No { reason },
        })
        .collect();
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

/// What this device has sent or said it has, and how deep each has sunk.
#[utoipa::path(params(ItemsQuery), responses((status = 200, body = Items)))]
#[get("/api/device/items")]
pub async fn list_items(app: web::Data<App>, caller: Caller, query: web::Query<ItemsQuery>) -> Answer<web::Json<Items>> {
    let limit = query.limit.unwrap_or(200).clamp(1, 1000);
    let after: Option<(String, String)> = match &query.after {
        Some(text) => Some(
            BASE64URL_NOPAD
                .decode(text.as_bytes())
                .ok()
                .and_then(|b| serde_json::from_slice(&b).ok())
                .ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out."))?,
        ),
        None => None,
    };
    let page = app.catalog.items(caller.device()?.id, after.as_ref().map(|(s, n)| (s.as_str(), n.as_str())), limit).await?;
    let next = page
        .last()
        .filter(|_| page.len() as i64 == limit)
        .map(|last| BASE64URL_NOPAD.encode(serde_json::json!([last.source, last.name]).to_string().as_bytes()));
    let items = page
        .into_iter()
        .map(|i| Item {
            layer: layer_word(depth(&app, &i)).into(),
            original: i.original,
            name: i.name,
            source: i.source,
            digest: i.digest,
            size: i.size,
            path: i.path,
        })
        .collect();
    Ok(web::Json(Items { items, next }))
}

/// Words from a device, as they are kept.
fn plain(words: &str) -> String {
    words.chars().filter(|c| !c.is_control()).take(500).collect()
}

/// Notes what a device has in its sources, before anything is hashed, and what it waits for.
#[utoipa::path(responses((status = 204)))]
#[put("/api/device/inventory")]
pub async fn report_inventory(app: web::Data<App>, caller: Caller, body: web::Json<Inventory>) -> Answer<HttpResponse> {
    let device = caller.device()?;
    if let Some(sources) = &body.sources {
        if sources.len() > MOST_SOURCES {
            return Err(Failure::new(ProblemType::TooLarge, format!("A device has at most {MOST_SOURCES} sources.")));
        }
        let told: Vec<SourceTold> = sources
            .iter()
            .map(|s| SourceTold {
                name: source_name(&s.name),
                files: s.files,
                bytes: s.bytes,
                fresh: s.fresh,
                left_out: s.left_out,
                rule: plain(&s.rule),
                selection_only: s.selection_only,
            })
            .collect();
        app.catalog.note_sources(device.id, &told, app.now()).await?;
    }
    app.catalog.note_waiting(device.id, body.waiting_for.as_deref().map(plain).as_deref()).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(HttpResponse::NoContent().finish())
}

/// Begins a run. The answer also says how much of what this device said it has is not here (any more).
#[utoipa::path(responses((status = 201, body = BegunRun)))]
#[post("/api/device/runs")]
pub async fn begin_run(app: web::Data<App>, caller: Caller) -> Answer<HttpResponse> {
    let (device, id, now) = (caller.device()?, RunId(Uuid::now_v7()), app.now());
    app.catalog.begin_run(id, device.id, now).await?;
    app.live.changed(&[LiveEvent::Devices]);
    let waiting = app.catalog.devices(None, Some(device.id), now).await?.pop().map_or(0, |d| d.waiting);
    Ok(HttpResponse::Created().json(BegunRun { run: id, waiting }))
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
    if body.entries.len() > LARGEST_OFFER {
        return Err(Failure::new(ProblemType::TooLarge, format!("A report has at most {LARGEST_OFFER} entries; send several.")));
    }
    let counts = Counts {
        checked: body.counts.checked,
        sent: body.counts.sent,
        present: body.counts.present,
        skipped: body.counts.skipped,
        failed: body.counts.failed,
        bytes: body.counts.bytes,
    };
    let entries: Vec<Entry> = body
        .entries
        .iter()
        .filter(|e| matches!(e.outcome.as_str(), "sent" | "present" | "skipped" | "failed"))
        .map(|e| Entry {
            name: OriginalName::from_device(&e.name).into(),
            source: source_name(&e.source),
            outcome: e.outcome.clone(),
            reason: e.reason.as_deref().map(plain),
            size: e.size,
        })
        .collect();
    let reason = body.halted.as_deref().map(plain);
    let end = match (&reason, body.ended) {
        (_, false) => None,
        (None, true) => Some(RunEnd::Done),
        (Some(reason), true) => Some(RunEnd::Halted(reason)),
    };
    app.catalog.report_run(RunId(*id), caller.device()?.id, counts, &entries, end, app.now()).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(HttpResponse::NoContent().finish())
}
