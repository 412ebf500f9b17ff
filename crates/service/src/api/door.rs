//! The door of a machine without a household. In a house that is set up, there is no such thing.

use std::sync::Arc;

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use utoipa_actix_web::service_config::ServiceConfig;
use ypogeion_core::place::{PlaceWarning, judge};
use ypogeion_engine::{
    error::{Cannot, Error},
    from_kit::Otherwise,
    rebuild::{Source, is_unfinished},
};
use ypogeion_library::place;
use ypogeion_wire::door::{BringBack, Door as View, NewHousehold};

use crate::{
    door::{Door, refused},
    failure::{Answer, Failure, chain},
    security::Small,
};

/// Adds the door's routes.
pub fn routes(config: &mut ServiceConfig<'_>) {
    config.service(show_door).service(make_household).service(bring_back);
}

/// The door, for somebody with the code.
fn knock(door: Option<web::Data<Door>>, request: &HttpRequest) -> Answer<Arc<Door>> {
    let door = door.ok_or_else(Failure::not_found)?.into_inner();
    door.admit(request)?;
    Ok(door)
}

/// Tries the library's place out.
async fn warnings(door: &Arc<Door>) -> Answer<Vec<PlaceWarning>> {
    let door = Arc::clone(door);
    let facts = tokio::task::spawn_blocking(move || {
        let facts = place::probe(&door.settings.house.library)?;
        Ok::<_, ypogeion_library::LibraryError>(judge(&facts, door.settings.house.reserve))
    });
    facts.await?.map_err(|e| Failure::bad(format!("The library’s folder cannot be used: {}.", chain(&e))))
}

/// Refuses a place that has to be accepted first.
async fn settle_place(door: &Arc<Door>, accepted: bool) -> Answer<()> {
    let all = warnings(door).await?;
    match all.iter().find(|w| w.is_grave()) {
        Some(warning) if !accepted => Err(Failure::bad(format!("There is a problem with the library’s place: {warning}."))),
        _ => Ok(()),
    }
}

/// How it stands: what is under way, and what there is to think about.
#[utoipa::path(responses((status = 200, body = View)))]
#[get("/api/door")]
pub async fn show_door(door: Option<web::Data<Door>>, request: HttpRequest) -> Answer<web::Json<View>> {
    let door = knock(door, &request)?;
    let now = door.now();
    // While a household comes back the place is taken already, and is not tried out.
    let found = if now.busy || now.through { Vec::new() } else { warnings(&door).await? };
    Ok(web::Json(View {
        state: if now.through {
            "through"
        } else if now.busy {
            "busy"
        } else {
            "open"
        }
        .into(),
        begun: is_unfinished(&door.settings.house),
        library: door.settings.house.library.display().to_string(),
        warnings: found.iter().map(ToString::to_string).collect(),
        grave: found.iter().any(|w| w.is_grave()),
        told: now.told,
        failed: now.failed,
    }))
}

/// Makes the household and its keeper. The service starts when it is there.
#[utoipa::path(request_body = NewHousehold, responses((status = 201)))]
#[post("/api/door/household")]
pub async fn make_household(
    door: Option<web::Data<Door>>,
    request: HttpRequest,
    body: Small<NewHousehold>,
) -> Answer<HttpResponse> {
    let door = knock(door, &request)?;
    let NewHousehold { household, keeper, password, accept_place } = body.0;
    if is_unfinished(&door.settings.house) {
        return Err(Failure::bad("Restoring a household was interrupted here. Restore it, or begin with an empty data folder."));
    }
    settle_place(&door, accept_place).await?;
    let attempt = door.begin()?;
    let answer = match attempt.make(&household, &keeper, password).await {
        Ok(_) => Ok(HttpResponse::Created().finish()),
        Err(e) => Err(reason(e)),
    };
    attempt.end(answer.as_ref().map(drop).map_err(ToString::to_string));
    answer
}

/// What was typed wrongly, or what went wrong.
fn reason(error: Cannot) -> Failure {
    let Cannot { what, source } = error;
    match source.downcast::<Error>() {
        Ok(error) => (*error).into(),
        Err(other) => Failure::bad(format!("This machine could not {what}: {}.", chain(other.as_ref()))),
    }
}

/// Begins to bring a household back. What is said on the way is in the door's state.
#[utoipa::path(request_body = BringBack, responses((status = 202)))]
#[post("/api/door/kit")]
pub async fn bring_back(door: Option<web::Data<Door>>, request: HttpRequest, body: Small<BringBack>) -> Answer<HttpResponse> {
    let door = knock(door, &request)?;
    let BringBack { kit, password, endpoint, accept_place } = body.0;
    let endpoint = endpoint.map(|e| e.trim().to_owned()).filter(|e| !e.is_empty());
    let otherwise = Otherwise { endpoint, ..Otherwise::default() };
    let source = Source::read(&kit, password, &otherwise).await.map_err(refused)?;
    settle_place(&door, accept_place).await?;
    tokio::spawn(door.begin()?.bring_back(source));
    Ok(HttpResponse::Accepted().finish())
}
