//! All engines that there are.

use crate::engine::Engine;
use crate::postgres::Postgres;
use crate::sqlite::Sqlite;

/// The engine of a name.
pub fn engine(name: &str) -> Option<&'static dyn Engine> {
    ENGINES.iter().copied().find(|engine| engine.name() == name)
}

/// The names of all engines.
pub fn names() -> impl Iterator<Item = &'static str> {
    ENGINES.iter().map(|engine| engine.name())
}

static ENGINES: [&dyn Engine; 2] = [&Sqlite, &Postgres];
