//! What a device with a million files asks of the service. It takes longest, and begins first.

use crate::common::world;
use reqwest::Method;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_wire::device::{LARGEST_OFFER, OfferAnswer, OfferEntry};

/// The most memory that a process has held, in bytes.
fn peak(pid: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
    let peak = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap();
    peak.trim().split(' ').next().unwrap().parse::<u64>().unwrap() * 1024
}

#[tokio::test(flavor = "multi_thread")]
async fn a_million_offers_are_answered_in_little_memory() {
    const MANY: usize = 1_000_000;
    let w = world().await;
    let (device, _) = w.computer("hoarder").await;
    let client = ypogeion_agent::home::Home::open(device.folder()).unwrap().client().unwrap();
    let entry = |n: usize| OfferEntry {
        digest: Digest::of(&n.to_le_bytes()),
        size: 3_000,
        name: format!("IMG_{n:07}.jpg"),
        source: "Camera".into(),
        file_time: None,
    };
    let before = peak(w.house.pid().unwrap());
    for batch in 0..MANY / LARGEST_OFFER {
        let entries: Vec<OfferEntry> = (batch * LARGEST_OFFER..(batch + 1) * LARGEST_OFFER).map(entry).collect();
        assert!(client.offer(entries).await.unwrap().answers.iter().all(|a| *a == OfferAnswer::Want));
    }
    let more = peak(w.house.pid().unwrap()) - before;
    assert!(more < 120_000_000, "{more} bytes more");
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    let hoarder = devices.as_array().unwrap().iter().find(|d| d["name"] == "hoarder").unwrap();
    assert_eq!((&hoarder["has"], &hoarder["home"]), (&json!(MANY), &json!(0)));
    // One batch more than is taken is said, and nothing of it is noted.
    let raw = w.raw_device("phone").await;
    let entries: Vec<_> = (0..=LARGEST_OFFER).map(entry).collect();
    let body = serde_json::to_vec(&json!({ "entries": entries })).unwrap();
    let refused = raw.send("POST", "api/device/offers", &[("content-type", "application/json")], &body).await;
    assert_eq!((refused.status, refused.problem().as_str()), (413, "too-large"));
}
