//! What people outside bring by a link: who may, where it waits, and what becomes of it.

use std::{
    fs,
    io::{Read, Write},
    net::TcpStream,
    time::Duration,
};

use fantoccini::Locator;
use reqwest::{Method, Response};
use serde_json::{Value, json};
use ypogeion_rehearsal::{browser::Browser, wait_for};

use crate::{
    common::metadata,
    links::{Album, Outside, album, taken},
};

fn takes() -> Value {
    json!({ "days": 30, "hands_out": "originals", "takes": true })
}

impl Outside {
    async fn tus(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Response {
        let url = self.base.join(path.trim_start_matches('/')).unwrap();
        let mut request = self.http.request(Method::from_bytes(method.as_bytes()).unwrap(), url);
        request = request.header("cookie", &self.cookie).header("Tus-Resumable", "1.0.0");
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        request.body(body.to_vec()).send().await.unwrap()
    }

    async fn begin(&self, name: &str, by: &str, length: usize) -> Response {
        let said = metadata(&[("filename", name), ("from", by)]);
        let headers = [("Upload-Length", &*length.to_string()), ("Upload-Metadata", &said)];
        self.tus("POST", &format!("api/outside/{}/uploads", self.id), &headers, b"").await
    }

    async fn append(&self, path: &str, offset: usize, bytes: &[u8]) -> Response {
        let headers = [("Upload-Offset", &*offset.to_string()), ("Content-Type", "application/offset+octet-stream")];
        self.tus("PATCH", path, &headers, bytes).await
    }

    /// Brings a file, and is told nothing but that it came.
    async fn bring(&self, name: &str, by: &str, bytes: &[u8]) {
        let made = self.begin(name, by, bytes.len()).await;
        assert_eq!(made.status(), 201, "{}", made.text().await.unwrap());
        let path = made.headers()["location"].to_str().unwrap().to_owned();
        assert!(path.starts_with(&format!("/api/outside/{}/uploads/", self.id)), "{path}");
        let answer = self.append(&path, 0, bytes).await;
        assert_eq!(answer.status(), 204);
        assert!(!answer.headers().contains_key("ypogeion-original"), "which picture it is here is not told");
        let stands = self.tus("HEAD", &path, &[], b"").await;
        assert_eq!(stands.headers()["upload-offset"], bytes.len().to_string());
        assert!(!stands.headers().contains_key("ypogeion-original"));
    }
}

impl Album {
    async fn waits(&self) -> Value {
        self.w.keeper.ask(Method::GET, "api/brought", None).await.unwrap()
    }

    async fn judge(&self, pictures: &[&Value], take: bool) -> (u16, Value) {
        self.w.keeper.try_ask(Method::POST, "api/brought", Some(json!({ "pictures": pictures, "take": take }))).await.unwrap()
    }

    /// How many pictures one's own library shows, and how many the album.
    async fn shown(&self) -> (u64, u64) {
        let months = self.w.keeper.ask(Method::GET, "api/months", None).await.unwrap();
        let album = self.w.keeper.ask(Method::GET, &format!("api/albums/{}", self.id), None).await.unwrap();
        (months.as_array().unwrap().iter().map(|m| m["count"].as_u64().unwrap()).sum(), album["pictures"].as_u64().unwrap())
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_brought_waits_until_it_is_taken_or_declined() {
    let mut a = album().await;
    let link = a.link(takes()).await;
    assert_eq!(link["takes"], true);
    let o = Outside::open(&a.w, &link, None).await;
    assert_eq!(o.sees().await["takes"], true);
    assert_eq!((a.waits().await["waiting"]["count"].as_u64(), a.shown().await), (Some(0), (4, 4)));
    // One whole, one in two halves with a dead server in between.
    o.bring("IMG_0101.jpg", "  Ada\u{202e}\n of the mill ", &taken(21)).await;
    let (half, path) = (taken(22), o.begin("IMG_0102.jpg", "", taken(22).len()).await);
    let path = path.headers()["location"].to_str().unwrap().to_owned();
    assert_eq!(o.append(&path, 0, &half[..1000]).await.status(), 204);
    a.w.house.kill_service();
    a.w.house.start_service().await.unwrap();
    a.w.keeper = a.w.house.keeper().await.unwrap();
    let stands = o.tus("HEAD", &path, &[], b"").await.headers()["upload-offset"].to_str().unwrap().parse::<usize>().unwrap();
    assert_eq!(o.append(&path, stands, &half[stands..]).await.status(), 204);
    // Both are on the disk and nowhere to be seen: not by the link, not in the album, not in the library.
    let waits = a.waits().await;
    assert_eq!((&waits["waiting"]["count"], waits["pictures"].as_array().unwrap().len()), (&json!(2), 2), "{waits}");
    let [second, first] = [&waits["pictures"][0], &waits["pictures"][1]];
    assert_eq!(
        (&first["by"], &first["album_name"], &second["by"]),
        (&json!("Ada of the mill"), &json!("High water"), &json!(""))
    );
    assert_eq!((a.shown().await, Outside::names(&o.sees().await).len()), ((4, 4), 3));
    let picture = first["id"].as_str().unwrap();
    assert_eq!(o.get(&format!("api/outside/{}/files/{picture}", o.id)).await.status(), 404);
    assert_eq!(a.piet.try_ask(Method::GET, &format!("api/originals/{picture}"), None).await.unwrap().0, 404);
    let own = a.w.keeper.ask(Method::GET, &format!("api/originals/{picture}"), None).await.unwrap();
    assert_eq!((&own["put_away"], &own["name"]), (&json!(true), &json!("IMG_0101.jpg")), "whose it is can look: {own}");
    // It is nobody's device that sent it.
    let devices = a.w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    assert!(!devices.to_string().contains("People with a link"), "{devices}");
    // Somebody else can neither take it nor decline it.
    for take in [true, false] {
        let form = json!({ "pictures": [picture], "take": take });
        assert_ne!(a.piet.try_ask(Method::POST, "api/brought", Some(form)).await.unwrap().1["count"], json!(1));
    }
    assert_eq!(a.waits().await["waiting"]["count"], 2);
    // Taken: in the library and in the album, and the link shows it.
    assert_eq!(a.judge(&[&first["id"]], true).await, (200, json!({ "count": 1 })));
    assert_eq!((a.shown().await, a.waits().await["waiting"]["count"].clone()), ((5, 5), json!(1)));
    assert!(Outside::names(&o.sees().await).contains(&"IMG_0101.jpg"));
    // Declined: where everything is that was deleted. Brought back from there, it is in the library, and in no album.
    assert_eq!(a.judge(&[&second["id"]], false).await, (200, json!({ "count": 1 })));
    assert_eq!((a.shown().await, a.waits().await["waiting"]["count"].clone()), ((5, 5), json!(0)));
    let held = a.w.keeper.ask(Method::GET, "api/holding", None).await.unwrap();
    assert_eq!(held["held"][0]["id"], second["id"], "{held}");
    // Brought once more by somebody outside, it stays deleted, and they are told nothing of that.
    o.bring("IMG_0102.jpg", "", &half).await;
    assert_eq!((a.waits().await["waiting"]["count"].clone(), a.shown().await), (json!(0), (5, 5)));
    a.w.keeper.ask(Method::POST, "api/holding/back", Some(json!({ "originals": [second["id"]] }))).await.unwrap();
    assert_eq!(a.shown().await, (6, 5));
    // What was here already is the same picture, wherever it is.
    o.bring("IMG_0000.jpg", "Ada", &a.bytes[0]).await;
    assert_eq!((a.waits().await["waiting"]["count"].clone(), a.shown().await), (json!(0), (6, 5)));
    assert_eq!(a.w.house.miscounts().unwrap(), "");
    let record = a.w.keeper.ask(Method::GET, "api/record", None).await.unwrap().to_string();
    assert!(
        record.contains("which takes pictures from them") && record.contains("took 1 picture that came by links"),
        "{record}"
    );
}

/// Two people with a link have pictures of the same name: each is one.
#[tokio::test(flavor = "multi_thread")]
async fn pictures_of_one_name_are_of_different_people() {
    let a = album().await;
    let link = a.link(takes()).await;
    let raw = b"II*\0\x08\0\0\0 a raw file that nobody can read";
    for n in [31, 32] {
        let o = Outside::open(&a.w, &link, None).await;
        o.bring("IMG_0101.jpg", "Ada", &taken(n)).await;
        o.bring("IMG_0101.dng", "Ada", &[&raw[..], &[n as u8]].concat()).await;
    }
    a.w.gathered().await;
    let waits = a.waits().await;
    assert_eq!(waits["pictures"].as_array().unwrap().len(), 2, "each with its own raw file: {waits}");
    assert_eq!(a.judge(&[&waits["pictures"][0]["id"]], true).await.0, 200);
    assert_eq!(
        a.w.sql("SELECT count(*), count(*) FILTER (WHERE o.put_away) FROM original o JOIN brought b ON b.original = o.id").trim(),
        "2|2"
    );
    // Without its album, it still waits.
    a.w.keeper.try_ask(Method::DELETE, &format!("api/albums/{}", a.id), None).await.unwrap();
    let waits = a.waits().await;
    assert!(waits["pictures"][0]["album"].is_null() && waits["waiting"]["count"] == 1, "{waits}");
    assert_eq!(a.judge(&[&waits["pictures"][0]["id"]], true).await, (200, json!({ "count": 1 })));
    assert_eq!(a.w.sql("SELECT count(*) FROM brought").trim(), "0");
    assert_eq!(a.w.sql("SELECT count(*) FROM original WHERE put_away").trim(), "0");
}

#[tokio::test(flavor = "multi_thread")]
async fn by_a_link_nobody_does_more_than_it_says() {
    let a = album().await;
    let (link, closed) = (a.link(takes()).await, a.link(json!({ "days": 30, "hands_out": "previews" })).await);
    let (o, no) = (Outside::open(&a.w, &link, None).await, Outside::open(&a.w, &closed, None).await);
    assert_eq!(no.sees().await["takes"], false);
    let says = async |answer: Response| (answer.status().as_u16(), answer.text().await.unwrap());
    assert_eq!(no.begin("IMG_1.jpg", "", 10).await.status(), 403);
    for name in ["notes.txt", "run.exe", "page.html", "IMG_1.xmp", "", "jpg"] {
        let (status, said) = says(o.begin(name, "", 10).await).await;
        assert!(status == 400 && said.contains("Only pictures and films"), "{name}: {status} {said}");
    }
    let (status, said) = says(o.begin("IMG_1.jpg", "", 51 << 30).await).await;
    assert!(status == 429 && said.contains("Juno has to look at it first"), "{status} {said}");
    let uploads = format!("api/outside/{}/uploads", o.id);
    let with = |header: (&'static str, &'static str)| vec![("Upload-Length", "10"), header];
    for headers in [with(("Upload-Concat", "partial")), with(("Upload-Defer-Length", "1")), vec![("Upload-Length", "-1")]] {
        assert_eq!(o.tus("POST", &uploads, &headers, b"").await.status(), 400, "{headers:?}");
    }
    // By one link, nobody goes on with what came by another; nor with what a device sends.
    let path = o.begin("IMG_1.jpg", "", 10).await.headers()["location"].to_str().unwrap().to_owned();
    let other = Outside::open(&a.w, &a.link(takes()).await, None).await;
    assert_eq!(other.append(&path, 0, b"12345").await.status(), 404);
    let raw = a.w.raw_device("tablet").await;
    let upload = raw.create(10, &metadata(&[("filename", "IMG_2.jpg")])).await;
    let theirs = format!("{uploads}/{}", upload.rsplit('/').next().unwrap());
    assert_eq!(
        (o.append(&theirs, 0, b"12345").await.status().as_u16(), o.tus("HEAD", &theirs, &[], b"").await.status().as_u16()),
        (410, 410)
    );
    let as_device = format!("/tus/{}", path.rsplit('/').next().unwrap());
    assert_eq!(raw.append(&as_device, 0, b"12345").await.status, 410);
    for path in [&as_device[1..], "tus/"] {
        assert_eq!(o.append(path, 0, b"12345").await.status(), if path == "tus/" { 404 } else { 401 }, "{path}");
    }
    // How much room there is, is nobody's business outside.
    let juno = a.w.sql("SELECT id FROM person WHERE name = 'Juno'");
    let quota = async |bytes: u64| {
        let form = Some(json!({ "quota": bytes }));
        a.w.keeper.ask(Method::PATCH, &format!("api/people/{}", juno.trim()), form).await.unwrap()
    };
    quota(200_000).await;
    let (status, said) = says(o.begin("IMG_6.jpg", "", 900_000).await).await;
    assert!(status == 507 && said.contains("There is no room for this just now. Juno can make some."), "{status} {said}");
    assert!(!said.contains("kB") && !said.contains("quota"), "{said}");
    quota(0).await;
    // What a program that is not the page says of itself leads nowhere.
    o.bring("../../IMG_3.jpg", "../../../etc", &taken(41)).await;
    assert_eq!(a.w.sql("SELECT count(*) FROM original WHERE path LIKE '%..%' OR path LIKE '%etc%'").trim(), "0");
    // Withdrawn in the middle of a file: nothing of it is kept.
    let bytes = taken(42);
    let path = o.begin("IMG_4.jpg", "", bytes.len()).await.headers()["location"].to_str().unwrap().to_owned();
    let (cookie, host) = (&o.cookie, format!("{}:{}", o.base.host_str().unwrap(), o.base.port().unwrap()));
    let head = format!(
        "PATCH {path} HTTP/1.1\r\nHost: {host}\r\nCookie: {cookie}\r\nTus-Resumable: 1.0.0\r\nUpload-Offset: 0\r\n\
         Content-Type: application/offset+octet-stream\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        bytes.len()
    );
    let begun = async || {
        let mut line = TcpStream::connect(&host)?;
        line.write_all(head.as_bytes())?;
        line.write_all(&bytes[..1000])?;
        tokio::time::sleep(Duration::from_millis(300)).await;
        // Somebody writes to it; whoever asks that too soon is the one who does, and it is begun again.
        Ok((o.append(&path, 1 << 30, b"").await.status() == 423).then_some(line))
    };
    let mut line = wait_for("somebody to write to it", 20, begun).await.unwrap();
    a.w.keeper.try_ask(Method::DELETE, &format!("api/links/{}", o.id), None).await.unwrap();
    line.write_all(&bytes[1000..]).unwrap();
    let mut said = String::new();
    line.read_to_string(&mut said).unwrap();
    assert!(said.starts_with("HTTP/1.1 410") && said.contains("Nothing of this file was kept"), "{said}");
    assert_eq!(a.w.sql("SELECT (SELECT count(*) FROM original WHERE name = 'IMG_4.jpg') + (SELECT count(*) FROM upload WHERE name = 'IMG_4.jpg')").trim(), "0");
    assert_eq!(o.begin("IMG_5.jpg", "", 10).await.status(), 401);
    assert_eq!(o.append(&path, 0, b"12345").await.status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn guests_bring_pictures_from_a_phone_and_they_are_looked_at_in_the_console() {
    let a = album().await;
    let desk = Browser::start(1280, 800).await.unwrap();
    desk.sign_in(&a.w.house.http, "Juno", &a.w.house.options.keeper.1).await.unwrap();
    desk.page.goto(a.w.house.http.join(&format!("albums/{}", a.id)).unwrap().as_str()).await.unwrap();
    desk.click("Link …").await.unwrap();
    desk.wait_for_text("They may bring pictures of theirs").await.unwrap();
    desk.page.find(Locator::Css("[role=dialog] [role=checkbox]")).await.unwrap().click().await.unwrap();
    desk.click("Make a link").await.unwrap();
    desk.wait_for_text("to look at, takes pictures").await.unwrap();
    let address = desk.page.find(Locator::Css("[role=dialog] code")).await.unwrap().text().await.unwrap();
    let folder = a.w.folder.path().join("phone");
    fs::create_dir_all(&folder).unwrap();
    let files: Vec<String> = (51..54)
        .map(|n| {
            let path = folder.join(format!("IMG_00{n}.jpg"));
            fs::write(&path, taken(n)).unwrap();
            path.display().to_string()
        })
        .collect();
    let phone = Browser::start(390, 844).await.unwrap();
    phone.page.goto(&format!("{}shared#{}", a.w.house.http, address.split_once('#').unwrap().1)).await.unwrap();
    phone.wait("#bring:not([hidden])").await.unwrap();
    phone.wait_for_text("Juno looks at them first.").await.unwrap();
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
    phone.page.find(Locator::Css("#by")).await.unwrap().send_keys("Ada").await.unwrap();
    phone.page.find(Locator::Css("#files")).await.unwrap().send_keys(&files.join("\n")).await.unwrap();
    phone.wait_for_text("3 files sent. Thank you!").await.unwrap();
    assert_eq!(phone.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(phone.page.execute("return document.documentElement.scrollWidth - innerWidth", vec![]).await.unwrap(), json!(0));
    // What is no picture is said by its name.
    let note = folder.join("notes.txt");
    fs::write(&note, "notes").unwrap();
    phone.page.find(Locator::Css("#files")).await.unwrap().send_keys(&note.display().to_string()).await.unwrap();
    phone.wait_for_text("notes.txt was not sent: Only pictures and films are taken here.").await.unwrap();
    // The album's page, which was open all the time, says so by itself.
    desk.page.find(Locator::Css("[role=dialog] button[aria-label=Close], [role=dialog] button")).await.unwrap();
    desk.page.active_element().await.unwrap().send_keys("\u{e00c}").await.unwrap();
    desk.wait_for_text("3 pictures brought by people with a link wait for you.").await.unwrap();
    desk.click("Look at them").await.unwrap();
    desk.wait_for_text("Take all 3").await.unwrap();
    let ready = "return document.querySelectorAll('main li img').length";
    wait_for("previews", 60, async || Ok((desk.page.execute(ready, vec![]).await?.as_u64() == Some(3)).then_some(())))
        .await
        .unwrap();
    assert_eq!(desk.barriers().await.unwrap(), Vec::<String>::new());
    desk.page.find(Locator::Css("main li [role=checkbox]")).await.unwrap().click().await.unwrap();
    desk.click("Decline 1").await.unwrap();
    desk.click("Take all 2").await.unwrap();
    desk.wait_for_text("Nothing waits for you").await.unwrap();
    assert_eq!(a.shown().await, (6, 6));
    // The link shows them from then on, to whoever has it.
    phone.page.refresh().await.unwrap();
    phone.wait("#pictures li:nth-child(5) img").await.unwrap();
}
