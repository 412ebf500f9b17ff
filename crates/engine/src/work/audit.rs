//! Checks of copies: reading them again, comparing a store's list with what should be there, and drills.
//!
//! A reading takes the copies that have not been looked at for longest, so one that was killed, or ended with the night, goes on
//! where it was. Each copy's result is an observation; what is bad is put down to be made good (see [`super::heal`]). A drill asks
//! nothing of the catalogue: it uses the store and the key alone, as on the day when home is gone.

use std::{fs, sync::Arc, time::Instant};

use chrono::{DateTime, TimeDelta, Utc};
use futures_util::TryStreamExt;
use uuid::Uuid;
use ypogeion_catalog::{
    audits::{Audit, Check, CopyToRead, Expected, Found},
    work::Job,
};
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    audit::{Sampled, draw},
    kit::KitEnd,
    layers::{Act, Observation, Outcome, Place},
    ledger::ObjectRecord,
    words,
};
use ypogeion_library::LibraryError;
use ypogeion_offsite::{Fault, LedgerRead, Replica, contents::Broken, prove as reading, recover};
use ypogeion_wire::work::LiveEvent;

use super::{ended::Ended, store};
use crate::{
    at_home::look_at,
    engine::Engine,
    error::{Error, Result},
    secrets,
};

/// What was seen of a copy: what it is worth, and its plaintext's hash if it was read to the end.
type Seen = (Outcome, Option<Digest>);

/// Copies asked for at once.
const BATCH: i64 = 50;
/// Objects compared at once.
const PAGE: i64 = 1000;
/// Until copies are asked for again that were all just leaving.
const BREATH: TimeDelta = TimeDelta::seconds(5);
/// An object that nobody knows is counted when it is older than this: a younger one may be about to be confirmed.
const SETTLED: TimeDelta = TimeDelta::days(1);
/// A reading that finds more than half bad, of so many, has found a failing disk or a store gone astray, and stops.
const ALARM_AFTER: u64 = 40;
/// Originals brought back at once in a drill.
const DRILL_PARALLEL: usize = 2;

/// When a check is done for the first time: a new place has just been written to.
pub fn first_round(engine: &Engine, check: Check) -> DateTime<Utc> {
    let checks = &engine.settings.checks;
    engine.now()
        + match check {
            Check::Reading | Check::Listing => checks.rhythm.every,
            // Soon enough to be told that it would work, and late enough for something to be there.
            Check::Drill => checks.drill_every.min(TimeDelta::days(1)),
        }
}

async fn begin(engine: &Engine, place: Place, check: Check, population: u64) -> Result<Audit> {
    Ok(engine.catalog.begin_audit(Uuid::now_v7(), place, check, population, engine.now()).await?)
}

async fn end(engine: &Engine, job: &Job, audit: &Audit, found: Found, said: &str, failed: bool) -> Result<Ended> {
    engine.catalog.end_audit(audit.id, found, said, failed, engine.now()).await?;
    if failed {
        let line = format!("could not finish the {} of {}: {said}", audit.check.word(), name_of(engine, audit.place).await?);
        engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?;
    }
    let checks = &engine.settings.checks;
    let every = if audit.check == Check::Drill { checks.drill_every } else { checks.rhythm.every };
    engine.catalog.next_round(job.id, audit.check, engine.now() + every, engine.now()).await?;
    engine.live.changed(&[LiveEvent::Offsite, LiveEvent::Overview]);
    Ok(Ended::Round)
}

/// What people call a place.
pub(super) async fn name_of(engine: &Engine, place: Place) -> Result<String> {
    Ok(match place {
        Place::Home => "the home disk".to_owned(),
        Place::Store(id) => engine.catalog.store(id).await?.address.name,
    })
}

/// What was seen of one copy, and, if it is bad, a line in the record. Making it good is put down with the observation.
pub(super) async fn note(
    engine: &Arc<Engine>,
    (original, expected): (OriginalId, Digest),
    place: Place,
    act: Act,
    (outcome, digest): Seen,
) -> Result<()> {
    if place == Place::Home && outcome != Outcome::Right {
        // A disk that went away while it was read explains whatever was read.
        engine.home_is_there().await?;
    }
    let seen = Observation { place, act, at: engine.now(), digest, outcome };
    engine.catalog.observe_check(original, expected, &seen).await?;
    if outcome != Outcome::Right {
        // Also of one that was let go and has not left that store yet: a check must not end over it.
        let path = engine.catalog.last_path(original).await?;
        let what = if outcome == Outcome::Missing { "missing" } else { "damaged" };
        let name = name_of(engine, place).await?;
        tracing::warn!(%path, place = name, what, "a copy is not what it should be");
        engine.catalog.write_record(engine.now(), "Ypogeion", &format!("found the copy of {path} on {name} {what}")).await?;
        engine.live.changed(&[LiveEvent::Library, LiveEvent::Overview, LiveEvent::Offsite]);
    }
    Ok(())
}

/// Reads copies again, at home or in a store.
pub(super) async fn read(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (place, store) = (
        Place::of(job.store),
        match job.store {
            None => None,
            Some(_) => match store::open(engine, job).await? {
                Ok(opened) => Some(opened),
                Err(ended) => return Ok(ended),
            },
        },
    );
    let rhythm = engine.settings.checks.rhythm;
    let (copies, bytes) = engine.catalog.copies_at(place).await?;
    // Much is missing then, and everybody knows why.
    let alarms = place != Place::Home || engine.catalog.elsewhere().await?.iter().all(|f| f.given_up_at.is_none());
    loop {
        let audit = begin(engine, place, Check::Reading, copies).await?;
        let enough = |found: &Found| !audit.whole && found.bytes >= rhythm.portion(bytes);
        let turns = match audit.began_at {
            Some(began) if !enough(&audit.found) => engine.catalog.copies_to_read(place, began, BATCH).await?,
            _ => Vec::new(),
        };
        if turns.is_empty() {
            return end(engine, job, &audit, audit.found, &said(&audit.found), false).await;
        }
        let mut found = audit.found;
        // Without a limit, the next copy at home is hashed while what was seen of the last one is written down.
        let ahead = |n: usize| {
            let copy: Option<&CopyToRead> = turns.get(n).filter(|_| store.is_none());
            copy.map(|t| {
                tokio::spawn({
                    let (engine, copy) = (Arc::clone(engine), t.clone());
                    async move { at_home(&engine, &copy).await }
                })
            })
        };
        let (mut reading, mut had_a_turn) = (None, false);
        for (n, copy) in turns.iter().enumerate() {
            let began = Instant::now();
            let (act, seen) = match &store {
                None => (
                    Act::Reread,
                    match match reading.take().or_else(|| ahead(n)) {
                        Some(reading) => reading.await??,
                        None => at_home(engine, copy).await?,
                    } {
                        Some(seen) => seen,
                        None => {
                            had_a_turn = true;
                            engine.catalog.could_not_look(copy.id, engine.now()).await?;
                            engine.catalog.count_audit(audit.id, Found { unseen: 1, ..Found::default() }).await?;
                            found.unseen += 1;
                            continue;
                        }
                    },
                ),
                Some((row, replica)) => match in_store(engine, row.id, replica, copy).await? {
                    Ok(Some(seen)) => seen,
                    Ok(None) => continue,
                    Err(fault) => return store::note_fault(engine, row, job, fault).await,
                },
            };
            if rhythm.most_rate == 0 {
                reading = ahead(n + 1);
            }
            had_a_turn = true;
            note(engine, (copy.id, copy.digest), place, act, seen).await?;
            let mut more = Found { bytes: copy.size, ..Found::default() };
            tally(&mut more, seen.0);
            engine.catalog.count_audit(audit.id, more).await?;
            tally(&mut found, seen.0);
            found.bytes += copy.size;
            if alarms && found.checked >= ALARM_AFTER && (found.wrong + found.missing) * 2 > found.checked {
                let why = format!(
                    "{} of {} copies were damaged or missing, so the reading was stopped. First look at the disk or the store itself.",
                    words::count(found.wrong + found.missing),
                    words::count(found.checked)
                );
                return end(engine, job, &audit, found, &why, true).await;
            }
            if enough(&found) {
                break;
            }
            let rest = rhythm.rest(copy.size, began.elapsed());
            if !rest.is_zero() {
                tokio::time::sleep(rest).await;
            }
        }
        if let Some((row, _)) = &store {
            engine.catalog.store_well(row.id, engine.now()).await?;
        }
        engine.live.changed(&[LiveEvent::Offsite]);
        if !had_a_turn {
            // All of them left while their turns were asked for. The next question names others, or nobody; it is not asked at once.
            return Ok(Ended::Later(engine.now() + BREATH));
        }
    }
}

/// What a reading says.
fn said(found: &Found) -> String {
    let copies = |n: u64| if n == 1 { "1 copy".to_owned() } else { format!("{} copies", words::count(n)) };
    let mut said = match (found.checked, bad(found)) {
        (0, _) if found.unseen == 0 => "There was nothing to read yet.".to_owned(),
        (0, _) => String::new(),
        (n, bad) if bad.is_empty() => format!("{} read, {}; all are right.", copies(n), words::size(found.bytes)),
        (n, bad) => format!("{} read, {}: {bad}.", copies(n), words::size(found.bytes)),
    };
    if found.unseen > 0 {
        let more = if said.is_empty() { "" } else { " " };
        said +=
            &format!("{more}{} could not be looked at: the disk that they were left on is not connected.", copies(found.unseen));
    }
    said
}

/// How many are damaged and missing; nothing if none is.
fn bad(found: &Found) -> String {
    let some = |n: u64, what: &str| (n > 0).then(|| format!("{} {what}", words::count(n)));
    [some(found.wrong, "damaged"), some(found.missing, "missing")].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// `None`: it was left in a folder that is out of reach, and nothing is known of it by that.
async fn at_home(engine: &Engine, copy: &CopyToRead) -> Result<Option<Seen>> {
    let digest = copy.digest;
    let seen = look_at(engine, copy.id, copy.path.clone(), move |library, path| match library.reread(path, digest) {
        Ok((Outcome::Missing, _)) => Ok(None),
        Ok(seen) => Ok(Some(seen)),
        // A sector that cannot be read any more is damage like any other.
        Err(LibraryError::Io { .. }) => Ok(Some((Outcome::Wrong, None))),
        Err(e) => Err(e),
    })
    .await;
    match seen {
        Ok((seen, _)) => Ok(Some(seen.unwrap_or((Outcome::Missing, None)))),
        Err(Error::Elsewhere(_)) => Ok(None),
        Err(e) => Err(e),
    }
}

/// `None`: confirmed when its copy was asked for, and found bad by somebody else since; it is sent again, and has no copy any more.
async fn in_store(
    engine: &Engine,
    store: StoreId,
    replica: &Replica,
    copy: &CopyToRead,
) -> Result<Result<Option<(Act, Seen)>, Fault>> {
    let Some(object) = engine.catalog.object(store, copy.digest).await? else { return Ok(Ok(None)) };
    Ok(read_back(replica, &object, copy.digest).await.map(Some))
}

/// Reads a copy back from a store and opens it; without the key, compares its sealed bytes with those that were sent.
pub(super) async fn read_back(replica: &Replica, object: &ObjectRecord, expected: Digest) -> Result<(Act, Seen), Fault> {
    if replica.keys.can_open() {
        Ok((Act::Opened, reading::prove(replica, &object.name, expected).await?))
    } else {
        Ok((Act::Compared, (reading::compare(replica, &object.name, object.sha256).await?, None)))
    }
}

/// Compares a store's list with what it confirmed.
pub(super) async fn list(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (store, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let place = Place::Store(store.id);
    let audit = begin(engine, place, Check::Listing, engine.catalog.copies_at(place).await?.0).await?;
    let began = engine.now();
    let mut due = Due { engine, store: store.id, began, page: Vec::new().into_iter(), last: String::new() };
    let (mut listed, mut found, mut unknown) = (replica.store.list_objects(replica.folder()), Found::default(), Vec::new());
    let mut expected = due.take().await?;
    loop {
        let object = match listed.try_next().await {
            Ok(object) => object,
            // It can be used all the same: each copy is read by its name.
            Err(fault @ Fault::Disorder(_)) => {
                return end(engine, job, &audit, found, &format!("The list could not be compared: {fault}."), true).await;
            }
            Err(fault) => return store::note_fault(engine, &store, job, fault).await,
        };
        // What should be there and comes before this one in the order of names was passed over by the list.
        while let Some(e) = expected.take_if(|e| object.as_ref().is_none_or(|o| e.name < o.name)) {
            match missed(engine, &replica, &e, place).await? {
                Ok(outcome) => tally(&mut found, outcome),
                Err(fault) => return store::note_fault(engine, &store, job, fault).await,
            }
            expected = due.take().await?;
        }
        let Some(object) = object else { break };
        match expected.take_if(|e| e.name == object.name) {
            Some(e) => {
                let outcome = if e.size == object.size { Outcome::Right } else { Outcome::Wrong };
                if outcome == Outcome::Wrong {
                    note_all(engine, place, e.digest, outcome).await?;
                }
                tally(&mut found, outcome);
                found.bytes += object.size;
                expected = due.take().await?;
            }
            None if object.changed_at < began - SETTLED => unknown.push(object.name),
            None => {}
        }
        if unknown.len() as i64 >= PAGE {
            found.unknown += count_unknown(engine, store.id, &mut unknown).await?;
        }
    }
    found.unknown += count_unknown(engine, store.id, &mut unknown).await?;
    engine.catalog.store_well(store.id, engine.now()).await?;
    let (objects, bad) = (words::counted(found.checked, "object"), bad(&found));
    let mut said = match (found.checked, bad.as_str()) {
        (0, _) => "There is nothing to compare yet.".to_owned(),
        (_, "") => format!("{objects} compared; all are there, with the right size."),
        (_, bad) => format!("{objects} compared: {bad}."),
    };
    if found.unknown > 0 {
        said += &format!(
            " {} more are there that do not belong to this household’s copies; they were not touched.",
            words::count(found.unknown)
        );
    }
    end(engine, job, &audit, found, &said, false).await
}

fn tally(found: &mut Found, outcome: Outcome) {
    found.checked += 1;
    match outcome {
        Outcome::Right => {}
        Outcome::Wrong => found.wrong += 1,
        Outcome::Missing => found.missing += 1,
    }
}

/// What a store should hold, one after the other, without holding all of it.
struct Due<'a> {
    engine: &'a Engine,
    store: StoreId,
    began: DateTime<Utc>,
    page: std::vec::IntoIter<Expected>,
    last: String,
}

impl Due<'_> {
    async fn take(&mut self) -> Result<Option<Expected>> {
        let mut next = self.page.next();
        if next.is_none() {
            self.page = self.engine.catalog.expected_objects(self.store, &self.last, self.began, PAGE).await?.into_iter();
            next = self.page.next();
        }
        if let Some(next) = &next {
            self.last.clone_from(&next.name);
        }
        Ok(next)
    }
}

/// An object that the list passed over is asked for by its name: lists may lag behind.
async fn missed(engine: &Arc<Engine>, replica: &Replica, expected: &Expected, place: Place) -> Result<Result<Outcome, Fault>> {
    let outcome = match replica.store.size(&expected.name).await {
        Ok(size) if size == expected.size => Outcome::Right,
        Ok(_) => Outcome::Wrong,
        Err(Fault::Missing(_)) => Outcome::Missing,
        Err(fault) => return Ok(Err(fault)),
    };
    if outcome != Outcome::Right {
        note_all(engine, place, expected.digest, outcome).await?;
    }
    Ok(Ok(outcome))
}

async fn note_all(engine: &Arc<Engine>, place: Place, digest: Digest, outcome: Outcome) -> Result<()> {
    for original in engine.catalog.sharing(digest).await? {
        note(engine, (original, digest), place, Act::Listed, (outcome, None)).await?;
    }
    Ok(())
}

async fn count_unknown(engine: &Engine, store: StoreId, names: &mut Vec<String>) -> Result<u64> {
    let mut unknown = 0;
    for name in names.drain(..) {
        // Confirmed while the list was read, perhaps.
        unknown += u64::from(!engine.catalog.knows_object(store, &name).await?);
    }
    Ok(unknown)
}

/// Brings a random sample back into a folder of its own, with the store and the key alone, and throws it away again.
pub(super) async fn drill(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (store, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let place = Place::Store(store.id);
    let scratch = engine.settings.data_folder.join("drill").join(store.id.0.to_string());
    // What a killed drill left: this program's own copies.
    let _ = fs::remove_dir_all(&scratch);
    let read = match replica.read_ledger(&scratch).await {
        Ok(read) => read,
        Err(Fault::Locked) => {
            let audit = begin(engine, place, Check::Drill, 0).await?;
            let why = "This server keeps no key that opens copies. Lend it the key from the recovery kit, then hold the drill.";
            return end(engine, job, &audit, Found::default(), why, true).await;
        }
        Err(fault) => return store::note_fault(engine, &store, job, fault).await,
    };
    // Of what this house knew when the reading began; a segment more may be there by now.
    let doubts = read.doubts(store.ledger_end.as_ref().map(KitEnd::of).as_ref(), "this house");
    let LedgerRead { ledger, bad, .. } = read;
    let broken = |e: Broken| Fault::Home(std::io::Error::other(e));
    let population = match ledger.originals.count() {
        Ok(count) => count,
        Err(e) => return store::note_fault(engine, &store, job, broken(e)).await,
    };
    let audit = begin(engine, place, Check::Drill, population).await?;
    if !bad.is_empty() || !doubts.is_empty() {
        // Whatever is wrong with it: what this house knows is written there once more, with proof.
        engine.catalog.say_all_again(store.id, engine.now()).await?;
    }
    if !bad.is_empty() {
        let why = format!(
            "{} of the list of contents could not be read, so not everything could be found if this house were gone ({}: {}). It is being written there again.",
            if bad.len() == 1 { "One segment".to_owned() } else { format!("{} segments", bad.len()) },
            bad[0].name,
            bad[0].why
        );
        return end(engine, job, &audit, Found::default(), &why, true).await;
    }
    if let Some(doubt) = doubts.first() {
        let why = format!("{doubt} It is being written there again. Find out who can write to this store.");
        return end(engine, job, &audit, Found::default(), &why, true).await;
    }
    let drawn = draw(population, engine.settings.checks.drill_sample, |below| u64::from_le_bytes(secrets::random()) % below);
    let sample = match ledger.originals.drawn(&drawn.into_iter().collect()) {
        Ok(sample) => sample,
        Err(e) => return store::note_fault(engine, &store, job, broken(e)).await,
    };
    let asked = sample.len() as u64;
    drop(ledger);
    fs::create_dir_all(&scratch)
        .map_err(|e| Error::from(LibraryError::Io { what: "create", path: scratch.clone(), source: e }))?;
    let (began, mut failed) = (Instant::now(), Vec::new());
    let report = recover::recover(&replica, (sample.into_iter().map(Ok), asked), &scratch, DRILL_PARALLEL, |record, ended| {
        if matches!(ended, recover::Ended::Failed(_)) {
            failed.push(record.id);
        }
    })
    .await;
    let _ = fs::remove_dir_all(&scratch);
    let report = match report {
        Ok(report) => report,
        Err(fault) => return store::note_fault(engine, &store, job, fault).await,
    };
    let found =
        Found { population, checked: report.asked, bytes: report.bytes, missing: report.failed.len() as u64, ..Found::default() };
    // Read one by one, each by itself: that says which are damaged and which are gone, and has them made good.
    engine.catalog.want_proof(store.id, &failed, engine.now()).await?;
    let mut said = Sampled { population, sample: report.asked, bad: report.failed.len() as u64 }.statement();
    if report.bytes > 0 {
        said += &format!(
            " {} took {}.",
            words::size(report.bytes),
            words::span(TimeDelta::seconds(began.elapsed().as_secs().max(1) as i64))
        );
    }
    engine.catalog.write_record(engine.now(), "Ypogeion", &format!("held a drill with {}: {said}", store.address.name)).await?;
    end(engine, job, &audit, found, &said, false).await
}
