//! XMP (ISO 16684-1): the words about a picture that programs write, in a file beside it or inside the picture itself.
//!
//! What decides time and place is read, by the local names of the properties, from attributes and elements alike; and title and description, by
//! their whole names, in the language that stands for all.
//! The parser neither fetches nor expands anything: entities other than XML's own five are left out.

use chrono::{DateTime, FixedOffset, NaiveDate, NaiveDateTime};
use quick_xml::{
    Reader,
    escape::{partial_escape, resolve_predefined_entity, unescape},
    events::{BytesStart, Event},
};
use ypogeion_core::{
    caption::{self, Note},
    capture::{Facts, Told},
};

/// No packet that a camera or a program writes is larger.
pub const LARGEST: usize = 4 << 20;

/// Properties that say when a picture was taken, the strongest first.
const TAKEN: [&str; 3] = ["DateTimeOriginal", "DateCreated", "CreateDate"];

/// Reads a packet. What is not there, or makes no sense, is left as it was.
pub fn read(packet: &[u8], facts: &mut Facts) {
    let mut found = Found::default();
    if collect(packet, &mut found).is_err() && found.is_empty() {
        return;
    }
    let taken = (0..TAKEN.len()).find_map(|i| found.taken[i].as_deref().and_then(moment));
    facts.told = facts.told.or(taken);
    if let (Some(latitude), Some(longitude), None) = (found.latitude, found.longitude, facts.place) {
        facts.place = place(&latitude, &longitude);
    }
    if facts.orientation.is_none() {
        facts.orientation = found.orientation.and_then(|o| o.trim().parse().ok()).filter(|o| (1..=8).contains(o));
    }
    facts.camera = facts.camera.take().or(found.model);
    facts.title = facts.title.take().or(found.title.text.as_deref().and_then(caption::title_read));
    facts.caption = facts.caption.take().or(found.caption.text.as_deref().and_then(caption::caption_read));
}

/// A packet that says this about a picture, to lie beside it.
pub fn write(note: &Note) -> String {
    let Note { words, place, taken, orientation } = note;
    let property = |name: &str, text: &str| match text {
        "" => String::new(),
        text => format!(
            "   <{name}>\n    <rdf:Alt>\n     <rdf:li xml:lang=\"x-default\">{}</rdf:li>\n    </rdf:Alt>\n   </{name}>\n",
            partial_escape(text)
        ),
    };
    // Minutes with five digits are exact to 2 cm.
    let angle = |name: &str, degrees: f64, ends: [char; 2]| {
        let all = (degrees.abs() * 60.0 * 1e5).round() as u32;
        let (whole, minutes) = (all / 6_000_000, f64::from(all % 6_000_000) / 1e5);
        format!("   <exif:{name}>{whole},{minutes:.5}{}</exif:{name}>\n", ends[usize::from(degrees < 0.0)])
    };
    let place = place.map(|(north, east)| angle("GPSLatitude", north, ['N', 'S']) + &angle("GPSLongitude", east, ['E', 'W']));
    let taken =
        taken.map(|at| format!("   <photoshop:DateCreated>{}</photoshop:DateCreated>\n", at.format("%Y-%m-%dT%H:%M:%S%.f")));
    let orientation = orientation.map(|o| format!("   <tiff:Orientation>{o}</tiff:Orientation>\n"));
    let mut names = String::new();
    if place.is_some() {
        names += " xmlns:exif=\"http://ns.adobe.com/exif/1.0/\"";
    }
    if taken.is_some() {
        names += " xmlns:photoshop=\"http://ns.adobe.com/photoshop/1.0/\"";
    }
    if orientation.is_some() {
        names += " xmlns:tiff=\"http://ns.adobe.com/tiff/1.0/\"";
    }
    format!(
        "<x:xmpmeta xmlns:x=\"adobe:ns:meta/\">\n <rdf:RDF xmlns:rdf=\"http://www.w3.org/1999/02/22-rdf-syntax-ns#\">\n  \
         <rdf:Description rdf:about=\"\" xmlns:dc=\"http://purl.org/dc/elements/1.1/\"{names}>\n{}{}{}{}{}  </rdf:Description>\n </rdf:RDF>\n</x:xmpmeta>\n",
        property("dc:title", &words.title),
        property("dc:description", &words.caption),
        place.unwrap_or_default(),
        taken.unwrap_or_default(),
        orientation.unwrap_or_default(),
    )
}

#[derive(Default)]
struct Found {
    taken: [Option<String>; 3],
    latitude: Option<String>,
    longitude: Option<String>,
    orientation: Option<String>,
    model: Option<String>,
    title: Alternatives,
    caption: Alternatives,
}

/// What is said in several languages.
#[derive(Default)]
struct Alternatives {
    /// What counts: the first, or what stands for all.
    text: Option<String>,
    /// What is being read, and whether it stands for all.
    open: Option<(String, bool)>,
}

/// More than may be kept of a caption, in bytes.
const LONGEST_TEXT: usize = 64 * 1024;

impl Alternatives {
    /// Another language begins; or, without a list of them, the text itself.
    fn begin(&mut self, for_all: bool) {
        self.open = Some((String::new(), for_all));
    }

    fn add(&mut self, text: &str) {
        if let Some((open, _)) = &mut self.open
            && open.len() < LONGEST_TEXT
        {
            open.push_str(text);
        }
    }

    fn end(&mut self) {
        let Some((text, for_all)) = self.open.take().filter(|(text, _)| !text.trim().is_empty()) else { return };
        if for_all || self.text.is_none() {
            self.text = Some(text);
        }
    }
}

impl Found {
    fn is_empty(&self) -> bool {
        let said = self.title.text.is_some() || self.caption.text.is_some();
        self.taken.iter().all(Option::is_none) && self.latitude.is_none() && !said
    }

    /// What an element of this name says in several languages.
    fn alternatives(&mut self, name: &[u8]) -> Option<&mut Alternatives> {
        match name {
            b"dc:title" => Some(&mut self.title),
            b"dc:description" => Some(&mut self.caption),
            _ => None,
        }
    }

    fn keep(&mut self, name: &[u8], value: &str) {
        let value: String = value.trim().chars().filter(|c| !c.is_control()).take(200).collect();
        let Ok(name) = std::str::from_utf8(name) else { return };
        let slot = match name {
            "GPSLatitude" => &mut self.latitude,
            "GPSLongitude" => &mut self.longitude,
            "Orientation" => &mut self.orientation,
            "Model" => &mut self.model,
            other => match TAKEN.iter().position(|t| *t == other) {
                Some(i) => &mut self.taken[i],
                None => return,
            },
        };
        if slot.is_none() && !value.is_empty() {
            *slot = Some(value);
        }
    }
}

fn collect(packet: &[u8], found: &mut Found) -> Result<(), quick_xml::Error> {
    let mut reader = Reader::from_reader(&packet[..packet.len().min(LARGEST)]);
    let mut open: Vec<Vec<u8>> = Vec::new();
    // The element whose languages are being read, and how deep it is.
    let mut said: Option<(Vec<u8>, usize)> = None;
    loop {
        match reader.read_event()? {
            Event::Start(e) => {
                attributes(&e, found);
                if said.is_none() && found.alternatives(e.name().as_ref()).is_some() {
                    said = Some((e.name().as_ref().to_vec(), open.len()));
                }
                if let Some(all) = said.as_ref().and_then(|(name, _)| found.alternatives(name)) {
                    all.begin(language(&e).as_deref() == Some("x-default"));
                }
                open.push(e.local_name().as_ref().to_vec());
                // Real packets are five deep; a thousand would be somebody's joke.
                if open.len() > 64 {
                    return Ok(());
                }
            }
            Event::Empty(e) => attributes(&e, found),
            Event::Text(text) => {
                let Ok(value) = text.decode() else { continue };
                match said.as_ref().and_then(|(name, _)| found.alternatives(name)) {
                    Some(all) => all.add(&value),
                    None => open.last().into_iter().for_each(|name| found.keep(name, &value)),
                }
            }
            Event::CData(text) => {
                if let (Some(all), Ok(value)) = (said.as_ref().and_then(|(name, _)| found.alternatives(name)), text.decode()) {
                    all.add(&value);
                }
            }
            Event::GeneralRef(e) => {
                let number = e.resolve_char_ref().ok().flatten().map(String::from);
                let named = e.decode().ok().and_then(|name| resolve_predefined_entity(&name).map(str::to_owned));
                let all = said.as_ref().and_then(|(name, _)| found.alternatives(name));
                if let (Some(all), Some(value)) = (all, number.or(named)) {
                    all.add(&value);
                }
            }
            Event::End(_) => {
                open.pop();
                if let Some((name, depth)) = said.take() {
                    found.alternatives(&name).into_iter().for_each(Alternatives::end);
                    // Until it ends itself, what follows is another of its languages.
                    said = (open.len() > depth).then_some((name, depth));
                }
            }
            Event::Eof => return Ok(()),
            _ => {}
        }
    }
}

fn language(element: &BytesStart<'_>) -> Option<String> {
    let language = element.attributes().flatten().find(|a| a.key.as_ref() == b"xml:lang")?;
    std::str::from_utf8(&language.value).ok().map(str::to_owned)
}

fn attributes(element: &BytesStart<'_>, found: &mut Found) {
    for attribute in element.attributes().flatten() {
        if let Ok(value) = std::str::from_utf8(&attribute.value) {
            // In short form, a property in one language is an attribute.
            if let (Some(all), Ok(value)) = (found.alternatives(attribute.key.as_ref()), unescape(value)) {
                all.begin(false);
                all.add(&value);
                all.end();
            }
            found.keep(attribute.key.local_name().as_ref(), value);
        }
    }
}

/// A time as XMP writes it: ISO 8601, from a year and a month to fractions of a second, with or without a zone. What is less
/// exact than a day is no time.
pub fn moment(text: &str) -> Option<Told> {
    let text = text.trim();
    if let Ok(whole) = DateTime::parse_from_rfc3339(text) {
        return Some(told(whole));
    }
    let without_seconds = DateTime::parse_from_str(text, "%Y-%m-%dT%H:%M%:z");
    if let Ok(whole) = without_seconds {
        return Some(told(whole));
    }
    let local = ["%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%dT%H:%M", "%Y:%m:%d %H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f"];
    let local = local.iter().find_map(|f| NaiveDateTime::parse_from_str(text, f).ok());
    let day = || NaiveDate::parse_from_str(text, "%Y-%m-%d").ok().and_then(|d| d.and_hms_opt(12, 0, 0));
    local.or_else(day).map(|local| Told { local, offset_minutes: None })
}

fn told(whole: DateTime<FixedOffset>) -> Told {
    Told { local: whole.naive_local(), offset_minutes: Some(whole.offset().local_minus_utc() / 60) }
}

/// `59,19.758N` and `18,4.1E`, or with seconds (`59,19,45N`).
fn place(latitude: &str, longitude: &str) -> Option<(f64, f64)> {
    let degrees = |text: &str, positive: char, negative: char, limit: f64| {
        let sign = match text.chars().last()? {
            c if c == positive => 1.0,
            c if c == negative => -1.0,
            _ => return None,
        };
        let mut value = 0.0;
        for (part, share) in text[..text.len() - 1].split(',').zip([1.0, 60.0, 3600.0]) {
            value += part.trim().parse::<f64>().ok().filter(|p| p.is_finite() && *p >= 0.0)? / share;
        }
        (value <= limit).then_some(sign * value)
    };
    let place = (degrees(latitude, 'N', 'S', 90.0)?, degrees(longitude, 'E', 'W', 180.0)?);
    (place != (0.0, 0.0)).then_some(place)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn facts(packet: &str) -> Facts {
        let mut facts = Facts::default();
        read(packet.as_bytes(), &mut facts);
        facts
    }

    fn taken(packet: &str) -> Option<String> {
        facts(packet).told.map(|t| format!("{} {:?}", t.local, t.offset_minutes))
    }

    #[rstest]
    #[case::attribute(
        r#"<x:xmpmeta><rdf:RDF><rdf:Description exif:DateTimeOriginal="2026-04-12T10:15:30+02:00"/></rdf:RDF></x:xmpmeta>"#,
        Some("2026-04-12 10:15:30 Some(120)")
    )]
    #[case::element(
        "<rdf:Description><photoshop:DateCreated>2026-04-12T10:15:30.25</photoshop:DateCreated></rdf:Description>",
        Some("2026-04-12 10:15:30.250 None")
    )]
    #[case::the_strongest_counts(
        r#"<d xmp:CreateDate="2020-01-01T00:00:00" exif:DateTimeOriginal="2026-04-12T10:15"/>"#,
        Some("2026-04-12 10:15:00 None")
    )]
    #[case::a_day_is_noon(r#"<d photoshop:DateCreated="1974-07-01"/>"#, Some("1974-07-01 12:00:00 None"))]
    #[case::a_year_is_no_time(r#"<d photoshop:DateCreated="1974"/>"#, None)]
    #[case::cut_short(r#"<d exif:DateTimeOriginal="2026-04-12T10:15:30Z"><more"#, Some("2026-04-12 10:15:30 Some(0)"))]
    #[case::nothing("<d/>", None)]
    #[case::not_xml("dear diary", None)]
    fn times_are_found_wherever_a_program_put_them(#[case] packet: &str, #[case] expected: Option<&str>) {
        assert_eq!(taken(packet).as_deref(), expected);
    }

    #[rstest]
    #[case::both(
        r#"<rdf:Description xmlns:dc="d"><dc:title><rdf:Alt><rdf:li xml:lang="x-default">The weir</rdf:li></rdf:Alt></dc:title>
           <dc:description><rdf:Alt><rdf:li xml:lang="de">Hochwasser</rdf:li><rdf:li xml:lang="x-default">In flood,
after the thaw</rdf:li><rdf:li xml:lang="nl">Hoogwater</rdf:li></rdf:Alt></dc:description></rdf:Description>"#,
        Some("The weir"),
        Some("In flood,\nafter the thaw")
    )]
    #[case::the_first_language(
        r#"<d><dc:title><rdf:Alt><rdf:li xml:lang="nl">De stuw</rdf:li><rdf:li xml:lang="de">Das Wehr</rdf:li></rdf:Alt></dc:title></d>"#,
        Some("De stuw"),
        None
    )]
    #[case::signs(
        "<d><dc:description><rdf:Alt><rdf:li>Juno &amp; Piet &lt;3 &#x2603; <![CDATA[<b>kites</b>]]> &bomb; end</rdf:li></rdf:Alt></dc:description></d>",
        None,
        Some("Juno & Piet <3 ☃ <b>kites</b>  end")
    )]
    #[case::plain("<d><dc:title>The weir</dc:title></d>", Some("The weir"), None)]
    #[case::attributes(
        r#"<d dc:title="Juno &amp; Piet" dc:description="At the fair"/>"#,
        Some("Juno & Piet"),
        Some("At the fair")
    )]
    #[case::of_something_else(
        "<d><rdf:Description><title>x</title><xmpDM:description>y</xmpDM:description></rdf:Description></d>",
        None,
        None
    )]
    #[case::of_a_device("<d><dc:description><rdf:Alt><rdf:li>DCIM</rdf:li></rdf:Alt></dc:description></d>", None, None)]
    #[case::cut_short(
        "<d><dc:title><rdf:Alt><rdf:li>The weir</rdf:li></rdf:Alt></dc:title><dc:description><rdf:Alt><rdf:li>In fl",
        Some("The weir"),
        None
    )]
    fn words_are_found(#[case] packet: &str, #[case] title: Option<&str>, #[case] caption: Option<&str>) {
        let facts = facts(packet);
        assert_eq!((facts.title.as_deref(), facts.caption.as_deref()), (title, caption));
    }

    #[test]
    fn what_is_written_is_read_again() {
        let signs = ["weir", " ", "\n", "&", "<", ">", "\"", "'", "]]>", "&amp;", "ß", "🪁", "<!--", "\u{5d0}"];
        for n in 0..signs.len().pow(4) {
            let text: String = (0..4).map(|at| signs[n / signs.len().pow(at) % signs.len()]).collect();
            let words = caption::Caption { title: caption::title(&text).unwrap(), caption: caption::caption(&text).unwrap() };
            let read = facts(&write(&words.clone().into()));
            assert_eq!(
                (read.title.unwrap_or_default(), read.caption.unwrap_or_default()),
                (words.title, words.caption),
                "{text:?}"
            );
        }
    }

    #[test]
    fn entities_and_depth_do_no_harm() {
        let bomb = r#"<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><x:x exif:DateTimeOriginal="&b;">&b;</x:x>"#;
        assert_eq!(taken(bomb), None);
        assert_eq!(taken(&"<a>".repeat(100_000)), None);
    }

    #[test]
    fn what_people_said_of_time_and_place_is_read_again() {
        let taken: NaiveDateTime = "1987-07-14T15:00:07.25".parse().unwrap();
        for place in [(52.158, 4.486), (-16.900001, -180.0), (90.0, 0.000001), (59.999_999_9, 179.999_999_9)] {
            let note = Note { place: Some(place), taken: Some(taken), ..Note::default() };
            let read = facts(&write(&note));
            let there = read.place.unwrap();
            assert!((there.0 - place.0).abs() < 2e-7 && (there.1 - place.1).abs() < 2e-7, "{there:?} for {place:?}");
            assert_eq!((read.told.map(|t| t.local), read.title, read.caption), (Some(taken), None, None));
        }
        let alone = write(&Note { taken: Some(taken), ..Note::default() });
        assert!(alone.contains("<photoshop:DateCreated>1987-07-14T15:00:07.250</") && !alone.contains("exif"), "{alone}");
    }

    #[test]
    fn places_are_read() {
        let there = facts(r#"<d exif:GPSLatitude="59,19.758N" exif:GPSLongitude="18,4.116W"/>"#).place.unwrap();
        assert!((there.0 - 59.3293).abs() < 1e-6 && (there.1 + 18.0686).abs() < 1e-6, "{there:?}");
        assert_eq!(facts(r#"<d exif:GPSLatitude="99,0N" exif:GPSLongitude="18,4E"/>"#).place, None);
        assert_eq!(facts(r#"<d exif:GPSLatitude="59" exif:GPSLongitude=""/>"#).place, None);
    }
}
