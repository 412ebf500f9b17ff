//! `ypogeion-rehearsal`: the demo, its walk-through, its pictures, and the benchmark. Called by `cargo xtask`.

mod screenshots;

use std::{
    fs,
    path::{Path, PathBuf},
    process::ExitCode,
    time::Duration,
};

use clap::{Parser, Subcommand};
use ypogeion_demo::{PEOPLE, Size, disk};
use ypogeion_rehearsal::{Step, bench, campaign, day, stage, stage::Stage, walk};

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
    // Ended by another program, or closed with its terminal: the houses that it started end with it, since each ends when it is dropped.
    let done = tokio::select! {
        done = run(Arguments::parse()) => done,
        () = ended() => Err("Ended.".into()),
    };
    match done {
        Ok(code) => code,
        Err(e) => {
            eprintln!("{e}");
            ExitCode::FAILURE
        }
    }
}

async fn ended() {
    use tokio::signal::unix::{SignalKind, signal};
    match (signal(SignalKind::terminate()), signal(SignalKind::hangup())) {
        (Ok(mut term), Ok(mut hangup)) => {
            tokio::select! { _ = term.recv() => {}, _ = hangup.recv() => {} }
        }
        _ => std::future::pending().await,
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
            demo(&live, &pictures, day).await?;
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
            screenshots::take(&live, &pictures, &to).await?;
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

/// Starts the demo, and stays until it is ended.
async fn demo(live: &Path, pictures: &Path, day: bool) -> Step<()> {
    let stage = Stage::raise(live, pictures, ((8740, 8743), 0), false).await?;
    stage.add_store().await?;
    stage.settle_in(PEOPLE[0].password).await?;
    println!("\n  Console   {}", stage.house.http);
    for person in &PEOPLE {
        println!("  Sign in   {:<10}  {:<20}  ({})", person.name, person.password, person.role);
    }
    println!(
        "\nMill House is running, and its devices send what they have from ten years: that takes a minute or two. Look in meanwhile …"
    );
    stage.live().await?;
    stage.send_partly().await?;
    stage.connect_disk()?;
    if day {
        println!("\nA day in the house, an hour in less than a second:");
        day::live(&stage.keeper, &live.join("phones"), Duration::from_millis(600), |line| println!("  {line}")).await?;
    }
    println!("\n  Library   {}", stage.house.library().display());
    println!("  Store     {} (its faults: http://{}/faults)", stage.house.store.url(), stage.house.store.control);
    println!("  Old disk  {} (adopt it in the console, under Library)", stage.house.disks().join(disk::NAME).display());
    println!("  A device  YPOGEION_DEVICE={} ypogeion status", stage.devices[0].folder().display());
    println!("\nCtrl-C ends it.");
    tokio::signal::ctrl_c().await?;
    println!("\nStopping …");
    let mut stage = stage;
    stage.house.stop_service().await?;
    Ok(())
}
