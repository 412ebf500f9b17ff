//! Three copies, in two kinds of place, one of them away from home: by how many originals that is met, and by which it is not.

use std::collections::HashMap;

use ypogeion_catalog::{copies::SamePlaces, stores::StoreRow};
use ypogeion_core::{
    OriginalId,
    copies::{Copy, Lacking, Medium, lacking},
    layers::Place,
};
use ypogeion_wire::overview::{ShortOfCopies, ShortOriginal, ShortOriginals, ThreeTwoOne};

use crate::{engine::Engine, error::Result};

const HOME: Copy = Copy { medium: Medium::HomeDisk, away: false };

/// What is lacking with good copies in these places, and what people call them.
pub fn judged(places: &[Place], stores: &[StoreRow]) -> (Lacking, Vec<String>) {
    let known = |place: &Place| match place {
        Place::Home => Some((HOME, "home".to_owned())),
        Place::Store(id) => stores.iter().find(|s| s.id == *id).map(|s| (s.copy(), s.address.name.clone())),
    };
    let (copies, mut names): (Vec<Copy>, Vec<String>) = places.iter().filter_map(known).unzip();
    names.sort_by_key(|n| (n != "home", n.to_lowercase()));
    (lacking(&copies), names)
}

/// In sum.
pub async fn in_sum(engine: &Engine, stores: &[StoreRow]) -> Result<ThreeTwoOne> {
    let mut said = ThreeTwoOne { met: Default::default(), short: Vec::new() };
    for SamePlaces { places, amount, .. } in engine.catalog.copies().await? {
        let (lacking, names) = judged(&places, stores);
        if lacking.nothing() {
            said.met.count += amount.count;
            said.met.bytes += amount.bytes;
        } else {
            said.short.push(ShortOfCopies { places: names, needs: lacking.sentence(), amount: amount.into() });
        }
    }
    said.short.sort_by_key(|s| std::cmp::Reverse(s.amount.count));
    Ok(said)
}

/// Those that do not meet it, a page of them.
pub async fn short(engine: &Engine, after: Option<OriginalId>, limit: i64) -> Result<ShortOriginals> {
    let stores = engine.catalog.stores().await?;
    let short: HashMap<String, (Lacking, Vec<String>)> = engine
        .catalog
        .copies()
        .await?
        .into_iter()
        .map(|t| (t.key, judged(&t.places, &stores)))
        .filter(|(_, (lacking, _))| !lacking.nothing())
        .collect();
    let keys: Vec<String> = short.keys().cloned().collect();
    let rows = engine.catalog.placed(&keys, after, limit).await?;
    let next = (rows.len() as i64 == limit).then(|| rows.last().map(|r| r.id.to_string())).flatten();
    let originals = rows
        .into_iter()
        .filter_map(|r| {
            let (lacking, places) = short.get(&r.key)?;
            let (places, needs) = (places.clone(), lacking.sentence());
            Some(ShortOriginal { id: r.id, person: r.person, path: r.path, size: r.size, places, needs })
        })
        .collect();
    Ok(ShortOriginals { originals, next })
}
