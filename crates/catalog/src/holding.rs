//! What was deleted: into holding, and back out of it. [`crate::removal`] is where it goes after its time.

use chrono::{DateTime, Utc};
use diesel::alias;
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    OriginalId, PersonId,
    deletion::{Facts, Stage, Step, StoreHasIt},
    filing::FiledPath,
    layers::{Act, Observation, Outcome, Place},
    retention::Retention,
    turn::Turn,
};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, PathColumn},
    db::*,
    evidence::{HOME, observe_in},
    shots::lock_shots,
    unsigned,
    wishes::{due_for, ledgers_due, no_store, wish_now, work_for, work_row},
    work::Kind,
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
    /// How somebody turned it.
    pub turn: Turn,
    /// Thumbhash, base64.
    pub placeholder: Option<String>,
    /// Who deleted it.
    pub deleted_by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// When it leaves holding, or, once it has, the last store that has it; none: never.
    pub until: Option<DateTime<Utc>>,
    /// Where it stands: in holding, or, once it has left the home disk, in stores alone.
    pub stage: Stage,
}

#[derive(Queryable)]
struct HeldRow {
    id: Uuid,
    was_at: String,
    kind: String,
    size: i64,
    preview: String,
    quarters: Option<i16>,
    placeholder: Option<String>,
    deleted_by: String,
    at: DateTime<Utc>,
    until: Option<DateTime<Utc>>,
    gone_at: Option<DateTime<Utc>>,
    named: bool,
}

impl From<HeldRow> for Held {
    fn from(r: HeldRow) -> Self {
        // Those that no store has are not among them.
        let facts = Facts { deleted: true, released: r.gone_at.is_some(), named: r.named, in_stores: true };
        Held {
            id: OriginalId(r.id),
            was_at: r.was_at,
            kind: r.kind,
            size: unsigned(r.size),
            preview: r.preview,
            turn: Turn::of(r.quarters.unwrap_or_default().into()),
            placeholder: r.placeholder,
            deleted_by: r.deleted_by,
            at: r.at,
            until: r.until,
            stage: Stage::of(facts),
        }
    }
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
    /// Where it stands.
    pub stage: Stage,
}

/// The stores' ledgers are to say what is known of these originals now, and their files are to follow. First what is known, then the work, as
/// everybody does who changes both.
pub(crate) async fn settle_soon(c: &mut AsyncPgConnection, ids: &[Uuid], now: DateTime<Utc>) -> Result<()> {
    let in_stores = standing::table.filter(standing::place.ne(HOME).and(standing::original.eq_any(ids)));
    update(in_stores).set(standing::listed.eq(false)).execute(c).await?;
    ledgers_due(c, now).await?;
    let these = original::table.filter(original::id.eq_any(ids)).order(original::id);
    wish_now!(from these.select(work_for!(Kind::Hold, original::id, no_store(), 19, now))).execute(c).await?;
    Ok(())
}

/// In holding, and still on the home disk.
pub(crate) fn is_held() -> diesel::dsl::And<diesel::dsl::IsNotNull<original::held_at>, diesel::dsl::IsNull<original::gone_at>> {
    original::held_at.is_not_null().and(original::gone_at.is_null())
}

/// Devices of a member that offer these bytes are told this of them, from now on.
pub(crate) async fn tell_devices(
    c: &mut AsyncPgConnection,
    person: PersonId,
    of: &[HashColumn],
    refused: Option<&str>,
) -> Result<()> {
    let own = device::table.filter(device::person.eq(person.0)).select(device::id);
    let named = sighting::table.filter(sighting::digest.eq_any(of).and(sighting::device.eq_any(own)));
    update(named).set(sighting::refused.eq(refused)).execute(c).await?;
    Ok(())
}

impl Catalog {
    /// The household's rule for what was deleted.
    pub async fn retention(&self) -> Result<Retention> {
        let mut c = self.connection().await?;
        let rule = household::table.select((household::home_days, household::offsite_days, household::safety_stop_percent));
        let (home, offsite, percent): (Option<i16>, i16, i16) = rule.get_result(&mut c).await?;
        Ok(Retention {
            home_days: home.map(i16::unsigned_abs),
            offsite_days: offsite.unsigned_abs(),
            safety_stop_percent: u8::try_from(percent).unwrap_or(Retention::default().safety_stop_percent),
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
                household::safety_stop_percent.eq(i16::from(rule.safety_stop_percent)),
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
                .load(c)
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
                let rows = insert_into(held::table)
                    .values(some.iter().map(row).collect::<Vec<_>>())
                    .on_conflict(held::original)
                    .do_update()
                    .set((
                        held::deleted_by.eq(excluded(held::deleted_by)),
                        held::at.eq(excluded(held::at)),
                        held::until.eq(excluded(held::until)),
                        held::looked_at.eq(None::<DateTime<Utc>>),
                    ));
                diesel_async::RunQueryDsl::execute(rows, c).await?;
            }
            let digests: Vec<HashColumn> = whole.iter().map(|(.., digest)| *digest).collect();
            tell_devices(c, person, &digests, Stage::Held.told()).await?;
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
                given_turn::table.filter(given_turn::original.eq(original::id)).select(given_turn::quarters).single_value(),
                original::placeholder,
                held::deleted_by,
                held::at,
                until,
                original::gone_at,
                original::folded.is_not_null(),
            ))
            .into_boxed();
        if let Some((at, id)) = after {
            // The moment by itself is where an index begins.
            which = which.filter(held::at.le(at)).filter(held::at.lt(at).or(held::original.lt(id.0)));
        }
        let mut c = self.connection().await?;
        let rows: Vec<HeldRow> = which.load(&mut c).await?;
        Ok(rows.into_iter().map(Held::from).collect())
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
                .load(c)
                .await?;
            let (ids, digests): (Vec<Uuid>, Vec<HashColumn>) = back.into_iter().unzip();
            tell_devices(c, person, &digests, Stage::Living.told()).await?;
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
        match self.take_back_unless_again(id, path, now).await {
            // The same bytes landed between the look and the change. Looked at once more, they are seen; if it was the name, it is taken.
            Err(CatalogError::Taken) => self.take_back_unless_again(id, path, now).await,
            said => said,
        }
    }

    async fn take_back_unless_again(&self, id: OriginalId, path: &FiledPath, now: DateTime<Utc>) -> Result<bool> {
        let mut c = self.connection().await?;
        let back = whole!(c, {
            // Whoever removes the object from its store locks both rows as well, in this order: one of the two is first.
            let gone = original::table.find(id.0).filter(original::gone_at.is_not_null());
            let known = (original::person, original::digest, original::folded.is_not_null());
            let row: Option<(Uuid, HashColumn, bool)> = gone.for_update().select(known).get_result(c).await.optional()?;
            let Some((person, digest, named)) = row else { return Ok(false) };
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
            let stage = Stage::of(Facts { deleted: true, released: true, named, in_stores: can.0 });
            let back = StoreHasIt::ask(can.0, can.1).and_then(|has| stage.after(Step::FetchBack(has)));
            if back != Some(Stage::Living) {
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
            tell_devices(c, PersonId(person), &[digest], Stage::Living.told()).await?;
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

    /// Originals of a member leave holding now, as far as the safety stop lets them. Returns how many.
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

    /// Where an original is and where it should be; none if it was never deleted, or is settled.
    pub async fn to_settle(&self, id: OriginalId) -> Result<Option<ToSettle>> {
        type Row = (PathColumn, Option<PathColumn>, PathColumn, bool, bool, bool, bool);
        let copies = standing::table.filter(standing::original.eq(original::id).and(standing::place.ne(HOME)));
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
                original::folded.is_not_null(),
                exists(copies.select(standing::place)),
            ))
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|(path, moving_to, was_at, deleted, released, named, in_stores)| ToSettle {
            path: path.0,
            moving_to: moving_to.map(|p| p.0),
            was_at: was_at.0,
            stage: Stage::of(Facts { deleted, released, named, in_stores }),
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
}

/// Puts down that something leaves holding then, and looks earlier if it was to look later.
pub(crate) async fn look_at_holding(c: &mut AsyncPgConnection, at: DateTime<Utc>) -> Result<()> {
    wish_now!(values work_row(Kind::Release, HOME, None, 2, at)).execute(c).await?;
    Ok(())
}
