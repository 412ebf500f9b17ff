//! How many objects are sent to a store at once: one more as long as that makes it faster, half as many when the store is in trouble.
//!
//! Additive increase and multiplicative decrease, as in congestion control (Chiu and Jain, 1989), on what the store really takes in: a round
//! of objects is measured, and a round with one more that is not faster goes back and stays there for a while.

use std::time::Duration;

/// An object costs at least as much as so many bytes, however small it is: a request and its answer.
const OVERHEAD: u64 = 64 << 10;
/// One more has to make it faster by this, or it is not worth its memory.
const WORTH: f64 = 1.05;
/// Rounds that are not used for another try after one that did not help.
const SETTLED_ROUNDS: u32 = 20;
/// Rounds after a fault before another one is added.
const CAREFUL_ROUNDS: u32 = 4;
/// A round takes no longer than this, so that large films do not make it blind.
const LONGEST_ROUND: Duration = Duration::from_secs(20);

/// How many objects go to one store at once.
#[derive(Clone, Debug)]
pub struct Concurrency {
    most: usize,
    now: usize,
    /// Bytes per second of the last round with one fewer.
    before: Option<f64>,
    /// Rounds to go before another one is tried.
    hold: u32,
    round: Option<Round>,
}

#[derive(Clone, Copy, Debug)]
struct Round {
    began: Duration,
    objects: usize,
    bytes: u64,
}

impl Concurrency {
    /// Begins with two, and never goes above `most`.
    pub fn new(most: usize) -> Self {
        Concurrency { most: most.max(1), now: most.clamp(1, 2), before: None, hold: 0, round: None }
    }

    /// How many may be under way.
    pub fn allowed(&self) -> usize {
        self.now
    }

    /// The store has taken an object of so many bytes; `at` is a clock that only goes forward.
    ///
    /// ```
    /// use std::time::Duration;
    /// use ypogeion_core::concurrency::Concurrency;
    /// let mut lanes = Concurrency::new(8);
    /// assert_eq!(lanes.allowed(), 2);
    /// for n in 0..6 {
    ///     lanes.sent(3_000_000, Duration::from_secs(n));
    /// }
    /// assert_eq!(lanes.allowed(), 3);
    /// ```
    pub fn sent(&mut self, bytes: u64, at: Duration) {
        let Some(round) = &mut self.round else {
            // What was sent before is not known; the first one only starts the clock.
            self.round = Some(Round { began: at, objects: 0, bytes: 0 });
            return;
        };
        round.objects += 1;
        round.bytes += bytes.max(OVERHEAD);
        let took = at.saturating_sub(round.began);
        if round.objects < self.now * 2 && took < LONGEST_ROUND {
            return;
        }
        let rate = round.bytes as f64 / took.as_secs_f64().max(0.001);
        self.round = Some(Round { began: at, objects: 0, bytes: 0 });
        self.judge(rate);
    }

    fn judge(&mut self, rate: f64) {
        if let Some(before) = self.before.take()
            && rate < before * WORTH
        {
            self.now = (self.now - 1).max(1);
            self.hold = SETTLED_ROUNDS;
            return;
        }
        if self.hold > 0 {
            self.hold -= 1;
        } else if self.now < self.most {
            self.before = Some(rate);
            self.now += 1;
        }
    }

    /// The store refused something for now, or did not answer: half as many, and no hurry to add more.
    pub fn failed(&mut self) {
        self.now = (self.now / 2).max(1);
        (self.before, self.round, self.hold) = (None, None, CAREFUL_ROUNDS);
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A store that answers after `latency` and carries `line` bytes per second in all.
    fn settle(lanes: &mut Concurrency, latency: f64, line: f64, objects: usize, bytes: u64) {
        let mut at = 0.0;
        for _ in 0..objects {
            let each = (latency + bytes as f64 * lanes.allowed() as f64 / line) / lanes.allowed() as f64;
            at += each;
            lanes.sent(bytes, Duration::from_secs_f64(at));
        }
    }

    #[rstest]
    // Far away: each object waits for its answer, so many at once help.
    #[case::far_and_wide(0.5, 1e9, 7, 8)]
    // The line is full with two.
    #[case::near_and_narrow(0.001, 2e6, 1, 3)]
    #[case::in_between(0.2, 10e6, 2, 5)]
    fn it_settles_where_more_does_not_help(#[case] latency: f64, #[case] line: f64, #[case] least: usize, #[case] most: usize) {
        let mut lanes = Concurrency::new(8);
        settle(&mut lanes, latency, line, 400, 1_000_000);
        assert!((least..=most).contains(&lanes.allowed()), "{}", lanes.allowed());
    }

    #[test]
    fn trouble_halves_it_down_to_one_and_it_comes_back() {
        let mut lanes = Concurrency::new(8);
        settle(&mut lanes, 0.5, 1e9, 400, 1_000_000);
        let many = lanes.allowed();
        lanes.failed();
        assert_eq!(lanes.allowed(), many / 2);
        for _ in 0..10 {
            lanes.failed();
        }
        assert_eq!(lanes.allowed(), 1, "one is always tried");
        settle(&mut lanes, 0.5, 1e9, 400, 1_000_000);
        assert!(lanes.allowed() >= 6, "{}", lanes.allowed());
    }

    #[test]
    fn it_keeps_to_what_the_settings_allow() {
        let mut lanes = Concurrency::new(1);
        settle(&mut lanes, 0.5, 1e9, 100, 1_000_000);
        assert_eq!(lanes.allowed(), 1);
        assert_eq!(Concurrency::new(0).allowed(), 1);
    }
}
