//! What a device asks: a second run with nothing new, and an offer of everything it has.

use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
    time::Instant,
};

use futures_util::{StreamExt, stream};
use serde_json::json;
use ypogeion_core::{Digest, words};
use ypogeion_wire::device::{LARGEST_OFFER, OfferEntry};

use super::{Report, done, forget_peak, new_house, peak};
use crate::{Step, device::Device};

const OFFERED: usize = 100_000;

/// In a house of its own: this row is about the device, and nobody wants a hundred thousand small files in the store.
pub async fn second_run(folder: &Path, tree: usize, report: &mut Report) -> Step<()> {
    let live = folder.join("second-house");
    let house = new_house(&live, |o| o).await?;
    let keeper = house.keeper().await?;
    let small = folder.join("tree");
    for n in 0..tree {
        let place = small.join(format!("{:03}", n / 500));
        if n % 500 == 0 {
            fs::create_dir_all(&place)?;
        }
        fs::write(place.join(format!("{n}.txt")), format!("file {n}"))?;
    }
    let device = Device::new(&live.join("device"));
    device.pair(&keeper.pairing("Juno").await?, "second run", "computer", &[("tree", &small)]).await?;
    let first = device.json(&["backup"]).await?;
    if first["counts"]["failed"] != 0 {
        return Err("the first run failed".into());
    }
    let (mut limit, mut ours) = (f64::MAX, f64::MAX);
    for _ in 0..3 {
        let began = Instant::now();
        done(Command::new("find").arg(&small).args(["-type", "f", "-printf", "%p %s %T@ %i\\n"]).stdout(Stdio::null()))?;
        limit = limit.min(began.elapsed().as_secs_f64());
        let began = Instant::now();
        let said = device.json(&["backup"]).await?;
        ours = ours.min(began.elapsed().as_secs_f64());
        if said["counts"]["sent"] != 0 || said["counts"]["checked"] != json!(tree) {
            return Err(format!("a second run that was none: {said}").into());
        }
    }
    fs::remove_dir_all(small)?;
    report.against("second run, nothing new", limit, ours, "≤ 2 × its time");
    Ok(())
}

/// A device offers a hundred thousand files that nobody has seen, in the largest batches there are. Seconds, and bytes of
/// memory above what the service held before.
pub async fn large_offer(folder: &Path, report: &mut Report) -> Step<()> {
    println!("an offer of {} digests …", words::count(OFFERED as u64));
    let house = new_house(&folder.join("offered-house"), |o| o).await?;
    let keeper = house.keeper().await?;
    let device = Device::new(&house.options.folder.join("offering-device"));
    device.pair(&keeper.pairing("Juno").await?, "offers", "computer", &[]).await?;
    let client = ypogeion_agent::home::Home::open(device.folder())?.client()?;
    let offers: Vec<Vec<OfferEntry>> = (0..OFFERED / LARGEST_OFFER)
        .map(|batch| {
            let entry = |n: usize| OfferEntry {
                digest: Digest::of(format!("offered {n}").as_bytes()),
                size: 1000,
                name: format!("IMG_{n:06}.jpg"),
                source: "Camera".into(),
                file_time: None,
            };
            (batch * LARGEST_OFFER..(batch + 1) * LARGEST_OFFER).map(entry).collect()
        })
        .collect();
    forget_peak(&house)?;
    let before = peak(&house)?;
    let began = Instant::now();
    // Two at once, as a device does that hashes while it offers.
    let answers: Vec<Step<()>> = stream::iter(offers)
        .map(async |entries| {
            client.offer(entries).await?;
            Ok(())
        })
        .buffer_unordered(2)
        .collect()
        .await;
    answers.into_iter().collect::<Step<()>>()?;
    let (took, more) = (began.elapsed().as_secs_f64(), peak(&house)?.saturating_sub(before));
    report.say(format!(
        "an offer of {} digests: {took:.2} s, {} more memory (goal: 1 s, 50 MB)",
        words::count(OFFERED as u64),
        words::size(more)
    ));
    Ok(())
}
