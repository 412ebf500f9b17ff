//! A run: look, hash what is new, offer, send what is wanted, tell the server what came of it.
//!
//! [`crate::survey`] does the looking; the other stages are here. Runs are tested through the real service, in the rehearsals.
//!
//! The stages overlap: while the first files are sent, later ones are still being hashed. What was acknowledged before and
//! has not changed is passed over without asking, unless the server says that something of this device is missing there.

use std::{
    mem,
    sync::{Arc, atomic::AtomicU64},
    time::{Duration, Instant},
};

use futures_util::{StreamExt, stream};
use tokio::sync::{mpsc, watch};
use ypogeion_core::{Digest, RunId, source::Sort};
use ypogeion_wire::{
    device::{OfferAnswer, OfferEntry},
    inventory::{Inventory, SourceInventory},
    problem::ProblemType,
    run::{BegunRun, RunCounts, RunEntry, RunReport},
};

use crate::{
    cache::Stamp,
    client::{Client, ClientError},
    gate::Gate,
    home::{Home, HomeError},
    order::{self, Order},
    platform::Platform,
    runlog::{self, LoggedRun},
    scan::{Found, LeftOut, hash},
    send::{Memory, send},
    survey::{Looked, SourcePlan, look},
};

/// Files sent at once.
const SENDERS: usize = 4;
/// Files hashed at once.
const HASHERS: usize = 2;
/// Files in one offer while more is coming; small, so that sending begins soon.
const BATCH: usize = 200;
/// Entries in one report.
const REPORT: usize = 500;

/// The service takes twice as many.
const LARGEST_REPORT: usize = 5000;

/// How to run.
#[derive(Clone, Copy, Debug, Default)]
pub struct Options {
    /// Offer everything, also what was acknowledged before.
    pub all: bool,
    /// Say what would be sent, and send nothing.
    pub dry_run: bool,
    /// A person asked for it: schedule, hours, charger and battery do not hold it up.
    pub asked: bool,
    /// Leave alone for now what was written to within this time: it may still be written.
    pub settle: Option<Duration>,
}

/// What a run says while it runs.
#[derive(Clone, Debug)]
pub enum Told {
    /// The sources have been looked through.
    Looked {
        /// Files found.
        files: u64,
        /// Of these, new or changed.
        new: u64,
        /// Bytes of those.
        bytes: u64,
    },
    /// A file has come to its end.
    File(RunEntry),
}

/// What a run did.
#[derive(Clone, Debug, Default)]
pub struct Account {
    /// In numbers.
    pub counts: RunCounts,
    /// Everything that is not simply there: sent, skipped, failed.
    pub entries: Vec<RunEntry>,
    /// The sources, as they were found.
    pub plan: Vec<SourcePlan>,
    /// Why it ended before it was done: `paused`, `stopped`, `waiting for …`.
    pub halted: Option<String>,
    /// Files that were left alone because they may still be written.
    pub unsettled: u64,
}

/// Why a run could not go on.
#[derive(Debug, thiserror::Error)]
pub enum RunError {
    /// The device's own folder.
    #[error(transparent)]
    Home(#[from] HomeError),
    /// The server.
    #[error(transparent)]
    Client(#[from] ClientError),
    /// No source was named yet.
    #[error("there is nothing to back up yet; name a folder with \"ypogeion sources add FOLDER\"")]
    NoSources,
    /// The sources could not be looked through: a fault of this program. Nothing is said of what they hold.
    #[error("the sources could not be looked through: {0}")]
    NotLooked(String),
}

/// How many bytes have left so far; shared with whoever shows progress.
pub type Sent = Arc<AtomicU64>;

/// A file for the cache: its key there, how it was, its bytes, and whether the server acknowledged them.
type Remembered = (String, Stamp, Digest, bool);

struct Hashed {
    file: Found,
    digest: Digest,
}

enum End {
    Entry(RunEntry, Option<Remembered>),
    Fatal(ClientError),
    Halted(String),
}

/// Runs a backup: until everything is sent, or until somebody or something says that it has to end. Whatever ends it, the
/// next one goes on from there.
pub async fn backup(
    home: &Home,
    platform: &Arc<dyn Platform>,
    options: Options,
    sent: &Sent,
    mut tell: impl FnMut(Told),
) -> Result<Account, RunError> {
    if home.state.sources.is_empty() {
        return Err(RunError::NoSources);
    }
    let (client, device) = (home.client()?, home.paired()?.device);
    let memory = Memory { cache: Arc::new(home.cache()?), device };
    let (began, clock) = (Instant::now(), platform.clock());
    if options.asked {
        order::give(home.folder(), Order::Go).map_err(HomeError::order)?;
    }
    let watcher = home.watcher(platform, options.asked)?;
    let gate = watcher.look_aside().await;
    if let Some(reason) = gate.reason().filter(|_| !options.dry_run) {
        waits(home, &client, &reason).await?;
        return Ok(Account { halted: Some(reason), ..Account::default() });
    }
    let begun = if options.dry_run { None } else { Some(begin(&client, &memory).await?) };
    let all = options.all || begun.is_some_and(|b| b.waiting > 0);
    let mut looked = look_through(home, &memory, all, options.settle).await?;
    let account = account_of(&mut looked, &mut tell);
    let Some(begun) = begun else {
        for file in looked.hashed.iter().map(|(file, _)| file).chain(&looked.unknown) {
            tell(Told::File(entry(file, "wanted", None)));
        }
        return Ok(account);
    };
    client.report_inventory(&inventory(home, &account.plan)).await?;
    let mut book = Book { client, memory, run: begun.run, account, fresh: Vec::new(), unreported: Vec::new(), fatal: None, tell };
    let (gate_out, gate) = watch::channel(gate);
    let looking = tokio::spawn(watcher.keep_looking(gate_out));
    let sent = book.send_all(looked, gate, sent).await;
    looking.abort();
    sent?;
    book.close(home).await?;
    let Book { account, fatal, .. } = book;
    let logged = LoggedRun {
        began: clock,
        seconds: began.elapsed().as_secs_f64(),
        counts: account.counts,
        halted: fatal.as_ref().map(ToString::to_string).or(account.halted.clone()),
        entries: account.entries.clone(),
    };
    runlog::write(home.folder(), &logged).map_err(HomeError::order)?;
    match fatal {
        Some(e) => Err(e.into()),
        None => Ok(account),
    }
}

/// Says that a run ended, or did not begin, and what it waits for.
async fn waits(home: &Home, client: &Client, reason: &str) -> Result<(), RunError> {
    order::stopped(home.folder()).map_err(HomeError::order)?;
    // The server may be out of reach, which may be the very reason; it notices the silence.
    let _ = client.report_inventory(&Inventory { sources: None, waiting_for: Some(reason.to_owned()) }).await;
    Ok(())
}

/// Begins a run. A server that does not know of the last one has an older database than when it acknowledged what came then: nothing that it
/// acknowledged is counted on any more, also if this run is cut off.
async fn begin(client: &Client, memory: &Memory) -> Result<BegunRun, RunError> {
    let begun = client.begin_run(memory.cache.last_run(memory.device).map_err(HomeError::from)?).await?;
    if begun.forgotten {
        memory.cache.forget_acknowledged(memory.device).map_err(HomeError::from)?;
    }
    Ok(begun)
}

/// Looks through the sources.
async fn look_through(home: &Home, memory: &Memory, all: bool, settle: Option<Duration>) -> Result<Looked, RunError> {
    let (sources, cache, device) = (home.state.sources.clone(), Arc::clone(&memory.cache), memory.device);
    // The snapshot ends with the looking: while somebody may read it, what is written could not take the room of what it replaces.
    let looked = tokio::task::spawn_blocking(move || look(&sources, &cache.snapshot(device)?, all, settle)).await;
    Ok(looked.map_err(|e| RunError::NotLooked(e.to_string()))?.map_err(HomeError::from)?)
}

/// The account of a run that has looked and sent nothing yet.
fn account_of(looked: &mut Looked, tell: &mut impl FnMut(Told)) -> Account {
    let mut account = Account { plan: mem::take(&mut looked.plan), unsettled: looked.unsettled, ..Account::default() };
    account.counts.checked = looked.checked;
    account.counts.present = looked.acknowledged;
    let new = (looked.hashed.len() + looked.unknown.len()) as u64;
    tell(Told::Looked { files: looked.checked, new, bytes: looked.bytes });
    for out in mem::take(&mut looked.left_out) {
        note(&mut account, left_out_entry(out), tell);
    }
    account
}

/// A run that is under way: what came to its end, and what of it the cache and the server have not been told yet.
struct Book<T: FnMut(Told)> {
    client: Client,
    memory: Memory,
    run: RunId,
    account: Account,
    fresh: Vec<Remembered>,
    unreported: Vec<RunEntry>,
    fatal: Option<ClientError>,
    tell: T,
}

impl<T: FnMut(Told)> Book<T> {
    /// Hashes, offers and sends until all of it came to its end, or something ends the run.
    async fn send_all(&mut self, looked: Looked, gate: watch::Receiver<Gate>, sent: &Sent) -> Result<(), RunError> {
        let (hashed_out, hashed_in) = mpsc::channel::<Result<Hashed, Box<End>>>(BATCH * 2);
        let (wanted_out, wanted_in) = mpsc::channel::<Hashed>(SENDERS * 2);
        let (ends_out, ends_in) = mpsc::channel::<End>(256);
        let memory = Memory { cache: Arc::clone(&self.memory.cache), device: self.memory.device };
        let tasks = [
            tokio::spawn(hash_all(looked.hashed, looked.unknown, hashed_out)),
            tokio::spawn(offer_all(self.client.clone(), hashed_in, wanted_out, ends_out.clone())),
            tokio::spawn(send_all(self.client.clone(), memory, wanted_in, ends_out, Arc::clone(sent), gate.clone())),
        ];
        let followed = self.follow(ends_in, gate).await;
        for task in tasks {
            task.abort();
        }
        followed
    }

    async fn follow(&mut self, mut ends: mpsc::Receiver<End>, mut gate: watch::Receiver<Gate>) -> Result<(), RunError> {
        let mut beat = tokio::time::interval(Duration::from_secs(20));
        beat.tick().await;
        loop {
            let end = tokio::select! {
                end = ends.recv() => match end { Some(end) => Some(end), None => return Ok(()) },
                _ = beat.tick() => None,
                // Also while files are only being hashed.
                reason = closed(&mut gate) => Some(End::Halted(reason)),
            };
            // A beat reports also when nothing came to its end: the server must know that a large file is still under way.
            let beats = end.is_none();
            match end {
                Some(End::Entry(entry, remember)) => self.enter(entry, remember)?,
                Some(End::Fatal(e)) => self.fatal = Some(e),
                Some(End::Halted(reason)) => self.account.halted = Some(reason),
                None => {}
            }
            if self.fatal.is_none() && self.account.halted.is_none() && (beats || self.unreported.len() >= REPORT) {
                self.report_so_far().await;
            }
            if self.fatal.is_some() || self.account.halted.is_some() {
                return Ok(());
            }
        }
    }

    fn enter(&mut self, entry: RunEntry, remember: Option<Remembered>) -> Result<(), RunError> {
        if entry.outcome != "present" {
            self.unreported.push(entry.clone());
        }
        note(&mut self.account, entry, &mut self.tell);
        self.fresh.extend(remember);
        if self.fresh.len() >= REPORT {
            self.remember()?;
        }
        Ok(())
    }

    fn remember(&mut self) -> Result<(), RunError> {
        Ok(self.memory.cache.remember(self.memory.device, self.run, &mem::take(&mut self.fresh)).map_err(HomeError::from)?)
    }

    fn report(&mut self, most: usize) -> RunReport {
        let rest = self.unreported.split_off(most.min(self.unreported.len()));
        RunReport { entries: mem::replace(&mut self.unreported, rest), counts: self.account.counts, ended: false, halted: None }
    }

    /// The numbers at the end count; a report on the way is for those who watch.
    async fn report_so_far(&mut self) {
        let report = self.report(LARGEST_REPORT);
        if let Err(e) = self.client.report_run(self.run, &report).await {
            let newer = mem::replace(&mut self.unreported, report.entries);
            self.unreported.extend(newer);
            if !e.passes() {
                self.fatal = Some(e);
            }
        }
    }

    /// Remembers and reports the rest, and the end.
    async fn close(&mut self, home: &Home) -> Result<(), RunError> {
        self.remember()?;
        while self.unreported.len() > LARGEST_REPORT {
            let report = self.report(LARGEST_REPORT);
            self.client.report_run(self.run, &report).await?;
        }
        let report =
            RunReport { ended: self.fatal.is_none(), halted: self.account.halted.clone(), ..self.report(LARGEST_REPORT) };
        let last = self.client.report_run(self.run, &report).await;
        match &self.account.halted {
            Some(reason) => waits(home, &self.client, reason).await,
            None if self.fatal.is_none() => Ok(last?),
            None => Ok(()),
        }
    }
}

/// Waits until a run has to end, and says why.
async fn closed(gate: &mut watch::Receiver<Gate>) -> String {
    loop {
        if let Some(reason) = gate.borrow_and_update().reason() {
            return reason;
        }
        if gate.changed().await.is_err() {
            // Nobody looks any more: the run is over anyway.
            std::future::pending::<()>().await;
        }
    }
}

fn inventory(home: &Home, plan: &[SourcePlan]) -> Inventory {
    let sources = home.state.sources.iter().map(|s| {
        let found = plan.iter().find(|p| p.source == s.name);
        SourceInventory {
            name: s.name.clone(),
            files: found.map_or(0, |p| p.files),
            bytes: found.map_or(0, |p| p.bytes),
            fresh: found.map(|p| p.new),
            left_out: found.map_or(0, |p| p.left_out),
            rule: s.rule.words(),
            selection_only: s.selection_only,
        }
    });
    Inventory { sources: Some(sources.collect()), waiting_for: None }
}

fn note(account: &mut Account, entry: RunEntry, tell: &mut impl FnMut(Told)) {
    let counts = &mut account.counts;
    match entry.outcome.as_str() {
        "sent" => {
            counts.sent += 1;
            counts.bytes += entry.size;
        }
        "present" => counts.present += 1,
        "skipped" => counts.skipped += 1,
        _ => counts.failed += 1,
    }
    tell(Told::File(entry.clone()));
    if entry.outcome != "present" {
        account.entries.push(entry);
    }
}

fn entry(file: &Found, outcome: &str, reason: Option<String>) -> RunEntry {
    RunEntry { name: file.name.clone(), source: file.source.clone(), outcome: outcome.to_owned(), reason, size: file.stamp.size }
}

fn left_out_entry(out: LeftOut) -> RunEntry {
    let outcome = if out.failed { "failed" } else { "skipped" };
    RunEntry { name: out.name, source: out.source, outcome: outcome.to_owned(), reason: Some(out.reason), size: 0 }
}

async fn hash_all(hashed: Vec<(Found, Digest)>, unknown: Vec<Found>, out: mpsc::Sender<Result<Hashed, Box<End>>>) {
    for (file, digest) in hashed {
        if out.send(Ok(Hashed { file, digest })).await.is_err() {
            return;
        }
    }
    let mut work = stream::iter(unknown)
        .map(|file| async move {
            let failed = |file: &Found, why: String| Err(Box::new(End::Entry(entry(file, "failed", Some(why)), None)));
            let read = file.clone();
            match tokio::task::spawn_blocking(move || hash(&read)).await {
                Ok(Ok(digest)) => Ok(Hashed { file, digest }),
                Ok(Err(e)) => failed(&file, e.to_string()),
                Err(e) => failed(&file, e.to_string()),
            }
        })
        .buffered(HASHERS);
    while let Some(done) = work.next().await {
        if out.send(done).await.is_err() {
            return;
        }
    }
}

async fn offer_all(
    client: Client,
    mut hashed: mpsc::Receiver<Result<Hashed, Box<End>>>,
    wanted: mpsc::Sender<Hashed>,
    ends: mpsc::Sender<End>,
) {
    let mut batch = Vec::with_capacity(BATCH);
    loop {
        let n = hashed.recv_many(&mut batch, BATCH).await;
        if n == 0 {
            return;
        }
        let mut files = Vec::with_capacity(n);
        for item in batch.drain(..) {
            match item {
                Ok(h) => files.push(h),
                Err(end) => drop(ends.send(*end).await),
            }
        }
        let entries = files
            .iter()
            .map(|h| OfferEntry {
                digest: h.digest,
                size: h.file.stamp.size,
                name: h.file.name.clone(),
                source: h.file.source.clone(),
                file_time: h.file.file_time(),
            })
            .collect();
        let answers = match offer_patiently(&client, entries).await {
            Ok(answers) => answers,
            Err(e) => {
                let _ = ends.send(End::Fatal(e)).await;
                return;
            }
        };
        for (h, answer) in files.into_iter().zip(answers) {
            let end = match answer {
                OfferAnswer::Want => {
                    if wanted.send(h).await.is_err() {
                        return;
                    }
                    continue;
                }
                OfferAnswer::Have => {
                    let remember = (h.file.key(), h.file.stamp, h.digest, true);
                    End::Entry(entry(&h.file, "present", None), Some(remember))
                }
                OfferAnswer::Leave { reason } => {
                    // Not remembered as settled: when it is taken back there, the copy here counts again.
                    let remember = (h.file.key(), h.file.stamp, h.digest, false);
                    End::Entry(entry(&h.file, "skipped", Some(reason)), Some(remember))
                }
                OfferAnswer::No { reason } => {
                    let remember = (h.file.key(), h.file.stamp, h.digest, false);
                    End::Entry(entry(&h.file, "failed", Some(reason)), Some(remember))
                }
            };
            if ends.send(end).await.is_err() {
                return;
            }
        }
    }
}

async fn offer_patiently(client: &Client, entries: Vec<OfferEntry>) -> Result<Vec<OfferAnswer>, ClientError> {
    let mut attempt = 0;
    loop {
        match client.offer(entries.clone()).await {
            Ok(answers) if answers.answers.len() == entries.len() => return Ok(answers.answers),
            Ok(_) => return Err(ClientError::NotUnderstood),
            Err(e) if e.passes() && attempt < 5 => {
                attempt += 1;
                tokio::time::sleep(ypogeion_core::retry::wait(attempt, 0.5)).await;
            }
            Err(e) => return Err(e),
        }
    }
}

/// How the sending of one file went.
enum Sending {
    Done(Box<Result<ypogeion_core::OriginalId, ClientError>>),
    /// Not now, because of this; other files may go.
    Held(String),
    /// The whole run ends, because of this.
    Halted(String),
}

async fn send_permitted(client: &Client, memory: &Memory, h: &Hashed, sent: &Sent, mut gate: watch::Receiver<Gate>) -> Sending {
    if let Gate::PhotosOnly(why) = &*gate.borrow()
        && Sort::of(&h.file.name, false).is_video()
    {
        return Sending::Held(format!("videos wait for {}", why.words()));
    }
    if let Some(reason) = gate.borrow().reason() {
        return Sending::Halted(reason);
    }
    tokio::select! {
        result = send(client, memory, &h.file, h.digest, sent) => Sending::Done(Box::new(result)),
        reason = closed(&mut gate) => Sending::Halted(reason),
    }
}

async fn send_all(
    client: Client,
    memory: Memory,
    wanted: mpsc::Receiver<Hashed>,
    ends: mpsc::Sender<End>,
    sent: Sent,
    gate: watch::Receiver<Gate>,
) {
    let wanted = stream::unfold(wanted, |mut w| async move { w.recv().await.map(|h| (h, w)) });
    let mut work = std::pin::pin!(
        wanted
            .map(|h| {
                let (client, memory, sent, gate) = (client.clone(), memory.clone(), Arc::clone(&sent), gate.clone());
                async move {
                    let result = send_permitted(&client, &memory, &h, &sent, gate).await;
                    (h, result)
                }
            })
            .buffer_unordered(SENDERS)
    );
    while let Some((h, sending)) = work.next().await {
        let remember = |acknowledged| Some((h.file.key(), h.file.stamp, h.digest, acknowledged));
        let result = match sending {
            Sending::Done(result) => *result,
            Sending::Held(reason) => {
                let end = End::Entry(entry(&h.file, "skipped", Some(reason)), remember(false));
                if ends.send(end).await.is_err() {
                    return;
                }
                continue;
            }
            Sending::Halted(reason) => {
                let _ = ends.send(End::Halted(reason)).await;
                return;
            }
        };
        let end = match result {
            Ok(_) => End::Entry(entry(&h.file, "sent", None), remember(true)),
            // These concern the device or the server as a whole: the next file would fail alike.
            Err(e) if ends_the_run(&e) => End::Fatal(e),
            Err(e) if e.problem() == Some(ProblemType::DigestMismatch) => End::Entry(
                entry(&h.file, "failed", Some("it changed while it was sent; the next backup sends it".to_owned())),
                None,
            ),
            Err(e) => End::Entry(entry(&h.file, "failed", Some(e.to_string())), remember(false)),
        };
        if ends.send(end).await.is_err() {
            return;
        }
    }
}

fn ends_the_run(e: &ClientError) -> bool {
    match e {
        ClientError::Unreachable { .. } | ClientError::AnotherServer(_) | ClientError::NotUnderstood => true,
        ClientError::File(_) => false,
        ClientError::Refused(_) => matches!(
            e.problem(),
            Some(
                ProblemType::NotSignedIn
                    | ProblemType::DeviceRevoked
                    | ProblemType::DeviceEnded
                    | ProblemType::NotAllowed
                    | ProblemType::DatabaseAway
                    | ProblemType::NotSetUp
            )
        ),
    }
}
