//! Originals on the home disk.
//!
//! * [`incoming`] takes bytes as they arrive, hashes them once while they stream by, and can go on after an interruption.
//! * [`shelf`] publishes a finished file under its filed name without ever replacing one, reads it back, and tells how
//!   much room there is.
//! * `elsewhere` knows whether a folder is there in which originals were left.
//! * [`presence`] knows whether the library's disk is there at all: what is away is not missing.
//! * [`tree`] looks at folders and archives elsewhere that are to be taken over.
//! * [`within`] opens files below a folder and follows no link out of it.
//! * [`place`] tries out what a disk can do before a library lives on it.
//!
//! The folder that a person sees holds members, years and months and nothing else; what this program needs beside it is
//! in `.ypogeion/` below the same root, so that it is on the same file system.

mod elsewhere;
pub mod incoming;
pub mod place;
pub mod presence;
pub mod shelf;
pub mod tree;
pub mod within;

use std::{io, path::PathBuf};

pub use incoming::{Finished, Incoming, Part, PartWriter};
pub use presence::{Away, LibraryId, Presence, mark_as};
pub use shelf::{Library, NewName, OpenTo, Publish};

/// The folder for this program's own needs inside the library.
pub const OWN_FOLDER: &str = ".ypogeion";

/// What a disk can do to us.
#[derive(Debug, thiserror::Error)]
pub enum LibraryError {
    /// No room is left.
    #[error("could not {what} {}: the disk is full; free some space or lower the reserve", path.display())]
    Full {
        /// The attempt.
        what: &'static str,
        /// On what.
        path: PathBuf,
    },
    /// The file is not there.
    #[error("could not {what} {}: it is not there", path.display())]
    Missing {
        /// The attempt.
        what: &'static str,
        /// On what.
        path: PathBuf,
    },
    /// The library's disk is not there. Of what lies on it nothing is known by that.
    #[error("the library at {} is away: {why}", path.display())]
    Away {
        /// Where it should be.
        path: PathBuf,
        /// Why it counts as away.
        why: Away,
    },
    /// It was left in a folder outside the library that cannot be looked into now. Of it nothing is known by that.
    #[error("could not {what} {}: it was left below {}, where nothing is now; is its disk connected?", path.display(), folder.display())]
    Elsewhere {
        /// The attempt.
        what: &'static str,
        /// On what.
        path: PathBuf,
        /// The first folder on the way to it that is empty, or not there.
        folder: PathBuf,
    },
    /// Another service uses this library.
    #[error("the library at {} is in use by another service", .0.display())]
    InUse(PathBuf),
    /// Anything else the system said.
    #[error("could not {what} {}", path.display())]
    Io {
        /// The attempt.
        what: &'static str,
        /// On what.
        path: PathBuf,
        /// What the system said.
        #[source]
        source: io::Error,
    },
}

pub(crate) fn failed(what: &'static str, path: impl Into<PathBuf>) -> impl FnOnce(io::Error) -> LibraryError {
    let path = path.into();
    move |source| match source.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => LibraryError::Full { what, path },
        io::ErrorKind::NotFound => LibraryError::Missing { what, path },
        _ => LibraryError::Io { what, path, source },
    }
}

#[cfg(test)]
mod tests {
    /// An error with everything below it, in one line.
    pub fn chain(error: &dyn std::error::Error) -> String {
        std::iter::successors(Some(error), |e| e.source()).map(ToString::to_string).collect::<Vec<_>>().join(": ")
    }
}
