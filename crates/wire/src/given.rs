//! What people say about when and where their pictures were taken, and how they turn them.

use chrono::{DateTime, NaiveDateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use ypogeion_core::OriginalId;

/// Where pictures of one's own were taken, at most 1,000 at once; one of the three. No file is changed by it.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SayWhere {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// There: degrees north and east.
    #[serde(default)]
    pub at: Option<(f64, f64)>,
    /// They have no place, whatever their files say.
    #[serde(default)]
    pub nowhere: bool,
    /// What their files say counts again.
    #[serde(default)]
    pub as_in_file: bool,
}

/// Where pictures of one's own were taken, at most 1,000 at once, by a track of where somebody was then.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlongTrack {
    /// Their ids.
    #[serde(default)]
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// In their place: all of one's own that were taken while the track was written, at most 10,000.
    #[serde(default)]
    pub taken_meanwhile: bool,
    /// Nothing is done, and said is what would be.
    #[serde(default)]
    pub only_say: bool,
    /// The track, as GPX 1.0 or 1.1; points without a time tell nothing. At most 8 MiB with all else that is said here.
    pub gpx: String,
    /// Also those that have a place already.
    #[serde(default)]
    pub also_placed: bool,
}

/// What came of following a track.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Along {
    /// So many pictures have the place where somebody was then.
    pub count: u64,
    /// So many had a place, and keep it.
    pub placed: u64,
    /// Of so many the track does not tell where somebody was: none of its points is within 5 minutes, and no two around are within 15 of each other.
    pub off_it: u64,
    /// When the track begins.
    pub from: Option<DateTime<Utc>>,
    /// When it ends.
    pub until: Option<DateTime<Utc>>,
}

/// When pictures of one's own were taken, at most 1,000 at once; one of the two. No file is changed by it; all are filed where they belong then.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SayWhen {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// So many seconds later than what is known now; less than 0: earlier.
    #[serde(default)]
    pub later_by: Option<i64>,
    /// What was known before anybody said anything counts again.
    #[serde(default)]
    pub as_before: bool,
}

/// Which side of pictures of one's own is up, at most 1,000 at once; one of the two. No file is changed by it: what is shown of them is. Films stay as they are.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TurnPictures {
    /// Their ids.
    #[schema(value_type = Vec<Uuid>)]
    pub pictures: Vec<OriginalId>,
    /// So many quarters more to the right, 1 to 3; less than 0: to the left.
    #[serde(default)]
    pub quarters: Option<i8>,
    /// They are shown as their files say.
    #[serde(default)]
    pub as_in_file: bool,
}

/// That somebody said when a picture was taken.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SaidWhen {
    /// When they did.
    pub at: DateTime<Utc>,
    /// Who that was, if they are still there.
    pub by: Option<String>,
    /// What a clock on the wall showed by what was known before.
    pub before: NaiveDateTime,
}

/// That somebody said where a picture was taken, or that it has no place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SaidWhere {
    /// When they did.
    pub at: DateTime<Utc>,
    /// Who that was, if they are still there.
    pub by: Option<String>,
    /// Degrees north and east, as its file says.
    pub in_file: Option<(f64, f64)>,
}

/// A picture with a place that was taken shortly before or after another one.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Beside {
    /// Which.
    #[schema(value_type = Uuid)]
    pub picture: OriginalId,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// Degrees north and east.
    pub at: (f64, f64),
    /// What it was taken near: `near Leiden, Netherlands`. None: nobody has found out yet.
    pub near: Option<String>,
    /// Quarters to the right that somebody turned it by.
    pub turned: u8,
}
