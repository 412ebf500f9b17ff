//! Start and stop of the service.

use std::{
    fs::{self, File, TryLockError},
    io,
    net::{SocketAddr, TcpListener},
    os::unix::fs::PermissionsExt,
    path::Path,
    sync::Arc,
    time::Duration,
};

use actix_web::{
    App as WebApp, HttpMessage, HttpServer,
    body::MessageBody,
    dev::{Payload, ServiceRequest, ServiceResponse},
    error::PayloadError,
    http::{
        StatusCode,
        header::{CACHE_CONTROL, CONTENT_LENGTH, HeaderName, HeaderValue, TRANSFER_ENCODING, WWW_AUTHENTICATE},
    },
    middleware::{Next, from_fn},
    web,
};
use futures_util::{Stream, StreamExt, stream};
use tracing_actix_web::{RequestId, TracingLogger};
use url::Url;
use utoipa_actix_web::AppExt;
use uuid::Uuid;
use ypogeion_catalog::{
    Catalog,
    cluster::{Cluster, Durability},
};
use ypogeion_core::ledger::LedgerKey;
use ypogeion_library::{Library, LibraryId};
use ypogeion_media::confine::Confined;
use ypogeion_offsite::Identity;
use ypogeion_wire::{REQUEST_ID_HEADER, problem::ProblemType};

use crate::{
    api,
    app::{App, Parts},
    area::{self, Area},
    caller, dav, door,
    failure::{Failure, chain},
    keys::{self, Keyring},
    names::{self, Names},
    security,
    settings::{Listen, Settings},
    tls::{Certificate, write_private},
    tus, work,
};

/// Why the service could not start, or stopped.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// Something could not be done.
    #[error("could not {what}")]
    Failed {
        /// The attempt.
        what: String,
        /// Why.
        #[source]
        source: Box<dyn std::error::Error + Send + Sync>,
    },
}

pub(crate) fn failed<E: Into<Box<dyn std::error::Error + Send + Sync>>>(what: impl Into<String>) -> impl FnOnce(E) -> ServeError {
    let what = what.into();
    move |e| ServeError::Failed { what, source: e.into() }
}

/// The catalogue, and the private cluster if it is ours to stop.
pub struct Database {
    /// The catalogue.
    pub catalog: Catalog,
    cluster: Option<Cluster>,
    /// Whoever else would start, or stop, the same cluster, is refused while this is held.
    _lock: File,
}

impl Database {
    /// Connects to the given database, or starts the private one.
    pub async fn open(settings: &Settings) -> Result<Self, ServeError> {
        make_data_folder(&settings.data_folder)?;
        let lock = lock(&settings.data_folder)?;
        let durability = match std::env::var_os("YPOGEION_THROW_AWAY") {
            // For tests, whose households nobody will miss.
            Some(_) => Durability::ThrownAway,
            None => Durability::Kept,
        };
        let (cluster, url) = match &settings.database {
            Some(address) => (None, address.0.clone()),
            None => {
                let folder = settings.cluster_folder();
                let cluster = tokio::task::spawn_blocking(move || Cluster::start(&folder, durability))
                    .await
                    .map_err(failed("start the database"))?
                    .map_err(failed("start the database"))?;
                let url = cluster.url();
                (Some(cluster), url)
            }
        };
        let catalog = Catalog::open(&url).await.map_err(failed("open the database"))?;
        Ok(Database { catalog, cluster, _lock: lock })
    }

    /// Stops the private cluster, if there is one.
    pub async fn close(self) -> Result<(), ServeError> {
        drop(self.catalog);
        if let Some(cluster) = self.cluster {
            tokio::task::spawn_blocking(move || cluster.stop())
                .await
                .map_err(failed("stop the database"))?
                .map_err(failed("stop the database"))?;
        }
        Ok(())
    }
}

/// Held by the one process that works with a data folder, until it ends however it ends.
fn lock(folder: &Path) -> Result<File, ServeError> {
    let path = folder.join("lock");
    let file = File::create(&path).map_err(failed(format!("open {}", path.display())))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(TryLockError::WouldBlock) => Err(failed(format!("use the data folder {}", folder.display()))(
            "the service, or another of its commands, is running with it; stop that first",
        )),
        Err(TryLockError::Error(e)) => Err(failed(format!("lock {}", path.display()))(e)),
    }
}

fn make_data_folder(folder: &Path) -> Result<(), ServeError> {
    let cannot = |e: io::Error| failed::<io::Error>(format!("make the data folder {}", folder.display()))(e);
    fs::create_dir_all(folder.join("spool")).map_err(cannot)?;
    // Nobody else's; only where the database has a user of its own, that one passes through, and lists nothing.
    let mode = if rustix::process::geteuid().is_root() { 0o711 } else { 0o700 };
    fs::set_permissions(folder, fs::Permissions::from_mode(mode)).map_err(cannot)
}

/// Runs the service until it is told to stop (SIGTERM or SIGINT).
pub async fn serve(settings: Settings) -> Result<(), ServeError> {
    let database = Database::open(&settings).await?;
    let result = serve_with(settings, database.catalog.clone()).await;
    database.close().await?;
    result
}

async fn serve_with(settings: Settings, catalog: Catalog) -> Result<(), ServeError> {
    let host = host_name();
    let names = vec![host.clone(), "localhost".to_owned(), "127.0.0.1".to_owned()];
    let certificate =
        Certificate::read_or_make(&settings.data_folder, &names).map_err(failed("make the household's certificate"))?;
    let sockets = bind(&settings.listen)?;
    let address = settings.advertise.clone().unwrap_or_else(|| own_address(&sockets, &host));
    if door::is_needed(&settings, &catalog).await? && !door::wait(&settings, &catalog, &sockets, &certificate, &address).await? {
        return Ok(());
    }
    let household = catalog.household().await.map_err(failed("read the household"))?;
    let mut household = household.ok_or_else(|| failed("read the household")("there is none, though one was just made"))?;
    let ledger_key = match household.ledger_key.take() {
        Some(key) => key,
        // One of an earlier version. What its ledgers said until now is said once more, with proof: see `work::offsite`.
        None => {
            let key = LedgerKey::new(security::random());
            let cannot = || failed("make the key for the ledgers");
            // First what follows from it: killed between the two, the next start makes the key, and wishes the same again.
            for store in catalog.stores().await.map_err(cannot())? {
                catalog.say_all_again(store.id, chrono::Utc::now()).await.map_err(cannot())?;
            }
            catalog.set_ledger_key(&key).await.map_err(cannot())?;
            key
        }
    };
    household.ledger_key = Some(ledger_key.clone());
    let mut kept = keys::read_file(&settings.key_file())
        .map_err(failed(format!("read the household's key {}", settings.key_file().display())))?;
    let own = keys::own(&settings.own_key_file()).map_err(failed("read the server's own key"))?;
    let first = kept.first().map(Identity::recipient);
    let sealing =
        catalog.sealing(first.as_deref(), chrono::Utc::now()).await.map_err(failed("read whom copies are sealed for"))?;
    if sealing.strict && !kept.is_empty() {
        // It was told to forget, and killed before it had.
        keys::write_file(&settings.key_file(), &[]).map_err(failed("forget the household's key"))?;
        kept.clear();
    }
    if kept.is_empty() && !sealing.strict {
        return Err(failed("use the household's key")(format!(
            "{} holds none; put the key of the recovery kit into it",
            settings.key_file().display()
        )));
    }
    let keyring = Keyring::new(own, kept, &sealing, ledger_key);
    let library = library(&settings, &catalog).await?;
    let me = own_id(&settings.data_folder)?;
    let program = std::env::current_exe().map_err(failed("find this program"))?;
    let app = Arc::new(App::new(Parts {
        settings,
        catalog,
        library,
        household,
        keyring,
        program,
        certificate: certificate.fingerprint(),
        address,
        me,
    }));
    let freed = app.catalog.free_leases(me, app.now()).await.map_err(failed("take up the background work"))?;
    app.seal_secrets().await.map_err(failed("seal the secrets of the stores"))?;
    match work::home::settle(&app).await {
        Ok(()) => {}
        // Done when its disk is there: see `work::home`.
        Err(e) if e.kind() == ProblemType::LibraryAway => tracing::warn!(error = %chain(&e), "the library is away"),
        Err(e) => return Err(failed("settle what was interrupted")(e)),
    }
    app.catalog
        .want_rounds(|check| work::audit::first_round(&app, check))
        .await
        .map_err(failed("put the checks of copies down"))?;
    tell_of_confinement(&app);
    let tasks = work::start(&app);

    let (shared, names) = (web::Data::from(Arc::clone(&app)), web::Data::new(Names::of(&app.settings, &host)));
    let mut server = HttpServer::new(move || {
        // Whatever answers for the household stands in here, and nothing of it beside it.
        let behind = utoipa_actix_web::scope("").guard(caller::has_passed()).configure(api::routes);
        let behind = behind.map(|scope| scope.service(dav::resource()));
        let (web_app, _) = WebApp::new().into_utoipa_app().app_data(shared.clone()).service(behind).split_for_parts();
        web_app
            .app_data(names.clone())
            .app_data(api::json_config())
            .app_data(
                web::QueryConfig::default()
                    .error_handler(|e, _| Failure::bad(format!("The address is not understood: {e}.")).into()),
            )
            .app_data(web::PathConfig::default().error_handler(|_, _| Failure::not_found().into()))
            .default_service(web::to(api::console::console))
            .wrap(from_fn(caller::guard))
            .wrap(from_fn(names::only_ours))
            .wrap(from_fn(finish_headers))
            .wrap(TracingLogger::default())
    })
    .workers(std::thread::available_parallelism().map_or(2, usize::from).min(8))
    .shutdown_timeout(10)
    .disable_signals();
    for (socket, tls) in ready(sockets, &certificate)? {
        server = match tls {
            Some(config) => server.listen_rustls_0_23(socket, config),
            None => server.listen(socket),
        }
        .map_err(failed("listen"))?;
    }
    let running = server.run();
    let handle = running.handle();
    let live = app.live.clone();
    tokio::spawn(async move {
        wait_for_stop().await;
        live.stop();
        tracing::info!("stopping; what is running is finished, or continues at the next start");
        handle.stop(true).await;
    });
    tracing::info!(household = app.household.name, library = %app.settings.library.display(), freed, "ready");
    running.await.map_err(failed("serve"))?;
    drop(tasks);
    Ok(())
}

/// The household's library. A new household's is made; one that is known may be away.
async fn library(settings: &Settings, catalog: &Catalog) -> Result<Library, ServeError> {
    let read = || failed("read which library is the household's");
    let known = catalog.library().await.map_err(read())?;
    let is_new = known.is_none() && !catalog.has_originals().await.map_err(read())?;
    let opened = if is_new { Library::found(&settings.library) } else { Library::open(&settings.library, known.map(LibraryId)) };
    let library = opened.map_err(failed(format!("open the library {}", settings.library.display())))?;
    let library = library.with_rights(&settings.adopt_from, settings.library_open_to);
    if let Some(id) = library.presence().id().filter(|_| known.is_none()) {
        catalog.set_library(id.0).await.map_err(failed("write down which library is the household's"))?;
    }
    Ok(library)
}

/// Says in the log what those who read files from outside can reach here: a kernel may be too old to keep them from it.
fn tell_of_confinement(app: &Arc<App>) {
    let reader = Arc::clone(&app.reader);
    app.stirred.notify_one();
    tokio::task::spawn_blocking(move || match reader.confinement() {
        Some(Confined { files: true, network: true }) => {
            tracing::info!("files from outside are read where nothing else can be reached")
        }
        Some(Confined { files, network }) => tracing::warn!(
            files,
            network,
            "this kernel cannot keep those who read files from outside from all other files, or from the network; a newer one can (Linux 5.13, with Landlock)"
        ),
        None => tracing::warn!("the program that reads files from outside could not be started"),
    });
}

/// A socket to listen on, with the way to speak TLS on it if that is wanted.
pub(crate) type Ready = (TcpListener, Option<rustls::ServerConfig>);

/// The sockets as a server takes them; says where they are.
pub(crate) fn ready(sockets: Vec<(Listen, TcpListener)>, certificate: &Certificate) -> Result<Vec<Ready>, ServeError> {
    let one = |(listen, socket): (Listen, TcpListener)| {
        let bound = socket.local_addr().map_err(failed("read an address"))?;
        tracing::info!(address = %format!("{}://{bound}", if listen.tls { "https" } else { "http" }), "listening");
        let config = listen.tls.then(|| certificate.server_config()).transpose();
        Ok((socket, config.map_err(failed("use the household's certificate"))?))
    };
    sockets.into_iter().map(one).collect()
}

/// A body of which nothing comes for this long has broken off, though its connection stands: it holds memory, a file, and the right to
/// write to it.
const LONGEST_SILENCE: Duration = Duration::from_secs(120);

fn has_body(request: &ServiceRequest) -> bool {
    let headers = request.headers();
    headers.contains_key(TRANSFER_ENCODING) || headers.get(CONTENT_LENGTH).is_some_and(|length| length.as_bytes() != b"0")
}

/// The same body, which ends with a failure when nothing came of it for too long.
fn patient<S>(body: S, longest: Duration) -> impl Stream<Item = Result<web::Bytes, PayloadError>>
where
    S: Stream<Item = Result<web::Bytes, PayloadError>> + Unpin,
{
    stream::unfold(Some(body), move |body| async move {
        let mut body = body?;
        match tokio::time::timeout(longest, body.next()).await {
            Ok(next) => next.map(|chunk| (chunk, Some(body))),
            Err(_) => Some((Err(PayloadError::Io(io::ErrorKind::TimedOut.into())), None)),
        }
    })
}

/// Headers that every response carries.
pub(crate) async fn finish_headers(
    mut request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let id = request.extensions().get::<RequestId>().map(ToString::to_string);
    let area = area::of(request.request());
    let (uploads, folders) = (area == Some(Area::Uploads), area == Some(Area::Folders));
    if uploads {
        tus::override_method(&mut request);
    }
    if area != Some(Area::Pages) && has_body(&request) {
        let body = request.take_payload();
        request.set_payload(Payload::Stream { payload: Box::pin(patient(body, LONGEST_SILENCE)) });
    }
    let mut response = next.call(request).await?;
    let response_is_for_strangers = response.status() == StatusCode::UNAUTHORIZED;
    let headers = response.headers_mut();
    if uploads {
        tus::mark(headers);
    }
    if folders && response_is_for_strangers {
        headers.insert(WWW_AUTHENTICATE, HeaderValue::from_static("Basic realm=\"Ypogeion\", charset=\"UTF-8\""));
    }
    if let Some(id) = id.and_then(|i| HeaderValue::from_str(&i).ok()) {
        headers.insert(HeaderName::from_static(REQUEST_ID_HEADER), id);
    }
    if area == Some(Area::Api) && !headers.contains_key(CACHE_CONTROL) {
        // What the house says of itself is nobody's to keep, in no browser and in nothing between.
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    headers.insert(HeaderName::from_static("x-content-type-options"), HeaderValue::from_static("nosniff"));
    Ok(response)
}

fn bind(listen: &[Listen]) -> Result<Vec<(Listen, TcpListener)>, ServeError> {
    listen
        .iter()
        .map(|l| {
            let socket = TcpListener::bind(&l.address).map_err(failed(format!("listen on {l}")))?;
            Ok((l.clone(), socket))
        })
        .collect()
}

pub(crate) fn host_name() -> String {
    let name = rustix::system::uname().nodename().to_string_lossy().into_owned();
    if name.is_empty() { "localhost".to_owned() } else { name }
}

/// The first https address, by this machine's name; or the first address there is.
fn own_address(sockets: &[(Listen, TcpListener)], host: &str) -> Url {
    let chosen = sockets.iter().find(|(l, _)| l.tls).or(sockets.first());
    let (scheme, bound) = match chosen.map(|(l, s)| (l.tls, s.local_addr())) {
        Some((tls, Ok(bound))) => (if tls { "https" } else { "http" }, bound),
        _ => ("http", SocketAddr::from(([127, 0, 0, 1], 8740))),
    };
    let shown = if bound.ip().is_unspecified() { host.to_owned() } else { bound.ip().to_string() };
    Url::parse(&format!("{scheme}://{shown}:{}/", bound.port()))
        .unwrap_or_else(|_| Url::parse("http://127.0.0.1:8740/").expect("a plain address"))
}

/// This service's id, for the leases of its work: the same after a restart, so that it frees what it held.
fn own_id(folder: &Path) -> Result<Uuid, ServeError> {
    let path = folder.join("worker-id");
    match fs::read_to_string(&path) {
        Ok(text) => text.trim().parse().map_err(failed("read the worker's id")),
        Err(e) if e.kind() == io::ErrorKind::NotFound => {
            let id = Uuid::now_v7();
            write_private(&path, id.to_string().as_bytes()).map_err(failed("write the worker's id"))?;
            Ok(id)
        }
        Err(e) => Err(failed("read the worker's id")(e)),
    }
}

pub(crate) async fn wait_for_stop() {
    use tokio::signal::unix::{SignalKind, signal};
    match (signal(SignalKind::terminate()), signal(SignalKind::interrupt())) {
        (Ok(mut term), Ok(mut int)) => {
            tokio::select! { _ = term.recv() => {}, _ = int.recv() => {} }
        }
        _ => std::future::pending().await,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_body_that_falls_silent_has_broken_off() {
        let second = Duration::from_secs(1);
        let slow = stream::iter(0..200).then(move |_| async move {
            tokio::time::sleep(second).await;
            Ok(web::Bytes::from_static(b"k"))
        });
        // Slow for longer than anybody may be silent, and never silent for long.
        let came: Vec<_> = patient(Box::pin(slow), LONGEST_SILENCE).collect().await;
        assert!(came.len() == 200 && came.iter().all(Result::is_ok));
        let silent = stream::iter([Ok(web::Bytes::from_static(b"k"))]).chain(stream::pending());
        let came: Vec<_> = patient(silent, LONGEST_SILENCE).collect().await;
        assert!(matches!(came.as_slice(), [Ok(_), Err(PayloadError::Io(e))] if e.kind() == io::ErrorKind::TimedOut));
    }
}
