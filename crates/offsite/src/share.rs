//! A WebDAV share (RFC 4918) as a store, as far as `object_store` leaves something to do: large files, and the folders that they go into.
//!
//! A share checks no checksum. What was written there is read again before it counts, as on a disk.

use std::path::Path as FsPath;

use futures_util::StreamExt;
use http::{HeaderMap, Method, StatusCode};
use object_store::{
    client::{HttpError, HttpErrorKind},
    path::Path,
};
use reqwest::Url;
use tokio_util::io::ReaderStream;

use crate::shape::Client;

/// Bytes that are read from a file at once.
const BLOCK: usize = 256 << 10;

/// A share that can be written to.
#[derive(Clone, Debug)]
pub(crate) struct Share {
    base: Url,
    client: Client,
}

/// Why something could not be written.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ShareError {
    /// The file at home.
    #[error("reading at home failed")]
    Home(#[source] std::io::Error),
    /// No answer.
    #[error(transparent)]
    Http(#[from] HttpError),
    /// Another answer than it should be.
    #[error("{0}")]
    Status(StatusCode),
}

impl Share {
    pub(crate) fn new(base: Url, client: Client) -> Self {
        Share { base, client }
    }

    fn url(&self, path: &str) -> Result<Url, ShareError> {
        let mut url = self.base.clone();
        match url.path_segments_mut() {
            Ok(mut segments) => segments.pop_if_empty().extend(path.split('/')),
            Err(()) => return Err(ShareError::Status(StatusCode::BAD_REQUEST)),
        };
        Ok(url)
    }

    /// Writes a file in one request, however large it is.
    pub(crate) async fn put_file(&self, path: &Path, file: &FsPath) -> Result<(), ShareError> {
        self.make_folders(path.as_ref()).await?;
        let file = tokio::fs::File::open(file).await.map_err(ShareError::Home)?;
        let length = file.metadata().await.map_err(ShareError::Home)?.len();
        let frames = ReaderStream::with_capacity(file, BLOCK)
            .map(|piece| piece.map_err(|e| HttpError::new(HttpErrorKind::Interrupted, e)));
        let answer = self.client.request((Method::PUT, self.url(path.as_ref())?), HeaderMap::new(), length, frames).await?;
        if answer.status().is_success() { Ok(()) } else { Err(ShareError::Status(answer.status())) }
    }

    /// Makes the folders above a file. What is there already is answered with 405 (RFC 4918, section 9.3.1).
    async fn make_folders(&self, path: &str) -> Result<(), ShareError> {
        let method = Method::from_bytes(b"MKCOL").expect("letters");
        for (at, _) in path.match_indices('/') {
            let url = self.url(&path[..at])?;
            let answer = self.client.request((method.clone(), url), HeaderMap::new(), 0, futures_util::stream::empty()).await?;
            let there = answer.status().is_success() || answer.status() == StatusCode::METHOD_NOT_ALLOWED;
            if !there {
                return Err(ShareError::Status(answer.status()));
            }
        }
        Ok(())
    }
}
