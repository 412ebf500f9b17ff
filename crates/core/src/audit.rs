//! Reading copies again: how much of them at a time, how fast, and what a random sample says about the rest.

use std::{collections::HashSet, time::Duration};

use chrono::TimeDelta;
use statrs::distribution::{DiscreteCDF, Hypergeometric};

use crate::words;

/// How copies are read again: in portions, so that all have been read within a set time.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rhythm {
    /// Everything is read once within this time.
    pub cover: TimeDelta,
    /// Time from one portion to the next.
    pub every: TimeDelta,
    /// Bytes per second, at most; 0 for no limit.
    pub most_rate: u64,
}

impl Rhythm {
    /// Bytes to read at once, of `total`, so that everything has its turn in time. At least one byte, so at least one file.
    pub fn portion(&self, total: u64) -> u64 {
        let (every, cover) = (self.every.num_milliseconds().max(1) as u128, self.cover.num_milliseconds().max(1) as u128);
        // One that is asked for more often than everything fits simply reads everything each time.
        let share = (u128::from(total) * every).div_ceil(cover);
        u64::try_from(share).unwrap_or(u64::MAX).clamp(1, total.max(1))
    }

    /// How long to rest after `bytes` were read in `took`, so that the rate is kept on average.
    pub fn rest(&self, bytes: u64, took: Duration) -> Duration {
        if self.most_rate == 0 {
            return Duration::ZERO;
        }
        Duration::from_secs_f64(bytes as f64 / self.most_rate as f64).saturating_sub(took)
    }
}

/// What a random sample of a replica says about all of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sampled {
    /// Originals in the replica.
    pub population: u64,
    /// Drawn at random from them, each at most once, and read.
    pub sample: u64,
    /// Of these, lost or damaged.
    pub bad: u64,
}

/// How sure a statement about a replica is to be.
pub const CONFIDENCE: f64 = 0.95;

impl Sampled {
    /// The largest number of damaged originals in the replica with which a sample this good would still turn up in more than
    /// one of twenty drills: with a confidence of 95 %, no more are damaged. The exact bound for drawing without putting back
    /// (hypergeometric), as by Clopper and Pearson for drawing with it.
    pub fn most_damaged(&self) -> u64 {
        let Sampled { population, sample, bad } = *self;
        if sample == 0 {
            return population;
        }
        // As many good ones as were drawn are not damaged, whatever the rest is.
        let (mut sure, mut over) = (bad, population - (sample - bad) + 1);
        while over - sure > 1 {
            let damaged = sure + (over - sure) / 2;
            let chance = Hypergeometric::new(population, damaged, sample).map_or(0.0, |d| d.cdf(bad));
            if chance > 1.0 - CONFIDENCE { sure = damaged } else { over = damaged }
        }
        sure
    }

    /// What it says, in a sentence.
    pub fn statement(&self) -> String {
        let Sampled { population, sample, bad } = *self;
        if population == 0 {
            return "There is nothing in this store yet.".to_owned();
        }
        let found = match bad {
            0 if population == 1 => return "The one file came back and is right.".to_owned(),
            0 if sample == population => {
                return format!("All {} files came back and are right.", words::count(population));
            }
            0 => format!("{} of {} came back and are right", words::count(sample), words::count(population)),
            _ => format!("{} of the {} that were tried could not be restored", words::count(bad), words::count(sample)),
        };
        match self.most_damaged() {
            0 => format!("{found}. Very likely none of the others is damaged (confidence: 95 %)."),
            most => format!(
                "{found}. Very likely at most {} of all ({}) are damaged (confidence: 95 %).",
                percent(most, population),
                words::count(most)
            ),
        }
    }
}

/// `part` of `whole` in percent, never rounded down.
fn percent(part: u64, whole: u64) -> String {
    let in_units = |unit: u128| (u128::from(part) * 100 * unit).div_ceil(u128::from(whole.max(1)));
    match in_units(1) {
        0..=1 => format!("{:.2} %", in_units(100) as f64 / 100.0),
        2..=10 => format!("{:.1} %", in_units(10) as f64 / 10.0),
        whole => format!("{whole} %"),
    }
}

/// Draws `sample` different numbers below `population`, each equally likely; `random` gives a number below the one it is
/// handed. In time and memory of the sample, not of the population (Floyd's way).
pub fn draw(population: u64, sample: u64, mut random: impl FnMut(u64) -> u64) -> HashSet<u64> {
    let sample = sample.min(population);
    let mut drawn = HashSet::with_capacity(sample as usize);
    for top in population - sample..population {
        let n = random(top + 1).min(top);
        if !drawn.insert(n) {
            drawn.insert(top);
        }
    }
    drawn
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn rhythm(cover: i64, every: i64, most_rate: u64) -> Rhythm {
        Rhythm { cover: TimeDelta::days(cover), every: TimeDelta::days(every), most_rate }
    }

    #[rstest]
    #[case::a_ninetieth_a_day(rhythm(90, 1, 0), 900, 10)]
    #[case::rounded_up(rhythm(90, 1, 0), 901, 11)]
    #[case::everything(rhythm(1, 7, 0), 901, 901)]
    #[case::nothing_there(rhythm(90, 1, 0), 0, 1)]
    #[case::more_than_memory(rhythm(90, 1, 0), u64::MAX, u64::MAX / 90 + 1)]
    fn portions_cover_everything_in_time(#[case] rhythm: Rhythm, #[case] total: u64, #[case] portion: u64) {
        assert_eq!(rhythm.portion(total), portion);
    }

    #[test]
    fn a_rate_is_kept_by_resting() {
        let rhythm = rhythm(90, 1, 1000);
        assert_eq!(rhythm.rest(500, Duration::from_millis(200)), Duration::from_millis(300));
        assert_eq!(rhythm.rest(500, Duration::from_secs(2)), Duration::ZERO);
        assert_eq!(Rhythm { most_rate: 0, ..rhythm }.rest(u64::MAX, Duration::ZERO), Duration::ZERO);
    }

    // The bound with nothing found bad is the largest d with C(N-d, n) / C(N, n) > 0.05; worked out by hand for small numbers:
    // N = 10, n = 5: d = 3 gives 21/252 = 0.083, d = 4 gives 6/252 = 0.024. N = 20, n = 10, k = 1: by the same sums, d = 6.
    #[rstest]
    #[case::none_drawn(10, 0, 0, 10)]
    #[case::half_drawn(10, 5, 0, 3)]
    #[case::one_found(20, 10, 1, 6)]
    #[case::all_drawn(10, 10, 2, 2)]
    #[case::the_rule_of_three(1_000_000, 299, 0, 9_967)]
    #[case::all_bad(10, 5, 5, 10)]
    fn the_bound_is_the_exact_one(#[case] population: u64, #[case] sample: u64, #[case] bad: u64, #[case] most: u64) {
        let found = Sampled { population, sample, bad }.most_damaged();
        assert!(found.abs_diff(most) <= most / 500, "{found}, not {most}");
    }

    #[test]
    fn the_bound_holds_as_often_as_it_says() {
        // 60 of 1,000 are damaged; a drill of 100 may find few of them by luck, and then its bound is too low: at most one time
        // in twenty.
        let mut state = 7u64;
        let mut random = |below: u64| {
            state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            (state >> 33) % below
        };
        let drills = 2000;
        let misled = (0..drills)
            .filter(|_| {
                let bad = draw(1000, 100, &mut random).into_iter().filter(|n| *n < 60).count() as u64;
                Sampled { population: 1000, sample: 100, bad }.most_damaged() < 60
            })
            .count();
        assert!(misled * 20 <= drills * 5 / 4, "{misled} of {drills}");
    }

    #[test]
    fn draws_are_different_numbers_and_all_of_them_if_asked() {
        let mut n = 0u64;
        let mut random = |below: u64| {
            n += 7;
            n % below
        };
        assert_eq!(draw(10, 20, &mut random), (0..10).collect());
        let some = draw(1_000_000, 50, &mut random);
        assert_eq!(some.len(), 50);
        assert!(some.iter().all(|n| *n < 1_000_000));
        assert!(draw(0, 5, random).is_empty());
    }

    #[rstest]
    #[case(Sampled { population: 0, sample: 0, bad: 0 }, "There is nothing in this store yet.")]
    #[case(Sampled { population: 1, sample: 1, bad: 0 }, "The one file came back and is right.")]
    #[case(Sampled { population: 334, sample: 334, bad: 0 }, "All 334 files came back and are right.")]
    #[case(
        Sampled { population: 206, sample: 200, bad: 0 },
        "200 of 206 came back and are right. Very likely none of the others is damaged (confidence: 95 %)."
    )]
    #[case(Sampled { population: 3, sample: 3, bad: 1 }, "1 of the 3 that were tried could not be restored. Very likely at most 34 % of all (1) are damaged (confidence: 95 %).")]
    #[case(
        Sampled { population: 10, sample: 5, bad: 0 },
        "5 of 10 came back and are right. Very likely at most 30 % of all (3) are damaged (confidence: 95 %)."
    )]
    fn a_drill_is_said_in_a_sentence(#[case] sampled: Sampled, #[case] said: &str) {
        assert_eq!(sampled.statement(), said);
    }

    #[test]
    fn a_share_is_never_rounded_down() {
        let said = [(1, 1_000_000), (99, 10_000), (123, 10_000), (301, 1000), (1, 1)].map(|(part, whole)| percent(part, whole));
        assert_eq!(said, ["0.01 %", "0.99 %", "1.3 %", "31 %", "100 %"]);
    }
}
