//! What a device asks of itself: what is wanted of what it has, how deep that has sunk, and its runs.

use uuid::Uuid;
use ypogeion_catalog::{
    devices::DeviceCaller,
    inventories::SourceTold,
    runs::{Counts, Entry, RunEnd},
    sightings::{ItemView, Sighting},
};
use ypogeion_core::{
    OriginalName, RunId,
    name::source_name,
    offer::{Answer, answer_all},
    state::Layer,
};
use ypogeion_wire::{
    device::{DeviceStatus, Item, LARGEST_OFFER, OfferAnswer, OfferEntry},
    inventory::Inventory,
    run::{BeginRun, BegunRun, RunReport},
};

use crate::{
    engine::Engine,
    error::{Error, Result},
    landing,
    live::Change,
    overview,
};

const MOST_SOURCES: usize = 1000;

fn not_too_many(entries: usize, what: &str) -> Result<()> {
    if entries > LARGEST_OFFER {
        return Err(Error::TooLarge(format!("{what} has at most {LARGEST_OFFER} entries; send several.")));
    }
    Ok(())
}

/// What the server knows of a device.
pub async fn status(engine: &Engine, device: &DeviceCaller) -> Result<DeviceStatus> {
    let view = engine.catalog.devices(None, Some(device.id), engine.now()).await?.pop().ok_or(Error::NotFound)?;
    let (offsite, proven) = engine.catalog.device_depths(device.id, engine.proven_since()).await?;
    let (state, sentence) = overview::house_state(engine).await?;
    Ok(DeviceStatus {
        device: view.id,
        name: view.name,
        person_name: view.person_name,
        household: engine.household.name.clone(),
        offered: view.offered,
        home: view.home,
        offsite,
        proven,
        waiting: view.waiting,
        house: state,
        sentence: sentence.into(),
    })
}

/// Notes what a device has, and says what is wanted of it.
pub async fn answer(engine: &Engine, device: &DeviceCaller, entries: Vec<OfferEntry>) -> Result<Vec<OfferAnswer>> {
    not_too_many(entries.len(), "An offer")?;
    let digests: Vec<_> = entries.iter().map(|e| e.digest).collect();
    let known = engine.catalog.known(device.person, &digests).await?;
    let sizes: Vec<u64> = entries.iter().map(|e| e.size).collect();
    let answers = answer_all(&sizes, &known, landing::room(engine, device.person).await?);
    let sightings: Vec<Sighting> = entries
        .into_iter()
        .zip(&answers)
        .map(|(e, answer)| Sighting {
            source: source_name(&e.source),
            name: OriginalName::from_device(&e.name).into(),
            digest: e.digest,
            size: e.size,
            file_time: e.file_time,
            refused: match answer {
                Answer::No { reason } | Answer::Leave { reason } => Some(reason.clone()),
                _ => None,
            },
        })
        .collect();
    engine.catalog.note_sightings(device.id, &sightings, engine.now()).await?;
    engine.live.changed(&[Change::Device(device.person, device.id)]);
    let told = |answer| match answer {
        Answer::Want => OfferAnswer::Want,
        Answer::Have => OfferAnswer::Have,
        Answer::Leave { reason } => OfferAnswer::Leave { reason },
        Answer::No { reason } => OfferAnswer::No { reason },
    };
    Ok(answers.into_iter().map(told).collect())
}

fn depth(engine: &Engine, item: &ItemView) -> Layer {
    match item.proven_at {
        Some(at) if item.offsite && at >= engine.proven_since() => Layer::Proven,
        _ if item.offsite => Layer::Offsite,
        _ if item.home => Layer::Home,
        _ => Layer::Device,
    }
}

/// What a device has sent or said it has, and how deep each has sunk: a page, and the source and name of the last if there may be more.
pub async fn items(
    engine: &Engine,
    device: &DeviceCaller,
    after: Option<&(String, String)>,
    limit: i64,
) -> Result<(Vec<Item>, Option<(String, String)>)> {
    let page = engine.catalog.items(device.id, after.map(|(s, n)| (s.as_str(), n.as_str())), limit).await?;
    let last = page.last().filter(|_| page.len() as i64 == limit).map(|last| (last.source.clone(), last.name.clone()));
    let items = page
        .into_iter()
        .map(|i| Item {
            layer: depth(engine, &i),
            original: i.original,
            name: i.name,
            source: i.source,
            digest: i.digest,
            size: i.size,
            path: i.path,
        })
        .collect();
    Ok((items, last))
}

/// Words from a device, as they are kept.
fn plain(words: &str) -> String {
    words.chars().filter(|c| !c.is_control()).take(500).collect()
}

/// Notes what a device has in its sources, before anything is hashed, and what it waits for.
pub async fn note_inventory(engine: &Engine, device: &DeviceCaller, told: &Inventory) -> Result<()> {
    if let Some(sources) = &told.sources {
        if sources.len() > MOST_SOURCES {
            return Err(Error::TooLarge(format!("A device has at most {MOST_SOURCES} sources.")));
        }
        let told: Vec<SourceTold> = sources
            .iter()
            .map(|s| SourceTold {
                name: source_name(&s.name),
                files: s.files,
                bytes: s.bytes,
                fresh: s.fresh,
                left_out: s.left_out,
                rule: plain(&s.rule),
                selection_only: s.selection_only,
            })
            .collect();
        engine.catalog.note_sources(device.id, &told, engine.now()).await?;
    }
    engine.catalog.note_waiting(device.id, told.waiting_for.as_deref().map(plain).as_deref()).await?;
    engine.live.changed(&[Change::Device(device.person, device.id)]);
    Ok(())
}

/// Begins a run. Says as well how much of what this device said it has is not here (any more), and whether the device remembers a run that
/// did not end here: this database is older than its memory, or the run was cut off.
pub async fn begin_run(engine: &Engine, device: &DeviceCaller, told: BeginRun) -> Result<BegunRun> {
    let (run, now) = (RunId(Uuid::now_v7()), engine.now());
    let forgotten = match told.last {
        Some(last) => !engine.catalog.has_ended(last, device.id).await?,
        None => false,
    };
    if forgotten {
        tracing::info!(device = %device.id, "the backup that the device remembers did not end here: it offers everything again");
    }
    engine.catalog.begin_run(run, device.id, now).await?;
    engine.live.changed(&[Change::Device(device.person, device.id), Change::Run(device.person)]);
    let waiting = engine.catalog.devices(None, Some(device.id), now).await?.pop().map_or(0, |d| d.waiting);
    Ok(BegunRun { run, waiting, forgotten })
}

/// Notes what a run has done so far, or at its end.
pub async fn note_run(engine: &Engine, device: &DeviceCaller, run: RunId, report: &RunReport) -> Result<()> {
    not_too_many(report.entries.len(), "A report")?;
    let counts = Counts {
        checked: report.counts.checked,
        sent: report.counts.sent,
        present: report.counts.present,
        skipped: report.counts.skipped,
        failed: report.counts.failed,
        bytes: report.counts.bytes,
    };
    let entries: Vec<Entry> = report
        .entries
        .iter()
        .filter(|e| matches!(e.outcome.as_str(), "sent" | "present" | "skipped" | "failed"))
        .map(|e| Entry {
            name: OriginalName::from_device(&e.name).into(),
            source: source_name(&e.source),
            outcome: e.outcome.clone(),
            reason: e.reason.as_deref().map(plain),
            size: e.size,
        })
        .collect();
    let reason = report.halted.as_deref().map(plain);
    let end = match (&reason, report.ended) {
        (_, false) => None,
        (None, true) => Some(RunEnd::Done),
        (Some(reason), true) => Some(RunEnd::Halted(reason)),
    };
    engine.catalog.report_run(run, device.id, counts, &entries, end, engine.now()).await?;
    engine.live.changed(&[Change::Device(device.person, device.id), Change::Run(device.person)]);
    Ok(())
}
