//! Facts and a poster frame of a video, by Debian's ffprobe and ffmpeg.
//!
//! Both are run through `timeout`, so that they end even when the worker that started them was killed.

use std::{ffi::OsString, path::Path, process::Command};

use chrono::{DateTime, NaiveDateTime};
use image::RgbImage;
use serde_json::Value;
use ypogeion_core::{caption, capture::Facts};

use crate::maker;

const SECONDS: &str = "20";

/// Adds a video's facts. `media_type` is what its first bytes say that it is, and it is read as that and nothing else.
pub(crate) fn read(path: &Path, media_type: &str, facts: &mut Facts) -> Result<(), String> {
    let output = tool("ffprobe")
        .args(["-v", "error", "-print_format", "json", "-show_format", "-show_streams"])
        .args(only(media_type)?)
        .arg("-i")
        .arg(as_file(path))
        .output()
        .map_err(|e| format!("ffprobe could not be started: {e}"))?;
    if !output.status.success() {
        return Err("the video cannot be read; it may be cut short".to_owned());
    }
    let probe: Value = serde_json::from_slice(&output.stdout).map_err(|_| "the video cannot be read".to_owned())?;
    let tags = &probe["format"]["tags"];
    let tag = |name: &str| tags[name].as_str().map(str::trim).filter(|t| !t.is_empty());
    facts.video_utc =
        tag("creation_time").and_then(|t| NaiveDateTime::parse_from_str(t.trim_end_matches('Z'), "%Y-%m-%dT%H:%M:%S%.f").ok());
    facts.quicktime_local = tag("com.apple.quicktime.creationdate")
        .and_then(|t| DateTime::parse_from_rfc3339(t).or_else(|_| DateTime::parse_from_str(t, "%Y-%m-%dT%H:%M:%S%z")).ok());
    facts.camera = match (tag("com.apple.quicktime.make"), tag("com.apple.quicktime.model")) {
        (Some(make), Some(model)) => Some(format!("{make} {model}")),
        (_, model) => model.map(str::to_owned),
    };
    facts.place = tag("com.apple.quicktime.location.ISO6709").or_else(|| tag("location")).and_then(iso_6709);
    facts.pair = tag("com.apple.quicktime.content.identifier").and_then(|t| maker::clean(t.as_bytes()));
    let said = |names: [&str; 3], read: fn(&str) -> Option<String>| names.iter().find_map(|name| tag(name).and_then(read));
    facts.title = said(["com.apple.quicktime.title", "com.apple.quicktime.displayname", "title"], caption::title_read);
    facts.caption = said(["com.apple.quicktime.description", "description", "synopsis"], caption::caption_read);
    facts.seconds =
        probe["format"]["duration"].as_str().and_then(|d| d.parse().ok()).filter(|d: &f64| d.is_finite() && *d >= 0.0);
    let Some(stream) = probe["streams"].as_array().into_iter().flatten().find(|s| s["codec_type"] == "video") else {
        return Err("there is no picture in this video".to_owned());
    };
    let (width, height) = (stream["width"].as_u64().map(|w| w as u32), stream["height"].as_u64().map(|h| h as u32));
    let turned = stream["side_data_list"]
        .as_array()
        .into_iter()
        .flatten()
        .any(|d| matches!(d["rotation"].as_i64(), Some(90 | -90 | 270 | -270)));
    (facts.width, facts.height) = if turned { (height, width) } else { (width, height) };
    Ok(())
}

/// A frame from the first second, at most `longest` pixels on each side.
pub(crate) fn poster(path: &Path, media_type: &str, longest: u32) -> Result<RgbImage, String> {
    let only = only(media_type)?;
    let frame = |from: &str| {
        let output = tool("ffmpeg")
            .args(["-v", "error", "-nostdin", "-threads", "1"])
            .args(only)
            .args(["-ss", from, "-i"])
            .arg(as_file(path))
            .args(["-frames:v", "1", "-vf"])
            .arg(format!("scale='min({longest},iw)':'min({longest},ih)':force_original_aspect_ratio=decrease"))
            .args(["-f", "image2pipe", "-c:v", "png", "-"])
            .output()
            .map_err(|e| format!("ffmpeg could not be started: {e}"))?;
        image::load_from_memory(&output.stdout)
            .map(|i| i.into_rgb8())
            .map_err(|_| "no frame of the video could be read".to_owned())
    };
    // Very short clips have nothing at the half second.
    frame("0.5").or_else(|_| frame("0"))
}

/// The one way in which a file of this kind is read. Left to guess, the tools would take a list of other files for a video and open those.
fn only(media_type: &str) -> Result<[&'static str; 6], String> {
    let container = match media_type {
        "video/mp4" | "video/quicktime" | "video/3gpp" => "mov,mp4,m4a,3gp,3g2,mj2",
        "video/vnd.avi" => "avi",
        "video/matroska" | "video/webm" => "matroska,webm",
        "video/mpeg" => "mpeg",
        _ => return Err("videos of this kind are kept, and not looked into".to_owned()),
    };
    // The name of the container's reader is the first of those that it goes by.
    let reader = container.split(',').next().unwrap_or(container);
    Ok(["-f", reader, "-format_whitelist", container, "-protocol_whitelist", "file"])
}

fn tool(name: &str) -> Command {
    let mut command = Command::new("timeout");
    command.args(["--kill-after=2", SECONDS, name]);
    command
}

/// With its protocol in front, so that no file name can be taken for an option or for another protocol.
fn as_file(path: &Path) -> OsString {
    let mut url = OsString::from("file:");
    url.push(path);
    url
}

/// `+59.3293+018.0686/` or with a height (ISO 6709, degrees).
fn iso_6709(text: &str) -> Option<(f64, f64)> {
    let text = text.trim_end_matches('/');
    let second = text.get(1..)?.find(['+', '-'])? + 1;
    let rest = &text[second..];
    let end = rest.get(1..)?.find(['+', '-']).map_or(rest.len(), |i| i + 1);
    let place: (f64, f64) = (text[..second].parse().ok()?, rest[..end].parse().ok()?);
    (place.0.abs() <= 90.0 && place.1.abs() <= 180.0 && place != (0.0, 0.0)).then_some(place)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_in_videos_are_read() {
        assert_eq!(iso_6709("+59.3293+018.0686/"), Some((59.3293, 18.0686)));
        assert_eq!(iso_6709("-33.8688+151.2093+012.5/"), Some((-33.8688, 151.2093)));
        assert_eq!(iso_6709("+91.0+018.0/"), None);
        assert_eq!(iso_6709("somewhere"), None);
    }
}
