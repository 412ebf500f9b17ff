//! `ypogeion make-room`.

use std::{collections::BTreeMap, io::IsTerminal};

use clap::Args;
use serde_json::json;
use ypogeion_agent::{
    home::Home,
    room::{self, RoomAccount, RoomEntry},
};
use ypogeion_core::{clearance::RoomRule, words};

use crate::commands::{Context, DONE, Failed, PARTLY, Result, agreed, print, print_json, usage};

#[derive(Args)]
pub struct MakeRoom {
    /// Only what was taken at least this many days ago.
    #[arg(long, value_name = "DAYS")]
    older_than: Option<u32>,
    /// Only as much as is needed to have this much free, such as 20GB.
    #[arg(long, value_name = "SIZE", value_parser = size)]
    until_free: Option<u64>,
    /// Only videos.
    #[arg(long)]
    videos_only: bool,
    /// Videos before everything else.
    #[arg(long)]
    videos_first: bool,
    /// Ask the server and say what would go. Nothing is removed.
    #[arg(long)]
    dry_run: bool,
    /// Do not ask before removing.
    #[arg(long)]
    yes: bool,
}

fn size(text: &str) -> std::result::Result<u64, String> {
    words::parse_size(text).ok_or_else(|| format!("{text:?} is not a size such as 20GB"))
}

/// Makes room by a rule: says what would go, asks, and removes what the server clears.
pub async fn make_room(context: &Context, wanted: &MakeRoom) -> Result {
    let home = Home::open(&context.folder)?;
    let rule = RoomRule {
        older_than_days: wanted.older_than,
        until_free: wanted.until_free,
        videos_only: wanted.videos_only,
        videos_first: wanted.videos_first,
    };
    let free = free_space(&home)?;
    let today = chrono::Local::now().date_naive();
    let run = async |dry_run: bool| {
        let mut staying = BTreeMap::new();
        let account = room::make_room(&home, &rule, free, today, dry_run, |entry| {
            if !context.json {
                say(entry, dry_run, &mut staying);
            }
        })
        .await?;
        for (why, many) in staying.into_iter().filter(|(_, many)| *many > SHOWN) {
            print(&format!("stay      {:>9}  more: {why}\n", words::count(many - SHOWN)));
        }
        Ok::<_, Failed>(account)
    };
    if wanted.dry_run {
        let account = run(true).await?;
        return Ok(finish(context, &account, true));
    }
    if !wanted.yes {
        if context.json || !std::io::stdin().is_terminal() {
            return Err(usage("this removes files from this device; give --yes to confirm, or look first with --dry-run"));
        }
        let account = run(true).await?;
        let going = account.entries.iter().filter(|e| e.kept.is_none()).count() as u64;
        finish(context, &account, true);
        if going == 0 {
            return Ok(DONE);
        }
        if !agreed(false, false, &format!("Remove {} from this device?", words::counted(going, "file")), "remove")? {
            print("Nothing was removed.\n");
            return Ok(DONE);
        }
    }
    let account = run(false).await?;
    Ok(finish(context, &account, false))
}

/// The room on the file system of the first source.
fn free_space(home: &Home) -> std::result::Result<u64, Failed> {
    let source = home.state.sources.first().ok_or_else(|| usage("there is no source; add one with \"ypogeion sources add\""))?;
    room::free_space(&source.folder).map_err(|e| usage(format!("could not ask for the room of {}: {e}", source.folder.display())))
}

/// So many that stay are named for each reason.
const SHOWN: u64 = 10;

fn say(entry: &RoomEntry, dry_run: bool, staying: &mut BTreeMap<String, u64>) {
    let file = format!("{}/{}", entry.source, entry.name);
    match &entry.kept {
        None if dry_run => print(&format!("would go  {:>9}  {file}\n", words::size(entry.size))),
        None => print(&format!("removed   {:>9}  {file}\n", words::size(entry.size))),
        Some(why) => {
            let many = staying.entry(why.clone()).or_default();
            *many += 1;
            if *many <= SHOWN {
                print(&format!("stays     {:>9}  {file}: {why}\n", words::size(entry.size)));
            }
        }
    }
}

fn finish(context: &Context, account: &RoomAccount, dry_run: bool) -> u8 {
    let kept = account.entries.iter().filter(|e| e.kept.is_some()).count() as u64;
    let gone = account.entries.len() as u64 - kept;
    if context.json {
        let entries: Vec<_> = account
            .entries
            .iter()
            .map(|e| json!({ "source": e.source, "name": e.name, "size": e.size, "kept": e.kept }))
            .collect();
        print_json(&json!({
            "dry_run": dry_run, "removed": gone, "kept": kept, "freed": account.freed, "demanded": account.demanded, "entries": entries
        }));
    } else if account.entries.is_empty() {
        print("The rule chooses nothing that was backed up.\n");
    } else {
        let verb = if dry_run { "would go" } else { "removed" };
        print(&format!("{} {verb}: {} of room.", words::counted(gone, "file"), words::size(account.freed)));
        print(&if kept > 0 { format!(" {} stay.\n", words::counted(kept, "file")) } else { "\n".to_owned() });
        if gone > 0 && !dry_run {
            print(
                "If this device keeps deleted files in a bin of its own, the space is free when the bin is emptied; on phones that can take some weeks.\n",
            );
        }
    }
    if kept > 0 && !dry_run { PARTLY } else { DONE }
}
