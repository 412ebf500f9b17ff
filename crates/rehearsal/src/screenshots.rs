//! The pictures of all pages, taken from the demo household.

use std::{fs, path::Path};

use reqwest::Method;
use serde_json::json;
use url::Url;
use ypogeion_demo::{DEVICES, PEOPLE, disk};
use ypogeion_rehearsal::{
    Step, Trouble,
    browser::Browser,
    house::{House, Options},
    stage::Stage,
    wait_for,
};
use ypogeion_standins::faults::Faults;

/// Somebody who looks at pages and keeps what they see.
struct Camera<'a> {
    browser: Browser,
    base: Url,
    to: &'a Path,
}

impl Camera<'_> {
    async fn open(&self, page: &str) -> Step<()> {
        Ok(self.browser.page.goto(self.base.join(page)?.as_str()).await?)
    }

    /// Opens a page and waits for a part of it.
    async fn at(&self, page: &str, part: &str) -> Step<()> {
        self.open(page).await?;
        self.browser.wait(part).await
    }

    async fn run(&self, script: &str) -> Step<()> {
        self.browser.page.execute(script, vec![]).await?;
        Ok(())
    }

    async fn press(&self, selector: &str) -> Step<()> {
        self.browser.wait(selector).await?;
        self.run(&format!("document.querySelector({selector:?}).click()")).await
    }

    async fn write(&self, selector: &str, text: &str) -> Step<()> {
        self.browser.wait(selector).await?;
        Ok(self.browser.page.find(fantoccini::Locator::Css(selector)).await?.send_keys(text).await?)
    }

    async fn scroll_to(&self, id: &str) -> Step<()> {
        self.browser.wait(&format!("#{id}")).await?;
        self.run(&format!("document.getElementById({id:?}).scrollIntoView()")).await
    }

    async fn keep(&self, file: &str) -> Step<()> {
        println!("  {file}");
        Ok(fs::write(self.to.join(file), self.browser.picture().await?)?)
    }
}

/// The keeper at a screen of this size.
async fn keeper<'a>(stage: &Stage, (width, height): (u32, u32), to: &'a Path) -> Step<Camera<'a>> {
    let (browser, base) = (Browser::start(width, height).await?, stage.house.http.clone());
    browser.sign_in(&base, PEOPLE[0].name, PEOPLE[0].password).await?;
    Ok(Camera { browser, base, to })
}

const DESK: (u32, u32) = (1280, 800);
const PHONE: (u32, u32) = (375, 812);

/// Has the household live in `live`, and takes the pictures.
pub async fn take(live: &Path, pictures: &Path, to: &Path) -> Step<()> {
    fs::create_dir_all(to)?;
    let stage = evening(live, pictures).await?;
    {
        let desk = keeper(&stage, DESK, to).await?;
        the_library(&desk).await?;
        the_house(&desk).await?;
        what_happened(&desk, &stage).await?;
    }
    {
        let phone = keeper(&stage, PHONE, to).await?;
        phone.browser.wait("figure").await?;
        phone.keep("phone-overview.png").await?;
        phone.open("night").await?;
        phone.browser.click("Let this browser send").await?;
        phone.browser.wait("input[type=file]").await?;
        phone.keep("phone-night.png").await?;
    }
    // An old disk: its album was taken over, and the plan for the rest waits for a word.
    stage.connect_disk()?;
    adopted(&stage, &format!("{}/Album export.zip", disk::NAME), true).await?;
    adopted(&stage, disk::NAME, false).await?;
    let desk = keeper(&stage, DESK, to).await?;
    desk.open("library/adopt").await?;
    desk.browser.wait_for_text("waiting for your OK").await?;
    desk.keep("adopt.png").await?;
    the_door(&stage, live, to).await?;
    drop(stage);
    Ok(fs::remove_dir_all(live)?)
}

/// A household in the state that a keeper sees most evenings: some are away, some are still on their way.
async fn evening(live: &Path, pictures: &Path) -> Step<Stage> {
    // Where that is to be had, the one whose address names no port.
    let store_port = if std::net::TcpListener::bind(("127.0.0.1", 80)).is_ok() { 80 } else { 0 };
    let mut stage = Stage::raise(live, pictures, ((0, 0), store_port), true).await?;
    stage.add_store().await?;
    stage.settle_in(PEOPLE[0].password).await?;
    stage.live().await?;
    stage.keeper.wait_until_proven(240).await?;
    checked(&stage).await?;
    // From here on the house says its own name, and no machine's port.
    stage.house.options.settings += "advertise = \"https://mill-house.home.arpa\"\n";
    stage.house.write_settings()?;
    stage.house.stop_service().await?;
    stage.house.start_service().await?;
    stage.house.store.set_faults(Faults { latency_ms: 2500, ..Faults::default() });
    stage.send_partly().await?;
    Ok(stage)
}

async fn the_library(desk: &Camera<'_>) -> Step<()> {
    desk.browser.wait("figure").await?;
    desk.keep("overview.png").await?;
    desk.run("document.documentElement.dataset.theme = 'dark'").await?;
    desk.keep("overview-dark.png").await?;
    desk.run("delete document.documentElement.dataset.theme").await?;
    desk.at("library", "section li img").await?;
    desk.keep("library.png").await?;
    // Down to the kites, as a person would: by the months.
    desk.scroll_to("month-2026-06").await?;
    desk.browser.wait("#month-2026-06 li:nth-child(6) img").await?;
    desk.press("#month-2026-06 li:nth-child(6) button").await?;
    desk.browser.wait("[role=dialog] dl").await?;
    desk.browser.wait("[role=dialog] img").await?;
    desk.keep("original.png").await?;
    desk.at("albums", "li li img").await?;
    desk.keep("albums.png").await?;
    desk.browser.click("Fog in the harbour").await?;
    desk.browser.wait("ul[aria-label='Pictures and words'] li:nth-child(6) img").await?;
    desk.keep("album.png").await?;
    desk.at("places", "[role=group] button img").await?;
    // Until land is drawn, and what lies on it has come.
    tokio::time::sleep(std::time::Duration::from_secs(2)).await;
    let most = "const all = [...document.querySelectorAll('[role=group] button[aria-pressed]')]; all[0].click()";
    desk.browser.page.execute(most, vec![]).await?;
    desk.browser.wait("section[aria-label='What was taken there'] li img").await?;
    desk.keep("places.png").await
}

async fn the_house(desk: &Camera<'_>) -> Step<()> {
    desk.at("devices", "table").await?;
    desk.keep("devices.png").await?;
    desk.browser.click(DEVICES[0].name).await?;
    desk.browser.wait("[role=dialog] table").await?;
    desk.keep("device.png").await?;
    desk.open("rules").await?;
    desk.press("[role=radio][value=device-month]").await?;
    desk.browser.wait_for_text("would move. For example:").await?;
    desk.keep("house-rules.png").await?;
    desk.at("offsite", "dl").await?;
    desk.keep("offsite.png").await?;
    desk.scroll_to("checks").await?;
    desk.keep("checks.png").await?;
    desk.scroll_to("key").await?;
    desk.browser.click("Show the kit").await?;
    desk.write("[role=dialog] input", PEOPLE[0].password).await?;
    desk.browser.click("Show the kit").await?;
    desk.browser.wait("[role=dialog] pre").await?;
    desk.keep("recovery-kit.png").await
}

async fn what_happened(desk: &Camera<'_>, stage: &Stage) -> Step<()> {
    desk.at("activity", "table").await?;
    desk.browser.click("Log").await?;
    desk.browser.wait("table ul li").await?;
    desk.keep("activity.png").await?;
    deleted(stage).await?;
    desk.at("restore", "li img").await?;
    desk.press("li [role=checkbox]").await?;
    desk.keep("restore.png").await
}

/// The house is gone: a new machine, and the kit.
async fn the_door(stage: &Stage, live: &Path, to: &Path) -> Step<()> {
    let kit = stage.keeper.kit(PEOPLE[0].password).await?;
    let mut options = Options::test(&live.with_file_name("new-machine"));
    let _ = fs::remove_dir_all(&options.folder);
    options.reserve_gb = 1;
    let mut new = House::bare(options).await?;
    let code = new.start_at_door().await?;
    let desk = Camera { browser: Browser::start(DESK.0, DESK.1).await?, base: new.http.clone(), to };
    desk.open("").await?;
    desk.write("[name=code]", &code).await?;
    desk.browser.click("Continue").await?;
    desk.press("[role=radio][value=back]").await?;
    for (field, text) in [("kit", kit.as_str()), ("password", "another long password"), ("once", "another long password")] {
        desk.write(&format!("[name={field}]"), text).await?;
    }
    desk.run("document.activeElement.blur(); document.querySelector('textarea').scrollTo(0, 0); scrollTo(0, 0)").await?;
    desk.keep("door.png").await?;
    new.stop_service().await?;
    Ok::<_, Trouble>(fs::remove_dir_all(&new.options.folder)?)
}

/// Five pictures too many are deleted, two of them for good: more than may leave within a day.
async fn deleted(stage: &Stage) -> Step<()> {
    let page = stage.keeper.ask(Method::GET, "api/originals?month=2026-06&limit=500", None).await?;
    let ids: Vec<_> = page["originals"].as_array().into_iter().flatten().map(|o| o["id"].clone()).take(5).collect();
    stage.keeper.ask(Method::POST, "api/holding", Some(json!({ "originals": ids }))).await?;
    stage.keeper.ask(Method::PATCH, "api/household", Some(json!({ "safety_stop_percent": 1 }))).await?;
    stage.keeper.ask(Method::POST, "api/holding/end", Some(json!({ "originals": ids[..2] }))).await?;
    Ok(())
}

/// The store loses two copies; then everything is read again, compared, and brought back in a drill.
async fn checked(stage: &Stage) -> Step<()> {
    let store = stage.keeper.store().await?.id;
    stage.house.store.lose(2)?;
    for (store, kind) in [(Some(store), "listing"), (None, "reading"), (Some(store), "reading"), (Some(store), "drill")] {
        let form = json!({ "store": store, "kind": kind });
        stage.keeper.ask(Method::POST, "api/checks", Some(form)).await?;
        wait_for("the check to end", 120, async || {
            let checks = stage.keeper.ask(Method::GET, "api/checks", None).await?;
            let this =
                checks["checks"].as_array().and_then(|c| c.iter().find(|c| c["store"] == json!(store) && c["kind"] == kind));
            Ok(this.is_some_and(|c| c["now"].is_null() && c["last"].is_object()).then_some(()))
        })
        .await?;
        stage.keeper.wait_until_proven(240).await?;
    }
    Ok(())
}

/// Looks through something on the old disk, and takes it over if that is wanted.
async fn adopted(stage: &Stage, name: &str, take: bool) -> Step<()> {
    let people = stage.keeper.ask(Method::GET, "api/people", None).await?;
    let person = people.as_array().and_then(|p| p.iter().find(|p| p["name"] == PEOPLE[0].name)).ok_or("the keeper is there")?;
    let form = json!({ "path": stage.house.disks().join(name), "person": person["id"], "in_place": false });
    let begun = stage.keeper.ask(Method::POST, "api/adoptions", Some(form)).await?;
    let id = begun["id"].as_str().ok_or("an adoption has an id")?.to_owned();
    let reached = async |state: &'static str| {
        wait_for(&format!("an adoption to be {state}"), 60, async || {
            let all = stage.keeper.ask(Method::GET, "api/adoptions", None).await?;
            Ok(all.as_array().is_some_and(|a| a.iter().any(|a| a["id"] == id.as_str() && a["state"] == state)).then_some(()))
        })
        .await
    };
    reached("planned").await?;
    if take {
        stage.keeper.ask(Method::PATCH, &format!("api/adoptions/{id}"), Some(json!({ "order": "begin" }))).await?;
        reached("done").await?;
    }
    Ok(())
}
