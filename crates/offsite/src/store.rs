//! An S3-compatible object store, a WebDAV share, or a folder on a disk, as far as a replica needs one: put, look, get, list. And what its
//! faults mean.
//!
//! A disk may be away for months. Its folder is then missing, or empty, and neither says anything about the copies: they are only
//! looked for where the replica's own first object is.

use std::{
    io,
    path::{Path as FsPath, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use bytes::Bytes;
use chrono::{DateTime, Utc};
use futures_util::{
    StreamExt, TryStreamExt,
    stream::{self, BoxStream},
};
use http::StatusCode;
use object_store::{
    ObjectMeta, ObjectStore, ObjectStoreExt, PutPayload, RetryConfig, WriteMultipart,
    aws::{AmazonS3, AmazonS3Builder, Checksum},
    http::HttpBuilder,
    local::LocalFileSystem,
    multipart::{MultipartStore, PartId},
    path::Path,
};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use ypogeion_core::{Digest, Hasher, kit::StoreAddress};

use crate::{
    shape::{PLAIN_OUTSIDE, Pacer, Shaped, SignIn},
    share::{Share, ShareError},
    spool::{Entry, Upload},
};

/// Objects up to this size go in one request; larger ones in parts of this size.
pub const PART: usize = 16 << 20;
/// Parts of one object that are under way at once.
const PARTS_AT_ONCE: usize = 2;

/// A store that can be spoken to.
#[derive(Clone, Debug)]
pub struct Store {
    inner: Arc<dyn ObjectStore>,
    prefix: String,
    name: String,
    pacer: Arc<Pacer>,
    /// A disk's folder of this replica: without its first object, the disk is away.
    disk: Option<PathBuf>,
    /// A share's way to write large files.
    share: Option<Share>,
    /// An object store's ways.
    s3: Option<Buckets>,
    /// Whether it was seen to notice bytes that changed on their way.
    notices: bool,
}

/// The same bucket, asked with checksums, and without for stores that know none (they are told by refusing the first one).
#[derive(Clone, Debug)]
struct Buckets {
    summed: Arc<AmazonS3>,
    bare: Arc<AmazonS3>,
    knows_no_sums: Arc<AtomicBool>,
}

impl Buckets {
    fn way(&self) -> &Arc<AmazonS3> {
        if self.knows_no_sums.load(Ordering::Relaxed) { &self.bare } else { &self.summed }
    }
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
    /// It holds sealed bytes, and no key that opens them is kept here.
    #[error("this server keeps no key that opens copies; lend it the key of the recovery kit")]
    Locked,
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
    pub fn by(address: &StoreAddress, pacer: Arc<Pacer>) -> Result<Self, Fault> {
        Self::shaped(address, Shaped::new(pacer.clone()), pacer)
    }

    /// The same for a trial: what is sent changes on its way, after it was signed. A good store notices.
    pub(crate) fn noisy(address: &StoreAddress) -> Result<Self, Fault> {
        let pacer = Arc::<Pacer>::default();
        Self::shaped(address, Shaped::new(Arc::clone(&pacer)).noisy(), pacer)
    }

    fn shaped(address: &StoreAddress, shaped: Shaped, pacer: Arc<Pacer>) -> Result<Self, Fault> {
        let prefix = address.prefix.trim_matches('/').to_owned();
        let unusable = |e: object_store::Error| Fault::Refused(format!("the address of {} cannot be used: {e}", address.name));
        let store = |inner: Arc<dyn ObjectStore>| Store {
            inner,
            prefix: prefix.clone(),
            name: address.name.clone(),
            pacer: Arc::clone(&pacer),
            disk: None,
            share: None,
            s3: None,
            notices: true,
        };
        if let Some(folder) = address.disk() {
            // On a disk of this house nothing is gained by going slowly; but what it confirmed must be on it.
            let disk = LocalFileSystem::new_with_prefix(folder).map_err(|_| Fault::Away(address.name.clone()))?;
            let place = FsPath::new(folder).join(&prefix);
            return Ok(Store { disk: Some(place), ..store(Arc::new(disk.with_fsync(true))) });
        }
        let shaped = shaped.plain(spoken_plainly(address)?).pinned(address.certificate);
        // The work queue does the waiting between attempts, where people can see it; here only a hiccup is ridden out.
        let retry = RetryConfig { max_retries: 2, retry_timeout: Duration::from_secs(20), ..RetryConfig::default() };
        if let Some(url) = address.share() {
            let sign_in = SignIn { name: address.access_key.clone(), password: address.secret_key.clone() };
            let shaped = if sign_in.name.is_empty() { shaped } else { shaped.signed_in(sign_in) };
            let client =
                shaped.client().map_err(|e| Fault::Refused(format!("the address of {} cannot be used: {e}", address.name)))?;
            let base = reqwest::Url::parse(&url)
                .map_err(|e| Fault::Refused(format!("the address of {} cannot be used: {e}", address.name)))?;
            let http =
                HttpBuilder::new().with_url(&url).with_http_connector(shaped).with_retry(retry).build().map_err(unusable)?;
            return Ok(Store { share: Some(Share::new(base, client)), notices: false, ..store(Arc::new(http)) });
        }
        let bucket = |sums: bool| {
            let builder = AmazonS3Builder::new()
                .with_endpoint(&address.endpoint)
                .with_region(if address.region.is_empty() { "us-east-1" } else { &address.region })
                .with_bucket_name(&address.bucket)
                .with_access_key_id(&address.access_key)
                .with_secret_access_key(&address.secret_key)
                .with_virtual_hosted_style_request(names_bucket(&address.endpoint, &address.bucket))
                // One request for each removal: the other way is not known everywhere.
                .with_disable_bulk_delete(true)
                .with_http_connector(shaped.clone())
                .with_retry(retry.clone());
            let builder = if sums { builder.with_checksum_algorithm(Checksum::SHA256) } else { builder };
            builder.build().map(Arc::new).map_err(unusable)
        };
        let buckets = Buckets { summed: bucket(true)?, bare: bucket(false)?, knows_no_sums: Arc::default() };
        Ok(Store { s3: Some(buckets.clone()), ..store(buckets.summed.clone()) })
    }

    /// What a trial has seen: whether it notices bytes that changed on their way. One that does not is read again before a copy counts.
    pub fn that_notices(self, notices: bool) -> Self {
        Store { notices: notices && self.share.is_none(), ..self }
    }

    /// Whether what it takes is certainly what was sent, because it checks a checksum. Otherwise a copy is read again before it counts.
    pub fn checks_sums(&self) -> bool {
        let knows = self.s3.as_ref().is_some_and(|b| !b.knows_no_sums.load(Ordering::Relaxed));
        knows && self.notices
    }

    /// For how long it has asked to be left alone, if it has.
    pub fn asked_to_wait(&self) -> Option<Duration> {
        self.pacer.asked_to_wait()
    }

    /// Until when a retention lock keeps what was looked at last.
    pub(crate) fn locked_until(&self) -> Option<String> {
        self.pacer.locked_until()
    }

    /// The same for a trial: a disk on which no replica has begun is no disk that is away.
    pub(crate) fn unmarked(self) -> Self {
        Store { disk: None, ..self }
    }

    /// For what only a trial asks of it.
    pub(crate) fn inner(&self) -> &dyn ObjectStore {
        match &self.s3 {
            Some(buckets) => &**buckets.way(),
            None => &*self.inner,
        }
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
    /// Returns the bytes' hash if it went with them, so that nobody has to take it once more.
    pub async fn put(&self, name: &str, bytes: Bytes) -> Result<Option<Digest>, Fault> {
        self.there(name)?;
        let payload = PutPayload::from_bytes(bytes);
        let put = match self.inner().put(&self.path(name), payload.clone()).await {
            Err(e) if self.is_about_sums(&e) => self.inner().put(&self.path(name), payload).await,
            other => other,
        };
        let sum = self.pacer.take_sum(name);
        put.map_err(|e| self.fault(name, e, true))?;
        Ok(sum)
    }

    /// The store knows no checksums, and said so. From now on it is asked without.
    fn is_about_sums(&self, error: &object_store::Error) -> bool {
        let Some(buckets) = &self.s3 else { return false };
        let said = said(error).to_lowercase();
        let about = said.contains("checksum") || (said.contains("notimplemented") && said.contains("header"));
        about && !buckets.knows_no_sums.swap(true, Ordering::Relaxed)
    }

    /// Removes an object. `false`: the store says yes and has it still.
    ///
    /// # Errors
    /// [`Fault::Refused`] where the store does not allow it: keys that may not delete, or a retention lock.
    pub async fn remove(&self, name: &str) -> Result<bool, Fault> {
        self.there(name)?;
        match self.inner().delete(&self.path(name)).await.map_err(|e| self.fault(name, e, false)) {
            Ok(()) | Err(Fault::Missing(_)) => {}
            Err(fault) => return Err(fault),
        }
        match self.size(name).await {
            Err(Fault::Missing(_)) => Ok(true),
            Ok(_) => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    /// Stores a sealed body that is too large for memory. Where the store takes it in parts, each has a checksum, and what was sent of it
    /// before an interruption stays sent.
    pub(crate) async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<(), Fault> {
        self.there(name)?;
        match (&self.s3, &self.share) {
            (Some(buckets), _) => self.put_parts(buckets.way(), name, entry).await,
            (None, Some(share)) => share.put_file(&self.path(name), entry.bytes()).await.map_err(|e| match e {
                ShareError::Home(e) => Fault::Home(e),
                ShareError::Http(e) if innermost(&e).contains(ypogeion_pin::ANOTHER_CERTIFICATE) => {
                    Fault::Refused(ANOTHER_CERTIFICATE.to_owned())
                }
                ShareError::Http(e) => Fault::Passing(innermost(&e)),
                ShareError::Status(StatusCode::INSUFFICIENT_STORAGE) => Fault::Refused(FULL.to_owned()),
                ShareError::Status(StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN) => Fault::Refused(NOT_ALLOWED.to_owned()),
                ShareError::Status(StatusCode::NOT_FOUND | StatusCode::CONFLICT) => Fault::Refused(NO_FOLDER.to_owned()),
                ShareError::Status(status) => Fault::Passing(format!("it answered {status}")),
            }),
            (None, None) => self.copy_file(name, entry.bytes()).await,
        }
    }

    /// A file for a disk, which takes it piece by piece and gives it its name at the end.
    async fn copy_file(&self, name: &str, file: &FsPath) -> Result<(), Fault> {
        let mut file = tokio::fs::File::open(file).await.map_err(Fault::Home)?;
        let upload = self.inner.put_multipart(&self.path(name)).await.map_err(|e| self.fault(name, e, true))?;
        let mut upload = WriteMultipart::new_with_chunk_size(upload, PART);
        loop {
            upload.wait_for_capacity(1).await.map_err(|e| self.fault(name, e, true))?;
            let part = read_part(&mut file, PART as u64).await?;
            if part.is_empty() {
                break;
            }
            upload.put(part);
        }
        upload.finish().await.map_err(|e| self.fault(name, e, true))?;
        Ok(())
    }

    /// An upload in parts that goes on where it was interrupted.
    async fn put_parts(&self, bucket: &AmazonS3, name: &str, entry: &mut Entry) -> Result<(), Fault> {
        let path = self.path(name);
        let length = entry.both().sealed.length;
        let id = match entry.upload() {
            Some(upload) => upload.id.clone(),
            None => {
                let id = bucket.create_multipart(&path).await.map_err(|e| self.fault(name, e, true))?;
                // No more than 10,000 parts, and all but the last of one size.
                let part = (PART as u64).max(length.div_ceil(9_000));
                let parts = vec![None; usize::try_from(length.div_ceil(part)).unwrap_or(usize::MAX)];
                entry.set_upload(Some(Upload { id: id.clone(), part, parts })).map_err(Fault::Home)?;
                id
            }
        };
        let upload = entry.upload().cloned().expect("it was just set");
        let (part, bytes) = (upload.part, entry.bytes().to_owned());
        let missing: Vec<usize> = upload.parts.iter().enumerate().filter(|(_, p)| p.is_none()).map(|(n, _)| n).collect();
        let mut parts = upload.parts;
        let (path_of, id_of) = (&path, &id);
        let stopped = AtomicBool::new(false);
        let mut sending = stream::iter(missing)
            // After a part that failed, no other one is begun.
            .take_while(|_| std::future::ready(!stopped.load(Ordering::Relaxed)))
            .map(|n| {
                let bytes = bytes.clone();
                async move {
                    let mut file = tokio::fs::File::open(&bytes).await.map_err(Fault::Home)?;
                    file.seek(io::SeekFrom::Start(n as u64 * part)).await.map_err(Fault::Home)?;
                    let body = read_part(&mut file, part).await?;
                    let sent = bucket.put_part(path_of, id_of, n, body.into()).await.map_err(|e| self.fault(name, e, false))?;
                    Ok::<_, Fault>((n, sent.content_id))
                }
            })
            .buffer_unordered(PARTS_AT_ONCE);
        let mut failed = None;
        while let Some(sent) = sending.next().await {
            match sent {
                Ok((n, content)) => {
                    parts[n] = Some(content);
                    let upload = Upload { id: id.clone(), part, parts: parts.clone() };
                    entry.set_upload(Some(upload)).map_err(Fault::Home)?;
                }
                // The other one that is under way still counts when it arrives.
                Err(fault) => {
                    stopped.store(true, Ordering::Relaxed);
                    failed = failed.or(Some(fault));
                }
            }
        }
        drop(sending);
        let done = match failed {
            Some(fault) => Err(fault),
            None => {
                let all = parts.into_iter().flatten().map(|content_id| PartId { content_id }).collect();
                bucket.complete_multipart(&path, &id, all).await.map(drop).map_err(|e| self.fault(name, e, false))
            }
        };
        match done {
            // The store has forgotten the upload; or it was completed, and only the answer was lost.
            Err(Fault::Missing(_)) => {
                entry.set_upload(None).map_err(Fault::Home)?;
                if self.digest_of(name).await.is_ok_and(|found| found == entry.both().sealed.digest) {
                    return Ok(());
                }
                Err(Fault::Passing(format!("the store lost the parts of {name} that it had; it is sent again")))
            }
            other => other,
        }
    }

    /// The hash of an object's bytes as they are in the store.
    pub(crate) async fn digest_of(&self, name: &str) -> Result<Digest, Fault> {
        let (mut bytes, mut hasher) = (self.stream(name).await?, Hasher::new());
        while let Some(piece) = bytes.try_next().await? {
            hasher.update(&piece);
        }
        Ok(hasher.finish())
    }

    /// The size of an object that is there.
    pub async fn size(&self, name: &str) -> Result<u64, Fault> {
        Ok(self.inner().head(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?.size)
    }

    /// A small object, whole. Refuses to take more than 64 MiB into memory.
    pub async fn get(&self, name: &str) -> Result<Bytes, Fault> {
        const MOST: u64 = 64 << 20;
        let found = self.inner().get(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?;
        if found.meta.size > MOST {
            return Err(Fault::Refused(format!("{name} is larger than such an object can be")));
        }
        found.bytes().await.map_err(|e| self.fault(name, e, false))
    }

    /// An object as a stream.
    pub async fn stream(&self, name: &str) -> Result<BoxStream<'static, Result<Bytes, Fault>>, Fault> {
        let found = self.inner().get(&self.path(name)).await.map_err(|e| self.fault(name, e, false))?;
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

    /// What is below a folder, in the order of names' bytes. A store lists it so; a disk or a share has its own order, and is sorted in
    /// pieces: the first two digits of an object's name are a folder.
    fn in_order(&self, folder: &str) -> BoxStream<'static, object_store::Result<ObjectMeta>> {
        if self.s3.is_some() {
            return self.inner.list(Some(&self.path(folder)));
        }
        // A share is asked for one folder at a time: most refuse to tell all that is below one.
        let one_level = self.share.is_some();
        let (inner, folder) = (Arc::clone(&self.inner), self.path(folder));
        stream::once(async move {
            let mut pieces = inner.list_with_delimiter(Some(&folder)).await?.common_prefixes;
            pieces.sort_unstable_by(|a, b| a.as_ref().cmp(b.as_ref()));
            let sorted = stream::iter(pieces).then(move |piece| {
                let inner = Arc::clone(&inner);
                async move {
                    let mut found: Vec<ObjectMeta> = if one_level {
                        inner.list_with_delimiter(Some(&piece)).await?.objects
                    } else {
                        inner.list(Some(&piece)).try_collect().await?
                    };
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
        let found: object_store::Result<Vec<ObjectMeta>> =
            if self.share.is_some() { self.below(&prefix).await } else { self.inner.list(Some(&prefix)).try_collect().await };
        let found = found.map_err(|e| self.fault(folder, e, true))?;
        let cut = self.cut();
        let mut names: Vec<String> = found.iter().filter_map(|m| m.location.as_ref().get(cut..).map(str::to_owned)).collect();
        names.sort_unstable();
        Ok(names)
    }

    /// What is in a folder of a share and in the folders in it.
    async fn below(&self, folder: &Path) -> object_store::Result<Vec<ObjectMeta>> {
        let here = self.inner.list_with_delimiter(Some(folder)).await?;
        let mut found = here.objects;
        for piece in here.common_prefixes {
            found.extend(self.inner.list_with_delimiter(Some(&piece)).await?.objects);
        }
        Ok(found)
    }

    /// `writing`: a "not found" then means the bucket.
    fn fault(&self, name: &str, error: object_store::Error, writing: bool) -> Fault {
        use object_store::Error as E;
        let said = said(&error);
        let told = without(&said, name);
        let has = |words: &[&str]| words.iter().any(|w| told.contains(w));
        if has(&["RequestTimeTooSkewed"]) {
            return Fault::Refused(
                "the clocks of this server and of the store differ too much; set this server's clock".to_owned(),
            );
        }
        if has(&[ypogeion_pin::ANOTHER_CERTIFICATE]) {
            return Fault::Refused(ANOTHER_CERTIFICATE.to_owned());
        }
        if has(&["QuotaExceeded", "InsufficientStorage", "StorageFull", "507 "]) {
            return Fault::Refused(FULL.to_owned());
        }
        if has(&["NoSuchUpload"]) {
            return Fault::Missing(name.to_owned());
        }
        if has(&["AuthorizationHeaderMalformed", "InvalidRegion", "PermanentRedirect"]) {
            return Fault::Refused(format!("the store wants another region; check the region ({})", about_region(&said)));
        }
        if has(&["NoSuchBucket"]) || (writing && self.disk.is_none() && matches!(error, E::NotFound { .. })) {
            return Fault::Refused(if self.share.is_some() { NO_FOLDER } else { NO_BUCKET }.to_owned());
        }
        if has(&["SignatureDoesNotMatch", "InvalidAccessKeyId"]) {
            return Fault::Refused("the store does not accept the keys; check access key and secret key".to_owned());
        }
        if let Err(away) = self.there(name) {
            return away;
        }
        if self.disk.is_some() && has(&["No space left", "os error 28"]) {
            return Fault::Refused("the disk is full; free some space on it".to_owned());
        }
        match error {
            E::NotFound { .. } if writing && self.disk.is_some() => Fault::Away(self.name.clone()),
            E::NotFound { .. } => Fault::Missing(name.to_owned()),
            E::PermissionDenied { .. } | E::Unauthenticated { .. } if self.share.is_some() => {
                Fault::Refused(NOT_LET_IN.to_owned())
            }
            E::PermissionDenied { .. } | E::Unauthenticated { .. } => Fault::Refused(NOT_ALLOWED.to_owned()),
            E::InvalidPath { .. } | E::NotSupported { .. } => Fault::Refused(plainly(&said)),
            _ => Fault::Passing(plainly(&said)),
        }
    }
}

/// What an error says, without what it is about: a picture may be called "507 Mill Lane". The folder of everything has no name.
fn without(said: &str, name: &str) -> String {
    if name.is_empty() { said.to_owned() } else { said.replace(name, "…") }
}

/// A sentence of ours for what a library says, which is kept behind it as the details.
fn plainly(said: &str) -> String {
    let has = |words: &[&str]| words.iter().any(|w| said.contains(w));
    let what = match () {
        () if has(&["timed out", "operation timeout"]) => "it did not answer in time",
        () if has(&["error sending request", "Connection refused", "dns error", "tcp connect"]) => {
            "nothing answers at its address"
        }
        () if has(&["SlowDown", "429", "TooManyRequests"]) => "it asks for fewer requests",
        () if has(&["ServiceUnavailable", "503"]) => "it says that it cannot answer now",
        () if has(&["InternalError", "500 Internal"]) => "it says that something went wrong there",
        () => "it did not do what it was asked to",
    };
    let details = details(said);
    if details.is_empty() { what.to_owned() } else { format!("{what} (details: {details})") }
}

/// What an answer in XML says, or the last words of a chain of errors; short, and without signs of its form.
fn details(said: &str) -> String {
    let within = |tag: &str| {
        let rest = said.split_once(&format!("<{tag}>"))?.1;
        Some(rest.split("</").next().unwrap_or_default().trim().to_owned())
    };
    let told = match (within("Code"), within("Message")) {
        (Some(code), Some(message)) if !message.is_empty() => format!("{code}, {message}"),
        (Some(code), _) => code,
        (None, Some(message)) => message,
        (None, None) => said.rsplit(": ").next().unwrap_or(said).to_owned(),
    };
    let marks = [("&apos;", "'"), ("&quot;", "\""), ("&lt;", "<"), ("&gt;", ">"), ("&amp;", "&")];
    let plain = marks.iter().fold(told, |text, (written, meant)| text.replace(written, meant));
    plain.split_whitespace().collect::<Vec<_>>().join(" ").trim_end_matches('.').chars().take(200).collect()
}

/// What a keeper is told whose store at home has another certificate today.
pub const ANOTHER_CERTIFICATE: &str = "the store shows another certificate than the one that you trusted; if it was given a new one, resume with the fingerprint of that one";
const FULL: &str = "the store is full; free some space there or raise its limit";
const NO_BUCKET: &str = "the store has no such bucket; check the bucket's name";
const NO_FOLDER: &str = "the share has no such folder; check the address";
const NOT_ALLOWED: &str = "the store does not allow this with these keys; check the keys and their permissions";
const NOT_LET_IN: &str = "the share does not let this name and password in, or they may not write there; check both";

/// Whether an endpoint names the bucket itself (`https://bucket.store.example`); otherwise the bucket is the first part of the path.
fn names_bucket(endpoint: &str, bucket: &str) -> bool {
    reqwest::Url::parse(endpoint).is_ok_and(|u| u.host_str().is_some_and(|h| h.starts_with(&format!("{bucket}."))))
}

/// What a store says of the region that it wants, if it says so.
fn about_region(said: &str) -> String {
    let from = said.find("<Message>").map_or(0, |at| at + "<Message>".len());
    said[from..].split("</Message>").next().unwrap_or_default().trim().chars().take(200).collect()
}

fn innermost(e: &dyn std::error::Error) -> String {
    let mut e = e;
    while let Some(inner) = e.source() {
        e = inner;
    }
    e.to_string()
}

async fn read_part(file: &mut tokio::fs::File, most: u64) -> Result<Bytes, Fault> {
    let mut part = Vec::with_capacity(usize::try_from(most).unwrap_or(PART));
    file.take(most).read_to_end(&mut part).await.map_err(Fault::Home)?;
    Ok(part.into())
}

/// The innermost cause says what happened; the layers around it repeat the URL.
fn said(error: &object_store::Error) -> String {
    chain(error)
}

fn chain(error: &(dyn std::error::Error + 'static)) -> String {
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

/// Whether a store is spoken to in the clear, which is only done in a private network.
///
/// # Errors
/// [`Fault::Refused`] if its address is a figure outside of one. Names are looked at when they are found ([`shape`]).
pub(crate) fn spoken_plainly(address: &StoreAddress) -> Result<bool, Fault> {
    let url = address.share().unwrap_or_else(|| address.endpoint.clone());
    let url =
        reqwest::Url::parse(&url).map_err(|e| Fault::Refused(format!("the address of {} cannot be used: {e}", address.name)))?;
    if url.scheme() != "http" {
        return Ok(false);
    }
    let figure = url.host_str().and_then(|h| h.trim_matches(['[', ']']).parse::<std::net::IpAddr>().ok());
    if figure.is_some_and(|ip| !ypogeion_core::network::is_private(ip)) {
        return Err(Fault::Refused(format!("{} is not spoken to: {PLAIN_OUTSIDE}", address.name)));
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_name_that_looks_like_a_code(
        "could not put pictures/507 Mill Lane.jpg: 403",
        "pictures/507 Mill Lane.jpg",
        "could not put …: 403"
    )]
    #[case::no_name("507 Insufficient Storage", "", "507 Insufficient Storage")]
    #[case::another_name("507 Insufficient Storage", "objects", "507 Insufficient Storage")]
    fn what_an_error_is_about_is_not_what_it_says(#[case] said: &str, #[case] name: &str, #[case] told: &str) {
        assert_eq!(without(said, name), told);
    }

    #[rstest]
    #[case::in_xml(
        "Generic S3 error: Error performing PUT http://127.0.0.1:9/b/x in 3 ms - Server returned error response: <Error><Code>SlowDown</Code><Message>Please don&apos;t.</Message></Error>",
        "it asks for fewer requests (details: SlowDown, Please don't)"
    )]
    #[case::nobody(
        "Generic S3 error: error sending request for url (http://x/): tcp connect error: Connection refused (os error 111)",
        "nothing answers at its address (details: Connection refused (os error 111))"
    )]
    #[case::late("HTTP error: operation timed out", "it did not answer in time (details: operation timed out)")]
    #[case::unknown("something: odd", "it did not do what it was asked to (details: odd)")]
    #[case::nothing("", "it did not do what it was asked to")]
    fn our_sentence_comes_first(#[case] said: &str, #[case] told: &str) {
        assert_eq!(plainly(said), told);
    }

    fn at(endpoint: &str) -> StoreAddress {
        let text = |t: &str| t.to_owned();
        StoreAddress {
            name: text("North Quay"),
            endpoint: text(endpoint),
            region: String::new(),
            bucket: text("pictures"),
            prefix: String::new(),
            access_key: text("AK"),
            secret_key: text("SK"),
            sealed: true,
            certificate: None,
        }
    }

    #[test]
    fn in_the_clear_only_the_own_network_is_spoken_to() {
        for (endpoint, plain) in [
            ("https://store.example.org", Some(false)),
            ("https://203.0.113.7", Some(false)),
            ("http://192.168.1.7:9000", Some(true)),
            ("http://[fd00::7]:9000", Some(true)),
            ("http://quay.local", Some(true)),
            ("http://203.0.113.7", None),
            ("http://[2001:db8::7]/", None),
            ("dav://203.0.113.7/pictures", None),
            ("davs://203.0.113.7/pictures", Some(false)),
            ("dav://10.0.0.7/pictures", Some(true)),
        ] {
            assert_eq!(spoken_plainly(&at(endpoint)).ok(), plain, "{endpoint}");
            assert_eq!(Store::new(&at(endpoint)).is_ok(), plain.is_some(), "{endpoint}");
        }
    }

    /// Somebody who answers each request with these words, and counts them.
    async fn answering(words: String) -> (u16, Arc<std::sync::atomic::AtomicUsize>) {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (port, heard) = (listener.local_addr().unwrap().port(), Arc::<std::sync::atomic::AtomicUsize>::default());
        let count = Arc::clone(&heard);
        tokio::spawn(async move {
            while let Ok((mut line, _)) = listener.accept().await {
                count.fetch_add(1, Ordering::Relaxed);
                let mut some = [0; 4096];
                let _ = line.read(&mut some).await;
                let _ = line.write_all(words.as_bytes()).await;
            }
        });
        (port, heard)
    }

    #[tokio::test]
    async fn a_store_that_sends_elsewhere_is_not_followed() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let (other, heard) = answering("HTTP/1.1 200 OK\r\ncontent-length: 0\r\nconnection: close\r\n\r\n".to_owned()).await;
        let (port, asked) = answering(format!(
            "HTTP/1.1 307 Temporary Redirect\r\nlocation: http://127.0.0.1:{other}/pictures/x\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
        ))
        .await;
        for endpoint in [format!("http://127.0.0.1:{port}"), format!("dav://127.0.0.1:{port}/pictures")] {
            let store = Store::new(&at(&endpoint)).unwrap();
            assert!(store.put("x", Bytes::from_static(b"kite")).await.is_err(), "{endpoint}");
            assert!(store.get("x").await.is_err(), "{endpoint}");
        }
        assert!(asked.load(Ordering::Relaxed) > 0);
        assert_eq!(heard.load(Ordering::Relaxed), 0, "nobody else hears of it");
    }
}
