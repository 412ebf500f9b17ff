//! The demo household set up: members, four devices in different states, a store.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use data_encoding::BASE64;
use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_demo::{
    DEVICES, HOUSEHOLD, PEOPLE, Size,
    camera::{self, Camera},
    scenes::{Rng, Scene, draw},
};

use crate::{
    Step, Trouble,
    device::Device,
    house::{Console, House, Options},
};

/// The seed of the demo.
pub const SEED: u64 = 7;

/// The demo household, running.
pub struct Stage {
    /// Its service and store.
    pub house: House,
    /// Its keeper, signed in.
    pub keeper: Console,
    /// Its devices, in the order of [`DEVICES`].
    pub devices: Vec<Device>,
    /// Where the devices have their pictures.
    pub pictures: PathBuf,
}

/// Makes the demo's pictures in `folder`, unless an earlier run finished making them there.
pub fn pictures(folder: &Path, size: Size, tell: &(dyn Fn(usize, usize) + Sync)) -> io::Result<()> {
    let (mark, edition) = (folder.join("complete"), ypogeion_demo::EDITION.to_string());
    if !fs::read_to_string(&mark).is_ok_and(|drawn| drawn == edition) {
        if folder.exists() {
            fs::remove_dir_all(folder)?;
        }
        ypogeion_demo::make(folder, SEED, size, tell)?;
        fs::write(mark, edition)?;
    }
    // A demo that was killed may have left it.
    match fs::remove_file(film(folder)) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
        _ => Ok(()),
    }
}

/// What they wrote: who, about which of their pictures of a month, title and caption.
const WORDS: [(usize, &str, usize, &str, &str); 7] = [
    (0, "2026-06", 0, "Piet’s kite", "It took four of us to bring it down again."),
    (0, "2026-06", 5, "", "The wind had just turned. Marisol holds the line, Piet counts."),
    (0, "2026-11", 2, "Fog in the harbour", "Seven in the morning. You could hear the ferry, and nothing else."),
    (0, "2018-07", 4, "The ferry was late", "So we had waffles, all of us, at half past nine in the evening, in the light."),
    (0, "2022-07", 3, "", "The same village as four years before. The red house is yellow now."),
    (1, "2017-08", 2, "Along the Rhine", "Day three, and the first day without rain."),
    (2, "2026-09", 1, "Beans", "The second row, from Oma Liesl’s seeds."),
];

impl Stage {
    /// Starts the household with its members and its store, and pairs its devices. Nothing has been sent yet.
    pub async fn raise(folder: &Path, pictures: &Path, (ports, store_port): ((u16, u16), u16), throw_away: bool) -> Step<Self> {
        let keeper = &PEOPLE[0];
        let house = House::start(Options {
            name: HOUSEHOLD.into(),
            keeper: (keeper.name.into(), keeper.password.into()),
            ports,
            store_port,
            throw_away,
            ..Options::test(folder)
        })
        .await?;
        let console = house.keeper().await?;
        for person in &PEOPLE[1..] {
            let form = json!({ "name": person.name, "role": person.role, "password": person.password });
            console.ask(Method::POST, "api/people", Some(form)).await?;
        }
        let mut devices = Vec::new();
        for script in &DEVICES {
            let device = Device::new(&folder.join("devices").join(script.folder));
            let there = pictures.join(script.folder);
            let sources: Vec<(&str, PathBuf)> = script.sources.iter().map(|s| (*s, there.join(s))).collect();
            let sources: Vec<(&str, &Path)> = sources.iter().map(|(s, p)| (*s, p.as_path())).collect();
            device.pair(&console.pairing(script.person).await?, script.name, script.kind, &sources).await?;
            devices.push(device);
        }
        Ok(Stage { house, keeper: console, devices, pictures: pictures.to_owned() })
    }

    /// Adds the store "North Quay".
    pub async fn add_store(&self) -> Step<()> {
        self.keeper.ask(Method::POST, "api/stores", Some(self.house.store_form())).await?;
        Ok(())
    }

    /// What a keeper does after adding a store: a disk that is carried to the aunt's now and then, prices off the contract, and the
    /// kit, printed and typed back.
    pub async fn settle_in(&self, password: &str) -> Step<()> {
        let disk = self.house.options.folder.join("drawer/red-disk");
        std::fs::create_dir_all(&disk)?;
        let form = json!({ "name": "Red disk", "endpoint": format!("file://{}", disk.display()), "away": true });
        self.keeper.ask(Method::POST, "api/stores", Some(form)).await?;
        let prices = json!({ "currency": "€", "storage": 0.006, "free_storage": 0.0, "writing": 0.005, "reading": 0.0004, "egress": 0.01,
                             "free_egress": 0.0, "minimum_days": 30, "fee": 1.5 });
        let store = self.keeper.store().await?.id;
        self.keeper.ask(Method::PATCH, &format!("api/stores/{store}"), Some(json!({ "prices": prices }))).await?;
        let kit = self.keeper.kit(password).await?;
        let line = |name: &str| kit.lines().find_map(|l| l.strip_prefix(name)).unwrap_or_default().trim().to_owned();
        let key = line("Key: ");
        let proof = json!({ "key_end": key[key.len().saturating_sub(8)..], "check": line("Check: ") });
        self.keeper.ask(Method::POST, "api/kit/proof", Some(proof)).await?;
        Ok(())
    }

    /// Connects an old disk to the server, whose pictures nobody has adopted yet.
    pub fn connect_disk(&self) -> Step<()> {
        Ok(ypogeion_demo::disk::fill(&self.house.disks(), &self.pictures, SEED, Size::WHOLE.width)?)
    }

    /// Lets the devices come to their states: all sent; some waiting; quiet for long. The desktop, which has not sent yet, follows with
    /// [`Stage::send_partly`].
    pub async fn live(&self) -> Step<()> {
        for device in [0, 3] {
            self.devices[device].json(&["backup"]).await?;
        }
        self.keeper.wait_until_proven(600).await?;
        self.long_ago(DEVICES[3].name, 12)?;
        // Piet's phone sent its received pictures, said what else it has, and went to sleep.
        let piet = &self.devices[1];
        piet.json(&["sources", "remove", "Camera"]).await?;
        piet.json(&["backup"]).await?;
        let camera = self.pictures.join(DEVICES[1].folder).join("Camera");
        piet.json(&["sources", "add", camera.to_str().ok_or("a path is text")?, "--name", "Camera"]).await?;
        let mut names: Vec<PathBuf> = fs::read_dir(&camera)?.map(|e| e.map(|e| e.path())).collect::<io::Result<_>>()?;
        names.sort();
        offer(piet, &names[..names.len().min(31)]).await?;
        self.gather().await
    }

    /// What they gathered: an album to which all of them add, one for a grandmother, one that fills itself, and one of somebody else's; and what they like best.
    async fn gather(&self) -> Step<()> {
        let mut consoles = Vec::new();
        for person in &PEOPLE {
            consoles.push(self.house.sign_in(person.name, person.password).await?);
        }
        let of = async |who: usize, month: &str, most: usize| {
            let page = consoles[who].ask(Method::GET, &format!("api/originals?month={month}&limit={most}"), None).await?;
            let ids = page["originals"].as_array().into_iter().flatten().map(|o| o["id"].clone());
            Ok::<_, Trouble>(ids.collect::<Vec<Value>>())
        };
        let album = async |who: usize, name: &str, words: &str, shared: Value| {
            let made = consoles[who].ask(Method::POST, "api/albums", Some(json!({ "name": name, "words": words }))).await?;
            let path = format!("api/albums/{}", made["id"].as_str().ok_or("an album has an id")?);
            let people = consoles[who].ask(Method::GET, &path, None).await?["people"].clone();
            let mut form = shared;
            if let Some(with) = form["with"].as_str().map(str::to_owned) {
                let person = people.as_array().into_iter().flatten().find(|p| p["name"] == with.as_str());
                form["with"] =
                    json!([{ "person": person.ok_or("somebody is shared with who is there")?["person"], "may": "look" }]);
            }
            consoles[who].ask(Method::PATCH, &path, Some(form)).await?;
            Ok::<_, Trouble>(path)
        };
        let put = async |who: usize, album: &str, pictures: Vec<Value>| {
            if !pictures.is_empty() {
                let form = json!({ "pictures": pictures, "inside": true });
                consoles[who].ask(Method::POST, &format!("{album}/pictures"), Some(form)).await?;
            }
            Ok::<_, Trouble>(())
        };
        let kites = album(0, "The kite festival", "A day of wind. Put yours here, too.", json!({ "household": "add" })).await?;
        for (who, most) in [(0, 14), (1, 8), (2, 5)] {
            put(who, &kites, of(who, "2026-06", most).await?).await?;
        }
        let fog = album(0, "Fog in the harbour", "", json!({ "with": PEOPLE[3].name })).await?;
        put(0, &fog, of(0, "2026-11", 9).await?).await?;
        self.tell(&fog).await?;
        self.neighbours(&kites).await?;
        album(0, "Summers in Norway", "", json!({ "with": PEOPLE[1].name, "follows": "norway" })).await?;
        let beans = album(2, "What grew in the allotment", "", json!({ "with": PEOPLE[0].name })).await?;
        put(2, &beans, of(2, "2026-09", 12).await?).await?;
        let mut liked: Vec<Value> = of(0, "2026-06", 30).await?.into_iter().step_by(6).collect();
        for month in ["2016-07", "2018-07", "2019-02", "2021-07", "2022-07", "2024-06"] {
            liked.extend(of(0, month, 30).await?.into_iter().step_by(9));
        }
        self.keeper.ask(Method::POST, "api/favourites", Some(json!({ "pictures": liked, "favourite": true }))).await?;
        for (who, month, n, title, caption) in WORDS {
            if let Some(picture) = of(who, month, 30).await?.get(n) {
                let form = json!({ "pictures": [picture], "title": title, "caption": caption });
                consoles[who].ask(Method::POST, "api/words", Some(form)).await?;
            }
        }
        let shots = consoles[1].ask(Method::GET, "api/originals?find=screenshots", None).await?["originals"].clone();
        let shots: Vec<&Value> = shots.as_array().into_iter().flatten().map(|o| &o["id"]).collect();
        if !shots.is_empty() {
            consoles[1].ask(Method::POST, "api/put-away", Some(json!({ "pictures": shots, "away": true }))).await?;
        }
        Ok(())
    }

    /// Juno tells of the morning in the harbour, in her own order.
    async fn tell(&self, album: &str) -> Step<()> {
        let path = format!("{album}/arrangement");
        let by_time = self.keeper.ask(Method::GET, &path, None).await?;
        let all = by_time["steps"].as_array().into_iter().flatten().map(|s| json!({ "picture": s["picture"]["id"] }));
        let mut steps: Vec<Value> = all.collect();
        if steps.len() < 4 {
            return Ok(());
        }
        steps.insert(3, json!({ "words": "Then it lifted, all at once." }));
        steps.insert(0, json!({ "words": "The fog came in before breakfast.\nNobody could see the other quay." }));
        self.keeper.ask(Method::PUT, &path, Some(json!({ "steps": steps, "version": null }))).await?;
        Ok(())
    }

    /// The neighbours were at the kite festival, too. Juno gave them a link; what they brought waits for her.
    async fn neighbours(&self, album: &str) -> Step<()> {
        let form = json!({ "days": 90, "hands_out": "previews", "takes": true });
        let link = self.keeper.ask(Method::POST, &format!("{album}/links"), Some(form)).await?;
        let (address, id) = (link["address"].as_str().ok_or("a link has an address")?, link["id"].as_str().ok_or("and an id")?);
        let outside = self.house.by_link(address.split_once('#').ok_or("with what opens it")?.1).await?;
        for n in 0..3 {
            let time = format!("2026-06-20T15:{}:10", 10 + n).parse()?;
            let shot = camera::Shot::new(Camera::of_device(3), time, Scene::Kites.place(), &mut Rng::new(90 + n));
            let bytes = camera::jpeg(&draw(Scene::Kites, 90 + n, 0.0, 640, 480), &shot)?;
            let name = BASE64.encode(format!("IMG_03{n}1.JPG").as_bytes());
            let said = format!("filename {name},from {}", BASE64.encode(b"The neighbours"));
            outside.send(&format!("api/outside/{id}/uploads"), &said, bytes).await?;
        }
        Ok(())
    }

    /// The desktop sends all but a film that is being cut meanwhile: partly sent, with a log to read.
    pub async fn send_partly(&self) -> Step<()> {
        let film = film(&self.pictures);
        append(&film)?;
        let (still, written) = (Arc::new(AtomicBool::new(true)), film.clone());
        let writing = Arc::clone(&still);
        let writer = std::thread::spawn(move || {
            // A file that cannot be written is no reason to wait for it.
            while writing.load(Ordering::Relaxed) && append(&written).is_ok() {
                std::thread::sleep(Duration::from_millis(2));
            }
        });
        let said = self.devices[2].json(&["backup"]).await;
        still.store(false, Ordering::Relaxed);
        writer.join().map_err(|_| "the film's writer broke down")?;
        // The pictures are kept for the next demo.
        fs::remove_file(film)?;
        said.map(drop)
    }

    /// Moves a device's past back by some days, and has it have come on each day before that: what an evening's demo cannot live through.
    fn long_ago(&self, device: &str, days: u32) -> Step<()> {
        self.house.sql(&format!(
            "CREATE TEMPORARY VIEW moved AS SELECT id, interval '{days} days' AS back FROM device WHERE name = $${device}$$;
             UPDATE run r SET began_at = began_at - back, reported_at = reported_at - back, ended_at = ended_at - back FROM moved WHERE device = moved.id;
             -- What was named since it was counted stays that: first when it was counted.
             UPDATE device_source SET told_at = told_at - back FROM moved WHERE device = moved.id;
             UPDATE sighting SET seen_at = seen_at - back FROM moved WHERE device = moved.id;
             UPDATE device d SET seen_at = seen_at - back, paired_at = paired_at - 4 * back FROM moved WHERE d.id = moved.id;
             INSERT INTO run (id, device, began_at, reported_at, ended_at, checked, present)
             SELECT gen_random_uuid(), r.device, r.began_at - d * interval '1 day', r.reported_at - d * interval '1 day', r.ended_at - d * interval '1 day',
                    r.checked, r.checked
             FROM run r JOIN moved ON moved.id = r.device, generate_series(1, 20) d"
        ))?;
        Ok(())
    }
}

/// The film that is being cut on the desktop.
fn film(pictures: &Path) -> PathBuf {
    pictures.join(DEVICES[2].folder).join(DEVICES[2].sources[0]).join("VID_cutting.mp4")
}

/// A little more of it.
fn append(film: &Path) -> io::Result<()> {
    io::Write::write_all(&mut fs::OpenOptions::new().create(true).append(true).open(film)?, &[7; 4096])
}

/// Says what a device has without sending it: what a phone does before it runs out of battery.
async fn offer(device: &Device, files: &[PathBuf]) -> Step<()> {
    let home = ypogeion_agent::home::Home::open(device.folder())?;
    let mut entries = Vec::new();
    for path in files {
        let bytes = fs::read(path)?;
        entries.push(ypogeion_wire::device::OfferEntry {
            digest: ypogeion_core::Digest::of(&bytes),
            size: bytes.len() as u64,
            name: path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default(),
            source: "Camera".into(),
            file_time: None,
        });
    }
    home.client()?.offer(entries).await?;
    Ok(())
}
