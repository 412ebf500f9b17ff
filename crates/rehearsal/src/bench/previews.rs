//! Previews of pictures as large as phones take them, against the fastest tool there is for it.

use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::Instant,
};

use ypogeion_demo::scenes::{Scene, draw};
use ypogeion_media::worker::{Pool, Work};

use super::each;
use crate::{Step, program};

const PICTURES: usize = 40;
const WORKERS: usize = 2;

/// Seconds that the limit and Ypogeion take for both sizes of all pictures, with as many processes.
pub fn measure(folder: &Path) -> Step<(f64, f64)> {
    let large = folder.join("twelve-megapixels");
    fs::create_dir_all(&large)?;
    // One scene, scaled up and stirred a little for each picture: as hard to decode as any, and drawn only once.
    let scene = image::DynamicImage::ImageRgb8(draw(Scene::Kites, 1, 0.0, 1000, 750));
    let whole = scene.resize_exact(4000, 3000, image::imageops::FilterType::CatmullRom).to_rgb8();
    let files: Vec<PathBuf> = (0..PICTURES).map(|n| large.join(format!("{n}.jpg"))).collect();
    for (n, file) in files.iter().enumerate() {
        let mut picture = whole.clone();
        for (at, pixel) in picture.pixels_mut().enumerate() {
            pixel.0[n % 3] = pixel.0[n % 3].wrapping_add((at % 7) as u8);
        }
        let encoder = image::codecs::jpeg::JpegEncoder::new_with_quality(fs::File::create(file)?, 90);
        picture.write_with_encoder(encoder)?;
    }
    // The same sizes and quality as ours, and like ours the small one from the large one.
    let script = "vipsthumbnail \"$f\" -s 1920x1600 -o %s-large.jpg[Q=82]; \
                  vipsthumbnail \"${f%.jpg}-large.jpg\" -s 960x480 -o %s-small.jpg[Q=82]";
    let began = Instant::now();
    each(WORKERS, &files, script)?;
    let limit = began.elapsed().as_secs_f64();

    let pool = Arc::new(Pool::new(program("ypogeiond")?, vec!["media-worker".to_owned()], WORKERS, Work::Pictures));
    let began = Instant::now();
    let made: Vec<Result<(), String>> = std::thread::scope(|threads| {
        let workers: Vec<_> = (0..WORKERS)
            .map(|w| {
                let (pool, files) = (&pool, &files);
                threads.spawn(move || {
                    files.iter().skip(w).step_by(WORKERS).try_for_each(|f| {
                        let to = |size: &str| f.with_extension(format!("ours-{size}.jpg"));
                        pool.preview(f, "picture.jpg", ypogeion_core::turn::Turn::default(), &to("small"), &to("large"))
                            .map(|_| ())
                    })
                })
            })
            .collect();
        workers.into_iter().map(|w| w.join().unwrap_or_else(|_| Err("a thread of the benchmark failed".into()))).collect()
    });
    let ours = began.elapsed().as_secs_f64();
    made.into_iter().collect::<Result<Vec<()>, String>>()?;
    fs::remove_dir_all(large)?;
    Ok((limit, ours))
}
