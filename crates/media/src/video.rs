//! Facts and a poster frame of a video, by Debian's ffprobe and ffmpeg.
//!
//! Both are run through `timeout`, so that they end even when the worker that started them was killed.

use std::{
    ffi::{OsStr, OsString},
    path::Path,
    process::Command,
};

use chrono::{DateTime, NaiveDateTime};
use image::RgbImage;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use ypogeion_core::{
    caption,
    capture::{Facts, FilmInside},
};

use crate::maker;

const SECONDS: &str = "20";

/// A version of a film that browsers play fits into so many pixels on each side.
const FILM: u32 = 1920;
/// A longer film is not made anew.
const LONGEST_FILM: f64 = 4.0 * 3600.0;
/// Seconds that may go by for each of a film, and before its first.
const FILM_SECONDS: (f64, f64) = (20.0, 120.0);

/// What browsers can do with a film.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Film {
    /// They play it as it is.
    Plays,
    /// They play what was made from it.
    Made,
}

/// Has ffprobe look at a video.
fn probed(path: &Path, media_type: &str) -> Result<Value, String> {
    probed_in(only(media_type)?, &as_file(path))
}

fn probed_in(only: [&str; 6], source: &OsStr) -> Result<Value, String> {
    let output = tool("ffprobe", SECONDS)
        .args(["-v", "error", "-print_format", "json", "-show_format", "-show_streams"])
        .args(only)
        .arg("-i")
        .arg(source)
        .output()
        .map_err(|e| format!("ffprobe could not be started: {e}"))?;
    if !output.status.success() {
        return Err("the video cannot be read; it may be cut short".to_owned());
    }
    serde_json::from_slice(&output.stdout).map_err(|_| "the video cannot be read".to_owned())
}

/// Whether every browser of the last years plays it: H.264 with eight bits and AAC or MP3 in MP4 or QuickTime, VP8 or VP9 with Opus or Vorbis in WebM.
fn plays(probe: &Value, media_type: &str) -> bool {
    let streams = || probe["streams"].as_array().into_iter().flatten();
    let of = |kind: &'static str| streams().filter(move |s| s["codec_type"] == kind);
    let all = |kind: &'static str, known: &[&str]| of(kind).all(|s| s["codec_name"].as_str().is_some_and(|c| known.contains(&c)));
    let eight_bits = of("video").all(|s| matches!(s["pix_fmt"].as_str(), Some("yuv420p" | "yuvj420p")));
    eight_bits
        && match media_type {
            "video/mp4" | "video/quicktime" => all("video", &["h264"]) && all("audio", &["aac", "mp3"]),
            "video/webm" => all("video", &["vp8", "vp9"]) && all("audio", &["opus", "vorbis"]),
            _ => false,
        }
}

/// Makes a version of a film that browsers play, unless they play it as it is: H.264 and AAC in MP4, without anything that is said in the original.
pub(crate) fn film(path: &Path, media_type: &str, to: &Path) -> Result<Film, String> {
    let probe = probed(path, media_type)?;
    if plays(&probe, media_type) {
        return Ok(Film::Plays);
    }
    made(only(media_type)?, &as_file(path), &probe, &coded(), to)
}

/// Takes the film out that a picture carries, as browsers play it: as it is, if they do, or made anew; without anything that is said in it.
pub(crate) fn film_inside(path: &Path, film: FilmInside, to: &Path) -> Result<Film, String> {
    let media_type = "video/mp4";
    let mut only = only(media_type)?;
    let end = film.at.checked_add(film.length).ok_or("there is no film in this picture")?;
    // Its reader sees no byte before it, nor behind it.
    if let Some(protocols) = only.last_mut() {
        *protocols = "file,subfile";
    }
    let mut source = OsString::from(format!("subfile,,start,{},end,{end},,:", film.at));
    source.push(as_file(path));
    let probe = probed_in(only, &source)?;
    let how = if plays(&probe, media_type) { vec!["-c".to_owned(), "copy".to_owned()] } else { coded() };
    made(only, &source, &probe, &how, to)
}

/// How a film is made anew: H.264 and AAC.
fn coded() -> Vec<String> {
    let size = format!(
        "scale='min({FILM},iw)':'min({FILM},ih)':force_original_aspect_ratio=decrease:force_divisible_by=2,format=yuv420p"
    );
    let video = ["-c:v", "libx264", "-preset", "veryfast", "-crf", "23", "-profile:v", "high", "-threads", "1"];
    let audio = ["-c:a", "aac", "-b:a", "128k", "-ac", "2"];
    ["-vf", &size].iter().chain(&video).chain(&audio).map(|s| (*s).to_owned()).collect()
}

/// Makes a version of a film, in MP4, that plays before all of it has come.
fn made(only: [&str; 6], source: &OsStr, probe: &Value, how: &[String], to: &Path) -> Result<Film, String> {
    let seconds = probe["format"]["duration"].as_str().and_then(|d| d.parse::<f64>().ok()).filter(|d| d.is_finite() && *d >= 0.0);
    let seconds = seconds.ok_or("nobody knows how long this film is")?;
    if seconds > LONGEST_FILM {
        return Err(format!("films of more than {} hours are not made anew", LONGEST_FILM / 3600.0));
    }
    let (each, first) = FILM_SECONDS;
    let output = tool("ffmpeg", &format!("{:.0}", first + each * seconds))
        .args(["-v", "error", "-nostdin", "-y", "-threads", "1"])
        .args(only)
        .arg("-i")
        .arg(source)
        .args(["-map", "0:v:0", "-map", "0:a:0?", "-sn", "-dn", "-map_metadata", "-1", "-map_chapters", "-1"])
        .args(how)
        .args(["-movflags", "+faststart", "-f", "mp4"])
        .arg(as_file(to))
        .output()
        .map_err(|e| format!("ffmpeg could not be started: {e}"))?;
    if output.status.success() { Ok(Film::Made) } else { Err("this film could not be made anew".to_owned()) }
}

/// Adds a video's facts. `media_type` is what its first bytes say that it is, and it is read as that and nothing else.
pub(crate) fn read(path: &Path, media_type: &str, facts: &mut Facts) -> Result<(), String> {
    let probe = probed(path, media_type)?;
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
        let output = tool("ffmpeg", SECONDS)
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

fn tool(name: &str, seconds: &str) -> Command {
    let mut command = Command::new("timeout");
    command.args(["--kill-after=2", seconds, name]);
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
    use rstest::rstest;

    use super::*;

    /// A second of a moving test pattern.
    fn drawn(name: &str, arguments: &[&str]) -> (tempfile::TempDir, std::path::PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join(name);
        let sources = [
            "-v",
            "error",
            "-f",
            "lavfi",
            "-i",
            "testsrc=size=640x360:rate=10:duration=1",
            "-f",
            "lavfi",
            "-i",
            "sine=duration=1",
        ];
        assert!(Command::new("ffmpeg").args(sources).args(arguments).arg(&path).status().unwrap().success());
        (folder, path)
    }

    #[rstest]
    #[case("a.mp4", "video/mp4", &["-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac"], Film::Plays)]
    #[case("a.webm", "video/webm", &["-c:v", "libvpx", "-pix_fmt", "yuv420p", "-c:a", "libopus", "-b:v", "200k"], Film::Plays)]
    #[case("a.mov", "video/quicktime", &["-c:v", "libx265", "-x265-params", "log-level=none", "-pix_fmt", "yuv420p10le", "-c:a", "aac"], Film::Made)]
    #[case("a.mp4", "video/mp4", &["-c:v", "libx264", "-pix_fmt", "yuv422p", "-c:a", "aac"], Film::Made)]
    #[case("a.avi", "video/vnd.avi", &["-c:v", "mjpeg", "-pix_fmt", "yuvj422p", "-c:a", "pcm_s16le", "-metadata", "title=The weir"], Film::Made)]
    #[case("a.mpg", "video/mpeg", &["-c:v", "mpeg2video", "-c:a", "mp2", "-f", "mpeg"], Film::Made)]
    fn what_browsers_do_not_play_is_made_anew(
        #[case] name: &str,
        #[case] of: &str,
        #[case] arguments: &[&str],
        #[case] found: Film,
    ) {
        let (folder, path) = drawn(name, arguments);
        let to = folder.path().join("new");
        assert_eq!(film(&path, of, &to), Ok(found));
        assert_eq!(to.exists(), found == Film::Made);
        if found == Film::Made {
            assert!(plays(&probed(&to, "video/mp4").unwrap(), "video/mp4"));
            assert_eq!(film(&to, "video/mp4", &folder.path().join("again")), Ok(Film::Plays));
            let bytes = std::fs::read(&to).unwrap();
            assert!(!bytes.windows(8).any(|w| w == b"The weir"), "nothing that the original says goes along");
            let place = |name: &[u8]| bytes.windows(4).position(|w| w == name).unwrap();
            assert!(place(b"moov") < place(b"mdat"), "it plays before all of it has come");
        }
    }

    #[rstest]
    #[case(&["-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "aac", "-metadata", "title=The weir"])]
    #[case(&["-c:v", "libx265", "-x265-params", "log-level=none", "-tag:v", "hvc1", "-c:a", "aac", "-metadata", "title=The weir"])]
    fn a_film_inside_a_picture_is_taken_out(#[case] arguments: &[&str]) {
        let (folder, path) = drawn("a.mp4", arguments);
        let film = std::fs::read(&path).unwrap();
        let picture = folder.path().join("picture");
        std::fs::write(&picture, [&[0xff; 3000][..], &film, b"what its maker wrote behind it"].concat()).unwrap();
        let inside = crate::inside::film(&mut std::fs::File::open(&picture).unwrap()).unwrap().unwrap();
        assert_eq!((inside.at, inside.length), (3000, film.len() as u64));
        let to = folder.path().join("new");
        assert_eq!(film_inside(&picture, inside, &to), Ok(Film::Made));
        let (own, made) = (probed(&path, "video/mp4").unwrap(), probed(&to, "video/mp4").unwrap());
        assert!(plays(&made, "video/mp4"));
        assert_eq!(own["streams"][0]["nb_frames"], made["streams"][0]["nb_frames"]);
        let bytes = std::fs::read(&to).unwrap();
        assert!(!bytes.windows(8).any(|w| w == b"The weir"), "nothing that it says goes along");
        for wrong in [(0, 3000), (2990, inside.length), (3000, 400), (u64::MAX, 9), (1 << 40, 1 << 40)] {
            let wrong = FilmInside { at: wrong.0, length: wrong.1 };
            assert!(film_inside(&picture, wrong, &to).is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn what_is_no_film_is_none() {
        let (folder, path) = drawn("a.mp4", &["-c:v", "libx265", "-x265-params", "log-level=none"]);
        let bytes = std::fs::read(&path).unwrap();
        std::fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
        assert!(film(&path, "video/mp4", &folder.path().join("new")).is_err());
        std::fs::write(&path, b"dear diary").unwrap();
        assert!(film(&path, "video/mp4", &folder.path().join("new")).is_err());
    }

    #[test]
    fn places_in_videos_are_read() {
        assert_eq!(iso_6709("+59.3293+018.0686/"), Some((59.3293, 18.0686)));
        assert_eq!(iso_6709("-33.8688+151.2093+012.5/"), Some((-33.8688, 151.2093)));
        assert_eq!(iso_6709("+91.0+018.0/"), None);
        assert_eq!(iso_6709("somewhere"), None);
    }
}
