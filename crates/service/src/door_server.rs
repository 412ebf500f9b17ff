//! The server of a machine without a household: it shows the [`Door`], and nothing else.

use std::{net::TcpListener, sync::Arc, time::Duration};

use actix_web::{App as WebApp, HttpRequest, HttpResponse, HttpServer, middleware::from_fn, web};
use tracing_actix_web::TracingLogger;
use utoipa_actix_web::AppExt;
use ypogeion_catalog::Catalog;
use ypogeion_core::state::HouseState;
use ypogeion_engine::error::{Cannot, failed};
use ypogeion_wire::{overview::Lamp, people::Arrival, problem::ProblemType};

use crate::{
    api,
    area::{self, Area},
    door::Door,
    failure::{Answer, Failure},
    listening::{host_name, ready, wait_for_stop},
    names::{self, Names},
    responses::finish_headers,
    settings::{Listen, Settings},
    tls::Certificate,
};

async fn health() -> HttpResponse {
    HttpResponse::Ok().json(serde_json::json!({ "health": "well", "version": env!("CARGO_PKG_VERSION") }))
}

async fn arrival() -> web::Json<Arrival> {
    web::Json(Arrival { set_up: false, me: None })
}

async fn state() -> web::Json<Lamp> {
    web::Json(Lamp {
        state: HouseState::Setup,
        reason: "No household has been set up here yet.".into(),
        version: env!("CARGO_PKG_VERSION").into(),
    })
}

/// Pages are the console's, which asks first and is told to show the door; everything else has to wait.
async fn anything_else(request: HttpRequest) -> Answer<HttpResponse> {
    if area::of(&request) != Some(Area::Pages) {
        return Err(Failure::new(
            ProblemType::NotSetUp,
            "No household has been set up here yet. Open this address in a browser.",
        ));
    }
    api::console::console(request).await
}

/// Waits at the door until there is a household. `false`: told to stop before.
pub async fn wait(
    settings: &Settings,
    catalog: &Catalog,
    sockets: &[(Listen, TcpListener)],
    certificate: &Certificate,
    address: &url::Url,
) -> Result<bool, Cannot> {
    let door = Arc::new(Door::new(settings.clone(), catalog.clone()));
    let shared = web::Data::from(Arc::clone(&door));
    let names = web::Data::new(Names::of(settings, &host_name()));
    let mut server = HttpServer::new(move || {
        let (web_app, _) =
            WebApp::new().into_utoipa_app().app_data(shared.clone()).configure(api::door::routes).split_for_parts();
        web_app
            .app_data(api::json_config())
            .route("/api/health", web::get().to(health))
            .route("/api/state", web::get().to(state))
            .route("/api/arrival", web::get().to(arrival))
            .app_data(names.clone())
            .default_service(web::to(anything_else))
            .wrap(from_fn(names::only_ours))
            .wrap(from_fn(finish_headers))
            .wrap(TracingLogger::default())
    })
    .workers(1)
    .shutdown_timeout(2)
    .disable_signals();
    let copies = sockets
        .iter()
        .map(|(listen, socket)| Ok((listen.clone(), socket.try_clone()?)))
        .collect::<std::io::Result<_>>()
        .map_err(failed("listen"))?;
    for (socket, tls) in ready(copies, certificate)? {
        server = match tls {
            Some(config) => server.listen_rustls_0_23(socket, config),
            None => server.listen(socket),
        }
        .map_err(failed("listen"))?;
    }
    let running = server.run();
    let handle = running.handle();
    // Not into the log, which may be sent elsewhere and is read by others: to whoever started this.
    println!("No household is set up here yet. Open {address} in a browser and type this code: {}", door.code());
    tracing::info!("waiting for a household; open this address in a browser");
    let waiting = tokio::spawn({
        let door = Arc::clone(&door);
        async move {
            let through = tokio::select! {
                () = door.through() => {
                    // Whoever waits for the answer gets it, and can read what was said last.
                    tokio::time::sleep(Duration::from_millis(1500)).await;
                    true
                }
                () = wait_for_stop() => false,
            };
            handle.stop(true).await;
            through
        }
    });
    running.await.map_err(failed("serve"))?;
    waiting.await.map_err(failed("serve"))
}
