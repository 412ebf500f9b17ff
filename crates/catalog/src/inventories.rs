//! What devices have in their sources, and what they wait for.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use ypogeion_core::{DeviceId, PersonId};

use crate::{Catalog, CatalogError, Prepare, Result, signed, unsigned};

/// One source of a device, as it said.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceTold {
    /// What it is called.
    pub name: String,
    /// Files that are to be backed up.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Of these, not sent yet when they were counted, if it says so.
    pub fresh: Option<u64>,
    /// Left out by the owner's choice.
    pub left_out: u64,
    /// That choice in a few words.
    pub rule: String,
    /// The platform shows only a selection.
    pub selection_only: bool,
}

/// One source of a device against what is here.
#[derive(Clone, Debug)]
pub struct Coverage {
    /// As the device said.
    pub told: SourceTold,
    /// When.
    pub told_at: DateTime<Utc>,
    /// Of these, at home.
    pub home: u64,
    /// Of these, refused by the server.
    pub refused: u64,
    /// Removed by the device with a clearance; at home all the same.
    pub cleared: u64,
}

/// Something that a device has and the household has not.
#[derive(Clone, Debug)]
pub struct Difference {
    /// Source.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// Why the server does not want it, if that is why.
    pub refused: Option<String>,
    /// When the device last said that it has it.
    pub seen_at: DateTime<Utc>,
}

#[derive(QueryableByName)]
struct CoverageRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    files: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
    #[diesel(sql_type = BigInt)]
    left_out: i64,
    #[diesel(sql_type = Text)]
    rule: String,
    #[diesel(sql_type = Bool)]
    selection_only: bool,
    #[diesel(sql_type = Timestamptz)]
    told_at: DateTime<Utc>,
    #[diesel(sql_type = BigInt)]
    home: i64,
    #[diesel(sql_type = BigInt)]
    refused: i64,
    #[diesel(sql_type = BigInt)]
    cleared: i64,
}

#[derive(QueryableByName)]
struct DifferenceRow {
    #[diesel(sql_type = Text)]
    source: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Nullable<Text>)]
    refused: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    seen_at: DateTime<Utc>,
}

impl Catalog {
    /// Notes what a device says of its sources. Sources that it does not name any more are forgotten; what came from them is
    /// not.
    pub async fn note_sources(&self, device: DeviceId, sources: &[SourceTold], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query("DELETE FROM device_source WHERE device = $1 AND name <> ALL($2)")
                .bind::<SqlUuid, _>(device.0)
                .bind::<Array<Text>, _>(sources.iter().map(|s| s.name.as_str()).collect::<Vec<_>>())
                .prepared()
                .execute(c)
                .await?;
            for s in sources {
                sql_query(
                    "INSERT INTO device_source (device, name, files, bytes, left_out, rule, selection_only, told_at, fresh)
                     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
                     ON CONFLICT (device, name) DO UPDATE SET files = excluded.files, bytes = excluded.bytes,
                         left_out = excluded.left_out, rule = excluded.rule, selection_only = excluded.selection_only,
                         told_at = excluded.told_at, fresh = excluded.fresh, named = 0",
                )
                .bind::<SqlUuid, _>(device.0)
                .bind::<Text, _>(&s.name)
                .bind::<BigInt, _>(signed(s.files))
                .bind::<BigInt, _>(signed(s.bytes))
                .bind::<BigInt, _>(signed(s.left_out))
                .bind::<Text, _>(&s.rule)
                .bind::<Bool, _>(s.selection_only)
                .bind::<Timestamptz, _>(now)
                .bind::<Nullable<BigInt>, _>(s.fresh.map(signed))
                .prepared()
                .execute(c)
                .await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Notes what a device waits for; `None`: nothing.
    pub async fn note_waiting(&self, device: DeviceId, waiting_for: Option<&str>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        sql_query("UPDATE device SET waiting_for = $2 WHERE id = $1 AND waiting_for IS DISTINCT FROM $2")
            .bind::<SqlUuid, _>(device.0)
            .bind::<Nullable<Text>, _>(waiting_for)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// A device's sources, number against number. `person` limits it to that member's devices.
    pub async fn coverage(&self, device: DeviceId, person: Option<PersonId>) -> Result<Vec<Coverage>> {
        self.look_at_names().await?;
        let mut c = self.connection().await?;
        let rows: Vec<CoverageRow> = sql_query(
            "SELECT s.name, s.files, s.bytes, s.left_out, s.rule, s.selection_only, s.told_at,
                    (SELECT coalesce(sum(n), 0)::bigint FROM counts WHERE about = s.device AND fact = 'here ' || s.name) AS home,
                    (SELECT coalesce(sum(n), 0)::bigint FROM counts WHERE about = s.device AND fact = 'refused ' || s.name) AS refused,
                    (SELECT coalesce(sum(n), 0)::bigint FROM counts WHERE about = s.device AND fact = 'cleared ' || s.name) AS cleared
             FROM device_source s JOIN device d ON d.id = s.device
             WHERE s.device = $1 AND ($2 IS NULL OR d.person = $2) ORDER BY s.name",
        )
        .bind::<SqlUuid, _>(device.0)
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Coverage {
                told: SourceTold {
                    name: r.name,
                    files: unsigned(r.files),
                    bytes: unsigned(r.bytes),
                    fresh: None,
                    left_out: unsigned(r.left_out),
                    rule: r.rule,
                    selection_only: r.selection_only,
                },
                told_at: r.told_at,
                home: unsigned(r.home),
                refused: unsigned(r.refused),
                cleared: unsigned(r.cleared),
            })
            .collect())
    }

    /// What a device has by name and the household has not: the first of it. What had left the device by its last whole run is not among it,
    /// unless it came once.
    pub async fn difference(&self, device: DeviceId, person: Option<PersonId>, limit: i64) -> Result<Vec<Difference>> {
        self.look_at_names().await?;
        let mut c = self.connection().await?;
        let rows: Vec<DifferenceRow> = sql_query(
            "SELECT g.source, g.name, g.size, g.refused, g.seen_at FROM sighting g JOIN device d ON d.id = g.device
             WHERE g.device = $1 AND ($2 IS NULL OR d.person = $2) AND g.removed_at IS NULL AND NOT g.here AND (g.known OR NOT g.unnamed)
             ORDER BY g.source, g.name LIMIT $3",
        )
        .bind::<SqlUuid, _>(device.0)
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<BigInt, _>(limit)
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Difference {
                source: r.source,
                name: r.name,
                size: unsigned(r.size),
                refused: r.refused,
                seen_at: r.seen_at,
            })
            .collect())
    }
}
