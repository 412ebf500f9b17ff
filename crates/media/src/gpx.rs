//! Tracks as receivers and phones write them: GPX 1.0 and 1.1 (an XML format, <https://www.topografix.com/GPX/1/1/>).

use chrono::{DateTime, Utc};
use quick_xml::{
    Reader,
    events::{BytesStart, Event},
};
use ypogeion_core::{spot::Spot, track::Track};

/// More points than somebody who writes one each second has in eleven days.
const MOST: usize = 1_000_000;

/// Why something is no track.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoTrack {
    /// It is not XML, or breaks off.
    NotRead,
    /// No point of a track says when somebody was there.
    NoTimes,
    /// More than a million points.
    TooLong,
}

impl NoTrack {
    /// The same for a person.
    pub fn sentence(self) -> &'static str {
        match self {
            Self::NotRead => "This is no track in the format GPX, or it breaks off.",
            Self::NoTimes => "No point of this track says when somebody was there.",
            Self::TooLong => "A track has 1,000,000 points at most.",
        }
    }
}

/// Reads the points of all tracks in a file that say when somebody was there. Waypoints and routes are no tracks: nobody need have been there.
pub fn read(text: &str) -> Result<Track, NoTrack> {
    let mut reader = Reader::from_str(text);
    let (mut points, mut open, mut time) = (Vec::new(), None::<Option<Spot>>, None::<String>);
    let mut is_gpx = false;
    loop {
        match reader.read_event().map_err(|_| NoTrack::NotRead)? {
            Event::Start(e) => match e.local_name().as_ref() {
                b"gpx" => is_gpx = true,
                b"trkpt" => (open, time) = (Some(spot(&e)), None),
                b"time" if open.is_some() => time = Some(String::new()),
                _ => {}
            },
            Event::Text(t) => {
                if let Some(time) = time.as_mut().filter(|t| t.is_empty()) {
                    time.push_str(&t.decode().map_err(|_| NoTrack::NotRead)?);
                }
            }
            Event::End(e) if e.local_name().as_ref() == b"trkpt" => {
                let at = time.take().and_then(|t| DateTime::parse_from_rfc3339(t.trim()).ok());
                if let (Some(at), Some(spot)) = (at, open.take().flatten()) {
                    if points.len() == MOST {
                        return Err(NoTrack::TooLong);
                    }
                    points.push((at.with_timezone(&Utc), spot));
                }
            }
            Event::Eof => break,
            _ => {}
        }
    }
    if !is_gpx || open.is_some() {
        return Err(NoTrack::NotRead);
    }
    Track::new(points).ok_or(NoTrack::NoTimes)
}

fn spot(point: &BytesStart<'_>) -> Option<Spot> {
    let degrees = |name: &str| {
        let value = point.try_get_attribute(name).ok().flatten()?;
        std::str::from_utf8(&value.value).ok()?.trim().parse::<f64>().ok().filter(|d| d.is_finite())
    };
    Spot::new(degrees("lat")?, degrees("lon")?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn gpx(points: &str) -> String {
        format!(
            "<?xml version=\"1.0\"?><gpx version=\"1.1\" xmlns=\"http://www.topografix.com/GPX/1/1\"><metadata><time>2020-01-01T00:00:00Z</time></metadata>\
             <wpt lat=\"1\" lon=\"1\"><time>2026-04-12T10:00:00Z</time></wpt><trk><name>The dunes</name><trkseg>{points}</trkseg></trk></gpx>"
        )
    }

    #[test]
    fn the_points_of_a_track_are_read() {
        let points = "<trkpt lat=\"52.158\" lon=\"4.486\"><ele>3.2</ele><time>2026-04-12T10:00:00Z</time><extensions><x:hr xmlns:x=\"x\">70</x:hr></extensions></trkpt>\
             <trkpt lon=\"4.5\" lat=\"52.2\"><time>\n2026-04-12T12:10:00.500+02:00 </time></trkpt><trkpt lat=\"52\" lon=\"4\"/><trkpt lat=\"91\" lon=\"4\"><time>2026-04-12T11:00:00Z</time></trkpt>\
             <trkpt lat=\"52\" lon=\"NaN\"><time>2026-04-12T11:00:00Z</time></trkpt><trkpt lat=\"52\" lon=\"4\"><time>noon</time></trkpt>";
        let track = read(&gpx(points)).unwrap();
        let at = |text: &str| text.parse::<DateTime<Utc>>().unwrap();
        assert_eq!(track.span(), Some((at("2026-04-12T10:00:00Z"), at("2026-04-12T10:10:00.500Z"))));
        assert_eq!(track.at(at("2026-04-12T10:00:00Z")), Spot::new(52.158, 4.486));
        // With a prefix, as some programs write it.
        let prefixed = "<g:gpx xmlns:g=\"g\"><g:trk><g:trkseg><g:trkpt lat=\"52\" lon=\"4\"><g:time>2026-04-12T10:00:00Z</g:time></g:trkpt></g:trkseg></g:trk></g:gpx>";
        assert!(read(prefixed).is_ok());
    }

    #[rstest]
    #[case::nothing("", NoTrack::NotRead)]
    #[case::no_xml("dear diary", NoTrack::NotRead)]
    #[case::another_format("<kml><trkpt lat=\"52\" lon=\"4\"><time>2026-04-12T10:00:00Z</time></trkpt></kml>", NoTrack::NotRead)]
    #[case::broken_off("<gpx><trk><trkseg><trkpt lat=\"52\" lon=\"4\"><time>2026-04-12T10:0", NoTrack::NotRead)]
    #[case::crossed("<gpx><trk></gpx></trk>", NoTrack::NotRead)]
    #[case::no_times("<gpx><trk><trkseg><trkpt lat=\"52\" lon=\"4\"></trkpt></trkseg></trk></gpx>", NoTrack::NoTimes)]
    #[case::a_bomb(
        "<!DOCTYPE x [<!ENTITY a \"aa\"><!ENTITY b \"&a;&a;\">]><gpx><trk><trkseg><trkpt lat=\"52\" lon=\"4\"><time>&b;</time></trkpt></trkseg></trk></gpx>",
        NoTrack::NoTimes
    )]
    fn what_is_no_track_is_said(#[case] text: &str, #[case] why: NoTrack) {
        assert_eq!(read(text), Err(why));
    }

    #[test]
    fn depth_and_length_do_no_harm() {
        assert_eq!(read(&"<a>".repeat(1_000_000)), Err(NoTrack::NotRead));
        let mut points = String::new();
        for n in 0..100_000 {
            points += &format!("<trkpt lat=\"52\" lon=\"4\"><time>2026-04-12T10:00:00.{n:06}Z</time></trkpt>");
        }
        assert!(read(&gpx(&points)).is_ok());
        let text = gpx(&points);
        for cut in (0..text.len()).step_by(997_331) {
            assert_eq!(read(&text[..cut]), Err(NoTrack::NotRead), "{cut}");
        }
    }
}
