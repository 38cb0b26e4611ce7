//! Rows that the schema's own file puts in: which of them can be kept.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use kampf_schema::{ColumnId, LogicalType, Schema, Table, TableId, Value};

/// Rows that are given, a value per column; none where one is to be made.
pub(crate) type Given = Arc<[Vec<Option<Value>>]>;

/// What is kept of all tables' rows.
pub(crate) fn keep(schema: &Schema) -> Vec<Given> {
    let mut rows: Vec<Vec<Vec<Option<Value>>>> = schema.tables.iter().map(|table| table.seeds.clone()).collect();
    for (table, rows) in schema.tables.iter().zip(&mut rows) {
        number(table, rows);
        rows.retain(|row| is_allowed(table, row));
        for key in table.keys() {
            let mut seen = HashSet::new();
            rows.retain(|row| text_of(row, key).is_none_or(|text| seen.insert(text)));
        }
    }
    // What refers to a row that is not there goes, and with it what refers to that.
    loop {
        let before: usize = rows.iter().map(Vec::len).sum();
        for id in schema.ids() {
            for reference in &schema.table(id).references {
                let parents: HashSet<String> =
                    rows[reference.parent.0].iter().filter_map(|row| text_of(row, &reference.parent_columns)).collect();
                rows[id.0].retain(|row| {
                    let is_null = reference.columns.iter().any(|&column| row[column] == Some(Value::Null));
                    // What is left to be made finds a parent by itself.
                    let is_open = reference.columns.iter().any(|&column| row[column].is_none());
                    is_null || is_open || text_of(row, &reference.columns).is_some_and(|text| parents.contains(&text))
                });
            }
        }
        if rows.iter().map(Vec::len).sum::<usize>() == before {
            break;
        }
    }
    rows.into_iter().map(Into::into).collect()
}

/// Gives keys that the database would have numbered.
fn number(table: &Table, rows: &mut [Vec<Option<Value>>]) {
    let [key] = table.primary_key[..] else { return };
    if table.columns[key].kind != LogicalType::Integer {
        return;
    }
    let numbers = largest(rows, key) + 1..;
    for (row, number) in rows.iter_mut().filter(|row| matches!(row[key], None | Some(Value::Null))).zip(numbers) {
        row[key] = Some(Value::Integer(number));
    }
}

/// The largest whole number of a column, at least 0.
pub(crate) fn largest(rows: &[Vec<Option<Value>>], column: ColumnId) -> i64 {
    rows.iter().filter_map(|row| if let Some(Value::Integer(number)) = row[column] { Some(number) } else { None }).fold(0, i64::max)
}

fn is_allowed(table: &Table, row: &[Option<Value>]) -> bool {
    let known = row.iter().zip(&table.columns).all(|(value, column)| column.nullable || *value != Some(Value::Null));
    let value = |column: ColumnId| row[column].clone().unwrap_or(Value::Null);
    known && table.checks.iter().all(|check| check.rule.as_ref().map_or(true, |rule| rule.allows(&value)))
}

/// The values of a key as one text; none where one of them is null or left to be made.
fn text_of(row: &[Option<Value>], key: &[ColumnId]) -> Option<String> {
    let mut text = String::new();
    for &column in key {
        match &row[column] {
            None | Some(Value::Null) => return None,
            Some(value) => {
                text += &value.to_string();
                text.push('\u{0}');
            }
        }
    }
    Some(text)
}

/// The values that given rows have in a column, with the row of each.
pub(crate) fn taken(rows: &Given, column: ColumnId) -> Option<Arc<HashMap<String, u64>>> {
    let values =
        rows.iter().zip(0..).filter_map(|(row, at)| Some((row[column].as_ref().filter(|value| **value != Value::Null)?.to_string(), at)));
    let taken: HashMap<String, u64> = values.collect();
    (!taken.is_empty()).then(|| Arc::new(taken))
}

/// Whether a rule over several columns can only hold when generated rows have other parents than given ones.
pub(crate) fn crowded(schema: &Schema, id: TableId, given: &[Given], rows: impl Fn(TableId) -> u64) -> bool {
    let table = schema.table(id);
    let alone = |column: ColumnId| {
        let kind = table.columns[column].kind;
        table.references.iter().all(|reference| !reference.columns.contains(&column))
            && matches!(kind, LogicalType::Integer | LogicalType::Text { .. } | LogicalType::Uuid)
    };
    table.keys().any(|key| {
        !key.iter().any(|&column| alone(column))
            && table
                .references
                .iter()
                .filter(|reference| reference.columns.iter().any(|column| key.contains(column)))
                .all(|reference| rows(reference.parent) <= given[reference.parent.0].len() as u64)
    })
}
