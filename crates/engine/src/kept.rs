//! The keys that this server keeps in its file, held against those that the household has.

use ypogeion_catalog::keys::{OwnKey, Sealing};
use ypogeion_offsite::{Fault, Identity};

use crate::{
    engine::Engine,
    error::{Error, Result},
    keys::{read_file, write_file},
};

/// The keys that this server keeps, the present one first.
pub(crate) fn read_kept(engine: &Engine) -> Result<Vec<Identity>> {
    Ok(read_file(&engine.settings.key_file()).map_err(Fault::Home)?)
}

/// Keeps these, in that order.
pub(crate) fn write_kept(engine: &Engine, keys: &[Identity]) -> Result<()> {
    Ok(write_file(&engine.settings.key_file(), keys).map_err(Fault::Home)?)
}

/// The household's keys that are not among these.
pub(crate) fn missing<'a>(kept: &'a [Identity], sealing: &'a Sealing) -> impl Iterator<Item = &'a OwnKey> {
    sealing.own.iter().filter(|k| !kept.iter().any(|i| i.recipient() == k.recipient))
}

/// Refuses unless a server with these keys could print a kit that opens everything.
pub(crate) async fn enough(engine: &Engine, kept: &[Identity], sealing: &Sealing) -> Result<()> {
    if missing(kept, sealing).any(|k| sealing.own.first().is_none_or(|present| present.recipient == k.recipient)) {
        return Err(Error::invalid(
            "The present key is not among these, and a kit without it would open nothing that is new. It is in the line \"Key\" of the newest kit.",
        ));
    }
    let missing = missing(kept, sealing).count();
    if missing > 0 && engine.catalog.needs_earlier_keys().await? {
        return Err(Error::invalid(format!(
            "{} missing, and some of what is in the stores is still sealed for them. They are in the lines \"Older key\" of the kit: give all \
             of it.",
            match missing {
                1 => "An earlier key is".to_owned(),
                n => format!("{n} earlier keys are"),
            }
        )));
    }
    Ok(())
}
