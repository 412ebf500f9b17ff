//! A JPEG made from a HEIC (or AVIF) for programs that cannot read those.
//!
//! It has all pixels, in sRGB, upright; the camera's EXIF, with the orientation taken back since the pixels are turned; and a
//! comment that says what it was made from. The same original makes the same bytes, as long as the decoder is the same.

use std::{
    fs::File,
    io::{BufReader, Write},
    path::Path,
};

use image::{ExtendedColorType, ImageEncoder, codecs::jpeg::JpegEncoder};
use ypogeion_core::Digest;

use crate::{colour, heif};

const QUALITY: u8 = 92;
const MOST_PIXELS: u64 = 100_000_000;
/// The longest segment of a JPEG, without its length.
const LONGEST_SEGMENT: usize = 65_533;
const ORIENTATION: u16 = 0x0112;

/// Writes the JPEG for the file at `path`, which has this name and hash, to `to`.
///
/// The error is a sentence for a person.
pub fn make(path: &Path, name: &str, digest: Digest, to: &Path) -> Result<(), String> {
    let failed = |e: &dyn std::error::Error| format!("the JPEG cannot be written: {e}");
    let (picture, profile) = heif::decode(path, u32::MAX, MOST_PIXELS)?;
    let picture = colour::to_srgb(picture, profile.as_deref());
    let mut jpeg = Vec::new();
    JpegEncoder::new_with_quality(&mut jpeg, QUALITY)
        .write_image(picture.as_raw(), picture.width(), picture.height(), ExtendedColorType::Rgb8)
        .map_err(|e| failed(&e))?;
    let mut out = File::create(to).map_err(|e| failed(&e))?;
    let (start, rest) = jpeg.split_at_checked(2).ok_or("the JPEG came out empty")?;
    let words = format!("Derived from {name}, SHA-256 {digest}. The original is kept.");
    let written = out
        .write_all(start)
        .and_then(|()| exif_of(path).map_or(Ok(()), |exif| segment(&mut out, 0xe1, &[b"Exif\0\0", exif.as_slice()].concat())))
        .and_then(|()| segment(&mut out, 0xfe, words.as_bytes()))
        .and_then(|()| out.write_all(rest));
    written.map_err(|e| failed(&e))
}

/// The camera's EXIF, with the pixels' own turn.
fn exif_of(path: &Path) -> Option<Vec<u8>> {
    let mut file = BufReader::new(File::open(path).ok()?);
    let exif = exif::Reader::new().read_from_container(&mut file).ok()?;
    Some(upright(exif.buf().to_vec()))
}

/// Sets the orientation in the first directory of a TIFF structure to "as it lies" (TIFF 6.0, section 2). What is not understood
/// stays as it is.
fn upright(mut tiff: Vec<u8>) -> Vec<u8> {
    let little = tiff.starts_with(b"II");
    let short = |at: usize, tiff: &[u8]| {
        let bytes: [u8; 2] = tiff.get(at..at + 2)?.try_into().ok()?;
        Some(if little { u16::from_le_bytes(bytes) } else { u16::from_be_bytes(bytes) })
    };
    let long = |at: usize, tiff: &[u8]| {
        let bytes: [u8; 4] = tiff.get(at..at + 4)?.try_into().ok()?;
        Some(if little { u32::from_le_bytes(bytes) } else { u32::from_be_bytes(bytes) })
    };
    let place = (|| {
        let directory = usize::try_from(long(4, &tiff)?).ok()?;
        let entries = usize::from(short(directory, &tiff)?);
        let entry = (0..entries).map(|n| directory + 2 + n * 12).find(|at| short(*at, &tiff) == Some(ORIENTATION))?;
        tiff.get(entry + 8..entry + 10).map(|_| entry + 8)
    })();
    if let Some(at) = place {
        tiff[at..at + 2].copy_from_slice(&if little { 1u16.to_le_bytes() } else { 1u16.to_be_bytes() });
    }
    tiff
}

/// One segment of a JPEG; what is longer than one can be is left out.
fn segment(out: &mut File, marker: u8, bytes: &[u8]) -> std::io::Result<()> {
    match u16::try_from(bytes.len() + 2).ok().filter(|_| bytes.len() <= LONGEST_SEGMENT) {
        Some(length) => {
            out.write_all(&[0xff, marker])?;
            out.write_all(&length.to_be_bytes())?;
            out.write_all(bytes)
        }
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_turn_is_taken_out_of_the_camera_data() {
        for little in [true, false] {
            let short = |n: u16| if little { n.to_le_bytes() } else { n.to_be_bytes() };
            let long = |n: u32| if little { n.to_le_bytes() } else { n.to_be_bytes() };
            let mut tiff = Vec::new();
            tiff.extend(if little { b"II" } else { b"MM" });
            tiff.extend(short(42));
            tiff.extend(long(8));
            tiff.extend(short(1));
            tiff.extend([short(ORIENTATION), short(3)].concat());
            tiff.extend(long(1));
            tiff.extend([short(6), short(0)].concat());
            tiff.extend(long(0));
            let turned = upright(tiff.clone());
            assert_eq!(turned[18..20], short(1));
            assert_eq!((&turned[..18], &turned[20..]), (&tiff[..18], &tiff[20..]));
        }
        for bad in [&b""[..], b"II", b"II*\0\xff\xff\xff\xff", b"MM\0*\0\0\0\x08\xff\xff"] {
            assert_eq!(upright(bad.to_vec()), bad);
        }
    }
}
