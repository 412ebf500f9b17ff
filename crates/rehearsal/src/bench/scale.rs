//! A household of any size, made of rows alone, and what its pages cost: nothing that a page, a poll or an event asks for may cost more with a
//! larger library.

use std::{path::Path, time::Instant};

use reqwest::Method;
use serde_json::json;
use ypogeion_core::words;

use super::{Report, new_house};
use crate::{
    Step,
    house::{Console, House},
};

/// What is measured against.
const SMALL: u64 = 10_000;
/// Rows that are made at a time.
const PORTION: u64 = 50_000;
const ASKED: usize = 60;
const STORES: usize = 2;
const DEVICES: u64 = 4;

/// Two stores that hold everything, four devices that named everything, twenty years of pictures; `$from` to `$to` of them.
const ROWS: &str = "
    INSERT INTO original (id, person, device, digest, size, name, path, folded, kind, taken_at, taken_local, taken_rule, facts, landed_at, preview, shot,
        shot_key, source)
    SELECT n.id, d.person, d.id, sha256(n.i::text::bytea), 2000000 + n.i % 1000000, format('IMG_%s.jpg', n.i), format('juno/%s/IMG_%s.jpg', n.i / 1000, n.i),
           format('juno/%s/img_%s.jpg', n.i / 1000, n.i), 'photo', n.at, n.at AT TIME ZONE 'UTC', 'exif', '{\"width\": 4000, \"height\": 3000}',
           now() - interval '200 days' + n.i * interval '1 second', 'ready', n.id, format('IMG_%s', n.i), 'Camera'
    FROM (
        SELECT i, ('00000000-0000-7000-8000-' || lpad(to_hex(i), 12, '0'))::uuid AS id,
               now() - interval '200 days' - (i * 7919 % 7300) * interval '1 day' AS at
        FROM generate_series($from::bigint, $to::bigint) i
    ) n JOIN big_device d ON d.n = n.i % 4;
    CREATE TEMPORARY VIEW big AS SELECT * FROM original
    WHERE id BETWEEN ('00000000-0000-7000-8000-' || lpad(to_hex($from::bigint), 12, '0'))::uuid AND ('00000000-0000-7000-8000-' || lpad(to_hex($to::bigint), 12, '0'))::uuid;
    INSERT INTO object (store, digest, name, size, sealed_hash, sealed_algorithm, confirmed_at, epoch)
    SELECT s.id, o.digest, 'sealed/' || o.id, o.size + 300, o.digest, 'blake3', o.landed_at, 0 FROM big o CROSS JOIN store s;
    INSERT INTO observation (original, place, act, at, digest, outcome) SELECT id, '00000000-0000-0000-0000-000000000000', 'landed', landed_at, digest, 'right' FROM big;
    INSERT INTO observation (original, place, act, at, digest, outcome) SELECT o.id, s.id, 'confirmed', o.landed_at, o.digest, 'right' FROM big o CROSS JOIN store s;
    INSERT INTO standing (original, place, good, since, listed) SELECT id, '00000000-0000-0000-0000-000000000000', true, landed_at, false FROM big;
    INSERT INTO standing (original, place, good, since, proven_at, listed)
    SELECT o.id, s.id, true, o.landed_at, now() - (('x' || right(o.id::text, 4))::bit(16)::int % 89) * interval '1 day', true FROM big o CROSS JOIN store s;
    INSERT INTO sighting (device, source, name, digest, size, seen_at) SELECT device, 'Camera', name, digest, size, landed_at FROM big;
    INSERT INTO job (kind, key, store, priority, due) SELECT 'prove', o.id, s.id, 5, now() + interval '40 days' FROM big o CROSS JOIN store s;";

/// What is asked, by the page that asks it.
const PAGES: [(&str, &str); 18] = [
    ("overview", "api/overview"),
    ("state", "api/state"),
    ("devices", "api/devices"),
    ("people", "api/people"),
    ("stores", "api/stores"),
    ("months", "api/months"),
    ("how a month lies", "api/months/2016-05/shape"),
    ("timeline, newest", "api/originals?limit=40"),
    ("timeline, middle", "api/originals?limit=40&month=2016-05"),
    ("timeline, oldest", "api/originals?limit=40&month=2006-09"),
    ("history", "api/history"),
    ("coverage of a device", "api/devices/$device/coverage"),
    ("too few copies", "api/copies/short"),
    ("checks", "api/checks"),
    ("background work", "api/work"),
    ("deleted", "api/holding"),
    ("backups", "api/runs?folded=true&limit=40"),
    ("who did what", "api/record"),
];

pub async fn measure(folder: &Path, originals: u64, report: &mut Report) -> Step<()> {
    let mut small = Vec::new();
    for many in [SMALL, originals] {
        println!("a household of {} originals …", words::count(many));
        let mut house = new_house(&folder.join("large-house"), |o| o).await?;
        fill(&mut house, many).await?;
        let began = Instant::now();
        house.start_service().await?;
        let started = began.elapsed().as_secs_f64();
        let keeper = house.keeper().await?;
        let mut pages = pages(&keeper).await?;
        pages.extend(of_a_device(&house).await?);
        let memory = super::peak(&house)?;
        if small.is_empty() {
            small = pages;
            continue;
        }
        report.say(format!("a household of {} originals, against {}:", words::count(many), words::count(SMALL)));
        for ((name, now), (_, before)) in pages.iter().zip(&small) {
            report.say(format!(
                "  {name:28} p50 {:>7.1} ms  p99 {:>7.1} ms  {:>6.2} × (goal: 30 ms, 1.5 ×; of a run 50 ms, of a landing 1.2 ×)",
                now.0 * 1000.0,
                now.1 * 1000.0,
                now.0 / before.0
            ));
        }
        report.say(format!("  start until it answers: {started:.1} s (goal: 3 s); the most memory: {}", words::size(memory)));
    }
    Ok(())
}

/// The median and the slowest but one in a hundred, in seconds, of each page.
async fn pages(keeper: &Console) -> Step<Vec<(&'static str, (f64, f64))>> {
    let device = keeper.ask(Method::GET, "api/devices", None).await?[0]["id"].as_str().ok_or("no device")?.to_owned();
    let mut all = Vec::new();
    for (name, path) in PAGES {
        let path = path.replace("$device", &device);
        let mut took = Vec::new();
        let most = Instant::now();
        for _ in 0..ASKED {
            let began = Instant::now();
            keeper.ask(Method::GET, &path, None).await.map_err(|e| format!("{path}: {e}"))?;
            took.push(began.elapsed().as_secs_f64());
            // What takes seconds need not be asked sixty times to be known.
            if most.elapsed().as_secs() > 20 {
                break;
            }
        }
        took.sort_by(f64::total_cmp);
        all.push((name, (took[took.len() / 2], took[took.len() * 99 / 100])));
    }
    Ok(all)
}

/// What a device asks that named a quarter of it all, and what it costs to land one photo of it.
async fn of_a_device(house: &House) -> Step<Vec<(&'static str, (f64, f64))>> {
    let http = reqwest::Client::new();
    let ask = |method: Method, path: &str| -> Step<reqwest::RequestBuilder> {
        // The credential whose hash `fill` put down.
        Ok(http.request(method, house.http.join(path)?).bearer_auth("0"))
    };
    let sources = json!({ "sources": [{ "name": "Camera", "files": 250_000, "bytes": 500_000_000_000u64, "fresh": 0, "left_out": 0, "rule": "everything", "selection_only": false }] });
    let mut all = Vec::new();
    for (name, most) in [
        ("a run begins", ASKED),
        ("a device\u{2019}s own status", ASKED),
        ("what a device has", ASKED),
        ("landing a photo of 3 MB", 40),
    ] {
        let mut took = Vec::new();
        for n in 0..most {
            let request = match name {
                "a run begins" => ask(Method::POST, "api/device/runs")?,
                "what a device has" => ask(Method::PUT, "api/device/inventory")?.json(&sources),
                "landing a photo of 3 MB" => {
                    let mut photo = vec![0; 3_000_000];
                    let salt = u64::try_from(n)? + 1;
                    photo
                        .chunks_exact_mut(8)
                        .zip(1u64..)
                        .for_each(|(c, i)| c.copy_from_slice(&i.wrapping_mul(salt << 32 | 0x9e37_79b9).to_le_bytes()));
                    ask(Method::POST, "tus/")?
                        .header("Tus-Resumable", "1.0.0")
                        .header("Upload-Length", photo.len())
                        .header("Content-Type", "application/offset+octet-stream")
                        .body(photo)
                }
                _ => ask(Method::GET, "api/device")?,
            };
            let began = Instant::now();
            request.send().await?.error_for_status()?;
            took.push(began.elapsed().as_secs_f64());
        }
        took.sort_by(f64::total_cmp);
        all.push((name, (took[took.len() / 2], took[took.len() * 99 / 100])));
    }
    Ok(all)
}

pub(super) async fn fill(house: &mut House, originals: u64) -> Step<()> {
    house.stop_service().await?;
    let sql = |text: &str| house.sql(text);
    sql("CREATE UNLOGGED TABLE big_device (n bigint, id uuid, person uuid)")?;
    for n in 0..DEVICES {
        sql(&format!(
            "WITH d AS (
                 INSERT INTO device (id, person, name, kind, token_hash, paired_at, seen_at)
                 SELECT gen_random_uuid(), id, 'phone {n}', 'phone', sha256('{n}'), now() - interval '300 days', now() FROM person LIMIT 1 RETURNING id, person
             ) INSERT INTO big_device SELECT {n}, id, person FROM d"
        ))?;
    }
    sql("INSERT INTO device_source (device, name, files, bytes, left_out, rule, selection_only, told_at, fresh)
         SELECT id, 'Camera', 250000, 500000000000, 0, 'everything', false, now(), 0 FROM big_device;
         INSERT INTO run (id, device, began_at, reported_at, ended_at, checked) SELECT gen_random_uuid(), id, now() - interval '1 hour', now(), now(), 250000 FROM big_device")?;
    for n in 0..STORES {
        sql(&format!(
            "INSERT INTO store (id, name, endpoint, region, bucket, prefix, access_key, secret_key, created_at, ledger_segment, prices)
             VALUES (gen_random_uuid(), 'Store {n}', 'http://127.0.0.1:1', 'r', 'b{n}', '', 'a', 's', now(), 1,
                     '{{\"currency\": \"€\", \"storage\": 0.006, \"minimum_days\": 30}}')"
        ))?;
    }
    let began = Instant::now();
    for from in (0..originals).step_by(usize::try_from(PORTION)?) {
        let to = (from + PORTION).min(originals) - 1;
        sql(&ROWS.replace("$from", &from.to_string()).replace("$to", &to.to_string()))?;
    }
    sql("VACUUM ANALYZE")?;
    println!("  made in {:.0} s", began.elapsed().as_secs_f64());
    Ok(())
}
