//! The device's own log of its runs: one file of JSON for each, so that a person without a connection can still see what
//! happened, and the schedule knows when the last one was.

use std::{
    fs, io,
    path::{Path, PathBuf},
};

use chrono::NaiveDateTime;
use serde::{Deserialize, Serialize};
use ypogeion_wire::run::{RunCounts, RunEntry};

/// Older ones are removed.
const KEPT: usize = 50;

/// A run as this device saw it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct LoggedRun {
    /// When it began, by this device's clock.
    pub began: NaiveDateTime,
    /// How long it took.
    pub seconds: f64,
    /// In numbers.
    pub counts: RunCounts,
    /// Why it ended before it was done.
    pub halted: Option<String>,
    /// Everything that was not simply there.
    pub entries: Vec<RunEntry>,
}

fn folder(device: &Path) -> PathBuf {
    device.join("runs")
}

/// Writes a run down. The names of files sort by time.
pub fn write(device: &Path, run: &LoggedRun) -> io::Result<()> {
    let folder = folder(device);
    fs::create_dir_all(&folder)?;
    let path = folder.join(format!("{}.json", run.began.format("%Y%m%dT%H%M%S%6f")));
    let new = path.with_extension("new");
    fs::write(&new, serde_json::to_vec(run)?)?;
    fs::rename(new, path)?;
    let files = list(device)?;
    for old in &files[..files.len().saturating_sub(KEPT)] {
        fs::remove_file(old)?;
    }
    Ok(())
}

fn list(device: &Path) -> io::Result<Vec<PathBuf>> {
    let mut files: Vec<PathBuf> = match fs::read_dir(folder(device)) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries?.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "json")).collect(),
    };
    files.sort();
    Ok(files)
}

/// The last runs, newest first. One that cannot be read is passed over: it is a log, not the truth.
pub fn read(device: &Path, most: usize) -> io::Result<Vec<LoggedRun>> {
    Ok(newest_first(device)?.take(most).collect())
}

/// Each is read when it is asked for: one of a first run names every file.
fn newest_first(device: &Path) -> io::Result<impl Iterator<Item = LoggedRun>> {
    Ok(list(device)?.into_iter().rev().filter_map(|path| serde_json::from_slice(&fs::read(path).ok()?).ok()))
}

/// When the last run began that came to its end.
pub fn last_complete(device: &Path) -> Option<NaiveDateTime> {
    newest_first(device).ok()?.find(|r: &LoggedRun| r.halted.is_none()).map(|r| r.began)
}

/// Bytes per second over the last runs that sent something worth measuring.
pub fn rate(device: &Path) -> Option<f64> {
    let runs = read(device, 10).ok()?;
    let (bytes, seconds) = runs
        .iter()
        .filter(|r| r.counts.bytes > 1_000_000 && r.seconds > 0.0)
        .fold((0.0, 0.0), |(bytes, seconds), r| (bytes + r.counts.bytes as f64, seconds + r.seconds));
    (seconds > 0.0).then(|| bytes / seconds)
}

#[cfg(test)]
mod tests {
    use chrono::{NaiveDate, TimeDelta};

    use super::*;

    #[test]
    fn the_last_runs_are_kept_and_tell_the_rate() {
        let folder = tempfile::tempdir().unwrap();
        let start = NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(3, 0, 0).unwrap();
        assert_eq!((last_complete(folder.path()), rate(folder.path())), (None, None));
        for n in 0..60 {
            let halted = (n > 57).then(|| "waiting for Wi-Fi".to_owned());
            let counts = RunCounts { bytes: 20_000_000, ..RunCounts::default() };
            let run = LoggedRun { began: start + TimeDelta::hours(n), seconds: 4.0, counts, halted, entries: Vec::new() };
            write(folder.path(), &run).unwrap();
        }
        let runs = read(folder.path(), 100).unwrap();
        assert_eq!((runs.len(), runs[0].began), (KEPT, start + TimeDelta::hours(59)));
        assert_eq!(last_complete(folder.path()), Some(start + TimeDelta::hours(57)));
        assert_eq!(rate(folder.path()), Some(5_000_000.0));
        fs::write(folder.path().join("runs/99990101T000000000000.json"), b"half a ru").unwrap();
        assert_eq!(read(folder.path(), 100).unwrap().len(), KEPT);
    }
}
