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
use url::Url;
use ypogeion_demo::scenes::Rng;

use super::{forget_peak, peak};
use crate::{
    Step,
    device::Device,
    house::{Console, House, Options},
};

const CHUNK: usize = 4 << 20;
const LARGE: u64 = 4_000_000_000;
const LARGE_AT_ONCE: u64 = 4;
const SENDERS: u64 = 8;
const PHOTO: u64 = 3_000_000;
const LOOKS: usize = 600;
/// Photos that are there before anybody looks.
const THERE: u64 = 400;

/// What was measured.
pub struct Load {
    /// Most memory that the service held while four files of 4 GB came in, in bytes.
    pub memory: u64,
    /// Their speed together, in bytes per second.
    pub rate: f64,
    /// Half of the looks at the library took less, while eight devices sent; in seconds.
    pub median: f64,
    /// Ninety-nine of a hundred took less.
    pub p99: f64,
    /// The same without anybody sending.
    pub p99_alone: f64,
}

/// Measures both in a house of its own, without a store: this is about what comes in.
pub async fn measure(folder: &Path) -> Step<Load> {
    let live = folder.join("loaded-house");
    ypogeion_catalog::cluster::stop(&live.join("data/database"))?;
    if live.exists() {
        fs::remove_dir_all(&live)?;
    }
    let mut house = House::start(Options { throw_away: false, ..Options::test(&live) }).await?;
    let keeper = house.keeper().await?;
    let device = Device::new(&live.join("device"));
    device.pair(&keeper.pairing("Juno").await?, "load", "computer", &[]).await?;
    let token = ypogeion_agent::home::Home::open(device.folder())?.paired()?.token.clone();
    let sender = Sender { http: reqwest::Client::builder().no_proxy().build()?, url: house.http.join("tus/")?, token };

    stream::iter(0..THERE).map(|n| sender.send(n, PHOTO)).buffer_unordered(4).collect::<Vec<Step<()>>>().await;
    let (_, p99_alone) = look(&keeper).await?;
    let over = Arc::new(AtomicBool::new(false));
    let sending: Vec<_> = (1..=SENDERS)
        .map(|device| {
            let (sender, over) = (sender.clone(), Arc::clone(&over));
            tokio::spawn(async move {
                let mut sent = 0;
                while !over.load(Ordering::Relaxed) {
                    sender.send(device * 1_000_000 + sent, PHOTO).await?;
                    sent += 1;
                }
                Ok::<u64, crate::Trouble>(sent)
            })
        })
        .collect();
    let looked = look(&keeper).await;
    over.store(true, Ordering::Relaxed);
    for one in sending {
        if one.await?? == 0 {
            return Err("a device sent nothing while pictures were looked at".into());
        }
    }
    let (median, p99) = looked?;

    forget_peak(&house)?;
    let began = Instant::now();
    let large = (0..LARGE_AT_ONCE).map(|n| sender.send(900_000_000 + n, LARGE));
    for sent in futures_util::future::join_all(large).await {
        sent?;
    }
    let (memory, rate) = (peak(&house)?, (LARGE * LARGE_AT_ONCE) as f64 / began.elapsed().as_secs_f64());
    house.stop_service().await?;
    fs::remove_dir_all(&live)?;
    Ok(Load { memory, rate, median, p99, p99_alone })
}

/// Looks at the library as its page does, again and again. The median and the 99th percentile, in seconds.
async fn look(keeper: &Console) -> Step<(f64, f64)> {
    let mut took = Vec::with_capacity(LOOKS);
    for n in 0..LOOKS {
        let path = ["api/months", "api/originals?limit=100", "api/devices"][n % 3];
        let began = Instant::now();
        keeper.bytes(path).await?;
        took.push(began.elapsed().as_secs_f64());
        tokio::time::sleep(Duration::from_millis(15)).await;
    }
    took.sort_by(f64::total_cmp);
    Ok((took[LOOKS / 2], took[LOOKS * 99 / 100]))
}

/// Any tus client: one request for each file.
#[derive(Clone)]
struct Sender {
    http: reqwest::Client,
    url: Url,
    token: String,
}

impl Sender {
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
