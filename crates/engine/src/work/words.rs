//! Reading what files say in words, once, of those that came before words were read; and which pictures carry a film, of those that came before that was looked for.

use std::sync::Arc;

use chrono::TimeDelta;
use ypogeion_catalog::words::{Says, Unread};
use ypogeion_core::{OriginalId, caption::Caption, capture::Facts};
use ypogeion_library::LibraryError;

use super::ended::Ended;
use crate::{
    at_home,
    engine::Engine,
    error::{Error, Result},
    live::each,
};

/// Files whose words are put down together.
const AT_ONCE: i64 = 200;
/// What cannot be read now, because its disk is not connected or nothing is there, is looked at again after this.
const LOOK_AGAIN: TimeDelta = TimeDelta::days(1);

pub(super) async fn read(engine: &Arc<Engine>) -> Result<Ended> {
    let (mut after, mut left) = (OriginalId(uuid::Uuid::nil()), false);
    loop {
        let unread = engine.catalog.words_unread(after, AT_ONCE).await?;
        let Some(last) = unread.last() else { break };
        after = last.id;
        let mut read = Vec::new();
        for file in unread {
            let id = file.id;
            match words_of(engine, file).await? {
                Some(words) => read.push((id, words)),
                None => left = true,
            }
        }
        engine.live.changed(&each(engine.catalog.words_read(&read, engine.now()).await?));
    }
    Ok(if left { Ended::Later(engine.now() + LOOK_AGAIN) } else { Ended::Done })
}

/// What a file says; none, if it cannot be read now.
async fn words_of(engine: &Arc<Engine>, file: Unread) -> Result<Option<Says>> {
    let (reader, name) = (Arc::clone(engine), file.name);
    let looked = at_home::look_at(engine, file.id, file.path, move |library, path| {
        let place = match library.place_to_read(path) {
            Err(LibraryError::Missing { .. }) => return Ok(None),
            other => other?,
        };
        Ok(Some(reader.reader.facts(&place, &name)))
    });
    match looked.await {
        Ok((facts, _)) => {
            let words = |f: Facts| Caption { title: f.title.unwrap_or_default(), caption: f.caption.unwrap_or_default() };
            Ok(facts.map(|f| Says { film: f.film_inside, words: words(f) }))
        }
        Err(Error::Elsewhere(_)) => Ok(None),
        Err(e) => Err(e),
    }
}
