//! What a replica needs of a store, asked of every kind of store and of each quirk of the stand-ins: the same is done, the same is told when
//! it goes wrong, and nothing counts that was not looked at.

use std::{fs, path::PathBuf};

use bytes::Bytes;
use futures_util::TryStreamExt;
use rstest::rstest;
use tempfile::TempDir;
use uuid::Uuid;
use ypogeion_core::{
    Digest,
    checksum::{Checksum, HashAlgorithm},
    kit::StoreAddress,
    layers::Outcome,
    ledger::{LedgerKey, ObjectRecord, PersonRecord, Record},
};
use ypogeion_offsite::{
    Fault, Identity, Keys, Replica, Store,
    prove::{compare, prove},
    replicate::{SendError, send},
    store::{FORMAT_NAME, Refusal, Trouble},
    trial,
};
use ypogeion_standins::{
    faults::Faults,
    share::StandInShare,
    store::{Options, StandInStore},
};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Bucket,
    Share,
    Disk,
}

/// A store of one kind, with what stands behind it.
struct Stand {
    address: StoreAddress,
    /// Where its objects are as files.
    objects: PathBuf,
    bucket: Option<StandInStore>,
    share: Option<StandInShare>,
    home: TempDir,
}

async fn stand(kind: Kind) -> Stand {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let home = tempfile::tempdir().unwrap();
    let there = home.path().join("there");
    let text = |t: &str| t.to_owned();
    let mut stand = Stand {
        address: StoreAddress {
            name: text("North Quay"),
            endpoint: String::new(),
            region: String::new(),
            bucket: String::new(),
            prefix: text("mill"),
            access_key: text("AK"),
            secret_key: text("weir & co"),
            sealed: true,
            certificate: None,
        },
        objects: there.join("mill"),
        bucket: None,
        share: None,
        home,
    };
    match kind {
        Kind::Bucket => {
            let options = Options {
                folder: there.clone(),
                bucket: text("quay"),
                access_key: text("AK"),
                secret_key: text("weir & co"),
                port: 0,
                control_port: 0,
            };
            let store = StandInStore::start(options).await.unwrap();
            (stand.address.endpoint, stand.address.bucket) = (store.url(), text("quay"));
            (stand.bucket, stand.objects) = (Some(store), there.join("quay/mill"));
        }
        Kind::Share => {
            let share = StandInShare::start(there, "AK", "weir & co").await.unwrap();
            (stand.address.endpoint, stand.share) = (share.url(), Some(share));
        }
        Kind::Disk => {
            fs::create_dir_all(&there).unwrap();
            stand.address.endpoint = format!("file://{}", there.display());
        }
    }
    stand
}

impl Stand {
    fn set(&self, faults: Faults) {
        if let Some(bucket) = &self.bucket {
            bucket.set_faults(faults.clone());
        }
        if let Some(share) = &self.share {
            share.set_faults(faults);
        }
    }

    fn store(&self, verifies: Option<Checksum>) -> Store {
        Store::by(&self.address, std::sync::Arc::default(), verifies).unwrap()
    }

    /// A replica that was begun there.
    async fn replica(&self, verifies: Option<Checksum>) -> Replica {
        let keys = Keys::from(Identity::generate()).proving(Some(LedgerKey::new([7; 32])));
        Replica::open_or_begin(self.store(verifies), keys, Uuid::now_v7(), chrono::Utc::now()).await.unwrap()
    }

    async fn send(&self, replica: &Replica, name: &str, bytes: &[u8]) -> Result<ObjectRecord, SendError> {
        let file = self.home.path().join("original");
        fs::write(&file, bytes).unwrap();
        send(replica, fs::File::open(file).unwrap(), Digest::of(bytes), name, &self.home.path().join("spool")).await
    }

    /// Away: as where a disk is not mounted, an empty folder is left.
    fn take_away(&self) {
        let beside = self.home.path().join("not mounted");
        fs::rename(&self.objects, beside).unwrap();
    }
}

fn bytes(length: usize) -> Vec<u8> {
    (0..length).map(|n| (n % 251) as u8).collect()
}

/// What is asked of each: a kind, and for a bucket what is odd about it.
#[rstest]
#[case::bucket(Kind::Bucket, Faults::default(), Some(Checksum::Crc64Nvme))]
#[case::slow(Kind::Bucket, Faults { latency_ms: 3, ..Faults::default() }, Some(Checksum::Crc64Nvme))]
#[case::crc_refused(Kind::Bucket, Faults { refuses_crc: true, ..Faults::default() }, Some(Checksum::Sha256))]
#[case::crc_ignored(Kind::Bucket, Faults { ignores_crc: true, ..Faults::default() }, Some(Checksum::Sha256))]
#[case::no_checksums(Kind::Bucket, Faults { refuses_sums: true, ..Faults::default() }, None)]
#[case::looks_at_nothing(Kind::Bucket, Faults { swallows: true, ..Faults::default() }, None)]
#[case::overwrites(Kind::Bucket, Faults { ignores_conditions: true, ..Faults::default() }, Some(Checksum::Crc64Nvme))]
#[case::in_a_region(Kind::Bucket, Faults { region: "us-east-1".into(), ..Faults::default() }, Some(Checksum::Crc64Nvme))]
#[case::share(Kind::Share, Faults::default(), None)]
#[case::disk(Kind::Disk, Faults::default(), None)]
#[tokio::test(flavor = "multi_thread")]
async fn every_store_does_the_same(#[case] kind: Kind, #[case] faults: Faults, #[case] verifies: Option<Checksum>) {
    let stand = stand(kind).await;
    stand.set(faults);
    assert_eq!(trial::verified_checksum(&stand.address, 7).await, verifies, "what it verifies is found out");
    let tried = trial::try_out(&stand.address, 8, chrono::Utc::now()).await;
    assert!(trial::usable(&tried), "{tried:?}");
    assert_eq!(trial::verifies(&tried), verifies);

    let replica = stand.replica(verifies).await;
    let store = &replica.store;
    // Small objects, under names that mean nothing but themselves.
    let names = [
        "sealed/00/507 NoSuchBucket.age",
        "sealed/ab.age",
        "sealed/ab/1.age",
        "sealed/ab/QuotaExceeded-2.age",
        "sealed/ab0.age",
        "sealed/zz/a_b -c.age",
    ];
    for (n, name) in names.iter().enumerate() {
        let stored = store.put(name, Bytes::from(bytes(n * 1000))).await.unwrap();
        assert_eq!(store.verifies(stored), verifies.is_some(), "{name}");
        assert_eq!(store.get(name).await.unwrap(), bytes(n * 1000), "{name}");
        assert_eq!(store.size(name).await.unwrap(), n as u64 * 1000, "{name}");
    }
    let mut sorted = names.map(str::to_owned);
    sorted.sort_unstable();
    let listed: Vec<_> = store.list_objects("sealed").try_collect().await.unwrap();
    assert_eq!(listed.iter().map(|l| l.name.clone()).collect::<Vec<_>>(), sorted);
    assert_eq!(listed.iter().map(|l| l.size).sum::<u64>(), 15_000);
    assert_eq!(store.list("sealed").await.unwrap(), sorted);
    assert!(store.list("checkpoints").await.unwrap().is_empty(), "a folder that was never made has nothing in it");
    for missing in ["sealed/ab/3.age", "sealed/never/made.age"] {
        assert!(matches!(store.get(missing).await, Err(Fault::Missing(name)) if name == missing));
        assert!(matches!(store.size(missing).await, Err(Fault::Missing(_))));
        assert!(store.remove(missing).await.unwrap(), "what is not there is gone");
    }
    assert!(store.remove(names[2]).await.unwrap());
    assert!(matches!(store.get(names[2]).await, Err(Fault::Missing(_))));

    // Originals: one in one request, one in parts.
    for (name, length) in [("sealed/11/small.age", 70_000), ("sealed/22/large.age", 17 << 20)] {
        let (plain, digest) = (bytes(length), Digest::of(&bytes(length)));
        let object = stand.send(&replica, name, &plain).await.unwrap();
        assert_eq!(object.hash.algorithm(), HashAlgorithm::Blake3);
        let kept = fs::read(stand.objects.join(name)).unwrap();
        assert_eq!(
            (object.size, object.hash),
            (kept.len() as u64, ypogeion_core::checksum::ObjectHash::of(HashAlgorithm::Blake3, &kept))
        );
        assert_eq!(prove(&replica, name, digest).await.unwrap().0, Outcome::Right);
        assert_eq!(compare(&replica, name, object.hash).await.unwrap(), Outcome::Right);
        let mut bad = kept;
        let middle = bad.len() / 2;
        bad[middle] ^= 8;
        fs::write(stand.objects.join(name), bad).unwrap();
        assert_eq!(prove(&replica, name, digest).await.unwrap().0, Outcome::Wrong);
        assert_eq!(compare(&replica, name, object.hash).await.unwrap(), Outcome::Wrong);
        fs::remove_file(stand.objects.join(name)).unwrap();
        assert_eq!(prove(&replica, name, digest).await.unwrap().0, Outcome::Missing);
        assert_eq!(compare(&replica, name, object.hash).await.unwrap(), Outcome::Missing);
    }
}

/// What it does with everything that is asked of it.
async fn asked(store: &Store) -> [(&'static str, Option<Fault>); 5] {
    let name = "sealed/ab/1.age";
    [
        ("put", store.put("sealed/ab/2.age", Bytes::from_static(b"kite")).await.err()),
        ("size", store.size(name).await.err()),
        ("get", store.get(name).await.err()),
        ("list", store.list_objects("sealed").try_collect::<Vec<_>>().await.err()),
        ("remove", store.remove(name).await.err()),
    ]
}

type Is = fn(&Fault) -> bool;

const UNREACHABLE: Is = |f| matches!(f, Fault::Passing(Trouble::Unreachable(_) | Trouble::Cut(_)));
const NOT_NOW: Is = |f| matches!(f, Fault::Passing(Trouble::Busy(_) | Trouble::NotNow(_)));
const FULL: Is = |f| matches!(f, Fault::Refused(Refusal::Full));

#[rstest]
#[case::outage(Faults { outage: true, ..Faults::default() }, UNREACHABLE, true)]
#[case::cut(Faults { cut_percent: 100, ..Faults::default() }, UNREACHABLE, true)]
#[case::busy(Faults { error_percent: 100, ..Faults::default() }, NOT_NOW, true)]
#[case::full(Faults { full: true, ..Faults::default() }, FULL, false)]
#[tokio::test(flavor = "multi_thread")]
async fn what_goes_wrong_on_the_way_is_told_alike(
    #[values(Kind::Bucket, Kind::Share)] kind: Kind,
    #[case] faults: Faults,
    #[case] is: Is,
    #[case] everything: bool,
) {
    let stand = stand(kind).await;
    let replica = stand.replica(None).await;
    let _read_later = replica.store.put("sealed/ab/1.age", Bytes::from_static(b"kite")).await.unwrap();
    stand.set(faults);
    for (act, fault) in asked(&replica.store).await {
        match fault {
            Some(fault) => assert!((everything || act == "put") && is(&fault), "{act}: {fault}"),
            None => assert!(!everything && act != "put", "{act} was done"),
        }
    }
}

#[rstest]
#[case::keys(Faults::default(), |a: &mut StoreAddress| a.secret_key = "wrong".into(), |f: &Fault| matches!(f, Fault::Refused(Refusal::Keys)))]
#[case::no_such_key(Faults::default(), |a: &mut StoreAddress| a.access_key = "nobody".into(), |f: &Fault| matches!(f, Fault::Refused(Refusal::Keys | Refusal::NotAllowed(_))))]
#[case::bucket(Faults::default(), |a: &mut StoreAddress| a.bucket = "elsewhere".into(), |f: &Fault| matches!(f, Fault::Refused(Refusal::NoBucket)))]
#[case::clock(Faults { clock_seconds: 3600, ..Faults::default() }, |_: &mut StoreAddress| {}, |f: &Fault| matches!(f, Fault::Refused(Refusal::Clock)))]
#[case::region(Faults { region: "north".into(), ..Faults::default() }, |_: &mut StoreAddress| {}, |f: &Fault| matches!(f, Fault::Refused(Refusal::Region(said)) if said.contains("north")))]
#[tokio::test(flavor = "multi_thread")]
async fn what_a_bucket_refuses_is_told_by_its_code(
    #[case] faults: Faults,
    #[case] change: fn(&mut StoreAddress),
    #[case] is: Is,
) {
    let mut stand = stand(Kind::Bucket).await;
    stand.set(faults);
    change(&mut stand.address);
    let store = stand.store(Some(Checksum::Crc64Nvme));
    // A question for the head alone has no body that could say why.
    for (act, fault) in asked(&store).await.into_iter().filter(|(act, _)| matches!(*act, "put" | "get" | "list")) {
        let fault = fault.unwrap_or_else(|| panic!("{act} was done"));
        assert!(is(&fault), "{act}: {fault:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_share_lets_in_whom_it_knows() {
    let mut stand = stand(Kind::Share).await;
    stand.replica(None).await;
    stand.address.secret_key = "wrong".into();
    for (act, fault) in asked(&stand.store(None)).await {
        assert!(matches!(fault, Some(Fault::Refused(Refusal::NotLetIn(_)))), "{act}: {fault:?}");
    }
}

/// A box whose disk did not come up shares an empty folder: nothing in it is missing, nothing was removed, and nothing is written there.
#[rstest]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_away_is_not_missing(#[values(Kind::Share, Kind::Disk)] kind: Kind) {
    let stand = stand(kind).await;
    let replica = stand.replica(None).await;
    let object = stand.send(&replica, "sealed/ab/1.age", b"kite").await.unwrap();
    stand.take_away();
    for (act, fault) in asked(&replica.store).await {
        assert!(matches!(fault, Some(Fault::Away(_))), "{act}: {fault:?}");
    }
    assert!(matches!(compare(&replica, "sealed/ab/1.age", object.hash).await, Err(Fault::Away(_))));
    let sent = stand.send(&replica, "sealed/cd/2.age", &bytes(17 << 20)).await;
    assert!(matches!(sent, Err(SendError::Store(Fault::Away(_)))), "{sent:?}");
    assert!(!stand.objects.join("sealed").exists(), "nothing was written where the disk is not");
    // It comes back.
    let _ = fs::remove_dir_all(&stand.objects);
    fs::rename(stand.home.path().join("not mounted"), &stand.objects).unwrap();
    assert_eq!(compare(&replica, "sealed/ab/1.age", object.hash).await.unwrap(), Outcome::Right);
    assert!(stand.objects.join(FORMAT_NAME).exists());
}

/// A store that does not look spoils what it is sent: no such copy counts, whatever checksum it once verified.
#[rstest]
#[tokio::test(flavor = "multi_thread")]
async fn nothing_counts_that_was_not_looked_at(
    #[values(None, Some(Checksum::Sha256), Some(Checksum::Crc64Nvme))] begins: Option<Checksum>,
) {
    let stand = stand(Kind::Bucket).await;
    let replica = stand.replica(begins).await;
    // It has verified it until today; now it knows none any more, and spoils.
    stand.set(Faults { refuses_sums: true, swallows: true, spoil_percent: 100, ..Faults::default() });
    let sent = stand.send(&replica, "sealed/ab/1.age", &bytes(5000)).await;
    assert!(matches!(sent, Err(SendError::Store(Fault::Passing(_)))), "{sent:?}");
    stand.set(Faults { forget_percent: 100, ..Faults::default() });
    let sent = stand.send(&replica, "sealed/ab/2.age", &bytes(5000)).await;
    assert!(matches!(sent, Err(SendError::Store(Fault::Missing(_)))), "{sent:?}");
}

/// Forgotten half way, a large object is sent again; and what came of it before the connection went is not.
#[tokio::test(flavor = "multi_thread")]
async fn parts_that_were_sent_stay_sent_until_they_are_forgotten() {
    let stand = stand(Kind::Bucket).await;
    let replica = stand.replica(Some(Checksum::Crc64Nvme)).await;
    let store = stand.bucket.as_ref().unwrap();
    let plain = bytes(40 << 20);
    store.set_faults(Faults { cut_percent: 45, ..Faults::default() });
    let mut attempts = 0;
    let object = loop {
        attempts += 1;
        assert!(attempts < 40, "it never came through");
        match stand.send(&replica, "sealed/ab/1.age", &plain).await {
            Ok(object) => break object,
            Err(SendError::Store(Fault::Passing(_))) => {}
            Err(other) => panic!("{other}"),
        }
    };
    store.set_faults(Faults::default());
    assert_eq!(prove(&replica, "sealed/ab/1.age", Digest::of(&plain)).await.unwrap().0, Outcome::Right);
    assert_eq!(compare(&replica, "sealed/ab/1.age", object.hash).await.unwrap(), Outcome::Right);
    store.set_faults(Faults { full: true, ..Faults::default() });
    stand.send(&replica, "sealed/ab/2.age", &plain).await.unwrap_err();
    store.tear();
    store.set_faults(Faults::default());
    stand.send(&replica, "sealed/ab/2.age", &plain).await.unwrap();
}

/// A house that is killed while it writes a segment writes the next one with the same number. What was said last counts, whichever name comes
/// first.
#[tokio::test(flavor = "multi_thread")]
async fn of_two_segments_with_one_number_the_later_one_is_believed() {
    for (earlier, later) in [(1, u32::MAX), (u32::MAX, 1)] {
        let stand = stand(Kind::Disk).await;
        let replica = stand.replica(None).await;
        let at = |seconds: i64| chrono::DateTime::UNIX_EPOCH + chrono::TimeDelta::seconds(seconds);
        let said = |name: &str| {
            let folder = "juno".to_owned();
            let (id, role) = (ypogeion_core::PersonId(Uuid::from_u128(1)), "keeper".to_owned());
            [Record::Person(PersonRecord { id, name: name.to_owned(), role, folder, quota: None, soft_quota: None })]
        };
        let first = replica.write_segment((1, 7), None, &said("J."), at(0)).await.unwrap();
        replica.write_segment((2, earlier), Some(first.clone()), &said("Juno"), at(10)).await.unwrap();
        let last = replica.write_segment((2, later), Some(first), &said("Juno of the mill"), at(20)).await.unwrap();
        let read = replica.read_ledger(stand.home.path()).await.unwrap();
        assert!(read.bad.is_empty() && read.unproven.is_empty(), "{:?}", read.bad);
        let names: Vec<&str> = read.ledger.people.values().map(|p| p.name.as_str()).collect();
        assert_eq!(names, ["Juno of the mill"]);
        // It ends where the later one does, and goes on from there.
        assert_eq!(read.end().unwrap().segment, last);
    }
}
