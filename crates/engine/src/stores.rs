//! Stores: adding one, trying it out, having it wait, and what was sent.

use std::path::{Path, PathBuf};

use chrono::TimeDelta;
use url::Url;
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, stores::StoreSettings};
use ypogeion_core::{Digest, StoreId, checksum::Checksum, kit::StoreAddress};
use ypogeion_offsite::{Replica, Store as Opened, layout::ReplicaError, trial};
use ypogeion_wire::offsite::{ExposedHour, History, NewStore, ResumeStore, Store, StoreChange, TrafficHour, Trial, TrialStep};

use crate::{
    costs,
    engine::Engine,
    error::{Error, Result},
    live::Change,
    overview, secrets, weeks, work,
};

/// As much history is told.
const HISTORY: TimeDelta = TimeDelta::days(14);

/// The stores, with their numbers.
pub async fn list(engine: &Engine) -> Result<Vec<Store>> {
    let mut stores = Vec::new();
    for row in engine.catalog.stores().await? {
        stores.push(overview::store(engine, row).await?);
    }
    Ok(stores)
}

/// What was sent in the last two weeks, and how exposed the house was, hour by hour; the present hour as it is now.
pub async fn history(engine: &Engine) -> Result<History> {
    let (now, stores) = (engine.now(), engine.catalog.stores().await?);
    engine.catalog.note_exposure(&engine.catalog.depths(None, engine.proven_since()).await?, now).await?;
    let since = now - HISTORY;
    let name = |id: Uuid| stores.iter().find(|s| s.id.0 == id).map(|s| s.address.name.clone());
    let unsigned = |n: i64| u64::try_from(n).unwrap_or(0);
    let traffic = engine
        .catalog
        .traffic(since)
        .await?
        .into_iter()
        .filter_map(|t| Some(TrafficHour { store: t.store, name: name(t.store)?, hour: t.hour, bytes: unsigned(t.bytes) }));
    let exposure = engine.catalog.exposure(since).await?.into_iter().map(|e| ExposedHour {
        hour: e.hour,
        originals: unsigned(e.originals),
        bytes: unsigned(e.bytes),
        oldest_hours: e.since.map_or(0, |s| unsigned((e.hour - s).num_hours())),
    });
    Ok(History { traffic: traffic.collect(), exposure: exposure.collect() })
}

/// Adds a store, after it was reached, signed in to, written to and read back. Sending begins at once.
pub async fn add(engine: &Engine, who: &str, new: NewStore) -> Result<Store> {
    let away = new.away.unwrap_or(true);
    let address = checked(engine, new)?;
    // Everything that could go wrong goes wrong here, in front of the keeper, and not at three in the morning.
    let (way, keys) = (Opened::new(&address)?, engine.keyring.keys());
    let keys = if address.sealed { keys } else { keys.plainly() };
    Replica::open_or_begin(way, keys, engine.household.replica, engine.now()).await.map_err(|e| match e {
        ReplicaError::OtherwiseKept { sealed } => Error::invalid(format!(
            "There are copies of this household already, and they are {}. Choose another prefix or folder.",
            if sealed { "sealed" } else { "readable" }
        )),
        e => e.into(),
    })?;
    // Before anything is sent: until that is known, no answer of it counts for a copy.
    let checksum = trial::verified_checksum(&address, u128::from_le_bytes(secrets::random())).await;
    let (id, name) = (StoreId(Uuid::now_v7()), address.name.clone());
    let kept = StoreAddress { secret_key: engine.connections.sealed(&address.secret_key)?, ..address };
    engine.catalog.add_store(id, &kept, (away, checksum), engine.now()).await.map_err(|e| match e {
        CatalogError::Taken => Error::NameTaken("A store with this name, or in this place, was added already.".to_owned()),
        e => e.into(),
    })?;
    engine.catalog.want_rounds(|check| work::checks::first_round(engine, check)).await?;
    engine.catalog.write_record(engine.now(), who, &format!("added the store {name}")).await?;
    engine.live.changed(&[Change::Offsite, Change::Work]);
    overview::store(engine, engine.catalog.store(id).await?).await
}

/// Tries a store out without adding it: what works, step by step.
pub async fn try_new(engine: &Engine, new: NewStore) -> Result<Trial> {
    Ok(tried(engine, &checked(engine, new)?).await.1)
}

/// Tries a store out that was added before, with the keys that it has.
pub async fn try_again(engine: &Engine, id: StoreId) -> Result<Trial> {
    let store = engine.catalog.store(id).await?;
    let (checksum, told) = tried(engine, &engine.connections.address_of(&store)?).await;
    if told.usable && checksum != store.checksum {
        engine.catalog.set_store_checksum(store.id, checksum).await?;
        engine.connections.forget_replica(store.id);
    }
    Ok(told)
}

/// What came of it, and the checksum that the store verifies.
async fn tried(engine: &Engine, address: &StoreAddress) -> (Option<Checksum>, Trial) {
    let tried = trial::try_out(address, u128::from_le_bytes(secrets::random()), engine.now()).await;
    let (usable, checksum) = (trial::usable(&tried), trial::verifies(&tried));
    let steps = tried.into_iter().map(|t| TrialStep {
        step: t.step.word().into(),
        went: t.went.word().into(),
        said: t.said,
        certificate: t.certificate.as_ref().map(ypogeion_pin::printed),
    });
    (checksum, Trial { usable, steps: steps.collect() })
}

fn field(what: &str, value: &str, may_be_empty: bool) -> Result<String> {
    let value = value.trim().to_owned();
    if (value.is_empty() && !may_be_empty) || value.len() > 500 || value.chars().any(char::is_control) {
        return Err(Error::invalid(format!("The {what} of a store is missing or has characters that cannot be used.")));
    }
    Ok(value)
}

fn checked(engine: &Engine, new: NewStore) -> Result<StoreAddress> {
    let endpoint = field("address", &new.endpoint, false)?;
    let certificate = fingerprint(new.certificate.as_deref())?;
    if certificate.is_some() && !["https://", "davs://"].iter().any(|s| endpoint.starts_with(s)) {
        return Err(Error::invalid("Only a store with an https:// or davs:// address shows a certificate that can be trusted."));
    }
    if let Some(folder) = endpoint.strip_prefix("file://") {
        return on_disk(engine, &new, folder);
    }
    if let Some((scheme @ ("dav" | "davs"), rest)) = endpoint.split_once("://") {
        return on_share(&new, scheme, rest, certificate);
    }
    if !Url::parse(&endpoint).is_ok_and(|u| matches!(u.scheme(), "http" | "https") && u.has_host()) {
        return Err(Error::invalid("The address of a store begins with https:// (or http:// in your own network)."));
    }
    Ok(StoreAddress {
        endpoint: endpoint.trim_end_matches('/').to_owned(),
        region: field("region", &new.region, true)?,
        bucket: field("bucket", &new.bucket, false)?,
        access_key: field("access key", &new.access_key, false)?,
        secret_key: field("secret key", &new.secret_key, false)?,
        certificate,
        ..named(&new)?
    })
}

/// What every kind of store has.
fn named(new: &NewStore) -> Result<StoreAddress> {
    Ok(StoreAddress {
        name: field("name", &new.name, false)?,
        endpoint: String::new(),
        region: String::new(),
        bucket: String::new(),
        prefix: field("prefix", &new.prefix, true)?.trim_matches('/').to_owned(),
        access_key: String::new(),
        secret_key: String::new(),
        sealed: !new.readable,
        certificate: None,
    })
}

fn on_disk(engine: &Engine, new: &NewStore, folder: &str) -> Result<StoreAddress> {
    Ok(StoreAddress { endpoint: format!("file://{}", disk(engine, folder)?), ..named(new)? })
}

fn on_share(new: &NewStore, scheme: &str, rest: &str, certificate: Option<Digest>) -> Result<StoreAddress> {
    if !Url::parse(&format!("http://{rest}")).is_ok_and(|u| u.has_host() && u.username().is_empty() && u.query().is_none()) {
        return Err(Error::invalid(
            "The address of a share is davs:// (or dav:// in your own network), its server, and its folder.",
        ));
    }
    Ok(StoreAddress {
        endpoint: format!("{scheme}://{}", rest.trim_end_matches('/')),
        access_key: field("user name", &new.access_key, true)?,
        secret_key: field("password", &new.secret_key, true)?,
        certificate,
        ..named(new)?
    })
}

/// The fingerprint of a certificate, as people copy it.
fn fingerprint(text: Option<&str>) -> Result<Option<Digest>> {
    let given = text.map(str::trim).filter(|t| !t.is_empty());
    let read = given.map(|t| {
        ypogeion_pin::read(t)
            .ok_or_else(|| Error::invalid("A fingerprint is the SHA-256 of a certificate: 64 digits, 0 to 9 and A to F."))
    });
    read.transpose()
}

/// A folder that copies may be kept in: below one that the settings name, by its true path, and not where originals are.
fn disk(engine: &Engine, folder: &str) -> Result<String> {
    let place = Path::new(folder).canonicalize().ok().filter(|p| p.is_dir()).ok_or_else(|| {
        Error::invalid(format!("There is no folder {folder} on this server. Is the disk connected and mounted?"))
    })?;
    let within = |outer: &PathBuf| outer.canonicalize().is_ok_and(|o| place.starts_with(o));
    if !engine.settings.copy_to.iter().any(within) {
        return Err(Error::invalid(
            "This folder is not below one that the settings name for copies. Add it to copy_to in the settings file and start the service again.",
        ));
    }
    if within(&engine.settings.library) || within(&engine.settings.data_folder) {
        return Err(Error::invalid(
            "Choose a folder outside of the library and of the data folder: copies in there would be lost together with the originals.",
        ));
    }
    // It has to survive being printed, read and typed.
    let plain = place.to_str().filter(|p| !p.contains("  ") && !p.ends_with(' ') && !p.chars().any(char::is_control));
    plain.map(str::to_owned).ok_or_else(|| Error::invalid("The path of this folder has characters that cannot be kept."))
}

/// Goes on after a stop, with new keys or another trusted certificate if they are given. `proved`: whoever asks typed their password lately,
/// without which no other certificate is trusted: whoever answers with that one is given all that is sent there.
pub async fn resume(engine: &Engine, who: &str, id: StoreId, body: &ResumeStore, proved: bool) -> Result<Store> {
    let certificate = fingerprint(body.certificate.as_deref())?;
    if certificate.is_some() && !proved {
        return Err(Error::PasswordWanted);
    }
    let given = |k: &Option<String>| k.as_deref().map(str::trim).filter(|k| !k.is_empty()).map(str::to_owned);
    let secret = given(&body.secret_key).map(|s| engine.connections.sealed(&s)).transpose()?;
    let access = given(&body.access_key);
    engine.catalog.resume_store(id, access.as_deref(), secret.as_deref(), certificate, engine.now()).await?;
    engine.connections.forget_replica(id);
    let row = engine.catalog.store(id).await?;
    engine.catalog.write_record(engine.now(), who, &format!("resumed sending to {}", row.address.name)).await?;
    engine.wakeups.wake_all();
    engine.live.changed(&[Change::Offsite]);
    overview::store(engine, row).await
}

/// Has a store wait, lets it go on, gives it another week or other prices, or says whether it is away from home.
pub async fn change(engine: &Engine, who: &str, id: StoreId, body: StoreChange) -> Result<Store> {
    let change = StoreSettings {
        paused: body.paused,
        week: body.week.as_ref().map(weeks::read).transpose()?,
        away: body.away,
        prices: body.prices.map(costs::read).transpose()?,
    };
    engine.catalog.change_store(id, &change, engine.now()).await?;
    let row = engine.catalog.store(id).await?;
    engine.connections.week_changed(&row);
    let name = &row.address.name;
    let done = match &change {
        StoreSettings { paused: Some(true), .. } => format!("paused sending to {name}"),
        StoreSettings { paused: Some(false), .. } => format!("resumed sending to {name}"),
        StoreSettings { week: Some(_), .. } => format!("changed when and how fast copies go to {name}"),
        StoreSettings { away: Some(true), .. } => format!("said that {name} is offsite"),
        StoreSettings { away: Some(false), .. } => format!("said that {name} is kept in this house"),
        _ => format!("changed the prices of {name}"),
    };
    engine.catalog.write_record(engine.now(), who, &done).await?;
    engine.wakeups.wake_all();
    engine.live.changed(&[Change::Offsite, Change::Work, Change::Overview, Change::Library]);
    overview::store(engine, row).await
}
