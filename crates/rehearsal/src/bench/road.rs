//! The way of a picture: received, sent to a store, brought back.

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use futures_util::{StreamExt, stream};
use reqwest::Method;
use serde_json::json;
use ypogeion_core::{Digest, words};
use ypogeion_demo::scenes::Rng;
use ypogeion_standins::faults::Faults;

use super::{Report, Row, done, each, new_house};
use crate::{
    Step,
    device::Device,
    house::{House, Options},
    program, wait_for,
};

const PHOTO: usize = 3_000_000;
const CONNECTIONS: usize = 4;

/// Measures the rows up to `last`.
pub async fn measure(folder: &Path, last: Row, photos: usize, report: &mut Report) -> Step<()> {
    let data = folder.join("photos");
    let files = make_photos(&data, photos)?;
    // Or whoever is measured first waits for them to be written as well.
    done(Command::new("sync").arg("-f").arg(&data))?;
    println!("{} photos, {}", words::count(photos as u64), words::size((photos * PHOTO) as u64));
    let live = folder.join("house");
    // Reading back is work of its own and begins later: it would run into the row that sends.
    let options =
        |o: Options| Options { settings: "media_workers = 2\nchecks.most_mb_per_second = 0".into(), prove_after: 86_400, ..o };
    let house = new_house(&live, options).await?;
    let keeper = house.keeper().await?;

    println!("receive: the limit (nginx PUT, openssl dgst, sync) …");
    let limit = receive_limit(folder, &files)?;
    println!("receive: Ypogeion …");
    let digests = digests_of(&files)?;
    let device = Device::new(&live.join("device"));
    device.pair(&keeper.pairing("Juno").await?, "bench", "computer", &[("photos", &data)]).await?;
    let ours = receive(&house, &device, &files, &digests).await?;
    report.against("receive, landed and acknowledged", limit, ours, "≥ 1.0 × its speed");
    if last == Row::Receive {
        return Ok(fs::remove_dir_all(&data)?);
    }

    println!("audit: the limit (openssl dgst, one process) …");
    let filed: Vec<PathBuf> =
        crate::walk::originals_below(&house.library())?.into_keys().map(|p| house.library().join(p)).collect();
    let began = Instant::now();
    each(1, &filed, "openssl dgst -sha256 \"$f\"")?;
    let limit = began.elapsed().as_secs_f64();
    println!("audit: Ypogeion …");
    let began = Instant::now();
    keeper.ask(Method::POST, "api/checks", Some(json!({ "store": null, "kind": "reading" }))).await?;
    wait_for("every copy to be read", 1800, async || {
        let checks = keeper.ask(Method::GET, "api/checks", None).await?;
        Ok((checks["checks"][0]["last"]["checked"] == photos).then_some(()))
    })
    .await?;
    report.against("audit of the home disk", limit, began.elapsed().as_secs_f64(), "≥ 0.95 × its speed");
    if last == Row::Audit {
        return Ok(fs::remove_dir_all(&data)?);
    }

    println!("replicate: the limit (age -r, curl PUT) …");
    let kit_key = fs::read_to_string(live.join("data/household.key"))?;
    let kit_key = kit_key.lines().find(|l| l.starts_with("AGE-SECRET-KEY-1")).ok_or("the key file holds no key")?;
    let recipient = kit_key.parse::<ypogeion_offsite::Identity>()?.recipient();
    // The store runs on the same cores as what is measured, and only Ypogeion asks it to check what it takes: it checks nothing, for either.
    let unchecked = || house.store.set_faults(Faults { swallows: true, ..Faults::default() });
    unchecked();
    let limit = replicate_limit(folder, &house, &files, &recipient)?;
    println!("replicate: Ypogeion …");
    // While it is tried out it checks, or copies would be read again before they count.
    house.store.set_faults(Faults::default());
    let began = Instant::now();
    keeper.ask(Method::POST, "api/stores", Some(house.store_form())).await?;
    unchecked();
    wait_for("everything to be offsite", 1800, async || Ok((keeper.store().await?.held.count >= photos as u64).then_some(())))
        .await?;
    report.against("replicate sealed", limit, began.elapsed().as_secs_f64(), "≥ 1.5 × its speed");
    if last == Row::Replicate {
        return Ok(fs::remove_dir_all(&data)?);
    }

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
    report.against("recover everything", limit, began.elapsed().as_secs_f64(), "≥ 1.5 × its speed");
    fs::remove_dir_all(folder.join("recovered"))?;
    Ok(fs::remove_dir_all(&data)?)
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
