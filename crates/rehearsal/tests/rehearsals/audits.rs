//! Copies are read again, what is bad is found and made good, and a drill says what it proves.

use std::{
    collections::BTreeSet,
    fs,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use crate::common::{self, World, library_files, put, world, world_with};
use reqwest::Method;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_demo::scenes::Rng;
use ypogeion_rehearsal::wait_for;

/// A house with so many pictures, at home and in the store, all read back once.
async fn proven(count: usize, settings: &str) -> World {
    let w = world_with(settings).await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..count {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("the picture of the weir with number {n}").repeat(20).as_bytes())
            .unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120 + count as u64 / 5).await.unwrap();
    w
}

/// Until no copy is bad any more.
async fn all_good(w: &World, count: u64) {
    wait_for("everything to be good", 90, async || {
        let (overview, store) = (w.keeper.overview().await?, w.keeper.store().await?);
        Ok((overview.damaged == 0
            && overview.home.count + overview.offsite.count + overview.proven.count >= count
            && store.to_go.count == 0
            && store.held.count == count)
            .then_some(()))
    })
    .await
    .unwrap();
    // What was sent again is read back soon after; that must not meet what the test spoils next.
    w.keeper.wait_until_proven(90).await.unwrap();
}

fn flip(file: &Path) {
    let f = fs::File::options().read(true).write(true).open(file).unwrap();
    let mut byte = [0];
    f.read_exact_at(&mut byte, 100).unwrap();
    f.write_all_at(&[byte[0] ^ 16], 100).unwrap();
}

fn filed(w: &World) -> Vec<PathBuf> {
    library_files(&w.house).into_iter().map(|p| w.house.library().join(p)).collect()
}

fn digests(w: &World) -> BTreeSet<Digest> {
    filed(w).iter().map(|f| Digest::of(&fs::read(f).unwrap())).collect()
}

async fn record(w: &World) -> String {
    w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_rots_at_home_is_found_and_comes_back_from_the_store() {
    let w = proven(12, "").await;
    let (before, files) = (digests(&w), filed(&w));
    flip(&files[3]);
    fs::remove_file(&files[7]).unwrap();
    let bad = fs::read(&files[3]).unwrap();
    let found = w.check(false, "reading").await;
    assert_eq!((&found["checked"], &found["wrong"], &found["missing"]), (&json!(12), &json!(1), &json!(1)), "{found}");
    assert!(found["said"].as_str().unwrap().contains("1 damaged, 1 missing"), "{found}");
    all_good(&w, 12).await;
    assert_eq!((digests(&w), filed(&w)), (before, files.clone()), "everything is what it was, where it was");
    // The bad one is kept aside; people are told what happened.
    let aside = w.house.library().join(".ypogeion/set-aside");
    let kept: Vec<PathBuf> = fs::read_dir(aside).unwrap().map(|e| e.unwrap().path()).collect();
    assert_eq!(kept.len(), 1);
    assert_eq!(fs::read(&kept[0]).unwrap(), bad);
    let record = record(&w).await;
    assert!(record.contains("on the home disk damaged") && record.contains("at home by the copy in North Quay"), "{record}");
    // Rotten once more: set aside beside the first one.
    flip(&files[3]);
    w.check(false, "reading").await;
    all_good(&w, 12).await;
    assert_eq!(fs::read_dir(w.house.library().join(".ypogeion/set-aside")).unwrap().count(), 2);
    assert_eq!(w.keeper.ask(Method::GET, "api/checks", None).await.unwrap()["healed_home"], 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_store_loses_or_spoils_is_found_and_sent_again() {
    let w = proven(12, "").await;
    let lost = w.house.store.lose(3).unwrap();
    let listed = w.check(true, "listing").await;
    assert_eq!(
        (&listed["checked"], &listed["missing"], &listed["wrong"]),
        (&json!(12), &json!(lost.len()), &json!(0)),
        "{listed}"
    );
    all_good(&w, 12).await;
    let flipped = w.house.store.flip(2).unwrap();
    assert_eq!(w.check(true, "listing").await["wrong"], 0, "a list cannot see that");
    assert_eq!(w.check(true, "reading").await["wrong"], flipped.len() as u64);
    all_good(&w, 12).await;
    let again = w.check(true, "reading").await;
    assert_eq!((&again["checked"], &again["wrong"], &again["missing"]), (&json!(12), &json!(0), &json!(0)), "{again}");
    assert!(again["said"].as_str().unwrap().ends_with("all are right."), "{again}");
}

/// Copies that an earlier version sent lie in a folder of their own, and the ledger names them there.
#[tokio::test(flavor = "multi_thread")]
async fn a_store_with_copies_of_an_earlier_version_is_whole() {
    let w = proven(3, "").await;
    let (store, code) = (w.house.store_folder(), "3f".repeat(32));
    let name = w.sql("SELECT name FROM object ORDER BY name LIMIT 1").trim().to_owned();
    let earlier = format!("objects/3f/{code}.age");
    fs::create_dir_all(store.join("objects/3f")).unwrap();
    fs::rename(store.join(&name), store.join(&earlier)).unwrap();
    w.sql(&format!("UPDATE object SET name = '{earlier}' WHERE name = '{name}'"));
    for kind in ["listing", "reading"] {
        let found = w.check(true, kind).await;
        assert_eq!(
            (&found["checked"], &found["missing"], &found["unknown"]),
            (&json!(3), &json!(0), &json!(0)),
            "{kind}: {found}"
        );
    }
    // What is lost there is sent again.
    fs::remove_file(store.join(&earlier)).unwrap();
    assert_eq!(w.check(true, "listing").await["missing"], 1);
    all_good(&w, 3).await;
    let found = w.check(true, "listing").await;
    assert_eq!((&found["checked"], &found["missing"], &found["unknown"]), (&json!(3), &json!(0), &json!(0)), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_forgets_again_and_again_is_not_fed_for_ever() {
    let w = proven(1, "").await;
    for _ in 0..3 {
        w.house.store.lose(1).unwrap();
        w.check(true, "listing").await;
        all_good(&w, 1).await;
    }
    w.house.store.lose(1).unwrap();
    w.check(true, "listing").await;
    let fault = wait_for("it to be given up", 30, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        Ok(work["faults"].as_array().and_then(|f| f.first()).filter(|f| f["due"].is_null()).cloned())
    })
    .await
    .unwrap();
    assert_eq!(fault["kind"], "heal");
    assert!(fault["error"].as_str().unwrap().contains("replaced 3 times"), "{fault}");
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 1, "at home it is as it was");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_bad_everywhere_is_named_until_its_device_sends_it_again() {
    let w = proven(3, "").await;
    let path = filed(&w)[1].clone();
    let good = fs::read(&path).unwrap();
    flip(&path);
    w.house.store.lose(3).unwrap();
    w.check(true, "listing").await;
    wait_for("two to be sent again", 60, async || Ok((w.keeper.store().await?.held.count == 2).then_some(()))).await.unwrap();
    w.check(false, "reading").await;
    let work = wait_for("it to be given up", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let named = work["faults"].as_array().is_some_and(|f| f.iter().any(|f| f["kind"] == "heal" && f["due"].is_null()));
        Ok(named.then_some(work))
    })
    .await
    .unwrap();
    assert!(work.to_string().contains("there is no good copy"), "{work}");
    assert!(work.to_string().contains(path.file_name().unwrap().to_str().unwrap()), "it is named: {work}");
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 1);
    let raw = w.raw_device("phone").await;
    let upload = raw.create(good.len(), &common::metadata(&[("filename", "IMG_0001.jpg")])).await;
    raw.append(&upload, 0, &good).await;
    w.keeper.ask(Method::POST, "api/work/retry", None).await.unwrap();
    all_good(&w, 3).await;
    assert_eq!(fs::read(&path).unwrap(), good);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_is_away_says_nothing_about_pictures() {
    let w = proven(4, "").await;
    // As after a start without the disk: an empty folder where it should be.
    let (library, elsewhere) = (w.house.library(), w.folder.path().join("unplugged"));
    fs::rename(&library, &elsewhere).unwrap();
    fs::create_dir(&library).unwrap();
    w.keeper.ask(Method::POST, "api/checks", Some(json!({ "store": null, "kind": "reading" }))).await.unwrap();
    wait_for("the disk to be missed", 30, async || Ok((w.keeper.overview().await?.state.word() == "trouble").then_some(())))
        .await
        .unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 0);
    fs::remove_dir(&library).unwrap();
    fs::rename(&elsewhere, &library).unwrap();
    // It waited, and is done now: nothing was read while there was nothing to read.
    let found = w.check(false, "reading").await;
    assert_eq!((&found["failed"], &found["checked"], &found["missing"]), (&json!(false), &json!(4), &json!(0)), "{found}");
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fails_stops_the_reading() {
    let w = proven(60, "").await;
    w.house.store.set_faults(ypogeion_standins::faults::Faults { outage: true, ..Default::default() });
    for file in filed(&w).iter().skip(3) {
        flip(file);
    }
    let found = w.check(false, "reading").await;
    assert_eq!((&found["failed"], &found["checked"]), (&json!(true), &json!(40)), "{found}");
    assert!(found["said"].as_str().unwrap().contains("look at the disk"), "{found}");
}

#[tokio::test(flavor = "multi_thread")]
async fn portions_go_round_by_themselves() {
    // A tenth each tenth of a second.
    let w = proven(20, "checks.every_hours = 0.0001\nchecks.cover_days = 0.00004\nchecks.most_mb_per_second = 0").await;
    let file = filed(&w)[11].clone();
    let good = fs::read(&file).unwrap();
    flip(&file);
    wait_for(
        "its turn to come, and it to be mended",
        60,
        async || Ok((fs::read(&file).ok() == Some(good.clone())).then_some(())),
    )
    .await
    .unwrap();
    let checks = w.keeper.ask(Method::GET, "api/checks", None).await.unwrap();
    let kinds: Vec<&str> = checks["checks"].as_array().unwrap().iter().map(|c| c["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["reading", "reading", "listing", "drill"]);
    let last = &checks["checks"][0]["last"];
    assert!(last["checked"].as_u64().unwrap() < 20 && last["whole"] == false, "a portion, not everything: {last}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drill_proves_what_it_says_and_leaves_nothing_behind() {
    let w = proven(30, "checks.drill_sample = 12").await;
    wait_for("the ledger to name everything", 60, async || Ok((w.keeper.store().await?.unlisted == 0).then_some(())))
        .await
        .unwrap();
    let drill = w.check(true, "drill").await;
    assert_eq!((&drill["population"], &drill["checked"], &drill["missing"]), (&json!(30), &json!(12), &json!(0)), "{drill}");
    // With 12 of 30 good, 95 % sure of at most 5: C(25, 12) / C(30, 12) = 0.060, and with 6: 0.031.
    assert!(drill["said"].as_str().unwrap().contains("at most 17 % of all (5) are damaged"), "{drill}");
    assert_eq!(fs::read_dir(w.folder.path().join("data/drill")).unwrap().count(), 0, "the scratch folder is gone");
    // All are lost but those that the next drill cannot miss.
    w.house.store.lose(25).unwrap();
    let drill = w.check(true, "drill").await;
    let bad = drill["missing"].as_u64().unwrap();
    assert!(bad >= 7, "{drill}");
    assert!(drill["said"].as_str().unwrap().contains("could not be restored"), "{drill}");
    wait_for("what the drill missed to be sent again", 60, async || Ok((w.keeper.overview().await?.damaged == 0).then_some(())))
        .await
        .unwrap();
    assert!(record(&w).await.contains("held a drill with North Quay"));
}

/// A fixed seed decides what rots where; `CAMPAIGN_ORIGINALS` sets how many originals there are.
#[tokio::test(flavor = "multi_thread")]
async fn a_campaign_of_rot_and_loss_is_found_and_healed_where_anything_good_is_left() {
    let count: usize = std::env::var("CAMPAIGN_ORIGINALS").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    // Bounded, and long enough for a campaign of thousands.
    let patience = 120 + count as u64 / 5;
    let w = proven(count, "").await;
    let (before, files) = (digests(&w), filed(&w));
    let mut rng = Rng::new(11);
    let mut random = |below: usize| (rng.next() % below as u64) as usize;
    // A third of what is tried at home, below the alarm.
    let at_home: BTreeSet<usize> = (0..count / 4).map(|_| random(count)).collect();
    for n in &at_home {
        if n % 3 == 0 { fs::remove_file(&files[*n]).unwrap() } else { flip(&files[*n]) }
    }
    let away = w.house.store.flip(count / 8).unwrap().len() + w.house.store.lose(count / 15).unwrap().len();
    assert!(away > 0 && !at_home.is_empty());
    // Home first, so that what is good in the store heals it; then the store.
    w.check(false, "reading").await;
    wait_for("home to be healed as far as it can be", patience, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let busy = work["kinds"].as_array().is_some_and(|k| {
            k.iter().any(|k| {
                ["heal", "prove", "replicate"].contains(&k["kind"].as_str().unwrap_or_default())
                    && (k["waiting"] != 0 || k["running"] != 0 || k["retrying"] != 0)
            })
        });
        Ok((!busy).then_some(()))
    })
    .await
    .unwrap();
    w.check(true, "listing").await;
    w.check(true, "reading").await;
    let faults = wait_for("everything to end", patience, async || {
        let work = w.keeper.ask(Method::GET, "api/work?faults=10000", None).await?;
        let done = work["faults"].as_array().is_some_and(|f| f.iter().all(|f| f["due"].is_null()));
        let store = w.keeper.store().await?;
        let lost = w.keeper.overview().await?.damaged;
        Ok((done && store.held.count + lost == count as u64).then(|| work["faults"].clone()))
    })
    .await
    .unwrap();
    let named = faults.as_array().unwrap().iter().map(|f| f["about"].as_str().unwrap()).collect::<BTreeSet<_>>();
    let now: BTreeSet<Digest> = digests(&w);
    let gone: Vec<&Digest> = before.difference(&now).collect();
    assert_eq!(gone.len() as u64, w.keeper.overview().await.unwrap().damaged, "what is not good is counted");
    assert_eq!(named.len(), gone.len(), "and named, each of them: {named:?}");
    let one = w.keeper.ask(Method::GET, "api/work?faults=1", None).await.unwrap();
    let shown = one["faults"].as_array().unwrap().len();
    let all = faults.as_array().unwrap().len();
    assert_eq!((shown, &one["faults_in_all"]), (all.min(1), &json!(all)), "a short list says that it is one");
}

#[tokio::test(flavor = "multi_thread")]
async fn only_what_exists_is_checked() {
    let w = world().await;
    for body in [json!({ "kind": "drill" }), json!({ "kind": "listing" }), json!({ "kind": "everything" })] {
        assert_eq!(w.keeper.try_ask(Method::POST, "api/checks", Some(body)).await.unwrap().0, 400);
    }
    let nowhere = json!({ "kind": "reading", "store": "00000000-0000-7000-8000-000000000000" });
    assert_eq!(w.keeper.try_ask(Method::POST, "api/checks", Some(nowhere)).await.unwrap().0, 404);
}

/// What was let go at home stays in the store for a while. That the store has lost that as well is found and said, and ends no check.
#[tokio::test(flavor = "multi_thread")]
async fn a_check_goes_on_over_what_was_let_go() {
    let w = proven(6, "").await;
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 100 }))).await.unwrap();
    let page = w.keeper.ask(Method::GET, "api/originals?limit=2", None).await.unwrap();
    let ids: Vec<_> = page["originals"].as_array().unwrap().iter().map(|o| o["id"].clone()).collect();
    for path in ["api/holding", "api/holding/end"] {
        w.keeper.ask(Method::POST, path, Some(json!({ "originals": ids }))).await.unwrap();
    }
    wait_for("both to have left home", 60, async || {
        let held = w.keeper.ask(Method::GET, "api/holding", None).await?["held"].as_array().cloned().unwrap_or_default();
        Ok((held.len() == 2 && held.iter().all(|h| h["stage"] != "held")).then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(w.house.store.lose(6).unwrap().len(), 6);
    let listed = w.check(true, "listing").await;
    assert_eq!((&listed["failed"], &listed["missing"]), (&json!(false), &json!(6)), "{listed}");
    wait_for("what is still at home to be sent again", 60, async || {
        Ok((w.keeper.store().await?.to_go.count == 0 && w.keeper.overview().await?.damaged == 0).then_some(()))
    })
    .await
    .unwrap();
    for kind in ["listing", "reading", "drill"] {
        let checked = w.check(true, kind).await;
        assert_eq!(checked["failed"], false, "{kind}: {checked}");
    }
    // Nothing is left to be done that never can be.
    wait_for("the work to be done", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        Ok((work["faults"].as_array().is_some_and(Vec::is_empty)).then_some(()))
    })
    .await
    .unwrap();
}
