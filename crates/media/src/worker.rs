//! The child process in which files from outside are read, and the pool of such children.
//!
//! A child gets one request at a time as a line of JSON on its standard input and answers with one line. It reads no file itself: each
//! request is answered by a process of its own that reaches the files of that request and nothing else (see [`crate::confine`]). The
//! parent puts a limit on the child's time and on the length of its answers, and kills it when one is passed or when it dies. A child
//! that is killed costs one answer, never the service.

use std::{
    fs::File,
    io::{BufRead, BufReader, Read, Write},
    os::fd::AsRawFd,
    path::{Path, PathBuf},
    process::{Child, ChildStdin, Command, Stdio},
    sync::{Condvar, Mutex, mpsc},
    thread,
    time::{Duration, Instant},
};

use serde::{Deserialize, Serialize};
use ypogeion_core::{Digest, capture::Facts, turn::Turn};

use crate::{
    confine::{self, Confined},
    derived, facts,
    preview::{self, Made},
    video::{self, Film},
};

/// What a child is for, and so how much it may take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Work {
    /// Reading files and making pictures.
    Pictures,
    /// Making films anew, which takes a while.
    Films,
}

impl Work {
    /// How long its parent waits for an answer.
    fn time(self) -> Duration {
        match self {
            Work::Pictures => Duration::from_secs(60),
            // Films have a limit of their own, by how long they are.
            Work::Films => Duration::from_secs(90 * 3600),
        }
    }

    /// Seconds of a processor for one answer.
    fn processor(self) -> u64 {
        match self {
            Work::Pictures => 90,
            Work::Films => 90 * 3600,
        }
    }

    /// The largest file that it writes.
    fn largest_file(self) -> u64 {
        match self {
            Work::Pictures => 256 << 20,
            Work::Films => 64 << 30,
        }
    }
}

/// How far a process that makes something steps back behind those that receive: a phone waits for its pictures to be filed, and nobody waits for
/// their previews. It gets a third of what another one gets while both want to work.
const STEPS_BACK: i32 = 5;
/// The longest line that is listened to.
const LONGEST_LINE: u64 = 2 << 20;

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Request {
    Facts { path: PathBuf, name: String },
    Preview { path: PathBuf, name: String, turned: u8, small: PathBuf, large: PathBuf },
    Derive { path: PathBuf, name: String, digest: Digest, to: PathBuf },
    Film { path: PathBuf, name: String, to: PathBuf, most: u64 },
    Confinement,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Reply {
    Facts(Box<Facts>),
    Preview(Result<Made, String>),
    Derived(Result<(), String>),
    Film(Result<Film, String>),
    Confined(Confined),
    /// Whoever read the file died of it.
    Lost,
}

/// The child's whole life: sets its limits, then has requests answered until its input ends.
pub fn serve(work: Work) -> std::io::Result<()> {
    confine::at_start(work.largest_file())?;
    let mut out = std::io::stdout().lock();
    for line in std::io::stdin().lock().lines() {
        let request: Request = serde_json::from_str(&line?)?;
        let said = confine::apart(work.processor(), || serde_json::to_vec(&answer(request)).unwrap_or_default())?;
        // Only what is an answer goes on, and one for each request.
        let reply = said.and_then(|said| serde_json::from_slice(&said).ok()).unwrap_or(Reply::Lost);
        serde_json::to_writer(&mut out, &reply)?;
        out.write_all(b"\n")?;
        out.flush()?;
    }
    Ok(())
}

/// A file that was opened before everything else was given up, and the name by which it can be opened once more. That name says nothing of
/// where it lies, and no part of it was chosen by anybody.
struct Handed {
    file: File,
    path: PathBuf,
}

impl Handed {
    fn new(file: std::io::Result<File>) -> Result<Self, String> {
        let file = file.map_err(|e| format!("it could not be opened: {e}"))?;
        // Programs that are started to look at it find it under the same number.
        rustix::io::fcntl_setfd(&file, rustix::io::FdFlags::empty()).map_err(|e| format!("it could not be handed over: {e}"))?;
        let path = PathBuf::from(format!("/proc/self/fd/{}", file.as_raw_fd()));
        Ok(Handed { file, path })
    }

    fn to_read(path: &Path) -> Result<Self, String> {
        Self::new(File::open(path))
    }

    fn to_write(path: &Path) -> Result<Self, String> {
        Self::new(File::create(path))
    }
}

/// Answers one request, in a process that does nothing else.
fn answer(request: Request) -> Reply {
    if matches!(request, Request::Preview { .. } | Request::Derive { .. } | Request::Film { .. }) {
        // Where it is not allowed, it is only sooner done than it need be.
        let _ = rustix::process::nice(STEPS_BACK);
    }
    let confined = |read: &[&Handed], write: &[&Handed]| {
        let files = |all: &[&Handed]| all.iter().map(|h| h.file.try_clone()).collect::<std::io::Result<Vec<File>>>();
        let both = files(read).and_then(|r| Ok((r, files(write)?)));
        let done = both.and_then(|(r, w)| confine::to_files(&r.iter().collect::<Vec<_>>(), &w.iter().collect::<Vec<_>>()));
        // On a kernel that knows nothing of this, which was said at the start, files are read all the same.
        done.map(drop).map_err(|e| format!("its reader could not be confined: {e}"))
    };
    match request {
        Request::Facts { path, name } => {
            let facts = Handed::to_read(&path).and_then(|h| confined(&[&h], &[]).map(|()| facts::read(&h.path, &name)));
            Reply::Facts(Box::new(facts.unwrap_or_else(|problem| Facts { problem: Some(problem), ..Facts::default() })))
        }
        Request::Preview { path, name, turned, small, large } => {
            let make = || {
                let (from, small, large) = (Handed::to_read(&path)?, Handed::to_write(&small)?, Handed::to_write(&large)?);
                confined(&[&from], &[&small, &large])?;
                preview::make(&from.path, &name, Turn::of(turned.into()), &small.path, &large.path)
            };
            Reply::Preview(make())
        }
        Request::Derive { path, name, digest, to } => {
            let make = || {
                let (from, to) = (Handed::to_read(&path)?, Handed::to_write(&to)?);
                confined(&[&from], &[&to])?;
                derived::make(&from.path, &name, digest, &to.path)
            };
            Reply::Derived(make())
        }
        Request::Film { path, name, to, most } => {
            let make = || {
                confine::writes_at_most(most).map_err(|e| format!("its reader could not be confined: {e}"))?;
                let (from, to) = (Handed::to_read(&path)?, Handed::to_write(&to)?);
                // What plays before all of it has come is written twice: its end goes to its beginning.
                confined(&[&from, &to], &[&to])?;
                let facts = facts::read(&from.path, &name);
                if let Some(inside) = facts.film_inside {
                    return video::film_inside(&from.path, inside, &to.path);
                }
                let media_type = facts.media_type.filter(|t| t.starts_with("video/")).ok_or("this is no film")?;
                video::film(&from.path, &media_type, &to.path)
            };
            Reply::Film(make())
        }
        Request::Confinement => Reply::Confined(confine::tried()),
    }
}

/// What starts a child.
type Start = Box<dyn FnOnce() + Send>;

/// Has a child started by a thread that stays as long as this process. A child that is to end with its parent is ended by the kernel with the
/// thread that started it, and those that answer requests come and go.
fn start_to_stay<T: Send + 'static>(start: impl FnOnce() -> std::io::Result<T> + Send + 'static) -> std::io::Result<T> {
    static STARTER: Mutex<Option<mpsc::Sender<Start>>> = Mutex::new(None);
    let (told, started) = mpsc::channel();
    // Nobody hears it if whoever wanted it has gone.
    let start: Start = Box::new(move || drop(told.send(start())));
    let gone = || std::io::Error::other("the thread that starts readers has ended");
    let mut starter = STARTER.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let sender = match starter.take() {
        Some(sender) => sender,
        None => {
            let (sender, starts) = mpsc::channel::<Start>();
            thread::Builder::new()
                .name("media-starter".into())
                .stack_size(256 << 10)
                .spawn(move || starts.iter().for_each(|start| start()))?;
            sender
        }
    };
    sender.send(start).map_err(|_| gone())?;
    *starter = Some(sender);
    drop(starter);
    started.recv().map_err(|_| gone())?
}

struct Worker {
    child: Child,
    requests: ChildStdin,
    replies: mpsc::Receiver<Vec<u8>>,
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
        // Nothing of this process's surroundings goes along: what it was told in its environment may be a secret.
        let mut child = Command::new(program)
            .args(arguments)
            .env_clear()
            .current_dir("/")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let requests = child.stdin.take().expect("stdin was asked for");
        let mut output = BufReader::new(child.stdout.take().expect("stdout was asked for"));
        let (sender, replies) = mpsc::channel();
        thread::Builder::new().name("media-replies".into()).stack_size(128 << 10).spawn(move || {
            loop {
                let mut line = Vec::new();
                let read = output.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line);
                // Whatever is no whole line, or too long for one, is the end of this child.
                if read.is_err() || line.pop() != Some(b'\n') || sender.send(line).is_err() {
                    break;
                }
            }
        })?;
        Ok(Worker { child, requests, replies, idle_since: Instant::now() })
    }

    /// Whether it still is one: the system may have ended it for want of memory, while it waited.
    fn lives(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(None))
    }

    fn ask(&mut self, request: &str, time: Duration) -> Option<Reply> {
        self.requests.write_all(request.as_bytes()).ok()?;
        self.requests.flush().ok()?;
        serde_json::from_slice(&self.replies.recv_timeout(time).ok()?).ok()
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
    work: Work,
    workers: Mutex<Workers>,
    returned: Condvar,
}

impl Pool {
    /// A pool of at most `most` children. `program` with `arguments` must end up in [`serve`], for the same work.
    pub fn new(program: PathBuf, arguments: Vec<String>, most: usize, work: Work) -> Self {
        Pool {
            program,
            arguments,
            most,
            work,
            workers: Mutex::new(Workers { idle: Vec::new(), running: 0 }),
            returned: Condvar::new(),
        }
    }

    /// The facts of a file. A file that kills its reader has facts, too: that one.
    pub fn facts(&self, path: &Path, name: &str) -> Facts {
        match self.ask(&Request::Facts { path: path.to_owned(), name: name.to_owned() }) {
            Some(Reply::Facts(facts)) => *facts,
            _ => Facts { problem: Some("reading it took too long or too much memory".to_owned()), ..Facts::default() },
        }
    }

    /// Makes both previews of a file that is turned so; the error is a sentence for a person.
    pub fn preview(&self, path: &Path, name: &str, turn: Turn, small: &Path, large: &Path) -> Result<Made, String> {
        let (path, name, turned) = (path.to_owned(), name.to_owned(), turn.quarters());
        let request = Request::Preview { path, name, turned, small: small.to_owned(), large: large.to_owned() };
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

    /// Makes a version of a film that browsers play, of at most so many bytes, unless they play it as it is, or takes the film out that a picture carries; the error is a sentence for a person.
    pub fn film(&self, path: &Path, name: &str, to: &Path, most: u64) -> Result<Film, String> {
        match self.ask(&Request::Film { path: path.to_owned(), name: name.to_owned(), to: to.to_owned(), most }) {
            Some(Reply::Film(made)) => made,
            _ => Err("making this film anew took too long or too much memory".to_owned()),
        }
    }

    /// What a reader of files cannot reach here, by having one try. `None`: no child could be started.
    pub fn confinement(&self) -> Option<Confined> {
        match self.ask(&Request::Confinement) {
            Some(Reply::Confined(confined)) => Some(confined),
            _ => None,
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

        let (program, arguments, time) = (self.program.clone(), self.arguments.clone(), self.work.time());
        let rested = rested.and_then(|mut worker| worker.lives().then_some(worker));
        let worker = rested.map_or_else(|| start_to_stay(move || Worker::start(&program, &arguments)), Ok);
        let answered = worker.ok().and_then(|mut worker| worker.ask(&line, time).map(|reply| (worker, reply)));

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
        Pool::new("/bin/sh".into(), vec!["-c".into(), script.into()], 2, Work::Pictures)
    }

    #[test]
    fn a_child_that_dies_costs_one_answer() {
        let facts = pool("read line; kill -9 $$").facts(Path::new("/x"), "x.jpg");
        assert!(facts.problem.unwrap().contains("too long or too much"));
    }

    #[test]
    fn a_child_that_died_while_it_waited_costs_none() {
        let pool = pool("read line; echo '{\"preview\":{\"Err\":\"no\"}}'");
        for _ in 0..3 {
            assert_eq!(
                pool.preview(Path::new("/x"), "x", Turn::default(), Path::new("/s"), Path::new("/l")),
                Err("no".to_owned())
            );
            let mut workers = pool.lock();
            let ended = (0..500).any(|_| {
                thread::sleep(Duration::from_millis(10));
                !workers.idle[0].lives()
            });
            assert!(ended);
        }
    }

    #[test]
    fn nonsense_is_no_answer() {
        let made = pool("read line; echo nonsense; cat").preview(
            Path::new("/x"),
            "x",
            Turn::default(),
            Path::new("/s"),
            Path::new("/l"),
        );
        assert!(made.is_err());
    }

    #[test]
    fn children_are_used_again_and_ended_when_idle() {
        let pool = pool("while read line; do echo '{\"preview\":{\"Err\":\"no\"}}'; done");
        for _ in 0..3 {
            assert_eq!(
                pool.preview(Path::new("/x"), "x", Turn::default(), Path::new("/s"), Path::new("/l")),
                Err("no".to_owned())
            );
        }
        assert_eq!(pool.lock().idle.len(), 1);
        assert!(!pool.is_resting());
        pool.rest(Duration::ZERO);
        assert!(pool.is_resting());
    }
}
