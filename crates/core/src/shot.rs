//! Which originals belong to one press of the shutter.
//!
//! [`group`] is a pure function over facts: whatever order files arrive in, the same files make the same shots, because
//! every decision is about pairs and the pairs are joined at the end. The rules, strongest first:
//!
//! 1. The identifier inside the files: a still and a moving half that carry the same one belong together, wherever they
//!    lie. Two files that carry different ones never do.
//! 2. Name and time: files of one folder of one device whose names differ only in their extension (or in a mark that an
//!    edit leaves) belong together if they were taken within [`AT_ONCE`]. A moving half is short.
//! 3. A sidecar belongs to the file whose whole name it carries, or to the files whose stem it has.
//! 4. Whatever whose pictures they are said: that this file is a version of that one's picture. Nothing above speaks against it.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::{DeviceId, Digest, OriginalId, kind::MediaKind, name::split};

/// Files of one shot are taken within this time: some cameras write the raw file seconds after the JPEG, and a motion half
/// begins before the still.
pub const AT_ONCE: TimeDelta = TimeDelta::seconds(4);
/// A moving half is not longer than this. A real video of the same name as a picture is a film of its own.
pub const LONGEST_HALF: f64 = 10.0;

/// What grouping needs to know of an original.
#[derive(Clone, Debug, PartialEq)]
pub struct Piece {
    /// The original.
    pub id: OriginalId,
    /// Its bytes' identity; decides where everything else is equal, so that order of arrival never does.
    pub digest: Digest,
    /// The device it came from.
    pub device: Option<DeviceId>,
    /// Its folder there: the source and all folders below.
    pub folder: String,
    /// Its name there.
    pub name: String,
    /// What sort of file it is.
    pub kind: MediaKind,
    /// Media type, if the bytes told.
    pub media_type: Option<String>,
    /// When it was taken, if the file itself says so (not its name, nor its file time).
    pub taken: Option<DateTime<Utc>>,
    /// Length in seconds, for video.
    pub seconds: Option<f64>,
    /// The identifier that a still and its moving half share.
    pub pair: Option<String>,
    /// When somebody last had it stand for its shot, if they did.
    pub forward: Option<DateTime<Utc>>,
    /// The file of whose picture it is a version, because somebody says so.
    pub version_of: Option<OriginalId>,
}

/// No picture has more files because somebody says so.
pub const MOST_VERSIONS: usize = 100;

/// Whether a file of this kind can be a version of a picture that one of the other kind stands for: a film is none of a still.
pub fn can_be_version(kind: MediaKind, of: MediaKind) -> bool {
    let still = |kind| matches!(kind, MediaKind::Photo | MediaKind::Raw);
    still(kind) && still(of) || kind == MediaKind::Video && of == MediaKind::Video
}

/// What a file is to its shot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Part {
    /// A version that somebody edited.
    Edited,
    /// The still picture.
    Still,
    /// The same still picture in a format that old readers know.
    Twin,
    /// A video that stands by itself.
    Video,
    /// The raw data.
    Raw,
    /// The moving half.
    Motion,
    /// Anything else.
    Other,
    /// Words about it.
    Sidecar,
}

impl Part {
    /// Every part, in the order in which one of them stands for the shot.
    pub const ALL: [Part; 8] =
        [Self::Edited, Self::Still, Self::Twin, Self::Video, Self::Raw, Self::Motion, Self::Other, Self::Sidecar];

    /// What a file is to a shot that is it alone.
    pub fn of_kind(kind: MediaKind) -> Self {
        match kind {
            MediaKind::Photo => Self::Still,
            MediaKind::Video => Self::Video,
            MediaKind::Raw => Self::Raw,
            MediaKind::Sidecar => Self::Sidecar,
            MediaKind::Other => Self::Other,
        }
    }

    /// Whether a file that is this can stand for its shot because somebody says so.
    pub fn can_stand(self) -> bool {
        matches!(self, Self::Edited | Self::Still | Self::Twin | Self::Video | Self::Raw)
    }

    /// The word in database and API.
    pub fn word(self) -> &'static str {
        match self {
            Self::Edited => "edited",
            Self::Still => "still",
            Self::Twin => "twin",
            Self::Video => "video",
            Self::Raw => "raw",
            Self::Motion => "motion",
            Self::Other => "other",
            Self::Sidecar => "sidecar",
        }
    }

    /// The part for a word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|p| p.word() == word)
    }
}

/// The files of one press of the shutter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shot {
    /// Its files and what each is to it. The first one stands for the shot.
    pub parts: Vec<(OriginalId, Part)>,
}

impl Shot {
    /// The file that stands for the shot.
    pub fn lead(&self) -> OriginalId {
        self.parts[0].0
    }
}

/// The folder on the device and the bare name of an original: a name may hold folders of its own.
pub fn place_on_device(source: &str, name: &str) -> (String, String) {
    match name.rsplit_once('/') {
        Some((below, bare)) => (format!("{source}/{below}"), bare.to_owned()),
        None => (source.to_owned(), name.to_owned()),
    }
}

/// The name by which files of one shot find each other: without extension, edit marks and case, with its folder and device.
/// Two pieces whose keys differ can only belong together by their pair identifier.
pub fn key(device: Option<DeviceId>, folder: &str, name: &str) -> String {
    let device = device.map(|d| d.to_string()).unwrap_or_default();
    format!("{device}\n{}\n{}", folder.to_lowercase(), Named::of(name).base)
}

/// Groups pieces into shots. Every piece is in exactly one; a piece with no company is a shot by itself.
pub fn group(pieces: &[Piece]) -> Vec<Shot> {
    let named: Vec<Named> = pieces.iter().map(|p| Named::of(&p.name)).collect();
    let mut joined = Joined::new(pieces.len());
    join_by_pair(pieces, &mut joined);
    for alike in buckets(pieces).values() {
        join_by_name(pieces, &named, alike, &mut joined);
    }
    join_by_hand(pieces, &mut joined);
    joined.sets().into_iter().map(|set| shot_of(pieces, &named, &set)).collect()
}

fn join_by_pair(pieces: &[Piece], joined: &mut Joined) {
    let mut by_pair: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (i, p) in pieces.iter().enumerate() {
        if let Some(pair) = p.pair.as_deref().filter(|p| !p.is_empty()) {
            by_pair.entry(pair).or_default().push(i);
        }
    }
    for set in by_pair.values() {
        set.windows(2).for_each(|w| joined.join(w[0], w[1]));
    }
}

fn join_by_hand(pieces: &[Piece], joined: &mut Joined) {
    for (i, p) in pieces.iter().enumerate() {
        if let Some(of) = p.version_of.and_then(|of| pieces.iter().position(|q| q.id == of)) {
            joined.join(i, of);
        }
    }
}

fn buckets(pieces: &[Piece]) -> BTreeMap<String, Vec<usize>> {
    let mut buckets: BTreeMap<String, Vec<usize>> = BTreeMap::new();
    for (i, p) in pieces.iter().enumerate() {
        buckets.entry(key(p.device, &p.folder, &p.name)).or_default().push(i);
    }
    buckets
}

fn join_by_name(pieces: &[Piece], named: &[Named], alike: &[usize], joined: &mut Joined) {
    let (words, pictures): (Vec<usize>, Vec<usize>) = alike.iter().partition(|&&i| pieces[i].kind == MediaKind::Sidecar);
    for (n, &a) in pictures.iter().enumerate() {
        for &b in &pictures[n + 1..] {
            if belong(&pieces[a], &named[a], &pieces[b], &named[b]) {
                joined.join(a, b);
            }
        }
    }
    for w in words {
        // "IMG_1.JPG.xmp" speaks of one file; "IMG_1.xmp" of all that share its stem.
        let whole = pictures.iter().find(|&&p| named[w].stem == pieces[p].name.to_lowercase());
        let of: Vec<usize> = match whole {
            Some(&one) => vec![one],
            None => pictures.clone(),
        };
        let shots: BTreeSet<usize> = of.iter().map(|&p| joined.root(p)).collect();
        // Where several shots share a name, a sidecar without a whole name belongs to the oldest: the same whatever came last.
        let oldest = shots.into_iter().min_by_key(|&root| {
            of.iter().filter(|&&p| joined.root(p) == root).map(|&p| (pieces[p].taken, pieces[p].digest)).min()
        });
        if let Some(root) = oldest {
            joined.join(w, root);
        }
    }
}

/// Whether two files with the same base name belong together.
fn belong(a: &Piece, an: &Named, b: &Piece, bn: &Named) -> bool {
    if let (Some(x), Some(y)) = (&a.pair, &b.pair) {
        return x == y;
    }
    let plain = |p: &Piece| matches!(p.kind, MediaKind::Photo | MediaKind::Raw);
    let half = |p: &Piece| p.kind == MediaKind::Video && p.seconds.is_none_or(|s| s <= LONGEST_HALF);
    let kinds = match (plain(a), plain(b)) {
        (true, true) => true,
        (true, false) => half(b),
        (false, true) => half(a),
        // Two videos: only an edit of the other.
        (false, false) => a.kind == MediaKind::Video && b.kind == MediaKind::Video && an.edited != bn.edited,
    };
    // Two files of one kind and one name are different pictures unless one is an edit: a counter that began again.
    let different = an.edited != bn.edited || an.extension != bn.extension;
    let at_once = match (a.taken, b.taken) {
        (Some(x), Some(y)) => (x - y).abs() <= AT_ONCE,
        _ => true,
    };
    kinds && different && at_once
}

fn shot_of(pieces: &[Piece], named: &[Named], set: &[usize]) -> Shot {
    let heif = set.iter().any(|&i| is_heif(&pieces[i]));
    let still = set.iter().any(|&i| matches!(pieces[i].kind, MediaKind::Photo | MediaKind::Raw));
    let is_version = |i: usize| pieces[i].version_of.is_some_and(|of| set.iter().any(|&j| pieces[j].id == of));
    let part = |i: usize| match pieces[i].kind {
        MediaKind::Photo | MediaKind::Video if set.len() > 1 && (named[i].edited || is_version(i)) => Part::Edited,
        MediaKind::Photo if heif && !is_heif(&pieces[i]) => Part::Twin,
        MediaKind::Video if still => Part::Motion,
        kind => Part::of_kind(kind),
    };
    let mut parts: Vec<(Part, Digest, OriginalId)> = set.iter().map(|&i| (part(i), pieces[i].digest, pieces[i].id)).collect();
    parts.sort();
    // Whatever was brought forward last, by whom the picture is; everything else keeps its place.
    let said = |&&i: &&usize| pieces[i].forward.is_some() && part(i).can_stand();
    let forward = set.iter().filter(said).max_by_key(|&&i| (pieces[i].forward, pieces[i].digest));
    if let Some(first) = forward.and_then(|&i| parts.iter().position(|(.., id)| *id == pieces[i].id)) {
        parts[..=first].rotate_right(1);
    }
    Shot { parts: parts.into_iter().map(|(part, _, id)| (id, part)).collect() }
}

fn is_heif(p: &Piece) -> bool {
    p.media_type.as_deref().is_some_and(|t| matches!(t, "image/heic" | "image/heif" | "image/avif"))
}

/// A name, taken apart.
struct Named {
    /// Without its last extension, lower case.
    stem: String,
    /// Its last extension, lower case, with the dot.
    extension: String,
    /// Without all extensions of media, and without edit marks.
    base: String,
    /// Whether it carries an edit mark.
    edited: bool,
}

/// What programs put behind a name when they save an edited version.
const EDIT_MARKS: [&str; 8] = ["-edited", "_edited", " (edited)", "-edit", "_edit", " edited", "-bearbeitet", "~edited"];

impl Named {
    fn of(name: &str) -> Self {
        let lower = name.rsplit(['/', '\\']).next().unwrap_or(name).to_lowercase();
        let (stem, extension) = split(&lower);
        let mut base = stem;
        // "img_1.jpg.xmp" and "img_1.jpg" share a base.
        if MediaKind::from_extension(&lower) == MediaKind::Sidecar && MediaKind::from_extension(stem) != MediaKind::Other {
            base = split(stem).0;
        }
        let marked = EDIT_MARKS.iter().find_map(|mark| base.strip_suffix(mark).filter(|rest| !rest.is_empty()));
        let (base, edited) = match marked {
            Some(rest) => (rest.to_owned(), true),
            None => match edited_counter(base) {
                Some(rest) => (rest, true),
                None => (base.to_owned(), false),
            },
        };
        Named { stem: stem.to_owned(), extension: extension.to_owned(), base, edited }
    }
}

/// Some phones name an edited `IMG_0001` `IMG_E0001`.
fn edited_counter(base: &str) -> Option<String> {
    let digits = base.strip_prefix("img_e")?;
    (digits.len() == 4 && digits.bytes().all(|b| b.is_ascii_digit())).then(|| format!("img_{digits}"))
}

/// Disjoint sets, by path halving.
struct Joined(Vec<usize>);

impl Joined {
    fn new(n: usize) -> Self {
        Joined((0..n).collect())
    }

    fn root(&mut self, mut i: usize) -> usize {
        while self.0[i] != i {
            self.0[i] = self.0[self.0[i]];
            i = self.0[i];
        }
        i
    }

    fn join(&mut self, a: usize, b: usize) {
        let (a, b) = (self.root(a), self.root(b));
        self.0[a.max(b)] = a.min(b);
    }

    fn sets(&mut self) -> Vec<Vec<usize>> {
        let mut sets: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        for i in 0..self.0.len() {
            let root = self.root(i);
            sets.entry(root).or_default().push(i);
        }
        sets.into_values().collect()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use uuid::Uuid;

    use super::*;

    fn piece(name: &str) -> Piece {
        let media_type = match name.rsplit('.').next().unwrap_or_default().to_lowercase().as_str() {
            "heic" => Some("image/heic".to_owned()),
            "jpg" => Some("image/jpeg".to_owned()),
            _ => None,
        };
        Piece {
            id: OriginalId(Uuid::from_u128(u128::from_be_bytes(
                Digest::of(name.as_bytes()).as_bytes()[..16].try_into().unwrap(),
            ))),
            digest: Digest::of(name.as_bytes()),
            device: None,
            folder: "Camera".into(),
            name: name.into(),
            kind: MediaKind::from_extension(name),
            media_type,
            taken: None,
            seconds: None,
            pair: None,
            forward: None,
            version_of: None,
        }
    }

    fn at(name: &str, second: i64) -> Piece {
        Piece { taken: DateTime::from_timestamp(1_770_000_000 + second, 0), ..piece(name) }
    }

    /// Shots as names and parts, sorted, so that they can be read.
    fn told(pieces: &[Piece]) -> Vec<Vec<String>> {
        let name = |id: OriginalId| pieces.iter().find(|p| p.id == id).map(|p| p.name.clone()).unwrap_or_default();
        let mut shots: Vec<Vec<String>> = group(pieces)
            .into_iter()
            .map(|s| s.parts.iter().map(|(id, part)| format!("{} {}", name(*id), part.word())).collect())
            .collect();
        shots.sort();
        shots
    }

    #[rstest]
    #[case::alone(vec![piece("a.jpg")], "a.jpg still")]
    #[case::raw_and_jpeg(vec![at("R1.DNG", 2), at("R1.JPG", 0)], "R1.JPG still, R1.DNG raw")]
    #[case::counter_began_again(vec![at("R1.DNG", 90_000), at("R1.JPG", 0)], "R1.DNG raw | R1.JPG still")]
    #[case::motion_by_name(vec![at("I1.HEIC", 0), Piece { seconds: Some(2.9), ..at("I1.MOV", 1) }], "I1.HEIC still, I1.MOV motion")]
    #[case::a_film_of_the_same_name(vec![at("I1.HEIC", 0), Piece { seconds: Some(61.0), ..at("I1.MOV", 1) }], "I1.HEIC still | I1.MOV video")]
    #[case::heic_with_its_jpeg(vec![piece("I1.HEIC"), piece("I1.JPG")], "I1.HEIC still, I1.JPG twin")]
    #[case::edited_beside(vec![piece("I1.JPG"), piece("I1-edited.jpg")], "I1-edited.jpg edited, I1.JPG still")]
    #[case::edited_counter(vec![piece("IMG_0042.JPG"), piece("IMG_E0042.JPG")], "IMG_E0042.JPG edited, IMG_0042.JPG still")]
    #[case::edited_alone(vec![piece("I1-edited.jpg")], "I1-edited.jpg still")]
    #[case::sidecar_of_a_stem(vec![piece("R1.xmp"), piece("R1.DNG"), piece("R1.JPG")], "R1.JPG still, R1.DNG raw, R1.xmp sidecar")]
    #[case::sidecar_of_a_whole_name(vec![piece("I1.JPG.json"), piece("I1.JPG")], "I1.JPG still, I1.JPG.json sidecar")]
    #[case::sidecar_alone(vec![piece("I1.xmp")], "I1.xmp sidecar")]
    #[case::other_names(vec![piece("a.jpg"), piece("b.jpg")], "a.jpg still | b.jpg still")]
    #[case::everything_at_once(
        vec![at("I1.DNG", 0), at("I1.HEIC", 1), at("I1.JPG", 1), Piece { seconds: Some(2.0), ..at("I1.MOV", 0) }, piece("I1.xmp"), piece("I1-edited.jpg")],
        "I1-edited.jpg edited, I1.HEIC still, I1.JPG twin, I1.DNG raw, I1.MOV motion, I1.xmp sidecar"
    )]
    fn files_of_one_shot_find_each_other(#[case] pieces: Vec<Piece>, #[case] expected: &str) {
        assert_eq!(told(&pieces).iter().map(|s| s.join(", ")).collect::<Vec<_>>().join(" | "), expected);
    }

    #[test]
    fn the_identifier_inside_is_stronger_than_names() {
        let pair = |p: Piece, id: &str| Piece { pair: Some(id.into()), ..p };
        let far = Piece { folder: "Elsewhere".into(), ..pair(at("X9.MOV", 5000), "one") };
        let pieces = [pair(at("I1.HEIC", 0), "one"), far, pair(at("I1.MOV", 0), "two")];
        assert_eq!(told(&pieces), [vec!["I1.HEIC still", "X9.MOV motion"], vec!["I1.MOV video"]]);
    }

    #[test]
    fn other_folders_and_other_devices_are_other_shots() {
        let there = Piece { folder: "Chat".into(), ..piece("I1.DNG") };
        let theirs = Piece { device: Some(DeviceId(Uuid::from_u128(9))), ..piece("I1.MOV") };
        assert_eq!(group(&[piece("I1.JPG"), there, theirs]).len(), 3);
    }

    #[test]
    fn the_order_of_arrival_changes_nothing() {
        let mut pieces = vec![
            at("I1.DNG", 0),
            at("I1.HEIC", 3),
            at("I1.JPG", 6),
            Piece { pair: Some("p".into()), seconds: Some(2.0), ..at("I1.MOV", 0) },
            Piece { pair: Some("p".into()), ..at("I2.HEIC", 900) },
            piece("I1.xmp"),
            piece("I1.JPG.json"),
            at("I1-edited.jpg", 3),
        ];
        let first = told(&pieces);
        for turn in 0..pieces.len() * 7 {
            let n = pieces.len();
            pieces.swap(turn % n, (turn * 5 + 3) % n);
            pieces.rotate_left(turn % 3);
            assert_eq!(told(&pieces), first, "after turn {turn}");
        }
    }

    #[test]
    fn what_is_brought_forward_stands_for_its_shot() {
        let said = |p: Piece, second: i64| Piece { forward: DateTime::from_timestamp(second, 0), ..p };
        let [still, edited, raw, words] = ["I1.JPG", "I1-edited.jpg", "I1.DNG", "I1.xmp"].map(piece);
        let first = |pieces: &[Piece]| told(pieces)[0].join(", ");
        let by_rule = "I1-edited.jpg edited, I1.JPG still, I1.DNG raw, I1.xmp sidecar";
        assert_eq!(first(&[still.clone(), edited.clone(), raw.clone(), words.clone()]), by_rule);
        let all = [said(still.clone(), 5), edited.clone(), raw.clone(), words.clone()];
        assert_eq!(first(&all), "I1.JPG still, I1-edited.jpg edited, I1.DNG raw, I1.xmp sidecar");
        // Of several, the last word counts; what is no picture never stands for one.
        let all = [said(still, 5), edited.clone(), said(raw, 7), words.clone()];
        assert_eq!(first(&all), "I1.DNG raw, I1-edited.jpg edited, I1.JPG still, I1.xmp sidecar");
        assert_eq!(first(&[edited, said(words, 9)]), "I1-edited.jpg edited, I1.xmp sidecar");
    }

    #[test]
    fn words_read_back() {
        assert!(Part::ALL.iter().all(|p| Part::from_word(p.word()) == Some(*p)));
    }
}
