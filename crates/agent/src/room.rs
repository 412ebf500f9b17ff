//! Making room on the device: choose by rule, ask, remove what was cleared and nothing else.
//!
//! The order of the risky part is kept by types: [`Permit::for_copy`] is the only way to a [`Permit`], it wants the server's
//! answer to this very request and the file as it is now, and [`Permit::remove`] is the only place that removes a file.

use std::{
    fs, io,
    time::{Duration, Instant},
};

use uuid::Uuid;
use ypogeion_core::{
    Digest,
    clearance::{Candidate, RoomRule, choose},
    kind::MediaKind,
    source::{Seen, Sort, taken},
};
use ypogeion_wire::clearance::{
    ClearanceAnswer, ClearanceEntry, ClearanceRequest, Clearances, LARGEST_CLEARANCE, MOST_BYTES_CLEARED, Removed,
};

use crate::{
    backup::RunError,
    cache::{CacheError, Snapshot},
    home::{Home, HomeError, Source},
    scan::{Found, hash, stamp, walk},
};

/// What became of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RoomEntry {
    /// Source.
    pub source: String,
    /// Name in there.
    pub name: String,
    /// Bytes.
    pub size: u64,
    /// `None`: removed (or, in a dry run, it would be). Otherwise why it stays.
    pub kept: Option<String>,
}

/// What making room did.
#[derive(Clone, Debug, Default)]
pub struct RoomAccount {
    /// Every file that the rule chose.
    pub entries: Vec<RoomEntry>,
    /// Bytes of what was removed, or would be.
    pub freed: u64,
    /// What the keeper demands: `home`, `offsite` or `proven`.
    pub demanded: Option<String>,
}

/// A file that this device backed up and has not changed since, with the hash it had then.
struct Copy {
    file: Found,
    digest: Digest,
}

/// The right to remove one copy.
#[derive(Debug)]
pub struct Permit<'a> {
    file: &'a Found,
}

/// Why there is no permit.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoPermit {
    /// The server says so.
    #[error("{0}")]
    Kept(String),
    /// The answer is not to this request, not for this device, or too old.
    #[error("the server's answer was not to this question; nothing was removed")]
    NotOurs,
    /// The answer has grown too old while the files before it were removed.
    #[error("the clearance ran out; ask again")]
    RanOut,
    /// The file is not what was asked about any more.
    #[error("it was changed meanwhile; the next backup sends it")]
    Changed,
}

/// What a device knows of its own question.
pub struct Question {
    nonce: String,
    device: ypogeion_core::DeviceId,
    asked: Instant,
    entries: Vec<ClearanceEntry>,
}

impl<'a> Permit<'a> {
    /// Holds the answer against the question and the file against the answer. `place` is the file's place in both. The file
    /// is read again, from start to end: what may be removed is what the household has, byte for byte.
    pub fn for_copy(
        question: &Question,
        answer: &Clearances,
        place: usize,
        file: &'a Found,
        now: Instant,
    ) -> Result<Self, NoPermit> {
        let ours = answer.nonce == question.nonce
            && answer.device == question.device
            && answer.clearance.is_some()
            && answer.answers.len() == question.entries.len();
        if !ours {
            return Err(NoPermit::NotOurs);
        }
        if now.duration_since(question.asked) >= Duration::from_secs(answer.holds_seconds.into()) {
            return Err(NoPermit::RanOut);
        }
        match answer.answers.get(place) {
            Some(ClearanceAnswer::Clear { .. }) => {}
            Some(ClearanceAnswer::Keep { reason }) => return Err(NoPermit::Kept(reason.clone())),
            None => return Err(NoPermit::NotOurs),
        }
        match hash(file) {
            Ok(digest) if digest == question.entries[place].digest => Ok(Permit { file }),
            _ => Err(NoPermit::Changed),
        }
    }

    /// Removes the copy, unless it was touched after it was read.
    pub fn remove(self) -> io::Result<()> {
        if stamp(&fs::symlink_metadata(&self.file.path)?) != self.file.stamp {
            return Err(io::Error::other(NoPermit::Changed));
        }
        fs::remove_file(&self.file.path)
    }
}

/// Makes room by `rule`; `free` is what the device has free now. In a dry run the server is asked and says what it would, and
/// nothing is removed. Without an answer nothing is removed.
pub async fn make_room(
    home: &Home,
    rule: &RoomRule,
    free: u64,
    today: chrono::NaiveDate,
    dry_run: bool,
    mut tell: impl FnMut(&RoomEntry),
) -> Result<RoomAccount, RunError> {
    let (client, device) = (home.client()?, home.paired()?.device);
    let copies = backed_up(home)?;
    let candidates: Vec<Candidate> = copies.iter().map(|c| candidate(&c.file, today)).collect();
    let chosen = choose(&candidates, rule, free, today);
    let mut account = RoomAccount::default();
    for batch in batches(&chosen, &copies) {
        let question = Question {
            nonce: Uuid::new_v4().simple().to_string(),
            device,
            asked: Instant::now(),
            entries: batch.iter().map(|c| entry(c)).collect(),
        };
        let request = ClearanceRequest { nonce: question.nonce.clone(), entries: question.entries.clone(), rehearse: dry_run };
        let answer = client.ask_clearance(&request).await?;
        account.demanded = Some(answer.demanded.clone());
        let mut removed = Vec::new();
        for (place, copy) in batch.iter().enumerate() {
            let kept =
                if dry_run { would_keep(&question, &answer, place) } else { remove(&question, &answer, place, &copy.file) };
            if kept.is_none() {
                account.freed += copy.file.stamp.size;
                removed.push(question.entries[place].clone());
            }
            let entry =
                RoomEntry { source: copy.file.source.clone(), name: copy.file.name.clone(), size: copy.file.stamp.size, kept };
            tell(&entry);
            account.entries.push(entry);
        }
        if let Some(clearance) = answer.clearance.filter(|_| !dry_run) {
            // The files are gone whether the server hears of it or not. If it does not, it goes on counting them as on this device.
            client.report_removed(clearance, &Removed { entries: removed }).await?;
        }
    }
    Ok(account)
}

/// Bytes free for this user where a source lies.
pub fn free_space(folder: &std::path::Path) -> io::Result<u64> {
    let stat = rustix::fs::statvfs(folder)?;
    Ok(stat.f_bavail.saturating_mul(stat.f_frsize))
}

fn would_keep(question: &Question, answer: &Clearances, place: usize) -> Option<String> {
    match answer.answers.get(place).filter(|_| answer.nonce == question.nonce) {
        Some(ClearanceAnswer::Clear { .. }) => None,
        Some(ClearanceAnswer::Keep { reason }) => Some(reason.clone()),
        None => Some(NoPermit::NotOurs.to_string()),
    }
}

fn remove(question: &Question, answer: &Clearances, place: usize, file: &Found) -> Option<String> {
    match Permit::for_copy(question, answer, place, file, Instant::now()) {
        Ok(permit) => permit.remove().err().map(|e| format!("it could not be removed: {e}")),
        Err(why) => Some(why.to_string()),
    }
}

/// What was acknowledged and has not changed since.
fn backed_up(home: &Home) -> Result<Vec<Copy>, RunError> {
    let (cache, device) = (home.cache()?, home.paired()?.device);
    Ok(backed_up_by(&cache.snapshot(device).map_err(HomeError::from)?, &home.state.sources).map_err(HomeError::from)?)
}

fn backed_up_by(snapshot: &Snapshot<'_>, sources: &[Source]) -> Result<Vec<Copy>, CacheError> {
    let (mut copies, mut unknown) = (Vec::new(), None);
    for source in sources {
        walk(
            source,
            |file| match snapshot.known(&file.key(), file.stamp) {
                Ok(known) => copies.extend(known.filter(|k| k.acknowledged).map(|k| Copy { file, digest: k.digest })),
                Err(e) => drop(unknown.get_or_insert(e)),
            },
            // What cannot be looked at is not removed.
            |_| {},
        );
    }
    unknown.map_or(Ok(copies), Err)
}

fn candidate(file: &Found, today: chrono::NaiveDate) -> Candidate {
    let seen = Seen { path: &file.name, sort: Sort::of(&file.name, false), modified: file.file_time() };
    // Without any date it counts as taken today, so that no rule about age chooses it.
    Candidate { kind: MediaKind::from_extension(&file.name), taken: taken(&seen).unwrap_or(today), size: file.stamp.size }
}

fn entry(copy: &Copy) -> ClearanceEntry {
    ClearanceEntry {
        digest: copy.digest,
        size: copy.file.stamp.size,
        name: copy.file.name.clone(),
        source: copy.file.source.clone(),
    }
}

fn batches<'a>(chosen: &[usize], copies: &'a [Copy]) -> Vec<Vec<&'a Copy>> {
    let (mut batches, mut bytes): (Vec<Vec<&Copy>>, u64) = (Vec::new(), u64::MAX);
    for &i in chosen {
        let copy = &copies[i];
        bytes = bytes.saturating_add(copy.file.stamp.size);
        match batches.last_mut().filter(|b| b.len() < LARGEST_CLEARANCE && bytes <= MOST_BYTES_CLEARED) {
            Some(batch) => batch.push(copy),
            None => {
                bytes = copy.file.stamp.size;
                batches.push(vec![copy]);
            }
        }
    }
    batches
}

#[cfg(test)]
mod tests {
    use ypogeion_core::{DeviceId, RunId};

    use super::*;
    use crate::cache::Cache;

    /// As many as do not fit into what a database remembers of itself: each look-up is a reading of the file.
    #[test]
    fn ten_thousand_files_that_were_backed_up_are_all_known() {
        let folder = tempfile::tempdir().unwrap();
        let pictures = folder.path().join("Camera");
        fs::create_dir_all(&pictures).unwrap();
        for n in 0..10_000 {
            fs::write(pictures.join(format!("IMG_{n:05}.jpg")), b"kite").unwrap();
        }
        let sources = [Source::new("Camera", &pictures)];
        let mut rows = Vec::new();
        walk(&sources[0], |f| rows.push((f.key(), f.stamp, Digest::of(b"kite"), true)), |_| {});
        let device = DeviceId(Uuid::from_u128(7));
        let cache = folder.path().join("hashes.redb");
        Cache::open(&cache).unwrap().remember(device, RunId(Uuid::from_u128(2)), &rows).unwrap();
        let cache = Cache::open(&cache).unwrap();
        assert_eq!(backed_up_by(&cache.snapshot(device).unwrap(), &sources).unwrap().len(), 10_000);
    }

    struct Scene {
        _folder: tempfile::TempDir,
        file: Found,
        question: Question,
        answer: Clearances,
    }

    /// One file, asked about and cleared.
    fn scene() -> Scene {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("kite.jpg"), b"kite").unwrap();
        let mut files = Vec::new();
        walk(&Source::new("Camera", folder.path()), |f| files.push(f), |_| {});
        let file = files.pop().unwrap();
        let entry = ClearanceEntry { digest: Digest::of(b"kite"), size: 4, name: file.name.clone(), source: file.source.clone() };
        let device = DeviceId(Uuid::from_u128(7));
        let question = Question { nonce: "a".repeat(32), device, asked: Instant::now(), entries: vec![entry] };
        let clear = ClearanceAnswer::Clear { home_read_at: chrono::DateTime::UNIX_EPOCH, store: None, proven_at: None };
        let answer = Clearances {
            clearance: Some(Uuid::from_u128(9)),
            nonce: question.nonce.clone(),
            device,
            holds_seconds: 600,
            demanded: "home".into(),
            answers: vec![clear],
        };
        Scene { _folder: folder, file, question, answer }
    }

    fn permit(s: &Scene) -> Result<Permit<'_>, NoPermit> {
        Permit::for_copy(&s.question, &s.answer, 0, &s.file, Instant::now())
    }

    #[test]
    fn what_was_cleared_is_removed() {
        let s = scene();
        permit(&s).unwrap().remove().unwrap();
        assert!(!s.file.path.exists());
    }

    #[test]
    fn an_answer_to_another_question_clears_nothing() {
        let replayed = Scene { answer: Clearances { nonce: "b".repeat(32), ..scene().answer }, ..scene() };
        assert_eq!(permit(&replayed).unwrap_err(), NoPermit::NotOurs);
        let other = Scene { answer: Clearances { device: DeviceId(Uuid::from_u128(8)), ..scene().answer }, ..scene() };
        assert_eq!(permit(&other).unwrap_err(), NoPermit::NotOurs);
        let rehearsed = Scene { answer: Clearances { clearance: None, ..scene().answer }, ..scene() };
        assert_eq!(permit(&rehearsed).unwrap_err(), NoPermit::NotOurs);
        let short = Scene { answer: Clearances { answers: Vec::new(), ..scene().answer }, ..scene() };
        assert_eq!(permit(&short).unwrap_err(), NoPermit::NotOurs);
        let no = ClearanceAnswer::Keep { reason: "it is not offsite yet".into() };
        let kept = Scene { answer: Clearances { answers: vec![no], ..scene().answer }, ..scene() };
        assert_eq!(permit(&kept).unwrap_err(), NoPermit::Kept("it is not offsite yet".into()));
    }

    #[test]
    fn an_old_answer_clears_nothing() {
        let s = scene();
        let later = Instant::now() + Duration::from_secs(601);
        assert_eq!(Permit::for_copy(&s.question, &s.answer, 0, &s.file, later).unwrap_err(), NoPermit::RanOut);
    }

    #[test]
    fn a_file_that_was_edited_meanwhile_stays() {
        let s = scene();
        fs::write(&s.file.path, b"kitf").unwrap();
        assert_eq!(permit(&s).unwrap_err(), NoPermit::Changed);
        let s = scene();
        let granted = permit(&s).unwrap();
        fs::write(&s.file.path, b"another kite").unwrap();
        assert!(granted.remove().is_err());
        assert!(s.file.path.exists());
    }
}
