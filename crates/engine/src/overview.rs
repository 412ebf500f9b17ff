//! The numbers behind the section through the ground, and the sentence above it.

use chrono::{DateTime, Local, TimeDelta, Utc};
use futures_util::future::try_join_all;
use ypogeion_catalog::{devices::DeviceView, numbers, stores::StoreRow};
use ypogeion_core::{
    PersonId,
    access::{Validity, validity},
    headline::{self, CheckNow, DeviceNow, House, OutOfReach, StoreNow, headline},
    layers::Place,
    offer::{Coverage, Told, coverage},
    state::{HouseState, StoreFacts, StoreState},
    window::Pace,
};
use ypogeion_library::{Library, LibraryError};
use ypogeion_wire::{amount::Amount, offsite::Store, overview::Overview, people::Device};

use crate::{
    costs,
    deletion::held_back,
    elsewhere,
    engine::Engine,
    error::{Error, Result},
    kit, three_two_one, weeks,
};

/// A device, number against number.
fn told(view: &DeviceView) -> Coverage {
    coverage(Told {
        in_sources: view.in_sources,
        fresh: view.fresh,
        named: view.offered,
        named_since: view.named_since,
        uncounted: view.uncounted,
        waiting: view.waiting,
        refused: view.refused,
        home: view.home,
    })
}

/// A device for the wire.
pub fn device(view: DeviceView, now: DateTime<Utc>) -> Device {
    let Coverage { has, home, to_come } = told(&view);
    let ends_at = ends_at(&view, now);
    Device {
        id: view.id,
        person: view.person,
        person_name: view.person_name,
        name: view.name,
        kind: view.kind,
        paired_at: view.paired_at,
        revoked_at: view.revoked_at,
        seen_at: view.seen_at,
        ends_at,
        complete_at: view.complete_at,
        client: view.client,
        offered: view.offered,
        home,
        refused: view.refused,
        refused_why: view.refused_why,
        unread: view.unread,
        waiting: view.waiting,
        waiting_bytes: view.waiting_bytes,
        sending: view.sending,
        has,
        to_come,
        partial: view.partial,
        waiting_for: view.waiting_for,
    }
}

/// When a device's credential ends for want of use, if that is soon or was. What was adopted from a disk has none.
fn ends_at(view: &DeviceView, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
    if view.revoked_at.is_some() || matches!(view.kind.as_str(), "disk" | "archive") {
        return None;
    }
    match validity(view.seen_at.unwrap_or(view.paired_at), now) {
        Validity::Good => None,
        Validity::EndsAt(at) | Validity::Ended(at) => Some(at),
    }
}

/// A store for the wire, with its numbers.
pub async fn store(engine: &Engine, row: StoreRow) -> Result<Store> {
    let numbers = engine.catalog.store_numbers(row.id, engine.proven_since()).await?;
    let (rate, carries, local) =
        (engine.connections.rate(row.id), engine.connections.carries(row.id), Local::now().naive_local());
    let (pace, change) = (row.week.at(local), row.week.change_after(local));
    let after = |span: TimeDelta| engine.now() + span;
    let takes = carries
        .filter(|_| !row.paused && row.stopped.is_none())
        .and_then(|line| row.week.estimate(local, numbers.to_go.bytes, line));
    let state = StoreState::of(StoreFacts {
        stopped: row.stopped.is_some(),
        paused: row.paused,
        failing: row.failing.is_some(),
        disk: row.address.disk().is_some(),
        to_go: numbers.to_go.count > 0,
        to_list: row.checkpoint_due || numbers.unlisted > 0,
        resting: pace == Pace::Rest,
    });
    let cost = costs::cost(engine, &row).await?;
    Ok(Store {
        id: row.id,
        away: row.away,
        sealed: row.address.sealed,
        certificate: row.address.certificate.as_ref().map(ypogeion_pin::printed),
        prices: costs::told(&row.prices),
        cost,
        name: row.address.name,
        endpoint: row.address.endpoint,
        bucket: row.address.bucket,
        prefix: row.address.prefix,
        region: row.address.region,
        state,
        reason: row.stopped.or(row.failing),
        retry_at: row.retry_at.filter(|_| matches!(state, StoreState::Failing | StoreState::Away)),
        held: numbers.held.into(),
        proven: numbers.proven.into(),
        to_go: numbers.to_go.into(),
        rate,
        ledger_segment: row.ledger_segment,
        unlisted: numbers.unlisted,
        ledger_due: row.checkpoint_due,
        confirmed_at: numbers.confirmed_at,
        week: weeks::told(&row.week),
        pace: weeks::pace(pace),
        pace_until: change.map(|c| after(c - local)),
        caught_up_at: takes.filter(|_| numbers.to_go.count > 0).map(after),
    })
}

/// The overview of one member, or of the whole household for its keeper. Members are not told where the copies are.
pub async fn overview(engine: &Engine, person: Option<PersonId>) -> Result<Overview> {
    let (house, depths, devices, rows) = house(engine, person).await?;
    let said = headline(&house, engine.now());
    let (mut stores, mut three) = (Vec::new(), None);
    if person.is_none() {
        let known = tokio::try_join!(
            three_two_one::in_sum(engine, &rows),
            try_join_all(rows.iter().cloned().map(|row| store(engine, row)))
        )?;
        (three, stores) = (Some(known.0), known.1);
    }
    let waiting = Amount { count: devices.iter().map(|d| d.waiting).sum(), bytes: devices.iter().map(|d| d.waiting_bytes).sum() };
    Ok(Overview {
        state: said.state,
        sentence: said.sentence,
        rest: said.rest,
        waiting,
        home: depths.home.into(),
        offsite: depths.offsite.into(),
        proven: depths.proven.into(),
        proven_days: u32::try_from(engine.settings.offsite.proven_for.num_days()).unwrap_or(0),
        exposed: depths.exposed.into(),
        exposed_since: depths.exposed_since,
        damaged: depths.damaged,
        coming: depths.coming.into(),
        failed_work: depths.failed_work,
        devices: devices.into_iter().map(|view| device(view, engine.now())).collect(),
        stores,
        free_bytes: house.room,
        kit: house.kit,
        three_two_one: three,
    })
}

/// Checks whose last round could not be done, or brought nothing back.
async fn failed_checks(engine: &Engine, stores: &[StoreRow]) -> Result<Vec<CheckNow>> {
    let named = |place: Place| match place {
        Place::Home => Some("the home disk".to_owned()),
        Place::Store(id) => stores.iter().find(|s| s.id == id).map(|s| s.address.name.clone()),
    };
    let failed = engine.catalog.failed_checks().await?;
    Ok(failed
        .into_iter()
        .filter_map(|a| {
            Some(CheckNow { place: named(a.place)?, check: a.check.word().to_owned(), said: a.said.unwrap_or_default() })
        })
        .collect())
}

/// Room above the reserve; none while the library is away and nobody knows.
async fn free(engine: &Engine) -> Result<Option<u64>> {
    match engine.on_disk(Library::free).await? {
        Ok(free) => Ok(Some(free.saturating_sub(engine.settings.reserve))),
        Err(LibraryError::Away { .. }) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

/// The state of the whole house with a sentence that names nobody.
pub async fn house_state(engine: &Engine) -> Result<(HouseState, &'static str)> {
    let said = headline(&house(engine, None).await?.0, engine.now());
    Ok((said.state, said.plain))
}

async fn house(engine: &Engine, person: Option<PersonId>) -> Result<(House, numbers::Depths, Vec<DeviceView>, Vec<StoreRow>)> {
    // None of these needs another one, and all of them are waited for by whoever opens the page.
    let (depths, mut devices, stores, unseen, room, of_the_keeper) = tokio::try_join!(
        async { Ok::<_, Error>(engine.catalog.depths(person, engine.proven_since()).await?) },
        async { Ok(engine.catalog.devices(person, None, engine.now()).await?) },
        async { Ok(engine.catalog.stores().await?) },
        elsewhere::known_out_of_reach(engine),
        free(engine),
        async {
            match person {
                None => tokio::try_join!(held_back(engine), kit::worth(engine)).map(Some),
                Some(_) => Ok(None),
            }
        },
    )?;
    devices.retain(|d| d.revoked_at.is_none());
    let (held_back, kit) = of_the_keeper.unzip();
    let held_back = held_back.flatten().map_or(0, |b| b.count);
    let library_away = match engine.home_is_there().await {
        Ok(()) => None,
        Err(Error::LibraryAway(_)) => engine.library.presence().away().map(|(_, why)| why.to_string()),
        Err(e) => return Err(e),
    };
    let out_of_reach = (!unseen.is_empty()).then(|| OutOfReach {
        // Members are not told where things are on the server.
        folder: elsewhere::named(&unseen).filter(|_| person.is_none()),
        more: unseen.len() as u64 - 1,
    });
    let house = House {
        library_away,
        out_of_reach,
        held_back,
        coming: depths.coming,
        devices: devices.iter().map(|d| device_now(d, engine.now())).collect(),
        home: depths.home,
        offsite: depths.offsite,
        exposed: depths.exposed,
        exposed_since: depths.exposed_since,
        damaged: depths.damaged,
        failed_work: depths.failed_work,
        stores: stores.iter().map(store_now).collect(),
        room,
        failed_checks: if person.is_none() { failed_checks(engine, &stores).await? } else { Vec::new() },
        kit,
    };
    Ok((house, depths, devices, stores))
}

/// A device, as the headline asks for it.
fn device_now(d: &DeviceView, now: DateTime<Utc>) -> DeviceNow {
    DeviceNow {
        name: d.name.clone(),
        // Also what it has counted and not named yet.
        waiting: told(d).to_come,
        refused: d.refused,
        refused_why: d.refused_why.clone(),
        unread: d.unread,
        seen_at: d.seen_at,
        usual: headline::habit(&d.days),
        sending: d.sending,
        ends_at: ends_at(d, now),
    }
}

fn store_now(s: &StoreRow) -> StoreNow {
    StoreNow {
        name: s.address.name.clone(),
        stopped: s.stopped.clone(),
        failing: s.failing.is_some(),
        disk: s.address.disk().is_some(),
    }
}
