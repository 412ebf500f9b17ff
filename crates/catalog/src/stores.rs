//! Stores: where they are, how they do, what they hold.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::sql_types::{Nullable, Text, Timestamptz, Uuid as SqlUuid};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    Digest, StoreId,
    checksum::Checksum,
    copies::{self, Medium},
    cost::Prices,
    kit::StoreAddress,
    ledger::{LedgerEnd, SegmentRef, StoreRecord},
    window::{Pace, Week},
};

use crate::{
    Catalog, CatalogError, Connection, Result,
    columns::{HashColumn, WordColumn},
    db::*,
    unsigned,
    wishes::wish,
    work::Kind,
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
    /// The checksum that it was seen to verify.
    pub checksum: Option<Checksum>,
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
    checksum: Option<WordColumn<Checksum>>,
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
            checksum: r.checksum.map(|c| c.0),
            prices: serde_json::from_value(r.prices).unwrap_or_default(),
        }
    }
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
pub(crate) use exposure_of;

async fn insert_store(
    c: &mut AsyncPgConnection,
    id: StoreId,
    address: &StoreAddress,
    (away, checksum): (bool, Option<Checksum>),
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
        store::checksum.eq(checksum.map(Checksum::word)),
        store::certificate.eq(address.certificate.map(HashColumn)),
    );
    insert_into(store::table).values(row).execute(c).await?;
    Ok(())
}

impl Catalog {
    /// Adds a store, and the work of sending it everything that is at home.
    /// `away`: whether it is away from home.
    /// `checksum`: the one that it was seen to verify; without, each copy is read again before it counts.
    pub async fn add_store(
        &self,
        id: StoreId,
        address: &StoreAddress,
        (away, checksum): (bool, Option<Checksum>),
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            insert_store(c, id, address, (away, checksum), now).await?;
            let at = Some(id.0).into_sql::<Nullable<SqlUuid>>();
            let all = original::table.filter(is_living()).order((original::landed_at, original::id)).select((
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
    /// `told`: what its keeper had decided for it; without, it is taken for one that is away and verifies nothing.
    pub async fn rebuild_store(
        &self,
        id: StoreId,
        address: &StoreAddress,
        told: Option<&StoreRecord>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            insert_store(c, id, address, told.map_or((true, None), |t| (t.away, t.checksum)), now).await?;
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

    /// What a trial has seen: the checksum that a store verifies.
    pub async fn set_store_checksum(&self, id: StoreId, checksum: Option<Checksum>) -> Result<()> {
        let mut c = self.connection().await?;
        update(store::table.find(id.0)).set(store::checksum.eq(checksum.map(Checksum::word))).execute(&mut c).await?;
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
}
