//! The household's key and its recovery kit from a terminal, for the keeper.

use std::{
    fs,
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use clap::{Args, Subcommand};
use serde_json::json;
use ypogeion_agent::client::Session;
use ypogeion_core::{state::KitWorth, words};
use ypogeion_wire::offsite::{HouseKey, Kit};

use crate::{
    commands::{Context, DONE, Failed, PARTLY, Person, Result, agreed, print, print_json, usage},
    show::ago,
};

#[derive(Args)]
pub struct Key {
    #[command(flatten)]
    person: Person,
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Subcommand)]
enum What {
    /// What the server keeps of the key, who else can open copies, and how the recovery kit is [the default].
    Show,
    /// Print the recovery kit: whoever reads it can open every copy.
    Kit {
        /// Write it into this new file, for its owner's eyes only, and not to the terminal.
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// Show that the kit was kept: type a part of it back.
    Prove {
        /// The last eight characters of its line "Key".
        #[arg(long, value_name = "CHARACTERS")]
        key_end: String,
        /// Its line "Check".
        #[arg(long, value_name = "WORD")]
        check: String,
    },
    /// Make a new key. Copies are sealed anew over time; the kit has to be printed again at once.
    Renew {
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Have the server forget what opens copies: only the kit opens them then.
    Forget {
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Lend the server the kit's key for an hour.
    Lend {
        /// A file with the recovery kit, or with its line "Key" alone.
        #[arg(value_name = "FILE")]
        kit: PathBuf,
        /// For good, not for an hour.
        #[arg(long)]
        keep: bool,
    },
    /// Let somebody else open copies as well, with a key of their own.
    Allow {
        /// What people call them.
        name: String,
        /// The public half of their key, age1…
        recipient: String,
    },
    /// Seal for somebody no more.
    Disallow {
        /// What people call them.
        name: String,
    },
}

/// Looks at the key, or does something with it.
pub async fn key(context: &Context, key: Key) -> Result {
    let session = key.person.sign_in(context).await?;
    let done = act(context, &session, &key.person, key.what.unwrap_or(What::Show)).await;
    // The session was for this one thing.
    session.end().await;
    done
}

async fn act(context: &Context, session: &Session, person: &Person, what: What) -> Result {
    let password = person.password()?;
    let now: HouseKey = match what {
        What::Show => session.get("api/key").await?,
        What::Kit { to } => {
            let kit: Kit = session.post("api/kit", &json!({ "password": password })).await?;
            return hand_out(context, &kit, to.as_deref());
        }
        What::Prove { key_end, check } => session.post("api/kit/proof", &json!({ "key_end": key_end, "check": check })).await?,
        What::Renew { yes } => {
            if !agreed(
                yes,
                context.json,
                "A new key makes the printed recovery kit incomplete: what is sent from now on can only be opened with the new kit.",
                "renew",
            )? {
                print("Nothing was changed.\n");
                return Ok(DONE);
            }
            session.post("api/key/renew", &json!({ "password": password })).await?
        }
        What::Forget { yes } => {
            let what = "The key is removed from the server: it still compares copies while they are sealed, but cannot open them, replace what is damaged at home, or hold drills. \
                        Without the printed kit, nothing offsite can ever be opened again.";
            if !agreed(yes, context.json, what, "forget")? {
                print("Nothing was changed.\n");
                return Ok(DONE);
            }
            session.post("api/key/strict", &json!({ "password": password })).await?
        }
        What::Lend { kit, keep } => session.post("api/key/lend", &json!({ "key": key_of(&kit)?, "keep": keep })).await?,
        What::Allow { name, recipient } => {
            let new = json!({ "name": name, "recipient": recipient, "password": password });
            session.post("api/key/recipients", &new).await?
        }
        What::Disallow { name } => {
            let there: HouseKey = session.get("api/key").await?;
            let one = there.others.iter().find(|o| o.name.eq_ignore_ascii_case(&name));
            let one = one.ok_or_else(|| usage(format!("nobody called {name} can open copies")))?;
            session.delete(&format!("api/key/recipients/{}", one.recipient)).await?
        }
    };
    told(context, &now)
}

/// The keys of a kit, or of a file that holds nothing else.
fn key_of(file: &Path) -> std::result::Result<String, Failed> {
    let text = fs::read_to_string(file).map_err(|e| usage(format!("could not read {}: {e}", file.display())))?;
    let keys: Vec<&str> =
        text.lines().filter_map(|l| l.trim().strip_prefix("Key:").or(l.trim().strip_prefix("Older key:"))).collect();
    // Nothing else of the kit is sent.
    Ok(if keys.is_empty() { text.trim().to_owned() } else { keys.join("\n") })
}

fn hand_out(context: &Context, kit: &Kit, to: Option<&Path>) -> Result {
    match to {
        Some(file) => {
            // Never over another kit, and nobody else reads along.
            let written = fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(file)
                .and_then(|mut f| std::io::Write::write_all(&mut f, kit.text.as_bytes()).and_then(|()| f.sync_all()));
            written.map_err(|e| Failed { code: PARTLY, sentence: format!("could not write {}: {e}", file.display()) })?;
            print(&format!(
                "Written to {}. Print it, keep the sheet in another house, and delete the file; then: ypogeion key prove.\n",
                file.display()
            ));
        }
        None if context.json => print_json(kit),
        None => print(&kit.text),
    }
    Ok(DONE)
}

/// 1 if the kit would not bring everything back, so that a script notices.
fn told(context: &Context, key: &HouseKey) -> Result {
    let code = if matches!(key.kit.state, KitWorth::Missing | KitWorth::Outdated) { PARTLY } else { DONE };
    if context.json {
        print_json(key);
        return Ok(code);
    }
    let since = key.made_at.map_or(String::new(), |at| format!(", made {}", ago(at)));
    let earlier = match key.earlier {
        0 => String::new(),
        n => format!("; {} before it", words::counted(n, "key")),
    };
    print(&format!("Key       {}{since}{earlier}\n", key.recipient));
    print(&format!(
        "Server    {}\n",
        match (key.strict, key.opens, key.lent_seconds) {
            (false, ..) => "keeps the key and opens copies to prove them".to_owned(),
            (true, true, Some(left)) =>
                format!("was lent the key and opens copies, for {} more", words::counted(left.div_ceil(60), "minute")),
            (true, ..) => "keeps no key: it compares copies while they are sealed, and only the kit opens them".to_owned(),
        }
    ));
    for other in &key.others {
        print(&format!("Opens too {}, {}, since {}\n", other.name, other.recipient, ago(other.added_at)));
    }
    let shown = key.kit.shown_at.map_or(String::new(), |at| format!(", printed {}", ago(at)));
    print(&format!(
        "Kit       {}\n",
        match key.kit.state {
            KitWorth::Needless => "not needed yet: nothing is offsite".to_owned(),
            KitWorth::Missing =>
                "NEVER PRINTED: if this house is lost, nobody can open the copies. Next: ypogeion key kit".to_owned(),
            KitWorth::Outdated => format!("OUT OF DATE{shown}: keys or stores have changed since. Next: ypogeion key kit"),
            KitWorth::Unproven => format!("complete{shown}; it was not checked that it is printed. Next: ypogeion key prove"),
            KitWorth::Proven =>
                format!("complete{shown}; a part was typed back {}", key.kit.proven_at.map_or(String::new(), ago)),
        }
    ));
    if key.to_reseal > 0 {
        print(&format!(
            "To reseal {}, {}, a part each day\n",
            if key.to_reseal == 1 { "1 copy".to_owned() } else { format!("{} copies", words::count(key.to_reseal)) },
            words::size(key.to_reseal_bytes)
        ));
    }
    Ok(code)
}
