//! Clearances that were given, and what devices did with them. Nothing here decides; `core::clearance` does.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Jsonb, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest, OriginalId, PersonId, clearance::Evidence, filing::FiledPath};

use crate::{
    Catalog, CatalogError, Prepare, Result,
    columns::{HashColumn, PathColumn},
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

#[derive(QueryableByName)]
struct AskedRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Text)]
    path: PathColumn,
    #[diesel(sql_type = Bool)]
    held: bool,
}

impl Catalog {
    /// A member's originals among these bytes.
    pub async fn originals_of(&self, person: PersonId, digests: &[Digest]) -> Result<Vec<Asked>> {
        let mut c = self.connection().await?;
        let digests: Vec<&[u8]> = digests.iter().map(|d| d.as_bytes().as_slice()).collect();
        let rows: Vec<AskedRow> = sql_query(
            "SELECT id, digest, size, path, held_at IS NOT NULL AS held FROM original
             WHERE person = $1 AND digest = ANY($2) AND gone_at IS NULL",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<Array<Binary>, _>(digests)
        .prepared()
        .load(&mut c)
        .await?;
        rows.into_iter()
            .map(|r| Ok(Asked { id: OriginalId(r.id), digest: r.digest.0, size: unsigned(r.size), path: r.path.0, held: r.held }))
            .collect()
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
            sql_query("INSERT INTO clearance (id, device, nonce, given_at, holds_until) VALUES ($1, $2, $3, $4, $5)")
                .bind::<SqlUuid, _>(id)
                .bind::<SqlUuid, _>(device.0)
                .bind::<Text, _>(nonce)
                .bind::<Timestamptz, _>(now)
                .bind::<Timestamptz, _>(until)
                .prepared()
                .execute(c)
                .await?;
            sql_query(
                "INSERT INTO clearance_entry (clearance, original, digest, source, name, evidence)
                 SELECT $1, u.original, u.digest, u.source, u.name, u.evidence
                 FROM unnest($2, $3, $4, $5, $6) AS u (original, digest, source, name, evidence) ON CONFLICT DO NOTHING",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<Array<SqlUuid>, _>(cleared.iter().map(|e| e.original.0).collect::<Vec<_>>())
            .bind::<Array<Binary>, _>(cleared.iter().map(|e| e.digest.as_bytes().as_slice()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(cleared.iter().map(|e| e.source.as_str()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(cleared.iter().map(|e| e.name.as_str()).collect::<Vec<_>>())
            .bind::<Array<Jsonb>, _>(
                cleared.iter().map(|e| serde_json::to_value(&e.evidence).expect("evidence is times and ids")).collect::<Vec<_>>(),
            )
            .prepared()
            .execute(c)
            .await?;
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
            let used = sql_query("UPDATE clearance SET used_at = $3 WHERE id = $1 AND device = $2 AND used_at IS NULL")
                .bind::<SqlUuid, _>(id)
                .bind::<SqlUuid, _>(device.0)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(c)
                .await?;
            if used == 0 {
                return Err(CatalogError::NotFound);
            }
            let gone = sql_query(
                "UPDATE clearance_entry e SET removed_at = $5 FROM unnest($2, $3, $4) AS u (source, name, digest)
                 WHERE e.clearance = $1 AND e.source = u.source AND e.name = u.name AND e.digest = u.digest",
            )
            .bind::<SqlUuid, _>(id)
            .bind::<Array<Text>, _>(removed.iter().map(|r| r.0).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(removed.iter().map(|r| r.1).collect::<Vec<_>>())
            .bind::<Array<Binary>, _>(removed.iter().map(|r| r.2.as_bytes().as_slice()).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(now)
            .prepared()
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
            .prepared()
            .execute(c)
            .await?;
            Ok(gone as u64)
        })
        .await
    }
}
