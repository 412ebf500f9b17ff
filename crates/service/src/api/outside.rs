//! Links for people outside: made and withdrawn by whoever shares, opened by whoever has one. What is behind `/api/outside/{id}` is seen with the
//! cookie of that link and with nothing else.

use actix_files::NamedFile;
use actix_web::{
    HttpRequest, HttpResponse,
    body::SizedStream,
    cookie::{Cookie, SameSite, time::Duration},
    delete, get, head,
    http::header::{CACHE_CONTROL, HeaderName, HeaderValue},
    patch, post, web,
};
use futures_util::stream;
use serde::Deserialize;
use utoipa::IntoParams;
use uuid::Uuid;
use ypogeion_catalog::links::Shown;
use ypogeion_core::{AlbumId, LinkId, OriginalId};
use ypogeion_engine::{
    brought,
    error::Error,
    link_zip,
    links::{self, Handed, Opening, Played},
};
use ypogeion_wire::{
    brought::{BroughtDone, BroughtPictures, JudgeBrought},
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
    tus::{self, Sender, metadata::Metadata},
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

/// Who sends by a link, if it takes anything.
fn sender(shown: &Shown) -> Answer<Sender> {
    let takes = |device| Sender {
        device,
        person: shown.person,
        at: format!("/api/outside/{}/uploads", shown.link),
        link: Some(shown.link),
    };
    shown.device.map(takes).ok_or_else(|| Error::NotAllowed("This link takes no pictures.".to_owned()).into())
}

/// Begins to bring a picture by a link, as with `/tus/`: the same headers, of the metadata `filename`, `mtime`, `sha256` and `from`. It waits for whoever made
/// the link, and is in nothing that the link shows until they have taken it.
#[utoipa::path(request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"), responses((status = 201)))]
#[post("/api/outside/{id}/uploads")]
pub async fn bring_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<Uuid>,
    body: web::Payload,
) -> Answer<HttpResponse> {
    let (shown, app) = (shown(&caller, *id)?, app.into_inner());
    let sender = sender(shown)?;
    let metadata = tus::asked(&request)?;
    if request.headers().contains_key("upload-concat") {
        return Err(Failure::bad("By a link, a file comes in one upload."));
    }
    let length = tus::length(&request)?;
    let (brought, source) = brought::begin(&app.engine, shown, metadata.name.as_str(), length, &metadata.from).await?;
    let metadata = Metadata { source, ..metadata };
    let made = tus::create(&app, &sender, &request, body, metadata, Some(brought)).await;
    Ok(kept_by_nobody(made.map_err(|e| discreet(e, shown))?))
}

/// How far has that come?
#[utoipa::path(responses((status = 200)))]
#[head("/api/outside/{id}/uploads/{upload}")]
pub async fn show_brought_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid)>,
) -> Answer<HttpResponse> {
    let (id, upload) = path.into_inner();
    let sender = sender(shown(&caller, id)?)?;
    Ok(kept_by_nobody(tus::show(&app.into_inner(), &sender, &request, upload).await?))
}

/// Takes the next bytes of it.
#[utoipa::path(request_body(content = Vec<u8>, content_type = "application/offset+octet-stream"), responses((status = 204)))]
#[patch("/api/outside/{id}/uploads/{upload}")]
pub async fn append_outside(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    path: web::Path<(Uuid, Uuid)>,
    body: web::Payload,
) -> Answer<HttpResponse> {
    let (id, upload) = path.into_inner();
    let shown = shown(&caller, id)?;
    let taken = tus::more(&app.into_inner(), &sender(shown)?, &request, upload, body).await;
    Ok(kept_by_nobody(taken.map_err(|e| discreet(e, shown))?))
}

/// How much room somebody has is nothing that people outside are told: only that there is none.
fn discreet(failure: Failure, shown: &Shown) -> Failure {
    match failure.kind() {
        ProblemType::OverQuota | ProblemType::DiskFull => Failure::new(
            ProblemType::DiskFull,
            format!("There is no room for this just now. {} can make some.", shown.person_name),
        ),
        _ => failure,
    }
}

/// What people outside brought to oneself by links, and what waits of it.
#[utoipa::path(responses((status = 200, body = BroughtPictures)))]
#[get("/api/brought")]
pub async fn list_brought(app: web::Data<App>, caller: Caller) -> Answer<web::Json<BroughtPictures>> {
    Ok(web::Json(brought::list(&app.engine, caller.person()?).await?))
}

/// Takes some of it, or declines it. What is neither there nor one's own is passed over; to take nothing but that is not found.
#[utoipa::path(responses((status = 200, body = BroughtDone)))]
#[post("/api/brought")]
pub async fn judge_brought(app: web::Data<App>, caller: Caller, body: web::Json<JudgeBrought>) -> Answer<web::Json<BroughtDone>> {
    let owner = caller.person()?;
    let done = match body.take {
        true => brought::take(&app.engine, owner, &body.pictures).await?,
        false => brought::decline(&app.engine, owner, &body.pictures).await?,
    };
    Ok(web::Json(done))
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
