//! Films, and what browsers can do with them.

use std::collections::HashMap;

use uuid::Uuid;
use ypogeion_core::OriginalId;

use crate::{Catalog, Result, db::*, signed, unsigned};

/// What browsers can do with a film.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Film {
    /// They play it as it is.
    Plays,
    /// They play what was made from it: so many bytes.
    Made(u64),
    /// They may not play it, and nothing could be made from it, for this reason.
    None(String),
}

/// The columns `state`, `size` and `why`.
type Row = (String, Option<i64>, Option<String>);

impl From<Row> for Film {
    fn from((state, size, why): Row) -> Self {
        match (state.as_str(), size) {
            ("plays", _) => Film::Plays,
            ("made", Some(size)) => Film::Made(unsigned(size)),
            _ => Film::None(why.unwrap_or_default()),
        }
    }
}

impl Catalog {
    /// What is known of a film; nothing, if nobody has looked yet.
    pub async fn film(&self, original: OriginalId) -> Result<Option<Film>> {
        let mut c = self.connection().await?;
        let row: Option<Row> =
            film::table.find(original.0).select((film::state, film::size, film::why)).get_result(&mut c).await.optional()?;
        Ok(row.map(Film::from))
    }

    /// What is known of some films.
    pub async fn films(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, Film>> {
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let these = film::table.filter(film::original.eq_any(ids));
        let rows: Vec<(Uuid, Row)> = these.select((film::original, (film::state, film::size, film::why))).load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, row)| (OriginalId(id), row.into())).collect())
    }

    /// What came of looking at a film.
    pub async fn set_film(&self, original: OriginalId, found: &Film) -> Result<()> {
        let (state, size, why) = match found {
            Film::Plays => ("plays", None, None),
            Film::Made(size) => ("made", Some(signed(*size)), None),
            Film::None(why) => ("none", None, Some(why.as_str())),
        };
        let row = (film::original.eq(original.0), film::state.eq(state), film::size.eq(size), film::why.eq(why));
        let now = (film::state.eq(state), film::size.eq(size), film::why.eq(why));
        let mut c = self.async_commit_connection().await?;
        insert_into(film::table).values(row).on_conflict(film::original).do_update().set(now).execute(&mut c).await?;
        Ok(())
    }

    /// Nothing is known of a film any more.
    pub async fn forget_film(&self, original: OriginalId) -> Result<()> {
        let mut c = self.async_commit_connection().await?;
        delete(film::table.find(original.0)).execute(&mut c).await?;
        Ok(())
    }
}
