//! Which town is nearest to where a picture was taken.
//!
//! The names of a hundred and forty thousand towns are in the program (GeoNames, by the package `reverse_geocoder`); to look among them takes some fifty
//! megabytes of memory, so they are unpacked when somebody asks, and given back when nobody has for a while.

use std::{
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use reverse_geocoder::ReverseGeocoder;
use ypogeion_catalog::places::TownAt;
use ypogeion_core::{spot::Spot, town::Town};

/// Nobody asks for so long: the memory is given back.
const KEPT_FOR: Duration = Duration::from_secs(60);

/// All towns, while somebody looks among them.
#[derive(Default)]
pub struct Towns {
    unpacked: Mutex<Option<Unpacked>>,
}

struct Unpacked {
    all: Arc<ReverseGeocoder>,
    asked_at: Instant,
    /// Somebody waits until nobody asks any more.
    watched: bool,
}

impl Towns {
    /// The nearest town to each spot, which has no number yet. Blocks, at first for a while.
    pub fn nearest(&self, spots: &[Spot]) -> Vec<(Spot, TownAt)> {
        let all = {
            let mut unpacked = self.unpacked.lock().unwrap_or_else(PoisonError::into_inner);
            let new = || Unpacked { all: Arc::new(ReverseGeocoder::new()), asked_at: Instant::now(), watched: false };
            let there = unpacked.get_or_insert_with(new);
            there.asked_at = Instant::now();
            Arc::clone(&there.all)
        };
        let find = |spot: &Spot| {
            let town = all.search((spot.north(), spot.east())).record;
            let at = Spot::new(town.lat, town.lon)?;
            let [name, region, country] = [&town.name, &town.admin1, &town.cc].map(|text| text.trim().to_owned());
            Some((*spot, TownAt { town: Town { id: 0, name, region, country }, spot: at }))
        };
        spots.iter().filter_map(find).collect()
    }

    /// Gives the memory back, once nobody has asked for a while. One waits for that, however many were told to.
    pub async fn rest(&self) {
        let mut watching = false;
        loop {
            let left = {
                let mut unpacked = self.unpacked.lock().unwrap_or_else(PoisonError::into_inner);
                let Some(there) = unpacked.as_mut() else { return };
                if there.watched && !watching {
                    return;
                }
                (there.watched, watching) = (true, true);
                let left = KEPT_FOR.saturating_sub(there.asked_at.elapsed());
                if left.is_zero() {
                    *unpacked = None;
                    return;
                }
                left
            };
            tokio::time::sleep(left).await;
        }
    }
}
