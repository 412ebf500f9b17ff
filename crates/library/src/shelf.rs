//! Filed originals: publishing, reading back, room.

use std::{
    fs::{self, File, Permissions},
    io::{self, Read},
    num::NonZeroU64,
    os::unix::fs::{MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    sync::Arc,
};

use rustix::fs::{Advice, CWD, RenameFlags, fadvise, renameat_with};
use ypogeion_core::{Digest, Hasher, OriginalId, filing::FiledPath, layers::Outcome};

use crate::{
    Finished, Incoming, LibraryError, LibraryId, OWN_FOLDER, Presence,
    elsewhere::{Elsewhere, Left},
    place::room,
    within::{is_link, link_below, open_below, place_of},
};

/// A library on the home disk, held by this process alone.
pub struct Library {
    root: PathBuf,
    incoming: Incoming,
    presence: Arc<Presence>,
    elsewhere: Elsewhere,
    open_to: OpenTo,
}

/// Who on the machine may read what is in the library. Nobody but the service may write there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OpenTo {
    /// Its own user alone.
    Owner,
    /// That user's group.
    Group,
    /// Everybody who has an account on the machine.
    #[default]
    Everybody,
}

impl OpenTo {
    fn file(self) -> Permissions {
        Permissions::from_mode(match self {
            OpenTo::Owner => 0o600,
            OpenTo::Group => 0o640,
            OpenTo::Everybody => 0o644,
        })
    }

    fn folder(self) -> Permissions {
        Permissions::from_mode(match self {
            OpenTo::Owner => 0o700,
            OpenTo::Group => 0o750,
            OpenTo::Everybody => 0o755,
        })
    }
}

/// A folder that others empty at the same time is made again this often.
const MOST_TRIES: usize = 50;

/// What came of publishing.
#[derive(Debug, PartialEq, Eq)]
pub enum Publish {
    /// It has the name now, durably.
    Done,
    /// Something has that name already; try the next one.
    NameTaken,
}

/// A name that this process gave a moment ago. It is the one thing with which [`Library::unpublish`] takes a name of an original away
/// again.
///
/// Invariants:
/// * only [`Library::publish_new`] and [`Library::point_new`] make one, and only after the name was free and was given;
/// * it knows which file has the name: whatever else lies there later is not taken away;
/// * it is used up by the one removal, and cannot be copied or written down.
#[derive(Debug)]
#[must_use = "whoever does not need it says so by dropping it"]
pub struct NewName {
    path: FiledPath,
    file: (u64, u64),
}

impl NewName {
    /// The name.
    pub fn path(&self) -> &FiledPath {
        &self.path
    }
}

impl Library {
    /// Opens the library at `root`, which is known by its identity, and holds it until dropped. It may be away: then it is asked again and
    /// again ([`Presence::check`]), and everything else fails with [`LibraryError::Away`] until it is there. `None`: an earlier version
    /// gave it none; it is given one when it is seen.
    pub fn open(root: &Path, id: Option<LibraryId>) -> Result<Self, LibraryError> {
        let library = Self::with(Presence::new(root, id));
        match library.presence.check() {
            Ok(()) | Err(LibraryError::Away { .. }) => Ok(library),
            Err(e) => Err(e),
        }
    }

    /// Makes a library at `root`, unless one is there, and holds it until dropped.
    pub fn found(root: &Path) -> Result<Self, LibraryError> {
        Ok(Self::with(Presence::found(root)?))
    }

    fn with(presence: Presence) -> Self {
        let (root, presence) = (presence.root().to_owned(), Arc::new(presence));
        let incoming = Incoming::of(root.join(OWN_FOLDER).join("incoming"), Arc::clone(&presence));
        Library { root, incoming, presence, elsewhere: Elsewhere::default(), open_to: OpenTo::default() }
    }

    /// The same library: originals may have been left in these folders, and its files are open to these people.
    #[must_use]
    pub fn with_rights(mut self, outside: &[PathBuf], open_to: OpenTo) -> Self {
        self.elsewhere = Elsewhere::new(outside);
        self.open_to = open_to;
        self
    }

    /// Whether its disk is there.
    pub fn presence(&self) -> &Presence {
        &self.presence
    }

    /// Unfinished uploads.
    pub fn incoming(&self) -> &Incoming {
        &self.incoming
    }

    /// Where a filed original is on this disk.
    pub fn locate(&self, path: &FiledPath) -> PathBuf {
        self.root.join(path.as_str())
    }

    /// Bytes free for this user on the library's file system.
    pub fn free(&self) -> Result<u64, LibraryError> {
        // Of the folder that a disk is mounted on, the room says nothing.
        self.presence.check()?;
        Ok(room(&self.root)?.0)
    }

    /// Gives a sealed part its filed name, never replacing anything, and syncs every folder that changed. When this
    /// returns [`Publish::Done`], name and bytes survive a power cut.
    pub fn publish(&self, part: &Finished, path: &FiledPath) -> Result<Publish, LibraryError> {
        let target = self.locate(path);
        let folder = target.parent().unwrap_or(&self.root);
        // Whatever the service's own files are like. A file system without rights has none to give.
        if let Err(e) = part.file.set_permissions(self.open_to.file()) {
            rightless(e).map_err(self.presence.failed("open to its readers", &target))?;
        }
        match self.in_folder(folder, &part.path, || rename_without_replacing(&part.path, &target))? {
            Ok(()) => {}
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => return Ok(Publish::NameTaken),
            Err(e) => return Err(self.presence.failed("file", &target)(e)),
        }
        self.sync(folder)?;
        self.incoming.forget(part.id);
        Ok(Publish::Done)
    }

    /// Files an original that stays where it is: the filed name points to it (a symbolic link), never replacing anything. When
    /// this returns [`Publish::Done`], the name survives a power cut. A name that points there already counts as done: an
    /// earlier attempt was interrupted.
    pub fn point(&self, outside: &Path, path: &FiledPath) -> Result<Publish, LibraryError> {
        let target = self.locate(path);
        let folder = target.parent().unwrap_or(&self.root);
        match self.in_folder(folder, outside, || std::os::unix::fs::symlink(outside, &target))? {
            Ok(()) => {}
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                if fs::read_link(&target).is_ok_and(|there| there == outside) {
                    self.sync(folder)?;
                    return Ok(Publish::Done);
                }
                return Ok(Publish::NameTaken);
            }
            Err(e) => return Err(self.presence.failed("file", &target)(e)),
        }
        self.sync(folder)?;
        Ok(Publish::Done)
    }

    /// Moves a file that is not what it should be out of the way, into this program's own folder, so that a good copy can
    /// take its place. It is kept: a damaged picture may be better than none.
    pub fn set_aside(&self, path: &FiledPath, id: OriginalId) -> Result<(), LibraryError> {
        self.presence.check()?;
        let folder = self.root.join(OWN_FOLDER).join("set-aside");
        fs::create_dir_all(&folder).map_err(self.presence.failed("create", &folder))?;
        let from = self.locate(path);
        for n in 1.. {
            let name = if n == 1 { format!("{id}.damaged") } else { format!("{id}-{n}.damaged") };
            match rename_without_replacing(&from, &folder.join(name)) {
                // What was set aside before stays, too.
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
                Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
                Err(e) => return Err(self.presence.failed("set aside", &from)(e)),
                Ok(()) => break,
            }
        }
        self.sync(&folder)?;
        from.parent().map_or(Ok(()), |folder| self.sync_what_is_left(folder))
    }

    /// As [`Library::publish`]; what comes back can take the name away again. `None`: something has that name already.
    pub fn publish_new(&self, part: &Finished, path: &FiledPath) -> Result<Option<NewName>, LibraryError> {
        let published = self.publish(part, path)?;
        self.given(published, path)
    }

    /// As [`Library::point`]; what comes back can take the name away again. `None`: something has that name already.
    pub fn point_new(&self, outside: &Path, path: &FiledPath) -> Result<Option<NewName>, LibraryError> {
        let published = self.point(outside, path)?;
        self.given(published, path)
    }

    fn given(&self, published: Publish, path: &FiledPath) -> Result<Option<NewName>, LibraryError> {
        match published {
            Publish::NameTaken => Ok(None),
            Publish::Done => {
                let place = self.locate(path);
                let there = fs::symlink_metadata(&place).map_err(self.presence.failed("look at", &place))?;
                Ok(Some(NewName { path: path.clone(), file: (there.dev(), there.ino()) }))
            }
        }
    }

    /// Takes a name back that was given a moment ago and never acknowledged, because the same bytes are filed already. Whatever else
    /// lies there by now stays.
    pub fn unpublish(&self, name: NewName) -> Result<(), LibraryError> {
        let place = self.locate(&name.path);
        match fs::symlink_metadata(&place) {
            Ok(there) if (there.dev(), there.ino()) == name.file => {}
            Ok(_) => return Ok(()),
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(e) => return Err(self.presence.failed("look at", &place)(e)),
        }
        fs::remove_file(&place).map_err(self.presence.failed("remove", &place))?;
        place.parent().map_or(Ok(()), |folder| self.sync_what_is_left(folder))
    }

    /// Gives a filed original a second name, never replacing anything. Both names are there when this returns
    /// [`Publish::Done`], and survive a power cut; where the file system knows no second names, the file has the new one only.
    pub fn link(&self, from: &FiledPath, to: &FiledPath) -> Result<Publish, LibraryError> {
        let (old, new) = (self.locate(from), self.locate(to));
        let folder = new.parent().unwrap_or(&self.root);
        let linked = self.in_folder(folder, &old, || match fs::hard_link(&old, &new) {
            Err(e) if matches!(e.kind(), io::ErrorKind::Unsupported | io::ErrorKind::PermissionDenied) => {
                rename_without_replacing(&old, &new)
            }
            other => other,
        })?;
        match linked {
            Ok(()) => {}
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => return Ok(Publish::NameTaken),
            Err(e) => return Err(self.presence.failed("file", &new)(e)),
        }
        self.sync(folder)?;
        Ok(Publish::Done)
    }

    /// Takes the name `extra` away from a file that is also at `kept`, and folders that are empty then, up to (and without)
    /// the member's own. Anything else that lies at `extra` stays: only another name of the same file is taken.
    pub fn unlink(&self, extra: &FiledPath, kept: &FiledPath) -> Result<(), LibraryError> {
        self.presence.check()?;
        let (place, other) = (self.locate(extra), self.locate(kept));
        let same = match (fs::symlink_metadata(&place), fs::symlink_metadata(&other)) {
            (Ok(a), Ok(b)) => a.ino() == b.ino() && a.dev() == b.dev(),
            _ => false,
        };
        if !same {
            return Ok(());
        }
        self.take_away(&place)
    }

    /// Takes a file away that was made from an original and can be made again; and folders that are empty then.
    pub fn remove_derived(&self, path: &FiledPath) -> Result<(), LibraryError> {
        self.take_away(&self.locate(path))
    }

    /// Removes an original's file for good. Only from holding: whatever else goes wrong, nothing that nobody deleted goes this way. One
    /// that has gone already is no error.
    pub fn remove_held(&self, path: &FiledPath) -> Result<(), LibraryError> {
        if !path.is_in_holding() {
            let source = io::ErrorKind::PermissionDenied.into();
            return Err(LibraryError::Io { what: "remove what is not in holding,", path: self.locate(path), source });
        }
        match self.take_away(&self.locate(path)) {
            Err(LibraryError::Missing { .. }) => Ok(()),
            other => other,
        }
    }

    fn take_away(&self, place: &Path) -> Result<(), LibraryError> {
        fs::remove_file(place).map_err(self.presence.failed("take the old name from", place))?;
        let mut folder = place.parent();
        while let Some(here) = folder.filter(|f| f.parent().is_some_and(|p| p != self.root && *f != self.root)) {
            self.sync_what_is_left(here)?;
            match fs::remove_dir(here) {
                // Gone: another file that left has taken it just now.
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Ok(()),
                _ => folder = here.parent(),
            }
        }
        folder.map_or(Ok(()), |folder| self.sync_what_is_left(folder))
    }

    /// Whether a file, or a pointer to one that stays elsewhere, is at this place.
    ///
    /// # Errors
    /// If nobody can say, because the library is away or its disk does not answer.
    pub fn is_there(&self, path: &FiledPath) -> Result<bool, LibraryError> {
        let place = self.locate(path);
        match fs::symlink_metadata(&place).map_err(self.presence.failed("look at", &place)) {
            Ok(meta) => Ok(meta.is_file() || meta.is_symlink()),
            Err(LibraryError::Missing { .. }) => Ok(false),
            Err(e) => Err(e),
        }
    }

    /// Makes a folder and gives `source` a name in it. A file that leaves takes its empty folder with it, perhaps between the
    /// two: then the folder is made again.
    fn in_folder(&self, folder: &Path, source: &Path, give: impl Fn() -> io::Result<()>) -> Result<io::Result<()>, LibraryError> {
        for _ in 0..MOST_TRIES {
            match self.make_folder(folder) {
                Err(LibraryError::Missing { .. }) => continue,
                other => other?,
            }
            match give() {
                Err(e) if e.kind() == io::ErrorKind::NotFound && source.exists() => {}
                other => return Ok(other),
            }
        }
        Ok(give())
    }

    fn make_folder(&self, folder: &Path) -> Result<(), LibraryError> {
        if folder.is_dir() || folder == self.root {
            return Ok(());
        }
        // Not on the folder that its disk is mounted on.
        self.presence.check()?;
        let above = folder.parent().unwrap_or(&self.root);
        self.make_folder(above)?;
        match fs::create_dir(folder) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
            Err(e) => return Err(self.presence.failed("create", folder)(e)),
            Ok(()) => self.give_rights(folder)?,
        }
        // Also when another request made it just now: its sync may not have happened yet.
        self.sync(above)
    }

    /// What was left in these folders, or below them, and is not there, counts as missing: its disk does not come back.
    pub fn give_up(&self, folders: impl IntoIterator<Item = PathBuf>) {
        self.elsewhere.give_up(folders);
    }

    /// Whether the original at this place was left in a folder that does not come back.
    pub fn was_given_up(&self, path: &FiledPath) -> bool {
        let target = link_below(&self.root, Path::new(path.as_str()));
        target.ok().and_then(|target| self.elsewhere.place(&target)).is_some_and(|left| self.elsewhere.is_lost(&left))
    }

    /// The first folder on the way to one in which originals were left, and it itself, that is empty or not there.
    pub fn out_of_reach(&self, folder: &Path) -> Option<PathBuf> {
        self.elsewhere.folder_out_of_reach(folder)
    }

    /// Opens a filed original for reading. A link in its place is followed only into the folders in which originals may have been left;
    /// any other may lead anywhere, and is no original: that is missing.
    ///
    /// # Errors
    /// [`LibraryError::Missing`] only if it is known not to be there.
    pub fn open_original(&self, path: &FiledPath) -> Result<File, LibraryError> {
        Ok(self.open_wherever(path)?.0)
    }

    /// The same; says also where it was left, if it was.
    fn open_wherever(&self, path: &FiledPath) -> Result<(File, Option<Left>), LibraryError> {
        let (relative, place) = (Path::new(path.as_str()), self.locate(path));
        match open_below(&self.root, relative) {
            Err(e) if is_link(&e) => {}
            other => return other.map(|file| (file, None)).map_err(self.presence.failed("open", &place)),
        }
        let target = link_below(&self.root, relative).map_err(self.presence.failed("open", &place))?;
        let Some(left) = self.elsewhere.place(&target) else {
            self.presence.check()?;
            return Err(LibraryError::Missing { what: "open", path: place });
        };
        match open_below(&left.root, &left.relative) {
            Ok(file) => Ok((file, Some(left))),
            Err(e) => Err(self.unread("open", place, Some(&left), e)),
        }
    }

    /// What the system's error on an original means: whatever it says, a disk that is away explains it.
    fn unread(&self, what: &'static str, path: PathBuf, left: Option<&Left>, e: io::Error) -> LibraryError {
        match left.and_then(|left| self.elsewhere.out_of_reach(left)) {
            Some(folder) => LibraryError::Elsewhere { what, path, folder },
            None => self.presence.failed(what, path)(e),
        }
    }

    /// Where a filed original's bytes are, as a path without links, for who can only be told a path.
    pub fn place_to_read(&self, path: &FiledPath) -> Result<PathBuf, LibraryError> {
        let file = self.open_original(path)?;
        place_of(&file).map_err(self.presence.failed("look at", self.locate(path)))
    }

    fn give_rights(&self, folder: &Path) -> Result<(), LibraryError> {
        match fs::set_permissions(folder, self.open_to.folder()) {
            Err(e) => rightless(e).map_err(self.presence.failed("open to its readers", folder)),
            Ok(()) => Ok(()),
        }
    }

    /// Reads a filed original from start to end and says whether it is what it should be, and what hash it has. From the disk,
    /// as far as the system can be asked to: what it remembers of the file says nothing about what lies there.
    pub fn reread(&self, path: &FiledPath, expected: Digest) -> Result<(Outcome, Option<Digest>), LibraryError> {
        let (mut file, left) = match self.open_wherever(path) {
            Err(LibraryError::Missing { .. }) => return Ok((Outcome::Missing, None)),
            other => other?,
        };
        // Advice, not a demand: a file system that knows nothing of it reads as always.
        let forget = |file: &File| fadvise(file, 0, None, Advice::DontNeed).ok();
        forget(&file);
        let found = hash_ahead(&mut file).map_err(|e| self.unread("read", self.locate(path), left.as_ref(), e))?;
        // Nor should a long reading push out what people are looking at.
        forget(&file);
        Ok((if found == expected { Outcome::Right } else { Outcome::Wrong }, Some(found)))
    }

    fn sync(&self, folder: &Path) -> Result<(), LibraryError> {
        File::open(folder).and_then(|f| f.sync_all()).map_err(self.presence.failed("sync", folder))
    }

    /// Syncs a folder that lost a file. An empty folder may be taken away by anyone at any time: then nothing is left to sync in it, and
    /// who took it away syncs the one above.
    fn sync_what_is_left(&self, folder: &Path) -> Result<(), LibraryError> {
        match self.sync(folder) {
            Err(LibraryError::Missing { .. }) => Ok(()),
            other => other,
        }
    }

    /// All files below a member's folder, as filed paths with their sizes. Files whose names this program would never give
    /// are left out. Used to settle what a power cut left, not in daily work.
    pub fn files_of(&self, member_folder: &str) -> Result<Vec<(FiledPath, u64)>, LibraryError> {
        self.presence.check()?;
        let (mut found, mut folders) = (Vec::new(), vec![self.root.join(member_folder)]);
        while let Some(folder) = folders.pop() {
            let entries = match fs::read_dir(&folder) {
                Err(e) if e.kind() == io::ErrorKind::NotFound => continue,
                other => other.map_err(self.presence.failed("list", &folder))?,
            };
            for entry in entries {
                let entry = entry.map_err(self.presence.failed("list", &folder))?;
                let (path, kind) = (entry.path(), entry.file_type().map_err(self.presence.failed("look at", entry.path()))?);
                if kind.is_dir() {
                    folders.push(path);
                } else if kind.is_file() {
                    let inside = path.strip_prefix(&self.root).ok().and_then(|p| p.to_str());
                    let filed = inside.and_then(|p| FiledPath::parse(p).ok());
                    let length = entry.metadata().map_err(self.presence.failed("look at", &path))?.len();
                    found.extend(filed.map(|f| (f, length)));
                }
            }
        }
        // Folders that went away meanwhile were not looked through.
        self.presence.check()?;
        Ok(found)
    }
}

/// The SHA-256 of a file that is not in memory: the disk is asked for what comes next while what came is hashed.
fn hash_ahead(file: &mut File) -> io::Result<Digest> {
    /// Larger wishes are cut off by the kernel.
    const WISH: u64 = 512 << 10;
    const AHEAD: u64 = 4 * WISH;
    let mut asked = 0;
    hash(file, |file, at| {
        while asked < at + AHEAD {
            fadvise(file, asked, NonZeroU64::new(WISH), Advice::WillNeed).ok();
            asked += WISH;
        }
    })
}

/// The SHA-256 of everything from the reader's position on.
pub fn hash_of(reader: &mut impl Read) -> io::Result<Digest> {
    hash(reader, |_, _| {})
}

/// The same; before each read, `next` hears how many bytes came so far.
fn hash<R: Read>(reader: &mut R, mut next: impl FnMut(&R, u64)) -> io::Result<Digest> {
    let (mut hasher, mut buffer, mut at) = (Hasher::new(), vec![0; 256 << 10], 0);
    loop {
        next(reader, at);
        match reader.read(&mut buffer) {
            Ok(0) => return Ok(hasher.finish()),
            Ok(n) => {
                hasher.update(&buffer[..n]);
                at += n as u64;
            }
            Err(e) if e.kind() == io::ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
}

/// No failure where the file system knows no rights (FAT, some shares).
fn rightless(e: io::Error) -> io::Result<()> {
    if matches!(e.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::Unsupported) { Ok(()) } else { Err(e) }
}

fn rename_without_replacing(from: &Path, to: &Path) -> io::Result<()> {
    match renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE) {
        // File systems without the flag: a hard link is refused if the name is taken, which is the same promise.
        Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
            fs::hard_link(from, to)?;
            fs::remove_file(from)
        }
        other => other.map_err(io::Error::from),
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use std::time::{Duration, SystemTime};

    use uuid::Uuid;
    use ypogeion_core::UploadId;

    use super::*;

    fn library() -> (tempfile::TempDir, Library) {
        let folder = tempfile::tempdir().unwrap();
        let library = Library::found(folder.path()).unwrap();
        (folder, library)
    }

    pub(crate) fn part(library: &Library, bytes: &[u8]) -> Finished {
        let id = UploadId(Uuid::now_v7());
        library.incoming().create(id).unwrap();
        let mut writer = library.incoming().writer(id, 0).unwrap();
        writer.write(bytes).unwrap();
        writer.finish()
    }

    pub(crate) fn path(text: &str) -> FiledPath {
        FiledPath::parse(text).unwrap()
    }

    #[test]
    fn a_filed_original_has_its_name_time_and_bytes() {
        let (folder, library) = library();
        let (finished, time) =
            (part(&library, b"kite"), SystemTime::UNIX_EPOCH + Duration::from_nanos(1_700_000_000_123_456_789));
        finished.seal(time).unwrap();
        let place = path("juno/2026/04/kite.jpg");
        assert_eq!(library.publish(&finished, &place).unwrap(), Publish::Done);
        let on_disk = folder.path().join("juno/2026/04/kite.jpg");
        assert_eq!(fs::metadata(&on_disk).unwrap().modified().unwrap(), time);
        assert_eq!(library.reread(&place, Digest::of(b"kite")).unwrap().0, Outcome::Right);
        assert!(library.incoming().list().unwrap().is_empty());
    }

    #[test]
    fn nothing_is_ever_replaced() {
        let (_folder, library) = library();
        let (first, second) = (part(&library, b"first"), part(&library, b"second"));
        assert_eq!(library.publish(&first, &path("a/b.jpg")).unwrap(), Publish::Done);
        assert_eq!(library.publish(&second, &path("a/b.jpg")).unwrap(), Publish::NameTaken);
        assert_eq!(library.reread(&path("a/b.jpg"), Digest::of(b"first")).unwrap().0, Outcome::Right);
        assert_eq!(library.publish(&second, &path("a/b (2).jpg")).unwrap(), Publish::Done);
    }

    #[test]
    fn only_a_name_that_was_just_given_can_be_taken_back() {
        let (folder, library) = library();
        let given = library.publish_new(&part(&library, b"kite"), &path("a/b.jpg")).unwrap().unwrap();
        assert!(library.publish_new(&part(&library, b"weir"), &path("a/b.jpg")).unwrap().is_none(), "taken, and no token for it");
        library.unpublish(given).unwrap();
        assert!(!library.is_there(&path("a/b.jpg")).unwrap());
        // Somebody put something else there meanwhile.
        let given = library.publish_new(&part(&library, b"kite"), &path("a/b.jpg")).unwrap().unwrap();
        fs::rename(folder.path().join("a/b.jpg"), folder.path().join("a/c.jpg")).unwrap();
        fs::write(folder.path().join("a/b.jpg"), b"by hand").unwrap();
        library.unpublish(given).unwrap();
        assert!(library.is_there(&path("a/b.jpg")).unwrap() && library.is_there(&path("a/c.jpg")).unwrap());
    }

    #[test]
    fn a_file_moves_by_having_both_names_for_a_moment() {
        let (folder, library) = library();
        library.publish(&part(&library, b"weir"), &path("juno/2026/04/w.jpg")).unwrap();
        library.publish(&part(&library, b"kite"), &path("juno/2026/k.jpg")).unwrap();
        let (old, new) = (path("juno/2026/04/w.jpg"), path("juno/2026/w.jpg"));
        assert_eq!(library.link(&old, &path("juno/2026/k.jpg")).unwrap(), Publish::NameTaken);
        assert_eq!(library.link(&old, &new).unwrap(), Publish::Done);
        assert!(library.is_there(&old).unwrap() && library.is_there(&new).unwrap());
        library.unlink(&old, &path("juno/2026/k.jpg")).unwrap();
        assert!(library.is_there(&old).unwrap(), "another file's name is no reason to take this one");
        library.unlink(&old, &new).unwrap();
        library.unlink(&old, &new).unwrap();
        assert_eq!(library.reread(&new, Digest::of(b"weir")).unwrap().0, Outcome::Right);
        assert!(!folder.path().join("juno/2026/04").exists(), "empty folders go with their last file");
        assert!(folder.path().join("juno/2026").is_dir());
    }

    #[test]
    fn only_what_is_in_holding_can_go() {
        let (folder, library) = library();
        let filed = path("juno/2026/04/w.jpg");
        library.publish(&part(&library, b"weir"), &filed).unwrap();
        assert!(library.remove_held(&filed).is_err());
        assert!(library.is_there(&filed).unwrap());
        let held = filed.in_holding().next().unwrap();
        assert_eq!(library.link(&filed, &held).unwrap(), Publish::Done);
        library.unlink(&filed, &held).unwrap();
        library.remove_held(&held).unwrap();
        library.remove_held(&held).unwrap();
        assert!(!library.is_there(&held).unwrap() && !folder.path().join("holding/juno").exists());
    }

    /// One thread files into a folder that another one empties, again and again.
    #[test]
    fn a_folder_that_is_emptied_meanwhile_is_made_again() {
        let (_folder, library) = library();
        let stay = path("juno/2026/05/stay.jpg");
        library.publish(&part(&library, b"stay"), &stay).unwrap();
        let (over, library) = (std::sync::atomic::AtomicBool::new(false), &library);
        std::thread::scope(|threads| {
            threads.spawn(|| {
                while !over.load(std::sync::atomic::Ordering::Relaxed) {
                    let passing = path("juno/2026/04/passing.jpg");
                    library.link(&stay, &passing).unwrap();
                    library.unlink(&passing, &stay).unwrap();
                }
            });
            for n in 0..150 {
                let place = path(&format!("juno/2026/04/{n}.jpg"));
                let landed = library.publish(&part(library, format!("{n}").as_bytes()), &place);
                let left = landed.and_then(|_| library.link(&place, &path(&format!("juno/2026/05/{n}.jpg"))));
                let left = left.and_then(|_| library.unlink(&place, &path(&format!("juno/2026/05/{n}.jpg"))));
                if left.is_err() {
                    over.store(true, std::sync::atomic::Ordering::Relaxed);
                }
                left.unwrap();
            }
            over.store(true, std::sync::atomic::Ordering::Relaxed);
        });
    }

    #[test]
    fn an_original_that_stays_elsewhere_is_pointed_to() {
        let (folder, library) = library();
        let outside = tempfile::tempdir().unwrap();
        let library = library.with_rights(&[outside.path().to_owned()], OpenTo::Owner);
        let kite = outside.path().join("kite.jpg");
        fs::write(&kite, b"kite").unwrap();
        let place = path("juno/2026/04/kite.jpg");
        assert_eq!(library.point(&kite, &place).unwrap(), Publish::Done);
        assert_eq!(library.point(&kite, &place).unwrap(), Publish::Done, "again, after a kill");
        assert_eq!(library.point(&outside.path().join("other.jpg"), &place).unwrap(), Publish::NameTaken);
        assert_eq!(library.reread(&place, Digest::of(b"kite")).unwrap().0, Outcome::Right);
        assert_eq!(library.place_to_read(&place).unwrap(), kite.canonicalize().unwrap());
        // To anywhere else, nobody is led.
        let private = tempfile::tempdir().unwrap();
        fs::write(private.path().join("key"), b"secret").unwrap();
        let stray = path("juno/2026/stray.jpg");
        assert_eq!(library.point(&private.path().join("key"), &stray).unwrap(), Publish::Done);
        assert!(
            matches!(library.open_original(&stray), Err(LibraryError::Missing { .. })) && library.place_to_read(&stray).is_err()
        );
        // It moves like every other, and what it points to stays untouched.
        let new = path("juno/2026/kite.jpg");
        assert_eq!(library.link(&place, &new).unwrap(), Publish::Done);
        library.unlink(&place, &new).unwrap();
        assert!(library.is_there(&new).unwrap() && !library.is_there(&place).unwrap());
        assert_eq!(library.reread(&new, Digest::of(b"kite")).unwrap().0, Outcome::Right);
        assert!(fs::symlink_metadata(&kite).unwrap().is_file() && !folder.path().join("juno/2026/04").exists());
        // A disk that is away says nothing about what is on it.
        fs::remove_file(&kite).unwrap();
        let reread = || library.reread(&new, Digest::of(b"kite"));
        let folder = outside.path().canonicalize().unwrap();
        assert!(matches!(reread(), Err(LibraryError::Elsewhere { folder: unseen, .. }) if unseen == folder));
        assert!(matches!(library.place_to_read(&new), Err(LibraryError::Elsewhere { .. })));
        assert_eq!(library.out_of_reach(outside.path()), Some(folder.clone()));
        assert!(library.is_there(&new).unwrap());
        // Missing it is where its folder is there without it, or when somebody says that the disk does not come back.
        fs::write(outside.path().join("weir.jpg"), b"weir").unwrap();
        assert_eq!((reread().unwrap().0, library.out_of_reach(outside.path())), (Outcome::Missing, None));
        fs::remove_file(outside.path().join("weir.jpg")).unwrap();
        library.give_up([folder]);
        assert_eq!(reread().unwrap().0, Outcome::Missing);
        library.set_aside(&new, OriginalId(Uuid::now_v7())).unwrap();
        assert_eq!(library.publish(&part(&library, b"kite"), &new).unwrap(), Publish::Done);
    }

    #[test]
    fn rot_and_loss_are_told_apart() {
        let (folder, library) = library();
        library.publish(&part(&library, b"weir"), &path("a/w.jpg")).unwrap();
        fs::write(folder.path().join("a/w.jpg"), b"weix").unwrap();
        assert_eq!(library.reread(&path("a/w.jpg"), Digest::of(b"weir")).unwrap(), (Outcome::Wrong, Some(Digest::of(b"weix"))));
        assert_eq!(library.reread(&path("a/gone.jpg"), Digest::of(b"weir")).unwrap(), (Outcome::Missing, None));
    }

    #[test]
    fn one_library_has_one_service() {
        let (folder, _library) = library();
        assert!(matches!(Library::found(folder.path()), Err(LibraryError::InUse(_))));
        let id = Presence::new(folder.path(), None);
        assert!(matches!(id.check(), Err(LibraryError::InUse(_))));
    }

    #[test]
    fn files_of_a_member_are_found_for_settling() {
        let (_folder, library) = library();
        library.publish(&part(&library, b"weir"), &path("juno/2026/04/w.jpg")).unwrap();
        library.publish(&part(&library, b"kite"), &path("piet/2026/04/k.jpg")).unwrap();
        assert_eq!(library.files_of("juno").unwrap(), [(path("juno/2026/04/w.jpg"), 4)]);
        assert!(library.files_of("nobody").unwrap().is_empty());
    }
}
