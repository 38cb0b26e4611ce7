//! A copy of a dataset's file that may be written to.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use kampf_contest::{EngineError, EngineErrorKind};
use rusqlite::OpenFlags;
use rusqlite::config::DbConfig;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};

use super::error::engine_error;
use super::{MARK, apply, gone, may_run};
use crate::engine::{SCRATCH_TABLE, Scratch, ScratchOrder, Setting};

/// Written into the file's header, so that nothing else is written to: "Kmps".
const SCRATCH_MARK: i32 = 0x4b6d_7073;

/// How long one waits for another who is writing.
const PATIENCE_MS: i32 = 5_000;

/// A copy.
pub(super) struct InCopy {
    url: String,
    own: rusqlite::Connection,
}

impl InCopy {
    pub(super) fn of(dataset: &Path, copy: &Path, order: &ScratchOrder<'_>) -> Result<InCopy, EngineError> {
        let failed = |what: &str, error: std::io::Error| EngineError {
            kind: if error.kind() == std::io::ErrorKind::StorageFull { EngineErrorKind::Full } else { EngineErrorKind::Unreachable },
            message: format!("cannot {what} {}: {error}", copy.display()),
            sql: None,
            cause: None,
        };
        let made = fs::copy(dataset, copy)
            .and_then(|_| fs::set_permissions(copy, fs::Permissions::from_mode(0o600)))
            .map_err(|error| failed("copy the dataset to", error))
            .and_then(|()| {
                let url = copy.to_str().ok_or_else(|| gone(format!("the path of {} is not UTF-8", copy.display())))?;
                let own = rusqlite::Connection::open_with_flags(copy, FLAGS).map_err(|error| engine_error(error, None))?;
                own.pragma_update(None, "application_id", SCRATCH_MARK).map_err(|error| engine_error(error, None))?;
                // Written once: it stays in the file.
                own.pragma_update_and_check(None, "journal_mode", "wal", |_| Ok(())).map_err(|error| engine_error(error, None))?;
                own.execute_batch(SCRATCH_TABLE).map_err(|error| engine_error(error, None))?;
                drop(own);
                Ok(InCopy { url: url.to_owned(), own: open(url, order.settings, order.durable, None)? })
            });
        made.inspect_err(|_| remove(copy))
    }

    fn pragma(&self, name: &str) -> Result<u64, EngineError> {
        let value: i64 = self.own.pragma_query_value(None, name, |row| row.get(0)).map_err(|error| engine_error(error, None))?;
        Ok(value.unsigned_abs())
    }
}

const FLAGS: OpenFlags = OpenFlags::SQLITE_OPEN_READ_WRITE.union(OpenFlags::SQLITE_OPEN_NO_MUTEX);

/// Opens a scratch for writing.
pub(super) fn open(
    url: &str,
    settings: &[Setting],
    durable: bool,
    touched: Option<&[String]>,
) -> Result<rusqlite::Connection, EngineError> {
    let plain = |error: rusqlite::Error| engine_error(error, None);
    let mut connection = rusqlite::Connection::open_with_flags(url, FLAGS).map_err(plain)?;
    let mark: i32 = connection.query_row("PRAGMA application_id", [], |row| row.get(0)).map_err(plain)?;
    if mark != SCRATCH_MARK {
        let what = if mark == MARK { "is a dataset, which is not written to" } else { "is no scratch of Kampf's" };
        return Err(gone(format!("{url} {what}")));
    }
    apply(&connection, settings)?;
    connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(plain)?;
    connection.pragma_update(None, "foreign_keys", true).map_err(plain)?;
    connection.pragma_update(None, "synchronous", if durable { "FULL" } else { "OFF" }).map_err(plain)?;
    // What is written lies in the log until the runner sees to it, alike for all.
    connection.pragma_update_and_check(None, "wal_autocheckpoint", 0, |_| Ok(())).map_err(plain)?;
    connection.busy_timeout(std::time::Duration::from_millis(PATIENCE_MS.unsigned_abs().into())).map_err(plain)?;
    if let Some(touched) = touched {
        let touched: Vec<String> = touched.to_vec();
        connection.authorizer(Some(move |context: AuthContext<'_>| may_write(context, &touched))).map_err(plain)?;
    }
    Ok(connection)
}

/// What a contender's statement may do: read, and change some tables.
fn may_write(context: AuthContext<'_>, touched: &[String]) -> Authorization {
    let is_touched = |table: &str| touched.iter().any(|own| own == table);
    match context.action {
        AuthAction::Insert { table_name } | AuthAction::Delete { table_name } | AuthAction::Update { table_name, .. } => {
            if is_touched(table_name) { Authorization::Allow } else { Authorization::Deny }
        }
        AuthAction::Savepoint { .. } => Authorization::Allow,
        _ => may_run(context),
    }
}

impl Scratch for InCopy {
    fn url(&self) -> &str {
        &self.url
    }

    fn own_url(&self) -> &str {
        &self.url
    }

    fn log_bytes(&self) -> Result<Option<u64>, EngineError> {
        // Emptied between slices, so that it holds what was written since.
        Ok(Some(fs::metadata(format!("{}-wal", self.url)).map_or(0, |log| log.len())))
    }

    fn bytes(&self) -> Result<u64, EngineError> {
        Ok(fs::metadata(&self.url).map_or(0, |file| file.len()))
    }

    fn settle(&self) -> Result<(), EngineError> {
        self.own
            .query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |row| row.get::<_, i64>(0))
            .map(|_| ())
            .map_err(|error| engine_error(error, None))
    }

    fn undo_begins(&self) -> &'static [&'static str] {
        &["PRAGMA defer_foreign_keys = ON"]
    }

    fn pin(&self, _: usize) -> bool {
        // It works in the contender's own process.
        true
    }

    fn make_room(&self) -> Result<(), EngineError> {
        // Pages of rows that are gone are used again.
        self.pragma("freelist_count").map(|_| ())
    }
}

impl Drop for InCopy {
    fn drop(&mut self) {
        remove(&PathBuf::from(&self.url));
    }
}

/// Removes a copy with what lies beside it.
fn remove(copy: &Path) {
    for ending in ["", "-journal", "-wal", "-shm"] {
        let mut path = copy.as_os_str().to_owned();
        path.push(ending);
        let _ = fs::remove_file(path);
    }
}
