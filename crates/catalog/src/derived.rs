//! Files that were made from originals and lie beside them: JPEGs for readers that know no HEIC.

use chrono::{DateTime, Utc};
use ypogeion_core::{Digest, OriginalId, filing::FiledPath};

use crate::{
    Catalog, Result,
    columns::{HashColumn, PathColumn},
    db::*,
    signed, unsigned,
    wishes::{no_store, wish, work_for},
    work::Kind,
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

/// The kinds of files that a JPEG is made from.
pub(crate) const FROM: [&str; 2] = ["image/heic", "image/avif"];

impl Catalog {
    /// What was made from an original.
    pub async fn derived_from(&self, original: OriginalId) -> Result<Option<DerivedFile>> {
        let mut c = self.connection().await?;
        let row: Option<(PathColumn, HashColumn, i64)> = derived_file::table
            .find(original.0)
            .select((derived_file::path, derived_file::digest, derived_file::size))
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|(path, digest, size)| DerivedFile { path: path.0, digest: digest.0, size: unsigned(size) }))
    }

    /// Says what was made from an original, and where it is now.
    pub async fn set_derived(&self, original: OriginalId, file: &DerivedFile, now: DateTime<Utc>) -> Result<()> {
        let row = (
            derived_file::original.eq(original.0),
            derived_file::path.eq(file.path.as_str()),
            derived_file::folded.eq(file.path.folded()),
            derived_file::digest.eq(HashColumn(file.digest)),
            derived_file::size.eq(signed(file.size)),
            derived_file::made_at.eq(now),
        );
        let mut c = self.connection().await?;
        insert_into(derived_file::table)
            .values(row)
            .on_conflict(derived_file::original)
            .do_update()
            .set((
                derived_file::path.eq(excluded(derived_file::path)),
                derived_file::folded.eq(excluded(derived_file::folded)),
                derived_file::digest.eq(excluded(derived_file::digest)),
                derived_file::size.eq(excluded(derived_file::size)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// What was made from an original is not there any more.
    pub async fn forget_derived(&self, original: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        delete(derived_file::table.find(original.0)).execute(&mut c).await?;
        Ok(())
    }

    /// Whether the household wants JPEGs beside its HEICs.
    pub async fn wants_derived(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let wants: Option<bool> = household::table.select(household::derive_jpeg).get_result(&mut c).await.optional()?;
        Ok(wants == Some(true))
    }

    /// Puts the work down for every original that has none yet. Says for how many.
    pub async fn derive_all(&self, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let made = derived_file::table.filter(derived_file::original.eq(original::id)).select(derived_file::original);
        let lacking = original::table
            .filter(is_living())
            .filter(original::facts.retrieve_as_text("media_type").eq_any(FROM))
            .filter(not(exists(made)))
            .select(work_for!(Kind::Derive, original::id, no_store(), 22, now));
        let n = wish!(from lacking).execute(&mut c).await?;
        drop(c);
        self.work_added(&[Kind::Derive]);
        Ok(n as u64)
    }

    /// Puts the work down for one original that was filed elsewhere, if something was made from it or is to be.
    pub async fn derive_one(&self, original: OriginalId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let made = derived_file::table.filter(derived_file::original.eq(original::id)).select(derived_file::original);
        let wanting = household::table.filter(household::derive_jpeg).select(household::one);
        let this = original::table
            .filter(original::id.eq(original.0).and(is_living()))
            .filter(original::facts.retrieve_as_text("media_type").eq_any(FROM))
            .filter(exists(wanting).or(exists(made)))
            .select(work_for!(Kind::Derive, original::id, no_store(), 22, now));
        let n = wish!(from this).execute(&mut c).await?;
        drop(c);
        if n > 0 {
            self.work_added(&[Kind::Derive]);
        }
        Ok(())
    }
}
