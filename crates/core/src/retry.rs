//! How long to wait after a fault before trying again.

use std::time::Duration;

/// Exponential back-off with jitter: from one second, doubling, to at most fifteen minutes.
///
/// `attempt` counts from 1. `chance` is a random number in `0.0..1.0`; the wait lies between half and the whole of the
/// step, so that many workers that failed together do not come back together.
///
/// ```
/// use std::time::Duration;
/// use ypogeion_core::retry::wait;
/// assert_eq!(wait(1, 1.0), Duration::from_secs(1));
/// assert_eq!(wait(4, 0.0), Duration::from_secs(4));
/// assert!(wait(60, 1.0) <= Duration::from_secs(900));
/// ```
pub fn wait(attempt: u32, chance: f64) -> Duration {
    const LONGEST: f64 = 900.0;
    let step = 2f64.powi(attempt.clamp(1, 20) as i32 - 1).min(LONGEST);
    Duration::from_secs_f64(step * (0.5 + chance.clamp(0.0, 1.0) / 2.0))
}
