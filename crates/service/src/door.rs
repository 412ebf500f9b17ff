//! A machine without a household: instead of refusing to start, the service shows a door. Behind it a household is made, or brought back
//! with its recovery kit; then the service itself begins, at the same address.
//!
//! Nobody can sign in yet, so the door asks for a code that the service printed where only somebody at the machine can read it. The code
//! is new at each start and kept nowhere.

use std::{
    net::TcpListener,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

use actix_web::{App as WebApp, HttpRequest, HttpResponse, HttpServer, middleware::from_fn, web};
use chrono::Utc;
use tokio::sync::Notify;
use tracing_actix_web::TracingLogger;
use utoipa_actix_web::AppExt;
use ypogeion_catalog::Catalog;
use ypogeion_core::headline::HouseState as State;
use ypogeion_wire::{door::CODE_HEADER, overview::HouseState, pairing::normalise_code, people::Arrival, problem::ProblemType};

use crate::{
    api,
    area::{self, Area},
    failure::{Answer, Failure, chain},
    names::{self, Names},
    overview::state_word,
    rebuild::{self, Source, Stop, is_unfinished},
    recover::exit,
    security::{self, Limiter},
    serve::{ServeError, failed, finish_headers, host_name, ready, wait_for_stop},
    settings::{Listen, Settings},
    setup::{self, SetUp},
    tls::Certificate,
};

/// Wrong codes in five minutes, from one address.
const ATTEMPTS: usize = 20;

/// The door, and what is being done behind it.
pub struct Door {
    /// The settings.
    pub settings: Settings,
    /// The catalogue, without a whole household in it.
    pub catalog: Catalog,
    code: String,
    limiter: Limiter,
    now: Mutex<Now>,
    through: Notify,
}

/// What is being done.
#[derive(Clone, Debug, Default)]
pub struct Now {
    /// Somebody makes a household, or brings one back.
    pub busy: bool,
    /// It is there.
    pub through: bool,
    /// What was said on the way.
    pub told: Vec<String>,
    /// Why the last attempt came to nothing.
    pub failed: Option<String>,
}

impl Door {
    fn new(settings: Settings, catalog: Catalog) -> Self {
        Door {
            settings,
            catalog,
            code: security::pairing_code(),
            limiter: Limiter::default(),
            now: Mutex::default(),
            through: Notify::new(),
        }
    }

    fn lock(&self) -> MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How it stands.
    pub fn now(&self) -> Now {
        self.lock().clone()
    }

    /// Refuses whoever does not bring the code.
    pub fn admit(&self, request: &HttpRequest) -> Answer<()> {
        let typed = request.headers().get(CODE_HEADER).and_then(|v| v.to_str().ok()).unwrap_or_default();
        if typed.is_empty() {
            return Err(Failure::new(ProblemType::NotSignedIn, "Type the code that the service printed when it started."));
        }
        let from = security::somebody_at(request.peer_addr().map(|a| a.ip()));
        self.limiter.attempt(&from, ATTEMPTS)?;
        if security::hash(&normalise_code(typed)) == security::hash(&self.code) {
            self.limiter.forget(&from);
            return Ok(());
        }
        Err(Failure::new(ProblemType::WrongPassword, "That is not the code that the service printed when it was last started."))
    }

    /// Takes the door's one turn: one household is made or brought back at a time.
    pub fn begin(self: Arc<Self>) -> Answer<Turn> {
        let mut now = self.lock();
        if now.busy || now.through {
            return Err(Failure::bad("Somebody is at this already; wait until it has ended."));
        }
        *now = Now { busy: true, ..Now::default() };
        drop(now);
        Ok(Turn { door: self, ended: false })
    }

    fn end(&self, outcome: Result<(), String>) {
        let mut now = self.lock();
        now.busy = false;
        match outcome {
            Ok(()) => {
                now.through = true;
                self.through.notify_one();
            }
            Err(why) => now.failed = Some(why),
        }
    }

    fn tell(&self, line: String) {
        tracing::info!("{}", line.trim());
        self.lock().told.push(line);
    }
}

/// Somebody's turn at the door. Dropped without an end, it was broken off, and the next may try.
pub struct Turn {
    door: Arc<Door>,
    ended: bool,
}

impl Turn {
    /// The household is there, or why it is not.
    pub fn end(mut self, outcome: Result<(), String>) {
        self.ended = true;
        self.door.end(outcome);
    }

    /// Makes a household.
    pub async fn make(&self, household: &str, keeper: &str, password: String) -> Result<SetUp, ServeError> {
        setup::in_catalog(&self.door.settings, &self.door.catalog, household, keeper, password).await
    }

    /// Brings one back, to the end.
    pub async fn bring_back(self, source: Source) {
        let (door, told) = (Arc::clone(&self.door), Arc::clone(&self.door));
        let outcome = match rebuild::rebuild(&door.settings, &door.catalog, &source, &move |line| told.tell(line)).await {
            Ok(code) => {
                // What was not right stays readable after the door is gone.
                let bad = if code == exit::DONE { "" } else { "; parts of a ledger could not be used, the log has them" };
                let line = format!("restored the household from its recovery kit{bad}");
                match door.catalog.write_record(Utc::now(), "Ypogeion", &line).await {
                    Ok(()) => Ok(()),
                    Err(e) => Err(format!("could not write the record: {}", chain(&e))),
                }
            }
            Err((_, why)) => {
                tracing::warn!(why, "the household was not brought back");
                Err(why)
            }
        };
        self.end(outcome);
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        if !self.ended {
            self.door.end(Err("This was interrupted. Do it again: it continues where it stopped.".to_owned()));
        }
    }
}

/// How a stop of the rebuilding reads on the page.
pub(crate) fn refused((_, why): Stop) -> Failure {
    Failure::bad(why)
}

/// Whether the house needs its door: there is no household, or only a part of one.
pub async fn is_needed(settings: &Settings, catalog: &Catalog) -> Result<bool, ServeError> {
    let household = catalog.household().await.map_err(failed("read the household"))?;
    // A kill while a household was made may have left it without anybody who could sign in.
    let people = catalog.people().await.map_err(failed("read the members"))?;
    Ok(household.is_none() || people.is_empty() || is_unfinished(settings))
}

async fn health() -> HttpResponse {
    HttpResponse::Ok().json(serde_json::json!({ "health": "well", "version": env!("CARGO_PKG_VERSION") }))
}

async fn arrival() -> web::Json<Arrival> {
    web::Json(Arrival { set_up: false, me: None })
}

async fn state() -> web::Json<HouseState> {
    web::Json(HouseState {
        state: state_word(State::Setup).into(),
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
) -> Result<bool, ServeError> {
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
    println!("No household is set up here yet. Open {address} in a browser and type this code: {}", security::spoken(&door.code));
    tracing::info!("waiting for a household; open this address in a browser");
    let waiting = tokio::spawn({
        let door = Arc::clone(&door);
        async move {
            let through = tokio::select! {
                () = door.through.notified() => {
                    // Whoever waits for the answer gets it, and can read what was said last.
                    tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
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
