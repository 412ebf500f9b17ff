//! Finding pictures in words.

use chrono::NaiveDateTime;
use clap::Args;
use serde::Deserialize;
use url::form_urlencoded::Serializer;
use ypogeion_agent::{client::Session, home::Home};
use ypogeion_core::{AlbumId, OriginalId};
use ypogeion_wire::find::Found;

use crate::commands::{Context, DONE, Failed, Result, print, print_json, usage};

pub const HELP: &str = "\
Words are names of files and folders or parts of them, words of titles and captions, lenses, cameras, devices, albums, places, kinds (photos, videos, \
raw files, screenshots), favourites, what was put away, copies (no copy offsite, checked offsite, damaged), and days (2024, May 2024, 3 May, summer 2024, last March, since 2020, 2019 to 2021, Christmas). All of them must \
be so; what follows \"not\" must not. Words between quotation marks are a name.

  ypogeion find summer 2024 videos
  ypogeion find '\"harbour wall\"' not screenshots

Exit code 0, also if nothing was found; 2 if a word cannot be looked for.";

/// At most so many are asked for at once.
const PAGE: u64 = 500;

/// What to find.
#[derive(Args)]
pub struct Find {
    /// What is looked for.
    #[arg(required = true, value_name = "WORD", allow_hyphen_values = false)]
    words: Vec<String>,
    /// At most this many.
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
    limit: Option<u64>,
}

/// Asks the house.
pub async fn find(context: &Context, what: &Find) -> Result {
    let (client, line) = (Home::open(&context.folder)?.client()?, what.words.join(" "));
    let found = client.found(&line).await?;
    // Whoever hands the list on must not get more than they meant.
    if let Some(unknown) = found.unknown.first() {
        return Err(usage(format!("“{}” cannot be looked for: {}.", unknown.typed, unknown.why)));
    }
    for part in found.parts.iter().filter(|p| p.nothing) {
        eprintln!("ypogeion: no picture of yours is like this: {}.", part.told);
    }
    let (mut after, mut left, mut all) = (None::<String>, what.limit.unwrap_or(u64::MAX), Vec::new());
    while left > 0 {
        let page = client.find(&line, after.as_deref(), left.min(PAGE)).await?;
        left = left.saturating_sub(page.originals.len() as u64);
        if context.json {
            all.extend(page.originals);
        } else {
            // As they come: whoever reads them may have enough after the first ones.
            print(&page.originals.iter().map(|o| format!("{}\n", o.path)).collect::<String>());
        }
        match page.next {
            Some(next) => after = Some(next),
            None => break,
        }
    }
    if context.json {
        print_json(&all);
    } else if found.count == 0 && found.parts.iter().all(|p| !p.nothing) {
        eprintln!("ypogeion: nothing was found for {}.", understood(&found));
    }
    Ok(DONE)
}

/// No request names more pictures.
pub const AT_ONCE: usize = 1000;

#[derive(Deserialize)]
struct Pictures {
    originals: Vec<Picture>,
    next: Option<String>,
}

/// A picture that was found.
#[derive(Deserialize)]
pub struct Picture {
    /// Its id.
    pub id: OriginalId,
    /// What a clock on the wall showed when it was taken.
    pub taken_local: NaiveDateTime,
}

/// All pictures of somebody's own that a line finds, newest first; of an album, of those in it. What cannot be looked for is refused: whoever does
/// something with them must not do it with more than they meant.
pub async fn pictures_of(session: &Session, line: &str, album: Option<AlbumId>) -> std::result::Result<Vec<OriginalId>, Failed> {
    Ok(with_times(session, line, album).await?.into_iter().map(|p| p.id).collect())
}

/// The same, with their times.
pub async fn with_times(session: &Session, line: &str, album: Option<AlbumId>) -> std::result::Result<Vec<Picture>, Failed> {
    let query = || {
        let mut query = Serializer::new(String::new());
        query.extend_pairs(album.map(|id| ("album", id.to_string())));
        query
    };
    let found: Found = session.get(&format!("api/find?{}", query().append_pair("line", line).finish())).await?;
    if let Some(unknown) = found.unknown.first() {
        return Err(usage(format!("“{}” cannot be looked for: {}.", unknown.typed, unknown.why)));
    }
    let (mut all, mut after) = (Vec::new(), None::<String>);
    loop {
        let mut query = query();
        query.append_pair("find", line).append_pair("limit", &PAGE.to_string()).extend_pairs(after.iter().map(|a| ("after", a)));
        let page: Pictures = session.get(&format!("api/originals?{}", query.finish())).await?;
        all.extend(page.originals);
        match page.next {
            Some(next) => after = Some(next),
            None => break,
        }
    }
    if all.is_empty() {
        return Err(usage(format!("nothing was found for {}", understood(&found))));
    }
    Ok(all)
}

fn understood(found: &Found) -> String {
    let parts: Vec<&str> = found.parts.iter().map(|p| p.told.as_str()).collect();
    if parts.is_empty() { "everything".to_owned() } else { parts.join(", ") }
}
