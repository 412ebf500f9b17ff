//! Choosing many pictures, and taking them along.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;
use ypogeion_core::{AlbumId, OriginalId};

/// Where a picture is in the library.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Spot {
    /// What a clock on the wall showed, as the picture's card says it.
    pub taken_local: NaiveDateTime,
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
}

/// Pictures of a month that lie behind each other.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stretch {
    /// The newest of them; none: from the end of the month.
    pub newest: Option<Spot>,
    /// The oldest of them; none: from its beginning.
    pub oldest: Option<Spot>,
}

/// What is chosen of a month.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChosenMonth {
    /// Which, `2026-04`.
    pub month: String,
    /// Pictures that lie behind each other; a stretch without ends is the whole month.
    #[serde(default)]
    pub stretches: Vec<Stretch>,
    /// Pictures one by one.
    #[serde(default)]
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Those that are not meant, though they are in a stretch.
    #[serde(default)]
    #[schema(value_type = Vec<Uuid>)]
    pub except: Vec<OriginalId>,
}

/// What is chosen of one's library, or of an album: at most 10,000 stretches, and as many pictures that are named.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Choice {
    /// The line that the library was looked through with, see `/api/find`; stretches have no other pictures.
    #[serde(default)]
    pub find: Option<String>,
    /// The album that it was chosen in; none: one's own library.
    #[serde(default)]
    #[schema(value_type = Option<Uuid>)]
    pub album: Option<AlbumId>,
    /// Month by month.
    pub months: Vec<ChosenMonth>,
    /// What came after this moment is not meant; none: now.
    #[serde(default)]
    pub as_of: Option<DateTime<Utc>>,
}

/// How much is chosen.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct HowMuch {
    /// Pictures.
    pub pictures: u64,
    /// Files that belong to them.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files without a good copy at home: these can be restored from a store, and are not downloaded.
    pub not_at_home: u64,
    /// What a clock on the wall showed when the oldest was taken; none: nothing is chosen.
    pub oldest: Option<NaiveDateTime>,
    /// When this was so. Say it with what is done next, so that nothing is meant that came meanwhile.
    pub as_of: DateTime<Utc>,
}

/// A page of what is chosen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhichChosen {
    /// What is chosen.
    pub choice: Choice,
    /// `next` of the page before.
    #[serde(default)]
    pub after: Option<Spot>,
}

/// Pictures that are chosen, newest first, at most 1,000.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChosenPictures {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Give this back as `after` for the next page; none: this is the last one.
    pub next: Option<Spot>,
}

/// Many files as one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeZip {
    /// Download it from `/api/zips/{id}/bytes`; ranges work.
    pub id: Uuid,
    /// What it is called.
    pub name: String,
    /// Files of the pictures in it.
    pub files: u64,
    /// Files beside them with what people wrote about them (XMP).
    pub notes: u64,
    /// Its bytes.
    pub length: u64,
    /// Files that are not in it, because they have no good copy at home.
    pub left_out: u64,
    /// Until then it can be downloaded. Each download puts that off.
    pub ends_at: DateTime<Utc>,
}

/// Pictures that somebody likes best, or does not any more; at most 1,000 at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MarkFavourites {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Whether they are favourites from now on.
    pub favourite: bool,
}

/// How many pictures were marked.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Marked {
    /// So many; those that are gone, or somebody else's, are not among them.
    pub count: u64,
}

/// Pictures of one's own that are put away, or back; at most 1,000 at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PutAway {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Whether they are away from now on.
    pub away: bool,
}

/// What is said about pictures of one's own from now on; at most 1,000 at once. No file is changed by it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WriteWords {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// In one line, at most 200 characters; empty: none. Absent: what it was.
    #[serde(default)]
    pub title: Option<String>,
    /// The same at length, at most 5,000; empty: none. Absent: what it was.
    #[serde(default)]
    pub caption: Option<String>,
    /// What their files say, and nothing that somebody wrote: instead of the two.
    #[serde(default)]
    pub as_in_file: bool,
}
