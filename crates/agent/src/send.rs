//! Sending one file by tus 1.0: in one request if it is small, in as many as it takes if not.

use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use data_encoding::BASE64;
use futures_util::TryStreamExt;
use reqwest::{Body, Method, Response};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;
use ypogeion_core::{DeviceId, Digest, OriginalId, retry};
use ypogeion_wire::problem::ProblemType;

use crate::{
    cache::{Begun, Cache},
    client::{Client, ClientError, Result},
    scan::{Found, stamp},
};

/// Files up to this size travel with their creation request.
const SMALL: u64 = 16 << 20;
/// Tried this often before a file is given up for this run.
const ATTEMPTS: u32 = 7;
const READ: usize = 256 << 10;

/// Where unfinished uploads are remembered: an interruption costs nothing but the time.
#[derive(Clone)]
pub struct Memory {
    /// The device's cache.
    pub cache: Arc<Cache>,
    /// Its pairing.
    pub device: DeviceId,
}

impl Memory {
    fn recall(&self, file: &Found, digest: Digest) -> Option<String> {
        let begun = self.cache.begun(self.device, &file.key()).ok().flatten()?;
        (begun.stamp == file.stamp && begun.digest == digest).then_some(begun.place)
    }

    /// A cache that cannot be written costs sending from the start next time, and nothing else.
    fn note(&self, file: &Found, digest: Digest, place: Option<&str>) {
        let begun = place.map(|p| Begun { stamp: file.stamp, digest, place: p.to_owned() });
        let _ = self.cache.set_begun(self.device, &file.key(), begun.as_ref());
    }
}

/// Sends a file and returns the original it became. `sent` counts bytes as they leave. May be dropped at any moment: the next
/// call goes on where the server stands.
pub async fn send(client: &Client, memory: &Memory, file: &Found, digest: Digest, sent: &Arc<AtomicU64>) -> Result<OriginalId> {
    let large = file.stamp.size > SMALL;
    let mut place: Option<String> = if large { memory.recall(file, digest) } else { None };
    let mut attempt = 0;
    loop {
        let counted = Arc::new(AtomicU64::new(0));
        let result = match &place {
            None => create(client, file, digest, &counted, sent).await,
            Some(place) => go_on(client, file, place, &counted, sent).await,
        };
        let error = match result {
            Ok(Step::Landed(original)) => {
                if large {
                    memory.note(file, digest, None);
                }
                return Ok(original);
            }
            Ok(Step::Created(new)) => {
                memory.note(file, digest, Some(&new));
                place = Some(new);
                continue;
            }
            Err(error) => error,
        };
        attempt += 1;
        match error.problem() {
            // It was lost on the server before it was acknowledged: from the start.
            Some(ProblemType::UploadGone) if attempt < ATTEMPTS => place = None,
            // Bytes were spoilt on their way, if the file is still what it was. If it changed, sending it again is in vain.
            Some(ProblemType::DigestMismatch) if attempt < 3 && unchanged(file).await => place = None,
            Some(ProblemType::WrongOffset) if attempt < ATTEMPTS => {}
            _ if error.passes() && attempt < ATTEMPTS => {}
            _ => return Err(error),
        }
        // What left in vain is not counted as sent.
        sent.fetch_sub(counted.load(Ordering::Relaxed), Ordering::Relaxed);
        tokio::time::sleep(pause(attempt)).await;
    }
}

/// Jitter from the low bits of a random id: many devices that lost one server do not come back together.
fn pause(attempt: u32) -> Duration {
    let chance = f64::from(uuid::Uuid::new_v4().as_u128() as u16) / f64::from(u16::MAX);
    retry::wait(attempt, chance) / 2
}

async fn unchanged(file: &Found) -> bool {
    tokio::fs::metadata(&file.path).await.is_ok_and(|meta| stamp(&meta) == file.stamp)
}

enum Step {
    Created(String),
    Landed(OriginalId),
}

async fn create(client: &Client, file: &Found, digest: Digest, counted: &Arc<AtomicU64>, sent: &Arc<AtomicU64>) -> Result<Step> {
    let encode = |text: &str| BASE64.encode(text.as_bytes());
    let mut metadata =
        format!("filename {},sha256 {},source {}", encode(&file.name), encode(&digest.to_string()), encode(&file.source));
    if let Some(time) = file.file_time() {
        metadata += &format!(",mtime {}", encode(&time.to_rfc3339()));
    }
    let request = tus(client, Method::POST, "tus/")?.header("Upload-Length", file.stamp.size).header("Upload-Metadata", metadata);
    let request = if file.stamp.size <= SMALL {
        with_body(request, file, 0, counted, sent).await?
    } else {
        request.header("Content-Length", 0)
    };
    let response = client.answer(request).await?;
    if let Some(original) = original(&response) {
        return Ok(Step::Landed(original));
    }
    let location = response.headers().get("location").and_then(|v| v.to_str().ok()).ok_or(ClientError::NotUnderstood)?;
    Ok(Step::Created(location.trim_start_matches('/').to_owned()))
}

async fn go_on(client: &Client, file: &Found, place: &str, counted: &Arc<AtomicU64>, sent: &Arc<AtomicU64>) -> Result<Step> {
    let stands = client.answer(tus(client, Method::HEAD, place)?).await?;
    if let Some(original) = original(&stands) {
        return Ok(Step::Landed(original));
    }
    let offset: u64 = stands
        .headers()
        .get("upload-offset")
        .and_then(|v| v.to_str().ok())
        .and_then(|v| v.parse().ok())
        .ok_or(ClientError::NotUnderstood)?;
    let request = tus(client, Method::PATCH, place)?.header("Upload-Offset", offset);
    let response = client.answer(with_body(request, file, offset, counted, sent).await?).await?;
    original(&response).map(Step::Landed).ok_or(ClientError::NotUnderstood)
}

fn tus(client: &Client, method: Method, path: &str) -> Result<reqwest::RequestBuilder> {
    Ok(client.request(method, path)?.header("Tus-Resumable", "1.0.0"))
}

fn original(response: &Response) -> Option<OriginalId> {
    response.headers().get("ypogeion-original").and_then(|v| v.to_str().ok()).and_then(|v| v.parse().ok())
}

async fn with_body(
    request: reqwest::RequestBuilder,
    file: &Found,
    offset: u64,
    counted: &Arc<AtomicU64>,
    sent: &Arc<AtomicU64>,
) -> Result<reqwest::RequestBuilder> {
    let mut open = tokio::fs::File::open(&file.path).await.map_err(ClientError::File)?;
    if offset > 0 {
        open.seek(std::io::SeekFrom::Start(offset)).await.map_err(ClientError::File)?;
    }
    // Exactly as many as were announced: a file that grows meanwhile fails its hash, not the protocol.
    let rest = file.stamp.size - offset;
    let (counted, sent) = (Arc::clone(counted), Arc::clone(sent));
    let stream = ReaderStream::with_capacity(open.take(rest), READ).inspect_ok(move |bytes| {
        counted.fetch_add(bytes.len() as u64, Ordering::Relaxed);
        sent.fetch_add(bytes.len() as u64, Ordering::Relaxed);
    });
    Ok(request
        .header("Content-Type", "application/offset+octet-stream")
        .header("Content-Length", rest)
        .body(Body::wrap_stream(stream)))
}
