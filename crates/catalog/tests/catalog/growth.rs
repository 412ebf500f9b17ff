//! A catalogue that grows, and those who are told of work.

use std::{
    collections::HashSet,
    sync::{Arc, Mutex},
    time::Duration,
};

use chrono::TimeDelta;
use diesel::{QueryableByName, sql_query, sql_types::BigInt};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use uuid::Uuid;
use ypogeion_catalog::{Catalog, sightings::Sighting, work::Kind};
use ypogeion_core::{Digest, StoreId, find::days::Span, ledger::ObjectRecord, turn::Turn};

use super::{World, world};

/// A number.
#[derive(QueryableByName)]
pub struct Row {
    #[diesel(sql_type = BigInt)]
    pub n: i64,
}

impl World {
    /// The device says that it has these.
    async fn names(&self, numbers: std::ops::Range<usize>) {
        let sightings: Vec<Sighting> = numbers
            .map(|n| Sighting {
                source: "Camera".into(),
                name: format!("IMG_{n:04}.jpg"),
                digest: Digest::of(&n.to_le_bytes()),
                size: 1,
                file_time: None,
                refused: None,
            })
            .collect();
        self.catalog.note_sightings(self.device, &sightings, self.now).await.unwrap();
    }

    /// How many rows of sightings the planner believes in; -1: it was never told.
    async fn believed(&self) -> i64 {
        let mut c = AsyncPgConnection::establish(&self.cluster.url()).await.unwrap();
        let row: Row = sql_query("SELECT reltuples::bigint AS n FROM pg_class WHERE oid = 'sighting'::regclass")
            .get_result(&mut c)
            .await
            .unwrap();
        row.n
    }
}

/// Waits for something, for half a minute at most.
async fn until(what: &str, mut seen: impl AsyncFnMut() -> bool) {
    for _ in 0..600 {
        if seen().await {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("never: {what}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_catalogue_that_has_doubled_is_analysed() {
    let w = world().await;
    let catalog = w.catalog.clone();
    let keeping = tokio::spawn(async move { catalog.keep_statistics().await });
    w.names(0..40).await;
    // Nobody is told of so few; a moment later they still are not.
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(w.believed().await, -1);
    w.names(40..60).await;
    until("60 rows are believed in", async || w.believed().await == 60).await;
    // As many again are not worth it, four times as many are.
    w.names(60..120).await;
    tokio::time::sleep(Duration::from_millis(300)).await;
    assert_eq!(w.believed().await, 60);
    w.names(120..240).await;
    until("240 rows are believed in", async || w.believed().await == 240).await;
    keeping.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_does_the_work_is_told_of_its_kind_and_nobody_else() {
    let w = world().await;
    let told: Arc<Mutex<Vec<HashSet<Kind>>>> = Arc::default();
    // Another process, with a connection of its own.
    let other = Catalog::open(&w.cluster.url()).await.unwrap();
    let heard = Arc::clone(&told);
    let listening =
        tokio::spawn(
            async move { other.listen_for_work(|kinds| heard.lock().unwrap().push(kinds.iter().copied().collect())).await },
        );
    let catalog = w.catalog.clone();
    let telling = tokio::spawn(async move { catalog.tell_of_work().await });
    until("somebody listens", async || told.lock().unwrap().len() == 1).await;
    assert_eq!(told.lock().unwrap()[0], Kind::ALL.into_iter().collect(), "what came before it listened may be anything");

    w.catalog.want_proof(StoreId(Uuid::now_v7()), &[], w.now).await.unwrap();
    until("it is told", async || told.lock().unwrap().len() == 2).await;
    assert_eq!(told.lock().unwrap()[1], HashSet::from([Kind::Prove]));

    // Two within a moment are told at once.
    w.catalog.derive_all(w.now).await.unwrap();
    w.catalog.want_proof(StoreId(Uuid::now_v7()), &[], w.now).await.unwrap();
    let heard = || told.lock().unwrap()[2..].iter().flatten().copied().collect::<HashSet<_>>();
    until("both are told", async || heard() == HashSet::from([Kind::Prove, Kind::Derive])).await;

    w.catalog.retry_work(w.now).await.unwrap();
    until("everybody looks again", async || told.lock().unwrap().last().is_some_and(|k| k.len() == Kind::ALL.len())).await;
    listening.abort();
    telling.abort();
}

/// Rows of what grows with the household.
const MANY: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source)
    SELECT n.id, d.person, d.id, sha256(n.i::text::bytea), 1, n.i, 'juno/' || n.i, 'juno/' || n.i, 'photo', now() - n.i * interval '1 day', now() - n.i * interval '1 day', 'received', '{}', now(), n.id, n.id::text, 'Camera'
    FROM (SELECT i, lpad(to_hex(i), 32, '0')::uuid AS id FROM generate_series(1, 3000) i) n CROSS JOIN device d;
    INSERT INTO standing (original, place, good, since) SELECT id, '00000000-0000-0000-0000-000000000000', true, now() FROM original WHERE name <> 'a.jpg';
    INSERT INTO sighting (device, source, name, digest, size, seen_at) SELECT device, 'Camera', name, digest, size, now() FROM original";

/// What one picture costs is found by indexes, however many there are, also while PostgreSQL still believes that the tables are empty.
#[tokio::test(flavor = "multi_thread")]
async fn what_one_picture_costs_does_not_grow_with_the_household() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    for table in ["original", "standing", "counted", "sighting", "name_change"] {
        sql_query(format!("ALTER TABLE {table} SET (autovacuum_enabled = false)")).execute(&mut c).await.unwrap();
    }
    // One picture changes often enough that a plan for it is kept, made for a household of one.
    let one = w.land(b"kite", "juno/kite.jpg").await.unwrap();
    let change = format!("UPDATE standing SET good = NOT good WHERE original = '{}'", one.0);
    for _ in 0..8 {
        sql_query(&change).execute(&mut c).await.unwrap();
    }
    let mut other = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    other.batch_execute(MANY).await.unwrap();
    w.catalog.fold_counts().await.unwrap();
    w.names(0..1).await;
    let read = c
        .transaction::<_, diesel::result::Error, _>(async |c| {
            sql_query(&change).execute(c).await?;
            sql_query("SELECT look_at_names(100) AS n").get_result::<Row>(c).await?;
            let read = "SELECT sum(seq_tup_read + coalesce(idx_tup_fetch, 0))::bigint AS n FROM pg_stat_xact_user_tables";
            Ok(sql_query(read).get_result::<Row>(c).await?.n)
        })
        .await
        .unwrap();
    assert!((1..200).contains(&read), "{read} rows were read for one of 3,000 pictures");
    assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new());
}

/// The same of what the catalogue does for a picture from its landing until it is deleted: its statements are kept, with the plans that
/// were made for a household of a few.
#[tokio::test(flavor = "multi_thread")]
async fn plans_that_are_kept_are_as_good_for_many() {
    let w = world().await;
    let store = w.add_store().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let tables = "SELECT format('ALTER TABLE %I SET (autovacuum_enabled = false);', relname) FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace";
    c.batch_execute(&format!("DO $$ DECLARE t text; BEGIN FOR t IN {tables} LOOP EXECUTE t; END LOOP; END $$")).await.unwrap();
    let life = async |n: u32| {
        let (bytes, at) = (n.to_le_bytes(), w.now + TimeDelta::hours(1));
        let id = w.land(&bytes, &format!("juno/2026/04/{n}.jpg")).await.unwrap();
        let object = ObjectRecord { name: format!("sealed/of {n}"), size: 200, hash: Digest::of(&bytes).into() };
        w.catalog.confirm(store, Digest::of(&bytes), &object, (w.now, 0), (at, at)).await.unwrap();
        w.catalog.set_preview(id, Turn::default(), Some("abc")).await.unwrap();
        w.catalog.store_well(store, w.now).await.unwrap();
        w.catalog.store_failing(store, "no answer", w.now, w.now).await.unwrap();
        w.catalog.hold(w.person, &[id], "Juno", w.now, Some(at)).await.unwrap();
        w.catalog.take_back(w.person, &[id], w.now).await.unwrap();
        w.catalog.to_settle(id).await.unwrap();
        w.catalog.is_back(id).await.unwrap();
    };
    for n in 0..12 {
        life(n).await;
    }
    let mut other = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    // Some are there already.
    let many = MANY.replace(" WHERE name <> 'a.jpg'", " ON CONFLICT DO NOTHING");
    other.batch_execute(&format!("{many} ON CONFLICT DO NOTHING")).await.unwrap();
    let and_their_work = format!(
        "INSERT INTO object (store, digest, name, size, sealed_hash, sealed_algorithm, confirmed_at) SELECT '{0}', digest, 'sealed/' || name, 9, digest, 'blake3', now() FROM original ON CONFLICT DO NOTHING;
         INSERT INTO standing (original, place, good, since) SELECT id, '{0}', true, now() FROM original ON CONFLICT DO NOTHING;
         INSERT INTO job (kind, key, store, priority, due) SELECT 'prove', id, '{0}', 5, now() + interval '9 days' FROM original ON CONFLICT DO NOTHING;
         INSERT INTO job (kind, key, store, priority, due) SELECT 'replicate', id, '{0}', 13, now() + interval '9 days' FROM original ON CONFLICT DO NOTHING",
        store.0
    );
    other.batch_execute(&and_their_work).await.unwrap();
    // As `keep_statistics` does when there is much more; what was planned before is planned anew then.
    w.catalog.analyse().await.unwrap();
    other.batch_execute("SELECT pg_stat_force_next_flush()").await.unwrap();
    w.catalog.fold_counts().await.unwrap();
    // A process of the server tells what it did with the first that it does a second later: so everything until here is told now.
    let told = async |n: u32| {
        tokio::time::sleep(Duration::from_millis(1200)).await;
        life(n).await;
    };
    told(97).await;
    told(98).await;
    let mut read = async || {
        let read = "SELECT sum(seq_tup_read + coalesce(idx_tup_fetch, 0))::bigint AS n FROM pg_stat_user_tables";
        sql_query(read).get_result::<Row>(&mut c).await.unwrap().n
    };
    let before = read().await;
    for n in 100..105 {
        life(n).await;
    }
    told(99).await;
    told(106).await;
    let each = (read().await - before) / 7;
    // With plans for a few that were kept for many, it may be eleven times all of them.
    assert!((1..1_000).contains(&each), "{each} rows were read for each of seven among 3,000");
}

/// The index that a page of the timeline begins in is read at its place alone, not from the newest picture on.
#[tokio::test(flavor = "multi_thread")]
async fn a_page_of_the_timeline_costs_the_same_at_any_date() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    w.land(b"kite", "juno/kite.jpg").await.unwrap();
    c.batch_execute(MANY).await.unwrap();
    c.batch_execute("VACUUM ANALYZE original").await.unwrap();
    let mut blocks = async || {
        let row: Row =
            sql_query("SELECT pg_stat_get_blocks_fetched('original_shown'::regclass) AS n").get_result(&mut c).await.unwrap();
        row.n
    };
    let day = |n: i64| (chrono::Utc::now() - TimeDelta::days(n)).date_naive();
    let page = async |age: i64| {
        let span = Span { from: day(age + 60), until: day(age) };
        let page = w.catalog.originals(ypogeion_catalog::scope::Scope::own(w.person), span, None, 10, None).await.unwrap();
        let last = page.last().unwrap();
        let next = w
            .catalog
            .originals(ypogeion_catalog::scope::Scope::own(w.person), span, Some((last.taken_local, last.id)), 10, None)
            .await
            .unwrap();
        assert!(page.len() == 10 && next.len() == 10 && next[0].taken_local < last.taken_local);
    };
    // A process of the server tells what it did with the first that it does a second later.
    let told = async |age| {
        tokio::time::sleep(Duration::from_millis(1200)).await;
        page(age).await;
    };
    let mut costs = Vec::new();
    for age in [5, 1000, 2900] {
        told(age).await;
        let before = blocks().await;
        for _ in 0..20 {
            page(age).await;
        }
        told(age).await;
        costs.push(blocks().await - before);
    }
    let (least, most) = (costs.iter().min().unwrap(), costs.iter().max().unwrap());
    assert!(*least >= 40 && most < &(2 * least), "{costs:?} blocks for forty pages each");
}
