//! The command that rebuilds a household from its recovery kit. What does it is [`ypogeion_engine::rebuild`].

use std::{fs, path::Path};

use ypogeion_engine::{
    error::chain,
    from_kit::{Otherwise, Stop, Why},
    rebuild::{Source, rebuild},
};

use crate::{
    database::Database,
    recover::{exit, read_kit},
    settings::Settings,
};

/// What to rebuild from, on the command line.
#[derive(Debug)]
pub struct Wish<'a> {
    /// The kit's file, or `-` for standard input.
    pub kit: &'a Path,
    /// A file with the keeper's new password.
    pub password_file: &'a Path,
    /// What the kit does not know of its stores.
    pub otherwise: &'a Otherwise,
    /// Go on though a ledger is not proven to be the household's own and whole.
    pub unproven: bool,
}

/// Rebuilds, telling on standard error what it does. Returns the exit code.
pub async fn run(settings: &Settings, wish: &Wish<'_>) -> u8 {
    match attempt(settings, wish).await {
        Ok(code) => code,
        Err(stop) => exit::told(&stop),
    }
}

async fn attempt(settings: &Settings, wish: &Wish<'_>) -> Result<u8, Stop> {
    let text =
        read_kit(wish.kit).map_err(|e| Stop::new(Why::Usage, format!("could not read the kit {}: {e}", wish.kit.display())))?;
    let password = fs::read_to_string(wish.password_file)
        .map_err(|e| Stop::new(Why::Usage, format!("could not read {}: {e}", wish.password_file.display())))?;
    let mut source = Source::read(&text, password.trim_end_matches(['\n', '\r']).to_owned(), wish.otherwise).await?;
    source.unproven = wish.unproven;
    let database = Database::open(settings).await.map_err(|e| Stop::new(Why::Partly, chain(&e)))?;
    let result = rebuild(&settings.house, &database.catalog, &source, &|line| eprintln!("{line}")).await;
    database.close().await.map_err(|e| Stop::new(Why::Partly, chain(&e)))?;
    let whole = result?;
    eprintln!(
        "Start the service now: ypogeiond serve. It looks for every original in the library and brings home what is not there, newest first.\n\
         Everybody else's password has to be set anew, and every device paired again, under Devices and people."
    );
    Ok(if whole { exit::DONE } else { exit::PARTLY })
}
