//! What every engine offers.

use std::path::Path;

use kampf_contest::{Dialect, EngineError, Session};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

use crate::load::LoadEvent;
use crate::sqlite::Sqlite;

/// A setting of an engine, by name.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Setting {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// A table as it was loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Loaded {
    /// Its name.
    pub table: String,
    /// Its rows.
    pub rows: u64,
    /// Digest of its content before the engine stored it.
    pub digest: u64,
}

/// The room a table takes, its indexes included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableSize {
    /// Its name.
    pub table: String,
    /// Bytes.
    pub bytes: u64,
}

/// A database engine.
pub trait Engine: Sync {
    /// The name users write.
    fn name(&self) -> &'static str;

    /// The version of what carries out the statements.
    fn version(&self) -> String;

    /// How its SQL is written.
    fn dialect(&self) -> &'static Dialect;

    /// Whether round trips are only what a server would have needed, since there is none.
    fn trips_are_modelled(&self) -> bool;

    /// The settings that can be chosen, with their defaults.
    fn settings(&self) -> Vec<Setting>;

    /// Makes the tables in an empty folder and loads them. `progress` hears of every batch.
    ///
    /// # Errors
    /// Those of the engine; what is in the folder then is of no use.
    fn load(
        &self,
        folder: &Path,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError>;

    /// Where a loaded folder's data is, as contenders are told: a file's path or a URL.
    fn url(&self, folder: &Path) -> String;

    /// Opens loaded data for reading.
    ///
    /// # Errors
    /// When it cannot be reached, or was not made by [`Engine::load`].
    fn connect(&self, url: &str, settings: &[Setting]) -> Result<Box<dyn Connection>, EngineError>;

    /// The bytes that the engine's own library holds, apart from Rust's heap, at most since the last call with `reset`; none
    /// where it is not in this process.
    fn library_peak(&self, reset: bool) -> Option<u64>;
}

/// A connection to a loaded database.
pub trait Connection {
    /// A session. Statements prepared in it live as long as it does.
    fn session(&self) -> Box<dyn Session + '_>;

    /// The room that tables take.
    ///
    /// # Errors
    /// Those of the engine.
    fn sizes(&self) -> Result<Vec<TableSize>, EngineError>;
}

/// The engine of a name.
pub fn engine(name: &str) -> Option<&'static dyn Engine> {
    ENGINES.iter().copied().find(|engine| engine.name() == name)
}

/// The names of all engines.
pub fn names() -> impl Iterator<Item = &'static str> {
    ENGINES.iter().map(|engine| engine.name())
}

static ENGINES: [&dyn Engine; 1] = [&Sqlite];
