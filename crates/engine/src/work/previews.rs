//! Making the previews of an original, in the limited child process.

use std::{fs, sync::Arc};

use ypogeion_catalog::{CatalogError, work::Job};
use ypogeion_core::{OriginalId, turn::Turn};

use super::ended::Ended;
use crate::{
    at_home,
    engine::Engine,
    error::{Error, Result, chain},
    live::changed,
};

pub(super) async fn make(engine: &Arc<Engine>, job: &Job) -> Result<Ended> {
    let row = match engine.catalog.original(OriginalId(job.key), None).await {
        Err(CatalogError::NotFound) => return Ok(Ended::Done),
        other => other?,
    };
    let (there, id, name, turn) = (Arc::clone(engine), row.id, row.name.clone(), Turn::of(row.facts.turned.into()));
    let path = row.path.clone();
    let made = tokio::task::spawn_blocking(move || -> std::io::Result<_> {
        let (small, large) = (there.settings.preview_path(id, "small"), there.settings.preview_path(id, "large"));
        let (new_small, new_large) = (small.with_extension("new"), large.with_extension("new"));
        if let Some(folder) = small.parent() {
            fs::create_dir_all(folder)?;
        }
        let made = match there.library.place_to_read(&path) {
            Ok(source) => there.previewer.preview(&source, &name, turn, &new_small, &new_large),
            Err(e) => Err(chain(&e)),
        };
        if made.is_ok() {
            // Not synced: a preview that a power cut takes is made again from the original.
            fs::rename(new_small, small)?;
            fs::rename(new_large, large)?;
        } else {
            for half in [new_small, new_large] {
                if half.exists() {
                    fs::remove_file(half)?;
                }
            }
        }
        Ok(made)
    })
    .await?
    .map_err(|e| Error::internal(format!("the preview could not be put in its place: {e}")))?;
    if made.is_err() {
        // Of a file that is not there just now, nobody knows whether it has one; nor of one that was filed elsewhere while it was looked for.
        if at_home::open(engine, (row.id, row.digest), row.path.clone()).await?.1 != row.path {
            return Ok(Ended::Later(engine.now()));
        }
    }
    // A file without a preview is no fault: it is kept, and the detail view says why there is nothing to see.
    if !engine.catalog.set_preview(id, turn, made.ok().as_ref().map(|m| m.placeholder.as_str())).await? {
        // Somebody turned it otherwise meanwhile.
        return Ok(Ended::Later(engine.now()));
    }
    engine.live.changed(&[changed(&row)]);
    Ok(Ended::Done)
}
