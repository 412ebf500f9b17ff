//! `ypogeiond`: the household's server.

use std::{
    path::{Path, PathBuf},
    process::ExitCode,
};

use chrono::NaiveDate;
use clap::{Parser, Subcommand};
use tracing_subscriber::{filter::Targets, layer::SubscriberExt, util::SubscriberInitExt};
use ypogeion_engine::error::Cannot;
use ypogeion_media::worker::Work;
use ypogeiond::{
    api, database,
    failure::chain,
    mark, process, rebuild,
    recover::{self, Wish, exit},
    serve,
    settings::{EXAMPLE, Logs, Settings},
    setup::{SetUp, setup},
};

/// The household's server: receives, files, replicates, recovers.
#[derive(Parser)]
#[command(name = "ypogeiond", version)]
struct Arguments {
    /// The settings file [default: /etc/ypogeion/ypogeiond.toml, if it is there].
    #[arg(long, global = true, value_name = "FILE")]
    config: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the service until it is told to stop. Without a household, it shows where one is made or restored.
    Serve,
    /// Make the household and its keeper. Doing it again changes nothing.
    Setup {
        /// What the household calls itself.
        #[arg(long, value_name = "NAME")]
        household: String,
        /// The keeper's name.
        #[arg(long, value_name = "NAME")]
        keeper: String,
        /// A file with the keeper's password, at least ten characters.
        #[arg(long, value_name = "FILE")]
        password_file: PathBuf,
        /// Use the library's place in spite of what is said about it.
        #[arg(long)]
        accept_place: bool,
    },
    /// Restore the pictures from a store, with nothing but the recovery kit.
    Recover {
        /// The recovery kit as text; - reads it from standard input.
        #[arg(long, value_name = "FILE")]
        kit: PathBuf,
        /// Where to. Run the same command again to continue after an interruption.
        #[arg(long, value_name = "FOLDER")]
        to: PathBuf,
        /// Only what belongs to this member.
        #[arg(long, value_name = "NAME")]
        member: Option<String>,
        /// Only what this device sent.
        #[arg(long, value_name = "NAME")]
        device: Option<String>,
        /// Only what was taken on this day or later, like 2026-06-01.
        #[arg(long, value_name = "DAY")]
        from: Option<NaiveDate>,
        /// Only what was taken on this day or before.
        #[arg(long, value_name = "DAY")]
        until: Option<NaiveDate>,
        /// What was deleted and waited in holding, too; into the folder "holding".
        #[arg(long)]
        deleted: bool,
        /// How many files are fetched at once.
        #[arg(long, default_value_t = 6, value_name = "N")]
        parallel: usize,
        #[command(flatten)]
        otherwise: recover::OtherwiseArgs,
        /// Continue although a store's list of contents is not proven to be the household's own and whole.
        #[arg(long)]
        unproven: bool,
        /// Print the account as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Rebuild the household from its recovery kit: when the database is gone, or the whole house. Run again, it continues.
    Rebuild {
        /// The recovery kit as text; - reads it from standard input.
        #[arg(long, value_name = "FILE")]
        kit: PathBuf,
        /// A file with a new password for the keeper, at least ten characters.
        #[arg(long, value_name = "FILE")]
        password_file: PathBuf,
        #[command(flatten)]
        otherwise: recover::OtherwiseArgs,
        /// Continue although a store's list of contents is not proven to be the household's own and whole.
        #[arg(long)]
        unproven: bool,
    },
    /// Say that the folder in the settings is the household's library, though its mark was lost: shows what is in it, and asks for --yes.
    MarkLibrary {
        /// It is the one.
        #[arg(long)]
        yes: bool,
    },
    /// Undo an upgrade: put the database back as it was before. Run it with the service stopped, then install the version of then.
    UndoUpgrade {
        /// The copy to put back [default: the newest in the data folder's "upgrades"].
        #[arg(long, value_name = "FILE")]
        from: Option<PathBuf>,
    },
    /// Print the API as an OpenAPI document.
    Openapi,
    /// Print the settings file with all defaults.
    Settings,
    /// Read files in a child process. For the service's own use.
    #[command(hide = true)]
    MediaWorker,
    /// Make films anew in a child process. For the service's own use.
    #[command(hide = true)]
    FilmWorker,
}

fn main() -> ExitCode {
    // Before anything else that may speak TLS.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let arguments = Arguments::parse();
    let work = match arguments.command {
        Command::MediaWorker => Some(Work::Pictures),
        Command::FilmWorker => Some(Work::Films),
        _ => None,
    };
    if let Some(work) = work {
        // No threads, no runtime: its limits are set before it reads anything.
        return match ypogeion_media::worker::serve(work) {
            Ok(()) => ExitCode::SUCCESS,
            Err(_) => ExitCode::FAILURE,
        };
    }
    if let Err(e) = process::leave_no_core() {
        eprintln!("ypogeiond: could not keep its memory off the disk: {e}");
        return ExitCode::FAILURE;
    }
    let works_on_the_house = matches!(
        arguments.command,
        Command::Serve
            | Command::Setup { .. }
            | Command::Rebuild { .. }
            | Command::MarkLibrary { .. }
            | Command::UndoUpgrade { .. }
    );
    // Settings that cannot be read are said below, in their place.
    if let (true, Ok(settings)) = (works_on_the_house, Settings::read(arguments.config.as_deref())) {
        process::keep_files_private();
        let files: Vec<&Path> = match &arguments.command {
            Command::Setup { password_file, .. } => vec![password_file],
            Command::Rebuild { kit, password_file, .. } => vec![kit, password_file],
            _ => Vec::new(),
        };
        let files: Vec<&Path> = files.into_iter().filter(|f| *f != Path::new("-")).collect();
        match process::become_unprivileged(&settings, &files) {
            Ok(None) => {}
            Ok(Some(why)) => eprintln!("ypogeiond: {why}"),
            Err(e) => {
                eprintln!("ypogeiond: {e}");
                return ExitCode::from(exit::USAGE);
            }
        }
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(e) => {
            eprintln!("ypogeiond: could not start: {e}");
            return ExitCode::FAILURE;
        }
    };
    let code = runtime.block_on(run(arguments));
    // Reading a password file or a large folder may still be under way; it is not waited for.
    runtime.shutdown_timeout(std::time::Duration::from_secs(5));
    ExitCode::from(code)
}

async fn run(arguments: Arguments) -> u8 {
    let settings = || Settings::read(arguments.config.as_deref());
    match arguments.command {
        Command::Serve => match settings() {
            Ok(settings) => {
                start_logs(&settings.logs);
                report(serve::serve(settings).await)
            }
            Err(e) => usage(&e),
        },
        Command::Setup { household, keeper, password_file, accept_place } => match settings() {
            Ok(settings) => match setup(&settings, &household, &keeper, &password_file, accept_place).await {
                Ok(SetUp::Made) => {
                    println!("{household} is set up, with {keeper} as its keeper. Start it with: ypogeiond serve");
                    exit::DONE
                }
                Ok(SetUp::ThinkAgain(warnings)) => {
                    eprintln!("Nothing was set up. There are problems with {}:", settings.house.library.display());
                    for warning in warnings {
                        eprintln!("  - {warning}.");
                    }
                    eprintln!("Name another folder as \"library\" in the settings file, or give --accept-place.");
                    exit::USAGE
                }
                Ok(SetUp::WasThere) => {
                    println!("A household is set up here already; nothing was changed.");
                    exit::DONE
                }
                Err(e) => report(Err(e)),
            },
            Err(e) => usage(&e),
        },
        Command::Recover { kit, to, member, device, from, until, deleted, parallel, otherwise, unproven, json } => {
            start_logs(&Logs { filter: "warn".into(), ..Logs::default() });
            let (member, device) = (member.as_deref(), device.as_deref());
            recover::run(&Wish {
                kit: &kit,
                to: &to,
                member,
                device,
                from,
                until,
                deleted,
                parallel,
                otherwise: &otherwise.into(),
                unproven,
                json,
            })
            .await
        }
        Command::Rebuild { kit, password_file, otherwise, unproven } => match settings() {
            Ok(settings) => {
                start_logs(&Logs { filter: "warn".into(), ..Logs::default() });
                let wish = rebuild::Wish { kit: &kit, password_file: &password_file, otherwise: &otherwise.into(), unproven };
                rebuild::run(&settings, &wish).await
            }
            Err(e) => usage(&e),
        },
        Command::MarkLibrary { yes } => match settings() {
            Ok(settings) => {
                start_logs(&Logs { filter: "warn".into(), ..Logs::default() });
                mark::run(&settings, yes).await
            }
            Err(e) => usage(&e),
        },
        Command::UndoUpgrade { from } => match settings() {
            Ok(settings) => {
                start_logs(&Logs { filter: "warn".into(), ..Logs::default() });
                report(database::undo_upgrade(&settings, from.as_deref()).await)
            }
            Err(e) => usage(&e),
        },
        Command::Openapi => {
            println!("{}", api::document().to_pretty_json().unwrap_or_default());
            exit::DONE
        }
        Command::Settings => {
            print!("{EXAMPLE}");
            exit::DONE
        }
        Command::MediaWorker | Command::FilmWorker => exit::USAGE,
    }
}

fn report(result: Result<(), Cannot>) -> u8 {
    match result {
        Ok(()) => exit::DONE,
        Err(e) => {
            eprintln!("ypogeiond: {}", chain(&e));
            exit::PARTLY
        }
    }
}

fn usage(e: &dyn std::error::Error) -> u8 {
    eprintln!("ypogeiond: {e}");
    exit::USAGE
}

fn start_logs(logs: &Logs) {
    let filter: Targets = logs.filter.parse().expect("settings that were read have a filter that can be");
    let layer = tracing_subscriber::fmt::layer().with_writer(std::io::stderr);
    let registry = tracing_subscriber::registry().with(filter);
    if logs.format == "json" {
        registry.with(layer.json()).init();
    } else {
        registry.with(layer.with_target(false).with_ansi(false)).init();
    }
}
