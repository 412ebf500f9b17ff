//! Which file is a version of which picture, because whose pictures they are says so.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use uuid::Uuid;
use ypogeion_core::{
    OriginalId, PersonId,
    kind::MediaKind,
    shot::{MOST_VERSIONS, Part, can_be_version},
};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    db::*,
    shots::{is_of_one_side, lock_shots},
    wishes::{due_for, ledgers_due},
    work::Kind,
};

/// What became of a file that was to be a version of a picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Versioned {
    /// It is one, once it is grouped again.
    Said,
    /// It is that picture's by itself, or that file.
    Same,
    /// A film is no version of a still picture, and notes are of none.
    OtherKind,
    /// The picture has as many as there may be.
    TooMany,
}

/// A file, as far as that is asked of it.
type File = (Uuid, String, String);

impl Catalog {
    /// Has a file of somebody's be a version of the picture of another one of theirs. Not found, if one of them is not theirs or was deleted.
    pub async fn make_version(&self, person: PersonId, id: OriginalId, of: OriginalId, now: DateTime<Utc>) -> Result<Versioned> {
        let mut c = self.connection().await?;
        let said = whole!(c, {
            lock_shots(c, person).await?;
            let own = |id: OriginalId| original::table.find(id.0).filter(original::person.eq(person.0).and(is_living()));
            let asked = (original::shot, original::kind, original::part);
            let (shot, kind, part): File = own(id).select(asked).get_result(c).await?;
            let (of_shot, of_kind, _): File = own(of).select(asked).get_result(c).await?;
            if !is_of_one_side(c, &[id.0, of.0]).await? {
                return Err(CatalogError::NotFound);
            }
            if shot == of_shot {
                return Ok(Versioned::Same);
            }
            let [kind, of_kind] = [kind, of_kind].map(|word| MediaKind::from_word(&word));
            if !can_be_version(kind, of_kind) || !Part::from_word(&part).is_some_and(Part::can_stand) {
                return Ok(Versioned::OtherKind);
            }
            let files = original::table.filter(original::shot.eq_any([shot, of_shot]).and(is_living()));
            let files: i64 = files.select(count_star()).get_result(c).await?;
            if usize::try_from(files).map_or(true, |n| n > MOST_VERSIONS) {
                return Ok(Versioned::TooMany);
            }
            let row = (version::original.eq(id.0), version::version_of.eq(of.0));
            let put = insert_into(version::table).values(row).on_conflict(version::original).do_update();
            put.set(version::version_of.eq(excluded(version::version_of))).execute(c).await?;
            // Should nobody come to group it after this, the work does.
            due_for(c, Kind::Group, &[id.0, of.0], 18, now).await?;
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(Versioned::Said)
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Group]);
        Ok(said)
    }

    /// Takes back that a file of somebody's is a version of another one's picture. Returns of which; none: nobody had said so.
    pub async fn take_apart(&self, person: PersonId, id: OriginalId, now: DateTime<Utc>) -> Result<Option<OriginalId>> {
        let mut c = self.connection().await?;
        let of: Option<Uuid> = whole!(c, {
            lock_shots(c, person).await?;
            original::table.find(id.0).filter(original::person.eq(person.0)).select(original::id).get_result::<Uuid>(c).await?;
            let gone = delete(version::table.find(id.0)).returning(version::version_of);
            let of: Option<Uuid> = gone.get_result(c).await.optional()?;
            if let Some(of) = of {
                // It stands for itself again, and for nothing else.
                delete(forward::table.find(id.0)).execute(c).await?;
                due_for(c, Kind::Group, &[id.0, of], 18, now).await?;
                ledgers_due(c, now + DECIDED).await?;
            }
            Ok::<_, CatalogError>(of)
        })
        .await?;
        self.work_added(&[Kind::Ledger, Kind::Group]);
        Ok(of.map(OriginalId))
    }

    /// Of some files, those that are versions because somebody says so, and of which other one's picture.
    pub async fn versions_among(&self, files: &[OriginalId]) -> Result<HashMap<OriginalId, OriginalId>> {
        let mut c = self.connection().await?;
        let ids: Vec<Uuid> = files.iter().map(|id| id.0).collect();
        let said = version::table.filter(version::original.eq_any(ids)).select((version::original, version::version_of));
        let said: Vec<(Uuid, Uuid)> = said.load(&mut c).await?;
        Ok(said.into_iter().map(|(id, of)| (OriginalId(id), OriginalId(of))).collect())
    }
}
