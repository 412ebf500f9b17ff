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
pub const MOST_PAGES: usize = 64;
const GATHER: Duration = Duration::from_millis(400);
/// More pictures of one person, or their months, are told as "the library": whoever asks for so many asks for all.
pub const MOST_NAMED: usize = 200;
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
    /// An album, or what is in one.
    Albums,
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
    albums: bool,
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
            Change::Albums => self.albums = true,
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
        let kinds = [
            (self.offsite, LiveEvent::Offsite),
            (self.albums, LiveEvent::Albums),
            (self.work, LiveEvent::Work),
            (self.record, LiveEvent::Record),
        ];
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

    /// Begins to hear of everybody's pictures.
    pub fn pictures(&self) -> PicturesHeard {
        PicturesHeard(self.listeners.subscribe())
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

/// Whose pictures have changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Whose {
    /// A member's.
    Of(PersonId),
    /// Anybody's.
    Anybodys,
}

/// What is kept up with everybody's pictures listens with this.
pub struct PicturesHeard(broadcast::Receiver<(For, LiveEvent)>);

impl PicturesHeard {
    /// Whose pictures change next. May be cancelled at any await.
    pub async fn next(&mut self) -> Whose {
        loop {
            match self.0.recv().await {
                Ok(told) => {
                    if let Some(whose) = whose(&told) {
                        return whose;
                    }
                }
                Err(broadcast::error::RecvError::Lagged(_)) => return Whose::Anybodys,
                // Nobody tells anything any more.
                Err(broadcast::error::RecvError::Closed) => std::future::pending().await,
            }
        }
    }

    /// Whose have changed already; none: nobody's did.
    pub fn at_once(&mut self) -> Option<Whose> {
        loop {
            match self.0.try_recv() {
                Ok(told) => {
                    if let Some(whose) = whose(&told) {
                        return Some(whose);
                    }
                }
                Err(broadcast::error::TryRecvError::Lagged(_)) => return Some(Whose::Anybodys),
                Err(_) => return None,
            }
        }
    }
}

/// Whose pictures an event tells of.
fn whose((to, event): &(For, LiveEvent)) -> Option<Whose> {
    match (event, to) {
        (LiveEvent::Library | LiveEvent::Originals { .. }, For::Owner(person) | For::OwnerAndKeepers(person)) => {
            Some(Whose::Of(*person))
        }
        (LiveEvent::Library | LiveEvent::Originals { .. }, For::Everybody) => Some(Whose::Anybodys),
        _ => None,
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
