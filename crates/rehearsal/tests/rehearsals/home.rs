//! The library's disk is away: at the start, or from one moment to the next. What is away is not missing.

use std::{fs, path::PathBuf};

use crate::common::{Raw, World, library_files, metadata, put, world};
use reqwest::Method;
use serde_json::json;
use ypogeion_rehearsal::{wait_for, walk::originals_below};
use ypogeion_standins::faults::Faults;

/// What a mount point shows when its disk is taken away: an empty folder.
fn take_away(w: &World) -> PathBuf {
    let aside = w.folder.path().join("unmounted");
    fs::rename(w.house.library(), &aside).unwrap();
    fs::create_dir(w.house.library()).unwrap();
    aside
}

fn bring_back(w: &World) {
    // An empty one: nothing was written where the disk should be.
    fs::remove_dir(w.house.library()).unwrap();
    fs::rename(w.folder.path().join("unmounted"), w.house.library()).unwrap();
}

async fn land(raw: &Raw, name: &str) -> String {
    let bytes = format!("the picture {name}").into_bytes();
    let path = raw.create(bytes.len(), &metadata(&[("filename", name)])).await;
    let landed = raw.append(&path, 0, &bytes).await;
    assert_eq!(landed.status, 204, "{}", landed.body);
    landed.header("ypogeion-original").to_owned()
}

/// Everything that asks for the library while it is away is told so, and nothing is believed of what lies there.
async fn all_refused(w: &World, raw: &Raw, original: &str) {
    let refused = raw.tus("POST", "tus/", &[("Upload-Length", "4")], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (503, "library-away"));
    let offered = json!({ "entries": [{ "digest": "ab".repeat(32), "size": 4, "name": "new.jpg", "source": "Camera" }] });
    let offer =
        raw.send("POST", "api/device/offers", &[("content-type", "application/json")], offered.to_string().as_bytes()).await;
    assert!(offer.status == 503 || offer.status == 404 || offer.body.contains("want"), "{} {}", offer.status, offer.body);
    let bytes = w.keeper.try_ask(Method::GET, &format!("api/originals/{original}/bytes"), None).await.unwrap();
    assert_eq!(bytes.0, 503, "{}", bytes.1);
    let place = w.keeper.try_ask(Method::GET, "api/place", None).await.unwrap();
    assert!(place.0 == 503 || place.0 == 404, "{}", place.1);
    let house = w.keeper.overview().await.unwrap();
    assert_eq!((house.state.word(), house.damaged, house.failed_work), ("trouble", 0, 0), "{house:?}");
    assert_eq!(house.sentence, "The library’s disk is not connected.");
    assert!(house.free_bytes.is_none() && house.rest.contains("mounted"), "{}", house.rest);
    let said: serde_json::Value = reqwest::get(w.house.http.join("api/state").unwrap()).await.unwrap().json().await.unwrap();
    assert_eq!((&said["state"], &said["reason"]), (&json!("trouble"), &json!("The library’s disk is not connected.")), "{said}");
    assert_eq!(fs::read_dir(w.house.library()).unwrap().count(), 0, "nothing is made where the disk should be");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_taken_away_is_no_loss_and_all_goes_on_when_it_is_back() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let first = land(&raw, "a.jpg").await;
    // Five wait for a store that does not answer; a sixth has half arrived.
    w.add_store().await;
    w.keeper.wait_until_proven(60).await.unwrap();
    w.house.store.set_faults(Faults { outage: true, ..Faults::default() });
    for n in 0..5 {
        land(&raw, &format!("waiting-{n}.jpg")).await;
    }
    let half = raw.create(8, &metadata(&[("filename", "half.jpg")])).await;
    assert_eq!(raw.append(&half, 0, b"half").await.status, 204);
    let before = originals_below(&w.house.library()).unwrap();

    take_away(&w);
    w.house.store.set_faults(Faults::default());
    let store = w.keeper.store().await.unwrap().id;
    w.keeper.ask(Method::POST, &format!("api/stores/{store}/resume"), Some(json!({}))).await.unwrap();
    all_refused(&w, &raw, &first).await;
    let stands =
        raw.tus("PATCH", &half, &[("Upload-Offset", "4"), ("Content-Type", "application/offset+octet-stream")], b"full").await;
    assert_eq!(stands.status, 503, "{}", stands.body);
    // Reading it again, filing it anew, deleting from it: all of it waits.
    w.keeper.ask(Method::POST, "api/checks", Some(json!({ "store": null, "kind": "reading" }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "%Y/{name}" }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/holding", Some(json!({ "originals": [first] }))).await.unwrap();
    tokio::time::sleep(std::time::Duration::from_secs(3)).await; // Whatever would go wrong has the time to.
    all_refused(&w, &raw, &first).await;
    let one = w.keeper.ask(Method::GET, &format!("api/originals/{first}"), None).await.unwrap();
    assert!(!one.to_string().contains("missing"), "{one}");

    bring_back(&w);
    wait_for("everything to go on", 60, async || {
        let (house, store) = (w.keeper.overview().await?, w.keeper.store().await?);
        if house.state.word() != "trouble" && store.held.count == 5 && house.failed_work == 0 {
            return Ok(Some(()));
        }
        Err(format!("{house:?} {store:?} {:?}", w.keeper.ask(Method::GET, "api/work", None).await?).into())
    })
    .await
    .unwrap();
    assert_eq!(raw.append(&half, 4, b"full").await.status, 204, "the half one goes on where it stood");
    wait_for("it to be filed anew, and the deleted one in holding", 60, async || {
        let files = library_files(&w.house);
        Ok((files.len() == before.len() + 1
            && files.iter().filter(|f| f.starts_with("holding/")).count() == 1
            && files.iter().all(|f| f.starts_with("holding/") || f.matches('/').count() == 2))
        .then_some(()))
    })
    .await
    .unwrap();
    let house = w.keeper.overview().await.unwrap();
    assert_eq!((house.damaged, house.failed_work), (0, 0));
    let after: Vec<_> = originals_below(&w.house.library()).unwrap().into_values().collect();
    assert!(before.values().all(|digest| after.contains(digest)));
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(
        record.contains("found that the library’s disk is not connected") && record.contains("found the library’s disk again"),
        "{record}"
    );
    assert!(!record.contains("missing") && !record.contains("damaged"), "{record}");
}

/// The hidden folder was lost, when the library was copied to another disk for example. Its keeper looks, and says that it is the one.
#[tokio::test(flavor = "multi_thread")]
async fn a_library_that_lost_its_mark_is_made_known_again_by_its_keeper() {
    let mut w = world().await;
    let raw = w.raw_device("phone").await;
    land(&raw, "a.jpg").await;
    land(&raw, "b.jpg").await;
    fs::remove_dir_all(w.house.library().join(".ypogeion")).unwrap();
    let house = w.keeper.overview().await.unwrap();
    assert!(house.state.word() == "trouble" && house.rest.contains("ypogeiond mark-library"), "{house:?}");
    w.house.stop_service().await.unwrap();
    let mark = |more: &[&str]| {
        let mut command = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap());
        command.arg("--config").arg(w.folder.path().join("ypogeiond.toml")).arg("mark-library").args(more);
        let output = command.env("YPOGEION_THROW_AWAY", "1").output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr))
    };
    let (code, said) = mark(&[]);
    assert!(code == Some(4) && said.contains("2 of 2 files that were looked for are there") && said.contains("--yes"), "{said}");
    // A wrong disk is not made the library by a hasty hand.
    let aside = take_away(&w);
    let (code, said) = mark(&["--yes"]);
    assert!(code == Some(4) && said.contains("none of them is there"), "{code:?} {said}");
    assert!(aside.join("juno").is_dir());
    bring_back(&w);
    let (code, said) = mark(&["--yes"]);
    assert_eq!(code, Some(0), "{said}");
    w.house.start_service().await.unwrap();
    let keeper = w.house.keeper().await.unwrap();
    let house = keeper.overview().await.unwrap();
    assert_eq!((house.state.word(), house.home.count, house.damaged), ("look", 2, 0), "{house:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_away_at_the_start_is_not_replaced_by_the_folder_it_is_mounted_on() {
    let mut w = world().await;
    let raw = w.raw_device("phone").await;
    let first = land(&raw, "a.jpg").await;
    let half = raw.create(8, &metadata(&[("filename", "half.jpg")])).await;
    assert_eq!(raw.append(&half, 0, b"half").await.status, 204);
    w.house.stop_service().await.unwrap();
    take_away(&w);
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    all_refused(&w, &raw, &first).await;
    // Another disk in its place is not taken for it, either.
    fs::remove_dir(w.house.library()).unwrap();
    put(
        &w.house.library(),
        ".ypogeion/library",
        b"{\"format\":\"ypogeion-library\",\"version\":1,\"library\":\"0198a000-0000-7000-8000-000000000000\"}",
    )
    .unwrap();
    let house = w.keeper.overview().await.unwrap();
    assert!(house.rest.contains("Another library is there"), "{}", house.rest);
    fs::remove_dir_all(w.house.library()).unwrap();
    fs::create_dir(w.house.library()).unwrap();

    bring_back(&w);
    wait_for("the library to be taken up", 60, async || Ok((w.keeper.overview().await?.state.word() != "trouble").then_some(())))
        .await
        .unwrap();
    let stands = raw.tus("HEAD", &half, &[], b"").await;
    assert_eq!((stands.status, stands.header("upload-offset")), (200, "4"));
    assert_eq!(raw.append(&half, 4, b"full").await.status, 204);
    assert_eq!(w.keeper.bytes(&format!("api/originals/{first}/bytes")).await.unwrap(), b"the picture a.jpg");
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 2);
    // And it is held: no second service takes it.
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    assert_eq!(w.house.keeper().await.unwrap().overview().await.unwrap().state.word(), "look");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_adoption_goes_on_when_the_disk_is_back() {
    let w = world().await;
    let disk = w.house.disks().join("old disk");
    for n in 0..300 {
        put(&disk, &format!("IMG_20190412_{:06}.jpg", 100_000 + n), format!("picture {n}").as_bytes()).unwrap();
    }
    let people = w.keeper.ask(Method::GET, "api/people", None).await.unwrap();
    let form = json!({ "path": disk, "person": people[0]["id"], "in_place": false });
    let id = w.keeper.ask(Method::POST, "api/adoptions", Some(form)).await.unwrap()["id"].as_str().unwrap().to_owned();
    let told = async || -> ypogeion_rehearsal::Step<serde_json::Value> {
        Ok(w.keeper.ask(Method::GET, "api/adoptions", None).await?[0].clone())
    };
    let in_state = async |state: &str| {
        wait_for(&format!("it to be {state}"), 60, async || Ok(Some(told().await?).filter(|a| a["state"] == state)))
            .await
            .unwrap()
    };
    in_state("planned").await;
    w.keeper.ask(Method::PATCH, &format!("api/adoptions/{id}"), Some(json!({ "order": "begin" }))).await.unwrap();
    wait_for("some to be taken", 60, async || Ok((told().await?["copied"]["files"].as_u64() > Some(10)).then_some(())))
        .await
        .unwrap();
    take_away(&w);
    wait_for("it to be noticed", 30, async || Ok((w.keeper.overview().await?.state.word() == "trouble").then_some(())))
        .await
        .unwrap();
    tokio::time::sleep(std::time::Duration::from_secs(2)).await; // Whatever would go wrong has the time to.
    let away = told().await.unwrap();
    let (state, failed, waiting) = (&away["state"], &away["failed"]["files"], away["waiting"]["files"].as_u64().unwrap());
    assert!(state == "running" && failed == 0 && waiting > 0 && away["room"].is_null(), "{away}");
    bring_back(&w);
    let done = in_state("done").await;
    assert_eq!((&done["copied"]["files"], &done["failed"]["files"]), (&json!(300), &json!(0)), "{done}");
    assert!(done["room"].is_u64(), "{done}");
    assert_eq!(originals_below(&w.house.library()).unwrap().len(), 300);
}
