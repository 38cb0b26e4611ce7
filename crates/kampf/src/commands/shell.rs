//! `kampf completions`, `kampf man` and `kampf file-schema`: what shells, readers and editors want to know of Kampf.

use std::path::Path;

use clap::{Command, CommandFactory};
use clap_complete::Shell;
use clap_complete::env::Shells;

use super::complete::ASKED_BY;
use super::{Ending, print, say};
use crate::arguments::{Arguments, Completions, General, Man};
use crate::output::shown;
use crate::problem::Problem;
use crate::project::file_schema;
use crate::store::write_whole;

/// What makes a shell ask this program for the words of a command line.
pub(super) fn completions(arguments: &Completions) -> Result<Ending, Problem> {
    let shells = Shells::builtins();
    let name = arguments.shell.to_string();
    let mut text = Vec::new();
    if let Some(shell) = shells.completer(&name) {
        let written = shell.write_registration(ASKED_BY, "kampf", "kampf", "kampf", &mut text);
        written.map_err(|error| Problem::surroundings(format!("the words for {name} cannot be put together: {error}")).because(error))?;
    }
    if arguments.shell == Shell::Zsh {
        // As a file that zsh loads when it is first asked it has to answer that, too.
        text.extend_from_slice(b"[[ $funcstack[1] != _kampf ]] || _clap_dynamic_completer_kampf \"$@\"\n");
    }
    print(&String::from_utf8_lossy(&text))?;
    Ok(Ending::Done)
}

/// A page for the program, and one for each of its commands.
pub(super) fn man(general: &General, arguments: &Man) -> Result<Ending, Problem> {
    let folder = &arguments.dir;
    std::fs::create_dir_all(folder).map_err(|error| Problem::file("cannot make", folder, &error))?;
    let mut program = Arguments::command().disable_help_subcommand(true);
    program.build();
    write_pages(&program, folder)?;
    say(general.quiet, &format!("made kampf.1 and a page for each command in {}", shown(&folder.display().to_string())));
    Ok(Ending::Done)
}

fn write_pages(command: &Command, folder: &Path) -> Result<(), Problem> {
    for below in command.get_subcommands().filter(|below| !below.is_hide_set()) {
        write_pages(below, folder)?;
    }
    let page = clap_mangen::Man::new(command.clone());
    let (path, mut text) = (folder.join(page.get_filename()), Vec::new());
    page.render(&mut text).map_err(|error| Problem::file("cannot write", &path, &error))?;
    write_whole(&path, &String::from_utf8_lossy(&text))
}

/// The JSON Schema of kampf.toml.
pub(super) fn schema() -> Result<Ending, Problem> {
    print(&file_schema())?;
    Ok(Ending::Done)
}
