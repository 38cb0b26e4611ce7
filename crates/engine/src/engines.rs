//! All engines that there are.

use crate::engine::Engine;
use crate::postgres::Postgres;
use crate::sqlite::Sqlite;

/// The engine of a name, or of what URLs of its servers begin with.
pub fn engine(name: &str) -> Option<&'static dyn Engine> {
    ENGINES.iter().copied().find(|engine| engine.name() == name || engine.schemes().contains(&name))
}

/// The engine where none is named: it needs no server.
pub fn usual() -> &'static dyn Engine {
    &Sqlite
}

/// What URLs of servers begin with.
pub fn schemes() -> impl Iterator<Item = &'static str> {
    ENGINES.iter().flat_map(|engine| engine.schemes()).copied()
}

/// Whether a file in a dataset's folder is one that some engine puts there; `is_word` knows the words of variants.
pub fn is_file_of_dataset(name: &str, is_word: fn(&str) -> bool) -> bool {
    ENGINES.iter().any(|engine| engine.is_own_file(name, is_word))
}

/// Whether a variable of the environment is some driver's, which may find a password by it.
pub fn is_variable_of_driver(name: &str) -> bool {
    ENGINES.iter().any(|engine| engine.is_own_variable(name))
}

/// The names of all engines.
pub fn names() -> impl Iterator<Item = &'static str> {
    ENGINES.iter().map(|engine| engine.name())
}

static ENGINES: [&dyn Engine; 2] = [&Sqlite, &Postgres];
