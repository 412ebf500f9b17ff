//! A JPEG beside a HEIC, for readers that know no HEIC.
//!
//! It is no original: it can be made again at any time, is never sent offsite, and never counts. It lies beside its original, also
//! after that was filed elsewhere. A kill between two steps is settled by doing the work again: the same bytes are made, and a
//! file that has them already is taken for what it is.

use std::{sync::Arc, time::SystemTime};

use uuid::Uuid;
use ypogeion_catalog::{CatalogError, derived::DerivedFile, work::Job};
use ypogeion_core::{
    OriginalId, OriginalName, UploadId,
    filing::FiledPath,
    layers::Outcome,
    name::{numbered, split},
};
use ypogeion_library::{Finished, Publish};
use ypogeion_wire::work::LiveEvent;

use super::Ended;
use crate::{app::App, failure::Answer};

/// Names tried before it is given up: as many files of one name in one folder are no accident.
const MOST_NAMES: u32 = 100;

/// The names for what is made from an original, in its folder: `IMG_1.HEIC` becomes `IMG_1 (from HEIC).jpg`.
fn names(original: &FiledPath) -> impl Iterator<Item = FiledPath> + use<> {
    let (folder, name) =
        original.as_str().rsplit_once('/').map_or((String::new(), original.as_str()), |(f, n)| (format!("{f}/"), n));
    let (stem, extension) = split(name);
    let called = format!("{stem} (from {}).jpg", extension.trim_start_matches('.').to_uppercase());
    let called = OriginalName::from_device(&called).filed();
    (1..=MOST_NAMES)
        .map(move |n| if n == 1 { called.clone() } else { numbered(&called, n) })
        .filter_map(move |name| FiledPath::parse(&format!("{folder}{name}")).ok())
}

pub(super) async fn derive(app: &Arc<App>, job: &Job) -> Answer<Ended> {
    let id = OriginalId(job.key);
    let row = match app.catalog.original(id, None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let before = app.catalog.derived_from(id).await?;
    if before.is_none() {
        // Its device has made one itself, or nobody wants them any more.
        let own = app.catalog.parts_of(row.shot).await?.iter().any(|p| p.part == "compatible");
        if own || !app.catalog.wants_derived().await? {
            return Ok(Ended::Done);
        }
    }
    if let Some(there) = &before {
        let beside =
            |a: &FiledPath, b: &FiledPath| a.as_str().rsplit_once('/').map(|p| p.0) == b.as_str().rsplit_once('/').map(|p| p.0);
        let (library, place, digest) = (Arc::clone(&app.library), there.path.clone(), there.digest);
        let whole = tokio::task::spawn_blocking(move || library.reread(&place, digest)).await??.0 == Outcome::Right;
        if whole && beside(&there.path, &row.path) {
            return Ok(Ended::Done);
        }
    }
    let part = match make(app, &row.path, row.digest, row.taken_at.into()).await? {
        Ok(part) => part,
        // Not every file that says it is one can be decoded. It is kept all the same.
        Err(why) => {
            tracing::info!(path = %row.path, why, "no JPEG was made");
            return Ok(Ended::Done);
        }
    };
    let (upload, digest, size) = (part.id, part.digest, part.length);
    let placed = place(app, &row.path, before.as_ref().map(|b| &b.path), part).await?;
    let library = Arc::clone(&app.library);
    tokio::task::spawn_blocking(move || library.incoming().remove(upload)).await??;
    let Some(path) = placed else {
        return Ok(Ended::GivenUp("no free name could be found beside the original".to_owned()));
    };
    app.catalog.set_derived(id, &DerivedFile { path: path.clone(), digest, size }, app.now()).await?;
    if let Some(old) = before.filter(|b| b.path != path && b.digest == digest) {
        let library = Arc::clone(&app.library);
        tokio::task::spawn_blocking(move || match library.reread(&old.path, old.digest)? {
            // Only what was made here goes; anything else that lies there by now stays.
            (Outcome::Right, _) => library.remove_derived(&old.path),
            _ => Ok(()),
        })
        .await??;
    }
    app.live.changed(&[LiveEvent::Library]);
    Ok(Ended::Done)
}

/// Makes the JPEG in the limited child process, and seals it.
async fn make(
    app: &Arc<App>,
    original: &FiledPath,
    digest: ypogeion_core::Digest,
    taken: SystemTime,
) -> Answer<Result<Finished, String>> {
    let (there, original) = (Arc::clone(app), original.clone());
    let made = tokio::task::spawn_blocking(move || {
        let incoming = there.library.incoming();
        let id = UploadId(Uuid::now_v7());
        incoming.create(id)?;
        let name = original.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        if let Err(why) = there.previewer.derive(&there.library.locate(&original), &name, digest, &incoming.path(id)) {
            incoming.remove(id)?;
            return Ok(Err(why));
        }
        let length = incoming.part(id)?.length;
        let part = incoming.writer(id, length)?.finish();
        part.seal(taken)?;
        Ok::<_, ypogeion_library::LibraryError>(Ok(part))
    });
    Ok(made.await??)
}

/// Gives it the first name beside its original that is free, or that has these very bytes already.
async fn place(app: &Arc<App>, original: &FiledPath, before: Option<&FiledPath>, part: Finished) -> Answer<Option<FiledPath>> {
    let part = Arc::new(part);
    for path in names(original) {
        let Some(_reserved) = app.reserve(path.folded()) else { continue };
        if before != Some(&path) && app.catalog.has_path(&path).await? {
            continue;
        }
        let (library, part, target) = (Arc::clone(&app.library), Arc::clone(&part), path.clone());
        let placed = tokio::task::spawn_blocking(move || match library.publish(&part, &target)? {
            Publish::Done => Ok(true),
            Publish::NameTaken => Ok(library.reread(&target, part.digest)?.0 == Outcome::Right),
        });
        if placed.await?.map_err(|e: ypogeion_library::LibraryError| e)? {
            return Ok(Some(path));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn its_name_says_what_it_was_made_from() {
        let original = FiledPath::parse("juno/2026/04/IMG_2214.HEIC").unwrap();
        let names: Vec<String> = names(&original).take(2).map(|p| p.as_str().to_owned()).collect();
        assert_eq!(names, ["juno/2026/04/IMG_2214 (from HEIC).jpg", "juno/2026/04/IMG_2214 (from HEIC) (2).jpg"]);
    }
}
