//! What every engine offers.

use std::path::{Path, PathBuf};

use kampf_contest::{Dialect, EngineError, Session};
use kampf_fill::Blueprint;
use kampf_schema::{ColumnId, Schema, TableId};

use crate::event::{LoadEvent, Loaded};

/// A setting of an engine, by name.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Setting {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
    /// Whether the user chose it; else it is the engine's default.
    #[serde(default)]
    pub chosen: bool,
}

impl Setting {
    pub(crate) fn default(name: &str, value: &str) -> Setting {
        Setting { name: name.to_owned(), value: value.to_owned(), chosen: false }
    }
}

/// The room a table takes, its indexes included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableSize {
    /// Its name.
    pub table: String,
    /// Bytes.
    pub bytes: u64,
    /// Of these the bytes of its indexes, that of its primary key among them where there is one.
    pub index_bytes: u64,
}

/// The room that an index takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IndexSize {
    /// Its name.
    pub name: String,
    /// Bytes.
    pub bytes: u64,
}

/// Where a dataset lives.
#[derive(Clone, Copy, Debug)]
pub struct Ground<'a> {
    /// Its own folder beside the project.
    pub folder: &'a Path,
    /// The URL of a server that is there already, where the user names one.
    pub server: Option<&'a str>,
    /// Its name: letters, digits and underscores.
    pub name: &'a str,
    /// Whose it is, where several have data on one server: a word for the project's folder on this machine.
    pub owner: &'a str,
    /// Which of the datasets that lie together here: one of the same rows under another physical schema, by a word of its own; none for
    /// the first one, beside which the others are made.
    pub variant: Option<&'a str>,
}

/// What became of the datasets that a server holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Swept {
    /// Removed.
    pub removed: usize,
    /// Left, because another Kampf is using them.
    pub in_use: usize,
    /// Left, because they belong to other folders or machines.
    pub of_others: usize,
}

/// Where a server listens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Endpoint {
    /// At a socket of this machine.
    Unix(PathBuf),
    /// At a host's port.
    Tcp(String, u16),
}

/// A loaded dataset that can be reached for as long as this lives.
pub trait Served {
    /// Where it is, as contenders are told: a file's path or a URL. A URL may hold a password and is not to be shown.
    fn url(&self) -> &str;

    /// Where it is for programs whose drivers only know TCP.
    fn tcp_url(&self) -> Option<String>;

    /// Where it is, for people.
    fn place(&self) -> String;

    /// A text that stays the same for as long as nobody changes the data.
    ///
    /// # Errors
    /// When the data cannot be reached.
    fn stamp(&self) -> Result<String, EngineError>;

    /// What keeps contenders from writing elsewhere is not known, in words for the user: their rights could not be narrowed.
    fn caution(&self) -> Option<String> {
        None
    }

    /// Another dataset of the same place, by the word of [`Ground::variant`]. A server serves both.
    ///
    /// # Errors
    /// [`kampf_contest::EngineErrorKind::Gone`] when it is not there.
    fn beside(&self, variant: &str) -> Result<Box<dyn Served>, EngineError>;

    /// The words of what lies beside it, whole or half made.
    ///
    /// # Errors
    /// When its place cannot be reached.
    fn variants(&self) -> Result<Vec<String>, EngineError>;

    /// Has all that was loaded lie in its files, so that these can be copied.
    ///
    /// # Errors
    /// When it cannot be reached.
    fn checkpoint(&self) -> Result<(), EngineError> {
        Ok(())
    }

    /// Keeps its server on one core of the processor from now on, connections to come included; false where it is not ours.
    fn pin(&self, core: usize) -> bool;
}

/// What a scratch is to be.
#[derive(Clone, Copy, Debug)]
pub struct ScratchOrder<'a> {
    /// The schema of the data.
    pub schema: &'a Schema,
    /// The rows, where they have to be loaded anew.
    pub blueprint: &'a Blueprint,
    /// Settings of the engine.
    pub settings: &'a [Setting],
    /// The tables that contenders may change; they may read all others.
    pub touched: &'a [TableId],
    /// Columns whose values the database is to make, from a number on.
    pub made: &'a [(TableId, ColumnId, i64)],
    /// Whether a commit waits until it is on the disk.
    pub durable: bool,
    /// Its word, which nothing else beside the dataset has: eight digits, of which some are letters up to f.
    pub word: &'a str,
}

/// Makes the table that every scratch has besides those of the dataset, with one row.
pub(crate) const SCRATCH_TABLE: &str = "CREATE TABLE kampf_scratch (number INTEGER NOT NULL); INSERT INTO kampf_scratch VALUES (0)";

/// A statement that changes the row of the table that every scratch has: what a commit takes is seen by it.
pub const ONE_ROW_CHANGES: &str = "UPDATE kampf_scratch SET number = number + 1";

/// A copy of a dataset that may be written to; removed with this.
pub trait Scratch {
    /// Where it is for contenders, who may change some tables and nothing else. It may hold a password.
    fn url(&self) -> &str;

    /// Where it is for the runner.
    fn own_url(&self) -> &str;

    /// Bytes of the log that changes are written to first, since some moment; none where the engine does not tell.
    ///
    /// # Errors
    /// When it cannot be reached.
    fn log_bytes(&self) -> Result<Option<u64>, EngineError>;

    /// Bytes that it takes on disk, about.
    ///
    /// # Errors
    /// When it cannot be reached.
    fn bytes(&self) -> Result<u64, EngineError>;

    /// Tidies up between slices: what was written lies where it is read from afterwards, alike for all.
    ///
    /// # Errors
    /// Those of the engine.
    fn settle(&self) -> Result<(), EngineError>;

    /// What is sent at the beginning of a transaction of the runner's own that takes back what was written: it waits for nobody without end, and rows may
    /// come back in any order.
    fn undo_begins(&self) -> &'static [&'static str];

    /// Keeps its server on one core of the processor from now on; false where it is not ours.
    fn pin(&self, core: usize) -> bool;

    /// Makes the room of rows that are gone free for others.
    ///
    /// # Errors
    /// Those of the engine.
    fn make_room(&self) -> Result<(), EngineError>;
}

/// A database engine.
pub trait Engine: Sync {
    /// The name users write.
    fn name(&self) -> &'static str;

    /// What URLs of its servers begin with, its name among them; none where there are no servers.
    fn schemes(&self) -> &'static [&'static str] {
        &[]
    }

    /// Whether a variable of the environment is its driver's, which may find a password by it.
    fn is_own_variable(&self, name: &str) -> bool {
        let _ = name;
        false
    }

    /// Whether a file in a dataset's folder is one that the engine puts there, for the dataset or for a variant whose word is one by `is_word`.
    fn is_own_file(&self, name: &str, is_word: fn(&str) -> bool) -> bool;

    /// The version of what carries out the statements, here or on a server.
    ///
    /// # Errors
    /// When there is no such engine on this machine, or the server cannot be reached or is too old.
    fn version(&self, server: Option<&str>) -> Result<String, EngineError>;

    /// How its SQL is written.
    fn dialect(&self) -> &'static Dialect;

    /// Whether round trips are only what a server would have needed, since there is none.
    fn trips_are_modelled(&self) -> bool;

    /// How many calls a fresh connection makes until the engine treats a statement as it will from then on.
    fn calls_to_settle(&self) -> u64;

    /// The settings that can be chosen, with their defaults.
    fn settings(&self) -> Vec<Setting>;

    /// Those of its settings that decide how data is laid down, so that another value means loading it anew.
    fn settings_of_data(&self) -> &'static [&'static str] {
        &[]
    }

    /// The settings under which datasets of so many bytes together fit into what a server keeps in memory, as far as this machine has that
    /// to spare; what the user chose stays.
    fn settings_for(&self, settings: &[Setting], bytes: u64) -> Vec<Setting> {
        let _ = bytes;
        settings.to_vec()
    }

    /// Makes the tables in an empty place and loads them; a variant goes beside what is there. `progress` hears of every batch and of
    /// every index.
    ///
    /// # Errors
    /// Those of the engine; what is in the place then is of no use.
    fn load(
        &self,
        place: &Ground<'_>,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError>;

    /// Makes a loaded dataset reachable, where need be by starting a server.
    ///
    /// # Errors
    /// [`kampf_contest::EngineErrorKind::Gone`] when it is not there or was not made by [`Engine::load`]; others when its server
    /// does not start or answer.
    fn serve(&self, place: &Ground<'_>, settings: &[Setting]) -> Result<Box<dyn Served>, EngineError>;

    /// Removes what a dataset has outside its folder; false where another Kampf is using it. Of a variant all that it is is removed, and
    /// nothing else.
    ///
    /// # Errors
    /// When it cannot be reached, or is not of Kampf's making.
    fn remove(&self, place: &Ground<'_>) -> Result<bool, EngineError>;

    /// Removes what an owner has on a server, known here or not, and what Kampf has elsewhere for folders that are gone; what is in use
    /// is left.
    ///
    /// # Errors
    /// When the server cannot be reached, or something that Kampf did not make hangs on a dataset.
    fn sweep(&self, server: Option<&str>, owner: &str) -> Result<Swept, EngineError> {
        let _ = (server, owner);
        Ok(Swept::default())
    }

    /// A URL as it may be shown: without a password.
    fn shown(&self, url: &str) -> String;

    /// Where the server of a URL listens; none where there is no server.
    fn endpoint(&self, url: &str) -> Option<Endpoint>;

    /// The same URL with another endpoint.
    fn redirected(&self, url: &str, endpoint: &Endpoint) -> String;

    /// Opens loaded data for reading.
    ///
    /// # Errors
    /// When it cannot be reached, or was not made by Kampf.
    fn connect(&self, url: &str, settings: &[Setting]) -> Result<Box<dyn Connection>, EngineError>;

    /// Makes a copy of a dataset that is served, which may be written to.
    ///
    /// # Errors
    /// Those of the engine; nothing of it is left then.
    fn scratch(&self, place: &Ground<'_>, served: &dyn Served, order: &ScratchOrder<'_>) -> Result<Box<dyn Scratch>, EngineError>;

    /// Opens a scratch, and nothing else, for writing. `touched` are the names of the tables that may be changed; none stands for all.
    ///
    /// # Errors
    /// When it cannot be reached, or is no scratch of Kampf's.
    fn connect_scratch(
        &self,
        url: &str,
        settings: &[Setting],
        durable: bool,
        touched: Option<&[String]>,
    ) -> Result<Box<dyn Connection>, EngineError>;

    /// The bytes that the engine's own library holds, apart from Rust's heap, at most since the last call with `reset`; none
    /// where it is not in this process.
    fn library_peak(&self, reset: bool) -> Option<u64>;
}

/// Work by a database's own counter.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Effort {
    /// How much.
    pub amount: f64,
    /// Of what, in words.
    pub unit: &'static str,
}

/// A connection to a loaded database.
pub trait Connection {
    /// A session. Statements prepared in it live as long as it does.
    fn session(&self) -> Box<dyn Session + '_>;

    /// The settings as they really are, those that can be chosen.
    ///
    /// # Errors
    /// Those of the engine.
    fn settings(&self) -> Result<Vec<Setting>, EngineError>;

    /// The room that tables take.
    ///
    /// # Errors
    /// Those of the engine.
    fn sizes(&self) -> Result<Vec<TableSize>, EngineError>;

    /// The room that each index takes.
    ///
    /// # Errors
    /// Those of the engine.
    fn index_sizes(&self) -> Result<Vec<IndexSize>, EngineError>;

    /// Carries a statement out and gives the work that the database's own counter says it took.
    ///
    /// # Errors
    /// When the statement fails.
    fn work_of(&self, sql: &str) -> Result<Effort, EngineError>;

    /// How many more connections there can be besides this one; none where there is no limit to speak of.
    ///
    /// # Errors
    /// Those of the engine.
    fn room(&self) -> Result<Option<usize>, EngineError> {
        Ok(None)
    }
}
