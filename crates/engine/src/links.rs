//! Links for people outside: somebody shows pictures of theirs, in an album of theirs, to whoever has the link.
//!
//! What opens a link stands behind the `#` of its address: a browser sends that to nobody by itself, so it is in no log, no history of a server in between, and no referrer.
//! The page of the link sends it in a body, and gets a cookie for the paths of this link alone.

use std::{fs::File, sync::Arc};

use bytes::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use tokio::sync::{Semaphore, SemaphorePermit};
use url::Url;
use uuid::Uuid;
use ypogeion_catalog::{
    CatalogError,
    films::Film,
    links::{self, Shown},
    originals::OriginalRow,
    people::Person,
};
use ypogeion_core::{
    AlbumId, LinkId, OriginalId, PersonId,
    access::Role,
    album::May,
    kind::MediaKind,
    link::{HandsOut, LONGEST, SHORTEST, VISIT, bare_jpeg},
    turn::Turn,
    words::count,
};
use ypogeion_wire::{
    link::{Link, NewLink, Outside, OutsidePicture, OwnLink},
    original::OriginalCard,
};

use crate::{
    albums::allowed,
    arrangement, at_home,
    engine::Engine,
    error::{Error, Result},
    library::{self, After},
    live::Change,
    secrets,
};

/// So many links of one person at the same time.
const MOST: i64 = 200;
/// A passphrase has so many characters at least: whoever guesses needs the link, too.
const SHORTEST_PASSPHRASE: usize = 6;
/// A JPEG of more bytes is not taken into memory to be bared.
const LARGEST_BARE: u64 = 64 << 20;
/// So many are in memory at the same time, until they are sent.
static BARE: Semaphore = Semaphore::const_new(8);
/// The page of all links.
pub const PAGE: &str = "/shared";

fn view(link: links::Link, address: Option<String>) -> Link {
    Link {
        id: link.id,
        hands_out: link.hands_out.word().to_owned(),
        passphrase: link.passphrase.is_some(),
        made_at: link.made_at,
        ends_at: link.ends_at,
        opened: link.opened,
        opened_at: link.opened_at,
        takes: link.device.is_some(),
        address,
    }
}

/// Makes a link to an album of one's own. `house`: the address at which the house is reached.
pub async fn make(engine: &Engine, owner: &Person, album: AlbumId, new: NewLink, house: &Url) -> Result<Link> {
    allowed(engine, album, owner.id, May::Own).await?;
    if owner.role == Role::Guest {
        return Err(Error::NotAllowed("Guests have albums of their own and share none.".to_owned()));
    }
    let hands_out = HandsOut::from_word(&new.hands_out)
        .ok_or_else(|| Error::invalid("A link hands out \"previews\", \"copies\" or \"originals\"."))?;
    let life = TimeDelta::days(new.days.into());
    if life < SHORTEST || life > LONGEST {
        return Err(Error::invalid(format!("A link lasts 1 to {} days.", LONGEST.num_days())));
    }
    let passphrase = match new.passphrase.filter(|p| !p.is_empty()) {
        None => None,
        Some(typed) if typed.chars().count() < SHORTEST_PASSPHRASE => {
            return Err(Error::invalid(format!("A passphrase has {SHORTEST_PASSPHRASE} characters at least.")));
        }
        Some(typed) => Some(secrets::hashed(typed).await?),
    };
    let (secret, now) = (secrets::token(), engine.now());
    let device = if new.takes { Some(engine.catalog.link_sender(owner.id, now).await?) } else { None };
    let link = links::Link {
        id: LinkId(Uuid::now_v7()),
        person: owner.id,
        album,
        passphrase,
        hands_out,
        made_at: now,
        ends_at: now + life,
        opened: 0,
        opened_at: None,
        device,
    };
    match engine.catalog.add_link(&link, secrets::hash(&secret).as_bytes(), MOST).await {
        Err(CatalogError::Taken) => {
            return Err(Error::TooMany(format!(
                "You have {} links, and there can be no more. Withdraw one first.",
                count(MOST.unsigned_abs())
            )));
        }
        made => made?,
    }
    let (name, until) = (called(engine, album).await?, link.ends_at.format("%-d %B %Y"));
    let takes = if new.takes { ", which takes pictures from them" } else { "" };
    let line = format!("made a link to {name} for people outside, until {until}{takes}");
    engine.catalog.write_record(now, &owner.name, &line).await?;
    let mut address = house.clone();
    address.set_path(PAGE);
    address.set_query(None);
    address.set_fragment(Some(&secret));
    engine.live.changed(&[Change::Albums]);
    Ok(view(link, Some(address.into())))
}

/// What an album is called, for the house's record.
async fn called(engine: &Engine, album: AlbumId) -> Result<String> {
    let name = engine.catalog.album_name(album).await?;
    Ok(name.map_or_else(|| "an album that was just removed".to_owned(), |name| format!("“{name}”")))
}

/// The links to an album of one's own.
pub async fn list(engine: &Engine, owner: &Person, album: AlbumId) -> Result<Vec<Link>> {
    allowed(engine, album, owner.id, May::Own).await?;
    let links = engine.catalog.links(owner.id, album, engine.now()).await?;
    Ok(links.into_iter().map(|link| view(link, None)).collect())
}

/// All links of one's own, to whichever album.
pub async fn list_all(engine: &Engine, owner: PersonId) -> Result<Vec<OwnLink>> {
    let links = engine.catalog.links_of(owner, engine.now()).await?.into_iter();
    Ok(links.map(|(link, album_name)| OwnLink { album: link.album, album_name, link: view(link, None) }).collect())
}

/// Withdraws a link: whoever has it sees nothing from now on.
pub async fn withdraw(engine: &Engine, owner: &Person, id: LinkId) -> Result<()> {
    let album = engine.catalog.withdraw_link(owner.id, id).await?;
    let line = format!("withdrew a link to {}", called(engine, album).await?);
    engine.catalog.write_record(engine.now(), &owner.name, &line).await?;
    engine.live.changed(&[Change::Albums]);
    Ok(())
}

/// What comes of somebody's wish to open a link.
pub enum Opening {
    /// It is open in their browser, which has this, until then.
    Open {
        /// The link.
        id: LinkId,
        /// What the browser shows from now on.
        token: String,
        /// Until when.
        until: DateTime<Utc>,
    },
    /// It asks for a passphrase, and none was typed.
    Passphrase,
    /// That was not it.
    WrongPassphrase,
}

/// A link by what stands in its address; not found once it has ended, or was withdrawn.
pub async fn find(engine: &Engine, secret: &str) -> Result<links::Link> {
    engine.catalog.link_by_secret(secrets::hash(secret).as_bytes(), engine.now()).await.map_err(|e| match e {
        CatalogError::NotFound => {
            Error::Gone("This link has ended, or was withdrawn. Ask whoever gave it to you for another one.".to_owned())
        }
        other => other.into(),
    })
}

/// Opens a link in a browser.
pub async fn open(engine: &Engine, link: links::Link, passphrase: Option<String>) -> Result<Opening> {
    match (link.passphrase, passphrase.filter(|p| !p.is_empty())) {
        (None, _) => {}
        (Some(_), None) => return Ok(Opening::Passphrase),
        (Some(hash), Some(typed)) => {
            if !secrets::is_password(typed, hash).await? {
                return Ok(Opening::WrongPassphrase);
            }
        }
    }
    let (token, now) = (secrets::token(), engine.now());
    let until = link.ends_at.min(now + VISIT);
    engine.catalog.open_visit(link.id, secrets::hash(&token).as_bytes(), now, until).await?;
    Ok(Opening::Open { id: link.id, token, until })
}

/// A page of what a link shows; of an album that was arranged, all of it.
pub async fn page(engine: &Engine, shown: &Shown, after: Option<After>, limit: i64) -> Result<(Outside, Option<After>)> {
    let arranged = match engine.catalog.arrangement(shown.album).await? {
        Some(how) if after.is_none() => arrangement::laid(engine, shown.scope(), &how).await?,
        _ => None,
    };
    let (steps, last) = match arranged {
        Some(steps) => (steps, None),
        None => {
            let (cards, last) = library::page(engine, shown.scope(), None, after, limit, None).await?;
            (cards.into_iter().map(|card| (Some(card), None)).collect(), last)
        }
    };
    let is_film = |c: &&OriginalCard| c.kind == MediaKind::Video.word();
    let films: Vec<OriginalId> = steps.iter().filter_map(|(card, _)| card.as_ref()).filter(is_film).map(|c| c.id).collect();
    let films = engine.catalog.films(&films).await?;
    let (mut pictures, mut before) = (Vec::with_capacity(steps.len()), Vec::new());
    for (card, words) in steps {
        before.extend(words);
        let Some(c) = card else { continue };
        pictures.push(OutsidePicture {
            plays: films.get(&c.id).is_some_and(|film| plays(shown, film)),
            id: c.id,
            name: c.name,
            kind: c.kind,
            taken_local: c.taken_local,
            width: c.width,
            height: c.height,
            shown: c.preview == "ready",
            words_before: together(&mut before),
        });
    }
    let outside = Outside {
        name: shown.name.clone(),
        words: shown.words.clone(),
        from: shown.person_name.clone(),
        ends_at: shown.ends_at,
        hands_out: shown.hands_out.word().to_owned(),
        takes: shown.device.is_some(),
        pictures,
        words_after: together(&mut before),
        next: None,
    };
    Ok((outside, last))
}

/// Words that stand at one place.
fn together(words: &mut Vec<String>) -> Option<String> {
    let all = std::mem::take(words);
    (!all.is_empty()).then(|| all.join("\n\n"))
}

/// Whether a link plays a film: the version that was made for browsers, which tells no more than a still does; or the film itself, where that is handed out.
fn plays(shown: &Shown, film: &Film) -> bool {
    match film {
        Film::Made(_) => true,
        Film::Plays => shown.hands_out == HandsOut::Originals,
        Film::None(_) => false,
    }
}

/// A film that a link plays.
pub enum Played {
    /// The version for browsers.
    Made(OriginalId),
    /// The film itself.
    Original(Box<OriginalRow>, File),
}

/// What a link plays of a film.
pub async fn played(engine: &Arc<Engine>, shown: &Shown, id: OriginalId) -> Result<Played> {
    let row = engine.catalog.shown_by(shown, id).await?;
    match engine.catalog.film(row.id).await? {
        Some(film) if !plays(shown, &film) => Err(Error::NotFound),
        Some(Film::Made(_)) => Ok(Played::Made(row.id)),
        Some(Film::Plays) => {
            let (file, _) = at_home::open(engine, (row.id, row.digest), row.path.clone()).await?;
            Ok(Played::Original(Box::new(row), file))
        }
        Some(Film::None(_)) | None => Err(Error::NotFound),
    }
}

/// What somebody outside takes along of a picture.
pub enum Handed {
    /// The original.
    Original(Box<OriginalRow>, File),
    /// A JPEG without anything but its picture.
    Bare {
        /// What it is called.
        name: String,
        /// Its bytes.
        bytes: Bytes,
        /// The right to have them in memory, until they are sent.
        room: SemaphorePermit<'static>,
    },
    /// What is shown of it.
    Preview(OriginalId, String),
}

/// What is handed out of a picture.
pub async fn handed(engine: &Arc<Engine>, shown: &Shown, id: OriginalId) -> Result<Handed> {
    handed_of(engine, shown, engine.catalog.shown_by(shown, id).await?, Patience::None).await
}

/// Whether somebody waits until there is room in memory for a picture, or is told to come again.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Patience {
    Waits,
    None,
}

pub(crate) async fn handed_of(engine: &Arc<Engine>, shown: &Shown, row: OriginalRow, patience: Patience) -> Result<Handed> {
    let name = library::last_of(row.path.as_str());
    let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem).to_owned();
    let preview = Handed::Preview(row.id, format!("{stem}.jpg"));
    match shown.hands_out {
        HandsOut::Previews => Ok(preview),
        HandsOut::Originals => {
            let (file, _) = at_home::open(engine, (row.id, row.digest), row.path.clone()).await?;
            Ok(Handed::Original(Box::new(row), file))
        }
        HandsOut::Copies if row.facts.media_type.as_deref() != Some("image/jpeg") || row.size > LARGEST_BARE => Ok(preview),
        HandsOut::Copies => {
            let room = if patience == Patience::Waits { BARE.acquire().await.ok() } else { BARE.try_acquire().ok() };
            let Some(room) = room else {
                return Err(Error::TooMany("Many pictures are being downloaded just now. Try again in a moment.".to_owned()));
            };
            let (mut file, _) = at_home::open(engine, (row.id, row.digest), row.path.clone()).await?;
            let turn = Turn::of(row.facts.turned.into());
            let bare = tokio::task::spawn_blocking(move || {
                let mut bytes = Vec::new();
                std::io::Read::read_to_end(&mut file, &mut bytes).map(|_| bare_jpeg(&bytes, turn))
            });
            let bare = bare.await?.map_err(|e| Error::OriginalDamaged {
                detail: "A file could not be read from the home disk.".to_owned(),
                source: Some(e.into()),
            })?;
            // What cannot be bared is not handed out as it is.
            Ok(match bare {
                Some(bytes) => Handed::Bare { name, bytes: bytes.into(), room },
                None => preview,
            })
        }
    }
}
