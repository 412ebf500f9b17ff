//! The household, its members and their sessions.

use chrono::{DateTime, TimeDelta, Utc};
use diesel::{
    OptionalExtension, QueryableByName, sql_query,
    sql_types::{BigInt, Binary, Bool, Nullable, Text, Timestamptz, Uuid as SqlUuid},
};
use diesel_async::RunQueryDsl;
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, access::Role, clearance::Depth, filing::FilingPlan, ledger::LedgerKey, object::NameKey};

use crate::{Catalog, CatalogError, Count, Prepare, Result, columns::WordColumn, signed, unsigned};

/// The household.
#[derive(Clone, Debug)]
pub struct Household {
    /// What it calls itself.
    pub name: String,
    /// The id that its replicas carry.
    pub replica: Uuid,
    /// The key for object names.
    pub name_key: NameKey,
    /// The key that proves who wrote the stores' ledgers. Households of an earlier version have none until they are given one.
    pub ledger_key: Option<LedgerKey>,
}

/// A session, as it is known by its token.
#[derive(Clone, Debug)]
pub struct Session {
    /// Its id, which opens nothing.
    pub id: Uuid,
    /// Whose.
    pub person: PersonId,
    /// What the browser said of itself.
    pub agent: String,
    /// Since when.
    pub created_at: DateTime<Utc>,
    /// When it was used last, to a few minutes.
    pub seen_at: Option<DateTime<Utc>>,
    /// When the password was typed last.
    pub proved_at: Option<DateTime<Utc>>,
}

/// Which sessions are ended.
#[derive(Clone, Copy, Debug)]
pub enum Ending {
    /// That one.
    One(Uuid),
    /// All but that one; or all.
    AllBut(Option<Uuid>),
}

/// A session that is used is written down this often.
const SEEN_EVERY: TimeDelta = TimeDelta::minutes(5);

const SESSION: &str =
    "SELECT id, person, agent, created_at, seen_at, CASE WHEN isfinite(proved_at) THEN proved_at END AS proved_at FROM session";

#[derive(QueryableByName)]
struct SessionRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = SqlUuid)]
    person: Uuid,
    #[diesel(sql_type = Text)]
    agent: String,
    #[diesel(sql_type = Timestamptz)]
    created_at: DateTime<Utc>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    seen_at: Option<DateTime<Utc>>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    proved_at: Option<DateTime<Utc>>,
}

impl From<SessionRow> for Session {
    fn from(r: SessionRow) -> Self {
        Session {
            id: r.id,
            person: PersonId(r.person),
            agent: r.agent,
            created_at: r.created_at,
            seen_at: r.seen_at,
            proved_at: r.proved_at,
        }
    }
}

/// What the keeper decides for the whole house.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HouseRules {
    /// Where originals are filed.
    pub filing: FilingPlan,
    /// How deep an original must have sunk before a device may let go of it.
    pub clear_at: Depth,
    /// Make a JPEG beside each HEIC.
    pub derive_jpeg: bool,
}

/// What decides where a file is filed, beside the file itself.
#[derive(Clone, Debug)]
pub struct Filing {
    /// The household's plan.
    pub plan: FilingPlan,
    /// The member's folder.
    pub folder: String,
    /// The device's name.
    pub device: String,
}

/// A member.
#[derive(Clone, Debug)]
pub struct Person {
    /// Stable.
    pub id: PersonId,
    /// As shown.
    pub name: String,
    /// Keeper, member or guest.
    pub role: Role,
    /// The member's folder in the library.
    pub folder: String,
    /// Argon2id, in the PHC string format.
    pub password_hash: String,
    /// Hard quota in bytes: what does not fit is refused.
    pub quota: Option<u64>,
    /// Soft quota in bytes: a warning.
    pub soft_quota: Option<u64>,
}

#[derive(QueryableByName)]
struct HouseholdRow {
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = SqlUuid)]
    replica: Uuid,
    #[diesel(sql_type = Text)]
    name_key: String,
    #[diesel(sql_type = Nullable<Text>)]
    ledger_key: Option<String>,
}

#[derive(QueryableByName)]
struct PersonRow {
    #[diesel(sql_type = SqlUuid)]
    id: Uuid,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    role: WordColumn<Role>,
    #[diesel(sql_type = Text)]
    folder: String,
    #[diesel(sql_type = Text)]
    password_hash: String,
    #[diesel(sql_type = Nullable<BigInt>)]
    quota: Option<i64>,
    #[diesel(sql_type = Nullable<BigInt>)]
    soft_quota: Option<i64>,
}

impl From<PersonRow> for Person {
    fn from(row: PersonRow) -> Self {
        Person {
            id: PersonId(row.id),
            name: row.name,
            role: row.role.0,
            folder: row.folder,
            password_hash: row.password_hash,
            quota: row.quota.map(unsigned),
            soft_quota: row.soft_quota.map(unsigned),
        }
    }
}

const PERSON: &str = "SELECT id, name, role, folder, password_hash, quota, soft_quota FROM person";

/// A name as typed at sign-in: case and outer spaces do not matter.
fn login(name: &str) -> String {
    name.trim().to_lowercase()
}

impl Catalog {
    /// What the keeper decided for the whole house.
    pub async fn house_rules(&self) -> Result<HouseRules> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            filing: String,
            #[diesel(sql_type = Text)]
            clear_at: String,
            #[diesel(sql_type = Bool)]
            derive_jpeg: bool,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query("SELECT filing, clear_at, derive_jpeg FROM household").prepared().get_result(&mut c).await?;
        Ok(HouseRules {
            // Both were checked when they were set; what a later version wrote falls back to the careful choice.
            filing: FilingPlan::parse(&row.filing).unwrap_or_default(),
            clear_at: Depth::from_word(&row.clear_at).unwrap_or_default(),
            derive_jpeg: row.derive_jpeg,
        })
    }

    /// What decides where a member's file from a device is filed.
    pub async fn filing_of(&self, person: PersonId, device: DeviceId) -> Result<Filing> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Text)]
            filing: String,
            #[diesel(sql_type = Text)]
            folder: String,
            #[diesel(sql_type = Text)]
            device: String,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query(
            "SELECT h.filing, p.folder, d.name AS device FROM household h, person p, device d WHERE p.id = $1 AND d.id = $2",
        )
        .bind::<SqlUuid, _>(person.0)
        .bind::<SqlUuid, _>(device.0)
        .prepared()
        .get_result(&mut c)
        .await?;
        Ok(Filing { plan: FilingPlan::parse(&row.filing).unwrap_or_default(), folder: row.folder, device: row.device })
    }

    /// Changes what the keeper decided.
    pub async fn change_house_rules(&self, rules: &HouseRules) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE household SET filing = $1, clear_at = $2, derive_jpeg = $3")
            .bind::<Text, _>(rules.filing.pattern())
            .bind::<Text, _>(rules.clear_at.word())
            .bind::<Bool, _>(rules.derive_jpeg)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Makes the household. There is one; a second attempt is [`CatalogError::Taken`].
    pub async fn create_household(&self, household: &Household, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("INSERT INTO household (name, replica, name_key, created_at, ledger_key) VALUES ($1, $2, $3, $4, $5)")
            .bind::<Text, _>(&household.name)
            .bind::<SqlUuid, _>(household.replica)
            .bind::<Text, _>(household.name_key.reveal())
            .bind::<Timestamptz, _>(now)
            .bind::<Nullable<Text>, _>(household.ledger_key.as_ref().map(LedgerKey::reveal))
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The identity of the household's library; none before it was given one.
    pub async fn library(&self) -> Result<Option<Uuid>> {
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(sql_type = Nullable<SqlUuid>)]
            library: Option<Uuid>,
        }
        let mut c = self.connection().await?;
        let row: Option<Row> = sql_query("SELECT library FROM household").prepared().get_result(&mut c).await.optional()?;
        Ok(row.and_then(|r| r.library))
    }

    /// Writes it down, once: it does not change.
    pub async fn set_library(&self, id: Uuid) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE household SET library = $1 WHERE library IS NULL")
            .bind::<SqlUuid, _>(id)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Whether any original is known.
    pub async fn has_originals(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        let row: Count =
            sql_query("SELECT count(*) AS n FROM (SELECT 1 FROM original LIMIT 1) AS one").prepared().get_result(&mut c).await?;
        Ok(row.n > 0)
    }

    /// Gives the household a key for its ledgers, unless it has one.
    pub async fn set_ledger_key(&self, key: &LedgerKey) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE household SET ledger_key = $1 WHERE ledger_key IS NULL")
            .bind::<Text, _>(key.reveal())
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// The household, once it has been made.
    pub async fn household(&self) -> Result<Option<Household>> {
        let mut c = self.connection().await?;
        let row: Option<HouseholdRow> = sql_query("SELECT name, replica, name_key, ledger_key FROM household")
            .prepared()
            .get_result(&mut c)
            .await
            .optional()?;
        // Written by this program from a key of the right length.
        Ok(row.and_then(|r| {
            Some(Household {
                name: r.name,
                replica: r.replica,
                name_key: NameKey::parse(&r.name_key)?,
                ledger_key: r.ledger_key.as_deref().and_then(LedgerKey::parse),
            })
        }))
    }

    /// Adds a member.
    pub async fn add_person(&self, person: &Person, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "INSERT INTO person (id, name, login, role, folder, password_hash, quota, created_at, soft_quota)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
        )
        .bind::<SqlUuid, _>(person.id.0)
        .bind::<Text, _>(&person.name)
        .bind::<Text, _>(login(&person.name))
        .bind::<Text, _>(person.role.word())
        .bind::<Text, _>(&person.folder)
        .bind::<Text, _>(&person.password_hash)
        .bind::<Nullable<BigInt>, _>(person.quota.map(signed))
        .bind::<Timestamptz, _>(now)
        .bind::<Nullable<BigInt>, _>(person.soft_quota.map(signed))
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Changes quotas or password of a member. A quota of 0 takes the quota away; a new password ends all their sessions but `keep`, at
    /// once with it.
    pub async fn change_person(
        &self,
        id: PersonId,
        quota: Option<u64>,
        soft_quota: Option<u64>,
        password_hash: Option<&str>,
        keep: Option<Uuid>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        let changed = sql_query(
            "WITH ended AS (DELETE FROM session WHERE person = $1 AND $3 IS NOT NULL AND id IS DISTINCT FROM $5)
             UPDATE person SET quota = CASE WHEN $2 IS NULL THEN quota WHEN $2 = 0 THEN NULL ELSE $2 END,
                    soft_quota = CASE WHEN $4 IS NULL THEN soft_quota WHEN $4 = 0 THEN NULL ELSE $4 END,
                    password_hash = coalesce($3, password_hash) WHERE id = $1",
        )
        .bind::<SqlUuid, _>(id.0)
        .bind::<Nullable<BigInt>, _>(quota.map(signed))
        .bind::<Nullable<Text>, _>(password_hash)
        .bind::<Nullable<BigInt>, _>(soft_quota.map(signed))
        .bind::<Nullable<SqlUuid>, _>(keep)
        .prepared()
        .execute(&mut c)
        .await?;
        if changed == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// A member by the name used to sign in.
    pub async fn person_by_login(&self, name: &str) -> Result<Person> {
        let mut c = self.connection().await?;
        let row: PersonRow =
            sql_query(format!("{PERSON} WHERE login = $1")).bind::<Text, _>(login(name)).prepared().get_result(&mut c).await?;
        Ok(row.into())
    }

    /// A member.
    pub async fn person(&self, id: PersonId) -> Result<Person> {
        let mut c = self.connection().await?;
        let row: PersonRow =
            sql_query(format!("{PERSON} WHERE id = $1")).bind::<SqlUuid, _>(id.0).prepared().get_result(&mut c).await?;
        Ok(row.into())
    }

    /// All members, in the order in which they were added.
    pub async fn people(&self) -> Result<Vec<Person>> {
        let mut c = self.connection().await?;
        let rows: Vec<PersonRow> = sql_query(format!("{PERSON} ORDER BY created_at, id")).prepared().load(&mut c).await?;
        Ok(rows.into_iter().map(Person::from).collect())
    }

    /// Opens a session of somebody who has just typed their password. `agent`: what the browser says of itself.
    pub async fn open_session(
        &self,
        token_hash: &[u8],
        person: PersonId,
        agent: &str,
        now: DateTime<Utc>,
        end: DateTime<Utc>,
    ) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query(
            "WITH old AS (DELETE FROM session WHERE expires_at < $3)
             INSERT INTO session (token_hash, person, created_at, expires_at, agent, seen_at, proved_at) VALUES ($1, $2, $3, $4, $5, $3, $3)",
        )
        .bind::<Binary, _>(token_hash)
        .bind::<SqlUuid, _>(person.0)
        .bind::<Timestamptz, _>(now)
        .bind::<Timestamptz, _>(end)
        .bind::<Text, _>(agent)
        .prepared()
        .execute(&mut c)
        .await?;
        Ok(())
    }

    /// Whose session that is, if it has not ended.
    pub async fn session(&self, token_hash: &[u8], now: DateTime<Utc>) -> Result<(Person, Session)> {
        // Both in one look: every request of a person asks this.
        #[derive(QueryableByName)]
        struct Row {
            #[diesel(embed)]
            session: SessionRow,
            #[diesel(sql_type = Text)]
            name: String,
            #[diesel(sql_type = Text)]
            role: WordColumn<Role>,
            #[diesel(sql_type = Text)]
            folder: String,
            #[diesel(sql_type = Text)]
            password_hash: String,
            #[diesel(sql_type = Nullable<BigInt>)]
            quota: Option<i64>,
            #[diesel(sql_type = Nullable<BigInt>)]
            soft_quota: Option<i64>,
        }
        let mut c = self.connection().await?;
        let row: Row = sql_query(
            "SELECT s.id, s.person, s.agent, s.created_at, s.seen_at, CASE WHEN isfinite(s.proved_at) THEN s.proved_at END AS proved_at,
                    p.name, p.role, p.folder, p.password_hash, p.quota, p.soft_quota
             FROM session s JOIN person p ON p.id = s.person WHERE s.token_hash = $1 AND s.expires_at > $2",
        )
        .bind::<Binary, _>(token_hash)
        .bind::<Timestamptz, _>(now)
        .prepared()
        .get_result(&mut c)
        .await?;
        let Row { session, name, role, folder, password_hash, quota, soft_quota } = row;
        let person = PersonRow { id: session.person, name, role, folder, password_hash, quota, soft_quota };
        let session = Session::from(session);
        if session.seen_at.is_none_or(|seen| now - seen > SEEN_EVERY) {
            sql_query("UPDATE session SET seen_at = $2 WHERE token_hash = $1")
                .bind::<Binary, _>(token_hash)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .execute(&mut c)
                .await?;
        }
        Ok((person.into(), session))
    }

    /// The sessions of a member that have not ended, the latest first.
    pub async fn sessions(&self, person: PersonId, now: DateTime<Utc>) -> Result<Vec<Session>> {
        let mut c = self.connection().await?;
        let rows: Vec<SessionRow> =
            sql_query(format!("{SESSION} WHERE person = $1 AND expires_at > $2 ORDER BY coalesce(seen_at, created_at) DESC, id"))
                .bind::<SqlUuid, _>(person.0)
                .bind::<Timestamptz, _>(now)
                .prepared()
                .load(&mut c)
                .await?;
        Ok(rows.into_iter().map(Session::from).collect())
    }

    /// The password was typed again in a session.
    pub async fn session_proved(&self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("UPDATE session SET proved_at = $2 WHERE id = $1")
            .bind::<SqlUuid, _>(id)
            .bind::<Timestamptz, _>(now)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(())
    }

    /// Ends sessions of a member: one, or all but one (`None`: all). Returns how many there were.
    pub async fn end_sessions(&self, person: PersonId, which: Ending) -> Result<u64> {
        let (only, except) = match which {
            Ending::One(id) => (Some(id), None),
            Ending::AllBut(id) => (None, id),
        };
        let mut c = self.connection().await?;
        let n = sql_query("DELETE FROM session WHERE person = $1 AND ($2 IS NULL OR id = $2) AND id IS DISTINCT FROM $3")
            .bind::<SqlUuid, _>(person.0)
            .bind::<Nullable<SqlUuid>, _>(only)
            .bind::<Nullable<SqlUuid>, _>(except)
            .prepared()
            .execute(&mut c)
            .await?;
        Ok(n as u64)
    }

    /// Ends a session. Ending one twice does no harm.
    pub async fn close_session(&self, token_hash: &[u8]) -> Result<()> {
        let mut c = self.connection().await?;
        sql_query("DELETE FROM session WHERE token_hash = $1").bind::<Binary, _>(token_hash).prepared().execute(&mut c).await?;
        Ok(())
    }
}
