//! Folders of the library, as they are on the disk.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A folder of one's own part of the library.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Folder {
    /// Where it is in the library: `Juno/2026/04`. The line `folder "…"` finds what is in it and below.
    pub path: String,
    /// Its folders, by their names.
    pub folders: Vec<Subfolder>,
    /// Files in itself, sidecars with them.
    pub files: u64,
    /// It has more than is told here: folders and files were looked through up to 20,000.
    pub more: bool,
}

/// A folder in a folder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Subfolder {
    /// As it is called on the disk.
    pub name: String,
    /// Where it is in the library.
    pub path: String,
}
