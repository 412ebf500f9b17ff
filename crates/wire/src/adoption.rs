//! Adoptions: taking over what lies on an old disk or in an archive.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::{
    PersonId,
    state::{AdoptionOrder, AdoptionState, LeftFolderState},
};

/// A folder or archive that may be adopted.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AdoptablePlace {
    /// Its whole path on the server.
    pub path: String,
    /// Its name.
    pub name: String,
    /// Whether it is an archive and not a folder.
    pub archive: bool,
}

/// What can be adopted: what is in one folder of the server.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AdoptablePlaces {
    /// The folder that was looked into; empty for the list of folders that the settings name.
    pub folder: String,
    /// The folder above, if it may be adopted, too.
    pub above: Option<String>,
    /// What is in it.
    pub places: Vec<AdoptablePlace>,
    /// There is more in it than is listed.
    pub more: bool,
}

/// Look through a folder or archive. Nothing is taken yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewAdoption {
    /// The folder or archive on the server.
    pub path: String,
    /// Whose originals they are to be.
    #[schema(value_type = Uuid)]
    pub person: PersonId,
    /// `true`: they stay where they are and the library points to them. `false`: they are copied.
    pub in_place: bool,
    /// `true`: files of any sort; `false`: pictures, videos, and words about them.
    #[serde(default)]
    pub everything: bool,
}

/// What is to happen with an adoption.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AdoptionChange {
    /// `begin` (a plan), `pause`, `resume`, `stop`, or `try-again` (what failed).
    pub order: AdoptionOrder,
}

/// A number of files and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Tally {
    /// How many.
    pub files: u64,
    /// Bytes.
    pub bytes: u64,
}

/// An adoption, and how far it has come.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Adoption {
    /// Its id.
    pub id: Uuid,
    /// The folder or archive on the server.
    pub path: String,
    /// Whose originals they become.
    pub person_name: String,
    /// They stay where they are.
    pub in_place: bool,
    /// Files of any sort are taken.
    pub everything: bool,
    /// Who began it.
    pub made_by: String,
    /// When.
    pub began_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// `looking`, `planned`, `running`, `paused`, `done` or `stopped`.
    pub state: AdoptionState,
    /// Why it does not go on by itself, and what to do.
    pub problem: Option<String>,
    /// To be taken.
    pub files: Tally,
    /// Of these, here already as far as the plan could tell.
    pub known: Tally,
    /// Of these, still waiting.
    pub waiting: Tally,
    /// Copied into the library.
    pub copied: Tally,
    /// Pointed to from the library.
    pub pointed: Tally,
    /// Here already when it came to them.
    pub present: Tally,
    /// Could not be taken.
    pub failed: Tally,
    /// Left where they are.
    pub left_out: Tally,
    /// Bytes that the member's quota and the home disk have room for now; none while the disk is not connected and nobody knows.
    pub room: Option<u64>,
}

/// A folder outside the library in which originals were left.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LeftFolder {
    /// Where it is on the server.
    pub path: String,
    /// How it stands with it.
    pub state: LeftFolderState,
    /// Since when it is empty or not there, as far as anybody has noticed; none: it is there.
    pub unseen_since: Option<DateTime<Utc>>,
}

/// Whether a folder that is out of reach comes back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LeftFolderChange {
    /// Which, as it is listed.
    pub path: String,
    /// It does not come back.
    pub given_up: bool,
}

/// A file of an adoption.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AdoptedFile {
    /// The archive that it is in; empty outside of one.
    pub archive: String,
    /// Where in the folder or archive.
    pub path: String,
    /// Bytes.
    pub size: u64,
    /// Why.
    pub reason: Option<String>,
}
