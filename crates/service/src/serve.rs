//! Start and stop of the service.

use std::{net::TcpListener, sync::Arc};

use actix_web::{App as WebApp, HttpServer, middleware::from_fn, web};
use tracing_actix_web::TracingLogger;
use utoipa_actix_web::AppExt;
use ypogeion_catalog::Catalog;
use ypogeion_engine::{
    error::{Cannot, failed},
    open::open,
    work,
};

use crate::{
    api,
    app::App,
    database::Database,
    dav::{self, locks::Locks},
    door, door_server,
    failure::Failure,
    guard,
    listening::{bind, host_name, own_address, ready, wait_for_stop},
    names::{self, Names},
    responses::finish_headers,
    security::Limiter,
    settings::{Listen, Settings},
    tls::Certificate,
};

/// Runs the service until it is told to stop (SIGTERM or SIGINT).
pub async fn serve(settings: Settings) -> Result<(), Cannot> {
    let database = Database::open(&settings).await?;
    let result = serve_with(settings, database.catalog.clone()).await;
    database.close().await?;
    result
}

async fn serve_with(settings: Settings, catalog: Catalog) -> Result<(), Cannot> {
    let host = host_name();
    let names = vec![host.clone(), "localhost".to_owned(), "127.0.0.1".to_owned()];
    let certificate =
        Certificate::read_or_make(&settings.house.data_folder, &names).map_err(failed("make the household's certificate"))?;
    let sockets = bind(&settings.listen)?;
    let address = settings.advertise.clone().unwrap_or_else(|| own_address(&sockets, &host));
    if door::is_needed(&settings, &catalog).await?
        && !door_server::wait(&settings, &catalog, &sockets, &certificate, &address).await?
    {
        return Ok(());
    }
    let (engine, freed) = open(settings.house.clone(), catalog).await?;
    let tasks = work::run::start(&engine);
    let app = Arc::new(App {
        engine: Arc::clone(&engine),
        limiter: Limiter::default(),
        certificate: certificate.fingerprint(),
        address,
        locks: Locks::default(),
    });
    tracing::info!(household = engine.household.name, library = %engine.settings.library.display(), freed, "ready");
    answer(app, Names::of(&settings, &host), sockets, &certificate).await?;
    drop(tasks);
    Ok(())
}

/// Answers requests until this process is told to end.
async fn answer(
    app: Arc<App>,
    names: Names,
    sockets: Vec<(Listen, TcpListener)>,
    certificate: &Certificate,
) -> Result<(), Cannot> {
    let (shared, names) = (web::Data::from(Arc::clone(&app)), web::Data::new(names));
    let mut server = HttpServer::new(move || {
        // Whatever answers for the household stands in here, and nothing of it beside it.
        let behind = utoipa_actix_web::scope("").guard(guard::has_passed()).configure(api::routes);
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
            .wrap(from_fn(guard::guard))
            .wrap(from_fn(names::only_ours))
            .wrap(from_fn(finish_headers))
            .wrap(TracingLogger::default())
    })
    .workers(std::thread::available_parallelism().map_or(2, usize::from).min(8))
    .shutdown_timeout(10)
    .disable_signals();
    for (socket, tls) in ready(sockets, certificate)? {
        server = match tls {
            Some(config) => server.listen_rustls_0_23(socket, config),
            None => server.listen(socket),
        }
        .map_err(failed("listen"))?;
    }
    let running = server.run();
    let handle = running.handle();
    let live = app.engine.live.clone();
    tokio::spawn(async move {
        wait_for_stop().await;
        live.stop();
        tracing::info!("stopping; what is running is finished, or continues at the next start");
        handle.stop(true).await;
    });
    running.await.map_err(failed("serve"))?;
    Ok(())
}
