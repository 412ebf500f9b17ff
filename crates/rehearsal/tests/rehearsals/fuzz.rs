//! Whatever comes from outside, spoilt in every way: nothing that reads it falls, and nothing that it takes leads anywhere.
//!
//! Each reader gets what it should read (the corpus, below and in `samples`), changed by a few random edits. The seed is fixed;
//! `FUZZ_CASES` says how many cases each reader gets (a million for a night).

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io::{Read, Write},
    os::unix::ffi::OsStrExt,
    path::Path,
};

use crate::common::{Raw, metadata, world};
use proptest::{
    collection::vec,
    prelude::*,
    test_runner::{Config, RngSeed, TestCaseError, TestRunner},
};
use reqwest::Method;
use serde_json::json;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalName,
    adopt::ArchiveKind,
    capture::{Facts, decide},
    filing::{FiledPath, FilingPlan},
    kit::{RecoveryKit, StoreAddress},
    ledger::{Holdings, LedgerKey, with_proof},
    name::source_name,
};
use ypogeion_demo::Size;
use ypogeion_library::tree::read_archive;
use ypogeion_media::{
    facts,
    worker::{Pool, Work},
};
use ypogeion_offsite::{Identity, Keys, Replica, Store};
use ypogeion_rehearsal::{program, stage, walk::originals_below};
use ypogeion_wire::pairing::{PairingAddress, normalise_code};

/// Something that happens to a text on its way.
#[derive(Clone, Debug)]
enum Edit {
    Flip(usize, u8),
    Insert(usize, Vec<u8>),
    Cut(usize, usize),
    Repeat(usize, usize, usize),
    Move(usize, usize, usize),
    End(usize),
}

/// Words that have meant something to somebody's reader.
const WORDS: [&[u8]; 20] = [
    b"\0",
    b"\n",
    b"\r\n",
    b"..",
    b"/",
    b"\\",
    b"%2e%2e/",
    b"%00",
    b"\xff\xfe",
    b"\xed\xa0\x80",
    b"\"",
    b"{",
    b"[[[[",
    b"<",
    b"&a;",
    b"-1",
    b"18446744073709551616",
    b"1e999",
    b"9999-99-99T99:99:99Z",
    b": ",
];

fn edit() -> impl Strategy<Value = Edit> {
    // What a format says of itself mostly stands at its start.
    let at = || prop_oneof![0usize..600, 0usize..100_000];
    prop_oneof![
        (at(), any::<u8>()).prop_map(|(a, b)| Edit::Flip(a, b)),
        (at(), vec(any::<u8>(), 1..8)).prop_map(|(a, b)| Edit::Insert(a, b)),
        (at(), 0..WORDS.len()).prop_map(|(a, w)| Edit::Insert(a, WORDS[w].to_vec())),
        (at(), 1usize..40).prop_map(|(a, n)| Edit::Cut(a, n)),
        (at(), 1usize..60, 2usize..80).prop_map(|(a, n, k)| Edit::Repeat(a, n, k)),
        (at(), at(), 1usize..60).prop_map(|(a, b, n)| Edit::Move(a, b, n)),
        at().prop_map(Edit::End),
    ]
}

fn edited(mut bytes: Vec<u8>, edits: &[Edit]) -> Vec<u8> {
    for edit in edits {
        let place = |at: usize| at % (bytes.len() + 1);
        match edit {
            Edit::Flip(at, with) if !bytes.is_empty() => {
                let at = at % bytes.len();
                bytes[at] ^= with;
            }
            Edit::Flip(..) => {}
            Edit::Insert(at, some) => {
                let at = place(*at);
                bytes.splice(at..at, some.iter().copied());
            }
            Edit::Cut(at, n) => {
                let at = place(*at);
                bytes.drain(at..(at + n).min(bytes.len()));
            }
            Edit::Repeat(at, n, times) => {
                let at = place(*at);
                let some = bytes[at..(at + n).min(bytes.len())].repeat(*times);
                bytes.splice(at..at, some);
            }
            Edit::Move(from, to, n) => {
                let from = place(*from);
                let some: Vec<u8> = bytes.drain(from..(from + n).min(bytes.len())).collect();
                let to = to % (bytes.len() + 1);
                bytes.splice(to..to, some);
            }
            Edit::End(at) => bytes.truncate(place(*at)),
        }
    }
    bytes
}

/// Feeds a reader. What it panics with, or says, fails the test with the smallest text that was found.
fn feed(cases: u32, corpus: &[Vec<u8>], mut read: impl FnMut(&[u8]) -> Result<(), String>) {
    let cases = std::env::var("FUZZ_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(cases);
    let config = Config {
        cases,
        rng_seed: RngSeed::Fixed(20_261_128),
        failure_persistence: None,
        max_shrink_iters: 2000,
        ..Config::default()
    };
    // Unchanged, everything of the corpus is read.
    corpus.iter().for_each(|whole| read(whole).unwrap());
    let cell = std::cell::RefCell::new(&mut read);
    let spoilt = (0..corpus.len(), vec(edit(), 1..6)).prop_map(|(n, edits)| edited(corpus[n].clone(), &edits));
    let ended = TestRunner::new(config).run(&spoilt, |text| {
        (cell.borrow_mut())(&text).map_err(|why| TestCaseError::fail(format!("{why}: {:?}", String::from_utf8_lossy(&text))))
    });
    ended.unwrap_or_else(|e| panic!("{e}"));
}

fn texts(all: &[&str]) -> Vec<Vec<u8>> {
    all.iter().map(|t| t.as_bytes().to_vec()).collect()
}

fn ensure(so: bool, what: &str) -> Result<(), String> {
    if so { Ok(()) } else { Err(what.to_owned()) }
}

fn sample(path: &str) -> Vec<u8> {
    fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("samples").join(path)).unwrap()
}

#[test]
fn kits() {
    feed(20_000, &[sample("format-1/kit.txt"), sample("format-2/kit.txt")], |bytes| {
        let Ok(text) = std::str::from_utf8(bytes) else { return Ok(()) };
        match RecoveryKit::parse(text) {
            // What is taken says the same again.
            Ok(kit) => ensure(RecoveryKit::parse(&kit.to_text()).as_ref() == Ok(&kit), "it does not read back"),
            Err(e) => ensure(!e.to_string().is_empty(), "no word why"),
        }
    });
}

#[test]
fn pairing_addresses() {
    let corpus = texts(&[
        "ypogeion:pair?at=https%3A%2F%2F192.168.1.20%3A8743%2F&code=K7QF2M9X&cert=e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
        "ypogeion:pair?at=http://127.0.0.1:8740&code=K7QF2M9X",
    ]);
    feed(20_000, &corpus, |bytes| {
        let text = String::from_utf8_lossy(bytes);
        ensure(normalise_code(&text).bytes().all(|b| b.is_ascii_alphanumeric()), "a code of other signs")?;
        let Ok(address) = PairingAddress::parse(&text) else { return Ok(()) };
        ensure(matches!(address.at.scheme(), "http" | "https"), "another scheme")?;
        ensure(PairingAddress::parse(&address.to_string()).as_ref() == Ok(&address), "it does not read back")
    });
}

#[test]
fn names_paths_and_plans() {
    let corpus = texts(&[
        "juno/2026/04/IMG_2214.HEIC",
        "IMG_20260412_101530.jpg",
        "%Y/%m/{name}",
        "{device}/%Y-%m-%d/{name}",
        "Camera/Größe & mehr",
        "..\\..\\etc",
        "CON.jpg",
    ]);
    feed(40_000, &corpus, |bytes| {
        let text = String::from_utf8_lossy(bytes);
        let name = OriginalName::from_device(&text);
        let plain =
            |name: &str| !name.is_empty() && name != "." && name != ".." && !name.contains(['/', '\0', '\n']) && name.len() < 256;
        ensure(plain(name.filed().as_str()), &format!("a name that is none: {name:?}"))?;
        ensure(!source_name(&text).chars().any(char::is_control), "a source with signs that move a cursor")?;
        if let Ok(path) = FiledPath::parse(&text) {
            let inside = Path::new(path.as_str()).components().all(|c| matches!(c, std::path::Component::Normal(_)));
            ensure(inside && !path.as_str().contains('\0'), "a path that leads out")?;
            ensure(!path.folded().is_empty(), "nothing left of it")?;
        }
        if let Ok(plan) = FilingPlan::parse(&text) {
            ensure(FilingPlan::parse(plan.pattern()).is_ok(), "a plan that does not read back")?;
        }
        Ok(())
    });
}

/// The lines of the samples' ledgers.
fn ledgers() -> Vec<Vec<u8>> {
    let mut all = Vec::new();
    for format in ["format-1", "format-2"] {
        for folder in ["ledger", "checkpoints"] {
            let place = Path::new(env!("CARGO_MANIFEST_DIR")).join("samples").join(format).join("readable").join(folder);
            let mut folders = vec![place];
            while let Some(here) = folders.pop() {
                for entry in fs::read_dir(here).unwrap().flatten() {
                    if entry.path().is_dir() {
                        folders.push(entry.path());
                        continue;
                    }
                    let mut text = Vec::new();
                    flate2::read::GzDecoder::new(File::open(entry.path()).unwrap()).read_to_end(&mut text).unwrap();
                    all.push(text);
                }
            }
        }
    }
    assert!(all.len() >= 8);
    all
}

#[test]
fn segments_of_a_ledger() {
    let key = LedgerKey::new([7; 32]);
    feed(6_000, &ledgers(), |bytes| {
        let Ok(text) = std::str::from_utf8(bytes) else { return Ok(()) };
        for replica in text.lines().filter_map(|l| l.split("\"replica\":\"").nth(1)?.get(..36)?.parse::<Uuid>().ok()).take(1) {
            for number in 1..5 {
                // As it is, and as if the household had written just that.
                for text in [text.to_owned(), with_proof(text.to_owned(), &key)] {
                    let mut holdings: Holdings = Holdings::default();
                    let taken = holdings.take_segment((replica, number), Some(&key), &text).is_ok();
                    let part = holdings.take_part((replica, "00000002-77ad1b9e"), Some(&key), &text).is_ok();
                    ensure(taken || part || holdings.originals.is_empty(), "something of what was refused was taken")?;
                    let inside = |p: &FiledPath| !p.as_str().split('/').any(|s| s == ".." || s.is_empty());
                    ensure(holdings.originals.values().all(|o| inside(&o.path)), "a path that leads out")?;
                }
            }
        }
        Ok(())
    });
}

/// The first object, and whole segments as they lie in a store, by way of the replica itself.
#[test]
fn stores_that_are_spoilt() {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("samples/format-2/readable");
    let folder = tempfile::tempdir().unwrap();
    let place = folder.path().join("replica");
    assert!(std::process::Command::new("cp").arg("-r").arg(&samples).arg(&place).status().unwrap().success());
    let address = StoreAddress {
        name: "Red disk".into(),
        endpoint: format!("file://{}", place.display()),
        region: String::new(),
        bucket: String::new(),
        prefix: String::new(),
        access_key: String::new(),
        secret_key: String::new(),
        sealed: false,
        certificate: None,
    };
    let kit = RecoveryKit::parse(&String::from_utf8(sample("format-2/kit.txt")).unwrap()).unwrap();
    let keys = Keys::from(kit.key.parse::<Identity>().unwrap()).proving(kit.ledger_key.clone()).plainly();
    let scratch = folder.path().join("scratch");
    let opens = || {
        let (store, keys, scratch) = (Store::new(&address).unwrap(), keys.clone(), scratch.clone());
        runtime.block_on(async move {
            let replica = Replica::open(store, keys).await.ok()?;
            Some(replica.read_ledger(&scratch).await.map(|read| read.ledger.people.len()))
        })
    };
    let format = fs::read(place.join("FORMAT.json")).unwrap();
    feed(600, std::slice::from_ref(&format), |bytes| {
        fs::write(place.join("FORMAT.json"), bytes).unwrap();
        // Opened or not: whatever it says, nobody is added.
        ensure(opens().is_none_or(|people| people.is_ok_and(|n| n <= 1)), "it says more than it did")
    });
    fs::write(place.join("FORMAT.json"), format).unwrap();
    let newest = {
        let mut all: Vec<_> = fs::read_dir(place.join("ledger")).unwrap().flatten().map(|e| e.path()).collect();
        all.sort();
        fs::remove_dir_all(place.join("checkpoints")).unwrap();
        all.pop().unwrap()
    };
    let whole = fs::read(&newest).unwrap();
    feed(600, &[whole], |bytes| {
        fs::write(&newest, bytes).unwrap();
        ensure(opens().is_some_and(|people| people.is_ok_and(|n| n == 1)), "what is spoilt keeps the rest from being read")
    });
}

/// Archives that a disk may hold.
#[test]
fn archives() {
    let folder = tempfile::tempdir().unwrap();
    let names = ["2019/Rome/IMG_1.jpg", "2019/Rome/IMG_1.json", "note.txt"];
    let mut tar = tar::Builder::new(Vec::new());
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for name in names {
        let mut header = tar::Header::new_gnu();
        header.set_size(4);
        header.set_mode(0o644);
        header.set_mtime(1_700_000_000);
        tar.append_data(&mut header, name, &b"kite"[..]).unwrap();
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(b"kite").unwrap();
    }
    let (tar, zip) = (tar.into_inner().unwrap(), zip.finish().unwrap().into_inner());
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    packed.write_all(&tar).unwrap();
    for (file, bytes) in [("a.tar", tar), ("a.tgz", packed.finish().unwrap()), ("a.zip", zip)] {
        let (kind, path) = (ArchiveKind::of(file).unwrap(), folder.path().join(file));
        feed(1_500, &[bytes], |bytes| {
            fs::write(&path, bytes).unwrap();
            let (mut read, mut said) = (0u64, Ok(()));
            // It ends, in an error or not; what it names stays inside, and is no longer than could be packed into it.
            let _ = read_archive(File::open(&path).unwrap(), kind, &path, &mut |node, reader| {
                let inside = Path::new(std::ffi::OsStr::from_bytes(&node.path))
                    .components()
                    .all(|c| matches!(c, std::path::Component::Normal(_)));
                if !inside {
                    said = Err(format!("{:?} leads out", node.path));
                }
                read += std::io::copy(&mut reader.take(50 << 20), &mut std::io::sink()).unwrap_or(0);
                read < 100 << 20
            });
            said
        });
    }
}

/// Requests as no client would send them. The service answers each, and is still there.
/// Pictures and films as the demo's devices have them, smallest first, one of each kind and ending.
fn media() -> Vec<(String, Vec<u8>)> {
    let folder = tempfile::tempdir().unwrap();
    stage::pictures(folder.path(), Size { pictures: 24, width: 160, years: false, moving: true }, &|_, _| ()).unwrap();
    let mut files: Vec<_> = originals_below(folder.path()).unwrap().into_keys().map(|p| folder.path().join(p)).collect();
    files.sort_by_key(|p| (fs::metadata(p).unwrap().len(), p.clone()));
    let mut found = BTreeMap::new();
    for file in files {
        let (bytes, name) = (fs::read(&file).unwrap(), file.file_name().unwrap().to_str().unwrap().to_owned());
        let ending = file.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
        // An export's words, a camera's, a screenshot without any: what a file begins with says which it is.
        let kind = facts::read(&file, &name);
        found.entry((ending, kind.exif_original.is_some(), kind.told.is_some())).or_insert((name, bytes));
    }
    assert!(found.len() > 6, "{:?}", found.keys());
    let words = |name: &str, text: &str| (name.to_owned(), text.as_bytes().to_vec());
    let export = r#"{"title": "weir 1", "taken": 1776065730, "latitude": 51.8411, "longitude": 5.8529}"#;
    let xmp = r#"<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description xmlns:exif="http://ns.adobe.com/exif/1.0/" exif:DateTimeOriginal="2026-04-12T08:15:30+02:00"/></rdf:RDF></x:xmpmeta>"#;
    found.into_values().chain([words("IMG_2214.jpg.json", export), words("IMG_2214.xmp", xmp)]).collect()
}

/// What is said of a file can be kept and shown, whatever the file is.
fn believable(facts: &Facts) -> Result<(), String> {
    let words = [&facts.camera, &facts.lens, &facts.exposure, &facts.pair, &facts.problem, &facts.media_type];
    for word in words.into_iter().flatten() {
        ensure(word.chars().count() <= 300 && !word.chars().any(char::is_control), &format!("words that are none: {word:?}"))?;
    }
    ensure(facts.place.is_none_or(|(n, e)| n.abs() <= 90.0 && e.abs() <= 180.0), "a place that is nowhere")?;
    ensure(facts.seconds.is_none_or(|s| s.is_finite() && s >= 0.0), "a length that is none")?;
    ensure(facts.orientation.is_none_or(|o| (1..=8).contains(&o)), "turned by nothing that is known")?;
    let now = chrono::Utc::now();
    let moment = decide(facts, facts.told, "IMG_2214.jpg", Some(now), now, &chrono::Utc);
    let json = serde_json::to_string(facts).map_err(|e| e.to_string())?;
    ensure(!json.contains("\\u0000"), "a zero, which no database keeps")?;
    ensure(moment.at <= now + chrono::TimeDelta::days(2), &format!("taken in the future: {moment:?}"))
}

#[test]
fn facts_of_pictures() {
    let folder = tempfile::tempdir().unwrap();
    // Films and HEIC are read by libraries that only a confined child may call.
    let own = |name: &str| {
        [".jpg", ".png", ".webp", ".gif", ".dng", ".json", ".xmp"].iter().any(|e| name.to_ascii_lowercase().ends_with(e))
    };
    for (name, bytes) in media().into_iter().filter(|(name, _)| own(name)) {
        let place = folder.path().join(&name);
        feed(1500, &[bytes], |bytes| {
            fs::write(&place, bytes).map_err(|e| e.to_string())?;
            believable(&facts::read(&place, &name))
        });
    }
}

#[test]
fn facts_and_previews_by_a_child() {
    let folder = tempfile::tempdir().unwrap();
    let pool = Pool::new(program("ypogeiond").unwrap(), vec!["media-worker".into()], 2, Work::Pictures);
    for (name, bytes) in media().into_iter().filter(|(name, _)| !name.ends_with(".json") && !name.ends_with(".xmp")) {
        let (place, small, large) = (folder.path().join(&name), folder.path().join("small"), folder.path().join("large"));
        feed(15, &[bytes], |bytes| {
            fs::write(&place, bytes).map_err(|e| e.to_string())?;
            believable(&pool.facts(&place, &name))?;
            match pool.preview(&place, &name, ypogeion_core::turn::Turn::default(), &small, &large) {
                Ok(_) => ensure(small.is_file() && large.is_file(), "a preview that is none"),
                Err(why) => ensure(!why.is_empty() && !why.contains('/'), &format!("no word for a person: {why:?}")),
            }
        });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn requests() {
    let w = world().await;
    let given = w.keeper.ask(Method::POST, "api/devices", Some(json!({ "name": "Scanner" }))).await.unwrap();
    let program = Raw { token: given["password"].as_str().unwrap().to_owned(), ..w.raw_device("phone").await };
    assert_eq!(program.send("PUT", "dav/kite.jpg", &[], b"kite").await.status, 201);
    let xml = texts(&[
        r#"<?xml version="1.0" encoding="utf-8"?><D:propfind xmlns:D="DAV:"><D:prop><D:getetag/><x:mood xmlns:x="urn:x"/></D:prop></D:propfind>"#,
        r#"<D:propertyupdate xmlns:D="DAV:" xmlns:Z="urn:z"><D:set><D:prop><Z:mood>calm</Z:mood></D:prop></D:set><D:remove><D:prop><Z:old/></D:prop></D:remove></D:propertyupdate>"#,
        r#"<D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype><D:owner>me</D:owner></D:lockinfo>"#,
    ]);
    let sha = Digest::of(b"kite").to_string();
    let headers = texts(&[
        &metadata(&[("filename", "kite.jpg"), ("sha256", &sha), ("mtime", "2026-04-12T10:15:30Z"), ("source", "Camera")]),
        "partial",
        "final;/tus/0198a000-0000-7000-8000-000000000000 /tus/0198a000-0000-7000-8000-000000000001",
        "sha256 47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=",
        "bytes 0-3/4",
        "18446744073709551615",
    ]);
    let handle = tokio::runtime::Handle::current();
    let fed = tokio::task::spawn_blocking(move || {
        let ask = |method: &str, path: &str, headers: &[(&str, &[u8])], body: &[u8]| {
            let mut request = program
                .http
                .request(Method::from_bytes(method.as_bytes()).unwrap(), program.base.join(path).unwrap())
                .bearer_auth(&program.token);
            for (name, value) in headers {
                // A header that cannot be said at all is not sent.
                let Ok(value) = reqwest::header::HeaderValue::from_bytes(value) else { return Ok(()) };
                request = request.header(*name, value);
            }
            let status = handle.block_on(request.body(body.to_vec()).send()).map(|r| r.status().as_u16());
            // Refused by the server's own reader of HTTP, the line may be closed.
            ensure(status.as_ref().map_or(true, |s| *s < 500 || *s == 507), &format!("{method} {path}: {status:?}"))
        };
        feed(250, &xml, |body| {
            ["PROPFIND", "PROPPATCH", "LOCK"].iter().try_for_each(|method| ask(method, "dav/kite.jpg", &[("depth", b"0")], body))
        });
        feed(250, &headers, |value| {
            let tus: (&str, &[u8]) = ("tus-resumable", b"1.0.0");
            ask("POST", "tus/", &[tus, ("upload-length", b"4"), ("upload-metadata", value)], b"")?;
            ask("POST", "tus/", &[tus, ("upload-concat", value)], b"")?;
            ask("POST", "tus/", &[tus, ("upload-length", value)], b"")?;
            let bytes: (&str, &[u8]) = ("content-type", b"application/offset+octet-stream");
            ask("POST", "tus/", &[tus, ("upload-length", b"4"), bytes, ("upload-checksum", value)], b"kite")?;
            ask("PUT", "dav/new.jpg", &[("content-range", value)], b"kite")?;
            ask("GET", "dav/kite.jpg", &[("range", value), ("if-none-match", value), ("if-modified-since", value)], b"")?;
            ask("MOVE", "dav/kite.jpg", &[("destination", value), ("if", value), ("overwrite", value)], b"")
        });
    });
    fed.await.unwrap();
    assert_eq!(w.keeper.ask(Method::GET, "api/health", None).await.unwrap()["health"], "well");
    let people: BTreeMap<String, serde_json::Value> =
        serde_json::from_value(w.keeper.ask(Method::GET, "api/session", None).await.unwrap()).unwrap();
    assert_eq!(people["name"], "Juno");
}
