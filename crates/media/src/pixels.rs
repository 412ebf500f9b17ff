//! How many pixels a picture has, from its head alone.

use std::path::Path;

use image::ImageReader;

/// Width and height as stored (before orientation).
pub(crate) fn size(path: &Path) -> Result<(u32, u32), String> {
    let reader = ImageReader::open(path).and_then(ImageReader::with_guessed_format).map_err(|e| e.to_string())?;
    reader.into_dimensions().map_err(|_| "the picture's head is damaged".to_owned())
}
