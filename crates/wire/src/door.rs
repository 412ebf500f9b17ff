//! A house that is not set up yet: making its household, or bringing one back.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The header that carries the code which the service printed when it started. Whoever can read that looks after the machine.
pub const CODE_HEADER: &str = "x-ypogeion-code";

/// What stands between this machine and a household.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Door {
    /// `open`: nothing is under way. `busy`: a household is being made or brought back. `through`: it is there, and the service starts.
    pub state: String,
    /// A bringing back was begun here and did not end; giving the kit again goes on with it, and nothing else can be done.
    pub begun: bool,
    /// The library's folder, as the settings name it.
    pub library: String,
    /// What there is to think about before the library lives there, the gravest first; empty if it is a good place.
    pub warnings: Vec<String>,
    /// Whether one of these has to be accepted.
    pub grave: bool,
    /// What bringing back has said so far, a line each.
    pub told: Vec<String>,
    /// Why the last attempt ended without a household.
    pub failed: Option<String>,
}

/// A household to be made.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewHousehold {
    /// What it calls itself, 1 to 60 characters.
    pub household: String,
    /// The keeper's name.
    pub keeper: String,
    /// The keeper's password, at least ten characters.
    pub password: String,
    /// Use the library's place in spite of a grave warning.
    #[serde(default)]
    pub accept_place: bool,
}

/// A household to be brought back.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct BringBack {
    /// The recovery kit's text.
    pub kit: String,
    /// A new password for the keeper, at least ten characters.
    pub password: String,
    /// The store's address, if it is not the one in the kit any more.
    pub endpoint: Option<String>,
    /// Use the library's place in spite of a grave warning.
    #[serde(default)]
    pub accept_place: bool,
}
