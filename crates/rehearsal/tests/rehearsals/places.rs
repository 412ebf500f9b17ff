//! Where pictures were taken: on a map and by the names of towns, of one's own and of what albums show.

use chrono::NaiveDate;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::{house::Console, wait_for};

use crate::{
    common::{Raw, World, metadata, world},
    library::Looking,
};

const LEIDEN: (f64, f64) = (52.158, 4.486);
const FANO: (f64, f64) = (55.445, 8.37);
const MEUSE: (f64, f64) = (50.8715, 5.6936);
const EVERYWHERE: &str = "-90/-180..90/180";

/// A picture of a phone, of the `n`th day of April, taken there.
fn picture(n: u32, place: Option<(f64, f64)>) -> Vec<u8> {
    let time = NaiveDate::from_ymd_opt(2026, 4, n).unwrap().and_hms_opt(12, 0, 0).unwrap();
    let mut shot = camera::Shot::new(camera::Camera::Havel7, time, LEIDEN, &mut scenes::Rng::new(u64::from(n)));
    shot.place = place;
    camera::jpeg(&image::RgbImage::from_pixel(64, 48, image::Rgb([n as u8 * 7, 90, 120])), &shot).unwrap()
}

async fn send(phone: &Raw, n: u32, place: Option<(f64, f64)>) {
    let bytes = picture(n, place);
    let path = phone.create(bytes.len(), &metadata(&[("filename", &format!("IMG_{n:04}.JPG")), ("source", "Camera")])).await;
    let sent = phone.append(&path, 0, &bytes).await;
    assert_eq!(sent.status, 204, "{}", sent.body);
}

/// Juno's phone was in Leiden and on Fanø, Piet's at the Meuse.
struct House {
    w: World,
    juno: Raw,
    piet: Console,
    piets: Raw,
}

const PASSWORD: &str = "kites over the sea";

async fn house() -> House {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": PASSWORD });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let (juno, piets) = (w.raw_device("Junos").await, w.raw_device_of("Piet", "Piets").await);
    for (n, place) in [(1, Some(LEIDEN)), (2, Some(LEIDEN)), (3, Some(LEIDEN)), (4, Some(FANO)), (5, Some(FANO)), (6, None)] {
        send(&juno, n, place).await;
    }
    send(&piets, 7, Some(MEUSE)).await;
    let piet = w.house.sign_in("Piet", PASSWORD).await.unwrap();
    let h = House { w, juno, piet, piets };
    assert_eq!(h.towns(&h.w.keeper, 5).await, [("Leiden".to_owned(), 3), ("Nordby".to_owned(), 2)]);
    assert_eq!(h.towns(&h.piet, 1).await, [("Maastricht".to_owned(), 1)]);
    h
}

async fn get(who: &Console, path: &str) -> Value {
    who.ask(Method::GET, path, None).await.unwrap()
}

async fn refused(who: &Console, path: &str) -> (u16, String) {
    let (status, problem) = who.try_ask(Method::GET, path, None).await.unwrap();
    (status, problem["detail"].as_str().unwrap_or_default().to_owned())
}

fn encoded(line: &str) -> String {
    url::form_urlencoded::byte_serialize(line.as_bytes()).collect()
}

async fn map(who: &Console, area: &str, level: u8, more: &str) -> Vec<Value> {
    let told = get(who, &format!("api/map?area={area}&level={level}{more}")).await;
    assert_eq!(told["more"], false);
    told["cells"].as_array().unwrap().clone()
}

fn counts(cells: &[Value]) -> Vec<u64> {
    cells.iter().map(|c| c["count"].as_u64().unwrap()).collect()
}

async fn found(who: &Console, line: &str) -> u64 {
    get(who, &format!("api/find?line={}", encoded(line))).await["count"].as_u64().unwrap()
}

impl House {
    /// The towns, once so many pictures are near one.
    async fn towns(&self, who: &Console, pictures: u64) -> Vec<(String, u64)> {
        wait_for(&format!("{pictures} pictures to be near a town"), 60, async || {
            let all = get(who, "api/towns").await;
            let all =
                all.as_array().unwrap().iter().map(|t| (t["name"].as_str().unwrap().to_owned(), t["count"].as_u64().unwrap()));
            let all: Vec<_> = all.collect();
            Ok((all.iter().map(|t| t.1).sum::<u64>() == pictures).then_some(all))
        })
        .await
        .unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_found_by_where_they_were_taken() {
    let h = house().await;
    let juno = &h.w.keeper;
    for (line, count) in [
        ("Leiden", 3),
        ("near leiden", 3),
        ("in the Netherlands", 3),
        ("Denmark", 2),
        ("south holland", 3),
        ("not leiden", 3),
        ("denmark photos april 2026", 2),
        ("denmark videos", 0),
        // Nothing of hers was taken there: it is a name like any other.
        ("maastricht", 0),
    ] {
        assert_eq!(found(juno, line).await, count, "{line}");
    }
    assert_eq!(found(&h.piet, "maastricht").await, 1);
    let suggested = get(juno, "api/find?suggest=true&line=lei").await["suggestions"][0].clone();
    assert_eq!((suggested["line"].as_str(), suggested["count"].as_u64()), (Some("Leiden"), Some(3)));
    // A picture says it.
    let page = get(juno, "api/originals").await;
    let one = |n: usize| page["originals"][n]["id"].as_str().unwrap().to_owned();
    let near = async |n: usize| get(juno, &format!("api/originals/{}", one(n))).await["near"].clone();
    assert_eq!(
        (near(0).await, near(1).await, near(5).await),
        (Value::Null, json!("near Nordby, Denmark"), json!("near Leiden, Netherlands"))
    );

    // On a map, each cell has a line that finds what is counted in it.
    for level in [4, 6, 8, 10, 12, 14, 16, 18] {
        let cells = map(juno, EVERYWHERE, level, "").await;
        assert_eq!(counts(&cells).iter().sum::<u64>(), 5, "{level}: {cells:?}");
        for cell in &cells {
            let line = cell["line"].as_str().unwrap();
            assert_eq!(found(juno, line).await, cell["count"].as_u64().unwrap(), "{level}: {line}");
            assert_eq!(found(juno, &format!("{line} 2025")).await, 0);
            let there = get(juno, &format!("api/originals/{}", cell["picture"].as_str().unwrap())).await;
            let near = if level >= 12 { there["near"].clone() } else { Value::Null };
            assert_eq!(cell["near"], near, "{cell}");
        }
    }
    assert_eq!(counts(&map(juno, EVERYWHERE, 8, "").await), [3, 2]);
    assert_eq!(counts(&map(juno, "52/4..53/5", 10, "").await), [3]);
    assert_eq!(counts(&map(juno, EVERYWHERE, 8, "&find=denmark").await), [2]);
    assert_eq!(counts(&map(juno, EVERYWHERE, 8, &format!("&find={}", encoded("5 april 2026"))).await), [1]);
    assert_eq!(counts(&map(&h.piet, EVERYWHERE, 8, "").await), [1]);

    // What is deleted is nowhere; what is brought back is there again; what comes later, too.
    let gone = Some(json!({ "originals": [one(5)] }));
    juno.ask(Method::POST, "api/holding", gone.clone()).await.unwrap();
    assert_eq!(h.towns(juno, 4).await, [("Leiden".to_owned(), 2), ("Nordby".to_owned(), 2)]);
    assert_eq!(counts(&map(juno, EVERYWHERE, 18, "").await).iter().sum::<u64>(), 4);
    juno.ask(Method::POST, "api/holding/back", gone).await.unwrap();
    send(&h.juno, 8, Some(FANO)).await;
    send(&h.piets, 9, Some(FANO)).await;
    assert_eq!(h.towns(juno, 6).await, [("Leiden".to_owned(), 3), ("Nordby".to_owned(), 3)]);
    assert_eq!(h.towns(&h.piet, 2).await.len(), 2);
}

/// In an album, pictures of others are on the map, and found by where they were taken; nowhere else.
#[tokio::test(flavor = "multi_thread")]
async fn an_album_has_its_own_map() {
    let h = house().await;
    let (juno, piet) = (&h.w.keeper, &h.piet);
    let album =
        juno.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites" }))).await.unwrap()["id"].as_str().unwrap().to_owned();
    let page = get(juno, "api/originals?find=denmark").await;
    let ids: Vec<&str> = page["originals"].as_array().unwrap().iter().map(|o| o["id"].as_str().unwrap()).collect();
    juno.ask(Method::POST, &format!("api/albums/{album}/pictures"), Some(json!({ "pictures": ids, "inside": true })))
        .await
        .unwrap();
    let within = format!("&album={album}");
    for path in [format!("api/map?area={EVERYWHERE}&level=8{within}"), format!("api/find?line=denmark{within}")] {
        assert_eq!(refused(piet, &path).await.0, 404, "{path}");
    }
    juno.ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "household": "look" }))).await.unwrap();
    assert_eq!(counts(&map(piet, EVERYWHERE, 8, &within).await), [2]);
    assert_eq!(counts(&map(piet, EVERYWHERE, 8, "").await), [1]);
    assert_eq!(get(piet, &format!("api/find?line=denmark{within}")).await["count"], 2);
    assert_eq!(get(piet, &format!("api/find?line=leiden{within}")).await["count"], 0);
    assert_eq!(found(piet, "denmark").await, 0);
    assert_eq!(h.towns(piet, 1).await, [("Maastricht".to_owned(), 1)]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_part_of_the_earth_is_refused() {
    let h = house().await;
    for area in ["", "x", "52/4", "53/4..52/5", "91/0..92/1", "52/4..53/181", "1e1/4..53/5", "52%2F4..53%2F5..1", "NaN/4..53/5"] {
        let (status, why) = refused(&h.w.keeper, &format!("api/map?area={area}&level=8")).await;
        assert_eq!(status, 400, "{area}");
        assert!(why.contains("south/west..north/east"), "{why}");
    }
    for level in ["0", "5", "20", "255", "-2", "x", "300"] {
        assert_eq!(refused(&h.w.keeper, &format!("api/map?area={EVERYWHERE}&level={level}")).await.0, 400, "{level}");
    }
    assert_eq!(refused(&h.w.keeper, &format!("api/map?area={EVERYWHERE}&level=8&find={}", "a".repeat(501))).await.0, 400);
    // Over the date line, at the poles, and a single point.
    for area in ["-30/170..10/-160", "84/-180..90/180", "-90/0..-90/0", "52.158/4.486..52.158/4.486"] {
        get(&h.w.keeper, &format!("api/map?area={area}&level=18")).await;
    }
    // Written otherwise, the same.
    assert_eq!(counts(&map(&h.w.keeper, "%35%32%2F4..53%2f5", 8, "").await), [3]);
}

#[tokio::test(flavor = "multi_thread")]
async fn places_are_looked_at() {
    let h = house().await;
    let l = Looking::of(h.w, "places").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    let barriers = async || assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    // As soon as it is there.
    let press = async |what: &str, found: &str| {
        l.until(what, &format!("(found => found ? (found.click(), true) : false)({found})")).await
    };
    l.browser.wait_for_text("Your pictures were taken near 2 towns in 2 countries.").await.unwrap();
    let marker = |near: &str| format!("document.querySelector('[role=group] button[aria-label*=\"{near}\"]')");
    l.until(
        "both to be on the map",
        &format!("{}?.getAttribute('aria-label') === '3 pictures near Leiden' && !!{}", marker("Leiden"), marker("Nordby")),
    )
    .await;
    // Land was drawn: the canvas has more colours than one.
    let drawn = "(() => { const c = document.querySelector('[role=group] canvas'); const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; \
        const all = new Set(); for (let i = 0; i < d.length; i += 400) all.add(d[i] + ' ' + d[i + 1]); return all.size > 2 })()";
    l.until("land and water to be drawn", drawn).await;
    barriers().await;
    // What was taken there, and the way to it in the library.
    press("what was taken in Leiden", &marker("Leiden")).await;
    l.browser.wait_for_text("3 pictures near Leiden").await.unwrap();
    l.until("the three of them", "document.querySelectorAll('section[aria-label=\"What was taken there\"] li').length === 3")
        .await;
    barriers().await;
    // Nearer, until they are alone on it; the address says where one is, and leads there.
    l.browser.click("Nearer").await.unwrap();
    l.until(
        "the other one to be away",
        &format!("!!{} && !{} && location.search.includes('map=52.')", marker("Leiden"), marker("Nordby")),
    )
    .await;
    run("location.reload()").await;
    l.until("the same place", &format!("!!{} && !{}", marker("Leiden"), marker("Nordby"))).await;
    // By keys: farther, and to the side.
    run("document.querySelector('[role=group]').focus()").await;
    for _ in 0..6 {
        l.keys("-").await;
    }
    l.until("all of it again", &format!("!!{} && !!{}", marker("Leiden"), marker("Nordby"))).await;
    let before = run("return location.search").await;
    l.keys("\u{e014}").await;
    l.until("the map to be moved", &format!("location.search !== {before}")).await;
    // Only what is looked for.
    l.browser.page.goto(l.w.house.http.join("places?find=denmark").unwrap().as_str()).await.unwrap();
    l.until("only what was taken there", &format!("!!{} && !{}", marker("Nordby"), marker("Leiden"))).await;
    press("what was taken in Nordby", &marker("Nordby")).await;
    l.browser.click("Show them in the library").await.unwrap();
    l.browser.wait_for_text("2 pictures of yours, in 1 month.").await.unwrap();
    // By the name of a town; and a picture says where it was taken, and leads back to the map.
    l.browser.page.goto(l.w.house.http.join("places").unwrap().as_str()).await.unwrap();
    l.browser.click("Leiden").await.unwrap();
    l.browser.wait_for_text("3 pictures of yours, in 1 month.").await.unwrap();
    press("a picture", "document.querySelector('[data-at]')").await;
    l.browser.wait_for_text("Near Leiden, Netherlands").await.unwrap();
    barriers().await;
    l.browser.click("Show it on the map").await.unwrap();
    l.until("the map there", &format!("!!{} && !{}", marker("Leiden"), marker("Nordby"))).await;
    // An album has a map of its own, also for whom it is shared with; all that is seen on it can be looked at together.
    let album = l.w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites", "household": "look" }))).await.unwrap()
        ["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let page = get(&l.w.keeper, "api/originals?find=denmark").await;
    let ids: Vec<&str> = page["originals"].as_array().unwrap().iter().map(|o| o["id"].as_str().unwrap()).collect();
    l.w.keeper
        .ask(Method::POST, &format!("api/albums/{album}/pictures"), Some(json!({ "pictures": ids, "inside": true })))
        .await
        .unwrap();
    l.w.keeper.ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "household": "look" }))).await.unwrap();
    for who in ["Juno", "Piet"] {
        if who == "Piet" {
            l.browser.page.delete_all_cookies().await.unwrap();
            l.browser.sign_in(&l.w.house.http, "Piet", PASSWORD).await.unwrap();
        }
        l.browser.page.goto(l.w.house.http.join(&format!("albums/{album}")).unwrap().as_str()).await.unwrap();
        l.browser.click("On the map").await.unwrap();
        l.browser.wait_for_text("2 pictures of it say where they were taken.").await.unwrap();
        let markers = "document.querySelectorAll('[role=group] button[aria-pressed]')";
        l.until("only what is in it", &format!("{markers}.length === 1 && {markers}[0].textContent === '2'")).await;
        l.browser.click("Show the pictures that were taken here").await.unwrap();
        l.browser.wait_for_text("2 pictures on this map").await.unwrap();
        barriers().await;
        l.browser.click("Show them in the album").await.unwrap();
        l.browser.wait_for_text("2 pictures of this album.").await.unwrap();
    }
    // A page whose cookies were taken away may have asked for something once more.
    let complaints = l.browser.complaints().await.unwrap();
    assert!(complaints.iter().all(|c| c.contains("401")), "{complaints:?}");
}
