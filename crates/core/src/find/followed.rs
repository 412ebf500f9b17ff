//! Albums that follow a line: which lines can be followed, and whether one still means what it meant.

use super::{Request, What};

/// More pictures than this do not follow a line into an album; of more, the newest do.
pub const MOST: usize = 100_000;

/// Why no album can follow a line that was read so, as a sentence; none: one can.
pub fn refused(request: &Request) -> Option<String> {
    if let Some((typed, why)) = request.unknown.first() {
        return Some(format!("“{typed}” was not understood ({why}); an album follows a line that is understood as a whole."));
    }
    let refused = |what: &What, not: bool| match what {
        What::In(_) => Some("An album follows no album: two could follow each other."),
        What::Copies(_) => Some("An album does not follow how safe pictures are: that changes with every copy."),
        What::PutAway if !not => Some("What was put away comes into no album by itself."),
        _ => None,
    };
    let found = request.terms.iter().find_map(|t| refused(&t.what, t.not)).map(str::to_owned);
    found.or_else(|| request.terms.is_empty().then(|| "An album follows a line that says something of pictures.".to_owned()))
}

/// What a term is asked of, in one word.
fn asked_of(what: &What) -> &'static str {
    match what {
        What::Taken(_) => "taken",
        What::Arrived(_) => "arrived",
        What::Kind(_) => "kind",
        What::Screenshot => "screenshot",
        What::Favourite => "favourite",
        What::PutAway => "put-away",
        What::Copies(_) => "copies",
        What::In(_) => "in",
        What::By { .. } => "by",
        What::Near { .. } => "near",
        What::Within(_) => "within",
        What::Folder(_) => "folder",
        What::Named(_) => "named",
    }
}

/// How a line was read: what each of its terms is asked of, in order.
pub fn reading(request: &Request) -> String {
    let words: Vec<String> =
        request.terms.iter().map(|t| format!("{}{}", if t.not { "not-" } else { "" }, asked_of(&t.what))).collect();
    words.join(" ")
}

/// Whether a line that was read as `was` may be followed as it is read now. A word that was looked for in names may have become a place since: that is asked of the
/// names as well. Anything else means something else: a device was renamed, a place is not known yet.
pub fn is_read_as(request: &Request, was: &str) -> bool {
    let now = reading(request);
    let same =
        |now: &str, was: &str| now == was || (now == "near" && was == "named") || (now == "not-near" && was == "not-named");
    now.split(' ').count() == was.split(' ').count() && now.split(' ').zip(was.split(' ')).all(|(now, was)| same(now, was))
}

#[cfg(test)]
mod tests {
    use chrono::NaiveDate;
    use uuid::Uuid;

    use super::*;
    use crate::{
        AlbumId, DeviceId,
        find::{Places, Vocabulary, read},
        town::Town,
    };

    fn vocabulary() -> Vocabulary {
        let town = Town { id: 1, name: "Leiden".to_owned(), region: "South Holland".to_owned(), country: "NL".to_owned() };
        Vocabulary {
            devices: vec![(DeviceId(Uuid::nil()), "Juno’s phone".to_owned())],
            cameras: vec!["Weir X2".to_owned()],
            albums: vec![(AlbumId(Uuid::nil()), "Kites".to_owned())],
            places: Places::of(&[town]),
            folder: "Juno".to_owned(),
            of_others: false,
        }
    }

    fn of(line: &str, vocabulary: &Vocabulary) -> Request {
        read(line, vocabulary, NaiveDate::from_ymd_opt(2026, 12, 1).unwrap())
    }

    #[test]
    fn a_line_is_followed_that_says_something_of_pictures_and_is_understood() {
        let known = vocabulary();
        for line in [
            "leiden",
            "summer 2024 videos",
            "favourites not screenshots",
            "\"kites\"",
            "phone",
            "not put away 2025",
            "folder 2026",
        ] {
            assert_eq!(refused(&of(line, &known)), None, "{line}");
        }
        for (line, why) in [
            ("", "says something"),
            ("all my pictures", "says something"),
            ("2024 ab", "“ab” was not understood"),
            ("2024 album kites", "follows no album"),
            ("2024 not album kites", "follows no album"),
            ("not yet away", "how safe"),
            ("damaged leiden", "how safe"),
            ("put away", "put away"),
        ] {
            let said = refused(&of(line, &known)).unwrap_or_default();
            assert!(said.contains(why), "{line:?}: {said:?}");
        }
    }

    #[test]
    fn a_line_that_means_something_else_by_now_is_not_followed() {
        let known = vocabulary();
        let lines =
            ["leiden", "not leiden 2024", "phone", "x2 not screenshots", "“kites” summer", "favourites", "arrived in may"];
        for line in lines {
            let was = reading(&of(line, &known));
            assert!(is_read_as(&of(line, &known), &was), "{line}: {was}");
            assert!(!is_read_as(&of(line, &known), &format!("{was} kind")) && !is_read_as(&of(line, &known), ""), "{line}");
        }
        // The device has another name, and the word is looked for in names.
        let renamed = Vocabulary { devices: vec![(DeviceId(Uuid::nil()), "Old one".to_owned())], ..vocabulary() };
        assert!(!is_read_as(&of("phone", &renamed), &reading(&of("phone", &known))));
        // After a recovery, no town is known until the pictures are read again; before the first picture from there, it was not known either.
        let nowhere = Vocabulary { places: Places::default(), ..vocabulary() };
        for line in ["leiden", "2024 not leiden"] {
            let [with, without] = [&known, &nowhere].map(|v| of(line, v));
            assert!(!is_read_as(&without, &reading(&with)), "{line}");
            assert!(is_read_as(&with, &reading(&without)), "{line}");
        }
    }
}
