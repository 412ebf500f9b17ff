//! Devices as people see them: pairing one, connecting a program, what it has, its name, and its end.

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_catalog::{CatalogError, devices::NewDevice, people::Person};
use ypogeion_core::{DeviceId, OriginalName, PersonId, access::Role};
use ypogeion_wire::{
    pairing::normalise_code,
    people::{ClaimPairing, Device, DeviceCoverage, MissingFile, SourceCoverage},
};

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::Change,
    overview, secrets,
};

/// How long a pairing code is good for.
const CODE_LIFE: TimeDelta = TimeDelta::minutes(10);

/// A pairing code that was just made.
#[derive(Debug)]
pub struct NewCode {
    /// Which pairing.
    pub id: Uuid,
    /// Whose device it will be.
    pub person_name: String,
    /// The code.
    pub code: Code,
    /// Until when it is good.
    pub expires_at: DateTime<Utc>,
}

/// A code that is shown once and kept as a hash.
pub struct Code(pub String);

impl std::fmt::Debug for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("(a code)")
    }
}

/// Makes a pairing code for a device of one's own; the keeper may make one for anybody. `proved`: whoever asks typed their password lately,
/// without which not even the keeper pairs for somebody else.
pub async fn new_code(engine: &Engine, by: &Person, of: Option<PersonId>, proved: bool) -> Result<NewCode> {
    let person = match of.filter(|other| *other != by.id) {
        Some(_) if by.role != Role::Keeper => {
            return Err(Error::NotAllowed("Only the keeper can pair a device for somebody else.".to_owned()));
        }
        Some(_) if !proved => return Err(Error::PasswordWanted),
        Some(other) => engine.catalog.person(other).await?,
        None => by.clone(),
    };
    let (id, code, now) = (Uuid::now_v7(), secrets::pairing_code(), engine.now());
    let expires_at = now + CODE_LIFE;
    engine.catalog.create_pairing(id, secrets::hash(&code).as_bytes(), person.id, by.id, now, expires_at).await?;
    Ok(NewCode { id, person_name: person.name, code: Code(code), expires_at })
}

/// A device that has just been let in.
pub struct NewToken {
    /// Which.
    pub device: DeviceId,
    /// What it is called here.
    pub name: String,
    /// Whose it is.
    pub person: Person,
    /// Its credential, kept as a hash alone.
    pub token: String,
}

/// Claims a code: the device gets its own token. A code works once.
pub async fn claim(engine: &Engine, body: &ClaimPairing) -> Result<NewToken> {
    let name = OriginalName::from_device(&body.device_name);
    let kind = match body.device_kind.as_str() {
        kind @ ("phone" | "tablet" | "computer") => kind,
        _ => "other",
    };
    let client: String = body.client.chars().filter(|c| !c.is_control()).take(80).collect();
    let (id, token) = (DeviceId(Uuid::now_v7()), secrets::token());
    let hash = secrets::hash(&token);
    let device = NewDevice { id, name: name.as_str(), kind, client: &client, token_hash: hash.as_bytes() };
    let code = secrets::hash(&normalise_code(&body.code));
    let person = match engine.catalog.claim_pairing(code.as_bytes(), &device, engine.now()).await {
        Ok(person) => engine.catalog.person(person).await?,
        Err(CatalogError::NotFound) => {
            return Err(Error::PairingCodeUnknown(
                "This pairing code is unknown, was used already, or is older than ten minutes. Make a new one in the console."
                    .to_owned(),
            ));
        }
        Err(e) => return Err(e.into()),
    };
    engine.catalog.write_record(engine.now(), &person.name, &format!("paired {}", name.as_str())).await?;
    engine.live.changed(&[Change::Device(person.id, id)]);
    Ok(NewToken { device: id, name: name.into(), person, token })
}

/// Gives a program its password: one that speaks WebDAV or tus and knows nothing of pairing codes. It is a device of its own from
/// then on, sees what it sent itself, and knows nothing else of the house.
pub async fn connect(engine: &Engine, person: &Person, wanted: &str) -> Result<NewToken> {
    let name = checked_name(wanted)?;
    let (id, token) = (DeviceId(Uuid::now_v7()), secrets::token());
    let hash = secrets::hash(&token);
    let device = NewDevice { id, name: name.as_str(), kind: "program", client: "", token_hash: hash.as_bytes() };
    engine.catalog.add_device(person.id, &device, engine.now()).await?;
    engine.catalog.write_record(engine.now(), &person.name, &format!("connected {}", name.as_str())).await?;
    engine.live.changed(&[Change::Device(person.id, id)]);
    Ok(NewToken { device: id, name: name.into(), person: person.clone(), token })
}

fn checked_name(text: &str) -> Result<OriginalName> {
    let name = OriginalName::from_device(text.trim());
    if text.trim().is_empty() || name.as_str().chars().count() > 60 {
        return Err(Error::invalid("A device's name has 1 to 60 characters."));
    }
    Ok(name)
}

/// The devices of a member, or of all.
pub async fn list(engine: &Engine, scope: Option<PersonId>) -> Result<Vec<Device>> {
    let views = engine.catalog.devices(scope, None, engine.now()).await?;
    Ok(views.into_iter().map(|view| overview::device(view, engine.now())).collect())
}

/// A device, number against number: what it says it has in each source, what of that is here, and the list of the difference.
pub async fn coverage(engine: &Engine, scope: Option<PersonId>, id: DeviceId, limit: i64) -> Result<DeviceCoverage> {
    let sources = engine.catalog.coverage(id, scope).await?;
    let mut missing = engine.catalog.difference(id, scope, limit + 1).await?;
    let more = missing.len() as i64 > limit;
    missing.truncate(usize::try_from(limit).unwrap_or(0));
    Ok(DeviceCoverage {
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
    })
}

/// Gives a device another name.
pub async fn rename(engine: &Engine, scope: Option<PersonId>, id: DeviceId, wanted: &str) -> Result<()> {
    engine.catalog.rename_device(id, scope, checked_name(wanted)?.as_str()).await?;
    engine.live.changed(&[Change::Devices]);
    Ok(())
}

/// Takes a device's credential away, at once. What it sent stays.
pub async fn revoke(engine: &Engine, who: &str, scope: Option<PersonId>, id: DeviceId) -> Result<()> {
    let now = engine.now();
    engine.catalog.revoke_device(id, scope, now).await?;
    let name = engine.catalog.devices(None, Some(id), now).await?.pop().map(|d| d.name).unwrap_or_default();
    engine.catalog.write_record(now, who, &format!("revoked {name}")).await?;
    engine.live.changed(&[Change::Devices]);
    Ok(())
}
