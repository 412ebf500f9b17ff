//! The contact sheet of a large household in a browser that is as slow as an old phone: frames, jumps, memory.

use std::{
    fs,
    path::{Path, PathBuf},
    time::Duration,
};

use reqwest::Method;
use serde_json::{Value, json};
use ypogeion_core::words;

use super::{Report, new_house, scale};
use crate::{Step, browser::Browser, house::House};

/// So much slower than this machine is the browser's processor.
const SLOWER: f64 = 4.0;
/// A file has no more names.
const NAMES: u64 = 60_000;
/// Years that are gone to, one after the other and back.
const JUMPS: usize = 8;
/// So often one goes to the lower end of the page.
const END: usize = 60;

/// Scrolls by so many pixels with each frame, for so many milliseconds; a third of a frame late is late. Says how many frames there were, how many were late,
/// and how far it came.
const SCROLL: &str = "const [step, time, done] = arguments; const began = performance.now(); let last = began, frames = 0, late = 0;
    const go = now => {
        const took = now - last; last = now;
        if (frames++ > 0) late += Math.max(0, Math.round(took / (1000 / 60)) - 1);
        window.scrollBy(0, step);
        if (now - began < time && window.scrollY + innerHeight < document.documentElement.scrollHeight - 2) requestAnimationFrame(go);
        else done({ frames, late, at: window.scrollY, of: document.documentElement.scrollHeight });
    };
    requestAnimationFrame(go)";

/// The last picture that is on the page: its place in the library.
const LAST: &str = "const all = [...document.querySelectorAll('[data-spot], [data-at]')]; const last = all[all.length - 1]; return last && (last.dataset.spot ?? last.dataset.at)";

/// Goes to a year by the strata. Says after how many milliseconds the screen was full of rooms for its pictures, and after how many of pictures.
const JUMP: &str = "const [n, done] = arguments; const began = performance.now(); let rooms;
    const link = document.querySelectorAll('nav[aria-label=Years] a')[n]; const year = link.textContent.trim().slice(0, 4); link.click();
    const seen = one => { const box = one.getBoundingClientRect(); return box.bottom > 0 && box.top < innerHeight };
    const look = () => {
        const now = performance.now() - began;
        const all = [...document.querySelectorAll('[data-spot], [data-at]')].filter(one => (one.dataset.spot ?? one.dataset.at).startsWith(year) && seen(one));
        const images = all.map(one => one.closest('li').querySelector('img'));
        if (rooms === undefined && all.length > 3) rooms = now;
        if (rooms !== undefined && images.every(i => i && i.complete && i.naturalWidth > 0)) return done({ year, rooms, pictures: now });
        if (now > 20000) return done({ year, rooms: rooms ?? now, pictures: now });
        requestAnimationFrame(look);
    };
    look()";

pub async fn measure(folder: &Path, originals: u64, report: &mut Report) -> Step<()> {
    println!("the sheet of {} pictures …", words::count(originals));
    let mut house = new_house(&folder.join("sheet-house"), |o| o).await?;
    scale::fill(&mut house, originals).await?;
    previews(&house, originals)?;
    house.start_service().await?;
    let months = house.keeper().await?.ask(Method::GET, "api/months", None).await?;
    let last = months.as_array().and_then(|m| m.last()).ok_or("no months")?;
    let last = format!("{}.{}", last["month"].as_str().unwrap_or_default(), last["count"].as_u64().unwrap_or(1) - 1);
    for (width, height) in [(390, 844), (1280, 800)] {
        let browser = Browser::start(width, height).await?;
        browser.sign_in(&house.http, &house.options.keeper.0, &house.options.keeper.1).await?;
        browser.page.goto(house.http.join("library")?.as_str()).await?;
        browser.wait("section li img").await?;
        browser.devtools("Emulation.setCPUThrottlingRate", json!({ "rate": SLOWER })).await?;
        report.say(format!("the sheet of {} pictures, {width} × {height}, {SLOWER} × slower:", words::count(originals)));
        let scroll = async |step: f64, seconds: u64| -> Step<Value> {
            Ok(browser.page.execute_async(SCROLL, vec![json!(step), json!(seconds * 1000)]).await?)
        };
        let drops = |told: &Value| {
            100.0 * told["late"].as_f64().unwrap_or(f64::NAN)
                / (told["frames"].as_f64().unwrap_or(0.0) + told["late"].as_f64().unwrap_or(0.0))
        };
        let reading = scroll(24.0, 10).await?;
        let wheel = scroll(120.0, 10).await?;
        // All of it in twenty seconds: by the scroll bar.
        let whole = reading["of"].as_f64().unwrap_or_default();
        let drag = scroll(whole / 1200.0, 26).await?;
        report.say(format!(
            "  late frames: reading {:.1} %, wheel {:.1} %, scroll bar from the newest to the oldest {:.1} % (goal: 5 %)",
            drops(&reading),
            drops(&wheel),
            drops(&drag)
        ));
        // The end of a page moves as one comes near it.
        let mut oldest = Value::Null;
        for _ in 0..END {
            browser.page.execute("window.scrollTo(0, document.documentElement.scrollHeight)", vec![]).await?;
            tokio::time::sleep(Duration::from_millis(500)).await;
            oldest = browser.page.execute(LAST, vec![]).await?;
            if oldest == last {
                break;
            }
        }
        report.say(format!(
            "  at the lower end of the page ({:.1} million pixels) lies {oldest}, of {last}",
            drag["of"].as_f64().unwrap_or_default() / 1e6
        ));
        let mut jumps = Vec::new();
        for n in 0..JUMPS {
            let told = browser.page.execute_async(JUMP, vec![json!((n * 7 + 3) % 20)]).await?;
            jumps.push((told["rooms"].as_f64().unwrap_or(f64::NAN), told["pictures"].as_f64().unwrap_or(f64::NAN)));
            tokio::time::sleep(Duration::from_millis(600)).await;
        }
        let worst = |of: fn(&(f64, f64)) -> f64| jumps.iter().map(of).fold(0.0, f64::max);
        report.say(format!(
            "  a jump to a year: rooms after {:.0} ms, pictures after {:.0} ms, the slowest of {JUMPS} (goal: 100, 500)",
            worst(|j| j.0),
            worst(|j| j.1)
        ));
        browser.devtools("HeapProfiler.collectGarbage", json!({})).await?;
        let told = browser.devtools("Memory.getDOMCounters", json!({})).await?;
        let heap = browser.page.execute("return performance.memory.usedJSHeapSize", vec![]).await?;
        report.say(format!(
            "  the page holds {} (goal: 300 MB), {} of it script; {} elements and letters",
            words::size(browser.memory()?),
            words::size(heap.as_u64().unwrap_or_default()),
            told["nodes"]
        ));
    }
    Ok(())
}

/// One small picture, under the name of each original's.
fn previews(house: &House, originals: u64) -> Step<()> {
    let picture = image::RgbImage::from_fn(320, 240, |x, y| image::Rgb([(x * 255 / 320) as u8, (y * 255 / 240) as u8, 140]));
    let mut jpeg = std::io::Cursor::new(Vec::new());
    image::DynamicImage::ImageRgb8(picture).write_to(&mut jpeg, image::ImageFormat::Jpeg)?;
    let all = house.options.folder.join("data/previews");
    let mut one = PathBuf::new();
    for i in 0..originals {
        let id = format!("00000000-0000-7000-8000-{i:012x}");
        let place = all.join(&id[34..]);
        if i < 256 {
            fs::create_dir_all(&place)?;
        }
        if i % NAMES == 0 {
            one = all.join(format!("one-{i}.jpg"));
            fs::write(&one, jpeg.get_ref())?;
        }
        fs::hard_link(&one, place.join(format!("{id}-small.jpg")))?;
    }
    Ok(())
}
