//! The stages of a deletion, as the database lets them follow each other, against the rule in core.

use diesel::sql_query;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use ypogeion_core::{
    deletion::{MayLeave, Step, StoreHasIt},
    retention::Release,
};

use super::*;

/// What a row of each stage has. Whether a store has a copy is no matter of its row.
fn columns(stage: Stage) -> &'static str {
    match stage {
        Stage::Living => "held_at = NULL, gone_at = NULL, folded = 'juno/a.jpg'",
        Stage::Held => "held_at = now(), gone_at = NULL, folded = 'juno/a.jpg'",
        Stage::LeavingHome => "held_at = now(), gone_at = now(), folded = 'juno/a.jpg'",
        Stage::InStores | Stage::Gone => "held_at = now(), gone_at = now(), folded = NULL",
    }
}

/// Every step that there is.
fn steps(now: DateTime<Utc>) -> Vec<Step> {
    vec![
        Step::Delete,
        Step::BringBack,
        Step::Release(MayLeave::ask(Release::All, Some(now), false, now).unwrap()),
        Step::LeftHome { in_stores: true },
        Step::LeftHome { in_stores: false },
        Step::FetchBack(StoreHasIt::ask(true, false).unwrap()),
        Step::LastCopyRemoved,
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_lets_an_original_take_the_steps_that_there_are_and_no_other() {
    let w = world().await;
    let kite = w.land(b"kite", "juno/a.jpg").await.unwrap();
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let row = format!("WHERE id = '{}'", kite.0);
    for &from in Stage::ALL {
        for &to in Stage::ALL {
            // There by whatever way: without the rule.
            let begin = format!(
                "ALTER TABLE original DISABLE TRIGGER original_steps; UPDATE original SET {} {row}; ALTER TABLE original ENABLE TRIGGER original_steps",
                columns(from)
            );
            c.batch_execute(&begin).await.unwrap();
            let went = c.batch_execute(&format!("UPDATE original SET {} {row}", columns(to))).await;
            let stays = columns(from) == columns(to);
            // Of one that has left the home disk, its row does not say whether a store has it still: who asks for it back asks that first.
            let also = |stage: Stage| {
                if matches!(stage, Stage::InStores | Stage::Gone) { vec![Stage::InStores, Stage::Gone] } else { vec![stage] }
            };
            let leads = also(from)
                .into_iter()
                .any(|f| steps(w.now).into_iter().filter_map(|s| f.after(s)).any(|t| also(to).contains(&t)));
            assert_eq!(went.is_ok(), stays || leads, "{from} to {to}: {went:?}");
        }
    }
    // One that lives has a name.
    assert!(c.batch_execute(&format!("UPDATE original SET held_at = NULL, gone_at = NULL, folded = NULL {row}")).await.is_err());
}

/// A person's folder may be called as what has left the home disk once was.
#[tokio::test(flavor = "multi_thread")]
async fn what_has_left_home_has_no_name_and_its_place_is_free() {
    let w = world().await;
    let kite = w.land(b"kite", "gone/a.jpg").await.unwrap();
    w.catalog.hold(w.person, &[kite], "Juno", w.now, Some(w.now)).await.unwrap();
    w.catalog.remove_due(Release::All, w.now, w.now, 9).await.unwrap();
    // Its file is there still: that is missing work.
    let settles = async || w.catalog.to_settle(kite).await.unwrap().unwrap().stage;
    assert_eq!(settles().await, Stage::LeavingHome);
    let path = FiledPath::parse("gone/a.jpg").unwrap();
    assert!(w.catalog.has_path(&path).await.unwrap());
    w.catalog.is_gone(kite).await.unwrap();
    assert_eq!(settles().await, Stage::Gone);
    assert!(!w.catalog.has_path(&path).await.unwrap());
    w.land(b"weir", "gone/a.jpg").await.unwrap();
    assert!(w.catalog.has_path(&path).await.unwrap());
}

/// The same bytes land while their older copy is being fetched back: they are committed after it was asked whether they are here.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_fetched_back_while_it_lands_again_is_not_there_twice() {
    let w = world().await;
    let store = w.add_store().await;
    let kite = in_the_store_alone(&w, store).await;
    let (mut landing, mut watching) = (
        AsyncPgConnection::establish(&w.cluster.url()).await.unwrap(),
        AsyncPgConnection::establish(&w.cluster.url()).await.unwrap(),
    );
    let land = "BEGIN; INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key)
        SELECT n.id, o.person, o.device, o.digest, o.size, 'b.jpg', 'juno/b.jpg', 'juno/b.jpg', o.kind, o.taken_at, o.taken_local, o.taken_rule, o.facts, now(), n.id, n.id::text
        FROM original o, (SELECT gen_random_uuid() AS id) n";
    landing.batch_execute(land).await.unwrap();
    let (catalog, now) = (w.catalog.clone(), w.now);
    let back =
        tokio::spawn(async move { catalog.take_back_gone(kite, &FiledPath::parse("juno/2026/04/a.jpg").unwrap(), now).await });
    let waits = "SELECT count(*) AS n FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE 'UPDATE%original%'";
    let mut waiting = 0;
    for _ in 0..200 {
        waiting = sql_query(waits).get_result::<growth::Row>(&mut watching).await.unwrap().n;
        if waiting > 0 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert_eq!(waiting, 1, "it waits for whoever lands them");
    landing.batch_execute("COMMIT").await.unwrap();
    assert!(!back.await.unwrap().unwrap(), "its member has them again");
}
