//! Folders for programs that know nothing else: WebDAV class 1 and 2 (RFC 4918).
//!
//! * This module has the door: who may, what is refused, and answers in words. [`view`] and [`system`] are a device's tree of folders, [`file`]
//!   a file in it while it is written or read, [`listing`] tells what is in it, and [`locks`] keeps programs from writing over
//!   each other's work.
//!
//! The protocol itself is the `dav-server` library's. Beneath it lies the same landing as for every other way in: a file is
//! acknowledged once it is an original. The tree only names originals, so whatever a program does to it, nothing is lost:
//!
//! | request | what happens |
//! |---|---|
//! | PUT on a new name | the bytes land, and the name points to the original |
//! | PUT on a name that is there | the same; the version before stays in the library |
//! | PUT with `Content-Range` | pieces, from the first to the last; the file lands with its last byte |
//! | MOVE, COPY | names change; within an hour of its arrival a file takes its new name in the library, too |
//! | DELETE | refused: a device cannot take back what the household has |

pub mod file;
pub mod listing;
pub mod locks;
pub mod system;
pub mod view;

use std::{convert::Infallible, panic::AssertUnwindSafe, sync::Arc};

use actix_web::{
    FromRequest, HttpRequest, HttpResponse, Resource, Responder,
    body::{BoxBody, SizedStream},
    dev::Payload,
    http::{
        Method,
        header::{CONTENT_LENGTH, CONTENT_SECURITY_POLICY, HeaderName, HeaderValue},
    },
    web,
};
use dav_server::{
    DavHandler, DavMethodSet,
    actix::{DavRequest, DavResponse},
    davpath::DavPath,
};
use futures_util::{FutureExt, StreamExt, stream};
use ypogeion_wire::problem::ProblemType;

use self::view::{Piece, View};
use crate::{
    app::App,
    area::FOLDERS,
    caller::Caller,
    digest_header::tell_digest,
    failure::{Answer, Failure},
};

/// The longest body of a request that brings no file.
const LONGEST_WORDS: usize = 64 << 10;
/// And the most elements that may be in it, one inside the other or not.
const MOST_ELEMENTS: usize = 512;

/// The methods that are answered. DELETE is answered here, in words; PATCH has no meaning for a file that is never changed.
const METHODS: [&str; 12] =
    ["OPTIONS", "GET", "HEAD", "PUT", "PROPFIND", "PROPPATCH", "MKCOL", "COPY", "MOVE", "LOCK", "UNLOCK", "DELETE"];

/// The folders, as a resource of the service.
pub fn resource() -> Resource {
    web::resource(["/dav", "/dav/{path:.*}"])
        .route(web::get().to(read_folder))
        .route(web::head().to(read_folder))
        .route(web::method(propfind()).to(list_folder))
        .route(web::method(Method::OPTIONS).to(read_folder))
        .default_service(web::to(write_folder))
}

fn propfind() -> Method {
    Method::from_bytes(b"PROPFIND").expect("a method's name")
}

/// Whether a method only looks.
pub fn only_looks(method: &Method) -> bool {
    matches!(method.as_str(), "GET" | "HEAD" | "OPTIONS" | "PROPFIND")
}

/// Lists and reads a device's folders (WebDAV: GET, HEAD, OPTIONS, PROPFIND).
#[utoipa::path(get, path = "/dav/{path}", responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 207)))]
pub async fn read_folder(app: web::Data<App>, caller: Caller, request: HttpRequest, body: web::Payload) -> Answer<HttpResponse> {
    serve(app, caller, request, body).await
}

/// Puts files into a device's folders (WebDAV: PUT, MKCOL, MOVE, COPY, PROPPATCH, LOCK, UNLOCK). DELETE is refused.
#[utoipa::path(put, path = "/dav/{path}", request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 201), (status = 204)))]
pub async fn write_folder(app: web::Data<App>, caller: Caller, request: HttpRequest, body: web::Payload) -> Answer<HttpResponse> {
    if request.method() == Method::DELETE {
        return Err(Failure::new(
            ProblemType::NotAllowed,
            "A device cannot delete what the household has. It stays here whatever happens to the copy on the device.",
        ));
    }
    serve(app, caller, request, body).await
}

/// The words of a request, which are XML or nothing: read to their end, within bounds that no parser's stack has to fear.
///
/// The parsers behind this build trees by recursion, and drop them so. No parser, in no encoding that has the characters of ASCII in it,
/// finds more elements than there are `<`; so counting these bounds the depth, whatever else is wrong with the text.
async fn words(mut body: web::Payload) -> Answer<web::Bytes> {
    let mut words = web::BytesMut::new();
    while let Some(some) = body.next().await {
        let some = some.map_err(|_| Failure::bad("The connection was lost before the whole request had come."))?;
        if words.len() + some.len() > LONGEST_WORDS {
            return Err(Failure::new(ProblemType::TooLarge, "A request about folders and files is 64 KB long at most."));
        }
        words.extend_from_slice(&some);
    }
    if words.iter().filter(|b| **b == b'<').count() > MOST_ELEMENTS {
        return Err(Failure::new(ProblemType::TooLarge, "A request about folders and files names fewer than 512 things."));
    }
    Ok(words.freeze())
}

/// What is in a folder.
async fn list_folder(app: web::Data<App>, caller: Caller, request: HttpRequest, body: web::Payload) -> Answer<HttpResponse> {
    let (device, body) = (caller.device()?.clone(), words(body).await?);
    let deep = match request.headers().get("depth").map(HeaderValue::as_bytes) {
        Some(b"0") => false,
        Some(b"1") => true,
        _ => return Ok(listing::too_deep()),
    };
    let path = DavPath::new(request.path()).and_then(|mut p| p.set_prefix(FOLDERS).map(|()| p));
    let path = path.map_err(|_| Failure::bad("This address is not one of a folder or a file."))?;
    let locks = app.locks.of(device.id);
    let view = View::new(Arc::clone(&app.engine), device, None, false);
    listing::list(view, locks, path, deep, &body).await
}

async fn serve(app: web::Data<App>, caller: Caller, request: HttpRequest, body: web::Payload) -> Answer<HttpResponse> {
    let mut body = match *request.method() {
        Method::PUT => body.into_inner(),
        _ => Payload::from(words(body).await?),
    };
    let dav = DavRequest::from_request(&request, &mut body).await;
    let dav = dav.map_err(|_| Failure::bad("A header of this request is not understood."))?;
    let device = caller.device()?.clone();
    let piece = piece(&request)?;
    let view = View::new(Arc::clone(&app.engine), device.clone(), piece, request.method().as_str() == "LOCK");
    let methods = DavMethodSet::from_vec(METHODS.to_vec()).unwrap_or(DavMethodSet::WEBDAV_RO);
    let handler = DavHandler::builder()
        .strip_prefix(FOLDERS)
        .filesystem(Box::new(view.clone()))
        .locksystem(app.locks.of(device.id))
        .methods(methods)
        .read_buf_size(256 << 10)
        .build_handler();
    // The library has been seen to stumble over headers that end in the middle. That is the sender's mistake, and theirs alone.
    let answered = AssertUnwindSafe(handler.handle(dav.request)).catch_unwind().await;
    let answered = answered.map_err(|_| Failure::bad("A header or the body of this request is not understood."))?;
    if let Some(trouble) = view.trouble().filter(|_| answered.status().as_u16() >= 400) {
        return Err(trouble);
    }
    let mut response = DavResponse(answered).respond_to(&request);
    if request.method() == Method::HEAD {
        response = with_length(response);
    }
    let headers = response.headers_mut();
    if headers.contains_key("dav") {
        headers.insert(HeaderName::from_static("dav"), HeaderValue::from_static("1, 2"));
        headers.remove("ms-author-via");
    }
    if let Some(digest) = view.digest() {
        tell_digest(headers, digest);
    }
    // A page that somebody put here is a file, and not a page of this service.
    headers.insert(CONTENT_SECURITY_POLICY, HeaderValue::from_static("sandbox; default-src 'none'"));
    Ok(response)
}

/// An answer to HEAD tells the length of what GET would hand over; an empty body would have it tell zero.
fn with_length(response: HttpResponse) -> HttpResponse {
    let length = response.headers().get(CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok());
    match length {
        Some(length) => {
            response.map_body(|_, _| BoxBody::new(SizedStream::new(length, stream::empty::<Result<_, Infallible>>())))
        }
        None => response,
    }
}

/// The piece that a PUT with `Content-Range: bytes FIRST-LAST/WHOLE` carries (RFC 9110, section 14.5).
fn piece(request: &HttpRequest) -> Answer<Option<Piece>> {
    let Some(value) = request.headers().get("content-range") else { return Ok(None) };
    let read = value.to_str().ok().and_then(|v| {
        let (range, whole) = v.trim().strip_prefix("bytes ")?.split_once('/')?;
        let (first, last) = range.split_once('-')?;
        let (start, last, whole) = (first.parse().ok()?, last.parse::<u64>().ok()?, whole.parse().ok()?);
        (start <= last && last < whole).then_some(Piece { start, whole })
    });
    read.map(Some).ok_or_else(|| {
        Failure::bad(
            "The header Content-Range must be \"bytes FIRST-LAST/WHOLE\", in whole numbers, with the length of the whole file.",
        )
    })
}
