//! Albums that follow a line: what comes into them by itself, what goes out, and what stays as somebody left it.

use fantoccini::{Locator, key::Key};
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::{house::Console, wait_for};

use crate::{
    common::{World, metadata, world},
    library::{Looking, MANY},
};

async fn make(who: &Console, name: &str, line: &str) -> (u16, Value) {
    who.try_ask(Method::POST, "api/albums", Some(json!({ "name": name, "follows": line }))).await.unwrap()
}

async fn made(who: &Console, name: &str, line: &str) -> String {
    let (status, album) = make(who, name, line).await;
    assert_eq!((status, &album["follows"], &album["follows_not"]), (201, &json!(line), &Value::Null), "{album}");
    album["id"].as_str().unwrap().to_owned()
}

async fn follows(who: &Console, album: &str, line: &str) -> (u16, Value) {
    who.try_ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "follows": line }))).await.unwrap()
}

async fn look(who: &Console, album: &str) -> Value {
    who.ask(Method::GET, &format!("api/albums/{album}"), None).await.unwrap()
}

/// Waits until there are so many pictures in it.
async fn has(who: &Console, album: &str, pictures: u64) {
    let done = wait_for("the pictures", 30, async || {
        let album = look(who, album).await;
        Ok((album["pictures"] == pictures).then_some(()))
    });
    if done.await.is_err() {
        panic!("not {pictures} pictures: {}", look(who, album).await);
    }
}

async fn fill(who: &Console, album: &str, pictures: &[&str], inside: bool) -> Value {
    let form = json!({ "pictures": pictures, "inside": inside });
    who.ask(Method::POST, &format!("api/albums/{album}/pictures"), Some(form)).await.unwrap()
}

/// Ten pictures of 2019, and so on: see [`MANY`].
async fn house() -> World {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    w
}

fn id(n: u32) -> String {
    format!("00000000-0000-7000-8000-{n:012x}")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_line_finds_is_in_the_album_that_follows_it() {
    let w = house().await;
    let (juno, out, in_) = (&w.keeper, id(3), id(3000));
    let album = made(juno, "Long ago", "2019").await;
    has(juno, &album, 10).await;
    // What comes later; its name tells from when it is.
    let phone = w.raw_device("phone").await;
    let path = phone.create(4, &metadata(&[("filename", "IMG_20190501_101530.jpg")])).await;
    assert_eq!(phone.append(&path, 0, b"weir").await.status, 204);
    has(juno, &album, 11).await;
    w.sql("DELETE FROM album_picture WHERE original IN (SELECT id FROM original WHERE name LIKE 'IMG_2019%')");
    w.sql("UPDATE original SET put_away = true WHERE name LIKE 'IMG_2019%'");
    // Taken out, it stays out; put in, it stays in. What is said otherwise of a picture brings it in, or out.
    assert_eq!(fill(juno, &album, &[&out], false).await["count"], 1);
    assert_eq!(fill(juno, &album, &[&in_], true).await["count"], 1);
    has(juno, &album, 10).await;
    let years = |n: i64| json!(n * 365 * 86_400);
    let later = json!({ "pictures": [id(4), id(5)], "later_by": years(1) });
    juno.ask(Method::POST, "api/times", Some(later)).await.unwrap();
    has(juno, &album, 8).await;
    let earlier = json!({ "pictures": [id(2500)], "later_by": years(-7) });
    juno.ask(Method::POST, "api/times", Some(earlier)).await.unwrap();
    has(juno, &album, 9).await;
    let back = json!({ "pictures": [id(4)], "later_by": years(-1) });
    juno.ask(Method::POST, "api/times", Some(back)).await.unwrap();
    has(juno, &album, 10).await;
    // A deleted one goes, and is in it again when it is brought back; also one that somebody put in.
    let held = json!({ "originals": [id(2), in_] });
    juno.ask(Method::POST, "api/holding", Some(held.clone())).await.unwrap();
    has(juno, &album, 8).await;
    juno.ask(Method::POST, "api/holding/back", Some(held)).await.unwrap();
    has(juno, &album, 10).await;
    // Put away, it is in no album by itself.
    let away = |away: bool| json!({ "pictures": [id(2)], "away": away });
    juno.ask(Method::POST, "api/put-away", Some(away(true))).await.unwrap();
    has(juno, &album, 9).await;
    juno.ask(Method::POST, "api/put-away", Some(away(false))).await.unwrap();
    has(juno, &album, 10).await;
    // Put in by hand after all, what was taken out stays in, whatever the line finds.
    assert_eq!(fill(juno, &album, &[&out], true).await["count"], 1);
    assert_eq!(fill(juno, &album, &[&id(6)], true).await, json!({ "count": 0, "there": 1 }));
    assert_eq!(follows(juno, &album, "2018").await.0, 200);
    has(juno, &album, 3).await;
    // Something else, and everything that it was before but what was kept out.
    assert_eq!(fill(juno, &album, &[&id(7)], false).await["count"], 0, "it is not in it");
    assert_eq!(follows(juno, &album, "2019 img").await.0, 200);
    has(juno, &album, 11).await;
    // It follows nothing any more: all stays, and nothing comes.
    assert_eq!(follows(juno, &album, " ").await.1["follows"], Value::Null);
    juno.ask(Method::POST, "api/times", Some(json!({ "pictures": [id(5)], "later_by": years(-1) }))).await.unwrap();
    let other = made(juno, "Other", "2019").await;
    has(juno, &other, 11).await;
    has(juno, &album, 11).await;
    assert_eq!(w.sql("SELECT count(*) FROM album_without").trim(), "0");
    // By restarts nothing is lost that came meanwhile.
    w.sql(&format!("DELETE FROM album_picture WHERE album = '{other}'"));
    let mut w = w;
    w.house.stop_service().await.unwrap();
    w.house.start_service().await.unwrap();
    let juno = w.house.keeper().await.unwrap();
    has(&juno, &other, 11).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_album_follows_what_is_understood_and_nothing_that_means_something_else_by_now() {
    let w = house().await;
    let juno = &w.keeper;
    let _phone = w.raw_device("phone").await;
    w.sql("UPDATE original SET device = (SELECT id FROM device LIMIT 1)");
    for (line, why) in [
        ("ab 2019", "not understood"),
        ("not yet away", "how safe"),
        ("put away", "no album by itself"),
        ("all pictures", "says something"),
        (&"2019 ".repeat(101)[..], "500"),
    ] {
        let (status, said) = make(juno, "Not", line).await;
        assert!(status == 400 && said["detail"].as_str().unwrap().contains(why), "{line}: {status} {said}");
    }
    let first = made(juno, "Kites", "2019").await;
    // An album in another, and the other in the first.
    for line in ["album kites", "2019 kites", "not album kites 2019"] {
        let (status, said) = make(juno, "Round", line).await;
        assert!(status == 400 && said["detail"].as_str().unwrap().contains("follows no album"), "{line}: {said}");
    }
    // A device is called otherwise: what is in the album stays, nothing comes, and its owner is told. Whoever looks at it is told nothing of that.
    w.sql("UPDATE device SET name = 'Heron' WHERE id = (SELECT device FROM original LIMIT 1)");
    let by = made(juno, "By heron", "heron 2019").await;
    has(juno, &by, 10).await;
    w.sql("UPDATE device SET name = 'Stork' WHERE name = 'Heron'");
    let times = json!({ "pictures": [id(2)], "later_by": 365 * 86_400 });
    juno.ask(Method::POST, "api/times", Some(times)).await.unwrap();
    has(juno, &first, 9).await;
    let told = look(juno, &by).await;
    assert_eq!(told["pictures"], 10);
    assert!(told["follows_not"].as_str().unwrap().contains("means something else"), "{told}");
    // Saved once more, it is what it means now: a name.
    assert_eq!(follows(juno, &by, "heron 2019").await.1["follows_not"], Value::Null);
    has(juno, &by, 0).await;
    assert_eq!(follows(juno, &by, "2019").await.0, 200);
    has(juno, &by, 9).await;
    let password = "kites over the sea";
    let form = json!({ "name": "Piet", "role": "member", "password": password });
    juno.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", password).await.unwrap();
    juno.ask(Method::PATCH, &format!("api/albums/{by}"), Some(json!({ "household": "add" }))).await.unwrap();
    let seen = look(&piet, &by).await;
    assert_eq!((&seen["pictures"], seen.get("follows"), seen.get("follows_not")), (&json!(9), None, None), "{seen}");
    let all = piet.ask(Method::GET, "api/albums", None).await.unwrap();
    assert!(!all.to_string().contains("2019\""), "{all}");
    assert_eq!(follows(&piet, &by, "2025").await.0, 403);
    // Theirs is theirs: what follows finds nothing of others.
    let own = made(&piet, "Mine", "2019").await;
    has(&piet, &own, 0).await;
    // While something is still to be learnt of pictures, what is not found is not gone.
    w.sql("INSERT INTO job (kind, key, priority, due) VALUES ('fetch', gen_random_uuid(), 0, now() + interval '1 day')");
    juno.ask(Method::POST, "api/times", Some(json!({ "pictures": [id(3)], "later_by": 365 * 86_400 }))).await.unwrap();
    let other = made(juno, "Other", "2020").await;
    has(juno, &other, 2).await;
    assert_eq!(look(juno, &first).await["pictures"], 9);
    w.sql("DELETE FROM job WHERE kind = 'fetch'");
    juno.ask(Method::POST, "api/times", Some(json!({ "pictures": [id(4)], "later_by": 365 * 86_400 }))).await.unwrap();
    has(juno, &first, 7).await;
}

/// From what was looked for to an album, and what it follows, by the pages.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_looked_for_is_kept_as_an_album() {
    let l = Looking::of(house().await, "library?find=2019").await;
    l.browser.wait_for_text("10 pictures of yours").await.unwrap();
    let click = async |text: &str| {
        let by = format!("//button[normalize-space()='{text}']");
        l.browser.page.wait().for_element(Locator::XPath(&by)).await.unwrap().click().await.unwrap();
    };
    click("Keep as an album …").await;
    l.browser.wait_for_text("It follows 2019. All pictures of yours that it finds").await.unwrap();
    let back = |n: usize| Key::Backspace.to_string().repeat(n);
    let name = l.browser.page.wait().for_element(Locator::XPath("//label[contains(.,'Its name')]//input")).await.unwrap();
    name.send_keys("Long ago").await.unwrap();
    click("Make it").await;
    l.browser.wait_for_text("10 pictures, April 2019.").await.unwrap();
    l.browser.wait_for_text("It follows 2019.").await.unwrap();
    // Whom it is shared with is shown what comes later: that is said before.
    click("Share …").await;
    l.browser.wait_for_text("you are not asked again").await.unwrap();
    click("Cancel").await;
    click("Edit …").await;
    let line = l.browser.page.wait().for_element(Locator::XPath("//label[contains(.,'It follows')]//input")).await.unwrap();
    line.send_keys(&back(4)).await.unwrap();
    l.browser.wait_for_text("It follows nothing any more, and what is in it stays.").await.unwrap();
    line.send_keys("2018 ab").await.unwrap();
    click("Save").await;
    l.browser.wait_for_text("“ab” was not understood (it is too short)").await.unwrap();
    line.send_keys(&back(7)).await.unwrap();
    line.send_keys("since 2025 before 2026").await.unwrap();
    click("Save").await;
    l.browser.wait_for_text("It follows since 2025 before 2026.").await.unwrap();
    l.browser.wait_for_text("1,990 pictures").await.unwrap();
    let complaints = l.browser.complaints().await.unwrap();
    assert!(complaints.iter().all(|c| c.contains("status of 400")) && complaints.len() == 1, "{complaints:?}");
}
