//! How wide a picture is for its height, in one byte: a page that knows this of a whole month can lay it out before the first picture is there.
//!
//! 0 says that it is not known. Otherwise 128 stands for a square, and each 32 more for twice as wide: `128 + 32 · log₂(width ÷ height)`,
//! rounded, from 1 (sixteen times as high as wide) to 255. One step is 2 %, which moves the edge of a picture of 200 pixels by two at most.

/// The byte for a picture of so many pixels.
pub fn proportion(width: Option<u32>, height: Option<u32>) -> u8 {
    match (width, height) {
        (Some(width @ 1..), Some(height @ 1..)) => {
            let octaves = (f64::from(width) / f64::from(height)).log2();
            // Between 1 and 255: nothing is cut off.
            (128.0 + 32.0 * octaves).round().clamp(1.0, 255.0) as u8
        }
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proportion_is_told_within_two_percent() {
        assert_eq!(
            (proportion(None, Some(3)), proportion(Some(3), None), proportion(Some(0), Some(3)), proportion(Some(3), Some(0))),
            (0, 0, 0, 0)
        );
        assert_eq!(
            (proportion(Some(1), Some(1)), proportion(Some(1), Some(9000)), proportion(Some(9000), Some(1))),
            (128, 1, 255)
        );
        for width in (1u32..6000).step_by(37) {
            for height in (1u32..6000).step_by(53) {
                let ratio = f64::from(width) / f64::from(height);
                if !(1.0 / 15.0..15.0).contains(&ratio) {
                    continue;
                }
                let told = 2f64.powf((f64::from(proportion(Some(width), Some(height))) - 128.0) / 32.0);
                assert!((told / ratio - 1.0).abs() < 0.011, "{width} × {height}: {told} for {ratio}");
            }
        }
    }
}
