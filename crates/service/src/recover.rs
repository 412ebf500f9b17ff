//! The command for the day the house is gone: everything back, from a store and a recovery kit alone.

use std::{
    collections::BTreeSet,
    fs,
    io::{IsTerminal, Read, Write},
    path::Path,
    time::{Duration, Instant},
};

use chrono::{Local, NaiveDate};
use serde::Serialize;
use ypogeion_core::{
    DeviceId, Digest, PersonId,
    kit::{KitEnd, RecoveryKit},
    ledger::OriginalRecord,
    words,
};
use ypogeion_engine::from_kit::{OLD_KIT, Otherwise, Stop, Why, believe, keys_of, open, said};
use ypogeion_offsite::{
    Ledger, LedgerRead, Replica,
    layout::BadSegment,
    recover::{Ended, Report, recover, scratch_of},
};

/// What to recover, and how.
#[derive(Debug)]
pub struct Wish<'a> {
    /// The kit's file, or `-` for standard input.
    pub kit: &'a Path,
    /// An empty folder, or one in which an earlier recovery was interrupted.
    pub to: &'a Path,
    /// Only this member's originals, by name or folder.
    pub member: Option<&'a str>,
    /// Only what this device sent, by its name.
    pub device: Option<&'a str>,
    /// Only what was taken on this day or later.
    pub from: Option<NaiveDate>,
    /// Only what was taken on this day or before.
    pub until: Option<NaiveDate>,
    /// What was deleted and waited in holding, too.
    pub deleted: bool,
    /// Fetched at once.
    pub parallel: usize,
    /// What the kit does not know of its stores.
    pub otherwise: &'a Otherwise,
    /// Go on though a ledger is not proven to be the household's own and whole.
    pub unproven: bool,
    /// The account as JSON on standard output.
    pub json: bool,
}

/// [`Otherwise`], on the command line.
#[derive(Debug, Default, clap::Args)]
pub struct OtherwiseArgs {
    /// The store's address, if it is not the one in the kit any more.
    #[arg(long, value_name = "URL")]
    endpoint: Option<String>,
    /// The SHA-256 of the store's certificate, if it shows another one than the kit names.
    #[arg(long, value_name = "SHA-256", value_parser = |text: &str| ypogeion_pin::read(text).ok_or("64 digits, 0 to 9 and A to F"))]
    certificate: Option<Digest>,
    /// The copies are readable, though the kit does not say so: it was printed before kits said that.
    #[arg(long)]
    readable: bool,
}

impl From<OtherwiseArgs> for Otherwise {
    fn from(args: OtherwiseArgs) -> Self {
        Otherwise { endpoint: args.endpoint, certificate: args.certificate, readable: args.readable }
    }
}

/// Exit codes, as documented for every command.
pub mod exit {
    use ypogeion_engine::from_kit::{Stop, Why};

    /// Everything was done.
    pub const DONE: u8 = 0;
    /// Something could not be done.
    pub const PARTLY: u8 = 1;
    /// The command was not understood.
    pub const USAGE: u8 = 2;
    /// The store could not be reached.
    pub const UNREACHABLE: u8 = 3;
    /// The store or the kit was refused.
    pub const REFUSED: u8 = 4;

    /// Tells why something was not done, and gives its code.
    pub fn told(stop: &Stop) -> u8 {
        eprintln!("ypogeiond: {}", stop.sentence);
        match stop.why {
            Why::Usage => USAGE,
            Why::Unreachable => UNREACHABLE,
            Why::Refused => REFUSED,
            Why::Partly => PARTLY,
        }
    }
}

#[derive(Serialize)]
struct Account<'a> {
    household: Option<&'a str>,
    asked: u64,
    restored: u64,
    present: u64,
    bytes: u64,
    failed: Vec<FailedLine<'a>>,
    unread_segments: Vec<FailedLine<'a>>,
}

#[derive(Serialize)]
struct FailedLine<'a> {
    what: &'a str,
    why: &'a str,
}

/// Recovers, telling progress on standard error and the account on standard output. Returns the exit code.
pub async fn run(wish: &Wish<'_>) -> u8 {
    match attempt(wish).await {
        Ok(code) => code,
        Err(stop) => exit::told(&stop),
    }
}

async fn attempt(wish: &Wish<'_>) -> Result<u8, Stop> {
    let text =
        read_kit(wish.kit).map_err(|e| Stop::new(Why::Usage, format!("could not read the kit {}: {e}", wish.kit.display())))?;
    let kit = RecoveryKit::parse(&text).map_err(|e| Stop::new(Why::Refused, e.to_string()))?;
    let keys = keys_of(&kit)?;
    fs::create_dir_all(wish.to).map_err(|e| Stop::new(Why::Usage, format!("could not make {}: {e}", wish.to.display())))?;

    // Several stores hold the same; the first one that answers will do, and what it has lost the next one may have.
    let (mut account, mut why_not) = (None, Stop::new(Why::Unreachable, "the kit names no store".to_owned()));
    if kit.ledger_key.is_none() {
        eprintln!("{OLD_KIT}");
    }
    for (mut address, known) in kit.stores.clone().into_iter().zip(&kit.ends) {
        wish.otherwise.put_into(&mut address);
        eprintln!("Opening {} at {} …", address.name, address.endpoint);
        let replica = match open(&address, keys.clone(), wish.otherwise.readable).await {
            Ok(replica) => replica,
            Err(why) => {
                eprintln!("  {}", why.sentence);
                why_not = why;
                continue;
            }
        };
        // What one store's ledger cannot be believed, or read, must not keep the other stores' from being asked.
        let refused = match &mut account {
            None => from_one(wish, &replica, known.as_ref()).await.map(|all| account = Some(all)).err(),
            // What the first ledger could not name, this one may: all of it is asked for, and what is in its place already is passed over.
            Some(so_far) if !so_far.bad.is_empty() => match from_one(wish, &replica, known.as_ref()).await {
                Ok(more) => {
                    account = account.take().map(|so_far| so_far.and(more));
                    None
                }
                Err(why) => Some(why),
            },
            Some(so_far) => fill_up(wish, &replica, known.as_ref(), so_far).await.err(),
        };
        match refused {
            Some(why) if why.why == Why::Refused => {
                eprintln!("  {}", why.sentence);
                why_not = why;
            }
            Some(why) => return Err(why),
            None => {}
        }
        if account.as_ref().is_some_and(|a| a.report.failed.is_empty() && a.bad.is_empty()) {
            break;
        }
    }
    let account = account.ok_or(why_not)?;
    let _ = fs::remove_dir_all(scratch_of(wish.to));
    print(wish, account.household.as_deref(), &account.report, &account.bad);
    Ok(if account.report.complete() && account.bad.is_empty() { exit::DONE } else { exit::PARTLY })
}

/// How a recovery went so far.
struct SoFar {
    household: Option<String>,
    report: Report,
    bad: Vec<BadSegment>,
}

impl SoFar {
    /// The same after another store was asked for everything.
    fn and(self, other: SoFar) -> SoFar {
        let (first, second) = (self.report, other.report);
        let still: BTreeSet<&String> = second.failed.iter().map(|(path, _)| path).collect();
        // Named by the second ledger and not failed there: it is in its place. Not named there: as it was.
        let failed: Vec<_> = if second.asked >= first.asked {
            second.failed.clone()
        } else {
            first.failed.into_iter().filter(|(path, _)| still.contains(path)).chain(second.failed.iter().cloned()).collect()
        };
        let report = Report {
            asked: first.asked.max(second.asked),
            restored: first.restored + second.restored,
            present: first.asked.max(second.asked).saturating_sub(first.restored + second.restored + failed.len() as u64),
            bytes: first.bytes + second.bytes,
            failed,
        };
        // A ledger that is whole makes up for one that is not.
        let bad = if other.bad.is_empty() { Vec::new() } else { self.bad.into_iter().chain(other.bad).collect() };
        SoFar { household: other.household.or(self.household), report, bad }
    }
}

/// What is wished for, of what a ledger names.
struct Chosen {
    person: Option<PersonId>,
    devices: Option<BTreeSet<DeviceId>>,
    from: Option<NaiveDate>,
    until: Option<NaiveDate>,
}

impl Chosen {
    fn by(wish: &Wish<'_>, ledger: &Ledger) -> Result<Self, Stop> {
        let person = wish.member.map(|member| {
            let mut people = ledger.people.values();
            let found =
                people.find(|p| p.name.eq_ignore_ascii_case(member) || p.folder.eq_ignore_ascii_case(member)).map(|p| p.id);
            found.ok_or_else(|| {
                let names: Vec<&str> = ledger.people.values().map(|p| p.name.as_str()).collect();
                Stop::new(Why::Usage, format!("there is no {member} in this household; there are {}", names.join(", ")))
            })
        });
        let devices = wish.device.map(|device| {
            // Two people may call their phones alike; both are meant then.
            let wanted: BTreeSet<DeviceId> =
                ledger.devices.values().filter(|d| d.name.eq_ignore_ascii_case(device)).map(|d| d.id).collect();
            if wanted.is_empty() {
                let names: Vec<&str> = ledger.devices.values().map(|d| d.name.as_str()).collect();
                return Err(Stop::new(
                    Why::Usage,
                    format!("there is no device {device} in this household; there are {}", names.join(", ")),
                ));
            }
            Ok(wanted)
        });
        Ok(Chosen { person: person.transpose()?, devices: devices.transpose()?, from: wish.from, until: wish.until })
    }

    fn wants(&self, o: &OriginalRecord) -> bool {
        // What a clock on the wall showed; where no ledger says it, this machine's zone.
        let day = o.taken_local.unwrap_or_else(|| o.taken_at.with_timezone(&Local).naive_local()).date();
        self.person.is_none_or(|p| o.person == p)
            && self.devices.as_ref().is_none_or(|wanted| o.device.is_some_and(|d| wanted.contains(&d)))
            && self.from.is_none_or(|f| day >= f)
            && self.until.is_none_or(|u| day <= u)
    }
}

fn unread(e: impl std::fmt::Display) -> Stop {
    Stop::new(Why::Partly, format!("what was read of the ledger could not be kept: {e}. Is there room for it in the target?"))
}

/// Everything that is wished for, from the first store that answers.
async fn from_one(wish: &Wish<'_>, replica: &Replica, known: Option<&KitEnd>) -> Result<SoFar, Stop> {
    let read = replica.read_ledger(&scratch_of(wish.to)).await.map_err(|e| said(&e))?;
    believe(&read, known, "the kit", wish.unproven, &|line| eprintln!("{line}"))?;
    let LedgerRead { ledger, mut bad, .. } = read;
    if ledger.household.is_none() {
        bad.push(BadSegment { name: "ledger".into(), why: "nothing of it is there that names the household".into() });
    }
    for segment in &bad {
        eprintln!("  A part of the list of contents cannot be used, {}: {}", segment.name, segment.why);
    }
    let chosen = Chosen::by(wish, &ledger)?;
    let (mut count, mut bytes, mut left_out) = (0u64, 0u64, 0u64);
    for record in ledger.originals.newest_first().map_err(unread)? {
        let record = record.map_err(unread)?;
        match () {
            () if !chosen.wants(&record) => {}
            () if record.held.is_some() && !wish.deleted => left_out += 1,
            () => (count, bytes) = (count + 1, bytes + record.size),
        }
    }
    if left_out > 0 {
        let were = if left_out == 1 { "was" } else { "were" };
        eprintln!("  {} {were} deleted and left out; --deleted restores those as well.", words::counted(left_out, "file"));
    }
    let household = ledger.household.as_ref().map(|h| h.name.clone());
    eprintln!(
        "{}: {}, {}, of {}. Restoring into {}.",
        household.as_deref().unwrap_or("A household"),
        words::counted(count, "original"),
        words::size(bytes),
        words::list(&ledger.people.values().map(|p| p.name.as_str()).collect::<Vec<_>>()),
        wish.to.display()
    );
    let mut progress = Progress::new(count, bytes);
    let wanted = ledger.originals.newest_first().map_err(unread)?.filter(|r| {
        // What cannot be read is told by whoever takes it.
        r.as_ref().map_or(true, |r| chosen.wants(r) && (wish.deleted || r.held.is_none()))
    });
    let report = recover(replica, (wanted, count), wish.to, wish.parallel, |record, ended| progress.told(record.size, ended))
        .await
        .map_err(|e| said(&e))?;
    progress.end();
    Ok(SoFar { household, report, bad })
}

/// What could not be had so far, from another store.
async fn fill_up(wish: &Wish<'_>, replica: &Replica, known: Option<&KitEnd>, so_far: &mut SoFar) -> Result<(), Stop> {
    let missing: BTreeSet<String> = so_far.report.failed.iter().map(|(path, _)| path.clone()).collect();
    eprintln!("Looking for {} in {} …", words::counted(missing.len() as u64, "file"), replica.store.name());
    let ledger = match replica.read_ledger(&scratch_of(wish.to)).await {
        Ok(read) => {
            believe(&read, known, "the kit", wish.unproven, &|line| eprintln!("{line}"))?;
            read.ledger
        }
        Err(e) => {
            eprintln!("  {}", said(&e).sentence);
            return Ok(());
        }
    };
    let wanted = || {
        ledger.originals.newest_first().map(|all| all.filter(|r| r.as_ref().map_or(true, |r| missing.contains(r.path.as_str()))))
    };
    let count = wanted().map_err(unread)?.count() as u64;
    let more =
        recover(replica, (wanted().map_err(unread)?, count), wish.to, wish.parallel, |_, _| {}).await.map_err(|e| said(&e))?;
    let still: BTreeSet<&String> = more.failed.iter().map(|(path, _)| path).collect();
    let named: BTreeSet<String> = wanted().map_err(unread)?.filter_map(|r| r.ok().map(|r| r.path.to_string())).collect();
    so_far.report.failed.retain(|(path, _)| still.contains(path) || !named.contains(path));
    so_far.report.restored += more.restored + more.present;
    so_far.report.bytes += more.bytes;
    Ok(())
}

pub(crate) fn read_kit(path: &Path) -> std::io::Result<String> {
    if path == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text)?;
        Ok(text)
    } else {
        fs::read_to_string(path)
    }
}

fn print(wish: &Wish<'_>, name: Option<&str>, report: &Report, bad: &[BadSegment]) {
    let mut out = std::io::stdout().lock();
    let written = if wish.json {
        let account = Account {
            household: name,
            asked: report.asked,
            restored: report.restored,
            present: report.present,
            bytes: report.bytes,
            failed: report.failed.iter().map(|(what, why)| FailedLine { what, why }).collect(),
            unread_segments: bad.iter().map(|b| FailedLine { what: &b.name, why: &b.why }).collect(),
        };
        serde_json::to_writer_pretty(&mut out, &account).map_err(std::io::Error::from).and_then(|()| writeln!(out))
    } else {
        account_text(report).lines().try_for_each(|l| writeln!(out, "{l}"))
    };
    if let Err(e) = written {
        eprintln!("ypogeiond: the account could not be printed: {e}");
    }
}

fn account_text(report: &Report) -> String {
    let there = if report.present > 0 { format!(", {} already there", words::count(report.present)) } else { String::new() };
    let mut text = format!(
        "Asked for {}, restored {}{there}, {} failed. Everything that is there is right, byte for byte.\n",
        words::count(report.asked),
        words::count(report.restored),
        words::count(report.failed.len() as u64)
    );
    for (path, why) in &report.failed {
        text += &format!("  could not be restored: {path}: {why}\n");
    }
    text
}

/// A line that is written over on a terminal, and one line in a while in a log.
struct Progress {
    total: u64,
    bytes: u64,
    done: u64,
    done_bytes: u64,
    began: Instant,
    last: Option<Instant>,
    terminal: bool,
}

impl Progress {
    fn new(total: u64, bytes: u64) -> Self {
        Progress {
            total,
            bytes,
            done: 0,
            done_bytes: 0,
            began: Instant::now(),
            last: None,
            terminal: std::io::stderr().is_terminal(),
        }
    }

    fn told(&mut self, size: u64, _: &Ended) {
        self.done += 1;
        self.done_bytes += size;
        let pause = if self.terminal { Duration::from_millis(200) } else { Duration::from_secs(10) };
        if self.last.is_none_or(|l| l.elapsed() >= pause) {
            self.last = Some(Instant::now());
            let rate = self.done_bytes as f64 / self.began.elapsed().as_secs_f64().max(0.001);
            let left = (self.bytes - self.done_bytes.min(self.bytes)) as f64 / rate.max(1.0);
            let line = format!(
                "{} of {}, {} of {}, {}/s, {} left",
                words::count(self.done),
                words::count(self.total),
                words::size(self.done_bytes),
                words::size(self.bytes),
                words::size(rate as u64),
                words::span(chrono::TimeDelta::seconds(left as i64))
            );
            if self.terminal { eprint!("\r\x1b[2K{line}") } else { eprintln!("{line}") }
        }
    }

    fn end(&self) {
        if self.terminal {
            eprint!("\r\x1b[2K");
        }
    }
}
