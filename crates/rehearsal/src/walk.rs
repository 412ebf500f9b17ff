//! The whole story, told by itself: pair, back up, again, replicate, break things, recover, compare.
//!
//! Every number is looked at from two sides, and the walk-through is in order only if both agree: what the service says, and
//! what `sha256sum` and `age` say of the files themselves.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, SystemTime},
};

use serde::Serialize;
use ypogeion_core::Digest;
use ypogeion_demo::{DEVICES, PEOPLE};
use ypogeion_standins::faults::Faults;

use crate::{Step, program, stage::Stage, wait_for};

/// One thing that was looked at from two sides.
#[derive(Debug, Serialize)]
pub struct Line {
    /// What.
    pub what: String,
    /// What should be.
    pub expected: String,
    /// What is.
    pub found: String,
    /// Whether they agree.
    pub agrees: bool,
}

/// The whole account.
#[derive(Debug, Default, Serialize)]
pub struct Report {
    /// In the order of the story.
    pub lines: Vec<Line>,
    /// Whether everything agrees.
    pub agrees: bool,
}

impl Report {
    fn check(&mut self, what: &str, expected: impl ToString, found: impl ToString) {
        let (expected, found) = (expected.to_string(), found.to_string());
        let agrees = expected == found;
        println!(
            "   {} {what}: {found}{}",
            if agrees { "✓" } else { "✗" },
            if agrees { String::new() } else { format!(" (expected {expected})") }
        );
        self.lines.push(Line { what: what.into(), expected, found, agrees });
    }

    /// The last table.
    pub fn table(&self) -> String {
        let wide = |f: fn(&Line) -> &str| self.lines.iter().map(|l| f(l).chars().count()).max().unwrap_or(0).max(8);
        let (a, b, c) = (wide(|l| &l.what), wide(|l| &l.expected), wide(|l| &l.found));
        let mut text = format!("{:a$}  {:>b$}  {:>c$}\n", "What", "Expected", "Found");
        for l in &self.lines {
            text +=
                &format!("{:a$}  {:>b$}  {:>c$}  {}\n", l.what, l.expected, l.found, if l.agrees { "✓" } else { "✗ differs" });
        }
        text
    }
}

fn say(step: &str) {
    println!("\n— {step}");
}

/// Tells the story in `folder` with the pictures of `pictures`.
pub async fn walk(folder: &Path, pictures: &Path) -> Step<Report> {
    say("Mill House is set up, its people are added, four devices are paired, North Quay is added");
    let stage = Stage::raise(folder, pictures, ((0, 0), 0), false).await?;
    stage.add_store().await?;
    let mut walk = Walk { folder, pictures, stage, report: Report::default(), at_home: BTreeSet::new() };
    let paired = walk.stage.keeper.overview().await?.devices.len();
    walk.report.check("devices paired", 4, paired);
    walk.two_devices_send().await?;
    walk.a_second_run().await?;
    walk.killed_while_sending().await?;
    walk.a_store_goes_away().await?;
    let (kit, filed) = walk.an_independent_look().await?;
    walk.the_house_is_gone(&kit, &filed).await?;
    let mut report = walk.report;
    report.agrees = report.lines.iter().all(|l| l.agrees);
    Ok(report)
}

/// How far the story has come.
struct Walk<'a> {
    folder: &'a Path,
    pictures: &'a Path,
    stage: Stage,
    report: Report,
    /// What should be there: whose, and which bytes.
    at_home: BTreeSet<(&'static str, Digest)>,
}

impl Walk<'_> {
    async fn two_devices_send(&mut self) -> Step<()> {
        say("Juno’s phone and the study desktop send everything");
        for device in [0, 2] {
            let here = files_of(self.pictures, device)?;
            let counts = self.stage.devices[device].json(&["backup"]).await?["counts"].clone();
            self.report.check(&format!("{}: files looked at", DEVICES[device].name), here.len(), &counts["checked"]);
            self.report.check(&format!("{}: failed", DEVICES[device].name), 0, &counts["failed"]);
            self.at_home.extend(here.values().map(|d| (DEVICES[device].person, *d)));
        }
        self.report.check("files at home", self.at_home.len(), self.stage.keeper.overview().await?.home.count);
        Ok(())
    }

    async fn a_second_run(&mut self) -> Step<()> {
        say("A second run has nothing to do");
        let counts = self.stage.devices[0].json(&["backup"]).await?["counts"].clone();
        self.report.check("second run: sent", 0, &counts["sent"]);
        self.report.check("second run: there already", files_of(self.pictures, 0)?.len(), &counts["present"]);
        Ok(())
    }

    async fn killed_while_sending(&mut self) -> Step<()> {
        say("The service is killed while Piet’s phone sends, three times, and goes on");
        for _ in 0..3 {
            let mut sending = self.stage.devices[1].spawn(&["backup"])?;
            let before = self.stage.keeper.overview().await?.home.count;
            // Killed as soon as something of this run has landed, or when the run is over.
            let _ = wait_for("something to land", 10, async || {
                Ok((self.stage.keeper.overview().await?.home.count > before + 3).then_some(()))
            })
            .await;
            self.stage.house.kill_service();
            let _ = sending.kill();
            let _ = sending.wait();
            self.stage.house.start_service().await?;
            self.stage.keeper = self.stage.house.keeper().await?;
        }
        let counts = self.stage.devices[1].json(&["backup", "--all"]).await?["counts"].clone();
        let piet = files_of(self.pictures, 1)?;
        self.report.check("Piet’s phone: files looked at", piet.len(), &counts["checked"]);
        self.report.check("Piet’s phone: failed", 0, &counts["failed"]);
        self.at_home.extend(piet.values().map(|d| (DEVICES[1].person, *d)));
        self.report.check("files at home", self.at_home.len(), self.stage.keeper.overview().await?.home.count);
        Ok(())
    }

    async fn a_store_goes_away(&mut self) -> Step<()> {
        say("North Quay goes away, comes back, and cuts every tenth connection");
        self.stage.house.store.set_faults(Faults { outage: true, ..Faults::default() });
        let counts = self.stage.devices[3].json(&["backup"]).await?["counts"].clone();
        let tablet = files_of(self.pictures, 3)?;
        self.report.check(
            "Marisol’s tablet, with the store away: sent",
            tablet.values().collect::<BTreeSet<_>>().len(),
            &counts["sent"],
        );
        self.at_home.extend(tablet.values().map(|d| (DEVICES[3].person, *d)));
        tokio::time::sleep(Duration::from_secs(2)).await; // The outage lasts a while; nothing is waited for.
        self.stage.house.store.set_faults(Faults { error_percent: 5, cut_percent: 5, ..Faults::default() });
        let house = self.stage.keeper.wait_until_proven(240).await?;
        self.stage.house.store.set_faults(Faults::default());
        self.report.check("files at home", self.at_home.len(), house.home.count);
        self.report.check("of these offsite", self.at_home.len(), house.offsite.count);
        self.report.check("of these checked", self.at_home.len(), house.proven.count);
        Ok(())
    }

    /// Returns the recovery kit, and what is filed.
    async fn an_independent_look(&mut self) -> Step<(String, BTreeMap<PathBuf, Digest>)> {
        say("An independent look: sha256sum over the library, age over the store");
        let library = self.stage.house.library();
        let filed = originals_below(&library)?;
        self.report.check("files in the library", self.at_home.len(), filed.len());
        self.report.check("right by sha256sum -c", filed.len(), sha256sum(&library, &filed)?);
        let kit = self.stage.keeper.kit(PEOPLE[0].password).await?;
        let key = kit.lines().find_map(|l| l.strip_prefix("Key: ")).ok_or("the kit names no key")?;
        let contents: BTreeSet<Digest> = self.at_home.iter().map(|(_, d)| *d).collect();
        let (objects, opened) = open_with_age(self.folder, &self.stage.house.store_folder().join("sealed"), key)?;
        self.report.check("objects in the store (equal pictures once)", contents.len(), objects);
        self.report.check("opened by age to the right bytes", contents.len(), opened.intersection(&contents).count());
        Ok((kit, filed))
    }

    async fn the_house_is_gone(&mut self, kit: &str, filed: &BTreeMap<PathBuf, Digest>) -> Step<()> {
        say("The house is gone: service, database and library are out of reach; a new machine has the kit");
        let library = self.stage.house.library();
        self.stage.house.stop_service().await?;
        let kit_file = self.folder.join("kit.txt");
        fs::write(&kit_file, kit)?;
        let target = self.folder.join("recovered");
        // Interrupted once, as such things are.
        let mut first = recover(&kit_file, &target)?.stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
        let _ = wait_for("the recovery to be half way", 30, async || {
            Ok((originals_below(&target)?.len() > filed.len() / 3).then_some(()))
        })
        .await;
        let _ = first.kill();
        first.wait()?;
        let output = recover(&kit_file, &target)?.arg("--json").output()?;
        let account: serde_json::Value = serde_json::from_slice(&output.stdout)?;
        self.report.check("recover: exit code", 0, output.status.code().unwrap_or(-1));
        self.report.check("recover: asked for", self.at_home.len(), &account["asked"]);
        let had = account["restored"].as_u64().unwrap_or(0) + account["present"].as_u64().unwrap_or(0);
        self.report.check("recover: restored, before and after the interruption", self.at_home.len(), had);
        let back = originals_below(&target)?;
        let same = filed.iter().filter(|(path, digest)| back.get(*path) == Some(*digest)).count();
        self.report.check("recovered files with the right path and bytes", filed.len(), same);
        self.report.check("recovered files that nobody asked for", 0, back.len() - same);
        let times = filed.keys().filter(|p| time_of(&library.join(p)) == time_of(&target.join(p))).count();
        self.report.check("recovered files with the right time", filed.len(), times);
        Ok(())
    }
}

fn recover(kit: &Path, to: &Path) -> Step<Command> {
    let mut command = Command::new(program("ypogeiond")?);
    command.args(["recover", "--kit"]).arg(kit).arg("--to").arg(to);
    Ok(command)
}

fn time_of(path: &Path) -> Option<SystemTime> {
    fs::metadata(path).ok()?.modified().ok()
}

/// The files that a device of the demo has, with their hashes.
fn files_of(pictures: &Path, device: usize) -> Step<BTreeMap<PathBuf, Digest>> {
    originals_below(&pictures.join(DEVICES[device].folder))
}

/// All files below a folder that are not this program's own, with their hashes.
pub fn originals_below(folder: &Path) -> Step<BTreeMap<PathBuf, Digest>> {
    let (mut found, mut folders) = (BTreeMap::new(), vec![folder.to_owned()]);
    while let Some(next) = folders.pop() {
        let Ok(entries) = fs::read_dir(&next) else { continue };
        for entry in entries {
            let path = entry?.path();
            let own = path.file_name().is_some_and(|n| n.as_encoded_bytes().starts_with(b"."));
            if path.is_dir() && !own {
                folders.push(path);
            } else if path.is_file() {
                let digest = Digest::of(&fs::read(&path)?);
                found.insert(path.strip_prefix(folder)?.to_owned(), digest);
            }
        }
    }
    Ok(found)
}

/// How many files `sha256sum -c` finds right.
fn sha256sum(folder: &Path, files: &BTreeMap<PathBuf, Digest>) -> Step<usize> {
    use std::io::Write;
    let mut child =
        Command::new("sha256sum").arg("-c").current_dir(folder).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
    let list: String = files.iter().map(|(path, digest)| format!("{digest}  {}\n", path.display())).collect();
    let mut stdin = child.stdin.take().ok_or("sha256sum takes no input")?;
    let writer = std::thread::spawn(move || stdin.write_all(list.as_bytes()));
    let output = child.wait_with_output()?;
    writer.join().map_err(|_| "writing to sha256sum failed")??;
    Ok(String::from_utf8_lossy(&output.stdout).lines().filter(|l| l.ends_with(": OK")).count())
}

/// How many objects there are, and what `age -d` opens them to.
fn open_with_age(scratch: &Path, objects: &Path, key: &str) -> Step<(usize, BTreeSet<Digest>)> {
    let identity = scratch.join("age.key");
    fs::write(&identity, format!("{key}\n"))?;
    let (mut count, mut opened) = (0, BTreeSet::new());
    for path in originals_below(objects)?.keys() {
        // The stand-in keeps notes of its own beside the objects.
        if path.extension().is_some_and(|e| e == "age") {
            count += 1;
            let output = Command::new("age").arg("-d").arg("-i").arg(&identity).arg(objects.join(path)).output()?;
            if output.status.success() {
                opened.insert(Digest::of(&output.stdout));
            }
        }
    }
    Ok((count, opened))
}
