//! The tree of folders that a program sees which knows files and folders only (WebDAV). One tree for each device.
//!
//! An entry names an original; it is not one. Renaming, copying and replacing entries changes what the program sees, and no
//! original is touched by it. What the device says it has ([`crate::sightings::Sighting`]) follows the entries.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest, OriginalId, UploadId, name::source_name, shot};

use crate::{Catalog, CatalogError, Result, columns::HashColumn, db::*, unsigned, wishes::due_for, work::Kind};

/// A folder or a file in a device's tree.
#[derive(Clone, Debug)]
pub struct Entry {
    /// From the root, without a slash at either end.
    pub path: String,
    /// A folder.
    pub folder: bool,
    /// What the file is; nothing for an empty one.
    pub original: Option<OriginalId>,
    /// The original's hash.
    pub digest: Option<Digest>,
    /// Its bytes.
    pub size: u64,
    /// The upload that is to become it.
    pub upload: Option<UploadId>,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// When it last changed.
    pub changed_at: DateTime<Utc>,
    /// Properties as their program left them here.
    pub properties: serde_json::Value,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = folder_entry)]
struct EntryRow {
    path: String,
    folder: bool,
    original: Option<Uuid>,
    #[diesel(select_expression = original::digest.nullable())]
    digest: Option<HashColumn>,
    #[diesel(select_expression = original::size.nullable())]
    size: Option<i64>,
    upload: Option<Uuid>,
    made_at: DateTime<Utc>,
    changed_at: DateTime<Utc>,
    properties: serde_json::Value,
}

impl From<EntryRow> for Entry {
    fn from(r: EntryRow) -> Self {
        Entry {
            path: r.path,
            folder: r.folder,
            original: r.original.map(OriginalId),
            digest: r.digest.map(|d| d.0),
            size: r.size.map_or(0, unsigned),
            upload: r.upload.map(UploadId),
            made_at: r.made_at,
            changed_at: r.changed_at,
            properties: r.properties,
        }
    }
}

/// A file that is given its final name this soon after it came takes that name in the library, too: many programs send under a
/// working name. Later, a name in the library is nobody's to change by way of a device.
const WORKING_NAME: TimeDelta = TimeDelta::hours(1);

/// The folder that a path is in; the root is empty.
pub fn parent_of(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(parent, _)| parent)
}

/// What a device says of a file in its tree: the folder is the source, as it is for every other program.
pub fn source_and_name(path: &str) -> (String, String) {
    let (parent, name) = path.rsplit_once('/').unwrap_or(("", path));
    (source_name(parent), ypogeion_core::OriginalName::from_device(name).into())
}

impl Catalog {
    /// One entry.
    pub async fn folder_entry(&self, device: DeviceId, path: &str) -> Result<Option<Entry>> {
        let mut c = self.connection().await?;
        let this = folder_entry::table.left_join(original::table).filter(folder_entry::device.eq(device.0));
        let row: Option<EntryRow> =
            this.filter(folder_entry::path.eq(path)).select(EntryRow::as_select()).get_result(&mut c).await.optional()?;
        Ok(row.map(Entry::from))
    }

    /// The entries of a folder by path, after `after`.
    pub async fn folder_entries(&self, device: DeviceId, parent: &str, after: &str, limit: i64) -> Result<Vec<Entry>> {
        let mut c = self.connection().await?;
        let rows: Vec<EntryRow> = folder_entry::table
            .left_join(original::table)
            .filter(folder_entry::device.eq(device.0).and(folder_entry::parent.eq(parent)).and(folder_entry::path.gt(after)))
            .order(folder_entry::path)
            .limit(limit)
            .select(EntryRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(Entry::from).collect())
    }

    /// Makes a folder, or an empty file.
    ///
    /// # Errors
    /// [`CatalogError::Taken`] if something has that name.
    pub async fn add_folder_entry(&self, device: DeviceId, path: &str, folder: bool, now: DateTime<Utc>) -> Result<()> {
        let row = (
            folder_entry::device.eq(device.0),
            folder_entry::path.eq(path),
            folder_entry::parent.eq(parent_of(path)),
            folder_entry::folder.eq(folder),
            folder_entry::made_at.eq(now),
            folder_entry::changed_at.eq(now),
        );
        let mut c = self.connection().await?;
        let n = insert_into(folder_entry::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        if n == 0 { Err(CatalogError::Taken) } else { Ok(()) }
    }

    /// Says what a file in the tree is now: an original, an upload that is not complete, or nothing yet. What it was before
    /// stays in the library.
    ///
    /// # Errors
    /// [`CatalogError::Taken`] if a folder has that name.
    pub async fn set_folder_file(
        &self,
        device: DeviceId,
        path: &str,
        original: Option<OriginalId>,
        upload: Option<UploadId>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let row = (
            folder_entry::device.eq(device.0),
            folder_entry::path.eq(path),
            folder_entry::parent.eq(parent_of(path)),
            folder_entry::folder.eq(false),
            folder_entry::original.eq(original.map(|o| o.0)),
            folder_entry::upload.eq(upload.map(|u| u.0)),
            folder_entry::made_at.eq(now),
            folder_entry::changed_at.eq(now),
        );
        // The version before is shown until the new one is complete.
        let shown = case_when(excluded(folder_entry::upload).is_null(), excluded(folder_entry::original))
            .otherwise(folder_entry::original);
        let set =
            insert_into(folder_entry::table).values(row).on_conflict((folder_entry::device, folder_entry::path)).do_update().set(
                (
                    folder_entry::upload.eq(excluded(folder_entry::upload)),
                    folder_entry::changed_at.eq(excluded(folder_entry::changed_at)),
                    folder_entry::original.eq(shown),
                ),
            );
        let mut c = self.connection().await?;
        let n = only_if(set, not(folder_entry::folder)).execute(&mut c).await?;
        if n == 0 { Err(CatalogError::Taken) } else { Ok(()) }
    }

    /// Takes an entry out of the tree because another one takes its place. Folders go only when nothing is in them.
    pub async fn forget_folder_entry(&self, device: DeviceId, path: &str) -> Result<bool> {
        let inner = diesel::alias!(folder_entry as inner);
        let within = inner
            .filter(inner.field(folder_entry::device).eq(device.0).and(inner.field(folder_entry::parent).eq(path)))
            .select(inner.field(folder_entry::path));
        let mut c = self.connection().await?;
        let empty = folder_entry::table.find((device.0, path)).filter(not(exists(within)));
        Ok(delete(empty).execute(&mut c).await? > 0)
    }

    /// Gives a file's original a second entry.
    pub async fn copy_folder_file(&self, device: DeviceId, from: &str, to: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let source = folder_entry::table.find((device.0, from)).filter(not(folder_entry::folder));
        let (original, changed_at, properties): (Option<Uuid>, DateTime<Utc>, serde_json::Value) = source
            .select((folder_entry::original, folder_entry::changed_at, folder_entry::properties))
            .get_result(&mut c)
            .await?;
        let row = (
            folder_entry::device.eq(device.0),
            folder_entry::path.eq(to),
            folder_entry::parent.eq(parent_of(to)),
            folder_entry::folder.eq(false),
            folder_entry::original.eq(original),
            folder_entry::made_at.eq(now),
            folder_entry::changed_at.eq(changed_at),
            folder_entry::properties.eq(properties),
        );
        let set =
            insert_into(folder_entry::table).values(row).on_conflict((folder_entry::device, folder_entry::path)).do_update().set(
                (
                    folder_entry::original.eq(excluded(folder_entry::original)),
                    folder_entry::upload.eq(None::<Uuid>),
                    folder_entry::changed_at.eq(excluded(folder_entry::changed_at)),
                    folder_entry::properties.eq(excluded(folder_entry::properties)),
                ),
            );
        let n = only_if(set, not(folder_entry::folder)).execute(&mut c).await?;
        if n == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// Keeps a program's properties of an entry.
    pub async fn set_folder_properties(&self, device: DeviceId, path: &str, properties: &serde_json::Value) -> Result<()> {
        let mut c = self.connection().await?;
        let this = folder_entry::table.find((device.0, path));
        let n = update(this).set(folder_entry::properties.eq(properties)).execute(&mut c).await?;
        if n == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// Gives an entry, and everything in it, another place in the tree.
    ///
    /// What the device says it has is renamed with it. A file that came within the last hour takes its new name in the library,
    /// too, by way of background work.
    ///
    /// # Errors
    /// [`CatalogError::Taken`] if something has that name, [`CatalogError::NotFound`] if nothing had the old one.
    pub async fn move_folder_entry(&self, device: DeviceId, from: &str, to: &str, now: DateTime<Utc>) -> Result<()> {
        #[derive(QueryableByName)]
        struct Renamed {
            #[diesel(sql_type = SqlUuid)]
            id: Uuid,
        }
        #[derive(QueryableByName)]
        struct Moved {
            #[diesel(sql_type = Text)]
            path: String,
            #[diesel(sql_type = Nullable<SqlUuid>)]
            original: Option<Uuid>,
        }
        let mut c = self.connection().await?;
        whole!(c, {
            // Text, all of it: parts of paths, and rows that are handed in.
            let moved: Vec<Moved> = sql_query(
                "UPDATE folder_entry SET path = $3 || substr(path, char_length($2) + 1),
                     parent = CASE WHEN path = $2 THEN $4 ELSE $3 || substr(parent, char_length($2) + 1) END
                 WHERE device = $1 AND (path = $2 OR starts_with(path, $2 || '/')) RETURNING path, original",
            )
            .bind::<SqlUuid, _>(device.0)
            .bind::<Text, _>(from)
            .bind::<Text, _>(to)
            .bind::<Text, _>(parent_of(to))
            .load(c)
            .await?;
            if moved.is_empty() {
                return Err(CatalogError::NotFound);
            }
            let files: Vec<&Moved> = moved.iter().filter(|m| m.original.is_some()).collect();
            let new: Vec<(String, String)> = files.iter().map(|m| source_and_name(&m.path)).collect();
            let old: Vec<(String, String)> =
                files.iter().map(|m| source_and_name(&format!("{from}{}", &m.path[to.len()..]))).collect();
            let keys: Vec<String> = new
                .iter()
                .map(|(source, name)| {
                    let (folder, bare) = shot::place_on_device(source, name);
                    shot::key(Some(device), &folder, &bare)
                })
                .collect();
            let texts = |of: &[(String, String)], first: bool| -> Vec<String> {
                of.iter().map(|(s, n)| if first { s.clone() } else { n.clone() }).collect()
            };
            // A name that was said before and is not in the tree any more gives way.
            sql_query(
                "DELETE FROM sighting s USING unnest($2, $3) AS u (source, name)
                 WHERE s.device = $1 AND s.source = u.source AND s.name = u.name",
            )
            .bind::<SqlUuid, _>(device.0)
            .bind::<Array<Text>, _>(texts(&new, true))
            .bind::<Array<Text>, _>(texts(&new, false))
            .execute(c)
            .await?;
            sql_query(
                "UPDATE sighting s SET source = u.source, name = u.name FROM unnest($2, $3, $4, $5) AS u (was_in, was, source, name)
                 WHERE s.device = $1 AND s.source = u.was_in AND s.name = u.was",
            )
            .bind::<SqlUuid, _>(device.0)
            .bind::<Array<Text>, _>(texts(&old, true))
            .bind::<Array<Text>, _>(texts(&old, false))
            .bind::<Array<Text>, _>(texts(&new, true))
            .bind::<Array<Text>, _>(texts(&new, false))
            .execute(c)
            .await?;
            let renamed: Vec<Renamed> = sql_query(
                "UPDATE original o SET name = u.name, source = u.source, shot_key = u.shot_key
                 FROM unnest($2, $3, $4, $5, $6) AS u (id, was, source, name, shot_key)
                 WHERE o.id = u.id AND o.device = $1 AND o.name = u.was AND o.landed_at > $7 RETURNING o.id",
            )
            .bind::<SqlUuid, _>(device.0)
            .bind::<Array<SqlUuid>, _>(files.iter().filter_map(|m| m.original).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(texts(&old, false))
            .bind::<Array<Text>, _>(texts(&new, true))
            .bind::<Array<Text>, _>(texts(&new, false))
            .bind::<Array<Text>, _>(keys)
            .bind::<Timestamptz, _>(now - WORKING_NAME)
            .load(c)
            .await?;
            let renamed: Vec<Uuid> = renamed.iter().map(|r| r.id).collect();
            due_for(c, Kind::Group, &renamed, 18, now).await?;
            due_for(c, Kind::Refile, &renamed, 4, now).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Group, Kind::Refile]);
        Ok(())
    }
}
