//! `ypogeion`: the client of a household's computers.
//!
//! Commands translate: arguments into calls of the agent, answers into lines. Exit codes: 0 done, 1 partly, 2 usage,
//! 3 unreachable, 4 refused.

mod background;
mod commands;
mod find;
mod gather;
mod key;
mod room;
mod show;
mod sources;
mod stores;
mod taken;
mod turn;
mod words;

use std::{path::PathBuf, process::ExitCode};

use clap::{CommandFactory, Parser, Subcommand};
use commands::Failed;
use ypogeion_agent::order::Order;

/// Keeps the pictures of this computer safe at home, and tells where each of them is.
#[derive(Parser)]
#[command(name = "ypogeion", version, after_help = "Exit codes: 0 done, 1 partly, 2 usage, 3 server unreachable, 4 refused.")]
struct Arguments {
    /// This device's own folder [default: ypogeion below the user's configuration folder].
    #[arg(long, global = true, env = "YPOGEION_DEVICE", value_name = "FOLDER")]
    device: Option<PathBuf>,
    /// Print JSON instead of text.
    #[arg(long, global = true)]
    json: bool,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Pair this computer with the household's server.
    Pair(commands::Pair),
    /// Make a pairing code for another device.
    PairCode(commands::PairCode),
    /// The folders that are backed up.
    Sources {
        #[command(subcommand)]
        what: Option<sources::Sources>,
    },
    /// When this computer may send by itself.
    Conditions(sources::ConditionsChange),
    /// Send what is new.
    Backup(commands::Backup),
    /// Send by itself whenever something changes and the conditions allow it, until it is ended.
    Watch(background::Watch),
    /// Pause: end the backup that is running, and begin no other.
    Pause,
    /// Resume after a pause.
    Resume,
    /// End the backup that is running. The next one may begin.
    Stop,
    /// Let this computer watch in the background from the start of the session (a systemd user unit).
    Background(background::Background),
    /// Remove what the household has safe, to make room here. Nothing goes without the server's clearance.
    MakeRoom(room::MakeRoom),
    /// The stores, for the keeper: how they do, a trial, a pause, a check, what they cost.
    Stores(stores::Stores),
    /// The household's key and its recovery kit, for the keeper.
    Key(key::Key),
    /// The last backups of this device.
    Runs {
        /// At most this many.
        #[arg(long, default_value_t = 10)]
        limit: u32,
    },
    /// How this device and the house are doing.
    Status,
    /// Find pictures of yours in words, and print where each is in the library, one a line, newest first.
    #[command(after_help = find::HELP)]
    Find(find::Find),
    /// Albums: list them, make one, put into it what a line finds, take it apart.
    Albums(gather::Albums),
    /// Links to albums, for people without an account: make, list, withdraw them.
    Links(gather::Links),
    /// Write a title or a caption about the pictures that a line finds. No file is changed.
    Words(words::Words),
    /// Put away the pictures that a line finds, or put them back.
    PutAway(words::PutAway),
    /// Say when, or where, the pictures were taken that a line finds. No file is changed.
    Taken(taken::Taken),
    /// Turn the pictures that a line finds. No file is changed.
    Turn(turn::Turn),
    /// Every file of this device, and where it is: only on the device, at home, offsite, or proven.
    Items {
        /// Only those that have reached just this layer.
        #[arg(long, value_name = "LAYER", value_parser = ["device", "home", "offsite", "proven"])]
        layer: Option<String>,
    },
    /// Print completions for a shell.
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Print the manual page.
    Manual,
}

#[tokio::main]
async fn main() -> ExitCode {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let arguments = Arguments::parse();
    let context = commands::Context { folder: arguments.device.unwrap_or_else(default_folder), json: arguments.json };
    let result = match arguments.command {
        Command::Pair(pair) => commands::pair(&context, pair).await,
        Command::PairCode(code) => commands::pair_code(&context, code).await,
        Command::Sources { what } => sources::sources(&context, what),
        Command::Conditions(change) => sources::conditions(&context, &change),
        Command::Watch(watch) => background::watch(&context, &watch).await,
        Command::Pause => background::order(&context, Order::Pause),
        Command::Resume => background::order(&context, Order::Go),
        Command::Stop => background::order(&context, Order::Stop),
        Command::Background(background) => background::background(&context, &background),
        Command::MakeRoom(rule) => room::make_room(&context, &rule).await,
        Command::Backup(backup) => commands::backup(&context, &backup).await,
        Command::Stores(what) => stores::stores(&context, what).await,
        Command::Key(what) => key::key(&context, what).await,
        Command::Runs { limit } => commands::runs(&context, limit).await,
        Command::Status => commands::status(&context).await,
        Command::Find(what) => find::find(&context, &what).await,
        Command::Albums(what) => gather::albums(&context, what).await,
        Command::Links(what) => gather::links(&context, what).await,
        Command::Words(what) => words::words(&context, what).await,
        Command::PutAway(what) => words::put_away(&context, what).await,
        Command::Taken(what) => taken::say(&context, what).await,
        Command::Turn(what) => turn::turn(&context, what).await,
        Command::Items { layer } => commands::items(&context, layer.as_deref()).await,
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Arguments::command(), "ypogeion", &mut std::io::stdout());
            Ok(commands::DONE)
        }
        Command::Manual => clap_mangen::Man::new(Arguments::command())
            .render(&mut std::io::stdout())
            .map(|()| commands::DONE)
            .map_err(|e| Failed { code: commands::PARTLY, sentence: e.to_string() }),
    };
    match result {
        Ok(code) => ExitCode::from(code),
        Err(Failed { code, sentence }) => {
            eprintln!("ypogeion: {sentence}");
            ExitCode::from(code)
        }
    }
}

fn default_folder() -> PathBuf {
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|p| p.is_absolute());
    let base = base.or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".config")));
    base.unwrap_or_else(|| PathBuf::from(".")).join("ypogeion")
}
