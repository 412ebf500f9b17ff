//! Killed at any instant: nothing acknowledged is lost, and everything goes on by itself.

use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{Arc, Mutex},
    time::Duration,
};

use crate::common::{self, metadata, put, world};
use reqwest::Method;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_demo::scenes::Rng;
use ypogeion_rehearsal::{house::House, wait_for, walk::originals_below};
use ypogeion_standins::faults::Faults;

const KILLS: usize = 30;

/// Sends files by hand for ever, and remembers which were acknowledged.
async fn send_for_ever(raw: common::Raw, acknowledged: Arc<Mutex<BTreeMap<String, Vec<u8>>>>, sender: usize) {
    let mut rng = Rng::new(sender as u64);
    for n in 0.. {
        // From a few bytes to some megabytes, so that kills meet every stage.
        let length = 1 + rng.below(if n % 7 == 0 { 3_000_000 } else { 60_000 }) as usize;
        let seed = rng.next();
        let bytes: Vec<u8> = (0..length).map(|i| (seed.rotate_left((i % 61) as u32) as usize ^ i) as u8).collect();
        let name = format!("sender-{sender}-{n}.bin");
        let meta = metadata(&[("filename", &name), ("sha256", &Digest::of(&bytes).to_string())]);
        let length = length.to_string();
        let headers = [
            ("Tus-Resumable", "1.0.0"),
            ("Upload-Length", &length),
            ("Upload-Metadata", &meta),
            ("Content-Type", "application/offset+octet-stream"),
        ];
        let mut request = raw.http.post(raw.base.join("tus/").unwrap()).bearer_auth(&raw.token).timeout(Duration::from_secs(10));
        for (k, v) in headers {
            request = request.header(k, v);
        }
        match request.body(bytes.clone()).send().await {
            Ok(response) if response.headers().contains_key("ypogeion-original") => {
                acknowledged.lock().unwrap().insert(name, bytes);
            }
            _ => tokio::time::sleep(Duration::from_millis(20)).await,
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn thirty_kills_lose_nothing_that_was_acknowledged() {
    let mut w = world().await;
    w.add_store().await;
    let raw = w.raw_device("phone").await;
    let acknowledged = Arc::new(Mutex::new(BTreeMap::new()));
    let senders: Vec<_> = (0..4).map(|n| tokio::spawn(send_for_ever(raw.clone(), Arc::clone(&acknowledged), n))).collect();
    let mut rng = Rng::new(2026);
    w.house.store.set_faults(Faults { error_percent: 5, cut_percent: 1, ..Faults::default() });
    for n in 0..KILLS {
        tokio::time::sleep(Duration::from_millis(150 + rng.below(900))).await;
        // On a busy machine little lands in that time, and a kill proves something only if there is something to lose.
        wait_for("more to land", 30, async || Ok((acknowledged.lock().unwrap().len() > n).then_some(()))).await.unwrap();
        w.house.kill_service();
        w.house.start_service().await.unwrap();
    }
    for sender in senders {
        sender.abort();
        let _ = sender.await;
    }
    // What was under way is settled by one more start, with nobody sending any more.
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    w.house.store.set_faults(Faults::default());
    let acknowledged = acknowledged.lock().unwrap().clone();
    assert!(acknowledged.len() >= KILLS, "only {} landed, which proves little", acknowledged.len());

    // At home: every acknowledged file is there, with its bytes, under a name that says what it was.
    let filed = originals_below(&w.house.library()).unwrap();
    let at_home: BTreeSet<Digest> = filed.values().copied().collect();
    for (name, bytes) in &acknowledged {
        assert!(at_home.contains(&Digest::of(bytes)), "{name} was acknowledged and is gone");
    }
    // Every file has a row and every row a file.
    let keeper = w.house.keeper().await.unwrap();
    let house = keeper.overview().await.unwrap();
    assert_eq!(house.home.count, filed.len() as u64);
    assert_eq!(at_home.len(), filed.len(), "nothing is kept twice");
    assert_eq!(house.damaged, 0);

    // Offsite: everything gets there by itself, and comes back.
    let house = keeper.wait_until_proven(180).await.unwrap();
    assert_eq!(house.offsite.count, filed.len() as u64);
    let back = recover(&w.house, &keeper, w.folder.path()).await;
    assert_eq!(back, filed);
    // Work that gave up would show here.
    assert_eq!(keeper.overview().await.unwrap().failed_work, 0);
}

async fn recover(
    house: &House,
    keeper: &ypogeion_rehearsal::house::Console,
    folder: &std::path::Path,
) -> BTreeMap<std::path::PathBuf, Digest> {
    let kit = folder.join("kit.txt");
    std::fs::write(&kit, keeper.kit(&house.options.keeper.1).await.unwrap()).unwrap();
    let target = folder.join("recovered");
    let program = ypogeion_rehearsal::program("ypogeiond").unwrap();
    let mut command = std::process::Command::new(program);
    command.arg("recover").arg("--kit").arg(&kit).arg("--to").arg(&target);
    let output = tokio::task::spawn_blocking(move || command.output()).await.unwrap().unwrap();
    assert_eq!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    originals_below(&target).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_was_named_and_not_yet_recorded_is_settled() {
    let mut w = world().await;
    let raw = w.raw_device("phone").await;
    // An upload stands open; then the machine loses power just after the file got its name. The note of that name may or may
    // not have reached the disk: here it has not.
    let digest = Digest::of(b"kite").to_string();
    let path = raw.create(4, &metadata(&[("filename", "kite.jpg"), ("sha256", &digest)])).await;
    let id = path.rsplit('/').next().unwrap().to_owned();
    w.house.kill_service();
    let part = w.house.library().join(format!(".ypogeion/incoming/{id}.part"));
    let filed = w.house.library().join("juno/2026/04/kite.jpg");
    std::fs::create_dir_all(filed.parent().unwrap()).unwrap();
    std::fs::write(&part, b"kite").unwrap();
    std::fs::rename(&part, &filed).unwrap();
    w.house.start_service().await.unwrap();
    let stands = raw.tus("HEAD", &path, &[], b"").await;
    assert_eq!((stands.status, stands.header("upload-offset")), (200, "4"));
    assert!(!stands.header("ypogeion-original").is_empty());
    assert_eq!(w.house.keeper().await.unwrap().overview().await.unwrap().home.count, 1);
    assert_eq!(common::library_files(&w.house), ["juno/2026/04/kite.jpg"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_nobody_uploaded_is_left_alone() {
    let mut w = world().await;
    put(&w.house.library(), "juno/2026/04/mine.txt", b"written by a person").unwrap();
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    assert_eq!(common::library_files(&w.house), ["juno/2026/04/mine.txt"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_refuses_stops_with_its_reason_and_goes_on_with_new_keys() {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "a.jpg", b"kite").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let store = w.keeper.store().await.unwrap();
    w.keeper
        .ask(Method::POST, &format!("api/stores/{}/resume", store.id), Some(json!({ "access_key": "NOBODY", "secret_key": "x" })))
        .await
        .unwrap();
    put(&source, "b.jpg", b"weir").unwrap();
    device.json(&["backup"]).await.unwrap();
    let stopped = wait_for("the store to stop", 30, async || {
        let store = w.keeper.store().await?;
        Ok((store.state.word() == "stopped").then_some(store))
    })
    .await
    .unwrap();
    assert!(stopped.reason.unwrap().contains("check the keys"));
    let house = w.keeper.overview().await.unwrap();
    assert_eq!((house.state.word(), house.sentence.as_str()), ("trouble", "Sending to North Quay has stopped."));
    let keys = json!({ "access_key": w.house.store_form()["access_key"], "secret_key": w.house.store_form()["secret_key"] });
    w.keeper.ask(Method::POST, &format!("api/stores/{}/resume", store.id), Some(keys)).await.unwrap();
    assert_eq!(w.keeper.wait_until_proven(60).await.unwrap().home.count, 2);
    // A full store stops, too.
    w.house.store.set_faults(Faults { full: true, ..Faults::default() });
    put(&source, "c.jpg", b"fog").unwrap();
    device.json(&["backup"]).await.unwrap();
    let full = wait_for("the full store to stop", 60, async || {
        let store = w.keeper.store().await?;
        Ok((store.state.word() == "stopped").then_some(store))
    })
    .await
    .unwrap();
    assert!(full.reason.unwrap().contains("full"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_rotten_at_home_never_goes_out_as_good_and_is_mended_by_its_device() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "a.jpg", b"kite festival").unwrap();
    device.json(&["backup"]).await.unwrap();
    let file = w.house.library().join(&common::library_files(&w.house)[0]);
    std::fs::write(&file, b"kite festivaX").unwrap();
    w.add_store().await;
    let house = wait_for("the damage to be found", 30, async || {
        let house = w.keeper.overview().await?;
        Ok((house.damaged == 1).then_some(house))
    })
    .await
    .unwrap();
    assert_eq!((house.offsite.count, house.state.word()), (0, "trouble"));
    // The device still has it: the next backup offers it again, because the server says that it is missing there.
    let counts = device.json(&["backup"]).await.unwrap()["counts"].clone();
    assert_eq!(counts["sent"], 1);
    assert_eq!(std::fs::read(&file).unwrap(), b"kite festival");
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 0);
    let aside = std::fs::read_dir(w.house.library().join(".ypogeion/set-aside")).unwrap().count();
    assert_eq!(aside, 1, "the damaged file is kept aside");
    w.keeper.ask(Method::POST, "api/work/retry", Some(json!({}))).await.unwrap();
    assert_eq!(w.keeper.wait_until_proven(60).await.unwrap().offsite.count, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_that_rots_before_it_is_proven_is_sent_again() {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..5 {
        put(&source, &format!("{n}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    wait_for("the copies to be there", 60, async || Ok((w.keeper.store().await?.held.count == 5).then_some(()))).await.unwrap();
    let (flipped, lost) = (w.house.store.flip(2).unwrap(), w.house.store.lose(1).unwrap());
    assert_eq!((flipped.len(), lost.len()), (2, 1));
    // Some may have been read back before; those that were not are found, and sent again.
    w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 5);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_goes_away_is_waited_for() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let cluster = w.folder.path().join("data/database");
    let port = std::fs::read_to_string(cluster.join("data/postmaster.pid")).unwrap().lines().nth(3).unwrap().to_owned();
    ypogeion_catalog::cluster::stop(&cluster).unwrap();
    let refused = raw.send("GET", "api/device", &[], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (503, "database-away"));
    assert!(!refused.header("retry-after").is_empty());
    // Somebody starts it again where it was.
    let newest = std::fs::read_dir("/usr/lib/postgresql").unwrap().map(|e| e.unwrap().path()).max().unwrap();
    let mut command = std::process::Command::new("runuser");
    command
        .args(["-u", "postgres", "--"])
        .arg(newest.join("bin/pg_ctl"))
        .args(["-w", "start", "-l", "/dev/null", "-D"])
        .arg(cluster.join("data"));
    command.arg("-o").arg(format!("-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories=")).current_dir("/");
    command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
    assert!(command.status().unwrap().success());
    wait_for(
        "the service to go on",
        30,
        async || Ok((raw.send("GET", "api/device", &[], b"").await.status == 200).then_some(())),
    )
    .await
    .unwrap();
    let path = raw.create(4, "").await;
    assert_eq!(raw.append(&path, 0, b"kite").await.status, 204);
}
