//! Opening the house: its keys, its library, and what a kill left half done.

use std::{fs, io, path::Path, sync::Arc};

use chrono::Utc;
use uuid::Uuid;
use ypogeion_catalog::{Catalog, people::Household};
use ypogeion_core::ledger::LedgerKey;
use ypogeion_library::{Library, LibraryId};
use ypogeion_media::confine::Confined;
use ypogeion_offsite::Identity;

use crate::{
    elsewhere,
    engine::{Engine, Parts},
    error::{Cannot, Error, chain, failed},
    keys::{self, Keyring},
    private::write_private,
    secrets,
    settings::Settings,
    work,
};

/// Opens the house that is in the catalogue. When this returns, what was interrupted is settled and requests may be answered; background work
/// is not begun yet. Also says how much of it was this worker's before.
pub async fn open(settings: Settings, catalog: Catalog) -> Result<(Arc<Engine>, u64), Cannot> {
    let household = household(&catalog).await?;
    let keyring = keyring(&settings, &catalog, &household).await?;
    let library = library(&settings, &catalog).await?;
    let me = own_id(&settings.data_folder)?;
    let program = std::env::current_exe().map_err(failed("find this program"))?;
    let engine = Arc::new(Engine::new(Parts { settings, catalog, library, household, keyring, program, me }));
    elsewhere::tell_library(&engine).await.map_err(failed("read which folders do not come back"))?;
    let freed = engine.catalog.free_leases(me, engine.now()).await.map_err(failed("take up the background work"))?;
    engine.connections.seal_secrets(&engine.catalog).await.map_err(failed("seal the secrets of the stores"))?;
    match work::home::settle(&engine).await {
        Ok(()) => {}
        // Done when its disk is there: see `work::home`.
        Err(e @ Error::LibraryAway(_)) => tracing::warn!(error = %chain(&e), "the library is away"),
        Err(e) => return Err(failed("settle what was interrupted")(e)),
    }
    engine
        .catalog
        .want_rounds(|check| work::checks::first_round(&engine, check))
        .await
        .map_err(failed("put the checks of copies down"))?;
    tell_of_confinement(&engine);
    Ok((engine, freed))
}

/// The household, with a key for its ledgers.
async fn household(catalog: &Catalog) -> Result<Household, Cannot> {
    let household = catalog.household().await.map_err(failed("read the household"))?;
    let mut household = household.ok_or_else(|| failed("read the household")("there is none, though one was just made"))?;
    if household.ledger_key.is_none() {
        // One of an earlier version. What its ledgers said until now is said once more, with proof: see `work::ledger`.
        let key = LedgerKey::new(secrets::random());
        let cannot = || failed("make the key for the ledgers");
        // First what follows from it: killed between the two, the next start makes the key, and wishes the same again.
        for store in catalog.stores().await.map_err(cannot())? {
            catalog.say_all_again(store.id, Utc::now()).await.map_err(cannot())?;
        }
        catalog.set_ledger_key(&key).await.map_err(cannot())?;
        household.ledger_key = Some(key);
    }
    Ok(household)
}

async fn keyring(settings: &Settings, catalog: &Catalog, household: &Household) -> Result<Keyring, Cannot> {
    let path = settings.key_file();
    let mut kept = keys::read_file(&path).map_err(failed(format!("read the household's key {}", path.display())))?;
    let own = keys::own(&settings.own_key_file()).map_err(failed("read the server's own key"))?;
    let first = kept.first().map(Identity::recipient);
    let sealing = catalog.sealing(first.as_deref(), Utc::now()).await.map_err(failed("read whom copies are sealed for"))?;
    if sealing.strict && !kept.is_empty() {
        // It was told to forget, and killed before it had.
        keys::write_file(&path, &[]).map_err(failed("forget the household's key"))?;
        kept.clear();
    }
    if kept.is_empty() && !sealing.strict {
        let why = format!("{} holds none; put the key of the recovery kit into it", path.display());
        return Err(failed("use the household's key")(why));
    }
    let ledger = household.ledger_key.clone().ok_or_else(|| failed("read the household")("it has no key for its ledgers"))?;
    Ok(Keyring::new(own, kept, &sealing, ledger))
}

/// The household's library. A new household's is made; one that is known may be away.
async fn library(settings: &Settings, catalog: &Catalog) -> Result<Library, Cannot> {
    let read = || failed("read which library is the household's");
    let known = catalog.library().await.map_err(read())?;
    let is_new = known.is_none() && !catalog.has_originals().await.map_err(read())?;
    let opened = if is_new { Library::found(&settings.library) } else { Library::open(&settings.library, known.map(LibraryId)) };
    let library = opened.map_err(failed(format!("open the library {}", settings.library.display())))?;
    let library = library.with_rights(&settings.adopt_from, settings.library_open_to);
    if let Some(id) = library.presence().id().filter(|_| known.is_none()) {
        catalog.set_library(id.0).await.map_err(failed("write down which library is the household's"))?;
    }
    Ok(library)
}

/// This service's id, for the leases of its work: the same after a restart, so that it frees what it held.
fn own_id(folder: &Path) -> Result<Uuid, Cannot> {
    let path = folder.join("worker-id");
    match fs::read_to_string(&path) {
        Ok(text) => text.trim().parse().map_err(failed("read the worker's id")),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let id = Uuid::now_v7();
            write_private(&path, id.to_string().as_bytes()).map_err(failed("write the worker's id"))?;
            Ok(id)
        }
        Err(e) => Err(failed("read the worker's id")(e)),
    }
}

/// Says in the log what those who read files from outside can reach here: a kernel may be too old to keep them from it.
fn tell_of_confinement(engine: &Arc<Engine>) {
    let reader = Arc::clone(&engine.reader);
    engine.wakeups.activity.notify_one();
    tokio::task::spawn_blocking(move || match reader.confinement() {
        Some(Confined { files: true, network: true }) => {
            tracing::info!("files from outside are read where nothing else can be reached")
        }
        Some(Confined { files, network }) => tracing::warn!(
            files,
            network,
            "this kernel cannot keep those who read files from outside from all other files, or from the network; a newer one can (Linux 5.13, with Landlock)"
        ),
        None => tracing::warn!("the program that reads files from outside could not be started"),
    });
}
