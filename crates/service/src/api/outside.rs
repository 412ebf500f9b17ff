//! Links for people outside: made and withdrawn by whoever shares, opened by whoever has one. What is behind `/api/outside/{id}` is seen with the
//! cookie of that link and with nothing else.

use actix_files::NamedFile;
use actix_web::{
    HttpRequest, HttpResponse,
    body::SizedStream,
    cookie::{Cookie, SameSite, time::Duration},
    delete, get,
    http::header::{CACHE_CONTROL, HeaderName, HeaderValue},
    post, web,
};
use futures_util::stream;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::links::Shown;
use ypogeion_core::{AlbumId, LinkId, OriginalId};
use ypogeion_engine::{
    error::Error,
    link_zip,
    links::{self, Handed, Opening, Played},
};
use ypogeion_wire::{
    link::{Link, NewLink, OpenLink, OpenedLink, Outside, OwnLink},
    problem::ProblemType,
};

use super::library::{cursor, made_film, preview, send_file, told};
use crate::{
    app::App,
    caller::{Caller, VISIT_COOKIE, is_secure},
    disposition::disposition,
    failure::{Answer, Failure},
    security::{self, Small},
};

/// Attempts in five minutes from one address (or one network of IPv6).
const FROM_ONE_PLACE: usize = 60;

/// Makes a link to an album of one's own. The answer has its address, once.
#[utoipa::path(responses((status = 201, body = Link)))]
#[post("/api/albums/{id}/links")]
pub async fn make_link(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    body: web::Json<NewLink>,
) -> Answer<HttpResponse> {
    let made = links::make(&app.engine, caller.person()?, AlbumId(*id), body.into_inner(), &app.address).await?;
    Ok(HttpResponse::Created().json(made))
}

/// The links to an album of one's own that have not ended.
#[utoipa::path(responses((status = 200, body = Vec<Link>)))]
#[get("/api/albums/{id}/links")]
pub async fn list_links(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<web::Json<Vec<Link>>> {
    Ok(web::Json(links::list(&app.engine, caller.person()?, AlbumId(*id)).await?))
}

/// All links of one's own that have not ended, to whichever album.
#[utoipa::path(responses((status = 200, body = Vec<OwnLink>)))]
#[get("/api/links")]
pub async fn list_own_links(app: web::Data<App>, caller: Caller) -> Answer<web::Json<Vec<OwnLink>>> {
    Ok(web::Json(links::list_all(&app.engine, caller.owner()?).await?))
}

/// Withdraws a link. Whoever has it, or looks at it just now, sees nothing more.
#[utoipa::path(responses((status = 204)))]
#[delete("/api/links/{id}")]
pub async fn withdraw_link(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    links::withdraw(&app.engine, caller.person()?, LinkId(*id)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Opens a link; the answer sets a cookie for its paths. `passphrase-wanted`, if it has one that was not typed.
#[utoipa::path(request_body = OpenLink, responses((status = 200, body = OpenedLink)))]
#[post("/api/outside")]
pub async fn open_link(app: web::Data<App>, request: HttpRequest, body: Small<OpenLink>) -> Answer<HttpResponse> {
    let OpenLink { secret, passphrase } = body.0;
    let address = security::somebody_at(request.peer_addr().map(|a| a.ip()));
    let from = format!("links from {address}");
    app.limiter.attempt(&from, FROM_ONE_PLACE)?;
    let link = links::find(&app.engine, &secret).await?;
    // Whoever guesses passphrases is slowed down, wherever they are.
    let account = format!("link {}", link.id);
    let turn = match passphrase.is_some() && link.passphrase.is_some() {
        true => Some(app.limiter.turn(&account).await?),
        false => None,
    };
    match links::open(&app.engine, link, passphrase).await? {
        Opening::Open { id, token, until } => {
            drop(turn);
            app.limiter.forget(&account);
            app.limiter.forget(&from);
            let life = (until - app.engine.now()).num_seconds();
            let cookie = Cookie::build(VISIT_COOKIE, token)
                .path(format!("/api/outside/{id}"))
                .http_only(true)
                .same_site(SameSite::Strict)
                .secure(is_secure(&request))
                .max_age(Duration::seconds(life))
                .finish();
            Ok(HttpResponse::Ok().cookie(cookie).json(OpenedLink { id }))
        }
        Opening::Passphrase => {
            Err(Failure::new(ProblemType::PassphraseWanted, "Type the passphrase that you were told with this link."))
        }
        Opening::WrongPassphrase => Err(Failure::new(ProblemType::WrongPassword, "That is not the passphrase of this link.")),
    }
}

/// The link that a request came by, if it is the one that its path names.
fn shown(caller: &Caller, link: Uuid) -> Answer<&Shown> {
    match caller {
        Caller::Outsider(shown) if shown.link == LinkId(link) => Ok(shown),
        _ => Err(Failure::not_found()),
    }
}

/// Which page.
#[derive(Deserialize, IntoParams)]
pub struct OutsideQuery {
    /// `next` of the page before.
    after: Option<String>,
}

/// Pictures on a page.
const PAGE: i64 = 200;
/// So many bytes are sent at once.
const PIECE: usize = 64 << 10;

/// What a link shows, newest first.
#[utoipa::path(params(OutsideQuery), responses((status = 200, body = Outside)))]
#[get("/api/outside/{id}")]
pub async fn list_outside(
    app: web::Data<App>,
    caller: Caller,
    id: web::Path<Uuid>,
    query: web::Query<OutsideQuery>,
) -> Answer<web::Json<Outside>> {
    let shown = shown(&caller, *id)?;
    let after = query
        .after
        .as_deref()
        .map(|text| cursor(text).ok_or_else(|| Failure::bad("\"after\" is not one that this service gave out.")));
    let (mut page, last) = links::page(&app.engine, shown, after.transpose()?, PAGE).await?;
    page.next = last.map(told);
    Ok(web::Json(page))
}

/// A picture as it is shown, `small` or `large`, as JPEG without places.
#[utoipa::path(responses((status = 200, content_type = "image/jpeg", body = Vec<u8>)))]
#[get("/api/outside/{id}/pictures/{picture}/{size}")]
pub async fn show_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid, String)>,
) -> Answer<HttpResponse> {
    let (id, picture, size) = path.into_inner();
    if !matches!(size.as_str(), "small" | "large") {
        return Err(Failure::not_found());
    }
    let row = app.engine.catalog.shown_by(shown(&caller, id)?, OriginalId(picture)).await?;
    Ok(kept_by_nobody(preview(&app, &request, &row, &size).await?))
}

/// A picture to keep: what the link hands out of it.
#[utoipa::path(responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 206)))]
#[get("/api/outside/{id}/files/{picture}")]
pub async fn download_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid)>,
) -> Answer<HttpResponse> {
    let (id, picture) = path.into_inner();
    let response = match links::handed(&app.engine, shown(&caller, id)?, OriginalId(picture)).await? {
        Handed::Original(row, file) => send_file(&request, file, &row.path, row.facts.media_type.as_deref(), row.digest, false)?,
        Handed::Bare { name, bytes, room } => {
            let length = bytes.len() as u64;
            // Piece by piece, as it is taken: until the last one the room is not free.
            let pieces = stream::unfold((bytes, room), async |(mut bytes, room)| {
                let piece = bytes.split_to(PIECE.min(bytes.len()));
                (!piece.is_empty()).then_some((Ok::<_, actix_web::Error>(piece), (bytes, room)))
            });
            let body = SizedStream::new(length, Box::pin(pieces));
            HttpResponse::Ok().content_type("image/jpeg").insert_header(disposition(name, false)).body(body)
        }
        Handed::Preview(id, name) => {
            let place = app.engine.settings.preview_path(id, "large");
            let file = NamedFile::open_async(&place).await.map_err(|_| {
                Error::NotNow("There is no picture of this file to hand out, and this link hands out no originals.".to_owned())
            })?;
            let file = file.set_content_type(mime_guess::mime::IMAGE_JPEG).set_content_disposition(disposition(name, false));
            file.into_response(&request)
        }
    };
    Ok(kept_by_nobody(response))
}

/// All that a link hands out, as a zip. How long it is, nobody knows before; a broken download is begun again.
#[utoipa::path(responses((status = 200, content_type = "application/zip", body = Vec<u8>)))]
#[get("/api/outside/{id}/zip")]
pub async fn zip_outside(app: web::Data<App>, caller: Caller, id: web::Path<Uuid>) -> Answer<HttpResponse> {
    let shown = shown(&caller, *id)?;
    let bytes = link_zip::all(&app.engine, shown).await?;
    let bytes = stream::unfold(bytes, async |mut bytes| bytes.recv().await.map(|some| (some, bytes)));
    let name = format!("{}.zip", shown.name.replace(['/', '\\'], " "));
    let mut response = HttpResponse::Ok();
    response.content_type("application/zip").insert_header(disposition(name, false));
    Ok(kept_by_nobody(response.streaming(Box::pin(bytes))))
}

/// A film that a link plays: the version that was made for browsers, or, with the originals, the film itself; ranges work.
#[utoipa::path(responses((status = 200, content_type = "video/mp4", body = Vec<u8>), (status = 206)))]
#[get("/api/outside/{id}/films/{picture}")]
pub async fn play_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid)>,
) -> Answer<HttpResponse> {
    let (id, picture) = path.into_inner();
    let response = match links::played(&app.engine, shown(&caller, id)?, OriginalId(picture)).await? {
        Played::Original(row, file) => send_file(&request, file, &row.path, row.facts.media_type.as_deref(), row.digest, true)?,
        Played::Made(id) => made_film(&app, &request, id).await?,
    };
    Ok(kept_by_nobody(response))
}

/// What a link shows is dead as soon as the link is, also in whatever a browser would keep of it.
fn kept_by_nobody(mut response: HttpResponse) -> HttpResponse {
    response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response.headers_mut().insert(HeaderName::from_static("x-robots-tag"), HeaderValue::from_static("noindex, nofollow"));
    response
}
