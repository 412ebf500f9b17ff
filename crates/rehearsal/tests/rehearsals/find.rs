//! Somebody looks for pictures: in the console, by the API, from a terminal.

use std::collections::{BTreeMap, BTreeSet};

use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_rehearsal::device::Device;

use crate::{
    common::{World, world},
    library::{Looking, MANY},
};

/// Some of those pictures are films, some were taken with a camera, some are called otherwise. The planner is told nothing
/// of it.
const VARIED: &str = "
    UPDATE original SET kind = 'video' WHERE right(name, 6) = '00.jpg';
    UPDATE original SET facts = facts || '{\"camera\": \"Fujifilm X100V\"}' WHERE right(name, 5) = '7.jpg';
    UPDATE original SET source = 'Café by the harbour' WHERE name BETWEEN 'IMG_0500.jpg' AND 'IMG_0520.jpg'";

fn encoded(line: &str) -> String {
    url::form_urlencoded::byte_serialize(line.as_bytes()).collect()
}

async fn found(w: &World, line: &str) -> Value {
    w.keeper.ask(Method::GET, &format!("api/find?suggest=true&line={}", encoded(line)), None).await.unwrap()
}

/// The told words of the parts, and how many pictures.
fn read(found: &Value) -> (Vec<&str>, u64) {
    let parts = found["parts"].as_array().unwrap().iter().map(|p| p["told"].as_str().unwrap());
    (parts.collect(), found["count"].as_u64().unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_types_is_understood_counted_and_found() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    w.house.sql(VARIED).unwrap();
    for (line, parts, count) in [
        ("videos", &["videos"][..], 40),
        ("2019", &["2019"], 10),
        ("videos 2025", &["videos", "2025"], 19),
        ("november 2025 not videos", &["November 2025", "not: videos"], 1971),
        ("fujifilm", &["taken with Fujifilm X100V"], 400),
        ("cafe HARBOUR", &["with “cafe” in its name or words", "with “HARBOUR” in its name or words"], 21),
        ("img_051", &["with “img_051” in its name or words"], 10),
        ("no copy offsite", &["no copy offsite"], 4000),
        ("", &[], 4000),
    ] {
        let found = found(&w, line).await;
        assert_eq!(read(&found), (parts.to_vec(), count), "{line}");
        // Every way to the pictures says the same.
        let find = encoded(line);
        let months = w.keeper.ask(Method::GET, &format!("api/months?find={find}"), None).await.unwrap();
        assert_eq!(months.as_array().unwrap().iter().map(|m| m["count"].as_u64().unwrap()).sum::<u64>(), count, "{line}");
        let page = w.keeper.ask(Method::GET, &format!("api/originals?limit=500&find={find}"), None).await.unwrap();
        assert_eq!(page["originals"].as_array().unwrap().len() as u64, count.min(500), "{line}");
    }
    // Which part nothing is like is said, and what was not looked for.
    let nothing = found(&w, "videos marmot ab").await;
    assert_eq!(nothing["count"], 0);
    let parts: Vec<(&str, bool)> = nothing["parts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| (p["told"].as_str().unwrap(), p["nothing"].as_bool().unwrap()))
        .collect();
    assert_eq!(parts, [("videos", false), ("with “marmot” in its name or words", true)]);
    assert_eq!(nothing["unknown"][0]["typed"], "ab");
    // What one is about to type.
    let suggested = found(&w, "2025 fuji").await;
    assert_eq!(suggested["suggestions"].as_array().unwrap().len(), 1, "{suggested}");
    assert_eq!(
        (suggested["suggestions"][0]["line"].as_str(), suggested["suggestions"][0]["count"].as_u64()),
        (Some("2025 Fujifilm X100V"), Some(199))
    );
    // Too long, and what is no line.
    for path in ["api/find?line=", "api/months?find=", "api/originals?find=", "api/months/2025-11/shape?find="] {
        let said = w.keeper.ask(Method::GET, &format!("{path}{}", encoded(&"ü".repeat(501))), None).await;
        assert!(said.unwrap_err().to_string().contains("may have 500 characters"), "{path}");
        w.keeper.ask(Method::GET, &format!("{path}{}", encoded(&"ü".repeat(500))), None).await.unwrap();
        w.keeper
            .ask(Method::GET, &format!("{path}{}", encoded("'; DROP TABLE original; -- %_\\ \u{202e}\0 \"a\0bc\"")), None)
            .await
            .unwrap();
    }
    // Somebody else's pictures are not found.
    let piet = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(piet)).await.unwrap();
    let piet = Device::new(&w.folder.path().join("piet"));
    piet.pair(&w.keeper.pairing("Piet").await.unwrap(), "laptop", "computer", &[]).await.unwrap();
    assert_eq!(piet.json(&["find", "videos"]).await.unwrap(), json!([]));
    // At a terminal: one path a line, newest first, as many as one wants.
    let (juno, _) = w.computer("desktop").await;
    let lines = juno.run(&["find", "videos", "not", "2026"]).await.unwrap().out;
    let lines: Vec<&str> = lines.lines().collect();
    assert_eq!((lines.len(), lines[0], lines[19]), (20, "juno/IMG_1900.jpg", "juno/IMG_0000.jpg"));
    assert_eq!(
        juno.run(&["find", "--limit", "3", "photos"]).await.unwrap().out,
        "juno/IMG_3999.jpg\njuno/IMG_3998.jpg\njuno/IMG_3997.jpg\n"
    );
    assert_eq!(juno.json(&["find", "--limit", "600", "since", "2026"]).await.unwrap().as_array().unwrap().len(), 600);
    // Whoever hands the list on gets nothing rather than too much.
    let refused = juno.run(&["find", "ab"]).await.unwrap();
    assert_eq!((refused.code, refused.out.as_str()), (2, ""));
    assert!(refused.err.contains("“ab” cannot be looked for: it is too short"), "{}", refused.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_looks_for_pictures_and_travels_among_what_was_found() {
    let l = Looking::at("library").await;
    l.w.house.sql(VARIED).unwrap();
    let sheet = |text: &str| format!("[...document.querySelectorAll('[data-at]')].every(l => l.textContent.includes('{text}'))");
    // From wherever one is, a stroke leads to the line; what is typed is counted before one asks for it.
    l.shows("IMG_3999").await;
    l.keys("/").await;
    l.until("the line to have the keys", "document.activeElement.role === 'combobox'").await;
    l.keys("vid").await;
    l.browser.wait_for_text("videos").await.unwrap();
    l.keys("\u{e015}").await;
    l.until("the first to be chosen", "document.querySelector('[role=option]')?.ariaSelected === 'true'").await;
    l.keys("\u{e007}").await;
    l.browser.wait_for_text("40 pictures of yours, in 3 months.").await.unwrap();
    l.shows("IMG_3900").await;
    l.until("films alone", &sheet("00.jpg")).await;
    l.until("the address", "location.search === '?find=videos'").await;
    // One more part, and what is meant by it.
    l.keys(" 2025\u{e007}").await;
    l.browser.wait_for_text("19 pictures of yours, in 1 month.").await.unwrap();
    // One picture: the next ones are taken with that camera as well, and back is where one was.
    l.browser.page.goto(l.w.house.http.join("library?find=fujifilm+2025").unwrap().as_str()).await.unwrap();
    l.browser.wait_for_text("199 pictures of yours, in 1 month.").await.unwrap();
    l.shows("IMG_1987").await;
    let open = "[...document.querySelectorAll('[data-at]')].find(l => l.textContent.includes('IMG_1987')).click()";
    l.browser.page.execute(open, vec![]).await.unwrap();
    l.until("the picture", "document.querySelector('[role=dialog] h2')?.textContent === 'IMG_1987.jpg'").await;
    l.keys("\u{e014}").await;
    l.until("the next older one", "document.querySelector('[role=dialog] h2').textContent === 'IMG_1977.jpg'").await;
    l.keys("\u{e012}\u{e012}").await;
    l.until("and newer ones", "document.querySelector('[role=dialog] h2').textContent > 'IMG_1977.jpg'").await;
    l.keys("\u{e00c}").await;
    let back = "!document.querySelector('[role=dialog]') && location.search.startsWith('?find=fujifilm+2025')";
    l.until("what was found", back).await;
    // A part can be left out; what was asked before is a step back; everything is a click away.
    let leave_out = "document.querySelector('[aria-label=\"Leave out: taken with Fujifilm X100V\"]').click()";
    l.browser.page.execute(leave_out, vec![]).await.unwrap();
    l.browser.wait_for_text("1,990 pictures of yours, in 1 month.").await.unwrap();
    l.browser.page.back().await.unwrap();
    l.browser.wait_for_text("199 pictures of yours, in 1 month.").await.unwrap();
    // How it is scrolled is in the address with what was looked for.
    l.browser.page.goto(l.w.house.http.join("library?find=not+videos&at=2025-11.1000").unwrap().as_str()).await.unwrap();
    l.browser.wait_for_text("3,960 pictures of yours").await.unwrap();
    l.until("the middle of the month", "[...document.querySelectorAll('[data-at^=\"2025-11.\"]')].some(l => Math.abs(Number(l.dataset.at.split('.')[1]) - 1000) < 20)").await;
    l.browser.click("Show everything").await.unwrap();
    l.browser.wait_for_text("4,000 pictures of yours, in 3 months.").await.unwrap();
    // What nobody has, and what is no word, is said in a sentence.
    l.browser.page.goto(l.w.house.http.join("library?find=marmot+2025+ab").unwrap().as_str()).await.unwrap();
    l.browser
        .wait_for_text("Nothing of yours is: with “marmot” in its name or words. Leave it out to see the rest.")
        .await
        .unwrap();
    l.browser.wait_for_text("Not looked for: “ab” (it is too short).").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}

/// Pictures in folders of which some are called so that their names, or what lies in them, is mixed up by whoever compares letters.
const FILED: &str = "
    UPDATE original SET path = (SELECT folder FROM person WHERE id = person) || '/' || to_char(taken_local, 'YYYY/MM') || '/' || name;
    UPDATE original o SET path = (SELECT folder FROM person WHERE id = person) || '/' || n.path FROM (VALUES
        (0, 'Old disk/a/1.jpg'), (1, 'Old disk/a/b/2.jpg'), (2, 'Old disk/a0'), (3, 'Old disk/a!.jpg'), (4, 'Old disk/a-b/4.jpg'), (5, 'Old disk/A B/5.jpg'),
        (6, 'Old disk/a0/6.jpg'), (7, 'Old disk/Ärger/7.jpg'), (8, 'Old disk/a.jpg'), (9, '10% of_it/9.jpg')
    ) n (n, path) WHERE o.name = 'IMG_000' || n.n || '.jpg';
    UPDATE original SET folded = lower(path)";

#[tokio::test(flavor = "multi_thread")]
async fn the_library_is_gone_through_by_its_folders() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    w.house.sql(FILED).unwrap();
    let look = async |of: &str| {
        let path = format!("api/folders?of={}", encoded(of));
        w.keeper.try_ask(Method::GET, &path, None).await.unwrap()
    };
    // All folders, as they follow from all paths.
    let paths = w.sql("SELECT path FROM original");
    let mut all: BTreeMap<String, (BTreeSet<String>, u64, u64)> = BTreeMap::new();
    for path in paths.lines() {
        let parts: Vec<&str> = path.split('/').collect();
        for depth in 1..parts.len() {
            let folder = all.entry(parts[..depth].join("/")).or_default();
            if depth + 1 == parts.len() {
                folder.1 += 1;
            } else {
                folder.0.insert(parts[..=depth].join("/"));
            }
            folder.2 += 1;
        }
    }
    assert!(all.len() > 12, "{:?}", all.keys());
    for (path, (folders, files, below)) in &all {
        let (status, told) = look(path).await;
        let told_folders: BTreeSet<String> =
            told["folders"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap().to_owned()).collect();
        assert_eq!(
            (status, &told_folders, told["files"].as_u64(), &told["more"]),
            (200, folders, Some(*files), &json!(false)),
            "{path}"
        );
        assert_eq!(told["folders"].as_array().unwrap().len(), folders.len(), "each once: {told}");
        let found = found(&w, &format!("folder \"{path}\"")).await;
        assert_eq!(read(&found), (vec![format!("in the folder {path}").as_str()], *below), "{path}");
    }
    let own = look("").await.1["path"].as_str().unwrap().to_owned();
    // Without the member's own folder, and in other letters; with others, and not.
    for (line, count) in [
        ("folder 2025/11", 1990),
        ("folder 2019/04", 0),
        ("FOLDER 2026", 2000),
        ("not folder 2026", 2000),
        ("folder 2025 img_051", 10),
    ] {
        assert_eq!(found(&w, line).await["count"], count, "{line}");
    }
    assert_eq!(look(&own.to_uppercase()).await.0, 200);
    for nowhere in [
        "..",
        "Piet",
        "/etc",
        &format!("{own}/nowhere"),
        &format!("{own}/../{own}"),
        &format!("{own}/2025/11/IMG_0100.jpg"),
        "%",
        &"x/".repeat(9000),
    ] {
        assert_eq!(look(nowhere).await.0, 404, "{}", &nowhere[..nowhere.len().min(40)]);
    }
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let (status, told) = piet.try_ask(Method::GET, "api/folders", None).await.unwrap();
    assert_eq!((status, &told["folders"], &told["files"]), (200, &json!([]), &json!(0)), "an empty part of the library is there");
    assert_eq!(piet.try_ask(Method::GET, &format!("api/folders?of={own}/2025"), None).await.unwrap().0, 404);
    // In the console.
    let l = Looking::of(w, "folders").await;
    l.browser.wait_for_text("Show all 4,000 pictures in it and below").await.unwrap();
    let click = async |text: &str| {
        let link = format!("[...document.querySelectorAll('main a')].find(a => a.textContent === '{text}')");
        l.until(text, &format!("!!{link}")).await;
        l.browser.page.execute(&format!("{link}.click()"), vec![]).await.unwrap();
    };
    click("2025").await;
    l.browser.wait_for_text("Show all 1,990 pictures").await.unwrap();
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    click("11").await;
    l.browser.wait_for_text("1,990 files in itself").await.unwrap();
    click("Show all 1,990 pictures in it and below").await;
    l.browser.wait_for_text(&format!("in the folder {own}/2025/11")).await.unwrap();
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
