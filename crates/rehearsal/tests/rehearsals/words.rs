//! What is said about pictures, by their files and by people; and pictures that are put away.

use std::{collections::BTreeMap, io::Read};

use chrono::NaiveDate;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::caption::Caption;
use ypogeion_demo::{camera, scenes};
use ypogeion_media::xmp;
use ypogeion_rehearsal::{house::Console, wait_for};

use crate::{
    common::{Raw, World, metadata, world},
    library::{Looking, MANY},
};

const PASSWORD: &str = "kites over the sea";

/// A picture of the `n`th day of April, with this said in it.
fn picture(n: u32, title: &str, caption: &str) -> Vec<u8> {
    let time = NaiveDate::from_ymd_opt(2026, 4, n).unwrap().and_hms_opt(12, 0, 0).unwrap();
    let mut shot = camera::Shot::new(camera::Camera::Havel7, time, (52.158, 4.486), &mut scenes::Rng::new(u64::from(n)));
    shot.place = None;
    let jpeg = camera::jpeg(&image::RgbImage::from_pixel(64, 48, image::Rgb([n as u8 * 7, 90, 120])), &shot).unwrap();
    let words = Caption { title: title.to_owned(), caption: caption.to_owned() };
    if words.is_empty() {
        return jpeg;
    }
    let packet = [b"http://ns.adobe.com/xap/1.0/\0".as_slice(), xmp::write(&words.into()).as_bytes()].concat();
    [b"\xff\xd8\xff\xe1".as_slice(), &(packet.len() as u16 + 2).to_be_bytes(), &packet, &jpeg[2..]].concat()
}

async fn send(phone: &Raw, name: &str, bytes: &[u8]) {
    let path = phone.create(bytes.len(), &metadata(&[("filename", name), ("source", "Camera")])).await;
    let sent = phone.append(&path, 0, bytes).await;
    assert_eq!(sent.status, 204, "{}", sent.body);
}

async fn get(who: &Console, path: &str) -> Value {
    who.ask(Method::GET, path, None).await.unwrap()
}

async fn post(who: &Console, path: &str, form: Value) -> (u16, Value) {
    who.try_ask(Method::POST, path, Some(form)).await.unwrap()
}

/// How many pictures a line finds.
async fn found(who: &Console, line: &str) -> u64 {
    let line: String = url::form_urlencoded::byte_serialize(line.as_bytes()).collect();
    get(who, &format!("api/find?line={line}")).await["count"].as_u64().unwrap()
}

/// The id of a file, by its name.
fn id(w: &World, name: &str) -> String {
    w.sql(&format!("SELECT id FROM original WHERE name = '{name}'")).trim().to_owned()
}

/// What is said about a picture.
async fn said(who: &Console, id: &str) -> [String; 2] {
    let words = get(who, &format!("api/originals/{id}")).await["words"].clone();
    ["title", "caption"].map(|part| words[part].as_str().unwrap().to_owned())
}

/// Nothing is counted otherwise than it is.
fn counted(w: &World) {
    assert_eq!(w.sql("SELECT what FROM discrepancy").trim(), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn words_are_read_from_files_written_by_people_found_and_taken_along() {
    let w = world().await;
    w.keeper
        .ask(Method::POST, "api/people", Some(json!({ "name": "Piet", "role": "member", "password": PASSWORD })))
        .await
        .unwrap();
    let piet = w.house.sign_in("Piet", PASSWORD).await.unwrap();
    let phone = w.raw_device("Junos").await;
    send(&phone, "IMG_0001.JPG", &picture(1, "The weir", "In flood,\nafter the thaw")).await;
    send(&phone, "IMG_0002.JPG", &picture(2, "", "")).await;
    let beside = Caption { title: String::new(), caption: "Oma’s beans & dahlias".to_owned() };
    send(&phone, "IMG_0002.JPG.xmp", xmp::write(&beside.into()).as_bytes()).await;
    send(&phone, "IMG_0003.JPG", &picture(3, "", "")).await;
    send(&phone, "IMG_0003.json", br#"{"title": "IMG_0003.JPG", "description": "K\u00f6nigskerze"}"#).await;
    send(&phone, "IMG_0004.JPG", &picture(4, "", "")).await;
    let [one, two, three, four] = [1, 2, 3, 4].map(|n| id(&w, &format!("IMG_000{n}.JPG")));
    wait_for("files to be with their pictures", 60, async || {
        Ok((w.sql("SELECT count(*) FROM original WHERE shot <> id").trim() == "2").then_some(()))
    })
    .await
    .unwrap();
    // What files say, also those beside.
    assert_eq!(said(&w.keeper, &one).await, ["The weir", "In flood,\nafter the thaw"]);
    assert_eq!(said(&w.keeper, &two).await, ["", "Oma’s beans & dahlias"]);
    assert_eq!(said(&w.keeper, &three).await, ["", "Königskerze"]);
    assert_eq!(said(&w.keeper, &four).await, ["", ""]);
    for (line, pictures) in [
        ("weir", 1),
        ("FLOOD", 1),
        ("dahlias", 1),
        ("konigskerze", 1),
        ("not weir", 3),
        ("weir dahlias", 0),
        ("after the thaw 2026", 1),
    ] {
        assert_eq!(found(&w.keeper, line).await, pictures, "{line}");
    }
    let cards = get(&w.keeper, "api/originals?month=2026-04").await["originals"].clone();
    let short: Vec<&str> = cards.as_array().unwrap().iter().map(|c| c["words"].as_str().unwrap_or_default()).collect();
    assert_eq!(short, ["", "Königskerze", "Oma’s beans & dahlias", "The weir"]);
    // What somebody writes counts, and the file's words are found no more; they are told to whose they are.
    let write = async |who: &Console, form: Value| post(who, "api/words", form).await;
    assert_eq!(
        write(&w.keeper, json!({ "pictures": [one], "title": " Hochwasser \u{202e}", "caption": "Grün\r\n<b>Piet</b>" })).await,
        (200, json!({ "count": 1 }))
    );
    assert_eq!(said(&w.keeper, &one).await, ["Hochwasser", "Grün\n<b>Piet</b>"]);
    let words = get(&w.keeper, &format!("api/originals/{one}")).await["words"].clone();
    assert_eq!((&words["written_by"], &words["in_file"]["title"]), (&json!("Juno"), &json!("The weir")));
    assert_eq!(
        (found(&w.keeper, "weir").await, found(&w.keeper, "hochwasser grun").await, found(&w.keeper, "\"<b>piet\"").await),
        (0, 1, 1)
    );
    // A part of it alone, of several, also through a file that stands behind.
    let note = id(&w, "IMG_0002.JPG.xmp");
    assert_eq!(
        write(&w.keeper, json!({ "pictures": [two, note, three], "title": "Allotment" })).await,
        (200, json!({ "count": 3 }))
    );
    assert_eq!(said(&w.keeper, &two).await, ["Allotment", "Oma’s beans & dahlias"]);
    assert_eq!(found(&w.keeper, "allotment").await, 2);
    assert_eq!(write(&w.keeper, json!({ "pictures": [note], "caption": "" })).await.0, 200);
    assert_eq!(said(&w.keeper, &two).await, ["Allotment", ""]);
    assert_eq!(w.sql("SELECT count(*) FROM words WHERE NOT of_file").trim(), "3", "one for each picture");
    // That nothing is said is said, too; and what the file says can count again.
    assert_eq!(write(&w.keeper, json!({ "pictures": [three], "title": "", "caption": "" })).await.0, 200);
    assert_eq!((said(&w.keeper, &three).await, found(&w.keeper, "konigskerze").await), (["", ""].map(str::to_owned), 0));
    assert_eq!(write(&w.keeper, json!({ "pictures": [three], "as_in_file": true })).await.0, 200);
    assert_eq!((said(&w.keeper, &three).await[1].as_str(), found(&w.keeper, "konigskerze").await), ("Königskerze", 1));
    // What is none is refused, and nothing is changed.
    let many: Vec<&str> = vec![&one; 1001];
    for (form, status) in [
        (json!({ "pictures": [one], "title": "ß".repeat(201) }), 400),
        (json!({ "pictures": [one], "caption": "ß".repeat(5001) }), 400),
        (json!({ "pictures": [one] }), 400),
        (json!({ "pictures": [one], "title": "x", "as_in_file": true }), 400),
        (json!({ "pictures": many, "title": "x" }), 413),
        (json!({ "pictures": [], "title": "x" }), 404),
        (json!({ "pictures": ["kite"], "title": "x" }), 400),
        (json!({ "title": "x" }), 400),
    ] {
        let (was, said) = write(&w.keeper, form).await;
        assert_eq!(was, status, "{said}");
    }
    assert_eq!(write(&piet, json!({ "pictures": [one], "title": "Piet was here" })).await.0, 404);
    assert_eq!(said(&w.keeper, &one).await[0], "Hochwasser");
    // An album shows what is said, and not what was.
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Water" }))).await.unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    post(&w.keeper, &format!("api/albums/{album}/pictures"), json!({ "pictures": [one, four], "inside": true })).await;
    w.keeper.ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "household": "add" }))).await.unwrap();
    let seen = get(&piet, &format!("api/originals/{one}?album={album}")).await["words"].clone();
    assert_eq!((&seen["title"], &seen["in_file"], &seen["written_by"]), (&json!("Hochwasser"), &Value::Null, &json!("Juno")));
    assert_eq!(get(&piet, &format!("api/find?line=hochwasser&album={album}")).await["count"], 1);
    assert_eq!(get(&piet, &format!("api/find?line=weir&album={album}")).await["count"], 0);
    assert_eq!(found(&piet, "hochwasser").await, 0);
    assert_eq!(write(&piet, json!({ "pictures": [one], "title": "Piet was here" })).await.0, 404);
    // For programs: by itself, and in a zip beside the file; nobody else's, and of files that nobody wrote about nothing.
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let fetch = async |who: &Console, path: &str| {
        let answer = http.get(w.house.http.join(path).unwrap()).header("cookie", &who.cookie).send().await.unwrap();
        (answer.status().as_u16(), answer.bytes().await.unwrap().to_vec())
    };
    let (status, packet) = fetch(&w.keeper, &format!("api/originals/{one}/words.xmp")).await;
    let mut facts = ypogeion_core::capture::Facts::default();
    xmp::read(&packet, &mut facts);
    assert_eq!((status, facts.title.as_deref(), facts.caption.as_deref()), (200, Some("Hochwasser"), Some("Grün\n<b>Piet</b>")));
    assert_eq!(fetch(&w.keeper, &format!("api/originals/{three}/words.xmp")).await.0, 404);
    assert_eq!(fetch(&piet, &format!("api/originals/{two}/words.xmp")).await.0, 404);
    let choice = json!({ "months": [{ "month": "2026-04", "stretches": [{}] }] });
    let zip = w.keeper.ask(Method::POST, "api/zips", Some(choice)).await.unwrap();
    assert_eq!((&zip["files"], &zip["notes"]), (&json!(6), &json!(2)));
    let path = format!("api/zips/{}/bytes", zip["id"].as_str().unwrap());
    let (_, bytes) = fetch(&w.keeper, &path).await;
    assert_eq!(bytes.len() as u64, zip["length"].as_u64().unwrap());
    let inside = read(&bytes);
    let mut names: Vec<&str> = inside.keys().filter_map(|name| name.rsplit('/').next()).collect();
    names.sort_unstable();
    // Of the second one there is a note already that its device sent.
    assert_eq!(
        names.join(" "),
        "IMG_0001.JPG IMG_0001.JPG.xmp IMG_0002.JPG IMG_0002.JPG.xmp IMG_0002.JPG.xmp IMG_0003.JPG IMG_0003.json IMG_0004.JPG"
    );
    let note = inside.iter().find(|(name, _)| name.ends_with("IMG_0001.JPG.xmp")).unwrap().1;
    assert_eq!(*note, packet);
    for (from, until) in [(0, 1), (bytes.len() / 3, bytes.len() / 2), (bytes.len() - 100, bytes.len())] {
        let range = format!("bytes={from}-{}", until - 1);
        let answer = http.get(w.house.http.join(&path).unwrap()).header("cookie", &w.keeper.cookie).header("range", range).send();
        assert!(answer.await.unwrap().bytes().await.unwrap() == bytes[from..until], "{from} to {until}");
    }
    // Sent back by another device, they are read again.
    let tablet = w.raw_device("Tablet").await;
    send(&tablet, "IMG_0004.JPG", &picture(5, "", "")).await;
    send(&tablet, "IMG_0004.JPG.xmp", note).await;
    wait_for("the words to be found with the other picture", 60, async || {
        Ok((found(&w.keeper, "hochwasser").await == 2).then_some(()))
    })
    .await
    .unwrap();
    counted(&w);
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

/// A library that came before words were read says what its files say, a moment after the service has started.
#[tokio::test(flavor = "multi_thread")]
async fn what_came_before_words_were_read_is_read_once() {
    let mut w = world().await;
    let phone = w.raw_device("Junos").await;
    for n in 1..=5 {
        send(&phone, &format!("IMG_{n:04}.JPG"), &picture(n, "", if n % 2 == 0 { "" } else { "At the weir" })).await;
    }
    assert_eq!(found(&w.keeper, "weir").await, 3);
    let lost = w.sql("SELECT path FROM original WHERE name = 'IMG_0005.JPG'");
    std::fs::rename(w.house.library().join(lost.trim()), w.folder.path().join("lost")).unwrap();
    w.sql("UPDATE original SET facts = facts - 'title' - 'caption'");
    w.sql("INSERT INTO job (kind, key, priority, due) VALUES ('words', '00000000-0000-0000-0000-000000000000', 25, now())");
    assert_eq!((found(&w.keeper, "weir").await, w.sql("SELECT count(*) FROM words").trim().to_owned()), (0, "0".to_owned()));
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    let keeper = w.house.keeper().await.unwrap();
    wait_for("the words to be read", 60, async || Ok((found(&keeper, "weir").await == 2).then_some(()))).await.unwrap();
    // What is not there now is looked at again tomorrow; what says nothing is not.
    let left = "SELECT o.name FROM original o, job j WHERE NOT o.facts ? 'caption' AND j.kind = 'words' AND j.due > now() + interval '20 hours'";
    wait_for("the work to wait", 30, async || Ok((w.sql(left).trim() == "IMG_0005.JPG").then_some(()))).await.unwrap();
    let card = get(&keeper, "api/originals?month=2026-04").await["originals"][1].clone();
    assert_eq!(
        (&card["name"], &card["words"], &card["width"]),
        (&json!("IMG_0004.JPG"), &Value::Null, &json!(64)),
        "the other facts stay"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_put_away_is_kept_and_in_nobodys_way() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    w.house.sql(r#"UPDATE original SET facts = facts || '{"place": [52.158, 4.486]}' WHERE name < 'IMG_0100'"#).unwrap();
    w.keeper
        .ask(Method::POST, "api/people", Some(json!({ "name": "Piet", "role": "member", "password": PASSWORD })))
        .await
        .unwrap();
    let piet = w.house.sign_in("Piet", PASSWORD).await.unwrap();
    let of = |n: u32| format!("00000000-0000-7000-8000-{n:012x}");
    let some: Vec<String> = (0..20).map(of).collect();
    let put = async |who: &Console, pictures: &[String], away: bool| {
        post(who, "api/put-away", json!({ "pictures": pictures, "away": away })).await
    };
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Meters", "words": "" }))).await.unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    post(&w.keeper, &format!("api/albums/{album}/pictures"), json!({ "pictures": some[..3], "inside": true })).await;
    w.keeper.ask(Method::PATCH, &format!("api/albums/{album}"), Some(json!({ "household": "look" }))).await.unwrap();
    let months = async |find: &str| -> Vec<(String, u64)> {
        let all = get(&w.keeper, &format!("api/months{find}")).await;
        all.as_array().unwrap().iter().map(|m| (m["month"].as_str().unwrap().to_owned(), m["count"].as_u64().unwrap())).collect()
    };
    let on_map = async || -> u64 {
        let cells = get(&w.keeper, "api/map?area=-90/-180..90/180&level=4").await["cells"].clone();
        cells.as_array().unwrap().iter().map(|c| c["count"].as_u64().unwrap()).sum()
    };
    let (before, places) = (months("").await, on_map().await);
    assert_eq!((places, before.len()), (100, 3));
    assert_eq!(put(&w.keeper, &some, true).await, (200, json!({ "count": 20 })));
    // Twice is once.
    assert_eq!(put(&w.keeper, &some[..2], true).await, (200, json!({ "count": 2 })));
    counted(&w);
    assert_eq!(months("").await, [("2026-04".to_owned(), 2000), ("2025-11".to_owned(), 1980)]);
    assert_eq!(months("?find=put+away").await, [("2025-11".to_owned(), 10), ("2019-04".to_owned(), 10)]);
    assert_eq!(months("?find=not+put+away").await, months("").await);
    assert_eq!((on_map().await, found(&w.keeper, "put away").await, found(&w.keeper, "img_0005").await), (80, 20, 0));
    assert_eq!((found(&w.keeper, "img_0005 put away").await, found(&w.keeper, "put away 2019").await), (1, 10));
    assert_eq!(get(&w.keeper, "api/originals?month=2019-04").await["originals"], json!([]));
    let chosen = async |find: &str| {
        let months: Vec<Value> = ["2019-04", "2025-11"].iter().map(|m| json!({ "month": m, "stretches": [{}] })).collect();
        w.keeper.ask(Method::POST, "api/choice", Some(json!({ "find": find, "months": months }))).await.unwrap()["pictures"]
            .as_u64()
            .unwrap()
    };
    assert_eq!((chosen("").await, chosen("put away").await), (1980, 20));
    // It can be opened where it is named; what lies beside it is what is looked for.
    let one = get(&w.keeper, &format!("api/originals/{}", some[5])).await;
    assert_eq!((&one["put_away"], &one["at"]), (&json!(true), &Value::Null));
    let among = get(&w.keeper, &format!("api/originals/{}?find=put+away", some[5])).await;
    assert_eq!((&among["newer"], &among["older"]), (&json!(some[6]), &json!(some[4])));
    let beside = get(&w.keeper, &format!("api/originals/{}", of(20))).await;
    assert_eq!((&beside["newer"], &beside["older"]), (&json!(of(21)), &Value::Null));
    // In an album it stays, for everybody; and what somebody put away is nobody else's business.
    for who in [&w.keeper, &piet] {
        assert_eq!(get(who, &format!("api/months?album={album}")).await[0]["count"], 3);
    }
    assert_eq!(get(&piet, &format!("api/originals/{}?album={album}", some[0])).await["put_away"], false);
    assert_eq!(get(&piet, &format!("api/months?album={album}&find=put+away")).await, json!([]));
    assert_eq!(get(&w.keeper, &format!("api/months?album={album}&find=put+away")).await[0]["count"], 3);
    assert_eq!(put(&piet, &some, true).await.0, 404);
    assert_eq!(put(&piet, &some, false).await.0, 404);
    assert_eq!(
        (put(&w.keeper, &[], true).await.0, put(&w.keeper, &(0..1001).map(of).collect::<Vec<_>>(), true).await.0),
        (404, 413)
    );
    // Deleted and brought back, it is where it was.
    let hold = |path: &'static str| post(&w.keeper, path, json!({ "originals": [some[5]] }));
    assert_eq!(hold("api/holding").await.0, 200);
    counted(&w);
    assert_eq!(found(&w.keeper, "put away").await, 19);
    assert_eq!(hold("api/holding/back").await.0, 200);
    assert_eq!(found(&w.keeper, "put away").await, 20);
    // Back: everything is as before.
    assert_eq!(put(&w.keeper, &some, false).await, (200, json!({ "count": 20 })));
    counted(&w);
    assert_eq!((months("").await, on_map().await, found(&w.keeper, "put away").await), (before, places, 0));
}

/// What comes to a picture that was put away does not bring it back.
#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_comes_later_is_put_away_with_its_picture() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send(
        &phone,
        "IMG_0001.xmp",
        xmp::write(&Caption { title: "The meter".to_owned(), caption: String::new() }.into()).as_bytes(),
    )
    .await;
    send(&phone, "IMG_0002.JPG", &picture(2, "", "")).await;
    let note = id(&w, "IMG_0001.xmp");
    assert_eq!(post(&w.keeper, "api/put-away", json!({ "pictures": [note], "away": true })).await.0, 200);
    send(&phone, "IMG_0001.JPG", &picture(1, "", "")).await;
    let together =
        "SELECT count(*) FROM original WHERE put_away AND shot = (SELECT id FROM original WHERE name = 'IMG_0001.JPG')";
    wait_for("both to be one picture", 60, async || Ok((w.sql(together).trim() == "2").then_some(()))).await.unwrap();
    counted(&w);
    let shown = get(&w.keeper, "api/originals").await["originals"].clone();
    assert_eq!(shown.as_array().unwrap().iter().map(|o| &o["name"]).collect::<Vec<_>>(), [&json!("IMG_0002.JPG")]);
    let away = get(&w.keeper, "api/originals?find=put+away+meter").await["originals"].clone();
    assert_eq!(away.as_array().unwrap().iter().map(|o| &o["name"]).collect::<Vec<_>>(), [&json!("IMG_0001.JPG")]);
}

/// The same from a terminal, with albums and their links.
#[tokio::test(flavor = "multi_thread")]
async fn pictures_are_gathered_and_described_at_a_terminal() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    let (device, _) = w.computer("desktop").await;
    let password = w.folder.path().join("password");
    std::fs::write(&password, format!("{}\n", w.house.options.keeper.1)).unwrap();
    let who = ["--name", "Juno", "--password-file", password.to_str().unwrap()];
    let run = async |command: &str, more: &[&str]| {
        let done = device.run(&[&[command], &who[..], more].concat()).await.unwrap();
        (done.code, done.out.trim().to_owned(), done.err.trim().to_owned())
    };
    let ok = async |command: &str, more: &[&str]| {
        let (code, out, err) = run(command, more).await;
        assert_eq!((code, err.as_str()), (0, ""), "{command} {more:?}: {out}");
        out
    };
    let refused = async |command: &str, more: &[&str]| {
        let (code, out, err) = run(command, more).await;
        assert_eq!((code, out.as_str()), (2, ""), "{command} {more:?}: {err}");
        err
    };
    assert_eq!(ok("albums", &[]).await, "There is no album that you see.");
    assert_eq!(ok("albums", &["make", "Kites", "--words", "by the sea"]).await, "Made “Kites”.");
    assert_eq!(ok("albums", &["add", "kites", "2019"]).await, "10 pictures added to “Kites”.");
    assert_eq!(
        ok("albums", &["add", "Kites", "since", "2025", "before", "2026", "img_01"]).await,
        "100 pictures added to “Kites”."
    );
    assert_eq!(ok("albums", &["add", "Kites", "2019"]).await, "0 pictures added to “Kites”. 10 pictures were in it already.");
    assert_eq!(ok("albums", &["add", "Kites", "2026"]).await, "2,000 pictures added to “Kites”.", "in several requests");
    assert_eq!(ok("albums", &["take-out", "Kites", "2026"]).await, "2,000 pictures taken out of “Kites”.");
    assert_eq!(ok("albums", &[]).await, "Album  Whose  Pictures  You may\nKites  Juno        110  everything: it is yours");
    assert_eq!(
        refused("albums", &["add", "Gulls", "2019"]).await,
        "ypogeion: you see no album called Gulls; \"ypogeion albums\" lists them"
    );
    assert_eq!(refused("albums", &["add", "Kites", "1987"]).await, "ypogeion: nothing was found for 1987");
    assert_eq!(refused("albums", &["add", "Kites", "2019", "ab"]).await, "ypogeion: “ab” cannot be looked for: it is too short.");
    // One that fills itself.
    let fills = "“Long ago” follows: 2019. What that finds of yours comes into it in a moment, and from now on.";
    assert_eq!(ok("albums", &["make", "Long ago", "--follows", "2019"]).await, format!("Made “Long ago”. {fills}"));
    let stays = "“Long ago” follows nothing any more. What is in it stays.";
    assert_eq!(ok("albums", &["follow", "Long ago", "--nothing"]).await, stays);
    assert_eq!(ok("albums", &["follow", "Long ago", "2019"]).await, fills);
    let (code, _, err) = run("albums", &["follow", "Long ago", "put", "away"]).await;
    assert_eq!((code, err.as_str()), (4, "ypogeion: What was put away comes into no album by itself."));
    assert_eq!(ok("albums", &["take-apart", "Long ago", "--yes"]).await, "“Long ago” is no album any more.");
    // Links: the address is alone on its line, and dead once it is withdrawn.
    let passphrase = w.folder.path().join("passphrase");
    std::fs::write(&passphrase, "by the weir\n").unwrap();
    let address = ok("links", &["make", "Kites", "--days", "3", "--hands-out", "copies"]).await;
    let opens = async |address: &str| {
        let http = reqwest::Client::builder().no_proxy().build().unwrap();
        let secret = address.split_once('#').unwrap().1;
        http.post(w.house.http.join("api/outside").unwrap())
            .json(&json!({ "secret": secret }))
            .send()
            .await
            .unwrap()
            .status()
            .as_u16()
    };
    assert_eq!(opens(&address).await, 200);
    let other = ok("links", &["make", "Kites", "--passphrase-file", passphrase.to_str().unwrap()]).await;
    assert_eq!(opens(&other).await, 403, "the passphrase is wanted");
    let listed = ok("links", &["list", "Kites"]).await;
    let lines: Vec<&str> = listed.lines().collect();
    assert_eq!(lines.len(), 3, "{listed}");
    let n = lines.iter().position(|l| l.contains("copies")).unwrap().to_string();
    assert_eq!(
        refused("links", &["withdraw", "Kites", "9"]).await,
        "ypogeion: there is no such link; \"ypogeion links list\" numbers those to Kites"
    );
    assert_eq!(ok("links", &["withdraw", "Kites", &n]).await, "1 link withdrawn: nobody sees anything by them any more.");
    assert_eq!((opens(&address).await, opens(&other).await), (404, 403));
    assert_eq!(ok("links", &["withdraw", "Kites", "--all"]).await, "1 link withdrawn: nobody sees anything by them any more.");
    assert_eq!(ok("links", &["list", "Kites"]).await, "No link to “Kites” opens now.");
    // Words, about one picture at once, about many once that is confirmed.
    assert_eq!(ok("words", &["--title", "The weir", "img_0007"]).await, "1 picture written about.");
    assert_eq!(said(&w.keeper, "00000000-0000-7000-8000-000000000007").await, ["The weir", ""]);
    let asked = refused("words", &["--caption", "In flood", "2019"]).await;
    assert_eq!(asked, "ypogeion: This changes what is said about 10 pictures. Give --yes to confirm.");
    assert_eq!(ok("words", &["--caption", "In flood", "--yes", "2019"]).await, "10 pictures written about.");
    assert_eq!(said(&w.keeper, "00000000-0000-7000-8000-000000000007").await, ["The weir", "In flood"]);
    assert_eq!(refused("words", &["2019"]).await, "ypogeion: give --title, --caption, or --as-in-file");
    assert_eq!(ok("words", &["--as-in-file", "--yes", "flood"]).await, "10 pictures written about.");
    assert_eq!(found(&w.keeper, "flood").await, 0);
    assert_eq!(ok("put-away", &["2019"]).await, "10 pictures put away.");
    assert_eq!(device.run(&["find", "2019"]).await.unwrap().out, "");
    assert_eq!(ok("put-away", &["--back", "put away 2019"]).await, "10 pictures put back.");
    assert_eq!(device.run(&["find", "2019"]).await.unwrap().out.lines().count(), 10);
    // When and where they were taken: the oldest of them then, the others as far from it as before.
    let asked = refused("taken", &["--on", "2009-04-01", "2019"]).await;
    assert_eq!(asked, "ypogeion: This changes when 10 pictures were taken. Give --yes to confirm.");
    assert_eq!(
        refused("taken", &["2019"]).await,
        "ypogeion: give --on, --at, --track, --nowhere, --time-as-before, or --place-as-in-file"
    );
    assert_eq!(ok("taken", &["--on", "2009-04-01", "--at", "55.445,8.37", "--yes", "2019"]).await, "10 pictures changed.");
    assert_eq!((found(&w.keeper, "2019").await, found(&w.keeper, "april 2009").await), (0, 10));
    assert_eq!(w.sql("SELECT count(*), min(taken_local) FROM original o JOIN given_place g ON g.original = o.id WHERE o.facts -> 'place' = '[55.445, 8.37]'").split_whitespace().next(), Some("10|2009-04-01"));
    assert_eq!(ok("taken", &["--time-as-before", "--place-as-in-file", "--yes", "2009"]).await, "10 pictures changed.");
    assert_eq!((found(&w.keeper, "2019").await, w.sql("SELECT count(*) FROM given_place").trim()), (10, "0"));
    let track = w.folder.path().join("walk.gpx");
    let at = w.sql(
        "SELECT to_char(taken_at AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS\"Z\"') FROM original WHERE name = 'IMG_0007.jpg'",
    );
    let point =
        format!("<gpx><trk><trkseg><trkpt lat=\"55.445\" lon=\"8.37\"><time>{}</time></trkpt></trkseg></trk></gpx>", at.trim());
    std::fs::write(&track, point).unwrap();
    assert_eq!(ok("taken", &["--track", track.to_str().unwrap(), "--yes", "img_0007"]).await, "1 picture changed.");
    assert_eq!(w.sql("SELECT north FROM given_place").trim(), "55.445");
    assert_eq!(ok("taken", &["--place-as-in-file", "img_0007"]).await, "1 picture changed.");
    assert!(refused("taken", &["--track", "no such file", "img_0007"]).await.starts_with("ypogeion: no such file: "));
    // Which side of them is up.
    let asked = refused("turn", &["right", "2019"]).await;
    assert_eq!(asked, "ypogeion: This turns 10 pictures. Give --yes to confirm.");
    assert_eq!(ok("turn", &["right", "--yes", "2019"]).await, "10 pictures turned.");
    assert_eq!(ok("turn", &["left", "img_0007"]).await, "1 picture turned.");
    assert_eq!(ok("turn", &["over", "--yes", "2019"]).await, "10 pictures turned.");
    assert_eq!(w.sql("SELECT string_agg(DISTINCT quarters::text, ' '), count(*) FROM given_turn").trim(), "2 3|10");
    assert_eq!(ok("turn", &["as-in-file", "--yes", "2019"]).await, "10 pictures turned.");
    assert_eq!(ok("turn", &["as-in-file", "img_0007"]).await, "0 pictures turned.");
    assert!(refused("turn", &["sideways", "img_0007"]).await.contains("right"));
    // An album goes; what was in it stays.
    let asked = refused("albums", &["take-apart", "Kites"]).await;
    assert!(asked.ends_with("with 110 pictures in it, which stay in the library. Give --yes to confirm."), "{asked}");
    assert_eq!(ok("albums", &["take-apart", "--yes", "Kites"]).await, "“Kites” is no album any more.");
    assert_eq!(found(&w.keeper, "2019").await, 10);
    counted(&w);
}

#[tokio::test(flavor = "multi_thread")]
async fn words_are_written_and_pictures_put_away_in_the_console() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send(&phone, "IMG_0001.JPG", &picture(1, "The weir", "In flood")).await;
    for n in 2..=4 {
        send(&phone, &format!("IMG_{n:04}.JPG"), &picture(n, "", "")).await;
    }
    let l = Looking::of(w, "library").await;
    l.browser.wait_for_text("4 pictures of yours").await.unwrap();
    l.until(
        "its words on the sheet",
        "[...document.querySelectorAll('[data-at]')].some(l => l.textContent.includes('The weir: IMG_0001.JPG, photo'))",
    )
    .await;
    l.open(&id(&l.w, "IMG_0003.JPG")).await;
    l.press("Write a title or caption").await;
    l.until("the line to be ready", "document.activeElement.matches('form input')").await;
    // The keys that go to other pictures, or close this one, are those of what is written.
    l.keys("Kites\u{e012}\u{e012}\u{e014} over\u{e004}Piet’s kite,\u{e006}first of all").await;
    l.press("Save").await;
    l.browser.wait_for_text("Change the words").await.unwrap();
    let words = l.w.sql("SELECT title || '|' || caption FROM words WHERE NOT of_file");
    assert_eq!(words.trim_end(), "Kite overs|Piet’s kite,\nfirst of all");
    l.press("Change the words").await;
    l.until("the line to be ready", "document.activeElement.matches('form input')").await;
    l.keys(" and more\u{e00c}").await;
    l.until("the form to be gone", "!document.querySelector('[role=dialog] form')").await;
    l.browser.wait_for_text("Written by Juno").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    // Out of the way, and back by the ways to look.
    l.press("Put it away").await;
    l.browser.wait_for_text("Put away: it is kept as safe as before").await.unwrap();
    l.keys("\u{e00c}").await;
    l.browser.wait_for_text("3 pictures of yours").await.unwrap();
    let ways = "[...document.querySelectorAll('search button')].find(b => b.textContent.includes('Ways to look'))";
    let open = format!("{ways}.dispatchEvent(new PointerEvent('pointerdown', {{ bubbles: true, button: 0 }}))");
    l.browser.page.execute(&open, vec![]).await.unwrap();
    l.until(
        "each way with its number",
        "[...document.querySelectorAll('[role=menuitem]')].some(i => i.textContent === 'Put away1')",
    )
    .await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.browser
        .page
        .execute("[...document.querySelectorAll('[role=menuitem]')].find(i => i.textContent === 'Put away1').click()", vec![])
        .await
        .unwrap();
    l.browser.wait_for_text("1 picture of yours").await.unwrap();
    // Many at once: the bar does the same, and undoes it.
    l.browser.page.execute("document.querySelector('section [role=checkbox]').click()", vec![]).await.unwrap();
    let pick = async |item: &str| {
        let open = "document.querySelector('section[aria-label=Chosen] [aria-haspopup=menu]')?.dispatchEvent(new PointerEvent('pointerdown', { bubbles: true, button: 0 }))";
        l.until("the bar", "!!document.querySelector('section[aria-label=Chosen] [aria-haspopup=menu]:not([disabled])')").await;
        l.browser.page.execute(open, vec![]).await.unwrap();
        let item = format!("[...document.querySelectorAll('[role=menuitem]')].find(i => i.textContent === '{item}')");
        l.until("the menu", &format!("!!{item}")).await;
        l.browser.page.execute(&format!("{item}.click()"), vec![]).await.unwrap();
    };
    pick("Put back").await;
    l.browser.wait_for_text("1 picture put back.").await.unwrap();
    l.press("Put away again").await;
    l.browser.wait_for_text("1 picture put away.").await.unwrap();
    l.press("Put back").await;
    l.browser.wait_for_text("1 picture put back.").await.unwrap();
    l.press("Show everything").await;
    l.browser.wait_for_text("4 pictures of yours").await.unwrap();
    l.until("pictures", "document.querySelectorAll('section [role=checkbox]').length > 3").await;
    l.browser.page.execute("document.querySelector('section [role=checkbox]').click()", vec![]).await.unwrap();
    pick("Title or caption …").await;
    l.browser.wait_for_text("Words about 4 pictures").await.unwrap();
    l.until("the line to be ready", "document.activeElement.matches('form input')").await;
    l.keys("April").await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("Save").await;
    l.browser.wait_for_text("Written about 4 pictures.").await.unwrap();
    assert_eq!(
        l.w.sql("SELECT string_agg(title || ': ' || caption, ', ' ORDER BY caption) FROM words WHERE NOT of_file").trim_end(),
        "April: , April: , April: In flood, April: Piet’s kite,\nfirst of all"
    );
    // For somebody outside: an album is made of them, and the way to a link is open there.
    pick("Show to somebody outside …").await;
    l.browser.wait_for_text("Show 4 pictures to somebody outside").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("Make the album").await;
    l.browser.wait_for_text("A link to “Pictures, ").await.unwrap();
    assert_eq!(l.w.sql("SELECT count(*) FROM album_picture").trim(), "4");
    l.press("Make a link").await;
    l.browser.wait_for_text("Here it is. It is shown this once: copy it now.").await.unwrap();
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
