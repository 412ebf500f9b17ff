//! The household's key: what the server keeps of it, a new one, others who can open copies, and the kit that was typed back.

use actix_web::{HttpResponse, delete, get, post, web};
use ypogeion_engine::{key, kit};
use ypogeion_wire::offsite::{HouseKey, Kit, KitProof, LendKey, NewRecipient, ShowKit};

use super::{devices::qr_svg, session::same_password};
use crate::{app::App, caller::Caller, failure::Answer};

/// So often may somebody try to type a key, or a part of the kit, in five minutes.
const TRIES: usize = 20;

/// What the server keeps of the household's key, and who else can open copies.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[get("/api/key")]
pub async fn show_key(app: web::Data<App>) -> Answer<web::Json<HouseKey>> {
    Ok(web::Json(key::show(&app.engine).await?))
}

/// Makes a new key. What is sent from now on opens with the new recovery kit alone; what was sent before is sealed anew over time.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/renew")]
pub async fn renew_key(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    Ok(web::Json(key::renew(&app.engine, &keeper.name).await?))
}

/// The strict setting: the server forgets what opens copies. It goes on sealing, and compares sealed bytes; only the kit opens them.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/strict")]
pub async fn forget_key(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    Ok(web::Json(key::forget(&app.engine, &keeper.name).await?))
}

/// Lends the server the kit's key for an hour, for a drill or to mend what is damaged at home; or gives it back for good.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/lend")]
pub async fn lend_key(app: web::Data<App>, caller: Caller, body: web::Json<LendKey>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    app.limiter.attempt(&format!("lend {}", keeper.id), TRIES)?;
    let given = key::read_given(&app.engine, &body.key).await?;
    Ok(web::Json(if body.keep {
        caller.proved(app.engine.now())?;
        key::keep(&app.engine, &keeper.name, given).await?
    } else {
        key::lend(&app.engine, &keeper.name, given).await?
    }))
}

/// Adds somebody who can open copies as well, with a key of their own.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/key/recipients")]
pub async fn add_recipient(app: web::Data<App>, caller: Caller, body: web::Json<NewRecipient>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    let new = body.into_inner();
    same_password(&app, keeper, new.password).await?;
    Ok(web::Json(key::add_recipient(&app.engine, &keeper.name, &new.name, &new.recipient).await?))
}

/// Seals for somebody no more.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[delete("/api/key/recipients/{recipient}")]
pub async fn remove_recipient(app: web::Data<App>, caller: Caller, recipient: web::Path<String>) -> Answer<web::Json<HouseKey>> {
    Ok(web::Json(key::remove_recipient(&app.engine, &caller.person()?.name, &recipient).await?))
}

/// Shows that the recovery kit was kept: the end of its key and its check, typed from the sheet.
#[utoipa::path(responses((status = 200, body = HouseKey)))]
#[post("/api/kit/proof")]
pub async fn prove_kit(app: web::Data<App>, caller: Caller, body: web::Json<KitProof>) -> Answer<web::Json<HouseKey>> {
    let keeper = caller.person()?;
    app.limiter.attempt(&format!("kit proof {}", keeper.id), TRIES)?;
    kit::prove(&app.engine, &keeper.name, &body.key_end, &body.check).await?;
    Ok(web::Json(key::show(&app.engine).await?))
}

/// The recovery kit. It opens everything, so the keeper's password is asked for again.
#[utoipa::path(responses((status = 200, body = Kit)))]
#[post("/api/kit")]
pub async fn show_kit(app: web::Data<App>, caller: Caller, body: web::Json<ShowKit>) -> Answer<HttpResponse> {
    let keeper = caller.person()?;
    same_password(&app, keeper, body.into_inner().password).await?;
    let text = kit::show(&app.engine, &keeper.name).await?;
    Ok(HttpResponse::Ok().insert_header(("Cache-Control", "no-store")).json(Kit { qr_svg: qr_svg(&text)?, text }))
}
