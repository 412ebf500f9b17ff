//! How the service bears load: four large files at once, and somebody who looks at pictures while eight devices send.

use std::{
    fs,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

use futures_util::{StreamExt, stream};
use tokio::runtime::{Builder, Runtime};
use url::Url;
use ypogeion_demo::scenes::Rng;

use ypogeion_core::words;

use super::{Report, forget_peak, new_house, peak};
use crate::{Step, device::Device, house::Console};

const CHUNK: usize = 4 << 20;
const LARGE: u64 = 4_000_000_000;
const LARGE_AT_ONCE: u64 = 4;
const SENDERS: u64 = 8;
const PHOTO: u64 = 3_000_000;
const LOOKS: usize = 600;
/// Between two looks.
const PACE: Duration = Duration::from_millis(15);
/// Photos that are there before anybody looks.
const THERE: u64 = 400;

/// One file of 2 GB, by the client.
pub async fn memory_of_a_large_file(folder: &Path, report: &mut Report) -> Step<()> {
    println!("memory while 2 GB are received …");
    let house = new_house(&folder.join("large-house"), |o| o).await?;
    let large = folder.join("large");
    fs::create_dir_all(&large)?;
    fs::File::create(large.join("long.mp4"))?.set_len(2_000_000_000)?;
    forget_peak(&house)?;
    let device = Device::new(&house.options.folder.join("large-device"));
    device.pair(&house.keeper().await?.pairing("Juno").await?, "large", "computer", &[("large", &large)]).await?;
    let sent = device.json(&["backup"]).await?;
    if sent["counts"]["sent"] != 1 {
        return Err(format!("the large file was not sent: {sent}").into());
    }
    fs::remove_dir_all(large)?;
    let peak = words::size(peak(&house)?);
    report.say(format!("peak memory of the service while a 2 GB file was received: {peak} (goal: below 150 MB)"));
    Ok(())
}

/// Measures both in a house of its own, without a store: this is about what comes in.
pub async fn measure(folder: &Path, report: &mut Report) -> Step<()> {
    println!("under load …");
    let live = folder.join("loaded-house");
    let mut house = new_house(&live, |o| o).await?;
    let keeper = house.keeper().await?;
    let device = Device::new(&live.join("device"));
    device.pair(&keeper.pairing("Juno").await?, "load", "computer", &[]).await?;
    let token = ypogeion_agent::home::Home::open(device.folder())?.paired()?.token.clone();
    let sender = Sender::new(house.http.join("tus/")?, token)?;

    stream::iter(0..THERE).map(|n| sender.send(n, PHOTO)).buffer_unordered(4).collect::<Vec<Step<()>>>().await;
    let (_, p99_alone) = Looks::of(&keeper).await?.of_all();
    let over = Arc::new(AtomicBool::new(false));
    let elsewhere = elsewhere()?;
    let began = Instant::now();
    let sending: Vec<_> = (1..=SENDERS)
        .map(|device| {
            // A client of its own: a connection is looked after by the runtime in which it was made.
            let (over, url, token) = (Arc::clone(&over), sender.url.clone(), sender.token.clone());
            elsewhere.spawn(async move {
                let sender = Sender::new(url, token)?;
                let mut sent = 0;
                while !over.load(Ordering::Relaxed) {
                    sender.send(device * 1_000_000 + sent, PHOTO).await?;
                    sent += 1;
                }
                Ok::<u64, crate::Trouble>(sent)
            })
        })
        .collect();
    let looked = Looks::of(&keeper).await;
    over.store(true, Ordering::Relaxed);
    let mut photos = 0;
    for one in sending {
        let sent = one.await??;
        if sent == 0 {
            return Err("a device sent nothing while pictures were looked at".into());
        }
        photos += sent;
    }
    let rate = photos as f64 / began.elapsed().as_secs_f64();
    elsewhere.shutdown_background();
    let looked = looked?;
    let (median, p99) = looked.of_all();
    report.say(format!(
        "looking at the library while eight devices send: median {:.1} ms, 99th percentile {:.1} ms (goal: 50 ms; {:.1} ms alone)",
        median * 1e3,
        p99 * 1e3,
        p99_alone * 1e3
    ));
    println!("    they sent {rate:.0} photos of {} in a second", words::size(PHOTO));
    let (median, p99) = percentiles(looked.late.clone());
    println!("    woken late by this machine: median {:.1} ms, 99th percentile {:.1} ms", median * 1e3, p99 * 1e3);
    for (path, took) in LOOKED_AT.iter().zip(&looked.took) {
        let (median, p99) = percentiles(took.clone());
        println!("    {path}: median {:.1} ms, 99th percentile {:.1} ms", median * 1e3, p99 * 1e3);
    }

    forget_peak(&house)?;
    let began = Instant::now();
    let large = (0..LARGE_AT_ONCE).map(|n| sender.send(900_000_000 + n, LARGE));
    for sent in futures_util::future::join_all(large).await {
        sent?;
    }
    let rate = (LARGE * LARGE_AT_ONCE) as f64 / began.elapsed().as_secs_f64();
    report.say(format!(
        "peak memory while four files of 4 GB were received at once, at {}/s: {} (goal: below 150 MB)",
        words::size(rate as u64),
        words::size(peak(&house)?)
    ));
    house.stop_service().await?;
    Ok(fs::remove_dir_all(&live)?)
}

/// Where the eight devices live. In a household each has processors of its own, and so has the screen at which somebody looks;
/// here all of them share two with the service. So the devices give way, and how much they send is told.
fn elsewhere() -> Step<Runtime> {
    const GIVES_WAY: i32 = 10;
    let give_way = || {
        // On Linux this is about the calling thread alone.
        let _ = rustix::process::nice(GIVES_WAY);
    };
    Ok(Builder::new_multi_thread().worker_threads(2).enable_all().on_thread_start(give_way).build()?)
}

/// What the library's page asks for.
const LOOKED_AT: [&str; 3] = ["api/months", "api/originals?limit=100", "api/devices"];

/// How long each look took, in seconds, by what was looked at.
struct Looks {
    took: [Vec<f64>; LOOKED_AT.len()],
    /// How late this very program was woken from its sleep between two looks: what the machine itself costs, whoever is asked.
    late: Vec<f64>,
}

impl Looks {
    /// Looks at the library as its page does, again and again.
    async fn of(keeper: &Console) -> Step<Looks> {
        let (mut took, mut late): ([Vec<f64>; LOOKED_AT.len()], Vec<f64>) = Default::default();
        for n in 0..LOOKS {
            let which = n % LOOKED_AT.len();
            let began = Instant::now();
            keeper.bytes(LOOKED_AT[which]).await?;
            took[which].push(began.elapsed().as_secs_f64());
            let began = Instant::now();
            tokio::time::sleep(PACE).await;
            late.push(began.elapsed().saturating_sub(PACE).as_secs_f64());
        }
        Ok(Looks { took, late })
    }

    fn of_all(&self) -> (f64, f64) {
        percentiles(self.took.concat())
    }
}

/// The median and the 99th percentile.
fn percentiles(mut took: Vec<f64>) -> (f64, f64) {
    took.sort_by(f64::total_cmp);
    (took[took.len() / 2], took[took.len() * 99 / 100])
}

/// Any tus client: one request for each file.
#[derive(Clone)]
struct Sender {
    http: reqwest::Client,
    url: Url,
    token: String,
}

impl Sender {
    fn new(url: Url, token: String) -> Step<Self> {
        Ok(Sender { http: reqwest::Client::builder().no_proxy().build()?, url, token })
    }

    /// Sends a file of so many bytes that no other number has.
    async fn send(&self, number: u64, length: u64) -> Step<()> {
        let mut rng = Rng::new(number);
        let block: Arc<Vec<u8>> = Arc::new((0..CHUNK / 8).flat_map(|_| rng.next().to_le_bytes()).collect());
        let chunks = length.div_ceil(CHUNK as u64);
        let body = stream::iter(0..chunks).map(move |n| {
            let mut chunk = block[..(CHUNK as u64).min(length - n * CHUNK as u64) as usize].to_vec();
            let mark = n.to_le_bytes();
            let marked = mark.len().min(chunk.len());
            chunk[..marked].copy_from_slice(&mark[..marked]);
            Ok::<_, std::io::Error>(chunk)
        });
        let name = data_encoding::BASE64.encode(format!("{number}.jpg").as_bytes());
        let request = self.http.post(self.url.clone()).bearer_auth(&self.token).header("Tus-Resumable", "1.0.0");
        request
            .header("Upload-Length", length)
            .header("Content-Length", length)
            .header("Content-Type", "application/offset+octet-stream")
            .header("Upload-Metadata", format!("filename {name}"))
            .body(reqwest::Body::wrap_stream(body))
            .send()
            .await?
            .error_for_status()?;
        Ok(())
    }
}
