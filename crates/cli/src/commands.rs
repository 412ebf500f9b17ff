//! One function for each command.

use std::{
    fs,
    io::{BufRead, IsTerminal, Write},
    path::{Path, PathBuf},
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use clap::Args;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use qrcode::{QrCode, render::unicode::Dense1x2};
use serde_json::json;
use url::Url;
use ypogeion_agent::{
    backup::{self as engine, Options, RunError, Sent, Told},
    client::{CLIENT, Client, ClientError, Session},
    home::{Home, HomeError, Paired},
    platform::{Linux, Platform},
    runlog,
    survey::SourcePlan,
};
use ypogeion_core::{Digest, OriginalName, words};
use ypogeion_wire::{
    pairing::{PairingAddress, normalise_code},
    people::{ClaimPairing, SignIn},
};

use crate::show::{Table, ago};

pub const DONE: u8 = 0;
pub const PARTLY: u8 = 1;
pub const USAGE: u8 = 2;
const UNREACHABLE: u8 = 3;
pub const REFUSED: u8 = 4;

/// Where this device keeps its things, and how to print.
pub struct Context {
    pub folder: PathBuf,
    pub json: bool,
}

/// A command that was not done: its exit code and a sentence.
pub struct Failed {
    pub code: u8,
    pub sentence: String,
}

pub type Result = std::result::Result<u8, Failed>;

impl From<ClientError> for Failed {
    fn from(e: ClientError) -> Self {
        let code = match &e {
            ClientError::Refused(_) | ClientError::AnotherServer(_) => REFUSED,
            ClientError::Unreachable { .. } | ClientError::NotUnderstood => UNREACHABLE,
            ClientError::File(_) => PARTLY,
        };
        let trace = match &e {
            ClientError::Refused(p) if p.status >= 500 => p.request.as_ref().map(|id| format!(" (request {id})")),
            _ => None,
        };
        Failed { code, sentence: format!("{e}{}", trace.unwrap_or_default()) }
    }
}

impl From<HomeError> for Failed {
    fn from(e: HomeError) -> Self {
        match e {
            HomeError::Client(e) => e.into(),
            HomeError::Io { ref source, .. } => Failed { code: PARTLY, sentence: format!("{e}: {source}") },
            HomeError::NotPaired => Failed { code: USAGE, sentence: e.to_string() },
            e => Failed { code: PARTLY, sentence: e.to_string() },
        }
    }
}

impl From<RunError> for Failed {
    fn from(e: RunError) -> Self {
        match e {
            RunError::Home(e) => e.into(),
            RunError::Client(e) => e.into(),
            RunError::NoSources => Failed { code: USAGE, sentence: e.to_string() },
            RunError::NotLooked(_) => Failed { code: PARTLY, sentence: e.to_string() },
        }
    }
}

pub fn usage(sentence: impl Into<String>) -> Failed {
    Failed { code: USAGE, sentence: sentence.into() }
}

/// Prints to standard output; a reader that went away (a closed pipe) is no failure of ours.
pub fn print(text: &str) {
    let _ = std::io::stdout().write_all(text.as_bytes());
}

pub fn print_json(value: &impl serde::Serialize) {
    print(&format!("{}\n", serde_json::to_string_pretty(value).unwrap_or_default()));
}

/// Asks somebody at a terminal to type `word` before something that cannot simply be taken back; `yes` answers for them.
pub fn agreed(yes: bool, json: bool, what: &str, word: &str) -> std::result::Result<bool, Failed> {
    if yes {
        return Ok(true);
    }
    if json || !std::io::stdin().is_terminal() {
        return Err(usage(format!("{what} Give --yes to confirm.")));
    }
    print(&format!("{what} Type \"{word}\" to go on: "));
    let mut typed = String::new();
    std::io::stdin().lock().read_line(&mut typed).map_err(|e| usage(e.to_string()))?;
    Ok(typed.trim() == word)
}

#[derive(Args)]
pub struct Pair {
    /// The address below the QR code (ypogeion:pair?…), or the code alone together with --server.
    code: String,
    /// Address of the server, with a typed code.
    #[arg(long, value_name = "URL")]
    server: Option<Url>,
    /// SHA-256 of the server's certificate, with a typed code and https. It is shown in the console.
    #[arg(long, value_name = "DIGEST")]
    certificate: Option<Digest>,
    /// What this device is called [default: the computer's name].
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// phone, tablet, computer or other.
    #[arg(long, default_value = "computer", value_name = "KIND")]
    kind: String,
}

/// Pairs this device.
pub async fn pair(context: &Context, pair: Pair) -> Result {
    let mut home = Home::open(&context.folder)?;
    let (server, certificate, code) = match (PairingAddress::parse(&pair.code), pair.server) {
        (Ok(address), None) => (address.at, address.certificate, address.code),
        (Ok(_), Some(_)) => return Err(usage("the address names the server already; leave --server out")),
        (Err(_), Some(server)) => (server, pair.certificate, normalise_code(&pair.code)),
        (Err(e), None) => return Err(usage(format!("{e}, or give the code and --server"))),
    };
    if server.scheme() == "https" && certificate.is_none() {
        return Err(usage(
            "a typed code does not say which certificate to trust; use the whole address below the QR code, or add --certificate",
        ));
    }
    let device_name = pair.name.unwrap_or_else(computer_name);
    let claim = ClaimPairing { code, device_name: device_name.clone(), device_kind: pair.kind, client: CLIENT.to_owned() };
    let claimed = Client::new(&server, certificate, None)?.claim(&claim).await?;
    home.state.paired = Some(Paired {
        server,
        certificate,
        token: claimed.token,
        device: claimed.device,
        household: claimed.household.clone(),
        person: claimed.person_name.clone(),
    });
    home.save()?;
    if context.json {
        print_json(
            &json!({ "device": claimed.device, "name": device_name, "household": claimed.household, "person": claimed.person_name }),
        );
    } else {
        print(&format!("{device_name} is paired with {} as a device of {}. It may:\n", claimed.household, claimed.person_name));
        for may in &claimed.may {
            print(&format!("  - {may}\n"));
        }
        if home.state.sources.is_empty() {
            print("Next: ypogeion sources add FOLDER, then ypogeion backup.\n");
        }
    }
    Ok(DONE)
}

fn computer_name() -> String {
    let name = fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    OriginalName::from_device(name.trim()).into()
}

/// Who does something that is a person's to do, and where.
#[derive(Args)]
pub struct Person {
    /// Address of the server [default: the one this computer is paired with].
    #[arg(long, value_name = "URL")]
    server: Option<Url>,
    /// SHA-256 of the server's certificate, with --server and https.
    #[arg(long, value_name = "DIGEST")]
    certificate: Option<Digest>,
    /// Who signs in.
    #[arg(long, value_name = "NAME")]
    name: String,
    /// A file with the password.
    #[arg(long, value_name = "FILE")]
    password_file: PathBuf,
}

impl Person {
    /// The password, which some things ask for again.
    pub fn password(&self) -> std::result::Result<String, Failed> {
        secret(&self.password_file)
    }

    /// Signs in.
    pub async fn sign_in(&self, context: &Context) -> std::result::Result<Session, Failed> {
        let (server, certificate) = match &self.server {
            Some(server) => (server.clone(), self.certificate),
            None => {
                let home = Home::open(&context.folder)?;
                let paired = home.paired().map_err(|_| usage("name the server with --server"))?;
                (paired.server.clone(), paired.certificate)
            }
        };
        let sign_in = SignIn { name: self.name.clone(), password: self.password()? };
        Ok(Client::new(&server, certificate, None)?.sign_in(&sign_in).await?)
    }
}

/// A secret that is in a file, so that it is in no list of processes.
pub fn secret(file: &Path) -> std::result::Result<String, Failed> {
    let text = fs::read_to_string(file).map_err(|e| usage(format!("could not read {}: {e}", file.display())))?;
    Ok(text.trim_end_matches(['\n', '\r']).to_owned())
}

#[derive(Args)]
pub struct PairCode {
    #[command(flatten)]
    person: Person,
    /// For whom the device is; only the keeper may name somebody else.
    #[arg(long, value_name = "NAME")]
    r#for: Option<String>,
}

/// Makes a pairing code.
pub async fn pair_code(context: &Context, code: PairCode) -> Result {
    let session = code.person.sign_in(context).await?;
    let pairing = session.make_pairing(code.r#for.as_deref()).await;
    // The session was for this one thing.
    session.end().await;
    let pairing = pairing?;
    let address = pairing.address.clone().unwrap_or_default();
    if context.json {
        print_json(
            &json!({ "code": pairing.code, "address": address, "person": pairing.person_name, "expires_at": pairing.expires_at }),
        );
        return Ok(DONE);
    }
    if let Ok(qr) = QrCode::new(&address) {
        print(&format!("{}\n", qr.render::<Dense1x2>().quiet_zone(true).build()));
    }
    print(&format!(
        "For a device of {}. Scan this, or type the code {} within ten minutes.\n{address}\n",
        pairing.person_name,
        pairing.code.unwrap_or_default()
    ));
    Ok(DONE)
}

#[derive(Args)]
pub struct Backup {
    /// Say what would be sent, and send nothing.
    #[arg(long)]
    dry_run: bool,
    /// Offer everything again, also what was acknowledged before.
    #[arg(long)]
    all: bool,
    /// Name every file, not only those that failed.
    #[arg(long, short)]
    verbose: bool,
}

/// Backs up.
pub async fn backup(context: &Context, backup: &Backup) -> Result {
    let home = Home::open(&context.folder)?;
    let sent = Sent::default();
    let terminal = std::io::stderr().is_terminal() && !context.json;
    let bar =
        ProgressBar::with_draw_target(None, if terminal { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() });
    bar.set_style(
        ProgressStyle::with_template("{wide_bar} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left")
            .expect("a fixed template"),
    );
    let mover = {
        let (bar, sent) = (bar.clone(), Arc::clone(&sent));
        tokio::spawn(async move {
            loop {
                tokio::time::sleep(Duration::from_millis(200)).await;
                bar.set_position(sent.load(Ordering::Relaxed));
            }
        })
    };
    let options = Options { all: backup.all, dry_run: backup.dry_run, asked: true, settle: None };
    let platform: Arc<dyn Platform> = Arc::new(Linux::default());
    let line = |text: String| {
        if terminal {
            bar.println(text);
        } else {
            eprintln!("{text}");
        }
    };
    let began = std::time::Instant::now();
    let result = engine::backup(&home, &platform, options, &sent, |told| match told {
        Told::Looked { files, new, bytes } => {
            bar.set_length(bytes);
            if !context.json && new > 0 {
                line(format!(
                    "{} found; {} to look at, {}.",
                    words::counted(files, "file"),
                    words::count(new),
                    words::size(bytes)
                ));
            }
        }
        Told::File(e) if e.outcome == "wanted" && !context.json && backup.verbose => {
            print(&format!("{}/{}\n", e.source, e.name));
        }
        Told::File(e) => {
            if e.outcome == "present" || e.outcome == "failed" {
                // Its bytes will not be sent (any more): the bar counts them as done with.
                bar.set_length(bar.length().unwrap_or(0).saturating_sub(e.size));
            }
            if !context.json && (e.outcome == "failed" || backup.verbose) {
                let why = e.reason.map(|r| format!(": {r}")).unwrap_or_default();
                line(format!("{} {}/{}{why}", e.outcome, e.source, e.name));
            }
        }
    })
    .await;
    mover.abort();
    bar.finish_and_clear();
    let account = result?;
    let counts = account.counts;
    let seconds = began.elapsed().as_secs_f64();
    if context.json {
        print_json(&json!({
            "counts": counts, "seconds": seconds, "entries": account.entries, "halted": account.halted, "plan": plan_json(&account.plan)
        }));
    } else if backup.dry_run {
        print(&plan_words(&account.plan, runlog::rate(home.folder())));
    } else if let Some(reason) = &account.halted {
        let done = if counts.checked > 0 { summary(&counts, seconds) } else { String::new() };
        print(&format!("{done}Not finished: {reason}. The next backup continues from there.\n"));
    } else {
        print(&summary(&counts, seconds));
    }
    Ok(if counts.failed > 0 || account.halted.is_some() { PARTLY } else { DONE })
}

fn plan_json(plan: &[SourcePlan]) -> serde_json::Value {
    plan.iter()
        .map(|p| {
            json!({
                "source": p.source, "files": p.files, "bytes": p.bytes, "new": p.new, "new_bytes": p.new_bytes, "left_out": p.left_out
            })
        })
        .collect()
}

/// What a run would do: how many, how much, about how long.
fn plan_words(plan: &[SourcePlan], rate: Option<f64>) -> String {
    let mut table = Table::new(&["Source", "Files", "Size", "New", "Size", "Left out"], &[false, true, true, true, true, true]);
    for p in plan {
        table.row(vec![
            p.source.clone(),
            words::count(p.files),
            words::size(p.bytes),
            words::count(p.new),
            words::size(p.new_bytes),
            words::count(p.left_out),
        ]);
    }
    let (new, bytes) = plan.iter().fold((0, 0), |(n, b), p| (n + p.new, b + p.new_bytes));
    let how_long = match rate {
        _ if new == 0 => "Nothing is new.".to_owned(),
        Some(rate) => {
            let span = chrono::TimeDelta::seconds((bytes as f64 / rate) as i64);
            format!(
                "{} new, {}: about {} at the rate of the last backups.",
                words::counted(new, "file"),
                words::size(bytes),
                words::span(span)
            )
        }
        None => format!(
            "{} new, {}. How long that takes is known after the first backup.",
            words::counted(new, "file"),
            words::size(bytes)
        ),
    };
    format!("{table}{how_long}\n")
}

fn summary(c: &ypogeion_wire::run::RunCounts, seconds: f64) -> String {
    let mut text = format!("Checked {}", words::count(c.checked));
    if c.sent == 0 && c.failed == 0 {
        text += ", nothing new.";
    } else {
        let rate = words::size((c.bytes as f64 / seconds.max(0.001)) as u64);
        text += &format!(": sent {} ({}, {rate}/s)", words::count(c.sent), words::size(c.bytes));
        if c.present > 0 {
            text += &format!(", {} already there", words::count(c.present));
        }
        if c.failed > 0 {
            text += &format!(", {} failed", words::count(c.failed));
        }
        text += ".";
    }
    if c.skipped > 0 {
        text += &format!(" {} left out.", words::count(c.skipped));
    }
    text + "\n"
}

/// The last runs of this device.
pub async fn runs(context: &Context, limit: u32) -> Result {
    let runs = Home::open(&context.folder)?.client()?.runs(limit).await?;
    if context.json {
        print_json(&runs);
        return Ok(DONE);
    }
    if runs.is_empty() {
        print("There was no backup yet. Start one with: ypogeion backup\n");
        return Ok(DONE);
    }
    let mut table = Table::new(
        &["Began", "State", "Checked", "Sent", "There", "Left out", "Failed", "Bytes"],
        &[false, false, true, true, true, true, true, true],
    );
    for r in runs {
        let c = r.counts;
        table.row(vec![
            ago(r.began_at),
            r.state.word().replace('-', " "),
            words::count(c.checked),
            words::count(c.sent),
            words::count(c.present),
            words::count(c.skipped),
            words::count(c.failed),
            words::size(c.bytes),
        ]);
    }
    print(&table.to_string());
    Ok(DONE)
}

/// How this device and the house are doing.
pub async fn status(context: &Context) -> Result {
    let status = Home::open(&context.folder)?.client()?.status().await?;
    if context.json {
        print_json(&status);
        return Ok(DONE);
    }
    print(&format!("{} ({}), paired with {}.\n", status.name, status.person_name, status.household));
    let mut table = Table::new(&["", "Files"], &[false, true]);
    table.row(vec!["on this device".into(), words::count(status.offered)]);
    table.row(vec!["at home".into(), words::count(status.home)]);
    table.row(vec!["offsite".into(), words::count(status.offsite)]);
    table.row(vec!["proven".into(), words::count(status.proven)]);
    print(&table.to_string().lines().skip(1).map(|l| format!("  {l}\n")).collect::<String>());
    if status.waiting > 0 {
        print(&format!("{} still to be sent.\n", words::counted(status.waiting, "file")));
    }
    print(&format!("The house: {}\n", status.sentence));
    Ok(DONE)
}

/// Every file of this device and its layer.
pub async fn items(context: &Context, layer: Option<&str>) -> Result {
    let client = Home::open(&context.folder)?.client()?;
    let (mut after, mut all) = (None::<String>, Vec::new());
    loop {
        let page = client.items(after.as_deref()).await?;
        all.extend(page.items.into_iter().filter(|i| layer.is_none_or(|l| l == i.layer.word())));
        match page.next {
            Some(next) => after = Some(next),
            None => break,
        }
    }
    if context.json {
        print_json(&all);
        return Ok(DONE);
    }
    let mut table = Table::new(&["Layer", "Size", "File", "In the library"], &[false, true, false, false]);
    for i in all {
        let path = i.path.unwrap_or_else(|| "not yet".into());
        table.row(vec![i.layer.to_string(), words::size(i.size), format!("{}/{}", i.source, i.name), path]);
    }
    print(&table.to_string());
    Ok(DONE)
}
