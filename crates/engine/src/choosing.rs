//! What somebody has chosen in their library, however much it is.

use chrono::{Months, NaiveDate};
use uuid::Uuid;
use ypogeion_catalog::{
    choosing::{self, Spot},
    scope::Scope,
};
use ypogeion_core::{OriginalId, PersonId};
use ypogeion_wire::choosing::{Choice, ChosenPictures, HowMuch, Spot as Told, Stretch};

use crate::{
    albums,
    engine::Engine,
    error::{Error, Result},
    find, library,
};

/// So many stretches, and so many pictures by their names: more is nobody's doing.
const MOST: usize = 10_000;
/// Pictures on a page.
const PAGE: i64 = 1000;

fn spot(told: &Told) -> Spot {
    (told.taken_local, told.id)
}

/// A stretch of a month (its first day), from the oldest picture to the newest.
fn stretch(month: NaiveDate, told: &Stretch) -> (Spot, Spot) {
    // No picture has these ids.
    let (first, last) = (OriginalId(Uuid::nil()), OriginalId(Uuid::nil()));
    let next = month.checked_add_months(Months::new(1)).unwrap_or(NaiveDate::MAX);
    let (begins, ends) = ((month.and_time(Default::default()), first), (next.and_time(Default::default()), last));
    (told.oldest.as_ref().map_or(begins, spot).max(begins), told.newest.as_ref().map_or(ends, spot).min(ends))
}

/// What is chosen, as the catalogue is asked for it.
pub(crate) async fn chosen(engine: &Engine, viewer: PersonId, choice: &Choice) -> Result<(Scope, choosing::Choice)> {
    let scope = albums::scope(engine, viewer, choice.album).await?;
    let (mut stretches, mut pictures, mut except) = (Vec::new(), Vec::new(), Vec::new());
    for part in &choice.months {
        let month = library::month(&part.month)?;
        stretches.extend(part.stretches.iter().map(|s| stretch(month, s)));
        pictures.extend(&part.pictures);
        except.extend(&part.except);
    }
    if stretches.len().max(pictures.len()).max(except.len()) > MOST {
        return Err(Error::TooLarge("This is more than can be chosen one by one; choose whole months.".to_owned()));
    }
    if stretches.is_empty() && pictures.is_empty() {
        return Err(Error::invalid("Nothing was chosen."));
    }
    let sought = find::sought(engine, scope, choice.find.as_deref()).await?;
    let as_of = choice.as_of.unwrap_or_else(|| engine.now());
    Ok((scope, choosing::Choice { sought, stretches, pictures, except, as_of }))
}

/// How much is chosen.
pub async fn how_much(engine: &Engine, viewer: PersonId, choice: &Choice) -> Result<HowMuch> {
    let (scope, choice) = chosen(engine, viewer, choice).await?;
    let numbers = engine.catalog.chosen_numbers(scope, &choice).await?;
    Ok(HowMuch {
        pictures: numbers.pictures,
        files: numbers.files,
        bytes: numbers.bytes,
        not_at_home: numbers.not_at_home,
        oldest: numbers.oldest,
        as_of: choice.as_of,
    })
}

/// A page of what is chosen, newest first.
pub async fn page(engine: &Engine, viewer: PersonId, choice: &Choice, after: Option<&Told>) -> Result<ChosenPictures> {
    let (scope, choice) = chosen(engine, viewer, choice).await?;
    let page = engine.catalog.chosen_pictures(scope, &choice, after.map(spot), PAGE).await?;
    let next =
        page.last().filter(|_| page.len() as i64 == PAGE).map(|(taken_local, id)| Told { taken_local: *taken_local, id: *id });
    Ok(ChosenPictures { pictures: page.into_iter().map(|(_, id)| id).collect(), next })
}
