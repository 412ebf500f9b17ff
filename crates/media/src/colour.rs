//! Colours as they were meant: a picture with a colour profile (ICC.1) is turned into sRGB, which is what previews are in and
//! what every browser shows.

use image::RgbImage;
use moxcms::{ColorProfile, DataColorSpace, Layout, TransformOptions};

/// No camera writes a larger one.
const LARGEST: usize = 4 << 20;

/// Turns a picture into sRGB. One whose profile is damaged, or not for RGB, is left as it is: wrong colours are better than
/// no preview.
pub fn to_srgb(picture: RgbImage, profile: Option<&[u8]>) -> RgbImage {
    let Some(profile) = profile.filter(|p| p.len() <= LARGEST) else { return picture };
    let Ok(from) = ColorProfile::new_from_slice(profile) else { return picture };
    if from.color_space != DataColorSpace::Rgb {
        return picture;
    }
    let srgb = ColorProfile::new_srgb();
    let Ok(transform) = from.create_transform_8bit(Layout::Rgb, &srgb, Layout::Rgb, TransformOptions::default()) else {
        return picture;
    };
    let mut turned = vec![0; picture.as_raw().len()];
    match transform.transform(picture.as_raw(), &mut turned) {
        Ok(()) => {
            let (width, height) = picture.dimensions();
            RgbImage::from_raw(width, height, turned).unwrap_or(picture)
        }
        Err(_) => picture,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(rgb: [u8; 3]) -> RgbImage {
        RgbImage::from_pixel(4, 4, image::Rgb(rgb))
    }

    #[test]
    fn a_wide_green_is_as_wide_as_srgb_can_show_it() {
        let p3 = ColorProfile::new_display_p3().encode().unwrap();
        let shown = to_srgb(one([60, 200, 60]), Some(&p3));
        let [r, g, b] = shown.get_pixel(0, 0).0;
        // Display P3 green lies outside sRGB: less red, more green.
        assert!(r < 45 && g > 200 && b < 60, "{:?}", (r, g, b));
        let grey = to_srgb(one([128, 128, 128]), Some(&p3)).get_pixel(0, 0).0;
        assert!(grey.iter().all(|c| c.abs_diff(128) <= 1), "{grey:?}");
    }

    #[test]
    fn a_damaged_profile_changes_nothing() {
        let p3 = ColorProfile::new_display_p3().encode().unwrap();
        for profile in [None, Some(b"nonsense".as_slice()), Some(&p3[..p3.len() / 3])] {
            assert_eq!(to_srgb(one([60, 200, 60]), profile), one([60, 200, 60]));
        }
    }
}
