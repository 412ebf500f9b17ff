//! What stores have confirmed: an object for each picture's bytes.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::sql_types::{Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, PersonId, StoreId,
    checksum::{HashAlgorithm, ObjectHash},
    layers::{Act, Observation, Outcome, Place},
    ledger::ObjectRecord,
};

use crate::{
    Catalog, CatalogError, Result,
    columns::{HashColumn, WordColumn},
    db::*,
    evidence::observe_in,
    history::hour_of,
    originals::Touched,
    signed,
    stores::exposure_of,
    unsigned,
    wishes::{ledger_due, wish, work_for},
    work::Kind,
};

/// What a store confirmed for these bytes, if it is not just being removed.
macro_rules! object_of {
    ($store:expr, $digest:expr) => {
        object::table.find(($store.0, HashColumn($digest))).filter(not(object::leaving))
    };
}

/// What a store has confirmed of these bytes now; what it confirmed before is not what it has any more.
pub(crate) async fn insert_object(
    c: &mut AsyncPgConnection,
    store: StoreId,
    digest: Digest,
    object: &ObjectRecord,
    (at, epoch): (DateTime<Utc>, i16),
) -> Result<()> {
    let row = (
        object::store.eq(store.0),
        object::digest.eq(HashColumn(digest)),
        object::name.eq(&object.name),
        object::size.eq(signed(object.size)),
        object::sealed_hash.eq(object.hash.as_bytes().as_slice()),
        object::sealed_algorithm.eq(object.hash.algorithm().word()),
        object::confirmed_at.eq(at),
        object::epoch.eq(epoch),
    );
    insert_into(object::table)
        .values(row)
        .on_conflict((object::store, object::digest))
        .do_update()
        .set((
            object::name.eq(excluded(object::name)),
            object::size.eq(excluded(object::size)),
            object::sealed_hash.eq(excluded(object::sealed_hash)),
            object::sealed_algorithm.eq(excluded(object::sealed_algorithm)),
            object::confirmed_at.eq(excluded(object::confirmed_at)),
            object::epoch.eq(excluded(object::epoch)),
        ))
        .execute(c)
        .await?;
    Ok(())
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = object)]
struct ObjectRow {
    name: String,
    size: i64,
    sealed_hash: Vec<u8>,
    sealed_algorithm: WordColumn<HashAlgorithm>,
    epoch: i16,
}

impl ObjectRow {
    fn told(self) -> Result<(ObjectRecord, i16)> {
        let hash = ObjectHash::new(self.sealed_algorithm.0, &self.sealed_hash);
        let hash = hash.map_err(|e| diesel::result::Error::DeserializationError(format!("{}: {e}", self.name).into()))?;
        Ok((ObjectRecord { name: self.name, size: unsigned(self.size), hash }, self.epoch))
    }
}

impl Catalog {
    /// The object that a store has confirmed for these bytes.
    pub async fn object(&self, store: StoreId, digest: Digest) -> Result<Option<ObjectRecord>> {
        Ok(self.object_of_epoch(store, digest).await?.map(|(object, _)| object))
    }

    /// The same with the epoch that it was sealed in.
    pub async fn object_of_epoch(&self, store: StoreId, digest: Digest) -> Result<Option<(ObjectRecord, i16)>> {
        let mut c = self.connection().await?;
        let row: Option<ObjectRow> =
            object_of!(store, digest).select(ObjectRow::as_select()).get_result(&mut c).await.optional()?;
        row.map(ObjectRow::told).transpose()
    }

    /// The store has confirmed an object: its row, the observation for every original with these bytes, and the work that
    /// follows (the ledger at `ledger_at`, and reading it back at `prove_at`), in one transaction. Returns these originals.
    pub async fn confirm(
        &self,
        store: StoreId,
        digest: Digest,
        object: &ObjectRecord,
        (at, epoch): (DateTime<Utc>, i16),
        (ledger_at, prove_at): (DateTime<Utc>, DateTime<Utc>),
    ) -> Result<Vec<Touched>> {
        let mut c = self.connection().await?;
        let confirmed = whole!(c, {
            insert_object(c, store, digest, object, (at, epoch)).await?;
            let same = original::table.filter(original::digest.eq(HashColumn(digest)).and(original::gone_at.is_null()));
            let owned = same.order(original::id).select((original::person, original::id, original::taken_local));
            let owned: Vec<(Uuid, Uuid, NaiveDateTime)> = owned.load(c).await?;
            let sharing: Vec<Uuid> = owned.iter().map(|(_, id, _)| *id).collect();
            let seen = Observation { place: Place::Store(store), act: Act::Confirmed, at, digest: None, outcome: Outcome::Right };
            for original in &sharing {
                observe_in(c, OriginalId(*original), digest, &seen).await?;
            }
            // It has a copy away from home now: others that have none go first, to whichever store.
            let is_away = store::table.find(store.0).filter(store::away).select(store::id);
            let sending = job::kind.eq(Kind::Replicate.word()).and(job::key.eq_any(&sharing)).and(job::priority.gt(8));
            update(job::table.filter(sending.and(exists(is_away)))).set(job::priority.eq(8)).execute(c).await?;
            let unlisted = standing::table.filter(standing::place.eq(store.0).and(standing::original.eq_any(&sharing)));
            update(unlisted).set(standing::listed.eq(false)).execute(c).await?;
            ledger_due(c, store, ledger_at).await?;
            let there = Some(store.0).into_sql::<Nullable<SqlUuid>>();
            let these = original::table.filter(original::id.eq_any(&sharing)).order(original::id);
            wish!(from these.select(work_for!(Kind::Prove, original::id, there, 0, prove_at))).execute(c).await?;
            // Last: whatever else goes to this store within the hour waits for this row.
            insert_into(traffic::table)
                .values((
                    traffic::store.eq(store.0),
                    traffic::hour.eq(hour_of(at)),
                    traffic::objects.eq(1),
                    traffic::bytes.eq(signed(object.size)),
                ))
                .on_conflict((traffic::store, traffic::hour))
                .do_update()
                .set((traffic::objects.eq(traffic::objects + 1), traffic::bytes.eq(traffic::bytes + excluded(traffic::bytes))))
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(owned)
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Prove]);
        let touched = |(person, id, taken_local)| Touched { person: PersonId(person), id: OriginalId(id), taken_local };
        Ok(confirmed.into_iter().map(touched).collect())
    }

    /// An object was read back and was not what it should be: it is to be sent again.
    pub async fn send_again(&self, store: StoreId, digest: Digest, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            delete(object::table.find((store.0, HashColumn(digest)))).execute(c).await?;
            let at = Some(store.0).into_sql::<Nullable<SqlUuid>>();
            let same = original::table.filter(original::digest.eq(HashColumn(digest)).and(original::gone_at.is_null()));
            let these = same.order(original::id).select((
                Kind::Replicate.word().into_sql::<Text>(),
                original::id,
                at,
                exposure_of!(original::id, 1),
                now.into_sql::<Timestamptz>(),
            ));
            wish!(from these).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Replicate]);
        Ok(())
    }
}
