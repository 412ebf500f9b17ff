//! A machine without a household: one is made at its door, or brought back with the kit, in the browser and by the API.

use std::{fs, time::Duration};

use crate::common::{World, put, world};
use fantoccini::Locator;
use reqwest::Method;
use serde_json::{Value, json};
use tempfile::TempDir;
use ypogeion_rehearsal::{
    browser::Browser,
    house::{House, Options},
    wait_for,
    walk::originals_below,
};
use ypogeion_standins::faults::Faults;
use ypogeion_wire::door::CODE_HEADER;

/// Asks at the door with a code; the status and what came with it.
async fn knock(house: &House, method: Method, path: &str, code: &str, body: Option<Value>) -> (u16, Value) {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let mut request = http.request(method, house.http.join(path).unwrap());
    if !code.is_empty() {
        request = request.header(CODE_HEADER, code);
    }
    if let Some(body) = body {
        request = request.json(&body);
    }
    let response = request.send().await.unwrap();
    let status = response.status().as_u16();
    let text = response.text().await.unwrap();
    (status, serde_json::from_str(&text).unwrap_or(Value::String(text)))
}

async fn bare() -> (House, TempDir) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().unwrap();
    (House::bare(Options::test(folder.path())).await.unwrap(), folder)
}

/// A house with some proven pictures, of which data folder and library are lost; the text of its kit.
async fn lost(count: usize) -> (World, String) {
    let mut w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..count {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("the harbour in fog, number {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let kit = w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    w.house.stop_service().await.unwrap();
    fs::remove_dir_all(w.folder.path().join("data")).unwrap();
    fs::remove_dir_all(w.house.library()).unwrap();
    (w, kit)
}

/// What is there to be signed in to, once the service has begun behind the door.
async fn behind(w: &mut World) {
    w.house.options.keeper.1 = "another long password".into();
    w.keeper = wait_for("the service behind the door", 30, async || Ok(w.house.keeper().await.ok())).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_household_is_made_by_whoever_has_the_code() {
    let (mut house, folder) = bare().await;
    let code = house.start_at_door().await.unwrap();
    // A lamp, a device and the console are told, each in its own way.
    let (status, state) = knock(&house, Method::GET, "api/state", "", None).await;
    assert_eq!((status, &state["state"]), (200, &json!("setup")), "{state}");
    assert_eq!(knock(&house, Method::GET, "api/health", "", None).await.0, 200);
    let (status, problem) = knock(&house, Method::GET, "api/session", "", None).await;
    assert_eq!((status, &problem["type"]), (503, &json!("urn:ypogeion:problem:not-set-up")), "{problem}");
    assert_eq!(knock(&house, Method::POST, "tus/", "", None).await.0, 503);
    assert_eq!(knock(&house, Method::GET, "library", "", None).await.0, 200, "the console's page");
    // While it waits, a command with the same data folder is refused: it would end the database under it.
    let setup = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap())
        .arg("--config")
        .arg(folder.path().join("ypogeiond.toml"))
        .args(["setup", "--accept-place", "--household", "Mill House", "--keeper", "Juno", "--password-file"])
        .arg(folder.path().join("ypogeiond.toml"))
        .output()
        .unwrap();
    assert!(String::from_utf8_lossy(&setup.stderr).contains("is running with it"), "{setup:?}");

    // Nobody without the code; typed as people type, it is the code.
    assert_eq!(knock(&house, Method::GET, "api/door", "", None).await.0, 401);
    assert_eq!(knock(&house, Method::GET, "api/door", "ABCD-EFGH", None).await.0, 401);
    let typed = code.to_lowercase().replace('-', " ");
    let (status, door) = knock(&house, Method::GET, "api/door", &typed, None).await;
    assert_eq!((status, &door["state"], &door["begun"]), (200, &json!("open"), &json!(false)), "{door}");
    assert_eq!(door["library"], json!(house.library().display().to_string()));

    // The place is thought about first, and what is typed is judged.
    let form = |keeper: &str, password: &str, accept: bool| json!({ "household": "Mill House", "keeper": keeper, "password": password, "accept_place": accept });
    let make = async |form: Value| knock(&house, Method::POST, "api/door/household", &code, Some(form)).await;
    assert_eq!(knock(&house, Method::POST, "api/door/household", "", Some(form("Juno", "weir at the mill", true))).await.0, 401);
    if door["grave"] == true {
        let (status, problem) = make(form("Juno", "weir at the mill", false)).await;
        assert!(status == 400 && problem["detail"].as_str().unwrap().contains("problem with the library’s place"), "{problem}");
    }
    let (status, problem) = make(form("Juno", "short", true)).await;
    assert!(status == 400 && problem["detail"].as_str().unwrap().contains("at least 10"), "{problem}");
    assert_eq!(make(form(" ", "weir at the mill", true)).await.0, 400);
    let (_, door) = knock(&house, Method::GET, "api/door", &code, None).await;
    assert_eq!(door["state"], "open", "a slip leaves it open: {door}");
    assert_eq!(make(form("Juno", "weir at the mill", true)).await.0, 201);

    // The service begins at the same address, and has no door any more.
    let keeper = wait_for("the service", 30, async || Ok(house.sign_in("Juno", "weir at the mill").await.ok())).await.unwrap();
    assert_eq!(keeper.ask(Method::GET, "api/session", None).await.unwrap()["household"], "Mill House");
    assert_eq!(knock(&house, Method::GET, "api/door", &code, None).await.0, 404);
    assert_eq!(make(form("Marisol", "kites over the sea", true)).await.0, 404);
    house.stop_service().await.unwrap();
    house.start_service().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_the_code_is_stopped() {
    let (mut house, _folder) = bare().await;
    let code = house.start_at_door().await.unwrap();
    let mut statuses = Vec::new();
    for n in 0..21 {
        statuses.push(knock(&house, Method::GET, "api/door", &format!("AAAA-{n:04}"), None).await.0);
    }
    assert_eq!((statuses[0], statuses[20]), (401, 429));
    // Who guessed is not told even when it is right, for five minutes.
    assert_eq!(knock(&house, Method::GET, "api/door", &code, None).await.0, 429);
    house.stop_service().await.unwrap();
    // Another start, another code.
    assert_ne!(house.start_at_door().await.unwrap(), code);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_house_is_gone_and_is_brought_back_in_the_browser() {
    let (mut w, kit) = lost(8).await;
    let code = w.house.start_at_door().await.unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.page.goto(w.house.http.as_str()).await.unwrap();
    browser.wait_for_text("Set up this server").await.unwrap();
    let field = async |name: &str| browser.page.find(Locator::Css(&format!("[name={name}]"))).await.unwrap();
    field("code").await.send_keys("WRNG-0000").await.unwrap();
    browser.click("Continue").await.unwrap();
    browser.wait_for_text("That is not the code").await.unwrap();
    field("code").await.clear().await.unwrap();
    field("code").await.send_keys(&code).await.unwrap();
    browser.click("Continue").await.unwrap();
    browser.wait_for_text("Begin a new household").await.unwrap();
    browser.page.find(Locator::Css("[role=radio][value=back]")).await.unwrap().click().await.unwrap();
    browser.wait("textarea[name=kit]").await.unwrap();

    // A slip of the pen is said before anything begins, and the form keeps what was typed.
    field("kit").await.send_keys(&kit.replacen("Key: AGE", "Key: AGF", 1)).await.unwrap();
    field("password").await.send_keys("another long password").await.unwrap();
    field("once").await.send_keys("another long passwort").await.unwrap();
    browser.wait_for_text("The two passwords are not the same.").await.unwrap();
    field("once").await.clear().await.unwrap();
    field("once").await.send_keys("another long password").await.unwrap();
    if let Ok(accept) = browser.page.find(Locator::Css("[role=checkbox]")).await {
        accept.click().await.unwrap();
    }
    browser.click("Restore the household").await.unwrap();
    browser.wait("p[role=alert]").await.unwrap();
    assert!(!w.folder.path().join("data/rebuilding").exists());
    field("kit").await.clear().await.unwrap();
    field("kit").await.send_keys(&kit).await.unwrap();
    browser.click("Restore the household").await.unwrap();
    browser.wait_for_text("The server is ready").await.unwrap();
    browser.wait_for_text("8 files of Juno").await.unwrap();
    wait_for("the way in", 30, async || {
        let ready = browser.page.find(Locator::XPath("//button[.='Sign in']")).await;
        Ok(match ready {
            Ok(button) if button.is_enabled().await? => Some(button.click().await?),
            _ => None,
        })
    })
    .await
    .unwrap();
    browser.wait("input[autocomplete=username]").await.unwrap();
    browser.sign_in(&w.house.http, "Juno", "another long password").await.unwrap();
    behind(&mut w).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!(originals_below(&w.house.library()).unwrap().len(), 8);
    let record = w.keeper.ask(Method::GET, "api/record", None).await.unwrap();
    assert!(record.to_string().contains("restored the household from its recovery kit"), "{record}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_kit_whose_store_has_no_ledger_any_more_leaves_nothing_behind() {
    let (mut w, kit) = lost(2).await;
    fs::remove_dir_all(w.house.store_folder().join("ledger")).unwrap();
    let code = w.house.start_at_door().await.unwrap();
    let form = json!({ "kit": kit, "password": "another long password", "accept_place": true });
    assert_eq!(knock(&w.house, Method::POST, "api/door/kit", &code, Some(form)).await.0, 202);
    let door = wait_for("the failure", 60, async || {
        let door = knock(&w.house, Method::GET, "api/door", &code, None).await.1;
        Ok(door["failed"].is_string().then_some(door))
    })
    .await
    .unwrap();
    assert!(door["failed"].as_str().unwrap().contains("Nothing of this ledger is there"), "{door}");
    // Another household may live here, with a key of its own: not with one that is on somebody's sheet.
    let data = w.folder.path().join("data");
    assert!(!data.join("household.key").exists() && !data.join("rebuilding").exists());
    let other = json!({ "household": "Mill House", "keeper": "Juno", "password": "another long password", "accept_place": true });
    assert_eq!(knock(&w.house, Method::POST, "api/door/household", &code, Some(other)).await.0, 201);
    behind(&mut w).await;
    let secret = kit.lines().find_map(|l| l.strip_prefix("Key: ")).unwrap();
    assert!(!fs::read_to_string(data.join("household.key")).unwrap().contains(secret));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bringing_back_that_is_cut_off_goes_on_and_nothing_else_is_made() {
    let (mut w, kit) = lost(5).await;
    let code = w.house.start_at_door().await.unwrap();
    let form = json!({ "kit": kit, "password": "another long password", "accept_place": true });
    let back = async |house: &House, code: &str| knock(house, Method::POST, "api/door/kit", code, Some(form.clone())).await;
    let view = async |house: &House, code: &str| knock(house, Method::GET, "api/door", code, None).await.1;

    // The store does not answer: that is said, nothing was begun, and anything may still be made.
    w.house.store.set_faults(Faults { outage: true, ..Faults::default() });
    assert_eq!(back(&w.house, &code).await.0, 202);
    let door = wait_for("the failure", 60, async || {
        let door = view(&w.house, &code).await;
        Ok(door["failed"].is_string().then_some(door))
    })
    .await
    .unwrap();
    assert_eq!((&door["state"], &door["begun"]), (&json!("open"), &json!(false)), "{door}");

    // Killed while the ledger is read, and somebody watches.
    w.house.store.set_faults(Faults { latency_ms: 3000, ..Faults::default() });
    assert_eq!(back(&w.house, &code).await.0, 202);
    let browser = Browser::start(375, 812).await.unwrap();
    browser.page.goto(w.house.http.as_str()).await.unwrap();
    browser.wait("input[name=code]").await.unwrap();
    browser.page.find(Locator::Css("input[name=code]")).await.unwrap().send_keys(&code).await.unwrap();
    browser.click("Continue").await.unwrap();
    browser.wait_for_text("Restoring the household").await.unwrap();
    let over = browser.page.execute("return document.documentElement.scrollWidth - innerWidth", vec![]).await.unwrap();
    assert!(over.as_i64().unwrap() <= 0, "{over} pixels too wide for a phone");
    assert_eq!(back(&w.house, &code).await.0, 400, "one at a time");
    wait_for("the ledger to be read", 60, async || {
        let told = view(&w.house, &code).await["told"].to_string();
        Ok(told.contains("Reading its list of contents").then_some(()))
    })
    .await
    .unwrap();
    tokio::time::sleep(Duration::from_millis(100)).await;
    w.house.kill_service();
    assert!(w.folder.path().join("data/rebuilding").exists());

    // The next start does not show half a house, and makes no other one in its place. Somebody who watched is told, and asked for the
    // new code.
    browser.wait_for_text("The server does not answer.").await.unwrap();
    w.house.store.set_faults(Faults::default());
    let code = w.house.start_at_door().await.unwrap();
    browser.wait_for_text("The server was restarted").await.unwrap();
    assert_eq!(view(&w.house, &code).await["begun"], true);
    let other = json!({ "household": "Another", "keeper": "Juno", "password": "weir at the mill", "accept_place": true });
    let (status, problem) = knock(&w.house, Method::POST, "api/door/household", &code, Some(other)).await;
    assert!(status == 400 && problem["detail"].as_str().unwrap().contains("was interrupted"), "{problem}");
    assert_eq!(back(&w.house, &code).await.0, 202);
    behind(&mut w).await;
    w.keeper.wait_until_proven(60).await.unwrap();
    assert_eq!(originals_below(&w.house.library()).unwrap().len(), 5);
    assert!(!w.folder.path().join("data/rebuilding").exists());

    // Cut off after the members were written, and given another password then: the one that was typed last is the keeper's.
    w.house.stop_service().await.unwrap();
    fs::write(w.folder.path().join("data/rebuilding"), "").unwrap();
    let code = w.house.start_at_door().await.unwrap();
    let last = json!({ "kit": kit, "password": "a third long password", "accept_place": true });
    assert_eq!(knock(&w.house, Method::POST, "api/door/kit", &code, Some(last)).await.0, 202);
    wait_for("the last password", 30, async || Ok(w.house.sign_in("Juno", "a third long password").await.ok())).await.unwrap();
}
