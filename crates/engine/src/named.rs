//! Requests that name some pictures, to do something with them.

use ypogeion_catalog::originals::Touched;
use ypogeion_core::OriginalId;

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::each,
};

/// No request names more.
const MOST_MARKED: usize = 1000;

/// No more than one request may have.
pub(crate) fn few(pictures: &[OriginalId]) -> Result<&[OriginalId]> {
    if pictures.len() > MOST_MARKED {
        return Err(Error::TooLarge(format!("One request has at most {MOST_MARKED} pictures; send several.")));
    }
    Ok(pictures)
}

/// Open pages show pictures anew that are otherwise now. Returns how many those are; that there are none is said.
pub(crate) fn told(engine: &Engine, there: Vec<Touched>) -> Result<u64> {
    if there.is_empty() {
        return Err(Error::NotFound);
    }
    let count = there.len() as u64;
    engine.live.changed(&each(there));
    Ok(count)
}
