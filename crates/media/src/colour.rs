//! Colours as they were meant: a picture with a colour profile (ICC.1) is turned into sRGB, which is what previews are in and
//! what every browser shows.

use image::RgbImage;
use moxcms::{
    CicpColorPrimaries, CicpProfile, ColorProfile, DataColorSpace, Layout, MatrixCoefficients, TransferCharacteristics,
    TransformOptions,
};

/// No camera writes a larger one.
const LARGEST: usize = 4 << 20;

/// The profile that coded colours stand for (code points of ITU-T H.273), if they are wider than sRGB and meant for a screen of today.
///
/// The curves of sRGB and BT.709 are shown alike, as browsers do; pictures for brighter screens (PQ, HLG) are left as they are.
pub fn coded(primaries: i32, transfer: i32) -> Option<Vec<u8>> {
    if !matches!(transfer, 1 | 2 | 4 | 6 | 13 | 14 | 15) {
        return None;
    }
    let color_primaries = match primaries {
        9 => CicpColorPrimaries::Bt2020,
        12 => CicpColorPrimaries::Smpte432,
        _ => return None,
    };
    let colours = CicpProfile {
        color_primaries,
        transfer_characteristics: TransferCharacteristics::Srgb,
        matrix_coefficients: MatrixCoefficients::Identity,
        full_range: true,
    };
    ColorProfile::new_from_cicp(colours).encode().ok()
}

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
    fn coded_colours_stand_for_a_profile() {
        let shown = |primaries, transfer| to_srgb(one([60, 200, 60]), coded(primaries, transfer).as_deref()).get_pixel(0, 0).0;
        let p3 = ColorProfile::new_display_p3().encode().unwrap();
        let by_profile = to_srgb(one([60, 200, 60]), Some(&p3)).get_pixel(0, 0).0;
        assert!(shown(12, 13).iter().zip(by_profile).all(|(a, b)| a.abs_diff(b) <= 1), "{:?} {by_profile:?}", shown(12, 13));
        // Wider still.
        assert!(shown(9, 1)[0] <= shown(12, 1)[0] && shown(9, 1)[1] > shown(12, 1)[1], "{:?}", shown(9, 1));
        // sRGB itself, what is not said, and pictures for brighter screens.
        for (primaries, transfer) in [(1, 13), (2, 2), (9, 16), (12, 18), (200, 13), (-1, -1)] {
            assert_eq!(shown(primaries, transfer), [60, 200, 60], "{primaries} {transfer}");
        }
    }

    #[test]
    fn a_damaged_profile_changes_nothing() {
        let p3 = ColorProfile::new_display_p3().encode().unwrap();
        for profile in [None, Some(b"nonsense".as_slice()), Some(&p3[..p3.len() / 3])] {
            assert_eq!(to_srgb(one([60, 200, 60]), profile), one([60, 200, 60]));
        }
    }
}
