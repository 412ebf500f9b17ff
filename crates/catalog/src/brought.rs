//! What people outside brought by a link, until whoever made the link has taken it.

use std::collections::HashMap;

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{AlbumId, DeviceId, OriginalId, PersonId, amount::Amount, capture::Facts, ledger::BroughtRecord};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    db::*,
    originals::{Touched, facts_of},
    shots::lock_shots,
    unsigned,
    wishes::{due_for, ledgers_due},
    work::Kind,
};

/// For what an upload comes by a link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Brought {
    /// The album that it is to be in.
    pub album: AlbumId,
    /// Who says that they send it; empty: they said nothing.
    pub by: String,
}

/// A picture that was brought and not taken yet.
#[derive(Clone, Debug)]
pub struct BroughtPicture {
    /// The original that stands for it.
    pub id: OriginalId,
    /// Where it is in the library.
    pub path: String,
    /// The kind's word.
    pub kind: String,
    /// Bytes.
    pub size: u64,
    /// What a clock on the wall showed.
    pub taken_local: NaiveDateTime,
    /// What was read from it.
    pub facts: Facts,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// The album that it was brought for, if there still is one.
    pub album: Option<(AlbumId, String)>,
    /// Who said that they sent it; empty: they said nothing.
    pub by: String,
    /// When it came.
    pub at: DateTime<Utc>,
}

#[derive(Queryable)]
struct BroughtRow {
    id: Uuid,
    path: String,
    kind: String,
    size: i64,
    taken_local: NaiveDateTime,
    facts: serde_json::Value,
    preview: String,
    placeholder: Option<String>,
    album: Option<Uuid>,
    album_name: Option<String>,
    by: String,
    at: DateTime<Utc>,
}

/// What links send as, for each person.
const SENDER: &str = "link";

impl Catalog {
    /// The device as which somebody's links send. There is one from the first link on that takes anything.
    pub async fn link_sender(&self, person: PersonId, now: DateTime<Utc>) -> Result<DeviceId> {
        let id = Uuid::now_v7();
        let row = (
            device::id.eq(id),
            device::person.eq(person.0),
            device::name.eq("People with a link"),
            device::kind.eq(SENDER),
            // Nothing hashes to it.
            device::token_hash.eq(id.as_bytes().as_slice()),
            device::paired_at.eq(now),
        );
        let mut c = self.connection().await?;
        insert_into(device::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
        let theirs = device::table.filter(device::person.eq(person.0).and(device::kind.eq(SENDER)));
        Ok(DeviceId(theirs.select(device::id).get_result(&mut c).await?))
    }

    /// What was brought to somebody and waits for them, what came last first; each by the file that stands for its picture.
    pub async fn brought(&self, person: PersonId, limit: i64) -> Result<Vec<BroughtPicture>> {
        let mut c = self.connection().await?;
        let rows: Vec<BroughtRow> = brought::table
            .inner_join(original::table)
            .left_join(album::table)
            .filter(brought::person.eq(person.0).and(is_living()).and(original::shot.eq(original::id)))
            .order((brought::brought_at.desc(), brought::original.desc()))
            .limit(limit)
            .select((
                original::id,
                original::path,
                original::kind,
                original::size,
                original::taken_local,
                original::facts,
                original::preview,
                original::placeholder,
                album::id.nullable(),
                album::name.nullable(),
                brought::brought_by,
                brought::brought_at,
            ))
            .load(&mut c)
            .await?;
        let picture = |r: BroughtRow| BroughtPicture {
            id: OriginalId(r.id),
            path: r.path,
            kind: r.kind,
            size: unsigned(r.size),
            taken_local: r.taken_local,
            facts: facts_of(r.facts),
            preview: r.preview,
            placeholder: r.placeholder,
            album: r.album.map(AlbumId).zip(r.album_name),
            by: r.by,
            at: r.at,
        };
        Ok(rows.into_iter().map(picture).collect())
    }

    /// How many pictures wait for somebody, and their bytes.
    pub async fn brought_waiting(&self, person: PersonId) -> Result<Amount> {
        let mut c = self.connection().await?;
        let waiting = brought::table.inner_join(original::table).filter(brought::person.eq(person.0).and(is_living()));
        let waiting = waiting.filter(original::shot.eq(original::id));
        let (n, bytes): (i64, i64) = waiting.select((count_star(), total(original::size))).get_result(&mut c).await?;
        Ok(Amount { count: unsigned(n), bytes: unsigned(bytes) })
    }

    /// How many files wait for somebody or are on their way to them by links, and their bytes.
    pub async fn brought_so_far(&self, person: PersonId) -> Result<Amount> {
        let mut c = self.connection().await?;
        let waiting =
            brought::table.inner_join(original::table).filter(brought::person.eq(person.0).and(original::gone_at.is_null()));
        let (n, bytes): (i64, i64) = waiting.select((count_star(), total(original::size))).get_result(&mut c).await?;
        let open = upload::person.eq(person.0).and(upload::original.is_null()).and(upload::brought_for.is_not_null());
        let open = upload::table.filter(open).select((count_star(), total(upload::length)));
        let (coming, length): (i64, i64) = open.get_result(&mut c).await?;
        Ok(Amount { count: unsigned(n + coming), bytes: unsigned(bytes + length) })
    }

    /// Takes pictures that were brought to somebody: they are in their library from now on, and in the albums that they were brought for. Returns those
    /// that were there.
    pub async fn take_brought(&self, person: PersonId, pictures: &[OriginalId], now: DateTime<Utc>) -> Result<Vec<Touched>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let taken = whole!(c, {
            // A file that comes to one of them just now is one of its files before this, or sees it after this.
            lock_shots(c, person).await?;
            let named = original::table.filter(original::person.eq(person.0).and(original::id.eq_any(&ids)));
            let named: Vec<Uuid> = named.select(original::shot).load(c).await?;
            let own = brought::table.inner_join(original::table).filter(brought::person.eq(person.0).and(is_living()));
            let files: Vec<(Uuid, Uuid, Option<Uuid>, NaiveDateTime)> = own
                .filter(original::shot.eq_any(named))
                .order(original::id)
                .select((original::id, original::shot, brought::album, original::taken_local))
                .load(c)
                .await?;
            let shots: Vec<Uuid> = files.iter().map(|(_, shot, ..)| *shot).collect();
            let into = files.iter().filter_map(|(_, shot, album, _)| album.map(|album| (album, *shot)));
            put_into(c, person, into.collect(), now).await?;
            let away = original::table.filter(original::shot.eq_any(&shots).and(original::put_away));
            update(away).set(original::put_away.eq(false)).execute(c).await?;
            end(c, &shots).await?;
            if !files.is_empty() {
                // From now on it may belong to what is here.
                let ids: Vec<Uuid> = files.iter().map(|(id, ..)| *id).collect();
                due_for(c, Kind::Group, &ids, 18, now).await?;
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(files)
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Group]);
        let leading = taken.into_iter().filter(|(id, shot, ..)| id == shot);
        Ok(leading.map(|(id, _, _, taken_local)| Touched { person, id: OriginalId(id), taken_local }).collect())
    }

    /// Which of these pictures wait for somebody, each by the file that stands for it.
    pub async fn are_brought(&self, person: PersonId, pictures: &[OriginalId]) -> Result<Vec<OriginalId>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let own = brought::table.inner_join(original::table).filter(brought::person.eq(person.0).and(is_living()));
        let own = own.filter(original::id.eq_any(ids)).order(original::id).select(original::id);
        Ok(own.load::<Uuid>(&mut c).await?.into_iter().map(OriginalId).collect())
    }

    /// Somebody does not want what was brought to them, and has deleted it. Brought back from there, it is in their library like all that they bring back.
    pub async fn decline_brought(&self, person: PersonId, files: &[OriginalId], now: DateTime<Utc>) -> Result<()> {
        let ids: Vec<Uuid> = files.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        whole!(c, {
            lock_shots(c, person).await?;
            let own = original::table.filter(original::person.eq(person.0).and(original::id.eq_any(&ids)));
            let shots: Vec<Uuid> = own.select(original::shot).load(c).await?;
            let away = original::table.filter(original::shot.eq_any(&shots).and(original::put_away));
            update(away).set(original::put_away.eq(false)).execute(c).await?;
            end(c, &shots).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Of some originals, which wait for whoever they were brought to.
    pub async fn brought_of(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, BroughtRecord>> {
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let these = brought::table.filter(brought::original.eq_any(ids));
        let rows: Vec<(Uuid, Option<Uuid>, String, DateTime<Utc>)> =
            these.select((brought::original, brought::album, brought::brought_by, brought::brought_at)).load(&mut c).await?;
        let record = |(id, album, by, at): (Uuid, Option<Uuid>, String, DateTime<Utc>)| {
            (OriginalId(id), BroughtRecord { album: album.map(AlbumId), by, at })
        };
        Ok(rows.into_iter().map(record).collect())
    }
}

/// Puts pictures into albums, those that are not in them by another of their files.
async fn put_into(
    c: &mut AsyncPgConnection,
    person: PersonId,
    mut pictures: Vec<(Uuid, Uuid)>,
    now: DateTime<Utc>,
) -> Result<()> {
    pictures.sort_unstable();
    pictures.dedup();
    for (album, shot) in pictures {
        let inside = in_album::table.filter(in_album::album.eq(album).and(in_album::shot.eq(shot)));
        if select(exists(inside.select(in_album::shot))).get_result::<bool>(c).await? {
            continue;
        }
        let row = (
            album_picture::album.eq(album),
            album_picture::original.eq(shot),
            album_picture::added_by.eq(person.0),
            album_picture::added_at.eq(now),
        );
        insert_into(album_picture::table).values(row).on_conflict_do_nothing().execute(c).await?;
    }
    Ok(())
}

/// None of these pictures waits any more.
async fn end(c: &mut AsyncPgConnection, shots: &[Uuid]) -> Result<()> {
    let files = original::table.filter(original::shot.eq_any(shots)).select(original::id);
    delete(brought::table.filter(brought::original.eq_any(files))).execute(c).await?;
    Ok(())
}
