//! Three copies, in two kinds of place, one of them away from home: by how many originals that is met, and by which it is not; and which files the numbers of
//! the overview count.

use std::collections::HashMap;

use ypogeion_catalog::{
    copies::{SamePlaces, So},
    stores::StoreRow,
};
use ypogeion_core::{
    OriginalId,
    copies::{Copy, Lacking, Medium, lacking},
    layers::{Counted, Place},
};
use ypogeion_wire::overview::{CopiedFile, CopiedFiles, ShortOfCopies, ThreeTwoOne};

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

/// Which files somebody asks for.
#[derive(Clone, Copy, Debug)]
pub enum Which {
    /// Those that do not meet it.
    Short,
    /// Those that a number of the overview counts.
    Counted(Counted),
}

impl Which {
    /// By its word.
    pub fn from_word(word: &str) -> Option<Self> {
        if word == "short" { Some(Which::Short) } else { Counted::from_word(word).map(Which::Counted) }
    }

    fn has(self, places: &[Place], lacking: &Lacking, stores: &[StoreRow]) -> bool {
        match self {
            Which::Short => !lacking.nothing(),
            Which::Counted(counted) => {
                let away = |place: &Place| stores.iter().any(|s| Place::Store(s.id) == *place && s.away);
                counted.of(places.contains(&Place::Home), places.iter().any(away))
            }
        }
    }
}

/// The files of the household that are so, a page of them.
pub async fn list(engine: &Engine, which: Which, after: Option<OriginalId>, limit: i64) -> Result<CopiedFiles> {
    let stores = engine.catalog.stores().await?;
    let of = |t: SamePlaces| {
        let (lacking, names) = judged(&t.places, &stores);
        which.has(&t.places, &lacking, &stores).then_some((t.key, (lacking, names)))
    };
    let sets: HashMap<String, (Lacking, Vec<String>)> = engine.catalog.copies().await?.into_iter().filter_map(of).collect();
    let keys: Vec<String> = sets.keys().cloned().collect();
    let so = match which {
        Which::Short => So::default(),
        Which::Counted(counted) => {
            So { read_back: counted.lately().map(|lately| (lately, engine.proven_since())), coming: counted.coming() }
        }
    };
    let rows = engine.catalog.placed(&keys, so, after, limit).await?;
    let next = (rows.len() as i64 == limit).then(|| rows.last().map(|r| r.id.to_string())).flatten();
    let files = rows
        .into_iter()
        .filter_map(|r| {
            let (lacking, places) = sets.get(&r.key)?;
            let needs = (!lacking.nothing()).then(|| lacking.sentence());
            Some(CopiedFile { id: r.id, person: r.person, path: r.path, size: r.size, places: places.clone(), needs })
        })
        .collect();
    Ok(CopiedFiles { files, next })
}
