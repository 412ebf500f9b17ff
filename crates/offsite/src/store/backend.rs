//! What every kind of store can do, and what is the same for all of them: names below a prefix, and lists in the order of names.

use async_trait::async_trait;
use bytes::Bytes;
use chrono::{DateTime, Utc};
use futures_util::{StreamExt, TryStreamExt, stream, stream::BoxStream};
use object_store::{ObjectMeta, ObjectStore, path::Path};
use tokio::io::AsyncReadExt;
use ypogeion_core::checksum::{Checksum, HashAlgorithm, ObjectHash, ObjectHasher};

use super::fault::Fault;
use crate::spool::Entry;

/// Objects up to this size go in one request; larger ones in parts of this size.
pub const PART: usize = 16 << 20;

/// The first object of a replica.
pub const FORMAT_NAME: &str = "FORMAT.json";

/// An object in a store's list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Its name.
    pub name: String,
    /// Its size in bytes.
    pub size: u64,
    /// When it was written.
    pub changed_at: DateTime<Utc>,
}

/// What a store that has taken something said of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use = "what was taken without a checksum is read again before it counts"]
pub struct Stored {
    /// The checksum that went with it. Whether the store looks at that is another question.
    pub checksum: Option<Checksum>,
}

/// What a store says of an object without giving it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Seen {
    pub(crate) size: u64,
    /// Until when a retention lock keeps it, in the store's own words.
    pub(crate) locked_until: Option<String>,
}

/// An object's bytes as they come.
pub(crate) type Pieces = BoxStream<'static, Result<Bytes, Fault>>;

/// What became of storing something under a name that is taken, when the store was asked not to replace it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Conditional {
    /// It refused, as asked.
    Refused,
    /// It replaced it all the same.
    Replaced,
    /// It cannot be asked.
    Unknown,
}

/// One kind of store. Names are below the replica's prefix.
#[async_trait]
pub(crate) trait Backend: std::fmt::Debug + Send + Sync {
    /// Stores a small object in one request.
    async fn put(&self, name: &str, bytes: Bytes) -> Result<Stored, Fault>;

    /// Stores a sealed body that is too large for memory. What was sent of it before an interruption stays sent where a store takes parts.
    async fn put_entry(&self, name: &str, entry: &mut Entry) -> Result<Stored, Fault>;

    /// Asks not to replace what is there.
    async fn put_new(&self, name: &str, bytes: Bytes) -> Result<Conditional, Fault>;

    /// Looks at an object.
    async fn look(&self, name: &str) -> Result<Seen, Fault>;

    /// An object's size, and its bytes.
    async fn read(&self, name: &str) -> Result<(u64, Pieces), Fault>;

    /// Removes an object; one that is not there is no fault.
    async fn remove(&self, name: &str) -> Result<(), Fault>;

    /// What is below a folder, in the order of the bytes of names, page by page. A folder that is not there has nothing in it.
    fn list(&self, folder: &str) -> BoxStream<'static, Result<Listed, Fault>>;
}

/// The hash of an object's bytes as they come.
pub(crate) async fn hash_of(mut pieces: Pieces, algorithm: HashAlgorithm) -> Result<ObjectHash, Fault> {
    let mut hasher = ObjectHasher::new(algorithm);
    while let Some(piece) = pieces.try_next().await? {
        hasher.update(&piece);
    }
    Ok(hasher.finish())
}

/// The next bytes of a file, at most so many; none at its end.
pub(crate) async fn read_part(file: &mut tokio::fs::File, most: u64) -> Result<Bytes, Fault> {
    let mut part = Vec::with_capacity(usize::try_from(most).unwrap_or(PART));
    file.take(most).read_to_end(&mut part).await.map_err(Fault::Home)?;
    Ok(part.into())
}

/// The prefix of a replica in its store.
#[derive(Clone, Debug)]
pub(crate) struct Prefix(String);

impl Prefix {
    pub(crate) fn new(text: &str) -> Self {
        Prefix(text.trim_matches('/').to_owned())
    }

    pub(crate) fn as_str(&self) -> &str {
        &self.0
    }

    pub(crate) fn path(&self, name: &str) -> Path {
        if self.0.is_empty() { Path::from(name) } else { Path::from(format!("{}/{name}", self.0)) }
    }

    pub(crate) fn listed(&self, meta: ObjectMeta) -> Listed {
        let cut = if self.0.is_empty() { 0 } else { self.0.len() + 1 };
        let name = meta.location.as_ref().get(cut..).unwrap_or_default().to_owned();
        Listed { name, size: meta.size, changed_at: meta.last_modified }
    }
}

/// Something that a folder has in it.
enum Item {
    Object(ObjectMeta),
    Folder(Path),
}

impl Item {
    /// As a list of all objects is sorted: what is in a folder comes where the folder's name and a slash come.
    fn key(&self) -> String {
        match self {
            Item::Object(meta) => meta.location.to_string(),
            Item::Folder(path) => format!("{path}/"),
        }
    }
}

/// Lists folder by folder, for stores that list in an order of their own: one folder at a time is in memory, and sorted.
pub(crate) fn sorted_by_folders<S: ObjectStore + Clone>(
    store: S,
    folder: Path,
) -> BoxStream<'static, object_store::Result<ObjectMeta>> {
    let to_come = vec![Item::Folder(folder)];
    stream::try_unfold((store, to_come), |(store, mut to_come)| async move {
        while let Some(item) = to_come.pop() {
            match item {
                Item::Object(meta) => return Ok(Some((meta, (store, to_come)))),
                Item::Folder(path) => {
                    let found = match store.list_with_delimiter(Some(&path)).await {
                        // Nothing was ever written there; or it went meanwhile, as what was in it did.
                        Err(object_store::Error::NotFound { .. }) => continue,
                        other => other?,
                    };
                    let objects = found.objects.into_iter().map(Item::Object);
                    let mut items: Vec<Item> = objects.chain(found.common_prefixes.into_iter().map(Item::Folder)).collect();
                    // The first one is the last to be put on top.
                    items.sort_by_cached_key(|item| std::cmp::Reverse(item.key()));
                    to_come.extend(items);
                }
            }
        }
        Ok(None)
    })
    .into_stream()
    .boxed()
}

/// What the tests of all kinds speak to.
#[cfg(test)]
pub(crate) mod samples {
    pub(crate) fn client() -> crate::shape::Client {
        let _ = rustls::crypto::ring::default_provider().install_default();
        crate::shape::Shaped::new(std::sync::Arc::default()).client().unwrap()
    }

    pub(crate) fn at(endpoint: &str) -> ypogeion_core::kit::StoreAddress {
        let text = |t: &str| t.to_owned();
        ypogeion_core::kit::StoreAddress {
            name: text("North Quay"),
            endpoint: text(endpoint),
            region: String::new(),
            bucket: text("pictures"),
            prefix: String::new(),
            access_key: text("AK"),
            secret_key: text("SK"),
            sealed: true,
            certificate: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use object_store::{ObjectStoreExt, memory::InMemory};

    use super::*;

    #[tokio::test]
    async fn folders_are_listed_as_if_there_were_none() {
        let store = Arc::new(InMemory::new());
        let mut names = [
            "r/sealed/ab/1.age",
            "r/sealed/ab/2.age",
            "r/sealed/ab.age",
            "r/sealed/ab0.age",
            "r/sealed/a/deep/er/x",
            "r/sealed/b",
            "r/other/x",
        ];
        for name in names {
            store.put(&Path::from(name), "x".into()).await.unwrap();
        }
        let list = async |folder: &str| -> Vec<String> {
            let found: Vec<ObjectMeta> = sorted_by_folders(Arc::clone(&store), Path::from(folder)).try_collect().await.unwrap();
            found.into_iter().map(|m| m.location.to_string()).collect()
        };
        names.sort_unstable();
        assert_eq!(list("r").await, names);
        assert_eq!(list("r/sealed").await, names[1..]);
        assert!(list("r/nothing").await.is_empty());
        let (prefix, bare) = (Prefix::new("/r/"), Prefix::new(""));
        let meta = store.head(&Path::from("r/sealed/b")).await.unwrap();
        assert_eq!((prefix.listed(meta.clone()).name, bare.listed(meta).name), ("sealed/b".into(), "r/sealed/b".into()));
        assert_eq!((prefix.path("x").as_ref(), bare.path("x").as_ref()), ("r/x", "x"));
    }
}
