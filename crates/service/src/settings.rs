//! Configuration: one commented TOML file, the environment on top of it, typed and complete once at the start.

use std::{
    fmt,
    path::{Path, PathBuf},
};

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
        let mut wrong = Vec::new();
        let listen = raw
            .listen
            .unwrap_or_else(|| vec!["http://127.0.0.1:8740".into(), "https://0.0.0.0:8743".into()])
            .iter()
            .filter_map(|text| Listen::parse(text).map_err(|e| wrong.push(format!("listen: {e}"))).ok())
            .collect::<Vec<_>>();
        if listen.is_empty() && wrong.is_empty() {
            wrong.push("listen: at least one address is needed".to_owned());
        }
        let library_open_to = match raw.library_open_to.as_deref() {
            None | Some("everybody") => OpenTo::Everybody,
            Some("group") => OpenTo::Group,
            Some("owner") => OpenTo::Owner,
            Some(other) => {
                wrong.push(format!("library_open_to: {other:?} is none of \"owner\", \"group\" and \"everybody\""));
                OpenTo::Owner
            }
        };
        let advertise = raw.advertise.filter(|a| !a.is_empty()).and_then(|text| match Url::parse(&text) {
            Ok(url) if matches!(url.scheme(), "http" | "https") && url.has_host() => Some(url),
            _ => {
                wrong.push(format!("advertise: {text:?} is not an http or https address"));
                None
            }
        });
        let mut number = |name: &str, value: Option<f64>, default: f64, most: f64| {
            let value = value.unwrap_or(default);
            if !(0.0..=most).contains(&value) {
                wrong.push(format!("{name}: {value} is not between 0 and {most}"));
            }
            value.clamp(0.0, most)
        };
        let seconds = |s: f64| chrono::TimeDelta::milliseconds((s * 1000.0) as i64);
        let reserve = (number("reserve_gb", raw.reserve_gb, 5.0, 1e6) * 1e9) as u64;
        let upload_life = seconds(number("upload_days", raw.upload_days, 7.0, 3650.0) * 86400.0);
        let offsite = Offsite {
            parallel: raw.offsite.parallel.unwrap_or(4).clamp(1, 64),
            prove_after: seconds(number("offsite.prove_after_seconds", raw.offsite.prove_after_seconds, 3600.0, 1e8)),
            proven_for: seconds(number("offsite.proven_days", raw.offsite.proven_days, 90.0, 36500.0) * 86400.0),
            ledger_after: seconds(number("offsite.ledger_after_seconds", raw.offsite.ledger_after_seconds, 30.0, 86400.0)),
            checkpoint_after: raw.offsite.checkpoint_after.unwrap_or(50).max(1),
        };
        let checks = Checks {
            rhythm: Rhythm {
                every: seconds(number("checks.every_hours", raw.checks.every_hours, 24.0, 8784.0) * 3600.0),
                cover: seconds(number("checks.cover_days", raw.checks.cover_days, 60.0, 36500.0) * 86400.0),
                most_rate: (number("checks.most_mb_per_second", raw.checks.most_mb_per_second, 25.0, 1e6) * 1e6) as u64,
            },
            drill_every: seconds(number("checks.drill_days", raw.checks.drill_days, 30.0, 36500.0) * 86400.0),
            drill_sample: raw.checks.drill_sample.unwrap_or(200).clamp(1, 100_000),
        };
        if let Some(name) =
            raw.names.iter().find(|n| n.is_empty() || !n.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b)))
        {
            wrong.push(format!("names: {name:?} is not the name of a host, such as \"pictures.example.org\""));
        }
        for (name, places) in [("adopt_from", &raw.adopt_from), ("copy_to", &raw.copy_to)] {
            if let Some(place) = places.iter().find(|p| !p.is_absolute() || p.parent().is_none()) {
                wrong.push(format!(
                    "{name}: {:?} must be a whole path, and not the root of everything",
                    place.display().to_string()
                ));
            }
        }
        if !matches!(raw.logs.format.as_str(), "text" | "json") {
            wrong.push(format!("logs.format: {:?} is neither \"text\" nor \"json\"", raw.logs.format));
        }
        // A word that is no level would be the name of a part, and all else would be silent.
        if !raw.logs.filter.parse::<tracing_subscriber::filter::Targets>().is_ok_and(|f| f.default_level().is_some()) {
            wrong.push(format!(
                "logs.filter: {:?} cannot be understood; it is one of error, warn, info, debug and trace, and perhaps others for parts of the \
                 program, like \"info,ypogeiond=debug\"",
                raw.logs.filter
            ));
        }
        if !wrong.is_empty() {
            return Err(BadSettings(wrong));
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

    /// The folder of the private database.
    pub fn cluster_folder(&self) -> PathBuf {
        self.house.data_folder.join("database")
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
