//! A replica in a store: `FORMAT.json`, sealed objects, and the ledger in numbered segments.

use std::io::{Read, Write};

use bytes::Bytes;
use chrono::{DateTime, Utc};
use flate2::{Compression, read::GzDecoder, write::GzEncoder};
use serde::{Deserialize, Serialize};
use uuid::Uuid;
use ypogeion_core::ledger::{Holdings, LedgerError, Record, SegmentHead, line};

use crate::{
    Fault, Identity, Store,
    seal::{OpenError, open, seal},
    store::FORMAT_NAME,
};

const FORMAT: &str = "ypogeion-store";
const VERSION: u32 = 1;
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
}

/// A replica in a store, with the key that opens it.
#[derive(Clone, Debug)]
pub struct Replica {
    /// The store it is in.
    pub store: Store,
    /// Its own id.
    pub id: Uuid,
    /// The household's key.
    pub identity: Identity,
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
    /// Opens the replica in `store`, or begins one with the id `new`. The key must be the one it was begun with.
    pub async fn open_or_begin(store: Store, identity: Identity, new: Uuid, now: DateTime<Utc>) -> Result<Self, ReplicaError> {
        match Self::open(store.clone(), identity.clone()).await {
            Err(ReplicaError::None) => {
                let format = FormatFile {
                    format: FORMAT.into(),
                    version: VERSION,
                    replica: new,
                    recipient: identity.recipient(),
                    made_at: now,
                };
                let text = serde_json::to_string_pretty(&format).expect("plain text and numbers");
                store.put(FORMAT_NAME, Bytes::from(text + "\n")).await?;
                // Read back: should two servers begin here at once, both go on with the one that stayed.
                Self::open(store, identity).await
            }
            other => other,
        }
    }

    /// Opens the replica that is in `store`.
    pub async fn open(store: Store, identity: Identity) -> Result<Self, ReplicaError> {
        let text = match store.get(FORMAT_NAME).await {
            Err(Fault::Missing(_)) => return Err(ReplicaError::None),
            other => other?,
        };
        let format: FormatFile = serde_json::from_slice(&text).map_err(|_| ReplicaError::NotUnderstood)?;
        if format.format != FORMAT || format.version > VERSION {
            return Err(ReplicaError::NotUnderstood);
        }
        if format.recipient != identity.recipient() {
            return Err(ReplicaError::SomebodyElses);
        }
        Ok(Replica { store, id: format.replica, identity })
    }

    /// Writes a ledger segment. Its name carries `salt` beside its number, so that no two writers ever meet in one name.
    pub async fn write_segment(&self, number: u64, salt: u32, records: &[Record], now: DateTime<Utc>) -> Result<String, Fault> {
        let head = Record::Segment(SegmentHead { format: ypogeion_core::ledger::FORMAT, replica: self.id, number, made_at: now });
        let text: String = std::iter::once(&head).chain(records).map(|r| line(r) + "\n").collect();
        let identity = self.identity.clone();
        let sealed = tokio::task::spawn_blocking(move || {
            let mut packed = GzEncoder::new(Vec::new(), Compression::default());
            packed.write_all(text.as_bytes())?;
            let mut sealed = Vec::new();
            seal(&identity, packed.finish()?.as_slice(), &mut sealed)?;
            std::io::Result::Ok(sealed)
        })
        .await
        .map_err(|e| Fault::Passing(e.to_string()))?
        .map_err(Fault::Home)?;
        let (name, size) = (format!("ledger/{number:08}-{salt:08x}.jsonl.gz.age"), sealed.len() as u64);
        self.store.put(&name, Bytes::from(sealed)).await?;
        let kept = self.store.size(&name).await?;
        if kept != size {
            return Err(Fault::Passing(format!("{name} should have {size} bytes in the store and has {kept}")));
        }
        Ok(name)
    }

    /// Reads the whole ledger. Segments that cannot be used are named, and the rest is used without them.
    pub async fn read_ledger(&self) -> Result<(Holdings, Vec<BadSegment>), Fault> {
        let (mut holdings, mut bad) = (Holdings::default(), Vec::new());
        for name in self.store.list("ledger").await? {
            let sealed = match self.store.get(&name).await {
                Err(Fault::Missing(_)) => {
                    bad.push(BadSegment { name, why: "it vanished while the ledger was read".into() });
                    continue;
                }
                other => other?,
            };
            match unpack(&self.identity, &sealed) {
                Ok(text) => {
                    if let Err(e) = holdings.take_segment(self.id, &text) {
                        bad.push(BadSegment { name, why: why(&e) });
                    }
                }
                Err(e) => bad.push(BadSegment { name, why: e.to_string() }),
            }
        }
        Ok((holdings, bad))
    }
}

fn why(e: &LedgerError) -> String {
    match std::error::Error::source(e) {
        Some(source) => format!("{e}: {source}"),
        None => e.to_string(),
    }
}

fn unpack(identity: &Identity, sealed: &[u8]) -> Result<String, OpenError> {
    let mut packed = Vec::new();
    open(identity, sealed, &mut packed)?;
    let mut text = String::new();
    GzDecoder::new(packed.as_slice()).take(LARGEST_SEGMENT).read_to_string(&mut text).map_err(|_| OpenError::Damaged)?;
    Ok(text)
}
