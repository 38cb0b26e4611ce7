//! `kampf results`

mod list;

use std::io::Read;
use std::path::{Path, PathBuf};

use kampf_result::{Document, LOST, RacedContest, RacedRun, ReadError};

use super::{Ending, print, print_json};
use crate::arguments::{Format, General, Results};
use crate::output::{Page, contest_text, together};
use crate::problem::Problem;

pub(super) fn run(general: &General, arguments: &Results) -> Result<Ending, Problem> {
    let home = general.home();
    match &arguments.result {
        Some(result) => again(general, &find(&home, result)?),
        None => list::run(general, &home),
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
    Document::read(text).map(Document::into_run).map_err(|error| refused(path, text, &error))
}

/// What is said of a file that is not taken for a result.
fn refused(path: &Path, text: &str, error: &ReadError) -> Problem {
    let problem = Problem::wrong(format!("{} {error}", path.display()));
    let problem = match error {
        ReadError::NotAResult => problem.hint("results are made by `kampf race` and listed by `kampf results`"),
        ReadError::Version(_) | ReadError::Kind(..) => problem.hint("use the kampf that made it, or a later one"),
        _ => problem,
    };
    // Earlier versions took passwords out of what they saved wherever they stood in it, also where they were a word of Kampf's own.
    if !text.contains(LOST) {
        return problem;
    }
    Problem { message: format!("{}; a word of it was taken for a password by an earlier kampf, and is lost", problem.message), ..problem }
}

/// Shows a result as when it was made.
fn again(general: &General, path: &Path) -> Result<Ending, Problem> {
    let run = read(path)?;
    if general.format == Format::Json {
        let text =
            serde_json::to_string_pretty(&Document::of(&run)).map_err(|error| Problem::surroundings(error.to_string()).because(error))?;
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
