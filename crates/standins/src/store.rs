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
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use bytes::Bytes;
use http_body_util::{BodyExt, Full};
use hyper::{Method, Request, Response, StatusCode, body::Incoming, service::service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use percent_encoding::percent_decode_str;
use s3s::{
    auth::SimpleAuth,
    service::{S3Service, S3ServiceBuilder},
};
use s3s_fs::FileSystem;
use serde::{Deserialize, Serialize};
use tokio::{net::TcpListener, task::JoinSet};

use crate::{
    faults::{Chances, Faults, refusal},
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
    /// Uploads in parts that it has seen, and whether they are none any more: put together, or forgotten.
    uploads: Mutex<std::collections::HashMap<String, bool>>,
    chances: Chances,
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
            chances: Chances::default(),
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
            counts.objects += u64::from(path.contains("/sealed/") && query.is_empty());
        }
        let mut uploads = self.uploads.lock().unwrap_or_else(PoisonError::into_inner);
        part("uploadId=").is_some_and(|id| *uploads.entry(id).or_default())
    }

    /// An upload in parts that was put together is none any more.
    fn put_together(&self, query: &str) {
        if let Some(id) = query.split('&').find_map(|p| p.strip_prefix("uploadId=")) {
            self.uploads.lock().unwrap_or_else(PoisonError::into_inner).insert(id.to_owned(), true);
        }
    }

    fn meets(&self, percent: u8, salt: u64) -> bool {
        self.chances.meets(percent, salt)
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
    if let Some(busy) = trouble(&faults, &state, &request).await? {
        return Ok(busy);
    }
    if let Some(refused) = refused(&faults, &state, &request) {
        // Read to its end: who still sends would not hear the answer.
        let mut body = request.into_body();
        while body.frame().await.is_some_and(|frame| frame.is_ok()) {}
        return Ok(refused);
    }
    let asked = Asked::of(&state.folder, &request);
    let unlooked = faults.swallows || faults.ignores_crc && request.headers().contains_key("x-amz-checksum-crc64nvme");
    if unlooked && asked.is_put && asked.query.is_empty() {
        return taken_unlooked(&faults, &state, &asked, request).await;
    }
    served(&faults, &state, service, &asked, request).await
}

/// What a request is about.
struct Asked {
    is_put: bool,
    is_post: bool,
    query: String,
    /// The bucket's folder.
    place: PathBuf,
    key: String,
    is_original: bool,
}

impl Asked {
    fn of(folder: &Path, request: &Request<Incoming>) -> Self {
        let mut path = request.uri().path().splitn(3, '/').skip(1);
        let (bucket, key) = (path.next().unwrap_or_default(), path.next().unwrap_or_default());
        let key = percent_decode_str(key).decode_utf8_lossy().into_owned();
        Asked {
            is_put: *request.method() == Method::PUT,
            is_post: *request.method() == Method::POST,
            query: request.uri().query().unwrap_or_default().to_owned(),
            place: folder.join(bucket),
            is_original: key.split('/').any(|part| part == "sealed"),
            key,
        }
    }
}

fn length(request: &Request<Incoming>) -> u64 {
    request.headers().get("content-length").and_then(|l| l.to_str().ok()?.parse().ok()).unwrap_or(0)
}

/// What happens on the line, whatever is asked.
async fn trouble(faults: &Faults, state: &State, request: &Request<Incoming>) -> Result<Option<Response<s3s::Body>>, Cut> {
    tokio::time::sleep(Duration::from_millis(faults.latency_ms)).await;
    if faults.outage || state.meets(faults.cut_percent, 17) {
        return Err(Cut);
    }
    if state.meets(faults.error_percent, 5) {
        let mut busy = refusal(StatusCode::SERVICE_UNAVAILABLE, "SlowDown", "Please reduce your request rate.");
        if faults.retry_after > 0 {
            busy.headers_mut().insert("retry-after", faults.retry_after.into());
        }
        return Ok(Some(busy));
    }
    if let Some(wait) = (length(request) * 1000).checked_div(faults.trickle) {
        tokio::time::sleep(Duration::from_millis(wait)).await;
    }
    Ok(None)
}

/// What is refused before anything is looked up.
fn refused(faults: &Faults, state: &State, request: &Request<Incoming>) -> Option<Response<s3s::Body>> {
    if let Some(refused) = quirks::refused(faults, request, || stored(&state.folder)) {
        return Some(with_words(faults, refused));
    }
    if faults.full && matches!(*request.method(), Method::PUT | Method::POST) {
        return Some(refusal(StatusCode::INSUFFICIENT_STORAGE, "InsufficientStorage", "There is no room left."));
    }
    let bucket = request.uri().path().split('/').nth(1).unwrap_or_default();
    if bucket.is_empty() || bucket.starts_with('.') || !state.folder.join(bucket).is_dir() {
        // The library behind would make the bucket on the first PUT; real stores do not.
        let refused = refusal(StatusCode::NOT_FOUND, "NoSuchBucket", "The specified bucket does not exist.");
        return Some(with_words(faults, refused));
    }
    let query = request.uri().query().unwrap_or_default();
    let forgotten = state.count(request.uri().path(), query, length(request), *request.method() == Method::PUT);
    forgotten.then(|| refusal(StatusCode::NOT_FOUND, "NoSuchUpload", "The specified upload does not exist."))
}

/// Takes what comes as it is, and perhaps spoils it.
async fn taken_unlooked(
    faults: &Faults,
    state: &State,
    asked: &Asked,
    request: Request<Incoming>,
) -> Result<Response<s3s::Body>, Cut> {
    let Ok(body) = request.into_body().collect().await else { return Err(Cut) };
    let mut bytes = body.to_bytes().to_vec();
    if asked.is_original && state.meets(faults.spoil_percent, 41) {
        let middle = bytes.len() / 2;
        bytes.iter_mut().skip(middle).take(1).for_each(|b| *b ^= 0b0001_0000);
    }
    Ok(match quirks::swallow(&asked.place, &asked.key, &Bytes::from(bytes)) {
        Ok(()) => {
            let mut taken = with_words(faults, Response::new(s3s::Body::empty()));
            taken.headers_mut().insert("etag", hyper::header::HeaderValue::from_static("\"taken\""));
            taken
        }
        Err(_) => refusal(StatusCode::BAD_REQUEST, "InvalidRequest", "That is no key."),
    })
}

/// Has the library behind answer, and changes what the faults change about that.
async fn served(
    faults: &Faults,
    state: &State,
    service: S3Service,
    asked: &Asked,
    request: Request<Incoming>,
) -> Result<Response<s3s::Body>, Cut> {
    let request = request.map(s3s::Body::from);
    if faults.ignores_conditions && asked.is_put && request.headers().contains_key("if-none-match") {
        // The condition is signed and cannot be taken away; but it holds if nothing is there.
        let _ = fs::remove_file(asked.place.join(&asked.key));
    }
    let Ok(mut response) = service.call(request).await else {
        return Ok(refusal(StatusCode::INTERNAL_SERVER_ERROR, "InternalError", "The request could not be handled."));
    };
    if response.status() != StatusCode::OK {
        return Ok(with_words(faults, response));
    }
    if asked.is_post {
        state.put_together(&asked.query);
    }
    if faults.list_lag_seconds > 0 && asked.query.contains("list-type=2") {
        let (mut parts, body) = response.into_parts();
        let Ok(list) = body.collect().await else { return Err(Cut) };
        let lag = Duration::from_secs(faults.list_lag_seconds.into());
        let kept = quirks::without_the_latest(&String::from_utf8_lossy(&list.to_bytes()), lag);
        parts.headers.remove("content-length");
        response = Response::from_parts(parts, s3s::Body::from(Bytes::from(kept)));
    }
    if asked.is_put && asked.is_original && state.meets(faults.forget_percent, 29) {
        let _ = fs::remove_file(asked.place.join(&asked.key));
    }
    Ok(with_words(faults, response))
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
        } else if path.extension().is_some_and(|e| e == "age") && path.components().any(|c| c.as_os_str() == "sealed") {
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
    fn damage_reaches_sealed_objects_only() {
        let folder = tempfile::tempdir().unwrap();
        let objects = folder.path().join("bucket/sealed/ab");
        fs::create_dir_all(&objects).unwrap();
        fs::write(objects.join("x.age"), b"sealed").unwrap();
        fs::write(folder.path().join("bucket/FORMAT.json"), b"{}").unwrap();
        assert_eq!(damage(folder.path(), 5, flip_bit).unwrap(), ["bucket/sealed/ab/x.age"]);
        assert_eq!(fs::read(objects.join("x.age")).unwrap(), b"sea|ed");
        assert_eq!(fs::read(folder.path().join("bucket/FORMAT.json")).unwrap(), b"{}");
    }
}
