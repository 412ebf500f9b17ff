//! What is said about pictures: what is kept of it is what follows from all words, whatever changes, also at once.

use ypogeion_catalog::words::Change;
use ypogeion_core::OriginalId;

use super::{
    World,
    sql::{ask, run},
    world,
};

/// A hundred pictures of three files each; some of their files say something.
const MANY: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source, part)
    SELECT n.id, d.person, d.id, sha256(n.id::text::bytea), 1, 'IMG_' || n.i || '.' || n.f, n.id::text, n.id::text, 'photo', now(), now()::timestamp, 'exif',
           CASE WHEN (n.i * 3 + n.f) % 4 = 0 THEN jsonb_build_object('title', 'Title ' || n.i || '.' || n.f, 'caption', null)
                WHEN (n.i * 3 + n.f) % 7 = 0 THEN jsonb_build_object('title', '', 'caption', 'Caption ' || n.i || '.' || n.f) ELSE '{}' END,
           now(), n.shot, n.id::text, 'Camera', (ARRAY['still', 'raw', 'sidecar'])[1 + n.f]
    FROM (
        SELECT i, f, md5(i || ' ' || f)::uuid AS id, md5(i || ' 0')::uuid AS shot FROM generate_series(0, 99) i, generate_series(0, 2) f
    ) n, device d";

impl World {
    async fn said_right(&self, change: &str) {
        assert_eq!(ask(self, "SELECT what AS line FROM discrepancy").await, [""; 0], "{change}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_kept_of_words_follows_from_them() {
    let w = world().await;
    run(&w, MANY).await;
    w.said_right("arrived").await;
    let count = async || ask(&w, "SELECT count(*)::text AS line FROM said").await[0].parse::<u32>().unwrap();
    let all = count().await;
    assert!((50..100).contains(&all), "{all}");
    let shot = "(SELECT md5('4 0')::uuid)";
    for change in [
        "INSERT INTO words SELECT id, false, 'Written', '', person, now() FROM original WHERE name ~ '^IMG_[0-9]*5.[01]$'",
        "UPDATE words SET title = title || '!' WHERE NOT of_file",
        "UPDATE words SET title = '', caption = '' WHERE original IN (SELECT id FROM original WHERE name ~ '^IMG_15')  AND NOT of_file",
        // Files are deleted, brought back, go to another picture, and stand for it.
        "UPDATE original SET held_at = now() WHERE name ~ '[05].0$'",
        "UPDATE original SET held_at = NULL WHERE name ~ '5.0$'",
        "UPDATE original SET held_at = now() WHERE name ~ '7.[02]$'",
        "UPDATE original SET gone_at = now() WHERE name ~ '7.[02]$'",
        "UPDATE original SET shot = id WHERE name ~ '[28].[12]$'",
        &format!("UPDATE original SET shot = {shot} WHERE name ~ '[3].[012]$'"),
        "UPDATE original SET part = CASE part WHEN 'raw' THEN 'sidecar' ELSE 'raw' END WHERE name ~ '[12]$'",
        // Read anew: some say nothing any more, some something now.
        "UPDATE original SET facts = '{}' WHERE name ~ '[46].[012]$'",
        r#"UPDATE original SET facts = facts || '{"caption": "Now"}' WHERE name ~ '[19].[012]$'"#,
        r#"UPDATE original SET facts = facts || '{"camera": "x"}'"#,
        "DELETE FROM words WHERE NOT of_file AND title = 'Written!'",
    ] {
        run(&w, change).await;
        w.said_right(change).await;
    }
    assert_ne!(count().await, all);
    // Should it ever be otherwise, it is found and put right.
    run(&w, "UPDATE said SET title = 'Wrong' WHERE shot IN (SELECT shot FROM said ORDER BY shot LIMIT 2); DELETE FROM said WHERE shot IN (SELECT shot FROM said ORDER BY shot DESC LIMIT 1)").await;
    let wrong = w.catalog.miscounts().await.unwrap();
    assert_eq!(wrong.len(), 3, "{wrong:?}");
    assert!(wrong.iter().all(|w| w.contains("is kept otherwise")), "{wrong:?}");
    w.said_right("put right").await;
}

/// Several who write about the files of one picture at once leave it as the last of them did.
#[tokio::test(flavor = "multi_thread")]
async fn words_that_are_written_at_once_are_all_seen() {
    let w = world().await;
    run(&w, MANY).await;
    let files: Vec<OriginalId> = ask(&w, "SELECT id::text AS line FROM original WHERE name ~ '^IMG_[1-4][.]' ORDER BY name")
        .await
        .iter()
        .map(|id| OriginalId(id.parse().unwrap()))
        .collect();
    assert_eq!(files.len(), 12);
    let mut writers = tokio::task::JoinSet::new();
    for n in 0..24usize {
        let (catalog, person, now) = (w.catalog.clone(), w.person, w.now + chrono::TimeDelta::seconds(n as i64));
        let mut some = files.clone();
        some.rotate_left(n % 12);
        writers.spawn(async move {
            let change = match n % 6 {
                5 => Change::AsInFile,
                _ => Change::Write { title: Some(format!("Title {n}")), caption: (n % 2 == 0).then(|| format!("Caption {n}")) },
            };
            catalog.write_words(person, &some[..1 + n % 5], &change, now).await
        });
    }
    while let Some(done) = writers.join_next().await {
        done.unwrap().unwrap();
    }
    w.said_right("at once").await;
    assert!(ask(&w, "SELECT o.shot::text AS line FROM words w JOIN original o ON o.id = w.original WHERE NOT w.of_file GROUP BY o.shot HAVING count(*) > 1").await.is_empty());
}
