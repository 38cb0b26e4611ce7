//! Rows that are held to be looked at, with whom each of them refers to.

use std::collections::HashMap;

use kampf_fill::ties::history;
use kampf_schema::{Column, ColumnId, Schema, Table, TableId, Value};

use crate::{Doubt, DoubtKind, MOST_ROWS, MOST_STEPS, Rows};

const MICROS_PER_DAY: i64 = 86_400_000_000;

/// The rows of one table.
struct Held {
    columns: Vec<Vec<Value>>,
    rows: usize,
    /// Whether these are all.
    is_whole: bool,
    /// For each reference the row that each row refers to; none where it refers to none, or to one that is not looked at.
    parents: Vec<Vec<Option<usize>>>,
}

/// The rows of all tables.
pub(crate) struct Looked<'a> {
    pub(crate) schema: &'a Schema,
    tables: Vec<Held>,
}

impl<'a> Looked<'a> {
    pub(crate) fn of(schema: &'a Schema, rows: &dyn Rows) -> Looked<'a> {
        let held = |table: TableId| {
            let most = if history(schema, table).is_some() { MOST_STEPS } else { MOST_ROWS };
            let columns = rows.columns(table, most);
            let rows = columns.first().map_or(0, Vec::len);
            Held { columns, rows, is_whole: rows < most, parents: Vec::new() }
        };
        let mut looked = Looked { schema, tables: schema.ids().map(held).collect() };
        for table in schema.ids() {
            let parents = schema.table(table).references.iter().map(|reference| {
                let key = |of: TableId, columns: &[ColumnId], row: usize| -> Option<String> {
                    let values = columns.iter().map(|&column| looked.value(of, row, column));
                    let texts: Option<Vec<String>> = values.map(|value| (*value != Value::Null).then(|| value.to_string())).collect();
                    texts.map(|texts| texts.join("\u{1f}"))
                };
                let theirs = 0..looked.rows(reference.parent);
                let by_key: HashMap<String, usize> =
                    theirs.filter_map(|row| Some((key(reference.parent, &reference.parent_columns, row)?, row))).collect();
                let parent = |row: usize| by_key.get(&key(table, &reference.columns, row)?).copied();
                (0..looked.rows(table)).map(parent).collect::<Vec<_>>()
            });
            let parents = parents.collect();
            looked.tables[table.0].parents = parents;
        }
        looked
    }

    pub(crate) fn table(&self, table: TableId) -> &'a Table {
        self.schema.table(table)
    }

    pub(crate) fn column(&self, table: TableId, column: ColumnId) -> &'a Column {
        &self.schema.table(table).columns[column]
    }

    pub(crate) fn rows(&self, table: TableId) -> usize {
        self.tables[table.0].rows
    }

    /// Whether all rows of a table are looked at.
    pub(crate) fn is_whole(&self, table: TableId) -> bool {
        self.tables[table.0].is_whole
    }

    pub(crate) fn value(&self, table: TableId, row: usize, column: ColumnId) -> &Value {
        &self.tables[table.0].columns[column][row]
    }

    /// The values of a column, nulls too.
    pub(crate) fn values(&self, table: TableId, column: ColumnId) -> &[Value] {
        self.tables[table.0].columns.get(column).map_or(&[], Vec::as_slice)
    }

    /// Those that are not null.
    pub(crate) fn known(&self, table: TableId, column: ColumnId) -> impl Iterator<Item = &Value> {
        self.values(table, column).iter().filter(|value| **value != Value::Null)
    }

    /// The row that a row refers to by a reference.
    pub(crate) fn parent(&self, table: TableId, reference: usize, row: usize) -> Option<usize> {
        self.tables[table.0].parents[reference].get(row).copied().flatten()
    }

    /// Rows by the row that they refer to, in the order of their own.
    pub(crate) fn children(&self, table: TableId, reference: usize) -> Vec<(usize, Vec<usize>)> {
        let mut children: HashMap<usize, Vec<usize>> = HashMap::new();
        for row in 0..self.rows(table) {
            if let Some(parent) = self.parent(table, reference, row) {
                children.entry(parent).or_default().push(row);
            }
        }
        let mut children: Vec<_> = children.into_iter().collect();
        children.sort_unstable();
        children
    }
}

/// A time in microseconds since 1970-01-01; of a date its midnight.
pub(crate) fn micros(value: &Value) -> Option<i64> {
    match value {
        Value::Timestamp(micros) => Some(*micros),
        Value::Date(days) => Some(i64::from(*days) * MICROS_PER_DAY),
        _ => None,
    }
}

/// Whether one time comes before another; of a day and a time by their days.
pub(crate) fn is_before(one: &Value, other: &Value) -> bool {
    let is_day = matches!(one, Value::Date(_)) || matches!(other, Value::Date(_));
    let at = |value| micros(value).map(|micros| if is_day { micros.div_euclid(MICROS_PER_DAY) } else { micros });
    at(one).zip(at(other)).is_some_and(|(one, other)| one < other)
}

/// A value as an example shows it.
pub(crate) fn shown(value: &Value) -> String {
    let text = value.to_string();
    let text = text.trim_end_matches(".000000");
    match text.char_indices().nth(60) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}

/// Counts cases, and keeps the first as an example.
#[derive(Default)]
pub(crate) struct Cases {
    found: u64,
    of: u64,
    example: String,
}

impl Cases {
    /// One that was looked at, with the example it makes where it is one.
    pub(crate) fn look(&mut self, is_one: bool, example: impl FnOnce() -> String) {
        self.of += 1;
        if is_one {
            if self.found == 0 {
                self.example = example();
            }
            self.found += 1;
        }
    }

    pub(crate) fn share(&self) -> f64 {
        if self.of == 0 { 0.0 } else { self.found as f64 / self.of as f64 }
    }

    pub(crate) fn of(&self) -> u64 {
        self.of
    }

    /// The doubt, where there is a case of it.
    pub(crate) fn doubt(self, kind: DoubtKind, table: TableId, columns: Vec<ColumnId>, what: impl Into<String>) -> Option<Doubt> {
        let Cases { found, of, example } = self;
        (found > 0).then(|| Doubt { kind, table, columns, found, of, what: what.into(), example })
    }
}
