//! Stores and the recovery kit.

use std::path::{Path, PathBuf};

use actix_web::{HttpResponse, get, patch, post, web};
use chrono::TimeDelta;
use url::Url;
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, stores::StoreSettings};
use ypogeion_core::{
    Digest, StoreId,
    kit::{KitEnd, RecoveryKit, StoreAddress},
};
use ypogeion_offsite::{Replica, Store as Opened, layout::ReplicaError, trial};
use ypogeion_wire::{
    offsite::{ExposedHour, History, Kit, NewStore, ResumeStore, ShowKit, Store, StoreChange, TrafficHour, Trial, TrialStep},
    problem::ProblemType,
    work::LiveEvent,
};

use super::{devices::qr_svg, keys, session::same_password};
use crate::{
    app::App,
    caller::Caller,
    costs,
    failure::{Answer, Failure},
    keys::read_file,
    overview, security, weeks, work,
};

/// The stores, with their numbers.
#[utoipa::path(responses((status = 200, body = Vec<Store>)))]
#[get("/api/stores")]
pub async fn list_stores(app: web::Data<App>) -> Answer<web::Json<Vec<Store>>> {
    let mut stores = Vec::new();
    for row in app.catalog.stores().await? {
        stores.push(overview::store(&app, row).await?);
    }
    Ok(web::Json(stores))
}

/// What was sent in the last two weeks, and how exposed the house was, hour by hour; the present hour as it is now.
#[utoipa::path(responses((status = 200, body = History)))]
#[get("/api/history")]
pub async fn show_history(app: web::Data<App>) -> Answer<web::Json<History>> {
    let (now, stores) = (app.now(), app.catalog.stores().await?);
    app.catalog.note_exposure(&app.catalog.depths(None, app.proven_since()).await?, now).await?;
    let since = now - TimeDelta::days(14);
    let name = |id: Uuid| stores.iter().find(|s| s.id.0 == id).map(|s| s.address.name.clone());
    let traffic = app.catalog.traffic(since).await?.into_iter().filter_map(|t| {
        Some(TrafficHour { store: t.store, name: name(t.store)?, hour: t.hour, bytes: u64::try_from(t.bytes).unwrap_or(0) })
    });
    let unsigned = |n: i64| u64::try_from(n).unwrap_or(0);
    let exposure = app.catalog.exposure(since).await?.into_iter().map(|e| ExposedHour {
        hour: e.hour,
        originals: unsigned(e.originals),
        bytes: unsigned(e.bytes),
        oldest_hours: e.since.map_or(0, |s| unsigned((e.hour - s).num_hours())),
    });
    Ok(web::Json(History { traffic: traffic.collect(), exposure: exposure.collect() }))
}

/// Adds a store, after it was reached, signed in to, written to and read back. Sending begins at once.
#[utoipa::path(responses((status = 201, body = Store)))]
#[post("/api/stores")]
pub async fn add_store(app: web::Data<App>, caller: Caller, body: web::Json<NewStore>) -> Answer<HttpResponse> {
    // A readable one is handed everything.
    caller.proved(app.now())?;
    let new = body.into_inner();
    let away = new.away.unwrap_or(true);
    let address = checked(&app, new)?;
    // Everything that could go wrong goes wrong here, in front of the keeper, and not at three in the morning.
    let (way, keys) = (Opened::new(&address)?, app.keyring.keys());
    let keys = if address.sealed { keys } else { keys.plainly() };
    Replica::open_or_begin(way, keys, app.household.replica, app.now()).await.map_err(|e| match e {
        ReplicaError::OtherwiseKept { sealed } => Failure::bad(format!(
            "There are copies of this household already, and they are {}. Choose another prefix or folder.",
            if sealed { "sealed" } else { "readable" }
        )),
        e => e.into(),
    })?;
    // Before anything is sent: until that is known, no answer of it counts for a copy.
    let notices = trial::tells_changed_bytes(&address, u128::from_le_bytes(security::random())).await;
    let (id, name) = (StoreId(Uuid::now_v7()), address.name.clone());
    let kept = StoreAddress { secret_key: app.sealed(&address.secret_key)?, ..address.clone() };
    app.catalog.add_store(id, &kept, (away, notices), app.now()).await.map_err(|e| match e {
        CatalogError::Taken => {
            Failure::new(ProblemType::NameTaken, "A store with this name, or in this place, was added already.")
        }
        e => e.into(),
    })?;
    app.catalog.want_rounds(|check| work::audit::first_round(&app, check)).await?;
    app.catalog.write_record(app.now(), &caller.person()?.name, &format!("added the store {name}")).await?;
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Work]);
    Ok(HttpResponse::Created().json(overview::store(&app, app.catalog.store(id).await?).await?))
}

/// Tries a store out without adding it: what works, step by step.
#[utoipa::path(responses((status = 200, body = Trial)))]
#[post("/api/stores/trial")]
pub async fn try_store(app: web::Data<App>, body: web::Json<NewStore>) -> Answer<web::Json<Trial>> {
    Ok(web::Json(tried(&app, &checked(&app, body.into_inner())?).await.1))
}

/// Tries a store out that was added before, with the keys that it has.
#[utoipa::path(responses((status = 200, body = Trial)))]
#[post("/api/stores/{id}/trial")]
pub async fn try_store_again(app: web::Data<App>, id: web::Path<Uuid>) -> Answer<web::Json<Trial>> {
    let store = app.catalog.store(StoreId(*id)).await?;
    let (notices, told) = tried(&app, &app.address_of(&store)?).await;
    if told.usable && notices != store.notices {
        app.catalog.set_store_notices(store.id, notices).await?;
        app.forget_replica(store.id);
    }
    Ok(web::Json(told))
}

/// What came of it, and whether the store notices bytes that changed on their way.
async fn tried(app: &App, address: &StoreAddress) -> (bool, Trial) {
    let tried = trial::try_out(address, u128::from_le_bytes(security::random()), app.now()).await;
    let (usable, notices) = (trial::usable(&tried), trial::notices(&tried));
    let steps = tried.into_iter().map(|t| TrialStep {
        step: t.step.word().into(),
        went: t.went.word().into(),
        said: t.said,
        certificate: t.certificate.as_ref().map(ypogeion_pin::printed),
    });
    (notices, Trial { usable, steps: steps.collect() })
}

fn checked(app: &App, new: NewStore) -> Answer<StoreAddress> {
    let field = |what: &str, value: String, empty: bool| -> Answer<String> {
        let value = value.trim().to_owned();
        if (value.is_empty() && !empty) || value.len() > 500 || value.chars().any(char::is_control) {
            return Err(Failure::bad(format!("The {what} of a store is missing or has characters that cannot be used.")));
        }
        Ok(value)
    };
    let (endpoint, sealed) = (field("address", new.endpoint, false)?, !new.readable);
    let certificate = fingerprint(new.certificate.as_deref())?;
    if certificate.is_some() && !["https://", "davs://"].iter().any(|s| endpoint.starts_with(s)) {
        return Err(Failure::bad("Only a store with an https:// or davs:// address shows a certificate that can be trusted."));
    }
    if let Some(folder) = endpoint.strip_prefix("file://") {
        return Ok(StoreAddress {
            name: field("name", new.name, false)?,
            endpoint: format!("file://{}", disk(app, folder)?),
            region: String::new(),
            bucket: String::new(),
            prefix: field("prefix", new.prefix, true)?.trim_matches('/').to_owned(),
            access_key: String::new(),
            secret_key: String::new(),
            sealed,
            certificate: None,
        });
    }
    if let Some((scheme @ ("dav" | "davs"), rest)) = endpoint.split_once("://") {
        if !Url::parse(&format!("http://{rest}")).is_ok_and(|u| u.has_host() && u.username().is_empty() && u.query().is_none()) {
            return Err(Failure::bad(
                "The address of a share is davs:// (or dav:// in your own network), its server, and its folder.",
            ));
        }
        return Ok(StoreAddress {
            name: field("name", new.name, false)?,
            endpoint: format!("{scheme}://{}", rest.trim_end_matches('/')),
            region: String::new(),
            bucket: String::new(),
            prefix: field("prefix", new.prefix, true)?.trim_matches('/').to_owned(),
            access_key: field("user name", new.access_key, true)?,
            secret_key: field("password", new.secret_key, true)?,
            sealed,
            certificate,
        });
    }
    if !Url::parse(&endpoint).is_ok_and(|u| matches!(u.scheme(), "http" | "https") && u.has_host()) {
        return Err(Failure::bad("The address of a store begins with https:// (or http:// in your own network)."));
    }
    Ok(StoreAddress {
        name: field("name", new.name, false)?,
        endpoint: endpoint.trim_end_matches('/').to_owned(),
        region: field("region", new.region, true)?,
        bucket: field("bucket", new.bucket, false)?,
        prefix: field("prefix", new.prefix, true)?.trim_matches('/').to_owned(),
        access_key: field("access key", new.access_key, false)?,
        secret_key: field("secret key", new.secret_key, false)?,
        sealed,
        certificate,
    })
}

/// The fingerprint of a certificate, as people copy it.
fn fingerprint(text: Option<&str>) -> Answer<Option<Digest>> {
    let given = text.map(str::trim).filter(|t| !t.is_empty());
    let read = given.map(|t| {
        ypogeion_pin::read(t)
            .ok_or_else(|| Failure::bad("A fingerprint is the SHA-256 of a certificate: 64 digits, 0 to 9 and A to F."))
    });
    read.transpose()
}

/// A folder that copies may be kept in: below one that the settings name, by its true path, and not where originals are.
fn disk(app: &App, folder: &str) -> Answer<String> {
    let place =
        Path::new(folder).canonicalize().ok().filter(|p| p.is_dir()).ok_or_else(|| {
            Failure::bad(format!("There is no folder {folder} on this server. Is the disk connected and mounted?"))
        })?;
    let within = |outer: &PathBuf| outer.canonicalize().is_ok_and(|o| place.starts_with(o));
    if !app.settings.copy_to.iter().any(within) {
        return Err(Failure::bad(
            "This folder is not below one that the settings name for copies. Add it to copy_to in the settings file and start the service again.",
        ));
    }
    if within(&app.settings.library) || within(&app.settings.data_folder) {
        return Err(Failure::bad(
            "Choose a folder outside of the library and of the data folder: copies in there would be lost together with the originals.",
        ));
    }
    // It has to survive being printed, read and typed.
    let plain = place.to_str().filter(|p| !p.contains("  ") && !p.ends_with(' ') && !p.chars().any(char::is_control));
    plain.map(str::to_owned).ok_or_else(|| Failure::bad("The path of this folder has characters that cannot be kept."))
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
    let (id, certificate) = (StoreId(*id), fingerprint(body.certificate.as_deref())?);
    if certificate.is_some() {
        // Whoever answers with this one is given all that is sent there.
        caller.proved(app.now())?;
    }
    let given = |k: &Option<String>| k.as_deref().map(str::trim).filter(|k| !k.is_empty()).map(str::to_owned);
    let secret = given(&body.secret_key).map(|s| app.sealed(&s)).transpose()?;
    app.catalog.resume_store(id, given(&body.access_key).as_deref(), secret.as_deref(), certificate, app.now()).await?;
    app.forget_replica(id);
    let row = app.catalog.store(id).await?;
    app.catalog.write_record(app.now(), &caller.person()?.name, &format!("let {} go on", row.address.name)).await?;
    app.wake_workers();
    app.live.changed(&[LiveEvent::Offsite]);
    Ok(web::Json(overview::store(&app, row).await?))
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
    let (id, body) = (StoreId(*id), body.into_inner());
    let change = StoreSettings {
        paused: body.paused,
        week: body.week.as_ref().map(weeks::read).transpose()?,
        away: body.away,
        prices: body.prices.map(costs::read).transpose()?,
    };
    app.catalog.change_store(id, &change, app.now()).await?;
    let row = app.catalog.store(id).await?;
    app.week_changed(&row);
    let (who, name) = (&caller.person()?.name, &row.address.name);
    let done = match &change {
        StoreSettings { paused: Some(true), .. } => format!("paused {name}"),
        StoreSettings { paused: Some(false), .. } => format!("let {name} go on"),
        StoreSettings { week: Some(_), .. } => format!("changed when and how fast copies go to {name}"),
        StoreSettings { away: Some(true), .. } => format!("said that {name} is offsite"),
        StoreSettings { away: Some(false), .. } => format!("said that {name} is kept in this house"),
        _ => format!("changed the prices of {name}"),
    };
    app.catalog.write_record(app.now(), who, &done).await?;
    app.wake_workers();
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Work, LiveEvent::Overview, LiveEvent::Library]);
    Ok(web::Json(overview::store(&app, row).await?))
}

async fn addresses(app: &App) -> Answer<Vec<StoreAddress>> {
    Ok(app.catalog.stores().await?.iter().map(|s| app.address_of(s)).collect::<Result<Vec<_>, _>>()?)
}

/// A hash of what a kit would say now, by the public halves of its keys: another one means that a kit that was printed is out of date.
pub async fn kit_now(app: &App) -> Answer<String> {
    let mut own = app.catalog.sealing(None, app.now()).await?.own.into_iter().map(|k| k.recipient);
    let kit = RecoveryKit {
        household: app.household.name.clone(),
        made: Default::default(),
        key: own.next().unwrap_or_default(),
        older: own.collect(),
        ledger_key: Some(app.keyring.ledger.clone()),
        stores: addresses(app).await?,
        ends: Vec::new(),
    };
    Ok(kit.says().to_string())
}

/// The recovery kit. It opens everything, so the keeper's password is asked for again.
#[utoipa::path(responses((status = 200, body = Kit)))]
#[post("/api/kit")]
pub async fn show_kit(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<HttpResponse> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    let stores = addresses(&app).await?;
    if stores.is_empty() {
        return Err(Failure::bad("Add a store first: a recovery kit says where the copies are."));
    }
    let kept = keys::file(read_file(&app.settings.key_file()))?;
    if !kept.is_empty() {
        keys::enough(&app, &kept, &app.catalog.sealing(None, app.now()).await?).await?;
    }
    let mut kept = kept.into_iter().map(|k| k.reveal());
    let Some(key) = kept.next() else {
        return Err(Failure::bad(
            "This server keeps no key that opens copies, so it cannot print another kit. The one that you have is good; add new stores to it by hand.",
        ));
    };
    let (household, made) = (app.household.name.clone(), app.now().date_naive());
    let ends = app.catalog.stores().await?.iter().map(|s| s.ledger_end.as_ref().map(KitEnd::of)).collect();
    let ledger_key = Some(app.keyring.ledger.clone());
    let kit = RecoveryKit { household, made, key, older: kept.collect(), ledger_key, stores, ends };
    keys::note_shown(&app, &kit).await?;
    app.catalog.write_record(app.now(), &keeper.name, "looked at the recovery kit").await?;
    let text = kit.to_text();
    Ok(HttpResponse::Ok().insert_header(("Cache-Control", "no-store")).json(Kit { qr_svg: qr_svg(&text)?, text }))
}
