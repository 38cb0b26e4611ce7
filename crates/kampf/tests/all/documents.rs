//! The README and the documents: their commands are understood, their files are read, and what they say comes back.

use std::path::{Path, PathBuf};
use std::process::Command;

use crate::common::Folder;
use kampf::odd_inputs::{command_line, project_file};

/// A block between fences.
struct Block {
    place: String,
    language: String,
    lines: Vec<String>,
}

/// All documents but the pages of figures, whose commands stand among what came out.
fn documents() -> Vec<(String, String)> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files: Vec<PathBuf> = std::fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.retain(|file| file.extension().is_some_and(|extension| extension == "md"));
    files.push(root.join("README.md"));
    files.sort();
    let read = |file: PathBuf| (file.file_name().unwrap().to_string_lossy().into_owned(), std::fs::read_to_string(&file).unwrap());
    files.into_iter().map(read).collect()
}

fn blocks(name: &str, text: &str) -> Vec<Block> {
    let mut blocks = Vec::new();
    let mut open: Option<Block> = None;
    for (at, line) in text.lines().enumerate() {
        match (line.strip_prefix("```"), open.take()) {
            (Some(language), None) => {
                open = Some(Block { place: format!("{name}:{}", at + 1), language: language.to_owned(), lines: Vec::new() });
            }
            (Some(_), Some(block)) => blocks.push(block),
            (None, Some(mut block)) => {
                block.lines.push(line.to_owned());
                open = Some(block);
            }
            (None, None) => {}
        }
    }
    blocks
}

/// What stands between backquotes in running text.
fn quoted(text: &str) -> Vec<&str> {
    let mut is_block = false;
    let running = text.lines().filter(|line| {
        let is_fence = line.starts_with("```");
        is_block ^= is_fence;
        !is_block && !is_fence
    });
    running.flat_map(|line| line.split('`').skip(1).step_by(2)).collect()
}

/// The words of a command line as a shell takes them apart, up to a comment, a pipe or a file.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quote = None;
    for sign in line.chars() {
        match (quote, sign) {
            (Some(open), sign) if open == sign => quote = None,
            (None, '"' | '\'') => quote = Some(sign),
            (None, ' ') => words.push(String::new()),
            (_, sign) => words.last_mut().unwrap().push(sign),
        }
    }
    words.retain(|word| !word.is_empty());
    let end = words.iter().position(|word| ["#", "|", ">", "&&"].contains(&word.as_str())).unwrap_or(words.len());
    words.truncate(end);
    words
}

/// Commands in a text that is one: `kampf race …`, also behind a `cd` or with variables before it.
fn commands(line: &str) -> Vec<Vec<String>> {
    let starts = line.match_indices("kampf ").filter(|(at, _)| *at == 0 || line[..*at].ends_with("&& "));
    starts.map(|(at, _)| words(&line[at..]).split_off(1)).collect()
}

/// What stands for something in a document, as something.
fn filled_in(word: &str) -> String {
    match word {
        "SHELL" => "bash".to_owned(),
        "OLD,NEW" => "one,other".to_owned(),
        other => other.trim_start_matches('[').trim_end_matches(']').to_owned(),
    }
}

#[test]
fn every_command_of_the_documents_and_of_the_help_is_understood() {
    let mut found = 0;
    let mut wrong = Vec::new();
    let mut all: Vec<(String, Vec<String>)> = Vec::new();
    for (name, text) in documents() {
        for block in blocks(&name, &text).iter().filter(|block| block.language.is_empty()) {
            all.extend(block.lines.iter().flat_map(|line| commands(line)).map(|words| (block.place.clone(), words)));
        }
        all.extend(quoted(&text).into_iter().flat_map(commands).map(|words| (name.clone(), words)));
    }
    for command in ["", "demo", "new", "fill", "show", "check", "race", "trace", "results", "compare", "completions", "man", "file-schema"]
    {
        let arguments: Vec<&str> = [command, "--help"].into_iter().filter(|word| !word.is_empty()).collect();
        let help = Folder::empty().ok(&arguments);
        let examples: Vec<&str> =
            help.lines().skip_while(|line| *line != "Examples:").skip(1).take_while(|line| line.starts_with("  ")).collect();
        assert!(!examples.is_empty(), "{command} has examples: {help}");
        // What an example does stands behind it, two spaces at least away.
        let lines = examples.iter().map(|line| line.trim_start().split("  ").next().unwrap_or_default());
        all.extend(lines.flat_map(commands).map(|words| (format!("kampf {command} --help"), words)));
    }
    for (place, words) in all {
        let words: Vec<String> = words.iter().map(|word| filled_in(word)).collect();
        found += 1;
        // A command alone is spoken of, not to be run.
        let is_name = words.len() == 1 && ["new", "trace", "compare", "completions", "man", "--version"].contains(&words[0].as_str());
        if !is_name && !command_line(&words) {
            wrong.push(format!("{place}: kampf {}", words.join(" ")));
        }
    }
    assert!(found > 100, "only {found} were found");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_piece_of_a_kampf_toml_in_the_documents_is_read() {
    let (mut found, mut wrong) = (0, Vec::new());
    for (name, text) in documents() {
        for block in blocks(&name, &text).iter().filter(|block| block.language == "toml") {
            let piece = block.lines.join("\n");
            let has_schema = block.lines.iter().any(|line| line.starts_with("schema"));
            // A contest that is only added to has what it is about elsewhere.
            let about: Vec<&str> = piece.lines().filter_map(|line| line.strip_prefix("[contest.")?.split([']', '.']).next()).collect();
            let lacks: Vec<&str> = about.iter().copied().filter(|name| !piece.contains(&format!("[contest.{name}]"))).collect();
            let heads: String = lacks.iter().map(|name| format!("[contest.{name}]\nfrom = \"hive\"\ngive = [\"label\"]\n")).collect();
            let whole = format!("{}{piece}\n{heads}", if has_schema { "" } else { "schema = \"schema.sql\"\n" });
            found += 1;
            if !project_file(&whole) {
                wrong.push(format!("{}:\n{whole}", block.place));
            }
        }
    }
    assert!(found > 25, "only {found} were found");
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// The first steps of the README, with a schema of somebody's own.
#[test]
fn the_contests_of_the_readme_are_about_the_demo_and_say_what_stands_there() {
    let (name, text) = documents().into_iter().find(|(name, _)| name == "README.md").unwrap();
    let folder = Folder::empty();
    let templates = Path::new(env!("CARGO_MANIFEST_DIR")).join("templates");
    folder.write("apiary.sql", std::fs::read(templates.join("apiary.sql")).unwrap());
    let head = std::fs::read_to_string(templates.join("apiary.toml")).unwrap();
    let head = head.split("[contest.").next().unwrap_or_default().to_owned();
    let blocks = blocks(&name, &text);
    let mut told = 0;
    for (at, block) in blocks.iter().enumerate().filter(|(_, block)| block.language == "toml") {
        let contest: Vec<&str> = block.lines.iter().map(String::as_str).skip_while(|line| !line.starts_with("[contest.")).collect();
        let contest = contest.join("\n").replace("select …", "select 1, 2, 3, 4");
        folder.write("kampf.toml", format!("{head}\n{contest}\n"));
        let name = contest.trim_start_matches("[contest.").split(']').next().unwrap();
        let shown = folder.ok(&["show", name]);
        // What is said of it stands behind it.
        let said = &blocks[at + 1];
        if said.language.is_empty() && said.lines[0].starts_with("Each of ") {
            let flowing = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
            assert!(flowing(&shown).contains(&flowing(&said.lines.join(" "))), "{}: {shown}", said.place);
            told += 1;
        }
    }
    assert_eq!(told, 1);
}

#[test]
fn every_file_that_a_document_points_to_is_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut found = 0;
    for (name, text) in documents() {
        let folder = if name == "README.md" { root.clone() } else { root.join("docs") };
        for (at, _) in text.match_indices("](") {
            let target = text[at + 2..].split([')', '#']).next().unwrap();
            if target.is_empty() || target.contains("://") {
                continue;
            }
            found += 1;
            assert!(folder.join(target).exists(), "{name} points to {target}");
        }
    }
    assert!(found > 40, "only {found} were found");
    // And all that is packed is in version control.
    let listed = Command::new("git").args(["ls-files", "docs/screenshots"]).current_dir(&root).output();
    if let Some(listed) = listed.ok().filter(|listed| listed.status.success() && !listed.stdout.is_empty()) {
        let (_, readme) = documents().into_iter().find(|(name, _)| name == "README.md").unwrap();
        for picture in String::from_utf8_lossy(&listed.stdout).lines() {
            assert!(
                readme.contains(picture) || documents().iter().any(|(_, text)| text.contains(picture.trim_start_matches("docs/"))),
                "{picture}"
            );
        }
    }
}
