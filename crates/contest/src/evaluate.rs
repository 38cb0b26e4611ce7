//! The plain evaluation: a need answered from rows in memory, by its meaning alone, without statements or layers.

use std::collections::HashMap;

use kampf_schema::{ColumnId, Hop, TableId, Value};

use crate::compare::Reference;
use crate::key::Key;
use crate::layers::{Accumulator, truth};
use crate::need::{Need, Term};

/// RowSource to evaluate over.
pub trait RowSource {
    /// How many rows a table has.
    fn count(&self, table: TableId) -> u64;
    /// One value.
    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value;
}

/// RowSource of a table by the columns a hop leads to.
type Index = HashMap<Key, Vec<u64>>;

struct Evaluation<'a> {
    need: &'a Need,
    rows: &'a dyn RowSource,
    indexes: HashMap<(TableId, Vec<ColumnId>), Index>,
}

/// All rows that the need asks for, in its order, before the limit.
pub fn evaluate(need: &Need, rows: &dyn RowSource, parameters: &[Value]) -> Reference {
    let mut evaluation = Evaluation { need, rows, indexes: HashMap::new() };
    for term in need.terms() {
        term.path().iter().for_each(|hop| evaluation.index(hop));
    }
    let evaluation = evaluation;
    let mut found: Vec<(Vec<Value>, Vec<Value>)> = Vec::new();
    for root in 0..rows.count(need.root) {
        if let Some(filter) = &need.filter {
            let holds = truth(filter, parameters, &mut |term| Ok::<_, std::convert::Infallible>(evaluation.value(root, term)));
            let Ok(holds) = holds;
            if holds != Some(true) {
                continue;
            }
        }
        let keys = need.order.iter().map(|by| evaluation.value(root, &by.term)).collect();
        found.push((keys, need.give.iter().map(|given| evaluation.value(root, &given.term)).collect()));
    }
    found.sort_by(|(left, _), (right, _)| {
        let orders = left.iter().zip(right).zip(&need.order).map(|((left, right), by)| {
            let order = left.as_ref().order(right.as_ref());
            if by.descending { order.reverse() } else { order }
        });
        orders.into_iter().find(|order| order.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
    });
    let (keys, rows) = found.into_iter().unzip();
    let keys = if need.order.is_empty() { Vec::new() } else { keys };
    Reference { rows, keys, complete: true }
}

impl Evaluation<'_> {
    fn index(&mut self, hop: &Hop) {
        let place = (hop.to, hop.to_columns.clone());
        if self.indexes.contains_key(&place) {
            return;
        }
        let mut index = Index::new();
        for row in 0..self.rows.count(hop.to) {
            if let Some(key) = self.key(hop.to, &hop.to_columns, row) {
                index.entry(key).or_default().push(row);
            }
        }
        self.indexes.insert(place, index);
    }

    fn key(&self, table: TableId, columns: &[ColumnId], row: u64) -> Option<Key> {
        let values: Vec<Value> = columns.iter().map(|&column| self.rows.value(table, row, column)).collect();
        Key::of(values.iter().map(Value::as_ref))
    }

    /// The rows that a path leads to.
    fn reach(&self, root: u64, path: &[Hop]) -> Vec<u64> {
        let mut rows = vec![root];
        for hop in path {
            let index = &self.indexes[&(hop.to, hop.to_columns.clone())];
            let next = rows.iter().filter_map(|&row| index.get(&self.key(hop.from, &hop.from_columns, row)?));
            rows = next.flatten().copied().collect();
        }
        rows
    }

    fn value(&self, root: u64, term: &Term) -> Value {
        let table = term.table(self.need.root);
        let rows = self.reach(root, term.path());
        match term {
            Term::Column { column, .. } => rows.first().map_or(Value::Null, |&row| self.rows.value(table, row, *column)),
            Term::Aggregate { function, column, .. } => {
                let mut accumulator = Accumulator::new(*function);
                for row in rows {
                    match column {
                        Some(column) => accumulator.value(self.rows.value(table, row, *column).as_ref()),
                        None => accumulator.row(),
                    }
                }
                accumulator.finish()
            }
        }
    }
}
