//! A store: an S3-compatible one, a WebDAV share, or a folder on a disk, as far as a replica needs one: put, look, get, list, remove.
//!
//! Each kind is a `Backend` of its own, and says what is wrong with it as a [`Fault`]; what is here is the same for all of them.

mod backend;
mod bucket;
mod disk;
pub(crate) mod fault;
mod share;

use std::{sync::Arc, time::Duration};

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt, stream::BoxStream};
use object_store::RetryConfig;
use ypogeion_core::{
    checksum::{Checksum, HashAlgorithm, ObjectHash},
    kit::StoreAddress,
};

use self::{
    backend::{Backend, hash_of},
    bucket::Bucket,
    disk::Disk,
    share::Share,
};
pub(crate) use self::{
    backend::{Conditional, Seen},
    fault::innermost,
};
pub use self::{
    backend::{FORMAT_NAME, Listed, PART, Stored},
    fault::{Fault, Refusal, Trouble},
};
use crate::{
    seal::Sealed,
    shape::{Pacer, Shaped, SignIn},
    spool::Entry,
};

/// A small object, which is taken into memory, has at most so many bytes.
const SMALL: u64 = 64 << 20;

/// A store that can be spoken to.
#[derive(Clone, Debug)]
pub struct Store {
    backend: Arc<dyn Backend>,
    name: String,
    /// The checksum that it was seen to verify.
    verifies: Option<Checksum>,
}

/// What becomes of what is sent on its way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Transit {
    /// It arrives as it was sent.
    Intact,
    /// For a trial: one bit of it changes, after it was signed. A good store notices.
    Damaged,
}

impl Store {
    /// Prepares to speak to the store, as fast as it goes. Nothing is sent yet.
    ///
    /// # Errors
    /// [`Fault::Refused`] for an address that can never work, [`Fault::Away`] for a disk that is not there.
    pub fn new(address: &StoreAddress) -> Result<Self, Fault> {
        Self::by(address, Arc::default(), None)
    }

    /// Prepares to speak to the store by a line with a pace. `verifies`: the checksum that a trial has seen it verify; what it takes without
    /// one is read again before it counts.
    ///
    /// # Errors
    /// As [`Store::new`].
    pub fn by(address: &StoreAddress, pacer: Arc<Pacer>, verifies: Option<Checksum>) -> Result<Self, Fault> {
        let store = |backend| Store { backend, name: address.name.clone(), verifies: None };
        if let Some(folder) = address.disk() {
            return Ok(store(Arc::new(Disk::open(address, folder)?)));
        }
        if let Some(url) = address.share() {
            return Ok(store(Arc::new(share(address, &url, pacer)?)));
        }
        let bucket = bucket(address, Shaped::new(pacer))?.with(verifies);
        Ok(Store { verifies, ..store(Arc::new(bucket)) })
    }

    /// For a trial: a disk or a share on which no replica has begun is none that is away; and of an object store it is not known yet which
    /// checksums it knows.
    pub(crate) fn untried(address: &StoreAddress) -> Result<Self, Fault> {
        let backend: Arc<dyn Backend> = match (address.disk(), address.share()) {
            (Some(folder), _) => Arc::new(Disk::open(address, folder)?.unmarked()),
            (None, Some(url)) => Arc::new(share(address, &url, Arc::default())?.unmarked()),
            (None, None) => Arc::new(bucket(address, Shaped::new(Arc::default()))?),
        };
        Ok(Store { backend, name: address.name.clone(), verifies: None })
    }

    /// For the trial of one checksum of an object store: no other is tried in its place.
    pub(crate) fn trying(address: &StoreAddress, checksum: Checksum, transit: Transit) -> Result<Self, Fault> {
        let shaped = Shaped::new(Arc::default());
        let shaped = if transit == Transit::Damaged { shaped.noisy() } else { shaped };
        let bucket = bucket(address, shaped)?.with(Some(checksum)).fixed();
        Ok(Store { backend: Arc::new(bucket), name: address.name.clone(), verifies: None })
    }

    /// What the household calls it.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether what it took is certainly what was sent, because it verified the checksum that came along.
    pub fn verifies(&self, stored: Stored) -> bool {
        stored.checksum.is_some() && stored.checksum == self.verifies
    }

    /// Stores a small object in one request.
    pub async fn put(&self, name: &str, bytes: Bytes) -> Result<Stored, Fault> {
        self.backend.put(name, bytes).await
    }

    /// Stores a sealed body that is too large for memory.
    pub(crate) async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<Stored, Fault> {
        self.backend.put_entry(name, entry).await
    }

    /// Holds what a store says that it took against what was sent: its length, and where it verified nothing, its bytes, read again.
    ///
    /// # Errors
    /// [`Fault::Passing`] if it is something else.
    pub(crate) async fn confirm(&self, name: &str, stored: Stored, sent: Sealed) -> Result<(), Fault> {
        let kept = self.size(name).await?;
        if kept != sent.length {
            return Err(Fault::odd(format!("{name} should have {} bytes in the store and has {kept}", sent.length)));
        }
        if !self.verifies(stored) && self.hash_of(name, sent.hash.algorithm()).await? != sent.hash {
            return Err(Fault::odd(format!("{name} is not there as it was written")));
        }
        Ok(())
    }

    /// Asks not to replace what is there.
    pub(crate) async fn put_new(&self, name: &str, bytes: Bytes) -> Result<Conditional, Fault> {
        self.backend.put_new(name, bytes).await
    }

    /// Removes an object. `false`: the store says yes and has it still.
    ///
    /// # Errors
    /// [`Fault::Refused`] where the store does not allow it: keys that may not delete, or a retention lock.
    pub async fn remove(&self, name: &str) -> Result<bool, Fault> {
        self.backend.remove(name).await?;
        match self.size(name).await {
            Err(Fault::Missing(_)) => Ok(true),
            Ok(_) => Ok(false),
            Err(fault) => Err(fault),
        }
    }

    /// Looks at an object that is there.
    pub(crate) async fn look(&self, name: &str) -> Result<Seen, Fault> {
        self.backend.look(name).await
    }

    /// The size of an object that is there.
    pub async fn size(&self, name: &str) -> Result<u64, Fault> {
        Ok(self.look(name).await?.size)
    }

    /// The hash of an object's bytes as they are in the store.
    pub(crate) async fn hash_of(&self, name: &str, algorithm: HashAlgorithm) -> Result<ObjectHash, Fault> {
        hash_of(self.stream(name).await?, algorithm).await
    }

    /// A small object, whole. Refuses to take more than 64 MiB into memory, whatever the store says of its size.
    pub async fn get(&self, name: &str) -> Result<Bytes, Fault> {
        let (size, mut pieces) = self.backend.read(name).await?;
        let too_large = || Fault::Refused(Refusal::TooLarge(name.to_owned()));
        if size > SMALL {
            return Err(too_large());
        }
        let mut whole = Vec::with_capacity(usize::try_from(size).unwrap_or_default());
        while let Some(piece) = pieces.try_next().await? {
            whole.extend_from_slice(&piece);
            if whole.len() as u64 > SMALL {
                return Err(too_large());
            }
        }
        Ok(whole.into())
    }

    /// An object as a stream.
    pub async fn stream(&self, name: &str) -> Result<BoxStream<'static, Result<Bytes, Fault>>, Fault> {
        Ok(self.backend.read(name).await?.1)
    }

    /// The objects below `folder` in the order of their names' bytes, as a store lists them: page by page, never all at once.
    ///
    /// # Errors
    /// Beside those of every request: a list that is not in that order cannot be compared with anything.
    pub fn list_objects(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>> {
        let mut last = String::new();
        self.backend
            .list(folder)
            .map(move |found| {
                let listed = found?;
                if listed.name <= last {
                    return Err(Fault::Disorder(format!("{} comes after {last}", listed.name)));
                }
                last.clone_from(&listed.name);
                Ok(listed)
            })
            .boxed()
    }

    /// The names below `folder`, in order.
    pub async fn list(&self, folder: &str) -> Result<Vec<String>, Fault> {
        let mut names: Vec<String> = self.backend.list(folder).map_ok(|listed| listed.name).try_collect().await?;
        names.sort_unstable();
        Ok(names)
    }
}

/// The work queue does the waiting between attempts, where people can see it; here only a hiccup is ridden out.
fn retry() -> RetryConfig {
    RetryConfig { max_retries: 2, retry_timeout: Duration::from_secs(20), ..RetryConfig::default() }
}

fn unusable(address: &StoreAddress, why: impl std::fmt::Display) -> Fault {
    Fault::Refused(Refusal::Address { name: address.name.clone(), why: why.to_string() })
}

fn share(address: &StoreAddress, url: &str, pacer: Arc<Pacer>) -> Result<Share, Fault> {
    let shaped = Shaped::new(pacer).plain(spoken_plainly(address)?).pinned(address.certificate).understood(share::UNDERSTOOD);
    let sign_in = SignIn { name: address.access_key.clone(), password: address.secret_key.clone() };
    let shaped = if sign_in.name.is_empty() { shaped } else { shaped.signed_in(sign_in) };
    Share::new(address, url, shaped.client().map_err(|e| unusable(address, e))?, retry())
}

fn bucket(address: &StoreAddress, shaped: Shaped) -> Result<Bucket, Fault> {
    let plain = spoken_plainly(address)?;
    let client = shaped.plain(plain).pinned(address.certificate).client().map_err(|e| unusable(address, e))?;
    Bucket::new(address, &client, &retry(), plain && !is_on_this_machine(&address.endpoint))
}

/// What is sent there passes nobody on its way.
fn is_on_this_machine(endpoint: &str) -> bool {
    figure(endpoint).is_some_and(|ip| ip.is_loopback())
}

/// The address in figures that a URL names.
fn figure(url: &str) -> Option<std::net::IpAddr> {
    reqwest::Url::parse(url).ok()?.host_str()?.trim_matches(['[', ']']).parse().ok()
}

/// Whether a store is spoken to in the clear, which is only done in a private network.
///
/// # Errors
/// [`Fault::Refused`] if its address is a figure outside of one. Names are looked at when they are found (`shape`).
pub(crate) fn spoken_plainly(address: &StoreAddress) -> Result<bool, Fault> {
    let url = address.share().unwrap_or_else(|| address.endpoint.clone());
    let parsed = reqwest::Url::parse(&url).map_err(|e| unusable(address, e))?;
    if parsed.scheme() != "http" {
        return Ok(false);
    }
    if figure(&url).is_some_and(|ip| !ypogeion_core::network::is_private(ip)) {
        return Err(Fault::Refused(Refusal::InTheClear(address.name.clone())));
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::Ordering;

    use super::{backend::samples::at, *};

    #[test]
    fn in_the_clear_only_the_own_network_is_spoken_to() {
        for (endpoint, plain) in [
            ("https://store.example.org", Some(false)),
            ("https://203.0.113.7", Some(false)),
            ("http://192.168.1.7:9000", Some(true)),
            ("http://[fd00::7]:9000", Some(true)),
            ("http://quay.local", Some(true)),
            ("http://203.0.113.7", None),
            ("http://[2001:db8::7]/", None),
            ("dav://203.0.113.7/pictures", None),
            ("davs://203.0.113.7/pictures", Some(false)),
            ("dav://10.0.0.7/pictures", Some(true)),
        ] {
            assert_eq!(spoken_plainly(&at(endpoint)).ok(), plain, "{endpoint}");
            assert_eq!(Store::new(&at(endpoint)).is_ok(), plain.is_some(), "{endpoint}");
        }
    }

    /// Somebody who answers each request with these words, and counts them.
    async fn answering(words: String) -> (u16, Arc<std::sync::atomic::AtomicUsize>) {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let (port, heard) = (listener.local_addr().unwrap().port(), Arc::<std::sync::atomic::AtomicUsize>::default());
        let count = Arc::clone(&heard);
        tokio::spawn(async move {
            while let Ok((mut line, _)) = listener.accept().await {
                count.fetch_add(1, Ordering::Relaxed);
                let mut some = [0; 4096];
                let _ = line.read(&mut some).await;
                let _ = line.write_all(words.as_bytes()).await;
            }
        });
        (port, heard)
    }

    #[tokio::test]
    async fn a_store_that_sends_elsewhere_is_not_followed() {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let (other, heard) = answering("HTTP/1.1 200 OK\r\ncontent-length: 0\r\nconnection: close\r\n\r\n".to_owned()).await;
        let (port, asked) = answering(format!(
            "HTTP/1.1 307 Temporary Redirect\r\nlocation: http://127.0.0.1:{other}/pictures/x\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
        ))
        .await;
        for endpoint in [format!("http://127.0.0.1:{port}"), format!("dav://127.0.0.1:{port}/pictures")] {
            let store = Store::new(&at(&endpoint)).unwrap();
            let put = store.put("FORMAT.json", Bytes::from_static(b"kite")).await;
            assert!(matches!(put, Err(Fault::Passing(Trouble::Elsewhere(_)))), "{endpoint}: {put:?}");
            let got = store.get("x").await;
            assert!(matches!(got, Err(Fault::Passing(Trouble::Elsewhere(_)))), "{endpoint}: {got:?}");
        }
        assert!(asked.load(Ordering::Relaxed) > 0);
        assert_eq!(heard.load(Ordering::Relaxed), 0, "nobody else hears of it");
    }
}
