//! Taking over what is there already: years of folders on an old disk, archives exported from elsewhere.
//!
//! Pure rules: what of a tree is taken, what is left where it is and why, and how an archive is told by its name.

use serde::{Deserialize, Serialize};

use crate::kind::MediaKind;

/// An archive whose contents are looked at like a folder's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ArchiveKind {
    /// ZIP (APPNOTE.TXT).
    Zip,
    /// tar (POSIX.1-2001 pax, and GNU's).
    Tar,
    /// The same, compressed (RFC 1952).
    TarGz,
}

impl ArchiveKind {
    /// The kind that a file name tells.
    ///
    /// ```
    /// use ypogeion_core::adopt::ArchiveKind;
    /// assert_eq!(ArchiveKind::of("Photos 2019.ZIP"), Some(ArchiveKind::Zip));
    /// assert_eq!(ArchiveKind::of("export.tar.gz"), Some(ArchiveKind::TarGz));
    /// assert_eq!(ArchiveKind::of("IMG_0001.jpg"), None);
    /// ```
    pub fn of(name: &str) -> Option<Self> {
        let lower = name.to_ascii_lowercase();
        let ends = |ending: &str| lower.len() > ending.len() && lower.ends_with(ending);
        match () {
            () if ends(".zip") => Some(Self::Zip),
            () if ends(".tar") => Some(Self::Tar),
            () if ends(".tar.gz") || ends(".tgz") => Some(Self::TarGz),
            () => None,
        }
    }
}

/// What a name in a tree or an archive stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum What {
    /// A file with bytes.
    File,
    /// A file with bytes that a password keeps.
    Locked,
    /// A link, a device, a pipe: something that is not bytes, or that leads elsewhere.
    NoFile,
}

/// Why something is left where it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftOut {
    /// Hidden files and folders: settings and caches of other programs.
    Hidden,
    /// A link, a device, a pipe.
    NoFile,
    /// Neither a picture nor a video nor words about one.
    NotMedia,
    /// An archive within an archive.
    InnerArchive,
    /// It would become more than a hundred times as large when unpacked.
    GrowsTooMuch,
    /// Kept by a password.
    Locked,
}

impl LeftOut {
    /// Every reason, for tables and tests.
    pub const ALL: [LeftOut; 6] =
        [Self::Hidden, Self::NoFile, Self::NotMedia, Self::InnerArchive, Self::GrowsTooMuch, Self::Locked];

    /// The reason in a few words.
    pub fn sentence(self) -> &'static str {
        match self {
            Self::Hidden => "hidden, or another program’s own",
            Self::NoFile => "a link or a device, not a file",
            Self::NotMedia => "neither a picture nor a video nor a description of one",
            Self::InnerArchive => "an archive within an archive; unpack it first",
            Self::GrowsTooMuch => "would become more than a hundred times as large when unpacked",
            Self::Locked => "protected by a password",
        }
    }
}

/// Something found in a tree or an archive.
#[derive(Clone, Copy, Debug)]
pub struct Found<'a> {
    /// From the top of the tree or archive, separated by `/`. Whatever it says, it never becomes a place on a disk.
    pub path: &'a str,
    /// What it stands for.
    pub what: What,
    /// Its bytes, as announced.
    pub size: u64,
    /// The bytes that it takes in its archive; `None` outside of one.
    pub packed: Option<u64>,
}

/// Smaller files may grow as they like: a note of the same letter over and over is no attack.
const SMALL: u64 = 64 << 20;
/// Pictures and videos are packed already; nothing that is one grows a hundredfold.
const MOST_GROWTH: u64 = 100;
/// Folders in which other programs keep previews and bin of their own.
const OTHERS_OWN: [&str; 6] = ["@eadir", "#recycle", "$recycle.bin", "system volume information", "__macosx", "lost+found"];

/// Whether it is taken, or why it is left where it is. With `everything`, files of any sort are taken.
pub fn judge(found: &Found<'_>, everything: bool) -> Result<(), LeftOut> {
    if found.what == What::NoFile {
        return Err(LeftOut::NoFile);
    }
    let others =
        |part: &str| part.starts_with('.') && part != "." && part != ".." || OTHERS_OWN.contains(&part.to_lowercase().as_str());
    if found.path.split(['/', '\\']).any(others) {
        return Err(LeftOut::Hidden);
    }
    if found.packed.is_some() && ArchiveKind::of(found.path).is_some() {
        return Err(LeftOut::InnerArchive);
    }
    if !everything && MediaKind::from_extension(found.path) == MediaKind::Other {
        return Err(LeftOut::NotMedia);
    }
    if found.what == What::Locked {
        return Err(LeftOut::Locked);
    }
    match found.packed {
        Some(packed) if found.size > SMALL && found.size / MOST_GROWTH > packed => Err(LeftOut::GrowsTooMuch),
        _ => Ok(()),
    }
}

/// The folder that a file is in, as the source it is recorded with, and its name. A file at the top is in a folder called
/// after the tree itself.
pub fn source_and_name(top: &str, path: &str) -> (String, String) {
    let clean: Vec<&str> = path.split(['/', '\\']).filter(|p| !matches!(*p, "" | "." | "..")).collect();
    match clean.split_last() {
        Some((name, [])) => (top.to_owned(), (*name).to_owned()),
        Some((name, folders)) => (folders.join("/"), (*name).to_owned()),
        None => (top.to_owned(), "unnamed".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn found(path: &str) -> Found<'_> {
        Found { path, what: What::File, size: 1000, packed: None }
    }

    #[rstest]
    #[case("2019/Rome/IMG_1.jpg", None)]
    #[case("IMG_1.jpg.json", None)]
    #[case("clip.mov", None)]
    #[case("2019/.thumbnails/IMG_1.jpg", Some(LeftOut::Hidden))]
    #[case("2019/@eaDir/IMG_1.jpg", Some(LeftOut::Hidden))]
    #[case("__MACOSX/IMG_1.jpg", Some(LeftOut::Hidden))]
    #[case("../IMG_1.jpg", None)]
    #[case("letter.docx", Some(LeftOut::NotMedia))]
    #[case("Thumbs.db", Some(LeftOut::NotMedia))]
    fn pictures_are_taken_and_the_rest_stays(#[case] path: &str, #[case] left: Option<LeftOut>) {
        assert_eq!(judge(&found(path), false).err(), left);
        if left == Some(LeftOut::NotMedia) {
            assert!(judge(&found(path), true).is_ok());
        }
    }

    #[test]
    fn what_grows_a_thousandfold_is_left() {
        let bomb = Found { size: 10 << 30, packed: Some(10 << 20), ..found("a.jpg") };
        assert_eq!(judge(&bomb, true), Err(LeftOut::GrowsTooMuch));
        assert!(judge(&Found { size: 10 << 30, packed: Some(9 << 30), ..bomb }, true).is_ok());
        assert!(judge(&Found { size: 1 << 20, packed: Some(1), ..bomb }, true).is_ok());
        assert_eq!(judge(&Found { packed: Some(10), ..found("more.zip") }, true), Err(LeftOut::InnerArchive));
        assert_eq!(judge(&Found { what: What::NoFile, ..found("a.jpg") }, true), Err(LeftOut::NoFile));
        assert_eq!(judge(&Found { what: What::Locked, ..found("a.jpg") }, true), Err(LeftOut::Locked));
    }

    #[rstest]
    #[case("2019/Rome/a.jpg", "2019/Rome", "a.jpg")]
    #[case("a.jpg", "old disk", "a.jpg")]
    #[case("../../etc/a.jpg", "etc", "a.jpg")]
    #[case("/a.jpg", "old disk", "a.jpg")]
    #[case("c:\\x\\a.jpg", "c:/x", "a.jpg")]
    #[case("", "old disk", "unnamed")]
    fn a_path_says_where_a_file_was(#[case] path: &str, #[case] source: &str, #[case] name: &str) {
        assert_eq!(source_and_name("old disk", path), (source.to_owned(), name.to_owned()));
    }

    #[test]
    fn every_reason_is_said() {
        assert!(LeftOut::ALL.iter().all(|r| r.sentence().len() > 10));
    }
}
