use std::sync::LazyLock;

use rstest::rstest;
use uuid::Uuid;

use super::{
    days::{Yearly, both, without},
    *,
};

/// A Monday.
const TODAY: &str = "2026-11-30";

fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

fn span(from: &str, until: &str) -> Days {
    Days::Span(Span { from: day(from), until: day(until) })
}

fn made_vocabulary() -> Vocabulary {
    let device = |n, name: &str| (DeviceId(Uuid::from_u128(n)), name.to_owned());
    let album = |n, name: &str| (AlbumId(Uuid::from_u128(n)), name.to_owned());
    let town = |id, name: &str, region: &str, country: &str| Town {
        id,
        name: name.into(),
        region: region.into(),
        country: country.into(),
    };
    Vocabulary {
        folder: "Juno".into(),
        of_others: false,
        places: Places::of(&[
            town(1, "Leiden", "South Holland", "NL"),
            town(2, "The Hague", "South Holland", "NL"),
            town(3, "Trondheim", "Sor-Trondelag", "NO"),
            town(4, "Frankfurt am Main", "Hesse", "DE"),
            town(5, "Frankfurt (Oder)", "Brandenburg", "DE"),
            town(6, "Of", "Trabzon", "TR"),
            town(7, "London", "England", "GB"),
            town(8, "Kites", "", "US"),
        ]),
        albums: vec![album(1, "The kite festival"), album(2, "Kites"), album(3, "Summer 2024"), album(4, "Videos")],
        devices: vec![device(1, "Juno’s phone"), device(2, "Desktop 2019"), device(3, "Pixel of Ilvá")],
        cameras: vec!["Fujifilm X100V".into(), "Google Pixel 8".into(), "Google Pixel 8 Pro".into()],
    }
}

/// Made once: some of these tests read ten thousand lines.
fn vocabulary() -> &'static Vocabulary {
    static MADE: LazyLock<Vocabulary> = LazyLock::new(made_vocabulary);
    &MADE
}

fn read_it(line: &str) -> Request {
    read(line, vocabulary(), day(TODAY))
}

fn told_of(line: &str) -> Vec<String> {
    let request = read_it(line);
    assert_eq!(request.unknown, [], "{line}");
    request.terms.into_iter().map(|t| t.told).collect()
}

#[rstest]
#[case("2024", "2024-01-01", "2025-01-01")]
#[case("1990s", "1990-01-01", "2000-01-01")]
#[case("2019-2021", "2019-01-01", "2022-01-01")]
#[case("2019 – 2021", "2019-01-01", "2022-01-01")]
#[case("2019-05", "2019-05-01", "2019-06-01")]
#[case("5/2019", "2019-05-01", "2019-06-01")]
#[case("2019-05-03", "2019-05-03", "2019-05-04")]
#[case("3.5.2019", "2019-05-03", "2019-05-04")]
#[case("25/12/2019", "2019-12-25", "2019-12-26")]
#[case("12/25/2019", "2019-12-25", "2019-12-26")]
#[case("summer 2024", "2024-06-01", "2024-09-01")]
#[case("winter 2024", "2024-12-01", "2025-03-01")]
#[case("Fall of 2020", "2020-09-01", "2020-12-01")]
#[case("may 2024", "2024-05-01", "2024-06-01")]
#[case("2024 May", "2024-05-01", "2024-06-01")]
#[case("on 3 May 2024", "2024-05-03", "2024-05-04")]
#[case("May 3rd, 2024", "2024-05-03", "2024-05-04")]
#[case("3rd of may 2024", "2024-05-03", "2024-05-04")]
#[case("3-7 May 2024", "2024-05-03", "2024-05-08")]
#[case("3 to 7 May 2024", "2024-05-03", "2024-05-08")]
#[case("29 feb 2024", "2024-02-29", "2024-03-01")]
#[case("today", "2026-11-30", "2026-12-01")]
#[case("yesterday", "2026-11-29", "2026-11-30")]
#[case("this week", "2026-11-30", "2026-12-07")]
#[case("last week", "2026-11-23", "2026-11-30")]
#[case("last month", "2026-10-01", "2026-11-01")]
#[case("last year", "2025-01-01", "2026-01-01")]
#[case("last Monday", "2026-11-23", "2026-11-24")]
#[case("last Sunday", "2026-11-29", "2026-11-30")]
#[case("last March", "2026-03-01", "2026-04-01")]
#[case("last November", "2025-11-01", "2025-12-01")]
#[case("last Christmas", "2025-12-24", "2025-12-27")]
#[case("last 10 days", "2026-11-20", "2026-12-01")]
#[case("past 2 weeks", "2026-11-16", "2026-12-01")]
#[case("3 years ago", "2023-01-01", "2024-01-01")]
#[case("2 months ago", "2026-09-01", "2026-10-01")]
#[case("Easter 2024", "2024-03-29", "2024-04-02")]
#[case("easter 2025", "2025-04-18", "2025-04-22")]
#[case("New Year’s Eve 2023", "2023-12-31", "2024-01-01")]
#[case("new year 2024", "2023-12-31", "2024-01-02")]
#[case("between May 2023 and July 2023", "2023-05-01", "2023-08-01")]
#[case("from 2019 until 3 May 2020", "2019-01-01", "2020-05-04")]
#[case("March to June", "2026-03-01", "2026-07-01")]
fn dates_are_read_and_told_so_that_they_are_read_again(#[case] line: &str, #[case] from: &str, #[case] until: &str) {
    let request = read_it(line);
    assert_eq!(request.unknown, []);
    let [Term { what: What::Taken(days), not: false, told, rest }] = request.terms.as_slice() else {
        panic!("{line}: {:?}", request.terms)
    };
    assert_eq!(*days, span(from, until), "{line}: {told}");
    assert_eq!(rest, "");
    assert_eq!(read_it(told).terms[0].what, What::Taken(*days), "{told}");
}

#[rstest]
#[case("since March", "since 1 March 2026")]
#[case("after 2020", "since 1 January 2021")]
#[case("before 3 may 2021", "before 3 May 2021")]
#[case("until 2020", "before 1 January 2021")]
#[case("Christmas", "each Christmas")]
#[case("in winter", "each winter")]
#[case("on 3 May", "3 May of each year")]
#[case("29 february", "29 February of each year")]
#[case("3 to 7 may", "3 to 7 May of each year")]
#[case("december", "December of each year")]
#[case("every summer", "each summer")]
fn what_has_no_end_or_comes_each_year_is_told_and_read_again(#[case] line: &str, #[case] told: &str) {
    assert_eq!(told_of(line), [told]);
    assert_eq!(told_of(told), [told]);
    assert_eq!(read_it(line).terms[0].what, read_it(told).terms[0].what);
}

#[rstest]
#[case("summer 2024 videos", &["June 2024 to August 2024", "videos"])]
#[case("videos of Juno's phone in may", &["videos", "sent by Juno’s phone", "May of each year"])]
#[case("juno", &["sent by Juno’s phone"])]
#[case("desktop 2019", &["sent by Desktop 2019"])]
#[case("fujifilm 2019", &["taken with Fujifilm X100V", "2019"])]
#[case("pixel 8 pro", &["taken with Google Pixel 8 Pro"])]
#[case("ilva", &["sent by Pixel of Ilvá"])]
#[case("pixel", &["sent by Pixel of Ilvá, taken with Google Pixel 8 or 1 more"])]
#[case("\"juno\" kite", &["with “juno” in its name or words", "with “kite” in its name or words"])]
#[case("„harbour wall“", &["with “harbour wall” in its name or words"])]
#[case("\"harbour\0wall\"", &["with “harbour wall” in its name or words"])]
#[case("not yet offsite", &["no copy offsite"])]
#[case("photos not offsite", &["photos", "no copy offsite"])]
#[case("photos without screenshots", &["photos", "not: screenshots"])]
#[case("my favorites 2024 not videos", &["favourites", "2024", "not: videos"])]
#[case("not in 2024", &["not: 2024"])]
#[case("arrived in May 2024 videos", &["arrived May 2024", "videos"])]
#[case("came lately", &["arrived since 1 November 2026"])]
#[case("arrived since 1 November 2026", &["arrived since 1 November 2026"])]
#[case("not added this week 2019", &["not: arrived 30 November 2026 to 6 December 2026", "2019"])]
#[case("received at Christmas", &["arrived each Christmas"])]
#[case("came kite", &["with “came” in its name or words", "with “kite” in its name or words"])]
#[case("screenshots put away 2024", &["screenshots", "put away", "2024"])]
#[case("put", &["with “put” in its name or words"])]
#[case("raw files damaged", &["raw files", "damaged at home"])]
#[case("all my pictures", &[])]
#[case("IMG_2019", &["with “IMG_2019” in its name or words"])]
#[case("3/5/2019", &["with “3/5/2019” in its name or words"])]
#[case("9999", &["with “9999” in its name or words"])]
#[case("30 february 2024", &["with “30” in its name or words", "February 2024"])]
fn words_are_read_in_any_order(#[case] line: &str, #[case] told: &[&str]) {
    let request = read_it(line);
    // "30" alone is too short for a name, and is said.
    let all: Vec<String> = request
        .unknown
        .iter()
        .map(|(w, _)| format!("with “{w}” in its name or words"))
        .chain(request.terms.into_iter().map(|t| t.told))
        .collect();
    assert_eq!(all, told, "{line}");
}

#[test]
fn each_part_can_be_left_out() {
    let request = read_it("videos of Juno’s phone, not in May 2024 \"harbour wall\"");
    let rests: Vec<&str> = request.terms.iter().map(|t| t.rest.as_str()).collect();
    assert_eq!(
        rests,
        [
            "of Juno’s phone, not in May 2024 \"harbour wall\"",
            "videos , not in May 2024 \"harbour wall\"",
            "videos of Juno’s phone, \"harbour wall\"",
            "videos of Juno’s phone, not in May 2024"
        ]
    );
    for (n, rest) in rests.into_iter().enumerate() {
        let mut others = request.terms.clone();
        others.remove(n);
        let told: Vec<String> = read_it(rest).terms.into_iter().map(|t| t.told).collect();
        assert_eq!(told, others.into_iter().map(|t| t.told).collect::<Vec<_>>(), "{rest}");
    }
}

#[test]
fn what_is_too_short_or_too_much_is_said() {
    assert_eq!(read_it("ab kite").unknown, [("ab".to_owned(), "it is too short")]);
    assert_eq!(read_it("“  ” ... ~").unknown.len(), 3);
    let many = (0..60).map(|n| format!("kite{n}")).collect::<Vec<_>>().join(" ");
    let request = read_it(&many);
    assert_eq!((request.terms.len(), request.unknown.len()), (MOST_TERMS, 20));
}

/// Lines put together from what the grammar knows and what it does not.
#[test]
fn whatever_is_typed_is_read_and_no_word_is_lost() {
    let pieces = [
        "since",
        "before",
        "between",
        "and",
        "to",
        "–",
        "-",
        "from",
        "not",
        "last",
        "this",
        "3",
        "31st",
        "2024",
        "may",
        "29",
        "feb",
        "summer",
        "each",
        "year",
        "ago",
        "0",
        "4294967295",
        "days",
        "weeks",
        "99999999999",
        "raw",
        "files",
        "offsite",
        "no",
        "copy",
        "pixel",
        "8",
        "\"",
        "„",
        "“",
        "é",
        "̈",
        "\u{202e}",
        "🪁",
        "kite",
        "1990s",
        "2019-02-31",
        "0/0/2019",
        "1/2/3",
        "..",
        "'",
        ",",
        "of",
        "new",
        "years",
        "eve",
        "\0",
        "İ",
        "ß",
        "%",
        "_",
        "\\",
    ];
    let mut seed = 7u64;
    let mut draw = |n: usize| {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) as usize % n
    };
    for _ in 0..20_000 {
        let line: Vec<&str> = (0..1 + draw(9)).map(|_| pieces[draw(pieces.len())]).collect();
        let line = line.join(["", " "][draw(2)]);
        let request = read_it(&line);
        for term in &request.terms {
            // What is left is read without what was left out, and is no longer.
            assert!(term.rest.len() < line.len(), "{line:?} {term:?}");
            if let What::Taken(days) = term.what {
                for spans in [days.spans(2000, 2026), without(&days.spans(2000, 2026))] {
                    assert!(spans.is_sorted() && spans.iter().all(|s| s.from < s.until), "{line:?} {spans:?}");
                    assert!(spans.windows(2).all(|w| w[0].until <= w[1].from), "{line:?} {spans:?}");
                }
            }
        }
        // Twice the same is the same.
        assert_eq!(request, read_it(&line));
        for one in suggest(&line, vocabulary(), day(TODAY), 8) {
            assert!(one.line.ends_with(&one.added));
        }
    }
}

#[test]
fn spans_are_cut_and_turned_round() {
    let spans = |pairs: &[(i64, i64)]| -> Vec<Span> {
        let at = |n: i64| day("2000-01-01") + chrono::TimeDelta::days(n);
        pairs.iter().map(|(a, b)| Span { from: at(*a), until: at(*b) }).collect()
    };
    assert_eq!(both(&spans(&[(0, 10), (20, 30)]), &spans(&[(5, 25), (29, 40)])), spans(&[(5, 10), (20, 25), (29, 30)]));
    assert_eq!(both(&spans(&[(0, 10)]), &[]), []);
    assert_eq!(without(&[]), [Span::ALL]);
    assert_eq!(without(&[Span::ALL]), []);
    let some = spans(&[(0, 10), (20, 30)]);
    assert_eq!(without(&without(&some)), some);
    assert_eq!(both(&some, &without(&some)), []);
    let request = read_it("christmas not 2023");
    assert_eq!(
        request
            .taken(2022, 2024)
            .unwrap()
            .iter()
            .filter(|s| s.from.to_string().starts_with("202"))
            .map(|s| s.from.to_string())
            .collect::<Vec<_>>(),
        ["2021-12-24", "2022-12-24", "2024-12-24", "2025-12-24"]
    );
    assert_eq!(read_it("kite").taken(2022, 2024), None);
}

/// Sundays as the almanacs have them.
#[rstest]
#[case(1900, "1900-04-15")]
#[case(1954, "1954-04-18")]
#[case(1981, "1981-04-19")]
#[case(2000, "2000-04-23")]
#[case(2026, "2026-04-05")]
#[case(2038, "2038-04-25")]
fn easter_is_when_it_is(#[case] year: i32, #[case] sunday: &str) {
    assert_eq!(Yearly::Easter.of(year).unwrap().until, day(sunday) + chrono::TimeDelta::days(2));
}

#[rstest]
#[case("kite jun", &["kite Juno’s phone", "kite June"])]
#[case("scr", &["screenshots"])]
#[case("google", &["Google Pixel 8", "Google Pixel 8 Pro"])]
#[case("2024 chr", &["2024 christmas", "2024 christmas eve"])]
#[case("dam", &["damaged at home"])]
#[case("videos ", &[])]
#[case("\"jun", &[])]
#[case("", &[])]
fn what_one_begins_to_type_is_suggested(#[case] line: &str, #[case] lines: &[&str]) {
    let found: Vec<String> = suggest(line, vocabulary(), day(TODAY), 8).into_iter().map(|s| s.line).collect();
    assert_eq!(found, lines);
}

#[test]
fn albums_are_meant_by_their_whole_name_or_after_the_word() {
    for (line, told) in [
        ("kites", vec!["in the album “Kites”"]),
        ("the kite festival", vec!["in the album “The kite festival”"]),
        ("album kite", vec!["in the album “The kite festival”"]),
        ("not album festival 2023", vec!["not: in the album “The kite festival”", "2023"]),
        ("kite", vec!["with “kite” in its name or words"]),
        // Days and kinds are what they are, unless it is said.
        ("summer 2024", vec!["June 2024 to August 2024"]),
        ("album summer 2024", vec!["in the album “Summer 2024”"]),
        ("videos", vec!["videos"]),
        ("videos in album videos", vec!["videos", "in the album “Videos”"]),
        ("album \"kites\"", vec!["with “album” in its name or words", "with “kites” in its name or words"]),
        ("album", vec!["with “album” in its name or words"]),
    ] {
        assert_eq!(told_of(line), told, "{line}");
    }
    let suggested = suggest("videos fest", vocabulary(), day(TODAY), 5);
    assert_eq!(suggested[0].line, "videos album The kite festival");
    assert_eq!(told_of(&suggested[0].line), ["videos", "in the album “The kite festival”"]);
}

#[test]
fn how_safe_pictures_of_others_are_is_not_told() {
    let vocabulary = Vocabulary { of_others: true, ..vocabulary().clone() };
    for line in ["no copy offsite", "offsite", "proven", "damaged at home", "not damaged"] {
        let request = read(line, &vocabulary, day(TODAY));
        assert_eq!(request.terms, [], "{line}");
        assert_eq!(request.unknown[0].1, "how safe pictures are is told in the library", "{line}");
    }
}

fn near_of(line: &str) -> (Vec<i32>, String) {
    let request = read_it(line);
    assert_eq!(request.unknown, [], "{line}");
    match request.terms.as_slice() {
        [Term { what: What::Near { towns, .. }, told, .. }] => (towns.clone(), told.clone()),
        other => panic!("{line}: {other:?}"),
    }
}

#[rstest]
#[case("Leiden", &[1], "taken near Leiden, Netherlands, or with “Leiden” in its name or words")]
#[case("near LEIDÉN", &[1], "taken near Leiden, Netherlands, or with “LEIDÉN” in its name or words")]
#[case("the hague", &[2], "taken near The Hague, Netherlands, or with “the hague” in its name or words")]
#[case("in Norway", &[3], "taken in Norway, or with “Norway” in its name or words")]
#[case("holland", &[1, 2], "taken in the Netherlands, or with “holland” in its name or words")]
#[case("The Netherlands", &[1, 2], "taken in the Netherlands, or with “The Netherlands” in its name or words")]
#[case("south holland", &[1, 2], "taken in South Holland, Netherlands, or with “south holland” in its name or words")]
#[case("frankfurt", &[4, 5], "taken near Frankfurt (Oder), Germany or near Frankfurt am Main, Germany, or with “frankfurt” in its name or words")]
#[case("Frankfurt am Main", &[4], "taken near Frankfurt am Main, Germany, or with “Frankfurt am Main” in its name or words")]
#[case("UK", &[7], "taken in the United Kingdom")]
#[case("England", &[7], "taken in England, United Kingdom, or with “England” in its name or words")]
fn places_are_named(#[case] line: &str, #[case] towns: &[i32], #[case] told: &str) {
    assert_eq!(near_of(line), (towns.to_vec(), told.to_owned()));
}

#[test]
fn places_stand_beside_all_else() {
    assert_eq!(told_of("videos in norway 2024"), ["videos", "taken in Norway, or with “norway” in its name or words", "2024"]);
    assert_eq!(told_of("not leiden"), ["not: taken near Leiden, Netherlands, or with “leiden” in its name or words"]);
    // Of an album and a town of the same name, the album is meant; what says nothing by itself is no town.
    assert_eq!(told_of("kites"), ["in the album “Kites”"]);
    assert_eq!(told_of("photos of juno"), ["photos", "sent by Juno’s phone"]);
    assert_eq!(told_of("\"leiden\""), ["with “leiden” in its name or words"]);
    // Not where nothing was taken.
    assert_eq!(told_of("sweden"), ["with “sweden” in its name or words"]);
    let lines = |line: &str| suggest(line, vocabulary(), day(TODAY), 9).into_iter().map(|s| s.line).collect::<Vec<_>>();
    assert_eq!(lines("videos lei"), ["videos Leiden"]);
    assert_eq!(lines("nor"), ["Norway"]);
}

#[test]
fn a_part_of_a_map_is_read() {
    let request = read_it("52.15/4.48..52.17/4.5 2024");
    assert_eq!(request.unknown, []);
    assert!(matches!(request.terms[0].what, What::Within(_)));
    assert_eq!(request.terms[0].told, "on the map around 52.16° N, 4.49° E");
    assert_eq!(request.terms[0].rest, "2024");
    // What is none has no word that a name could have.
    for line in ["52.15/4.48", "99.15/4.48..52.17/4.5", "\"52.15/4.48..52.17/4.5\""] {
        assert_eq!(read_it(line).terms, [], "{line}");
    }
}

#[rstest]
#[case(r#"folder "Juno/2026/04""#, Some("Juno/2026/04"))]
#[case("folder juno/2026", Some("juno/2026"))]
#[case("folder 2026/04", Some("Juno/2026/04"))]
#[case(r#"folder "/Old disk//Summer 2024/""#, Some("Juno/Old disk/Summer 2024"))]
#[case("folder “JUNO”", Some("JUNO"))]
#[case("videos folder 2026 not leiden", Some("Juno/2026"))]
#[case("folder /", None)]
#[case(r#""folder" 2026"#, None)]
#[case("folder", None)]
fn folders_are_named_as_they_are_on_the_disk(#[case] line: &str, #[case] path: Option<&str>) {
    let found: Vec<String> =
        read_it(line).terms.into_iter().filter_map(|t| if let What::Folder(path) = t.what { Some(path) } else { None }).collect();
    assert_eq!(found.first().map(String::as_str), path);
}

#[test]
fn nobody_is_told_the_folders_of_others() {
    let vocabulary = Vocabulary { folder: String::new(), ..vocabulary().clone() };
    let request = read("folder Juno/2026", &vocabulary, day(TODAY));
    assert_eq!(request.terms, []);
    assert_eq!(request.unknown, [("folder Juno/2026".to_owned(), "in which folders pictures are is told in the library")]);
}
