//! A phone, simulated: camera roll and albums on a disk of limited size, a battery, a charger, networks, a clock of its own, and
//! a permission that may show only a selection. It drives the real engine over the real network interface; only what a real
//! phone's system would say is made up. [`day`] is a file that tells what happens to it.

pub mod day;

use std::{
    collections::BTreeSet,
    fs, io,
    path::{Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, SystemTime},
};

use chrono::{NaiveDateTime, TimeDelta};
use url::Url;
use ypogeion_agent::platform::Platform;
use ypogeion_core::condition::{Network, Readings};

/// Percent of the battery that an hour of lying about costs.
const DRAIN: f64 = 3.0;
/// Percent that an hour on the charger brings.
const CHARGE: f64 = 40.0;

struct State {
    battery: f64,
    charging: bool,
    network: Network,
    metered: Option<bool>,
    at_home: bool,
    clock: NaiveDateTime,
    storage: u64,
    selected: Option<BTreeSet<String>>,
}

/// The phone. Clones are the same phone.
#[derive(Clone)]
pub struct Phone {
    folder: PathBuf,
    state: Arc<Mutex<State>>,
}

impl Phone {
    /// A new phone at home, half charged, with room for `storage` bytes, whose clock shows `clock`.
    pub fn new(folder: &Path, storage: u64, clock: NaiveDateTime) -> io::Result<Self> {
        fs::create_dir_all(folder.join("roll"))?;
        fs::create_dir_all(folder.join("shown"))?;
        let state = State {
            battery: 50.0,
            charging: false,
            network: Network::Wifi,
            metered: Some(false),
            at_home: true,
            clock,
            storage,
            selected: None,
        };
        Ok(Phone { folder: folder.to_owned(), state: Arc::new(Mutex::new(state)) })
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where the engine keeps its own things.
    pub fn device_folder(&self) -> PathBuf {
        self.folder.join("engine")
    }

    /// The folder that this phone shows to the engine: everything, or only what was selected.
    pub fn shown(&self) -> PathBuf {
        self.folder.join(if self.lock().selected.is_some() { "shown" } else { "roll" })
    }

    /// Takes a picture or a video into an album. Fails like a phone whose storage is full.
    pub fn take(&self, album: &str, name: &str, bytes: &[u8]) -> io::Result<()> {
        if bytes.len() as u64 > self.free()? {
            return Err(io::Error::new(io::ErrorKind::StorageFull, "the phone's storage is full"));
        }
        let path = self.folder.join("roll").join(album).join(name);
        fs::create_dir_all(path.parent().unwrap_or(&self.folder))?;
        fs::write(&path, bytes)?;
        self.stamp(&path)?;
        self.refresh()
    }

    /// Saves an edited version over a picture, as phones do.
    pub fn edit(&self, album: &str, name: &str, bytes: &[u8]) -> io::Result<()> {
        let path = self.folder.join("roll").join(album).join(name);
        let new = path.with_extension("saving");
        fs::write(&new, bytes)?;
        self.stamp(&new)?;
        fs::rename(new, &path)?;
        self.refresh()
    }

    /// Deletes a picture on the phone.
    pub fn delete(&self, album: &str, name: &str) -> io::Result<()> {
        fs::remove_file(self.folder.join("roll").join(album).join(name))?;
        self.refresh()
    }

    /// The file's time is the phone's, not the machine's that simulates it.
    fn stamp(&self, path: &Path) -> io::Result<()> {
        let seconds = self.lock().clock.and_utc().timestamp().max(1);
        let time = SystemTime::UNIX_EPOCH + Duration::from_secs(seconds.unsigned_abs());
        fs::File::options().write(true).open(path)?.set_modified(time)
    }

    /// Gives the engine access to these files only (`album/name`); `None`: to all.
    pub fn select(&self, files: Option<&[&str]>) -> io::Result<()> {
        self.lock().selected = files.map(|f| f.iter().map(|s| (*s).to_owned()).collect());
        self.refresh()
    }

    /// Shows what was selected, as links of the same files.
    fn refresh(&self) -> io::Result<()> {
        let Some(selected) = self.lock().selected.clone() else { return Ok(()) };
        let shown = self.folder.join("shown");
        fs::remove_dir_all(&shown)?;
        fs::create_dir_all(&shown)?;
        for file in selected {
            let (from, to) = (self.folder.join("roll").join(&file), shown.join(&file));
            fs::create_dir_all(to.parent().unwrap_or(&shown))?;
            match fs::hard_link(from, to) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
        }
        Ok(())
    }

    /// Bytes free.
    pub fn free(&self) -> io::Result<u64> {
        let used = used(&self.folder.join("roll"))?;
        Ok(self.lock().storage.saturating_sub(used))
    }

    /// Plugs the charger in, or out.
    pub fn plug(&self, charging: bool) {
        self.lock().charging = charging;
    }

    /// Joins a network, or none.
    pub fn join(&self, network: Network, at_home: bool) {
        let mut state = self.lock();
        state.network = network;
        state.at_home = at_home && network != Network::None;
        state.metered = None;
    }

    /// Says whether the network costs by the byte (a hotspot).
    pub fn metered(&self, metered: Option<bool>) {
        self.lock().metered = metered;
    }

    /// Sets the battery, in percent.
    pub fn set_battery(&self, percent: u8) {
        self.lock().battery = f64::from(percent.min(100));
    }

    /// Sets the phone's clock; it may be wrong.
    pub fn set_clock(&self, clock: NaiveDateTime) {
        self.lock().clock = clock;
    }

    /// Lets time pass: the clock goes on, the battery drains or charges.
    pub fn pass(&self, time: TimeDelta) {
        let mut state = self.lock();
        state.clock += time;
        let hours = time.num_seconds() as f64 / 3600.0;
        let change = if state.charging { CHARGE * hours } else { -DRAIN * hours };
        state.battery = (state.battery + change).clamp(1.0, 100.0);
    }
}

fn used(folder: &Path) -> io::Result<u64> {
    let mut sum = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let meta = entry.metadata()?;
        sum += if meta.is_dir() { used(&entry.path())? } else { meta.len() };
    }
    Ok(sum)
}

impl Platform for Phone {
    fn readings(&self, _: &Url) -> Readings {
        let state = self.lock();
        Readings {
            battery: Some(state.battery.round() as u8),
            charging: Some(state.charging),
            network: state.network,
            metered: state.metered,
            at_home: Some(state.at_home),
            clock: state.clock,
        }
    }

    fn clock(&self) -> NaiveDateTime {
        self.lock().clock
    }
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;

    use super::*;

    fn phone(storage: u64) -> (tempfile::TempDir, Phone) {
        let folder = tempfile::tempdir().unwrap();
        let clock = NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(8, 0, 0).unwrap();
        let phone = Phone::new(folder.path(), storage, clock).unwrap();
        (folder, phone)
    }

    #[test]
    fn time_drains_the_battery_and_the_charger_fills_it() {
        let (_folder, phone) = phone(1000);
        let server = Url::parse("http://127.0.0.1/").unwrap();
        phone.pass(TimeDelta::hours(10));
        assert_eq!((phone.readings(&server).battery, phone.clock().to_string().as_str()), (Some(20), "2026-04-12 18:00:00"));
        phone.plug(true);
        phone.pass(TimeDelta::hours(1));
        assert_eq!(phone.readings(&server).battery, Some(60));
        phone.join(Network::None, true);
        assert_eq!(phone.readings(&server).at_home, Some(false), "no network is nobody's home");
    }

    #[test]
    fn a_full_phone_takes_no_more_and_a_selection_shows_no_more() {
        let (_folder, phone) = phone(10);
        phone.take("Camera", "a.jpg", b"12345678").unwrap();
        assert_eq!(phone.take("Camera", "b.jpg", b"123").unwrap_err().kind(), io::ErrorKind::StorageFull);
        phone.take("Chat", "c.jpg", b"12").unwrap();
        phone.select(Some(&["Chat/c.jpg", "Chat/gone.jpg"])).unwrap();
        assert!(phone.shown().join("Chat/c.jpg").exists() && !phone.shown().join("Camera").exists());
        phone.select(None).unwrap();
        assert!(phone.shown().join("Camera/a.jpg").exists());
    }
}
