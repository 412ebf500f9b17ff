//! Where pictures were taken: the database and `core::spot` say the same, and what is counted is what is there.

use ypogeion_catalog::{places::TownAt, scope::Scope};
use ypogeion_core::{
    spot::{Area, DEEPEST, LEVELS, Spot},
    town::Town,
};

use super::{
    World, add_person, pair,
    sql::{ask, run},
    world,
};

/// Pictures of two members in three countries and on an island over the date line, some without a place, some of several files.
const MANY: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source)
    SELECT n.id, d.person, d.id, sha256(n.id::text::bytea), 1, 'IMG_' || n.i, n.id::text, n.id::text, 'photo', n.at, n.at, 'exif',
           CASE n.i % 5
               WHEN 0 THEN '{}'::jsonb
               WHEN 1 THEN jsonb_build_object('place', jsonb_build_array(52.158 + n.i % 90 / 1e5, 4.486 + n.i % 70 / 1e5))
               WHEN 2 THEN jsonb_build_object('place', jsonb_build_array(55.445, 8.37 - n.i % 50 / 1e3))
               WHEN 3 THEN jsonb_build_object('place', jsonb_build_array(-16.8 - n.i % 40 / 1e3, 179.98))
               ELSE jsonb_build_object('place', jsonb_build_array(-16.8, -179.97 + n.i % 40 / 1e3))
           END, now(), CASE WHEN n.i % 9 = 0 AND n.i > 0 THEN n.before ELSE n.id END, n.id::text, 'Camera'
    FROM (
        SELECT i, d, md5(d || ' ' || i)::uuid AS id, md5(d || ' ' || (i - 1))::uuid AS before, timestamp '2020-01-01' + i * interval '1 day' AS at
        FROM generate_series(0, 499) i, generate_series(1, 2) d
    ) n JOIN (SELECT id, person, row_number() OVER (ORDER BY name) AS d FROM device) d ON d.d = n.d";

async fn house() -> World {
    let w = world().await;
    let piet = add_person(&w.catalog, "Piet", w.now).await;
    pair(&w.catalog, piet, b"piets", b"piets token", w.now).await;
    run(
        &w,
        "UPDATE device SET name = CASE WHEN person = (SELECT id FROM person WHERE name = 'Juno') THEN 'Juno’s' ELSE 'Piet’s' END",
    )
    .await;
    run(&w, MANY).await;
    w
}

/// The nearest of three.
fn nearest(spot: Spot) -> TownAt {
    let town = |name: &str, region: &str, country: &str, north, east| TownAt {
        town: Town { id: 0, name: name.into(), region: region.into(), country: country.into() },
        spot: Spot::new(north, east).unwrap(),
    };
    let towns = [
        town("Leiden", "South Holland", "NL", 52.15833, 4.49306),
        town("Nordby", "South Denmark", "DK", 55.44555, 8.39785),
        town("Labasa", "Northern", "FJ", -16.4332, 179.36451),
    ];
    towns.into_iter().min_by(|a, b| a.spot.kilometres(spot).total_cmp(&b.spot.kilometres(spot))).unwrap()
}

impl World {
    /// Names all that has no name yet; in how many portions.
    async fn name_all(&self) -> usize {
        let mut portions = 0;
        loop {
            let spots = self.catalog.spots_without_town(self.person, 20).await.unwrap();
            if spots.is_empty() {
                return portions;
            }
            let found: Vec<(Spot, TownAt)> = spots.into_iter().map(|s| (s, nearest(s))).collect();
            let named = self.catalog.name_spots(self.person, &found).await.unwrap();
            assert!(named.len() >= found.len() && named.iter().all(|t| t.person == self.person));
            portions += 1;
        }
    }

    /// Whether what is counted is what is there, also after it was added up.
    async fn counts_are_right(&self) {
        assert_eq!(ask(self, "SELECT what AS line FROM discrepancy").await, [""; 0]);
        self.catalog.fold_counts().await.unwrap();
        assert_eq!(ask(self, "SELECT what AS line FROM discrepancy").await, [""; 0]);
        assert_eq!(ask(self, "SELECT count(*)::text AS line FROM spot_change").await, ["0"]);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_spot_has_the_same_cell_in_the_database() {
    let w = world().await;
    // All over the earth, at its ends, and where the sixth digit is a half.
    let lines = ask(
        &w,
        "SELECT format('%s %s %s %s %s', n, e, spot_of(jsonb_build_object('place', jsonb_build_array(n, e))), spot_column(s), spot_row(s)) AS line FROM (
             SELECT n, e, spot_of(jsonb_build_object('place', jsonb_build_array(n, e))) AS s FROM (
                 SELECT (hashtext('n' || i)::float8 / 2147483648) * 90 AS n, (hashtext('e' || i)::float8 / 2147483648) * 180 AS e FROM generate_series(1, 3000) i
                 UNION ALL VALUES (90, 180), (-90, -180), (0, 0), (52.1234565, 4.1234575), (-52.1234565, -4.1234575)
             ) p
         ) q",
    )
    .await;
    assert_eq!(lines.len(), 3005);
    for line in lines {
        let parts: Vec<&str> = line.split(' ').collect();
        let spot = Spot::new(parts[0].parse().unwrap(), parts[1].parse().unwrap()).unwrap();
        let cell: i64 = parts[2].parse().unwrap();
        assert_eq!(cell, spot.cell(), "{line}");
        let (x, y): (i64, i64) = (parts[3].parse().unwrap(), parts[4].parse().unwrap());
        assert_eq!(Spot::middle(1, x, y), Some(Spot::of_cell(cell)), "{line}");
    }
    // What is no place.
    for facts in [
        "{}",
        r#"{"place": null}"#,
        r#"{"place": [1]}"#,
        r#"{"place": ["1", "2"]}"#,
        r#"{"place": [91, 0]}"#,
        r#"{"place": [0, 180.1]}"#,
        r#"{"place": {"0": 1}}"#,
    ] {
        assert_eq!(ask(&w, &format!("SELECT coalesce(spot_of('{facts}')::text, 'none') AS line")).await, ["none"], "{facts}");
    }
    assert_eq!(
        ask(&w, "SELECT string_agg(l::text, ' ') AS line FROM spot_levels() l").await[0],
        LEVELS.map(|l| l.to_string()).join(" ")
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_counted_of_places_is_what_is_there() {
    let w = house().await;
    w.counts_are_right().await;
    assert!(w.name_all().await > 1);
    w.counts_are_right().await;
    // Whose turn it was to name them: the other member's are not.
    assert_eq!(ask(&w, "SELECT DISTINCT p.name AS line FROM original o JOIN person p ON p.id = o.person WHERE o.spot IS NOT NULL AND o.town IS NULL").await, ["Piet"]);
    for change in [
        "UPDATE original SET held_at = now() WHERE name LIKE '%7'",
        "UPDATE original SET held_at = NULL WHERE name LIKE '%17'",
        "UPDATE original SET shot = id WHERE name LIKE '%8'",
        // Read anew: one has no place any more, one has another, one has one now.
        "UPDATE original SET facts = '{}' WHERE name = 'IMG_1'",
        r#"UPDATE original SET facts = '{"place": [10, 10]}' WHERE name = 'IMG_2'"#,
        r#"UPDATE original SET facts = '{"place": [52.158, 4.486]}' WHERE name = 'IMG_5'"#,
        r#"UPDATE original SET facts = facts || '{"camera": "x"}'"#,
        "UPDATE original SET taken_local = taken_local + interval '1 hour'",
    ] {
        run(&w, change).await;
        assert_eq!(ask(&w, "SELECT what AS line FROM discrepancy").await, [""; 0], "{change}");
    }
    // Where it was taken follows from what the file says, and the town from that; what did not move keeps its town.
    let told = ask(
        &w,
        "SELECT format('%s %s %s', o.name, o.spot IS NOT NULL, t.name) AS line FROM original o LEFT JOIN town t ON t.id = o.town
         JOIN person p ON p.id = o.person AND p.name = 'Juno' WHERE o.name IN ('IMG_1', 'IMG_2', 'IMG_5', 'IMG_6') ORDER BY o.name",
    );
    // Beside others that have one, the third has the same at once.
    assert_eq!(told.await, ["IMG_1 f ", "IMG_2 t ", "IMG_5 t Leiden", "IMG_6 t Leiden"]);
    w.counts_are_right().await;
    // Should it ever be otherwise, it is found and put right.
    run(&w, "UPDATE spot_tally SET n = n + 3 WHERE level = 8; DELETE FROM town_tally; INSERT INTO town_tally SELECT gen_random_uuid(), min(id), 5 FROM town").await;
    assert!(!w.catalog.miscounts().await.unwrap().is_empty());
    w.counts_are_right().await;
    assert!(w.catalog.miscounts().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_map_shows_all_that_was_taken_there_and_nothing_else() {
    let w = house().await;
    w.name_all().await;
    run(&w, "UPDATE original SET held_at = now() WHERE name LIKE '%7'").await;
    let own = Scope::own(w.person);
    let shown = "o.person = (SELECT id FROM person WHERE name = 'Juno') AND o.leads AND o.held_at IS NULL AND o.spot IS NOT NULL";
    let spots: Vec<Spot> = ask(&w, &format!("SELECT o.spot::text AS line FROM original o WHERE {shown}"))
        .await
        .iter()
        .map(|l| Spot::of_cell(l.parse().unwrap()))
        .collect();
    assert!(spots.len() > 200);
    let areas = [
        [-90.0, -180.0, 90.0, 180.0],
        [52.0, 4.0, 53.0, 5.0],
        [52.158, 4.486, 52.1582, 4.4863],
        [-17.0, 179.0, -16.0, -179.0],
        [60.0, 0.0, 70.0, 20.0],
    ];
    for area in areas.map(|sides| Area::new(sides).unwrap()) {
        for level in LEVELS {
            let found = w.catalog.cells(own, (area, level), None).await.unwrap();
            assert!(!found.more);
            // Each cell that the area has a part of, whole.
            let by = 2 * (DEEPEST - level);
            let count = |cell: i64| spots.iter().filter(|s| s.cell() >> by == cell).count() as u64;
            for cell in &found.cells {
                assert_eq!(cell.count, count(cell.cell), "{area} at {level}");
                assert_eq!(cell.near.as_ref().unwrap().town.name, nearest(cell.middle).town.name);
                let there = ask(
                    &w,
                    &format!(
                        "SELECT (o.spot >> {by})::text AS line FROM original o WHERE {shown} AND o.id = '{}'",
                        cell.picture.0
                    ),
                )
                .await;
                assert_eq!(there, [cell.cell.to_string()]);
            }
            for spot in spots.iter().filter(|s| area.has(**s)) {
                assert!(found.cells.iter().any(|c| c.cell == spot.cell() >> by), "{spot:?} of {area} at {level}");
            }
            assert!(found.cells.windows(2).all(|c| c[0].count >= c[1].count));
        }
    }
    let towns: Vec<(String, u64)> =
        w.catalog.towns_near(w.person).await.unwrap().into_iter().map(|t| (t.at.town.name, t.count)).collect();
    let wanted = ask(&w, &format!("SELECT format('%s %s', t.name, count(*)) AS line FROM original o JOIN town t ON t.id = o.town WHERE {shown} GROUP BY t.name ORDER BY count(*) DESC")).await;
    assert_eq!(towns.iter().map(|(name, n)| format!("{name} {n}")).collect::<Vec<_>>(), wanted);
    // Of others, nothing; also not by an empty library.
    let ulli = add_person(&w.catalog, "Ulli", w.now).await;
    let everywhere = (Area::new([-90.0, -180.0, 90.0, 180.0]).unwrap(), 8);
    assert!(w.catalog.cells(Scope::own(ulli), everywhere, None).await.unwrap().cells.is_empty());
    assert!(w.catalog.towns_near(ulli).await.unwrap().is_empty());
}
