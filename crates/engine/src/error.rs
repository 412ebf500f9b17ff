//! Why something was not done. Nothing in here knows how a request is answered: that is the service's, at its edge.

use std::path::PathBuf;

use ypogeion_catalog::CatalogError;
use ypogeion_core::room::NoRoom;
use ypogeion_library::LibraryError;
use ypogeion_offsite::{Fault, layout::ReplicaError};

/// What was underneath; for the log, never for who asked.
pub type Source = Box<dyn std::error::Error + Send + Sync>;

/// Why something was not done. Its text is a sentence for a person, with what to do.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// It cannot be done as it was asked for; the sentence says what would be.
    #[error("{0}")]
    Invalid(String),
    /// There is no such thing, or it is somebody else's: nobody is told which.
    #[error("There is no such thing here.")]
    NotFound,
    /// It was there, and is not any more.
    #[error("{0}")]
    Gone(String),
    /// Whoever asks may not.
    #[error("{0}")]
    NotAllowed(String),
    /// Whoever asks may, once their password was typed again.
    #[error("Type your password again: this can open or change everything.")]
    PasswordWanted,
    /// The name is somebody else's.
    #[error("{0}")]
    NameTaken(String),
    /// It cannot be done as things stand.
    #[error("{0}")]
    NotNow(String),
    /// There are as many as anybody needs.
    #[error("{0}")]
    TooMany(String),
    /// It is larger than what is taken.
    #[error("{0}")]
    TooLarge(String),
    /// A pairing code that is not valid (any more).
    #[error("{0}")]
    PairingCodeUnknown(String),
    /// A clearance that was used, or never was.
    #[error("{0}")]
    ClearanceGone(String),
    /// The upload expired, was ended, or never was.
    #[error("{0}")]
    UploadGone(String),
    /// An upload is not as far as it should be.
    #[error("{0}")]
    WrongOffset(String),
    /// What arrived is not what was sent.
    #[error("{0}")]
    DigestMismatch(String),
    /// A copy at home is damaged or missing.
    #[error("{detail}")]
    OriginalDamaged {
        /// The sentence.
        detail: String,
        /// What was underneath, if anything.
        #[source]
        source: Option<Source>,
    },
    /// There is no room for it: by a quota, or above the reserve.
    #[error("{}", sentence(.0))]
    NoRoom(NoRoom),
    /// The disk itself is full.
    #[error("The home disk is full; free some space there. What was sent is kept.")]
    DiskFull(#[source] LibraryError),
    /// The library's disk is not connected.
    #[error("The library’s disk is not connected: {0} Nothing is lost, and everything continues by itself when it is back.")]
    LibraryAway(String),
    /// A file was left in a folder outside the library that is out of reach now.
    #[error("This file was left in {}, where nothing is now. Connect its disk, and everything continues by itself.", .0.display())]
    Elsewhere(PathBuf),
    /// The database does not answer.
    #[error("The database does not answer just now; nothing is lost, try again soon.")]
    DatabaseAway(#[source] CatalogError),
    /// A store does not do what it should.
    #[error("The store cannot be used: {0}.")]
    Store(String),
    /// A fault of ours, or of the machine.
    #[error("{detail}")]
    Internal {
        /// The sentence.
        detail: String,
        /// What was underneath, if anything.
        #[source]
        source: Option<Source>,
    },
}

/// What comes of something that may not be done.
pub type Result<T, E = Error> = std::result::Result<T, E>;

impl Error {
    /// It cannot be done as it was asked for.
    pub fn invalid(detail: impl Into<String>) -> Self {
        Error::Invalid(detail.into())
    }

    /// A fault of ours, with nothing underneath.
    pub fn internal(detail: impl Into<String>) -> Self {
        Error::Internal { detail: detail.into(), source: None }
    }

    /// What is underneath it, for the log.
    pub fn into_source(self) -> Option<Source> {
        match self {
            Error::OriginalDamaged { source, .. } | Error::Internal { source, .. } => source,
            Error::DiskFull(e) => Some(e.into()),
            Error::DatabaseAway(e) => Some(e.into()),
            _ => None,
        }
    }

    /// A fault with what is underneath it.
    pub fn fault(detail: impl Into<String>, source: impl Into<Source>) -> Self {
        Error::Internal { detail: detail.into(), source: Some(source.into()) }
    }
}

/// Why a house could not be opened, made, or served: something that is done once, and that somebody waits for at a terminal.
#[derive(Debug, thiserror::Error)]
#[error("could not {what}")]
pub struct Cannot {
    /// The attempt.
    pub what: String,
    /// Why.
    #[source]
    pub source: Source,
}

/// Says what could not be done.
pub fn failed<E: Into<Source>>(what: impl Into<String>) -> impl FnOnce(E) -> Cannot {
    let what = what.into();
    move |e| Cannot { what, source: e.into() }
}

/// The log has the reason, and nobody else.
const LOGGED: &str = "Something went wrong here; the log has the reason.";

fn sentence(e: &NoRoom) -> String {
    let text = e.to_string();
    let mut letters = text.chars();
    letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).chain(['.']).collect()
}

/// An error with everything below it, in one line.
pub fn chain(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut source = error.source();
    while let Some(inner) = source {
        text = format!("{text}: {inner}");
        source = inner.source();
    }
    text
}

impl From<CatalogError> for Error {
    fn from(e: CatalogError) -> Self {
        match e {
            CatalogError::NotFound => Error::NotFound,
            CatalogError::TooMany => Error::TooMany(
                "This device has sent more names and logs than any device needs, so nothing more of it is noted. Revoke it, and pair it again."
                    .to_owned(),
            ),
            CatalogError::Taken => Error::NameTaken("That name is taken; choose another one.".to_owned()),
            CatalogError::Away(_) => Error::DatabaseAway(e),
            e => Error::fault(LOGGED, e),
        }
    }
}

impl From<LibraryError> for Error {
    fn from(e: LibraryError) -> Self {
        match e {
            LibraryError::Full { .. } => Error::DiskFull(e),
            LibraryError::Away { why, .. } => Error::LibraryAway(why.to_string()),
            LibraryError::Elsewhere { folder, .. } => Error::Elsewhere(folder),
            LibraryError::Missing { .. } => Error::OriginalDamaged {
                detail: "The file is missing on the home disk. This has been noted; another copy may be offsite.".to_owned(),
                source: Some(e.into()),
            },
            e => Error::fault("The home disk could not be read or written; the log has the reason.", e),
        }
    }
}

impl From<NoRoom> for Error {
    fn from(e: NoRoom) -> Self {
        Error::NoRoom(e)
    }
}

impl From<Fault> for Error {
    fn from(e: Fault) -> Self {
        Error::Store(e.to_string())
    }
}

impl From<ReplicaError> for Error {
    fn from(e: ReplicaError) -> Self {
        Error::Store(e.to_string())
    }
}

impl From<tokio::task::JoinError> for Error {
    fn from(e: tokio::task::JoinError) -> Self {
        Error::fault(LOGGED, e)
    }
}
