//! Bringing everything back, from a store and a recovery kit alone: no database, no old machine.
//!
//! Each original is fetched into a hidden folder at the target, opened, hashed, synced, and only then given its name. So
//! whatever has a name is whole, and a recovery that was interrupted goes on with what has none yet.

use std::{
    fs::{self, File},
    io::{self, BufWriter, Write},
    path::{Path, PathBuf},
    sync::Arc,
    time::SystemTime,
};

use futures_util::{StreamExt, stream};
use ypogeion_core::{Hasher, ledger::OriginalRecord};

use crate::{
    Fault, Replica,
    contents::Broken,
    prove::{FetchError, fetch},
};

const SCRATCH: &str = ".recovering";
/// A fault that may pass is met this often before an original is given up for this pass.
const ATTEMPTS: u32 = 6;

/// How one original ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ended {
    /// Fetched, opened, right, in its place.
    Restored,
    /// Was in its place already, and its hash is right.
    Present,
    /// Could not be had, for this reason.
    Failed(String),
}

/// The account of a recovery.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Report {
    /// Originals asked for.
    pub asked: u64,
    /// Fetched now.
    pub restored: u64,
    /// Right already.
    pub present: u64,
    /// Bytes fetched, as originals.
    pub bytes: u64,
    /// Path and reason of each one that could not be had.
    pub failed: Vec<(String, String)>,
}

impl Report {
    /// Whether everything that was asked for is there.
    pub fn complete(&self) -> bool {
        self.failed.is_empty() && self.restored + self.present == self.asked
    }
}

/// Where a recovery keeps what has no name yet, below its target.
pub fn scratch_of(target: &Path) -> PathBuf {
    target.join(SCRATCH)
}

/// Restores `asked` originals below `target`, `parallel` at a time, in the order in which they come. `told` is called after each one.
pub async fn recover(
    replica: &Replica,
    (originals, asked): (impl Iterator<Item = Result<OriginalRecord, Broken>> + Send, u64),
    target: &Path,
    parallel: usize,
    mut told: impl FnMut(&OriginalRecord, &Ended),
) -> Result<Report, Fault> {
    let scratch = scratch_of(target);
    fs::create_dir_all(&scratch).map_err(Fault::Home)?;
    let mut report = Report { asked, ..Report::default() };
    let target: Arc<Path> = target.into();
    let mut work = stream::iter(originals)
        .map(|record| {
            let target = Arc::clone(&target);
            async move {
                let record = record.map_err(|e| Fault::Home(io::Error::other(e)))?;
                let ended = restore(replica, &record, &target).await?;
                Ok::<_, Fault>((record, ended))
            }
        })
        .buffer_unordered(parallel.max(1));
    while let Some(ended) = work.next().await {
        // A full disk, or a store that refuses, ends the whole pass: going on would only repeat it.
        let (record, ended) = ended?;
        match &ended {
            Ended::Restored => {
                report.restored += 1;
                report.bytes += record.size;
            }
            Ended::Present => report.present += 1,
            Ended::Failed(why) => report.failed.push((record.path.to_string(), why.clone())),
        }
        told(&record, &ended);
    }
    drop(work);
    // Only ever holds files of this program; what is left there belongs to originals that failed.
    let _ = fs::remove_dir_all(&scratch);
    report.failed.sort();
    Ok(report)
}

async fn restore(replica: &Replica, record: &OriginalRecord, target: &Path) -> Result<Ended, Fault> {
    let place = target.join(record.path.as_str());
    if let Some(ended) = blocking({
        let (place, record) = (place.clone(), record.clone());
        move || look(&place, &record)
    })
    .await?
    {
        return Ok(ended);
    }
    let scratch = target.join(SCRATCH).join(format!("{}.part", record.id));
    let mut attempt = 0;
    loop {
        attempt += 1;
        let file = File::create(&scratch).map_err(Fault::Home)?;
        match fetch(replica, &record.object.name, BufWriter::with_capacity(256 << 10, file)).await {
            Ok((passed, writer)) if passed.digest == record.sha256 => {
                let record = record.clone();
                return blocking(move || place_file(writer, &scratch, &place, &record)).await;
            }
            Ok((passed, _)) => return Ok(Ended::Failed(format!("the store's copy has another hash, {}", passed.digest))),
            Err(FetchError::Open(crate::seal::OpenError::Io(e))) => return Err(Fault::Home(e)),
            Err(FetchError::Open(crate::seal::OpenError::NoKey)) => return Err(Fault::Locked),
            Err(FetchError::Open(e)) => return Ok(Ended::Failed(e.to_string())),
            Err(FetchError::Store(Fault::Missing(_))) => return Ok(Ended::Failed("the store has lost it".to_owned())),
            Err(FetchError::Store(fault)) if fault.passes() && attempt < ATTEMPTS => {
                tracing::debug!(%fault, attempt, "fetching again");
                tokio::time::sleep(ypogeion_core::retry::wait(attempt, 0.5)).await;
            }
            Err(FetchError::Store(fault)) if fault.passes() => return Ok(Ended::Failed(fault.to_string())),
            Err(FetchError::Store(fault)) => return Err(fault),
        }
    }
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> io::Result<T> + Send + 'static) -> Result<T, Fault> {
    tokio::task::spawn_blocking(work).await.map_err(|e| Fault::odd(e.to_string()))?.map_err(Fault::Home)
}

/// What is in the original's place now. `None`: nothing, fetch it.
fn look(place: &Path, record: &OriginalRecord) -> io::Result<Option<Ended>> {
    let mut file = match File::open(place) {
        Err(e) if matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => return Ok(None),
        other => other?,
    };
    let meta = file.metadata()?;
    let mut hasher = HashWriter(Hasher::new());
    if meta.is_file() && meta.len() == record.size {
        io::copy(&mut file, &mut hasher)?;
        if hasher.0.finish() == record.sha256 {
            return Ok(Some(Ended::Present));
        }
    }
    Ok(Some(Ended::Failed("something else is in its place; move that away and run this again".to_owned())))
}

struct HashWriter(Hasher);

impl Write for HashWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.update(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

fn place_file(writer: BufWriter<File>, scratch: &Path, place: &Path, record: &OriginalRecord) -> io::Result<Ended> {
    let file = writer.into_inner().map_err(io::IntoInnerError::into_error)?;
    let time = SystemTime::from(record.taken_at);
    if time > SystemTime::UNIX_EPOCH {
        file.set_modified(time)?;
    }
    file.sync_all()?;
    let folder = place.parent().map(PathBuf::from).unwrap_or_default();
    fs::create_dir_all(&folder)?;
    // A hard link is refused if the name is taken, so nothing is replaced; plain renaming where links do not exist.
    match fs::hard_link(scratch, place) {
        Ok(()) => fs::remove_file(scratch)?,
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            return Ok(Ended::Failed("something else is in its place; move that away and run this again".to_owned()));
        }
        Err(_) => fs::rename(scratch, place)?,
    }
    File::open(&folder)?.sync_all()?;
    Ok(Ended::Restored)
}
