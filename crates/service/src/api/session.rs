//! Signing in and out.

use actix_web::{HttpRequest, HttpResponse, cookie::time::Duration, delete, get, post, web};
use ypogeion_catalog::{CatalogError, people::Person};
use ypogeion_wire::{
    people::{Me, SignIn},
    problem::ProblemType,
};

use crate::{
    app::App,
    caller::{COOKIE, Caller, session_cookie},
    failure::{Answer, Failure},
    security,
};

const SESSION_DAYS: i64 = 30;
const ATTEMPTS: usize = 10;

fn me(app: &App, person: &Person) -> Me {
    Me { id: person.id, name: person.name.clone(), role: person.role.word().into(), household: app.household.name.clone() }
}

/// Signs in with name and password; the answer sets the session cookie.
#[utoipa::path(responses((status = 200, body = Me)))]
#[post("/api/session")]
pub async fn sign_in(app: web::Data<App>, request: HttpRequest, body: web::Json<SignIn>) -> Answer<HttpResponse> {
    let SignIn { name, password } = body.into_inner();
    let address = request.peer_addr().map(|a| a.ip().to_string()).unwrap_or_default();
    let (who, from) = (format!("sign-in {}", name.trim().to_lowercase()), format!("sign-in from {address}"));
    app.limiter.attempt(from.clone(), ATTEMPTS * 5)?;
    app.limiter.attempt(who.clone(), ATTEMPTS)?;
    let person = match app.catalog.person_by_login(&name).await {
        Ok(person) => Some(person),
        Err(CatalogError::NotFound) => None,
        Err(e) => return Err(e.into()),
    };
    let hash = person.as_ref().map_or(security::NOBODYS_HASH.to_owned(), |p| p.password_hash.clone());
    let right = tokio::task::spawn_blocking(move || security::verify_password(&password, &hash)).await?;
    let Some(person) = person.filter(|_| right) else {
        return Err(Failure::new(
            ProblemType::WrongPassword,
            "Name and password do not belong together. Check both and try again.",
        ));
    };
    app.limiter.forget(&who);
    app.limiter.forget(&from);
    let (token, now) = (security::token(), app.now());
    let life = chrono::TimeDelta::days(SESSION_DAYS);
    app.catalog.open_session(security::hash(&token).as_bytes(), person.id, now, now + life).await?;
    app.catalog.write_record(now, &person.name, "signed in").await?;
    let secure = request.connection_info().scheme() == "https";
    Ok(HttpResponse::Ok().cookie(session_cookie(token, secure, Duration::days(SESSION_DAYS))).json(me(&app, &person)))
}

/// Who is signed in.
#[utoipa::path(responses((status = 200, body = Me)))]
#[get("/api/session")]
pub async fn who_am_i(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Me>> {
    Ok(web::Json(me(&app, caller.person()?)))
}

/// Signs out.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/session")]
pub async fn sign_out(app: web::Data<App>, request: HttpRequest) -> Answer<HttpResponse> {
    if let Some(cookie) = request.cookie(COOKIE) {
        app.catalog.close_session(security::hash(cookie.value()).as_bytes()).await?;
    }
    Ok(HttpResponse::NoContent().cookie(session_cookie(String::new(), false, Duration::ZERO)).finish())
}
