//! Folders outside the library in which originals were left, and since when one is out of reach.

use std::{
    ffi::OsString,
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::{Path, PathBuf},
};

use chrono::{DateTime, Utc};
use ypogeion_core::elsewhere::Folder;

use crate::{Catalog, CatalogError, Result, db::*};

#[derive(Queryable, Selectable)]
#[diesel(table_name = elsewhere)]
struct FolderRow {
    folder: Vec<u8>,
    unseen_since: Option<DateTime<Utc>>,
    given_up_at: Option<DateTime<Utc>>,
}

impl Catalog {
    /// The folders in which originals were left, by name.
    pub async fn elsewhere(&self) -> Result<Vec<Folder>> {
        let mut c = self.connection().await?;
        let rows: Vec<FolderRow> = elsewhere::table.order(elsewhere::folder).select(FolderRow::as_select()).load(&mut c).await?;
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
        let row = (elsewhere::folder.eq(folder.as_os_str().as_bytes()), elsewhere::unseen_since.eq(now));
        let noted = insert_into(elsewhere::table)
            .values(row)
            .on_conflict(elsewhere::folder)
            .do_update()
            .set(elsewhere::unseen_since.eq(now));
        Ok(only_if(noted, elsewhere::unseen_since.is_null()).execute(&mut c).await? > 0)
    }

    /// Notes that these folders are there. Returns those of which that is news. Whoever said that one does not come back was wrong.
    pub async fn note_seen(&self, folders: &[PathBuf]) -> Result<Vec<PathBuf>> {
        let mut c = self.connection().await?;
        let these: Vec<&[u8]> = folders.iter().map(|f| f.as_os_str().as_bytes()).collect();
        let not_seen = elsewhere::unseen_since.is_not_null().or(elsewhere::given_up_at.is_not_null());
        let back: Vec<Vec<u8>> = update(elsewhere::table.filter(elsewhere::folder.eq_any(these).and(not_seen)))
            .set((elsewhere::unseen_since.eq(None::<DateTime<Utc>>), elsewhere::given_up_at.eq(None::<DateTime<Utc>>)))
            .returning(elsewhere::folder)
            .load(&mut c)
            .await?;
        Ok(back.into_iter().map(|folder| PathBuf::from(OsString::from_vec(folder))).collect())
    }

    /// Notes that a folder that is out of reach does not come back, or may do so after all.
    ///
    /// # Errors
    /// [`CatalogError::NotFound`] if it is not out of reach.
    pub async fn give_up_folder(&self, folder: &Path, yes: bool, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let away = elsewhere::table.find(folder.as_os_str().as_bytes()).filter(elsewhere::unseen_since.is_not_null());
        let n = if yes {
            update(away).set(elsewhere::given_up_at.eq(coalesce(elsewhere::given_up_at, now).nullable())).execute(&mut c).await?
        } else {
            update(away).set(elsewhere::given_up_at.eq(None::<DateTime<Utc>>)).execute(&mut c).await?
        };
        if n == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }
}
