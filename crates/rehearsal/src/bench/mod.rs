//! Measured against the limits of this machine: for each row the limit and Ypogeion run on the same data, one after the
//! other, and the ratio is printed. Speeds of different machines or days say nothing; ratios do.
//!
//! This module has the rows that follow a picture on its way; [`previews`] and [`load`] have those that stand by themselves.

mod load;
mod previews;

use std::{
    fs,
    io::Write,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use futures_util::{StreamExt, stream};
use reqwest::Method;
use serde_json::json;
use ypogeion_core::{Digest, words};
use ypogeion_demo::scenes::Rng;
use ypogeion_wire::device::{LARGEST_OFFER, OfferEntry};

use crate::{
    Step,
    device::Device,
    house::{House, Options},
    program, wait_for,
};

const PHOTO: usize = 3_000_000;
const CONNECTIONS: usize = 4;
const OFFERED: usize = 100_000;

struct Row {
    what: &'static str,
    limit: f64,
    ours: f64,
    goal: &'static str,
}

/// A row that was measured is said at once: what comes later may fail.
fn add(rows: &mut Vec<Row>, row: Row) {
    println!("  {}: {:.2} s against {:.2} s, {:.2}× ({})", row.what, row.ours, row.limit, row.limit / row.ours, row.goal);
    rows.push(row);
}

/// Measures all rows with `photos` photos of 3 MB and a tree of `tree` small files, and prints them as a table.
pub async fn run(folder: &Path, photos: usize, tree: usize) -> Step<()> {
    let data = folder.join("photos");
    let files = make_photos(&data, photos)?;
    let bytes = (photos * PHOTO) as u64;
    println!(
        "{} photos, {}, on {} cores",
        words::count(photos as u64),
        words::size(bytes),
        std::thread::available_parallelism()?
    );
    let mut rows = Vec::new();

    let live = folder.join("house");
    ypogeion_catalog::cluster::stop(&live.join("data/database"))?;
    if live.exists() {
        fs::remove_dir_all(&live)?;
    }
    // As a household has it: nothing is thrown away, every commit is on the disk.
    // Reading back is work of its own and begins later: it would run into the row that sends.
    let options =
        Options { throw_away: false, settings: "media_workers = 2".into(), prove_after: 86_400, ..Options::test(&live) };
    let house = House::start(options).await?;
    let keeper = house.keeper().await?;

    println!("receive: the limit (nginx PUT, openssl dgst, sync) …");
    let limit = receive_limit(folder, &files)?;
    println!("receive: Ypogeion …");
    let digests = digests_of(&files)?;
    let device = Device::new(&live.join("device"));
    device.pair(&keeper.pairing("Juno").await?, "bench", "computer", &[("photos", &data)]).await?;
    let ours = receive(&house, &device, &files, &digests).await?;
    add(&mut rows, Row { what: "receive, landed and acknowledged", limit, ours, goal: "≥ 1.0 × its speed" });

    println!("replicate: the limit (age -r, curl PUT) …");
    let kit_key = fs::read_to_string(live.join("data/household.key"))?;
    let recipient = kit_key.trim().parse::<ypogeion_offsite::Identity>()?.recipient();
    let limit = replicate_limit(folder, &house, &files, &recipient)?;
    println!("replicate: Ypogeion …");
    let began = Instant::now();
    keeper.ask(Method::POST, "api/stores", Some(house.store_form())).await?;
    wait_for("everything to be offsite", 1800, async || Ok((keeper.store().await?.held.count >= photos as u64).then_some(())))
        .await?;
    add(&mut rows, Row { what: "replicate sealed", limit, ours: began.elapsed().as_secs_f64(), goal: "≥ 1.5 × its speed" });

    wait_for("the ledger to name everything", 600, async || Ok((keeper.store().await?.unlisted == 0).then_some(()))).await?;
    println!("recover: the limit (curl GET, age -d, sha256sum) …");
    let kit = keeper.kit(&house.options.keeper.1).await?;
    fs::write(live.join("kit.txt"), kit)?;
    let limit = recover_limit(folder, &house, &live.join("data/household.key"))?;
    println!("recover: Ypogeion …");
    let began = Instant::now();
    let mut recover = Command::new(program("ypogeiond")?);
    recover.args(["recover", "--kit"]).arg(live.join("kit.txt")).arg("--to").arg(folder.join("recovered")).stderr(Stdio::null());
    done(recover.stdout(Stdio::null()))?;
    add(&mut rows, Row { what: "recover everything", limit, ours: began.elapsed().as_secs_f64(), goal: "≥ 1.5 × its speed" });
    fs::remove_dir_all(folder.join("recovered"))?;

    println!("second run: {} files …", words::count(tree as u64));
    let (limit, ours) = second_run(folder, tree).await?;
    add(&mut rows, Row { what: "second run, nothing new", limit, ours, goal: "≤ 2 × its time" });

    println!("memory while 2 GB are received …");
    let memory = memory_of_a_large_file(folder, &house, &keeper).await?;

    println!("an offer of {} digests …", words::count(OFFERED as u64));
    let (seconds, more) = large_offer(&house, &keeper).await?;

    println!("previews of 12-megapixel pictures: the limit (vipsthumbnail), then Ypogeion …");
    let (limit, ours) = previews::measure(folder)?;
    add(&mut rows, Row { what: "previews of 12-megapixel JPEGs", limit, ours, goal: "≥ 1.0 × its speed" });

    println!("under load …");
    let load = load::measure(folder).await?;

    println!("\n{:34} {:>10} {:>10} {:>9}  goal", "row", "limit, s", "ours, s", "speed");
    for r in &rows {
        println!("{:34} {:>10.2} {:>10.2} {:>8.2}×  {}", r.what, r.limit, r.ours, r.limit / r.ours, r.goal);
    }
    println!("peak memory of the service while a 2 GB file was received: {} (goal: below 150 MB)", words::size(memory));
    println!(
        "an offer of {} digests: {seconds:.2} s, {} more memory (goal: 1 s, 50 MB)",
        words::count(OFFERED as u64),
        words::size(more)
    );
    println!(
        "peak memory while four files of 4 GB were received at once, at {}/s: {} (goal: below 150 MB)",
        words::size(load.rate as u64),
        words::size(load.memory)
    );
    println!(
        "looking at the library while eight devices send: median {:.1} ms, 99th percentile {:.1} ms (goal: 50 ms; {:.1} ms alone)",
        load.median * 1e3,
        load.p99 * 1e3,
        load.p99_alone * 1e3
    );
    fs::remove_dir_all(&data)?;
    Ok(())
}

fn make_photos(folder: &Path, count: usize) -> Step<Vec<PathBuf>> {
    fs::create_dir_all(folder)?;
    let mut rng = Rng::new(3);
    let mut bytes = vec![0u8; PHOTO];
    (0..count)
        .map(|n| {
            // No two alike, and nothing that a file system could squeeze.
            for eight in bytes.chunks_exact_mut(8) {
                eight.copy_from_slice(&rng.next().to_le_bytes());
            }
            let path = folder.join(format!("IMG_{n:05}.jpg"));
            fs::write(&path, &bytes)?;
            Ok(path)
        })
        .collect()
}

fn digests_of(files: &[PathBuf]) -> Step<Vec<Digest>> {
    files.iter().map(|f| Ok(Digest::of(&fs::read(f)?))).collect()
}

fn done(command: &mut Command) -> Step<()> {
    let status = command.status()?;
    if status.success() { Ok(()) } else { Err(format!("{} failed: {status}", command.get_program().display()).into()) }
}

/// Runs `sh -c script` for every file, `parallel` at a time.
fn each(parallel: usize, files: &[PathBuf], script: &str) -> Step<()> {
    let mut xargs = Command::new("xargs")
        .args(["-0", "-P", &parallel.to_string(), "-n", "25", "sh", "-ec"])
        .arg(format!("for f in \"$@\"; do {script}; done"))
        .arg("sh")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()?;
    let mut stdin = xargs.stdin.take().ok_or("xargs takes no input")?;
    for file in files {
        stdin.write_all(file.as_os_str().as_encoded_bytes())?;
        stdin.write_all(b"\0")?;
    }
    drop(stdin);
    let status = xargs.wait()?;
    if status.success() { Ok(()) } else { Err(format!("{script}: {status}").into()) }
}

struct Nginx(Child);

impl Drop for Nginx {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn receive_limit(folder: &Path, files: &[PathBuf]) -> Step<f64> {
    let root = folder.join("nginx");
    fs::create_dir_all(root.join("put"))?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let config = format!(
        "daemon off; master_process off; worker_processes 2; pid {0}/pid; error_log {0}/error.log; events {{ worker_connections 64; }}\n\
         http {{ access_log off; client_max_body_size 0; client_body_temp_path {0}/temp; proxy_temp_path {0}/p; fastcgi_temp_path {0}/f; \
         uwsgi_temp_path {0}/u; scgi_temp_path {0}/s; server {{ listen 127.0.0.1:{port}; root {0}; location / {{ dav_methods PUT; }} }} }}",
        root.display()
    );
    fs::write(root.join("nginx.conf"), config)?;
    let nginx =
        Nginx(Command::new("nginx").arg("-e").arg(root.join("error.log")).arg("-c").arg(root.join("nginx.conf")).spawn()?);
    for _ in 0..50 {
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            break;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    let began = Instant::now();
    // One curl for many files, four at a time on kept connections: the least that a client can cost.
    let mut arguments = String::new();
    for file in files {
        arguments +=
            &format!("upload-file = \"{}\"\nurl = \"http://127.0.0.1:{port}/put/\"\noutput = \"/dev/null\"\n", file.display());
    }
    fs::write(root.join("curl.config"), arguments)?;
    done(
        Command::new("curl")
            .args([
                "-sS",
                "--no-progress-meter",
                "--fail",
                "--parallel",
                "--parallel-max",
                &CONNECTIONS.to_string(),
                "--noproxy",
                "*",
                "-K",
            ])
            .arg(root.join("curl.config")),
    )?;
    let put: Vec<PathBuf> = fs::read_dir(root.join("put"))?.map(|e| e.map(|e| e.path())).collect::<std::io::Result<_>>()?;
    if put.len() != files.len() {
        return Err(format!("nginx took {} of {} files", put.len(), files.len()).into());
    }
    each(2, &put, "openssl dgst -sha256 \"$f\"")?;
    done(Command::new("sync").arg("-f").arg(&root))?;
    let took = began.elapsed().as_secs_f64();
    drop(nginx);
    fs::remove_dir_all(root)?;
    Ok(took)
}

/// Any tus client with four connections that knows its digests: creation with upload, one request for each photo.
async fn receive(house: &House, device: &Device, files: &[PathBuf], digests: &[Digest]) -> Step<f64> {
    let home = ypogeion_agent::home::Home::open(device.folder())?;
    let token = home.paired()?.token.clone();
    let http = reqwest::Client::builder().no_proxy().build()?;
    let url = house.http.join("tus/")?;
    let began = Instant::now();
    let results: Vec<Step<()>> = stream::iter(files.iter().zip(digests))
        .map(|(file, digest)| {
            let (http, url, token) = (http.clone(), url.clone(), token.clone());
            async move {
                let encode = |t: &str| data_encoding::BASE64.encode(t.as_bytes());
                let name = file.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
                // As large as the real client reads: a client that costs more than the service would be measured instead of it.
                let open = tokio::fs::File::open(file).await?;
                let body = reqwest::Body::wrap_stream(tokio_util::io::ReaderStream::with_capacity(open, 256 << 10));
                let response = http
                    .post(url)
                    .bearer_auth(token)
                    .header("Tus-Resumable", "1.0.0")
                    .header("Upload-Length", PHOTO)
                    .header("Content-Length", PHOTO)
                    .header("Content-Type", "application/offset+octet-stream")
                    .header("Upload-Metadata", format!("filename {},sha256 {}", encode(&name), encode(&digest.to_string())))
                    .body(body)
                    .send()
                    .await?
                    .error_for_status()?;
                if response.headers().contains_key("ypogeion-original") {
                    Ok(())
                } else {
                    Err("a photo was not acknowledged".into())
                }
            }
        })
        .buffer_unordered(CONNECTIONS)
        .collect()
        .await;
    results.into_iter().collect::<Step<Vec<()>>>()?;
    Ok(began.elapsed().as_secs_f64())
}

fn curl(house: &House) -> String {
    let form = house.store_form();
    let text = |k: &str| form[k].as_str().unwrap_or_default().to_owned();
    format!(
        "curl -sS --fail --noproxy '*' -H 'x-amz-content-sha256: UNSIGNED-PAYLOAD' --aws-sigv4 aws:amz:{}:s3 --user {}:{}",
        text("region"),
        text("access_key"),
        text("secret_key")
    )
}

fn replicate_limit(folder: &Path, house: &House, files: &[PathBuf], recipient: &str) -> Step<f64> {
    let scratch = folder.join("sealed");
    fs::create_dir_all(&scratch)?;
    let began = Instant::now();
    let (curl, url, bucket) = (curl(house), house.store.url(), crate::house::BUCKET);
    let sealed = scratch.display();
    each(
        1,
        files,
        &format!(
            "n=$(basename \"$f\"); age -r {recipient} -o {sealed}/$n \"$f\"; {curl} -T {sealed}/$n {url}/{bucket}/limit/$n; rm {sealed}/$n"
        ),
    )?;
    Ok(began.elapsed().as_secs_f64())
}

fn recover_limit(folder: &Path, house: &House, key: &Path) -> Step<f64> {
    let scratch = folder.join("opened");
    fs::create_dir_all(&scratch)?;
    let limit: Vec<PathBuf> =
        fs::read_dir(house.store_folder().join("limit"))?.map(|e| e.map(|e| e.path())).collect::<std::io::Result<_>>()?;
    let began = Instant::now();
    let (curl, url, bucket, key, out) = (curl(house), house.store.url(), crate::house::BUCKET, key.display(), scratch.display());
    each(
        1,
        &limit,
        &format!("n=$(basename \"$f\"); {curl} {url}/{bucket}/limit/$n | age -d -i {key} -o {out}/$n; sha256sum {out}/$n"),
    )?;
    let took = began.elapsed().as_secs_f64();
    fs::remove_dir_all(scratch)?;
    Ok(took)
}

/// In a house of its own: this row is about the device, and nobody wants a hundred thousand small files in the store.
async fn second_run(folder: &Path, tree: usize) -> Step<(f64, f64)> {
    let live = folder.join("second-house");
    ypogeion_catalog::cluster::stop(&live.join("data/database"))?;
    if live.exists() {
        fs::remove_dir_all(&live)?;
    }
    let house = House::start(Options { throw_away: false, ..Options::test(&live) }).await?;
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
    Ok((limit, ours))
}

async fn memory_of_a_large_file(folder: &Path, house: &House, keeper: &crate::house::Console) -> Step<u64> {
    let large = folder.join("large");
    fs::create_dir_all(&large)?;
    let file = fs::File::create(large.join("long.mp4"))?;
    file.set_len(2_000_000_000)?;
    forget_peak(house)?;
    let device = Device::new(&house.options.folder.join("large-device"));
    device.pair(&keeper.pairing("Juno").await?, "large", "computer", &[("large", &large)]).await?;
    let sent = device.json(&["backup"]).await?;
    if sent["counts"]["sent"] != 1 {
        return Err(format!("the large file was not sent: {sent}").into());
    }
    fs::remove_dir_all(large)?;
    peak(house)
}

/// From here on, the peak counts anew.
fn forget_peak(house: &House) -> Step<()> {
    let pid = house.pid().ok_or("the service does not run")?;
    Ok(fs::write(format!("/proc/{pid}/clear_refs"), "5")?)
}

/// The most memory that the service has held since then, in bytes.
fn peak(house: &House) -> Step<u64> {
    let pid = house.pid().ok_or("the service does not run")?;
    let status = fs::read_to_string(format!("/proc/{pid}/status"))?;
    let peak = status.lines().find_map(|l| l.strip_prefix("VmHWM:")?.trim().split(' ').next()?.parse::<u64>().ok());
    Ok(peak.ok_or("the peak cannot be read")? * 1024)
}

/// A device offers a hundred thousand files that nobody has seen, in the largest batches there are. Seconds, and bytes of
/// memory above what the service held before.
async fn large_offer(house: &House, keeper: &crate::house::Console) -> Step<(f64, u64)> {
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
    forget_peak(house)?;
    let before = peak(house)?;
    let began = Instant::now();
    for entries in offers {
        client.offer(entries).await?;
    }
    Ok((began.elapsed().as_secs_f64(), peak(house)?.saturating_sub(before)))
}
