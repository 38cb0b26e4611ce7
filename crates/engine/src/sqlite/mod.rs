//! SQLite, in the process of the contender.

mod dialect;
mod error;
mod load;
mod rows;
mod session;

use std::path::Path;

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Session};
use kampf_fill::Blueprint;
use kampf_schema::Schema;
use rusqlite::{OpenFlags, StatementStatus};

use crate::engine::{Connection, Endpoint, Engine, Loaded, Place, Served, Setting, TableSize, Work};
use crate::load::LoadEvent;
use error::engine_error;

/// The engine.
pub(crate) struct Sqlite;

/// The file in a dataset's folder.
const FILE: &str = "dataset.sqlite";

/// Written into the file's header (`PRAGMA application_id`), so that files of Kampf's own making are known: "Kmpf".
const MARK: i32 = 0x4b6d_7066;

impl Engine for Sqlite {
    fn name(&self) -> &'static str {
        "sqlite"
    }

    fn version(&self, _: Option<&str>) -> Result<String, EngineError> {
        Ok(rusqlite::version().to_owned())
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

    fn load(
        &self,
        place: &Place<'_>,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError> {
        load::load(&place.folder.join(FILE), schema, blueprint, settings, progress)
    }

    fn serve(&self, place: &Place<'_>, settings: &[Setting]) -> Result<Box<dyn Served>, EngineError> {
        let file = InFile(place.folder.join(FILE).to_string_lossy().into_owned());
        self.connect(file.url(), settings)?;
        Ok(Box::new(file))
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

    fn remove(&self, _: &Place<'_>) -> Result<bool, EngineError> {
        Ok(true)
    }

    fn connect(&self, url: &str, settings: &[Setting]) -> Result<Box<dyn Connection>, EngineError> {
        let path = Path::new(url);
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = rusqlite::Connection::open_with_flags(path, flags).map_err(|error| engine_error(&error, None))?;
        let mark: i32 = connection.query_row("PRAGMA application_id", [], |row| row.get(0)).map_err(|error| engine_error(&error, None))?;
        if mark != MARK {
            return Err(EngineError {
                kind: EngineErrorKind::Unreachable,
                message: format!("{} is not a database that Kampf made", path.display()),
                sql: None,
            });
        }
        apply(&connection, settings)?;
        Ok(Box::new(SqliteConnection { connection }))
    }

    #[expect(unsafe_code, reason = "the driver has no safe wrapper for the library's memory counter")]
    fn library_peak(&self, reset: bool) -> Option<u64> {
        // SAFETY: the function takes no pointer and may be called at any time, from any thread.
        let bytes = unsafe { rusqlite::ffi::sqlite3_memory_highwater(i32::from(reset)) };
        u64::try_from(bytes).ok()
    }
}

/// The path of a loaded file, which is all it takes to reach it.
struct InFile(String);

impl Served for InFile {
    fn url(&self) -> &str {
        &self.0
    }

    fn tcp_url(&self) -> Option<String> {
        None
    }

    fn place(&self) -> String {
        self.0.clone()
    }

    fn pin(&self, _: usize) -> bool {
        // It works in the contender's own process.
        true
    }
}

/// Sets what can be set on an open connection.
fn apply(connection: &rusqlite::Connection, settings: &[Setting]) -> Result<(), EngineError> {
    for setting in settings {
        let value: i64 = setting.value.parse().map_err(|_| EngineError {
            kind: EngineErrorKind::Value,
            message: format!("the setting {} needs a whole number, not `{}`", setting.name, setting.value),
            sql: None,
        })?;
        connection.pragma_update(None, &setting.name, value).map_err(|error| engine_error(&error, None))?;
    }
    Ok(())
}

struct SqliteConnection {
    connection: rusqlite::Connection,
}

impl Connection for SqliteConnection {
    fn session(&self) -> Box<dyn Session + '_> {
        Box::new(session::SqliteSession::new(&self.connection))
    }

    fn settings(&self) -> Result<Vec<Setting>, EngineError> {
        let real = |setting: Setting| {
            let value: i64 = self.connection.pragma_query_value(None, &setting.name, |row| row.get(0))?;
            Ok(Setting { value: value.to_string(), ..setting })
        };
        Sqlite.settings().into_iter().map(real).collect::<Result<_, _>>().map_err(|error: rusqlite::Error| engine_error(&error, None))
    }

    fn sizes(&self) -> Result<Vec<TableSize>, EngineError> {
        let sql = "SELECT m.tbl_name, sum(s.pgsize) FROM dbstat s JOIN sqlite_master m ON m.name = s.name GROUP BY m.tbl_name";
        let query = || {
            let mut statement = self.connection.prepare(sql)?;
            let rows = statement.query_map([], |row| Ok(TableSize { table: row.get(0)?, bytes: row.get::<_, i64>(1)?.unsigned_abs() }))?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        query().map_err(|error| engine_error(&error, Some(sql)))
    }

    fn work_of(&self, sql: &str) -> Result<Work, EngineError> {
        let query = || {
            let mut statement = self.connection.prepare(sql)?;
            let mut rows = statement.query([])?;
            while rows.next()?.is_some() {}
            drop(rows);
            Ok(Work { amount: f64::from(statement.get_status(StatementStatus::VmStep)), unit: "steps of SQLite's virtual machine" })
        };
        query().map_err(|error: rusqlite::Error| engine_error(&error, Some(sql)))
    }
}

/// A session on any connection.
pub(crate) fn session_on(connection: &rusqlite::Connection) -> Box<dyn Session + '_> {
    Box::new(session::SqliteSession::new(connection))
}

#[cfg(test)]
mod tests;
