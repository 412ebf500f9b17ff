//! Albums. What somebody may do in one is asked by the engine, each time.

use actix_web::{HttpResponse, delete, get, patch, post, put, web};
use uuid::Uuid;
use ypogeion_core::AlbumId;
use ypogeion_engine::{albums, arrangement};
use ypogeion_wire::{
    album::{Album, AlbumChange, AlbumFilled, AlbumPictures, NewAlbum},
    arrangement::{Arrange, ArrangedAlbum},
};

use crate::{app::App, caller::Caller, failure::Answer};

/// The albums that one sees: one's own, those that are shared with one, and those of the household; empty ones first, then those with the newest
/// pictures.
#[utoipa::path(responses((status = 200, body = Vec<Album>)))]
#[get("/api/albums")]
pub async fn list_albums(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<Album>>> {
    Ok(web::Json(albums::list(&app.engine, caller.person()?.id).await?))
}

/// Makes an album. Nobody else sees it until it is shared. Up to 500.
#[utoipa::path(responses((status = 201, body = Album)))]
#[post("/api/albums")]
pub async fn make_album(app: web::Data<App>, caller: Caller, body: web::Json<NewAlbum>) -> Answer<HttpResponse> {
    Ok(HttpResponse::Created().json(albums::make(&app.engine, caller.person()?, &body).await?))
}

/// One album. Its pictures are asked for where those of the library are, with `album`.
#[utoipa::path(responses((status = 200, body = Album)))]
#[get("/api/albums/{id}")]
pub async fn show_album(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Album>> {
    Ok(web::Json(albums::one(&app.engine, caller.person()?, AlbumId(*id)).await?))
}

/// Changes an album of one's own.
#[utoipa::path(responses((status = 200, body = Album)))]
#[patch("/api/albums/{id}")]
pub async fn change_album(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<AlbumChange>,
) -> Answer<web::Json<Album>> {
    Ok(web::Json(albums::change(&app.engine, caller.person()?, AlbumId(*id), &body).await?))
}

/// Takes an album of one's own apart. Its pictures stay where they are.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/albums/{id}")]
pub async fn remove_album(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    albums::remove(&app.engine, caller.person()?, AlbumId(*id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Puts pictures of one's own into an album, or takes pictures out of it: one's own, those that one put there, and, of an album of one's own, all.
#[utoipa::path(responses((status = 200, body = AlbumFilled)))]
#[post("/api/albums/{id}/pictures")]
pub async fn fill_album(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<AlbumPictures>,
) -> Answer<web::Json<AlbumFilled>> {
    Ok(web::Json(albums::fill(&app.engine, caller.person()?.id, AlbumId(*id), &body).await?))
}

/// One album with all of its pictures in the order in which its owner arranged them, with the words between; otherwise in the order in which they were
/// taken. Of up to 1,000 pictures.
#[utoipa::path(responses((status = 200, body = ArrangedAlbum)))]
#[get("/api/albums/{id}/arrangement")]
pub async fn show_arranged(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<ArrangedAlbum>> {
    Ok(web::Json(arrangement::show(&app.engine, caller.person()?.id, AlbumId(*id)).await?))
}

/// Arranges an album of one's own, or has it shown by time again. Nothing is done, if it was arranged otherwise meanwhile.
#[utoipa::path(responses((status = 204)))]
#[put("/api/albums/{id}/arrangement")]
pub async fn arrange_album(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<Arrange>,
) -> Answer<HttpResponse> {
    arrangement::arrange(&app.engine, caller.person()?, AlbumId(*id), &body).await?;
    Ok(HttpResponse::NoContent().finish())
}
