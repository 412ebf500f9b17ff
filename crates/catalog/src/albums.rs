//! Albums: who sees which, what is in each, and what the ledgers say of them.

use std::collections::HashMap;

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Bool, Nullable, SmallInt, Text, Timestamp, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    AlbumId, OriginalId, PersonId,
    album::May,
    find::LONGEST,
    ledger::{AlbumRecord, AlbumShareRecord, FollowsRecord, InAlbumRecord},
};

use crate::{
    Catalog, CatalogError, DECIDED, Result, arrangement::steps_of, db::*, followed::follows_no_more, originals::OriginalRow,
    unsigned, wishes::ledgers_due, work::Kind,
};

/// An album as somebody sees it.
#[derive(Clone, Debug)]
pub struct Album {
    /// Which.
    pub id: AlbumId,
    /// Whose it is.
    pub owner: PersonId,
    /// Their name.
    pub owner_name: String,
    /// As shown.
    pub name: String,
    /// What is written about it.
    pub words: String,
    /// What everybody may who lives here.
    pub household: Option<May>,
    /// What whoever looks may.
    pub may: May,
    /// Pictures in it.
    pub pictures: u64,
    /// When the oldest and the newest of them were taken.
    pub taken: Option<(NaiveDateTime, NaiveDateTime)>,
    /// The picture that stands for it: the one that was chosen, if it is still in it, or the newest.
    pub cover: Option<OriginalId>,
    /// Whether that one was chosen.
    pub cover_chosen: bool,
    /// Whom it is shared with, besides everybody.
    pub shared_with: u64,
    /// Whether it is arranged.
    pub arranged: bool,
    /// The line that it follows, and how that was read when it was written.
    pub follows: Option<(String, String)>,
}

/// An album that is to be.
#[derive(Clone, Debug)]
pub struct NewAlbum {
    /// Which.
    pub id: AlbumId,
    /// Whose it is.
    pub owner: PersonId,
    /// As shown.
    pub name: String,
    /// What is written about it.
    pub words: String,
    /// The line that it follows, and how that was read.
    pub follows: Option<(String, String)>,
}

/// What is to be otherwise with an album; nothing said: it stays.
#[derive(Clone, Debug, Default, AsChangeset)]
#[diesel(table_name = album)]
pub struct AlbumChange {
    /// Its name.
    pub name: Option<String>,
    /// What is written about it.
    pub words: Option<String>,
    /// What everybody may who lives here.
    pub household: Option<Option<String>>,
    /// The picture that stands for it.
    pub cover: Option<Option<Uuid>>,
    /// The line that it follows.
    pub follows: Option<Option<String>>,
    /// How that was read; said with it.
    pub follows_as: Option<Option<String>>,
}

/// What became of pictures that were to be put into an album.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Added {
    /// They are in it now.
    pub added: u64,
    /// They were in it already.
    pub there: u64,
}

#[derive(QueryableByName)]
struct AlbumRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    person: Uuid,
    #[diesel(sql_type = Text)]
    owner_name: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    words: String,
    #[diesel(sql_type = Nullable<Text>)]
    household: Option<String>,
    #[diesel(sql_type = SmallInt)]
    may: i16,
    #[diesel(sql_type = BigInt)]
    pictures: i64,
    #[diesel(sql_type = Nullable<Timestamp>)]
    first: Option<NaiveDateTime>,
    #[diesel(sql_type = Nullable<Timestamp>)]
    last: Option<NaiveDateTime>,
    #[diesel(sql_type = Nullable<SqlUuid>)]
    cover: Option<Uuid>,
    #[diesel(sql_type = Bool)]
    cover_chosen: bool,
    #[diesel(sql_type = BigInt)]
    shared_with: i64,
    #[diesel(sql_type = Bool)]
    arranged: bool,
    #[diesel(sql_type = Nullable<Text>)]
    follows: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    follows_as: Option<String>,
}

#[derive(QueryableByName)]
struct AddedRow {
    #[diesel(sql_type = BigInt)]
    wanted: i64,
    #[diesel(sql_type = BigInt)]
    added: i64,
    #[diesel(sql_type = BigInt)]
    kept: i64,
}

impl TryFrom<AlbumRow> for Album {
    type Error = CatalogError;
    fn try_from(r: AlbumRow) -> Result<Self> {
        Ok(Album {
            id: AlbumId(r.id),
            owner: PersonId(r.person),
            owner_name: r.owner_name,
            name: r.name,
            words: r.words,
            household: r.household.as_deref().and_then(May::shared),
            // What may be done is never guessed at.
            may: May::of_rank(r.may).ok_or(CatalogError::NotFound)?,
            pictures: unsigned(r.pictures),
            taken: r.first.zip(r.last),
            cover: r.cover.map(OriginalId),
            cover_chosen: r.cover_chosen,
            shared_with: unsigned(r.shared_with),
            arranged: r.arranged,
            follows: r.follows.zip(r.follows_as),
        })
    }
}

impl Catalog {
    /// Makes an album of somebody's. There are no more of theirs than `most`.
    pub async fn add_album(&self, new: &NewAlbum, most: i64, now: DateTime<Utc>) -> Result<()> {
        let follows = new.follows.as_ref();
        let row = (
            album::id.eq(new.id.0),
            album::person.eq(new.owner.0),
            album::name.eq(&new.name),
            album::words.eq(&new.words),
            album::made_at.eq(now),
            album::follows.eq(follows.map(|(line, _)| line)),
            album::follows_as.eq(follows.map(|(_, read_as)| read_as)),
        );
        let mut c = self.connection().await?;
        whole!(c, {
            // One after the other, or two at once would both be the last that there may be.
            let theirs = person::table.find(new.owner.0).select(person::id).for_update();
            theirs.get_result::<Uuid>(c).await?;
            let there: i64 = album::table.filter(album::person.eq(new.owner.0)).select(count_star()).get_result(c).await?;
            if there >= most {
                return Err(CatalogError::Taken);
            }
            insert_into(album::table).values(row).execute(c).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// The albums that somebody sees, or one of them: those with the newest pictures first, empty ones before all.
    pub async fn albums(&self, viewer: PersonId, only: Option<AlbumId>) -> Result<Vec<Album>> {
        let mut c = self.connection().await?;
        // Text: of each album, what is asked of its own pictures.
        let rows: Vec<AlbumRow> = sql_query(
            "SELECT a.id, a.person, p.name AS owner_name, a.name, a.words, a.household, s.may, n.pictures, n.first, n.last,
                    coalesce(c.id, n.newest) AS cover, c.id IS NOT NULL AS cover_chosen, w.shared_with,
                    a.arrangement IS NOT NULL AS arranged, a.follows, a.follows_as
             FROM (SELECT album, max(may) AS may FROM album_seen WHERE person = $1 AND ($2 IS NULL OR album = $2) GROUP BY album) s
             JOIN album a ON a.id = s.album JOIN person p ON p.id = a.person
             CROSS JOIN LATERAL (
                 SELECT count(*) AS pictures, min(o.taken_local) AS first, max(o.taken_local) AS last,
                        (array_agg(o.id ORDER BY o.taken_local DESC, o.id DESC))[1] AS newest
                 FROM original o
                 WHERE o.leads AND o.held_at IS NULL AND o.gone_at IS NULL AND o.id IN (SELECT i.shot FROM in_album i WHERE i.album = a.id)
             ) n
             CROSS JOIN LATERAL (SELECT count(*) AS shared_with FROM album_share h WHERE h.album = a.id) w
             LEFT JOIN LATERAL (
                 SELECT o.id FROM original f JOIN original o ON o.id = f.shot
                 WHERE f.id = a.cover AND o.leads AND o.held_at IS NULL AND o.gone_at IS NULL
                   AND EXISTS (SELECT FROM in_album i WHERE i.album = a.id AND i.shot = o.id)
             ) c ON true
             ORDER BY n.last DESC NULLS FIRST, a.name, a.id",
        )
        .bind::<SqlUuid, _>(viewer.0)
        .bind::<Nullable<SqlUuid>, _>(only.map(|id| id.0))
        .load(&mut c)
        .await?;
        rows.into_iter().map(Album::try_from).collect()
    }

    /// What an album is called; none: there is none.
    pub async fn album_name(&self, id: AlbumId) -> Result<Option<String>> {
        let mut c = self.connection().await?;
        Ok(album::table.find(id.0).select(album::name).get_result(&mut c).await.optional()?)
    }

    /// What somebody may do with an album; none: they do not see it, or there is none.
    pub async fn may_in(&self, id: AlbumId, person: PersonId) -> Result<Option<May>> {
        let mut c = self.connection().await?;
        let most: Option<i16> = album_seen::table
            .filter(album_seen::album.eq(id.0).and(album_seen::person.eq(person.0)))
            .select(max(album_seen::may))
            .get_result(&mut c)
            .await?;
        Ok(most.and_then(May::of_rank))
    }

    /// Whom an album is shared with by name, and for what.
    pub async fn album_shares(&self, id: AlbumId) -> Result<Vec<(PersonId, May)>> {
        let mut c = self.connection().await?;
        let shares = album_share::table.filter(album_share::album.eq(id.0)).select((album_share::person, album_share::may));
        let rows: Vec<(Uuid, String)> = shares.load(&mut c).await?;
        Ok(rows.into_iter().filter_map(|(id, may)| Some((PersonId(id), May::shared(&may)?))).collect())
    }

    /// Changes an album of somebody's; `with`: whom it is shared with from now on, all of them. Not found, if it is not theirs.
    pub async fn change_album(
        &self,
        owner: PersonId,
        id: AlbumId,
        change: &AlbumChange,
        with: Option<&[(PersonId, May)]>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let theirs = album::table.filter(album::id.eq(id.0).and(album::person.eq(owner.0)));
            theirs.select(album::id).for_update().get_result::<Uuid>(c).await?;
            let says = change.name.is_some() || change.words.is_some() || change.household.is_some();
            if says || change.cover.is_some() || change.follows.is_some() {
                update(album::table.find(id.0)).set(change).execute(c).await?;
            }
            if change.follows == Some(None) {
                follows_no_more(c, id).await?;
            }
            if let Some(with) = with {
                delete(album_share::table.filter(album_share::album.eq(id.0))).execute(c).await?;
                let row = |(person, may): &(PersonId, May)| {
                    (album_share::album.eq(id.0), album_share::person.eq(person.0), album_share::may.eq(may.word()))
                };
                let rows: Vec<_> = with.iter().map(row).collect();
                diesel_async::RunQueryDsl::execute(insert_into(album_share::table).values(rows), c).await?;
            }
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Takes an album of somebody's apart. Its pictures stay where they are. Not found, if it is not theirs.
    pub async fn remove_album(&self, owner: PersonId, id: AlbumId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let gone = delete(album::table.filter(album::id.eq(id.0).and(album::person.eq(owner.0)))).execute(c).await?;
            if gone == 0 {
                return Err(CatalogError::NotFound);
            }
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Puts pictures of somebody's own into an album; others are passed over.
    pub async fn put_into_album(&self, id: AlbumId, by: PersonId, pictures: &[OriginalId], now: DateTime<Utc>) -> Result<Added> {
        let mut c = self.connection().await?;
        let done = whole!(c, {
            // Text: what is put in is what is not in it by another of its files.
            let done: AddedRow = sql_query(
                "WITH wanted AS (
                     SELECT DISTINCT shot FROM original WHERE id = ANY($3) AND person = $2 AND held_at IS NULL AND gone_at IS NULL
                 ), put AS (
                     INSERT INTO album_picture (album, original, added_by, added_at)
                     SELECT $1, w.shot, $2, $4 FROM wanted w
                     WHERE NOT EXISTS (SELECT FROM in_album i WHERE i.album = $1 AND i.shot = w.shot)
                     ORDER BY w.shot ON CONFLICT DO NOTHING RETURNING original
                 ), stay AS (
                     UPDATE album_picture p SET followed = false, added_by = $2 FROM original f
                     WHERE p.album = $1 AND p.followed AND f.id = p.original AND f.shot IN (SELECT shot FROM wanted) RETURNING p.original
                 ), again AS (
                     DELETE FROM album_without o USING original f
                     WHERE o.album = $1 AND f.id = o.original AND f.shot IN (SELECT shot FROM wanted) RETURNING o.original
                 ) SELECT (SELECT count(*) FROM stay) + (SELECT count(*) FROM again) AS kept, (SELECT count(*) FROM wanted) AS wanted, (SELECT count(*) FROM put) AS added",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<SqlUuid, _>(by.0)
            .bind::<Array<SqlUuid>, _>(pictures.iter().map(|p| p.0).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(now)
            .get_result(c)
            .await?;
            if done.added + done.kept > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(done)
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(Added { added: unsigned(done.added), there: unsigned(done.wanted - done.added) })
    }

    /// Takes pictures out of an album: those that are `by`'s, or were put there by them; `all`: whatever is named. Returns how many it were.
    pub async fn take_out_of_album(
        &self,
        id: AlbumId,
        by: PersonId,
        pictures: &[OriginalId],
        all: bool,
        now: DateTime<Utc>,
    ) -> Result<u64> {
        let mut c = self.connection().await?;
        let shots: i64 = whole!(c, {
            // What comes in by a line meanwhile waits until it is known that this does not.
            album::table.find(id.0).select(album::id).for_no_key_update().get_result::<Uuid>(c).await.optional()?;
            // Text: a picture goes by all of its files.
            let done: AddedRow = sql_query(
                "WITH gone AS (
                     DELETE FROM album_picture p USING original f
                     WHERE p.album = $1 AND f.id = p.original AND f.shot IN (SELECT shot FROM original WHERE id = ANY($3))
                       AND ($4 OR p.added_by = $2 OR f.person = $2) RETURNING f.shot, f.person
                 ), left_out AS (
                     INSERT INTO album_without (album, original)
                     SELECT DISTINCT a.id, g.shot FROM gone g JOIN album a ON a.id = $1 AND a.follows IS NOT NULL AND a.person = g.person
                     ON CONFLICT DO NOTHING
                 ) SELECT 0::bigint AS wanted, 0::bigint AS kept, count(DISTINCT shot) AS added FROM gone",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<SqlUuid, _>(by.0)
            .bind::<Array<SqlUuid>, _>(pictures.iter().map(|p| p.0).collect::<Vec<_>>())
            .bind::<Bool, _>(all)
            .get_result(c)
            .await?;
            if done.added > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(done.added)
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(unsigned(shots))
    }

    /// An original that is somebody's, or that an album shows them while nobody has deleted it.
    pub async fn original_seen(&self, id: OriginalId, viewer: PersonId) -> Result<OriginalRow> {
        let row = self.original(id, None).await?;
        if row.person == viewer {
            return Ok(row);
        }
        let mut c = self.connection().await?;
        let shown = shown_to::table.filter(shown_to::shot.eq(row.shot.0).and(shown_to::person.eq(viewer.0)));
        let is_shown = row.held.is_none() && select(exists(shown.select(shown_to::shot))).get_result(&mut c).await?;
        if is_shown { Ok(row) } else { Err(CatalogError::NotFound) }
    }

    /// The albums that a picture is in, of those that somebody sees; `all`: whether they see it or not, and which is the case.
    pub async fn albums_with(&self, shot: OriginalId, viewer: PersonId, all: bool) -> Result<Vec<(AlbumId, String, bool)>> {
        let mut c = self.connection().await?;
        let with = in_album::table.filter(in_album::shot.eq(shot.0)).select(in_album::album);
        let seen = album_seen::table.filter(album_seen::person.eq(viewer.0)).select(album_seen::album);
        let rows: Vec<(Uuid, String, bool)> = album::table
            .filter(album::id.eq_any(with))
            .order((album::name, album::id))
            .select((album::id, album::name, album::id.eq_any(seen)))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().filter(|(_, _, seen)| all || *seen).map(|(id, name, seen)| (AlbumId(id), name, seen)).collect())
    }

    /// All albums, as a ledger says them.
    pub async fn album_records(&self) -> Result<Vec<AlbumRecord>> {
        let mut c = self.connection().await?;
        type Follows = (Option<String>, Option<String>);
        type Row = (Uuid, Uuid, String, String, Option<String>, Option<Uuid>, DateTime<Utc>, Option<serde_json::Value>, Follows);
        let rows: Vec<Row> = album::table
            .order(album::id)
            .select((
                album::id,
                album::person,
                album::name,
                album::words,
                album::household,
                album::cover,
                album::made_at,
                album::arrangement,
                (album::follows, album::follows_as),
            ))
            .load(&mut c)
            .await?;
        let shares: Vec<(Uuid, Uuid, String)> = album_share::table
            .order((album_share::album, album_share::person))
            .select((album_share::album, album_share::person, album_share::may))
            .load(&mut c)
            .await?;
        let mut with: HashMap<Uuid, Vec<AlbumShareRecord>> = HashMap::new();
        for (album, person, may) in shares {
            with.entry(album).or_default().push(AlbumShareRecord { person: PersonId(person), may });
        }
        let record = |(id, person, name, words, household, cover, made_at, arrangement, follows): Row| AlbumRecord {
            id: AlbumId(id),
            person: PersonId(person),
            name,
            words,
            household,
            with: with.remove(&id).unwrap_or_default(),
            cover: cover.map(OriginalId),
            arrangement: arrangement.map(steps_of),
            follows: follows.0.zip(follows.1).map(|(line, read_as)| FollowsRecord { line, read_as }),
            made_at,
        };
        Ok(rows.into_iter().map(record).collect())
    }

    /// Of some originals, the albums that they are in.
    pub async fn albums_of(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, Vec<InAlbumRecord>>> {
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        type Row = (Uuid, Uuid, Option<Uuid>, DateTime<Utc>, bool);
        let rows: Vec<Row> = album_picture::table
            .filter(album_picture::original.eq_any(ids))
            .order((album_picture::original, album_picture::album))
            .select((
                album_picture::original,
                album_picture::album,
                album_picture::added_by,
                album_picture::added_at,
                album_picture::followed,
            ))
            .load(&mut c)
            .await?;
        let mut albums: HashMap<OriginalId, Vec<InAlbumRecord>> = HashMap::new();
        for (original, album, by, at, followed) in rows {
            let told = InAlbumRecord { album: AlbumId(album), by: by.map(PersonId), at, followed };
            albums.entry(OriginalId(original)).or_default().push(told);
        }
        Ok(albums)
    }

    /// Adds an album of a ledger. Its pictures say themselves that they are in it.
    pub async fn rebuild_album(&self, told: &AlbumRecord) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            if !is_person(c, told.person).await? {
                return Ok(());
            }
            let follows = told.follows.as_ref().filter(|f| (1..=LONGEST).contains(&f.line.chars().count()));
            let row = (
                album::id.eq(told.id.0),
                album::person.eq(told.person.0),
                album::name.eq(&told.name),
                album::words.eq(&told.words),
                // Something that a later version shares for is nothing here: nobody sees more than they did.
                album::household.eq(told.household.as_deref().and_then(May::shared).map(May::word)),
                album::cover.eq(told.cover.map(|id| id.0)),
                album::made_at.eq(told.made_at),
                album::arrangement.eq(told.arrangement.as_ref().map(|steps| serde_json::to_value(steps).expect("words and ids"))),
                // What is no line is none that anybody wrote.
                album::follows.eq(follows.map(|f| &f.line)),
                album::follows_as.eq(follows.map(|f| &f.read_as)),
            );
            if insert_into(album::table).values(row).on_conflict_do_nothing().execute(c).await? == 0 {
                return Ok(());
            }
            for share in &told.with {
                let Some(may) = May::shared(&share.may) else { continue };
                if !is_person(c, share.person).await? {
                    continue;
                }
                let row =
                    (album_share::album.eq(told.id.0), album_share::person.eq(share.person.0), album_share::may.eq(may.word()));
                insert_into(album_share::table).values(row).on_conflict_do_nothing().execute(c).await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }
}

async fn is_person(c: &mut AsyncPgConnection, id: PersonId) -> Result<bool> {
    Ok(select(exists(person::table.find(id.0).select(person::id))).get_result(c).await?)
}
