//! Pause, go on, stop: what a person says to a run that another process is doing. One small file in the device's folder.

use std::{fs, io, path::Path};

/// What was said last.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Order {
    /// Nothing: run when there is something to do.
    #[default]
    Go,
    /// Rest until told to go on. Holds over restarts.
    Pause,
    /// End the run that is under way; the next one may begin.
    Stop,
}

const FILE: &str = "order";

/// What was said last. One that cannot be read may be a pause: nothing is lost by resting.
pub fn read(folder: &Path) -> Order {
    let said = match fs::read_to_string(folder.join(FILE)) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Order::Go,
        Err(_) => return Order::Pause,
        Ok(said) => said,
    };
    match said.trim() {
        "pause" => Order::Pause,
        "stop" => Order::Stop,
        _ => Order::Go,
    }
}

/// Says it.
pub fn give(folder: &Path, order: Order) -> io::Result<()> {
    let path = folder.join(FILE);
    match order {
        Order::Go => match fs::remove_file(path) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
            _ => Ok(()),
        },
        Order::Pause => fs::write(path, "pause\n"),
        Order::Stop => fs::write(path, "stop\n"),
    }
}

/// "Stop" is for one run: forgets it, and nothing else.
pub fn stopped(folder: &Path) -> io::Result<()> {
    if read(folder) == Order::Stop { give(folder, Order::Go) } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_word_counts_and_stop_is_for_one_run() {
        let folder = tempfile::tempdir().unwrap();
        assert_eq!(read(folder.path()), Order::Go);
        give(folder.path(), Order::Pause).unwrap();
        stopped(folder.path()).unwrap();
        assert_eq!(read(folder.path()), Order::Pause);
        give(folder.path(), Order::Stop).unwrap();
        stopped(folder.path()).unwrap();
        assert_eq!(read(folder.path()), Order::Go);
        give(folder.path(), Order::Go).unwrap();
    }
}
