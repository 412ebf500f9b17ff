//! Three copies, two kinds of place, one away from home: counted from what was observed. And what the copies cost.

use std::fs;

use crate::{
    common::{World, put, world},
    library::Looking,
};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{house::Console, wait_for};

async fn disk(w: &World, away: bool) -> Value {
    let place = w.folder.path().join("drawer/red-disk");
    fs::create_dir_all(&place).unwrap();
    let form = json!({ "name": "Red disk", "endpoint": format!("file://{}", place.display()), "away": away });
    w.keeper.ask(Method::POST, "api/stores", Some(form)).await.unwrap()
}

async fn backup(w: &World, names: &[&str]) {
    let (device, source) = w.computer("desktop").await;
    for name in names {
        put(&source, name, format!("the picture {name}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
}

/// The rule, once every store holds so many.
async fn rule(w: &World, held: u64) -> Value {
    wait_for("the stores to hold everything", 60, async || {
        let stores = w.keeper.ask(Method::GET, "api/stores", None).await?;
        Ok(stores.as_array().ok_or("no stores")?.iter().all(|s| s["held"]["count"] == held && s["unlisted"] == 0).then_some(()))
    })
    .await
    .unwrap();
    w.keeper.ask(Method::GET, "api/overview", None).await.unwrap()["three_two_one"].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_in_the_house_is_a_copy_and_is_not_away() {
    let w = world().await;
    let red = disk(&w, false).await;
    assert_eq!(red["away"], false, "{red}");
    backup(&w, &["a.jpg", "b.jpg", "c.jpg"]).await;
    let said = rule(&w, 3).await;
    assert_eq!((&said["met"]["count"], &said["short"][0]["amount"]["count"]), (&json!(0), &json!(3)), "{said}");
    assert_eq!(said["short"][0]["places"], json!(["home", "Red disk"]), "{said}");
    assert_eq!(said["short"][0]["needs"], "needs 1 more copy, offsite", "{said}");
    // So nothing is offsite: not in the picture of the house, and not for a device that would like to remove its own.
    let overview = w.keeper.overview().await.unwrap();
    assert_eq!((overview.home.count, overview.offsite.count, overview.exposed.count), (3, 0, 3));
    let page = w.keeper.ask(Method::GET, "api/originals?limit=10", None).await.unwrap();
    assert_eq!(page["originals"][0]["layer"], "home", "{page}");
    let id = page["originals"][0]["id"].as_str().unwrap().to_owned();
    let one = w.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap();
    assert_eq!((&one["layer"], &one["needs"]), (&json!("home"), &json!("needs 1 more copy, offsite")), "{one}");

    w.add_store().await;
    let said = rule(&w, 3).await;
    assert_eq!((&said["met"]["count"], &said["short"]), (&json!(3), &json!([])), "{said}");
    w.keeper.wait_until_proven(60).await.unwrap();

    // The store loses one, and has no room to take it again: the rule is not met by that one, by name.
    let stores = w.keeper.ask(Method::GET, "api/stores", None).await.unwrap();
    let quay = stores.as_array().unwrap().iter().find(|s| s["name"] == "North Quay").unwrap()["id"].clone();
    w.house.store.lose(1).unwrap();
    let check = json!({ "store": quay, "kind": "listing" });
    w.house.store.set_faults(ypogeion_standins::faults::Faults { full: true, ..Default::default() });
    w.keeper.ask(Method::POST, "api/checks", Some(check)).await.unwrap();
    let said = wait_for("the loss to be seen", 60, async || {
        let said = w.keeper.ask(Method::GET, "api/overview", None).await?["three_two_one"].clone();
        Ok((said["met"]["count"] == 2).then_some(said))
    })
    .await;
    let said = match said {
        Ok(said) => said,
        Err(e) => panic!("{e}: {}", w.keeper.ask(Method::GET, "api/checks", None).await.unwrap()),
    };
    assert_eq!(said["short"][0]["amount"]["count"], 1, "{said}");
    let short = w.keeper.ask(Method::GET, "api/copies/short?limit=1", None).await.unwrap();
    let listed = short["files"].as_array().unwrap();
    assert_eq!(listed.len(), 1);
    assert_eq!((&listed[0]["places"], &listed[0]["person"]), (&json!(["home", "Red disk"]), &json!("Juno")), "{short}");
    let next = short["next"].as_str().unwrap();
    let rest = w.keeper.ask(Method::GET, &format!("api/copies/short?after={next}"), None).await.unwrap();
    assert_eq!((&rest["files"], &rest["next"]), (&json!([]), &Value::Null), "{rest}");
    let (status, _) = w.keeper.try_ask(Method::GET, "api/copies/short?after=nowhere", None).await.unwrap();
    assert_eq!(status, 400);

    // Carried to another house, the disk counts as what it is.
    let id = red["id"].as_str().unwrap();
    let changed = w.keeper.ask(Method::PATCH, &format!("api/stores/{id}"), Some(json!({ "away": true }))).await.unwrap();
    assert_eq!(changed["away"], true);
    let said = w.keeper.ask(Method::GET, "api/overview", None).await.unwrap();
    assert_eq!(said["three_two_one"]["short"][0]["needs"], "needs 1 more copy", "{said}");
    assert_eq!(said["exposed"]["count"], 0, "{said}");
}

/// Every number of the overview leads to a list of what it counts, and of nothing else.
#[tokio::test(flavor = "multi_thread")]
async fn each_number_leads_to_what_it_counts() {
    let w = world().await;
    w.add_store().await;
    backup(&w, &["a.jpg", "b.jpg", "c.jpg", "d.jpg", "e.jpg"]).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    // One was proven long ago, one is damaged at home and nobody has a good copy, one is in no store, and one is on its way home.
    w.house.store.set_faults(ypogeion_standins::faults::Faults { outage: true, ..Default::default() });
    let named = |name: &str| format!("(SELECT id FROM original WHERE name = '{name}')");
    w.sql(&format!(
        "UPDATE standing SET proven_at = now() - interval '400 days' WHERE original = {} AND proven_at IS NOT NULL;
         UPDATE standing SET good = false WHERE original = {};
         DELETE FROM standing WHERE original = {} AND place IN (SELECT id FROM store);
         UPDATE standing SET good = false WHERE original = {} AND place NOT IN (SELECT id FROM store);
         INSERT INTO job (kind, key, priority, due) SELECT 'fetch', id, 16, now() + interval '1 day' FROM original WHERE name = 'd.jpg'",
        named("a.jpg"), named("b.jpg"), named("c.jpg"), named("d.jpg")
    ));
    let overview = w.keeper.ask(Method::GET, "api/overview", None).await.unwrap();
    let list = async |which: &str| -> Vec<String> {
        let (mut names, mut after) = (Vec::new(), String::new());
        // A page each, so that the next one is asked for as well.
        for _ in 0..9 {
            let page = w.keeper.ask(Method::GET, &format!("api/copies/{which}?limit=1{after}"), None).await.unwrap();
            names.extend(
                page["files"]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|f| f["path"].as_str().unwrap().rsplit('/').next().unwrap().to_owned()),
            );
            let Some(next) = page["next"].as_str() else { break };
            after = format!("&after={next}");
        }
        names.sort();
        names
    };
    let unproven = overview["offsite"]["count"].as_u64().unwrap() - overview["proven"]["count"].as_u64().unwrap();
    for (which, told, names) in [
        ("home", &overview["home"]["count"], &["a.jpg", "c.jpg", "e.jpg"][..]),
        ("offsite", &overview["offsite"]["count"], &["a.jpg", "d.jpg", "e.jpg"]),
        ("exposed", &overview["exposed"]["count"], &["c.jpg"]),
        ("proven", &overview["proven"]["count"], &["d.jpg", "e.jpg"]),
        ("unproven", &json!(unproven), &["a.jpg"]),
        ("damaged", &overview["damaged"], &["b.jpg"]),
        ("coming", &overview["coming"]["count"], &["d.jpg"]),
    ] {
        assert_eq!(
            (list(which).await, told),
            (names.iter().map(|n| (*n).to_owned()).collect(), &json!(names.len())),
            "{which}: {overview}"
        );
    }
    assert_eq!(w.keeper.try_ask(Method::GET, "api/copies/everything", None).await.unwrap().0, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_cost_follows_from_the_prices_and_from_what_is_there() {
    let w = world().await;
    w.add_store().await;
    backup(&w, &["a.jpg", "b.jpg"]).await;
    rule(&w, 2).await;
    let before = w.keeper.store().await.unwrap();
    assert!(before.cost.is_none(), "nobody has said what it asks for");
    let prices = json!({ "currency": "€", "storage": 1e6, "free_storage": 0.0, "writing": 0.0, "reading": 2.0, "egress": 5e5,
                         "free_egress": 0.0, "minimum_days": 30, "fee": 1.5 });
    let path = format!("api/stores/{}", before.id);
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "prices": prices }))).await.unwrap();
    let cost = w.keeper.store().await.unwrap().cost.unwrap();
    // What really lies there, byte by byte.
    let objects = ypogeion_rehearsal::walk::originals_below(&w.house.store_folder().join("sealed")).unwrap();
    let sealed: u64 = objects.keys().map(|p| fs::metadata(w.house.store_folder().join("sealed").join(p)).unwrap().len()).sum();
    let gigabytes = sealed as f64 / 1e9;
    let close = |a: f64, b: f64| (a - b).abs() < 1e-9 * b.abs().max(1.0);
    assert!(close(cost.keeping, gigabytes * 1e6), "{cost:?}");
    assert!(close(cost.recovery, gigabytes * 5e5 + 2.0 / 1000.0 * 2.0), "{cost:?}");
    assert!(cost.month > cost.keeping + 1.4 && cost.year > 11.9 * cost.month && cost.early == 0.0, "{cost:?}");
    for bad in [json!(-1.0), json!(1e12)] {
        let mut wrong = prices.clone();
        wrong["egress"] = bad;
        let (status, said) = w.keeper.try_ask(Method::PATCH, &path, Some(json!({ "prices": wrong }))).await.unwrap();
        assert_eq!(status, 400, "{said}");
    }
    // Another change leaves the prices alone, and the other way round.
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "paused": true }))).await.unwrap();
    let after = w.keeper.store().await.unwrap();
    assert_eq!((after.state.word(), after.prices.fee), ("paused", 1.5));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_sent_and_how_exposed_the_house_was_is_kept_hour_by_hour() {
    let w = world().await;
    backup(&w, &["a.jpg", "b.jpg", "c.jpg"]).await;
    let alone = w.keeper.ask(Method::GET, "api/history", None).await.unwrap();
    assert_eq!((&alone["exposure"][0]["originals"], &alone["traffic"]), (&json!(3), &json!([])), "{alone}");
    w.add_store().await;
    rule(&w, 3).await;
    let after = w.keeper.ask(Method::GET, "api/history", None).await.unwrap();
    assert_eq!(after["exposure"][0]["originals"], 3, "the worst of the hour stays: {after}");
    let objects = w.house.store_folder().join("sealed");
    let sealed: u64 = ypogeion_rehearsal::walk::originals_below(&objects)
        .unwrap()
        .keys()
        .map(|p| fs::metadata(objects.join(p)).unwrap().len())
        .sum();
    let sent: u64 = after["traffic"].as_array().unwrap().iter().map(|t| t["bytes"].as_u64().unwrap()).sum();
    assert_eq!((sent, &after["traffic"][0]["name"]), (sealed, &json!("North Quay")), "{after}");
}

/// A house with two files that were proven, and somebody else in it; the id of the first file, and the path of its copy.
async fn proven() -> (World, Console, String, String) {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    let picture = image::RgbImage::from_fn(64, 48, |x, y| image::Rgb([x as u8 * 4, y as u8 * 5, 90]));
    picture.save(source.join("a.png")).unwrap();
    put(&source, "b.jpg", b"the picture b").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let id = w.sql("SELECT id FROM original WHERE name = 'a.png'").trim().to_owned();
    let store = w.sql("SELECT id FROM store").trim().to_owned();
    let path = format!("api/originals/{id}/copies/{store}");
    (w, piet, id, path)
}

/// What is left of files that were on their way.
fn parts(w: &World) -> Vec<String> {
    let (mut folders, mut parts) = (vec![w.house.library()], Vec::new());
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            match entry.path() {
                path if path.is_dir() => folders.push(path),
                path if path.extension().is_some_and(|e| e == "part") => parts.push(path.display().to_string()),
                _ => {}
            }
        }
    }
    parts
}

#[tokio::test(flavor = "multi_thread")]
async fn the_copy_in_a_store_is_handed_over_if_each_byte_is_right() {
    let (w, piet, id, path) = proven().await;
    let detail = async || w.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap();
    let store = path.rsplit('/').next().unwrap();
    assert_eq!(detail().await["copies"], json!([{ "store": store, "name": "North Quay" }]));
    let at_home = w.keeper.bytes(&format!("api/originals/{id}/bytes")).await.unwrap();
    let opened = async || {
        w.sql(&format!("SELECT count(*) FROM observation WHERE original = '{id}' AND act = 'opened' AND outcome = 'right'"))
    };
    let before = opened().await;
    for (look, shown) in [("", "attachment"), ("?look=true", "inline")] {
        let answer = w.keeper.open(&format!("{path}{look}")).await.unwrap();
        assert_eq!((answer.status().as_u16(), answer.headers()["cache-control"].to_str().unwrap()), (200, "no-store"));
        assert!(answer.headers()["content-disposition"].to_str().unwrap().starts_with(shown));
        assert_eq!(answer.bytes().await.unwrap(), at_home);
    }
    assert_ne!(opened().await, before, "to have seen it is a proof");
    assert_eq!(parts(&w), Vec::<String>::new());
    // Nobody else's, no other store, not of what is not there.
    let status = async |who: &Console, path: &str| who.try_ask(Method::GET, path, None).await.unwrap();
    let nobody = "00000000-0000-7000-8000-000000000001";
    assert_eq!(status(&piet, &path).await.0, 404);
    assert_eq!(status(&w.keeper, &path.replace(store, nobody)).await.0, 404);
    assert_eq!(status(&w.keeper, &path.replace(&id, nobody)).await.0, 404);
    // A store that is paused, and one that does not answer: nothing is noted of its copies by that.
    let pause = async |paused: bool| {
        w.keeper.ask(Method::PATCH, &format!("api/stores/{store}"), Some(json!({ "paused": paused }))).await.unwrap()
    };
    pause(true).await;
    let (was, said) = status(&w.keeper, &path).await;
    assert_eq!((was, said["detail"].as_str()), (409, Some("Nothing can be had from North Quay just now: the store is paused.")));
    pause(false).await;
    // Two wrong bytes, and none at all: said, noted, and replaced by itself.
    let object = w.sql(&format!("SELECT j.name FROM object j JOIN original o USING (digest) WHERE o.id = '{id}'"));
    let file = w.house.store_folder().join(object.trim());
    for damage in ["wrong", "missing"] {
        if damage == "wrong" {
            let mut bytes = fs::read(&file).unwrap();
            let middle = bytes.len() / 2;
            bytes[middle..middle + 2].iter_mut().for_each(|b| *b ^= 0x55);
            fs::write(&file, bytes).unwrap();
        } else {
            fs::remove_file(&file).unwrap();
        }
        let (was, said) = status(&w.keeper, &path).await;
        let sentence = "The copy in North Quay is damaged or missing. It was noted, and is replaced by itself.";
        assert_eq!((was, said["detail"].as_str()), (409, Some(sentence)), "{damage}");
        let noted =
            format!("SELECT count(*) FROM observation WHERE original = '{id}' AND act = 'opened' AND outcome = '{damage}'");
        assert_eq!(w.sql(&noted).trim(), "1");
        wait_for("it to be replaced", 60, async || {
            let Ok(copy) = w.keeper.bytes(&path).await else { return Ok(None) };
            Ok((copy == at_home).then_some(()))
        })
        .await
        .unwrap();
    }
    assert_eq!(parts(&w), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_copy_in_a_store_is_seen_beside_the_one_at_home() {
    let (w, _piet, id, _) = proven().await;
    let l = Looking::of(w, &format!("library/{id}")).await;
    l.press("See the copy in North Quay").await;
    l.browser.wait_for_text("Not fetched yet").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("Fetch and compare").await;
    l.browser.wait_for_text("Fetched, opened and compared just now: each byte is the same.").await.unwrap();
    l.until(
        "both to be shown",
        "[...document.querySelectorAll('[role=dialog] figure img')].filter(i => i.naturalWidth === 64).length === 2",
    )
    .await;
    // Keys that turn a picture do not, while something is asked before it.
    l.keys("r").await;
    l.keys("\u{e00c}").await;
    l.until("the question to be gone, and the picture to stay", "document.querySelectorAll('[role=dialog]').length === 1").await;
    assert_eq!(l.w.sql("SELECT count(*) FROM given_turn").trim(), "0");
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
