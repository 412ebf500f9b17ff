//! What devices say they have, and what became of it.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{DeviceId, Digest, OriginalId};

use crate::{Catalog, Result, columns::HashColumn, db::*, signed, unsigned};

/// One thing that a device says it has.
#[derive(Clone, Debug)]
pub struct Sighting {
    /// Album or folder.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// What its bytes are.
    pub digest: Digest,
    /// How many.
    pub size: u64,
    /// Its modification time.
    pub file_time: Option<DateTime<Utc>>,
    /// Why the server does not want it, if it does not.
    pub refused: Option<String>,
}

/// A sighting with what became of it.
#[derive(Clone, Debug)]
pub struct ItemView {
    /// Album or folder.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// What its bytes are.
    pub digest: Digest,
    /// How many.
    pub size: u64,
    /// The original, if it is at home.
    pub original: Option<OriginalId>,
    /// Where that is in the library.
    pub path: Option<String>,
    /// Whether the copy at home is good.
    pub home: bool,
    /// Whether a store has it.
    pub offsite: bool,
    /// When it was last read back from a store.
    pub proven_at: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct ItemRow {
    #[diesel(sql_type = Text)]
    source: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Binary)]
    digest: HashColumn,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    original: Option<Uuid>,
    #[diesel(sql_type = Nullable<Text>)]
    path: Option<String>,
    #[diesel(sql_type = Bool)]
    home: bool,
    #[diesel(sql_type = Bool)]
    offsite: bool,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    proven_at: Option<DateTime<Utc>>,
}

impl Catalog {
    /// Notes what a device says it has. A name that it said before now points to what it says today.
    pub async fn note_sightings(&self, device: DeviceId, sightings: &[Sighting], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        self.put_sightings(&mut c, device, &sightings.iter().collect::<Vec<_>>(), now).await
    }

    /// The same of one that is about to be sent. Not forced to the disk by itself: what says that the file has landed is, and comes after.
    pub async fn note_sighting(&self, device: DeviceId, sighting: &Sighting, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        self.put_sightings(&mut c, device, &[sighting], now).await
    }

    async fn put_sightings(
        &self,
        c: &mut AsyncPgConnection,
        device: DeviceId,
        sightings: &[&Sighting],
        now: DateTime<Utc>,
    ) -> Result<()> {
        // One name twice in a batch would make the statement touch a row twice; the last word counts.
        let mut last = std::collections::HashMap::with_capacity(sightings.len());
        for s in sightings {
            last.insert((&s.source, &s.name), *s);
        }
        let mut rows: Vec<&Sighting> = last.into_values().collect();
        // Two devices never share rows, but two batches of one device may: one order for all avoids waiting in a circle.
        rows.sort_by(|a, b| (&a.source, &a.name).cmp(&(&b.source, &b.name)));
        // Text: rows that are handed in, by the thousand, in a statement that is the same for however many.
        sql_query(
            "INSERT INTO sighting (device, source, name, digest, size, file_time, refused, seen_at)
             SELECT $1, u.source, u.name, u.digest, u.size, u.file_time, u.refused, $8
             FROM unnest($2, $3, $4, $5, $6, $7) AS u (source, name, digest, size, file_time, refused)
             ON CONFLICT (device, source, name) DO UPDATE SET digest = excluded.digest, size = excluded.size,
                 file_time = excluded.file_time, refused = excluded.refused, seen_at = excluded.seen_at, removed_at = NULL, unnamed = false",
        )
        .bind::<SqlUuid, _>(device.0)
        .bind::<Array<Text>, _>(rows.iter().map(|s| s.source.as_str()).collect::<Vec<_>>())
        .bind::<Array<Text>, _>(rows.iter().map(|s| s.name.as_str()).collect::<Vec<_>>())
        .bind::<Array<Binary>, _>(rows.iter().map(|s| s.digest.as_bytes().as_slice()).collect::<Vec<_>>())
        .bind::<Array<BigInt>, _>(rows.iter().map(|s| signed(s.size)).collect::<Vec<_>>())
        .bind::<Array<Nullable<Timestamptz>>, _>(rows.iter().map(|s| s.file_time).collect::<Vec<_>>())
        .bind::<Array<Nullable<Text>>, _>(rows.iter().map(|s| s.refused.as_deref()).collect::<Vec<_>>())
        .bind::<Timestamptz, _>(now)
        .execute(c)
        .await?;
        self.grew(sightings.len());
        self.counted.notify_one();
        Ok(())
    }

    /// Of what a device says it has, how much is in a store, and how much was read back from one since then. Counted when it is asked: by a
    /// person at a terminal, now and then.
    pub async fn device_depths(&self, device: DeviceId, proven_since: DateTime<Utc>) -> Result<(u64, u64)> {
        let mut c = self.connection().await?;
        let proven = counted::away.and(counted::proven_at.ge(proven_since).assume_not_null());
        let (offsite, proven): (i64, i64) = sighting::table
            .inner_join(device::table)
            .inner_join(
                original::table
                    .on(original::person.eq(device::person).and(original::digest.eq(sighting::digest)).and(is_living())),
            )
            .inner_join(counted::table.on(counted::original.eq(original::id)))
            .filter(sighting::device.eq(device.0).and(sighting::removed_at.is_null()))
            .select((count(counted::original).aggregate_filter(counted::away), count(counted::original).aggregate_filter(proven)))
            .get_result(&mut c)
            .await?;
        Ok((unsigned(offsite), unsigned(proven)))
    }

    /// What a device says it has and how deep each has sunk, in the order of source and name, after a given one.
    pub async fn items(&self, device: DeviceId, after: Option<(&str, &str)>, limit: i64) -> Result<Vec<ItemView>> {
        let mut c = self.connection().await?;
        // Before every name: a bound that is always there is one that an index begins at.
        let (after_source, after_name) = after.unwrap_or_default();
        // Text: whether any of a group of rows is so.
        let rows: Vec<ItemRow> = sql_query(
            "SELECT g.source, g.name, g.digest, g.size, o.id AS original, o.path,
                    coalesce(bool_or(s.good) FILTER (WHERE s.place = $4), false) AS home,
                    coalesce(bool_or(s.good) FILTER (WHERE a.id IS NOT NULL), false) AS offsite,
                    max(s.proven_at) FILTER (WHERE a.id IS NOT NULL AND s.good) AS proven_at
             FROM sighting g JOIN device d ON d.id = g.device
             LEFT JOIN living o ON o.person = d.person AND o.digest = g.digest
             LEFT JOIN standing s ON s.original = o.id
             LEFT JOIN store a ON a.id = s.place AND a.away
             WHERE g.device = $1 AND g.removed_at IS NULL AND (g.source, g.name) > ($2, $3)
             GROUP BY g.source, g.name, g.digest, g.size, o.id, o.path
             ORDER BY g.source, g.name LIMIT $5",
        )
        .bind::<SqlUuid, _>(device.0)
        .bind::<Text, _>(after_source)
        .bind::<Text, _>(after_name)
        .bind::<SqlUuid, _>(crate::evidence::HOME)
        .bind::<BigInt, _>(limit)
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| ItemView {
                source: r.source,
                name: r.name,
                digest: r.digest.0,
                size: unsigned(r.size),
                original: r.original.map(OriginalId),
                path: r.path,
                home: r.home,
                offsite: r.offsite,
                proven_at: r.proven_at,
            })
            .collect())
    }
}
