//! A crash laboratory: a real house is lived in at random and struck at random, and after each step it is looked at from outside.
//!
//! A step is something that people or devices do (send, send again, delete, take back, file anew, correct a clock, lend and renew the key,
//! rebuild from the kit), during which the service may be killed at any moment, or something that happens to the house (a kill, the
//! library's disk goes away or an empty mount point is left, a store is out of reach, loses objects, or is put back to an earlier state).
//!
//! What has to hold after each step, seen from outside with nothing but the files and the API:
//!
//! * every picture that was acknowledged is on the home disk with its bytes, in its member's folder or in holding, whenever that disk
//!   is there;
//! * nothing else is there: no picture that nobody sent, no second copy;
//! * while the disk is away nothing is received, and the house does not say that all is well.
//!
//! And whenever the house has come to rest: the catalogue names exactly those pictures; the store gives all of them back with the kit alone;
//! and nothing waits any more.
//!
//! Which steps are taken depends on the seed alone; at which instant a kill comes does not, so a violation says what was done before it.

use std::{
    cell::{Cell, RefCell},
    collections::BTreeMap,
    fs,
    path::{Path, PathBuf},
    process::Command,
    time::Duration,
};

use data_encoding::BASE64;
use reqwest::Method;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_demo::scenes::Rng;
use ypogeion_standins::store::Faults;

use crate::{
    Step, Trouble,
    device::Device,
    house::{Console, House, Options},
    program, wait_for,
    walk::originals_below,
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
    /// How often all of it was looked at, at rest.
    pub rests: u64,
    /// What was done, and how often.
    pub done: BTreeMap<&'static str, u64>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Act {
    Send,
    SendAgain,
    Delete,
    TakeBack,
    Refile,
    Rules,
    Renew,
    Kill,
    Restart,
    DiskAway,
    Outage,
    Lose,
    PutBack,
    Rebuild,
}

impl Act {
    /// What is done, each as often as it stands here.
    const ALL: [(Act, u64); 13] = [
        (Act::Send, 30),
        (Act::SendAgain, 6),
        (Act::Delete, 8),
        (Act::TakeBack, 8),
        (Act::Refile, 6),
        (Act::Rules, 3),
        (Act::Renew, 2),
        (Act::Kill, 8),
        (Act::Restart, 3),
        (Act::DiskAway, 5),
        (Act::Outage, 4),
        (Act::Lose, 3),
        (Act::PutBack, 2),
    ];

    fn drawn(rng: &mut Rng) -> Act {
        let mut left = rng.next() % Self::ALL.iter().map(|(_, weight)| weight).sum::<u64>();
        for (act, weight) in Self::ALL {
            match left.checked_sub(weight) {
                Some(rest) => left = rest,
                None => return act,
            }
        }
        Act::Send
    }

    fn word(self) -> &'static str {
        match self {
            Act::Send => "sent a picture",
            Act::SendAgain => "sent the same bytes again",
            Act::Delete => "deleted",
            Act::TakeBack => "took back",
            Act::Refile => "filed the library anew",
            Act::Rules => "changed the rules",
            Act::Renew => "made a new key",
            Act::Kill => "killed the service",
            Act::Restart => "stopped and started the service",
            Act::DiskAway => "took the library's disk away",
            Act::Outage => "took the store out of reach",
            Act::Lose => "lost objects in the store",
            Act::PutBack => "put the store back to an earlier state",
            Act::Rebuild => "rebuilt the house from its kit",
        }
    }
}

/// A picture that was acknowledged.
#[derive(Clone, Debug)]
struct Kept {
    number: u64,
    held: bool,
}

struct Lab {
    house: House,
    keeper: Console,
    token: String,
    rng: Rng,
    /// By the hash of their bytes.
    kept: BTreeMap<String, Kept>,
    sent: u64,
    pairings: u64,
    /// What the store held once.
    snapshot: Option<PathBuf>,
    told: Vec<String>,
    account: Account,
}

/// Runs a campaign in a folder of its own. `tell` hears each step.
///
/// # Errors
/// With what was violated, and the last steps before it.
pub async fn run(folder: &Path, seed: u64, steps: u64, tell: &dyn Fn(&str)) -> Step<Account> {
    let mut options = Options::test(folder);
    options.offsite = "checkpoint_after = 4".into();
    let house = House::start(options).await?;
    let keeper = house.keeper().await?;
    keeper.ask(Method::POST, "api/stores", Some(house.store_form())).await?;
    keeper.ask(Method::PATCH, "api/household", Some(json!({ "brake_percent": 100 }))).await?;
    let mut lab = Lab {
        house,
        keeper,
        token: String::new(),
        rng: Rng::new(seed),
        kept: BTreeMap::new(),
        sent: 0,
        pairings: 0,
        snapshot: None,
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
        let killer = match (killed && act != Act::Kill && act != Act::Rebuild, self.house.pid()) {
            (true, Some(pid)) => {
                let after = Duration::from_millis(self.below(120));
                self.account.kills += 1;
                Some(std::thread::spawn(move || {
                    std::thread::sleep(after);
                    // The process is waited for after this, so that the id is still its own.
                    if let Some(pid) = i32::try_from(pid).ok().and_then(Pid::from_raw) {
                        let _ = kill_process(pid, Signal::KILL);
                    }
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
        Ok(())
    }

    async fn settle_doubts(&mut self, act: Act) -> Step<()> {
        match act {
            Act::Send | Act::SendAgain => self.send(self.sent).await,
            Act::Delete | Act::TakeBack => self.learn_held().await,
            Act::DiskAway => self.disk_back().await,
            _ => Ok(()),
        }
    }

    async fn act(&mut self, act: Act) -> Step<()> {
        match act {
            Act::Send if self.kept.len() < MOST => {
                self.sent += 1;
                self.send(self.sent).await
            }
            Act::Send | Act::SendAgain => {
                let number = 1 + self.below(self.sent);
                self.sent = self.sent.max(1);
                self.send(number).await
            }
            Act::Delete => self.hold("api/holding", false).await,
            Act::TakeBack => self.hold("api/holding/back", true).await,
            Act::Refile => {
                let plans = ["%Y/%m/{name}", "%Y/{name}", "{device}/%Y/{name}"];
                let plan = plans[self.below(3) as usize];
                self.keeper.ask(Method::PATCH, "api/household", Some(json!({ "filing": plan }))).await?;
                // Another one may be under way.
                self.keeper.try_ask(Method::POST, "api/filing", Some(json!({ "plan": plan }))).await.map(drop)
            }
            Act::Rules => {
                let depth = ["home", "offsite", "proven"][self.below(3) as usize];
                self.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": depth }))).await.map(drop)
            }
            Act::Renew => {
                let password = json!({ "password": self.house.options.keeper.1 });
                self.keeper.ask(Method::POST, "api/key/renew", Some(password)).await.map(drop)
            }
            Act::Kill => {
                self.account.kills += 1;
                self.up().await
            }
            Act::Restart => {
                self.house.stop_service().await?;
                self.up().await
            }
            Act::DiskAway => self.disk_away().await,
            Act::Outage => {
                self.house.store.set_faults(Faults { outage: true, ..Faults::default() });
                let wait = 50 + self.below(400);
                tokio::time::sleep(Duration::from_millis(wait)).await; // An outage has a length.
                self.house.store.set_faults(Faults { error_percent: 10, cut_percent: 3, ..Faults::default() });
                Ok(())
            }
            Act::Lose => {
                let count = 1 + self.below(2) as usize;
                // Fewer may be there.
                let _ = self.house.store.lose(count);
                Ok(())
            }
            Act::PutBack => self.put_back(),
            Act::Rebuild => self.rebuild().await,
        }
    }

    /// Sends a picture in one request; it is kept from the moment in which that is acknowledged.
    async fn send(&mut self, number: u64) -> Step<()> {
        if number == 0 {
            return Ok(());
        }
        let (bytes, http) = (bytes_of(number), reqwest::Client::builder().no_proxy().build()?);
        let (name, digest) = (format!("IMG_{number:05}.jpg"), Digest::of(&bytes).to_string());
        let field = |text: &str| BASE64.encode(text.as_bytes());
        let sent = http
            .post(self.house.http.join("tus/")?)
            .bearer_auth(&self.token)
            .header("Tus-Resumable", "1.0.0")
            .header("Upload-Length", bytes.len())
            .header("Content-Type", "application/offset+octet-stream")
            .header("Upload-Metadata", format!("filename {},sha256 {}", field(&name), field(&digest)))
            .body(bytes)
            .send()
            .await?;
        let status = sent.status();
        if !sent.headers().contains_key("ypogeion-original") {
            return Err(format!("picture {number} was not taken: {status} {}", sent.text().await?).into());
        }
        // What waits in holding and is sent again by hand comes back out of it.
        self.kept.insert(digest, Kept { number, held: false });
        Ok(())
    }

    /// The ids of pictures by the hash of their bytes: those in the library, or those in holding.
    async fn ids(&self, held: bool) -> Step<BTreeMap<String, Value>> {
        let mut ids = BTreeMap::new();
        let (path, list) = if held { ("api/holding?limit=500", "held") } else { ("api/originals?limit=500", "originals") };
        let page = self.keeper.ask(Method::GET, path, None).await?;
        for original in page[list].as_array().ok_or("no list came")? {
            let id = original["id"].as_str().ok_or("no id came")?;
            let digest = if held {
                // By its name: the number is in it.
                let number: u64 = original["name"].as_str().and_then(|n| n.get(4..9)?.parse().ok()).ok_or("another name")?;
                Digest::of(&bytes_of(number)).to_string()
            } else {
                let whole = self.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await?;
                whole["digest"].as_str().ok_or("no digest came")?.to_owned()
            };
            ids.insert(digest, original["id"].clone());
        }
        Ok(ids)
    }

    /// Deletes some, or takes some back.
    async fn hold(&mut self, path: &str, held: bool) -> Step<()> {
        let mut ids: Vec<(String, Value)> = self.ids(held).await?.into_iter().collect();
        let mut chosen = Vec::new();
        for _ in 0..1 + self.below(3) {
            if !ids.is_empty() {
                let at = self.below(ids.len() as u64) as usize;
                chosen.push(ids.swap_remove(at));
            }
        }
        if chosen.is_empty() {
            return Ok(());
        }
        let originals: Vec<&Value> = chosen.iter().map(|(_, id)| id).collect();
        self.keeper.ask(Method::POST, path, Some(json!({ "originals": originals }))).await?;
        for (digest, _) in chosen {
            self.kept.entry(digest).and_modify(|k| k.held = !held);
        }
        Ok(())
    }

    async fn learn_held(&mut self) -> Step<()> {
        let held = self.ids(true).await?;
        self.kept.iter_mut().for_each(|(digest, k)| k.held = held.contains_key(digest));
        Ok(())
    }

    fn away(&self) -> PathBuf {
        self.house.options.folder.join("library-away")
    }

    async fn disk_away(&mut self) -> Step<()> {
        let library = self.house.library();
        fs::rename(&library, self.away())?;
        if self.below(2) == 0 {
            // What is left where a disk was mounted.
            fs::create_dir(&library)?;
        }
        // Nothing is received meanwhile, and nobody is told that all is well.
        let taken = self.send(self.sent + 1_000_000).await;
        if taken.is_ok() {
            return Err("something was received while the library's disk was away".into());
        }
        if let Ok(state) = self.keeper.ask(Method::GET, "api/state", None).await
            && state["state"] == "well"
            && !self.kept.is_empty()
        {
            // The state is told from memory, a moment old; it has to know soon.
            wait_for("the house to say that its disk is away", 20, async || {
                Ok((self.keeper.ask(Method::GET, "api/state", None).await?["state"] != "well").then_some(()))
            })
            .await?;
        }
        self.disk_back().await
    }

    async fn disk_back(&mut self) -> Step<()> {
        if !self.away().exists() {
            return Ok(());
        }
        let library = self.house.library();
        if library.exists() {
            // Whatever was made on the empty mount point would now be hidden below the disk.
            let left = originals_below(&library)?;
            if !left.is_empty() {
                return Err(format!("something was filed where the disk was not: {left:?}").into());
            }
            fs::remove_dir_all(&library)?;
        }
        fs::rename(self.away(), &library)?;
        wait_for("the disk to be found again", 60, async || {
            let (status, _) = self.keeper.try_ask(Method::GET, "api/place", None).await?;
            let overview = self.keeper.overview().await?;
            Ok((status == 200 && !overview.sentence.contains("is not there")).then_some(()))
        })
        .await
    }

    fn put_back(&mut self) -> Step<()> {
        let (store, folder) = (self.house.store_folder(), self.house.options.folder.join("snapshot"));
        let copy = |from: &Path, to: &Path| -> Step<()> {
            let done = Command::new("cp").arg("-r").arg(from).arg(to).status()?;
            if done.success() { Ok(()) } else { Err("the store's folder could not be copied".into()) }
        };
        match self.snapshot.take() {
            None => {
                let _ = fs::remove_dir_all(&folder);
                copy(&store, &folder)?;
                self.snapshot = Some(folder);
                Ok(())
            }
            Some(earlier) => {
                fs::remove_dir_all(&store)?;
                fs::rename(earlier, &store)?;
                Ok(())
            }
        }
    }

    /// The database and the keys are gone; the kit brings the household back.
    async fn rebuild(&mut self) -> Step<()> {
        self.rest().await?;
        let options = &self.house.options;
        let (folder, password) = (options.folder.clone(), options.keeper.1.clone());
        let kit = self.keeper.kit(&password).await?;
        self.house.kill_service();
        let data = folder.join("data");
        ypogeion_catalog::cluster::stop(&data.join("database"))?;
        fs::remove_dir_all(&data)?;
        if self.below(2) == 0 {
            // The whole house.
            fs::remove_dir_all(self.house.library())?;
        }
        let (file, secret) = (folder.join("kit.txt"), folder.join("keeper.password"));
        fs::write(&file, kit)?;
        fs::write(&secret, &password)?;
        let rebuilt = Command::new(program("ypogeiond")?)
            .arg("--config")
            .arg(folder.join("ypogeiond.toml"))
            .args(["rebuild", "--kit"])
            .arg(&file)
            .arg("--password-file")
            .arg(&secret)
            .env("YPOGEION_THROW_AWAY", "1")
            .output()?;
        if !rebuilt.status.success() {
            return Err(format!("rebuilding ended with {}: {}", rebuilt.status, String::from_utf8_lossy(&rebuilt.stderr)).into());
        }
        self.up().await?;
        self.pair().await?;
        // Until all has come home, it is in the store alone.
        self.quiet().await
    }

    /// Looks at the disk from outside.
    fn look(&self) -> Step<()> {
        let there = originals_below(&self.house.library())?;
        let mut by_digest: BTreeMap<String, Vec<&Path>> = BTreeMap::new();
        for (path, digest) in &there {
            by_digest.entry(digest.to_string()).or_default().push(path);
        }
        for (digest, kept) in &self.kept {
            // A file that moves has two names for a moment; which is not two copies, nor none.
            if !by_digest.contains_key(digest) {
                return Err(format!("picture {} was acknowledged and is not on the home disk", kept.number).into());
            }
        }
        if let Some((_, paths)) = by_digest.iter().find(|(digest, _)| !self.kept.contains_key(*digest)) {
            return Err(format!("{paths:?} is on the home disk, and nobody was told that it was taken").into());
        }
        Ok(())
    }

    /// Waits until nothing is under way any more.
    async fn quiet(&mut self) -> Step<()> {
        self.house.store.set_faults(Faults::default());
        let living = self.kept.values().filter(|k| !k.held).count() as u64;
        let (looks, last) = (Cell::new(0u32), RefCell::new(String::new()));
        let rested = wait_for("the house to come to rest", 300, async || {
            let (store, overview) = (self.keeper.store().await?, self.keeper.overview().await?);
            if store.state == "failing" {
                // Its next attempt may be minutes away.
                self.keeper.ask(Method::POST, &format!("api/stores/{}/resume", store.id), Some(json!({}))).await?;
            }
            let work = self.keeper.ask(Method::GET, "api/work", None).await?;
            let waits = work["kinds"].as_array().map(Vec::as_slice).unwrap_or_default();
            // Readings are due after a while, checks each day, and what was deleted for good leaves the store in its time.
            let later = ["prove", "audit", "survey", "drill", "release", "remove", "reseal"];
            let busy = |k: &Value| ["waiting", "running", "retrying"].iter().any(|n| k[*n].as_u64().is_none_or(|n| n > 0));
            let under_way = waits.iter().any(|k| k["kind"].as_str().is_none_or(|kind| !later.contains(&kind)) && busy(k));
            // Waits between attempts grow to minutes: the keeper's own button lets all of it go on.
            looks.set(looks.get() + 1);
            if looks.get().is_multiple_of(30) && waits.iter().any(|k| k["retrying"].as_u64().is_none_or(|n| n > 0)) {
                self.keeper.ask(Method::POST, "api/work/retry", Some(json!({}))).await?;
            }
            let refiled = self.keeper.ask(Method::GET, "api/filing", None).await?;
            let filing = refiled.as_array().is_some_and(|all| all.iter().any(|r| r["state"] == "running"));
            *last.borrow_mut() = format!(
                "{} at home, {} to go, {} unlisted, the store is {}, work: {}",
                overview.home.count, store.to_go.count, store.unlisted, store.state, work["kinds"]
            );
            let done = store.to_go.count == 0 && store.unlisted == 0 && overview.home.count == living;
            Ok((done && !under_way && !filing).then_some(()))
        })
        .await;
        rested.map_err(|e| format!("{e}: {}; {}", self.standing(), last.borrow()).into())
    }

    fn standing(&self) -> String {
        let living = self.kept.values().filter(|k| !k.held).count();
        format!("{living} pictures are to be there, {} in holding", self.kept.len() - living)
    }

    /// Everything has come to rest: the catalogue, the store and its ledger say the same.
    async fn rest(&mut self) -> Step<()> {
        self.account.rests += 1;
        self.house.store.set_faults(Faults::default());
        // What the store has lost is found by comparing its list, and what its ledger has lost by a drill; both are made good.
        for kind in ["listing", "drill"] {
            self.check(kind).await?;
        }
        self.quiet().await?;
        self.look()?;
        let living: BTreeMap<&String, &Kept> = self.kept.iter().filter(|(_, k)| !k.held).collect();
        let named = self.ids(false).await?;
        if !named.keys().eq(living.keys().copied()) {
            return Err(format!("the catalogue names {} pictures; {}", named.len(), self.standing()).into());
        }
        if living.is_empty() {
            return Ok(());
        }
        let drill = self.check("drill").await?;
        if drill["failed"] == true {
            return Err(format!("a drill says: {}", drill["said"]).into());
        }
        let (kit, target) = (self.house.options.folder.join("now.kit"), self.house.options.folder.join("recovered"));
        fs::write(&kit, self.keeper.kit(&self.house.options.keeper.1).await?)?;
        let _ = fs::remove_dir_all(&target);
        let recovered =
            Command::new(program("ypogeiond")?).args(["recover", "--kit"]).arg(&kit).arg("--to").arg(&target).output()?;
        if !recovered.status.success() {
            return Err(
                format!("recovering ended with {}: {}", recovered.status, String::from_utf8_lossy(&recovered.stderr)).into()
            );
        }
        let mut back: Vec<String> = originals_below(&target)?.values().map(ToString::to_string).collect();
        back.sort();
        if !back.iter().eq(living.keys().copied()) {
            return Err(format!("{} pictures came back from the store; {}", back.len(), self.standing()).into());
        }
        Ok(())
    }

    /// Has the store checked, and returns what that said.
    async fn check(&self, kind: &str) -> Step<Value> {
        let store = self.keeper.store().await?.id;
        let asked = json!({ "store": store, "kind": kind });
        let last = async || {
            let checks = self.keeper.ask(Method::GET, "api/checks", None).await?;
            let all = checks["checks"].as_array().cloned().unwrap_or_default();
            Ok::<_, Trouble>(all.into_iter().find(|c| c["store"] == asked["store"] && c["kind"] == kind))
        };
        let before = last().await?.map(|c| c["last"]["ended_at"].clone()).unwrap_or_default();
        self.keeper.ask(Method::POST, "api/checks", Some(asked.clone())).await?;
        wait_for(&format!("a {kind} to end"), 120, async || {
            let Some(check) = last().await? else { return Ok(None) };
            let new = check["now"].is_null() && check["last"].is_object() && check["last"]["ended_at"] != before;
            Ok(new.then(|| check["last"].clone()))
        })
        .await
    }
}
