//! The shape of the code: the core touches nothing of the machine, and files that need each other are few, and get no more.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use regex::Regex;

/// The crates that know no file, clock, thread and environment.
const CORE: [&str; 8] = ["schema", "fill", "doubt", "contest", "race", "verdict", "result", "protocol"];

/// What none of these may name.
const OF_THE_MACHINE: [&str; 12] = [
    "std::fs",
    "std::env",
    "std::net",
    "std::os",
    "std::process",
    "std::thread",
    "Instant",
    "SystemTime",
    "stdin(",
    "stdout(",
    "stderr(",
    "tempfile",
];

/// Files of a crate that need each other, directly or over others. This list may only get shorter.
const CIRCLES: &[&[&str]] = &[
    &["contest::evaluate", "contest::evaluate::indexes"],
    &[
        "contest::layers::cache",
        "contest::layers::execution",
        "contest::layers::graph",
        "contest::layers::graph::statement",
        "contest::layers::portions",
        "contest::layers::repeats",
        "contest::layers::whole",
    ],
    &["contest::planner", "contest::planner::list", "contest::planner::rows"],
    &["contest::planner::forms", "contest::planner::frame", "contest::planner::split"],
    &["contest::resolve", "contest::resolve::leaves", "contest::resolve::related"],
    &["contest::sql::fragment", "contest::sql::print"],
    &["engine::throwaway::home", "engine::throwaway::process"],
    &["fill::blueprint", "fill::keys"],
    &["fill::derived", "fill::maker"],
    &["fill::guess::numbers", "fill::guess::times"],
    &["kampf::commands::trace", "kampf::commands::trace::relations"],
    &["kampf::output::out", "kampf::output::style", "kampf::problem"],
    &["kampf::output::page", "kampf::output::table"],
    &["kampf::project", "kampf::project::config", "kampf::project::keys", "kampf::project::variant"],
    &["kampf::store", "kampf::store::record"],
    &["race::evidence", "race::heat", "race::race", "race::signs", "race::standing"],
    &[
        "runner::policy::check",
        "runner::policy::honesty",
        "runner::policy::kept",
        "runner::policy::log",
        "runner::policy::pace",
        "runner::policy::race",
        "runner::policy::stage",
    ],
    &["runner::processes::references", "runner::processes::sample"],
    &["schema::ddl::draft", "schema::ddl::read", "schema::ddl::tokens", "schema::ddl::types"],
    &["schema::expr::evaluate", "schema::expr::functions"],
    &["schema::expr::rule", "schema::index", "schema::model"],
];

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("it is in the folder of crates").to_owned()
}

/// The files of a crate's source by their modules, without tests: `planner::list`; the crate itself is the empty one.
fn modules(name: &str) -> BTreeMap<String, String> {
    let source = crates().join(name).join("src");
    let (mut modules, mut folders) = (BTreeMap::new(), vec![source.clone()]);
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("a folder of source").flatten() {
            let path = entry.path();
            let is_test = path.file_stem().is_some_and(|stem| stem == "tests");
            if path.is_dir() && !is_test {
                folders.push(path);
            } else if path.extension().is_some_and(|extension| extension == "rs") && !is_test {
                let inside = path.strip_prefix(&source).unwrap().with_extension("");
                let words: Vec<String> = inside.iter().map(|word| word.to_string_lossy().into_owned()).collect();
                let words = words.into_iter().filter(|word| !["mod", "lib", "main"].contains(&word.as_str()));
                modules.insert(words.collect::<Vec<_>>().join("::"), code(&std::fs::read_to_string(&path).unwrap()));
            }
        }
    }
    modules
}

/// A file without comments and without what is tested in it.
fn code(text: &str) -> String {
    let text = text.split("#[cfg(test)]\nmod tests {").next().unwrap_or_default();
    let line =
        |line: &str| line.split_once("//").filter(|(before, _)| !before.contains('"')).map_or(line.to_owned(), |(code, _)| code.to_owned());
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

#[test]
fn the_core_touches_no_file_clock_thread_or_environment() {
    let word = |what: &str| Regex::new(&format!(r"(^|[^A-Za-z_]){}", regex::escape(what))).unwrap();
    let forbidden = OF_THE_MACHINE.map(|what| (what, word(what)));
    for name in CORE {
        for (module, code) in modules(name) {
            for (what, pattern) in &forbidden {
                let found = code.lines().find(|line| pattern.is_match(line));
                assert!(found.is_none(), "{name}, {module}: {what} is of the machine: {}", found.unwrap_or_default());
            }
        }
    }
}

/// The paths that a tree of a `use` stands for: `a::{b, c::d}` is `a::b` and `a::c::d`.
fn spread(tree: &str) -> Vec<String> {
    let tree = tree.trim();
    let Some((head, rest)) = tree.split_once('{') else {
        return vec![tree.split(" as ").next().unwrap_or_default().trim().to_owned()];
    };
    let (mut parts, mut depth, mut part) = (Vec::new(), 0, String::new());
    for c in rest.trim_end().strip_suffix('}').unwrap_or(rest).chars() {
        match c {
            ',' if depth == 0 => parts.push(std::mem::take(&mut part)),
            c => {
                depth += i32::from(c == '{') - i32::from(c == '}');
                part.push(c);
            }
        }
    }
    parts.push(part);
    parts.iter().filter(|part| !part.trim().is_empty()).flat_map(|part| spread(part)).map(|path| format!("{head}{path}")).collect()
}

/// What a file takes from its crate: paths from the crate's root, and whether it only hands them on.
fn paths(module: &str, code: &str) -> Vec<(String, bool)> {
    let uses = Regex::new(r"(?s)(pub(?:\([a-z]+\))?\s+)?\buse\s+([^;]+);").unwrap();
    let named = Regex::new(r"\b(?:crate|super|self)(?:::[A-Za-z_][A-Za-z_0-9]*)+").unwrap();
    let from_root = |path: &str| {
        let (first, rest) = path.split_once("::").unwrap_or((path, ""));
        let mut at: Vec<&str> = module.split("::").filter(|word| !word.is_empty()).collect();
        let mut rest = rest;
        match first {
            "crate" => at.clear(),
            "self" => {}
            "super" => {
                at.pop();
                while let Some(further) = rest.strip_prefix("super::") {
                    at.pop();
                    rest = further;
                }
            }
            // A child of the module, or a crate of somebody else's, which no module is found for.
            _ => rest = path,
        }
        at.into_iter().chain(rest.split("::")).collect::<Vec<_>>().join("::")
    };
    let mut found: Vec<(String, bool)> = Vec::new();
    for one in uses.captures_iter(code) {
        found.extend(spread(&one[2]).iter().map(|path| (from_root(path), one.get(1).is_some())));
    }
    let rest = uses.replace_all(code, "");
    found.extend(named.find_iter(&rest).map(|path| (from_root(path.as_str()), false)));
    found
}

/// The files that each file of a crate needs. What a module only hands on is needed of the one that has it.
fn needs(modules: &BTreeMap<String, String>) -> BTreeMap<String, BTreeSet<String>> {
    let all: BTreeMap<&String, Vec<(String, bool)>> = modules.iter().map(|(module, code)| (module, paths(module, code))).collect();
    let home = |path: &str| -> Option<(String, String)> {
        let words: Vec<&str> = path.split("::").collect();
        let at = (0..=words.len()).rev().find(|&at| modules.contains_key(&words[..at].join("::")))?;
        Some((words[..at].join("::"), words[at..].join("::")))
    };
    let resolve = |path: &str| {
        let mut path = path.to_owned();
        for _ in 0..8 {
            let (module, item) = home(&path)?;
            let first = item.split("::").next().unwrap_or_default().to_owned();
            let handed = all[&module].iter().find(|(of, is_handed)| *is_handed && of.rsplit("::").next() == Some(&first));
            match handed {
                Some((of, _)) if !first.is_empty() && *of != path => path.clone_from(of),
                _ => return Some(module),
            }
        }
        None
    };
    let of = |module: &String| {
        let taken = all[module].iter().filter(|(_, is_handed)| !is_handed);
        let files: BTreeSet<String> = taken.filter_map(|(path, _)| resolve(path)).collect();
        files.into_iter().filter(|file| file != module && !file.is_empty()).collect()
    };
    modules.keys().map(|module| (module.clone(), of(module))).collect()
}

/// The files that reach each other, two or more together.
fn circles(needs: &BTreeMap<String, BTreeSet<String>>) -> Vec<Vec<String>> {
    let reached = |from: &String| {
        let (mut seen, mut next) = (BTreeSet::new(), vec![from]);
        while let Some(at) = next.pop() {
            next.extend(needs[at].iter().filter(|file| seen.insert((*file).clone())));
        }
        seen
    };
    let reach: BTreeMap<&String, BTreeSet<String>> = needs.keys().map(|file| (file, reached(file))).collect();
    let mut circles: Vec<Vec<String>> = Vec::new();
    for file in needs.keys().filter(|file| reach[file].contains(*file)) {
        if !circles.iter().any(|circle| circle.contains(file)) {
            circles.push(needs.keys().filter(|other| reach[file].contains(*other) && reach[other].contains(file)).cloned().collect());
        }
    }
    circles
}

#[test]
fn files_that_need_each_other_get_no_more() {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(crates()).expect("the folder of crates").flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        found.extend(
            circles(&needs(&modules(&name)))
                .into_iter()
                .map(|circle| circle.into_iter().map(|module| format!("{name}::{module}")).collect::<Vec<_>>()),
        );
    }
    found.sort();
    let known: Vec<Vec<String>> = CIRCLES.iter().map(|circle| circle.iter().map(|file| (*file).to_owned()).collect()).collect();
    assert_eq!(found, known, "take what is gone off the list; what is new is to be untied: have what both need in a file of its own");
}

#[test]
fn circles_are_found_through_what_is_handed_on() {
    let files = |texts: &[(&str, &str)]| texts.iter().map(|(module, text)| ((*module).to_owned(), code(text))).collect::<BTreeMap<_, _>>();
    let tied = files(&[
        ("", "mod a;\npub use a::One;"),
        ("a", "mod inner;\npub use inner::{One, Two as Second};"),
        ("a::inner", "use crate::b::{self, c::{Three}};\npub struct One;"),
        ("b", "// use crate::nothing;\npub mod c;"),
        ("b::c", "fn three() { crate::One }"),
    ]);
    assert_eq!(circles(&needs(&tied)), [["a::inner", "b::c"]]);
    let free = files(&[("a", "use super::b::Two;"), ("b", "pub struct Two;\n#[cfg(test)]\nmod tests {\n    use crate::a::One;\n}")]);
    assert!(circles(&needs(&free)).is_empty());
}
