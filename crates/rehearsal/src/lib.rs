//! Whole-system rehearsals: the real service with its real database, the real client, a real browser, and the stand-ins.
//!
//! * [`house`] starts a household: service, store, members; and drives them through the API as the console does.
//! * [`device`] is one device with its own folder, driven through the client program.
//! * [`pocket`] is a simulated phone with the real engine in it; [`day`] lets several live through a day.
//! * [`browser`] is headless Chromium.
//! * [`campaign`] lives in a house at random and strikes it at random.
//! * [`stage`] sets the demo household up; [`walk`] tells its whole story; [`bench`] measures.
//!
//! Everything listens on loopback and on free ports, and everything that was started is ended by its process id.

pub mod bench;
pub mod browser;
pub mod campaign;
pub mod day;
pub mod device;
pub mod house;
pub mod pocket;
pub mod stage;
pub mod walk;

use std::{
    future::Future,
    net::TcpListener,
    path::PathBuf,
    sync::atomic::{AtomicU32, Ordering},
    time::Duration,
};

/// What went wrong, for a person.
pub type Trouble = Box<dyn std::error::Error + Send + Sync>;
/// The result of a step.
pub type Step<T> = Result<T, Trouble>;

/// A program of this workspace, beside the one that is running.
pub fn program(name: &str) -> Step<PathBuf> {
    let own = std::env::current_exe()?;
    own.ancestors()
        .skip(1)
        .take(3)
        .map(|folder| folder.join(name))
        .find(|path| path.is_file())
        .ok_or_else(|| format!("{name} has not been built; run \"cargo build --workspace\" first").into())
}

/// A free port of one's own. No connection that goes out is given one of these, so that a house which is down for a while finds its own port free again.
pub(crate) fn own_port() -> Step<u16> {
    const FIRST: u32 = 10_240;
    const ALL: u32 = 20_000;
    static NEXT: AtomicU32 = AtomicU32::new(0);
    // Other tests that run at the same time begin elsewhere.
    let begin = std::process::id() * 97;
    let free = |port: &u16| TcpListener::bind(("127.0.0.1", *port)).is_ok();
    let port = (0..ALL).map(|_| FIRST + begin.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed)) % ALL);
    port.filter_map(|port| u16::try_from(port).ok()).find(free).ok_or_else(|| "there is no free port".into())
}

/// A machine that does something else as well may take so many times as long as a test says. Nothing is measured by it: it is when a test that waits for what
/// never comes gives up.
pub(crate) const PATIENCE: u64 = 4;

/// Waits until `condition` gives a value, asking every tenth of a second, for about `seconds` at most, and on a busy machine for longer.
pub async fn wait_for<T, F: Future<Output = Step<Option<T>>>>(
    what: &str,
    seconds: u64,
    mut condition: impl FnMut() -> F,
) -> Step<T> {
    let seconds = seconds * PATIENCE;
    let end = tokio::time::Instant::now() + Duration::from_secs(seconds);
    loop {
        match condition().await {
            Ok(Some(value)) => return Ok(value),
            Ok(None) if tokio::time::Instant::now() > end => return Err(format!("waited {seconds} s in vain for {what}").into()),
            Err(e) if tokio::time::Instant::now() > end => {
                return Err(format!("waited {seconds} s in vain for {what}: {e}").into());
            }
            _ => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}
