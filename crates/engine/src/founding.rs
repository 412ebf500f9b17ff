//! Making a household, in a place that was judged. Doing it twice does no harm.

use std::{fs, io};

use chrono::Utc;
use uuid::Uuid;
use ypogeion_catalog::{Catalog, CatalogError, people::Household};
use ypogeion_core::{ledger::LedgerKey, object::NameKey};
use ypogeion_library::Library;
use ypogeion_offsite::Identity;

use crate::{
    error::{Cannot, Error, failed},
    keys::write_file,
    people::new_person,
    secrets,
    settings::Settings,
};

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Founded {
    /// The household is new.
    Now,
    /// It was there already; nothing was changed.
    Before,
}

/// Makes the household and its keeper.
pub async fn found(
    settings: &Settings,
    catalog: &Catalog,
    household: &str,
    keeper: &str,
    password: String,
) -> Result<Founded, Cannot> {
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
        return Err(failed("name the household")(Error::invalid("A household’s name has between 1 and 60 characters.")));
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
        name_key: NameKey::new(secrets::random()),
        ledger_key: Some(LedgerKey::new(secrets::random())),
    };
    let made = match catalog.create_household(&household, now).await {
        Ok(()) => Founded::Now,
        Err(CatalogError::Taken) => Founded::Before,
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
