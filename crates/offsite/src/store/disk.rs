//! A folder on a disk of this house. A disk may be away for months: its folder is then missing, or empty, and neither says anything about
//! the copies. They are only looked for where the replica's own first object is.

use std::{
    error::Error,
    io,
    path::{Path as FsPath, PathBuf},
    sync::Arc,
};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{
    StreamExt, TryStreamExt,
    stream::{self, BoxStream},
};
use object_store::{ObjectStore, ObjectStoreExt, PutMode, PutPayload, WriteMultipart, local::LocalFileSystem};
use ypogeion_core::kit::StoreAddress;
use ypogeion_pin::causes;

use super::{
    backend::{Backend, Conditional, FORMAT_NAME, Listed, PART, Pieces, Prefix, Seen, Stored, read_part, sorted_by_folders},
    fault::{Fault, Refusal, Trouble, innermost},
};
use crate::spool::Entry;

#[derive(Clone, Debug)]
pub(super) struct Disk {
    inner: Arc<LocalFileSystem>,
    prefix: Prefix,
    name: String,
    /// The folder of this replica: without its first object, the disk is away. None for a trial, where no replica may have begun.
    marked: Option<PathBuf>,
}

impl Disk {
    /// # Errors
    /// [`Fault::Away`] if the folder is not there.
    pub(super) fn open(address: &StoreAddress, folder: &str) -> Result<Self, Fault> {
        let inner = LocalFileSystem::new_with_prefix(folder).map_err(|_| Fault::Away(address.name.clone()))?;
        let prefix = Prefix::new(&address.prefix);
        let marked = Some(FsPath::new(folder).join(prefix.as_str()));
        // What it confirmed must be on it.
        Ok(Disk { inner: Arc::new(inner.with_fsync(true)), prefix, name: address.name.clone(), marked })
    }

    /// The same for a trial.
    pub(super) fn unmarked(self) -> Self {
        Disk { marked: None, ..self }
    }

    /// The disk is there. Its first object is what shows that; that one itself may be written where nothing is yet.
    fn there(&self, name: &str) -> Result<(), Fault> {
        match &self.marked {
            Some(place) if name != FORMAT_NAME && !place.join(FORMAT_NAME).exists() => Err(Fault::Away(self.name.clone())),
            _ => Ok(()),
        }
    }

    fn fault(&self, name: &str, error: &object_store::Error) -> Fault {
        if let Err(away) = self.there(name) {
            return away;
        }
        if matches!(error, object_store::Error::NotFound { .. }) {
            return Fault::Missing(name.to_owned());
        }
        of_system(error)
    }

    /// What is written has its folders made: one that is not found is a disk that went.
    fn not_written(&self, name: &str, error: &object_store::Error) -> Fault {
        match self.fault(name, error) {
            Fault::Missing(_) => Fault::Away(self.name.clone()),
            other => other,
        }
    }

    async fn copy(&self, name: &str, from: &FsPath) -> Result<(), Fault> {
        let mut file = tokio::fs::File::open(from).await.map_err(Fault::Home)?;
        let failed = |e: object_store::Error| self.not_written(name, &e);
        let upload = self.inner.put_multipart(&self.prefix.path(name)).await.map_err(failed)?;
        let mut upload = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            upload.wait_for_capacity(1).await.map_err(failed)?;
            let part = read_part(&mut file, PART as u64).await?;
            if part.is_empty() {
                break;
            }
            upload.put(part);
        }
        upload.finish().await.map_err(failed)?;
        Ok(())
    }
}

/// What an error of the system means for a disk.
fn of_system(error: &(dyn Error + 'static)) -> Fault {
    let kind = causes(error).find_map(|e| e.downcast_ref::<io::Error>()).map(io::Error::kind);
    match kind {
        Some(io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded) => Fault::Refused(Refusal::DiskFull),
        Some(io::ErrorKind::ReadOnlyFilesystem | io::ErrorKind::PermissionDenied) => Fault::Refused(Refusal::DiskReadOnly),
        _ => Fault::Passing(Trouble::Otherwise(innermost(error))),
    }
}

/// A disk checks nothing of what is written to it: each copy is read again.
const UNCHECKED: Stored = Stored { checksum: None };

#[async_trait]
impl Backend for Disk {
    async fn put(&self, name: &str, bytes: Bytes) -> Result<Stored, Fault> {
        self.there(name)?;
        let put = self.inner.put(&self.prefix.path(name), PutPayload::from_bytes(bytes)).await;
        put.map_err(|e| self.not_written(name, &e))?;
        Ok(UNCHECKED)
    }

    async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<Stored, Fault> {
        self.there(name)?;
        // It takes the file piece by piece and gives it its name at the end.
        self.copy(name, entry.bytes()).await?;
        Ok(UNCHECKED)
    }

    async fn put_new(&self, name: &str, bytes: Bytes) -> Result<Conditional, Fault> {
        match self.inner.put_opts(&self.prefix.path(name), bytes.into(), PutMode::Create.into()).await {
            Ok(_) => Ok(Conditional::Replaced),
            Err(object_store::Error::AlreadyExists { .. }) => Ok(Conditional::Refused),
            Err(e) => Err(self.not_written(name, &e)),
        }
    }

    async fn look(&self, name: &str) -> Result<Seen, Fault> {
        let meta = self.inner.head(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e))?;
        Ok(Seen { size: meta.size, locked_until: None })
    }

    async fn read(&self, name: &str) -> Result<(u64, Pieces), Fault> {
        let found = self.inner.get(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e))?;
        let (disk, name, size) = (self.clone(), name.to_owned(), found.meta.size);
        Ok((size, found.into_stream().map_err(move |e| disk.fault(&name, &e)).boxed()))
    }

    async fn remove(&self, name: &str) -> Result<(), Fault> {
        self.there(name)?;
        match self.inner.delete(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e)) {
            Err(Fault::Missing(_)) => Ok(()),
            other => other,
        }
    }

    fn list(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>> {
        let (disk, at_end, folder) = (self.clone(), self.clone(), folder.to_owned());
        let named = folder.clone();
        // One that is unplugged half way has fewer objects, and that means nothing.
        let end = stream::once(async move { at_end.there(&named).err() }).filter_map(|gone| std::future::ready(gone.map(Err)));
        sorted_by_folders(Arc::clone(&self.inner), self.prefix.path(&folder))
            .map(move |found| {
                disk.there(&folder)?;
                found.map(|meta| disk.prefix.listed(meta)).map_err(|e| disk.fault(&folder, &e))
            })
            .chain(end)
            .boxed()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::full(io::ErrorKind::StorageFull, Some(Refusal::DiskFull))]
    #[case::quota(io::ErrorKind::QuotaExceeded, Some(Refusal::DiskFull))]
    #[case::read_only(io::ErrorKind::ReadOnlyFilesystem, Some(Refusal::DiskReadOnly))]
    #[case::rights(io::ErrorKind::PermissionDenied, Some(Refusal::DiskReadOnly))]
    #[case::anything_else(io::ErrorKind::Interrupted, None)]
    fn the_system_says_what_is_wrong_with_a_disk(#[case] kind: io::ErrorKind, #[case] refusal: Option<Refusal>) {
        let error = object_store::Error::Generic { store: "disk", source: Box::new(io::Error::from(kind)) };
        match (of_system(&error), refusal) {
            (Fault::Refused(found), Some(refusal)) => assert_eq!(found, refusal),
            (Fault::Passing(_), None) => {}
            (other, _) => panic!("{other}"),
        }
    }
}
