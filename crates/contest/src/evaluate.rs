//! The plain evaluation: a need answered from rows in memory, by its meaning alone, without statements or layers.

use std::collections::HashMap;

use kampf_schema::{ColumnId, Decimal, Hop, TableId, Value};

use crate::compare::Reference;
use crate::key::Key;
use crate::layers::truth;
use crate::need::{Aggregate, Need, Term};

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
                let Some(column) = column else { return Value::Integer(rows.len() as i64) };
                let values = rows.into_iter().map(|row| self.rows.value(table, row, *column)).filter(|value| *value != Value::Null);
                aggregate(*function, values.collect())
            }
        }
    }
}

/// An aggregate by its meaning, over values that are not null: written apart from that of the layers, so that a mistake in one is
/// not made in the other.
fn aggregate(function: Aggregate, mut values: Vec<Value>) -> Value {
    let many = values.len();
    match function {
        Aggregate::Count => Value::Integer(many as i64),
        _ if many == 0 => Value::Null,
        Aggregate::Min | Aggregate::Max => {
            values.sort_by(|left, right| left.as_ref().order(right.as_ref()));
            values.swap_remove(if function == Aggregate::Min { 0 } else { many - 1 })
        }
        Aggregate::Sum => match exact_sum(&values) {
            Some(sum) if sum.scale == 0 && i64::try_from(sum.units).is_ok() => Value::Integer(sum.units as i64),
            Some(sum) => Value::from(sum),
            None => Value::Real(real_sum(&values)),
        },
        Aggregate::Avg => Value::Real(exact_sum(&values).map_or_else(|| real_sum(&values), Decimal::to_real) / many as f64),
    }
}

/// The sum of whole numbers and decimals, all brought to the finest scale first; none where one is a real, or it is too large.
fn exact_sum(values: &[Value]) -> Option<Decimal> {
    if values.iter().any(|value| matches!(value, Value::Real(_))) {
        return None;
    }
    let decimals: Vec<Decimal> = values.iter().map(|value| value.as_ref().as_decimal()).collect::<Option<_>>()?;
    let scale = decimals.iter().map(|decimal| decimal.scale).max()?;
    let units = decimals.iter().try_fold(0i128, |sum, decimal| sum.checked_add(decimal.rescaled(scale)?.units))?;
    Some(Decimal { units, scale })
}

/// The sum of reals without loss, rounded once: partial sums that do not overlap (Shewchuk 1997).
fn real_sum(values: &[Value]) -> f64 {
    let mut partials: Vec<f64> = Vec::new();
    for value in values.iter().filter_map(|value| value.as_ref().as_real()) {
        let mut rest = value;
        let mut kept = 0;
        for at in 0..partials.len() {
            let (large, small) = if rest.abs() >= partials[at].abs() { (rest, partials[at]) } else { (partials[at], rest) };
            let sum = large + small;
            let lost = small - (sum - large);
            if lost != 0.0 {
                partials[kept] = lost;
                kept += 1;
            }
            rest = sum;
        }
        partials.truncate(kept);
        partials.push(rest);
    }
    partials.iter().rev().sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layers::Accumulator;

    #[test]
    fn aggregates_mean_what_they_say_and_the_layers_have_come_to_the_same_by_themselves() {
        let cents = |units: i128| Value::Decimal(units.into(), 2);
        let reals = [1e100, 1.0, -1e100, 1e-9].map(Value::Real);
        let cases: [(Aggregate, &[Value], Value); 12] = [
            (Aggregate::Count, &[], Value::Integer(0)),
            (Aggregate::Count, &[Value::from("a"), Value::from("a")], Value::Integer(2)),
            (Aggregate::Sum, &[], Value::Null),
            (Aggregate::Sum, &[cents(10), cents(20)], cents(30)),
            (Aggregate::Sum, &[Value::Integer(3), Value::Integer(-5)], Value::Integer(-2)),
            (Aggregate::Sum, &[Value::Integer(i64::MAX), Value::Integer(1)], Value::Decimal((i128::from(i64::MAX) + 1).into(), 0)),
            (Aggregate::Sum, &reals[..3], Value::Real(1.0)),
            (Aggregate::Avg, &[Value::Integer(1), Value::Integer(2)], Value::Real(1.5)),
            (Aggregate::Avg, &[cents(10), cents(15)], Value::Real(0.125)),
            (Aggregate::Avg, &[Value::Real(0.5), Value::Real(0.25)], Value::Real(0.375)),
            (Aggregate::Min, &[Value::Date(7), Value::Date(-3), Value::Date(9)], Value::Date(-3)),
            (Aggregate::Max, &[Value::from("b"), Value::from("ä"), Value::from("a")], Value::from("ä")),
        ];
        for (function, values, expected) in cases {
            assert_eq!(aggregate(function, values.to_vec()), expected, "{function:?} of {values:?}");
            let mut accumulator = Accumulator::new(function);
            values.iter().for_each(|value| accumulator.value(value.as_ref()));
            assert!(accumulator.finish().as_ref().agrees_with(expected.as_ref()), "{function:?} of {values:?}");
        }
        // A thousand small ones that would each be lost beside the large one.
        let many: Vec<Value> = std::iter::once(1e16).chain(std::iter::repeat_n(0.1, 1000)).map(Value::Real).collect();
        assert_eq!(real_sum(&many), 1e16 + 100.0);
    }
}
