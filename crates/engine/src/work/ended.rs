//! How a piece of work ended.

use chrono::{DateTime, Utc};
use tokio::task::JoinError;
use ypogeion_catalog::CatalogError;
use ypogeion_offsite::Fault;

use crate::error::{Error, Result};

/// How a piece of work ended.
pub(crate) enum Ended {
    /// Done; forget it.
    Done,
    /// To be tried again then, because of this.
    Again(DateTime<Utc>, String),
    /// Cannot be done until somebody looks.
    GivenUp(String),
    /// Over for this time; its next round is put down already.
    Round,
    /// Could not be tried yet, and it is nobody's fault: then.
    Later(DateTime<Utc>),
    /// Could not be tried: its store waits. Not the work's fault.
    Waits,
    /// Somebody else does not let it be done, for this reason; then it is tried again, however often.
    NotYet(DateTime<Utc>, String),
}

/// Why a piece of work could not go on.
pub(crate) enum Broken {
    /// Its store failed: see [`super::store::note_broken`].
    Store(Fault),
    /// Anything else.
    House(Error),
}

impl Broken {
    /// Of work that has no store.
    pub fn at_home<T>(self) -> Result<T> {
        match self {
            Broken::Store(fault) => Err(fault.into()),
            Broken::House(e) => Err(e),
        }
    }
}

impl From<Fault> for Broken {
    fn from(fault: Fault) -> Self {
        Broken::Store(fault)
    }
}

impl From<Error> for Broken {
    fn from(e: Error) -> Self {
        Broken::House(e)
    }
}

impl From<CatalogError> for Broken {
    fn from(e: CatalogError) -> Self {
        Broken::House(e.into())
    }
}

impl From<JoinError> for Broken {
    fn from(e: JoinError) -> Self {
        Broken::House(e.into())
    }
}
