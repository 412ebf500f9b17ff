//! What somebody who looks for pictures means by what they typed.
//!
//! A line of words is read from its beginning. At each place the reading is taken that has the most words, and among those of the same length
//! days come first (of taking, and after "arrived" of coming here), then folders, kinds, copies, devices and cameras, albums, and places. What is none of these is a word that the names of the picture's
//! file and folders, its lens, or its title and caption, have somewhere. Words between quotation marks are always that. Everything that was understood must be so of a picture; what
//! follows "not" must not be.

pub mod days;
pub mod followed;

use std::collections::BTreeMap;

use chrono::{Days as Many, NaiveDate};
use unicode_normalization::{UnicodeNormalization, char::is_combining_mark};

use crate::{
    AlbumId, DeviceId,
    kind::MediaKind,
    spot::Area,
    town::{self, Town},
};
use days::{Days, Span};

/// The longest line that is read, in characters.
pub const LONGEST: usize = 500;
/// A word must have so many characters: shorter ones are in nearly every name, and no index has them.
pub const SHORTEST_WORD: usize = 3;
/// No line is read as more terms.
const MOST_TERMS: usize = 40;
/// No name of a device or camera has more words that matter.
const MOST_WORDS: usize = 8;

/// What a member's pictures are told apart by, and what people may therefore type.
#[derive(Clone, Debug, Default)]
pub struct Vocabulary {
    /// The member's devices.
    pub devices: Vec<(DeviceId, String)>,
    /// The cameras that took their pictures.
    pub cameras: Vec<String>,
    /// The albums that they see.
    pub albums: Vec<(AlbumId, String)>,
    /// Where their pictures were taken.
    pub places: Places,
    /// The folder of the library that is the member's own; empty, where folders are not told.
    pub folder: String,
    /// Whether pictures of others are among those that are looked through: how safe those are is not theirs to know who look.
    pub of_others: bool,
}

/// How the copies of a picture's files are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Copies {
    /// One of its files has none offsite.
    OnlyHome,
    /// Each of its files has one offsite.
    Offsite,
    /// Of each of its files, one offsite was opened and compared.
    Proven,
    /// One of its files at home is damaged or missing.
    Damaged,
}

/// One thing that must be so of a picture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum What {
    /// It was taken then.
    Taken(Days),
    /// It came home then.
    Arrived(Days),
    /// It is of that kind, or has a file of it.
    Kind(MediaKind),
    /// A device's picture of its own screen.
    Screenshot,
    /// Who looks for it likes it best.
    Favourite,
    /// It was put away.
    PutAway,
    /// Its copies are like that.
    Copies(Copies),
    /// It is in one of these albums.
    In(Vec<(AlbumId, String)>),
    /// One of these devices sent it, or one of these cameras took it.
    By {
        /// The devices.
        devices: Vec<(DeviceId, String)>,
        /// The cameras.
        cameras: Vec<String>,
    },
    /// It was taken near one of these towns, or has the name of that somewhere, as [`What::Named`]: many a picture says nothing of where it was taken.
    Near {
        /// What they are called together, to follow "taken".
        place: String,
        /// The towns, by their numbers.
        towns: Vec<i32>,
        /// What was typed; empty if it is too short for a name.
        named: String,
    },
    /// It was taken in this part of the earth.
    Within(Area),
    /// A file of it is in this folder of the library, or below.
    Folder(String),
    /// A name of its file or folders, its lens, or what is said about it, has this somewhere.
    Named(String),
}

/// A part of the line that was understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Term {
    /// What it means.
    pub what: What,
    /// It must not be so.
    pub not: bool,
    /// As people say it.
    pub told: String,
    /// The line without it.
    pub rest: String,
}

/// A line as it was understood.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Request {
    /// What must be so of a picture, all of it.
    pub terms: Vec<Term>,
    /// What was not understood, as it was typed, each with the reason, to follow it in a sentence.
    pub unknown: Vec<(String, &'static str)>,
}

impl Request {
    /// The spans in which a picture may have been taken, in order and apart, of a library whose pictures are of these years; `None`: nothing was said.
    pub fn taken(&self, first: i32, last: i32) -> Option<Vec<Span>> {
        let said = self.terms.iter().filter_map(|t| match t.what {
            What::Taken(days) if t.not => Some(days::without(&days.spans(first, last))),
            What::Taken(days) => Some(days.spans(first, last)),
            _ => None,
        });
        said.reduce(|a, b| days::both(&a, &b))
    }
}

/// A word of a line.
struct Word {
    /// Where it is, in bytes.
    from: usize,
    until: usize,
    /// Without accents, in small letters, without apostrophes: as it is compared.
    plain: String,
    /// As names are compared, which are split at all signs.
    names: Vec<String>,
    quoted: bool,
}

/// Letters without accents, small; apostrophes are left out.
fn plain(text: &str) -> String {
    let letters = text.nfkd().filter(|c| !is_combining_mark(*c) && !matches!(c, '\'' | '’' | 'ʼ'));
    letters.flat_map(char::to_lowercase).collect()
}

/// The words of a name that a device or camera has; of "Juno’s", Juno.
fn words_of(name: &str) -> Vec<String> {
    let owners = name.split_whitespace().map(|w| w.strip_suffix("’s").or(w.strip_suffix("'s")).unwrap_or(w));
    plain(&owners.collect::<Vec<_>>().join(" "))
        .split(|c: char| !c.is_alphanumeric())
        .filter(|w| !w.is_empty())
        .map(str::to_owned)
        .collect()
}

/// Between these, everything is one word: marks of one's own language are as good.
fn closing(mark: char) -> Option<&'static [char]> {
    match mark {
        '"' => Some(&['"']),
        '“' | '„' => Some(&['”', '“']),
        '«' => Some(&['»']),
        _ => None,
    }
}

fn split(line: &str) -> Vec<Word> {
    let mut words = Vec::new();
    let mut rest = line.char_indices().peekable();
    while let Some((from, c)) = rest.next() {
        if c.is_whitespace() || c.is_control() || c == ',' || c == ';' {
            continue;
        }
        if let Some(ends) = closing(c) {
            let start = from + c.len_utf8();
            let end = line[start..].find(ends).map_or(line.len(), |n| start + n);
            let until = line[end..].chars().next().map_or(end, |c| end + c.len_utf8());
            words.push(Word {
                from,
                until,
                plain: line[start..end].replace(char::is_control, " ").trim().to_owned(),
                names: Vec::new(),
                quoted: true,
            });
            while rest.next_if(|(at, _)| *at < until).is_some() {}
            continue;
        }
        let mut until = from + c.len_utf8();
        while let Some((at, c)) =
            rest.next_if(|(_, c)| !c.is_whitespace() && !c.is_control() && !matches!(c, ',' | ';') && closing(*c).is_none())
        {
            until = at + c.len_utf8();
        }
        // Dashes of all lengths say "to".
        let plain = plain(&line[from..until]).replace(['–', '—'], "-");
        words.push(Word { from, until, plain, names: words_of(&line[from..until]), quoted: false });
    }
    words
}

/// Words that say nothing by themselves.
const FILLERS: [&str; 28] = [
    "a", "all", "an", "and", "any", "around", "at", "by", "during", "for", "from", "in", "is", "me", "my", "near", "of", "on",
    "our", "show", "sent", "taken", "that", "the", "to", "were", "where", "with",
];
/// Words before the days on which something came, and what follows them where those were not long ago.
const CAME: [&str; 4] = ["arrived", "came", "received", "added"];
const LATELY: [&str; 2] = ["lately", "recently"];
/// So many days are not long ago, today with them.
const A_WHILE: u64 = 30;
/// What everything here is.
const EVERYTHING: [&str; 4] = ["everything", "picture", "pictures", "files"];
const NEGATIONS: [&str; 4] = ["not", "without", "no", "except"];
/// What people say of kinds and copies, in small letters, and what they mean. The first of each is how it is told.
const FIXED: [(What, &[&str]); 10] = [
    (What::Kind(MediaKind::Photo), &["photos", "photo", "photographs", "photograph", "images", "image", "stills"]),
    (What::Kind(MediaKind::Video), &["videos", "video", "films", "film", "movies", "movie", "clips", "clip"]),
    (What::Kind(MediaKind::Raw), &["raw files", "raw file", "raw", "raws"]),
    (What::Screenshot, &["screenshots", "screenshot", "screen shots", "screen shot"]),
    (What::Favourite, &["favourites", "favourite", "favorites", "favorite"]),
    (What::PutAway, &["put away"]),
    (
        What::Copies(Copies::OnlyHome),
        &[
            "no copy offsite",
            "not offsite",
            "not yet offsite",
            "only at home",
            "no copy offsite yet",
            "not away",
            "not yet away",
            "without a copy offsite",
        ],
    ),
    (What::Copies(Copies::Offsite), &["offsite", "with a copy offsite", "away"]),
    (What::Copies(Copies::Proven), &["checked offsite", "proven", "checked"]),
    (What::Copies(Copies::Damaged), &["damaged at home", "damaged", "broken", "missing at home"]),
];

/// How many of the words say this.
fn says(words: &[Word], phrase: &str) -> Option<usize> {
    let count = phrase.split(' ').count();
    let same = words.len() >= count && phrase.split(' ').zip(words).all(|(p, w)| !w.quoted && w.plain == p);
    same.then_some(count)
}

fn fixed(words: &[Word]) -> Option<(What, usize)> {
    let all = FIXED.iter().flat_map(|(what, phrases)| phrases.iter().filter_map(move |p| Some((what.clone(), says(words, p)?))));
    all.max_by_key(|(_, used)| *used)
}

/// Devices and cameras whose names have these words, one after the other: as many words as any of them has.
fn by(words: &[Word], known: &Known<'_>) -> Option<(What, usize)> {
    let typed: Vec<&Word> = words.iter().take_while(|w| !w.quoted).take(MOST_WORDS).collect();
    (1..=typed.len()).rev().find_map(|used| {
        let run: Vec<String> = typed[..used].iter().flat_map(|w| w.names.clone()).collect();
        // A single letter, or a number, names nothing by itself.
        if run.is_empty() || run.iter().all(|w| w.chars().count() < SHORTEST_WORD || w.chars().all(|c| c.is_ascii_digit())) {
            return None;
        }
        let has = |name: &[String]| name.windows(run.len()).any(|w| w == run);
        let devices: Vec<_> = known.devices.iter().filter(|(_, name)| has(name)).map(|(d, _)| (*d).clone()).collect();
        let cameras: Vec<_> = known.cameras.iter().filter(|(_, name)| has(name)).map(|(c, _)| (*c).clone()).collect();
        (!devices.is_empty() || !cameras.is_empty()).then_some((What::By { devices, cameras }, used))
    })
}

/// Before the name of an album; then a part of it is enough.
const ALBUM: [&str; 2] = ["album", "albums"];

/// Albums: after "album", those whose names have these words, one after the other, as many as any of them has; otherwise those that are called just so.
fn album(words: &[Word], known: &Known<'_>) -> Option<(What, usize)> {
    let named = |words: &[Word], whole: bool| {
        let typed: Vec<&Word> = words.iter().take_while(|w| !w.quoted).take(MOST_WORDS).collect();
        (1..=typed.len()).rev().find_map(|used| {
            let run: Vec<String> = typed[..used].iter().flat_map(|w| w.names.clone()).collect();
            let is_named = |name: &[String]| if whole { name == run } else { name.windows(run.len()).any(|w| w == run) };
            let found: Vec<_> = known.albums.iter().filter(|(_, name)| is_named(name)).map(|(a, _)| (*a).clone()).collect();
            (!run.is_empty() && !found.is_empty()).then_some((found, used))
        })
    };
    let (found, used) = match words.first().filter(|w| !w.quoted && ALBUM.contains(&w.plain.as_str())) {
        Some(_) => named(&words[1..], false).map(|(found, used)| (found, used + 1))?,
        None => named(words, true)?,
    };
    Some((What::In(found), used))
}

/// Somewhere that pictures were taken, and what it is called.
#[derive(Clone, Debug)]
struct Somewhere {
    /// As it is suggested.
    called: String,
    names: Vec<Vec<String>>,
    /// A part of its name is enough.
    in_part: bool,
    told: String,
    towns: Vec<i32>,
}

/// Towns, regions and countries that pictures were taken in.
#[derive(Clone, Debug, Default)]
pub struct Places {
    all: Vec<Somewhere>,
    /// Those that have a name that begins with this word.
    by_word: BTreeMap<String, Vec<usize>>,
}

impl Places {
    /// Of the towns that pictures were taken near.
    pub fn of(towns: &[Town]) -> Self {
        let mut all: BTreeMap<(u8, String), Somewhere> = BTreeMap::new();
        for town in towns {
            let country = town::country(&town.country);
            let kinds = [
                (0, &town.name[..], format!("near {}", town.told())),
                (1, &town.region, format!("in {}, {country}", town.region)),
                (2, country, format!("in {}", town::with_article(&town.country))),
            ];
            for (rank, called, told) in kinds.into_iter().filter(|(_, called, _)| !called.is_empty()) {
                let new = || Somewhere {
                    called: called.to_owned(),
                    names: match rank {
                        2 => town::names(&town.country).map(words_of).collect(),
                        _ => vec![words_of(called)],
                    },
                    in_part: rank == 0,
                    told: told.clone(),
                    towns: Vec::new(),
                };
                all.entry((rank, told.clone())).or_insert_with(new).towns.push(town.id);
            }
        }
        let all: Vec<Somewhere> = all.into_values().collect();
        let mut by_word: BTreeMap<String, Vec<usize>> = BTreeMap::new();
        for (n, place) in all.iter().enumerate() {
            place.names.iter().filter_map(|name| name.first()).for_each(|word| by_word.entry(word.clone()).or_default().push(n));
        }
        Places { all, by_word }
    }

    /// Those that are called just so; otherwise towns whose names begin like that.
    fn called(&self, run: &[String]) -> Vec<&Somewhere> {
        let all = || run.first().and_then(|word| self.by_word.get(word)).into_iter().flatten().map(|n| &self.all[*n]);
        let found: Vec<&Somewhere> = all().filter(|s| s.names.iter().any(|name| name == run)).collect();
        if !found.is_empty() || run[0].chars().count() < SHORTEST_WORD {
            return found;
        }
        all().filter(|s| s.in_part && s.names.iter().any(|name| name.starts_with(run))).collect()
    }
}

/// A place, as many words as any has.
fn near(line: &str, words: &[Word], places: &Places) -> Option<(What, usize)> {
    let typed: Vec<&Word> = words.iter().take_while(|w| !w.quoted).take(MOST_WORDS).collect();
    (1..=typed.len()).rev().find_map(|used| {
        let run: Vec<String> = typed[..used].iter().flat_map(|w| w.names.iter().cloned()).collect();
        // What says nothing by itself is no town here, though towns have such names.
        let means_nothing = |w: &String| [&FILLERS[..], &EVERYTHING, &NEGATIONS].iter().any(|all| all.contains(&w.as_str()));
        if run.iter().all(|w| means_nothing(w) || w.chars().all(|c| c.is_ascii_digit())) {
            return None;
        }
        let found = places.called(&run);
        let place = match found.as_slice() {
            [] => return None,
            [one] => one.told.clone(),
            [one, other] => format!("{} or {}", one.told, other.told),
            [one, rest @ ..] => format!("{} or {} more places", one.told, rest.len()),
        };
        let mut towns: Vec<i32> = found.iter().flat_map(|s| s.towns.clone()).collect();
        towns.sort_unstable();
        towns.dedup();
        let typed = &line[words[0].from..words[used - 1].until];
        let named = if has_a_word(typed) { typed.to_owned() } else { String::new() };
        Some((What::Near { place, towns, named }, used))
    })
}

/// A part of a map, as the map writes it.
fn within(words: &[Word]) -> Option<(What, usize)> {
    let word = words.first().filter(|w| !w.quoted)?;
    Some((What::Within(Area::read(&word.plain)?), 1))
}

/// Before a folder of the library.
const FOLDER: &str = "folder";

/// A folder as it is on the disk, `folder "Juno/2026/04"`; without the member's own at its beginning, it is below that.
fn folder(line: &str, words: &[Word], own: &str) -> Option<(What, usize)> {
    let [before, named, ..] = words else { return None };
    if before.quoted || before.plain != FOLDER {
        return None;
    }
    let typed = if named.quoted { &named.plain } else { &line[named.from..named.until] };
    let path = typed.split('/').map(str::trim).filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/");
    if path.is_empty() {
        return None;
    }
    let first = path.split('/').next().unwrap_or_default();
    let is_own = own.is_empty() || first.to_lowercase() == own.to_lowercase();
    Some((What::Folder(if is_own { path } else { format!("{own}/{path}") }), 2))
}

/// A vocabulary whose names are in words.
struct Known<'a> {
    albums: Vec<(&'a (AlbumId, String), Vec<String>)>,
    devices: Vec<(&'a (DeviceId, String), Vec<String>)>,
    cameras: Vec<(&'a String, Vec<String>)>,
}

fn days(words: &[Word], today: NaiveDate) -> Option<(What, usize)> {
    let plain: Vec<&str> = words.iter().take_while(|w| !w.quoted).map(|w| w.plain.as_str()).collect();
    days::read(&plain, today).map(|(days, used)| (What::Taken(days), used))
}

/// When something came: "arrived in May", "came lately".
fn arrived(words: &[Word], today: NaiveDate) -> Option<(What, usize)> {
    let plain = |at: usize| words.get(at).filter(|w| !w.quoted).map(|w| w.plain.as_str());
    plain(0).filter(|w| CAME.contains(w))?;
    if plain(1).is_some_and(|w| LATELY.contains(&w)) {
        let from = today.checked_sub_days(Many::new(A_WHILE - 1))?;
        return Some((What::Arrived(Days::Span(Span { from, ..Span::ALL })), 2));
    }
    let filler = usize::from(plain(1).is_some_and(|w| ["in", "on", "at", "during"].contains(&w)));
    let (what, used) = days(words.get(1 + filler..)?, today)?;
    let What::Taken(days) = what else { return None };
    Some((What::Arrived(days), 1 + filler + used))
}

/// Reads a line. `today` is the day on which it is asked, where the house is.
pub fn read(line: &str, vocabulary: &Vocabulary, today: NaiveDate) -> Request {
    let (words, mut request) = (split(line), Request::default());
    let known = Known {
        devices: vocabulary.devices.iter().map(|d| (d, words_of(&d.1))).collect(),
        cameras: vocabulary.cameras.iter().map(|c| (c, words_of(c))).collect(),
        albums: vocabulary.albums.iter().map(|a| (a, words_of(&a.1))).collect(),
    };
    let (mut at, mut begins, mut not) = (0, None, false);
    while let Some(word) = words.get(at) {
        let rest = &words[at..];
        // Of readings of the same length the last is taken: the most certain one comes last.
        let meaning = [
            near(line, rest, &vocabulary.places),
            album(rest, &known),
            by(rest, &known),
            fixed(rest),
            days(rest, today),
            arrived(rest, today),
            within(rest),
            folder(line, rest, &vocabulary.folder),
        ]
        .into_iter()
        .flatten()
        .max_by_key(|(_, used)| *used);
        let (what, used) = match meaning {
            Some(meaning) => meaning,
            None if !word.quoted && NEGATIONS.contains(&word.plain.as_str()) && at + 1 < words.len() => {
                begins = begins.or(Some(word.from));
                (not, at) = (true, at + 1);
                continue;
            }
            None if !word.quoted && (FILLERS.contains(&word.plain.as_str()) || EVERYTHING.contains(&word.plain.as_str())) => {
                begins = begins.or(Some(word.from));
                at += 1;
                continue;
            }
            None => (What::Named(named(line, word)), 1),
        };
        let (from, until) = (begins.unwrap_or(word.from), rest[used - 1].until);
        at += used;
        let typed = line[word.from..until].to_owned();
        let refused = match &what {
            _ if request.terms.len() == MOST_TERMS => Some("there are too many words"),
            What::Named(text) if !has_a_word(text) => Some("it is too short"),
            What::Copies(_) if vocabulary.of_others => Some("how safe pictures are is told in the library"),
            What::Folder(_) if vocabulary.folder.is_empty() => Some("in which folders pictures are is told in the library"),
            _ => None,
        };
        match refused {
            Some(why) => request.unknown.push((typed, why)),
            None => {
                let told = format!("{}{}", if not { "not: " } else { "" }, told(&what));
                let rest = format!("{} {}", line[..from].trim(), line[until..].trim()).trim().to_owned();
                request.terms.push(Term { what, not, told, rest });
            }
        }
        (begins, not) = (None, false);
    }
    request
}

/// Whether an index can be asked for it: so many letters stand together somewhere.
fn has_a_word(text: &str) -> bool {
    plain(text).split(|c: char| !c.is_alphanumeric()).any(|w| w.chars().count() >= SHORTEST_WORD)
}

/// The word as it is looked for: quoted ones as they are.
fn named(line: &str, word: &Word) -> String {
    if word.quoted { word.plain.clone() } else { line[word.from..word.until].to_owned() }
}

/// As people say it.
fn told(what: &What) -> String {
    match what {
        What::Taken(days) => days.told(),
        What::Arrived(days) => format!("arrived {}", days.told()),
        What::By { devices, cameras } => {
            let devices = devices.iter().map(|(_, name)| format!("sent by {name}"));
            let all: Vec<String> = devices.chain(cameras.iter().map(|c| format!("taken with {c}"))).collect();
            match all.as_slice() {
                [first, second, rest @ ..] if !rest.is_empty() => format!("{first}, {second} or {} more", rest.len()),
                all => all.join(" or "),
            }
        }
        What::In(albums) => match albums.as_slice() {
            [(_, name)] => format!("in the album “{name}”"),
            [(_, one), (_, other)] => format!("in the album “{one}” or “{other}”"),
            all => format!("in one of {} albums", all.len()),
        },
        What::Near { place, named, .. } if named.is_empty() => format!("taken {place}"),
        What::Near { place, named, .. } => format!("taken {place}, or with “{named}” in its name or words"),
        What::Within(area) => area.told(),
        What::Folder(path) => format!("in the folder {path}"),
        What::Named(text) => format!("with “{text}” in its name or words"),
        fixed => FIXED.iter().find(|(what, _)| what == fixed).map_or(String::new(), |(_, phrases)| phrases[0].to_owned()),
    }
}

/// A line that somebody may be about to type.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suggestion {
    /// The whole line.
    pub line: String,
    /// What was put in the place of its last word.
    pub added: String,
}

/// What the last word of a line may become: names of devices, cameras, albums and places, kinds, copies, months, seasons and feasts that have a word that
/// begins like it. What has it at its own beginning comes first.
pub fn suggest(line: &str, vocabulary: &Vocabulary, today: NaiveDate, most: usize) -> Vec<Suggestion> {
    let words = split(line);
    let Some(last) = words.last().filter(|w| !w.quoted && w.until == line.len()) else { return Vec::new() };
    let albums = vocabulary.albums.iter().map(|(_, name)| format!("album {name}"));
    let places = vocabulary.places.all.iter().map(|s| s.called.clone());
    let own = vocabulary
        .devices
        .iter()
        .map(|(_, name)| name.clone())
        .chain(vocabulary.cameras.iter().cloned())
        .chain(albums)
        .chain(places);
    let fixed = FIXED.iter().map(|(_, phrases)| phrases[0].to_owned()).chain(["came lately".to_owned()]);
    let mut found: Vec<(usize, String)> = own
        .chain(fixed)
        .chain(days::named())
        .filter_map(|added| {
            let at = words_of(&added).iter().position(|w| w.starts_with(&last.plain))?;
            Some((at, added))
        })
        .filter(|(_, added)| plain(added) != last.plain)
        .collect();
    found.sort_by_key(|(at, _)| *at);
    let before = &line[..last.from];
    let mut suggestions: Vec<Suggestion> = Vec::new();
    for (_, added) in found {
        let line = format!("{before}{added}");
        // It must mean something, and one thing.
        let means = read(&added, vocabulary, today);
        let one = means.unknown.is_empty() && means.terms.len() == 1 && !matches!(means.terms[0].what, What::Named(_));
        if one && line.chars().count() <= LONGEST && suggestions.iter().all(|s| s.line != line) {
            suggestions.push(Suggestion { line, added });
        }
        if suggestions.len() == most {
            break;
        }
    }
    suggestions
}

#[cfg(test)]
mod tests;
