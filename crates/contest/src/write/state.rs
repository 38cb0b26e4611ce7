//! The rows of a table after a write, held against what they must be.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::{DefaultHasher, Hash, Hasher};

use kampf_schema::{ColumnId, Decimal, Schema, TableId, Value, ValueRef};

use super::effect::{Effect, Effects, NewRow, TableEffect};
use super::{Write, generated_key, rules};
use crate::answer::Answer;
use crate::compare::{Agreement, Difference, Reference, compare};
use crate::key::Key;
use crate::need::Expect;

/// What a table was like before anything was written: how many rows, and a sum over all that they hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TableState {
    /// How many rows.
    pub rows: u64,
    /// The sum of a number for each row, whatever their order.
    pub sum: u64,
}

impl TableState {
    /// Takes a row.
    pub fn take(&mut self, row: &[ValueRef<'_>]) {
        self.rows += 1;
        self.sum = self.sum.wrapping_add(number_of(row));
    }

    fn without(&mut self, row: &[ValueRef<'_>]) {
        self.rows = self.rows.wrapping_sub(1);
        self.sum = self.sum.wrapping_sub(number_of(row));
    }
}

/// A number for all that a row holds; the same for values that are equal.
fn number_of(row: &[ValueRef<'_>]) -> u64 {
    let mut hasher = DefaultHasher::new();
    for value in row {
        std::mem::discriminant(value).hash(&mut hasher);
        match value {
            ValueRef::Null | ValueRef::List(_) => {}
            ValueRef::Integer(number) => number.hash(&mut hasher),
            ValueRef::Decimal(units, scale) => {
                let mut decimal = Decimal { units: units.get(), scale: *scale };
                while decimal.scale > 0 && decimal.units % 10 == 0 {
                    decimal = Decimal { units: decimal.units / 10, scale: decimal.scale - 1 };
                }
                (decimal.units, decimal.scale).hash(&mut hasher);
            }
            ValueRef::Real(number) => (number + 0.0).to_bits().hash(&mut hasher),
            ValueRef::Text(text) => text.hash(&mut hasher),
            ValueRef::Boolean(truth) => truth.hash(&mut hasher),
            ValueRef::Date(days) => days.hash(&mut hasher),
            ValueRef::Timestamp(micros) => micros.hash(&mut hasher),
            ValueRef::Uuid(bytes) => bytes.hash(&mut hasher),
            ValueRef::Blob(bytes) => bytes.hash(&mut hasher),
        }
    }
    hasher.finish()
}

/// Takes the rows of a table as they are after a write, in any order.
pub struct TableReader {
    table: TableId,
    key: Vec<ColumnId>,
    /// Rows that were there and change, by their keys.
    touched: HashSet<Key>,
    /// What says that a row is new: a number that is larger than any before, or its key.
    behind: Option<(ColumnId, i64)>,
    new: HashSet<Key>,
    found_touched: Vec<Vec<Value>>,
    found_new: Vec<Vec<Value>>,
    others: TableState,
}

impl TableReader {
    /// For the rows of a table that an effect concerns. `largest` is the largest key that the database had made before.
    pub fn of(schema: &Schema, effects: &Effects<'_>, table: TableId, effect: &TableEffect, largest: Option<i64>) -> TableReader {
        let key = schema.table(table).primary_key.clone();
        let touched =
            effect.changed.keys().chain(&effect.gone).filter_map(|&row| rules::primary_key(effects, schema, table, row)).collect();
        let made = generated_key(schema, table);
        let new_key = |row: &NewRow| Key::of(key.iter().map(|&column| row.values[column].as_ref()));
        TableReader {
            table,
            touched,
            behind: made.zip(largest).filter(|_| !effect.new.is_empty()),
            new: effect.new.iter().filter_map(new_key).collect(),
            key,
            found_touched: Vec::new(),
            found_new: Vec::new(),
            others: TableState::default(),
        }
    }

    /// Takes a row, with the values of all columns in their order.
    pub fn take(&mut self, row: &[ValueRef<'_>]) {
        let is_behind = self.behind.is_some_and(|(column, largest)| matches!(row[column], ValueRef::Integer(number) if number > largest));
        let values = || row.iter().map(|value| value.to_value()).collect();
        if is_behind {
            return self.found_new.push(values());
        }
        if !self.touched.is_empty() || !self.new.is_empty() {
            let key = Key::of(self.key.iter().map(|&column| row[column]));
            if key.as_ref().is_some_and(|key| self.touched.contains(key)) {
                return self.found_touched.push(values());
            }
            if key.as_ref().is_some_and(|key| self.new.contains(key)) {
                return self.found_new.push(values());
            }
        }
        self.others.take(row);
    }

    /// The new rows that were found.
    pub fn new_rows(&self) -> &[Vec<Value>] {
        &self.found_new
    }
}

impl Effect {
    /// The first difference between what was found of all tables and what must be there; none where all is right. `before` says what each table was
    /// like.
    pub fn difference(
        &self,
        schema: &Schema,
        write: &Write,
        effects: &Effects<'_>,
        before: &BTreeMap<TableId, TableState>,
        found: &[TableReader],
    ) -> Option<Difference> {
        let nothing = TableEffect::default();
        for reader in found {
            let effect = self.tables.get(&reader.table).unwrap_or(&nothing);
            let difference = of_table(schema, write, effects, before.get(&reader.table).copied().unwrap_or_default(), effect, reader);
            if let Some(difference) = difference {
                return Some(Difference { table: Some(reader.table), ..difference });
            }
        }
        self.hangs_elsewhere(schema, write, found)
    }

    /// Whether new rows hang on other new rows than they must: all are there, and not where they belong.
    fn hangs_elsewhere(&self, schema: &Schema, write: &Write, found: &[TableReader]) -> Option<Difference> {
        let tables: Vec<TableId> = write.new_tables().into_iter().map(|(table, _)| table).collect();
        let super::Act::Insert { also, .. } = &write.act else { return None };
        if also.is_empty() {
            return None;
        }
        let plain = |place: usize, values: &[Value]| without_keys(schema, write, place, values);
        let (mut wanted, mut there): (Vec<Vec<u64>>, Vec<Vec<u64>>) = (Vec::new(), Vec::new());
        // Children are told before the rows that they hang on.
        let mut of_children: Vec<ChildNumbers> = vec![Default::default(); tables.len()];
        for place in (0..tables.len()).rev() {
            let table = tables[place];
            let reader = found.iter().find(|reader| reader.table == table)?;
            let new = &self.tables.get(&table)?.new;
            let (by_place, by_key) = std::mem::take(&mut of_children[place]);
            let number = |values: &[Value], hanging: Option<&Vec<u64>>| {
                let mut hanging = hanging.cloned().unwrap_or_default();
                hanging.sort_unstable();
                let mut hasher = DefaultHasher::new();
                let plain = plain(place, values);
                number_of(&plain.iter().map(Value::as_ref).collect::<Vec<_>>()).hash(&mut hasher);
                hanging.hash(&mut hasher);
                hasher.finish()
            };
            let own: Vec<u64> = new.iter().enumerate().map(|(at, row)| number(&row.values, by_place.get(&at))).collect();
            let theirs = |values: &Vec<Value>| {
                let mut keys: Vec<&Vec<ColumnId>> = Vec::new();
                for more in also.iter().filter(|more| more.under == place) {
                    let columns = &schema.table(more.table).references[more.reference].parent_columns;
                    if !keys.contains(&columns) {
                        keys.push(columns);
                    }
                }
                let hanging: Vec<u64> = keys
                    .into_iter()
                    .filter_map(|columns| by_key.get(&Key::of(columns.iter().map(|&column| values[column].as_ref()))?))
                    .flatten()
                    .copied()
                    .collect();
                number(values, Some(&hanging))
            };
            let others: Vec<u64> = reader.found_new.iter().map(theirs).collect();
            if let Some(more) = place.checked_sub(1).map(|at| &also[at]) {
                let columns = &schema.table(table).references[more.reference].columns;
                let (by_place, by_key) = &mut of_children[more.under];
                for (row, number) in new.iter().zip(&own) {
                    by_place.entry(row.under.unwrap_or_default()).or_default().push(*number);
                }
                for (values, number) in reader.found_new.iter().zip(&others) {
                    if let Some(key) = Key::of(columns.iter().map(|&column| values[column].as_ref())) {
                        by_key.entry(key).or_default().push(*number);
                    }
                }
            }
            wanted.insert(0, own);
            there.insert(0, others);
        }
        let (mut own, mut others) = (wanted.first()?.clone(), there.first()?.clone());
        own.sort_unstable();
        others.sort_unstable();
        if own == others {
            return None;
        }
        let row = wanted[0].iter().position(|number| others.binary_search(number).is_err()).unwrap_or(0);
        let expected = self.tables.get(&tables[0]).and_then(|of_table| of_table.new.get(row)).map(|row| row.values.clone());
        let reader = found.iter().find(|reader| reader.table == tables[0])?;
        let other = there[0].iter().position(|number| own.binary_search(number).is_err()).unwrap_or(0);
        Some(Difference {
            expected_rows: own.len(),
            found_rows: others.len(),
            row,
            column: None,
            expected,
            found: reader.found_new.get(other).cloned(),
            came: None,
            inside: None,
            table: Some(tables[0]),
        })
    }
}

/// Numbers of the rows that hang on others: as they must, by the places of those, and as they do, by their keys.
type ChildNumbers = (BTreeMap<usize, Vec<u64>>, HashMap<Key, Vec<u64>>);

/// The values of a new row without those that are not known before it is there.
fn without_keys(schema: &Schema, write: &Write, place: usize, values: &[Value]) -> Vec<Value> {
    let table = write.new_tables()[place].0;
    let generated = generated_key(schema, table);
    let hung = super::effect::hung_columns(schema, write, place);
    let is_open = |column: ColumnId| Some(column) == generated || hung.contains(&column);
    values.iter().enumerate().map(|(column, value)| if is_open(column) { Value::Null } else { value.clone() }).collect()
}

fn of_table(
    schema: &Schema,
    write: &Write,
    effects: &Effects<'_>,
    before: TableState,
    effect: &TableEffect,
    reader: &TableReader,
) -> Option<Difference> {
    let table = reader.table;
    let columns = schema.table(table).columns.len();
    let row_of = |row: u64| (0..columns).map(|column| effects.rows().value(table, row, column)).collect::<Vec<Value>>();
    let mut others = before;
    let mut changed = Vec::new();
    for (&row, set) in &effect.changed {
        let mut values = row_of(row);
        others.without(&values.iter().map(Value::as_ref).collect::<Vec<_>>());
        set.iter().for_each(|(column, value)| values[*column] = value.clone());
        changed.push(values);
    }
    for &row in &effect.gone {
        others.without(&row_of(row).iter().map(Value::as_ref).collect::<Vec<_>>());
    }
    let place = write.new_tables().iter().position(|(of, _)| *of == table);
    let plain = |values: &[Value]| place.map_or_else(|| values.to_vec(), |place| without_keys(schema, write, place, values));
    let new: Vec<Vec<Value>> = effect.new.iter().map(|row| plain(&row.values)).collect();
    let found_new: Vec<Vec<Value>> = reader.found_new.iter().map(|values| plain(values)).collect();
    let differs = |expected: Vec<Vec<Value>>, found: Vec<Vec<Value>>| {
        let reference = Reference { rows: expected, complete: true, expect: Expect::Many, ..Reference::default() };
        match compare(&reference, None, &Answer { rows: found, came: None }) {
            Agreement::Differs(difference) => Some(difference),
            _ => None,
        }
    };
    differs(changed, reader.found_touched.clone()).or_else(|| differs(new, found_new)).or_else(|| {
        (others != reader.others).then_some(Difference {
            expected_rows: others.rows as usize,
            found_rows: reader.others.rows as usize,
            row: 0,
            column: None,
            expected: None,
            found: None,
            came: None,
            inside: None,
            table: None,
        })
    })
}
