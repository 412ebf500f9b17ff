//! `ypogeion-rehearsal`: the demo, its walk-through, its pictures, and the benchmark. Called by `cargo xtask`.

use std::{fs, path::PathBuf, process::ExitCode, time::Duration};

use clap::{Parser, Subcommand};
use reqwest::Method;
use serde_json::json;
use ypogeion_demo::{DEVICES, PEOPLE, Size, disk};
use ypogeion_rehearsal::{
    Step, Trouble, bench,
    browser::Browser,
    campaign, day,
    house::{House, Options},
    stage,
    stage::Stage,
    wait_for, walk,
};
use ypogeion_standins::faults::Faults;

#[derive(Parser)]
struct Arguments {
    /// Everything is made below this folder.
    #[arg(long)]
    folder: PathBuf,
    #[command(subcommand)]
    command: What,
}

#[derive(Subcommand)]
enum What {
    /// Start the demo and stay.
    Demo {
        /// Let four phones live through a day first, faster than life.
        #[arg(long)]
        day: bool,
    },
    /// Tell the whole story and compare every number.
    WalkThrough {
        /// Write the account as JSON, too.
        #[arg(long)]
        report: Option<PathBuf>,
    },
    /// Take the pictures of all pages.
    Screenshots {
        /// Where to.
        #[arg(long)]
        to: PathBuf,
    },
    /// Live in a house at random and strike it at random, and look at it from outside after each step.
    Campaign {
        /// How many steps.
        #[arg(long, default_value_t = 10_000)]
        steps: u64,
        /// Which ones.
        #[arg(long, default_value_t = 1)]
        seed: u64,
    },
    /// Measure against the limits of this machine.
    Bench {
        /// Only these rows; a row that needs what another one made measures that one, too.
        #[arg(long)]
        row: Vec<bench::Row>,
        /// Photos to send.
        #[arg(long, default_value_t = 1000)]
        photos: usize,
        /// Small files in the tree of the second run.
        #[arg(long, default_value_t = 100_000)]
        tree: usize,
        /// Originals of the large household.
        #[arg(long, default_value_t = 1_000_000)]
        originals: u64,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    let _ = rustls::crypto::ring::default_provider().install_default();
    match run(Arguments::parse()).await {
        Ok(code) => code,
        Err(e) => {
            eprintln!("{e}");
            ExitCode::FAILURE
        }
    }
}

async fn run(arguments: Arguments) -> Step<ExitCode> {
    fs::create_dir_all(&arguments.folder)?;
    let folder = arguments.folder.canonicalize()?;
    let pictures = folder.join("pictures");
    let live = match arguments.command {
        // Pages show where things are; pictures of them show no machine's own folders.
        What::Screenshots { .. } => {
            // Emptied below: only what earlier pictures left there, never a folder of somebody else's.
            let ours = |folder: &PathBuf| !folder.exists() || folder.join("north-quay").is_dir();
            let server = PathBuf::from("/srv/mill-house");
            let free = ours(&server) && ours(&server.with_file_name("new-machine")) && fs::create_dir_all(&server).is_ok();
            if free { server } else { std::env::temp_dir().join("mill-house") }
        }
        _ => folder.join("house"),
    };
    if !matches!(arguments.command, What::Bench { .. } | What::Campaign { .. }) {
        let tell = |drawn: usize, of: usize| {
            if drawn == 1 || drawn.is_multiple_of(40) || drawn == of {
                println!("Drawing the demo household’s pictures, once: {drawn} of {of}");
            }
        };
        stage::pictures(&pictures, Size::WHOLE, &tell)?;
        // An earlier demo that was killed may have left its database running.
        ypogeion_catalog::cluster::stop(&live.join("data/database"))?;
        if live.exists() {
            fs::remove_dir_all(&live)?;
        }
    }
    match arguments.command {
        What::Demo { day } => {
            let stage = Stage::raise(&live, &pictures, ((8740, 8743), 0), false).await?;
            stage.add_store().await?;
            stage.settle_in(PEOPLE[0].password).await?;
            println!("Mill House is running; its devices are sending …");
            stage.live().await?;
            stage.send_partly().await?;
            stage.connect_disk()?;
            if day {
                println!("\nA day in the house, an hour in less than a second:");
                day::live(&stage.keeper, &live.join("phones"), Duration::from_millis(600), |line| println!("  {line}")).await?;
            }
            println!("\n  Console   {}", stage.house.http);
            for person in &PEOPLE {
                println!("  Sign in   {:<10}  {:<20}  ({})", person.name, person.password, person.role);
            }
            println!("  Library   {}", stage.house.library().display());
            println!("  Store     {} (its faults: http://{}/faults)", stage.house.store.url(), stage.house.store.control);
            println!("  Old disk  {} (adopt it in the console, under Library)", stage.house.disks().join(disk::NAME).display());
            println!("  A device  YPOGEION_DEVICE={} ypogeion status", stage.devices[0].folder().display());
            println!("\nCtrl-C ends it.");
            tokio::signal::ctrl_c().await?;
            println!("\nStopping …");
            let mut stage = stage;
            stage.house.stop_service().await?;
            Ok(ExitCode::SUCCESS)
        }
        What::WalkThrough { report } => {
            let account = walk::walk(&live, &pictures).await?;
            println!("\n{}", account.table());
            println!("{}", if account.agrees { "Every number agrees." } else { "Some numbers differ." });
            if let Some(path) = report {
                fs::write(path, serde_json::to_string_pretty(&account)? + "\n")?;
            }
            Ok(if account.agrees { ExitCode::SUCCESS } else { ExitCode::FAILURE })
        }
        What::Screenshots { to } => {
            screenshots(&live, &pictures, &to).await?;
            Ok(ExitCode::SUCCESS)
        }
        What::Campaign { steps, seed } => {
            let place = tempfile::Builder::new().prefix("campaign-").tempdir_in(&folder)?;
            let account = match campaign::run(place.path(), seed, steps, &|line| println!("{line}")).await {
                Ok(account) => account,
                Err(e) => return Err(format!("{e}\nThe house is left as it was, in {}", place.keep().display()).into()),
            };
            let (cuts, folders, files) = account.cuts;
            println!(
                "\n{} steps, {} kills, {} times looked at whole; nothing was violated.\n\
                 The power was cut {cuts} times; {folders} folders forgot names and {files} files forgot bytes.",
                account.steps, account.kills, account.rests
            );
            for (what, often) in &account.done {
                println!("  {often:>6}  {what}");
            }
            Ok(ExitCode::SUCCESS)
        }
        What::Bench { row, photos, tree, originals } => {
            bench::run(&folder, &row, (photos, tree, originals)).await?;
            Ok(ExitCode::SUCCESS)
        }
    }
}

async fn screenshots(live: &std::path::Path, pictures: &std::path::Path, to: &std::path::Path) -> Step<()> {
    fs::create_dir_all(to)?;
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
    // Some are away, some are still on their way: the state that a keeper sees most evenings.
    stage.send_partly().await?;
    let (name, password) = (PEOPLE[0].name, PEOPLE[0].password);
    let keep = |file: &str, png: Vec<u8>| {
        println!("  {file}");
        fs::write(to.join(file), png)
    };
    let base = stage.house.http.clone();
    {
        let wide = Browser::start(1280, 800).await?;
        wide.sign_in(&base, name, password).await?;
        wide.wait("figure").await?;
        keep("overview.png", wide.picture().await?)?;
        wide.page.execute("document.documentElement.dataset.theme = 'dark'", vec![]).await?;
        keep("overview-dark.png", wide.picture().await?)?;
        wide.page.execute("delete document.documentElement.dataset.theme", vec![]).await?;
        wide.page.goto(base.join("library")?.as_str()).await?;
        wide.wait("section li img").await?;
        keep("library.png", wide.picture().await?)?;
        // Down to the kites, as a person would: by the months.
        wide.page.execute("document.getElementById('month-2026-06').scrollIntoView()", vec![]).await?;
        wide.wait("#month-2026-06 li:nth-child(6) img").await?;
        wide.page.execute("document.querySelector('#month-2026-06 li:nth-child(6) button').click()", vec![]).await?;
        wide.wait("[role=dialog] dl").await?;
        wide.wait("[role=dialog] img").await?;
        keep("original.png", wide.picture().await?)?;
        wide.page.goto(base.join("devices")?.as_str()).await?;
        wide.wait("table").await?;
        keep("devices.png", wide.picture().await?)?;
        wide.click(DEVICES[0].name).await?;
        wide.wait("[role=dialog] table").await?;
        keep("device.png", wide.picture().await?)?;
        wide.page.goto(base.join("rules")?.as_str()).await?;
        wide.wait("[role=radio][value=device-month]").await?;
        wide.page.execute("document.querySelector('[role=radio][value=device-month]').click()", vec![]).await?;
        wide.wait_for_text("would move. For example:").await?;
        keep("house-rules.png", wide.picture().await?)?;
        wide.page.goto(base.join("devices")?.as_str()).await?;
        wide.wait("table").await?;
        wide.click("Pair a device").await?;
        wide.click("Piet’s").await?;
        wide.wait("[role=dialog] svg").await?;
        keep("pairing.png", wide.picture().await?)?;
        wide.page.goto(base.join("offsite")?.as_str()).await?;
        wide.wait("dl").await?;
        keep("offsite.png", wide.picture().await?)?;
        wide.wait("#checks").await?;
        wide.page.execute("document.getElementById('checks').scrollIntoView()", vec![]).await?;
        keep("checks.png", wide.picture().await?)?;
        wide.wait("#key").await?;
        wide.page.execute("document.getElementById('key').scrollIntoView()", vec![]).await?;
        keep("keys.png", wide.picture().await?)?;
        wide.click("Show the kit").await?;
        wide.wait("[role=dialog] input").await?;
        wide.page.find(fantoccini::Locator::Css("[role=dialog] input")).await?.send_keys(password).await?;
        wide.click("Show the kit").await?;
        wide.wait("[role=dialog] pre").await?;
        keep("recovery-kit.png", wide.picture().await?)?;
        wide.page.goto(base.join("activity")?.as_str()).await?;
        wide.wait("table").await?;
        wide.click("Log").await?;
        wide.wait("table ul li").await?;
        keep("activity.png", wide.picture().await?)?;
        deleted(&stage).await?;
        wide.page.goto(base.join("restore")?.as_str()).await?;
        wide.wait("li img").await?;
        wide.page.execute("document.querySelector('li input').click()", vec![]).await?;
        keep("restore.png", wide.picture().await?)?;
    }
    let narrow = Browser::start(375, 812).await?;
    narrow.sign_in(&base, name, password).await?;
    narrow.wait("figure").await?;
    keep("phone-overview.png", narrow.picture().await?)?;
    narrow.page.goto(base.join("night")?.as_str()).await?;
    narrow.click("Let this browser send").await?;
    narrow.wait("input[type=file]").await?;
    keep("phone-night.png", narrow.picture().await?)?;
    narrow.page.goto(base.join("offsite")?.as_str()).await?;
    narrow.wait("dl").await?;
    keep("phone-offsite.png", narrow.picture().await?)?;
    drop(narrow);
    // An old disk: its album was taken over, and the plan for the rest waits for a word.
    stage.connect_disk()?;
    adopted(&stage, &format!("{}/Album export.zip", disk::NAME), true).await?;
    adopted(&stage, disk::NAME, false).await?;
    let wide = Browser::start(1280, 800).await?;
    wide.sign_in(&base, name, password).await?;
    wide.page.goto(base.join("library/adopt")?.as_str()).await?;
    wide.wait_for_text("waiting for your OK").await?;
    keep("adopt.png", wide.picture().await?)?;
    // The house is gone: a new machine, and the kit.
    let kit = stage.keeper.kit(password).await?;
    let mut options = Options::test(&live.with_file_name("new-machine"));
    let _ = fs::remove_dir_all(&options.folder);
    options.reserve_gb = 1;
    let mut new = House::bare(options).await?;
    let code = new.start_at_door().await?;
    let wide = Browser::start(1280, 800).await?;
    wide.page.goto(new.http.as_str()).await?;
    let typed = async |name: &str, text: &str| {
        wide.wait(&format!("[name={name}]")).await?;
        wide.page.find(fantoccini::Locator::Css(&format!("[name={name}]"))).await?.send_keys(text).await?;
        Ok::<(), Trouble>(())
    };
    typed("code", &code).await?;
    wide.click("Continue").await?;
    wide.wait("[role=radio][value=back]").await?;
    wide.page.execute("document.querySelector('[role=radio][value=back]').click()", vec![]).await?;
    typed("kit", &kit).await?;
    typed("password", "another long password").await?;
    typed("once", "another long password").await?;
    wide.page
        .execute("document.activeElement.blur(); document.querySelector('textarea').scrollTo(0, 0); scrollTo(0, 0)", vec![])
        .await?;
    keep("door.png", wide.picture().await?)?;
    new.stop_service().await?;
    fs::remove_dir_all(&new.options.folder)?;
    drop(new);
    drop(stage);
    Ok(fs::remove_dir_all(live)?)
}

/// Five pictures too many are deleted, two of them for good: more than may leave within a day.
async fn deleted(stage: &Stage) -> Step<()> {
    let page = stage.keeper.ask(Method::GET, "api/originals?month=2026-06&limit=500", None).await?;
    let ids: Vec<_> = page["originals"].as_array().into_iter().flatten().map(|o| o["id"].clone()).take(5).collect();
    stage.keeper.ask(Method::POST, "api/holding", Some(json!({ "originals": ids }))).await?;
    stage.keeper.ask(Method::PATCH, "api/household", Some(json!({ "brake_percent": 1 }))).await?;
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
