//! Clearances: every copy at home is read from start to end before a device hears that it may remove its own. What decides is
//! [`ypogeion_core::clearance::decide`].

use std::{collections::HashMap, sync::Arc};

use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    clearances::{Asked, Cleared},
    devices::DeviceCaller,
    stores::StoreRow,
};
use ypogeion_core::{
    Digest, OriginalName,
    clearance::{self, Depth, Evidence, HOLDS_FOR, HomeReading, Keep},
    layers::{Act, Observation, Outcome, Place},
    name::source_name,
};
use ypogeion_wire::clearance::{
    ClearanceAnswer, ClearanceEntry, ClearanceRequest, Clearances, LARGEST_CLEARANCE, MOST_BYTES_CLEARED, Removed,
};

use crate::{
    at_home::look_at,
    engine::Engine,
    error::{Error, Result, chain},
    live::Change,
};

/// What is said of one file.
type Decision = std::result::Result<Evidence, Keep>;

/// Says which of its copies a device may remove. The copies at home are read now; the answer holds for ten minutes.
pub async fn ask(engine: &Arc<Engine>, device: &DeviceCaller, request: ClearanceRequest) -> Result<Clearances> {
    check(&request)?;
    let demanded = engine.catalog.house_rules().await?.clear_at;
    let digests: Vec<Digest> = request.entries.iter().map(|e| e.digest).collect();
    let known: HashMap<Digest, Asked> =
        engine.catalog.originals_of(device.person, &digests).await?.into_iter().map(|a| (a.digest, a)).collect();
    let mut decided: HashMap<Digest, Decision> = HashMap::new();
    let (mut answers, mut cleared) = (Vec::with_capacity(request.entries.len()), Vec::new());
    let stores = engine.catalog.stores().await?;
    for entry in &request.entries {
        let decision = match known.get(&entry.digest).filter(|a| a.size == entry.size) {
            None => Err(Keep::NotHome),
            Some(asked) if asked.held => Err(Keep::Deleted),
            Some(asked) => match decided.get(&entry.digest) {
                Some(decision) => decision.clone(),
                None => {
                    let decision = look(engine, asked, demanded).await?;
                    decided.insert(entry.digest, decision.clone());
                    decision
                }
            },
        };
        answers.push(told(&decision, &stores));
        if let (Ok(evidence), Some(asked)) = (decision, known.get(&entry.digest)) {
            let (source, name) = clean(entry);
            cleared.push(Cleared { original: asked.id, digest: entry.digest, source, name, evidence });
        }
    }
    let given = if request.rehearse { None } else { give(engine, device, &request.nonce, &cleared).await? };
    Ok(Clearances {
        clearance: given,
        nonce: request.nonce,
        device: device.id,
        holds_seconds: u32::try_from(HOLDS_FOR.num_seconds()).unwrap_or(0),
        demanded: demanded.word().to_owned(),
        answers,
    })
}

fn told(decision: &Decision, stores: &[StoreRow]) -> ClearanceAnswer {
    match decision {
        Ok(evidence) => ClearanceAnswer::Clear {
            home_read_at: evidence.home_read_at,
            store: evidence.store.and_then(|id| stores.iter().find(|s| s.id == id)).map(|s| s.address.name.clone()),
            proven_at: evidence.proven_at,
        },
        Err(keep) => ClearanceAnswer::Keep { reason: keep.to_string() },
    }
}

async fn give(engine: &Engine, device: &DeviceCaller, nonce: &str, cleared: &[Cleared]) -> Result<Option<Uuid>> {
    if cleared.is_empty() {
        return Ok(None);
    }
    let (id, now) = (Uuid::now_v7(), engine.now());
    match engine.catalog.give_clearance(id, device.id, nonce, (now, now + HOLDS_FOR), cleared).await {
        Err(CatalogError::Taken) => Err(Error::invalid("This nonce was used before. Make up a new one for every request.")),
        other => Ok(other.map(|()| Some(id))?),
    }
}

/// Names as they are kept here.
fn clean(entry: &ClearanceEntry) -> (String, String) {
    (source_name(&entry.source), OriginalName::from_device(&entry.name).into())
}

fn check(request: &ClearanceRequest) -> Result<()> {
    if !(16..=64).contains(&request.nonce.len()) || !request.nonce.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
        return Err(Error::invalid("A nonce has 16 to 64 letters and digits."));
    }
    let bytes = request.entries.iter().fold(0u64, |sum, e| sum.saturating_add(e.size));
    if request.entries.len() > LARGEST_CLEARANCE || (request.entries.len() > 1 && bytes > MOST_BYTES_CLEARED) {
        return Err(Error::TooLarge(format!("One request has at most {LARGEST_CLEARANCE} files and 2 GB; ask several times.")));
    }
    Ok(())
}

/// Reads the copy at home, notes what was found, and decides.
async fn look(engine: &Arc<Engine>, asked: &Asked, demanded: Depth) -> Result<Decision> {
    let digest = asked.digest;
    let proven_for = engine.settings.offsite.proven_for;
    let standings = engine.catalog.standings_for_depth(asked.id).await?;
    if let Err(keep) = clearance::deep_enough(&standings, demanded, engine.now(), proven_for) {
        // Ten thousand files of which no store has one are not read for that.
        return Ok(Err(keep));
    }
    let (outcome, found) = match reread(engine, asked).await {
        Ok(read) => read,
        Err(e) => {
            tracing::warn!(path = %asked.path, error = %chain(&e), "a copy could not be read for a clearance");
            return Ok(Err(Keep::NotRead));
        }
    };
    let at = engine.now();
    let seen = Observation { place: Place::Home, act: Act::Reread, at, digest: found, outcome };
    engine.catalog.observe(asked.id, digest, &seen).await?;
    let standings = engine.catalog.standings_for_depth(asked.id).await?;
    let read = HomeReading { outcome, digest: found, at };
    Ok(clearance::decide(digest, &read, &standings, demanded, engine.now(), proven_for))
}

/// Reads the copy at home from start to end.
async fn reread(engine: &Engine, asked: &Asked) -> Result<(Outcome, Option<Digest>)> {
    let digest = asked.digest;
    let (read, _) = look_at(engine, asked.id, asked.path.clone(), move |library, path| {
        let read = library.reread(path, digest)?;
        Ok((read.0 != Outcome::Missing).then_some(read))
    })
    .await?;
    Ok(read.unwrap_or((Outcome::Missing, None)))
}

/// Notes what was removed with a clearance. Said once; a clearance that was used, or is another device's, is gone.
pub async fn removed(engine: &Engine, device: &DeviceCaller, clearance: Uuid, body: &Removed) -> Result<()> {
    let cleaned: Vec<(String, String)> = body.entries.iter().map(clean).collect();
    let entries: Vec<(&str, &str, Digest)> =
        cleaned.iter().zip(&body.entries).map(|((source, name), e)| (source.as_str(), name.as_str(), e.digest)).collect();
    let count = match engine.catalog.use_clearance(clearance, device.id, &entries, engine.now()).await {
        Err(CatalogError::NotFound) => {
            return Err(Error::ClearanceGone(
                "This clearance was used already, or never was. Nothing was noted; ask for a new one before removing anything."
                    .to_owned(),
            ));
        }
        other => other?,
    };
    engine.catalog.write_record(engine.now(), &device.name, &format!("removed {count} of its files with a clearance")).await?;
    engine.live.changed(&[Change::Device(device.person, device.id)]);
    Ok(())
}
