//! Four phones of the household live through a day, faster than life: the real engine in each, the real service, and what
//! happens told by the demo's days.

use std::{path::Path, time::Duration};

use chrono::{NaiveDate, NaiveDateTime, NaiveTime, TimeDelta};
use ypogeion_agent::platform::Platform;
use ypogeion_core::{clearance::RoomRule, words};
use ypogeion_demo::{
    DAYS,
    camera::{Camera, Shot, jpeg},
    scenes::{Rng, Scene, draw},
};
use ypogeion_standins::phone::day::{Day, Event};

use crate::{Step, house::Console, pocket::Pocket};

/// How long a phone lies about between two looks of its engine.
const LOOK: TimeDelta = TimeDelta::minutes(30);
/// Room on each phone.
const STORAGE: u64 = 40_000_000;

struct Person {
    name: &'static str,
    pocket: Pocket,
    events: Vec<(NaiveTime, Event)>,
    rng: Rng,
    taken: u32,
    told: Option<String>,
}

/// The day that is lived.
fn midnight() -> NaiveDateTime {
    NaiveDate::from_ymd_opt(2026, 11, 21).unwrap_or_default().and_time(NaiveTime::MIN)
}

/// Lets the day pass; an hour takes `hour`. `tell` hears what happens, as it happens. Returns the phones as they are at
/// midnight, with their owners' names.
pub async fn live(keeper: &Console, folder: &Path, hour: Duration, mut tell: impl FnMut(String)) -> Step<Vec<(String, Pocket)>> {
    let mut people = Vec::new();
    for (n, (name, text)) in DAYS.into_iter().enumerate() {
        let address = keeper.pairing(name).await?;
        let device = format!("{name}’s new phone");
        let pocket = Pocket::pair(&folder.join(format!("phone-{n}")), &address, &device, STORAGE, midnight()).await?;
        let Day(events) = Day::parse(text)?;
        pocket.phone.set_battery(100);
        people.push(Person { name, pocket, events, rng: Rng::new(n as u64 + 70), taken: 0, told: None });
    }
    // Piet forgot to charge his.
    people[1].pocket.phone.set_battery(60);
    let mut now = midnight();
    while now < midnight() + TimeDelta::days(1) {
        now += LOOK;
        for person in &mut people {
            person.pocket.phone.pass(LOOK);
            while person.events.first().is_some_and(|(at, _)| midnight().date().and_time(*at) <= now) {
                let (at, event) = person.events.remove(0);
                let said = happen(person, &event).await?;
                tell(format!("{}  {} {said}", at.format("%H:%M"), person.name));
            }
            look(person, now, &mut tell).await?;
        }
        tokio::time::sleep(hour * u32::try_from(LOOK.num_minutes()).unwrap_or(30) / 60).await;
    }
    Ok(people.into_iter().map(|p| (p.name.to_owned(), p.pocket)).collect())
}

/// The engine looks whether there is something to do, as it does on a phone when the system lets it.
async fn look(person: &mut Person, now: NaiveDateTime, tell: &mut impl FnMut(String)) -> Step<()> {
    let account = person.pocket.back_up(false).await?;
    let said = match &account.halted {
        // It waits only if there is something to wait with.
        Some(_) if person.taken == 0 => None,
        Some(reason) => Some(format!("phone: {reason}")),
        None if account.counts.sent > 0 => {
            Some(format!("phone sends {} ({})", words::counted(account.counts.sent, "file"), words::size(account.counts.bytes)))
        }
        None => None,
    };
    if said.is_some() && said != person.told {
        tell(format!("{}  {}’s {}", now.format("%H:%M"), person.name, said.clone().unwrap_or_default()));
    }
    person.told = said;
    Ok(())
}

/// Does what the day says; returns what happened, for a line.
async fn happen(person: &mut Person, event: &Event) -> Step<String> {
    let phone = person.pocket.phone.clone();
    Ok(match event {
        Event::Take { album, count } => {
            for _ in 0..*count {
                let (name, bytes) = picture(person)?;
                phone.take(album, &format!("{name}.JPG"), &bytes)?;
            }
            format!("takes {}", words::counted(u64::from(*count), "picture"))
        }
        Event::Film { album, count } => {
            for _ in 0..*count {
                let (name, bytes) = picture(person)?;
                // Large and moving enough for rules about videos; what is in it does not matter to them.
                phone.take(album, &format!("{name}.MP4"), &bytes.repeat(30))?;
            }
            format!("films {}", words::counted(u64::from(*count), "video"))
        }
        Event::Edit { album } => {
            let (_, bytes) = picture(person)?;
            match names(&phone.shown().join(album))?.iter().rfind(|n| n.ends_with(".JPG")) {
                Some(last) => {
                    phone.edit(album, last, &bytes)?;
                    format!("edits {last}")
                }
                None => "has nothing to edit".to_owned(),
            }
        }
        Event::Delete { album } => match names(&phone.shown().join(album))?.first() {
            Some(first) => {
                phone.delete(album, first)?;
                format!("deletes {first} on the phone")
            }
            None => "has nothing to delete".to_owned(),
        },
        Event::Plug(charging) => {
            phone.plug(*charging);
            if *charging { "plugs the phone in" } else { "unplugs the phone" }.to_owned()
        }
        Event::Join { network, at_home } => {
            phone.join(*network, *at_home);
            match (network, at_home) {
                (ypogeion_core::condition::Network::None, _) => "has no network".to_owned(),
                (_, true) => "comes home".to_owned(),
                (ypogeion_core::condition::Network::Mobile, _) => "is out, on mobile data".to_owned(),
                _ => "is somewhere with Wi-Fi".to_owned(),
            }
        }
        Event::BackUp => {
            let account = person.pocket.back_up(true).await?;
            format!("taps “back up now”: {} sent", words::counted(account.counts.sent, "file"))
        }
        Event::MakeRoom => {
            let account = person.pocket.make_room(&RoomRule::default()).await?;
            let gone = account.entries.iter().filter(|e| e.kept.is_none()).count() as u64;
            format!("makes room: {} removed, {} kept", words::counted(gone, "file"), account.entries.len() as u64 - gone)
        }
    })
}

fn picture(person: &mut Person) -> Step<(String, Vec<u8>)> {
    person.taken += 1;
    let scene = [Scene::Weir, Scene::Kites, Scene::Allotment, Scene::Harbour, Scene::Mill][person.taken as usize % 5];
    let local = person.pocket.phone.clock();
    let seed = person.rng.next();
    let shot = Shot::new(Camera::Havel7, local, scene.place(), &mut person.rng);
    Ok((format!("IMG_{:04}", 3000 + person.taken), jpeg(&draw(scene, seed, 0.5, 480, 360), &shot)?))
}

fn names(album: &Path) -> Step<Vec<String>> {
    let mut names: Vec<String> = match std::fs::read_dir(album) {
        Ok(entries) => entries.flatten().filter_map(|e| e.file_name().into_string().ok()).collect(),
        Err(_) => Vec::new(),
    };
    names.sort();
    Ok(names)
}
