//! Sentences that name a command or a page: the command exists with these options, and the page is there under this name.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::Command,
};

use crate::common::world;
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
    // In the menu under one's own name.
    names.push("Your account".into());
    let mut seen = 0;
    for (path, number, line) in lines(&[
        "crates/core/src",
        "crates/engine/src",
        "crates/service/src",
        "crates/cli/src",
        "crates/agent/src",
        "console/src",
    ]) {
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

/// What of a line is read by people: sentences in quotes, and text between tags. Statements for the database are none, nor are comments.
fn sentences(path: &Path, line: &str) -> Vec<String> {
    let text = line.trim();
    let end = path.extension().and_then(|e| e.to_str()).unwrap_or_default();
    if end == "md" {
        return vec![text.to_owned()];
    }
    if ["//", "*", "/*", "{/*", "--"].iter().any(|start| text.starts_with(start)) {
        return Vec::new();
    }
    let quoted = text.replace("\\\"", "“");
    let pieces: Vec<String> = match end {
        // Every second piece is within quotes; a sentence that goes on over lines has none.
        "rs" if quoted.contains('"') => quoted.split('"').skip(1).step_by(2).map(str::to_owned).collect(),
        "rs" if quoted.ends_with('\\') => vec![quoted],
        "rs" => Vec::new(),
        _ => {
            // What is put in while it runs is no word.
            let plain = without_braces(&quoted);
            let begins = ["function ", "const ", "let ", "return ", "export ", "import ", "if ", "type ", "interface ", "for "];
            let of_code = begins.iter().any(|word| plain.starts_with(word)) || plain.contains([';', '=']);
            let within = |mark: char| quoted.split(mark).skip(1).step_by(2).map(without_braces).collect::<Vec<_>>();
            let between = plain.split('>').skip(1).map(|piece| piece.split('<').next().unwrap_or_default().to_owned());
            let spoken = if of_code { between.collect() } else { vec![plain] };
            [spoken, within('"'), within('`')].concat()
        }
    };
    let sql = ["SELECT ", "INSERT ", "UPDATE ", "DELETE ", " WHERE ", " FROM "];
    pieces.into_iter().filter(|piece| piece.trim().contains(' ') && !sql.iter().any(|word| piece.contains(word))).collect()
}

/// A text without what stands in braces.
fn without_braces(text: &str) -> String {
    let mut deep = 0usize;
    let outside = |c: &char| {
        deep = match c {
            '{' => deep + 1,
            '}' => deep.saturating_sub(1),
            _ => return deep == 0,
        };
        false
    };
    text.chars().filter(outside).collect()
}

/// Whether a phrase stands in a text, as words of its own.
fn says(text: &str, phrase: &str) -> bool {
    let (text, letter) = (text.to_lowercase(), |c: char| c.is_alphanumeric() || c == '_');
    text.match_indices(phrase).any(|(at, _)| {
        let (before, after) = (&text[..at], &text[at + phrase.len()..]);
        !before.ends_with(letter) && !after.starts_with(letter)
    })
}

/// The phrases of the last column of `docs/words.md`, with the word that is used.
fn unused() -> Vec<(String, String)> {
    let table = fs::read_to_string(root().join("docs/words.md")).unwrap();
    let rows = table.lines().filter(|l| l.starts_with("| ") && !l.starts_with("| thing"));
    let cells = rows.map(|l| l.trim_matches('|').split('|').map(str::trim).collect::<Vec<_>>());
    cells
        .flat_map(|row| {
            assert_eq!(row.len(), 4, "{row:?}");
            let phrases = row[3].split('`').skip(1).step_by(2).map(str::to_owned).collect::<Vec<_>>();
            assert!(!phrases.is_empty(), "{row:?}");
            phrases.into_iter().map(move |phrase| (phrase, row[1].to_owned()))
        })
        .collect()
}

/// What each command says when it is asked for help, with the commands below it.
fn helps(helps: &mut Helps, command: &[String], found: &mut Vec<(String, String)>) {
    let Some(help) = helps.of(command) else { return };
    let list = help.split("Commands:\n").nth(1).unwrap_or_default().split("\n\n").next().unwrap_or_default();
    let below: Vec<String> =
        list.lines().filter(|l| !l.starts_with("   ")).filter_map(|l| l.split_whitespace().next()).map(str::to_owned).collect();
    found.push((command.join(" "), help.clone()));
    for word in below.into_iter().filter(|w| w != "help") {
        let command: Vec<String> = command.iter().cloned().chain([word]).collect();
        self::helps(helps, &command, found);
    }
}

#[test]
fn one_thing_has_one_word() {
    let (unused, mut faults, mut read) = (unused(), Vec::new(), 0);
    let shown = [
        "crates/core/src",
        "crates/engine/src",
        "crates/service/src",
        "crates/offsite/src",
        "crates/cli/src",
        "crates/agent/src",
        "crates/library/src",
    ];
    for (path, number, line) in lines(&[&shown[..], &["console/src", "docs/guides", "README.md"]].concat()) {
        if path.ends_with("schema.d.ts") {
            continue;
        }
        for sentence in sentences(&path, &line) {
            read += 1;
            for (phrase, word) in unused.iter().filter(|(phrase, _)| says(&sentence, phrase)) {
                faults.push(format!("{}:{number}: “{phrase}” in “{sentence}”; the word is: {word}", path.display()));
            }
        }
    }
    let mut said = Vec::new();
    for name in ["ypogeion", "ypogeiond"] {
        helps(&mut Helps::default(), &[name.to_owned()], &mut said);
    }
    for (command, line) in said.iter().flat_map(|(command, help)| help.lines().map(move |line| (command, line))) {
        for (phrase, word) in unused.iter().filter(|(phrase, _)| says(line, phrase)) {
            faults.push(format!("{command} --help: “{phrase}” in “{}”; the word is: {word}", line.trim()));
        }
    }
    assert!(said.len() > 30, "only {} commands were asked", said.len());
    assert!(faults.is_empty(), "{}", faults.join("\n"));
    assert!(read > 2000, "only {read} sentences were read");
}

#[test]
fn a_word_that_is_not_used_is_found() {
    let told = |file: &str, line: &str| sentences(Path::new(file), line).iter().any(|s| says(s, "mended") || says(s, "brake"));
    assert!(told("a.rs", r#"    let line = format!("mended {path} at home");"#));
    assert!(told("a.rs", r"             and so it was mended \"));
    assert!(told("a.tsx", r#"<Pick label="The brake holds it" hint="x" />"#));
    assert!(told("a.tsx", "            The brake holds it."));
    assert!(told("a.tsx", "<p>The brake holds it.</p>"));
    assert!(told("a.md", "Then the brake holds it."));
    assert!(!told("a.rs", "    // mended before"));
    assert!(!told("a.rs", r#"sql_query("SELECT brake FROM household")"#));
    assert!(told("a.tsx", r#"  const word = n > 0 ? "The brake holds" : "";"#));
    assert!(!told("a.tsx", "{brake.count} of these, unbraked"));
    assert!(!told("a.tsx", "            {brake && <Brake brake={brake} />} is drawn"));
    assert!(!told("a.tsx", "function Brake({ brake }: { brake: Rule }) {"));
}
