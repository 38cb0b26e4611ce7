//! Whether what is written breaks a rule of the schema.

use std::collections::HashSet;

use kampf_schema::{ColumnId, Rule, Schema, Table, TableId, Value};

use super::effect::{Effect, Effects, WriteError};
use crate::evaluate::key_of;
use crate::key::Key;

impl Effects<'_> {
    /// What becomes of the rows.
    ///
    /// # Errors
    /// Why that cannot be told, or must not be.
    pub fn with(&self, parameters: &[Value]) -> Result<Effect, WriteError> {
        let effect = self.meant(parameters)?;
        match broken(self.schema(), self, &effect) {
            Some(rule) => Err(WriteError::Breaks(rule)),
            None => Ok(effect),
        }
    }
}

/// The first rule that would be broken, in words; none where all hold. New rows have the schema's rules by the way they are made, but for
/// columns that are set.
fn broken(schema: &Schema, effects: &Effects<'_>, effect: &Effect) -> Option<String> {
    effect.tables.iter().find_map(|(&table, of_table)| {
        let model = schema.table(table);
        let mut changed: Vec<(Option<u64>, Vec<Value>)> = Vec::new();
        for (&row, set) in &of_table.changed {
            let mut values: Vec<Value> = (0..model.columns.len()).map(|column| effects.rows().value(table, row, column)).collect();
            set.iter().for_each(|(column, value)| values[*column] = value.clone());
            changed.push((Some(row), values));
        }
        changed.extend(of_table.new.iter().map(|row| (None, row.values.clone())));
        // New rows are made so that they keep the rules, but for what is set.
        let made: Vec<ColumnId> = super::generated_key(schema, table).into_iter().collect();
        let set: HashSet<ColumnId> = match of_table.changed.values().next() {
            Some(set) => set.iter().map(|(column, _)| *column).collect(),
            None if table == effects.own_table() => effects.set_columns().iter().copied().collect(),
            None => HashSet::new(),
        };
        if changed.is_empty() || set.is_empty() {
            return None;
        }
        let own = changed.iter().find_map(|(row, values)| of_row(model, values, row.is_none().then_some(&made[..])));
        own.or_else(|| not_unique(table, model, effects, &changed, &set)).or_else(|| no_parent(schema, table, effects, &changed, &set))
    })
}

/// A rule that one row breaks. `new` are the columns of a new row that the database makes.
fn of_row(table: &Table, values: &[Value], new: Option<&[ColumnId]>) -> Option<String> {
    let is_made = |column: &ColumnId| new.is_some_and(|made| made.contains(column));
    let name = |column: ColumnId| format!("`{}.{}`", table.name, table.columns[column].name);
    for (column, model) in table.columns.iter().enumerate() {
        // What hangs on a new parent gets its key when that is known.
        if values[column] == Value::Null && !model.nullable && new.is_none() && model.computed.is_none() {
            return Some(format!("{} would be null, which it cannot be", name(column)));
        }
        if let (Value::Integer(number), Some((low, high))) = (&values[column], model.limits)
            && !(low..=high).contains(number)
        {
            return Some(format!("{} would be {number}, and its type goes from {low} to {high}", name(column)));
        }
        if let (Value::Text(text), kampf_schema::LogicalType::Text { length: Some(longest) }) = (&values[column], model.kind)
            && text.chars().count() as u64 > u64::from(longest)
        {
            return Some(format!("{} would be longer than the {longest} characters that it holds", name(column)));
        }
    }
    let value = |column: ColumnId| values[column].clone();
    table.checks.iter().find_map(|check| {
        let rule = check.rule.as_ref().ok()?;
        let looks_at_made = rule.column_set().iter().any(is_made);
        (!looks_at_made && !rule.allows(&value)).then(|| format!("the rule of `{}` would be broken: {}", table.name, check.in_short()))
    })
}

/// A unique rule that rows break, among themselves or with others.
fn not_unique(
    id: TableId,
    table: &Table,
    effects: &Effects<'_>,
    rows: &[(Option<u64>, Vec<Value>)],
    set: &HashSet<ColumnId>,
) -> Option<String> {
    let own: HashSet<u64> = rows.iter().filter_map(|(row, _)| *row).collect();
    let names = |columns: &[ColumnId]| columns.iter().map(|&column| table.columns[column].name.as_str()).collect::<Vec<_>>().join(", ");
    let twice = |columns: &[ColumnId]| Some(format!("{} of `{}` would not be unique any more", names(columns), table.name));
    for columns in table.keys().filter(|columns| columns.iter().any(|column| set.contains(column))) {
        let mut seen: HashSet<Key> = HashSet::new();
        for (_, values) in rows {
            let Some(key) = Key::of(columns.iter().map(|&column| values[column].as_ref())) else { continue };
            let is_there = effects.with_key(id, columns, &key).iter().any(|row| !own.contains(row));
            if is_there || !seen.insert(key) {
                return twice(columns);
            }
        }
    }
    for index in &table.unique_indexes {
        let columns: Vec<ColumnId> = index.terms.iter().chain(&index.among).flat_map(Rule::column_set).collect();
        if !columns.iter().any(|column| set.contains(column)) {
            continue;
        }
        let key_of = |value: &dyn Fn(ColumnId) -> Value| {
            let value = |column: ColumnId| value(column);
            if index.among.as_ref().is_some_and(|among| among.holds(&value) != Some(true)) {
                return None;
            }
            let terms: Vec<Value> = index.terms.iter().map(|term| term.value_on(&value)).collect();
            Key::of(terms.iter().map(Value::as_ref))
        };
        let others = (0..effects.rows().count(id)).filter(|row| !own.contains(row));
        let mut seen: HashSet<Key> = others.filter_map(|row| key_of(&|column| effects.rows().value(id, row, column))).collect();
        for (_, values) in rows {
            if key_of(&|column| values[column].clone()).is_some_and(|key| !seen.insert(key)) {
                return twice(&columns);
            }
        }
    }
    None
}

/// A reference of rows that would lead nowhere.
fn no_parent(
    schema: &Schema,
    id: TableId,
    effects: &Effects<'_>,
    rows: &[(Option<u64>, Vec<Value>)],
    set: &HashSet<ColumnId>,
) -> Option<String> {
    let table = schema.table(id);
    let of_set = table.references.iter().filter(|reference| reference.columns.iter().any(|column| set.contains(column)));
    of_set.into_iter().find_map(|reference| {
        rows.iter().find_map(|(_, values)| {
            let key = Key::of(reference.columns.iter().map(|&column| values[column].as_ref()))?;
            let parents = effects.with_key(reference.parent, &reference.parent_columns, &key);
            let names: Vec<&str> = reference.columns.iter().map(|&column| table.columns[column].name.as_str()).collect();
            let parent = &schema.table(reference.parent).name;
            // A row may refer to itself, or to one that is new with it.
            let is_new = reference.parent == id
                && rows.iter().any(|(_, other)| {
                    Key::of(reference.parent_columns.iter().map(|&column| other[column].as_ref())).as_ref() == Some(&key)
                });
            (parents.is_empty() && !is_new).then(|| format!("{} of `{}` would lead to no row of `{parent}`", names.join(", "), table.name))
        })
    })
}

/// The key of a row as generated.
pub(super) fn primary_key(effects: &Effects<'_>, schema: &Schema, table: TableId, row: u64) -> Option<Key> {
    key_of(effects.rows(), table, &schema.table(table).primary_key, row)
}
