//! The folders of somebody's part of the library, as they are on the disk.

use diesel::{
    QueryableByName, sql_query,
    sql_types::{Integer, Text, Uuid as SqlUuid},
};
use ypogeion_core::PersonId;

use crate::{Catalog, Result, db::*, find::below};

/// What is in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InFolder {
    /// The paths of its folders, in order.
    pub folders: Vec<String>,
    /// Files in itself.
    pub files: u64,
    /// There is more than was looked at.
    pub more: bool,
}

/// No folder is looked through for longer: folders and files that lie in it, one look into the index for each.
const MOST: i32 = 20_000;

#[derive(QueryableByName)]
struct PathRow {
    #[diesel(sql_type = Text)]
    path: String,
}

impl Catalog {
    /// What is in a folder of somebody's part of the library.
    pub async fn in_folder(&self, person: PersonId, folder: &str) -> Result<InFolder> {
        let [after, before] = below(folder);
        let mut c = self.connection().await?;
        // Text: a function that gives rows back is no table to Diesel.
        let rows: Vec<PathRow> = sql_query("SELECT path FROM in_folder($1, $2, $3, $4) AS f (path)")
            .bind::<SqlUuid, _>(person.0)
            .bind::<Text, _>(&after)
            .bind::<Text, _>(&before)
            .bind::<Integer, _>(MOST + 1)
            .load(&mut c)
            .await?;
        let more = rows.len() > MOST as usize;
        let (mut folders, mut files) = (Vec::new(), 0);
        // As long as its letters are, in small and in capital ones: by parts.
        let depth = folder.split('/').count();
        for row in rows {
            let parts: Vec<&str> = row.path.split('/').collect();
            match parts.len() > depth + 1 {
                true => folders.push(parts[..=depth].join("/")),
                false => files += 1,
            }
        }
        Ok(InFolder { folders, files, more })
    }
}
