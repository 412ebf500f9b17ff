//! An old disk out of a drawer: folders from years ago, among them what the household has already, and an album that was exported
//! as an archive, with words beside its pictures because the pictures themselves have lost theirs.

use std::{
    fs,
    io::{self, Write},
    path::Path,
};

use chrono::{FixedOffset, NaiveDate, TimeDelta, TimeZone};
use zip::{CompressionMethod, write::SimpleFileOptions};

use crate::{
    DEVICES, camera,
    camera::{Camera, Shot},
    scenes::{Rng, Scene, draw},
    write,
};

/// The disk's name.
pub const NAME: &str = "Blue disk";

/// An outing of long ago.
struct Outing {
    folder: &'static str,
    scene: Scene,
    day: (i32, u32, u32),
    pictures: u32,
}

const OUTINGS: [Outing; 4] = [
    Outing { folder: "2009 First beans", scene: Scene::Allotment, day: (2009, 6, 7), pictures: 9 },
    Outing { folder: "2011 Fog in the harbour", scene: Scene::Harbour, day: (2011, 11, 12), pictures: 12 },
    Outing { folder: "2012 The mill before the roof", scene: Scene::Mill, day: (2012, 3, 31), pictures: 7 },
    Outing { folder: "2014 Kites/Saturday", scene: Scene::Kites, day: (2014, 8, 2), pictures: 10 },
];

/// Fills `folder` with the disk. `pictures` is where [`crate::make`] has put what the devices have.
pub fn fill(folder: &Path, pictures: &Path, seed: u64, width: u32) -> io::Result<()> {
    let mut rng = Rng::new(seed);
    let zone = FixedOffset::east_opt(3600).ok_or_else(|| io::Error::other("an hour east"))?;
    for (n, outing) in OUTINGS.iter().enumerate() {
        let (y, m, d) = outing.day;
        let day =
            NaiveDate::from_ymd_opt(y, m, d).and_then(|d| d.and_hms_opt(11, 5, 0)).ok_or_else(|| io::Error::other("a day"))?;
        for picture in 0..outing.pictures {
            let local = day + TimeDelta::minutes(i64::from(picture) * 9);
            let shot = Shot::new(Camera::of_device(2), local, outing.scene.place(), &mut rng);
            let jpeg = camera::jpeg(
                &draw(outing.scene, seed ^ (n as u64 * 100 + u64::from(picture)), 0.0, width, width * 3 / 4),
                &shot,
            )?;
            let name = format!("IMG_{:04}.JPG", 1100 + n as u32 * 60 + picture);
            write(&folder.join(NAME).join(outing.folder).join(name), &jpeg, shot.instant())?;
        }
    }
    // Copied over by somebody once, and still on the desktop.
    let desktop = pictures.join(DEVICES[2].folder).join("Pictures");
    let mut names: Vec<_> = fs::read_dir(&desktop)?.flatten().map(|e| e.path()).filter(|p| p.is_file()).collect();
    names.sort();
    for path in names.iter().take(8) {
        let to = folder.join(NAME).join("Desktop copy").join(path.file_name().unwrap_or_default());
        fs::create_dir_all(to.parent().unwrap_or(folder))?;
        fs::copy(path, to)?;
    }
    let then = zone.with_ymd_and_hms(2012, 4, 1, 20, 0, 0).single().ok_or_else(|| io::Error::other("an evening"))?;
    write(&folder.join(NAME).join("Roof, offers.txt"), b"Slate, two offers, both too dear.\n", then)?;
    write(&folder.join(NAME).join("2014 Kites/.thumbs/1280.jpg"), b"not ours", then)?;
    write(&folder.join(NAME).join("Album export.zip"), &export(seed, width)?, then)
}

/// An exported album: small pictures without camera data, each with words beside it.
fn export(seed: u64, width: u32) -> io::Result<Vec<u8>> {
    let mut zip = zip::ZipWriter::new(io::Cursor::new(Vec::new()));
    let stored = SimpleFileOptions::default().compression_method(CompressionMethod::Stored);
    let mut add = |name: &str, bytes: &[u8]| -> io::Result<()> {
        zip.start_file(name, stored).map_err(io::Error::other)?;
        zip.write_all(bytes)
    };
    for n in 0..6u32 {
        let mut jpeg = Vec::new();
        let picture = image::DynamicImage::ImageRgb8(draw(Scene::Weir, seed ^ u64::from(900 + n), 0.0, width * 3 / 4, width / 2));
        picture.write_to(&mut io::Cursor::new(&mut jpeg), image::ImageFormat::Jpeg).map_err(io::Error::other)?;
        let name = format!("Weir in spring/weir {}.jpg", n + 1);
        add(&name, &jpeg)?;
        let taken = 1_427_536_800 + i64::from(n) * 420;
        let words = format!(
            "{{\"caption\": \"weir {}\", \"taken\": {taken}, \"where\": {{\"latitude\": 50.8715, \"longitude\": 5.6936}}}}\n",
            n + 1
        );
        add(&format!("{name}.json"), words.as_bytes())?;
    }
    add("read me.txt", b"Weir in spring, six pictures\n")?;
    Ok(zip.finish().map_err(io::Error::other)?.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Size, make};

    #[test]
    fn the_disk_holds_old_and_known_pictures_and_an_archive() {
        let folder = tempfile::tempdir().unwrap();
        let pictures = folder.path().join("pictures");
        make(&pictures, 1, Size::SMALL, &|_, _| ()).unwrap();
        fill(folder.path(), &pictures, 1, 120).unwrap();
        let disk = folder.path().join(NAME);
        assert_eq!(fs::read_dir(disk.join("2009 First beans")).unwrap().count(), 9);
        assert!(fs::read_dir(disk.join("Desktop copy")).unwrap().count() > 0);
        let archive = zip::ZipArchive::new(fs::File::open(disk.join("Album export.zip")).unwrap()).unwrap();
        assert_eq!(archive.len(), 13);
    }
}
