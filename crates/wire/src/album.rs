//! Albums: pictures that somebody gathers, alone or with others.

use chrono::NaiveDateTime;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{AlbumId, OriginalId, PersonId};

/// An album as whoever asks sees it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Album {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: AlbumId,
    /// Its name.
    pub name: String,
    /// What its owner writes about it; lines are lines.
    pub words: String,
    /// Whose it is.
    #[schema(value_type = Uuid)]
    pub owner: PersonId,
    /// Their name.
    pub owner_name: String,
    /// What whoever asks may do: `look`, `add` (pictures of their own), or `own`.
    pub may: String,
    /// What everybody may who lives here and is no guest: `look` or `add`; none: only whom it is shared with by name sees it.
    pub household: Option<String>,
    /// So many people it is shared with by name.
    pub shared_with: u64,
    /// Whether whoever owns it arranged it: it is shown in that order, with the words between.
    pub arranged: bool,
    /// Everybody in the household but its owner, and what each may by name. Told to its owner alone, unless they are a guest, and where one album is
    /// asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub people: Vec<AlbumPerson>,
    /// Pictures in it.
    pub pictures: u64,
    /// When the oldest of them was taken.
    pub oldest: Option<NaiveDateTime>,
    /// When the newest of them was taken.
    pub newest: Option<NaiveDateTime>,
    /// The picture that stands for it: the one that was chosen for that, or the newest. None: it is empty.
    #[schema(value_type = Option<Uuid>)]
    pub cover: Option<OriginalId>,
    /// Whether that one was chosen.
    pub cover_chosen: bool,
    /// The line that it follows: what of its owner's pictures that finds is in it by itself. Told to its owner alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follows: Option<String>,
    /// Why it does not follow that at present, as a sentence. Told where one album is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follows_not: Option<String>,
}

/// Somebody in the household, and what they may with an album.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlbumPerson {
    /// Who.
    #[schema(value_type = Uuid)]
    pub person: PersonId,
    /// Their name.
    pub name: String,
    /// Whether they are a guest: they see only what is shared with them by name.
    pub guest: bool,
    /// `look`, `add`, or none: it is not shared with them by name.
    pub may: Option<String>,
}

/// Somebody whom an album is shared with.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlbumShare {
    /// Who.
    #[schema(value_type = Uuid)]
    pub person: PersonId,
    /// `look`, or `add`: pictures of their own, too.
    pub may: String,
}

/// An album that is to be.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewAlbum {
    /// Its name, up to 100 characters.
    pub name: String,
    /// What is written about it, up to 2,000.
    #[serde(default)]
    pub words: String,
    /// The line that it follows, if it does: as in `/api/find`, up to 500 characters.
    #[serde(default)]
    pub follows: Option<String>,
}

/// What is to be otherwise with an album; what is not said stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AlbumChange {
    /// Its name, up to 100 characters.
    #[serde(default)]
    pub name: Option<String>,
    /// What is written about it, up to 2,000.
    #[serde(default)]
    pub words: Option<String>,
    /// What everybody may who lives here and is no guest: `look`, `add`, or `nothing`.
    #[serde(default)]
    pub household: Option<String>,
    /// Whom it is shared with by name from now on, all of them.
    #[serde(default)]
    pub with: Option<Vec<AlbumShare>>,
    /// The picture that stands for it; one that is in it.
    #[serde(default)]
    #[schema(value_type = Option<Uuid>)]
    pub cover: Option<OriginalId>,
    /// The line that it follows from now on, as in `/api/find`; empty: it follows none, and what is in it stays.
    #[serde(default)]
    pub follows: Option<String>,
}

/// Pictures to be put into an album, or taken out of it; at most 1,000 at once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlbumPictures {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// Whether they are in it from now on.
    pub inside: bool,
}

/// What became of them.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlbumFilled {
    /// So many were put in, or taken out.
    pub count: u64,
    /// So many were in it before. Those that are gone, or somebody else's, are in neither number.
    pub there: u64,
}

/// An album by its name alone.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlbumName {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: AlbumId,
    /// Its name.
    pub name: String,
    /// Whether one sees it: a picture of one's own may be in an album that is shared with one no more. It can be taken out all the same.
    pub seen: bool,
}
