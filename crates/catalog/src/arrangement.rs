//! Albums as somebody arranged them.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use serde_json::Value;
use uuid::Uuid;
use ypogeion_core::{AlbumId, Digest, OriginalId, PersonId, arrangement::Step};

use crate::{Catalog, CatalogError, DECIDED, Result, db::*, wishes::ledgers_due, work::Kind};

/// An arrangement, and which one it is: another one after each change.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Arrangement {
    /// Its steps.
    pub steps: Vec<Step>,
    /// Which one.
    pub version: String,
}

/// Steps as they are kept. What a later version may have put among them is passed over.
pub(crate) fn steps_of(value: Value) -> Vec<Step> {
    let Value::Array(all) = value else { return Vec::new() };
    all.into_iter().filter_map(|step| serde_json::from_value(step).ok()).collect()
}

fn told(value: Option<Value>) -> Option<Arrangement> {
    let value = value?;
    let version = Digest::of(value.to_string().as_bytes()).to_string()[..16].to_owned();
    Some(Arrangement { steps: steps_of(value), version })
}

impl Catalog {
    /// How an album is arranged; none: it is not.
    pub async fn arrangement(&self, id: AlbumId) -> Result<Option<Arrangement>> {
        let mut c = self.connection().await?;
        Ok(told(album::table.find(id.0).select(album::arrangement).get_result(&mut c).await?))
    }

    /// Arranges an album of somebody's that is arranged so by now (`before`: which one; none: it is not), or, with no steps, not any more. Taken, if somebody was
    /// faster; not found, if it is not theirs.
    pub async fn arrange(
        &self,
        owner: PersonId,
        id: AlbumId,
        before: Option<&str>,
        steps: Option<&[Step]>,
        now: DateTime<Utc>,
    ) -> Result<()> {
        let value = steps.map(|steps| serde_json::to_value(steps).expect("words and ids"));
        let mut c = self.connection().await?;
        whole!(c, {
            let theirs = album::table.filter(album::id.eq(id.0).and(album::person.eq(owner.0)));
            let is: Option<Value> = theirs.select(album::arrangement).for_update().get_result(c).await?;
            if told(is).map(|a| a.version).as_deref() != before {
                return Err(CatalogError::Taken);
            }
            update(album::table.find(id.0)).set(album::arrangement.eq(value.as_ref())).execute(c).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(())
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        Ok(())
    }

    /// Of some files, which one stands for the picture of each.
    pub async fn leads_of(&self, files: &[OriginalId]) -> Result<HashMap<OriginalId, OriginalId>> {
        let ids: Vec<Uuid> = files.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let these = original::table.filter(original::id.eq_any(ids)).select((original::id, original::shot));
        let rows: Vec<(Uuid, Uuid)> = these.load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, shot)| (OriginalId(id), OriginalId(shot))).collect())
    }
}
