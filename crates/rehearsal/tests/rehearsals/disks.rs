//! A disk as a store: copies on it count like any others, and while it lies in a drawer nothing is believed lost.

use std::{fs, path::PathBuf, process::Command};

use crate::common::{self, World, put, world};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::{program, wait_for, walk};

/// A disk that is connected.
fn disk(w: &World) -> PathBuf {
    let place = w.folder.path().join("drawer/red-disk");
    fs::create_dir_all(&place).unwrap();
    place
}

fn form(place: &std::path::Path) -> Value {
    json!({ "name": "Red disk", "endpoint": format!("file://{}", place.display()) })
}

async fn red(w: &World) -> Value {
    let stores = w.keeper.ask(Method::GET, "api/stores", None).await.unwrap();
    stores.as_array().unwrap().iter().find(|s| s["name"] == "Red disk").unwrap().clone()
}

async fn held(w: &World, count: u64) {
    wait_for("the copies to be on the disk and proven", 60, async || {
        let s = red(w).await;
        Ok((s["held"]["count"] == count && s["proven"]["count"] == count && s["unlisted"] == 0).then_some(()))
    })
    .await
    .unwrap();
}

async fn backup(w: &World, device: &str, names: &[&str]) {
    let (device, source) = w.computer(device).await;
    for name in names {
        put(&source, name, format!("the picture {name}").as_bytes()).unwrap();
    }
    assert_eq!(device.json(&["backup"]).await.unwrap()["counts"]["sent"], names.len());
}

async fn check(w: &World, kind: &str) {
    let id = red(w).await["id"].clone();
    w.keeper.ask(Method::POST, "api/checks", Some(json!({ "store": id, "kind": kind }))).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_in_a_drawer_catches_up_when_it_is_back_and_is_believed_meanwhile() {
    let w = world().await;
    w.add_store().await;
    let place = disk(&w);
    let tried = w.keeper.ask(Method::POST, "api/stores/trial", Some(form(&place))).await.unwrap();
    assert_eq!(tried["usable"], true, "{tried}");
    assert_eq!(tried["steps"][0]["said"], format!("The folder {} is there.", place.display()));
    w.keeper.ask(Method::POST, "api/stores", Some(form(&place))).await.unwrap();
    backup(&w, "desktop", &["a.jpg", "b.jpg", "c.jpg"]).await;
    held(&w, 3).await;
    assert!(place.join("FORMAT.json").is_file() && place.join("sealed").is_dir());

    // Into the drawer: what is left is an empty folder where it was mounted.
    let drawer = w.folder.path().join("elsewhere");
    fs::rename(&place, &drawer).unwrap();
    fs::create_dir(&place).unwrap();
    backup(&w, "tablet", &["d.jpg"]).await;
    check(&w, "listing").await;
    check(&w, "reading").await;
    let away = wait_for("it to be away", 60, async || Ok(Some(red(&w).await).filter(|s| s["state"] == "away"))).await.unwrap();
    assert_eq!((&away["reason"], &away["held"]["count"]), (&json!("Red disk is not connected"), &json!(3)), "{away}");
    assert_eq!(fs::read_dir(&place).unwrap().count(), 0, "nothing is written where the disk was");
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 0);
    wait_for("the other store to have it", 60, async || {
        let stores = w.keeper.ask(Method::GET, "api/stores", None).await?;
        Ok((stores[0]["held"]["count"] == 4).then_some(()))
    })
    .await
    .unwrap();

    // Back again. The keeper need not wait until it is looked for.
    fs::remove_dir(&place).unwrap();
    fs::rename(&drawer, &place).unwrap();
    let id = red(&w).await["id"].as_str().unwrap().to_owned();
    w.keeper.ask(Method::POST, &format!("api/stores/{id}/resume"), Some(json!({}))).await.unwrap();
    held(&w, 4).await;
    wait_for("its checks to end well", 60, async || {
        let checks = w.keeper.ask(Method::GET, "api/checks", None).await?;
        let of = checks["checks"].as_array().ok_or("no checks")?.iter().filter(|c| c["store"] == id && c["kind"] != "drill");
        Ok(of.clone().all(|c| c["last"]["checked"] == 4 || c["last"]["checked"] == 3).then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_alone_brings_everything_back_and_what_rots_on_it_is_found() {
    let w = world().await;
    let place = disk(&w);
    w.keeper.ask(Method::POST, "api/stores", Some(form(&place))).await.unwrap();
    backup(&w, "desktop", &["a.jpg", "b.jpg", "c.jpg"]).await;
    held(&w, 3).await;
    let objects = walk::originals_below(&place.join("sealed")).unwrap();
    let mut names = objects.keys();
    let (rotten, lost) = (place.join("sealed").join(names.next().unwrap()), place.join("sealed").join(names.next().unwrap()));
    let mut bytes = fs::read(&rotten).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(&rotten, bytes).unwrap();
    fs::remove_file(&lost).unwrap();
    check(&w, "reading").await;
    wait_for("both to be made good", 60, async || {
        let checks = w.keeper.ask(Method::GET, "api/checks", None).await?;
        Ok((checks["healed_away"] == 2).then_some(()))
    })
    .await
    .unwrap();
    held(&w, 3).await;

    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let (file, target) = (w.folder.path().join("kit.txt"), w.folder.path().join("back"));
    fs::write(&file, kit).unwrap();
    // On the new machine the disk is mounted elsewhere.
    let moved = w.folder.path().join("mounted-elsewhere");
    fs::rename(&place, &moved).unwrap();
    let recovered = Command::new(program("ypogeiond").unwrap())
        .args(["recover", "--json", "--endpoint", &format!("file://{}", moved.display()), "--kit"])
        .arg(&file)
        .arg("--to")
        .arg(&target)
        .output()
        .unwrap();
    assert_eq!(recovered.status.code(), Some(0), "{}", String::from_utf8_lossy(&recovered.stderr));
    let digests = |folder: &std::path::Path| -> Vec<Digest> {
        let files = walk::originals_below(folder).unwrap();
        files.keys().map(|f| Digest::of(&fs::read(folder.join(f)).unwrap())).collect()
    };
    assert_eq!(digests(&target), digests(&w.house.library()));
}

#[tokio::test(flavor = "multi_thread")]
async fn home_is_healed_from_what_is_in_reach_and_otherwise_waits_for_the_disk() {
    let w = world().await;
    let place = disk(&w);
    w.keeper.ask(Method::POST, "api/stores", Some(form(&place))).await.unwrap();
    backup(&w, "desktop", &["a.jpg"]).await;
    held(&w, 1).await;
    let file = w.house.library().join(common::library_files(&w.house).remove(0));
    let good = fs::read(&file).unwrap();
    let spoil = || fs::write(&file, b"rotten").unwrap();
    let read_home = async || w.keeper.ask(Method::POST, "api/checks", Some(json!({ "kind": "reading" }))).await.unwrap();
    let into_drawer = async || {
        fs::rename(&place, w.folder.path().join("elsewhere")).unwrap();
        check(&w, "listing").await;
        wait_for("it to be away", 60, async || Ok((red(&w).await["state"] == "away").then_some(()))).await.unwrap();
    };
    into_drawer().await;
    spoil();
    read_home().await;
    wait_for("the damage to be known", 60, async || Ok((w.keeper.overview().await?.damaged == 1).then_some(()))).await.unwrap();
    wait_for("the work to wait", 30, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let heal = work["kinds"].as_array().and_then(|k| k.iter().find(|k| k["kind"] == "heal")).cloned();
        Ok(heal.filter(|h| h["waiting"] == 1 && h["failed"] == 0))
    })
    .await
    .unwrap();
    // Another store comes: but it can only be sent what is good. So the disk it is.
    fs::rename(w.folder.path().join("elsewhere"), &place).unwrap();
    let id = red(&w).await["id"].as_str().unwrap().to_owned();
    w.keeper.ask(Method::POST, &format!("api/stores/{id}/resume"), Some(json!({}))).await.unwrap();
    wait_for("home to be healed", 60, async || Ok((fs::read(&file)? == good).then_some(()))).await.unwrap();
    // With two that have it, the one in reach is taken, though the other was read last.
    w.add_store().await;
    w.keeper.wait_until_proven(60).await.unwrap();
    check(&w, "reading").await;
    wait_for("the disk to be read", 60, async || {
        let checks = w.keeper.ask(Method::GET, "api/checks", None).await?;
        let of = checks["checks"].as_array().ok_or("no checks")?.iter().find(|c| c["store"] == id && c["kind"] == "reading");
        Ok(of.is_some_and(|c| c["now"].is_null() && c["last"]["checked"] == 1).then_some(()))
    })
    .await
    .unwrap();
    into_drawer().await;
    spoil();
    read_home().await;
    wait_for("home to be healed again", 60, async || Ok((fs::read(&file)? == good).then_some(()))).await.unwrap();
    // Written down after the bytes are in their place.
    wait_for("the record to say from where", 30, async || {
        let record = w.keeper.ask(Method::GET, "api/record", None).await?.to_string();
        Ok(record.contains("by the copy in North Quay").then_some(()))
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn only_folders_that_the_settings_name_are_written() {
    let w = world().await;
    disk(&w);
    for (place, said) in [
        (w.folder.path().to_owned(), "not below one that the settings name"),
        (w.folder.path().join("drawer/../library"), "not below one that the settings name"),
        (w.folder.path().join("drawer/no-disk"), "Is the disk connected"),
    ] {
        let (status, problem) = w.keeper.try_ask(Method::POST, "api/stores", Some(form(&place))).await.unwrap();
        assert_eq!(status, 400, "{}", place.display());
        assert!(problem["detail"].as_str().unwrap().contains(said), "{problem}");
    }
    std::os::unix::fs::symlink(w.house.library(), w.folder.path().join("drawer/way-out")).unwrap();
    let (status, _) =
        w.keeper.try_ask(Method::POST, "api/stores", Some(form(&w.folder.path().join("drawer/way-out")))).await.unwrap();
    assert_eq!(status, 400, "a link out of the drawer leads nowhere");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_readable_disk_can_be_looked_at_with_any_file_manager_and_is_a_copy_like_any_other() {
    let w = world().await;
    let place = disk(&w);
    let mut form = form(&place);
    form["readable"] = json!(true);
    w.keeper.ask(Method::POST, "api/stores", Some(form.clone())).await.unwrap();
    let (device, source) = w.computer("desktop").await;
    for name in ["a.jpg", "b.jpg", "c.jpg"] {
        put(&source, name, format!("the picture {name}").as_bytes()).unwrap();
    }
    // Too large for one request: it goes by the spool, as it is.
    put(&source, "film.mp4", &vec![7; 20 << 20]).unwrap();
    device.json(&["backup"]).await.unwrap();
    held(&w, 4).await;
    let pictures = walk::originals_below(&place.join("pictures")).unwrap();
    let home = walk::originals_below(&w.house.library()).unwrap();
    assert_eq!(pictures.len(), 4);
    for (path, digest) in &pictures {
        let name = path.to_string_lossy();
        assert!(home.values().any(|d| d == digest), "{name} is an original, byte for byte");
        assert!(name.starts_with("juno 20") && name.contains(&digest.to_string()[..12]), "{name}");
    }
    // The first segment may have said of the household alone.
    let segments = fs::read_dir(place.join("ledger")).unwrap().map(|e| e.unwrap().path());
    let lines = Command::new("gunzip").arg("-c").args(segments).output().unwrap();
    assert!(String::from_utf8_lossy(&lines.stdout).contains("\"type\":\"original\""), "its ledger is readable as well");
    // Compared, read again, and what is changed there found and put right.
    let film = place.join("pictures").join(pictures.keys().find(|p| p.to_string_lossy().contains("film")).unwrap());
    fs::write(&film, vec![8; 20 << 20]).unwrap();
    check(&w, "listing").await;
    check(&w, "reading").await;
    check(&w, "drill").await;
    wait_for("it to be made good", 60, async || Ok((fs::read(&film)? == vec![7; 20 << 20]).then_some(()))).await.unwrap();
    held(&w, 4).await;
    let id = red(&w).await["id"].as_str().unwrap().to_owned();
    assert_eq!(red(&w).await["sealed"], false);
    // It opens with the kit like any other, on a machine that has never seen the house.
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let (file, target) = (w.folder.path().join("kit.txt"), w.folder.path().join("back"));
    fs::write(&file, kit).unwrap();
    let output =
        Command::new(program("ypogeiond").unwrap()).args(["recover", "--kit"]).arg(&file).arg("--to").arg(&target).output();
    let output = output.unwrap();
    assert!(output.status.success(), "{id}: {}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(walk::originals_below(&target).unwrap(), home);
    // What was begun readable does not become sealed by being added again.
    form["name"] = json!("Another name");
    form["readable"] = json!(false);
    let (status, said) = w.keeper.try_ask(Method::POST, "api/stores", Some(form)).await.unwrap();
    assert!(status == 400 && said["detail"].as_str().unwrap().contains("they are readable"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_store_has_lost_the_next_one_of_the_kit_gives() {
    let mut w = world().await;
    w.add_store().await;
    let place = disk(&w);
    w.keeper.ask(Method::POST, "api/stores", Some(form(&place))).await.unwrap();
    backup(&w, "desktop", &["a.jpg", "b.jpg", "c.jpg", "d.jpg"]).await;
    held(&w, 4).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    w.house.stop_service().await.unwrap();

    // Two pictures are gone from the first store; the other one has them.
    w.house.store.lose(2).unwrap();
    let (code, said) = w.recover(&kit, "back-1");
    assert_eq!((code, w.came_back("back-1")), (Some(0), (true, 4)), "{said}");
    assert!(said.contains("Looking for 2 files in Red disk"), "{said}");
    // All of its ledger is gone: it names nothing, and the other one names everything.
    assert!(w.house.store.lose_below("ledger/").unwrap() > 0);
    let (code, said) = w.recover(&kit, "back-2");
    assert_eq!((code, w.came_back("back-2")), (Some(0), (true, 4)), "{said}");
    assert!(said.contains("Nothing of this ledger is there"), "{said}");
    // And without the other one it is said, and is no success.
    fs::remove_dir_all(&place).unwrap();
    let (code, said) = w.recover(&kit, "back-3");
    assert_eq!(code, Some(3), "{said}");
    assert!(said.contains("Nothing of this ledger is there") && !w.folder.path().join("back-3/juno").exists(), "{said}");
}
