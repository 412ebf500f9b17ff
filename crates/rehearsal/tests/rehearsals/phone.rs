//! A phone's days: conditions, interruptions, edits, selections, and what the household knows of it meanwhile.

use std::{sync::Arc, time::Duration};

use crate::common::{self, World, world};
use chrono::{NaiveDate, NaiveDateTime, NaiveTime, TimeDelta};
use reqwest::Method;
use rstest::rstest;
use serde_json::{Value, json};
use ypogeion_agent::{
    cache::Begun,
    home::Home,
    order::{self, Order},
    platform::{Linux, Platform},
    scan,
    watch::{Seen, Watching, watch},
};
use ypogeion_core::{
    Digest,
    clearance::RoomRule,
    condition::{Conditions, Hours, Mobile, Network, Schedule},
    source::Sort,
};
use ypogeion_rehearsal::{pocket::Pocket, wait_for};
use ypogeion_standins::phone::Phone;

fn noon() -> NaiveDateTime {
    NaiveDate::from_ymd_opt(2026, 4, 12).unwrap().and_hms_opt(12, 0, 0).unwrap()
}

fn at(hour: u32) -> NaiveTime {
    NaiveTime::from_hms_opt(hour, 0, 0).unwrap()
}

async fn pocket(w: &World) -> Pocket {
    let address = w.keeper.pairing("Juno").await.unwrap();
    let pocket = Pocket::pair(&w.folder.path().join("phone"), &address, "Juno's phone", 1 << 30, noon()).await.unwrap();
    pocket.phone.take("Camera", "IMG_20260412_101500.jpg", b"a kite").unwrap();
    pocket.phone.take("Camera", "VID_20260412_101600.mp4", b"a film of a kite").unwrap();
    pocket
}

async fn device(w: &World) -> Value {
    w.keeper.ask(Method::GET, "api/devices", None).await.unwrap()[0].clone()
}

#[rstest]
#[case::no_network(|_: &mut Conditions| {}, |p: &Phone| p.join(Network::None, false), "a network")]
#[case::mobile_data(|_: &mut Conditions| {}, |p: &Phone| p.join(Network::Mobile, false), "Wi-Fi")]
#[case::a_hotspot(|_: &mut Conditions| {}, |p: &Phone| p.metered(Some(true)), "Wi-Fi")]
#[case::elsewhere(|c: &mut Conditions| c.home_network_only = true, |p: &Phone| p.join(Network::Wifi, false), "the network at home")]
#[case::not_charging(|c: &mut Conditions| c.charging_only = true, |_: &Phone| {}, "the charger")]
#[case::low_battery(|_: &mut Conditions| {}, |p: &Phone| p.set_battery(12), "the battery")]
#[case::not_its_hour(|c: &mut Conditions| c.hours = Some(Hours { from: at(22), until: at(6) }), |_: &Phone| {}, "22:00")]
#[tokio::test(flavor = "multi_thread")]
async fn a_phone_waits_and_says_what_for(
    #[case] demand: fn(&mut Conditions),
    #[case] happens: fn(&Phone),
    #[case] waits_for: &str,
) {
    let w = world().await;
    let p = pocket(&w).await;
    p.set(|home| demand(&mut home.state.conditions)).unwrap();
    happens(&p.phone);
    let held = p.back_up(false).await.unwrap();
    let reason = held.halted.unwrap();
    assert!(reason.starts_with("waiting for ") && reason.contains(waits_for), "{reason}");
    assert_eq!(device(&w).await["waiting_for"], reason.as_str(), "the household hears of it");
    assert!(common::library_files(&w.house).is_empty());
    // Everything as it should be: it goes by itself, and waits for nothing any more.
    p.phone.join(Network::Wifi, true);
    p.phone.metered(Some(false));
    p.phone.plug(true);
    p.phone.set_clock(noon() + TimeDelta::hours(11));
    let done = p.back_up(false).await.unwrap();
    assert_eq!((done.halted, done.counts.sent), (None, 2));
    assert_eq!(device(&w).await["waiting_for"], Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn photos_go_over_mobile_data_and_videos_wait() {
    let w = world().await;
    let p = pocket(&w).await;
    p.set(|home| home.state.conditions.mobile = Mobile::Photos).unwrap();
    p.phone.join(Network::Mobile, false);
    let out = p.back_up(false).await.unwrap();
    assert_eq!((out.counts.sent, out.counts.skipped, out.counts.failed), (1, 1, 0));
    assert!(
        out.entries.iter().any(|e| e.name.ends_with(".mp4") && e.reason.as_deref().unwrap().contains("videos wait for Wi-Fi"))
    );
    assert_eq!(device(&w).await["waiting"], 1, "the household knows what is still to come");
    p.phone.join(Network::Wifi, true);
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_schedule_is_kept_made_up_for_and_overruled_by_a_tap() {
    let w = world().await;
    let p = pocket(&w).await;
    p.set(|home| home.state.conditions.schedule = Schedule::Day { at: at(3) }).unwrap();
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 2, "the first time is at once");
    p.phone.take("Camera", "IMG_20260412_120000.jpg", b"another").unwrap();
    p.phone.pass(TimeDelta::hours(2));
    p.phone.plug(true);
    assert!(p.back_up(false).await.unwrap().halted.unwrap().contains("Monday 13 April, 03:00"));
    assert_eq!(p.back_up(true).await.unwrap().counts.sent, 1, "a person asked");
    p.phone.take("Camera", "IMG_20260412_150000.jpg", b"a third").unwrap();
    // It was off at three; when it is on again, the missed time is made up for.
    p.phone.pass(TimeDelta::hours(20));
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 1);
    // A clock set back by years keeps nothing waiting.
    p.phone.set_clock(noon() - TimeDelta::days(4000));
    p.phone.take("Camera", "IMG_20260413_150000.jpg", b"a fourth").unwrap();
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edit_is_a_new_version_and_a_deletion_deletes_nothing_at_home() {
    let w = world().await;
    let p = pocket(&w).await;
    p.back_up(false).await.unwrap();
    p.phone.edit("Camera", "IMG_20260412_101500.jpg", b"a kite, brighter").unwrap();
    p.phone.delete("Camera", "VID_20260412_101600.mp4").unwrap();
    let second = p.back_up(false).await.unwrap();
    assert_eq!(second.counts.sent, 1);
    assert_eq!(
        common::library_files(&w.house),
        [
            "juno/2026/04/IMG_20260412_101500 (2).jpg",
            "juno/2026/04/IMG_20260412_101500.jpg",
            "juno/2026/04/VID_20260412_101600.mp4"
        ]
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_interrupted_upload_goes_on_in_the_next_run_where_the_server_stands() {
    let w = world().await;
    let p = pocket(&w).await;
    let film: Vec<u8> = (0..20_000_000u32).map(|n| (n / 3) as u8).collect();
    p.phone.take("Camera", "VID_20260412_110000.mp4", &film).unwrap();
    let home = p.home().unwrap();
    let paired = home.paired().unwrap();
    let raw = common::Raw {
        http: reqwest::Client::builder().no_proxy().danger_accept_invalid_certs(false).build().unwrap(),
        base: w.house.http.clone(),
        token: paired.token.clone(),
    };
    // As the run before left it: begun, three quarters there, remembered.
    let sha = Digest::of(&film).to_string();
    let place =
        raw.create(film.len(), &common::metadata(&[("filename", "Camera/VID_20260412_110000.mp4"), ("sha256", &sha)])).await;
    assert_eq!(raw.append(&place, 0, &film[..15_000_000]).await.status, 204);
    let mut files = Vec::new();
    scan::walk(&home.state.sources[0], |f| files.push(f), |_| {});
    let file = files.iter().find(|f| f.name.ends_with("110000.mp4")).unwrap();
    let begun = Begun { stamp: file.stamp, digest: Digest::of(&film), place: place.trim_start_matches('/').to_owned() };
    home.cache().unwrap().set_begun(paired.device, &file.key(), Some(&begun)).unwrap();
    drop(home);
    let (account, bytes) = p.back_up_counted(false).await.unwrap();
    assert_eq!(account.counts.sent, 3);
    assert!(bytes < 5_100_000, "{bytes} bytes left the phone: the rest of the film and two small files");
    let stored = common::library_files(&w.house).into_iter().find(|f| f.ends_with("110000.mp4")).unwrap();
    assert_eq!(Digest::of(&std::fs::read(w.house.library().join(stored)).unwrap()), Digest::of(&film));
}

#[tokio::test(flavor = "multi_thread")]
async fn pause_holds_until_somebody_says_go_on() {
    let w = world().await;
    let p = pocket(&w).await;
    let folder = p.phone.device_folder();
    order::give(&folder, Order::Pause).unwrap();
    for _ in 0..2 {
        assert_eq!(p.back_up(false).await.unwrap().halted.as_deref(), Some("paused"));
    }
    order::give(&folder, Order::Go).unwrap();
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 2);
    order::give(&folder, Order::Stop).unwrap();
    assert_eq!(p.back_up(false).await.unwrap().halted.as_deref(), Some("stopped"));
    assert_eq!(p.back_up(false).await.unwrap().halted, None, "stop is for one run");
    // A tap on "back up now" ends a pause.
    order::give(&folder, Order::Pause).unwrap();
    assert_eq!(p.back_up(true).await.unwrap().halted, None);
    assert_eq!(order::read(&folder), Order::Go);
}

#[tokio::test(flavor = "multi_thread")]
async fn number_against_number_and_the_list_of_the_difference() {
    let w = world().await;
    let p = pocket(&w).await;
    p.phone.take("Chat", "party.jpg", b"party").unwrap();
    p.phone.take("Camera", "R0001.dng", b"raw").unwrap();
    p.phone
        .select(Some(&["Camera/IMG_20260412_101500.jpg", "Camera/VID_20260412_101600.mp4", "Chat/party.jpg", "Camera/R0001.dng"]))
        .unwrap();
    p.set(|home| {
        let source = &mut home.state.sources[0];
        source.folder = p.phone.shown();
        source.selection_only = true;
        source.rule.sorts = [Sort::Photos, Sort::Videos].into();
        source.rule.exclude = vec!["Chat".into()];
        home.state.conditions.mobile = Mobile::Photos;
    })
    .unwrap();
    p.phone.join(Network::Mobile, false);
    p.back_up(false).await.unwrap();
    let d = device(&w).await;
    assert_eq!((&d["has"], &d["home"], &d["partial"]), (&json!(2), &json!(1), &json!(true)));
    let id = d["id"].as_str().unwrap();
    let coverage = w.keeper.ask(Method::GET, &format!("api/devices/{id}/coverage"), None).await.unwrap();
    let source = &coverage["sources"][0];
    assert_eq!(
        (&source["files"], &source["home"], &source["left_out"], &source["selection_only"]),
        (&json!(2), &json!(1), &json!(2), &json!(true))
    );
    assert_eq!(source["rule"], "photos, videos; not in Chat");
    assert_eq!(coverage["missing"].as_array().unwrap().len(), 1);
    assert_eq!(coverage["missing"][0]["name"], "Camera/VID_20260412_101600.mp4");
    // Another member's device is nobody else's business.
    let form = json!({ "name": "Piet", "role": "member", "password": "kites over the sea" });
    w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    let piet = w.house.sign_in("Piet", "kites over the sea").await.unwrap();
    let theirs = piet.ask(Method::GET, &format!("api/devices/{id}/coverage"), None).await.unwrap();
    assert_eq!(theirs, json!({ "sources": [], "missing": [], "more": false }));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_restored_from_an_old_state_loses_nothing_and_sends_nothing_twice() {
    let w = world().await;
    let p = pocket(&w).await;
    p.back_up(false).await.unwrap();
    let (engine, copy) = (p.phone.device_folder(), w.folder.path().join("old-state"));
    let copy_all = |from: &std::path::Path, to: &std::path::Path| {
        std::fs::create_dir_all(to).unwrap();
        for file in std::fs::read_dir(from).unwrap().flatten().filter(|e| e.path().is_file()) {
            std::fs::copy(file.path(), to.join(file.file_name())).unwrap();
        }
    };
    copy_all(&engine, &copy);
    p.phone.take("Camera", "IMG_20260412_130000.jpg", b"after the copy").unwrap();
    p.phone.edit("Camera", "IMG_20260412_101500.jpg", b"edited after the copy").unwrap();
    assert_eq!(p.back_up(false).await.unwrap().counts.sent, 2);
    // The old state comes back: the engine remembers less than the server has.
    copy_all(&copy, &engine);
    let again = p.back_up(false).await.unwrap();
    assert_eq!((again.counts.sent, again.counts.failed), (0, 0), "{:?}", again.counts);
    assert_eq!(common::library_files(&w.house).len(), 4);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_phone_makes_room_and_takes_pictures_again() {
    let w = world().await;
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": "home" }))).await.unwrap();
    let address = w.keeper.pairing("Juno").await.unwrap();
    let p = Pocket::pair(&w.folder.path().join("phone"), &address, "full phone", 1000, noon()).await.unwrap();
    p.phone.take("Camera", "VID_20260301_100000.mp4", &[1; 600]).unwrap();
    p.phone.take("Camera", "IMG_20260411_100000.jpg", &[2; 300]).unwrap();
    assert!(p.phone.take("Camera", "IMG_20260412_100000.jpg", &[3; 200]).is_err());
    let rule = RoomRule { until_free: Some(500), videos_first: true, ..RoomRule::default() };
    assert!(p.make_room(&rule).await.unwrap().entries.is_empty(), "nothing was backed up yet, nothing goes");
    p.back_up(false).await.unwrap();
    let made = p.make_room(&rule).await.unwrap();
    assert_eq!((made.entries.len(), made.freed), (1, 600));
    p.phone.take("Camera", "IMG_20260412_100000.jpg", &[3; 200]).unwrap();
    let after = p.back_up(false).await.unwrap();
    assert_eq!((after.counts.sent, after.counts.checked), (1, 2));
}

/// A card, or a disk, that is put in while somebody watches: nobody tells that it is there, so it is looked for.
#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_appears_later_is_sent_by_itself() {
    let w = world().await;
    let (device, pictures) = w.computer("study").await;
    let out = pictures.with_extension("out");
    std::fs::rename(&pictures, &out).unwrap();
    let watching =
        Watching { settle: Duration::from_millis(300), look: Duration::from_millis(300), unheard: Duration::from_secs(900) };
    let platform: Arc<dyn Platform> = Arc::new(Linux::default());
    let (said, mut heard) = tokio::sync::mpsc::unbounded_channel();
    let folder = Home::open(device.folder()).unwrap().folder().to_owned();
    let all = async {
        // What is there already is looked through first, and nothing is found.
        heard.recv().await.unwrap();
        common::put(&out, "first.jpg", b"first").unwrap();
        std::fs::rename(&out, &pictures).unwrap();
        wait_for("the picture on the card", 30, async || Ok((w.keeper.overview().await?.home.count == 1).then_some(())))
            .await
            .unwrap();
        // And from now on its changes are told.
        common::put(&pictures, "second.jpg", b"second").unwrap();
        wait_for("the next one", 30, async || Ok((w.keeper.overview().await?.home.count == 2).then_some(()))).await.unwrap();
    };
    let told = |seen: Seen| drop(said.send(seen));
    tokio::select! {
        ended = watch(&folder, &platform, watching, told) => panic!("it watches no more: {ended:?}"),
        () = all => {}
    }
}

/// The client itself, watching a folder; a file that is still being written is left until it is whole.
#[tokio::test(flavor = "multi_thread")]
async fn a_watching_computer_sends_what_is_whole_and_rests_while_paused() {
    let w = world().await;
    let (device, pictures) = w.computer("study").await;
    let mut watching = device.spawn(&["watch", "--settle", "0.6"]).unwrap();
    let count = async || Ok(w.keeper.overview().await?.home.count);
    common::put(&pictures, "first.jpg", b"first").unwrap();
    wait_for("the first picture", 30, async || Ok((count().await? == 1).then_some(()))).await.unwrap();
    for part in 0..12 {
        use std::io::Write;
        let mut file = std::fs::File::options().create(true).append(true).open(pictures.join("slow.mp4")).unwrap();
        write!(file, "part {part};").unwrap();
        drop(file);
        tokio::time::sleep(Duration::from_millis(150)).await;
    }
    wait_for("the slow film", 30, async || Ok((count().await? == 2).then_some(()))).await.unwrap();
    let slow = common::library_files(&w.house).into_iter().find(|f| f.ends_with("slow.mp4")).unwrap();
    assert_eq!(std::fs::read(w.house.library().join(slow)).unwrap(), std::fs::read(pictures.join("slow.mp4")).unwrap());
    assert_eq!(device.run(&["pause"]).await.unwrap().code, 0);
    common::put(&pictures, "later.jpg", b"later").unwrap();
    wait_for("the household to hear of the pause", 30, async || {
        let devices = w.keeper.ask(Method::GET, "api/devices", None).await?;
        Ok((devices[0]["waiting_for"] == "paused").then_some(()))
    })
    .await
    .unwrap();
    assert_eq!(count().await.map_err(|e: Box<dyn std::error::Error + Send + Sync>| e.to_string()), Ok(2));
    assert_eq!(device.run(&["resume"]).await.unwrap().code, 0);
    wait_for("the last picture", 30, async || Ok((count().await? == 3).then_some(()))).await.unwrap();
    watching.kill().unwrap();
    watching.wait().unwrap();
}

/// What `background` writes is what a session starts, also where no systemd answers yet; and it is taken away again.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_session_starts_sends_by_itself() {
    let w = world().await;
    let (device, pictures) = w.computer("study").await;
    common::put(&pictures, "first.jpg", b"first").unwrap();
    let own = w.folder.path().join("own settings");
    let background = async |arguments: &[&str]| {
        let mut command = std::process::Command::new(ypogeion_rehearsal::program("ypogeion").unwrap());
        // A user of whom no session is open, whoever runs this.
        command.env("XDG_CONFIG_HOME", &own).env("XDG_RUNTIME_DIR", &own).env_remove("DBUS_SESSION_BUS_ADDRESS");
        command.env("YPOGEION_DEVICE", device.folder()).arg("background").args(arguments);
        tokio::task::spawn_blocking(move || command.output()).await.unwrap().unwrap()
    };
    for _ in 0..2 {
        let said = background(&[]).await;
        assert_eq!(said.status.code(), Some(1), "written, and not started: {said:?}");
        assert!(String::from_utf8_lossy(&said.stdout).contains("after your next sign-in"), "{said:?}");
    }
    let wanted = own.join("systemd/user/default.target.wants/ypogeion-watch.service");
    let unit = std::fs::read_to_string(&wanted).unwrap();
    let start = unit.lines().find_map(|l| l.strip_prefix("ExecStart=")).unwrap();
    // Plain paths are quoted alike there and in a shell.
    let mut started = std::process::Command::new("sh").arg("-c").arg(format!("exec {start} --settle 0.5")).spawn().unwrap();
    let count = async || Ok((w.keeper.overview().await?.home.count == 1).then_some(()));
    let sent = wait_for("the picture", 30, count).await;
    started.kill().unwrap();
    started.wait().unwrap();
    sent.unwrap();

    assert_eq!(background(&["--remove"]).await.status.code(), Some(0));
    assert!(!std::fs::exists(wanted).unwrap() && !std::fs::exists(own.join("systemd/user/ypogeion-watch.service")).unwrap());
    assert_eq!(background(&["--remove"]).await.status.code(), Some(0), "twice does no harm");
}

/// The demo's day: what each phone waits for is told, and at midnight everything that was taken is at home.
#[tokio::test(flavor = "multi_thread")]
async fn four_phones_live_through_the_demos_day() {
    let w = world().await;
    for (name, role) in [("Piet", "member"), ("Marisol", "member"), ("Oma Liesl", "guest")] {
        let form = json!({ "name": name, "role": role, "password": "kites over the sea" });
        w.keeper.ask(Method::POST, "api/people", Some(form)).await.unwrap();
    }
    w.keeper.ask(Method::PATCH, "api/household", Some(json!({ "clear_at": "home" }))).await.unwrap();
    let mut told = Vec::new();
    let phones =
        ypogeion_rehearsal::day::live(&w.keeper, &w.folder.path().join("phones"), Duration::ZERO, |line| told.push(line))
            .await
            .unwrap();
    let day = told.join("\n");
    for expected in [
        "Juno’s phone: waiting for Wi-Fi",
        "Piet’s phone: waiting for the battery",
        "Oma Liesl’s phone: waiting for a network",
        "Marisol taps “back up now”",
        "Marisol makes room: 2 files removed, 0 kept",
        "Juno edits",
    ] {
        assert!(day.contains(expected), "{expected} is not in\n{day}");
    }
    for (name, pocket) in phones {
        let last = pocket.back_up(true).await.unwrap();
        assert_eq!((last.counts.sent, last.counts.failed), (0, 0), "{name}: nothing was left for midnight\n{day}");
    }
    // Three, a film, two received and an edited one; four and two films; five; five.
    assert_eq!(w.keeper.overview().await.unwrap().home.count, 7 + 6 + 5 + 5);
}
