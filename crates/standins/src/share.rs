//! A WebDAV share with a name and a password, as a network storage box has one. The protocol is the `dav-server` crate's; what is ours is
//! the door in front of it, that it refuses to list a whole tree at once, as most do, and what goes wrong on request: of the [`Faults`],
//! those that a share has as well (`latency_ms`, `error_percent`, `cut_percent`, `outage`, `full`).

use std::{
    convert::Infallible,
    fs, io,
    net::SocketAddr,
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use dav_server::{DavHandler, localfs::LocalFs};
use http_body_util::{BodyExt, combinators::UnsyncBoxBody};
use hyper::{Method, Request, Response, StatusCode, body::Incoming, service::service_fn};
use hyper_util::rt::TokioIo;
use tokio::{net::TcpListener, task::JoinSet};

use crate::faults::{Chances, Faults};

/// A running share. Ends when dropped.
pub struct StandInShare {
    /// Its address.
    pub address: SocketAddr,
    state: Arc<State>,
    _tasks: JoinSet<()>,
}

struct State {
    handler: DavHandler,
    /// What somebody has to say at the door.
    word: String,
    faults: Mutex<Faults>,
    chances: Chances,
}

impl State {
    fn faults(&self) -> Faults {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

type Answer = Response<UnsyncBoxBody<bytes::Bytes, io::Error>>;

impl StandInShare {
    /// Starts a share of a folder on loopback.
    pub async fn start(folder: PathBuf, name: &str, password: &str) -> io::Result<Self> {
        fs::create_dir_all(&folder)?;
        let handler = DavHandler::builder().filesystem(LocalFs::new(folder, false, false, false)).build_handler();
        let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
        let address = listener.local_addr()?;
        let word = format!("Basic {}", data_encoding::BASE64.encode(format!("{name}:{password}").as_bytes()));
        let state = Arc::new(State { handler, word, faults: Mutex::default(), chances: Chances::default() });
        let mut tasks = JoinSet::new();
        tasks.spawn(serve(listener, Arc::clone(&state)));
        Ok(StandInShare { address, state, _tasks: tasks })
    }

    /// Its address as a store's.
    pub fn url(&self) -> String {
        format!("dav://{}", self.address)
    }

    /// Changes what goes wrong from now on.
    pub fn set_faults(&self, faults: Faults) {
        *self.state.faults.lock().unwrap_or_else(PoisonError::into_inner) = faults;
    }
}

async fn serve(listener: TcpListener, state: Arc<State>) {
    let mut connections = JoinSet::new();
    loop {
        while connections.try_join_next().is_some() {}
        let Ok((socket, _)) = listener.accept().await else { continue };
        if state.faults().outage {
            continue; // Dropped: the caller sees a closed connection.
        }
        let state = Arc::clone(&state);
        connections.spawn(async move {
            let answer = service_fn(move |request| answer(Arc::clone(&state), request));
            // An error is a connection that we or the caller cut.
            let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(socket), answer).await;
        });
    }
}

async fn answer(state: Arc<State>, request: Request<Incoming>) -> io::Result<Answer> {
    let faults = state.faults();
    tokio::time::sleep(Duration::from_millis(faults.latency_ms)).await;
    if faults.outage || state.chances.meets(faults.cut_percent, 17) {
        return Err(io::Error::other("cut on request"));
    }
    if state.chances.meets(faults.error_percent, 5) {
        return refuse(request, StatusCode::SERVICE_UNAVAILABLE).await;
    }
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    if header("authorization") != Some(state.word.as_str()) {
        return refuse(request, StatusCode::UNAUTHORIZED).await;
    }
    if request.method().as_str() == "PROPFIND" && header("depth").is_none_or(|d| d == "infinity") {
        return refuse(request, StatusCode::FORBIDDEN).await;
    }
    if faults.full && request.method() == Method::PUT {
        return refuse(request, StatusCode::INSUFFICIENT_STORAGE).await;
    }
    let (parts, body) = state.handler.handle(request).await.into_parts();
    Ok(Response::from_parts(parts, body.boxed_unsync()))
}

/// Read to its end: who still sends would not hear the answer.
async fn refuse(request: Request<Incoming>, status: StatusCode) -> io::Result<Answer> {
    let mut body = request.into_body();
    while body.frame().await.is_some_and(|frame| frame.is_ok()) {}
    let mut response = Response::new(http_body_util::Empty::new().map_err(|never: Infallible| match never {}).boxed_unsync());
    *response.status_mut() = status;
    Ok(response)
}
