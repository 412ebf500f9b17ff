//! `ypogeion-standins`: the simulated outside world, for the demo.

use std::{path::PathBuf, process::ExitCode};

use clap::{Parser, Subcommand};
use ypogeion_standins::store::{Options, StandInStore};

/// The outside world, small and simulated.
#[derive(Parser)]
#[command(name = "ypogeion-standins", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// An object store that speaks S3, with faults on request.
    Store {
        /// Where its objects are kept.
        #[arg(long)]
        folder: PathBuf,
        /// Its bucket.
        #[arg(long)]
        bucket: String,
        /// Access key id.
        #[arg(long)]
        access_key: String,
        /// Secret access key.
        #[arg(long)]
        secret_key: String,
        /// Its port; 0 takes a free one.
        #[arg(long, default_value_t = 0)]
        port: u16,
        /// The port of its control address; 0 takes a free one.
        #[arg(long, default_value_t = 0)]
        control_port: u16,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    let Command::Store { folder, bucket, access_key, secret_key, port, control_port } = Arguments::parse().command;
    match StandInStore::start(Options { folder, bucket, access_key, secret_key, port, control_port }).await {
        Ok(store) => {
            // One line for whoever started it, with the ports that were taken.
            println!("store http://{} control http://{}", store.address, store.control);
            let _ = tokio::signal::ctrl_c().await;
            ExitCode::SUCCESS
        }
        Err(e) => {
            eprintln!("ypogeion-standins: {e}");
            ExitCode::FAILURE
        }
    }
}
