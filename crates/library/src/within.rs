//! Opening files below a folder, and never anywhere else.
//!
//! Whoever can write into the library (it may be shared on the home's network) can put a link into it. Following one would hand out
//! any file that the service may read. The kernel is asked to follow none on the way (`openat2`, Linux 5.6); an older one is asked
//! for each folder by itself.

use std::{
    fs::{self, File},
    io,
    os::{
        fd::{AsRawFd, OwnedFd},
        unix::ffi::OsStringExt,
    },
    path::{Component, Path, PathBuf},
};

use rustix::{
    fs::{Mode, OFlags, ResolveFlags, open, openat, openat2, readlinkat},
    io::Errno,
};

/// Without waiting: a pipe in the place of a file must not hold its reader up.
const TO_READ: OFlags = OFlags::RDONLY.union(OFlags::CLOEXEC).union(OFlags::NONBLOCK);
const FOLDER: OFlags = OFlags::PATH.union(OFlags::CLOEXEC).union(OFlags::DIRECTORY);

/// Opens the regular file at `relative` below `root` for reading. No link below `root` is followed: one on the way is an error that
/// [`is_link`] knows.
///
/// # Errors
/// Also if it is no regular file ([`io::ErrorKind::NotFound`]: where an original should be, something else is).
pub fn open_below(root: &Path, relative: &Path) -> io::Result<File> {
    if !relative.components().all(|c| matches!(c, Component::Normal(_))) {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let file = File::from(below(root, relative, TO_READ)?);
    if file.metadata()?.is_file() { Ok(file) } else { Err(io::ErrorKind::NotFound.into()) }
}

/// Whether nothing was opened because a link stood in the way.
pub fn is_link(e: &io::Error) -> bool {
    e.raw_os_error() == Some(Errno::LOOP.raw_os_error())
}

/// Where the link at `relative` below `root` points to. No link on the way to it is followed.
pub fn link_below(root: &Path, relative: &Path) -> io::Result<PathBuf> {
    let (folder, name) = match (relative.parent(), relative.file_name()) {
        (Some(folder), Some(name)) if !folder.as_os_str().is_empty() => (below(root, folder, FOLDER)?, name),
        (_, Some(name)) => (open(root, FOLDER, Mode::empty())?, name),
        _ => return Err(io::ErrorKind::InvalidInput.into()),
    };
    let target = readlinkat(&folder, name, Vec::new())?;
    Ok(PathBuf::from(std::ffi::OsString::from_vec(target.into_bytes())))
}

/// Where an open file is.
pub fn place_of(file: &File) -> io::Result<PathBuf> {
    fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd()))
}

fn below(root: &Path, relative: &Path, flags: OFlags) -> io::Result<OwnedFd> {
    let root = open(root, FOLDER, Mode::empty())?;
    let how = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    for _ in 0..MOST_TRIES {
        match openat2(&root, relative, flags, Mode::empty(), how) {
            // Something on the way was renamed at that moment.
            Err(Errno::AGAIN) => {}
            Err(Errno::NOSYS | Errno::PERM) => return step_by_step(root, relative, flags),
            other => return Ok(other?),
        }
    }
    Err(Errno::AGAIN.into())
}

const MOST_TRIES: usize = 50;

/// For a kernel, or a container, without `openat2`.
fn step_by_step(root: OwnedFd, relative: &Path, flags: OFlags) -> io::Result<OwnedFd> {
    let mut parts = relative.components().peekable();
    let mut here = root;
    while let Some(part) = parts.next() {
        let last = parts.peek().is_none();
        let flags = (if last { flags } else { FOLDER }) | OFlags::NOFOLLOW;
        here = match openat(&here, part.as_os_str(), flags, Mode::empty()) {
            // A link where a folder is asked for, is no folder.
            Err(Errno::NOTDIR) if readlinkat(&here, part.as_os_str(), Vec::new()).is_ok() => return Err(Errno::LOOP.into()),
            other => other?,
        };
    }
    Ok(here)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    fn tree() -> (tempfile::TempDir, PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().join("library");
        fs::create_dir_all(root.join("juno/2026")).unwrap();
        fs::create_dir_all(folder.path().join("private")).unwrap();
        fs::write(folder.path().join("private/key"), b"secret").unwrap();
        fs::write(root.join("juno/2026/kite.jpg"), b"kite").unwrap();
        symlink(folder.path().join("private/key"), root.join("juno/2026/link.jpg")).unwrap();
        symlink("../../../private/key", root.join("juno/2026/near.jpg")).unwrap();
        symlink("kite.jpg", root.join("juno/2026/own.jpg")).unwrap();
        symlink(folder.path().join("private"), root.join("juno/other")).unwrap();
        (folder, root)
    }

    #[test]
    fn no_link_is_followed_and_nothing_leads_out() {
        let (folder, root) = tree();
        let both = |relative: &str| {
            let step = open(&root, FOLDER, Mode::empty()).map_err(io::Error::from);
            let step = step.and_then(|r| step_by_step(r, Path::new(relative), TO_READ)).map(drop);
            [open_below(&root, Path::new(relative)).map(drop), step]
        };
        assert!(both("juno/2026/kite.jpg").iter().all(Result::is_ok));
        for link in ["juno/2026/link.jpg", "juno/2026/near.jpg", "juno/2026/own.jpg", "juno/other/key"] {
            assert!(both(link).iter().all(|r| r.as_ref().is_err_and(is_link)), "{link}");
        }
        assert!(both("juno/2026/gone.jpg").iter().all(|r| r.as_ref().is_err_and(|e| e.kind() == io::ErrorKind::NotFound)));
        for out in ["../private/key", "juno/../../private/key", "/etc/passwd"] {
            assert_eq!(open_below(&root, Path::new(out)).unwrap_err().kind(), io::ErrorKind::InvalidInput, "{out}");
        }
        // The library itself may be reached by a link: that is the keeper's own choice.
        symlink(&root, folder.path().join("shortcut")).unwrap();
        assert!(open_below(&folder.path().join("shortcut"), Path::new("juno/2026/kite.jpg")).is_ok());
    }

    #[test]
    fn what_is_no_file_is_not_waited_for() {
        let (_folder, root) = tree();
        rustix::fs::mknodat(rustix::fs::CWD, root.join("juno/pipe.jpg"), rustix::fs::FileType::Fifo, Mode::RUSR, 0).unwrap();
        assert_eq!(open_below(&root, Path::new("juno/pipe.jpg")).unwrap_err().kind(), io::ErrorKind::NotFound);
        assert_eq!(open_below(&root, Path::new("juno")).unwrap_err().kind(), io::ErrorKind::NotFound);
    }

    #[test]
    fn a_link_is_read_and_not_followed() {
        let (folder, root) = tree();
        assert_eq!(link_below(&root, Path::new("juno/2026/link.jpg")).unwrap(), folder.path().join("private/key"));
        assert!(link_below(&root, Path::new("juno/2026/kite.jpg")).is_err());
        assert!(link_below(&root, Path::new("juno/other/key")).is_err());
    }
}
