//! The guard before every route: who is asking, and whether they may.

use std::{collections::HashMap, sync::LazyLock};

use actix_web::{
    HttpMessage, HttpRequest, ResponseError,
    body::{EitherBody, MessageBody},
    dev::{ServiceRequest, ServiceResponse},
    guard::{Guard, fn_guard},
    http::Method,
    middleware::Next,
    web,
};
use data_encoding::BASE64;
use ypogeion_catalog::CatalogError;
use ypogeion_core::access::{Action, Role, Validity, may};
use ypogeion_engine::secrets;
use ypogeion_wire::{CONSOLE_HEADER, problem::ProblemType};

use crate::{
    api,
    app::App,
    area::{self, Area, FOLDERS},
    caller::{Caller, cookie_of, is_secure, outsider, signed_in},
    dav,
    failure::{Answer, Failure},
};

/// Asks the access table before a route is entered, and before a byte of its body is looked at. What handlers get as
/// [`Caller`] has passed here; a route for which the table has no line is not entered by anybody.
pub async fn guard(
    app: web::Data<App>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<EitherBody<impl MessageBody>>, actix_web::Error> {
    let admitted = match way(request.request()) {
        Way::Pages => return Ok(next.call(request).await?.map_into_left_body()),
        Way::Nowhere => Err(Failure::not_found()),
        Way::To(action) => admit(&app, request.request(), action).await,
    };
    match admitted {
        Ok(caller) => drop(request.extensions_mut().insert(caller)),
        Err(failure) => return Ok(request.into_response(failure.error_response().map_into_right_body())),
    }
    Ok(next.call(request).await?.map_into_left_body())
}

/// A second lock on the same door: routes stand behind it, and it opens for what came through [`guard`] alone.
pub fn has_passed() -> impl Guard {
    fn_guard(|context| context.req_data().contains::<Caller>())
}

/// Where a request goes.
enum Way {
    /// To an operation of the API.
    To(Action),
    /// To the console's own files, which are everybody's.
    Pages,
    /// To nothing that is known here.
    Nowhere,
}

fn way(request: &HttpRequest) -> Way {
    let Some(area) = area::of(request) else { return Way::Nowhere };
    // The same words that the router will look at, so that it finds what was decided about.
    let pattern = request.resource_map().match_pattern(area::routed(request));
    match pattern {
        Some(pattern) => action_of(request.method(), &pattern).map_or(Way::Nowhere, Way::To),
        None if area == Area::Pages => Way::Pages,
        None => Way::Nowhere,
    }
}

async fn admit(app: &App, request: &HttpRequest, action: Action) -> Answer<Caller> {
    if may(Role::Nobody, action) {
        // A stale cookie or token must not keep anybody from the door.
        return Ok(Caller::Nobody);
    }
    // What links show is seen by links alone, also by somebody who is signed in here; and a link opens nothing else.
    let caller = if may(Role::Outsider, action) { outsider(app, request).await? } else { recognise(app, request).await? };
    caller.may(action)?;
    Ok(caller)
}

/// The action behind a route, by the API's own document; behind folders, by whether the method only looks (the document knows
/// no methods of WebDAV).
fn action_of(method: &Method, pattern: &str) -> Option<Action> {
    if pattern.starts_with(FOLDERS) {
        return Some(if dav::only_looks(method) { Action::ReadFolder } else { Action::WriteFolder });
    }
    static ROUTES: LazyLock<HashMap<(String, String), Action>> = LazyLock::new(|| {
        let document = serde_json::to_value(api::document()).unwrap_or_default();
        let operation = |id: &str| Action::ALL.iter().copied().find(|a| a.operation() == id);
        let paths = document["paths"].as_object().into_iter().flatten();
        paths
            .flat_map(|(path, methods)| methods.as_object().into_iter().flatten().map(move |(method, o)| (path, method, o)))
            .filter_map(|(path, method, o)| Some(((method.to_uppercase(), path.clone()), operation(o["operationId"].as_str()?)?)))
            .collect()
    });
    ROUTES.get(&(method.to_string(), pattern.to_owned())).copied()
}

/// The device's token that a request brings: as a bearer, or, for folders, as the password of Basic (RFC 7617). A browser
/// sends Basic by itself wherever it was asked for it once, so nothing else takes it.
fn token(request: &HttpRequest) -> Answer<Option<String>> {
    let Some(said) = request.headers().get("authorization").and_then(|v| v.to_str().ok()) else { return Ok(None) };
    let (scheme, value) = said.split_once(' ').unwrap_or((said, ""));
    if scheme.eq_ignore_ascii_case("bearer") {
        return Ok(Some(value.trim().to_owned()));
    }
    if !scheme.eq_ignore_ascii_case("basic") || area::of(request) != Some(Area::Folders) {
        return Ok(None);
    }
    let here = request.peer_addr().is_some_and(|a| a.ip().is_loopback());
    if !here && !is_secure(request) {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "A password is taken only over https. Use the address that begins with https, and revoke this device: its password was sent in the clear.",
        ));
    }
    let decoded = BASE64.decode(value.trim().as_bytes()).ok().and_then(|b| String::from_utf8(b).ok());
    // The name may be anything: the password alone says which device this is.
    Ok(decoded.and_then(|d| d.split_once(':').map(|(_, password)| password.to_owned())))
}

async fn recognise(app: &App, request: &HttpRequest) -> Answer<Caller> {
    if let Some(token) = token(request)? {
        return match app.engine.catalog.device_by_token(secrets::hash(token.trim()).as_bytes(), app.engine.now()).await {
            Ok(device) if device.revoked => Err(Failure::new(
                ProblemType::DeviceRevoked,
                "This device was revoked. What it sent stays safe; pair it again to go on.",
            )),
            Ok(device) => match device.validity {
                Validity::Ended(at) => Err(Failure::new(
                    ProblemType::DeviceEnded,
                    format!(
                        "This device was not used for a year, so its credential ended on {}. What it sent stays safe; pair it again to go on.",
                        at.format("%-d %B %Y")
                    ),
                )),
                Validity::Good | Validity::EndsAt(_) => Ok(Caller::Device(device)),
            },
            Err(CatalogError::NotFound) => {
                Err(Failure::new(ProblemType::NotSignedIn, "This device's token is not known here; pair it again."))
            }
            Err(e) => Err(e.into()),
        };
    }
    let changes = !matches!(*request.method(), Method::GET | Method::HEAD | Method::OPTIONS);
    if cookie_of(request).is_some() && changes && !request.headers().contains_key(CONSOLE_HEADER) {
        // Another site can make a browser send the cookie, but not this header.
        return Err(Failure::new(ProblemType::NotAllowed, "This request did not come from the console."));
    }
    Ok(signed_in(app, request).await?.map_or(Caller::Nobody, |(person, session)| Caller::Person(person, session)))
}
