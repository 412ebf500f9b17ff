//! What happened, as people read it: what says the same thing is told once for each day.

use std::sync::{Arc, Mutex};

use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{house::Console, wait_for};

use crate::common::{self, metadata, world};

async fn run_of(phone: &common::Raw, sent: u64, failed: u64) -> String {
    let begun = phone.send("POST", "api/device/runs", &[], b"").await;
    let run = serde_json::from_str::<Value>(&begun.body).unwrap()["run"].as_str().unwrap().to_owned();
    let counts =
        json!({ "checked": 9, "sent": sent, "present": 9 - sent - failed, "skipped": 0, "failed": failed, "bytes": sent * 4 });
    let report = json!({ "counts": counts, "ended": true }).to_string();
    let said =
        phone.send("PATCH", &format!("api/device/runs/{run}"), &[("content-type", "application/json")], report.as_bytes()).await;
    assert_eq!(said.status, 204, "{}", said.body);
    run
}

#[tokio::test(flavor = "multi_thread")]
async fn a_day_of_backups_that_found_nothing_is_one_line() {
    let w = world().await;
    let (phone, tablet) = (w.raw_device("phone").await, w.raw_device("tablet").await);
    for (sent, failed) in [(0, 0), (0, 0), (3, 0), (0, 0), (0, 2)] {
        run_of(&phone, sent, failed).await;
    }
    let last = run_of(&tablet, 0, 0).await;
    // One that goes on found nothing yet, which is something else.
    phone.send("POST", "api/device/runs", &[], b"").await;

    let ask = async |path: &str| w.keeper.ask(Method::GET, path, None).await;
    let all = ask("api/runs").await.unwrap();
    assert_eq!(all.as_array().unwrap().len(), 7);
    assert!(all.as_array().unwrap().iter().all(|r| r["alike"] == 0));
    let folded = ask("api/runs?folded=true").await.unwrap();
    let told: Vec<_> =
        folded.as_array().unwrap().iter().map(|r| (r["state"].as_str().unwrap(), &r["counts"]["sent"], &r["alike"])).collect();
    let (zero, two) = (json!(0), json!(2));
    assert_eq!(
        told,
        [
            ("running", &zero, &zero),
            ("complete", &zero, &zero),
            ("partly", &zero, &zero),
            ("complete", &zero, &two),
            ("complete", &json!(3), &zero)
        ],
        "the phone’s three are one, and the tablet’s own"
    );
    assert_eq!(folded[1]["id"], json!(last));
    assert_eq!(
        ask("api/runs?folded=true&limit=2").await.unwrap().as_array().unwrap().len(),
        2,
        "lines are counted, and not runs"
    );

    let (device, day) = (folded[3]["device"].as_str().unwrap(), folded[3]["day"].as_str().unwrap());
    let each = ask(&format!("api/runs?device={device}&day={day}")).await.unwrap();
    assert_eq!(each.as_array().unwrap().len(), 6, "each of that device and day, and none of another");
    assert_eq!(ask(&format!("api/runs?device={device}&day=2019-02-03")).await.unwrap(), json!([]));
    for wrong in
        [format!("api/runs?day={day}"), format!("api/runs?device={device}&day=2026-13-01"), "api/runs?folded=perhaps".into()]
    {
        let said = w.keeper.try_ask(Method::GET, &wrong, None).await.unwrap();
        assert_eq!(said.0, 400, "{wrong}: {said:?}");
    }
    // Another device of the household is told of its own day, whatever it asks for.
    let other = tablet.send("GET", &format!("api/runs?device={device}&day={day}"), &[], b"").await;
    let other: Value = serde_json::from_str(&other.body).unwrap();
    assert_eq!((other.as_array().unwrap().len(), &other[0]["id"]), (1, &json!(last)));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_several_times_on_a_day_is_said_once() {
    let w = world().await;
    for _ in 0..3 {
        w.house.keeper().await.unwrap();
    }
    w.raw_device("phone").await;
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap();
    let of = |what: &str| {
        record.as_array().unwrap().iter().filter(|l| l["what"] == what).map(|l| l["times"].as_u64().unwrap()).collect::<Vec<_>>()
    };
    let (signed_in, paired) = (of("signed in"), of("paired phone"));
    assert!(signed_in.len() == 1 && signed_in[0] >= 4, "{record}");
    assert_eq!(paired, [1]);
    let newest = record[0]["at"].as_str().unwrap();
    assert!(record.as_array().unwrap().iter().all(|l| l["at"].as_str().unwrap() <= newest), "newest first");
}

/// What somebody's open page is told, as it is told.
async fn listen(who: &Console) -> Arc<Mutex<String>> {
    let heard = Arc::new(Mutex::new(String::new()));
    let (mut events, told) = (who.open("api/events").await.unwrap(), Arc::clone(&heard));
    tokio::spawn(async move {
        while let Ok(Some(some)) = events.chunk().await {
            told.lock().unwrap().push_str(&String::from_utf8_lossy(&some));
        }
    });
    heard
}

/// A page is told which picture, month and device changed, and only of what its reader may see.
#[tokio::test(flavor = "multi_thread")]
async fn pages_are_told_what_changed() {
    let w = world().await;
    let paul = json!({ "name": "Paul", "role": "member", "password": "three small boats" });
    w.keeper.ask(Method::POST, "api/people", Some(paul)).await.unwrap();
    let paul = w.house.sign_in("Paul", "three small boats").await.unwrap();
    let phone = w.raw_device("phone").await;
    let (of_juno, of_paul) = (listen(&w.keeper).await, listen(&paul).await);
    wait_for("both to listen", 10, async || {
        Ok([&of_juno, &of_paul].iter().all(|h| h.lock().unwrap().contains("retry:")).then_some(()))
    })
    .await
    .unwrap();
    let path = phone.create(4, &metadata(&[("filename", "IMG_20190412_101530.jpg"), ("source", "Camera")])).await;
    assert_eq!(phone.append(&path, 0, b"kite").await.status, 204);
    let all = w.keeper.ask(Method::GET, "api/originals?limit=5", None).await.unwrap();
    let id = all["originals"][0]["id"].as_str().unwrap().to_owned();
    let told = wait_for("the picture to be told", 30, async || {
        let heard = of_juno.lock().unwrap().clone();
        Ok((heard.contains(&id) && heard.contains("event: devices")).then_some(heard))
    })
    .await
    .unwrap();
    assert!(told.contains(r#"event: originals"#) && told.contains(r#""months":["2019-04"]"#), "{told}");
    assert!(!told.contains("event: library"), "not all of it: {told}");
    // The other member hears that numbers changed, and nothing of whose.
    let said = wait_for("the other to hear something", 30, async || {
        let heard = of_paul.lock().unwrap().clone();
        Ok(heard.contains("event: overview").then_some(heard))
    })
    .await
    .unwrap();
    for of_others in ["event: originals", "event: devices", "event: runs", id.as_str()] {
        assert!(!said.contains(of_others), "{of_others}: {said}");
    }
}

/// Whoever looks at the background work reads what each kind of it does.
#[test]
fn each_kind_of_work_has_words() {
    let page = include_str!("../../../../console/src/pages/activity.tsx");
    let words = page.split_once("const WORK").unwrap().1.split_once("};").unwrap().0;
    for kind in ypogeion_catalog::work::Kind::ALL {
        assert!(words.contains(&format!("  {}: \"", kind.word())), "{}", kind.word());
    }
    assert_eq!(words.lines().filter(|l| l.contains(": \"")).count(), ypogeion_catalog::work::Kind::ALL.len());
}
