//! Albums that follow a line: what that finds of their owners' pictures is in them, soon after it is so.
//!
//! What has to be done is derived from how everything is, so that nothing has to be remembered: each album is looked at when the service starts, once a day (what
//! was "lately" yesterday is not today), and whenever a picture of its owner's has changed.

use std::{collections::BTreeSet, sync::Arc, time::Duration};

use tokio::time::Instant;
use ypogeion_catalog::{followed::Following, scope::Scope};
use ypogeion_core::{PersonId, find::followed};

use crate::{
    engine::Engine,
    error::{Result, chain},
    find,
    live::{Change, Whose},
};

/// Changes come in bursts; after the first it is waited this long for the others.
const GATHER: Duration = Duration::from_secs(2);
/// Of any time, no more than this part is spent on it: while a phone sends for hours, a slow line is asked for less often.
const PART: u32 = 20;
/// After a fault, all are looked at again after this.
const AFTER_FAULT: Duration = Duration::from_secs(60);
/// Everything is looked at again after this.
const AGAIN: Duration = Duration::from_secs(86_400);

/// Keeps every album with what it follows, for ever.
pub(crate) async fn keep(engine: Arc<Engine>) {
    let mut heard = engine.live.pictures();
    let (mut whose, mut all_at) = (None, Instant::now());
    loop {
        let began = Instant::now();
        if whose.is_none() {
            all_at = began + AGAIN;
        }
        if let Err(e) = follow_all(&engine, whose.as_ref()).await {
            tracing::warn!(error = %chain(&e), "could not look at the albums that follow a line; trying again");
            // Whoever it was for is among all.
            whose = None;
            tokio::time::sleep(AFTER_FAULT).await;
            continue;
        }
        let rest = began.elapsed() * PART;
        whose = tokio::select! {
            () = engine.wakeups.line_followed.notified() => None,
            () = tokio::time::sleep_until(all_at) => None,
            first = heard.next() => {
                tokio::time::sleep(GATHER.max(rest)).await;
                together(std::iter::once(first).chain(std::iter::from_fn(|| heard.at_once())))
            }
        };
    }
}

/// Whose pictures changed; none: anybody's.
fn together(changes: impl Iterator<Item = Whose>) -> Option<BTreeSet<PersonId>> {
    let people = changes.map(|whose| match whose {
        Whose::Of(person) => Some(person),
        Whose::Anybodys => None,
    });
    // All of them are heard, also behind one that is anybody's.
    people.collect::<Vec<_>>().into_iter().collect()
}

async fn follow_all(engine: &Engine, whose: Option<&BTreeSet<PersonId>>) -> Result<()> {
    let mut following = Vec::new();
    match whose {
        None => following = engine.catalog.following(None).await?,
        Some(people) => {
            for person in people {
                following.extend(engine.catalog.following(Some(*person)).await?);
            }
        }
    }
    // One that cannot be followed now keeps nothing from the others.
    let (mut changed, mut fault) = (false, None);
    for one in following {
        match follow(engine, &one).await {
            Ok(so) => changed |= so,
            Err(e) => fault = Some(e),
        }
    }
    if changed {
        engine.live.changed(&[Change::Albums]);
    }
    fault.map_or(Ok(()), Err)
}

async fn follow(engine: &Engine, one: &Following) -> Result<bool> {
    let request = find::request(engine, one.owner, &one.line).await?;
    if why_not(&request, &one.read_as).is_some() {
        return Ok(false);
    }
    let sought = find::weigh(engine, Scope::own(one.owner), request).await?;
    Ok(engine.catalog.follow(one, &sought, followed::MOST, engine.now()).await?)
}

/// Why an album does not follow its line now, as a sentence.
fn why_not(request: &ypogeion_core::find::Request, read_as: &str) -> Option<String> {
    followed::refused(request).or_else(|| {
        let anew = "This line means something else than when it was written: a device, a camera or a place in it is not known by that name any more, or not yet. Until it means that again, or you save it once more, what is in the album stays, and nothing comes in.";
        (!followed::is_read_as(request, read_as)).then(|| anew.to_owned())
    })
}

/// Why an album of somebody's does not follow this line at present, as a sentence; none: it does.
pub(crate) async fn told(engine: &Engine, owner: PersonId, (line, read_as): &(String, String)) -> Result<Option<String>> {
    Ok(why_not(&find::request(engine, owner, line).await?, read_as))
}
