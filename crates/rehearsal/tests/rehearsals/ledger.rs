//! The ledger: checkpoints stand for what came before them, and what is lost or torn of it is made up for by the rest.

use std::{
    fs,
    path::{Path, PathBuf},
};

use crate::common::{World, put, world_of};
use ypogeion_rehearsal::wait_for;

/// A house whose ledger has some segments, and a checkpoint after every second one.
async fn house() -> World {
    let w = world_of(|o| o.offsite = "checkpoint_after = 2".into()).await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..5 {
        put(&source, &format!("IMG_{n}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
        device.json(&["backup"]).await.unwrap();
        w.keeper.wait_until_proven(60).await.unwrap();
    }
    wait_for("two checkpoints", 30, async || Ok((checkpoints(&w).len() >= 2).then_some(()))).await.unwrap();
    // Or the last one is not the last, or not whole, a moment later.
    settled(&w).await;
    w
}

fn names(folder: &Path) -> Vec<PathBuf> {
    let mut names: Vec<PathBuf> = fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path()).collect();
    names.sort();
    names
}

fn checkpoints(w: &World) -> Vec<PathBuf> {
    names(&w.house.store_folder().join("checkpoints"))
}

fn segments(w: &World) -> Vec<PathBuf> {
    names(&w.house.store_folder().join("ledger"))
}

fn number(path: &Path) -> u64 {
    path.file_name().unwrap().to_str().unwrap()[..8].parse().unwrap()
}

async fn recovered(w: &World, to: &str) -> (Option<i32>, String) {
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let ended = w.recover(&kit, to);
    assert!(w.came_back(to).0, "everything came back: {}", ended.1);
    assert!(!w.folder.path().join(to).join(".recovering").exists(), "nothing of the way stays");
    ended
}

#[tokio::test(flavor = "multi_thread")]
async fn a_checkpoint_alone_says_what_all_segments_before_it_said() {
    let w = house().await;
    let upto = number(checkpoints(&w).last().unwrap());
    for segment in segments(&w).iter().filter(|s| number(s) <= upto) {
        fs::remove_file(segment).unwrap();
    }
    assert_eq!(recovered(&w, "back").await.0, Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_torn_of_a_ledger_is_said_and_made_up_for() {
    let w = house().await;
    // A checkpoint that was never finished is none; nobody is troubled with it.
    let last = checkpoints(&w).pop().unwrap();
    let part = names(&last).pop().unwrap();
    let bytes = fs::read(&part).unwrap();
    fs::remove_file(&part).unwrap();
    assert_eq!(recovered(&w, "back-1").await.0, Some(0));
    // One whose bytes do not open is said, and the one before it and the segments after that are used.
    fs::write(&part, &bytes[..bytes.len() - 3]).unwrap();
    let (code, said) = recovered(&w, "back-2").await;
    assert!(code == Some(1) && said.contains("cannot be used, checkpoints/"), "{said}");
    // A segment that was cut off while it was written: what it named is named by a checkpoint as well.
    fs::write(&part, bytes).unwrap();
    let upto = number(&last);
    let torn = segments(&w).into_iter().find(|s| number(s) == upto).unwrap();
    let bytes = fs::read(&torn).unwrap();
    fs::write(&torn, &bytes[..bytes.len() / 2]).unwrap();
    assert_eq!(recovered(&w, "back-3").await.0, Some(0), "it need not be read");
}

/// The newest segment that no checkpoint stands for, and all behind it.
fn after_checkpoint(w: &World) -> Vec<PathBuf> {
    let upto = number(checkpoints(w).last().unwrap());
    segments(w).into_iter().filter(|s| number(s) > upto).collect()
}

/// A house whose ledger has segments that no checkpoint stands for.
async fn open_house() -> World {
    let w = world_of(|o| o.offsite = "checkpoint_after = 3".into()).await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    let mut n = 0;
    while checkpoints(&w).is_empty() || after_checkpoint(&w).len() < 2 {
        put(&source, &format!("IMG_{n}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
        device.json(&["backup"]).await.unwrap();
        w.keeper.wait_until_proven(60).await.unwrap();
        // Or what is said a moment later is followed by a checkpoint.
        settled(&w).await;
        n += 1;
        assert!(n < 20);
    }
    w
}

/// Whoever can write to a store puts an older state of its ledger back: nobody takes that for the household's, unless told to.
#[tokio::test(flavor = "multi_thread")]
async fn a_ledger_that_was_cut_or_put_back_is_not_believed() {
    let w = open_house().await;
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert_eq!(w.recover(&kit, "whole").0, Some(0));
    let cut = after_checkpoint(&w);
    for segment in &cut {
        fs::rename(segment, w.folder.path().join(segment.file_name().unwrap())).unwrap();
    }
    let (code, said) = w.recover(&kit, "cut");
    assert_eq!(code, Some(4), "{said}");
    assert!(said.contains("knows of a later one") && said.contains("--unproven"), "{said}");
    assert!(!w.folder.path().join("cut/juno").exists(), "nothing was taken from it");
    // A kit of an earlier version knows nothing of it, and says so.
    let old = {
        let mut old = ypogeion_core::kit::RecoveryKit::parse(&kit).unwrap();
        (old.ledger_key, old.ends) = (None, Vec::new());
        old.to_text()
    };
    let (code, said) = w.recover(&old, "old");
    assert!(code == Some(0) && said.contains("it cannot tell"), "{code:?} {said}");
    // The house itself notices in its next drill.
    let drill = w.check(true, "drill").await;
    assert_eq!(drill["failed"], true, "{drill}");
    assert!(drill["said"].as_str().unwrap().contains("this house knows of a later one"), "{drill}");
    // It says everything once more, and all is well again.
    settled(&w).await;
    assert_eq!(w.recover(&kit, "healed").0, Some(0));
    assert!(w.came_back("healed").0);
    let drill = w.check(true, "drill").await;
    assert_eq!(drill["failed"], false, "{drill}");
}

/// Nothing is to be written into the ledger any more.
async fn settled(w: &World) {
    wait_for("the ledger to be whole again", 60, async || {
        let waits = w.sql("SELECT count(*) FROM job WHERE kind = 'ledger'");
        Ok((waits == "0" && w.sql("SELECT checkpoint_due FROM store") == "f").then_some(()))
    })
    .await
    .unwrap();
}

/// The segment came through and the checkpoint did not: nothing is new any more, and it is written all the same.
#[tokio::test(flavor = "multi_thread")]
async fn a_checkpoint_that_a_store_has_refused_is_written_later() {
    let w = open_house().await;
    let torn = after_checkpoint(&w).pop().unwrap();
    let bytes = fs::read(&torn).unwrap();
    fs::write(&torn, &bytes[..bytes.len() / 2]).unwrap();
    let (there, before, aside) = (w.house.store_folder().join("checkpoints"), segments(&w).len(), w.folder.path().join("aside"));
    fs::rename(&there, &aside).unwrap();
    fs::write(&there, b"no folder").unwrap();
    assert_eq!(w.check(true, "drill").await["failed"], true);
    wait_for("the segment to be there, and no more", 60, async || {
        Ok((segments(&w).len() > before && w.keeper.store().await?.state.word() == "failing").then_some(()))
    })
    .await
    .unwrap();
    let store = w.keeper.store().await.unwrap();
    assert!(store.ledger_due && store.unlisted == 0, "{store:?}");
    fs::remove_file(&there).unwrap();
    fs::rename(&aside, &there).unwrap();
    let resume = format!("api/stores/{}/resume", store.id);
    w.keeper.ask(reqwest::Method::POST, &resume, Some(serde_json::json!({}))).await.unwrap();
    wait_for("all to be said", 60, async || Ok((w.keeper.store().await?.state.word() == "idle").then_some(()))).await.unwrap();
    assert_eq!(segments(&w).len(), before + 1, "nothing was said twice");
    assert_eq!(w.check(true, "drill").await["failed"], false);
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_rebuilt_from_a_ledger_that_was_cut_unless_told_to() {
    let mut w = open_house().await;
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let old = {
        let mut old = ypogeion_core::kit::RecoveryKit::parse(&kit).unwrap();
        (old.ledger_key, old.ends) = (None, Vec::new());
        old.to_text()
    };
    let cut = after_checkpoint(&w);
    for segment in &cut {
        fs::rename(segment, w.folder.path().join(segment.file_name().unwrap())).unwrap();
    }
    let rebuilt = rebuild(&mut w, &kit, &[]);
    assert!(rebuilt.0 == Some(4) && rebuilt.1.contains("knows of a later one"), "{rebuilt:?}");
    let rebuilt = rebuild(&mut w, &kit, &["--unproven"]);
    assert!(rebuilt.0 == Some(0) && rebuilt.1.contains("Continuing, because --unproven was given."), "{rebuilt:?}");
    // One in the middle is missed as well.
    let middle = w.folder.path().join(cut.last().unwrap().file_name().unwrap());
    fs::rename(&middle, cut.last().unwrap()).unwrap();
    let (code, said) = w.recover(&kit, "gap");
    assert!(code == Some(1) && said.contains("names it, and it cannot be used or is not there"), "{code:?} {said}");
    for segment in cut.iter().rev().skip(1) {
        fs::rename(w.folder.path().join(segment.file_name().unwrap()), segment).unwrap();
    }
    // With the older kit a household comes back that has a key of its own from then on, and its stores are proven by that one.
    let rebuilt = rebuild(&mut w, &old, &[]);
    assert_eq!(rebuilt.0, Some(0), "{}", rebuilt.1);
    let format = fs::read_to_string(w.house.store_folder().join("FORMAT.json")).unwrap();
    w.house.start_service().await.unwrap();
    let keeper = w.house.sign_in("Juno", "kites over the sea").await.unwrap();
    let new_kit = keeper.kit("kites over the sea").await.unwrap();
    wait_for("a ledger that is proven", 60, async || Ok((w.recover(&new_kit, "new").0 == Some(0)).then_some(()))).await.unwrap();
    assert!(format.contains("hmac_sha256"));
}

/// The service stops, its database and keys are gone, and the kit is all there is.
fn rebuild(w: &mut World, kit: &str, more: &[&str]) -> (Option<i32>, String) {
    w.house.kill_service();
    let data = w.folder.path().join("data");
    let _ = ypogeion_catalog::cluster::stop(&data.join("database"));
    fs::remove_dir_all(&data).unwrap();
    let (file, password) = (w.folder.path().join("kit.txt"), w.folder.path().join("new.password"));
    fs::write(&file, kit).unwrap();
    fs::write(&password, "kites over the sea").unwrap();
    let output = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
        .arg("--config")
        .arg(w.folder.path().join("ypogeiond.toml"))
        .args(["rebuild", "--kit"])
        .arg(&file)
        .arg("--password-file")
        .arg(&password)
        .args(more)
        .env("YPOGEION_THROW_AWAY", "1")
        .output()
        .unwrap();
    (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
}

/// Seals some lines as anybody can who has seen the store's own `FORMAT.json`, and puts them there as a segment.
fn forge(w: &World, name: &str, lines: &str) {
    let store = w.house.store_folder();
    let format: serde_json::Value = serde_json::from_slice(&fs::read(store.join("FORMAT.json")).unwrap()).unwrap();
    let plain = w.folder.path().join("forged.jsonl");
    fs::write(&plain, lines).unwrap();
    let script = format!(
        "gzip -c {} | age -r {} -o {}",
        plain.display(),
        format["recipient"].as_str().unwrap(),
        store.join("ledger").join(name).display()
    );
    assert!(std::process::Command::new("sh").args(["-c", &script]).status().unwrap().success());
}

/// Whoever can write to a store, and seal for its household, adds a member with pictures to its ledger.
#[tokio::test(flavor = "multi_thread")]
async fn lines_that_the_household_did_not_write_are_not_believed() {
    let mut w = open_house().await;
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let store = w.house.store_folder();
    let format: serde_json::Value = serde_json::from_slice(&fs::read(store.join("FORMAT.json")).unwrap()).unwrap();
    let stranger = "{\"type\":\"person\",\"id\":\"0198a000-0000-7000-8000-00000000000f\",\"name\":\"Mallory\",\"role\":\"keeper\",\"folder\":\"mallory\"}\n";
    let head = |version: u32, number: u64| {
        format!(
            "{{\"type\":\"segment\",\"format\":{version},\"replica\":{},\"number\":{number},\"made_at\":\"2026-11-28T08:00:00Z\"}}\n",
            format["replica"]
        )
    };
    let mac = format!("{{\"type\":\"mac\",\"hmac_sha256\":\"{}\"}}\n", "00".repeat(32));
    // As of a version that has proofs: it is named, and the rest is used without it.
    for version_2 in ["", mac.as_str()] {
        let last = number(segments(&w).last().unwrap());
        let lines = head(2, last + 1) + stranger + version_2;
        let name = format!("{:08}-0badcafe.jsonl.gz.age", last + 1);
        forge(&w, &name, &lines);
        let (code, said) = w.recover(&kit, "forged");
        assert!(code == Some(1) && said.contains(&name) && !said.contains("Mallory"), "{code:?} {said}");
        assert!(w.came_back("forged").0);
        fs::remove_dir_all(w.folder.path().join("forged")).unwrap();
        let drill = w.check(true, "drill").await;
        assert!(drill["failed"] == true && drill["said"].as_str().unwrap().contains(&name), "{drill}");
        fs::remove_file(store.join("ledger").join(name)).unwrap();
        settled(&w).await;
    }
    // As of the version that had none: nothing of it is believed, unless somebody says so.
    let last = number(segments(&w).last().unwrap());
    let name = format!("{:08}-0badcafe.jsonl.gz.age", last + 1);
    forge(&w, &name, &(head(1, last + 1) + stranger));
    let (code, said) = w.recover(&kit, "older");
    assert!(code == Some(4) && said.contains("carries no proof") && said.contains(&name), "{code:?} {said}");
    assert!(!w.folder.path().join("older/juno").exists());
    let rebuilt = rebuild(&mut w, &kit, &[]);
    assert!(rebuilt.0 == Some(4) && rebuilt.1.contains("carries no proof"), "{rebuilt:?}");
    fs::remove_file(store.join("ledger").join(&name)).unwrap();
    // A segment of the household's own under another number is none of that number.
    let own = segments(&w).pop().unwrap();
    fs::copy(&own, store.join("ledger").join(format!("{:08}-0badcafe.jsonl.gz.age", last + 7))).unwrap();
    let (code, said) = w.recover(&kit, "again");
    assert!(code == Some(1) && said.contains("under the name of another one"), "{code:?} {said}");
    // Its first object as well: what it says is proven.
    let text = fs::read_to_string(store.join("FORMAT.json")).unwrap();
    fs::write(store.join("FORMAT.json"), text.replace("\"recipient\": \"age1", "\"recipient\": \"age1q")).unwrap();
    let (code, said) = w.recover(&kit, "format");
    assert!(code == Some(4) && said.contains("its proof does not fit"), "{code:?} {said}");
}

/// Two stores know of each other's ledgers: one that was put back is noticed though the kit is older than what it lacks.
#[tokio::test(flavor = "multi_thread")]
async fn one_store_knows_where_the_others_ledger_ends() {
    let mut w = open_house().await;
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let place = w.folder.path().join("drawer/red");
    fs::create_dir_all(&place).unwrap();
    let form = serde_json::json!({ "name": "Red disk", "endpoint": format!("file://{}", place.display()) });
    w.keeper.ask(reqwest::Method::POST, "api/stores", Some(form)).await.unwrap();
    let (device, source) = w.computer("laptop").await;
    let before = segments(&w).len();
    put(&source, "last.jpg", b"the last picture of the weir").unwrap();
    device.json(&["backup"]).await.unwrap();
    wait_for("both to have it in their ledgers", 60, async || {
        let stores = w.keeper.ask(reqwest::Method::GET, "api/stores", None).await?;
        let done = stores.as_array().unwrap().iter().all(|s| s["unlisted"] == 0 && s["to_go"]["count"] == 0);
        Ok((done && segments(&w).len() > before && !names(&place.join("ledger")).is_empty()).then_some(()))
    })
    .await
    .unwrap();
    // A decision is said in both ledgers, and with it where the other one ends.
    let house = serde_json::json!({ "clear_at": "home" });
    w.keeper.ask(reqwest::Method::PATCH, "api/household", Some(house)).await.unwrap();
    wait_for("the disk's ledger to tell of the other", 60, async || {
        Ok((names(&place.join("ledger")).len() >= 2 && segments(&w).len() >= before + 2).then_some(()))
    })
    .await
    .unwrap();
    let new_kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    // The old kit knows the first store as it was; what came after it is cut off. Both stores are in the kit.
    let mut both = ypogeion_core::kit::RecoveryKit::parse(&new_kit).unwrap();
    both.ends = ypogeion_core::kit::RecoveryKit::parse(&kit).unwrap().ends;
    let upto = number(&segments(&w)[before - 1]);
    for segment in segments(&w).iter().skip(before) {
        fs::remove_file(segment).unwrap();
    }
    for checkpoint in checkpoints(&w).iter().filter(|c| number(c) > upto) {
        fs::remove_dir_all(checkpoint).unwrap();
    }
    let rebuilt = rebuild(&mut w, &both.to_text(), &[]);
    assert!(rebuilt.0 == Some(1) && rebuilt.1.contains("another store knows of a later one"), "{rebuilt:?}");
}

/// What was written by released versions is read for ever. The samples were made by those versions.
#[test]
fn samples_of_released_formats_come_back() {
    let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("samples");
    for format in ["format-1", "format-2"] {
        for kept in ["sealed", "readable"] {
            let target = tempfile::tempdir().unwrap();
            let output = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
                .args(["recover", "--kit"])
                .arg(samples.join(format).join("kit.txt"))
                .args(["--endpoint", &format!("file://{}", samples.join(format).join(kept).display()), "--to"])
                .arg(target.path())
                .output()
                .unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            assert_eq!(output.status.code(), Some(0), "{format} {kept}: {said}");
            let back = ypogeion_rehearsal::walk::originals_below(target.path()).unwrap();
            let names: Vec<String> = back.keys().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
            assert_eq!(names, ["IMG_0001.jpg", "IMG_0002.jpg", "IMG_0003.jpg", "note.txt"], "{format} {kept}");
            assert_eq!(back.values().next().unwrap(), &ypogeion_core::Digest::of(b"a kite over the weir"));
            assert_eq!(said.contains("it cannot tell"), format == "format-1", "{said}");
        }
    }
}

/// A household of a version that had no proofs is given a key, and everything that its ledger said is said once more with it.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_written_before_there_were_proofs_is_said_once_more() {
    let mut w = open_house().await;
    w.house.stop_service().await.unwrap();
    // As such a version left it: of its segments nothing can be told by the new key.
    w.sql("UPDATE household SET ledger_key = NULL; UPDATE store SET ledger_name = NULL, ledger_digest = NULL, said = NULL, checkpoint_due = true");
    let format = w.house.store_folder().join("FORMAT.json");
    let mut said: serde_json::Value = serde_json::from_slice(&fs::read(&format).unwrap()).unwrap();
    assert!(said.as_object_mut().unwrap().remove("hmac_sha256").is_some());
    fs::write(&format, said.to_string()).unwrap();
    let (before, upto) = (checkpoints(&w).len(), number(segments(&w).last().unwrap()));
    w.house.start_service().await.unwrap();
    // By itself: nobody has signed in yet.
    wait_for("a checkpoint that has one", 60, async || {
        let new = checkpoints(&w);
        Ok((new.len() > before && number(new.last().unwrap()) > upto).then_some(()))
    })
    .await
    .unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    assert_eq!(recovered(&w, "proven").await.0, Some(0));
    let drill = w.check(true, "drill").await;
    assert_eq!(drill["failed"], false, "{drill}");
}
