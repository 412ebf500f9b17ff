//! Taking over what lies on an old disk or in an archive: a look first, then a plan, then file by file.

use actix_web::{HttpResponse, get, patch, post, web};
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_engine::{adoptions, elsewhere};
use ypogeion_wire::adoption::{
    AdoptablePlaces, AdoptedFile, Adoption, AdoptionChange, LeftFolder, LeftFolderChange, NewAdoption,
};

use crate::{app::App, caller::Caller, failure::Answer};

/// A folder of the server.
#[derive(Deserialize, IntoParams)]
pub struct PlaceQuery {
    /// Which; none for the folders that the settings name.
    folder: Option<String>,
}

/// What may be adopted: folders and archives below the folders that the settings name, one level at a time.
#[utoipa::path(params(PlaceQuery), responses((status = 200, body = AdoptablePlaces)))]
#[get("/api/adoptions/places")]
pub async fn list_adoptable(app: web::Data<App>, query: web::Query<PlaceQuery>) -> Answer<web::Json<AdoptablePlaces>> {
    Ok(web::Json(adoptions::places(&app.engine, query.into_inner().folder).await?))
}

/// Looks through a folder or an archive, in the background, and makes a plan. Nothing is taken by it.
#[utoipa::path(responses((status = 201, body = Adoption)))]
#[post("/api/adoptions")]
pub async fn plan_adoption(app: web::Data<App>, caller: Caller, body: web::Json<NewAdoption>) -> Answer<HttpResponse> {
    Ok(HttpResponse::Created().json(adoptions::plan(&app.engine, &caller.person()?.name, &body).await?))
}

/// The last adoptions, newest first.
#[utoipa::path(responses((status = 200, body = Vec<Adoption>)))]
#[get("/api/adoptions")]
pub async fn list_adoptions(app: web::Data<App>) -> Answer<web::Json<Vec<Adoption>>> {
    Ok(web::Json(adoptions::list(&app.engine).await?))
}

/// Begins a plan, pauses it, lets it go on, stops it, or tries again what failed. What was taken stays.
#[utoipa::path(responses((status = 200, body = Adoption)))]
#[patch("/api/adoptions/{id}")]
pub async fn change_adoption(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<AdoptionChange>,
) -> Answer<web::Json<Adoption>> {
    Ok(web::Json(adoptions::change(&app.engine, &caller.person()?.name, *id, body.order).await?))
}

/// The folders outside the library in which originals were left, and whether they are there.
#[utoipa::path(responses((status = 200, body = Vec<LeftFolder>)))]
#[get("/api/left-folders")]
pub async fn list_left_folders(app: web::Data<App>) -> Answer<web::Json<Vec<LeftFolder>>> {
    Ok(web::Json(elsewhere::list(&app.engine).await?))
}

/// Says that a folder that is out of reach does not come back: what was left there is looked for at home, and made good from the stores. Or
/// that it may come back after all.
#[utoipa::path(responses((status = 204)))]
#[patch("/api/left-folders")]
pub async fn change_left_folder(app: web::Data<App>, caller: Caller, body: web::Json<LeftFolderChange>) -> Answer<HttpResponse> {
    elsewhere::give_up(&app.engine, &caller.person()?.name, &body.path, body.given_up).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Which files.
#[derive(Deserialize, IntoParams)]
pub struct FilesQuery {
    /// `waiting`, `left-out`, `failed`, `copied`, `pointed` or `present`.
    outcome: String,
    /// How many to pass over.
    #[serde(default)]
    offset: u32,
}

/// Files of an adoption with one outcome, two hundred at a time.
#[utoipa::path(params(FilesQuery), responses((status = 200, body = Vec<AdoptedFile>)))]
#[get("/api/adoptions/{id}/files")]
pub async fn list_adopted(
    app: web::Data<App>,
    id: web::Path<Uuid>,
    query: web::Query<FilesQuery>,
) -> Answer<web::Json<Vec<AdoptedFile>>> {
    Ok(web::Json(adoptions::files(&app.engine, *id, &query.outcome, query.offset).await?))
}
