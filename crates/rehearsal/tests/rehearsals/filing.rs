//! Filing plans, re-filing, shots, and clocks that were wrong.

use std::collections::BTreeMap;

use crate::common::{Raw, World, library_files, metadata, world};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::wait_for;
use ypogeion_standins::faults::Faults;

/// Lands bytes with a name that tells their time.
async fn land(raw: &Raw, source: &str, name: &str, bytes: &[u8]) -> String {
    let path = raw.create(bytes.len(), &metadata(&[("filename", name), ("source", source)])).await;
    let landed = raw.append(&path, 0, bytes).await;
    assert_eq!(landed.status, 204, "{}", landed.body);
    landed.header("ypogeion-original").to_owned()
}

async fn order(w: &World, id: &str, order: &str) -> Value {
    w.keeper.ask(Method::PATCH, &format!("api/filing/{id}"), Some(json!({ "order": order }))).await.unwrap()
}

async fn until(w: &World, id: &str, state: &str) -> Value {
    wait_for("the re-filing", 60, async || {
        let all = w.keeper.ask(Method::GET, "api/filing", None).await?;
        let found = all.as_array().unwrap().iter().find(|r| r["id"] == id).cloned();
        Ok(found.filter(|r| r["state"] == state))
    })
    .await
    .unwrap()
}

/// Every file of the library with its hash, by what the catalogue calls it; checks that both sides agree (I3).
async fn held(w: &World) -> BTreeMap<String, Digest> {
    let files = library_files(&w.house);
    let on_disk: BTreeMap<String, Digest> =
        files.iter().map(|f| (f.clone(), Digest::of(&std::fs::read(w.house.library().join(f)).unwrap()))).collect();
    let keeper = w.house.keeper().await.unwrap();
    let page = keeper.ask(Method::GET, "api/originals?limit=500", None).await.unwrap();
    let mut said = BTreeMap::new();
    for card in page["originals"].as_array().unwrap() {
        let id = card["id"].as_str().unwrap();
        let original = keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap();
        for part in original["parts"].as_array().unwrap() {
            let one = keeper.ask(Method::GET, &format!("api/originals/{}", part["id"].as_str().unwrap()), None).await.unwrap();
            said.insert(one["path"].as_str().unwrap().to_owned(), one["digest"].as_str().unwrap().parse().unwrap());
        }
    }
    assert_eq!(on_disk, said, "every file has a row and every row a file");
    on_disk
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_tried_out_applied_and_taken_back() {
    let w = world().await;
    let raw = w.raw_device("Juno's phone").await;
    for (n, day) in ["20260401", "20260412", "20260412", "20260513"].iter().enumerate() {
        land(&raw, "Camera", &format!("IMG_{day}_100000.jpg"), format!("picture {n}").as_bytes()).await;
    }
    let before = held(&w).await;
    assert!(before.contains_key("juno/2026/04/IMG_20260412_100000 (2).jpg"));

    let wrong = w.keeper.try_ask(Method::POST, "api/filing/preview", Some(json!({ "plan": "../%Y/{name}" }))).await.unwrap();
    assert_eq!(wrong.0, 400);
    let plan = json!({ "plan": "{device}/%Y-%m-%d/{name}" });
    let preview = w.keeper.ask(Method::POST, "api/filing/preview", Some(plan.clone())).await.unwrap();
    assert_eq!((&preview["total"], &preview["moves"]), (&json!(4), &json!(4)));
    assert_eq!(preview["examples"][0]["to"], "juno/Juno's phone/2026-04-01/IMG_20260401_100000.jpg");
    assert_eq!(held(&w).await, before, "trying out moves nothing");

    let begun = w.keeper.ask(Method::POST, "api/filing", Some(plan)).await.unwrap();
    let id = begun["id"].as_str().unwrap();
    let done = until(&w, id, "done").await;
    assert_eq!((&done["moved"], &done["failed"]), (&json!(4), &json!(0)));
    let after = held(&w).await;
    assert!(after.contains_key("juno/Juno's phone/2026-04-12/IMG_20260412_100000 (2).jpg"), "{after:?}");
    assert!(!w.house.library().join("juno/2026").exists(), "no empty folders are left");
    // What arrives now is filed by the new plan.
    land(&raw, "Camera", "IMG_20260601_100000.jpg", b"new").await;
    assert!(held(&w).await.contains_key("juno/Juno's phone/2026-06-01/IMG_20260601_100000.jpg"));

    let back = order(&w, id, "undo").await;
    until(&w, back["id"].as_str().unwrap(), "done").await;
    let now = held(&w).await;
    for (path, digest) in &before {
        assert_eq!(now.get(path), Some(digest), "{path} is where it was, under the name it had");
    }
    assert!(
        now.contains_key("juno/2026/06/IMG_20260601_100000.jpg"),
        "what came meanwhile is filed by the plan that holds again"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_re_filing_goes_on_after_kills_and_can_be_paused() {
    let mut w = world().await;
    let raw = w.raw_device("phone").await;
    let names: Vec<String> =
        (0..240).map(|n| format!("IMG_2026{:02}{:02}_1000{:02}.jpg", n % 12 + 1, n % 27 + 1, n / 20)).collect();
    for (n, name) in names.iter().enumerate() {
        land(&raw, "Camera", name, format!("picture {n}").as_bytes()).await;
    }
    let before: Vec<Digest> = {
        let mut d: Vec<_> = held(&w).await.into_values().collect();
        d.sort();
        d
    };
    let begun = w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "day" }))).await.unwrap();
    let id = begun["id"].as_str().unwrap().to_owned();
    let second = w.keeper.try_ask(Method::POST, "api/filing", Some(json!({ "plan": "year" }))).await.unwrap();
    assert_eq!(second.0, 409, "one at a time");
    for round in 0..4u64 {
        tokio::time::sleep(std::time::Duration::from_millis(40 + 60 * round)).await;
        w.house.kill_service();
        w.house.start_service().await.unwrap();
        w.keeper = w.house.keeper().await.unwrap();
    }
    let state = w.keeper.ask(Method::GET, "api/filing", None).await.unwrap()[0]["state"].as_str().unwrap().to_owned();
    if state == "running" {
        order(&w, &id, "pause").await;
        // A pause lets the moves that were taken together come to their end; then the work is no more.
        wait_for("the moves to rest", 30, async || {
            let work = w.keeper.ask(Method::GET, "api/work", None).await?;
            Ok(work["kinds"].as_array().is_some_and(|kinds| kinds.iter().all(|k| k["kind"] != "refile")).then_some(()))
        })
        .await
        .unwrap();
        let _ = held(&w).await;
        order(&w, &id, "resume").await;
    }
    let done = until(&w, &id, "done").await;
    assert_eq!((&done["looked"], &done["failed"]), (&json!(240), &json!(0)));
    let after = held(&w).await;
    assert!(after.keys().all(|path| path.split('/').count() == 5), "all by day: {:?}", after.keys().next());
    let mut digests: Vec<Digest> = after.into_values().collect();
    digests.sort();
    assert_eq!(digests, before, "every byte is there, once");
}

/// Between the moment at which a piece of work reads where a file is and the moment at which it opens it, the file may get another name.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_filed_anew_while_it_is_about_to_be_sent_is_not_missing() {
    let mut w = world().await;
    w.add_store().await;
    // The store is opened anew after a start, and takes its time: so long the work that has read the path waits.
    w.house.stop_service().await.unwrap();
    w.house.store.set_faults(Faults { latency_ms: 4000, ..Faults::default() });
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let raw = w.raw_device("phone").await;
    for n in 0..3 {
        land(&raw, "Camera", &format!("IMG_20260405_10000{n}.jpg"), format!("kite {n}").as_bytes()).await;
    }
    let taken = async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let running = work["kinds"].as_array().is_some_and(|k| k.iter().any(|k| k["kind"] == "replicate" && k["running"] != 0));
        Ok(running.then_some(()))
    };
    wait_for("the work to be taken", 30, taken).await.unwrap();
    let begun = w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "day" }))).await.unwrap();
    until(&w, begun["id"].as_str().unwrap(), "done").await;
    assert!(library_files(&w.house).iter().all(|path| path.split('/').count() == 5));
    w.house.store.set_faults(Faults::default());
    let house = w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!((house.offsite.count, house.damaged, house.failed_work), (3, 0, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn files_of_one_shot_are_shown_as_one_and_a_sidecar_tells_the_time() {
    let w = world().await;
    let raw = w.raw_device("camera card").await;
    let raw_file = [b"II*\0\x08\0\0\0\0\0\0\0\0\0".as_slice(), &[7; 64]].concat();
    // The words come first, then what they are about: the order must not matter.
    let words = br#"<x:xmpmeta><rdf:Description exif:DateTimeOriginal="1999-07-04T09:30:00+02:00"/></x:xmpmeta>"#;
    land(&raw, "DCIM", "R0001.xmp", words).await;
    land(&raw, "DCIM", "R0001.DNG", &raw_file).await;
    let picture = land(&raw, "DCIM", "R0001.JPG", &small_jpeg()).await;
    land(&raw, "DCIM", "other.jpg", b"another").await;
    let shots = wait_for("the shot to be found", 20, async || {
        let page = w.keeper.ask(Method::GET, "api/originals", None).await?;
        let done = page["originals"]
            .as_array()
            .is_some_and(|o| o.len() == 2 && o.iter().any(|c| c["company"].as_array().unwrap().len() == 2));
        Ok(done.then_some(page))
    })
    .await
    .unwrap();
    let card =
        shots["originals"].as_array().unwrap().iter().find(|c| c["id"] == picture.as_str()).expect("the JPEG stands for it");
    assert_eq!(card["company"], json!(["raw", "sidecar"]));
    let months = w.keeper.ask(Method::GET, "api/months", None).await.unwrap();
    assert!(months.as_array().unwrap().iter().any(|m| m["month"] == "1999-07" && m["count"] == 1), "{months}");
    let whole = w.keeper.ask(Method::GET, &format!("api/originals/{picture}"), None).await.unwrap();
    assert_eq!((&whole["taken_rule"], &whole["taken_confidence"]), (&json!("sidecar"), &json!("medium")));
    // And it is filed where it belongs, by what the sidecar says.
    wait_for("the files to be in their place", 20, async || {
        let files = library_files(&w.house);
        let there = ["R0001.DNG", "R0001.JPG", "R0001.xmp"].iter().all(|n| files.contains(&format!("juno/1999/07/{n}")));
        Ok((there && files.len() == 4).then_some(()))
    })
    .await
    .unwrap();
    held(&w).await;
}

fn small_jpeg() -> Vec<u8> {
    let mut bytes = std::io::Cursor::new(Vec::new());
    let picture = image::RgbImage::from_fn(32, 24, |x, y| image::Rgb([x as u8 * 7, y as u8 * 9, 80]));
    picture.write_to(&mut bytes, image::ImageFormat::Jpeg).unwrap();
    bytes.into_inner()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_clock_is_put_right_for_a_range_and_that_can_be_taken_back() {
    let w = world().await;
    let raw = w.raw_device("old camera").await;
    let first = land(&raw, "DCIM", "IMG_20200101_100000.jpg", b"one").await;
    land(&raw, "DCIM", "IMG_20200101_110000.jpg", b"two").await;
    let later = land(&raw, "DCIM", "IMG_20260701_100000.jpg", b"right already").await;
    let device = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap()[0]["id"].as_str().unwrap().to_owned();
    let at = async |id: &str| w.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap();
    let days: i64 = 2000;
    let fix = json!({ "from": "2020-01-01T00:00:00", "to": "2020-01-01T23:59:59", "seconds": days * 86_400 });
    let made = w.keeper.ask(Method::POST, &format!("api/devices/{device}/clock"), Some(fix.clone())).await.unwrap();
    assert_eq!(made["originals"], 2);
    let corrected = at(&first).await;
    assert_eq!((&corrected["taken_local"], &corrected["taken_corrected"]), (&json!("2025-06-23T10:00:00"), &json!(true)));
    assert_eq!(at(&later).await["taken_local"], "2026-07-01T10:00:00");
    wait_for("the files to follow", 20, async || {
        Ok(library_files(&w.house).contains(&"juno/2025/06/IMG_20200101_100000.jpg".to_owned()).then_some(()))
    })
    .await
    .unwrap();
    // The same range again moves nothing twice.
    let again = w.keeper.ask(Method::POST, &format!("api/devices/{device}/clock"), Some(fix)).await.unwrap();
    assert_eq!(again["originals"], 0);
    let undo = format!("api/devices/{device}/clock/{}/undo", made["id"].as_str().unwrap());
    for _ in 0..2 {
        w.keeper.ask(Method::POST, &undo, None).await.unwrap();
    }
    assert_eq!(at(&first).await["taken_local"], "2020-01-01T10:00:00");
    wait_for("the files to go back", 20, async || {
        let files = library_files(&w.house);
        let back =
            ["IMG_20200101_100000.jpg", "IMG_20200101_110000.jpg"].iter().all(|n| files.contains(&format!("juno/2020/01/{n}")));
        // The old name goes last.
        Ok((back && files.len() == 3).then_some(()))
    })
    .await
    .unwrap();
    held(&w).await;
    for (from, to, seconds) in [("02", "01", 5), ("01", "02", 0), ("01", "02", i64::MIN), ("01", "02", i64::MAX)] {
        let nonsense =
            json!({ "from": format!("2020-01-{from}T00:00:00"), "to": format!("2020-01-{to}T00:00:00"), "seconds": seconds });
        let answer = w.keeper.try_ask(Method::POST, &format!("api/devices/{device}/clock"), Some(nonsense)).await.unwrap();
        assert_eq!(answer.0, 400, "{seconds}");
    }
}
