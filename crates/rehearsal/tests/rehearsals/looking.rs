//! Somebody looks at one picture: nearer, at its other files, and at the next one.

use std::io::Cursor;

use fantoccini::actions::{InputSource, MOUSE_BUTTON_LEFT, MouseActions, PointerAction, TouchActions};
use image::{ImageFormat, RgbImage};
use serde_json::json;
use ypogeion_rehearsal::wait_for;

use crate::{
    common::{World, put, world},
    library::{Looking, MANY},
};

fn drawn(width: u32, height: u32, format: ImageFormat) -> Vec<u8> {
    let picture = RgbImage::from_fn(width, height, |x, y| {
        image::Rgb([(x / 16 % 256) as u8, (y / 16 % 256) as u8, if (x / 64 + y / 64) % 2 == 0 { 40 } else { 210 }])
    });
    let mut bytes = Cursor::new(Vec::new());
    picture.write_to(&mut bytes, format).unwrap();
    bytes.into_inner()
}

async fn pictures() -> World {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    put(&source, "IMG_0001.jpg", &drawn(6000, 4000, ImageFormat::Jpeg)).unwrap();
    put(&source, "IMG_0001.xmp", b"<x:xmpmeta xmlns:x='adobe:ns:meta/'/>").unwrap();
    put(&source, "IMG_0002.png", &drawn(300, 200, ImageFormat::Png)).unwrap();
    put(&source, "IMG_0003.jpg", b"no picture at all").unwrap();
    put(&source, "VID_0004.mp4", b"\0\0\0\x18ftypmp42\0\0\0\0mp42isom and no film").unwrap();
    assert_eq!(device.run(&["backup"]).await.unwrap().code, 0);
    wait_for("previews", 60, async || {
        Ok((w.sql("SELECT count(*) FROM original WHERE preview = 'waiting'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    // One behind the other, whatever order they came in.
    w.sql("UPDATE original SET taken_local = timestamp '2026-04-12 10:00' - (substr(name, 5, 4)::int * interval '1 minute'), taken_at = now() WHERE name LIKE '%\\_000%'");
    w
}

const PERCENT: &str = "document.querySelector('[aria-label*=\"of its own pixels\"]')?.textContent";

#[tokio::test(flavor = "multi_thread")]
async fn one_looks_nearer_up_to_the_pixels_themselves() {
    let l = Looking::of(pictures().await, "library").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    let open = async |name: &str| {
        let there = format!("[...document.querySelectorAll('[data-at]')].some(l => l.textContent.includes('{name}'))");
        l.until(name, &there).await;
        run(&format!("[...document.querySelectorAll('[data-at]')].find(l => l.textContent.includes('{name}')).click()")).await;
        l.until(name, &format!("document.querySelector('[role=dialog] h2')?.textContent === '{name}'")).await;
    };
    open("IMG_0001.jpg").await;
    // As a whole, from its preview.
    l.until("the whole", &format!("parseFloat({PERCENT}) < 20 && document.querySelector('img[src*=large]').complete")).await;
    let whole = run(&format!("return {PERCENT}")).await;
    assert_eq!(
        run("return document.querySelectorAll('img[src*=bytes]').length").await,
        json!(0),
        "nothing is loaded that nobody asked for"
    );
    // Twice on a spot: its own pixels, and that spot where it was.
    let spot = run("const b = document.querySelector('img[src*=large]').getBoundingClientRect(); return [b.left + b.width * 0.3, b.top + b.height * 0.4]").await;
    let (x, y) = (spot[0].as_f64().unwrap().round(), spot[1].as_f64().unwrap().round());
    let twice =
        (0..2).fold(MouseActions::new("mouse".to_owned()).then(PointerAction::MoveTo { duration: None, x, y }), |mouse, _| {
            mouse.then(PointerAction::Down { button: MOUSE_BUTTON_LEFT }).then(PointerAction::Up { button: MOUSE_BUTTON_LEFT })
        });
    l.browser.page.perform_actions(twice).await.unwrap();
    l.until("its own pixels", &format!("{PERCENT} === '100 %'")).await;
    l.until("them to be there", "document.querySelector('img[src*=bytes]')?.naturalWidth === 6000 && !document.body.innerText.includes('Loading its own')").await;
    let under = "const b = document.querySelector('img[src*=large]').getBoundingClientRect(); return [(ARGX - b.left) / b.width, (ARGY - b.top) / b.height]";
    let under = async || run(&under.replace("ARGX", &x.to_string()).replace("ARGY", &y.to_string())).await;
    let at = under().await;
    assert!((at[0].as_f64().unwrap() - 0.3).abs() < 0.01 && (at[1].as_f64().unwrap() - 0.4).abs() < 0.01, "{at}");
    // Moved along with the mouse.
    let along = MouseActions::new("mouse".to_owned())
        .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT })
        .then(PointerAction::MoveTo { duration: None, x: x - 120.0, y: y - 60.0 })
        .then(PointerAction::Up { button: MOUSE_BUTTON_LEFT });
    l.browser.page.perform_actions(along).await.unwrap();
    let moved = under().await;
    assert!((moved[0].as_f64().unwrap() - at[0].as_f64().unwrap() - 120.0 / 6000.0).abs() < 0.002, "{at} {moved}");
    // The wheel, keys and buttons; and back to the whole.
    let wheel = |by: i32| {
        format!(
            "document.querySelector('img[src*=large]').dispatchEvent(new WheelEvent('wheel', {{ deltaY: {by}, bubbles: true, cancelable: true, clientX: {x}, clientY: {y} }}))"
        )
    };
    run(&wheel(-200)).await;
    l.until("nearer", &format!("parseFloat({PERCENT}) > 140")).await;
    run(&wheel(100_000)).await;
    l.until("the whole again", &format!("{PERCENT} === {whole}")).await;
    l.keys("+").await;
    l.until("nearer by a key", &format!("parseFloat({PERCENT}) > parseFloat({whole})")).await;
    l.keys("1").await;
    l.until("its own pixels by a key", &format!("{PERCENT} === '100 %'")).await;
    l.keys("0").await;
    l.until("the whole by a key", &format!("{PERCENT} === {whole}")).await;
    l.browser.page.execute("document.querySelector('[aria-label=Larger]').click()", vec![]).await.unwrap();
    l.until("nearer by a button", &format!("parseFloat({PERCENT}) > parseFloat({whole})")).await;
    l.keys("0").await;
    // It is a favourite at once, and here as everywhere.
    l.browser.click("Make it a favourite").await.unwrap();
    l.browser.wait_for_text("A favourite of yours").await.unwrap();
    l.until("its sign on the sheet", "[...document.querySelectorAll('[data-at]')].some(l => l.textContent.includes('IMG_0001.jpg, photo, with notes, a favourite'))").await;
    // Another file of the picture, and back.
    l.browser.click("IMG_0001.xmp").await.unwrap();
    l.browser.wait_for_text("No preview for this file").await.unwrap();
    l.browser.click("IMG_0001.xmp: back to the picture").await.unwrap();
    l.until("the picture", &format!("{PERCENT} === {whole}")).await;
    // A finger that goes over it leads to the next; a small one is shown in its own size, and larger if one likes.
    let stroke = TouchActions::new("finger".to_owned())
        .then(PointerAction::MoveTo { duration: None, x: 500.0, y: 300.0 })
        .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT })
        .then(PointerAction::MoveTo { duration: None, x: 420.0, y: 305.0 })
        .then(PointerAction::MoveTo { duration: None, x: 250.0, y: 310.0 })
        .then(PointerAction::Up { button: MOUSE_BUTTON_LEFT });
    l.browser.page.perform_actions(stroke).await.unwrap();
    l.until("the next one", "document.querySelector('[role=dialog] h2').textContent === 'IMG_0002.png'").await;
    l.until("its own size", &format!("{PERCENT} === '100 %'")).await;
    l.keys("\u{e014}").await;
    l.browser.wait_for_text("No preview for this file").await.unwrap();
    l.keys("\u{e014}").await;
    l.browser.wait_for_text("This browser cannot play this film").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    // Without the details, today and tomorrow.
    l.browser.click("Hide details").await.unwrap();
    l.until("no details", "!document.body.innerText.includes('How safe it is')").await;
    l.browser.page.refresh().await.unwrap();
    l.browser.wait_for_text("Show details").await.unwrap();
    l.until("no details", "!document.body.innerText.includes('How safe it is')").await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.browser.click("Show details").await.unwrap();
    l.browser.wait_for_text("How safe it is").await.unwrap();
    // From what was found to where it is among all.
    l.browser.page.goto(l.w.house.http.join("library?find=0002").unwrap().as_str()).await.unwrap();
    open("IMG_0002.png").await;
    l.browser.click("Show it among all pictures").await.unwrap();
    l.until("the library", "location.pathname === '/library' && location.search === '?at=2026-04.1'").await;
    l.browser.wait_for_text("4 pictures of yours").await.unwrap();
}

/// What was taken on this day is shown above the library, plays by itself, and ends.
#[tokio::test(flavor = "multi_thread")]
async fn this_day_of_the_years_before_is_shown_and_plays() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    // Years that have this day, whichever it is.
    for (years, pictures) in [(4, "IMG_300[0-4]"), (8, "IMG_301[01]")] {
        w.sql(&format!(
            "UPDATE original SET taken_local = now()::date - interval '{years} years' + right(split_part(name, '.', 1), 1)::int * interval '1 minute'
             WHERE name ~ '^{pictures}'"
        ));
    }
    let l = Looking::of(w, "library").await;
    let years: Vec<i32> = [8, 4].map(|back| chrono::Datelike::year(&chrono::Local::now()) - back).to_vec();
    l.browser.wait_for_text(&format!("In {} and {}", years[0], years[1])).await.unwrap();
    let strip = "document.querySelectorAll('section[aria-labelledby=this-day] li').length";
    l.until("seven pictures", &format!("{strip} === 7")).await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.browser.click("Play").await.unwrap();
    l.until("the newest", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_3004.jpg'").await;
    l.until("the next one by itself", "document.querySelector('[role=dialog] h2').textContent === 'IMG_3003.jpg'").await;
    l.until("and one more", "document.querySelector('[role=dialog] h2').textContent === 'IMG_3002.jpg'").await;
    l.browser.click("Stop").await.unwrap();
    l.until("it to have stopped", "[...document.querySelectorAll('[role=dialog] button')].some(b => b.textContent === 'Play')")
        .await;
    // From the last one, nothing follows.
    l.browser.page.execute("document.querySelector('[aria-label=Close]').click()", vec![]).await.unwrap();
    l.until("the library", &format!("!document.querySelector('[role=dialog]') && {strip} === 7")).await;
    let last = "[...document.querySelectorAll('section[aria-labelledby=this-day] a[href*=\"/library/\"]')].pop().click()";
    l.browser.page.execute(last, vec![]).await.unwrap();
    l.until("the oldest", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_3010.jpg'").await;
    l.until("no more to come", "![...document.querySelectorAll('[role=dialog] button')].some(b => b.textContent === 'Play')")
        .await;
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
    // Where nothing was taken on this day, nothing is said of it.
    l.w.sql("UPDATE original SET taken_local = '2019-04-12' WHERE name ~ '^IMG_30[01]' AND taken_local < '2025-01-01'");
    l.browser.page.goto(l.w.house.http.join("library").unwrap().as_str()).await.unwrap();
    l.browser.wait_for_text("4,000 pictures of yours").await.unwrap();
    l.until("pictures", "document.querySelectorAll('[data-taken]').length > 3").await;
    l.until("no strip", &format!("{strip} === 0")).await;
}
