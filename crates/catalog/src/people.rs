//! The household, its members and their sessions.

use chrono::{DateTime, TimeDelta, Utc};
use uuid::Uuid;
use ypogeion_core::{DeviceId, PersonId, access::Role, clearance::Depth, filing::FilingPlan, ledger::LedgerKey, object::NameKey};

use crate::{Catalog, CatalogError, Result, columns::WordColumn, db::*, signed, unsigned};

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

#[derive(Queryable, Selectable)]
#[diesel(table_name = session)]
struct SessionRow {
    id: Uuid,
    person: Uuid,
    agent: String,
    created_at: DateTime<Utc>,
    seen_at: Option<DateTime<Utc>>,
    /// Those that are older than this column never typed one, and count from the beginning of time.
    #[diesel(select_expression = case_when(isfinite(session::proved_at), session::proved_at))]
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

#[derive(Queryable, Selectable, Insertable)]
#[diesel(table_name = household)]
struct HouseholdRow {
    name: String,
    replica: Uuid,
    name_key: String,
    ledger_key: Option<String>,
}

#[derive(Queryable, Selectable)]
#[diesel(table_name = person)]
struct PersonRow {
    id: Uuid,
    name: String,
    role: WordColumn<Role>,
    folder: String,
    password_hash: String,
    quota: Option<i64>,
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

/// A name as typed at sign-in: case and outer spaces do not matter.
fn login(name: &str) -> String {
    name.trim().to_lowercase()
}

impl Catalog {
    /// What the keeper decided for the whole house.
    pub async fn house_rules(&self) -> Result<HouseRules> {
        let mut c = self.connection().await?;
        let rules = household::table.select((household::filing, household::clear_at, household::derive_jpeg));
        let (filing, clear_at, derive_jpeg): (String, String, bool) = rules.get_result(&mut c).await?;
        Ok(HouseRules {
            // Both were checked when they were set; what a later version wrote falls back to the careful choice.
            filing: FilingPlan::parse(&filing).unwrap_or_default(),
            clear_at: Depth::from_word(&clear_at).unwrap_or_default(),
            derive_jpeg,
        })
    }

    /// What decides where a member's file from a device is filed.
    pub async fn filing_of(&self, person: PersonId, device: DeviceId) -> Result<Filing> {
        let mut c = self.connection().await?;
        // The house with everybody in it, and everything: of these, one.
        let all = household::table
            .inner_join(person::table.on(person::id.eq(person.0)))
            .inner_join(device::table.on(device::id.eq(device.0)));
        let (plan, folder, device): (String, String, String) =
            all.select((household::filing, person::folder, device::name)).get_result(&mut c).await?;
        Ok(Filing { plan: FilingPlan::parse(&plan).unwrap_or_default(), folder, device })
    }

    /// Changes what the keeper decided.
    pub async fn change_house_rules(&self, rules: &HouseRules) -> Result<()> {
        let mut c = self.connection().await?;
        let decided = (
            household::filing.eq(rules.filing.pattern()),
            household::clear_at.eq(rules.clear_at.word()),
            household::derive_jpeg.eq(rules.derive_jpeg),
        );
        update(household::table).set(decided).execute(&mut c).await?;
        Ok(())
    }

    /// Makes the household. There is one; a second attempt is [`CatalogError::Taken`].
    pub async fn create_household(&self, new: &Household, now: DateTime<Utc>) -> Result<()> {
        let row = HouseholdRow {
            name: new.name.clone(),
            replica: new.replica,
            name_key: new.name_key.reveal().to_owned(),
            ledger_key: new.ledger_key.as_ref().map(|k| k.reveal().to_owned()),
        };
        let mut c = self.connection().await?;
        insert_into(household::table).values((row, household::created_at.eq(now))).execute(&mut c).await?;
        Ok(())
    }

    /// The identity of the household's library; none before it was given one.
    pub async fn library(&self) -> Result<Option<Uuid>> {
        let mut c = self.connection().await?;
        let library: Option<Option<Uuid>> = household::table.select(household::library).get_result(&mut c).await.optional()?;
        Ok(library.flatten())
    }

    /// Writes it down, once: it does not change.
    pub async fn set_library(&self, id: Uuid) -> Result<()> {
        let mut c = self.connection().await?;
        update(household::table.filter(household::library.is_null())).set(household::library.eq(id)).execute(&mut c).await?;
        Ok(())
    }

    /// Whether any original is known.
    pub async fn has_originals(&self) -> Result<bool> {
        let mut c = self.connection().await?;
        Ok(select(exists(original::table.select(original::id))).get_result(&mut c).await?)
    }

    /// Gives the household a key for its ledgers, unless it has one.
    pub async fn set_ledger_key(&self, key: &LedgerKey) -> Result<()> {
        let mut c = self.connection().await?;
        let without = household::table.filter(household::ledger_key.is_null());
        update(without).set(household::ledger_key.eq(key.reveal())).execute(&mut c).await?;
        Ok(())
    }

    /// The household, once it has been made.
    pub async fn household(&self) -> Result<Option<Household>> {
        let mut c = self.connection().await?;
        let row: Option<HouseholdRow> = household::table.select(HouseholdRow::as_select()).get_result(&mut c).await.optional()?;
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
    pub async fn add_person(&self, new: &Person, now: DateTime<Utc>) -> Result<()> {
        let row = (
            person::id.eq(new.id.0),
            person::name.eq(&new.name),
            person::login.eq(login(&new.name)),
            person::role.eq(new.role.word()),
            person::folder.eq(&new.folder),
            person::password_hash.eq(&new.password_hash),
            person::quota.eq(new.quota.map(signed)),
            person::soft_quota.eq(new.soft_quota.map(signed)),
            person::created_at.eq(now),
        );
        let mut c = self.connection().await?;
        insert_into(person::table).values(row).execute(&mut c).await?;
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
        #[derive(Clone, Copy, AsChangeset)]
        #[diesel(table_name = person)]
        struct Change<'a> {
            quota: Option<Option<i64>>,
            soft_quota: Option<Option<i64>>,
            password_hash: Option<&'a str>,
        }
        // The outer one: whether it changes at all.
        let or_none = |bytes: u64| (bytes > 0).then(|| signed(bytes));
        let change = Change { quota: quota.map(or_none), soft_quota: soft_quota.map(or_none), password_hash };
        let mut c = self.connection().await?;
        whole!(c, {
            if password_hash.is_some() {
                let ended = session::table.filter(session::person.eq(id.0).and(session::id.nullable().is_distinct_from(keep)));
                delete(ended).execute(c).await?;
            }
            let changed = match change {
                Change { quota: None, soft_quota: None, password_hash: None } => {
                    person::table.find(id.0).count().get_result::<i64>(c).await? as usize
                }
                change => update(person::table.find(id.0)).set(change).execute(c).await?,
            };
            if changed == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
        })
        .await
    }

    /// A member by the name used to sign in.
    pub async fn person_by_login(&self, name: &str) -> Result<Person> {
        let mut c = self.connection().await?;
        let found = person::table.filter(person::login.eq(login(name))).select(PersonRow::as_select());
        Ok(found.get_result(&mut c).await?.into())
    }

    /// A member.
    pub async fn person(&self, id: PersonId) -> Result<Person> {
        let mut c = self.connection().await?;
        Ok(person::table.find(id.0).select(PersonRow::as_select()).get_result(&mut c).await?.into())
    }

    /// All members, in the order in which they were added.
    pub async fn people(&self) -> Result<Vec<Person>> {
        let mut c = self.connection().await?;
        let all = person::table.order((person::created_at, person::id)).select(PersonRow::as_select());
        Ok(all.load(&mut c).await?.into_iter().map(Person::from).collect())
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
        delete(session::table.filter(session::expires_at.lt(now))).execute(&mut c).await?;
        let row = (
            session::token_hash.eq(token_hash),
            session::person.eq(person.0),
            session::created_at.eq(now),
            session::expires_at.eq(end),
            session::agent.eq(agent),
            session::seen_at.eq(now),
            session::proved_at.eq(now),
        );
        insert_into(session::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// Whose session that is, if it has not ended.
    pub async fn session(&self, token_hash: &[u8], now: DateTime<Utc>) -> Result<(Person, Session)> {
        let mut c = self.connection().await?;
        // Both in one look: every request of a person asks this.
        let open =
            session::table.inner_join(person::table).filter(session::token_hash.eq(token_hash).and(session::expires_at.gt(now)));
        let (person, session): (PersonRow, SessionRow) =
            open.select((PersonRow::as_select(), SessionRow::as_select())).get_result(&mut c).await?;
        let session = Session::from(session);
        if session.seen_at.is_none_or(|seen| now - seen > SEEN_EVERY) {
            let this = session::table.filter(session::token_hash.eq(token_hash));
            update(this).set(session::seen_at.eq(now)).execute(&mut c).await?;
        }
        Ok((person.into(), session))
    }

    /// The sessions of a member that have not ended, the latest first.
    pub async fn sessions(&self, person: PersonId, now: DateTime<Utc>) -> Result<Vec<Session>> {
        let mut c = self.connection().await?;
        let rows: Vec<SessionRow> = session::table
            .filter(session::person.eq(person.0).and(session::expires_at.gt(now)))
            .order((coalesce(session::seen_at, session::created_at).desc(), session::id))
            .select(SessionRow::as_select())
            .load(&mut c)
            .await?;
        Ok(rows.into_iter().map(Session::from).collect())
    }

    /// The password was typed again in a session.
    pub async fn session_proved(&self, id: Uuid, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        update(session::table.filter(session::id.eq(id))).set(session::proved_at.eq(now)).execute(&mut c).await?;
        Ok(())
    }

    /// Ends sessions of a member: one, or all but one (`None`: all). Returns how many there were.
    pub async fn end_sessions(&self, person: PersonId, which: Ending) -> Result<u64> {
        let mut c = self.connection().await?;
        let own = session::table.filter(session::person.eq(person.0));
        let n = match which {
            Ending::One(id) => delete(own.filter(session::id.eq(id))).execute(&mut c).await?,
            Ending::AllBut(id) => delete(own.filter(session::id.nullable().is_distinct_from(id))).execute(&mut c).await?,
        };
        Ok(n as u64)
    }

    /// Ends a session. Ending one twice does no harm.
    pub async fn close_session(&self, token_hash: &[u8]) -> Result<()> {
        let mut c = self.connection().await?;
        delete(session::table.filter(session::token_hash.eq(token_hash))).execute(&mut c).await?;
        Ok(())
    }
}
