//! `kampf completions`, `kampf man` and `kampf file-schema`: what shells, readers and editors want to know of Kampf.

use clap::CommandFactory;

use super::{Ending, print, say};
use crate::arguments::{Arguments, Completions, General, Man};
use crate::output::shown;
use crate::problem::Problem;
use crate::project::file_schema;

/// The words of the command line for a shell.
pub(super) fn completions(arguments: &Completions) -> Result<Ending, Problem> {
    let mut text = Vec::new();
    clap_complete::generate(arguments.shell, &mut Arguments::command(), "kampf", &mut text);
    print(&String::from_utf8_lossy(&text))?;
    Ok(Ending::Done)
}

/// A page for the program, and one for each of its commands.
pub(super) fn man(general: &General, arguments: &Man) -> Result<Ending, Problem> {
    let folder = &arguments.dir;
    std::fs::create_dir_all(folder).map_err(|error| Problem::file("cannot make", folder, &error))?;
    clap_mangen::generate_to(Arguments::command(), folder).map_err(|error| Problem::file("cannot write pages to", folder, &error))?;
    say(general.quiet, &format!("made kampf.1 and a page for each command in {}", shown(&folder.display().to_string())));
    Ok(Ending::Done)
}

/// The JSON Schema of kampf.toml.
pub(super) fn schema() -> Result<Ending, Problem> {
    print(&file_schema())?;
    Ok(Ending::Done)
}
