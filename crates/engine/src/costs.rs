//! What a store asks for and what that comes to, between the wire and the rules.

use chrono::TimeDelta;
use ypogeion_catalog::stores::StoreRow;
use ypogeion_core::cost::{self, forecast};
use ypogeion_wire::offsite::{Cost, Prices};

use crate::{
    engine::Engine,
    error::{Error, Result},
};

/// Prices from the wire, checked.
pub fn read(p: Prices) -> Result<cost::Prices> {
    let prices = cost::Prices {
        currency: p.currency.trim().to_owned(),
        storage: p.storage,
        free_storage: p.free_storage,
        writing: p.writing,
        reading: p.reading,
        egress: p.egress,
        free_egress: p.free_egress,
        minimum_days: p.minimum_days,
        fee: p.fee,
    };
    prices.check().map_err(|e| Error::invalid(format!("These prices cannot be used: {e}.")))
}

/// Prices for the wire.
pub fn told(p: &cost::Prices) -> Prices {
    Prices {
        currency: p.currency.clone(),
        storage: p.storage,
        free_storage: p.free_storage,
        writing: p.writing,
        reading: p.reading,
        egress: p.egress,
        free_egress: p.free_egress,
        minimum_days: p.minimum_days,
        fee: p.fee,
    }
}

/// What the copies in a store cost; none while nobody has said what it asks for.
pub async fn cost(engine: &Engine, store: &StoreRow) -> Result<Option<Cost>> {
    if store.prices == cost::Prices::default() {
        return Ok(None);
    }
    let cover: TimeDelta = engine.settings.checks.rhythm.cover;
    let holds = engine.catalog.paid_for(store.id, store.prices.minimum_days, cover, engine.now()).await?;
    let f = forecast(&store.prices, &holds);
    Ok(Some(Cost {
        keeping: f.keeping,
        checking: f.checking,
        sending: f.sending,
        month: f.month,
        year: f.year,
        month_in_a_year: f.month_in_a_year,
        early: f.early,
        recovery: f.recovery,
        growth: f.growth,
    }))
}
