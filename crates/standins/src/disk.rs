//! A disk that loses power: what was not synced is forgotten, or half there.
//!
//! The library `libypogeion_forgetful.so` is loaded before a program (`LD_PRELOAD`) and notes, each time the program syncs a file or a
//! folder, what that file or folder holds at this moment. Everything else the program does goes to the real disk. [`Disk::cut`] then
//! puts the folder into a state in which a power cut may leave it:
//!
//! * a folder has the names that it had when it was synced last, or those that it has now;
//! * a file has the bytes that it had when it was synced last, or those that it has now, or something between the two: cut short, or
//!   with zeros where new bytes should be;
//! * what was moved from one folder to another has at least one of its names (journals of file systems see to that).
//!
//! The notes are a folder with one file for each file (`files/<id>`: its bytes) and one for each folder (`folders/<id>`: a JSON list of
//! its entries). An id is the number of the inode and the time at which it was made: numbers are used again. The machine's identity of
//! its run (`boot_id`) and the time it has been up for are what the notes say, too, so that a program sees that the machine was off.
//! A file `full` among the notes makes the disk a full one.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs, io,
    os::unix::fs::{MetadataExt, PermissionsExt, symlink},
    path::{Path, PathBuf},
    time::UNIX_EPOCH,
};

use serde::{Deserialize, Serialize};

/// The variable that names the folder of the notes.
pub const NOTES: &str = "FORGETFUL_NOTES";
/// The variable that names the folder that is watched.
pub const WATCHED: &str = "FORGETFUL_WATCHED";
/// The library that is loaded first.
pub const PRELOADED: &str = "libypogeion_forgetful.so";

/// A folder that is watched, and the notes of what was synced in it.
#[derive(Clone, Debug)]
pub struct Disk {
    notes: PathBuf,
    watched: PathBuf,
}

/// One name in a folder.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Entry {
    id: String,
    what: What,
}

#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
enum What {
    File,
    Folder,
    Link(PathBuf),
}

type Listing = BTreeMap<String, Entry>;

/// What a power cut did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Forgotten {
    /// Folders that have the names they had before.
    pub folders: u64,
    /// Files that lost bytes.
    pub files: u64,
}

fn id_of(meta: &fs::Metadata) -> String {
    let made = meta.created().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).map_or(0, |d| d.as_nanos());
    format!("{}-{made}", meta.ino())
}

fn listing(folder: &Path) -> io::Result<Listing> {
    let mut found = Listing::new();
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        // Whatever goes away meanwhile is not in the list.
        let Ok(meta) = entry.path().symlink_metadata() else { continue };
        let what = match meta.file_type() {
            t if t.is_dir() => What::Folder,
            t if t.is_symlink() => What::Link(fs::read_link(entry.path())?),
            _ => What::File,
        };
        let name = entry.file_name().into_string().map_err(|name| io::Error::other(format!("{name:?} is not UTF-8")))?;
        found.insert(name, Entry { id: id_of(&meta), what });
    }
    Ok(found)
}

impl Disk {
    /// The disk on which `watched` lies. Both folders are named by their whole paths.
    pub fn new(notes: &Path, watched: &Path) -> Self {
        Disk { notes: notes.to_owned(), watched: watched.to_owned() }
    }

    /// The one that the environment names.
    pub fn of_environment() -> Option<Self> {
        Some(Disk { notes: std::env::var_os(NOTES)?.into(), watched: std::env::var_os(WATCHED)?.into() })
    }

    /// What a program needs in its environment, if `preloaded` is where the library lies.
    pub fn environment(&self, preloaded: &Path) -> Vec<(String, PathBuf)> {
        vec![
            ("LD_PRELOAD".into(), preloaded.to_owned()),
            (NOTES.into(), self.notes.clone()),
            (WATCHED.into(), self.watched.clone()),
        ]
    }

    /// Where a note lies that a program reads instead of a file of the system.
    pub fn instead_of(&self, path: &Path) -> Option<PathBuf> {
        match path.to_str()? {
            "/proc/sys/kernel/random/boot_id" => Some(self.notes.join("boot_id")),
            "/proc/uptime" => {
                let place = self.notes.join("uptime");
                let began = fs::metadata(self.notes.join("boot_id")).and_then(|m| m.modified()).ok()?;
                let up = began.elapsed().unwrap_or_default().as_secs_f64();
                fs::write(&place, format!("{up:.2} {up:.2}\n")).ok()?;
                Some(place)
            }
            _ => None,
        }
    }

    /// Whether it is full.
    pub fn is_full(&self) -> bool {
        self.notes.join("full").exists()
    }

    /// Whether a file or folder with this path lies on it.
    pub fn has(&self, path: &Path) -> bool {
        // Also while its folder is called `…-away`: the disk was taken out, and work that began before may still sync there.
        path.as_os_str().as_encoded_bytes().starts_with(self.watched.as_os_str().as_encoded_bytes())
    }

    /// Makes it a full one, or gives it room again.
    ///
    /// # Errors
    /// If the notes cannot be written.
    pub fn set_full(&self, full: bool) -> io::Result<()> {
        let place = self.notes.join("full");
        match full {
            true => fs::write(place, ""),
            false if place.exists() => fs::remove_file(place),
            false => Ok(()),
        }
    }

    /// Notes what an open file or folder holds now: it is being synced. `open` is a way to it that does not depend on its name.
    ///
    /// # Errors
    /// If it cannot be read, or the notes cannot be written.
    pub fn synced(&self, open: &Path) -> io::Result<()> {
        let meta = fs::metadata(open)?;
        if meta.is_dir() { self.note_folder(open, &meta) } else { self.note_file(open, &meta) }
    }

    /// A failure to note something, which must not be taken for a sync that did not happen.
    pub fn failed(&self, why: &str) {
        // If even this cannot be written, the notes' folder is gone, and whoever reads it next fails.
        let _ = fs::write(self.notes.join("failed"), why);
    }

    fn note_file(&self, open: &Path, meta: &fs::Metadata) -> io::Result<()> {
        let (place, new) = (self.file_note(&id_of(meta)), self.notes.join("new"));
        fs::copy(open, &new)?;
        fs::File::options().write(true).open(&new)?.set_modified(meta.modified()?)?;
        fs::rename(new, place)
    }

    fn note_folder(&self, open: &Path, meta: &fs::Metadata) -> io::Result<()> {
        let new = self.notes.join("new");
        fs::write(&new, serde_json::to_vec(&(meta.mode(), listing(open)?))?)?;
        fs::rename(new, self.notes.join("folders").join(id_of(meta)))
    }

    fn file_note(&self, id: &str) -> PathBuf {
        self.notes.join("files").join(id)
    }

    fn folder_note(&self, id: &str) -> io::Result<Option<(u32, Listing)>> {
        match fs::read(self.notes.join("folders").join(id)) {
            Ok(text) => Ok(Some(serde_json::from_slice(&text)?)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    /// The machine has started, and everything that is there now is sure.
    ///
    /// # Errors
    /// If something cannot be read, or the notes cannot be written.
    pub fn begin(&self, run: u64) -> io::Result<()> {
        if self.notes.exists() {
            fs::remove_dir_all(&self.notes)?;
        }
        for folder in ["files", "folders"] {
            fs::create_dir_all(self.notes.join(folder))?;
        }
        fs::write(self.notes.join("boot_id"), format!("run-{run}\n"))?;
        let mut folders = if self.watched.exists() { vec![self.watched.clone()] } else { Vec::new() };
        while let Some(folder) = folders.pop() {
            self.synced(&folder)?;
            for (name, entry) in listing(&folder)? {
                match entry.what {
                    What::Folder => folders.push(folder.join(name)),
                    What::File => self.synced(&folder.join(name))?,
                    What::Link(_) => {}
                }
            }
        }
        Ok(())
    }

    /// The power is cut: the watched folder is left as a disk may have it afterwards, as `chance` has it (a number below its argument).
    /// Nobody may be using it. The machine has started again then.
    ///
    /// # Errors
    /// If something cannot be read or written, or a sync could not be noted before.
    pub fn cut(&self, run: u64, chance: &mut dyn FnMut(u64) -> u64) -> io::Result<Forgotten> {
        if let Ok(why) = fs::read_to_string(self.notes.join("failed")) {
            return Err(io::Error::other(format!("a sync could not be noted: {why}")));
        }
        let mut now = Now::default();
        now.walk(&self.watched)?;
        let mut plan = Plan { disk: self, now, chance, chosen: BTreeMap::new(), forgotten: Forgotten::default() };
        let root = id_of(&fs::metadata(&self.watched)?);
        plan.choose(&root)?;
        plan.keep_what_moved(&root)?;
        let new = self.watched.with_extension("after");
        plan.write(&root, &new)?;
        let forgotten = plan.forgotten;
        fs::remove_dir_all(&self.watched)?;
        fs::rename(&new, &self.watched)?;
        self.begin(run)?;
        Ok(forgotten)
    }
}

/// What is there now, by id.
#[derive(Default)]
struct Now {
    places: BTreeMap<String, PathBuf>,
    folders: BTreeMap<String, (u32, Listing)>,
}

impl Now {
    fn walk(&mut self, folder: &Path) -> io::Result<()> {
        let meta = fs::metadata(folder)?;
        let names = listing(folder)?;
        for (name, entry) in &names {
            match entry.what {
                What::Folder => self.walk(&folder.join(name))?,
                _ => drop(self.places.insert(entry.id.clone(), folder.join(name))),
            }
        }
        self.folders.insert(id_of(&meta), (meta.mode(), names));
        Ok(())
    }
}

struct Plan<'a> {
    disk: &'a Disk,
    now: Now,
    chance: &'a mut dyn FnMut(u64) -> u64,
    /// What each folder holds afterwards.
    chosen: BTreeMap<String, (u32, Listing)>,
    forgotten: Forgotten,
}

impl Plan<'_> {
    fn choose(&mut self, id: &str) -> io::Result<()> {
        if self.chosen.contains_key(id) {
            return Ok(());
        }
        let (before, now) = (self.disk.folder_note(id)?, self.now.folders.get(id).cloned());
        let empty = || (0o40700, Listing::new());
        let chosen = match (before, now) {
            (before, Some(now)) if before.as_ref().is_some_and(|b| b.1 == now.1) || (self.chance)(2) == 0 => now,
            (before, _) => {
                self.forgotten.folders += 1;
                before.unwrap_or_else(empty)
            }
        };
        self.chosen.insert(id.to_owned(), chosen.clone());
        for entry in chosen.1.values().filter(|e| e.what == What::Folder) {
            self.choose(&entry.id)?;
        }
        Ok(())
    }

    /// A file with a name that was sure, and another one now, has one of them: moving it is one step for the disk.
    fn keep_what_moved(&mut self, root: &str) -> io::Result<()> {
        let mut named = BTreeSet::new();
        self.named(root, &mut named);
        let mut back = Vec::new();
        for (folder, (_, names)) in &self.chosen {
            let Some((_, before)) = self.disk.folder_note(folder)? else { continue };
            for (name, entry) in before {
                let lost = entry.what != What::Folder && !named.contains(&entry.id) && self.now.places.contains_key(&entry.id);
                if lost && !names.contains_key(&name) {
                    back.push((folder.clone(), name, entry));
                }
            }
        }
        for (folder, name, entry) in back {
            if named.insert(entry.id.clone())
                && let Some((_, names)) = self.chosen.get_mut(&folder)
            {
                names.insert(name, entry);
            }
        }
        Ok(())
    }

    fn named(&self, folder: &str, all: &mut BTreeSet<String>) {
        for entry in self.chosen.get(folder).map(|f| &f.1).into_iter().flat_map(BTreeMap::values) {
            all.insert(entry.id.clone());
            if entry.what == What::Folder {
                self.named(&entry.id, all);
            }
        }
    }

    fn write(&mut self, id: &str, to: &Path) -> io::Result<()> {
        fs::create_dir_all(to)?;
        let (mode, names) = self.chosen.get(id).cloned().unwrap_or((0o40700, Listing::new()));
        for (name, entry) in names {
            let place = to.join(name);
            match entry.what {
                What::Folder => self.write(&entry.id, &place)?,
                What::Link(target) => symlink(target, &place)?,
                What::File => self.write_file(&entry.id, &place)?,
            }
        }
        fs::set_permissions(to, fs::Permissions::from_mode(mode & 0o7777))
    }

    fn write_file(&mut self, id: &str, to: &Path) -> io::Result<()> {
        let read = |place: &Path| -> io::Result<Option<(Vec<u8>, fs::Metadata)>> {
            match fs::metadata(place) {
                Ok(meta) => Ok(Some((fs::read(place)?, meta))),
                Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
                Err(e) => Err(e),
            }
        };
        let before = read(&self.disk.file_note(id))?;
        let now = match self.now.places.get(id) {
            Some(place) => read(place)?,
            None => None,
        };
        let sure = before.as_ref().map(|b| b.0.clone()).unwrap_or_default();
        let bytes = match &now {
            Some((bytes, _)) if *bytes == sure => sure,
            None => sure,
            Some((bytes, _)) => {
                let torn = self.torn(&sure, bytes);
                self.forgotten.files += u64::from(torn != *bytes);
                torn
            }
        };
        fs::write(to, bytes)?;
        if let Some((_, meta)) = before.or(now) {
            fs::set_permissions(to, meta.permissions())?;
            fs::File::open(to)?.set_modified(meta.modified()?)?;
        }
        Ok(())
    }

    /// Bytes that a file may have after a cut, between those that are sure and those that were written since.
    fn torn(&mut self, sure: &[u8], now: &[u8]) -> Vec<u8> {
        let some = (self.chance)(now.len() as u64 + 1) as usize;
        match (self.chance)(4) {
            0 => sure.to_owned(),
            1 => now.to_owned(),
            // Cut short; but never shorter than what is sure, if only more was written after it.
            2 => now[..if now.starts_with(sure) { some.max(sure.len()) } else { some }].to_owned(),
            // The length was kept, and the bytes were not.
            _ => {
                let mut zeros = vec![0; now.len()];
                let kept = if now.starts_with(sure) { sure.len() } else { 0 };
                zeros[..kept].copy_from_slice(&now[..kept]);
                zeros
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Desk {
        _folder: tempfile::TempDir,
        disk: Disk,
        at: PathBuf,
    }

    fn desk() -> Desk {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().join("watched");
        fs::create_dir(&at).unwrap();
        let disk = Disk::new(&folder.path().join("notes"), &at);
        Desk { _folder: folder, disk, at }
    }

    /// Every outcome of a cut, by trying chances.
    fn outcomes(make: impl Fn(&Desk)) -> BTreeSet<Vec<(String, Vec<u8>)>> {
        (0..200u64)
            .map(|seed| {
                let d = desk();
                d.disk.begin(1).unwrap();
                make(&d);
                let mut state = seed * 2_654_435_761 + 1;
                let mut chance = |n: u64| {
                    state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    (state >> 33) % n
                };
                d.disk.cut(2, &mut chance).unwrap();
                let names = listing(&d.at).unwrap().into_iter().filter(|(_, e)| e.what == What::File);
                names.map(|(name, _)| (name.clone(), fs::read(d.at.join(name)).unwrap())).collect()
            })
            .collect()
    }

    fn file(name: &str, bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
        vec![(name.to_owned(), bytes.to_owned())]
    }

    #[test]
    fn what_was_synced_with_its_folder_stays() {
        let seen = outcomes(|d| {
            fs::write(d.at.join("a"), b"kite").unwrap();
            d.disk.synced(&d.at.join("a")).unwrap();
            d.disk.synced(&d.at).unwrap();
        });
        assert_eq!(seen, BTreeSet::from([file("a", b"kite")]));
    }

    #[test]
    fn a_name_without_its_folder_or_bytes_without_their_sync_may_be_lost() {
        let seen = outcomes(|d| {
            fs::write(d.at.join("a"), b"kite").unwrap();
            d.disk.synced(&d.at.join("a")).unwrap();
        });
        assert_eq!(seen, BTreeSet::from([Vec::new(), file("a", b"kite")]));
        let seen = outcomes(|d| {
            fs::write(d.at.join("a"), b"kite").unwrap();
            d.disk.synced(&d.at).unwrap();
        });
        for bytes in [&b""[..], b"ki", b"kite", b"\0\0\0\0"] {
            assert!(seen.contains(&file("a", bytes)), "{seen:?}");
        }
    }

    #[test]
    fn what_was_moved_has_one_of_its_names() {
        let seen = outcomes(|d| {
            fs::write(d.at.join("a"), b"kite").unwrap();
            d.disk.synced(&d.at.join("a")).unwrap();
            d.disk.synced(&d.at).unwrap();
            fs::create_dir(d.at.join("in")).unwrap();
            fs::rename(d.at.join("a"), d.at.join("in/a")).unwrap();
        });
        assert_eq!(seen, BTreeSet::from([Vec::new(), file("a", b"kite")]), "in the folder below, or where it was");
        let seen = outcomes(|d| {
            fs::write(d.at.join("a"), b"kite").unwrap();
            d.disk.synced(&d.at.join("a")).unwrap();
            d.disk.synced(&d.at).unwrap();
            fs::rename(d.at.join("a"), d.at.join("b")).unwrap();
        });
        assert_eq!(seen, BTreeSet::from([file("a", b"kite"), file("b", b"kite")]));
    }

    #[test]
    fn a_sync_that_could_not_be_noted_is_said() {
        let d = desk();
        d.disk.begin(1).unwrap();
        d.disk.failed("no room");
        assert!(d.disk.cut(2, &mut |_| 0).is_err());
    }
}
