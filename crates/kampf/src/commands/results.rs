//! `kampf results`

use std::io::Read;
use std::path::{Path, PathBuf};

use serde_json::json;

use super::{Ending, print, print_json};
use crate::arguments::{Format, General, Results};
use crate::document::Document;
use crate::output::{Column, Look, Page, contest_text, count, duration, end, together};
use crate::problem::Problem;
use crate::raced::{RacedContest, RacedRun};

pub(super) fn run(general: &General, arguments: &Results) -> Result<Ending, Problem> {
    let home = general.home();
    match &arguments.result {
        Some(result) => again(general, &find(&home, result)?),
        None => list(general, &home),
    }
}

/// Bytes of a result that are read: thousands of rounds of hundreds of contenders are a few of these.
const LARGEST: u64 = 256 << 20;

/// The folder of a project's results.
fn folder(home: &Path) -> PathBuf {
    home.join(".kampf").join("results")
}

/// The file of a result: the one of that path, else the project's of that name.
pub(super) fn find(home: &Path, result: &Path) -> Result<PathBuf, Problem> {
    if result == Path::new("latest") {
        return latest(home).ok_or_else(|| Problem::wrong("there is no result yet").hint("`kampf race` makes one"));
    }
    let named = folder(home).join(result);
    let known = [result.to_owned(), named.clone(), named.with_extension("json")];
    known.into_iter().find(|path| path.is_file()).ok_or_else(|| {
        Problem::wrong(format!("there is no result {}", result.display())).hint("`kampf results` lists those that were saved")
    })
}

/// The last result of a project: their names are times.
fn latest(home: &Path) -> Option<PathBuf> {
    let files = std::fs::read_dir(folder(home)).ok()?.flatten().map(|entry| entry.path());
    files.filter(|path| path.extension().is_some_and(|ending| ending == "json")).max()
}

/// Reads a result and works out again what follows from its rounds.
pub(super) fn read(path: &Path) -> Result<RacedRun, Problem> {
    let failed = |error: &std::io::Error| Problem::file("cannot read", path, error);
    let file = std::fs::File::open(path).map_err(|error| failed(&error))?;
    let mut text = String::new();
    file.take(LARGEST).read_to_string(&mut text).map_err(|error| failed(&error))?;
    parse(path, &text)
}

/// The run that a result's text tells of.
pub(crate) fn parse(path: &Path, text: &str) -> Result<RacedRun, Problem> {
    let wrong = |what: String| Problem::wrong(format!("{} {what}", path.display()));
    let value: serde_json::Value = serde_json::from_str(text).map_err(|error| wrong(format!("is not JSON: {error}")))?;
    if value["format"] != "kampf-result" {
        return Err(wrong("is not a result of kampf".to_owned()).hint("results are made by `kampf race` and listed by `kampf results`"));
    }
    if value["version"] != 1 {
        return Err(wrong(format!("has version {} of the format, and this kampf knows version 1", value["version"]))
            .hint("use the kampf that made it, or a later one"));
    }
    let document: Document = serde_json::from_value(value).map_err(|error| wrong(format!("is damaged, or from another kampf: {error}")))?;
    if let Some(what) = document.contradiction() {
        return Err(wrong(format!("is damaged, or was edited: {what}")));
    }
    Ok(document.into_run())
}

/// Shows a result as when it was made.
fn again(general: &General, path: &Path) -> Result<Ending, Problem> {
    let run = read(path)?;
    if general.format == Format::Json {
        let text = serde_json::to_string_pretty(&Document::of(&run)).map_err(|error| Problem::surroundings(error.to_string()))?;
        print_json(&text)?;
        return Ok(Ending::Done);
    }
    let mut page = Page::new();
    shown_again(&mut page, &run.contests);
    print(&page.into_text())?;
    Ok(Ending::Done)
}

/// The contests as they were shown when they were raced.
fn shown_again(page: &mut Page, contests: &[RacedContest]) {
    contests.iter().filter(|contest| contest.facts.pair.is_none()).for_each(|contest| contest_text(page, contest));
    together(page, contests);
}

fn list(general: &General, home: &Path) -> Result<Ending, Problem> {
    let mut paths: Vec<PathBuf> = std::fs::read_dir(folder(home))
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "json"))
        .collect();
    paths.sort();
    let results = paths.iter().map(|path| (path, read(path)));
    if general.format == Format::Json {
        let all: Vec<_> = results
            .map(|(path, document)| match document {
                Ok(run) => {
                    let contests: Vec<_> = Document::of(&run)
                        .contests
                        .iter()
                        .map(|part| json!({"name": part.name, "engine": part.engine.name, "verdict": part.verdict}))
                        .collect();
                    json!({"file": path, "contests": contests})
                }
                Err(problem) => json!({"file": path, "unreadable": problem.message}),
            })
            .collect();
        print_json(&format!("{:#}", json!({"results": all})))?;
        return Ok(Ending::Done);
    }
    if paths.is_empty() {
        print("no results yet; `kampf race` makes one\n")?;
        return Ok(Ending::Done);
    }
    let mut rows = Vec::new();
    for (path, document) in results {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        match document {
            Ok(run) => {
                for (at, part) in run.contests.iter().enumerate() {
                    let name = if at == 0 { name.clone() } else { String::new() };
                    let (look, verdict) = verdict(part);
                    let engine = match part.conditions.round_trip() {
                        Some(trip) => format!("{} +{}", part.engine.name, duration(trip)),
                        None => part.engine.name.clone(),
                    };
                    rows.push(vec![
                        (Look::Strong, name),
                        (Look::Plain, part.name.clone()),
                        (Look::Quiet, engine),
                        (Look::Quiet, count(part.facts.rounds as u64)),
                        (look, verdict),
                    ]);
                }
            }
            Err(problem) => {
                let quiet = || (Look::Quiet, String::new());
                rows.push(vec![(Look::Strong, name), quiet(), quiet(), quiet(), (Look::Bad, format!("unreadable: {}", problem.message))]);
            }
        }
    }
    let columns = [
        Column::left("result"),
        Column::left("contest"),
        Column::left("engine").yielding(2),
        Column::right("rounds").yielding(1),
        Column::left("verdict").open(),
    ];
    let mut page = Page::new();
    page.table(&columns, &rows);
    print(&page.into_text())?;
    Ok(Ending::Done)
}

/// A verdict in a few words.
fn verdict(part: &RacedContest) -> (Look, String) {
    let verdict = &part.verdict;
    let (look, ended) = end(part);
    let named = |at: usize| format!("{}  {}", part.name_of(at), verdict.placed[at].shown.map_or(String::new(), duration));
    match (verdict.choose, verdict.leader) {
        (Some(chosen), _) if part.course.interrupted => (Look::Good, format!("{}, interrupted", named(chosen))),
        (Some(chosen), _) => (Look::Good, named(chosen)),
        (None, Some(leader)) => (look, format!("{ended}, {} leads", named(leader))),
        (None, None) => (look, ended),
    }
}
