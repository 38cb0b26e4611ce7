//! Which checks values have to be drawn again for, and what of a row may change for them.

use std::collections::BTreeSet;

use kampf_schema::expr::Node;
use kampf_schema::{ColumnId, LogicalType, Rule, Schema, Table, TableId, Value};

use crate::bounds::{Bounds, bounds};
use crate::guard::Guard;
use crate::kinds::as_kind;
use crate::link::How;
use crate::others::Origin;
use crate::tables::TablePlan;
use crate::unique::ValueSource;

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
