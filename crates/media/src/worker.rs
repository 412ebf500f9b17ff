//! The child process in which files from outside are read, and the pool of such children.
//!
//! A child gets one request at a time as a line of JSON on its standard input and answers with one line. It has limits on
//! memory, open files and the size of files it writes; the parent puts a limit on its time and kills it when that has
//! passed or when it dies. A child that is killed costs one answer, never the service.

use std::{
    io::{BufRead, BufReader, Write},
    path::{Path, PathBuf},
    process::{Child, ChildStdin, Command, Stdio},
    sync::{Condvar, Mutex, mpsc},
    thread,
    time::{Duration, Instant},
};

use rustix::process::{Resource, Rlimit, Signal, set_parent_process_death_signal, setrlimit};
use serde::{Deserialize, Serialize};
use ypogeion_core::{Digest, capture::Facts};

use crate::{
    derived, facts,
    preview::{self, Made},
};

const MEMORY: u64 = 2 << 30;
const LARGEST_FILE: u64 = 256 << 20;
const OPEN_FILES: u64 = 64;
const TIME: Duration = Duration::from_secs(60);

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Request {
    Facts { path: PathBuf, name: String },
    Preview { path: PathBuf, name: String, small: PathBuf, large: PathBuf },
    Derive { path: PathBuf, name: String, digest: Digest, to: PathBuf },
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Reply {
    Facts(Box<Facts>),
    Preview(Result<Made, String>),
    Derived(Result<(), String>),
}

/// The child's whole life: sets its limits, then answers requests until its input ends.
pub fn serve() -> std::io::Result<()> {
    for (resource, most) in
        [(Resource::As, MEMORY), (Resource::Fsize, LARGEST_FILE), (Resource::Nofile, OPEN_FILES), (Resource::Core, 0)]
    {
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?;
    }
    set_parent_process_death_signal(Some(Signal::KILL))?;
    let mut out = std::io::stdout().lock();
    for line in std::io::stdin().lock().lines() {
        let reply = match serde_json::from_str(&line?)? {
            Request::Facts { path, name } => Reply::Facts(Box::new(facts::read(&path, &name))),
            Request::Preview { path, name, small, large } => Reply::Preview(preview::make(&path, &name, &small, &large)),
            Request::Derive { path, name, digest, to } => Reply::Derived(derived::make(&path, &name, digest, &to)),
        };
        serde_json::to_writer(&mut out, &reply)?;
        out.write_all(b"\n")?;
        out.flush()?;
    }
    Ok(())
}

struct Worker {
    child: Child,
    requests: ChildStdin,
    replies: mpsc::Receiver<String>,
    idle_since: Instant,
}

impl Drop for Worker {
    fn drop(&mut self) {
        // Both fail only if it is gone already, which is what is wanted.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Worker {
    fn start(program: &Path, arguments: &[String]) -> std::io::Result<Self> {
        let mut child =
            Command::new(program).args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn()?;
        let requests = child.stdin.take().expect("stdin was asked for");
        let output = BufReader::new(child.stdout.take().expect("stdout was asked for"));
        let (sender, replies) = mpsc::channel();
        thread::Builder::new().name("media-replies".into()).stack_size(128 << 10).spawn(move || {
            for line in output.lines().map_while(Result::ok) {
                if sender.send(line).is_err() {
                    break;
                }
            }
        })?;
        Ok(Worker { child, requests, replies, idle_since: Instant::now() })
    }

    fn ask(&mut self, request: &str) -> Option<Reply> {
        self.requests.write_all(request.as_bytes()).ok()?;
        self.requests.flush().ok()?;
        serde_json::from_str(&self.replies.recv_timeout(TIME).ok()?).ok()
    }
}

struct Workers {
    idle: Vec<Worker>,
    running: usize,
}

/// A number of children that are started when needed and ended when idle. Its calls block; call them off the async
/// threads.
pub struct Pool {
    program: PathBuf,
    arguments: Vec<String>,
    most: usize,
    workers: Mutex<Workers>,
    returned: Condvar,
}

impl Pool {
    /// A pool of at most `most` children. `program` with `arguments` must end up in [`serve`].
    pub fn new(program: PathBuf, arguments: Vec<String>, most: usize) -> Self {
        Pool { program, arguments, most, workers: Mutex::new(Workers { idle: Vec::new(), running: 0 }), returned: Condvar::new() }
    }

    /// The facts of a file. A file that kills its reader has facts, too: that one.
    pub fn facts(&self, path: &Path, name: &str) -> Facts {
        match self.ask(&Request::Facts { path: path.to_owned(), name: name.to_owned() }) {
            Some(Reply::Facts(facts)) => *facts,
            _ => Facts { problem: Some("reading it took too long or too much memory".to_owned()), ..Facts::default() },
        }
    }

    /// Makes both previews; the error is a sentence for a person.
    pub fn preview(&self, path: &Path, name: &str, small: &Path, large: &Path) -> Result<Made, String> {
        let request =
            Request::Preview { path: path.to_owned(), name: name.to_owned(), small: small.to_owned(), large: large.to_owned() };
        match self.ask(&request) {
            Some(Reply::Preview(made)) => made,
            _ => Err("making the preview took too long or too much memory".to_owned()),
        }
    }

    /// Makes a JPEG from a HEIC; the error is a sentence for a person.
    pub fn derive(&self, path: &Path, name: &str, digest: Digest, to: &Path) -> Result<(), String> {
        match self.ask(&Request::Derive { path: path.to_owned(), name: name.to_owned(), digest, to: to.to_owned() }) {
            Some(Reply::Derived(made)) => made,
            _ => Err("making the JPEG took too long or too much memory".to_owned()),
        }
    }

    /// Ends children that have been idle for `longer_than`.
    pub fn rest(&self, longer_than: Duration) {
        let ended: Vec<Worker> = {
            let mut workers = self.lock();
            let (tired, fresh) = workers.idle.drain(..).partition(|w| w.idle_since.elapsed() > longer_than);
            workers.idle = fresh;
            tired
        };
        drop(ended);
    }

    /// Whether no child is running, busy or idle.
    pub fn is_resting(&self) -> bool {
        let workers = self.lock();
        workers.running == 0 && workers.idle.is_empty()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Workers> {
        // No code that can panic runs under this lock; a poisoned one still holds true numbers.
        self.workers.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn ask(&self, request: &Request) -> Option<Reply> {
        let line = serde_json::to_string(request).ok()? + "\n";
        let mut workers = self.lock();
        while workers.running >= self.most {
            workers = self.returned.wait(workers).unwrap_or_else(std::sync::PoisonError::into_inner);
        }
        workers.running += 1;
        let rested = workers.idle.pop();
        drop(workers);

        let worker = rested.map_or_else(|| Worker::start(&self.program, &self.arguments), Ok);
        let answered = worker.ok().and_then(|mut worker| worker.ask(&line).map(|reply| (worker, reply)));

        let mut workers = self.lock();
        workers.running -= 1;
        let reply = answered.map(|(mut worker, reply)| {
            worker.idle_since = Instant::now();
            workers.idle.push(worker);
            reply
        });
        drop(workers);
        self.returned.notify_one();
        reply
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A shell stands in for a child that dies, or answers nonsense.
    fn pool(script: &str) -> Pool {
        Pool::new("/bin/sh".into(), vec!["-c".into(), script.into()], 2)
    }

    #[test]
    fn a_child_that_dies_costs_one_answer() {
        let facts = pool("read line; kill -9 $$").facts(Path::new("/x"), "x.jpg");
        assert!(facts.problem.unwrap().contains("too long or too much"));
    }

    #[test]
    fn nonsense_is_no_answer() {
        let made = pool("read line; echo nonsense; cat").preview(Path::new("/x"), "x", Path::new("/s"), Path::new("/l"));
        assert!(made.is_err());
    }

    #[test]
    fn children_are_used_again_and_ended_when_idle() {
        let pool = pool("while read line; do echo '{\"preview\":{\"Err\":\"no\"}}'; done");
        for _ in 0..3 {
            assert_eq!(pool.preview(Path::new("/x"), "x", Path::new("/s"), Path::new("/l")), Err("no".to_owned()));
        }
        assert_eq!(pool.lock().idle.len(), 1);
        assert!(!pool.is_resting());
        pool.rest(Duration::ZERO);
        assert!(pool.is_resting());
    }
}
