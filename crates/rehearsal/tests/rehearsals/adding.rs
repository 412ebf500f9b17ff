//! Pictures that somebody adds in the browser: chosen, dropped, pasted; to the library and to albums, by whom, and what is said of them.

use fantoccini::Locator;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{browser::Browser, wait_for};

use crate::{
    common::{library_files, put, world},
    library::Looking,
};

const PASSWORD: &str = "kites over the sea";
const FILES: &str = "input[aria-label='Files to add']";

async fn add(l: &Browser, files: &[&std::path::Path]) {
    let all: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
    l.wait(FILES).await.unwrap();
    l.page.find(Locator::Css(FILES)).await.unwrap().send_keys(&all.join("\n")).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_added_in_the_browser() {
    let w = world().await;
    let folder = w.folder.path().join("chosen");
    for (name, bytes) in
        [("IMG_20260412_101500.jpg", &b"a kite"[..]), ("VID_20260412_101600.mp4", &[7; 300_000]), ("letter.pdf", b"dear")]
    {
        put(&folder, name, bytes).unwrap();
    }
    let [kite, film, letter] = ["IMG_20260412_101500.jpg", "VID_20260412_101600.mp4", "letter.pdf"].map(|n| folder.join(n));
    let l = Looking::of(w, "library").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    add(&l.browser, &[&kite, &film, &letter]).await;
    l.browser.wait_for_text("All 2 have arrived.").await.unwrap();
    l.browser.wait_for_text("1 file was left out: it is no picture or film.").await.unwrap();
    assert_eq!(library_files(&l.w.house), ["juno/2026/04/IMG_20260412_101500.jpg", "juno/2026/04/VID_20260412_101600.mp4"]);
    // The page shows them by itself; the tray stays when one goes elsewhere.
    l.browser.wait_for_text("2 pictures of yours, in 1 month.").await.unwrap();
    l.browser.click("Albums").await.unwrap();
    l.browser.wait_for_text("No albums yet").await.unwrap();
    l.browser.click("Show the files").await.unwrap();
    l.browser.wait_for_text("arrived").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.browser.click("Close").await.unwrap();
    l.until("the tray to be away", "!document.querySelector('[aria-label=\"Pictures that you add\"]')").await;
    // This browser is a device, once.
    let devices = l.w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    assert_eq!(
        (devices.as_array().unwrap().len(), &devices[0]["name"], &devices[0]["kind"]),
        (1, &json!("Juno’s browser"), &json!("computer"))
    );
    // The same once more: it is known before it is sent.
    l.browser.click("Library").await.unwrap();
    add(&l.browser, &[&kite, &film]).await;
    l.browser.wait_for_text("2 were here already.").await.unwrap();
    l.browser.click("Close").await.unwrap();
    // Dropped onto the page, and pasted.
    let given =
        "const d = new DataTransfer(); d.items.add(new File(['a boat'], 'IMG_20260413_090000.jpg', { type: 'image/jpeg' }));";
    run(&format!("{given} window.dispatchEvent(new DragEvent('dragenter', {{ dataTransfer: d }}))")).await;
    l.browser.wait_for_text("Drop pictures here to add them to your library").await.unwrap();
    run(&format!("{given} window.dispatchEvent(new DragEvent('drop', {{ dataTransfer: d }}))")).await;
    l.browser.wait_for_text("It has arrived.").await.unwrap();
    run("const d = new DataTransfer(); d.items.add(new File(['a weir'], 'IMG_20260414_090000.png', { type: 'image/png' })); \
         document.body.dispatchEvent(new ClipboardEvent('paste', { clipboardData: d, bubbles: true }))")
    .await;
    l.browser.wait_for_text("All 2 have arrived.").await.unwrap();
    assert_eq!(library_files(&l.w.house).len(), 4);
    l.browser.click("Close").await.unwrap();

    // Into an album, also what is here already.
    let album = l.w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites" }))).await.unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    l.browser.page.goto(l.w.house.http.join(&format!("albums/{album}")).unwrap().as_str()).await.unwrap();
    put(&folder, "IMG_20260415_100000.jpg", b"another kite").unwrap();
    add(&l.browser, &[&kite, &folder.join("IMG_20260415_100000.jpg")]).await;
    l.browser.wait_for_text("All 2 have arrived.").await.unwrap();
    l.browser.wait_for_text("2 pictures, April 2026").await.unwrap();
    l.browser.click("Show the files").await.unwrap();
    l.until("both to be in the album", "[...document.querySelectorAll('[aria-label=\"The files\"] li')].filter(l => l.textContent.includes('in the album')).length === 2").await;
    assert_eq!(library_files(&l.w.house).len(), 5);
    l.browser.click("Close").await.unwrap();

    // Revoked, it says so, and becomes another device when it is told to go on.
    let revoke = format!("api/devices/{}/revoke", devices[0]["id"].as_str().unwrap());
    l.w.keeper.ask(Method::POST, &revoke, None).await.unwrap();
    put(&folder, "IMG_20260416_100000.jpg", b"a third kite").unwrap();
    add(&l.browser, &[&folder.join("IMG_20260416_100000.jpg")]).await;
    l.browser.wait_for_text("This browser was revoked under Devices.").await.unwrap();
    l.browser.click("Send the rest").await.unwrap();
    l.browser.wait_for_text("It has arrived.").await.unwrap();
    assert_eq!(library_files(&l.w.house).len(), 6);
    assert_eq!(l.browser.complaints().await.unwrap().iter().filter(|c| !c.contains("401")).count(), 0);
}

/// In a browser that two people use, each adds to their own pictures; and what is refused says why.
#[tokio::test(flavor = "multi_thread")]
async fn in_one_browser_each_adds_their_own() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": PASSWORD });
    let piet = w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap()["id"].as_str().unwrap().to_owned();
    let folder = w.folder.path().join("chosen");
    for name in ["IMG_20260412_101500.jpg", "IMG_20260413_101500.jpg", "IMG_20260414_101500.jpg"] {
        put(&folder, name, name.as_bytes()).unwrap();
    }
    let file = |day: u32| folder.join(format!("IMG_202604{day}_101500.jpg"));
    let l = Looking::of(w, "library").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    add(&l.browser, &[&file(12)]).await;
    l.browser.wait_for_text("It has arrived.").await.unwrap();
    run("const done = arguments[0]; return fetch('/api/session', { method: 'DELETE', headers: { 'x-ypogeion-console': '1' } }).then(() => true)").await;
    l.browser.sign_in(&l.w.house.http, "Piet", PASSWORD).await.unwrap();
    l.browser.page.goto(l.w.house.http.join("library").unwrap().as_str()).await.unwrap();
    add(&l.browser, &[&file(13)]).await;
    l.browser.wait_for_text("It has arrived.").await.unwrap();
    assert_eq!(library_files(&l.w.house), ["juno/2026/04/IMG_20260412_101500.jpg", "piet/2026/04/IMG_20260413_101500.jpg"]);
    // No room: it says so, and goes on once there is.
    let quota = async |bytes: Value| {
        l.w.keeper.ask(Method::PATCH, &format!("api/people/{piet}"), Some(json!({ "quota": bytes }))).await.unwrap();
    };
    quota(json!(10)).await;
    add(&l.browser, &[&file(14)]).await;
    l.browser.wait_for_text("1 file could not be added.").await.unwrap();
    l.browser.click("Show the files").await.unwrap();
    l.browser.wait_for_text("not added").await.unwrap();
    let told = l.browser.text().await.unwrap();
    assert!(told.contains("full") || told.contains("quota") || told.contains("room"), "{told}");
    quota(json!(1_000_000)).await;
    l.browser.click("Send the rest").await.unwrap();
    wait_for("the last one", 30, async || Ok((library_files(&l.w.house).len() == 3).then_some(()))).await.unwrap();
    l.browser.wait_for_text("All 2 have arrived.").await.unwrap();
}
