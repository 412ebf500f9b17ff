//! The console in headless Chromium, as a keeper uses it.

use std::collections::HashSet;

use crate::common::{self, library_files, put, world};
use fantoccini::{Locator, key::Key};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_demo::Size;
use ypogeion_rehearsal::{browser::Browser, stage, wait_for};

#[tokio::test(flavor = "multi_thread")]
async fn a_keeper_signs_in_pairs_a_device_adds_a_store_and_sees_pictures_sink() {
    let w = world().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    // A wrong password says so and lets one try again.
    browser.page.goto(w.house.http.as_str()).await.unwrap();
    browser.wait("input[name=name]").await.unwrap();
    let field = async |name: &str| browser.page.find(Locator::Css(&format!("input[name={name}]"))).await.unwrap();
    field("name").await.send_keys("Juno").await.unwrap();
    field("password").await.send_keys("not the password").await.unwrap();
    browser.click("Sign in").await.unwrap();
    browser.wait_for_text("Wrong name or password").await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.wait_for_text("Nothing is here yet.").await.unwrap();

    // Pair: the code on the page is claimed by a real device, and the page says so by itself.
    browser.click("Devices").await.unwrap();
    browser.wait_for_text("No device is paired yet").await.unwrap();
    browser.click("Pair a device").await.unwrap();
    browser.wait("[role=dialog] textarea").await.unwrap();
    let command = browser.page.execute("return document.querySelector('[role=dialog] textarea').value", vec![]).await.unwrap();
    let address = command.as_str().unwrap().split('\'').nth(1).unwrap().to_owned();
    let device = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("phone"));
    let pictures = w.folder.path().join("pictures");
    stage::pictures(&pictures, Size::SMALL, &|_, _| ()).unwrap();
    let camera = pictures.join("juno-phone/Camera");
    device.pair(&address, "Juno’s phone", "phone", &[("Camera", &camera)]).await.unwrap();
    browser.wait_for_text("Juno’s phone is paired.").await.unwrap();
    browser.click("Done").await.unwrap();
    browser.wait_for_text("nothing sent yet").await.unwrap();

    // The store refuses wrong keys in words, and takes the right ones.
    browser.click("Offsite").await.unwrap();
    browser.wait_for_text("All copies are in one house").await.unwrap();
    browser.click("Add a store").await.unwrap();
    browser.wait("[role=dialog] input[name=endpoint]").await.unwrap();
    let form = w.house.store_form();
    for name in ["name", "endpoint", "region", "bucket", "access_key"] {
        field(name).await.send_keys(form[name].as_str().unwrap()).await.unwrap();
    }
    field("secret_key").await.send_keys("wrong").await.unwrap();
    browser.click("Test and add").await.unwrap();
    browser.wait_for_text("check access key and secret key").await.unwrap();
    field("secret_key").await.clear().await.unwrap();
    field("secret_key").await.send_keys(form["secret_key"].as_str().unwrap()).await.unwrap();
    browser.click("Test and add").await.unwrap();
    browser.wait_for_text("North Quay").await.unwrap();

    // The overview follows what happens without being reloaded.
    browser.click("Overview").await.unwrap();
    browser.wait("figure").await.unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    browser.wait_for_text("The recovery kit was never printed.").await.unwrap();
    w.keeper.kit(&w.house.options.keeper.1).await.unwrap();
    browser.wait_for_text("Everything is safe, at home and offsite.").await.unwrap();
    let sent = w.keeper.overview().await.unwrap().home.count;
    let all = format!("{sent} files at home, {sent} offsite, {sent} proven");
    wait_for("the section to follow", 10, async || {
        let label = browser.page.find(Locator::Css("figure figcaption")).await?.html(true).await?;
        Ok(label.contains(&all).then_some(()))
    })
    .await
    .unwrap();

    // The library shows them by month; one opens with its evidence, and the arrows go on to the next.
    browser.click("Library").await.unwrap();
    browser.wait("section li img").await.unwrap();
    browser.wait_for_text("November 2026").await.unwrap();
    browser.page.find(Locator::Css("section li button")).await.unwrap().click().await.unwrap();
    browser.wait_for_text("Read back from North Quay and decrypted: right").await.unwrap();
    let first = browser.page.current_url().await.unwrap();
    browser.page.find(Locator::Css("[aria-label=Older]")).await.unwrap().click().await.unwrap();
    wait_for("the next picture", 10, async || Ok((browser.page.current_url().await? != first).then_some(()))).await.unwrap();

    // The kit asks for the password and shows what the API gives.
    browser.page.goto(w.house.http.join("offsite").unwrap().as_str()).await.unwrap();
    browser.click("Print the kit").await.unwrap();
    browser.wait("[role=dialog] input[type=password]").await.unwrap();
    browser.page.find(Locator::Css("[role=dialog] input")).await.unwrap().send_keys(&w.house.options.keeper.1).await.unwrap();
    browser.click("Show the kit").await.unwrap();
    browser.wait_for_text("AGE-SECRET-KEY-1").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_pages_fit_a_phone_and_tell_when_the_server_is_away() {
    let mut w = world().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "broken.jpg", b"\xff\xd8\xff\xe0 cut").unwrap();
    device.json(&["backup"]).await.unwrap();
    for _nothing_new in 0..2 {
        device.json(&["backup"]).await.unwrap();
    }
    let narrow = Browser::start(375, 812).await.unwrap();
    narrow.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    // Neither the page nor a part of it that could be pushed sideways; bars of links and lines of code may be.
    let over = "const parts = [...document.querySelectorAll('main *')].filter(e => getComputedStyle(e).overflowX === 'auto' \
                && !e.closest('pre, textarea, code, [role=tablist]')).map(e => e.scrollWidth - e.clientWidth); \
                return Math.max(document.documentElement.scrollWidth - innerWidth, ...parts)";
    let pages = [
        "",
        "library",
        "places",
        "folders",
        "devices",
        "offsite",
        "offsite/too-few",
        "offsite/files/home",
        "brought",
        "activity",
        "rules",
        "night",
        "restore",
        "me",
        "library/adopt",
    ];
    for page in pages {
        narrow.page.goto(w.house.http.join(page).unwrap().as_str()).await.unwrap();
        narrow.wait("main h1").await.unwrap();
        wait_for("the page to be loaded", 20, async || Ok((!narrow.text().await?.contains("Loading")).then_some(())))
            .await
            .unwrap();
        let over = narrow.page.execute(over, vec![]).await.unwrap();
        assert!(over.as_i64().unwrap() <= 0, "{page} is {over} pixels too wide for a phone");
    }
    narrow.page.goto(w.house.http.join("activity").unwrap().as_str()).await.unwrap();
    narrow.wait_for_text("complete").await.unwrap();
    narrow.wait_for_text("nothing new, in 2 backups of that day").await.unwrap();
    narrow.wait_for_text("sent 1").await.unwrap();
    narrow.click("Show all").await.unwrap();
    wait_for("each to have its line", 20, async || Ok((narrow.text().await?.matches("nothing new").count() == 2).then_some(())))
        .await
        .unwrap();
    w.house.stop_service().await.unwrap();
    narrow.wait_for_text("The server does not answer.").await.unwrap();
    w.house.start_service().await.unwrap();
    wait_for("the page to go on by itself", 30, async || Ok((!narrow.text().await?.contains("does not answer")).then_some(())))
        .await
        .unwrap();
}

/// The night page: this browser becomes a device, sends what is chosen, sends nothing twice, and ends when it is revoked.
#[tokio::test(flavor = "multi_thread")]
async fn a_phone_sends_from_its_browser() {
    let w = world().await;
    let pictures = w.folder.path().join("chosen");
    put(&pictures, "IMG_20260412_101500.jpg", b"a kite").unwrap();
    put(&pictures, "VID_20260412_101600.mp4", &[7; 300_000]).unwrap();
    let chosen: Vec<String> =
        ["IMG_20260412_101500.jpg", "VID_20260412_101600.mp4"].iter().map(|n| pictures.join(n).display().to_string()).collect();
    let phone = Browser::start(375, 812).await.unwrap();
    phone.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    let night = w.house.http.join("night").unwrap();
    phone.page.goto(night.as_str()).await.unwrap();
    phone.click("Let this browser send").await.unwrap();
    let choose = async || {
        phone.wait("input[type=file]").await.unwrap();
        phone.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(&chosen.join("\n")).await.unwrap();
        phone.click("Send 2 files").await.unwrap();
        phone.wait_for_text("All 2 have arrived.").await.unwrap();
    };
    choose().await;
    assert_eq!(library_files(&w.house), ["juno/2026/04/IMG_20260412_101500.jpg", "juno/2026/04/VID_20260412_101600.mp4"]);
    // The same again, on another evening: they are here already.
    phone.page.goto(night.as_str()).await.unwrap();
    choose().await;
    assert_eq!(library_files(&w.house).len(), 2);
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    assert_eq!((devices.as_array().unwrap().len(), &devices[0]["name"]), (1, &"Juno’s browser".into()));
    let revoke = format!("api/devices/{}/revoke", devices[0]["id"].as_str().unwrap());
    w.keeper.ask(Method::POST, &revoke, None).await.unwrap();
    phone.page.goto(night.as_str()).await.unwrap();
    phone.wait("input[type=file]").await.unwrap();
    phone.page.find(Locator::Css("input[type=file]")).await.unwrap().send_keys(&chosen[0]).await.unwrap();
    phone.click("Send 1 file").await.unwrap();
    phone.wait_for_text("Let this browser send").await.unwrap();
}

/// A page that works says nothing in the browser's console: no file that is missing, nothing that its own policy forbids, no error. And nobody
/// is kept from using it.
#[tokio::test(flavor = "multi_thread")]
async fn no_page_complains_whoever_looks_at_it() {
    let mut w = world().await;
    for (name, role) in [("Piet", "member"), ("Oma Liesl", "guest")] {
        let form = json!({ "name": name, "role": role, "password": "kites over the sea" });
        w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    }
    w.add_store().await;
    let raw = w.raw_device("phone").await;
    let scene = ypogeion_demo::scenes::draw(ypogeion_demo::scenes::Scene::Weir, 7, 0.0, 480, 360);
    let mut bytes = Vec::new();
    image::codecs::jpeg::JpegEncoder::new(&mut bytes).encode_image(&scene).unwrap();
    let path = raw.create(bytes.len(), &common::metadata(&[("filename", "IMG_20260412_101530.jpg")])).await;
    let original = raw.append(&path, 0, &bytes).await.header("ypogeion-original").to_owned();
    let shown = format!("api/originals/{original}/preview/small");
    wait_for("the preview", 20, async || Ok(w.keeper.bytes(&shown).await.ok())).await.unwrap();

    let browser = Browser::start(1280, 800).await.unwrap();
    let password = w.house.options.keeper.1.clone();
    let people = [
        None,
        Some(("Juno", password.as_str())),
        Some(("Piet", "kites over the sea")),
        Some(("Oma Liesl", "kites over the sea")),
    ];
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites" }))).await.unwrap()["id"].clone();
    let album = album.as_str().unwrap().to_owned();
    let put = json!({ "pictures": [original], "inside": true });
    w.keeper.ask(Method::POST, &format!("api/albums/{album}/pictures"), Some(put)).await.unwrap();
    w.keeper.ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "household": "add" }))).await.unwrap();
    let own = format!("library/{original}");
    let (shared, within) = (format!("albums/{album}"), format!("albums/{album}/{original}"));
    let pages = [
        "",
        "library",
        own.as_str(),
        "albums",
        shared.as_str(),
        within.as_str(),
        "library/adopt",
        "places",
        "folders",
        "devices",
        "offsite",
        "offsite/too-few",
        "offsite/files/home",
        "brought",
        "restore",
        "rules",
        "night",
        "me",
        "activity",
        "nowhere",
    ];
    let (mut barriers, mut looked_at) = (Vec::new(), HashSet::new());
    for who in people {
        browser.page.delete_all_cookies().await.unwrap();
        if let Some((name, password)) = who {
            browser.sign_in(&w.house.http, name, password).await.unwrap();
        }
        for page in pages {
            browser.page.goto(w.house.http.join(page).unwrap().as_str()).await.unwrap();
            browser.wait("h1, input[name=name]").await.unwrap();
            // Whatever the page asks for has been answered when nothing is under way for a moment.
            let idle = "const done = arguments[0]; let last = performance.now(), n = -1;
                 const look = () => { const m = performance.getEntriesByType('resource').length;
                     if (m !== n) { n = m; last = performance.now() }
                     performance.now() - last > 400 ? done(n) : setTimeout(look, 50) };
                 look()";
            browser.page.execute_async(idle, vec![]).await.unwrap();
            let mut said = browser.complaints().await.unwrap();
            if who.is_none_or(|(name, _)| name == "Oma Liesl") && [&own, &shared, &within].contains(&&page.to_owned()) {
                // Somebody else's picture, or album: the server says no, and a browser notes each no.
                said.retain(|line| !line.contains(&original) && !line.contains(&album));
            }
            assert!(said.is_empty(), "{who:?} /{page}: {said:?}");
            // A stranger is shown one page, whatever the address.
            let shown = browser.page.execute("return document.body.innerHTML", vec![]).await.unwrap();
            if looked_at.insert(shown.to_string()) {
                barriers.extend(browser.barriers().await.unwrap().into_iter().map(|b| format!("{who:?} /{page}: {b}")));
            }
        }
    }
    assert!(barriers.is_empty(), "{}", barriers.join("\n"));
    // Checks that can fail: a picture that says nothing, and a page whose server is gone.
    browser.page.execute("document.querySelector('main').append(new Image())", vec![]).await.unwrap();
    assert!(browser.barriers().await.unwrap().iter().any(|b| b.starts_with("image-alt")));
    w.house.kill_service();
    browser.page.execute("fetch('/api/state')", vec![]).await.unwrap();
    wait_for("a complaint", 10, async || Ok((!browser.complaints().await?.is_empty()).then_some(()))).await.unwrap();
}

/// What another app shares with the installed page waits there until it is home, and the screen stays on while it is sent.
#[tokio::test(flavor = "multi_thread")]
async fn what_another_app_shares_waits_until_it_is_home() {
    let w = world().await;
    let phone = Browser::start(375, 812).await.unwrap();
    phone.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    let night = w.house.http.join("night").unwrap();
    phone.page.goto(night.as_str()).await.unwrap();
    phone.click("Let this browser send").await.unwrap();
    phone.wait("input[type=file]").await.unwrap();
    let run = async |script: &str| phone.page.execute(script, vec![]).await.unwrap();
    wait_for("the worker that takes what is shared", 20, async || {
        Ok(run("return navigator.serviceWorker.controller !== null").await.as_bool().filter(|there| *there))
    })
    .await
    .unwrap();

    // What a phone does with the page's manifest when its gallery shares two pictures.
    let manifest = w.keeper.bytes("manifest.webmanifest").await.unwrap();
    let manifest: serde_json::Value = serde_json::from_slice(&manifest).unwrap();
    let target = &manifest["share_target"];
    let share = format!(
        "const form = document.createElement('form');
         Object.assign(form, {{ action: {action}, method: {method}, enctype: {enctype} }});
         const input = document.createElement('input');
         Object.assign(input, {{ type: 'file', multiple: true, name: {name} }});
         const given = new DataTransfer();
         given.items.add(new File(['a kite'], 'IMG_20260412_101500.jpg', {{ type: 'image/jpeg', lastModified: 1776000000000 }}));
         given.items.add(new File(['fog & weir'], 'Nebel über dem Wehr.jpg', {{ type: 'image/jpeg', lastModified: 1776000000000 }}));
         input.files = given.files;
         form.append(input);
         document.body.append(form);
         form.submit()",
        action = target["action"],
        method = target["method"],
        enctype = target["enctype"],
        name = target["params"]["files"][0]["name"],
    );
    // A form on somebody else's page that does the same gives nothing. (Another port is another origin.)
    let shared = "const done = arguments[0]; caches.open('night-shared').then((c) => c.keys()).then((keys) => done(keys.length))";
    let there = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let foreign = format!("http://127.0.0.1:{}/", there.local_addr().unwrap().port());
    std::thread::spawn(move || {
        use std::io::{Read, Write};
        // Its page, and whatever else the browser asks for.
        for line in there.incoming().take(2) {
            let mut line = line.unwrap();
            let _ = line.read(&mut [0; 4096]);
            let _ = line.write_all(b"HTTP/1.1 200 OK\r\ncontent-type: text/html\r\ncontent-length: 26\r\nconnection: close\r\n\r\n<html><body></body></html>");
        }
    });
    phone.page.goto(&foreign).await.unwrap();
    let action = w.house.http.join(target["action"].as_str().unwrap()).unwrap();
    run(&share.replace(&target["action"].to_string(), &json!(action.as_str()).to_string())).await;
    phone.wait("input[type=file]").await.unwrap();
    assert_eq!(phone.page.current_url().await.unwrap(), night);
    assert_eq!(phone.page.execute_async(shared, vec![]).await.unwrap(), json!(0));
    run(&share).await;
    phone.wait_for_text("0 of 2 files have arrived").await.unwrap();
    assert_eq!(phone.page.current_url().await.unwrap(), night);
    // Closed without sending: they are still there tomorrow.
    phone.page.goto(w.house.http.join("library").unwrap().as_str()).await.unwrap();
    phone.page.goto(night.as_str()).await.unwrap();
    phone.wait_for_text("0 of 2 files have arrived").await.unwrap();

    let listen = "const ask = navigator.wakeLock.request.bind(navigator.wakeLock);
         window.locks = [];
         navigator.wakeLock.request = async (kind) => { const lock = await ask(kind); window.locks.push(lock); return lock }";
    run(listen).await;
    phone.click("Send 2 files").await.unwrap();
    phone.wait_for_text("All 2 have arrived.").await.unwrap();
    let files = library_files(&w.house);
    assert!(files.len() == 2 && files[0] == "juno/2026/04/IMG_20260412_101500.jpg", "{files:?}");
    assert!(files[1].ends_with("/Nebel über dem Wehr.jpg"), "{files:?}");
    // Sharing carries no file time, and none is made up.
    let kept = w.keeper.ask(Method::GET, "api/originals?limit=10", None).await.unwrap();
    let fog = kept["originals"].as_array().unwrap().iter().find(|o| o["name"] == "Nebel über dem Wehr.jpg").unwrap();
    let fog = w.keeper.ask(Method::GET, &format!("api/originals/{}", fog["id"].as_str().unwrap()), None).await.unwrap();
    assert_eq!(fog["taken_rule"], "received");
    wait_for("the screen to be let go", 10, async || {
        let locks = run("return window.locks.map((lock) => [lock.type, lock.released])").await;
        Ok((locks == json!([["screen", true]])).then_some(()))
    })
    .await
    .unwrap();
    // They need not wait any more.
    phone.page.goto(night.as_str()).await.unwrap();
    phone.wait("input[type=file]").await.unwrap();
    wait_for("nothing to wait", 10, async || {
        let waiting =
            "const done = arguments[0]; caches.open('night-shared').then((c) => c.keys()).then((keys) => done(keys.length))";
        Ok((phone.page.execute_async(waiting, vec![]).await? == json!(0)).then_some(()))
    })
    .await
    .unwrap();
    assert!(!phone.text().await.unwrap().contains("files home"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_keeper_sees_what_a_filing_plan_does_before_and_can_take_it_back() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    for name in ["IMG_20260412_101500.jpg", "IMG_20260513_101500.jpg"] {
        put(&source, name, name.as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join("rules").unwrap().as_str()).await.unwrap();
    browser.wait_for_text("All 2 files are where this plan puts them.").await.unwrap();
    browser.page.find(Locator::Css("[role=radio][value=year]")).await.unwrap().click().await.unwrap();
    browser.wait_for_text("juno/2026/IMG_20260412_101500.jpg").await.unwrap();
    browser.click("Use this plan").await.unwrap();
    browser.wait_for_text("The files themselves are not changed.").await.unwrap();
    browser.click("Move 2 files").await.unwrap();
    browser.wait_for_text("2 moved").await.unwrap();
    assert_eq!(library_files(&w.house), ["juno/2026/IMG_20260412_101500.jpg", "juno/2026/IMG_20260513_101500.jpg"]);
    browser.click("Undo").await.unwrap();
    browser.wait_for_text("undoing a move").await.unwrap();
    wait_for("the files to be back", 20, async || {
        Ok((library_files(&w.house) == ["juno/2026/04/IMG_20260412_101500.jpg", "juno/2026/05/IMG_20260513_101500.jpg"])
            .then_some(()))
    })
    .await
    .unwrap();
    // How deep before a phone may let go: chosen here, kept by the service.
    browser.page.find(Locator::Css("[role=radio][value=offsite]")).await.unwrap().click().await.unwrap();
    wait_for("the rule to be kept", 10, async || {
        let rules = w.keeper.ask(Method::GET, "api/household", None).await?;
        Ok((rules["clear_at"] == "offsite").then_some(()))
    })
    .await
    .unwrap();
}

/// One of a list, chosen by the mouse and by the keyboard; and yes or no, by the words beside it.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_chosen_is_kept() {
    let w = world().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join("rules").unwrap().as_str()).await.unwrap();
    browser.wait_for_text("Deleted pictures").await.unwrap();
    let kept = async |what: &str, is: Value| {
        let rule = async || {
            let rules = w.keeper.ask(Method::GET, "api/household", None).await?;
            Ok((rules[what] == is).then_some(()))
        };
        wait_for(&format!("{what} to be {is}"), 10, rule).await.unwrap();
    };
    let list = async |label: &str| {
        let which = format!("[role=combobox][aria-label='{label}']");
        browser.page.find(Locator::Css(&which)).await.unwrap()
    };
    list("Kept on this server").await.click().await.unwrap();
    browser.page.find(Locator::XPath("//*[@role='option'][contains(., '90 days')]")).await.unwrap().click().await.unwrap();
    kept("home_days", json!(90)).await;
    // From five per cent one further, without a mouse.
    kept("safety_stop_percent", json!(5)).await;
    list("Safety stop").await.send_keys(&char::from(Key::Down).to_string()).await.unwrap();
    let focused = async || browser.page.active_element().await.unwrap();
    focused().await.send_keys(&char::from(Key::Down).to_string()).await.unwrap();
    focused().await.send_keys(&char::from(Key::Enter).to_string()).await.unwrap();
    kept("safety_stop_percent", json!(10)).await;
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
    for on in [true, false] {
        browser.page.find(Locator::XPath("//label[contains(., 'Make a JPEG copy')]")).await.unwrap().click().await.unwrap();
        kept("derive_jpeg", json!(on)).await;
        let mark =
            browser.page.find(Locator::XPath("//label[contains(., 'Make a JPEG copy')]//*[@role='checkbox']")).await.unwrap();
        wait_for("the mark to say so", 10, async || {
            Ok((mark.attr("aria-checked").await?.as_deref() == Some(if on { "true" } else { "false" })).then_some(()))
        })
        .await
        .unwrap();
    }
    assert_eq!(browser.complaints().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_is_connected_with_a_password_of_its_own() {
    let w = world().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.click("Devices").await.unwrap();
    browser.wait_for_text("No device is paired yet").await.unwrap();
    browser.click("Pair a device").await.unwrap();
    browser.click("Connect it with a password").await.unwrap();
    browser.wait("[role=dialog] form input").await.unwrap();
    browser.page.find(Locator::Css("[role=dialog] form input")).await.unwrap().send_keys("Scanner").await.unwrap();
    browser.click("Create its password").await.unwrap();
    browser.wait_for_text("Scanner can send now").await.unwrap();
    let values = "return [...document.querySelectorAll('[role=dialog] dd')].map(e => e.textContent)";
    let shown = browser.page.execute(values, vec![]).await.unwrap();
    let shown: Vec<&str> = shown.as_array().unwrap().iter().filter_map(|v| v.as_str()).collect();
    assert!(shown[0].starts_with("https://") && shown[0].ends_with("/dav/"), "{shown:?}");
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let at = w.house.http.join("dav/scan.jpg").unwrap();
    let sent = http.put(at).basic_auth(shown[2], Some(shown[3])).body("a letter").send().await.unwrap();
    assert_eq!(sent.status(), 201);
    browser.click("Done").await.unwrap();
    browser.wait_for_text("Scanner").await.unwrap();
    browser.wait_for_text("all sent").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_old_disk_is_adopted_once_its_plan_was_seen() {
    let w = world().await;
    put(&w.house.disks(), "Blue disk/2019/IMG_20190412_101530.jpg", b"forum").unwrap();
    put(&w.house.disks(), "Blue disk/notes.txt", b"gelato").unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.click("Library").await.unwrap();
    browser.click("Adopt an old disk").await.unwrap();
    browser.wait_for_text("Nothing was adopted yet").await.unwrap();
    browser.click("Look through a folder").await.unwrap();
    // Into the one folder that the settings name, and there the disk.
    browser.wait("[role=dialog] li button").await.unwrap();
    browser.page.find(Locator::Css("[role=dialog] li button")).await.unwrap().click().await.unwrap();
    browser.wait("[aria-label='Choose Blue disk']").await.unwrap();
    browser.page.find(Locator::Css("[aria-label='Choose Blue disk']")).await.unwrap().click().await.unwrap();
    browser.click("Look through it").await.unwrap();
    browser.wait_for_text("1 file would be copied").await.unwrap();
    assert!(library_files(&w.house).is_empty());
    browser.click("1 left out").await.unwrap();
    browser.wait_for_text("neither a picture nor a video").await.unwrap();
    browser.page.find(Locator::Css("[role=dialog] [aria-label=Close]")).await.unwrap().click().await.unwrap();
    browser.click("Copy 1 file").await.unwrap();
    browser.wait_for_text("1 copied").await.unwrap();
    assert_eq!(library_files(&w.house), ["juno/2019/04/IMG_20190412_101530.jpg"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_keeper_says_when_copies_leave_and_has_them_checked() {
    let w = world().await;
    w.add_store().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "IMG_0001.jpg", b"kite").unwrap();
    device.json(&["backup"]).await.unwrap();
    w.keeper.wait_until_proven(60).await.unwrap();
    let mut browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.click("Offsite").await.unwrap();
    browser.click("Hours and speed").await.unwrap();
    browser.click("Fast at night, slow by day").await.unwrap();
    browser.wait("[role=dialog] input[type=time]").await.unwrap();
    browser.click("Sun").await.unwrap();
    browser.click("Save").await.unwrap();
    let changed = wait_for("the hours to be kept", 30, async || {
        let store = w.keeper.ask(Method::GET, "api/stores", None).await?[0].clone();
        Ok((store["week"]["windows"].as_array().is_some_and(|w| w.len() == 1)).then_some(store))
    })
    .await
    .unwrap();
    let days = json!(["mon", "tue", "wed", "thu", "fri", "sat"]);
    let night = json!({ "days": days, "from": "23:00", "until": "06:00", "pace": { "may": "full", "rate": null } });
    assert_eq!(changed["week"], json!({ "windows": [night], "otherwise": { "may": "limited", "rate": 500_000 } }));
    browser.click("Pause").await.unwrap();
    browser.wait_for_text("Nothing is sent there until you resume").await.unwrap();
    browser.click("Resume").await.unwrap();
    // One copy is lost; comparing the list finds that, and the page says so as it happens.
    w.house.store.lose(1).unwrap();
    browser.click("Compare now").await.unwrap();
    if let Err(e) = browser.wait_for_text("1 object compared: 1 missing.").await {
        panic!("{e}: {}", w.keeper.ask(Method::GET, "api/checks", None).await.unwrap());
    }
    browser.wait_for_text("good now").await.unwrap();
    browser.click("Hold a drill now").await.unwrap();
    browser.wait_for_text("came back and is right").await.unwrap();
    browser.resize(375, 812).await.unwrap();
    let wide = "return document.documentElement.scrollWidth <= document.documentElement.clientWidth";
    assert_eq!(browser.page.execute(wide, vec![]).await.unwrap(), json!(true), "no scrolling sideways on a phone");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_deleted_taken_back_and_removed_with_the_keepers_look() {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..6 {
        put(&source, &format!("IMG_{n:04}.jpg"), format!("picture {n}").as_bytes()).unwrap();
    }
    device.json(&["backup"]).await.unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    let delete_one = async || {
        browser.click("Library").await.unwrap();
        browser.wait("section li button").await.unwrap();
        browser.page.execute("document.querySelector('section li button').click()", vec![]).await.unwrap();
        browser.wait("[role=dialog] dl").await.unwrap();
        browser.click("Delete …").await.unwrap();
        browser.wait_for_text("for 60 days. Until then, one click brings it back.").await.unwrap();
        browser.wait("[role=dialog] button:not([disabled])").await.unwrap();
        browser
            .page
            .execute("[...document.querySelectorAll('button')].findLast(b => b.textContent === 'Delete').click()", vec![])
            .await
            .unwrap();
    };
    delete_one().await;
    browser.wait_for_text("5 pictures of yours").await.unwrap();
    browser.click("Restore").await.unwrap();
    browser.wait_for_text("removed in 60 days").await.unwrap();
    browser.page.execute("document.querySelector('li [role=checkbox]').click()", vec![]).await.unwrap();
    browser.click("Bring back").await.unwrap();
    browser.wait_for_text("You have deleted nothing").await.unwrap();
    browser.click("Library").await.unwrap();
    browser.wait_for_text("6 pictures of yours").await.unwrap();

    // One of six is more than a twentieth: removing it now waits for the keeper's look.
    delete_one().await;
    browser.wait_for_text("5 pictures of yours").await.unwrap();
    browser.click("Restore").await.unwrap();
    browser.wait("li [role=checkbox]").await.unwrap();
    browser.page.execute("document.querySelector('li [role=checkbox]').click()", vec![]).await.unwrap();
    browser.click("Remove now …").await.unwrap();
    browser.wait_for_text("The stores keep its copy for 30 days more").await.unwrap();
    browser.click("Remove now").await.unwrap();
    browser.wait_for_text("1 deleted file is kept until you confirm that it may be removed.").await.unwrap();
    browser.wait_for_text("16 % of the library, would be removed within one day, and the limit is 5 %").await.unwrap();
    browser.click("I have checked: remove it for good …").await.unwrap();
    browser.wait_for_text("What is to stay, bring back first").await.unwrap();
    browser.click("Remove it").await.unwrap();
    browser.wait_for_text("You have deleted nothing").await.unwrap();
    wait_for("the file to go", 30, async || Ok((library_files(&w.house).len() == 5).then_some(()))).await.unwrap();
}

/// Pages come when they are opened. One that cannot be fetched says so, and comes when the server is there again.
#[tokio::test(flavor = "multi_thread")]
async fn a_page_that_cannot_be_fetched_says_so() {
    let mut w = world().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.page.goto(w.house.http.as_str()).await.unwrap();
    browser.wait("input[name=name]").await.unwrap();
    // Nothing is fetched before it is opened, as on a slow line.
    let slow = "const later = window.setTimeout; window.setTimeout = (act, time, ...more) => time === 2000 ? 0 : later(act, time, ...more)";
    browser.page.execute(slow, vec![]).await.unwrap();
    for (field, text) in [("name", "Juno"), ("password", w.house.options.keeper.1.clone().as_str())] {
        browser.page.find(Locator::Css(&format!("input[name={field}]"))).await.unwrap().send_keys(text).await.unwrap();
    }
    browser.page.find(Locator::Css("button[type=submit]")).await.unwrap().click().await.unwrap();
    browser.wait_for_text("Nothing is here yet.").await.unwrap();
    browser.click("Activity").await.unwrap();
    browser.wait_for_text("No backup yet").await.unwrap();
    w.house.stop_service().await.unwrap();
    browser.click("Offsite").await.unwrap();
    browser.wait_for_text("This page could not be fetched from the server").await.unwrap();
    // What was opened before is there all the same.
    browser.click("Activity").await.unwrap();
    browser.wait_for_text("No backup yet").await.unwrap();
    browser.click("Offsite").await.unwrap();
    browser.wait_for_text("This page could not be fetched from the server").await.unwrap();
    w.house.start_service().await.unwrap();
    browser.click("Try again").await.unwrap();
    browser.wait_for_text("Add a store").await.unwrap();
    assert!(browser.page.current_url().await.unwrap().path().ends_with("/offsite"));
}
