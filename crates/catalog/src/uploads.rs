//! Uploads, and the one statement with which an original has landed.

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    AlbumId, DeviceId, Digest, OriginalId, PersonId, UploadId,
    filing::FiledPath,
    room::{NoRoom, OPEN_OF_DEVICE, OPEN_OF_PERSON, PROMISED_FOR, Room},
};

use crate::{
    Catalog, CatalogError, Result,
    brought::Brought,
    columns::{HashColumn, PathColumn},
    db::*,
    signed, unsigned,
};

/// An upload.
#[derive(Clone, Debug)]
pub struct Upload {
    /// Its id; also the name of its part on the disk.
    pub id: UploadId,
    /// The device that sends it.
    pub device: DeviceId,
    /// Whose it will be.
    pub person: PersonId,
    /// All bytes.
    pub length: u64,
    /// What they should be, if that was said.
    pub digest: Option<Digest>,
    /// Name on the device.
    pub name: String,
    /// Album or folder.
    pub source: String,
    /// Modification time on the device.
    pub file_time: Option<DateTime<Utc>>,
    /// After this it may be removed.
    pub expires_at: DateTime<Utc>,
    /// What its device said about it, word for word.
    pub metadata: String,
    /// `partial`, or `final;` and the parts it is made of, word for word.
    pub concat: Option<String>,
    /// The filed path that was chosen, from just before it is given until it has landed.
    pub target: Option<FiledPath>,
    /// What it became.
    pub original: Option<OriginalId>,
    /// When bytes came last, or room was promised.
    pub touched_at: DateTime<Utc>,
    /// Set if it comes by a link, from somebody outside.
    pub brought: Option<Brought>,
}

/// What a promise of room depends on beside the upload itself.
#[derive(Clone, Copy, Debug, Default)]
pub struct Terms<'a> {
    /// Bytes that are free on the library's disk.
    pub free: u64,
    /// Of these, never given away.
    pub reserve: u64,
    /// Bytes of it that are on the disk already.
    pub there: u64,
    /// Uploads that it takes the place of: they end when it lands.
    pub instead: &'a [UploadId],
}

/// The answer to an upload that wants room.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Promise {
    /// It has it.
    Given,
    /// There is none.
    No(NoRoom),
    /// Too many uploads were begun and not ended.
    TooMany,
}

impl Upload {
    /// Whether it is a part of another upload, and never lands by itself.
    pub fn is_partial(&self) -> bool {
        self.concat.as_deref() == Some("partial")
    }

    /// Whether it is put together from other uploads.
    pub fn is_final(&self) -> bool {
        self.concat.as_deref().is_some_and(|c| c != "partial")
    }
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = upload)]
struct UploadRow {
    id: Uuid,
    device: Uuid,
    person: Uuid,
    length: i64,
    digest: Option<HashColumn>,
    name: String,
    source: String,
    file_time: Option<DateTime<Utc>>,
    expires_at: DateTime<Utc>,
    metadata: String,
    concat: Option<String>,
    target: Option<PathColumn>,
    original: Option<Uuid>,
    touched_at: DateTime<Utc>,
    brought_for: Option<Uuid>,
    brought_by: Option<String>,
}

#[derive(QueryableByName)]
struct OwnRow {
    #[diesel(sql_type = BigInt)]
    used: i64,
    #[diesel(sql_type = BigInt)]
    own: i64,
}

#[derive(QueryableByName)]
struct AllRow {
    #[diesel(sql_type = BigInt)]
    promised: i64,
    #[diesel(sql_type = BigInt)]
    of_device: i64,
    #[diesel(sql_type = BigInt)]
    of_person: i64,
    #[diesel(sql_type = BigInt)]
    given: i64,
}

/// Whoever promises room of the disk waits for whoever else does; and whoever promises of a quota, for those who do so of the same one.
const PROMISING: i32 = 0x79_70_6f;

impl From<UploadRow> for Upload {
    fn from(r: UploadRow) -> Self {
        Upload {
            id: UploadId(r.id),
            device: DeviceId(r.device),
            person: PersonId(r.person),
            length: unsigned(r.length),
            digest: r.digest.map(|d| d.0),
            name: r.name,
            source: r.source,
            file_time: r.file_time,
            expires_at: r.expires_at,
            metadata: r.metadata,
            concat: r.concat,
            target: r.target.map(|t| t.0),
            original: r.original.map(OriginalId),
            touched_at: r.touched_at,
            brought: r.brought_for.zip(r.brought_by).map(|(album, by)| Brought { album: AlbumId(album), by }),
        }
    }
}

impl Catalog {
    /// Puts an upload down whose bytes are on the disk: no room has to be promised. Not forced to the disk: an upload that a power cut forgets is begun
    /// again by its device, and the acknowledgement of the original is forced.
    pub async fn create_upload(&self, new: &Upload, now: DateTime<Utc>) -> Result<()> {
        let row = (
            upload::id.eq(new.id.0),
            upload::device.eq(new.device.0),
            upload::person.eq(new.person.0),
            upload::length.eq(signed(new.length)),
            upload::digest.eq(new.digest.map(HashColumn)),
            upload::name.eq(&new.name),
            upload::source.eq(&new.source),
            upload::file_time.eq(new.file_time),
            upload::created_at.eq(now),
            upload::touched_at.eq(now),
            upload::expires_at.eq(new.expires_at),
            upload::metadata.eq(&new.metadata),
            upload::concat.eq(&new.concat),
            upload::received.eq(signed(new.length)),
        );
        let mut c = self.async_commit_connection().await?;
        insert_into(upload::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// An upload of this device.
    pub async fn upload(&self, id: UploadId, device: DeviceId) -> Result<Upload> {
        let mut c = self.connection().await?;
        let own = upload::table.find(id.0).filter(upload::device.eq(device.0));
        Ok(own.select(UploadRow::as_select()).get_result(&mut c).await?.into())
    }

    /// All uploads that have not landed.
    pub async fn open_uploads(&self) -> Result<Vec<Upload>> {
        let mut c = self.connection().await?;
        let open = upload::table.filter(upload::original.is_null()).order(upload::id);
        Ok(open.select(UploadRow::as_select()).load(&mut c).await?.into_iter().map(Upload::from).collect())
    }

    /// Promises an upload its room and puts it down, in one step with looking whether there is any: of two that come at once and do not
    /// both fit, one gets it. For an upload that is down already, its promise begins anew.
    ///
    /// What is promised: of the disk, what has not come yet of uploads whose last bytes are not older than [`PROMISED_FOR`]; of a
    /// quota, all of these, and of those that rest what has come. Not forced to the disk, like [`Self::create_upload`].
    pub async fn promise(&self, upload: &Upload, terms: &Terms<'_>, now: DateTime<Utc>) -> Result<Promise> {
        let instead: Vec<Uuid> = terms.instead.iter().map(|u| u.0).chain([upload.id.0]).collect();
        let still = now - PROMISED_FOR;
        let mut c = self.async_commit_connection().await?;
        whole!(c, {
            let quota = quota_of(c, upload.person).await?;
            let mut room = Room { free: terms.free, promised: 0, promised_own: 0, reserve: terms.reserve, used: 0, quota };
            if quota.is_some() {
                select(lock_two(PROMISING, hashtext(upload.person.to_string()))).execute(c).await?;
                (room.used, room.promised_own) = own(c, upload.person, still, &instead).await?;
                if let Err(no) = room.check_quota(upload.length) {
                    return Ok(Promise::No(no));
                }
            }
            select(lock_two(PROMISING, 0)).execute(c).await?;
            let needed = upload.length.saturating_sub(terms.there);
            // Text: looking and taking are one step.
            let all: AllRow = sql_query(
                "WITH t AS (
                     SELECT coalesce(sum(greatest(length - received, 0)) FILTER (WHERE touched_at > $13 AND id <> $1), 0)::bigint AS promised,
                            count(*) FILTER (WHERE device = $2 AND id <> $1) AS of_device,
                            count(*) FILTER (WHERE person = $3 AND id <> $1 AND target IS NULL) AS of_person
                     FROM upload WHERE original IS NULL
                 ), given AS (
                     INSERT INTO upload (id, device, person, length, digest, name, source, file_time, created_at, touched_at, expires_at, metadata, concat, received, brought_for, brought_by)
                     SELECT $1, $2, $3, $4, $5, $6, $7, $8, $9, $9, $10, $11, $12, $17, $19, $20 FROM t
                     WHERE t.promised + $14 <= $15 AND t.of_device < $16 AND t.of_person < $18
                     ON CONFLICT (id) DO UPDATE SET touched_at = excluded.touched_at
                     RETURNING 1
                 )
                 SELECT t.promised, t.of_device, t.of_person, (SELECT count(*) FROM given) AS given FROM t",
            )
            .bind::<SqlUuid, _>(upload.id.0)
            .bind::<SqlUuid, _>(upload.device.0)
            .bind::<SqlUuid, _>(upload.person.0)
            .bind::<BigInt, _>(signed(upload.length))
            .bind::<Nullable<Binary>, _>(upload.digest.map(|d| d.as_bytes().to_vec()))
            .bind::<Text, _>(&upload.name)
            .bind::<Text, _>(&upload.source)
            .bind::<Nullable<Timestamptz>, _>(upload.file_time)
            .bind::<Timestamptz, _>(now)
            .bind::<Timestamptz, _>(upload.expires_at)
            .bind::<Text, _>(&upload.metadata)
            .bind::<Nullable<Text>, _>(&upload.concat)
            .bind::<Timestamptz, _>(still)
            .bind::<BigInt, _>(signed(needed))
            // What is on the disk already needs none of it, even where the reserve is touched.
            .bind::<BigInt, _>(signed(if needed == 0 { u64::MAX } else { terms.free.saturating_sub(terms.reserve) }))
            .bind::<BigInt, _>(signed(OPEN_OF_DEVICE))
            .bind::<BigInt, _>(signed(terms.there))
            .bind::<BigInt, _>(signed(OPEN_OF_PERSON))
            .bind::<Nullable<SqlUuid>, _>(upload.brought.as_ref().map(|b| b.album.0))
            .bind::<Nullable<Text>, _>(upload.brought.as_ref().map(|b| b.by.as_str()))
            .get_result(c)
            .await?;
            room.promised = unsigned(all.promised);
            Ok::<_, CatalogError>(match room.check_disk(needed) {
                _ if all.given > 0 => Promise::Given,
                _ if unsigned(all.of_device) >= OPEN_OF_DEVICE || unsigned(all.of_person) >= OPEN_OF_PERSON => Promise::TooMany,
                Err(no) => Promise::No(no),
                // Nothing speaks against it, and it was not done: unknown is refused.
                Ok(()) => Promise::No(NoRoom::DiskFull { needed, left: 0 }),
            })
        })
        .await
    }

    /// The room that a member has for more, as of now. Who wants some of it asks by [`Self::promise`].
    pub async fn room(&self, person: PersonId, free: u64, reserve: u64, now: DateTime<Utc>) -> Result<Room> {
        let mut c = self.connection().await?;
        let (still, quota) = (now - PROMISED_FOR, quota_of(&mut c, person).await?);
        let (used, promised_own) = match quota {
            Some(_) => own(&mut c, person, still, &[]).await?,
            None => (0, 0),
        };
        let to_come = total(greatest(upload::length - upload::received, 0));
        let open = upload::table.filter(upload::original.is_null().and(upload::touched_at.gt(still)));
        let promised: i64 = open.select(to_come).get_result(&mut c).await?;
        Ok(Room { free, promised: unsigned(promised), promised_own, reserve, used, quota })
    }

    /// Bytes came: an upload lives, and its room is kept, from now on again. Not forced to the disk: what came is on it.
    pub async fn extend_upload(&self, id: UploadId, received: u64, expires_at: DateTime<Utc>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        let came = (upload::expires_at.eq(expires_at), upload::received.eq(signed(received)), upload::touched_at.eq(now));
        update(upload::table.find(id.0)).set(came).execute(&mut c).await?;
        Ok(())
    }

    /// Bytes that a member has at home.
    pub async fn used(&self, person: PersonId) -> Result<u64> {
        let mut c = self.connection().await?;
        let own = original::table.filter(original::person.eq(person.0).and(original::gone_at.is_null()));
        Ok(unsigned(own.select(total(original::size)).get_result(&mut c).await?))
    }

    /// Writes down which path a file is about to be given. Not forced to the disk; see the service's settling for what
    /// happens when a power cut forgets it.
    pub async fn set_target(&self, id: UploadId, target: &FiledPath) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        update(upload::table.find(id.0)).set(upload::target.eq(target.as_str())).execute(&mut c).await?;
        Ok(())
    }

    /// Forgets an upload that has not landed.
    pub async fn remove_upload(&self, id: UploadId) -> Result<()> {
        let mut c = self.connection().await?;
        delete(upload::table.find(id.0).filter(upload::original.is_null())).execute(&mut c).await?;
        Ok(())
    }

    /// Uploads whose time has passed; landed ones are forgotten here, the others are returned for their parts to be removed.
    pub async fn expired_uploads(&self, now: DateTime<Utc>) -> Result<Vec<UploadId>> {
        let mut c = self.connection().await?;
        let landed = upload::table.filter(upload::original.is_not_null().and(upload::expires_at.lt(now)));
        delete(landed).execute(&mut c).await?;
        let open = upload::table.filter(upload::original.is_null().and(upload::expires_at.lt(now)));
        let ids: Vec<Uuid> = open.select(upload::id).load(&mut c).await?;
        Ok(ids.into_iter().map(UploadId).collect())
    }

    /// Which of these paths a filed original, or what was made from one, has already, whatever its case.
    pub async fn taken_paths(&self, paths: &[FiledPath]) -> Result<Vec<String>> {
        let mut c = self.connection().await?;
        let folded: Vec<String> = paths.iter().map(FiledPath::folded).collect();
        let filed = original::table.filter(original::folded.eq_any(&folded)).select(original::folded.assume_not_null());
        let made = derived_file::table.filter(derived_file::folded.eq_any(&folded)).select(derived_file::folded);
        Ok(filed.union_all(made).load(&mut c).await?)
    }

    /// Whether exactly this path is a filed original's.
    pub async fn has_path(&self, path: &FiledPath) -> Result<bool> {
        Ok(!self.taken_paths(std::slice::from_ref(path)).await?.is_empty())
    }

    /// The original that a member has of these bytes.
    pub async fn original_of(&self, person: PersonId, digest: Digest) -> Result<(OriginalId, FiledPath)> {
        let mut c = self.connection().await?;
        let same = original::person.eq(person.0).and(original::digest.eq(HashColumn(digest))).and(original::gone_at.is_null());
        let (id, path): (Uuid, PathColumn) =
            original::table.filter(same).select((original::id, original::path)).get_result(&mut c).await?;
        Ok((OriginalId(id), path.0))
    }

    /// Links an upload to an original that was there already.
    pub async fn link_upload(&self, id: UploadId, original: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        update(upload::table.find(id.0)).set(upload::original.eq(original.0)).execute(&mut c).await?;
        Ok(())
    }
}

async fn quota_of(c: &mut AsyncPgConnection, person: PersonId) -> Result<Option<u64>> {
    let quota: Option<i64> = person::table.find(person.0).select(person::quota).get_result(c).await?;
    Ok(quota.map(unsigned))
}

/// What a member has at home, and what of uploads that are under way counts against a quota, in one look: a landing between two would be
/// in neither, or in both.
async fn own(c: &mut AsyncPgConnection, person: PersonId, still: DateTime<Utc>, but: &[Uuid]) -> Result<(u64, u64)> {
    // Text: one look at two tables.
    let row: OwnRow = sql_query(
        "SELECT (SELECT coalesce(sum(bytes), 0)::bigint FROM counts WHERE about = $1 AND fact = 'kept') AS used,
                (SELECT coalesce(sum(CASE WHEN touched_at > $2 THEN length ELSE received END), 0)::bigint
                 FROM upload WHERE original IS NULL AND person = $1 AND id <> ALL($3)) AS own",
    )
    .bind::<SqlUuid, _>(person.0)
    .bind::<Timestamptz, _>(still)
    .bind::<Array<SqlUuid>, _>(but)
    .get_result(c)
    .await?;
    Ok((unsigned(row.used), unsigned(row.own)))
}
