//! Rebuilding a household: a new database, from the recovery kit and the ledgers of the stores that it names.
//!
//! Serves two bad days. The database is gone and the disk is there: every original of the ledger is looked for where it was, read to its
//! end, and left in its place. Or the whole house is gone: then nothing is there, and the service brings everything home while it already
//! shows what there is. Which of the two it is, each file tells for itself. Files that no ledger names (they came after its last segment)
//! are put down like uploads that a kill interrupted, and settled when the service starts.
//!
//! Every step may be repeated: run again after an interruption, it goes on.

use std::{
    collections::{BTreeSet, HashSet},
    fs,
    path::PathBuf,
};

use chrono::Utc;
use futures_util::TryStreamExt;
use uuid::Uuid;
use ypogeion_catalog::{
    Catalog, CatalogError,
    devices::NewDevice,
    people::{HouseRules, Household, Person},
    uploads::Upload,
};
use ypogeion_core::{
    DeviceId, PersonId, StoreId, UploadId,
    access::Role,
    filing::FiledPath,
    kit::{KitEnd, RecoveryKit, StoreAddress},
    ledger::{LedgerKey, OriginalRecord, SegmentRef, StoreRecord},
    object::NameKey,
    words,
};
use ypogeion_library::{Library, LibraryId};
use ypogeion_offsite::{Identity, Keys, Ledger, LedgerRead, Replica, contents::Broken, seal::seal_secret};

use crate::{
    from_kit::{OLD_KIT, Otherwise, Stop, Tell, Why, believe, keys_of, open, said},
    keys,
    private::write_private,
    secrets,
    settings::Settings,
};

/// Rows written at once.
const BATCH: usize = 500;
/// Somebody is watching.
const TOLD_EVERY: u64 = 20_000;

/// The same, read and understood.
pub struct Source {
    kit: RecoveryKit,
    keys: Keys,
    own: Vec<Identity>,
    password: String,
    readable: bool,
    /// Go on though a ledger is not proven to be the household's own and whole.
    pub unproven: bool,
}

impl Source {
    /// From the kit's text, the keeper's new password, and what the kit does not know.
    pub async fn read(text: &str, password: String, otherwise: &Otherwise) -> Result<Self, Stop> {
        let mut kit = RecoveryKit::parse(text).map_err(|e| Stop::new(Why::Refused, e.to_string()))?;
        kit.stores.iter_mut().for_each(|address| otherwise.put_into(address));
        let keys = keys_of(&kit)?;
        let own = std::iter::once(&kit.key).chain(&kit.older).filter_map(|k| k.parse().ok()).collect();
        Ok(Source { keys, own, password: hash(password).await?, kit, readable: otherwise.readable, unproven: false })
    }
}

/// Whether a rebuilding was begun with these settings and did not end: what is there is only a part then.
pub fn is_unfinished(settings: &Settings) -> bool {
    marker(settings).exists()
}

fn marker(settings: &Settings) -> PathBuf {
    settings.data_folder.join("rebuilding")
}

fn stop<E: std::fmt::Display>(what: &str) -> impl FnOnce(E) -> Stop + use<'_, E> {
    move |e| Stop::new(Why::Partly, format!("could not {what}: {e}"))
}

async fn hash(password: String) -> Result<String, Stop> {
    let hashed =
        tokio::task::spawn_blocking(move || secrets::hash_password(&password)).await.map_err(stop("hash the password"))?;
    hashed.map_err(|e| Stop::new(Why::Usage, e.to_string()))
}

/// Rebuilds into a catalogue. `false`: parts of a ledger could not be used.
pub async fn rebuild(settings: &Settings, catalog: &Catalog, source: &Source, tell: &Tell) -> Result<bool, Stop> {
    let mut stores = Vec::new();
    let mut why_not = Stop::new(Why::Unreachable, "the kit names no store".to_owned());
    if source.kit.ledger_key.is_none() {
        tell(OLD_KIT.to_owned());
    }
    for (address, end) in source.kit.stores.iter().zip(&source.kit.ends) {
        tell(format!("Opening {} at {} …", address.name, address.endpoint));
        match open(address, source.keys.clone(), source.readable).await {
            Ok(replica) => {
                let address = StoreAddress { sealed: !replica.keys.is_plain(), ..address.clone() };
                stores.push((address, replica, end.clone()));
            }
            Err(e) => {
                tell(format!("  {}", e.sentence));
                why_not = e;
            }
        }
    }
    if stores.is_empty() {
        return Err(why_not);
    }
    let new_key = keep_key(settings, &source.own)?;
    let secrets = keys::own(&settings.own_key_file()).map_err(stop("make the server's own key"))?.into();
    // Nobody else may use it. An attempt that was cut off has written down which one it is; what is missing in a library that is not mounted
    // would be fetched for nothing.
    let library = match catalog.library().await.map_err(stop("read which library is the household's"))? {
        Some(id) => Library::open(&settings.library, Some(LibraryId(id))),
        None => Library::found(&settings.library),
    };
    let library = library.and_then(|l| l.presence().check().map(|()| l)).map_err(stop("open the library"))?;
    let library = library.with_rights(&settings.adopt_from, settings.library_open_to);
    let recipients: Vec<String> = source.own.iter().map(Identity::recipient).collect();
    let scratch = settings.data_folder.join("rebuild");
    let there = async || catalog.household().await.map_err(stop("read the household"));
    if there().await?.is_none() {
        // Killed from here on, the service does not start with a part of a household. One that is there already is whole.
        write_private(&marker(settings), b"").map_err(stop("write to the data folder"))?;
    }
    let ledger_key = source.kit.ledger_key.clone();
    let known = Known {
        ledger_key,
        unproven: source.unproven,
        secrets,
        recipients,
        scratch: scratch.clone(),
        unfinished: is_unfinished(settings),
    };
    let result = fill(catalog, &library, &known, stores, &source.password, tell).await;
    let _ = fs::remove_dir_all(scratch);
    let nothing = result.is_err() && there().await?.is_none();
    if (result.is_ok() || nothing) && is_unfinished(settings) {
        fs::remove_file(marker(settings)).map_err(stop("write to the data folder"))?;
    }
    if nothing && new_key {
        // A household that is made here instead gets a key of its own.
        fs::remove_file(settings.key_file()).map_err(stop("forget the kit's key"))?;
    }
    result
}

/// What all stores are rebuilt with.
struct Known {
    /// Seals their secrets.
    secrets: Keys,
    /// Proves who wrote their ledgers; none on an older kit.
    ledger_key: Option<LedgerKey>,
    /// Ledgers without that are taken, too.
    unproven: bool,
    /// Public halves of the household's keys, the present one first.
    recipients: Vec<String>,
    /// For what is read of ledgers.
    scratch: PathBuf,
    /// What is there already is from an attempt that was cut off, or from none.
    unfinished: bool,
}

/// The household's keys, before anything is written that needs them. Whether they are new here.
fn keep_key(settings: &Settings, own: &[Identity]) -> Result<bool, Stop> {
    let key_file = settings.key_file();
    fs::create_dir_all(&settings.data_folder).map_err(stop("make the data folder"))?;
    match keys::read_file(&key_file) {
        Ok(there) if there.first().map(Identity::recipient) == own.first().map(Identity::recipient) => return Ok(false),
        Ok(there) if !there.is_empty() => {
            let why = format!("{} holds another household's key; choose an empty data folder", key_file.display());
            return Err(Stop::new(Why::Refused, why));
        }
        Ok(_) => {}
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
        Err(e) => return Err(stop("look at the household's key")(e)),
    }
    keys::write_file(&key_file, own).map_err(stop("write the household's key"))?;
    Ok(true)
}

async fn fill(
    catalog: &Catalog,
    library: &Library,
    with: &Known,
    stores: Vec<(StoreAddress, Replica, Option<KitEnd>)>,
    password: &str,
    tell: &Tell,
) -> Result<bool, Stop> {
    // A household whose kit had no key for its ledgers is given one.
    let there = catalog.household().await.map_err(stop("read the household"))?.and_then(|h| h.ledger_key);
    let new_key = || there.unwrap_or_else(|| LedgerKey::new(secrets::random()));
    let ledger_key = with.ledger_key.clone().unwrap_or_else(new_key);
    let mut filling = Filling {
        catalog,
        library,
        with,
        password,
        tell,
        ledger_key,
        ends: Vec::new(),
        taken: Vec::new(),
        people: BTreeSet::new(),
        whole: true,
        why_not: Stop::new(Why::Refused, "no store had a ledger that can be used"),
    };
    for (address, replica, end) in stores {
        filling.fill_from(&address, &replica, end.as_ref()).await?;
    }
    if filling.people.is_empty() {
        return Err(filling.why_not);
    }
    filling.tell_what_was_cut();
    let strays = strays(catalog, library).await?;
    if strays > 0 {
        tell(format!(
            "{} in the library that no ledger names: taken in when the service starts.",
            words::counted(strays, "file")
        ));
    }
    Ok(filling.whole)
}

/// A catalogue that is being filled, and how that goes.
struct Filling<'a> {
    catalog: &'a Catalog,
    library: &'a Library,
    with: &'a Known,
    password: &'a str,
    tell: &'a Tell,
    /// Proves ledgers from now on.
    ledger_key: LedgerKey,
    /// What the stores read so far say of each other's ledgers.
    ends: Vec<Told>,
    /// The stores that were taken, with their last segment.
    taken: Vec<(StoreAddress, u64)>,
    people: BTreeSet<PersonId>,
    /// Nothing had to be left out.
    whole: bool,
    /// Why, if nothing comes of it.
    why_not: Stop,
}

impl Filling<'_> {
    /// Something has to be left out.
    fn lack(&mut self, line: String) {
        (self.tell)(line);
        self.whole = false;
    }

    /// The list of contents of a store, if it may be believed.
    async fn read(
        &mut self,
        address: &StoreAddress,
        replica: &Replica,
        end: Option<&KitEnd>,
    ) -> Result<Option<LedgerRead>, Stop> {
        (self.tell)("  Reading its list of contents …".to_owned());
        let read = replica.read_ledger(&self.with.scratch).await.map_err(|e| said(&e));
        let read = read.and_then(|read| {
            believe(&read, end, "the kit", self.with.unproven, self.tell)?;
            let others = self.ends.iter().find(|told| told.is_of(address)).map(|told| &told.end);
            believe(&read, others, "another store", self.with.unproven, self.tell)?;
            Ok(read)
        });
        match read {
            // What another try would not change must not keep the other stores' from coming back.
            Err(stop) if stop.why == Why::Refused => {
                self.lack(format!("  {}", stop.sentence));
                self.why_not = stop;
                Ok(None)
            }
            other => other.map(Some),
        }
    }

    /// Everything that one store knows.
    async fn fill_from(&mut self, address: &StoreAddress, replica: &Replica, end: Option<&KitEnd>) -> Result<(), Stop> {
        let Some(read) = self.read(address, replica, end).await? else { return Ok(()) };
        let (end, proven) = (read.end().map(|e| e.segment), self.with.ledger_key.is_some() && read.unproven.is_empty());
        let LedgerRead { ledger, bad, .. } = read;
        for segment in &bad {
            self.lack(format!("  A part of the list of contents cannot be used, {}: {}", segment.name, segment.why));
        }
        let Some(told) = &ledger.household else {
            self.lack(format!("  The list of contents in {} does not name the household; it is not used.", address.name));
            return Ok(());
        };
        let household = Household {
            name: told.name.clone(),
            replica: replica.id,
            name_key: NameKey::parse(&told.name_key)
                .ok_or_else(|| Stop::new(Why::Refused, "the ledger's key for names cannot be used"))?,
            ledger_key: Some(self.ledger_key.clone()),
        };
        self.ends.extend(told.stores.iter().filter_map(Told::of));
        self.taken.push((address.clone(), ledger.last_segment));
        let catalog = self.catalog;
        household_and_people(catalog, &household, &ledger, self.password, self.with.unfinished).await?;
        // Before anything is written into it here.
        catalog.rebuild_record(ledger.entries.values()).await.map_err(stop("write the record"))?;
        if let Some(id) = self.library.presence().id() {
            catalog.set_library(id.0).await.map_err(stop("write down which library is the household's"))?;
        }
        catalog.rebuild_keys(&self.with.recipients, Utc::now()).await.map_err(stop("write the household's keys"))?;
        let lost = originals(catalog, address, replica, &self.with.secrets, &ledger, self.tell).await?;
        if self.with.ledger_key.is_none() {
            self.prove(address, replica).await;
        }
        let recorded = ledger.entries.keys().next_back().copied().unwrap_or(0);
        rebuilt_end(catalog, address, (ledger.last_segment, recorded), end, !proven).await?;
        self.tell_what_came(address, &ledger, lost)?;
        self.people.extend(ledger.people.keys());
        Ok(())
    }

    /// Has a store of an older household say whose it is, with the key that proves it.
    async fn prove(&mut self, address: &StoreAddress, replica: &Replica) {
        let proving = Replica { keys: replica.keys.clone().proving(Some(self.ledger_key.clone())), ..replica.clone() };
        if let Err(e) = proving.prove_again().await {
            // Such a store brings everything back all the same; it takes nothing more until its keeper has let it be written to.
            self.lack(format!("  {}’s first object could not be proven anew: {e}", address.name));
        }
    }

    fn tell_what_came(&self, address: &StoreAddress, ledger: &Ledger, lost: u64) -> Result<(), Stop> {
        (self.tell)(format!(
            "  {} of {}, {}.",
            words::counted(ledger.originals.count().map_err(stop("read the ledger"))?, "file"),
            words::list(&ledger.people.values().map(|p| p.name.as_str()).collect::<Vec<_>>()),
            words::size(ledger.originals.bytes())
        ));
        if lost > 0 {
            let are = if lost == 1 { "is" } else { "are" };
            (self.tell)(format!("  {} of them {are} not in {} any more.", words::count(lost), address.name));
        }
        Ok(())
    }

    /// Of the stores that were read before one that knows better. What such a ledger lacks, the other has named.
    fn tell_what_was_cut(&mut self) {
        for (address, last) in std::mem::take(&mut self.taken) {
            let later = self.ends.iter().filter(|t| t.is_of(&address)).map(|t| t.end.number).max().filter(|n| *n > last);
            if let Some(told) = later {
                self.lack(format!(
                    "{}’s ledger ends with segment {last}, and another store knows of a later one, {told}: it was cut, or put back to an earlier state.",
                    address.name
                ));
            }
        }
    }
}

async fn household_and_people(
    catalog: &Catalog,
    household: &Household,
    ledger: &Ledger,
    password: &str,
    unfinished: bool,
) -> Result<(), Stop> {
    let now = Utc::now();
    match catalog.create_household(household, now).await {
        Ok(()) => {}
        Err(CatalogError::Taken) => {
            let there = catalog.household().await.map_err(stop("read the household"))?;
            if there.is_none_or(|h| h.name_key.reveal() != household.name_key.reveal()) {
                return Err(Stop::new(
                    Why::Refused,
                    "there is another household in this database; choose an empty data folder".to_owned(),
                ));
            }
        }
        Err(e) => return Err(stop("make the household")(e)),
    }
    if let Some(rules) = ledger.household.as_ref().and_then(|h| h.rules.as_ref()) {
        let house = HouseRules { filing: rules.filing.clone(), clear_at: rules.clear_at, derive_jpeg: rules.derive_jpeg };
        catalog.change_house_rules(&house).await.map_err(stop("write the house rules"))?;
        catalog.change_retention(rules.retention).await.map_err(stop("write the house rules"))?;
    }
    for p in ledger.people.values() {
        let role = Role::of_person(&p.role).unwrap_or(Role::Guest);
        if p.folder.contains('/') || FiledPath::parse(&p.folder).is_err() {
            return Err(Stop::new(Why::Refused, format!("the ledger names a folder that cannot be one, {:?}", p.folder)));
        }
        let person = Person {
            id: p.id,
            name: p.name.clone(),
            role,
            folder: p.folder.clone(),
            // Who is no keeper signs in with what the keeper sets anew: no password has this hash.
            password_hash: if role == Role::Keeper { password.to_owned() } else { "none yet".to_owned() },
            quota: p.quota,
            soft_quota: p.soft_quota,
        };
        match catalog.add_person(&person, now).await {
            Ok(()) => {}
            // The attempt that was cut off may have been given another password than this one.
            Err(CatalogError::Taken) if unfinished && role == Role::Keeper => {
                catalog.change_person(p.id, None, None, Some(password), None).await.map_err(stop("write the members"))?;
            }
            Err(CatalogError::Taken) => {}
            Err(e) => return Err(stop("write the members")(e)),
        }
    }
    for recipient in ledger.household.iter().flat_map(|h| &h.recipients) {
        catalog.rebuild_recipient(recipient).await.map_err(stop("write who else can open copies"))?;
    }
    for album in ledger.household.iter().flat_map(|h| &h.albums) {
        catalog.rebuild_album(album).await.map_err(stop("write the albums"))?;
    }
    for d in ledger.devices.values() {
        catalog.rebuild_device(d, now).await.map_err(stop("write the devices"))?;
    }
    Ok(())
}

/// Writes down a store and the originals of its ledger. Returns how many of these the store has lost.
async fn originals(
    catalog: &Catalog,
    address: &StoreAddress,
    replica: &Replica,
    secrets: &Keys,
    ledger: &Ledger,
    tell: &Tell,
) -> Result<u64, Stop> {
    let stores = catalog.stores().await.map_err(stop("read the stores"))?;
    let same = |a: &StoreAddress| (&a.endpoint, &a.bucket, &a.prefix) == (&address.endpoint, &address.bucket, &address.prefix);
    let store = match stores.iter().find(|s| same(&s.address)) {
        Some(there) => there.id,
        None => {
            let id = StoreId(Uuid::now_v7());
            let secret_key = seal_secret(secrets, &address.secret_key).map_err(stop("seal the store's key"))?;
            let sealed = StoreAddress { secret_key, ..address.clone() };
            let told = ledger.household.iter().flat_map(|h| &h.stores);
            let told =
                told.rev().find(|t| (&t.endpoint, &t.bucket, &t.prefix) == (&address.endpoint, &address.bucket, &address.prefix));
            catalog.rebuild_store(id, &sealed, told, Utc::now()).await.map_err(stop("write the store"))?;
            id
        }
    };
    // The store lists its objects in the order of their names, and so does the ledger: the two are compared side by side.
    let read = || stop::<Broken>("read the ledger");
    let mut listed = replica.list_objects();
    let (mut next, mut lost) = (listed.try_next().await.map_err(|e| said(&e))?, HashSet::new());
    for record in ledger.originals.by_object().map_err(read())? {
        let record = record.map_err(read())?;
        while next.as_ref().is_some_and(|l| l.name < record.object.name) {
            next = listed.try_next().await.map_err(|e| said(&e))?;
        }
        if !next.as_ref().is_some_and(|l| l.name == record.object.name && l.size == record.object.size) {
            lost.insert(record.id);
        }
    }
    let mut records = ledger.originals.newest_first().map_err(read())?;
    let (all, mut written) = (ledger.originals.count().map_err(read())?, 0);
    loop {
        let batch = records
            .by_ref()
            .take(BATCH)
            .map(|r| r.map(|r| (!lost.contains(&r.id), r)).map(|(there, r)| (r, there)))
            .collect::<Result<Vec<(OriginalRecord, bool)>, _>>()
            .map_err(read())?;
        if batch.is_empty() {
            break;
        }
        catalog.rebuild_originals(store, &batch, Utc::now()).await.map_err(stop("write the originals"))?;
        let before = written;
        written += batch.len() as u64;
        if written < all && before / TOLD_EVERY != written / TOLD_EVERY {
            tell(format!("  {} of {} written down …", words::count(written), words::counted(all, "file")));
        }
    }
    Ok(lost.len() as u64)
}

/// Has a store's ledger go on where it ended. `due`: not all of it is proven.
async fn rebuilt_end(
    catalog: &Catalog,
    address: &StoreAddress,
    (last, recorded): (u64, u64),
    end: Option<SegmentRef>,
    due: bool,
) -> Result<(), Stop> {
    let stores = catalog.stores().await.map_err(stop("read the stores"))?;
    let same = |a: &StoreAddress| (&a.endpoint, &a.bucket, &a.prefix) == (&address.endpoint, &address.bucket, &address.prefix);
    match stores.iter().find(|s| same(&s.address)) {
        Some(store) => {
            catalog.rebuild_segment(store.id, (last, recorded), end.as_ref(), due).await.map_err(stop("write the store"))
        }
        None => Ok(()),
    }
}

/// Where a ledger ends, as another store's says.
struct Told {
    place: (String, String, String),
    end: KitEnd,
}

impl Told {
    fn of(record: &StoreRecord) -> Option<Self> {
        let place = (record.endpoint.clone(), record.bucket.clone(), record.prefix.clone());
        Some(Told { place, end: KitEnd::of(record.ledger_end.as_ref()?) })
    }

    fn is_of(&self, address: &StoreAddress) -> bool {
        let (endpoint, bucket, prefix) = &self.place;
        (endpoint, bucket, prefix) == (&address.endpoint, &address.bucket, &address.prefix)
    }
}

/// Puts down the files of the members' folders that no ledger names, as uploads whose bytes are in their place already.
async fn strays(catalog: &Catalog, library: &Library) -> Result<u64, Stop> {
    let (paths, now) = (catalog.all_paths().await.map_err(stop("read the originals"))?, Utc::now());
    let open = catalog.open_uploads().await.map_err(stop("read the uploads"))?;
    let mut found = 0;
    for person in catalog.people().await.map_err(stop("read the members"))? {
        let files = library.files_of(&person.folder).map_err(stop("look through the library"))?;
        let stray: Vec<_> = files
            .into_iter()
            .filter(|(path, _)| !paths.contains(&path.folded()) && !is_derived(path, &paths))
            .filter(|(path, _)| !open.iter().any(|u| u.target.as_ref() == Some(path)))
            .collect();
        if stray.is_empty() {
            continue;
        }
        let device = found_on_disk(catalog, person.id).await?;
        for (path, length) in stray {
            let name = path.as_str().rsplit('/').next().unwrap_or_default().to_owned();
            let file_time = fs::metadata(library.locate(&path)).and_then(|m| m.modified()).ok().map(Into::into);
            let upload = Upload {
                id: UploadId(Uuid::now_v7()),
                device,
                person: person.id,
                length,
                digest: None,
                name,
                source: String::new(),
                file_time,
                expires_at: now + chrono::TimeDelta::days(3650),
                metadata: String::new(),
                concat: None,
                target: None,
                original: None,
                touched_at: now,
                brought: None,
            };
            catalog.create_upload(&upload, now).await.map_err(stop("write what was found"))?;
            catalog.set_target(upload.id, &path).await.map_err(stop("write what was found"))?;
            found += 1;
        }
    }
    Ok(found)
}

/// A JPEG that was made from an original beside it is made again when it is wanted.
fn is_derived(path: &FiledPath, paths: &HashSet<String>) -> bool {
    let folded = path.folded();
    let Some((stem, rest)) = folded.rsplit_once(" (from ") else { return false };
    let Some((extension, end)) = rest.split_once(')') else { return false };
    end.ends_with(".jpg") && paths.contains(&format!("{stem}.{extension}"))
}

/// What stands for the disk among a member's devices. It has no token and cannot sign in.
async fn found_on_disk(catalog: &Catalog, person: PersonId) -> Result<DeviceId, Stop> {
    const NAME: &str = "Found on the disk";
    let devices = catalog.devices(Some(person), None, Utc::now()).await.map_err(stop("read the devices"))?;
    if let Some(there) = devices.iter().find(|d| d.name == NAME) {
        return Ok(there.id);
    }
    let id = DeviceId(Uuid::now_v7());
    let token: [u8; 32] = secrets::random();
    let device = NewDevice { id, name: NAME, kind: "computer", client: "", token_hash: &token };
    catalog.add_device(person, &device, Utc::now()).await.map_err(stop("write the devices"))?;
    catalog.revoke_device(id, Some(person), Utc::now()).await.map_err(stop("write the devices"))?;
    Ok(id)
}
