//! What people write for the command line, read as the commands read it, and nothing done: for tests with odd inputs.

use std::path::{Path, PathBuf};

use clap::Parser;
use kampf_result::Document;

use crate::arguments::Arguments;
use crate::commands::parse_result;
use crate::output::{Page, contest_text};
use crate::problem::TextFile;
use crate::project::Config;

/// Whether the words of a command line are understood.
pub fn command_line(words: &[String]) -> bool {
    match Arguments::try_parse_from(std::iter::once("kampf").chain(words.iter().map(String::as_str))) {
        Ok(_) => true,
        Err(error) => {
            let _ = error.render().to_string();
            false
        }
    }
}

/// Whether a kampf.toml is understood, as far as that goes without its schema.
pub fn project_file(text: &str) -> bool {
    match Config::read(&TextFile { path: PathBuf::from("kampf.toml").into(), text: text.into() }) {
        Ok(_) => true,
        Err(problem) => {
            let _ = problem.to_string();
            false
        }
    }
}

/// Whether a saved result is one; its verdict is worked out again, shown and written.
pub fn saved_result(text: &str) -> bool {
    match parse_result(Path::new("result.json"), text) {
        Ok(run) => {
            let mut page = Page::new();
            run.contests.iter().for_each(|contest| contest_text(&mut page, contest));
            let _ = page.into_text();
            serde_json::to_string(&Document::of(&run)).is_ok()
        }
        Err(problem) => {
            let _ = problem.to_string();
            false
        }
    }
}
