//! A private PostgreSQL cluster in the data folder, on loopback, started and stopped with the service.
//!
//! Debian's `initdb` and `pg_ctl` do the work. PostgreSQL refuses to run as root, so that a service started by root runs
//! it as Debian's `postgres` user. A cluster that was left running by a killed service is found and used again.

use std::{
    fs::{self, Permissions},
    io::Write,
    net::TcpListener,
    os::unix::fs::{OpenOptionsExt, PermissionsExt},
    path::{Path, PathBuf},
    process::{Command, Output},
};

use uuid::Uuid;

use crate::{CatalogError, Result};

const USER: &str = "ypogeion";
const DATABASE: &str = "ypogeion";

/// Whether a power cut may lose what was committed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Durability {
    /// As PostgreSQL does it by default: committed is kept.
    Kept,
    /// For throw-away clusters in tests only.
    ThrownAway,
}

/// A running private cluster. Dropping it leaves it running; [`Cluster::stop`] ends it.
pub struct Cluster {
    folder: PathBuf,
    port: u16,
    password: String,
}

impl Cluster {
    /// Starts the cluster in `folder`, making it first if there is none. Blocks for some seconds.
    pub fn start(folder: &Path, durability: Durability) -> Result<Self> {
        fs::create_dir_all(folder).map_err(cannot("make the database's folder"))?;
        let folder = folder.canonicalize().map_err(cannot("find the database's folder"))?;
        if as_root() {
            // The unprivileged user must be able to walk down to its own folder.
            for above in folder.ancestors().take(2) {
                let mode = above.metadata().map_err(cannot("look at the data folder"))?.permissions().mode();
                fs::set_permissions(above, Permissions::from_mode(mode | 0o011)).map_err(cannot("open the data folder"))?;
            }
        }
        let password = read_or_make_password(&folder.join("password"))?;
        let data = folder.join("data");
        if !is_whole(&data) {
            make(&folder, &data, &password, durability)?;
        }
        let port = match running(&data) {
            Some(port) => port,
            None => start(&folder, &data, durability)?,
        };
        Ok(Cluster { folder, port, password })
    }

    /// The address of the cluster's database.
    pub fn url(&self) -> String {
        self.url_of(DATABASE)
    }

    /// The address of another database in it.
    pub(crate) fn url_of(&self, database: &str) -> String {
        format!("postgres://{USER}:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// The version of PostgreSQL that it is of.
    pub(crate) fn version(&self) -> Result<u32> {
        version_of(&self.folder.join("data"))
    }

    /// Stops the server, waiting for it. Connections are ended; committed work is kept.
    pub fn stop(&self) -> Result<()> {
        stop(&self.folder)
    }
}

/// Stops a cluster by its folder, if it runs. For those who did not start it.
pub fn stop(folder: &Path) -> Result<()> {
    // The tools run in another folder.
    let Ok(data) = folder.join("data").canonicalize() else { return Ok(()) };
    if running(&data).is_none() {
        return Ok(());
    }
    let mut command = tool("pg_ctl", version_of(&data)?);
    command.args(["-w", "-m", "fast", "stop", "-D"]).arg(&data);
    done("stop the database", command.output())
}

/// Whether there is a cluster. What an interrupted `initdb` leaves has its version and not yet what the server begins with; a later
/// version of this program makes it under another name first.
fn is_whole(data: &Path) -> bool {
    data.join("PG_VERSION").exists() && data.join("global/pg_control").exists()
}

fn make(folder: &Path, place: &Path, password: &str, durability: Durability) -> Result<()> {
    // Half a cluster from an interrupted attempt holds nothing yet.
    let data = &folder.join("data.new");
    for half in [place, data.as_path()] {
        if half.exists() {
            fs::remove_dir_all(half).map_err(cannot("remove half a database"))?;
        }
    }
    fs::create_dir(data).map_err(cannot("make the database's folder"))?;
    fs::set_permissions(data, Permissions::from_mode(0o700)).map_err(cannot("protect the database's folder"))?;
    let password_file = folder.join("password.initdb");
    write_private(&password_file, password)?;
    if as_root() {
        let mut command = Command::new("chown");
        command.arg("postgres:").arg(data).arg(&password_file);
        done("give the database's folder to its user", command.output())?;
    }
    let mut command = tool("initdb", newest()?);
    command.args(["-U", USER, "-E", "UTF8", "--locale=C.UTF-8", "--auth=scram-sha-256"]);
    command.arg(format!("--pwfile={}", password_file.display())).arg("-D").arg(data);
    if durability == Durability::ThrownAway {
        command.arg("--no-sync");
        // Its log begins with one segment: sixteen megabytes, as it is by default, are a third of what is copied for a test.
        command.arg("--wal-segsize=1");
    }
    let made = done("make a database", command.output());
    fs::remove_file(&password_file).map_err(cannot("remove a temporary file"))?;
    made?;
    fs::rename(data, place).map_err(cannot("put the new database in its place"))
}

fn start(folder: &Path, data: &Path, durability: Durability) -> Result<u16> {
    let log = folder.join("log");
    if as_root() && !log.exists() {
        fs::File::create(&log).map_err(cannot("make the database's log"))?;
        done("give the database's log to its user", Command::new("chown").arg("postgres:").arg(&log).output())?;
    }
    let mut last = Ok(());
    // A free port may be taken by somebody else before the server binds it.
    for _ in 0..5 {
        let port = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).map_err(cannot("find a free port"))?.port();
        let mut settings = format!(
            "-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c shared_buffers=48MB -c max_connections=60 \
             -c jit=off -c log_min_messages=warning -c max_wal_size=256MB"
        );
        if durability == Durability::ThrownAway {
            settings += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off";
        }
        let mut command = tool("pg_ctl", version_of(data)?);
        command.args(["-w", "-t", "60", "start", "-D"]).arg(data).arg("-l").arg(&log).arg("-o").arg(settings);
        // pg_ctl hands its output to the server, which would keep a pipe open for ever.
        command.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        last = done("start the database", command.output());
        if last.is_ok() {
            make_database(port, folder)?;
            return Ok(port);
        }
    }
    last.map(|()| 0).map_err(|_| CatalogError::Cluster { what: "start the database", said: format!("see {}", log.display()) })
}

/// `CREATE DATABASE`, unless it is there.
fn make_database(port: u16, folder: &Path) -> Result<()> {
    let password = read_or_make_password(&folder.join("password"))?;
    let mut command = tool("psql", newest()?);
    command.env("PGPASSWORD", password);
    command.args(["-h", "127.0.0.1", "-p", &port.to_string(), "-U", USER, "-d", "postgres", "-v", "ON_ERROR_STOP=1", "-qc"]);
    command.arg(format!("CREATE DATABASE {DATABASE}"));
    let output = command.output().map_err(cannot("make the database"))?;
    let said = String::from_utf8_lossy(&output.stderr);
    if output.status.success() || said.contains("already exists") {
        return Ok(());
    }
    Err(CatalogError::Cluster { what: "make the database", said: said.trim().to_owned() })
}

/// The port of the server that runs on these data, from its own `postmaster.pid`.
fn running(data: &Path) -> Option<u16> {
    let text = fs::read_to_string(data.join("postmaster.pid")).ok()?;
    let mut lines = text.lines();
    let pid: u32 = lines.next()?.trim().parse().ok()?;
    let name = fs::read_to_string(format!("/proc/{pid}/comm")).ok()?;
    let port = lines.nth(2)?.trim().parse().ok()?;
    // A pid may belong to another program after a restart of the machine.
    name.starts_with("postgres").then_some(port)
}

/// The process id of the server that runs on the cluster in `folder`.
pub fn server_pid(folder: &Path) -> Option<u32> {
    running(&folder.join("data"))?;
    fs::read_to_string(folder.join("data/postmaster.pid")).ok()?.lines().next()?.trim().parse().ok()
}

fn as_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// Debian keeps the server's tools in a folder for each version, outside the path.
const VERSIONS: &str = "/usr/lib/postgresql";

/// The newest version that is installed.
pub(crate) fn newest() -> Result<u32> {
    let versions = fs::read_dir(VERSIONS).map_err(cannot("find PostgreSQL under /usr/lib/postgresql"))?;
    versions
        .filter_map(|e| e.ok()?.file_name().to_str()?.parse::<u32>().ok())
        .max()
        .ok_or(CatalogError::Cluster { what: "find PostgreSQL", said: "install Debian's package postgresql".to_owned() })
}

/// The version that made a cluster, which alone can run it: the files of one are not those of another (PostgreSQL's documentation,
/// "Upgrading a PostgreSQL Cluster").
fn version_of(data: &Path) -> Result<u32> {
    let text = fs::read_to_string(data.join("PG_VERSION")).map_err(cannot("read which version made the database"))?;
    let version = text.trim().parse().map_err(|_| CatalogError::Cluster {
        what: "read which version made the database",
        said: format!("{text:?} is not a version"),
    })?;
    if Path::new(VERSIONS).join(format!("{version}/bin/postgres")).exists() {
        return Ok(version);
    }
    Err(CatalogError::Cluster {
        what: "start the database",
        said: format!(
            "PostgreSQL {version} made it, and is not installed any more. Nothing is lost: install Debian's package postgresql-{version} beside the \
             newer one, and start again"
        ),
    })
}

/// Where a tool of a version is.
pub(crate) fn program(name: &str, version: u32) -> String {
    format!("{VERSIONS}/{version}/bin/{name}")
}

fn tool(name: &str, version: u32) -> Command {
    let path = program(name, version);
    let mut command = if as_root() {
        let mut command = Command::new("runuser");
        command.args(["-u", "postgres", "--"]).arg(path);
        command
    } else {
        Command::new(path)
    };
    command.current_dir("/").env("LC_ALL", "C.UTF-8");
    command
}

fn read_or_make_password(path: &Path) -> Result<String> {
    match fs::read_to_string(path) {
        Ok(password) => Ok(password.trim().to_owned()),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            // 244 random bits, from the system's source.
            let password = format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
            write_private(path, &password)?;
            Ok(password)
        }
        Err(e) => Err(cannot("read the database's password")(e)),
    }
}

fn write_private(path: &Path, text: &str) -> Result<()> {
    let write = || {
        let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
        file.write_all(text.as_bytes())?;
        file.sync_all()
    };
    write().map_err(cannot("write the database's password"))
}

pub(crate) fn cannot(what: &'static str) -> impl FnOnce(std::io::Error) -> CatalogError {
    move |e| CatalogError::Cluster { what, said: e.to_string() }
}

pub(crate) fn done(what: &'static str, output: std::io::Result<Output>) -> Result<()> {
    let output = output.map_err(cannot(what))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(CatalogError::Cluster { what, said: said.lines().rev().take(3).collect::<Vec<_>>().join("; ") })
}
