//! A dataset is planned, and the proof that the checks of its rows hold.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};

use kampf_schema::{ColumnId, Rule, Schema, Table, TableId, Value};

use crate::blueprint::Blueprint;
use crate::guards::guard;
use crate::order::{FillError, FillSubject, Order};
use crate::origins::check_circles;
use crate::plan::{self, Planned};
use crate::vocabulary::Vocabulary;

/// Rows of each table that the checks are tried on.
const TRIED: u64 = 48;
/// And as many of the first ones where a column counts.
const TRIED_IN_ORDER: u64 = 1_000;

impl Blueprint {
    /// Plans a dataset.
    ///
    /// # Errors
    /// Row counts, recipes and rules that cannot be met together, with the line of the order that would help.
    pub fn new(schema: &Schema, order: &Order) -> Result<Blueprint, FillError> {
        let Planned { tables, counts, notes } = plan::tables(schema, order)?;
        let mut blueprint = Blueprint { tables, words: Vocabulary::new(order.seed), counts, notes, rekeyed: None };
        prove(schema, order, &mut blueprint)?;
        Ok(blueprint)
    }
}

/// Tries all checks on some rows of each table. Those that were thought to hold and do not come under a guard; where a guard
/// cannot make them hold either, nobody can.
fn prove(schema: &Schema, order: &Order, blueprint: &mut Blueprint) -> Result<(), FillError> {
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
        .recipe(format!("say under [values] how to meet it, like `\"{}.{example}\" = \"…\"`", table.name))
}
