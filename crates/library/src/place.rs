//! Trying a place out: what a disk can do is found by doing it, in a folder that is removed again.

use std::{
    fs::{self, File},
    os::unix::fs::MetadataExt,
    path::Path,
    sync::{Mutex, PoisonError},
    time::{Duration, SystemTime},
};

use rustix::fs::{statfs, statvfs};
use ypogeion_core::place::PlaceFacts;

use crate::{LibraryError, OWN_FOLDER, failed};

/// File systems that live on another machine, by the kernel's magic numbers (linux/magic.h): NFS, SMB in three dialects, AFS,
/// Ceph, 9p. What comes through FUSE may be anything; it is judged by what it can do.
const NETWORK: [u64; 7] = [0x6969, 0x517b, 0xff53_4d42, 0xfe53_4d42, 0x5346_414f, 0x00c3_6400, 0x0102_1997];

/// Two trials at once would take each other's files away.
static ONE: Mutex<()> = Mutex::new(());

/// Tries a folder out; it is made if it is not there. What a kill leaves behind goes with the next trial.
pub fn probe(folder: &Path) -> Result<PlaceFacts, LibraryError> {
    let _one = ONE.lock().unwrap_or_else(PoisonError::into_inner);
    let trial = folder.join(OWN_FOLDER).join("trial");
    let _ = fs::remove_dir_all(&trial);
    fs::create_dir_all(&trial).map_err(failed("create", &trial))?;
    let found = try_out(folder, &trial);
    fs::remove_dir_all(&trial).map_err(failed("remove", &trial))?;
    found
}

/// Bytes free for this user on a folder's file system.
pub fn free_of(folder: &Path) -> Result<u64, LibraryError> {
    room(folder).map(|(free, _)| free)
}

/// Bytes free for this user on a folder's file system, and bytes altogether.
pub(crate) fn room(folder: &Path) -> Result<(u64, u64), LibraryError> {
    let stat = statvfs(folder).map_err(|e| failed("ask for the room of", folder)(e.into()))?;
    Ok((stat.f_bavail.saturating_mul(stat.f_frsize), stat.f_blocks.saturating_mul(stat.f_frsize)))
}

fn try_out(folder: &Path, trial: &Path) -> Result<PlaceFacts, LibraryError> {
    let file = trial.join("a");
    fs::write(&file, b"trial").map_err(failed("write", &file))?;
    let open = File::options().write(true).open(&file).map_err(failed("open", &file))?;
    let syncs = open.sync_all().is_ok() && File::open(trial).and_then(|f| f.sync_all()).is_ok();
    let time = SystemTime::UNIX_EPOCH + Duration::new(1_700_000_000, 123_456_700);
    open.set_modified(time).map_err(failed("set the time of", &file))?;
    let kept = fs::metadata(&file).and_then(|m| m.modified()).map_err(failed("look at", &file))?;
    let (free, total) = room(folder)?;
    let kind = statfs(folder).map_err(|e| failed("look at", folder)(e.into()))?.f_type;
    let device = |path: &Path| fs::metadata(path).map(|m| m.dev());
    Ok(PlaceFacts {
        system_disk: device(folder).ok() == device(Path::new("/")).ok(),
        // The number is 32 bits wide on some machines and signed on others.
        network: NETWORK.contains(&(kind as u64 & 0xffff_ffff)),
        free,
        total,
        fine_times: kept == time,
        case_sensitive: !trial.join("A").exists(),
        syncs,
        links: fs::hard_link(&file, trial.join("b")).is_ok(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_tried_out_and_left_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let facts = probe(folder.path()).unwrap();
        assert!(facts.syncs && facts.case_sensitive && facts.links && facts.fine_times, "{facts:?}");
        assert!(facts.free > 0 && facts.total >= facts.free);
        assert!(fs::read_dir(folder.path().join(OWN_FOLDER)).unwrap().next().is_none());
        assert!(probe(&folder.path().join("nowhere/at/all")).is_ok(), "a folder that is to be made is made");
        let file = folder.path().join("file");
        fs::write(&file, b"").unwrap();
        assert!(probe(&file).is_err());
    }
}
