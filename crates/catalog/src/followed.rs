//! Albums that follow a line: what of their owners' pictures it finds is in them.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use diesel::{
    QueryableByName,
    sql_types::{BigInt, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{AlbumId, OriginalId, PersonId, find::days::Span};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    db::*,
    find::{Asking, Sought},
    scope::Scope,
    wishes::ledgers_due,
    work::Kind,
};

/// So many pictures come in, or go out, in one step.
const AT_ONCE: usize = 1000;

/// What must be done before everything is known that pictures are asked for: what they show and say, and where they were taken.
const TELLING: [Kind; 4] = [Kind::Fetch, Kind::Group, Kind::Town, Kind::Words];

/// An album that follows a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Following {
    /// Which.
    pub album: AlbumId,
    /// Whose it is.
    pub owner: PersonId,
    /// The line.
    pub line: String,
    /// How it was read when it was written.
    pub read_as: String,
}

#[derive(QueryableByName)]
struct FoundRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
}

/// What is in an album stays in it, and no more is kept out.
pub(crate) async fn follows_no_more(c: &mut AsyncPgConnection, id: AlbumId) -> Result<()> {
    let followed = album_picture::table.filter(album_picture::album.eq(id.0).and(album_picture::followed));
    update(followed).set(album_picture::followed.eq(false)).execute(c).await?;
    delete(album_without::table.filter(album_without::album.eq(id.0))).execute(c).await?;
    Ok(())
}

impl Catalog {
    /// The albums that follow a line: somebody's, or all.
    pub async fn following(&self, owner: Option<PersonId>) -> Result<Vec<Following>> {
        let mut c = self.connection().await?;
        let mut asked = album::table
            .filter(album::follows.is_not_null())
            .order(album::id)
            .select((album::id, album::person, album::follows.assume_not_null(), album::follows_as.assume_not_null()))
            .into_boxed();
        if let Some(owner) = owner {
            asked = asked.filter(album::person.eq(owner.0));
        }
        let rows: Vec<(Uuid, Uuid, String, String)> = diesel_async::RunQueryDsl::load(asked, &mut c).await?;
        let following =
            |(album, owner, line, read_as)| Following { album: AlbumId(album), owner: PersonId(owner), line, read_as };
        Ok(rows.into_iter().map(following).collect())
    }

    /// Has in an album what its line finds, of its owner's pictures: the newest `most` of these. What came in by the line and is found no more goes out; not while
    /// something is still to be learnt of pictures, so that a house that comes back from its stores loses nothing that it only does not know yet. What somebody put
    /// in stays, and what somebody took out stays out. Says whether anything has changed.
    ///
    /// A step at a time; killed in between, the next time does the rest. Nothing is done once the album follows something else.
    pub async fn follow(&self, one: &Following, sought: &Sought, most: usize, now: DateTime<Utc>) -> Result<bool> {
        let found = self.found(one.owner, sought, most).await?;
        let is_found: HashSet<Uuid> = found.iter().copied().collect();
        let there = self.followed(one.album).await?;
        let here: HashSet<Uuid> = there.values().copied().collect();
        let new: Vec<Uuid> = found.into_iter().filter(|shot| !here.contains(shot)).collect();
        let mut changed = false;
        for some in new.chunks(AT_ONCE) {
            changed |= self.followed_in(one, some, now).await?;
        }
        let gone: Vec<Uuid> =
            there.into_iter().filter(|(_, shot)| !is_found.contains(shot)).map(|(original, _)| original).collect();
        if !gone.is_empty() && self.all_is_told().await? {
            for some in gone.chunks(AT_ONCE) {
                changed |= self.followed_out(one, some, now).await?;
            }
        }
        if changed {
            self.work_added(&[Kind::Ledger]);
        }
        Ok(changed)
    }

    /// The pictures that a line finds, newest first.
    async fn found(&self, owner: PersonId, sought: &Sought, most: usize) -> Result<Vec<Uuid>> {
        let (scope, mut found) = (Scope::own(owner), Vec::new());
        let mut c = self.connection().await?;
        for span in sought.within(Span::ALL) {
            let left = i64::try_from(most - found.len()).unwrap_or(i64::MAX);
            let asking = Asking::new("SELECT o.id FROM original o WHERE").shown(scope).taken_in(span).meets(scope, Some(sought));
            let asking = asking.text(" ORDER BY o.taken_local DESC, o.id DESC LIMIT ").value::<BigInt, _>(left);
            let rows: Vec<FoundRow> = asking.load(&mut c).await?;
            found.extend(rows.into_iter().map(|row| row.id));
            if found.len() >= most {
                break;
            }
        }
        Ok(found)
    }

    /// What came into an album by its line: each file that is named, with the one that stands for its picture.
    async fn followed(&self, id: AlbumId) -> Result<HashMap<Uuid, Uuid>> {
        let mut c = self.connection().await?;
        let followed = album_picture::album.eq(id.0).and(album_picture::followed);
        let named = album_picture::table.inner_join(original::table.on(original::id.eq(album_picture::original)));
        let rows: Vec<(Uuid, Uuid)> = named.filter(followed).select((original::id, original::shot)).load(&mut c).await?;
        Ok(rows.into_iter().collect())
    }

    /// Whether nothing is still to be learnt of pictures. What was given up is not waited for.
    async fn all_is_told(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let telling = job::table.filter(job::kind.eq_any(TELLING.map(Kind::word)).and(not(job::gave_up)));
        Ok(!select(exists(telling.select(job::id))).get_result::<bool>(&mut c).await?)
    }

    async fn followed_in(&self, one: &Following, shots: &[Uuid], now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        whole!(c, {
            if !still_follows(c, one).await? {
                return Ok(false);
            }
            // Whoever takes something out holds the album as well.
            let left_out = album_without::table.inner_join(original::table.on(original::id.eq(album_without::original)));
            let left_out = left_out.filter(album_without::album.eq(one.album.0).and(original::shot.eq_any(shots)));
            let left_out: HashSet<Uuid> = left_out.select(original::shot).load(c).await?.into_iter().collect();
            let shots: Vec<Uuid> = shots.iter().copied().filter(|shot| !left_out.contains(shot)).collect();
            let inside = in_album::table.filter(in_album::album.eq(one.album.0).and(in_album::shot.eq(original::id)));
            let wanted = original::table
                .filter(original::id.eq_any(shots).and(original::person.eq(one.owner.0)).and(original::leads))
                .filter(original::held_at.is_null().and(original::gone_at.is_null()).and(not(original::put_away)))
                .filter(not(exists(inside.select(in_album::shot))));
            let row = (
                one.album.0.into_sql::<SqlUuid>(),
                original::id,
                one.owner.0.into_sql::<SqlUuid>().nullable(),
                now.into_sql::<diesel::sql_types::Timestamptz>(),
                true.into_sql::<diesel::sql_types::Bool>(),
            );
            let columns = (
                album_picture::album,
                album_picture::original,
                album_picture::added_by,
                album_picture::added_at,
                album_picture::followed,
            );
            let put = wanted.order(original::id).select(row).insert_into(album_picture::table).into_columns(columns);
            let put = put.on_conflict_do_nothing().execute(c).await?;
            if put > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(put > 0)
        })
        .await
    }

    async fn followed_out(&self, one: &Following, originals: &[Uuid], now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        whole!(c, {
            if !still_follows(c, one).await? {
                return Ok(false);
            }
            let gone =
                album_picture::album.eq(one.album.0).and(album_picture::original.eq_any(originals)).and(album_picture::followed);
            let gone = delete(album_picture::table.filter(gone)).execute(c).await?;
            if gone > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(gone > 0)
        })
        .await
    }

    /// Of some originals, the albums that they do not come into again because those follow a line.
    pub async fn albums_without(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, Vec<AlbumId>>> {
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let rows: Vec<(Uuid, Uuid)> = album_without::table
            .filter(album_without::original.eq_any(ids))
            .order((album_without::original, album_without::album))
            .select((album_without::original, album_without::album))
            .load(&mut c)
            .await?;
        let mut albums: HashMap<OriginalId, Vec<AlbumId>> = HashMap::new();
        for (original, album) in rows {
            albums.entry(OriginalId(original)).or_default().push(AlbumId(album));
        }
        Ok(albums)
    }
}

/// Whether an album follows that line yet, as it was read; until the end of this, it does.
async fn still_follows(c: &mut AsyncPgConnection, one: &Following) -> Result<bool> {
    let album = album::table.filter(album::id.eq(one.album.0).and(album::follows.eq(&one.line)));
    let album = album.filter(album::follows_as.eq(&one.read_as));
    Ok(album.select(album::id).for_no_key_update().get_result::<Uuid>(c).await.optional()?.is_some())
}
