//! Links for people outside, who have no account here.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{AlbumId, LinkId, OriginalId};

/// A link that is to be.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewLink {
    /// It ends after so many days, 1 to 366.
    pub days: u32,
    /// What can be taken along: `previews` (what is shown, up to 2,048 pixels), `copies` (JPEGs in full, without places and all else that is
    /// written in them; of everything else what is shown) or `originals` (as they are).
    pub hands_out: String,
    /// Whoever opens it has to type this, 6 characters at least; none: the link alone is enough.
    #[serde(default)]
    pub passphrase: Option<String>,
    /// Whether whoever opens it may bring pictures of theirs. They wait for whoever made the link.
    #[serde(default)]
    pub takes: bool,
}

/// A link to an album.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Link {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: LinkId,
    /// `previews`, `copies` or `originals`.
    pub hands_out: String,
    /// Whether it asks for a passphrase.
    pub passphrase: bool,
    /// Since when.
    pub made_at: DateTime<Utc>,
    /// Until when.
    pub ends_at: DateTime<Utc>,
    /// So often it was opened.
    pub opened: u64,
    /// When it was opened last.
    pub opened_at: Option<DateTime<Utc>>,
    /// Whether whoever opens it may bring pictures of theirs.
    pub takes: bool,
    /// What is given to somebody outside. Told once, where it is made: only a hash of it is kept.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
}

/// A link of one's own, with its album.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnLink {
    /// The album that it leads to.
    #[schema(value_type = Uuid)]
    pub album: AlbumId,
    /// What that is called.
    pub album_name: String,
    /// The link.
    pub link: Link,
}

/// What is in the address of a link, and what was typed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct OpenLink {
    /// What stands behind the `#`.
    pub secret: String,
    /// The passphrase, once it is asked for.
    #[serde(default)]
    pub passphrase: Option<String>,
}

/// A link was opened: this browser may look from now on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OpenedLink {
    /// The link.
    #[schema(value_type = Uuid)]
    pub id: LinkId,
}

/// What a link shows, page by page.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Outside {
    /// What it is called.
    pub name: String,
    /// What is written about it.
    pub words: String,
    /// Who shows it.
    pub from: String,
    /// Until when.
    pub ends_at: DateTime<Utc>,
    /// What can be taken along: `previews`, `copies` or `originals`.
    pub hands_out: String,
    /// Whether pictures are taken from whoever looks.
    pub takes: bool,
    /// Pictures, newest first; of an album that was arranged, in that order, all at once.
    pub pictures: Vec<OutsidePicture>,
    /// What stands behind the last of them, if the album was arranged so.
    pub words_after: Option<String>,
    /// Give this back as `after` for the next page; none on the last one.
    pub next: Option<String>,
}

/// A picture that a link shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutsidePicture {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// Its file's name.
    pub name: String,
    /// `photo`, `video`, `raw`, `sidecar` or `other`.
    pub kind: String,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// Width in pixels as shown, if known.
    pub width: Option<u32>,
    /// Height in pixels as shown, if known.
    pub height: Option<u32>,
    /// Whether it can be shown.
    pub shown: bool,
    /// Whether it is a film that is played.
    pub plays: bool,
    /// What stands before it, if the album was arranged so; lines are lines.
    pub words_before: Option<String>,
}
