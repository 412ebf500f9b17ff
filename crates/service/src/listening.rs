//! Sockets: where the service listens, and under which address it says so.

use std::net::{SocketAddr, TcpListener};

use url::Url;
use ypogeion_engine::error::{Cannot, failed};

use crate::{settings::Listen, tls::Certificate};

/// A socket to listen on, with the way to speak TLS on it if that is wanted.
pub(crate) type Ready = (TcpListener, Option<rustls::ServerConfig>);

/// The sockets as a server takes them; says where they are.
pub(crate) fn ready(sockets: Vec<(Listen, TcpListener)>, certificate: &Certificate) -> Result<Vec<Ready>, Cannot> {
    let one = |(listen, socket): (Listen, TcpListener)| {
        let bound = socket.local_addr().map_err(failed("read an address"))?;
        tracing::info!(address = %format!("{}://{bound}", if listen.tls { "https" } else { "http" }), "listening");
        let config = listen.tls.then(|| certificate.server_config()).transpose();
        Ok((socket, config.map_err(failed("use the household's certificate"))?))
    };
    sockets.into_iter().map(one).collect()
}

/// Takes the addresses.
pub(crate) fn bind(listen: &[Listen]) -> Result<Vec<(Listen, TcpListener)>, Cannot> {
    listen
        .iter()
        .map(|l| {
            let socket = TcpListener::bind(&l.address).map_err(failed(format!("listen on {l}")))?;
            Ok((l.clone(), socket))
        })
        .collect()
}

/// What this machine calls itself.
pub(crate) fn host_name() -> String {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    if name.is_empty() { "localhost".to_owned() } else { name }
}

/// The first https address, by this machine's name; or the first address there is.
pub(crate) fn own_address(sockets: &[(Listen, TcpListener)], host: &str) -> Url {
    let chosen = sockets.iter().find(|(l, _)| l.tls).or(sockets.first());
    let (scheme, bound) = match chosen.map(|(l, s)| (l.tls, s.local_addr())) {
        Some((tls, Ok(bound))) => (if tls { "https" } else { "http" }, bound),
        _ => ("http", SocketAddr::from(([127, 0, 0, 1], 8740))),
    };
    let shown = if bound.ip().is_unspecified() { host.to_owned() } else { bound.ip().to_string() };
    Url::parse(&format!("{scheme}://{shown}:{}/", bound.port()))
        .unwrap_or_else(|_| Url::parse("http://127.0.0.1:8740/").expect("a plain address"))
}

/// Waits until this process is told to end.
pub(crate) async fn wait_for_stop() {
    use tokio::signal::unix::{SignalKind, signal};
    match (signal(SignalKind::terminate()), signal(SignalKind::interrupt())) {
        (Ok(mut term), Ok(mut int)) => {
            tokio::select! { _ = term.recv() => {}, _ = int.recv() => {} }
        }
        _ => std::future::pending().await,
    }
}
