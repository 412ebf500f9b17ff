//! Comparing a store's list with what it confirmed.

use std::sync::Arc;

use chrono::{DateTime, TimeDelta, Utc};
use futures_util::TryStreamExt;
use ypogeion_catalog::{
    audits::{Check, Expected, Found},
    stores::StoreRow,
    work::Job,
};
use ypogeion_core::{
    Digest, StoreId,
    layers::{Act, Outcome, Place},
    words,
};
use ypogeion_offsite::{Fault, Replica};

use super::{bad, begin, end, tally};
use crate::{
    engine::Engine,
    error::Result,
    evidence::note,
    work::{
        ended::{Broken, Ended},
        store,
    },
};

/// Objects compared at once.
const PAGE: i64 = 1000;
/// An object that nobody knows is counted when it is older than this: a younger one may be about to be confirmed.
const SETTLED: TimeDelta = TimeDelta::days(1);

/// Compares a store's list with what it confirmed.
pub(in crate::work) async fn list(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let (row, replica) = match store::open(engine, job).await? {
        Ok(opened) => opened,
        Err(ended) => return Ok(ended),
    };
    let place = Place::Store(row.id);
    let audit = begin(engine, place, Check::Listing, engine.catalog.copies_at(place).await?.0).await?;
    let mut comparing = Comparing { engine, store: &row, replica: &replica, found: Found::default(), unknown: Vec::new() };
    let (said, failed) = match comparing.run().await {
        Ok(()) => (comparing.said(), false),
        // It can be used all the same: each copy is read by its name.
        Err(Broken::Store(fault @ Fault::Disorder(_))) => (format!("The list could not be compared: {fault}."), true),
        Err(broken) => return store::note_broken(engine, &row, job, broken).await,
    };
    end(engine, job, &audit, comparing.found, &said, failed).await
}

/// A comparison that is under way.
struct Comparing<'a> {
    engine: &'a Arc<Engine>,
    store: &'a StoreRow,
    replica: &'a Replica,
    found: Found,
    unknown: Vec<String>,
}

impl Comparing<'_> {
    /// Goes through both lists at once, in the order of names.
    async fn run(&mut self) -> Result<(), Broken> {
        let (engine, replica, began) = (self.engine, self.replica, self.engine.now());
        let mut due = Due { engine, store: self.store.id, began, page: Vec::new().into_iter(), last: String::new() };
        let mut listed = replica.list_objects();
        let mut expected = due.take().await?;
        loop {
            let object = listed.try_next().await?;
            // What should be there and comes before this one in the order of names was passed over by the list.
            while let Some(e) = expected.take_if(|e| object.as_ref().is_none_or(|o| e.name < o.name)) {
                self.passed_over(&e).await?;
                expected = due.take().await?;
            }
            let Some(object) = object else { break };
            match expected.take_if(|e| e.name == object.name) {
                Some(e) => {
                    let outcome = if e.size == object.size { Outcome::Right } else { Outcome::Wrong };
                    self.saw(&e, outcome).await?;
                    self.found.bytes += object.size;
                    expected = due.take().await?;
                }
                None if object.changed_at < began - SETTLED => self.unknown.push(object.name),
                None => {}
            }
            if self.unknown.len() as i64 >= PAGE {
                self.count_unknown().await?;
            }
        }
        self.count_unknown().await?;
        Ok(self.engine.catalog.store_well(self.store.id, self.engine.now()).await?)
    }

    /// An object that the list passed over is asked for by its name: lists may lag behind.
    async fn passed_over(&mut self, expected: &Expected) -> Result<(), Broken> {
        let outcome = match self.replica.store.size(&expected.name).await {
            Ok(size) if size == expected.size => Outcome::Right,
            Ok(_) => Outcome::Wrong,
            Err(Fault::Missing(_)) => Outcome::Missing,
            Err(fault) => return Err(fault.into()),
        };
        self.saw(expected, outcome).await
    }

    async fn saw(&mut self, expected: &Expected, outcome: Outcome) -> Result<(), Broken> {
        if outcome != Outcome::Right {
            self.note_all(expected.digest, outcome).await?;
        }
        tally(&mut self.found, outcome);
        Ok(())
    }

    async fn note_all(&self, digest: Digest, outcome: Outcome) -> Result<(), Broken> {
        for original in self.engine.catalog.sharing(digest).await? {
            note(self.engine, (original, digest), Place::Store(self.store.id), Act::Listed, (outcome, None)).await?;
        }
        Ok(())
    }

    async fn count_unknown(&mut self) -> Result<(), Broken> {
        for name in std::mem::take(&mut self.unknown) {
            // Confirmed while the list was read, perhaps.
            self.found.unknown += u64::from(!self.engine.catalog.knows_object(self.store.id, &name).await?);
        }
        Ok(())
    }

    fn said(&self) -> String {
        let (objects, bad) = (words::counted(self.found.checked, "object"), bad(&self.found));
        let mut said = match (self.found.checked, bad.as_str()) {
            (0, _) => "There is nothing to compare yet.".to_owned(),
            (_, "") => format!("{objects} compared; all are there, with the right size."),
            (_, bad) => format!("{objects} compared: {bad}."),
        };
        if self.found.unknown > 0 {
            said += &format!(
                " {} more are there that do not belong to this household’s copies; they were not touched.",
                words::count(self.found.unknown)
            );
        }
        said
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
