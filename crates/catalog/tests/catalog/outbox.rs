//! The outbox of background work: what is wished for is done, whoever does something else at that moment.

use diesel::{QueryableByName, sql_query, sql_types::BigInt};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use rstest::rstest;

use super::*;

#[derive(QueryableByName)]
struct Number {
    #[diesel(sql_type = BigInt)]
    n: i64,
}

const LEASE: TimeDelta = TimeDelta::minutes(1);

async fn take(w: &World, kind: Kind, at: DateTime<Utc>) -> Option<ypogeion_catalog::work::Job> {
    w.catalog.take_work(kind, Uuid::from_u128(7), (at, LEASE), 1, &[]).await.unwrap().pop()
}

/// Something that wishes for work of its kind again, as the program does.
async fn wish(w: &World, kind: Kind, kite: OriginalId, store: StoreId) {
    match kind {
        Kind::Ledger => w.catalog.want_ledger(store, w.now).await.unwrap(),
        Kind::Hold => {
            w.catalog.hold(w.person, &[kite], "Juno", w.now, None).await.unwrap();
            w.catalog.take_back(w.person, &[kite], w.now).await.unwrap();
        }
        Kind::Release => {
            w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now)).await.unwrap();
            w.catalog.take_back(w.person, &[kite], w.now).await.unwrap();
        }
        Kind::Derive => w.catalog.derive_one(kite, w.now).await.unwrap(),
        Kind::Replicate => w.catalog.send_again(store, Digest::of(b"kite"), w.now).await.unwrap(),
        Kind::Prove => w.catalog.want_proof(store, &[kite], w.now).await.unwrap(),
        Kind::Heal => {
            let seen = Observation { place: Place::Home, act: Act::Reread, at: w.now, digest: None, outcome: Outcome::Missing };
            w.catalog.observe(kite, Digest::of(b"kite"), &seen).await.unwrap();
        }
        other => panic!("{other:?}"),
    }
}

#[rstest]
#[case::ledger(Kind::Ledger)]
#[case::hold(Kind::Hold)]
#[case::release(Kind::Release)]
#[case::replicate(Kind::Replicate)]
#[case::heal(Kind::Heal)]
#[tokio::test(flavor = "multi_thread")]
async fn a_wish_during_work_is_not_forgotten(#[case] kind: Kind) {
    let w = world().await;
    let store = w.add_store().await;
    let kite = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    if kind == Kind::Replicate {
        // It is there already, because it landed.
    } else {
        wish(&w, kind, kite, store).await;
    }
    let job = take(&w, kind, w.now).await.unwrap();
    assert!(take(&w, kind, w.now).await.is_none(), "one at a time");
    wish(&w, kind, kite, store).await;
    w.catalog.finish_work(&job).await.unwrap();
    let again = take(&w, kind, w.now).await.expect("it is there to be done once more");
    w.catalog.finish_work(&again).await.unwrap();
    assert!(take(&w, kind, w.now + TimeDelta::days(1)).await.is_none(), "and once is enough");

    // Wished for while it fails: it is done as it is now, not in an hour, and is not given up.
    wish(&w, kind, kite, store).await;
    let job = take(&w, kind, w.now).await.unwrap();
    wish(&w, kind, kite, store).await;
    w.catalog.give_up_work(&job, "it cannot be done").await.unwrap();
    let job = take(&w, kind, w.now).await.expect("what it is about has changed since");
    w.catalog.give_up_work(&job, "it cannot be done").await.unwrap();
    assert!(take(&w, kind, w.now + TimeDelta::days(1)).await.is_none());
    wish(&w, kind, kite, store).await;
    assert!(take(&w, kind, w.now).await.is_some(), "what was given up gets another chance");
}

/// The wish is in a transaction that is not committed yet when the work ends.
#[tokio::test(flavor = "multi_thread")]
async fn a_wish_that_is_just_being_committed_is_waited_for() {
    let w = world().await;
    let store = w.add_store().await;
    w.catalog.want_ledger(store, w.now).await.unwrap();
    let job = take(&w, Kind::Ledger, w.now).await.unwrap();
    let mut other = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    other.batch_execute("BEGIN; UPDATE job SET wishes = wishes + 1 WHERE kind = 'ledger'").await.unwrap();
    let ending = tokio::spawn({
        let (catalog, job) = (w.catalog.clone(), job.clone());
        async move { catalog.finish_work(&job).await.unwrap() }
    });
    let mut looker = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    for _ in 0..500 {
        let waiting: Number =
            sql_query("SELECT count(*) AS n FROM pg_locks WHERE NOT granted").get_result(&mut looker).await.unwrap();
        if waiting.n > 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    assert!(!ending.is_finished(), "the end of the work waits for whoever has the row");
    other.batch_execute("COMMIT").await.unwrap();
    ending.await.unwrap();
    assert!(take(&w, Kind::Ledger, w.now).await.is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn only_who_holds_work_can_end_it() {
    let w = world().await;
    let store = w.add_store().await;
    w.catalog.want_ledger(store, w.now).await.unwrap();
    let slow = take(&w, Kind::Ledger, w.now).await.unwrap();
    // Its lease ran out, and somebody else has it.
    let later = w.now + TimeDelta::minutes(2);
    let other = take(&w, Kind::Ledger, later).await.unwrap();
    w.catalog.finish_work(&slow).await.unwrap();
    w.catalog.give_up_work(&slow, "too late").await.unwrap();
    w.catalog.put_back_work(&slow, Some("too late"), later).await.unwrap();
    assert!(take(&w, Kind::Ledger, later).await.is_none(), "it is in the other one's hands");
    assert_eq!(w.catalog.work_faults(9).await.unwrap().1, 0);
    w.catalog.finish_work(&other).await.unwrap();
    assert!(take(&w, Kind::Ledger, later + TimeDelta::days(1)).await.is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn work_that_ends_its_process_is_not_begun_for_ever() {
    let w = world().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let me = Uuid::from_u128(7);
    let mut now = w.now;
    for wait in [0, 0, 4, 8, 16, 32, 64, 0] {
        assert!(take(&w, Kind::Preview, now).await.is_some());
        assert_eq!(w.catalog.free_leases(me, now).await.unwrap(), 1);
        if wait > 0 {
            assert!(take(&w, Kind::Preview, now + TimeDelta::seconds(wait - 1)).await.is_none(), "not before {wait} s");
        }
        now += TimeDelta::seconds(wait);
    }
    assert!(take(&w, Kind::Preview, now + TimeDelta::days(1)).await.is_none());
    let (faults, _) = w.catalog.work_faults(9).await.unwrap();
    assert!(faults[0].error.contains("the service ended 8 times") && faults[0].due.is_none(), "{faults:?}");
    // The keeper may try it again; and work that ends well between two kills is innocent.
    assert_eq!(w.catalog.retry_work(w.now).await.unwrap(), 1);
    for _ in 0..10 {
        let job = take(&w, Kind::Preview, w.now).await.unwrap();
        w.catalog.free_leases(me, w.now).await.unwrap();
        let again = take(&w, Kind::Preview, w.now).await.unwrap();
        assert_eq!(job.id, again.id);
        w.catalog.put_back_work(&again, None, w.now).await.unwrap();
    }
}

/// The sources of the catalogue.
fn sources() -> impl Iterator<Item = (String, String)> {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    std::fs::read_dir(folder).unwrap().map(|entry| {
        let path = entry.unwrap().path();
        (path.file_name().unwrap().to_string_lossy().into_owned(), std::fs::read_to_string(&path).unwrap())
    })
}

/// Every statement that puts work down counts a wish where it is down already.
#[test]
fn every_insert_of_work_is_a_wish() {
    let (mut texts, mut built) = (0, 0);
    for (file, text) in sources() {
        for (at, _) in text.match_indices("INSERT INTO job") {
            if text[..at].ends_with('`') {
                continue;
            }
            let rest = &text[at + 15..];
            let end = [rest.find("INSERT INTO job"), rest.find(".prepared()"), rest.find("fn ")];
            let statement = &rest[..end.into_iter().flatten().min().unwrap_or(rest.len())];
            assert!(statement.contains("{WISH}"), "{file}: INSERT INTO job{statement}");
            texts += 1;
        }
        for (at, _) in text.match_indices("insert_into(job::table)") {
            let before = text[..at].lines().rev().take(2).collect::<Vec<_>>().join(" ");
            let statement = text[at..].split_once(';').unwrap().0;
            let wishes = before.contains("wish!(@") || before.contains("wish_now!(@") || before.contains("// No wish:");
            assert!(wishes || statement.contains("job::wishes.eq(job::wishes + 1)"), "{file}: {statement}");
        }
        built += text.matches("wish!(").count() + text.matches("wish_now!(").count();
    }
    assert!(texts > 5 && built > 15, "{texts} {built}");
}

/// Text is for what Diesel's builder cannot say, and says why.
#[test]
fn what_is_text_says_why() {
    let mut all = 0;
    for (file, text) in sources() {
        for (at, _) in text.match_indices("sql_query(") {
            let function = text[..at].rfind("fn ").map_or(&text[..at], |begin| &text[begin..at]);
            assert!(function.contains("// Text"), "{file}: {}", text[at..].lines().take(3).collect::<Vec<_>>().join(" "));
            all += 1;
        }
    }
    assert!((1..45).contains(&all), "{all}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_changes_of_an_original_its_ledgers_say_anew() {
    let w = world().await;
    let store = w.add_store().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "sealed/a".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, Digest::of(b"kite"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let changes = [
        "path = path || 'x'",
        "name = 'b.jpg'",
        "source = 'Elsewhere'",
        "taken_at = taken_at + interval '1 hour'",
        "taken_local = taken_local + interval '1 hour'",
        "taken_rule = 'sidecar'",
        "file_time = now()",
        "shot = gen_random_uuid()",
        "held_at = now()",
        "gone_at = now()",
    ];
    for (n, change) in changes.iter().enumerate() {
        w.write_segment(store, n as u64 + 1).await;
        assert!(w.catalog.unlisted(store, 9).await.unwrap().is_empty());
        sql_query(format!("UPDATE original SET {change}")).execute(&mut c).await.unwrap();
        assert_eq!(w.catalog.unlisted(store, 9).await.unwrap().len(), 1, "{change}");
        // And what changes while a segment is written is not listed by it.
        let rows = w.catalog.unlisted(store, 9).await.unwrap();
        sql_query("UPDATE original SET source = source || '.'").execute(&mut c).await.unwrap();
        w.catalog.segment_written(store, 99, &rows, (None, None), 0).await.unwrap();
        assert_eq!(w.catalog.unlisted(store, 9).await.unwrap().len(), 1, "{change}, while it was written");
    }
    let own = w.catalog.unlisted(store, 9).await.unwrap()[0].original.id;
    for (n, change) in [
        format!("UPDATE original SET gone_at = NULL, held_at = NULL WHERE id = '{}'", own.0),
        format!("INSERT INTO favourite SELECT person, id FROM original WHERE id = '{}'", own.0),
        format!("DELETE FROM favourite WHERE original = '{}'", own.0),
        format!(
            "WITH a AS (INSERT INTO album (id, person, name, made_at) SELECT gen_random_uuid(), person, 'Kites', now() FROM original WHERE id = '{0}' RETURNING id)
             INSERT INTO album_picture SELECT id, '{0}', NULL, now() FROM a",
            own.0
        ),
        "DELETE FROM album".to_owned(),
        format!("INSERT INTO words SELECT id, false, 'Kites', '', person, now() FROM original WHERE id = '{}'", own.0),
        "UPDATE words SET caption = 'over the sea'".to_owned(),
        "DELETE FROM words".to_owned(),
        format!("UPDATE original SET put_away = true WHERE id = '{}'", own.0),
    ]
    .iter()
    .enumerate()
    {
        w.write_segment(store, 200 + n as u64).await;
        assert!(w.catalog.unlisted(store, 9).await.unwrap().is_empty());
        sql_query(change.as_str()).execute(&mut c).await.unwrap();
        assert_eq!(w.catalog.unlisted(store, 9).await.unwrap().len(), 1, "{change}");
    }
    w.write_segment(store, 300).await;
    sql_query("UPDATE original SET preview = 'ready'").execute(&mut c).await.unwrap();
    assert!(w.catalog.unlisted(store, 9).await.unwrap().is_empty(), "a preview is no news for a ledger");
}

/// A segment names an object. What becomes of the copy while the segment is on its way is not in it, and is said by the next one.
#[rstest]
#[case::sent_again_meanwhile("again")]
#[case::sealed_anew_meanwhile("anew")]
#[case::missing_and_there_again("back")]
#[tokio::test(flavor = "multi_thread")]
async fn what_becomes_of_a_copy_while_it_is_listed_is_listed_after_it(#[case] how: &str) {
    let w = world().await;
    let store = w.add_store().await;
    let digest = Digest::of(b"kite");
    let id = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = |n: &str| ObjectRecord { name: format!("sealed/{n}"), size: 200, hash: Digest::of(n.as_bytes()).into() };
    let unlisted = async || w.catalog.unlisted(store, 9).await.unwrap();
    let seen = |outcome| Observation { place: Place::Store(store), act: Act::Listed, at: w.now, digest: None, outcome };
    w.catalog.confirm(store, digest, &object("a"), (w.now, 0), (w.now, w.now)).await.unwrap();
    let rows = unlisted().await;
    match how {
        "again" => {
            w.catalog.send_again(store, digest, w.now).await.unwrap();
            assert!(unlisted().await.is_empty(), "there is no object to be named");
            w.catalog.confirm(store, digest, &object("b"), (w.now, 0), (w.now, w.now)).await.unwrap();
        }
        "anew" => w.catalog.resealed(store, (digest, "sealed/a"), &object("b"), 1, w.now).await.unwrap(),
        _ => {
            w.catalog.observe(id, digest, &seen(Outcome::Missing)).await.unwrap();
            w.catalog.observe(id, digest, &seen(Outcome::Right)).await.unwrap();
        }
    }
    w.catalog.segment_written(store, 1, &rows, (None, None), 0).await.unwrap();
    assert_eq!(unlisted().await.len(), 1);
    w.write_segment(store, 2).await;
    assert!(unlisted().await.is_empty());
}

/// A copy that was missing when everything was said again is in no part of that, though an older segment names it.
#[tokio::test(flavor = "multi_thread")]
async fn a_copy_that_is_good_again_is_named_again() {
    let w = world().await;
    let store = w.add_store().await;
    let digest = Digest::of(b"kite");
    let id = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "sealed/a".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, digest, &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.write_segment(store, 1).await;
    let job = take(&w, Kind::Ledger, w.now).await.unwrap();
    w.catalog.finish_work(&job).await.unwrap();
    assert!(take(&w, Kind::Ledger, w.now).await.is_none());
    let see = async |outcome| {
        let seen = Observation { place: Place::Store(store), act: Act::Listed, at: w.now, digest: None, outcome };
        w.catalog.observe(id, digest, &seen).await.unwrap();
    };
    see(Outcome::Missing).await;
    assert!(w.catalog.copies_in(store, OriginalId(Uuid::nil()), 9).await.unwrap().is_empty(), "the parts are written without it");
    w.catalog.checkpoint_written(store, 1).await.unwrap();
    see(Outcome::Right).await;
    assert_eq!(w.catalog.unlisted(store, 9).await.unwrap().len(), 1);
    assert!(take(&w, Kind::Ledger, w.now).await.is_some(), "and somebody writes it");
}

/// A checkpoint stands for the segments before it: what has changed since they were written is in it as it is now, or would be nowhere until
/// the next one.
#[tokio::test(flavor = "multi_thread")]
async fn a_checkpoint_says_what_the_next_segment_will_say_as_well() {
    let w = world().await;
    let store = w.add_store().await;
    let id = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "sealed/a".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, Digest::of(b"kite"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.write_segment(store, 1).await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    sql_query("UPDATE original SET taken_local = taken_local + interval '1 hour'").execute(&mut c).await.unwrap();
    assert_eq!(w.catalog.unlisted(store, 9).await.unwrap().len(), 1);
    let said = w.catalog.copies_in(store, OriginalId(Uuid::nil()), 9).await.unwrap();
    assert_eq!(said.iter().map(|o| o.id).collect::<Vec<_>>(), [id]);
}

/// What is asked for while a checkpoint is written is not done by it.
#[tokio::test(flavor = "multi_thread")]
async fn a_ledger_that_is_asked_for_meanwhile_is_written_once_more() {
    let w = world().await;
    let store = w.add_store().await;
    let due = async || w.catalog.store(store).await.unwrap().checkpoint_due;
    for (number, meanwhile) in [(1, true), (2, false)] {
        w.catalog.say_all_again(store, w.now).await.unwrap();
        w.catalog.segment_written(store, number, &[], (Some(Digest::of(b"said")), None), 0).await.unwrap();
        if meanwhile {
            w.catalog.say_all_again(store, w.now).await.unwrap();
        }
        w.catalog.checkpoint_written(store, number).await.unwrap();
        assert_eq!(due().await, meanwhile, "{number}");
    }
}

/// A removal that was broken off keeps nobody from sending the same bytes again.
#[tokio::test(flavor = "multi_thread")]
async fn an_object_does_not_leave_for_ever() {
    let w = world().await;
    let store = w.add_store().await;
    let kite = w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let object = ObjectRecord { name: "sealed/a".into(), size: 200, hash: Digest::of(b"sealed").into() };
    w.catalog.confirm(store, Digest::of(b"kite"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now)).await.unwrap();
    assert_eq!(w.catalog.remove_due(Release::All, w.now, w.now, 9).await.unwrap(), 1);
    w.write_segment(store, 1).await;
    let job = take(&w, Kind::Remove, w.now).await.unwrap();
    assert!(matches!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::Object { .. }));
    // Its turn to be read does not come while it leaves, nor does a reading wait for it.
    assert!(w.catalog.copies_to_read(Place::Store(store), w.now + TimeDelta::days(1), 9).await.unwrap().is_empty());
    // The same bytes are added again while that is under way, and it is broken off.
    w.land(b"kite", "juno/2026/04/b.jpg").await.unwrap();
    assert!(w.catalog.is_leaving(store, Digest::of(b"kite")).await.unwrap(), "somebody is at it");
    w.catalog.free_leases(Uuid::from_u128(7), w.now).await.unwrap();
    assert!(
        !w.catalog.is_leaving(store, Digest::of(b"kite")).await.unwrap(),
        "nobody knows whether it is there: it is sent anew"
    );
    assert!(w.catalog.object(store, Digest::of(b"kite")).await.unwrap().is_none());
    w.catalog.confirm(store, Digest::of(b"kite"), &object, (w.now, 0), (w.now, w.now)).await.unwrap();
    // The removal, taken up again, finds that it is needed.
    let again = take(&w, Kind::Remove, w.now).await.unwrap();
    assert_eq!(job.id, again.id);
    assert_eq!(w.catalog.begin_removal(kite, store).await.unwrap(), ToRemove::Nothing);
    assert!(w.catalog.object(store, Digest::of(b"kite")).await.unwrap().is_some());
}

/// Whatever became of its rows, work follows from how things are.
#[tokio::test(flavor = "multi_thread")]
async fn missing_work_follows_from_how_things_are() {
    let w = world().await;
    let store = w.add_store().await;
    let object =
        |name: &str| ObjectRecord { name: format!("sealed/{name}"), size: 200, hash: Digest::of(name.as_bytes()).into() };
    let landed = async |name: &str| w.land(name.as_bytes(), &format!("juno/2026/04/{name}.jpg")).await.unwrap();
    let confirmed = async |name: &str| {
        let ends = (w.now, w.now);
        w.catalog.confirm(store, Digest::of(name.as_bytes()), &object(name), (w.now, 0), ends).await.unwrap();
    };
    landed("new").await;
    let (bad, held, gone) = (landed("bad").await, landed("held").await, landed("gone").await);
    landed("listed").await;
    for name in ["bad", "gone", "listed"] {
        confirmed(name).await;
    }
    w.write_segment(store, 1).await;
    landed("unlisted").await;
    confirmed("unlisted").await;
    let missing = Observation { place: Place::Home, act: Act::Reread, at: w.now, digest: None, outcome: Outcome::Missing };
    w.catalog.observe(bad, Digest::of(b"bad"), &missing).await.unwrap();
    w.catalog.hold(w.person, &[gone], "Juno", w.now, Some(w.now)).await.unwrap();
    w.catalog.remove_due(Release::All, w.now, w.now, 9).await.unwrap();
    w.catalog.hold(w.person, &[held], "Juno", w.now, Some(w.now + TimeDelta::days(30))).await.unwrap();
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    #[derive(QueryableByName)]
    struct Text {
        #[diesel(sql_type = diesel::sql_types::Text)]
        t: String,
    }
    let jobs = async |c: &mut AsyncPgConnection| {
        let all = "SELECT j.kind || ' ' || coalesce(o.path, '') || (j.store IS NOT NULL)::text AS t FROM job j LEFT JOIN original o ON o.id = j.key
                   WHERE j.kind IN ('replicate', 'heal', 'fetch', 'preview', 'hold', 'remove', 'ledger', 'release') ORDER BY 1";
        let rows: Vec<Text> = sql_query(all).load(c).await.unwrap();
        rows.into_iter().map(|r| r.t).collect::<Vec<_>>()
    };
    // Work of what has arrived since is done or not, as it happens.
    sql_query("DELETE FROM job WHERE kind = 'replicate' AND EXISTS (SELECT 1 FROM standing s WHERE s.original = key AND s.place = job.store)")
        .execute(&mut c)
        .await
        .unwrap();
    sql_query("DELETE FROM job WHERE kind = 'replicate' AND key IN (SELECT id FROM original WHERE held_at IS NOT NULL)")
        .execute(&mut c)
        .await
        .unwrap();
    sql_query("DELETE FROM job WHERE kind = 'preview' AND key IN (SELECT o.id FROM original o JOIN standing s ON s.original = o.id AND NOT s.good)")
        .execute(&mut c)
        .await
        .unwrap();
    sql_query("DELETE FROM job WHERE kind = 'preview' AND key IN (SELECT id FROM original WHERE held_at IS NOT NULL)")
        .execute(&mut c)
        .await
        .unwrap();
    let before = jobs(&mut c).await;
    for kind in ["replicate", "heal", "preview", "hold", "remove", "ledger", "release"] {
        assert!(before.iter().any(|j| j.starts_with(kind)), "{kind}: {before:?}");
    }
    let derive = async || {
        let (mut after, mut missing) = (OriginalId(Uuid::nil()), 0);
        while let Some(looked) = w.catalog.derive_work(after, 2, w.now).await.unwrap() {
            (after, missing) = (looked.last, missing + looked.missing);
        }
        missing
    };
    assert_eq!(derive().await, 0, "nothing is missing: {before:?} and then {:?}", jobs(&mut c).await);
    // Nor need a picture be unsaid: what was decided may be, if the service ended between the decision and its line in the record.
    sql_query("DELETE FROM job").execute(&mut c).await.unwrap();
    sql_query("UPDATE standing SET listed = true WHERE NOT listed AND place IN (SELECT id FROM store)")
        .execute(&mut c)
        .await
        .unwrap();
    assert!(derive().await > 0);
    assert_eq!(jobs(&mut c).await, before);
    // What was given up stays so: somebody has to look.
    sql_query("UPDATE job SET gave_up = true, error = 'x'").execute(&mut c).await.unwrap();
    assert_eq!(derive().await, 0);
    assert!(take(&w, Kind::Preview, w.now + TimeDelta::days(1)).await.is_none());
}
