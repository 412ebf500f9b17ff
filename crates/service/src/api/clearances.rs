//! Clearances: every copy at home is read from start to end before a device hears that it may remove its own.

use std::{collections::HashMap, sync::Arc};

use actix_web::{HttpResponse, post, web};
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    clearances::{Asked, Cleared},
};
use ypogeion_core::{
    Digest, OriginalName,
    clearance::{self, Depth, Evidence, HOLDS_FOR, HomeReading, Keep},
    layers::{Act, Observation, Outcome, Place},
    name::source_name,
};
use ypogeion_wire::{
    clearance::{ClearanceAnswer, ClearanceEntry, ClearanceRequest, Clearances, LARGEST_CLEARANCE, MOST_BYTES_CLEARED, Removed},
    problem::ProblemType,
    work::LiveEvent,
};

use crate::{
    app::App,
    at_home::look_at,
    caller::Caller,
    failure::{Answer, Failure, chain},
};

/// Asks which of its copies this device may remove. The copies at home are read now; the answer holds for ten minutes.
#[utoipa::path(responses((status = 200, body = Clearances)))]
#[post("/api/device/clearances")]
pub async fn ask_clearance(
    app: web::Data<App>,
    caller: Caller,
    body: web::Json<ClearanceRequest>,
) -> Answer<web::Json<Clearances>> {
    let (device, request, app) = (caller.device()?, body.into_inner(), app.into_inner());
    check(&request)?;
    let demanded = app.catalog.house_rules().await?.clear_at;
    let digests: Vec<Digest> = request.entries.iter().map(|e| e.digest).collect();
    let known: HashMap<Digest, Asked> =
        app.catalog.originals_of(device.person, &digests).await?.into_iter().map(|a| (a.digest, a)).collect();
    let mut decided: HashMap<Digest, Result<Evidence, Keep>> = HashMap::new();
    let (mut answers, mut cleared) = (Vec::with_capacity(request.entries.len()), Vec::new());
    let stores = app.catalog.stores().await?;
    for entry in &request.entries {
        let decision = match known.get(&entry.digest).filter(|a| a.size == entry.size) {
            None => Err(Keep::NotHome),
            Some(asked) if asked.held => Err(Keep::Deleted),
            Some(asked) => match decided.get(&entry.digest) {
                Some(decision) => decision.clone(),
                None => {
                    let decision = look(&app, asked, demanded).await?;
                    decided.insert(entry.digest, decision.clone());
                    decision
                }
            },
        };
        answers.push(match &decision {
            Ok(evidence) => ClearanceAnswer::Clear {
                home_read_at: evidence.home_read_at,
                store: evidence.store.and_then(|id| stores.iter().find(|s| s.id == id)).map(|s| s.address.name.clone()),
                proven_at: evidence.proven_at,
            },
            Err(keep) => ClearanceAnswer::Keep { reason: keep.to_string() },
        });
        if let (Ok(evidence), Some(asked)) = (decision, known.get(&entry.digest)) {
            let (source, name) = clean(entry);
            cleared.push(Cleared { original: asked.id, digest: entry.digest, source, name, evidence });
        }
    }
    let mut given = None;
    if !cleared.is_empty() && !request.rehearse {
        let (id, now) = (Uuid::now_v7(), app.now());
        match app.catalog.give_clearance(id, device.id, &request.nonce, (now, now + HOLDS_FOR), &cleared).await {
            Err(CatalogError::Taken) => {
                return Err(Failure::bad("This nonce was used before. Make up a new one for every request."));
            }
            other => other?,
        }
        given = Some(id);
    }
    Ok(web::Json(Clearances {
        clearance: given,
        nonce: request.nonce,
        device: device.id,
        holds_seconds: u32::try_from(HOLDS_FOR.num_seconds()).unwrap_or(0),
        demanded: demanded.word().to_owned(),
        answers,
    }))
}

/// Names as they are kept here.
fn clean(entry: &ClearanceEntry) -> (String, String) {
    (source_name(&entry.source), OriginalName::from_device(&entry.name).into())
}

fn check(request: &ClearanceRequest) -> Answer<()> {
    if !(16..=64).contains(&request.nonce.len()) || !request.nonce.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
        return Err(Failure::bad("A nonce has 16 to 64 letters and digits."));
    }
    let bytes = request.entries.iter().fold(0u64, |sum, e| sum.saturating_add(e.size));
    if request.entries.len() > LARGEST_CLEARANCE || (request.entries.len() > 1 && bytes > MOST_BYTES_CLEARED) {
        return Err(Failure::new(
            ProblemType::TooLarge,
            format!("One request has at most {LARGEST_CLEARANCE} files and 2 GB; ask several times."),
        ));
    }
    Ok(())
}

/// Reads the copy at home, notes what was found, and decides.
async fn look(app: &Arc<App>, asked: &Asked, demanded: Depth) -> Answer<Result<Evidence, Keep>> {
    let digest = asked.digest;
    let (outcome, found) = match reread(app, asked).await {
        Ok(read) => read,
        Err(e) => {
            tracing::warn!(path = %asked.path, error = %chain(&e), "a copy could not be read for a clearance");
            return Ok(Err(Keep::NotRead));
        }
    };
    let at = app.now();
    let seen = Observation { place: Place::Home, act: Act::Reread, at, digest: found, outcome };
    app.catalog.observe(asked.id, digest, &seen).await?;
    let standings = app.catalog.standings_for_depth(asked.id).await?;
    let read = HomeReading { outcome, digest: found, at };
    Ok(clearance::decide(digest, &read, &standings, demanded, app.now(), app.settings.offsite.proven_for))
}

/// Reads the copy at home from start to end.
async fn reread(app: &App, asked: &Asked) -> Answer<(Outcome, Option<Digest>)> {
    let digest = asked.digest;
    let (read, _) = look_at(app, asked.id, asked.path.clone(), move |library, path| {
        let read = library.reread(path, digest)?;
        Ok((read.0 != Outcome::Missing).then_some(read))
    })
    .await?;
    Ok(read.unwrap_or((Outcome::Missing, None)))
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
    let device = caller.device()?;
    let cleaned: Vec<(String, String)> = body.entries.iter().map(clean).collect();
    let entries: Vec<(&str, &str, Digest)> =
        cleaned.iter().zip(&body.entries).map(|((source, name), e)| (source.as_str(), name.as_str(), e.digest)).collect();
    let count = match app.catalog.use_clearance(*id, device.id, &entries, app.now()).await {
        Err(CatalogError::NotFound) => {
            return Err(Failure::new(
                ProblemType::ClearanceGone,
                "This clearance was used already, or never was. Nothing was noted; ask for a new one before removing anything.",
            ));
        }
        other => other?,
    };
    let what = format!("removed {count} of its files with a clearance");
    app.catalog.write_record(app.now(), &device.name, &what).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(HttpResponse::NoContent().finish())
}
