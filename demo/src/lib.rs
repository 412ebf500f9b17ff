//! The demo household: Mill House, its people, its devices and their pictures.
//!
//! Everything is drawn by code ([`scenes`]) with true camera data ([`camera`]): cameras that do not exist, places that do.
//! The same seed makes the same bytes, except for what ffmpeg and heif-enc encode, which is the same for one version of
//! them. [`make`] fills one folder for each device, [`disk::fill`] an old disk.

pub mod camera;
pub mod disk;
pub mod scenes;
mod years;

use std::{
    fs,
    io::{self, Write},
    path::{Path, PathBuf},
    process::{Command, Stdio},
    sync::atomic::{AtomicUsize, Ordering},
    time::SystemTime,
};

use camera::{Camera, Shot};
use chrono::{DateTime, FixedOffset, NaiveDate, TimeDelta};
use scenes::{Rng, Scene, draw};

/// A member of the demo household.
#[derive(Clone, Copy, Debug)]
pub struct Person {
    /// Name, also to sign in.
    pub name: &'static str,
    /// `keeper`, `member` or `guest`.
    pub role: &'static str,
    /// Password.
    pub password: &'static str,
}

/// A device of the demo household.
#[derive(Clone, Copy, Debug)]
pub struct DeviceScript {
    /// As shown.
    pub name: &'static str,
    /// `phone`, `tablet` or `computer`.
    pub kind: &'static str,
    /// Whose it is.
    pub person: &'static str,
    /// Its folder below the demo's.
    pub folder: &'static str,
    /// Its albums, folders below that.
    pub sources: &'static [&'static str],
}

/// A day in the life of a phone of each: whose it is, and what happens (see the stand-in phone for the format).
pub const DAYS: [(&str, &str); 4] = [
    ("Juno", include_str!("../days/juno.toml")),
    ("Piet", include_str!("../days/piet.toml")),
    ("Marisol", include_str!("../days/marisol.toml")),
    ("Oma Liesl", include_str!("../days/oma-liesl.toml")),
];

/// The household's name.
pub const HOUSEHOLD: &str = "Mill House";

/// Who lives there. The first is the keeper.
pub const PEOPLE: [Person; 4] = [
    Person { name: "Juno", role: "keeper", password: "weir at the mill" },
    Person { name: "Piet", role: "member", password: "kites over Fanø" },
    Person { name: "Marisol", role: "member", password: "fourteen and a half" },
    Person { name: "Oma Liesl", role: "guest", password: "beans and dahlias" },
];

/// What they have.
pub const DEVICES: [DeviceScript; 4] = [
    DeviceScript { name: "Juno’s phone", kind: "phone", person: "Juno", folder: "juno-phone", sources: &["Camera"] },
    DeviceScript {
        name: "Piet’s phone",
        kind: "phone",
        person: "Piet",
        folder: "piet-phone",
        sources: &["Camera", "Received", "Earlier"],
    },
    DeviceScript { name: "Study desktop", kind: "computer", person: "Juno", folder: "study-desktop", sources: &["Pictures"] },
    DeviceScript {
        name: "Marisol’s tablet", kind: "tablet", person: "Marisol", folder: "marisol-tablet", sources: &["Camera"]
    },
];

/// How much to make.
#[derive(Clone, Copy, Debug)]
pub struct Size {
    /// Pictures on the largest device; the others have their share.
    pub pictures: usize,
    /// Width of a picture in pixels; of those from the years before, less.
    pub width: u32,
    /// Whether to make those of the years before, too: seventeen hundred.
    pub years: bool,
    /// Whether to make videos and HEICs, which need ffmpeg and heif-enc.
    pub moving: bool,
}

impl Size {
    /// The demo as people see it: ten years, about 2,000 pictures and a few videos.
    pub const WHOLE: Size = Size { pictures: 130, width: 880, years: true, moving: true };
    /// Enough for a test.
    pub const SMALL: Size = Size { pictures: 8, width: 240, years: false, moving: false };
}

/// What [`make`] draws, and under which names: another number when that changes, so that nobody keeps what an earlier one drew.
pub const EDITION: u32 = 5;

/// Fills `folder` with one folder for each device. `tell` hears how many of how many pictures are drawn, from any thread.
pub fn make(folder: &Path, seed: u64, size: Size, tell: &(dyn Fn(usize, usize) + Sync)) -> io::Result<()> {
    let shots = plan(seed, size);
    for device in &DEVICES {
        device.sources.iter().try_for_each(|source| fs::create_dir_all(folder.join(device.folder).join(source)))?;
    }
    let done = AtomicUsize::new(0);
    let drawn = |s: &Planned| {
        take(folder, s)?;
        tell(done.fetch_add(1, Ordering::Relaxed) + 1, shots.len());
        Ok(())
    };
    let threads = std::thread::available_parallelism().map_or(2, usize::from);
    let all: io::Result<Vec<()>> = std::thread::scope(|scope| {
        let workers: Vec<_> = (0..threads)
            .map(|n| {
                let (shots, drawn) = (&shots, &drawn);
                scope.spawn(move || shots.iter().skip(n).step_by(threads).try_for_each(drawn))
            })
            .collect();
        workers.into_iter().map(|w| w.join().expect("drawing does not panic")).collect()
    });
    all?;
    oddities(folder, &shots)?;
    if size.moving {
        moving(folder, seed)?;
        carrying(folder, &shots)?;
    }
    Ok(())
}

/// One picture to be drawn.
#[derive(Clone, Debug)]
struct Planned {
    device: usize,
    source: &'static str,
    name: String,
    scene: Scene,
    seed: u64,
    shot: Shot,
    portrait: bool,
    /// In pixels, along its longer side.
    width: u32,
}

/// An outing of the household: where, when, who took pictures.
struct Outing {
    scene: Scene,
    day: NaiveDate,
    hour: u32,
    share: [usize; 4],
}

fn outings() -> Vec<Outing> {
    let on = |y, m, d| NaiveDate::from_ymd_opt(y, m, d).expect("a day of the demo's calendar");
    vec![
        Outing { scene: Scene::Harbour, day: on(2026, 11, 8), hour: 8, share: [22, 14, 10, 6] },
        Outing { scene: Scene::Mill, day: on(2026, 10, 24), hour: 17, share: [16, 8, 8, 4] },
        Outing { scene: Scene::Allotment, day: on(2026, 9, 12), hour: 10, share: [14, 8, 6, 8] },
        Outing { scene: Scene::Kites, day: on(2026, 6, 20), hour: 13, share: [26, 26, 12, 6] },
        Outing { scene: Scene::Allotment, day: on(2026, 5, 3), hour: 11, share: [14, 6, 4, 2] },
        Outing { scene: Scene::Weir, day: on(2026, 4, 12), hour: 15, share: [20, 12, 10, 2] },
        Outing { scene: Scene::Weir, day: on(2025, 12, 28), hour: 9, share: [10, 8, 6, 0] },
        Outing { scene: Scene::Harbour, day: on(2025, 8, 16), hour: 20, share: [8, 8, 4, 2] },
    ]
}

fn plan(seed: u64, size: Size) -> Vec<Planned> {
    let mut rng = Rng::new(seed);
    let mut planned = Vec::new();
    let mut counters = [2201u32, 812, 41, 3];
    for outing in outings() {
        for (device, share) in outing.share.into_iter().enumerate() {
            let count = (share * size.pictures).div_ceil(130).min(share);
            for n in 0..count {
                let camera = Camera::of_device(device);
                let minutes = i64::from(outing.hour) * 60 + n as i64 * 7 + rng.below(6) as i64;
                let local = outing.day.and_time(chrono::NaiveTime::MIN)
                    + TimeDelta::minutes(minutes)
                    + TimeDelta::seconds(rng.below(60) as i64);
                counters[device] += 1 + rng.below(3) as u32;
                planned.push(Planned {
                    device,
                    source: DEVICES[device].sources[0],
                    name: camera.name(local, counters[device]),
                    scene: outing.scene,
                    seed: rng.next(),
                    shot: Shot::new(camera, local, outing.scene.place(), &mut rng),
                    portrait: rng.below(5) == 0,
                    width: size.width,
                });
            }
        }
    }
    if size.years {
        planned.extend(years::plan(seed));
    }
    planned
}

fn path_of(folder: &Path, device: usize, source: &str, name: &str) -> PathBuf {
    folder.join(DEVICES[device].folder).join(source).join(name)
}

fn take(folder: &Path, p: &Planned) -> io::Result<()> {
    let (long, short) = (p.width, p.width * 3 / 4);
    let (w, h) = if p.portrait { (short, long) } else { (long, short) };
    let jpeg = camera::jpeg(&draw(p.scene, p.seed, 0.0, w, h), &p.shot)?;
    write(&path_of(folder, p.device, p.source, &p.name), &jpeg, p.shot.instant())
}

fn write(path: &Path, bytes: &[u8], time: DateTime<FixedOffset>) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    let mut file = fs::File::create(path)?;
    file.write_all(bytes)?;
    file.set_modified(SystemTime::from(time))
}

/// What makes a backup hard: duplicates, an edited one, raw beside JPEG, a wrong clock, broken and misnamed files.
fn oddities(folder: &Path, shots: &[Planned]) -> io::Result<()> {
    let of = |device: usize| shots.iter().filter(move |s| s.device == device);
    let read = |p: &Planned| fs::read(path_of(folder, p.device, p.source, &p.name));
    // Juno sent Piet some pictures: the same bytes, under the messenger's names.
    for (n, p) in of(0).step_by(11).take(6).enumerate() {
        write(&path_of(folder, 1, "Received", &format!("received-{:04}.jpg", n + 1)), &read(p)?, p.shot.instant())?;
    }
    // She copied others to the desktop, under the same names, and one under a name that is taken there.
    for p in of(0).step_by(13).take(5) {
        write(&path_of(folder, 2, "Pictures", &format!("from the phone/{}", p.name)), &read(p)?, p.shot.instant())?;
    }
    let desktop: Vec<&Planned> = of(2).collect();
    if let [first, second, third, ..] = desktop.as_slice() {
        // An edited version: other bytes, nearly the same name.
        let edited = camera::jpeg(&draw(first.scene, first.seed ^ 1, 0.0, 640, 480), &first.shot)?;
        write(&path_of(folder, 2, "Pictures", &first.name.replace(".JPG", " (edited).JPG")), &edited, first.shot.instant())?;
        // A raw file beside its JPEG.
        let raw = camera::raw(&second.shot, &read(second)?)?;
        write(&path_of(folder, 2, "Pictures", &second.name.replace(".JPG", ".DNG")), &raw, second.shot.instant())?;
        // Different bytes under the same name, in another folder.
        write(&path_of(folder, 2, "Pictures", &format!("card 2/{}", second.name)), &read(third)?[..], third.shot.instant())?;
        let other = camera::jpeg(&draw(third.scene, third.seed ^ 2, 0.0, 640, 480), &third.shot)?;
        write(&path_of(folder, 2, "Pictures", &format!("card 2/{}", third.name)), &other, third.shot.instant())?;
        // A file that the card reader tore in half.
        let whole = read(first)?;
        write(&path_of(folder, 2, "Pictures", "BROKEN07.JPG"), &whole[..whole.len() / 2], first.shot.instant())?;
    }
    if let Some(p) = of(1).next() {
        // A camera whose clock went back to its first day.
        let lost = NaiveDate::from_ymd_opt(2019, 1, 1).and_then(|d| d.and_hms_opt(0, 4, 12)).expect("a moment");
        let shot = Shot { local: lost, offset_minutes: None, ..p.shot.clone() };
        let jpeg = camera::jpeg(&draw(Scene::Kites, 77, 0.0, 640, 480), &shot)?;
        write(&path_of(folder, 1, "Camera", "CRV_20190101_000412.jpg"), &jpeg, p.shot.instant())?;
        // A PNG that calls itself JPEG, with no camera data at all.
        let mut png = Vec::new();
        let scene = image::DynamicImage::ImageRgb8(draw(Scene::Mill, 5, 0.0, 480, 360));
        scene.write_to(&mut io::Cursor::new(&mut png), image::ImageFormat::Png).map_err(io::Error::other)?;
        write(&path_of(folder, 1, "Received", "Screenshot_20260620-181500.jpg"), &png, p.shot.instant())?;
    }
    Ok(())
}

/// Videos, a HEIC, and a still that moves.
fn moving(folder: &Path, seed: u64) -> io::Result<()> {
    let zone = FixedOffset::east_opt(7200).expect("two hours");
    let at = |text: &str| DateTime::parse_from_rfc3339(text).map(|t| t.with_timezone(&zone)).map_err(io::Error::other);
    let videos = [
        (0, "Camera", "MOV_2290.MOV", Scene::Kites, "2026-06-20T13:41:05+02:00", true),
        (0, "Camera", "MOV_2301.MOV", Scene::Weir, "2026-04-12T15:52:40+02:00", true),
        (1, "Camera", "VID_20260620_140210.mp4", Scene::Kites, "2026-06-20T14:02:10+02:00", false),
        (2, "Pictures", "BRT_0061.MP4", Scene::Harbour, "2026-11-08T09:12:00+01:00", false),
        (0, "Camera", "IMG_2199.MOV", Scene::Weir, "2026-04-12T15:54:00+02:00", true),
    ];
    // What the camera before the phones wrote, which no browser plays.
    let path = path_of(folder, 1, "Earlier", "MVI_0040.AVI");
    let time = at("2016-07-18T16:20:00+02:00")?;
    video(&path, Scene::Kites, seed ^ 40, time, false, false)?;
    fs::File::options().append(true).open(&path)?.set_modified(SystemTime::from(time))?;
    for (n, (device, source, name, scene, time, local)) in videos.into_iter().enumerate() {
        let path = path_of(folder, device, source, name);
        let time = at(time)?;
        video(&path, scene, seed ^ n as u64, time, local, name.starts_with("IMG"))?;
        fs::File::options().append(true).open(&path)?.set_modified(SystemTime::from(time))?;
    }
    let time = at("2026-04-12T15:54:00+02:00")?;
    let mut rng = Rng::new(seed);
    let shot = Shot::new(Camera::of_device(0), time.naive_local(), Scene::Weir.place(), &mut rng);
    let still = camera::jpeg(&draw(Scene::Weir, seed ^ 4, 0.0, 960, 720), &shot)?;
    let path = path_of(folder, 0, "Camera", "IMG_2199.HEIC");
    let jpeg = path.with_extension("source.jpg");
    write(&jpeg, &still, time)?;
    let made = run(Command::new("heif-enc").args(["-q", "60"]).arg(&jpeg).arg("-o").arg(&path));
    fs::remove_file(&jpeg)?;
    made?;
    fs::File::options().append(true).open(&path)?.set_modified(SystemTime::from(time))
}

/// Some pictures of Juno's phone carry the second around the press in their own files. None of them is copied elsewhere.
fn carrying(folder: &Path, shots: &[Planned]) -> io::Result<()> {
    for p in shots.iter().filter(|s| s.device == 0).skip(2).step_by(3).take(2) {
        let path = path_of(folder, p.device, p.source, &p.name);
        let film = path.with_extension("film.mp4");
        video(&film, p.scene, p.seed, p.shot.instant(), false, false)?;
        let whole = [fs::read(&path)?, fs::read(&film)?].concat();
        fs::remove_file(&film)?;
        write(&path, &whole, p.shot.instant())?;
    }
    Ok(())
}

fn video(path: &Path, scene: Scene, seed: u64, time: DateTime<FixedOffset>, local: bool, pair: bool) -> io::Result<()> {
    const W: u32 = 480;
    const H: u32 = 270;
    const FRAMES: u32 = 36;
    let mut command = Command::new("ffmpeg");
    command.args(["-v", "error", "-y", "-f", "rawvideo", "-pix_fmt", "rgb24", "-s", &format!("{W}x{H}"), "-r", "12", "-i", "-"]);
    let avi = path.extension().is_some_and(|e| e == "AVI");
    match avi {
        true => command.args(["-c:v", "mjpeg", "-q:v", "9", "-pix_fmt", "yuvj420p"]),
        false => command.args(["-c:v", "libx264", "-preset", "veryfast", "-crf", "30", "-pix_fmt", "yuv420p"]),
    };
    command.args(["-threads", "1", "-fflags", "+bitexact"]);
    command.args(["-metadata", &format!("creation_time={}", time.to_utc().format("%Y-%m-%dT%H:%M:%SZ"))]);
    if local {
        command.args(["-movflags", "use_metadata_tags"]);
        command.args(["-metadata", &format!("com.apple.quicktime.creationdate={}", time.format("%Y-%m-%dT%H:%M:%S%z"))]);
        command.args(["-metadata", "com.apple.quicktime.make=Havel", "-metadata", "com.apple.quicktime.model=Havel 7"]);
    }
    if pair {
        command.args(["-metadata", "com.apple.quicktime.content.identifier=5A0C41E7-70B2-4C52-9C1D-6A1E0F2B7D10"]);
    }
    let mut child = command.arg(path).stdin(Stdio::piped()).spawn()?;
    let mut frames = child.stdin.take().ok_or_else(|| io::Error::other("ffmpeg took no input"))?;
    for n in 0..FRAMES {
        frames.write_all(draw(scene, seed, f64::from(n) / 12.0, W, H).as_raw())?;
    }
    drop(frames);
    if child.wait()?.success() { Ok(()) } else { Err(io::Error::other("ffmpeg could not make a video of the demo")) }
}

fn run(command: &mut Command) -> io::Result<()> {
    let output = command.output()?;
    if output.status.success() {
        return Ok(());
    }
    Err(io::Error::other(format!("{}: {}", command.get_program().display(), String::from_utf8_lossy(&output.stderr))))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listing(folder: &Path) -> Vec<(PathBuf, Vec<u8>)> {
        let (mut found, mut folders) = (Vec::new(), vec![folder.to_owned()]);
        while let Some(f) = folders.pop() {
            for entry in fs::read_dir(f).unwrap() {
                let path = entry.unwrap().path();
                if path.is_dir() {
                    folders.push(path)
                } else {
                    found.push((path.strip_prefix(folder).unwrap().to_owned(), fs::read(&path).unwrap()))
                }
            }
        }
        found.sort();
        found
    }

    #[test]
    fn the_same_seed_makes_the_same_household() {
        let (a, b) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        make(a.path(), 7, Size::SMALL, &|_, _| ()).unwrap();
        make(b.path(), 7, Size::SMALL, &|_, _| ()).unwrap();
        let (a, b) = (listing(a.path()), listing(b.path()));
        assert!(a == b && a.len() > 20, "{}", a.len());
        let mut bytes: Vec<&Vec<u8>> = a.iter().map(|(_, b)| b).collect();
        let all = bytes.len();
        bytes.sort();
        bytes.dedup();
        assert!(bytes.len() < all, "there should be duplicates");
    }
}
