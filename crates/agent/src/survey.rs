//! Looking through the sources, before anything is hashed or sent.

use std::{
    cell::RefCell,
    sync::mpsc,
    thread,
    time::{Duration, SystemTime},
};

use ypogeion_core::Digest;

use crate::{
    cache::{CacheError, Snapshot},
    home::Source,
    scan::{Found, LeftOut, walk},
};

/// So many files are handed from the walk to whoever looks them up at once, and so many handfuls may wait.
const HANDFUL: usize = 256;
const HANDFULS: usize = 16;

/// What one source holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourcePlan {
    /// The source.
    pub source: String,
    /// Files that are to be backed up.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Of these, new or changed.
    pub new: u64,
    /// Their bytes.
    pub new_bytes: u64,
    /// Left out by choice.
    pub left_out: u64,
}

/// The sources, sorted by what is to be done with their files.
#[derive(Default)]
pub(crate) struct Looked {
    pub checked: u64,
    pub acknowledged: u64,
    pub bytes: u64,
    pub hashed: Vec<(Found, Digest)>,
    pub unknown: Vec<Found>,
    pub left_out: Vec<LeftOut>,
    pub plan: Vec<SourcePlan>,
    pub unsettled: u64,
}

/// What the walk met.
enum Met {
    File(Found),
    Out(LeftOut),
}

/// Walks the sources and sorts what is there: acknowledged before, hashed before, unknown. `all`: nothing counts as
/// acknowledged. `settle`: what was written to within this time is left alone.
///
/// One thread asks the disk, this one looks up what came.
///
/// # Errors
/// If what is known of the files cannot be read.
pub(crate) fn look(
    sources: &[Source],
    snapshot: &Snapshot<'_>,
    all: bool,
    settle: Option<Duration>,
) -> Result<Looked, CacheError> {
    let mut looked = Looked::default();
    let now = SystemTime::now();
    looked.plan = sources.iter().map(|s| SourcePlan { source: s.name.clone(), ..SourcePlan::default() }).collect();
    thread::scope(|scope| -> Result<(), CacheError> {
        let (met_out, met_in) = mpsc::sync_channel(HANDFULS);
        scope.spawn(move || walk_all(sources, &met_out));
        for (n, met) in met_in {
            let plan: &mut SourcePlan = &mut looked.plan[n];
            for met in met {
                let file = match met {
                    Met::File(file) => file,
                    Met::Out(out) => {
                        plan.left_out += 1;
                        looked.left_out.push(out);
                        continue;
                    }
                };
                plan.files += 1;
                plan.bytes += file.stamp.size;
                let known = snapshot.known(&file.key(), file.stamp)?;
                if known.is_some_and(|k| k.acknowledged) && !all {
                    looked.acknowledged += 1;
                    continue;
                }
                if settle.is_some_and(|settle| written_within(&file, settle, now)) {
                    looked.unsettled += 1;
                    continue;
                }
                plan.new += 1;
                plan.new_bytes += file.stamp.size;
                match known {
                    Some(known) => looked.hashed.push((file, known.digest)),
                    None => looked.unknown.push(file),
                }
            }
        }
        Ok(())
    })?;
    looked.checked = looked.plan.iter().map(|p| p.files + p.left_out).sum();
    looked.bytes = looked.plan.iter().map(|p| p.new_bytes).sum();
    Ok(looked)
}

/// Walks all sources, and hands over what it meets with the number of its source.
fn walk_all(sources: &[Source], out: &mpsc::SyncSender<(usize, Vec<Met>)>) {
    for (n, source) in sources.iter().enumerate() {
        let hand = RefCell::new(Vec::with_capacity(HANDFUL));
        let pass = |met: Met| {
            let mut hand = hand.borrow_mut();
            hand.push(met);
            if hand.len() == HANDFUL {
                // Refused only after the looking itself failed, which ends the run; the walk's rest is then for nothing.
                let _ = out.send((n, std::mem::replace(&mut *hand, Vec::with_capacity(HANDFUL))));
            }
        };
        walk(source, |file| pass(Met::File(file)), |left_out| pass(Met::Out(left_out)));
        let _ = out.send((n, hand.into_inner()));
    }
}

/// Whether a file was written to just now. A time in the future says nothing.
fn written_within(file: &Found, settle: Duration, now: SystemTime) -> bool {
    let modified = file.file_time().map(SystemTime::from);
    modified.is_some_and(|m| now.duration_since(m).is_ok_and(|age| age < settle))
}

#[cfg(test)]
mod tests {
    use std::fs;

    use uuid::Uuid;
    use ypogeion_core::{DeviceId, RunId};

    use super::*;
    use crate::cache::Cache;

    #[test]
    fn what_was_acknowledged_is_passed_over_unless_all_is_asked_for() {
        let folder = tempfile::tempdir().unwrap();
        let pictures = folder.path().join("pictures");
        fs::create_dir_all(&pictures).unwrap();
        fs::write(pictures.join("a.jpg"), b"kite").unwrap();
        fs::write(pictures.join("b.jpg"), b"weir").unwrap();
        let sources = [Source::new("Pictures", &pictures)];
        let device = DeviceId(Uuid::from_u128(1));
        let cache = Cache::open(&folder.path().join("cache")).unwrap();
        let stamp = crate::scan::stamp(&fs::metadata(pictures.join("a.jpg")).unwrap());
        let key = pictures.join("a.jpg").to_string_lossy().into_owned();
        cache.remember(device, RunId(Uuid::from_u128(2)), &[(key, stamp, Digest::of(b"kite"), true)]).unwrap();
        let looked = look(&sources, &cache.snapshot(device).unwrap(), false, None).unwrap();
        assert_eq!((looked.checked, looked.acknowledged, looked.hashed.len(), looked.unknown.len()), (2, 1, 0, 1));
        let looked = look(&sources, &cache.snapshot(device).unwrap(), true, None).unwrap();
        assert_eq!((looked.acknowledged, looked.hashed.len(), looked.unknown.len(), looked.bytes), (0, 1, 1, 8));
    }
}
