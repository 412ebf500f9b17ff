//! What the house says of itself, against what is so.

use std::fs;

use crate::common::{World, put, world};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::wait_for;

async fn only_device(w: &World) -> Value {
    w.keeper.ask(Method::GET, "api/devices", None).await.unwrap()[0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn thirty_refused_pictures_are_not_all_here() {
    let w = world().await;
    let me = w.keeper.ask(Method::GET, "api/people", None).await.unwrap()[0]["id"].clone();
    let path = format!("api/people/{}", me.as_str().unwrap());
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "quota": 500 }))).await.unwrap();
    let (device, source) = w.computer("desktop").await;
    for n in 0..30 {
        put(&source, &format!("IMG_{n:02}.jpg"), format!("a picture {n:02} {}", "x".repeat(600)).as_bytes()).unwrap();
    }
    let run = device.run(&["backup"]).await.unwrap();
    assert_ne!(run.code, 0, "{}", run.out);
    let d = only_device(&w).await;
    assert_eq!((&d["has"], &d["home"], &d["refused"], &d["to_come"]), (&json!(30), &json!(0), &json!(30), &json!(0)), "{d}");
    assert!(d["refused_why"].as_str().unwrap().contains("quota"), "{d}");
    let house = w.keeper.overview().await.unwrap();
    assert_eq!(
        (house.state.word(), house.sentence.as_str()),
        ("look", "30 pictures are only on a device, because they were refused.")
    );
    assert!(house.rest.contains("desktop") && house.rest.contains("quota"), "{}", house.rest);
    let listed =
        w.keeper.ask(Method::GET, &format!("api/devices/{}/coverage?limit=20", d["id"].as_str().unwrap()), None).await.unwrap();
    assert_eq!((listed["missing"].as_array().unwrap().len(), &listed["more"]), (20, &json!(true)));
    // Room is made, and the next backup sends them by itself.
    w.keeper.ask(Method::PATCH, &path, Some(json!({ "quota": 0 }))).await.unwrap();
    device.json(&["backup"]).await.unwrap();
    let d = only_device(&w).await;
    assert_eq!((&d["has"], &d["home"], &d["refused"]), (&json!(30), &json!(30), &json!(0)), "{d}");
    assert!(!w.keeper.overview().await.unwrap().sentence.contains("refused"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_device_has_is_its_last_inventory() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..60 {
        put(&source, &format!("{}/IMG_{n:02}.jpg", if n < 10 { "old" } else { "2026" }), format!("picture {n}").as_bytes())
            .unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    // Five are deleted, and a folder of ten gets another name.
    for n in 10..15 {
        fs::remove_file(source.join(format!("2026/IMG_{n:02}.jpg"))).unwrap();
    }
    fs::rename(source.join("old"), source.join("before")).unwrap();
    device.json(&["backup"]).await.unwrap();
    let d = only_device(&w).await;
    assert_eq!((&d["has"], &d["home"], &d["to_come"]), (&json!(55), &json!(55), &json!(0)), "{d}");
    // Deleted on the device before it was sent: nobody waits for it for ever.
    w.keeper
        .ask(Method::PATCH, &format!("api/people/{}", d["person"].as_str().unwrap()), Some(json!({ "quota": 1 })))
        .await
        .unwrap();
    put(&source, "2026/never.jpg", b"never sent").unwrap();
    device.run(&["backup"]).await.unwrap();
    assert_eq!(only_device(&w).await["refused"], 1);
    fs::remove_file(source.join("2026/never.jpg")).unwrap();
    device.json(&["backup"]).await.unwrap();
    let d = only_device(&w).await;
    assert_eq!((&d["has"], &d["home"], &d["refused"], &d["to_come"]), (&json!(55), &json!(55), &json!(0), &json!(0)), "{d}");
    let listed = w.keeper.ask(Method::GET, &format!("api/devices/{}/coverage", d["id"].as_str().unwrap()), None).await.unwrap();
    assert_eq!(listed["missing"], json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn well_is_said_when_every_fact_says_so() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "a.jpg", b"kite").unwrap();
    device.json(&["backup"]).await.unwrap();
    let said = async || w.keeper.overview().await.unwrap();
    assert_eq!(said().await.sentence, "Nothing has a copy offsite yet.");
    w.add_store().await;
    w.keeper.wait_until_proven(60).await.unwrap();
    let house = said().await;
    assert_eq!((house.state.word(), house.sentence.as_str()), ("look", "The recovery kit was never printed."));
    w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let house = said().await;
    assert_eq!((house.state.word(), house.sentence.as_str()), ("well", "Everything is safe, at home and offsite."));
    // A phone that came every day, and has been silent for five.
    let id = only_device(&w).await["id"].as_str().unwrap().to_owned();
    w.sql(&format!(
        "INSERT INTO run (id, device, began_at, reported_at, ended_at)
         SELECT gen_random_uuid(), '{id}', now() - n * interval '1 day', now() - n * interval '1 day', now() - n * interval '1 day'
         FROM generate_series(5, 20) AS n"
    ));
    w.sql(&format!(
        "DELETE FROM run_entry WHERE run IN (SELECT id FROM run WHERE device = '{id}' AND began_at > now() - interval '2 days')"
    ));
    w.sql(&format!("DELETE FROM run WHERE device = '{id}' AND began_at > now() - interval '2 days'"));
    w.sql(&format!("UPDATE device SET seen_at = now() - interval '5 days' WHERE id = '{id}'"));
    let house = said().await;
    assert_eq!(
        (house.state.word(), house.sentence.as_str()),
        ("look", "desktop has not been seen for 5 days, longer than usual.")
    );
    w.sql(&format!("UPDATE device SET seen_at = now() WHERE id = '{id}'"));
    assert_eq!(said().await.state.word(), "well");
    // A drill that could not be done.
    w.house.store.set_faults(ypogeion_standins::faults::Faults::default());
    w.sql("INSERT INTO audit (id, place, kind, wanted_at, ended_at, failed, said) SELECT gen_random_uuid(), id, 'drill', now(), now(), true, 'Its ledger cannot be read' FROM store");
    let house = said().await;
    assert_eq!((house.state.word(), house.sentence.as_str()), ("look", "The last drill of North Quay could not be done."));
    assert!(house.rest.starts_with("Its ledger cannot be read."), "{}", house.rest);
    w.check(true, "drill").await;
    wait_for("the lamp to say so", 30, async || Ok((said().await.state.word() == "well").then_some(()))).await.unwrap();
}
