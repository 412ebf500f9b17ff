//! Reading copies again, at home or in a store.
//!
//! A reading takes the copies that have not been looked at for longest, so one that was killed, or ended with the night, goes on where it was.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use chrono::TimeDelta;
use tokio::task::JoinHandle;
use ypogeion_catalog::{
    audits::{Audit, Check, CopyToRead, Found},
    stores::StoreRow,
    work::Job,
};
use ypogeion_core::{
    Digest,
    audit::Rhythm,
    layers::{Act, Outcome, Place},
    ledger::ObjectRecord,
    words,
};
use ypogeion_library::LibraryError;
use ypogeion_offsite::{Fault, Replica, prove as reading};

use super::{bad, begin, end, tally};
use crate::{
    at_home::look_at,
    engine::Engine,
    error::{Error, Result},
    evidence::{Seen, note},
    live::Change,
    work::{
        ended::{Broken, Ended},
        store,
    },
};

/// Copies asked for at once.
const BATCH: i64 = 50;
/// Until copies are asked for again that were all just leaving.
const BREATH: TimeDelta = TimeDelta::seconds(5);
/// A reading that finds more than half bad, of so many, has found a failing disk or a store gone astray, and stops.
const ALARM_AFTER: u64 = 40;

/// Reads copies again: a portion of them, or all if the keeper wants that.
pub(in crate::work) async fn read(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let store = match job.store {
        None => None,
        Some(_) => match store::open(engine, job).await? {
            Ok(opened) => Some(opened),
            Err(ended) => return Ok(ended),
        },
    };
    let place = Place::of(job.store);
    let (copies, bytes) = engine.catalog.copies_at(place).await?;
    let mut reading =
        Reading { engine, place, store, rhythm: engine.settings.checks.rhythm, bytes, surprises: Surprises::default() };
    loop {
        let audit = begin(engine, place, Check::Reading, copies).await?;
        match reading.some(&audit).await {
            Ok(Came::Some) => {}
            Ok(Came::Nobody) => return Ok(Ended::Later(engine.now() + BREATH)),
            Ok(Came::End(found)) => return end(engine, job, &audit, found, &said(&found), false).await,
            Ok(Came::Alarm(found)) => return end(engine, job, &audit, found, &alarm(&found), true).await,
            Err(broken) => match &reading.store {
                Some((row, _)) => return store::note_broken(engine, row, job, broken).await,
                None => return broken.at_home(),
            },
        }
    }
}

/// How far a reading came.
enum Came {
    /// Some were read.
    Some,
    /// All of them left while their turns were asked for. The next question names others, or nobody; it is not asked at once.
    Nobody,
    /// It is over.
    End(Found),
    /// It is over, because too much was bad.
    Alarm(Found),
}

/// What became of one copy's turn.
enum Turn {
    Seen(Act, Seen),
    /// It was left in a folder of which somebody said that it does not come back: it is missing, as everybody knew.
    Lost,
    /// It was left in a folder that is out of reach, and nothing is known of it by that.
    Unseen,
    /// Confirmed when it was asked for, and found bad by somebody else since; it is sent again, and has no copy any more.
    Left,
}

struct Reading<'a> {
    engine: &'a Arc<Engine>,
    place: Place,
    store: Option<(StoreRow, Replica)>,
    rhythm: Rhythm,
    /// Of all copies there.
    bytes: u64,
    surprises: Surprises,
}

/// What this reading has found since it was begun, or gone on with, that nobody knew.
#[derive(Default)]
struct Surprises {
    read: u64,
    bad: u64,
}

impl Surprises {
    /// A failing disk, or a store gone astray.
    fn are_too_many(&self) -> bool {
        self.read >= ALARM_AFTER && self.bad * 2 > self.read
    }
}

impl Reading<'_> {
    fn enough(&self, audit: &Audit, found: &Found) -> bool {
        !audit.whole && found.bytes >= self.rhythm.portion(self.bytes)
    }

    /// Reads those whose turn is next.
    async fn some(&mut self, audit: &Audit) -> Result<Came, Broken> {
        let turns = match audit.began_at {
            Some(began) if !self.enough(audit, &audit.found) => {
                self.engine.catalog.copies_to_read(self.place, began, BATCH).await?
            }
            _ => Vec::new(),
        };
        if turns.is_empty() {
            return Ok(Came::End(audit.found));
        }
        let (mut found, mut ahead, mut had_a_turn) = (audit.found, None, false);
        for (n, copy) in turns.iter().enumerate() {
            let began = Instant::now();
            let turn = self.turn(copy, ahead.take()).await?;
            // Without a limit, the next copy at home is hashed while what was seen of the last one is written down.
            let next = turns.get(n + 1).filter(|_| self.store.is_none() && self.rhythm.most_rate == 0);
            ahead = next.map(|next| self.begin(next));
            let lost = matches!(turn, Turn::Lost);
            let Some(more) = self.note(copy, turn).await? else { continue };
            had_a_turn = true;
            self.engine.catalog.count_audit(audit.id, more).await?;
            found += more;
            if !lost {
                self.surprises.read += more.checked;
                self.surprises.bad += more.wrong + more.missing;
            }
            if self.surprises.are_too_many() {
                return Ok(Came::Alarm(found));
            }
            if self.enough(audit, &found) {
                break;
            }
            let rest = if more.checked == 0 { Duration::ZERO } else { self.rhythm.rest(copy.size, began.elapsed()) };
            if !rest.is_zero() {
                tokio::time::sleep(rest).await;
            }
        }
        if let Some((row, _)) = &self.store {
            self.engine.catalog.store_well(row.id, self.engine.now()).await?;
        }
        self.engine.live.changed(&[Change::Offsite]);
        Ok(if had_a_turn { Came::Some } else { Came::Nobody })
    }

    /// Begins to read a copy at home.
    fn begin(&self, copy: &CopyToRead) -> JoinHandle<Result<Turn>> {
        let (engine, copy) = (Arc::clone(self.engine), copy.clone());
        tokio::spawn(async move { at_home(&engine, &copy).await })
    }

    async fn turn(&self, copy: &CopyToRead, begun: Option<JoinHandle<Result<Turn>>>) -> Result<Turn, Broken> {
        let Some((row, replica)) = &self.store else {
            return Ok(match begun {
                Some(begun) => begun.await??,
                None => at_home(self.engine, copy).await?,
            });
        };
        let Some(object) = self.engine.catalog.object(row.id, copy.digest).await? else { return Ok(Turn::Left) };
        let (act, seen) = read_back(replica, &object, copy.digest).await?;
        Ok(Turn::Seen(act, seen))
    }

    /// Writes down what came of a turn. Returns what it adds to what was found; none: there was none.
    async fn note(&self, copy: &CopyToRead, turn: Turn) -> Result<Option<Found>> {
        match turn {
            Turn::Left => Ok(None),
            Turn::Unseen => {
                self.engine.catalog.could_not_look(copy.id, self.engine.now()).await?;
                Ok(Some(Found { unseen: 1, ..Found::default() }))
            }
            Turn::Lost => {
                note(self.engine, (copy.id, copy.digest), self.place, Act::Reread, (Outcome::Missing, None)).await?;
                Ok(Some(Found { checked: 1, missing: 1, bytes: copy.size, ..Found::default() }))
            }
            Turn::Seen(act, seen) => {
                note(self.engine, (copy.id, copy.digest), self.place, act, seen).await?;
                let mut more = Found { bytes: copy.size, ..Found::default() };
                tally(&mut more, seen.0);
                Ok(Some(more))
            }
        }
    }
}

fn alarm(found: &Found) -> String {
    format!(
        "{} of {} copies were damaged or missing, so the reading was stopped. First look at the disk or the store itself.",
        words::count(found.wrong + found.missing),
        words::count(found.checked)
    )
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
            &format!("{more}{} could not be looked at: nothing is in the folder that they were left in.", copies(found.unseen));
    }
    said
}

async fn at_home(engine: &Engine, copy: &CopyToRead) -> Result<Turn> {
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
        Ok((Some(seen), _)) => Ok(Turn::Seen(Act::Reread, seen)),
        Ok((None, path)) => {
            let lost = engine.on_disk(move |library| Ok(library.was_given_up(&path))).await??;
            Ok(if lost { Turn::Lost } else { Turn::Seen(Act::Reread, (Outcome::Missing, None)) })
        }
        Err(Error::Elsewhere(_)) => Ok(Turn::Unseen),
        Err(e) => Err(e),
    }
}

/// Reads a copy back from a store and opens it; without the key, compares its sealed bytes with those that were sent.
pub(in crate::work) async fn read_back(replica: &Replica, object: &ObjectRecord, expected: Digest) -> Result<(Act, Seen), Fault> {
    if replica.keys.can_open() {
        Ok((Act::Opened, reading::prove(replica, &object.name, expected).await?))
    } else {
        Ok((Act::Compared, (reading::compare(replica, &object.name, object.hash).await?, None)))
    }
}
