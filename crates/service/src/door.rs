//! A machine without a household: instead of refusing to start, the service shows a door. Behind it a household is made, or brought back
//! with its recovery kit; then the service itself begins, at the same address.
//!
//! Nobody can sign in yet, so the door asks for a code that the service printed where only somebody at the machine can read it. The code
//! is new at each start and kept nowhere.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use actix_web::HttpRequest;
use chrono::Utc;
use tokio::sync::Notify;
use ypogeion_catalog::Catalog;
use ypogeion_engine::{
    error::{Cannot, chain, failed},
    founding::{Founded, found},
    from_kit::Stop,
    rebuild::{self, Source, is_unfinished},
    secrets,
};
use ypogeion_wire::{door::CODE_HEADER, pairing::normalise_code, problem::ProblemType};

use crate::{
    failure::{Answer, Failure},
    security::{self, Limiter},
    settings::Settings,
};

/// Wrong codes in five minutes, from one address.
const ATTEMPTS: usize = 20;

/// The door, and what is being done behind it.
pub struct Door {
    /// The settings.
    pub settings: Settings,
    /// The catalogue, without a whole household in it.
    pub catalog: Catalog,
    code: String,
    limiter: Limiter,
    now: Mutex<Now>,
    through: Notify,
}

/// What is being done.
#[derive(Clone, Debug, Default)]
pub struct Now {
    /// Somebody makes a household, or brings one back.
    pub busy: bool,
    /// It is there.
    pub through: bool,
    /// What was said on the way.
    pub told: Vec<String>,
    /// Why the last attempt came to nothing.
    pub failed: Option<String>,
}

impl Door {
    pub(crate) fn new(settings: Settings, catalog: Catalog) -> Self {
        Door {
            settings,
            catalog,
            code: secrets::pairing_code(),
            limiter: Limiter::default(),
            now: Mutex::default(),
            through: Notify::new(),
        }
    }

    fn lock(&self) -> MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How it stands.
    pub fn now(&self) -> Now {
        self.lock().clone()
    }

    /// Refuses whoever does not bring the code.
    pub fn admit(&self, request: &HttpRequest) -> Answer<()> {
        let typed = request.headers().get(CODE_HEADER).and_then(|v| v.to_str().ok()).unwrap_or_default();
        if typed.is_empty() {
            return Err(Failure::new(ProblemType::NotSignedIn, "Type the code that the service printed when it started."));
        }
        let from = security::somebody_at(request.peer_addr().map(|a| a.ip()));
        self.limiter.attempt(&from, ATTEMPTS)?;
        if secrets::hash(&normalise_code(typed)) == secrets::hash(&self.code) {
            self.limiter.forget(&from);
            return Ok(());
        }
        Err(Failure::new(ProblemType::WrongPassword, "That is not the code that the service printed when it was last started."))
    }

    /// Takes the door's one turn: one household is made or brought back at a time.
    pub fn begin(self: Arc<Self>) -> Answer<Attempt> {
        let mut now = self.lock();
        if now.busy || now.through {
            return Err(Failure::bad("Somebody is at this already; wait until it has ended."));
        }
        *now = Now { busy: true, ..Now::default() };
        drop(now);
        Ok(Attempt { door: self, ended: false })
    }

    /// The code, as it is read out.
    pub(crate) fn code(&self) -> String {
        secrets::spoken(&self.code)
    }

    /// Returns when there is a household.
    pub(crate) async fn through(&self) {
        self.through.notified().await;
    }

    fn end(&self, outcome: Result<(), String>) {
        let mut now = self.lock();
        now.busy = false;
        match outcome {
            Ok(()) => {
                now.through = true;
                self.through.notify_one();
            }
            Err(why) => now.failed = Some(why),
        }
    }

    fn tell(&self, line: String) {
        tracing::info!("{}", line.trim());
        self.lock().told.push(line);
    }
}

/// Somebody's attempt at the door. Dropped without an end, it was broken off, and the next may try.
pub struct Attempt {
    door: Arc<Door>,
    ended: bool,
}

impl Attempt {
    /// The household is there, or why it is not.
    pub fn end(mut self, outcome: Result<(), String>) {
        self.ended = true;
        self.door.end(outcome);
    }

    /// Makes a household.
    pub async fn make(&self, household: &str, keeper: &str, password: String) -> Result<Founded, Cannot> {
        found(&self.door.settings.house, &self.door.catalog, household, keeper, password).await
    }

    /// Brings one back, to the end.
    pub async fn bring_back(self, source: Source) {
        let (door, told) = (Arc::clone(&self.door), Arc::clone(&self.door));
        let outcome = match rebuild::rebuild(&door.settings.house, &door.catalog, &source, &move |line| told.tell(line)).await {
            Ok(whole) => {
                // What was not right stays readable after the door is gone.
                let bad = if whole { "" } else { "; parts of a ledger could not be used, the log has them" };
                let line = format!("restored the household from its recovery kit{bad}");
                match door.catalog.write_record(Utc::now(), "Ypogeion", &line).await {
                    Ok(()) => Ok(()),
                    Err(e) => Err(format!("could not write the record: {}", chain(&e))),
                }
            }
            Err(Stop { sentence: why, .. }) => {
                tracing::warn!(why, "the household was not brought back");
                Err(why)
            }
        };
        self.end(outcome);
    }
}

impl Drop for Attempt {
    fn drop(&mut self) {
        if !self.ended {
            self.door.end(Err("This was interrupted. Do it again: it continues where it stopped.".to_owned()));
        }
    }
}

/// How a stop of the rebuilding reads on the page.
pub(crate) fn refused(stop: Stop) -> Failure {
    Failure::bad(stop.sentence)
}

/// Whether the house needs its door: there is no household, or only a part of one.
pub async fn is_needed(settings: &Settings, catalog: &Catalog) -> Result<bool, Cannot> {
    let household = catalog.household().await.map_err(failed("read the household"))?;
    // A kill while a household was made may have left it without anybody who could sign in.
    let people = catalog.people().await.map_err(failed("read the members"))?;
    Ok(household.is_none() || people.is_empty() || is_unfinished(&settings.house))
}
