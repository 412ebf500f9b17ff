//! Making room on a device: what is cleared, and everything that must not be.

use crate::common::{self, Raw, World, put, world, world_of};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::wait_for;

const NONCE: &str = "0123456789abcdef";

async fn clear_at(w: &World, depth: &str) {
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": depth }))).await.unwrap();
}

fn entry(name: &str, bytes: &[u8]) -> Value {
    json!({ "digest": Digest::of(bytes), "size": bytes.len(), "name": name, "source": "Camera" })
}

async fn ask(raw: &Raw, nonce: &str, entries: &[Value]) -> Value {
    let body = json!({ "nonce": nonce, "entries": entries }).to_string();
    let said = raw.send("POST", "api/device/clearances", &[("Content-Type", "application/json")], body.as_bytes()).await;
    assert_eq!(said.status, 200, "{}", said.body);
    serde_json::from_str(&said.body).unwrap()
}

async fn land(raw: &Raw, name: &str, bytes: &[u8]) {
    let path = raw.create(bytes.len(), &common::metadata(&[("filename", name), ("source", "Camera")])).await;
    assert_eq!(raw.append(&path, 0, bytes).await.status, 204);
}

fn kept(answer: &Value, place: usize) -> &str {
    assert_eq!(answer["answers"][place]["answer"], "keep", "{answer}");
    assert!(answer["clearance"].is_null() || answer["answers"].as_array().unwrap().len() > 1);
    answer["answers"][place]["reason"].as_str().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_rotten_missing_or_somebody_elses_is_never_cleared() {
    let w = world().await;
    clear_at(&w, "home").await;
    let raw = w.raw_device("phone").await;
    for (name, bytes) in [("good.jpg", b"good".as_slice()), ("rotten.jpg", b"rotten"), ("gone.jpg", b"gone")] {
        land(&raw, name, bytes).await;
    }
    for file in common::library_files(&w.house) {
        let path = w.house.library().join(&file);
        match file.rsplit('/').next().unwrap() {
            "rotten.jpg" => std::fs::write(path, b"rottem").unwrap(),
            "gone.jpg" => std::fs::remove_file(path).unwrap(),
            _ => {}
        }
    }
    let entries =
        [entry("good.jpg", b"good"), entry("rotten.jpg", b"rotten"), entry("gone.jpg", b"gone"), entry("new.jpg", b"new")];
    let answer = ask(&raw, NONCE, &entries).await;
    assert_eq!(answer["answers"][0]["answer"], "clear", "{answer}");
    assert!(answer["answers"][0]["home_read_at"].is_string());
    assert!(kept(&answer, 1).contains("damaged"));
    assert!(kept(&answer, 2).contains("missing"));
    assert!(kept(&answer, 3).contains("not at home"));
    // A size that does not fit the digest is a lie about one of them.
    let lie = json!({ "digest": Digest::of(b"good"), "size": 5, "name": "good.jpg", "source": "Camera" });
    assert!(kept(&ask(&raw, "fedcba9876543210", &[lie]).await, 0).contains("not at home"));
    // What was found is on record: the house knows that these two need mending.
    let overview = w.keeper.overview().await.unwrap();
    assert_eq!(overview.home.count, 1, "the rotten and the missing one do not count as home any more");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_members_picture_is_not_ours_to_be_cleared_by() {
    let w = world().await;
    clear_at(&w, "home").await;
    let juno = w.raw_device("juno-phone").await;
    land(&juno, "kite.jpg", b"kite").await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let device = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("piet"));
    device.pair(&w.keeper.pairing("Piet").await.unwrap(), "phone", "phone", &[]).await.unwrap();
    let home = ypogeion_agent::home::Home::open(device.folder()).unwrap();
    let piet = Raw { token: home.paired().unwrap().token.clone(), ..juno.clone() };
    assert!(kept(&ask(&piet, NONCE, &[entry("kite.jpg", b"kite")]).await, 0).contains("not at home"));
}

#[tokio::test(flavor = "multi_thread")]
async fn as_deep_as_the_keeper_demands_and_no_less() {
    let w = world_of(|options| options.prove_after = 1_000_000).await;
    let raw = w.raw_device("phone").await;
    land(&raw, "kite.jpg", b"kite").await;
    let kite = [entry("kite.jpg", b"kite")];
    let nonce = |n: u32| format!("nonce-number-{n:06}");
    let answer = ask(&raw, &nonce(1), &kite).await;
    assert_eq!(answer["demanded"], "proven", "nobody chose: the deepest");
    assert!(kept(&answer, 0).contains("not offsite"));
    clear_at(&w, "offsite").await;
    assert!(kept(&ask(&raw, &nonce(2), &kite).await, 0).contains("not offsite"));
    w.add_store().await;
    wait_for("the kite to be offsite", 30, async || Ok((w.keeper.overview().await?.offsite.count == 1).then_some(())))
        .await
        .unwrap();
    let answer = ask(&raw, &nonce(3), &kite).await;
    assert_eq!((&answer["answers"][0]["answer"], &answer["answers"][0]["store"]), (&json!("clear"), &json!("North Quay")));
    clear_at(&w, "proven").await;
    assert!(kept(&ask(&raw, &nonce(4), &kite).await, 0).contains("not been read back"));
    // Only the keeper says how deep.
    let own = raw.send("PATCH", "api/household", &[("Content-Type", "application/json")], br#"{"clear_at":"home"}"#).await;
    assert_eq!(own.status, 403);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clearance_works_once_for_its_own_device() {
    let w = world().await;
    clear_at(&w, "home").await;
    let raw = w.raw_device("phone").await;
    let other = w.raw_device("tablet").await;
    land(&raw, "kite.jpg", b"kite").await;
    let entries = [entry("kite.jpg", b"kite")];
    let answer = ask(&raw, NONCE, &entries).await;
    let id = answer["clearance"].as_str().unwrap();
    let report = async |who: &Raw| {
        let body = json!({ "entries": entries }).to_string();
        let path = format!("api/device/clearances/{id}/removed");
        who.send("POST", &path, &[("Content-Type", "application/json")], body.as_bytes()).await
    };
    assert_eq!(report(&other).await.problem(), "clearance-gone", "another device's");
    assert_eq!(report(&raw).await.status, 204);
    let again = report(&raw).await;
    assert_eq!((again.status, again.problem().as_str()), (410, "clearance-gone"), "a replay");
    // The same question, word for word, is a replay, too.
    let body = json!({ "nonce": NONCE, "entries": entries }).to_string();
    let replayed = raw.send("POST", "api/device/clearances", &[("Content-Type", "application/json")], body.as_bytes()).await;
    assert_eq!((replayed.status, replayed.problem().as_str()), (400, "bad-request"));
    // A rehearsal says the same and gives nothing that could be used.
    let body = json!({ "nonce": "abcdefabcdefabcd", "entries": entries, "rehearse": true }).to_string();
    let said = raw.send("POST", "api/device/clearances", &[("Content-Type", "application/json")], body.as_bytes()).await;
    let said: Value = serde_json::from_str(&said.body).unwrap();
    assert_eq!((&said["answers"][0]["answer"], &said["clearance"]), (&json!("clear"), &Value::Null));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_makes_room_and_keeps_what_is_not_safe() {
    let mut w = world().await;
    clear_at(&w, "home").await;
    let (device, pictures) = w.computer("laptop").await;
    for name in ["IMG_20250101_100000.jpg", "VID_20250301_100000.mp4", "IMG_20251120_100000.jpg"] {
        put(&pictures, name, name.as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    put(&pictures, "IMG_20240101_100000.jpg", b"never backed up").unwrap();
    put(&pictures, "VID_20250301_100000.mp4", b"edited since").unwrap();

    let said = device.run(&["make-room", "--json"]).await.unwrap();
    assert_eq!(said.code, 2, "nothing goes without --yes");
    let dry = device.json(&["make-room", "--dry-run", "--older-than", "1"]).await.unwrap();
    assert_eq!((&dry["removed"], &dry["dry_run"]), (&json!(2), &json!(true)));
    assert_eq!(std::fs::read_dir(&pictures).unwrap().count(), 4, "a dry run removes nothing");

    let done = device.json(&["make-room", "--yes", "--older-than", "1"]).await.unwrap();
    assert_eq!((&done["removed"], &done["kept"]), (&json!(2), &json!(0)), "{done}");
    let mut left: Vec<String> =
        std::fs::read_dir(&pictures).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    left.sort();
    assert_eq!(left, ["IMG_20240101_100000.jpg", "VID_20250301_100000.mp4"]);
    // The household still has them, and the device is not asked for them again.
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 3);
    let again = device.json(&["backup"]).await.unwrap();
    assert_eq!((&again["counts"]["sent"], &again["counts"]["checked"]), (&json!(2), &json!(2)), "{again}");
    assert_eq!(device.json(&["status"]).await.unwrap()["waiting"], 0);

    // No server, no clearance, nothing removed.
    w.house.stop_service().await.unwrap();
    let alone = device.run(&["make-room", "--yes", "--json"]).await.unwrap();
    assert_eq!(alone.code, 3);
    assert_eq!(std::fs::read_dir(&pictures).unwrap().count(), 2);
}

/// Where no store has them, none may go, and none is read to know that. A person is told the reason once, and how many it is of.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_read_of_what_may_not_go_anyway() {
    let w = world().await;
    let (device, source) = w.computer("laptop").await;
    for n in 0..30 {
        put(&source, &format!("{n}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.run(&["backup"]).await.unwrap();
    let readings = "SELECT count(*) FROM observation WHERE act = 'reread'";
    let before = w.sql(readings);
    let said = device.run(&["make-room", "--dry-run"]).await.unwrap().out;
    assert_eq!(said.matches(": it is not offsite yet").count(), 11, "{said}");
    assert!(said.contains("stay             20  more: it is not offsite yet") && said.contains("30 files stay."), "{said}");
    assert_eq!(w.sql(readings), before);
}
