//! Configuration: one commented TOML file, the environment on top of it, typed and complete once at the start.

use std::{
    fmt,
    path::{Path, PathBuf},
};

use chrono::TimeDelta;
use figment::{
    Figment,
    providers::{Env, Format, Toml},
};
use serde::Deserialize;
use url::Url;
use ypogeion_core::audit::Rhythm;
use ypogeion_engine::settings::{self as engine, Checks, Offsite};
use ypogeion_library::OpenTo;

/// Names in the environment that mean something else: to the client, and to tests.
const NOT_SETTINGS: [&str; 2] = ["device", "throw_away"];

/// The commented example, which is also the documentation of every setting.
pub const EXAMPLE: &str = include_str!("../ypogeiond.toml");

/// Everything the service can be told.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings {
    /// What the house is told about itself.
    pub house: engine::Settings,
    /// The user that it is all done as, if it is started as root. `None`: the one that is called like this program, if there is one.
    pub run_as: Option<String>,
    /// Addresses to listen on, at least one.
    pub listen: Vec<Listen>,
    /// The address that devices are told.
    pub advertise: Option<Url>,
    /// Names under which it is reached as well, beside the machine's own.
    pub names: Vec<String>,
    /// A PostgreSQL address; `None` for the private cluster.
    pub database: Option<DatabaseAddress>,
    /// Logs.
    pub logs: Logs,
}

/// A PostgreSQL address, which may have a password in it.
#[derive(Clone, PartialEq, Eq)]
pub struct DatabaseAddress(pub String);

impl fmt::Debug for DatabaseAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(a database)")
    }
}

/// Settings of the logs.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Logs {
    /// JSON lines instead of text.
    pub format: String,
    /// What is logged.
    pub filter: String,
}

impl Default for Logs {
    fn default() -> Self {
        Logs { format: "text".into(), filter: "info".into() }
    }
}

/// An address to listen on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// Host and port; port 0 takes a free one.
    pub address: String,
    /// Whether TLS is spoken.
    pub tls: bool,
}

impl fmt::Display for Listen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}://{}", if self.tls { "https" } else { "http" }, self.address)
    }
}

/// As written; everything optional.
#[derive(Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Raw {
    data_folder: Option<PathBuf>,
    library: Option<PathBuf>,
    library_open_to: Option<String>,
    run_as: Option<String>,
    listen: Option<Vec<String>>,
    advertise: Option<String>,
    names: Vec<String>,
    database: Option<String>,
    reserve_gb: Option<f64>,
    upload_days: Option<f64>,
    adopt_from: Vec<PathBuf>,
    copy_to: Vec<PathBuf>,
    media_workers: Option<usize>,
    offsite: RawOffsite,
    checks: RawChecks,
    logs: Logs,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct RawChecks {
    every_hours: Option<f64>,
    cover_days: Option<f64>,
    most_mb_per_second: Option<f64>,
    drill_days: Option<f64>,
    drill_sample: Option<u64>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct RawOffsite {
    parallel: Option<usize>,
    prove_after_seconds: Option<f64>,
    proven_days: Option<f64>,
    ledger_after_seconds: Option<f64>,
    checkpoint_after: Option<u64>,
}

/// All that is wrong with a configuration, together.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("the settings cannot be used:\n  {}", .0.join("\n  "))]
pub struct BadSettings(pub Vec<String>);

impl Settings {
    /// Reads the file (which need not exist if it was not named) and the environment.
    pub fn read(file: Option<&Path>) -> Result<Self, BadSettings> {
        let path = file.unwrap_or(Path::new("/etc/ypogeion/ypogeiond.toml"));
        if file.is_some() && !path.exists() {
            return Err(BadSettings(vec![format!("{}: there is no such file", path.display())]));
        }
        let figment =
            Figment::new().merge(Toml::file_exact(path)).merge(Env::prefixed("YPOGEION_").ignore(&NOT_SETTINGS).split("__"));
        Self::check(figment.extract().map_err(|e| BadSettings(e.into_iter().map(|e| e.to_string()).collect()))?)
    }

    fn check(raw: Raw) -> Result<Self, BadSettings> {
        let mut wrong = Wrong::default();
        let listen = wrong.listen(raw.listen.as_deref());
        let library_open_to = wrong.open_to(raw.library_open_to.as_deref());
        let advertise = wrong.advertise(raw.advertise.as_deref().unwrap_or(""));
        let reserve = (wrong.number("reserve_gb", raw.reserve_gb, 5.0, 1e6) * 1e9) as u64;
        let upload_life = wrong.span("upload_days", DAY, raw.upload_days, 7.0, 3650.0);
        let (offsite, checks) = (wrong.offsite(&raw.offsite), wrong.checks(&raw.checks));
        wrong.names(&raw.names);
        wrong.places("adopt_from", &raw.adopt_from);
        wrong.places("copy_to", &raw.copy_to);
        wrong.logs(&raw.logs);
        if !wrong.0.is_empty() {
            return Err(BadSettings(wrong.0));
        }
        let house = engine::Settings {
            data_folder: raw.data_folder.unwrap_or_else(|| "/var/lib/ypogeion".into()),
            library: raw.library.unwrap_or_else(|| "/srv/ypogeion".into()),
            library_open_to,
            reserve,
            upload_life,
            adopt_from: raw.adopt_from,
            copy_to: raw.copy_to,
            media_workers: raw.media_workers.unwrap_or(2).clamp(1, 64),
            offsite,
            checks,
        };
        Ok(Settings {
            house,
            run_as: raw.run_as.filter(|u| !u.is_empty()),
            listen,
            advertise,
            names: raw.names,
            database: raw.database.filter(|d| !d.is_empty()).map(DatabaseAddress),
            logs: raw.logs,
        })
    }

    /// All defaults.
    #[cfg(test)]
    pub(crate) fn for_tests() -> Self {
        Self::check(Raw::default()).expect("the defaults can be used")
    }

    /// The folder for copies of the database that are made before upgrades.
    pub fn upgrades_folder(&self) -> PathBuf {
        self.house.data_folder.join("upgrades")
    }

    /// The folder of the private database.
    pub fn cluster_folder(&self) -> PathBuf {
        self.house.data_folder.join("database")
    }
}

/// What cannot be used of the settings: all of it is told at once.
#[derive(Default)]
struct Wrong(Vec<String>);

/// Seconds.
const HOUR: f64 = 3600.0;
/// Seconds.
const DAY: f64 = 86400.0;

impl Wrong {
    fn say(&mut self, what: String) {
        self.0.push(what);
    }

    fn number(&mut self, name: &str, value: Option<f64>, default: f64, most: f64) -> f64 {
        let value = value.unwrap_or(default);
        if !(0.0..=most).contains(&value) {
            self.say(format!("{name}: {value} is not between 0 and {most}"));
        }
        value.clamp(0.0, most)
    }

    /// A span of time that is given in units of so many seconds.
    fn span(&mut self, name: &str, unit: f64, value: Option<f64>, default: f64, most: f64) -> TimeDelta {
        TimeDelta::milliseconds((self.number(name, value, default, most) * unit * 1000.0) as i64)
    }

    fn listen(&mut self, given: Option<&[String]>) -> Vec<Listen> {
        let usual = ["http://127.0.0.1:8740".to_owned(), "https://0.0.0.0:8743".to_owned()];
        let mut all = Vec::new();
        for text in given.unwrap_or(&usual) {
            match Listen::parse(text) {
                Ok(listen) => all.push(listen),
                Err(e) => self.say(format!("listen: {e}")),
            }
        }
        if given.is_some_and(<[String]>::is_empty) {
            self.say("listen: at least one address is needed".to_owned());
        }
        all
    }

    fn open_to(&mut self, given: Option<&str>) -> OpenTo {
        match given {
            None | Some("everybody") => OpenTo::Everybody,
            Some("group") => OpenTo::Group,
            Some("owner") => OpenTo::Owner,
            Some(other) => {
                self.say(format!("library_open_to: {other:?} is none of \"owner\", \"group\" and \"everybody\""));
                OpenTo::Owner
            }
        }
    }

    /// Empty: none.
    fn advertise(&mut self, given: &str) -> Option<Url> {
        match Url::parse(given) {
            _ if given.is_empty() => None,
            Ok(url) if matches!(url.scheme(), "http" | "https") && url.has_host() => Some(url),
            _ => {
                self.say(format!("advertise: {given:?} is not an http or https address"));
                None
            }
        }
    }

    fn offsite(&mut self, raw: &RawOffsite) -> Offsite {
        Offsite {
            parallel: raw.parallel.unwrap_or(4).clamp(1, 64),
            prove_after: self.span("offsite.prove_after_seconds", 1.0, raw.prove_after_seconds, 3600.0, 1e8),
            proven_for: self.span("offsite.proven_days", DAY, raw.proven_days, 90.0, 36500.0),
            ledger_after: self.span("offsite.ledger_after_seconds", 1.0, raw.ledger_after_seconds, 30.0, 86400.0),
            checkpoint_after: raw.checkpoint_after.unwrap_or(50).max(1),
        }
    }

    fn checks(&mut self, raw: &RawChecks) -> Checks {
        Checks {
            rhythm: Rhythm {
                every: self.span("checks.every_hours", HOUR, raw.every_hours, 24.0, 8784.0),
                cover: self.span("checks.cover_days", DAY, raw.cover_days, 60.0, 36500.0),
                most_rate: (self.number("checks.most_mb_per_second", raw.most_mb_per_second, 25.0, 1e6) * 1e6) as u64,
            },
            drill_every: self.span("checks.drill_days", DAY, raw.drill_days, 30.0, 36500.0),
            drill_sample: raw.drill_sample.unwrap_or(200).clamp(1, 100_000),
        }
    }

    fn names(&mut self, names: &[String]) {
        let good = |n: &String| !n.is_empty() && n.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b));
        if let Some(name) = names.iter().find(|n| !good(n)) {
            self.say(format!("names: {name:?} is not the name of a host, such as \"pictures.example.org\""));
        }
    }

    fn places(&mut self, name: &str, places: &[PathBuf]) {
        if let Some(place) = places.iter().find(|p| !p.is_absolute() || p.parent().is_none()) {
            let place = place.display().to_string();
            self.say(format!("{name}: {place:?} must be a whole path, and not the root of everything"));
        }
    }

    fn logs(&mut self, logs: &Logs) {
        if !matches!(logs.format.as_str(), "text" | "json") {
            self.say(format!("logs.format: {:?} is neither \"text\" nor \"json\"", logs.format));
        }
        // A word that is no level would be the name of a part, and all else would be silent.
        if !logs.filter.parse::<tracing_subscriber::filter::Targets>().is_ok_and(|f| f.default_level().is_some()) {
            self.say(format!(
                "logs.filter: {:?} cannot be understood; it is one of error, warn, info, debug and trace, and perhaps others for parts of the \
                 program, like \"info,ypogeiond=debug\"",
                logs.filter
            ));
        }
    }
}

impl Listen {
    fn parse(text: &str) -> Result<Self, String> {
        let url = Url::parse(text).map_err(|_| format!("{text:?} is not an address such as \"https://0.0.0.0:8743\""))?;
        let tls = match url.scheme() {
            "https" => true,
            "http" => false,
            _ => return Err(format!("{text:?} should begin with http:// or https://")),
        };
        let host = url.host_str().ok_or_else(|| format!("{text:?} names no host"))?;
        let port = url.port_or_known_default().unwrap_or(0);
        let loopback = matches!(host, "localhost" | "127.0.0.1" | "[::1]");
        if !tls && !loopback {
            return Err(format!("{text:?}: plain http is for this machine alone (127.0.0.1); use https"));
        }
        Ok(Listen { address: format!("{host}:{port}"), tls })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Result<Settings, BadSettings> {
        let raw = Figment::new().merge(Toml::string(text)).extract();
        Settings::check(raw.map_err(|e| BadSettings(e.into_iter().map(|e| e.to_string()).collect()))?)
    }

    #[test]
    fn the_example_shows_every_setting_with_its_default() {
        let uncommented: String = EXAMPLE
            .lines()
            .map(|l| match l.strip_prefix('#') {
                Some(rest) if rest.starts_with('[') || rest.split_once(" = ").is_some_and(|(k, _)| !k.contains(' ')) => rest,
                _ => l,
            })
            .fold(String::new(), |all, l| all + l + "\n");
        assert_eq!(parse(&uncommented).unwrap(), parse("").unwrap());
        assert_eq!(uncommented.lines().filter(|l| l.contains(" = ")).count(), 25);
    }

    #[test]
    fn everything_that_is_wrong_is_said_together() {
        let BadSettings(wrong) = parse(
            "listen = [\"http://0.0.0.0:80\", \"ftp://x\"]\nadopt_from = [\"photos\"]\nreserve_gb = -1\nlogs.format = \"xml\"\nlogs.filter = \"loud\"",
        )
        .unwrap_err();
        assert_eq!(wrong.len(), 6, "{wrong:?}");
        assert!(wrong[0].contains("use https"));
        assert!(parse("librarry = \"/x\"").unwrap_err().0[0].contains("librarry"));
    }
}
