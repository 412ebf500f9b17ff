//! What is seen of a copy is written down; if it is bad, making it good is put down with it.

use ypogeion_core::{
    Digest, OriginalId,
    layers::{Act, Observation, Outcome, Place},
};

use crate::{engine::Engine, error::Result, live::Change};

/// What was seen of a copy: what it is worth, and its plaintext's hash if it was read to the end.
pub(crate) type Seen = (Outcome, Option<Digest>);

/// What people call a place.
pub(crate) async fn name_of(engine: &Engine, place: Place) -> Result<String> {
    Ok(match place {
        Place::Home => "the home disk".to_owned(),
        Place::Store(id) => engine.catalog.store(id).await?.address.name,
    })
}

/// What was seen of one copy, and, if it is bad, a line in the record.
pub(crate) async fn note(
    engine: &Engine,
    (original, expected): (OriginalId, Digest),
    place: Place,
    act: Act,
    (outcome, digest): Seen,
) -> Result<()> {
    if place == Place::Home && outcome != Outcome::Right {
        // A disk that went away while it was read explains whatever was read.
        engine.home_is_there().await?;
    }
    let seen = Observation { place, act, at: engine.now(), digest, outcome };
    engine.catalog.observe_check(original, expected, &seen).await?;
    if outcome != Outcome::Right {
        // Also of one that was let go and has not left that store yet: a check must not end over it.
        let (path, touched) = engine.catalog.last_path(original).await?;
        let what = if outcome == Outcome::Missing { "missing" } else { "damaged" };
        let name = name_of(engine, place).await?;
        tracing::warn!(%path, place = name, what, "a copy is not what it should be");
        engine.catalog.write_record(engine.now(), "Ypogeion", &format!("found the copy of {path} on {name} {what}")).await?;
        engine.live.changed(&[Change::from(touched), Change::Offsite]);
    }
    Ok(())
}
