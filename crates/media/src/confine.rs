//! What a process that reads files from outside can reach: the files that it was handed, the programs and libraries of the system, and
//! nothing else. No network, no other file, no way to more rights.
//!
//! Every request is read by a process of its own, made for it and ended with it ([`apart`]): whatever a crafted file does to it, the next
//! file, perhaps another member's, is read by another one. Before it looks at a byte it gives up everything but what it was handed
//! ([`to_files`], by Landlock), on top of what all of them gave up at the start ([`at_start`]).
#![allow(
    unsafe_code,
    reason = "a process is split in two by libc's fork, which is not safe in a process with threads; this one has none"
)]

use std::{
    collections::BTreeMap,
    fs::File,
    io::{self, Read, Write},
    net::UdpSocket,
    os::fd::AsFd,
};

use landlock::{
    ABI, Access, AccessFs, CompatLevel, Compatible, PathBeneath, PathFd, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetStatus,
};
use rustix::process::{
    Pid, Resource, Rlimit, Signal, WaitOptions, getrlimit, set_parent_process_death_signal, setrlimit, waitpid,
};
use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, apply_filter};
use serde::{Deserialize, Serialize};

/// Memory of one process.
const MEMORY: u64 = 2 << 30;
const OPEN_FILES: u64 = 64;
/// Processes of this user, all of them together: enough for any house, and an end to one that multiplies.
const PROCESSES: u64 = 4096;
/// The longest answer.
const LONGEST_ANSWER: u64 = 1 << 20;

/// What lies on every system and is no secret: programs and libraries.
const SYSTEM: [&str; 6] = ["/usr", "/lib", "/lib64", "/bin", "/etc/ld.so.cache", "/etc/alternatives"];
/// What programs open without having been asked.
const DEVICES: [&str; 3] = ["/dev/null", "/dev/zero", "/dev/urandom"];

/// What a process could not reach, when it tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Confined {
    /// Files that it was not handed.
    pub files: bool,
    /// The network.
    pub network: bool,
}

/// Sets the limits that hold for all requests. The process must have no threads, then and later.
pub(crate) fn at_start(largest_file: u64) -> io::Result<()> {
    for (resource, most) in [
        (Resource::As, MEMORY),
        (Resource::Fsize, largest_file),
        (Resource::Nofile, OPEN_FILES),
        (Resource::Core, 0),
        (Resource::Nproc, PROCESSES),
    ] {
        limit(resource, most)?;
    }
    set_parent_process_death_signal(Some(Signal::KILL))?;
    rustix::thread::set_no_new_privs(true)?;
    without_network()
}

/// At most so much; less where the system allows less.
fn limit(resource: Resource, most: u64) -> io::Result<()> {
    let most = getrlimit(resource).maximum.map_or(most, |system| system.min(most));
    Ok(setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?)
}

/// No file that this process writes, or that any that it starts writes, gets larger from here on.
pub(crate) fn writes_at_most(most: u64) -> io::Result<()> {
    limit(Resource::Fsize, most)
}

/// No socket can be made from here on, by this process or by any that it starts. Everything else is allowed; the kernel of another kind of
/// processor than the filter knows runs without it, which [`Confined::network`] says.
fn without_network() -> io::Result<()> {
    let Ok(kind) = std::env::consts::ARCH.try_into() else { return Ok(()) };
    let refused = SeccompAction::Errno(libc::EACCES.unsigned_abs());
    let calls = BTreeMap::from([(libc::SYS_socket, Vec::new()), (libc::SYS_ptrace, Vec::new())]);
    let filter = SeccompFilter::new(calls, SeccompAction::Allow, refused, kind).map_err(io::Error::other)?;
    let program: BpfProgram = filter.try_into().map_err(io::Error::other)?;
    match apply_filter(&program) {
        Ok(()) => Ok(()),
        // A kernel without such filters; said by whoever tries.
        Err(e) => {
            eprintln!("no filter of system calls: {e}");
            Ok(())
        }
    }
}

/// From here on this process, and whatever it starts, opens these files and nothing else: some to be read, some to be written.
pub(crate) fn to_files(read: &[&File], write: &[&File]) -> io::Result<bool> {
    // What a kernel does not know of this is left out of it; what it knows of it is enforced.
    let abi = ABI::V3;
    let fill = || -> Result<_, landlock::RulesetError> {
        let mut rules =
            Ruleset::default().set_compatibility(CompatLevel::BestEffort).handle_access(AccessFs::from_all(abi))?.create()?;
        let run = AccessFs::from_read(abi);
        for path in SYSTEM {
            if let Ok(there) = PathFd::new(path) {
                let folder = std::path::Path::new(path).is_dir();
                rules = rules.add_rule(PathBeneath::new(there, if folder { run } else { AccessFs::ReadFile.into() }))?;
            }
        }
        for path in DEVICES {
            if let Ok(there) = PathFd::new(path) {
                rules = rules.add_rule(PathBeneath::new(there, AccessFs::ReadFile | AccessFs::WriteFile))?;
            }
        }
        for file in read {
            rules = rules.add_rule(PathBeneath::new(file.as_fd(), AccessFs::ReadFile))?;
        }
        for file in write {
            rules = rules.add_rule(PathBeneath::new(file.as_fd(), AccessFs::WriteFile | AccessFs::Truncate))?;
        }
        rules.restrict_self()
    };
    let status = fill().map_err(io::Error::other)?;
    Ok(status.ruleset != RulesetStatus::NotEnforced)
}

/// Whether the kernel knows how to keep a process from files.
pub fn is_known() -> bool {
    let asked = Ruleset::default().set_compatibility(CompatLevel::HardRequirement).handle_access(AccessFs::from_all(ABI::V1));
    asked.and_then(Ruleset::create).is_ok()
}

/// Tries what must not be possible, in a process that was confined to nothing.
pub(crate) fn tried() -> Confined {
    let enforced = to_files(&[], &[]).unwrap_or(false);
    Confined {
        // A file that everybody may read, and that no picture needs.
        files: enforced && File::open("/etc/passwd").is_err(),
        network: UdpSocket::bind("127.0.0.1:0").is_err(),
    }
}

/// Has `answer` made by a process of its own; what it writes, and nothing else of it, comes back. `None`: it died, or said too much.
pub(crate) fn apart(processor: u64, answer: impl FnOnce() -> Vec<u8>) -> io::Result<Option<Vec<u8>>> {
    let (mouth, voice) = rustix::pipe::pipe_with(rustix::pipe::PipeFlags::CLOEXEC)?;
    // SAFETY: this process has no other threads (see `at_start`), so the new one may do whatever this one may.
    let child = unsafe { libc::fork() };
    match child {
        -1 => Err(io::Error::last_os_error()),
        0 => {
            drop(mouth);
            let code = speak(processor, answer, File::from(voice));
            // SAFETY: ends the process at once, without running what this one has put down for its own end.
            unsafe { libc::_exit(code) }
        }
        child => {
            drop(voice);
            let mut said = Vec::new();
            let heard = File::from(mouth).take(LONGEST_ANSWER + 1).read_to_end(&mut said);
            let child = Pid::from_raw(child).ok_or_else(|| io::Error::other("a process without a number"))?;
            if said.len() as u64 > LONGEST_ANSWER {
                // It is still talking.
                let _ = rustix::process::kill_process(child, Signal::KILL);
            }
            let ended = waitpid(Some(child), WaitOptions::empty())?;
            let well = ended.is_some_and(|(_, status)| status.exit_status() == Some(0));
            Ok((heard.is_ok() && well && said.len() as u64 <= LONGEST_ANSWER).then_some(said))
        }
    }
}

fn speak(processor: u64, answer: impl FnOnce() -> Vec<u8>, mut voice: File) -> i32 {
    let ready = set_parent_process_death_signal(Some(Signal::KILL)).is_ok() && limit(Resource::Cpu, processor).is_ok();
    // Not what the one that was split in two listens and speaks with: nobody can answer in its place.
    let null = File::options().read(true).write(true).open("/dev/null");
    let silent = null.is_ok_and(|n| rustix::stdio::dup2_stdin(&n).and_then(|()| rustix::stdio::dup2_stdout(&n)).is_ok());
    if !ready || !silent {
        return 1;
    }
    // A panic is an end like any other, and unwinds no further than here.
    match std::panic::catch_unwind(std::panic::AssertUnwindSafe(answer)) {
        Ok(said) => i32::from(voice.write_all(&said).is_err()),
        Err(_) => 1,
    }
}
