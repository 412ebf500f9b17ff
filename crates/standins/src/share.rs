//! A WebDAV share with a name and a password, as a network storage box has one. The protocol is the `dav-server` crate's; what is ours is
//! the door in front of it, and that it refuses to list a whole tree at once, as most do.

use std::{convert::Infallible, fs, io, net::SocketAddr, path::PathBuf, sync::Arc};

use dav_server::{DavHandler, localfs::LocalFs};
use http_body_util::{BodyExt, combinators::UnsyncBoxBody};
use hyper::{Request, Response, StatusCode, body::Incoming, service::service_fn};
use hyper_util::rt::TokioIo;
use tokio::{net::TcpListener, task::JoinSet};

/// A running share. Ends when dropped.
pub struct StandInShare {
    /// Its address.
    pub address: SocketAddr,
    _tasks: JoinSet<()>,
}

type Answer = Response<UnsyncBoxBody<bytes::Bytes, io::Error>>;

impl StandInShare {
    /// Starts a share of a folder on loopback.
    pub async fn start(folder: PathBuf, name: &str, password: &str) -> io::Result<Self> {
        fs::create_dir_all(&folder)?;
        let handler = DavHandler::builder().filesystem(LocalFs::new(folder, false, false, false)).build_handler();
        let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
        let address = listener.local_addr()?;
        let door = Arc::new(format!("Basic {}", data_encoding::BASE64.encode(format!("{name}:{password}").as_bytes())));
        let mut tasks = JoinSet::new();
        tasks.spawn(async move {
            let mut connections = JoinSet::new();
            loop {
                while connections.try_join_next().is_some() {}
                let Ok((socket, _)) = listener.accept().await else { continue };
                let (handler, door) = (handler.clone(), Arc::clone(&door));
                connections.spawn(async move {
                    let answer = service_fn(move |request| answer(handler.clone(), Arc::clone(&door), request));
                    let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(socket), answer).await;
                });
            }
        });
        Ok(StandInShare { address, _tasks: tasks })
    }

    /// Its address as a store's.
    pub fn url(&self) -> String {
        format!("dav://{}", self.address)
    }
}

async fn answer(handler: DavHandler, door: Arc<String>, request: Request<Incoming>) -> Result<Answer, Infallible> {
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok());
    if header("authorization") != Some(door.as_str()) {
        return Ok(short(StatusCode::UNAUTHORIZED));
    }
    if request.method().as_str() == "PROPFIND" && header("depth").is_none_or(|d| d == "infinity") {
        return Ok(short(StatusCode::FORBIDDEN));
    }
    let (parts, body) = handler.handle(request).await.into_parts();
    Ok(Response::from_parts(parts, body.boxed_unsync()))
}

fn short(status: StatusCode) -> Answer {
    let mut response = Response::new(http_body_util::Empty::new().map_err(|never: Infallible| match never {}).boxed_unsync());
    *response.status_mut() = status;
    response
}
