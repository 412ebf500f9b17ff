//! Somebody outside has a link: what they see, what they can take along, and that it is nothing else.

use std::{fs, io::Cursor};

use fantoccini::Locator;
use image::{DynamicImage, ImageDecoder, ImageReader, metadata::Orientation};
use reqwest::{Client, Method, Response, StatusCode};
use serde_json::{Value, json};
use ypogeion_demo::{camera, scenes};
use ypogeion_rehearsal::{browser::Browser, house::Console, wait_for};

use crate::common::{Raw, World, metadata, world};

const PASSWORD: &str = "kites over the sea";

/// A picture as a camera writes it: with a place, a time, and the camera's own words.
pub fn taken(n: u64) -> Vec<u8> {
    let mut rng = scenes::Rng::new(n);
    let time = format!("2026-04-12T15:{n:02}:40").parse().unwrap();
    let shot = camera::Shot::new(camera::Camera::of_device(0), time, scenes::Scene::Weir.place(), &mut rng);
    camera::jpeg(&scenes::draw(scenes::Scene::Weir, n, 0.0, 640, 480), &shot).unwrap()
}

async fn send(raw: &Raw, name: &str, bytes: &[u8]) -> String {
    let path = raw.create(bytes.len(), &metadata(&[("filename", name)])).await;
    raw.append(&path, 0, bytes).await.header("ypogeion-original").to_owned()
}

/// A house with four pictures of Juno's, of which three are in an album; with one of Piet's.
pub struct Album {
    pub w: World,
    pub pictures: Vec<String>,
    pub bytes: Vec<Vec<u8>>,
    /// One that is in no album.
    other: String,
    piets: String,
    pub id: String,
    pub piet: Console,
}

pub async fn album() -> Album {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let bytes: Vec<Vec<u8>> = (0..3).map(taken).collect();
    let mut pictures = Vec::new();
    for (n, bytes) in bytes.iter().enumerate() {
        pictures.push(send(&raw, &format!("IMG_000{n}.jpg"), bytes).await);
    }
    let other = send(&raw, "IMG_0009.jpg", &taken(9)).await;
    let form = json!({ "name": "Piet", "role": "member", "password": PASSWORD });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", PASSWORD).await.unwrap();
    let piets = send(&w.raw_device_of("Piet", "piets phone").await, "IMG_0008.jpg", &taken(8)).await;
    wait_for("previews", 60, async || {
        Ok((w.sql("SELECT count(*) FROM original WHERE preview = 'waiting'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    let made = w
        .keeper
        .ask(Method::POST, "api/albums", Some(json!({ "name": "High water", "words": "Two lines\nof it." })))
        .await
        .unwrap();
    let id = made["id"].as_str().unwrap().to_owned();
    // All may add for a moment, and Piet does: his picture stays in the album.
    let household = async |may: &str| {
        w.keeper.ask(Method::PATCH, &format!("api/albums/{id}"), Some(json!({ "household": may }))).await.unwrap()
    };
    household("add").await;
    for (who, pictures) in [(&w.keeper, &pictures), (&piet, &vec![piets.clone()])] {
        let fill = json!({ "pictures": pictures, "inside": true });
        let count = who.ask(Method::POST, &format!("api/albums/{id}/pictures"), Some(fill)).await.unwrap()["count"].clone();
        assert_eq!(count, json!(pictures.len()));
    }
    household("nothing").await;
    Album { w, pictures, bytes, other, piets, id, piet }
}

impl Album {
    pub async fn link(&self, form: Value) -> Value {
        let path = format!("api/albums/{}/links", self.id);
        let (status, made) = self.w.keeper.try_ask(Method::POST, &path, Some(form)).await.unwrap();
        assert_eq!(status, 201, "{made}");
        made
    }
}

/// Somebody with a link, in a browser of their own.
#[derive(Clone)]
pub struct Outside {
    pub http: Client,
    pub base: url::Url,
    pub cookie: String,
    pub id: String,
}

fn secret(link: &Value) -> String {
    link["address"].as_str().unwrap().split_once("/shared#").unwrap().1.to_owned()
}

/// Tries to open a link.
async fn knock(w: &World, secret: &str, passphrase: Option<&str>) -> Response {
    let http = Client::builder().no_proxy().build().unwrap();
    let form = json!({ "secret": secret, "passphrase": passphrase });
    http.post(w.house.http.join("api/outside").unwrap()).json(&form).send().await.unwrap()
}

impl Outside {
    pub async fn open(w: &World, link: &Value, passphrase: Option<&str>) -> Self {
        let answer = knock(w, &secret(link), passphrase).await;
        assert_eq!(answer.status(), 200);
        let set = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
        let id = link["id"].as_str().unwrap().to_owned();
        for part in [&format!("Path=/api/outside/{id}"), "HttpOnly", "SameSite=Strict"] {
            assert!(set.contains(part), "{set}");
        }
        let cookie = set.split(';').next().unwrap().to_owned();
        Outside { http: Client::builder().no_proxy().build().unwrap(), base: w.house.http.clone(), cookie, id }
    }

    pub async fn get(&self, path: &str) -> Response {
        self.http.get(self.base.join(path).unwrap()).header("cookie", &self.cookie).send().await.unwrap()
    }

    pub async fn sees(&self) -> Value {
        let answer = self.get(&format!("api/outside/{}", self.id)).await;
        assert_eq!(answer.status(), 200);
        answer.json().await.unwrap()
    }

    pub fn names(page: &Value) -> Vec<&str> {
        page["pictures"].as_array().unwrap().iter().map(|p| p["name"].as_str().unwrap()).collect()
    }

    async fn status(&self, path: &str) -> u16 {
        self.get(path).await.status().as_u16()
    }

    /// What can be taken along of a picture.
    async fn keep(&self, picture: &str) -> Vec<u8> {
        let answer = self.get(&format!("api/outside/{}/files/{picture}", self.id)).await;
        assert_eq!((answer.status(), answer.headers()["cache-control"].to_str().unwrap()), (StatusCode::OK, "no-store"));
        answer.bytes().await.unwrap().to_vec()
    }
}

fn decoded(bytes: &[u8]) -> DynamicImage {
    ImageReader::new(Cursor::new(bytes)).with_guessed_format().unwrap().decode().unwrap()
}

/// Whether any of what a camera wrote beside its picture is in a file.
fn tells(bytes: &[u8]) -> bool {
    [&b"Exif"[..], b"GPS", b"Havel", b"http://ns.adobe.com"].iter().any(|word| bytes.windows(word.len()).any(|w| w == *word))
}

const LOOK: &str = "previews";

#[tokio::test(flavor = "multi_thread")]
async fn a_link_shows_the_pictures_of_whoever_made_it_and_nothing_else() {
    let a = album().await;
    let link = a.link(json!({ "days": 30, "hands_out": LOOK })).await;
    // Told once, long enough that nobody guesses it, and kept by nobody.
    let secret = secret(&link);
    assert_eq!(secret.len(), 43, "256 bits");
    let listed = a.w.keeper.ask(Method::GET, &format!("api/albums/{}/links", a.id), None).await.unwrap();
    assert!(listed[0]["id"] == link["id"] && listed[0].get("address").is_none(), "{listed}");
    let o = Outside::open(&a.w, &link, None).await;
    assert_eq!(a.w.sql(&format!("SELECT count(*) FROM link l WHERE l::text LIKE '%{secret}%'")).trim(), "0");
    let page = o.sees().await;
    assert_eq!(Outside::names(&page), ["IMG_0002.jpg", "IMG_0001.jpg", "IMG_0000.jpg"], "Piet's is his to show");
    assert_eq!(
        (&page["name"], &page["from"], &page["words"], &page["hands_out"]),
        (&json!("High water"), &json!("Juno"), &json!("Two lines\nof it."), &json!(LOOK))
    );
    // Each of them, small and large; no other, and none by another way.
    for picture in &a.pictures {
        for size in ["small", "large"] {
            let answer = o.get(&format!("api/outside/{}/pictures/{picture}/{size}", o.id)).await;
            assert_eq!(answer.status(), 200);
            assert_eq!(answer.headers()["cache-control"], "no-store");
            assert_eq!(answer.headers()["x-robots-tag"], "noindex, nofollow");
            let bytes = answer.bytes().await.unwrap();
            assert!(decoded(&bytes).width() > 100 && !tells(&bytes), "{size}");
        }
    }
    for picture in [&a.other, &a.piets, &"0198a000-0000-7000-8000-000000000000".to_owned()] {
        for path in ["pictures/ID/small", "pictures/ID/large", "files/ID"] {
            assert_eq!(o.status(&format!("api/outside/{}/{}", o.id, path.replace("ID", picture))).await, 404, "{path}");
        }
    }
    let picture = &a.pictures[0];
    for path in [
        "api/session".to_owned(),
        "api/albums".to_owned(),
        format!("api/albums/{}", a.id),
        format!("api/originals/{picture}"),
        format!("api/originals/{picture}/bytes"),
        format!("api/originals?album={}", a.id),
        "api/overview".to_owned(),
    ] {
        assert_eq!(o.status(&path).await, 401, "{path}");
    }
    // The paths of links are seen by links: being signed in is no way in there, and one link opens no other's.
    assert_eq!(a.w.keeper.try_ask(Method::GET, &format!("api/outside/{}", o.id), None).await.unwrap().0, 401);
    let second = a.link(json!({ "days": 1, "hands_out": LOOK })).await;
    assert_eq!(o.status(&format!("api/outside/{}", second["id"].as_str().unwrap())).await, 404);
    // What is deleted is shown no more, what is added is shown from then on.
    let hold = Some(json!({ "originals": [picture] }));
    a.w.keeper.ask(Method::POST, "api/holding", hold).await.unwrap();
    assert_eq!(Outside::names(&o.sees().await).len(), 2);
    assert_eq!(o.status(&format!("api/outside/{}/pictures/{picture}/small", o.id)).await, 404);
    let put = json!({ "pictures": [a.other], "inside": true });
    a.w.keeper.ask(Method::POST, &format!("api/albums/{}/pictures", a.id), Some(put)).await.unwrap();
    assert_eq!(Outside::names(&o.sees().await)[0], "IMG_0009.jpg");
    // How often it was opened is known, and what opens it is in no log.
    Outside::open(&a.w, &link, None).await;
    let listed = a.w.keeper.ask(Method::GET, &format!("api/albums/{}/links", a.id), None).await.unwrap();
    let this = listed.as_array().unwrap().iter().find(|l| l["id"] == link["id"]).unwrap();
    assert!(this["opened"] == 2 && this["opened_at"].is_string(), "{this}");
    let log = fs::read_to_string(a.w.folder.path().join("service.log")).unwrap();
    assert!(log.contains("/api/outside") && !log.contains(&secret), "of what opens a link, the log has nothing");
    let record = a.w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(record.contains("made a link to “High water” for people outside, until") && !record.contains(&secret), "{record}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_taken_along_has_what_it_was_said_to_have() {
    let a = album().await;
    assert!(a.bytes.iter().all(|bytes| tells(bytes)), "these have something to tell");
    let png = {
        let mut bytes = Cursor::new(Vec::new());
        scenes::draw(scenes::Scene::Kites, 3, 0.0, 300, 200).write_to(&mut bytes, image::ImageFormat::Png).unwrap();
        bytes.into_inner()
    };
    let raw = a.w.raw_device("tablet").await;
    let drawn = send(&raw, "kite.png", &png).await;
    let text = send(&raw, "IMG_0007.jpg", b"no picture at all").await;
    wait_for("previews", 60, async || {
        Ok((a.w.sql("SELECT count(*) FROM original WHERE preview = 'waiting'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    let put = json!({ "pictures": [drawn, text], "inside": true });
    a.w.keeper.ask(Method::POST, &format!("api/albums/{}/pictures", a.id), Some(put)).await.unwrap();
    let open = async |hands_out: &str| {
        let link = a.link(json!({ "days": 7, "hands_out": hands_out })).await;
        Outside::open(&a.w, &link, None).await
    };
    let (previews, copies, originals) = (open("previews").await, open("copies").await, open("originals").await);
    for (picture, bytes) in a.pictures.iter().zip(&a.bytes) {
        assert_eq!(&originals.keep(picture).await, bytes);
        let copy = copies.keep(picture).await;
        assert!(!tells(&copy), "no place, no camera");
        assert!(decoded(&copy) == decoded(bytes), "and each pixel as it was");
        let preview = previews.keep(picture).await;
        assert!(!tells(&preview) && decoded(&preview).width() <= 2048);
    }
    assert_eq!(originals.keep(&drawn).await, png);
    assert_eq!(image::guess_format(&copies.keep(&drawn).await).unwrap(), image::ImageFormat::Jpeg, "what is shown of it");
    // What is no picture is handed out with the originals, or not at all.
    assert_eq!(originals.keep(&text).await, b"no picture at all");
    for o in [&previews, &copies] {
        assert_eq!(o.status(&format!("api/outside/{}/files/{text}", o.id)).await, 409);
    }
}

/// A copy says how it is to be shown, what is shown is, and an original is as it came.
#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_a_link_gets_a_picture_as_it_was_turned() {
    let a = album().await;
    let picture = &a.pictures[0];
    let form = json!({ "pictures": [picture], "quarters": 1 });
    assert_eq!(a.w.keeper.ask(Method::POST, "api/turns", Some(form)).await.unwrap()["count"], 1);
    wait_for("previews", 60, async || {
        Ok((a.w.sql("SELECT count(*) FROM original WHERE preview = 'waiting'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    for (hands_out, orientation, size) in [
        (LOOK, Orientation::NoTransforms, (480, 640)),
        ("copies", Orientation::Rotate90, (640, 480)),
        ("originals", Orientation::NoTransforms, (640, 480)),
    ] {
        let link = a.link(json!({ "days": 7, "hands_out": hands_out })).await;
        let o = Outside::open(&a.w, &link, None).await;
        let page = o.sees().await;
        let said = page["pictures"].as_array().unwrap().iter().find(|p| p["id"] == json!(picture)).unwrap();
        assert_eq!((&said["width"], &said["height"]), (&json!(480), &json!(640)), "{said}");
        let bytes = o.keep(picture).await;
        let mut decoder = ImageReader::new(Cursor::new(&bytes)).with_guessed_format().unwrap().into_decoder().unwrap();
        assert_eq!((decoder.orientation().unwrap(), decoder.dimensions()), (orientation, size), "{hands_out}");
        assert_eq!(bytes == a.bytes[0], hands_out == "originals");
        let shown = o.get(&format!("api/outside/{}/pictures/{picture}/small", o.id)).await.bytes().await.unwrap();
        assert_eq!(decoded(&shown).height(), 480, "what is shown stands upright");
    }
}

/// All of a zip, by a package that reads them and compares the checksums.
fn unpacked(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mut zip = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
    let all = zip.len();
    let file = |n| {
        let mut file = zip.by_index(n).unwrap();
        let mut bytes = Vec::new();
        std::io::Read::read_to_end(&mut file, &mut bytes).unwrap();
        (file.name().unwrap().into_owned(), bytes)
    };
    (0..all).map(file).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn all_that_a_link_hands_out_comes_as_one_zip() {
    let a = album().await;
    let raw = a.w.raw_device("tablet").await;
    // Called like one that is there, and nothing that can be shown.
    let text = send(&raw, "IMG_0001.jpg", b"no picture at all").await;
    wait_for("previews", 60, async || {
        Ok((a.w.sql("SELECT count(*) FROM original WHERE preview = 'waiting'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    let put = json!({ "pictures": [text], "inside": true });
    a.w.keeper.ask(Method::POST, &format!("api/albums/{}/pictures", a.id), Some(put)).await.unwrap();
    for hands_out in ["previews", "copies", "originals"] {
        let link = a.link(json!({ "days": 7, "hands_out": hands_out })).await;
        let o = Outside::open(&a.w, &link, None).await;
        let answer = o.get(&format!("api/outside/{}/zip", o.id)).await;
        let header = |name: &str| answer.headers()[name].to_str().unwrap().to_owned();
        assert_eq!(
            (answer.status(), header("cache-control"), header("content-type")),
            (StatusCode::OK, "no-store".into(), "application/zip".into())
        );
        assert_eq!(header("content-disposition"), "attachment; filename*=UTF-8''High%20water.zip");
        let files = unpacked(&answer.bytes().await.unwrap());
        let mut expected = Vec::new();
        for picture in &a.pictures {
            expected.push(o.keep(picture).await);
        }
        let said =
            files.iter().find(|(name, _)| name == "not in here.txt").map(|(_, text)| String::from_utf8(text.clone()).unwrap());
        if hands_out == "originals" {
            expected.push(b"no picture at all".to_vec());
            assert_eq!(said, None);
        } else {
            assert_eq!(said.as_deref(), Some("1 picture could not be handed out when this was downloaded:\r\nIMG_0001.jpg\r\n"));
        }
        let names: std::collections::BTreeSet<&str> = files.iter().map(|(name, _)| name.as_str()).collect();
        assert_eq!(names.len(), files.len(), "no two are called alike: {names:?}");
        let mut pictures: Vec<&Vec<u8>> =
            files.iter().filter(|(name, _)| name != "not in here.txt").map(|(_, bytes)| bytes).collect();
        pictures.sort();
        expected.sort();
        assert!(pictures.into_iter().eq(&expected), "{hands_out}: {names:?}");
        assert_eq!(files.iter().any(|(_, bytes)| tells(bytes)), hands_out == "originals");
    }
    // An album of which nothing is shown; another link's; nobody's.
    let link = a.link(json!({ "days": 7, "hands_out": "originals" })).await;
    let o = Outside::open(&a.w, &link, None).await;
    let other = a.link(json!({ "days": 7, "hands_out": LOOK })).await;
    assert_ne!(o.status(&format!("api/outside/{}/zip", other["id"].as_str().unwrap())).await, 200);
    a.w.sql("DELETE FROM album_picture");
    assert_eq!(o.status(&format!("api/outside/{}/zip", o.id)).await, 409);
}

/// Whoever withdraws a link means what is being downloaded, too: it breaks off, and nobody takes it for all.
#[tokio::test(flavor = "multi_thread")]
async fn a_zip_breaks_off_when_its_link_is_withdrawn() {
    let a = album().await;
    let raw = a.w.raw_device("tablet").await;
    let mut long = Vec::new();
    for n in 0..4u8 {
        long.push(send(&raw, &format!("VID_000{n}.mp4"), &vec![n; 24 << 20]).await);
    }
    let put = json!({ "pictures": long, "inside": true });
    a.w.keeper.ask(Method::POST, &format!("api/albums/{}/pictures", a.id), Some(put)).await.unwrap();
    let link = a.link(json!({ "days": 7, "hands_out": "originals" })).await;
    let o = Outside::open(&a.w, &link, None).await;
    let mut answer = o.get(&format!("api/outside/{}/zip", o.id)).await;
    assert_eq!(answer.status(), 200);
    let mut came = answer.chunk().await.unwrap().unwrap().len();
    a.w.keeper.try_ask(Method::DELETE, &format!("api/links/{}", link["id"].as_str().unwrap()), None).await.unwrap();
    let ended = loop {
        match answer.chunk().await {
            Ok(Some(more)) => came += more.len(),
            Ok(None) => break "whole",
            Err(_) => break "broken off",
        }
    };
    assert_eq!((ended, came < 4 * (24 << 20)), ("broken off", true), "{came}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_plays_what_tells_no_more_than_it_may() {
    let a = album().await;
    let raw = a.w.raw_device("tablet").await;
    let mp4 = |n: u8| [b"\0\0\0\x18ftypisom\0\0\x02\0isomiso2 the film itself", &[n][..]].concat();
    let (mut films, mut bytes) = (Vec::new(), Vec::new());
    for n in 0..3u8 {
        bytes.push(mp4(n));
        films.push(send(&raw, &format!("VID_000{n}.mp4"), &bytes[usize::from(n)]).await);
    }
    wait_for("films to be looked at", 120, async || Ok((a.w.sql("SELECT count(*) FROM film").trim() == "3").then_some(())))
        .await
        .unwrap();
    // One is played as it is, of one there is a version for browsers, and of one there can be none.
    a.w.sql(&format!("UPDATE film SET state = 'plays', why = NULL WHERE original = '{}'", films[0]));
    a.w.sql(&format!("UPDATE film SET state = 'made', size = 8, why = NULL WHERE original = '{}'", films[1]));
    let made = a.w.folder.path().join("data/films").join(&films[1][34..]).join(format!("{}.mp4", films[1]));
    fs::create_dir_all(made.parent().unwrap()).unwrap();
    fs::write(&made, b"the MP4!").unwrap();
    let put = json!({ "pictures": films, "inside": true });
    a.w.keeper.ask(Method::POST, &format!("api/albums/{}/pictures", a.id), Some(put)).await.unwrap();
    for (hands_out, plays) in
        [("previews", [false, true, false]), ("copies", [false, true, false]), ("originals", [true, true, false])]
    {
        let link = a.link(json!({ "days": 7, "hands_out": hands_out })).await;
        let o = Outside::open(&a.w, &link, None).await;
        let page: Value = o.get(&format!("api/outside/{}", o.id)).await.json().await.unwrap();
        for (n, film) in films.iter().enumerate() {
            let said = page["pictures"].as_array().unwrap().iter().find(|p| p["id"] == json!(film)).unwrap();
            let answer = o.get(&format!("api/outside/{}/films/{film}", o.id)).await;
            assert_eq!((said["plays"] == true, answer.status() == StatusCode::OK), (plays[n], plays[n]), "{hands_out} {n}");
            if plays[n] {
                assert_eq!(answer.headers()["cache-control"], "no-store");
                assert_eq!(answer.bytes().await.unwrap(), [bytes[0].as_slice(), b"the MP4!"][n]);
            }
        }
        assert_eq!(o.status(&format!("api/outside/{}/films/{}", o.id, a.pictures[0])).await, 404);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_link_ends_when_it_is_to_and_a_passphrase_is_not_guessed() {
    let a = album().await;
    let status = async |link: &Value, passphrase: Option<&str>| {
        let answer = knock(&a.w, &secret(link), passphrase).await;
        let (status, said) = (answer.status().as_u16(), answer.json::<Value>().await.unwrap());
        (status, said["type"].as_str().unwrap_or_default().rsplit(':').next().unwrap_or_default().to_owned())
    };
    let held = a.link(json!({ "days": 30, "hands_out": LOOK, "passphrase": "weir weir" })).await;
    assert_eq!(status(&held, None).await, (403, "passphrase-wanted".into()));
    assert_eq!(status(&held, Some("weir")).await, (401, "wrong-password".into()));
    let o = Outside::open(&a.w, &held, Some("weir weir")).await;
    // Withdrawn: at once, for whoever looks at it as for whoever would.
    let withdraw = async |who: &Console, link: &Value| {
        who.try_ask(Method::DELETE, &format!("api/links/{}", link["id"].as_str().unwrap()), None).await.unwrap().0
    };
    assert_eq!(withdraw(&a.piet, &held).await, 404, "not somebody else's");
    assert_eq!(o.status(&format!("api/outside/{}", o.id)).await, 200);
    assert_eq!(withdraw(&a.w.keeper, &held).await, 204);
    for path in [format!("api/outside/{}", o.id), format!("api/outside/{}/pictures/{}/small", o.id, a.pictures[0])] {
        assert_eq!(o.status(&path).await, 401, "{path}");
    }
    assert_eq!(status(&held, Some("weir weir")).await, (404, "not-found".into()));
    // Over.
    let short = a.link(json!({ "days": 1, "hands_out": LOOK })).await;
    let o = Outside::open(&a.w, &short, None).await;
    a.w.sql("UPDATE link SET ends_at = now() - interval '1 second'");
    assert_eq!(o.status(&format!("api/outside/{}", o.id)).await, 401);
    assert_eq!(status(&short, None).await, (404, "not-found".into()));
    // A visit, too, though the link goes on.
    let long = a.link(json!({ "days": 366, "hands_out": LOOK })).await;
    let o = Outside::open(&a.w, &long, None).await;
    a.w.sql("UPDATE link_visit SET ends_at = now() - interval '1 second'");
    assert_eq!(o.status(&format!("api/outside/{}", o.id)).await, 401);
    Outside::open(&a.w, &long, None).await;
    assert_eq!(a.w.sql("SELECT count(*) FROM link_visit").trim(), "1", "what has ended is forgotten");
    // With its album.
    let o = Outside::open(&a.w, &long, None).await;
    a.w.keeper.try_ask(Method::DELETE, &format!("api/albums/{}", a.id), None).await.unwrap();
    assert_eq!(o.status(&format!("api/outside/{}", o.id)).await, 401);
    assert_eq!(status(&long, None).await.0, 404);
    // Guessing what opens one ends soon, wherever one gets to.
    let mut said = Vec::new();
    for n in 0..80 {
        said.push(knock(&a.w, &format!("guess number {n}"), None).await.status().as_u16());
    }
    assert!(said.starts_with(&[404, 404]) && said.ends_with(&[429, 429]), "{said:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn links_are_made_by_whose_album_it_is() {
    let a = album().await;
    let (keeper, piet) = (&a.w.keeper, &a.piet);
    let path = format!("api/albums/{}/links", a.id);
    let form = || Some(json!({ "days": 30, "hands_out": LOOK }));
    assert_eq!(piet.try_ask(Method::POST, &path, form()).await.unwrap().0, 404);
    keeper.ask(Method::PATCH, &format!("api/albums/{}", a.id), Some(json!({ "household": "add" }))).await.unwrap();
    assert_eq!(piet.try_ask(Method::POST, &path, form()).await.unwrap().0, 403, "to add is not to show on");
    assert_eq!(piet.try_ask(Method::GET, &path, None).await.unwrap().0, 403);
    let guest = json!({ "name": "Oma Liesl", "role": "guest", "password": PASSWORD });
    keeper.ask(Method::POST, "api/people", Some(guest)).await.unwrap();
    let liesl = a.w.house.sign_in("Oma Liesl", PASSWORD).await.unwrap();
    let own = liesl.ask(Method::POST, "api/albums", Some(json!({ "name": "Grandchildren" }))).await.unwrap();
    let hers = format!("api/albums/{}/links", own["id"].as_str().unwrap());
    assert_eq!(liesl.try_ask(Method::POST, &hers, form()).await.unwrap().0, 403);
    for form in [
        json!({ "days": 0, "hands_out": LOOK }),
        json!({ "days": 367, "hands_out": LOOK }),
        json!({ "days": u32::MAX, "hands_out": LOOK }),
        json!({ "days": 30, "hands_out": "everything" }),
        json!({ "days": 30, "hands_out": LOOK, "passphrase": "short" }),
        json!({ "days": 30, "hands_out": LOOK, "passphrase": "x".repeat(2000) }),
        json!({ "days": 30 }),
    ] {
        let (status, said) = keeper.try_ask(Method::POST, &path, Some(form.clone())).await.unwrap();
        assert_eq!(status, 400, "{form}: {said}");
    }
    a.w.sql(&format!(
        "INSERT INTO link (id, person, album, secret_hash, hands_out, made_at, ends_at)
         SELECT gen_random_uuid(), a.person, a.id, sha256(n::text::bytea), 'previews', now(), now() + interval '1 day' FROM album a, generate_series(1, 200) n WHERE a.id = '{}'",
        a.id
    ));
    assert_eq!(keeper.try_ask(Method::POST, &path, form()).await.unwrap().0, 429);
    // All of one's own, and nobody else's; what has ended opens nothing.
    let ended = "UPDATE link SET made_at = made_at - interval '2 days', ends_at = now() - interval '1 second' WHERE id IN (SELECT id FROM link LIMIT 1)";
    a.w.sql(ended);
    let all = keeper.ask(Method::GET, "api/links", None).await.unwrap();
    assert_eq!(
        (all.as_array().unwrap().len(), &all[0]["album"], &all[0]["album_name"]),
        (199, &json!(a.id), &json!("High water"))
    );
    assert!(!all.to_string().contains("secret") && all[0]["link"]["address"].is_null(), "{}", all[0]);
    for other in [piet, &liesl] {
        assert_eq!(other.ask(Method::GET, "api/links", None).await.unwrap(), json!([]));
    }
}

/// What is loaded before any picture is.
const WEIGHT: &str = "return performance.getEntries().filter(e => e.name.includes('/shared')).map(e => [e.name.replace(/#.*/, ''), e.decodedBodySize])";

#[tokio::test(flavor = "multi_thread")]
async fn the_page_of_a_link_stands_by_itself() {
    let a = album().await;
    // Made in the console.
    let desk = Browser::start(1280, 800).await.unwrap();
    desk.sign_in(&a.w.house.http, "Juno", &a.w.house.options.keeper.1).await.unwrap();
    desk.page.goto(a.w.house.http.join(&format!("albums/{}", a.id)).unwrap().as_str()).await.unwrap();
    desk.click("Link …").await.unwrap();
    desk.wait_for_text("In full, without places").await.unwrap();
    desk.page.find(Locator::Css("[role=dialog] [role=radio][value=copies]")).await.unwrap().click().await.unwrap();
    desk.page
        .find(Locator::Css("[role=dialog] form input:not([type=radio]):not([type=checkbox])"))
        .await
        .unwrap()
        .send_keys("high water")
        .await
        .unwrap();
    desk.click("Make a link").await.unwrap();
    desk.wait_for_text("It is shown this once").await.unwrap();
    desk.wait_for_text("without places, with a passphrase").await.unwrap();
    assert_eq!(desk.barriers().await.unwrap(), Vec::<String>::new());
    let address = desk.page.find(Locator::Css("[role=dialog] code")).await.unwrap().text().await.unwrap();
    let secret = address.split_once('#').unwrap().1.to_owned();
    // Opened by somebody on a phone, who is signed in nowhere.
    let phone = Browser::start(390, 844).await.unwrap();
    phone.page.goto(a.w.house.http.join(&format!("shared#{secret}")).unwrap().as_str()).await.unwrap();
    phone.wait("#ask:not([hidden])").await.unwrap();
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
    phone.page.find(Locator::Css("#passphrase")).await.unwrap().send_keys("low water\n").await.unwrap();
    phone.wait_for_text("That is not the passphrase of this link.").await.unwrap();
    let field = phone.page.find(Locator::Css("#passphrase")).await.unwrap();
    field.clear().await.unwrap();
    field.send_keys("high water\n").await.unwrap();
    phone.wait_for_text("From Juno, until").await.unwrap();
    phone.wait("#pictures li:nth-child(3) img").await.unwrap();
    let run = async |script: &str| phone.page.execute(script, vec![]).await.unwrap();
    assert_eq!(run("return document.querySelectorAll('#pictures button').length").await, json!(3));
    assert_eq!(run("return document.title").await, json!("High water"));
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
    let weight = run(WEIGHT).await;
    let total: u64 = weight.as_array().unwrap().iter().map(|e| e[1].as_u64().unwrap()).sum();
    assert!(weight.as_array().unwrap().len() == 3 && (2000..30_000).contains(&total), "{weight}");
    // Nearer, on, and back, with keys alone.
    run("document.querySelector('#pictures button').focus()").await;
    let keys = async |keys: &str| phone.page.active_element().await.unwrap().send_keys(keys).await.unwrap();
    keys("\n").await;
    phone.wait("#look:not([hidden]) #large[src*=large]").await.unwrap();
    assert_eq!(run("return document.querySelector('#called').textContent").await, json!("IMG_0002.jpg"));
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
    keys("\u{e014}").await;
    assert_eq!(run("return document.querySelector('#called').textContent").await, json!("IMG_0001.jpg"));
    for _ in 0..9 {
        keys("\t").await;
        assert_eq!(run("return document.querySelector('#look').contains(document.activeElement)").await, json!(true));
    }
    keys("\u{e00c}").await;
    assert_eq!(
        run("return document.querySelector('#look').hidden && document.activeElement.closest('#pictures') !== null").await,
        json!(true)
    );
    // Nothing of the house is in it, and whoever has it goes nowhere from here.
    let html = run("return document.documentElement.outerHTML").await.to_string();
    assert!(!html.contains("Piet") && !html.contains("/api/originals") && !html.contains(&secret), "{html}");
    // Seen among all that one shows to people outside, and withdrawn there: the next look says so.
    let juno = a.w.sql("SELECT id FROM person WHERE name = 'Juno'");
    let little = Some(json!({ "quota": 1_000_000 }));
    a.w.keeper.ask(Method::PATCH, &format!("api/people/{}", juno.trim()), little).await.unwrap();
    desk.page.goto(a.w.house.http.join("me").unwrap().as_str()).await.unwrap();
    desk.wait_for_text("Links that open now").await.unwrap();
    // What one has here, of how much, and what one's devices have sent.
    desk.wait_for_text("What is yours here").await.unwrap();
    desk.wait_for_text("4 files, ").await.unwrap();
    desk.wait_for_text("of 1.0 MB that you may fill").await.unwrap();
    desk.wait_for_text("Opened 1 time").await.unwrap();
    assert_eq!(desk.barriers().await.unwrap(), Vec::<String>::new());
    desk.click("Withdraw").await.unwrap();
    desk.wait_for_text("Nobody outside sees anything of yours.").await.unwrap();
    wait_for("the link to be withdrawn", 20, async || Ok((a.w.sql("SELECT count(*) FROM link").trim() == "0").then_some(())))
        .await
        .unwrap();
    phone.page.refresh().await.unwrap();
    phone.wait_for_text("This link has ended, or was withdrawn.").await.unwrap();
}
