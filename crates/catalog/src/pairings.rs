//! Codes with which devices are paired.

use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_core::PersonId;

use crate::{
    Catalog, CatalogError, Result,
    db::*,
    devices::{NewDevice, insert_device},
};

/// A pairing code's state.
#[derive(Clone, Debug)]
pub struct PairingView {
    /// Its id.
    pub id: Uuid,
    /// For whom.
    pub person: PersonId,
    /// The member's name.
    pub person_name: String,
    /// When it ends.
    pub expires_at: DateTime<Utc>,
    /// Whether it was taken back.
    pub withdrawn: bool,
    /// The device that claimed it.
    pub device_name: Option<String>,
}

impl Catalog {
    /// Puts a pairing code's hash down.
    pub async fn create_pairing(
        &self,
        id: Uuid,
        code_hash: &[u8],
        person: PersonId,
        by: PersonId,
        now: DateTime<Utc>,
        end: DateTime<Utc>,
    ) -> Result<()> {
        let row = (
            pairing::id.eq(id),
            pairing::code_hash.eq(code_hash),
            pairing::person.eq(person.0),
            pairing::created_by.eq(by.0),
            pairing::created_at.eq(now),
            pairing::expires_at.eq(end),
        );
        let mut c = self.connection().await?;
        insert_into(pairing::table).values(row).execute(&mut c).await?;
        Ok(())
    }

    /// A pairing code that `by` made.
    pub async fn pairing(&self, id: Uuid, by: PersonId) -> Result<PairingView> {
        let mut c = self.connection().await?;
        let (person, person_name, expires_at, withdrawn, device_name): (Uuid, String, DateTime<Utc>, bool, Option<String>) =
            pairing::table
                .inner_join(person::table.on(person::id.eq(pairing::person)))
                .left_join(device::table.on(device::id.nullable().eq(pairing::device)))
                .filter(pairing::id.eq(id).and(pairing::created_by.eq(by.0)))
                .select((
                    pairing::person,
                    person::name,
                    pairing::expires_at,
                    pairing::withdrawn_at.is_not_null(),
                    device::name.nullable(),
                ))
                .get_result(&mut c)
                .await?;
        Ok(PairingView { id, person: PersonId(person), person_name, expires_at, withdrawn, device_name })
    }

    /// Takes a pairing code back. Twice does no harm; a claimed one stays claimed.
    pub async fn withdraw_pairing(&self, id: Uuid, by: PersonId, now: DateTime<Utc>) -> Result<()> {
        let mut c = self.connection().await?;
        let own = pairing::table.find(id).filter(pairing::created_by.eq(by.0));
        let withdrawn = pairing::withdrawn_at.eq(coalesce(pairing::withdrawn_at, now).nullable());
        if update(own).set(withdrawn).execute(&mut c).await? == 0 { Err(CatalogError::NotFound) } else { Ok(()) }
    }

    /// Uses a pairing code up and adds the device, in one statement: two claims of one code cannot both succeed.
    pub async fn claim_pairing(&self, code_hash: &[u8], new: &NewDevice<'_>, now: DateTime<Utc>) -> Result<PersonId> {
        let mut c = self.connection().await?;
        whole!(c, {
            let open = pairing::table
                .filter(pairing::code_hash.eq(code_hash).and(pairing::device.is_null()))
                .filter(pairing::withdrawn_at.is_null().and(pairing::expires_at.gt(now)));
            let (code, person): (Uuid, Uuid) = open.select((pairing::id, pairing::person)).for_update().get_result(c).await?;
            insert_device(c, PersonId(person), new, now, Some(now)).await?;
            update(pairing::table.find(code)).set(pairing::device.eq(new.id.0)).execute(c).await?;
            Ok::<_, CatalogError>(PersonId(person))
        })
        .await
    }
}
