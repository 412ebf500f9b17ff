//! What was deleted: into holding, back out of it, and, after its time, gone.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    QueryableByName, alias, sql_query,
    sql_types::{BigInt, Bool, Timestamptz},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, PersonId, StoreId,
    filing::FiledPath,
    layers::{Act, Observation, Outcome, Place},
    offer::{DELETED_GONE, DELETED_HELD, Known},
    retention::{Leaving, Retention},
};

use crate::{
    Catalog, CatalogError, Prepare, Result,
    columns::{HashColumn, PathColumn, hashes},
    db::*,
    evidence::{HOME, observe_in},
    numbers::amount,
    shots::lock_shots,
    unsigned,
    work::{Kind, due_for, ledgers_due, no_store, wish, wish_now, work_for, work_row},
};

/// Something in holding, as its member sees it.
#[derive(Clone, Debug)]
pub struct Held {
    /// The original.
    pub id: OriginalId,
    /// Where it was.
    pub was_at: String,
    /// The kind's word.
    pub kind: String,
    /// Its bytes.
    pub size: u64,
    /// `waiting`, `ready` or `none`.
    pub preview: String,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// Who deleted it.
    pub deleted_by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// When it leaves holding, or, once it has, the last store that has it; none: never.
    pub until: Option<DateTime<Utc>>,
    /// When it left the home disk, if it has: stores still have it then.
    pub gone_at: Option<DateTime<Utc>>,
}

/// An original whose place on the disk is to follow what was decided.
#[derive(Clone, Debug)]
pub struct ToSettle {
    /// Where it is.
    pub path: FiledPath,
    /// Another name that it may have, because a move was stopped.
    pub moving_to: Option<FiledPath>,
    /// Where it was before it was deleted.
    pub was_at: FiledPath,
    /// Where it should be.
    pub wanted: Wanted,
}

/// Where an original should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// Among the others.
    Filed,
    /// In holding.
    Held,
    /// Nowhere on this disk.
    Gone,
}

/// What removing a copy from a store has to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Removal {
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

/// The stores' ledgers are to say what is known of these originals now, and their files are to follow. First what is known, then the work, as
/// everybody does who changes both.
async fn settle_soon(c: &mut AsyncPgConnection, ids: &[Uuid], now: DateTime<Utc>) -> Result<()> {
    let in_stores = standing::table.filter(standing::place.ne(HOME).and(standing::original.eq_any(ids)));
    update(in_stores).set(standing::listed.eq(false)).execute(c).await?;
    ledgers_due(c, now).await?;
    let these = original::table.filter(original::id.eq_any(ids)).order(original::id);
    wish_now!(from these.select(work_for!(Kind::Hold, original::id, no_store(), 19, now))).execute(c).await?;
    Ok(())
}

/// What is done for originals, and for none that has gone.
const NOT_OF_THE_GONE: [Kind; 7] =
    [Kind::Preview, Kind::Derive, Kind::Group, Kind::Refile, Kind::Replicate, Kind::Prove, Kind::Heal];

/// In holding, and still on the home disk.
fn is_held() -> diesel::dsl::And<diesel::dsl::IsNotNull<original::held_at>, diesel::dsl::IsNull<original::gone_at>> {
    original::held_at.is_not_null().and(original::gone_at.is_null())
}

/// Devices of a member that offer these bytes are told this of them, from now on.
async fn tell_devices(c: &mut AsyncPgConnection, person: PersonId, of: &[HashColumn], refused: Option<&str>) -> Result<()> {
    let own = device::table.filter(device::person.eq(person.0)).select(device::id);
    let named = sighting::table.filter(sighting::digest.eq_any(of).and(sighting::device.eq_any(own)));
    update(named).set(sighting::refused.eq(refused)).execute(c).await?;
    Ok(())
}

impl Catalog {
    /// The household's rule for what was deleted.
    pub async fn retention(&self) -> Result<Retention> {
        let mut c = self.connection().await?;
        let rule = household::table.select((household::home_days, household::offsite_days, household::brake_percent));
        let (home, offsite, percent): (Option<i16>, i16, i16) = rule.get_result(&mut c).await?;
        Ok(Retention {
            home_days: home.map(i16::unsigned_abs),
            offsite_days: offsite.unsigned_abs(),
            brake_percent: u8::try_from(percent).unwrap_or(Retention::default().brake_percent),
        })
    }

    /// Changes it, for what is deleted from now on.
    pub async fn change_retention(&self, rule: Retention) -> Result<()> {
        let days = |d: u16| i16::try_from(d).unwrap_or(i16::MAX);
        let mut c = self.connection().await?;
        update(household::table)
            .set((
                household::home_days.eq(rule.home_days.map(days)),
                household::offsite_days.eq(days(rule.offsite_days)),
                household::brake_percent.eq(i16::from(rule.brake_percent)),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Deletes originals of a member: they and the rest of their shots go to holding, until `until`. Returns all of them. Their devices
    /// are told so when they ask.
    pub async fn hold(
        &self,
        person: PersonId,
        originals: &[OriginalId],
        who: &str,
        now: DateTime<Utc>,
        until: Option<DateTime<Utc>>,
    ) -> Result<Vec<OriginalId>> {
        let chosen: Vec<Uuid> = originals.iter().map(|o| o.0).collect();
        let mut c = self.connection().await?;
        let held = whole!(c, {
            // A shot that is just being put together must not end up half deleted.
            lock_shots(c, person).await?;
            let own = original::table.filter(original::person.eq(person.0).and(is_living()));
            let shots: Vec<Uuid> = own.filter(original::id.eq_any(&chosen)).select(original::shot).load(c).await?;
            let whole = original::table.filter(original::person.eq(person.0).and(original::held_at.is_null()));
            let whole: Vec<(Uuid, String, HashColumn)> = update(whole.filter(original::shot.eq_any(shots)))
                .set(original::held_at.eq(now))
                .returning((original::id, original::path, original::digest))
                .get_results(c)
                .await?;
            let row = |(id, path, _): &(Uuid, String, HashColumn)| {
                (
                    held::original.eq(*id),
                    held::was_at.eq(path.clone()),
                    held::deleted_by.eq(who),
                    held::at.eq(now),
                    held::until.eq(until),
                )
            };
            for some in whole.chunks(AT_ONCE) {
                // One that was taken back and has not been moved yet is where it was deleted from before.
                insert_into(held::table)
                    .values(some.iter().map(row).collect::<Vec<_>>())
                    .on_conflict(held::original)
                    .do_update()
                    .set((
                        held::deleted_by.eq(excluded(held::deleted_by)),
                        held::at.eq(excluded(held::at)),
                        held::until.eq(excluded(held::until)),
                        held::looked_at.eq(None::<DateTime<Utc>>),
                    ))
                    .execute(c)
                    .await?;
            }
            let digests: Vec<HashColumn> = whole.iter().map(|(.., digest)| *digest).collect();
            tell_devices(c, person, &digests, Some(DELETED_HELD)).await?;
            let ids: Vec<Uuid> = whole.iter().map(|(id, ..)| *id).collect();
            settle_soon(c, &ids, now).await?;
            if let Some(until) = until {
                look_at_holding(c, until).await?;
            }
            Ok::<_, CatalogError>(ids)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(held.into_iter().map(OriginalId).collect())
    }

    /// What a member has in holding, or, after that, in stores alone; what was deleted last comes first, after a given one.
    pub async fn holding(&self, person: PersonId, after: Option<(DateTime<Utc>, OriginalId)>, limit: i64) -> Result<Vec<Held>> {
        let leaves = job::table.filter(job::kind.eq(Kind::Remove.word()).and(job::key.eq(original::id)));
        let until = case_when(original::gone_at.is_null(), held::until).otherwise(leaves.select(max(job::due)).single_value());
        let again = alias!(original as again);
        let has_again = again
            .filter(again.field(original::person).eq(person.0).and(again.field(original::digest).eq(original::digest)))
            .filter(again.field(original::gone_at).is_null())
            .select(again.field(original::id));
        let there = standing::table.filter(standing::original.eq(original::id).and(standing::good));
        let can_come_back = exists(there.select(standing::place)).and(not(exists(has_again)));
        let mut which = held::table
            .inner_join(original::table)
            .filter(original::person.eq(person.0).and(original::held_at.is_not_null()))
            .filter(original::gone_at.is_null().or(can_come_back))
            .order((held::at.desc(), held::original.desc()))
            .limit(limit)
            .select((
                original::id,
                held::was_at,
                original::kind,
                original::size,
                original::preview,
                original::placeholder,
                held::deleted_by,
                held::at,
                until,
                original::gone_at,
            ))
            .into_boxed();
        if let Some((at, id)) = after {
            // The moment by itself is where an index begins.
            which = which.filter(held::at.le(at)).filter(held::at.lt(at).or(held::original.lt(id.0)));
        }
        type Row = (
            Uuid,
            String,
            String,
            i64,
            String,
            Option<String>,
            String,
            DateTime<Utc>,
            Option<DateTime<Utc>>,
            Option<DateTime<Utc>>,
        );
        let mut c = self.connection().await?;
        let rows: Vec<Row> = which.load(&mut c).await?;
        let held = |(id, was_at, kind, size, preview, placeholder, deleted_by, at, until, gone_at): Row| Held {
            id: OriginalId(id),
            was_at,
            kind,
            size: unsigned(size),
            preview,
            placeholder,
            deleted_by,
            at,
            until,
            gone_at,
        };
        Ok(rows.into_iter().map(held).collect())
    }

    /// Takes originals of a member back. Those that are still on the disk go to where they were; those that have left it are fetched
    /// from a store by healing, to a free one of `places` each. Returns how many came back.
    pub async fn take_back(&self, person: PersonId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<Vec<OriginalId>> {
        let chosen: Vec<Uuid> = originals.iter().map(|o| o.0).collect();
        let mut c = self.connection().await?;
        let back = whole!(c, {
            let own = original::table.filter(original::person.eq(person.0).and(original::id.eq_any(&chosen)));
            let back: Vec<(Uuid, HashColumn)> = update(own.filter(is_held()))
                .set((original::held_at.eq(None::<DateTime<Utc>>), original::shot.eq(original::id)))
                .returning((original::id, original::digest))
                .get_results(c)
                .await?;
            let (ids, digests): (Vec<Uuid>, Vec<HashColumn>) = back.into_iter().unzip();
            tell_devices(c, person, &digests, None).await?;
            due_for(c, Kind::Group, &ids, 18, now).await?;
            if household::table.select(household::derive_jpeg).get_result(c).await? {
                due_for(c, Kind::Derive, &ids, 22, now).await?;
            }
            settle_soon(c, &ids, now).await?;
            Ok::<_, CatalogError>(ids)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(back.into_iter().map(OriginalId).collect())
    }

    /// Takes back one that has left the home disk and that a store still has: it is filed at `path`, which must be free, and fetched
    /// from there. `false`: it is too late, or its member has the same bytes again.
    pub async fn take_back_gone(&self, id: OriginalId, path: &FiledPath, now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        let back = whole!(c, {
            // Whoever removes the object from its store locks both rows as well, in this order: one of the two is first.
            let gone = original::table.find(id.0).filter(original::gone_at.is_not_null());
            let row: Option<(Uuid, HashColumn)> =
                gone.for_update().select((original::person, original::digest)).get_result(c).await.optional()?;
            let Some((person, digest)) = row else { return Ok(false) };
            let there: Vec<Uuid> = object::table
                .filter(object::digest.eq(digest).and(not(object::leaving)))
                .for_update()
                .select(object::store)
                .load(c)
                .await?;
            let good = standing::table.filter(standing::original.eq(id.0).and(standing::good).and(standing::place.eq_any(there)));
            let again = original::table
                .filter(original::person.eq(person).and(original::digest.eq(digest)).and(original::gone_at.is_null()));
            let can: (bool, bool) =
                select((exists(good.select(standing::place)), exists(again.select(original::id)))).get_result(c).await?;
            if can != (true, false) {
                return Ok(false);
            }
            update(original::table.find(id.0))
                .set((
                    original::held_at.eq(None::<DateTime<Utc>>),
                    original::gone_at.eq(None::<DateTime<Utc>>),
                    original::shot.eq(original::id),
                    original::preview.eq("waiting"),
                    original::placeholder.eq(None::<String>),
                    original::path.eq(path.as_str()),
                    original::folded.eq(path.folded()),
                ))
                .execute(c)
                .await?;
            let late = job::table.filter(job::kind.eq(Kind::Remove.word()).and(job::key.eq(id.0)).and(job::lease_end.is_null()));
            delete(late).execute(c).await?;
            delete(held::table.find(id.0)).execute(c).await?;
            tell_devices(c, PersonId(person), &[digest], None).await?;
            due_for(c, Kind::Preview, &[id.0], 20, now).await?;
            due_for(c, Kind::Group, &[id.0], 18, now).await?;
            // It is not at home, and that is mended like every other loss.
            let seen = Observation { place: Place::Home, act: Act::Reread, at: now, digest: None, outcome: Outcome::Missing };
            observe_in(c, id, digest.0, &seen).await?;
            settle_soon(c, &[id.0], now).await?;
            Ok::<_, CatalogError>(true)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(back)
    }

    /// Where an original of a member was that has left the home disk.
    pub async fn gone_from(&self, person: PersonId, id: OriginalId) -> Result<Option<String>> {
        let mut c = self.connection().await?;
        let gone = held::table
            .inner_join(original::table)
            .filter(original::id.eq(id.0).and(original::person.eq(person.0)).and(original::gone_at.is_not_null()));
        Ok(gone.select(held::was_at).get_result(&mut c).await.optional()?)
    }

    /// Originals of a member leave holding now, as far as the brake lets them. Returns how many.
    pub async fn end_holding(&self, person: PersonId, originals: &[OriginalId], now: DateTime<Utc>) -> Result<u64> {
        let mut c = self.connection().await?;
        let chosen: Vec<Uuid> = originals.iter().map(|o| o.0).collect();
        let own = original::table.filter(original::person.eq(person.0).and(original::id.eq_any(chosen)).and(is_held()));
        // What never leaves by itself, leaves now.
        let until = least(coalesce(held::until, now), now).nullable();
        let over = update(held::table.filter(held::original.eq_any(own.select(original::id))))
            .set(held::until.eq(until))
            .execute(&mut c)
            .await?;
        look_at_holding(&mut c, now).await?;
        self.work_added(&Kind::ALL);
        Ok(over as u64)
    }

    /// The keeper has looked at what the brake holds, and lets it go. Returns how many.
    pub async fn release_brake(&self, now: DateTime<Utc>) -> Result<u64> {
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

    /// What the brake looks at.
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
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(Leaving {
            library: amount(r.library, r.library_bytes),
            gone_today: amount(r.gone, r.gone_bytes),
            due: amount(r.due, r.due_bytes),
        })
    }

    /// Lets some of what is due go; all of it, or only what the keeper has looked at. Their rows say so from then on, their files and
    /// their copies in stores (at `away_at`) follow. Returns how many; none: nothing is left to do.
    pub async fn remove_due(&self, all: bool, now: DateTime<Utc>, away_at: DateTime<Utc>, limit: i64) -> Result<u64> {
        let mut c = self.connection().await?;
        let gone = whole!(c, {
            let due = due_to_leave(c, all, now, limit).await?;
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
                tell_devices(c, PersonId(person), &theirs, Some(DELETED_GONE)).await?;
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

    /// Where an original is and where it should be; none if it was never deleted, or is settled.
    pub async fn to_settle(&self, id: OriginalId) -> Result<Option<ToSettle>> {
        type Row = (PathColumn, Option<PathColumn>, PathColumn, bool, bool);
        let mut c = self.connection().await?;
        let row: Option<Row> = held::table
            .inner_join(original::table)
            .filter(original::id.eq(id.0))
            .select((
                original::path,
                original::moving_to,
                held::was_at,
                original::held_at.is_not_null(),
                original::gone_at.is_not_null(),
            ))
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|(path, moving_to, was_at, held, gone)| ToSettle {
            path: path.0,
            moving_to: moving_to.map(|p| p.0),
            was_at: was_at.0,
            wanted: match (gone, held) {
                (true, _) => Wanted::Gone,
                (false, true) => Wanted::Held,
                (false, false) => Wanted::Filed,
            },
        }))
    }

    /// An original that was taken back is among the others again, unless it was deleted once more meanwhile.
    pub async fn is_back(&self, id: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        let back = original::table.filter(original::id.eq(held::original).and(original::held_at.is_null()));
        let past = held::table.filter(held::original.eq(id.0).and(exists(back.select(original::id))));
        delete(past).execute(&mut c).await?;
        Ok(())
    }

    /// The file of an original that has gone is gone too: its name is free.
    pub async fn is_gone(&self, id: OriginalId) -> Result<()> {
        let mut c = self.connection().await?;
        update(original::table.find(id.0).filter(original::gone_at.is_not_null()))
            .set((
                original::folded.eq(format!("gone/{}", id.0)),
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
    pub async fn begin_removal(&self, id: OriginalId, store: StoreId) -> Result<Removal> {
        let mut c = self.connection().await?;
        whole!(c, {
            let gone = original::table.find(id.0).filter(original::gone_at.is_not_null());
            let digest: Option<HashColumn> = gone.for_update().select(original::digest).get_result(c).await.optional()?;
            let Some(digest) = digest else { return Ok(Removal::Nothing) };
            let copy = standing::table.find((id.0, store.0)).select((standing::listed, standing::good));
            match copy.get_result::<(bool, bool)>(c).await.optional()? {
                None => return Ok(Removal::Nothing),
                Some((listed, good)) if good && !listed => return Ok(Removal::AfterLedger),
                Some(_) => {}
            }
            // The row is locked first: what is asked about its bytes afterwards holds until this is committed.
            let object = object::table.find((store.0, digest));
            let name: Option<String> = object.for_update().select(object::name).get_result(c).await.optional()?;
            let needed = original::table.filter(original::digest.eq(digest).and(original::gone_at.is_null()));
            let needed: bool = select(exists(needed.select(original::id))).get_result(c).await?;
            match name {
                Some(name) if !needed => {
                    update(object).set(object::leaving.eq(true)).execute(c).await?;
                    Ok::<_, CatalogError>(Removal::Object { name, digest: digest.0 })
                }
                _ => {
                    delete(standing::table.find((id.0, store.0))).execute(c).await?;
                    Ok(Removal::Nothing)
                }
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

    /// What is known of a member's bytes that a device offers, in their order.
    pub async fn known(&self, person: PersonId, digests: &[Digest]) -> Result<Vec<Known>> {
        let mut c = self.connection().await?;
        let home = standing::original.eq(original::id).and(standing::place.eq(HOME)).and(standing::good);
        let rows: Vec<(HashColumn, bool, bool)> = original::table
            .left_join(standing::table.on(home))
            .filter(original::person.eq(person.0).and(original::digest.eq_any(hashes(digests))))
            .filter(original::gone_at.is_not_null().or(standing::place.nullable().is_not_null()))
            .select((original::digest, original::held_at.is_not_null(), original::gone_at.is_not_null()))
            .load(&mut c)
            .await?;
        let mut known = std::collections::HashMap::with_capacity(rows.len());
        for (digest, held, gone) in rows {
            let says = match (gone, held) {
                (true, _) => Known::Gone,
                (false, true) => Known::Held,
                (false, false) => Known::Home,
            };
            // Bytes that have gone may have come again since: what is here counts.
            let entry = known.entry(digest.0).or_insert(says);
            if says != Known::Gone {
                *entry = says;
            }
        }
        Ok(digests.iter().map(|d| known.get(d).copied().unwrap_or(Known::New)).collect())
    }
}

/// Originals whose time in holding is over, with their owners and hashes, until the end of the transaction nobody else's to change.
async fn due_to_leave(
    c: &mut AsyncPgConnection,
    all: bool,
    now: DateTime<Utc>,
    limit: i64,
) -> Result<Vec<(Uuid, Uuid, HashColumn)>> {
    let due = || {
        let over = held::until.le(now).assume_not_null().and(all.into_sql::<Bool>().or(held::looked_at.is_not_null()));
        held::table.inner_join(original::table).filter(over.and(is_held()))
    };
    loop {
        let few: Vec<Uuid> = due().order((held::until, original::id)).limit(limit).select(original::id).load(c).await?;
        if few.is_empty() {
            return Ok(Vec::new());
        }
        // Whoever takes one back, or deletes it anew, changes its row first.
        let locked = original::table.filter(original::id.eq_any(&few)).order(original::id).for_update();
        locked.select(original::id).load::<Uuid>(c).await?;
        let still: Vec<_> = due()
            .filter(original::id.eq_any(&few))
            .order(original::id)
            .select((original::id, original::person, original::digest))
            .load(c)
            .await?;
        if !still.is_empty() {
            return Ok(still);
        }
    }
}

/// Puts down that something leaves holding then, and looks earlier if it was to look later.
async fn look_at_holding(c: &mut AsyncPgConnection, at: DateTime<Utc>) -> Result<()> {
    wish_now!(values work_row(Kind::Release, HOME, None, 2, at)).execute(c).await?;
    Ok(())
}
