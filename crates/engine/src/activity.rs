//! What happened, as people read it: backups, and who did what. What says the same thing is told once for each day.

use chrono::{DateTime, Local, NaiveDate, NaiveTime, TimeZone, Utc};
use ypogeion_catalog::runs::RunView;
use ypogeion_core::{DeviceId, PersonId, fold::fold};
use ypogeion_wire::{
    run::{Run, RunCounts},
    work::RecordLine,
};

use crate::{
    engine::Engine,
    error::{Error, Result},
};

/// So many are looked at for what is told together: some days of a household whose devices send every quarter of an hour.
const LOOKED_AT: i64 = 2000;
/// Lines of the record that are told.
const LINES: usize = 200;

fn day(at: DateTime<Utc>) -> NaiveDate {
    at.with_timezone(&Local).date_naive()
}

fn view(run: RunView, alike: usize) -> Run {
    Run {
        id: run.id,
        device: run.device,
        device_name: run.device_name,
        day: day(run.began_at),
        began_at: run.began_at,
        ended_at: run.ended_at,
        state: run.state,
        halted: run.halted,
        counts: RunCounts {
            checked: run.counts.checked,
            sent: run.counts.sent,
            present: run.counts.present,
            skipped: run.counts.skipped,
            failed: run.counts.failed,
            bytes: run.counts.bytes,
        },
        nothing_new: run.state.found_nothing(run.counts.sent),
        alike: alike as u64,
    }
}

/// The last runs, newest first. `folded`: those of a device and day that found nothing new are one.
pub async fn runs(
    engine: &Engine,
    scope: Option<PersonId>,
    device: Option<DeviceId>,
    limit: usize,
    folded: bool,
) -> Result<Vec<Run>> {
    let most = if folded { LOOKED_AT } else { limit as i64 };
    let runs = engine.catalog.runs(scope, device, None, most, engine.now()).await?;
    let groups = fold(runs, |r| (folded && r.state.found_nothing(r.counts.sent)).then(|| (r.device, day(r.began_at))));
    let newest = groups.into_iter().take(limit).filter_map(|group| {
        let alike = group.len() - 1;
        group.into_iter().next().map(|run| view(run, alike))
    });
    Ok(newest.collect())
}

/// All runs of one device that began on a day, by the clock of this house; newest first.
pub async fn runs_of_day(engine: &Engine, scope: Option<PersonId>, device: DeviceId, day: NaiveDate) -> Result<Vec<Run>> {
    let midnight = |day: NaiveDate| {
        // Where clocks are put forward at midnight, the day begins an hour later.
        let first = day.and_time(NaiveTime::MIN);
        let begins = Local
            .from_local_datetime(&first)
            .earliest()
            .or_else(|| Local.from_local_datetime(&(first + chrono::TimeDelta::hours(1))).earliest());
        begins.map(|t| t.with_timezone(&Utc)).ok_or_else(|| Error::invalid("This day is not in the calendar."))
    };
    let next = day.succ_opt().ok_or_else(|| Error::invalid("This day is not in the calendar."))?;
    let span = (midnight(day)?, midnight(next)?);
    let runs = engine.catalog.runs(scope, Some(device), Some(span), LOOKED_AT, engine.now()).await?;
    Ok(runs.into_iter().map(|run| view(run, 0)).collect())
}

/// Who did what, and when: the last lines, newest first.
pub async fn record(engine: &Engine) -> Result<Vec<RecordLine>> {
    let lines = engine.catalog.read_record(LOOKED_AT).await?;
    let groups = fold(lines, |l| Some((l.who.clone(), l.what.clone(), day(l.at))));
    let told = groups.into_iter().take(LINES).filter_map(|group| {
        let times = group.len() as u64;
        group.into_iter().next().map(|l| RecordLine { at: l.at, who: l.who, what: l.what, times })
    });
    Ok(told.collect())
}
