//! Albums in an order that somebody gives them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{OriginalId, arrangement::Step};

use crate::original::OriginalCard;

/// An album in its order.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrangedAlbum {
    /// All that is shown, one after the other.
    pub steps: Vec<ArrangedStep>,
    /// Which arrangement this is; none: nobody arranged it, and it is by time.
    pub version: Option<String>,
}

/// A picture, or words.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrangedStep {
    /// The picture.
    pub picture: Option<OriginalCard>,
    /// What stands there; lines are lines.
    pub words: Option<String>,
}

/// How an album is to be arranged.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Arrange {
    /// Its pictures and the words between, at most 2,000. Pictures of the album that are not named come behind them. None: it is shown by time again.
    #[schema(value_type = Option<Vec<ArrangeStep>>)]
    pub steps: Option<Vec<Step>>,
    /// `version` of the arrangement that was changed: if it is another one by now, nothing is done.
    pub version: Option<String>,
}

/// A picture, or words; one of the two.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ArrangeStep {
    /// The picture, by any of its files.
    #[schema(value_type = Option<Uuid>)]
    pub picture: Option<OriginalId>,
    /// Up to 2,000 characters, and 50,000 in all of an album.
    pub words: Option<String>,
}
