//! Which side of pictures is up, as somebody says it from a terminal.

use clap::{Args, ValueEnum};
use ypogeion_core::{OriginalId, words::counted};
use ypogeion_wire::{choosing::Marked, given::TurnPictures};

use crate::{
    commands::{Context, DONE, Person, Result, agreed},
    find::{AT_ONCE, with_times},
    words::told,
};

#[derive(Args)]
pub struct Turn {
    #[command(flatten)]
    person: Person,
    /// Which way.
    #[arg(value_enum)]
    way: Way,
    /// Do not ask, however many pictures are found.
    #[arg(long)]
    yes: bool,
    /// What is looked for, as with "ypogeion find". Films stay as they are.
    #[arg(required = true, value_name = "WORD")]
    find: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Way {
    /// A quarter to the right.
    Right,
    /// A quarter to the left.
    Left,
    /// Upside down.
    Over,
    /// As their files say.
    AsInFile,
}

impl Way {
    fn quarters(self) -> Option<i8> {
        match self {
            Way::Right => Some(1),
            Way::Left => Some(-1),
            Way::Over => Some(2),
            Way::AsInFile => None,
        }
    }
}

/// Turns the pictures that a line finds.
pub async fn turn(context: &Context, turn: Turn) -> Result {
    let session = turn.person.sign_in(context).await?;
    let done = async {
        let found = with_times(&session, &turn.find.join(" "), None).await?;
        let pictures: Vec<OriginalId> = found.iter().map(|p| p.id).collect();
        let asks = format!("This turns {}.", counted(pictures.len() as u64, "picture"));
        if pictures.len() > 1 && !agreed(turn.yes, context.json, &asks, "turn them")? {
            return Ok(DONE);
        }
        let (quarters, mut count) = (turn.way.quarters(), 0);
        for some in pictures.chunks(AT_ONCE) {
            let form = TurnPictures { pictures: some.to_vec(), quarters, as_in_file: quarters.is_none() };
            count += session.post::<Marked>("api/turns", &form).await?.count;
        }
        told(context, &pictures, count, "turned");
        Ok(DONE)
    }
    .await;
    session.end().await;
    done
}
