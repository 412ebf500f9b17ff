//! When and where pictures were taken, as people say it.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use fantoccini::Locator;
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
const PASSWORD: &str = "kites over the sea";

/// A picture of the 12th of April at this time, which says that it was taken there.
async fn send(phone: &Raw, n: u32, (hour, minute): (u32, u32), place: Option<(f64, f64)>) {
    let time = NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(hour, minute, 0).unwrap();
    let mut shot = camera::Shot::new(camera::Camera::Havel7, time, LEIDEN, &mut scenes::Rng::new(u64::from(n)));
    shot.place = place;
    let bytes = camera::jpeg(&image::RgbImage::from_pixel(64, 48, image::Rgb([n as u8 * 20, 90, 120])), &shot).unwrap();
    let path = phone.create(bytes.len(), &metadata(&[("filename", &format!("IMG_{n:04}.JPG")), ("source", "Camera")])).await;
    assert_eq!(phone.append(&path, 0, &bytes).await.status, 204);
}

/// Three of Juno's: one in Leiden, one twenty minutes later and one two hours after that, which say nothing of a place.
async fn house() -> (World, Raw, [String; 3]) {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send(&phone, 1, (10, 0), Some(LEIDEN)).await;
    send(&phone, 2, (10, 20), None).await;
    send(&phone, 3, (12, 20), None).await;
    let id = |n| w.sql(&format!("SELECT id FROM original WHERE name = 'IMG_000{n}.JPG'")).trim().to_owned();
    let ids = [1, 2, 3].map(id);
    near(&w.keeper, &ids[0], "near Leiden, Netherlands").await;
    (w, phone, ids)
}

/// Somebody else, who lives there.
async fn piet(w: &World) -> Console {
    let form = json!({ "name": "Piet", "role": "member", "password": PASSWORD });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    w.house.sign_in("Piet", PASSWORD).await.unwrap()
}

async fn get(who: &Console, path: &str) -> Value {
    who.ask(Method::GET, path, None).await.unwrap()
}

async fn post(who: &Console, path: &str, form: Value) -> (u16, Value) {
    who.try_ask(Method::POST, path, Some(form)).await.unwrap()
}

async fn found(who: &Console, line: &str) -> u64 {
    let line: String = url::form_urlencoded::byte_serialize(line.as_bytes()).collect();
    get(who, &format!("api/find?line={line}")).await["count"].as_u64().unwrap()
}

/// Until it is known what a picture was taken near.
async fn near(who: &Console, id: &str, town: &str) {
    wait_for(&format!("the picture to be {town}"), 60, async || {
        Ok((get(who, &format!("api/originals/{id}")).await["near"] == town).then_some(()))
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn where_a_picture_was_taken_is_said_and_found() {
    let (w, phone, [one, two, three]) = house().await;
    let piet = piet(&w).await;
    let detail = async |id: &str| get(&w.keeper, &format!("api/originals/{id}")).await;
    let say = async |form: Value| post(&w.keeper, "api/places", form).await;
    // What was taken shortly before may have been taken there.
    let beside = get(&w.keeper, &format!("api/originals/{three}/beside")).await;
    assert_eq!(
        (beside.as_array().unwrap().len(), &beside[0]["picture"], &beside[0]["near"]),
        (1, &json!(one), &json!("near Leiden, Netherlands")),
        "{beside}"
    );
    assert_eq!(
        get(&w.keeper, &format!("api/originals/{one}/beside")).await,
        json!([]),
        "it has a place of its own, and the others have none"
    );
    let before = detail(&two).await;
    assert_eq!((&before["place"], &before["place_said"]), (&Value::Null, &Value::Null));
    assert_eq!(say(json!({ "pictures": [two, three], "at": FANO })).await, (200, json!({ "count": 2 })));
    near(&w.keeper, &two, "near Nordby, Denmark").await;
    near(&w.keeper, &three, "near Nordby, Denmark").await;
    assert_eq!((found(&w.keeper, "denmark").await, found(&w.keeper, "leiden").await), (2, 1));
    let said = detail(&two).await;
    assert_eq!(
        (&said["place"], &said["place_said"]["by"], &said["place_said"]["in_file"]),
        (&json!(FANO), &json!("Juno"), &Value::Null)
    );
    assert_eq!((&said["digest"], &said["path"]), (&before["digest"], &before["path"]), "no file is changed");
    // Over what the file says, and back; and that it has no place.
    assert_eq!(say(json!({ "pictures": [one], "nowhere": true })).await.0, 200);
    let nowhere = detail(&one).await;
    assert_eq!((&nowhere["place"], &nowhere["near"], found(&w.keeper, "leiden").await), (&Value::Null, &Value::Null, 0));
    let in_file = nowhere["place_said"]["in_file"].as_array().unwrap();
    assert!((in_file[0].as_f64().unwrap() - LEIDEN.0).abs() < 1e-4, "{nowhere}");
    assert_eq!(say(json!({ "pictures": [one, two], "as_in_file": true })).await, (200, json!({ "count": 2 })));
    near(&w.keeper, &one, "near Leiden, Netherlands").await;
    assert_eq!((detail(&two).await["place"].clone(), found(&w.keeper, "denmark").await), (Value::Null, 1));
    // At a pole, and on the date line.
    for at in [(90.0, 0.0), (-90.0, 180.0), (-16.9, -180.0)] {
        assert_eq!(say(json!({ "pictures": [two], "at": at })).await.0, 200, "{at:?}");
        assert_eq!(detail(&two).await["place"], json!(at));
    }
    // What is none is refused, and nothing is changed.
    for (form, status) in [
        (json!({ "pictures": [two], "at": [90.1, 0.0] }), 400),
        (json!({ "pictures": [two], "at": [0.0, -180.5] }), 400),
        (json!({ "pictures": [two], "at": [1e300, 0.0] }), 400),
        (json!({ "pictures": [two], "at": ["x", 0] }), 400),
        (json!({ "pictures": [two] }), 400),
        (json!({ "pictures": [two], "nowhere": true, "as_in_file": true }), 400),
        (json!({ "pictures": [two], "nowhere": true, "at": LEIDEN }), 400),
        (json!({ "pictures": [], "nowhere": true }), 404),
        (json!({ "pictures": vec![&two; 1001], "nowhere": true }), 413),
    ] {
        let (was, said) = say(form).await;
        assert_eq!(was, status, "{said}");
    }
    assert_eq!(detail(&two).await["place"], json!([-16.9, -180.0]));
    for path in ["api/places", "api/times"] {
        let form = if path == "api/places" {
            json!({ "pictures": [two], "nowhere": true })
        } else {
            json!({ "pictures": [two], "later_by": 60 })
        };
        assert_eq!(post(&piet, path, form).await.0, 404, "{path}");
    }
    assert_eq!(piet.try_ask(Method::GET, &format!("api/originals/{two}/beside"), None).await.unwrap().0, 404);
    // For programs it lies beside the file.
    let http = reqwest::Client::new();
    let packet = http
        .get(w.house.http.join(&format!("api/originals/{two}/words.xmp")).unwrap())
        .header("cookie", &w.keeper.cookie)
        .send()
        .await
        .unwrap();
    let packet = packet.text().await.unwrap();
    assert!(packet.contains("<exif:GPSLatitude>16,54.00000S</exif:GPSLatitude>"), "{packet}");
    assert!(!packet.contains("DateCreated"), "{packet}");
    let zip = post(&w.keeper, "api/zips", json!({ "months": [{ "month": "2026-04", "stretches": [{}] }] })).await.1;
    assert_eq!((&zip["files"], &zip["notes"]), (&json!(3), &json!(2)), "{zip}");
    assert_eq!(w.sql("SELECT what FROM discrepancy").trim(), "");
    // What comes to it later is of the same place and time.
    assert_eq!(post(&w.keeper, "api/times", json!({ "pictures": [two], "later_by": -86_400 })).await.0, 200);
    let note = br#"{"title": "IMG_0002.JPG", "latitude": 59.33, "longitude": 18.07, "description": "x"}"#;
    let path = phone.create(note.len(), &metadata(&[("filename", "IMG_0002.json"), ("source", "Camera")])).await;
    assert_eq!(phone.append(&path, 0, note).await.status, 204);
    wait_for("the note to be with its picture", 60, async || {
        let said = "SELECT count(*) FROM original o JOIN given_place p ON p.original = o.id JOIN given_time t ON t.original = o.id WHERE o.shot <> o.id AND p.north = -16.9 AND t.seconds = -86400";
        Ok((w.sql(said).trim() == "1").then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(detail(&two).await["place"], json!([-16.9, -180.0]));
}

/// Sends a file of this name, bytes as they are.
async fn send_as(phone: &Raw, name: &str, bytes: &[u8]) {
    let path = phone.create(bytes.len(), &metadata(&[("filename", name), ("source", "Camera")])).await;
    assert_eq!(phone.append(&path, 0, bytes).await.status, 204);
}

/// Waits until the files are of these times, by name, each with what was added to it by people.
async fn times_are(w: &World, wanted: &str) {
    let times = "SELECT string_agg(concat_ws(' ', name, taken_local, seconds), E'\n' ORDER BY name)
                 FROM original o LEFT JOIN given_time t ON t.original = o.id";
    let waited = wait_for("the times", 60, async || Ok((w.sql(times).trim() == wanted).then_some(()))).await;
    assert!(waited.is_ok(), "{}\nis not\n{wanted}", w.sql(times).trim());
}

/// A file without a time of its own comes to a picture whose note tells one, and of which somebody said another one: what was said is added to what the note tells.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_counts_above_a_note_also_for_what_comes_later() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send_as(&phone, "BRT_0001.JPG", b"\xff\xd8\xff\xe0 cut").await;
    send_as(&phone, "BRT_0001.json", br#"{"taken": "2020-05-01T12:00:00Z"}"#).await;
    times_are(&w, "BRT_0001.JPG 2020-05-01 12:00:00\nBRT_0001.json 2020-05-01 12:00:00").await;
    let id = w.sql("SELECT id FROM original WHERE name = 'BRT_0001.JPG'").trim().to_owned();
    assert_eq!(post(&w.keeper, "api/times", json!({ "pictures": [id], "later_by": 3600 })).await.0, 200);
    send_as(&phone, "BRT_0001-edited.JPG", b"\xff\xd8\xff\xe0 cut once more").await;
    let all =
        |time: &str| ["BRT_0001-edited.JPG", "BRT_0001.JPG", "BRT_0001.json"].map(|name| format!("{name} {time}")).join("\n");
    times_are(&w, &all("2020-05-01 13:00:00 3600")).await;
    assert_eq!(post(&w.keeper, "api/times", json!({ "pictures": [id], "as_before": true })).await, (200, json!({ "count": 1 })));
    times_are(&w, &all("2020-05-01 12:00:00")).await;
}

/// Two files of one name that are not of one picture, of which the note is of the other one once that is there.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_of_a_picture_does_not_go_to_another_one_with_its_note() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send_as(&phone, "BRT_0001.JPG", b"no picture that says anything").await;
    send_as(&phone, "BRT_0001.json", br#"{"taken": "2020-05-01T12:00:00Z"}"#).await;
    let [first, noon] = ["BRT_0001.JPG 2020-05-01 13:00:00 3600", "2020-05-01 12:00:00"];
    times_are(&w, &format!("BRT_0001.JPG {noon}\nBRT_0001.json {noon}")).await;
    let id = |name: &str| w.sql(&format!("SELECT id FROM original WHERE name = '{name}'")).trim().to_owned();
    let jpeg = id("BRT_0001.JPG");
    assert_eq!(post(&w.keeper, "api/times", json!({ "pictures": [jpeg], "later_by": 3600 })).await.0, 200);
    assert_eq!(post(&w.keeper, "api/places", json!({ "pictures": [jpeg], "at": LEIDEN })).await.0, 200);
    times_are(&w, &format!("{first}\nBRT_0001.json 2020-05-01 13:00:00 3600")).await;
    send_as(&phone, "BRT_0001.DNG", b"no raw file that says anything").await;
    times_are(&w, &format!("BRT_0001.DNG {noon}\n{first}\nBRT_0001.json {noon}")).await;
    assert_eq!(w.sql("SELECT string_agg(name, ' ') FROM original JOIN given_place ON original = id").trim(), "BRT_0001.JPG");
    // What is said of the other one is of the note, too.
    assert_eq!(post(&w.keeper, "api/times", json!({ "pictures": [id("BRT_0001.DNG")], "later_by": 60 })).await.0, 200);
    times_are(&w, &format!("BRT_0001.DNG 2020-05-01 12:01:00 60\n{first}\nBRT_0001.json 2020-05-01 12:01:00 60")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn when_a_picture_was_taken_is_said_and_it_is_filed_there() {
    let (w, _phone, [one, two, three]) = house().await;
    let detail = async |id: &str| get(&w.keeper, &format!("api/originals/{id}")).await;
    let say = async |form: Value| post(&w.keeper, "api/times", form).await;
    let before = [detail(&one).await, detail(&two).await];
    let choice = json!({ "months": [{ "month": "2026-04", "stretches": [{}] }] });
    assert_eq!(post(&w.keeper, "api/choice", choice).await.1["oldest"], "2026-04-12T10:00:00");
    let summer = NaiveDate::from_ymd_opt(1987, 7, 14).unwrap().and_hms_opt(15, 0, 0).unwrap();
    let by = (summer - NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, 0, 0).unwrap()).num_seconds();
    assert_eq!(say(json!({ "pictures": [one, two], "later_by": by })).await, (200, json!({ "count": 2 })));
    let filed = async |place: &str, count: usize| {
        wait_for(&format!("{count} files in {place}"), 60, async || {
            let paths = w.sql(&format!("SELECT path FROM original WHERE path LIKE '%{place}%' AND moving_to IS NULL"));
            let there = paths.lines().filter(|p| w.house.library().join(p).is_file()).count();
            Ok((there == count).then_some(()))
        })
        .await
        .unwrap();
    };
    filed("/1987/07/", 2).await;
    filed("/2026/04/", 1).await;
    assert_eq!((found(&w.keeper, "summer 1987").await, found(&w.keeper, "2026").await), (2, 1));
    let [first, second] = [detail(&one).await, detail(&two).await];
    assert_eq!((&first["taken_local"], &second["taken_local"]), (&json!("1987-07-14T15:00:00"), &json!("1987-07-14T15:20:00")));
    assert_eq!((&first["time_said"]["before"], &first["time_said"]["by"]), (&json!("2026-04-12T10:00:00"), &json!("Juno")));
    assert_eq!((&first["digest"], &first["taken_sentence"]), (&before[0]["digest"], &before[0]["taken_sentence"]));
    let months = get(&w.keeper, "api/months").await;
    assert_eq!(months, json!([{ "month": "2026-04", "count": 1 }, { "month": "1987-07", "count": 2 }]));
    // Once more from there; and as before, also of one that nobody said anything of.
    assert_eq!(say(json!({ "pictures": [one], "later_by": 3600 })).await.0, 200);
    assert_eq!(detail(&one).await["time_said"]["before"], "2026-04-12T10:00:00");
    assert_eq!(say(json!({ "pictures": [one, two, three], "as_before": true })).await, (200, json!({ "count": 3 })));
    filed("/2026/04/", 3).await;
    for (id, was) in [(&one, &before[0]), (&two, &before[1])] {
        let now = detail(id).await;
        for what in ["taken_at", "taken_local", "taken_rule", "path", "time_said", "digest"] {
            assert_eq!(now[what], was[what], "{what}");
        }
    }
    for (form, status) in [
        (json!({ "pictures": [one], "later_by": 0 }), 400),
        (json!({ "pictures": [one] }), 400),
        (json!({ "pictures": [one], "later_by": 60, "as_before": true }), 400),
        (json!({ "pictures": [one], "later_by": i64::MIN }), 400),
        (json!({ "pictures": [one], "later_by": 86_400 * 366 * 399_i64 }), 400),
        (json!({ "pictures": [one], "later_by": -86_400 * 366 * 300_i64 }), 400),
        (json!({ "pictures": [one], "later_by": 1.5 }), 400),
        (json!({ "pictures": [], "later_by": 60 }), 404),
        (json!({ "pictures": vec![&one; 1001], "later_by": 60 }), 413),
    ] {
        let (was, said) = say(form).await;
        assert_eq!(was, status, "{said}");
    }
    assert_eq!(w.sql("SELECT count(*) FROM given_time").trim(), "0");
    assert_eq!(w.sql("SELECT what FROM discrepancy").trim(), "");
}

/// As a phone writes it that is carried from one place to the other, a minute before and after this moment.
fn track(at: &Value) -> String {
    let at: DateTime<Utc> = at.as_str().unwrap().parse().unwrap();
    let point = |minute: i64, north: f64, east: f64| {
        format!("<trkpt lat=\"{north}\" lon=\"{east}\"><time>{}</time></trkpt>", (at + TimeDelta::minutes(minute)).to_rfc3339())
    };
    let points = point(-1, 55.44, 8.36) + &point(1, 55.45, 8.38);
    format!(
        "<?xml version=\"1.0\"?><gpx version=\"1.1\" xmlns=\"http://www.topografix.com/GPX/1/1\"><trk><trkseg>{points}</trkseg></trk></gpx>"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_track_tells_where_pictures_were_taken() {
    let (w, _phone, [one, two, three]) = house().await;
    let piet = piet(&w).await;
    let detail = async |id: &str| get(&w.keeper, &format!("api/originals/{id}")).await;
    let follow = async |who: &Console, form: Value| post(who, "api/places/track", form).await;
    let gpx = track(&detail(&two).await["taken_at"]);
    let (status, along) = follow(&w.keeper, json!({ "pictures": [one, two, three], "gpx": gpx })).await;
    assert_eq!((status, &along["count"], &along["placed"], &along["off_it"]), (200, &json!(1), &json!(1), &json!(1)), "{along}");
    let there = detail(&two).await;
    assert_eq!((&there["place"], &there["place_said"]["by"]), (&json!([55.445, 8.37]), &json!("Juno")));
    near(&w.keeper, &two, "near Nordby, Denmark").await;
    assert_eq!((detail(&three).await["place"].clone(), detail(&one).await["place_said"].clone()), (Value::Null, Value::Null));
    // Also those with a place; by the times that people said.
    let by = (12 - 10) * 3600 + 20 * 60;
    post(&w.keeper, "api/times", json!({ "pictures": [three], "later_by": 20 * 60 - by })).await;
    let (_, along) = follow(&w.keeper, json!({ "pictures": [one, two, three], "gpx": gpx, "also_placed": true })).await;
    assert_eq!((&along["count"], &along["placed"], &along["off_it"]), (&json!(2), &json!(0), &json!(1)), "{along}");
    assert_eq!(detail(&three).await["place"], json!([55.445, 8.37]));
    for (form, status, said) in [
        (json!({ "pictures": [two], "gpx": "dear diary" }), 400, "no track in the format GPX"),
        (
            json!({ "pictures": [two], "gpx": gpx.replace("<time>", "<x>").replace("</time>", "</x>") }),
            400,
            "when somebody was there",
        ),
        (json!({ "pictures": [two], "gpx": gpx[..gpx.len() - 40] }), 400, "breaks off"),
        (json!({ "pictures": [], "gpx": gpx }), 404, ""),
        (json!({ "pictures": vec![&two; 1001], "gpx": gpx }), 413, ""),
        (json!({ "pictures": [two], "gpx": " ".repeat(9 << 20) }), 400, "not understood"),
    ] {
        let (was, problem) = follow(&w.keeper, form).await;
        assert!(was == status && problem.to_string().contains(said), "{was}: {problem}");
    }
    assert_eq!(follow(&piet, json!({ "pictures": [two], "gpx": gpx })).await.0, 404);
    // Of all that were taken meanwhile, first said, then done; nobody's but one's own.
    let meanwhile = |only_say: bool| json!({ "gpx": gpx, "taken_meanwhile": true, "only_say": only_say, "also_placed": true });
    post(&w.keeper, "api/places", json!({ "pictures": [two, three], "nowhere": true })).await;
    let (status, along) = follow(&w.keeper, meanwhile(true)).await;
    assert_eq!((status, &along["count"], &along["off_it"]), (200, &json!(2), &json!(0)), "{along}");
    assert_eq!(detail(&two).await["place"], Value::Null, "nothing was done");
    let (status, along) = follow(&w.keeper, meanwhile(false)).await;
    assert_eq!((status, &along["count"]), (200, &json!(2)), "{along}");
    assert_eq!(
        (detail(&two).await["place"].clone(), detail(&three).await["place"].clone()),
        (json!([55.445, 8.37]), json!([55.445, 8.37]))
    );
    assert_eq!(follow(&piet, meanwhile(false)).await.1["count"], 0);
    assert_eq!(follow(&w.keeper, json!({ "pictures": [two], "gpx": gpx, "taken_meanwhile": true })).await.0, 400);
    assert_eq!(w.sql("SELECT what FROM discrepancy").trim(), "");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_track_is_dropped_onto_the_library() {
    let (w, _phone, [_, two, _]) = house().await;
    let gpx = track(&get(&w.keeper, &format!("api/originals/{two}")).await["taken_at"]);
    let l = Looking::of(w, "library").await;
    l.browser.wait_for_text("3 pictures of yours").await.unwrap();
    let drop = "const all = new DataTransfer(); all.items.add(new File([arguments[0]], 'walk.gpx'));
        for (const kind of ['dragenter', 'dragover', 'drop']) window.dispatchEvent(new DragEvent(kind, { dataTransfer: all, bubbles: true, cancelable: true }))";
    l.browser.page.execute(drop, vec![json!(gpx)]).await.unwrap();
    l.browser.wait_for_text("It tells where 1 picture of yours without a place was taken.").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("Give it its place").await;
    l.browser.wait_for_text("1 picture has the place where you were then.").await.unwrap();
    assert_eq!(get(&l.w.keeper, &format!("api/originals/{two}")).await["place"], json!([55.445, 8.37]));
}

#[tokio::test(flavor = "multi_thread")]
async fn when_and_where_are_said_in_the_console() {
    let (w, _phone, [one, two, three]) = house().await;
    let gpx = w.folder.path().join("walk.gpx");
    std::fs::write(&gpx, track(&get(&w.keeper, &format!("api/originals/{two}")).await["taken_at"])).unwrap();
    let l = Looking::of(w, &format!("library/{three}")).await;
    l.browser.wait_for_text("Its file names no place.").await.unwrap();
    l.press("Say where it was taken").await;
    l.browser.wait_for_text("As the one 2 hours earlier").await.unwrap();
    let here = "[...document.querySelectorAll('button')].find(b => b.textContent === 'It was taken here')";
    l.browser
        .page
        .execute("document.querySelector('[aria-label^=\"Pictures that were taken\"] button').click()", vec![])
        .await
        .unwrap();
    l.until("the map to be near enough", &format!("{here} && !{here}.disabled")).await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("It was taken here").await;
    l.browser.wait_for_text("Near Leiden, Netherlands").await.unwrap();
    l.browser.wait_for_text("Said by Juno").await.unwrap();
    // The map is moved by keys; Escape leaves what was asked, and the picture stays.
    l.press("Change the place").await;
    l.browser.wait_for_text("Its file says nothing of a place.").await.unwrap();
    l.keys("\u{e00c}").await;
    l.until("the question to be gone", "document.querySelectorAll('[role=dialog]').length === 1").await;
    l.press("Change when it was taken").await;
    let field = "document.querySelector('input[type=datetime-local]')";
    l.until("the field", &format!("{field}?.value === '2026-04-12T12:20'")).await;
    let write = format!(
        "const f = {field}; Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(f, '1987-07-14T15:00'); f.dispatchEvent(new Event('input', {{ bubbles: true }}))"
    );
    l.browser.page.execute(&write, vec![]).await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    l.press("Save").await;
    l.browser.wait_for_text("Tuesday, 14 July 1987 at 15:00").await.unwrap();
    l.browser.wait_for_text("Before, it was Sunday, 12 April 2026 at 12:20").await.unwrap();
    // Many at once, and undone.
    l.browser.page.goto(l.w.house.http.join("library").unwrap().as_str()).await.unwrap();
    l.until("the sheet", &format!("!!document.querySelector('[data-id=\"{one}\"]')")).await;
    l.press("Choose pictures").await;
    l.browser.page.execute("document.querySelector('[aria-label=\"Choose April 2026\"]').click()", vec![]).await.unwrap();
    l.browser.wait_for_text("2 pictures chosen").await.unwrap();
    let more = "[...document.querySelectorAll('button')].find(b => b.textContent.startsWith('More'))";
    l.until("the menu", &format!("{more} && !{more}.disabled")).await;
    l.browser.page.execute(&format!("{more}.focus()"), vec![]).await.unwrap();
    l.keys("\u{e007}").await;
    let item = "[...document.querySelectorAll('[role=menuitem]')].find(i => i.textContent.startsWith('When'))";
    l.until("what can be done", &format!("!!{item}")).await;
    l.browser.page.execute(&format!("{item}.click()"), vec![]).await.unwrap();
    l.until("the field", &format!("{field}?.value === '2026-04-12T10:00'")).await;
    l.browser.page.execute(&write, vec![]).await.unwrap();
    l.press("Save").await;
    l.browser.wait_for_text("2 pictures are of another time now").await.unwrap();
    assert_eq!(found(&l.w.keeper, "1987").await, 3);
    l.press("Undo").await;
    wait_for("both to be as before", 30, async || Ok((found(&l.w.keeper, "april 2026").await == 2).then_some(()))).await.unwrap();
    // By a track.
    l.browser.page.goto(l.w.house.http.join(&format!("library/{two}")).unwrap().as_str()).await.unwrap();
    l.press("Say where it was taken").await;
    l.until("the question", "!!document.querySelector('input[type=file][accept*=gpx]')").await;
    let field = l.browser.page.find(Locator::Css("input[type=file][accept*=gpx]")).await.unwrap();
    field.send_keys(gpx.to_str().unwrap()).await.unwrap();
    l.browser.wait_for_text("Near Nordby, Denmark").await.unwrap();
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
