//! The two previews of an original: one for the contact sheet, one for the whole screen. Both are JPEG.

use std::{
    fs::File,
    io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write},
    path::Path,
};

use data_encoding::BASE64;
use image::{ImageDecoder, ImageReader, RgbImage, codecs::jpeg::JpegEncoder, metadata::Orientation};
use serde::{Deserialize, Serialize};

use ypogeion_core::{kind::MediaKind, turn::Turn};

use crate::{colour, embedded, facts, heif, video};

/// The small preview fits into this many pixels: rows of the contact sheet are up to 240 high, on dense screens twice.
pub const SMALL: (u32, u32) = (960, 480);
/// The large preview fits into this many pixels.
pub const LARGE: (u32, u32) = (1920, 1600);
/// Pictures with more pixels than this get no preview (a JPEG is scaled while decoding and may have more).
const MOST_PIXELS: u64 = 200_000_000;
const QUALITY: u8 = 82;

/// What was made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Made {
    /// A tiny placeholder (thumbhash), base64.
    pub placeholder: String,
    /// Size of the large preview in pixels.
    pub size: (u32, u32),
}

/// Writes both previews of the file at `path`, which its device called `name`, turned as somebody said. Existing files are replaced.
///
/// The error is a sentence for a person; it is normal for files that are not pictures.
pub fn make(path: &Path, name: &str, turn: Turn, small: &Path, large: &Path) -> Result<Made, String> {
    let facts = facts::read(path, name);
    let turned = |said| Orientation::from_exif(turn.after(said)).unwrap_or(Orientation::NoTransforms);
    let orientation = turned(facts.orientation);
    let whole = |path| File::open(path).map(BufReader::new).map_err(|e: std::io::Error| e.to_string());
    let (Decoded { picture, profile }, orientation) = match facts.media_type.as_deref() {
        Some("image/jpeg") => (jpeg(whole(path)?)?, orientation),
        Some("image/png" | "image/gif" | "image/webp") => (still(path)?, orientation),
        // The container's own turn is applied while decoding, and its EXIF orientation must then be ignored.
        Some("image/heic" | "image/avif") => {
            let (picture, profile) = heif::decode(path, LARGE.0.max(LARGE.1), MOST_PIXELS)?;
            (Decoded { picture, profile }, turned(None))
        }
        Some(t) if t.starts_with("video/") => {
            (Decoded { picture: video::poster(path, t, LARGE.0)?, profile: None }, turned(None))
        }
        Some("image/tiff") => return Err("there is no preview for this kind of file".to_owned()),
        // The camera's own JPEG. It lies as the sensor does, and is turned like it.
        Some(_) if facts.kind == Some(MediaKind::Raw) => (embedded_jpeg(whole(path)?)?, orientation),
        _ => return Err(facts.problem.unwrap_or_else(|| "there is no preview for this kind of file".to_owned())),
    };
    // Turning is cheap on few pixels: scale first, into the box as it lies.
    let lying = |(w, h): (u32, u32)| match orientation {
        Orientation::Rotate90 | Orientation::Rotate270 | Orientation::Rotate90FlipH | Orientation::Rotate270FlipH => (h, w),
        _ => (w, h),
    };
    let upright = |picture: RgbImage| {
        let mut picture = image::DynamicImage::ImageRgb8(picture);
        picture.apply_orientation(orientation);
        picture.into_rgb8()
    };
    let large_picture = upright(colour::to_srgb(fit(picture, lying(LARGE))?, profile.as_deref()));
    write(&large_picture, large)?;
    let size = large_picture.dimensions();
    let small_picture = fit(large_picture, SMALL)?;
    write(&small_picture, small)?;
    let tiny = image::DynamicImage::ImageRgb8(fit(small_picture, (100, 100))?).into_rgba8();
    let hash = thumbhash::rgba_to_thumb_hash(tiny.width() as usize, tiny.height() as usize, tiny.as_raw());
    Ok(Made { placeholder: BASE64.encode(&hash), size })
}

/// A decoded picture, and the colour profile that came with it.
struct Decoded {
    picture: RgbImage,
    profile: Option<Vec<u8>>,
}

fn embedded_jpeg(mut file: BufReader<File>) -> Result<Decoded, String> {
    let (at, length) = embedded::find(&mut file).ok_or("the camera put no preview into this raw file")?;
    file.seek(SeekFrom::Start(at)).map_err(|e| e.to_string())?;
    jpeg(file.take(length))
}

fn jpeg(reader: impl Read) -> Result<Decoded, String> {
    use jpeg_decoder::PixelFormat::*;
    let damaged = |_| "the picture cannot be decoded; it may be cut short".to_owned();
    let mut decoder = jpeg_decoder::Decoder::new(reader);
    decoder.read_info().map_err(damaged)?;
    let info = decoder.info().ok_or("the picture's head is damaged")?;
    let (w, h) = fitted((info.width.into(), info.height.into()), (LARGE.0.max(LARGE.1), LARGE.0.max(LARGE.1)));
    let scaled = decoder.scale(w as u16, h as u16).map_err(damaged)?;
    let pixels = decoder.decode().map_err(damaged)?;
    let info = decoder.info().ok_or("the picture's head is damaged")?;
    let rgb = match info.pixel_format {
        RGB24 => pixels,
        L8 => pixels.iter().flat_map(|l| [*l; 3]).collect(),
        L16 => pixels.chunks_exact(2).flat_map(|l| [l[1]; 3]).collect(),
        // Cameras do not write these; programs for print do, inverted.
        CMYK32 => {
            pixels.chunks_exact(4).flat_map(|p| [0, 1, 2].map(|i| (u16::from(p[i]) * u16::from(p[3]) / 255) as u8)).collect()
        }
    };
    // A profile of a print picture is for its inks, not for what was made of them.
    let profile = decoder.icc_profile().filter(|_| info.pixel_format == RGB24);
    RgbImage::from_raw(scaled.0.into(), scaled.1.into(), rgb)
        .map(|picture| Decoded { picture, profile })
        .ok_or_else(|| "the picture's size does not fit its bytes".to_owned())
}

fn still(path: &Path) -> Result<Decoded, String> {
    let damaged = "the picture cannot be decoded; it may be cut short";
    let mut reader = ImageReader::open(path).and_then(ImageReader::with_guessed_format).map_err(|e| e.to_string())?;
    let mut limits = image::Limits::default();
    limits.max_alloc = Some(MOST_PIXELS * 4);
    reader.limits(limits);
    let mut decoder = reader.into_decoder().map_err(|_| damaged)?;
    let profile = decoder.icc_profile().ok().flatten();
    let (w, h) = decoder.dimensions();
    if u64::from(w) * u64::from(h) > MOST_PIXELS {
        return Err("the picture is too large for a preview".to_owned());
    }
    let picture = image::DynamicImage::from_decoder(decoder).map_err(|_| damaged)?;
    if !picture.color().has_alpha() {
        return Ok(Decoded { picture: picture.into_rgb8(), profile });
    }
    let on_white = |c: u8, a: u8| ((u16::from(c) * u16::from(a) + 255 * (255 - u16::from(a))) / 255) as u8;
    let rgba = picture.into_rgba8();
    let rgb = rgba.pixels().flat_map(|p| [0, 1, 2].map(|i| on_white(p[i], p[3]))).collect();
    RgbImage::from_raw(w, h, rgb).map(|picture| Decoded { picture, profile }).ok_or_else(|| damaged.to_owned())
}

/// The largest size with the same shape that fits into the box; never larger than it was, never empty.
fn fitted((w, h): (u32, u32), (max_w, max_h): (u32, u32)) -> (u32, u32) {
    let scale = (f64::from(max_w) / f64::from(w)).min(f64::from(max_h) / f64::from(h)).min(1.0);
    let side = |s: u32| ((f64::from(s) * scale).round() as u32).max(1);
    (side(w), side(h))
}

fn fit(picture: RgbImage, into: (u32, u32)) -> Result<RgbImage, String> {
    let (w, h) = fitted(picture.dimensions(), into);
    if (w, h) == picture.dimensions() {
        return Ok(picture);
    }
    let smaller = ypogeion_shrink::shrink(picture.as_raw(), picture.dimensions(), (w, h))?;
    RgbImage::from_raw(w, h, smaller).ok_or_else(|| "the picture's size does not fit its bytes".to_owned())
}

fn write(picture: &RgbImage, to: &Path) -> Result<(), String> {
    let failed = |e: &dyn std::fmt::Display| format!("the preview could not be written: {e}");
    let mut out = BufWriter::new(File::create(to).map_err(|e| failed(&e))?);
    JpegEncoder::new_with_quality(&mut out, QUALITY).encode_image(picture).map_err(|e| failed(&e))?;
    out.flush().map_err(|e| failed(&e))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn gradient(w: u32, h: u32) -> RgbImage {
        RgbImage::from_fn(w, h, |x, y| image::Rgb([(x * 255 / w) as u8, (y * 255 / h) as u8, 90]))
    }

    #[rstest]
    #[case::jpeg("jpg")]
    #[case::png("png")]
    #[case::gif("gif")]
    #[case::webp("webp")]
    fn both_previews_are_made_and_fit(#[case] extension: &str) {
        let folder = tempfile::tempdir().unwrap();
        let original = folder.path().join(format!("a.{extension}"));
        gradient(2400, 1200).save(&original).unwrap();
        let (small, large) = (folder.path().join("s"), folder.path().join("l"));
        let made = make(&original, "misnamed.txt", Turn::default(), &small, &large).unwrap();
        assert_eq!(made.size, (1920, 960));
        let small = image::load_from_memory(&std::fs::read(small).unwrap()).unwrap().into_rgb8();
        assert_eq!(small.dimensions(), (960, 480));
        let corner = small.get_pixel(955, 475);
        assert!(corner[0] > 230 && corner[1] > 230, "{corner:?}");
        assert!(BASE64.decode(made.placeholder.as_bytes()).unwrap().len() > 10);
    }

    /// The dark corner of a gradient is at the left above; the one with most green is at the left below.
    #[rstest]
    #[case(0, (960, 480), (4, 475))]
    #[case(1, (240, 480), (4, 4))]
    #[case(2, (960, 480), (955, 4))]
    #[case(-1, (240, 480), (235, 475))]
    fn a_picture_is_turned_as_somebody_said(#[case] quarters: i64, #[case] size: (u32, u32), #[case] green: (u32, u32)) {
        let folder = tempfile::tempdir().unwrap();
        let [original, small, large] = ["a.png", "s", "l"].map(|name| folder.path().join(name));
        gradient(2400, 1200).save(&original).unwrap();
        let made = make(&original, "a.png", Turn::of(quarters), &small, &large).unwrap();
        assert_eq!(
            (made.size.0 > made.size.1, made.size.0.max(made.size.1)),
            (quarters % 2 == 0, if quarters % 2 == 0 { 1920 } else { 1600 })
        );
        let small = image::load_from_memory(&std::fs::read(small).unwrap()).unwrap().into_rgb8();
        assert_eq!(small.dimensions(), size);
        let corner = small.get_pixel(green.0, green.1);
        assert!(corner[0] < 30 && corner[1] > 225, "{corner:?}");
    }

    #[test]
    fn a_raw_file_shows_the_picture_that_its_camera_put_into_it() {
        let folder = tempfile::tempdir().unwrap();
        let mut jpeg = std::io::Cursor::new(Vec::new());
        gradient(300, 200).write_to(&mut jpeg, image::ImageFormat::Jpeg).unwrap();
        let jpeg = jpeg.into_inner();
        // One directory: orientation 6 (turned to the right), and where the JPEG is.
        let mut raw = b"II*\0\x08\0\0\0\x03\0".to_vec();
        for (tag, kind, value) in [(0x0112u16, 3u16, 6u32), (0x0201, 4, 64), (0x0202, 4, jpeg.len() as u32)] {
            raw.extend([&tag.to_le_bytes()[..], &kind.to_le_bytes(), &1u32.to_le_bytes(), &value.to_le_bytes()].concat());
        }
        raw.resize(64, 0);
        raw.extend(&jpeg);
        let original = folder.path().join("R1.dng");
        std::fs::write(&original, raw).unwrap();
        let made = |turn| make(&original, "R1.dng", turn, &folder.path().join("s"), &folder.path().join("l")).unwrap();
        assert_eq!(made(Turn::default()).size, (200, 300), "turned as the camera was held");
        assert_eq!(made(Turn::of(-1)).size, (300, 200), "and once more, as somebody said");
    }

    #[test]
    fn a_cut_picture_gets_a_reason_not_a_preview() {
        let folder = tempfile::tempdir().unwrap();
        let original = folder.path().join("a.png");
        gradient(600, 400).save(&original).unwrap();
        let bytes = std::fs::read(&original).unwrap();
        std::fs::write(&original, &bytes[..bytes.len() / 2]).unwrap();
        let error = make(&original, "a.png", Turn::default(), &folder.path().join("s"), &folder.path().join("l")).unwrap_err();
        assert!(error.contains("cut short"), "{error}");
    }

    #[rstest]
    #[case((100, 50), (960, 480), (100, 50))]
    #[case((10_000, 1), (960, 480), (960, 1))]
    #[case((3000, 4000), (960, 480), (360, 480))]
    fn sizes_fit_and_are_never_empty(#[case] from: (u32, u32), #[case] into: (u32, u32), #[case] expected: (u32, u32)) {
        assert_eq!(fitted(from, into), expected);
    }
}
