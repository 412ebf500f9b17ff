//! What happened, as people read it: what says the same thing is told once for each day.

use reqwest::Method;
use serde_json::{Value, json};

use crate::common::{self, world};

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
