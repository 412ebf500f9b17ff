//! Writing the ledgers: what the stores hold, and whose it is.

use std::{collections::HashMap, sync::Arc};

use chrono::{DateTime, TimeDelta, Utc};
use ypogeion_catalog::{given::GivenRecords, originals::OriginalRow, stores::StoreRow, work::Job};
use ypogeion_core::{
    AlbumId, Digest, OriginalId, OriginalName, PersonId, StoreId,
    capture::CaptureRule,
    kind::MediaKind,
    ledger::{
        self, BroughtRecord, HouseholdRecord, InAlbumRecord, LedgerEnd, OriginalRecord, PersonRecord, RecipientRecord, Record,
        RemovedRecord, RulesRecord, SegmentRef, StoreRecord, WordsRecord,
    },
};
use ypogeion_offsite::{Fault, Replica};

use super::{
    ended::Ended,
    store::{note_fault, open},
};
use crate::{engine::Engine, error::Result, live::Change, secrets};

/// Originals named in one segment of the ledger.
const SEGMENT: i64 = 5000;
/// Lines of the record that a segment repeats from the one before: one that was being written just then may have a lower number.
const SAID_TWICE: u64 = 20;
/// Lines of the record go along with the next segment; after this long they are reason enough for one.
const RECORDED_WITHIN: TimeDelta = TimeDelta::days(1);

/// Writes everything that was confirmed since the last segment into the ledger.
pub(super) async fn write(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (mut store, replica) = match open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    loop {
        let rows = engine.catalog.unlisted(store.id, SEGMENT).await?;
        let entries = engine.catalog.record_after(store.recorded.saturating_sub(SAID_TWICE), SEGMENT).await?;
        let mut records = preamble(engine).await?;
        let said = said_by(&records);
        // What the keeper decided is reason enough, without any picture; that somebody signed in is not, for a day.
        let unsaid = entries.iter().find(|e| e.number > store.recorded);
        let waits = unsaid.is_some_and(|e| engine.now() - e.at > RECORDED_WITHIN);
        if rows.is_empty() && !waits && engine.catalog.has_said(store.id, said).await? {
            if !store.checkpoint_due {
                return Ok(Ended::Done);
            }
            // A checkpoint that was refused, or that somebody asked for while the last segment was written. Without one, there is one first.
            if let Some(end) = store.ledger_end.take() {
                return match write_checkpoint(engine, &store, &replica, Some(end.segment)).await? {
                    Ok(()) => Ok(Ended::Done),
                    Err(fault) => note_fault(engine, &store, job, fault).await,
                };
            }
        }
        let full = rows.len() as i64 == SEGMENT || entries.len() as i64 == SEGMENT;
        let recorded = entries.last().map_or(store.recorded, |e| e.number);
        records.extend(entries.into_iter().map(Record::Entry));
        let mut written_of = Vec::with_capacity(rows.len());
        let ids: Vec<OriginalId> = rows.iter().map(|r| r.original.id).collect();
        let mut marks = Marks::of(engine, &ids).await?;
        for row in rows {
            // Its object went meanwhile: it comes with the one that is sent instead.
            let Some(record) = record_of(engine, store.id, &row.original, &mut marks).await? else { continue };
            records.push(record);
            written_of.push(row);
        }
        let number = store.ledger_segment + 1;
        let salt = u32::from_le_bytes(secrets::random());
        let before = store.ledger_end.take().map(|end| end.segment);
        let written = match replica.write_segment((number, salt), before, &records, engine.now()).await {
            Ok(written) => written,
            Err(fault) => return note_fault(engine, &store, job, fault).await,
        };
        engine.catalog.segment_written(store.id, number, &written_of, (Some(said), Some(&written)), recorded).await?;
        store.recorded = recorded;
        engine.live.changed(&[Change::Offsite]);
        store.ledger_segment = number;
        store.ledger_end = LedgerEnd::of(written.clone());
        if !full {
            if (store.checkpoint_due || number >= store.checkpoint + engine.settings.offsite.checkpoint_after)
                && let Err(fault) = write_checkpoint(engine, &store, &replica, Some(written)).await?
            {
                return note_fault(engine, &store, job, fault).await;
            }
            return Ok(Ended::Done);
        }
    }
}

/// What every segment and every part of a checkpoint says beside its originals, so that each stands for itself.
async fn preamble(engine: &Engine) -> Result<Vec<Record>> {
    let rules = engine.catalog.house_rules().await?;
    let mut records = vec![Record::Household(HouseholdRecord {
        name: engine.household.name.clone(),
        name_key: engine.household.name_key.reveal(),
        rules: Some(RulesRecord {
            filing: rules.filing.clone(),
            clear_at: rules.clear_at,
            derive_jpeg: rules.derive_jpeg,
            retention: engine.catalog.retention().await?,
        }),
        stores: engine.catalog.stores().await?.into_iter().map(store_record).collect(),
        recipients: engine
            .catalog
            .sealing(None, engine.now())
            .await?
            .others
            .into_iter()
            .map(|o| RecipientRecord { recipient: o.recipient, name: o.name, added_at: o.added_at })
            .collect(),
        albums: engine.catalog.album_records().await?,
    })];
    for p in engine.catalog.people().await? {
        records.push(Record::Person(PersonRecord {
            id: p.id,
            name: p.name,
            role: p.role.word().into(),
            folder: p.folder,
            quota: p.quota,
            soft_quota: p.soft_quota,
        }));
    }
    records.extend(engine.catalog.device_records().await?.into_iter().map(Record::Device));
    Ok(records)
}

/// What was decided for a store.
fn store_record(row: StoreRow) -> StoreRecord {
    StoreRecord {
        endpoint: row.address.endpoint,
        bucket: row.address.bucket,
        prefix: row.address.prefix,
        away: row.away,
        checksum: row.checksum,
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

/// What people made of some originals.
struct Marks {
    favourites: HashMap<OriginalId, Vec<PersonId>>,
    albums: HashMap<OriginalId, Vec<InAlbumRecord>>,
    without: HashMap<OriginalId, Vec<AlbumId>>,
    words: HashMap<OriginalId, WordsRecord>,
    given: GivenRecords,
    brought: HashMap<OriginalId, BroughtRecord>,
    forward: HashMap<OriginalId, DateTime<Utc>>,
    versions: HashMap<OriginalId, OriginalId>,
}

impl Marks {
    async fn of(engine: &Engine, ids: &[OriginalId]) -> Result<Self> {
        Ok(Marks {
            favourites: engine.catalog.favourites_of(ids).await?,
            albums: engine.catalog.albums_of(ids).await?,
            without: engine.catalog.albums_without(ids).await?,
            words: engine.catalog.written_about(ids).await?,
            given: engine.catalog.given_to(ids).await?,
            brought: engine.catalog.brought_of(ids).await?,
            forward: engine.catalog.brought_forward(ids).await?,
            versions: engine.catalog.versions_among(ids).await?,
        })
    }
}

/// What the ledger says of one original; nothing if its object is just being sent again: then it is listed after that.
async fn record_of(engine: &Engine, store: StoreId, row: &OriginalRow, marks: &mut Marks) -> Result<Option<Record>> {
    if let Some(at) = row.gone_at {
        return Ok(Some(Record::Removed(RemovedRecord { id: row.id, at })));
    }
    let Some(object) = engine.catalog.object(store, row.digest).await? else { return Ok(None) };
    let row = row.clone();
    let favourite_of = marks.favourites.remove(&row.id).unwrap_or_default();
    let albums = marks.albums.remove(&row.id).unwrap_or_default();
    let without = marks.without.remove(&row.id).unwrap_or_default();
    let words = marks.words.remove(&row.id);
    let (brought, forward) = (marks.brought.remove(&row.id), marks.forward.remove(&row.id));
    let version_of = marks.versions.remove(&row.id);
    let given = &mut marks.given;
    let (given_time, given_place) = (given.times.remove(&row.id), given.places.remove(&row.id));
    let given_turn = given.turns.remove(&row.id);
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
        favourite_of,
        albums,
        without,
        words,
        given_time,
        given_place,
        given_turn,
        put_away: row.put_away,
        forward,
        version_of,
        brought,
        object,
    }))))
}

/// Says once more, in parts, what all segments so far add up to, and what changed since. A kill leaves parts without an end, which nobody takes
/// for a checkpoint; what changes meanwhile is said again by the next segment.
async fn write_checkpoint(
    engine: &Engine,
    store: &StoreRow,
    replica: &Replica,
    upto: Option<SegmentRef>,
) -> Result<Result<(), Fault>> {
    let (number, salt) = (store.ledger_segment, u32::from_le_bytes(secrets::random()));
    let (mut after, mut recorded, mut part) = (OriginalId(uuid::Uuid::nil()), 0, 0);
    loop {
        let rows = engine.catalog.copies_in(store.id, after, SEGMENT).await?;
        let mut records = preamble(engine).await?;
        let ids: Vec<OriginalId> = rows.iter().map(|r| r.id).collect();
        let mut marks = Marks::of(engine, &ids).await?;
        for row in &rows {
            after = row.id;
            records.extend(record_of(engine, store.id, row, &mut marks).await?);
        }
        let entries = engine.catalog.record_after(recorded, SEGMENT).await?;
        recorded = entries.last().map_or(recorded, |e| e.number);
        part += 1;
        let last = (rows.len() as i64) < SEGMENT && (entries.len() as i64) < SEGMENT;
        records.extend(entries.into_iter().map(Record::Entry));
        if let Err(fault) = replica.write_part((number, salt), (part, last), upto.clone(), &records, engine.now()).await {
            return Ok(Err(fault));
        }
        if last {
            engine.catalog.checkpoint_written(store.id, number).await?;
            engine.live.changed(&[Change::Offsite]);
            return Ok(Ok(()));
        }
    }
}

/// After the work was taken off the list: is there more already?
pub(super) async fn want_again(engine: &Arc<Engine>, job: &Job) -> Result<()> {
    let Some(store) = job.store else { return Ok(()) };
    if !engine.catalog.unlisted(store, 1).await?.is_empty() {
        engine.catalog.want_ledger(store, engine.now() + engine.settings.offsite.ledger_after).await?;
    }
    Ok(())
}
