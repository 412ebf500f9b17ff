//! A device's tree as the file system that the WebDAV library asks.

use std::time::SystemTime;

use dav_server::{
    davpath::DavPath,
    fs::{DavDirEntry, DavFile, DavFileSystem, DavMetaData, DavProp, FsError, FsFuture, FsStream, OpenOptions, ReadDirMeta},
};
use futures_util::StreamExt;
use ypogeion_catalog::CatalogError;
use ypogeion_engine::landing;
use ypogeion_wire::problem::ProblemType;

use super::{
    file::{Reading, Writing},
    view::{Meta, View},
};
use crate::failure::{Answer, Failure};

async fn open_for_reading(view: &View, place: &str) -> Answer<Box<dyn DavFile>> {
    let entry = match view.engine().catalog.folder_entry(view.device().id, place).await? {
        Some(entry) if !entry.folder => entry,
        _ => return Err(Failure::not_found()),
    };
    let meta = view.meta(&entry).await.map_err(|_| view.trouble().unwrap_or_else(Failure::not_found))?;
    view.hands_over(entry.digest);
    Ok(Box::new(Reading::open(view, &entry, meta).await?))
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

impl DavFileSystem for View {
    fn open<'a>(&'a self, path: &'a DavPath, options: OpenOptions) -> FsFuture<'a, Box<dyn DavFile>> {
        Box::pin(async move {
            let place = self.place(path)?;
            if !options.write {
                return open_for_reading(self, &place).await.map_err(|e| self.failed(e));
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
            if self.is_locking() && there.is_none() {
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
            let listed = self.entries(place).then(move |entry| {
                let view = view.clone();
                async move {
                    let entry = entry?;
                    let (name, meta) = (entry.path[skip..].to_owned(), view.meta(&entry).await?);
                    Ok(Box::new(Listed { name, meta }) as Box<dyn DavDirEntry>)
                }
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
            Ok(Box::new(self.meta(&entry).await?) as Box<dyn DavMetaData>)
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
            self.engine().catalog.forget_folder_entry(self.device().id, &place).await.map_err(|e| self.failed(e))?;
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
            let moved = self.engine().catalog.move_folder_entry(self.device().id, &from, &to, self.engine().now()).await;
            moved.map_err(|e| self.failed(e))
        })
    }

    fn copy<'a>(&'a self, from: &'a DavPath, to: &'a DavPath) -> FsFuture<'a, ()> {
        Box::pin(async move {
            let (from, to) = (self.place(from)?, self.place(to)?);
            self.has_folder(ypogeion_catalog::folder_view::parent_of(&to)).await?;
            match self.engine().catalog.copy_folder_file(self.device().id, &from, &to, self.engine().now()).await {
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
            let room = landing::room(self.engine(), self.device().person).await.map_err(|e| self.failed(e))?;
            let used = self.engine().catalog.used(self.device().person).await.map_err(|e| self.failed(e))?;
            Ok((used, Some(used + room.left())))
        })
    }
}
