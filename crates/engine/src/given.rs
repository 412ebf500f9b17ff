//! What people say about when and where their pictures were taken, and how they turn them. No file is changed by it.

use chrono::TimeDelta;
use ypogeion_catalog::given::{MOST_GIVEN, Moved, Place, Time, Turned};
use ypogeion_core::{OriginalId, PersonId, spot::Spot, turn::Turn, words::count};
use ypogeion_media::gpx;
use ypogeion_wire::given::{Along, AlongTrack, Beside, SaidWhen, SaidWhere, SayWhen, SayWhere, TurnPictures};

use crate::{
    engine::Engine,
    error::{Error, Result},
    named::{few, told},
};

/// So many pictures are looked at for one track.
const MOST_MEANWHILE: i64 = 10_000;
/// So many are given their places in one step: who writes about others of them meanwhile does not wait long.
const AT_ONCE: usize = 500;

/// Says where pictures of one's own were taken. Returns how many those are.
pub async fn say_where(engine: &Engine, owner: PersonId, form: &SayWhere) -> Result<u64> {
    let place = match (form.at, form.nowhere, form.as_in_file) {
        (Some((north, east)), false, false) => Place::At(
            Spot::new(north, east)
                .ok_or_else(|| Error::invalid("A place is so many degrees north and east, up to 90 and 180."))?,
        ),
        (None, true, false) => Place::Nowhere,
        (None, false, true) => Place::AsInFile,
        _ => return Err(Error::invalid("Say one of the three: a place, that there is none, or that what the file says counts.")),
    };
    let (touched, count) = engine.catalog.give_place(owner, few(&form.pictures)?, place, engine.now()).await?;
    told(engine, touched)?;
    Ok(count)
}

/// Says of pictures of one's own without a place that they were taken where somebody was then, by a track.
pub async fn along(engine: &Engine, owner: PersonId, form: AlongTrack) -> Result<Along> {
    let AlongTrack { pictures, taken_meanwhile, only_say, gpx, also_placed } = form;
    if taken_meanwhile && !pictures.is_empty() {
        return Err(Error::invalid("Name pictures, or have all that were taken meanwhile: one of the two."));
    }
    let named = if taken_meanwhile { Vec::new() } else { engine.catalog.when_taken(owner, few(&pictures)?).await? };
    if named.is_empty() && !taken_meanwhile {
        return Err(Error::NotFound);
    }
    let read = tokio::task::spawn_blocking(move || gpx::read(&gpx)).await?;
    let track = read.map_err(|e| Error::invalid(e.sentence()))?;
    let all = match track.reach().filter(|_| taken_meanwhile) {
        Some(reach) => engine.catalog.taken_between(owner, reach, MOST_MEANWHILE + 1).await?,
        None => named,
    };
    if all.len() as i64 > MOST_MEANWHILE {
        return Err(Error::TooLarge(format!(
            "More than {} of your pictures were taken while this track was written. Take one of fewer days.",
            count(MOST_MEANWHILE.unsigned_abs())
        )));
    }
    let placed = all.iter().filter(|(.., placed)| *placed && !also_placed).count() as u64;
    let wanted = all.iter().filter(|(.., placed)| also_placed || !placed);
    let (on_it, off_it): (Vec<_>, Vec<_>) = wanted.map(|(id, at, _)| (*id, track.at(*at))).partition(|(_, spot)| spot.is_some());
    let places: Vec<(OriginalId, Place)> = on_it.into_iter().filter_map(|(id, spot)| Some((id, Place::At(spot?)))).collect();
    let (mut said, span) = (0, track.span());
    if only_say {
        said = places.len() as u64;
    } else {
        for some in places.chunks(AT_ONCE) {
            let (touched, given) = engine.catalog.give_places(owner, some, engine.now()).await?;
            told(engine, touched)?;
            said += given;
        }
    }
    Ok(Along { count: said, placed, off_it: off_it.len() as u64, from: span.map(|s| s.0), until: span.map(|s| s.1) })
}

/// Says when pictures of one's own were taken, and files them where they belong. Returns how many those are.
pub async fn say_when(engine: &Engine, owner: PersonId, form: &SayWhen) -> Result<u64> {
    let time = match (form.later_by, form.as_before) {
        (Some(seconds), false) if seconds != 0 && seconds.unsigned_abs() <= MOST_GIVEN.unsigned_abs() => {
            Time::Later(TimeDelta::seconds(seconds))
        }
        (None, true) => Time::AsBefore,
        _ => {
            return Err(Error::invalid(
                "Say by how many seconds they were taken later or earlier, up to 400 years, or that it is as it was.",
            ));
        }
    };
    match engine.catalog.give_time(owner, few(&form.pictures)?, time, engine.now()).await? {
        Moved::Unbelievable(odd) => Err(Error::invalid(format!(
            "One of them would be of {}: pictures are from 1826 at the earliest, and none is from days to come.",
            odd.format("%-d %B %Y")
        ))),
        // Of those whose time was never said, none is otherwise now.
        Moved::To(touched, count) if touched.is_empty() && count > 0 => Ok(count),
        Moved::To(touched, count) => {
            told(engine, touched)?;
            Ok(count)
        }
    }
}

/// Turns pictures of one's own. Returns how many are shown otherwise now; films are not among them.
pub async fn turn(engine: &Engine, owner: PersonId, form: &TurnPictures) -> Result<u64> {
    let turned = match (form.quarters, form.as_in_file) {
        (Some(quarters @ (-3..=-1 | 1..=3)), false) => Turned::By(Turn::of(quarters.into())),
        (None, true) => Turned::AsInFile,
        _ => {
            let one_of = "Say by how many quarters they are to be turned, up to three to the right or the left, or that they are to lie as their files say.";
            return Err(Error::invalid(one_of));
        }
    };
    let (touched, count, named) = engine.catalog.give_turn(owner, few(&form.pictures)?, turned, engine.now()).await?;
    // Of those that are films, or lie as their files say already, none is otherwise now.
    if !touched.is_empty() || named == 0 {
        told(engine, touched)?;
    }
    Ok(count)
}

/// What people said about when and where a picture was taken.
pub(crate) async fn said(engine: &Engine, id: OriginalId) -> Result<(Option<SaidWhen>, Option<SaidWhere>)> {
    let given = engine.catalog.given(id).await?;
    let time = given.time.map(|t| SaidWhen { at: t.at, by: t.by, before: t.before });
    let place = given.place.map(|p| SaidWhere { at: p.at, by: p.by, in_file: p.in_file });
    Ok((time, place))
}

/// The pictures with a place that were taken next before and next after a picture, within a day.
pub async fn beside(engine: &Engine, id: OriginalId) -> Result<Vec<Beside>> {
    let beside = engine.catalog.beside_in_time(id).await?.into_iter().map(|b| Beside {
        picture: b.picture,
        taken_local: b.taken_local,
        at: b.place,
        near: Spot::new(b.place.0, b.place.1).and_then(|spot| b.town.map(|t| t.town.near(t.spot, spot))),
        turned: b.turn.quarters(),
    });
    Ok(beside.collect())
}
