//! What a device says about a file in `Upload-Metadata`.
//!
//! Beside the usual key `filename` (or `name`), these are understood: `sha256` (64 hexadecimal digits, compared before the
//! file lands), `source` or `relativePath` (album or folder), `mtime` (RFC 3339, or milliseconds since 1970) and, by a link, `from`
//! (who somebody outside says that they are). None of them is needed, and others are kept and given back without being understood.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use data_encoding::BASE64;
use ypogeion_core::{Digest, OriginalName, name::source_name};

use crate::failure::{Answer, Failure};

/// Longest header taken.
const LONGEST: usize = 8192;

/// What a device says about a file.
pub struct Metadata {
    /// Its name there.
    pub name: OriginalName,
    /// Album or folder.
    pub source: String,
    /// What its bytes should be.
    pub digest: Option<Digest>,
    /// Its modification time.
    pub file_time: Option<DateTime<Utc>>,
    /// Who somebody outside says that they are.
    pub from: String,
}

impl Metadata {
    /// Reads the header: comma-separated pairs of a key and, after a space, base64. A key alone has an empty value.
    pub fn parse(text: &str) -> Answer<Self> {
        if text.len() > LONGEST {
            return Err(Failure::bad(format!("The metadata of an upload has at most {LONGEST} letters.")));
        }
        let mut pairs = HashMap::new();
        for pair in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
            let (key, value) = pair.split_once(' ').unwrap_or((pair, ""));
            let bytes = BASE64
                .decode(value.trim().as_bytes())
                .map_err(|_| Failure::bad(format!("The metadata {key:?} is not base64.")))?;
            if pairs.insert(key.to_ascii_lowercase(), String::from_utf8_lossy(&bytes).into_owned()).is_some() {
                return Err(Failure::bad(format!("The metadata {key:?} is there twice.")));
            }
        }
        let digest = match pairs.get("sha256") {
            Some(text) => Some(text.parse().map_err(|_| Failure::bad("The metadata \"sha256\" is not 64 hexadecimal digits."))?),
            None => None,
        };
        let text = |keys: &[&str]| keys.iter().find_map(|k| pairs.get(*k)).map_or("", String::as_str);
        let folder = text(&["relativepath"]).rsplit_once('/').map_or("", |(folder, _)| folder);
        Ok(Metadata {
            name: OriginalName::from_device(text(&["filename", "name"])),
            source: source_name(if pairs.contains_key("source") { text(&["source"]) } else { folder }),
            digest,
            file_time: moment(text(&["mtime", "lastmodified"])),
            from: text(&["from"]).to_owned(),
        })
    }
}

/// A time as programs write it: RFC 3339, or milliseconds since 1970.
fn moment(text: &str) -> Option<DateTime<Utc>> {
    let millis = || text.parse().ok().and_then(DateTime::from_timestamp_millis);
    DateTime::parse_from_rfc3339(text).ok().map(|t| t.to_utc()).or_else(millis)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metadata_is_read_and_cleaned() {
        let encode = |t: &str| BASE64.encode(t.as_bytes());
        let text = format!(
            "filename {},sha256 {},source {},mtime {},is_empty",
            encode("../a\n.jpg"),
            encode(&"ab".repeat(32)),
            encode("Camera"),
            encode("2026-04-12T10:00:00+02:00")
        );
        let m = Metadata::parse(&text).unwrap();
        assert_eq!((m.name.as_str(), m.source.as_str()), ("../a_.jpg", "Camera"));
        assert_eq!(m.file_time.unwrap().to_rfc3339(), "2026-04-12T08:00:00+00:00");
        assert!(m.digest.is_some());
        assert!(Metadata::parse("filename !!!").is_err());
        assert!(Metadata::parse("a QQ==,a QQ==").is_err(), "keys are unique");
        assert!(Metadata::parse(&"x".repeat(LONGEST + 1)).is_err());
        assert!(Metadata::parse(&format!("sha256 {}", encode("ab"))).is_err());
        assert_eq!(Metadata::parse("").unwrap().name.as_str(), "unnamed");
    }

    #[test]
    fn what_browsers_say_is_understood() {
        let encode = |t: &str| BASE64.encode(t.as_bytes());
        let text = format!(
            "name {},relativePath {},lastModified {}",
            encode("a.jpg"),
            encode("Kites/Day 1/a.jpg"),
            encode("1776000000000")
        );
        let m = Metadata::parse(&text).unwrap();
        assert_eq!((m.name.as_str(), m.source.as_str()), ("a.jpg", "Kites/Day 1"));
        assert_eq!(m.file_time.unwrap().timestamp(), 1_776_000_000);
    }
}
