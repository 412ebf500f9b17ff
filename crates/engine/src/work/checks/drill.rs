//! A drill: a random sample brought back as on the day when home is gone, with the store and the key alone; the catalogue is asked nothing.

use std::{fs, path::Path, sync::Arc, time::Instant};

use chrono::TimeDelta;
use ypogeion_catalog::{
    audits::{Check, Found},
    stores::StoreRow,
    work::Job,
};
use ypogeion_core::{
    audit::{Sampled, draw},
    kit::KitEnd,
    layers::Place,
    words,
};
use ypogeion_library::LibraryError;
use ypogeion_offsite::{Fault, LedgerRead, Replica, contents, layout, recover};

use super::{begin, end};
use crate::{
    engine::Engine,
    error::{Error, Result},
    secrets,
    work::{
        ended::{Broken, Ended},
        store,
    },
};

/// Originals brought back at once.
const PARALLEL: usize = 2;

/// What a drill came to.
struct Held {
    found: Found,
    said: String,
    /// It could not be done.
    failed: bool,
}

/// Brings a random sample back into a folder of its own, and throws it away again.
pub(in crate::work) async fn drill(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (row, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let scratch = engine.settings.data_folder.join("drill").join(row.id.0.to_string());
    // What a killed drill left: this program's own copies.
    let _ = fs::remove_dir_all(&scratch);
    let held = hold(engine, &row, &replica, &scratch).await;
    let _ = fs::remove_dir_all(&scratch);
    let held = match held {
        Ok(held) => held,
        Err(broken) => return store::note_broken(engine, &row, job, broken).await,
    };
    let audit = begin(engine, Place::Store(row.id), Check::Drill, held.found.population).await?;
    if !held.failed {
        let line = format!("held a drill with {}: {}", row.address.name, held.said);
        engine.catalog.write_record(engine.now(), "Ypogeion", &line).await?;
    }
    end(engine, job, &audit, held.found, &held.said, held.failed).await
}

async fn hold(engine: &Arc<Engine>, row: &StoreRow, replica: &Replica, scratch: &Path) -> Result<Held, Broken> {
    let read = match replica.read_ledger(scratch).await {
        Err(Fault::Locked) => {
            let why = "This server keeps no key that opens copies. Lend it the key from the recovery kit, then hold the drill.";
            return Ok(Held { found: Found::default(), said: why.to_owned(), failed: true });
        }
        other => other?,
    };
    // Of what this house knew when the reading began; a segment more may be there by now.
    let doubts = read.doubts(row.ledger_end.as_ref().map(KitEnd::of).as_ref(), "this house");
    let LedgerRead { ledger, bad, .. } = read;
    let broken = |e: contents::Broken| Fault::Home(std::io::Error::other(e));
    let population = ledger.originals.count().map_err(broken)?;
    begin(engine, Place::Store(row.id), Check::Drill, population).await?;
    if let Some(why) = not_to_be_used(&bad, &doubts) {
        // Whatever is wrong with it: what this house knows is written there once more, with proof.
        engine.catalog.say_all_again(row.id, engine.now()).await?;
        return Ok(Held { found: Found { population, ..Found::default() }, said: why, failed: true });
    }
    let drawn = draw(population, engine.settings.checks.drill_sample, |below| u64::from_le_bytes(secrets::random()) % below);
    let sample = ledger.originals.drawn(&drawn.into_iter().collect()).map_err(broken)?;
    let asked = sample.len() as u64;
    drop(ledger);
    fs::create_dir_all(scratch)
        .map_err(|e| Error::from(LibraryError::Io { what: "create", path: scratch.to_owned(), source: e }))?;
    let (began, mut lost) = (Instant::now(), Vec::new());
    let report = recover::recover(replica, (sample.into_iter().map(Ok), asked), scratch, PARALLEL, |record, ended| {
        if matches!(ended, recover::Ended::Failed(_)) {
            lost.push(record.id);
        }
    })
    .await?;
    // Read one by one, each by itself: that says which are damaged and which are gone, and has them made good.
    engine.catalog.want_proof(row.id, &lost, engine.now()).await?;
    let bad = report.failed.len() as u64;
    let mut said = Sampled { population, sample: report.asked, bad }.statement();
    if report.bytes > 0 {
        let took = words::span(TimeDelta::seconds(began.elapsed().as_secs().max(1) as i64));
        said += &format!(" {} took {took}.", words::size(report.bytes));
    }
    let found = Found { population, checked: report.asked, bytes: report.bytes, missing: bad, ..Found::default() };
    Ok(Held { found, said, failed: false })
}

/// Why a list of contents is no help on the day when home is gone; none: it is whole, and as new as this house knows it.
fn not_to_be_used(bad: &[layout::BadSegment], doubts: &[String]) -> Option<String> {
    if let Some(first) = bad.first() {
        let segments = if bad.len() == 1 { "One segment".to_owned() } else { format!("{} segments", bad.len()) };
        return Some(format!(
            "{segments} of the list of contents could not be read, so not everything could be found if this house were gone ({}: {}). It is being written there again.",
            first.name, first.why
        ));
    }
    let doubt = doubts.first()?;
    Some(format!("{doubt} It is being written there again. Find out who can write to this store."))
}
