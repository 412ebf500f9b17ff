//! An S3-compatible object store, or a folder on a disk, as far as a replica needs one: put, look, get, list. And what its faults mean.
//!
//! A disk may be away for months. Its folder is then missing, or empty, and neither says anything about the copies: they are only
//! looked for where the replica's own first object is.

use std::{
    error::Error as _,
    io,
    path::{Path as FsPath, PathBuf},
    sync::Arc,
    time::Duration,
};

use bytes::Bytes;
use chrono::{DateTime, Utc};
use futures_util::{
    StreamExt, TryStreamExt,
    stream::{self, BoxStream},
};
use object_store::{
    ObjectMeta, ObjectStore, ObjectStoreExt, PutPayload, RetryConfig, WriteMultipart,
    aws::{AmazonS3Builder, Checksum},
    local::LocalFileSystem,
    path::Path,
};
use tokio::io::AsyncReadExt;
use ypogeion_core::kit::StoreAddress;

use crate::shape::{Line, Shaped};

/// Objects up to this size go in one request; larger ones in parts of this size.
pub const PART: usize = 16 << 20;

/// A store that can be spoken to.
#[derive(Clone, Debug)]
pub struct Store {
    inner: Arc<dyn ObjectStore>,
    prefix: String,
    name: String,
    /// A disk's folder of this replica: without its first object, the disk is away.
    disk: Option<PathBuf>,
}

/// The first object of a replica.
pub const FORMAT_NAME: &str = "FORMAT.json";

/// An object in a store's list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// When it was written.
    pub changed_at: DateTime<Utc>,
}

/// What went wrong with a store, by what to do about it.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// The object is not there.
    #[error("{0} is not in the store")]
    Missing(String),
    /// It will not work until somebody changes something: keys, bucket, room.
    #[error("{0}")]
    Refused(String),
    /// Its disk is not connected.
    #[error("{0} is not connected")]
    Away(String),
    /// It lists its objects in an order of its own, so that the list cannot be compared.
    #[error("its list is out of order: {0}")]
    Disorder(String),
    /// It may work later by itself.
    #[error("the store did not answer as it should: {0}")]
    Passing(String),
    /// The home disk failed while reading or writing for the store.
    #[error("reading or writing at home failed")]
    Home(#[source] io::Error),
}

impl Fault {
    /// Whether trying again later may help without anybody's doing.
    pub fn passes(&self) -> bool {
        matches!(self, Fault::Passing(_) | Fault::Away(_))
    }
}

impl Store {
    /// Prepares to speak to the store, as fast as it goes. Nothing is sent yet.
    pub fn new(address: &StoreAddress) -> Result<Self, Fault> {
        Self::by(address, Arc::default())
    }

    /// Prepares to speak to the store by a line with a pace. Nothing is sent yet.
    ///
    /// # Errors
    /// [`Fault::Refused`] for an address that can never work, [`Fault::Away`] for a disk that is not there.
    pub fn by(address: &StoreAddress, line: Arc<Line>) -> Result<Self, Fault> {
        let prefix = address.prefix.trim_matches('/').to_owned();
        if let Some(folder) = address.disk() {
            // On a disk of this house nothing is gained by going slowly; but what it confirmed must be on it.
            let disk = LocalFileSystem::new_with_prefix(folder).map_err(|_| Fault::Away(address.name.clone()))?;
            let place = FsPath::new(folder).join(&prefix);
            return Ok(Store { inner: Arc::new(disk.with_fsync(true)), prefix, name: address.name.clone(), disk: Some(place) });
        }
        // The work queue does the waiting between attempts, where people can see it; here only a hiccup is ridden out.
        let retry = RetryConfig { max_retries: 2, retry_timeout: Duration::from_secs(20), ..RetryConfig::default() };
        let inner = AmazonS3Builder::new()
            .with_endpoint(&address.endpoint)
            .with_region(if address.region.is_empty() { "us-east-1" } else { &address.region })
            .with_bucket_name(&address.bucket)
            .with_access_key_id(&address.access_key)
            .with_secret_access_key(&address.secret_key)
            .with_virtual_hosted_style_request(false)
            .with_checksum_algorithm(Checksum::SHA256)
            .with_http_connector(Shaped::new(line))
            .with_retry(retry)
            .build()
            .map_err(|e| Fault::Refused(format!("the address of {} cannot be used: {e}", address.name)))?;
        Ok(Store { inner: Arc::new(inner), prefix, name: address.name.clone(), disk: None })
    }

    /// The same for a trial: a disk on which no replica has begun is no disk that is away.
    pub(crate) fn unmarked(self) -> Self {
        Store { disk: None, ..self }
    }

    /// For what only a trial asks of it.
    pub(crate) fn inner(&self) -> &dyn ObjectStore {
        &*self.inner
    }

    /// What the household calls it.
    pub fn name(&self) -> &str {
        &self.name
    }

    pub(crate) fn path(&self, name: &str) -> Path {
        if self.prefix.is_empty() { Path::from(name) } else { Path::from(format!("{}/{name}", self.prefix)) }
    }

    /// Whether it is a disk.
    pub fn is_disk(&self) -> bool {
        self.disk.is_some()
    }

    /// The disk is there, if it is one. Its first object is what shows that; that one itself may be written where nothing is yet.
    fn there(&self, name: &str) -> Result<(), Fault> {
        match &self.disk {
            Some(place) if name != FORMAT_NAME && !place.join(FORMAT_NAME).exists() => Err(Fault::Away(self.name.clone())),
            _ => Ok(()),
        }
    }

    /// Stores a small object in one request, with a checksum that the store is asked to verify.
    pub async fn put(&self, name: &str, bytes: Bytes) -> Result<(), Fault> {
        self.there(name)?;
        self.inner.put(&self.path(name), PutPayload::from_bytes(bytes)).await.map_err(|e| self.fault(name, e, true))?;
        Ok(())
    }

    /// Removes an object. `false`: the store says yes and has it still.
    ///
    /// # Errors
    /// [`Fault::Refused`] where the store does not allow it: keys that may not delete, or a retention lock.
    pub async fn remove(&self, name: &str) -> Result<bool, Fault> {
        self.there(name)?;
        match self.inner.delete(&self.path(name)).await.map_err(|e| self.fault(name, e, false)) {
            Ok(()) | Err(Fault::Missing(_)) => {}
            Err(fault) => return Err(fault),
        }
        match self.size(name).await {
            Err(Fault::Missing(_)) => Ok(true),
            Ok(_) => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    /// Stores a file in parts, each with a checksum. Ends the upload in the store if a part fails for good.
    pub async fn put_file(&self, name: &str, file: &FsPath) -> Result<(), Fault> {
        self.there(name)?;
        let mut file = tokio::fs::File::open(file).await.map_err(Fault::Home)?;
        let upload = self.inner.put_multipart(&self.path(name)).await.map_err(|e| self.fault(name, e, true))?;
        let mut upload = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            upload.wait_for_capacity(1).await.map_err(|e| self.fault(name, e, true))?;
            let mut part = Vec::with_capacity(PART);
            (&mut file).take(PART as u64).read_to_end(&mut part).await.map_err(Fault::Home)?;
            if part.is_empty() {
                break;
            }
            upload.put(Bytes::from(part));
        }
        upload.finish().await.map_err(|e| self.fault(name, e, true))?;
        Ok(())
    }

    /// The size of an object that is there.
    pub async fn size(&self, name: &str) -> Result<u64, Fault> {
        Ok(self.inner.head(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?.size)
    }

    /// A small object, whole. Refuses to take more than 64 MiB into memory.
    pub async fn get(&self, name: &str) -> Result<Bytes, Fault> {
        const MOST: u64 = 64 << 20;
        let found = self.inner.get(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?;
        if found.meta.size > MOST {
            return Err(Fault::Refused(format!("{name} is larger than such an object can be")));
        }
        found.bytes().await.map_err(|e| self.fault(name, e, false))
    }

    /// An object as a stream.
    pub async fn stream(&self, name: &str) -> Result<BoxStream<'static, Result<Bytes, Fault>>, Fault> {
        let found = self.inner.get(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?;
        let (store, name) = (self.clone(), name.to_owned());
        Ok(found.into_stream().map_err(move |e| store.fault(&name, e, false)).boxed())
    }

    /// The objects below `folder` in the order of their names' bytes, as a store lists them: page by page, never all at once.
    ///
    /// # Errors
    /// Beside those of every request: a list that is not in that order cannot be compared with anything.
    pub fn list_objects(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>> {
        let (store, folder, cut) = (self.clone(), folder.to_owned(), self.cut());
        let mut last = String::new();
        self.in_order(&folder)
            .map(move |found| {
                let meta = found.map_err(|e| store.fault(&folder, e, true))?;
                store.there(&folder)?;
                let name = meta.location.as_ref().get(cut..).unwrap_or_default().to_owned();
                if name <= last {
                    return Err(Fault::Disorder(format!("{name} comes after {last}")));
                }
                last.clone_from(&name);
                Ok(Listed { name, size: meta.size, changed_at: meta.last_modified })
            })
            .boxed()
    }

    /// What is below a folder, in the order of names' bytes. A store lists it so; a disk has its own order, and is sorted in pieces:
    /// the first two digits of an object's name are a folder.
    fn in_order(&self, folder: &str) -> BoxStream<'static, object_store::Result<ObjectMeta>> {
        if self.disk.is_none() {
            return self.inner.list(Some(&self.path(folder)));
        }
        let (inner, folder) = (Arc::clone(&self.inner), self.path(folder));
        stream::once(async move {
            let mut pieces = inner.list_with_delimiter(Some(&folder)).await?.common_prefixes;
            pieces.sort_unstable_by(|a, b| a.as_ref().cmp(b.as_ref()));
            let sorted = stream::iter(pieces).then(move |piece| {
                let inner = Arc::clone(&inner);
                async move {
                    let mut found: Vec<ObjectMeta> = inner.list(Some(&piece)).try_collect().await?;
                    found.sort_unstable_by(|a, b| a.location.as_ref().cmp(b.location.as_ref()));
                    Ok::<_, object_store::Error>(stream::iter(found.into_iter().map(Ok)))
                }
            });
            Ok::<_, object_store::Error>(sorted.try_flatten())
        })
        .try_flatten()
        .boxed()
    }

    /// Bytes of a location that are the prefix.
    fn cut(&self) -> usize {
        if self.prefix.is_empty() { 0 } else { self.prefix.len() + 1 }
    }

    /// The names below `folder`, in order.
    pub async fn list(&self, folder: &str) -> Result<Vec<String>, Fault> {
        self.there(folder)?;
        let prefix = self.path(folder);
        let found: Vec<_> = self.inner.list(Some(&prefix)).try_collect().await.map_err(|e| self.fault(folder, e, true))?;
        let cut = self.cut();
        let mut names: Vec<String> = found.iter().filter_map(|m| m.location.as_ref().get(cut..).map(str::to_owned)).collect();
        names.sort_unstable();
        Ok(names)
    }

    /// `writing`: a "not found" then means the bucket.
    fn fault(&self, name: &str, error: object_store::Error, writing: bool) -> Fault {
        use object_store::Error as E;
        let said = said(&error);
        let has = |words: &[&str]| words.iter().any(|w| said.contains(w));
        if has(&["RequestTimeTooSkewed"]) {
            return Fault::Refused(
                "the clocks of this server and of the store differ too much; set this server's clock".to_owned(),
            );
        }
        if has(&["QuotaExceeded", "InsufficientStorage", "StorageFull", "507 "]) {
            return Fault::Refused("the store is full; make room there or raise its limit".to_owned());
        }
        if has(&["NoSuchBucket"]) || (writing && self.disk.is_none() && matches!(error, E::NotFound { .. })) {
            return Fault::Refused("the store has no such bucket; check the bucket's name".to_owned());
        }
        if has(&["SignatureDoesNotMatch", "InvalidAccessKeyId"]) {
            return Fault::Refused("the store does not accept the keys; check access key and secret key".to_owned());
        }
        if let Err(away) = self.there(name) {
            return away;
        }
        if self.disk.is_some() && has(&["No space left", "os error 28"]) {
            return Fault::Refused("the disk is full; make room there".to_owned());
        }
        match error {
            E::NotFound { .. } if writing && self.disk.is_some() => Fault::Away(self.name.clone()),
            E::NotFound { .. } => Fault::Missing(name.to_owned()),
            E::PermissionDenied { .. } | E::Unauthenticated { .. } => {
                Fault::Refused("the store does not allow this with these keys; check the keys and their permissions".to_owned())
            }
            E::InvalidPath { .. } | E::NotSupported { .. } => Fault::Refused(said),
            _ => Fault::Passing(said),
        }
    }
}

/// The innermost cause says what happened; the layers around it repeat the URL.
fn said(error: &object_store::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(inner) = source {
        let more = inner.to_string();
        if !text.contains(&more) {
            text = format!("{text}: {more}");
        }
        source = inner.source();
    }
    text.chars().take(600).collect()
}
