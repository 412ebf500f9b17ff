//! When was it taken? The facts a file carries, in the order in which they are believed.
//!
//! The order, and why, is written down for keepers in `docs/formats/capture-time.md`; [`decide`] is that page as code.

use chrono::{
    DateTime, FixedOffset, LocalResult, NaiveDate, NaiveDateTime, NaiveTime, Offset, SubsecRound, TimeDelta, TimeZone, Utc,
};
use serde::{Deserialize, Serialize};

use crate::kind::MediaKind;

/// What was read out of a file. All optional: a fact that is not there is `None`, never a default.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Facts {
    /// What the bytes say the file is, if they say it.
    pub kind: Option<MediaKind>,
    /// The media type (RFC 6838) found from the bytes.
    pub media_type: Option<String>,
    /// Width in pixels, as shown (after orientation, and turned as somebody said).
    pub width: Option<u32>,
    /// Height in pixels, as shown.
    pub height: Option<u32>,
    /// EXIF orientation, 1 to 8.
    pub orientation: Option<u8>,
    /// Quarters to the right that somebody turned it by, beside what its file says: the database adds them.
    #[serde(skip_serializing_if = "is_zero")]
    pub turned: u8,
    /// Length in seconds, for video.
    pub seconds: Option<f64>,
    /// Maker and model of the camera.
    pub camera: Option<String>,
    /// Lens model.
    pub lens: Option<String>,
    /// Exposure as people write it: `1/250 s, f/2.8, ISO 100, 35 mm`.
    pub exposure: Option<String>,
    /// Degrees north and east.
    pub place: Option<(f64, f64)>,
    /// EXIF DateTimeOriginal with its sub-seconds: the camera's clock, no zone.
    pub exif_original: Option<NaiveDateTime>,
    /// EXIF OffsetTimeOriginal, in minutes east of UTC.
    pub exif_offset_minutes: Option<i32>,
    /// EXIF GPSDateStamp and GPSTimeStamp: UTC, from the satellites.
    pub exif_gps: Option<NaiveDateTime>,
    /// EXIF DateTimeDigitized, or DateTime if that is all there is.
    pub exif_digitized: Option<NaiveDateTime>,
    /// QuickTime's `creationdate` key: local time with its offset.
    pub quicktime_local: Option<DateTime<FixedOffset>>,
    /// The movie header's creation time: UTC by ISO/IEC 14496-12.
    pub video_utc: Option<NaiveDateTime>,
    /// What words inside the file, or a sidecar's own words, say: an XMP packet, or the JSON of an export.
    pub told: Option<Told>,
    /// What it says about itself, in one line.
    pub title: Option<String>,
    /// The same at length.
    pub caption: Option<String>,
    /// The identifier that a still and its moving half share.
    pub pair: Option<String>,
    /// The film that a picture carries in its own file.
    pub film_inside: Option<FilmInside>,
    /// What could not be read, in a few words.
    pub problem: Option<String>,
}

/// Where in a picture's file its film is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FilmInside {
    /// Bytes before it.
    pub at: u64,
    /// Its own.
    pub length: u64,
}

fn is_zero(n: &u8) -> bool {
    *n == 0
}

/// A time as people and programs write it down: local, with or without the offset.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    /// What a clock on the wall showed.
    pub local: NaiveDateTime,
    /// Minutes east of UTC, if that was said.
    pub offset_minutes: Option<i32>,
}

/// Which fact decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CaptureRule {
    /// Camera time with the offset the camera wrote.
    ExifOffset,
    /// Camera time, its offset worked out from the satellites' UTC.
    ExifGps,
    /// Camera time, taken as the household's own zone.
    ExifLocal,
    /// Local time with offset from a QuickTime file.
    QuicktimeLocal,
    /// UTC from the movie header.
    VideoUtc,
    /// The satellites' UTC, where the camera's own time is missing.
    GpsUtc,
    /// Words inside the file.
    Told,
    /// Words in a file beside it.
    Sidecar,
    /// The time the picture was digitised or last written by a program.
    ExifDigitized,
    /// A date and time in the file's name.
    Name,
    /// The file's time on the device.
    FileTime,
    /// Nothing is known: the time it was received.
    Received,
}

impl CaptureRule {
    /// Every rule, strongest first.
    pub const ALL: [CaptureRule; 12] = [
        Self::ExifOffset,
        Self::ExifGps,
        Self::ExifLocal,
        Self::QuicktimeLocal,
        Self::VideoUtc,
        Self::GpsUtc,
        Self::Told,
        Self::Sidecar,
        Self::ExifDigitized,
        Self::Name,
        Self::FileTime,
        Self::Received,
    ];

    /// The word stored in the database and in the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Self::ExifOffset => "exif-offset",
            Self::ExifGps => "exif-gps",
            Self::ExifLocal => "exif-local",
            Self::QuicktimeLocal => "quicktime-local",
            Self::VideoUtc => "video-utc",
            Self::GpsUtc => "gps-utc",
            Self::Told => "told",
            Self::Sidecar => "sidecar",
            Self::ExifDigitized => "exif-digitized",
            Self::Name => "name",
            Self::FileTime => "file-time",
            Self::Received => "received",
        }
    }

    /// The same for a person.
    pub fn sentence(self) -> &'static str {
        match self {
            Self::ExifOffset => "from the camera, with its time zone",
            Self::ExifGps => "from the camera; the zone from its satellite time",
            Self::ExifLocal => "from the camera, which named no zone; taken as home time",
            Self::QuicktimeLocal => "from the video, with its time zone",
            Self::VideoUtc => "from the video, which keeps universal time",
            Self::GpsUtc => "from the satellites; the camera wrote no time of its own",
            Self::Told => "from a description that a program wrote into the file",
            Self::Sidecar => "from the description in the file beside it",
            Self::ExifDigitized => "from the picture: when it was scanned or saved",
            Self::Name => "from the file's name; taken as home time",
            Self::FileTime => "from the file's date on the device",
            Self::Received => "not known; this is when it arrived",
        }
    }
}

/// How far a capture time can be trusted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Confidence {
    /// A guess: it may be years off.
    Low,
    /// Right if the clock or the person was; the zone is assumed.
    Medium,
    /// An instant, with its zone or in universal time.
    High,
}

impl Confidence {
    /// The word on the wire.
    pub fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
        }
    }
}

impl CaptureRule {
    /// The rule for a stored word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|r| r.word() == word)
    }

    /// How far a time by this rule can be trusted.
    pub fn confidence(self) -> Confidence {
        match self {
            Self::ExifOffset | Self::ExifGps | Self::QuicktimeLocal | Self::VideoUtc | Self::GpsUtc => Confidence::High,
            Self::ExifLocal | Self::Told | Self::Sidecar | Self::Name => Confidence::Medium,
            Self::ExifDigitized | Self::FileTime | Self::Received => Confidence::Low,
        }
    }

    /// Whether the file itself says when it was taken, to the second. Names, words and file times are too coarse to tell one
    /// press of the shutter from the next.
    pub fn is_of_the_file(self) -> bool {
        matches!(
            self,
            Self::ExifOffset
                | Self::ExifGps
                | Self::ExifLocal
                | Self::QuicktimeLocal
                | Self::VideoUtc
                | Self::GpsUtc
                | Self::ExifDigitized
        )
    }

    /// Whether the time came from the camera's own clock, which may have been wrong. What satellites, people and other
    /// machines say is not corrected with it.
    pub fn by_camera_clock(self) -> bool {
        matches!(
            self,
            Self::ExifOffset
                | Self::ExifGps
                | Self::ExifLocal
                | Self::QuicktimeLocal
                | Self::VideoUtc
                | Self::ExifDigitized
                | Self::Name
        )
    }
}

/// A capture time and where it came from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Captured {
    /// The instant.
    pub at: DateTime<Utc>,
    /// What a clock on the wall showed; decides the folder.
    pub local: NaiveDateTime,
    /// The rule that decided.
    pub rule: CaptureRule,
}

/// Nothing was photographed before this year began: the oldest photograph that is kept is of 1826 or 1827.
pub const EARLIEST: NaiveDateTime = NaiveDate::from_ymd_opt(1826, 1, 1).expect("a date").and_time(NaiveTime::MIN);

/// Decides when an original was taken.
///
/// `sidecar` is what a file beside it says, if there is one; `zone` is the household's own; `file_time` is the modification
/// time that the device reported; `received` is now.
/// Times before 1826 (the first photograph) or more than two days after `received` are not believed and the next fact is
/// asked: cameras with a flat battery write 0000 or 1904.
pub fn decide<Z: TimeZone>(
    facts: &Facts,
    sidecar: Option<Told>,
    name: &str,
    file_time: Option<DateTime<Utc>>,
    received: DateTime<Utc>,
    zone: &Z,
) -> Captured {
    let believable = |c: &Captured| c.local >= EARLIEST && c.at <= received + TimeDelta::days(2);
    let here = |local: NaiveDateTime, rule| Captured { at: in_zone(local, zone), local, rule };
    let utc = |at: DateTime<Utc>, rule| {
        let local =
            at.naive_utc() + TimeDelta::seconds(zone.offset_from_utc_datetime(&at.naive_utc()).fix().local_minus_utc().into());
        Captured { at, local, rule }
    };
    let camera = facts.exif_original.map(|local| match (offset_of(facts.exif_offset_minutes), facts.exif_gps) {
        (Some(offset), _) => shifted(local, offset, CaptureRule::ExifOffset),
        (None, Some(gps)) => match offset_between(local, gps) {
            Some(offset) => shifted(local, offset, CaptureRule::ExifGps),
            None => here(local, CaptureRule::ExifLocal),
        },
        (None, None) => here(local, CaptureRule::ExifLocal),
    });
    let told = |told: Told, rule| match offset_of(told.offset_minutes) {
        Some(offset) => shifted(told.local, offset, rule),
        None => here(told.local, rule),
    };
    let candidates = [
        camera,
        facts.quicktime_local.map(|t| Captured { at: t.to_utc(), local: t.naive_local(), rule: CaptureRule::QuicktimeLocal }),
        // 1904-01-01 is the zero of that clock, and some recorders never set it.
        facts.video_utc.filter(|t| *t > epoch(1970)).map(|t| utc(t.and_utc(), CaptureRule::VideoUtc)),
        facts.exif_gps.map(|t| utc(t.and_utc(), CaptureRule::GpsUtc)),
        facts.told.map(|t| told(t, CaptureRule::Told)),
        sidecar.map(|t| told(t, CaptureRule::Sidecar)),
        facts.exif_digitized.map(|local| here(local, CaptureRule::ExifDigitized)),
        from_name(name).map(|local| here(local, CaptureRule::Name)),
        file_time.filter(|t| t.naive_utc() > epoch(1980)).map(|at| utc(at, CaptureRule::FileTime)),
    ];
    let chosen = candidates.into_iter().flatten().find(believable).unwrap_or_else(|| utc(received, CaptureRule::Received));
    // Catalogue and ledger keep microseconds. A file's time on the disk is the same, so that a copy that comes back has it, too.
    Captured { at: chosen.at.trunc_subsecs(6), local: chosen.local.trunc_subsecs(6), ..chosen }
}

fn epoch(year: i32) -> NaiveDateTime {
    NaiveDate::from_ymd_opt(year, 1, 2).expect("a date").and_hms_opt(0, 0, 0).expect("a time")
}

fn offset_of(minutes: Option<i32>) -> Option<FixedOffset> {
    minutes.and_then(|m| FixedOffset::east_opt(m.checked_mul(60)?))
}

fn shifted(local: NaiveDateTime, offset: FixedOffset, rule: CaptureRule) -> Captured {
    Captured { at: (local - TimeDelta::seconds(offset.local_minus_utc().into())).and_utc(), local, rule }
}

/// Offsets are multiples of fifteen minutes; the camera's clock may be some minutes off, and the satellite fix some old.
fn offset_between(local: NaiveDateTime, gps: NaiveDateTime) -> Option<FixedOffset> {
    let minutes = (local - gps).num_minutes();
    let rounded = (minutes as f64 / 15.0).round() as i64 * 15;
    let plausible = (-12 * 60..=14 * 60).contains(&rounded) && (minutes - rounded).abs() <= 7;
    plausible.then(|| FixedOffset::east_opt(rounded as i32 * 60)).flatten()
}

/// Local times that a clock change skipped or doubled take the earlier reading: a picture has one place in the year.
fn in_zone<Z: TimeZone>(local: NaiveDateTime, zone: &Z) -> DateTime<Utc> {
    match zone.from_local_datetime(&local) {
        LocalResult::Single(t) | LocalResult::Ambiguous(t, _) => t.to_utc(),
        LocalResult::None => {
            (local - TimeDelta::seconds(zone.offset_from_utc_datetime(&local).fix().local_minus_utc().into())).and_utc()
        }
    }
}

/// Finds `YYYYMMDD` or `YYYY-MM-DD` followed by `HHMMSS` (with any single separators) in a name. A date alone counts as
/// noon of that day, so that no zone moves it to another one.
pub fn from_name(name: &str) -> Option<NaiveDateTime> {
    let digits: Vec<(usize, u8)> = name.bytes().enumerate().filter(|(_, b)| b.is_ascii_digit()).collect();
    (0..digits.len()).find_map(|from| {
        let starts_a_number = from == 0 || digits[from - 1].0 + 1 != digits[from].0;
        let run = close_run(&digits[from..]);
        if !starts_a_number || run.len() < 8 {
            return None;
        }
        let number = |at: usize, len: usize| run[at..at + len].iter().fold(0u32, |n, d| n * 10 + u32::from(d - b'0'));
        let date = NaiveDate::from_ymd_opt(number(0, 4) as i32, number(4, 2), number(6, 2))?;
        if !(1990..=2100).contains(&number(0, 4)) {
            return None;
        }
        let time = if run.len() >= 14 { date.and_hms_opt(number(8, 2), number(10, 2), number(12, 2)) } else { None };
        time.or_else(|| date.and_hms_opt(12, 0, 0))
    })
}

/// Digits that stand together or are one separator apart.
fn close_run(digits: &[(usize, u8)]) -> Vec<u8> {
    let mut run = Vec::new();
    let mut last: Option<usize> = None;
    for &(at, digit) in digits {
        if last.is_some_and(|l| at > l + 2) {
            break;
        }
        run.push(digit);
        last = Some(at);
    }
    run
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn times_are_as_fine_as_they_can_be_kept() {
        let file_time = DateTime::from_timestamp(1_700_000_000, 123_456_789).unwrap();
        let captured = decide(&Facts::default(), None, "weir.jpg", Some(file_time), Utc::now(), &Utc);
        assert_eq!(captured.at.timestamp_subsec_nanos(), 123_456_000);
    }

    fn at(text: &str) -> NaiveDateTime {
        NaiveDateTime::parse_from_str(text, "%Y-%m-%d %H:%M:%S").unwrap()
    }

    fn home() -> FixedOffset {
        FixedOffset::east_opt(2 * 3600).unwrap()
    }

    fn decided(facts: &Facts, name: &str, file_time: Option<&str>) -> Captured {
        decide(facts, None, name, file_time.map(|t| at(t).and_utc()), at("2026-11-01 00:00:00").and_utc(), &home())
    }

    #[test]
    fn a_camera_that_names_its_zone_is_believed_first() {
        let facts = Facts {
            exif_original: Some(at("2026-07-04 09:30:00")),
            exif_offset_minutes: Some(-300),
            exif_gps: Some(at("2026-07-04 07:30:00")),
            ..Facts::default()
        };
        let c = decided(&facts, "IMG_20200101_000000.jpg", Some("2020-01-01 00:00:00"));
        assert_eq!(
            (c.rule, c.local, c.at.naive_utc()),
            (CaptureRule::ExifOffset, at("2026-07-04 09:30:00"), at("2026-07-04 14:30:00"))
        );
    }

    #[test]
    fn satellites_tell_the_zone_a_camera_left_out() {
        let facts = Facts {
            exif_original: Some(at("2026-07-04 13:18:00")),
            exif_gps: Some(at("2026-07-04 07:31:10")),
            ..Facts::default()
        };
        let c = decided(&facts, "x.jpg", None);
        assert_eq!((c.rule, c.at.naive_utc()), (CaptureRule::ExifGps, at("2026-07-04 07:33:00")));
        let far = Facts { exif_gps: Some(at("2026-07-01 07:31:10")), ..facts };
        assert_eq!(decided(&far, "x.jpg", None).rule, CaptureRule::ExifLocal);
    }

    #[test]
    fn a_camera_without_a_zone_means_home_time() {
        let facts = Facts { exif_original: Some(at("2026-07-04 00:30:00")), ..Facts::default() };
        let c = decided(&facts, "x.jpg", None);
        assert_eq!(
            (c.rule, c.local, c.at.naive_utc()),
            (CaptureRule::ExifLocal, at("2026-07-04 00:30:00"), at("2026-07-03 22:30:00"))
        );
    }

    #[test]
    fn video_is_universal_inside_and_local_in_its_folder() {
        let facts = Facts { video_utc: Some(at("2026-04-30 23:10:00")), ..Facts::default() };
        let c = decided(&facts, "clip.mp4", None);
        assert_eq!((c.rule, c.local), (CaptureRule::VideoUtc, at("2026-05-01 01:10:00")));
        let unset = Facts { video_utc: Some(at("1904-01-01 00:00:00")), ..Facts::default() };
        assert_eq!(decided(&unset, "clip.mp4", Some("2025-02-03 04:05:06")).rule, CaptureRule::FileTime);
    }

    #[test]
    fn words_beside_a_file_count_after_all_that_the_file_itself_says() {
        let beside = Told { local: at("2019-05-01 08:00:00"), offset_minutes: Some(-60) };
        let decided = |facts: &Facts| {
            let c = decide(facts, Some(beside), "IMG_20260412_101530.jpg", None, at("2026-11-01 00:00:00").and_utc(), &home());
            (c.rule, c.at.naive_utc())
        };
        assert_eq!(decided(&Facts::default()), (CaptureRule::Sidecar, at("2019-05-01 09:00:00")));
        let scanned = Facts { exif_digitized: Some(at("2020-01-01 00:00:00")), ..Facts::default() };
        assert_eq!(decided(&scanned).0, CaptureRule::Sidecar, "when a print was scanned says little about when it was taken");
        let inside = Facts { told: Some(Told { local: at("2018-05-01 08:00:00"), offset_minutes: None }), ..scanned };
        assert_eq!(decided(&inside), (CaptureRule::Told, at("2018-05-01 06:00:00")));
        let gps = Facts { exif_gps: Some(at("2017-05-01 08:00:00")), ..inside };
        assert_eq!(decided(&gps), (CaptureRule::GpsUtc, at("2017-05-01 08:00:00")));
        let camera = Facts { exif_original: Some(at("2017-05-01 10:00:10")), ..gps };
        assert_eq!(decided(&camera).0, CaptureRule::ExifGps);
    }

    #[test]
    fn words_read_back_and_weaker_rules_are_trusted_less() {
        assert!(CaptureRule::ALL.iter().all(|r| CaptureRule::from_word(r.word()) == Some(*r)));
        assert!(CaptureRule::ExifOffset.confidence() > CaptureRule::ExifLocal.confidence());
        assert!(CaptureRule::Name.confidence() > CaptureRule::FileTime.confidence());
        assert!(!CaptureRule::GpsUtc.by_camera_clock() && CaptureRule::ExifLocal.by_camera_clock());
        assert!(CaptureRule::GpsUtc.is_of_the_file() && !CaptureRule::Name.is_of_the_file());
    }

    #[rstest]
    #[case::years_ahead("2031-01-01 00:00:00")]
    #[case::before_photography("1700-01-01 00:00:00")]
    fn a_flat_battery_is_not_believed(#[case] wrong: &str) {
        let facts = Facts { exif_original: Some(at(wrong)), ..Facts::default() };
        let c = decided(&facts, "IMG_20260412_101530.jpg", None);
        assert_eq!((c.rule, c.local), (CaptureRule::Name, at("2026-04-12 10:15:30")));
    }

    #[rstest]
    #[case::joined("IMG_20260412_101530.jpg", Some("2026-04-12 10:15:30"))]
    #[case::spoken("2026-04-12 10.15.30.jpg", Some("2026-04-12 10:15:30"))]
    #[case::millis("VID_20260412_101530123.mp4", Some("2026-04-12 10:15:30"))]
    #[case::date_only("scan 2019-03-31.png", Some("2019-03-31 12:00:00"))]
    #[case::counter("DSC_00012345678.jpg", None)]
    #[case::no_such_day("20260231.jpg", None)]
    #[case::nothing("photo.jpg", None)]
    fn names_with_dates_are_read(#[case] name: &str, #[case] local: Option<&str>) {
        assert_eq!(from_name(name), local.map(at));
    }

    #[test]
    fn with_no_fact_at_all_the_time_of_arrival_is_said_to_be_just_that() {
        let c = decided(&Facts::default(), "a.bin", None);
        assert_eq!((c.rule, c.at.naive_utc()), (CaptureRule::Received, at("2026-11-01 00:00:00")));
    }

    #[test]
    fn every_rule_has_its_own_word() {
        let mut words: Vec<_> = CaptureRule::ALL.iter().map(|r| r.word()).collect();
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), CaptureRule::ALL.len());
        for rule in CaptureRule::ALL {
            assert_eq!(serde_json::to_value(rule).unwrap(), rule.word());
        }
    }
}
