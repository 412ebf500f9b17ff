//! What people gather in albums, whom they show it, and what nobody sees because of that.

use fantoccini::Locator;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{browser::Browser, house::Console};

use crate::{
    common::{Raw, World, metadata, world},
    library::{Looking, MANY},
};

/// The id of a picture of [`MANY`].
fn id(n: u32) -> String {
    format!("00000000-0000-7000-8000-{n:012x}")
}

fn ids(of: impl IntoIterator<Item = u32>) -> Vec<String> {
    of.into_iter().map(id).collect()
}

const PASSWORD: &str = "kites over the sea";

async fn joins(w: &World, name: &str, role: &str) -> (Console, Value) {
    let form = json!({ "name": name, "role": role, "password": PASSWORD });
    let person = w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap()["id"].clone();
    (w.house.sign_in(name, PASSWORD).await.unwrap(), person)
}

async fn album(who: &Console, name: &str) -> String {
    let made = who.try_ask(Method::POST, "api/albums", Some(json!({ "name": name }))).await.unwrap();
    assert_eq!(made.0, 201, "{}", made.1);
    made.1["id"].as_str().unwrap().to_owned()
}

async fn fill(who: &Console, album: &str, pictures: &[String], inside: bool) -> (u16, Value) {
    let form = json!({ "pictures": pictures, "inside": inside });
    who.try_ask(Method::POST, &format!("api/albums/{album}/pictures"), Some(form)).await.unwrap()
}

async fn change(who: &Console, album: &str, form: Value) -> (u16, Value) {
    who.try_ask(Method::PATCH, &format!("api/albums/{album}"), Some(form)).await.unwrap()
}

async fn status(who: &Console, path: &str) -> u16 {
    who.try_ask(Method::GET, path, None).await.unwrap().0
}

/// The names of the albums that somebody sees, with what they may there.
async fn seen(who: &Console) -> Vec<(String, String)> {
    let all = who.ask(Method::GET, "api/albums", None).await.unwrap();
    let text = |v: &Value| v.as_str().unwrap().to_owned();
    all.as_array().unwrap().iter().map(|a| (text(&a["name"]), text(&a["may"]))).collect()
}

/// A house with 4,000 pictures of Juno's, and everybody who lives in it.
struct Household {
    w: World,
    piet: (Console, Value),
    marisol: (Console, Value),
    liesl: (Console, Value),
}

async fn household() -> Household {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    let (piet, marisol) = (joins(&w, "Piet", "member").await, joins(&w, "Marisol", "member").await);
    let liesl = joins(&w, "Oma Liesl", "guest").await;
    Household { w, piet, marisol, liesl }
}

/// Everything that can be asked of a picture, in an album or not.
fn questions(picture: &str, album: &str) -> [String; 9] {
    [
        format!("api/originals/{picture}"),
        format!("api/originals/{picture}?album={album}"),
        format!("api/originals?album={album}"),
        format!("api/originals?album={album}&month=2025-11"),
        format!("api/months?album={album}"),
        format!("api/months?album={album}&find=photos"),
        format!("api/months/2025-11/shape?album={album}"),
        format!("api/find?line=photos&album={album}"),
        format!("api/albums/{album}"),
    ]
}

/// Whoever may see an album sees what is in it and nothing else; everybody else is not even told that there is one.
#[tokio::test(flavor = "multi_thread")]
async fn an_album_shows_what_is_in_it_to_whom_it_is_shared_with() {
    let h = household().await;
    let (juno, piet, marisol, liesl) = (&h.w.keeper, &h.piet.0, &h.marisol.0, &h.liesl.0);
    let weir = album(juno, "  The weir,\n in autumn ").await;
    assert_eq!(fill(juno, &weir, &ids(10..50), true).await, (200, json!({ "count": 40, "there": 0 })));
    assert_eq!(fill(juno, &weir, &ids(45..60), true).await, (200, json!({ "count": 10, "there": 5 })));
    assert_eq!(seen(juno).await, [("The weir, in autumn".to_owned(), "own".to_owned())]);
    // A picture of hers that nobody put anywhere.
    let other = id(3000);
    let with = |person: &Value, may: &str| json!({ "with": [{ "person": person, "may": may }] });
    for (shared, sees, not) in [
        (json!({}), vec![], vec![("piet", piet), ("marisol", marisol), ("liesl", liesl)]),
        (with(&h.piet.1, "look"), vec![("piet", piet)], vec![("marisol", marisol), ("liesl", liesl)]),
        (with(&h.liesl.1, "add"), vec![("liesl", liesl)], vec![("piet", piet), ("marisol", marisol)]),
        // Everybody who lives here; a guest is asked by name.
        (json!({ "with": [], "household": "look" }), vec![("piet", piet), ("marisol", marisol)], vec![("liesl", liesl)]),
        (json!({ "household": "nothing" }), vec![], vec![("piet", piet), ("marisol", marisol), ("liesl", liesl)]),
    ] {
        assert_eq!(change(juno, &weir, shared.clone()).await.0, 200, "{shared}");
        for (who, console) in sees {
            for path in questions(&id(20), &weir) {
                assert_eq!(status(console, &path).await, 200, "{who} {shared}: {path}");
            }
            let months = console.ask(Method::GET, &format!("api/months?album={weir}"), None).await.unwrap();
            assert_eq!(months, json!([{ "month": "2025-11", "count": 50 }]));
            let page = console.ask(Method::GET, &format!("api/originals?album={weir}&limit=500"), None).await.unwrap();
            assert_eq!(page["originals"].as_array().unwrap().len(), 50);
            assert!(page["originals"].as_array().unwrap().iter().all(|o| o["layer"].is_null() && o["own"] == false), "{who}");
            assert_eq!(status(console, &format!("api/originals/{}", id(20))).await, 200);
            // Another one of hers stays hers, also if it is asked for with an album.
            assert_eq!(status(console, &format!("api/originals/{other}?album={weir}")).await, 404, "{who}");
            assert_eq!(status(console, &format!("api/originals/{other}/bytes")).await, 404, "{who}");
            // Of the house, nothing is told with it.
            let told = console.ask(Method::GET, &format!("api/originals/{}", id(20)), None).await.unwrap();
            assert_eq!(
                (
                    &told["own"],
                    &told["path"],
                    &told["evidence"],
                    &told["device_name"],
                    &told["needs"],
                    &told["at"],
                    &told["layer"]
                ),
                (&json!(false), &json!("IMG_0020.jpg"), &json!([]), &Value::Null, &Value::Null, &Value::Null, &Value::Null),
                "{told}"
            );
            // It is nobody's own library.
            assert_eq!(console.ask(Method::GET, "api/months", None).await.unwrap(), json!([]), "{who}");
            // And not theirs to delete, name or share.
            let hold = Some(json!({ "originals": [id(20)] }));
            assert_eq!(console.try_ask(Method::POST, "api/holding", hold).await.unwrap().0, 404, "{who}");
            assert_eq!(change(console, &weir, json!({ "name": "mine" })).await.0, 403, "{who}");
            assert_eq!(console.try_ask(Method::DELETE, &format!("api/albums/{weir}"), None).await.unwrap().0, 403, "{who}");
            assert_eq!(fill(console, &weir, &ids([20]), false).await.0, 403, "{who}: somebody else's picture");
        }
        for (who, console) in not {
            for path in questions(&id(20), &weir).iter().chain(&[format!("api/originals/{}/bytes", id(20))]) {
                assert_eq!(status(console, path).await, 404, "{who} {shared}: {path}");
            }
            assert_eq!(seen(console).await, [], "{who}");
            assert_eq!(change(console, &weir, json!({ "name": "mine" })).await.0, 404, "{who}");
            assert_eq!(console.try_ask(Method::DELETE, &format!("api/albums/{weir}"), None).await.unwrap().0, 404, "{who}");
            assert_eq!(fill(console, &weir, &ids([20]), true).await.0, 404, "{who}");
            assert_eq!(fill(console, &weir, &ids([20]), false).await.0, 404, "{who}");
            let chosen = json!({ "album": weir, "months": [{ "month": "2025-11", "stretches": [{}] }] });
            for path in ["api/choice", "api/zips"] {
                assert_eq!(console.try_ask(Method::POST, path, Some(chosen.clone())).await.unwrap().0, 404, "{who} {path}");
            }
        }
    }
    // A device of Piet's sees what is Piet's alone, whatever albums show Piet.
    change(juno, &weir, with(&h.piet.1, "add")).await;
    let given = piet.ask(Method::POST, "api/devices", Some(json!({ "name": "Scanner" }))).await.unwrap();
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let program = Raw { http, base: h.w.house.http.clone(), token: given["password"].as_str().unwrap().to_owned() };
    for path in questions(&id(20), &weir) {
        assert!([401, 403].contains(&program.send("GET", &path, &[], b"").await.status), "{path}");
    }
    let phone = h.w.raw_device("phone").await;
    assert_eq!(phone.send("GET", &format!("api/months?album={weir}"), &[], b"").await.status, 403);
    // Who let whom see what can be read later.
    let record = juno.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("shares the album “The weir, in autumn” with Oma Liesl (may add)"), "{record}");
    assert!(record.contains("with nobody any more"), "{record}");
}

/// People add pictures of their own; who owns a picture, put it there, or owns the album takes it out.
#[tokio::test(flavor = "multi_thread")]
async fn several_gather_in_one_album() {
    let h = household().await;
    let (juno, piet, marisol) = (&h.w.keeper, &h.piet.0, &h.marisol.0);
    // Two pictures of Piet's, newer than all of Juno's.
    let (originals, standing) = MANY.split_once("INSERT INTO standing").unwrap();
    h.w.sql(&originals.replace("'Juno'", "'Piet'").replace("generate_series(0, 3999)", "generate_series(4000, 4001)"));
    h.w.sql(&format!("INSERT INTO standing{standing} WHERE name IN ('IMG_4000.jpg', 'IMG_4001.jpg')"));
    let kites = album(juno, "Kites").await;
    assert_eq!(change(juno, &kites, json!({ "household": "add" })).await.0, 200);
    let all = || ids(3982..4002);
    assert_eq!(fill(juno, &kites, &all(), true).await.1, json!({ "count": 18, "there": 0 }), "her own");
    assert_eq!(fill(piet, &kites, &all(), true).await.1, json!({ "count": 2, "there": 0 }), "his own");
    // What somebody was shown is not theirs to show on.
    let own = album(marisol, "Mine").await;
    assert_eq!(fill(marisol, &own, &all(), true).await.0, 404);
    assert_eq!(fill(marisol, &kites, &ids(2000..2010), true).await.0, 404);
    // They stand in one row, by when they were taken.
    let page = marisol.ask(Method::GET, &format!("api/originals?album={kites}&limit=500"), None).await.unwrap();
    let names: Vec<&str> = page["originals"].as_array().unwrap().iter().map(|o| o["name"].as_str().unwrap()).collect();
    let wanted: Vec<String> = (3982..4002).rev().map(|n| format!("IMG_{n:04}.jpg")).collect();
    assert_eq!(names, wanted);
    let one = marisol.ask(Method::GET, &format!("api/originals/{}?album={kites}", id(4000)), None).await.unwrap();
    assert_eq!((&one["person_name"], &one["newer"], &one["older"]), (&json!("Piet"), &json!(id(4001)), &json!(id(3999))));
    assert_eq!(one["albums"], json!([{ "id": kites, "name": "Kites", "seen": true }]));
    // Chosen and taken along: those of both.
    let chosen = json!({ "album": kites, "months": [{ "month": "2026-04", "stretches": [{}] }] });
    let told = marisol.ask(Method::POST, "api/choice", Some(chosen.clone())).await.unwrap();
    assert_eq!((&told["pictures"], &told["files"], &told["bytes"]), (&json!(20), &json!(20), &json!(20)));
    let zip = marisol.ask(Method::POST, "api/zips", Some(chosen)).await.unwrap();
    assert_eq!((&zip["files"], &zip["left_out"]), (&json!(20), &json!(0)));
    // What one likes best is one's own, whosever it is.
    let mark = |pictures: Vec<String>| Some(json!({ "pictures": pictures, "favourite": true }));
    assert_eq!(
        marisol.ask(Method::POST, "api/favourites", mark(ids([3990, 4000, 2000]))).await.unwrap(),
        json!({ "count": 2 }),
        "those that she sees"
    );
    let found = |who: &str| format!("api/find?line={who}&album={kites}");
    assert_eq!(marisol.ask(Method::GET, &found("favourites"), None).await.unwrap()["count"], json!(2));
    assert_eq!(juno.ask(Method::GET, &found("favourites"), None).await.unwrap()["count"], json!(0));
    assert_eq!(marisol.ask(Method::GET, &found("img_399"), None).await.unwrap()["count"], json!(10));
    // Neither in which folders pictures of others are, nor how safe they are, is found out by asking.
    let camera = found("camera");
    assert_eq!(marisol.ask(Method::GET, &camera, None).await.unwrap()["count"], json!(0));
    assert_eq!(juno.ask(Method::GET, &camera, None).await.unwrap()["count"], json!(18), "her own");
    let unknown = juno.ask(Method::GET, &found("proven"), None).await.unwrap()["unknown"].clone();
    assert_eq!(unknown, json!([{ "typed": "proven", "why": "how safe pictures are is told in the library" }]));
    assert_eq!(marisol.ask(Method::GET, &found("not%20favourites"), None).await.unwrap()["count"], json!(18));
    // Out again: one's own; of one's own album, everything.
    assert_eq!(fill(piet, &kites, &ids([3985]), false).await.0, 403);
    assert_eq!(fill(piet, &kites, &ids([3985, 4000]), false).await.1["count"], 1);
    assert_eq!(fill(juno, &kites, &ids([3985, 4001]), false).await.1["count"], 2);
    // A picture that is deleted is not counted, and is there again when it is brought back.
    let count = async || juno.ask(Method::GET, &format!("api/albums/{kites}"), None).await.unwrap()["pictures"].clone();
    assert_eq!(count().await, json!(17));
    h.w.sql(&format!("UPDATE original SET held_at = now() WHERE id = '{}'", id(3986)));
    assert_eq!(count().await, json!(16));
    h.w.sql(&format!("UPDATE original SET held_at = NULL WHERE id = '{}'", id(3986)));
    assert_eq!(count().await, json!(17));
    // A picture that has become a part of another one is in the album as that.
    h.w.sql(&format!("UPDATE original SET shot = '{}' WHERE id = '{}'", id(500), id(3987)));
    assert_eq!(count().await, json!(17));
    assert_eq!(status(marisol, &format!("api/originals/{}", id(500))).await, 200);
    assert_eq!(fill(juno, &kites, &ids([500]), true).await.1, json!({ "count": 0, "there": 1 }));
    assert_eq!(fill(juno, &kites, &ids([500]), false).await.1["count"], 1);
    // Whom it is shared with no more still decides over a picture of their own in it, and is told where it is.
    assert_eq!(fill(piet, &kites, &ids([4001]), true).await.1["count"], 1);
    change(juno, &kites, json!({ "household": "nothing" })).await;
    assert_eq!(status(piet, &format!("api/albums/{kites}")).await, 404);
    let told = piet.ask(Method::GET, &format!("api/originals/{}", id(4001)), None).await.unwrap();
    assert_eq!(told["albums"], json!([{ "id": kites, "name": "Kites", "seen": false }]));
    assert_eq!(fill(piet, &kites, &ids([4001]), false).await.1["count"], 1);
    assert_eq!(fill(piet, &kites, &ids([4001]), false).await.0, 404);
    // Taken apart, it takes nothing along.
    assert_eq!(juno.try_ask(Method::DELETE, &format!("api/albums/{kites}"), None).await.unwrap().0, 204);
    assert_eq!(seen(juno).await, []);
    assert_eq!(h.w.sql("SELECT count(*) FROM original WHERE held_at IS NULL").trim(), "4002");
    assert_eq!(h.w.sql("SELECT count(*) FROM album_picture").trim(), "0");
}

/// A download that was made of an album ends for those who do not see it any more.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_shown_no_more_is_handed_over_no_more() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(4, &metadata(&[("filename", "IMG_20260412_101530.jpg")])).await;
    let kite = raw.append(&path, 0, b"kite").await.header("ypogeion-original").to_owned();
    let (piet, person) = joins(&w, "Piet", "member").await;
    let kites = album(&w.keeper, "Kites").await;
    fill(&w.keeper, &kites, std::slice::from_ref(&kite), true).await;
    let with = |people: Value| json!({ "with": people });
    change(&w.keeper, &kites, with(json!([{ "person": person, "may": "look" }]))).await;
    let bytes = format!("api/originals/{kite}/bytes");
    assert_eq!(piet.bytes(&bytes).await.unwrap(), b"kite");
    let chosen = json!({ "album": kites, "months": [{ "month": "2026-04", "pictures": [kite] }] });
    let zip = piet.ask(Method::POST, "api/zips", Some(chosen)).await.unwrap();
    let download = format!("api/zips/{}/bytes", zip["id"].as_str().unwrap());
    let mut read = zip::ZipArchive::new(std::io::Cursor::new(piet.bytes(&download).await.unwrap())).unwrap();
    assert_eq!((read.len(), read.by_index(0).unwrap().name().unwrap().into_owned()), (1, "IMG_20260412_101530.jpg".to_owned()));
    // Deleted by whose it is, nobody sees it; brought back, as before.
    let this = Some(json!({ "originals": [kite] }));
    w.keeper.ask(Method::POST, "api/holding", this.clone()).await.unwrap();
    assert_eq!(status(&piet, &bytes).await, 404);
    w.keeper.ask(Method::POST, "api/holding/back", this).await.unwrap();
    assert_eq!(status(&piet, &bytes).await, 200);
    let download_again = async || piet.bytes(&download).await.is_ok();
    assert!(download_again().await);
    change(&w.keeper, &kites, with(json!([]))).await;
    assert_eq!(status(&piet, &bytes).await, 404);
    assert!(!download_again().await, "not the same download either");
    assert_eq!(w.keeper.bytes(&bytes).await.unwrap(), b"kite");
}

/// What is no name, no words, nobody and nothing is refused with a sentence; nothing of it is done.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_album_is_refused() {
    let h = household().await;
    let (juno, liesl) = (&h.w.keeper, &h.liesl.0);
    for (form, wanted) in [
        (json!({ "name": " \n\u{202e} " }), 400),
        (json!({ "name": "ß".repeat(101) }), 400),
        (json!({ "name": "ß".repeat(100), "words": "x".repeat(2001) }), 400),
        (json!({}), 400),
        (json!({ "name": 7 }), 400),
    ] {
        let (was, said) = juno.try_ask(Method::POST, "api/albums", Some(form.clone())).await.unwrap();
        assert_eq!(was, wanted, "{form}: {said}");
    }
    assert_eq!(seen(juno).await, []);
    let weir = album(juno, "<b>Weir</b> \u{202e}gpj").await;
    assert_eq!(seen(juno).await[0].0, "<b>Weir</b> gpj");
    fill(juno, &weir, &ids(0..5), true).await;
    let nobody = "0198a000-0000-7000-8000-000000000000";
    for (form, wanted) in [
        (json!({ "name": "" }), 400),
        (json!({ "household": "everything" }), 400),
        (json!({ "household": "own" }), 400),
        (json!({ "with": [{ "person": nobody, "may": "look" }] }), 400),
        (json!({ "with": [{ "person": h.piet.1, "may": "own" }] }), 400),
        (json!({ "cover": id(9) }), 400),
        (json!({ "cover": nobody }), 404),
    ] {
        let (was, said) = change(juno, &weir, form.clone()).await;
        assert_eq!(was, wanted, "{form}: {said}");
    }
    // Somebody named twice has the more of both; whose it is needs no sharing.
    let me = juno.ask(Method::GET, "api/session", None).await.unwrap()["id"].clone();
    let twice = json!({ "with": [{ "person": h.piet.1, "may": "add" }, { "person": h.piet.1, "may": "look" }, { "person": me, "may": "look" }] });
    let (_, told) = change(juno, &weir, twice).await;
    let people: Vec<_> =
        told["people"].as_array().unwrap().iter().map(|p| (p["name"].as_str().unwrap(), &p["may"], &p["guest"])).collect();
    let (no, yes) = (json!(false), json!(true));
    assert_eq!(people, [("Piet", &json!("add"), &no), ("Marisol", &Value::Null, &no), ("Oma Liesl", &Value::Null, &yes)]);
    // Nobody but its owner is told who else sees it.
    let piets = h.piet.0.ask(Method::GET, &format!("api/albums/{weir}"), None).await.unwrap();
    assert!(piets.get("people").is_none() && piets["owner_name"] == "Juno", "{piets}");
    // The cover is one that is in it, and the newest where none was chosen or the chosen one is not in it any more.
    let cover = async || {
        let told = juno.ask(Method::GET, &format!("api/albums/{weir}"), None).await.unwrap();
        (told["cover"].clone(), told["cover_chosen"].clone())
    };
    assert_eq!(cover().await, (json!(id(4)), json!(false)));
    assert_eq!(change(juno, &weir, json!({ "cover": id(2) })).await.0, 200);
    assert_eq!(cover().await, (json!(id(2)), json!(true)));
    fill(juno, &weir, &ids([2]), false).await;
    assert_eq!(cover().await, (json!(id(4)), json!(false)));
    assert_eq!(fill(juno, &weir, &ids(0..1001), true).await.0, 413);
    assert_eq!(fill(juno, &weir, &[], true).await.0, 404);
    // A guest gathers alone.
    let own = album(liesl, "Grandchildren").await;
    assert_eq!(change(liesl, &own, json!({ "name": "My grandchildren" })).await.0, 200);
    assert_eq!(change(liesl, &own, json!({ "household": "look" })).await.0, 403);
    assert_eq!(change(liesl, &own, json!({ "with": [{ "person": h.piet.1, "may": "look" }] })).await.0, 403);
    // There is an end to it: each is said by every part of every ledger.
    h.w.sql(
        "INSERT INTO album (id, person, name, made_at) SELECT gen_random_uuid(), id, 'album ' || n, now() FROM person, generate_series(1, 499) n WHERE name = 'Juno'",
    );
    let (was, said) = juno.try_ask(Method::POST, "api/albums", Some(json!({ "name": "one more" }))).await.unwrap();
    assert!(was == 429 && said["detail"].as_str().unwrap().contains("500 albums"), "{was} {said}");
}

/// Somebody makes an album of what they chose, shares it, and another one looks at it; with the console.
#[tokio::test(flavor = "multi_thread")]
async fn an_album_is_made_shared_and_looked_at() {
    let h = household().await;
    let l = Looking::of(h.w, "library").await;
    l.shows("IMG_3999").await;
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    let picture = |name: &str| format!("[...document.querySelectorAll('[data-at]')].find(l => l.textContent.includes('{name}'))");
    for name in ["IMG_3999", "IMG_3998", "IMG_3997"] {
        run(&format!(
            "{}.dispatchEvent(new MouseEvent('click', {{ bubbles: true, cancelable: true, ctrlKey: true }}))",
            picture(name)
        ))
        .await;
    }
    l.browser.wait_for_text("3 pictures chosen").await.unwrap();
    l.browser.click("Add to album …").await.unwrap();
    l.browser.wait_for_text("There is no album yet").await.unwrap();
    let barriers = async |l: &Looking| assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    barriers(&l).await;
    l.browser.page.find(Locator::Css("[role=dialog] form input")).await.unwrap().send_keys("The weir in April").await.unwrap();
    l.browser.click("Make it, and add them").await.unwrap();
    l.browser.wait_for_text("3 pictures added to “The weir in April”.").await.unwrap();
    // The way there.
    l.browser.click("Open the album").await.unwrap();
    l.browser.wait_for_text("3 pictures, April 2026. Only you see it.").await.unwrap();
    l.shows("IMG_3997").await;
    l.until("nothing else to be in it", "document.querySelectorAll('[data-at]').length === 3").await;
    // For Piet to add to, for Oma Liesl to look at.
    l.browser.click("Share …").await.unwrap();
    l.browser.wait_for_text("Oma Liesl").await.unwrap();
    barriers(&l).await;
    for (name, may) in [("Piet", "may look and add"), ("Oma Liesl", "may look")] {
        let select = format!("[role=dialog] [role=combobox][aria-label='{name}']");
        l.browser.page.find(Locator::Css(&select)).await.unwrap().click().await.unwrap();
        let option = format!("//*[@role='option'][normalize-space(.)='{may}']");
        l.browser.page.wait().for_element(Locator::XPath(&option)).await.unwrap().click().await.unwrap();
        l.until(may, &format!("document.querySelector(\"{select}\").textContent.includes('{may}')")).await;
    }
    l.browser.click("Save").await.unwrap();
    l.browser.wait_for_text("Piet sees it and may add; Oma Liesl sees it.").await.unwrap();
    // One picture of it, with the next ones of the album, and back.
    run(&format!("{}.click()", picture("IMG_3999"))).await;
    l.until("the picture", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_3999.jpg'").await;
    l.browser.wait_for_text("The weir in April").await.unwrap();
    l.keys("\u{e014}").await;
    l.until("the next one", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_3998.jpg'").await;
    l.keys("\u{e00c}").await;
    l.until("the album", "!document.querySelector('[role=dialog]') && location.pathname.startsWith('/albums/')").await;
    // Chosen there, it is taken out and stays in the library.
    run(&format!(
        "{}.dispatchEvent(new MouseEvent('click', {{ bubbles: true, cancelable: true, ctrlKey: true }}))",
        picture("IMG_3998")
    ))
    .await;
    l.browser.wait_for_text("1 picture chosen").await.unwrap();
    l.browser.click("Take out").await.unwrap();
    l.browser.wait_for_text("1 picture taken out of “The weir in April”.").await.unwrap();
    l.browser.wait_for_text("2 pictures, April 2026.").await.unwrap();
    // Piet sees it, as Juno's; what there is for him to do is what he may.
    let http = l.w.house.http.clone();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&http, "Piet", PASSWORD).await.unwrap();
    browser.page.goto(http.join("albums").unwrap().as_str()).await.unwrap();
    let l = Looking { browser, w: l.w };
    let run = async |script: &str| l.browser.page.execute(script, vec![]).await.unwrap();
    l.browser.wait_for_text("2 pictures, April 2026. Juno’s; you may add to it.").await.unwrap();
    l.browser.click("The weir in April").await.unwrap();
    l.shows("IMG_3999").await;
    assert_eq!(
        run("return [...document.querySelectorAll('button')].filter(b => /Share|Remove/.test(b.textContent)).length").await,
        json!(0)
    );
    run(&format!("{}.click()", picture("IMG_3999"))).await;
    l.until("the picture", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_3999.jpg'").await;
    l.browser.wait_for_text("A picture of Juno’s").await.unwrap();
    let text = run("return document.querySelector('[role=dialog]').innerText").await;
    for hidden in ["How safe it is", "Delete", "Folder", "Arrived"] {
        assert!(!text.as_str().unwrap().contains(hidden), "{hidden}: {text}");
    }
    // Juno takes it apart meanwhile; the page says so and leads on.
    let id = l.w.sql("SELECT id FROM album").trim().to_owned();
    let keeper = l.w.house.keeper().await.unwrap();
    assert_eq!(keeper.try_ask(Method::DELETE, &format!("api/albums/{id}"), None).await.unwrap().0, 204);
    l.keys("\u{e00c}").await;
    l.browser.wait_for_text("This album is not here").await.unwrap();
    l.browser.page.goto(http.join("albums").unwrap().as_str()).await.unwrap();
    l.browser.wait_for_text("No albums yet").await.unwrap();
}
