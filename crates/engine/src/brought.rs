//! What people outside bring by a link: it waits, put away and in no album, until whoever made the link has taken or declined it.

use ypogeion_catalog::{
    brought::{Brought, BroughtPicture as Row},
    links::Shown,
    people::Person,
};
use ypogeion_core::{
    OriginalId,
    link::{self, NotTaken},
    words,
};
use ypogeion_wire::brought::{BroughtDone, BroughtPicture, BroughtPictures};

use crate::{
    deletion::{self, By},
    engine::Engine,
    error::{Error, Result},
    library::last_of,
    live::Change,
    named::{few, told},
};

/// So many are told at once: the next ones follow when something was done with these.
const SHOWN: i64 = 200;

/// What somebody outside wants to send, if this is taken from them: for what it comes, and as which folder of a device.
pub async fn begin(engine: &Engine, shown: &Shown, name: &str, length: u64, by: &str) -> Result<(Brought, String)> {
    let waiting = engine.catalog.brought_so_far(shown.person).await?;
    link::is_taken(name, length, waiting).map_err(|why| match why {
        NotTaken::Kind => Error::invalid("Only pictures and films are taken here."),
        NotTaken::Much => Error::TooMany(format!(
            "So much has been brought that {} has to look at it first. Try again in a few days.",
            shown.person_name
        )),
    })?;
    let by = link::bringer(by);
    let folder = link::bringers_folder(&by, &shown.visit);
    Ok((Brought { album: shown.album, by }, folder))
}

/// What waits for somebody.
pub async fn list(engine: &Engine, owner: &Person) -> Result<BroughtPictures> {
    let waiting = engine.catalog.brought_waiting(owner.id).await?;
    let rows = if waiting.count == 0 { Vec::new() } else { engine.catalog.brought(owner.id, SHOWN).await? };
    let picture = |r: Row| {
        let (album, album_name) = r.album.unzip();
        BroughtPicture {
            id: r.id,
            name: last_of(&r.path),
            kind: r.kind,
            size: r.size,
            taken_local: r.taken_local,
            width: r.facts.width,
            height: r.facts.height,
            turned: r.facts.turned,
            preview: r.preview,
            placeholder: r.placeholder,
            album,
            album_name,
            by: r.by,
            at: r.at,
        }
    };
    Ok(BroughtPictures { waiting: waiting.into(), pictures: rows.into_iter().map(picture).collect() })
}

/// Takes what was brought: it is in its owner's library from now on, and in the album that it was brought for.
pub async fn take(engine: &Engine, owner: &Person, pictures: &[OriginalId]) -> Result<BroughtDone> {
    let taken = engine.catalog.take_brought(owner.id, few(pictures)?, engine.now()).await?;
    let count = taken.len() as u64;
    if count > 0 {
        let line = format!("took {} that came by links", words::counted(count, "picture"));
        engine.catalog.write_record(engine.now(), &owner.name, &line).await?;
        engine.live.changed(&[Change::Albums, Change::Library]);
    }
    Ok(BroughtDone { count: told(engine, taken)? })
}

/// Declines what was brought: it is deleted, and can be brought back like all that is.
pub async fn decline(engine: &Engine, owner: &Person, pictures: &[OriginalId]) -> Result<BroughtDone> {
    let there = engine.catalog.are_brought(owner.id, few(pictures)?).await?;
    if there.is_empty() {
        return Ok(BroughtDone { count: 0 });
    }
    // Killed after this, it is deleted and waits no more; brought back, it waits again.
    let held = deletion::hold(engine, By { owner: owner.id, name: &owner.name }, &there).await?;
    engine.catalog.decline_brought(owner.id, &held.files, engine.now()).await?;
    engine.live.changed(&[Change::Albums]);
    Ok(BroughtDone { count: there.len() as u64 })
}
