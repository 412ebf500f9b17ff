//! A limit on guessing, and on what strangers may send.

use std::{
    collections::HashMap,
    net::{IpAddr, Ipv6Addr},
    pin::Pin,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

use actix_web::{
    FromRequest, HttpRequest,
    dev::{JsonBody, Payload},
};
use serde::de::DeserializeOwned;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use ypogeion_engine::secrets::hash;
use ypogeion_wire::problem::ProblemType;

use crate::failure::{Answer, Failure};

/// The longest name that is looked at, in bytes.
pub const LONGEST_NAME: usize = 200;

/// Counts attempts per somebody (an address, a name) and stops or slows down guessing.
///
/// Invariants:
/// * its size does not depend on who attempts what: keys are hashes, and of those there are at most [`MOST_KEYS`];
/// * to make room, whoever was heard of longest ago is forgotten, and nobody else.
#[derive(Default)]
pub struct Limiter {
    attempts: Mutex<HashMap<Key, Vec<Instant>>>,
    turns: Mutex<HashMap<Key, Arc<Semaphore>>>,
}

/// A hash of who attempts. Half of one: it tells people apart and is no secret.
type Key = [u8; 16];

const WINDOW: Duration = Duration::from_secs(300);
const MOST_KEYS: usize = 10_000;
/// So many wrong passwords cost nothing; each one more makes the next wait longer.
const FREE: usize = 5;
const FIRST_WAIT: Duration = Duration::from_millis(250);
const LONGEST_WAIT: Duration = Duration::from_secs(4);
/// So many wait for their turn to try one account; whoever else comes is sent away.
const MOST_WAITING: usize = 8;

fn key(who: &str) -> Key {
    let mut key = [0; 16];
    key.copy_from_slice(&hash(who).as_bytes()[..16]);
    key
}

/// Who an address stands for: of IPv6, a network of 64 bits, since whoever has one address there has all of them.
pub fn somebody_at(address: Option<IpAddr>) -> String {
    match address.map(|a| a.to_canonical()) {
        Some(IpAddr::V4(four)) => four.to_string(),
        Some(IpAddr::V6(six)) => Ipv6Addr::from(u128::from(six) & !0 << 64).to_string(),
        None => String::new(),
    }
}

impl Limiter {
    /// Notes an attempt; refuses when there were `most` in the last five minutes.
    pub fn attempt(&self, who: &str, most: usize) -> Answer<()> {
        let now = Instant::now();
        let mut attempts = self.lock();
        make_room(&mut attempts, now);
        let times = attempts.entry(key(who)).or_default();
        times.retain(|t| now.duration_since(*t) < WINDOW);
        if times.len() >= most {
            return Err(Failure::new(ProblemType::TooManyAttempts, "That was tried too often; wait five minutes and try again."));
        }
        times.push(now);
        Ok(())
    }

    /// Waits for a turn to try a password on an account, and longer the more were wrong lately: somebody who guesses is slowed down, and
    /// the owner is not locked out. Returns how many were wrong, this one included if it turns out to be: [`Limiter::forget`] takes all back.
    pub async fn turn(&self, account: &str) -> Answer<(Turn, usize)> {
        let turns = {
            let mut all = self.turns.lock().unwrap_or_else(PoisonError::into_inner);
            all.retain(|_, s| Arc::strong_count(s) > 1 || s.available_permits() == 0);
            Arc::clone(all.entry(key(account)).or_insert_with(|| Arc::new(Semaphore::new(1))))
        };
        // One reference is the map's, one is this one's, and each of the others stands in line or has its turn.
        if Arc::strong_count(&turns) > MOST_WAITING + 2 {
            return Err(Failure::new(
                ProblemType::TooManyAttempts,
                "Others are trying to sign in with this name just now; wait a minute and try again.",
            ));
        }
        let permit = turns.acquire_owned().await.expect("the semaphore is never closed");
        let wrong = self.wrong(account);
        if let Some(over) = wrong.checked_sub(FREE) {
            let wait = FIRST_WAIT.saturating_mul(1 << over.min(8)).min(LONGEST_WAIT);
            tokio::time::sleep(wait).await;
        }
        self.attempt(account, usize::MAX)?;
        Ok((Turn { _permit: permit }, wrong + 1))
    }

    fn wrong(&self, account: &str) -> usize {
        let now = Instant::now();
        self.lock().get(&key(account)).map_or(0, |times| times.iter().filter(|t| now.duration_since(**t) < WINDOW).count())
    }

    /// Forgets somebody's attempts, after one that was right.
    pub fn forget(&self, who: &str) {
        self.lock().remove(&key(who));
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<Key, Vec<Instant>>> {
        self.attempts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The right to try one password on one account.
pub struct Turn {
    _permit: OwnedSemaphorePermit,
}

fn make_room(attempts: &mut HashMap<Key, Vec<Instant>>, now: Instant) {
    if attempts.len() < MOST_KEYS {
        return;
    }
    attempts.retain(|_, times| times.last().is_some_and(|t| now.duration_since(*t) < WINDOW));
    while attempts.len() >= MOST_KEYS {
        let oldest = attempts.iter().min_by_key(|(_, times)| times.last().copied()).map(|(key, _)| *key);
        let Some(oldest) = oldest else { return };
        attempts.remove(&oldest);
    }
}

/// A JSON body of a question that strangers may ask: a few lines, whatever the connection could carry.
pub struct Small<T>(pub T);

/// The most bytes of such a body.
const SMALL: usize = 16 << 10;

impl<T: DeserializeOwned + 'static> FromRequest for Small<T> {
    type Error = actix_web::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self, actix_web::Error>>>>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let body = JsonBody::<T>::new(request, payload, None, true).limit(SMALL);
        Box::pin(async move {
            let read = body.await.map(Small);
            read.map_err(|e| Failure::bad(format!("The body is not understood: {e}.")).into())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn guessing_is_stopped_and_the_right_answer_forgives() {
        let limiter = Limiter::default();
        for _ in 0..5 {
            limiter.attempt("juno", 5).unwrap();
        }
        assert_eq!(limiter.attempt("juno", 5).unwrap_err().kind, ProblemType::TooManyAttempts);
        limiter.attempt("piet", 5).unwrap();
        limiter.forget("juno");
        limiter.attempt("juno", 5).unwrap();
    }

    #[test]
    fn a_flood_of_strangers_makes_nobody_else_forgotten_and_takes_no_memory() {
        let limiter = Limiter::default();
        for n in 0..MOST_KEYS + 500 {
            limiter.attempt(&format!("{n} {}", "x".repeat(1000)), 3).unwrap();
            // Somebody who goes on guessing stays known through all of it.
            if n % 100 == 0 && n < 300 {
                limiter.attempt("guesser", 3).unwrap();
            }
            if n % 1000 == 0 && n > 300 {
                assert!(limiter.attempt("guesser", 3).is_err(), "{n}");
            }
        }
        assert!(limiter.lock().len() <= MOST_KEYS);
    }

    #[test]
    fn a_network_is_one_somebody() {
        let at = |a: &str| somebody_at(Some(a.parse().unwrap()));
        assert_eq!(at("2001:db8:1:2:aaaa::1"), at("2001:db8:1:2:bbbb::2"));
        assert_ne!(at("2001:db8:1:2::1"), at("2001:db8:1:3::1"));
        assert_eq!(at("::ffff:10.0.0.7"), at("10.0.0.7"));
        assert_ne!(at("10.0.0.7"), at("10.0.0.8"));
    }

    #[tokio::test(start_paused = true)]
    async fn guessing_slows_an_account_down_and_locks_nobody_out() {
        let limiter = Limiter::default();
        let began = tokio::time::Instant::now();
        for n in 1..=FREE {
            assert_eq!(limiter.turn("juno").await.unwrap().1, n);
        }
        assert_eq!(began.elapsed(), Duration::ZERO, "a slip of the finger costs nothing");
        for _ in 0..10 {
            limiter.turn("juno").await.unwrap();
        }
        assert!(began.elapsed() > Duration::from_secs(20), "{:?}", began.elapsed());
        let before = tokio::time::Instant::now();
        let owner = limiter.turn("juno").await.unwrap();
        assert!(before.elapsed() <= LONGEST_WAIT, "the owner gets in");
        drop(owner);
        limiter.forget("juno");
        let before = tokio::time::Instant::now();
        limiter.turn("juno").await.unwrap();
        limiter.turn("piet").await.unwrap();
        assert_eq!(before.elapsed(), Duration::ZERO);
        // One at a time; and not everybody may stand in line.
        let first = limiter.turn("juno").await.unwrap();
        let mut line = Vec::new();
        for _ in 0..MOST_WAITING {
            line.push(Box::pin(limiter.turn("juno")));
            assert!(futures_util::poll!(line.last_mut().unwrap()).is_pending());
        }
        assert!(limiter.turn("juno").await.is_err());
        drop(first);
    }
}
