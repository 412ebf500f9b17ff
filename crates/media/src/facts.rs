//! What a file says of itself: when, with what, where, how large.

use std::{
    fs::File,
    io::{BufReader, Cursor, Read, Seek, SeekFrom},
    path::Path,
};

use chrono::{NaiveDate, NaiveDateTime, NaiveTime, TimeDelta};
use exif::{Context, Exif, In, Rational, Tag, Value};
use ypogeion_core::{caption, capture::Facts, kind::MediaKind};

use crate::{embedded, heif, inside, iptc, maker, pixels, sniff, video, words, xmp};

/// Reads the facts of the file at `path`, which its device called `name`.
///
/// Never fails: a file that cannot be read is still an original. What could not be read is said in [`Facts::problem`].
pub fn read(path: &Path, name: &str) -> Facts {
    let mut facts = Facts::default();
    if let Err(problem) = fill(&mut facts, path, name) {
        facts.problem = Some(problem);
    }
    facts
}

fn fill(facts: &mut Facts, path: &Path, name: &str) -> Result<(), String> {
    let mut file = BufReader::new(File::open(path).map_err(|e| format!("it could not be opened: {e}"))?);
    let mut head = Vec::with_capacity(sniff::ENOUGH);
    file.by_ref().take(sniff::ENOUGH as u64).read_to_end(&mut head).map_err(|e| format!("it could not be read: {e}"))?;
    let Some((kind, media_type)) = sniff::sniff(&head, name) else {
        let by_name = MediaKind::from_extension(name);
        facts.kind = Some(if matches!(by_name, MediaKind::Sidecar) { by_name } else { MediaKind::Other });
        return match (head.is_empty(), by_name) {
            (true, _) => Err("the file is empty".to_owned()),
            (false, MediaKind::Photo | MediaKind::Video | MediaKind::Raw) => {
                Err("its bytes are not what its name says".to_owned())
            }
            _ => Ok(()),
        };
    };
    facts.kind = Some(kind);
    facts.media_type = Some(media_type.to_owned());
    if kind == MediaKind::Video {
        return video::read(path, media_type, facts);
    }
    file.rewind().map_err(|e| format!("it could not be read: {e}"))?;
    if kind == MediaKind::Sidecar {
        let mut words = Vec::new();
        file.take(xmp::LARGEST as u64).read_to_end(&mut words).map_err(|e| format!("it could not be read: {e}"))?;
        match media_type {
            "application/json" if words.len() <= words::LARGEST => words::read(&words, facts),
            "application/json" => {}
            _ => xmp::read(&words, facts),
        }
        return Ok(());
    }
    if media_type == "image/jpeg" {
        jpeg_words(&mut file, facts);
        file.rewind().map_err(|e| format!("it could not be read: {e}"))?;
    }
    let mut problem = None;
    match exif::Reader::new().continue_on_error(true).read_from_container(&mut file) {
        Ok(exif) => from_exif(facts, &exif),
        Err(exif::Error::PartialResult(partial)) => {
            let (exif, _) = partial.into_inner();
            from_exif(facts, &exif);
            problem = Some("part of its camera data is damaged".to_owned());
        }
        // No camera data is no fault: screenshots and scans have none.
        Err(exif::Error::NotFound(_) | exif::Error::InvalidFormat(_) | exif::Error::BlankValue(_)) => {}
        Err(exif::Error::Io(_)) => problem = Some("it ends too early".to_owned()),
        Err(_) => problem = Some("its camera data is damaged".to_owned()),
    }
    if kind == MediaKind::Raw && facts.exif_original.is_none() {
        // Some cameras keep what they know in the JPEG inside.
        from_embedded(facts, &mut file);
    }
    if matches!(media_type, "image/jpeg" | "image/heic" | "image/avif") {
        match inside::film(&mut file) {
            Ok(film) => facts.film_inside = film,
            Err(_) => problem = Some("it ends too early".to_owned()),
        }
    }
    if kind == MediaKind::Photo {
        match size_shown(path, media_type, facts.orientation) {
            Ok(Some((width, height))) => (facts.width, facts.height) = (Some(width), Some(height)),
            Ok(None) => {}
            Err(e) => problem = Some(e),
        }
    }
    problem.map_or(Ok(()), Err)
}

fn size_shown(path: &Path, media_type: &str, orientation: Option<u8>) -> Result<Option<(u32, u32)>, String> {
    let turned = |(w, h): (u32, u32)| if orientation.is_some_and(|o| o >= 5) { (h, w) } else { (w, h) };
    match media_type {
        // libheif applies the turn that the container asks for.
        "image/heic" | "image/avif" => heif::size(path).map(Some),
        "image/jpeg" | "image/png" | "image/gif" | "image/webp" => pixels::size(path).map(|s| Some(turned(s))),
        _ => Ok(None),
    }
}

fn from_exif(facts: &mut Facts, exif: &Exif) {
    let text = |tag: Tag| -> Option<String> {
        let field = exif.get_field(tag, In::PRIMARY)?;
        let Value::Ascii(parts) = &field.value else { return None };
        let joined = parts.iter().map(|p| String::from_utf8_lossy(p)).collect::<Vec<_>>().join(" ");
        let clean = joined.trim_matches(|c: char| c.is_control() || c.is_whitespace()).to_owned();
        (!clean.is_empty()).then(|| clean.chars().filter(|c| !c.is_control()).take(200).collect())
    };
    let number = |tag: Tag| exif.get_field(tag, In::PRIMARY).and_then(|f| f.value.get_uint(0));
    let ratio = |tag: Tag| match exif.get_field(tag, In::PRIMARY).map(|f| &f.value) {
        Some(Value::Rational(r)) => r.first().copied().filter(|r| r.denom != 0),
        _ => None,
    };
    let moment = |tag: Tag, sub: Tag| text(tag).and_then(|t| time_of(&t, text(sub).as_deref()));

    facts.exif_original = moment(Tag::DateTimeOriginal, Tag::SubSecTimeOriginal);
    facts.exif_offset_minutes = text(Tag::OffsetTimeOriginal).or_else(|| text(Tag::OffsetTime)).and_then(|t| offset_of(&t));
    facts.exif_digitized =
        moment(Tag::DateTimeDigitized, Tag::SubSecTimeDigitized).or_else(|| moment(Tag::DateTime, Tag::SubSecTime));
    facts.exif_gps = gps_time(exif);
    facts.orientation = number(Tag::Orientation).filter(|o| (1..=8).contains(o)).map(|o| o as u8).or(facts.orientation);
    let camera = match (text(Tag::Make), text(Tag::Model)) {
        (Some(make), Some(model)) if !model.to_lowercase().starts_with(&make.to_lowercase()) => Some(format!("{make} {model}")),
        (_, Some(model)) => Some(model),
        (make, None) => make,
    };
    facts.camera = camera.or(facts.camera.take());
    facts.lens = text(Tag::LensModel);
    let exposure: Vec<String> = [
        ratio(Tag::ExposureTime)
            .filter(|r| r.num > 0)
            .map(|r| if r.num >= r.denom { format!("{:.1} s", r.to_f64()) } else { format!("1/{:.0} s", 1.0 / r.to_f64()) }),
        ratio(Tag::FNumber).map(|r| format!("f/{:.1}", r.to_f64())),
        number(Tag::PhotographicSensitivity).map(|iso| format!("ISO {iso}")),
        ratio(Tag::FocalLength).map(|r| format!("{:.0} mm", r.to_f64())),
    ]
    .into_iter()
    .flatten()
    .collect();
    facts.exposure = (!exposure.is_empty()).then(|| exposure.join(", "));
    facts.place = place(exif).or(facts.place);
    if let Some(Value::Undefined(note, _)) = exif.get_field(Tag::MakerNote, In::PRIMARY).map(|f| &f.value) {
        facts.pair = maker::pair(note);
    }
    // TIFF and its raw relatives keep their XMP packet in a tag of its own.
    let packet = exif.get_field(Tag(Context::Tiff, 700), In::PRIMARY).map(|f| &f.value);
    if let Some(Value::Byte(packet) | Value::Undefined(packet, _)) = packet {
        xmp::read(packet, facts);
    }
    // What was written for people who read it elsewhere counts before what cameras write, too.
    let written = |tag: u16| exif.get_field(Tag(Context::Tiff, tag), In::PRIMARY).and_then(|f| in_utf_16(&f.value));
    let described = exif.get_field(Tag::ImageDescription, In::PRIMARY).and_then(|f| match &f.value {
        Value::Ascii(parts) => parts.first().map(|p| String::from_utf8_lossy(p).into_owned()),
        _ => None,
    });
    let first = |all: &[Option<String>], read: fn(&str) -> Option<String>| all.iter().flatten().find_map(|text| read(text));
    facts.title = facts.title.take().or_else(|| first(&[written(XP_TITLE)], caption::title_read));
    facts.caption =
        facts.caption.take().or_else(|| first(&[written(XP_COMMENT), described, written(XP_SUBJECT)], caption::caption_read));
}

/// Tags in which one system's programs keep words.
const XP_TITLE: u16 = 0x9c9b;
const XP_COMMENT: u16 = 0x9c9c;
const XP_SUBJECT: u16 = 0x9c9f;

/// Bytes that are UTF-16, the lower one first.
fn in_utf_16(value: &Value) -> Option<String> {
    let Value::Byte(bytes) = value else { return None };
    let units = bytes.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]]));
    Some(char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).take_while(|c| *c != '\0').collect())
}

/// Fills what is not known yet from the JPEG inside a raw file.
fn from_embedded(facts: &mut Facts, file: &mut (impl Read + Seek)) {
    /// Camera data stand in front; the picture behind is of no interest here.
    const HEAD: u64 = 1 << 20;
    let mut head = Vec::new();
    let read = embedded::find(file)
        .and_then(|(at, length)| file.seek(SeekFrom::Start(at)).ok().map(|_| length.min(HEAD)))
        .and_then(|length| file.take(length).read_to_end(&mut head).ok());
    let Some(Ok(exif)) = read.map(|_| exif::Reader::new().read_from_container(&mut Cursor::new(head))) else { return };
    let mut inside = Facts::default();
    from_exif(&mut inside, &exif);
    facts.exif_original = inside.exif_original;
    facts.exif_offset_minutes = facts.exif_offset_minutes.or(inside.exif_offset_minutes);
    facts.exif_gps = facts.exif_gps.or(inside.exif_gps);
    facts.exif_digitized = facts.exif_digitized.or(inside.exif_digitized);
    facts.camera = facts.camera.take().or(inside.camera);
    facts.lens = facts.lens.take().or(inside.lens);
    facts.exposure = facts.exposure.take().or(inside.exposure);
    facts.place = facts.place.or(inside.place);
    facts.orientation = facts.orientation.or(inside.orientation);
    facts.title = facts.title.take().or(inside.title);
    facts.caption = facts.caption.take().or(inside.caption);
}

/// What a JPEG's head says in words: the first XMP packet (APP1 with its own name), and the first IPTC (APP13). Only the head is walked: at most
/// as many segments as fit before the picture begins. What cannot be read says nothing.
fn jpeg_words(file: &mut (impl Read + Seek), facts: &mut Facts) {
    if file.seek(SeekFrom::Start(2)).is_err() {
        return;
    }
    let (mut packet, mut older) = (None, None);
    walk_head(file, |kind, body| match kind {
        0xe1 => packet = packet.take().or_else(|| body.strip_prefix(b"http://ns.adobe.com/xap/1.0/\0").map(<[u8]>::to_vec)),
        _ => older = older.take().or_else(|| iptc::in_segment(body).map(<[u8]>::to_vec)),
    });
    if let Some(packet) = packet {
        xmp::read(&packet, facts);
    }
    if let Some(words) = older {
        iptc::read(&words, facts);
    }
}

/// Hands over the bodies of the segments APP1 and APP13 before the picture, as far as they can be read: what is wrong with a file is said by who
/// reads all of it.
fn walk_head(file: &mut (impl Read + Seek), mut found: impl FnMut(u8, &[u8])) {
    let mut next = || -> Option<()> {
        let mut head = [0u8; 4];
        file.read_exact(&mut head).ok()?;
        let length = usize::from(u16::from_be_bytes([head[2], head[3]])).checked_sub(2)?;
        match head {
            [0xff, 0xda, ..] => return None,
            [0xff, kind @ (0xe1 | 0xed), ..] => {
                let mut body = vec![0u8; length];
                file.read_exact(&mut body).ok()?;
                found(kind, &body);
            }
            [0xff, ..] => drop(file.seek(SeekFrom::Current(length as i64)).ok()?),
            _ => return None,
        }
        Some(())
    };
    (0..64).try_for_each(|_| next());
}

/// `2026:04:12 10:15:30` with optional sub-seconds. Anything else, the all-zero date included, is no time.
fn time_of(text: &str, sub: Option<&str>) -> Option<NaiveDateTime> {
    let time = NaiveDateTime::parse_from_str(text.get(..19)?, "%Y:%m:%d %H:%M:%S").ok()?;
    let digits: String = sub.unwrap_or_default().chars().take_while(char::is_ascii_digit).take(9).collect();
    let nanos = format!("{digits:0<9}").parse::<i64>().unwrap_or(0);
    Some(time + TimeDelta::nanoseconds(nanos))
}

/// `+02:00` in minutes.
fn offset_of(text: &str) -> Option<i32> {
    let (sign, rest) = match text.split_at_checked(1)? {
        ("+", rest) => (1, rest),
        ("-", rest) => (-1, rest),
        ("Z", "") => return Some(0),
        _ => return None,
    };
    let (hours, minutes) = rest.split_once(':')?;
    let minutes = hours.parse::<i32>().ok()? * 60 + minutes.parse::<i32>().ok()?;
    (minutes <= 14 * 60).then_some(sign * minutes)
}

fn rationals(exif: &Exif, tag: Tag) -> Option<[Rational; 3]> {
    match &exif.get_field(tag, In::PRIMARY)?.value {
        Value::Rational(r) if r.len() >= 3 && r[..3].iter().all(|r| r.denom != 0) => Some([r[0], r[1], r[2]]),
        _ => None,
    }
}

fn ascii(exif: &Exif, tag: Tag) -> Option<String> {
    match &exif.get_field(tag, In::PRIMARY)?.value {
        Value::Ascii(parts) => parts.first().map(|p| String::from_utf8_lossy(p).into_owned()),
        _ => None,
    }
}

fn gps_time(exif: &Exif) -> Option<NaiveDateTime> {
    let date = NaiveDate::parse_from_str(ascii(exif, Tag::GPSDateStamp)?.trim(), "%Y:%m:%d").ok()?;
    let [h, m, s] = rationals(exif, Tag::GPSTimeStamp)?.map(|r| r.to_f64());
    let time = NaiveTime::from_hms_opt(h as u32, m as u32, s as u32)?;
    Some(date.and_time(time))
}

fn place(exif: &Exif) -> Option<(f64, f64)> {
    let degrees = |tag, reference, negative: &str, limit: f64| {
        let [d, m, s] = rationals(exif, tag)?.map(|r| r.to_f64());
        let value = d + m / 60.0 + s / 3600.0;
        let signed = if ascii(exif, reference)?.trim() == negative { -value } else { value };
        (signed.abs() <= limit).then_some(signed)
    };
    let place = (
        degrees(Tag::GPSLatitude, Tag::GPSLatitudeRef, "S", 90.0)?,
        degrees(Tag::GPSLongitude, Tag::GPSLongitudeRef, "W", 180.0)?,
    );
    // Null Island is where receivers are that never had a fix.
    (place != (0.0, 0.0)).then_some(place)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("2026:04:12 10:15:30", None, Some("2026-04-12T10:15:30"))]
    #[case("2026:04:12 10:15:30", Some("25 "), Some("2026-04-12T10:15:30.250"))]
    #[case("0000:00:00 00:00:00", None, None)]
    #[case("    :  :     :  :  ", None, None)]
    #[case("2026:04", None, None)]
    fn camera_times_are_read(#[case] text: &str, #[case] sub: Option<&str>, #[case] expected: Option<&str>) {
        assert_eq!(time_of(text, sub), expected.map(|e| e.parse().unwrap()));
    }

    #[rstest]
    #[case("+02:00", Some(120))]
    #[case("-03:30", Some(-210))]
    #[case("Z", Some(0))]
    #[case("", None)]
    #[case("+99:00", None)]
    #[case("é", None)]
    fn offsets_are_read(#[case] text: &str, #[case] minutes: Option<i32>) {
        assert_eq!(offset_of(text), minutes);
    }

    /// A JPEG whose camera data say only when it was taken.
    fn taken_at(time: &str) -> Vec<u8> {
        let entry = |tag: u16, kind: u16, count: u32, value: u32| {
            [&tag.to_le_bytes()[..], &kind.to_le_bytes(), &count.to_le_bytes(), &value.to_le_bytes()].concat()
        };
        let tiff = [
            b"II*\0\x08\0\0\0\x01\0".as_slice(),
            &entry(0x8769, 4, 1, 26),
            &[0; 4],
            b"\x01\0",
            &entry(0x9003, 2, 20, 44),
            &[0; 4],
            time.as_bytes(),
            b"\0",
        ]
        .concat();
        let mut picture = Cursor::new(Vec::new());
        let noise = image::RgbImage::from_fn(80, 60, |x, y| image::Rgb([(x * 3) as u8, (y * 4) as u8, (x ^ y) as u8]));
        noise.write_to(&mut picture, image::ImageFormat::Jpeg).unwrap();
        let length = (tiff.len() as u16 + 8).to_be_bytes();
        [b"\xff\xd8\xff\xe1".as_slice(), &length, b"Exif\0\0", &tiff, &picture.into_inner()[2..]].concat()
    }

    #[test]
    fn a_raw_file_that_says_nothing_itself_is_read_by_its_picture() {
        let jpeg = taken_at("2008:08:06 15:21:56");
        let mut raw = b"IIU\0\x08\0\0\0\x01\0".to_vec();
        raw.extend(
            [&0x002eu16.to_le_bytes()[..], &7u16.to_le_bytes(), &(jpeg.len() as u32).to_le_bytes(), &64u32.to_le_bytes()]
                .concat(),
        );
        raw.resize(64, 0);
        raw.extend(&jpeg);
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), raw).unwrap();
        let facts = read(file.path(), "P1000123.RW2");
        assert_eq!((facts.kind, facts.exif_original), (Some(MediaKind::Raw), Some("2008-08-06T15:21:56".parse().unwrap())));
        // And a JPEG's own words beside its camera data.
        std::fs::write(file.path(), &jpeg).unwrap();
        assert_eq!(read(file.path(), "a.jpg").exif_original, Some("2008-08-06T15:21:56".parse().unwrap()));
    }

    #[rstest]
    #[case::empty(b"".as_slice(), "a.jpg", MediaKind::Other, "the file is empty")]
    #[case::misnamed(b"dear diary".as_slice(), "a.jpg", MediaKind::Other, "its bytes are not what its name says")]
    #[case::cut(b"\xff\xd8\xff\xe1\x40\x00Exif".as_slice(), "a.jpg", MediaKind::Photo, "")]
    fn what_cannot_be_read_is_said(#[case] bytes: &[u8], #[case] name: &str, #[case] kind: MediaKind, #[case] problem: &str) {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), bytes).unwrap();
        let facts = read(file.path(), name);
        assert_eq!(facts.kind, Some(kind));
        assert!(facts.problem.as_deref().unwrap().contains(problem), "{:?}", facts.problem);
    }
}
