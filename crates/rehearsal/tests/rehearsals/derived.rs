//! JPEGs beside HEICs, for readers that know no HEIC.

use std::{fs, path::Path, process::Command};

use crate::common::{Raw, library_files, metadata, world};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_demo::{
    camera::{self, Camera, Shot},
    scenes::{Rng, Scene, draw},
};
use ypogeion_rehearsal::{house::Console, wait_for};

/// A HEIC with true camera data.
fn heic(folder: &Path, seed: u64) -> Vec<u8> {
    let local = chrono::NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(15, 54, 0).unwrap();
    let shot = Shot::new(Camera::of_device(0), local, Scene::Weir.place(), &mut Rng::new(seed));
    let (jpeg, out) = (folder.join("still.jpg"), folder.join("still.heic"));
    fs::write(&jpeg, camera::jpeg(&draw(Scene::Weir, seed, 0.0, 320, 240), &shot).unwrap()).unwrap();
    let made = Command::new("heif-enc").args(["-q", "60"]).arg(&jpeg).arg("-o").arg(&out).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    fs::read(out).unwrap()
}

async fn send(raw: &Raw, name: &str, bytes: &[u8]) -> String {
    let path = raw.create(bytes.len(), &metadata(&[("filename", name)])).await;
    let sent = raw.append(&path, 0, bytes).await;
    sent.header("ypogeion-original").to_owned()
}

async fn derived(keeper: &Console, id: &str) -> Value {
    wait_for("the JPEG", 30, async || {
        let original = keeper.ask(Method::GET, &format!("api/originals/{id}"), None).await?;
        Ok(original["derived"].is_object().then(|| original["derived"].clone()))
    })
    .await
    .unwrap()
}

async fn rule(keeper: &Console, change: Value) {
    keeper.ask(Method::PATCH, "api/household", Some(change)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_jpeg_is_made_beside_a_heic_and_is_no_original() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let bytes = heic(w.folder.path(), 1);
    let id = send(&raw, "IMG_2302.HEIC", &bytes).await;
    // Nobody asked for it yet.
    assert_eq!(w.keeper.try_ask(Method::GET, &format!("api/originals/{id}/derived"), None).await.unwrap().0, 404);
    rule(&w.keeper, json!({ "derive_jpeg": true })).await;
    assert_eq!(derived(&w.keeper, &id).await["name"], "IMG_2302 (from HEIC).jpg");
    let both = ["juno/2026/04/IMG_2302 (from HEIC).jpg", "juno/2026/04/IMG_2302.HEIC"];
    assert_eq!(library_files(&w.house), both);
    let jpeg = w.keeper.bytes(&format!("api/originals/{id}/derived")).await.unwrap();
    assert_eq!(fs::read(w.house.library().join(both[0])).unwrap(), jpeg);
    let picture = image::load_from_memory(&jpeg).unwrap();
    assert_eq!((picture.width(), picture.height()), (320, 240));
    let words = format!("Derived from IMG_2302.HEIC, SHA-256 {}", Digest::of(&bytes));
    assert!(jpeg.windows(words.len()).any(|w| w == words.as_bytes()), "it says what it was made from");
    assert!(jpeg.windows(19).any(|w| w == b"2026:04:12 15:54:00"), "and when that was taken");
    // It counts nowhere, and the original is what it was.
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 1);
    assert_eq!(w.keeper.bytes(&format!("api/originals/{id}/bytes")).await.unwrap(), bytes);
    // What comes from now on has one by itself; its name gives way to an original that has it.
    send(&raw, "IMG_20260413_101530 (from HEIC).jpg", b"an original of this name").await;
    let later = heic(w.folder.path(), 2);
    let second = send(&raw, "IMG_20260413_101530.HEIC", &later).await;
    let name = derived(&w.keeper, &second).await["name"].clone();
    assert_eq!(name, "IMG_20260413_101530 (from HEIC) (2).jpg");
    let other = w.keeper.ask(Method::GET, "api/originals?limit=9", None).await.unwrap();
    assert_eq!(other["originals"].as_array().unwrap().len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn it_lies_beside_its_original_wherever_that_is() {
    let w = world().await;
    rule(&w.keeper, json!({ "derive_jpeg": true })).await;
    let raw = w.raw_device("phone").await;
    let id = send(&raw, "IMG_2302.HEIC", &heic(w.folder.path(), 1)).await;
    derived(&w.keeper, &id).await;
    w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "year" }))).await.unwrap();
    let moved = ["juno/2026/IMG_2302 (from HEIC).jpg", "juno/2026/IMG_2302.HEIC"];
    wait_for("both to be moved", 30, async || Ok((library_files(&w.house) == moved).then_some(()))).await.unwrap();
    // Somebody tidied it away: with the next move it is there again.
    fs::remove_file(w.house.library().join(moved[0])).unwrap();
    w.keeper.ask(Method::POST, "api/filing", Some(json!({ "plan": "month" }))).await.unwrap();
    let back = ["juno/2026/04/IMG_2302 (from HEIC).jpg", "juno/2026/04/IMG_2302.HEIC"];
    wait_for("both to be there again", 30, async || Ok((library_files(&w.house) == back).then_some(()))).await.unwrap();
    // What is no HEIC, whatever it says, is kept without one.
    let broken = send(&raw, "broken.heic", b"\0\0\0\x18ftypheic\0\0\0\0mif1heic and nothing more").await;
    let work = wait_for("the work to end", 30, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let idle = work["kinds"].as_array().is_some_and(|k| k.iter().all(|k| k["kind"] != "derive"));
        Ok(idle.then_some(work))
    });
    work.await.unwrap();
    let original = w.keeper.ask(Method::GET, &format!("api/originals/{broken}"), None).await.unwrap();
    assert_eq!(original["derived"], Value::Null);
    assert_eq!(library_files(&w.house).len(), 3);
}
