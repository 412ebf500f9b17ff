//! The library's page, as one travels through it.

use data_encoding::BASE64;
use reqwest::Method;
use serde_json::json;
use ypogeion_rehearsal::{browser::Browser, wait_for};

use crate::common::{World, world};

/// Four thousand pictures of three months, as rows: nobody has to look at them.
pub const MANY: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, preview,
        shot, shot_key, source)
    SELECT n.id, p.id, NULL, sha256(n.i::text::bytea), 1, n.name, 'juno/' || n.name, 'juno/' || n.name, 'photo', n.at, n.at, 'exif',
           jsonb_build_object('width', 1000 + n.i * 37 % 4000, 'height', 1000 + n.i * 53 % 3000), now(), 'none', n.id, n.name, 'Camera'
    FROM (
        SELECT i, format('IMG_%s.jpg', lpad(i::text, 4, '0')) AS name, ('00000000-0000-7000-8000-' || lpad(to_hex(i), 12, '0'))::uuid AS id,
               CASE WHEN i < 10 THEN timestamp '2019-04-12 10:00' WHEN i < 2000 THEN timestamp '2025-11-02 10:00' ELSE timestamp '2026-04-12 10:00' END
                   + i * interval '1 minute' AS at
        FROM generate_series(0, 3999) i
    ) n, person p WHERE p.name = 'Juno';
    INSERT INTO standing (original, place, good, since) SELECT id, '00000000-0000-0000-0000-000000000000', true, now() FROM original";

/// However many pictures a month has: on the page are those that are near the screen, wherever one goes, and all of them can be come to.
#[tokio::test(flavor = "multi_thread")]
async fn a_long_month_is_on_the_page_only_where_one_looks() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.page.goto(w.house.http.join("library").unwrap().as_str()).await.unwrap();
    browser.wait_for_text("4,000 pictures of yours, in 3 months.").await.unwrap();
    let run = async |script: &str| browser.page.execute(script, vec![]).await.unwrap();
    // The newest is there, and no more than fits on a few screens. `first`: what is done each time before one looks.
    let shows = async |name: &str, first: &str| {
        let on_screen = format!(
            "{first}; return [...document.querySelectorAll('section li')].some(l => l.textContent.includes('{name}') \
             && l.getBoundingClientRect().bottom > 0 && l.getBoundingClientRect().top < innerHeight)"
        );
        let look = async || Ok((run(&on_screen).await == json!(true)).then_some(()));
        wait_for(&format!("{name} to be on the screen"), 60, look).await.unwrap();
        let elements = run("return document.querySelectorAll('*').length").await.as_u64().unwrap();
        assert!((100..1500).contains(&elements), "{elements} elements at {name}");
    };
    shows("IMG_3999", "").await;
    // Nothing lies over another, nothing is wider than the sheet, and each row is filled.
    let overlaps = "const all = [...document.querySelectorAll('section li')].map(l => l.getBoundingClientRect()); \
        const sheet = document.querySelector('section').getBoundingClientRect(); \
        return all.filter((a, i) => a.left < sheet.left - 1 || a.right > sheet.right + 1 \
            || all.some((b, j) => j > i && a.left < b.right - 1 && b.left < a.right - 1 && a.top < b.bottom - 1 && b.top < a.bottom - 1)).length";
    assert_eq!(run(overlaps).await, json!(0));
    // On to the end, as fast as the wheel goes: what has not come yet comes, and what is behind goes. The end goes on, too, until all that lies
    // just above it has come.
    shows("IMG_0000", "window.scrollTo(0, document.documentElement.scrollHeight)").await;
    // Back by the years, which is a jump, and to the first.
    run("document.querySelector('nav[aria-label=Years] a').click()").await;
    shows("IMG_3999", "").await;
    run("window.scrollTo(0, document.documentElement.scrollHeight / 2)").await;
    let middle = "const all = [...document.querySelectorAll('section li')].filter(l => l.getBoundingClientRect().top < innerHeight && l.getBoundingClientRect().bottom > 0); return all.length";
    wait_for("pictures in the middle", 30, async || Ok((run(middle).await.as_u64() > Some(5)).then_some(()))).await.unwrap();
    assert_eq!(run(overlaps).await, json!(0));
    assert_eq!(browser.complaints().await.unwrap(), Vec::<String>::new());
}

/// A page with all of these pictures, and somebody who looks at it.
pub struct Looking {
    pub browser: Browser,
    pub w: World,
}

impl Looking {
    pub async fn at(page: &str) -> Self {
        let w = world().await;
        w.house.sql(MANY).unwrap();
        let looking = Self::of(w, page).await;
        looking.browser.wait_for_text("4,000 pictures of yours, in 3 months.").await.unwrap();
        looking
    }

    /// The keeper looks at a page of a house.
    pub async fn of(w: World, page: &str) -> Self {
        let browser = Browser::start(1280, 800).await.unwrap();
        browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
        browser.page.goto(w.house.http.join(page).unwrap().as_str()).await.unwrap();
        Looking { browser, w }
    }

    pub async fn until(&self, what: &str, holds: &str) {
        let look =
            async || Ok((self.browser.page.execute(&format!("return {holds}"), vec![]).await? == json!(true)).then_some(()));
        if let Err(e) = wait_for(what, 30, look).await {
            let there = "return [location.href, scrollY, document.activeElement.textContent, \
                [...document.querySelectorAll('[data-at]')].map(l => l.textContent).join(' ').slice(0, 900)]";
            panic!("{e}: {}", self.browser.page.execute(there, vec![]).await.unwrap());
        }
    }

    pub async fn shows(&self, name: &str) {
        let on_screen = format!(
            "[...document.querySelectorAll('[data-at]')].some(l => l.textContent.includes('{name}') \
             && l.getBoundingClientRect().bottom > 0 && l.getBoundingClientRect().top < innerHeight)"
        );
        self.until(&format!("{name} to be on the screen"), &on_screen).await;
    }

    /// Presses a button once it is there, by what stands on it.
    pub async fn press(&self, text: &str) {
        let button =
            format!("[...document.querySelectorAll('button')].find(b => b.textContent.trim() === {text:?} && !b.disabled)");
        self.until(&format!("the button {text:?}"), &format!("!!{button}")).await;
        self.browser.page.execute(&format!("{button}.click()"), vec![]).await.unwrap();
    }

    /// Opens a picture of the sheet.
    pub async fn open(&self, id: &str) {
        let picture = format!("document.querySelector('[data-id=\"{id}\"]')");
        self.until("the picture on the sheet", &format!("!!{picture}")).await;
        self.browser.page.execute(&format!("{picture}.click()"), vec![]).await.unwrap();
        self.until("the picture to be open", "!!document.querySelector('[role=dialog] h2')").await;
    }

    /// The picture that the keys are at.
    async fn stands_at(&self, name: &str) {
        self.until(&format!("the keys to be at {name}"), &format!("document.activeElement.textContent.includes('{name}')")).await;
        self.shows(name).await;
    }

    pub async fn keys(&self, keys: &str) {
        // What has them may be drawn anew between the two: then nothing was typed.
        let typed = async || Ok(self.browser.page.active_element().await?.send_keys(keys).await.ok());
        wait_for("the keys to be taken", 10, typed).await.unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_month_tells_how_its_pictures_lie_before_any_of_them_is_asked_for() {
    let w = world().await;
    w.house.sql(MANY).unwrap();
    let ask = async |path: &str| w.keeper.ask(Method::GET, path, None).await;
    for (month, count) in [("2026-04", 2000), ("2025-11", 1990), ("2019-04", 10), ("1987-01", 0)] {
        let shape = ask(&format!("api/months/{month}/shape")).await.unwrap();
        let told = BASE64.decode(shape["proportions"].as_str().unwrap().as_bytes()).unwrap();
        assert_eq!(told.len(), count, "{month}");
        let starts = shape["starts"].as_array().unwrap();
        let portion = usize::try_from(shape["portion"].as_u64().unwrap()).unwrap();
        assert_eq!(starts.len(), count.div_ceil(portion).saturating_sub(1), "{month}");
        // Portion by portion they are the pictures of the month, each once and in order, and as wide as was said.
        let mut all = Vec::new();
        for after in std::iter::once(String::new()).chain(starts.iter().map(|s| format!("&after={}", s.as_str().unwrap()))) {
            let page = ask(&format!("api/originals?month={month}&limit={portion}{after}")).await.unwrap();
            all.extend(page["originals"].as_array().unwrap().clone());
        }
        assert_eq!(all.len(), count, "{month}");
        assert!(all.windows(2).all(|two| two[0]["taken_local"].as_str() >= two[1]["taken_local"].as_str()), "{month}");
        for (picture, byte) in all.iter().zip(&told) {
            let ratio = picture["width"].as_f64().unwrap() / picture["height"].as_f64().unwrap();
            assert!((2f64.powf((f64::from(*byte) - 128.0) / 32.0) / ratio - 1.0).abs() < 0.02, "{byte}: {picture}");
        }
    }
    for wrong in ["2026-13", "2026-04-01", "april", "..", "2026-04%2F"] {
        let said = ask(&format!("api/months/{wrong}/shape")).await;
        assert!(said.is_err(), "{wrong}: {said:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_leads_to_a_picture_and_back_to_its_row() {
    let l = Looking::at("library?at=2025-11.1000").await;
    l.shows("IMG_0999").await;
    // Looked at, turned, and closed: one is where one was.
    l.browser
        .page
        .execute("[...document.querySelectorAll('[data-at]')].find(l => l.textContent.includes('IMG_0999')).click()", vec![])
        .await
        .unwrap();
    l.browser.wait_for_text("How safe it is").await.unwrap();
    l.browser.wait_for_text("IMG_0999").await.unwrap();
    l.keys("\u{e014}").await;
    l.until("the next older one", "document.querySelector('[role=dialog] h2').textContent === 'IMG_0998.jpg'").await;
    l.keys("\u{e012}\u{e012}").await;
    l.until("and back, or beyond", "document.querySelector('[role=dialog] h2').textContent > 'IMG_0998.jpg'").await;
    l.keys("\u{e00c}").await;
    l.until("the page of the library", "!document.querySelector('[role=dialog]')").await;
    l.shows("IMG_0999").await;
    // Where one has gone is where a reload leads, and going back from another page.
    l.browser.page.execute("window.scrollBy(0, 6000)", vec![]).await.unwrap();
    l.until(
        "the address to follow",
        "/at=2025-11\\.\\d+$/.test(location.search) && Number(location.search.split('.')[1]) > 1050",
    )
    .await;
    let name = "[...document.querySelectorAll('[data-at]')].find(l => l.getBoundingClientRect().top > 0).textContent.slice(0, 8)";
    l.until("pictures there", &format!("!!({name})")).await;
    let there = l.browser.page.execute(&format!("return {name}"), vec![]).await.unwrap();
    let there = there.as_str().unwrap();
    l.browser.page.refresh().await.unwrap();
    l.shows(there).await;
    l.browser.click("Overview").await.unwrap();
    l.until("another page", "location.pathname === '/'").await;
    l.browser.page.back().await.unwrap();
    l.shows(there).await;
    // What is no place in the library is the library.
    l.browser.page.goto(l.w.house.http.join("library?at=2025-11.x<b>").unwrap().as_str()).await.unwrap();
    l.shows("IMG_3999").await;
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_keyboard_and_the_years_lead_through_the_library() {
    let l = Looking::at("library").await;
    l.shows("IMG_3999").await;
    l.browser.page.execute("document.querySelector('[data-at]').focus()", vec![]).await.unwrap();
    l.keys("\u{e014}\u{e014}\u{e012}").await;
    l.stands_at("IMG_3998").await;
    // Down and up again is the same row, if not always the same picture.
    l.keys("\u{e015}\u{e015}\u{e015}\u{e013}\u{e013}\u{e013}").await;
    l.until(
        "the first row",
        "document.activeElement.dataset.at?.startsWith('2026-04.') && document.activeElement.parentElement.style.top === '0px'",
    )
    .await;
    l.keys("\u{e010}").await;
    l.stands_at("IMG_0000").await;
    l.keys("\u{e011}").await;
    l.stands_at("IMG_3999").await;
    // A year, from wherever one is; and one of which there is nothing.
    l.keys("20").await;
    l.browser.wait_for_text("Year 20··").await.unwrap();
    l.keys("19").await;
    l.stands_at("IMG_0009").await;
    l.keys("1987").await;
    l.browser.wait_for_text("No pictures from 1987").await.unwrap();
    l.shows("IMG_0009").await;
    // The strata: pointed at, they say the month; dragged along, they lead there.
    let point = |kind: &str, buttons: u8, year: &str| {
        format!(
            "const a = [...document.querySelectorAll('nav[aria-label=Years] a')].find(a => a.textContent.includes('{year}')).getBoundingClientRect(); \
             document.querySelector('nav[aria-label=Years]').dispatchEvent(new PointerEvent('{kind}', \
             {{ bubbles: true, buttons: {buttons}, clientX: a.left + 5, clientY: a.top + a.height / 2 }}))"
        )
    };
    l.browser.page.execute(&point("pointermove", 0, "2025"), vec![]).await.unwrap();
    l.browser.wait_for_text("November 2025 1,990 pictures").await.unwrap();
    l.shows("IMG_0009").await;
    l.browser.page.execute(&point("pointermove", 1, "2025"), vec![]).await.unwrap();
    l.shows("IMG_1999").await;
    assert_eq!(l.browser.barriers().await.unwrap(), Vec::<String>::new());
    assert_eq!(l.browser.complaints().await.unwrap(), Vec::<String>::new());
}
