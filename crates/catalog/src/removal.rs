//! What leaves holding after its time: first from the home disk, then from the stores.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{BigInt, Bool, Timestamptz},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, PersonId, StoreId,
    deletion::{Copy, MayLeave, Removal, Stage, Step, removal},
    retention::{Leaving, Release},
};

use crate::{
    Catalog, CatalogError, Result,
    columns::HashColumn,
    db::*,
    evidence::HOME,
    holding::{is_held, look_at_holding, settle_soon, tell_devices},
    numbers::amount,
    wishes::{wish, work_for},
    work::Kind,
};

/// What removing a copy from a store has to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ToRemove {
    /// Remove this object, and say [`Catalog::removed`] then.
    Object {
        /// Its name.
        name: String,
        /// The original's bytes.
        digest: Digest,
    },
    /// Not yet: the store's ledger still names the original.
    AfterLedger,
    /// Nothing: somebody else has the same bytes, it was taken back, or it has been removed.
    Nothing,
}

#[derive(QueryableByName)]
struct LeavingRow {
    #[diesel(sql_type = BigInt)]
    library: i64,
    #[diesel(sql_type = BigInt)]
    library_bytes: i64,
    #[diesel(sql_type = BigInt)]
    gone: i64,
    #[diesel(sql_type = BigInt)]
    gone_bytes: i64,
    #[diesel(sql_type = BigInt)]
    due: i64,
    #[diesel(sql_type = BigInt)]
    due_bytes: i64,
}

/// What is done for originals, and for none that has gone.
const NOT_OF_THE_GONE: [Kind; 7] =
    [Kind::Preview, Kind::Derive, Kind::Group, Kind::Refile, Kind::Replicate, Kind::Prove, Kind::Heal];

impl Catalog {
    /// The keeper has looked at what the safety stop holds, and lets it go. Returns how many.
    pub async fn release_stopped(&self, now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let held = original::table.filter(original::id.eq(held::original).and(is_held()));
        let due = held::until.le(now).assume_not_null().and(held::looked_at.is_null());
        let looked = update(held::table.filter(due.and(exists(held.select(original::id)))))
            .set(held::looked_at.eq(now))
            .execute(&mut c)
            .await?;
        look_at_holding(&mut c, now).await?;
        self.work_added(&Kind::ALL);
        Ok(looked as u64)
    }

    /// What the safety stop looks at.
    pub async fn leaving(&self, now: DateTime<Utc>) -> Result<Leaving> {
        let mut c = self.connection().await?;
        // Text: one look, so that what is counted against each other was so at one moment.
        let r: LeavingRow = sql_query(
            "SELECT k.n AS library, k.bytes AS library_bytes, g.n AS gone, g.bytes AS gone_bytes, d.n AS due, d.bytes AS due_bytes FROM (
                 SELECT coalesce(sum(n), 0)::bigint AS n, coalesce(sum(bytes), 0)::bigint AS bytes FROM counts
                 WHERE about = ANY(ARRAY(SELECT id FROM person)) AND fact = 'kept'
             ) k, (
                 SELECT count(*) AS n, coalesce(sum(o.size), 0)::bigint AS bytes FROM original o LEFT JOIN held h ON h.original = o.id
                 WHERE o.gone_at > $2 AND h.looked_at IS NULL
             ) g, (
                 SELECT count(*) AS n, coalesce(sum(o.size), 0)::bigint AS bytes FROM original o JOIN held h ON h.original = o.id
                 WHERE o.held_at IS NOT NULL AND o.gone_at IS NULL AND h.until <= $1 AND h.looked_at IS NULL
             ) d",
        )
        .bind::<Timestamptz, _>(now)
        .bind::<Timestamptz, _>(now - TimeDelta::days(1))
        .get_result(&mut c)
        .await?;
        Ok(Leaving {
            library: amount(r.library, r.library_bytes),
            gone_today: amount(r.gone, r.gone_bytes),
            due: amount(r.due, r.due_bytes),
        })
    }

    /// Lets some of what is due go, as far as `release` goes. Their rows say so from then on, their files and their copies in stores (at
    /// `away_at`) follow. Returns how many; none: nothing is left to do.
    pub async fn remove_due(&self, release: Release, now: DateTime<Utc>, away_at: DateTime<Utc>, limit: i64) -> Result<u64> {
        let mut c = self.connection().await?;
        let gone = whole!(c, {
            let due = due_to_leave(c, release, now, limit).await?;
            if due.is_empty() {
                return Ok(0);
            }
            let ids: Vec<Uuid> = due.iter().map(|(id, ..)| *id).collect();
            update(original::table.filter(original::id.eq_any(&ids))).set(original::gone_at.eq(now)).execute(c).await?;
            delete(standing::table.filter(standing::place.eq(HOME).and(standing::original.eq_any(&ids)))).execute(c).await?;
            let idle = job::table.filter(job::key.eq_any(&ids).and(job::lease_end.is_null()));
            delete(idle.filter(job::kind.eq_any(NOT_OF_THE_GONE.map(Kind::word)))).execute(c).await?;
            let copies = standing::table.filter(standing::original.eq_any(&ids).and(standing::place.ne(HOME)));
            let copies = copies.order((standing::original, standing::place));
            wish!(from copies.select(work_for!(Kind::Remove, standing::original, standing::place.nullable(), 1, away_at)))
                .execute(c)
                .await?;
            let mut people: Vec<Uuid> = due.iter().map(|(_, person, _)| *person).collect();
            people.sort_unstable();
            people.dedup();
            for person in people {
                let theirs: Vec<HashColumn> = due.iter().filter(|d| d.1 == person).map(|(.., digest)| *digest).collect();
                tell_devices(c, PersonId(person), &theirs, Stage::LeavingHome.told()).await?;
            }
            settle_soon(c, &ids, now).await?;
            Ok::<_, CatalogError>(ids.len() as u64)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(gone)
    }

    /// When the next original leaves holding, if any does.
    pub async fn next_leaving(&self) -> Result<Option<DateTime<Utc>>> {
        let mut c = self.connection().await?;
        let held = held::table.inner_join(original::table).filter(is_held());
        Ok(held.select(min(held::until)).get_result(&mut c).await?)
    }

    /// The file of an original that has gone is gone too: its name is free.
    pub async fn is_gone(&self, id: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        update(original::table.find(id.0).filter(original::gone_at.is_not_null()))
            .set((
                original::folded.eq(None::<String>),
                original::moving_to.eq(None::<String>),
                original::preview.eq("none"),
                original::placeholder.eq(None::<String>),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Begins to remove the copy of an original that has gone from a store. From then on until [`Catalog::removed`], nobody counts on
    /// the object.
    pub async fn begin_removal(&self, id: OriginalId, store: StoreId) -> Result<ToRemove> {
        let mut c = self.connection().await?;
        whole!(c, {
            let gone = original::table.find(id.0).filter(original::gone_at.is_not_null());
            let digest: Option<HashColumn> = gone.for_update().select(original::digest).get_result(c).await.optional()?;
            let Some(digest) = digest else { return Ok(ToRemove::Nothing) };
            let copy = standing::table.find((id.0, store.0)).select((standing::listed, standing::good));
            let copy: Option<(bool, bool)> = copy.get_result(c).await.optional()?;
            let copy = copy.map(|(listed, good)| Copy { listed, good });
            // The row is locked first: what is asked about its bytes afterwards holds until this is committed.
            let object = object::table.find((store.0, digest));
            let name: Option<String> = object.for_update().select(object::name).get_result(c).await.optional()?;
            let needed = original::table.filter(original::digest.eq(digest).and(original::gone_at.is_null()));
            let needed: bool = select(exists(needed.select(original::id))).get_result(c).await?;
            // Whether its file has left home already makes no difference to its copies.
            match (removal(Stage::InStores, copy, name.is_some(), needed), name) {
                (Removal::Object, Some(name)) => {
                    update(object).set(object::leaving.eq(true)).execute(c).await?;
                    Ok::<_, CatalogError>(ToRemove::Object { name, digest: digest.0 })
                }
                (Removal::AfterLedger, _) => Ok(ToRemove::AfterLedger),
                (Removal::Forget, _) => {
                    delete(standing::table.find((id.0, store.0))).execute(c).await?;
                    Ok(ToRemove::Nothing)
                }
                _ => Ok(ToRemove::Nothing),
            }
        })
        .await
    }

    /// The store has removed the object. Who needs it there again sends it.
    pub async fn removed(&self, store: StoreId, digest: Digest, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let leaving = object::table.find((store.0, HashColumn(digest))).filter(object::leaving);
            let gone: Option<(i64, DateTime<Utc>)> =
                delete(leaving).returning((object::size, object::confirmed_at)).get_result(c).await.optional()?;
            if let Some((size, confirmed_at)) = gone {
                let row = (
                    removed_object::store.eq(store.0),
                    removed_object::size.eq(size),
                    removed_object::confirmed_at.eq(confirmed_at),
                    removed_object::removed_at.eq(now),
                );
                insert_into(removed_object::table).values(row).execute(c).await?;
            }
            let these = original::table.filter(original::digest.eq(HashColumn(digest)).and(original::gone_at.is_not_null()));
            let copies = standing::table.filter(standing::place.eq(store.0));
            delete(copies.filter(standing::original.eq_any(these.select(original::id)))).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Whether a store is just removing its object of these bytes. A removal that was broken off (its process was killed, or the store
    /// refused) says nothing of whether the object is there still: it is forgotten here, and who needs the bytes there sends them anew,
    /// under the same name.
    pub async fn is_leaving(&self, store: StoreId, digest: Digest) -> Result<bool> {
        let mut c = self.connection().await?;
        whole!(c, {
            let leaving = object::table.find((store.0, HashColumn(digest))).filter(object::leaving);
            if leaving.for_update().select(object::name).get_result::<String>(c).await.optional()?.is_none() {
                return Ok(false);
            }
            let removing = job::table
                .inner_join(original::table.on(original::id.eq(job::key)))
                .filter(job::kind.eq(Kind::Remove.word()).and(job::store.eq(store.0)).and(job::lease_end.is_not_null()))
                .filter(original::digest.eq(HashColumn(digest)));
            if select(exists(removing.select(job::id))).get_result(c).await? {
                return Ok(true);
            }
            delete(leaving).execute(c).await?;
            Ok::<_, CatalogError>(false)
        })
        .await
    }
}

/// Looks for what is due that somebody else changed each time before it was locked.
const MOST_LOOKS: usize = 20;

/// Originals whose time in holding is over, with their owners and hashes, until the end of the transaction nobody else's to change.
async fn due_to_leave(
    c: &mut AsyncPgConnection,
    release: Release,
    now: DateTime<Utc>,
    limit: i64,
) -> Result<Vec<(Uuid, Uuid, HashColumn)>> {
    let all = release == Release::All;
    let due = || {
        let over = held::until.le(now).assume_not_null().and(all.into_sql::<Bool>().or(held::looked_at.is_not_null()));
        held::table.inner_join(original::table).filter(over.and(is_held()))
    };
    // Whoever was taken back between the two looks is looked past.
    for _ in 0..MOST_LOOKS {
        let few: Vec<Uuid> = due().order((held::until, original::id)).limit(limit).select(original::id).load(c).await?;
        if few.is_empty() {
            return Ok(Vec::new());
        }
        // Whoever takes one back, or deletes it anew, changes its row first.
        let locked = original::table.filter(original::id.eq_any(&few)).order(original::id).for_update();
        locked.select(original::id).load::<Uuid>(c).await?;
        type Row = (Uuid, Uuid, HashColumn, Option<DateTime<Utc>>, Option<DateTime<Utc>>);
        let still: Vec<Row> = due()
            .filter(original::id.eq_any(&few))
            .order(original::id)
            .select((original::id, original::person, original::digest, held::until, held::looked_at))
            .load(c)
            .await?;
        // What the database found is asked once more by the rule itself.
        let may = |until, looked_at: Option<_>| MayLeave::ask(release, until, looked_at.is_some(), now);
        let still: Vec<_> = still
            .into_iter()
            .filter(|(.., until, looked_at)| {
                may(*until, *looked_at).and_then(|may| Stage::Held.after(Step::Release(may))).is_some()
            })
            .map(|(id, person, digest, ..)| (id, person, digest))
            .collect();
        if !still.is_empty() {
            return Ok(still);
        }
    }
    Ok(Vec::new())
}
