//! Clearances that were given, and what devices did with them. Nothing here decides; `core::clearance` does.

use chrono::{DateTime, Utc};
use diesel::{
    sql_query,
    sql_types::{Array, Binary, Text, Timestamptz, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest, OriginalId, PersonId, clearance::Evidence, filing::FiledPath};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, PathColumn, hashes},
    db::*,
    unsigned,
};

/// An original that a device asks about.
#[derive(Clone, Debug)]
pub struct Asked {
    /// The original.
    pub id: OriginalId,
    /// What its bytes are.
    pub digest: Digest,
    /// How many.
    pub size: u64,
    /// Where it is in the library.
    pub path: FiledPath,
    /// Whether it waits in holding, because its member deleted it.
    pub held: bool,
}

/// One file that was cleared.
#[derive(Clone, Debug)]
pub struct Cleared {
    /// The original.
    pub original: OriginalId,
    /// What its bytes are.
    pub digest: Digest,
    /// Album or folder on the device.
    pub source: String,
    /// Name there.
    pub name: String,
    /// Why it may go.
    pub evidence: Evidence,
}

impl Catalog {
    /// A member's originals among these bytes.
    pub async fn originals_of(&self, person: PersonId, digests: &[Digest]) -> Result<Vec<Asked>> {
        let mut c = self.connection().await?;
        let rows: Vec<(Uuid, HashColumn, i64, PathColumn, bool)> = original::table
            .filter(original::person.eq(person.0).and(original::digest.eq_any(hashes(digests))).and(original::gone_at.is_null()))
            .select((original::id, original::digest, original::size, original::path, original::held_at.is_not_null()))
            .load(&mut c)
            .await?;
        let asked = |(id, digest, size, path, held): (Uuid, HashColumn, i64, PathColumn, bool)| Asked {
            id: OriginalId(id),
            digest: digest.0,
            size: unsigned(size),
            path: path.0,
            held,
        };
        Ok(rows.into_iter().map(asked).collect())
    }

    /// Writes a clearance down before it is given. A nonce that this device used before is [`CatalogError::Taken`].
    pub async fn give_clearance(
        &self,
        id: Uuid,
        device: DeviceId,
        nonce: &str,
        (now, until): (DateTime<Utc>, DateTime<Utc>),
        cleared: &[Cleared],
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let given = (
                clearance::id.eq(id),
                clearance::device.eq(device.0),
                clearance::nonce.eq(nonce),
                clearance::given_at.eq(now),
                clearance::holds_until.eq(until),
            );
            insert_into(clearance::table).values(given).execute(c).await?;
            let entry = |e: &Cleared| {
                (
                    clearance_entry::clearance.eq(id),
                    clearance_entry::original.eq(e.original.0),
                    clearance_entry::digest.eq(HashColumn(e.digest)),
                    clearance_entry::source.eq(e.source.clone()),
                    clearance_entry::name.eq(e.name.clone()),
                    clearance_entry::evidence.eq(serde_json::to_value(&e.evidence).expect("evidence is times and ids")),
                )
            };
            for some in cleared.chunks(AT_ONCE) {
                let entries: Vec<_> = some.iter().map(entry).collect();
                let rows = insert_into(clearance_entry::table).values(entries).on_conflict_do_nothing();
                diesel_async::RunQueryDsl::execute(rows, c).await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// A device says what it removed with a clearance: files as (source, name, digest). Counts those that the clearance named;
    /// others change nothing. A clearance is used once, by its own device: otherwise [`CatalogError::NotFound`].
    pub async fn use_clearance(
        &self,
        id: Uuid,
        device: DeviceId,
        removed: &[(&str, &str, Digest)],
        now: DateTime<Utc>,
    ) -> Result<u64> {
        let mut c = self.connection().await?;
        whole!(c, {
            let unused = clearance::table.find(id).filter(clearance::device.eq(device.0).and(clearance::used_at.is_null()));
            if update(unused).set(clearance::used_at.eq(now)).execute(c).await? == 0 {
                return Err(CatalogError::NotFound);
            }
            // Text: joined with rows that are handed in.
            let gone = sql_query(
                "UPDATE clearance_entry e SET removed_at = $5 FROM unnest($2, $3, $4) AS u (source, name, digest)
                 WHERE e.clearance = $1 AND e.source = u.source AND e.name = u.name AND e.digest = u.digest",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<Array<Text>, _>(removed.iter().map(|r| r.0).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(removed.iter().map(|r| r.1).collect::<Vec<_>>())
            .bind::<Array<Binary>, _>(removed.iter().map(|r| r.2.as_bytes().as_slice()).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(now)
            .execute(c)
            .await?;
            // What a device removed it does not have any more; it still counts as sent by it.
            sql_query(
                "UPDATE sighting g SET removed_at = $3 FROM clearance_entry e
                 WHERE e.clearance = $1 AND e.removed_at IS NOT NULL AND g.device = $2
                   AND g.source = e.source AND g.name = e.name AND g.digest = e.digest",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<SqlUuid, _>(device.0)
            .bind::<Timestamptz, _>(now)
            .execute(c)
            .await?;
            Ok(gone as u64)
        })
        .await
    }
}
