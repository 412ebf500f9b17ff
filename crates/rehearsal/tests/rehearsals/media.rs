//! Files from outside, in the processes that read them.

use std::{
    fs,
    io::Read,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
    process::Command,
    sync::{Arc, mpsc},
    thread,
    time::Duration,
};

use ypogeion_demo::{
    camera::{self, Camera, Shot},
    scenes::{Rng, Scene, draw},
};
use ypogeion_media::{
    confine::{self, Confined},
    worker::{Pool, Work},
};
use ypogeion_rehearsal::{program, wait_for};

use crate::common::{put, world};

fn pool() -> Pool {
    Pool::new(program("ypogeiond").unwrap(), vec!["media-worker".to_owned()], 2, Work::Pictures)
}

/// A second of a test picture.
fn video(folder: &Path, name: &str) -> PathBuf {
    let path = folder.join(name);
    let made = Command::new("ffmpeg")
        .args([
            "-v",
            "error",
            "-nostdin",
            "-f",
            "lavfi",
            "-i",
            "testsrc=duration=1:size=320x240:rate=25",
            "-pix_fmt",
            "yuv420p",
            "-y",
        ])
        .arg(format!("file:{}", path.display()))
        .status()
        .unwrap();
    assert!(made.success());
    path
}

#[test]
fn a_reader_reaches_what_it_was_handed_and_nothing_else() {
    assert_eq!(pool().confinement(), Some(Confined { files: confine::is_known(), network: true }));
}

#[test]
fn a_video_is_read_as_what_its_first_bytes_say() {
    let folder = tempfile::tempdir().unwrap();
    for name in ["clip.mp4", "clip.mov", "clip.avi", "clip.mkv", "clip.webm", "clip.mpg", "clip%d.mp4", "-i.mp4"] {
        let path = video(folder.path(), name);
        let pool = pool();
        let facts = pool.facts(&path, name);
        assert_eq!((facts.width, facts.height, &facts.problem), (Some(320), Some(240), &None), "{name}: {facts:?}");
        let (small, large) = (folder.path().join("small"), folder.path().join("large"));
        assert_eq!(
            pool.preview(&path, name, ypogeion_core::turn::Turn::default(), &small, &large).unwrap().size,
            (320, 240),
            "{name}"
        );
        assert!(fs::metadata(&small).unwrap().len() > 500);
    }
}

/// A list of other files that says in its first bytes that it is a film: guessed at, it is read as the list, and shows what it names.
#[test]
fn a_crafted_video_shows_nobody_elses() {
    let folder = tempfile::tempdir().unwrap();
    let secret = video(folder.path(), "secret.mp4");
    let list = format!(
        "<!--wide--><MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" profiles=\"urn:mpeg:dash:profile:isoff-on-demand:2011\" type=\"static\" \
         mediaPresentationDuration=\"PT1S\" minBufferTime=\"PT1S\"><Period><AdaptationSet mimeType=\"video/mp4\" contentType=\"video\">\
         <Representation id=\"0\" bandwidth=\"1000\" mimeType=\"video/mp4\"><BaseURL>{}</BaseURL></Representation></AdaptationSet></Period></MPD>",
        secret.display()
    );
    let crafted = folder.path().join("IMG_0001.MOV");
    fs::write(&crafted, &list).unwrap();
    let pool = pool();
    let facts = pool.facts(&crafted, "IMG_0001.MOV");
    assert_eq!((facts.media_type.as_deref(), facts.width), (Some("video/quicktime"), None), "{facts:?}");
    let (small, large) = (folder.path().join("small"), folder.path().join("large"));
    assert!(pool.preview(&crafted, "IMG_0001.MOV", ypogeion_core::turn::Turn::default(), &small, &large).is_err());
    assert_eq!(fs::metadata(&large).map_or(0, |m| m.len()), 0);
    // Nor by way of a container that names another file for its pictures (a data reference, ISO/IEC 14496-12).
    let mut bytes = fs::read(&secret).unwrap();
    let at = bytes.windows(4).position(|w| w == b"url ").unwrap();
    // Not self-contained any more; what follows is taken for the place.
    bytes[at + 7] = 0;
    let elsewhere = folder.path().join("elsewhere.mp4");
    fs::write(&elsewhere, &bytes).unwrap();
    let facts = pool.facts(&elsewhere, "elsewhere.mp4");
    assert!(facts.width.is_none() || facts.problem.is_none(), "read or not, and nothing else was opened: {facts:?}");
}

#[test]
fn a_file_that_its_reader_dies_of_costs_one_answer() {
    let folder = tempfile::tempdir().unwrap();
    let good = video(folder.path(), "good.mp4");
    let pool = pool();
    // Nothing is there to be opened, and it is said; then the same child answers for another.
    let facts = pool.facts(&folder.path().join("gone.jpg"), "gone.jpg");
    assert!(facts.problem.unwrap().contains("could not be opened"));
    assert_eq!(pool.facts(&good, "good.mp4").width, Some(320));
}

/// A reader goes on with what it reads when the thread that had it started has long gone: threads that answer requests come and go.
#[test]
fn a_reader_outlives_the_thread_that_wanted_it_first() {
    let folder = tempfile::tempdir().unwrap();
    let (picture, small, large) = (folder.path().join("a.png"), folder.path().join("small"), folder.path().join("large"));
    image::RgbImage::from_pixel(40, 30, image::Rgb([9, 90, 200])).save(&picture).unwrap();
    // It writes the small preview as soon as somebody reads it.
    assert!(Command::new("mkfifo").arg(&small).status().unwrap().success());
    let pool = Arc::new(pool());
    let (leave, left) = mpsc::channel::<()>();
    let (asked, answered) = mpsc::channel();
    let first = thread::spawn({
        let pool = Arc::clone(&pool);
        move || {
            asked.send(pool.confinement().is_some()).unwrap();
            let _ = left.recv();
        }
    });
    assert!(answered.recv().unwrap());
    let second = thread::spawn({
        let (pool, picture, small, large) = (Arc::clone(&pool), picture, small.clone(), large);
        move || pool.preview(&picture, "a.png", ypogeion_core::turn::Turn::default(), &small, &large)
    });
    // On a machine that has no time it may not have begun by then, and nothing is shown; it is never wrong.
    thread::sleep(Duration::from_millis(500));
    drop(leave);
    first.join().unwrap();
    thread::sleep(Duration::from_millis(300));
    let mut taken = fs::File::options().read(true).custom_flags(rustix::fs::OFlags::NONBLOCK.bits() as i32).open(&small).unwrap();
    let mut bytes = Vec::new();
    while !second.is_finished() {
        // Nothing yet, or nobody there.
        let _ = taken.read_to_end(&mut bytes);
        thread::sleep(Duration::from_millis(5));
    }
    assert_eq!(second.join().unwrap().unwrap().size, (40, 30));
}

/// What had no facts because its reader was ended is read again by an upgrade, dated by what it says, and filed where that belongs.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_not_read_when_it_came_is_read_again() {
    let mut w = world().await;
    let (device, source) = w.computer("desktop").await;
    let taken = chrono::NaiveDate::from_ymd_opt(2021, 7, 3).unwrap().and_hms_opt(15, 54, 0).unwrap();
    for n in 0..3u64 {
        let shot = Shot::new(Camera::of_device(0), taken, Scene::Weir.place(), &mut Rng::new(n));
        put(&source, &format!("IMG_{n}.jpg"), &camera::jpeg(&draw(Scene::Weir, n, 0.0, 320, 240), &shot).unwrap()).unwrap();
    }
    // Nobody can read this one, today nor then.
    put(&source, "broken.mp4", b"\0\0\0\x18ftypmp42\0\0\0\0mp42isom and no film").unwrap();
    assert_eq!(device.run(&["backup"]).await.unwrap().code, 0);
    let broken = "SELECT taken_local, taken_rule FROM original WHERE name = 'broken.mp4' AND facts ->> 'problem' IS NOT NULL";
    assert_eq!(w.sql(broken).lines().count(), 1);
    let told =
        "SELECT name, taken_local, taken_rule, facts ->> 'camera', path FROM original WHERE name LIKE 'IMG%' ORDER BY name";
    let before = w.sql(told);
    assert!(
        before.lines().count() == 3 && before.lines().all(|l| l.contains("2021-07-03") && l.contains("juno/2021/07/")),
        "{before}"
    );
    // As it was: dated by the file's time, filed so, and nothing known of it. Of one somebody has said when it was taken.
    let lost = "{\"problem\": \"reading it took too long or too much memory\"}";
    w.sql(&format!(
        "UPDATE original SET facts = '{lost}', taken_local = '2026-11-02 10:00', taken_at = '2026-11-02 10:00', taken_rule = 'received' WHERE name IN ('IMG_0.jpg', 'IMG_1.jpg')"
    ));
    w.sql("UPDATE original SET taken_local = '1999-01-01 10:00', taken_at = '1999-01-01 10:00', taken_rule = 'sidecar' WHERE name = 'IMG_1.jpg'");
    // As a ledger said it, after a rebuilding.
    w.sql(&format!("UPDATE original SET facts = '{lost}', taken_local = '2020-05-05 10:00', taken_at = '2020-05-05 10:00', taken_rule = 'exif' WHERE name = 'broken.mp4'"));
    w.house.kill_service();
    w.sql(include_str!("../../../catalog/migrations/00000000000044_read_again/up.sql"));
    w.house.start_service().await.unwrap();
    wait_for("both to be read", 60, async || {
        Ok((w.sql("SELECT count(*) FROM original WHERE facts ->> 'problem' LIKE '%took too long%'").trim() == "0").then_some(()))
    })
    .await
    .unwrap();
    wait_for("the first to be dated", 60, async || Ok((w.sql(told).lines().next() == before.lines().next()).then_some(())))
        .await
        .unwrap();
    let after = w.sql(told);
    assert!(after.lines().nth(1).unwrap().contains("1999-01-01"), "what somebody said of it stays: {after}");
    assert_eq!(after.lines().nth(2), before.lines().nth(2));
    assert!(w.sql(broken).contains("2020-05-05"), "no guess takes the place of a date");
}
