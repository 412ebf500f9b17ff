//! Folders for other programs (WebDAV, RFC 4918), spoken by hand.

use crate::common::{Answered, Raw, World, library_files, world};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_core::Digest;
use ypogeion_rehearsal::wait_for;

/// A program that was given its password in the console.
struct Program {
    raw: Raw,
    user: String,
    id: String,
}

async fn program(w: &World) -> Program {
    let given = w.keeper.ask(Method::POST, "api/devices", Some(json!({ "name": "File manager" }))).await.unwrap();
    let text = |key: &str| given[key].as_str().unwrap().to_owned();
    assert!(text("folders").ends_with("/dav/") && text("uploads").ends_with("/tus/"));
    Program { raw: Raw { token: text("password"), ..w.raw_device("other").await }, user: text("user"), id: text("device") }
}

impl Program {
    async fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answered {
        let url = self.raw.base.join(&format!("dav/{path}")).unwrap();
        let mut request = self
            .raw
            .http
            .request(Method::from_bytes(method.as_bytes()).unwrap(), url)
            .basic_auth(&self.user, Some(&self.raw.token));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let response = request.body(body.to_vec()).send().await.unwrap();
        Answered {
            status: response.status().as_u16(),
            headers: response.headers().clone(),
            body: response.text().await.unwrap_or_default(),
        }
    }

    async fn put(&self, path: &str, body: &[u8]) -> u16 {
        self.send("PUT", path, &[], body).await.status
    }

    async fn get(&self, path: &str) -> String {
        let got = self.send("GET", path, &[], b"").await;
        assert_eq!(got.status, 200, "{path}: {}", got.body);
        got.body
    }

    /// The paths that a listing names.
    async fn list(&self, path: &str, depth: &str) -> Vec<String> {
        let said = self.send("PROPFIND", path, &[("Depth", depth)], b"").await;
        assert_eq!(said.status, 207, "{}", said.body);
        let mut paths: Vec<String> = said
            .body
            .split("<D:href>")
            .skip(1)
            .filter_map(|p| p.split_once("</D:href>").map(|(href, _)| href.to_owned()))
            .collect();
        paths.sort();
        paths
    }

    fn at(&self, path: &str) -> String {
        self.raw.base.join(&format!("dav/{path}")).unwrap().to_string()
    }
}

fn tag_of(bytes: &[u8]) -> String {
    format!("\"{}\"", &Digest::of(bytes).to_string()[..32])
}

async fn wait_until(what: &str, holds: impl Fn() -> bool) {
    wait_for(what, 20, async || Ok(holds().then_some(()))).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_program_puts_pictures_into_folders_and_reads_them_back() {
    let w = world().await;
    let p = program(&w).await;
    let options = p.send("OPTIONS", "", &[], b"").await;
    assert_eq!((options.status, options.header("dav")), (200, "1, 2"));
    assert!(options.header("allow").contains("LOCK") && !options.header("allow").contains("PATCH"));
    assert_eq!(p.put("Camera/a.jpg", b"kite").await, 409, "its folder is not there yet");
    assert_eq!(p.send("MKCOL", "Camera", &[], b"").await.status, 201);
    assert_eq!(p.send("MKCOL", "Camera", &[], b"").await.status, 405);
    let put = p.send("PUT", "Camera/IMG_20260412_101530.jpg", &[], b"kite").await;
    assert_eq!((put.status, put.header("etag")), (201, tag_of(b"kite").as_str()));
    assert_eq!(library_files(&w.house), ["juno/2026/04/IMG_20260412_101530.jpg"]);
    // In the standard's own words, and as every other download.
    let got = p.send("GET", "Camera/IMG_20260412_101530.jpg", &[], b"").await;
    assert_eq!((got.status, got.body.as_str()), (200, "kite"));
    assert_eq!(got.header("repr-digest"), format!("sha-256=:{}:", Digest::of(b"kite").to_base64()));
    let part = p.send("GET", "Camera/IMG_20260412_101530.jpg", &[("Range", "bytes=1-2")], b"").await;
    assert_eq!((part.status, part.body.as_str(), part.header("content-range")), (206, "it", "bytes 1-2/4"));
    let tag = put.header("etag").to_owned();
    let same = p.send("GET", "Camera/IMG_20260412_101530.jpg", &[("If-None-Match", &tag)], b"").await;
    assert_eq!(same.status, 304);
    assert_eq!(p.list("Camera/", "1").await, ["/dav/Camera/", "/dav/Camera/IMG_20260412_101530.jpg"]);
    let endless = p.send("PROPFIND", "", &[("Depth", "infinity")], b"").await;
    assert!(endless.status == 403 && endless.body.contains("propfind-finite-depth"), "{}", endless.body);
    assert_eq!(p.list("", "1").await, ["/dav/", "/dav/Camera/"]);
    // It counts as a device that has what it sent.
    let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
    let device = devices.as_array().unwrap().iter().find(|d| d["id"] == p.id.as_str()).unwrap();
    assert_eq!((&device["has"], &device["home"], &device["kind"]), (&json!(1), &json!(1), &json!("program")));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_overwritten_stays_and_nothing_is_deleted() {
    let w = world().await;
    let p = program(&w).await;
    assert_eq!(p.put("IMG_20260412_101530.jpg", b"first").await, 201);
    assert_eq!(p.put("IMG_20260412_101530.jpg", b"second").await, 204);
    assert_eq!(p.get("IMG_20260412_101530.jpg").await, "second");
    let both = ["juno/2026/04/IMG_20260412_101530 (2).jpg", "juno/2026/04/IMG_20260412_101530.jpg"];
    assert_eq!(library_files(&w.house), both);
    for path in ["IMG_20260412_101530.jpg", "", "nothing.jpg"] {
        let refused = p.send("DELETE", path, &[], b"").await;
        assert_eq!((refused.status, refused.problem().as_str()), (403, "not-allowed"));
    }
    // Moving onto it, copying onto it, emptying it: the tree changes, and the library does not.
    assert_eq!(p.put("IMG_20260413_101530.jpg", b"third").await, 201);
    let onto = p.at("IMG_20260412_101530.jpg");
    let kept = p.send("MOVE", "IMG_20260413_101530.jpg", &[("Destination", &onto), ("Overwrite", "F")], b"").await;
    assert_eq!(kept.status, 412);
    assert_eq!(p.send("COPY", "IMG_20260413_101530.jpg", &[("Destination", &onto)], b"").await.status, 204);
    assert_eq!(p.get("IMG_20260412_101530.jpg").await, "third");
    assert_eq!(p.put("IMG_20260412_101530.jpg", b"").await, 204);
    assert_eq!(p.get("IMG_20260412_101530.jpg").await, "");
    assert_eq!(library_files(&w.house).len(), 3);
    // A precondition that does not hold keeps everything as it is.
    let never = p.send("PUT", "IMG_20260413_101530.jpg", &[("If-None-Match", "*")], b"fourth").await;
    assert_eq!(never.status, 412);
    assert_eq!(library_files(&w.house).len(), 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_sent_under_a_working_name_takes_its_final_one() {
    let w = world().await;
    let p = program(&w).await;
    assert_eq!(p.send("MKCOL", "DCIM", &[], b"").await.status, 201);
    assert_eq!(p.put("DCIM/IMG_20260412_101530.jpg.part", b"kite").await, 201);
    let to = p.at("DCIM/IMG_20260412_101530.jpg");
    assert_eq!(p.send("MOVE", "DCIM/IMG_20260412_101530.jpg.part", &[("Destination", &to)], b"").await.status, 201);
    assert_eq!(p.get("DCIM/IMG_20260412_101530.jpg").await, "kite");
    wait_until("the library has the final name", || library_files(&w.house) == ["juno/2026/04/IMG_20260412_101530.jpg"]).await;
    // A folder moves with all that is in it, and what the device says it has goes along.
    assert_eq!(p.send("MOVE", "DCIM", &[("Destination", &p.at("Holidays"))], b"").await.status, 201);
    assert_eq!(p.list("Holidays/", "1").await, ["/dav/Holidays/", "/dav/Holidays/IMG_20260412_101530.jpg"]);
    let into_itself = p.send("MOVE", "Holidays", &[("Destination", &p.at("Holidays/Deeper"))], b"").await;
    assert_eq!(into_itself.status, 403);
    let coverage = w.keeper.ask(Method::GET, &format!("api/devices/{}/coverage", p.id), None).await.unwrap();
    assert_eq!(coverage["missing"], json!([]));
    let named = w.sql("SELECT source, name FROM sighting");
    assert_eq!(named, "Holidays|IMG_20260412_101530.jpg");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_comes_in_pieces_and_goes_on_after_an_interruption() {
    let w = world().await;
    let p = program(&w).await;
    let put = async |range: &str, body: &[u8]| p.send("PUT", "harbour.mp4", &[("Content-Range", range)], body).await;
    assert_eq!(put("bytes 0-7/14", b"harbour ").await.status, 201);
    assert!(library_files(&w.house).is_empty(), "nothing lands before it is whole");
    let stands = p.send("HEAD", "harbour.mp4", &[], b"").await;
    assert_eq!((stands.status, stands.header("content-length")), (200, "8"), "so a program knows where to go on");
    assert_eq!(p.get("harbour.mp4").await, "harbour ");
    let listed = p.send("PROPFIND", "harbour.mp4", &[("Depth", "0")], b"").await;
    assert!(listed.body.contains("<D:getcontentlength>8</D:getcontentlength>"), "{}", listed.body);
    let gap = put("bytes 10-13/14", b" fog").await;
    assert_eq!((gap.status, gap.problem().as_str()), (416, "range-not-satisfiable"));
    // A piece that overlaps what is there counts from its first byte on.
    assert_eq!(put("bytes 4-9/14", b"our in").await.status, 204);
    assert_eq!(put("bytes 10-13/14", b" fog").await.status, 204);
    assert_eq!(p.get("harbour.mp4").await, "harbour in fog");
}

#[rstest]
#[case::no_length("bytes 0-3/*")]
#[case::backwards("bytes 3-0/4")]
#[case::beyond("bytes 0-4/4")]
#[case::words("pieces")]
#[tokio::test(flavor = "multi_thread")]
async fn a_piece_says_where_it_belongs(#[case] range: &str) {
    let w = world().await;
    let p = program(&w).await;
    let refused = p.send("PUT", "a.jpg", &[("Content-Range", range)], b"kite").await;
    assert_eq!((refused.status, refused.problem().as_str()), (400, "bad-request"));
    assert_eq!(p.list("", "1").await, ["/dav/"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lock_keeps_others_from_writing() {
    let w = world().await;
    let p = program(&w).await;
    let body = br#"<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>a phone</D:owner></D:lockinfo>"#;
    let lock = p.send("LOCK", "a.jpg", &[("Timeout", "Second-600"), ("Content-Type", "application/xml")], body).await;
    assert_eq!(lock.status, 201, "a name that nothing has can be locked, and is an empty file then");
    let token = lock.header("lock-token").to_owned();
    assert!(lock.body.contains("Second-600") && lock.body.contains("a phone"), "{}", lock.body);
    assert_eq!(p.put("a.jpg", b"kite").await, 423);
    assert_eq!(p.send("LOCK", "a.jpg", &[("Content-Type", "application/xml")], body).await.status, 423);
    let held = format!("({token})");
    assert_eq!(p.send("PUT", "a.jpg", &[("If", &format!("({token} [\"some"))], b"kite").await.status, 400, "cut off");
    assert_eq!(p.send("PUT", "a.jpg", &[("If", "(Not <DAV:no-lock>)")], b"kite").await.status, 423);
    assert_eq!(p.send("PUT", "a.jpg", &[("If", &held)], b"kite").await.status, 204);
    let away = p.at("b.jpg");
    assert_eq!(p.send("MOVE", "a.jpg", &[("Destination", &away)], b"").await.status, 423);
    assert_eq!(p.send("UNLOCK", "a.jpg", &[("Lock-Token", &token)], b"").await.status, 204);
    assert_eq!(p.send("MOVE", "a.jpg", &[("Destination", &away)], b"").await.status, 201);
    assert_eq!(p.get("b.jpg").await, "kite");
}

#[tokio::test(flavor = "multi_thread")]
async fn properties_are_kept_for_their_program() {
    let w = world().await;
    let p = program(&w).await;
    p.put("a.jpg", b"kite").await;
    let set = r#"<?xml version="1.0"?><D:propertyupdate xmlns:D="DAV:" xmlns:x="urn:example"><D:set><D:prop><x:mark>☂ &amp; more</x:mark></D:prop></D:set></D:propertyupdate>"#;
    let ask = r#"<?xml version="1.0"?><D:propfind xmlns:D="DAV:" xmlns:x="urn:example"><D:prop><x:mark/><D:getetag/><x:gone/></D:prop></D:propfind>"#;
    let said = p.send("PROPPATCH", "a.jpg", &[], set.as_bytes()).await;
    assert!(said.status == 207 && said.body.contains("200 OK"), "{}", said.body);
    p.send("MOVE", "a.jpg", &[("Destination", &p.at("b.jpg"))], b"").await;
    let kept = p.send("PROPFIND", "b.jpg", &[("Depth", "0")], ask.as_bytes()).await;
    assert_eq!(kept.body.matches("☂").count(), 1, "{}", kept.body);
    assert!(kept.body.contains("<p:gone xmlns:p=\"urn:example\"/>") && kept.body.contains("404 Not Found"), "{}", kept.body);
    assert!(kept.body.contains("☂ &amp; more") && kept.body.contains(&tag_of(b"kite").replace('"', "&quot;")), "{}", kept.body);
    let too_much = set.replace("☂", &"x".repeat(70_000));
    assert!(p.send("PROPPATCH", "b.jpg", &[], too_much.as_bytes()).await.status >= 400);
    let bomb = r#"<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bbbbbbbbbb"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;&b;&b;"><!ENTITY d "&c;&c;&c;&c;&c;&c;&c;&c;&c;&c;"><!ENTITY e "&d;&d;&d;&d;&d;&d;&d;&d;&d;&d;"><!ENTITY f "&e;&e;&e;&e;&e;&e;&e;&e;&e;&e;"><!ENTITY g "&f;&f;&f;&f;&f;&f;&f;&f;&f;&f;"><!ENTITY h "&g;&g;&g;&g;&g;&g;&g;&g;&g;&g;">]><D:propertyupdate xmlns:D="DAV:"><D:set><D:prop><x>&h;&h;&h;</x></D:prop></D:set></D:propertyupdate>"#;
    assert_eq!(p.send("PROPPATCH", "b.jpg", &[], bomb.as_bytes()).await.status, 400);
}

#[tokio::test(flavor = "multi_thread")]
async fn only_its_own_credential_opens_a_devices_folders() {
    let w = world().await;
    let (mine, other) = (program(&w).await, program(&w).await);
    assert_eq!(mine.put("a.jpg", b"kite").await, 201);
    assert_eq!(other.send("GET", "a.jpg", &[], b"").await.status, 404);
    assert_eq!(other.list("", "1").await, ["/dav/"]);
    let url = w.house.http.join("dav/").unwrap();
    let asked = |password: &'static str| {
        let request = mine.raw.http.request(Method::from_bytes(b"PROPFIND").unwrap(), url.clone());
        if password.is_empty() { request } else { request.basic_auth("juno", Some(password)) }
    };
    for password in ["", "the river at dawn", "wrong"] {
        let refused = asked(password).send().await.unwrap();
        assert_eq!(refused.status(), 401);
        assert!(refused.headers()["www-authenticate"].to_str().unwrap().starts_with("Basic "));
    }
    // Elsewhere a password that a browser sends by itself opens nothing.
    let api = mine.raw.http.get(w.house.http.join("api/device").unwrap()).basic_auth("juno", Some(&mine.raw.token));
    let refused = api.send().await.unwrap();
    assert_eq!((refused.status().as_u16(), refused.headers()["www-authenticate"].to_str().unwrap()), (401, "Bearer"));
    w.keeper.ask(Method::POST, &format!("api/devices/{}/revoke", mine.id), None).await.unwrap();
    assert_eq!(mine.put("b.jpg", b"weir").await, 401);
    assert_eq!(library_files(&w.house).len(), 1, "what it sent stays");
}

#[rstest]
#[case::separators("..%2F..%2Fetc%2Fpasswd", 400)]
#[case::up("../../api/people", 404)]
#[case::control("a%0Ab.jpg", 403)]
#[case::not_text("a%FFb.jpg", 403)]
#[case::zero("a%00b.jpg", 400)]
#[case::marks("%E2%80%AEgpj.exe", 201)]
#[case::umlaut("Gr%C3%BC%C3%9Fe%20aus%20K%C3%B6ln.jpg", 201)]
#[tokio::test(flavor = "multi_thread")]
async fn names_stay_in_their_place(#[case] path: &str, #[case] status: u16) {
    let w = world().await;
    let p = program(&w).await;
    assert_eq!(p.put(path, b"kite").await, status);
    let files = library_files(&w.house);
    assert!(files.iter().all(|f| f.starts_with("juno/") && !f.contains(['\n', '\u{202e}'])), "{files:?}");
    if status == 201 {
        assert_eq!(p.get(path).await, "kite");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_can_be_long_and_not_too_long() {
    let w = world().await;
    let p = program(&w).await;
    assert_eq!(p.put(&format!("{}.jpg", "k".repeat(251)), b"kite").await, 201);
    assert_eq!(p.put(&format!("{}.jpg", "k".repeat(252)), b"kite").await, 414);
}

#[tokio::test(flavor = "multi_thread")]
async fn quota_and_reserve_refuse_before_bytes_are_kept() {
    let w = world().await;
    let p = program(&w).await;
    let people = w.keeper.ask(Method::GET, "api/people", None).await.unwrap();
    let juno = people.as_array().unwrap().iter().find(|x| x["name"] == "Juno").unwrap()["id"].as_str().unwrap().to_owned();
    w.keeper.ask(Method::PATCH, &format!("api/people/{juno}"), Some(json!({ "quota": 1000 }))).await.unwrap();
    let refused = p.send("PUT", "a.jpg", &[], &[7; 2000]).await;
    assert_eq!((refused.status, refused.problem().as_str()), (413, "over-quota"));
    assert_eq!(p.list("", "1").await, ["/dav/"]);
    let ask = r#"<?xml version="1.0"?><D:propfind xmlns:D="DAV:"><D:prop><D:quota-available-bytes/><D:quota-used-bytes/></D:prop></D:propfind>"#;
    let said = p.send("PROPFIND", "", &[("Depth", "0")], ask.as_bytes()).await;
    assert!(said.body.contains("quota-available-bytes>1000<"), "{}", said.body);
    // A length that nobody tells beforehand is held against the quota when it is known.
    let url = w.house.http.join("dav/b.jpg").unwrap();
    let body = reqwest::Body::wrap_stream(futures_util::stream::iter([Ok::<_, std::io::Error>(vec![7u8; 2000])]));
    let refused = p.raw.http.put(url).basic_auth(&p.user, Some(&p.raw.token)).body(body).send().await.unwrap();
    assert_eq!(refused.status(), 413);
    assert_eq!(p.list("", "1").await, ["/dav/"]);
    // What a program was refused is told here, since it tells nobody: in the device's row, in the list, and by the lamp.
    let row = || async {
        let devices = w.keeper.ask(Method::GET, "api/devices", None).await.unwrap();
        devices.as_array().unwrap().iter().find(|d| d["refused"].as_u64().is_some_and(|n| n > 0)).cloned()
    };
    let program_row = row().await.expect("a device with something refused");
    assert_eq!(program_row["refused"], 2, "{program_row}");
    let state = w.keeper.ask(Method::GET, "api/overview", None).await.unwrap();
    assert!(state["rest"].as_str().unwrap().contains("quota"), "{state}");
    assert_ne!(state["state"], "well", "{state}");
    assert_eq!(p.put("a.jpg", &[7; 900]).await, 201);
    assert_eq!(row().await.unwrap()["refused"], 1, "one has come since");
    w.keeper.ask(Method::PATCH, &format!("api/people/{juno}"), Some(json!({ "quota": 0 }))).await.unwrap();
    assert_eq!(p.put("b.jpg", &[7; 2000]).await, 201);
    assert!(row().await.is_none(), "and now all of it");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_connection_that_breaks_leaves_nothing_half_kept() {
    use tokio::io::AsyncWriteExt;
    let w = world().await;
    let p = program(&w).await;
    let credential = data_encoding::BASE64.encode(format!("{}:{}", p.user, p.raw.token).as_bytes());
    let port = w.house.http.port().unwrap();
    for framing in ["Content-Length: 1000000", "Transfer-Encoding: chunked"] {
        let mut socket = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
        let head =
            format!("PUT /dav/a.jpg HTTP/1.1\r\nHost: localhost\r\nAuthorization: Basic {credential}\r\n{framing}\r\n\r\n");
        socket.write_all(head.as_bytes()).await.unwrap();
        socket.write_all(b"4\r\nkite\r\n").await.unwrap();
        let incoming = w.house.library().join(".ypogeion/incoming");
        let parts = || std::fs::read_dir(&incoming).unwrap().count();
        wait_until("its first bytes are there", || parts() > 0).await;
        drop(socket);
        wait_until("what came is removed", || parts() == 0).await;
    }
    assert!(library_files(&w.house).is_empty());
    assert_eq!(p.list("", "1").await, ["/dav/"]);
    // A length that nobody tells beforehand is taken all the same.
    let port = w.house.http.port().unwrap();
    let mut socket = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    let head = format!(
        "PUT /dav/IMG_20260412_101530.jpg HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\nAuthorization: Basic {credential}\r\nTransfer-Encoding: chunked\r\n\r\n4\r\nkite\r\n5\r\n sail\r\n0\r\n\r\n"
    );
    socket.write_all(head.as_bytes()).await.unwrap();
    let mut answer = String::new();
    tokio::io::AsyncReadExt::read_to_string(&mut socket, &mut answer).await.unwrap();
    assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    assert_eq!(p.get("IMG_20260412_101530.jpg").await, "kite sail");
}

#[tokio::test(flavor = "multi_thread")]
async fn pieces_survive_a_kill() {
    let mut w = world().await;
    let p = program(&w).await;
    let put = async |range: &str, body: &[u8]| p.send("PUT", "harbour.mp4", &[("Content-Range", range)], body).await.status;
    assert_eq!(put("bytes 0-7/14", b"harbour ").await, 201);
    w.house.kill_service();
    w.house.start_service().await.unwrap();
    assert_eq!(put("bytes 8-13/14", b"in fog").await, 204);
    assert_eq!(p.get("harbour.mp4").await, "harbour in fog");
    let said: Value = w.keeper.ask(Method::GET, "api/overview", None).await.unwrap();
    assert!(said.to_string().contains("\"home\""));
}

/// A tree that is built by recursion is as deep as whoever sent it likes.
#[rstest]
#[case::listing("PROPFIND")]
#[case::properties("PROPPATCH")]
#[case::lock("LOCK")]
#[case::folder("MKCOL")]
#[case::another_name("MOVE")]
#[tokio::test(flavor = "multi_thread")]
async fn deep_words_end_a_request_and_not_the_service(#[case] method: &str) {
    let w = world().await;
    let p = program(&w).await;
    assert!([201, 204].contains(&p.put("a.jpg", b"kite").await));
    let nested = |deep: usize, open: &str, close: &str| open.repeat(deep) + &close.repeat(deep);
    let bodies = [
        nested(80_000, "<a>", ""),
        nested(21_000, "<a>", ""),
        nested(500, "<a>", ""),
        nested(250, "<a>", "</a>"),
        nested(5_000, "<a xmlns='DAV:'>", "</a>"),
        nested(200, "<a xmlns='DAV:'><b/>", "</a>"),
        format!("<propfind xmlns='DAV:'><prop>{}</prop></propfind>", nested(200, "<x>", "</x>")),
        format!("<propertyupdate xmlns='DAV:'><set><prop>{}</prop></set></propertyupdate>", nested(200, "<x>", "</x>")),
        format!(
            "<lockinfo xmlns='DAV:'><lockscope><exclusive/></lockscope><locktype><write/></locktype><owner>{}</owner></lockinfo>",
            nested(200, "<x>", "</x>")
        ),
        format!(
            "<!DOCTYPE a [{}]><a>&e9;</a>",
            (1..10).map(|n| format!("<!ENTITY e{n} \"{}\">", format!("&e{};", n - 1).repeat(10))).collect::<String>()
        ),
        "\u{feff}<?xml version='1.0' encoding='utf-16'?><a".to_owned(),
        String::from_utf8_lossy(&[0xff; 3000]).into_owned(),
    ];
    for body in bodies {
        for (path, depth) in [("a.jpg", "0"), ("", "1")] {
            let headers =
                [("Depth", depth), ("Destination", &p.at("b.jpg")), ("Overwrite", "F"), ("Content-Type", "application/xml")];
            let answered = p.send(method, path, &headers, body.as_bytes()).await;
            assert!(
                (200..500).contains(&answered.status) && answered.status != 101,
                "{method} {path}: {} {}",
                answered.status,
                answered.body
            );
        }
    }
    // Alive, and of the same mind.
    let alive = reqwest::get(w.house.http.join("api/health").unwrap()).await.unwrap();
    assert_eq!(alive.status(), 200);
    assert!(p.list("", "1").await.iter().any(|path| path.ends_with("a.jpg") || path.ends_with("b.jpg")));
}
