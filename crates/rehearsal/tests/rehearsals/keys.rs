//! The household's key: a kit that was kept, a new key, others who can open copies, and a server that keeps no key at all.

use std::{fs, path::Path, process::Command};

use crate::common::{World, library_files, put, world_with};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_offsite::Identity;
use ypogeion_rehearsal::{wait_for, walk};

/// A day's portion each second, and all of it.
const SOON: &str = "[checks]\nevery_hours = 0.0003\ncover_days = 0.00001\n";

async fn house(count: usize, settings: &str) -> World {
    let w = world_with(settings).await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..count {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("the picture of the weir with number {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(120).await.unwrap();
    w
}

async fn key(w: &World) -> Value {
    w.keeper.ask(Method::GET, "api/key", None).await.unwrap()
}

fn line<'a>(kit: &'a str, name: &str) -> &'a str {
    kit.lines().find_map(|l| l.strip_prefix(&format!("{name}: "))).unwrap_or_else(|| panic!("{name}"))
}

/// Shows the kit and types a part of it back.
async fn kept_kit(w: &World) -> String {
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    let end = line(&kit, "Key");
    let proof = json!({ "key_end": end[end.len() - 8..].to_lowercase(), "check": line(&kit, "Check") });
    let said = w.keeper.ask(Method::POST, "api/kit/proof", Some(proof)).await.unwrap();
    assert_eq!(said["kit"]["state"], "proven", "{said}");
    kit
}

fn password(w: &World) -> Value {
    json!({ "password": w.house.options.keeper.1 })
}

fn objects(w: &World) -> Vec<String> {
    let folder = w.house.store_folder().join("sealed");
    walk::originals_below(&folder).unwrap().into_keys().map(|p| p.to_string_lossy().into_owned()).collect()
}

/// What Debian's `age` says with this key.
fn opens(key: &str, file: &Path) -> bool {
    let scratch = tempfile::tempdir().unwrap();
    let identity = scratch.path().join("key");
    fs::write(&identity, format!("{key}\n")).unwrap();
    Command::new("age").arg("-d").arg("-i").arg(identity).arg(file).output().unwrap().status.success()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kit_is_proven_by_typing_a_part_of_it_back() {
    let w = house(1, "").await;
    assert_eq!(key(&w).await["kit"]["state"], "missing");
    assert_eq!(w.keeper.ask(Method::GET, "api/overview", None).await.unwrap()["kit"], "missing");
    let (status, _) =
        w.keeper.try_ask(Method::POST, "api/kit/proof", Some(json!({ "key_end": "AAAAAAAA", "check": "0" }))).await.unwrap();
    assert_eq!(status, 400, "nothing was shown yet");
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert_eq!(key(&w).await["kit"]["state"], "unproven");
    let (end, check) = (line(&kit, "Key"), line(&kit, "Check"));
    let end = &end[end.len() - 8..];
    for (key_end, check) in [("", check), ("QQQQQQQQ", check), (&end[1..], check), (end, "00000000")] {
        let (status, _) =
            w.keeper.try_ask(Method::POST, "api/kit/proof", Some(json!({ "key_end": key_end, "check": check }))).await.unwrap();
        assert_eq!(status, 400, "{key_end} {check}");
    }
    kept_kit(&w).await;
    // The same kit once more stays proven; another store makes it out of date.
    w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert_eq!(key(&w).await["kit"]["state"], "proven");
    let place = w.folder.path().join("drawer/red-disk");
    fs::create_dir_all(&place).unwrap();
    let disk = json!({ "name": "Red disk", "endpoint": format!("file://{}", place.display()) });
    w.keeper.ask(Method::POST, "api/stores", Some(disk)).await.unwrap();
    assert_eq!(key(&w).await["kit"]["state"], "outdated");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_key_sends_nothing_at_once_and_seals_everything_anew_over_time() {
    let w = house(6, SOON).await;
    let (old_kit, before) = (kept_kit(&w).await, objects(&w));
    let (status, _) = w.keeper.try_ask(Method::POST, "api/key/renew", Some(json!({ "password": "guessed" }))).await.unwrap();
    assert_eq!(status, 403);
    let said = w.keeper.ask(Method::POST, "api/key/renew", Some(password(&w))).await.unwrap();
    assert_eq!(
        (&said["earlier"], &said["kit"]["state"], &said["opens"]),
        (&json!(1), &json!("outdated"), &json!(true)),
        "{said}"
    );
    let kit = kept_kit(&w).await;
    assert_eq!(line(&kit, "Older key"), line(&old_kit, "Key"));
    // The new kit opens everything from the first moment on.
    assert_eq!(w.recover(&kit, "back-1").0, Some(0));
    assert!(w.came_back("back-1").0);
    wait_for("everything to be sealed anew", 120, async || {
        let left = key(&w).await["to_reseal"] == 0;
        Ok((left && objects(&w).len() == 6 && objects(&w).iter().all(|o| !before.contains(o))).then_some(()))
    })
    .await
    .unwrap();
    let (new, old) = (line(&kit, "Key"), line(&old_kit, "Key"));
    for object in objects(&w) {
        let object = w.house.store_folder().join("sealed").join(object);
        assert!(opens(new, &object) && !opens(old, &object), "with Debian's age: only the new key opens it");
    }
    assert_eq!(w.recover(&kit, "back-2").0, Some(0));
    assert!(w.came_back("back-2").0);
    // Whoever found the old sheet opens nothing with it any more.
    let (code, said) = w.recover(&old_kit, "stolen");
    assert_ne!(code, Some(0), "{said}");
    assert!(walk::originals_below(&w.folder.path().join("stolen")).map_or(true, |f| f.is_empty()));
    // And the list of the store has nothing that nobody knows.
    w.keeper.wait_until_proven(60).await.unwrap();
}

/// Whatever the server is given back, the kit that it prints opens everything, or it prints none.
#[tokio::test(flavor = "multi_thread")]
async fn no_kit_is_printed_that_lacks_a_key_that_is_needed() {
    // Nothing is sealed anew for a long time.
    let w = house(3, "").await;
    let first = kept_kit(&w).await;
    w.keeper.ask(Method::POST, "api/key/renew", Some(password(&w))).await.unwrap();
    let kit = kept_kit(&w).await;
    w.keeper.ask(Method::POST, "api/key/strict", Some(password(&w))).await.unwrap();
    let give = async |text: &str| {
        let lend = json!({ "key": text, "keep": true });
        w.keeper.try_ask(Method::POST, "api/key/lend", Some(lend)).await.unwrap()
    };
    let (status, said) = give(line(&kit, "Older key")).await;
    assert!(status == 400 && said["detail"].as_str().unwrap().contains("present key"), "an earlier key alone: {said}");
    let (status, said) = give(line(&kit, "Key")).await;
    assert!(status == 400 && said["detail"].as_str().unwrap().contains("Older key"), "the present one alone: {said}");
    assert_eq!(give("a shopping list").await.0, 400);
    assert_eq!(key(&w).await["strict"], true, "and it keeps none of them");
    // All of the kit, as it was printed.
    let (status, said) = give(&kit).await;
    assert_eq!((status, &said["strict"], &said["lacks"]), (200, &json!(false), &json!(0)), "{said}");
    let again = kept_kit(&w).await;
    assert_eq!((line(&again, "Key"), line(&again, "Older key")), (line(&kit, "Key"), line(&first, "Key")));
    assert_eq!(w.recover(&again, "back").0, Some(0));
    assert!(w.came_back("back").0);

    // A server that was given too little by an earlier version says so, and prints nothing.
    let file = w.folder.path().join("data/household.key");
    fs::write(&file, format!("{}\n", line(&kit, "Key"))).unwrap();
    assert_eq!(key(&w).await["lacks"], 1);
    let (status, said) = w.keeper.try_ask(Method::POST, "api/kit", Some(password(&w))).await.unwrap();
    assert!(status == 400 && said["detail"].as_str().unwrap().contains("Older key"), "{said}");
    assert_eq!(give(&kit).await.0, 200);
    assert_eq!(key(&w).await["lacks"], 0);
    kept_kit(&w).await;
}

/// A store that somebody put back to a state from before the household's key was made anew: nothing there opens any more, and it is the
/// household's own all the same, which fills it again.
#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_is_put_back_behind_new_keys_is_filled_again() {
    let w = house(4, SOON).await;
    let copy = |from: &Path, to: &Path| assert!(Command::new("cp").arg("-r").args([from, to]).status().unwrap().success());
    let (store, earlier) = (w.house.store_folder(), w.folder.path().join("earlier"));
    for round in 0..2 {
        if round == 1 {
            // What is there now is sealed for a key that will be one of the past, and so is what the first object names.
            copy(&store, &earlier);
        }
        w.keeper.ask(Method::POST, "api/key/renew", Some(password(&w))).await.unwrap();
        wait_for("everything to be sealed anew, and the ledger too", 120, async || {
            let waits = w.sql("SELECT count(*) FROM job WHERE kind IN ('ledger', 'reseal')") != "0";
            Ok((key(&w).await["to_reseal"] == 0 && !w.keeper.store().await?.ledger_due && !waits).then_some(()))
        })
        .await
        .unwrap();
    }
    w.keeper.wait_until_proven(60).await.unwrap();
    // The server has the present key alone, as after a kit whose earlier keys nobody typed.
    let kit = kept_kit(&w).await;
    w.keeper.ask(Method::POST, "api/key/strict", Some(password(&w))).await.unwrap();
    let back = json!({ "key": line(&kit, "Key"), "keep": true });
    let said = w.keeper.ask(Method::POST, "api/key/lend", Some(back)).await.unwrap();
    assert_eq!((&said["lacks"], &said["earlier"]), (&json!(2), &json!(2)), "{said}");
    fs::remove_dir_all(&store).unwrap();
    fs::rename(&earlier, &store).unwrap();
    for kind in ["listing", "reading", "drill"] {
        w.check(true, kind).await;
    }
    let filled = wait_for("the store to be filled again", 120, async || {
        // Also its list, of which the drill has found parts that nobody can read any more.
        Ok((w.keeper.store().await?.state.word() == "idle").then_some(()))
    })
    .await;
    if let Err(e) = filled {
        panic!("{e}: {:?} {}", w.keeper.store().await.unwrap(), w.keeper.ask(Method::GET, "api/work", None).await.unwrap());
    }
    let drill = w.check(true, "drill").await;
    assert_eq!((&drill["failed"], &drill["missing"], &drill["wrong"]), (&json!(false), &json!(0), &json!(0)), "{drill}");
    let kit = kept_kit(&w).await;
    assert_eq!(w.recover(&kit, "back").0, Some(0));
    assert!(w.came_back("back").0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_forgot_the_key_seals_compares_and_opens_nothing() {
    let mut w = house(5, "").await;
    let (status, said) = w.keeper.try_ask(Method::POST, "api/key/strict", Some(password(&w))).await.unwrap();
    assert!(status == 400 && said["detail"].as_str().unwrap().contains("type a part of it back"), "{said}");
    let kit = kept_kit(&w).await;
    let said = w.keeper.ask(Method::POST, "api/key/strict", Some(password(&w))).await.unwrap();
    assert_eq!((&said["strict"], &said["opens"]), (&json!(true), &json!(false)), "{said}");
    let secret = line(&kit, "Key").to_owned();
    let kept = fs::read_to_string(w.folder.path().join("data/household.key")).unwrap();
    assert!(!kept.contains("AGE-SECRET-KEY"), "the file holds no key");

    // It goes on after a start without the key: seals, sends, and compares what it cannot open.
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    let (device, source) = w.computer("tablet").await;
    put(&source, "IMG_9000.jpg", b"the picture of the harbour in fog").unwrap();
    device.json(&["backup"]).await.unwrap();
    wait_for("the new one to be offsite", 60, async || Ok((w.keeper.overview().await?.offsite.count == 6).then_some(())))
        .await
        .unwrap();
    w.house.store.flip(1).unwrap();
    let read = w.check(true, "reading").await;
    assert_eq!((&read["checked"], &read["wrong"]), (&json!(6), &json!(1)), "sealed bytes are compared: {read}");
    wait_for("it to be sent again", 60, async || Ok((w.keeper.overview().await?.offsite.count == 6).then_some(())))
        .await
        .unwrap();
    wait_for("its ledger to say so", 60, async || Ok((w.keeper.store().await?.unlisted == 0).then_some(()))).await.unwrap();
    assert!(w.keeper.overview().await.unwrap().proven.count < 6, "what nobody here opened is not called proven");
    let drill = w.check(true, "drill").await;
    assert!(drill["failed"] == true && drill["said"].as_str().unwrap().contains("keeps no key"), "{drill}");
    let (status, _) = w.keeper.try_ask(Method::POST, "api/kit", Some(password(&w))).await.unwrap();
    assert_eq!(status, 400, "no other kit can be printed");

    // What rots at home waits for the key, since nothing here opens the copy that would mend it.
    let file = w.house.library().join(&library_files(&w.house)[2]);
    let good = fs::read(&file).unwrap();
    fs::write(&file, b"the picture of the weir with number X").unwrap();
    assert_eq!(w.check(false, "reading").await["wrong"], 1);
    wait_for("it to wait for the key", 60, async || {
        let work = w.keeper.ask(Method::GET, "api/work", None).await?;
        let said = |f: &Value| f["error"].as_str().is_some_and(|e| e.contains("keeps no key"));
        Ok(work["faults"].as_array().into_iter().flatten().any(said).then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(w.keeper.overview().await.unwrap().damaged, 1);

    // With the key lent for an hour the drill is held, and nothing of it is kept.
    let (status, _) =
        w.keeper.try_ask(Method::POST, "api/key/lend", Some(json!({ "key": Identity::generate().reveal() }))).await.unwrap();
    assert_eq!(status, 403, "another household's key");
    let lent = w.keeper.ask(Method::POST, "api/key/lend", Some(json!({ "key": secret }))).await.unwrap();
    assert!(lent["lent_seconds"].as_u64().unwrap() > 3000 && lent["strict"] == true, "{lent}");
    wait_for("home to be mended", 60, async || Ok((w.keeper.overview().await?.damaged == 0).then_some(()))).await.unwrap();
    assert_eq!(fs::read(&file).unwrap(), good);
    let drill = w.check(true, "drill").await;
    assert_eq!((&drill["failed"], &drill["checked"], &drill["missing"]), (&json!(false), &json!(6), &json!(0)), "{drill}");
    assert!(!fs::read_to_string(w.folder.path().join("data/household.key")).unwrap().contains("AGE-SECRET-KEY"));

    // Given back for good, everything is proven again.
    let back = w.keeper.ask(Method::POST, "api/key/lend", Some(json!({ "key": secret, "keep": true }))).await.unwrap();
    assert_eq!((&back["strict"], &back["opens"]), (&json!(false), &json!(true)), "{back}");
    w.check(true, "reading").await;
    w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!(w.recover(&kit, "back").0, Some(0));
    assert!(w.came_back("back").0);
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_else_can_open_copies_as_well_until_they_are_let_out() {
    let w = house(3, SOON).await;
    let aunt = Identity::generate();
    let add =
        |recipient: String| json!({ "recipient": recipient, "name": "the aunt’s safe", "password": w.house.options.keeper.1 });
    let (status, _) = w.keeper.try_ask(Method::POST, "api/key/recipients", Some(add("age1nonsense".into()))).await.unwrap();
    assert_eq!(status, 400);
    let said = w.keeper.ask(Method::POST, "api/key/recipients", Some(add(aunt.recipient()))).await.unwrap();
    assert_eq!(said["others"][0]["name"], "the aunt’s safe", "{said}");
    let (status, _) = w.keeper.try_ask(Method::POST, "api/key/recipients", Some(add(aunt.recipient()))).await.unwrap();
    assert_eq!(status, 409, "once is enough");
    let sealed_for_both = async |both: bool| {
        wait_for("everything to be sealed anew", 120, async || {
            let own = key(&w).await;
            let all: Vec<_> = objects(&w).into_iter().map(|o| w.house.store_folder().join("sealed").join(o)).collect();
            let done = own["to_reseal"] == 0 && all.len() == 3;
            Ok((done && all.iter().all(|o| opens(&aunt.reveal(), o) == both)).then_some(()))
        })
        .await
        .unwrap();
    };
    sealed_for_both(true).await;
    w.keeper.ask(Method::DELETE, &format!("api/key/recipients/{}", aunt.recipient()), None).await.unwrap();
    sealed_for_both(false).await;
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    assert_eq!(w.recover(&kit, "back").0, Some(0));
    assert!(w.came_back("back").0);
}

/// The same from a terminal: print, type back, renew, forget, lend, let somebody else in.
#[tokio::test(flavor = "multi_thread")]
async fn the_keeper_looks_after_the_key_from_a_terminal() {
    let w = house(2, "").await;
    let (device, _) = w.computer("laptop").await;
    let password = w.folder.path().join("keeper.password");
    let say = async |what: &[&str]| {
        let who = ["key", "--name", "Juno", "--password-file", password.to_str().unwrap()];
        device.run(&[&who[..], what].concat()).await.unwrap()
    };
    // Never printed: said, with what to type, and an exit code of its own.
    let said = say(&[]).await;
    assert!(said.code == 1 && said.out.contains("NEVER PRINTED") && said.out.contains("ypogeion key kit"), "{}", said.out);

    let sheet = w.folder.path().join("kit.txt");
    let said = say(&["kit", "--to", sheet.to_str().unwrap()]).await;
    assert!(said.code == 0 && !said.out.contains("AGE-SECRET-KEY"), "{} {}", said.out, said.err);
    let kit = fs::read_to_string(&sheet).unwrap();
    // Where its ledger ends may be another place by now, and with it the check.
    let key_of = |kit: &str| line(kit, "Key").to_owned();
    assert_eq!(key_of(&kit), key_of(&w.keeper.kit(&w.house.options.keeper.1).await.unwrap()));
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&sheet).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    assert_eq!(say(&["kit", "--to", sheet.to_str().unwrap()]).await.code, 1, "never over another sheet");
    let last = say(&["kit"]).await.out;
    assert_eq!(key_of(&last), key_of(&kit));

    let (secret, check) = (line(&last, "Key"), line(&last, "Check"));
    let end = &secret[secret.len() - 8..];
    assert_eq!(say(&["prove", "--key-end", "QQQQQQQQ", "--check", check]).await.code, 4);
    let said = say(&["prove", "--key-end", end, "--check", check]).await;
    assert!(said.code == 0 && said.out.contains("a part was typed back"), "{} {}", said.out, said.err);

    // What cannot simply be taken back is asked for.
    let said = say(&["forget"]).await;
    assert!(said.code == 2 && said.err.contains("--yes"), "{}", said.err);
    let said = say(&["forget", "--yes"]).await;
    assert!(said.code == 0 && said.out.contains("keeps no key"), "{} {}", said.out, said.err);
    let said = say(&["lend", sheet.to_str().unwrap()]).await;
    assert!(said.code == 0 && said.out.contains("was lent the key") && said.out.contains("minutes"), "{} {}", said.out, said.err);
    let said = say(&["lend", "--keep", sheet.to_str().unwrap()]).await;
    assert!(said.code == 0 && said.out.contains("keeps the key"), "{} {}", said.out, said.err);

    // A new key makes the sheet incomplete, which is said until there is a new one.
    let said = say(&["renew", "--yes"]).await;
    assert!(said.code == 1 && said.out.contains("1 key before it") && said.out.contains("OUT OF DATE"), "{}", said.out);

    let other = String::from_utf8(Command::new("age-keygen").output().unwrap().stderr).unwrap();
    let recipient = other.trim().rsplit(' ').next().unwrap();
    let said = say(&["allow", "Oma Liesl", recipient]).await;
    assert!(said.out.contains(&format!("Opens too Oma Liesl, {recipient}")), "{} {}", said.out, said.err);
    assert_eq!(say(&["disallow", "Nobody"]).await.code, 2);
    assert!(!say(&["disallow", "oma liesl"]).await.out.contains("Opens too"));
}
