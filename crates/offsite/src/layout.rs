//! A replica in a store: `FORMAT.json`, sealed objects, and the ledger in numbered segments.

use std::{
    collections::BTreeMap,
    io::{Read, Write},
    path::Path,
};

use bytes::Bytes;
use chrono::{DateTime, Utc};
use flate2::{Compression, read::GzDecoder, write::GzEncoder};
use serde::{Deserialize, Serialize};
use uuid::Uuid;
use ypogeion_core::ledger::{CheckpointHead, LedgerError, Record, SegmentHead, line};

use crate::{
    Fault, Keys, Ledger, Store,
    contents::Contents,
    seal::{OpenError, open, seal},
    store::FORMAT_NAME,
};

const FORMAT: &str = "ypogeion-store";
/// Readable replicas are of version 2: a program that knows only sealed ones must leave them alone.
const VERSION: u32 = 2;
const SEALED_VERSION: u32 = 1;
/// A segment opens to at most this much; the program writes far smaller ones.
const LARGEST_SEGMENT: u64 = 256 << 20;

/// The first object of a replica, in plain JSON: enough to know what the rest is and with what to open it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct FormatFile {
    format: String,
    version: u32,
    replica: Uuid,
    recipient: String,
    made_at: DateTime<Utc>,
    /// Whether everything but this object is sealed.
    #[serde(default = "yes", skip_serializing_if = "is_yes")]
    sealed: bool,
}

fn yes() -> bool {
    true
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde hands a reference")]
fn is_yes(sealed: &bool) -> bool {
    *sealed
}

/// A replica in a store, with the key that opens it.
#[derive(Clone, Debug)]
pub struct Replica {
    /// The store it is in.
    pub store: Store,
    /// Its own id.
    pub id: Uuid,
    /// The household's keys.
    pub keys: Keys,
}

/// Why a replica cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ReplicaError {
    /// There is none at this address.
    #[error("there is no replica at this address; check bucket and prefix")]
    None,
    /// It belongs to another household.
    #[error("this place in the store holds another household's replica; choose another prefix")]
    SomebodyElses,
    /// It says that its copies are kept in another way than the house decided.
    #[error(
        "the store's {FORMAT_NAME} says that its copies are {}, and the house decided otherwise: somebody changed it, or this is not the \
         place that it was. Nothing was written or believed",
        if *sealed { "sealed" } else { "readable" }
    )]
    OtherwiseKept {
        /// What it says.
        sealed: bool,
    },
    /// It is not ours, or of a later version.
    #[error("the store's {FORMAT_NAME} is not one this program understands")]
    NotUnderstood,
    /// The store failed.
    #[error(transparent)]
    Store(#[from] Fault),
}

/// A segment that could not be used.
#[derive(Debug)]
pub struct BadSegment {
    /// Its name in the store.
    pub name: String,
    /// Why, for a person.
    pub why: String,
}

impl Replica {
    /// Opens the replica in `store`, or begins one with the id `new`, sealed or readable as the keys say. The key must be the one it was
    /// begun with.
    pub async fn open_or_begin(store: Store, keys: Keys, new: Uuid, now: DateTime<Utc>) -> Result<Self, ReplicaError> {
        match Self::open(store.clone(), keys.clone()).await {
            Err(ReplicaError::None) => {
                let sealed = !keys.is_plain();
                let format = FormatFile {
                    format: FORMAT.into(),
                    version: if sealed { SEALED_VERSION } else { VERSION },
                    replica: new,
                    recipient: keys.recipient(),
                    made_at: now,
                    sealed,
                };
                let text = serde_json::to_string_pretty(&format).expect("plain text and numbers");
                store.put(FORMAT_NAME, Bytes::from(text + "\n")).await?;
                // Read back: should two servers begin here at once, both go on with the one that stayed.
                Self::open(store, keys).await
            }
            other => other,
        }
    }

    /// Opens the replica that is in `store`. Whether its copies are sealed is what the house decided, and the keys say
    /// ([`Keys::plainly`]); a store that says otherwise is not opened.
    pub async fn open(store: Store, keys: Keys) -> Result<Self, ReplicaError> {
        let text = match store.get(FORMAT_NAME).await {
            Err(Fault::Missing(_)) => return Err(ReplicaError::None),
            other => other?,
        };
        let format: FormatFile = serde_json::from_slice(&text).map_err(|_| ReplicaError::NotUnderstood)?;
        if format.format != FORMAT || format.version > VERSION {
            return Err(ReplicaError::NotUnderstood);
        }
        if format.sealed == keys.is_plain() {
            return Err(ReplicaError::OtherwiseKept { sealed: format.sealed });
        }
        let replica = Replica { store, id: format.replica, keys };
        if !replica.keys.knows(&format.recipient) && !replica.opens_its_ledger().await? {
            return Err(ReplicaError::SomebodyElses);
        }
        Ok(replica)
    }

    /// Whether the newest segment of the ledger opens: the household may have another key by now than when it began.
    async fn opens_its_ledger(&self) -> Result<bool, Fault> {
        let Some(newest) = self.store.list("ledger").await?.pop() else { return Ok(false) };
        let sealed = self.store.get(&newest).await?;
        Ok(unpack(&self.keys, &sealed).is_ok())
    }

    /// Writes a ledger segment. Its name carries `salt` beside its number, so that no two writers ever meet in one name.
    pub async fn write_segment(&self, number: u64, salt: u32, records: &[Record], now: DateTime<Utc>) -> Result<String, Fault> {
        let head = Record::Segment(SegmentHead { format: ypogeion_core::ledger::FORMAT, replica: self.id, number, made_at: now });
        let name = format!("ledger/{number:08}-{salt:08x}{}", self.ending());
        self.write_lines(&name, std::iter::once(&head).chain(records)).await?;
        Ok(name)
    }

    /// Writes one part of a checkpoint that stands for all segments up to `number`. All its parts carry one `salt`; only the last one makes
    /// it a checkpoint.
    pub async fn write_part(
        &self,
        (number, salt): (u64, u32),
        (part, last): (u32, bool),
        records: &[Record],
        now: DateTime<Utc>,
    ) -> Result<(), Fault> {
        let format = ypogeion_core::ledger::FORMAT;
        let head = Record::Checkpoint(CheckpointHead { format, replica: self.id, number, part, last, made_at: now });
        let name = format!("checkpoints/{number:08}-{salt:08x}/{part:05}{}", self.ending());
        self.write_lines(&name, std::iter::once(&head).chain(records)).await
    }

    fn ending(&self) -> &'static str {
        if self.keys.is_plain() { ".jsonl.gz" } else { ".jsonl.gz.age" }
    }

    /// The folder that its originals are in.
    pub fn folder(&self) -> &'static str {
        if self.keys.is_plain() { "pictures" } else { "objects" }
    }

    async fn write_lines(&self, name: &str, records: impl Iterator<Item = &Record>) -> Result<(), Fault> {
        let text: String = records.map(|r| line(r) + "\n").collect();
        let keys = self.keys.clone();
        let sealed = tokio::task::spawn_blocking(move || {
            let mut packed = GzEncoder::new(Vec::new(), Compression::default());
            packed.write_all(text.as_bytes())?;
            let mut sealed = Vec::new();
            let both = seal(&keys, packed.finish()?.as_slice(), &mut sealed)?;
            std::io::Result::Ok((sealed, both.sealed))
        })
        .await
        .map_err(|e| Fault::Passing(e.to_string()))?
        .map_err(Fault::Home)?;
        let (sealed, written) = sealed;
        self.store.put(name, Bytes::from(sealed)).await?;
        let kept = self.store.size(name).await?;
        if kept != written.length {
            return Err(Fault::Passing(format!("{name} should have {} bytes in the store and has {kept}", written.length)));
        }
        if !self.store.checks_sums() && self.store.digest_of(name).await? != written.digest {
            return Err(Fault::Passing(format!("{name} is not there as it was written")));
        }
        Ok(())
    }

    /// Reads the ledger: the newest checkpoint that is whole, and the segments after it. What cannot be used is named, and the rest is used
    /// without it. What it says of the originals is kept in a file below `scratch`.
    pub async fn read_ledger(&self, scratch: &Path) -> Result<(Ledger, Vec<BadSegment>), Fault> {
        let home = |e: Box<dyn std::error::Error + Send + Sync>| Fault::Home(std::io::Error::other(e));
        let begin = || Contents::below(scratch).map(Ledger::new).map_err(home);
        let (mut ledger, mut bad, mut upto) = (begin()?, Vec::new(), 0);
        let mut checkpoints: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for name in self.store.list("checkpoints").await? {
            if let Some((folder, _)) = name.rsplit_once('/') {
                checkpoints.entry(folder.to_owned()).or_default().push(name);
            }
        }
        for (folder, parts) in checkpoints.into_iter().rev() {
            match self.take_checkpoint(&mut ledger, &parts).await? {
                Ok(number) => {
                    upto = number;
                    break;
                }
                Err(why) => {
                    // An older one, and more segments, say the same.
                    bad.extend(why.map(|why| BadSegment { name: folder, why }));
                    ledger = begin()?;
                }
            }
        }
        for name in self.store.list("ledger").await? {
            if number_of(&name).is_some_and(|n| n <= upto) {
                continue;
            }
            match self.fetch_lines(&name).await? {
                Ok(text) => {
                    if let Err(e) = ledger.take_segment(self.id, &text) {
                        bad.push(BadSegment { name, why: why(&e) });
                    }
                }
                Err(why) => bad.push(BadSegment { name, why }),
            }
        }
        Ok((ledger, bad))
    }

    /// `Err`: it cannot be used, and why; without a reason, it was never finished.
    async fn take_checkpoint(&self, ledger: &mut Ledger, parts: &[String]) -> Result<Result<u64, Option<String>>, Fault> {
        for (n, name) in parts.iter().enumerate() {
            let text = match self.fetch_lines(name).await? {
                Ok(text) => text,
                Err(why) => return Ok(Err(Some(why))),
            };
            match ledger.take_part(self.id, &text) {
                Ok(head) if head.part as usize != n + 1 => return Ok(Err(Some(format!("its part {} is missing", n + 1)))),
                Ok(head) if head.last => return Ok(Ok(head.number)),
                Ok(_) => {}
                Err(e) => return Ok(Err(Some(why(&e)))),
            }
        }
        Ok(Err(None))
    }

    async fn fetch_lines(&self, name: &str) -> Result<Result<String, String>, Fault> {
        let sealed = match self.store.get(name).await {
            Err(Fault::Missing(_)) => return Ok(Err("it vanished while the ledger was read".into())),
            other => other?,
        };
        let keys = self.keys.clone();
        let opened = tokio::task::spawn_blocking(move || unpack(&keys, &sealed));
        match opened.await.map_err(|e| Fault::Passing(e.to_string()))? {
            Err(OpenError::NoKey) => Err(Fault::Locked),
            opened => Ok(opened.map_err(|e| e.to_string())),
        }
    }
}

/// The number in the name of a segment, if it has the form of one.
fn number_of(name: &str) -> Option<u64> {
    name.strip_prefix("ledger/")?.split('-').next()?.parse().ok()
}

fn why(e: &LedgerError) -> String {
    match std::error::Error::source(e) {
        Some(source) => format!("{e}: {source}"),
        None => e.to_string(),
    }
}

fn unpack(keys: &Keys, sealed: &[u8]) -> Result<String, OpenError> {
    let mut packed = Vec::new();
    open(keys, sealed, &mut packed)?;
    let mut text = String::new();
    GzDecoder::new(packed.as_slice()).take(LARGEST_SEGMENT).read_to_string(&mut text).map_err(|_| OpenError::Damaged)?;
    Ok(text)
}
