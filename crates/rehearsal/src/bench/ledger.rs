//! Reading a ledger of many originals: time, and memory that does not grow with them.

use std::{fs, path::Path, time::Instant};

use chrono::{TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_core::words;
use ypogeion_core::{
    Digest, OriginalId, OriginalName, PersonId,
    capture::CaptureRule,
    filing::FiledPath,
    kind::MediaKind,
    kit::StoreAddress,
    ledger::{LedgerKey, ObjectRecord, OriginalRecord, Record},
};
use ypogeion_offsite::{Identity, Keys, LedgerRead, Replica, Store};

use super::Report;
use crate::Step;

const PART: u64 = 5000;

/// Writes a checkpoint of ten thousand and of `many` originals to a disk, and reads each back.
pub async fn measure(folder: &Path, many: u64, report: &mut Report) -> Step<()> {
    let mut peaks = Vec::new();
    for count in [10_000, many] {
        println!("ledger: {} originals …", words::count(count));
        let place = folder.join("ledger-store");
        if place.exists() {
            fs::remove_dir_all(&place)?;
        }
        fs::create_dir_all(&place)?;
        let replica = replica(&place).await?;
        write(&replica, count).await?;
        let before = own_memory("VmRSS:")?;
        fs::write("/proc/self/clear_refs", "5")?;
        let began = Instant::now();
        let LedgerRead { ledger, bad, .. } = replica.read_ledger(&folder.join("ledger-scratch")).await?;
        let took = began.elapsed().as_secs_f64();
        if !bad.is_empty() || ledger.originals.count()? != count {
            return Err(format!("{} of {count} originals were read", ledger.originals.count()?).into());
        }
        // As a recovery walks through it.
        let newest = ledger.originals.newest_first()?.try_fold(0u64, |n, r| r.map(|_| n + 1))?;
        let more = own_memory("VmHWM:")?.saturating_sub(before);
        peaks.push(more);
        report.say(format!(
            "ledger of {} originals: read in {took:.2} s, walked through ({}) in all in {:.2} s, {} more memory",
            words::count(count),
            words::count(newest),
            began.elapsed().as_secs_f64(),
            words::size(more)
        ));
        fs::remove_dir_all(&place)?;
    }
    report.say(format!("a hundred times as many originals take {:.2} × the memory", peaks[1] as f64 / peaks[0].max(1) as f64));
    Ok(())
}

async fn replica(place: &Path) -> Step<Replica> {
    let address = StoreAddress {
        name: "Bench".into(),
        endpoint: format!("file://{}", place.display()),
        region: String::new(),
        bucket: String::new(),
        prefix: String::new(),
        access_key: String::new(),
        secret_key: String::new(),
        sealed: true,
        certificate: None,
    };
    let keys = Keys::from(Identity::generate()).proving(Some(LedgerKey::new([7; 32])));
    Ok(Replica::open_or_begin(Store::new(&address)?, keys, Uuid::new_v4(), Utc::now()).await?)
}

async fn write(replica: &Replica, count: u64) -> Step<()> {
    let parts = count.div_ceil(PART);
    for part in 0..parts {
        let records: Vec<Record> = (part * PART..(count.min((part + 1) * PART))).map(original).collect();
        let number = u32::try_from(part)? + 1;
        replica.write_part((7, 1), (number, part + 1 == parts), None, &records, Utc::now()).await?;
    }
    Ok(())
}

fn original(n: u64) -> Record {
    let digest = Digest::of(&n.to_le_bytes());
    let path = format!("juno/{}/{:02}/IMG_{n:07}.HEIC", 2000 + n % 27, 1 + n % 12);
    Record::Original(Box::new(OriginalRecord {
        id: OriginalId(Uuid::from_u128(u128::from(n) << 20)),
        person: PersonId(Uuid::from_u128(1)),
        device: None,
        sha256: digest,
        size: 3_000_000 + n % 1000,
        path: FiledPath::parse(&path).expect("a plain path"),
        name: OriginalName::from_device(&format!("IMG_{n:07}.HEIC")),
        kind: MediaKind::Photo,
        taken_at: Utc::now() - TimeDelta::minutes(i64::try_from(n * 13 % 14_000_000).unwrap_or(0)),
        taken_local: None,
        taken_rule: CaptureRule::ExifOffset,
        landed_at: Utc::now(),
        source: "Camera".into(),
        file_time: Some(Utc::now()),
        shot: None,
        held: None,
        favourite_of: Vec::new(),
        albums: Vec::new(),
        without: Vec::new(),
        words: None,
        given_time: None,
        given_place: None,
        given_turn: None,
        put_away: false,
        forward: None,
        version_of: None,
        brought: None,
        object: ObjectRecord {
            name: format!("sealed/{}/{digest}.age", &digest.to_string()[..2]),
            size: 3_000_900,
            hash: digest.into(),
        },
    }))
}

fn own_memory(line: &str) -> Step<u64> {
    let status = fs::read_to_string("/proc/self/status")?;
    let kilobytes = status.lines().find_map(|l| l.strip_prefix(line)?.trim().split(' ').next()?.parse::<u64>().ok());
    Ok(kilobytes.ok_or("the memory cannot be read")? * 1024)
}
