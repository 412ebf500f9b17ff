//! From a device to a sealed copy offsite, and back: the whole story on the demo household, and the client's own words.

use std::{collections::BTreeMap, path::PathBuf, process::Command};

use crate::common::{put, world, world_of};
use reqwest::Method;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_demo::Size;
use ypogeion_rehearsal::{house::Made, program, stage, walk};

#[tokio::test(flavor = "multi_thread")]
async fn the_walk_through_agrees_in_every_number() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().unwrap();
    let pictures = folder.path().join("pictures");
    stage::pictures(&pictures, Size::SMALL, &|_, _| ()).unwrap();
    let report = walk::walk(&folder.path().join("house"), &pictures).await.unwrap();
    assert!(report.agrees, "{}", report.table());
    assert!(report.lines.len() > 20);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_says_what_it_did_and_a_second_one_is_done_in_a_moment() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "2026/a.jpg", b"kite").unwrap();
    put(&source, "2026/b.jpg", b"weir").unwrap();
    put(&source, "copy of a.jpg", b"kite").unwrap();
    put(&source, ".thumbs/c.jpg", b"hidden").unwrap();
    let dry = device.run(&["backup", "--dry-run"]).await.unwrap();
    assert_eq!((dry.code, dry.out.lines().count()), (0, 3));
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 0);

    let first = device.run(&["backup"]).await.unwrap();
    assert_eq!(first.code, 0, "{}", first.err);
    assert!(first.out.starts_with("Checked 3: sent ") && first.out.ends_with(".\n"), "{}", first.out);
    let second = device.run(&["backup"]).await.unwrap();
    assert_eq!((second.code, second.out.as_str(), second.err.as_str()), (0, "Checked 3, nothing new.\n", ""));

    // What is edited arrives as a new version; what is deleted stays.
    put(&source, "2026/a.jpg", b"kite, edited").unwrap();
    std::fs::remove_file(source.join("2026/b.jpg")).unwrap();
    device.json(&["backup"]).await.unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 3);

    let runs = device.json(&["runs"]).await.unwrap();
    assert_eq!(runs.as_array().unwrap().len(), 3);
    assert_eq!((&runs[1]["state"], &runs[1]["counts"]["present"]), (&json!("complete"), &json!(3)));
    let items = device.json(&["items"]).await.unwrap();
    let layers: Vec<&str> = items.as_array().unwrap().iter().map(|i| i["layer"].as_str().unwrap()).collect();
    assert_eq!(layers, ["home", "home", "home"]);
    let status = device.run(&["status"]).await.unwrap();
    assert!(status.out.contains("at home") && status.out.contains("Nothing has a copy offsite yet."), "{}", status.out);
    let table = device.run(&["items", "--layer", "proven"]).await.unwrap();
    assert_eq!(table.out, "Layer  Size  File  In the library\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_says_what_to_do_next() {
    let w = world().await;
    let fresh = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("fresh"));
    let transcript = [
        (vec!["backup"], 2, "there is nothing to back up yet"),
        (vec!["status"], 2, "not paired yet"),
        (vec!["pair", "ABCD-EFGH"], 2, "give the code and --server"),
        (vec!["pair", "ABCD-EFGH", "--server", "https://127.0.0.1:1"], 2, "--certificate"),
        (vec!["pair", "ABCD-EFGH", "--server", "http://127.0.0.1:1"], 3, "could not reach"),
        (vec!["pair", "ABCD-EFGH", "--server", w.house.http.as_str()], 4, "Make a new one in the console"),
        (vec!["sources", "add", "/no/such/folder"], 2, "cannot be used"),
        (vec!["frobnicate"], 2, "unrecognized subcommand"),
    ];
    for (arguments, code, says) in transcript {
        let said = fresh.run(&arguments).await.unwrap();
        assert_eq!((said.code, said.out.as_str()), (code, ""), "{arguments:?}: {}", said.err);
        assert!(said.err.contains(says), "{arguments:?}: {}", said.err);
    }
    // A file that holds the token is for its owner alone.
    let (device, _) = w.computer("desktop").await;
    let mode =
        std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(device.folder().join("device.json")).unwrap().permissions());
    assert_eq!(mode & 0o077, 0);
    std::fs::write(device.folder().join("device.json"), "{ half").unwrap();
    let damaged = device.run(&["status"]).await.unwrap();
    assert!(damaged.err.contains("left as it is") || damaged.err.contains("was left as it was"), "{}", damaged.err);
    assert_eq!(std::fs::read_to_string(device.folder().join("device.json")).unwrap(), "{ half");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pairing_code_made_by_the_client_pairs_a_device() {
    let w = world().await;
    let password = w.folder.path().join("keeper.password");
    let maker = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("maker"));
    let (server, file) = (w.house.http.as_str(), password.to_str().unwrap());
    let code = maker.json(&["pair-code", "--server", server, "--name", "juno", "--password-file", file]).await.unwrap();
    let device = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("device"));
    device.pair(code["address"].as_str().unwrap(), "Laptop", "computer", &[]).await.unwrap();
    let shown = maker.run(&["pair-code", "--server", server, "--name", "juno", "--password-file", file]).await.unwrap();
    assert!(shown.out.contains("ypogeion:pair?at=https") && shown.out.contains('█'), "{}", shown.out);
    let used = device.run(&["pair", code["address"].as_str().unwrap()]).await.unwrap();
    assert_eq!(used.code, 4, "a code works once");
}

#[tokio::test(flavor = "multi_thread")]
async fn setting_up_twice_changes_nothing() {
    let w = world().await;
    let folder = tempfile::tempdir().unwrap();
    let config = folder.path().join("y.toml");
    let (data, library) = (folder.path().join("data"), folder.path().join("library"));
    std::fs::write(&config, format!("data_folder = {data:?}\nlibrary = {library:?}\n")).unwrap();
    std::os::unix::fs::PermissionsExt::set_mode(&mut std::fs::metadata(folder.path()).unwrap().permissions(), 0o755);
    std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let run = |arguments: &[&str]| {
        let mut command = Command::new(program("ypogeiond").unwrap());
        command.env("YPOGEION_THROW_AWAY", "1").arg("--config").arg(&config).args(arguments).output().unwrap()
    };
    let password = w.folder.path().join("keeper.password");
    let words = |name: &str| {
        ["setup", "--household", name, "--keeper", "Juno", "--password-file", password.to_str().unwrap()].map(str::to_owned)
    };
    let setup = |name: &str| {
        let words = words(name);
        run(&words.iter().map(String::as_str).chain(["--accept-place"]).collect::<Vec<_>>())
    };
    // A disk that has less than the reserve: said in words before anything is made, and only overruled on purpose.
    let settings = format!("data_folder = {data:?}\nlibrary = {library:?}\n");
    std::fs::write(&config, format!("{settings}reserve_gb = 900000\n")).unwrap();
    let think = run(&words("Mill House").iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(think.status.code(), Some(2));
    let said = String::from_utf8_lossy(&think.stderr).into_owned();
    assert!(said.contains("are always kept free, so nothing would be received") && said.contains("--accept-place"), "{said}");
    assert!(!data.join("household.key").exists());
    std::fs::write(&config, settings).unwrap();
    assert_eq!(setup("Mill House").status.code(), Some(0));
    let key = std::fs::read(data.join("household.key")).unwrap();
    let again = setup("Another House");
    assert!(String::from_utf8_lossy(&again.stdout).contains("nothing was changed"));
    assert_eq!(std::fs::read(data.join("household.key")).unwrap(), key);
    std::fs::write(&config, "librarry = 1\n").unwrap();
    let wrong = run(&["serve"]);
    assert_eq!(wrong.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("librarry"));
}

/// This software is gone. The commands of docs/guides/by-hand.md, word for word, on what the store holds.
#[tokio::test(flavor = "multi_thread")]
async fn everything_opens_by_hand_with_the_commands_of_the_guide() {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..12 {
        put(&source, &format!("{n}/Grüße aus der Mühle {n}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let by_hand = w.folder.path().join("by-hand");
    std::fs::create_dir_all(&by_hand).unwrap();
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    std::fs::write(by_hand.join("kit.txt"), kit).unwrap();
    // "Copy everything from the bucket into a folder called replica" is left to the store's own means; so it is here.
    assert!(Command::new("cp").arg("-r").arg(w.house.store_folder()).arg(by_hand.join("replica")).status().unwrap().success());
    let guide = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guides/by-hand.md")).unwrap();
    let script: String = guide.split("```sh\n").skip(1).filter_map(|block| block.split("```").next()).collect();
    assert!(script.contains("age -d") && script.contains("sha256sum -c") && script.contains("b3sum --check"));
    let output = Command::new("bash").args(["-euo", "pipefail", "-c", &script]).current_dir(&by_hand).output().unwrap();
    assert!(output.status.success(), "{}\n{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    let printed = String::from_utf8_lossy(&output.stdout);
    assert!(printed.contains(".jsonl.gz.age: OK") && !printed.contains("NOT PROVEN"), "{printed}");
    assert_eq!(printed.lines().filter(|l| l.starts_with("sealed/") && l.ends_with(".age: OK")).count(), 12, "{printed}");
    let files = |folder: PathBuf| -> BTreeMap<PathBuf, Digest> { walk::originals_below(&folder).unwrap() };
    assert_eq!(files(by_hand.join("pictures")), files(w.house.library()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_kit_and_a_damaged_store_are_said_and_harmless() {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..6 {
        put(&source, &format!("{n}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let recover = async |text: String, to: &str| {
        let file = w.folder.path().join("kit.txt");
        std::fs::write(&file, text).unwrap();
        let mut command = Command::new(program("ypogeiond").unwrap());
        command.arg("recover").arg("--kit").arg(file).arg("--to").arg(w.folder.path().join(to)).arg("--json");
        tokio::task::spawn_blocking(move || command.output().unwrap()).await.unwrap()
    };
    let said = |o: &std::process::Output| String::from_utf8_lossy(&o.stderr).into_owned();
    let mistyped = recover(kit.replace("mill-house", "mill-hause"), "a").await;
    assert_eq!(mistyped.status.code(), Some(4));
    assert!(said(&mistyped).contains("mistyped"));
    let foreign = {
        let mut other = ypogeion_core::kit::RecoveryKit::parse(&kit).unwrap();
        other.key = ypogeion_offsite::Identity::generate().reveal();
        recover(other.to_text(), "b").await
    };
    assert_eq!(foreign.status.code(), Some(4));
    assert!(said(&foreign).contains("does not open the copies"), "{}", said(&foreign));

    let (flipped, lost) = (w.house.store.flip(1).unwrap(), w.house.store.lose(3).unwrap());
    let bad: std::collections::BTreeSet<&String> = flipped.iter().chain(&lost).collect();
    let partly = recover(kit.clone(), "c").await;
    assert_eq!(partly.status.code(), Some(1));
    let account: serde_json::Value = serde_json::from_slice(&partly.stdout).unwrap();
    assert_eq!(account["failed"].as_array().unwrap().len(), bad.len());
    assert_eq!(account["restored"], 6 - bad.len() as u64);
    // Something in the way is never overwritten.
    let target = w.folder.path().join("c");
    let there = walk::originals_below(&target).unwrap();
    let first = target.join(there.keys().next().unwrap());
    std::fs::write(&first, b"somebody's own").unwrap();
    let account: serde_json::Value = serde_json::from_slice(&recover(kit, "c").await.stdout).unwrap();
    assert_eq!(account["restored"], 0);
    assert_eq!(std::fs::read(&first).unwrap(), b"somebody's own");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_households_place_in_a_store_is_refused() {
    // Made anew: a copy would be the same household.
    let (w, other) = (world().await, world_of(|options| options.made = Made::Database).await);
    w.add_store().await;
    let (status, problem) = other.keeper.try_ask(Method::POST, "api/stores", Some(w.house.store_form())).await.unwrap();
    assert_eq!(status, 502);
    assert!(problem["detail"].as_str().unwrap().contains("another household"), "{problem}");
    let mut wrong = w.house.store_form();
    wrong["bucket"] = json!("no-such-bucket");
    wrong["name"] = json!("South Quay");
    let (_, problem) = other.keeper.try_ask(Method::POST, "api/stores", Some(wrong)).await.unwrap();
    assert!(problem["detail"].as_str().unwrap_or_default().contains("bucket"), "{problem}");
}
