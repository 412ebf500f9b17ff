//! Stores: where they are, how they do, what they hold.

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{Array, BigInt, Binary, Bool, Integer, Jsonb, Nullable, SmallInt, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use uuid::Uuid;
use ypogeion_core::{
    Digest, OriginalId, StoreId,
    amount::Amount,
    copies::{self, Medium},
    cost::Prices,
    kit::StoreAddress,
    layers::{Act, Observation, Outcome, Place},
    ledger::{LedgerEnd, ObjectRecord, SegmentRef, StoreRecord},
    window::{Pace, Week},
};

use crate::{
    Catalog, CatalogError, Connection, Count, Prepare, Result,
    columns::HashColumn,
    evidence::observe_in,
    numbers::{amount, next_day},
    originals::OriginalRow,
    signed, unsigned,
    work::{Kind, WISH},
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

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    endpoint: String,
    #[diesel(sql_type = Text)]
    region: String,
    #[diesel(sql_type = Text)]
    bucket: String,
    #[diesel(sql_type = Text)]
    prefix: String,
    #[diesel(sql_type = Text)]
    access_key: String,
    #[diesel(sql_type = Text)]
    secret_key: String,
    #[diesel(sql_type = Nullable<Text>)]
    stopped: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    failing: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    retry_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Integer)]
    faults: i32,
    #[diesel(sql_type = BigInt)]
    ledger_segment: i64,
    #[diesel(sql_type = Nullable<Text>)]
    ledger_name: Option<String>,
    #[diesel(sql_type = Nullable<Binary>)]
    ledger_digest: Option<HashColumn>,
    #[diesel(sql_type = Bool)]
    paused: bool,
    #[diesel(sql_type = Jsonb)]
    week: serde_json::Value,
    #[diesel(sql_type = Bool)]
    away: bool,
    #[diesel(sql_type = Jsonb)]
    prices: serde_json::Value,
    #[diesel(sql_type = Bool)]
    notices: bool,
    #[diesel(sql_type = BigInt)]
    checkpoint: i64,
    #[diesel(sql_type = Bool)]
    checkpoint_due: bool,
    #[diesel(sql_type = Bool)]
    sealed: bool,
    #[diesel(sql_type = Nullable<Binary>)]
    certificate: Option<HashColumn>,
    #[diesel(sql_type = BigInt)]
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
struct ObjectRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    size: i64,
    #[diesel(sql_type = Binary)]
    sealed_digest: HashColumn,
    #[diesel(sql_type = SmallInt)]
    epoch: i16,
}

#[derive(QueryableByName)]
struct IdRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
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

const STORE: &str = "SELECT id, name, endpoint, region, bucket, prefix, access_key, secret_key, stopped, failing, retry_at, faults, \
                     ledger_segment, ledger_name, ledger_digest, paused, week, away, prices, notices, checkpoint, checkpoint_due, sealed, certificate, recorded FROM store";

/// How urgent it is to send an original `o` anywhere: what has no copy away from home comes first.
pub(crate) const EXPOSURE: &str = "CASE WHEN EXISTS (
    SELECT 1 FROM standing e JOIN store a ON a.id = e.place AND a.away WHERE e.original = o.id AND e.good) THEN 8 ELSE 13 END";

async fn insert_store(
    c: &mut AsyncPgConnection,
    id: StoreId,
    address: &StoreAddress,
    (away, notices): (bool, bool),
    now: DateTime<Utc>,
) -> Result<()> {
    sql_query(
        "INSERT INTO store (id, name, endpoint, region, bucket, prefix, access_key, secret_key, created_at, away, sealed, notices, certificate)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)",
    )
    .bind::<SqlUuid, _>(id.0)
    .bind::<Text, _>(&address.name)
    .bind::<Text, _>(&address.endpoint)
    .bind::<Text, _>(&address.region)
    .bind::<Text, _>(&address.bucket)
    .bind::<Text, _>(&address.prefix)
    .bind::<Text, _>(&address.access_key)
    .bind::<Text, _>(&address.secret_key)
    .bind::<Timestamptz, _>(now)
    .bind::<Bool, _>(away)
    .bind::<Bool, _>(address.sealed)
    .bind::<Bool, _>(notices)
    .bind::<Nullable<Binary>, _>(address.certificate.as_ref().map(|c| c.as_bytes().as_slice()))
    .prepared()
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
            sql_query(format!(
                "INSERT INTO job (kind, key, store, priority, due) SELECT 'replicate', o.id, $1, {EXPOSURE}, $2 FROM living o ORDER BY o.landed_at {WISH}"
            ))
            .bind::<SqlUuid, _>(id.0)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
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
                sql_query("UPDATE store SET week = $2, prices = $3, paused = $4 WHERE id = $1")
                    .bind::<SqlUuid, _>(id.0)
                    .bind::<Jsonb, _>(json(&told.week))
                    .bind::<Jsonb, _>(json(&told.prices))
                    .bind::<Bool, _>(told.paused)
                    .prepared()
                    .execute(c)
                    .await?;
            }
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// All stores, in the order in which they were added.
    pub async fn stores(&self) -> Result<Vec<StoreRow>> {
        let mut c = self.connection().await?;
        let rows: Vec<Row> = sql_query(format!("{STORE} ORDER BY created_at, id")).prepared().load(&mut c).await?;
        Ok(rows.into_iter().map(StoreRow::from).collect())
    }

    /// One store.
    pub async fn store(&self, id: StoreId) -> Result<StoreRow> {
        let mut c = self.connection().await?;
        let row: Row = sql_query(format!("{STORE} WHERE id = $1")).bind::<SqlUuid, _>(id.0).prepared().get_result(&mut c).await?;
        Ok(row.into())
    }

    /// Notes a passing fault: nothing is sent to the store before `retry_at`. Faults that others met at the same time
    /// count once.
    pub async fn store_failing(&self, id: StoreId, reason: &str, now: DateTime<Utc>, retry_at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "UPDATE store SET failing = $2, retry_at = $4, faults = faults + 1 WHERE id = $1 AND (retry_at IS NULL OR retry_at <= $3)",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Text, _>(reason)
        .bind::<Timestamptz, _>(now)
        .bind::<Timestamptz, _>(retry_at)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Notes that nothing more is to be sent until the keeper has done something.
    pub async fn store_stopped(&self, id: StoreId, reason: &str) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE store SET stopped = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(id.0)
            .bind::<Text, _>(reason)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Notes that the store answers as it should. Writes nothing if that is known.
    pub async fn store_well(&self, id: StoreId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let news = sql_query(
            "UPDATE store SET failing = NULL, retry_at = NULL, faults = 0 WHERE id = $1 AND (failing IS NOT NULL OR faults > 0)",
        )
        .bind::<SqlUuid, _>(id.0)
        .prepared()
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
        sql_query("UPDATE job SET wishes = wishes + 1, due = least(due, $1) WHERE kind = 'heal' AND NOT gave_up")
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
        self.work_added(&Kind::ALL);
        Ok(())
    }

    /// Changes how a store is sent to, what it asks for, where it is. Wakes the workers.
    pub async fn change_store(&self, id: StoreId, change: &StoreSettings, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            let found = sql_query(
                "UPDATE store SET paused = coalesce($2, paused), week = coalesce($3, week), away = coalesce($4, away),
                     prices = coalesce($5, prices), rest_until = CASE WHEN $2 IS NULL AND $3 IS NULL THEN rest_until END WHERE id = $1",
            )
            .bind::<SqlUuid, _>(id.0)
            .bind::<Nullable<Bool>, _>(change.paused)
            .bind::<Nullable<Jsonb>, _>(change.week.as_ref().map(json))
            .bind::<Nullable<Bool>, _>(change.away)
            .bind::<Nullable<Jsonb>, _>(change.prices.as_ref().map(json))
            .prepared()
            .execute(c)
            .await?;
            if found == 0 {
                return Err(CatalogError::NotFound);
            }
            if change.away.is_some() {
                // What had its only copy away from home in there has none now, or the other way round.
                sql_query(format!(
                    "UPDATE job j SET priority = {EXPOSURE} FROM original o
                     WHERE j.kind = 'replicate' AND o.id = j.key AND j.priority IN (8, 13) AND j.priority <> {EXPOSURE}"
                ))
                .prepared()
                .execute(c)
                .await?;
            }
            Ok(())
        })
        .await?;
        self.heal_now(&mut c, now).await
    }

    /// What a trial has seen: whether a store notices bytes that changed on their way.
    pub async fn set_store_notices(&self, id: StoreId, notices: bool) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE store SET notices = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(id.0)
            .bind::<Bool, _>(notices)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Keeps a store's secret in another form.
    pub async fn set_store_secret(&self, id: StoreId, secret: &str) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE store SET secret_key = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(id.0)
            .bind::<Text, _>(secret)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Nothing goes to a store before then, because its week says so; the week that `store` was read with: if the keeper has changed it
    /// meanwhile, it says nothing any more.
    pub async fn store_rests(&self, store: &StoreRow, until: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE store SET rest_until = $2 WHERE id = $1 AND week = $3")
            .bind::<SqlUuid, _>(store.id.0)
            .bind::<Timestamptz, _>(until)
            .bind::<Jsonb, _>(&store.written)
            .prepared()
            .execute(&mut c)
            .await?;
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
        let mut c = self.connection().await?;
        let found = sql_query(
            "UPDATE store SET stopped = NULL, failing = NULL, retry_at = NULL, faults = 0,
                 access_key = coalesce($2, access_key), secret_key = coalesce($3, secret_key), certificate = coalesce($4, certificate)
             WHERE id = $1",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Nullable<Text>, _>(access_key)
        .bind::<Nullable<Text>, _>(secret_key)
        .bind::<Nullable<Binary>, _>(certificate.as_ref().map(|c| c.as_bytes().as_slice()))
        .prepared()
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
        sql_query("UPDATE store SET checkpoint = greatest(checkpoint, $2), checkpoint_due = said IS NULL WHERE id = $1")
            .bind::<SqlUuid, _>(store.0)
            .bind::<BigInt, _>(signed(number))
            .prepared()
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
        let row: Option<ObjectRow> =
            sql_query("SELECT name, size, sealed_digest, epoch FROM object WHERE store = $1 AND digest = $2 AND NOT leaving")
                .bind::<SqlUuid, _>(store.0)
                .bind::<Binary, _>(digest.as_bytes().as_slice())
                .prepared()
                .get_result(&mut c)
                .await
                .optional()?;
        Ok(row.map(|r| (ObjectRecord { name: r.name, size: unsigned(r.size), sha256: r.sealed_digest.0 }, r.epoch)))
    }

    /// The store has confirmed an object: its row, the observation for every original with these bytes, and the work that
    /// follows (the ledger at `ledger_at`, and reading it back at `prove_at`), in one transaction.
    pub async fn confirm(
        &self,
        store: StoreId,
        digest: Digest,
        object: &ObjectRecord,
        (at, epoch): (DateTime<Utc>, i16),
        (ledger_at, prove_at): (DateTime<Utc>, DateTime<Utc>),
    ) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query(
                "INSERT INTO object (store, digest, name, size, sealed_digest, confirmed_at, epoch) VALUES ($1, $2, $3, $4, $5, $6, $7)
                 ON CONFLICT (store, digest) DO UPDATE SET name = excluded.name, size = excluded.size,
                     sealed_digest = excluded.sealed_digest, confirmed_at = excluded.confirmed_at, epoch = excluded.epoch",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(digest.as_bytes().as_slice())
            .bind::<Text, _>(&object.name)
            .bind::<BigInt, _>(signed(object.size))
            .bind::<Binary, _>(object.sha256.as_bytes().as_slice())
            .bind::<Timestamptz, _>(at)
            .bind::<SmallInt, _>(epoch)
            .prepared()
            .execute(c)
            .await?;
            let sharing: Vec<IdRow> = sql_query("SELECT id FROM original WHERE digest = $1 AND gone_at IS NULL ORDER BY id")
                .bind::<Binary, _>(digest.as_bytes().as_slice())
                .prepared()
                .load(c)
                .await?;
            let seen = Observation { place: Place::Store(store), act: Act::Confirmed, at, digest: None, outcome: Outcome::Right };
            for original in &sharing {
                observe_in(c, OriginalId(original.id), digest, &seen).await?;
            }
            sql_query(
                "INSERT INTO traffic (store, hour, objects, bytes) VALUES ($1, date_trunc('hour', $2, 'UTC'), 1, $3)
                 ON CONFLICT (store, hour) DO UPDATE SET objects = traffic.objects + 1, bytes = traffic.bytes + excluded.bytes",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Timestamptz, _>(at)
            .bind::<BigInt, _>(signed(object.size))
            .prepared()
            .execute(c)
            .await?;
            // It has a copy away from home now: others that have none go first, to whichever store.
            sql_query(
                "UPDATE job SET priority = 8 WHERE kind = 'replicate' AND key = ANY($2) AND priority > 8
                     AND EXISTS (SELECT 1 FROM store WHERE id = $1 AND away)",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<Array<SqlUuid>, _>(sharing.iter().map(|o| o.id).collect::<Vec<_>>())
            .prepared()
            .execute(c)
            .await?;
            sql_query("UPDATE standing SET listed = false WHERE place = $1 AND original = ANY($2)")
                .bind::<SqlUuid, _>(store.0)
                .bind::<Array<SqlUuid>, _>(sharing.iter().map(|o| o.id).collect::<Vec<_>>())
                .prepared()
                .execute(c)
                .await?;
            sql_query(format!(
                "INSERT INTO job (kind, key, store, priority, due)
                 SELECT 'ledger', $1, $1, 15, $3 UNION ALL SELECT 'prove', o, $1, 0, $4 FROM unnest($2) AS o {WISH}"
            ))
            .bind::<SqlUuid, _>(store.0)
            .bind::<Array<SqlUuid>, _>(sharing.iter().map(|o| o.id).collect::<Vec<_>>())
            .bind::<Timestamptz, _>(ledger_at)
            .bind::<Timestamptz, _>(prove_at)
            .prepared()
            .execute(c)
            .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Prove]);
        Ok(())
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
        let mut c = self.connection().await?;
        whole!(c, {
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
            sql_query(
                "UPDATE store SET ledger_segment = greatest(ledger_segment, $2), said = coalesce($3, said),
                     ledger_name = coalesce($4, ledger_name), ledger_digest = coalesce($5, ledger_digest), recorded = greatest(recorded, $6)
                 WHERE id = $1",
            )
            .bind::<SqlUuid, _>(store.0)
            .bind::<BigInt, _>(signed(number))
            .bind::<Nullable<Binary>, _>(said.as_ref().map(|d| d.as_bytes().as_slice()))
            .bind::<Nullable<Text>, _>(end.map(|e| e.name.as_str()))
            .bind::<Nullable<Binary>, _>(end.map(|e| e.sha256.as_bytes().as_slice()))
            .bind::<BigInt, _>(signed(recorded))
            .prepared()
            .execute(c)
            .await?;
            Ok::<_, CatalogError>(())
        })
        .await
    }

    /// Whether a store's ledger said this of the household last: by its hash.
    pub async fn has_said(&self, store: StoreId, said: Digest) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count = sql_query("SELECT count(*) AS n FROM store WHERE id = $1 AND said = $2")
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(said.as_bytes().as_slice())
            .prepared()
            .get_result(&mut c)
            .await?;
        Ok(row.n > 0)
    }

    /// A store's ledger lacks something: everything is said once more, by a segment and a checkpoint.
    pub async fn say_all_again(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE store SET checkpoint_due = true, said = NULL WHERE id = $1")
            .bind::<SqlUuid, _>(store.0)
            .prepared()
            .execute(&mut c)
            .await?;
        drop(c);
        self.want_ledger(store, at).await
    }

    /// Puts down that the store's ledger has something to be written, unless that is down already.
    pub async fn want_ledger(&self, store: StoreId, at: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(format!("INSERT INTO job (kind, key, store, priority, due) VALUES ('ledger', $1, $1, 15, $2) {WISH}"))
            .bind::<SqlUuid, _>(store.0)
            .bind::<Timestamptz, _>(at)
            .prepared()
            .execute(&mut c)
            .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// An object was read back and was not what it should be: it is to be sent again.
    pub async fn send_again(&self, store: StoreId, digest: Digest, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        whole!(c, {
            sql_query("DELETE FROM object WHERE store = $1 AND digest = $2")
                .bind::<SqlUuid, _>(store.0)
                .bind::<Binary, _>(digest.as_bytes().as_slice())
                .prepared()
                .execute(c)
                .await?;
            sql_query(format!(
                "INSERT INTO job (kind, key, store, priority, due) SELECT 'replicate', o.id, $1, {EXPOSURE} + 1, $3 FROM original o
                 WHERE o.digest = $2 AND o.gone_at IS NULL {WISH}"
            ))
            .bind::<SqlUuid, _>(store.0)
            .bind::<Binary, _>(digest.as_bytes().as_slice())
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(c)
            .await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Replicate]);
        Ok(())
    }

    /// A store in numbers. `proven_since`: readings from before do not count any more.
    pub async fn store_numbers(&self, id: StoreId, proven_since: DateTime<Utc>) -> Result<StoreNumbers> {
        let mut c = self.connection().await?;
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
