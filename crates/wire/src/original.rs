//! The library: months, originals, evidence.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::{Digest, OriginalId, PersonId, StoreId, state::Layer};

use crate::{
    album::AlbumName,
    given::{SaidWhen, SaidWhere},
};

/// A month and how much is in it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Month {
    /// `2026-04`, by the local time of capture.
    pub month: String,
    /// Originals.
    pub count: u64,
}

/// How the pictures of a month lie.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MonthShape {
    /// Base64 of one byte for each picture, newest first: how wide it is for its height. 0: not known; otherwise
    /// `128 + 32 · log₂(width ÷ height)`, rounded, from 1 to 255.
    pub proportions: String,
    /// Pictures in a portion.
    pub portion: u32,
    /// `after` for each portion of the month but the first, in order.
    pub starts: Vec<String>,
}

/// An original as the contact sheet shows it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OriginalCard {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// File name in the library.
    pub name: String,
    /// Where it is in the library.
    pub path: String,
    /// `photo`, `video`, `raw`, `sidecar` or `other`.
    pub kind: String,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// Width in pixels as shown, if known.
    pub width: Option<u32>,
    /// Height in pixels as shown, if known.
    pub height: Option<u32>,
    /// Quarters to the right that somebody turned it by: its preview is turned, too, and another one than before.
    pub turned: u8,
    /// Length in seconds, for video.
    pub seconds: Option<f64>,
    /// `home`, `offsite` or `proven` (`device` if the copy at home is damaged and there is no other). None: it is somebody else's.
    pub layer: Option<Layer>,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// A tiny placeholder (thumbhash), base64.
    pub placeholder: Option<String>,
    /// What else belongs to its shot: `edited`, `still`, `twin`, `video`, `raw`, `motion`, `other`, `sidecar`.
    pub company: Vec<String>,
    /// Whether whoever asks likes it best.
    pub favourite: bool,
    /// What is said about it, in short: its title, or the first line of its caption.
    pub words: Option<String>,
    /// Whether it is one's own; of others, in albums.
    pub own: bool,
}

/// A page of originals, newest first.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Originals {
    /// The originals.
    pub originals: Vec<OriginalCard>,
    /// Give this back as `after` for the next page; absent on the last one.
    pub next: Option<String>,
}

/// One observation.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Evidence {
    /// `home` or the store's name.
    pub place: String,
    /// `landed`, `reread`, `confirmed`, `opened`, `listed` or `compared`.
    pub act: String,
    /// When.
    pub at: DateTime<Utc>,
    /// `right`, `wrong` or `missing`.
    pub outcome: String,
    /// The hash that was found.
    pub digest: Option<String>,
}

/// A file of a shot.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShotPart {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// What it is to the shot: `edited`, `still`, `twin`, `video`, `raw`, `motion`, `other` or `sidecar`.
    pub part: String,
    /// Whether it can be brought forward, to stand for the picture.
    pub can_stand: bool,
    /// Whether it is a file of this picture because its owner says so: that can be taken back. Told to its owner.
    pub said: bool,
    /// File name in the library.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// `photo`, `video`, `raw`, `sidecar` or `other`.
    pub kind: String,
}

/// Of which picture a file is a version.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct SayVersion {
    /// A file of that picture; none: it is a picture by itself again.
    #[schema(value_type = Option<Uuid>)]
    pub of: Option<OriginalId>,
}

/// Which file of a picture is shown.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct BringForward {
    /// Whether this one; otherwise the one that is shown by the rules: an edited version before the still it was made from.
    pub forward: bool,
}

/// Which one that is now.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct Forward {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
}

/// A file that was made from an original.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DerivedFile {
    /// Its name.
    pub name: String,
    /// Its bytes.
    pub size: u64,
}

/// What is said about a picture; empty: nothing.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PictureWords {
    /// In one line, at most 200 characters.
    pub title: String,
    /// The same at length, at most 5,000.
    pub caption: String,
    /// When somebody wrote it; none: its file says it.
    pub written_at: Option<DateTime<Utc>>,
    /// Who that was, if they are still there.
    pub written_by: Option<String>,
    /// What its file says, where somebody wrote over that.
    pub in_file: Option<FileWords>,
}

/// What browsers can do with a film.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FilmVersion {
    /// `plays`: they play it as it is. `made`: they play a version that was made from it, at `/api/originals/{id}/film`. `none`: none could be made.
    pub state: String,
    /// Bytes of the version that was made.
    pub size: Option<u64>,
    /// Why none could be made.
    pub why: Option<String>,
}

/// What a file says about itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FileWords {
    /// In one line.
    pub title: String,
    /// The same at length.
    pub caption: String,
}

/// An original with all that is known of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Original {
    /// Its id.
    #[schema(value_type = Uuid)]
    pub id: OriginalId,
    /// Whose it is.
    #[schema(value_type = Uuid)]
    pub person: PersonId,
    /// The member's name.
    pub person_name: String,
    /// Whether it is one's own. Of somebody else's, that an album shows, nothing is told of the house: neither folders nor devices nor copies.
    pub own: bool,
    /// The albums that it is in: of one's own all, of somebody else's those that one sees.
    pub albums: Vec<AlbumName>,
    /// Whether whoever asks likes it best.
    pub favourite: bool,
    /// Whether it was put away: it is in the library for those who ask for it.
    pub put_away: bool,
    /// Whether it stands for its picture because its owner brought it forward.
    pub brought_forward: bool,
    /// What is said about it.
    pub words: PictureWords,
    /// Of a film: what browsers can do with it. None: nobody has looked yet, or it is none.
    pub film: Option<FilmVersion>,
    /// Whether it is a picture that carries a film in its own file: the second before and after the press. `film` is about that then.
    pub film_inside: bool,
    /// Where it is in the member's library, as the console's page says it in its address: its month, and how many pictures of that are newer
    /// (`2026-04.37`). None: another file stands for its picture there.
    pub at: Option<String>,
    /// The next newer picture of the member's library.
    #[schema(value_type = Option<Uuid>)]
    pub newer: Option<OriginalId>,
    /// The next older one.
    #[schema(value_type = Option<Uuid>)]
    pub older: Option<OriginalId>,
    /// What the device called it.
    pub name: String,
    /// Where it is in the library.
    pub path: String,
    /// `photo`, `video`, `raw`, `sidecar` or `other`.
    pub kind: String,
    /// Media type, if the bytes told.
    pub media_type: Option<String>,
    /// SHA-256.
    #[schema(value_type = String)]
    pub digest: Digest,
    /// Bytes.
    pub size: u64,
    /// The instant it was taken.
    pub taken_at: DateTime<Utc>,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// The rule that decided, in one word.
    pub taken_rule: String,
    /// The same for a person.
    pub taken_sentence: String,
    /// How far that can be trusted: `high`, `medium` or `low`.
    pub taken_confidence: String,
    /// Whether the time was put right afterwards, because the device's clock was wrong.
    pub taken_corrected: bool,
    /// That somebody said when it was taken.
    pub time_said: Option<SaidWhen>,
    /// The files of its shot, itself included; the one that stands for the shot first.
    pub parts: Vec<ShotPart>,
    /// When it came home.
    pub landed_at: DateTime<Utc>,
    /// The device that sent it first.
    pub device_name: Option<String>,
    /// Width in pixels as shown.
    pub width: Option<u32>,
    /// Height in pixels as shown.
    pub height: Option<u32>,
    /// Quarters to the right that somebody turned it by: its preview is turned, too, and another one than before.
    pub turned: u8,
    /// Length in seconds.
    pub seconds: Option<f64>,
    /// Maker and model.
    pub camera: Option<String>,
    /// Lens.
    pub lens: Option<String>,
    /// Exposure as people write it.
    pub exposure: Option<String>,
    /// Degrees north and east.
    pub place: Option<(f64, f64)>,
    /// That somebody said where it was taken, or that it has no place; of one's own.
    pub place_said: Option<SaidWhere>,
    /// The nearest town: `near Leiden, Netherlands`. None: it has no place, or nobody has found out yet.
    pub near: Option<String>,
    /// What could not be read of it, if anything.
    pub read_problem: Option<String>,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// A JPEG that was made from it and lies beside it, for readers that know no HEIC.
    pub derived: Option<DerivedFile>,
    /// `device`, `home`, `offsite` or `proven`.
    pub layer: Option<Layer>,
    /// The good copies of it in stores; of one's own.
    pub copies: Vec<StoreCopy>,
    /// What it lacks of three copies, in two kinds of place, one of them away from home: `needs 1 more copy`; none if it lacks nothing.
    pub needs: Option<String>,
    /// What was observed, newest first.
    pub evidence: Vec<Evidence>,
}

/// A good copy in a store.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoreCopy {
    /// Which store.
    #[schema(value_type = Uuid)]
    pub store: StoreId,
    /// What it is called.
    pub name: String,
}
