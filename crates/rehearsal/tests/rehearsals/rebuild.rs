//! The database is gone, or the whole house: the kit brings back the household itself, not only its files.

use std::{collections::BTreeMap, fs, path::PathBuf, process::Output};

use crate::common::{World, put, world_of};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::{device::Device, wait_for, walk::originals_below};
use ypogeion_standins::faults::Faults;

/// A household of two with so many pictures of Juno's and one of Piet's, all proven; one of Juno's is deleted and in holding.
async fn lived_in(count: usize) -> (World, Device) {
    lived_in_with(count, "").await
}

async fn lived_in_with(count: usize, offsite: &str) -> (World, Device) {
    let w = world_of(|o| o.offsite = offsite.to_owned()).await;
    w.add_store().await;
    let piet = json!({ "name": "Piet", "role": "member", "password": "a long password", "quota": 5_000_000 });
    w.keeper.ask(Method::POST, "api/people", Some(piet)).await.unwrap();
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "filing": "year", "safety_stop_percent": 100 }))).await.unwrap();
    let (device, source) = w.computer("desktop").await;
    for n in 0..count {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    let phone = Device::new(&w.folder.path().join("phone"));
    let camera = w.folder.path().join("camera");
    put(&camera, "IMG_1.jpg", b"a kite of Piet's").unwrap();
    phone.pair(&w.keeper.pairing("Piet").await.unwrap(), "Piet's phone", "phone", &[("Camera", &camera)]).await.unwrap();
    phone.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let page = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    let one = &page["originals"][0]["id"];
    w.keeper.ask(Method::POST, "api/holding", Some(json!({ "originals": [one] }))).await.unwrap();
    // Until the ledger says so.
    wait_for("everything to be written down", 30, async || {
        let (work, store) = (w.keeper.ask(Method::GET, "api/work", None).await?, w.keeper.store().await?);
        Ok((work["kinds"].as_array().is_some_and(Vec::is_empty) && store.unlisted == 0).then_some(()))
    })
    .await
    .unwrap();
    (w, device)
}

fn kit(w: &World, text: &str) -> PathBuf {
    let file = w.folder.path().join("kit.txt");
    fs::write(&file, text).unwrap();
    file
}

fn rebuild(w: &World, kit: &PathBuf) -> Output {
    let password = w.folder.path().join("new.password");
    fs::write(&password, "another long password").unwrap();
    std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
        .arg("--config")
        .arg(w.folder.path().join("ypogeiond.toml"))
        .args(["rebuild", "--kit"])
        .arg(kit)
        .arg("--password-file")
        .arg(&password)
        .env("YPOGEION_THROW_AWAY", "1")
        .output()
        .unwrap()
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// The files of the library with their hashes, and their times.
fn files(w: &World) -> BTreeMap<PathBuf, (Digest, std::time::SystemTime)> {
    let library = w.house.library();
    let time = |p: &PathBuf| fs::metadata(library.join(p)).unwrap().modified().unwrap();
    originals_below(&library).unwrap().into_iter().map(|(p, d)| (p.clone(), (d, time(&p)))).collect()
}

/// Everything that was there is there again.
async fn all_home(w: &World, count: u64) {
    wait_for("everything to be home", 90, async || {
        let house = w.keeper.overview().await?;
        let all = house.home.count == count && house.coming.count == 0 && house.exposed.count == 0;
        Ok((all && w.keeper.store().await?.unlisted == 0).then_some(()))
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_is_gone_and_comes_back_with_its_people_devices_and_rules() {
    let (mut w, device) = lived_in(30).await;
    let (before, text) = (files(&w), w.keeper.kit(&w.house.options.keeper.1).await.unwrap());
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    fs::remove_dir_all(w.house.library()).unwrap();

    // A slip in typing, and another household's key in the way, are said before anything is made.
    let broken = rebuild(&w, &kit(&w, &text.replacen("Key: AGE", "Key: AGF", 1)));
    assert_eq!(broken.status.code(), Some(4), "{}", said(&broken));
    let file = kit(&w, &text);
    let done = rebuild(&w, &file);
    assert_eq!(done.status.code(), Some(0), "{}", said(&done));
    assert!(said(&done).contains("31 files of Juno and Piet"), "{}", said(&done));
    // Again does no harm.
    assert_eq!(rebuild(&w, &file).status.code(), Some(0));

    // The service shows the house at once, and what is still to come; killed on the way, it goes on.
    w.house.store.set_faults(Faults { latency_ms: 150, ..Faults::default() });
    w.house.options.keeper.1 = "another long password".into();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let house = w.keeper.overview().await.unwrap();
    assert!(house.coming.count > 0 && house.state.word() == "busy", "{house:?}");
    assert!(house.sentence.ends_with("of 30 files are here again."), "{}", house.sentence);
    let page = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    assert_eq!(page["originals"].as_array().unwrap().len(), 29, "Juno's, without the deleted one");
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    w.house.store.set_faults(Faults { error_percent: 5, cut_percent: 5, ..Faults::default() });
    all_home(&w, 30).await;
    w.house.store.set_faults(Faults::default());
    // What was fetched was opened and right: that is a proof, and nothing has to be read twice.
    assert_eq!(w.keeper.overview().await.unwrap().proven.count, 30);
    wait_for("what was deleted to be in holding again", 30, async || Ok((files(&w).len() == before.len()).then_some(())))
        .await
        .unwrap();
    assert_eq!(files(&w), before, "every file where it was, with its bytes and its time");

    // People, devices and rules are there; devices have to be paired again.
    let people = w.keeper.ask(Method::GET, "api/people", None).await.unwrap();
    let piet = people.as_array().unwrap().iter().find(|p| p["name"] == "Piet").unwrap();
    assert_eq!((&piet["role"], &piet["quota"]), (&json!("member"), &json!(5_000_000)), "{piet}");
    assert!(w.house.sign_in("Piet", "a long password").await.is_err());
    let path = format!("api/people/{}", piet["id"].as_str().unwrap());
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "password": "a new long password" }))).await.unwrap();
    let piet = w.house.sign_in("Piet", "a new long password").await.unwrap();
    assert_eq!(piet.ask(Method::GET, "api/originals", None).await.unwrap()["originals"].as_array().unwrap().len(), 1);
    let rules = w.keeper.ask(Method::GET, "api/household", None).await.unwrap();
    assert_eq!((&rules["filing"], &rules["safety_stop_percent"]), (&json!("%Y/{name}"), &json!(100)), "{rules}");
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    assert_eq!(devices.as_array().unwrap().len(), 2);
    assert!(devices.as_array().unwrap().iter().all(|d| d["revoked_at"].is_string()), "{devices}");
    assert!(device.run(&["backup"]).await.unwrap().code != 0, "its old token is worth nothing");

    // Life goes on: a device is paired again and sends only what is new; the deleted one can be taken back; the ledger goes on.
    let (desktop, source) = w.computer("new desktop").await;
    put(&source, "IMG_0003.jpg", b"the picture of the weir with number 3").unwrap();
    put(&source, "new.jpg", b"after the fire").unwrap();
    let run = desktop.json(&["backup"]).await.unwrap();
    assert_eq!((&run["counts"]["sent"], &run["counts"]["present"]), (&json!(1), &json!(1)), "{run}");
    let held = w.keeper.ask(Method::GET, "api/holding", None).await.unwrap();
    w.keeper.ask(Method::POST, "api/holding/back", Some(json!({ "originals": [held["held"][0]["id"]] }))).await.unwrap();
    all_home(&w, 32).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_is_gone_and_the_disk_is_there() {
    let (mut w, _device) = lived_in(12).await;
    let (before, text) = (files(&w), w.keeper.kit(&w.house.options.keeper.1).await.unwrap());
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    // One came after the last segment of the ledger; one was lost from the disk, and one has rotted there.
    let library = w.house.library();
    put(&library, "juno/2026/late.jpg", b"landed after the ledger was written").unwrap();
    let originals: Vec<&PathBuf> = before.keys().filter(|p| p.starts_with("juno")).collect();
    fs::remove_file(library.join(originals[0])).unwrap();
    fs::write(library.join(originals[1]), b"the picture of the weir with number 1x").unwrap();

    let done = rebuild(&w, &kit(&w, &text));
    assert_eq!(done.status.code(), Some(0), "{}", said(&done));
    assert!(said(&done).contains("1 file in the library that no ledger names"), "{}", said(&done));
    w.house.options.keeper.1 = "another long password".into();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    all_home(&w, 13).await;
    let now = files(&w);
    for (path, file) in &before {
        assert_eq!(now.get(path), Some(file), "{}", path.display());
    }
    let new: Vec<_> = now.keys().filter(|p| !before.contains_key(*p)).collect();
    assert_eq!(new, [&PathBuf::from("juno/2026/late.jpg")]);
    let late = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    assert!(late["originals"].as_array().unwrap().iter().any(|o| o["name"] == "late.jpg"), "{late}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_no_store_has_any_more_is_named() {
    let (mut w, device) = lived_in(6).await;
    let text = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    fs::remove_dir_all(w.house.library()).unwrap();
    w.house.store.lose(2).unwrap();
    let done = rebuild(&w, &kit(&w, &text));
    assert!(said(&done).contains("2 of them are not in North Quay any more"), "{}", said(&done));
    w.house.options.keeper.1 = "another long password".into();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let faults = wait_for("both to be named", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let named: Vec<Value> =
            work["faults"].as_array().into_iter().flatten().filter(|f| f["kind"] == "fetch").cloned().collect();
        Ok((named.len() == 2).then_some(named))
    })
    .await
    .unwrap();
    assert!(faults.iter().all(|f| f["about"].as_str().is_some_and(|a| a.contains("IMG_")) && f["due"].is_null()), "{faults:?}");
    assert_eq!(w.keeper.overview().await.unwrap().state.word(), "trouble");
    drop(device);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_part_of_it_can_be_had_without_a_household() {
    let (mut w, _device) = lived_in(5).await;
    let file = kit(&w, &w.keeper.kit(&w.house.options.keeper.1).await.unwrap());
    w.house.stop_service().await.unwrap();
    let recover = |to: &str, more: &[&str]| {
        let output = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
            .args(["recover", "--json", "--kit"])
            .arg(&file)
            .arg("--to")
            .arg(w.folder.path().join(to))
            .args(more)
            .output()
            .unwrap();
        (output.status.code(), said(&output), originals_below(&w.folder.path().join(to)).unwrap().len())
    };
    let (code, text, files) = recover("piet", &["--device", "piet's phone"]);
    assert_eq!((code, files), (Some(0), 1), "{text}");
    let (code, text, files) = recover("juno", &["--member", "juno"]);
    assert_eq!((code, files), (Some(0), 4), "{text}");
    assert!(text.contains("1 file was deleted and left out"), "{text}");
    assert_eq!(recover("juno", &["--member", "juno", "--deleted"]).2, 5);
    // Pictures without a camera's time were taken when their files were made: today.
    let today = chrono::Local::now().date_naive();
    let (yesterday, today) = (today.pred_opt().unwrap().to_string(), today.to_string());
    assert_eq!(recover("days", &["--from", &yesterday, "--until", &today]).2, 5);
    assert_eq!(recover("before", &["--until", "2001-01-01"]).2, 0);
    let (code, text, _) = recover("nobody", &["--device", "a toaster"]);
    assert_eq!(code, Some(2), "{text}");
    assert!(text.contains("there are") && text.contains("Piet's phone"), "{text}");
}

/// The library was filed anew after the last word of the ledger. What lies under its new name is the original, not a copy too many.
#[rstest]
#[case::the_store_is_there(false)]
#[case::the_store_is_out_of_reach(true)]
#[tokio::test(flavor = "multi_thread")]
async fn what_was_filed_anew_after_the_last_ledger_stays_where_it_is(#[case] out_of_reach: bool) {
    let (mut w, _device) = lived_in(6).await;
    let text = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let store = w.keeper.store().await.unwrap().id;
    w.keeper.ask(Method::PATCH, &format!("api/stores/{store}"), Some(json!({ "paused": true }))).await.unwrap();
    let plan = w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "{device}/%Y/{name}" }))).await.unwrap();
    wait_for("the library to be filed anew", 60, async || {
        let all = w.keeper.ask(Method::GET, "api/filing", None).await?;
        Ok(all.as_array().unwrap().iter().any(|r| r["id"] == plan["id"] && r["state"] == "done").then_some(()))
    })
    .await
    .unwrap();
    let before = files(&w);
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    // Two of one: somebody made a copy by hand. Both stay.
    let library = w.house.library();
    let one = before.keys().find(|p| p.starts_with("juno")).unwrap();
    fs::copy(library.join(one), library.join("juno/by hand.jpg")).unwrap();

    let done = rebuild(&w, &kit(&w, &text));
    assert_eq!(done.status.code(), Some(0), "{}", said(&done));
    if out_of_reach {
        w.house.store.set_faults(Faults { outage: true, ..Faults::default() });
    }
    w.house.options.keeper.1 = "another long password".into();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    wait_for("every original to be known at home", 60, async || {
        let house = w.keeper.overview().await?;
        Ok((house.home.count == 6 && house.coming.count == 0).then_some(()))
    })
    .await
    .unwrap();
    let mut now = files(&w);
    assert!(now.remove(&PathBuf::from("juno/by hand.jpg")).is_some(), "what is found twice is kept twice");
    assert_eq!(now, before, "nothing that was at home has gone, or was fetched beside it");
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("both are kept"), "{record}");
    // Every row names a file that is there.
    let page = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    for card in page["originals"].as_array().unwrap() {
        let one = w.keeper.ask(Method::GET, &format!("api/originals/{}", card["id"].as_str().unwrap()), None).await.unwrap();
        assert!(library.join(one["path"].as_str().unwrap()).is_file(), "{one}");
    }
}

/// Waits until the ledgers have said what there is to say.
async fn nothing_left_to_do(w: &World) {
    wait_for("the ledgers to say so", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        Ok(work["kinds"].as_array().is_some_and(Vec::is_empty).then_some(()))
    })
    .await
    .unwrap();
}

/// What a keeper decided reaches the ledgers without any picture, and comes back with the household.
#[rstest]
#[case::by_the_segments("")]
#[case::by_a_checkpoint("checkpoint_after = 1")]
#[tokio::test(flavor = "multi_thread")]
async fn what_was_decided_comes_back_with_the_house(#[case] offsite: &str) {
    let (mut w, _device) = lived_in_with(4, offsite).await;
    let drawer = w.folder.path().join("drawer/red");
    fs::create_dir_all(&drawer).unwrap();
    let disk = json!({ "name": "Red disk", "endpoint": format!("file://{}", drawer.display()), "away": false });
    w.keeper.ask(Method::POST, "api/stores", Some(disk)).await.unwrap();
    let quay = w.keeper.store().await.unwrap().id;
    let night = json!({ "days": [], "from": "01:00", "until": "05:00", "pace": { "may": "full" } });
    let week = json!({ "windows": [night], "otherwise": { "may": "limited", "rate": 500_000 } });
    let prices = json!({ "currency": "€", "storage": 6.0, "free_storage": 0.0, "writing": 0.0, "reading": 2.0, "egress": 10.0,
        "free_egress": 0.0, "minimum_days": 30, "fee": 1.5 });
    for change in [json!({ "week": week }), json!({ "prices": prices })] {
        let (status, said) = w.keeper.try_ask(Method::PATCH, &format!("api/stores/{quay}"), Some(change)).await.unwrap();
        assert_eq!(status, 200, "{said}");
    }
    let aunt = ypogeion_offsite::Identity::generate();
    let add = json!({ "recipient": aunt.recipient(), "name": "Aunt Ida", "password": w.house.options.keeper.1 });
    w.keeper.ask(Method::POST, "api/key/recipients", Some(add)).await.unwrap();
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": "offsite", "home_days": 90 }))).await.unwrap();
    let liked =
        w.sql("SELECT o.id FROM original o JOIN person p ON p.id = o.person WHERE p.name = 'Juno' AND o.held_at IS NULL ORDER BY o.path LIMIT 2");
    let liked: Vec<&str> = liked.lines().collect();
    w.keeper.ask(Method::POST, "api/favourites", Some(json!({ "pictures": liked, "favourite": true }))).await.unwrap();
    let words = json!({ "pictures": liked, "title": "The weir", "caption": "In flood,\nafter the thaw" });
    w.keeper.ask(Method::POST, "api/words", Some(words)).await.unwrap();
    w.keeper.ask(Method::POST, "api/words", Some(json!({ "pictures": liked[1..], "title": "", "caption": "" }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/put-away", Some(json!({ "pictures": liked[1..], "away": true }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/places", Some(json!({ "pictures": liked[..1], "at": [52.158, 4.486] }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/places", Some(json!({ "pictures": liked[1..], "nowhere": true }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/times", Some(json!({ "pictures": liked[1..], "later_by": -86_400 * 365 }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/turns", Some(json!({ "pictures": liked[..1], "quarters": -1 }))).await.unwrap();
    let made = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites", "words": "by the sea" }))).await.unwrap();
    let kites = format!("api/albums/{}", made["id"].as_str().unwrap());
    let put = json!({ "pictures": liked, "inside": true });
    assert_eq!(w.keeper.ask(Method::POST, &format!("{kites}/pictures"), Some(put)).await.unwrap()["count"], 2);
    let people = w.keeper.ask(Method::GET, &kites, None).await.unwrap()["people"].clone();
    let share = json!({ "household": "look", "cover": liked[1], "with": [{ "person": people[0]["person"], "may": "add" }] });
    w.keeper.ask(Method::PATCH, &kites, Some(share)).await.unwrap();
    let arranged =
        json!({ "steps": [{ "words": "In the morning" }, { "picture": liked[1] }, { "picture": liked[0] }], "version": null });
    w.keeper.try_ask(Method::PUT, &format!("{kites}/arrangement"), Some(arranged)).await.unwrap();
    // What somebody outside brought still waits to be looked at.
    let album = made["id"].as_str().unwrap();
    w.sql(&format!(
        "INSERT INTO brought SELECT id, person, '{album}', 'Ada', landed_at FROM original WHERE id = '{}';
         INSERT INTO forward SELECT id, landed_at FROM original WHERE id = '{0}';
         INSERT INTO version VALUES ('{0}', '00000000-0000-7000-8000-000000000001');
         INSERT INTO brought SELECT id, person, NULL, '', landed_at FROM original WHERE id = '{}'",
        liked[0], liked[1]
    ));
    // One that follows a line: what came in by it, and what does not come in again.
    let line = json!({ "name": "Lines", "follows": "img" });
    let lines = w.keeper.ask(Method::POST, "api/albums", Some(line)).await.unwrap()["id"].as_str().unwrap().to_owned();
    let followed = w.sql("SELECT count(*) FROM original o WHERE o.person = (SELECT id FROM person WHERE name = 'Juno') AND o.leads AND o.held_at IS NULL AND NOT o.put_away AND o.searched LIKE '%img%'");
    let followed: usize = followed.trim().parse().unwrap();
    wait_for("what the line finds", 20, async || {
        let album = w.keeper.ask(Method::GET, &format!("api/albums/{lines}"), None).await?;
        Ok((followed > 1 && album["pictures"] == followed).then_some(()))
    })
    .await
    .unwrap();
    let out = json!({ "pictures": liked[..1], "inside": false });
    assert_eq!(w.keeper.ask(Method::POST, &format!("api/albums/{lines}/pictures"), Some(out)).await.unwrap()["count"], 1);
    // One that was removed does not come back.
    let other = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Gulls" }))).await.unwrap();
    let decided = async |w: &World| {
        let albums = w.sql(
            "SELECT a.name, a.words, a.household, a.cover, a.made_at, a.arrangement, a.follows, a.follows_as, i.followed, (SELECT string_agg(x.original::text, ' ') FROM album_without x WHERE x.album = a.id),
                 p.name, s.may, b.name, o.path, i.added_by = a.person, i.added_at
             FROM album a JOIN person p ON p.id = a.person LEFT JOIN album_share s ON s.album = a.id LEFT JOIN person b ON b.id = s.person
             LEFT JOIN album_picture i ON i.album = a.id LEFT JOIN original o ON o.id = i.original ORDER BY a.name, o.path",
        );
        assert_eq!((albums.matches("Kites|").count(), albums.matches("In the morning").count()), (2, 2), "{albums}");
        let kept_out = format!("|{}|", liked[0]);
        assert_eq!(
            (albums.matches("Lines|").count(), albums.matches("|img|named|t|").count(), albums.matches(&kept_out).count()),
            (followed - 1, followed - 1, followed - 1),
            "{albums}"
        );
        let favourites = "SELECT p.name, o.path FROM favourite f JOIN person p ON p.id = f.person JOIN original o ON o.id = f.original ORDER BY 1, 2";
        let favourites = w.sql(favourites);
        assert_eq!(favourites.lines().count(), 2);
        let words = w.sql(
            "SELECT o.path, o.put_away, EXISTS (SELECT FROM forward f WHERE f.original = o.id), (SELECT v.version_of FROM version v WHERE v.original = o.id), w.title, w.caption, p.name, w.written_at FROM original o LEFT JOIN words w ON w.original = o.id AND NOT w.of_file
             LEFT JOIN person p ON p.id = w.written_by WHERE o.put_away OR w.title IS NOT NULL ORDER BY 1",
        );
        assert_eq!(
            (words.matches("Juno").count(), words.matches("|f|t|00000000-0000-7000-8000-000000000001|").count()),
            (2, 1),
            "{words}"
        );
        let given = w.sql(
            "SELECT o.path, o.taken_at, o.taken_local, o.spot, t.seconds, t.given_at, l.north, l.east, l.given_at, p.name, g.quarters, g.given_at, o.facts -> 'turned',
                 o.facts -> 'width', o.facts -> 'height'
             FROM original o LEFT JOIN given_turn g ON g.original = o.id LEFT JOIN given_time t ON t.original = o.id JOIN given_place l ON l.original = o.id JOIN person p ON p.id = l.given_by ORDER BY 1",
        );
        assert_eq!(
            (given.lines().count(), given.matches("-31536000").count(), given.matches("52.158").count()),
            (2, 1, 1),
            "{given}"
        );
        let brought = w.sql(
            "SELECT o.path, a.name, b.brought_by, b.brought_at, b.person = o.person FROM brought b JOIN original o ON o.id = b.original
             LEFT JOIN album a ON a.id = b.album ORDER BY 1",
        );
        assert_eq!((brought.lines().count(), brought.matches("Ada").count()), (2, 1), "{brought}");
        let mut stores = w.keeper.ask(Method::GET, "api/stores", None).await.unwrap();
        let stores: Vec<Value> = stores
            .as_array_mut()
            .unwrap()
            .iter_mut()
            .map(|s| json!([s["name"], s["away"], s["sealed"], s["week"], s["prices"]]))
            .collect();
        let key = w.keeper.ask(Method::GET, "api/key", None).await.unwrap();
        let mut house = w.keeper.ask(Method::GET, "api/household", None).await.unwrap();
        house.as_object_mut().unwrap().remove("plans");
        let people = w.keeper.ask(Method::GET, "api/people", None).await.unwrap();
        let people: Vec<Value> = people
            .as_array()
            .unwrap()
            .iter()
            .map(|p| json!([p["name"], p["role"], p["folder"], p["quota"], p["soft_quota"]]))
            .collect();
        json!({ "albums": albums, "favourites": favourites, "words": words, "given": given, "brought": brought, "stores": stores, "others": key["others"], "house": house, "people": people, "checksums": w.sql("SELECT name, checksum FROM store ORDER BY name") })
    };
    // Every line, as it was written: people are told what is said several times on a day once.
    let record =
        |w: &World| -> Vec<String> { w.sql("SELECT at, who, what FROM record ORDER BY id").lines().map(str::to_owned).collect() };
    // Said once by the ledgers, and then no more.
    nothing_left_to_do(&w).await;
    w.keeper.try_ask(Method::DELETE, &format!("api/albums/{}", other["id"].as_str().unwrap()), None).await.unwrap();
    let (before, lines) = (decided(&w).await, record(&w));
    // No picture came; the ledgers say it all the same.
    nothing_left_to_do(&w).await;
    let text = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    nothing_left_to_do(&w).await;
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    let done = rebuild(&w, &kit(&w, &text));
    assert_eq!(done.status.code(), Some(0), "{}", said(&done));
    w.house.options.keeper.1 = "another long password".into();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    assert_eq!(decided(&w).await, before);
    // Who did it, and when, is known as well, and goes on after that.
    let after = record(&w);
    let decided = |line: &&String| line.contains("Red disk") || line.contains("North Quay") || line.contains("Aunt Ida");
    assert!(lines.iter().filter(decided).count() >= 4, "{lines:#?}");
    let last = lines.iter().rposition(|l| decided(&l)).unwrap();
    assert_eq!(after[..=last], lines[..=last]);
    let signed_in = after.iter().rposition(|l| l.contains("signed in")).unwrap();
    assert!(signed_in > last, "{after:#?}");
}
