//! An object store with faults.
//!
//! The S3 protocol, its signatures and its disk are the `s3s` and `s3s-fs` crates; what is ours is the trouble in front of
//! them, and a small control address beside them:
//!
//! * `GET /faults` and `PUT /faults` – read or replace the [`Faults`], as JSON.
//! * `GET /counts` – what it has seen so far, as JSON: the [`Counts`].
//! * `POST /tear` – forget all uploads in parts that are under way.
//! * `POST /flip?objects=N` – flip one bit in each of N stored objects; answers with their names.
//! * `POST /lose?objects=N` – remove N stored objects behind everybody's back; answers with their names. `POST /lose?prefix=P` removes
//!   everything below a prefix.

use std::{
    convert::Infallible,
    fs, io,
    net::SocketAddr,
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::{Method, Request, Response, StatusCode, body::Incoming, service::service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use s3s::{
    auth::SimpleAuth,
    service::{S3Service, S3ServiceBuilder},
};
use s3s_fs::FileSystem;
use serde::{Deserialize, Serialize};
use tokio::{net::TcpListener, task::JoinSet};

use crate::{
    faults::{Faults, refusal},
    quirks,
};

/// What a store has seen so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counts {
    /// What was stored in one request.
    pub puts: u64,
    /// Of these, sealed originals.
    pub objects: u64,
    /// Parts of objects.
    pub parts: u64,
    /// Bytes of both.
    pub bytes: u64,
}

/// Where and how the stand-in runs.
#[derive(Clone, Debug)]
pub struct Options {
    /// Objects are kept below this folder, one folder for each bucket.
    pub folder: PathBuf,
    /// The one bucket that is there from the start.
    pub bucket: String,
    /// Access key id.
    pub access_key: String,
    /// Secret access key.
    pub secret_key: String,
    /// Port of the store; 0 takes a free one.
    pub port: u16,
    /// Port of the control address; 0 takes a free one.
    pub control_port: u16,
}

/// A running stand-in. Ends when dropped.
pub struct StandInStore {
    /// The store's address.
    pub address: SocketAddr,
    /// The control address.
    pub control: SocketAddr,
    state: Arc<State>,
    _tasks: JoinSet<()>,
}

struct State {
    folder: PathBuf,
    faults: Mutex<Faults>,
    counts: Mutex<Counts>,
    /// Uploads in parts that it has seen, and whether it has forgotten them.
    uploads: Mutex<std::collections::HashMap<String, bool>>,
    /// Turns shares into decisions: the same requests in the same order meet the same faults.
    requests: AtomicU64,
}

impl State {
    fn faults(&self) -> Faults {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn new(folder: PathBuf) -> Self {
        State {
            folder,
            faults: Mutex::default(),
            counts: Mutex::default(),
            uploads: Mutex::default(),
            requests: AtomicU64::new(0),
        }
    }

    /// Notes a body that came, and says whether it belongs to an upload that was forgotten.
    fn count(&self, path: &str, query: &str, length: u64, put: bool) -> bool {
        let part = |name: &str| query.split('&').find_map(|p| p.strip_prefix(name)).map(str::to_owned);
        if put {
            let mut counts = self.counts.lock().unwrap_or_else(PoisonError::into_inner);
            counts.bytes += length;
            if part("partNumber=").is_some() {
                counts.parts += 1
            } else {
                counts.puts += 1
            }
            counts.objects += u64::from(path.contains("/objects/") && query.is_empty());
        }
        let mut uploads = self.uploads.lock().unwrap_or_else(PoisonError::into_inner);
        part("uploadId=").is_some_and(|id| *uploads.entry(id).or_default())
    }

    /// Whether the next request meets a fault of this share. A fixed scramble of a counter, so that runs repeat.
    fn meets(&self, percent: u8, salt: u64) -> bool {
        let n = self.requests.fetch_add(1, Ordering::Relaxed).wrapping_add(salt);
        let scrambled = n.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(31).wrapping_mul(0xbf58_476d_1ce4_e5b9) >> 33;
        scrambled % 100 < u64::from(percent)
    }
}

impl StandInStore {
    /// Starts the stand-in on loopback.
    pub async fn start(options: Options) -> io::Result<Self> {
        fs::create_dir_all(options.folder.join(&options.bucket))?;
        let files = FileSystem::new(&options.folder).map_err(|e| io::Error::other(format!("{e:?}")))?;
        let mut builder = S3ServiceBuilder::new(files);
        builder.set_auth(SimpleAuth::from_single(options.access_key, options.secret_key));
        let service = builder.build();
        let state = Arc::new(State::new(options.folder));
        let (store, control) = (
            TcpListener::bind(("127.0.0.1", options.port)).await?,
            TcpListener::bind(("127.0.0.1", options.control_port)).await?,
        );
        let (address, control_address) = (store.local_addr()?, control.local_addr()?);
        let mut tasks = JoinSet::new();
        tasks.spawn(serve_store(store, service, Arc::clone(&state)));
        tasks.spawn(serve_control(control, Arc::clone(&state)));
        Ok(StandInStore { address, control: control_address, state, _tasks: tasks })
    }

    /// The store's URL.
    pub fn url(&self) -> String {
        match self.address.port() {
            80 => format!("http://{}", self.address.ip()),
            _ => format!("http://{}", self.address),
        }
    }

    /// Changes what goes wrong from now on.
    pub fn set_faults(&self, faults: Faults) {
        *self.state.faults.lock().unwrap_or_else(PoisonError::into_inner) = faults;
    }

    /// What it has seen so far.
    pub fn counts(&self) -> Counts {
        *self.state.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Forgets all uploads in parts that are under way.
    pub fn tear(&self) {
        self.state.uploads.lock().unwrap_or_else(PoisonError::into_inner).values_mut().for_each(|torn| *torn = true);
    }

    /// Removes everything below a prefix; returns how much that was.
    pub fn lose_below(&self, prefix: &str) -> io::Result<usize> {
        lose_below(&self.state.folder, prefix)
    }

    /// Flips one bit in each of `count` sealed objects; returns their names.
    pub fn flip(&self, count: usize) -> io::Result<Vec<String>> {
        damage(&self.state.folder, count, flip_bit)
    }

    /// Removes `count` sealed objects; returns their names.
    pub fn lose(&self, count: usize) -> io::Result<Vec<String>> {
        damage(&self.state.folder, count, |path| fs::remove_file(path))
    }
}

async fn serve_store(listener: TcpListener, service: S3Service, state: Arc<State>) {
    let mut connections = JoinSet::new();
    loop {
        while connections.try_join_next().is_some() {}
        let Ok((socket, _)) = listener.accept().await else { continue };
        if state.faults().outage {
            continue; // Dropped: the caller sees a closed connection.
        }
        // Answers are small and waited for.
        let _ = socket.set_nodelay(true);
        let (service, state) = (service.clone(), Arc::clone(&state));
        connections.spawn(async move {
            let answer = service_fn(move |request| answer(service.clone(), Arc::clone(&state), request));
            // An error is a connection that we or the caller cut.
            let _ = hyper::server::conn::http1::Builder::new()
                .timer(TokioTimer::new())
                .serve_connection(TokioIo::new(socket), answer)
                .await;
        });
    }
}

#[derive(Debug)]
struct Cut;

impl std::fmt::Display for Cut {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("cut on request")
    }
}
impl std::error::Error for Cut {}

async fn answer(service: S3Service, state: Arc<State>, request: Request<Incoming>) -> Result<Response<s3s::Body>, Cut> {
    let faults = state.faults();
    tokio::time::sleep(Duration::from_millis(faults.latency_ms)).await;
    if faults.outage || state.meets(faults.cut_percent, 17) {
        return Err(Cut);
    }
    if state.meets(faults.error_percent, 5) {
        let mut busy = refusal(StatusCode::SERVICE_UNAVAILABLE, "SlowDown", "Please reduce your request rate.");
        if faults.retry_after > 0 {
            busy.headers_mut().insert("retry-after", faults.retry_after.into());
        }
        return Ok(busy);
    }
    let length = request.headers().get("content-length").and_then(|l| l.to_str().ok()?.parse::<u64>().ok()).unwrap_or(0);
    if let Some(wait) = (length * 1000).checked_div(faults.trickle) {
        tokio::time::sleep(Duration::from_millis(wait)).await;
    }
    if let Some(refused) = quirks::refused(&faults, &request, || stored(&state.folder)) {
        // Read to its end: who still sends would not hear the answer.
        let mut body = request.into_body();
        while body.frame().await.is_some_and(|frame| frame.is_ok()) {}
        return Ok(with_words(&faults, refused));
    }
    if faults.full && matches!(*request.method(), Method::PUT | Method::POST) {
        // Taken to its end and thrown away, as by a store with a proxy in front: who still sends would not hear the answer.
        let mut body = request.into_body();
        while body.frame().await.is_some_and(|frame| frame.is_ok()) {}
        return Ok(refusal(StatusCode::INSUFFICIENT_STORAGE, "InsufficientStorage", "There is no room left."));
    }
    let bucket = request.uri().path().split('/').nth(1).unwrap_or_default();
    if bucket.is_empty() || bucket.starts_with('.') || !state.folder.join(bucket).is_dir() {
        // The library behind would make the bucket on the first PUT; real stores do not.
        let refused = refusal(StatusCode::NOT_FOUND, "NoSuchBucket", "The specified bucket does not exist.");
        return Ok(with_words(&faults, refused));
    }
    let query = request.uri().query().unwrap_or_default().to_owned();
    let is_put = *request.method() == Method::PUT;
    if state.count(request.uri().path(), &query, length, is_put) {
        let mut body = request.into_body();
        while body.frame().await.is_some_and(|frame| frame.is_ok()) {}
        return Ok(refusal(StatusCode::NOT_FOUND, "NoSuchUpload", "The specified upload does not exist."));
    }
    let (bucket, key) = (bucket.to_owned(), request.uri().path().splitn(3, '/').nth(2).unwrap_or_default().to_owned());
    let place = state.folder.join(bucket);
    if faults.swallows && is_put && query.is_empty() {
        let Ok(body) = request.into_body().collect().await else { return Err(Cut) };
        let mut bytes = body.to_bytes().to_vec();
        if key.starts_with("objects/") && state.meets(faults.spoil_percent, 41) {
            let middle = bytes.len() / 2;
            bytes.iter_mut().skip(middle).take(1).for_each(|b| *b ^= 0b0001_0000);
        }
        return Ok(match quirks::swallow(&place, &key, &Bytes::from(bytes)) {
            Ok(()) => {
                let mut taken = with_words(&faults, Response::new(s3s::Body::empty()));
                taken.headers_mut().insert("etag", hyper::header::HeaderValue::from_static("\"taken\""));
                taken
            }
            Err(_) => refusal(StatusCode::BAD_REQUEST, "InvalidRequest", "That is no key."),
        });
    }
    let request = request.map(s3s::Body::from);
    if faults.ignores_conditions && is_put && request.headers().contains_key("if-none-match") {
        // The condition is signed and cannot be taken away; but it holds if nothing is there.
        let _ = fs::remove_file(place.join(&key));
    }
    let Ok(mut response) = service.call(request).await else {
        return Ok(refusal(StatusCode::INTERNAL_SERVER_ERROR, "InternalError", "The request could not be handled."));
    };
    if faults.list_lag_seconds > 0 && query.contains("list-type=2") && response.status() == StatusCode::OK {
        let (mut parts, body) = response.into_parts();
        let Ok(list) = body.collect().await else { return Err(Cut) };
        let lag = Duration::from_secs(faults.list_lag_seconds.into());
        let kept = quirks::without_the_latest(&String::from_utf8_lossy(&list.to_bytes()), lag);
        parts.headers.remove("content-length");
        response = Response::from_parts(parts, s3s::Body::from(Bytes::from(kept)));
    }
    if is_put && key.starts_with("objects/") && response.status() == StatusCode::OK && state.meets(faults.forget_percent, 29) {
        let _ = fs::remove_file(place.join(&key));
    }
    Ok(with_words(&faults, response))
}

fn with_words(faults: &Faults, mut response: Response<s3s::Body>) -> Response<s3s::Body> {
    quirks::said(faults, response.headers_mut());
    response
}

/// Bytes of everything that is stored.
fn stored(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|e| if e.path().is_dir() { stored(&e.path()) } else { e.metadata().map_or(0, |m| m.len()) }).sum()
}

/// Removes the files below `prefix` of any bucket.
fn lose_below(folder: &Path, prefix: &str) -> io::Result<usize> {
    fn files(folder: &Path, found: &mut Vec<PathBuf>) -> io::Result<()> {
        for entry in fs::read_dir(folder)? {
            let path = entry?.path();
            if path.is_dir() { files(&path, found)? } else { found.push(path) }
        }
        Ok(())
    }
    let mut lost = 0;
    for bucket in fs::read_dir(folder)? {
        let bucket = bucket?.path();
        let mut found = Vec::new();
        if bucket.is_dir() {
            files(&bucket, &mut found)?;
        }
        for path in found {
            let key = path.strip_prefix(&bucket).map(|k| k.to_string_lossy().into_owned()).unwrap_or_default();
            if key.starts_with(prefix) {
                fs::remove_file(path)?;
                lost += 1;
            }
        }
    }
    Ok(lost)
}

async fn serve_control(listener: TcpListener, state: Arc<State>) {
    let mut connections = JoinSet::new();
    loop {
        while connections.try_join_next().is_some() {}
        let Ok((socket, _)) = listener.accept().await else { continue };
        let state = Arc::clone(&state);
        connections.spawn(async move {
            let answer = service_fn(move |request| control(Arc::clone(&state), request));
            let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(socket), answer).await;
        });
    }
}

async fn control(state: Arc<State>, request: Request<Incoming>) -> Result<Response<Full<Bytes>>, Infallible> {
    let count = || {
        let query = request.uri().query().unwrap_or_default();
        query.split('&').find_map(|p| p.strip_prefix("objects=")?.parse().ok()).unwrap_or(1usize)
    };
    let prefix = || request.uri().query()?.split('&').find_map(|p| p.strip_prefix("prefix=")).map(str::to_owned);
    let (status, text) = match (request.method().clone(), request.uri().path().to_owned().as_str()) {
        (Method::GET, "/faults") => (StatusCode::OK, serde_json::to_string(&state.faults()).unwrap_or_default()),
        (Method::PUT, "/faults") => {
            let body = request.into_body().collect().await.map(http_body_util::Collected::to_bytes).unwrap_or_default();
            match serde_json::from_slice(&body) {
                Ok(faults) => {
                    let said = serde_json::to_string(&faults).unwrap_or_default();
                    *state.faults.lock().unwrap_or_else(PoisonError::into_inner) = faults;
                    (StatusCode::OK, said)
                }
                Err(e) => (StatusCode::BAD_REQUEST, e.to_string()),
            }
        }
        (Method::GET, "/counts") => {
            let counts = *state.counts.lock().unwrap_or_else(PoisonError::into_inner);
            (StatusCode::OK, serde_json::to_string(&counts).unwrap_or_default())
        }
        (Method::POST, "/tear") => {
            state.uploads.lock().unwrap_or_else(PoisonError::into_inner).values_mut().for_each(|torn| *torn = true);
            (StatusCode::OK, "forgotten".to_owned())
        }
        (Method::POST, "/lose") if prefix().is_some() => match lose_below(&state.folder, &prefix().unwrap_or_default()) {
            Ok(lost) => (StatusCode::OK, lost.to_string()),
            Err(e) => (StatusCode::INTERNAL_SERVER_ERROR, e.to_string()),
        },
        (Method::POST, "/flip") => named(damage(&state.folder, count(), flip_bit)),
        (Method::POST, "/lose") => named(damage(&state.folder, count(), |path| fs::remove_file(path))),
        _ => (StatusCode::NOT_FOUND, "there are /faults, /counts, /tear, /flip and /lose here".to_owned()),
    };
    let mut response = Response::new(Full::new(Bytes::from(text)));
    *response.status_mut() = status;
    Ok(response)
}

fn named(names: io::Result<Vec<String>>) -> (StatusCode, String) {
    match names {
        Ok(names) => (StatusCode::OK, serde_json::to_string(&names).unwrap_or_default()),
        Err(e) => (StatusCode::INTERNAL_SERVER_ERROR, e.to_string()),
    }
}

/// Does something bad to `count` sealed objects, spread evenly over all of them in the order of their names.
fn damage(folder: &Path, count: usize, harm: impl Fn(&Path) -> io::Result<()>) -> io::Result<Vec<String>> {
    let mut objects = Vec::new();
    collect(folder, &mut objects)?;
    objects.sort();
    let step = (objects.len() / count.max(1)).max(1);
    let mut names = Vec::new();
    for path in objects.into_iter().step_by(step).take(count) {
        harm(&path)?;
        names.push(path.strip_prefix(folder).unwrap_or(&path).display().to_string());
    }
    Ok(names)
}

fn collect(folder: &Path, found: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            collect(&path, found)?;
        } else if path.extension().is_some_and(|e| e == "age") && path.components().any(|c| c.as_os_str() == "objects") {
            found.push(path);
        }
    }
    Ok(())
}

fn flip_bit(path: &Path) -> io::Result<()> {
    let mut bytes = fs::read(path)?;
    let middle = bytes.len() / 2;
    bytes[middle] ^= 0b0001_0000;
    fs::write(path, bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_of_faults_are_about_right_and_repeat() {
        let state = || State::new(PathBuf::new());
        let run = |s: &State| (0..10_000).map(|_| s.meets(5, 3)).collect::<Vec<_>>();
        let (a, b) = (run(&state()), run(&state()));
        assert_eq!(a, b);
        let met = a.iter().filter(|m| **m).count();
        assert!((350..650).contains(&met), "{met}");
    }

    #[test]
    fn damage_reaches_sealed_objects_only() {
        let folder = tempfile::tempdir().unwrap();
        let objects = folder.path().join("bucket/objects/ab");
        fs::create_dir_all(&objects).unwrap();
        fs::write(objects.join("x.age"), b"sealed").unwrap();
        fs::write(folder.path().join("bucket/FORMAT.json"), b"{}").unwrap();
        assert_eq!(damage(folder.path(), 5, flip_bit).unwrap(), ["bucket/objects/ab/x.age"]);
        assert_eq!(fs::read(objects.join("x.age")).unwrap(), b"sea|ed");
        assert_eq!(fs::read(folder.path().join("bucket/FORMAT.json")).unwrap(), b"{}");
    }
}
