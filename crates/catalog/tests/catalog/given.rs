//! When and where pictures were taken, and which side of them is up, as people say it: what is kept of it follows from what files and people say, in whatever order they do.

use diesel_async::{AsyncConnection, AsyncPgConnection, SimpleAsyncConnection};
use rstest::rstest;
use ypogeion_catalog::{
    given::{Moved, Place, Time, Turned},
    words::{Change, Says},
};
use ypogeion_core::{OriginalId, caption::Caption, capture::Facts, spot::Spot, turn::Turn};

use super::{
    World,
    sql::{ask, run},
    world,
};

/// Forty pictures of two files each, a minute apart; every other one says where it was taken.
const SOME: &str = r#"
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, shot, shot_key, source, part)
    SELECT n.id, d.person, d.id, sha256(n.id::text::bytea), 1, 'IMG_' || n.i || '.' || n.f, n.id::text, n.id::text, 'photo',
           timestamptz '2024-05-03 12:00Z' + make_interval(mins => n.i), timestamp '2024-05-03 14:00' + make_interval(mins => n.i), 'exif-offset',
           CASE WHEN n.i % 2 = 0 THEN '{"place": [55.445, 8.37]}' ELSE '{"place": null}' END::jsonb, now(), n.shot, n.shot::text, 'Camera', (ARRAY['still', 'raw'])[1 + n.f]
    FROM (
        SELECT i, f, md5(i || ' ' || f)::uuid AS id, md5(i || ' 0')::uuid AS shot FROM generate_series(0, 39) i, generate_series(0, 1) f
    ) n, device d"#;

impl World {
    async fn files(&self, name: &str) -> Vec<OriginalId> {
        let ids = ask(self, &format!("SELECT id::text AS line FROM original WHERE name ~ '{name}' ORDER BY name")).await;
        ids.iter().map(|id| OriginalId(id.parse().unwrap())).collect()
    }

    /// What is known of each file follows from what it says and from what was given; all counts are right.
    async fn given_right(&self, change: &str) {
        let wrong = "
            SELECT o.name || ' ' || o.facts::text AS line FROM original o LEFT JOIN given_place g ON g.original = o.id
            WHERE o.facts -> 'place' IS DISTINCT FROM CASE WHEN g.north IS NOT NULL THEN jsonb_build_array(g.north, g.east)
                                                          WHEN g.original IS NOT NULL THEN 'null' ELSE coalesce(o.facts -> 'place_in_file', o.facts -> 'place') END
               OR (g.original IS NULL) = (o.facts ? 'place_in_file') OR o.spot IS DISTINCT FROM spot_of(o.facts)";
        assert_eq!(ask(self, wrong).await, [""; 0], "{change}");
        let of_a_picture = "
            SELECT o.shot::text AS line FROM original o LEFT JOIN given_place p ON p.original = o.id LEFT JOIN given_time t ON t.original = o.id GROUP BY o.shot
            HAVING count(DISTINCT (p.north, p.east, p.original IS NULL)) > 1 OR count(DISTINCT coalesce(t.seconds, 0)) > 1 OR count(DISTINCT o.taken_at) > 1";
        assert_eq!(ask(self, of_a_picture).await, [""; 0], "{change}");
        assert_eq!(ask(self, "SELECT what AS line FROM discrepancy").await, [""; 0], "{change}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_known_of_a_place_follows_from_what_file_and_people_say() {
    let w = world().await;
    run(&w, SOME).await;
    w.given_right("arrived").await;
    let leiden = Place::At(Spot::new(52.158, 4.486).unwrap());
    let give = async |name: &str, place| {
        let files = w.files(name).await;
        w.catalog.give_place(w.person, &files, place, w.now).await.unwrap()
    };
    // By either of their files, all of a picture's are meant.
    let (touched, count) = give("^IMG_[0-9][.]1$", leiden).await;
    assert_eq!((touched.len(), count), (20, 10));
    w.given_right("given").await;
    let at = "SELECT count(*)::text AS line FROM original WHERE facts -> 'place' = '[52.158, 4.486]'";
    assert_eq!(ask(&w, at).await, ["20"]);
    give("^IMG_[2-4][.]0$", Place::Nowhere).await;
    give("^IMG_2[.]0$", leiden).await;
    w.given_right("given again").await;
    // A file that is read anew says what it says, and what people said stays.
    for change in [
        r#"UPDATE original SET facts = '{"place": [50.8715, 5.6936], "camera": "x"}' WHERE name ~ '^IMG_[0-9]*4[.]'"#,
        r#"UPDATE original SET facts = facts || '{"caption": "x"}'"#,
        "UPDATE original SET facts = '{}' WHERE name ~ '^IMG_1'",
    ] {
        run(&w, change).await;
        w.given_right(change).await;
    }
    assert_eq!(
        ask(&w, "SELECT facts::text AS line FROM original WHERE name = 'IMG_4.0'").await,
        [r#"{"place": null, "camera": "x", "caption": "x", "place_in_file": [50.8715, 5.6936]}"#]
    );
    give("^IMG_[0-9]*[.]0$", Place::AsInFile).await;
    w.given_right("as in file").await;
    assert_eq!(ask(&w, "SELECT count(*)::text AS line FROM original WHERE facts ? 'place_in_file'").await, ["0"]);
    assert_eq!(
        ask(&w, "SELECT (facts -> 'place')::text AS line FROM original WHERE name = 'IMG_4.0'").await,
        ["[50.8715, 5.6936]"]
    );
    assert_eq!(ask(&w, at).await, ["0"]);
    // Several at once, and files that are read anew meanwhile.
    let files = w.files("^IMG_[0-9]*[.][01]$").await;
    let mut givers = tokio::task::JoinSet::new();
    for n in 0..24usize {
        let (catalog, person, now, some) = (w.catalog.clone(), w.person, w.now, files[n..n + 8].to_vec());
        givers.spawn(async move {
            let place = [leiden, Place::Nowhere, Place::AsInFile][n % 3];
            catalog.give_place(person, &some, place, now).await.map(drop)
        });
        let again = w.files(&format!("^IMG_{}[.]{}$", n % 20, n % 2)).await[0];
        let (catalog, now) = (w.catalog.clone(), w.now);
        givers.spawn(async move {
            let facts = Facts { place: Some((n as f64, 0.0)), ..Facts::default() };
            catalog.fetched(again, &facts, None, now).await
        });
    }
    while let Some(done) = givers.join_next().await {
        done.unwrap().unwrap();
    }
    w.given_right("at once").await;
}

fn touched(moved: Moved) -> (usize, u64) {
    match moved {
        Moved::To(touched, count) => (touched.len(), count),
        Moved::Unbelievable(odd) => panic!("{odd}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_time_that_is_said_is_of_the_whole_picture_and_can_be_as_before() {
    let w = world().await;
    run(&w, SOME).await;
    let before = ask(&w, "SELECT name || taken_at || taken_local AS line FROM original ORDER BY name").await;
    let hour = chrono::TimeDelta::hours(1);
    let give = async |name: &str, time| {
        let files = w.files(name).await;
        w.catalog.give_time(w.person, &files, time, w.now).await.unwrap()
    };
    assert_eq!(touched(give("^IMG_[0-4][.]1$", Time::Later(hour * 24 * -365 * 30)).await), (20, 5));
    w.given_right("earlier").await;
    assert_eq!(ask(&w, "SELECT taken_local::text AS line FROM original WHERE name = 'IMG_3.0'").await, ["1994-05-11 14:03:00"]);
    assert_eq!(touched(give("^IMG_[34][.]0$", Time::Later(hour)).await), (8, 2));
    assert_eq!(touched(give("^IMG_[5][.]0$", Time::AsBefore).await), (0, 1), "nobody had said anything");
    w.given_right("later").await;
    // There and back is as if nobody had said anything.
    give("^IMG_9[.]0$", Time::Later(hour)).await;
    give("^IMG_9[.]0$", Time::Later(-hour)).await;
    assert_eq!(ask(&w, "SELECT count(*)::text AS line FROM given_time").await, ["10"]);
    // What is none is refused for all of them.
    for odd in [hour * 24 * 365 * 3, hour * 24 * -366 * 200] {
        let moved = give("^IMG_[0-9]*[.]0$", Time::Later(odd)).await;
        assert!(matches!(moved, Moved::Unbelievable(_)), "{moved:?}");
    }
    w.given_right("refused").await;
    assert_eq!(touched(give("^IMG_[0-9]*[.]0$", Time::AsBefore).await), (20, 40));
    assert_eq!(ask(&w, "SELECT name || taken_at || taken_local AS line FROM original ORDER BY name").await, before);
    assert_eq!(ask(&w, "SELECT count(*)::text AS line FROM given_time").await, ["0"]);
}

/// Whether a correction of the clock comes before or after what somebody said, and whether it is undone before or after that is taken back: at the end all is as it was.
#[rstest]
#[case::corrected_first(true, true)]
#[case::corrected_first_and_undone_last(true, false)]
#[case::corrected_later(false, true)]
#[case::corrected_later_and_undone_last(false, false)]
#[tokio::test(flavor = "multi_thread")]
async fn a_clock_and_a_person_are_both_heard(#[case] corrected_first: bool, #[case] undone_first: bool) {
    let w = world().await;
    run(&w, SOME).await;
    let state = "SELECT name || taken_at || taken_local || coalesce(correction::text, '') AS line FROM original ORDER BY name";
    let before = ask(&w, state).await;
    let hour = chrono::TimeDelta::hours(1);
    let files = w.files("^IMG_7[.]0$").await;
    let device = ypogeion_core::DeviceId(ask(&w, "SELECT id::text AS line FROM device LIMIT 1").await[0].parse().unwrap());
    let id = uuid::Uuid::now_v7();
    let day = |h| chrono::NaiveDate::from_ymd_opt(2024, 5, 3).unwrap().and_hms_opt(h, 0, 0).unwrap();
    let correct = async || w.catalog.correct_clock(id, device, (day(0), day(23)), hour * 2, "Juno", w.now).await.unwrap();
    let say = async |time| w.catalog.give_time(w.person, &files, time, w.now).await.unwrap();
    let seen = async || ask(&w, "SELECT taken_local::text AS line FROM original WHERE name = 'IMG_7.1'").await.remove(0);
    if corrected_first {
        assert_eq!(correct().await, 80);
        say(Time::Later(hour)).await;
        assert_eq!(seen().await, "2024-05-03 17:07:00");
    } else {
        say(Time::Later(hour)).await;
        assert_eq!(correct().await, 78, "what somebody said is right");
        assert_eq!(seen().await, "2024-05-03 15:07:00");
    }
    w.given_right("both").await;
    let said = seen().await;
    if undone_first {
        w.catalog.undo_correction(id, device, w.now).await.unwrap();
        assert_eq!(seen().await, said, "what somebody said stays");
        say(Time::AsBefore).await;
    } else {
        say(Time::AsBefore).await;
        w.catalog.undo_correction(id, device, w.now).await.unwrap();
    }
    w.given_right("neither").await;
    assert_eq!(ask(&w, state).await, before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_is_as_wide_and_as_high_as_its_file_says_and_people_turned_it() {
    let w = world().await;
    run(&w, SOME).await;
    let anew = r#"UPDATE original SET facts = '{"width": 40, "height": 30, "orientation": 6}' WHERE name ~ '^IMG_[0-9][.]'"#;
    run(&w, anew).await;
    run(&w, "UPDATE original SET kind = 'video' WHERE name ~ '^IMG_9'; UPDATE original SET preview = 'ready', placeholder = 'x'")
        .await;
    let right = async |change: &str| {
        let wrong = "
            SELECT o.name || ' ' || o.facts::text AS line FROM original o LEFT JOIN given_turn g ON g.original = o.id
            WHERE (o.facts -> 'turned')::int IS DISTINCT FROM g.quarters
               OR o.facts ? 'width' AND (o.facts ->> 'width' = '40') = (coalesce(g.quarters, 0) % 2 = 1)
               OR o.facts ? 'width' AND (o.facts ->> 'height' = '30') = (coalesce(g.quarters, 0) % 2 = 1)
               OR o.kind = 'video' AND g.original IS NOT NULL";
        assert_eq!(ask(&w, wrong).await, [""; 0], "{change}");
        let of_a_picture = "SELECT shot::text AS line FROM original o LEFT JOIN given_turn g ON g.original = o.id
                            GROUP BY shot HAVING count(DISTINCT coalesce(g.quarters, 0)) > 1";
        assert_eq!(ask(&w, of_a_picture).await, [""; 0], "{change}");
        assert_eq!(ask(&w, "SELECT what AS line FROM discrepancy").await, [""; 0], "{change}");
    };
    let give = async |name: &str, turned| {
        let files = w.files(name).await;
        let (touched, count, named) = w.catalog.give_turn(w.person, &files, turned, w.now).await.unwrap();
        (touched.len(), count, named)
    };
    // By either of their files, all of a picture's are meant; ten films of two files are none.
    assert_eq!(give("^IMG_[0-9][.]1$", Turned::By(Turn::of(1))).await, (18, 9, 10));
    right("turned").await;
    let waiting = "SELECT count(*)::text AS line FROM original o JOIN job j ON j.key = o.id AND j.kind = 'preview' WHERE preview = 'waiting' AND placeholder IS NULL";
    assert_eq!(ask(&w, waiting).await, ["18"]);
    assert_eq!(give("^IMG_[23][.]", Turned::By(Turn::of(2))).await, (4, 2, 2));
    assert_eq!(give("^IMG_1[.]", Turned::By(Turn::of(-1))).await, (2, 1, 1));
    assert_eq!(give("^IMG_2[0-9][.]", Turned::By(Turn::of(3))).await, (20, 10, 10), "without a known width");
    right("turned again").await;
    for change in [anew, r#"UPDATE original SET facts = facts || '{"caption": "x"}'"#] {
        run(&w, change).await;
        right(change).await;
    }
    // What was made of it as it lay before is not what is shown of it now.
    let one = w.files("^IMG_2[.]0$").await[0];
    let state = "SELECT concat(preview, ' ', placeholder) AS line FROM original WHERE name = 'IMG_2.0'";
    assert!(!w.catalog.set_preview(one, Turn::of(1), Some("y")).await.unwrap());
    assert_eq!(ask(&w, state).await, ["waiting "]);
    assert!(w.catalog.set_preview(one, Turn::of(3), Some("y")).await.unwrap());
    assert_eq!(ask(&w, state).await, ["ready y"]);
    let notes = w.catalog.notes(&[one]).await.unwrap();
    assert_eq!(notes[&one].orientation, Some(1), "6, and three quarters more");
    // Several at once, and files that are read anew meanwhile.
    let files = w.files("^IMG_[0-9][.][01]$").await;
    let mut turners = tokio::task::JoinSet::new();
    for n in 0..24usize {
        let (catalog, person, now, some) = (w.catalog.clone(), w.person, w.now, files[n % 12..n % 12 + 8].to_vec());
        turners.spawn(async move {
            let turned = if n % 5 == 4 { Turned::AsInFile } else { Turned::By(Turn::of(n as i64)) };
            catalog.give_turn(person, &some, turned, now).await.map(drop)
        });
        let (url, one) = (w.cluster.url(), anew.replace("~ '^IMG_[0-9][.]'", &format!("= 'IMG_{}.{}'", n % 10, n % 2)));
        turners.spawn(async move {
            AsyncPgConnection::establish(&url).await.unwrap().batch_execute(&one).await.unwrap();
            Ok(())
        });
    }
    while let Some(done) = turners.join_next().await {
        done.unwrap().unwrap();
    }
    right("at once").await;
    give("^IMG_", Turned::AsInFile).await;
    assert_eq!(
        ask(&w, "SELECT count(*)::text AS line FROM original WHERE facts ? 'turned' OR facts ->> 'width' = '30'").await,
        ["0"]
    );
}

/// Files of one picture are read anew at once, by whatever way, while people say something of it.
#[tokio::test(flavor = "multi_thread")]
async fn nobody_waits_in_a_circle_for_the_files_of_a_picture() {
    let w = world().await;
    run(&w, SOME).await;
    let files = w.files("^IMG_[0-3][.]").await;
    for round in 0..12i64 {
        let mut all = tokio::task::JoinSet::new();
        let caption = format!("the weir, {round}");
        for file in files.clone() {
            let (catalog, now, caption) = (w.catalog.clone(), w.now, caption.clone());
            all.spawn(async move {
                let facts = Facts { caption: Some(caption), width: Some(40), height: Some(30), ..Facts::default() };
                catalog.fetched(file, &facts, None, now).await
            });
        }
        let (catalog, person, now, some) = (w.catalog.clone(), w.person, w.now, files.clone());
        all.spawn(async move { catalog.give_place(person, &some, Place::Nowhere, now).await.map(drop) });
        let (catalog, some) = (w.catalog.clone(), files.clone());
        all.spawn(async move { catalog.give_turn(person, &some, Turned::By(Turn::of(1)), now).await.map(drop) });
        let (catalog, some) = (w.catalog.clone(), files.clone());
        all.spawn(async move {
            let change = Change::Write { title: Some(format!("{round}")), caption: None };
            catalog.write_words(person, &some, &change, now).await.map(drop)
        });
        let (catalog, now, some) = (w.catalog.clone(), w.now, files.iter().rev().copied().collect::<Vec<_>>());
        all.spawn(async move {
            let read: Vec<_> = some
                .into_iter()
                .map(|id| (id, Says { words: Caption { title: String::new(), caption: "read".into() }, film: None }))
                .collect();
            catalog.words_read(&read, now).await.map(drop)
        });
        while let Some(done) = all.join_next().await {
            done.unwrap().unwrap();
        }
        assert_eq!(ask(&w, "SELECT what AS line FROM discrepancy").await, [""; 0], "{round}");
    }
}
