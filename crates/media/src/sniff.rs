//! The kind of a file, from its first bytes; the name helps only where different cameras share one container.

use ypogeion_core::kind::MediaKind;

/// How many bytes from the start are enough.
pub const ENOUGH: usize = 64;

/// The kind and the media type (RFC 6838), or `None` if the bytes say nothing that is known here.
///
/// ```
/// use ypogeion_core::kind::MediaKind;
/// use ypogeion_media::sniff::sniff;
/// assert_eq!(sniff(b"\xff\xd8\xff\xe1", "a.txt"), Some((MediaKind::Photo, "image/jpeg")));
/// assert_eq!(sniff(b"hello", "a.jpg"), None);
/// ```
pub fn sniff(head: &[u8], name: &str) -> Option<(MediaKind, &'static str)> {
    use MediaKind::*;
    let extension = name.rsplit_once('.').map(|(_, e)| e.to_ascii_lowercase()).unwrap_or_default();
    let at = |offset: usize, magic: &[u8]| head.get(offset..offset + magic.len()) == Some(magic);
    if at(4, b"ftyp") {
        return Some(brand(head.get(8..12).unwrap_or_default()));
    }
    Some(match () {
        () if at(0, b"\xff\xd8\xff") => (Photo, "image/jpeg"),
        () if at(0, b"\x89PNG\r\n\x1a\n") => (Photo, "image/png"),
        () if at(0, b"GIF87a") || at(0, b"GIF89a") => (Photo, "image/gif"),
        () if at(0, b"RIFF") && at(8, b"WEBP") => (Photo, "image/webp"),
        () if at(0, b"RIFF") && at(8, b"AVI ") => (Video, "video/vnd.avi"),
        () if at(0, b"\0\0\0\x0cjP  \r\n\x87\n") => (Photo, "image/jp2"),
        () if at(0, b"BM") && extension == "bmp" => (Photo, "image/bmp"),
        () if at(0, b"IIU\0") => (Raw, "image/x-panasonic-rw2"),
        () if at(0, b"IIRO") || at(0, b"IIRS") || at(0, b"MMOR") => (Raw, "image/x-olympus-orf"),
        () if at(0, b"FOVb") => (Raw, "image/x-sigma-x3f"),
        () if at(0, b"FUJIFILMCCD-RAW") => (Raw, "image/x-fuji-raf"),
        () if at(0, b"II*\0") || at(0, b"MM\0*") => match extension.as_str() {
            "dng" => (Raw, "image/x-adobe-dng"),
            "nef" => (Raw, "image/x-nikon-nef"),
            "cr2" => (Raw, "image/x-canon-cr2"),
            "arw" => (Raw, "image/x-sony-arw"),
            "pef" | "srw" | "iiq" | "3fr" | "erf" => (Raw, "application/octet-stream"),
            _ => (Photo, "image/tiff"),
        },
        () if at(0, b"\x1a\x45\xdf\xa3") => (Video, if extension == "webm" { "video/webm" } else { "video/matroska" }),
        // Old QuickTime files begin with one of these atoms and have no brand.
        () if at(4, b"moov") || at(4, b"mdat") || at(4, b"wide") || at(4, b"free") || at(4, b"skip") => {
            (Video, "video/quicktime")
        }
        () if at(0, b"\0\0\x01\xba") || at(0, b"\0\0\x01\xb3") => (Video, "video/mpeg"),
        () if at(0, b"<?xpacket") || at(0, b"<x:xmpmeta") => (Sidecar, "application/rdf+xml"),
        () if at(0, b"<?xml") && extension == "xmp" => (Sidecar, "application/rdf+xml"),
        () if extension == "json" && head.iter().find(|b| !b.is_ascii_whitespace()) == Some(&b'{') => {
            (Sidecar, "application/json")
        }
        () => return None,
    })
}

fn brand(brand: &[u8]) -> (MediaKind, &'static str) {
    use MediaKind::*;
    match brand {
        b"heic" | b"heix" | b"heim" | b"heis" | b"hevc" | b"hevx" | b"mif1" | b"msf1" => (Photo, "image/heic"),
        b"avif" | b"avis" => (Photo, "image/avif"),
        b"crx " => (Raw, "image/x-canon-cr3"),
        b"qt  " => (Video, "video/quicktime"),
        [b'3', b'g', ..] => (Video, "video/3gpp"),
        _ => (Video, "video/mp4"),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::misnamed_jpeg(b"\xff\xd8\xff\xe0\0\0", "holiday.png", Some("image/jpeg"))]
    #[case::heic(b"\0\0\0\x18ftypheic", "a", Some("image/heic"))]
    #[case::movie(b"\0\0\0\x14ftypqt  ", "a", Some("video/quicktime"))]
    #[case::raw_by_name(b"II*\0", "R1.DNG", Some("image/x-adobe-dng"))]
    #[case::tiff(b"MM\0*", "scan.tif", Some("image/tiff"))]
    #[case::sidecar(b"<?xml version='1.0'?>", "R1.xmp", Some("application/rdf+xml"))]
    #[case::export(b" {\"taken\": 1}", "R1.jpg.json", Some("application/json"))]
    #[case::empty(b"", "a.jpg", None)]
    #[case::words(b"dear diary", "a.jpg", None)]
    #[case::cut(b"\xff\xd8", "a.jpg", None)]
    fn bytes_decide_before_names(#[case] head: &[u8], #[case] name: &str, #[case] media_type: Option<&str>) {
        assert_eq!(sniff(head, name).map(|s| s.1), media_type);
    }
}
