//! What every request and every response has, whatever it is about.

use std::{io, time::Duration};

use actix_web::{
    HttpMessage,
    body::MessageBody,
    dev::{Payload, ServiceRequest, ServiceResponse},
    error::PayloadError,
    http::{
        StatusCode,
        header::{CACHE_CONTROL, CONTENT_LENGTH, HeaderName, HeaderValue, TRANSFER_ENCODING, WWW_AUTHENTICATE},
    },
    middleware::Next,
    web,
};
use futures_util::{Stream, StreamExt, stream};
use tracing_actix_web::RequestId;
use ypogeion_wire::REQUEST_ID_HEADER;

use crate::{
    area::{self, Area},
    tus,
};

/// A body of which nothing comes for this long has broken off, though its connection stands: it holds memory, a file, and the right to
/// write to it.
const LONGEST_SILENCE: Duration = Duration::from_secs(120);

fn has_body(request: &ServiceRequest) -> bool {
    let headers = request.headers();
    headers.contains_key(TRANSFER_ENCODING) || headers.get(CONTENT_LENGTH).is_some_and(|length| length.as_bytes() != b"0")
}

/// The same body, which ends with a failure when nothing came of it for too long.
fn patient<S>(body: S, longest: Duration) -> impl Stream<Item = Result<web::Bytes, PayloadError>>
where
    S: Stream<Item = Result<web::Bytes, PayloadError>> + Unpin,
{
    stream::unfold(Some(body), move |body| async move {
        let mut body = body?;
        match tokio::time::timeout(longest, body.next()).await {
            Ok(next) => next.map(|chunk| (chunk, Some(body))),
            Err(_) => Some((Err(PayloadError::Io(io::ErrorKind::TimedOut.into())), None)),
        }
    })
}

/// Headers that every response carries.
pub(crate) async fn finish_headers(
    mut request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let id = request.extensions().get::<RequestId>().map(ToString::to_string);
    let area = area::of(request.request());
    let (uploads, folders) = (area == Some(Area::Uploads), area == Some(Area::Folders));
    if uploads {
        tus::override_method(&mut request);
    }
    if area != Some(Area::Pages) && has_body(&request) {
        let body = request.take_payload();
        request.set_payload(Payload::Stream { payload: Box::pin(patient(body, LONGEST_SILENCE)) });
    }
    let mut response = next.call(request).await?;
    let response_is_for_strangers = response.status() == StatusCode::UNAUTHORIZED;
    let headers = response.headers_mut();
    if uploads {
        tus::mark(headers);
    }
    if folders && response_is_for_strangers {
        headers.insert(WWW_AUTHENTICATE, HeaderValue::from_static("Basic realm=\"Ypogeion\", charset=\"UTF-8\""));
    }
    if let Some(id) = id.and_then(|i| HeaderValue::from_str(&i).ok()) {
        headers.insert(HeaderName::from_static(REQUEST_ID_HEADER), id);
    }
    if area == Some(Area::Api) && !headers.contains_key(CACHE_CONTROL) {
        // What the house says of itself is nobody's to keep, in no browser and in nothing between.
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    headers.insert(HeaderName::from_static("x-content-type-options"), HeaderValue::from_static("nosniff"));
    Ok(response)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_body_that_falls_silent_has_broken_off() {
        let second = Duration::from_secs(1);
        let slow = stream::iter(0..200).then(move |_| async move {
            tokio::time::sleep(second).await;
            Ok(web::Bytes::from_static(b"k"))
        });
        // Slow for longer than anybody may be silent, and never silent for long.
        let came: Vec<_> = patient(Box::pin(slow), LONGEST_SILENCE).collect().await;
        assert!(came.len() == 200 && came.iter().all(Result::is_ok));
        let silent = stream::iter([Ok(web::Bytes::from_static(b"k"))]).chain(stream::pending());
        let came: Vec<_> = patient(silent, LONGEST_SILENCE).collect().await;
        assert!(matches!(came.as_slice(), [Ok(_), Err(PayloadError::Io(e))] if e.kind() == io::ErrorKind::TimedOut));
    }
}
