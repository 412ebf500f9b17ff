//! One upload made of several that were sent side by side: tus's concatenation.
//!
//! Partial uploads are uploads that never land by themselves. A final one names them; its bytes are put together on the
//! disk, hashed on the way, and it lands like any other. Put together is only what is missing: after a kill it goes on where
//! it stopped, at the next start or when its device asks.

use std::{
    collections::HashSet,
    fs::File,
    io::{Read, Seek, SeekFrom},
    sync::Arc,
};

use actix_web::{HttpRequest, HttpResponse};
use ypogeion_catalog::{devices::DeviceCaller, uploads::Upload};
use ypogeion_core::{OriginalId, UploadId};
use ypogeion_library::{Finished, LibraryError, PartWriter};
use ypogeion_wire::problem::ProblemType;

use super::{LARGEST, ORIGINAL, begin, busy, count, http_date};
use crate::{
    app::{App, Writing},
    failure::{Answer, Failure},
    landing,
};

/// Of so many parts may an upload be made.
const MOST_PARTS: usize = 1_000;

/// What `Upload-Concat` says.
#[derive(Debug, PartialEq, Eq)]
pub enum Concat {
    /// This upload will be a part of another one.
    Partial,
    /// This upload is made of these, in this order.
    Final(Vec<UploadId>),
}

impl Concat {
    /// Reads the header. Parts are named by address, whole or without the host.
    pub fn parse(text: &str) -> Answer<Self> {
        let not_understood = || {
            Failure::bad(
                "The header Upload-Concat is \"partial\", or \"final;\" and the addresses of partial uploads, separated by spaces.",
            )
        };
        if text.trim() == "partial" {
            return Ok(Concat::Partial);
        }
        let parts = text.trim().strip_prefix("final;").ok_or_else(not_understood)?;
        let ids: Option<Vec<UploadId>> = parts.split_whitespace().map(upload_id).collect();
        ids.filter(|ids| !ids.is_empty()).map(Concat::Final).ok_or_else(not_understood)
    }
}

fn upload_id(address: &str) -> Option<UploadId> {
    let path = address.split_once("://").map_or(address, |(_, rest)| rest.split_once('/').map_or("", |(_, path)| path));
    path.trim_start_matches('/').strip_prefix("tus/")?.parse().ok()
}

/// Creates a final upload, puts it together and lands it.
pub(super) async fn create(
    app: &Arc<App>,
    device: &DeviceCaller,
    request: &HttpRequest,
    parts: &[UploadId],
) -> Answer<HttpResponse> {
    if request.headers().contains_key("upload-length") {
        return Err(Failure::bad("An upload made of others has their length; leave Upload-Length out."));
    }
    if parts.len() > MOST_PARTS || parts.iter().collect::<HashSet<_>>().len() < parts.len() {
        return Err(Failure::bad(format!("An upload is made of at most {MOST_PARTS} others, and of none of them twice.")));
    }
    let mut length = 0u64;
    for id in parts {
        length = length.saturating_add(complete_part(app, device, *id).await?);
    }
    if length > LARGEST {
        return Err(Failure::new(ProblemType::TooLarge, "No file can be larger than 16 TiB here."));
    }
    let upload = begin(app, device, request, length).await?;
    let writing = app.busy.take(upload.id).ok_or_else(busy)?;
    // In the quota it takes the place of its parts; on the disk, both need to fit for a moment.
    landing::begin(app, &upload, parts).await?;
    count(app, &upload).await?;
    let original = go_on(app, &upload, writing).await?;
    Ok(HttpResponse::Created()
        .insert_header(("Location", format!("/tus/{}", upload.id)))
        .insert_header(("Upload-Offset", length))
        .insert_header(("Upload-Expires", http_date(upload.expires_at)))
        .insert_header((ORIGINAL, original.to_string()))
        .finish())
}

async fn complete_part(app: &App, device: &DeviceCaller, id: UploadId) -> Answer<u64> {
    let gone = || Failure::new(ProblemType::UploadGone, "One of the parts expired, was ended, or never was. Send it again.");
    let upload = match app.catalog.upload(id, device.id).await {
        Ok(upload) => upload,
        Err(ypogeion_catalog::CatalogError::NotFound) => return Err(gone()),
        Err(e) => return Err(e.into()),
    };
    if !upload.is_partial() {
        return Err(Failure::bad("One of the parts was not created as a partial upload."));
    }
    match app.library.incoming().part(id) {
        Ok(part) if part.length == upload.length => Ok(part.length),
        Ok(part) => Err(Failure::new(
            ProblemType::WrongOffset,
            format!("One of the parts is at byte {} of {}. Finish it first.", part.length, upload.length),
        )),
        Err(LibraryError::Missing { .. }) => Err(gone()),
        Err(e) => Err(e.into()),
    }
}

/// Puts together what is missing of a final upload, and lands it. The right to write goes with the writing.
pub async fn go_on(app: &Arc<App>, upload: &Upload, writing: Writing) -> Answer<OriginalId> {
    let parts = match upload.concat.as_deref().map(Concat::parse).transpose()? {
        Some(Concat::Final(parts)) => parts,
        _ => return Err(Failure::bad("This upload is not made of others.")),
    };
    let (incoming, id, length, sources) = (app.library.incoming().clone(), upload.id, upload.length, parts.clone());
    let disk = tokio::task::spawn_blocking(move || {
        let start = incoming.part(id)?.length;
        let files = sources.iter().map(|id| incoming.path(*id)).collect::<Vec<_>>();
        let joined = put_together(incoming.writer(id, start)?, &files, length);
        drop(writing);
        joined
    });
    let finished = match disk.await? {
        Err(LibraryError::Missing { .. }) => {
            landing::discard(app, upload.id).await?;
            return Err(Failure::new(ProblemType::UploadGone, "A part of this upload is gone. Begin it again."));
        }
        other => other?,
    };
    // Landing goes on even if the device hangs up now.
    let (inner, landed) = (Arc::clone(app), upload.clone());
    let original = tokio::spawn(async move { landing::land(&inner, &landed, finished).await }).await??;
    for part in parts {
        // What a kill leaves behind here expires by itself.
        landing::discard(app, part).await?;
    }
    Ok(original)
}

fn put_together(mut writer: PartWriter, files: &[std::path::PathBuf], length: u64) -> Result<Finished, LibraryError> {
    let mut buffer = vec![0; 1 << 20];
    let mut passed = 0u64;
    for path in files {
        let failed = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::NotFound => LibraryError::Missing { what: "read", path: path.clone() },
            _ => LibraryError::Io { what: "read", path: path.clone(), source },
        };
        let mut file = File::open(path).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        let skip = writer.at().saturating_sub(passed).min(size);
        file.seek(SeekFrom::Start(skip)).map_err(failed)?;
        loop {
            match file.read(&mut buffer).map_err(failed)? {
                0 => break,
                n => writer.write(&buffer[..n])?,
            }
        }
        passed += size;
    }
    if writer.at() == length {
        return Ok(writer.finish());
    }
    // A part is shorter than it was when the upload was created: a power cut took its end.
    tracing::warn!(at = writer.at(), length, "parts of an upload are shorter than they were");
    Err(LibraryError::Missing { what: "put together", path: files.first().cloned().unwrap_or_default() })
}

#[cfg(test)]
mod tests {
    use uuid::Uuid;

    use super::*;

    #[test]
    fn parts_are_named_by_address_or_path() {
        let (a, b) = (Uuid::from_u128(1), Uuid::from_u128(2));
        let ids = vec![UploadId(a), UploadId(b)];
        for text in [format!("final;/tus/{a} /tus/{b}"), format!("final;https://attic:8743/tus/{a} http://x/tus/{b}")] {
            assert_eq!(Concat::parse(&text).unwrap(), Concat::Final(ids.clone()));
        }
        assert_eq!(Concat::parse("partial").unwrap(), Concat::Partial);
        for wrong in ["", "final", "final;", "final;/etc/passwd", "final;/tus/../x", "final;/tus/nonsense", "half"] {
            assert!(Concat::parse(wrong).is_err(), "{wrong}");
        }
    }
}
