//! Loading a dataset: one transaction, indexes after rows, statistics last.

use std::path::Path;
use std::time::Instant;

use kampf_contest::{EngineError, EngineErrorKind};
use kampf_fill::{Batch, Blueprint};
use kampf_schema::{ColumnId, LogicalType, Schema, Table, TableId, ValueRef};
use rusqlite::OpenFlags;

use super::dialect::SQLITE;
use super::error::engine_error;
use super::rows::BatchTable;
use super::{MARK, apply};
use crate::engine::Setting;
use crate::event::{LoadEvent, Loaded};
use crate::fault::step;
use crate::load::pump;
use crate::tables::{checks, column_list, create_table, indexes, taken_names};

/// KiB of pages kept while rows go in anywhere among the others, and while indexes are sorted.
const LARGE_CACHE: i64 = 64_000;
/// KiB of pages kept while rows go in at the end: what is written there is not read again, and few pages stay near the core.
const SMALL_CACHE: i64 = 2_000;

pub(super) fn load(
    path: &Path,
    schema: &Schema,
    blueprint: &Blueprint,
    settings: &[Setting],
    progress: &mut dyn FnMut(LoadEvent<'_>),
) -> Result<Vec<Loaded>, EngineError> {
    let plain = |error: rusqlite::Error| engine_error(error, None);
    // Only this thread uses it.
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = rusqlite::Connection::open_with_flags(path, flags).map_err(plain)?;
    apply(&connection, settings)?;
    let begun = Instant::now();
    // References hold by construction; checking each row would ask for indexes that are only made afterwards.
    connection.pragma_update(None, "foreign_keys", false).map_err(plain)?;
    // SQLite sorts the list of a check anew for each row; a long one is looked at once, when all rows are there.
    let have_long_checks: Vec<&Table> =
        schema.tables.iter().filter(|table| checks(&SQLITE, schema, table).any(|sql| sql.len() > LONG_CHECK)).collect();
    connection.pragma_update(None, "ignore_check_constraints", !have_long_checks.is_empty()).map_err(plain)?;
    let cache = |kibibytes: i64| connection.pragma_update(None, "cache_size", -kibibytes).map_err(plain);
    let batch = |sql: &str| connection.execute_batch(sql).map_err(|error| engine_error(error, Some(sql)));
    batch("BEGIN")?;
    for table in &schema.tables {
        batch(&create_table(&SQLITE, schema, table, true)?)?;
    }
    step("tables-made")?;
    let mut names = taken_names(schema);
    let width = schema.tables.iter().map(|table| table.columns.len()).max().unwrap_or_default();
    let made = BatchTable::new(&connection, &names, width).map_err(plain)?;
    let mut inserts: Vec<Option<rusqlite::Statement<'_>>> = schema.tables.iter().map(|_| None).collect();
    // What SQLite keeps as text is written on the other thread, which has less to do.
    let long: Vec<Vec<ColumnId>> = schema.tables.iter().map(long_decimals).collect();
    let as_kept = |id: TableId, mut rows: Batch| {
        long[id.0].iter().try_for_each(|&column| are_kept(schema.table(id), column, &rows))?;
        rows.write_texts();
        Ok((rows, None))
    };
    let loaded = pump(schema, blueprint, progress, as_kept, |id, rows| {
        let table = schema.table(id);
        let insert = match &mut inserts[id.0] {
            Some(insert) => insert,
            none => {
                cache(if has_key_index(table) { LARGE_CACHE } else { SMALL_CACHE })?;
                let sql = insert(table, &made);
                none.insert(connection.prepare(&sql).map_err(|error| engine_error(error, Some(&sql)))?)
            }
        };
        step("rows-go-in")?;
        let (done, rows) = made.with(rows, || insert.raw_execute());
        done.map_err(|error| broken_rule(error, table))?;
        Ok(Some(rows))
    })?;
    drop(inserts);
    if !have_long_checks.is_empty() {
        for table in &schema.tables {
            for check in checks(&SQLITE, schema, table) {
                is_met(&connection, table, &check)?;
            }
        }
    }
    progress(LoadEvent::Indexes);
    step("indexes-begin")?;
    cache(LARGE_CACHE)?;
    for table in &schema.tables {
        for index in indexes(&SQLITE, table, &mut names) {
            index.make(progress, |sql| connection.execute_batch(sql).map_err(|error| broken_rule(error, table)))?;
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
    step("commit-begins")?;
    batch("COMMIT")?;
    step("committed")?;
    connection.close().map_err(|(_, error)| plain(error))?;
    progress(LoadEvent::Loaded(begun.elapsed()));
    Ok(loaded)
}

/// Characters of a check from which on it is not looked at for each row.
const LONG_CHECK: usize = 2_000;

/// Makes sure that no row of a table breaks a check.
fn is_met(connection: &rusqlite::Connection, table: &Table, check: &str) -> Result<(), EngineError> {
    let sql = format!("SELECT EXISTS (SELECT 1 FROM {} WHERE NOT ({check}))", (SQLITE.quote)(&table.name));
    let is_broken: bool = connection.query_row(&sql, [], |row| row.get(0)).map_err(|error| engine_error(error, Some(&sql)))?;
    if !is_broken {
        return Ok(());
    }
    let start: String = check.chars().take(60).collect();
    let message = format!("the rows made for `{}` break a rule of the schema; SQLite says: CHECK constraint failed: {start}…", table.name);
    Err(EngineError { kind: EngineErrorKind::Constraint, message, sql: None, cause: None })
}

/// Digits of a decimal that a real keeps (C, float.h: DBL_DIG).
const KEPT_DIGITS: u8 = 15;

/// The columns whose decimals may have more digits than that. Whole ones are integers.
fn long_decimals(table: &Table) -> Vec<ColumnId> {
    let is_long = |column: &ColumnId| matches!(table.columns[*column].kind, LogicalType::Decimal { precision, scale } if precision > KEPT_DIGITS && scale > 0);
    (0..table.columns.len()).filter(is_long).collect()
}

/// Whether all values of a column have so few digits that SQLite, which keeps decimals as reals, gives back what was stored.
fn are_kept(table: &Table, column: ColumnId, rows: &Batch) -> Result<(), EngineError> {
    let is_long = |value: &ValueRef<'_>| match value {
        ValueRef::Decimal(units, _) => units.get().unsigned_abs() >= 10_u128.pow(KEPT_DIGITS.into()),
        _ => false,
    };
    let Some(value) = (0..rows.rows()).map(|row| rows.value(row, column)).find(is_long) else { return Ok(()) };
    let name = &table.columns[column].name;
    let message = format!(
        "`{}.{name}` would be {}, and SQLite keeps decimals as reals, exact up to {KEPT_DIGITS} digits",
        table.name,
        value.to_value()
    );
    Err(EngineError { kind: EngineErrorKind::Constraint, message, sql: None, cause: None })
}

/// Whether SQLite keeps an index for the table's key; a key of one whole number is the table's own order.
fn has_key_index(table: &Table) -> bool {
    let own_order = matches!(table.primary_key[..], [key] if table.columns[key].kind == LogicalType::Integer);
    !(own_order || table.primary_key.is_empty())
}

/// Whether SQLite keeps any index for the table.
fn has_index(table: &Table) -> bool {
    has_key_index(table) || !table.uniques.is_empty() || !table.unique_indexes.is_empty() || !table.indexes.is_empty()
}

/// A rule of the schema that generated rows break: only recipes of the user's can do that.
fn broken_rule(error: rusqlite::Error, table: &Table) -> EngineError {
    let mut error = engine_error(error, None);
    if error.kind == EngineErrorKind::Constraint {
        error.message = format!("the rows made for `{}` break a rule of the schema; {}", table.name, error.message);
    }
    error
}

fn insert(table: &Table, rows: &BatchTable) -> String {
    let columns: Vec<ColumnId> = (0..table.columns.len()).collect();
    format!("INSERT INTO {} ({}) {}", (SQLITE.quote)(&table.name), column_list(&SQLITE, table, &columns), rows.query(columns.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use kampf_schema::ddl;

    #[test]
    fn a_check_that_is_not_looked_at_for_each_row_is_looked_at_once() {
        let schema = ddl::read("CREATE TABLE hive (x INTEGER);").expect("the schema is right").schema;
        let connection = rusqlite::Connection::open_in_memory().expect("there is memory");
        connection.execute_batch("CREATE TABLE hive (x INTEGER); INSERT INTO hive VALUES (1), (NULL)").expect("it is SQL");
        let met = |check: &str| is_met(&connection, &schema.tables[0], check);
        assert_eq!(met("x IN (1, 2)"), Ok(()), "what is unknown breaks no check");
        let broken = met("x IN (2, 3)").expect_err("1 is not among them");
        assert!(broken.kind == EngineErrorKind::Constraint && broken.message.contains("CHECK constraint failed: x IN (2, 3)"), "{broken}");
    }
}
