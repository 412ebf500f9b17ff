//! What a device has in its sources, told before anything is hashed or sent: so the server knows what is still to come while
//! the device sleeps.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One source, in numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct SourceInventory {
    /// What it is called.
    pub name: String,
    /// Files that are to be backed up.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Of these, not sent yet, as far as the device knows; absent if it does not say.
    pub fresh: Option<u64>,
    /// Files that the owner's choice leaves out.
    pub left_out: u64,
    /// The owner's choice in a few words; `everything` if nothing was left out by choice.
    pub rule: String,
    /// The platform shows the device only a selection of what is there.
    pub selection_only: bool,
}

/// A device's sources, and what it waits for.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct Inventory {
    /// All sources. Absent: they were not looked through this time, what was said before holds.
    pub sources: Option<Vec<SourceInventory>>,
    /// Why the device does not send just now, in words that complete a sentence; absent if nothing holds it up.
    pub waiting_for: Option<String>,
}
