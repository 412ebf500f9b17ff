//! Files that nobody else may read.

use std::{
    fs,
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::Path,
};

/// Writes a file that only this user may read, durably, whole or not at all.
pub fn write_private(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let new = path.with_extension("new");
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&new, path)?;
    path.parent().map_or(Ok(()), |folder| fs::File::open(folder)?.sync_all())
}
