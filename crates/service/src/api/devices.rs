//! Devices as people see them, and pairing.

use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, web};
use qrcode::{QrCode, render::svg};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, devices::NewDevice};
use ypogeion_core::{DeviceId, OriginalName, access::Role};
use ypogeion_wire::{
    pairing::{PairingAddress, normalise_code},
    people::{
        ClaimPairing, Claimed, Connected, Device, DeviceChange, DeviceCoverage, MissingFile, NewPairing, NewProgram, Pairing,
        SourceCoverage,
    },
    problem::ProblemType,
    work::LiveEvent,
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    overview,
    security::{self, Small},
};

const CODE_MINUTES: i64 = 10;
const CLAIMS: usize = 20;

/// A QR code as SVG, dark on light whatever the page's colours: cameras want it so.
pub fn qr_svg(text: &str) -> Answer<String> {
    let code = QrCode::new(text).map_err(|_| Failure::bad("This is too long for a QR code."))?;
    Ok(code.render::<svg::Color<'_>>().min_dimensions(220, 220).quiet_zone(true).build())
}

/// Makes a pairing code for a device of one's own; the keeper may make one for anybody.
#[utoipa::path(responses((status = 201, body = Pairing)))]
#[post("/api/pairings")]
pub async fn create_pairing(app: web::Data<App>, caller: Caller, body: web::Json<NewPairing>) -> Answer<HttpResponse> {
    let by = caller.person()?;
    if body.person.is_some_and(|other| other != by.id) && by.role == Role::Keeper {
        caller.proved(app.now())?;
    }
    let person = match body.person {
        Some(other) if other != by.id && by.role != Role::Keeper => {
            return Err(Failure::new(ProblemType::NotAllowed, "Only the keeper can pair a device for somebody else."));
        }
        Some(other) => app.catalog.person(other).await?,
        None => by.clone(),
    };
    let (id, code, now) = (Uuid::now_v7(), security::pairing_code(), app.now());
    let expires_at = now + chrono::TimeDelta::minutes(CODE_MINUTES);
    app.catalog.create_pairing(id, security::hash(&code).as_bytes(), person.id, by.id, now, expires_at).await?;
    let certificate = (app.address.scheme() == "https").then_some(app.certificate);
    let address = PairingAddress { at: app.address.clone(), code: code.clone(), certificate }.to_string();
    Ok(HttpResponse::Created().json(Pairing {
        id,
        person_name: person.name,
        code: Some(security::spoken(&code)),
        qr_svg: Some(qr_svg(&address)?),
        address: Some(address),
        expires_at,
        state: "waiting".into(),
        device_name: None,
    }))
}

/// Has the code been used?
#[utoipa::path(responses((status = 200, body = Pairing)))]
#[get("/api/pairings/{id}")]
pub async fn show_pairing(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Pairing>> {
    let view = app.catalog.pairing(*id, caller.person()?.id).await?;
    let state = match () {
        () if view.device_name.is_some() => "claimed",
        () if view.withdrawn => "withdrawn",
        () if view.expires_at < app.now() => "expired",
        () => "waiting",
    };
    Ok(web::Json(Pairing {
        id: view.id,
        person_name: view.person_name,
        code: None,
        address: None,
        qr_svg: None,
        expires_at: view.expires_at,
        state: state.into(),
        device_name: view.device_name,
    }))
}

/// Takes a code back.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/pairings/{id}")]
pub async fn withdraw_pairing(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    app.catalog.withdraw_pairing(*id, caller.person()?.id, app.now()).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Claims a code: the device gets its own token. A code works once.
#[utoipa::path(request_body = ClaimPairing, responses((status = 201, body = Claimed)))]
#[post("/api/pairings/claim")]
pub async fn claim_pairing(app: web::Data<App>, request: HttpRequest, body: Small<ClaimPairing>) -> Answer<HttpResponse> {
    let (address, body) = (security::somebody_at(request.peer_addr().map(|a| a.ip())), body.0);
    app.limiter.attempt(&format!("claim from {address}"), CLAIMS)?;
    let name = OriginalName::from_device(&body.device_name);
    let kind = match body.device_kind.as_str() {
        kind @ ("phone" | "tablet" | "computer") => kind,
        _ => "other",
    };
    let client: String = body.client.chars().filter(|c| !c.is_control()).take(80).collect();
    let (id, token) = (DeviceId(Uuid::now_v7()), security::token());
    let hash = security::hash(&token);
    let device = NewDevice { id, name: name.as_str(), kind, client: &client, token_hash: hash.as_bytes() };
    let code = security::hash(&normalise_code(&body.code));
    let person = match app.catalog.claim_pairing(code.as_bytes(), &device, app.now()).await {
        Ok(person) => app.catalog.person(person).await?,
        Err(CatalogError::NotFound) => {
            return Err(Failure::new(
                ProblemType::PairingCodeUnknown,
                "This pairing code is unknown, was used already, or is older than ten minutes. Make a new one in the console.",
            ));
        }
        Err(e) => return Err(e.into()),
    };
    app.catalog.write_record(app.now(), &person.name, &format!("paired {}", name.as_str())).await?;
    app.live.changed(&[LiveEvent::Devices]);
    let certificate = (request.connection_info().scheme() == "https").then(|| app.certificate.to_string());
    Ok(HttpResponse::Created().json(Claimed {
        device: id,
        token,
        household: app.household.name.clone(),
        may: [
            format!("add pictures and videos to what {} has", person.name),
            format!("read back what {} has", person.name),
            "delete or change nothing that the household holds".to_owned(),
        ]
        .into(),
        person_name: person.name,
        certificate,
    }))
}

/// Gives a program its password: one that speaks WebDAV or tus and knows nothing of pairing codes. It is a device of its own from
/// then on, sees what it sent itself, and knows nothing else of the house.
#[utoipa::path(responses((status = 201, body = Connected)))]
#[post("/api/devices")]
pub async fn connect_program(app: web::Data<App>, caller: Caller, body: web::Json<NewProgram>) -> Answer<HttpResponse> {
    let person = caller.person()?;
    let name = device_name(&body.name)?;
    let (id, token) = (DeviceId(Uuid::now_v7()), security::token());
    let hash = security::hash(&token);
    let device = NewDevice { id, name: name.as_str(), kind: "program", client: "", token_hash: hash.as_bytes() };
    app.catalog.add_device(person.id, &device, app.now()).await?;
    app.catalog.write_record(app.now(), &person.name, &format!("connected {}", name.as_str())).await?;
    app.live.changed(&[LiveEvent::Devices]);
    let at = |path: &str| app.address.join(path).map_err(|_| Failure::bad("This service's own address is not usable."));
    Ok(HttpResponse::Created().json(Connected {
        device: id,
        name: name.into(),
        folders: at("dav/")?.to_string(),
        uploads: at("tus/")?.to_string(),
        user: person.folder.clone(),
        password: token,
        certificate: (app.address.scheme() == "https").then(|| app.certificate.to_string()),
    }))
}

fn device_name(text: &str) -> Answer<OriginalName> {
    let name = OriginalName::from_device(text.trim());
    if text.trim().is_empty() || name.as_str().chars().count() > 60 {
        return Err(Failure::bad("A device's name has 1 to 60 characters."));
    }
    Ok(name)
}

/// The devices: all of them for the keeper, one's own for everybody else.
#[utoipa::path(responses((status = 200, body = Vec<Device>)))]
#[get("/api/devices")]
pub async fn list_devices(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Device>>> {
    let views = app.catalog.devices(caller.scope()?, None, app.now()).await?;
    Ok(web::Json(views.into_iter().map(|view| overview::device(view, app.now())).collect()))
}

/// How much of the difference.
#[derive(Deserialize, IntoParams)]
pub struct CoverageQuery {
    /// At most this many files of it, up to 20,000; 500 if it is left out.
    limit: Option<u32>,
}

/// A device, number against number: what it says it has in each source, what of that is here, and the list of the difference.
#[utoipa::path(params(CoverageQuery), responses((status = 200, body = DeviceCoverage)))]
#[get("/api/devices/{id}/coverage")]
pub async fn device_coverage(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    query: web::Query<CoverageQuery>,
) -> Answer<web::Json<DeviceCoverage>> {
    let (id, scope) = (DeviceId(*id), caller.scope()?);
    let limit = i64::from(query.limit.unwrap_or(500).clamp(1, 20_000));
    let sources = app.catalog.coverage(id, scope).await?;
    let mut missing = app.catalog.difference(id, scope, limit + 1).await?;
    let more = missing.len() as i64 > limit;
    missing.truncate(limit as usize);
    Ok(web::Json(DeviceCoverage {
        more,
        sources: sources
            .into_iter()
            .map(|c| SourceCoverage {
                name: c.told.name,
                files: c.told.files,
                bytes: c.told.bytes,
                // Names that have left the source since are here all the same, and not among what it has.
                home: c.home.min(c.told.files),
                refused: c.refused,
                cleared: c.cleared,
                left_out: c.told.left_out,
                rule: c.told.rule,
                selection_only: c.told.selection_only,
                told_at: c.told_at,
            })
            .collect(),
        missing: missing
            .into_iter()
            .map(|m| MissingFile { source: m.source, name: m.name, size: m.size, refused: m.refused, seen_at: m.seen_at })
            .collect(),
    }))
}

/// Gives a device another name.
#[utoipa::path(responses((status = 204)))]
#[patch("/api/devices/{id}")]
pub async fn rename_device(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<DeviceChange>,
) -> Answer<HttpResponse> {
    let name = device_name(&body.name)?;
    app.catalog.rename_device(DeviceId(*id), caller.scope()?, name.as_str()).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(HttpResponse::NoContent().finish())
}

/// Takes a device's credential away, at once. What it sent stays.
#[utoipa::path(responses((status = 204)))]
#[post("/api/devices/{id}/revoke")]
pub async fn revoke_device(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    let (id, now) = (DeviceId(*id), app.now());
    app.catalog.revoke_device(id, caller.scope()?, now).await?;
    let name = app.catalog.devices(None, Some(id), now).await?.pop().map(|d| d.name).unwrap_or_default();
    app.catalog.write_record(now, &caller.person()?.name, &format!("revoked {name}")).await?;
    app.live.changed(&[LiveEvent::Devices]);
    Ok(HttpResponse::NoContent().finish())
}
