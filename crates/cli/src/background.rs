//! Running by itself: watching, pausing, and the systemd unit.

use std::{
    fs, io,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
    time::Duration,
};

use clap::Args;
use serde_json::json;
use ypogeion_agent::{
    home::Home,
    order::{self, Order},
    platform::{Linux, Platform},
    watch::{self, Seen, Watching},
};
use ypogeion_core::words;

use crate::commands::{Context, DONE, Failed, PARTLY, Result, print, print_json, usage};

#[derive(Args)]
pub struct Watch {
    /// A run begins when nothing has changed for this many seconds; what was written to within them is left for the next one.
    #[arg(long, value_name = "SECONDS", default_value_t = 10.0)]
    settle: f64,
}

/// Watches until it is ended. Prints a line for each run; quiet while nothing happens.
pub async fn watch(context: &Context, watch: &Watch) -> Result {
    Home::open(&context.folder)?.paired()?;
    let platform: Arc<dyn Platform> = Arc::new(Linux::default());
    let settle = Duration::try_from_secs_f64(watch.settle).map_err(|_| usage("--settle is a number of seconds"))?;
    let watching = Watching { settle, ..Watching::default() };
    watch::watch(&context.folder, &platform, watching, |seen| say(context, &seen)).await?;
    Ok(DONE)
}

fn say(context: &Context, seen: &Seen) {
    match seen {
        Seen::Ran(account) if context.json => {
            print(&format!("{}\n", json!({ "ran": account.counts, "halted": account.halted, "unsettled": account.unsettled })));
        }
        Seen::Waits(reason) if context.json => print(&format!("{}\n", json!({ "waits": reason }))),
        Seen::Unheard(folders) if context.json => print(&format!("{}\n", json!({ "unheard": folders }))),
        Seen::Failed(reason) if context.json => print(&format!("{}\n", json!({ "failed": reason }))),
        Seen::Ran(account) => {
            let c = account.counts;
            let end = account.halted.as_ref().map_or_else(String::new, |reason| format!("; not finished: {reason}"));
            if c.sent + c.failed > 0 || account.halted.is_some() {
                print(&format!(
                    "Checked {}: sent {} ({}), {} failed{end}.\n",
                    words::count(c.checked),
                    words::count(c.sent),
                    words::size(c.bytes),
                    words::count(c.failed)
                ));
            }
        }
        Seen::Waits(reason) => print(&format!("Not sending: {reason}.\n")),
        Seen::Unheard(folders) => {
            for (name, why) in folders {
                print(&format!(
                    "The system does not report changes in {name} ({why}); Ypogeion looks through it every quarter of an hour.\n"
                ));
            }
        }
        Seen::Failed(reason) => print(&format!("Could not run: {reason}. Trying again.\n")),
    }
}

/// Says it to whoever is running.
pub fn order(context: &Context, order: Order) -> Result {
    Home::open(&context.folder)?.paired()?;
    order::give(&context.folder, order).map_err(|e| Failed { code: PARTLY, sentence: e.to_string() })?;
    let (word, sentence) = match order {
        Order::Pause => ("pause", "Paused. \"ypogeion resume\" goes on."),
        Order::Go => ("go", "Going on."),
        Order::Stop => ("stop", "The running backup ends; the next one may begin."),
    };
    if context.json {
        print_json(&json!({ "order": word }));
    } else {
        print(&format!("{sentence}\n"));
    }
    Ok(DONE)
}

#[derive(Args)]
pub struct Background {
    /// Take it away again.
    #[arg(long)]
    remove: bool,
    /// Print the unit and change nothing.
    #[arg(long)]
    print: bool,
}

const UNIT: &str = "ypogeion-watch.service";
/// What a session starts.
const WANTED: &str = "default.target.wants";

/// Writes the unit, and starts it if there is a systemd that listens.
pub fn background(context: &Context, wanted: &Background) -> Result {
    let program = std::env::current_exe().map_err(|e| usage(format!("this program cannot be found: {e}")))?;
    let device = context.folder.canonicalize().unwrap_or_else(|_| context.folder.clone());
    let unit = unit(&program.to_string_lossy(), &device.to_string_lossy());
    if wanted.print {
        print(&unit);
        return Ok(DONE);
    }
    let failed = |e: io::Error| Failed { code: PARTLY, sentence: format!("the unit could not be written: {e}") };
    let (path, link) = (units_folder().join(UNIT), units_folder().join(WANTED).join(UNIT));
    if wanted.remove {
        let stopped = systemctl(&["stop", UNIT]);
        gone(&link).and_then(|()| gone(&path)).map_err(failed)?;
        let _ = systemctl(&["daemon-reload"]);
        print(if stopped {
            "Ypogeion has stopped watching, and will not start again.\n"
        } else {
            "Ypogeion will not start again. It could not be stopped now, because no systemd answered; end the program yourself if it runs.\n"
        });
        return Ok(DONE);
    }
    Home::open(&context.folder)?.paired()?;
    write(&path, &link, &unit).map_err(failed)?;
    // One that watches already goes on by the new unit.
    if systemctl(&["daemon-reload"]) && systemctl(&["restart", UNIT]) {
        print(&format!("Ypogeion watches your folders now, and after every sign-in.\n{}\n", path.display()));
        Ok(DONE)
    } else {
        print(&format!(
            "Ypogeion watches your folders after your next sign-in. It could not be started now, because no systemd of this user answered. To start it at once:\n  systemctl --user start {UNIT}\n{}\n",
            path.display()
        ));
        Ok(PARTLY)
    }
}

/// Writes the unit, and what makes a session start it: the link that systemd's own `enable` makes, which needs nobody who answers.
fn write(path: &Path, link: &Path, unit: &str) -> io::Result<()> {
    for place in [path, link] {
        fs::create_dir_all(place.parent().unwrap_or(Path::new(".")))?;
    }
    fs::write(path, unit)?;
    gone(link)?;
    std::os::unix::fs::symlink(path, link)
}

/// Removes a file that may not be there.
fn gone(path: &Path) -> io::Result<()> {
    match fs::remove_file(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        removed => removed,
    }
}

/// Where this user's units are.
fn units_folder() -> PathBuf {
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|p| p.is_absolute());
    let base = base.or_else(|| std::env::var_os("HOME").map(|h| PathBuf::from(h).join(".config")));
    base.unwrap_or_else(|| PathBuf::from(".")).join("systemd/user")
}

fn systemctl(arguments: &[&str]) -> bool {
    Command::new("systemctl").arg("--user").args(arguments).output().is_ok_and(|o| o.status.success())
}

/// In a unit, `%` and quotes mean something; paths may hold both.
fn unit(program: &str, device: &str) -> String {
    let quoted =
        |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\"").replace('%', "%%").replace('$', "$$"));
    format!(
        "[Unit]\nDescription=Sends new pictures of this computer home\n\n\
         [Service]\nExecStart={} --device {} watch\nRestart=on-failure\nRestartSec=30\nNice=10\nIOSchedulingClass=idle\n\n\
         [Install]\nWantedBy={}\n",
        quoted(program),
        quoted(device),
        WANTED.trim_end_matches(".wants")
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_unit_names_program_and_device_whatever_their_paths_hold() {
        let unit = unit("/opt/100% \"own\"/ypogeion", "/home/piet/.config/ypogeion");
        assert!(
            unit.contains("ExecStart=\"/opt/100%% \\\"own\\\"/ypogeion\" --device \"/home/piet/.config/ypogeion\" watch\n"),
            "{unit}"
        );
        assert!(unit.contains("[Install]\nWantedBy=default.target\n"));
    }
}
