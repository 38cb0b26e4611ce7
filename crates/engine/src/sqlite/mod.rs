//! SQLite, in the process of the contender.

mod dialect;
mod error;
mod load;
mod plan;
mod rows;
mod scratch;
mod session;

use std::fs;
use std::io::Read;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Session};
use kampf_fill::Blueprint;
use kampf_schema::Schema;
use rusqlite::config::DbConfig;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use rusqlite::{OpenFlags, StatementStatus};

use crate::engine::{Connection, Effort, Endpoint, Engine, Ground, IndexSize, Scratch, ScratchOrder, Served, Setting, TableSize};
use crate::event::{LoadEvent, Loaded};
use crate::session::Connected;
use error::engine_error;

/// The engine.
pub(crate) struct Sqlite;

/// The file in a dataset's folder.
fn file_of(folder: &Path, variant: Option<&str>) -> PathBuf {
    folder.join(variant.map_or_else(|| "dataset.sqlite".to_owned(), |variant| format!("dataset.{variant}.sqlite")))
}

/// Written into the file's header (`PRAGMA application_id`), so that files of Kampf's own making are known: "Kmpf".
const MARK: i32 = 0x4b6d_7066;

impl Engine for Sqlite {
    fn name(&self) -> &'static str {
        "sqlite"
    }

    fn version(&self, _: Option<&str>) -> Result<String, EngineError> {
        Ok(rusqlite::version().to_owned())
    }

    fn is_own_file(&self, name: &str, is_word: fn(&str) -> bool) -> bool {
        let Some((inner, ending)) = name.strip_prefix("dataset").and_then(|rest| rest.split_once(".sqlite")) else { return false };
        let is_of_dataset = inner.is_empty() || inner.strip_prefix('.').is_some_and(is_word);
        is_of_dataset && matches!(ending, "" | "-journal" | "-wal" | "-shm")
    }

    fn dialect(&self) -> &'static Dialect {
        &dialect::SQLITE
    }

    fn trips_are_modelled(&self) -> bool {
        true
    }

    fn calls_to_settle(&self) -> u64 {
        0
    }

    fn settings(&self) -> Vec<Setting> {
        // SQLite's own defaults, as most applications leave them.
        [("cache_size", "-2000"), ("mmap_size", "0"), ("page_size", "4096"), ("temp_store", "0")]
            .map(|(name, value)| Setting::default(name, value))
            .into()
    }

    fn settings_of_data(&self) -> &'static [&'static str] {
        &["page_size"]
    }

    fn load(
        &self,
        place: &Ground<'_>,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError> {
        let path = file_of(place.folder, place.variant);
        // A variant that is there is not whole, or not what it was.
        self.remove(place)?;
        let loaded = load::load(&path, schema, blueprint, settings, progress)?;
        // From now on it is only read, by Kampf and by programs that get its path, and by nobody who may not read what this user makes.
        let readable = fs::metadata(&path).map(|file| file.permissions().mode() & 0o444);
        readable.and_then(|mode| fs::set_permissions(&path, fs::Permissions::from_mode(mode))).map_err(|error| EngineError {
            kind: EngineErrorKind::Unreachable,
            message: format!("cannot protect {}: {error}", path.display()),
            sql: None,
            cause: None,
        })?;
        Ok(loaded)
    }

    fn serve(&self, place: &Ground<'_>, settings: &[Setting]) -> Result<Box<dyn Served>, EngineError> {
        Ok(Box::new(InFile::open(&file_of(place.folder, place.variant), settings)?))
    }

    fn shown(&self, url: &str) -> String {
        url.to_owned()
    }

    fn endpoint(&self, _: &str) -> Option<Endpoint> {
        None
    }

    fn redirected(&self, url: &str, _: &Endpoint) -> String {
        url.to_owned()
    }

    fn remove(&self, place: &Ground<'_>) -> Result<bool, EngineError> {
        // Without a server all of the first dataset lies in its folder.
        for ending in place.variant.iter().flat_map(|_| ["", "-journal", "-wal", "-shm"]) {
            let mut path = file_of(place.folder, place.variant).into_os_string();
            path.push(ending);
            match fs::remove_file(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    let message = format!("cannot remove {}: {error}", Path::new(&path).display());
                    return Err(EngineError { kind: EngineErrorKind::Unreachable, message, sql: None, cause: None });
                }
                _ => {}
            }
        }
        Ok(true)
    }

    fn connect(&self, url: &str, settings: &[Setting]) -> Result<Box<dyn Connection>, EngineError> {
        let path = Path::new(url);
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut connection = rusqlite::Connection::open_with_flags(path, flags).map_err(|error| engine_error(error, None))?;
        let mark: i32 = connection.query_row("PRAGMA application_id", [], |row| row.get(0)).map_err(|error| engine_error(error, None))?;
        if mark != MARK {
            return Err(gone(format!("{} is not a database that Kampf made", path.display())));
        }
        apply(&connection, settings)?;
        // As the library is unless it is compiled to look at values (decision 0030): a prepared statement is not planned anew for each parameter.
        connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(|error| engine_error(error, None))?;
        connection.authorizer(Some(may_run)).map_err(|error| engine_error(error, None))?;
        Ok(Box::new(SqliteConnection { connection }))
    }

    fn scratch(&self, place: &Ground<'_>, served: &dyn Served, order: &ScratchOrder<'_>) -> Result<Box<dyn Scratch>, EngineError> {
        Ok(Box::new(scratch::InCopy::of(Path::new(served.url()), &file_of(place.folder, Some(order.word)), order)?))
    }

    fn connect_scratch(
        &self,
        url: &str,
        settings: &[Setting],
        durable: bool,
        touched: Option<&[String]>,
    ) -> Result<Box<dyn Connection>, EngineError> {
        Ok(Box::new(SqliteConnection { connection: scratch::open(url, settings, durable, touched)? }))
    }

    #[expect(unsafe_code, reason = "the driver has no safe wrapper for the library's memory counter")]
    fn library_peak(&self, reset: bool) -> Option<u64> {
        // SAFETY: the function takes no pointer and may be called at any time, from any thread.
        let bytes = unsafe { rusqlite::ffi::sqlite3_memory_highwater(i32::from(reset)) };
        u64::try_from(bytes).ok()
    }
}

fn gone(message: String) -> EngineError {
    EngineError { kind: EngineErrorKind::Gone, message, sql: None, cause: None }
}

/// What a statement may do: read. Opening the file for reading alone is not enough, since a statement may name other files
/// (`ATTACH`, `VACUUM INTO`).
fn may_run(context: AuthContext<'_>) -> Authorization {
    const ABOUT_TABLES: [&str; 6] = ["table_info", "table_xinfo", "index_list", "index_info", "index_xinfo", "foreign_key_list"];
    match context.action {
        AuthAction::Select
        | AuthAction::Read { .. }
        | AuthAction::Function { .. }
        | AuthAction::Recursive
        | AuthAction::Transaction { .. }
        | AuthAction::Pragma { pragma_value: None, .. } => Authorization::Allow,
        AuthAction::Pragma { pragma_name, .. } if ABOUT_TABLES.contains(&pragma_name) => Authorization::Allow,
        _ => Authorization::Deny,
    }
}

/// A loaded file. Its path is all it takes to reach it.
struct InFile {
    path: String,
    settings: Vec<Setting>,
}

impl InFile {
    fn open(path: &Path, settings: &[Setting]) -> Result<InFile, EngineError> {
        let Some(url) = path.to_str() else {
            let message = format!("the path of {} is not UTF-8, which contenders could not be told; rename the folder", path.display());
            return Err(EngineError { kind: EngineErrorKind::Unreachable, message, sql: None, cause: None });
        };
        if !path.is_file() {
            return Err(gone(format!("{url} is gone")));
        }
        Sqlite.connect(url, settings).map_err(|error| {
            // What somebody else has begun to write and left cannot be undone by who may only read.
            if has_more_beside(url) { gone(format!("{url} was being written by somebody else: {}", error.message)) } else { error }
        })?;
        Ok(InFile { path: url.to_owned(), settings: settings.to_vec() })
    }
}

impl Served for InFile {
    fn url(&self) -> &str {
        &self.path
    }

    fn tcp_url(&self) -> Option<String> {
        None
    }

    fn place(&self) -> String {
        self.path.clone()
    }

    fn stamp(&self) -> Result<String, EngineError> {
        let failed = |error: std::io::Error| gone(format!("{} cannot be read: {error}", self.path));
        let mut file = fs::File::open(&self.path).map_err(failed)?;
        let metadata = file.metadata().map_err(failed)?;
        // Every transaction that writes counts on in the header (the file format's documentation, "File change counter").
        let mut header = [0; 28];
        file.read_exact(&mut header).map_err(failed)?;
        let changes = u32::from_be_bytes([header[24], header[25], header[26], header[27]]);
        // Changes that are not in the file yet.
        let beside = if has_more_beside(&self.path) { " and more beside it" } else { "" };
        Ok(format!("{} bytes, {changes} changes, {}.{:09}{beside}", metadata.len(), metadata.mtime(), metadata.mtime_nsec()))
    }

    fn beside(&self, variant: &str) -> Result<Box<dyn Served>, EngineError> {
        let folder = Path::new(&self.path).parent().unwrap_or(Path::new("."));
        Ok(Box::new(InFile::open(&file_of(folder, Some(variant)), &self.settings)?))
    }

    fn variants(&self) -> Result<Vec<String>, EngineError> {
        let folder = Path::new(&self.path).parent().unwrap_or(Path::new("."));
        let entries = fs::read_dir(folder).map_err(|error| gone(format!("{} cannot be read: {error}", folder.display())))?;
        let names = entries.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
        // What is half made may have left no more than its journal.
        let mut words: Vec<String> =
            names.filter_map(|name| Some(name.strip_prefix("dataset.")?.split_once(".sqlite")?.0.to_owned())).collect();
        words.sort_unstable();
        words.dedup();
        Ok(words)
    }

    fn pin(&self, _: usize) -> bool {
        // It works in the contender's own process.
        true
    }
}

/// Whether a writer has changes that are not in the file yet.
fn has_more_beside(path: &str) -> bool {
    ["-journal", "-wal"].iter().any(|ending| fs::metadata(format!("{path}{ending}")).is_ok_and(|beside| beside.len() > 0))
}

/// Sets what can be set on an open connection.
fn apply(connection: &rusqlite::Connection, settings: &[Setting]) -> Result<(), EngineError> {
    for setting in settings {
        let value: i64 = setting.value.parse().map_err(|_| EngineError {
            kind: EngineErrorKind::Value,
            message: format!("the setting {} needs a whole number, not `{}`", setting.name, setting.value),
            sql: None,
            cause: None,
        })?;
        connection.pragma_update(None, &setting.name, value).map_err(|error| engine_error(error, None))?;
    }
    Ok(())
}

struct SqliteConnection {
    connection: rusqlite::Connection,
}

impl Connection for SqliteConnection {
    fn session(&self) -> Box<dyn Session + '_> {
        Box::new(Connected::new(session::SqliteDriver::new(&self.connection)))
    }

    fn settings(&self) -> Result<Vec<Setting>, EngineError> {
        let real = |setting: Setting| {
            let value: i64 = self.connection.pragma_query_value(None, &setting.name, |row| row.get(0))?;
            Ok(Setting { value: value.to_string(), ..setting })
        };
        Sqlite.settings().into_iter().map(real).collect::<Result<_, _>>().map_err(|error: rusqlite::Error| engine_error(error, None))
    }

    fn sizes(&self) -> Result<Vec<TableSize>, EngineError> {
        let sql = "SELECT m.tbl_name, sum(s.pgsize), sum(CASE WHEN m.type = 'index' THEN s.pgsize ELSE 0 END)
            FROM dbstat s JOIN sqlite_master m ON m.name = s.name GROUP BY m.tbl_name";
        let query = || {
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| {
                let bytes = |at: usize| row.get::<_, i64>(at).map(i64::unsigned_abs);
                Ok(TableSize { table: row.get(0)?, bytes: bytes(1)?, index_bytes: bytes(2)? })
            })?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        query().map_err(|error| engine_error(error, Some(sql)))
    }

    fn index_sizes(&self) -> Result<Vec<IndexSize>, EngineError> {
        let sql =
            "SELECT m.name, sum(s.pgsize) FROM dbstat s JOIN sqlite_master m ON m.name = s.name WHERE m.type = 'index' GROUP BY m.name";
        let query = || {
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| Ok(IndexSize { name: row.get(0)?, bytes: row.get::<_, i64>(1)?.unsigned_abs() }))?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        query().map_err(|error| engine_error(error, Some(sql)))
    }

    fn work_of(&self, sql: &str) -> Result<Effort, EngineError> {
        let query = || {
            let mut statement = self.connection.prepare(sql)?;
            let mut rows = statement.query([])?;
            while rows.next()?.is_some() {}
            drop(rows);
            Ok(Effort { amount: f64::from(statement.get_status(StatementStatus::VmStep)), unit: "steps of SQLite's virtual machine" })
        };
        query().map_err(|error: rusqlite::Error| engine_error(error, Some(sql)))
    }
}

/// A session on any connection.
pub(crate) fn session_on(connection: &rusqlite::Connection) -> Box<dyn Session + '_> {
    Box::new(Connected::new(session::SqliteDriver::new(connection)))
}

#[cfg(test)]
mod tests;
