//! Which file of a picture is shown, as its owner says it.

use fantoccini::Locator;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::browser::Browser;

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
    browser.click("Show this one").await.unwrap();
    browser.wait_for_text("you brought it forward").await.unwrap();
    let title = browser.page.find(Locator::Css("[role=dialog] h2")).await.unwrap().text().await.unwrap();
    assert_eq!(title, "IMG_0001.JPG");
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    browser.click("As before").await.unwrap();
    browser.wait_for_text("IMG_0001-edited.JPG").await.unwrap();
}
