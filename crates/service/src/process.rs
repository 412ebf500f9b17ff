//! What this process may do on its machine, and what it leaves behind.

use std::{
    ffi::OsString,
    fs,
    io::{self, Write},
    os::fd::{AsRawFd, OwnedFd},
    os::unix::{
        fs::{MetadataExt, PermissionsExt, chown, lchown},
        process::CommandExt,
    },
    path::Path,
    process::Command,
};

use rustix::{
    fs::{MemfdFlags, Mode, memfd_create},
    process::{DumpableBehavior, Resource, Rlimit, geteuid, set_dumpable_behavior, setrlimit, umask},
};

use crate::settings::Settings;

/// The user that it all is done as, if the settings name none.
const OWN_USER: &str = "ypogeion";

/// What is in memory is keys and pictures: none of it is left on a disk when this process dies.
pub fn leave_no_core() -> io::Result<()> {
    set_dumpable_behavior(DumpableBehavior::NotDumpable)?;
    Ok(setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) })?)
}

/// Whatever is made from now on is this user's alone. The library gives its own rights.
pub fn keep_files_private() {
    umask(Mode::RWXG | Mode::RWXO);
}

/// Somebody on this machine.
struct User {
    name: String,
    uid: u32,
    gid: u32,
}

/// Started as root, becomes the user that the settings name, with nothing of root's left. Returns only if there is nothing to do, and
/// what is to be said then; or if it cannot be done.
///
/// `files`: what the command was told to read. It may be root's alone, so what is in it goes along.
pub fn become_unprivileged(settings: &Settings, files: &[&Path]) -> Result<Option<String>, String> {
    if !geteuid().is_root() {
        return Ok(None);
    }
    let user = match &settings.run_as {
        Some(name) if name == "root" => return Ok(Some("the settings say that all is done as root".to_owned())),
        Some(name) => user(name)?.ok_or_else(|| format!("run_as: there is no user {name:?} on this machine"))?,
        None => match user(OWN_USER)? {
            Some(user) => user,
            None => {
                return Ok(Some(format!(
                    "it is all done as root: make a user for it (useradd --system {OWN_USER}) and start it again, or name one as \"run_as\" in the settings"
                )));
            }
        },
    };
    if user.uid == 0 {
        return Err(format!("run_as: {} is root by another name", user.name));
    }
    // Only where nothing was yet. Where a household is, a library that is not there is away, and nobody makes another one in its place.
    let new = !settings.cluster_folder().exists() && settings.database.is_none();
    for (folder, make) in [(&settings.house.data_folder, true), (&settings.house.library, new)] {
        hand_over(folder, make, &user)
            .map_err(|e| format!("could not make {} the owner of {}: {e}", user.name, folder.display()))?;
    }
    let program = std::env::current_exe().map_err(|e| format!("could not find this program: {e}"))?;
    let mut arguments: Vec<OsString> = std::env::args_os().skip(1).collect();
    let mut held = Vec::new();
    for file in files {
        let (name, content) = take_along(file).map_err(|e| format!("could not read {}: {e}", file.display()))?;
        for argument in &mut arguments {
            let said = argument.to_string_lossy().into_owned();
            match said.split_once('=') {
                _ if Path::new(argument) == *file => *argument = name.clone().into(),
                Some((option, value)) if option.starts_with("--") && Path::new(value) == *file => {
                    *argument = format!("{option}={name}").into();
                }
                _ => {}
            }
        }
        held.push(content);
    }
    // The supplementary groups of root go as well: the standard library drops them with the user.
    let error = Command::new(program).args(arguments).uid(user.uid).gid(user.gid).exec();
    Err(format!("could not become {}: {error}", user.name))
}

/// Makes a user the owner of a folder that belongs to root or to the database's user, with all that is in it. One that was handed over
/// before is not looked through again.
fn hand_over(folder: &Path, make: bool, user: &User) -> io::Result<()> {
    match fs::metadata(folder) {
        Ok(meta) if meta.uid() == user.uid => return Ok(()),
        Ok(_) => {}
        Err(e) if e.kind() == io::ErrorKind::NotFound && !make => return Ok(()),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            fs::create_dir_all(folder)?;
            // Its folders above stay root's; this one's rights are given by who uses it.
            fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
        }
        Err(e) => return Err(e),
    }
    let mut folders = vec![folder.to_owned()];
    while let Some(here) = folders.pop() {
        for entry in fs::read_dir(&here)? {
            let entry = entry?;
            // Of a link itself, and never of what it points to.
            lchown(entry.path(), Some(user.uid), Some(user.gid))?;
            if entry.file_type()?.is_dir() {
                folders.push(entry.path());
            }
        }
    }
    // Last, so that an interrupted handing over begins again.
    chown(folder, Some(user.uid), Some(user.gid))
}

/// What is in a file, in memory, and the name by which the program that this one becomes can open it.
fn take_along(file: &Path) -> io::Result<(String, OwnedFd)> {
    let content = fs::read(file)?;
    // Stays open when this program becomes the other one: no CLOEXEC.
    let memory = memfd_create("read-before", MemfdFlags::empty())?;
    let mut memory = fs::File::from(memory);
    memory.write_all(&content)?;
    Ok((format!("/proc/self/fd/{}", memory.as_raw_fd()), memory.into()))
}

/// Somebody by their name, as the system's own tool knows it (which asks directories of users on a network as well). That it cannot be
/// asked does not mean that there is nobody.
fn user(name: &str) -> Result<Option<User>, String> {
    let cannot = |why: String| format!("could not ask who {name} is: {why}");
    let output = Command::new("getent").args(["passwd", "--", name]).output().map_err(|e| cannot(e.to_string()))?;
    match output.status.code() {
        Some(0) => {}
        Some(UNKNOWN) => return Ok(None),
        _ => return Err(cannot(format!("getent ended with {}", output.status))),
    }
    let line = String::from_utf8_lossy(&output.stdout).into_owned();
    let read = || {
        let mut fields = line.trim().split(':');
        let (name, _, uid, gid) = (fields.next()?, fields.next()?, fields.next()?, fields.next()?);
        Some(User { name: name.to_owned(), uid: uid.parse().ok()?, gid: gid.parse().ok()? })
    };
    read().map(Some).ok_or_else(|| cannot(format!("getent said {line:?}")))
}

/// What `getent` ends with for a name that nobody has.
const UNKNOWN: i32 = 2;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn somebody_is_known_or_is_not() {
        assert_eq!(user("root").unwrap().unwrap().uid, 0);
        assert!(user("nobody-by-this-name").unwrap().is_none());
    }
}
