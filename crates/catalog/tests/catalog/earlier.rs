//! What an earlier version has written down is opened by this one, without loss.

use std::{fs, path::PathBuf};

use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};

use super::*;

/// The schema of the version whose last migration had this number, as it stood then.
async fn schema_until(last: u32, c: &mut AsyncPgConnection) {
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
const HOUSE: &str = "
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

    let catalog = Catalog::open(&cluster.url()).await.unwrap();
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
    // Opened once more, nothing is counted twice.
    drop(catalog);
    assert_eq!(Catalog::open(&cluster.url()).await.unwrap().miscounts().await.unwrap(), Vec::<String>::new());
    cluster.stop().unwrap();
}
