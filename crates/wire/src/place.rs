//! Where pictures were taken.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::OriginalId;

/// A cell of a map with pictures in it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MapCell {
    /// Degrees north and east, in the middle of its pictures.
    pub at: (f64, f64),
    /// How many pictures.
    pub count: u64,
    /// One of them.
    #[schema(value_type = Uuid)]
    pub picture: OriginalId,
    /// Its preview: `waiting`, `ready` or `none`.
    pub preview: String,
    /// Quarters to the right that somebody turned it by: its preview is turned, too, and another one than before.
    pub turned: u8,
    /// What all of them were taken near: `near Leiden, Netherlands`. None: the cell is too large for that, there is no town, or nobody has found out yet.
    pub near: Option<String>,
    /// The line that finds the pictures of this cell, see `/api/find`.
    pub line: String,
}

/// What a map shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MapCells {
    /// The cells, those with most pictures first.
    pub cells: Vec<MapCell>,
    /// Not all are told, or not all pictures are counted: there were too many.
    pub more: bool,
}

/// A town that pictures were taken near.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Town {
    /// Its name.
    pub name: String,
    /// The region that it is in; perhaps empty.
    pub region: String,
    /// Its country's name.
    pub country: String,
    /// Degrees north and east.
    pub at: (f64, f64),
    /// How many pictures.
    pub count: u64,
    /// The newest of them.
    #[schema(value_type = Uuid)]
    pub picture: OriginalId,
}
