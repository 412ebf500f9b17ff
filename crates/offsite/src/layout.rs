//! A replica in a store: `FORMAT.json`, sealed objects, and the ledger in numbered segments.

use std::{
    collections::BTreeMap,
    io::{Read, Write},
    path::Path,
};

use bytes::Bytes;
use chrono::{DateTime, Utc};
use flate2::{Compression, read::GzDecoder, write::GzEncoder};
use futures_util::{StreamExt, stream::BoxStream};
use serde::{Deserialize, Serialize};
use uuid::Uuid;
use ypogeion_core::{
    Digest,
    kit::KitEnd,
    ledger::{self, CheckpointHead, LedgerEnd, LedgerError, LedgerKey, Proof, Record, SegmentHead, SegmentRef, line, with_proof},
    object::folders,
    words,
};

use crate::{
    Fault, Keys, Ledger, Store,
    contents::Contents,
    seal::{OpenError, open, seal},
    store::{FORMAT_NAME, Listed},
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
    /// Proves who wrote it: HMAC-SHA-256 of what [`FormatFile::spoken`] says, under the household's ledger key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    hmac_sha256: Option<String>,
}

impl FormatFile {
    /// All that it says, a line each.
    fn spoken(&self) -> String {
        let FormatFile { format, version, replica, recipient, made_at, sealed, hmac_sha256: _ } = self;
        let made_at = made_at.to_rfc3339_opts(chrono::SecondsFormat::AutoSi, true);
        format!("{format}\n{version}\n{replica}\n{recipient}\n{made_at}\n{sealed}\n")
    }

    async fn read(store: &Store) -> Result<Self, ReplicaError> {
        let text = match store.get(FORMAT_NAME).await {
            Err(Fault::Missing(_)) => return Err(ReplicaError::None),
            other => other?,
        };
        let format: FormatFile = serde_json::from_slice(&text).map_err(|_| ReplicaError::NotUnderstood)?;
        if format.format != FORMAT || format.version > VERSION {
            return Err(ReplicaError::NotUnderstood);
        }
        Ok(format)
    }

    async fn write(&self, store: &Store) -> Result<(), Fault> {
        let text = serde_json::to_string_pretty(self).expect("plain text and numbers");
        store.put(FORMAT_NAME, Bytes::from(text + "\n")).await.map(drop)
    }

    fn proven(mut self, key: Option<&LedgerKey>) -> Self {
        self.hmac_sha256 = key.map(|key| key.mac(&self.spoken()));
        self
    }

    fn is_proven(&self, key: Option<&LedgerKey>) -> bool {
        let proof = key.zip(self.hmac_sha256.as_ref());
        proof.is_some_and(|(key, mac)| key.wrote(&self.spoken(), mac))
    }

    /// One that has no proof decides nothing that is not known from elsewhere.
    fn is_forged(&self, key: Option<&LedgerKey>) -> bool {
        let proof = key.zip(self.hmac_sha256.as_ref());
        proof.is_some_and(|(key, mac)| !key.wrote(&self.spoken(), mac))
    }
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
    #[error("there are no copies at this address; check bucket and prefix")]
    None,
    /// It belongs to another household.
    #[error("this place in the store holds another household's copies; choose another prefix")]
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
    /// Its proof does not fit.
    #[error(
        "the store's {FORMAT_NAME} was changed, or written by somebody else: its proof does not fit. Nothing was written or believed"
    )]
    Forged,
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

/// A ledger that was read.
#[derive(Debug)]
pub struct LedgerRead {
    /// What it adds up to.
    pub ledger: Ledger,
    /// What of it could not be used.
    pub bad: Vec<BadSegment>,
    /// What was used and has no proof of who wrote it.
    pub unproven: Vec<String>,
    /// Whether there was a key to tell.
    can_tell: bool,
    /// The segment up to which its checkpoint goes.
    upto: u64,
    /// The segments that were used, and the last one of the checkpoint, with the hashes of their bytes.
    segments: BTreeMap<String, Digest>,
    /// The name of the one that was taken last.
    latest: Option<String>,
}

impl LedgerRead {
    /// Notes which of the segments that others name are not there, or have other bytes.
    fn miss(&mut self, named: Vec<(SegmentRef, String)>) {
        for (before, by) in named {
            let is_covered = LedgerEnd::number_of(&before.name).is_some_and(|n| n <= self.upto);
            let why = match self.segments.get(&before.name) {
                _ if is_covered => continue,
                Some(digest) if *digest == before.sha256 => continue,
                Some(_) => format!("its bytes are not the ones that {by} names"),
                None => format!("{by} names it, and it cannot be used or is not there"),
            };
            if !self.bad.iter().any(|b| b.name == before.name) {
                self.bad.push(BadSegment { name: before.name, why });
            }
        }
    }

    /// Where it ends, if that is known to the byte.
    pub fn end(&self) -> Option<LedgerEnd> {
        let is_last = |name: &String| LedgerEnd::number_of(name) == Some(self.ledger.last_segment);
        let name = self.latest.as_ref().filter(|n| is_last(n)).or_else(|| self.segments.keys().rev().find(|n| is_last(n)))?;
        LedgerEnd::of(SegmentRef { name: name.clone(), sha256: *self.segments.get(name)? })
    }

    /// What speaks against taking it for the household's own and whole: a sentence each. `known`: an end of it that somebody else knows
    /// (`who`: "the kit", "this house").
    pub fn doubts(&self, known: Option<&KitEnd>, who: &str) -> Vec<String> {
        let mut doubts = Vec::new();
        if self.can_tell && !self.unproven.is_empty() {
            let some = words::counted(self.unproven.len() as u64, "part");
            let (carry, of) = if self.unproven.len() == 1 { ("carries", "it") } else { ("carry", "them") };
            doubts.push(format!(
                "{some} of this ledger {carry} no proof that the household wrote {of}, {} for one.",
                self.unproven[0]
            ));
        }
        let Some(known) = known else { return doubts };
        let last = self.ledger.last_segment;
        let made = self.ledger.last_made_at.map(|at| format!(", of {}", at.format("%-d %B %Y"))).unwrap_or_default();
        // What is there and cannot be read was not cut off; it is named as such.
        let broken = |n: u64| self.bad.iter().any(|b| LedgerEnd::number_of(&b.name) == Some(n));
        if last == 0 && self.bad.is_empty() {
            doubts.push(format!("Nothing of this ledger is there, and {who} knows of its segment {}.", known.number));
        } else if (last + 1..=known.number).any(|n| !broken(n)) {
            doubts.push(format!(
                "This ledger ends with segment {last}{made}, and {who} knows of a later one, {}: it was cut, or put back to an earlier state.",
                known.number
            ));
        } else if known.number > self.upto && !broken(known.number) {
            let mut same = self.segments.iter().filter(|(name, _)| LedgerEnd::number_of(name) == Some(known.number));
            if !same.any(|(_, digest)| digest.to_string().starts_with(&known.digits)) {
                doubts.push(format!("Segment {} of this ledger is not the one that {who} knows.", known.number));
            }
        }
        doubts
    }
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
                    hmac_sha256: None,
                }
                .proven(keys.ledger_key());
                format.write(&store).await?;
                // Read back: should two servers begin here at once, both go on with the one that stayed.
                Self::open(store, keys).await
            }
            other => other,
        }
    }

    /// Opens the replica that is in `store`. Whether its copies are sealed is what the house decided, and the keys say
    /// ([`Keys::plainly`]); a store that says otherwise is not opened.
    pub async fn open(store: Store, keys: Keys) -> Result<Self, ReplicaError> {
        Self::opened(store, keys, true).await
    }

    /// The same with a recovery kit: it is of no use that the household wrote what is there, if the kit's keys do not open it.
    pub async fn open_by_kit(store: Store, keys: Keys) -> Result<Self, ReplicaError> {
        Self::opened(store, keys, false).await
    }

    async fn opened(store: Store, keys: Keys, own_is_enough: bool) -> Result<Self, ReplicaError> {
        let format = FormatFile::read(&store).await?;
        if format.sealed == keys.is_plain() {
            return Err(ReplicaError::OtherwiseKept { sealed: format.sealed });
        }
        let replica = Replica { store, id: format.replica, keys };
        // One that the household wrote is its own, also if its key was made anew since, and nothing that is there opens any more: somebody
        // may have put the store back to an earlier state.
        let proven = own_is_enough && format.is_proven(replica.keys.ledger_key());
        if !proven && !replica.keys.knows(&format.recipient) && !replica.opens_its_ledger().await? {
            return Err(ReplicaError::SomebodyElses);
        }
        // Last: another household's place has another household's proof.
        if format.is_forged(replica.keys.ledger_key()) {
            return Err(ReplicaError::Forged);
        }
        Ok(replica)
    }

    /// Proves the first object anew, with the household's present ledger key: after a rebuilding with a kit that had none. It says what it
    /// said before.
    pub async fn prove_again(&self) -> Result<(), ReplicaError> {
        let format = FormatFile::read(&self.store).await?;
        Ok(format.proven(self.keys.ledger_key()).write(&self.store).await?)
    }

    /// Whether the newest segment of the ledger opens: the household may have another key by now than when it began.
    async fn opens_its_ledger(&self) -> Result<bool, Fault> {
        let Some(newest) = self.store.list("ledger").await?.pop() else { return Ok(false) };
        let sealed = self.store.get(&newest).await?;
        Ok(unpack(&self.keys, &sealed).is_ok())
    }

    /// Writes a ledger segment. Its name carries `salt` beside its number, so that no two writers ever meet in one name. `before`: the one
    /// that was written before it.
    pub async fn write_segment(
        &self,
        (number, salt): (u64, u32),
        before: Option<SegmentRef>,
        records: &[Record],
        now: DateTime<Utc>,
    ) -> Result<SegmentRef, Fault> {
        let head = Record::Segment(SegmentHead { format: self.format(), replica: self.id, number, made_at: now, before });
        let name = format!("ledger/{number:08}-{salt:08x}{}", self.ending());
        let sha256 = self.write_lines(&name, std::iter::once(&head).chain(records)).await?;
        Ok(SegmentRef { name, sha256 })
    }

    /// Writes one part of a checkpoint that stands for all segments up to `number`, of which `upto` is the last. All its parts carry one
    /// `salt`; only the last one makes it a checkpoint.
    pub async fn write_part(
        &self,
        (number, salt): (u64, u32),
        (part, last): (u32, bool),
        upto: Option<SegmentRef>,
        records: &[Record],
        now: DateTime<Utc>,
    ) -> Result<(), Fault> {
        let folder = format!("{number:08}-{salt:08x}");
        let name = format!("checkpoints/{folder}/{part:05}{}", self.ending());
        let (format, folder) = (self.format(), Some(folder));
        let head = CheckpointHead { format, replica: self.id, number, part, last, made_at: now, folder, upto };
        self.write_lines(&name, std::iter::once(&Record::Checkpoint(head)).chain(records)).await?;
        Ok(())
    }

    /// Who has no key to prove with writes the version that has no proofs.
    fn format(&self) -> u32 {
        if self.keys.ledger_key().is_some() { ledger::FORMAT } else { 1 }
    }

    fn ending(&self) -> &'static str {
        if self.keys.is_plain() { ".jsonl.gz" } else { ".jsonl.gz.age" }
    }

    /// The objects of its originals, in the order of their names' bytes, page by page.
    ///
    /// # Errors
    /// Those of [`Store::list_objects`].
    pub fn list_objects(&self) -> BoxStream<'static, Result<Listed, Fault>> {
        let store = self.store.clone();
        let folders = futures_util::stream::iter(folders(self.keys.is_plain()));
        folders.flat_map(move |folder| store.list_objects(folder)).boxed()
    }

    /// Returns the hash of the bytes that are in the store then.
    async fn write_lines(&self, name: &str, records: impl Iterator<Item = &Record>) -> Result<Digest, Fault> {
        let text: String = records.map(|r| line(r) + "\n").collect();
        let text = match self.keys.ledger_key() {
            Some(key) => with_proof(text, key),
            None => text,
        };
        let keys = self.keys.clone();
        let (sealed, written, digest) = tokio::task::spawn_blocking(move || {
            let mut packed = GzEncoder::new(Vec::new(), Compression::default());
            packed.write_all(text.as_bytes())?;
            let mut sealed = Vec::new();
            let both = seal(&keys, packed.finish()?.as_slice(), &mut sealed)?;
            let digest = Digest::of(&sealed);
            std::io::Result::Ok((sealed, both.sealed, digest))
        })
        .await
        .map_err(|e| Fault::odd(e.to_string()))?
        .map_err(Fault::Home)?;
        let stored = self.store.put(name, Bytes::from(sealed)).await?;
        self.store.confirm(name, stored, written).await?;
        Ok(digest)
    }

    /// Reads the ledger: the newest checkpoint that is whole, and the segments after it. What cannot be used is named, and the rest is used
    /// without it. What it says of the originals is kept in a file below `scratch`.
    pub async fn read_ledger(&self, scratch: &Path) -> Result<LedgerRead, Fault> {
        let home = |e: Box<dyn std::error::Error + Send + Sync>| Fault::Home(std::io::Error::other(e));
        let begin = || Contents::below(scratch).map(Ledger::new).map_err(home);
        let mut read = LedgerRead {
            ledger: begin()?,
            bad: Vec::new(),
            unproven: Vec::new(),
            can_tell: self.keys.ledger_key().is_some(),
            upto: 0,
            segments: BTreeMap::new(),
            latest: None,
        };
        for (folder, parts) in self.checkpoints().await?.into_iter().rev() {
            match self.take_checkpoint(&mut read.ledger, &folder, &parts).await? {
                Ok((head, proof)) => {
                    read.upto = head.number;
                    read.segments.extend(head.upto.map(|s| (s.name, s.sha256)));
                    read.unproven.extend((proof == Proof::None).then_some(folder));
                    break;
                }
                Err(why) => {
                    // An older one, and more segments, say the same.
                    read.bad.extend(why.map(|why| BadSegment { name: folder, why }));
                    read.ledger = begin()?;
                }
            }
        }
        let mut named = Vec::new();
        let names: Vec<String> = self.store.list("ledger").await?;
        let names: Vec<String> = names.into_iter().filter(|n| LedgerEnd::number_of(n).is_none_or(|n| n > read.upto)).collect();
        let number = |name: &String| LedgerEnd::number_of(name);
        for same in names.chunk_by(|a, b| number(a).is_some() && number(a) == number(b)) {
            let mut same = same.to_vec();
            if same.len() > 1 {
                // A house that was killed while it wrote a segment writes another one with its number: what was said last counts, whatever
                // their names are. Each is read twice, so that one is in memory, however many a store shows.
                let mut told = Vec::new();
                for name in same {
                    told.push((self.fetch_lines(&name).await?.ok().and_then(|(_, text)| ledger::made_at(&text)), name));
                }
                told.sort();
                same = told.into_iter().map(|(_, name)| name).collect();
            }
            for name in same {
                let lines = self.fetch_lines(&name).await?;
                named.extend(self.take_segment(&mut read, name, lines));
            }
        }
        read.miss(named);
        Ok(read)
    }

    /// The parts of each checkpoint, by its folder.
    async fn checkpoints(&self) -> Result<BTreeMap<String, Vec<String>>, Fault> {
        let mut checkpoints: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for name in self.store.list("checkpoints").await? {
            if let Some((folder, _)) = name.rsplit_once('/') {
                checkpoints.entry(folder.to_owned()).or_default().push(name);
            }
        }
        Ok(checkpoints)
    }

    /// Takes a segment, or notes why it cannot be used. Returns the one that it names as written before it, and its own name.
    fn take_segment(
        &self,
        read: &mut LedgerRead,
        name: String,
        lines: Result<(Digest, String), String>,
    ) -> Option<(SegmentRef, String)> {
        let (digest, text) = match lines {
            Ok(fetched) => fetched,
            Err(why) => {
                read.bad.push(BadSegment { name, why });
                return None;
            }
        };
        // A name without a number is nobody's here; what it says of itself cannot fit.
        let number = LedgerEnd::number_of(&name).unwrap_or(0);
        match read.ledger.take_segment((self.id, number), self.keys.ledger_key(), &text) {
            Ok((head, proof)) => {
                read.unproven.extend((proof == Proof::None).then(|| name.clone()));
                read.segments.insert(name.clone(), digest);
                read.latest = Some(name.clone());
                head.before.map(|before| (before, name))
            }
            Err(e) => {
                read.bad.push(BadSegment { name, why: why(&e) });
                None
            }
        }
    }

    /// `Err`: it cannot be used, and why; without a reason, it was never finished.
    async fn take_checkpoint(
        &self,
        ledger: &mut Ledger,
        folder: &str,
        parts: &[String],
    ) -> Result<Result<(CheckpointHead, Proof), Option<String>>, Fault> {
        let called = folder.rsplit('/').next().unwrap_or_default();
        let number = called.split('-').next().and_then(|n| n.parse::<u64>().ok());
        let mut all = Proof::Proven;
        for (n, name) in parts.iter().enumerate() {
            let text = match self.fetch_lines(name).await? {
                Ok((_, text)) => text,
                Err(why) => return Ok(Err(Some(why))),
            };
            match ledger.take_part((self.id, called), self.keys.ledger_key(), &text) {
                Ok((head, _)) if head.part as usize != n + 1 => {
                    return Ok(Err(Some(format!("its part {} is missing", n + 1))));
                }
                Ok((head, _)) if Some(head.number) != number => return Ok(Err(Some(why(&LedgerError::Renamed)))),
                Ok((head, proof)) => {
                    if proof == Proof::None {
                        all = Proof::None;
                    }
                    if head.last {
                        return Ok(Ok((head, all)));
                    }
                }
                Err(e) => return Ok(Err(Some(why(&e)))),
            }
        }
        Ok(Err(None))
    }

    /// The hash of its bytes in the store, and what they say.
    async fn fetch_lines(&self, name: &str) -> Result<Result<(Digest, String), String>, Fault> {
        let sealed = match self.store.get(name).await {
            Err(Fault::Missing(_)) => return Ok(Err("it vanished while the ledger was read".into())),
            other => other?,
        };
        let keys = self.keys.clone();
        let opened = tokio::task::spawn_blocking(move || unpack(&keys, &sealed).map(|text| (Digest::of(&sealed), text)));
        match opened.await.map_err(|e| Fault::odd(e.to_string()))? {
            Err(OpenError::NoKey) => Err(Fault::Locked),
            opened => Ok(opened.map_err(|e| e.to_string())),
        }
    }
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
