//! What an earlier version has written down is opened by this one, without loss.

use std::{fs, path::PathBuf};

use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};

use ypogeion_catalog::{upgrade, work::KindNumbers};

use super::*;

/// The schema of the version whose last migration had this number, as it stood then.
pub async fn schema_until(last: u32, c: &mut AsyncPgConnection) {
    let table = "CREATE TABLE __diesel_schema_migrations (version varchar(50) PRIMARY KEY, run_on timestamp NOT NULL DEFAULT CURRENT_TIMESTAMP)";
    c.batch_execute(table).await.unwrap();
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations");
    let mut all: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|e| e.unwrap().path()).collect();
    all.sort();
    for migration in all {
        let version = migration.file_name().unwrap().to_str().unwrap().split('_').next().unwrap().to_owned();
        if version.parse::<u32>().unwrap() <= last {
            c.batch_execute(&fs::read_to_string(migration.join("up.sql")).unwrap()).await.unwrap();
            c.batch_execute(&format!("INSERT INTO __diesel_schema_migrations (version) VALUES ('{version}')")).await.unwrap();
        }
    }
}

/// Juno's phone has: a kite (at home, in a store, proven), a weir (at home alone, a HEIC with its JPEG), a mill (deleted, kept), a harbour (gone for
/// good), a bridge (being fetched), a lamp (damaged); and named what never came, was refused, or is not on it any more.
pub const HOUSE: &str = "
    INSERT INTO household (name, replica, name_key, created_at, ledger_key) VALUES ('Mill House', gen_random_uuid(), repeat('07', 32), now(), repeat('08', 32));
    INSERT INTO person (id, name, login, role, folder, password_hash, created_at) VALUES ('00000000-0000-7000-8000-000000000001', 'Juno', 'juno', 'keeper', 'juno', 'x', now());
    INSERT INTO device (id, person, name, kind, token_hash, paired_at) VALUES ('00000000-0000-7000-8000-000000000002', '00000000-0000-7000-8000-000000000001', 'phone', 'phone', 't', now());
    INSERT INTO store (id, name, endpoint, region, bucket, prefix, access_key, secret_key, created_at, ledger_segment)
        VALUES ('00000000-0000-7000-8000-000000000003', 'North Quay', 'http://127.0.0.1:1', 'r', 'b', '', 'a', 's', now(), 4);
    CREATE TEMPORARY TABLE was AS SELECT ('00000000-0000-7000-8000-00000000001' || n)::uuid AS id, name, sha256(name::bytea) AS digest, n
        FROM (VALUES (0, 'kite'), (1, 'weir'), (2, 'weir-jpg'), (3, 'mill'), (4, 'harbour'), (5, 'bridge'), (6, 'lamp')) v (n, name);
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, held_at, gone_at, part)
        SELECT id, '00000000-0000-7000-8000-000000000001', '00000000-0000-7000-8000-000000000002', digest, 100, name, 'juno/' || name, 'juno/' || name, 'photo',
               '2026-04-12', '2026-04-12', 'exif', '{}', now() - interval '9 days', CASE WHEN name = 'weir-jpg' THEN '00000000-0000-7000-8000-000000000011' ELSE id END,
               CASE WHEN name IN ('mill', 'harbour') THEN now() END, CASE WHEN name = 'harbour' THEN now() END,
               CASE WHEN name = 'weir-jpg' THEN 'compatible' ELSE 'still' END FROM was;
    INSERT INTO standing (original, place, good, since, listed) SELECT id, '00000000-0000-0000-0000-000000000000', name <> 'lamp', now(), false FROM was
        WHERE name NOT IN ('harbour', 'bridge');
    INSERT INTO standing (original, place, good, since, proven_at, listed) SELECT id, '00000000-0000-7000-8000-000000000003', true, now(), now(), true FROM was
        WHERE name IN ('kite', 'bridge');
    INSERT INTO object (store, digest, name, size, sealed_digest, confirmed_at) SELECT '00000000-0000-7000-8000-000000000003', digest, 'objects/' || name, 300, digest, now() FROM was
        WHERE name IN ('kite', 'bridge');
    INSERT INTO job (kind, key, priority, due) SELECT 'fetch', id, 1, now() FROM was WHERE name = 'bridge';
    INSERT INTO run (id, device, began_at, reported_at, ended_at) VALUES (gen_random_uuid(), '00000000-0000-7000-8000-000000000002', now() - interval '1 hour', now(), now());
    INSERT INTO device_source (device, name, files, bytes, left_out, rule, selection_only, told_at, fresh)
        VALUES ('00000000-0000-7000-8000-000000000002', 'Camera', 9, 900, 0, 'everything', false, now() - interval '1 hour', 1);
    INSERT INTO sighting (device, source, name, digest, size, refused, seen_at)
        SELECT '00000000-0000-7000-8000-000000000002', 'Camera', name, digest, 100,
               CASE name WHEN 'mill' THEN 'deleted at home; it can be brought back under Restore' WHEN 'harbour' THEN 'deleted at home for good; to add it again, choose it by hand on the night page' END,
               now() - interval '1 day' FROM was WHERE name <> 'weir-jpg';
    INSERT INTO sighting (device, source, name, digest, size, refused, seen_at) VALUES
        ('00000000-0000-7000-8000-000000000002', 'Camera', 'waits', sha256('waits'), 7, NULL, now()),
        ('00000000-0000-7000-8000-000000000002', 'Camera', 'film', sha256('film'), 9, 'too large', now()),
        ('00000000-0000-7000-8000-000000000002', 'Camera', 'not there any more', sha256('old'), 9, NULL, now() - interval '1 day');";

async fn upgraded(cluster: &Cluster, folder: &Path) -> Catalog {
    let done = upgrade::upgrade(&cluster.url(), Some(cluster), &folder.join("upgrades"), Utc::now()).await.unwrap();
    assert!(done.is_some_and(|u| u.copy.is_file()));
    Catalog::open(&cluster.url()).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_house_of_an_earlier_version_is_counted_when_it_is_opened() {
    #[derive(QueryableByName)]
    struct Part {
        #[diesel(sql_type = Text)]
        part: String,
    }
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), Permissions::from_mode(0o755)).unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Durability::ThrownAway).unwrap();
    let mut c = AsyncPgConnection::establish(&cluster.url()).await.unwrap();
    schema_until(29, &mut c).await;
    c.batch_execute(HOUSE).await.unwrap();

    let catalog = upgraded(&cluster, folder.path()).await;
    let now = Utc::now();
    assert_eq!(catalog.miscounts().await.unwrap(), Vec::<String>::new());
    let d = catalog.depths(None, now - TimeDelta::days(90)).await.unwrap();
    assert_eq!((d.home.count, d.home.bytes, d.offsite.count, d.proven.count), (3, 300, 2, 2));
    assert_eq!((d.exposed.count, d.coming.count, d.damaged), (2, 1, 1));
    let person = PersonId(Uuid::from_u128(0x0000_0000_0000_7000_8000_0000_0000_0001));
    assert_eq!(
        (catalog.usage(person).await.unwrap().count, catalog.months(person).await.unwrap()),
        (6, vec![("2026-04".to_owned(), 4)])
    );
    let device = catalog.devices(None, None, now).await.unwrap().remove(0);
    // Of nine names two are here; the bridge and the lamp came once and are wanted, and so is what waits.
    assert_eq!((device.offered, device.home, device.waiting, device.refused), (9, 2, 3, 1));
    assert_eq!((device.named_since, device.refused_why.as_deref()), (2, Some("too large")));
    let store = catalog.stores().await.unwrap().remove(0);
    let numbers = catalog.store_numbers(store.id, now - TimeDelta::days(90)).await.unwrap();
    assert_eq!((numbers.held.count, numbers.proven.count, numbers.to_go.count), (2, 2, 2));
    let part: Part = sql_query("SELECT part FROM original WHERE name = 'weir-jpg'").get_result(&mut c).await.unwrap();
    assert_eq!(part.part, "twin");
    // Nobody had said what these belong to: nothing, each by itself.
    let alone: Part = sql_query("SELECT coalesce(string_agg(name, ' '), '') AS part FROM original WHERE shot_key <> id::text")
        .get_result(&mut c)
        .await
        .unwrap();
    assert_eq!(alone.part, "");
    // Opened once more, nothing is counted twice.
    drop(catalog);
    assert_eq!(Catalog::open(&cluster.url()).await.unwrap().miscounts().await.unwrap(), Vec::<String>::new());
    cluster.stop().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn work_of_an_earlier_version_keeps_its_turn_under_its_new_name() {
    let folder = tempfile::tempdir().unwrap();
    fs::set_permissions(folder.path(), Permissions::from_mode(0o755)).unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Durability::ThrownAway).unwrap();
    let mut c = AsyncPgConnection::establish(&cluster.url()).await.unwrap();
    schema_until(32, &mut c).await;
    c.batch_execute(
        "INSERT INTO job (kind, key, priority, due) VALUES ('audit', gen_random_uuid(), 1, now());
         DO $$ BEGIN PERFORM fold_tally(1000); END $$;
         INSERT INTO job (kind, key, priority, due) VALUES ('survey', gen_random_uuid(), 1, now()), ('drill', gen_random_uuid(), 1, now());
         INSERT INTO job (kind, key, priority, due, error, gave_up) VALUES ('survey', gen_random_uuid(), 1, now(), 'the store did not answer', true);",
    )
    .await
    .unwrap();
    let catalog = upgraded(&cluster, folder.path()).await;
    assert_eq!(catalog.miscounts().await.unwrap(), Vec::<String>::new());
    let now = Utc::now();
    let of = |numbers: &[KindNumbers], kind| numbers.iter().find(|n| n.kind == kind).map(|n| (n.waiting, n.failed));
    let numbers = catalog.work_numbers(now + TimeDelta::days(1)).await.unwrap();
    assert_eq!(of(&numbers, Kind::Reading), Some((1, 0)), "{numbers:?}");
    assert_eq!(of(&numbers, Kind::Listing), Some((1, 1)), "{numbers:?}");
    assert_eq!(of(&numbers, Kind::Drill), Some((1, 0)), "{numbers:?}");
    let taken = catalog
        .take_work(Kind::Reading, Uuid::now_v7(), (now + TimeDelta::days(1), TimeDelta::minutes(1)), 9, &[])
        .await
        .unwrap();
    assert_eq!(taken.len(), 1);
    drop(catalog);
    cluster.stop().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_type_cannot_hold_is_an_error_and_no_other_value() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let id = w.land(b"kite", "juno/kite.jpg").await.unwrap();
    // Where a table can refuse it, it is never there.
    for refused in [
        "UPDATE original SET digest = 'short'",
        "UPDATE original SET size = -1",
        "UPDATE observation SET digest = 'short'",
        "INSERT INTO sighting (device, source, name, digest, size, seen_at) SELECT device, '', 'kite.jpg', 'short', 4, now() FROM original",
        "INSERT INTO sighting (device, source, name, digest, size, seen_at) SELECT device, '', 'kite.jpg', digest, -4, now() FROM original",
        "UPDATE person SET role = 'emperor'",
    ] {
        assert!(c.batch_execute(refused).await.is_err(), "{refused}");
    }
    for (spoil, mend) in [
        ("UPDATE original SET path = '../elsewhere'", "UPDATE original SET path = 'juno/kite.jpg'"),
        (
            "ALTER TABLE person DROP CONSTRAINT IF EXISTS person_role_check; UPDATE person SET role = 'emperor'",
            "UPDATE person SET role = 'keeper'",
        ),
    ] {
        c.batch_execute(spoil).await.unwrap();
        let said = match spoil.contains("role") {
            true => w.catalog.people().await.map(|_| ()),
            false => w.catalog.original(id, None).await.map(|_| ()),
        };
        assert!(matches!(said, Err(CatalogError::Refused(_))), "{spoil}: {said:?}");
        c.batch_execute(mend).await.unwrap();
    }
    assert!(w.catalog.people().await.is_ok());
    // But a store whose hours cannot be read keeps no house from opening: nothing is sent there, and it says why.
    let store = w.add_store().await;
    c.batch_execute("UPDATE store SET week = '\"whenever\"'").await.unwrap();
    let row = w.catalog.store(store).await.unwrap();
    assert!(row.stopped.as_deref().is_some_and(|why| why.contains("choose them anew")), "{:?}", row.stopped);
    assert_eq!(row.week.at(w.now.naive_utc()), Pace::Rest);
    let change = StoreSettings { week: Some(Week::default()), ..StoreSettings::default() };
    w.catalog.change_store(store, &change, w.now).await.unwrap();
    let row = w.catalog.store(store).await.unwrap();
    assert_eq!((row.stopped, row.week.at(w.now.naive_utc())), (None, Pace::Full));
}
