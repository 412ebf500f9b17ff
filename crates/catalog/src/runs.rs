//! Backup runs and their logs.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, RunId, state::RunState};

use crate::{Catalog, CatalogError, Count, Prepare, Result, signed, unsigned};

/// A run that has not been heard of for this long has broken off.
const SILENT: TimeDelta = TimeDelta::minutes(2);

/// What a run did, in numbers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Files looked at.
    pub checked: u64,
    /// Sent and landed.
    pub sent: u64,
    /// At home already.
    pub present: u64,
    /// Left out.
    pub skipped: u64,
    /// Failed.
    pub failed: u64,
    /// Bytes sent.
    pub bytes: u64,
}

/// How a run ended, as its device says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunEnd<'a> {
    /// It came to its end.
    Done,
    /// It was ended before, because of this.
    Halted(&'a str),
}

/// A run.
#[derive(Clone, Debug)]
pub struct RunView {
    /// Its id.
    pub id: RunId,
    /// Its device.
    pub device: DeviceId,
    /// The device's name.
    pub device_name: String,
    /// When it began.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// How it stands.
    pub state: RunState,
    /// Why it ended before it was done.
    pub halted: Option<String>,
    /// In numbers.
    pub counts: Counts,
}

/// What became of one file.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Name on the device.
    pub name: String,
    /// Album or folder.
    pub source: String,
    /// `sent`, `present`, `skipped` or `failed`.
    pub outcome: String,
    /// Why.
    pub reason: Option<String>,
    /// Bytes.
    pub size: u64,
}

#[derive(QueryableByName)]
struct RunRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    device: Uuid,
    #[diesel(sql_type = Text)]
    device_name: String,
    #[diesel(sql_type = Timestamptz)]
    began_at: DateTime<Utc>,
    #[diesel(sql_type = Timestamptz)]
    reported_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    ended_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = BigInt)]
    checked: i64,
    #[diesel(sql_type = BigInt)]
    sent: i64,
    #[diesel(sql_type = BigInt)]
    present: i64,
    #[diesel(sql_type = BigInt)]
    skipped: i64,
    #[diesel(sql_type = BigInt)]
    failed: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
    #[diesel(sql_type = Nullable<Text>)]
    halted: Option<String>,
}

#[derive(QueryableByName)]
struct EntryRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    source: String,
    #[diesel(sql_type = Text)]
    outcome: String,
    #[diesel(sql_type = Nullable<Text>)]
    reason: Option<String>,
    #[diesel(sql_type = BigInt)]
    size: i64,
}

impl Catalog {
    /// A run begins.
    pub async fn begin_run(&self, id: RunId, device: DeviceId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("INSERT INTO run (id, device, began_at, reported_at) VALUES ($1, $2, $3, $3)")
            .bind::<SqlUuid, _>(id.0)
            .bind::<SqlUuid, _>(device.0)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// A run reports. A report after its end changes nothing, so that one sent twice does no harm.
    pub async fn report_run(
        &self,
        id: RunId,
        device: DeviceId,
        counts: Counts,
        entries: &[Entry],
        end: Option<RunEnd<'_>>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let halted = match end {
            Some(RunEnd::Halted(reason)) => Some(reason),
            Some(RunEnd::Done) | None => None,
        };
        let mut c = self.connection().await?;
        whole!(c, {
            let open: Count = sql_query("SELECT count(*) AS n FROM run WHERE id = $1 AND device = $2")
                .bind::<SqlUuid, _>(id.0)
                .bind::<SqlUuid, _>(device.0)
                .prepared()
                .get_result(c)
                .await?;
            if open.n == 0 {
                return Err(CatalogError::NotFound);
            }
            let taken = sql_query(
                "UPDATE run SET reported_at = $2, ended_at = CASE WHEN $3 THEN $2 END, checked = $4, sent = $5, present = $6,
                     skipped = $7, failed = $8, bytes = $9, halted = $10 WHERE id = $1 AND ended_at IS NULL",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<Timestamptz, _>(now)
            .bind::<diesel::sql_types::Bool, _>(end.is_some())
            .bind::<BigInt, _>(signed(counts.checked))
            .bind::<BigInt, _>(signed(counts.sent))
            .bind::<BigInt, _>(signed(counts.present))
            .bind::<BigInt, _>(signed(counts.skipped))
            .bind::<BigInt, _>(signed(counts.failed))
            .bind::<BigInt, _>(signed(counts.bytes))
            .bind::<Nullable<Text>, _>(halted)
            .prepared()
            .execute(c)
            .await?;
            if taken == 0 {
                return Ok(());
            }
            sql_query(
                "INSERT INTO run_entry (run, name, source, outcome, reason, size)
                 SELECT $1, * FROM unnest($2, $3, $4, $5, $6)",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<Array<Text>, _>(entries.iter().map(|e| e.name.as_str()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(entries.iter().map(|e| e.source.as_str()).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(entries.iter().map(|e| e.outcome.as_str()).collect::<Vec<_>>())
            .bind::<Array<Nullable<Text>>, _>(entries.iter().map(|e| e.reason.as_deref()).collect::<Vec<_>>())
            .bind::<Array<BigInt>, _>(entries.iter().map(|e| signed(e.size)).collect::<Vec<_>>())
            .prepared()
            .execute(c)
            .await?;
            Ok(())
        })
        .await
    }

    /// The last runs of one member's devices or of all, newest first; with a span, those that began in it.
    pub async fn runs(
        &self,
        person: Option<PersonId>,
        device: Option<DeviceId>,
        span: Option<(DateTime<Utc>, DateTime<Utc>)>,
        limit: i64,
        now: DateTime<Utc>,
    ) -> Result<Vec<RunView>> {
        let mut c = self.connection().await?;
        let rows: Vec<RunRow> = sql_query(
            "SELECT r.id, r.device, d.name AS device_name, r.began_at, r.reported_at, r.ended_at, r.checked, r.sent, r.present, r.skipped,
                    r.failed, r.bytes, r.halted
             FROM run r JOIN device d ON d.id = r.device
             WHERE ($1 IS NULL OR d.person = $1) AND ($2 IS NULL OR d.id = $2)
               AND r.began_at >= coalesce($4, '-infinity') AND r.began_at < coalesce($5, 'infinity')
             ORDER BY r.began_at DESC, r.id DESC LIMIT $3",
        )
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<Nullable<SqlUuid>, _>(device.map(|d| d.0))
        .bind::<BigInt, _>(limit)
        .bind::<Nullable<Timestamptz>, _>(span.map(|s| s.0))
        .bind::<Nullable<Timestamptz>, _>(span.map(|s| s.1))
        .prepared()
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| RunView {
                id: RunId(r.id),
                device: DeviceId(r.device),
                device_name: r.device_name,
                began_at: r.began_at,
                ended_at: r.ended_at,
                state: RunState::of(r.ended_at.is_some(), r.halted.is_some(), unsigned(r.failed), now - r.reported_at > SILENT),
                halted: r.halted,
                counts: Counts {
                    checked: unsigned(r.checked),
                    sent: unsigned(r.sent),
                    present: unsigned(r.present),
                    skipped: unsigned(r.skipped),
                    failed: unsigned(r.failed),
                    bytes: unsigned(r.bytes),
                },
            })
            .collect())
    }

    /// A page of a run's log, and how many entries there are with this filter. `person` and `device` limit it to theirs.
    ///
    /// # Errors
    /// [`CatalogError::NotFound`] if there is no such run, or it is somebody else's.
    pub async fn run_entries(
        &self,
        id: RunId,
        person: Option<PersonId>,
        device: Option<DeviceId>,
        outcome: Option<&str>,
        offset: i64,
        limit: i64,
    ) -> Result<(Vec<Entry>, u64)> {
        const WHICH: &str = "FROM run_entry e JOIN run r ON r.id = e.run JOIN device d ON d.id = r.device
             WHERE e.run = $1 AND ($2 IS NULL OR d.person = $2) AND ($3 IS NULL OR e.outcome = $3) AND ($4 IS NULL OR d.id = $4)";
        let mut c = self.connection().await?;
        let theirs: Count = sql_query(
            "SELECT count(*) AS n FROM run r JOIN device d ON d.id = r.device
             WHERE r.id = $1 AND ($2 IS NULL OR d.person = $2) AND ($3 IS NULL OR d.id = $3)",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<Nullable<SqlUuid>, _>(device.map(|d| d.0))
        .prepared()
        .get_result(&mut c)
        .await?;
        if theirs.n == 0 {
            return Err(CatalogError::NotFound);
        }
        let total: Count = sql_query(format!("SELECT count(*) AS n {WHICH}"))
            .bind::<SqlUuid, _>(id.0)
            .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
            .bind::<Nullable<Text>, _>(outcome)
            .bind::<Nullable<SqlUuid>, _>(device.map(|d| d.0))
            .prepared()
            .get_result(&mut c)
            .await?;
        let rows: Vec<EntryRow> =
            sql_query(format!("SELECT e.name, e.source, e.outcome, e.reason, e.size {WHICH} ORDER BY e.id OFFSET $5 LIMIT $6"))
                .bind::<SqlUuid, _>(id.0)
                .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
                .bind::<Nullable<Text>, _>(outcome)
                .bind::<Nullable<SqlUuid>, _>(device.map(|d| d.0))
                .bind::<BigInt, _>(offset)
                .bind::<BigInt, _>(limit)
                .prepared()
                .load(&mut c)
                .await?;
        let entries = rows
            .into_iter()
            .map(|r| Entry { name: r.name, source: r.source, outcome: r.outcome, reason: r.reason, size: unsigned(r.size) })
            .collect();
        Ok((entries, unsigned(total.n)))
    }
}
