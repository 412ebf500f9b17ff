//! Sending, listing, reading back.

use std::sync::Arc;

use chrono::{Local, TimeDelta};
use ypogeion_catalog::{CatalogError, originals::OriginalRow, stores::StoreRow, work::Job};
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    capture::CaptureRule,
    kind::MediaKind,
    layers::{Act, Outcome, Place},
    ledger::{
        self, HouseholdRecord, LedgerEnd, OriginalRecord, PersonRecord, RecipientRecord, Record, RemovedRecord, RulesRecord,
        SegmentRef, StoreRecord,
    },
    name::OriginalName,
    object::readable_name,
    retry,
    window::Pace,
};
use ypogeion_library::LibraryError;
use ypogeion_offsite::{
    Fault, Replica,
    layout::ReplicaError,
    replicate::{SendError, send},
    spool,
};
use ypogeion_wire::work::LiveEvent;

use super::{Ended, audit};
use crate::{
    app::App,
    failure::{Answer, chain},
    security,
};

/// A disk that is away is looked for this often.
const LOOK_FOR_DISK: TimeDelta = TimeDelta::minutes(2);

/// What needs the key of the recovery kit is tried again after this, and when one is lent.
const AWAIT_KEY: TimeDelta = TimeDelta::hours(1);

/// Originals named in one segment of the ledger.
const SEGMENT: i64 = 5000;
/// Lines of the record that a segment repeats from the one before: one that was being written just then may have a lower number.
const SAID_TWICE: u64 = 20;
/// Lines of the record go along with the next segment; after this long they are reason enough for one.
const RECORDED_WITHIN: TimeDelta = TimeDelta::days(1);

/// The store of a piece of work, opened. `Err`: how the work ends if it cannot be.
pub(super) async fn open(app: &Arc<App>, job: &Job) -> Answer<Result<(StoreRow, Replica), Ended>> {
    let Some(id) = job.store else { return Ok(Err(Ended::Done)) };
    let row = match app.catalog.store(id).await {
        Err(CatalogError::NotFound) => return Ok(Err(Ended::Done)),
        other => other?,
    };
    // A clock on the wall of this house: that is what its keeper had in mind.
    let local = Local::now();
    if row.week.at(local.naive_local()) == Pace::Rest {
        let until = row.week.change_after(local.naive_local()).map_or(TimeDelta::hours(1), |c| c - local.naive_local());
        app.catalog.store_rests(&row, app.now() + until).await?;
        return Ok(Err(Ended::Waits));
    }
    match app.replica(&row).await {
        Ok(replica) => Ok(Ok((row, replica))),
        Err(ReplicaError::Store(fault)) => Ok(Err(note_fault(app, &row, job, fault).await?)),
        Err(e) => {
            stop(app, &row, &e.to_string()).await?;
            Ok(Err(Ended::Waits))
        }
    }
}

/// The same with the original that the work is about.
async fn open_with_original(app: &Arc<App>, job: &Job) -> Answer<Result<(OriginalRow, StoreRow, Replica), Ended>> {
    let row = match app.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Err(Ended::Done)),
        other => other?,
    };
    Ok(open(app, job).await?.map(|(store, replica)| (row, store, replica)))
}

async fn stop(app: &Arc<App>, store: &StoreRow, reason: &str) -> Answer<()> {
    tracing::warn!(store = store.address.name, reason, "a store takes no more copies");
    app.forget_replica(store.id);
    app.catalog.store_stopped(store.id, reason).await?;
    app.catalog.write_record(app.now(), "Ypogeion", &format!("stopped sending to {}: {reason}", store.address.name)).await?;
    app.live.changed(&[LiveEvent::Offsite]);
    Ok(())
}

/// A fault of the store: one that may pass makes the whole store wait, one that does not stops it.
pub(super) async fn note_fault(app: &Arc<App>, store: &StoreRow, job: &Job, fault: Fault) -> Answer<Ended> {
    match fault {
        Fault::Refused(reason) => {
            stop(app, store, &reason).await?;
            Ok(Ended::Waits)
        }
        Fault::Home(e) => {
            let due = app.now() + retry::wait(job.attempts, security::chance());
            Ok(Ended::Again(due, format!("the home disk could not be read or written: {e}")))
        }
        Fault::Locked => Ok(Ended::NotYet(app.now() + AWAIT_KEY, chain(&fault))),
        Fault::Away(_) => {
            // Nobody's fault, and nothing that more patience would mend: looked for now and then.
            let now = app.now();
            app.forget_replica(store.id);
            app.catalog.store_failing(store.id, &fault.to_string(), now, now + LOOK_FOR_DISK).await?;
            app.live.changed(&[LiveEvent::Offsite]);
            Ok(Ended::Waits)
        }
        Fault::Missing(_) | Fault::Passing(_) | Fault::Disorder(_) => {
            let reason = fault.to_string();
            tracing::info!(store = store.address.name, reason, "a store failed and will be tried again");
            let now = app.now();
            app.lane_failed(store.id);
            // As long as the store asks for, if it does; and never all at once when it is over.
            let asked = app.asked_to_wait(store.id).unwrap_or_default();
            let wait = retry::wait(store.faults + 1, security::chance()).max(asked);
            app.catalog.store_failing(store.id, &reason, now, now + wait).await?;
            app.live.changed(&[LiveEvent::Offsite]);
            // This piece goes behind the others, so that one that fails always does not keep all from going.
            Ok(Ended::Waits)
        }
    }
}

/// Sends one original to one store.
pub(super) async fn replicate(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let (row, store, replica) = match open_with_original(app, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let (object, epoch) = match app.catalog.object_of_epoch(store.id, row.digest).await? {
        // Another member has the same bytes, or a kill came between the confirmation and the end of the work.
        Some(object) => object,
        None if app.catalog.is_leaving(store.id, row.digest).await? => {
            // The same bytes are just being removed there: they are sent after that, under the same name.
            return Ok(Ended::Later(app.now() + TimeDelta::seconds(5)));
        }
        None => {
            let epoch = replica.keys.epoch();
            let name = if replica.keys.is_plain() {
                readable_name(&row.path, row.taken_local, &row.digest)
            } else {
                app.household.name_key.object_name(&row.digest, epoch)
            };
            let (library, path) = (Arc::clone(&app.library), row.path.clone());
            let home = match tokio::task::spawn_blocking(move || library.open_original(&path)).await? {
                Err(LibraryError::Missing { .. }) => return damaged(app, row.id, row.digest, None).await,
                other => other?,
            };
            match send(&replica, home, row.digest, &name, &app.spool_of(store.id)).await {
                Ok(object) => (object, epoch),
                Err(SendError::Store(fault)) => return note_fault(app, &store, job, fault).await,
                Err(SendError::Rotten { found }) => return damaged(app, row.id, row.digest, Some(found)).await,
                Err(e) => {
                    let due = app.now() + retry::wait(job.attempts, security::chance());
                    return Ok(Ended::Again(due, chain(&e)));
                }
            }
        }
    };
    let (now, offsite) = (app.now(), app.settings.offsite);
    app.catalog
        .confirm(store.id, row.digest, &object, (now, epoch), (now + offsite.ledger_after, now + offsite.prove_after))
        .await?;
    // Only now: a kill before this line finds it sent, and one before the line above finds all its parts sent.
    if let Err(e) = spool::forget(&app.spool_of(store.id), &object.name) {
        tracing::warn!(error = %e, "a sealed body could not be taken out of the spool; it is tidied away later");
    }
    app.catalog.store_well(store.id, app.now()).await?;
    app.sent(store.id, row.size);
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Library]);
    Ok(Ended::Done)
}

/// The copy at home is not what was received. It is noted, and it does not go out as good.
async fn damaged(
    app: &Arc<App>,
    id: OriginalId,
    expected: ypogeion_core::Digest,
    found: Option<ypogeion_core::Digest>,
) -> Answer<Ended> {
    // Not so if the disk went away: `note` asks.
    let outcome = if found.is_some() { Outcome::Wrong } else { Outcome::Missing };
    audit::note(app, (id, expected), Place::Home, Act::Reread, (outcome, found)).await?;
    Ok(Ended::GivenUp(match found {
        Some(_) => {
            "the copy at home is damaged and was not sent; a good copy may be in another store or on its device".to_owned()
        }
        None => "the file at home is missing; a copy may be in another store or on its device".to_owned(),
    }))
}

/// Writes everything that was confirmed since the last segment into the ledger.
pub(super) async fn write_ledger(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let (mut store, replica) = match open(app, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    loop {
        let rows = app.catalog.unlisted(store.id, SEGMENT).await?;
        let entries = app.catalog.record_after(store.recorded.saturating_sub(SAID_TWICE), SEGMENT).await?;
        let mut records = preamble(app).await?;
        let said = said_by(&records);
        // What the keeper decided is reason enough, without any picture; that somebody signed in is not, for a day.
        let unsaid = entries.iter().find(|e| e.number > store.recorded);
        let waits = unsaid.is_some_and(|e| app.now() - e.at > RECORDED_WITHIN);
        if rows.is_empty() && !waits && app.catalog.has_said(store.id, said).await? {
            if !store.checkpoint_due {
                return Ok(Ended::Done);
            }
            // A checkpoint that was refused, or that somebody asked for while the last segment was written. Without one, there is one first.
            if let Some(end) = store.ledger_end.take() {
                return match write_checkpoint(app, &store, &replica, Some(end.segment)).await? {
                    Ok(()) => Ok(Ended::Done),
                    Err(fault) => note_fault(app, &store, job, fault).await,
                };
            }
        }
        let full = rows.len() as i64 == SEGMENT || entries.len() as i64 == SEGMENT;
        let recorded = entries.last().map_or(store.recorded, |e| e.number);
        records.extend(entries.into_iter().map(Record::Entry));
        for row in &rows {
            records.extend(record_of(app, store.id, row).await?);
        }
        let number = store.ledger_segment + 1;
        let salt = u32::from_le_bytes(security::random());
        let before = store.ledger_end.take().map(|end| end.segment);
        let written = match replica.write_segment((number, salt), before, &records, app.now()).await {
            Ok(written) => written,
            Err(fault) => return note_fault(app, &store, job, fault).await,
        };
        app.catalog.segment_written(store.id, number, &rows, (Some(said), Some(&written)), recorded).await?;
        store.recorded = recorded;
        app.live.changed(&[LiveEvent::Offsite]);
        store.ledger_segment = number;
        store.ledger_end = LedgerEnd::of(written.clone());
        if !full {
            if (store.checkpoint_due || number >= store.checkpoint + app.settings.offsite.checkpoint_after)
                && let Err(fault) = write_checkpoint(app, &store, &replica, Some(written)).await?
            {
                return note_fault(app, &store, job, fault).await;
            }
            return Ok(Ended::Done);
        }
    }
}

/// What every segment and every part of a checkpoint says beside its originals, so that each stands for itself.
async fn preamble(app: &App) -> Answer<Vec<Record>> {
    let rules = app.catalog.house_rules().await?;
    let mut records = vec![Record::Household(HouseholdRecord {
        name: app.household.name.clone(),
        name_key: app.household.name_key.reveal(),
        rules: Some(RulesRecord {
            filing: rules.filing.clone(),
            clear_at: rules.clear_at,
            derive_jpeg: rules.derive_jpeg,
            retention: app.catalog.retention().await?,
        }),
        stores: app.catalog.stores().await?.into_iter().map(store_record).collect(),
        recipients: app
            .catalog
            .sealing(None, app.now())
            .await?
            .others
            .into_iter()
            .map(|o| RecipientRecord { recipient: o.recipient, name: o.name, added_at: o.added_at })
            .collect(),
    })];
    for p in app.catalog.people().await? {
        records.push(Record::Person(PersonRecord {
            id: p.id,
            name: p.name,
            role: p.role.word().into(),
            folder: p.folder,
            quota: p.quota,
            soft_quota: p.soft_quota,
        }));
    }
    records.extend(app.catalog.device_records().await?.into_iter().map(Record::Device));
    Ok(records)
}

/// What was decided for a store.
fn store_record(row: StoreRow) -> StoreRecord {
    StoreRecord {
        endpoint: row.address.endpoint,
        bucket: row.address.bucket,
        prefix: row.address.prefix,
        away: row.away,
        notices: row.notices,
        paused: row.paused,
        week: row.week,
        prices: row.prices,
        ledger_end: row.ledger_end,
    }
}

/// A hash of what is said of the household. Where the ledgers end is no reason to write another segment: each would be one for the other.
fn said_by(records: &[Record]) -> Digest {
    let mut text = format!("format {}\n", ledger::FORMAT);
    for record in records {
        let mut record = record.clone();
        if let Record::Household(household) = &mut record {
            household.stores.iter_mut().for_each(|s| s.ledger_end = None);
        }
        text += &ledger::line(&record);
        text.push('\n');
    }
    Digest::of(text.as_bytes())
}

/// What the ledger says of one original; nothing if its object is just being sent again: then it is listed after that.
async fn record_of(app: &App, store: StoreId, row: &OriginalRow) -> Answer<Option<Record>> {
    if let Some(at) = row.gone_at {
        return Ok(Some(Record::Removed(RemovedRecord { id: row.id, at })));
    }
    let Some(object) = app.catalog.object(store, row.digest).await? else { return Ok(None) };
    let row = row.clone();
    Ok(Some(Record::Original(Box::new(OriginalRecord {
        id: row.id,
        person: row.person,
        device: row.device,
        sha256: row.digest,
        size: row.size,
        path: row.path,
        name: OriginalName::from_device(&row.name),
        kind: MediaKind::from_word(&row.kind),
        taken_at: row.taken_at,
        taken_local: Some(row.taken_local),
        taken_rule: CaptureRule::ALL.into_iter().find(|r| r.word() == row.taken_rule).unwrap_or(CaptureRule::Received),
        landed_at: row.landed_at,
        source: row.source,
        file_time: row.file_time,
        shot: (row.shot != row.id).then_some(row.shot),
        held: row.held,
        object,
    }))))
}

/// Says once more, in parts, what all segments so far add up to, and what changed since. A kill leaves parts without an end, which nobody takes
/// for a checkpoint; what changes meanwhile is said again by the next segment.
async fn write_checkpoint(app: &App, store: &StoreRow, replica: &Replica, upto: Option<SegmentRef>) -> Answer<Result<(), Fault>> {
    let (number, salt) = (store.ledger_segment, u32::from_le_bytes(security::random()));
    let (mut after, mut recorded, mut part) = (OriginalId(uuid::Uuid::nil()), 0, 0);
    loop {
        let rows = app.catalog.copies_in(store.id, after, SEGMENT).await?;
        let mut records = preamble(app).await?;
        for row in &rows {
            after = row.id;
            records.extend(record_of(app, store.id, row).await?);
        }
        let entries = app.catalog.record_after(recorded, SEGMENT).await?;
        recorded = entries.last().map_or(recorded, |e| e.number);
        part += 1;
        let last = (rows.len() as i64) < SEGMENT && (entries.len() as i64) < SEGMENT;
        records.extend(entries.into_iter().map(Record::Entry));
        if let Err(fault) = replica.write_part((number, salt), (part, last), upto.clone(), &records, app.now()).await {
            return Ok(Err(fault));
        }
        if last {
            app.catalog.checkpoint_written(store.id, number).await?;
            app.live.changed(&[LiveEvent::Offsite]);
            return Ok(Ok(()));
        }
    }
}

/// After the work was taken off the list: is there more already?
pub(super) async fn want_ledger_again(app: &Arc<App>, job: &Job) -> Answer<()> {
    let Some(store) = job.store else { return Ok(()) };
    if !app.catalog.unlisted(store, 1).await?.is_empty() {
        app.catalog.want_ledger(store, app.now() + app.settings.offsite.ledger_after).await?;
    }
    Ok(())
}

/// Reads one original back from a store, opens it and checks its hash.
pub(super) async fn prove(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let (row, store, replica) = match open_with_original(app, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let Some(object) = app.catalog.object(store.id, row.digest).await? else { return Ok(Ended::Done) };
    let (act, seen) = match audit::read_back(&replica, &object, row.digest).await {
        Ok(found) => found,
        Err(fault) => return note_fault(app, &store, job, fault).await,
    };
    audit::note(app, (row.id, row.digest), Place::Store(store.id), act, seen).await?;
    app.catalog.store_well(store.id, app.now()).await?;
    app.live.changed(&[LiveEvent::Offsite, LiveEvent::Library]);
    Ok(Ended::Done)
}
