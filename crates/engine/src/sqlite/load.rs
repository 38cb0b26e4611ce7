//! Loading a dataset: one transaction, indexes after rows, statistics last.

use std::path::Path;

use kampf_contest::{Dialect, EngineError, EngineErrorKind};
use kampf_fill::{Batch, Blueprint};
use kampf_schema::{ColumnId, LogicalType, Schema, Table};
use rusqlite::OpenFlags;

use super::dialect::SQLITE;
use super::error::engine_error;
use super::session::bind;
use super::{MARK, apply};
use crate::engine::{Loaded, Setting};
use crate::load::{LoadEvent, pump};
use crate::tables::{column_list, create_table, indexes, taken_names};

/// Values of one insert statement at most: many rows a statement load faster, very many no more so.
const INSERT_VALUES: usize = 240;

pub(super) fn load(
    path: &Path,
    schema: &Schema,
    blueprint: &Blueprint,
    settings: &[Setting],
    progress: &mut dyn FnMut(LoadEvent<'_>),
) -> Result<Vec<Loaded>, EngineError> {
    let plain = |error: rusqlite::Error| engine_error(&error, None);
    // Only this thread uses it.
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = rusqlite::Connection::open_with_flags(path, flags).map_err(plain)?;
    apply(&connection, settings)?;
    // References hold by construction; checking each row would ask for indexes that are only made afterwards.
    connection.pragma_update(None, "foreign_keys", false).map_err(plain)?;
    connection.pragma_update(None, "cache_size", -64_000).map_err(plain)?;
    let batch = |sql: &str| connection.execute_batch(sql).map_err(|error| engine_error(&error, Some(sql)));
    batch("BEGIN")?;
    for table in &schema.tables {
        batch(&create_table(&SQLITE, schema, table, true)?)?;
    }
    let mut inserts: Vec<Option<(rusqlite::Statement<'_>, rusqlite::Statement<'_>, usize)>> = schema.tables.iter().map(|_| None).collect();
    // Dates and timestamps are kept as texts; they are written on the other thread, which has less to do.
    let as_text = |_, mut rows: Batch| {
        rows.write_times();
        Ok((rows, None))
    };
    let loaded = pump(schema, blueprint, progress, as_text, |id, rows| {
        let table = schema.table(id);
        if inserts[id.0].is_none() {
            let many = (INSERT_VALUES / table.columns.len()).max(1);
            let prepare = |rows| {
                let sql = insert(&SQLITE, table, rows);
                connection.prepare(&sql).map_err(|error| engine_error(&error, Some(&sql)))
            };
            inserts[id.0] = Some((prepare(1)?, prepare(many)?, many));
        }
        let Some((one, several, many)) = &mut inserts[id.0] else { return Ok(None) };
        let mut row = 0;
        while row < rows.rows() {
            let (statement, count) = if row + *many <= rows.rows() { (&mut *several, *many) } else { (&mut *one, 1) };
            let failed = |error: rusqlite::Error| broken_rule(&error, table);
            let mut at = 0;
            for row in row..row + count {
                for value in rows.row(row) {
                    at += 1;
                    bind(statement, at, value).map_err(failed)?;
                }
            }
            statement.raw_execute().map_err(failed)?;
            row += count;
        }
        Ok(Some(rows))
    })?;
    drop(inserts);
    progress(LoadEvent::Indexes);
    let mut names = taken_names(schema);
    for table in &schema.tables {
        for sql in indexes(&SQLITE, table, &mut names) {
            connection.execute_batch(&sql).map_err(|error| broken_rule(&error, table))?;
        }
    }
    progress(LoadEvent::Statistics);
    // Makes the table of statistics, where there is nothing to look at yet.
    batch("ANALYZE sqlite_schema")?;
    for (table, loaded) in schema.tables.iter().zip(&loaded) {
        if has_index(table) {
            batch(&format!("ANALYZE {}", (SQLITE.quote)(&table.name)))?;
        } else if loaded.rows > 0 {
            // All that ANALYZE would note, after reading the whole table, is how many rows there are.
            let sql = "INSERT INTO sqlite_stat1 (tbl, idx, stat) VALUES (?1, NULL, ?2)";
            connection.execute(sql, (&table.name, loaded.rows.to_string())).map_err(plain)?;
        }
    }
    connection.pragma_update(None, "application_id", MARK).map_err(plain)?;
    batch("COMMIT")?;
    connection.close().map_err(|(_, error)| plain(error))?;
    Ok(loaded)
}

/// Whether SQLite keeps an index for the table; a key of one whole number is the table's own order.
fn has_index(table: &Table) -> bool {
    let own_order = matches!(table.primary_key[..], [key] if table.columns[key].kind == LogicalType::Integer);
    !(own_order || table.primary_key.is_empty())
        || !table.uniques.is_empty()
        || !table.unique_indexes.is_empty()
        || !table.indexes.is_empty()
}

/// A rule of the schema that generated rows break: only recipes of the user's can do that.
fn broken_rule(error: &rusqlite::Error, table: &Table) -> EngineError {
    let mut error = engine_error(error, None);
    if error.kind == EngineErrorKind::Constraint {
        error.message = format!("the rows made for `{}` break a rule of the schema; {}", table.name, error.message);
    }
    error
}

fn insert(dialect: &Dialect, table: &Table, rows: usize) -> String {
    let columns: Vec<ColumnId> = (0..table.columns.len()).collect();
    let row = format!("({})", vec!["?"; columns.len()].join(", "));
    format!(
        "INSERT INTO {} ({}) VALUES {}",
        (dialect.quote)(&table.name),
        column_list(dialect, table, &columns),
        vec![row; rows].join(", ")
    )
}
