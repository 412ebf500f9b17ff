//! An S3-compatible object store.

use std::{
    io,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicUsize, Ordering},
    },
};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{
    StreamExt, TryStreamExt,
    stream::{self, BoxStream},
};
use http::StatusCode;
use object_store::{
    GetOptions, ObjectStore, ObjectStoreExt, PutMode, PutPayload, RetryConfig,
    aws::{self, AmazonS3, AmazonS3Builder},
    multipart::{MultipartStore, PartId},
};
use tokio::io::AsyncSeekExt;
use ypogeion_core::{checksum::Checksum, kit::StoreAddress};

use super::{
    backend::{Backend, Conditional, Listed, PART, Pieces, Prefix, Seen, Stored, hash_of, read_part},
    fault::{Answer, Fault, Refusal, Trouble, answer_in, innermost, of_status, without_answer},
};
use crate::{
    shape::{Client, LockedUntil},
    spool::{Entry, Upload},
};

/// Parts of one object that are under way at once.
const PARTS_AT_ONCE: usize = 2;

/// The checksums that may go along, the one that is asked for first.
const CHECKSUMS: [Option<Checksum>; 3] = [Some(Checksum::Crc64Nvme), Some(Checksum::Sha256), None];

#[derive(Clone, Debug)]
pub(super) struct Bucket {
    /// The same bucket, asked with each of [`CHECKSUMS`].
    ways: [Arc<AmazonS3>; 3],
    /// Which of them is gone by: a store that does not know a checksum says so by refusing what comes with it.
    way: Arc<AtomicUsize>,
    /// For a trial of one checksum: no other is tried in its place.
    fixed: bool,
    prefix: Prefix,
}

impl Bucket {
    /// `tampering`: whether somebody on the way there may change what is sent. Where nobody can, the payload is not signed: a signature
    /// takes SHA-256 of every byte.
    pub(super) fn new(address: &StoreAddress, client: &Client, retry: &RetryConfig, tampering: bool) -> Result<Self, Fault> {
        let way = |checksum: Option<Checksum>| {
            let builder = AmazonS3Builder::new()
                .with_endpoint(&address.endpoint)
                .with_region(if address.region.is_empty() { "us-east-1" } else { &address.region })
                .with_bucket_name(&address.bucket)
                .with_access_key_id(&address.access_key)
                .with_secret_access_key(&address.secret_key)
                .with_virtual_hosted_style_request(names_bucket(&address.endpoint, &address.bucket))
                // One request for each removal: the other way is not known everywhere.
                .with_disable_bulk_delete(true)
                .with_http_connector(client.clone())
                .with_retry(retry.clone());
            let builder = match checksum {
                Some(Checksum::Crc64Nvme) => {
                    builder.with_checksum_algorithm(aws::Checksum::CRC64NVME).with_unsigned_payload(!tampering)
                }
                Some(Checksum::Sha256) => builder.with_checksum_algorithm(aws::Checksum::SHA256),
                None => builder,
            };
            builder
                .build()
                .map(Arc::new)
                .map_err(|e| Fault::Refused(Refusal::Address { name: address.name.clone(), why: e.to_string() }))
        };
        let ways = [way(CHECKSUMS[0])?, way(CHECKSUMS[1])?, way(CHECKSUMS[2])?];
        Ok(Bucket { ways, way: Arc::default(), fixed: false, prefix: Prefix::new(&address.prefix) })
    }

    /// Begins with this checksum.
    pub(super) fn with(self, checksum: Option<Checksum>) -> Self {
        self.way.store(index_of(checksum), Ordering::Relaxed);
        self
    }

    /// Goes by no other one.
    pub(super) fn fixed(self) -> Self {
        Bucket { fixed: true, ..self }
    }

    fn at(&self) -> usize {
        self.way.load(Ordering::Relaxed)
    }

    /// For what has no body of ours.
    fn any(&self) -> &AmazonS3 {
        &self.ways[self.at()]
    }

    /// Which way to try after a refusal that may be about the checksum.
    fn next(&self, at: usize, error: &object_store::Error) -> Option<usize> {
        let unknown = !self.fixed && answer_in(error).is_some_and(Answer::may_not_know_checksums);
        (unknown && at + 1 < self.ways.len()).then_some(at + 1)
    }

    /// It took something by this way: the ones before it are not tried any more.
    fn settle(&self, at: usize) {
        self.way.fetch_max(at, Ordering::Relaxed);
    }

    /// `writing`: what is not found is the bucket.
    fn fault(&self, name: &str, error: &object_store::Error, writing: bool) -> Fault {
        let Some(answer) = answer_in(error) else {
            return match error {
                object_store::Error::InvalidPath { .. }
                | object_store::Error::NotSupported { .. }
                | object_store::Error::NotImplemented { .. } => Fault::Refused(Refusal::Unable(innermost(error))),
                other => without_answer(other),
            };
        };
        let refused = |why| Fault::Refused(why);
        match (answer.code.as_str(), answer.status) {
            ("RequestTimeTooSkewed", _) => refused(Refusal::Clock),
            ("QuotaExceeded" | "InsufficientStorage", _) => refused(Refusal::Full),
            (code, _) if code.ends_with("StorageFull") => refused(Refusal::Full),
            ("AuthorizationHeaderMalformed" | "InvalidRegion" | "PermanentRedirect", _) => {
                refused(Refusal::Region(answer.message.clone()))
            }
            ("NoSuchUpload" | "InvalidPart" | "InvalidPartOrder", _) => Fault::Missing(name.to_owned()),
            ("NoSuchBucket", _) => refused(Refusal::NoBucket),
            ("NotImplemented", _) | (_, StatusCode::NOT_IMPLEMENTED) => refused(Refusal::Unable(answer.to_string())),
            ("SignatureDoesNotMatch" | "InvalidAccessKeyId", _) => refused(Refusal::Keys),
            ("SlowDown" | "TooManyRequests", _) => Fault::Passing(Trouble::Busy(answer.to_string())),
            (_, StatusCode::NOT_FOUND) if writing => refused(Refusal::NoBucket),
            (_, StatusCode::NOT_FOUND) => Fault::Missing(name.to_owned()),
            (_, StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN) => refused(Refusal::NotAllowed(answer.to_string())),
            _ => of_status(answer),
        }
    }

    /// The upload of an entry that was begun, or a new one.
    async fn begun(&self, name: &str, entry: &mut Entry) -> Result<Upload, Fault> {
        if let Some(upload) = entry.upload() {
            return Ok(upload.clone());
        }
        let mut at = self.at();
        let id = loop {
            match self.ways[at].create_multipart(&self.prefix.path(name)).await {
                Ok(id) => break id,
                Err(e) => at = self.next(at, &e).ok_or_else(|| self.fault(name, &e, true))?,
            }
        };
        self.settle(at);
        // No more than 10,000 parts, and all but the last of one size.
        let length = entry.both().sealed.length;
        let part = (PART as u64).max(length.div_ceil(9_000));
        let parts = vec![None; usize::try_from(length.div_ceil(part)).unwrap_or(usize::MAX)];
        let upload = Upload { id, checksum: CHECKSUMS[at], part, parts };
        entry.set_upload(Some(upload.clone())).map_err(Fault::Home)?;
        Ok(upload)
    }

    /// Sends the parts that are missing, and notes each that is there. What came of the last one that failed is told.
    async fn send_parts(&self, way: &AmazonS3, name: &str, entry: &mut Entry, upload: &mut Upload) -> Result<(), Fault> {
        let (path, part, bytes, id) = (self.prefix.path(name), upload.part, entry.bytes().to_owned(), upload.id.clone());
        let missing: Vec<usize> = upload.parts.iter().enumerate().filter(|(_, p)| p.is_none()).map(|(n, _)| n).collect();
        let stopped = AtomicBool::new(false);
        let (path_of, id_of) = (&path, &id);
        let mut sending = stream::iter(missing)
            // After a part that failed, no other one is begun.
            .take_while(|_| std::future::ready(!stopped.load(Ordering::Relaxed)))
            .map(|n| {
                let bytes = bytes.clone();
                async move {
                    let mut file = tokio::fs::File::open(&bytes).await.map_err(Fault::Home)?;
                    file.seek(io::SeekFrom::Start(n as u64 * part)).await.map_err(Fault::Home)?;
                    let body = read_part(&mut file, part).await?;
                    let sent = way.put_part(path_of, id_of, n, body.into()).await.map_err(|e| self.fault(name, &e, false))?;
                    Ok::<_, Fault>((n, sent.content_id))
                }
            })
            .buffer_unordered(PARTS_AT_ONCE);
        let mut failed = None;
        while let Some(sent) = sending.next().await {
            match sent {
                Ok((n, content)) => {
                    upload.parts[n] = Some(content);
                    entry.set_upload(Some(upload.clone())).map_err(Fault::Home)?;
                }
                // The other one that is under way still counts when it arrives.
                Err(fault) => {
                    stopped.store(true, Ordering::Relaxed);
                    failed = failed.or(Some(fault));
                }
            }
        }
        failed.map_or(Ok(()), Err)
    }
}

fn index_of(checksum: Option<Checksum>) -> usize {
    CHECKSUMS.iter().position(|c| *c == checksum).expect("all of them are listed")
}

/// Whether an endpoint names the bucket itself (`https://bucket.store.example`); otherwise the bucket is the first part of the path.
fn names_bucket(endpoint: &str, bucket: &str) -> bool {
    reqwest::Url::parse(endpoint).is_ok_and(|u| u.host_str().is_some_and(|h| h.starts_with(&format!("{bucket}."))))
}

#[async_trait]
impl Backend for Bucket {
    async fn put(&self, name: &str, bytes: Bytes) -> Result<Stored, Fault> {
        let (path, payload) = (self.prefix.path(name), PutPayload::from_bytes(bytes));
        let mut at = self.at();
        loop {
            match self.ways[at].put(&path, payload.clone()).await {
                Ok(_) => break,
                Err(e) => at = self.next(at, &e).ok_or_else(|| self.fault(name, &e, true))?,
            }
        }
        self.settle(at);
        Ok(Stored { checksum: CHECKSUMS[at] })
    }

    async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<Stored, Fault> {
        let mut upload = self.begun(name, entry).await?;
        let way = &self.ways[index_of(upload.checksum)];
        let done = match self.send_parts(way, name, entry, &mut upload).await {
            Ok(()) => {
                let all = upload.parts.into_iter().flatten().map(|content_id| PartId { content_id }).collect();
                let done = way.complete_multipart(&self.prefix.path(name), &upload.id, all).await;
                done.map(drop).map_err(|e| self.fault(name, &e, false))
            }
            failed => failed,
        };
        match done {
            // The store has forgotten the upload, or has other parts; or it was completed, and only the answer was lost.
            Err(Fault::Missing(_)) => {
                entry.set_upload(None).map_err(Fault::Home)?;
                let expected = entry.both().sealed.hash;
                if let Ok((_, pieces)) = self.read(name).await
                    && hash_of(pieces, expected.algorithm()).await.is_ok_and(|found| found == expected)
                {
                    return Ok(Stored { checksum: upload.checksum });
                }
                Err(Fault::odd(format!("the store lost the parts of {name} that it had; it is sent again")))
            }
            other => other.map(|()| Stored { checksum: upload.checksum }),
        }
    }

    async fn put_new(&self, name: &str, bytes: Bytes) -> Result<Conditional, Fault> {
        match self.any().put_opts(&self.prefix.path(name), bytes.into(), PutMode::Create.into()).await {
            Ok(_) => Ok(Conditional::Replaced),
            Err(e) => match answer_in(&e).map(|a| a.status) {
                Some(StatusCode::PRECONDITION_FAILED | StatusCode::CONFLICT) => Ok(Conditional::Refused),
                Some(StatusCode::NOT_IMPLEMENTED) => Ok(Conditional::Unknown),
                _ => Err(self.fault(name, &e, true)),
            },
        }
    }

    async fn look(&self, name: &str) -> Result<Seen, Fault> {
        let asked = GetOptions { head: true, ..GetOptions::default() };
        let found = self.any().get_opts(&self.prefix.path(name), asked).await.map_err(|e| self.fault(name, &e, false))?;
        let locked_until = found.extensions.get::<LockedUntil>().map(|until| until.0.clone());
        Ok(Seen { size: found.meta.size, locked_until })
    }

    async fn read(&self, name: &str) -> Result<(u64, Pieces), Fault> {
        let found = self.any().get(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e, false))?;
        let (bucket, name, size) = (self.clone(), name.to_owned(), found.meta.size);
        Ok((size, found.into_stream().map_err(move |e| bucket.fault(&name, &e, false)).boxed()))
    }

    async fn remove(&self, name: &str) -> Result<(), Fault> {
        match self.any().delete(&self.prefix.path(name)).await.map_err(|e| self.fault(name, &e, false)) {
            Err(Fault::Missing(_)) => Ok(()),
            other => other,
        }
    }

    fn list(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>> {
        let (bucket, named) = (self.clone(), folder.to_owned());
        let listed = self.any().list(Some(&self.prefix.path(folder)));
        listed.map(move |found| found.map(|meta| bucket.prefix.listed(meta)).map_err(|e| bucket.fault(&named, &e, true))).boxed()
    }
}

#[cfg(test)]
mod tests {
    use object_store::client::{HttpError, HttpErrorKind};
    use rstest::rstest;

    use super::*;
    use crate::store::backend::samples::{at, client};

    fn bucket() -> Bucket {
        Bucket::new(&at("http://127.0.0.1:9"), &client(), &RetryConfig::default(), false).unwrap()
    }

    fn answered(status: u16, body: &str) -> object_store::Error {
        let answer = Answer::read(StatusCode::from_u16(status).unwrap(), body.as_bytes());
        object_store::Error::Generic { store: "S3", source: Box::new(HttpError::new(HttpErrorKind::Unknown, answer)) }
    }

    #[rstest]
    #[case::clock(403, "RequestTimeTooSkewed", Refusal::Clock)]
    #[case::quota(403, "QuotaExceeded", Refusal::Full)]
    #[case::full(507, "SomeStorageFull", Refusal::Full)]
    #[case::full_by_status(507, "", Refusal::Full)]
    #[case::region(301, "PermanentRedirect", Refusal::Region("said".to_owned()))]
    #[case::bucket(404, "NoSuchBucket", Refusal::NoBucket)]
    #[case::keys(403, "SignatureDoesNotMatch", Refusal::Keys)]
    #[case::rights(403, "AccessDenied", Refusal::NotAllowed("AccessDenied, said".to_owned()))]
    fn a_refusal_is_told_by_its_code(#[case] status: u16, #[case] code: &str, #[case] refusal: Refusal) {
        let error = answered(status, &format!("<Error><Code>{code}</Code><Message>said</Message></Error>"));
        // A picture may be called like anything.
        for name in ["sealed/ab/cd.age", "pictures/507 InsufficientStorage NoSuchBucket.jpg"] {
            match bucket().fault(name, &error, false) {
                Fault::Refused(found) => assert_eq!(found, refusal),
                other => panic!("{other}"),
            }
        }
    }

    #[rstest]
    #[case::object(404, "NoSuchKey", false, true)]
    #[case::nothing_said(404, "", false, true)]
    #[case::upload(404, "NoSuchUpload", true, true)]
    #[case::part(400, "InvalidPart", false, true)]
    #[case::while_writing(404, "", true, false)]
    #[case::the_name_says_nothing(503, "", false, false)]
    fn what_is_missing(#[case] status: u16, #[case] code: &str, #[case] writing: bool, #[case] missing: bool) {
        let error = answered(status, &format!("<Error><Code>{code}</Code></Error>"));
        let fault = bucket().fault("sealed/NoSuchKey 404.jpg", &error, writing);
        assert_eq!(matches!(fault, Fault::Missing(_)), missing, "{fault}");
    }

    #[test]
    fn only_a_refusal_that_may_be_about_the_checksum_leads_to_another_one() {
        let (bucket, unknown) = (bucket(), answered(501, ""));
        assert_eq!((bucket.next(0, &unknown), bucket.next(1, &unknown), bucket.next(2, &unknown)), (Some(1), Some(2), None));
        for (status, code, other) in [
            (400, "InvalidRequest", true),
            (400, "BadDigest", false),
            (400, "XAmzContentSHA256Mismatch", false),
            (400, "AuthorizationHeaderMalformed", false),
            (403, "AccessDenied", false),
            (503, "SlowDown", false),
        ] {
            let error = answered(status, &format!("<Error><Code>{code}</Code></Error>"));
            assert_eq!(bucket.next(0, &error).is_some(), other, "{code}");
        }
        assert_eq!(bucket.clone().fixed().next(0, &unknown), None);
        // What was settled on stays; nobody goes back.
        bucket.settle(1);
        bucket.settle(0);
        assert_eq!(bucket.at(), 1);
        assert_eq!(bucket.with(None).at(), 2);
    }
}
