//! The command for a library that has lost its mark: its keeper looks at what was found and says that it is the one.

use std::fs;

use ypogeion_core::words;
use ypogeion_library::{LibraryId, mark_as};

use crate::{database::Database, recover::exit, settings::Settings};
use ypogeion_engine::{
    error::chain,
    from_kit::{Stop, Why},
};

/// Looked for: so many of the latest originals, and of the first.
const EACH: i64 = 100;

/// Looks for some originals in the library's folder and says what it found; with `yes`, gives the folder the mark of the household's
/// library. Returns the exit code.
pub async fn run(settings: &Settings, yes: bool) -> u8 {
    match attempt(settings, yes).await {
        Ok(code) => code,
        Err(stop) => exit::told(&stop),
    }
}

async fn attempt(settings: &Settings, yes: bool) -> Result<u8, Stop> {
    let database = Database::open(settings).await.map_err(|e| Stop::new(Why::Partly, chain(&e)))?;
    let asked = async {
        Ok::<_, ypogeion_catalog::CatalogError>((database.catalog.library().await?, database.catalog.some_paths(EACH).await?))
    };
    let asked = asked.await.map_err(|e| Stop::new(Why::Partly, format!("could not read what should be there: {e}")));
    database.close().await.map_err(|e| Stop::new(Why::Partly, chain(&e)))?;
    let (library, paths) = asked?;
    let Some(id) = library else {
        return Err(Stop::new(
            Why::Refused,
            "this household has no library that could be marked; start the service first".to_owned(),
        ));
    };
    let there = paths.iter().filter(|p| fs::symlink_metadata(settings.house.library.join(p.as_str())).is_ok()).count() as u64;
    println!(
        "{}: {} of {} that were looked for are there.",
        settings.house.library.display(),
        words::count(there),
        words::counted(paths.len() as u64, "file")
    );
    if !yes {
        println!(
            "If this is the household's library, do the same again with --yes. What is missing in it is then taken for lost, and healed."
        );
        return Ok(exit::REFUSED);
    }
    if there == 0 && !paths.is_empty() {
        return Err(Stop::new(Why::Refused, "none of them is there, so this is not the library; nothing was changed".to_owned()));
    }
    mark_as(&settings.house.library, LibraryId(id)).map_err(|e| Stop::new(Why::Partly, chain(&e)))?;
    println!("It is marked as the household's library.");
    Ok(exit::DONE)
}
