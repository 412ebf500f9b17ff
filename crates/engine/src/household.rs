//! The household's own rules, and the place where its library is.

use ypogeion_catalog::people::HouseRules;
use ypogeion_core::{clearance::Depth, filing::FilingPlan, place::judge, retention::Retention, words};
use ypogeion_library::place;
use ypogeion_wire::people::{Household, HouseholdChange, Place, PlaceNote, ReadyPlan};

use crate::{
    engine::Engine,
    error::{Error, Result},
};

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
        safety_stop_percent: retention.safety_stop_percent,
    }
}

/// The household's own rules.
pub async fn show(engine: &Engine) -> Result<Household> {
    Ok(view(&engine.catalog.house_rules().await?, engine.catalog.retention().await?, &engine.household.name))
}

/// What is to be changed of the rules of filing and clearing; each as the record says it.
fn new_rules(rules: &mut HouseRules, change: &HouseholdChange) -> Result<Vec<String>> {
    let mut changed = Vec::new();
    if let Some(filing) = &change.filing {
        rules.filing = FilingPlan::parse(filing).map_err(|e| Error::invalid(format!("This filing plan cannot be used: {e}.")))?;
        changed.push(format!("filing to {}", rules.filing.pattern()));
    }
    if let Some(word) = &change.clear_at {
        rules.clear_at = Depth::from_word(word)
            .ok_or_else(|| Error::invalid("Devices may delete their own copies at \"home\", \"offsite\" or \"proven\"."))?;
        changed.push(format!("when devices may delete their own copies to {}", rules.clear_at.word()));
    }
    if let Some(derive) = change.derive_jpeg {
        rules.derive_jpeg = derive;
        changed.push(format!("the making of JPEGs beside HEICs to {}", if derive { "on" } else { "off" }));
    }
    Ok(changed)
}

/// What is to be changed of how long deleted pictures are kept; each as the record says it.
fn new_retention(retention: &mut Retention, change: &HouseholdChange) -> Result<Vec<String>> {
    let mut changed = Vec::new();
    if let Some(days) = change.home_days {
        retention.home_days = Some(days).filter(|d| *d > 0);
        changed.push(format!("how long deleted pictures are kept at home to {}", days_said(retention.home_days)));
    }
    if let Some(days) = change.offsite_days {
        retention.offsite_days = days;
        changed.push(format!("how long stores keep them after that to {}", days_said(Some(days))));
    }
    if let Some(percent) = change.safety_stop_percent {
        retention.safety_stop_percent = percent;
        changed.push(format!("the safety stop to {percent} %"));
    }
    *retention = retention.check().map_err(|e| Error::invalid(format!("This cannot be chosen: {e}.")))?;
    Ok(changed)
}

/// Changes the household's own rules. A new filing plan is for what arrives from now on. `proved`: whoever asks typed their password lately,
/// without which the safety stop does not let more go.
pub async fn change(engine: &Engine, who: &str, change: &HouseholdChange, proved: bool) -> Result<Household> {
    let (mut rules, before) = (engine.catalog.house_rules().await?, engine.catalog.retention().await?);
    let mut retention = before;
    let mut changed = new_rules(&mut rules, change)?;
    changed.extend(new_retention(&mut retention, change)?);
    if retention.safety_stop_percent > before.safety_stop_percent && !proved {
        return Err(Error::PasswordWanted);
    }
    if retention != before {
        engine.catalog.change_retention(retention).await?;
    }
    if !changed.is_empty() {
        engine.catalog.change_house_rules(&rules).await?;
        engine.catalog.write_record(engine.now(), who, &format!("changed {}", changed.join(" and "))).await?;
    }
    if change.derive_jpeg == Some(true) {
        engine.catalog.derive_all(engine.now()).await?;
    }
    Ok(view(&rules, retention, &engine.household.name))
}

fn days_said(days: Option<u16>) -> String {
    days.map_or_else(|| "for ever".to_owned(), |d| words::counted(d.into(), "day"))
}

/// The library's place: how much room there is, and what is to be thought about. Tried out now.
pub async fn place(engine: &Engine) -> Result<Place> {
    // Nothing is tried out on the folder that its disk is mounted on.
    engine.home_is_there().await?;
    let folder = engine.settings.library.clone();
    let facts = tokio::task::spawn_blocking(move || place::probe(&folder)).await??;
    let warnings = judge(&facts, engine.settings.reserve);
    Ok(Place {
        folder: engine.settings.library.display().to_string(),
        free: facts.free,
        total: facts.total,
        reserve: engine.settings.reserve,
        warnings: warnings.into_iter().map(|w| PlaceNote { grave: w.is_grave(), sentence: w.to_string() }).collect(),
    })
}
