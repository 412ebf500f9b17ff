//! Devices, pairing codes, and what devices say they have.

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use diesel::{
    QueryableByName, sql_query,
    sql_types::{Array, BigInt, Bool, Date, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::AsyncPgConnection;
use uuid::Uuid;
use ypogeion_core::{
    DeviceId, PersonId,
    access::{Validity, validity},
    ledger::DeviceRecord,
    offer::{DELETED_GONE, DELETED_HELD},
};

use crate::{Catalog, CatalogError, Result, db::*, unsigned};

/// A device that is asking.
#[derive(Clone, Debug)]
pub struct DeviceCaller {
    /// The device.
    pub id: DeviceId,
    /// Its name.
    pub name: String,
    /// Whose it is.
    pub person: PersonId,
    /// Whether it is a program with a password, and no paired device.
    pub program: bool,
    /// Whether its credential was taken away.
    pub revoked: bool,
    /// Whether its credential still counts, by when it was used last.
    pub validity: Validity,
}

/// A device as the console shows it.
#[derive(Clone, Debug)]
pub struct DeviceView {
    /// The device.
    pub id: DeviceId,
    /// Whose it is.
    pub person: PersonId,
    /// The member's name.
    pub person_name: String,
    /// Its name.
    pub name: String,
    /// `phone`, `tablet`, `computer` or `other`.
    pub kind: String,
    /// Name and version of its client.
    pub client: Option<String>,
    /// When it was paired.
    pub paired_at: DateTime<Utc>,
    /// When its credential was taken away.
    pub revoked_at: Option<DateTime<Utc>>,
    /// Last contact.
    pub seen_at: Option<DateTime<Utc>>,
    /// End of its last run in which nothing failed.
    pub complete_at: Option<DateTime<Utc>>,
    /// What it says it has.
    pub offered: u64,
    /// Of these, at home.
    pub home: u64,
    /// Of these, wanted and not here.
    pub waiting: u64,
    /// Their bytes.
    pub waiting_bytes: u64,
    /// Whether a run is under way.
    pub sending: bool,
    /// Files in its sources, as it said before hashing anything; none, if it never said.
    pub in_sources: Option<u64>,
    /// Of these, not sent yet by its own word.
    pub fresh: Option<u64>,
    /// Named since it said that.
    pub named_since: u64,
    /// Named, wanted and not here, in a source that it never counted.
    pub uncounted: u64,
    /// Named, refused, and not here.
    pub refused: u64,
    /// Why, of one of them.
    pub refused_why: Option<String>,
    /// Could not be read on the device in its last run.
    pub unread: u64,
    /// The days of the last two months on which it ran.
    pub days: Vec<NaiveDate>,
    /// Whether it is only partly covered: by its owner's choice, or because it is shown a selection only.
    pub partial: bool,
    /// Why it does not send just now.
    pub waiting_for: Option<String>,
}

/// A device to be.
#[derive(Clone, Debug)]
pub struct NewDevice<'a> {
    /// Its id.
    pub id: DeviceId,
    /// Its name.
    pub name: &'a str,
    /// `phone`, `tablet`, `computer` or `other`.
    pub kind: &'a str,
    /// Name and version of its client.
    pub client: &'a str,
    /// Hash of its bearer token.
    pub token_hash: &'a [u8],
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = device)]
struct CallerRow {
    id: Uuid,
    name: String,
    person: Uuid,
    kind: String,
    revoked_at: Option<DateTime<Utc>>,
    paired_at: DateTime<Utc>,
    seen_at: Option<DateTime<Utc>>,
}

#[derive(QueryableByName)]
struct DeviceRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    person: Uuid,
    #[diesel(sql_type = Text)]
    person_name: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    kind: String,
    #[diesel(sql_type = Nullable<Text>)]
    client: Option<String>,
    #[diesel(sql_type = Timestamptz)]
    paired_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    revoked_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    seen_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    complete_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = BigInt)]
    offered: i64,
    #[diesel(sql_type = BigInt)]
    home: i64,
    #[diesel(sql_type = BigInt)]
    waiting: i64,
    #[diesel(sql_type = BigInt)]
    waiting_bytes: i64,
    #[diesel(sql_type = Bool)]
    sending: bool,
    #[diesel(sql_type = Nullable<BigInt>)]
    in_sources: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    fresh: Option<i64>,
    #[diesel(sql_type = BigInt)]
    named_since: i64,
    #[diesel(sql_type = BigInt)]
    uncounted: i64,
    #[diesel(sql_type = BigInt)]
    refused: i64,
    #[diesel(sql_type = Nullable<Text>)]
    refused_why: Option<String>,
    #[diesel(sql_type = BigInt)]
    unread: i64,
    #[diesel(sql_type = Array<Date>)]
    days: Vec<NaiveDate>,
    #[diesel(sql_type = Bool)]
    partial: bool,
    #[diesel(sql_type = Nullable<Text>)]
    waiting_for: Option<String>,
}

/// Contact is noted this often.
const CONTACT_EVERY: TimeDelta = TimeDelta::minutes(1);

/// Of that member; or of anybody.
fn is_of(person: Option<PersonId>) -> diesel::dsl::Or<diesel::dsl::AsExprOf<bool, Bool>, diesel::dsl::Eq<device::person, Uuid>> {
    person.is_none().into_sql::<Bool>().or(device::person.eq(person.map_or(Uuid::nil(), |p| p.0)))
}

pub(crate) async fn insert_device(
    c: &mut AsyncPgConnection,
    person: PersonId,
    new: &NewDevice<'_>,
    now: DateTime<Utc>,
    seen_at: Option<DateTime<Utc>>,
) -> Result<()> {
    let row = (
        device::id.eq(new.id.0),
        device::person.eq(person.0),
        device::name.eq(new.name),
        device::kind.eq(new.kind),
        device::token_hash.eq(new.token_hash),
        device::client.eq(new.client),
        device::paired_at.eq(now),
        device::seen_at.eq(seen_at),
    );
    insert_into(device::table).values(row).execute(c).await?;
    Ok(())
}

/// What is not wanted because its owner deleted it here. Nothing is refused by that, and nothing is missing.
pub(crate) const LEFT: [&str; 2] = [DELETED_HELD, DELETED_GONE];

impl Catalog {
    /// Adds a device without a pairing code: its person, signed in, was handed its token.
    pub async fn add_device(&self, person: PersonId, new: &NewDevice<'_>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        insert_device(&mut c, person, new, now, None).await
    }

    /// The device with that token, revoked, ended or not. Notes the contact of one that counts, at most once a minute.
    pub async fn device_by_token(&self, token_hash: &[u8], now: DateTime<Utc>) -> Result<DeviceCaller> {
        let mut c = self.connection().await?;
        let this = device::table.filter(device::token_hash.eq(token_hash));
        let row: CallerRow = this.select(CallerRow::as_select()).get_result(&mut c).await?;
        let validity = validity(row.seen_at.unwrap_or(row.paired_at), now);
        let counts = row.revoked_at.is_none() && !matches!(validity, Validity::Ended(_));
        if counts && row.seen_at.is_none_or(|seen| now - seen > CONTACT_EVERY) {
            // Not of one that was revoked meanwhile.
            let this = device::table.find(row.id).filter(device::revoked_at.is_null());
            update(this).set(device::seen_at.eq(now)).execute(&mut c).await?;
        }
        Ok(DeviceCaller {
            id: DeviceId(row.id),
            name: row.name,
            person: PersonId(row.person),
            program: row.kind == "program",
            revoked: row.revoked_at.is_some(),
            validity,
        })
    }

    /// The devices of one member, or of all, or one of them; oldest first.
    pub async fn devices(&self, person: Option<PersonId>, only: Option<DeviceId>, now: DateTime<Utc>) -> Result<Vec<DeviceView>> {
        let which = match (person, only) {
            (None, None) => "true",
            (Some(_), None) => "d.person = $1",
            (None, Some(_)) => "d.id = $2",
            (Some(_), Some(_)) => "d.person = $1 AND d.id = $2",
        };
        self.look_at_names().await?;
        let mut c = self.connection().await?;
        // Text: sums of words that are made of a fact and a source, and of each device the first of some rows.
        let rows: Vec<DeviceRow> = sql_query(format!(
            "WITH named AS (
                 -- What a device has, by its sources, as `fact source`.
                 SELECT about AS device, split_part(fact, ' ', 1) AS fact, substr(fact, strpos(fact, ' ') + 1) AS source, n, bytes FROM counts
                 WHERE about = ANY(ARRAY(SELECT d.id FROM device d WHERE {which}))
             ), tally AS (
                 SELECT g.device, sum(n) FILTER (WHERE fact = 'named')::bigint AS offered,
                        sum(n) FILTER (WHERE fact = 'here')::bigint AS home,
                        sum(n) FILTER (WHERE fact = 'waiting')::bigint AS waiting,
                        sum(bytes) FILTER (WHERE fact = 'waiting')::bigint AS waiting_bytes,
                        sum(n) FILTER (WHERE fact = 'refused')::bigint AS refused,
                        sum(n) FILTER (WHERE fact = 'waiting' AND NOT EXISTS (
                            SELECT 1 FROM device_source i WHERE i.device = g.device AND i.name = g.source))::bigint AS uncounted
                 FROM named g GROUP BY g.device
             )
             SELECT d.id, d.person, p.name AS person_name, d.name, d.kind, d.client, d.paired_at, d.revoked_at, d.seen_at,
                    (SELECT max(ended_at) FROM run WHERE device = d.id AND failed = 0 AND halted IS NULL) AS complete_at,
                    coalesce(s.offered, 0) AS offered, coalesce(s.home, 0) AS home, coalesce(s.waiting, 0) AS waiting,
                    coalesce(s.waiting_bytes, 0) AS waiting_bytes,
                    EXISTS (SELECT 1 FROM run WHERE device = d.id AND ended_at IS NULL AND reported_at > $3 - interval '2 minutes') AS sending,
                    d.waiting_for, i.in_sources, i.fresh, coalesce(i.named, 0) AS named_since, coalesce(s.uncounted, 0) AS uncounted, coalesce(s.refused, 0) AS refused,
                    (SELECT g.refused FROM sighting g WHERE g.device = d.id AND NOT g.here AND g.removed_at IS NULL AND g.refused IS NOT NULL
                        AND g.refused <> ALL($4) AND (g.known OR NOT g.unnamed) ORDER BY g.refused DESC LIMIT 1) AS refused_why, i.partial,
                    coalesce((SELECT failed FROM run WHERE device = d.id ORDER BY began_at DESC LIMIT 1), 0) AS unread,
                    ARRAY(SELECT DISTINCT (began_at AT TIME ZONE 'UTC')::date FROM run WHERE device = d.id AND began_at > $3 - interval '60 days') AS days
             FROM device d JOIN person p ON p.id = d.person LEFT JOIN tally s ON s.device = d.id, LATERAL (
                 SELECT sum(files)::bigint AS in_sources, sum(named)::bigint AS named, CASE WHEN bool_and(fresh IS NOT NULL) THEN sum(fresh)::bigint END AS fresh, coalesce(bool_or(selection_only OR rule <> 'everything'), false) AS partial
                 FROM device_source WHERE device = d.id
             ) i
             -- What links send as is nobody's device.
             WHERE {which} AND d.kind <> 'link'
             ORDER BY d.revoked_at IS NOT NULL, d.paired_at, d.id"
        ))
        .bind::<Nullable<SqlUuid>, _>(person.map(|p| p.0))
        .bind::<Nullable<SqlUuid>, _>(only.map(|d| d.0))
        .bind::<Timestamptz, _>(now)
        .bind::<Array<Text>, _>(LEFT.as_slice())
        .load(&mut c)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| DeviceView {
                id: DeviceId(r.id),
                person: PersonId(r.person),
                person_name: r.person_name,
                name: r.name,
                kind: r.kind,
                client: r.client,
                paired_at: r.paired_at,
                revoked_at: r.revoked_at,
                seen_at: r.seen_at,
                complete_at: r.complete_at,
                offered: unsigned(r.offered),
                home: unsigned(r.home),
                waiting: unsigned(r.waiting),
                waiting_bytes: unsigned(r.waiting_bytes),
                sending: r.sending,
                in_sources: r.in_sources.map(unsigned),
                fresh: r.fresh.map(unsigned),
                named_since: unsigned(r.named_since),
                uncounted: unsigned(r.uncounted),
                refused: unsigned(r.refused),
                refused_why: r.refused_why,
                unread: unsigned(r.unread),
                days: r.days,
                partial: r.partial,
                waiting_for: r.waiting_for,
            })
            .collect())
    }

    /// The devices as the stores' ledgers say them. Counts nothing.
    pub async fn device_records(&self) -> Result<Vec<DeviceRecord>> {
        let mut c = self.connection().await?;
        let all = device::table.order((device::paired_at, device::id));
        let rows: Vec<(Uuid, Uuid, String, String)> =
            all.select((device::id, device::person, device::name, device::kind)).load(&mut c).await?;
        let record =
            |(id, person, name, kind)| DeviceRecord { id: DeviceId(id), person: PersonId(person), name, kind: Some(kind) };
        Ok(rows.into_iter().map(record).collect())
    }

    /// Gives a device another name. `person` limits it to that member's devices.
    pub async fn rename_device(&self, id: DeviceId, person: Option<PersonId>, name: &str) -> Result<()> {
        let mut c = self.connection().await?;
        let theirs = device::table.find(id.0).filter(is_of(person));
        if update(theirs).set(device::name.eq(name)).execute(&mut c).await? == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// Takes a device's credential away. Its history stays; twice does no harm.
    pub async fn revoke_device(&self, id: DeviceId, person: Option<PersonId>, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let theirs = device::table.find(id.0).filter(is_of(person));
        let revoked = device::revoked_at.eq(coalesce(device::revoked_at, now).nullable());
        if update(theirs).set(revoked).execute(&mut c).await? == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }
}
