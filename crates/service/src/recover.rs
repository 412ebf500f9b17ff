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
use ypogeion_core::{DeviceId, kit::RecoveryKit, ledger::OriginalRecord, words};
use ypogeion_offsite::{
    Fault, Identity, Replica, Store,
    layout::ReplicaError,
    recover::{Ended, Report, recover},
};

use crate::failure::chain;

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
    /// Another address of the same store, should it have moved.
    pub endpoint: Option<&'a str>,
    /// The account as JSON on standard output.
    pub json: bool,
}

/// Exit codes, as documented for every command.
pub mod exit {
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
        Err((code, sentence)) => {
            eprintln!("ypogeiond: {sentence}");
            code
        }
    }
}

async fn attempt(wish: &Wish<'_>) -> Result<u8, (u8, String)> {
    let text = read_kit(wish.kit).map_err(|e| (exit::USAGE, format!("could not read the kit {}: {e}", wish.kit.display())))?;
    let kit = RecoveryKit::parse(&text).map_err(|e| (exit::REFUSED, e.to_string()))?;
    let identity: Identity = kit.key.parse().map_err(|e| (exit::REFUSED, format!("the kit's key cannot be used: {e}")))?;
    fs::create_dir_all(wish.to).map_err(|e| (exit::USAGE, format!("could not make {}: {e}", wish.to.display())))?;

    // Several stores hold the same; the first one that answers will do.
    let mut opened = Err((exit::UNREACHABLE, "the kit names no store".to_owned()));
    for mut address in kit.stores.clone() {
        if let Some(endpoint) = wish.endpoint {
            endpoint.clone_into(&mut address.endpoint);
        }
        eprintln!("Opening {} at {} …", address.name, address.endpoint);
        opened = open(&address, identity.clone()).await;
        match &opened {
            Ok(_) => break,
            Err((_, why)) => eprintln!("  {why}"),
        }
    }
    let replica = opened?;
    let (mut holdings, bad) = replica.read_ledger().await.map_err(|e| said(&e))?;
    for segment in &bad {
        eprintln!("  A part of the ledger cannot be used, {}: {}", segment.name, segment.why);
    }
    if let Some(member) = wish.member {
        let wanted = holdings
            .people
            .values()
            .find(|p| p.name.eq_ignore_ascii_case(member) || p.folder.eq_ignore_ascii_case(member))
            .map(|p| p.id)
            .ok_or_else(|| {
                let names: Vec<&str> = holdings.people.values().map(|p| p.name.as_str()).collect();
                (exit::USAGE, format!("there is no {member} in this household; there are {}", names.join(", ")))
            })?;
        holdings.originals.retain(|_, o| o.person == wanted);
    }
    if let Some(device) = wish.device {
        // Two people may call their phones alike; both are meant then.
        let wanted: BTreeSet<DeviceId> =
            holdings.devices.values().filter(|d| d.name.eq_ignore_ascii_case(device)).map(|d| d.id).collect();
        if wanted.is_empty() {
            let names: Vec<&str> = holdings.devices.values().map(|d| d.name.as_str()).collect();
            return Err((exit::USAGE, format!("there is no device {device} in this household; there are {}", names.join(", "))));
        }
        holdings.originals.retain(|_, o| o.device.is_some_and(|d| wanted.contains(&d)));
    }
    // What a clock on the wall showed; where no ledger says it, this machine's zone.
    let day = |o: &OriginalRecord| o.taken_local.unwrap_or_else(|| o.taken_at.with_timezone(&Local).naive_local()).date();
    holdings.originals.retain(|_, o| wish.from.is_none_or(|f| day(o) >= f) && wish.until.is_none_or(|u| day(o) <= u));
    let all = holdings.originals.len();
    if !wish.deleted {
        holdings.originals.retain(|_, o| o.held.is_none());
    }
    let left_out = (all - holdings.originals.len()) as u64;
    if left_out > 0 {
        let were = if left_out == 1 { "was" } else { "were" };
        eprintln!("  {} {were} deleted and left out; --deleted brings back those as well.", words::counted(left_out, "original"));
    }
    let bytes: u64 = holdings.originals.values().map(|o| o.size).sum();
    let name = holdings.household.as_ref().map(|h| h.name.as_str());
    eprintln!(
        "{}: {}, {}, of {}. Restoring into {}.",
        name.unwrap_or("A household"),
        words::counted(holdings.originals.len() as u64, "original"),
        words::size(bytes),
        words::list(&holdings.people.values().map(|p| p.name.as_str()).collect::<Vec<_>>()),
        wish.to.display()
    );
    let mut progress = Progress::new(holdings.originals.len() as u64, bytes);
    let report =
        recover(&replica, &holdings.originals, wish.to, wish.parallel, |record, ended| progress.told(record.size, ended))
            .await
            .map_err(|e| said(&e))?;
    progress.end();
    print(wish, name, &report, &bad);
    Ok(if report.complete() && bad.is_empty() { exit::DONE } else { exit::PARTLY })
}

pub(crate) async fn open(address: &ypogeion_core::kit::StoreAddress, identity: Identity) -> Result<Replica, (u8, String)> {
    let store = Store::new(address).map_err(|e| said(&e))?;
    Replica::open(store, identity).await.map_err(|e| match e {
        ReplicaError::Store(fault) => said(&fault),
        ReplicaError::SomebodyElses => (
            exit::REFUSED,
            "this kit's key does not open the replica in this store; is it an older kit, or another household's?".to_owned(),
        ),
        e => (exit::REFUSED, e.to_string()),
    })
}

pub(crate) fn said(fault: &Fault) -> (u8, String) {
    let code = match fault {
        Fault::Passing(_) | Fault::Away(_) => exit::UNREACHABLE,
        Fault::Refused(_) | Fault::Missing(_) | Fault::Disorder(_) => exit::REFUSED,
        Fault::Home(_) => exit::PARTLY,
    };
    let next = match fault {
        Fault::Passing(_) | Fault::Away(_) | Fault::Home(_) => ". Run the same command again to go on where it stopped.",
        _ => ".",
    };
    (code, chain(fault) + next)
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

fn print(wish: &Wish<'_>, name: Option<&str>, report: &Report, bad: &[ypogeion_offsite::layout::BadSegment]) {
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
        "Asked for {}, restored {}{there}, {} failed. Every hash of what is there is right.\n",
        words::count(report.asked),
        words::count(report.restored),
        words::count(report.failed.len() as u64)
    );
    for (path, why) in &report.failed {
        text += &format!("  could not be had: {path}: {why}\n");
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
