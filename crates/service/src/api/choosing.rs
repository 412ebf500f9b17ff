//! Choosing many pictures, and taking them along as one file. Everybody chooses among their own, and in albums that they see.

use actix_files::HttpRange;
use actix_web::{
    HttpRequest, HttpResponse,
    body::SizedStream,
    get,
    http::{
        StatusCode,
        header::{ACCEPT_RANGES, CONTENT_RANGE, ETAG, HeaderValue, IF_RANGE, RANGE},
    },
    post, web,
};
use futures_util::stream;
use uuid::Uuid;
use ypogeion_engine::{choosing, given, library, zips};
use ypogeion_wire::{
    choosing::{Choice, ChosenPictures, HowMuch, MadeZip, MarkFavourites, Marked, PutAway, WhichChosen, WriteWords},
    given::{Along, AlongTrack, SayWhen, SayWhere, TurnPictures},
    problem::ProblemType,
};

use crate::{
    app::App,
    caller::Caller,
    disposition::disposition,
    failure::{Answer, Failure},
};

/// How much is chosen.
#[utoipa::path(responses((status = 200, body = HowMuch)))]
#[post("/api/choice")]
pub async fn count_chosen(app: web::Data<App>, caller: Caller, body: web::Json<Choice>) -> Answer<web::Json<HowMuch>> {
    Ok(web::Json(choosing::how_much(&app.engine, caller.owner()?, &body).await?))
}

/// Which pictures are chosen, newest first, page by page.
#[utoipa::path(responses((status = 200, body = ChosenPictures)))]
#[post("/api/choice/pictures")]
pub async fn list_chosen(app: web::Data<App>, caller: Caller, body: web::Json<WhichChosen>) -> Answer<web::Json<ChosenPictures>> {
    Ok(web::Json(choosing::page(&app.engine, caller.owner()?, &body.choice, body.after.as_ref()).await?))
}

/// Makes a zip of what is chosen: all files of these pictures that have a good copy at home, with their names and times, in the folders of the
/// library. It is not written anywhere; what is in it is put down. Up to 100,000 files.
#[utoipa::path(responses((status = 200, body = MadeZip)))]
#[post("/api/zips")]
pub async fn make_zip(app: web::Data<App>, caller: Caller, body: web::Json<Choice>) -> Answer<web::Json<MadeZip>> {
    Ok(web::Json(zips::make(&app.engine, caller.owner()?, &body).await?))
}

/// The bytes of a zip. Ranges work, also after days: an interrupted download goes on from where it was.
#[utoipa::path(responses((status = 200, content_type = "application/zip", body = Vec<u8>), (status = 206)))]
#[get("/api/zips/{id}/bytes")]
pub async fn download_zip(
    app: web::Data<App>,
    caller: Caller,
    request: HttpRequest,
    id: web::Path<Uuid>,
) -> Answer<HttpResponse> {
    let owner = caller.owner()?;
    let zip = zips::find(&app.engine, owner, *id).await?;
    let (tag, length) = (format!("\"{}\"", zip.id), zip.length);
    let header = |name| request.headers().get(name).and_then(|v: &HeaderValue| v.to_str().ok());
    // Each zip has an id of its own, so what another one was asked by is another one.
    let wanted = header(RANGE).filter(|_| header(IF_RANGE).is_none_or(|of| of == tag));
    let ranges = wanted.map(|range| HttpRange::parse(range, length)).transpose().map_err(|_| {
        Failure::new(ProblemType::RangeNotSatisfiable, format!("This download has {length} bytes; the range is none of them."))
    })?;
    // Several at once are answered with the whole, as they may be.
    let one = ranges.as_deref().and_then(|all| <[HttpRange; 1]>::try_from(all).ok()).map(|[one]| one);
    let (from, until) = one.map_or((0, length), |r| (r.start, r.start + r.length));
    let disposition = disposition(zip.name.clone(), false);
    let bytes = zips::bytes(&app.engine, owner, zip, from, until).await?;
    let bytes = stream::unfold(bytes, async |mut bytes| bytes.recv().await.map(|some| (some, bytes)));
    let mut response = HttpResponse::build(if one.is_some() { StatusCode::PARTIAL_CONTENT } else { StatusCode::OK });
    if one.is_some() {
        response.insert_header((CONTENT_RANGE, format!("bytes {from}-{}/{length}", until.saturating_sub(1))));
    }
    let response = response
        .content_type("application/zip")
        .insert_header(disposition)
        .insert_header((ACCEPT_RANGES, "bytes"))
        .insert_header((ETAG, tag));
    Ok(response.body(SizedStream::new(until - from, Box::pin(bytes))))
}

/// Makes pictures favourites, or not any more. Everybody has their own.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/favourites")]
pub async fn mark_favourites(app: web::Data<App>, caller: Caller, body: web::Json<MarkFavourites>) -> Answer<web::Json<Marked>> {
    let count = library::mark_favourites(&app.engine, caller.owner()?, &body.pictures, body.favourite).await?;
    Ok(web::Json(Marked { count }))
}

/// Puts pictures of one's own away, with all of their files, or back. They are kept as before, and found by who asks for what was put away.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/put-away")]
pub async fn put_away(app: web::Data<App>, caller: Caller, body: web::Json<PutAway>) -> Answer<web::Json<Marked>> {
    let count = library::put_away(&app.engine, caller.owner()?, &body.pictures, body.away).await?;
    Ok(web::Json(Marked { count }))
}

/// Writes the title or the caption of one's own pictures, or has what their files say count again.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/words")]
pub async fn write_words(app: web::Data<App>, caller: Caller, body: web::Json<WriteWords>) -> Answer<web::Json<Marked>> {
    let count = library::write_words(&app.engine, caller.owner()?, &body).await?;
    Ok(web::Json(Marked { count }))
}

/// Says where pictures of one's own were taken, that they have no place, or that what their files say counts again.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/places")]
pub async fn say_where(app: web::Data<App>, caller: Caller, body: web::Json<SayWhere>) -> Answer<web::Json<Marked>> {
    Ok(web::Json(Marked { count: given::say_where(&app.engine, caller.owner()?, &body).await? }))
}

/// Says where pictures of one's own were taken: where somebody was then, by their track.
#[utoipa::path(responses((status = 200, body = Along)))]
#[post("/api/places/track")]
pub async fn follow_track(app: web::Data<App>, caller: Caller, body: web::Json<AlongTrack>) -> Answer<web::Json<Along>> {
    Ok(web::Json(given::along(&app.engine, caller.owner()?, body.into_inner()).await?))
}

/// Says by how much later or earlier pictures of one's own were taken, or that what was known before counts again.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/times")]
pub async fn say_when(app: web::Data<App>, caller: Caller, body: web::Json<SayWhen>) -> Answer<web::Json<Marked>> {
    Ok(web::Json(Marked { count: given::say_when(&app.engine, caller.owner()?, &body).await? }))
}

/// Turns pictures of one's own, or has them shown as their files say. Counted are those that are shown otherwise now; films stay as they are.
#[utoipa::path(responses((status = 200, body = Marked)))]
#[post("/api/turns")]
pub async fn turn_pictures(app: web::Data<App>, caller: Caller, body: web::Json<TurnPictures>) -> Answer<web::Json<Marked>> {
    Ok(web::Json(Marked { count: given::turn(&app.engine, caller.owner()?, &body).await? }))
}
