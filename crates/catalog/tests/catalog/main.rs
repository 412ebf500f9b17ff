//! The catalogue on a real, throw-away PostgreSQL.

mod brought;
mod counts;
mod deletion;
mod earlier;
mod find;
mod given;
mod growth;
mod outbox;
mod places;
mod prepared;
mod said;
mod schema;
mod sql;
mod upgrade;
mod words;

use std::{fs::Permissions, os::unix::fs::PermissionsExt, path::Path};

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_catalog::{
    Catalog, CatalogError,
    audits::{Check, Found},
    clearances::Cleared,
    cluster::{self, Cluster, Durability},
    copied,
    devices::NewDevice,
    landing::Landing,
    people::{Household, Person},
    removal::ToRemove,
    runs::{Counts, Entry, RunEnd},
    sightings::Sighting,
    stores::StoreSettings,
    uploads::Upload,
    work::Kind,
};
use ypogeion_core::{
    DeviceId, Digest, OriginalId, PersonId, RunId, StoreId, UploadId,
    access::Role,
    capture::{CaptureRule, Captured, Facts, Told},
    checksum::Checksum,
    clearance::{Depth, Evidence},
    deletion::Stage,
    filing::FiledPath,
    find::days::Span,
    kind::MediaKind,
    kit::StoreAddress,
    layers::{Act, Observation, Outcome, Place},
    ledger::{LedgerKey, ObjectRecord},
    object::NameKey,
    offer::Known,
    retention::{Release, Retention},
    state::{RefilingState, RunState},
    window::{Pace, Week},
};

struct World {
    catalog: Catalog,
    cluster: Cluster,
    folder: tempfile::TempDir,
    now: DateTime<Utc>,
    person: PersonId,
    device: DeviceId,
}

impl Drop for World {
    fn drop(&mut self) {
        let _ = self.cluster.stop();
    }
}

async fn world() -> World {
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), Permissions::from_mode(0o755)).unwrap();
    let place = folder.path().join("cluster");
    copied::put(&Path::new(env!("CARGO_TARGET_TMPDIR")).join("catalog-database"), &place).await.unwrap();
    let cluster = Cluster::start(&place, Durability::ThrownAway).unwrap();
    let catalog = Catalog::open(&cluster.url()).await.unwrap();
    let now = DateTime::UNIX_EPOCH + TimeDelta::days(20_000);
    let household = Household {
        name: "Mill House".into(),
        replica: Uuid::from_u128(1),
        name_key: NameKey::new([7; 32]),
        ledger_key: Some(LedgerKey::new([8; 32])),
    };
    catalog.create_household(&household, now).await.unwrap();
    let person = add_person(&catalog, "Juno", now).await;
    let device = pair(&catalog, person, b"code", b"token", now).await;
    World { catalog, cluster, folder, now, person, device }
}

async fn add_person(catalog: &Catalog, name: &str, now: DateTime<Utc>) -> PersonId {
    let id = PersonId(Uuid::now_v7());
    let person = Person {
        id,
        name: name.into(),
        role: Role::Keeper,
        folder: name.to_lowercase(),
        password_hash: "x".into(),
        quota: Some(1000),
        soft_quota: None,
    };
    catalog.add_person(&person, now).await.unwrap();
    id
}

async fn pair(catalog: &Catalog, person: PersonId, code: &[u8], token: &[u8], now: DateTime<Utc>) -> DeviceId {
    catalog.create_pairing(Uuid::now_v7(), code, person, person, now, now + TimeDelta::minutes(10)).await.unwrap();
    let id = DeviceId(Uuid::now_v7());
    let device = NewDevice { id, name: "phone", kind: "phone", client: "test", token_hash: token };
    assert_eq!(catalog.claim_pairing(code, &device, now).await.unwrap(), person);
    id
}

impl World {
    async fn land(&self, bytes: &[u8], path: &str) -> Option<OriginalId> {
        self.land_as("a.jpg", &Facts::default(), bytes, path).await
    }

    async fn land_as(&self, name: &str, facts: &Facts, bytes: &[u8], path: &str) -> Option<OriginalId> {
        let upload = Upload {
            id: UploadId(Uuid::now_v7()),
            device: self.device,
            person: self.person,
            length: bytes.len() as u64,
            digest: None,
            name: name.into(),
            source: "Camera".into(),
            file_time: None,
            expires_at: self.now + TimeDelta::days(1),
            metadata: String::new(),
            concat: None,
            target: None,
            original: None,
            touched_at: self.now,
            brought: None,
        };
        self.catalog.create_upload(&upload, self.now).await.unwrap();
        let landing = Landing {
            upload: &upload,
            id: OriginalId(Uuid::now_v7()),
            digest: Digest::of(bytes),
            path: &FiledPath::parse(path).unwrap(),
            facts,
            captured: Captured { at: self.now, local: self.now.naive_utc(), rule: CaptureRule::Received },
            at: self.now,
        };
        let landed = self.catalog.land(&landing).await.unwrap();
        assert!(self.catalog.upload(upload.id, self.device).await.unwrap().original.is_some());
        landed
    }

    async fn write_segment(&self, store: StoreId, number: u64) {
        let rows = self.catalog.unlisted(store, 100).await.unwrap();
        self.catalog.segment_written(store, number, &rows, (None, None), 0).await.unwrap();
    }

    async fn add_store(&self) -> StoreId {
        self.add_store_in("b", "North Quay").await
    }

    async fn add_store_in(&self, bucket: &str, name: &str) -> StoreId {
        let id = StoreId(Uuid::now_v7());
        let address = StoreAddress {
            name: name.into(),
            endpoint: "http://127.0.0.1:1".into(),
            region: "r".into(),
            bucket: bucket.into(),
            prefix: String::new(),
            access_key: "a".into(),
            secret_key: "s".into(),
            sealed: true,
            certificate: None,
        };
        self.catalog.add_store(id, &address, (true, Some(Checksum::Sha256)), self.now).await.unwrap();
        id
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pairing_code_works_once_and_not_after_its_time() {
    let w = world().await;
    let device = |token: &'static [u8]| NewDevice {
        id: DeviceId(Uuid::now_v7()),
        name: "x",
        kind: "phone",
        client: "t",
        token_hash: token,
    };
    assert!(matches!(w.catalog.claim_pairing(b"code", &device(b"again"), w.now).await, Err(CatalogError::NotFound)));
    let id = Uuid::now_v7();
    w.catalog.create_pairing(id, b"late", w.person, w.person, w.now, w.now + TimeDelta::minutes(10)).await.unwrap();
    assert!(matches!(
        w.catalog.claim_pairing(b"late", &device(b"late"), w.now + TimeDelta::minutes(11)).await,
        Err(CatalogError::NotFound)
    ));
    w.catalog.withdraw_pairing(id, w.person, w.now).await.unwrap();
    w.catalog.withdraw_pairing(id, w.person, w.now).await.unwrap();
    assert!(matches!(w.catalog.claim_pairing(b"late", &device(b"gone"), w.now).await, Err(CatalogError::NotFound)));
    assert!(w.catalog.pairing(id, w.person).await.unwrap().withdrawn);
}

#[tokio::test(flavor = "multi_thread")]
async fn landing_makes_row_observation_standing_and_work_together() {
    let w = world().await;
    let store = w.add_store().await;
    let id = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    assert_eq!(w.catalog.observations(id).await.unwrap().len(), 1);
    let kinds: Vec<_> = w.catalog.work_numbers(w.now).await.unwrap().iter().map(|k| (k.kind, k.waiting)).collect();
    assert_eq!(kinds, [(Kind::Preview, 1), (Kind::Replicate, 1)]);
    assert_eq!(w.catalog.known(w.person, &[Digest::of(b"kite"), Digest::of(b"weir")]).await.unwrap(), [Known::Home, Known::New]);
    assert_eq!(w.catalog.store_numbers(store, w.now).await.unwrap().to_go.count, 1);
    assert_eq!(w.catalog.used(w.person).await.unwrap(), 4);
    assert_eq!(w.catalog.room(w.person, 1, 0, w.now).await.unwrap().promised, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_bytes_land_once_for_one_member() {
    let w = world().await;
    let first = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    assert_eq!(w.land(b"kite", "juno/2026/04/a (2).jpg").await, None);
    assert_eq!(w.catalog.original_of(w.person, Digest::of(b"kite")).await.unwrap().0, first);
    assert_eq!(w.catalog.observations(first).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_bytes_landing_at_once_are_one_original_to_all() {
    let w = std::sync::Arc::new(world().await);
    for round in 0..15 {
        let landings: Vec<_> = (0..6)
            .map(|n| {
                let w = std::sync::Arc::clone(&w);
                tokio::spawn(async move { w.land(format!("round {round}").as_bytes(), &format!("juno/{round}/{n}.jpg")).await })
            })
            .collect();
        let mut new = 0;
        for landing in landings {
            // Landing asserts that every upload was linked to an original.
            new += usize::from(landing.await.unwrap().is_some());
        }
        assert_eq!(new, 1, "round {round}");
    }
    assert_eq!(w.catalog.usage(w.person).await.unwrap().count, 15);
}

#[tokio::test(flavor = "multi_thread")]
async fn layers_follow_the_observations() {
    let w = world().await;
    let store = w.add_store().await;
    let (digest, id) = (Digest::of(b"kite"), w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap());
    let since = w.now - TimeDelta::days(90);
    let depths = w.catalog.depths(None, since).await.unwrap();
    assert_eq!((depths.home.count, depths.exposed.count, depths.exposed_since), (1, 1, Some(w.now)));

    let object = ObjectRecord { name: "sealed/00/x.age".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, digest, &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.catalog.confirm(store, digest, &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    let depths = w.catalog.depths(Some(w.person), since).await.unwrap();
    assert_eq!((depths.offsite.count, depths.exposed.count, depths.proven.count), (1, 0, 0));
    assert_eq!(w.catalog.unlisted(store, 10).await.unwrap().len(), 1);
    w.write_segment(store, 1).await;
    assert!(w.catalog.unlisted(store, 10).await.unwrap().is_empty());

    let opened =
        Observation { place: Place::Store(store), act: Act::Opened, at: w.now, digest: Some(digest), outcome: Outcome::Right };
    w.catalog.observe(id, digest, &opened).await.unwrap();
    assert_eq!(w.catalog.depths(None, since).await.unwrap().proven.count, 1);
    assert_eq!(w.catalog.depths(None, w.now + TimeDelta::seconds(1)).await.unwrap().proven.count, 0);

    let rotten =
        Observation { place: Place::Home, act: Act::Reread, outcome: Outcome::Wrong, digest: Some(Digest::of(b"x")), ..opened };
    w.catalog.observe(id, digest, &rotten).await.unwrap();
    let depths = w.catalog.depths(None, since).await.unwrap();
    assert_eq!((depths.damaged, depths.home.count, depths.offsite.count), (1, 0, 1));
    // What is damaged at home is wanted from a device again.
    assert_eq!(w.catalog.known(w.person, &[digest]).await.unwrap(), [Known::New]);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_only_ever_added_to_cannot_be_changed() {
    use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};

    let w = world().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    w.catalog.write_record(w.now, "Juno", "added a store").await.unwrap();

    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    for statement in
        ["UPDATE observation SET outcome = 'right'", "DELETE FROM observation", "DELETE FROM record", "TRUNCATE record"]
    {
        let error = diesel::sql_query(statement).execute(&mut c).await.unwrap_err();
        assert!(error.to_string().contains("only ever added to"), "{error}");
    }
    assert_eq!(w.catalog.read_record(10).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn work_is_done_once_and_comes_back_from_the_dead() {
    let w = world().await;
    for n in 0..20u8 {
        w.land(&[n], &format!("juno/2026/04/{n}.jpg")).await.unwrap();
    }
    let (me, other, lease) = (Uuid::now_v7(), Uuid::now_v7(), TimeDelta::minutes(1));
    let takers = (0..8).map(|_| {
        let (catalog, now) = (w.catalog.clone(), w.now);
        tokio::spawn(async move { catalog.take_work(Kind::Preview, me, (now, lease), 5, &[]).await.unwrap() })
    });
    let mut taken = Vec::new();
    for t in takers {
        taken.extend(t.await.unwrap().into_iter().map(|j| j.key));
    }
    taken.sort_unstable();
    taken.dedup();
    assert_eq!(taken.len(), 20);
    assert!(w.catalog.next_due(Kind::Preview, w.now, &[]).await.unwrap().is_none());
    // A lease that ran out, and a worker that came back.
    assert_eq!(w.catalog.take_work(Kind::Preview, other, (w.now + TimeDelta::minutes(2), lease), 1, &[]).await.unwrap().len(), 1);
    assert_eq!(w.catalog.free_leases(me, w.now).await.unwrap(), 19);
    let job = w.catalog.take_work(Kind::Preview, me, (w.now, lease), 1, &[]).await.unwrap().remove(0);
    w.catalog.give_up_work(&job, "no").await.unwrap();
    assert_eq!(w.catalog.depths(None, w.now).await.unwrap().failed_work, 1);
    let (faults, all) = w.catalog.work_faults(10).await.unwrap();
    assert_eq!((faults[0].error.as_str(), all), ("no", 1));
    assert_eq!(w.catalog.retry_work(w.now).await.unwrap(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_waits_holds_its_work_back() {
    let w = world().await;
    let store = w.add_store().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let (me, lease, later) = (Uuid::now_v7(), TimeDelta::minutes(1), w.now + TimeDelta::seconds(90));
    w.catalog.store_failing(store, "no answer", w.now, later).await.unwrap();
    assert!(w.catalog.take_work(Kind::Replicate, me, (w.now, lease), 1, &[]).await.unwrap().is_empty());
    assert_eq!(w.catalog.next_due(Kind::Replicate, w.now, &[]).await.unwrap(), Some(later));
    w.catalog.store_stopped(store, "wrong keys").await.unwrap();
    assert!(w.catalog.next_due(Kind::Replicate, later, &[]).await.unwrap().is_none());
    w.catalog.resume_store(store, Some("new"), None, None, w.now).await.unwrap();
    assert_eq!(w.catalog.store(store).await.unwrap().address.access_key, "new");
    // Its week, or the keeper, holds it back the same way.
    let read = w.catalog.store(store).await.unwrap();
    w.catalog.store_rests(&read, later).await.unwrap();
    assert!(w.catalog.take_work(Kind::Replicate, me, (w.now, lease), 1, &[]).await.unwrap().is_empty());
    assert_eq!(w.catalog.next_due(Kind::Replicate, w.now, &[]).await.unwrap(), Some(later));
    w.catalog.change_store(store, &StoreSettings { paused: Some(true), ..StoreSettings::default() }, w.now).await.unwrap();
    assert!(w.catalog.next_due(Kind::Replicate, later, &[]).await.unwrap().is_none());
    assert!(w.catalog.take_work(Kind::Replicate, me, (later, lease), 1, &[]).await.unwrap().is_empty());
    let hours = Week { windows: Vec::new(), otherwise: Pace::Limited { rate: 500_000 } };
    w.catalog
        .change_store(store, &StoreSettings { paused: Some(false), week: Some(hours.clone()), ..StoreSettings::default() }, w.now)
        .await
        .unwrap();
    // Somebody who read it before that comes too late.
    w.catalog.store_rests(&read, later).await.unwrap();
    assert_eq!(w.catalog.store(store).await.unwrap().week, hours);
    assert_eq!(w.catalog.take_work(Kind::Replicate, me, (w.now, lease), 1, &[]).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_are_counted_against_what_they_said() {
    let w = world().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let say = |name: &str, bytes: &[u8], refused: Option<&str>| Sighting {
        source: "Camera".into(),
        name: name.into(),
        digest: Digest::of(bytes),
        size: bytes.len() as u64,
        file_time: None,
        refused: refused.map(str::to_owned),
    };
    let sightings =
        [say("a", b"kite", None), say("b", b"weir", None), say("c", b"huge", Some("too large")), say("b", b"weir 2", None)];
    w.catalog.note_sightings(w.device, &sightings, w.now).await.unwrap();
    let view = w.catalog.devices(None, Some(w.device), w.now).await.unwrap().remove(0);
    assert_eq!((view.offered, view.home, view.waiting, view.waiting_bytes), (3, 1, 1, 6));
    let items = w.catalog.items(w.device, Some(("Camera", "a")), 10).await.unwrap();
    assert_eq!(items.iter().map(|i| i.name.as_str()).collect::<Vec<_>>(), ["b", "c"]);
    assert!(w.catalog.items(w.device, None, 1).await.unwrap()[0].home);

    w.catalog.revoke_device(w.device, Some(w.person), w.now).await.unwrap();
    assert!(w.catalog.device_by_token(b"token", w.now).await.unwrap().revoked);
    let stranger = add_person(&w.catalog, "Piet", w.now).await;
    assert!(matches!(w.catalog.rename_device(w.device, Some(stranger), "mine").await, Err(CatalogError::NotFound)));
}

#[tokio::test(flavor = "multi_thread")]
async fn runs_tell_how_they_ended() {
    let w = world().await;
    let run = RunId(Uuid::now_v7());
    w.catalog.begin_run(run, w.device, w.now).await.unwrap();
    let state = async |now| w.catalog.runs(None, None, None, 10, now).await.unwrap()[0].state;
    assert_eq!(state(w.now).await, RunState::Running);
    assert_eq!(state(w.now + TimeDelta::minutes(3)).await, RunState::BrokenOff);
    let entry =
        Entry { name: "a".into(), source: "Camera".into(), outcome: "failed".into(), reason: Some("why".into()), size: 1 };
    let counts = Counts { checked: 2, sent: 1, failed: 1, ..Counts::default() };
    w.catalog.report_run(run, w.device, counts, std::slice::from_ref(&entry), Some(RunEnd::Done), w.now).await.unwrap();
    w.catalog.report_run(run, w.device, Counts::default(), &[entry], Some(RunEnd::Done), w.now).await.unwrap();
    assert_eq!(state(w.now).await, RunState::Partly);
    assert_eq!(w.catalog.run_entries(run, None, None, Some("failed"), 0, 10).await.unwrap().1, 1);
    assert_eq!(w.catalog.run_entries(run, None, None, Some("sent"), 0, 10).await.unwrap().1, 0);
    assert!(matches!(
        w.catalog.report_run(run, DeviceId(Uuid::nil()), counts, &[], Some(RunEnd::Done), w.now).await,
        Err(CatalogError::NotFound)
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_cluster_left_running_is_used_again_and_kept_across_a_restart() {
    let w = world().await;
    let folder = w.folder.path().join("cluster");
    let again = Cluster::start(&folder, Durability::ThrownAway).unwrap();
    assert_eq!(again.url(), w.cluster.url());
    cluster::stop(&folder).unwrap();
    assert!(matches!(w.catalog.ping().await, Err(CatalogError::Away(_))), "{:?}", w.catalog.ping().await);
    let third = Cluster::start(&folder, Durability::ThrownAway).unwrap();
    let catalog = Catalog::open(&third.url()).await.unwrap();
    assert_eq!(catalog.household().await.unwrap().unwrap().name, "Mill House");
    assert!(matches!(
        catalog.create_household(&catalog.household().await.unwrap().unwrap(), w.now).await,
        Err(CatalogError::Taken)
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_most_urgent_work_is_taken_first_and_what_is_due_later_not_at_all() {
    let w = world().await;
    let store = w.add_store().await;
    let first = w.land(b"first", "juno/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "o".into(), size: 9, hash: Digest::of(b"sealed").into() };
    let next_month = w.now + TimeDelta::days(30);
    w.catalog.confirm(store, Digest::of(b"first"), &object, (w.now, 0), (next_month, next_month)).await.unwrap();
    w.land(b"second", "juno/b.jpg").await.unwrap();
    w.catalog.send_again(store, Digest::of(b"first"), w.now).await.unwrap();
    let take =
        async |kind, at| w.catalog.take_work(kind, Uuid::from_u128(1), (at, TimeDelta::minutes(1)), 10, &[]).await.unwrap();
    assert!(take(Kind::Prove, w.now).await.is_empty());
    assert_eq!(w.catalog.next_due(Kind::Prove, w.now, &[]).await.unwrap(), Some(next_month));
    assert_eq!(take(Kind::Prove, next_month).await.iter().map(|j| j.key).collect::<Vec<_>>(), [first.0]);
    assert_eq!(take(Kind::Replicate, w.now).await.len(), 2);
    assert_eq!(w.catalog.next_due(Kind::Replicate, w.now, &[]).await.unwrap(), None, "both are in somebody's hands");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_keeps_its_other_name_until_that_is_gone() {
    let w = world().await;
    let id = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let (old, new) = (FiledPath::parse("juno/2026/04/a.jpg").unwrap(), FiledPath::parse("juno/2026/a.jpg").unwrap());
    let between = async || {
        let all = w.catalog.interrupted_moves().await.unwrap();
        all.first().map(|b| (b.path.as_str().to_owned(), b.other.as_str().to_owned(), b.digest == Digest::of(b"kite")))
    };
    let refiling = Uuid::now_v7();
    w.catalog.begin_refiling(refiling, "%Y/{name}", None, "Juno", w.now).await.unwrap();
    let second = w.catalog.begin_refiling(Uuid::now_v7(), "{name}", None, "Juno", w.now).await;
    assert!(matches!(second, Err(CatalogError::Taken)), "one at a time");
    assert_eq!(w.catalog.next_moves(refiling, 10).await.unwrap().len(), 1);
    w.catalog.set_moving(id, &new).await.unwrap();
    assert_eq!(between().await, Some((old.as_str().into(), new.as_str().into(), true)), "the path counts until the move is said");
    w.catalog.moved(Some(refiling), id, &old, &new, w.now).await.unwrap();
    assert_eq!(between().await, Some((new.as_str().into(), old.as_str().into(), true)), "and then the old name is the other one");
    w.catalog.old_name_gone(id).await.unwrap();
    assert_eq!(between().await, None);
    assert!(w.catalog.next_moves(refiling, 10).await.unwrap().is_empty());
    let told = w.catalog.refilings(Some(refiling), 1).await.unwrap().pop().unwrap();
    assert_eq!((told.total, told.looked, told.moved, told.failed), (1, 1, 1, 0));
    assert!(w.catalog.set_refiling_state(refiling, &[RefilingState::Running], RefilingState::Done, w.now).await.unwrap());
    // Taking it back knows where it was.
    let back = Uuid::now_v7();
    w.catalog.begin_refiling(back, "%Y/%m/{name}", Some(refiling), "Juno", w.now).await.unwrap();
    assert_eq!(w.catalog.next_moves(back, 10).await.unwrap()[0].wanted.as_deref(), Some(old.as_str()));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sidecar_tells_the_time_and_the_file_is_to_follow() {
    let w = world().await;
    let told = Told { local: "1999-07-04T09:30:00".parse().unwrap(), offset_minutes: Some(120) };
    let words = Facts { kind: Some(MediaKind::Sidecar), told: Some(told), ..Facts::default() };
    w.land_as("R1.xmp", &words, b"words", "juno/R1.xmp").await.unwrap();
    let picture = w.land_as("R1.jpg", &Facts::default(), b"picture", "juno/R1.jpg").await.unwrap();
    let lonely = w.land_as("R2.jpg", &Facts::default(), b"lonely", "juno/R2.jpg").await.unwrap();
    let take = async |kind| w.catalog.take_work(kind, Uuid::from_u128(1), (w.now, TimeDelta::minutes(1)), 10, &[]).await.unwrap();
    let group: Vec<Uuid> = take(Kind::Group).await.iter().map(|j| j.key).collect();
    assert_eq!(group, [picture.0], "only what has company is looked at");
    for _ in 0..2 {
        w.catalog.regroup(picture, &Utc, w.now).await.unwrap();
    }
    let row = w.catalog.original(picture, None).await.unwrap();
    assert_eq!((row.taken_rule.as_str(), row.taken_at.to_rfc3339().as_str()), ("sidecar", "1999-07-04T07:30:00+00:00"));
    assert_eq!(take(Kind::Refile).await.iter().map(|j| j.key).collect::<Vec<_>>(), [picture.0]);
    let parts: Vec<String> = w.catalog.parts_of(picture).await.unwrap().into_iter().map(|p| p.part).collect();
    assert_eq!(parts, ["still", "sidecar"]);
    assert_eq!(w.catalog.parts_of(lonely).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clearance_is_used_once_and_only_for_what_it_names() {
    let w = world().await;
    let kite = w.land(b"kite", "juno/a.jpg").await.unwrap();
    let seen = |name: &str, bytes: &[u8]| Sighting {
        source: "Camera".into(),
        name: name.into(),
        digest: Digest::of(bytes),
        size: 4,
        file_time: None,
        refused: None,
    };
    w.catalog.note_sightings(w.device, &[seen("a.jpg", b"kite"), seen("b.jpg", b"kite")], w.now).await.unwrap();
    let evidence = Evidence { home_read_at: w.now, store: None, offsite_since: None, proven_at: None, demanded: Depth::Home };
    let cleared =
        Cleared { original: kite, digest: Digest::of(b"kite"), source: "Camera".into(), name: "a.jpg".into(), evidence };
    let (id, until) = (Uuid::now_v7(), w.now + TimeDelta::minutes(10));
    w.catalog.give_clearance(id, w.device, "nonce", (w.now, until), std::slice::from_ref(&cleared)).await.unwrap();
    let again = w.catalog.give_clearance(Uuid::now_v7(), w.device, "nonce", (w.now, until), &[cleared]).await;
    assert!(matches!(again, Err(CatalogError::Taken)), "a nonce is for one question");
    let both = [("Camera", "a.jpg", Digest::of(b"kite")), ("Camera", "b.jpg", Digest::of(b"kite"))];
    let other = pair(&w.catalog, w.person, b"second", b"second token", w.now).await;
    assert!(matches!(w.catalog.use_clearance(id, other, &both, w.now).await, Err(CatalogError::NotFound)));
    assert_eq!(w.catalog.use_clearance(id, w.device, &both, w.now).await.unwrap(), 1, "what it did not name is not noted");
    assert!(matches!(w.catalog.use_clearance(id, w.device, &both, w.now).await, Err(CatalogError::NotFound)));
    let items = w.catalog.items(w.device, None, 10).await.unwrap();
    assert_eq!(items.iter().map(|i| i.name.as_str()).collect::<Vec<_>>(), ["b.jpg"], "the other one is still on the device");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_nobody_has_looked_at_for_longest_has_its_turn_first() {
    let w = world().await;
    for n in 0..5 {
        w.land(format!("picture {n}").as_bytes(), &format!("juno/2026/04/{n}.jpg")).await.unwrap();
    }
    let begun = w.now + TimeDelta::days(1);
    let all = w.catalog.copies_to_read(Place::Home, begun, 10).await.unwrap();
    assert_eq!(all.len(), 5);
    // One is looked at: it has had its turn in this round, and is the last one in the next.
    let (first, path) = (all[0].id, all[0].path.clone());
    let seen =
        Observation { place: Place::Home, act: Act::Reread, at: begun, digest: Some(all[0].digest), outcome: Outcome::Right };
    w.catalog.observe(first, all[0].digest, &seen).await.unwrap();
    let left = w.catalog.copies_to_read(Place::Home, begun, 10).await.unwrap();
    assert_eq!(left.len(), 4);
    assert!(left.iter().all(|t| t.path != path));
    let next = w.catalog.copies_to_read(Place::Home, begun + TimeDelta::days(1), 10).await.unwrap();
    assert_eq!(next.last().map(|t| t.id), Some(first));
    // An open check is gone on with; one that the keeper wants in between comes at once.
    let one = w.catalog.begin_audit(Uuid::now_v7(), Place::Home, Check::Reading, 5, begun).await.unwrap();
    w.catalog.count_audit(one.id, Found { checked: 2, bytes: 20, ..Found::default() }).await.unwrap();
    let again = w.catalog.begin_audit(Uuid::now_v7(), Place::Home, Check::Reading, 5, begun + TimeDelta::hours(1)).await.unwrap();
    assert_eq!((again.id, again.began_at, again.found.checked), (one.id, Some(begun), 2));
    w.catalog.want_rounds(|_| begun).await.unwrap();
    let (me, lease) = (Uuid::now_v7(), TimeDelta::minutes(1));
    let job = w.catalog.take_work(Kind::Reading, me, (begun, lease), 9, &[]).await.unwrap().remove(0);
    w.catalog.end_audit(one.id, again.found, "well", false, begun).await.unwrap();
    w.catalog.want_check(Uuid::now_v7(), Place::Home, Check::Reading, begun).await.unwrap();
    w.catalog.next_round(job.id, Check::Reading, begun + TimeDelta::days(1), begun).await.unwrap();
    assert_eq!(w.catalog.take_work(Kind::Reading, me, (begun, lease), 9, &[]).await.unwrap().len(), 1, "not tomorrow");
    let whole = w.catalog.begin_audit(Uuid::now_v7(), Place::Home, Check::Reading, 5, begun).await.unwrap();
    assert!(whole.whole && whole.id != one.id);
}

/// A kite that was deleted and has left the home disk; the store has it still.
async fn in_the_store_alone(w: &World, store: StoreId) -> OriginalId {
    let kite = stored(w, store, b"kite", "juno/2026/04/a.jpg").await;
    w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now)).await.unwrap();
    w.catalog.remove_due(Release::All, w.now, w.now + TimeDelta::days(30), 9).await.unwrap();
    w.catalog.is_gone(kite).await.unwrap();
    kite
}

/// An original that a store has confirmed and its ledger names.
async fn stored(w: &World, store: StoreId, bytes: &[u8], path: &str) -> OriginalId {
    let id = w.land(bytes, path).await.unwrap();
    let object = ObjectRecord { name: format!("sealed/{}", Digest::of(bytes)), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, Digest::of(bytes), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.write_segment(store, 1).await;
    id
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_deleted_is_out_of_sight_and_comes_back_whole() {
    let w = world().await;
    let store = w.add_store().await;
    let (kite, weir) =
        (stored(&w, store, b"kite", "juno/2026/04/a.jpg").await, stored(&w, store, b"weir", "juno/2026/04/b.jpg").await);
    let held = w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now + TimeDelta::days(60))).await.unwrap();
    assert_eq!(held, [kite]);
    assert!(w.catalog.hold(w.person, &[kite], "Juno", w.now, None).await.unwrap().is_empty(), "twice is once");
    assert_eq!(
        w.catalog
            .originals(ypogeion_catalog::scope::Scope::own(w.person), Span::ALL, None, 9, None)
            .await
            .unwrap()
            .iter()
            .map(|c| c.id)
            .collect::<Vec<_>>(),
        [weir]
    );
    assert_eq!(w.catalog.depths(None, w.now).await.unwrap().home.count, 1);
    assert_eq!(w.catalog.used(w.person).await.unwrap(), 8, "it takes room until it has gone");
    assert_eq!(w.catalog.known(w.person, &[Digest::of(b"kite")]).await.unwrap(), [Known::Held]);
    assert!(w.catalog.originals_of(w.person, &[Digest::of(b"kite")]).await.unwrap()[0].held);
    // The ledger is to say so, and the file is to follow.
    assert_eq!(
        w.catalog.unlisted(store, 9).await.unwrap()[0].original.held.as_ref().unwrap().was_at.as_str(),
        "juno/2026/04/a.jpg"
    );
    assert_eq!(w.catalog.to_settle(kite).await.unwrap().unwrap().stage, Stage::Held);
    // Somebody else can neither see nor move it.
    let piet = add_person(&w.catalog, "Piet", w.now).await;
    assert!(w.catalog.take_back(piet, &[kite], w.now).await.unwrap().is_empty());
    assert!(w.catalog.hold(piet, &[weir], "Piet", w.now, None).await.unwrap().is_empty());
    assert_eq!(w.catalog.end_holding(piet, &[kite], w.now).await.unwrap(), 0);
    assert!(w.catalog.holding(piet, None, 9).await.unwrap().is_empty());

    assert_eq!(w.catalog.take_back(w.person, &[kite, weir], w.now).await.unwrap(), [kite]);
    assert_eq!(w.catalog.to_settle(kite).await.unwrap().unwrap().stage, Stage::Living);
    assert_eq!(
        w.catalog.originals(ypogeion_catalog::scope::Scope::own(w.person), Span::ALL, None, 9, None).await.unwrap().len(),
        2
    );
    // Deleted again before its file was moved: it is still where it was deleted from first.
    w.catalog.hold(w.person, &[kite], "Juno", w.now, None).await.unwrap();
    w.catalog.is_back(kite).await.unwrap();
    let settle = w.catalog.to_settle(kite).await.unwrap().unwrap();
    assert_eq!((settle.stage, settle.was_at.as_str()), (Stage::Held, "juno/2026/04/a.jpg"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_gone_leaves_its_row_and_may_come_again() {
    let w = world().await;
    let store = w.add_store().await;
    let digest = Digest::of(b"kite");
    let kite = stored(&w, store, b"kite", "juno/2026/04/a.jpg").await;
    w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now + TimeDelta::days(60))).await.unwrap();
    let late = w.now + TimeDelta::days(90);
    assert_eq!(w.catalog.remove_due(Release::All, w.now, late, 9).await.unwrap(), 0, "its time has not come");
    assert_eq!(w.catalog.next_leaving().await.unwrap(), Some(w.now + TimeDelta::days(60)));
    let then = w.now + TimeDelta::days(60);
    assert_eq!(w.catalog.leaving(then).await.unwrap().due.count, 1);
    assert_eq!(w.catalog.remove_due(Release::LookedAt, then, late, 9).await.unwrap(), 0, "nobody has looked");
    assert_eq!(w.catalog.remove_due(Release::All, then, late, 9).await.unwrap(), 1);
    let leaving = w.catalog.leaving(then).await.unwrap();
    assert_eq!((leaving.library.count, leaving.gone_today.count, leaving.due.count), (0, 1, 0));
    assert!(matches!(w.catalog.original(kite, None).await, Err(CatalogError::NotFound)));
    assert_eq!(w.catalog.to_settle(kite).await.unwrap().unwrap().stage, Stage::LeavingHome);
    assert_eq!(w.catalog.known(w.person, &[digest]).await.unwrap(), [Known::Gone]);
    assert_eq!(w.catalog.used(w.person).await.unwrap(), 0);
    w.catalog.is_gone(kite).await.unwrap();
    assert_eq!(w.catalog.to_settle(kite).await.unwrap().unwrap().stage, Stage::InStores);

    // By hand it may come again, under the name that is free now, and counts as what is here.
    let again = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    assert_ne!(again, kite);
    assert_eq!(w.catalog.known(w.person, &[digest]).await.unwrap(), [Known::Home]);
    // Its copy in the store serves it, and so stays.
    w.write_segment(store, 2).await;
    assert_eq!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::Nothing);
    assert!(w.catalog.object(store, digest).await.unwrap().is_some());
    assert!(!w.catalog.take_back_gone(kite, &FiledPath::parse("juno/x.jpg").unwrap(), then).await.unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_leaves_its_store_after_the_ledger_and_nobody_counts_on_it_meanwhile() {
    let w = world().await;
    let store = w.add_store().await;
    let digest = Digest::of(b"kite");
    let kite = stored(&w, store, b"kite", "juno/2026/04/a.jpg").await;
    w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now)).await.unwrap();
    assert_eq!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::Nothing, "it has not gone");
    w.catalog.remove_due(Release::All, w.now, w.now, 9).await.unwrap();
    assert_eq!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::AfterLedger);
    assert!(w.catalog.unlisted(store, 9).await.unwrap()[0].original.gone_at.is_some());
    w.write_segment(store, 2).await;
    let (removing, lease) = (Uuid::from_u128(7), TimeDelta::minutes(1));
    assert_eq!(w.catalog.take_work(Kind::Remove, removing, (w.now, lease), 1, &[]).await.unwrap().len(), 1);
    let ToRemove::Object { name, .. } = w.catalog.begin_removal(kite, store).await.unwrap() else { panic!("nobody needs it") };
    assert_eq!(name, format!("sealed/{digest}"));
    // The same bytes arrive while the store is removing them: they wait, and are sent after that.
    let again = w.land(b"kite", "juno/2026/04/again.jpg").await.unwrap();
    assert!(w.catalog.is_leaving(store, digest).await.unwrap());
    assert_eq!(w.catalog.object(store, digest).await.unwrap(), None);
    assert!(w.catalog.expected_objects(store, "", w.now + TimeDelta::days(1), 9).await.unwrap().is_empty());
    w.catalog.removed(store, digest, w.now).await.unwrap();
    w.catalog.removed(store, digest, w.now).await.unwrap();
    assert!(!w.catalog.is_leaving(store, digest).await.unwrap());
    assert_eq!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::Nothing);
    assert!(w.catalog.standings(kite).await.unwrap().is_empty());
    assert_eq!(w.catalog.standings(again).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_home_has_let_go_of_comes_back_from_a_store_while_that_has_it() {
    let w = world().await;
    let store = w.add_store().await;
    let kite = in_the_store_alone(&w, store).await;
    assert_eq!(w.catalog.gone_from(w.person, kite).await.unwrap().as_deref(), Some("juno/2026/04/a.jpg"));
    assert!(w.catalog.holding(w.person, None, 9).await.unwrap()[0].stage != Stage::Held);
    let place = FiledPath::parse("juno/2026/04/a.jpg").unwrap();
    assert!(w.catalog.take_back_gone(kite, &place, w.now).await.unwrap());
    assert!(!w.catalog.take_back_gone(kite, &place, w.now).await.unwrap());
    assert_eq!(w.catalog.original(kite, Some(w.person)).await.unwrap().path, place);
    let kinds: Vec<Kind> = w.catalog.work_numbers(w.now).await.unwrap().iter().map(|k| k.kind).collect();
    assert!(kinds.contains(&Kind::Heal), "{kinds:?}");
    let me = Uuid::now_v7();
    let much_later = w.now + TimeDelta::days(99);
    assert!(w.catalog.take_work(Kind::Remove, me, (much_later, TimeDelta::minutes(1)), 9, &[]).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn work_that_is_wanted_again_while_it_is_done_is_done_again() {
    let w = world().await;
    let kite = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    w.catalog.hold(w.person, &[kite], "Juno", w.now, None).await.unwrap();
    let (me, lease) = (Uuid::now_v7(), TimeDelta::minutes(1));
    let job = w.catalog.take_work(Kind::Hold, me, (w.now, lease), 1, &[]).await.unwrap().remove(0);
    // It has looked where the original should be; and now that changes.
    let later = w.now + TimeDelta::seconds(1);
    w.catalog.take_back(w.person, &[kite], later).await.unwrap();
    assert!(w.catalog.take_work(Kind::Hold, me, (later, lease), 1, &[]).await.unwrap().is_empty(), "not by two at once");
    w.catalog.finish_work(&job).await.unwrap();
    let again = w.catalog.take_work(Kind::Hold, me, (later, lease), 1, &[]).await.unwrap().remove(0);
    w.catalog.put_back_work(&again, None, later + TimeDelta::days(1)).await.unwrap();
    assert_eq!(w.catalog.next_due(Kind::Hold, later, &[]).await.unwrap(), Some(later + TimeDelta::days(1)));
    let again = w.catalog.take_work(Kind::Hold, me, (later + TimeDelta::days(1), lease), 1, &[]).await.unwrap().remove(0);
    w.catalog.finish_work(&again).await.unwrap();
    assert_eq!(w.catalog.next_due(Kind::Hold, later, &[]).await.unwrap(), None);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_moves_while_a_segment_is_written_is_written_again() {
    let w = world().await;
    let store = w.add_store().await;
    let kite = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "sealed/a".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, Digest::of(b"kite"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    let rows = w.catalog.unlisted(store, 9).await.unwrap();
    let (from, to) = (FiledPath::parse("juno/2026/04/a.jpg").unwrap(), FiledPath::parse("juno/2026/a.jpg").unwrap());
    w.catalog.moved(None, kite, &from, &to, w.now).await.unwrap();
    w.catalog.segment_written(store, 1, &rows, (None, None), 0).await.unwrap();
    assert_eq!(w.catalog.unlisted(store, 9).await.unwrap()[0].original.path, to);
    w.write_segment(store, 2).await;
    assert!(w.catalog.unlisted(store, 9).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_for_what_was_deleted_are_kept() {
    let w = world().await;
    assert_eq!(w.catalog.retention().await.unwrap(), Retention::default());
    let rule = Retention { home_days: None, offsite_days: 0, safety_stop_percent: 100 };
    w.catalog.change_retention(rule).await.unwrap();
    assert_eq!(w.catalog.retention().await.unwrap(), rule);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_has_no_copy_away_from_home_goes_first_and_a_full_store_is_passed_over() {
    let w = world().await;
    let one = w.land(b"one", "juno/a.jpg").await.unwrap();
    let other = w.land(b"other", "juno/b.jpg").await.unwrap();
    let quay = w.add_store().await;
    let take = async |full: &[StoreId]| {
        let me = Uuid::from_u128(7);
        w.catalog.take_work(Kind::Replicate, me, (w.now, TimeDelta::minutes(1)), 1, full).await.unwrap()
    };
    assert!(take(&[quay]).await.is_empty());
    assert_eq!(w.catalog.next_due(Kind::Replicate, w.now, &[quay]).await.unwrap(), None);
    let first = take(&[]).await.remove(0);
    assert_eq!(first.key, one.0, "the oldest one first");
    let object = ObjectRecord { name: "sealed/aa".into(), size: 9, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(quay, Digest::of(b"one"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.catalog.finish_work(&first).await.unwrap();
    // Another store: what has a copy by now waits for what has none, though it is older.
    let address =
        StoreAddress { name: "Aunt’s box".into(), bucket: "box".into(), ..w.catalog.store(quay).await.unwrap().address };
    let aunt = StoreId(Uuid::from_u128(88));
    w.catalog.add_store(aunt, &address, (true, Some(Checksum::Sha256)), w.now).await.unwrap();
    assert_eq!(take(&[quay]).await.remove(0).key, other.0);
    assert_eq!(take(&[quay]).await.remove(0).key, one.0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_store_that_turns_out_to_be_in_the_house_leaves_its_pictures_exposed() {
    let w = world().await;
    let one = w.land(b"one", "juno/a.jpg").await.unwrap();
    let other = w.land(b"other", "juno/b.jpg").await.unwrap();
    let drawer = w.add_store().await;
    let object = ObjectRecord { name: "sealed/aa".into(), size: 9, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(drawer, Digest::of(b"one"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    let address =
        StoreAddress { name: "Aunt’s box".into(), bucket: "box".into(), ..w.catalog.store(drawer).await.unwrap().address };
    w.catalog.add_store(StoreId(Uuid::from_u128(88)), &address, (true, Some(Checksum::Sha256)), w.now).await.unwrap();
    // Each look takes the work for a minute; the next comes when that is over.
    let first = async |minute: i64| {
        let now = w.now + TimeDelta::minutes(minute);
        let taken = w.catalog.take_work(Kind::Replicate, Uuid::from_u128(7), (now, TimeDelta::seconds(30)), 1, &[drawer]).await;
        taken.unwrap().remove(0).key
    };
    let away = async |away: bool| {
        let change = StoreSettings { away: Some(away), ..StoreSettings::default() };
        w.catalog.change_store(drawer, &change, w.now).await.unwrap();
    };
    assert_eq!(first(1).await, other.0, "the other one has no copy at all");
    away(false).await;
    assert_eq!(first(2).await, one.0, "its copy is in the house, and it is the older one");
    away(true).await;
    assert_eq!(first(3).await, other.0);
}

/// After a rebuilding an object may be sealed anew under the name that it has: then nothing of it is one too many.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_sealed_anew_under_its_own_name_leaves_nothing_behind() {
    let w = world().await;
    let store = w.add_store().await;
    let object = |name: &str| ObjectRecord { name: name.into(), size: 9, hash: Digest::of(b"sealed").into() };
    let digest = Digest::of(b"kite");
    w.land(b"kite", "juno/kite.jpg").await.unwrap();
    w.catalog.confirm(store, digest, &object("sealed/ab/one.age"), (w.now, 0), (w.now, w.now)).await.unwrap();
    w.catalog.resealed(store, (digest, "sealed/ab/one.age"), &object("sealed/ab/one.age"), 1, w.now).await.unwrap();
    assert_eq!(w.catalog.superseded_left(store).await.unwrap(), 0);
    w.catalog.resealed(store, (digest, "sealed/ab/one.age"), &object("sealed/ab/two.age"), 2, w.now).await.unwrap();
    assert_eq!(w.catalog.superseded_left(store).await.unwrap(), 1);
    // The one in use was changed meanwhile: then the new one is too many.
    w.catalog.resealed(store, (digest, "sealed/ab/one.age"), &object("sealed/ab/three.age"), 3, w.now).await.unwrap();
    assert_eq!(w.catalog.superseded_left(store).await.unwrap(), 2);
}
