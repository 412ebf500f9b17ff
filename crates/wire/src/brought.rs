//! What people outside brought by a link.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{AlbumId, OriginalId};

use crate::amount::Amount;

/// What waits for whoever asks, what came last first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BroughtPictures {
    /// All that waits.
    pub waiting: Amount,
    /// Up to 200 of them; the others follow when something was done with these.
    pub pictures: Vec<BroughtPicture>,
}

/// A picture that was brought and not taken yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BroughtPicture {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// Its file's name.
    pub name: String,
    /// `photo`, `video`, `raw`, `sidecar` or `other`.
    pub kind: String,
    /// Bytes.
    pub size: u64,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// Width in pixels as shown, if known.
    pub width: Option<u32>,
    /// Height in pixels as shown, if known.
    pub height: Option<u32>,
    /// Quarters to the right by which somebody turned it: another one has another preview.
    pub turned: u8,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// The album that it was brought for; none: it was removed meanwhile.
    #[schema(value_type = Option<Uuid>)]
    pub album: Option<AlbumId>,
    /// What that is called.
    pub album_name: Option<String>,
    /// Who said that they sent it; empty: they said nothing.
    pub by: String,
    /// When it came.
    pub at: DateTime<Utc>,
}

/// What becomes of pictures that were brought; at most 1,000 at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JudgeBrought {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Whether they are taken: into one's library, and into the album that they were brought for. Otherwise they are deleted, and can be brought back.
    pub take: bool,
}

/// What was done.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct BroughtDone {
    /// So many were there.
    pub count: u64,
}
