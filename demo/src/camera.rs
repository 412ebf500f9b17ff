//! Cameras that do not exist, and the data they write.

use std::io;

use chrono::{DateTime, Datelike, FixedOffset, NaiveDateTime, TimeZone, Timelike};
use exif::{Field, In, Rational, Tag, Value, experimental::Writer};
use image::{RgbImage, codecs::jpeg::JpegEncoder};

use crate::scenes::Rng;

/// A camera of the demo household.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Camera {
    /// Juno's phone: names its zone.
    Havel7,
    /// Piet's phone: names its zone.
    Corvo4,
    /// The household's camera, whose card goes into the desktop: names none.
    BrentaT1,
    /// Marisol's tablet.
    OsierSlate,
    /// Juno's phone before.
    Havel3,
    /// Piet's phone before.
    Corvo1,
}

impl Camera {
    /// The camera of a device, by its place in [`crate::DEVICES`].
    pub fn of_device(device: usize) -> Self {
        [Self::Havel7, Self::Corvo4, Self::BrentaT1, Self::OsierSlate][device]
    }

    fn make_model_lens(self) -> (&'static str, &'static str, &'static str) {
        match self {
            Self::Havel7 => ("Havel", "Havel 7", "Havel main 26 mm f/1.8"),
            Self::Corvo4 => ("Lindqvist", "Corvo 4", "Corvo wide 24 mm f/1.9"),
            Self::BrentaT1 => ("Brenta", "Brenta T1", "Brentar 35 mm f/2"),
            Self::OsierSlate => ("Osier", "Osier Slate", "Slate 30 mm f/2.4"),
            Self::Havel3 => ("Havel", "Havel 3", "Havel main 28 mm f/2.2"),
            Self::Corvo1 => ("Lindqvist", "Corvo 1", "Corvo wide 26 mm f/2.2"),
        }
    }

    /// The name it gives a picture.
    pub fn name(self, local: NaiveDateTime, counter: u32) -> String {
        match self {
            Self::Havel7 | Self::Havel3 => format!("IMG_{counter:04}.JPG"),
            Self::Corvo4 | Self::Corvo1 => format!("CRV_{}.jpg", local.format("%Y%m%d_%H%M%S")),
            Self::BrentaT1 => format!("BRT_{counter:04}.JPG"),
            Self::OsierSlate => format!("photo-{counter:03}.jpg"),
        }
    }
}

/// One press of the shutter.
#[derive(Clone, Debug)]
pub struct Shot {
    /// With what.
    pub camera: Camera,
    /// What the camera's clock showed.
    pub local: NaiveDateTime,
    /// The offset it wrote, in minutes east of UTC.
    pub offset_minutes: Option<i32>,
    /// Degrees north and east, if it knew.
    pub place: Option<(f64, f64)>,
    /// One over the exposure time, in seconds.
    pub speed: u32,
    /// Sensitivity.
    pub iso: u16,
}

impl Shot {
    /// A shot with plausible settings.
    pub fn new(camera: Camera, local: NaiveDateTime, place: (f64, f64), rng: &mut Rng) -> Self {
        // Central European time, as the household lives by it.
        let summer = (4..=10).contains(&local.month()) && !(local.month() == 10 && local.day() > 24);
        let near = |v: f64, rng: &mut Rng| v + (rng.below(2000) as f64 - 1000.0) / 1e6;
        let phone = matches!(camera, Camera::Havel7 | Camera::Corvo4 | Camera::Havel3 | Camera::Corvo1);
        Shot {
            camera,
            local,
            offset_minutes: phone.then_some(if summer { 120 } else { 60 }),
            place: phone.then(|| (near(place.0, rng), near(place.1, rng))),
            speed: [60, 125, 250, 500, 1000][rng.below(5) as usize],
            iso: [50, 100, 200, 400, 800][rng.below(5) as usize],
        }
    }

    /// The instant, by the household's own zone where the camera names none.
    pub fn instant(&self) -> DateTime<FixedOffset> {
        let zone = FixedOffset::east_opt(self.offset_minutes.unwrap_or(60) * 60).expect("an hour or two");
        zone.from_local_datetime(&self.local).single().expect("fixed offsets have no gaps")
    }

    fn fields(&self) -> Vec<Field> {
        let (make, model, lens) = self.camera.make_model_lens();
        let text = |tag, s: &str| Field { tag, ifd_num: In::PRIMARY, value: Value::Ascii(vec![s.as_bytes().to_vec()]) };
        let ratio = |tag, pairs: &[(u32, u32)]| Field {
            tag,
            ifd_num: In::PRIMARY,
            value: Value::Rational(pairs.iter().map(|(num, denom)| Rational { num: *num, denom: *denom }).collect()),
        };
        let date = self.local.format("%Y:%m:%d %H:%M:%S").to_string();
        let mut fields = vec![
            text(Tag::Make, make),
            text(Tag::Model, model),
            text(Tag::DateTime, &date),
            text(Tag::DateTimeOriginal, &date),
            text(Tag::SubSecTimeOriginal, &format!("{:03}", self.local.second() * 13)),
            text(Tag::LensModel, lens),
            ratio(Tag::ExposureTime, &[(1, self.speed)]),
            ratio(Tag::FNumber, &[(18, 10)]),
            ratio(Tag::FocalLength, &[(26, 1)]),
            Field { tag: Tag::PhotographicSensitivity, ifd_num: In::PRIMARY, value: Value::Short(vec![self.iso]) },
            Field { tag: Tag::Orientation, ifd_num: In::PRIMARY, value: Value::Short(vec![1]) },
        ];
        if let Some(minutes) = self.offset_minutes {
            fields.push(text(Tag::OffsetTimeOriginal, &format!("+{:02}:{:02}", minutes / 60, minutes % 60)));
        }
        if let Some((north, east)) = self.place {
            let degrees = |v: f64| {
                let minutes = v.fract() * 60.0;
                [(v as u32, 1), (minutes as u32, 1), ((minutes.fract() * 60.0 * 1000.0) as u32, 1000)]
            };
            fields.push(text(Tag::GPSLatitudeRef, "N"));
            fields.push(ratio(Tag::GPSLatitude, &degrees(north)));
            fields.push(text(Tag::GPSLongitudeRef, "E"));
            fields.push(ratio(Tag::GPSLongitude, &degrees(east)));
        }
        fields
    }

    fn tiff(&self, thumbnail: Option<&[u8]>) -> io::Result<Vec<u8>> {
        let fields = self.fields();
        let mut writer = Writer::new();
        fields.iter().for_each(|f| writer.push_field(f));
        if let Some(jpeg) = thumbnail {
            writer.set_jpeg(jpeg, In::THUMBNAIL);
        }
        let mut out = io::Cursor::new(Vec::new());
        writer.write(&mut out, false).map_err(io::Error::other)?;
        Ok(out.into_inner())
    }
}

/// A JPEG with the shot's data.
pub fn jpeg(picture: &RgbImage, shot: &Shot) -> io::Result<Vec<u8>> {
    let mut plain = Vec::new();
    JpegEncoder::new_with_quality(&mut plain, 80).encode_image(picture).map_err(io::Error::other)?;
    let tiff = shot.tiff(None)?;
    let length = u16::try_from(tiff.len() + 8).map_err(io::Error::other)?;
    // After the start of image: APP1, its length, the EXIF mark, the TIFF structure.
    let mut out = plain[..2].to_vec();
    out.extend_from_slice(&[0xff, 0xe1]);
    out.extend_from_slice(&length.to_be_bytes());
    out.extend_from_slice(b"Exif\0\0");
    out.extend_from_slice(&tiff);
    out.extend_from_slice(&plain[2..]);
    Ok(out)
}

/// A raw file: a TIFF structure with the shot's data and an embedded JPEG.
pub fn raw(shot: &Shot, jpeg: &[u8]) -> io::Result<Vec<u8>> {
    shot.tiff(Some(jpeg))
}
