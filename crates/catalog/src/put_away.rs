//! What people keep out of their own way: kept as everything else, and shown to who asks for it.

use chrono::{DateTime, NaiveDateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{OriginalId, PersonId};

use crate::{
    Catalog, CatalogError, DECIDED, Result, db::*, originals::Touched, shots::lock_shots, wishes::ledgers_due, work::Kind,
};

impl Catalog {
    /// Puts pictures of somebody's own away, with all of their files, or back. Returns those that are there, by the files that were named.
    pub async fn put_away(
        &self,
        person: PersonId,
        pictures: &[OriginalId],
        away: bool,
        now: DateTime<Utc>,
    ) -> Result<Vec<Touched>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let there = whole!(c, {
            // A file that comes to one of them just now is one of its files before this, or sees it after this.
            lock_shots(c, person).await?;
            let own = original::table.filter(original::person.eq(person.0).and(is_living()));
            let there: Vec<(Uuid, Uuid, NaiveDateTime)> = own
                .filter(original::id.eq_any(&ids))
                .order(original::id)
                .select((original::id, original::shot, original::taken_local))
                .load(c)
                .await?;
            let shots: Vec<Uuid> = there.iter().map(|(_, shot, _)| *shot).collect();
            let files = original::table.filter(original::shot.eq_any(shots).and(original::put_away.ne(away)));
            if update(files).set(original::put_away.eq(away)).execute(c).await? > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(there)
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        let touched = |(id, _, taken_local)| Touched { person, id: OriginalId(id), taken_local };
        Ok(there.into_iter().map(touched).collect())
    }
}
