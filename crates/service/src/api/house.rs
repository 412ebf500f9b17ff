//! Health, the state of the house, the overview, and the household's own rules.

use actix_web::{HttpResponse, get, patch, web};
use serde::Deserialize;
use utoipa::IntoParams;
use ypogeion_catalog::people::HouseRules;
use ypogeion_core::{clearance::Depth, filing::FilingPlan, place::judge, retention::Retention, words};
use ypogeion_library::place;
use ypogeion_wire::{
    overview::{HouseState, Overview, ShortOriginals},
    people::{Household, HouseholdChange, Place, PlaceNote, ReadyPlan},
};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    overview as numbers, three_two_one,
};

/// Is the service alive, and does its database answer?
#[utoipa::path(responses((status = 200)))]
#[get("/api/health")]
pub async fn health(app: web::Data<App>) -> Answer<HttpResponse> {
    app.said.health(&app).await?;
    Ok(HttpResponse::Ok().json(serde_json::json!({ "health": "well", "version": env!("CARGO_PKG_VERSION") })))
}

/// The state of the house in one word and a sentence that names nobody: for a lamp or a dashboard.
#[utoipa::path(responses((status = 200, body = HouseState)))]
#[get("/api/state")]
pub async fn house_state(app: web::Data<App>) -> Answer<web::Json<HouseState>> {
    let (state, reason) = app.said.state(&app).await?;
    Ok(web::Json(HouseState {
        state: numbers::state_word(state).into(),
        reason: reason.into(),
        version: env!("CARGO_PKG_VERSION").into(),
    }))
}

/// Numbers and headline: of the household for its keeper, of their own for everybody else.
#[utoipa::path(responses((status = 200, body = Overview)))]
#[get("/api/overview")]
pub async fn overview(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Overview>> {
    Ok(web::Json(numbers::overview(&app, caller.scope()?).await?))
}

/// Which originals have too few copies: a page of them, and what each needs.
#[utoipa::path(params(ShortQuery), responses((status = 200, body = ShortOriginals)))]
#[get("/api/copies/short")]
pub async fn list_short(app: web::Data<App>, query: web::Query<ShortQuery>) -> Answer<web::Json<ShortOriginals>> {
    let after = query.after.as_deref().map(|id| id.parse().map_err(|_| Failure::bad("That is not a place in this list.")));
    let limit = i64::from(query.limit.unwrap_or(100).clamp(1, 500));
    Ok(web::Json(three_two_one::short(&app, after.transpose()?, limit).await?))
}

/// Which page.
#[derive(Deserialize, IntoParams)]
pub struct ShortQuery {
    /// The `next` of the page before.
    after: Option<String>,
    /// At most this many, up to 500.
    limit: Option<u32>,
}

fn view(rules: &HouseRules, retention: Retention, name: &str) -> Household {
    Household {
        name: name.to_owned(),
        filing: rules.filing.pattern().to_owned(),
        filing_plan: rules.filing.word().map(str::to_owned),
        plans: FilingPlan::READY
            .iter()
            .map(|(word, title, pattern)| ReadyPlan { word: (*word).into(), title: (*title).into(), pattern: (*pattern).into() })
            .collect(),
        clear_at: rules.clear_at.word().to_owned(),
        derive_jpeg: rules.derive_jpeg,
        home_days: retention.home_days.unwrap_or(0),
        offsite_days: retention.offsite_days,
        brake_percent: retention.brake_percent,
    }
}

/// The household's own rules.
#[utoipa::path(responses((status = 200, body = Household)))]
#[get("/api/household")]
pub async fn show_household(app: web::Data<App>) -> Answer<web::Json<Household>> {
    Ok(web::Json(view(&app.catalog.house_rules().await?, app.catalog.retention().await?, &app.household.name)))
}

/// Changes the household's own rules. A new filing plan is for what arrives from now on.
#[utoipa::path(responses((status = 200, body = Household)))]
#[patch("/api/household")]
pub async fn change_household(
    app: web::Data<App>,
    caller: Caller,
    body: web::Json<HouseholdChange>,
) -> Answer<web::Json<Household>> {
    let mut rules = app.catalog.house_rules().await?;
    let mut changed = Vec::new();
    if let Some(filing) = &body.filing {
        rules.filing = FilingPlan::parse(filing).map_err(|e| Failure::bad(format!("This filing plan cannot be used: {e}.")))?;
        changed.push(format!("filing to {}", rules.filing.pattern()));
    }
    if let Some(word) = &body.clear_at {
        rules.clear_at = Depth::from_word(word)
            .ok_or_else(|| Failure::bad("Devices may delete their own copies at \"home\", \"offsite\" or \"proven\"."))?;
        changed.push(format!("when devices may delete their own copies to {}", rules.clear_at.word()));
    }
    if let Some(derive) = body.derive_jpeg {
        rules.derive_jpeg = derive;
        changed.push(format!("the making of JPEGs beside HEICs to {}", if derive { "on" } else { "off" }));
    }
    let before = app.catalog.retention().await?;
    let mut retention = before;
    if let Some(days) = body.home_days {
        retention.home_days = Some(days).filter(|d| *d > 0);
        changed.push(format!("how long deleted pictures are kept at home to {}", days_said(retention.home_days)));
    }
    if let Some(days) = body.offsite_days {
        retention.offsite_days = days;
        changed.push(format!("how long stores keep them after that to {}", days_said(Some(days))));
    }
    if let Some(percent) = body.brake_percent {
        if percent > before.brake_percent {
            caller.proved(app.now())?;
        }
        retention.brake_percent = percent;
        changed.push(format!("the safety stop to {percent} %"));
    }
    let retention = retention.check().map_err(|e| Failure::bad(format!("This cannot be chosen: {e}.")))?;
    if retention != before {
        app.catalog.change_retention(retention).await?;
    }
    if !changed.is_empty() {
        app.catalog.change_house_rules(&rules).await?;
        let who = caller.person()?.name.clone();
        app.catalog.write_record(app.now(), &who, &format!("changed {}", changed.join(" and "))).await?;
    }
    if body.derive_jpeg == Some(true) {
        app.catalog.derive_all(app.now()).await?;
    }
    Ok(web::Json(view(&rules, retention, &app.household.name)))
}

fn days_said(days: Option<u16>) -> String {
    days.map_or_else(|| "for ever".to_owned(), |d| words::counted(d.into(), "day"))
}

/// The library's place: how much room there is, and what is to be thought about. Tried out now.
#[utoipa::path(responses((status = 200, body = Place)))]
#[get("/api/place")]
pub async fn show_place(app: web::Data<App>) -> Answer<web::Json<Place>> {
    // Nothing is tried out on the folder that its disk is mounted on.
    app.home_is_there().await?;
    let folder = app.settings.library.clone();
    let facts = tokio::task::spawn_blocking(move || place::probe(&folder)).await??;
    let warnings = judge(&facts, app.settings.reserve);
    Ok(web::Json(Place {
        folder: app.settings.library.display().to_string(),
        free: facts.free,
        total: facts.total,
        reserve: app.settings.reserve,
        warnings: warnings.into_iter().map(|w| PlaceNote { grave: w.is_grave(), sentence: w.to_string() }).collect(),
    }))
}
