//! What the house is told about itself; where that is written is the service's.

use std::path::PathBuf;

use chrono::TimeDelta;
use ypogeion_core::{OriginalId, StoreId, audit::Rhythm};
use ypogeion_library::OpenTo;

/// Everything that the engine can be told.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings {
    /// The service's own folder.
    pub data_folder: PathBuf,
    /// The library.
    pub library: PathBuf,
    /// Who on this machine may read what is in it.
    pub library_open_to: OpenTo,
    /// Kept free, in bytes.
    pub reserve: u64,
    /// How long an unfinished upload is kept.
    pub upload_life: TimeDelta,
    /// Folders of this machine that the keeper may adopt; nothing else of it can be read by way of the console.
    pub adopt_from: Vec<PathBuf>,
    /// Folders of this machine, disks for example, below which the keeper may keep copies.
    pub copy_to: Vec<PathBuf>,
    /// How many files are read at once.
    pub media_workers: usize,
    /// Offsite.
    pub offsite: Offsite,
    /// Checks of copies.
    pub checks: Checks,
}

/// Settings of what goes to the stores.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Offsite {
    /// Originals sent at once.
    pub parallel: usize,
    /// How long after its confirmation an original is read back.
    pub prove_after: TimeDelta,
    /// How long a reading counts as a proof.
    pub proven_for: TimeDelta,
    /// How long confirmations are gathered for the ledger.
    pub ledger_after: TimeDelta,
    /// After so many segments of a ledger, a checkpoint is written.
    pub checkpoint_after: u64,
}

/// Settings of the checks of copies.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Checks {
    /// In what portions, how often and how fast copies are read again.
    pub rhythm: Rhythm,
    /// Time from one drill to the next.
    pub drill_every: TimeDelta,
    /// Originals brought back in a drill.
    pub drill_sample: u64,
}

impl Settings {
    /// The household's key file.
    pub fn key_file(&self) -> PathBuf {
        self.data_folder.join("household.key")
    }

    /// Where the server keeps a key of its own, for its own secrets.
    pub fn own_key_file(&self) -> PathBuf {
        self.data_folder.join("server.key")
    }

    /// Where sealed bodies wait that are too large for memory.
    pub fn spool(&self) -> PathBuf {
        self.data_folder.join("spool")
    }

    /// Where those for one store do.
    pub fn spool_of(&self, store: StoreId) -> PathBuf {
        self.spool().join(store.0.to_string())
    }

    /// Where a preview is. `size` is `small` or `large`.
    pub fn preview_path(&self, id: OriginalId, size: &str) -> PathBuf {
        let name = id.0.simple().to_string();
        // The last digits of a version 7 UUID are random; the first ones are the time.
        self.data_folder.join("previews").join(&name[30..]).join(format!("{id}-{size}.jpg"))
    }

    /// Where a version of a film is that browsers play.
    pub fn film_path(&self, id: OriginalId) -> PathBuf {
        let name = id.0.simple().to_string();
        self.data_folder.join("films").join(&name[30..]).join(format!("{id}.mp4"))
    }
}
