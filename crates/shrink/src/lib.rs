//! Pictures made smaller.
//!
//! A crate of its own because of what it is made of: a library that is generic over pixels, views, filters and kinds of processor. Wherever it
//! is called, all of them are compiled, for minutes; here that happens once, while everything else is compiled beside it.

use fast_image_resize::{
    FilterType, ResizeAlg, ResizeOptions, Resizer,
    images::{TypedImage, TypedImageRef},
    pixels::U8x3,
};

/// A picture of `from` (width, height) pixels, three bytes each, by rows, as one of `to` pixels; Catmull-Rom.
///
/// # Errors
/// With a sentence, if the bytes are not as many as the pixels need.
pub fn shrink(rgb: &[u8], from: (u32, u32), to: (u32, u32)) -> Result<Vec<u8>, String> {
    let source = TypedImageRef::<U8x3>::from_buffer(from.0, from.1, rgb).map_err(|e| e.to_string())?;
    let mut target = vec![0; to.0 as usize * to.1 as usize * 3];
    let mut view = TypedImage::<U8x3>::from_buffer(to.0, to.1, &mut target).map_err(|e| e.to_string())?;
    let options = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::CatmullRom));
    Resizer::new().resize_typed(&source, &mut view, &options).map_err(|e| e.to_string())?;
    drop(view);
    Ok(target)
}
