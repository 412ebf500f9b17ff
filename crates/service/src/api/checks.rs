//! Checks of copies: how they went, and one now.

use actix_web::{HttpResponse, get, post, web};
use chrono::Local;
use uuid::Uuid;
use ypogeion_catalog::audits::{Audit, Check as Kind};
use ypogeion_core::{heal::LATELY, layers::Place};
use ypogeion_wire::{
    checks::{Check, CheckResult, Checks, WantCheck},
    work::LiveEvent,
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
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
        unknown: a.found.unknown,
        said: a.said.clone(),
        failed: a.failed,
    }
}

/// How every place was checked last, what is under way, and when the next check is.
#[utoipa::path(responses((status = 200, body = Checks)))]
#[get("/api/checks")]
pub async fn list_checks(app: web::Data<App>) -> Answer<web::Json<Checks>> {
    let (audits, due) = (app.catalog.audits().await?, app.catalog.rounds().await?);
    let local = Local::now().naive_local();
    let mut places = vec![(Place::Home, "At home".to_owned(), None)];
    places.extend(
        app.catalog.stores().await?.into_iter().map(|s| (Place::Store(s.id), s.address.name.clone(), s.waits_for(local))),
    );
    let mut checks = Vec::new();
    for (place, name, waits) in places {
        let bad_now = app.catalog.bad_at(place).await?;
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
    let (healed_home, healed_away) = app.catalog.healings(app.now() - LATELY).await?;
    let cover_days = u32::try_from(app.settings.checks.rhythm.cover.num_days().max(1)).unwrap_or(u32::MAX);
    Ok(web::Json(Checks { checks, healed_home, healed_away, cover_days }))
}

fn possible(place: Place, kind: Kind) -> bool {
    place != Place::Home || kind == Kind::Reading
}

/// Checks a place now; all of it, not a portion. One that is under way becomes a whole one.
#[utoipa::path(responses((status = 202)))]
#[post("/api/checks")]
pub async fn want_check(app: web::Data<App>, caller: Caller, body: web::Json<WantCheck>) -> Answer<HttpResponse> {
    let place = Place::of(body.store);
    let kind = Kind::from_word(&body.kind)
        .filter(|k| possible(place, *k))
        .ok_or_else(|| Failure::bad("That place cannot be checked in this way."))?;
    let name = match body.store {
        None => "the home disk".to_owned(),
        Some(id) => app.catalog.store(id).await?.address.name,
    };
    app.catalog.want_check(Uuid::now_v7(), place, kind, app.now()).await?;
    app.catalog.write_record(app.now(), &caller.person()?.name, &format!("asked for a {} of {name}", kind.word())).await?;
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Work]);
    Ok(HttpResponse::Accepted().finish())
}
