//! Stores: where they are, how they do, what they hold.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, PersonId, StoreId,
    amount::Amount,
    copies::{self, Medium},
    cost::Prices,
    kit::StoreAddress,
    layers::{Act, Observation, Outcome, Place},
    ledger::{LedgerEnd, ObjectRecord, SegmentRef, StoreRecord},
    window::{Pace, Week},
};

use crate::{
    Catalog, CatalogError, Connection, Prepare, Result,
    columns::HashColumn,
    db::*,
    evidence::observe_in,
    history::hour_of,
    numbers::{amount, next_day},
    originals::{OriginalRow, Touched},
    signed, unsigned,
    work::{Kind, ledger_due, wish, work_for},
};

/// A store and how it does.
#[derive(Clone, Debug)]
pub struct StoreRow {
    /// Its id.
    pub id: StoreId,
    /// Where it is and how to sign in.
    pub address: StoreAddress,
    /// Why nothing is sent until the keeper has done something.
    pub stopped: Option<String>,
    /// Why the last attempt failed.
    pub failing: Option<String>,
    /// When the next attempt is.
    pub retry_at: Option<DateTime<Utc>>,
    /// Faults in a row.
    pub faults: u32,
    /// Number of the last ledger segment.
    pub ledger_segment: u64,
    /// That segment, if it is known to the byte: those of an earlier version are not.
    pub ledger_end: Option<LedgerEnd>,
    /// Up to which of them its last checkpoint goes.
    pub checkpoint: u64,
    /// Whether the next segment is to be followed by one in any case.
    pub checkpoint_due: bool,
    /// The last line of the house's record that its ledger has.
    pub recorded: u64,
    /// The keeper has it wait.
    pub paused: bool,
    /// When, and how fast, copies go there.
    pub week: Week,
    /// Whether it is away from home.
    pub away: bool,
    /// What it asks for.
    pub prices: Prices,
    /// Whether it was seen to notice bytes that changed on their way.
    pub notices: bool,
    /// The week as it is written, to tell whether it has been changed since.
    written: serde_json::Value,
}

/// What a keeper changes about a store. What is `None` stays.
#[derive(Clone, Debug, Default)]
pub struct StoreSettings {
    /// It waits.
    pub paused: Option<bool>,
    /// When, and how fast, copies go there.
    pub week: Option<Week>,
    /// It is away from home.
    pub away: Option<bool>,
    /// What it asks for.
    pub prices: Option<Prices>,
}

impl StoreRow {
    /// What it lies on, and whether that is away from home.
    pub fn copy(&self) -> copies::Copy {
        copies::Copy { medium: if self.address.disk().is_some() { Medium::Disk } else { Medium::Network }, away: self.away }
    }

    /// Why nothing can be had from the store just now, or sent there; `local` is what a clock on the wall of the house shows.
    pub fn waits_for(&self, local: NaiveDateTime) -> Option<String> {
        match () {
            () if self.paused => Some("the store is paused".to_owned()),
            () if self.week.at(local) == Pace::Rest => Some("its hours of rest".to_owned()),
            () => self.stopped.clone().or_else(|| self.failing.clone()),
        }
    }
}

/// A store in numbers.
#[derive(Clone, Copy, Debug, Default)]
pub struct StoreNumbers {
    /// Confirmed there.
    pub held: Amount,
    /// Of these, read back lately.
    pub proven: Amount,
    /// Good at home and not there.
    pub to_go: Amount,
    /// Confirmed and not in the ledger.
    pub unlisted: u64,
    /// When it last took a copy.
    pub confirmed_at: Option<DateTime<Utc>>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = store)]
struct Row {
    id: Uuid,
    name: String,
    endpoint: String,
    region: String,
    bucket: String,
    prefix: String,
    access_key: String,
    secret_key: String,
    stopped: Option<String>,
    failing: Option<String>,
    retry_at: Option<DateTime<Utc>>,
    faults: i32,
    ledger_segment: i64,
    ledger_name: Option<String>,
    ledger_digest: Option<HashColumn>,
    paused: bool,
    week: serde_json::Value,
    away: bool,
    prices: serde_json::Value,
    notices: bool,
    checkpoint: i64,
    checkpoint_due: bool,
    sealed: bool,
    certificate: Option<HashColumn>,
    recorded: i64,
}

/// Of a store whose hours cannot be read.
const UNREAD_WEEK: &str = "the hours in which copies may go there cannot be read any more; choose them anew";

impl From<Row> for StoreRow {
    fn from(r: Row) -> Self {
        // Written by this program. One that is not understood holds everything back until somebody chooses another.
        let week: Option<Week> = serde_json::from_value(r.week.clone()).ok();
        StoreRow {
            id: StoreId(r.id),
            address: StoreAddress {
                name: r.name,
                endpoint: r.endpoint,
                region: r.region,
                bucket: r.bucket,
                prefix: r.prefix,
                access_key: r.access_key,
                secret_key: r.secret_key,
                sealed: r.sealed,
                certificate: r.certificate.map(|d| d.0),
            },
            stopped: r.stopped.or_else(|| week.is_none().then(|| UNREAD_WEEK.to_owned())),
            failing: r.failing,
            retry_at: r.retry_at,
            faults: u32::try_from(r.faults).unwrap_or(0),
            ledger_segment: unsigned(r.ledger_segment),
            ledger_end: r
                .ledger_name
                .zip(r.ledger_digest)
                .and_then(|(name, digest)| LedgerEnd::of(SegmentRef { name, sha256: digest.0 })),
            checkpoint: unsigned(r.checkpoint),
            checkpoint_due: r.checkpoint_due,
            recorded: unsigned(r.recorded),
            paused: r.paused,
            week: week.unwrap_or(Week { windows: Vec::new(), otherwise: Pace::Rest }),
            written: r.week,
            away: r.away,
            notices: r.notices,
            prices: serde_json::from_value(r.prices).unwrap_or_default(),
        }
    }
}

#[derive(QueryableByName)]
struct NumbersRow {
    #[diesel(sql_type = BigInt)]
    held: i64,
    #[diesel(sql_type = BigInt)]
    held_bytes: i64,
    #[diesel(sql_type = BigInt)]
    proven: i64,
    #[diesel(sql_type = BigInt)]
    proven_bytes: i64,
    #[diesel(sql_type = BigInt)]
    to_go: i64,
    #[diesel(sql_type = BigInt)]
    to_go_bytes: i64,
    #[diesel(sql_type = BigInt)]
    unlisted: i64,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    confirmed_at: Option<DateTime<Utc>>,
}

fn json(value: &impl serde::Serialize) -> serde_json::Value {
    serde_json::to_value(value).expect("times, numbers and text")
}

/// How urgent it is to send an original `o` anywhere: what has no copy away from home comes first.
pub(crate) const EXPOSURE: &str = "CASE WHEN EXISTS (
    SELECT 1 FROM standing e JOIN store a ON a.id = e.place AND a.away WHERE e.original = o.id AND e.good) THEN 8 ELSE 13 END";

/// The same for Diesel's builder; `$more`: so much is added.
macro_rules! exposure_of {
    ($original:expr, $more:expr) => {{
        let away = standing::table
            .inner_join(store::table.on(store::id.eq(standing::place).and(store::away)))
            .filter(standing::original.eq($original).and(standing::good));
        case_when(exists(away.select(standing::original)), (8 + $more).into_sql::<diesel::sql_types::Integer>())
            .otherwise((13 + $more).into_sql::<diesel::sql_types::Integer>())
    }};
}

/// What a store confirmed for these bytes, if it is not just being removed.
macro_rules! object_of {
    ($store:expr, $digest:expr) => {
        object::table.find(($store.0, HashColumn($digest))).filter(not(object::leaving))
    };
}

async fn insert_store(
    c: &mut AsyncPgConnection,
    id: StoreId,
    address: &StoreAddress,
    (away, notices): (bool, bool),
    now: DateTime<Utc>,
) -> Result<()> {
    let row = (
        store::id.eq(id.0),
        store::name.eq(&address.name),
        store::endpoint.eq(&address.endpoint),
        store::region.eq(&address.region),
        store::bucket.eq(&address.bucket),
        store::prefix.eq(&address.prefix),
        store::access_key.eq(&address.access_key),
        store::secret_key.eq(&address.secret_key),
        store::created_at.eq(now),
        store::away.eq(away),
        store::sealed.eq(address.sealed),
        store::notices.eq(notices),
        store::certificate.eq(address.certificate.map(HashColumn)),
    );
    insert_into(store::table).values(row).execute(c).await?;
    Ok(())
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
        object::sealed_digest.eq(HashColumn(object.sha256)),
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
            object::sealed_digest.eq(excluded(object::sealed_digest)),
            object::confirmed_at.eq(excluded(object::confirmed_at)),
            object::epoch.eq(excluded(object::epoch)),
        ))
        .execute(c)
        .await?;
    Ok(())
}

impl Catalog {
    /// Adds a store, and the work of sending it everything that is at home.
    /// `away`: whether it is away from home.
    /// `notices`: whether it was seen to notice bytes that changed on their way; if not, each copy is read again before it counts.
    pub async fn add_store(
        &self,
        id: StoreId,
        address: &StoreAddress,
        (away, notices): (bool, bool),
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            insert_store(c, id, address, (away, notices), now).await?;
            let at = Some(id.0).into_sql::<Nullable<SqlUuid>>();
            let all = original::table.filter(is_living()).order(original::landed_at).select((
                Kind::Replicate.word().into_sql::<Text>(),
                original::id,
                at,
                exposure_of!(original::id, 0),
                now.into_sql::<Timestamptz>(),
            ));
            wish!(from all).execute(c).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Adds a store whose ledger says what it has: nothing is to be sent there before that has been read.
    /// `told`: what its keeper had decided for it; without, it is taken for one that is away and notices nothing.
    pub async fn rebuild_store(
        &self,
        id: StoreId,
        address: &StoreAddress,
        told: Option<&StoreRecord>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            insert_store(c, id, address, told.map_or((true, false), |t| (t.away, t.notices)), now).await?;
            if let Some(told) = told {
                let decided =
                    (store::week.eq(json(&told.week)), store::prices.eq(json(&told.prices)), store::paused.eq(told.paused));
                update(store::table.find(id.0)).set(decided).execute(c).await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// All stores, in the order in which they were added.
    pub async fn stores(&self) -> Result<Vec<StoreRow>> {
        let mut c = self.connection().await?;
        let all = store::table.order((store::created_at, store::id)).select(Row::as_select());
        Ok(all.load(&mut c).await?.into_iter().map(StoreRow::from).collect())
    }

    /// One store.
    pub async fn store(&self, id: StoreId) -> Result<StoreRow> {
        let mut c = self.connection().await?;
        Ok(store::table.find(id.0).select(Row::as_select()).get_result(&mut c).await?.into())
    }

    /// Notes a passing fault: nothing is sent to the store before `retry_at`. Faults that others met at the same time
    /// count once.
    pub async fn store_failing(&self, id: StoreId, reason: &str, now: DateTime<Utc>, retry_at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let tried = store::retry_at.is_null().or(store::retry_at.le(now).assume_not_null());
        update(store::table.find(id.0).filter(tried))
            .set((store::failing.eq(reason), store::retry_at.eq(retry_at), store::faults.eq(store::faults + 1)))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Notes that nothing more is to be sent until the keeper has done something.
    pub async fn store_stopped(&self, id: StoreId, reason: &str) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(id.0)).set(store::stopped.eq(reason)).execute(&mut c).await?;
        Ok(())
    }

    /// Notes that the store answers as it should. Writes nothing if that is known.
    pub async fn store_well(&self, id: StoreId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let was_not = store::table.find(id.0).filter(store::failing.is_not_null().or(store::faults.gt(0)));
        let news = update(was_not)
            .set((store::failing.eq(None::<String>), store::retry_at.eq(None::<DateTime<Utc>>), store::faults.eq(0)))
            .execute(&mut c)
            .await?;
        if news > 0 {
            self.heal_now(&mut c, now).await?;
        }
        Ok(())
    }

    /// A key is lent: what waited for one to be made good is tried now.
    pub async fn heal_with_key(&self, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        self.heal_now(&mut c, now).await
    }

    /// A store can be reached again: what waited to be made good from it is tried now.
    async fn heal_now(&self, c: &mut Connection, now: DateTime<Utc>) -> Result<()> {
        update(job::table.filter(job::kind.eq(Kind::Heal.word()).and(not(job::gave_up))))
            .set((job::wishes.eq(job::wishes + 1), job::due.eq(least(job::due, now))))
            .execute(c)
            .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Changes how a store is sent to, what it asks for, where it is. Wakes the workers.
    pub async fn change_store(&self, id: StoreId, change: &StoreSettings, now: DateTime<Utc>) -> Result<()> {
        #[derive(Clone, AsChangeset)]
        #[diesel(table_name = store)]
        struct Change {
            paused: Option<bool>,
            week: Option<serde_json::Value>,
            away: Option<bool>,
            prices: Option<serde_json::Value>,
            /// The outer one: whether it changes at all.
            rest_until: Option<Option<DateTime<Utc>>>,
        }
        let said_when = change.paused.is_some() || change.week.is_some();
        let row = Change {
            paused: change.paused,
            week: change.week.as_ref().map(json),
            away: change.away,
            prices: change.prices.as_ref().map(json),
            rest_until: said_when.then_some(None),
        };
        let nothing = !said_when && change.away.is_none() && change.prices.is_none();
        let mut c = self.connection().await?;
        whole!(c, {
            store::table.find(id.0).select(store::id).for_update().get_result::<Uuid>(c).await?;
            if !nothing {
                update(store::table.find(id.0)).set(row.clone()).execute(c).await?;
            }
            if change.away.is_some() {
                // What had its only copy away from home in there has none now, or the other way round.
                let sending = job::table.filter(job::kind.eq(Kind::Replicate.word()).and(job::priority.eq_any([8, 13])));
                update(sending.filter(job::priority.ne(exposure_of!(job::key, 0))))
                    .set(job::priority.eq(exposure_of!(job::key, 0)))
                    .execute(c)
                    .await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.heal_now(&mut c, now).await
    }

    /// What a trial has seen: whether a store notices bytes that changed on their way.
    pub async fn set_store_notices(&self, id: StoreId, notices: bool) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(id.0)).set(store::notices.eq(notices)).execute(&mut c).await?;
        Ok(())
    }

    /// Keeps a store's secret in another form.
    pub async fn set_store_secret(&self, id: StoreId, secret: &str) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(id.0)).set(store::secret_key.eq(secret)).execute(&mut c).await?;
        Ok(())
    }

    /// Nothing goes to a store before then, because its week says so; the week that `store` was read with: if the keeper has changed it
    /// meanwhile, it says nothing any more.
    pub async fn store_rests(&self, row: &StoreRow, until: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let unchanged = store::table.find(row.id.0).filter(store::week.eq(&row.written));
        update(unchanged).set(store::rest_until.eq(until)).execute(&mut c).await?;
        Ok(())
    }

    /// Goes on after a stop, with new keys if they are given. Wakes the workers.
    pub async fn resume_store(
        &self,
        id: StoreId,
        access_key: Option<&str>,
        secret_key: Option<&str>,
        certificate: Option<Digest>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        #[derive(AsChangeset)]
        #[diesel(table_name = store)]
        struct Credentials<'a> {
            access_key: Option<&'a str>,
            secret_key: Option<&'a str>,
            certificate: Option<HashColumn>,
        }
        let mut c = self.connection().await?;
        let found = update(store::table.find(id.0))
            .set((
                store::stopped.eq(None::<String>),
                store::failing.eq(None::<String>),
                store::retry_at.eq(None::<DateTime<Utc>>),
                store::faults.eq(0),
                Credentials { access_key, secret_key, certificate: certificate.map(HashColumn) },
            ))
            .execute(&mut c)
            .await?;
        if found == 0 {
            return Err(CatalogError::NotFound);
        }
        self.heal_now(&mut c, now).await
    }

    /// A store's ledger has a checkpoint up to this segment. Another one is due if [`Catalog::say_all_again`] was called while it was written.
    pub async fn checkpoint_written(&self, store: StoreId, number: u64) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(store.0))
            .set((
                store::checkpoint.eq(greatest(store::checkpoint, signed(number))),
                store::checkpoint_due.eq(store::said.is_null()),
            ))
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The object that a store has confirmed for these bytes.
    pub async fn object(&self, store: StoreId, digest: Digest) -> Result<Option<ObjectRecord>> {
        Ok(self.object_of_epoch(store, digest).await?.map(|(object, _)| object))
    }

    /// The same with the epoch that it was sealed in.
    pub async fn object_of_epoch(&self, store: StoreId, digest: Digest) -> Result<Option<(ObjectRecord, i16)>> {
        let mut c = self.connection().await?;
        let row: Option<(String, i64, HashColumn, i16)> = object_of!(store, digest)
            .select((object::name, object::size, object::sealed_digest, object::epoch))
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(row.map(|(name, size, sealed, epoch)| (ObjectRecord { name, size: unsigned(size), sha256: sealed.0 }, epoch)))
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
            Ok::<_, CatalogError>(owned)
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Prove]);
        let touched = |(person, id, taken_local)| Touched { person: PersonId(person), id: OriginalId(id), taken_local };
        Ok(confirmed.into_iter().map(touched).collect())
    }

    /// A ledger segment is in the store: the originals in it are listed as they were written, and its number is used up. One whose row
    /// has changed in any way since it was read stays to be written.
    /// `said`: the hash of what it said of the household.
    pub async fn segment_written(
        &self,
        store: StoreId,
        number: u64,
        written: &[OriginalRow],
        (said, end): (Option<Digest>, Option<&SegmentRef>),
        recorded: u64,
    ) -> Result<()> {
        #[derive(Clone, AsChangeset)]
        #[diesel(table_name = store)]
        struct Said {
            said: Option<HashColumn>,
            ledger_name: Option<String>,
            ledger_digest: Option<HashColumn>,
        }
        let said = Said {
            said: said.map(HashColumn),
            ledger_name: end.map(|e| e.name.clone()),
            ledger_digest: end.map(|e| HashColumn(e.sha256)),
        };
        let mut c = self.connection().await?;
        whole!(c, {
            // Text: joined with rows that are handed in, by a column that every table has and none declares.
            sql_query(
                "UPDATE standing s SET listed = true FROM unnest($2, $3) AS w (id, version), original o
                 WHERE s.place = $1 AND s.original = w.id AND o.id = w.id AND o.xmin::text = w.version",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Array<SqlUuid>, _>(written.iter().map(|o| o.id.0).collect::<Vec<_>>())
            .bind::<Array<Text>, _>(written.iter().map(|o| o.version.as_str()).collect::<Vec<_>>())
            .prepared()
            .execute(c)
            .await?;
            update(store::table.find(store.0))
                .set((
                    store::ledger_segment.eq(greatest(store::ledger_segment, signed(number))),
                    store::recorded.eq(greatest(store::recorded, signed(recorded))),
                    said.clone(),
                ))
                .execute(c)
                .await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Whether a store's ledger said this of the household last: by its hash.
    pub async fn has_said(&self, store: StoreId, said: Digest) -> Result<bool> {
        let mut c = self.connection().await?;
        let so = store::table.find(store.0).filter(store::said.eq(HashColumn(said)));
        Ok(select(exists(so.select(store::id))).get_result(&mut c).await?)
    }

    /// A store's ledger lacks something: everything is said once more, by a segment and a checkpoint.
    pub async fn say_all_again(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let nothing = (store::checkpoint_due.eq(true), store::said.eq(None::<Vec<u8>>));
        update(store::table.find(store.0)).set(nothing).execute(&mut c).await?;
        drop(c);
        self.want_ledger(store, at).await
    }

    /// Puts down that the store's ledger has something to be written, unless that is down already.
    pub async fn want_ledger(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        ledger_due(&mut *self.connection().await?, store, at).await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
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

    /// A store in numbers. `proven_since`: readings from before do not count any more.
    pub async fn store_numbers(&self, id: StoreId, proven_since: DateTime<Utc>) -> Result<StoreNumbers> {
        let mut c = self.connection().await?;
        // Text: one look, so that no number on a page contradicts another.
        let r: NumbersRow = sql_query(
            "WITH facts AS (
                 SELECT fact, sum(n)::bigint AS n, sum(bytes)::bigint AS bytes FROM counts
                 WHERE about = $1 AND (fact IN ('held', 'also at home') OR fact = 'proven' AND day >= ($3 AT TIME ZONE 'UTC')::date) GROUP BY fact
                 UNION ALL
                 SELECT 'home', sum(n)::bigint, sum(bytes)::bigint FROM counts WHERE about = ANY(ARRAY(SELECT id FROM person)) AND fact = 'home'
                 UNION ALL
                 -- Of the day on which proofs begin to count: that one is not in it as a whole.
                 SELECT 'proven', count(*), coalesce(sum(c.size), 0)::bigint FROM standing s JOIN counted c ON c.original = s.original AND c.living
                 WHERE s.place = $1 AND s.good AND s.proven_at >= $2 AND s.proven_at < $3
             )
             SELECT coalesce(sum(n) FILTER (WHERE fact = 'held'), 0)::bigint AS held,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'held'), 0)::bigint AS held_bytes,
                    coalesce(sum(n) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven,
                    coalesce(sum(bytes) FILTER (WHERE fact = 'proven'), 0)::bigint AS proven_bytes,
                    (coalesce(sum(n) FILTER (WHERE fact = 'home'), 0) - coalesce(sum(n) FILTER (WHERE fact = 'also at home'), 0))::bigint AS to_go,
                    (coalesce(sum(bytes) FILTER (WHERE fact = 'home'), 0) - coalesce(sum(bytes) FILTER (WHERE fact = 'also at home'), 0))::bigint
                        AS to_go_bytes,
                    (SELECT count(*) FROM standing WHERE place = $1 AND good AND NOT listed) AS unlisted,
                    (SELECT max(confirmed_at) FROM object WHERE store = $1) AS confirmed_at
             FROM facts",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Timestamptz, _>(proven_since)
        .bind::<Timestamptz, _>(next_day(proven_since))
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(StoreNumbers {
            held: amount(r.held, r.held_bytes),
            proven: amount(r.proven, r.proven_bytes),
            to_go: amount(r.to_go, r.to_go_bytes),
            unlisted: unsigned(r.unlisted),
            confirmed_at: r.confirmed_at,
        })
    }
}
