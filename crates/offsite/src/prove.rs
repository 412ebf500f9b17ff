//! Reading one object back: fetch, open, hash. The same path serves the proof and the recovery.

use std::io::{self, Read, Write};

use bytes::{Buf, Bytes};
use futures_util::{StreamExt, stream::BoxStream};
use tokio::sync::mpsc;
use ypogeion_core::{Digest, checksum::ObjectHash, layers::Outcome};

use crate::{
    Fault, Replica,
    seal::{OpenError, Passed, open},
};

/// Why an object could not be fetched and opened.
#[derive(Debug, thiserror::Error)]
pub enum FetchError {
    /// The store failed, or has no such object.
    #[error(transparent)]
    Store(#[from] Fault),
    /// Its bytes do not open.
    #[error(transparent)]
    Open(#[from] OpenError),
}

/// Fetches `name` and writes what it opens to into `plain`, which comes back with its length and hash.
pub async fn fetch<W: Write + Send + 'static>(replica: &Replica, name: &str, mut plain: W) -> Result<(Passed, W), FetchError> {
    let stream = replica.store.stream(name).await?;
    let (sender, receiver) = mpsc::channel(16);
    let pump = tokio::spawn(pump(stream, sender));
    let keys = replica.keys.clone();
    let opened = tokio::task::spawn_blocking(move || {
        let reader = StreamReader { receiver, current: Bytes::new() };
        open(&keys, reader, &mut plain).map(|passed| (passed, plain))
    })
    .await
    .map_err(|e| Fault::odd(e.to_string()))?;
    match (pump.await, opened) {
        // A stream that broke is the cause of whatever the opening side says.
        (Ok(Some(fault)), _) => Err(fault.into()),
        (_, opened) => Ok(opened?),
    }
}

async fn pump(mut stream: BoxStream<'static, Result<Bytes, Fault>>, sender: mpsc::Sender<Bytes>) -> Option<Fault> {
    while let Some(piece) = stream.next().await {
        match piece {
            Ok(bytes) => {
                if sender.send(bytes).await.is_err() {
                    // The opening side gave up; it says why.
                    return None;
                }
            }
            Err(fault) => return Some(fault),
        }
    }
    None
}

/// The blocking end of a stream of bytes.
struct StreamReader {
    receiver: mpsc::Receiver<Bytes>,
    current: Bytes,
}

impl Read for StreamReader {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.current.is_empty() {
            match self.receiver.blocking_recv() {
                Some(next) => self.current = next,
                None => return Ok(0),
            }
        }
        let n = self.current.len().min(buffer.len());
        self.current.copy_to_slice(&mut buffer[..n]);
        Ok(n)
    }
}

/// Reads an object back and says what it is worth. Only faults that may pass by themselves are errors; an object that is
/// gone or damaged is an answer.
pub async fn prove(replica: &Replica, name: &str, expected: Digest) -> Result<(Outcome, Option<Digest>), Fault> {
    match fetch(replica, name, io::sink()).await {
        Ok((passed, _)) if passed.digest == expected => Ok((Outcome::Right, Some(expected))),
        Ok((passed, _)) => Ok((Outcome::Wrong, Some(passed.digest))),
        Err(FetchError::Open(OpenError::Io(e))) => Err(Fault::Home(e)),
        // Nothing is known of the copy by that.
        Err(FetchError::Open(OpenError::NoKey)) => Err(Fault::Locked),
        Err(FetchError::Open(_)) => Ok((Outcome::Wrong, None)),
        Err(FetchError::Store(Fault::Missing(_))) => Ok((Outcome::Missing, None)),
        Err(FetchError::Store(fault)) => Err(fault),
    }
}

/// Reads an object's sealed bytes and compares them with what was sent: all that a server without the key can do. It is no proof, because
/// nothing is opened.
pub async fn compare(replica: &Replica, name: &str, sealed: ObjectHash) -> Result<Outcome, Fault> {
    match replica.store.hash_of(name, sealed.algorithm()).await {
        Ok(found) if found == sealed => Ok(Outcome::Right),
        Ok(_) => Ok(Outcome::Wrong),
        Err(Fault::Missing(_)) => Ok(Outcome::Missing),
        Err(fault) => Err(fault),
    }
}
