//! Copies leave at the hours and speeds of the house, and wait when they are told to.

use crate::common::{World, put, world};
use chrono::{DateTime, Local, TimeDelta, Utc};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::wait_for;

async fn change(w: &World, change: Value) -> (u16, Value) {
    let id = w.keeper.store().await.unwrap().id;
    w.keeper.try_ask(Method::PATCH, &format!("api/stores/{id}"), Some(change)).await.unwrap()
}

async fn store(w: &World) -> Value {
    w.keeper.ask(Method::GET, "api/stores", None).await.unwrap()[0].clone()
}

async fn backup(w: &World, names: &[&str]) {
    let (device, source) = w.computer(names[0]).await;
    for name in names {
        put(&source, name, format!("the picture {name}").as_bytes()).unwrap();
    }
    assert_eq!(device.json(&["backup"]).await.unwrap()["counts"]["sent"], names.len());
}

async fn held(w: &World, count: u64) {
    wait_for("the copies to be there", 30, async || Ok((w.keeper.store().await?.held.count == count).then_some(())))
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_waits_while_it_is_paused() {
    let w = world().await;
    w.add_store().await;
    backup(&w, &["a.jpg"]).await;
    held(&w, 1).await;
    let (status, paused) = change(&w, json!({ "paused": true })).await;
    assert_eq!((status, &paused["state"]), (200, &json!("paused")));
    backup(&w, &["b.jpg", "c.jpg"]).await;
    // What would have gone has its work put down, and nobody takes it: the service has looked, and sleeps.
    wait_for("the work to be put down", 30, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        Ok(work["kinds"]
            .as_array()
            .is_some_and(|k| k.iter().any(|k| k["kind"] == "replicate" && k["waiting"] == 2))
            .then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(store(&w).await["held"]["count"], 1);
    assert_eq!(store(&w).await["caught_up_at"], Value::Null, "nobody knows when the keeper lets it go on");
    change(&w, json!({ "paused": false })).await;
    held(&w, 3).await;
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("paused sending to North Quay") && record.contains("resumed sending to North Quay"), "{record}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_leaves_in_hours_of_rest_and_everything_after_them() {
    let w = world().await;
    w.add_store().await;
    // Rest from an hour ago until in two hours; whatever the clock says, that is now.
    let at = |hours: i64| (Local::now() + TimeDelta::hours(hours)).format("%H:%M").to_string();
    let rest = json!({ "days": [], "from": at(-1), "until": at(2), "pace": { "may": "rest" } });
    let week = json!({ "windows": [rest], "otherwise": { "may": "full" } });
    let (status, changed) = change(&w, json!({ "week": week })).await;
    assert_eq!((status, &changed["pace"]["may"]), (200, &json!("rest")), "{changed}");
    let until: DateTime<Utc> = changed["pace_until"].as_str().unwrap().parse().unwrap();
    assert!((until - Utc::now() - TimeDelta::hours(2)).abs() < TimeDelta::minutes(2), "{until}");
    backup(&w, &["a.jpg", "b.jpg"]).await;
    wait_for("it to rest", 30, async || Ok((store(&w).await["state"] == "resting").then_some(()))).await.unwrap();
    // Other hours now: at once, not in two hours.
    let (_, changed) =
        change(&w, json!({ "week": { "windows": [], "otherwise": { "may": "limited", "rate": 5_000_000 } } })).await;
    assert_eq!(changed["week"]["otherwise"], json!({ "may": "limited", "rate": 5_000_000 }));
    held(&w, 2).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn weeks_that_cannot_work_are_refused_with_the_reason() {
    let w = world().await;
    w.add_store().await;
    let window = |from: &str, days: Value| json!([{ "days": days, "from": from, "until": "06:00", "pace": { "may": "full" } }]);
    let rest = json!({ "may": "rest" });
    for (week, reason) in [
        (json!({ "windows": [], "otherwise": rest }), "at no hour"),
        (json!({ "windows": [], "otherwise": { "may": "limited", "rate": 1000 } }), "at least 32 kB/s"),
        (json!({ "windows": [], "otherwise": { "may": "limited" } }), "with a rate"),
        (json!({ "windows": window("25:00", json!([])), "otherwise": rest }), "not a time of day"),
        (json!({ "windows": window("22:00", json!(["someday"])), "otherwise": rest }), "Days are"),
    ] {
        let (status, problem) = change(&w, json!({ "week": week })).await;
        assert_eq!(status, 400);
        assert!(problem["detail"].as_str().unwrap().contains(reason), "{problem}");
    }
    assert_eq!(store(&w).await["week"], json!({ "windows": [], "otherwise": { "may": "full", "rate": null } }));
}
