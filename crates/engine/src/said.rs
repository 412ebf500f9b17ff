//! What anybody may ask, answered from memory: strangers must not have the house count, or the database work, as often as they like.
//!
//! The answer is made anew when it is asked for and the last one is some seconds old, by one of those who ask while the others wait for it.
//! So it is never older than that, and costs nothing while nobody asks.

use std::time::{Duration, Instant};

use tokio::sync::Mutex;
use ypogeion_catalog::CatalogError;
use ypogeion_core::state::HouseState;

use crate::error::Result;

/// An answer is given again for so long.
const STATE_FOR: Duration = Duration::from_secs(3);
const HEALTH_FOR: Duration = Duration::from_secs(1);

/// The last answers.
#[derive(Default)]
pub struct Said {
    state: Mutex<Option<(Instant, (HouseState, &'static str))>>,
    /// Whether the database answered.
    health: Mutex<Option<(Instant, bool)>>,
}

impl Said {
    /// The state of the house with a sentence that names nobody: the last one, or what `judge` says now.
    pub async fn state(
        &self,
        judge: impl AsyncFnOnce() -> Result<(HouseState, &'static str)>,
    ) -> Result<(HouseState, &'static str)> {
        let mut last = self.state.lock().await;
        match *last {
            Some((at, said)) if at.elapsed() < STATE_FOR => Ok(said),
            _ => {
                let said = judge().await?;
                *last = Some((Instant::now(), said));
                Ok(said)
            }
        }
    }

    /// Whether the database answers: as it did a moment ago, or to a `ping` now.
    pub async fn health(&self, ping: impl AsyncFnOnce() -> Result<(), CatalogError>) -> Result<()> {
        let mut last = self.health.lock().await;
        match last.filter(|(at, _)| at.elapsed() < HEALTH_FOR).map(|(_, well)| well) {
            Some(true) => Ok(()),
            Some(false) => Err(CatalogError::Away("it did not answer a moment ago".into()).into()),
            None => {
                let pinged = ping().await;
                *last = Some((Instant::now(), pinged.is_ok()));
                Ok(pinged?)
            }
        }
    }

    /// Something happened that nobody should be told late.
    pub async fn forget(&self) {
        *self.state.lock().await = None;
    }
}
