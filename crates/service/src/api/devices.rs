//! Devices as people see them, and pairing.

use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, web};
use qrcode::{QrCode, render::svg};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_core::DeviceId;
use ypogeion_engine::{devices, secrets};
use ypogeion_wire::{
    pairing::PairingAddress,
    people::{ClaimPairing, Claimed, Connected, Device, DeviceChange, DeviceCoverage, NewPairing, NewProgram, Pairing},
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    security::{self, Small},
};

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
    let (by, proved) = (caller.person()?, caller.has_proved(app.engine.now())?);
    let made = devices::new_code(&app.engine, by, body.person, proved).await?;
    let certificate = (app.address.scheme() == "https").then_some(app.certificate);
    let address = PairingAddress { at: app.address.clone(), code: made.code.0.clone(), certificate }.to_string();
    Ok(HttpResponse::Created().json(Pairing {
        id: made.id,
        person_name: made.person_name,
        code: Some(secrets::spoken(&made.code.0)),
        qr_svg: Some(qr_svg(&address)?),
        address: Some(address),
        expires_at: made.expires_at,
        state: "waiting".into(),
        device_name: None,
    }))
}

/// Has the code been used?
#[utoipa::path(responses((status = 200, body = Pairing)))]
#[get("/api/pairings/{id}")]
pub async fn show_pairing(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Pairing>> {
    let view = app.engine.catalog.pairing(*id, caller.person()?.id).await?;
    let state = match () {
        () if view.device_name.is_some() => "claimed",
        () if view.withdrawn => "withdrawn",
        () if view.expires_at < app.engine.now() => "expired",
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
    app.engine.catalog.withdraw_pairing(*id, caller.person()?.id, app.engine.now()).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Claims a code: the device gets its own token. A code works once.
#[utoipa::path(request_body = ClaimPairing, responses((status = 201, body = Claimed)))]
#[post("/api/pairings/claim")]
pub async fn claim_pairing(app: web::Data<App>, request: HttpRequest, body: Small<ClaimPairing>) -> Answer<HttpResponse> {
    let (address, body) = (security::somebody_at(request.peer_addr().map(|a| a.ip())), body.0);
    app.limiter.attempt(&format!("claim from {address}"), CLAIMS)?;
    let made = devices::claim(&app.engine, &body).await?;
    let certificate = (request.connection_info().scheme() == "https").then(|| app.certificate.to_string());
    Ok(HttpResponse::Created().json(Claimed {
        device: made.device,
        token: made.token,
        household: app.engine.household.name.clone(),
        may: [
            format!("add pictures and videos to what {} has", made.person.name),
            format!("read back what {} has", made.person.name),
            "delete or change nothing that the household holds".to_owned(),
        ]
        .into(),
        person_name: made.person.name,
        certificate,
    }))
}

/// Gives a program its password: one that speaks WebDAV or tus and knows nothing of pairing codes. It is a device of its own from
/// then on, sees what it sent itself, and knows nothing else of the house.
#[utoipa::path(responses((status = 201, body = Connected)))]
#[post("/api/devices")]
pub async fn connect_program(app: web::Data<App>, caller: Caller, body: web::Json<NewProgram>) -> Answer<HttpResponse> {
    let made = devices::connect(&app.engine, caller.person()?, &body.name).await?;
    let at = |path: &str| app.address.join(path).map_err(|_| Failure::bad("This service's own address is not usable."));
    Ok(HttpResponse::Created().json(Connected {
        device: made.device,
        name: made.name,
        folders: at("dav/")?.to_string(),
        uploads: at("tus/")?.to_string(),
        user: made.person.folder,
        password: made.token,
        certificate: (app.address.scheme() == "https").then(|| app.certificate.to_string()),
    }))
}

/// The devices: all of them for the keeper, one's own for everybody else.
#[utoipa::path(responses((status = 200, body = Vec<Device>)))]
#[get("/api/devices")]
pub async fn list_devices(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Device>>> {
    Ok(web::Json(devices::list(&app.engine, caller.scope()?).await?))
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
    let limit = i64::from(query.limit.unwrap_or(500).clamp(1, 20_000));
    Ok(web::Json(devices::coverage(&app.engine, caller.scope()?, DeviceId(*id), limit).await?))
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
    devices::rename(&app.engine, caller.scope()?, DeviceId(*id), &body.name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Takes a device's credential away, at once. What it sent stays.
#[utoipa::path(responses((status = 204)))]
#[post("/api/devices/{id}/revoke")]
pub async fn revoke_device(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    devices::revoke(&app.engine, &caller.person()?.name, caller.scope()?, DeviceId(*id)).await?;
    Ok(HttpResponse::NoContent().finish())
}
