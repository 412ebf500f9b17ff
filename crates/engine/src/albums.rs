//! Albums: who sees what of whose pictures, and what people do with them.
//!
//! An album shows the pictures in it to everybody whom it is shared with, and nothing else of their owners. Only pictures of one's own are put into one:
//! what somebody was shown, they do not show on. Whoever owns an album, put a picture into it, or owns the picture can take it out again.

use uuid::Uuid;
use ypogeion_catalog::{CatalogError, albums, people::Person, scope::Scope};
use ypogeion_core::{
    AlbumId, PersonId,
    access::Role,
    album::{self, LONGEST_NAME, LONGEST_WORDS, May},
    find::followed as find_followed,
    words::count,
};
use ypogeion_wire::album::{Album, AlbumChange, AlbumFilled, AlbumPerson, AlbumPictures, NewAlbum};

use crate::{
    engine::Engine,
    error::{Error, Result},
    find, followed,
    live::Change,
};

/// So many albums of one person: every segment of a ledger says all of them.
const MOST: i64 = 500;
/// No request names more pictures.
const MOST_PICTURES: usize = 1000;

/// What somebody looks at; not found, if it is an album that they do not see.
pub async fn scope(engine: &Engine, viewer: PersonId, album: Option<AlbumId>) -> Result<Scope> {
    if let Some(id) = album {
        engine.catalog.may_in(id, viewer).await?.ok_or(Error::NotFound)?;
    }
    Ok(Scope { viewer, album, own: album.is_none() })
}

fn view(row: albums::Album, people: Vec<AlbumPerson>) -> Album {
    Album {
        id: row.id,
        name: row.name,
        words: row.words,
        owner: row.owner,
        owner_name: row.owner_name,
        may: row.may.word().to_owned(),
        household: row.household.map(|may| may.word().to_owned()),
        shared_with: row.shared_with,
        arranged: row.arranged,
        people,
        pictures: row.pictures,
        oldest: row.taken.map(|(oldest, _)| oldest),
        newest: row.taken.map(|(_, newest)| newest),
        cover: row.cover,
        cover_chosen: row.cover_chosen,
        // What somebody looks for is theirs to know.
        follows: row.follows.filter(|_| row.may == May::Own).map(|(line, _)| line),
        follows_not: None,
    }
}

/// The albums that somebody sees.
pub async fn list(engine: &Engine, viewer: PersonId) -> Result<Vec<Album>> {
    Ok(engine.catalog.albums(viewer, None).await?.into_iter().map(|row| view(row, Vec::new())).collect())
}

/// One of them.
pub async fn one(engine: &Engine, viewer: &Person, id: AlbumId) -> Result<Album> {
    let row = engine.catalog.albums(viewer.id, Some(id)).await?.pop().ok_or(Error::NotFound)?;
    if row.may != May::Own {
        return Ok(view(row, Vec::new()));
    }
    let follows_not = match &row.follows {
        Some(follows) => followed::told(engine, viewer.id, follows).await?,
        None => None,
    };
    if viewer.role == Role::Guest {
        return Ok(Album { follows_not, ..view(row, Vec::new()) });
    }
    let shares = engine.catalog.album_shares(id).await?;
    let people = engine.catalog.people().await?.into_iter().filter(|p| p.id != viewer.id).map(|p| AlbumPerson {
        person: p.id,
        guest: p.role == Role::Guest,
        may: shares.iter().find(|(person, _)| *person == p.id).map(|(_, may)| may.word().to_owned()),
        name: p.name,
    });
    Ok(Album { follows_not, ..view(row, people.collect()) })
}

fn named(typed: &str) -> Result<String> {
    album::name(typed)
        .ok_or_else(|| Error::invalid(format!("An album’s name has between 1 and {} characters.", count(LONGEST_NAME as u64))))
}

fn written(typed: &str) -> Result<String> {
    album::words(typed).ok_or_else(|| {
        Error::invalid(format!("What is written about an album has {} characters at most.", count(LONGEST_WORDS as u64)))
    })
}

/// A line to follow as it is kept, and how it is read; none: it is empty.
async fn followed_line(engine: &Engine, owner: PersonId, typed: &str) -> Result<Option<(String, String)>> {
    let line = typed.trim();
    if line.is_empty() {
        return Ok(None);
    }
    let request = find::request(engine, owner, line).await?;
    match find_followed::refused(&request) {
        Some(why) => Err(Error::invalid(why)),
        None => Ok(Some((line.to_owned(), find_followed::reading(&request)))),
    }
}

/// Makes an album.
pub async fn make(engine: &Engine, owner: &Person, new: &NewAlbum) -> Result<Album> {
    let (name, words, id) = (named(&new.name)?, written(&new.words)?, AlbumId(Uuid::now_v7()));
    let follows = followed_line(engine, owner.id, new.follows.as_deref().unwrap_or_default()).await?;
    let made = albums::NewAlbum { id, owner: owner.id, name, words, follows };
    match engine.catalog.add_album(&made, MOST, engine.now()).await {
        Err(CatalogError::Taken) => Err(Error::TooMany(format!(
            "You have {} albums, and there can be no more. Remove one first.",
            count(MOST.unsigned_abs())
        ))),
        made => Ok(made?),
    }?;
    if made.follows.is_some() {
        engine.wakeups.line_followed.notify_one();
    }
    engine.live.changed(&[Change::Albums]);
    one(engine, owner, id).await
}

/// What an album is shared for, by the word that was sent.
fn shared(word: &str) -> Result<May> {
    May::shared(word).ok_or_else(|| Error::invalid("An album is shared to \"look\" or to \"add\"."))
}

/// Refuses unless somebody may do that much. Whoever does not see an album is not told that there is one.
pub(crate) async fn allowed(engine: &Engine, id: AlbumId, who: PersonId, least: May) -> Result<May> {
    let may = engine.catalog.may_in(id, who).await?.ok_or(Error::NotFound)?;
    match may >= least {
        true => Ok(may),
        false if least == May::Own => Err(Error::NotAllowed("Only whose album it is can do this.".to_owned())),
        false => Err(Error::NotAllowed("You can look at this album, and not add to it. Whose it is can let you.".to_owned())),
    }
}

/// Changes an album of one's own.
pub async fn change(engine: &Engine, owner: &Person, id: AlbumId, change: &AlbumChange) -> Result<Album> {
    allowed(engine, id, owner.id, May::Own).await?;
    let shares = change.with.is_some() || change.household.is_some();
    if shares && owner.role == Role::Guest {
        return Err(Error::NotAllowed("Guests have albums of their own and share none.".to_owned()));
    }
    let household = match change.household.as_deref() {
        None => None,
        Some("nothing") => Some(None),
        Some(word) => Some(Some(shared(word)?.word().to_owned())),
    };
    let mut with: Option<Vec<(PersonId, May)>> = None;
    if let Some(wanted) = &change.with {
        let people = engine.catalog.people().await?;
        let with = with.insert(Vec::new());
        for share in wanted {
            if share.person == owner.id {
                continue;
            }
            if !people.iter().any(|p| p.id == share.person) {
                return Err(Error::invalid("An album is shared with people of this household."));
            }
            let may = shared(&share.may)?;
            match with.iter_mut().find(|(person, _)| *person == share.person) {
                Some((_, other)) => *other = may.max(*other),
                None => with.push((share.person, may)),
            }
        }
    }
    if let Some(cover) = change.cover {
        let within = engine.catalog.original(cover, None).await?.shot;
        let albums = engine.catalog.albums_with(within, owner.id, false).await?;
        if !albums.iter().any(|(album, ..)| *album == id) {
            return Err(Error::invalid("The picture that stands for an album is one that is in it."));
        }
    }
    let follows = match &change.follows {
        Some(line) => Some(followed_line(engine, owner.id, line).await?),
        None => None,
    };
    let (follows, follows_as) = match follows {
        None => (None, None),
        Some(None) => (Some(None), Some(None)),
        Some(Some((line, read_as))) => (Some(Some(line)), Some(Some(read_as))),
    };
    let begins = matches!(follows, Some(Some(_)));
    let changes = albums::AlbumChange {
        follows,
        follows_as,
        name: change.name.as_deref().map(named).transpose()?,
        words: change.words.as_deref().map(written).transpose()?,
        household,
        cover: change.cover.map(|id| Some(id.0)),
    };
    let now = engine.now();
    engine.catalog.change_album(owner.id, id, &changes, with.as_deref(), now).await?;
    if begins {
        engine.wakeups.line_followed.notify_one();
    }
    let album = one(engine, owner, id).await?;
    if shares {
        engine.catalog.write_record(now, &owner.name, &shares_told(&album)).await?;
    }
    engine.live.changed(&[Change::Albums]);
    Ok(album)
}

/// With whom an album is shared, for the house's record.
fn shares_told(album: &Album) -> String {
    let people = album.people.iter().filter_map(|p| match p.may.as_deref()? {
        "add" => Some(format!("{} (may add)", p.name)),
        _ => Some(p.name.clone()),
    });
    let everybody = album.household.as_deref().map(|may| match may {
        "add" => "the household (may add)".to_owned(),
        _ => "the household".to_owned(),
    });
    let all: Vec<String> = everybody.into_iter().chain(people).collect();
    let name = &album.name;
    if all.is_empty() {
        return format!("shares the album “{name}” with nobody any more");
    }
    let all: Vec<&str> = all.iter().map(String::as_str).collect();
    format!("shares the album “{name}” with {}", ypogeion_core::words::list(&all))
}

/// Takes an album of one's own apart. Its pictures stay where they are.
pub async fn remove(engine: &Engine, owner: &Person, id: AlbumId) -> Result<()> {
    allowed(engine, id, owner.id, May::Own).await?;
    let album = one(engine, owner, id).await?;
    let now = engine.now();
    engine.catalog.remove_album(owner.id, id, now).await?;
    if album.household.is_some() || album.shared_with > 0 {
        engine.catalog.write_record(now, &owner.name, &format!("removed the album “{}”, which was shared", album.name)).await?;
    }
    engine.live.changed(&[Change::Albums]);
    Ok(())
}

/// Puts pictures into an album, or takes them out of it.
pub async fn fill(engine: &Engine, who: PersonId, id: AlbumId, wanted: &AlbumPictures) -> Result<AlbumFilled> {
    if wanted.pictures.len() > MOST_PICTURES {
        return Err(Error::TooLarge(format!("One request has at most {} pictures; send several.", count(MOST_PICTURES as u64))));
    }
    let filled = if wanted.inside {
        allowed(engine, id, who, May::Add).await?;
        let added = engine.catalog.put_into_album(id, who, &wanted.pictures, engine.now()).await?;
        if added.added + added.there == 0 {
            return Err(Error::NotFound);
        }
        AlbumFilled { count: added.added, there: added.there }
    } else {
        // Also whoever may only look, or does not see it any more, takes their own pictures out: they decide over them.
        let may = engine.catalog.may_in(id, who).await?;
        let all = may == Some(May::Own);
        let count = engine.catalog.take_out_of_album(id, who, &wanted.pictures, all, engine.now()).await?;
        match (count, may) {
            (0, None) => return Err(Error::NotFound),
            (0, Some(_)) if !all => {
                return Err(Error::NotAllowed("Whose picture it is, or whose album, takes it out.".to_owned()));
            }
            _ => {}
        }
        AlbumFilled { count, there: count }
    };
    engine.live.changed(&[Change::Albums]);
    Ok(filled)
}
