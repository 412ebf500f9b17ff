//! Zips that people make of what they chose: what is in each, and where.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    sql_query,
    sql_types::{Array, BigInt, Uuid as SqlUuid},
};
use uuid::Uuid;
use ypogeion_core::{Digest, OriginalId, PersonId, filing::FiledPath};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, PathColumn},
    db::*,
    signed, unsigned,
};

/// So many zips of one person are kept; of more, those that end first go.
const KEPT: i64 = 5;

/// A zip.
#[derive(Clone, Debug)]
pub struct Zip {
    /// Its id: another one for each.
    pub id: Uuid,
    /// What it is called.
    pub name: String,
    /// After this it is forgotten.
    pub ends_at: DateTime<Utc>,
    /// Files in it.
    pub files: u64,
    /// Its bytes.
    pub length: u64,
}

/// A file in a zip.
#[derive(Clone, Debug)]
pub struct ZipFile {
    /// Which.
    pub original: OriginalId,
    /// Its path in the zip.
    pub name: String,
    /// Its bytes.
    pub size: u64,
    /// When it was changed.
    pub changed: DateTime<Utc>,
    /// What a clock on the wall showed then.
    pub local: NaiveDateTime,
    /// Where it starts in the zip.
    pub starts: u64,
    /// The CRC-32 of its bytes, once somebody has read them.
    pub crc: Option<u32>,
    /// Its bytes, if they are not those of the original: what people wrote about it.
    pub text: Option<Vec<u8>>,
}

/// A file in a zip, and where it is in the library now; nowhere, if it has left it.
#[derive(Clone, Debug)]
pub struct Found {
    /// What was put down of it.
    pub file: ZipFile,
    /// Where it is, and what its bytes are.
    pub at: Option<(FiledPath, Digest)>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = zip)]
struct ZipRow {
    id: Uuid,
    name: String,
    ends_at: DateTime<Utc>,
    files: i64,
    length: i64,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = zip_file)]
struct FileRow {
    original: Uuid,
    name: String,
    size: i64,
    changed: DateTime<Utc>,
    local: NaiveDateTime,
    starts: i64,
    crc: Option<i64>,
    text: Option<Vec<u8>>,
}

impl Catalog {
    /// Puts a zip down, with its files in their order. Those of its person that have ended, or are too many, are forgotten.
    pub async fn add_zip(&self, person: PersonId, made: &Zip, files: &[ZipFile], now: DateTime<Utc>) -> Result<()> {
        let row = (
            zip::id.eq(made.id),
            zip::person.eq(person.0),
            zip::name.eq(&made.name),
            zip::ends_at.eq(made.ends_at),
            zip::files.eq(signed(made.files)),
            zip::length.eq(signed(made.length)),
        );
        let line = |(n, file): (usize, &ZipFile)| {
            (
                zip_file::zip.eq(made.id),
                zip_file::n.eq(signed(n as u64)),
                zip_file::original.eq(file.original.0),
                zip_file::name.eq(file.name.clone()),
                zip_file::size.eq(signed(file.size)),
                zip_file::changed.eq(file.changed),
                zip_file::local.eq(file.local),
                zip_file::starts.eq(signed(file.starts)),
                zip_file::text.eq(file.text.clone()),
            )
        };
        let lines: Vec<_> = files.iter().enumerate().map(line).collect();
        let mut c = self.async_commit_connection().await?;
        whole!(c, {
            delete(zip::table.filter(zip::ends_at.lt(now))).execute(c).await?;
            let own = zip::table.filter(zip::person.eq(person.0));
            let last: Vec<Uuid> = own.order((zip::ends_at.desc(), zip::id)).offset(KEPT - 1).select(zip::id).load(c).await?;
            delete(zip::table.filter(zip::id.eq_any(last))).execute(c).await?;
            insert_into(zip::table).values(row).execute(c).await?;
            for some in lines.chunks(AT_ONCE) {
                diesel_async::RunQueryDsl::execute(insert_into(zip_file::table).values(some.to_vec()), c).await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// A zip of somebody, which is kept until `until` now; not found once it has ended.
    pub async fn zip(&self, person: PersonId, id: Uuid, now: DateTime<Utc>, until: DateTime<Utc>) -> Result<Zip> {
        let mut c = self.async_commit_connection().await?;
        let this = zip::table.filter(zip::id.eq(id).and(zip::person.eq(person.0)).and(zip::ends_at.ge(now)));
        let row: ZipRow = update(this).set(zip::ends_at.eq(until)).returning(ZipRow::as_select()).get_result(&mut c).await?;
        Ok(Zip { id: row.id, name: row.name, ends_at: row.ends_at, files: unsigned(row.files), length: unsigned(row.length) })
    }

    /// Which file of a zip has the byte at a place, or would have it: that of the last file, behind it.
    pub async fn zip_file_at(&self, id: Uuid, place: u64) -> Result<u64> {
        let mut c = self.connection().await?;
        let before = zip_file::table.filter(zip_file::zip.eq(id).and(zip_file::starts.le(signed(place))));
        let n = before.order((zip_file::starts.desc(), zip_file::n.desc())).select(zip_file::n).limit(1);
        let n: Option<i64> = n.get_result(&mut c).await.optional()?;
        Ok(n.map_or(0, unsigned))
    }

    /// So many files of somebody's zip, from the one with this number on.
    pub async fn zip_files(&self, person: PersonId, id: Uuid, from: u64, limit: i64) -> Result<Vec<Found>> {
        let mut c = self.connection().await?;
        // What an album showed when the zip was made, and shows no more, is not handed over any more.
        let shown = shown_to::table.filter(shown_to::shot.eq(original::shot).and(shown_to::person.eq(person.0)));
        let seen = original::person.eq(person.0).or(exists(shown.select(shown_to::shot)));
        let here = original::table.on(original::id.eq(zip_file::original).and(original::gone_at.is_null()).and(seen));
        let rows: Vec<(FileRow, Option<(PathColumn, HashColumn)>)> = zip_file::table
            .left_join(here)
            .filter(zip_file::zip.eq(id).and(zip_file::n.ge(signed(from))))
            .order(zip_file::n)
            .limit(limit)
            .select((FileRow::as_select(), (original::path, original::digest).nullable()))
            .load(&mut c)
            .await?;
        let file = |r: FileRow| ZipFile {
            original: OriginalId(r.original),
            name: r.name,
            size: unsigned(r.size),
            changed: r.changed,
            local: r.local,
            starts: unsigned(r.starts),
            crc: r.crc.and_then(|crc| u32::try_from(crc).ok()),
            text: r.text,
        };
        Ok(rows.into_iter().map(|(row, at)| Found { file: file(row), at: at.map(|(path, digest)| (path.0, digest.0)) }).collect())
    }

    /// The checksums of some files of a zip are known, by their numbers. A power cut may take that back: they are read again then.
    pub async fn zip_files_read(&self, id: Uuid, crcs: &[(u64, u32)]) -> Result<()> {
        let (n, crc): (Vec<i64>, Vec<i64>) = crcs.iter().map(|(n, crc)| (signed(*n), i64::from(*crc))).unzip();
        let mut c = self.async_commit_connection().await?;
        // Text: joined with rows that are handed in.
        sql_query("UPDATE zip_file f SET crc = u.crc FROM unnest($2, $3) AS u (n, crc) WHERE f.zip = $1 AND f.n = u.n")
            .bind::<SqlUuid, _>(id)
            .bind::<Array<BigInt>, _>(n)
            .bind::<Array<BigInt>, _>(crc)
            .execute(&mut c)
            .await?;
        Ok(())
    }
}
