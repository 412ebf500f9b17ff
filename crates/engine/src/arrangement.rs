//! Albums as somebody arranged them: who sees them so, and who arranges them.

use std::collections::HashMap;

use ypogeion_catalog::{CatalogError, arrangement::Arrangement, people::Person, scope::Scope};
use ypogeion_core::{
    AlbumId, OriginalId, PersonId,
    album::{LONGEST_WORDS, May},
    arrangement::{self, MOST_PICTURES, MOST_STEPS, MOST_WORDS, NotKept, Step},
    words::count,
};
use ypogeion_wire::{
    arrangement::{Arrange, ArrangedAlbum, ArrangedStep},
    original::OriginalCard,
};

use crate::{
    albums::{self, allowed},
    engine::Engine,
    error::{Error, Result},
    library,
    live::Change,
};

/// What is shown of an album that is arranged so, in its order: each picture as it is on the sheet, or words. None: it has more pictures than are arranged.
pub(crate) async fn laid(
    engine: &Engine,
    scope: Scope,
    how: &Arrangement,
) -> Result<Option<Vec<(Option<OriginalCard>, Option<String>)>>> {
    let (cards, _) = library::page(engine, scope, None, None, MOST_PICTURES as i64 + 1, None).await?;
    if cards.len() > MOST_PICTURES {
        return Ok(None);
    }
    // A story begins with what came first.
    let present: Vec<OriginalId> = cards.iter().rev().map(|c| c.id).collect();
    let named: Vec<OriginalId> = how.steps.iter().filter_map(|s| s.picture).collect();
    let leads = engine.catalog.leads_of(&named).await?;
    let mut cards: HashMap<OriginalId, OriginalCard> = cards.into_iter().map(|c| (c.id, c)).collect();
    let steps = arrangement::laid(&how.steps, &present, &leads).into_iter();
    Ok(Some(steps.map(|s| (s.picture.and_then(|id| cards.remove(&id)), s.words)).collect()))
}

/// An album in its order. One that nobody arranged is in the order in which its pictures were taken.
pub async fn show(engine: &Engine, viewer: PersonId, album: AlbumId) -> Result<ArrangedAlbum> {
    let scope = albums::scope(engine, viewer, Some(album)).await?;
    let how = engine.catalog.arrangement(album).await?;
    let version = how.as_ref().map(|h| h.version.clone());
    let steps = laid(engine, scope, &how.unwrap_or_default()).await?.ok_or_else(too_many)?;
    let step = |(picture, words)| ArrangedStep { picture, words };
    Ok(ArrangedAlbum { steps: steps.into_iter().map(step).collect(), version })
}

fn too_many() -> Error {
    Error::NotNow(format!("An album of more than {} pictures is shown by time.", count(MOST_PICTURES as u64)))
}

/// Arranges an album of one's own, or has it shown by time again.
pub async fn arrange(engine: &Engine, owner: &Person, album: AlbumId, form: &Arrange) -> Result<()> {
    allowed(engine, album, owner.id, May::Own).await?;
    let steps: Option<Vec<Step>> = form.steps.as_deref().map(arrangement::kept).transpose().map_err(|why| match why {
        NotKept::Steps => Error::TooLarge(format!("An arrangement has at most {} pictures and words.", count(MOST_STEPS as u64))),
        NotKept::Words => Error::TooLarge(format!(
            "What stands at one place has {} characters at most, and all of it {}.",
            count(LONGEST_WORDS as u64),
            count(MOST_WORDS as u64)
        )),
    })?;
    match engine.catalog.arrange(owner.id, album, form.version.as_deref(), steps.as_deref(), engine.now()).await {
        Err(CatalogError::Taken) => {
            return Err(Error::NotNow(
                "This album was arranged in another window since you began. Copy what you wrote, and open it again.".to_owned(),
            ));
        }
        done => done?,
    }
    engine.live.changed(&[Change::Albums]);
    Ok(())
}
