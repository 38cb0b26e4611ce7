//! The commands, a file each.

mod check;
mod circumstances;
mod compare;
mod contest_part;
mod demo;
mod fill;
mod new;
mod preview;
mod race;
mod results;
mod self_test;
mod session;
mod show;
mod trace;

use std::io::Write;
use std::process::ExitCode;

use clap::Parser;

use crate::arguments::{Arguments, Command};
use crate::output::{Look, choose_color, paint};
use crate::problem::{NO, Problem, SURROUNDINGS};

/// How a command that could be carried out ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Ending {
    /// Done.
    Done,
    /// The answer to the question is no.
    No,
    /// There is something to show, but the surroundings failed before there was an answer.
    Failed,
}

/// Reads the command line, carries it out and gives the exit status.
pub(crate) fn run() -> ExitCode {
    // Every run of every contender is a start of this program, and putting the whole command line together takes longer than
    // the rest of a start; so does what scripts ask most.
    let mut words = std::env::args_os().skip(1);
    match (words.next().as_deref().and_then(|word| word.to_str()), words.next()) {
        (Some(CONTENDER), None) => return contender(),
        (Some("--version" | "-V"), None) => {
            return match print(concat!("kampf ", env!("CARGO_PKG_VERSION"), "\n")) {
                Ok(()) => ExitCode::SUCCESS,
                Err(problem) => ExitCode::from(problem.exit),
            };
        }
        _ => {}
    }
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => {
            let _ = error.print();
            return ExitCode::from(if error.use_stderr() { crate::problem::WRONG } else { 0 });
        }
    };
    choose_color(arguments.general.color);
    let general = &arguments.general;
    let ended = match &arguments.command {
        Command::Demo(demo) => demo::run(general, demo),
        Command::New(new) => new::run(general, new),
        Command::Fill(fill) => fill::run(general, fill),
        Command::Show(show) => show::run(general, show),
        Command::Check(check) => check::run(general, check),
        Command::Race(race) => race::run(general, race),
        Command::Trace(trace) => trace::run(general, trace),
        Command::Results(results) => results::run(general, results),
        Command::Compare(compare) => compare::run(general, compare),
        Command::Contender => return contender(),
    };
    match ended {
        Ok(Ending::Done) => ExitCode::SUCCESS,
        Ok(Ending::No) => ExitCode::from(NO),
        Ok(Ending::Failed) => ExitCode::from(SURROUNDINGS),
        Err(problem) => {
            let _ = write!(anstream::stderr(), "{} {problem}", paint(Look::Bad, "kampf:"));
            ExitCode::from(problem.exit)
        }
    }
}

/// What the runner starts this program with, to carry out a contender.
const CONTENDER: &str = "contender";

fn contender() -> ExitCode {
    match kampf_runner::serve(std::io::stdin().lock(), std::io::stdout().lock()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(_) => ExitCode::from(SURROUNDINGS),
    }
}

/// Prints a result. A reader that went away has read enough.
pub(crate) fn print(text: &str) -> Result<(), Problem> {
    let mut out = anstream::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Problem::surroundings(format!("cannot write the result: {error}")))
        }
        _ => Ok(()),
    }
}

/// Says something beside the result.
pub(crate) fn say(quiet: bool, text: &str) {
    if !quiet {
        let _ = writeln!(anstream::stderr(), "{text}");
    }
}
