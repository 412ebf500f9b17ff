//! A WebDAV share (RFC 4918). It checks no checksum: what was written there is read again before it counts, as on a disk. And as a disk it
//! may be away: a box whose disk did not come up shares an empty folder.

use std::{path::Path as FsPath, sync::Arc};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{
    StreamExt, TryStreamExt,
    stream::{self, BoxStream},
};
use http::{HeaderMap, Method, StatusCode};
use object_store::{
    Error as E, ObjectStoreExt, RetryConfig,
    client::{HttpError, HttpErrorKind},
    http::{HttpBuilder, HttpStore},
};
use reqwest::Url;
use tokio_util::io::ReaderStream;
use ypogeion_core::kit::StoreAddress;
use ypogeion_pin::causes;

use super::{
    backend::{Backend, Conditional, FORMAT_NAME, Listed, Pieces, Prefix, Seen, Stored, sorted_by_folders},
    fault::{Answer, Fault, Refusal, answer_in, innermost, of_status, without_answer},
};
use crate::{shape::Client, spool::Entry};

/// Bytes that are read from a file at once.
const BLOCK: usize = 256 << 10;

/// What is done about these is the library's business: it makes folders, and knows what is not there.
pub(super) const UNDERSTOOD: &[StatusCode] =
    &[StatusCode::NOT_FOUND, StatusCode::METHOD_NOT_ALLOWED, StatusCode::CONFLICT, StatusCode::PRECONDITION_FAILED];

/// A share takes what comes.
const UNCHECKED: Stored = Stored { checksum: None };

#[derive(Clone, Debug)]
pub(super) struct Share {
    inner: Arc<HttpStore>,
    base: Url,
    client: Client,
    prefix: Prefix,
    name: String,
    /// Without the replica's first object the share is away; not for a trial, where no replica may have begun.
    marked: bool,
}

impl Share {
    pub(super) fn new(address: &StoreAddress, url: &str, client: Client, retry: RetryConfig) -> Result<Self, Fault> {
        let unusable = |why: String| Fault::Refused(Refusal::Address { name: address.name.clone(), why });
        let base = Url::parse(url).map_err(|e| unusable(e.to_string()))?;
        let inner = HttpBuilder::new().with_url(url).with_http_connector(client.clone()).with_retry(retry).build();
        let inner = Arc::new(inner.map_err(|e| unusable(e.to_string()))?);
        Ok(Share { inner, base, client, prefix: Prefix::new(&address.prefix), name: address.name.clone(), marked: true })
    }

    /// The same for a trial.
    pub(super) fn unmarked(self) -> Self {
        Share { marked: false, ..self }
    }

    /// Whether the folder of the copies is there behind the share: its first object shows that.
    async fn there(&self, name: &str) -> Result<(), Fault> {
        if !self.marked || name == FORMAT_NAME {
            return Ok(());
        }
        match self.inner.head(&self.prefix.path(FORMAT_NAME)).await.map_err(|e| self.fault(FORMAT_NAME, &e)) {
            Ok(_) => Ok(()),
            Err(Fault::Missing(_)) => Err(Fault::Away(self.name.clone())),
            Err(fault) => Err(fault),
        }
    }

    /// A fault; and that something is not there only where something is.
    async fn seen(&self, name: &str, error: &E) -> Fault {
        match self.fault(name, error) {
            missing @ Fault::Missing(_) => self.there(name).await.err().unwrap_or(missing),
            fault => fault,
        }
    }

    fn fault(&self, name: &str, error: &E) -> Fault {
        if let Some(answer) = answer_in(error) {
            return of_share(answer);
        }
        match error {
            E::NotFound { .. } => Fault::Missing(name.to_owned()),
            E::InvalidPath { .. } | E::NotSupported { .. } | E::NotImplemented { .. } => {
                Fault::Refused(Refusal::Unable(innermost(error)))
            }
            other => without_answer(other),
        }
    }

    /// The folders above it were made, so what is not found is the share's own.
    fn not_written(&self, name: &str, error: &E) -> Fault {
        match (self.fault(name, error), error) {
            (Fault::Missing(_), _) | (_, E::AlreadyExists { .. }) => Fault::Refused(Refusal::NoFolder),
            (fault, _) => fault,
        }
    }

    fn url(&self, path: &str) -> Url {
        let mut url = self.base.clone();
        if let Ok(mut segments) = url.path_segments_mut() {
            segments.pop_if_empty().extend(path.split('/'));
        }
        url
    }

    /// Writes a file in one request, however large it is.
    async fn put_file(&self, name: &str, file: &FsPath) -> Result<(), Fault> {
        let path = self.prefix.path(name);
        self.make_folders(path.as_ref()).await?;
        let file = tokio::fs::File::open(file).await.map_err(Fault::Home)?;
        let length = file.metadata().await.map_err(Fault::Home)?.len();
        let frames = ReaderStream::with_capacity(file, BLOCK)
            .map(|piece| piece.map_err(|e| HttpError::new(HttpErrorKind::Interrupted, e)));
        let status = self.asked(Method::PUT, path.as_ref(), length, frames).await?;
        if status.is_success() { Ok(()) } else { Err(not_taken(status)) }
    }

    /// Makes the folders above a file. What is there already is answered with 405 (RFC 4918, section 9.3.1).
    async fn make_folders(&self, path: &str) -> Result<(), Fault> {
        let method = Method::from_bytes(b"MKCOL").expect("letters");
        for (at, _) in path.match_indices('/') {
            let status = self.asked(method.clone(), &path[..at], 0, stream::empty()).await?;
            if !status.is_success() && status != StatusCode::METHOD_NOT_ALLOWED {
                return Err(not_taken(status));
            }
        }
        Ok(())
    }

    async fn asked(
        &self,
        method: Method,
        path: &str,
        length: u64,
        frames: impl futures_util::Stream<Item = Result<Bytes, HttpError>> + Send + 'static,
    ) -> Result<StatusCode, Fault> {
        let answer = self.client.request((method, self.url(path)), HeaderMap::new(), length, frames).await;
        Ok(answer.map_err(|e| without_answer(&e))?.status())
    }
}

/// Whether something failed that was answered, and with a status that is about folders.
fn is_about_folders(error: &E) -> bool {
    matches!(error, E::Generic { .. } | E::AlreadyExists { .. }) && !causes(error).any(|e| e.is::<HttpError>())
}

/// What an answer means that is no success.
fn of_share(answer: &Answer) -> Fault {
    match answer.status {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => Fault::Refused(Refusal::NotLetIn(answer.to_string())),
        _ => of_status(answer),
    }
}

/// Why something was not written.
fn not_taken(status: StatusCode) -> Fault {
    match status {
        StatusCode::NOT_FOUND | StatusCode::CONFLICT => Fault::Refused(Refusal::NoFolder),
        other => of_share(&Answer::read(other, b"")),
    }
}

#[async_trait]
impl Backend for Share {
    async fn put(&self, name: &str, bytes: Bytes) -> Result<Stored, Fault> {
        self.there(name).await?;
        let path = self.prefix.path(name);
        match self.inner.put(&path, bytes.clone().into()).await {
            Ok(_) => return Ok(UNCHECKED),
            // Somebody else may have made the same folder at the same moment, which the library takes for a failure.
            Err(e) if is_about_folders(&e) => self.make_folders(path.as_ref()).await?,
            Err(e) => return Err(self.not_written(name, &e)),
        }
        self.inner.put(&path, bytes.into()).await.map_err(|e| self.not_written(name, &e))?;
        Ok(UNCHECKED)
    }

    async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<Stored, Fault> {
        self.there(name).await?;
        self.put_file(name, entry.bytes()).await?;
        Ok(UNCHECKED)
    }

    async fn put_new(&self, _: &str, _: Bytes) -> Result<Conditional, Fault> {
        Ok(Conditional::Unknown)
    }

    async fn look(&self, name: &str) -> Result<Seen, Fault> {
        match self.inner.head(&self.prefix.path(name)).await {
            Ok(meta) => Ok(Seen { size: meta.size, locked_until: None }),
            Err(e) => Err(self.seen(name, &e).await),
        }
    }

    async fn read(&self, name: &str) -> Result<(u64, Pieces), Fault> {
        let found = match self.inner.get(&self.prefix.path(name)).await {
            Ok(found) => found,
            Err(e) => return Err(self.seen(name, &e).await),
        };
        let (share, name, size) = (self.clone(), name.to_owned(), found.meta.size);
        Ok((size, found.into_stream().map_err(move |e| share.fault(&name, &e)).boxed()))
    }

    async fn remove(&self, name: &str) -> Result<(), Fault> {
        match self.inner.delete(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e)) {
            // Where nothing is at all, it was not removed.
            Err(Fault::Missing(_)) => self.there(name).await,
            other => other,
        }
    }

    fn list(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>> {
        let (share, at_end, named) = (self.clone(), self.clone(), folder.to_owned());
        let name = named.clone();
        // A folder that is not there is listed as one with nothing in it, and so is all of a share that is away.
        let end =
            stream::once(async move { at_end.there(&name).await.err() }).filter_map(|gone| std::future::ready(gone.map(Err)));
        // Most refuse to tell all that is below a folder at once.
        sorted_by_folders(Arc::clone(&self.inner), self.prefix.path(folder))
            .map(move |found| found.map(|meta| share.prefix.listed(meta)).map_err(|e| share.fault(&named, &e)))
            .chain(end)
            .boxed()
    }
}
