//! The console's own files, embedded in the program.

use actix_web::{HttpRequest, HttpResponse, http::Method};
use rust_embed::RustEmbed;
use ypogeion_engine::links::PAGE;
use ypogeion_wire::problem::ProblemType;

use crate::{
    area::{self, Area},
    failure::{Answer, Failure},
};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// What a page of the console may load and do: its own files, nothing else.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; font-src 'self'; \
                      img-src 'self' data: blob:; media-src 'self'; connect-src 'self'; manifest-src 'self'; worker-src 'self'; base-uri 'none'; \
                      form-action 'self'; frame-ancestors 'none'";

/// Serves a file of the console; paths that are no file are pages of the console, which finds its own way.
pub async fn console(request: HttpRequest) -> Answer<HttpResponse> {
    let path = request.path().trim_start_matches('/');
    if !matches!(*request.method(), Method::GET | Method::HEAD) || area::of(&request) != Some(Area::Pages) {
        return Err(Failure::not_found());
    }
    // The page of the links that people outside are given is one by itself: small, and with nothing of the console.
    let path = if format!("/{path}") == PAGE { "shared.html" } else { path };
    let (name, found) = match Files::get(path) {
        Some(file) => (path, Some(file)),
        None if path.starts_with("assets/") => return Err(Failure::not_found()),
        None => ("index.html", Files::get("index.html")),
    };
    let Some(file) = found else {
        return Err(Failure::new(ProblemType::NotFound, "The console was not built into this program; see the README."));
    };
    // Names under assets/ carry a hash of their content.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    Ok(HttpResponse::Ok()
        .content_type(mime_guess::from_path(name).first_or_octet_stream().as_ref())
        .insert_header(("Cache-Control", cache))
        .insert_header(("Content-Security-Policy", POLICY))
        .insert_header(("Referrer-Policy", "no-referrer"))
        .insert_header(("X-Robots-Tag", "noindex, nofollow"))
        .body(file.data.into_owned()))
}
