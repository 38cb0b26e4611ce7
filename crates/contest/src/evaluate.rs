//! The plain evaluation: a need answered from rows in memory, by its meaning alone, without statements or layers. It shares the
//! evaluator of expressions with them and nothing else.

mod indexes;
mod overflow;

use std::cell::Cell;
use std::collections::HashMap;
use std::fmt;

use kampf_schema::expr::{Expr, Scope};
use kampf_schema::{ColumnId, Decimal, LogicalType, Schema, Span, TableId, Value};

use crate::compare::Reference;
use crate::key::Key;
use crate::need::{Aggregate, Fold, Leaf, ListOver, Need, OrderBy, SURE_DIGITS};
use indexes::Indexes;
pub(crate) use indexes::key_of;
pub use indexes::rows_with_keys;

/// Rows to evaluate over.
pub trait RowSource {
    /// How many rows a table has.
    fn count(&self, table: TableId) -> u64;
    /// One value.
    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value;
}

/// A number that is too large for its type.
#[derive(Clone, Debug, PartialEq)]
pub struct Overflow {
    /// What was computed, in the language of needs.
    pub what: String,
}

impl fmt::Display for Overflow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` becomes too large for its type", self.what)
    }
}

impl std::error::Error for Overflow {}

/// What every engine keeps of a decimal, in its smallest units.
const MOST_UNITS: i128 = 10_i128.pow(SURE_DIGITS as u32);

/// Rows of a table by the columns a hop leads to.
struct Evaluation<'a> {
    need: &'a Need,
    schema: &'a Schema,
    rows: &'a dyn RowSource,
    parameters: &'a [Value],
    indexes: &'a Indexes,
    /// Whether reals were compared that agree within tolerance, since this was last looked at.
    near: Cell<bool>,
    /// Whether rows were chosen by reals that agree within tolerance, so that another choice would be right too.
    unsure: Cell<bool>,
}

/// What is at hand: a row of a source, or a group.
struct Here<'e, 'a> {
    evaluation: &'e Evaluation<'a>,
    source: usize,
    row: u64,
    /// The group's terms and the rows in it.
    group: Option<(&'e [Value], &'e [u64])>,
}

impl Scope<Leaf> for Here<'_, '_> {
    type Error = Span;

    fn leaf(&mut self, leaf: &Leaf) -> Result<Value, Span> {
        let evaluation = self.evaluation;
        match leaf {
            Leaf::Column { source, column } => {
                let rows = evaluation.reach(self.source, self.row, *source)?;
                let table = evaluation.need.sources[*source].table;
                Ok(rows.first().map_or(Value::Null, |&row| evaluation.rows.value(table, row, *column)))
            }
            Leaf::Parameter(at) => Ok(evaluation.parameters.get(*at).cloned().unwrap_or(Value::Null)),
            Leaf::Aggregate(at) => {
                let aggregate = &evaluation.need.aggregates[*at];
                let rows = evaluation.reach(self.source, self.row, aggregate.over)?;
                evaluation.fold(&aggregate.fold, aggregate.over, &rows)
            }
            Leaf::Key(at) => Ok(self.group.and_then(|(keys, _)| keys.get(*at)).cloned().unwrap_or(Value::Null)),
            Leaf::Total(at) => match (self.group, &evaluation.need.group) {
                (Some((_, rows)), Some(group)) => evaluation.fold(&group.totals[*at], 0, rows),
                _ => Ok(Value::Null),
            },
            Leaf::List(at) => {
                let list = &evaluation.need.lists[*at];
                let rows = evaluation.reach(self.source, self.row, list.over)?;
                evaluation.list(list, rows)
            }
        }
    }

    fn overflow(&mut self, place: Span, _: Option<f64>) -> Result<Value, Span> {
        Err(place)
    }

    fn looks_at_all(&self) -> bool {
        true
    }

    fn near_an_edge(&mut self) {
        self.evaluation.near.set(true);
    }
}

/// A row of the answer before it is sorted.
struct Found {
    keys: Vec<Value>,
    values: Vec<Value>,
    free: bool,
}

/// A need over rows, to be evaluated for any parameters.
pub struct PlainEvaluation<'a> {
    schema: &'a Schema,
    need: &'a Need,
    rows: &'a dyn RowSource,
    indexes: Indexes,
}

/// A root row that was worked out by itself.
#[derive(Clone, Debug, PartialEq)]
pub struct RootRow {
    /// Whether it belongs to the answer, before the limit.
    pub taken: bool,
    /// Whether the opposite would be right too, or other values: reals within tolerance decide it.
    pub free: bool,
    /// Its sort keys.
    pub keys: Vec<Value>,
    /// What is given of it.
    pub values: Vec<Value>,
}

impl<'a> PlainEvaluation<'a> {
    /// Over all rows. Rows are looked through once for each relation.
    pub fn of(schema: &'a Schema, need: &'a Need, rows: &'a dyn RowSource) -> PlainEvaluation<'a> {
        PlainEvaluation { schema, need, rows, indexes: Indexes::of(need, rows) }
    }

    /// Over some root rows and those that these need: little is kept, however many rows there are. Only [`PlainEvaluation::root`] of these
    /// rows can be asked for.
    pub fn of_roots(schema: &'a Schema, need: &'a Need, rows: &'a dyn RowSource, roots: &[u64]) -> PlainEvaluation<'a> {
        PlainEvaluation { schema, need, rows, indexes: Indexes::of_roots(need, rows, roots) }
    }

    fn with<'e>(&'e self, parameters: &'e [Value]) -> Evaluation<'e> {
        let PlainEvaluation { schema, need, rows, indexes } = self;
        Evaluation { need, schema, rows: *rows, parameters, indexes, near: Cell::new(false), unsure: Cell::new(false) }
    }

    /// Whether no number becomes too large for its type, on any row: what a condition leaves out, a limit cuts off or no root row refers
    /// to, a database may compute all the same. What depends on parameters is looked at with each answer.
    ///
    /// # Errors
    /// The first value that does.
    pub fn overflows(&self) -> Result<(), Overflow> {
        let evaluation = self.with(&[]);
        evaluation.try_everywhere(|value| !evaluation.has_parameters(value))
    }

    /// All rows that the need asks for, in its order, before the limit.
    ///
    /// # Errors
    /// A number that becomes too large for its type: engines do not agree on what it is then.
    pub fn answer(&self, parameters: &[Value]) -> Result<Reference, Overflow> {
        self.with(parameters).answer()
    }

    /// One root row by itself, where the need has no groups.
    ///
    /// # Errors
    /// As for [`PlainEvaluation::answer`].
    pub fn root(&self, row: u64, parameters: &[Value]) -> Result<RootRow, Overflow> {
        let evaluation = self.with(parameters);
        let (taken, free) = evaluation.takes(row, &evaluation.fuzzy_parts())?;
        if !taken && !free {
            return Ok(RootRow { taken, free, keys: Vec::new(), values: Vec::new() });
        }
        let found = evaluation.row(row, free)?;
        Ok(RootRow { taken, free: free || evaluation.unsure.get(), keys: found.keys, values: found.values })
    }
}

/// All rows that the need asks for, in its order, before the limit.
///
/// # Errors
/// As for [`PlainEvaluation::answer`].
pub fn evaluate(schema: &Schema, need: &Need, rows: &dyn RowSource, parameters: &[Value]) -> Result<Reference, Overflow> {
    PlainEvaluation::of(schema, need, rows).answer(parameters)
}

impl<'a> Evaluation<'a> {
    fn answer(&self) -> Result<Reference, Overflow> {
        let (need, rows) = (self.need, self.rows);
        self.try_everywhere(|value| self.has_parameters(value))?;
        let fuzzy = self.fuzzy_parts();
        let mut roots = Vec::new();
        for row in 0..rows.count(need.root()) {
            let (taken, free) = self.takes(row, &fuzzy)?;
            if taken || free {
                roots.push((row, taken, free));
            }
        }
        let unclear = need.group.is_some() && roots.iter().any(|(_, _, free)| *free);
        let mut found = match &need.group {
            None => roots.into_iter().map(|(row, _, free)| self.row(row, free)).collect::<Result<Vec<_>, _>>()?,
            Some(_) => self.groups(roots.into_iter().filter(|(_, taken, _)| *taken).map(|(row, ..)| row))?,
        };
        found.sort_by(|left, right| {
            let orders = left.keys.iter().zip(&right.keys).zip(&need.order).map(|((left, right), by)| {
                let order = left.as_ref().order(right.as_ref());
                if by.descending { order.reverse() } else { order }
            });
            orders.into_iter().find(|order| order.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
        });
        let mut reference = Reference { complete: true, expect: need.expect, unclear, forms: need.forms(), ..Reference::default() };
        reference.unclear |= self.unsure.get();
        for row in found {
            reference.rows.push(row.values);
            reference.free.push(row.free);
            if !need.order.is_empty() {
                reference.keys.push(row.keys);
            }
        }
        Ok(reference)
    }

    /// Of each part of the condition whether who computes its reals decides.
    fn fuzzy_parts(&self) -> Vec<bool> {
        self.need.filter.iter().map(|part| self.need.is_fuzzy(self.schema, &part.condition)).collect()
    }

    fn key(&self, table: TableId, columns: &[ColumnId], row: u64) -> Option<Key> {
        key_of(self.rows, table, columns, row)
    }

    /// The rows of a source that hang on a row of another above it.
    fn reach(&self, from: usize, row: u64, to: usize) -> Result<Vec<u64>, Span> {
        let mut rows = vec![row];
        for step in self.need.way(from, to) {
            let source = &self.need.sources[step];
            let Some(hop) = &source.hop else { continue };
            let next = rows.iter().filter_map(|&row| self.indexes.rows(hop, &self.key(hop.from, &hop.from_columns, row)?));
            let reached: Vec<u64> = next.flatten().copied().collect();
            rows = match &source.filter {
                None => reached,
                Some(filter) => {
                    let mut taken = Vec::new();
                    for row in reached {
                        if filter.truth(&mut Here { evaluation: self, source: step, row, group: None })? == Some(true) {
                            taken.push(row);
                        }
                    }
                    taken
                }
            };
        }
        Ok(rows)
    }

    /// The rows of a list, each a list of its values.
    fn list(&self, list: &ListOver, rows: Vec<u64>) -> Result<Value, Span> {
        let most = list.limit.map(|limit| usize::try_from(limit).unwrap_or(usize::MAX));
        let rows = if list.order.is_empty() { rows } else { self.in_order(&list.order, list.over, rows, most)? };
        let mut found = Vec::with_capacity(rows.len());
        for row in rows.into_iter().take(most.unwrap_or(usize::MAX)) {
            let values =
                list.give.iter().map(|given| given.value.value(&mut Here { evaluation: self, source: list.over, row, group: None }));
            found.push(Value::List(values.collect::<Result<_, _>>()?));
        }
        Ok(Value::List(found.into()))
    }

    /// Rows in an order. Where they are cut after so many, it is noted if others might have been taken as well.
    fn in_order(&self, order: &[OrderBy<Leaf>], source: usize, rows: Vec<u64>, cut: Option<usize>) -> Result<Vec<u64>, Span> {
        let mut keyed = Vec::with_capacity(rows.len());
        for row in rows {
            let keys = order.iter().map(|by| by.value.value(&mut Here { evaluation: self, source, row, group: None }));
            keyed.push((keys.collect::<Result<Vec<Value>, _>>()?, row));
        }
        keyed.sort_by(|(left, _), (right, _)| {
            let orders = left.iter().zip(right).zip(order).map(|((left, right), by)| {
                let order = left.as_ref().order(right.as_ref());
                if by.descending { order.reverse() } else { order }
            });
            orders.into_iter().find(|order| order.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
        });
        if let Some(cut) = cut.filter(|&cut| cut > 0 && cut < keyed.len()) {
            let (last, next) = (&keyed[cut - 1].0, &keyed[cut].0);
            let first = last.iter().zip(next).zip(order).find(|((last, next), _)| last.as_ref().order(next.as_ref()).is_ne());
            if first
                .is_some_and(|((last, next), by)| last.as_ref().agrees_with(next.as_ref()) && self.need.is_fuzzy(self.schema, &by.value))
            {
                self.unsure.set(true);
            }
        }
        Ok(keyed.into_iter().map(|(_, row)| row).collect())
    }

    fn fold(&self, fold: &Fold, source: usize, rows: &[u64]) -> Result<Value, Span> {
        if fold.function == Aggregate::First {
            let first = self.in_order(&fold.order, source, rows.to_vec(), Some(1))?.first().copied();
            return match (first, &fold.of) {
                (Some(row), Some(of)) => of.value(&mut Here { evaluation: self, source, row, group: None }),
                _ => Ok(Value::Null),
            };
        }
        let Some(of) = &fold.of else {
            let many = rows.len() as i64;
            return Ok(if fold.function == Aggregate::Exists { Value::Boolean(many > 0) } else { Value::Integer(many) });
        };
        let mut values = Vec::with_capacity(rows.len());
        for &row in rows {
            values.push(of.value(&mut Here { evaluation: self, source, row, group: None })?);
        }
        values.retain(|value| *value != Value::Null);
        if fold.distinct {
            values.sort_by(|left, right| left.as_ref().order(right.as_ref()));
            values.dedup_by(|left, right| left.as_ref().order(right.as_ref()).is_eq());
        }
        // Engines add in any order, and decimals as scaled whole numbers of 64 bits that become reals of 15 digits.
        if fold.function == Aggregate::Sum
            && let Some(decimals) = values.iter().map(|value| value.as_ref().as_decimal()).collect::<Option<Vec<_>>>()
        {
            let most = if matches!(fold.kind, LogicalType::Decimal { .. }) { MOST_UNITS } else { i128::from(i64::MAX) };
            let sum = decimals.iter().try_fold(0_i128, |sum, decimal| sum.checked_add(decimal.units.checked_abs()?));
            if sum.is_none_or(|sum| sum > most) {
                return Err(of.span);
            }
        }
        let result = aggregate(fold.function, values);
        let too_large = matches!((&result, fold.kind), (Value::Decimal(..), LogicalType::Integer));
        let too_large = too_large || matches!(result, Value::Real(number) if !number.is_finite());
        if too_large { Err(of.span) } else { Ok(result) }
    }

    /// Whether the condition takes a root row, and whether the opposite would be right too.
    fn takes(&self, row: u64, fuzzy: &[bool]) -> Result<(bool, bool), Overflow> {
        let (mut taken, mut free) = (true, false);
        for (part, fuzzy) in self.need.filter.iter().zip(fuzzy) {
            if part.only_if.is_some_and(|at| self.parameters.get(at).is_none_or(|value| *value == Value::Null)) {
                continue;
            }
            self.near.set(false);
            let truth = part.condition.truth(&mut Here { evaluation: self, source: 0, row, group: None });
            let truth = truth.map_err(|_| self.overflow(&part.condition))?;
            let near = *fuzzy && self.near.get();
            if truth != Some(true) && !near {
                return Ok((false, false));
            }
            taken &= truth == Some(true);
            free |= near;
        }
        Ok((taken, free))
    }

    fn row(&self, row: u64, free: bool) -> Result<Found, Overflow> {
        let of =
            |value: &Expr<Leaf>| value.value(&mut Here { evaluation: self, source: 0, row, group: None }).map_err(|_| self.overflow(value));
        Ok(Found {
            keys: self.need.order.iter().map(|by| of(&by.value)).collect::<Result<_, _>>()?,
            values: self.need.give.iter().map(|given| of(&given.value)).collect::<Result<_, _>>()?,
            free,
        })
    }

    fn groups(&self, roots: impl Iterator<Item = u64>) -> Result<Vec<Found>, Overflow> {
        let Some(group) = &self.need.group else { return Ok(Vec::new()) };
        let mut places: HashMap<Key, usize> = HashMap::new();
        let mut groups: Vec<(Vec<Value>, Vec<u64>)> = Vec::new();
        if group.keys.is_empty() {
            groups.push((Vec::new(), Vec::new()));
            places.insert(Key::of_group(std::iter::empty()), 0);
        }
        for row in roots {
            let mut keys = Vec::with_capacity(group.keys.len());
            for key in &group.keys {
                let value = key.value.value(&mut Here { evaluation: self, source: 0, row, group: None });
                keys.push(value.map_err(|_| self.overflow(&key.value))?);
            }
            let place = *places.entry(Key::of_group(keys.iter().map(Value::as_ref))).or_insert_with(|| {
                groups.push((keys, Vec::new()));
                groups.len() - 1
            });
            groups[place].1.push(row);
        }
        let mut found = Vec::with_capacity(groups.len());
        let given = self.need.give.iter().map(|given| &given.value);
        let short: Vec<_> = given.chain(self.need.order.iter().map(|by| &by.value)).flat_map(|value| self.short_parts(value)).collect();
        for (keys, rows) in &groups {
            let here = || Here { evaluation: self, source: 0, row: 0, group: Some((keys, rows)) };
            short.iter().try_for_each(|part| self.try_short(part, here()))?;
            let of = |value: &Expr<Leaf>| value.value(&mut here()).map_err(|_| self.overflow(value));
            found.push(Found {
                keys: self.need.order.iter().map(|by| of(&by.value)).collect::<Result<_, _>>()?,
                values: self.need.give.iter().map(|given| of(&given.value)).collect::<Result<_, _>>()?,
                free: false,
            });
        }
        Ok(found)
    }

    fn overflow(&self, value: &Expr<Leaf>) -> Overflow {
        Overflow { what: self.need.said(self.schema, value) }
    }
}

/// An aggregate by its meaning, over values that are not null: written apart from that of the layers, so that a mistake in one is
/// not made in the other.
fn aggregate(function: Aggregate, mut values: Vec<Value>) -> Value {
    let many = values.len();
    match function {
        Aggregate::Count => Value::Integer(many as i64),
        Aggregate::Exists => Value::Boolean(many > 0),
        // The first row is looked for among rows, not values.
        Aggregate::First => Value::Null,
        _ if many == 0 => Value::Null,
        Aggregate::Min | Aggregate::Max => {
            values.sort_by(|left, right| left.as_ref().order(right.as_ref()));
            values.swap_remove(if function == Aggregate::Min { 0 } else { many - 1 })
        }
        Aggregate::Sum => match exact_sum(&values) {
            // A sum of decimals is one, also without digits behind the point.
            Some(sum) if sum.scale == 0 && !values.iter().any(|value| matches!(value, Value::Decimal(..))) => {
                i64::try_from(sum.units).map_or_else(|_| Value::from(sum), Value::Integer)
            }
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
mod tests;
