//! What is backed up, and when.

use std::path::PathBuf;

use chrono::{NaiveDate, NaiveTime, Utc, Weekday};
use clap::{Args, Subcommand, ValueEnum};
use ypogeion_agent::home::{Home, Source};
use ypogeion_core::{
    OriginalName,
    condition::{Conditions, Hours, Mobile, Schedule},
    source::{Sort, SourceRule},
};

use crate::{
    commands::{Context, DONE, Result, print, print_json, usage},
    show::Table,
};

#[derive(Subcommand)]
pub enum Sources {
    /// Back up a folder, or change what of it is backed up.
    Add(Box<Add>),
    /// Stop backing up a folder. What was sent stays.
    Remove {
        /// What it is called.
        name: String,
    },
}

#[derive(Args)]
pub struct Add {
    /// The folder.
    folder: PathBuf,
    /// What it is called [default: the folder's own name].
    #[arg(long)]
    name: Option<String>,
    /// Only these sorts of files: photos, videos, raw, screenshots, motion-halves, others.
    #[arg(long, value_name = "SORTS", value_delimiter = ',', value_parser = sort)]
    only: Vec<Sort>,
    /// Only these folders inside; `*` stands for any part of a name, `**` for any folders.
    #[arg(long, value_name = "PATTERN")]
    include: Vec<String>,
    /// Not these folders inside.
    #[arg(long, value_name = "PATTERN")]
    exclude: Vec<String>,
    /// Only what was taken on this day or later (2026-04-12).
    #[arg(long, value_name = "DAY")]
    since: Option<NaiveDate>,
    /// Only what appears from now on.
    #[arg(long)]
    new_only: bool,
}

fn sort(word: &str) -> std::result::Result<Sort, String> {
    Sort::from_word(word).ok_or_else(|| format!("the sorts are {}", Sort::ALL.map(Sort::word).join(", ")))
}

impl Add {
    fn rule(&self) -> SourceRule {
        let everything = SourceRule::default();
        SourceRule {
            sorts: if self.only.is_empty() { everything.sorts } else { self.only.iter().copied().collect() },
            include: self.include.clone(),
            exclude: self.exclude.clone(),
            since: self.since,
            new_from: self.new_only.then(Utc::now),
        }
    }
}

/// Lists, adds and removes sources.
pub fn sources(context: &Context, what: Option<Sources>) -> Result {
    let mut home = Home::open(&context.folder)?;
    match what {
        None => {}
        Some(Sources::Add(add)) => {
            let folder = add.folder.canonicalize().map_err(|e| usage(format!("{} cannot be used: {e}", add.folder.display())))?;
            if !folder.is_dir() {
                return Err(usage(format!("{} is not a folder", folder.display())));
            }
            let own = folder.file_name().map_or("/".into(), |n| n.to_string_lossy().into_owned());
            let name: String = OriginalName::from_device(add.name.as_ref().unwrap_or(&own)).into();
            let source = Source { rule: add.rule(), ..Source::new(&name, &folder) };
            match home.state.sources.iter_mut().find(|s| s.name == name) {
                Some(there) if there.folder == folder => *there = source,
                Some(_) => {
                    return Err(usage(format!(
                        "there is a source called {name} already; give this one another name with --name"
                    )));
                }
                None => home.state.sources.push(source),
            }
            home.save()?;
        }
        Some(Sources::Remove { name }) => {
            let before = home.state.sources.len();
            home.state.sources.retain(|s| s.name != name);
            if home.state.sources.len() == before {
                return Err(usage(format!("there is no source called {name}")));
            }
            home.save()?;
        }
    }
    list(context, &home)
}

fn list(context: &Context, home: &Home) -> Result {
    if context.json {
        print_json(&home.state.sources);
    } else if home.state.sources.is_empty() {
        print("Nothing is backed up yet. Add a folder: ypogeion sources add FOLDER\n");
    } else {
        let mut table = Table::new(&["Source", "Folder", "What"], &[false, false, false]);
        for s in &home.state.sources {
            table.row(vec![s.name.clone(), s.folder.display().to_string(), s.rule.words()]);
        }
        print(&table.to_string());
    }
    Ok(DONE)
}

/// What may go over mobile data.
#[derive(Clone, Copy, ValueEnum)]
enum MobileWord {
    /// Nothing.
    Never,
    /// Photos, but no videos.
    Photos,
    /// Everything.
    Everything,
}

#[derive(Args)]
pub struct ConditionsChange {
    /// What may go over mobile data, or over any network that costs by the byte.
    #[arg(long, value_name = "WHAT")]
    mobile: Option<MobileWord>,
    /// Only on the network where the server is.
    #[arg(long, value_name = "YES")]
    home_network: Option<bool>,
    /// Only while charging.
    #[arg(long, value_name = "YES")]
    charging: Option<bool>,
    /// Not below this battery level, in percent, unless it charges.
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    battery: Option<u8>,
    /// Only in these hours: 22:00-06:00, or "always".
    #[arg(long, value_name = "HOURS", value_parser = hours)]
    hours: Option<Option<Hours>>,
    /// How often: "change", "day 03:00", "week sun 03:00" or "month 1 03:00".
    #[arg(long, value_name = "SCHEDULE", value_parser = schedule)]
    every: Option<Schedule>,
}

fn time(text: &str) -> std::result::Result<NaiveTime, String> {
    NaiveTime::parse_from_str(text.trim(), "%H:%M").map_err(|_| format!("{text:?} is not a time such as 03:00"))
}

// clap takes the outer option for "not given"; the inner one is "always".
fn hours(text: &str) -> std::result::Result<Option<Hours>, String> {
    if text == "always" {
        return Ok(None);
    }
    let (from, until) = text.split_once('-').ok_or("hours are written 22:00-06:00, or \"always\"")?;
    Ok(Some(Hours { from: time(from)?, until: time(until)? }))
}

fn schedule(text: &str) -> std::result::Result<Schedule, String> {
    let words: Vec<&str> = text.split_whitespace().collect();
    match words[..] {
        ["change"] => Ok(Schedule::Change),
        ["day", at] => Ok(Schedule::Day { at: time(at)? }),
        ["week", on, at] => {
            Ok(Schedule::Week { on: on.parse::<Weekday>().map_err(|_| format!("{on:?} is no day of the week"))?, at: time(at)? })
        }
        ["month", day, at] => match day.parse() {
            Ok(day @ 1..=31) => Ok(Schedule::Month { day, at: time(at)? }),
            _ => Err(format!("{day:?} is no day of a month")),
        },
        _ => Err("a schedule is \"change\", \"day 03:00\", \"week sun 03:00\" or \"month 1 03:00\"".to_owned()),
    }
}

/// Shows and changes the conditions.
pub fn conditions(context: &Context, change: &ConditionsChange) -> Result {
    let mut home = Home::open(&context.folder)?;
    let before = home.state.conditions.clone();
    let now = &mut home.state.conditions;
    if let Some(word) = change.mobile {
        now.mobile = match word {
            MobileWord::Never => Mobile::Never,
            MobileWord::Photos => Mobile::Photos,
            MobileWord::Everything => Mobile::Everything,
        };
    }
    now.home_network_only = change.home_network.unwrap_or(now.home_network_only);
    now.charging_only = change.charging.unwrap_or(now.charging_only);
    now.battery_at_least = change.battery.unwrap_or(now.battery_at_least);
    now.hours = change.hours.unwrap_or(now.hours);
    now.schedule = change.every.unwrap_or(now.schedule);
    if *now != before {
        home.save()?;
    }
    if context.json {
        print_json(&home.state.conditions);
    } else {
        print(&words(&home.state.conditions));
    }
    Ok(DONE)
}

fn words(c: &Conditions) -> String {
    let every = match c.schedule {
        Schedule::Change => "whenever there is something new".to_owned(),
        Schedule::Day { at } => format!("every day from {}", at.format("%H:%M")),
        Schedule::Week { on, at } => format!("every week on {on} from {}", at.format("%H:%M")),
        Schedule::Month { day, at } => format!("every month on the {day}. from {}", at.format("%H:%M")),
    };
    let mut lines = vec![format!("Sends by itself {every}.")];
    lines.extend(c.hours.map(|h| format!("Only between {} and {}.", h.from.format("%H:%M"), h.until.format("%H:%M"))));
    lines.push(
        match c.mobile {
            Mobile::Never => "Nothing over mobile data or another network that costs money for each byte.",
            Mobile::Photos => "Photos, but no videos, over mobile data.",
            Mobile::Everything => "Everything over mobile data, too.",
        }
        .to_owned(),
    );
    if c.home_network_only {
        lines.push("Only on the network where the server is.".to_owned());
    }
    if c.charging_only {
        lines.push("Only while charging.".to_owned());
    }
    lines.push(format!("Not below {} % of battery, unless it charges.", c.battery_at_least));
    lines.join("\n") + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schedules_and_hours_are_read_as_they_are_written() {
        let three = time("03:00").unwrap();
        assert_eq!(schedule("week sun 03:00"), Ok(Schedule::Week { on: Weekday::Sun, at: three }));
        assert_eq!(schedule("month 31 03:00"), Ok(Schedule::Month { day: 31, at: three }));
        for wrong in ["", "day", "day 25:00", "month 32 03:00", "week someday 03:00", "hourly"] {
            assert!(schedule(wrong).is_err(), "{wrong}");
        }
        assert_eq!(hours("always"), Ok(None));
        assert_eq!(hours("22:00-03:00"), Ok(Some(Hours { from: time("22:00").unwrap(), until: three })));
        assert!(hours("22-3").is_err());
    }
}
