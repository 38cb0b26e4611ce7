//! The commands, a file each.

mod check;
mod compare;
mod complete;
mod demo;
mod fill;
mod interrupts;
mod new;
mod race;
mod results;
mod self_test;
mod shell;
mod show;
mod teller;
mod trace;

use std::process::ExitCode;

use clap::Parser;

pub(crate) use results::parse as parse_result;
use teller::Teller;

use crate::arguments::{Arguments, Task};
use crate::output::{choose_color, complain, complain_line, print, print_as, print_json, say};
use crate::problem::{NO, SURROUNDINGS};
use crate::running::{DISTURBANCE, disturb};

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

/// Carries out what is started in every run of every contender, and what scripts ask most: putting the whole command line together
/// takes longer than the rest of such a start.
pub(crate) fn run_at_once() -> Option<ExitCode> {
    let mut words = std::env::args_os().skip(1);
    match (words.next().as_deref().and_then(|word| word.to_str()), words.next()) {
        (Some(CONTENDER), None) => Some(contender()),
        (Some(DISTURBANCE), None) => {
            disturb();
            Some(ExitCode::SUCCESS)
        }
        (Some(kampf_runner::WARDEN), Some(leash)) => Some(ExitCode::from(kampf_runner::hold(std::iter::once(leash).chain(words)))),
        (Some("--version" | "-V"), None) => Some(match print(concat!("kampf ", env!("CARGO_PKG_VERSION"), "\n")) {
            Ok(()) => ExitCode::SUCCESS,
            Err(problem) => ExitCode::from(problem.exit),
        }),
        _ => None,
    }
}

/// Reads the command line, carries it out and gives the exit status.
pub(crate) fn run() -> ExitCode {
    if complete::answered() {
        return ExitCode::SUCCESS;
    }
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) => {
            return command_line(&error);
        }
    };
    choose_color(arguments.general.color);
    let general = &arguments.general;
    let ended = match &arguments.command {
        Task::Demo(demo) => demo::run(general, demo),
        Task::New(new) => new::run(general, new),
        Task::Fill(fill) => fill::run(general, fill),
        Task::Show(show) => show::run(general, show),
        Task::Check(check) => check::run(general, check),
        Task::Race(race) => race::run(general, race),
        Task::Trace(trace) => trace::run(general, trace),
        Task::Results(results) => results::run(general, results),
        Task::Compare(compare) => compare::run(general, compare),
        Task::Completions(completions) => shell::completions(completions),
        Task::Man(man) => shell::man(general, man),
        Task::FileSchema => shell::schema(),
        Task::Contender => return contender(),
    };
    match ended {
        Ok(Ending::Done) => ExitCode::SUCCESS,
        Ok(Ending::No) => ExitCode::from(NO),
        Ok(Ending::Failed) => ExitCode::from(SURROUNDINGS),
        Err(problem) => {
            complain(&problem);
            ExitCode::from(problem.exit)
        }
    }
}

/// Help, or what is wrong with the command line, which may hold a password.
fn command_line(error: &clap::Error) -> ExitCode {
    let text = error.render().ansi().to_string();
    if !error.use_stderr() {
        // Its own colours are not among Kampf's, and nothing of it comes from elsewhere.
        let _ = std::io::Write::write_all(&mut anstream::stdout(), text.as_bytes());
        return ExitCode::SUCCESS;
    }
    let plain = anstream::adapter::strip_str(&text).to_string();
    complain_line(&plain);
    ExitCode::from(crate::problem::WRONG)
}

/// What the runner starts this program with, to carry out a contender.
const CONTENDER: &str = "contender";

fn contender() -> ExitCode {
    match kampf_runner::serve(std::io::stdin().lock(), std::io::stdout().lock()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(_) => ExitCode::from(SURROUNDINGS),
    }
}
