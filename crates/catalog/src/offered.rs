//! What is known of bytes that a device offers.

use ypogeion_core::{
    Digest, PersonId,
    deletion::{Facts, Stage},
    offer::Known,
};

use crate::{
    Catalog, Result,
    columns::{HashColumn, hashes},
    db::*,
    evidence::HOME,
};

impl Catalog {
    /// What is known of a member's bytes that a device offers, in their order.
    pub async fn known(&self, person: PersonId, digests: &[Digest]) -> Result<Vec<Known>> {
        let mut c = self.connection().await?;
        let home = standing::original.eq(original::id).and(standing::place.eq(HOME)).and(standing::good);
        let rows: Vec<(HashColumn, bool, bool)> = original::table
            .left_join(standing::table.on(home))
            .filter(original::person.eq(person.0).and(original::digest.eq_any(hashes(digests))))
            .filter(original::gone_at.is_not_null().or(standing::place.nullable().is_not_null()))
            .select((original::digest, original::held_at.is_not_null(), original::gone_at.is_not_null()))
            .load(&mut c)
            .await?;
        let mut known = std::collections::HashMap::with_capacity(rows.len());
        for (digest, held, gone) in rows {
            // Which of the last stages it is makes no difference to a device.
            let says = Stage::of(Facts { deleted: held, released: gone, named: false, in_stores: false }).known();
            // Bytes that have gone may have come again since: what is here counts.
            let entry = known.entry(digest.0).or_insert(says);
            if says != Known::Gone {
                *entry = says;
            }
        }
        Ok(digests.iter().map(|d| known.get(d).copied().unwrap_or(Known::New)).collect())
    }
}
