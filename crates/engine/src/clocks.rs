//! Clocks of devices that were wrong, and putting right what they dated.

use chrono::TimeDelta;
use uuid::Uuid;
use ypogeion_catalog::shots;
use ypogeion_core::{DeviceId, PersonId};
use ypogeion_wire::filing::{Correction, NewCorrection};

use crate::{
    engine::Engine,
    error::{Error, Result},
    live::Change,
};

/// Ten years: no clock that anybody would correct is further off.
const LARGEST_SHIFT: i64 = 10 * 366 * 86_400;

fn view(c: shots::Correction) -> Correction {
    Correction {
        id: c.id,
        from: c.from,
        to: c.to,
        seconds: c.seconds,
        originals: c.originals,
        made_by: c.made_by,
        made_at: c.made_at,
        undone_at: c.undone_at,
    }
}

/// The device, if it is one that these may see.
async fn of_theirs(engine: &Engine, scope: Option<PersonId>, id: DeviceId) -> Result<DeviceId> {
    let views = engine.catalog.devices(scope, Some(id), engine.now()).await?;
    views.first().map(|d| d.id).ok_or(Error::NotFound)
}

/// Puts the clock of a device right for what it took in a range, and files that where it belongs. Can be taken back.
pub async fn correct(
    engine: &Engine,
    who: &str,
    scope: Option<PersonId>,
    device: DeviceId,
    new: &NewCorrection,
) -> Result<Correction> {
    let device = of_theirs(engine, scope, device).await?;
    if new.to < new.from || new.seconds == 0 || new.seconds.unsigned_abs() > LARGEST_SHIFT.unsigned_abs() {
        return Err(Error::invalid(
            "A correction has a first and a last moment in this order, and a shift of at most ten years.",
        ));
    }
    let (id, shift) = (Uuid::now_v7(), TimeDelta::seconds(new.seconds));
    let moved = engine.catalog.correct_clock(id, device, (new.from, new.to), shift, who, engine.now()).await?;
    follow(engine, who, &format!("corrected the time of {moved} files by {} seconds", new.seconds)).await?;
    let made = engine.catalog.corrections(device).await?.into_iter().find(|c| c.id == id);
    made.map(view).ok_or(Error::NotFound)
}

/// The corrections of a device's clock, newest first.
pub async fn list(engine: &Engine, scope: Option<PersonId>, device: DeviceId) -> Result<Vec<Correction>> {
    let device = of_theirs(engine, scope, device).await?;
    Ok(engine.catalog.corrections(device).await?.into_iter().map(view).collect())
}

/// Takes a correction back: everything has its old time again.
pub async fn undo(engine: &Engine, who: &str, scope: Option<PersonId>, device: DeviceId, correction: Uuid) -> Result<()> {
    let device = of_theirs(engine, scope, device).await?;
    let back = engine.catalog.undo_correction(correction, device, engine.now()).await?;
    follow(engine, who, &format!("undid a correction of the time of {back} files")).await
}

/// Writes it down, and tells who watches. Shots and files follow in the background.
async fn follow(engine: &Engine, who: &str, what: &str) -> Result<()> {
    engine.catalog.write_record(engine.now(), who, what).await?;
    engine.live.changed(&[Change::Library]);
    Ok(())
}
