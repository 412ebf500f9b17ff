//! Stores that nobody here made: shares, buckets in host names, and object stores with the quirks that real ones have.

use std::{fs, net::SocketAddr, sync::Arc};

use crate::common::{World, put, world, world_with};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_demo::scenes::Rng;
use ypogeion_rehearsal::{wait_for, walk};
use ypogeion_standins::{faults::Faults, share::StandInShare, store::Counts};

fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut rng = Rng::new(seed);
    (0..length.div_ceil(8)).flat_map(|_| rng.next().to_le_bytes()).take(length).collect()
}

async fn trial(w: &World, form: Value) -> Value {
    w.keeper.ask(Method::POST, "api/stores/trial", Some(form)).await.unwrap()
}

fn step<'a>(trial: &'a Value, name: &str) -> (&'a str, &'a str) {
    let step = trial["steps"].as_array().unwrap().iter().find(|s| s["step"] == name).unwrap_or_else(|| panic!("{name}: {trial}"));
    (step["went"].as_str().unwrap(), step["said"].as_str().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_share_holds_copies_like_any_other_store() {
    let w = world().await;
    let folder = w.folder.path().join("box");
    let share = StandInShare::start(folder.clone(), "mill", "weir & co").await.unwrap();
    let form = json!({ "name": "Aunt’s box", "endpoint": share.url(), "prefix": "copies/mill", "access_key": "mill", "secret_key": "weir & co" });
    let mut wrong = form.clone();
    wrong["secret_key"] = json!("guessed");
    let tried = trial(&w, wrong).await;
    assert_eq!(tried["usable"], false);
    assert!(
        tried["steps"].as_array().unwrap().last().unwrap()["said"].as_str().unwrap().contains("name and password"),
        "{tried}"
    );
    let tried = trial(&w, form.clone()).await;
    assert_eq!(tried["usable"], true, "{tried}");
    assert_eq!(step(&tried, "notice").0, "noted", "a share checks nothing, and that is said");
    w.keeper.ask(Method::POST, "api/stores", Some(form)).await.unwrap();

    let (device, source) = w.computer("desktop").await;
    for n in 0..5 {
        put(&source, &format!("IMG_{n}.jpg"), &noise(n, 50_000)).unwrap();
    }
    put(&source, "film.mp4", &noise(99, 40 << 20)).unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();
    assert!(folder.join("copies/mill/FORMAT.json").is_file() && folder.join("copies/mill/sealed").is_dir());
    let listed = w.check(true, "listing").await;
    assert_eq!((&listed["checked"], &listed["missing"], &listed["failed"]), (&json!(6), &json!(0), &json!(false)), "{listed}");
    let drill = w.check(true, "drill").await;
    assert_eq!((&drill["checked"], &drill["missing"]), (&json!(6), &json!(0)), "{drill}");
    // What rots there is found, since it is read.
    let sealed = walk::originals_below(&folder.join("copies/mill/sealed")).unwrap();
    let one = folder.join("copies/mill/sealed").join(sealed.keys().next().unwrap());
    let mut bytes = fs::read(&one).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 8;
    fs::write(&one, bytes).unwrap();
    assert_eq!(w.check(true, "reading").await["wrong"], 1);
    w.keeper.wait_until_proven(120).await.unwrap();
    w.recovers_all(6).await;
    assert_eq!(
        fs::read_dir(w.folder.path().join("data/spool")).unwrap().flatten().flat_map(|d| fs::read_dir(d.path()).unwrap()).count(),
        0
    );
}

#[rstest]
#[case::knows_no_sums(Faults { refuses_sums: true, ..Faults::default() }, "write", "well", "stored")]
#[case::takes_whatever_comes(Faults { swallows: true, ..Faults::default() }, "notice", "noted", "were taken as they came")]
#[case::replaces(Faults { ignores_conditions: true, ..Faults::default() }, "conditional", "noted", "not to overwrite, and did")]
#[case::lists_late(Faults { list_lag_seconds: 3600, ..Faults::default() }, "list", "noted", "its list is late")]
#[tokio::test(flavor = "multi_thread")]
async fn a_store_with_a_quirk_is_seen_through_and_used(
    #[case] quirk: Faults,
    #[case] at: &str,
    #[case] went: &str,
    #[case] said: &str,
) {
    let w = world().await;
    w.house.store.set_faults(quirk);
    let tried = trial(&w, w.house.store_form()).await;
    assert_eq!(tried["usable"], true, "{tried}");
    let (how, words) = step(&tried, at);
    assert!(how == went && words.contains(said), "{tried}");
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..4 {
        put(&source, &format!("IMG_{n}.jpg"), &noise(n, 30_000)).unwrap();
    }
    put(&source, "film.mp4", &noise(99, 20 << 20)).unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();
    let listed = w.check(true, "listing").await;
    assert_eq!((&listed["checked"], &listed["missing"]), (&json!(5), &json!(0)), "{listed}");
    // A list that its list is late would hide the ledger, too; a day later it does not.
    w.house.store.set_faults(Faults::default());
    w.recovers_all(5).await;
}

#[rstest]
#[case::another_region(Faults { region: "south".into(), ..Faults::default() }, "sign-in", "expecting 'south'")]
#[case::another_clock(Faults { clock_seconds: 3 * 3600 + 60, ..Faults::default() }, "clock", "Its clock is 3 hours ahead")]
#[case::too_small(Faults { capacity: 100_000, ..Faults::default() }, "write", "is full")]
#[tokio::test(flavor = "multi_thread")]
async fn what_keeps_a_store_from_being_used_is_said_in_words_that_help(
    #[case] fault: Faults,
    #[case] at: &str,
    #[case] said: &str,
) {
    let w = world().await;
    w.house.store.set_faults(fault);
    let tried = trial(&w, w.house.store_form()).await;
    assert_eq!(tried["usable"], false, "{tried}");
    let (went, words) = step(&tried, at);
    assert!(went == "badly" && words.contains(said), "{tried}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_is_seen_and_respected() {
    let w = world_with("").await;
    w.house.store.set_faults(Faults { locked_days: 30, ..Faults::default() });
    let tried = trial(&w, w.house.store_form()).await;
    assert_eq!((tried["usable"].clone(), step(&tried, "lock").0), (json!(true), "noted"), "{tried}");
    assert!(step(&tried, "lock").1.contains("retention lock keeps"), "{tried}");
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "IMG_1.jpg", b"the picture of the weir").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "offsite_days": 0, "safety_stop_percent": 100 }))).await.unwrap();
    let page = w.keeper.ask(Method::GET, "api/originals?limit=10", None).await.unwrap();
    let ids = json!({ "originals": [page["originals"][0]["id"]] });
    w.keeper.ask(Method::POST, "api/holding", Some(ids.clone())).await.unwrap();
    w.keeper.ask(Method::POST, "api/holding/end", Some(ids)).await.unwrap();
    let fault = wait_for("the store to refuse", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        Ok(work["faults"].as_array().into_iter().flatten().find(|f| f["kind"] == "remove").cloned())
    })
    .await;
    let fault = match fault {
        Ok(fault) => fault,
        Err(e) => panic!(
            "{e}: {} {}",
            w.keeper.ask(Method::GET, "api/work", None).await.unwrap(),
            w.keeper.ask(Method::GET, "api/holding", None).await.unwrap()
        ),
    };
    assert!(fault["error"].as_str().unwrap().contains("keeps a copy of something deleted"), "{fault}");
    let state = w.keeper.store().await.unwrap().state;
    assert!(["idle", "listing"].contains(&state.word()), "a lock is no reason to send no more: {state}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_film_goes_on_at_the_part_where_it_was_killed() {
    let mut w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "film.mp4", &noise(7, 150 << 20)).unwrap();
    // Ten parts; two a second, so that a kill meets them half way.
    w.house.store.set_faults(Faults { trickle: 20 << 20, ..Faults::default() });
    device.json(&["backup"]).await.unwrap();
    let parts = async |w: &World, least: u64| {
        wait_for("parts to arrive", 60, async || Ok(Some(w.house.store.counts()).filter(|c| c.parts >= least))).await.unwrap()
    };
    let before: Counts = parts(&w, 4).await;
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    w.house.store.set_faults(Faults::default());
    if let Err(e) = w.keeper.wait_until_proven(120).await {
        panic!("{e}: {:?} {}", w.keeper.store().await.unwrap(), w.keeper.ask(Method::GET, "api/work", None).await.unwrap());
    }
    let after = w.house.store.counts();
    // Whatever was under way when it was killed, two at most and the ones that had come in by then, is sent again; nothing else.
    assert!(after.parts <= 10 + 2 + 2, "{before:?} {after:?}: it began again");

    // A store that has forgotten the parts is sent them anew, and says nothing false meanwhile.
    put(&source, "another film.mp4", &noise(8, 100 << 20)).unwrap();
    w.house.store.set_faults(Faults { trickle: 20 << 20, ..Faults::default() });
    device.json(&["backup"]).await.unwrap();
    let so_far = after.parts;
    parts(&w, so_far + 2).await;
    w.house.store.tear();
    w.house.store.set_faults(Faults::default());
    w.keeper.wait_until_proven(120).await.unwrap();
    w.recovers_all(2).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_asks_for_patience_gets_it() {
    let w = world().await;
    w.add_store().await;
    w.house.store.set_faults(Faults { error_percent: 100, retry_after: 900, ..Faults::default() });
    let (device, source) = w.computer("desktop").await;
    put(&source, "IMG_1.jpg", b"the picture of the weir").unwrap();
    device.json(&["backup"]).await.unwrap();
    let store = wait_for("the store to be left alone", 60, async || {
        Ok(Some(w.keeper.store().await?).filter(|s| s.state.word() == "failing"))
    })
    .await
    .unwrap();
    let wait = store.retry_at.unwrap() - chrono::Utc::now();
    assert!(wait.num_seconds() > 600 && wait.num_seconds() <= 900, "{wait}");
    w.house.store.set_faults(Faults::default());
    w.keeper.ask(Method::POST, &format!("api/stores/{}/resume", store.id), Some(json!({}))).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_says_yes_and_forgets_is_found_out() {
    let w = world().await;
    w.add_store().await;
    w.house.store.set_faults(Faults { forget_percent: 60, ..Faults::default() });
    let (device, source) = w.computer("desktop").await;
    for n in 0..12 {
        put(&source, &format!("IMG_{n}.jpg"), &noise(n, 5_000)).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    // Asked for the size right after, it does not know them: that is no confirmation.
    wait_for("it to be noticed", 60, async || Ok((w.keeper.store().await?.state.word() == "failing").then_some(())))
        .await
        .unwrap();
    let there = walk::originals_below(&w.house.store_folder().join("sealed")).map_or(0, |o| o.len()) as u64;
    assert!(w.keeper.store().await.unwrap().held.count <= there, "nothing counts that is not there");
    w.house.store.set_faults(Faults::default());
    w.keeper.wait_until_proven(90).await.unwrap();
    w.recovers_all(12).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_keeper_looks_after_stores_from_a_terminal() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    let password = w.folder.path().join("keeper.password");
    let who = ["--name", "Juno", "--password-file", password.to_str().unwrap()];
    let said = device.run(&[&["stores"], &who[..]].concat()).await.unwrap();
    assert!(said.out.contains("There is no store yet"), "{}", said.out);
    w.add_store().await;
    put(&source, "IMG_1.jpg", b"the picture of the weir").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let said = device.run(&[&["stores"], &who[..], &["list"]].concat()).await.unwrap();
    assert!(said.code == 0 && said.out.contains("North Quay  up to date"), "{} {}", said.code, said.out);
    let said = device.run(&[&["stores"], &who[..], &["test", "north quay"]].concat()).await.unwrap();
    assert!(
        said.code == 0 && said.out.contains("refuses bytes that were damaged") && said.out.ends_with("North Quay can be used.\n"),
        "{}",
        said.out
    );
    let paused = device.json(&[&["stores"], &who[..], &["pause", "North Quay"]].concat()).await.unwrap();
    assert_eq!(paused["state"], "paused");
    let on = device.json(&[&["stores"], &who[..], &["resume", "North Quay"]].concat()).await.unwrap();
    assert_eq!(on["state"], "idle");
    device.run(&[&["stores"], &who[..], &["check", "home", "reading"]].concat()).await.unwrap();
    let said = wait_for("the check to end", 60, async || {
        let said = device.run(&[&["stores"], &who[..], &["checks"]].concat()).await?;
        Ok(said.out.contains("all are right").then_some(said))
    })
    .await
    .unwrap();
    assert!(said.code == 0 && said.out.contains("North Quay  drill    not yet"), "{}", said.out);
    // What it costs: unknown at first, then from the prices that were named; the others stay.
    let said = device.run(&[&["stores"], &who[..], &["prices", "North Quay"]].concat()).await.unwrap();
    assert!(said.code == 0 && said.out.contains("Nothing is known"), "{}", said.out);
    let set = ["prices", "North Quay", "--currency", "EUR", "--storage", "0.006", "--egress", "0.02", "--fee", "1.5"];
    let told = device.json(&[&["stores"], &who[..], &set].concat()).await.unwrap();
    assert_eq!((&told["prices"]["storage"], &told["prices"]["fee"]), (&json!(0.006), &json!(1.5)), "{told}");
    let said = device.run(&[&["stores"], &who[..], &["prices", "north quay", "--minimum-days", "90"]].concat()).await.unwrap();
    assert!(said.out.contains("0.006 EUR") && said.out.contains("90 days"), "{}", said.out);
    let month = said.out.lines().find(|l| l.starts_with("a month in all")).unwrap_or_default();
    assert!(month.ends_with("1.50 EUR"), "{}", said.out);
    let refused = device.run(&[&["stores"], &who[..], &["prices", "North Quay", "--storage=-1"]].concat()).await.unwrap();
    assert_eq!(refused.code, 4, "{}", refused.err);
    // A store that does not work is an exit code of its own, with its reason.
    w.house.store.set_faults(Faults { region: "south".into(), ..Faults::default() });
    let said = device.run(&[&["stores"], &who[..], &["test", "North Quay"]].concat()).await.unwrap();
    assert!(
        said.code == 4 && said.out.contains("expecting 'south'") && said.out.contains("cannot be used"),
        "{} {}",
        said.code,
        said.out
    );
    let said = device.run(&[&["stores"], &who[..], &["test", "South Quay"]].concat()).await.unwrap();
    assert!(said.code == 2 && said.err.contains("there are North Quay"), "{}", said.err);
    fs::write(&password, "guessed").unwrap();
    assert_eq!(device.run(&[&["stores"], &who[..]].concat()).await.unwrap().code, 4);
}

/// Whoever can write to the store cannot have the house leave its pictures there in the clear, or believe what lies there in the clear.
#[tokio::test(flavor = "multi_thread")]
async fn a_store_cannot_switch_sealing_off() {
    let mut w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "a.jpg", b"the weir by day").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert!(kit.contains("\nCopies: sealed\n"), "{kit}");

    w.house.stop_service().await.unwrap();
    let format = w.house.store_folder().join("FORMAT.json");
    let before: Value = serde_json::from_slice(&fs::read(&format).unwrap()).unwrap();
    let mut forged = before.clone();
    (forged["sealed"], forged["version"]) = (json!(false), json!(2));
    fs::write(&format, forged.to_string()).unwrap();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    put(&source, "b.jpg", b"the weir by night").unwrap();
    device.json(&["backup"]).await.unwrap();
    let stopped = async |w: &World| {
        wait_for("the store to be stopped", 60, async || {
            let store = w.keeper.store().await?;
            Ok(store.reason.filter(|_| store.state.word() == "stopped"))
        })
        .await
        .unwrap()
    };
    let reason = stopped(&w).await;
    assert!(reason.contains("readable") && reason.contains("the house decided otherwise"), "{reason}");
    assert_eq!(w.keeper.overview().await.unwrap().state.word(), "trouble");
    // Neither checks nor drills take its word for anything.
    w.keeper
        .ask(Method::POST, &format!("api/stores/{}/resume", w.keeper.store().await.unwrap().id), Some(json!({})))
        .await
        .unwrap();
    assert_eq!(stopped(&w).await, reason);
    for (path, _) in walk::originals_below(&w.house.store_folder()).unwrap() {
        let bytes = fs::read(w.house.store_folder().join(&path)).unwrap();
        let plain = bytes.windows(8).any(|w| w == b"the weir") || path.to_string_lossy().starts_with("pictures");
        assert!(!plain, "{} is in the clear", path.display());
    }
    // Nor does whoever comes with the kit.
    let (code, said) = w.recover(&kit, "recovered");
    assert!(code == Some(4) && said.contains("the kit does not"), "{code:?} {said}");

    fs::write(&format, before.to_string()).unwrap();
    w.keeper
        .ask(Method::POST, &format!("api/stores/{}/resume", w.keeper.store().await.unwrap().id), Some(json!({})))
        .await
        .unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    w.recovers_all(2).await;
}

/// TLS before a store, with a certificate of its own, as boxes at home have it.
struct Front {
    address: SocketAddr,
    fingerprint: Digest,
    _serving: tokio::task::JoinSet<()>,
}

async fn front(store: SocketAddr, port: u16) -> Front {
    let made = rcgen::generate_simple_self_signed(["box.home".to_owned()]).unwrap();
    let (certificate, key) = (made.cert.der().clone(), made.signing_key.serialize_der());
    let fingerprint = Digest::of(&certificate);
    let config = rustls::ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(vec![certificate], key.try_into().unwrap())
        .unwrap();
    let tls = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await.unwrap();
    let address = listener.local_addr().unwrap();
    let mut serving = tokio::task::JoinSet::new();
    serving.spawn(async move {
        let mut speaking = tokio::task::JoinSet::new();
        while let Ok((client, _)) = listener.accept().await {
            let tls = tls.clone();
            speaking.spawn(async move {
                // Whoever does not trust the certificate goes away again.
                let Ok(mut client) = tls.accept(client).await else { return };
                let mut store = tokio::net::TcpStream::connect(store).await.unwrap();
                let _ = tokio::io::copy_bidirectional(&mut client, &mut store).await;
            });
        }
    });
    Front { address, fingerprint, _serving: serving }
}

/// A store at home has a certificate for which nobody vouches. It is shown, compared by a person, and that one alone is trusted: also by
/// the kit, and not another one in its place.
#[rstest]
#[case::an_object_storage(false)]
#[case::a_share(true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_store_at_home_is_known_by_its_certificate(#[case] is_share: bool) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut w = world().await;
    let share = StandInShare::start(w.folder.path().join("box"), "mill", "weir & co").await.unwrap();
    let behind = if is_share { share.address } else { w.house.store.address };
    let first = front(behind, 0).await;
    let mut form = if is_share {
        json!({ "name": "Box", "endpoint": format!("davs://{}/", first.address), "access_key": "mill", "secret_key": "weir & co" })
    } else {
        let mut form = w.house.store_form();
        form["endpoint"] = json!(format!("https://{}", first.address));
        form
    };
    let tried = trial(&w, form.clone()).await;
    assert_eq!((&tried["usable"], step(&tried, "reach").0), (&json!(false), "badly"), "{tried}");
    assert!(step(&tried, "reach").1.contains("no authority has signed"), "{tried}");
    let shown = tried["steps"][0]["certificate"].as_str().unwrap().to_owned();
    assert_eq!(shown.replace(':', "").to_lowercase(), first.fingerprint.to_string());
    let (status, _) = w.keeper.try_ask(Method::POST, "api/stores", Some(form.clone())).await.unwrap();
    assert!(status >= 400, "not added unseen");

    // Another one than it shows is not trusted, what is none is not understood, and in the clear there is none.
    form["certificate"] = json!(Digest::of(b"another box").to_string());
    let tried = trial(&w, form.clone()).await;
    assert!(tried["usable"] == false && step(&tried, "reach").1.contains("another certificate"), "{tried}");
    form["certificate"] = json!("3F:0A");
    assert_eq!(w.keeper.try_ask(Method::POST, "api/stores/trial", Some(form.clone())).await.unwrap().0, 400);
    let mut clear = w.house.store_form();
    clear["certificate"] = json!(shown);
    assert_eq!(w.keeper.try_ask(Method::POST, "api/stores", Some(clear)).await.unwrap().0, 400);

    form["certificate"] = json!(shown);
    assert_eq!(trial(&w, form.clone()).await["usable"], true);
    let added = w.keeper.ask(Method::POST, "api/stores", Some(form)).await.unwrap();
    assert_eq!(added["certificate"], json!(shown));
    let (device, source) = w.computer("desktop").await;
    put(&source, "IMG_1.jpg", &noise(1, 50_000)).unwrap();
    // Large enough for the way of large files.
    put(&source, "film.mp4", &noise(2, 20 << 20)).unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();

    // The kit knows it, and brings everything back; told of another one, it brings nothing.
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert!(kit.contains(&format!("\nCertificate: {}\n", first.fingerprint)), "{kit}");
    let file = w.folder.path().join("kit.txt");
    fs::write(&file, &kit).unwrap();
    let recover = |to: &str, more: &[&str]| {
        let mut command = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap());
        let output =
            command.args(["recover", "--kit"]).arg(&file).arg("--to").arg(w.folder.path().join(to)).args(more).output().unwrap();
        (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    assert!(recover("back", &[]).0);
    assert_eq!(walk::originals_below(&w.folder.path().join("back")).unwrap().len(), 2);
    let (done, said) = recover("none", &["--certificate", &Digest::of(b"another box").to_string()]);
    assert!(!done && said.contains("another certificate"), "{said}");

    // Somebody else answers in its place: nothing is sent there, and the keeper is asked.
    let port = first.address.port();
    drop(first);
    let second = wait_for("the port to be free", 20, async || {
        match std::net::TcpListener::bind(("127.0.0.1", port)) {
            Ok(free) => drop(free),
            Err(_) => return Ok(None),
        }
        Ok(Some(front(behind, port).await))
    })
    .await
    .unwrap();
    put(&source, "IMG_2.jpg", &noise(3, 50_000)).unwrap();
    device.json(&["backup"]).await.unwrap();
    wait_for("the store to be stopped", 60, async || Ok((w.keeper.store().await?.state.word() == "stopped").then_some(())))
        .await
        .unwrap();
    assert!(w.keeper.store().await.unwrap().reason.unwrap().contains("another certificate"));

    // It was given a new one: with that it goes on, also after a start.
    let id = w.keeper.store().await.unwrap().id;
    let new = json!({ "certificate": second.fingerprint.to_string() });
    w.keeper.ask(Method::POST, &format!("api/stores/{id}/resume"), Some(new)).await.unwrap();
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().proven.count, 3);
}
