//! Members.

use actix_web::{HttpResponse, get, patch, post, web};
use uuid::Uuid;
use ypogeion_catalog::people::Person as Row;
use ypogeion_core::{PersonId, access::Role, filing::member_folder, room::QuotaState};
use ypogeion_wire::people::{NewPerson, Person, PersonChange};

use crate::{
    app::App,
    caller::Caller,
    failure::{Answer, Failure},
    security,
};

async fn view(app: &App, row: Row) -> Answer<Person> {
    let usage = app.catalog.usage(row.id).await?;
    Ok(Person {
        id: row.id,
        name: row.name,
        role: row.role.word().into(),
        folder: row.folder,
        quota_state: QuotaState::of(usage.bytes, row.soft_quota, row.quota).word().to_owned(),
        quota: row.quota,
        soft_quota: row.soft_quota,
        originals: usage.count,
        bytes: usage.bytes,
    })
}

/// The members: all of them for the keeper, oneself for everybody else.
#[utoipa::path(responses((status = 200, body = Vec<Person>)))]
#[get("/api/people")]
pub async fn list_people(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Person>>> {
    let scope = caller.scope()?;
    let mut people = Vec::new();
    for row in app.catalog.people().await? {
        if scope.is_none_or(|only| only == row.id) {
            people.push(view(&app, row).await?);
        }
    }
    Ok(web::Json(people))
}

/// Adds a member.
#[utoipa::path(responses((status = 201, body = Person)))]
#[post("/api/people")]
pub async fn add_person(app: web::Data<App>, caller: Caller, body: web::Json<NewPerson>) -> Answer<HttpResponse> {
    let NewPerson { name, role, password, quota } = body.into_inner();
    if Role::of_person(&role) == Some(Role::Keeper) {
        caller.proved(app.now())?;
    }
    let row = new_person(&name, &role, password, quota).await?;
    app.catalog.add_person(&row, app.now()).await?;
    app.catalog.write_record(app.now(), &caller.person()?.name, &format!("added {} as {role}", row.name)).await?;
    Ok(HttpResponse::Created().json(view(&app, row).await?))
}

/// Checks what was typed and makes a member of it. Also used by the set-up.
pub async fn new_person(name: &str, role: &str, password: String, quota: Option<u64>) -> Answer<Row> {
    let name = name.trim().to_owned();
    if name.is_empty() || name.chars().count() > 60 || name.chars().any(char::is_control) {
        return Err(Failure::bad("A name has between 1 and 60 characters."));
    }
    let role = Role::of_person(role).ok_or_else(|| Failure::bad("A role is keeper, member or guest."))?;
    let password_hash = tokio::task::spawn_blocking(move || security::hash_password(&password)).await??;
    let folder = member_folder(&name);
    if folder.starts_with('.') {
        return Err(Failure::bad("A name begins with a letter or a digit."));
    }
    Ok(Row { id: PersonId(Uuid::now_v7()), name, role, folder, password_hash, quota: quota.filter(|q| *q > 0), soft_quota: None })
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
    let (id, PersonChange { quota, soft_quota, password }) = (PersonId(*id), body.into_inner());
    if password.is_some() {
        if id == caller.person()?.id {
            return Err(Failure::bad("Your own password is changed under your name, and asks for the one that counts now."));
        }
        caller.proved(app.now())?;
    }
    let hash = match password {
        Some(password) => Some(tokio::task::spawn_blocking(move || security::hash_password(&password)).await??),
        None => None,
    };
    app.catalog.change_person(id, quota, soft_quota, hash.as_deref(), None).await?;
    let row = app.catalog.person(id).await?;
    let what = [quota.map(|_| "quota"), soft_quota.map(|_| "soft quota"), hash.as_ref().map(|_| "password")]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(" and ");
    app.catalog.write_record(app.now(), &caller.person()?.name, &format!("changed the {what} of {}", row.name)).await?;
    Ok(web::Json(view(&app, row).await?))
}
