//! A bad week, in short: a store that refuses every twentieth request and cuts every hundredth, that is away for a while, and a service that
//! is killed again and again. Everything arrives all the same, and next to nothing twice.
//!
//! The seed is fixed. `CAMPAIGN_ORIGINALS` sets how many originals there are (2,000 for a long run).

use std::time::Duration;

use crate::common::{put, world};
use reqwest::Method;
use ypogeion_demo::scenes::Rng;
use ypogeion_rehearsal::{wait_for, walk};
use ypogeion_standins::faults::Faults;

#[tokio::test(flavor = "multi_thread")]
async fn faults_an_outage_and_kills_lose_nothing_and_send_next_to_nothing_twice() {
    let count: usize = std::env::var("CAMPAIGN_ORIGINALS").ok().and_then(|n| n.parse().ok()).unwrap_or(250);
    let kills = 4 + count / 250;
    let mut w = world().await;
    let (device, source) = w.computer("desktop").await;
    let mut rng = Rng::new(2026);
    for n in 0..count {
        let bytes: Vec<u8> = (0..200 + rng.next() % 4000).map(|_| rng.next() as u8).collect();
        put(&source, &format!("IMG_{n:05}.jpg"), &bytes).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.add_store().await;
    let bad = Faults { error_percent: 5, cut_percent: 1, latency_ms: 20, ..Faults::default() };
    w.house.store.set_faults(bad.clone());
    for kill in 0..kills {
        // Until a share of what is left has gone; then it is killed, wherever it is.
        let before = w.house.store.counts().objects;
        let least = before + 1 + rng.next() % (count as u64 / (2 * kills as u64) + 1);
        wait_for("some to be sent", 120, async || Ok((w.house.store.counts().objects >= least).then_some(()))).await.unwrap();
        w.house.kill_service();
        if kill == kills / 2 {
            w.house.store.set_faults(Faults { outage: true, ..bad.clone() });
            w.house.start_service().await.unwrap();
            w.keeper = w.house.keeper().await.unwrap();
            wait_for("the outage to be noticed", 60, async || {
                Ok((w.keeper.store().await?.state.word() == "failing").then_some(()))
            })
            .await
            .unwrap();
            tokio::time::sleep(Duration::from_secs(2)).await; // An outage has a length; nothing tells when it is long enough.
            w.house.store.set_faults(bad.clone());
            continue;
        }
        w.house.start_service().await.unwrap();
        w.keeper = w.house.keeper().await.unwrap();
    }
    // Still as bad, but for the waits between attempts, which grow to minutes: let go on by the keeper.
    wait_for("everything to be there", 600, async || {
        let store = w.keeper.store().await?;
        if store.state.word() == "failing" {
            w.keeper.ask(Method::POST, &format!("api/stores/{}/resume", store.id), Some(serde_json::json!({}))).await?;
        }
        Ok((store.held.count == count as u64 && store.unlisted == 0).then_some(()))
    })
    .await
    .unwrap();
    let sent = w.house.store.counts().objects;
    // A copy whose confirmation met a fault is sent once more, and what was under way at a kill, too: eight at most each time.
    let unconfirmed = count as u64 / 6 + 8 * kills as u64;
    assert!(sent <= count as u64 + unconfirmed, "{sent} objects were sent for {count} originals and {kills} kills");

    w.house.store.set_faults(Faults::default());
    w.keeper.wait_until_proven(300).await.unwrap();
    let objects = walk::originals_below(&w.house.store_folder().join("sealed")).unwrap();
    assert_eq!(objects.len(), count, "each once, and nothing else");
    w.recovers_all(count).await;
}
