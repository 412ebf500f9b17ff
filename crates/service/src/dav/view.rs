//! A device's tree of folders, as the WebDAV library wants to see it.

use std::{
    fmt,
    sync::{Arc, Mutex, PoisonError},
    time::SystemTime,
};

use dav_server::{
    davpath::DavPath,
    fs::{DavMetaData, DavProp, FsError, FsResult},
};
use futures_util::{Stream, StreamExt, stream};
use serde::{Deserialize, Serialize};
use ypogeion_catalog::{devices::DeviceCaller, folder_view::Entry};
use ypogeion_core::Digest;
use ypogeion_engine::engine::Engine;
use ypogeion_wire::problem::ProblemType;

use crate::failure::Failure;

/// Entries read at a time.
const PAGE: i64 = 1000;
/// Bytes of properties kept for one entry.
const MOST_PROPERTIES: usize = 64 << 10;

/// The piece of a file that a request carries: its first byte, and how long the whole file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// Offset of the first byte.
    pub start: u64,
    /// Bytes of the whole file.
    pub whole: u64,
}

/// One request's view of a device's tree.
#[derive(Clone)]
pub struct View(Arc<Request>);

struct Request {
    engine: Arc<Engine>,
    device: DeviceCaller,
    piece: Option<Piece>,
    /// A lock on a name that nothing has makes an empty file; any other request makes one only once it has all its bytes.
    locking: bool,
    /// What went wrong, in words: the library has only statuses.
    trouble: Mutex<Option<Failure>>,
    /// The hash of what was handed over.
    digest: Mutex<Option<Digest>>,
}

impl View {
    /// A view for one request.
    pub fn new(engine: Arc<Engine>, device: DeviceCaller, piece: Option<Piece>, locking: bool) -> Self {
        View(Arc::new(Request { engine, device, piece, locking, trouble: Mutex::default(), digest: Mutex::default() }))
    }

    /// The service.
    pub fn engine(&self) -> &Arc<Engine> {
        &self.0.engine
    }

    /// Whose tree it is.
    pub fn device(&self) -> &DeviceCaller {
        &self.0.device
    }

    /// Whether it asks for a lock.
    pub(super) fn is_locking(&self) -> bool {
        self.0.locking
    }

    /// What is handed over has this hash.
    pub(super) fn hands_over(&self, digest: Option<Digest>) {
        *self.0.digest.lock().unwrap_or_else(PoisonError::into_inner) = digest;
    }

    /// The piece that this request carries, if it does not carry a whole file.
    pub fn piece(&self) -> Option<Piece> {
        self.0.piece
    }

    /// What went wrong, in words.
    pub fn trouble(&self) -> Option<Failure> {
        self.0.trouble.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    /// The hash of what was handed over.
    pub fn digest(&self) -> Option<Digest> {
        *self.0.digest.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps the words of a failure for the answer, and gives the library a status.
    pub fn failed(&self, failure: impl Into<Failure>) -> FsError {
        let failure = failure.into();
        let error = match failure.kind {
            ProblemType::NotFound => FsError::NotFound,
            ProblemType::NameTaken => FsError::Exists,
            ProblemType::OverQuota | ProblemType::DiskFull => FsError::InsufficientStorage,
            ProblemType::NotAllowed | ProblemType::UploadBusy => FsError::Forbidden,
            ProblemType::TooLarge => FsError::TooLarge,
            _ => FsError::GeneralFailure,
        };
        // Nothing there, and something there, is what the library asks about all the time.
        if !matches!(error, FsError::NotFound | FsError::Exists) {
            *self.0.trouble.lock().unwrap_or_else(PoisonError::into_inner) = Some(failure);
        }
        error
    }

    /// The place in the tree that a path means.
    pub fn place(&self, path: &DavPath) -> FsResult<String> {
        let text = std::str::from_utf8(path.as_bytes())
            .map_err(|_| self.failed(Failure::new(ProblemType::NotAllowed, "Names are written in UTF-8 here.")))?;
        let place = text.trim_matches('/');
        if place.chars().any(char::is_control) {
            return Err(
                self.failed(Failure::new(ProblemType::NotAllowed, "A name cannot hold control characters; give it another one."))
            );
        }
        if place.len() > 4096 || place.split('/').any(|s| s.len() > 255) {
            return Err(FsError::PathTooLong);
        }
        if !place.is_empty() && place.split('/').any(|s| matches!(s, "" | "." | "..")) {
            return Err(FsError::NotFound);
        }
        Ok(place.to_owned())
    }

    /// The entry at a place; `None` for the root, which is always there and is no entry.
    pub async fn entry(&self, place: &str) -> FsResult<Option<Entry>> {
        if place.is_empty() { Ok(None) } else { self.find(place).await.map(Some) }
    }

    /// What is in a folder, read a page at a time.
    pub fn entries(&self, place: String) -> impl Stream<Item = FsResult<Entry>> + Send + 'static {
        let view = self.clone();
        let pages = stream::unfold(Some(String::new()), move |after| {
            let (view, place) = (view.clone(), place.clone());
            async move {
                let page = view.engine().catalog.folder_entries(view.device().id, &place, &after?, PAGE).await;
                let page: Vec<FsResult<Entry>> = match page {
                    Ok(page) => page.into_iter().map(Ok).collect(),
                    Err(e) => vec![Err(view.failed(e))],
                };
                let last = page.last().filter(|_| page.len() == PAGE as usize).and_then(|l| l.as_ref().ok());
                let next = last.map(|e| e.path.clone());
                Some((stream::iter(page), next))
            }
        });
        pages.flatten()
    }

    pub(super) async fn find(&self, place: &str) -> FsResult<Entry> {
        let entry = self.engine().catalog.folder_entry(self.device().id, place).await.map_err(|e| self.failed(e))?;
        entry.ok_or(FsError::NotFound)
    }

    /// Whether a folder is there to put something into.
    pub(super) async fn has_folder(&self, place: &str) -> FsResult<()> {
        match self.find(place).await {
            _ if place.is_empty() => Ok(()),
            Ok(entry) if entry.folder => Ok(()),
            Ok(_) => Err(FsError::NotFound),
            Err(e) => Err(e),
        }
    }

    /// How an entry looks from outside.
    pub async fn meta(&self, entry: &Entry) -> FsResult<Meta> {
        // Until a file is complete, its length says how far it has come; so programs go on after an interruption.
        let arrived = match entry.upload.filter(|_| entry.original.is_none()) {
            Some(upload) => self.engine().part(upload).await.map_err(|e| self.failed(e))?.unwrap_or(0),
            None => 0,
        };
        Ok(Meta {
            folder: entry.folder,
            length: entry.size.max(arrived),
            digest: entry.digest,
            made: entry.made_at.into(),
            changed: entry.changed_at.into(),
        })
    }

    pub(super) async fn make(&self, place: &str, folder: bool) -> FsResult<()> {
        self.has_folder(ypogeion_catalog::folder_view::parent_of(place)).await?;
        let added = self.engine().catalog.add_folder_entry(self.device().id, place, folder, self.engine().now()).await;
        added.map_err(|e| self.failed(e))
    }

    pub(super) async fn change_properties(
        &self,
        place: &str,
        patch: Vec<(bool, DavProp)>,
    ) -> FsResult<Vec<(http::StatusCode, DavProp)>> {
        let entry = self.find(place).await?;
        let mut kept = stored_properties(&entry);
        let mut results = Vec::new();
        for (set, property) in patch {
            kept.retain(|k| !k.is(&property));
            if set {
                match StoredProperty::of(&property) {
                    Some(property) => kept.push(property),
                    None => return Err(FsError::Forbidden),
                }
            }
            results.push((http::StatusCode::OK, DavProp { xml: None, ..property }));
        }
        let value = serde_json::to_value(&kept).map_err(|_| FsError::GeneralFailure)?;
        if value.to_string().len() > MOST_PROPERTIES {
            return Err(FsError::InsufficientStorage);
        }
        self.engine().catalog.set_folder_properties(self.device().id, place, &value).await.map_err(|e| self.failed(e))?;
        Ok(results)
    }
}

/// A property as it is kept.
#[derive(Debug, Serialize, Deserialize)]
pub struct StoredProperty {
    /// Its name.
    pub name: String,
    /// The namespace of the name.
    pub namespace: Option<String>,
    prefix: Option<String>,
    xml: String,
}

impl StoredProperty {
    fn of(property: &DavProp) -> Option<Self> {
        Some(StoredProperty {
            name: property.name.clone(),
            namespace: property.namespace.clone(),
            prefix: property.prefix.clone(),
            // PostgreSQL's JSON cannot hold a zero byte, and neither can XML.
            xml: String::from_utf8(property.xml.clone()?).ok().filter(|x| !x.contains('\0'))?,
        })
    }

    /// The whole element, as it was sent.
    pub fn element(&self) -> &str {
        match self.xml.trim_start().strip_prefix("<?xml") {
            Some(rest) => rest.split_once("?>").map_or("", |(_, element)| element.trim_start()),
            None => &self.xml,
        }
    }

    fn is(&self, property: &DavProp) -> bool {
        self.name == property.name && self.namespace == property.namespace
    }
}

/// The properties that programs left at an entry.
pub fn stored_properties(entry: &Entry) -> Vec<StoredProperty> {
    serde_json::from_value(entry.properties.clone()).unwrap_or_default()
}

/// How a file or folder looks from outside.
#[derive(Clone, Debug)]
pub struct Meta {
    /// A folder.
    pub folder: bool,
    /// Bytes.
    pub length: u64,
    /// The hash of a complete file. Its entity tag is made from it, so it changes when the bytes do and at no other time.
    pub digest: Option<Digest>,
    /// When it was made.
    pub made: SystemTime,
    /// When it last changed.
    pub changed: SystemTime,
}

impl DavMetaData for Meta {
    fn len(&self) -> u64 {
        self.length
    }

    fn modified(&self) -> FsResult<SystemTime> {
        Ok(self.changed)
    }

    fn created(&self) -> FsResult<SystemTime> {
        Ok(self.made)
    }

    fn is_dir(&self) -> bool {
        self.folder
    }

    fn etag(&self) -> Option<String> {
        let since = self.changed.duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default();
        Some(match self.digest {
            // Half of it says as much, and programs exist that cut longer tags off.
            Some(digest) => digest.to_string()[..32].to_owned(),
            None => format!("{}-{}", self.length, since.as_micros()),
        })
    }
}

impl fmt::Debug for View {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("View").field("device", &self.device().id).finish_non_exhaustive()
    }
}
