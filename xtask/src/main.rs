//! `cargo xtask`: everything that a developer or a new machine runs.
//!
//! Each command installs what it needs first (Debian packages, npm packages), says so, and can be run again.

use std::{
    env, fs,
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Command, ExitCode, Stdio},
    time::SystemTime,
};

/// Debian packages, and what they are for.
const PACKAGES: [(&str, &str); 16] = [
    ("build-essential", "compiling"),
    ("pkg-config", "compiling"),
    ("libssl-dev", "hashing"),
    ("libheif-dev", "HEIC pictures"),
    ("postgresql", "the database"),
    ("ffmpeg", "videos"),
    ("libheif-examples", "the demo's HEIC"),
    ("age", "opening a store by hand, in the tests"),
    ("b3sum", "checking a store by hand, in the tests"),
    ("jq", "reading a ledger by hand, in the tests"),
    ("chromium", "the console's tests and pictures"),
    ("chromium-driver", "the console's tests and pictures"),
    ("curl", "the benchmark"),
    ("nginx-light", "the benchmark"),
    ("openssl", "the benchmark"),
    ("libvips-tools", "the benchmark"),
];

const HELP: &str = "\
cargo xtask demo [--day | --walk-through [--report FILE]]   the demo household, with a day of four phones, or its whole story
cargo xtask test [FILTER]                                   everything that must hold
cargo xtask bench [--row ROW]... [--photos N] [--tree N] [--originals N]
                                                            measured against this machine's limits
cargo xtask campaign [--steps N] [--seed N]                 a house that is lived in and struck at random
cargo xtask screenshots                                     the pictures in docs/screenshots
cargo xtask types                                           the console's types, from the service's API
Each installs what it needs first, builds, and can be run again.";

type Done = Result<(), String>;

fn main() -> ExitCode {
    let arguments: Vec<String> = env::args().skip(1).collect();
    let rest: Vec<&str> = arguments.iter().skip(1).map(String::as_str).collect();
    // Told at once: whoever asks for help does not want packages, nor a build.
    if arguments.iter().any(|a| a == "--help" || a == "-h") {
        println!("{HELP}");
        return ExitCode::SUCCESS;
    }
    let done = match arguments.first().map(String::as_str) {
        Some("demo") if rest.contains(&"--walk-through") => {
            let rest: Vec<&str> = rest.into_iter().filter(|a| *a != "--walk-through").collect();
            rehearse(&["walk-through"], &rest, false)
        }
        Some("demo") => rehearse(&["demo"], &rest, false),
        Some("test") => test(&rest),
        Some("bench") => rehearse(&["bench"], &rest, true),
        Some("campaign") => rehearse(&["campaign"], &rest, false),
        Some("screenshots") => rehearse(&["screenshots", "--to", "docs/screenshots"], &rest, false),
        Some("types") => types(false),
        _ => {
            eprintln!("{HELP}");
            return ExitCode::from(2);
        }
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(e) => {
            eprintln!("xtask: {e}");
            ExitCode::FAILURE
        }
    }
}

/// The workspace that cargo was called in. Asked when it runs, not when it was compiled: two clones may share a target folder.
fn root() -> PathBuf {
    let xtask = std::env::var_os("CARGO_MANIFEST_DIR").map_or_else(|| env!("CARGO_MANIFEST_DIR").into(), PathBuf::from);
    xtask.parent().expect("xtask is a folder of the workspace").to_owned()
}

fn say(what: &str) {
    println!("\n\x1b[1m== {what}\x1b[0m");
}

fn run(what: &str, command: &mut Command) -> Done {
    say(what);
    let status = command.current_dir(command.get_current_dir().map_or_else(root, Path::to_owned)).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("{what} failed ({status})")),
        Err(e) => Err(format!("{what}: {} could not be started: {e}", command.get_program().display())),
    }
}

fn cargo() -> Command {
    Command::new(env::var_os("CARGO").unwrap_or_else(|| "cargo".into()))
}

/// Has Clippy's compiler build what is ours: it compiles as the other one does and says what it thinks of it, where `cargo clippy` would look at
/// all packages for itself, which takes as long as building them. Whatever it says is an error.
fn looking(cargo: &mut Command) -> &mut Command {
    cargo.env("RUSTC_WORKSPACE_WRAPPER", "clippy-driver").env("CLIPPY_ARGS", "-Dwarnings__CLIPPY_HACKERY__")
}

fn npm(arguments: &[&str]) -> Command {
    let mut command = Command::new("npm");
    command.args(arguments).current_dir(root().join("console"));
    command
}

/// Debian packages that are missing.
fn packages() -> Done {
    let missing: Vec<&str> = PACKAGES
        .iter()
        .filter(|(package, _)| {
            let output = Command::new("dpkg-query").args(["-W", "-f=${Status}", package]).output();
            !output.is_ok_and(|o| String::from_utf8_lossy(&o.stdout).contains("ok installed"))
        })
        .map(|(package, what)| {
            println!("Debian package {package} is missing (for {what})");
            *package
        })
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    let as_root = |arguments: &[&str]| {
        let own = fs::metadata("/proc/self").is_ok_and(|m| std::os::unix::fs::MetadataExt::uid(&m) == 0);
        let mut command = if own { Command::new("apt-get") } else { Command::new("sudo") };
        if !own {
            command.arg("apt-get");
        }
        command.args(arguments).env("DEBIAN_FRONTEND", "noninteractive");
        command
    };
    run("Asking Debian what there is", &mut as_root(&["update", "-q"]))?;
    run("Installing Debian packages", as_root(&["install", "-q", "-y", "--no-install-recommends"]).args(&missing))
}

/// The newest time of the files below a folder.
fn newest(path: &Path) -> Option<SystemTime> {
    let meta = fs::metadata(path).ok()?;
    if !meta.is_dir() {
        return meta.modified().ok();
    }
    fs::read_dir(path).ok()?.filter_map(|e| newest(&e.ok()?.path())).max()
}

/// npm packages, and the console's pages.
fn console() -> Done {
    let folder = root().join("console");
    let installed = newest(&folder.join("node_modules/.package-lock.json"));
    if installed.is_none() || installed < newest(&folder.join("package-lock.json")) {
        run("Installing npm packages", &mut npm(&["ci", "--no-fund", "--no-audit"]))?;
    }
    let sources = ["src", "public", "index.html", "vite.config.ts", "package-lock.json"]
        .iter()
        .filter_map(|p| newest(&folder.join(p)))
        .max();
    if newest(&folder.join("dist/index.html")) < sources {
        run("Building the console", &mut npm(&["run", "--silent", "build"]))?;
    }
    Ok(())
}

fn rehearse(command: &[&str], rest: &[&str], release: bool) -> Done {
    packages()?;
    console()?;
    let mut build = cargo();
    build.args(["build", "--workspace"]);
    let profile = if release { "release" } else { "debug" };
    if release {
        build.arg("--release");
    }
    run("Building", &mut build)?;
    let target = root().join("target");
    let folder = target.join(if release { "bench" } else { "demo" });
    let mut rehearsal = Command::new(target.join(profile).join("ypogeion-rehearsal"));
    rehearsal.arg("--folder").arg(folder).args(command).args(rest);
    run(command[0], &mut rehearsal)
}

/// Known vulnerabilities of npm packages, where the registry tells them. Of Rust packages no registry does: `docs/dependencies.md` has what
/// was looked at by hand, and a test below holds it against the versions that are used.
fn audit() -> Done {
    println!("== Asking for known vulnerabilities");
    let output = npm(&["audit", "--omit=dev", "--json"]).output().map_err(|e| format!("npm could not be started: {e}"))?;
    let said = String::from_utf8_lossy(&output.stdout);
    match (output.status.success(), said.contains("\"auditReportVersion\"")) {
        (true, true) => println!("npm knows of none."),
        (false, true) => return Err(format!("npm knows of vulnerabilities:\n{said}")),
        // No answer is no good news, and no bad one.
        (_, false) => println!("The registry of npm packages does not tell here; nothing was asked of it."),
    }
    Ok(())
}

/// The service's API as TypeScript. With `check`, only says whether the committed file is current.
fn types(check: bool) -> Done {
    packages()?;
    console()?;
    let output = Command::new(root().join("target/debug/ypogeiond")).arg("openapi").output();
    let document = match output {
        Ok(output) if output.status.success() => output.stdout,
        _ => {
            run("Building the service", cargo().args(["build", "-p", "ypogeiond"]))?;
            Command::new(root().join("target/debug/ypogeiond")).arg("openapi").output().map_err(|e| e.to_string())?.stdout
        }
    };
    fs::write(root().join("target/openapi.json"), document).map_err(|e| e.to_string())?;
    let committed = root().join("console/src/api/schema.d.ts");
    let before = fs::read(&committed).unwrap_or_default();
    run("Writing the console's types", &mut npm(&["run", "--silent", "types"]))?;
    if check && fs::read(&committed).unwrap_or_default() != before {
        return Err("console/src/api/schema.d.ts was not current; it is now: commit it".to_owned());
    }
    Ok(())
}

fn test(rest: &[&str]) -> Done {
    packages()?;
    console()?;
    run("Formatting", cargo().args(["fmt", "--all", "--check"]))?;
    run("Checking the console's types", &mut npm(&["run", "--silent", "check"]))?;
    run("Reading the console's code over", &mut npm(&["run", "--silent", "lint"]))?;
    run("Testing what the console's pages are made of", &mut npm(&["run", "--silent", "test"]))?;
    audit()?;
    // The programs too: the rehearsals start them themselves. Not "--all-targets": that compiles a library once more for its own tests, also where it is
    // said that it has none.
    let all = ["build", "--workspace", "--lib", "--bins", "--tests", "--examples"];
    run("Building, and looking for mistakes (clippy)", looking(&mut cargo()).args(all))?;
    types(true)?;
    // A rehearsal waits more than it works: twice as many as there are processors, and one more, keep all of them busy.
    let mut tests = cargo();
    looking(&mut tests);
    if env::var_os("RUST_TEST_THREADS").is_none() {
        let processors = std::thread::available_parallelism().map_or(2, usize::from);
        tests.env("RUST_TEST_THREADS", (2 * processors + 1).to_string());
    }
    let memory = Memory::for_tests();
    if let Some(memory) = &memory {
        tests.env("TMPDIR", &memory.folder);
    }
    tests.args(["test", "--workspace"]).args(rest).current_dir(root()).stdout(Stdio::piped());
    say("Testing");
    let mut running = tests.spawn().map_err(|e| format!("cargo could not be started: {e}"))?;
    let mut reasons = Reasons::default();
    for line in BufReader::new(running.stdout.take().expect("it is piped")).split(b'\n') {
        let line = String::from_utf8_lossy(&line.map_err(|e| e.to_string())?).into_owned();
        println!("{line}");
        reasons.read(&line);
    }
    let status = running.wait().map_err(|e| e.to_string())?;
    if status.success() {
        return Ok(());
    }
    // Last, since whoever keeps a part of a long log keeps its end.
    say("What failed");
    println!("{}", reasons.found.join("\n"));
    Err(format!("Testing failed ({status})"))
}

/// A folder in memory in which the tests make their houses. Three hundred houses that force everything to a disk keep that busy and one processor waiting;
/// what a disk does to a house that is struck is the laboratory's to try, which has a disk of its own making. Removed with what is in it.
struct Memory {
    folder: PathBuf,
}

impl Memory {
    /// What all of the tests together have been seen to use at once (1.3 GB), as much again, and what a service leaves free before it makes a film (2 GB).
    const LEAST: u64 = 6 << 30;

    /// None: whoever calls has said where, or there is too little room.
    fn for_tests() -> Option<Self> {
        if env::var_os("TMPDIR").is_some() {
            return None;
        }
        let at = Path::new("/dev/shm");
        let free = Command::new("df").args(["--output=fstype,avail", "--block-size=1"]).arg(at).output().ok()?;
        let told = String::from_utf8_lossy(&free.stdout).into_owned();
        let (kind, free) = told.lines().nth(1)?.trim().split_once(char::is_whitespace)?;
        if kind != "tmpfs" || free.trim().parse::<u64>().ok()? < Self::LEAST {
            return None;
        }
        const NAME: &str = "ypogeion-tests-";
        // What a run left that was killed.
        for there in fs::read_dir(at).ok()?.flatten() {
            let left = there.file_name().to_str().and_then(|name| name.strip_prefix(NAME)?.parse::<u32>().ok());
            if left.is_some_and(|id| !Path::new("/proc").join(id.to_string()).exists()) {
                fs::remove_dir_all(there.path()).ok()?;
            }
        }
        let folder = at.join(format!("{NAME}{}", std::process::id()));
        fs::create_dir(&folder).ok()?;
        Some(Memory { folder })
    }
}

impl Drop for Memory {
    fn drop(&mut self) {
        // What a test left running may still write there.
        if let Err(e) = fs::remove_dir_all(&self.folder) {
            println!("{} could not be removed: {e}", self.folder.display());
        }
    }
}

/// Why tests failed, without what they had printed until then and without traces.
#[derive(Default)]
struct Reasons {
    found: Vec<String>,
    telling: usize,
}

impl Reasons {
    /// The most lines of one reason, and the most characters of a line.
    const MOST: (usize, usize) = (12, 800);

    fn read(&mut self, line: &str) {
        let heading = line.starts_with("---- ") && line.ends_with(" stdout ----");
        if heading || line == "stack backtrace:" || line.starts_with("note: run with") || line == "failures:" {
            self.telling = 0;
        } else if line.contains("panicked at ") {
            self.telling = Self::MOST.0;
        }
        if heading || self.telling > 0 {
            self.found.push(line.chars().take(Self::MOST.1).collect());
            self.telling = self.telling.saturating_sub(1);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Fields that hold what nobody may read in a log.
    const SECRET: [&str; 8] = ["password", "secret_key", "access_key", "token", "name_key", "old", "new", "code"];

    fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            match path.extension() {
                _ if path.is_dir() => sources(&path, found),
                Some(end) if end == "rs" => found.push(path),
                _ => {}
            }
        }
    }

    /// The names of structures of `text` that print all their fields, and have one that is a secret.
    fn talkative(text: &str) -> Vec<String> {
        let mut found = Vec::new();
        for (at, _) in text.match_indices("#[derive(") {
            let (derived, rest) = text[at..].split_once(")]").unwrap_or_default();
            // Whatever stands between the two belongs to the same item.
            let item = rest.split("#[derive(").next().unwrap_or_default();
            let Some((head, body)) = item.split_once(" {\n") else { continue };
            let Some(name) = head.lines().last().and_then(|l| l.split_once("struct ")).map(|(_, n)| n) else { continue };
            let fields = body.split("\n}").next().unwrap_or_default().lines().map(|l| l.trim().trim_start_matches("pub "));
            let told = |line: &str| {
                line.split_once(": ").is_some_and(|(field, kind)| {
                    SECRET.contains(&field) && (kind.starts_with("String") || kind.starts_with("Option<String>"))
                })
            };
            if derived.contains("Debug") && fields.into_iter().any(told) {
                found.push(name.to_owned());
            }
        }
        found
    }

    #[test]
    fn of_a_failing_run_the_reasons_are_told_last() {
        let mut reasons = Reasons::default();
        let long = "x".repeat(2000);
        for line in [
            "test a::b ... FAILED",
            "",
            "failures:",
            "",
            "---- a::b stdout ----",
            "step 1: sent a picture",
            "",
            "thread 'a::b' (7) panicked at tests/a.rs:1:2:",
            "it is 2",
            long.as_str(),
            "stack backtrace:",
            "   0: rust_begin_unwind",
            "note: Some details are omitted",
            "---- a::c stdout ----",
            "thread 'a::c' (8) panicked at tests/a.rs:3:4:",
            "it is 3",
            "note: run with `RUST_BACKTRACE=1`",
            "failures:",
            "    a::b",
        ] {
            reasons.read(line);
        }
        let cut = "x".repeat(800);
        assert_eq!(
            reasons.found,
            [
                "---- a::b stdout ----",
                "thread 'a::b' (7) panicked at tests/a.rs:1:2:",
                "it is 2",
                cut.as_str(),
                "---- a::c stdout ----",
                "thread 'a::c' (8) panicked at tests/a.rs:3:4:",
                "it is 3"
            ]
        );
    }

    #[test]
    fn packages_that_read_foreign_bytes_are_the_ones_that_were_looked_at() {
        let (list, lock) = (root().join("docs/dependencies.md"), root().join("Cargo.lock"));
        let (list, lock) = (fs::read_to_string(list).unwrap(), fs::read_to_string(lock).unwrap());
        let rows: Vec<(&str, &str)> = list
            .lines()
            .filter_map(|l| {
                let mut cells = l.strip_prefix("| `")?.split('|');
                Some((cells.next()?.trim().trim_end_matches('`'), cells.next()?.trim()))
            })
            .collect();
        assert!(rows.len() > 15, "{rows:?}");
        for (package, version) in rows {
            let used = format!("name = \"{package}\"\nversion = \"{version}\"");
            assert!(
                lock.contains(&used),
                "{package} is not used in version {version} any more: look at it again, and say so in docs/dependencies.md"
            );
        }
    }

    #[test]
    fn nothing_that_holds_a_secret_prints_itself() {
        let example = "#[derive(Clone, Debug)]\n#[x]\npub struct SignIn {\n    /// It.\n    pub password: String,\n}\n";
        assert_eq!(talkative(example), ["SignIn"]);
        assert!(talkative(&example.replace("Clone, Debug", "Clone")).is_empty());
        let mut files = Vec::new();
        for crate_folder in fs::read_dir(root().join("crates")).unwrap() {
            let folder = crate_folder.unwrap().path();
            // Stand-ins have made-up keys alone.
            if !folder.ends_with("standins") {
                sources(&folder.join("src"), &mut files);
            }
        }
        assert!(files.len() > 100);
        let all: Vec<_> = files.iter().flat_map(|f| talkative(&fs::read_to_string(f).unwrap())).collect();
        assert!(all.is_empty(), "{all:?}");
    }
}
