//! The shape of the workspace: who may use whom. Read from the sources, so that it is held and not only meant.

use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap().to_owned()
}

fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => found.extend(sources(&path)),
            false if path.extension().is_some_and(|e| e == "rs") => found.push(path),
            false => {}
        }
    }
    found
}

/// A source without its tests, without comments and without what is said to people.
fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]\nmod ").next().unwrap_or_default();
    let text: String = text.lines().filter(|l| !l.trim_start().starts_with("//")).map(|l| format!("{l}\n")).collect();
    let (mut out, mut inside, mut escaped) = (String::new(), false, false);
    for letter in text.chars() {
        match letter {
            '"' if !escaped => inside = !inside,
            c if !inside => out.push(c),
            _ => {}
        }
        escaped = letter == '\\' && !escaped;
    }
    out
}

type Module = Vec<String>;

/// The modules of a crate by the path under which they are known in it; its root has none.
fn modules(source: &Path) -> BTreeMap<Module, String> {
    let mut modules = BTreeMap::new();
    for path in sources(source) {
        let mut module: Module =
            path.strip_prefix(source).unwrap().with_extension("").iter().map(|p| p.to_str().unwrap().to_owned()).collect();
        if module.last().is_some_and(|m| m == "mod") {
            module.pop();
        }
        if !matches!(module.as_slice(), [only] if only == "lib" || only == "main") {
            modules.insert(module, code(&fs::read_to_string(path).unwrap()));
        }
    }
    modules
}

/// The paths that a tree of `use` names: `a::{b, c::d}` is `a::b` and `a::c::d`.
fn flattened(tree: &str, before: &[String], into: &mut BTreeSet<Module>) {
    let (mut depth, mut part, mut parts) = (0, String::new(), Vec::new());
    for letter in tree.chars() {
        depth += match letter {
            '{' => 1,
            '}' => -1,
            _ => 0,
        };
        match letter {
            ',' if depth == 0 => parts.push(std::mem::take(&mut part)),
            c if c.is_whitespace() => {}
            c => part.push(c),
        }
    }
    parts.push(part);
    for part in parts.iter().filter(|p| !p.is_empty()) {
        let (head, rest) = part.split_once('{').map_or((part.as_str(), None), |(h, r)| (h, Some(r.trim_end_matches('}'))));
        let path: Module = before.iter().cloned().chain(head.split("::").filter(|p| !p.is_empty()).map(str::to_owned)).collect();
        match rest {
            Some(rest) => flattened(rest, &path, into),
            None => drop(into.insert(path)),
        }
    }
}

/// What a module names of its own crate.
fn named(module: &[String], text: &str) -> BTreeSet<Module> {
    let mut paths = BTreeSet::new();
    for (i, _) in text.match_indices("use ") {
        let Some(end) = text[i..].find(';') else { continue };
        flattened(&text[i + 4..i + end], &[], &mut paths);
    }
    for (i, _) in text.match_indices("crate::") {
        let path: String = text[i..].chars().take_while(|c| c.is_alphanumeric() || matches!(c, '_' | ':')).collect();
        paths.insert(path.split("::").filter(|p| !p.is_empty()).map(str::to_owned).collect());
    }
    let parent = &module[..module.len() - 1];
    let own = paths.iter().filter_map(|path| match path.split_first()? {
        (head, rest) if head == "crate" => Some(rest.to_vec()),
        (head, rest) if head == "super" => Some([parent, rest].concat()),
        (head, rest) if head == "self" => Some([module, rest].concat()),
        _ => None,
    });
    own.collect()
}

/// Which module of a crate uses which. A module that is named as a whole is used by what is said with its name.
fn arrows(modules: &BTreeMap<Module, String>) -> BTreeMap<Module, BTreeSet<Module>> {
    let longest = |path: &[String]| (1..=path.len()).rev().map(|n| path[..n].to_vec()).find(|p| modules.contains_key(p));
    let mut arrows = BTreeMap::new();
    for (module, text) in modules {
        let mut to = BTreeSet::new();
        for path in named(module, text) {
            let Some(used) = longest(&path) else { continue };
            if used == path {
                let call = format!("{}::", used.last().unwrap());
                for (i, _) in text.match_indices(&call) {
                    let next: String = text[i + call.len()..].chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect();
                    to.extend(longest(&[&used[..], &[next]].concat()));
                }
            } else {
                to.insert(used);
            }
        }
        // What lies in a module of its own is a part of it.
        to.remove(module);
        arrows.insert(module.clone(), to);
    }
    arrows
}

fn reaches(arrows: &BTreeMap<Module, BTreeSet<Module>>, from: &Module, to: &Module) -> bool {
    let (mut seen, mut open) = (BTreeSet::new(), vec![from]);
    while let Some(module) = open.pop() {
        for next in arrows.get(module).into_iter().flatten() {
            if next == to {
                return true;
            }
            if seen.insert(next) {
                open.push(next);
            }
        }
    }
    false
}

fn circles(modules: &BTreeMap<Module, String>) -> Vec<String> {
    let arrows = arrows(modules);
    modules.keys().filter(|m| reaches(&arrows, m, m)).map(|m| m.join("::")).collect()
}

#[test]
fn no_module_is_in_a_circle() {
    let mut looked = 0;
    for folder in fs::read_dir(root().join("crates")).unwrap() {
        let folder = folder.unwrap().path();
        let modules = modules(&folder.join("src"));
        looked += arrows(&modules).values().map(BTreeSet::len).sum::<usize>();
        assert_eq!(circles(&modules), Vec::<String>::new(), "in {}", folder.display());
    }
    assert!(looked > 300, "{looked}");
    // And it would be seen.
    let made = |files: &[(&str, &str)]| {
        files.iter().map(|(m, t)| (m.split("::").map(str::to_owned).collect(), code(t))).collect::<BTreeMap<_, _>>()
    };
    let circle = made(&[("a", "use crate::{b::{c, D}, e};"), ("b", ""), ("b::c", "fn f() { crate::a::g() }"), ("e", "")]);
    assert_eq!(circles(&circle), Vec::<String>::new(), "a names c as a whole and says nothing with it");
    let circle = made(&[("a", "use crate::b::c;\nfn f() { c::g() }"), ("b", ""), ("b::c", "use super::super::a;")]);
    assert_eq!(circles(&circle), Vec::<String>::new());
    let circle = made(&[("a", "use crate::b::{self};\nuse crate::b::c::D;"), ("b", ""), ("b::c", "use crate::a::E;")]);
    assert_eq!(circles(&circle), ["a", "b::c"]);
}

/// The crates in the order of docs/architecture.md.
fn ordered() -> Vec<String> {
    let text = fs::read_to_string(root().join("docs/architecture.md")).unwrap();
    let rows = text.lines().filter_map(|l| l.strip_prefix("| `crates/")?.split_once('`').map(|(name, _)| name.to_owned()));
    rows.collect()
}

/// What a crate is built from; with `tests`, also what its tests are.
fn dependencies(name: &str) -> BTreeSet<String> {
    let text = fs::read_to_string(root().join("crates").join(name).join("Cargo.toml")).unwrap();
    let section = text.split_once("[dependencies]").map_or("", |(_, rest)| rest.split("\n[").next().unwrap_or_default());
    section.lines().filter_map(|l| l.split(['.', ' ', '=']).next()).filter(|n| !n.is_empty()).map(str::to_owned).collect()
}

#[test]
fn a_crate_uses_only_those_above_it() {
    let (order, mut seen) = (ordered(), 0);
    let there: BTreeSet<String> =
        fs::read_dir(root().join("crates")).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    assert_eq!(order.iter().cloned().collect::<BTreeSet<_>>(), there, "docs/architecture.md names every crate");
    for (place, name) in order.iter().enumerate() {
        for used in dependencies(name) {
            let short = if used == "ypogeiond" { "service" } else { used.strip_prefix("ypogeion-").unwrap_or_default() };
            let Some(other) = order.iter().position(|o| o == short) else { continue };
            assert!(other < place, "{name} uses {used}, which is below it");
            seen += 1;
        }
    }
    assert!(seen > 20, "{seen}");
}

#[test]
fn what_the_house_does_knows_no_protocol_and_no_terminal() {
    let edge = ["actix-web", "actix-files", "clap", "dav-server", "tracing-actix-web", "utoipa-actix-web", "rust-embed"];
    let order = ordered();
    let engine = order.iter().position(|n| n == "engine").unwrap();
    for name in &order[..=engine] {
        let used = dependencies(name);
        assert!(edge.iter().all(|e| !used.contains(*e)), "{name}: {used:?}");
    }
    assert!(dependencies("service").contains("actix-web"));
    // Problems are the API's: they are said at its edge, once for each refusal.
    for path in sources(&root().join("crates/engine/src")) {
        let text = code(&fs::read_to_string(&path).unwrap());
        assert!(!text.contains("ProblemType") && !text.contains("println!"), "{}", path.display());
    }
}

/// The files that a document names: `engine/src/work/heal.rs`, `work/heal.rs`, `rehearsals/shape.rs`.
fn files_named(text: &str) -> Vec<&str> {
    let quoted = text.split('`').skip(1).step_by(2);
    quoted.filter(|w| w.ends_with(".rs") || w.contains("/src/")).filter(|w| !w.contains([' ', '*', '{', ':'])).collect()
}

fn is_there(name: &str) -> bool {
    let crates = fs::read_dir(root().join("crates")).unwrap().map(|e| e.unwrap().path());
    let below = ["src", "tests", "tests/rehearsals", "tests/catalog"];
    let places = crates.flat_map(|c| below.iter().map(move |b| c.join(b)));
    let places = places.chain([root(), root().join("crates"), root().join("crates/rehearsal/tests")]);
    places.into_iter().any(|place| place.join(name).exists())
}

#[test]
fn every_file_that_a_document_names_is_there() {
    let (mut missing, mut seen) = (Vec::new(), 0);
    for document in ["docs/architecture.md", "docs/decisions.md", "docs/words.md", "README.md"] {
        let text = fs::read_to_string(root().join(document)).unwrap();
        for name in files_named(&text) {
            seen += 1;
            if !is_there(name) {
                missing.push(format!("{document}: {name}"));
            }
        }
    }
    assert!(missing.is_empty(), "{}", missing.join("\n"));
    assert!(seen > 50, "only {seen} files are named");
    assert!(!is_there("engine/src/work/nobody.rs"));
}

/// Whether a manifest says that its library has no tests of its own.
fn has_no_tests(manifest: &str) -> bool {
    let library = manifest.split("\n[lib]").nth(1).and_then(|rest| rest.split("\n[").next());
    library.is_some_and(|l| l.lines().any(|line| line.trim() == "test = false"))
}

/// A test that stands where nobody runs it says nothing.
#[test]
fn no_test_stands_where_none_is_run() {
    let folders = fs::read_dir(root().join("crates"))
        .unwrap()
        .map(|f| f.unwrap().path())
        .chain([root().join("demo"), root().join("xtask")]);
    let mut looked = 0;
    for folder in folders {
        if !has_no_tests(&fs::read_to_string(folder.join("Cargo.toml")).unwrap()) {
            continue;
        }
        for source in sources(&folder.join("src")) {
            assert!(!fs::read_to_string(&source).unwrap().contains("#[cfg(test)]"), "{}", source.display());
            looked += 1;
        }
    }
    assert!(looked > 80, "{looked}");
    assert!(has_no_tests("[package]\n\n[lib]\ntest = false\n\n[lints]") && !has_no_tests("\n[lib]\n\n[[bin]]\ntest = false"));
}
