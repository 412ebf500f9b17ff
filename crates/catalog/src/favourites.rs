//! What people like best of their pictures.

use std::collections::HashMap;

use chrono::{DateTime, NaiveDateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{OriginalId, PersonId};

use crate::{Catalog, CatalogError, DECIDED, Result, db::*, originals::Touched, wishes::ledgers_due, work::Kind};

impl Catalog {
    /// Makes pictures the favourites of somebody who sees them, or not any more; a picture is one by any of its files. Returns those that are there.
    pub async fn mark_favourites(
        &self,
        person: PersonId,
        pictures: &[OriginalId],
        on: bool,
        now: DateTime<Utc>,
    ) -> Result<Vec<Touched>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let marked = whole!(c, {
            let shown = shown_to::table.filter(shown_to::shot.eq(original::shot).and(shown_to::person.eq(person.0)));
            let seen = original::person.eq(person.0).or(exists(shown.select(shown_to::shot)));
            let there = original::table.filter(seen.and(is_living())).filter(original::id.eq_any(&ids)).order(original::id);
            let there: Vec<(Uuid, Uuid, NaiveDateTime)> =
                there.select((original::id, original::shot, original::taken_local)).load(c).await?;
            let rows = |(id, _, _): &(Uuid, Uuid, NaiveDateTime)| (favourite::person.eq(person.0), favourite::original.eq(*id));
            let changed = if on {
                let rows: Vec<_> = there.iter().map(rows).collect();
                diesel_async::RunQueryDsl::execute(insert_into(favourite::table).values(rows).on_conflict_do_nothing(), c).await?
            } else {
                let shots: Vec<Uuid> = there.iter().map(|(_, shot, _)| *shot).collect();
                let files = original::table.filter(original::shot.eq_any(shots)).select(original::id);
                delete(favourite::table.filter(favourite::person.eq(person.0).and(favourite::original.eq_any(files))))
                    .execute(c)
                    .await?
            };
            if changed > 0 {
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(there)
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        let touched = |(id, _, taken_local)| Touched { person, id: OriginalId(id), taken_local };
        Ok(marked.into_iter().map(touched).collect())
    }

    /// Whether a picture is a favourite of somebody, by any of its files.
    pub async fn is_favourite(&self, person: PersonId, shot: OriginalId) -> Result<bool> {
        let mut c = self.connection().await?;
        let files = original::table.filter(original::shot.eq(shot.0)).select(original::id);
        let marks = favourite::table.filter(favourite::person.eq(person.0).and(favourite::original.eq_any(files)));
        Ok(select(exists(marks.select(favourite::original))).get_result(&mut c).await?)
    }

    /// Of some originals, whose favourites they are.
    pub async fn favourites_of(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, Vec<PersonId>>> {
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let rows: Vec<(Uuid, Uuid)> = favourite::table
            .filter(favourite::original.eq_any(ids))
            .order((favourite::original, favourite::person))
            .select((favourite::original, favourite::person))
            .load(&mut c)
            .await?;
        let mut whose: HashMap<OriginalId, Vec<PersonId>> = HashMap::new();
        for (original, person) in rows {
            whose.entry(OriginalId(original)).or_default().push(PersonId(person));
        }
        Ok(whose)
    }
}
