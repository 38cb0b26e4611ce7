//! How many rows each table has.

use std::collections::HashMap;

use kampf_schema::expr::{Children, RowCount};
use kampf_schema::{LogicalType, Reference, Schema, Table, TableId, Value, did_you_mean};

use crate::bounds::bounds;
use crate::guess;
use crate::order::{FillError, FillSubject, Order};
use crate::random::{Random, key};

/// The rows of a table, with its counted parent where it has one.
#[derive(Clone, Debug)]
pub(crate) struct CountedRows {
    pub(crate) rows: u64,
    /// The reference by which children were counted, and the children before each parent that has any to give.
    pub(crate) spread: Option<(usize, Vec<u32>)>,
    /// Whether nobody asked for so many.
    pub(crate) guessed: bool,
    /// What was asked for, or would have been.
    pub(crate) asked: RowCount,
}

/// The counts of all tables.
pub(crate) fn count_all(
    schema: &Schema,
    order: &Order,
    seeds: &[u64],
    fewer: &HashMap<TableId, u64>,
) -> Result<Vec<CountedRows>, FillError> {
    let guesses = guess::RowGuesses::of(schema).scaled(order.scale);
    let mut names = HashMap::new();
    for id in schema.ids() {
        names.entry(schema.table(id).name.as_str()).or_insert(id);
    }
    let mut counting = Counting { schema, names, guesses, order, seeds, fewer, counts: vec![None; schema.tables.len()], above: Vec::new() };
    for id in schema.ids() {
        counting.count(id)?;
    }
    Ok(counting.counts.into_iter().flatten().collect())
}

/// Rows of a table at most: no engine is filled with more, and numbers of rows stay far from the ends of their types.
const MOST_ROWS: u64 = 1_000_000_000_000;
/// Parents whose children are counted at most: four bytes are kept for each.
const MOST_PARENTS: u64 = 500_000_000;

struct Counting<'a> {
    schema: &'a Schema,
    /// Tables by their names: each of many thousand is looked for by its children.
    names: HashMap<&'a str, TableId>,
    guesses: guess::RowGuesses<'a>,
    order: &'a Order,
    seeds: &'a [u64],
    /// Guesses that turned out to be too many.
    fewer: &'a HashMap<TableId, u64>,
    counts: Vec<Option<CountedRows>>,
    above: Vec<TableId>,
}

impl Counting<'_> {
    fn find(&self, name: &str) -> Option<TableId> {
        self.names.get(name).copied().or_else(|| self.schema.find(name))
    }

    fn count(&mut self, id: TableId) -> Result<u64, FillError> {
        if let Some(counted) = &self.counts[id.0] {
            return Ok(counted.rows);
        }
        let (schema, seeds) = (self.schema, self.seeds[id.0]);
        let table = schema.table(id);
        let is_guess = !self.order.is_asked(id);
        let asked = match self.fewer.get(&id) {
            Some(rows) => RowCount::Fixed(*rows),
            None => self.order.rows.get(&id).cloned().unwrap_or_else(|| self.guesses.rows(id)),
        };
        let asked = match &self.order.shrink {
            Some(shrink) if !self.fewer.contains_key(&id) => shrink.count(id, asked),
            _ => asked,
        };
        let counted = match &asked {
            // Tables that refer to each other in a circle: a guess must begin somewhere.
            RowCount::Per { parent, .. } if is_guess && self.find(&parent.text).is_none_or(|at| self.above.contains(&at)) => {
                let rows = match &self.order.shrink {
                    None => 1000,
                    Some(shrink) => shrink.rows(id, 1000),
                };
                let rows = rows.max(seeds);
                CountedRows { rows, spread: None, guessed: true, asked: RowCount::Fixed(rows) }
            }
            RowCount::Fixed(rows) => {
                if *rows > MOST_ROWS {
                    let message = format!("`{}` cannot have more than {MOST_ROWS} rows", table.name);
                    return Err(FillError::new(FillSubject::Rows(id), message).hint("give fewer"));
                }
                let rows = if is_guess { self.limited(id, *rows)? } else { *rows };
                let rows = rows.max(seeds);
                CountedRows { rows, spread: None, guessed: is_guess, asked: RowCount::Fixed(rows) }
            }
            RowCount::Per { children, share, parent } => {
                let wrong = |message: String| FillError { span: Some(parent.span), ..FillError::new(FillSubject::Rows(id), message) };
                let at = self.find(&parent.text).ok_or_else(|| {
                    let mut error = wrong(format!("there is no table `{}`", parent.text));
                    error.hint = did_you_mean(&parent.text, schema.tables.iter().map(|table| table.name.as_str()));
                    error
                })?;
                let reference = main_reference(table, at).ok_or_else(|| {
                    wrong(format!("`{}` does not refer to `{}`", table.name, schema.table(at).name)).hint(
                        match table.references.as_slice() {
                            [] => "give a fixed number of rows".to_owned(),
                            references => {
                                let parents: Vec<&str> =
                                    references.iter().map(|reference| schema.table(reference.parent).name.as_str()).collect();
                                format!("it refers to {}", parents.join(", "))
                            }
                        },
                    )
                })?;
                if self.above.contains(&id) || at == id {
                    return Err(wrong(format!("the rows of `{}` depend on themselves", table.name))
                        .hint("give one of the tables a fixed number of rows"));
                }
                self.above.push(id);
                let parents = self.count(at)?;
                let most = if is_guess { self.most_within(id, &table.references[reference])? } else { None };
                self.above.pop();
                // Given children have given parents; the others are shared among the others where there are any.
                let first = first_parent(seeds, self.seeds[at.0], parents);
                let seed = key(self.order.seed, &format!("{}.rows", table.name));
                let children = most.map_or_else(|| children.clone(), |most| no_more_than(children, most));
                if parents > MOST_PARENTS {
                    let message =
                        format!("`{}` has {parents} rows; children can be counted of {MOST_PARENTS} at most", schema.table(at).name);
                    return Err(wrong(message).hint("give it fewer rows, or give a fixed number here"));
                }
                let before = spread_counts(seed, parents - first, &children, *share, id)?;
                let rows = u64::from(before.last().copied().unwrap_or(0));
                let asked = RowCount::Per { children, share: *share, parent: parent.clone() };
                CountedRows { rows: rows + seeds, spread: Some((reference, before)), guessed: is_guess, asked }
            }
        };
        let rows = counted.rows;
        self.counts[id.0] = Some(counted);
        Ok(rows)
    }

    /// A guess of so many rows, as far as rules over few values and few parents allow.
    fn limited(&mut self, id: TableId, rows: u64) -> Result<u64, FillError> {
        let table = self.schema.table(id);
        let mut rows = rows;
        self.above.push(id);
        for reference in &table.references {
            if table.is_unique_key(&reference.columns) && reference.parent != id && !self.above.contains(&reference.parent) {
                rows = rows.min(self.count(reference.parent)?);
            }
        }
        self.above.pop();
        Ok(rows)
    }

    /// Most children of one parent that unique rules allow.
    fn most_within(&mut self, id: TableId, reference: &Reference) -> Result<Option<u64>, FillError> {
        let table = self.schema.table(id);
        let (bounds, _) = bounds(table);
        let mut most: Option<u64> = None;
        let rules: Vec<Vec<usize>> = table.uniques.iter().map(|unique| unique.columns.clone()).chain([table.primary_key.clone()]).collect();
        for rule in rules {
            if rule.is_empty() || !reference.columns.iter().all(|column| rule.contains(column)) {
                continue;
            }
            let mut room = Some(1_u64);
            let mut seen: Vec<usize> = Vec::new();
            for &column in rule.iter().filter(|column| !reference.columns.contains(column)) {
                let other = table.references.iter().position(|other| other.columns.contains(&column));
                let own = match other {
                    Some(at) if seen.contains(&at) => Some(1),
                    Some(at) => {
                        seen.push(at);
                        let parent = table.references[at].parent;
                        if self.above.contains(&parent) { None } else { Some(self.count(parent)?) }
                    }
                    None => match (&bounds[column].one_of, &bounds[column].least, &bounds[column].most) {
                        (Some(values), ..) => Some(values.len() as u64),
                        (None, Some(Value::Integer(low)), Some(Value::Integer(high))) => {
                            u64::try_from(high.saturating_sub(*low).saturating_add(1)).ok()
                        }
                        _ if table.columns[column].kind == LogicalType::Boolean => Some(2),
                        _ => None,
                    },
                };
                room = room.zip(own).map(|(room, own)| room.saturating_mul(own));
            }
            most = match (most, room) {
                (Some(most), Some(room)) => Some(most.min(room)),
                (most, room) => most.or(room),
            };
        }
        Ok(most)
    }
}

/// The first parent row that generated children may belong to: behind those that are given, where children are given too and
/// there are other parents.
pub(crate) fn first_parent(given_children: u64, given_parents: u64, parents: u64) -> u64 {
    if given_children > 0 && parents > given_parents { given_parents } else { 0 }
}

/// The reference to a parent by which children are counted: one that is needed, and inside a unique rule, before others.
fn main_reference(table: &Table, parent: TableId) -> Option<usize> {
    let in_rule = |reference: &Reference| {
        let rules = table.uniques.iter().map(|unique| &unique.columns).chain([&table.primary_key]);
        rules.into_iter().any(|rule| rule.len() > reference.columns.len() && reference.columns.iter().all(|column| rule.contains(column)))
    };
    let needed = |reference: &Reference| reference.columns.iter().all(|&column| !table.columns[column].nullable);
    let of_parent = || table.references.iter().enumerate().filter(|(_, reference)| reference.parent == parent);
    of_parent().max_by_key(|(at, reference)| (in_rule(reference), needed(reference), std::cmp::Reverse(*at))).map(|(at, _)| at)
}

/// A guess, made such that no parent has more children than that.
fn no_more_than(children: &Children, most: u64) -> Children {
    let real = |value: &Value| value.as_ref().as_real().unwrap_or(0.0);
    let (mean, usual) = match children {
        Children::About(mean) => (real(mean), real(mean) * 1.5),
        Children::Between(_, high) => (real(high), real(high)),
        Children::Poisson(mean) => (real(mean), real(mean) * 6.0 + 6.0),
        // One parent of a few thousand has a hundred times as many as the others.
        Children::Heavy(mean) => (real(mean), real(mean) * 200.0),
    };
    if most as f64 >= usual {
        return children.clone();
    }
    let high = (most as f64).min(2.0 * mean).max(0.0) as i64;
    Children::Between(Value::Integer(high.min(1)), Value::Integer(high))
}

fn spread_counts(key: u64, parents: u64, children: &Children, share: u32, id: TableId) -> Result<Vec<u32>, FillError> {
    let wrong = |message: &str, hint: &str| FillError::new(FillSubject::Rows(id), message).hint(hint);
    let real = |value: &Value| value.as_ref().as_real().unwrap_or(0.0);
    let negative = match children {
        Children::About(mean) | Children::Poisson(mean) | Children::Heavy(mean) => real(mean) < 0.0,
        Children::Between(low, high) => real(low) < 0.0 || real(high) < real(low),
    };
    if negative {
        return Err(wrong("this is no range of row counts", "like `20..60 per hive`"));
    }
    let mut before = Vec::with_capacity(usize::try_from(parents).unwrap_or(0) + 1);
    let mut sum = 0_u32;
    before.push(0);
    for parent in 0..parents {
        let mut random = Random::at(key, parent);
        let between = |random: &mut Random, low: f64, high: f64| {
            let wanted = low + (high - low) * random.unit();
            let whole = wanted as u32;
            whole.saturating_add(u32::from(random.unit() < wanted - f64::from(whole)))
        };
        let mut count = match children {
            Children::About(mean) => between(&mut random, real(mean) * 0.5, real(mean) * 1.5),
            Children::Between(low, high) => between(&mut random, real(low), real(high)),
            Children::Poisson(mean) => random.poisson(real(mean)),
            // A log-normal number with this spread has a mean of exp(0.72) times its median.
            Children::Heavy(mean) => {
                let wanted = real(mean) * libm::exp(1.2 * random.normal() - 0.72);
                let whole = wanted as u32;
                whole.saturating_add(u32::from(random.unit() < wanted - f64::from(whole)))
            }
        };
        if share < 100 && random.below(100) >= u64::from(share) {
            count = 0;
        }
        let next = sum.checked_add(count);
        sum = next.ok_or_else(|| wrong("these would be more than four thousand million rows", "give fewer rows per parent"))?;
        before.push(sum);
    }
    Ok(before)
}

/// So many rows shared among parents, give or take half of the mean.
pub(crate) fn share_rows(key: u64, parents: u64, rows: u64) -> Option<Vec<u32>> {
    let rows = u32::try_from(rows).ok().filter(|_| parents <= MOST_PARENTS)?;
    let mut sum = 0.0;
    let weights: Vec<f64> = (0..parents)
        .map(|parent| {
            sum += 0.5 + Random::at(key, parent).unit();
            sum
        })
        .collect();
    let before = weights.iter().map(|weight| (weight / sum * f64::from(rows)) as u32);
    let mut before: Vec<u32> = std::iter::once(0).chain(before).collect();
    if let Some(last) = before.last_mut() {
        *last = rows;
    }
    Some(before)
}

/// So many rows shared among parents, as many for each as can be.
pub(crate) fn share_evenly(parents: u64, rows: u64) -> Option<Vec<u32>> {
    let rows = u32::try_from(rows).ok().filter(|_| (1..=MOST_PARENTS).contains(&parents))?;
    Some((0..=parents).map(|parent| (u128::from(rows) * u128::from(parent) / u128::from(parents)) as u32).collect())
}

/// The most children of one parent.
pub(crate) fn most_of(before: &[u32]) -> u64 {
    before.windows(2).map(|pair| u64::from(pair[1] - pair[0])).max().unwrap_or(0)
}
