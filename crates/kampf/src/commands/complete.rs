//! What shells complete: besides Kampf's own words those of the project at hand.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Arg, Command, CommandFactory};
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use clap_complete::env::CompleteEnv;

use crate::arguments::{Arguments, Color, Format, General, Selection};
use crate::project::{DERIVED, Project, resolve};

/// The environment variable by which a shell asks for words.
pub(super) const ASKED_BY: &str = "KAMPF_COMPLETE";

/// Contests whose contenders are worked out at most: somebody waits for the words.
const MOST: usize = 12;

/// Answers a shell that asks for words; false where none does.
pub(super) fn answered() -> bool {
    if std::env::var_os(ASKED_BY).is_none() {
        return false;
    }
    // What cannot be completed is not worth a word between two key strokes.
    let here = std::env::current_dir().ok();
    CompleteEnv::with_factory(command).var(ASKED_BY).try_complete(std::env::args_os(), here.as_deref()).unwrap_or(true)
}

/// The command line, with what its values may be.
fn command() -> Command {
    with_values(Arguments::command())
}

fn with_values(command: Command) -> Command {
    command.mut_args(with_value).mut_subcommands(with_values)
}

fn with_value(arg: Arg) -> Arg {
    let words: fn(&HalfLine) -> Vec<String> = match arg.get_id().as_str() {
        "contest" | "contests" => contests,
        "contender" | "only" | "pair" => contenders,
        "index" => indexes,
        "keys" | "preview" => tables,
        "engine" => engines,
        _ => return arg,
    };
    arg.add(ArgValueCandidates::new(move || {
        let words = words(&HalfLine::by_the_shell());
        words.into_iter().filter(|word| is_harmless(word)).map(CompletionCandidate::new).collect()
    }))
}

/// Whether a shell takes a word as it is: what is completed is put into a command line without quotes, and a name of somebody's schema
/// may be anything.
fn is_harmless(word: &str) -> bool {
    !word.is_empty() && word.chars().all(|sign| sign.is_alphanumeric() || "_-.:@+".contains(sign))
}

/// The command line so far.
struct HalfLine {
    words: Vec<String>,
}

impl HalfLine {
    fn by_the_shell() -> HalfLine {
        let words = std::env::args_os().skip_while(|word| word != "--").skip(1).map(OsString::into_string);
        HalfLine { words: words.filter_map(Result::ok).collect() }
    }

    /// The project that the command line is about, where it can be read.
    fn project(&self) -> Option<Project> {
        let general = General {
            file: self.file(),
            engine: None,
            data: None,
            scale: None,
            format: Format::Text,
            color: Color::Never,
            quiet: true,
            verbose: false,
        };
        Project::open(&general, None).ok()
    }

    fn file(&self) -> PathBuf {
        let named = self.words.windows(2).find(|pair| pair[0] == "-f" || pair[0] == "--file").map(|pair| pair[1].as_str());
        let joined = || self.words.iter().find_map(|word| word.strip_prefix("--file="));
        PathBuf::from(named.or_else(joined).unwrap_or("kampf.toml"))
    }
}

fn contests(asked: &HalfLine) -> Vec<String> {
    let project = asked.project();
    project.iter().flat_map(|project| &project.config.contests).map(|contest| contest.name.clone()).collect()
}

/// The contenders of the contests that are named, or of all.
fn contenders(asked: &HalfLine) -> Vec<String> {
    let Some(project) = asked.project() else { return Vec::new() };
    let all = &project.config.contests;
    let mut named: Vec<_> = all.iter().filter(|contest| asked.words.contains(&contest.name)).collect();
    if named.is_empty() {
        named = all.iter().collect();
    }
    let names_only = Selection { names_only: true, ..Selection::default() };
    let mut words = Vec::new();
    for contest in named.into_iter().take(MOST) {
        let entries = resolve(&project, contest, &names_only).map(|selected| selected.contest.entries);
        words.extend(entries.into_iter().flatten().map(|entry| entry.name));
    }
    words.sort();
    words.dedup();
    words
}

fn indexes(asked: &HalfLine) -> Vec<String> {
    let project = asked.project();
    let own = project.iter().flat_map(|project| &project.variants).filter(|variant| variant.keys.is_none());
    own.map(|variant| variant.name.clone()).chain([DERIVED.to_owned(), "none".to_owned()]).collect()
}

fn tables(asked: &HalfLine) -> Vec<String> {
    let project = asked.project();
    project.iter().flat_map(|project| &project.schema.tables).map(|table| table.name.clone()).collect()
}

fn engines(_: &HalfLine) -> Vec<String> {
    kampf_engine::names().map(str::to_owned).chain(["all".to_owned()]).collect()
}
