//! Originals that were left where they were, outside the library: whether the folder that they were left in is there.
//!
//! A disk that is not connected leaves an empty folder, or none. So a file is *missing* only where its folder is there with something in
//! it, and each folder above it; anything else says nothing about it: it is *out of reach*. Nobody writes a mark over there, because nothing
//! over there is written.

use std::{
    collections::BTreeSet,
    fs, io,
    path::{Path, PathBuf},
    sync::{PoisonError, RwLock},
};

/// The folders in which originals may have been left.
#[derive(Default)]
pub(crate) struct Elsewhere {
    /// By where they really are.
    folders: Vec<PathBuf>,
    /// What does not come back: what is not there, is missing.
    given_up: RwLock<BTreeSet<PathBuf>>,
}

/// A place below one of these folders.
#[derive(Clone, Debug)]
pub(crate) struct Left {
    pub root: PathBuf,
    pub relative: PathBuf,
}

impl Elsewhere {
    pub fn new(folders: &[PathBuf]) -> Self {
        Elsewhere { folders: folders.iter().map(|f| real(f)).collect(), given_up: RwLock::default() }
    }

    pub fn give_up(&self, folders: impl IntoIterator<Item = PathBuf>) {
        *self.given_up.write().unwrap_or_else(PoisonError::into_inner) = folders.into_iter().collect();
    }

    /// The place that a link leads to, if it is below one of the folders.
    pub fn place(&self, target: &Path) -> Option<Left> {
        self.folders.iter().find_map(|root| {
            let relative = target.strip_prefix(root).ok()?;
            Some(Left { root: root.clone(), relative: relative.to_owned() })
        })
    }

    /// Why a file cannot be had that should be at this place: the folder that is out of reach; none: all folders are there, or are given up.
    pub fn out_of_reach(&self, left: &Left) -> Option<PathBuf> {
        let above = left.relative.parent().unwrap_or(Path::new(""));
        let folder = first_unseen(&left.root, above)?;
        (!self.is_given_up(&folder)).then_some(folder)
    }

    /// Whether a file that should be at this place is not there because its folder was given up.
    pub fn is_lost(&self, left: &Left) -> bool {
        let above = left.relative.parent().unwrap_or(Path::new(""));
        first_unseen(&left.root, above).is_some_and(|folder| self.is_given_up(&folder))
    }

    fn is_given_up(&self, folder: &Path) -> bool {
        self.given_up.read().unwrap_or_else(PoisonError::into_inner).iter().any(|given_up| folder.starts_with(given_up))
    }

    /// The same for a folder in which something was left.
    pub fn folder_out_of_reach(&self, folder: &Path) -> Option<PathBuf> {
        match self.place(&real(folder)) {
            Some(left) => first_unseen(&left.root, &left.relative),
            None => first_unseen(folder, Path::new("")),
        }
    }
}

/// Where a folder really is. Of one that is not there, as far as its name tells.
fn real(folder: &Path) -> PathBuf {
    folder.canonicalize().unwrap_or_else(|_| match fs::read_link(folder) {
        Ok(target) => folder.parent().unwrap_or(Path::new("/")).join(target),
        Err(_) => folder.to_owned(),
    })
}

/// The first folder, from `root` on down to `relative`, that cannot be looked into or has nothing in it.
fn first_unseen(root: &Path, relative: &Path) -> Option<PathBuf> {
    let mut here = root.to_owned();
    let mut parts = relative.components();
    loop {
        match fs::read_dir(&here).map(|mut entries| entries.next()) {
            Ok(Some(Ok(_))) => {}
            // Where a folder was, there is a file: what was in it is gone.
            Err(e) if e.kind() == io::ErrorKind::NotADirectory => return None,
            _ => return Some(here),
        }
        here.push(parts.next()?);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_cannot_be_looked_at_is_out_of_reach_and_not_missing() {
        let folder = tempfile::tempdir().unwrap();
        let disk = folder.path().canonicalize().unwrap().join("disk");
        fs::create_dir_all(disk.join("2019/kites")).unwrap();
        fs::create_dir_all(disk.join("2020")).unwrap();
        for file in ["2019/kites/a.jpg", "2019/kites/b.jpg", "2019/other.jpg", "2020/c.jpg"] {
            fs::write(disk.join(file), b"x").unwrap();
        }
        let elsewhere = Elsewhere::new(std::slice::from_ref(&disk));
        let kite = elsewhere.place(&disk.join("2019/kites/a.jpg")).unwrap();
        assert!(elsewhere.place(&folder.path().join("else/a.jpg")).is_none());
        let unseen = || elsewhere.out_of_reach(&kite);
        // One file is gone, and its folder is there: it is missing.
        fs::remove_file(disk.join("2019/kites/a.jpg")).unwrap();
        assert_eq!(unseen(), None);
        // Nothing is in the folder any more, and nobody knows why: the first such folder is named, from above.
        fs::remove_file(disk.join("2019/kites/b.jpg")).unwrap();
        assert_eq!(unseen(), Some(disk.join("2019/kites")));
        fs::remove_dir(disk.join("2019/kites")).unwrap();
        assert_eq!(unseen(), Some(disk.join("2019/kites")));
        fs::remove_file(disk.join("2019/other.jpg")).unwrap();
        assert_eq!(unseen(), Some(disk.join("2019")));
        fs::remove_dir_all(disk.join("2019")).unwrap();
        assert_eq!(unseen(), Some(disk.join("2019")));
        fs::remove_dir_all(disk.join("2020")).unwrap();
        assert_eq!(unseen(), Some(disk.clone()));
        assert!(!elsewhere.is_lost(&kite), "it is only away");
        fs::remove_dir(&disk).unwrap();
        assert_eq!(unseen(), Some(disk.clone()));
        assert_eq!(elsewhere.folder_out_of_reach(&disk.join("2019")), Some(disk.clone()));
        // Whoever says that it does not come back, says that it is missing: all that is below.
        elsewhere.give_up([folder.path().join("another"), disk.clone()]);
        assert_eq!(unseen(), None);
        assert!(elsewhere.is_lost(&kite));
        assert_eq!(elsewhere.folder_out_of_reach(&disk), Some(disk.clone()), "it still is not there");
        fs::write(&disk, b"a file").unwrap();
        elsewhere.give_up([]);
        assert_eq!(unseen(), None, "in the place of the folder is something else");
    }
}
