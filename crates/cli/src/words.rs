//! What is said about pictures, and which are put away, from a terminal.

use clap::Args;
use serde_json::json;
use ypogeion_core::{OriginalId, words::counted};
use ypogeion_wire::choosing::{Marked, PutAway as Put, WriteWords};

use crate::{
    commands::{Context, DONE, Person, Result, agreed, print, print_json, usage},
    find::{AT_ONCE, pictures_of},
};

#[derive(Args)]
pub struct Words {
    #[command(flatten)]
    person: Person,
    /// The title from now on; empty: none.
    #[arg(long, value_name = "TEXT", conflicts_with = "as_in_file")]
    title: Option<String>,
    /// The caption from now on; empty: none.
    #[arg(long, value_name = "TEXT", conflicts_with = "as_in_file")]
    caption: Option<String>,
    /// Let what the files say count again.
    #[arg(long)]
    as_in_file: bool,
    /// Do not ask, however many pictures are found.
    #[arg(long)]
    yes: bool,
    /// What is looked for, as with "ypogeion find".
    #[arg(required = true, value_name = "WORD")]
    find: Vec<String>,
}

#[derive(Args)]
pub struct PutAway {
    #[command(flatten)]
    person: Person,
    /// Put them back. Look for "put away" and whatever else is so of them.
    #[arg(long)]
    back: bool,
    /// What is looked for, as with "ypogeion find".
    #[arg(required = true, value_name = "WORD")]
    find: Vec<String>,
}

/// Writes about the pictures that a line finds.
pub async fn words(context: &Context, words: Words) -> Result {
    if words.title.is_none() && words.caption.is_none() && !words.as_in_file {
        return Err(usage("give --title, --caption, or --as-in-file"));
    }
    let session = words.person.sign_in(context).await?;
    let done = async {
        let pictures = pictures_of(&session, &words.find.join(" "), None).await?;
        let what = format!("This changes what is said about {}.", counted(pictures.len() as u64, "picture"));
        if pictures.len() > 1 && !agreed(words.yes, context.json, &what, "write")? {
            return Ok(DONE);
        }
        let mut count = 0;
        for some in pictures.chunks(AT_ONCE) {
            let form = WriteWords {
                pictures: some.to_vec(),
                title: words.title.clone(),
                caption: words.caption.clone(),
                as_in_file: words.as_in_file,
            };
            count += session.post::<Marked>("api/words", &form).await?.count;
        }
        told(context, &pictures, count, "written about");
        Ok(DONE)
    }
    .await;
    session.end().await;
    done
}

/// Puts the pictures that a line finds away, or back.
pub async fn put_away(context: &Context, put: PutAway) -> Result {
    let session = put.person.sign_in(context).await?;
    let done = async {
        let pictures = pictures_of(&session, &put.find.join(" "), None).await?;
        let mut count = 0;
        for some in pictures.chunks(AT_ONCE) {
            let form = Put { pictures: some.to_vec(), away: !put.back };
            count += session.post::<Marked>("api/put-away", &form).await?.count;
        }
        told(context, &pictures, count, if put.back { "put back" } else { "put away" });
        Ok(DONE)
    }
    .await;
    session.end().await;
    done
}

pub fn told(context: &Context, pictures: &[OriginalId], count: u64, done: &str) {
    if context.json {
        print_json(&json!({ "found": pictures.len(), "count": count }));
    } else {
        print(&format!("{} {done}.\n", counted(count, "picture")));
    }
}
