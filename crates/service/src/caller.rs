//! Who is asking. The one place where credentials become roles, and where roles are asked.

use actix_web::{FromRequest, HttpMessage, HttpRequest, cookie::Cookie, dev::Payload};
use chrono::{DateTime, TimeDelta, Utc};
use ypogeion_catalog::{
    CatalogError,
    devices::DeviceCaller,
    links::Shown,
    people::{Person, Session},
};
use ypogeion_core::{
    DeviceId, PersonId,
    access::{Action, Role, may},
};
use ypogeion_engine::{error::Error, secrets};
use ypogeion_wire::problem::ProblemType;

use crate::{
    app::App,
    failure::{Answer, Failure},
};

/// The name of the session cookie where the request came in plain, on this machine alone.
const COOKIE: &str = "ypogeion_session";
/// And by TLS: a browser takes a cookie of this name from this very host and over TLS alone, so nobody else can plant one.
const SAFE_COOKIE: &str = "__Host-ypogeion_session";

/// The name of the cookie that a link sets, for its own paths alone.
pub const VISIT_COOKIE: &str = "ypogeion_visit";

/// How long a password that was typed counts for what asks for it.
const PROVED_FOR: TimeDelta = TimeDelta::minutes(10);

/// Who is asking, as far as a credential tells.
#[derive(Clone, Debug)]
pub enum Caller {
    /// A member, by a session.
    Person(Person, Session),
    /// A device, by its token.
    Device(DeviceCaller),
    /// Somebody outside, by a link that is open in their browser.
    Outsider(Box<Shown>),
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
            Caller::Outsider(_) => Role::Outsider,
            Caller::Nobody => Role::Nobody,
        }
    }

    /// Refuses unless the role may do that.
    pub(crate) fn may(&self, action: Action) -> Answer<()> {
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

    /// Whether the password was typed within the last minutes: whoever finds an open browser can look, and not take over.
    pub fn has_proved(&self, now: DateTime<Utc>) -> Answer<bool> {
        // A time in the future is a clock that was put back; it proves nothing.
        Ok(self.session()?.proved_at.is_some_and(|at| at <= now && now - at < PROVED_FOR))
    }

    /// Refuses unless it was.
    pub fn proved(&self, now: DateTime<Utc>) -> Answer<()> {
        if self.has_proved(now)? { Ok(()) } else { Err(Error::PasswordWanted.into()) }
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
            Caller::Person(..) | Caller::Outsider(_) | Caller::Nobody => None,
        }
    }

    /// Whose originals the caller sees: always their own member's.
    pub fn owner(&self) -> Answer<PersonId> {
        match self {
            Caller::Person(person, _) => Ok(person.id),
            Caller::Device(device) => Ok(device.person),
            Caller::Outsider(_) | Caller::Nobody => Err(Failure::not_found()),
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

impl FromRequest for Caller {
    type Error = Failure;
    type Future = std::future::Ready<Result<Self, Failure>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let caller = request.extensions().get::<Caller>().cloned();
        std::future::ready(caller.ok_or_else(|| {
            tracing::error!("a route was entered without guard::guard around it");
            Failure::new(ProblemType::Internal, "Something went wrong here; the log has the reason.")
        }))
    }
}

/// Who is signed in by the session cookie of a request.
pub async fn signed_in(app: &App, request: &HttpRequest) -> Answer<Option<(Person, Session)>> {
    let Some(cookie) = cookie_of(request) else { return Ok(None) };
    match app.engine.catalog.session(secrets::hash(cookie.value()).as_bytes(), app.engine.now()).await {
        Ok(both) => Ok(Some(both)),
        Err(CatalogError::NotFound) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

/// What the link shows that a request came by.
pub async fn outsider(app: &App, request: &HttpRequest) -> Answer<Caller> {
    let Some(cookie) = request.cookie(VISIT_COOKIE) else { return Ok(Caller::Nobody) };
    match app.engine.catalog.visit(secrets::hash(cookie.value()).as_bytes(), app.engine.now()).await {
        Ok(shown) => Ok(Caller::Outsider(Box::new(shown))),
        Err(CatalogError::NotFound) => Ok(Caller::Nobody),
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
