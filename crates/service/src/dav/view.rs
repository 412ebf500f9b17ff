//! A device's tree of folders, as the WebDAV library wants to see it.

use std::{
    fmt,
    sync::{Arc, Mutex, PoisonError},
    time::SystemTime,
};

use dav_server::{
    davpath::DavPath,
    fs::{
        DavDirEntry, DavFile, DavFileSystem, DavMetaData, DavProp, FsError, FsFuture, FsResult, FsStream, OpenOptions,
        ReadDirMeta,
    },
};
use futures_util::{Stream, StreamExt, stream};
use serde::{Deserialize, Serialize};
use ypogeion_catalog::{CatalogError, devices::DeviceCaller, folder_view::Entry};
use ypogeion_core::Digest;
use ypogeion_wire::problem::ProblemType;

use super::file::{Reading, Writing};
use crate::{
    app::App,
    failure::{Answer, Failure},
};

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
    app: Arc<App>,
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
    pub fn new(app: Arc<App>, device: DeviceCaller, piece: Option<Piece>, locking: bool) -> Self {
        View(Arc::new(Request { app, device, piece, locking, trouble: Mutex::default(), digest: Mutex::default() }))
    }

    /// The service.
    pub fn app(&self) -> &Arc<App> {
        &self.0.app
    }

    /// Whose tree it is.
    pub fn device(&self) -> &DeviceCaller {
        &self.0.device
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
                let page = view.app().catalog.folder_entries(view.device().id, &place, &after?, PAGE).await;
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

    async fn find(&self, place: &str) -> FsResult<Entry> {
        let entry = self.app().catalog.folder_entry(self.device().id, place).await.map_err(|e| self.failed(e))?;
        entry.ok_or(FsError::NotFound)
    }

    /// Whether a folder is there to put something into.
    async fn has_folder(&self, place: &str) -> FsResult<()> {
        match self.find(place).await {
            _ if place.is_empty() => Ok(()),
            Ok(entry) if entry.folder => Ok(()),
            Ok(_) => Err(FsError::NotFound),
            Err(e) => Err(e),
        }
    }

    /// How an entry looks from outside.
    pub fn meta(&self, entry: &Entry) -> Meta {
        // Until a file is complete, its length says how far it has come; so programs go on after an interruption.
        let arrived = entry
            .upload
            .filter(|_| entry.original.is_none())
            .and_then(|u| self.app().library.incoming().part(u).ok())
            .map_or(0, |p| p.length);
        Meta {
            folder: entry.folder,
            length: entry.size.max(arrived),
            digest: entry.digest,
            made: entry.made_at.into(),
            changed: entry.changed_at.into(),
        }
    }

    async fn make(&self, place: &str, folder: bool) -> FsResult<()> {
        self.has_folder(ypogeion_catalog::folder_view::parent_of(place)).await?;
        let added = self.app().catalog.add_folder_entry(self.device().id, place, folder, self.app().now()).await;
        added.map_err(|e| self.failed(e))
    }

    async fn open_for_reading(&self, place: &str) -> Answer<Box<dyn DavFile>> {
        let entry = match self.app().catalog.folder_entry(self.device().id, place).await? {
            Some(entry) if !entry.folder => entry,
            _ => return Err(Failure::not_found()),
        };
        let meta = self.meta(&entry);
        *self.0.digest.lock().unwrap_or_else(PoisonError::into_inner) = entry.digest;
        Ok(Box::new(Reading::open(self, &entry, meta).await?))
    }

    async fn change_properties(&self, place: &str, patch: Vec<(bool, DavProp)>) -> FsResult<Vec<(http::StatusCode, DavProp)>> {
        let entry = self.find(place).await?;
        let mut kept = kept_properties(&entry);
        let mut results = Vec::new();
        for (set, property) in patch {
            kept.retain(|k| !k.is(&property));
            if set {
                match Kept::of(&property) {
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
        self.app().catalog.set_folder_properties(self.device().id, place, &value).await.map_err(|e| self.failed(e))?;
        Ok(results)
    }
}

/// A property as it is kept.
#[derive(Debug, Serialize, Deserialize)]
pub struct Kept {
    /// Its name.
    pub name: String,
    /// The namespace of the name.
    pub namespace: Option<String>,
    prefix: Option<String>,
    xml: String,
}

impl Kept {
    fn of(property: &DavProp) -> Option<Self> {
        Some(Kept {
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
pub fn kept_properties(entry: &Entry) -> Vec<Kept> {
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

struct Listed {
    name: String,
    meta: Meta,
}

impl DavDirEntry for Listed {
    fn name(&self) -> Vec<u8> {
        self.name.clone().into_bytes()
    }

    fn metadata(&'_ self) -> FsFuture<'_, Box<dyn DavMetaData>> {
        Box::pin(std::future::ready(Ok(Box::new(self.meta.clone()) as Box<dyn DavMetaData>)))
    }
}

impl fmt::Debug for View {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("View").field("device", &self.device().id).finish_non_exhaustive()
    }
}

impl DavFileSystem for View {
    fn open<'a>(&'a self, path: &'a DavPath, options: OpenOptions) -> FsFuture<'a, Box<dyn DavFile>> {
        Box::pin(async move {
            let place = self.place(path)?;
            if !options.write {
                return self.open_for_reading(&place).await.map_err(|e| self.failed(e));
            }
            if path.is_collection() {
                return Err(self
                    .failed(Failure::new(ProblemType::NotAllowed, "This is the name of a folder; a file has no / at its end.")));
            }
            self.has_folder(ypogeion_catalog::folder_view::parent_of(&place)).await?;
            let there = match self.find(&place).await {
                Ok(entry) if entry.folder => {
                    return Err(self
                        .failed(Failure::new(ProblemType::NotAllowed, "A folder has this name; a file cannot take its place.")));
                }
                Ok(_) if options.create_new => return Err(FsError::Exists),
                Ok(entry) => Some(entry),
                Err(FsError::NotFound) if options.create || options.create_new => None,
                Err(e) => return Err(e),
            };
            if self.0.locking && there.is_none() {
                self.make(&place, false).await?;
            }
            Ok(Box::new(Writing::new(self.clone(), place, there, options.size)) as Box<dyn DavFile>)
        })
    }

    fn read_dir<'a>(&'a self, path: &'a DavPath, _meta: ReadDirMeta) -> FsFuture<'a, FsStream<Box<dyn DavDirEntry>>> {
        Box::pin(async move {
            let place = self.place(path)?;
            self.has_folder(&place).await?;
            let skip = if place.is_empty() { 0 } else { place.len() + 1 };
            let view = self.clone();
            let listed = self.entries(place).map(move |entry| {
                let entry = entry?;
                let (name, meta) = (entry.path[skip..].to_owned(), view.meta(&entry));
                Ok(Box::new(Listed { name, meta }) as Box<dyn DavDirEntry>)
            });
            Ok(Box::pin(listed) as FsStream<Box<dyn DavDirEntry>>)
        })
    }

    fn metadata<'a>(&'a self, path: &'a DavPath) -> FsFuture<'a, Box<dyn DavMetaData>> {
        Box::pin(async move {
            let place = self.place(path)?;
            if place.is_empty() {
                let since = SystemTime::UNIX_EPOCH;
                return Ok(
                    Box::new(Meta { folder: true, length: 0, digest: None, made: since, changed: since }) as Box<dyn DavMetaData>
                );
            }
            let entry = self.find(&place).await?;
            if path.is_collection() && !entry.folder {
                return Err(FsError::NotFound);
            }
            Ok(Box::new(self.meta(&entry)) as Box<dyn DavMetaData>)
        })
    }

    fn create_dir<'a>(&'a self, path: &'a DavPath) -> FsFuture<'a, ()> {
        Box::pin(async move {
            let place = self.place(path)?;
            if place.is_empty() {
                return Err(FsError::Exists);
            }
            self.make(&place, true).await
        })
    }

    // A request to delete never gets here; what gets here is a move or a copy onto something. Its entry gives way, and the
    // original stays in the library.
    fn remove_file<'a>(&'a self, path: &'a DavPath) -> FsFuture<'a, ()> {
        Box::pin(async move {
            let place = self.place(path)?;
            self.app().catalog.forget_folder_entry(self.device().id, &place).await.map_err(|e| self.failed(e))?;
            Ok(())
        })
    }

    fn remove_dir<'a>(&'a self, path: &'a DavPath) -> FsFuture<'a, ()> {
        self.remove_file(path)
    }

    fn rename<'a>(&'a self, from: &'a DavPath, to: &'a DavPath) -> FsFuture<'a, ()> {
        Box::pin(async move {
            let (from, to) = (self.place(from)?, self.place(to)?);
            if from.is_empty() || to.is_empty() || to.starts_with(&format!("{from}/")) {
                return Err(self.failed(Failure::new(ProblemType::NotAllowed, "A folder cannot be moved into itself.")));
            }
            let moved = self.app().catalog.move_folder_entry(self.device().id, &from, &to, self.app().now()).await;
            moved.map_err(|e| self.failed(e))
        })
    }

    fn copy<'a>(&'a self, from: &'a DavPath, to: &'a DavPath) -> FsFuture<'a, ()> {
        Box::pin(async move {
            let (from, to) = (self.place(from)?, self.place(to)?);
            self.has_folder(ypogeion_catalog::folder_view::parent_of(&to)).await?;
            match self.app().catalog.copy_folder_file(self.device().id, &from, &to, self.app().now()).await {
                // Onto a folder.
                Err(CatalogError::NotFound) => Err(FsError::Forbidden),
                other => other.map_err(|e| self.failed(e)),
            }
        })
    }

    fn have_props<'a>(&'a self, path: &'a DavPath) -> std::pin::Pin<Box<dyn Future<Output = bool> + Send + 'a>> {
        // The root is no entry and keeps nothing.
        Box::pin(std::future::ready(self.place(path).is_ok_and(|p| !p.is_empty())))
    }

    fn patch_props<'a>(
        &'a self,
        path: &'a DavPath,
        patch: Vec<(bool, DavProp)>,
    ) -> FsFuture<'a, Vec<(http::StatusCode, DavProp)>> {
        Box::pin(async move { self.change_properties(&self.place(path)?, patch).await })
    }

    fn get_quota(&'_ self) -> FsFuture<'_, (u64, Option<u64>)> {
        Box::pin(async move {
            let room = crate::tus::room(self.app(), self.device().person).await.map_err(|e| self.failed(e))?;
            let used = self.app().catalog.used(self.device().person).await.map_err(|e| self.failed(e))?;
            Ok((used, Some(used + room.left())))
        })
    }
}
