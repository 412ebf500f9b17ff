//! What is said about pictures: by their files, and by people.

use std::collections::{HashMap, HashSet};

use chrono::{DateTime, NaiveDateTime, Utc};
use diesel::{
    sql_query,
    sql_types::{Array, Jsonb, Nullable, Text, Uuid as SqlUuid},
};
use serde_json::Value;
use uuid::Uuid;
use ypogeion_core::{OriginalId, PersonId, caption::Caption, capture::FilmInside, filing::FiledPath, ledger::WordsRecord};

use crate::{
    Catalog, CatalogError, DECIDED, Result,
    columns::PathColumn,
    db::*,
    originals::Touched,
    shots::lock_pictures,
    wishes::{due_for, ledgers_due},
    work::Kind,
};

/// What is said about a picture.
#[derive(Clone, Debug, Default)]
pub struct Said {
    /// What counts.
    pub words: Caption,
    /// When somebody wrote it, and who that was, if they are still there; none: its file says it.
    pub written: Option<(DateTime<Utc>, Option<String>)>,
    /// What its file says, where somebody wrote over it.
    pub in_file: Option<Caption>,
}

/// What is to be said of a picture from now on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// This; of what is none, what was said before.
    Write {
        /// In one line.
        title: Option<String>,
        /// The same at length.
        caption: Option<String>,
    },
    /// What its file says.
    AsInFile,
}

/// What such a file says.
#[derive(Clone, Debug)]
pub struct Says {
    /// Its words.
    pub words: Caption,
    /// The film that it carries.
    pub film: Option<FilmInside>,
}

/// A file that was read before words were, or before films were looked for.
#[derive(Clone, Debug)]
pub struct Unread {
    /// Which.
    pub id: OriginalId,
    /// Where it is.
    pub path: FiledPath,
    /// What its device called it.
    pub name: String,
}

/// A picture, its title, and its caption.
type Row = (Uuid, String, String);

impl Catalog {
    /// What is said about a picture.
    pub async fn said(&self, shot: OriginalId) -> Result<Said> {
        type Row = (String, String, bool, Option<DateTime<Utc>>, Option<String>);
        let mut c = self.connection().await?;
        let row: Option<Row> = said::table
            .inner_join(words::table.on(words::original.eq(said::original).and(words::of_file.eq(said::of_file))))
            .left_join(person::table.on(words::written_by.eq(person::id.nullable())))
            .filter(said::shot.eq(shot.0))
            .select((said::title, said::caption, said::of_file, words::written_at, person::name.nullable()))
            .get_result(&mut c)
            .await
            .optional()?;
        let Some((title, caption, of_file, at, by)) = row else { return Ok(Said::default()) };
        let words = Caption { title, caption };
        if of_file {
            return Ok(Said { words, written: None, in_file: None });
        }
        let in_file: Option<(String, String)> = words::table
            .inner_join(original::table)
            .filter(original::shot.eq(shot.0).and(is_living()).and(words::of_file))
            .order((original::id.ne(original::shot), original::part, original::id))
            .select((words::title, words::caption))
            .limit(1)
            .get_result(&mut c)
            .await
            .optional()?;
        Ok(Said { words, written: at.map(|at| (at, by)), in_file: in_file.map(|(title, caption)| Caption { title, caption }) })
    }

    /// Writes words about somebody's own pictures. Returns those that are there, by the files that were named.
    pub async fn write_words(
        &self,
        person: PersonId,
        pictures: &[OriginalId],
        change: &Change,
        now: DateTime<Utc>,
    ) -> Result<Vec<Touched>> {
        let ids: Vec<Uuid> = pictures.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let there = whole!(c, {
            let own = original::table.filter(original::person.eq(person.0).and(is_living()));
            let there: Vec<(Uuid, Uuid, NaiveDateTime)> = own
                .filter(original::id.eq_any(&ids))
                .order(original::id)
                .select((original::id, original::shot, original::taken_local))
                .load(c)
                .await?;
            let shots: Vec<Uuid> = there.iter().map(|(_, shot, _)| *shot).collect();
            // Whoever else writes about one of them, by whichever of its files, waits.
            let files = original::table.filter(original::shot.eq_any(&shots)).order(original::id).for_update();
            let _: Vec<Uuid> = files.select(original::id).load(c).await?;
            let before: Vec<Row> =
                said::table.filter(said::shot.eq_any(&shots)).select((said::shot, said::title, said::caption)).load(c).await?;
            // One file of a picture has what was written about it.
            let files = original::table.filter(original::shot.eq_any(&shots)).select(original::id);
            delete(words::table.filter(words::original.eq_any(files).and(not(words::of_file)))).execute(c).await?;
            if let Change::Write { title, caption } = change {
                let was: HashMap<Uuid, (String, String)> = before.into_iter().map(|(shot, t, c)| (shot, (t, c))).collect();
                let row = |(id, shot, _): &(Uuid, Uuid, NaiveDateTime)| {
                    let (t, c) = was.get(shot).cloned().unwrap_or_default();
                    (
                        words::original.eq(*id),
                        words::of_file.eq(false),
                        words::title.eq(title.clone().unwrap_or(t)),
                        words::caption.eq(caption.clone().unwrap_or(c)),
                        words::written_by.eq(Some(person.0)),
                        words::written_at.eq(Some(now)),
                    )
                };
                // Of a picture that was named by several of its files, one.
                let mut named = HashSet::new();
                let rows: Vec<_> = there.iter().filter(|(_, shot, _)| named.insert(*shot)).map(row).collect();
                diesel_async::RunQueryDsl::execute(insert_into(words::table).values(rows), c).await?;
            }
            ledgers_due(c, now + DECIDED).await?;
            Ok::<_, CatalogError>(there)
        })
        .await?;
        self.work_added(&[Kind::Ledger]);
        let touched = |(id, _, taken_local)| Touched { person, id: OriginalId(id), taken_local };
        Ok(there.into_iter().map(touched).collect())
    }

    /// What people wrote about some originals, by the files that have it.
    pub async fn written_about(&self, originals: &[OriginalId]) -> Result<HashMap<OriginalId, WordsRecord>> {
        type Row = (Uuid, String, String, Option<Uuid>, Option<DateTime<Utc>>);
        let ids: Vec<Uuid> = originals.iter().map(|id| id.0).collect();
        let mut c = self.connection().await?;
        let rows: Vec<Row> = words::table
            .filter(words::original.eq_any(ids).and(not(words::of_file)))
            .select((words::original, words::title, words::caption, words::written_by, words::written_at))
            .load(&mut c)
            .await?;
        let record = |(id, title, caption, by, at): Row| {
            Some((OriginalId(id), WordsRecord { title, caption, by: by.map(PersonId), at: at? }))
        };
        Ok(rows.into_iter().filter_map(record).collect())
    }

    /// What people wrote about some pictures, by the files that stand for them; of those where they wrote that nothing is said, nothing.
    pub async fn written_about_pictures(&self, shots: &[OriginalId]) -> Result<HashMap<OriginalId, Caption>> {
        let mut c = self.connection().await?;
        let mut all = HashMap::new();
        for some in shots.chunks(AT_ONCE) {
            let ids: Vec<Uuid> = some.iter().map(|id| id.0).collect();
            let rows: Vec<Row> = said::table
                .filter(said::shot.eq_any(ids).and(not(said::of_file)))
                .select((said::shot, said::title, said::caption))
                .load(&mut c)
                .await?;
            let said = rows.into_iter().map(|(shot, title, caption)| (OriginalId(shot), Caption { title, caption }));
            all.extend(said.filter(|(_, words)| !words.is_empty()));
        }
        Ok(all)
    }

    /// Files that were read before words were, and pictures that were before films were looked for in them; from one on (without it), no more than `limit`.
    pub async fn words_unread(&self, after: OriginalId, limit: i64) -> Result<Vec<Unread>> {
        let mut c = self.connection().await?;
        let wordless = original::kind.eq_any(["photo", "raw", "video", "sidecar"]).and(not(original::facts.has_key("caption")));
        let unread = original::kind.eq("photo").and(not(original::facts.has_key("film_inside"))).or(wordless);
        let unread = original::table
            .filter(is_living().and(unread))
            .filter(original::id.gt(after.0))
            .order(original::id)
            .limit(limit)
            .select((original::id, original::path, original::name));
        let rows: Vec<(Uuid, PathColumn, String)> = unread.load(&mut c).await?;
        Ok(rows.into_iter().map(|(id, path, name)| Unread { id: OriginalId(id), path: path.0, name }).collect())
    }

    /// What such files say, or that they were looked at. Returns those that say anything.
    pub async fn words_read(&self, read: &[(OriginalId, Says)], now: DateTime<Utc>) -> Result<Vec<Touched>> {
        let of =
            |part: fn(&Caption) -> &str| -> Vec<String> { read.iter().map(|(_, says)| part(&says.words).to_owned()).collect() };
        let ids: Vec<Uuid> = read.iter().map(|(id, _)| id.0).collect();
        let json = |film: &FilmInside| serde_json::to_value(film).expect("two numbers");
        let films: Vec<Option<Value>> = read.iter().map(|(_, says)| says.film.as_ref().map(json)).collect();
        let with_films: Vec<Uuid> = read.iter().filter(|(_, says)| says.film.is_some()).map(|(id, _)| id.0).collect();
        let mut c = self.async_commit_connection().await?;
        let rows = whole!(c, {
            lock_pictures(c, &ids).await?;
            // Text: joined with rows that are handed in.
            sql_query(
                "UPDATE original o SET facts = jsonb_build_object('title', nullif(u.title, ''), 'caption', nullif(u.caption, '')) || o.facts
                     || jsonb_build_object('film_inside', u.film)
                 FROM unnest($1, $2, $3, $4) AS u (id, title, caption, film) WHERE o.id = u.id",
            )
            .bind::<Array<SqlUuid>, _>(&ids)
            .bind::<Array<Text>, _>(of(|w| &w.title))
            .bind::<Array<Text>, _>(of(|w| &w.caption))
            .bind::<Array<Nullable<Jsonb>>, _>(&films)
            .execute(c)
            .await?;
            due_for(c, Kind::Film, &with_films, 26, now).await?;
            let says = words::table.filter(words::original.eq_any(&ids).and(words::of_file)).select(words::original);
            let rows: Vec<(Uuid, Uuid, NaiveDateTime)> = original::table
                .filter(original::id.eq_any(says))
                .select((original::person, original::id, original::taken_local))
                .load(c)
                .await?;
            Ok::<_, CatalogError>(rows)
        })
        .await?;
        if !with_films.is_empty() {
            self.work_added(&[Kind::Film]);
        }
        let touched = |(person, id, taken_local)| Touched { person: PersonId(person), id: OriginalId(id), taken_local };
        Ok(rows.into_iter().map(touched).collect())
    }
}
