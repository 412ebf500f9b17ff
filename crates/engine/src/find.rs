//! Looking for pictures: a line that somebody typed, and what of their library it means.

use chrono::Local;
use ypogeion_catalog::{find::Sought, scope::Scope};
use ypogeion_core::{
    PersonId,
    find::{self, LONGEST, Request, Vocabulary},
    words::count,
};
use ypogeion_wire::find::{FindPart, FindSuggestion, Found, NotUnderstood};

use crate::{
    engine::Engine,
    error::{Error, Result},
};

/// Nobody needs the number of more than so many.
const MOST: u64 = 10_000;
/// So many continuations are suggested.
const SUGGESTIONS: usize = 8;

fn check(line: &str) -> Result<()> {
    // Characters are counted as far as need be.
    if line.chars().nth(LONGEST).is_some() {
        return Err(Error::invalid(format!("What you look for may have {} characters.", count(LONGEST as u64))));
    }
    Ok(())
}

async fn understand(engine: &Engine, scope: Scope, line: &str, vocabulary: &Vocabulary) -> Result<(Request, Sought)> {
    let request = find::read(line, vocabulary, engine.now().with_timezone(&Local).date_naive());
    let sought = weigh(engine, scope, request.clone()).await?;
    Ok((request, sought))
}

pub(crate) async fn weigh(engine: &Engine, scope: Scope, request: Request) -> Result<Sought> {
    // Without any picture, nothing is found in any year.
    let years = engine.catalog.years(scope).await?.unwrap_or_default();
    Ok(Sought::new(request, years, engine.proven_since()))
}

/// What a line means in a library, or in an album. None: it is empty, and everything is meant.
pub async fn sought(engine: &Engine, scope: Scope, line: Option<&str>) -> Result<Option<Sought>> {
    let Some(line) = line.map(str::trim).filter(|l| !l.is_empty()) else { return Ok(None) };
    check(line)?;
    let vocabulary = engine.catalog.vocabulary(scope).await?;
    Ok(Some(understand(engine, scope, line, &vocabulary).await?.1))
}

/// How a line is understood in somebody's own library.
pub async fn request(engine: &Engine, viewer: PersonId, line: &str) -> Result<Request> {
    check(line)?;
    let vocabulary = engine.catalog.vocabulary(Scope::own(viewer)).await?;
    Ok(find::read(line, &vocabulary, engine.now().with_timezone(&Local).date_naive()))
}

/// How a line is understood, and how much it finds; with `suggest` also what it may become.
pub async fn found(engine: &Engine, scope: Scope, line: &str, suggest: bool) -> Result<Found> {
    check(line)?;
    let vocabulary = engine.catalog.vocabulary(scope).await?;
    let (request, sought) = understand(engine, scope, line, &vocabulary).await?;
    let count = engine.catalog.count_of(scope, &sought, MOST).await?;
    let mut parts = Vec::new();
    for term in &request.terms {
        let nothing = count == 0 && {
            let alone = Request { terms: vec![term.clone()], unknown: Vec::new() };
            engine.catalog.count_of(scope, &weigh(engine, scope, alone).await?, 1).await? == 0
        };
        parts.push(FindPart { told: term.told.clone(), rest: term.rest.clone(), nothing });
    }
    let unknown = request.unknown.into_iter().map(|(typed, why)| NotUnderstood { typed, why: why.to_owned() }).collect();
    let mut suggestions = Vec::new();
    if suggest {
        let today = engine.now().with_timezone(&Local).date_naive();
        for one in find::suggest(line, &vocabulary, today, SUGGESTIONS) {
            let (_, sought) = understand(engine, scope, &one.line, &vocabulary).await?;
            let count = engine.catalog.count_of(scope, &sought, MOST).await?;
            suggestions.push(FindSuggestion { line: one.line, added: one.added, count });
        }
        // What finds nothing leads nowhere.
        suggestions.retain(|s| s.count > 0);
    }
    Ok(Found { parts, unknown, count, most: MOST, suggestions })
}
