//! Sentences that name a command or a page: the command exists with these options, and the page is there under this name.

mod common;

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use common::world;
use ypogeion_rehearsal::{browser::Browser, program};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap().to_owned()
}

/// Every line that a person may read, or that becomes one: the programs' sources without their tests, the console's, the documents.
fn lines(folders: &[&str]) -> Vec<(PathBuf, usize, String)> {
    let mut found = Vec::new();
    let mut places: Vec<PathBuf> = folders.iter().map(|f| root().join(f)).collect();
    while let Some(place) = places.pop() {
        let name = place.file_name().and_then(|n| n.to_str()).unwrap_or_default();
        if place.is_dir() {
            if !["tests", "samples", "node_modules", "dist", "screenshots"].contains(&name) {
                places.extend(fs::read_dir(&place).unwrap().map(|e| e.unwrap().path()));
            }
        } else if [".rs", ".ts", ".tsx", ".md", ".html"].iter().any(|e| name.ends_with(e)) {
            let text = fs::read_to_string(&place).unwrap();
            let text = text.split("#[cfg(test)]").next().unwrap();
            let short = place.strip_prefix(root()).unwrap().to_owned();
            found.extend(text.lines().enumerate().map(|(n, line)| (short.clone(), n + 1, line.to_owned())));
        }
    }
    assert!(found.len() > 1000, "the sources were not found");
    found
}

/// What a command says when it is asked for help; nothing, if there is no such command.
#[derive(Default)]
struct Helps(BTreeMap<Vec<String>, Option<String>>);

impl Helps {
    fn of(&mut self, command: &[String]) -> Option<String> {
        let ask = || {
            let output = Command::new(program(&command[0]).unwrap()).args(&command[1..]).arg("--help").output().unwrap();
            output.status.success().then(|| String::from_utf8(output.stdout).unwrap())
        };
        self.0.entry(command.to_owned()).or_insert_with(ask).clone()
    }

    fn has(&mut self, command: &[String], word: &str) -> bool {
        let help = self.of(command).unwrap_or_default();
        let list = help.split("Commands:\n").nth(1).unwrap_or_default().split("\n\n").next().unwrap_or_default();
        // The one that answers for files from outside is not shown to people.
        list.lines().any(|l| l.split_whitespace().next() == Some(word)) || (command.len() == 1 && word == "media-worker")
    }

    /// What is wrong with a command that somebody would type.
    fn fault(&mut self, typed: &str) -> Option<String> {
        let words: Vec<&str> = typed.split_whitespace().map(|w| w.trim_matches(|c| "[],.;:)(".contains(c))).collect();
        let mut command = vec![words[0].to_owned()];
        let mut options = Vec::new();
        for word in &words[1..] {
            if word.starts_with("--") {
                options.push(word.split('=').next().unwrap_or(word));
            } else if options.is_empty() && self.has(&command, word) {
                command.push((*word).to_owned());
            } else if options.is_empty() && self.of(&command).is_some_and(|help| help.contains("Commands:\n")) {
                return Some(format!("there is no \"{} {word}\"", command.join(" ")));
            } else if self.has(&command, word) {
                // After an option that stands before the command, and what was given to it.
                command.push((*word).to_owned());
            }
        }
        let help = (1..=command.len()).filter_map(|n| self.of(&command[..n])).collect::<String>();
        let known = |o: &&&str| help.split(|c: char| !c.is_ascii_alphanumeric() && c != '-').any(|w| w == **o);
        options.iter().find(|o| !known(o)).map(|o| format!("\"{}\" knows no {o}", command.join(" ")))
    }
}

/// The commands that a line tells somebody to type: between quotes of some kind, or a line of their own.
fn typed(line: &str) -> Vec<String> {
    let mut found = Vec::new();
    for name in ["ypogeiond ", "ypogeion "] {
        for (at, _) in line.match_indices(name) {
            let (before, rest) = (&line[..at], &line[at..]);
            let opening = before.trim_end_matches("sudo ").chars().next_back();
            let closing = match opening {
                Some('`') => '`',
                Some('"') => '"',
                Some('“') => '”',
                Some('>') => '<',
                None if !line.starts_with("//") => '#',
                _ => continue,
            };
            let whole = rest.split([closing, '\\', '#', '|', '>']).next().unwrap_or(rest);
            // What is put in while it runs says nothing.
            found.push(whole.split('{').next().unwrap_or(whole).trim().to_owned());
        }
    }
    found
}

#[test]
fn every_command_that_is_named_is_there() {
    let (mut helps, mut faults, mut seen) = (Helps::default(), Vec::new(), BTreeSet::new());
    for (path, number, line) in lines(&["crates", "console/src", "docs", "README.md", "demo/src"]) {
        for command in typed(&line).into_iter().filter(|c| c.contains(' ')) {
            if let Some(fault) = helps.fault(&command) {
                faults.push(format!("{}:{number}: {command}: {fault}", path.display()));
            }
            seen.insert(command);
        }
    }
    assert!(faults.is_empty(), "{}", faults.join("\n"));
    for expected in ["ypogeiond recover --kit", "ypogeiond serve", "ypogeion backup", "ypogeiond rebuild"] {
        assert!(seen.iter().any(|c| c.starts_with(expected)), "{expected} is named nowhere: {seen:?}");
    }
    // A check that finds nothing wrong has to be able to.
    for wrong in ["ypogeion heal", "ypogeiond recover --everything", "ypogeion stores cheer"] {
        assert!(helps.fault(wrong).is_some(), "{wrong}");
    }
}

/// What follows "under", where that is the name of a page.
fn pages(line: &str) -> Vec<String> {
    let text = line.trim_start();
    if text.starts_with("//") || text.starts_with('*') || text.starts_with("/*") {
        return Vec::new();
    }
    let after = line.match_indices("nder ").filter_map(|(at, word)| line.get(at + word.len()..));
    let plain = after.map(|rest| rest.trim_start_matches(['"', '“', '‘', '\\']).to_owned());
    plain.filter(|rest| rest.starts_with(|c: char| c.is_ascii_uppercase())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_that_is_named_is_there() {
    let w = world().await;
    let browser = Browser::start(1280, 800).await.unwrap();
    browser.sign_in(&w.house.http, "Juno", &w.house.options.keeper.1).await.unwrap();
    browser.wait("nav a").await.unwrap();
    let read = "return [...document.querySelectorAll('nav a')].map(a => a.innerText.trim())";
    let shown = browser.page.execute(read, vec![]).await.unwrap();
    let mut names: Vec<String> = shown.as_array().unwrap().iter().map(|n| n.as_str().unwrap().to_owned()).collect();
    assert!(names.len() >= 7, "{names:?}");
    // Members, and phones, are shown the first word of this one.
    names.push("Devices".into());
    let mut seen = 0;
    for (path, number, line) in
        lines(&["crates/core/src", "crates/service/src", "crates/cli/src", "crates/agent/src", "console/src"])
    {
        for rest in pages(&line) {
            let named = names.iter().any(|n| {
                let whole = rest.strip_prefix(n.as_str());
                whole.is_some_and(|after| !after.starts_with(|c: char| c.is_alphanumeric()))
            });
            assert!(named, "{}:{number} names a page that is not there: {rest}; there are {names:?}", path.display());
            seen += 1;
        }
    }
    assert!(seen >= 10, "only {seen} sentences name a page");
}
