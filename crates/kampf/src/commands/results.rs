//! `kampf results`

mod list;

use std::io::Read;
use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::{Ending, print, print_json};
use crate::arguments::{Format, General, Results};
use crate::document::Document;
use crate::output::{Page, STARS, bytes, contest_text, together};
use crate::problem::Problem;
use crate::raced::{RacedContest, RacedRun};

pub(super) fn run(general: &General, arguments: &Results) -> Result<Ending, Problem> {
    let home = general.home();
    match &arguments.result {
        Some(result) => again(general, &find(&home, result)?),
        None => list::run(general, &home),
    }
}

/// Bytes of a result that are read: thousands of rounds of hundreds of contenders are a few of these.
const LARGEST: u64 = 256 << 20;

/// Bytes of a text in a result: the SQL of a need with very many values is some of these.
const LONGEST: usize = 1 << 20;

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
    parse(path, &text_of(path)?)
}

fn text_of(path: &Path) -> Result<String, Problem> {
    let failed = |error: &std::io::Error| Problem::file("cannot read", path, error);
    let file = std::fs::File::open(path).map_err(|error| failed(&error))?;
    let mut text = String::new();
    file.take(LARGEST).read_to_string(&mut text).map_err(|error| failed(&error))?;
    Ok(text)
}

/// The run that a result's text tells of.
pub(crate) fn parse(path: &Path, text: &str) -> Result<RacedRun, Problem> {
    parsed(path, text).map_err(|problem| explained(problem, text))
}

/// Earlier versions took passwords out of what they saved wherever they stood in it, also where they were a word of Kampf's own.
fn explained(problem: Problem, text: &str) -> Problem {
    if !text.contains(STARS) {
        return problem;
    }
    Problem { message: format!("{}; a word of it was taken for a password by an earlier kampf, and is lost", problem.message), ..problem }
}

/// Bytes of the longest text in a document, escapes included.
fn longest_text(json: &str) -> usize {
    let (mut longest, mut begun, mut escaped) = (0, None, false);
    for (at, byte) in json.bytes().enumerate() {
        match (byte, begun) {
            _ if std::mem::take(&mut escaped) => {}
            (b'\\', Some(_)) => escaped = true,
            (b'"', None) => begun = Some(at),
            (b'"', Some(from)) => {
                longest = longest.max(at - from - 1);
                begun = None;
            }
            _ => {}
        }
    }
    longest
}

fn parsed(path: &Path, text: &str) -> Result<RacedRun, Problem> {
    header(path, text)?;
    let wrong = |what: String| Problem::wrong(format!("{} {what}", path.display()));
    if longest_text(text) > LONGEST {
        return Err(wrong(format!("is no result of kampf: a text in it is longer than {}", bytes(LONGEST as u64))));
    }
    let document: Document = serde_json::from_str(text).map_err(|error| wrong(format!("is damaged, or from another kampf: {error}")))?;
    if document.contests.iter().any(|contest| contest.engine.name == STARS) {
        return Err(wrong("does not say on which engine it was raced".to_owned()));
    }
    if let Some(what) = document.contradiction() {
        return Err(wrong(format!("is damaged, or was edited: {what}")));
    }
    Ok(document.into_run())
}

/// Sees to it that a text is a result of a version that is known.
fn header(path: &Path, text: &str) -> Result<(), Problem> {
    /// What every version of the format begins with.
    #[derive(Default, Deserialize)]
    #[serde(default)]
    struct Header {
        format: serde_json::Value,
        version: serde_json::Value,
    }
    let wrong = |what: String| Problem::wrong(format!("{} {what}", path.display()));
    let header = match serde_json::from_str::<Header>(text) {
        Ok(header) => header,
        Err(error) if error.is_data() => Header::default(),
        Err(error) => return Err(wrong(format!("is not JSON: {error}"))),
    };
    if header.format != "kampf-result" {
        return Err(wrong("is not a result of kampf".to_owned()).hint("results are made by `kampf race` and listed by `kampf results`"));
    }
    if header.version != 1 {
        return Err(wrong(format!("has version {} of the format, and this kampf knows version 1", header.version))
            .hint("use the kampf that made it, or a later one"));
    }
    Ok(())
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
