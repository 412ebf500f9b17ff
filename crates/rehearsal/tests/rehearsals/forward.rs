//! Which file of a picture is shown, as its owner says it.

use fantoccini::Locator;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::{browser::Browser, house::Console, wait_for};

use crate::common::{Raw, World, metadata, world};

fn taken(seed: u64) -> Vec<u8> {
    let time = "2026-04-12T15:10:40".parse().unwrap();
    let shot = camera::Shot::new(camera::Camera::of_device(0), time, scenes::Scene::Weir.place(), &mut scenes::Rng::new(1));
    camera::jpeg(&scenes::draw(scenes::Scene::Weir, seed, 0.0, 320, 240), &shot).unwrap()
}

async fn send(raw: &Raw, name: &str, bytes: &[u8]) -> String {
    let path = raw.create(bytes.len(), &metadata(&[("filename", name), ("source", "Camera")])).await;
    raw.append(&path, 0, bytes).await.header("ypogeion-original").to_owned()
}

/// A picture of Juno's with an edited version and notes, and another one.
async fn house() -> (World, [String; 4]) {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let ids = [
        send(&raw, "IMG_0001.JPG", &taken(1)).await,
        send(&raw, "IMG_0001-edited.JPG", &taken(2)).await,
        send(&raw, "IMG_0001.xmp", b"<x:xmpmeta xmlns:x='adobe:ns:meta/'></x:xmpmeta>").await,
        send(&raw, "IMG_0002.JPG", &taken(3)).await,
    ];
    w.gathered().await;
    (w, ids)
}

async fn forward(w: &World, id: &str, on: bool) -> (u16, Value) {
    w.keeper.try_ask(Method::POST, &format!("api/originals/{id}/forward"), Some(json!({ "forward": on }))).await.unwrap()
}

async fn sheet(w: &World) -> Vec<String> {
    let all = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    let mut names: Vec<String> =
        all["originals"].as_array().unwrap().iter().map(|o| o["name"].as_str().unwrap().to_owned()).collect();
    names.sort();
    names
}

#[tokio::test(flavor = "multi_thread")]
async fn an_older_version_is_brought_forward_with_all_that_was_said_of_the_picture() {
    let (w, [still, edited, notes, other]) = house().await;
    assert_eq!(sheet(&w).await, ["IMG_0001-edited.JPG", "IMG_0002.JPG"]);
    // What is said of the picture, in an album, and liked: all of that is of the picture, whichever file is shown.
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Weirs" }))).await.unwrap();
    let album = format!("api/albums/{}", album["id"].as_str().unwrap());
    w.keeper
        .ask(Method::POST, &format!("{album}/pictures"), Some(json!({ "pictures": [edited], "inside": true })))
        .await
        .unwrap();
    w.keeper.ask(Method::POST, "api/favourites", Some(json!({ "pictures": [edited], "favourite": true }))).await.unwrap();
    w.keeper.ask(Method::POST, "api/words", Some(json!({ "pictures": [edited], "title": "High water" }))).await.unwrap();
    assert_eq!(forward(&w, &still, true).await, (200, json!({ "id": still })));
    assert_eq!(sheet(&w).await, ["IMG_0001.JPG", "IMG_0002.JPG"]);
    let detail = async |id: &str| w.keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap();
    let now = detail(&still).await;
    assert_eq!(
        (&now["brought_forward"], &now["favourite"], &now["words"]["title"], &now["albums"][0]["name"]),
        (&json!(true), &json!(true), &json!("High water"), &json!("Weirs")),
        "{now}"
    );
    let parts: Vec<&Value> = now["parts"].as_array().unwrap().iter().map(|p| &p["can_stand"]).collect();
    assert_eq!((parts, &now["parts"][0]["id"]), (vec![&json!(true), &json!(true), &json!(false)], &json!(still)));
    assert_eq!(w.keeper.ask(Method::GET, &album, None).await.unwrap()["cover"], json!(still));
    // What comes later does not change that.
    let raw = w.raw_device("tablet").await;
    send(&raw, "IMG_0001_edit.JPG", &taken(4)).await;
    w.gathered().await;
    assert!(sheet(&w).await.contains(&"IMG_0001.JPG".to_owned()));
    // Back to the rule.
    assert_eq!(forward(&w, &still, false).await, (200, json!({ "id": edited })));
    assert!(sheet(&w).await.contains(&"IMG_0001-edited.JPG".to_owned()));
    assert_eq!(detail(&edited).await["brought_forward"], false);
    // Notes stand for no picture, and nobody does it with somebody else's.
    assert_eq!(forward(&w, &notes, true).await.0, 404);
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let theirs =
        piet.try_ask(Method::POST, &format!("api/originals/{still}/forward"), Some(json!({ "forward": true }))).await.unwrap();
    assert_eq!(theirs.0, 404);
    // Alone, it stands for itself; many at once leave one that does.
    assert_eq!(forward(&w, &other, true).await, (200, json!({ "id": other })));
    let all = [&still, &edited, &still, &edited].map(|id| forward(&w, id, true));
    futures_util::future::join_all(all).await;
    let standing = w.sql(
        "SELECT count(*), (SELECT count(*) FROM forward f JOIN original b ON b.id = f.original WHERE b.name LIKE 'IMG_0001%') FROM original WHERE name IN ('IMG_0001.JPG', 'IMG_0001-edited.JPG') AND shot = id",
    );
    assert_eq!(standing.trim(), "1|1");
    assert_eq!(w.house.miscounts().unwrap(), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_brought_forward_on_the_pictures_page() {
    let (w, [_, edited, ..]) = house().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join(&format!("library/{edited}")).unwrap().as_str()).await.unwrap();
    browser.wait_for_text("Files of this picture").await.unwrap();
    browser.click("Side by side").await.unwrap();
    browser.wait_for_text("Two files of this picture").await.unwrap();
    wait_for("both pictures", 20, async || {
        let seen = "return [...document.querySelectorAll('[role=dialog] figure img')].filter(i => i.complete && i.naturalWidth > 0).map(i => i.alt)";
        Ok((browser.page.execute(seen, vec![]).await? == json!(["IMG_0001-edited.JPG", "IMG_0001.JPG"])).then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    browser
        .page
        .find(Locator::XPath("//div[@role='dialog'][.//figure]//button[normalize-space()='Close']"))
        .await
        .unwrap()
        .click()
        .await
        .unwrap();
    browser.click("Show this one").await.unwrap();
    browser.wait_for_text("you brought it forward").await.unwrap();
    let title = browser.page.find(Locator::Css("[role=dialog] h2")).await.unwrap().text().await.unwrap();
    assert_eq!(title, "IMG_0001.JPG");
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    browser.click("As before").await.unwrap();
    browser.wait_for_text("IMG_0001-edited.JPG").await.unwrap();
}

async fn version(who: &Console, id: &str, of: Value) -> (u16, Value) {
    who.try_ask(Method::POST, &format!("api/originals/{id}/version"), Some(json!({ "of": of }))).await.unwrap()
}

/// What neither names nor what is in the files tell, their owner says: and takes it back.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_a_version_of_a_picture_because_its_owner_says_so() {
    let (w, [still, edited, notes, other]) = house().await;
    let raw = w.raw_device("tablet").await;
    let [newer, film] = [
        send(&raw, "from the studio.png", &taken(7)).await,
        send(&raw, "MOV_0001.mp4", b"\0\0\0\x18ftypmp42\0\0\0\0mp42isom").await,
    ];
    w.gathered().await;
    assert_eq!(sheet(&w).await, ["IMG_0001-edited.JPG", "IMG_0002.JPG", "MOV_0001.mp4", "from the studio.png"]);
    let favourite = json!({ "pictures": [edited], "favourite": true });
    w.keeper.ask(Method::POST, "api/favourites", Some(favourite)).await.unwrap();
    let juno = &w.keeper;
    // What cannot be: of itself, a film, notes, what is not there, somebody else's.
    for (id, of, status) in [(&film, &still, 400), (&still, &film, 400), (&notes, &other, 400), (&newer, &"0".repeat(32), 404)] {
        assert_eq!(version(juno, id, json!(of)).await.0, status, "{id} of {of}");
    }
    assert_eq!(version(juno, &edited, json!(edited)).await, (200, json!({ "id": edited })), "it is that already");
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    juno.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let theirs = w.raw_device_of("Piet", "phone").await;
    let theirs = send(&theirs, "weir.jpg", &taken(9)).await;
    assert_eq!(version(&piet, &newer, json!(still)).await.0, 404);
    assert_eq!(version(&piet, &theirs, json!(still)).await.0, 404);
    assert_eq!(version(juno, &newer, json!(theirs)).await.0, 404);
    // Said of any of its files, it is of the picture; brought forward, it is shown, and all that was said stays.
    assert_eq!(version(juno, &newer, json!(still)).await.0, 200);
    assert_eq!(forward(&w, &newer, true).await, (200, json!({ "id": newer })));
    assert_eq!(sheet(&w).await, ["IMG_0002.JPG", "MOV_0001.mp4", "from the studio.png"]);
    let now = juno.ask(Method::GET, &format!("api/originals/{newer}"), None).await.unwrap();
    let said: Vec<(&Value, &Value)> =
        now["parts"].as_array().unwrap().iter().map(|p| (&p["name"], &p["said"])).filter(|(_, s)| **s == true).collect();
    assert_eq!((now["parts"].as_array().unwrap().len(), said.len(), &now["favourite"]), (4, 1, &json!(true)), "{now}");
    // It stays so whatever comes, and in a circle; a version of a version is one of the same picture.
    assert_eq!(version(juno, &other, json!(newer)).await.0, 200);
    assert_eq!(version(juno, &still, json!(other)).await.0, 200, "the same picture already");
    send(&raw, "IMG_0001_edit.JPG", &taken(4)).await;
    w.gathered().await;
    assert_eq!(sheet(&w).await.iter().filter(|n| n.ends_with("JPG")).count(), 1, "the tablet's is its own");
    assert_eq!(
        w.sql(&format!("SELECT count(DISTINCT shot) FROM original WHERE id IN ('{newer}', '{still}', '{other}', '{edited}')"))
            .trim(),
        "1"
    );
    // Taken apart, each is what it was.
    assert_eq!(version(juno, &other, Value::Null).await, (200, json!({ "id": other })));
    assert_eq!(version(juno, &newer, Value::Null).await, (200, json!({ "id": newer })));
    assert_eq!(version(juno, &newer, Value::Null).await.0, 200, "twice does no harm");
    let apart = sheet(&w).await;
    for name in ["IMG_0001-edited.JPG", "IMG_0002.JPG", "from the studio.png"] {
        assert!(apart.contains(&name.to_owned()), "{apart:?}");
    }
    assert_eq!(w.sql("SELECT count(*) FROM version").trim(), "0");
    // Both at once, each of the other.
    let (one, two) = tokio::join!(version(juno, &newer, json!(other)), version(juno, &other, json!(newer)));
    assert_eq!((one.0, two.0), (200, 200));
    assert_eq!(w.sql(&format!("SELECT count(DISTINCT shot) FROM original WHERE id IN ('{newer}', '{other}')")).trim(), "1");
    assert_eq!(w.house.miscounts().unwrap(), "");
}

/// From a picture's page, with a file from this computer.
#[tokio::test(flavor = "multi_thread")]
async fn a_newer_version_is_added_on_the_pictures_page() {
    let (w, [.., other]) = house().await;
    let file = w.folder.path().join("from the studio.jpg");
    std::fs::write(&file, taken(7)).unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join(&format!("library/{other}")).unwrap().as_str()).await.unwrap();
    browser.wait_for_text("Add a newer version …").await.unwrap();
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    let field = browser.page.find(Locator::Css("input[aria-label='The newer version']")).await.unwrap();
    field.send_keys(file.to_str().unwrap()).await.unwrap();
    browser.wait_for_text("you brought it forward").await.unwrap();
    let title = async || browser.page.find(Locator::Css("[role=dialog] h2")).await.unwrap().text().await.unwrap();
    assert!(title().await.starts_with("from the studio"));
    assert_eq!(sheet(&w).await, ["IMG_0001-edited.JPG", "from the studio.jpg"]);
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    // Taken apart again, one looks at what was there before.
    browser.click("Take apart").await.unwrap();
    wait_for("the picture as it was", 20, async || Ok((title().await == "IMG_0002.JPG").then_some(()))).await.unwrap();
    assert_eq!(sheet(&w).await, ["IMG_0001-edited.JPG", "IMG_0002.JPG", "from the studio.jpg"]);
    assert_eq!(browser.complaints().await.unwrap(), Vec::<String>::new());
}
