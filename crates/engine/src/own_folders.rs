//! The folders of somebody's part of the library, as they are on the disk.

use ypogeion_core::PersonId;
use ypogeion_wire::folder::{Folder, Subfolder};

use crate::{
    engine::Engine,
    error::{Error, Result},
    library::last_of,
};

/// What is in a folder of somebody's part of the library; in that itself, if none is named.
pub async fn look(engine: &Engine, owner: PersonId, named: &str) -> Result<Folder> {
    let own = engine.catalog.person(owner).await?.folder;
    let path = named.split('/').filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/");
    let path = if path.is_empty() { own.clone() } else { path };
    if path.split('/').next().map(str::to_lowercase) != Some(own.to_lowercase()) {
        return Err(Error::NotFound);
    }
    let found = engine.catalog.in_folder(owner, &path).await?;
    // An empty part of the library is there, and nothing else is that has nothing.
    if found.files == 0 && found.folders.is_empty() && path.to_lowercase() != own.to_lowercase() {
        return Err(Error::NotFound);
    }
    let folders = found.folders.into_iter().map(|path| Subfolder { name: last_of(&path), path }).collect();
    Ok(Folder { path, folders, files: found.files, more: found.more })
}
