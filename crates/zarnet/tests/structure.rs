//! The structure of the source: arrows between modules go one way, files stay short, public names
//! are told apart.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A module by its path from the root of its crate.
type Module = Vec<String>;

/// What is known of the modules of a crate.
#[derive(Default)]
struct Crate {
    /// Every module, and its source without tests.
    sources: BTreeMap<Module, String>,
    /// By module: names that it hands on from elsewhere, and their path.
    handed_on: BTreeMap<Module, BTreeMap<String, Vec<String>>>,
}

/// A path that a file names, and whether it only hands on what is there.
struct Named {
    path: Vec<String>,
    hands_on: bool,
}

fn source_folders() -> Vec<PathBuf> {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut folders: Vec<PathBuf> = fs::read_dir(crates)
        .unwrap()
        .map(|e| e.unwrap().path().join("src"))
        .filter(|p| p.is_dir())
        .collect();
    folders.sort();
    folders
}

fn files_below(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files_below(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
}

/// Source without comments, and without the tests at its end.
fn plain_source(file: &Path) -> String {
    let text = fs::read_to_string(file).unwrap();
    let text = text.split("#[cfg(test)]\nmod tests").next().unwrap_or_default();
    let code = |line: &str| line.split("//").next().unwrap_or_default().to_owned();
    text.lines().map(code).collect::<Vec<_>>().join("\n")
}

/// The paths of a tree of imports, such as `a::{b, c::{d, e as f}}`.
fn flatten(tree: &str, before: &[String], found: &mut Vec<Vec<String>>) {
    let (mut depth, mut start) = (0, 0);
    let mut parts = Vec::new();
    for (i, c) in tree.char_indices() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&tree[start..i]);
                start = i + 1;
            }
            _ => {}
        }
    }
    parts.push(&tree[start..]);
    for part in parts.into_iter().map(str::trim).filter(|p| !p.is_empty()) {
        let (head, inner) = match part.split_once('{') {
            Some((head, inner)) => (head, Some(inner.trim_end().trim_end_matches('}'))),
            None => (part.split(" as ").next().unwrap_or(part), None),
        };
        let segments = head.split("::").map(str::trim).filter(|s| !s.is_empty()).map(str::to_owned);
        let path: Vec<String> = before.iter().cloned().chain(segments).collect();
        match inner {
            Some(inner) => flatten(inner, &path, found),
            None => found.push(path),
        }
    }
}

/// Every path that a source names: imports, and paths from the root of the crate in between.
fn named_in(source: &str) -> Vec<Named> {
    let mut named = Vec::new();
    let mut rest = String::new();
    for statement in source.split_inclusive(';') {
        let Some((before, tree)) = statement.rsplit_once("use ").filter(|(before, _)| {
            let word = before.rsplit(['\n', ';', '}', '{']).next().unwrap_or_default().trim();
            word.is_empty() || word.starts_with("pub")
        }) else {
            rest.push_str(statement);
            continue;
        };
        let hands_on =
            before.rsplit('\n').next().unwrap_or_default().trim_start().starts_with("pub");
        rest.push_str(before);
        let mut paths = Vec::new();
        flatten(tree.trim_end_matches(';'), &[], &mut paths);
        named.extend(paths.into_iter().map(|path| Named { path, hands_on }));
    }
    // a visibility names a module, and takes nothing from it
    for (at, _) in rest.match_indices("crate::").filter(|(at, _)| !rest[..*at].ends_with("in ")) {
        let end =
            rest[at..].find(|c: char| !c.is_alphanumeric() && c != '_' && c != ':').unwrap_or(0);
        let path = rest[at..at + end].split("::").map(str::to_owned).collect();
        named.push(Named { path, hands_on: false });
    }
    named
}

impl Crate {
    fn read(folder: &Path) -> Self {
        let mut files = Vec::new();
        files_below(folder, &mut files);
        let mut crate_ = Self::default();
        for file in files {
            let relative = file.strip_prefix(folder).unwrap().with_extension("");
            let mut module: Module =
                relative.iter().map(|s| s.to_string_lossy().into_owned()).collect();
            // tests look wherever they like
            if module.last().is_some_and(|l| ["tests", "testing"].contains(&l.as_str())) {
                continue;
            }
            if module.last().is_some_and(|l| ["mod", "lib", "main"].contains(&l.as_str())) {
                module.pop();
            }
            crate_.sources.entry(module).or_default().push_str(&plain_source(&file));
        }
        for (module, source) in &crate_.sources {
            let handed_on = named_in(source).into_iter().filter(|n| n.hands_on);
            let by_name = handed_on.filter_map(|n| Some((n.path.last()?.clone(), n.path)));
            crate_.handed_on.insert(module.clone(), by_name.collect());
        }
        crate_
    }

    /// The module in which what a path names is written down; `None` if that is in another crate.
    fn home(&self, from: &Module, path: &[String]) -> Option<Module> {
        let mut at: Module = from.clone();
        let mut rest = path;
        match path.first()?.as_str() {
            "crate" => {
                at.clear();
                rest = &path[1..];
            }
            "self" => rest = &path[1..],
            "super" => {
                while rest.first().is_some_and(|s| s == "super") {
                    at.pop();
                    rest = &rest[1..];
                }
            }
            first => {
                let child: Module = at.iter().cloned().chain([first.to_owned()]).collect();
                self.sources.get(&child)?;
            }
        }
        for (i, segment) in rest.iter().enumerate() {
            let child: Module = at.iter().cloned().chain([segment.clone()]).collect();
            if self.sources.contains_key(&child) {
                at = child;
                continue;
            }
            // handed on from somewhere else, or written down here
            let onward = self.handed_on.get(&at).and_then(|names| names.get(segment));
            return match onward {
                Some(onward) if onward[..] != rest[i..] => self.home(&at, onward).or(Some(at)),
                _ => Some(at),
            };
        }
        Some(at)
    }

    /// Which module takes something from which.
    fn arrows(&self) -> BTreeSet<(Module, Module)> {
        let mut arrows = BTreeSet::new();
        for (module, source) in &self.sources {
            for named in named_in(source).into_iter().filter(|n| !n.hands_on) {
                if let Some(home) = self.home(module, &named.path).filter(|home| home != module) {
                    arrows.insert((module.clone(), home));
                }
            }
        }
        arrows
    }
}

/// The children of a folder that an arrow inside it goes between; the folder's own module is a
/// child like others.
fn between(folder: &Module, (from, to): &(Module, Module)) -> Option<(String, String)> {
    let child = |module: &Module| {
        module
            .starts_with(folder)
            .then(|| module.get(folder.len()).cloned().unwrap_or_else(|| "mod".to_owned()))
    };
    let (from, to) = (child(from)?, child(to)?);
    (from != to).then_some((from, to))
}

/// A way round, if there is one.
fn circle(arrows: &BTreeSet<(String, String)>) -> Option<Vec<String>> {
    fn walk(
        at: &str,
        arrows: &BTreeSet<(String, String)>,
        way: &mut Vec<String>,
        done: &mut BTreeSet<String>,
    ) -> bool {
        if let Some(start) = way.iter().position(|w| w == at) {
            way.drain(..start);
            return true;
        }
        if !done.insert(at.to_owned()) {
            return false;
        }
        way.push(at.to_owned());
        if arrows.iter().filter(|a| a.0 == at).any(|a| walk(&a.1, arrows, way, done)) {
            return true;
        }
        way.pop();
        false
    }
    let (mut way, mut done) = (Vec::new(), BTreeSet::new());
    arrows.iter().any(|a| walk(&a.0, arrows, &mut way, &mut done)).then_some(way)
}

/// Inside each folder, at every depth, what is in it depends on each other one way only.
#[test]
fn modules_depend_on_each_other_one_way() {
    let mut circles = Vec::new();
    for folder in source_folders() {
        let crate_ = Crate::read(&folder);
        let arrows = crate_.arrows();
        assert!(arrows.len() > 5, "{}: hardly an arrow was read", folder.display());
        let mut folders: BTreeSet<Module> = BTreeSet::from([Vec::new()]);
        folders.extend(
            crate_.sources.keys().filter(|m| !m.is_empty()).map(|m| m[..m.len() - 1].to_vec()),
        );
        for inner in folders {
            let inside: BTreeSet<_> = arrows.iter().filter_map(|a| between(&inner, a)).collect();
            if let Some(way) = circle(&inside) {
                circles.push(format!("in {}/{}:", folder.display(), inner.join("/")));
                for (from, to) in way.iter().zip(way.iter().cycle().skip(1)) {
                    let example = arrows
                        .iter()
                        .find(|a| between(&inner, a) == Some((from.clone(), to.clone())));
                    let (a, b) =
                        example.map(|(a, b)| (a.join("::"), b.join("::"))).unwrap_or_default();
                    circles.push(format!("  {from} -> {to}: {a} takes from {b}"));
                }
            }
        }
    }
    assert!(circles.is_empty(), "circles between modules:\n{}", circles.join("\n"));
}

/// Who looks for a place finds it without scrolling.
#[test]
fn no_file_is_longer_than_400_lines() {
    let mut files = Vec::new();
    for source in source_folders() {
        files_below(&source, &mut files);
        let tests = source.with_file_name("tests");
        if tests.is_dir() {
            files_below(&tests, &mut files);
        }
    }
    let long = |file: &&PathBuf| fs::read_to_string(file).unwrap().lines().count() > 400;
    let long: Vec<_> = files.iter().filter(long).map(|f| f.display().to_string()).collect();
    assert!(long.is_empty(), "longer than 400 lines:\n{}", long.join("\n"));
}

/// One name, one meaning: a public type of a crate has a name of its own there.
#[test]
fn public_types_have_names_of_their_own() {
    let mut twice = Vec::new();
    for folder in source_folders() {
        let crate_ = Crate::read(&folder);
        let mut places: BTreeMap<String, BTreeSet<&Module>> = BTreeMap::new();
        for (module, source) in &crate_.sources {
            for line in source.lines() {
                let line = line.strip_prefix("pub ").unwrap_or_default();
                let name = ["struct ", "enum ", "trait ", "type "]
                    .iter()
                    .find_map(|kind| line.strip_prefix(kind));
                if let Some(name) = name {
                    let end = name.find(|c: char| !c.is_alphanumeric()).unwrap_or(name.len());
                    places.entry(name[..end].to_owned()).or_default().insert(module);
                }
            }
        }
        let several = places.iter().filter(|p| p.1.len() > 1);
        twice.extend(
            several.map(|(name, places)| format!("{}: {name} in {places:?}", folder.display())),
        );
    }
    assert!(twice.is_empty(), "one name, several types:\n{}", twice.join("\n"));
}
