//! Which side of a picture is up, as people say it.

use chrono::NaiveDate;
use image::{Rgb, RgbImage};
use reqwest::{Method, header::COOKIE};
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::{house::Console, wait_for};

use crate::{
    common::{Raw, World, metadata, world},
    library::Looking,
};

const RED: Rgb<u8> = Rgb([220, 30, 30]);

async fn send(phone: &Raw, name: &str, bytes: &[u8]) {
    let path = phone.create(bytes.len(), &metadata(&[("filename", name), ("source", "Camera")])).await;
    assert_eq!(phone.append(&path, 0, bytes).await.status, 204);
}

/// A picture, 320 wide and 240 high, whose corner at the left above is red.
fn picture(n: u8) -> Vec<u8> {
    let time = NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, n.into(), 0).unwrap();
    let shot = camera::Shot::new(camera::Camera::Havel7, time, (52.158, 4.486), &mut scenes::Rng::new(n.into()));
    let red = |x, y| if x < 160 && y < 120 { RED } else { Rgb([30, 30, 200]) };
    camera::jpeg(&RgbImage::from_fn(320, 240, red), &shot).unwrap()
}

/// Two pictures of Juno's and a film, and their ids.
async fn house() -> (World, [String; 3]) {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    for n in [1, 2] {
        send(&phone, &format!("IMG_000{n}.JPG"), &picture(n)).await;
    }
    send(&phone, "VID_0003.MP4", b"\0\0\0\x18ftypisom\0\0\x02\0isomiso2 no film that can be shown").await;
    let ids = ["IMG_0001.JPG", "IMG_0002.JPG", "VID_0003.MP4"];
    let ids = ids.map(|name| w.sql(&format!("SELECT id FROM original WHERE name = '{name}'")).trim().to_owned());
    assert_eq!(w.sql("SELECT string_agg(kind, ' ' ORDER BY name) FROM original").trim(), "photo photo video");
    (w, ids)
}

async fn get(who: &Console, path: &str) -> Value {
    who.ask(Method::GET, path, None).await.unwrap()
}

async fn turn(who: &Console, form: Value) -> (u16, Value) {
    who.try_ask(Method::POST, "api/turns", Some(form)).await.unwrap()
}

/// What is shown of a picture, once it is there.
async fn shown(w: &World, id: &str, size: &str) -> RgbImage {
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let ready = async || {
        let detail = get(&w.keeper, &format!("api/originals/{id}")).await;
        Ok((detail["preview"] == "ready").then_some(()))
    };
    wait_for("what is shown of it", 60, ready).await.unwrap();
    let preview = w.house.http.join(&format!("api/originals/{id}/preview/{size}")).unwrap();
    let answer = http.get(preview).header(COOKIE, &w.keeper.cookie).send().await.unwrap();
    image::load_from_memory(&answer.bytes().await.unwrap()).unwrap().into_rgb8()
}

/// Which quarter of the picture is red: by its column and its row.
fn red(picture: &RgbImage) -> Option<(u32, u32)> {
    let (w, h) = picture.dimensions();
    let near = |p: &Rgb<u8>| p.0.iter().zip(RED.0).all(|(a, b)| a.abs_diff(b) < 40);
    let all: Vec<(u32, u32)> =
        (0..4).map(|n| (n % 2, n / 2)).filter(|(x, y)| near(picture.get_pixel(w / 4 + x * w / 2, h / 4 + y * h / 2))).collect();
    if let [one] = all[..] { Some(one) } else { None }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_turned_and_no_file_is_changed() {
    let (w, [one, two, film]) = house().await;
    let detail = async |id: &str| get(&w.keeper, &format!("api/originals/{id}")).await;
    let before = detail(&one).await;
    assert_eq!((&before["width"], &before["height"], &before["turned"]), (&json!(320), &json!(240), &json!(0)));
    assert_eq!(red(&shown(&w, &one, "small").await), Some((0, 0)));
    let shape = get(&w.keeper, "api/months/2026-04/shape").await;
    // To the right, where the red corner goes round.
    for (turned, corner) in [(1, (1, 0)), (2, (1, 1)), (3, (0, 1)), (0, (0, 0)), (1, (1, 0))] {
        assert_eq!(turn(&w.keeper, json!({ "pictures": [one], "quarters": 1 })).await, (200, json!({ "count": 1 })));
        for size in ["small", "large"] {
            let shown = shown(&w, &one, size).await;
            assert_eq!((red(&shown), shown.width() > shown.height()), (Some(corner), turned % 2 == 0), "{turned} {size}");
        }
        let now = detail(&one).await;
        let lies = if turned % 2 == 0 { (json!(320), json!(240)) } else { (json!(240), json!(320)) };
        assert_eq!((&now["turned"], &now["width"], &now["height"]), (&json!(turned), &lies.0, &lies.1));
        assert_eq!((&now["digest"], &now["path"], &now["taken_at"]), (&before["digest"], &before["path"], &before["taken_at"]));
        assert_eq!(get(&w.keeper, "api/months/2026-04/shape").await["proportions"] == shape["proportions"], turned % 2 == 0);
    }
    // Twice at once is twice; the other way, and of several; a film stays as it is.
    let again = json!({ "pictures": [one], "quarters": 1 });
    let both = tokio::join!(turn(&w.keeper, again.clone()), turn(&w.keeper, again));
    assert_eq!((both.0.0, both.1.0), (200, 200));
    assert_eq!(red(&shown(&w, &one, "small").await), Some((0, 1)));
    assert_eq!(turn(&w.keeper, json!({ "pictures": [one, two, film], "quarters": -1 })).await, (200, json!({ "count": 2 })));
    assert_eq!((red(&shown(&w, &one, "small").await), red(&shown(&w, &two, "small").await)), (Some((1, 1)), Some((0, 1))));
    assert_eq!(turn(&w.keeper, json!({ "pictures": [film], "quarters": 1 })).await, (200, json!({ "count": 0 })));
    assert_eq!(detail(&film).await["turned"], 0);
    // What lies beside it says so to other programs.
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let note = w.house.http.join(&format!("api/originals/{two}/words.xmp")).unwrap();
    let note = http.get(note).header(COOKIE, &w.keeper.cookie).send().await.unwrap().text().await.unwrap();
    assert!(note.contains("<tiff:Orientation>8</tiff:Orientation>"), "{note}");
    // As the files say; once more is no change.
    let as_in_file = json!({ "pictures": [one, two, film], "as_in_file": true });
    assert_eq!(turn(&w.keeper, as_in_file.clone()).await, (200, json!({ "count": 2 })));
    assert_eq!(turn(&w.keeper, as_in_file).await, (200, json!({ "count": 0 })));
    assert_eq!((red(&shown(&w, &one, "small").await), detail(&one).await["turned"].clone()), (Some((0, 0)), json!(0)));
    // Refused.
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    assert_eq!(turn(&piet, json!({ "pictures": [one], "quarters": 1 })).await.0, 404);
    for (form, status) in [
        (json!({ "pictures": [one], "quarters": 0 }), 400),
        (json!({ "pictures": [one], "quarters": 4 }), 400),
        (json!({ "pictures": [one], "quarters": -4 }), 400),
        (json!({ "pictures": [one], "quarters": 1000 }), 400),
        (json!({ "pictures": [one], "quarters": 1.5 }), 400),
        (json!({ "pictures": [one] }), 400),
        (json!({ "pictures": [one], "quarters": 1, "as_in_file": true }), 400),
        (json!({ "pictures": [], "quarters": 1 }), 404),
        (json!({ "pictures": vec![&one; 1001], "quarters": 1 }), 413),
    ] {
        let (was, said) = turn(&w.keeper, form).await;
        assert_eq!(was, status, "{said}");
    }
    assert_eq!(detail(&one).await["turned"], 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_turned_in_the_console() {
    let (w, [one, two, _]) = house().await;
    shown(&w, &one, "small").await;
    shown(&w, &two, "small").await;
    let l = Looking::of(w, &format!("library/{one}")).await;
    let large = |turned: u8| {
        let version = if turned > 0 { format!("?turned={turned}") } else { String::new() };
        let higher = if turned.is_multiple_of(2) { "<" } else { ">" };
        format!(
            "(i => !!i && i.naturalWidth > 0 && i.naturalHeight {higher} i.naturalWidth && i.clientHeight {higher} i.clientWidth)\
             (document.querySelector('[role=dialog] img[src=\"/api/originals/{one}/preview/large{version}\"]'))"
        )
    };
    l.until("the picture", &large(0)).await;
    let press = |words: &str| format!("document.querySelector('[role=dialog] button[aria-label=\"{words}\"]').click()");
    l.browser.page.execute(&press("Turn to the right"), vec![]).await.unwrap();
    l.until("the picture, turned", &large(1)).await;
    l.browser.wait_for_text("240 × 320").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    // By keys, once more and twice back.
    l.browser.page.execute("document.querySelector('[role=dialog]').focus()", vec![]).await.unwrap();
    l.keys("r").await;
    l.until("the picture, upside down", &large(2)).await;
    l.browser.wait_for_text("upside down").await.unwrap();
    l.keys("R").await;
    l.until("the picture, turned back", &large(1)).await;
    // Its own pixels lie as what is shown of it.
    l.browser
        .page
        .execute("for (let n = 0; n < 9; n++) document.querySelector('[role=dialog] button[aria-label=Larger]').click()", vec![])
        .await
        .unwrap();
    let own = format!("document.querySelector('[role=dialog] img[src=\"/api/originals/{one}/bytes?look=true\"]')");
    l.until("its own pixels", &format!("(i => !!i && i.style.transform.includes('rotate(90deg)'))({own})")).await;
    l.until(
        "its own pixels to fill the same box",
        &format!(
            "(([a, b]) => ['left', 'top', 'width', 'height'].every(e => Math.abs(a[e] - b[e]) < 1))\
             ([{own}, document.querySelector('[role=dialog] img[src*=\"preview/large\"]')].map(i => i.getBoundingClientRect()))"
        ),
    )
    .await;
    l.press("Show it as its file says").await;
    l.until("the picture as it was", &large(0)).await;
    // Many at once, and undone.
    l.browser.page.goto(l.w.house.http.join("library").unwrap().as_str()).await.unwrap();
    l.until("the sheet", &format!("!!document.querySelector('[data-id=\"{two}\"]')")).await;
    l.press("Choose pictures").await;
    l.browser.page.execute("document.querySelector('[aria-label=\"Choose April 2026\"]').click()", vec![]).await.unwrap();
    l.browser.wait_for_text("2 pictures chosen").await.unwrap();
    let more = "[...document.querySelectorAll('button')].find(b => b.textContent.startsWith('More'))";
    l.until("the menu", &format!("{more} && !{more}.disabled")).await;
    l.browser.page.execute(&format!("{more}.focus()"), vec![]).await.unwrap();
    l.keys("\u{e007}").await;
    let item = "[...document.querySelectorAll('[role=menuitem]')].find(i => i.textContent === 'Turn left')";
    l.until("what can be done", &format!("!!{item}")).await;
    l.browser.page.execute(&format!("{item}.click()"), vec![]).await.unwrap();
    l.browser.wait_for_text("2 pictures turned to the left.").await.unwrap();
    l.until("the sheet to show it", &format!("!!document.querySelector('[data-id=\"{two}\"] img[src$=\"?turned=3\"]')")).await;
    l.press("Undo").await;
    l.browser.wait_for_text("2 pictures turned to the right.").await.unwrap();
    l.until("the sheet as before", &format!("!!document.querySelector('[data-id=\"{two}\"] img[src$=\"/preview/small\"]')"))
        .await;
    assert_eq!(l.w.sql("SELECT count(*) FROM given_turn").trim(), "0");
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
