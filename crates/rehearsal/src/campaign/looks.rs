//! What has to hold.

use std::{
    cell::{Cell, RefCell},
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::{Digest, kit::RecoveryKit};

use super::{Acknowledged, Lab};
use crate::{Step, Trouble, program, wait_for, walk::originals_below};

impl Lab {
    /// Looks at the disk from outside.
    pub(super) fn look(&self) -> Step<()> {
        let mut there = originals_below(&self.house.library())?;
        let settled = || self.kept.iter().filter(|(digest, _)| !self.between.contains_key(*digest));
        let found = |there: &BTreeMap<PathBuf, Digest>| there.values().map(Digest::to_string).collect::<BTreeSet<_>>();
        let mut seen = found(&there);
        if settled().any(|(digest, _)| !seen.contains(digest)) {
            // A file that moves has two names for a moment, and never none; but folders are looked through one after the other, and it may have
            // gone from one that comes later into one that came before. A second look, at once, finds it, and brings back nothing that is lost.
            let again = originals_below(&self.house.library())?;
            seen.extend(found(&again));
            there.extend(again);
        }
        if let Some((_, kept)) = settled().find(|(digest, _)| !seen.contains(*digest)) {
            return Err(format!("picture {} was acknowledged and is not on the home disk", kept.number).into());
        }
        let mut by_digest: BTreeMap<String, Vec<&Path>> = BTreeMap::new();
        for (path, digest) in &there {
            by_digest.entry(digest.to_string()).or_default().push(path);
        }
        let wrong = self.house.miscounts()?;
        if !wrong.is_empty() {
            return Err(format!("what is counted is not what is there: {wrong}").into());
        }
        let known = |digest: &String| self.kept.contains_key(digest) || self.between.contains_key(digest);
        if let Some((_, paths)) = by_digest.iter().find(|(digest, _)| !known(digest)) {
            return Err(format!("{paths:?} is on the home disk, and nobody was told that it was taken").into());
        }
        Ok(())
    }

    /// Waits until nothing is under way any more.
    pub(super) async fn quiet(&mut self) -> Step<()> {
        self.calm();
        let living = self.kept.values().filter(|k| !k.held).count() as u64;
        let (looks, last) = (Cell::new(0u32), RefCell::new(String::new()));
        let rested = wait_for("the house to come to rest", 300, async || {
            let (stores, overview) = (self.stores().await?, self.keeper.overview().await?);
            for store in &stores {
                let id = store["id"].as_str().ok_or("no id came")?;
                if store["state"] == "paused" {
                    self.keeper.ask(Method::PATCH, &format!("api/stores/{id}"), Some(json!({ "paused": false }))).await?;
                }
                if store["state"] == "failing" || store["state"] == "stopped" {
                    // Its next attempt may be minutes away.
                    self.keeper.ask(Method::POST, &format!("api/stores/{id}/resume"), Some(json!({}))).await?;
                }
            }
            let work = self.keeper.ask(Method::GET, "api/work", None).await?;
            let waits = work["kinds"].as_array().map(Vec::as_slice).unwrap_or_default();
            // Readings are due after a while, checks each day, and what was deleted for good leaves the store in its time.
            let later = ["prove", "reading", "listing", "drill", "release", "remove", "reseal"];
            let busy = |k: &Value| ["waiting", "running", "retrying"].iter().any(|n| k[*n].as_u64().is_none_or(|n| n > 0));
            let under_way = waits.iter().any(|k| k["kind"].as_str().is_none_or(|kind| !later.contains(&kind)) && busy(k));
            // Waits between attempts grow to minutes: the keeper's own button lets all of it go on.
            looks.set(looks.get() + 1);
            if looks.get().is_multiple_of(30) && waits.iter().any(|k| k["retrying"].as_u64().is_none_or(|n| n > 0)) {
                self.keeper.ask(Method::POST, "api/work/retry", Some(json!({}))).await?;
            }
            let refiled = self.keeper.ask(Method::GET, "api/filing", None).await?;
            let filing = refiled.as_array().is_some_and(|all| all.iter().any(|r| r["state"] == "running"));
            let at_rest = |s: &Value| s["to_go"]["count"] == 0 && s["unlisted"] == 0;
            let short = |s: &Value| {
                format!(
                    "{} is {} ({}), {} to go, {} unlisted",
                    s["name"], s["state"], s["reason"], s["to_go"]["count"], s["unlisted"]
                )
            };
            *last.borrow_mut() = format!(
                "{} at home; {}; work: {}; faults: {}",
                overview.home.count,
                stores.iter().map(short).collect::<Vec<_>>().join("; "),
                work["kinds"],
                work["faults"]
            );
            Ok((stores.iter().all(at_rest) && overview.home.count == living && !under_way && !filing).then_some(()))
        })
        .await;
        rested.map_err(|e| format!("{e}: {}; {}", self.standing(), last.borrow()).into())
    }

    fn standing(&self) -> String {
        let living = self.kept.values().filter(|k| !k.held).count();
        format!("{living} pictures are to be there, {} in holding", self.kept.len() - living)
    }

    /// Everything has come to rest: the catalogue, the stores and their ledgers say the same.
    pub(super) async fn rest(&mut self) -> Step<()> {
        self.account.rests += 1;
        self.calm();
        self.quiet().await?;
        for store in self.stores().await? {
            // What a store has lost is found by comparing its list, what has changed in it by reading, and what its ledger has lost by a
            // drill; all is made good.
            for kind in ["listing", "reading", "drill"] {
                self.check(&store["id"], kind).await?;
            }
        }
        self.quiet().await?;
        self.look()?;
        let living: BTreeMap<&String, &Acknowledged> = self.kept.iter().filter(|(_, k)| !k.held).collect();
        let named = self.ids(false).await?;
        if !named.iter().map(|(digest, _)| digest).eq(living.keys().copied()) {
            return Err(format!("the catalogue names {} pictures; {}", named.len(), self.standing()).into());
        }
        if living.is_empty() {
            return Ok(());
        }
        let kit = self.keeper.kit(&self.house.options.keeper.1).await?;
        for store in self.stores().await? {
            let drill = self.check(&store["id"], "drill").await?;
            if drill["failed"] == true {
                return Err(format!("a drill at {} says: {}", store["name"], drill["said"]).into());
            }
            self.comes_back(&kit, &store, &living)?;
        }
        Ok(())
    }

    /// One store alone gives everything back.
    fn comes_back(&self, kit: &str, store: &Value, living: &BTreeMap<&String, &Acknowledged>) -> Step<()> {
        let mut alone = RecoveryKit::parse(kit)?;
        let both = std::mem::take(&mut alone.stores).into_iter().zip(std::mem::take(&mut alone.ends));
        (alone.stores, alone.ends) = both.filter(|(s, _)| store["name"] == s.name).unzip();
        let (file, target) = (self.house.options.folder.join("now.kit"), self.house.options.folder.join("recovered"));
        fs::write(&file, alone.to_text())?;
        let _ = fs::remove_dir_all(&target);
        let recovered =
            Command::new(program("ypogeiond")?).args(["recover", "--kit"]).arg(&file).arg("--to").arg(&target).output()?;
        if !recovered.status.success() {
            let said = String::from_utf8_lossy(&recovered.stderr);
            return Err(format!("recovering from {} ended with {}: {said}", store["name"], recovered.status).into());
        }
        let mut back: Vec<String> = originals_below(&target)?.values().map(ToString::to_string).collect();
        back.sort();
        if !back.iter().eq(living.keys().copied()) {
            let lacking = living.iter().filter(|(digest, _)| !back.contains(digest)).map(|(_, kept)| kept.number);
            return Err(format!(
                "{} pictures came back from {}; {}; lacking are {:?}; the store: {store}; what recovering said: {}",
                back.len(),
                store["name"],
                self.standing(),
                lacking.collect::<Vec<_>>(),
                String::from_utf8_lossy(&recovered.stderr),
            )
            .into());
        }
        Ok(())
    }

    /// Has a store checked, and returns what that said.
    async fn check(&self, store: &Value, kind: &str) -> Step<Value> {
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
