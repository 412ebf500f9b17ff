//! Locks of WebDAV class 2 (RFC 4918, section 6), for one device's tree.
//!
//! They keep two programs that share a device's credential from writing over each other's work. They are kept in memory: a lock
//! may end at any time by the standard's own words, and after a restart a program that finds its lock gone asks for a new
//! one. No original depends on them, since nothing that is written here replaces one.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, SystemTime},
};

use dav_server::{
    davpath::DavPath,
    ls::{DavLock, DavLockSystem, LsFuture},
};
use uuid::Uuid;
use xmltree::Element;
use ypogeion_core::DeviceId;

/// The longest that a lock lasts without being refreshed, and how long it lasts if nothing is said.
const LONGEST: Duration = Duration::from_secs(3600);
/// Locks that one device can hold. A program has one for each file that it is writing just now.
const MOST: usize = 1000;
/// Letters of an owner's element that are kept and given back.
const LONGEST_OWNER: usize = 4096;

/// The locks of all devices.
#[derive(Clone, Debug, Default)]
pub struct Locks(Arc<Mutex<HashMap<DeviceId, Vec<DavLock>>>>);

impl Locks {
    /// The locks of one device's tree.
    pub fn of(&self, device: DeviceId) -> Box<DeviceLocks> {
        Box::new(DeviceLocks { all: self.clone(), device })
    }
}

/// One device's locks.
#[derive(Clone, Debug)]
pub struct DeviceLocks {
    all: Locks,
    device: DeviceId,
}

/// The segments of a path; whether it ends in a slash does not matter.
fn segments(path: &DavPath) -> Vec<&[u8]> {
    path.as_bytes().split(|b| *b == b'/').filter(|s| !s.is_empty()).collect()
}

/// Whether `lock` is on this place: on itself, or on a folder above with all that is in it.
fn covers(lock: &DavLock, place: &[&[u8]]) -> bool {
    let root = segments(&lock.path);
    if lock.deep { place.starts_with(&root) } else { place == root }
}

/// Whether `lock` is on something in this folder.
fn is_below(lock: &DavLock, place: &[&[u8]]) -> bool {
    let root = segments(&lock.path);
    root.len() > place.len() && root.starts_with(place)
}

impl DeviceLocks {
    fn with<T>(&self, f: impl FnOnce(&mut Vec<DavLock>) -> T) -> T {
        let mut all: MutexGuard<'_, HashMap<_, _>> = self.all.0.lock().unwrap_or_else(PoisonError::into_inner);
        let locks = all.entry(self.device).or_default();
        let now = SystemTime::now();
        locks.retain(|l: &DavLock| l.timeout_at.is_none_or(|at| at > now));
        let result = f(locks);
        if locks.is_empty() {
            all.remove(&self.device);
        }
        result
    }

    fn take(
        &self,
        path: &DavPath,
        principal: Option<&str>,
        owner: Option<&Element>,
        timeout: Option<Duration>,
        shared: bool,
        deep: bool,
    ) -> Result<DavLock, DavLock> {
        let place = segments(path);
        self.with(|locks| {
            let in_the_way = locks
                .iter()
                .find(|l| !(l.shared && shared) && (covers(l, &place) || (deep && is_below(l, &place))))
                // A program that never lets go of a lock waits until its first one ends.
                .or_else(|| locks.first().filter(|_| locks.len() >= MOST));
            if let Some(lock) = in_the_way {
                return Err(lock.clone());
            }
            let timeout = timeout.unwrap_or(LONGEST).min(LONGEST);
            let lock = DavLock {
                token: Uuid::new_v4().urn().to_string(),
                path: Box::new(path.clone()),
                principal: principal.map(str::to_owned),
                owner: owner.filter(|o| short(o)).map(|o| Box::new(o.clone())),
                timeout_at: Some(SystemTime::now() + timeout),
                timeout: Some(timeout),
                shared,
                deep,
            };
            locks.push(lock.clone());
            Ok(lock)
        })
    }

    fn may_write(&self, path: &DavPath, deep: bool, tokens: &[String]) -> Result<(), DavLock> {
        let place = segments(path);
        self.with(|locks| {
            let held = |l: &DavLock| tokens.contains(&l.token);
            let on_it: Vec<&DavLock> = locks.iter().filter(|l| covers(l, &place)).collect();
            // One of several shared locks is enough; an exclusive one is always alone.
            if !on_it.is_empty() && !on_it.iter().any(|l| held(l)) {
                return Err(on_it[0].clone());
            }
            match locks.iter().find(|l| deep && is_below(l, &place) && !held(l)) {
                Some(lock) => Err(lock.clone()),
                None => Ok(()),
            }
        })
    }
}

fn short(owner: &Element) -> bool {
    let mut text = Vec::new();
    owner.write(&mut text).is_ok() && text.len() <= LONGEST_OWNER
}

fn ready<'a, T: Send + 'a>(value: T) -> LsFuture<'a, T> {
    Box::pin(std::future::ready(value))
}

impl DavLockSystem for DeviceLocks {
    fn lock(
        &'_ self,
        path: &DavPath,
        principal: Option<&str>,
        owner: Option<&Element>,
        timeout: Option<Duration>,
        shared: bool,
        deep: bool,
    ) -> LsFuture<'_, Result<DavLock, DavLock>> {
        ready(self.take(path, principal, owner, timeout, shared, deep))
    }

    fn unlock(&'_ self, path: &DavPath, token: &str) -> LsFuture<'_, Result<(), ()>> {
        let place = segments(path);
        ready(self.with(|locks| {
            let at = locks.iter().position(|l| l.token == token && covers(l, &place)).ok_or(())?;
            locks.remove(at);
            Ok(())
        }))
    }

    fn refresh(&'_ self, path: &DavPath, token: &str, timeout: Option<Duration>) -> LsFuture<'_, Result<DavLock, ()>> {
        let place = segments(path);
        ready(self.with(|locks| {
            let lock = locks.iter_mut().find(|l| l.token == token && covers(l, &place)).ok_or(())?;
            let timeout = timeout.unwrap_or(LONGEST).min(LONGEST);
            (lock.timeout, lock.timeout_at) = (Some(timeout), Some(SystemTime::now() + timeout));
            Ok(lock.clone())
        }))
    }

    fn check(
        &'_ self,
        path: &DavPath,
        _principal: Option<&str>,
        _ignore_principal: bool,
        deep: bool,
        submitted_tokens: &[String],
    ) -> LsFuture<'_, Result<(), DavLock>> {
        // All who come here have the same credential; the token tells them apart.
        ready(self.may_write(path, deep, submitted_tokens))
    }

    fn discover(&'_ self, path: &DavPath) -> LsFuture<'_, Vec<DavLock>> {
        let place = segments(path);
        ready(self.with(|locks| locks.iter().filter(|l| covers(l, &place)).cloned().collect()))
    }

    fn delete(&'_ self, path: &DavPath) -> LsFuture<'_, Result<(), ()>> {
        let place = segments(path);
        self.with(|locks| locks.retain(|l| !segments(&l.path).starts_with(&place)));
        ready(Ok(()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(text: &str) -> DavPath {
        DavPath::new(text).unwrap()
    }

    fn locks() -> Box<DeviceLocks> {
        Locks::default().of(DeviceId(Uuid::now_v7()))
    }

    #[test]
    fn an_exclusive_lock_is_alone_on_its_place() {
        let locks = locks();
        let lock = locks.take(&path("/Camera/a.jpg"), None, None, None, false, true).unwrap();
        assert!(locks.take(&path("/Camera/a.jpg"), None, None, None, true, true).is_err());
        assert!(locks.take(&path("/Camera"), None, None, None, false, true).is_err(), "it would cover a locked file");
        locks.take(&path("/Camera"), None, None, None, false, false).unwrap();
        assert!(locks.may_write(&path("/Camera/a.jpg"), false, &[]).is_err());
        locks.may_write(&path("/Camera/a.jpg"), false, std::slice::from_ref(&lock.token)).unwrap();
        locks.may_write(&path("/Camera/b.jpg"), false, &[]).unwrap();
    }

    #[test]
    fn a_deep_lock_covers_what_is_in_its_folder_and_nothing_beside() {
        let locks = locks();
        let lock = locks.take(&path("/Camera/"), None, None, None, false, true).unwrap();
        assert!(locks.may_write(&path("/Camera/2026/a.jpg"), false, &[]).is_err());
        locks.may_write(&path("/Camera2/a.jpg"), false, &[]).unwrap();
        locks.may_write(&path("/Camera/2026/a.jpg"), false, &[lock.token]).unwrap();
        assert!(locks.may_write(&path("/"), true, &[]).is_err(), "what is above cannot be moved away");
        locks.may_write(&path("/"), false, &[]).unwrap();
    }

    #[test]
    fn one_of_the_shared_locks_is_enough() {
        let locks = locks();
        let take = || locks.take(&path("/a.jpg"), None, None, None, true, false).unwrap();
        let (first, second) = (take(), take());
        assert!(locks.may_write(&path("/a.jpg"), false, &[]).is_err());
        locks.may_write(&path("/a.jpg"), false, &[second.token]).unwrap();
        assert!(locks.take(&path("/a.jpg"), None, None, None, false, false).is_err());
        drop(first);
    }

    #[tokio::test]
    async fn locks_end() {
        let all = Locks::default();
        let (mine, other) = (all.of(DeviceId(Uuid::now_v7())), all.of(DeviceId(Uuid::now_v7())));
        let lock = mine.take(&path("/a.jpg"), None, None, Some(Duration::from_secs(90_000)), false, false).unwrap();
        assert_eq!(lock.timeout, Some(LONGEST));
        other.may_write(&path("/a.jpg"), false, &[]).expect("another device has another tree");
        assert!(mine.unlock(&path("/b.jpg"), &lock.token).await.is_err());
        mine.unlock(&path("/a.jpg"), &lock.token).await.unwrap();
        mine.may_write(&path("/a.jpg"), false, &[]).unwrap();
        mine.take(&path("/b.jpg"), None, None, Some(Duration::ZERO), false, false).unwrap();
        mine.may_write(&path("/b.jpg"), false, &[]).expect("its time is over");
        assert!(mine.refresh(&path("/b.jpg"), "urn:uuid:none", None).await.is_err());
        for n in 0..MOST {
            mine.take(&path(&format!("/{n}")), None, None, None, false, false).unwrap();
        }
        assert!(mine.take(&path("/more"), None, None, None, false, false).is_err());
    }
}
