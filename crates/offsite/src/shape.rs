//! How fast bytes leave the house: every request body passes through here, in small pieces, at the pace of the store's week.

use std::{
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use async_trait::async_trait;
use bytes::Bytes;
use chrono::Local;
use futures_util::{StreamExt, TryStreamExt, stream};
use http::StatusCode;
use http_body::Frame;
use http_body_util::{BodyExt, StreamBody};

use object_store::{
    ClientOptions,
    client::{HttpClient, HttpConnector, HttpError, HttpErrorKind, HttpRequest, HttpResponse, HttpResponseBody, HttpService},
};
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use tokio::time::Instant;
use ypogeion_core::{
    Digest,
    network::is_private,
    window::{Bucket, Pace, Week},
};

use crate::store::fault::{Answer, PLAIN_OUTSIDE};

/// Bytes that are let go together while there is a limit: at the slowest one, half a second's worth.
const PIECE: usize = 16 << 10;
/// The same while there is none: often enough for one that is set meanwhile, seldom enough to cost nothing.
const BLOCK: usize = 256 << 10;
const CONNECT: Duration = Duration::from_secs(10);
/// Until a store has answered a request that carries nothing; and between two pieces of its answer.
const PATIENCE: Duration = Duration::from_secs(120);
/// A body may take as long as it would at the slowest limit, beside others.
const SLOWEST_BODY: u64 = ypogeion_core::window::SLOWEST / 4;
/// A wait that a store asks for is believed up to here.
const LONGEST_ASKED: Duration = Duration::from_secs(3600);

/// The way to one store: all requests to it share its pace.
#[derive(Debug)]
pub struct Pacer {
    began: Instant,
    state: Mutex<(Week, Bucket)>,
    heard: Mutex<Heard>,
}

/// What a store said beside its answers.
#[derive(Debug, Default)]
struct Heard {
    /// It wants to be left alone until then.
    busy_until: Option<Instant>,
}

impl Default for Pacer {
    fn default() -> Self {
        Pacer::new(Week::default())
    }
}

impl Pacer {
    /// A line that keeps to a week.
    pub fn new(week: Week) -> Self {
        Pacer { began: Instant::now(), state: Mutex::new((week, Bucket::new(0, Duration::ZERO))), heard: Mutex::default() }
    }

    /// For how long the store has asked to be left alone (`Retry-After`, RFC 9110), if it has.
    pub fn asked_to_wait(&self) -> Option<Duration> {
        let until = self.heard().busy_until?;
        until.checked_duration_since(Instant::now()).filter(|d| *d > Duration::ZERO)
    }

    fn heard(&self) -> std::sync::MutexGuard<'_, Heard> {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn hear(&self, status: StatusCode, headers: &http::HeaderMap) {
        let text = |name: &str| headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
        if matches!(status.as_u16(), 429 | 503)
            && let Some(wait) = text("retry-after").and_then(|v| retry_after(&v))
        {
            self.heard().busy_until = Some(Instant::now() + wait.min(LONGEST_ASKED));
        }
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

/// Seconds, or a date (RFC 9110, section 10.2.3).
fn retry_after(value: &str) -> Option<Duration> {
    if let Ok(seconds) = value.trim().parse() {
        return Some(Duration::from_secs(seconds));
    }
    let at = chrono::DateTime::parse_from_rfc2822(value.trim()).ok()?;
    (at.with_timezone(&chrono::Utc) - chrono::Utc::now()).to_std().ok()
}

/// Makes the HTTP clients of a store.
#[derive(Clone, Debug)]
pub(crate) struct Shaped {
    pacer: Arc<Pacer>,
    sign_in: Option<SignIn>,
    /// For a trial: one bit of each body changes on its way, after it was signed.
    noisy: bool,
    /// Whether it is spoken to in the clear.
    plain: bool,
    /// The one certificate that is trusted, where no authority vouches.
    certificate: Option<Digest>,
    /// Refusals that whoever asks understands by their status; all others are given as the error that they are.
    understood: &'static [StatusCode],
}

/// Until when a retention lock keeps an object, in the store's own words: beside the answer that it is about.
#[derive(Clone, Debug)]
pub(crate) struct LockedUntil(pub(crate) String);

/// A name and a password (RFC 7617).
#[derive(Clone)]
pub(crate) struct SignIn {
    pub(crate) name: String,
    pub(crate) password: String,
}

impl std::fmt::Debug for SignIn {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SignIn({})", self.name)
    }
}

impl Shaped {
    pub(crate) fn new(pacer: Arc<Pacer>) -> Self {
        Shaped { pacer, sign_in: None, noisy: false, plain: false, certificate: None, understood: &[] }
    }

    pub(crate) fn signed_in(self, sign_in: SignIn) -> Self {
        Shaped { sign_in: Some(sign_in), ..self }
    }

    /// Spoken to in the clear, and so only in a private network.
    pub(crate) fn plain(self, plain: bool) -> Self {
        Shaped { plain, ..self }
    }

    /// Only this certificate is trusted.
    pub(crate) fn pinned(self, certificate: Option<Digest>) -> Self {
        Shaped { certificate, ..self }
    }

    /// Whoever asks does something of their own about answers with these statuses.
    pub(crate) fn understood(self, understood: &'static [StatusCode]) -> Self {
        Shaped { understood, ..self }
    }

    pub(crate) fn noisy(self) -> Self {
        Shaped { noisy: true, ..self }
    }

    pub(crate) fn client(&self) -> Result<Client, Box<dyn std::error::Error + Send + Sync>> {
        // No limit on the whole of a request: a film of four gigabytes takes its time. Each step of it has one, below.
        Ok(Client { client: speaker(self.plain, self.certificate)?.build()?, way: self.clone() })
    }
}

/// How stores are spoken to. Whoever redirects a request elsewhere gets none of it: what was meant for one server, with its signature or
/// its password, is not another one's. In the clear only private addresses are spoken to, whatever a name stands for by now.
///
/// With a certificate, that one alone is trusted; otherwise those for which an authority vouches.
pub(crate) fn speaker(plain: bool, certificate: Option<Digest>) -> Result<reqwest::ClientBuilder, ypogeion_pin::Error> {
    let builder = reqwest::Client::builder().connect_timeout(CONNECT).redirect(reqwest::redirect::Policy::none());
    let builder = if plain { builder.dns_resolver(Arc::new(PrivateOnly)) } else { builder };
    Ok(match certificate {
        Some(_) => builder.tls_backend_preconfigured(ypogeion_pin::trusting(certificate)?),
        None => builder,
    })
}

/// Finds private addresses alone.
struct PrivateOnly;

impl Resolve for PrivateOnly {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((name.as_str(), 0)).await?.collect();
            let private: Vec<SocketAddr> = found.into_iter().filter(|a| is_private(a.ip())).collect();
            if private.is_empty() {
                return Err(PLAIN_OUTSIDE.into());
            }
            Ok(Box::new(private.into_iter()) as Addrs)
        })
    }
}

/// The one client of a store, for all ways of asking it.
impl HttpConnector for Client {
    fn connect(&self, _: &ClientOptions) -> object_store::Result<HttpClient> {
        Ok(HttpClient::new(self.clone()))
    }
}

#[derive(Clone, Debug)]
pub(crate) struct Client {
    client: reqwest::Client,
    way: Shaped,
}

impl Client {
    /// One request whose body is a stream of bytes, at the pace of the line. Ends when the store has begun to answer.
    pub(crate) async fn request(
        &self,
        (method, url): (http::Method, reqwest::Url),
        headers: http::HeaderMap,
        length: u64,
        frames: impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static,
    ) -> Result<reqwest::Response, HttpError> {
        let mut request = reqwest::Request::new(method, url);
        *request.headers_mut() = headers;
        // Named here, because a paced body does not say it by itself, and stores want no chunked ones.
        request.headers_mut().insert("content-length", length.into());
        if let Some(SignIn { name, password }) = &self.way.sign_in {
            let word = data_encoding::BASE64.encode(format!("{name}:{password}").as_bytes());
            let mut value = http::HeaderValue::from_str(&format!("Basic {word}")).expect("base64 is plain text");
            value.set_sensitive(true);
            request.headers_mut().insert("authorization", value);
        }
        if length > 0 {
            let frames = paced(Arc::clone(&self.way.pacer), frames);
            *request.body_mut() = Some(if self.way.noisy {
                reqwest::Body::wrap_stream(frames.map(|f| f.map(one_bit_off)))
            } else {
                reqwest::Body::wrap_stream(frames)
            });
        }
        let patience = PATIENCE + Duration::from_secs(length / SLOWEST_BODY);
        let response = match tokio::time::timeout(patience, self.client.execute(request)).await {
            Ok(answered) => answered.map_err(|e| HttpError::new(kind(&e), e))?,
            Err(late) => return Err(HttpError::new(HttpErrorKind::Timeout, late)),
        };
        self.way.pacer.hear(response.status(), response.headers());
        Ok(response)
    }
}

/// The pieces of an answer, as long as each of them comes in time.
fn in_time<E: std::error::Error + Send + Sync + 'static>(
    pieces: impl futures_util::Stream<Item = Result<Bytes, E>> + Send + 'static,
    kind: fn(&E) -> HttpErrorKind,
) -> impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static {
    stream::unfold(Some(Box::pin(pieces)), move |pieces| async move {
        let mut pieces = pieces?;
        match tokio::time::timeout(PATIENCE, pieces.next()).await {
            Ok(Some(Ok(piece))) => Some((Ok(piece), Some(pieces))),
            Ok(Some(Err(e))) => Some((Err(HttpError::new(kind(&e), e)), None)),
            Ok(None) => None,
            Err(late) => Some((Err(HttpError::new(HttpErrorKind::Timeout, late)), None)),
        }
    })
    // Whoever reads a body may ask once more after its end.
    .fuse()
}

fn one_bit_off(bytes: Bytes) -> Bytes {
    let mut bytes = bytes.to_vec();
    if let Some(first) = bytes.first_mut() {
        *first ^= 1;
    }
    bytes.into()
}

#[async_trait]
impl HttpService for Client {
    async fn call(&self, request: HttpRequest) -> Result<HttpResponse, HttpError> {
        let (parts, body) = request.into_parts();
        let url = parts.uri.to_string().parse().map_err(|e| HttpError::new(HttpErrorKind::Request, e))?;
        let length = body.content_length() as u64;
        let response = self.request((parts.method, url), parts.headers, length, body.into_data_stream()).await?;
        if !response.status().is_success() && !self.way.understood.contains(&response.status()) {
            return Err(refused(response).await);
        }
        let (mut parts, body) = http::Response::<reqwest::Body>::from(response).into_parts();
        if let Some(until) = parts.headers.get("x-amz-object-lock-retain-until-date").and_then(|v| v.to_str().ok()) {
            parts.extensions.insert(LockedUntil(until.to_owned()));
        }
        let pieces = in_time(body.into_data_stream(), kind).map_ok(Frame::data);
        Ok(HttpResponse::from_parts(parts, HttpResponseBody::new(StreamBody::new(pieces))))
    }
}

/// An answer that is no success, as the error that it is. What is asked again at once, follows from its kind.
async fn refused(response: reqwest::Response) -> HttpError {
    let status = response.status();
    let mut pieces = Box::pin(in_time(response.bytes_stream(), kind));
    let mut body = Vec::new();
    // What does not come whole is no reason to hide what came.
    while let Some(Ok(piece)) = pieces.next().await
        && body.len() < Answer::MOST
    {
        body.extend_from_slice(&piece);
    }
    let answer = Answer::read(status, &body);
    HttpError::new(if answer.is_hiccup() { HttpErrorKind::Request } else { HttpErrorKind::Unknown }, answer)
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
    pacer: Arc<Pacer>,
    frames: impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static,
) -> impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static {
    let splitting = Arc::clone(&pacer);
    let pieces = frames.flat_map(move |frame| {
        let pacer = Arc::clone(&splitting);
        let (mut rest, failed) = match frame {
            Ok(bytes) => (bytes, None),
            Err(e) => (Bytes::new(), Some(e)),
        };
        let pieces = std::iter::from_fn(move || {
            let next = rest.split_to(rest.len().min(if pacer.has_limits() { PIECE } else { BLOCK }));
            (!next.is_empty()).then_some(Ok(next))
        });
        stream::iter(pieces.chain(failed.map(Err)))
    });
    pieces.then(move |piece| {
        let pacer = Arc::clone(&pacer);
        async move {
            if let Ok(bytes) = &piece
                && let Some(wait) = pacer.take(bytes.len())
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

    async fn send(pacer: &Arc<Pacer>, bytes: usize) -> Duration {
        let began = Instant::now();
        let sent: Vec<u8> = (0..bytes).map(|n| n as u8).collect();
        let frames = stream::iter(sent.chunks(300_000).map(|c| Ok(Bytes::copy_from_slice(c))).collect::<Vec<_>>());
        let came: Vec<Bytes> = paced(Arc::clone(pacer), frames).try_collect().await.unwrap();
        assert_eq!(came.concat(), sent, "nothing is lost, nothing is turned around");
        began.elapsed()
    }

    // The clock is tokio's own and stands still but for what is waited for.
    #[tokio::test(start_paused = true)]
    async fn bytes_leave_at_the_pace_of_the_week() {
        let pacer = Arc::new(Pacer::new(week(Pace::Limited { rate: 100_000 })));
        let took = send(&pacer, 2_000_000).await.as_secs_f64();
        assert!((took / 20.0 - 1.0).abs() < 0.05, "{took} s");
        // Two at once share it.
        let (one, other) = tokio::join!(send(&pacer, 1_000_000), send(&pacer, 1_000_000));
        let took = one.max(other).as_secs_f64();
        assert!((took / 20.0 - 1.0).abs() < 0.05, "{took} s");
        pacer.set_week(week(Pace::Full));
        assert_eq!(send(&pacer, 2_000_000).await, Duration::ZERO);
        // A rest begins: what is under way goes on as it went.
        let always = Hours { from: chrono::NaiveTime::MIN, until: chrono::NaiveTime::MIN };
        pacer.set_week(Week {
            windows: vec![Window { days: Vec::new(), hours: always, pace: Pace::Rest }],
            otherwise: Pace::Full,
        });
        assert_eq!(send(&pacer, 2_000_000).await, Duration::ZERO);
    }

    #[tokio::test(start_paused = true)]
    async fn a_store_that_asks_for_patience_is_heard() {
        let pacer = Pacer::default();
        let said = |status: u16, value: &str| {
            let mut headers = http::HeaderMap::new();
            headers.insert("retry-after", value.parse().unwrap());
            pacer.hear(StatusCode::from_u16(status).unwrap(), &headers);
        };
        said(200, "60");
        assert_eq!(pacer.asked_to_wait(), None, "only with a refusal");
        said(503, "soon");
        assert_eq!(pacer.asked_to_wait(), None, "what is not understood is not obeyed");
        said(503, "60");
        assert_eq!(pacer.asked_to_wait(), Some(Duration::from_secs(60)));
        tokio::time::advance(Duration::from_secs(61)).await;
        assert_eq!(pacer.asked_to_wait(), None);
        said(429, "99999999");
        assert_eq!(pacer.asked_to_wait(), Some(LONGEST_ASKED));
        let date = (chrono::Utc::now() + chrono::TimeDelta::seconds(90)).to_rfc2822();
        said(503, &date);
        assert!(pacer.asked_to_wait().is_some_and(|w| (80..=91).contains(&w.as_secs())), "{:?}", pacer.asked_to_wait());
    }

    #[tokio::test(start_paused = true)]
    async fn an_answer_may_take_long_as_long_as_it_comes() {
        let slow = |pause: Duration, pieces: u64| {
            stream::unfold(0, move |n| async move {
                tokio::time::sleep(pause).await;
                (n < pieces).then(|| (Ok::<_, std::io::Error>(Bytes::from_static(b"kite")), n + 1))
            })
        };
        let other = |_: &std::io::Error| HttpErrorKind::Unknown;
        let came: Vec<_> = in_time(slow(PATIENCE / 2, 100), other).collect().await;
        assert!(came.len() == 100 && came.iter().all(Result::is_ok), "an hour and a half in all");
        let came: Vec<_> = in_time(slow(PATIENCE * 2, 100), other).collect().await;
        assert!(came.len() == 1 && came[0].as_ref().is_err_and(|e| e.kind() == HttpErrorKind::Timeout), "{came:?}");
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_fails_fails_here_too() {
        let broken = HttpError::new(HttpErrorKind::Interrupted, std::io::Error::other("the disk is gone"));
        let frames = stream::iter(vec![Ok(Bytes::from_static(b"kite")), Err(broken)]);
        let came: Vec<Result<Bytes, HttpError>> = paced(Arc::default(), frames).collect().await;
        assert!(came[0].is_ok() && came[1].is_err() && came.len() == 2);
    }
}
