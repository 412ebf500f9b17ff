//! Members.

use actix_web::{HttpResponse, get, patch, post, web};
use uuid::Uuid;
use ypogeion_core::PersonId;
use ypogeion_engine::people;
use ypogeion_wire::people::{NewPerson, Person, PersonChange};

use crate::{app::App, caller::Caller, failure::Answer};

/// The members: all of them for the keeper, oneself for everybody else.
#[utoipa::path(responses((status = 200, body = Vec<Person>)))]
#[get("/api/people")]
pub async fn list_people(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Person>>> {
    Ok(web::Json(people::list(&app.engine, caller.scope()?).await?))
}

/// Adds a member.
#[utoipa::path(responses((status = 201, body = Person)))]
#[post("/api/people")]
pub async fn add_person(app: web::Data<App>, caller: Caller, body: web::Json<NewPerson>) -> Answer<HttpResponse> {
    let proved = caller.has_proved(app.engine.now())?;
    let added = people::add(&app.engine, &caller.person()?.name, body.into_inner(), proved).await?;
    Ok(HttpResponse::Created().json(added))
}

/// Changes a member's quota or password.
#[utoipa::path(responses((status = 200, body = Person)))]
#[patch("/api/people/{id}")]
pub async fn change_person(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<PersonChange>,
) -> Answer<web::Json<Person>> {
    let proved = caller.has_proved(app.engine.now())?;
    let changed = people::change(&app.engine, caller.person()?, PersonId(*id), body.into_inner(), proved).await?;
    Ok(web::Json(changed))
}
