//! The upload protocol against its specification (tus 1.0.0), spoken by hand.

use crate::common::{self, library_files, metadata, world, world_of, world_with};
use reqwest::Method;
use rstest::rstest;
use serde_json::json;
use ypogeion_core::Digest;
use ypogeion_rehearsal::wait_for;

const BODY: (&str, &str) = ("Content-Type", "application/offset+octet-stream");

#[tokio::test(flavor = "multi_thread")]
async fn options_tell_what_uploads_can_do() {
    let device = world().await;
    let raw = device.raw_device("phone").await;
    let said = raw.send("OPTIONS", "tus/", &[], b"").await;
    assert_eq!(said.status, 204);
    assert_eq!((said.header("tus-resumable"), said.header("tus-version")), ("1.0.0", "1.0.0"));
    let extensions: Vec<&str> = said.header("tus-extension").split(',').collect();
    for needed in ["creation", "creation-with-upload", "checksum", "termination", "expiration", "concatenation"] {
        assert!(extensions.contains(&needed), "{needed}");
    }
    assert!(said.header("tus-checksum-algorithm").split(',').any(|a| a == "sha1"));
    assert!(said.header("tus-max-size").parse::<u64>().unwrap() > 1 << 40);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_goes_on_where_it_stands() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(14, &metadata(&[("filename", "harbour.jpg")])).await;
    let first = raw.append(&path, 0, b"harbour ").await;
    assert_eq!((first.status, first.header("upload-offset")), (204, "8"));
    assert!(first.header("upload-expires").ends_with(" GMT"));
    let stands = raw.tus("HEAD", &path, &[], b"").await;
    assert_eq!((stands.status, stands.header("upload-offset"), stands.header("upload-length")), (200, "8", "14"));
    assert_eq!(stands.header("cache-control"), "no-store");
    let wrong = raw.append(&path, 3, b"in fog").await;
    assert_eq!((wrong.status, wrong.problem().as_str()), (409, "wrong-offset"));
    let last = raw.append(&path, 8, b"in fog").await;
    assert_eq!((last.status, last.header("upload-offset")), (204, "14"));
    let original = last.header("ypogeion-original").to_owned();
    assert_eq!(w.keeper.bytes(&format!("api/originals/{original}/bytes")).await.unwrap(), b"harbour in fog");
    // The answer to the last request may get lost; asked again, it is the same.
    let again = raw.tus("HEAD", &path, &[], b"").await;
    assert_eq!((again.header("upload-offset"), again.header("ypogeion-original")), ("14", original.as_str()));
    assert_eq!(raw.append(&path, 14, b"").await.status, 204);
}

/// All bytes are on the disk and nothing is recorded: the service was killed before the last one landed. Each question settles it,
/// once.
#[rstest]
#[case::asked_where_it_stands("HEAD", &[], 200)]
#[case::told_again("PATCH", &[("Upload-Offset", "14"), BODY], 204)]
#[case::told_the_second_half_again("PATCH", &[("Upload-Offset", "8"), BODY], 409)]
#[tokio::test(flavor = "multi_thread")]
async fn a_landing_that_was_interrupted_is_settled(#[case] method: &str, #[case] headers: &[(&str, &str)], #[case] status: u16) {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(14, &metadata(&[("filename", "harbour.jpg")])).await;
    assert_eq!(raw.append(&path, 0, b"harbour ").await.status, 204);
    let part = w.house.library().join(format!(".ypogeion/incoming/{}.part", path.trim_start_matches("/tus/")));
    let mut file = std::fs::OpenOptions::new().append(true).open(part).unwrap();
    std::io::Write::write_all(&mut file, b"in fog").unwrap();
    let (one, other) = tokio::join!(raw.tus(method, &path, headers, b""), raw.tus(method, &path, headers, b""));
    for answer in [&one, &other] {
        assert!([status, 423].contains(&answer.status), "{} {}", answer.status, answer.body);
    }
    assert!([&one, &other].iter().any(|a| a.status == status), "one of them settles it: {} {}", one.body, other.body);
    let after = raw.tus("HEAD", &path, &[], b"").await;
    assert_eq!((after.status, after.header("upload-offset")), (200, "14"), "{}", after.body);
    let original = after.header("ypogeion-original").to_owned();
    assert_eq!(w.keeper.bytes(&format!("api/originals/{original}/bytes")).await.unwrap(), b"harbour in fog");
    assert_eq!(library_files(&w.house).len(), 1, "it landed once");
}

#[tokio::test(flavor = "multi_thread")]
async fn small_files_travel_with_their_creation() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let sha = Digest::of(b"kite").to_string();
    let meta = metadata(&[("filename", "IMG_20260412_101530.jpg"), ("sha256", &sha), ("source", "Camera")]);
    let made = raw.tus("POST", "tus/", &[("Upload-Length", "4"), ("Upload-Metadata", &meta), BODY], b"kite").await;
    assert_eq!((made.status, made.header("upload-offset")), (201, "4"));
    assert!(!made.header("ypogeion-original").is_empty());
    assert_eq!(library_files(&w.house), ["juno/2026/04/IMG_20260412_101530.jpg"]);
    let empty = raw
        .tus("POST", "tus/", &[("Upload-Length", "0"), ("Upload-Metadata", &metadata(&[("filename", "empty.jpg")]))], b"")
        .await;
    assert!(!empty.header("ypogeion-original").is_empty(), "an empty file is a file");
}

#[rstest]
#[case::sha256("sha256", Digest::of(b"weir").to_base64())]
#[case::sha1("sha1", "9B5zsYr7ckjxqAy8Rqlbdvj07kM=".to_owned())]
#[tokio::test(flavor = "multi_thread")]
async fn bytes_with_a_wrong_checksum_are_not_kept(#[case] algorithm: &str, #[case] right: String) {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(8, "").await;
    let send = async |offset: &str, bytes: &[u8], sum: &str| {
        raw.tus("PATCH", &path, &[("Upload-Offset", offset), BODY, ("Upload-Checksum", &format!("{algorithm} {sum}"))], bytes)
            .await
    };
    let spoilt = send("0", b"weix", &right).await;
    assert_eq!((spoilt.status, spoilt.problem().as_str()), (460, "digest-mismatch"));
    assert_eq!(raw.tus("HEAD", &path, &[], b"").await.header("upload-offset"), "0");
    let unknown = raw.tus("PATCH", &path, &[("Upload-Offset", "0"), BODY, ("Upload-Checksum", "crc32 AAAA")], b"weir").await;
    assert_eq!(unknown.status, 400);
    if algorithm == "sha256" {
        assert_eq!(send("0", b"weir", &right).await.status, 204);
        assert_eq!(raw.append(&path, 4, b"weir").await.status, 204);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_not_what_was_announced_does_not_land() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let meta = metadata(&[("filename", "a.jpg"), ("sha256", &Digest::of(b"kite").to_string())]);
    let lie = raw.tus("POST", "tus/", &[("Upload-Length", "4"), ("Upload-Metadata", &meta), BODY], b"weir").await;
    assert_eq!((lie.status, lie.problem().as_str()), (460, "digest-mismatch"));
    assert!(library_files(&w.house).is_empty());
    assert!(std::fs::read_dir(w.house.library().join(".ypogeion/incoming")).unwrap().next().is_none(), "nothing half kept");
}

#[rstest]
#[case::no_version("POST", "tus/", &[("Upload-Length", "4")], 412, "tus-version")]
#[case::another_version("POST", "tus/", &[("Tus-Resumable", "0.2.2"), ("Upload-Length", "4")], 412, "tus-version")]
#[case::no_length("POST", "tus/", &[("Tus-Resumable", "1.0.0")], 400, "bad-request")]
#[case::negative("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "-4")], 400, "bad-request")]
#[case::deferred("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Defer-Length", "1")], 400, "bad-request")]
#[case::enormous("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "99999999999999999")], 413, "too-large")]
#[case::signed_length("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "+4")], 400, "bad-request")]
#[case::metadata_twice("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "4"), ("Upload-Metadata", "a QQ==,a QQ==")], 400, "bad-request")]
#[case::half_a_concat("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Concat", "final;")], 400, "bad-request")]
#[case::concat_with_length("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "4"), ("Upload-Concat", "final;/tus/0198a000-0000-7000-8000-000000000000")], 400, "bad-request")]
#[case::concat_of_nothing("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Concat", "final;/tus/0198a000-0000-7000-8000-000000000000")], 410, "upload-gone")]
#[case::bad_metadata("POST", "tus/", &[("Tus-Resumable", "1.0.0"), ("Upload-Length", "4"), ("Upload-Metadata", "filename ***")], 400, "bad-request")]
#[case::unknown("PATCH", "tus/0198a000-0000-7000-8000-000000000000", &[("Tus-Resumable", "1.0.0"), ("Upload-Offset", "0"), BODY], 410, "upload-gone")]
#[case::no_id("PATCH", "tus/nonsense", &[("Tus-Resumable", "1.0.0"), ("Upload-Offset", "0"), BODY], 404, "not-found")]
#[case::wrong_type("PATCH", "tus/0198a000-0000-7000-8000-000000000000", &[("Tus-Resumable", "1.0.0"), ("Upload-Offset", "0"), ("Content-Type", "image/jpeg")], 415, "content-type")]
#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_understood_is_said(
    #[case] method: &str,
    #[case] path: &str,
    #[case] headers: &[(&str, &str)],
    #[case] status: u16,
    #[case] problem: &str,
) {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let said = raw.send(method, path, headers, b"").await;
    assert_eq!((said.status, said.problem().as_str()), (status, problem));
    assert_eq!(said.header("tus-version"), "1.0.0");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_device_said_is_given_back_word_for_word() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let meta = metadata(&[("filename", "kite.jpg"), ("own-word", "weir")]) + ",empty";
    let path = raw.create(4, &meta).await;
    assert_eq!(raw.tus("HEAD", &path, &[], b"").await.header("upload-metadata"), meta);
    let bare = raw.create(4, "").await;
    assert!(!raw.tus("HEAD", &bare, &[], b"").await.headers.contains_key("upload-metadata"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_method_in_a_header_counts_instead_of_the_real_one() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(4, "").await;
    let sent = raw.tus("POST", &path, &[("X-HTTP-Method-Override", "PATCH"), ("Upload-Offset", "0"), BODY], b"ki").await;
    assert_eq!((sent.status, sent.header("upload-offset")), (204, "2"));
    let stands = raw.tus("GET", &path, &[("X-HTTP-Method-Override", "HEAD")], b"").await;
    assert_eq!(stands.header("upload-offset"), "2");
    let ended = raw.tus("POST", &path, &[("X-HTTP-Method-Override", "DELETE")], b"").await;
    assert_eq!(ended.status, 204);
    // Only uploads take it, and it opens no other door.
    let other = raw.send("POST", "api/device/runs", &[("X-HTTP-Method-Override", "DELETE")], b"").await;
    assert_eq!(other.status, 201);
}

#[tokio::test(flavor = "multi_thread")]
async fn parts_sent_side_by_side_become_one_original() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let part = async |bytes: &'static [u8]| {
        let length = bytes.len().to_string();
        let made = raw.tus("POST", "tus/", &[("Upload-Length", &length), ("Upload-Concat", "partial")], b"").await;
        assert_eq!(made.status, 201, "{}", made.body);
        made.header("location").to_owned()
    };
    let (first, second) = (part(b"harbour ").await, part(b"in fog").await);
    assert_eq!(raw.append(&first, 0, b"harbour ").await.status, 204);
    let said = raw.tus("HEAD", &first, &[], b"").await;
    assert_eq!((said.header("upload-concat"), said.header("upload-offset")), ("partial", "8"));
    assert!(said.header("ypogeion-original").is_empty(), "a part does not land");
    let concat = format!("final;{}{} {second}", w.house.http, first.trim_start_matches('/'));
    let sha = Digest::of(b"harbour in fog").to_string();
    let meta = metadata(&[("filename", "harbour.jpg"), ("sha256", &sha)]);
    let create = async || raw.tus("POST", "tus/", &[("Upload-Concat", &concat), ("Upload-Metadata", &meta)], b"").await;
    let early = create().await;
    assert_eq!((early.status, early.problem().as_str()), (409, "wrong-offset"), "a part is not complete");
    assert_eq!(raw.append(&second, 0, b"in fog").await.status, 204);
    assert!(library_files(&w.house).is_empty());
    let whole = create().await;
    assert_eq!((whole.status, whole.header("upload-offset")), (201, "14"), "{}", whole.body);
    let original = whole.header("ypogeion-original").to_owned();
    assert_eq!(w.keeper.bytes(&format!("api/originals/{original}/bytes")).await.unwrap(), b"harbour in fog");
    let place = whole.header("location").to_owned();
    let stands = raw.tus("HEAD", &place, &[], b"").await;
    assert_eq!((stands.header("upload-concat"), stands.header("upload-metadata")), (concat.as_str(), meta.as_str()));
    assert_eq!((stands.header("upload-offset"), stands.header("upload-length")), ("14", "14"));
    let more = raw.append(&place, 14, b"!").await;
    assert_eq!((more.status, more.problem().as_str()), (403, "not-allowed"));
    // The parts have done their work, and an ordinary upload is not one.
    assert_eq!(raw.tus("HEAD", &first, &[], b"").await.status, 410);
    assert_eq!(create().await.problem(), "upload-gone");
    let ordinary = raw.create(4, "").await;
    let mixed = raw.tus("POST", "tus/", &[("Upload-Concat", &format!("final;{ordinary}"))], b"").await;
    assert_eq!(mixed.problem(), "bad-request");
    let other = w.raw_device("other").await;
    let stolen = other.tus("POST", "tus/", &[("Upload-Concat", &format!("final;{ordinary}"))], b"").await;
    assert_eq!(stolen.problem(), "upload-gone", "another device's parts cannot be reached");
}

#[tokio::test(flavor = "multi_thread")]
async fn joining_goes_on_after_a_kill() {
    let mut w = world().await;
    let raw = w.raw_device("phone").await;
    let bytes: Vec<u8> = (0..24_000_000u32).map(|n| (n / 7) as u8).collect();
    let mut places = Vec::new();
    for half in bytes.chunks(bytes.len() / 2) {
        let length = half.len().to_string();
        let headers = [("Upload-Length", length.as_str()), ("Upload-Concat", "partial"), BODY];
        places.push(raw.tus("POST", "tus/", &headers, half).await.header("location").to_owned());
    }
    let incoming = w.house.library().join(".ypogeion/incoming");
    let known: Vec<String> = places.iter().map(|p| format!("{}.part", p.trim_start_matches("/tus/"))).collect();
    let concat = format!("final;{}", places.join(" "));
    let (sender, meta) = (raw.clone(), metadata(&[("filename", "fog.mp4")]));
    let request = tokio::spawn(async move {
        let headers = [("Tus-Resumable", "1.0.0"), ("Upload-Concat", concat.as_str()), ("Upload-Metadata", meta.as_str())];
        let url = sender.base.join("tus/").unwrap();
        let request = headers.iter().fold(sender.http.post(url).bearer_auth(&sender.token), |r, (k, v)| r.header(*k, *v));
        let _ = request.send().await;
    });
    // A closer look than wait_for's: joining is over in a moment.
    let begun = || {
        let mut parts = std::fs::read_dir(&incoming).unwrap().flatten().filter(|e| e.metadata().is_ok_and(|m| m.len() > 0));
        parts.find_map(|e| e.file_name().into_string().ok().filter(|n| n.ends_with(".part") && !known.contains(n)))
    };
    let mut id = None;
    for _ in 0..20_000 {
        id = begun();
        if id.is_some() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(1)).await;
    }
    let id = id.expect("the joining begins");
    w.house.kill_service();
    request.abort();
    w.house.start_service().await.unwrap();
    let stands = raw.tus("HEAD", &format!("tus/{}", id.trim_end_matches(".part")), &[], b"").await;
    assert_eq!((stands.status, stands.header("upload-offset")), (200, "24000000"), "{}", stands.body);
    let files = library_files(&w.house);
    assert_eq!(files.len(), 1);
    assert_eq!(Digest::of(&std::fs::read(w.house.library().join(&files[0])).unwrap()), Digest::of(&bytes));
}

#[tokio::test(flavor = "multi_thread")]
async fn more_than_was_announced_is_refused() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(4, "").await;
    let much = raw.append(&path, 0, b"kites and more").await;
    assert_eq!((much.status, much.problem().as_str()), (413, "too-large"));
    assert!(library_files(&w.house).is_empty());
    assert_eq!(raw.append(&path, 0, b"kite").await.status, 204);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_can_be_ended_and_an_original_cannot() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(8, "").await;
    raw.append(&path, 0, b"kite").await;
    assert_eq!(raw.tus("DELETE", &path, &[], b"").await.status, 204);
    assert_eq!(raw.tus("HEAD", &path, &[], b"").await.status, 410);
    let landed = raw.create(4, "").await;
    raw.append(&landed, 0, b"kite").await;
    let refused = raw.tus("DELETE", &landed, &[], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (403, "not-allowed"));
    assert_eq!(library_files(&w.house).len(), 1);
    // Another device of the house cannot touch it either.
    let other = w.raw_device("other").await;
    assert_eq!(other.tus("HEAD", &landed, &[], b"").await.status, 410);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_left_alone_expires() {
    let w = world_with("upload_days = 0.00001").await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(8, "").await;
    wait_for("the upload to expire", 10, async || Ok((raw.tus("HEAD", &path, &[], b"").await.status == 410).then_some(())))
        .await
        .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_quota_is_kept_before_a_byte_is_sent() {
    let w = world().await;
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea", "quota": 1000 });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let device = ypogeion_rehearsal::device::Device::new(&w.folder.path().join("piet"));
    device.pair(&w.keeper.pairing("Piet").await.unwrap(), "phone", "phone", &[]).await.unwrap();
    let home = ypogeion_agent::home::Home::open(device.folder()).unwrap();
    let raw = common::Raw { token: home.paired().unwrap().token.clone(), ..w.raw_device("unused").await };
    let over = raw.tus("POST", "tus/", &[("Upload-Length", "1001")], b"").await;
    assert_eq!((over.status, over.problem().as_str()), (413, "over-quota"));
    let path = raw.create(900, "").await;
    // What is promised counts, too.
    assert_eq!(raw.tus("POST", "tus/", &[("Upload-Length", "200")], b"").await.problem(), "over-quota");
    assert_eq!(raw.append(&path, 0, &[7; 900]).await.status, 204);
    assert!(raw.tus("POST", "tus/", &[("Upload-Length", "101")], b"").await.body.contains("100 bytes"));
    // The keeper sees it before anything is refused, and decides when.
    let people = w.keeper.ask(Method::GET, "api/people", None).await.unwrap();
    let piet = people.as_array().unwrap().iter().find(|p| p["name"] == "Piet").unwrap().clone();
    assert_eq!(piet["quota_state"], "near");
    let path = format!("api/people/{}", piet["id"].as_str().unwrap());
    let changed = w.keeper.ask(Method::PATCH, &path, Some(json!({ "soft_quota": 950 }))).await.unwrap();
    assert_eq!((&changed["quota_state"], &changed["soft_quota"], &changed["quota"]), (&json!("well"), &json!(950), &json!(1000)));
    let changed = w.keeper.ask(Method::PATCH, &path, Some(json!({ "quota": 0, "soft_quota": 0 }))).await.unwrap();
    assert_eq!((&changed["quota"], &changed["soft_quota"]), (&json!(null), &json!(null)));
    assert_eq!(raw.tus("POST", "tus/", &[("Upload-Length", "101")], b"").await.status, 201);
}

/// Whatever fits only once is given once, however many ask at the same time.
#[tokio::test(flavor = "multi_thread")]
async fn a_quota_is_taken_in_one_step_with_being_looked_at() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    w.sql("UPDATE person SET quota = 1000");
    let one = async || raw.tus("POST", "tus/", &[("Upload-Length", "600")], b"").await.status;
    let mut all = futures_util::future::join_all((0..24).map(|_| one())).await;
    all.sort_unstable();
    assert_eq!((all[0], all[1..].iter().all(|s| *s == 413)), (201, true), "{all:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn joining_asks_the_quota_and_takes_no_part_twice() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let part = async |bytes: &[u8]| {
        let length = bytes.len().to_string();
        let made = raw.tus("POST", "tus/", &[("Upload-Length", &length), ("Upload-Concat", "partial")], b"").await;
        let path = made.header("location").to_owned();
        assert_eq!(raw.append(&path, 0, bytes).await.status, 204);
        path
    };
    let join =
        async |parts: &[&str]| raw.tus("POST", "tus/", &[("Upload-Concat", &format!("final;{}", parts.join(" ")))], b"").await;
    let (first, second) = (part(b"harbour ").await, part(b"in fog").await);
    let twice = join(&[&first, &second, &first]).await;
    assert_eq!((twice.status, twice.problem().as_str()), (400, "bad-request"));
    // Less was promised than is to be had: the quota came down meanwhile.
    w.sql("UPDATE person SET quota = 13");
    assert_eq!(join(&[&first, &second]).await.problem(), "over-quota");
    assert!(library_files(&w.house).is_empty());
    // The parts are not counted a second time beside what they become.
    w.sql("UPDATE person SET quota = 14");
    assert_eq!(join(&[&first, &second]).await.status, 201);
}

/// Room is kept for what comes, not for what was once announced.
#[tokio::test(flavor = "multi_thread")]
async fn a_promise_that_nobody_keeps_holds_no_disk_for_ever() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let disk = rustix::fs::statvfs(w.house.library()).unwrap();
    let room = disk.f_bavail * disk.f_frsize - (1 << 30);
    let greedy = raw.create((room / 4 * 3) as usize, "").await;
    assert_eq!(raw.append(&greedy, 0, b"kite").await.status, 204);
    let other = w.raw_device("tablet").await;
    let wanted = (room / 2).to_string();
    let refused = other.tus("POST", "tus/", &[("Upload-Length", &wanted)], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (507, "disk-full"));
    w.sql("UPDATE upload SET touched_at = now() - interval '61 minutes'");
    let given = other.tus("POST", "tus/", &[("Upload-Length", &wanted)], b"").await;
    assert_eq!(given.status, 201, "{}", given.body);
    // Who comes back later asks anew, and keeps what came.
    let late = raw.append(&greedy, 4, b" over").await;
    assert_eq!((late.status, late.problem().as_str()), (507, "disk-full"));
    assert_eq!(raw.tus("HEAD", &greedy, &[], b"").await.header("upload-offset"), "4");
    assert_eq!(other.tus("DELETE", given.header("location"), &[], b"").await.status, 204);
    assert_eq!(raw.append(&greedy, 4, b" over").await.status, 204);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_has_no_more_under_way_and_makes_no_more_rows_than_any_needs() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let path = raw.create(4, "").await;
    w.sql(
        "INSERT INTO upload (id, device, person, length, name, source, created_at, expires_at)
         SELECT gen_random_uuid(), device, person, 1, 'x', '', now(), now() + interval '1 day' FROM upload, generate_series(1, 999)",
    );
    let refused = raw.tus("POST", "tus/", &[("Upload-Length", "1")], b"").await;
    assert_eq!((refused.status, refused.problem().as_str()), (429, "too-many"));
    // What is under way goes on, and others go on.
    assert_eq!(raw.append(&path, 0, b"kite").await.status, 204);
    assert_eq!(w.raw_device("tablet").await.create(1, "").await.len(), "/tus/".len() + 36);

    let offer = async |names: &[&str]| {
        let entries: Vec<_> = names
            .iter()
            .map(|n| json!({ "digest": Digest::of(n.as_bytes()).to_string(), "size": 1, "name": n, "source": "Camera" }))
            .collect();
        raw.send(
            "POST",
            "api/device/offers",
            &[("content-type", "application/json")],
            json!({ "entries": entries }).to_string().as_bytes(),
        )
        .await
    };
    let made = async || w.sql("SELECT made FROM device WHERE name LIKE '%phone%'");
    let before = made().await;
    assert_eq!(offer(&["a", "b", "c"]).await.status, 200);
    let after = made().await;
    assert_eq!(after.parse::<i64>().unwrap() - before.parse::<i64>().unwrap(), 3);
    assert_eq!(offer(&["a", "b", "c"]).await.status, 200);
    assert_eq!(made().await, after, "what was named before is no row more");
    w.sql("UPDATE device SET made = 9999999");
    let refused = offer(&["d", "e"]).await;
    assert_eq!((refused.status, refused.problem().as_str()), (429, "too-many"));
    assert_eq!(made().await, "9999999", "nothing of it is noted");
    assert_eq!(offer(&["a", "d"]).await.status, 200);
    // Runs and their logs count as well; and a picture lands, whatever else there is too much of.
    assert_eq!(raw.send("POST", "api/device/runs", &[], b"").await.problem(), "too-many");
    w.sql("DELETE FROM upload WHERE original IS NULL");
    let path = raw.create(4, "").await;
    assert_eq!(raw.append(&path, 0, b"gull").await.status, 204);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_reserve_of_the_disk_is_kept() {
    let w = world_of(|options| options.reserve_gb = 900_000).await;
    let raw = w.raw_device("phone").await;
    let full = raw.tus("POST", "tus/", &[("Upload-Length", "1")], b"").await;
    assert_eq!((full.status, full.problem().as_str()), (507, "disk-full"));
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_names_stay_inside_and_the_bytes_are_kept() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let long = "x".repeat(3000);
    for (n, name) in
        ["../../../../etc/cron.d/x", "/etc/passwd", "..", "a\0b.jpg", "CON", "\u{202e}gpj.exe", "con\nfig/../x.jpg", &long, ""]
            .iter()
            .enumerate()
    {
        let bytes = format!("bytes {n}");
        let path = raw.create(bytes.len(), &metadata(&[("filename", name), ("source", "../..")])).await;
        let landed = raw.append(&path, 0, bytes.as_bytes()).await;
        assert_eq!(landed.status, 204, "{name:?}: {}", landed.body);
        let id = landed.header("ypogeion-original").to_owned();
        assert_eq!(w.keeper.bytes(&format!("api/originals/{id}/bytes")).await.unwrap(), bytes.as_bytes());
    }
    let files = library_files(&w.house);
    assert_eq!(files.len(), 9);
    assert!(files.iter().all(|f| f.starts_with("juno/20") && f.split('/').count() == 4), "{files:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_name_twice_keeps_both_and_the_same_bytes_twice_keeps_one() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let name = metadata(&[("filename", "IMG_0001.JPG"), ("mtime", "2026-04-12T10:00:00Z")]);
    let lower = metadata(&[("filename", "img_0001.jpg"), ("mtime", "2026-04-12T10:00:00Z")]);
    // At once, as two phones do.
    let sends = [("kite", &name), ("weir", &name), ("fog", &lower), ("kite", &name), ("kite", &lower)];
    let results = futures_util::future::join_all(sends.map(|(bytes, meta)| {
        let raw = raw.clone();
        async move {
            let path = raw.create(bytes.len(), meta).await;
            raw.append(&path, 0, bytes.as_bytes()).await.header("ypogeion-original").to_owned()
        }
    }))
    .await;
    assert!(results.iter().all(|id| !id.is_empty()));
    assert_eq!(results[0], results[3]);
    let mut files: Vec<String> = library_files(&w.house).iter().map(|f| f.to_lowercase()).collect();
    files.sort();
    files.dedup();
    assert_eq!(files.len(), 3, "no two names that a file system without case would mix up: {files:?}");
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 3);
}

/// A picture that two devices send at the same moment has the name that it would have had alone.
#[tokio::test(flavor = "multi_thread")]
async fn the_same_bytes_at_once_have_the_name_that_one_of_them_would_have() {
    let w = world().await;
    let (phone, tablet) = (w.raw_device("phone").await, w.raw_device("tablet").await);
    let names: Vec<String> = (0..40).map(|n| format!("IMG_20260412_1010{n:02}.jpg")).collect();
    let sends = names.iter().flat_map(|name| [&phone, &tablet].map(|raw| (raw.clone(), name.clone())));
    let sent = futures_util::future::join_all(sends.map(|(raw, name)| async move {
        let path = raw.create(name.len(), &metadata(&[("filename", &name)])).await;
        raw.append(&path, 0, name.as_bytes()).await.header("ypogeion-original").to_owned()
    }))
    .await;
    assert!(sent.chunks(2).all(|two| !two[0].is_empty() && two[0] == two[1]));
    let filed: Vec<String> = names.iter().map(|name| format!("juno/2026/04/{name}")).collect();
    assert_eq!(library_files(&w.house), filed);
}

#[tokio::test(flavor = "multi_thread")]
async fn downloads_have_ranges_and_digests_and_run_nothing() {
    let w = world().await;
    let raw = w.raw_device("phone").await;
    let html = b"<script>alert(1)</script>";
    let path = raw.create(html.len(), &metadata(&[("filename", "trap.html")])).await;
    let id = raw.append(&path, 0, html).await.header("ypogeion-original").to_owned();
    let all = raw.send("GET", &format!("api/originals/{id}/bytes?look=true"), &[], b"").await;
    assert_eq!(all.header("content-type"), "application/octet-stream");
    assert!(all.header("content-disposition").starts_with("attachment"));
    assert_eq!(all.header("x-content-type-options"), "nosniff");
    assert_eq!(all.header("repr-digest"), format!("sha-256=:{}:", Digest::of(html).to_base64()));
    let part = raw.send("GET", &format!("api/originals/{id}/bytes"), &[("Range", "bytes=1-6")], b"").await;
    assert_eq!((part.status, part.body.as_str(), part.header("content-range")), (206, "script", "bytes 1-6/25"));
    let beyond = raw.send("GET", &format!("api/originals/{id}/bytes"), &[("Range", "bytes=99-")], b"").await;
    assert_eq!(beyond.status, 416);
    assert_eq!(raw.send("GET", &format!("api/originals/{id}/preview/small"), &[], b"").await.problem(), "no-preview");
    assert_eq!(raw.send("GET", "api/originals/%2e%2e%2f%2e%2e%2fetc%2fpasswd", &[], b"").await.status, 404);
}
