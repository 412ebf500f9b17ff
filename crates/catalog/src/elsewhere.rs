//! Folders outside the library in which originals were left, and since when one is out of reach.

use std::{
    ffi::OsString,
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::{Path, PathBuf},
};

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, Binary, Bool, Nullable, Timestamptz},
};
use diesel_async::RunQueryDsl;
use ypogeion_core::elsewhere::Folder;

use crate::{Catalog, CatalogError, Prepare, Result};

#[derive(QueryableByName)]
struct FolderRow {
    #[diesel(sql_type = Binary)]
    folder: Vec<u8>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    unseen_since: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    given_up_at: Option<DateTime<Utc>>,
}

impl Catalog {
    /// The folders in which originals were left, by name.
    pub async fn elsewhere(&self) -> Result<Vec<Folder>> {
        let mut c = self.connection().await?;
        let rows: Vec<FolderRow> =
            sql_query("SELECT folder, unseen_since, given_up_at FROM elsewhere ORDER BY folder").prepared().load(&mut c).await?;
        Ok(rows
            .into_iter()
            .map(|r| Folder {
                path: PathBuf::from(OsString::from_vec(r.folder)),
                unseen_since: r.unseen_since,
                given_up_at: r.given_up_at,
            })
            .collect())
    }

    /// Notes that a folder is out of reach. Says whether that is news.
    pub async fn note_unseen(&self, folder: &Path, now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        let n = sql_query(
            "INSERT INTO elsewhere (folder, unseen_since) VALUES ($1, $2)
             ON CONFLICT (folder) DO UPDATE SET unseen_since = $2 WHERE elsewhere.unseen_since IS NULL",
        )
        .bind::<Binary, _>(folder.as_os_str().as_bytes())
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(n > 0)
    }

    /// Notes that these folders are there. Returns those of which that is news. Whoever said that one does not come back was wrong.
    pub async fn note_seen(&self, folders: &[PathBuf]) -> Result<Vec<PathBuf>> {
        let mut c = self.connection().await?;
        let rows: Vec<FolderRow> = sql_query(
            "UPDATE elsewhere SET unseen_since = NULL, given_up_at = NULL WHERE folder = ANY($1) AND (unseen_since, given_up_at) IS DISTINCT FROM (NULL, NULL)
             RETURNING folder, unseen_since, given_up_at",
        )
        .bind::<Array<Binary>, _>(folders.iter().map(|f| f.as_os_str().as_bytes()).collect::<Vec<_>>())
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows.into_iter().map(|r| PathBuf::from(OsString::from_vec(r.folder))).collect())
    }

    /// Notes that a folder that is out of reach does not come back, or may do so after all.
    ///
    /// # Errors
    /// [`CatalogError::NotFound`] if it is not out of reach.
    pub async fn give_up_folder(&self, folder: &Path, yes: bool, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let n = sql_query(
            "UPDATE elsewhere SET given_up_at = CASE WHEN $2 THEN coalesce(given_up_at, $3) END WHERE folder = $1 AND unseen_since IS NOT NULL",
        )
        .bind::<Binary, _>(folder.as_os_str().as_bytes())
        .bind::<Bool, _>(yes)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        if n == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }
}
