//! The years before: what the household carried from phone to phone. Ten summers along real roads, and the days at home between them.

use chrono::{Datelike, NaiveDate, NaiveTime, TimeDelta};

use crate::{
    Planned,
    camera::{Camera, Shot},
    scenes::{Rng, Scene},
};

/// These pictures are no wider.
pub(crate) const WIDTH: u32 = 480;

/// A journey: where its road leads, in degrees north and east, and what there is to be seen.
struct Journey {
    year: i32,
    month: u32,
    day: u32,
    days: u32,
    road: &'static [(f64, f64)],
    scenes: &'static [Scene],
}

const DUNES: &[(f64, f64)] = &[(52.158, 4.486), (52.96, 4.76), (53.0, 4.80), (53.08, 4.82)];
const MEUSE: &[(f64, f64)] = &[(50.851, 5.69), (50.63, 5.57), (50.467, 4.868), (50.26, 4.91), (49.76, 4.72)];
const RHINE: &[(f64, f64)] = &[(51.84, 5.86), (51.225, 6.776), (50.938, 6.96), (50.36, 7.59), (50.0, 8.27)];
const DENMARK: &[(f64, f64)] = &[(53.55, 9.99), (54.79, 9.44), (55.04, 9.42), (55.47, 8.45), (55.445, 8.37)];
const NORWAY: &[(f64, f64)] = &[(58.147, 7.996), (58.97, 5.733), (59.41, 5.27), (60.393, 5.324), (60.63, 6.42), (61.23, 7.10)];
const FJORDS: &[(f64, f64)] = &[(59.913, 10.752), (60.40, 8.50), (61.11, 7.46), (61.90, 6.72), (62.10, 7.20), (62.47, 6.15)];
const HILLS: &[(f64, f64)] = &[(51.195, 8.53), (51.17, 8.49), (51.30, 8.58)];

const JOURNEYS: [Journey; 13] = [
    Journey { year: 2016, month: 7, day: 16, days: 6, road: DUNES, scenes: &[Scene::Harbour, Scene::Kites] },
    Journey { year: 2017, month: 8, day: 5, days: 10, road: RHINE, scenes: &[Scene::Town, Scene::Weir] },
    Journey { year: 2018, month: 7, day: 20, days: 12, road: NORWAY, scenes: &[Scene::Fjord, Scene::Fjord, Scene::Harbour] },
    Journey { year: 2019, month: 2, day: 16, days: 5, road: HILLS, scenes: &[Scene::Snow] },
    Journey { year: 2019, month: 7, day: 13, days: 9, road: MEUSE, scenes: &[Scene::Weir, Scene::Town] },
    Journey { year: 2020, month: 8, day: 8, days: 6, road: DUNES, scenes: &[Scene::Kites, Scene::Harbour] },
    Journey { year: 2021, month: 2, day: 13, days: 4, road: HILLS, scenes: &[Scene::Snow] },
    Journey { year: 2021, month: 7, day: 24, days: 10, road: DENMARK, scenes: &[Scene::Kites, Scene::Town, Scene::Harbour] },
    Journey { year: 2022, month: 7, day: 9, days: 14, road: FJORDS, scenes: &[Scene::Fjord, Scene::Fjord, Scene::Town] },
    Journey { year: 2023, month: 1, day: 2, days: 5, road: HILLS, scenes: &[Scene::Snow, Scene::Snow, Scene::Town] },
    Journey { year: 2023, month: 8, day: 12, days: 9, road: RHINE, scenes: &[Scene::Town, Scene::Mill] },
    Journey { year: 2024, month: 6, day: 15, days: 8, road: DENMARK, scenes: &[Scene::Kites, Scene::Harbour] },
    Journey { year: 2024, month: 12, day: 27, days: 4, road: HILLS, scenes: &[Scene::Snow] },
];

/// What a year at home is made of: which day, what there is, and at which hour.
const AT_HOME: [(u32, u32, Scene, u32); 8] = [
    (1, 14, Scene::Mill, 16),
    (3, 22, Scene::Town, 14),
    (4, 18, Scene::Weir, 15),
    (5, 6, Scene::Allotment, 10),
    (6, 24, Scene::Kites, 14),
    (9, 10, Scene::Allotment, 17),
    (10, 20, Scene::Mill, 17),
    (12, 5, Scene::Town, 16),
];

/// Juno’s phone has them where it has the others; Piet’s in a folder of their own, for that is how they came there; Marisol was given the tablet in 2021.
const SOURCES: [&str; 4] = ["Camera", "Earlier", "", "Camera"];
const FIRST: i32 = 2016;
const LAST: i32 = 2024;
const TABLET: i32 = 2021;

/// So many pictures a day of each device: on a journey, and at home.
const ON_THE_WAY: [u64; 4] = [6, 3, 0, 2];
const ON_A_DAY: [u64; 4] = [6, 2, 0, 2];

/// A day with pictures.
struct Day {
    day: NaiveDate,
    hour: u32,
    scene: Scene,
    place: (f64, f64),
    shares: [u64; 4],
}

/// What was taken in those years, oldest first.
pub(crate) fn plan(seed: u64) -> Vec<Planned> {
    let mut days: Vec<Day> = Vec::new();
    for year in FIRST..=LAST {
        let home = AT_HOME.iter().filter_map(|(month, day, scene, hour)| {
            // Never on the same day of two years.
            let day = NaiveDate::from_ymd_opt(year, *month, *day)? + TimeDelta::days(i64::from(year * 5 + *month as i32 * 3) % 9);
            Some(Day { day, hour: *hour, scene: *scene, place: scene.place(), shares: ON_A_DAY })
        });
        days.extend(home);
    }
    for j in &JOURNEYS {
        let first = NaiveDate::from_ymd_opt(j.year, j.month, j.day).expect("a day of the demo's calendar");
        for n in 0..j.days {
            let scene = j.scenes[n as usize % j.scenes.len()];
            let along = f64::from(n) / f64::from(j.days.max(2) - 1);
            let (day, place) = (first + TimeDelta::days(i64::from(n)), on_the_road(j.road, along));
            days.push(Day { day, hour: 9 + n % 8, scene, place, shares: ON_THE_WAY });
        }
    }
    days.sort_by_key(|d| (d.day, d.hour));
    let mut rng = Rng::new(seed ^ 0x2016);
    let mut counters = [0, 0, 0, 600];
    let mut planned = Vec::new();
    for Day { day, hour, scene, place, shares } in days {
        for (device, share) in shares.into_iter().enumerate() {
            if device == 3 && day.year() < TABLET {
                continue;
            }
            let camera = camera_of(device, day.year());
            for n in 0..share {
                let minutes = i64::from(hour) * 60 + n as i64 * 11 + rng.below(9) as i64;
                let local = day.and_time(NaiveTime::MIN) + TimeDelta::minutes(minutes) + TimeDelta::seconds(rng.below(60) as i64);
                counters[device] += 1 + rng.below(2) as u32;
                planned.push(Planned {
                    device,
                    source: SOURCES[device],
                    name: camera.name(local, counters[device]),
                    scene,
                    seed: rng.next(),
                    shot: Shot::new(camera, local, place, &mut rng),
                    portrait: rng.below(5) == 0,
                    width: WIDTH,
                });
            }
        }
    }
    planned
}

/// With what it was taken: phones are replaced.
fn camera_of(device: usize, year: i32) -> Camera {
    match (device, year) {
        (0, ..2020) => Camera::Havel3,
        (1, ..2021) => Camera::Corvo1,
        _ => Camera::of_device(device),
    }
}

/// Where one is on a road, from 0 at its beginning to 1 at its end.
fn on_the_road(road: &[(f64, f64)], along: f64) -> (f64, f64) {
    let at = along.clamp(0.0, 1.0) * (road.len() - 1) as f64;
    let n = (at.floor() as usize).min(road.len() - 2);
    let (from, to, t) = (road[n], road[n + 1], at - n as f64);
    (from.0 + (to.0 - from.0) * t, from.1 + (to.1 - from.1) * t)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn nine_years_are_planned_and_no_name_comes_twice() {
        let all = plan(7);
        assert!((1500..1900).contains(&all.len()), "{}", all.len());
        let names: BTreeSet<_> = all.iter().map(|p| (p.device, &p.name)).collect();
        assert_eq!(names.len(), all.len());
        let years: BTreeSet<i32> = all.iter().map(|p| p.shot.local.year()).collect();
        assert_eq!(years, (FIRST..=LAST).collect());
        assert!(all.is_sorted_by_key(|p| p.shot.local.date()));
        // Below the numbers that this year's pictures have.
        let highest = all.iter().filter(|p| p.device == 0).filter_map(|p| p.name[4..8].parse::<u32>().ok()).max();
        assert!(highest.is_some_and(|n| n < 2200), "{highest:?}");
        assert_eq!(on_the_road(MEUSE, 0.0), MEUSE[0]);
        assert_eq!(on_the_road(MEUSE, 1.0), MEUSE[MEUSE.len() - 1]);
    }
}
