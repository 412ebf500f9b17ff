//! Who is asking. The one place where credentials become roles, and where roles are asked.

use std::{collections::HashMap, sync::LazyLock};

use actix_web::{
    FromRequest, HttpMessage, HttpRequest, ResponseError,
    body::{EitherBody, MessageBody},
    cookie::Cookie,
    dev::{Payload, ServiceRequest, ServiceResponse},
    guard::{Guard, fn_guard},
    http::Method,
    middleware::Next,
    web,
};
use chrono::{DateTime, TimeDelta, Utc};
use data_encoding::BASE64;
use ypogeion_catalog::{
    CatalogError,
    devices::DeviceCaller,
    people::{Person, Session},
};
use ypogeion_core::{
    DeviceId, PersonId,
    access::{Action, Role, Validity, may},
};
use ypogeion_wire::{CONSOLE_HEADER, problem::ProblemType};

use crate::{
    app::App,
    area::{self, Area},
    dav,
    failure::{Answer, Failure},
    security,
};

/// The name of the session cookie where the request came in plain, on this machine alone.
const COOKIE: &str = "ypogeion_session";
/// And by TLS: a browser takes a cookie of this name from this very host and over TLS alone, so nobody else can plant one.
const SAFE_COOKIE: &str = "__Host-ypogeion_session";

/// How long a password that was typed counts for what asks for it.
const PROVED_FOR: TimeDelta = TimeDelta::minutes(10);

/// Who is asking, as far as a credential tells.
#[derive(Clone, Debug)]
pub enum Caller {
    /// A member, by a session.
    Person(Person, Session),
    /// A device, by its token.
    Device(DeviceCaller),
    /// Nobody we know.
    Nobody,
}

impl Caller {
    /// The role.
    pub fn role(&self) -> Role {
        match self {
            Caller::Person(person, _) => person.role,
            Caller::Device(device) if device.program => Role::Program,
            Caller::Device(_) => Role::Device,
            Caller::Nobody => Role::Nobody,
        }
    }

    /// Refuses unless the role may do that.
    fn may(&self, action: Action) -> Answer<()> {
        match (may(self.role(), action), self) {
            (true, _) => Ok(()),
            (false, Caller::Nobody) => {
                Err(Failure::new(ProblemType::NotSignedIn, "Sign in, or pair this device, and try again."))
            }
            (false, _) => Err(Failure::new(ProblemType::NotAllowed, "Your role does not allow this; the keeper can do it.")),
        }
    }

    /// The member, where the table lets only people through.
    pub fn person(&self) -> Answer<&Person> {
        match self {
            Caller::Person(person, _) => Ok(person),
            _ => Err(Failure::new(ProblemType::NotAllowed, "Only a person can do this.")),
        }
    }

    /// The session, where the table lets only people through.
    pub fn session(&self) -> Answer<&Session> {
        match self {
            Caller::Person(_, session) => Ok(session),
            _ => Err(Failure::new(ProblemType::NotAllowed, "Only a person can do this.")),
        }
    }

    /// Refuses unless the password was typed within the last minutes: whoever finds an open browser can look, and not take over.
    pub fn proved(&self, now: DateTime<Utc>) -> Answer<()> {
        // A time in the future is a clock that was put back; it proves nothing.
        match self.session()?.proved_at {
            Some(at) if at <= now && now - at < PROVED_FOR => Ok(()),
            _ => Err(Failure::new(ProblemType::PasswordWanted, "Type your password again: this can open or change everything.")),
        }
    }

    /// The device, where the table lets only devices through.
    pub fn device(&self) -> Answer<&DeviceCaller> {
        match self {
            Caller::Device(device) => Ok(device),
            _ => Err(Failure::new(ProblemType::NotAllowed, "Only a device can do this.")),
        }
    }

    /// The device to which a device's look is limited; people look at all of theirs.
    pub fn own_device(&self) -> Option<DeviceId> {
        match self {
            Caller::Device(device) => Some(device.id),
            Caller::Person(..) | Caller::Nobody => None,
        }
    }

    /// Whose originals the caller sees: always their own member's.
    pub fn owner(&self) -> Answer<PersonId> {
        match self {
            Caller::Person(person, _) => Ok(person.id),
            Caller::Device(device) => Ok(device.person),
            Caller::Nobody => Err(Failure::not_found()),
        }
    }

    /// `None` for the keeper, who sees to all members' devices and runs; the member for everybody else.
    pub fn scope(&self) -> Answer<Option<PersonId>> {
        match self {
            Caller::Person(person, _) if person.role == Role::Keeper => Ok(None),
            other => other.owner().map(Some),
        }
    }
}

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
    let caller = recognise(app, request).await?;
    caller.may(action)?;
    Ok(caller)
}

/// The action behind a route, by the API's own document; behind folders, by whether the method only looks (the document knows
/// no methods of WebDAV).
fn action_of(method: &Method, pattern: &str) -> Option<Action> {
    if pattern.starts_with(dav::PREFIX) {
        return Some(if dav::only_looks(method) { Action::ReadFolder } else { Action::WriteFolder });
    }
    static ROUTES: LazyLock<HashMap<(String, String), Action>> = LazyLock::new(|| {
        let document = serde_json::to_value(crate::api::document()).unwrap_or_default();
        let operation = |id: &str| Action::ALL.iter().copied().find(|a| a.operation() == id);
        let paths = document["paths"].as_object().into_iter().flatten();
        paths
            .flat_map(|(path, methods)| methods.as_object().into_iter().flatten().map(move |(method, o)| (path, method, o)))
            .filter_map(|(path, method, o)| Some(((method.to_uppercase(), path.clone()), operation(o["operationId"].as_str()?)?)))
            .collect()
    });
    ROUTES.get(&(method.to_string(), pattern.to_owned())).copied()
}

impl FromRequest for Caller {
    type Error = Failure;
    type Future = std::future::Ready<Result<Self, Failure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let caller = request.extensions().get::<Caller>().cloned();
        std::future::ready(caller.ok_or_else(|| {
            tracing::error!("a route was entered without caller::guard around it");
            Failure::new(ProblemType::Internal, "Something went wrong here; the log has the reason.")
        }))
    }
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
        return match app.catalog.device_by_token(security::hash(token.trim()).as_bytes(), app.now()).await {
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

/// Who is signed in by the session cookie of a request.
pub async fn signed_in(app: &App, request: &HttpRequest) -> Answer<Option<(Person, Session)>> {
    let Some(cookie) = cookie_of(request) else { return Ok(None) };
    match app.catalog.session(security::hash(cookie.value()).as_bytes(), app.now()).await {
        Ok(both) => Ok(Some(both)),
        Err(CatalogError::NotFound) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

/// The session cookie that a request brings.
pub fn cookie_of(request: &HttpRequest) -> Option<Cookie<'static>> {
    request.cookie(if is_secure(request) { SAFE_COOKIE } else { COOKIE })
}

/// Whether a request came by TLS, as far as this program itself knows.
pub fn is_secure(request: &HttpRequest) -> bool {
    request.app_config().secure()
}

/// The cookie for a session. Secure where the request came by TLS.
pub fn session_cookie(token: String, secure: bool, life: actix_web::cookie::time::Duration) -> Cookie<'static> {
    Cookie::build(if secure { SAFE_COOKIE } else { COOKIE }, token)
        .path("/")
        .http_only(true)
        .same_site(actix_web::cookie::SameSite::Strict)
        .secure(secure)
        .max_age(life)
        .finish()
}
