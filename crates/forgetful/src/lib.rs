//! Loaded before a program (`LD_PRELOAD`), this stands between it and a disk that may lose power or be full: see
//! [`ypogeion_standins::disk`], which says what is noted and what a cut leaves. For tests alone.
//!
//! Only what the standard library calls by name passes through here, which is how this project syncs and writes its files.

// Functions with the names of the system's own cannot be had otherwise. Each does what the system's does, by the system's own call.
#![allow(unsafe_code)]

use std::{
    ffi::{CStr, OsStr, c_char, c_int, c_void},
    fs,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::{Mutex, OnceLock, PoisonError},
};

use ypogeion_standins::disk::Disk;

fn disk() -> Option<&'static Disk> {
    static DISK: OnceLock<Option<Disk>> = OnceLock::new();
    DISK.get_or_init(Disk::of_environment).as_ref()
}

fn way_to(fd: c_int) -> PathBuf {
    format!("/proc/self/fd/{fd}").into()
}

fn is_watched(disk: &Disk, fd: c_int) -> bool {
    fs::read_link(way_to(fd)).is_ok_and(|path| disk.has(&path))
}

fn note(fd: c_int) {
    // One after the other: a later state must not be replaced by an earlier one.
    static ONE: Mutex<()> = Mutex::new(());
    let Some(disk) = disk().filter(|d| is_watched(d, fd)) else { return };
    let _one = ONE.lock().unwrap_or_else(PoisonError::into_inner);
    if let Err(e) = disk.synced(&way_to(fd)) {
        disk.failed(&e.to_string());
    }
}

/// As the system's.
#[unsafe(no_mangle)]
pub extern "C" fn fsync(fd: c_int) -> c_int {
    note(fd);
    // SAFETY: takes a number, and answers with one.
    unsafe { libc::syscall(libc::SYS_fsync, fd) as c_int }
}

/// As the system's.
#[unsafe(no_mangle)]
pub extern "C" fn fdatasync(fd: c_int) -> c_int {
    note(fd);
    // SAFETY: takes a number, and answers with one.
    unsafe { libc::syscall(libc::SYS_fdatasync, fd) as c_int }
}

/// How many of `count` bytes there is room for: on a full disk half of a piece, then nothing.
fn room_for(fd: c_int, count: usize) -> Option<usize> {
    match disk() {
        Some(disk) if disk.is_full() && is_watched(disk, fd) => (count > 512).then_some(count / 2),
        _ => Some(count),
    }
}

fn no_room() -> isize {
    // SAFETY: this thread's own place for an error.
    unsafe { *libc::__errno_location() = libc::ENOSPC };
    -1
}

/// As the system's, or as a full disk's.
///
/// # Safety
/// `bytes` must point to `count` bytes.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn write(fd: c_int, bytes: *const c_void, count: usize) -> isize {
    match room_for(fd, count) {
        // SAFETY: fewer bytes than the caller has.
        Some(count) => unsafe { libc::syscall(libc::SYS_write, fd, bytes, count) as isize },
        None => no_room(),
    }
}

/// As the system's, or as a full disk's.
///
/// # Safety
/// `bytes` must point to `count` bytes.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn pwrite64(fd: c_int, bytes: *const c_void, count: usize, at: i64) -> isize {
    match room_for(fd, count) {
        // SAFETY: fewer bytes than the caller has.
        Some(count) => unsafe { libc::syscall(libc::SYS_pwrite64, fd, bytes, count, at) as isize },
        None => no_room(),
    }
}

/// As the system's; but of what the system says of its own start, the notes are opened instead.
///
/// # Safety
/// `path` must point to a text that ends with a zero.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn open64(path: *const c_char, flags: c_int, mode: libc::mode_t) -> c_int {
    // SAFETY: the caller's promise.
    let named = Path::new(OsStr::from_bytes(unsafe { CStr::from_ptr(path) }.to_bytes()));
    // Asked only for what may be one of them: everything this library itself opens comes through here, too.
    let instead = named.starts_with("/proc").then(|| disk()?.instead_of(named)).flatten();
    let mut other = instead.map(|p| p.into_os_string().into_encoded_bytes());
    other.iter_mut().for_each(|p| p.push(0));
    let path = other.as_ref().map_or(path, |p| p.as_ptr().cast());
    // SAFETY: a text that ends with a zero and lives until after the call.
    unsafe { libc::syscall(libc::SYS_openat, libc::AT_FDCWD, path, flags, mode) as c_int }
}
