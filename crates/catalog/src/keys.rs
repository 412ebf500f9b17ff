//! Whom things are sealed for, what the last recovery kit said, and what is still sealed for an earlier key.

use chrono::{DateTime, Utc};
use diesel_async::AsyncPgConnection;
use ypogeion_core::{Digest, StoreId, ledger::ObjectRecord};

use crate::{
    Catalog, CatalogError, Result,
    columns::HashColumn,
    db::*,
    signed, unsigned,
    wishes::{ledger_due, ledgers_due, wish_now, work_for},
    work::Kind,
};

/// A public half of a key of the household.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = household_key)]
pub struct OwnKey {
    /// Since when in the order of keys.
    pub epoch: i16,
    /// `age1…`.
    pub recipient: String,
    /// When it was made.
    pub made_at: DateTime<Utc>,
}

/// Somebody else who can open what is sealed.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = other_recipient)]
pub struct OtherRecipient {
    /// `age1…`.
    pub recipient: String,
    /// What people call them.
    pub name: String,
    /// Since when.
    pub added_at: DateTime<Utc>,
}

/// The recovery kit that was shown last.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = kit)]
pub struct ShownKit {
    /// A hash of what it says, without its date.
    pub said: String,
    /// Its last line.
    pub check_word: String,
    /// When it was shown.
    pub shown_at: DateTime<Utc>,
    /// When a part of it was typed back.
    pub proven_at: Option<DateTime<Utc>>,
}

/// All that is known of keys; none of it is secret.
#[derive(Clone, Debug)]
pub struct Sealing {
    /// Raised whenever things are sealed for others than before.
    pub epoch: i16,
    /// The server keeps no key that opens copies.
    pub strict: bool,
    /// The household's own keys, the present one first.
    pub own: Vec<OwnKey>,
    /// The others.
    pub others: Vec<OtherRecipient>,
}

/// An object that is sealed for earlier recipients.
#[derive(Clone, Debug)]
pub struct ToReseal {
    /// Its plaintext.
    pub digest: Digest,
    /// Its name in the store.
    pub name: String,
    /// Its sealed bytes.
    pub size: u64,
}

impl Catalog {
    /// Whom things are sealed for. `first`: the key of a household that had none written down yet.
    pub async fn sealing(&self, first: Option<&str>, now: DateTime<Utc>) -> Result<Sealing> {
        let mut c = self.connection().await?;
        let own = household_key::table.order(household_key::epoch.desc()).select(OwnKey::as_select());
        let mut keys: Vec<OwnKey> = own.load(&mut c).await?;
        if let Some(first) = first.filter(|_| keys.is_empty()) {
            let row = (household_key::epoch.eq(0), household_key::recipient.eq(first), household_key::made_at.eq(now));
            // Somebody else may have written it down meanwhile.
            insert_into(household_key::table).values(row).on_conflict_do_nothing().execute(&mut c).await?;
            keys = own.load(&mut c).await?;
        }
        let house = household::table.select((household::seal_epoch, household::strict));
        let (epoch, strict): (i16, bool) = house.get_result(&mut c).await?;
        let others = other_recipient::table.order((other_recipient::added_at, other_recipient::recipient));
        Ok(Sealing { epoch, strict, own: keys, others: others.select(OtherRecipient::as_select()).load(&mut c).await? })
    }

    /// A new key of the household: from now on things are sealed for it, and what is sealed for earlier ones is sealed anew, over time.
    pub async fn new_key(&self, recipient: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let epoch = raise_epoch(c, now).await?;
            let row = (household_key::epoch.eq(epoch), household_key::recipient.eq(recipient), household_key::made_at.eq(now));
            insert_into(household_key::table).values(row).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// The keys of a household that is rebuilt from its kit, the present one first.
    pub async fn rebuild_keys(&self, recipients: &[String], now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let last = i16::try_from(recipients.len().saturating_sub(1)).unwrap_or(i16::MAX);
        let row = |(epoch, recipient): (i16, &String)| {
            (household_key::epoch.eq(epoch), household_key::recipient.eq(recipient.clone()), household_key::made_at.eq(now))
        };
        let rows: Vec<_> = (0..=last).rev().zip(recipients).map(row).collect();
        let rows = insert_into(household_key::table).values(rows).on_conflict_do_nothing();
        diesel_async::RunQueryDsl::execute(rows, &mut c).await?;
        let raised = household::seal_epoch.eq(greatest(household::seal_epoch, last));
        update(household::table).set(raised).execute(&mut c).await?;
        Ok(())
    }

    /// Adds somebody who can open what is sealed from now on, and what was sealed before once it is sealed anew.
    pub async fn add_recipient(&self, recipient: &str, name: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let row =
                (other_recipient::recipient.eq(recipient), other_recipient::name.eq(name), other_recipient::added_at.eq(now));
            insert_into(other_recipient::table).values(row).execute(c).await?;
            raise_epoch(c, now).await
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Seals for somebody no more. What is sealed for them stays so until it is sealed anew. Returns their name.
    pub async fn remove_recipient(&self, recipient: &str, now: DateTime<Utc>) -> Result<String> {
        let mut c = self.connection().await?;
        let name = whole!(c, {
            let removed = delete(other_recipient::table.find(recipient)).returning(other_recipient::name);
            let name: String = removed.get_result(c).await?;
            raise_epoch(c, now).await?;
            Ok::<_, CatalogError>(name)
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(name)
    }

    /// Whether the server keeps no key that opens copies.
    pub async fn set_strict(&self, strict: bool) -> Result<()> {
        let mut c = self.connection().await?;
        update(household::table).set(household::strict.eq(strict)).execute(&mut c).await?;
        Ok(())
    }

    /// A recovery kit was shown. One that says the same as the last one stays proven, if it was.
    pub async fn kit_shown(&self, said: &str, check_word: &str, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let row = (kit::said.eq(said), kit::check_word.eq(check_word), kit::shown_at.eq(now));
        let still_proven = case_when(kit::said.eq(excluded(kit::said)), kit::proven_at);
        insert_into(kit::table)
            .values(row)
            .on_conflict(kit::one)
            .do_update()
            .set((
                kit::check_word.eq(excluded(kit::check_word)),
                kit::shown_at.eq(excluded(kit::shown_at)),
                kit::said.eq(excluded(kit::said)),
                kit::proven_at.eq(still_proven),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The recovery kit that was shown last.
    pub async fn kit(&self) -> Result<Option<ShownKit>> {
        let mut c = self.connection().await?;
        Ok(kit::table.select(ShownKit::as_select()).get_result(&mut c).await.optional()?)
    }

    /// A part of it was typed back.
    pub async fn kit_proven(&self, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        update(kit::table).set(kit::proven_at.eq(now)).execute(&mut c).await?;
        Ok(())
    }

    /// Objects of a store that are sealed for earlier recipients, the oldest first.
    pub async fn to_reseal(&self, store: StoreId, epoch: i16, limit: i64) -> Result<Vec<ToReseal>> {
        let mut c = self.connection().await?;
        let rows: Vec<(HashColumn, String, i64)> = object::table
            .filter(object::store.eq(store.0).and(object::epoch.lt(epoch)).and(not(object::leaving)))
            .order((object::confirmed_at, object::name))
            .limit(limit)
            .select((object::digest, object::name, object::size))
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(|(digest, name, size)| ToReseal { digest: digest.0, name, size: unsigned(size) }).collect())
    }

    /// How many objects are sealed for earlier recipients, in all stores, and their bytes.
    pub async fn left_to_reseal(&self, epoch: i16) -> Result<(u64, u64)> {
        let mut c = self.connection().await?;
        let (n, bytes): (i64, i64) = object::table
            .inner_join(store::table)
            .filter(store::sealed.and(object::epoch.lt(epoch)).and(not(object::leaving)))
            .select((count_star(), total(object::size)))
            .get_result(&mut c)
            .await?;
        Ok((unsigned(n), unsigned(bytes)))
    }

    /// Whether earlier keys of the household open something that no later one does: an object, or a ledger.
    pub async fn needs_earlier_keys(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let present = household::table.select(household::seal_epoch).single_value().assume_not_null();
        let earlier = object::table.filter(object::store.eq(store::id).and(object::epoch.lt(present))).select(object::name);
        let needing = store::table.filter(store::sealed.and(store::checkpoint_due.or(exists(earlier))));
        Ok(select(exists(needing.select(store::id))).get_result(&mut c).await?)
    }

    /// An object was sealed anew under another name: the ledger is to name that one, and the one before goes once it does.
    pub async fn resealed(
        &self,
        store: StoreId,
        (digest, before): (Digest, &str),
        object: &ObjectRecord,
        epoch: i16,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let replaced =
                object::table.find((store.0, HashColumn(digest))).filter(object::name.eq(before).and(not(object::leaving)));
            let changed = update(replaced)
                .set((
                    object::name.eq(&object.name),
                    object::size.eq(signed(object.size)),
                    object::sealed_hash.eq(object.hash.as_bytes().as_slice()),
                    object::sealed_algorithm.eq(object.hash.algorithm().word()),
                    object::epoch.eq(epoch),
                ))
                .execute(c)
                .await?;
            // Meanwhile it was found bad and is sent again, or it is being removed: then the new object is the one too many.
            let superseded = if changed == 0 { object.name.as_str() } else { before };
            // After a rebuilding it may have been sealed anew under the name that it had: then nothing is too many.
            let in_use = object::table.filter(object::store.eq(store.0).and(object::name.eq(superseded)));
            if !select(exists(in_use.select(object::name))).get_result::<bool>(c).await? {
                let row = (
                    superseded::store.eq(store.0),
                    superseded::name.eq(superseded),
                    superseded::digest.eq(HashColumn(digest)),
                    superseded::at.eq(now),
                );
                insert_into(superseded::table).values(row).on_conflict_do_nothing().execute(c).await?;
            }
            if changed > 0 {
                let these = original::table.filter(original::digest.eq(HashColumn(digest))).select(original::id);
                let listed = standing::table.filter(standing::place.eq(store.0).and(standing::original.eq_any(these)));
                update(listed).set(standing::listed.eq(false)).execute(c).await?;
            }
            ledger_due(c, store, now).await
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Objects that the ledger of a store has stopped naming, because they were sealed anew.
    pub async fn superseded(&self, store: StoreId, limit: i64) -> Result<Vec<String>> {
        let mut c = self.connection().await?;
        // It may have become the one in use again.
        let in_use = object::table.filter(object::store.eq(superseded::store).and(object::name.eq(superseded::name)));
        let unlisted = standing::table.inner_join(original::table).filter(
            standing::place
                .eq(superseded::store)
                .and(original::digest.eq(superseded::digest))
                .and(standing::good)
                .and(not(standing::listed)),
        );
        Ok(superseded::table
            .filter(superseded::store.eq(store.0))
            .filter(not(exists(in_use.select(object::name))))
            .filter(not(exists(unlisted.select(standing::original))))
            .order((superseded::at, superseded::name))
            .limit(limit)
            .select(superseded::name)
            .load(&mut c)
            .await?)
    }

    /// How many of those a store still has.
    pub async fn superseded_left(&self, store: StoreId) -> Result<u64> {
        let mut c = self.connection().await?;
        Ok(unsigned(superseded::table.filter(superseded::store.eq(store.0)).count().get_result(&mut c).await?))
    }

    /// One of them is gone.
    pub async fn superseded_gone(&self, store: StoreId, name: &str) -> Result<()> {
        let mut c = self.connection().await?;
        delete(superseded::table.find((store.0, name))).execute(&mut c).await?;
        Ok(())
    }
}

async fn raise_epoch(c: &mut AsyncPgConnection, now: DateTime<Utc>) -> Result<i16> {
    let raised = update(household::table).set(household::seal_epoch.eq(household::seal_epoch + 1));
    let epoch: i16 = raised.returning(household::seal_epoch).get_result(c).await?;
    // Its ledger is said once more, too, for those who open it from now on.
    update(store::table.filter(store::sealed.and(store::ledger_segment.gt(0))))
        .set((store::checkpoint_due.eq(true), store::said.eq(None::<Vec<u8>>)))
        .execute(c)
        .await?;
    ledgers_due(c, now).await?;
    let all = store::table.order(store::id).select(work_for!(Kind::Reseal, store::id, store::id.nullable(), 0, now));
    wish_now!(from all).execute(c).await?;
    Ok(epoch)
}
