//! Films that browsers do not play, and the version of them that is made for browsers.

use std::{
    fs::{self, DirEntry},
    path::Path,
    process::Command,
};

use chrono::NaiveDate;
use reqwest::Method;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::{browser::Browser, house::Console, wait_for};

use crate::{
    common::{Raw, World, metadata, world},
    library::Looking,
};

/// Two seconds of a moving test pattern.
fn film(name: &str, arguments: &[&str]) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    let sources =
        ["-v", "error", "-f", "lavfi", "-i", "testsrc=size=640x360:rate=10:duration=2", "-f", "lavfi", "-i", "sine=duration=2"];
    assert!(Command::new("ffmpeg").args(sources).args(arguments).arg(&path).status().unwrap().success());
    fs::read(path).unwrap()
}

/// As phones write them.
const HEVC: [&str; 8] = ["-c:v", "libx265", "-x265-params", "log-level=none", "-tag:v", "hvc1", "-c:a", "aac"];
const H264: [&str; 6] = ["-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac"];

async fn send(phone: &Raw, name: &str, bytes: &[u8]) {
    let path = phone.create(bytes.len(), &metadata(&[("filename", name), ("source", "Camera")])).await;
    let sent = phone.append(&path, 0, bytes).await;
    assert_eq!(sent.status, 204, "{}", sent.body);
}

fn id(w: &World, name: &str) -> String {
    w.sql(&format!("SELECT id FROM original WHERE name = '{name}'")).trim().to_owned()
}

async fn state(who: &Console, id: &str) -> Value {
    who.ask(Method::GET, &format!("api/originals/{id}"), None).await.unwrap()["film"].clone()
}

async fn looked_at(w: &World, id: &str) -> Value {
    let keeper = w.house.keeper().await.unwrap();
    wait_for("the film to be looked at", 90, async || {
        let state = state(&keeper, id).await;
        Ok((!state.is_null()).then_some(state))
    })
    .await
    .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_that_browsers_do_not_play_gets_a_version_that_they_play() {
    let mut w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let phone = w.raw_device("Junos").await;
    let original = film("a.mov", &HEVC);
    send(&phone, "VID_0001.MOV", &original).await;
    send(&phone, "VID_0002.MP4", &film("a.mp4", &H264)).await;
    send(&phone, "VID_0003.MP4", &film("a.mp4", &HEVC)[..9000]).await;
    let [one, two, three] =
        [1, 2, 3].map(|n| w.sql(&format!("SELECT id FROM original WHERE name LIKE 'VID_000{n}%'")).trim().to_owned());
    let made = looked_at(&w, &one).await;
    assert_eq!(made["state"], "made", "{made}");
    assert_eq!(
        (looked_at(&w, &two).await["state"].as_str(), looked_at(&w, &three).await["state"].as_str()),
        (Some("plays"), Some("none"))
    );
    assert!(looked_at(&w, &three).await["why"].as_str().is_some_and(|why| !why.is_empty()));
    // It plays, any part of it can be asked for, and the original is what it was.
    let http = reqwest::Client::builder().no_proxy().build().unwrap();
    let fetch = async |who: &Console, path: &str, range: Option<&str>| {
        let request = http.get(w.house.http.join(path).unwrap()).header("cookie", &who.cookie);
        let request = range.into_iter().fold(request, |r, range| r.header("range", range));
        let answer = request.send().await.unwrap();
        (answer.status().as_u16(), answer.headers().get("content-type").cloned(), answer.bytes().await.unwrap().to_vec())
    };
    let path = format!("api/originals/{one}/film");
    let (status, of, bytes) = fetch(&w.keeper, &path, None).await;
    assert_eq!((status, of.unwrap().to_str().unwrap(), bytes.len() as u64), (200, "video/mp4", made["size"].as_u64().unwrap()));
    assert_eq!(fetch(&w.keeper, &path, Some("bytes=100-199")).await.2, bytes[100..200]);
    assert!(fetch(&w.keeper, &format!("api/originals/{one}/bytes"), None).await.2 == original);
    let file = w.folder.path().join("made.mp4");
    fs::write(&file, &bytes).unwrap();
    let probe = Command::new("ffprobe")
        .args(["-v", "error", "-show_entries", "stream=codec_name", "-of", "csv=p=0"])
        .arg(&file)
        .output()
        .unwrap();
    assert_eq!(String::from_utf8(probe.stdout).unwrap().split_whitespace().collect::<Vec<_>>(), ["h264", "aac"]);
    // Whoever may not see the picture sees no version of it; whom an album shows it, may.
    assert_eq!(fetch(&w.keeper, &format!("api/originals/{two}/film"), None).await.0, 404);
    assert_eq!(fetch(&piet, &path, None).await.0, 404);
    let album = w.keeper.ask(Method::POST, "api/albums", Some(json!({ "name": "Kites" }))).await.unwrap();
    let album = format!("api/albums/{}", album["id"].as_str().unwrap());
    w.keeper.ask(Method::POST, &format!("{album}/pictures"), Some(json!({ "pictures": [one], "inside": true }))).await.unwrap();
    w.keeper.ask(Method::PATCH, &album, Some(json!({ "household": "look" }))).await.unwrap();
    assert_eq!(fetch(&piet, &path, None).await.0, 200);
    // It is no original: nothing of it is in the library, counted, or sent.
    assert_eq!(w.sql("SELECT count(*) FROM original").trim(), "3");
    let place = w.folder.path().join("data").join("films").join(&one.replace('-', "")[30..]).join(format!("{one}.mp4"));
    assert!(place.exists());
    // Lost with its row, or interrupted in the middle, it is made again.
    fs::write(place.with_extension("new"), b"half").unwrap();
    fs::remove_file(&place).unwrap();
    w.sql("DELETE FROM film");
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    assert_eq!(looked_at(&w, &one).await["state"], "made");
    assert!(place.exists() && !place.with_extension("new").exists());
    // With its film it goes for good.
    let keeper = w.house.keeper().await.unwrap();
    keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 50 }))).await.unwrap();
    for path in ["api/holding", "api/holding/end"] {
        let form = json!({ "originals": [one], "password": w.house.options.keeper.1 });
        let (status, said) = keeper.try_ask(Method::POST, path, Some(form)).await.unwrap();
        assert!(status < 300, "{path}: {said}");
    }
    wait_for("the film to be gone", 60, async || {
        Ok((!place.exists() && w.sql("SELECT count(*) FROM film").trim() == "2").then_some(()))
    })
    .await
    .unwrap();
}

/// Of a film that is damaged at home nobody says that it cannot be played: that it is damaged is noted, and it is looked at again.
#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_film_is_noted_and_looked_at_again() {
    let mut w = world().await;
    let phone = w.raw_device("Junos").await;
    let original = film("a.mov", &HEVC);
    send(&phone, "VID_0001.MOV", &original).await;
    let id = id(&w, "VID_0001.MOV");
    assert_eq!(looked_at(&w, &id).await["state"], "made");
    let path = w.house.library().join(w.sql("SELECT path FROM original").trim());
    fs::write(&path, &original[..original.len() / 2]).unwrap();
    let again = async |w: &mut World| {
        fs::remove_dir_all(w.folder.path().join("data/films")).unwrap();
        w.sql("DELETE FROM film");
        w.sql("DELETE FROM job WHERE kind = 'film'");
        w.house.kill_service();
        w.house.start_service().await.unwrap();
    };
    again(&mut w).await;
    let noted = "SELECT count(*) FROM standing s JOIN job j ON j.key = s.original AND j.kind = 'film' \
                 WHERE NOT s.good AND j.due > now() + interval '20 hours'";
    wait_for("the damage to be noted", 60, async || Ok((w.sql(noted).trim() == "1").then_some(()))).await.unwrap();
    assert!(state(&w.house.keeper().await.unwrap(), &id).await.is_null());
    // Whole again, it is made.
    fs::write(&path, &original).unwrap();
    w.sql("UPDATE job SET due = now() WHERE kind = 'film'");
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    assert_eq!(looked_at(&w, &id).await["state"], "made");
}

/// What is deleted for good while a version of it is made leaves none behind.
/// The process that writes a file.
fn writer(file: &Path) -> Option<Pid> {
    fs::read_dir("/proc").unwrap().flatten().find_map(|process| {
        let writes = |fd: DirEntry| fs::read_link(fd.path()).is_ok_and(|open| open == file);
        fs::read_dir(process.path().join("fd")).ok()?.flatten().any(writes).then_some(())?;
        Pid::from_raw(process.file_name().to_str()?.parse().ok()?)
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_that_goes_while_it_is_made_leaves_nothing() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("long.avi");
    let long = ["-v", "error", "-f", "lavfi", "-i", "testsrc2=size=1280x720:rate=25:duration=20", "-c:v", "mjpeg", "-q:v", "12"];
    assert!(Command::new("ffmpeg").args(long).arg(&path).status().unwrap().success());
    send(&phone, "VID_0001.AVI", &fs::read(path).unwrap()).await;
    let id = id(&w, "VID_0001.AVI");
    let films = w.folder.path().join("data/films").join(&id.replace('-', "")[30..]);
    let new = films.join(format!("{id}.new"));
    let maker = wait_for("the film to be on its way", 90, async || Ok(writer(&new))).await.unwrap();
    kill_process(maker, Signal::STOP).unwrap();
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 100 }))).await.unwrap();
    for path in ["api/holding", "api/holding/end"] {
        let (status, said) = w.keeper.try_ask(Method::POST, path, Some(json!({ "originals": [id] }))).await.unwrap();
        assert!(status < 300, "{path}: {said}");
    }
    let gone = "SELECT count(*) FROM original WHERE gone_at IS NOT NULL AND folded IS NULL";
    wait_for("the original to be gone", 60, async || Ok((w.sql(gone).trim() == "1").then_some(()))).await.unwrap();
    kill_process(maker, Signal::CONT).unwrap();
    wait_for("the work to end", 240, async || {
        Ok((w.sql("SELECT count(*) FROM job WHERE kind = 'film'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    assert_eq!((fs::read_dir(&films).unwrap().count(), w.sql("SELECT count(*) FROM film").trim()), (0, "0"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_is_played_in_the_console() {
    let w = world().await;
    let phone = w.raw_device("Junos").await;
    send(&phone, "VID_0001.MOV", &film("a.mov", &HEVC)).await;
    let id = id(&w, "VID_0001.MOV");
    looked_at(&w, &id).await;
    let l = Looking::of(w, &format!("library/{id}")).await;
    l.browser.wait_for_text("Played here is a version for browsers").await.unwrap();
    l.until(
        "the film to be ready",
        "document.querySelector('video')?.readyState >= 1 && document.querySelector('video').duration > 1.5",
    )
    .await;
    l.browser.page.execute("const v = document.querySelector('video'); v.muted = true; v.play()", vec![]).await.unwrap();
    l.until("the film to run", "document.querySelector('video').currentTime > 0.3").await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}

/// A picture as a phone writes it that keeps the second before and after the press in the same file.
fn with_film(n: u64, film: &[u8]) -> Vec<u8> {
    let time = NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(10, 0, n as u32).unwrap();
    let shot = camera::Shot::new(camera::Camera::of_device(0), time, scenes::Scene::Weir.place(), &mut scenes::Rng::new(n));
    let still = camera::jpeg(&scenes::draw(scenes::Scene::Weir, n, 0.0, 640, 480), &shot).unwrap();
    [&still[..], film].concat()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_that_carries_a_film_moves() {
    let mut w = world().await;
    let phone = w.raw_device("Junos").await;
    let originals =
        [with_film(1, &film("a.mp4", &H264)), with_film(2, &film("a.mp4", &HEVC)), with_film(3, b"ftyp, and no film")];
    for (n, bytes) in originals.iter().enumerate() {
        send(&phone, &format!("IMG_000{n}.JPG"), bytes).await;
    }
    let ids: Vec<String> = (0..3).map(|n| id(&w, &format!("IMG_000{n}.JPG"))).collect();
    for id in &ids[..2] {
        let made = looked_at(&w, id).await;
        assert_eq!(made["state"], "made", "{made}");
    }
    let detail = async |who: &Console, n: usize| who.ask(Method::GET, &format!("api/originals/{}", ids[n]), None).await.unwrap();
    let none = detail(&w.keeper, 2).await;
    assert_eq!((&none["film_inside"], &none["film"], &none["kind"]), (&json!(false), &Value::Null, &json!("photo")));
    // It is a picture, kept whole, and says on the sheet that it moves.
    let sheet = w.keeper.ask(Method::GET, "api/originals", None).await.unwrap();
    let moving: Vec<&Value> = sheet["originals"].as_array().unwrap().iter().map(|c| &c["company"]).collect();
    assert_eq!(moving, [&json!([]), &json!(["motion"]), &json!(["motion"])], "newest first: {sheet}");
    for (n, original) in originals.iter().enumerate() {
        assert!(&w.keeper.bytes(&format!("api/originals/{}/bytes", ids[n])).await.unwrap() == original);
    }
    let made = w.folder.path().join("made.mp4");
    for id in &ids[..2] {
        fs::write(&made, w.keeper.bytes(&format!("api/originals/{id}/film")).await.unwrap()).unwrap();
        let probe = ["-v", "error", "-show_entries", "stream=codec_name", "-of", "csv=p=0"];
        let probe = Command::new("ffprobe").args(probe).arg(&made).output().unwrap();
        assert_eq!(String::from_utf8(probe.stdout).unwrap().split_whitespace().collect::<Vec<_>>(), ["h264", "aac"]);
    }
    // One that came before films were looked for in pictures is read once more, and loses nothing by that.
    w.sql("UPDATE original SET facts = facts - 'film_inside' || jsonb_build_object('title', 'The weir')");
    w.sql("DELETE FROM film; INSERT INTO job (kind, key, priority, due) VALUES ('words', '00000000-0000-0000-0000-000000000000', 25, now())");
    fs::remove_dir_all(w.folder.path().join("data/films")).unwrap();
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    w.keeper = w.house.keeper().await.unwrap();
    assert_eq!(looked_at(&w, &ids[1]).await["state"], "made");
    let again = detail(&w.keeper, 0).await;
    assert_eq!((&again["film_inside"], &again["words"]["title"]), (&json!(true), &json!("The weir")), "{again}");
    assert_eq!(w.sql("SELECT count(*) FROM original WHERE NOT facts ? 'film_inside'").trim(), "0");
    // And it plays, on its page.
    assert_eq!(looked_at(&w, &ids[0]).await["state"], "made");
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join(&format!("library/{}", ids[0])).unwrap().as_str()).await.unwrap();
    browser.wait_for_text("In this file is a short film, too.").await.unwrap();
    browser.click("Play its moving part").await.unwrap();
    let plays = "const v = document.querySelector('video'); return Boolean(v && v.src.endsWith('/film') && v.readyState > 1)";
    wait_for("its moving part", 20, async || Ok((browser.page.execute(plays, vec![]).await? == json!(true)).then_some(())))
        .await
        .unwrap();
    assert_eq!(browser.barriers().await.unwrap(), Vec::<String>::new());
}
