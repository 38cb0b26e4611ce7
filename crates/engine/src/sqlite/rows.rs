//! Made rows as a table that SQLite reads by itself: one statement takes a whole batch, and no value is bound, which would ask
//! for memory for each text.

use std::borrow::Cow;
use std::collections::HashSet;
use std::ffi::{CStr, CString, c_int};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use kampf_fill::Batch;
use rusqlite::ffi;
use rusqlite::vtab::{Context, Filters, IndexInfo, Module, VTab, VTabConnection, VTabCursor};

use super::session::with_stored;

/// The batch that the table's rows are.
#[derive(Clone)]
struct Current(Arc<Mutex<Batch>>);

impl Current {
    fn lock(&self) -> MutexGuard<'_, Batch> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A table of the rows of one batch at a time.
pub(super) struct BatchTable {
    name: String,
    current: Current,
}

impl BatchTable {
    /// Makes the table known to a connection, under a name that is not among `taken`, with `width` columns.
    pub(super) fn new(connection: &rusqlite::Connection, taken: &HashSet<String>, width: usize) -> Result<BatchTable, rusqlite::Error> {
        const MODULE: Module<'_, RowsTable> = Module::eponymous_only_module();
        let mut name = "kampf_rows".to_owned();
        while taken.contains(&name) {
            name.push('_');
        }
        let columns: Vec<String> = (0..width).map(column).collect();
        let declared = CString::new(format!("CREATE TABLE x({})", columns.join(", "))).map_err(rusqlite::Error::NulError)?;
        let current = Current(Arc::default());
        connection.create_module(name.as_str(), &MODULE, Some(Setup { declared, current: current.clone() }))?;
        Ok(BatchTable { name, current })
    }

    /// A query of the first `width` columns.
    pub(super) fn query(&self, width: usize) -> String {
        let columns: Vec<String> = (0..width).map(column).collect();
        format!("SELECT {} FROM {}", columns.join(", "), self.name)
    }

    /// Runs a statement with the batch as the table's rows.
    pub(super) fn with<T>(&self, batch: Batch, run: impl FnOnce() -> T) -> (T, Batch) {
        *self.current.lock() = batch;
        let result = run();
        (result, std::mem::take(&mut self.current.lock()))
    }
}

fn column(at: usize) -> String {
    format!("c{at}")
}

/// What SQLite hands to the table when it is opened.
struct Setup {
    declared: CString,
    current: Current,
}

/// Laid out as the library asks for: its own part comes first.
#[repr(C)]
struct RowsTable {
    base: ffi::sqlite3_vtab,
    current: Current,
}

#[expect(unsafe_code, reason = "the driver has it promised that the library's own part comes first")]
// SAFETY: the struct has C's layout and begins with the library's own part.
unsafe impl<'t> VTab<'t> for RowsTable {
    type Aux = Setup;
    type Cursor = RowsCursor<'t>;

    fn connect(
        _: &mut VTabConnection,
        setup: Option<&Setup>,
        _: &[u8],
        _: &[u8],
        _: &[u8],
        _: &[&[u8]],
    ) -> rusqlite::Result<(Cow<'static, CStr>, RowsTable)> {
        let setup = setup.ok_or(rusqlite::Error::InvalidQuery)?;
        let table = RowsTable { base: ffi::sqlite3_vtab::default(), current: setup.current.clone() };
        Ok((Cow::Owned(setup.declared.clone()), table))
    }

    fn best_index(&self, _: &mut IndexInfo) -> rusqlite::Result<bool> {
        Ok(true)
    }

    fn open(&'t mut self) -> rusqlite::Result<RowsCursor<'t>> {
        Ok(RowsCursor { base: ffi::sqlite3_vtab_cursor::default(), batch: self.current.lock(), row: 0 })
    }
}

/// Likewise.
#[repr(C)]
struct RowsCursor<'t> {
    base: ffi::sqlite3_vtab_cursor,
    batch: MutexGuard<'t, Batch>,
    row: usize,
}

#[expect(unsafe_code, reason = "the driver has it promised that the library's own part comes first")]
// SAFETY: the struct has C's layout and begins with the library's own part.
unsafe impl VTabCursor for RowsCursor<'_> {
    fn filter(&mut self, _: c_int, _: Option<&str>, _: &Filters<'_>) -> rusqlite::Result<()> {
        self.row = 0;
        Ok(())
    }

    fn next(&mut self) -> rusqlite::Result<()> {
        self.row += 1;
        Ok(())
    }

    fn eof(&self) -> bool {
        self.row >= self.batch.rows()
    }

    fn column(&self, context: &mut Context, column: c_int) -> rusqlite::Result<()> {
        with_stored(self.batch.value(self.row, column as usize), |stored| context.set_result(stored))
    }

    fn rowid(&self) -> rusqlite::Result<i64> {
        Ok(self.row as i64)
    }
}
