//! What the rehearsals share: a house in a folder that is thrown away, and a device in it.
#![allow(dead_code, reason = "each rehearsal uses a part of it")]

use std::path::{Path, PathBuf};

use reqwest::{Method, header::HeaderMap};
use serde_json::{Value, json};
use tempfile::TempDir;
use url::Url;
use ypogeion_rehearsal::{
    Step,
    device::Device,
    house::{Console, House, Options},
    wait_for, walk,
};

/// A household with its keeper signed in and, below it, the folder that it lives in.
pub struct World {
    pub house: House,
    pub keeper: Console,
    pub folder: TempDir,
}

/// A house with a keeper, and nothing else.
pub async fn world() -> World {
    world_with("").await
}

/// A house with more lines in its settings.
pub async fn world_with(settings: &str) -> World {
    world_of(|options| options.settings = settings.to_owned()).await
}

/// A house that is started in another way.
pub async fn world_of(change: impl FnOnce(&mut Options)) -> World {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::tempdir().unwrap();
    let mut options = Options::test(folder.path());
    change(&mut options);
    let house = House::start(options).await.unwrap();
    let keeper = house.keeper().await.unwrap();
    World { house, keeper, folder }
}

impl World {
    /// A paired computer of Juno's with one source, whose folder is returned.
    pub async fn computer(&self, name: &str) -> (Device, PathBuf) {
        self.computer_of("Juno", name).await
    }

    /// The same, of somebody else's.
    pub async fn computer_of(&self, person: &str, name: &str) -> (Device, PathBuf) {
        let source = self.folder.path().join(format!("{name}-pictures"));
        std::fs::create_dir_all(&source).unwrap();
        let device = Device::new(&self.folder.path().join(name));
        let address = self.keeper.pairing(person).await.unwrap();
        device.pair(&address, name, "computer", &[("Pictures", &source)]).await.unwrap();
        (device, source)
    }

    /// A device that speaks the protocol by hand.
    pub async fn raw_device(&self, name: &str) -> Raw {
        self.raw_device_of("Juno", name).await
    }

    /// The same, of somebody else's.
    pub async fn raw_device_of(&self, person: &str, name: &str) -> Raw {
        let (device, _) = self.computer_of(person, name).await;
        let home = ypogeion_agent::home::Home::open(device.folder()).unwrap();
        Raw {
            http: reqwest::Client::builder().no_proxy().build().unwrap(),
            base: self.house.http.clone(),
            token: home.paired().unwrap().token.clone(),
        }
    }

    /// What came belongs to its pictures.
    pub async fn gathered(&self) {
        let waits = "SELECT count(*) FROM job WHERE kind = 'group'";
        wait_for("files to be of their pictures", 60, async || Ok((self.sql(waits).trim() == "0").then_some(()))).await.unwrap();
    }

    /// Everything from the kit's stores into a folder of its own: the exit code, and what was said on the way.
    pub fn recover(&self, kit: &str, to: &str) -> (Option<i32>, String) {
        let (file, target) = (self.folder.path().join(format!("{to}.kit")), self.folder.path().join(to));
        std::fs::write(&file, kit).unwrap();
        let mut command = std::process::Command::new(ypogeion_rehearsal::program("ypogeiond").unwrap());
        let output = command.args(["recover", "--kit"]).arg(&file).arg("--to").arg(&target).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    }

    /// Whether that folder has what the library has, byte for byte and under the same names; and how many that is.
    pub fn came_back(&self, to: &str) -> (bool, usize) {
        let back = walk::originals_below(&self.folder.path().join(to)).unwrap();
        let there = walk::originals_below(&self.house.library()).unwrap();
        if back != there {
            println!("in {to} are {back:?}, and in the library {there:?}");
        }
        (back == there, back.len())
    }

    /// The same with the kit as it is now: all of so many.
    pub async fn recovers_all(&self, count: usize) {
        let kit = self.keeper.kit(&self.house.options.keeper.1).await.unwrap();
        let (code, said) = self.recover(&kit, "recovered");
        assert_eq!(code, Some(0), "{said}");
        assert_eq!(self.came_back("recovered"), (true, count));
    }

    /// Has the first store, or home, checked, and waits for what that says.
    pub async fn check(&self, store: bool, kind: &str) -> Value {
        let store = if store { json!(self.keeper.store().await.unwrap().id) } else { Value::Null };
        self.keeper.ask(Method::POST, "api/checks", Some(json!({ "store": store, "kind": kind }))).await.unwrap();
        wait_for("the check to end", 600, async || {
            let checks = self.keeper.ask(Method::GET, "api/checks", None).await?;
            let all = checks["checks"].as_array().ok_or("no checks")?;
            let this = all.iter().find(|c| c["store"] == store && c["kind"] == kind).ok_or("no such check")?;
            Ok((this["now"].is_null() && this["last"].is_object()).then(|| this["last"].clone()))
        })
        .await
        .unwrap()
    }

    /// A hand in the database, while the service runs with it. Returns what it says, unaligned.
    pub fn sql(&self, text: &str) -> String {
        self.house.sql(text).unwrap_or_else(|e| panic!("{text}: {e}"))
    }

    pub async fn add_store(&self) {
        self.keeper.ask(Method::POST, "api/stores", Some(self.house.store_form())).await.unwrap();
    }
}

/// Whatever was rehearsed, what is counted is what is there.
impl Drop for World {
    fn drop(&mut self) {
        if !std::thread::panicking() {
            assert_eq!(self.house.miscounts().unwrap(), "", "counts that are wrong");
        }
    }
}

/// Requests as any program could make them.
#[derive(Clone)]
pub struct Raw {
    pub http: reqwest::Client,
    pub base: Url,
    pub token: String,
}

/// An answer: status, headers, body.
pub struct Answered {
    pub status: u16,
    pub headers: HeaderMap,
    pub body: String,
}

impl Answered {
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|v| v.to_str().ok()).unwrap_or("")
    }

    /// The last part of the problem's type.
    pub fn problem(&self) -> String {
        let value: serde_json::Value = serde_json::from_str(&self.body).unwrap_or_default();
        assert_eq!(self.header("content-type"), "application/problem+json", "{} {}", self.status, self.body);
        let detail = value["detail"].as_str().unwrap_or_default();
        assert!(detail.len() > 15 && detail.ends_with(['.', ']']), "a problem says what to do: {detail:?}");
        value["type"].as_str().unwrap_or_default().rsplit(':').next().unwrap_or_default().to_owned()
    }
}

impl Raw {
    pub async fn send(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answered {
        let mut request = self
            .http
            .request(Method::from_bytes(method.as_bytes()).unwrap(), self.base.join(path.trim_start_matches('/')).unwrap())
            .bearer_auth(&self.token);
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let response = request.body(body.to_vec()).send().await.unwrap();
        Answered {
            status: response.status().as_u16(),
            headers: response.headers().clone(),
            body: response.text().await.unwrap_or_default(),
        }
    }

    /// A tus request.
    pub async fn tus(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answered {
        self.send(method, path, &[&[("Tus-Resumable", "1.0.0")], headers].concat(), body).await
    }

    /// Creates an upload and returns its path.
    pub async fn create(&self, length: usize, metadata: &str) -> String {
        let made = self.tus("POST", "tus/", &[("Upload-Length", &length.to_string()), ("Upload-Metadata", metadata)], b"").await;
        assert_eq!(made.status, 201, "{}", made.body);
        made.header("location").to_owned()
    }

    /// Sends bytes from an offset on.
    pub async fn append(&self, path: &str, offset: usize, bytes: &[u8]) -> Answered {
        self.tus(
            "PATCH",
            path,
            &[("Upload-Offset", &offset.to_string()), ("Content-Type", "application/offset+octet-stream")],
            bytes,
        )
        .await
    }
}

/// `Upload-Metadata` from pairs.
pub fn metadata(pairs: &[(&str, &str)]) -> String {
    pairs.iter().map(|(k, v)| format!("{k} {}", data_encoding::BASE64.encode(v.as_bytes()))).collect::<Vec<_>>().join(",")
}

/// All files of the library, by their paths.
pub fn library_files(house: &House) -> Vec<String> {
    let files = ypogeion_rehearsal::walk::originals_below(&house.library()).unwrap();
    files.keys().map(|p| p.to_string_lossy().into_owned()).collect()
}

/// Writes a file.
pub fn put(folder: &Path, name: &str, bytes: &[u8]) -> Step<()> {
    let path = folder.join(name);
    std::fs::create_dir_all(path.parent().unwrap())?;
    Ok(std::fs::write(path, bytes)?)
}
