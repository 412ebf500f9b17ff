//! What is done in the house, and to it.

use std::{fs, path::PathBuf, process::Command, sync::atomic::Ordering, time::Duration};

use data_encoding::BASE64;
use reqwest::{Method, Response, StatusCode};
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_demo::scenes::Rng;
use ypogeion_standins::faults::Faults;

use super::{Acknowledged, Lab, MOST, bytes_of, name_of, number_of};
use crate::{Step, program, wait_for, walk::originals_below};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Act {
    Send,
    SendAgain,
    SendInPieces,
    Delete,
    LetGo,
    TakeBack,
    Refile,
    Correct,
    Adopt,
    Rules,
    Renew,
    Lend,
    Pause,
    Kill,
    PowerCut,
    Restart,
    DiskAway,
    DiskFull,
    Outage,
    Lose,
    Spoil,
    PutBack,
    Rebuild,
}

impl Act {
    /// What is done, each as often as it stands here.
    const ALL: [(Act, u64); 22] = [
        (Act::Send, 24),
        (Act::SendAgain, 8),
        (Act::SendInPieces, 6),
        (Act::Delete, 8),
        (Act::LetGo, 5),
        (Act::TakeBack, 6),
        (Act::Refile, 6),
        (Act::Correct, 3),
        (Act::Adopt, 4),
        (Act::Rules, 3),
        (Act::Renew, 2),
        (Act::Lend, 1),
        (Act::Pause, 4),
        (Act::Kill, 4),
        (Act::PowerCut, 8),
        (Act::Restart, 3),
        (Act::DiskAway, 5),
        (Act::DiskFull, 3),
        (Act::Outage, 4),
        (Act::Lose, 3),
        (Act::Spoil, 3),
        (Act::PutBack, 2),
    ];

    pub(super) fn drawn(rng: &mut Rng) -> Act {
        let mut left = rng.next() % Self::ALL.iter().map(|(_, weight)| weight).sum::<u64>();
        for (act, weight) in Self::ALL {
            match left.checked_sub(weight) {
                Some(rest) => left = rest,
                None => return act,
            }
        }
        Act::Send
    }

    pub(super) fn word(self) -> &'static str {
        match self {
            Act::Send => "sent a picture",
            Act::SendAgain => "sent the same bytes again",
            Act::SendInPieces => "sent a picture in pieces",
            Act::Delete => "deleted",
            Act::LetGo => "let go what was deleted",
            Act::TakeBack => "brought back",
            Act::Refile => "filed the library anew",
            Act::Correct => "corrected a clock",
            Act::Adopt => "adopted a folder",
            Act::Rules => "changed the rules",
            Act::Renew => "made a new key",
            Act::Lend => "forgot the key and lent it",
            Act::Pause => "had a store wait, or go on",
            Act::Kill => "killed the service",
            Act::PowerCut => "cut the power",
            Act::Restart => "stopped and started the service",
            Act::DiskAway => "took the library's disk away",
            Act::DiskFull => "filled the disk",
            Act::Outage => "took the store out of reach",
            Act::Lose => "lost objects in the store",
            Act::Spoil => "changed and swapped objects in the store",
            Act::PutBack => "put the store back to an earlier state",
            Act::Rebuild => "rebuilt the house from its kit",
        }
    }

    /// Whether the service may be killed meanwhile. Some do that themselves.
    pub(super) fn can_be_struck(self) -> bool {
        !matches!(self, Act::Kill | Act::PowerCut | Act::SendInPieces | Act::Rebuild)
    }
}

impl Lab {
    pub(super) async fn settle_doubts(&mut self, act: Act) -> Step<()> {
        match act {
            // Whether it was taken is not known; asked for once more, it is.
            Act::Send | Act::SendAgain => self.send(self.trying).await,
            Act::Delete | Act::TakeBack => self.learn_held().await,
            Act::LetGo => self.learn_leaving().await,
            Act::Adopt => self.finish_adoption().await,
            Act::Lend => {
                self.own_key().await?;
                self.send(self.trying).await
            }
            Act::DiskAway => self.disk_back().await,
            Act::DiskFull => {
                self.disk.set_full(false)?;
                self.send(self.trying).await
            }
            _ => Ok(()),
        }
    }

    pub(super) async fn act(&mut self, act: Act) -> Step<()> {
        match act {
            Act::Send if self.kept.len() < MOST => {
                self.sent += 1;
                self.send(self.sent).await
            }
            Act::Send | Act::SendAgain => {
                // What was let go last, if there is some: it is just leaving, and has to come back in full.
                let leaving = std::mem::take(&mut self.leaving);
                let number = match self.below(4) {
                    0..=2 if !leaving.is_empty() => leaving[self.below(leaving.len() as u64) as usize],
                    _ => 1 + self.below(self.sent),
                };
                self.sent = self.sent.max(1);
                self.send(number).await
            }
            Act::SendInPieces => self.send_in_pieces().await,
            Act::Delete => self.hold("api/holding", false).await,
            Act::TakeBack => self.hold("api/holding/back", true).await,
            Act::LetGo => self.remove_due().await,
            Act::Refile => self.refile().await.map(drop),
            Act::Correct => self.correct().await,
            Act::Adopt => self.adopt().await,
            Act::Rules => {
                let depth = ["home", "offsite", "proven"][self.below(3) as usize];
                self.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": depth }))).await.map(drop)
            }
            Act::Renew => self.keeper.ask(Method::POST, "api/key/renew", Some(self.password())).await.map(drop),
            Act::Lend => self.lend().await,
            Act::Pause => self.pause().await,
            Act::Kill => {
                self.account.kills += 1;
                self.up().await
            }
            Act::PowerCut => self.power_cut().await,
            Act::Restart => {
                self.house.stop_service().await?;
                self.up().await
            }
            Act::DiskAway => self.disk_away().await,
            Act::DiskFull => self.disk_full().await,
            Act::Outage => {
                self.house.store.set_faults(Faults { outage: true, ..Faults::default() });
                let wait = 50 + self.below(400);
                tokio::time::sleep(Duration::from_millis(wait)).await; // An outage has a length.
                self.house.store.set_faults(Faults { error_percent: 10, cut_percent: 3, ..Faults::default() });
                Ok(())
            }
            Act::Lose => {
                let count = 1 + self.below(2);
                self.lose(count)
            }
            Act::Spoil => self.spoil(),
            Act::PutBack => self.put_back(),
            Act::Rebuild => self.rebuild().await,
        }
    }

    fn password(&self) -> Value {
        json!({ "password": self.house.options.keeper.1 })
    }

    /// A request of a device for uploads.
    fn upload(&self, method: Method, place: &str) -> Step<reqwest::RequestBuilder> {
        let http = reqwest::Client::builder().no_proxy().build()?;
        let url = self.house.http.join(place)?;
        Ok(http.request(method, url).bearer_auth(&self.token).header("Tus-Resumable", "1.0.0"))
    }

    fn creation(&self, number: u64) -> Step<(reqwest::RequestBuilder, Vec<u8>)> {
        let bytes = bytes_of(number);
        let field = |text: &str| BASE64.encode(text.as_bytes());
        let metadata = format!("filename {},sha256 {}", field(&name_of(number)), field(&Digest::of(&bytes).to_string()));
        let request = self.upload(Method::POST, "tus/")?;
        Ok((request.header("Upload-Length", bytes.len()).header("Upload-Metadata", metadata), bytes))
    }

    /// Sends a picture in one request; it is kept from the moment in which that is acknowledged.
    pub(super) async fn send(&mut self, number: u64) -> Step<()> {
        if number == 0 {
            return Ok(());
        }
        self.trying = number;
        let (request, bytes) = self.creation(number)?;
        let sent = request.header("Content-Type", "application/offset+octet-stream").body(bytes).send().await?;
        self.acknowledged(number, sent).await
    }

    async fn acknowledged(&mut self, number: u64, sent: Response) -> Step<()> {
        let status = sent.status();
        if !sent.headers().contains_key("ypogeion-original") {
            return Err(format!("picture {number} was not taken: {status} {}", sent.text().await?).into());
        }
        // What waits in holding and is sent again by hand comes back out of it.
        let digest = Digest::of(&bytes_of(number)).to_string();
        self.between.remove(&digest);
        self.kept.insert(digest, Acknowledged { number, held: false });
        self.trying = 0;
        Ok(())
    }

    /// Half of a picture; then something happens; then the rest of it.
    async fn send_in_pieces(&mut self) -> Step<()> {
        if self.kept.len() >= MOST {
            return Ok(());
        }
        self.sent += 1;
        let number = self.sent;
        let (request, bytes) = self.creation(number)?;
        let created = request.send().await?;
        let place = created.headers().get("location").and_then(|l| l.to_str().ok()).ok_or("no place was given")?.to_owned();
        let piece = |lab: &Self, at: usize, bytes: &[u8]| -> Step<reqwest::RequestBuilder> {
            let request = lab.upload(Method::PATCH, &place)?.header("Upload-Offset", at);
            Ok(request.header("Content-Type", "application/offset+octet-stream").body(bytes.to_owned()))
        };
        let half = 1 + self.below(bytes.len() as u64 - 1) as usize;
        let taken = piece(self, 0, &bytes[..half])?.send().await?;
        if taken.status() != StatusCode::NO_CONTENT {
            return Err(format!("half of picture {number} was not taken: {}", taken.status()).into());
        }
        match self.below(4) {
            0 => {}
            1 => self.up().await?,
            _ => self.power_cut().await?,
        }
        let asked = self.upload(Method::HEAD, &place)?.send().await?;
        if matches!(asked.status(), StatusCode::NOT_FOUND | StatusCode::GONE) {
            // The disk forgot all of it. Whoever sends begins anew.
            return self.send(number).await;
        }
        let at = asked.headers().get("upload-offset").and_then(|o| o.to_str().ok()?.parse().ok());
        let at: usize = at.ok_or_else(|| format!("how far picture {number} came is not said: {}", asked.status()))?;
        if at > half {
            return Err(format!("{at} bytes of picture {number} are said to be there, and {half} were sent").into());
        }
        let rest = piece(self, at, &bytes[at..])?.send().await?;
        self.acknowledged(number, rest).await
    }

    /// The ids of pictures by the hash of their bytes: those in the library, or those in holding.
    pub(super) async fn ids(&self, held: bool) -> Step<Vec<(String, Value)>> {
        let (path, list) = if held { ("api/holding?limit=500", "held") } else { ("api/originals?limit=500", "originals") };
        let page = self.keeper.ask(Method::GET, path, None).await?;
        let mut ids = Vec::new();
        for original in page[list].as_array().ok_or("no list came")? {
            let id = original["id"].as_str().ok_or("no id came")?;
            let digest = if held {
                // By its name: the number is in it.
                let number = original["name"].as_str().and_then(number_of).ok_or("another name")?;
                Digest::of(&bytes_of(number)).to_string()
            } else {
                let whole = self.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await?;
                whole["digest"].as_str().ok_or("no digest came")?.to_owned()
            };
            if !held || original["stage"] == "held" {
                ids.push((digest, original["id"].clone()));
            }
        }
        ids.sort_by(|a, b| a.0.cmp(&b.0));
        Ok(ids)
    }

    async fn some(&mut self, held: bool) -> Step<Vec<(String, Value)>> {
        let (mut ids, mut chosen) = (self.ids(held).await?, Vec::new());
        // What is leaving may be gone by the time it is asked for; then it comes back from a store, some time later.
        ids.retain(|(digest, _)| !self.between.contains_key(digest));
        for _ in 0..1 + self.below(3) {
            if !ids.is_empty() {
                let at = self.below(ids.len() as u64) as usize;
                chosen.push(ids.swap_remove(at));
            }
        }
        Ok(chosen)
    }

    /// Deletes some, or takes some back.
    async fn hold(&mut self, path: &str, held: bool) -> Step<()> {
        let chosen = self.some(held).await?;
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
        let (held, living) = (self.ids(true).await?, self.ids(false).await?);
        self.kept.iter_mut().for_each(|(digest, k)| k.held = held.iter().any(|(d, _)| d == digest));
        for (digest, _) in living {
            if let Some(number) = self.between.remove(&digest) {
                self.kept.insert(digest, Acknowledged { number, held: false });
            }
        }
        Ok(())
    }

    /// Has some leave holding before their time: from home, and from the stores.
    async fn remove_due(&mut self) -> Step<()> {
        let chosen = self.some(true).await?;
        if chosen.is_empty() {
            return Ok(());
        }
        let originals: Vec<&Value> = chosen.iter().map(|(_, id)| id).collect();
        // From now on they may be gone, whatever the answer.
        for (digest, _) in &chosen {
            if let Some(kept) = self.kept.get(digest) {
                self.between.insert(digest.clone(), kept.number);
                self.leaving.push(kept.number);
            }
        }
        if self.below(2) == 0 {
            // Until the house comes to rest, a lock there lets nothing go.
            self.house.store.set_faults(Faults { locked_days: 1, error_percent: 5, ..Faults::default() });
        }
        self.keeper.ask(Method::POST, "api/holding/end", Some(json!({ "originals": originals }))).await?;
        for (digest, _) in chosen {
            self.kept.remove(&digest);
        }
        Ok(())
    }

    /// After a kill: what was to leave is still kept, or it goes.
    async fn learn_leaving(&mut self) -> Step<()> {
        let doubtful: Vec<Value> = {
            let held = self.ids(true).await?;
            held.into_iter()
                .filter(|(d, _)| self.between.contains_key(d) && self.kept.contains_key(d))
                .map(|(_, id)| id)
                .collect()
        };
        if !doubtful.is_empty() {
            // Asked for once more: then there is no doubt. Some may have gone in this moment.
            let (status, said) =
                self.keeper.try_ask(Method::POST, "api/holding/end", Some(json!({ "originals": doubtful }))).await?;
            if status >= 400 && status != 404 {
                return Err(format!("letting go ended with {status} {said}").into());
            }
        }
        let between = &self.between;
        self.kept.retain(|digest, _| !between.contains_key(digest));
        Ok(())
    }

    async fn refile(&mut self) -> Step<String> {
        let plans = ["%Y/%m/{name}", "%Y/{name}", "{device}/%Y/{name}"];
        let plan = plans[self.below(3) as usize];
        self.keeper.ask(Method::PATCH, "api/household", Some(json!({ "filing": plan }))).await?;
        // Another one may be under way.
        self.keeper.try_ask(Method::POST, "api/filing", Some(json!({ "plan": plan }))).await?;
        Ok(plan.into())
    }

    async fn correct(&mut self) -> Step<()> {
        let devices = self.keeper.ask(Method::GET, "api/devices", None).await?;
        let ids: Vec<&str> = devices.as_array().into_iter().flatten().filter_map(|d| d["id"].as_str()).collect();
        let Some(id) = ids.get(self.below(ids.len() as u64) as usize) else { return Ok(()) };
        let path = format!("api/devices/{id}/clock");
        let made = self.keeper.ask(Method::GET, &path, None).await?;
        let newest = made.as_array().and_then(|m| m.iter().find(|c| c["undone_at"].is_null())).and_then(|c| c["id"].as_str());
        match newest {
            Some(correction) if self.below(2) == 0 => {
                self.keeper.ask(Method::POST, &format!("{path}/{correction}/undo"), Some(json!({}))).await.map(drop)
            }
            _ => {
                let seconds = (1 + self.below(40)) * 86_400;
                let range = json!({ "from": "2025-01-01T00:00:00", "to": "2030-01-01T00:00:00", "seconds": seconds });
                self.keeper.ask(Method::POST, &path, Some(range)).await.map(drop)
            }
        }
    }

    /// Takes over a folder that lies on another disk.
    async fn adopt(&mut self) -> Step<()> {
        if self.kept.len() >= MOST {
            return Ok(());
        }
        self.adoptions += 1;
        let place = self.adopted_place();
        fs::create_dir_all(&place)?;
        for _ in 0..1 + self.below(3) {
            self.sent += 1;
            let bytes = bytes_of(self.sent);
            fs::write(place.join(name_of(self.sent)), &bytes)?;
            self.between.insert(Digest::of(&bytes).to_string(), self.sent);
        }
        self.finish_adoption().await
    }

    fn adopted_place(&self) -> PathBuf {
        self.house.disks().join(format!("old disk {}", self.adoptions))
    }

    async fn finish_adoption(&mut self) -> Step<()> {
        let place = self.adopted_place();
        if !place.is_dir() {
            return Ok(()); // Killed before there was one.
        }
        let text = place.to_str().ok_or("a path that is no text")?.to_owned();
        let people = self.keeper.ask(Method::GET, "api/people", None).await?;
        let person = people[0]["id"].clone();
        let struck = std::sync::Arc::clone(&self.struck);
        let adopted = wait_for("an adoption to end", 60, async || {
            if struck.load(Ordering::Relaxed) {
                return Ok(Some(false));
            }
            let all = self.keeper.ask(Method::GET, "api/adoptions", None).await?;
            let Some(mine) = all.as_array().and_then(|a| a.iter().find(|a| a["path"] == text)).cloned() else {
                let form = json!({ "path": text, "person": person, "in_place": false });
                self.keeper.ask(Method::POST, "api/adoptions", Some(form)).await?;
                return Ok(None);
            };
            let id = mine["id"].as_str().ok_or("no id came")?;
            if mine["state"] == "planned" {
                let order = json!({ "order": "begin" });
                self.keeper.ask(Method::PATCH, &format!("api/adoptions/{id}"), Some(order)).await?;
            }
            Ok((mine["state"] == "done").then_some(true))
        })
        .await?;
        if adopted {
            for digest in originals_below(&place)?.values().map(ToString::to_string) {
                if let Some(number) = self.between.remove(&digest) {
                    self.kept.insert(digest, Acknowledged { number, held: false });
                }
            }
            fs::remove_dir_all(place)?;
        }
        Ok(())
    }

    /// The server forgets its key, and is given it back.
    async fn lend(&mut self) -> Step<()> {
        let kit = self.keeper.kit(&self.house.options.keeper.1).await?;
        let line = |name: &str| {
            let found = kit.lines().find_map(|l| l.strip_prefix(name)).ok_or_else(|| format!("no {name} in the kit"));
            found.map(|l| l.trim_start_matches(": ").to_owned())
        };
        let key = line("Key")?;
        let proof = json!({ "key_end": key[key.len() - 8..].to_lowercase(), "check": line("Check")? });
        // Where all of it lies is known from now on, whatever happens to the server.
        fs::write(self.house.options.folder.join("lent.key"), &kit)?;
        self.keeper.ask(Method::POST, "api/kit/proof", Some(proof)).await?;
        self.keeper.ask(Method::POST, "api/key/strict", Some(self.password())).await?;
        self.send(self.sent).await?;
        self.keeper.ask(Method::POST, "api/key/lend", Some(json!({ "key": key }))).await?;
        self.own_key().await
    }

    /// Gives the server the key for good.
    async fn own_key(&mut self) -> Step<()> {
        let key = self.keeper.ask(Method::GET, "api/key", None).await?;
        if key["strict"] == true {
            let secret = fs::read_to_string(self.house.options.folder.join("lent.key"))?;
            self.keeper.ask(Method::POST, "api/key/lend", Some(json!({ "key": secret, "keep": true }))).await?;
        }
        Ok(())
    }

    /// Has a store wait, lets it go on, or adds the careless one.
    async fn pause(&mut self) -> Step<()> {
        let south = match self.south.take() {
            Some(south) => south,
            None => self.careless_store().await?,
        };
        let url = self.south.insert(south).url();
        let stores = self.stores().await?;
        if stores.len() < 2 {
            let form = json!({ "name": "South Quay", "endpoint": url, "region": "south", "bucket": "mill-house", "prefix": "",
                "access_key": "SOUTHKEY", "secret_key": "south-secret" });
            return self.keeper.ask(Method::POST, "api/stores", Some(form)).await.map(drop);
        }
        let at = self.below(stores.len() as u64) as usize;
        let change = json!({ "paused": stores[at]["state"] != "paused" });
        let id = stores[at]["id"].as_str().ok_or("no id came")?;
        self.keeper.ask(Method::PATCH, &format!("api/stores/{id}"), Some(change)).await.map(drop)
    }

    pub(super) async fn stores(&self) -> Step<Vec<Value>> {
        let stores = self.keeper.ask(Method::GET, "api/stores", None).await?;
        Ok(stores.as_array().ok_or("no list of stores came")?.clone())
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
        let taken = self.send(self.sent + 10_000).await;
        self.trying = 0;
        if taken.is_ok() {
            return Err("something was received while the library's disk was away".into());
        }
        if let Ok(state) = self.keeper.ask(Method::GET, "api/state", None).await
            && state["state"] == "well"
            && !self.kept.is_empty()
        {
            // The state is told from memory, a moment old; it has to know soon.
            wait_for("the house to say that its disk is away", 20, async || {
                let struck = self.struck.load(Ordering::Relaxed);
                let knows = struck || self.keeper.ask(Method::GET, "api/state", None).await?["state"] != "well";
                Ok(knows.then_some(()))
            })
            .await?;
        }
        self.disk_back().await
    }

    async fn disk_back(&mut self) -> Step<()> {
        let library = self.house.library();
        if self.away().exists() {
            if library.exists() {
                // Whatever was made on the empty mount point would now be hidden below the disk.
                let left = originals_below(&library)?;
                if !left.is_empty() {
                    return Err(format!("something was filed where the disk was not: {left:?}").into());
                }
                fs::remove_dir_all(&library)?;
            }
            fs::rename(self.away(), &library)?;
        }
        wait_for("the disk to be found again", 60, async || {
            if self.struck.load(Ordering::Relaxed) {
                return Ok(Some(())); // Looked for once more when the service runs again.
            }
            let (status, _) = self.keeper.try_ask(Method::GET, "api/place", None).await?;
            let overview = self.keeper.overview().await?;
            Ok((status == 200 && !overview.sentence.contains("is not there")).then_some(()))
        })
        .await
    }

    /// Nothing can be written. Whoever sends is refused, and is taken once there is room again.
    async fn disk_full(&mut self) -> Step<()> {
        if self.kept.len() >= MOST {
            return Ok(());
        }
        self.disk.set_full(true)?;
        self.sent += 1;
        let refused = self.send(self.sent).await;
        self.disk.set_full(false)?;
        match refused {
            // What was not taken is sent again.
            Err(_) => self.send(self.sent).await,
            Ok(()) => Err("something was taken while the disk was full".into()),
        }
    }

    /// Changes a bit in an object, puts one object in another's place, or puts something in that nobody sealed.
    /// The sealed objects of the store that may be struck. One that was struck twice is left in peace: the third time a store loses the same copy, the
    /// house stops giving it another one and says so (`core::heal`), and does not come to rest.
    fn targets(&self) -> Step<Vec<PathBuf>> {
        let objects = self.house.store_folder().join("sealed");
        let there = originals_below(&objects)?.into_keys().map(|p| objects.join(p));
        let may = |p: &PathBuf| p.extension().is_some_and(|e| e == "age") && self.hits.get(p).is_none_or(|times| *times < 2);
        Ok(there.filter(may).collect())
    }

    /// Which ones depends on the step alone: what is drawn for a seed stays what it was.
    fn lose(&mut self, count: u64) -> Step<()> {
        for n in 0..count {
            let objects = self.targets()?;
            if objects.is_empty() {
                return Ok(());
            }
            let which = (self.account.steps * 7919 + n * 104_729) % objects.len() as u64;
            let one = &objects[which as usize];
            // It may have left by itself meanwhile.
            let _ = fs::remove_file(one);
            *self.hits.entry(one.clone()).or_default() += 1;
        }
        Ok(())
    }

    fn spoil(&mut self) -> Step<()> {
        let objects = self.targets()?;
        if objects.len() < 2 {
            return Ok(());
        }
        let one = self.below(objects.len() as u64) as usize;
        let other = self.below(objects.len() as u64) as usize;
        match self.below(3) {
            0 => {
                let mut bytes = fs::read(&objects[one])?;
                let middle = bytes.len() / 2;
                bytes[middle] ^= 16;
                fs::write(&objects[one], bytes)?;
            }
            1 => drop(fs::copy(&objects[one], &objects[other])?),
            _ => fs::write(&objects[one], b"nobody sealed this")?,
        }
        for path in [&objects[one], &objects[other]] {
            *self.hits.entry(path.clone()).or_default() += 1;
        }
        Ok(())
    }

    fn put_back(&mut self) -> Step<()> {
        let (store, folder) = (self.house.store_folder(), self.house.options.folder.join("snapshot"));
        match self.snapshot.take() {
            None => {
                // What comes or goes meanwhile is in the copy, or not; then it is copied once more.
                let copied = (0..10).any(|_| {
                    let _ = fs::remove_dir_all(&folder);
                    Command::new("cp").arg("-r").args([&store, &folder]).output().is_ok_and(|o| o.status.success())
                });
                if !copied {
                    return Err("the store's folder could not be copied".into());
                }
                self.snapshot = Some(folder);
            }
            Some(earlier) => {
                let gone = self.house.options.folder.join(format!("discarded-{}", self.account.steps));
                fs::rename(&store, &gone)?;
                fs::rename(earlier, &store)?;
                // While something is still being written there, it stays; nobody looks at it.
                let _ = fs::remove_dir_all(&gone);
            }
        }
        Ok(())
    }

    /// The database and the keys are gone; the kit brings the household back.
    async fn rebuild(&mut self) -> Step<()> {
        self.rest().await?;
        let options = &self.house.options;
        let (folder, password) = (options.folder.clone(), options.keeper.1.clone());
        let kit = self.keeper.kit(&password).await?;
        let all_gone = self.below(2) == 0;
        if !all_gone && self.below(2) == 0 {
            // Filed anew after the last word of the ledgers.
            for store in self.stores().await? {
                let id = store["id"].as_str().ok_or("no id came")?;
                self.keeper.ask(Method::PATCH, &format!("api/stores/{id}"), Some(json!({ "paused": true }))).await?;
            }
            self.refile().await?;
            wait_for("the library to be filed anew", 60, async || {
                let all = self.keeper.ask(Method::GET, "api/filing", None).await?;
                Ok(all.as_array().is_some_and(|a| a.iter().all(|r| r["state"] != "running")).then_some(()))
            })
            .await?;
        }
        self.house.kill_service();
        let data = folder.join("data");
        ypogeion_catalog::cluster::stop(&data.join("database"))?;
        fs::remove_dir_all(&data)?;
        if all_gone {
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
        self.runs += 1;
        self.disk.begin(self.runs)?;
        if self.below(4) == 0 {
            // Whatever it finds out first, it finds out without its store.
            self.house.store.set_faults(Faults { outage: true, ..Faults::default() });
        }
        self.up().await?;
        self.pair().await?;
        if !all_gone {
            self.look()?;
        }
        // Until all has come home, it is in the stores alone.
        self.quiet().await
    }
}
