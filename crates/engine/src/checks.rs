//! Checks of copies as the keeper sees them: how they went, and one now. What does them is [`crate::work::checks`].

use chrono::Local;
use uuid::Uuid;
use ypogeion_catalog::audits::{Audit, Check as Kind};
use ypogeion_core::{heal::LATELY, layers::Place};
use ypogeion_wire::checks::{Check, CheckResult, Checks, WantCheck};

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::Change,
};

fn result(a: &Audit) -> CheckResult {
    CheckResult {
        began_at: a.began_at,
        ended_at: a.ended_at,
        whole: a.whole,
        population: a.found.population,
        checked: a.found.checked,
        bytes: a.found.bytes,
        wrong: a.found.wrong,
        missing: a.found.missing,
        unseen: a.found.unseen,
        unknown: a.found.unknown,
        said: a.said.clone(),
        failed: a.failed,
    }
}

/// How every place was checked last, what is under way, and when the next check is.
pub async fn list(engine: &Engine) -> Result<Checks> {
    let (audits, due) = (engine.catalog.audits().await?, engine.catalog.rounds().await?);
    let local = Local::now().naive_local();
    let mut places = vec![(Place::Home, "At home".to_owned(), None)];
    let stores = engine.catalog.stores().await?;
    places.extend(stores.into_iter().map(|s| (Place::Store(s.id), s.address.name.clone(), s.waits_for(local))));
    let mut checks = Vec::new();
    for (place, name, waits) in places {
        let bad_now = engine.catalog.bad_at(place).await?;
        for kind in Kind::ALL.into_iter().filter(|k| possible(place, *k)) {
            let of = |ended: bool| audits.iter().find(|a| a.place == place && a.check == kind && a.ended_at.is_some() == ended);
            let now = of(false).map(result);
            checks.push(Check {
                store: place.store(),
                place: name.clone(),
                kind: kind.word().into(),
                bad_now,
                waits_for: waits.clone(),
                next_at: due.iter().find(|r| now.is_none() && r.0 == place && r.1 == kind).map(|r| r.2),
                now,
                last: of(true).map(result),
            });
        }
    }
    let (healed_home, healed_away) = engine.catalog.healings(engine.now() - LATELY).await?;
    let cover_days = u32::try_from(engine.settings.checks.rhythm.cover.num_days().max(1)).unwrap_or(u32::MAX);
    Ok(Checks { checks, healed_home, healed_away, cover_days })
}

fn possible(place: Place, kind: Kind) -> bool {
    place != Place::Home || kind == Kind::Reading
}

/// Checks a place now; all of it, not a portion. One that is under way becomes a whole one.
pub async fn want(engine: &Engine, who: &str, wanted: &WantCheck) -> Result<()> {
    let place = Place::of(wanted.store);
    let kind = Kind::from_word(&wanted.kind)
        .filter(|k| possible(place, *k))
        .ok_or_else(|| Error::invalid("That place cannot be checked in this way."))?;
    let name = match wanted.store {
        None => "the home disk".to_owned(),
        Some(id) => engine.catalog.store(id).await?.address.name,
    };
    engine.catalog.want_check(Uuid::now_v7(), place, kind, engine.now()).await?;
    engine.catalog.write_record(engine.now(), who, &format!("asked for a {} of {name}", kind.word())).await?;
    engine.live.changed(&[Change::Offsite, Change::Work]);
    Ok(())
}
