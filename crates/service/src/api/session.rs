//! Signing in and out, one's own password, and where one is signed in.

use actix_web::{
    HttpRequest, HttpResponse,
    cookie::time::Duration,
    delete, get,
    http::header::{HeaderName, HeaderValue},
    post, web,
};
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    people::{Ending, Person},
};
use ypogeion_core::words;
use ypogeion_engine::secrets;
use ypogeion_wire::{
    people::{Arrival, ChangePassword, Me, ProvePassword, SignIn, SignedIn},
    problem::ProblemType,
};

use crate::{
    app::App,
    caller::{Caller, cookie_of, is_secure, session_cookie, signed_in},
    failure::{Answer, Failure},
    security::{self, LONGEST_NAME, Small},
};

const SESSION_DAYS: i64 = 30;
/// Attempts in five minutes, right or wrong, from one address (or one network of IPv6).
const FROM_ONE_PLACE: usize = 50;
/// After so many wrong passwords the record says so; and again after each as many more.
const WORTH_TELLING: usize = 5;
/// As much of what a browser says of itself as is kept.
const LONGEST_AGENT: usize = 300;

fn me(app: &App, person: &Person) -> Me {
    Me { id: person.id, name: person.name.clone(), role: person.role.word().into(), household: app.engine.household.name.clone() }
}

/// Signs in with name and password; the answer sets the session cookie.
#[utoipa::path(request_body = SignIn, responses((status = 200, body = Me)))]
#[post("/api/session")]
pub async fn sign_in(app: web::Data<App>, request: HttpRequest, body: Small<SignIn>) -> Answer<HttpResponse> {
    let SignIn { name, password } = body.0;
    let refused = || Failure::new(ProblemType::WrongPassword, "Wrong name or password. Check both and try again.");
    let address = security::somebody_at(request.peer_addr().map(|a| a.ip()));
    let from = format!("sign-in from {address}");
    app.limiter.attempt(&from, FROM_ONE_PLACE)?;
    if name.len() > LONGEST_NAME {
        return Err(refused());
    }
    let who = format!("sign-in {}", name.trim().to_lowercase());
    let (_turn, wrong) = app.limiter.turn(&who).await?;
    let person = match app.engine.catalog.person_by_login(&name).await {
        Ok(person) => Some(person),
        Err(CatalogError::NotFound) => None,
        Err(e) => return Err(e.into()),
    };
    let hash = person.as_ref().map_or(secrets::NOBODYS_HASH.to_owned(), |p| p.password_hash.clone());
    let right = secrets::is_password(password, hash).await?;
    let (known, person) = (person.as_ref().map(|p| p.name.clone()), person.filter(|_| right));
    let Some(person) = person else {
        // Names that nobody here has are not written down: a stranger chooses them.
        if let Some(name) = known.filter(|_| wrong % WORTH_TELLING == 0) {
            let line = format!("gave {} for {name}, from {address}", words::counted(wrong as u64, "wrong password"));
            app.engine.catalog.write_record(app.engine.now(), "Somebody", &line).await?;
        }
        return Err(refused());
    };
    app.limiter.forget(&who);
    app.limiter.forget(&from);
    let (token, now) = (secrets::token(), app.engine.now());
    let life = chrono::TimeDelta::days(SESSION_DAYS);
    let agent = request.headers().get("user-agent").and_then(|v| v.to_str().ok()).unwrap_or_default();
    let agent: String = agent.chars().filter(|c| !c.is_control()).take(LONGEST_AGENT).collect();
    app.engine.catalog.open_session(secrets::hash(&token).as_bytes(), person.id, &agent, now, now + life).await?;
    let after = if wrong > 1 { format!(" after {}", words::counted(wrong as u64 - 1, "wrong password")) } else { String::new() };
    app.engine.catalog.write_record(now, &person.name, &format!("signed in{after}")).await?;
    let cookie = session_cookie(token, is_secure(&request), Duration::days(SESSION_DAYS));
    Ok(HttpResponse::Ok().cookie(cookie).json(me(&app, &person)))
}

/// Whether there is a household, and who is signed in. Answers everybody: a browser has to ask before it knows.
#[utoipa::path(responses((status = 200, body = Arrival)))]
#[get("/api/arrival")]
pub async fn arrive(app: web::Data<App>, request: HttpRequest) -> Answer<web::Json<Arrival>> {
    let me = signed_in(&app, &request).await?.map(|(person, _)| me(&app, &person));
    Ok(web::Json(Arrival { set_up: true, me }))
}

/// Who is signed in.
#[utoipa::path(responses((status = 200, body = Me)))]
#[get("/api/session")]
pub async fn who_am_i(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Me>> {
    Ok(web::Json(me(&app, caller.person()?)))
}

/// Signs out. The browser forgets what it has of this house.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/session")]
pub async fn sign_out(app: web::Data<App>, request: HttpRequest) -> Answer<HttpResponse> {
    if let Some(cookie) = cookie_of(&request) {
        app.engine.catalog.close_session(secrets::hash(cookie.value()).as_bytes()).await?;
    }
    let forget = (HeaderName::from_static("clear-site-data"), HeaderValue::from_static("\"cache\", \"storage\""));
    let cookie = session_cookie(String::new(), is_secure(&request), Duration::ZERO);
    Ok(HttpResponse::NoContent().cookie(cookie).insert_header(forget).finish())
}

/// Whoever sits at somebody's session is asked for the password again before something that nobody could take back.
pub async fn same_password(app: &App, person: &Person, password: String) -> Answer<()> {
    let account = format!("password of {}", person.id);
    let (_turn, _) = app.limiter.turn(&account).await?;
    if secrets::is_password(password, person.password_hash.clone()).await? {
        app.limiter.forget(&account);
        return Ok(());
    }
    Err(Failure::new(
        ProblemType::NotAllowed,
        "That is not your password. It is asked for again because this can open or change everything.",
    ))
}

/// Types the password again. For ten minutes, this session may do what asks for it.
#[utoipa::path(request_body = ProvePassword, responses((status = 204)))]
#[post("/api/session/proof")]
pub async fn prove_password(app: web::Data<App>, caller: Caller, body: Small<ProvePassword>) -> Answer<HttpResponse> {
    same_password(&app, caller.person()?, body.0.password).await?;
    app.engine.catalog.session_proved(caller.session()?.id, app.engine.now()).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Changes one's own password, and ends all other sessions.
#[utoipa::path(request_body = ChangePassword, responses((status = 204)))]
#[post("/api/session/password")]
pub async fn change_password(app: web::Data<App>, caller: Caller, body: Small<ChangePassword>) -> Answer<HttpResponse> {
    let (person, session) = (caller.person()?, caller.session()?);
    let ChangePassword { old, new } = body.0;
    same_password(&app, person, old).await?;
    let hash = tokio::task::spawn_blocking(move || secrets::hash_password(&new)).await??;
    app.engine.catalog.change_person(person.id, None, None, Some(&hash), Some(session.id)).await?;
    app.engine.catalog.session_proved(session.id, app.engine.now()).await?;
    app.engine
        .catalog
        .write_record(app.engine.now(), &person.name, "changed their password, which ended all other sessions")
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Where one is signed in.
#[utoipa::path(responses((status = 200, body = Vec<SignedIn>)))]
#[get("/api/sessions")]
pub async fn list_sessions(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<SignedIn>>> {
    let this = caller.session()?.id;
    let sessions = app.engine.catalog.sessions(caller.person()?.id, app.engine.now()).await?;
    let told = sessions.into_iter().map(|s| SignedIn {
        this: s.id == this,
        id: s.id,
        browser: browser(&s.agent),
        since: s.created_at,
        seen_at: s.seen_at,
    });
    Ok(web::Json(told.collect()))
}

/// Ends all sessions of one's own but this one.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/sessions")]
pub async fn end_other_sessions(app: web::Data<App>, caller: Caller) -> Answer<HttpResponse> {
    let (person, this) = (caller.person()?, caller.session()?.id);
    let ended = app.engine.catalog.end_sessions(person.id, Ending::AllBut(Some(this))).await?;
    if ended > 0 {
        let line = format!("ended {}", words::counted(ended, "other session"));
        app.engine.catalog.write_record(app.engine.now(), &person.name, &line).await?;
    }
    Ok(HttpResponse::NoContent().finish())
}

/// Ends one session of one's own.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/sessions/{id}")]
pub async fn end_session(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    app.engine.catalog.end_sessions(caller.person()?.id, Ending::One(*id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// A browser in a few words that its owner knows: what it is, and on what it runs. Whatever is not known stays unsaid.
fn browser(agent: &str) -> String {
    let find = |known: &[(&str, &'static str)]| known.iter().find(|(sign, _)| agent.contains(sign)).map(|(_, name)| *name);
    // The order matters: most say that they are others as well.
    let what = find(&[("Firefox/", "Firefox"), ("Edg", "Edge"), ("Chrome/", "Chrome or a relative"), ("Safari/", "Safari")]);
    let on = find(&[
        ("Android", "Android"),
        ("iPhone", "an iPhone"),
        ("iPad", "an iPad"),
        ("Windows", "Windows"),
        ("Mac OS", "a Mac"),
        ("Linux", "Linux"),
    ]);
    match (what, on) {
        (Some(what), Some(on)) => format!("{what} on {on}"),
        (Some(one), None) | (None, Some(one)) => one.to_owned(),
        (None, None) => "Another program".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_browser_is_told_in_words_that_its_owner_knows() {
        let phone = "Mozilla/5.0 (Linux; Android 14) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/126.0 Mobile Safari/537.36";
        assert_eq!(browser(phone), "Chrome or a relative on Android");
        assert_eq!(browser("Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"), "Firefox on Linux");
        assert_eq!(browser("curl/8.0"), "Another program");
        assert_eq!(browser(""), "Another program");
    }
}
