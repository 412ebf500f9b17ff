//! Deleting, and taking back: what a person does with their own. What happens when the time is over is [`crate::work::holding`].

use chrono::{DateTime, Utc};
use ypogeion_core::{OriginalId, PersonId, filing::FiledPath, retention::safety_stop, words};
use ypogeion_wire::holding::{Changed, HeldOriginal, Holding, NowHeld, SafetyStop};

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::Change,
    renaming::free_place,
};

/// More would be a request that takes too long to answer.
const MOST: usize = 1000;

/// Whose originals, and who says so: what is done is written down under that name.
#[derive(Clone, Copy, Debug)]
pub struct By<'a> {
    /// Whose originals.
    pub owner: PersonId,
    /// Who it is, for the record.
    pub name: &'a str,
}

fn chosen(originals: &[OriginalId]) -> Result<&[OriginalId]> {
    match originals.len() {
        0 => Err(Error::invalid("Nothing was chosen.")),
        1..=MOST => Ok(originals),
        _ => Err(Error::TooLarge(format!("One request has at most {MOST} files; send several."))),
    }
}

async fn noted(engine: &Engine, who: &str, what: &str) -> Result<()> {
    engine.catalog.write_record(engine.now(), who, what).await?;
    engine.live.changed(&[Change::Library, Change::Devices, Change::Overview]);
    Ok(())
}

/// Deletes originals, with the other files of their shots: they go to holding, and can be taken back.
pub async fn hold(engine: &Engine, by: By<'_>, originals: &[OriginalId]) -> Result<NowHeld> {
    let (rule, now) = (engine.catalog.retention().await?, engine.now());
    let until = rule.home_until(now);
    let held = engine.catalog.hold(by.owner, chosen(originals)?, by.name, now, until).await?;
    if held.is_empty() {
        return Err(Error::NotFound);
    }
    noted(engine, by.name, &format!("deleted {}", words::counted(held.len() as u64, "file"))).await?;
    Ok(NowHeld { count: held.len() as u64, files: held, until, offsite_days: rule.offsite_days })
}

/// The last of a page of holding.
pub type After = (DateTime<Utc>, OriginalId);

/// What was deleted and can be taken back, what was deleted last first: a page, and the last of it if there may be more. With `whole`, also
/// what the safety stop holds of the household; nobody but its keeper is told what others deleted.
pub async fn held(
    engine: &Engine,
    owner: PersonId,
    after: Option<After>,
    limit: i64,
    whole: bool,
) -> Result<(Holding, Option<After>)> {
    let rows = engine.catalog.holding(owner, after, limit).await?;
    let last = rows.last().filter(|_| rows.len() as i64 == limit).map(|l| (l.at, l.id));
    let rule = engine.catalog.retention().await?;
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
                turned: h.turn.quarters(),
                placeholder: h.placeholder,
                deleted_by: h.deleted_by,
                deleted_at: h.at,
                leaves_at: h.until,
                stage: h.stage,
            }
        })
        .collect();
    let safety_stop = if whole { held_back(engine).await? } else { None };
    let (home_days, offsite_days) = (rule.home_days.unwrap_or(0), rule.offsite_days);
    Ok((Holding { held, next: None, home_days, offsite_days, safety_stop }, last))
}

/// What the safety stop holds now, if it does.
pub async fn held_back(engine: &Engine) -> Result<Option<SafetyStop>> {
    let (rule, leaving) = (engine.catalog.retention().await?, engine.catalog.leaving(engine.now()).await?);
    Ok(safety_stop(&leaving, rule.safety_stop_percent).err().map(|b| SafetyStop {
        count: b.due.count,
        bytes: b.due.bytes,
        percent: b.percent,
        limit: rule.safety_stop_percent,
    }))
}

/// Takes originals back: to where they were, or, if their files have left the home disk, from a store.
pub async fn take_back(engine: &Engine, by: By<'_>, originals: &[OriginalId]) -> Result<Changed> {
    let chosen = chosen(originals)?;
    let back = engine.catalog.take_back(by.owner, chosen, engine.now()).await?;
    let mut fetched = 0;
    for id in chosen.iter().filter(|id| !back.contains(id)) {
        fetched += u64::from(fetch_back(engine, by.owner, *id).await?);
    }
    let count = back.len() as u64 + fetched;
    if count == 0 {
        return Err(Error::Gone("It is too late: neither this server nor a store has it any more.".to_owned()));
    }
    noted(engine, by.name, &format!("brought back {}", words::counted(count, "deleted file"))).await?;
    Ok(Changed { count, fetched })
}

async fn fetch_back(engine: &Engine, owner: PersonId, id: OriginalId) -> Result<bool> {
    let Some(of) = engine.catalog.gone_from(owner, id).await? else { return Ok(false) };
    let was_at = FiledPath::parse(&of).map_err(|_| Error::NotFound)?;
    let (place, _reserved) = free_place(engine, &was_at).await?;
    Ok(engine.catalog.take_back_gone(id, &place, engine.now()).await?)
}

/// Has originals leave holding now, as far as the safety stop allows. Their sealed copies stay in the stores for their time.
pub async fn end(engine: &Engine, by: By<'_>, originals: &[OriginalId]) -> Result<Changed> {
    let count = engine.catalog.end_holding(by.owner, chosen(originals)?, engine.now()).await?;
    if count == 0 {
        return Err(Error::NotFound);
    }
    noted(engine, by.name, &format!("removed {} before the time was over", words::counted(count, "deleted file"))).await?;
    Ok(Changed { count, fetched: 0 })
}

/// The keeper has looked at what the safety stop holds, and lets it go.
pub async fn release(engine: &Engine, who: &str) -> Result<Changed> {
    let count = engine.catalog.release_stopped(engine.now()).await?;
    let files = words::counted(count, "deleted file");
    noted(engine, who, &format!("confirmed the removal of {files}, which the safety stop had held back")).await?;
    Ok(Changed { count, fetched: 0 })
}
