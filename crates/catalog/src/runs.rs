//! Backup runs and their logs.

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, RunId, state::RunState};

use crate::{Catalog, CatalogError, Result, db::*, signed, unsigned};

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

#[derive(Queryable, Selectable)]
#[diesel(table_name = run)]
struct RunRow {
    id: Uuid,
    device: Uuid,
    #[diesel(select_expression = device::name)]
    device_name: String,
    began_at: DateTime<Utc>,
    reported_at: DateTime<Utc>,
    ended_at: Option<DateTime<Utc>>,
    checked: i64,
    sent: i64,
    present: i64,
    skipped: i64,
    failed: i64,
    bytes: i64,
    halted: Option<String>,
}

impl Catalog {
    /// A run begins.
    pub async fn begin_run(&self, id: RunId, device: DeviceId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let row = (run::id.eq(id.0), run::device.eq(device.0), run::began_at.eq(now), run::reported_at.eq(now));
        insert_into(run::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// Whether this run of this device ended here.
    pub async fn has_ended(&self, id: RunId, device: DeviceId) -> Result<bool> {
        let mut c = self.connection().await?;
        let run = run::table.find(id.0).filter(run::device.eq(device.0)).filter(run::ended_at.is_not_null());
        Ok(select(exists(run)).get_result(&mut c).await?)
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
            let own = run::table.find(id.0).filter(run::device.eq(device.0)).select(run::ended_at);
            // Nobody else ends it between this and the report.
            let ended: Option<DateTime<Utc>> = own.for_update().get_result(c).await?;
            if ended.is_some() {
                return Ok(());
            }
            update(run::table.find(id.0))
                .set((
                    run::reported_at.eq(now),
                    run::ended_at.eq(end.is_some().then_some(now)),
                    run::checked.eq(signed(counts.checked)),
                    run::sent.eq(signed(counts.sent)),
                    run::present.eq(signed(counts.present)),
                    run::skipped.eq(signed(counts.skipped)),
                    run::failed.eq(signed(counts.failed)),
                    run::bytes.eq(signed(counts.bytes)),
                    run::halted.eq(halted),
                ))
                .execute(c)
                .await?;
            let row = |e: &Entry| {
                (
                    run_entry::run.eq(id.0),
                    run_entry::name.eq(e.name.clone()),
                    run_entry::source.eq(e.source.clone()),
                    run_entry::outcome.eq(e.outcome.clone()),
                    run_entry::reason.eq(e.reason.clone()),
                    run_entry::size.eq(signed(e.size)),
                )
            };
            for some in entries.chunks(AT_ONCE) {
                let rows = insert_into(run_entry::table).values(some.iter().map(row).collect::<Vec<_>>());
                diesel_async::RunQueryDsl::execute(rows, c).await?;
            }
            Ok::<_, CatalogError>(())
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
        let mut which = run::table.inner_join(device::table).select(RunRow::as_select()).into_boxed();
        if let Some(person) = person {
            which = which.filter(device::person.eq(person.0));
        }
        if let Some(device) = device {
            which = which.filter(run::device.eq(device.0));
        }
        if let Some((from, until)) = span {
            which = which.filter(run::began_at.ge(from).and(run::began_at.lt(until)));
        }
        let rows: Vec<RunRow> = which.order((run::began_at.desc(), run::id.desc())).limit(limit).load(&mut c).await?;
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
        let mut c = self.connection().await?;
        let whose = run::table.inner_join(device::table).filter(run::id.eq(id.0)).select((device::id, device::person));
        let (of_device, of_person): (Uuid, Uuid) = whose.get_result(&mut c).await?;
        if person.is_some_and(|p| p.0 != of_person) || device.is_some_and(|d| d.0 != of_device) {
            return Err(CatalogError::NotFound);
        }
        let entries = || {
            let all = run_entry::table.filter(run_entry::run.eq(id.0)).into_boxed();
            match outcome {
                Some(outcome) => all.filter(run_entry::outcome.eq(outcome)),
                None => all,
            }
        };
        let all: i64 = entries().count().get_result(&mut c).await?;
        let rows: Vec<(String, String, String, Option<String>, i64)> = entries()
            .order(run_entry::id)
            .offset(offset)
            .limit(limit)
            .select((run_entry::name, run_entry::source, run_entry::outcome, run_entry::reason, run_entry::size))
            .load(&mut c)
            .await?;
        let entry = |(name, source, outcome, reason, size)| Entry { name, source, outcome, reason, size: unsigned(size) };
        Ok((rows.into_iter().map(entry).collect(), unsigned(all)))
    }
}
