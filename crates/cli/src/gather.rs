//! Albums, and the links to them, from a terminal.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use serde_json::{Value, json};
use ypogeion_agent::client::Session;
use ypogeion_core::words::{self, counted};
use ypogeion_wire::{
    album::{Album, AlbumFilled, AlbumPictures},
    link::{Link, NewLink},
};

use crate::{
    commands::{Context, DONE, Failed, Person, Result, agreed, print, print_json, secret, usage},
    find::{AT_ONCE, pictures_of},
    show::{Table, ago},
};

#[derive(Args)]
pub struct Albums {
    #[command(flatten)]
    person: Person,
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Subcommand)]
enum What {
    /// Every album that you see [the default].
    List,
    /// Make one.
    Make {
        /// Its name.
        album: String,
        /// What is written about it.
        #[arg(long, value_name = "TEXT", default_value = "")]
        words: String,
        /// It follows this line: what of yours that finds, as with "ypogeion find", is in it by itself.
        #[arg(long, value_name = "LINE")]
        follows: Option<String>,
    },
    /// Have an album of yours follow a line, or nothing any more; what is in it then stays.
    Follow {
        /// Its name.
        album: String,
        /// What is looked for, as with "ypogeion find".
        #[arg(required_unless_present = "nothing", value_name = "WORD")]
        find: Vec<String>,
        /// It follows nothing any more.
        #[arg(long, conflicts_with = "find")]
        nothing: bool,
    },
    /// Put pictures of yours into one: those that a line finds, as with "ypogeion find".
    Add {
        /// Its name.
        album: String,
        /// What is looked for.
        #[arg(required = true, value_name = "WORD")]
        find: Vec<String>,
    },
    /// Take pictures of yours out of one. They stay in the library.
    TakeOut {
        /// Its name.
        album: String,
        /// What is looked for.
        #[arg(required = true, value_name = "WORD")]
        find: Vec<String>,
    },
    /// Take an album apart. Its pictures stay in the library; its links end.
    TakeApart {
        /// Its name.
        album: String,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Args)]
pub struct Links {
    #[command(flatten)]
    person: Person,
    #[command(subcommand)]
    what: LinkWhat,
}

#[derive(Subcommand)]
enum LinkWhat {
    /// The links to an album that open now.
    List {
        /// The album's name.
        album: String,
    },
    /// Make a link to an album, for people without an account, and print its address.
    Make {
        /// The album's name.
        album: String,
        /// It opens for so many days.
        #[arg(long, value_name = "DAYS", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=366))]
        days: u32,
        /// What can be downloaded: previews (up to 2,048 pixels), copies (JPEGs in full, without places) or originals.
        #[arg(long, value_name = "WHAT", default_value = "previews", value_parser = ["previews", "copies", "originals"])]
        hands_out: String,
        /// A file with the passphrase that is asked for.
        #[arg(long, value_name = "FILE")]
        passphrase_file: Option<PathBuf>,
        /// Whoever opens it may bring pictures of theirs; they wait for you in the console.
        #[arg(long)]
        takes: bool,
    },
    /// Withdraw a link, by its number in the list, or all links to an album.
    Withdraw {
        /// The album's name.
        album: String,
        /// The number of the link.
        #[arg(required_unless_present = "all", value_name = "N", value_parser = clap::value_parser!(u64).range(1..))]
        number: Option<u64>,
        /// All of them.
        #[arg(long, conflicts_with = "number")]
        all: bool,
    },
}

/// Looks at the albums, or does something with one.
pub async fn albums(context: &Context, albums: Albums) -> Result {
    let session = albums.person.sign_in(context).await?;
    let done = with_albums(context, &session, albums.what.unwrap_or(What::List)).await;
    // The session was for this one thing.
    session.end().await;
    done
}

async fn with_albums(context: &Context, session: &Session, what: What) -> Result {
    match what {
        What::List => {
            let all: Vec<Album> = session.get("api/albums").await?;
            if context.json {
                print_json(&all);
            } else if all.is_empty() {
                print("There is no album that you see.\n");
            } else {
                let mut table = Table::new(&["Album", "Whose", "Pictures", "You may"], &[false, false, true, false]);
                for a in &all {
                    table.row(vec![a.name.clone(), a.owner_name.clone(), words::count(a.pictures), may(&a.may).to_owned()]);
                }
                print(&table.to_string());
            }
        }
        What::Make { album, words, follows } => {
            let form = json!({ "name": album, "words": words, "follows": follows });
            let made: Album = session.post("api/albums", &form).await?;
            told(context, &made, &format!("Made “{}”.{}", made.name, following(&made)));
        }
        What::Follow { album, find, nothing } => {
            let album = named(session, &album).await?;
            let line = if nothing { String::new() } else { find.join(" ") };
            let changed: Album = session.patch(&format!("api/albums/{}", album.id), &json!({ "follows": line })).await?;
            let stays = format!("“{}” follows nothing any more. What is in it stays.", changed.name);
            let said = if nothing { stays } else { following(&changed).trim_start().to_owned() };
            told(context, &changed, &said);
        }
        What::Add { album, find } => fill(context, session, &album, &find, true).await?,
        What::TakeOut { album, find } => fill(context, session, &album, &find, false).await?,
        What::TakeApart { album, yes } => {
            let album = named(session, &album).await?;
            let what = format!(
                "This takes “{}” apart, with {} in it, which stay in the library.",
                album.name,
                counted(album.pictures, "picture")
            );
            if !agreed(yes, context.json, &what, "apart")? {
                return Ok(DONE);
            }
            session.remove(&format!("api/albums/{}", album.id)).await?;
            told(context, &album, &format!("“{}” is no album any more.", album.name));
        }
    }
    Ok(DONE)
}

/// What comes of an album that follows a line.
fn following(album: &Album) -> String {
    let told = |line: &String| {
        format!(" “{}” follows: {line}. What that finds of yours comes into it in a moment, and from now on.", album.name)
    };
    album.follows.as_ref().map(told).unwrap_or_default()
}

fn may(word: &str) -> &str {
    match word {
        "own" => "everything: it is yours",
        "add" => "look, add pictures of yours",
        _ => "look",
    }
}

/// Puts what a line finds into an album, or takes it out.
async fn fill(
    context: &Context,
    session: &Session,
    album: &str,
    find: &[String],
    inside: bool,
) -> std::result::Result<(), Failed> {
    let album = named(session, album).await?;
    let pictures = pictures_of(session, &find.join(" "), (!inside).then_some(album.id)).await?;
    let (mut count, mut there) = (0, 0);
    for some in pictures.chunks(AT_ONCE) {
        let form = AlbumPictures { pictures: some.to_vec(), inside };
        let filled: AlbumFilled = session.post(&format!("api/albums/{}/pictures", album.id), &form).await?;
        (count, there) = (count + filled.count, there + filled.there);
    }
    if context.json {
        print_json(&json!({ "album": album.id, "found": pictures.len(), "count": count, "there": there }));
        return Ok(());
    }
    let done = if inside { "added to" } else { "taken out of" };
    let before = if inside && there > 0 { format!(" {} in it already.", are(there)) } else { String::new() };
    print(&format!("{} {done} “{}”.{before}\n", counted(count, "picture"), album.name));
    Ok(())
}

fn are(n: u64) -> String {
    format!("{} {}", counted(n, "picture"), if n == 1 { "was" } else { "were" })
}

fn told(context: &Context, album: &Album, said: &str) {
    if context.json { print_json(album) } else { print(&format!("{said}\n")) }
}

/// The album of that name. Of several, none is guessed.
async fn named(session: &Session, name: &str) -> std::result::Result<Album, Failed> {
    let all: Vec<Album> = session.get("api/albums").await?;
    let mut same = all.iter().filter(|a| a.name.to_lowercase() == name.to_lowercase() || a.id.to_string() == name);
    match (same.next(), same.next()) {
        (Some(one), None) => Ok(one.clone()),
        (Some(_), Some(_)) => {
            Err(usage(format!("there are several albums called {name}; give the id, as \"ypogeion --json albums\" prints it")))
        }
        _ => Err(usage(format!("you see no album called {name}; \"ypogeion albums\" lists them"))),
    }
}

/// The links to an album: lists, makes, withdraws them.
pub async fn links(context: &Context, links: Links) -> Result {
    let session = links.person.sign_in(context).await?;
    let done = with_links(context, &session, links.what).await;
    session.end().await;
    done
}

async fn with_links(context: &Context, session: &Session, what: LinkWhat) -> Result {
    let of = |album: &Album| format!("api/albums/{}/links", album.id);
    match what {
        LinkWhat::List { album } => {
            let album = named(session, &album).await?;
            let all: Vec<Link> = session.get(&of(&album)).await?;
            if context.json {
                print_json(&all);
            } else if all.is_empty() {
                print(&format!("No link to “{}” opens now.\n", album.name));
            } else {
                let mut table = Table::new(
                    &["N", "Until", "Hands out", "Takes", "Passphrase", "Opened", "Last"],
                    &[true, false, false, false, false, true, false],
                );
                for (n, l) in all.iter().enumerate() {
                    table.row(vec![
                        (n + 1).to_string(),
                        l.ends_at.with_timezone(&chrono::Local).format("%-d %B %Y").to_string(),
                        l.hands_out.clone(),
                        if l.takes { "pictures" } else { "nothing" }.to_owned(),
                        if l.passphrase { "yes" } else { "no" }.to_owned(),
                        words::count(l.opened),
                        l.opened_at.map_or("never".to_owned(), ago),
                    ]);
                }
                print(&table.to_string());
            }
        }
        LinkWhat::Make { album, days, hands_out, passphrase_file, takes } => {
            let album = named(session, &album).await?;
            let passphrase = passphrase_file.as_deref().map(secret).transpose()?;
            let made: Link = session.post(&of(&album), &NewLink { days, hands_out, passphrase, takes }).await?;
            match &made.address {
                _ if context.json => print_json(&made),
                // Alone on its line, for whoever hands it on.
                Some(address) => print(&format!("{address}\n")),
                None => return Err(Failed { code: crate::commands::PARTLY, sentence: "the server told no address".to_owned() }),
            }
        }
        LinkWhat::Withdraw { album, number, all } => {
            let album = named(session, &album).await?;
            let links: Vec<Link> = session.get(&of(&album)).await?;
            let chosen: Vec<&Link> = match number.and_then(|n| usize::try_from(n).ok()) {
                _ if all => links.iter().collect(),
                Some(n) => links.get(n - 1).into_iter().collect(),
                None => Vec::new(),
            };
            if chosen.is_empty() && !all {
                return Err(usage(format!("there is no such link; \"ypogeion links list\" numbers those to {}", album.name)));
            }
            for link in &chosen {
                session.remove(&format!("api/links/{}", link.id)).await?;
            }
            let ids: Vec<Value> = chosen.iter().map(|l| json!(l.id)).collect();
            if context.json {
                print_json(&ids);
            } else {
                print(&format!("{} withdrawn: nobody sees anything by them any more.\n", counted(ids.len() as u64, "link")));
            }
        }
    }
    Ok(DONE)
}
