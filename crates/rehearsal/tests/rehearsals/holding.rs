//! What is deleted waits, can be taken back, and goes only when it should.

use std::{collections::BTreeMap, fs};

use crate::common::{self, World, library_files, put, world, world_with};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::{Step, wait_for};

/// A house with so many pictures, at home and in the store, all read back once.
async fn proven(count: usize) -> (World, ypogeion_rehearsal::device::Device) {
    let w = world_with("").await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..count {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();
    (w, device)
}

async fn ids(w: &World) -> BTreeMap<String, String> {
    let page = w.keeper.ask(Method::GET, "api/originals?limit=500", None).await.unwrap();
    let text = |v: &Value| v.as_str().unwrap().to_owned();
    page["originals"].as_array().unwrap().iter().map(|o| (text(&o["name"]), text(&o["id"]))).collect()
}

async fn holding(w: &World, path: &str, ids: &[&String]) -> Value {
    w.keeper.ask(Method::POST, path, Some(json!({ "originals": ids }))).await.unwrap()
}

async fn rules(w: &World, rules: Value) {
    w.keeper.ask(Method::PATCH, "api/household", Some(rules)).await.unwrap();
}

/// The library's files that are in holding, and the others.
fn files(w: &World) -> (Vec<String>, Vec<String>) {
    library_files(&w.house).into_iter().partition(|p| p.starts_with("holding/"))
}

async fn until(w: &World, what: &str, seen: impl Fn(&[String], &[String]) -> bool) {
    let ended = wait_for(what, 60, async || {
        let (held, filed) = files(w);
        Ok(seen(&held, &filed).then_some(()))
    })
    .await;
    if let Err(e) = ended {
        panic!("{e}: {:?}, {}", files(w), w.keeper.ask(Method::GET, "api/work", None).await.unwrap());
    }
}

fn objects(w: &World) -> usize {
    fn count(folder: &std::path::Path) -> usize {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        entries.map(|e| if e.path().is_dir() { count(&e.path()) } else { 1 }).sum()
    }
    count(&w.house.store_folder().join("sealed"))
}

async fn idle(w: &World, kinds: &[&str]) -> Step<()> {
    wait_for("the work to be done", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let busy = work["kinds"].as_array().into_iter().flatten().any(|k| kinds.iter().any(|w| k["kind"] == *w));
        Ok((!busy).then_some(()))
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_deleted_by_mistake_comes_back_to_where_it_was() {
    let (w, device) = proven(8).await;
    let (before, all) = (files(&w).1, ids(&w).await);
    let (one, other) = (&all["IMG_0002.jpg"], &all["IMG_0005.jpg"]);
    let said = holding(&w, "api/holding", &[one, other]).await;
    assert_eq!((&said["count"], &said["offsite_days"]), (&json!(2), &json!(30)), "{said}");
    assert_eq!(ids(&w).await.len(), 6);
    until(&w, "both to be in holding", |held, filed| held.len() == 2 && filed.len() == 6).await;
    let list = w.keeper.ask(Method::GET, "api/holding?limit=1", None).await.unwrap();
    let next = list["next"].as_str().unwrap();
    let rest = w.keeper.ask(Method::GET, &format!("api/holding?after={next}"), None).await.unwrap();
    let shown = (&list["held"][0]["deleted_by"], &list["held"][0]["stage"], rest["held"].as_array().unwrap().len());
    assert_eq!(shown, (&json!("Juno"), &json!("held"), 1), "{list} {rest}");
    // Its picture can still be looked at, and nobody is alarmed.
    assert_eq!(w.keeper.bytes(&format!("api/originals/{one}/bytes")).await.unwrap(), b"the picture of the weir with number 2");
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 6);

    // The device still has both. It is told, does not send them again, and may not let go of them.
    assert_eq!(device.json(&["backup"]).await.unwrap()["counts"]["sent"], 0);
    let (tablet, pictures) = w.computer("tablet").await;
    put(&pictures, "copy.jpg", b"the picture of the weir with number 2").unwrap();
    let told = tablet.json(&["backup"]).await.unwrap();
    assert_eq!((&told["counts"]["sent"], &told["counts"]["skipped"]), (&json!(0), &json!(1)), "{told}");
    assert!(told.to_string().contains("deleted at home"), "{told}");
    let room = device.json(&["make-room", "--dry-run"]).await.unwrap();
    assert!(room.to_string().contains("it was deleted at home"), "{room}");
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    assert_eq!(devices[0]["to_come"], 0, "{devices}");

    // Meanwhile something else got one of the names.
    let taken = w.house.library().join(before.iter().find(|p| p.ends_with("IMG_0005.jpg")).unwrap());
    fs::write(&taken, b"put there by hand").unwrap();
    assert_eq!(holding(&w, "api/holding/back", &[one, other]).await["count"], 2);
    until(&w, "both to be back", |held, filed| held.is_empty() && filed.len() == 9).await;
    let now = files(&w).1;
    assert!(now.iter().any(|p| p.ends_with("IMG_0002.jpg")) && now.iter().any(|p| p.ends_with("IMG_0005 (2).jpg")), "{now:?}");
    assert_eq!(fs::read(taken).unwrap(), b"put there by hand");
    assert_eq!(ids(&w).await.len(), 8);
    let again = tablet.json(&["backup"]).await.unwrap();
    assert_eq!((&again["counts"]["sent"], &again["counts"]["skipped"]), (&json!(0), &json!(0)), "{again}");
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("deleted 2 files") && record.contains("brought back 2 deleted files"), "{record}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_gone_leaves_home_then_the_ledger_then_the_store() {
    let (mut w, device) = proven(10).await;
    rules(&w, json!({ "offsite_days": 0, "safety_stop_percent": 50 })).await;
    let all = ids(&w).await;
    let gone: Vec<&String> = ["IMG_0001.jpg", "IMG_0003.jpg"].map(|n| &all[n]).into();
    holding(&w, "api/holding", &gone).await;
    assert_eq!(holding(&w, "api/holding/end", &gone).await["count"], 2);
    until(&w, "both to be gone", |held, filed| held.is_empty() && filed.len() == 8).await;
    wait_for("the store to have let go of them", 60, async || Ok((objects(&w) == 8).then_some(()))).await.unwrap();
    assert_eq!(w.keeper.try_ask(Method::GET, &format!("api/originals/{}", gone[0]), None).await.unwrap().0, 404);
    assert!(w.keeper.ask(Method::GET, "api/holding", None).await.unwrap()["held"].as_array().unwrap().is_empty());
    let (status, late) = w.keeper.try_ask(Method::POST, "api/holding/back", Some(json!({ "originals": gone }))).await.unwrap();
    assert_eq!(status, 404, "{late}");
    assert!(late["detail"].as_str().unwrap().contains("too late"), "{late}");

    // What is left is whole, in every place, also after a new start, and the store's own list says so.
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let kit = w.folder.path().join("kit.txt");
    fs::write(&kit, w.keeper.kit(&w.house.options.keeper.1).await.unwrap()).unwrap();
    let to = w.folder.path().join("recovered");
    let done = tokio::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
        .args(["recover", "--json", "--kit"])
        .arg(&kit)
        .arg("--to")
        .arg(&to)
        .output()
        .await
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let account: Value = serde_json::from_slice(&done.stdout).unwrap();
    assert_eq!((&account["asked"], &account["restored"]), (&json!(8), &json!(8)), "{account}");

    // The device that still has them does not bring them back by itself; added by hand, they are here again.
    assert_eq!(device.json(&["backup"]).await.unwrap()["counts"]["sent"], 0);
    let raw = w.raw_device("laptop").await;
    let bytes = b"the picture of the weir with number 1";
    let path = raw.create(bytes.len(), &common::metadata(&[("filename", "IMG_0001.jpg")])).await;
    assert_eq!(raw.append(&path, 0, bytes).await.status, 204);
    assert_eq!(ids(&w).await.len(), 9);
    wait_for("it to be in the store again", 60, async || Ok((objects(&w) == 9).then_some(()))).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
}

/// Work is done again when its process was killed before it could say that it was done. By then the name may be somebody else's.
#[tokio::test(flavor = "multi_thread")]
async fn a_removal_that_is_done_again_leaves_the_next_file_of_that_name_alone() {
    let w = world_with("").await;
    rules(&w, json!({ "safety_stop_percent": 100 })).await;
    w.add_store().await;
    let raw = w.raw_device("laptop").await;
    let send = async |name: &str, bytes: &[u8]| {
        let told = common::metadata(&[("filename", name), ("mtime", "2026-04-12T08:15:30Z")]);
        let path = raw.create(bytes.len(), &told).await;
        assert_eq!(raw.append(&path, 0, bytes).await.status, 204);
        ids(&w).await[name].clone()
    };
    let first = send("kite.jpg", b"the first kite").await;
    let other = send("weir.jpg", b"the weir").await;
    w.keeper.wait_until_proven(120).await.unwrap();
    holding(&w, "api/holding", &[&first]).await;
    holding(&w, "api/holding/end", &[&first]).await;
    until(&w, "it to be gone", |held, filed| held.is_empty() && filed.len() == 1).await;
    let second = send("kite.jpg", b"the second kite").await;
    holding(&w, "api/holding", &[&second]).await;
    until(&w, "the second one to be in its place", |held, _| held.len() == 1 && held[0].ends_with("kite.jpg")).await;
    w.sql(&format!("INSERT INTO job (kind, key, priority, due) VALUES ('hold', '{first}', 19, now())"));
    holding(&w, "api/holding", &[&other]).await;
    until(&w, "the other one to be there as well", |held, _| held.iter().any(|p| p.ends_with("weir.jpg"))).await;
    idle(&w, &["hold"]).await.unwrap();
    holding(&w, "api/holding/back", &[&second]).await;
    until(&w, "the second one to be back", |_, filed| filed.len() == 1).await;
    assert_eq!(fs::read(w.house.library().join(&files(&w).1[0])).unwrap(), b"the second kite");
    assert_eq!(w.keeper.bytes(&format!("api/originals/{second}/bytes")).await.unwrap(), b"the second kite");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_safety_stop_holds_until_the_keeper_has_looked() {
    let (w, _device) = proven(10).await;
    let all = ids(&w).await;
    let most: Vec<&String> = all.values().take(6).collect();
    holding(&w, "api/holding", &most).await;
    holding(&w, "api/holding/end", &most).await;
    until(&w, "them to be in holding", |held, _| held.len() == 6).await;
    idle(&w, &["release", "hold"]).await.unwrap();
    assert_eq!(files(&w).0.len(), 6, "nothing has gone");
    let list = w.keeper.ask(Method::GET, "api/holding", None).await.unwrap();
    assert_eq!(list["safety_stop"], json!({ "count": 6, "bytes": 6 * 37, "percent": 60, "limit": 5 }), "{list}");
    let overview = w.keeper.overview().await.unwrap();
    let said = &overview.sentence;
    assert!(overview.state.word() == "look" && said.starts_with("6 deleted files are kept until"), "{said}");

    // A part of it was a mistake.
    holding(&w, "api/holding/back", &most[..2]).await;
    until(&w, "two to be back", |held, filed| held.len() == 4 && filed.len() == 6).await;
    let let_go = w.keeper.ask(Method::POST, "api/holding/release", None).await.unwrap();
    assert_eq!(let_go["count"], 4);
    until(&w, "the rest to go", |held, filed| held.is_empty() && filed.len() == 6).await;
    w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let overview = w.keeper.overview().await.unwrap();
    assert_eq!((overview.state.word(), overview.sentence.as_str()), ("well", "Everything is safe, at home and offsite."));

    // The stores keep them for their own time: so long, even what has gone can be had back.
    assert_eq!(objects(&w), 10);
    let list = w.keeper.ask(Method::GET, "api/holding", None).await.unwrap();
    assert_eq!(list["held"].as_array().unwrap().iter().filter(|h| h["stage"] != "held").count(), 4, "{list}");
    let back = holding(&w, "api/holding/back", &most[2..3]).await;
    assert_eq!((&back["count"], &back["fetched"]), (&json!(1), &json!(1)));
    until(&w, "it to be fetched", |_, filed| filed.len() == 7).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    let digests: Vec<Digest> = files(&w).1.iter().map(|p| Digest::of(&fs::read(w.house.library().join(p)).unwrap())).collect();
    let originals = w.keeper.ask(Method::GET, &format!("api/originals/{}", most[2]), None).await.unwrap();
    assert!(digests.contains(&originals["digest"].as_str().unwrap().parse().unwrap()));
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_anywhere_nothing_is_lost_and_nothing_lies_about() {
    let mut w = world().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..40 {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    rules(&w, json!({ "safety_stop_percent": 100 })).await;
    let all = ids(&w).await;
    let ids: Vec<&String> = all.values().collect();
    // Deleted, taken back and let go, with a kill at some moment after each.
    for (round, pause) in [0, 15, 40, 90].into_iter().enumerate() {
        let some: Vec<&String> = ids.iter().skip(round * 10).take(10).copied().collect();
        holding(&w, "api/holding", &some).await;
        tokio::time::sleep(std::time::Duration::from_millis(pause)).await;
        w.house.kill_service();
        w.house.start_service().await.unwrap();
        w.keeper = w.house.keeper().await.unwrap();
        holding(&w, "api/holding/back", &some[..5]).await;
        holding(&w, "api/holding/end", &some[5..]).await;
        tokio::time::sleep(std::time::Duration::from_millis(pause)).await;
        w.house.kill_service();
        w.house.start_service().await.unwrap();
        w.keeper = w.house.keeper().await.unwrap();
    }
    until(&w, "all to be settled", |held, filed| held.is_empty() && filed.len() == 20).await;
    idle(&w, &["hold", "release"]).await.unwrap();
    let here = self::ids(&w).await;
    assert_eq!(here.len(), 20);
    for (name, id) in here {
        let number: usize = name[4..8].parse().unwrap();
        assert_eq!(w.keeper.bytes(&format!("api/originals/{id}/bytes")).await.unwrap(), format!("picture {number}").as_bytes());
        assert!(files(&w).1.iter().any(|p| p.ends_with(&name)), "{name} is where it was");
    }
}
