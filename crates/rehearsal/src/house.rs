//! A household: its service, its store, and the console's way to ask.

use std::{
    fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Duration,
};

use reqwest::Method;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value, json};
use url::Url;
use ypogeion_catalog::{
    cluster::{self, Cluster, Durability},
    copied,
};
use ypogeion_standins::store::{Options as StoreOptions, StandInStore};
use ypogeion_wire::{CONSOLE_HEADER, offsite::Store, overview::Overview};

use crate::{Step, own_port, program, wait_for};

/// The store's bucket in rehearsals.
pub const BUCKET: &str = "mill-house";
/// The file with the keeper's password, in the house's folder.
const PASSWORD: &str = "keeper.password";
const ACCESS_KEY: &str = "QUAYKEY";
const SECRET_KEY: &str = "quay-secret";

/// How a household is started.
#[derive(Clone, Debug)]
pub struct Options {
    /// Everything is below this folder.
    pub folder: PathBuf,
    /// The household's name.
    pub name: String,
    /// Name and password of the keeper.
    pub keeper: (String, String),
    /// Kept free on the disk, in gigabytes.
    pub reserve_gb: u32,
    /// Seconds after its confirmation that an original is read back.
    pub prove_after: u32,
    /// More lines for the settings file, before its sections.
    pub settings: String,
    /// More lines for the settings of the way offsite.
    pub offsite: String,
    /// Ports of the service: http and https; 0 takes free ones.
    pub ports: (u16, u16),
    /// Port of the store; 0 takes a free one.
    pub store_port: u16,
    /// Whether the database may forget on a power cut, which makes tests faster.
    pub throw_away: bool,
    /// More for the environment of the service.
    pub environment: Vec<(String, PathBuf)>,
    /// What of it is copied from what an earlier one made.
    pub made: Made,
}

/// What of a house that will be thrown away is copied and not made: making it takes most of the time of a small test.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Made {
    /// The whole house, keys and all, if nothing about it is special. Two of them are one household.
    House,
    /// The database, without a household.
    Database,
}

impl Options {
    /// Mill House in a folder, for tests.
    pub fn test(folder: &Path) -> Self {
        Options {
            folder: folder.to_owned(),
            name: "Mill House".into(),
            keeper: ("Juno".into(), "weir at the mill".into()),
            reserve_gb: 1,
            prove_after: 1,
            settings: String::new(),
            offsite: String::new(),
            ports: (0, 0),
            store_port: 0,
            throw_away: true,
            environment: Vec::new(),
            made: Made::House,
        }
    }

    /// Whether the house is as any other in the tests.
    fn is_plain(&self) -> bool {
        let plain = Options::test(&self.folder);
        let as_made =
            self.name == plain.name && self.keeper == plain.keeper && self.settings.is_empty() && self.environment.is_empty();
        self.made == Made::House && self.throw_away && as_made
    }
}

/// A running household. Dropping it ends its service and its database.
pub struct House {
    /// How it was started.
    pub options: Options,
    /// The store.
    pub store: StandInStore,
    service: Option<Child>,
    /// Where the service listens in plain, on loopback.
    pub http: Url,
    /// Where it listens with TLS.
    pub https: Url,
}

impl House {
    /// Sets the household up and starts its service and its store.
    pub async fn start(options: Options) -> Step<Self> {
        let mut house = House::bare(options).await?;
        if house.options.is_plain() {
            let program = program("ypogeiond")?;
            let (place, than) = (program.with_file_name("made-house"), [program.as_path()]);
            let make =
                async |place: &Path| House::bare(Options { made: Made::Database, ..Options::test(place) }).await?.set_up().await;
            let made = copied::once(&place, &than, make).await?;
            for part in ["data", "library"] {
                copied::copy(&made.folder.join(part), &house.options.folder.join(part))?;
            }
        } else {
            house.set_up().await?;
        }
        house.start_service().await?;
        Ok(house)
    }

    async fn set_up(&self) -> Step<()> {
        let options = &self.options;
        // A service that runs as somebody else makes its database as that one.
        if options.throw_away && !options.settings.contains("run_as") {
            let made = program("ypogeiond")?.with_file_name("made-database");
            copied::put(&made, &options.folder.join("data/database")).await?;
        }
        let password = options.folder.join(PASSWORD);
        let mut setup = command(options, "setup")?;
        setup
            .args(["--accept-place", "--household", &options.name, "--keeper", &options.keeper.0, "--password-file"])
            .arg(&password);
        let output = setup.output()?;
        if !output.status.success() {
            return Err(format!("setup failed: {}", String::from_utf8_lossy(&output.stderr)).into());
        }
        Ok(())
    }

    /// A machine with its settings and no household, and a store that runs.
    pub async fn bare(options: Options) -> Step<Self> {
        let folder = &options.folder;
        fs::create_dir_all(folder)?;
        fs::write(folder.join(PASSWORD), &options.keeper.1)?;
        // The database's own user walks through here.
        fs::set_permissions(folder, fs::Permissions::from_mode(0o755))?;
        let store = StandInStore::start(StoreOptions {
            folder: folder.join("north-quay"),
            bucket: BUCKET.into(),
            access_key: ACCESS_KEY.into(),
            secret_key: SECRET_KEY.into(),
            port: options.store_port,
            control_port: 0,
        })
        .await?;
        write_settings(&options)?;
        let nowhere = Url::parse("http://127.0.0.1:1/")?;
        Ok(House { options, store, service: None, http: nowhere.clone(), https: nowhere })
    }

    /// Writes the settings, for the next start, as they are now.
    pub fn write_settings(&self) -> Step<()> {
        write_settings(&self.options)
    }

    /// Starts the service and waits until it answers.
    pub async fn start_service(&mut self) -> Step<()> {
        self.start_until("ready ").await.map(drop)
    }

    /// Starts the service without a household, and returns the code that it prints.
    pub async fn start_at_door(&mut self) -> Step<String> {
        const CODE: &str = "type this code: ";
        let said = self.start_until(CODE).await?;
        let code = said.split(CODE).nth(1).and_then(|rest| rest.split_whitespace().next());
        Ok(code.ok_or("no code was printed")?.to_owned())
    }

    /// Starts the service, waits until it has said something, and returns what it has said by then.
    async fn start_until(&mut self, sign: &str) -> Step<String> {
        if self.options.ports == (0, 0) {
            self.options.ports = (own_port()?, own_port()?);
            write_settings(&self.options)?;
        }
        let log_path = self.options.folder.join("service.log");
        let began = fs::metadata(&log_path).map_or(0, |m| m.len());
        let log = fs::File::options().create(true).append(true).open(&log_path)?;
        let child = command(&self.options, "serve")?.stdin(Stdio::null()).stdout(log.try_clone()?).stderr(log).spawn()?;
        self.service = Some(child);
        let (said, http, https) = wait_for("the service to start", 60, async || {
            let log = fs::read(&log_path)?;
            let text = String::from_utf8_lossy(log.get(began as usize..).unwrap_or_default()).into_owned();
            let address = |scheme: &str| {
                let start = text.find(&format!("address={scheme}://"))? + "address=".len();
                Url::parse(text[start..].split_whitespace().next()?).ok()
            };
            Ok(match (text.contains(sign), address("http"), address("https")) {
                (true, Some(http), Some(https)) => Some((text, http, https)),
                _ => None,
            })
        })
        .await
        .map_err(|e| {
            let log = fs::read(&log_path).unwrap_or_default();
            format!("{e}; it said: {}", String::from_utf8_lossy(log.get(began as usize..).unwrap_or_default()))
        })?;
        // Devices remember the address: after a restart the service is where it was.
        let port = |url: &Url| url.port_or_known_default().unwrap_or(0);
        self.options.ports = (port(&http), port(&https));
        write_settings(&self.options)?;
        (self.http, self.https) = (http, https);
        Ok(said)
    }

    /// The folder below which the keeper may adopt what lies there.
    pub fn disks(&self) -> PathBuf {
        self.options.folder.join("disks")
    }

    /// The service's process id, while it runs.
    pub fn pid(&self) -> Option<u32> {
        self.service.as_ref().map(Child::id)
    }

    /// Kills the service on the spot (SIGKILL).
    pub fn kill_service(&mut self) {
        if let Some(mut child) = self.service.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// A hand in its database, which is started if it does not run. Returns what it says, unaligned.
    pub fn sql(&self, text: &str) -> Step<String> {
        let durability = if self.options.throw_away { Durability::ThrownAway } else { Durability::Kept };
        let running = Cluster::start(&self.options.folder.join("data/database"), durability)?;
        let output = Command::new("psql").arg(running.url()).args(["-qAt", "-v", "ON_ERROR_STOP=1", "-c", text]).output()?;
        if output.status.success() {
            Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned())
        } else {
            Err(String::from_utf8_lossy(&output.stderr).into_owned().into())
        }
    }

    /// Counts that are not what is there; none, as long as everything that changes a count says so, and none that anybody could ask for while
    /// its database does not run.
    pub fn miscounts(&self) -> Step<String> {
        if cluster::server_pid(&self.options.folder.join("data/database")).is_none() {
            return Ok(String::new());
        }
        self.sql("SELECT what FROM discrepancy")
    }

    /// Asks the service to stop (SIGTERM) and waits for it.
    pub async fn stop_service(&mut self) -> Step<()> {
        let Some(mut child) = self.service.take() else { return Ok(()) };
        if let Some(pid) = Pid::from_raw(i32::try_from(child.id())?) {
            kill_process(pid, Signal::TERM)?;
        }
        for _ in 0..300 {
            if let Some(status) = child.try_wait()? {
                return if status.success() { Ok(()) } else { Err(format!("the service stopped with {status}").into()) };
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        child.kill()?;
        child.wait()?;
        Err("the service did not stop in 30 s".into())
    }

    /// The library's folder.
    pub fn library(&self) -> PathBuf {
        self.options.folder.join("library")
    }

    /// The folder in which the store keeps its objects.
    pub fn store_folder(&self) -> PathBuf {
        self.options.folder.join("north-quay").join(BUCKET)
    }

    /// Signs somebody in, as the console does.
    pub async fn sign_in(&self, name: &str, password: &str) -> Step<Console> {
        // A connection that rested is let go before the service does so: a question that is sent just then has no answer.
        let http = reqwest::Client::builder().no_proxy().pool_idle_timeout(Duration::from_secs(2)).build()?;
        let response = http
            .post(self.http.join("api/session")?)
            .header(CONSOLE_HEADER, "1")
            .json(&json!({ "name": name, "password": password }))
            .send()
            .await?;
        let cookie = response
            .headers()
            .get("set-cookie")
            .and_then(|v| v.to_str().ok())
            .and_then(|v| v.split(';').next())
            .map(str::to_owned);
        if !response.status().is_success() {
            return Err(format!("signing in failed: {}", response.text().await?).into());
        }
        Ok(Console { http, base: self.http.clone(), cookie: cookie.ok_or("no session cookie came")? })
    }

    /// Somebody who has opened a link, by what stands in its address.
    pub async fn by_link(&self, secret: &str) -> Step<Console> {
        let http = reqwest::Client::builder().no_proxy().pool_idle_timeout(Duration::from_secs(2)).build()?;
        let response =
            http.post(self.http.join("api/outside")?).json(&json!({ "secret": secret })).send().await?.error_for_status()?;
        let cookie = response.headers().get("set-cookie").and_then(|v| v.to_str().ok()).and_then(|v| v.split(';').next());
        Ok(Console { http, base: self.http.clone(), cookie: cookie.ok_or("no cookie came")?.to_owned() })
    }

    /// Signs the keeper in.
    pub async fn keeper(&self) -> Step<Console> {
        let (name, password) = &self.options.keeper;
        self.sign_in(name, password).await
    }

    /// What it takes to add this house's store.
    pub fn store_form(&self) -> Value {
        json!({ "name": "North Quay", "endpoint": self.store.url(), "region": "north", "bucket": BUCKET, "prefix": "",
                "access_key": ACCESS_KEY, "secret_key": SECRET_KEY })
    }
}

impl Drop for House {
    fn drop(&mut self) {
        self.kill_service();
        // The service was killed or is gone; its database may still run.
        let _ = ypogeion_catalog::cluster::stop(&self.options.folder.join("data/database"));
    }
}

fn write_settings(options: &Options) -> Step<()> {
    let folder = &options.folder;
    let text = format!(
        "data_folder = {:?}\nlibrary = {:?}\nlisten = [\"http://127.0.0.1:{}\", \"https://127.0.0.1:{}\"]\nreserve_gb = {}\nadopt_from = [{:?}]\ncopy_to = [{:?}]\n{}\n\
         [offsite]\nprove_after_seconds = {}\nledger_after_seconds = 1\n{}\n",
        folder.join("data"),
        folder.join("library"),
        options.ports.0,
        options.ports.1,
        options.reserve_gb,
        folder.join("disks"),
        folder.join("drawer"),
        options.settings,
        options.prove_after,
        options.offsite
    );
    Ok(fs::write(folder.join("ypogeiond.toml"), text)?)
}

fn command(options: &Options, verb: &str) -> Step<Command> {
    let mut command = Command::new(program("ypogeiond")?);
    command.arg("--config").arg(options.folder.join("ypogeiond.toml")).arg(verb);
    if options.throw_away {
        command.env("YPOGEION_THROW_AWAY", "1");
    }
    command.envs(options.environment.iter().map(|(name, value)| (name, value)));
    Ok(command)
}

/// Somebody who has signed in.
#[derive(Clone)]
pub struct Console {
    http: reqwest::Client,
    base: Url,
    /// The session cookie, `name=value`.
    pub cookie: String,
}

/// An error, and what was behind it.
fn told(e: &dyn std::error::Error) -> String {
    std::iter::successors(Some(e), |e| e.source()).map(ToString::to_string).collect::<Vec<_>>().join(": ")
}

impl Console {
    /// Asks; an answer that is a problem is an error with its sentence.
    pub async fn ask(&self, method: Method, path: &str, body: Option<Value>) -> Step<Value> {
        let (status, value) = self.try_ask(method, path, body).await?;
        if status < 400 { Ok(value) } else { Err(format!("{path}: {status} {value}").into()) }
    }

    /// Sends a file by an address that takes uploads (tus, creation with upload); `said`: its metadata, as the protocol writes them.
    pub async fn send(&self, path: &str, said: &str, bytes: Vec<u8>) -> Step<()> {
        let request = self.http.request(Method::POST, self.base.join(path)?).header("cookie", &self.cookie);
        let request =
            request.header("Tus-Resumable", "1.0.0").header("Upload-Length", bytes.len()).header("Upload-Metadata", said);
        let answer = request.header("content-type", "application/offset+octet-stream").body(bytes).send().await?;
        if answer.status() == 201 { Ok(()) } else { Err(format!("{path}: {}", answer.status()).into()) }
    }

    /// Asks and returns status and body, whatever they are.
    pub async fn try_ask(&self, method: Method, path: &str, body: Option<Value>) -> Step<(u16, Value)> {
        let asks = method == Method::GET;
        let mut request =
            self.http.request(method, self.base.join(path)?).header("cookie", &self.cookie).header(CONSOLE_HEADER, "1");
        if let Some(body) = body {
            request = request.json(&body);
        }
        // What only asks is asked once more where the connection ended below it, as browsers do: on a starved machine, one that was just idle for long enough.
        let again = (asks).then(|| request.try_clone()).flatten();
        let response = match (request.send().await, again) {
            (Err(e), Some(again)) if e.is_request() && !e.is_connect() && !e.is_timeout() => again.send().await,
            (sent, _) => sent,
        };
        let response = response.map_err(|e| format!("{path}: {}", told(&e)))?;
        let status = response.status().as_u16();
        let text = response.text().await?;
        Ok((status, serde_json::from_str(&text).unwrap_or(Value::String(text))))
    }

    /// The bytes of an answer.
    pub async fn bytes(&self, path: &str) -> Step<Vec<u8>> {
        Ok(self.open(path).await?.bytes().await?.to_vec())
    }

    /// An answer whose bytes are read as they come.
    pub async fn open(&self, path: &str) -> Step<reqwest::Response> {
        Ok(self.http.get(self.base.join(path)?).header("cookie", &self.cookie).send().await?.error_for_status()?)
    }

    /// The overview.
    pub async fn overview(&self) -> Step<Overview> {
        Ok(serde_json::from_value(self.ask(Method::GET, "api/overview", None).await?)?)
    }

    /// The first store.
    pub async fn store(&self) -> Step<Store> {
        let stores: Vec<Store> = serde_json::from_value(self.ask(Method::GET, "api/stores", None).await?)?;
        stores.into_iter().next().ok_or_else(|| "there is no store".into())
    }

    /// Makes a pairing code for a member by name; returns its address.
    pub async fn pairing(&self, person: &str) -> Step<String> {
        let people = self.ask(Method::GET, "api/people", None).await?;
        let id = people.as_array().into_iter().flatten().find(|p| p["name"] == person).map(|p| p["id"].clone());
        let id = id.ok_or_else(|| format!("there is no {person}"))?;
        let pairing = self.ask(Method::POST, "api/pairings", Some(json!({ "person": id }))).await?;
        Ok(pairing["address"].as_str().ok_or("no address came")?.to_owned())
    }

    /// The text of the recovery kit.
    pub async fn kit(&self, password: &str) -> Step<String> {
        let kit = self.ask(Method::POST, "api/kit", Some(json!({ "password": password }))).await?;
        Ok(kit["text"].as_str().ok_or("no kit came")?.to_owned())
    }

    /// Waits until the store holds and has proven everything that is at home, and has listed it.
    pub async fn wait_until_proven(&self, seconds: u64) -> Step<Overview> {
        wait_for("everything to be proven offsite", seconds, async || {
            let (house, store) = (self.overview().await?, self.store().await?);
            let home = house.home.count > 0 && house.coming.count == 0;
            let all = home && house.proven.count == house.home.count && store.unlisted == 0;
            Ok(all.then_some(house))
        })
        .await
    }
}
