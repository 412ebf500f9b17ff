//! HEIC and AVIF, by Debian's libheif: a binding of the few functions that are needed.
//!
//! The signatures are those of `libheif/heif.h`, version 1.15. Everything unsafe of this crate is in this file, behind
//! three types that free what they own.
#![allow(unsafe_code)]

use std::{
    ffi::{CString, c_char, c_int, c_void},
    os::unix::ffi::OsStrExt,
    path::Path,
    ptr::{self, NonNull},
};

use image::RgbImage;

use crate::colour;

#[repr(C)]
struct HeifError {
    code: c_int,
    subcode: c_int,
    message: *const c_char,
}

const COLORSPACE_RGB: c_int = 1;
const CHROMA_INTERLEAVED_RGB: c_int = 10;
const CHANNEL_INTERLEAVED: c_int = 10;
/// `prof` and `rICC`, as four characters.
const PROFILE: c_int = 0x7072_6f66;
const RESTRICTED_PROFILE: c_int = 0x7249_4343;
/// `nclx`.
const CODED: c_int = 0x6e63_6c78;

/// The beginning of `heif_color_profile_nclx`, which is all that is read of it. Code points are those of H.273.
#[repr(C)]
struct CodedColours {
    version: u8,
    primaries: c_int,
    transfer: c_int,
}

#[link(name = "heif")]
unsafe extern "C" {
    fn heif_context_alloc() -> *mut c_void;
    fn heif_context_free(context: *mut c_void);
    fn heif_context_read_from_file(context: *mut c_void, filename: *const c_char, options: *const c_void) -> HeifError;
    fn heif_context_get_primary_image_handle(context: *mut c_void, handle: *mut *mut c_void) -> HeifError;
    fn heif_image_handle_release(handle: *const c_void);
    fn heif_image_handle_get_width(handle: *const c_void) -> c_int;
    fn heif_image_handle_get_height(handle: *const c_void) -> c_int;
    fn heif_image_handle_get_list_of_thumbnail_IDs(handle: *const c_void, ids: *mut u32, count: c_int) -> c_int;
    fn heif_image_handle_get_thumbnail(handle: *const c_void, id: u32, thumbnail: *mut *mut c_void) -> HeifError;
    fn heif_decode_image(
        handle: *const c_void,
        image: *mut *mut c_void,
        colorspace: c_int,
        chroma: c_int,
        options: *const c_void,
    ) -> HeifError;
    fn heif_image_handle_get_color_profile_type(handle: *const c_void) -> c_int;
    fn heif_image_handle_get_raw_color_profile_size(handle: *const c_void) -> usize;
    fn heif_image_handle_get_raw_color_profile(handle: *const c_void, out: *mut c_void) -> HeifError;
    fn heif_image_handle_get_nclx_color_profile(handle: *const c_void, colours: *mut *mut CodedColours) -> HeifError;
    fn heif_nclx_color_profile_free(colours: *mut CodedColours);
    fn heif_image_release(image: *const c_void);
    fn heif_image_get_width(image: *const c_void, channel: c_int) -> c_int;
    fn heif_image_get_height(image: *const c_void, channel: c_int) -> c_int;
    fn heif_image_get_plane_readonly(image: *const c_void, channel: c_int, stride: *mut c_int) -> *const u8;
}

struct Context(NonNull<c_void>);
struct Handle(NonNull<c_void>);
struct Image(NonNull<c_void>);

impl Drop for Context {
    fn drop(&mut self) {
        // SAFETY: allocated by heif_context_alloc and freed only here.
        unsafe { heif_context_free(self.0.as_ptr()) }
    }
}
impl Drop for Handle {
    fn drop(&mut self) {
        // SAFETY: handed out by libheif, released only here. Handles hold their own reference to the context's data.
        unsafe { heif_image_handle_release(self.0.as_ptr()) }
    }
}
impl Drop for Image {
    fn drop(&mut self) {
        // SAFETY: handed out by heif_decode_image, released only here.
        unsafe { heif_image_release(self.0.as_ptr()) }
    }
}

fn done(error: HeifError) -> Result<(), String> {
    if error.code == 0 { Ok(()) } else { Err("the picture cannot be decoded; it may be cut short".to_owned()) }
}

fn owned(pointer: *mut c_void) -> Result<NonNull<c_void>, String> {
    NonNull::new(pointer).ok_or_else(|| "the picture has no main image".to_owned())
}

fn primary(path: &Path) -> Result<(Context, Handle), String> {
    let file = CString::new(path.as_os_str().as_bytes()).map_err(|_| "its path cannot be used".to_owned())?;
    // SAFETY: every pointer passed is valid for the call; what comes back is checked for null and owned at once.
    unsafe {
        let context = Context(owned(heif_context_alloc())?);
        done(heif_context_read_from_file(context.0.as_ptr(), file.as_ptr(), ptr::null()))?;
        let mut handle = ptr::null_mut();
        done(heif_context_get_primary_image_handle(context.0.as_ptr(), &mut handle))?;
        Ok((context, Handle(owned(handle)?)))
    }
}

fn size_of(handle: &Handle) -> Result<(u32, u32), String> {
    // SAFETY: the handle is alive.
    let (width, height) =
        unsafe { (heif_image_handle_get_width(handle.0.as_ptr()), heif_image_handle_get_height(handle.0.as_ptr())) };
    match (u32::try_from(width), u32::try_from(height)) {
        (Ok(width @ 1..), Ok(height @ 1..)) => Ok((width, height)),
        _ => Err("the picture has no size".to_owned()),
    }
}

/// Width and height as shown.
pub(crate) fn size(path: &Path) -> Result<(u32, u32), String> {
    let (_context, handle) = primary(path)?;
    size_of(&handle)
}

/// The picture, or its embedded thumbnail if that is at least `enough` pixels on its longer side: decoding the thumbnail
/// takes a hundredth of the time.
///
/// The colour profile is the main picture's, which its thumbnail shares.
pub(crate) fn decode(path: &Path, enough: u32, most_pixels: u64) -> Result<(RgbImage, Option<Vec<u8>>), String> {
    let (_context, handle) = primary(path)?;
    let profile = profile_of(&handle);
    let handle = thumbnail(&handle, enough).unwrap_or(handle);
    let (width, height) = size_of(&handle)?;
    if u64::from(width) * u64::from(height) > most_pixels {
        return Err("the picture is too large for a preview".to_owned());
    }
    // SAFETY: the handle is alive; the plane belongs to the image, which lives until the end of this block; rows are
    // `stride` apart and at least 3 × width bytes long by the definition of the interleaved RGB chroma.
    unsafe {
        let mut image = ptr::null_mut();
        done(heif_decode_image(handle.0.as_ptr(), &mut image, COLORSPACE_RGB, CHROMA_INTERLEAVED_RGB, ptr::null()))?;
        let image = Image(owned(image)?);
        let width = u32::try_from(heif_image_get_width(image.0.as_ptr(), CHANNEL_INTERLEAVED)).unwrap_or(0);
        let height = u32::try_from(heif_image_get_height(image.0.as_ptr(), CHANNEL_INTERLEAVED)).unwrap_or(0);
        let mut stride = 0;
        let plane = heif_image_get_plane_readonly(image.0.as_ptr(), CHANNEL_INTERLEAVED, &mut stride);
        let (row, stride) = (width as usize * 3, usize::try_from(stride).unwrap_or(0));
        if plane.is_null() || row == 0 || stride < row {
            return Err("the picture has no size".to_owned());
        }
        let mut pixels = Vec::with_capacity(row * height as usize);
        for y in 0..height as usize {
            pixels.extend_from_slice(std::slice::from_raw_parts(plane.add(y * stride), row));
        }
        let picture = RgbImage::from_raw(width, height, pixels).ok_or("the picture has no size")?;
        Ok((picture, profile))
    }
}

/// The ICC profile of a picture, if it has one; or the one that its coded colours stand for.
fn profile_of(handle: &Handle) -> Option<Vec<u8>> {
    // SAFETY: the handle is alive; the buffer is as long as libheif says that the profile is.
    unsafe {
        let kind = heif_image_handle_get_color_profile_type(handle.0.as_ptr());
        if kind == CODED {
            let mut colours = ptr::null_mut();
            done(heif_image_handle_get_nclx_color_profile(handle.0.as_ptr(), &mut colours)).ok()?;
            let code = colours.as_ref().map(|c| (c.primaries, c.transfer));
            heif_nclx_color_profile_free(colours);
            return code.and_then(|(primaries, transfer)| colour::coded(primaries, transfer));
        }
        if kind != PROFILE && kind != RESTRICTED_PROFILE {
            return None;
        }
        let size = heif_image_handle_get_raw_color_profile_size(handle.0.as_ptr());
        if size == 0 || size > 4 << 20 {
            return None;
        }
        let mut profile = vec![0u8; size];
        done(heif_image_handle_get_raw_color_profile(handle.0.as_ptr(), profile.as_mut_ptr().cast())).ok()?;
        Some(profile)
    }
}

fn thumbnail(handle: &Handle, enough: u32) -> Option<Handle> {
    let mut ids = [0u32; 8];
    // SAFETY: the handle is alive and the list has room for as many ids as are asked for.
    let count = unsafe { heif_image_handle_get_list_of_thumbnail_IDs(handle.0.as_ptr(), ids.as_mut_ptr(), ids.len() as c_int) };
    ids.iter().take(usize::try_from(count).unwrap_or(0)).find_map(|id| {
        let mut thumbnail = ptr::null_mut();
        // SAFETY: as above; the id came from the same handle.
        let found = unsafe { done(heif_image_handle_get_thumbnail(handle.0.as_ptr(), *id, &mut thumbnail)) };
        let thumbnail = Handle(found.ok().and_then(|()| NonNull::new(thumbnail))?);
        size_of(&thumbnail).is_ok_and(|(w, h)| w.max(h) >= enough).then_some(thumbnail)
    })
}

#[cfg(test)]
mod tests {
    use std::process::Command;

    use super::*;

    #[test]
    fn coded_colours_are_read() {
        let folder = tempfile::tempdir().unwrap();
        // Debian's encoder leaves them out of HEICs, and writes the same box into AVIFs.
        let (png, avif) = (folder.path().join("kite.png"), folder.path().join("kite.avif"));
        RgbImage::from_pixel(64, 64, image::Rgb([60, 200, 60])).save(&png).unwrap();
        let made = Command::new("heif-enc").args(["-q", "95"]).arg(&png).arg("-o").arg(&avif).output().unwrap();
        assert!(made.status.success(), "{made:?}");
        let shown = || {
            let (picture, profile) = decode(&avif, 64, 1 << 20).unwrap();
            colour::to_srgb(picture, profile.as_deref()).get_pixel(30, 30).0
        };
        let plain = shown();
        // It writes "not said", whatever it is asked for: P3 with the curve of sRGB is put in its place.
        let mut bytes = std::fs::read(&avif).unwrap();
        let at = bytes.windows(8).position(|w| w == b"nclx\0\x02\0\x02").unwrap();
        bytes[at + 4..at + 8].copy_from_slice(&[0, 12, 0, 13]);
        std::fs::write(&avif, bytes).unwrap();
        let wide = shown();
        assert!(plain[0].abs_diff(60) < 8 && plain[1].abs_diff(200) < 8, "{plain:?}");
        assert!(wide[0] < 40 && wide[1] > plain[1], "the same numbers mean a greener green: {wide:?}, {plain:?}");
    }
}
