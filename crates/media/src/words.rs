//! JSON beside a picture: what exports of albums say about it.
//!
//! There is no standard, so no product's layout is taken for granted: a key that speaks of taking (`taken`), then one that
//! speaks of creating (`created`, `creationTime`), holds a time as ISO 8601, or as seconds or milliseconds since 1970, by
//! itself or in a field of its own; `latitude` and `longitude` hold degrees. `caption` or `description` holds what is said about the picture, and
//! `title` its title, unless that is the name of a file.

use chrono::DateTime;
use serde_json::{Map, Value};
use ypogeion_core::{
    caption,
    capture::{Facts, Told},
    kind::MediaKind,
};

use crate::xmp;

/// No sidecar is larger.
pub const LARGEST: usize = 1 << 20;

/// Reads the words. What is not there, or makes no sense, is left as it was.
pub fn read(bytes: &[u8], facts: &mut Facts) {
    let Ok(Value::Object(words)) = serde_json::from_slice(bytes) else { return };
    let key = |word: &str| {
        let speaks = |k: &&String| k.to_ascii_lowercase().contains(word);
        words.keys().find(speaks).and_then(|k| time(&words[k.as_str()]))
    };
    facts.told = facts.told.or_else(|| key("taken")).or_else(|| key("original")).or_else(|| key("creat"));
    let place = std::iter::once(&words).chain(words.values().filter_map(Value::as_object)).find_map(place);
    facts.place = facts.place.or(place);
    let said = |name: &str| words.iter().find(|(k, _)| k.eq_ignore_ascii_case(name)).and_then(|(_, text)| text.as_str());
    let is_a_file = |title: &&str| !matches!(MediaKind::from_extension(title), MediaKind::Other);
    facts.title = facts.title.take().or_else(|| said("title").filter(|t| !is_a_file(t)).and_then(caption::title_read));
    let written = ["caption", "description"].into_iter().filter_map(said).find_map(caption::caption_read);
    facts.caption = facts.caption.take().or(written);
}

fn time(value: &Value) -> Option<Told> {
    match value {
        Value::Number(n) => instant(n.as_i64()?),
        Value::String(text) => text.trim().parse().ok().map_or_else(|| xmp::moment(text), instant),
        Value::Object(fields) => fields.values().find_map(|v| if v.is_object() { None } else { time(v) }),
        _ => None,
    }
}

fn instant(number: i64) -> Option<Told> {
    // Eleven digits of seconds are the year 5138; whoever writes so many means milliseconds.
    let at = if number.abs() >= 100_000_000_000 {
        DateTime::from_timestamp_millis(number)
    } else {
        DateTime::from_timestamp(number, 0)
    };
    at.filter(|t| t.timestamp() != 0).map(|t| Told { local: t.naive_utc(), offset_minutes: Some(0) })
}

fn place(words: &Map<String, Value>) -> Option<(f64, f64)> {
    let place = (words.get("latitude")?.as_f64()?, words.get("longitude")?.as_f64()?);
    (place.0.abs() <= 90.0 && place.1.abs() <= 180.0 && place != (0.0, 0.0)).then_some(place)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::seconds_as_text(
        r#"{"takenTime": {"timestamp": "1776000000", "formatted": "12 Apr 2026"}}"#,
        Some("2026-04-12 13:20:00 Some(0)")
    )]
    #[case::milliseconds(r#"{"created": 5, "taken_at": 1776000000000}"#, Some("2026-04-12 13:20:00 Some(0)"))]
    #[case::iso(r#"{"dateTaken": "2026-04-12T15:20:00+02:00"}"#, Some("2026-04-12 15:20:00 Some(120)"))]
    #[case::only_created(r#"{"creationTime": "2026-04-12T15:20:00"}"#, Some("2026-04-12 15:20:00 None"))]
    #[case::zero_is_no_time(r#"{"taken": 0}"#, None)]
    #[case::nonsense(r#"{"taken": "soon"}"#, None)]
    #[case::not_an_object("[1, 2]", None)]
    #[case::not_json("dear diary", None)]
    fn times_are_found_in_whatever_words(#[case] text: &str, #[case] expected: Option<&str>) {
        let mut facts = Facts::default();
        read(text.as_bytes(), &mut facts);
        assert_eq!(facts.told.map(|t| format!("{} {:?}", t.local, t.offset_minutes)).as_deref(), expected);
    }

    #[rstest]
    #[case(r#"{"title": "IMG_0042.jpg", "description": "Kites over the beach", "taken": 5}"#, None, Some("Kites over the beach"))]
    #[case(r#"{"Caption": "At the weir", "title": "In flood"}"#, Some("In flood"), Some("At the weir"))]
    #[case(r#"{"description": "", "title": 7, "caption": {"text": "x"}}"#, None, None)]
    fn what_is_said_about_it_is_read(#[case] text: &str, #[case] title: Option<&str>, #[case] said: Option<&str>) {
        let mut facts = Facts::default();
        read(text.as_bytes(), &mut facts);
        assert_eq!((facts.title.as_deref(), facts.caption.as_deref()), (title, said));
    }

    #[test]
    fn places_are_found_one_deep() {
        let mut facts = Facts::default();
        read(br#"{"geo": {"latitude": 59.33, "longitude": 18.07, "altitude": 3}}"#, &mut facts);
        assert_eq!(facts.place, Some((59.33, 18.07)));
    }
}
