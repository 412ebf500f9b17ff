//! The library as people look at it: a page of it, and one original with everything that is known of it.

use std::collections::HashMap;

use chrono::{Datelike, Local, Months, NaiveDate, NaiveDateTime};
use ypogeion_catalog::{
    films::Film,
    find::Sought,
    originals::{OriginalRow, PictureSize, Touched},
    scope::Scope,
    versions::Versioned,
    words::Change,
};
use ypogeion_core::{
    OriginalId, PersonId,
    caption::{self, LONGEST_CAPTION, LONGEST_TITLE},
    capture::CaptureRule,
    copies::Lacking,
    find::days::Span,
    kind::MediaKind,
    layers::{self, Place},
    proportion::proportion,
    shot::{MOST_VERSIONS, Part},
    state::Layer,
    words::count,
};
use ypogeion_media::xmp;
use ypogeion_wire::album::AlbumName;
use ypogeion_wire::choosing::WriteWords;
use ypogeion_wire::original::{
    DerivedFile, Evidence, FileWords, FilmVersion, Original, OriginalCard, PictureWords, ShotPart, StoreCopy,
};

use crate::{
    engine::Engine,
    error::{Error, Result},
    given,
    live::each,
    named::{few, told},
    places, three_two_one,
};

/// The name of a file, of its path.
pub fn last_of(path: &str) -> String {
    path.rsplit('/').next().unwrap_or_default().to_owned()
}

/// The last of a page of originals.
pub type After = (NaiveDateTime, OriginalId);

/// Pictures in a portion of a month.
const PORTION: usize = 100;

/// How the pictures of a month lie.
pub struct Shape {
    /// A byte for each, newest first: see [`proportion`].
    pub proportions: Vec<u8>,
    /// Pictures in a portion.
    pub portion: u32,
    /// The last of each portion that another one follows.
    pub starts: Vec<After>,
}

/// A month by its first day.
fn whole(month: NaiveDate) -> Span {
    Span { from: month, until: month.checked_add_months(Months::new(1)).unwrap_or(NaiveDate::MAX) }
}

/// The months with pictures, newest first, with their counts; of what is sought, if anything is.
pub async fn months(engine: &Engine, scope: Scope, sought: Option<&Sought>) -> Result<Vec<(String, u64)>> {
    Ok(match (scope.album, sought) {
        (None, None) => engine.catalog.months(scope.viewer).await?,
        (_, sought) => engine.catalog.months_of(scope, sought).await?,
    })
}

/// How the pictures of a month (its first day) lie, before any of them is asked for.
pub async fn shape(engine: &Engine, scope: Scope, month: NaiveDate, sought: Option<&Sought>) -> Result<Shape> {
    let pictures = engine.catalog.sizes_of(scope, whole(month), sought).await?;
    let last = |portion: &[PictureSize]| portion.last().map(|p| (p.taken_local, p.id));
    let mut starts: Vec<After> = pictures.chunks(PORTION).filter_map(last).collect();
    // Nothing follows the last portion.
    starts.pop();
    let proportions = pictures.iter().map(|p| proportion(p.width, p.height)).collect();
    Ok(Shape { proportions, portion: PORTION as u32, starts })
}

/// A page of originals, newest first, of one month (its first day) or of all, and of what is sought, if
/// anything is; and the last of it if there may be more.
pub async fn page(
    engine: &Engine,
    scope: Scope,
    month: Option<NaiveDate>,
    after: Option<After>,
    limit: i64,
    sought: Option<&Sought>,
) -> Result<(Vec<OriginalCard>, Option<After>)> {
    let cards = engine.catalog.originals(scope, month.map_or(Span::ALL, whole), after, limit, sought).await?;
    let last = cards.last().filter(|_| cards.len() as i64 == limit).map(|c| (c.taken_local, c.id));
    let since = engine.proven_since();
    let originals = cards
        .into_iter()
        .map(|c| OriginalCard {
            id: c.id,
            name: last_of(&c.path),
            // Where somebody else's is in the house is theirs to know.
            path: if c.own { c.path } else { last_of(&c.path) },
            kind: c.kind,
            taken_local: c.taken_local,
            width: c.facts.width,
            height: c.facts.height,
            turned: c.facts.turned,
            seconds: c.facts.seconds,
            layer: c.own.then_some(match () {
                () if c.offsite && c.proven_at.is_some_and(|at| at >= since) => Layer::Proven,
                () if c.offsite => Layer::Offsite,
                () if c.home => Layer::Home,
                () => Layer::Device,
            }),
            preview: c.preview,
            placeholder: c.placeholder,
            favourite: c.favourite,
            words: c.words,
            own: c.own,
            company: company(&c.company, c.facts.film_inside.is_some()),
        })
        .collect();
    Ok((originals, last))
}

/// What else belongs to a picture, with what is in its own file.
fn company(parts: &str, film_inside: bool) -> Vec<String> {
    let mut all: Vec<String> = parts.split(',').filter(|p| !p.is_empty()).map(str::to_owned).collect();
    let moving = Part::Motion.word();
    if film_inside && !all.iter().any(|part| part == moving) {
        all.push(moving.to_owned());
    }
    all
}

/// Makes pictures that somebody sees their favourites, or not any more. Returns how many were there.
pub async fn mark_favourites(engine: &Engine, owner: PersonId, pictures: &[OriginalId], on: bool) -> Result<u64> {
    let marked = engine.catalog.mark_favourites(owner, few(pictures)?, on, engine.now()).await?;
    // Whose pictures they are is told nothing of what others like.
    told(engine, marked.into_iter().map(|t| Touched { person: owner, ..t }).collect())
}

/// Puts pictures of somebody's own away, or back. Returns how many were there.
pub async fn put_away(engine: &Engine, owner: PersonId, pictures: &[OriginalId], away: bool) -> Result<u64> {
    let there = engine.catalog.put_away(owner, few(pictures)?, away, engine.now()).await?;
    told(engine, there)
}

/// Has a file of somebody's own picture stand for it, or, without `forward`, the one that does so by the rules. Returns which one that is.
pub async fn bring_forward(engine: &Engine, owner: PersonId, id: OriginalId, forward: bool) -> Result<OriginalId> {
    engine.catalog.bring_forward(owner, id, forward, engine.now()).await?;
    let changed = engine.catalog.regroup(id, &Local, engine.now()).await?;
    engine.live.changed(&each(changed));
    Ok(engine.catalog.original(id, Some(owner)).await?.shot)
}

/// Has a file of somebody's own be a version of another picture of theirs, or takes that back. Returns which file stands for it then.
pub async fn say_version(engine: &Engine, owner: PersonId, id: OriginalId, of: Option<OriginalId>) -> Result<OriginalId> {
    let other = match of {
        Some(of) => match engine.catalog.make_version(owner, id, of, engine.now()).await? {
            Versioned::Said | Versioned::Same => Some(of),
            Versioned::OtherKind => {
                return Err(Error::invalid("A film is no version of a still picture, and notes are versions of none."));
            }
            Versioned::TooMany => {
                let most = count(MOST_VERSIONS as u64);
                return Err(Error::TooMany(format!("A picture has at most {most} files. Take one of them apart first.")));
            }
        },
        None => engine.catalog.take_apart(owner, id, engine.now()).await?,
    };
    // Both sides: what goes leaves the other behind.
    for file in [Some(id), other].into_iter().flatten() {
        let changed = engine.catalog.regroup(file, &Local, engine.now()).await?;
        engine.live.changed(&each(changed));
    }
    Ok(engine.catalog.original(id, Some(owner)).await?.shot)
}

/// Writes words about somebody's own pictures. Returns how many were there.
pub async fn write_words(engine: &Engine, owner: PersonId, form: &WriteWords) -> Result<u64> {
    let kept = |text: &Option<String>, clean: fn(&str) -> Option<String>, what: &str, most: usize| match text {
        None => Ok(None),
        Some(text) => match clean(text) {
            Some(text) => Ok(Some(text)),
            None => Err(Error::invalid(format!("{what} has {} characters at most.", count(most as u64)))),
        },
    };
    let title = kept(&form.title, caption::title, "A title", LONGEST_TITLE)?;
    let text = kept(&form.caption, caption::caption, "A caption", LONGEST_CAPTION)?;
    let change = match (form.as_in_file, title, text) {
        (true, None, None) => Change::AsInFile,
        (false, None, None) => return Err(Error::invalid("Say what the title or the caption is from now on.")),
        (true, ..) => return Err(Error::invalid("Words are either written, or those of the file.")),
        (false, title, caption) => Change::Write { title, caption },
    };
    let there = engine.catalog.write_words(owner, few(&form.pictures)?, &change, engine.now()).await?;
    told(engine, there)
}

/// What is said about a picture, as somebody sees it who may see it.
async fn said(engine: &Engine, shot: OriginalId, own: bool) -> Result<PictureWords> {
    let said = engine.catalog.said(shot).await?;
    let (at, by) = said.written.unzip();
    Ok(PictureWords {
        title: said.words.title,
        caption: said.words.caption,
        written_at: at,
        written_by: by.flatten(),
        in_file: said.in_file.filter(|w| own && !w.is_empty()).map(|w| FileWords { title: w.title, caption: w.caption }),
    })
}

/// What browsers can do with a film, if anybody has looked yet.
async fn film(engine: &Engine, id: OriginalId) -> Result<Option<FilmVersion>> {
    Ok(engine.catalog.film(id).await?.map(|film| match film {
        Film::Plays => FilmVersion { state: "plays".to_owned(), size: None, why: None },
        Film::Made(size) => FilmVersion { state: "made".to_owned(), size: Some(size), why: None },
        Film::None(why) => FilmVersion { state: "none".to_owned(), size: None, why: Some(why) },
    }))
}

/// What people said about a picture, for programs that read it beside a file: XMP. None: nobody said anything.
pub async fn words_for_programs(engine: &Engine, shot: OriginalId) -> Result<Option<String>> {
    Ok(engine.catalog.notes(&[shot]).await?.get(&shot).map(xmp::write))
}

/// One original with facts, layers and evidence, as somebody sees it. What lies beside it is of what is sought, if anything is.
pub async fn one(engine: &Engine, scope: Scope, row: OriginalRow, sought: Option<&Sought>) -> Result<Original> {
    let viewer = scope.viewer;
    let own = row.person == viewer;
    // Somebody else's has no place in one's own library.
    let (newer, older) = match own || scope.album.is_some() {
        true => engine.catalog.beside(scope, row.taken_local, row.id, sought).await?,
        false => (None, None),
    };
    let month = row.taken_local.date().with_day(1).unwrap_or(row.taken_local.date());
    let at = if own && row.shot == row.id && row.held.is_none() && !row.put_away {
        let newer = engine.catalog.newer_in(Scope::own(viewer), whole(month), row.taken_local, row.id).await?;
        Some(format!("{}.{newer}", month.format("%Y-%m")))
    } else {
        None
    };
    let albums = engine.catalog.albums_with(row.shot, viewer, own).await?;
    let albums = albums.into_iter().map(|(id, name, seen)| AlbumName { id, name, seen }).collect();
    let person = engine.catalog.person(row.person).await?;
    let everywhere = engine.catalog.standings(row.id).await?;
    let standings = engine.catalog.standings_for_depth(row.id).await?;
    let good: Vec<Place> = everywhere.iter().filter(|(_, s)| s.good).map(|(place, _)| *place).collect();
    let stores = engine.catalog.stores().await?;
    let named = |place: Place| match place {
        Place::Home => "home".to_owned(),
        Place::Store(id) => stores.iter().find(|s| s.id == id).map_or("a store".to_owned(), |s| s.address.name.clone()),
    };
    let evidence = engine.catalog.observations(row.id).await?.into_iter().map(|o| Evidence {
        place: named(o.place),
        act: o.act.word().to_owned(),
        at: o.at,
        outcome: o.outcome.word().to_owned(),
        digest: o.digest.map(|d| d.to_string()),
    });
    let evidence = if own { evidence.collect() } else { Vec::new() };
    let copies = stores.iter().filter(|s| own && good.contains(&Place::Store(s.id)));
    let copies = copies.map(|s| StoreCopy { store: s.id, name: s.address.name.clone() }).collect();
    let near = places::near(engine, &row).await?;
    let (time_said, place_said) = given::said(engine, row.id).await?;
    let rule = CaptureRule::from_word(&row.taken_rule);
    let film_inside = row.facts.film_inside.is_some();
    let derived = engine.catalog.derived_from(row.id).await?;
    let derived = derived.map(|d| DerivedFile { name: last_of(d.path.as_str()), size: d.size });
    let parts = engine.catalog.parts_of(row.shot).await?;
    let files: Vec<OriginalId> = parts.iter().map(|p| p.id).collect();
    let versions = if own { engine.catalog.versions_among(&files).await? } else { HashMap::new() };
    let can_stand = |part: &str| Part::from_word(part).is_some_and(Part::can_stand);
    let parts = parts.into_iter().map(|p| ShotPart {
        id: p.id,
        can_stand: can_stand(&p.part),
        said: versions.contains_key(&p.id),
        part: p.part,
        name: last_of(&p.path),
        size: p.size,
        kind: p.kind,
    });
    Ok(Original {
        id: row.id,
        person: row.person,
        person_name: person.name,
        own,
        albums,
        favourite: engine.catalog.is_favourite(viewer, row.shot).await?,
        put_away: own && row.put_away,
        brought_forward: own && engine.catalog.brought_forward(&[row.id]).await?.contains_key(&row.id),
        film: if row.kind == MediaKind::Video.word() || film_inside { film(engine, row.id).await? } else { None },
        film_inside,
        words: said(engine, row.shot, own).await?,
        at,
        newer,
        older,
        name: row.name,
        path: if own { row.path.into() } else { last_of(row.path.as_str()) },
        kind: row.kind,
        media_type: row.facts.media_type,
        digest: row.digest,
        size: row.size,
        taken_at: row.taken_at,
        taken_local: row.taken_local,
        taken_sentence: rule.map_or("", CaptureRule::sentence).to_owned(),
        taken_confidence: rule.map_or("low", |r| r.confidence().word()).to_owned(),
        taken_corrected: row.corrected,
        time_said,
        parts: parts.collect(),
        taken_rule: row.taken_rule,
        landed_at: row.landed_at,
        device_name: row.device_name.filter(|_| own),
        width: row.facts.width,
        height: row.facts.height,
        turned: row.facts.turned,
        seconds: row.facts.seconds,
        camera: row.facts.camera,
        lens: row.facts.lens,
        exposure: row.facts.exposure,
        place: row.facts.place,
        place_said: place_said.filter(|_| own),
        near,
        read_problem: row.facts.problem,
        preview: row.preview,
        derived,
        layer: own.then(|| layers::layer(&standings, engine.now(), engine.settings.offsite.proven_for)),
        copies,
        needs: Some(three_two_one::judged(&good, &stores).0).filter(|l| own && !l.nothing()).map(Lacking::sentence),
        evidence,
    })
}

/// The first day of a month that is written like `2026-04`.
pub fn month(text: &str) -> Result<NaiveDate> {
    format!("{text}-01").parse().map_err(|_| Error::invalid("A month is written like 2026-04."))
}
