//! What listeners are told.

use std::time::Duration;

use chrono::{NaiveDate, NaiveDateTime};
use uuid::Uuid;
use ypogeion_core::{DeviceId, OriginalId, PersonId};
use ypogeion_engine::live::{Change, Heard, Listener, Live, MOST_NAMED, MOST_PAGES};
use ypogeion_wire::work::LiveEvent;

const JUNO: PersonId = PersonId(Uuid::from_u128(1));
const PAUL: PersonId = PersonId(Uuid::from_u128(2));

fn in_month(month: u32) -> NaiveDateTime {
    NaiveDate::from_ymd_opt(2025 + i32::try_from(month / 12).unwrap(), month % 12 + 1, 3).unwrap().and_hms_opt(9, 0, 0).unwrap()
}

fn picture(n: u128) -> OriginalId {
    OriginalId(Uuid::from_u128(n))
}

async fn all_heard(listener: &mut Listener) -> Vec<LiveEvent> {
    let mut all = Vec::new();
    while let Ok(Heard::Event(event)) = tokio::time::timeout(Duration::from_secs(2), listener.hear()).await {
        all.push(event);
    }
    all
}

#[tokio::test(start_paused = true)]
async fn a_burst_is_told_once_with_what_changed() {
    let live = Live::default();
    let mut listener = live.listen(JUNO, false).unwrap();
    tokio::spawn(live.clone().tell());
    for n in 0..100 {
        live.changed(&[Change::Original(JUNO, picture(n % 3), in_month(u32::try_from(n % 2).unwrap()))]);
    }
    live.changed(&[Change::Record]);
    let named =
        LiveEvent::Originals { ids: (0..3).map(picture).collect(), months: vec!["2025-01".to_owned(), "2025-02".to_owned()] };
    assert_eq!(all_heard(&mut listener).await, [LiveEvent::Overview, named, LiveEvent::Record]);
}

#[tokio::test(start_paused = true)]
async fn everybody_hears_of_their_own() {
    let live = Live::default();
    let mut listeners = [(JUNO, true), (PAUL, false)].map(|(who, keeper)| live.listen(who, keeper).unwrap());
    tokio::spawn(live.clone().tell());
    let (phone, laptop) = (DeviceId(Uuid::from_u128(7)), DeviceId(Uuid::from_u128(8)));
    live.changed(&[
        Change::Original(PAUL, picture(1), in_month(0)),
        Change::Device(PAUL, phone),
        Change::Device(JUNO, laptop),
        Change::Run(PAUL),
    ]);
    let device = |id| LiveEvent::Devices { ids: vec![id] };
    let [juno, paul] = &mut listeners;
    // The keeper hears of everybody's devices, and of nobody's pictures.
    assert_eq!(all_heard(juno).await, [LiveEvent::Overview, device(laptop), device(phone), LiveEvent::Runs]);
    let own = LiveEvent::Originals { ids: vec![picture(1)], months: vec!["2025-01".to_owned()] };
    assert_eq!(all_heard(paul).await, [LiveEvent::Overview, own, device(phone), LiveEvent::Runs]);
}

#[tokio::test(start_paused = true)]
async fn too_many_to_name_are_the_library() {
    for (pictures, months) in [(MOST_NAMED as u128 + 50, 1), (60, 30)] {
        let live = Live::default();
        let mut listener = live.listen(JUNO, false).unwrap();
        tokio::spawn(live.clone().tell());
        for n in 0..pictures {
            live.changed(&[Change::Original(JUNO, picture(n), in_month(u32::try_from(n % months).unwrap()))]);
        }
        assert_eq!(all_heard(&mut listener).await, [LiveEvent::Overview, LiveEvent::Library]);
    }
}

#[test]
fn nobody_listens_with_more_pages_than_anybody_has() {
    let live = Live::default();
    let all: Vec<_> = (0..MOST_PAGES).map(|_| live.listen(JUNO, true).unwrap()).collect();
    assert!(live.listen(JUNO, true).is_none());
    assert!(live.listen(PAUL, false).is_some());
    drop(all);
    let again: Vec<_> = (0..MOST_PAGES).map(|_| live.listen(JUNO, true)).collect();
    assert!(again.iter().all(Option::is_some), "what is closed is forgotten");
}
