//! Statements are parsed and planned once for a connection, and then kept: what a picture costs on its way is its work, and no plans.

use std::collections::BTreeMap;

use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use ypogeion_core::{retention::Release, turn::Turn};

use super::*;

const PICTURES: u32 = 40;
/// The connections that a catalogue has at most.
const CONNECTIONS: usize = 18;

#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_again_and_again_is_planned_once() {
    let w = world().await;
    let store = w.add_store().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    c.batch_execute("ALTER SYSTEM SET log_min_duration_statement = 0").await.unwrap();
    c.batch_execute("SELECT pg_reload_conf()").await.unwrap();
    for n in 0..PICTURES {
        let bytes = n.to_le_bytes();
        let id = w.land(&bytes, &format!("juno/2026/04/{n}.jpg")).await.unwrap();
        let object = ObjectRecord { name: format!("sealed/{n}"), size: 200, hash: Digest::of(&bytes).into() };
        let at = w.now + TimeDelta::hours(1);
        w.catalog.confirm(store, Digest::of(&bytes), &object, (w.now, 0), (at, at)).await.unwrap();
        w.catalog.set_preview(id, Turn::default(), Some("abc")).await.unwrap();
        w.catalog.store_well(store, w.now).await.unwrap();
        w.catalog.store_failing(store, "no answer", w.now, w.now).await.unwrap();
        w.catalog.hold(w.person, &[id], "Juno", w.now, Some(w.now)).await.unwrap();
        w.catalog.take_back(w.person, &[id], w.now).await.unwrap();
        w.catalog.remove_due(Release::All, w.now, w.now, 9).await.unwrap();
    }
    let log = std::fs::read_to_string(w.folder.path().join("cluster/log")).unwrap();
    let mut seen: BTreeMap<&str, (usize, usize)> = BTreeMap::new();
    for line in log.lines() {
        let Some((_, said)) = line.split_once(" ms  ") else { continue };
        let Some((what, text)) = said.split_once(": ") else { continue };
        match what.split(' ').next() {
            Some("parse") => seen.entry(text).or_default().0 += 1,
            Some("execute") => seen.entry(text).or_default().1 += 1,
            _ => {}
        }
    }
    let often: Vec<_> = seen.iter().filter(|(_, (_, executed))| *executed >= PICTURES as usize).collect();
    assert!(often.len() > 20, "{} statements were asked for each picture", often.len());
    // One with several rows has as many texts as there are rows; here it is always one.
    let rows_of_its_own = "INSERT INTO \"held\"";
    for (text, (parsed, executed)) in often {
        assert!(*parsed <= CONNECTIONS || text.starts_with(rows_of_its_own), "planned {parsed} times of {executed}: {text}");
    }
}
