//! Setting a household up, from flags and a password file, so that scripts can do it. Doing it twice does no harm.

use std::{fs, path::Path};

use ypogeion_core::place::{PlaceWarning, judge};
use ypogeion_engine::{
    error::{Cannot, failed},
    founding::{Founded, found},
};
use ypogeion_library::place;

use crate::{database::Database, settings::Settings};

/// What came of it.
#[derive(Debug, PartialEq, Eq)]
pub enum SetUp {
    /// The household is new.
    Made,
    /// It was there already; nothing was changed.
    WasThere,
    /// The library's place has to be thought about first; nothing was made.
    ThinkAgain(Vec<PlaceWarning>),
}

/// Makes the household and its keeper.
///
/// The library's place is tried out first. `accept_place`: the keeper knows what is wrong with it.
pub async fn setup(
    settings: &Settings,
    household: &str,
    keeper: &str,
    password_file: &Path,
    accept_place: bool,
) -> Result<SetUp, Cannot> {
    let password = fs::read_to_string(password_file).map_err(failed(format!("read {}", password_file.display())))?;
    let password = password.trim_end_matches(['\n', '\r']).to_owned();
    // A household that is there already was asked when it was made; and its library's disk may be away.
    if !settings.house.key_file().exists() {
        fs::create_dir_all(&settings.house.library)
            .map_err(failed(format!("make the library {}", settings.house.library.display())))?;
        let facts = place::probe(&settings.house.library)
            .map_err(failed(format!("use the library {}", settings.house.library.display())))?;
        let warnings = judge(&facts, settings.house.reserve);
        if !accept_place && warnings.iter().any(|w| w.is_grave()) {
            return Ok(SetUp::ThinkAgain(warnings));
        }
    }
    let database = Database::open(settings).await?;
    let result = found(&settings.house, &database.catalog, household, keeper, password).await;
    database.close().await?;
    Ok(match result? {
        Founded::Now => SetUp::Made,
        Founded::Before => SetUp::WasThere,
    })
}
