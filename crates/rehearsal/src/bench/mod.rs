//! Measured against the limits of this machine: for each row the limit and Ypogeion run on the same data, one after the
//! other, and the ratio is printed. Speeds of different machines or days say nothing; ratios do.
//!
//! [`road`] has the rows that follow a picture on its way, [`ledger`] the reading of a large ledger, [`devices`] what a device asks, [`load`] how the service bears load,
//! [`scale`] what a large household costs, and [`previews`] the drawing of pictures.

mod devices;
mod ledger;
mod load;
mod previews;
mod road;
mod scale;
mod sheet;

use std::{
    fs,
    io::Write,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use clap::ValueEnum;
use ypogeion_core::words;

use crate::{
    Step,
    house::{House, Options},
};

/// A row of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, ValueEnum)]
pub enum Row {
    /// Photos received, landed and acknowledged.
    Receive,
    /// The same photos read again at home.
    Audit,
    /// The same photos sealed and sent to a store.
    Replicate,
    /// The same photos brought back.
    Recover,
    /// Reading a ledger of a million originals.
    Ledger,
    /// A second run of a device that has nothing new.
    SecondRun,
    /// Memory while one large file is received.
    Memory,
    /// An offer of a hundred thousand digests.
    Offer,
    /// Previews of 12-megapixel pictures.
    Previews,
    /// Somebody looks at the library while eight devices send; four files of 4 GB at once.
    Load,
    /// What the pages of a large household cost.
    Scale,
    /// The contact sheet of a large household, in a slow browser.
    Sheet,
}

/// What was measured, in words; each is said at once, because what comes later may fail.
#[derive(Default)]
pub struct Report(Vec<String>);

impl Report {
    /// A row that has a limit beside it; both in seconds.
    fn against(&mut self, what: &str, limit: f64, ours: f64, goal: &str) {
        self.say(format!("{what:34} {limit:>10.2} {ours:>10.2} {:>8.2}×  {goal}", limit / ours));
    }

    /// A row that stands by itself.
    fn say(&mut self, line: String) {
        println!("  {line}");
        self.0.push(line);
    }
}

/// Measures these rows, or all, with `photos` photos of 3 MB and a tree of `tree` small files, and prints them as a table.
/// [`Row::Scale`] and [`Row::Sheet`] have a household of so many `originals`.
pub async fn run(folder: &Path, rows: &[Row], (photos, tree, originals): (usize, usize, u64)) -> Step<()> {
    let wanted = |row: Row| rows.is_empty() || rows.contains(&row);
    println!("on {} cores", std::thread::available_parallelism()?);
    let mut report = Report::default();
    // Each of the road's rows needs what the one before it has made.
    if let Some(last) = [Row::Recover, Row::Replicate, Row::Audit, Row::Receive].into_iter().find(|r| wanted(*r)) {
        road::measure(folder, last, photos, &mut report).await?;
    }
    if wanted(Row::Ledger) {
        ledger::measure(folder, 1_000_000, &mut report).await?;
    }
    if wanted(Row::SecondRun) {
        println!("second run: {} files …", words::count(tree as u64));
        devices::second_run(folder, tree, &mut report).await?;
    }
    if wanted(Row::Offer) {
        devices::large_offer(folder, &mut report).await?;
    }
    if wanted(Row::Previews) {
        println!("previews of 12-megapixel pictures: the limit (vipsthumbnail), then Ypogeion …");
        let (limit, ours) = previews::measure(folder)?;
        report.against("previews of 12-megapixel JPEGs", limit, ours, "≥ 1.0 × its speed");
    }
    if wanted(Row::Memory) {
        load::memory_of_a_large_file(folder, &mut report).await?;
    }
    if wanted(Row::Load) {
        load::measure(folder, &mut report).await?;
    }
    if wanted(Row::Scale) {
        scale::measure(folder, originals, &mut report).await?;
    }
    if wanted(Row::Sheet) {
        sheet::measure(folder, originals, &mut report).await?;
    }
    println!("\n{:34} {:>10} {:>10} {:>9}  goal", "row", "limit, s", "ours, s", "speed");
    for line in report.0 {
        println!("{line}");
    }
    Ok(())
}

/// A new house in a folder of its own, as a household has it: nothing is thrown away, every commit is on the disk.
async fn new_house(folder: &Path, options: impl FnOnce(Options) -> Options) -> Step<House> {
    ypogeion_catalog::cluster::stop(&folder.join("data/database"))?;
    if folder.exists() {
        fs::remove_dir_all(folder)?;
    }
    House::start(options(Options { throw_away: false, ..Options::test(folder) })).await
}

fn done(command: &mut Command) -> Step<()> {
    let status = command.status()?;
    if status.success() { Ok(()) } else { Err(format!("{} failed: {status}", command.get_program().display()).into()) }
}

/// Runs `sh -c script` for every file, `parallel` at a time.
fn each(parallel: usize, files: &[PathBuf], script: &str) -> Step<()> {
    let mut xargs = Command::new("xargs")
        .args(["-0", "-P", &parallel.to_string(), "-n", "25", "sh", "-ec"])
        .arg(format!("for f in \"$@\"; do {script}; done"))
        .arg("sh")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()?;
    let mut stdin = xargs.stdin.take().ok_or("xargs takes no input")?;
    for file in files {
        stdin.write_all(file.as_os_str().as_encoded_bytes())?;
        stdin.write_all(b"\0")?;
    }
    drop(stdin);
    let status = xargs.wait()?;
    if status.success() { Ok(()) } else { Err(format!("{script}: {status}").into()) }
}

/// From here on, the peak counts anew.
fn forget_peak(house: &House) -> Step<()> {
    let pid = house.pid().ok_or("the service does not run")?;
    Ok(fs::write(format!("/proc/{pid}/clear_refs"), "5")?)
}

/// The most memory that the service has held since then, in bytes.
fn peak(house: &House) -> Step<u64> {
    let pid = house.pid().ok_or("the service does not run")?;
    let status = fs::read_to_string(format!("/proc/{pid}/status"))?;
    let peak = status.lines().find_map(|l| l.strip_prefix("VmHWM:")?.trim().split(' ').next()?.parse::<u64>().ok());
    Ok(peak.ok_or("the peak cannot be read")? * 1024)
}
