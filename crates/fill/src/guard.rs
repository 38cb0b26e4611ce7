//! Checks that values are drawn again for until they hold, and the proof that they do.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};

use kampf_schema::expr::Node;
use kampf_schema::{ColumnId, LogicalType, Rule, Schema, Table, TableId, Value};

use crate::blueprint::{Blueprint, TablePlan, as_kind};
use crate::bounds::{Bounds, bounds};
use crate::link::How;
use crate::maker::Origin;
use crate::order::{FillError, FillSubject, Order};
use crate::origins::check_circles;
use crate::random::{Random, mix};
use crate::unique::ValueSource;

/// Rows of each table that the checks are tried on.
const TRIED: u64 = 48;
/// And as many of the first ones where a column counts.
const TRIED_IN_ORDER: u64 = 1_000;

/// Checks that values are drawn for until they hold.
#[derive(Clone, Debug)]
pub(crate) struct Guard {
    pub(crate) columns: Vec<ColumnId>,
    pub(crate) rules: Vec<Rule>,
    /// Values that the checks speak of, for each column in order.
    pub(crate) hints: Vec<Vec<Value>>,
    /// What the checks compare each of them with on the same row.
    pub(crate) beside: Vec<Vec<Rule>>,
    /// The least and the largest value of each of them.
    pub(crate) within: Vec<(Option<Value>, Option<Value>)>,
    /// Other checks about them, which hold of themselves where values are made as the columns are meant to be.
    pub(crate) others: Vec<Rule>,
}

impl Guard {
    /// A value that the checks speak of, or one between two of them; where chance alone does not find what they want. In the end
    /// one next to what the column is compared with on this row.
    pub(crate) fn hinted(
        &self,
        at: usize,
        kind: LogicalType,
        key: u64,
        row: u64,
        attempt: u64,
        others: &dyn Fn(ColumnId) -> Value,
    ) -> Option<Value> {
        let mut random = Random::at(mix(key ^ attempt), row);
        if attempt < 4 || random.below(2) == 0 {
            return None;
        }
        let small = random.below(128) as i64 >> random.below(8);
        let small = if random.below(2) == 0 { small } else { -small };
        if attempt >= 32 && random.below(4) == 0 {
            // Few rules of arithmetic hold for none of the small numbers.
            return Some(as_kind(Value::Integer(small), kind)).filter(|value| kind.is_number() && self.is_within(at, value));
        }
        let beside: Vec<Value>;
        let mut hints = self.hints[at].as_slice();
        if attempt >= 16 && !self.beside[at].is_empty() && (hints.is_empty() || random.below(2) == 0) {
            beside =
                self.beside[at].iter().map(|term| as_kind(term.value_on(&others), kind)).filter(|value| *value != Value::Null).collect();
            hints = &beside;
        }
        if hints.is_empty() {
            return None;
        }
        let mut pick = || &hints[random.below(hints.len() as u64) as usize];
        let (one, other) = (pick(), pick());
        let between = |low: i128, high: i128, random: &mut Random| random.between(low.min(high) - 1, low.max(high) + 1);
        let hinted = match (one, other) {
            (Value::Integer(low), Value::Integer(high)) => Value::Integer(between((*low).into(), (*high).into(), &mut random) as i64),
            (Value::Date(low), Value::Date(high)) => Value::Date(between((*low).into(), (*high).into(), &mut random) as i32),
            (Value::Timestamp(low), Value::Timestamp(high)) => {
                Value::Timestamp(between((*low / 1_000_000).into(), (*high / 1_000_000).into(), &mut random) as i64 * 1_000_000)
            }
            (Value::Decimal(low, scale), Value::Decimal(high, _)) => {
                Value::Decimal(between(low.get(), high.get(), &mut random).into(), *scale)
            }
            (one, _) => one.clone(),
        };
        self.is_within(at, &hinted).then_some(hinted)
    }

    fn is_within(&self, at: usize, value: &Value) -> bool {
        let (least, most) = &self.within[at];
        least.as_ref().is_none_or(|least| least.as_ref().order(value.as_ref()).is_le())
            && most.as_ref().is_none_or(|most| most.as_ref().order(value.as_ref()).is_ge())
    }
}

/// Puts the columns of some checks under guards: those that share a column under the same one.
pub(crate) fn guard(schema: &Schema, id: TableId, plan: &mut TablePlan, checks: &[usize]) {
    let table = schema.table(id);
    let (bounds, _) = bounds(table);
    let mut guards: Vec<(BTreeSet<ColumnId>, Vec<usize>)> = Vec::new();
    for &at in checks {
        let Ok(rule) = &table.checks[at].rule else { continue };
        let mut columns: BTreeSet<ColumnId> = rule.column_set().into_iter().collect();
        // What a column is made from is drawn anew with it, and so is what a reference brings along.
        let mut more: Vec<ColumnId> = columns.iter().copied().collect();
        while let Some(column) = more.pop() {
            let own = plan.columns[column]
                .maker
                .origins()
                .into_iter()
                .filter_map(|origin| if let Origin::Own(other) = origin { Some(other) } else { None });
            let computed = if let ValueSource::Computed(term) = &plan.columns[column].source { term.column_set() } else { Vec::new() };
            for other in own.chain(computed).chain(drawn_together(plan, column)) {
                if columns.insert(other) {
                    more.push(other);
                }
            }
        }
        let mut checks = vec![at];
        guards.retain(|(other, theirs)| {
            let apart = other.is_disjoint(&columns);
            if !apart {
                columns.extend(other);
                checks.extend(theirs);
            }
            apart
        });
        guards.push((columns, checks));
    }
    plan.columns.iter_mut().for_each(|column| column.guard = None);
    plan.guards = guards
        .into_iter()
        .enumerate()
        .map(|(at, (columns, checks))| {
            let rules: Vec<Rule> = checks.iter().filter_map(|&check| table.checks[check].rule.clone().ok()).collect();
            let columns = changeable(schema, id, plan, columns);
            columns.iter().for_each(|&column| plan.columns[column].guard = Some(at));
            let hints = columns.iter().map(|&column| hints(table, column, &rules)).collect();
            let beside = columns.iter().map(|&column| beside(column, &rules)).collect();
            let within = columns.iter().map(|&column| within(table.columns[column].kind, &bounds[column])).collect();
            let about = |rule: &&Rule| !rules.contains(rule) && rule.column_set().iter().any(|column| columns.contains(column));
            let others = table.checks.iter().filter_map(|check| check.rule.as_ref().ok()).filter(about).cloned().collect();
            Guard { columns, rules, hints, beside, within, others }
        })
        .collect();
}

/// Columns of the same reference, and of references that are found by way of it; digits of the same number.
fn drawn_together(plan: &TablePlan, column: ColumnId) -> Vec<ColumnId> {
    if let ValueSource::Digit { key, .. } = plan.columns[column].source {
        let digit = |other: &ColumnId| matches!(plan.columns[*other].source, ValueSource::Digit { key: of, .. } if of == key);
        return (0..plan.columns.len()).filter(digit).collect();
    }
    let linked = |column: ColumnId| if let ValueSource::Linked(link, _) = plan.columns[column].source { Some(link) } else { None };
    let Some(link) = linked(column) else { return Vec::new() };
    let through = |one: usize, other: usize| matches!(plan.links[one].how, How::Cousin { through, .. } if through == other);
    let together = |other: usize| other == link || through(other, link) || through(link, other);
    (0..plan.columns.len()).filter(|&other| linked(other).is_some_and(together)).collect()
}

/// The columns that another attempt changes. Keys that others refer to stay as they are as long as something else can change:
/// rows of other tables ask for them, and may be asked for something in their turn. What differs among the rows of a parent
/// stays, but may be null or not.
fn changeable(schema: &Schema, id: TableId, plan: &TablePlan, columns: BTreeSet<ColumnId>) -> Vec<ColumnId> {
    let is_key = |column: ColumnId| {
        let references = schema.tables.iter().flat_map(|table| &table.references);
        references.into_iter().any(|reference| reference.parent == id && reference.parent_columns.contains(&column))
    };
    let differs = |column: ColumnId| {
        let source = &plan.columns[column].source;
        source.counts() || matches!(source, ValueSource::Numbered | ValueSource::NumberedWithin(_))
    };
    let (keys, others): (Vec<ColumnId>, Vec<ColumnId>) = columns
        .into_iter()
        .filter(|&column| !plan.columns[column].source.counts_within() || plan.columns[column].null_share > 0)
        .partition(|&column| differs(column) && is_key(column));
    if others.is_empty() { keys } else { others }
}

/// The fixed values that rules compare a column with.
fn hints(table: &Table, column: ColumnId, rules: &[Rule]) -> Vec<Value> {
    fn walk(rule: &Rule, column: ColumnId, found: &mut Vec<Value>) {
        match &rule.node {
            Node::Compare(..) | Node::Same(..) | Node::In(..) => {
                let terms = rule.parts();
                if terms.iter().any(|term| term.column_set().contains(&column)) {
                    found.extend(terms.into_iter().filter_map(Rule::as_literal).cloned());
                }
            }
            Node::Not(_) | Node::And(_) | Node::Or(_) => rule.parts().into_iter().for_each(|rule| walk(rule, column, found)),
            _ => {}
        }
    }
    let mut found = Vec::new();
    rules.iter().for_each(|rule| walk(rule, column, &mut found));
    let kind = table.columns[column].kind;
    let mut fitting: Vec<Value> = found.into_iter().map(|value| as_kind(value, kind)).filter(|value| *value != Value::Null).collect();
    if let LogicalType::Text { length: Some(length) } = kind {
        fitting.retain(|value| value.to_string().chars().count() <= length as usize);
    }
    fitting.retain(|value| matches!(value, Value::Text(_)) == matches!(kind, LogicalType::Text { .. }));
    fitting.dedup();
    fitting
}

/// The least and the largest value of a column, by its checks or else by its digits.
fn within(kind: LogicalType, bounds: &Bounds) -> (Option<Value>, Option<Value>) {
    let (mut least, mut most) = (bounds.least.clone(), bounds.most.clone());
    if let LogicalType::Decimal { precision, scale } = kind
        && let Some(above) = 10_i128.checked_pow(precision.into())
    {
        least.get_or_insert(Value::Decimal((1 - above).into(), scale));
        most.get_or_insert(Value::Decimal((above - 1).into(), scale));
    }
    (least, most)
}

/// The terms of other columns that rules compare a column with.
fn beside(column: ColumnId, rules: &[Rule]) -> Vec<Rule> {
    fn walk(rule: &Rule, column: ColumnId, found: &mut Vec<Rule>) {
        match &rule.node {
            Node::Compare(_, left, right) | Node::Same(left, right) => {
                for (one, other) in [(left, right), (right, left)] {
                    let columns = other.column_set();
                    if one.as_leaf() == Some(&column) && !columns.is_empty() && !columns.contains(&column) {
                        found.push((**other).clone());
                    }
                }
            }
            Node::Not(_) | Node::And(_) | Node::Or(_) => rule.parts().into_iter().for_each(|rule| walk(rule, column, found)),
            _ => {}
        }
    }
    let mut found = Vec::new();
    rules.iter().for_each(|rule| walk(rule, column, &mut found));
    found
}

/// Tries all checks on some rows of each table. Those that were thought to hold and do not come under a guard; where a guard
/// cannot make them hold either, nobody can.
pub(crate) fn prove(schema: &Schema, order: &Order, blueprint: &mut Blueprint) -> Result<(), FillError> {
    for id in schema.ids() {
        let table = schema.table(id);
        let known: Vec<usize> = (0..table.checks.len()).filter(|&at| table.checks[at].rule.is_ok()).collect();
        if known.is_empty() {
            continue;
        }
        let mut under: Vec<usize> = known
            .iter()
            .copied()
            .filter(|&at| {
                blueprint.tables[id.0]
                    .guards
                    .iter()
                    .any(|guard| table.checks[at].rule.as_ref().is_ok_and(|rule| guard.rules.contains(rule)))
            })
            .collect();
        let failing = |blueprint: &Blueprint, checks: &[usize]| {
            let plan = &blueprint.tables[id.0];
            let (given, rows) = (plan.given.len() as u64, plan.rows);
            let step = ((rows - given.min(rows)) / TRIED).max(1);
            let mut found = BTreeSet::new();
            for &at in checks {
                let Ok(rule) = &table.checks[at].rule else { continue };
                // Chance alone shows itself in few rows; numbers in order may meet the one value that is not allowed.
                let counted = rule.column_set().iter().any(|&column| {
                    let source = &plan.columns[column].source;
                    source.counts() || source.counts_within()
                });
                let first = if counted { given..rows.min(given + TRIED_IN_ORDER) } else { 0..0 };
                let mut tried = first.chain((given..rows).step_by(usize::try_from(step).unwrap_or(1)));
                if tried.any(|row| !rule.allows(&Remembered::of(|column: ColumnId| blueprint.value(id, row, column)))) {
                    found.insert(at);
                }
            }
            found
        };
        let first = failing(blueprint, &known);
        if first.iter().any(|at| !under.contains(at)) {
            under.extend(first.iter().filter(|at| !under.contains(at)).copied().collect::<Vec<_>>());
            guard(schema, id, &mut blueprint.tables[id.0], &under);
            check_circles(schema, &blueprint.tables)?;
            if let Some(&at) = failing(blueprint, &known).first() {
                return Err(cannot(table, id, order, at));
            }
        } else if let Some(&at) = first.first() {
            return Err(cannot(table, id, order, at));
        }
    }
    Ok(())
}

/// A row whose values are made once, however often a rule asks for them.
struct Remembered<F> {
    make: F,
    made: RefCell<HashMap<ColumnId, Value>>,
}

impl<F: Fn(ColumnId) -> Value> Remembered<F> {
    fn of(make: F) -> Remembered<F> {
        Remembered { make, made: RefCell::default() }
    }
}

impl<F: Fn(ColumnId) -> Value> kampf_schema::Row for Remembered<F> {
    fn value(&self, column: ColumnId) -> Value {
        if let Some(value) = self.made.borrow().get(&column) {
            return value.clone();
        }
        let value = (self.make)(column);
        self.made.borrow_mut().insert(column, value.clone());
        value
    }
}

fn cannot(table: &Table, id: TableId, order: &Order, at: usize) -> FillError {
    let check = &table.checks[at];
    let sql = check.in_short();
    let columns = check.rule.as_ref().map(Rule::column_set).unwrap_or_default();
    if let Some(&column) = columns.iter().find(|&&column| order.values.contains_key(&(id, column))) {
        let message = format!("nothing that this makes for `{}.{}` fulfils the check `{sql}`", table.name, table.columns[column].name);
        return FillError::new(FillSubject::Values(id, column), message).hint("let it make what the check allows, or leave the line out");
    }
    let example = columns.first().map_or("…", |&column| table.columns[column].name.as_str());
    FillError::new(FillSubject::Schema(check.span), format!("no values were found for `{}` that fulfil the check `{sql}`", table.name))
        .hint(format!("say under [values] how to meet it, like `\"{}.{example}\" = \"…\"`", table.name))
}
