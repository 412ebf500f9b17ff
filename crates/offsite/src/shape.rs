//! How fast bytes leave the house: every request body passes through here, in small pieces, at the pace of the store's week.

use std::{
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use async_trait::async_trait;
use bytes::Bytes;
use chrono::Local;
use futures_util::{StreamExt, stream};
use http_body_util::BodyExt;
use object_store::{
    ClientOptions,
    client::{HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody, HttpService},
};
use tokio::time::Instant;
use ypogeion_core::window::{Bucket, Pace, Week};

/// Bytes that are let go together while there is a limit: at the slowest one, half a second's worth.
const PIECE: usize = 16 << 10;
/// The same while there is none: often enough for one that is set meanwhile, seldom enough to cost nothing.
const BLOCK: usize = 256 << 10;
const CONNECT: Duration = Duration::from_secs(10);
/// One object, or a part of a large one, at full speed.
const PATIENCE: Duration = Duration::from_secs(300);
/// The same at the slowest limit, and beside others.
const LONG_PATIENCE: Duration = Duration::from_secs(3600);

/// The way to one store: all requests to it share its pace.
#[derive(Debug)]
pub struct Line {
    began: Instant,
    state: Mutex<(Week, Bucket)>,
}

impl Default for Line {
    fn default() -> Self {
        Line::new(Week::default())
    }
}

impl Line {
    /// A line that keeps to a week.
    pub fn new(week: Week) -> Self {
        Line { began: Instant::now(), state: Mutex::new((week, Bucket::new(0, Duration::ZERO))) }
    }

    /// Another week from now on, also for what is under way.
    pub fn set_week(&self, week: Week) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).0 = week;
    }

    fn has_limits(&self) -> bool {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).0.has_limits()
    }

    /// Takes bytes from what may leave, and says how long to wait first; `None` while there is no limit.
    fn take(&self, bytes: usize) -> Option<Duration> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let now = self.began.elapsed();
        match state.0.at(Local::now().naive_local()) {
            Pace::Limited { rate } => state.1.set_rate(rate, now),
            Pace::Full => state.1.set_rate(0, now),
            // Nothing new begins now; what is under way ends at the pace it had.
            Pace::Rest => {}
        }
        let wait = state.1.take(bytes as u64, now);
        (wait > Duration::ZERO).then_some(wait)
    }
}

/// Makes the HTTP clients of a store.
#[derive(Clone, Debug)]
pub(crate) struct Shaped(pub(crate) Arc<Line>);

impl HttpConnector for Shaped {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        let patience = if self.0.has_limits() { LONG_PATIENCE } else { PATIENCE };
        let client = reqwest::Client::builder().connect_timeout(CONNECT).timeout(patience).build();
        let client = client.map_err(|e| object_store::Error::Generic { store: "HTTP", source: Box::new(e) })?;
        Ok(HttpClient::new(Client { client, line: Arc::clone(&self.0) }))
    }
}

#[derive(Debug)]
struct Client {
    client: reqwest::Client,
    line: Arc<Line>,
}

#[async_trait]
impl HttpService for Client {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let url = parts.uri.to_string().parse().map_err(|e| HttpError::new(HttpErrorKind::Request, e))?;
        let mut request = reqwest::Request::new(parts.method, url);
        let length = body.content_length();
        *request.headers_mut() = parts.headers;
        // Named here, because a paced body does not say it by itself, and stores want no chunked ones.
        request.headers_mut().insert("content-length", length.into());
        if length > 0 {
            *request.body_mut() = Some(reqwest::Body::wrap_stream(paced(Arc::clone(&self.line), body.into_data_stream())));
        }
        let response = self.client.execute(request).await.map_err(|e| HttpError::new(kind(&e), e))?;
        let (parts, body) = http::Response::<reqwest::Body>::from(response).into_parts();
        let body = body.map_err(|e| HttpError::new(kind(&e), e));
        Ok(HttpResponse::from_parts(parts, HttpResponseBody::new(body)))
    }
}

/// What may be tried again follows from this.
fn kind(e: &reqwest::Error) -> HttpErrorKind {
    match () {
        () if e.is_timeout() => HttpErrorKind::Timeout,
        () if e.is_connect() => HttpErrorKind::Connect,
        () if e.is_decode() => HttpErrorKind::Decode,
        () if e.is_body() || e.is_request() => HttpErrorKind::Interrupted,
        () => HttpErrorKind::Unknown,
    }
}

fn paced(
    line: Arc<Line>,
    frames: impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static,
) -> impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static {
    let splitting = Arc::clone(&line);
    let pieces = frames.flat_map(move |frame| {
        let line = Arc::clone(&splitting);
        let (mut rest, failed) = match frame {
            Ok(bytes) => (bytes, None),
            Err(e) => (Bytes::new(), Some(e)),
        };
        let pieces = std::iter::from_fn(move || {
            let next = rest.split_to(rest.len().min(if line.has_limits() { PIECE } else { BLOCK }));
            (!next.is_empty()).then_some(Ok(next))
        });
        stream::iter(pieces.chain(failed.map(Err)))
    });
    pieces.then(move |piece| {
        let line = Arc::clone(&line);
        async move {
            if let Ok(bytes) = &piece
                && let Some(wait) = line.take(bytes.len())
            {
                tokio::time::sleep(wait).await;
            }
            piece
        }
    })
}

#[cfg(test)]
mod tests {
    use futures_util::TryStreamExt;
    use ypogeion_core::{
        condition::Hours,
        window::{Pace, Window},
    };

    use super::*;

    fn week(otherwise: Pace) -> Week {
        Week { windows: Vec::new(), otherwise }
    }

    async fn send(line: &Arc<Line>, bytes: usize) -> Duration {
        let began = Instant::now();
        let sent: Vec<u8> = (0..bytes).map(|n| n as u8).collect();
        let frames = stream::iter(sent.chunks(300_000).map(|c| Ok(Bytes::copy_from_slice(c))).collect::<Vec<_>>());
        let came: Vec<Bytes> = paced(Arc::clone(line), frames).try_collect().await.unwrap();
        assert_eq!(came.concat(), sent, "nothing is lost, nothing is turned around");
        began.elapsed()
    }

    // The clock is tokio's own and stands still but for what is waited for.
    #[tokio::test(start_paused = true)]
    async fn bytes_leave_at_the_pace_of_the_week() {
        let line = Arc::new(Line::new(week(Pace::Limited { rate: 100_000 })));
        let took = send(&line, 2_000_000).await.as_secs_f64();
        assert!((took / 20.0 - 1.0).abs() < 0.05, "{took} s");
        // Two at once share it.
        let (one, other) = tokio::join!(send(&line, 1_000_000), send(&line, 1_000_000));
        let took = one.max(other).as_secs_f64();
        assert!((took / 20.0 - 1.0).abs() < 0.05, "{took} s");
        line.set_week(week(Pace::Full));
        assert_eq!(send(&line, 2_000_000).await, Duration::ZERO);
        // A rest begins: what is under way goes on as it went.
        let always = Hours { from: chrono::NaiveTime::MIN, until: chrono::NaiveTime::MIN };
        line.set_week(Week {
            windows: vec![Window { days: Vec::new(), hours: always, pace: Pace::Rest }],
            otherwise: Pace::Full,
        });
        assert_eq!(send(&line, 2_000_000).await, Duration::ZERO);
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_fails_fails_here_too() {
        let broken = HttpError::new(HttpErrorKind::Interrupted, std::io::Error::other("the disk is gone"));
        let frames = stream::iter(vec![Ok(Bytes::from_static(b"kite")), Err(broken)]);
        let came: Vec<Result<Bytes, HttpError>> = paced(Arc::default(), frames).collect().await;
        assert!(came[0].is_ok() && came[1].is_err() && came.len() == 2);
    }
}
