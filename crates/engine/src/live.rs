//! What listeners are told as it happens.
//!
//! Changes come in bursts (a phone sends a thousand pictures); listeners are told at most a few times a second what has changed: which
//! pictures and months, which devices, or what kind of thing; and ask for that, and for nothing else. Each is told of what they may see.
//! Nothing wakes while nothing changes.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    mem,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use chrono::NaiveDateTime;
use tokio::sync::{Notify, broadcast, watch};
use ypogeion_catalog::originals::{OriginalRow, Touched};
use ypogeion_core::{DeviceId, OriginalId, PersonId};
use ypogeion_wire::work::LiveEvent;

/// So many pages of one person are told; each holds a connection.
const MOST_PAGES: usize = 64;
const GATHER: Duration = Duration::from_millis(400);
/// More pictures of one person, or their months, are told as "the library": whoever asks for so many asks for all.
const MOST_NAMED: usize = 200;
const MOST_MONTHS: usize = 24;

/// Something that has changed. Every change may change the overview.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// Numbers.
    Overview,
    /// A picture of a member: it came, it left, or it is otherwise now. When it was taken: its month may look otherwise, too.
    Original(PersonId, OriginalId, NaiveDateTime),
    /// Pictures, nobody knows which; or how they are filed.
    Library,
    /// A member's device, and what it has.
    Device(PersonId, DeviceId),
    /// Devices, nobody knows which.
    Devices,
    /// A backup of a member's device.
    Run(PersonId),
    /// A store, a check, or a key.
    Offsite,
    /// Background work.
    Work,
    /// A line of the record.
    Record,
}

impl From<Touched> for Change {
    fn from(t: Touched) -> Self {
        Change::Original(t.person, t.id, t.taken_local)
    }
}

/// That this original is otherwise now.
pub fn changed(row: &OriginalRow) -> Change {
    Change::Original(row.person, row.id, row.taken_local)
}

/// That each of these is.
pub fn each(of: Vec<Touched>) -> Vec<Change> {
    of.into_iter().map(Change::from).collect()
}

/// Whom an event is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum For {
    Everybody,
    /// That member alone.
    Owner(PersonId),
    /// That member, and keepers.
    OwnerAndKeepers(PersonId),
}

/// Pictures of one member.
#[derive(Default)]
struct Pictures {
    ids: BTreeSet<OriginalId>,
    months: BTreeSet<String>,
}

/// What listeners have not been told yet.
#[derive(Default)]
struct Untold {
    /// Whether anything is.
    any: bool,
    pictures: BTreeMap<PersonId, Pictures>,
    library: bool,
    devices: BTreeMap<PersonId, BTreeSet<DeviceId>>,
    all_devices: bool,
    runs: BTreeSet<PersonId>,
    offsite: bool,
    work: bool,
    record: bool,
}

impl Untold {
    fn add(&mut self, change: Change) {
        self.any = true;
        match change {
            Change::Overview => {}
            Change::Original(person, id, taken) => {
                let pictures = self.pictures.entry(person).or_default();
                if pictures.ids.len() <= MOST_NAMED && pictures.months.len() <= MOST_MONTHS {
                    pictures.ids.insert(id);
                    pictures.months.insert(taken.format("%Y-%m").to_string());
                }
            }
            Change::Library => self.library = true,
            Change::Device(person, id) => {
                self.devices.entry(person).or_default().insert(id);
            }
            Change::Devices => self.all_devices = true,
            Change::Run(person) => {
                self.runs.insert(person);
            }
            Change::Offsite => self.offsite = true,
            Change::Work => self.work = true,
            Change::Record => self.record = true,
        }
    }

    fn events(self) -> Vec<(For, LiveEvent)> {
        let mut all = Vec::new();
        if self.any {
            all.push((For::Everybody, LiveEvent::Overview));
        }
        if self.library {
            all.push((For::Everybody, LiveEvent::Library));
        }
        for (person, pictures) in self.pictures.into_iter().filter(|_| !self.library) {
            let too_many = pictures.ids.len() > MOST_NAMED || pictures.months.len() > MOST_MONTHS;
            let named =
                LiveEvent::Originals { ids: pictures.ids.into_iter().collect(), months: pictures.months.into_iter().collect() };
            all.push((For::Owner(person), if too_many { LiveEvent::Library } else { named }));
        }
        if self.all_devices {
            all.push((For::Everybody, LiveEvent::Devices { ids: Vec::new() }));
        }
        for (person, ids) in self.devices.into_iter().filter(|_| !self.all_devices) {
            all.push((For::OwnerAndKeepers(person), LiveEvent::Devices { ids: ids.into_iter().collect() }));
        }
        all.extend(self.runs.into_iter().map(|person| (For::OwnerAndKeepers(person), LiveEvent::Runs)));
        let kinds = [(self.offsite, LiveEvent::Offsite), (self.work, LiveEvent::Work), (self.record, LiveEvent::Record)];
        all.extend(kinds.into_iter().filter(|(so, _)| *so).map(|(_, event)| (For::Everybody, event)));
        all
    }
}

/// Gathers changes and tells listeners.
#[derive(Clone)]
pub struct Live {
    untold: Arc<Mutex<Untold>>,
    wake: Arc<Notify>,
    listeners: broadcast::Sender<(For, LiveEvent)>,
    /// How many of them are whose.
    listening: Arc<Mutex<HashMap<PersonId, usize>>>,
    /// Whether the service is stopping: listeners are let go, or they would hold it for as long as they listen.
    stopping: Arc<watch::Sender<bool>>,
}

impl Default for Live {
    fn default() -> Self {
        Live {
            untold: Arc::default(),
            wake: Arc::default(),
            listeners: broadcast::channel(64).0,
            listening: Arc::default(),
            stopping: Arc::new(watch::Sender::new(false)),
        }
    }
}

impl Live {
    /// Notes changes.
    pub fn changed(&self, what: &[Change]) {
        let mut untold = self.untold.lock().unwrap_or_else(PoisonError::into_inner);
        what.iter().for_each(|change| untold.add(*change));
        drop(untold);
        self.wake.notify_one();
    }

    /// Begins to listen, unless this person listens with too many pages already.
    pub fn listen(&self, person: PersonId, is_keeper: bool) -> Option<Listener> {
        let mut listening = self.listening.lock().unwrap_or_else(PoisonError::into_inner);
        let pages = listening.entry(person).or_default();
        if *pages >= MOST_PAGES {
            return None;
        }
        *pages += 1;
        Some(Listener { heard: self.listeners.subscribe(), listening: Arc::clone(&self.listening), person, is_keeper })
    }

    /// Lets all listeners go.
    pub fn stop(&self) {
        self.stopping.send_replace(true);
    }

    /// Ends when listeners are let go.
    pub async fn stopped(&self) {
        // The sender is part of self, so that the channel cannot close while this waits.
        let _ = self.stopping.subscribe().wait_for(|stopping| *stopping).await;
    }

    /// Tells listeners for ever. May be cancelled at any await: a change that was not told yet is told by the next one.
    pub async fn tell(self) {
        loop {
            self.wake.notified().await;
            tokio::time::sleep(GATHER).await;
            let untold = mem::take(&mut *self.untold.lock().unwrap_or_else(PoisonError::into_inner));
            for told in untold.events() {
                // Nobody listening is no fault.
                let _ = self.listeners.send(told);
            }
        }
    }
}

/// Somebody who listens, until dropped.
pub struct Listener {
    heard: broadcast::Receiver<(For, LiveEvent)>,
    listening: Arc<Mutex<HashMap<PersonId, usize>>>,
    person: PersonId,
    is_keeper: bool,
}

/// What is heard next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Heard {
    /// That has changed.
    Event(LiveEvent),
    /// More than could be listened to: anything may have changed.
    TooMuch,
    /// Nobody tells anything any more.
    End,
}

impl Listener {
    /// What is to be heard next of what is this person's to know. May be cancelled at any await.
    pub async fn hear(&mut self) -> Heard {
        loop {
            match self.heard.recv().await {
                Ok((to, event)) if self.may_hear(to) => return Heard::Event(event),
                Ok(_) => {}
                Err(broadcast::error::RecvError::Lagged(_)) => return Heard::TooMuch,
                Err(broadcast::error::RecvError::Closed) => return Heard::End,
            }
        }
    }

    fn may_hear(&self, to: For) -> bool {
        match to {
            For::Everybody => true,
            For::Owner(person) => person == self.person,
            For::OwnerAndKeepers(person) => person == self.person || self.is_keeper,
        }
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        let mut listening = self.listening.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(pages) = listening.get_mut(&self.person) {
            *pages -= 1;
            if *pages == 0 {
                listening.remove(&self.person);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;
    use uuid::Uuid;

    use super::*;

    const JUNO: PersonId = PersonId(Uuid::from_u128(1));
    const PAUL: PersonId = PersonId(Uuid::from_u128(2));

    fn in_month(month: u32) -> NaiveDateTime {
        NaiveDate::from_ymd_opt(2025 + i32::try_from(month / 12).unwrap(), month % 12 + 1, 3)
            .unwrap()
            .and_hms_opt(9, 0, 0)
            .unwrap()
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
        assert!(live.listen(JUNO, true).is_some());
        assert!(live.listening.lock().unwrap().is_empty());
    }
}
