//! What sort of file an original is, as far as a household cares.

use serde::{Deserialize, Serialize};

/// The sort of an original. Decided from the bytes where they say so, from the name's extension otherwise.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum MediaKind {
    /// A still picture that programs can show as it is.
    Photo,
    /// A moving picture.
    Video,
    /// A camera's raw data.
    Raw,
    /// Words about another file (XMP, JSON, AAE).
    Sidecar,
    /// Anything else. Kept like the rest: this is a backup, not a gallery.
    Other,
}

impl MediaKind {
    /// Every kind, for tables and tests.
    pub const ALL: [MediaKind; 5] = [Self::Photo, Self::Video, Self::Raw, Self::Sidecar, Self::Other];

    /// The word stored in the database and in the ledger.
    pub fn word(self) -> &'static str {
        match self {
            Self::Photo => "photo",
            Self::Video => "video",
            Self::Raw => "raw",
            Self::Sidecar => "sidecar",
            Self::Other => "other",
        }
    }

    /// The kind for a stored word; words of a later version read as [`MediaKind::Other`].
    pub fn from_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|k| k.word() == word).unwrap_or(Self::Other)
    }

    /// A guess from a file name's extension, for devices (which do not open files to classify them) and for files whose
    /// bytes say nothing.
    pub fn from_extension(name: &str) -> Self {
        let extension = name.rsplit_once('.').map(|(_, e)| e.to_ascii_lowercase()).unwrap_or_default();
        match extension.as_str() {
            "jpg" | "jpeg" | "jpe" | "png" | "gif" | "webp" | "heic" | "heif" | "hif" | "avif" | "bmp" | "jp2" | "jxl" => {
                Self::Photo
            }
            "mp4" | "mov" | "m4v" | "3gp" | "3g2" | "avi" | "mkv" | "webm" | "mts" | "m2ts" | "mpg" | "mpeg" => Self::Video,
            "dng" | "nef" | "cr2" | "cr3" | "arw" | "rw2" | "orf" | "raf" | "pef" | "srw" | "x3f" | "iiq" | "tif" | "tiff" => {
                Self::Raw
            }
            "xmp" | "aae" | "json" | "thm" => Self::Sidecar,
            _ => Self::Other,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_is_found_again_by_its_word() {
        for kind in MediaKind::ALL {
            assert_eq!(MediaKind::from_word(kind.word()), kind);
        }
        assert_eq!(MediaKind::from_word("hologram"), MediaKind::Other);
    }

    #[test]
    fn extensions_are_read_whatever_their_case() {
        assert_eq!(MediaKind::from_extension("IMG_2214.HEIC"), MediaKind::Photo);
        assert_eq!(MediaKind::from_extension("clip.MoV"), MediaKind::Video);
        assert_eq!(MediaKind::from_extension("R0001.dng"), MediaKind::Raw);
        assert_eq!(MediaKind::from_extension("noextension"), MediaKind::Other);
    }
}
