//! Setting a household up, from flags and a password file, so that scripts can do it. Doing it twice does no harm.

use std::{fs, io, path::Path};

use chrono::Utc;
use uuid::Uuid;
use ypogeion_catalog::{Catalog, CatalogError, people::Household};
use ypogeion_core::{
    ledger::LedgerKey,
    object::NameKey,
    place::{PlaceWarning, judge},
};
use ypogeion_library::{Library, place};
use ypogeion_offsite::Identity;

use crate::{
    api::people::new_person,
    failure::Failure,
    keys::write_file,
    security,
    serve::{Database, ServeError, failed},
    settings::Settings,
};

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
) -> Result<SetUp, ServeError> {
    let password = fs::read_to_string(password_file).map_err(failed(format!("read {}", password_file.display())))?;
    let password = password.trim_end_matches(['\n', '\r']).to_owned();
    // A household that is there already was asked when it was made; and its library's disk may be away.
    if !settings.key_file().exists() {
        fs::create_dir_all(&settings.library).map_err(failed(format!("make the library {}", settings.library.display())))?;
        let facts = place::probe(&settings.library).map_err(failed(format!("use the library {}", settings.library.display())))?;
        let warnings = judge(&facts, settings.reserve);
        if !accept_place && warnings.iter().any(|w| w.is_grave()) {
            return Ok(SetUp::ThinkAgain(warnings));
        }
    }
    let database = Database::open(settings).await?;
    let result = in_catalog(settings, &database.catalog, household, keeper, password).await;
    database.close().await?;
    result
}

/// The same into a catalogue that is open, in a place that was judged.
pub(crate) async fn in_catalog(
    settings: &Settings,
    catalog: &Catalog,
    household: &str,
    keeper: &str,
    password: String,
) -> Result<SetUp, ServeError> {
    let new = catalog.household().await.map_err(failed("read the household"))?.is_none();
    let library = if new {
        // Judged now, not when the first picture comes: can it be written, and does nobody else use it?
        let library =
            Library::found(&settings.library).map_err(failed(format!("open the library {}", settings.library.display())))?;
        library.presence().id()
    } else {
        None
    };
    let name = household.trim();
    if name.is_empty() || name.chars().count() > 60 {
        return Err(failed("name the household")(Failure::bad("A household’s name has between 1 and 60 characters.")));
    }
    let person = new_person(keeper, "keeper", password, None).await.map_err(failed("make the keeper"))?;
    // The key before the household: a household whose key was lost to a kill could never be opened again.
    let key_file = settings.key_file();
    match fs::metadata(&key_file) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            write_file(&key_file, &[Identity::generate()]).map_err(failed(format!("write {}", key_file.display())))?;
        }
        Err(e) => return Err(failed(format!("look at {}", key_file.display()))(e)),
        Ok(_) => {}
    }
    let now = Utc::now();
    let household = Household {
        name: name.to_owned(),
        replica: Uuid::new_v4(),
        name_key: NameKey::new(security::random()),
        ledger_key: Some(LedgerKey::new(security::random())),
    };
    let made = match catalog.create_household(&household, now).await {
        Ok(()) => SetUp::Made,
        Err(CatalogError::Taken) => SetUp::WasThere,
        Err(e) => return Err(failed("make the household")(e)),
    };
    if let Some(id) = library {
        catalog.set_library(id.0).await.map_err(failed("write down which library is the household's"))?;
    }
    // A kill between the two leaves a household without a keeper; running this again makes one.
    if catalog.people().await.map_err(failed("read the members"))?.is_empty() {
        catalog.add_person(&person, now).await.map_err(failed("make the keeper"))?;
        let line = format!("set up {name} with {} as keeper", person.name);
        catalog.write_record(now, &person.name, &line).await.map_err(failed("write the record"))?;
    }
    Ok(made)
}
