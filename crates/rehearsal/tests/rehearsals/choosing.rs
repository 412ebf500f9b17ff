//! Somebody chooses many pictures, and does something with all of them.

use std::{collections::BTreeMap, io::Read};

use fantoccini::actions::{InputSource, MOUSE_BUTTON_LEFT, MouseActions, PointerAction};
use reqwest::{Method, Response};
use serde_json::{Value, json};
use ypogeion_rehearsal::{device::Device, house::Console, wait_for};

use crate::{
    common::{World, library_files, put, world},
    library::{Looking, MANY},
};

/// The month of a picture of [`MANY`], and where it is in the library.
fn spot(n: u32) -> Value {
    let from = if n < 10 {
        "2019-04-12"
    } else if n < 2000 {
        "2025-11-02"
    } else {
        "2026-04-12"
    };
    let day: chrono::NaiveDate = from.parse().unwrap();
    let taken = day.and_hms_opt(10, 0, 0).unwrap() + chrono::TimeDelta::minutes(n.into());
    json!({ "taken_local": taken, "id": id(n) })
}

fn id(n: u32) -> String {
    format!("00000000-0000-7000-8000-{n:012x}")
}

async fn how_much(who: &Console, choice: &Value) -> Value {
    who.ask(Method::POST, "api/choice", Some(choice.clone())).await.unwrap()
}

fn whole(months: &[&str]) -> Value {
    json!({ "months": months.iter().map(|m| json!({ "month": m, "stretches": [{}] })).collect::<Vec<_>>() })
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_chosen_is_counted_and_listed() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    w.house.sql("UPDATE original SET kind = 'video' WHERE right(name, 6) = '00.jpg'").unwrap();
    let november = |part: Value| {
        let mut month = json!({ "month": "2025-11" });
        month.as_object_mut().unwrap().extend(part.as_object().unwrap().clone());
        json!({ "months": [month] })
    };
    for (choice, pictures) in [
        (whole(&["2025-11"]), 1990),
        (whole(&["2019-04", "2025-11", "2026-04", "1987-01"]), 4000),
        (november(json!({ "stretches": [{}], "except": [id(100), id(101), id(3000)] })), 1988),
        (november(json!({ "stretches": [{ "newest": spot(200), "oldest": spot(100) }] })), 101),
        (november(json!({ "stretches": [{ "newest": spot(100) }] })), 91),
        (november(json!({ "stretches": [{ "oldest": spot(1900) }] })), 100),
        // A stretch has nothing of another month, wherever its ends are said to be.
        (november(json!({ "stretches": [{ "newest": spot(3000), "oldest": spot(3) }] })), 1990),
        (november(json!({ "stretches": [{ "newest": spot(100), "oldest": spot(200) }] })), 0),
        // Each picture once.
        (
            november(
                json!({ "stretches": [{ "newest": spot(200), "oldest": spot(100) }, { "newest": spot(250), "oldest": spot(150) }],
                             "pictures": [id(160), id(3000), id(999_999)] }),
            ),
            152,
        ),
    ] {
        let told = how_much(&w.keeper, &choice).await;
        assert_eq!(
            (told["pictures"].as_u64(), told["files"].as_u64(), told["bytes"].as_u64()),
            (Some(pictures), Some(pictures), Some(pictures)),
            "{choice}"
        );
        let mut listed = Vec::new();
        let mut after = Value::Null;
        loop {
            let page = w
                .keeper
                .ask(Method::POST, "api/choice/pictures", Some(json!({ "choice": choice, "after": after })))
                .await
                .unwrap();
            listed.extend(page["pictures"].as_array().unwrap().iter().map(|id| id.as_str().unwrap().to_owned()));
            after = page["next"].clone();
            if after.is_null() {
                break;
            }
        }
        assert_eq!(listed.len() as u64, pictures, "{choice}");
        // The ids of these pictures are in the order of their times.
        assert!(listed.windows(2).all(|two| two[0] > two[1]), "{choice}");
    }
    // Among what was looked for.
    for (find, pictures) in [("videos", 40), ("videos 2025", 19), ("not videos 2019", 9), ("2024", 0)] {
        let mut choice = whole(&["2019-04", "2025-11", "2026-04"]);
        choice["find"] = json!(find);
        assert_eq!(how_much(&w.keeper, &choice).await["pictures"], pictures, "{find}");
    }
    // What comes afterwards was not chosen.
    let mut choice = whole(&["2026-04"]);
    let told = how_much(&w.keeper, &choice).await;
    let one_more =
        MANY.split_once("INSERT INTO standing").unwrap().0.replace("generate_series(0, 3999)", "generate_series(4000, 4000)");
    w.sql(&one_more);
    assert_eq!(how_much(&w.keeper, &choice).await["pictures"], 2001);
    choice["as_of"] = told["as_of"].clone();
    assert_eq!(how_much(&w.keeper, &choice).await["pictures"], 2000);
    // Somebody else's pictures cannot be chosen.
    let piet = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(piet)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let theirs = json!({ "months": [{ "month": "2026-04", "stretches": [{}], "pictures": [id(3000)] }] });
    assert_eq!(how_much(&piet, &theirs).await["pictures"], 0);
    assert_eq!(piet.try_ask(Method::POST, "api/zips", Some(theirs)).await.unwrap().0, 400);
    // What one likes best is one's own.
    let mark = async |who: &Console, pictures: &[String], favourite: bool| {
        who.try_ask(Method::POST, "api/favourites", Some(json!({ "pictures": pictures, "favourite": favourite }))).await.unwrap()
    };
    let liked = async |who: &Console| who.ask(Method::GET, "api/find?line=favourites", None).await.unwrap()["count"].clone();
    let some: Vec<String> = (0..1000).map(id).collect();
    assert_eq!(mark(&w.keeper, &some, true).await, (200, json!({ "count": 1000 })));
    assert_eq!(mark(&w.keeper, &some[..2], true).await, (200, json!({ "count": 2 })));
    assert_eq!(mark(&w.keeper, &[id(7), id(999_999)], false).await, (200, json!({ "count": 1 })));
    assert_eq!((liked(&w.keeper).await, liked(&piet).await), (json!(999), json!(0)));
    assert_eq!(mark(&piet, &some, true).await.0, 404);
    assert_eq!(mark(&w.keeper, &[], true).await.0, 404);
    assert_eq!(mark(&w.keeper, &(0..1001).map(id).collect::<Vec<_>>(), true).await.0, 413);
    let page = w.keeper.ask(Method::GET, "api/originals?month=2019-04", None).await.unwrap();
    let unliked: Vec<&Value> = page["originals"].as_array().unwrap().iter().filter(|o| o["favourite"] == false).collect();
    assert_eq!(
        (page["originals"].as_array().unwrap().len(), unliked.len(), unliked[0]["name"].as_str()),
        (10, 1, Some("IMG_0007.jpg"))
    );
    // What is no choice is refused, and nothing is taken for everything.
    let many = (0..10_001).map(id).collect::<Vec<_>>();
    for (choice, status) in [
        (json!({ "months": [] }), 400),
        (json!({ "months": [{ "month": "2026-04" }] }), 400),
        (json!({ "months": [{ "month": "2026-04", "except": [id(1)] }] }), 400),
        (json!({ "months": [{ "month": "2026-13", "stretches": [{}] }] }), 400),
        (json!({ "months": [{ "month": "2026-04", "pictures": many }] }), 413),
        (json!({ "months": [{ "month": "2026-04", "pictures": ["kite"] }] }), 400),
        (json!({ "find": "ü".repeat(501), "months": [{ "month": "2026-04", "stretches": [{}] }] }), 400),
        (json!({}), 400),
    ] {
        for path in ["api/choice", "api/zips"] {
            let (was, said) = w.keeper.try_ask(Method::POST, path, Some(choice.clone())).await.unwrap();
            assert_eq!(was, status, "{path}: {said}");
        }
    }
}

/// A library of thirty files: long and short, and some in two parts.
async fn filled() -> (World, Device) {
    let w = world().await;
    let (device, source) = w.computer("desktop").await;
    for n in 0..28u32 {
        let size = [90, 5_000, 300_000, 1 << 20, (2 << 20) + 7][n as usize % 5];
        let bytes: Vec<u8> = (0..size).map(|i: u32| (i.wrapping_mul(31).wrapping_add(n * 7) >> 3) as u8).collect();
        put(&source, &format!("day {}/IMG_{n:04}.jpg", n % 3), &bytes).unwrap();
    }
    put(&source, "Großvater/ΠΑΠΠΟΥΣ ☼.jpg", b"grandfather").unwrap();
    put(&source, "day 0/IMG_0000.xmp", b"<x:xmpmeta xmlns:x='adobe:ns:meta/'/>").unwrap();
    assert_eq!(device.run(&["backup"]).await.unwrap().code, 0);
    // A zip has the files of a picture together, so it is another one until they are.
    w.gathered().await;
    (w, device)
}

async fn all_months(who: &Console) -> Value {
    let months = who.ask(Method::GET, "api/months", None).await.unwrap();
    let names: Vec<&str> = months.as_array().unwrap().iter().map(|m| m["month"].as_str().unwrap()).collect();
    whole(&names)
}

/// Asks for the bytes of a zip.
async fn get(w: &World, zip: &Value, headers: &[(&str, String)]) -> Response {
    let path = format!("api/zips/{}/bytes", zip["id"].as_str().unwrap());
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let request = http.get(w.house.http.join(&path).unwrap()).header("cookie", &w.keeper.cookie);
    headers.iter().fold(request, |request, (name, value)| request.header(*name, value)).send().await.unwrap()
}

async fn part(w: &World, zip: &Value, from: u64, until: u64) -> Vec<u8> {
    let answer = get(w, zip, &[("range", format!("bytes={from}-{}", until - 1))]).await;
    assert_eq!(answer.status(), 206);
    let said = answer.headers()["content-range"].to_str().unwrap().to_owned();
    assert_eq!(said, format!("bytes {from}-{}/{}", until - 1, zip["length"]));
    answer.bytes().await.unwrap().to_vec()
}

/// What is in a zip, by a package that reads them and compares the checksums.
fn read(bytes: &[u8]) -> BTreeMap<String, Vec<u8>> {
    let mut zip = zip::ZipArchive::new(std::io::Cursor::new(bytes)).unwrap();
    (0..zip.len())
        .map(|n| {
            let mut file = zip.by_index(n).unwrap();
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes).unwrap();
            (file.name().unwrap().into_owned(), bytes)
        })
        .collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_chosen_comes_as_one_file_of_which_any_part_can_be_asked_for() {
    let (mut w, device) = filled().await;
    let choice = all_months(&w.keeper).await;
    let told = how_much(&w.keeper, &choice).await;
    assert_eq!((told["files"].as_u64(), told["not_at_home"].as_u64()), (Some(30), Some(0)), "{told}");
    let make = async |w: &World| w.keeper.ask(Method::POST, "api/zips", Some(choice.clone())).await.unwrap();
    let zip = make(&w).await;
    assert_eq!((zip["files"].as_u64(), zip["left_out"].as_u64()), (Some(30), Some(0)));
    let length = zip["length"].as_u64().unwrap();
    // The end first: a program that looks what is in it, before any file was read.
    let end = part(&w, &zip, length - 22, length).await;
    assert_eq!(&end[..4], b"PK\x05\x06");
    // The whole of another one, which nobody has read anything of either.
    let other = make(&w).await;
    let answer = get(&w, &other, &[]).await;
    assert_eq!(answer.status(), 200);
    assert_eq!(answer.content_length(), Some(length));
    assert!(answer.headers()["content-disposition"].to_str().unwrap().starts_with("attachment; filename*=UTF-8''Pictures%20"));
    let bytes = answer.bytes().await.unwrap().to_vec();
    let in_library: BTreeMap<String, Vec<u8>> = library_files(&w.house)
        .into_iter()
        .map(|path| (path.split_once('/').unwrap().1.to_owned(), std::fs::read(w.house.library().join(&path)).unwrap()))
        .collect();
    assert_eq!(in_library.len(), 30);
    assert!(read(&bytes) == in_library, "{:?}", read(&bytes).keys());
    // Any part of either is the same, in any order, and also by a service that knows nothing of it any more.
    let fresh = make(&w).await;
    for n in 0..40u64 {
        let from = (n * 7_919_317) % length;
        let until = (from + 1 + (n * 1_299_709) % 3_000_000).min(length);
        let of = if n % 2 == 0 { &fresh } else { &zip };
        assert!(part(&w, of, from, until).await == bytes[from as usize..until as usize], "from {from} to {until}");
        if n == 20 {
            w.house.kill_service();
            w.house.start_service().await.unwrap();
        }
    }
    for (range, from, until) in [("bytes=0-0", 0, 1), ("bytes=-22", length - 22, length), ("bytes=1000-", 1000, length)] {
        let answer = get(&w, &zip, &[("range", range.to_owned()), ("if-range", format!("{}", json!(zip["id"])))]).await;
        assert_eq!(answer.status(), 206, "{range}");
        assert!(answer.bytes().await.unwrap() == bytes[from as usize..until as usize], "{range}");
    }
    // What was asked of another file, and what nobody can hand over.
    assert_eq!(get(&w, &zip, &[("range", "bytes=5-9".into()), ("if-range", "\"other\"".into())]).await.status(), 200);
    assert_eq!(get(&w, &zip, &[("range", "bytes=0-1,5-9".into())]).await.status(), 200);
    for range in [format!("bytes={length}-"), "bytes=9-5".to_owned(), "kites".to_owned()] {
        assert_eq!(get(&w, &zip, &[("range", range.clone())]).await.status(), 416, "{range}");
    }
    // It is nobody else's.
    w.keeper
        .ask(Method::POST, "api/people", Some(json!({ "name": "Piet", "role": "member", "password": "kites over the sea" })))
        .await
        .unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let path = format!("api/zips/{}/bytes", zip["id"].as_str().unwrap());
    assert_eq!(piet.try_ask(Method::GET, &path, None).await.unwrap().0, 404);
    drop(device);
    // The one that nobody has asked for longest is forgotten for newer ones, and that is said.
    for _ in 0..3 {
        make(&w).await;
    }
    assert_eq!(get(&w, &zip, &[]).await.status(), 200);
    let forgotten = get(&w, &other, &[]).await;
    let (status, said) = (forgotten.status().as_u16(), forgotten.json::<Value>().await.unwrap());
    assert_eq!(
        (status, said["detail"].as_str()),
        (404, Some("This download has ended, or a file of it was removed. Choose the pictures again."))
    );
}

/// A file that is not there breaks a download off, is noted, and is left out of the next.
#[tokio::test(flavor = "multi_thread")]
async fn a_missing_file_breaks_a_download_off_and_is_noted() {
    let (w, _device) = filled().await;
    let choice = all_months(&w.keeper).await;
    let make = async || w.keeper.ask(Method::POST, "api/zips", Some(choice.clone())).await.unwrap();
    let zip = make().await;
    let lost = library_files(&w.house).into_iter().find(|f| f.contains("IMG_0017")).unwrap();
    std::fs::remove_file(w.house.library().join(&lost)).unwrap();
    assert!(get(&w, &zip, &[]).await.bytes().await.is_err(), "what is not whole does not look so");
    let told = how_much(&w.keeper, &choice).await;
    assert_eq!((told["files"].as_u64(), told["not_at_home"].as_u64()), (Some(30), Some(1)));
    let less = make().await;
    assert_eq!((less["files"].as_u64(), less["left_out"].as_u64()), (Some(29), Some(1)));
    assert_eq!(read(&get(&w, &less, &[]).await.bytes().await.unwrap()).len(), 29);
    // The same if it is asked for by itself.
    let other = library_files(&w.house).into_iter().find(|f| f.contains("IMG_0018")).unwrap();
    std::fs::remove_file(w.house.library().join(&other)).unwrap();
    let id = w.sql(&format!("SELECT id FROM original WHERE path = '{other}'"));
    let (status, said) = w.keeper.try_ask(Method::GET, &format!("api/originals/{}/bytes", id.trim()), None).await.unwrap();
    assert_eq!((status, said["title"].as_str()), (500, Some("The copy at home is damaged")), "{said}");
    assert_eq!(how_much(&w.keeper, &choice).await["not_at_home"], 2, "it says that it was noted");
    for _ in 0..3 {
        w.keeper.try_ask(Method::GET, &format!("api/originals/{}/bytes", id.trim()), None).await.unwrap();
    }
    assert_eq!(w.sql("SELECT count(*) FROM record WHERE what LIKE '%IMG_0018%missing'").trim(), "1", "and it is noted once");
}

/// What the bar says.
async fn says(l: &Looking, text: &str) {
    let bar = "document.querySelector('section[aria-label=Chosen]')?.innerText ?? ''";
    l.until(&format!("the bar to say {text:?}"), &format!("({bar}).includes({text:?})")).await;
}

/// A script that finds a picture by its name.
fn picture(name: &str) -> String {
    format!("[...document.querySelectorAll('[data-at]')].find(l => l.textContent.includes('{name}'))")
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_chosen_by_mouse_and_keys() {
    let l = Looking::at("library").await;
    l.shows("IMG_3999").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    let click = async |name: &str, with: &str| {
        run(&format!("{}.dispatchEvent(new MouseEvent('click', {{ bubbles: true, cancelable: true, {with} }}))", picture(name)))
            .await
    };
    // With a key, then by a click alone, since something is chosen; a click on what is chosen takes it out.
    click("IMG_3999", "ctrlKey: true").await;
    says(&l, "1 picture chosen, 1 byte").await;
    click("IMG_3990", "").await;
    says(&l, "2 pictures chosen").await;
    click("IMG_3985", "shiftKey: true").await;
    says(&l, "7 pictures chosen").await;
    click("IMG_3988", "").await;
    says(&l, "6 pictures chosen").await;
    assert_eq!(run("return location.pathname").await, json!("/library"));
    // By keys: the picture under them, and on from there.
    run(&format!("{}.focus()", picture("IMG_3980"))).await;
    l.keys(" ").await;
    says(&l, "7 pictures chosen").await;
    l.keys("\u{e008}\u{e014}\u{e014}\u{e008}").await;
    says(&l, "9 pictures chosen").await;
    // A whole month, from wherever one is, and everything.
    run("document.querySelector('[aria-label=\"Choose April 2026\"]').click()").await;
    says(&l, "2,000 pictures chosen").await;
    click("IMG_3999", "").await;
    says(&l, "1,999 pictures chosen").await;
    l.browser.click("Choose all 4,000").await.unwrap();
    says(&l, "4,000 pictures chosen").await;
    // From one far away to another.
    l.keys("\u{e00c}").await;
    l.until("nothing to be chosen", "!document.querySelector('section[aria-label=Chosen]')").await;
    click("IMG_3995", "metaKey: true").await;
    run("document.querySelectorAll('nav[aria-label=Years] a')[2].click()").await;
    l.shows("IMG_0009").await;
    click("IMG_0009", "shiftKey: true").await;
    says(&l, "3,987 pictures chosen").await;
    l.browser.click("Choose none").await.unwrap();
    l.until("nothing to be chosen", "!document.querySelector('section[aria-label=Chosen]')").await;
    // A frame that the mouse draws has what it meets.
    run("window.scrollTo(0, 0)").await;
    l.shows("IMG_3999").await;
    let boxes = run("const all = [...document.querySelectorAll('[data-taken]')].map(l => l.getBoundingClientRect()); \
                     const rows = [...new Set(all.map(b => b.top))].sort((a, b) => a - b); \
                     const two = all.filter(b => b.top <= rows[1] + 1).sort((a, b) => a.left - b.left); \
                     return [two[0].left + 5, rows[0] + 5, two[0].left + 260, rows[1] + 20, \
                             two.filter(b => b.left < two[0].left + 260).length]")
    .await;
    let at = |n: usize| boxes[n].as_f64().unwrap();
    let mouse = MouseActions::new("mouse".to_owned())
        .then(PointerAction::MoveTo { duration: None, x: at(0), y: at(1) })
        .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT })
        .then(PointerAction::MoveTo { duration: None, x: at(0) + 40.0, y: at(1) + 40.0 })
        .then(PointerAction::MoveTo { duration: None, x: at(2), y: at(3) })
        .then(PointerAction::Up { button: MOUSE_BUTTON_LEFT });
    l.browser.page.perform_actions(mouse).await.unwrap();
    says(&l, &format!("{} pictures chosen", boxes[4])).await;
    assert_eq!(run("return location.pathname").await, json!("/library"), "the picture under the mouse was not opened");
    // What is looked for next is another library.
    l.keys("/vid\u{e007}").await;
    l.until("nothing to be chosen", "!document.querySelector('section[aria-label=Chosen]')").await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_chosen_is_deleted_and_brought_back_and_taken_along() {
    let (w, _device) = filled().await;
    let l = Looking::of(w, "library").await;
    l.browser.wait_for_text("29 pictures of yours").await.unwrap();
    l.until("pictures", "document.querySelectorAll('[data-taken]').length > 3").await;
    l.browser.click("Choose pictures").await.unwrap();
    l.browser
        .page
        .execute("[...document.querySelectorAll('[data-taken]')].slice(0, 2).forEach(l => l.click())", vec![])
        .await
        .unwrap();
    says(&l, "2 pictures chosen").await;
    l.browser.click("Choose all 29").await.unwrap();
    says(&l, "29 pictures chosen, 30 files").await;
    for (item, said, count) in [
        ("Make favourites", "29 pictures are favourites now.", "29"),
        ("Favourites no more", "29 pictures are no favourites now.", "0"),
    ] {
        // A menu opens when the mouse goes down.
        let open = "document.querySelector('section[aria-label=Chosen] [aria-haspopup=menu]').dispatchEvent(new PointerEvent('pointerdown', { bubbles: true, button: 0 }))";
        l.browser.page.execute(open, vec![]).await.unwrap();
        let pick = format!(
            "const i = [...document.querySelectorAll('[role=menuitem]')].find(i => i.textContent === '{item}'); i?.click(); return !!i"
        );
        wait_for("the menu", 20, async || Ok((l.browser.page.execute(&pick, vec![]).await? == json!(true)).then_some(())))
            .await
            .unwrap();
        says(&l, said).await;
        assert_eq!(l.w.sql("SELECT count(*) FROM favourite").trim(), count);
    }
    l.browser.click("Delete …").await.unwrap();
    l.browser.wait_for_text("Delete 29 pictures?").await.unwrap();
    l.browser.wait_for_text("With all that belongs to them, 30 files.").await.unwrap();
    l.browser.click("Delete").await.unwrap();
    says(&l, "29 pictures deleted, with 30 files.").await;
    l.browser.wait_for_text("Nothing has arrived yet.").await.unwrap();
    l.browser.click("Bring back").await.unwrap();
    says(&l, "30 files brought back.").await;
    l.browser.wait_for_text("29 pictures of yours").await.unwrap();
    wait_for("all files to be where they were", 60, async || Ok((library_files(&l.w.house).len() == 30).then_some(())))
        .await
        .unwrap();
    l.browser.click("Close").await.unwrap();
    // All that were taken in one month, as one file.
    l.until("pictures again", "document.querySelectorAll('[data-taken]').length > 3").await;
    l.browser.page.execute("document.querySelector('section [role=checkbox]').click()", vec![]).await.unwrap();
    says(&l, "pictures chosen").await;
    l.browser.click("Download").await.unwrap();
    says(&l, "is on its way to your downloads.").await;
    assert_eq!(l.w.sql("SELECT count(*) FROM zip").trim(), "1");
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
