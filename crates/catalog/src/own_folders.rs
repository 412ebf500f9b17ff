//! The folders of somebody's part of the library, as they are on the disk.

use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Text, Uuid as SqlUuid},
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
const MOST: i64 = 20_000;

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
        // Text: from one file to the next, and from one folder behind all that is in it, by the index of paths: what lies deeper is not looked at.
        let rows: Vec<PathRow> = sql_query(
            "WITH RECURSIVE step (folded, path) AS (
                 (SELECT folded, path FROM original WHERE folded > $2 AND folded < $3 AND person = $1 AND held_at IS NULL AND gone_at IS NULL ORDER BY folded LIMIT 1)
                 UNION ALL
                 SELECT n.folded, n.path FROM step s CROSS JOIN LATERAL (
                     SELECT o.folded, o.path FROM original o
                     WHERE o.folded >= CASE WHEN strpos(substr(s.folded, length($2) + 1), '/') > 0 THEN $2 || split_part(substr(s.folded, length($2) + 1), '/', 1) || '0' ELSE s.folded || chr(1) END
                       AND o.folded < $3 AND o.person = $1 AND o.held_at IS NULL AND o.gone_at IS NULL ORDER BY o.folded LIMIT 1
                 ) n
             ) SELECT path FROM step LIMIT $4",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<Text, _>(&after)
        .bind::<Text, _>(&before)
        .bind::<BigInt, _>(MOST + 1)
        .load(&mut c)
        .await?;
        let more = rows.len() as i64 > MOST;
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
