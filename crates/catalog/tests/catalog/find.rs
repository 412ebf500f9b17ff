//! What somebody looks for is found: the same as if every picture were looked at, and without looking at every one.

use std::collections::BTreeSet;

use chrono::NaiveDate;
use diesel::sql_query;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl, SimpleAsyncConnection};
use uuid::Uuid;
use ypogeion_catalog::{find::Sought, scope::Scope};
use ypogeion_core::find::{self, days::Span};

use super::{World, add_person, pair, sql::ask, world};

/// Six years of pictures, one a day, of two members: shots of several files, deleted ones, names with accents and signs.
const MANY: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source)
    SELECT n.id, d.person, CASE WHEN n.i % 7 <> 0 THEN d.id END, sha256(n.id::text::bytea), 1, n.name, n.folder || '/' || n.id, n.id::text,
           CASE WHEN n.i % 11 = 0 THEN 'video' ELSE 'photo' END, n.at, n.at, 'exif',
           CASE n.i % 5 WHEN 0 THEN '{}' WHEN 1 THEN '{\"camera\": \"Fujifilm X100V\", \"lens\": \"23mm F2\"}' ELSE '{\"camera\": \"Google Pixel 8\"}' END::jsonb,
           now(), n.id, n.id::text, CASE WHEN n.i % 13 = 0 THEN 'Screenshots' ELSE 'Camera' END
    FROM (
        SELECT i, d, ('00000000-0000-7000-80' || lpad(to_hex(d), 2, '0') || '-' || lpad(to_hex(i), 12, '0'))::uuid AS id,
               CASE WHEN i % 17 = 0 THEN 'Café_100%.jpg' WHEN i % 19 = 0 THEN 'cafe 100 b.jpg' ELSE 'IMG_' || i || '.jpg' END AS name,
               CASE WHEN i % 23 = 0 THEN 'juno/Zürich Brücke' ELSE 'juno/2020' END AS folder,
               timestamp '2020-01-01 00:30' + i * interval '1 day' AS at
        FROM generate_series(0, 2191) i, generate_series(1, 2) d
    ) n JOIN (SELECT id, person, row_number() OVER (ORDER BY name) AS d FROM device) d ON d.d = n.d;
    -- Every 29th has a raw file behind it, every 31st is deleted.
    INSERT INTO original (id, person, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source, part)
    SELECT md5('raw' || id)::uuid, person, sha256(('raw' || id)::bytea), 1, 'DSC_' || right(id::text, 4) || '.RAF', 'juno/raw/' || id, 'raw' || id, 'raw', taken_at, taken_local, 'exif', '{}',
           now(), id, 'raw' || id, 'Camera', 'raw'
    FROM original WHERE ('x' || right(id::text, 8))::bit(32)::int % 29 = 0;
    UPDATE original SET held_at = now() WHERE ('x' || right(id::text, 8))::bit(32)::int % 31 = 0 AND kind <> 'raw';
    -- Of some only the raw file is.
    UPDATE original SET held_at = now() WHERE name IN ('DSC_0740.RAF', 'DSC_001d.RAF');
    INSERT INTO standing (original, place, good, since) SELECT id, '00000000-0000-0000-0000-000000000000', name <> 'IMG_1.jpg', now() FROM original;
    ANALYZE";

/// Ten times as many; what is counted of them is not asked.
const MORE: &str = "
    SET session_replication_role = replica;
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source)
    SELECT n.id, person, device, sha256(n.id::text::bytea), 1, 'DSCF' || n.i || right(o.id::text, 5), path, n.id::text, 'photo', taken_at, taken_local, 'exif', '{}', now(), n.id,
           n.id::text, 'Camera'
    FROM original o, LATERAL (SELECT i, gen_random_uuid() AS id FROM generate_series(1, 9) i WHERE o.id IS NOT NULL) n;
    INSERT INTO said (shot, person, original, of_file, title, caption) SELECT id, person, id, true, '', name FROM original WHERE leads ON CONFLICT DO NOTHING";

async fn house() -> World {
    let w = world().await;
    let piet = add_person(&w.catalog, "Piet", w.now).await;
    pair(&w.catalog, piet, b"piets", b"piets token", w.now).await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    sql_query("UPDATE device SET name = CASE WHEN person = (SELECT id FROM person WHERE name = 'Juno') THEN 'Juno’s phone' ELSE 'Piet’s phone' END")
        .execute(&mut c)
        .await
        .unwrap();
    c.batch_execute(MANY).await.unwrap();
    // Some say where they were taken.
    c.batch_execute(
        r#"UPDATE original SET facts = facts || '{"place": [52.158, 4.486]}' WHERE name ~ '^IMG_[0-9]*[15].jpg$';
           UPDATE original SET facts = facts || '{"place": [55.445, 8.37]}' WHERE name ~ '^IMG_[0-9]*2.jpg$';
           INSERT INTO town (name, region, country, north, east) VALUES ('Leiden', 'South Holland', 'NL', 52.15833, 4.49306), ('Nordby', 'South Denmark', 'DK', 55.44555, 8.39785),
               ('Zurich', 'Zurich', 'CH', 47.36667, 8.55);
           UPDATE original o SET town = t.id FROM town t WHERE t.country = CASE WHEN o.name ~ '[15].jpg$' THEN 'NL' ELSE 'DK' END AND o.spot IS NOT NULL;
           UPDATE original o SET town = (SELECT id FROM town WHERE country = 'CH') WHERE name = 'IMG_22.jpg' AND o.spot IS NOT NULL"#,
    )
    .await
    .unwrap();
    // What somebody else likes is no favourite of hers.
    c.batch_execute(
        "INSERT INTO favourite SELECT person, id FROM original WHERE name ~ '^IMG_7';
         INSERT INTO favourite SELECT p.id, o.id FROM original o, person p WHERE p.name = 'Piet' AND o.name ~ '^IMG_8';
         -- One of hers, with raw files that stand for their pictures; one that she sees, with pictures of both; and one that she does not see.
         INSERT INTO album (id, person, name, household, made_at)
         SELECT ('00000000-0000-7000-9000-00000000000' || n)::uuid, p.id, a, h, now() FROM person p
         JOIN (VALUES (1, 'Juno', 'Gulls', NULL), (2, 'Piet', 'The fair', 'look'), (3, 'Piet', 'Secret', NULL)) AS v (n, who, a, h) ON v.who = p.name;
         INSERT INTO album_picture SELECT '00000000-0000-7000-9000-000000000001', id, NULL, now() FROM original WHERE kind = 'raw' AND name ~ '[05]\\.RAF$';
         INSERT INTO album_picture SELECT a.id, o.id, NULL, now() FROM original o, album a WHERE a.name <> 'Gulls' AND o.name ~ '^IMG_9';
         -- Files say something, also those that stand behind or are deleted; people wrote over some of it.
         UPDATE original SET facts = facts || '{\"title\": \"\", \"caption\": \"Höhle am Abend\"}' WHERE name ~ '^IMG_6' OR name ~ '3\\.RAF$';
         UPDATE original SET facts = facts || '{\"title\": \"Höhle\", \"caption\": null}' WHERE name ~ '^IMG_4';
         INSERT INTO words (original, of_file, title, caption, written_at) SELECT id, false, 'Kites', '50% wind', now() FROM original WHERE name ~ '^IMG_(61|5)' AND kind <> 'raw';
         INSERT INTO words (original, of_file, title, caption, written_at) SELECT id, false, '', '', now() FROM original WHERE name ~ '^IMG_41';
         UPDATE original SET landed_at = CASE WHEN name ~ '^IMG_3' THEN '2021-03-05 12:00'::timestamptz ELSE '2024-12-25 12:00' END;
         UPDATE original o SET put_away = true WHERE o.shot IN (SELECT id FROM original WHERE name ~ '^IMG_14')",
    )
    .await
    .unwrap();
    w
}

impl World {
    async fn sought(&self, line: &str) -> Sought {
        let vocabulary = self.catalog.vocabulary(Scope::own(self.person)).await.unwrap();
        let request = find::read(line, &vocabulary, "2026-11-30".parse::<NaiveDate>().unwrap());
        assert_eq!(request.unknown, [], "{line}");
        let years = self.catalog.years(Scope::own(self.person)).await.unwrap().unwrap();
        assert_eq!(years, (2020, 2025));
        Sought::new(request, years, self.now)
    }
}

/// Each line, and what PostgreSQL says of pictures that are like that when it looks at each.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_found_is_what_is_so() {
    let w = house().await;
    let file = |what: &str| format!("EXISTS (SELECT FROM original f WHERE f.shot = o.id AND f.held_at IS NULL AND {what})");
    let town = "(SELECT t.name FROM town t WHERE t.id = o.town)";
    // What a picture is in, it is in by any of its files, also by one that is deleted.
    // What is said of a picture: what somebody wrote last, what its own file says, what another one says.
    let written = "EXISTS (SELECT FROM original f JOIN words w ON w.original = f.id WHERE f.shot = o.id AND NOT w.of_file AND f.held_at IS NULL)";
    let hohle = format!("(NOT {written} AND (o.name ~ '^IMG_[46]' OR {}))", file("f.name ~ '3\\.RAF$'"));
    let gulls = "EXISTS (SELECT FROM original f WHERE f.shot = o.id AND f.kind = 'raw' AND f.name ~ '[05]\\.RAF$')";
    let cases = [
        ("2023", "extract(year FROM o.taken_local) = 2023".to_owned()),
        ("videos may 2023", "o.kind = 'video' AND to_char(o.taken_local, 'YYYY-MM') = '2023-05'".to_owned()),
        ("christmas", "to_char(o.taken_local, 'MM-DD') IN ('12-24', '12-25', '12-26')".to_owned()),
        (
            "not christmas photos",
            "o.kind = 'photo' AND to_char(o.taken_local, 'MM-DD') NOT IN ('12-24', '12-25', '12-26')".to_owned(),
        ),
        ("new year", "to_char(o.taken_local, 'MM-DD') IN ('12-31', '01-01')".to_owned()),
        ("29 february", "to_char(o.taken_local, 'MM-DD') = '02-29'".to_owned()),
        ("winter 2022", "o.taken_local >= '2022-12-01' AND o.taken_local < '2023-03-01'".to_owned()),
        ("since 3 may 2024 before june 2024", "o.taken_local >= '2024-05-03' AND o.taken_local < '2024-06-01'".to_owned()),
        ("2021 2022", "false".to_owned()),
        ("raw", file("f.kind = 'raw'")),
        ("dsc_", file("f.name LIKE 'DSC%'")),
        ("not raw 2020", format!("extract(year FROM o.taken_local) = 2020 AND NOT {}", file("f.kind = 'raw'"))),
        ("screenshots", "o.source = 'Screenshots'".to_owned()),
        ("favourites", "o.name ~ '^IMG_7'".to_owned()),
        ("not favorites 2020", "extract(year FROM o.taken_local) = 2020 AND o.name !~ '^IMG_7'".to_owned()),
        ("gulls", gulls.to_owned()),
        ("not gulls raw", format!("{} AND NOT {gulls}", file("f.kind = 'raw'"))),
        ("album fair 2022", "o.name ~ '^IMG_9' AND extract(year FROM o.taken_local) = 2022".to_owned()),
        ("secret", "false".to_owned()),
        ("leiden", format!("{town} = 'Leiden'")),
        ("not near leiden 2020", format!("extract(year FROM o.taken_local) = 2020 AND coalesce({town}, '') <> 'Leiden'")),
        (
            "in the netherlands, photos 2021",
            format!("{town} = 'Leiden' AND o.kind = 'photo' AND extract(year FROM o.taken_local) = 2021"),
        ),
        ("denmark 29 february", format!("{town} = 'Nordby' AND to_char(o.taken_local, 'MM-DD') = '02-29'")),
        ("zurich", format!("({town} = 'Zurich' OR o.path LIKE 'juno/Zürich%')")),
        ("52.1/4.4..52.2/4.5 2022", format!("{town} = 'Leiden' AND extract(year FROM o.taken_local) = 2022")),
        ("not 52.1/4.4..52.2/4.5 2022", format!("{town} IS DISTINCT FROM 'Leiden' AND extract(year FROM o.taken_local) = 2022")),
        ("60/4..61/5", "false".to_owned()),
        ("CAFE", "o.name ILIKE 'caf%'".to_owned()),
        ("100%", "o.name = 'Café_100%.jpg'".to_owned()),
        ("img_10", "o.name ~ '^IMG_10'".to_owned()),
        ("\"Zurich brucke\"", "o.path LIKE 'juno/Zürich%'".to_owned()),
        ("juno", "o.device IS NOT NULL".to_owned()),
        ("phone photos", "o.device IS NOT NULL AND o.kind = 'photo'".to_owned()),
        ("x100v", "o.facts ->> 'camera' LIKE 'Fuji%'".to_owned()),
        ("not x100v", "coalesce(o.facts ->> 'camera', '') NOT LIKE 'Fuji%'".to_owned()),
        ("\"23mm\"", "o.facts ->> 'lens' = '23mm F2'".to_owned()),
        ("damaged", "o.name = 'IMG_1.jpg'".to_owned()),
        ("no copy offsite 2020", "extract(year FROM o.taken_local) = 2020".to_owned()),
        ("offsite", "false".to_owned()),
        ("nothing has this name", "false".to_owned()),
        ("hohle", format!("{hohle} AND NOT o.put_away")),
        ("abend not hohle", "false".to_owned()),
        ("not HÖHLE 2021", format!("extract(year FROM o.taken_local) = 2021 AND NOT {hohle}")),
        ("kites", "o.name ~ '^IMG_(61|5)'".to_owned()),
        ("\"50% wind\"", "o.name ~ '^IMG_(61|5)'".to_owned()),
        ("arrived march 2021", "o.name ~ '^IMG_3'".to_owned()),
        ("came on 5 march videos", "o.name ~ '^IMG_3' AND o.kind = 'video'".to_owned()),
        ("not received before 2022", "o.name !~ '^IMG_3'".to_owned()),
        ("taken 2021 added at christmas", "o.name !~ '^IMG_3' AND extract(year FROM o.taken_local) = 2021".to_owned()),
        ("came lately", "false".to_owned()),
        ("put away", "o.put_away".to_owned()),
        ("put away videos", "o.put_away AND o.kind = 'video'".to_owned()),
        ("not put away screenshots", "o.source = 'Screenshots'".to_owned()),
        ("img_14 put away", "o.name ~ '^IMG_14'".to_owned()),
        ("img_14", "false".to_owned()),
    ];
    let own = "o.person = (SELECT id FROM person WHERE name = 'Juno') AND o.shot = o.id AND o.held_at IS NULL";
    let mut somewhere = BTreeSet::new();
    for (line, so) in cases {
        // What was put away is found by who asks for it.
        let shown = if so.contains("o.put_away") || line.starts_with("img_14 ") {
            own.to_owned()
        } else {
            format!("{own} AND NOT o.put_away")
        };
        let wanted = ask(
            &w,
            &format!("SELECT o.id::text AS line FROM original o WHERE {shown} AND ({so}) ORDER BY o.taken_local DESC, o.id DESC"),
        )
        .await;
        let sought = w.sought(line).await;
        // Page by page, by month, and by one's neighbours, they are the same.
        let (mut found, mut after) = (Vec::new(), None);
        loop {
            let page = w.catalog.originals(Scope::own(w.person), Span::ALL, after, 700, Some(&sought)).await.unwrap();
            let Some(last) = page.last() else { break };
            after = Some((last.taken_local, last.id));
            found.extend(page.into_iter().map(|c| c.id.0));
        }
        let text: Vec<String> = found.iter().map(Uuid::to_string).collect();
        assert_eq!(text, wanted, "{line}");
        let months = w.catalog.months_of(Scope::own(w.person), Some(&sought)).await.unwrap();
        assert_eq!(months.iter().map(|(_, n)| n).sum::<u64>(), wanted.len() as u64, "{line}");
        assert!(months.windows(2).all(|m| m[0].0 > m[1].0), "{line}");
        for (month, n) in months.iter().take(3) {
            let from: NaiveDate = format!("{month}-01").parse().unwrap();
            let span = Span { from, until: from + chrono::Months::new(1) };
            assert_eq!(
                w.catalog.sizes_of(Scope::own(w.person), span, Some(&sought)).await.unwrap().len() as u64,
                *n,
                "{line} {month}"
            );
        }
        assert_eq!(w.catalog.count_of(Scope::own(w.person), &sought, 100_000).await.unwrap(), wanted.len() as u64, "{line}");
        assert_eq!(w.catalog.count_of(Scope::own(w.person), &sought, 3).await.unwrap(), 3.min(wanted.len() as u64), "{line}");
        for at in [0, found.len() / 2, found.len().saturating_sub(1)].into_iter().filter(|at| *at < found.len()) {
            let one = w.catalog.original(ypogeion_core::OriginalId(found[at]), Some(w.person)).await.unwrap();
            let (newer, older) = w.catalog.beside(Scope::own(w.person), one.taken_local, one.id, Some(&sought)).await.unwrap();
            let beside = (at.checked_sub(1).map(|n| found[n]), found.get(at + 1).copied());
            assert_eq!((newer.map(|id| id.0), older.map(|id| id.0)), beside, "{line} at {at}");
        }
        somewhere.extend((!wanted.is_empty()).then_some(line));
    }
    assert!(somewhere.len() > 20, "most lines find something: {somewhere:?}");
    // Nobody else's cameras and devices are words of one's own.
    let vocabulary = w.catalog.vocabulary(Scope::own(w.person)).await.unwrap();
    assert_eq!(vocabulary.cameras, ["Fujifilm X100V", "Google Pixel 8"]);
    assert_eq!(vocabulary.devices.into_iter().map(|(_, name)| name).collect::<Vec<_>>(), ["Juno’s phone"]);
}

/// With as many pictures as a household has, none of this is gone through.
#[tokio::test(flavor = "multi_thread")]
async fn what_few_are_is_found_by_an_index() {
    let w = house().await;
    let mut c = AsyncPgConnection::establish(&w.cluster.url()).await.unwrap();
    c.batch_execute(MORE).await.unwrap();
    c.batch_execute("VACUUM ANALYZE original, said").await.unwrap();
    for (line, index) in [
        ("img_2123", "original_searched"),
        ("img_2123", "said_searched"),
        ("videos", "original_kind"),
        ("x100v", "original_camera"),
        ("arrived march 2021", "original_arrived"),
        ("raw", "original_kind"),
    ] {
        let sought = w.sought(line).await;
        let before = scans(&w, index).await;
        let mut more = false;
        // A connection tells with what it does next what it did before, once in a second.
        for _ in 0..100 {
            w.catalog.months_of(Scope::own(w.person), Some(&sought)).await.unwrap();
            more = scans(&w, index).await > before;
            if more {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
        assert!(more, "{line} is not found by {index}");
    }
}

async fn scans(w: &World, index: &str) -> u64 {
    ask(w, &format!("SELECT idx_scan::text AS line FROM pg_stat_user_indexes WHERE indexrelname = '{index}'")).await[0]
        .parse()
        .unwrap()
}
