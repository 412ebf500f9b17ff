//! Checks of copies: reading them again, comparing a store's list with what should be there, and drills.
//!
//! Each copy's result is an observation; what is bad is put down to be made good (see [`super::heal`]).

mod drill;
mod listing;
mod reading;

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_catalog::{
    audits::{Audit, Check, Found},
    work::Job,
};
use ypogeion_core::{
    layers::{Outcome, Place},
    words,
};

use super::ended::Ended;
use crate::{engine::Engine, error::Result, evidence::name_of, live::Change};

pub(super) use drill::drill;
pub(super) use listing::list;
pub(super) use reading::{read, read_back};

/// When a check is done for the first time: a new place has just been written to.
pub fn first_round(engine: &Engine, check: Check) -> DateTime<Utc> {
    let checks = &engine.settings.checks;
    engine.now()
        + match check {
            Check::Reading | Check::Listing => checks.rhythm.every,
            // Soon enough to be told that it would work, and late enough for something to be there.
            Check::Drill => checks.drill_every.min(TimeDelta::days(1)),
        }
}

async fn begin(engine: &Engine, place: Place, check: Check, population: u64) -> Result<Audit> {
    Ok(engine.catalog.begin_audit(Uuid::now_v7(), place, check, population, engine.now()).await?)
}

async fn end(engine: &Engine, job: &Job, audit: &Audit, found: Found, said: &str, failed: bool) -> Result<Ended> {
    engine.catalog.end_audit(audit.id, found, said, failed, engine.now()).await?;
    if failed {
        let line = format!("could not finish the {} of {}: {said}", audit.check.word(), name_of(engine, audit.place).await?);
        engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?;
    }
    let checks = &engine.settings.checks;
    let every = if audit.check == Check::Drill { checks.drill_every } else { checks.rhythm.every };
    engine.catalog.next_round(job.id, audit.check, engine.now() + every, engine.now()).await?;
    engine.live.changed(&[Change::Offsite, Change::Overview]);
    Ok(Ended::Round)
}

fn tally(found: &mut Found, outcome: Outcome) {
    found.checked += 1;
    match outcome {
        Outcome::Right => {}
        Outcome::Wrong => found.wrong += 1,
        Outcome::Missing => found.missing += 1,
    }
}

/// How many are damaged and missing; nothing if none is.
fn bad(found: &Found) -> String {
    let some = |n: u64, what: &str| (n > 0).then(|| format!("{} {what}", words::count(n)));
    [some(found.wrong, "damaged"), some(found.missing, "missing")].into_iter().flatten().collect::<Vec<_>>().join(", ")
}
