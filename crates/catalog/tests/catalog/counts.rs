//! Counts that are kept say what counting in full says, whatever happened before, and whoever did it at the same time.

use std::collections::HashSet;

use diesel::{QueryableByName, sql_query, sql_types::Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};

use ypogeion_catalog::{copies::So, inventories::SourceTold};
use ypogeion_core::layers::layer;

use super::*;

const PROVEN_FOR: TimeDelta = TimeDelta::days(90);

/// Sixty-four bits that look like chance, from a seed (SplitMix64).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % sides as u64) as usize
    }
}

#[derive(QueryableByName)]
struct Line {
    #[diesel(sql_type = Text)]
    line: String,
}

async fn ask(c: &mut AsyncPgConnection, text: &str) -> Vec<String> {
    let rows: Vec<Line> = sql_query(text).load(c).await.unwrap_or_else(|e| panic!("{text}: {e}"));
    rows.into_iter().map(|r| r.line).collect()
}

/// The layers, the stores, the months and the sets of places, counted in full, without anything that is kept.
async fn in_full(c: &mut AsyncPgConnection, person: &str, since: DateTime<Utc>) -> Vec<String> {
    let home = "'00000000-0000-0000-0000-000000000000'";
    let mut lines = ask(
        c,
        &format!(
            "SELECT format('layers %s %s %s %s %s %s %s', count(*) FILTER (WHERE home), count(*) FILTER (WHERE away), count(*) FILTER (WHERE proven),
                    count(*) FILTER (WHERE home AND NOT away), count(*) FILTER (WHERE NOT home AND NOT coming),
                    count(*) FILTER (WHERE NOT home AND coming), coalesce(sum(size) FILTER (WHERE proven), 0)) AS line
             FROM (
                 SELECT o.size, coalesce(bool_or(s.good) FILTER (WHERE s.place = {home}), false) AS home,
                        coalesce(bool_or(s.good) FILTER (WHERE a.id IS NOT NULL), false) AS away,
                        coalesce(bool_or(s.good AND s.proven_at >= '{since}') FILTER (WHERE a.id IS NOT NULL), false) AS proven,
                        EXISTS (SELECT 1 FROM job j WHERE j.kind = 'fetch' AND j.key = o.id AND NOT j.gave_up) AS coming
                 FROM original o LEFT JOIN standing s ON s.original = o.id LEFT JOIN store a ON a.id = s.place AND a.away
                 WHERE o.held_at IS NULL AND ({person} IS NULL OR o.person = {person}) GROUP BY o.id
             ) o"
        ),
    )
    .await;
    lines.extend(
        ask(
            c,
            &format!(
                "SELECT format('store %s %s %s %s %s %s', a.name, count(*) FILTER (WHERE t.good), count(*) FILTER (WHERE t.good AND t.proven_at >= '{since}'),
                        count(*) FILTER (WHERE h.good AND t.good IS NOT TRUE), coalesce(sum(o.size) FILTER (WHERE h.good AND t.good IS NOT TRUE), 0),
                        (SELECT count(*) FROM standing WHERE place = a.id AND good AND NOT listed)) AS line
                 FROM store a CROSS JOIN living o LEFT JOIN standing t ON t.original = o.id AND t.place = a.id
                 LEFT JOIN standing h ON h.original = o.id AND h.place = {home} GROUP BY a.id ORDER BY a.name"
            ),
        )
        .await,
    );
    lines.extend(
        ask(
            c,
            "SELECT format('copies %s %s %s', count(*), sum(size), key) AS line FROM (
                 SELECT o.size, coalesce(string_agg(s.place::text, ' ' ORDER BY s.place), '') AS key
                 FROM original o LEFT JOIN standing s ON s.original = o.id AND s.good WHERE o.held_at IS NULL GROUP BY o.id
             ) o GROUP BY key ORDER BY key",
        )
        .await,
    );
    let months = format!(
        "SELECT format('month %s %s', to_char(date_trunc('month', taken_local), 'YYYY-MM'), count(*)) AS line FROM living
         WHERE person = {person} AND shot = id GROUP BY date_trunc('month', taken_local) ORDER BY date_trunc('month', taken_local) DESC"
    );
    lines.extend(ask(c, &months).await);
    lines.extend(ask(c, &format!("SELECT format('used %s', coalesce(sum(size), 0)) AS line FROM original WHERE person = {person} AND gone_at IS NULL")).await);
    lines
}

/// The same as the catalogue says it.
async fn as_kept(w: &World, person: Option<PersonId>, since: DateTime<Utc>) -> Vec<String> {
    let d = w.catalog.depths(person, since).await.unwrap();
    let mut lines = vec![format!(
        "layers {} {} {} {} {} {} {}",
        d.home.count, d.offsite.count, d.proven.count, d.exposed.count, d.damaged, d.coming.count, d.proven.bytes
    )];
    // Without a picture there is nothing to be listed.
    for s in
        w.catalog.stores().await.unwrap().iter().filter(|_| d.home.count + d.damaged + d.coming.count > 0 || person.is_some())
    {
        let n = w.catalog.store_numbers(s.id, since).await.unwrap();
        lines.push(format!(
            "store {} {} {} {} {} {}",
            s.address.name, n.held.count, n.proven.count, n.to_go.count, n.to_go.bytes, n.unlisted
        ));
    }
    for t in w.catalog.copies().await.unwrap() {
        lines.push(format!("copies {} {} {}", t.amount.count, t.amount.bytes, t.key));
        let first = w.catalog.placed(std::slice::from_ref(&t.key), So::default(), None, 1000).await.unwrap();
        assert_eq!(first.len() as u64, t.amount.count, "{} are listed", t.key);
    }
    if let Some(person) = person {
        lines.extend(w.catalog.months(person).await.unwrap().iter().map(|(month, n)| format!("month {month} {n}")));
        lines.push(format!("used {}", w.catalog.usage(person).await.unwrap().bytes));
    } else {
        lines.push("used 0".to_owned());
    }
    lines
}

/// Something that happens to a household.
async fn act(w: &World, c: &mut AsyncPgConnection, dice: &mut Dice, stores: &[StoreId], all: &mut Vec<(OriginalId, Digest)>) {
    let n = all.len();
    let one = |dice: &mut Dice| all[dice.roll(n)];
    let at = w.now + TimeDelta::hours(dice.roll(24 * 9) as i64);
    let sql = match if n == 0 { 0 } else { dice.roll(18) } {
        0..=2 => {
            let bytes = format!("the picture of the weir, {n}");
            let id = w.land(bytes.as_bytes(), &format!("juno/2026/04/{n}.jpg")).await.unwrap();
            all.push((id, Digest::of(bytes.as_bytes())));
            return;
        }
        3..=5 => {
            let ((_, digest), store) = (one(dice), stores[dice.roll(stores.len())]);
            let object = ObjectRecord { name: format!("sealed/{digest}"), size: 200, hash: digest.into() };
            w.catalog.confirm(store, digest, &object, (at, 0), (at, at)).await.unwrap();
            return;
        }
        6..=8 => {
            let ((id, digest), home) = (one(dice), dice.roll(2) == 0);
            let place = if home { Place::Home } else { Place::Store(stores[dice.roll(stores.len())]) };
            let (outcome, digest_seen) = match dice.roll(4) {
                0 => (Outcome::Wrong, Some(Digest::of(b"x"))),
                1 => (Outcome::Missing, None),
                _ => (Outcome::Right, Some(digest)),
            };
            let act = if home { Act::Reread } else { Act::Opened };
            w.catalog.observe(id, digest, &Observation { place, act, at, digest: digest_seen, outcome }).await.unwrap();
            return;
        }
        9 => {
            let few = [one(dice).0, one(dice).0];
            w.catalog.hold(w.person, &few, "Juno", at, Some(at)).await.unwrap();
            return;
        }
        10 => {
            w.catalog.take_back(w.person, &[one(dice).0], at).await.unwrap();
            return;
        }
        11 if dice.roll(3) == 0 => {
            w.catalog.remove_due(Release::All, w.now + TimeDelta::days(99), at, 2).await.unwrap();
            return;
        }
        12 => {
            w.catalog.fold_counts().await.unwrap();
            return;
        }
        13 => format!("UPDATE store SET away = NOT away WHERE id = '{}'", stores[dice.roll(stores.len())].0),
        14 => match dice.roll(3) {
            0 => format!(
                "INSERT INTO job (kind, key, priority, due) VALUES ('fetch', '{}', 1, now()) ON CONFLICT (kind, key, store) DO UPDATE SET gave_up = NOT job.gave_up",
                one(dice).0.0
            ),
            1 => format!("DELETE FROM job WHERE kind = 'fetch' AND key = '{}'", one(dice).0.0),
            _ => format!("DELETE FROM standing WHERE original = '{}' AND place <> '{}'", one(dice).0.0, stores[0].0),
        },
        15 => format!("UPDATE original SET taken_local = taken_local + interval '20 days' WHERE id > '{}'", one(dice).0.0),
        16 => format!("UPDATE original SET shot = '{}' WHERE id = '{}'", one(dice).0.0, one(dice).0.0),
        _ => format!("UPDATE object SET size = size + 1 WHERE digest = '\\x{}'", one(dice).1),
    };
    sql_query(&sql).execute(c).await.unwrap_or_else(|e| panic!("{sql}: {e}"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_is_what_is_there_whatever_happens() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let stores = [w.add_store().await, w.add_store_in("b2", "South Quay").await];
    let (mut dice, mut all) = (Dice(7), Vec::new());
    for step in 0..300 {
        act(&w, &mut c, &mut dice, &stores, &mut all).await;
        if step % 10 == 9 {
            // In the middle of a day on which something was read back, so that only a part of it counts.
            let since = w.now + TimeDelta::hours(dice.roll(24 * 9) as i64) + TimeDelta::minutes(30);
            for (person, word) in [(None, "NULL".to_owned()), (Some(w.person), format!("'{}'", w.person.0))] {
                let word = format!("{word}::uuid");
                assert_eq!(as_kept(&w, person, since).await, in_full(&mut c, &word, since).await, "after step {step}");
            }
            assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new(), "after step {step}");
            // And what the rule says of each original by itself (`core::layers`).
            let kept = w.catalog.depths(None, since).await.unwrap();
            let living: HashSet<String> = ask(&mut c, "SELECT id::text AS line FROM living").await.into_iter().collect();
            let (mut offsite, mut proven) = (0, 0);
            for (id, _) in all.iter().filter(|(id, _)| living.contains(&id.0.to_string())) {
                let layer = layer(&w.catalog.standings_for_depth(*id).await.unwrap(), since + PROVEN_FOR, PROVEN_FOR);
                offsite += u64::from(layer >= ypogeion_core::state::Layer::Offsite);
                proven += u64::from(layer == ypogeion_core::state::Layer::Proven);
            }
            assert_eq!((kept.offsite.count, kept.proven.count), (offsite, proven), "after step {step}");
        }
    }
    let exposed = w.catalog.depths(None, w.now).await.unwrap();
    let oldest =
        ask(&mut c, "SELECT coalesce(min(landed_at)::text, '') AS line FROM counted_now WHERE living AND home AND NOT away");
    assert_eq!(exposed.exposed_since.is_none(), oldest.await == [""]);
}

/// What a device has and lacks, counted in full over all that it ever named.
const NAMED_IN_FULL: &str = "
    WITH whole AS (
        SELECT d.id AS device, (SELECT max(began_at) FROM run WHERE device = d.id AND ended_at IS NOT NULL AND halted IS NULL) AS began FROM device d
    ), named AS (
        SELECT g.device, g.source, g.size, g.refused, g.removed_at, g.seen_at, t.original,
               t.original IS NULL AND g.removed_at IS NULL AND (w.began IS NULL OR g.seen_at >= w.began
                   OR EXISTS (SELECT 1 FROM original o WHERE o.person = d.person AND o.digest = g.digest)) AS absent
        FROM sighting g JOIN device d ON d.id = g.device JOIN whole w ON w.device = d.id LEFT JOIN (
            SELECT o.id AS original, o.person, o.digest FROM living o
            JOIN standing s ON s.original = o.id AND s.place = '00000000-0000-0000-0000-000000000000' AND s.good
        ) t ON t.person = d.person AND t.digest = g.digest
    )
    SELECT format('%s named, %s here, %s waiting (%s bytes), %s refused, %s since, %s uncounted', count(*) FILTER (WHERE removed_at IS NULL),
        count(original) FILTER (WHERE removed_at IS NULL), count(*) FILTER (WHERE absent AND refused IS NULL),
        coalesce(sum(size) FILTER (WHERE absent AND refused IS NULL), 0), count(*) FILTER (WHERE absent AND refused NOT LIKE 'deleted at home%'),
        count(*) FILTER (WHERE seen_at >= i.told_at), count(*) FILTER (WHERE i.device IS NULL AND absent AND refused IS NULL)) AS line
    FROM named g LEFT JOIN device_source i ON i.device = g.device AND i.name = g.source";

#[tokio::test(flavor = "multi_thread")]
async fn what_devices_named_is_counted_as_if_all_of_it_were_looked_at() {
    let w = world().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    let (mut dice, mut landed, mut at) = (Dice(11), Vec::new(), w.now);
    let bytes = |n: usize| format!("the picture of the harbour, {n}").into_bytes();
    for step in 0..400 {
        at += TimeDelta::seconds(1);
        match dice.roll(12) {
            0..=3 => {
                let say = |dice: &mut Dice| Sighting {
                    source: ["Camera", "Scans", "Messages"][dice.roll(3)].into(),
                    name: format!("IMG_{}.jpg", dice.roll(40)),
                    digest: Digest::of(&bytes(dice.roll(30))),
                    size: 7 + dice.roll(3) as u64,
                    file_time: None,
                    refused: (dice.roll(6) == 0).then(|| "too large".to_owned()),
                };
                let said: Vec<Sighting> = (0..=dice.roll(5)).map(|_| say(&mut dice)).collect();
                w.catalog.note_sightings(w.device, &said, at).await.unwrap();
            }
            4 | 5 => {
                let n = dice.roll(30);
                if let Some(id) = w.land(&bytes(n), &format!("juno/{step}.jpg")).await {
                    landed.push((id, Digest::of(&bytes(n))));
                }
            }
            6 if !landed.is_empty() => {
                let (id, digest) = landed[dice.roll(landed.len())];
                let outcome = if dice.roll(2) == 0 { Outcome::Missing } else { Outcome::Right };
                let seen = Observation { place: Place::Home, act: Act::Reread, at, digest: Some(digest), outcome };
                w.catalog.observe(id, digest, &seen).await.unwrap();
            }
            7 if !landed.is_empty() => {
                let id = landed[dice.roll(landed.len())].0;
                if w.catalog.hold(w.person, &[id], "Juno", at, Some(at)).await.unwrap().is_empty() {
                    w.catalog.take_back(w.person, &[id], at).await.unwrap();
                } else if dice.roll(2) == 0 {
                    w.catalog.remove_due(Release::All, at, at, 9).await.unwrap();
                }
            }
            8 => {
                // Files that went with a clearance, and a folder that a program renamed or emptied.
                let few = format!("name LIKE 'IMG_{}_.jpg'", 1 + dice.roll(3));
                let sql = [
                    format!("UPDATE sighting SET removed_at = now() WHERE {few}"),
                    format!("UPDATE sighting SET name = name || '{step}' WHERE {few}"),
                    format!("DELETE FROM sighting WHERE {few}"),
                ];
                sql_query(&sql[dice.roll(3)]).execute(&mut c).await.unwrap();
            }
            9 => {
                let told =
                    |name: &str| SourceTold { name: name.into(), files: 20, rule: "everything".into(), ..SourceTold::default() };
                let sources: Vec<SourceTold> = ["Camera", "Scans"].iter().take(1 + dice.roll(2)).map(|n| told(n)).collect();
                w.catalog.note_sources(w.device, &sources, at).await.unwrap();
            }
            10 => {
                let run = RunId(Uuid::now_v7());
                w.catalog.begin_run(run, w.device, at - TimeDelta::seconds(dice.roll(9) as i64)).await.unwrap();
                let end = if dice.roll(3) == 0 { RunEnd::Halted("paused") } else { RunEnd::Done };
                w.catalog.report_run(run, w.device, Counts::default(), &[], Some(end), at).await.unwrap();
            }
            _ => w.catalog.fold_counts().await.unwrap(),
        }
        if step % 5 == 4 {
            let d = w.catalog.devices(None, Some(w.device), at).await.unwrap().remove(0);
            let kept = format!(
                "{} named, {} here, {} waiting ({} bytes), {} refused, {} since, {} uncounted",
                d.offered, d.home, d.waiting, d.waiting_bytes, d.refused, d.named_since, d.uncounted
            );
            assert_eq!([kept], ask(&mut c, NAMED_IN_FULL).await[..], "after step {step}");
            assert_eq!(d.refused > 0, d.refused_why.is_some());
            let lacks = w.catalog.difference(w.device, None, 1000).await.unwrap();
            assert_eq!(lacks.iter().filter(|l| l.refused.is_none()).count() as u64, d.waiting, "after step {step}");
            assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new(), "after step {step}");
        }
    }
}

/// A name and its bytes that arrive at the same time: whoever was first, the name knows that they are here.
#[tokio::test(flavor = "multi_thread")]
async fn a_name_and_its_bytes_may_come_together() {
    let w = world().await;
    for round in 0..15u8 {
        let all: Vec<[u8; 2]> = (0..8).map(|n| [round, n]).collect();
        let landing = all.iter().map(|bytes| async {
            w.land(bytes, &format!("juno/{}-{}.jpg", bytes[0], bytes[1])).await.unwrap();
        });
        let w = &w;
        let naming = all.iter().map(|bytes| {
            let said = Sighting {
                source: "Camera".into(),
                name: format!("{}-{}.jpg", bytes[0], bytes[1]),
                digest: Digest::of(bytes),
                size: 2,
                file_time: None,
                refused: None,
            };
            async move { w.catalog.note_sightings(w.device, &[said], w.now).await.unwrap() }
        });
        let looking = async { w.catalog.fold_counts().await.unwrap() };
        tokio::join!(futures_util::future::join_all(landing), futures_util::future::join_all(naming), looking);
        let d = w.catalog.devices(None, Some(w.device), w.now).await.unwrap().remove(0);
        assert_eq!((d.offered, d.home, d.waiting), (8 * (u64::from(round) + 1), 8 * (u64::from(round) + 1), 0));
        assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new(), "after round {round}");
    }
}

/// Two who see different halves of one change would both leave it out.
#[tokio::test(flavor = "multi_thread")]
async fn who_changes_the_same_at_the_same_time_counts_it_once() {
    let w = world().await;
    let stores = [w.add_store().await, w.add_store_in("b2", "South Quay").await];
    let mut all = Vec::new();
    for n in 0..6u8 {
        all.push((w.land(&[n], &format!("juno/2026/04/{n}.jpg")).await.unwrap(), Digest::of(&[n])));
    }
    let ids: Vec<OriginalId> = all.iter().map(|a| a.0).collect();
    for round in 0..12 {
        let at = w.now + TimeDelta::hours(round);
        let confirming =
            stores.iter().flat_map(|store| all.iter().map(move |(_, digest)| (*store, *digest))).map(|(store, digest)| {
                let catalog = w.catalog.clone();
                async move {
                    let object = ObjectRecord { name: format!("sealed/{digest}"), size: 200, hash: digest.into() };
                    catalog.confirm(store, digest, &object, (at, 0), (at, at)).await.unwrap();
                }
            });
        let observing = all.iter().map(|(id, digest)| {
            let catalog = w.catalog.clone();
            let outcome = if round % 3 == 0 { Outcome::Missing } else { Outcome::Right };
            let seen = Observation { place: Place::Home, act: Act::Reread, at, digest: Some(*digest), outcome };
            async move { catalog.observe(*id, *digest, &seen).await.unwrap() }
        });
        let moving = async {
            if round % 2 == 0 {
                w.catalog.hold(w.person, &ids, "Juno", at, None).await.unwrap();
            } else {
                w.catalog.take_back(w.person, &ids, at).await.unwrap();
            }
        };
        let folding = async { w.catalog.fold_counts().await.unwrap() };
        tokio::join!(futures_util::future::join_all(confirming), futures_util::future::join_all(observing), moving, folding);
        assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new(), "after round {round}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_count_is_found_and_put_right() {
    let w = world().await;
    w.land(b"kite", "juno/2026/04/a.jpg").await.unwrap();
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    sql_query("UPDATE counted SET home = false").execute(&mut c).await.unwrap();
    let wrong = w.catalog.miscounts().await.unwrap();
    assert!(wrong.len() == 1 && wrong[0].ends_with("is remembered otherwise"), "{wrong:?}");
    sql_query("INSERT INTO tally_change (about, fact, day, n, bytes) SELECT id, 'home', '-infinity', 3, 9 FROM person")
        .execute(&mut c)
        .await
        .unwrap();
    assert_eq!(w.catalog.depths(None, w.now).await.unwrap().home.count, 4);
    let wrong = w.catalog.miscounts().await.unwrap();
    assert!(wrong.len() == 1 && wrong[0].starts_with("home of ") && wrong[0].ends_with("-3 originals, -9 bytes"), "{wrong:?}");
    assert_eq!(w.catalog.depths(None, w.now).await.unwrap().home.count, 1);
    assert_eq!(w.catalog.miscounts().await.unwrap(), Vec::<String>::new());
}
