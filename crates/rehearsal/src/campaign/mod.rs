//! A crash laboratory: a real house is lived in at random and struck at random, and after each step it is looked at from outside.
//!
//! A step is something that people or devices do (send, in one request or in pieces, send again, delete, let go, take back, file anew,
//! correct a clock, adopt a folder, add a store, have stores wait, renew and lend the key, rebuild from the kit), during which the
//! service may be killed at any moment; or something that happens to the house: a kill, a power cut ([`ypogeion_standins::disk`]: what was
//! not synced is forgotten or torn), a full disk, the library's disk goes away or an empty mount point is left, a store is out of reach,
//! loses objects, swaps or forges them, or is put back to an earlier state.
//!
//! What has to hold after each step, seen from outside with nothing but the files and the API:
//!
//! * every picture that was acknowledged is on the home disk with its bytes, in its member's folder or in holding, whenever that disk
//!   is there;
//! * nothing else is there: no picture that nobody sent;
//! * while the disk is away nothing is received, and the house does not say that all is well.
//!
//! And whenever the house has come to rest: the catalogue names exactly those pictures; each store by itself gives all of them back with
//! the kit alone; and nothing waits any more.
//!
//! The second store is a careless one: it looks at no checksum, and bits change on their way to it.
//!
//! Which steps are taken depends on the seed alone; at which instant a kill comes does not, so a violation says what was done before it.

mod acts;
mod looks;

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use acts::Act;
use reqwest::Method;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::json;
use ypogeion_demo::scenes::Rng;
use ypogeion_standins::{
    disk::{self, Disk},
    faults::Faults,
    store::{Options as StoreOptions, StandInStore},
};

use crate::{
    Step, Trouble,
    device::Device,
    house::{Console, House, Options},
    program,
};

/// The house comes to rest after so many steps.
const REST_EVERY: u64 = 20;
/// Rebuilding takes a while.
const REBUILD_EVERY: u64 = 60;
/// More pictures than this are not kept: whatever is found would be found with fewer, and each is read after each step.
const MOST: usize = 120;

/// What a campaign came to.
#[derive(Debug, Default)]
pub struct Account {
    /// Steps taken.
    pub steps: u64,
    /// How often the service was killed.
    pub kills: u64,
    /// How often the power was cut, and what the disk forgot then: folders and files.
    pub cuts: (u64, u64, u64),
    /// How often all of it was looked at, at rest.
    pub rests: u64,
    /// What was done, and how often.
    pub done: BTreeMap<&'static str, u64>,
}

/// A picture that was acknowledged.
#[derive(Clone, Debug)]
struct Acknowledged {
    number: u64,
    held: bool,
}

struct Lab {
    house: House,
    disk: Disk,
    keeper: Console,
    token: String,
    rng: Rng,
    /// By the hash of their bytes.
    kept: BTreeMap<String, Acknowledged>,
    /// On their way in or out, by the hash of their bytes: they may be on the disk, or not.
    between: BTreeMap<String, u64>,
    /// The numbers of those that were let go since something was sent again.
    leaving: Vec<u64>,
    sent: u64,
    /// The number of the picture that is being sent; 0: none.
    trying: u64,
    pairings: u64,
    adoptions: u64,
    runs: u64,
    /// Whether the service was killed during this step.
    struck: Arc<AtomicBool>,
    /// The second store, once there is one.
    south: Option<StandInStore>,
    /// What the first store held once.
    snapshot: Option<PathBuf>,
    /// How often each sealed object was struck.
    hits: BTreeMap<PathBuf, u32>,
    told: Vec<String>,
    account: Account,
}

/// Runs a campaign in a folder of its own. `tell` hears each step.
///
/// # Errors
/// With what was violated, and the last steps before it.
pub async fn run(folder: &Path, seed: u64, steps: u64, tell: &dyn Fn(&str)) -> Step<Account> {
    let folder = folder.canonicalize()?;
    let mut options = Options::test(&folder);
    options.offsite = "checkpoint_after = 4".into();
    let disk = Disk::new(&folder.join("synced"), &folder.join("library"));
    disk.begin(0)?;
    options.environment = disk.environment(&program(disk::PRELOADED)?);
    let house = House::start(options).await?;
    let keeper = house.keeper().await?;
    keeper.ask(Method::POST, "api/stores", Some(house.store_form())).await?;
    // Nothing waits for days, and no safety stop: what is let go leaves.
    keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 100, "offsite_days": 0 }))).await?;
    let mut lab = Lab {
        house,
        disk,
        keeper,
        token: String::new(),
        rng: Rng::new(seed),
        kept: BTreeMap::new(),
        between: BTreeMap::new(),
        leaving: Vec::new(),
        sent: 0,
        trying: 0,
        pairings: 0,
        adoptions: 0,
        runs: 0,
        struck: Arc::default(),
        south: None,
        snapshot: None,
        hits: BTreeMap::new(),
        told: Vec::new(),
        account: Account::default(),
    };
    lab.pair().await?;
    for step in 1..=steps {
        let act = match step % REBUILD_EVERY {
            0 => Act::Rebuild,
            _ => Act::drawn(&mut lab.rng),
        };
        let killed = lab.rng.next().is_multiple_of(3);
        let line = format!("step {step}: {}{}", act.word(), if killed { ", killed meanwhile" } else { "" });
        tell(&line);
        lab.told.push(line);
        *lab.account.done.entry(act.word()).or_default() += 1;
        let done = async {
            lab.take(act, killed).await?;
            lab.look()?;
            if step % REST_EVERY == 0 || step == steps {
                lab.rest().await?;
            }
            Ok::<_, Trouble>(())
        };
        if let Err(e) = done.await {
            let last = lab.told.iter().rev().take(12).rev().cloned().collect::<Vec<_>>().join("\n  ");
            return Err(format!("seed {seed}: {e}\n  {last}").into());
        }
        lab.account.steps = step;
    }
    Ok(lab.account)
}

/// The bytes of a picture.
fn bytes_of(number: u64) -> Vec<u8> {
    let mut rng = Rng::new(number.wrapping_mul(7919));
    (0..100 + rng.next() % 3000).map(|_| rng.next() as u8).collect()
}

/// Its name, which says when it was taken.
fn name_of(number: u64) -> String {
    format!("IMG_{:05}_2026{:02}{:02}_1015{:02}.jpg", number, 1 + number % 9, 1 + number % 28, number % 60)
}

/// The number of a picture by its name.
fn number_of(name: &str) -> Option<u64> {
    name.get(4..9)?.parse().ok()
}

impl Lab {
    fn below(&mut self, n: u64) -> u64 {
        self.rng.next() % n.max(1)
    }

    async fn pair(&mut self) -> Step<()> {
        self.pairings += 1;
        let device = Device::new(&self.house.options.folder.join(format!("device-{}", self.pairings)));
        let address = self.keeper.pairing(&self.house.options.keeper.0).await?;
        device.pair(&address, &format!("device {}", self.pairings), "phone", &[]).await?;
        self.token = ypogeion_agent::home::Home::open(device.folder())?.paired()?.token.clone();
        Ok(())
    }

    /// Does something, perhaps with a kill in the middle of it; afterwards the service runs.
    async fn take(&mut self, act: Act, killed: bool) -> Step<()> {
        self.struck.store(false, Ordering::Relaxed);
        let killer = match (killed && act.can_be_struck(), self.house.pid()) {
            (true, Some(pid)) => {
                let (after, struck) = (Duration::from_millis(self.below(120)), Arc::clone(&self.struck));
                self.account.kills += 1;
                Some(std::thread::spawn(move || {
                    std::thread::sleep(after);
                    // The process is waited for after this, so that the id is still its own.
                    if let Some(pid) = i32::try_from(pid).ok().and_then(Pid::from_raw) {
                        let _ = kill_process(pid, Signal::KILL);
                    }
                    struck.store(true, Ordering::Relaxed);
                }))
            }
            _ => None,
        };
        let done = self.act(act).await;
        if let Some(killer) = killer {
            killer.join().map_err(|_| "the killer failed")?;
            self.up().await?;
            // What was not answered may have been done, or not: it is asked for again, or looked at.
            self.settle_doubts(act).await
        } else {
            done
        }
    }

    /// Has the service run again, whatever it does now.
    async fn up(&mut self) -> Step<()> {
        self.house.kill_service();
        self.house.start_service().await?;
        self.keeper = self.house.keeper().await?;
        self.struck.store(false, Ordering::Relaxed);
        Ok(())
    }

    /// The power is cut, and comes back.
    async fn power_cut(&mut self) -> Step<()> {
        self.house.kill_service();
        self.runs += 1;
        let rng = &mut self.rng;
        let forgotten = self.disk.cut(self.runs, &mut |n| rng.next() % n.max(1))?;
        self.account.kills += 1;
        let (cuts, folders, files) = self.account.cuts;
        self.account.cuts = (cuts + 1, folders + forgotten.folders, files + forgotten.files);
        self.up().await
    }

    /// A second store, which looks at nothing.
    async fn careless_store(&self) -> Step<StandInStore> {
        let store = StandInStore::start(StoreOptions {
            folder: self.house.options.folder.join("south-quay"),
            bucket: "mill-house".into(),
            access_key: "SOUTHKEY".into(),
            secret_key: "south-secret".into(),
            port: 0,
            control_port: 0,
        })
        .await?;
        store.set_faults(careless());
        Ok(store)
    }

    /// All stores do as well as they can.
    fn calm(&self) {
        self.house.store.set_faults(Faults::default());
        if let Some(south) = &self.south {
            south.set_faults(careless());
        }
    }
}

fn careless() -> Faults {
    Faults { swallows: true, spoil_percent: 15, ..Faults::default() }
}
