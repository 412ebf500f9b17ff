//! Which part of the house is looked at.

use ypogeion_core::{AlbumId, PersonId};

/// Whose eyes look at which part of the house: at all that is theirs, or at an album. Whether they may see that was asked before.
#[derive(Clone, Copy, Debug)]
pub struct Scope {
    /// Who looks.
    pub viewer: PersonId,
    /// At what; none: their own library.
    pub album: Option<AlbumId>,
    /// Of an album, only at what is theirs in it.
    pub own: bool,
}

impl Scope {
    /// A member's own library.
    pub fn own(viewer: PersonId) -> Self {
        Scope { viewer, album: None, own: true }
    }
}
