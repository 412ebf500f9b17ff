//! Taking over what lies on an old disk and in archives: a plan first, then file by file, and nothing there is touched.

use std::{
    collections::BTreeMap,
    fs,
    io::{Cursor, Write},
    path::Path,
};

use crate::common::{self, World, library_files, put, world};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::{browser::Browser, wait_for};
use ypogeion_wire::overview::Overview;
use zip::{CompressionMethod, write::SimpleFileOptions};

fn zip_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in entries {
        writer.start_file(*name, SimpleFileOptions::default().compression_method(CompressionMethod::Deflated)).unwrap();
        writer.write_all(bytes).unwrap();
    }
    writer.finish().unwrap().into_inner()
}

fn tar_gz_of(entries: &[(&str, &[u8])]) -> Vec<u8> {
    let mut builder = tar::Builder::new(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast()));
    for (name, bytes) in entries {
        let mut header = tar::Header::new_gnu();
        header.set_size(bytes.len() as u64);
        header.set_mtime(1_560_000_000);
        header.set_mode(0o644);
        // The library refuses to write such names; an attacker does not.
        let field = &mut header.as_old_mut().name;
        field[..name.len()].copy_from_slice(name.as_bytes());
        header.set_cksum();
        builder.append(&header, *bytes).unwrap();
    }
    builder.into_inner().unwrap().finish().unwrap()
}

/// Every file below a folder with its hash, time and whether it is a link.
fn all_of(folder: &Path) -> BTreeMap<String, (Digest, std::time::SystemTime)> {
    let mut all = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() && !path.is_symlink() {
            all.extend(all_of(&path));
        } else {
            let bytes = if path.is_symlink() { b"link".to_vec() } else { fs::read(&path).unwrap() };
            all.insert(path.display().to_string(), (Digest::of(&bytes), entry.metadata().unwrap().modified().unwrap()));
        }
    }
    all
}

impl World {
    async fn juno(&self) -> String {
        let people = self.keeper.ask(Method::GET, "api/people", None).await.unwrap();
        people.as_array().unwrap().iter().find(|p| p["name"] == "Juno").unwrap()["id"].as_str().unwrap().to_owned()
    }

    async fn adopt(&self, place: &Path, in_place: bool) -> (u16, Value) {
        let form = json!({ "path": place, "person": self.juno().await, "in_place": in_place });
        self.keeper.try_ask(Method::POST, "api/adoptions", Some(form)).await.unwrap()
    }

    /// Waits for the plan.
    async fn plan(&self, place: &Path, in_place: bool) -> Value {
        let (status, begun) = self.adopt(place, in_place).await;
        assert_eq!(status, 201, "{begun}");
        self.adoption_in(begun["id"].as_str().unwrap(), &["planned"]).await
    }

    async fn adoption_in(&self, id: &str, states: &[&str]) -> Value {
        wait_for(&format!("an adoption that is {states:?}"), 60, async || {
            let all = self.keeper.ask(Method::GET, "api/adoptions", None).await?;
            let mine = all.as_array().and_then(|a| a.iter().find(|a| a["id"] == id)).cloned().unwrap_or_default();
            Ok(states.iter().any(|s| mine["state"] == *s).then_some(mine))
        })
        .await
        .unwrap()
    }

    async fn order(&self, adoption: &Value, order: &str) -> (u16, Value) {
        let path = format!("api/adoptions/{}", adoption["id"].as_str().unwrap());
        self.keeper.try_ask(Method::PATCH, &path, Some(json!({ "order": order }))).await.unwrap()
    }

    async fn run(&self, plan: &Value) -> Value {
        assert_eq!(self.order(plan, "begin").await.0, 200);
        self.adoption_in(plan["id"].as_str().unwrap(), &["done", "paused"]).await
    }

    async fn files(&self, adoption: &Value, outcome: &str) -> Vec<(String, String)> {
        let path = format!("api/adoptions/{}/files?outcome={outcome}", adoption["id"].as_str().unwrap());
        let files = self.keeper.ask(Method::GET, &path, None).await.unwrap();
        let text = |v: &Value| v.as_str().unwrap_or_default().to_owned();
        files.as_array().unwrap().iter().map(|f| (text(&f["path"]), text(&f["reason"]))).collect()
    }
}

fn files(adoption: &Value, group: &str) -> u64 {
    adoption[group]["files"].as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_old_disk_is_taken_over_by_a_plan_that_is_seen_first() {
    let w = world().await;
    let disk = w.house.disks().join("old disk");
    put(&disk, "2019/Rome/IMG_20190412_101530.jpg", b"forum").unwrap();
    put(&disk, "2019/Rome/notes.txt", b"gelato").unwrap();
    put(&disk, "2020/.cache/IMG_20200101_101530.jpg", b"small forum").unwrap();
    put(&disk, "2020/IMG_20200412_101530.jpg", b"kite").unwrap();
    put(&disk, "2020/copy/IMG_20200412_101530.jpg", b"weir").unwrap();
    put(&disk, "2020/copy/the same again/IMG_20190412_101530.jpg", b"forum").unwrap();
    let summer = serde_json::to_vec(&json!({ "takenTime": { "timestamp": "1561000000" } })).unwrap();
    put(&disk, "export-1.zip", &zip_of(&[("Album/beach.jpg", b"beach"), ("index.html", b"<html>")])).unwrap();
    put(&disk, "export-2.zip", &zip_of(&[("Album/beach.jpg.json", &summer)])).unwrap();
    put(&disk, "phone.tar.gz", &tar_gz_of(&[("DCIM/harbour.jpg", b"harbour")])).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", disk.join("2020/passwd.jpg")).unwrap();
    // One of the pictures is here already.
    let raw = w.raw_device("phone").await;
    let path = raw.create(4, &common::metadata(&[("filename", "IMG_20200412_101530.jpg")])).await;
    assert_eq!(raw.append(&path, 0, b"kite").await.status, 204);
    let before = all_of(&disk);

    let plan = w.plan(&disk, false).await;
    assert_eq!((files(&plan, "files"), files(&plan, "known"), files(&plan, "left_out")), (7, 1, 4), "{plan}");
    let left = w.files(&plan, "left-out").await;
    let why = |path: &str| left.iter().find(|(p, _)| p == path).map(|(_, why)| why.as_str()).unwrap_or_default();
    assert!(why("2019/Rome/notes.txt").contains("neither a picture"), "{left:?}");
    assert!(why("2020/.cache/IMG_20200101_101530.jpg").contains("hidden") && why("2020/passwd.jpg").contains("a link"));
    assert_eq!(library_files(&w.house).len(), 1, "a plan takes nothing");

    let done = w.run(&plan).await;
    assert_eq!((files(&done, "copied"), files(&done, "present"), files(&done, "failed")), (5, 2, 0), "{done}");
    wait_for("the time that the other archive tells", 30, async || {
        Ok((library_files(&w.house)
            == [
                "juno/2019/04/IMG_20190412_101530.jpg",
                "juno/2019/06/beach.jpg",
                "juno/2019/06/beach.jpg.json",
                "juno/2019/06/harbour.jpg",
                "juno/2020/04/IMG_20200412_101530 (2).jpg",
                "juno/2020/04/IMG_20200412_101530.jpg",
            ])
        .then_some(()))
    })
    .await
    .unwrap_or_else(|e| panic!("{e}: {:?}", library_files(&w.house)));
    assert_eq!(all_of(&disk), before, "nothing there was touched");
    // It is a device, and what it had is here, number against number.
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    let device = devices.as_array().unwrap().iter().find(|d| d["name"] == "old disk").unwrap().clone();
    assert_eq!((&device["has"], &device["home"]), (&json!(7), &json!(7)));
    // Once more: nothing new.
    let again = w.plan(&disk, false).await;
    assert_eq!((files(&again, "files"), files(&again, "known")), (7, 7), "{again}");
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap();
    assert!(record.to_string().contains("5 copied, 0 left in place, 2 here already, 0 failed"), "{record}");
}

#[tokio::test(flavor = "multi_thread")]
async fn originals_can_stay_where_they_are() {
    let w = world().await;
    w.add_store().await;
    let disk = w.house.disks().join("archive disk");
    let picture = image_bytes();
    put(&disk, "2019/IMG_20190412_101530.jpg", &picture).unwrap();
    put(&disk, "2019/IMG_20190412_101531.jpg", b"weir").unwrap();
    put(&disk, "export.zip", &zip_of(&[("beach 2019-06-20.jpg", b"beach")])).unwrap();
    let before = all_of(&disk);
    let done = w.run(&w.plan(&disk, true).await).await;
    assert_eq!((files(&done, "pointed"), files(&done, "copied"), files(&done, "failed")), (2, 1, 0), "{done}");
    let filed = w.house.library().join("juno/2019/04/IMG_20190412_101530.jpg");
    assert_eq!(fs::read_link(&filed).unwrap(), disk.canonicalize().unwrap().join("2019/IMG_20190412_101530.jpg"));
    // It is an original like every other: previewed, sent offsite, proven, and handed over.
    let proven = w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!(proven.home.count, 3);
    let months = w.keeper.ask(Method::GET, "api/originals?limit=50", None).await.unwrap();
    let card = months["originals"].as_array().unwrap().iter().find(|o| o["preview"] == "ready").cloned().unwrap_or_default();
    let id = card["id"].as_str().expect("a preview was made");
    assert_eq!(w.keeper.bytes(&format!("api/originals/{id}/bytes")).await.unwrap(), picture);
    assert_eq!(all_of(&disk), before);
    // Filed by another plan, the pointer moves and what it points to stays.
    w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "year" }))).await.unwrap();
    let moved = w.house.library().join("juno/2019/IMG_20190412_101530.jpg");
    wait_for("the new name", 30, async || Ok(moved.is_symlink().then_some(()))).await.unwrap();
    assert_eq!(all_of(&disk), before);
}

impl World {
    /// Has the home disk read from start to end, and says what the reading said.
    async fn read_home(&self) -> Value {
        let home = async || {
            let checks = self.keeper.ask(Method::GET, "api/checks", None).await?;
            Ok::<_, ypogeion_rehearsal::Trouble>(
                checks["checks"].as_array().unwrap().iter().find(|c| c["store"].is_null()).unwrap().clone(),
            )
        };
        let before = home().await.unwrap()["last"]["ended_at"].clone();
        self.keeper.ask(Method::POST, "api/checks", Some(json!({ "store": null, "kind": "reading" }))).await.unwrap();
        wait_for("the reading's end", 60, async || {
            let last = home().await?["last"].clone();
            Ok((last["ended_at"] != before).then_some(last))
        })
        .await
        .unwrap()
    }

    /// Waits until the house says that it cannot reach a disk.
    async fn out_of_reach(&self) -> Overview {
        wait_for("the house to say so", 60, async || {
            let house = self.keeper.overview().await?;
            Ok((house.sentence == "Some pictures that were left on another disk cannot be reached.").then_some(house))
        })
        .await
        .unwrap()
    }

    async fn left(&self) -> Value {
        self.keeper.ask(Method::GET, "api/left-folders", None).await.unwrap()
    }
}

/// A disk that is not connected says nothing about what was left on it: nothing is damaged or missing, nothing is fetched from a store, and what
/// needs it waits. Only its keeper knows that it does not come back.
#[tokio::test(flavor = "multi_thread")]
async fn originals_on_a_disk_that_is_away_are_not_missing() {
    let mut w = world().await;
    w.add_store().await;
    let disk = w.house.disks().join("archive disk");
    let put_away = w.house.disks().join("in the drawer");
    let names = ["IMG_20190412_101530.jpg", "IMG_20190412_101531.jpg", "IMG_20200101_000000.jpg"];
    for (n, name) in names.iter().enumerate() {
        put(&disk, &format!("{}/{name}", &name[4..8]), format!("picture {n}").as_bytes()).unwrap();
    }
    w.run(&w.plan(&disk, true).await).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    let all = w.keeper.ask(Method::GET, "api/originals?limit=50", None).await.unwrap();
    let first = all["originals"].as_array().unwrap()[0]["id"].as_str().unwrap().to_owned();
    let bytes = format!("api/originals/{first}/bytes");
    assert_eq!(w.left().await, json!([{ "path": disk, "state": "there", "unseen_since": null }]));

    fs::rename(&disk, &put_away).unwrap();
    let house = w.out_of_reach().await;
    assert_eq!((house.state.word(), house.damaged), ("look", 0), "{house:?}");
    assert!(house.rest.contains(disk.to_str().unwrap()), "{}", house.rest);
    let (status, problem) = w.keeper.try_ask(Method::GET, &bytes, None).await.unwrap();
    assert!(status == 503 && problem["type"] == "urn:ypogeion:problem:original-away", "{status} {problem}");
    // Also when the folder that it was mounted on is there, empty; and after a restart.
    fs::create_dir(&disk).unwrap();
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    let read = w.read_home().await;
    assert_eq!(
        (&read["checked"], &read["missing"], &read["wrong"], &read["unseen"]),
        (&json!(0), &json!(0), &json!(0), &json!(3))
    );
    assert_eq!(read["said"], "3 copies could not be looked at: nothing is in the folder that they were left in.");
    // A second store cannot be sent to, and nothing is given up over it.
    let mut south = w.house.store_form();
    (south["name"], south["prefix"]) = (json!("South Quay"), json!("south"));
    w.keeper.ask(Method::POST, "api/stores", Some(south)).await.unwrap();
    wait_for("sending to wait for the disk", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?.to_string();
        Ok(work.contains("Connect its disk").then_some(()))
    })
    .await
    .unwrap();
    let house = w.keeper.overview().await.unwrap();
    assert_eq!((house.damaged, house.failed_work, house.home.count), (0, 0, 3), "{house:?}");
    assert_eq!(w.keeper.ask(Method::GET, "api/checks", None).await.unwrap()["healed_home"], 0);
    assert!(names.iter().all(|n| w.house.library().join(format!("juno/{}/{}/{n}", &n[4..8], &n[8..10])).is_symlink()));

    // It is connected again, and all of it goes on by itself.
    fs::remove_dir(&disk).unwrap();
    fs::rename(&put_away, &disk).unwrap();
    wait_for("the second store to have them", 60, async || {
        let stores = w.keeper.ask(Method::GET, "api/stores", None).await?;
        Ok(stores.as_array().is_some_and(|all| all.len() == 2 && all.iter().all(|s| s["held"]["count"] == 3)).then_some(()))
    })
    .await
    .unwrap();
    let read = w.read_home().await;
    assert_eq!((&read["checked"], &read["missing"], &read["unseen"]), (&json!(3), &json!(0), &json!(0)), "{read}");
    assert_ne!(w.keeper.overview().await.unwrap().sentence, "Some pictures that were left on another disk cannot be reached.");
    let not_away = json!({ "path": disk, "given_up": true });
    assert_eq!(w.keeper.try_ask(Method::PATCH, "api/left-folders", Some(not_away)).await.unwrap().0, 400);

    // It is broken. Now they are missing, and come home from a store.
    fs::rename(&disk, &put_away).unwrap();
    assert_eq!(w.out_of_reach().await.state.word(), "look");
    let unknown = json!({ "path": "/another", "given_up": true });
    assert_eq!(w.keeper.try_ask(Method::PATCH, "api/left-folders", Some(unknown)).await.unwrap().0, 404);
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.wait_for_text("Some pictures that were left on another disk cannot be reached.").await.unwrap();
    browser.page.goto(w.house.http.join("library/adopt").unwrap().as_str()).await.unwrap();
    browser.wait_for_text(&format!("Nothing is in {}", disk.display())).await.unwrap();
    browser.click("It does not come back …").await.unwrap();
    browser.wait_for_text("What no store has is lost with the disk").await.unwrap();
    browser.click("It does not come back").await.unwrap();
    browser.wait_for_text(&format!("{} does not come back", disk.display())).await.unwrap();
    wait_for("them to be fetched home", 60, async || {
        let checks = w.keeper.ask(Method::GET, "api/checks", None).await?;
        Ok((checks["healed_home"] == 3).then_some(()))
    })
    .await
    .unwrap();
    assert!(names.iter().all(|n| {
        let filed = w.house.library().join(format!("juno/{}/{}/{n}", &n[4..8], &n[8..10]));
        filed.is_file() && !filed.is_symlink()
    }));
    assert_eq!(w.keeper.try_ask(Method::GET, &bytes, None).await.unwrap().0, 200);
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    for said in ["where pictures were left", "again, where pictures were left", "does not come back"] {
        assert!(record.contains(said), "{said}: {record}");
    }
}

/// That a folder does not come back explains what was left in it, and nothing else.
#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_was_given_up_does_not_hide_a_failing_disk() {
    let w = world().await;
    let (left, taken) = (w.house.disks().join("left"), w.house.disks().join("taken"));
    for n in 0..60 {
        put(&left, &format!("IMG_20190412_{n:06}.jpg"), format!("left {n}").as_bytes()).unwrap();
    }
    for n in 0..50 {
        put(&taken, &format!("IMG_20200412_{n:06}.jpg"), format!("taken {n}").as_bytes()).unwrap();
    }
    w.run(&w.plan(&left, true).await).await;
    w.run(&w.plan(&taken, false).await).await;
    fs::rename(&left, w.house.disks().join("in the drawer")).unwrap();
    w.out_of_reach().await;
    let gone = |yes: bool| json!({ "path": left, "given_up": yes });
    w.keeper.ask(Method::PATCH, "api/left-folders", Some(gone(true))).await.unwrap();
    let state = async || w.left().await[0]["state"].clone();
    assert_eq!(state().await, "given-up");
    // The reading that follows finds most of the library missing, as it must, and goes through all of it.
    let read = w.read_home().await;
    assert_eq!((&read["checked"], &read["missing"], &read["failed"]), (&json!(110), &json!(60), &json!(false)), "{read}");
    // Now the home disk loses what was copied there.
    fs::remove_dir_all(w.house.library().join("juno/2020/04")).unwrap();
    let read = w.read_home().await;
    assert_eq!(read["failed"], true, "{read}");
    assert!(read["said"].as_str().unwrap().contains("so the reading was stopped"), "{read}");
    // Who finds the disk in a drawer says so.
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join("library/adopt").unwrap().as_str()).await.unwrap();
    browser.click("It may come back after all").await.unwrap();
    browser.wait_for_text(&format!("Nothing is in {}", left.display())).await.unwrap();
    assert_eq!(state().await, "out-of-reach");
}

fn image_bytes() -> Vec<u8> {
    let mut bytes = Cursor::new(Vec::new());
    let picture = image::RgbImage::from_fn(320, 200, |x, y| image::Rgb([x as u8, y as u8, 90]));
    picture.write_to(&mut bytes, image::ImageFormat::Jpeg).unwrap();
    bytes.into_inner()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kill_in_the_middle_costs_nothing() {
    let mut w = world().await;
    let disk = w.house.disks().join("disk");
    for n in 0..150 {
        put(&disk, &format!("2019/IMG_20190412_{:06}.jpg", 100_000 + n), format!("picture {n}").as_bytes()).unwrap();
    }
    let packed: Vec<(String, String)> =
        (0..150).map(|n| (format!("Album/IMG_20200412_{:06}.jpg", 100_000 + n), format!("packed {n}"))).collect();
    let packed: Vec<(&str, &[u8])> = packed.iter().map(|(name, bytes)| (name.as_str(), bytes.as_bytes())).collect();
    put(&disk, "export.zip", &zip_of(&packed)).unwrap();
    for in_place in [true, false] {
        let plan = w.plan(&disk, in_place).await;
        assert_eq!(files(&plan, "files"), 300);
        if in_place {
            assert_eq!(w.order(&plan, "begin").await.0, 200);
            for some in [40, 200] {
                wait_for("some of it", 60, async || Ok((library_files(&w.house).len() >= some).then_some(()))).await.unwrap();
                w.house.kill_service();
                w.house.start_service().await.unwrap();
            }
            let done = w.adoption_in(plan["id"].as_str().unwrap(), &["done", "paused"]).await;
            assert_eq!(files(&done, "failed"), 0, "{done}");
            assert_eq!(files(&done, "pointed") + files(&done, "copied") + files(&done, "present"), 300, "{done}");
        } else {
            assert_eq!(files(&plan, "known"), 300, "all of it is here");
        }
    }
    let overview = w.keeper.overview().await.unwrap();
    assert_eq!(overview.home.count, 300);
    let names = library_files(&w.house);
    assert!(names.len() == 300 && names.iter().all(|n| !n.contains("(2)")), "each is here once: {}", names.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quota_stops_it_with_a_reason_and_it_goes_on() {
    let w = world().await;
    let disk = w.house.disks().join("disk");
    for n in 0..5 {
        put(&disk, &format!("IMG_20190412_10153{n}.jpg"), &[n; 400]).unwrap();
    }
    let juno = format!("api/people/{}", w.juno().await);
    w.keeper.ask(Method::PATCH, &juno, Some(json!({ "quota": 900 }))).await.unwrap();
    let plan = w.plan(&disk, false).await;
    assert_eq!(plan["room"], json!(900));
    let stopped = w.run(&plan).await;
    assert_eq!(stopped["state"], "paused", "{stopped}");
    assert!(stopped["problem"].as_str().unwrap().contains("quota"), "{stopped}");
    assert!(library_files(&w.house).len() <= 2);
    let begin = w.order(&stopped, "begin").await;
    assert_eq!(begin.0, 409, "{begin:?}");
    w.keeper.ask(Method::PATCH, &juno, Some(json!({ "quota": 0 }))).await.unwrap();
    assert_eq!(w.order(&stopped, "resume").await.0, 200);
    let done = w.adoption_in(plan["id"].as_str().unwrap(), &["done", "paused"]).await;
    assert_eq!((files(&done, "copied"), files(&done, "failed")), (5, 0), "{done}");
}

#[tokio::test(flavor = "multi_thread")]
async fn tricks_in_archives_reach_nothing() {
    let w = world().await;
    let disk = w.house.disks().join("tricks");
    let whole = zip_of(&[("a 2019-06-20.jpg", b"first"), ("b 2019-06-20.jpg", b"second")]);
    let mut wrong = whole.clone();
    let at = wrong.windows(8).position(|w| w.starts_with(b"b 2019-0")).unwrap();
    wrong[at + 20] ^= 0x55;
    put(&disk, "cut.zip", &whole[..whole.len() - 30]).unwrap();
    put(&disk, "wrong.zip", &wrong).unwrap();
    put(&disk, "nonsense.tar.gz", &[7; 5000]).unwrap();
    let names: [(&str, &[u8]); 4] = [
        ("../../../up 2019-06-20.jpg", b"up"),
        ("/etc/root 2019-06-20.jpg", b"root"),
        ("c:\\windows\\drive 2019-06-20.jpg", b"drive"),
        ("a\u{202e}gpj.2019-06-20\n.jpg", b"marks"),
    ];
    put(&disk, "names.zip", &zip_of(&names)).unwrap();
    put(&disk, "names.tar.gz", &tar_gz_of(&[("../../../other 2019-06-20.jpg", b"other")])).unwrap();
    put(&disk, "inner.zip", &zip_of(&[("more.zip", &whole)])).unwrap();
    put(&disk, "grows.zip", &zip_of(&[("zeros 2019-06-20.jpg", &vec![0; 100 << 20])])).unwrap();
    let plan = w.plan(&disk, false).await;
    let left = w.files(&plan, "left-out").await;
    assert!(left.iter().any(|(p, why)| p.starts_with("zeros") && why.contains("hundred")), "{left:?}");
    assert!(left.iter().any(|(p, why)| p == "more.zip" && why.contains("within an archive")), "{left:?}");
    let failed = w.files(&plan, "failed").await;
    assert!(failed.iter().any(|(p, why)| p == "cut.zip" && why.contains("cut off")), "{failed:?}");
    assert!(failed.iter().any(|(p, _)| p == "nonsense.tar.gz"), "{failed:?}");
    let done = w.run(&plan).await;
    assert_eq!(done["state"], "done", "{done}");
    let failed = w.files(&done, "failed").await;
    assert!(failed.iter().any(|(p, why)| p.starts_with("b 2019") && why.contains("could not be read")), "{failed:?}");
    let files = library_files(&w.house);
    assert!(files.iter().all(|f| f.starts_with("juno/2019/06/") && !f.contains(['\n', '\u{202e}', ':', '\\'])), "{files:?}");
    assert_eq!(files.len(), 6, "{files:?}");
    let outside = all_of(w.folder.path());
    assert!(outside.keys().all(|p| !p.contains("up 2019") || p.contains("/library/juno/")), "{outside:?}");
    // Tried again, what could not be taken fails again, and nothing else happens.
    assert_eq!(w.order(&done, "try-again").await.0, 200);
    let again = w.adoption_in(done["id"].as_str().unwrap(), &["done"]).await;
    assert_eq!(again["failed"], done["failed"]);
}

#[rstest]
#[case::outside("/etc")]
#[case::up("disks/../data")]
#[case::nothing("disks/nothing")]
#[case::a_picture("disks/here/a.jpg")]
#[case::a_link_out("disks/here/link")]
#[case::relative("here")]
#[tokio::test(flavor = "multi_thread")]
async fn only_what_the_settings_name_is_adopted(#[case] place: &str) {
    let w = world().await;
    put(&w.house.disks(), "here/a.jpg", b"kite").unwrap();
    std::os::unix::fs::symlink("/etc", w.house.disks().join("here/link")).unwrap();
    let place = if place == "here" { place.into() } else { w.folder.path().join(place) };
    let (status, problem) = w.adopt(&place, true).await;
    assert!(matches!(status, 400 | 403), "{status} {problem}");
    let listed = w.keeper.try_ask(Method::GET, &format!("api/adoptions/places?folder={}", place.display()), None).await.unwrap();
    assert!(matches!(listed.0, 400 | 403), "{listed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn places_are_listed_one_folder_at_a_time() {
    let w = world().await;
    put(&w.house.disks(), "old/2019/a.jpg", b"kite").unwrap();
    put(&w.house.disks(), "export.zip", &zip_of(&[("a.jpg", b"kite")])).unwrap();
    put(&w.house.disks(), ".hidden/a.jpg", b"kite").unwrap();
    let top = w.keeper.ask(Method::GET, "api/adoptions/places", None).await.unwrap();
    let first = top["places"][0]["path"].as_str().unwrap();
    let inside = w.keeper.ask(Method::GET, &format!("api/adoptions/places?folder={first}"), None).await.unwrap();
    let names: Vec<_> = inside["places"].as_array().unwrap().iter().map(|p| (p["name"].clone(), p["archive"].clone())).collect();
    assert_eq!(names, [(json!("old"), json!(false)), (json!("export.zip"), json!(true))]);
    assert_eq!(inside["above"], Value::Null);
    let old = w.keeper.ask(Method::GET, &format!("api/adoptions/places?folder={first}/old"), None).await.unwrap();
    assert_eq!(old["above"], json!(w.house.disks().canonicalize().unwrap()));
}
