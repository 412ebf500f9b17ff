//! Files that were made from originals and lie beside them: JPEGs for readers that know no HEIC.

use chrono::{DateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{BigInt, Binary, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use ypogeion_core::{Digest, OriginalId, filing::FiledPath};

use crate::{
    Catalog, Count, Prepare, Result,
    columns::{HashColumn, PathColumn},
    signed, unsigned,
    work::{Kind, WISH},
};

/// A file that was made from an original.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DerivedFile {
    /// Where it is.
    pub path: FiledPath,
    /// What its bytes are.
    pub digest: Digest,
    /// Their number.
    pub size: u64,
}

#[derive(QueryableByName)]
struct DerivedRow {
    #[diesel(sql_type = Text)]
    path: PathColumn,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = BigInt)]
    size: i64,
}

/// The kinds of files that a JPEG is made from.
const FROM: &str = "o.facts->>'media_type' IN ('image/heic', 'image/avif')";

impl Catalog {
    /// What was made from an original.
    pub async fn derived_from(&self, original: OriginalId) -> Result<Option<DerivedFile>> {
        let mut c = self.connection().await?;
        let row: Option<DerivedRow> = sql_query("SELECT path, digest, size FROM derived_file WHERE original = $1")
            .bind::<SqlUuid, _>(original.0)
            .prepared()
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|r| DerivedFile { path: r.path.0, digest: r.digest.0, size: unsigned(r.size) }))
    }

    /// Says what was made from an original, and where it is now.
    pub async fn set_derived(&self, original: OriginalId, file: &DerivedFile, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "INSERT INTO derived_file (original, path, folded, digest, size, made_at) VALUES ($1, $2, $3, $4, $5, $6)
             ON CONFLICT (original) DO UPDATE SET path = excluded.path, folded = excluded.folded, digest = excluded.digest,
                 size = excluded.size",
        )
        .bind::<SqlUuid, _>(original.0)
        .bind::<Text, _>(file.path.as_str())
        .bind::<Text, _>(file.path.folded())
        .bind::<Binary, _>(file.digest.as_bytes().as_slice())
        .bind::<BigInt, _>(signed(file.size))
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// What was made from an original is not there any more.
    pub async fn forget_derived(&self, original: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("DELETE FROM derived_file WHERE original = $1")
            .bind::<SqlUuid, _>(original.0)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Whether the household wants JPEGs beside its HEICs.
    pub async fn wants_derived(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count = sql_query("SELECT count(*) AS n FROM household WHERE derive_jpeg").prepared().get_result(&mut c).await?;
        Ok(row.n > 0)
    }

    /// Puts the work down for every original that has none yet. Says for how many.
    pub async fn derive_all(&self, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let n = sql_query(format!(
            "INSERT INTO job (kind, key, priority, due) SELECT 'derive', o.id, 22, $1 FROM living o
             WHERE {FROM} AND NOT EXISTS (SELECT 1 FROM derived_file d WHERE d.original = o.id) {WISH}"
        ))
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        drop(c);
        self.work_added(&[Kind::Derive]);
        Ok(n as u64)
    }

    /// Puts the work down for one original that was filed elsewhere, if something was made from it or is to be.
    pub async fn derive_one(&self, original: OriginalId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let n = sql_query(format!(
            "INSERT INTO job (kind, key, priority, due) SELECT 'derive', o.id, 22, $2 FROM living o, household h
             WHERE o.id = $1 AND {FROM}
               AND (h.derive_jpeg OR EXISTS (SELECT 1 FROM derived_file d WHERE d.original = o.id)) {WISH}"
        ))
        .bind::<SqlUuid, _>(original.0)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .execute(&mut c)
        .await?;
        drop(c);
        if n > 0 {
            self.work_added(&[Kind::Derive]);
        }
        Ok(())
    }
}
