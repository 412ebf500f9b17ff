//! Whether the library's disk is there: what is away is not missing.
//!
//! A library has an identity. It is written down on its own disk (`.ypogeion/library`), and the catalogue knows it as well. Where the two
//! differ, or the disk's cannot be read, the library is *away*: an empty folder is what is left where a disk is not mounted, and it says
//! nothing about any picture. Nothing is received, filed, healed, cleared or given up then, and no copy counts as missing.
//!
//! Only [`Presence::failed`] tells the two apart, after asking; so nobody gets [`LibraryError::Missing`] for something that is away.

use std::{
    fmt,
    fs::{self, File, TryLockError},
    io::{self, Write},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::{Mutex, MutexGuard, OnceLock, PoisonError},
    time::SystemTime,
};

use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::{LibraryError, OWN_FOLDER};

const FORMAT: &str = "ypogeion-library";
const VERSION: u32 = 1;

/// A library's identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct LibraryId(pub Uuid);

/// What is written down on the library's disk.
#[derive(Serialize, Deserialize)]
struct Mark {
    format: String,
    version: u32,
    library: LibraryId,
}

/// Why a library counts as away.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Away {
    /// Nothing is there at all.
    Absent,
    /// Something is there, and no mark of a library.
    Unmarked,
    /// Another library is there.
    Another,
    /// A mark that a later version wrote, or that is damaged.
    NotUnderstood,
    /// The disk does not answer.
    Unreadable(String),
}

impl fmt::Display for Away {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Away::Absent => write!(f, "the folder is empty or not there; is its disk connected and mounted?"),
            Away::Unmarked => write!(
                f,
                "nothing in the folder says that it is the library; is the right disk mounted? If it is, \"ypogeiond mark-library\" says so."
            ),
            Away::Another => write!(f, "another library is there; is the right disk mounted?"),
            Away::NotUnderstood => write!(f, "its mark, {OWN_FOLDER}/library, is damaged or of a later version."),
            Away::Unreadable(why) => write!(f, "the disk does not answer: {why}."),
        }
    }
}

/// Whether the disk is there.
pub struct Presence {
    root: PathBuf,
    /// Empty for a library of an earlier version, which has no mark yet.
    id: OnceLock<LibraryId>,
    state: Mutex<State>,
    told: OnceLock<Box<dyn Fn() + Send + Sync>>,
}

#[derive(Default)]
struct State {
    /// Held while the library is ours. Also while it is away: it may be the same when it comes back.
    lock: Option<File>,
    away: Option<(SystemTime, Away)>,
}

impl fmt::Debug for Presence {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Presence({} as {:?})", self.root.display(), self.id.get())
    }
}

impl Presence {
    /// A library that is known by its identity; `None` for one of an earlier version, which is given one when it is seen.
    pub(crate) fn new(root: &Path, id: Option<LibraryId>) -> Self {
        let known = OnceLock::new();
        if let Some(id) = id {
            known.get_or_init(|| id);
        }
        Presence { root: root.to_owned(), id: known, state: Mutex::default(), told: OnceLock::new() }
    }

    /// A library where there may be none yet: its folder and its mark are made unless they are there.
    pub(crate) fn found(root: &Path) -> Result<Self, LibraryError> {
        let own = root.join(OWN_FOLDER);
        fs::create_dir_all(&own).map_err(|source| LibraryError::Io { what: "create", path: own, source })?;
        let presence = match read(root) {
            Ok(id) => Presence::new(root, Some(id)),
            Err(Away::Absent | Away::Unmarked) => {
                let id = LibraryId(Uuid::new_v4());
                mark(root, id)?;
                Presence::new(root, Some(id))
            }
            Err(why) => return Err(LibraryError::Away { path: root.to_owned(), why }),
        };
        presence.check()?;
        Ok(presence)
    }

    pub(crate) fn root(&self) -> &Path {
        &self.root
    }

    /// Its identity, once it is known.
    pub fn id(&self) -> Option<LibraryId> {
        self.id.get().copied()
    }

    /// Since when it is away, and why, as far as anybody has noticed.
    pub fn away(&self) -> Option<(SystemTime, Away)> {
        self.lock().away.clone()
    }

    /// Has `tell` called whenever it is noticed that the library went away.
    pub fn when_away(&self, tell: impl Fn() + Send + Sync + 'static) {
        let first = self.told.set(Box::new(tell)).is_ok();
        debug_assert!(first, "one listener is enough");
    }

    /// Looks whether the library is there now, and ours.
    ///
    /// # Errors
    /// [`LibraryError::Away`], or [`LibraryError::InUse`] if another service has it.
    pub fn check(&self) -> Result<(), LibraryError> {
        let found = match (read(&self.root), self.id.get()) {
            (Ok(found), Some(id)) if found == *id => Ok(()),
            (Ok(_), Some(_)) => Err(Away::Another),
            (Ok(found), None) => {
                self.id.get_or_init(|| found);
                Ok(())
            }
            // An earlier version worked here: it left its lock.
            (Err(Away::Unmarked), None) if self.lock_path().is_file() => {
                let id = LibraryId(Uuid::new_v4());
                mark(&self.root, id)?;
                self.id.get_or_init(|| id);
                Ok(())
            }
            (Err(why), _) => Err(why),
        };
        match found {
            Ok(()) => {
                self.hold()?;
                self.lock().away = None;
                Ok(())
            }
            Err(why) => {
                let news = {
                    let mut state = self.lock();
                    let news = state.away.is_none();
                    let since = state.away.as_ref().map_or_else(SystemTime::now, |(since, _)| *since);
                    state.away = Some((since, why.clone()));
                    news
                };
                if let Some(tell) = self.told.get().filter(|_| news) {
                    tell();
                }
                Err(LibraryError::Away { path: self.root.clone(), why })
            }
        }
    }

    /// What the system's error on something below the library means: whatever it says, a library that is away explains it.
    pub(crate) fn failed(&self, what: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> LibraryError {
        let path = path.into();
        move |source| {
            if matches!(source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded) {
                return LibraryError::Full { what, path };
            }
            if let Err(away) = self.check() {
                return away;
            }
            match source.kind() {
                io::ErrorKind::NotFound => LibraryError::Missing { what, path },
                _ => LibraryError::Io { what, path, source },
            }
        }
    }

    fn lock_path(&self) -> PathBuf {
        self.root.join(OWN_FOLDER).join("lock")
    }

    /// Takes the library for this process, unless it has it already.
    fn hold(&self) -> Result<(), LibraryError> {
        let path = self.lock_path();
        let failed = |what| move |source| LibraryError::Io { what, path: self.lock_path(), source };
        let mut state = self.lock();
        let there = fs::metadata(&path).ok().map(|m| (m.dev(), m.ino()));
        let held = state.lock.as_ref().and_then(|f| f.metadata().ok()).map(|m| (m.dev(), m.ino()));
        if there.is_some() && there == held {
            return Ok(());
        }
        let lock = File::create(&path).map_err(failed("open"))?;
        lock.try_lock().map_err(|e| match e {
            TryLockError::WouldBlock => LibraryError::InUse(self.root.clone()),
            TryLockError::Error(e) => failed("lock")(e),
        })?;
        state.lock = Some(lock);
        Ok(())
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        // No code that can panic runs under this lock.
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The identity that is written down at a place.
fn read(root: &Path) -> Result<LibraryId, Away> {
    let text = match fs::read(root.join(OWN_FOLDER).join("library")) {
        Ok(text) => text,
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            // A disk that was just formatted has this folder on it, and nothing else.
            let something = |entry: io::Result<fs::DirEntry>| entry.is_ok_and(|e| e.file_name() != "lost+found");
            let unmarked = fs::read_dir(root).is_ok_and(|mut entries| entries.any(something));
            return Err(if unmarked { Away::Unmarked } else { Away::Absent });
        }
        Err(e) => return Err(Away::Unreadable(e.to_string())),
    };
    match serde_json::from_slice::<Mark>(&text) {
        Ok(mark) if mark.format == FORMAT && mark.version == VERSION => Ok(mark.library),
        _ => Err(Away::NotUnderstood),
    }
}

/// Writes an identity down. A kill leaves none or a whole one.
fn mark(root: &Path, id: LibraryId) -> Result<(), LibraryError> {
    let folder = root.join(OWN_FOLDER);
    let (new, path) = (folder.join("library.new"), folder.join("library"));
    let mark = Mark { format: FORMAT.into(), version: VERSION, library: id };
    let text = serde_json::to_string_pretty(&mark).expect("plain text and a number") + "\n";
    let write = || {
        let mut file = File::create(&new)?;
        file.write_all(text.as_bytes())?;
        file.sync_all()?;
        fs::rename(&new, &path)?;
        File::open(&folder)?.sync_all()?;
        // And this folder's own name, which may be new.
        File::open(root)?.sync_all()
    };
    write().map_err(|source| LibraryError::Io { what: "write", path: path.clone(), source })
}

/// Gives a place the identity of a library that is known: its keeper says that it is the one. What was written there before is replaced.
pub fn mark_as(root: &Path, id: LibraryId) -> Result<(), LibraryError> {
    let own = root.join(OWN_FOLDER);
    fs::create_dir_all(&own).map_err(|source| LibraryError::Io { what: "create", path: own, source })?;
    mark(root, id)
}

#[cfg(test)]
mod tests {
    use std::sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    };

    use rstest::rstest;
    use ypogeion_core::{Digest, OriginalId, UploadId, layers::Outcome};

    use super::*;
    use crate::{
        Library, Publish,
        shelf::tests::{part, path},
    };

    /// A disk that can be taken away: what a mount point shows without it is handed in.
    struct Disk {
        _folder: tempfile::TempDir,
        root: PathBuf,
        aside: PathBuf,
    }

    impl Disk {
        fn new() -> Self {
            let folder = tempfile::tempdir().unwrap();
            let (root, aside) = (folder.path().join("library"), folder.path().join("unmounted"));
            fs::create_dir(&root).unwrap();
            Disk { _folder: folder, root, aside }
        }

        fn take_away(&self, leave: &str) {
            fs::rename(&self.root, &self.aside).unwrap();
            match leave {
                "nothing" => {}
                "an empty folder" => fs::create_dir(&self.root).unwrap(),
                "a file" => fs::write(&self.root, b"").unwrap(),
                "other pictures" => {
                    fs::create_dir_all(self.root.join("juno")).unwrap();
                    fs::write(self.root.join("juno/other.jpg"), b"another house's").unwrap();
                }
                "another library" => drop(Library::found(&self.root).unwrap()),
                "a damaged mark" => {
                    fs::create_dir_all(self.root.join(OWN_FOLDER)).unwrap();
                    fs::write(self.root.join(OWN_FOLDER).join("library"), b"{").unwrap();
                }
                "a later version" => {
                    fs::create_dir_all(self.root.join(OWN_FOLDER)).unwrap();
                    let mark = format!("{{\"format\":\"{FORMAT}\",\"version\":2,\"library\":\"{}\"}}", Uuid::nil());
                    fs::write(self.root.join(OWN_FOLDER).join("library"), mark).unwrap();
                }
                other => panic!("{other}"),
            }
        }

        fn bring_back(&self) {
            if self.root.is_file() {
                fs::remove_file(&self.root).unwrap();
            } else if self.root.exists() {
                fs::remove_dir_all(&self.root).unwrap();
            }
            fs::rename(&self.aside, &self.root).unwrap();
        }
    }

    fn away<T: fmt::Debug>(result: Result<T, LibraryError>) -> bool {
        matches!(result, Err(LibraryError::Away { .. }))
    }

    #[rstest]
    #[case("nothing")]
    #[case("an empty folder")]
    #[case("a file")]
    #[case("other pictures")]
    #[case("another library")]
    #[case("a damaged mark")]
    #[case("a later version")]
    fn what_is_away_is_not_missing_and_nothing_is_done_to_it(#[case] leave: &str) {
        let disk = Disk::new();
        let library = Library::found(&disk.root).unwrap();
        let told = Arc::new(AtomicU32::new(0));
        let tell = Arc::clone(&told);
        library.presence().when_away(move || {
            tell.fetch_add(1, Ordering::Relaxed);
        });
        let (kite, weir) = (path("juno/2026/04/kite.jpg"), path("juno/2026/05/weir.jpg"));
        assert_eq!(library.publish(&part(&library, b"kite"), &kite).unwrap(), Publish::Done);
        let waiting = part(&library, b"weir");
        let mut coming = library
            .incoming()
            .writer(
                {
                    let id = UploadId(Uuid::now_v7());
                    library.incoming().create(id).unwrap();
                    id
                },
                0,
            )
            .unwrap();
        coming.write(b"half a ").unwrap();

        disk.take_away(leave);
        let left = || walkdir(&disk.root);
        let before = left();
        assert!(away(library.open_original(&kite)));
        assert!(away(library.reread(&kite, Digest::of(b"kite"))));
        assert!(away(library.is_there(&kite)) && away(library.is_there(&weir)), "there or not, nobody can say");
        assert!(away(library.publish(&waiting, &weir)));
        assert!(away(library.publish(&waiting, &path("piet/2026/weir.jpg"))));
        assert!(away(library.point(Path::new("/tmp/x"), &weir)));
        assert!(away(library.unlink(&kite, &weir)));
        assert!(away(library.link(&kite, &weir)) && away(library.set_aside(&kite, OriginalId(Uuid::now_v7()))));
        assert!(away(library.free()) && away(library.files_of("juno")));
        assert!(away(library.incoming().create(UploadId(Uuid::now_v7()))));
        assert!(away(library.incoming().list()) && away(library.incoming().part(waiting.id)));
        assert!(away(library.incoming().remove(waiting.id)), "what cannot be seen is not removed");
        assert!(away(library.remove_held(&kite.in_holding().next().unwrap())));
        assert_eq!(left(), before, "nothing was made where the disk should be");
        assert!(library.presence().away().is_some());
        assert_eq!(told.load(Ordering::Relaxed), 1, "said once");

        disk.bring_back();
        library.presence().check().unwrap();
        assert!(library.presence().away().is_none());
        assert_eq!(library.reread(&kite, Digest::of(b"kite")).unwrap().0, Outcome::Right);
        assert_eq!(library.publish(&waiting, &weir).unwrap(), Publish::Done);
        assert_eq!(library.reread(&path("juno/gone.jpg"), Digest::of(b"x")).unwrap().0, Outcome::Missing, "now it is");
        drop(coming);
    }

    fn walkdir(root: &Path) -> Vec<PathBuf> {
        let mut found: Vec<PathBuf> = Vec::new();
        let mut folders = vec![root.to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
                if entry.path().is_dir() {
                    folders.push(entry.path());
                }
                found.push(entry.path());
            }
        }
        found.sort();
        found
    }

    #[test]
    fn a_library_that_is_away_at_the_start_is_taken_up_when_it_comes() {
        let disk = Disk::new();
        let id = Library::found(&disk.root).unwrap().presence().id();
        disk.take_away("an empty folder");
        let library = Library::open(&disk.root, id).unwrap();
        assert!(library.presence().away().is_some() && away(library.presence().check()));
        assert!(!disk.root.join(OWN_FOLDER).exists(), "it is not made where the disk should be");
        disk.bring_back();
        library.presence().check().unwrap();
        library.publish(&part(&library, b"kite"), &path("juno/kite.jpg")).unwrap();
        assert!(matches!(Library::open(&disk.root, id), Err(LibraryError::InUse(_))), "and held");
    }

    #[test]
    fn a_library_of_an_earlier_version_gets_its_mark_when_it_is_seen() {
        let disk = Disk::new();
        let library = Library::open(&disk.root, None).unwrap();
        assert!(away(library.presence().check()), "nothing tells this folder from the one that a disk is mounted on");
        assert!(library.presence().id().is_none() && !disk.root.join(OWN_FOLDER).exists());
        fs::create_dir(disk.root.join(OWN_FOLDER)).unwrap();
        fs::write(disk.root.join(OWN_FOLDER).join("lock"), b"").unwrap();
        library.presence().check().unwrap();
        let id = library.presence().id().unwrap();
        drop(library);
        assert_eq!(Library::found(&disk.root).unwrap().presence().id(), Some(id));
    }

    #[test]
    fn a_keeper_can_say_that_this_is_the_one() {
        let disk = Disk::new();
        let id = Library::found(&disk.root).unwrap().presence().id().unwrap();
        fs::remove_dir_all(disk.root.join(OWN_FOLDER)).unwrap();
        fs::create_dir_all(disk.root.join("juno")).unwrap();
        let (_, why) = Library::open(&disk.root, Some(id)).unwrap().presence().away().unwrap();
        assert!(why.to_string().contains("mark-library"), "{why}");
        mark_as(&disk.root, id).unwrap();
        assert!(Library::open(&disk.root, Some(id)).unwrap().presence().away().is_none());
    }
}
