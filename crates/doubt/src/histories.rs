//! Steps of a history, and answers.

use kampf_schema::{ColumnId, LogicalType, TableId, Value};

use crate::lives::moment;
use crate::look::{Cases, Looked, is_before, shown};
use crate::{Doubt, DoubtKind};
use kampf_fill::names::{has, says_answer, says_state, words};

/// What stands in the names of where a step begins, and where it ends.
const ENDS: [(&str, &str); 5] = [("from", "to"), ("old", "new"), ("previous", "next"), ("prev", "next"), ("before", "after")];

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, doubts: &mut Vec<Doubt>) {
    for reference in 0..looked.table(table).references.len() {
        doubts.extend(answer_elsewhere(looked, table, reference));
    }
    let Some((from, to)) = step(looked, table) else { return };
    // What is told of is what the first reference leads to that has a state of that name, else the first that is always there.
    let references = &looked.table(table).references;
    let with_state = references.iter().position(|reference| state_of(looked, reference.parent).is_some());
    let always = |at: &usize| !looked.column(table, references[*at].columns[0]).nullable;
    let Some(reference) = with_state.or_else(|| (0..references.len()).find(always)) else { return };
    steps(looked, table, reference, (from, to), doubts);
}

/// The columns with where a step begins and where it ends.
fn step(looked: &Looked<'_>, table: TableId) -> Option<(ColumnId, ColumnId)> {
    let columns = &looked.table(table).columns;
    ENDS.iter().find_map(|(from, to)| {
        let of = |at: ColumnId, end: &str| {
            let words = words(&columns[at]);
            words.iter().any(|word| word == end).then(|| words.into_iter().filter(|word| word != end).collect::<Vec<_>>())
        };
        let is_step = |one: ColumnId, other: ColumnId| {
            let kind = columns[one].kind;
            let words = of(one, from).zip(of(other, to)).filter(|(one, other)| one == other && !one.is_empty());
            words.is_some() && kind == columns[other].kind && matches!(kind, LogicalType::Text { .. } | LogicalType::Integer)
        };
        let is_reference = |at: ColumnId| looked.table(table).references.iter().any(|reference| reference.columns.contains(&at));
        let mut pairs = (0..columns.len()).flat_map(|one| (0..columns.len()).map(move |other| (one, other)));
        pairs.find(|&(one, other)| is_step(one, other) && !is_reference(one) && says_state(&columns[one]))
    })
}

/// The column of a table that says in which state its rows are.
fn state_of(looked: &Looked<'_>, table: TableId) -> Option<ColumnId> {
    looked.table(table).columns.iter().position(|column| says_state(column) && matches!(column.kind, LogicalType::Text { .. }))
}

fn steps(looked: &Looked<'_>, table: TableId, reference: usize, (from, to): (ColumnId, ColumnId), doubts: &mut Vec<Doubt>) {
    let model = looked.table(table);
    let parent = model.references[reference].parent;
    let at = moment(looked, table);
    let number = model.columns.iter().position(|column| {
        column.kind == LogicalType::Integer && has(column, &["seq", "sequence", "position", "step", "ordinal", "no", "number"])
    });
    let state = state_of(looked, parent);
    let (mut continues, mut in_order, mut ends) = (Cases::default(), Cases::default(), Cases::default());
    for (of, mut rows) in looked.children(table, reference) {
        // In the order that the rows say; of times alone that order cannot be wrong, and rows as they were written are held against it.
        if let Some(number) = number {
            rows.sort_by(|&one, &other| looked.value(table, one, number).as_ref().order(looked.value(table, other, number).as_ref()));
        }
        if let Some(at) = at {
            for pair in rows.windows(2) {
                let (one, other) = (looked.value(table, pair[0], at), looked.value(table, pair[1], at));
                in_order.look(is_before(other, one), || format!("{} after {}", shown(other), shown(one)));
            }
            if number.is_none() {
                rows.sort_by(|&one, &other| looked.value(table, one, at).as_ref().order(looked.value(table, other, at).as_ref()));
            }
        }
        for pair in rows.windows(2) {
            let (ended, begins) = (looked.value(table, pair[0], to), looked.value(table, pair[1], from));
            continues.look(ended != begins, || format!("one ends in {}, the next begins in {}", shown(ended), shown(begins)));
        }
        if let (Some(state), Some(&last)) = (state, rows.last()) {
            let (ended, now) = (looked.value(table, last, to), looked.value(parent, of, state));
            ends.look(ended != now, || format!("the last step ends in {}, the row is {}", shown(ended), shown(now)));
        }
    }
    let (first, second) = (&model.columns[from].name, &model.columns[to].name);
    let what = format!("steps do not begin in `{first}` with what the step before has in `{second}`");
    doubts.extend(continues.doubt(DoubtKind::StepContinues, table, vec![from, to], what));
    if let Some(at) = at {
        let what = format!("steps have `{}` before that of the step before", model.columns[at].name);
        doubts.extend(in_order.doubt(DoubtKind::StepsInOrder, table, vec![at], what));
    }
    if let Some(state) = state {
        let of = looked.table(parent);
        let what = format!("histories end in another `{second}` than their `{}.{}`", of.name, of.columns[state].name);
        doubts.extend(ends.doubt(DoubtKind::LastStep, table, vec![to], what));
    }
}

/// Answers that hang on something else than what they answer.
fn answer_elsewhere(looked: &Looked<'_>, table: TableId, own: usize) -> Option<Doubt> {
    let model = looked.table(table);
    let answers = &model.references[own];
    if answers.parent != table || !answers.columns.iter().any(|&column| says_answer(&model.columns[column])) {
        return None;
    }
    let is_plain = |at: usize| model.references[at].parent != table && model.references[at].columns.len() == 1;
    // What all of a thread have: the first that is always there, other than who wrote it.
    let others = (0..model.references.len()).filter(|&at| is_plain(at) && !model.columns[model.references[at].columns[0]].nullable);
    let on = others
        .filter(|&at| !kampf_fill::names::is_of_all(looked.table(model.references[at].parent)))
        .map(|at| model.references[at].columns[0])
        .next()?;
    let mut cases = Cases::default();
    for row in 0..looked.rows(table) {
        let Some(answered) = looked.parent(table, own, row) else { continue };
        let (one, other) = (looked.value(table, row, on), looked.value(table, answered, on));
        cases.look(one != other && *one != Value::Null, || format!("it hangs on {}, what it answers on {}", shown(one), shown(other)));
    }
    let what = format!("have another `{}` than what they answer by `{}`", model.columns[on].name, model.columns[answers.columns[0]].name);
    cases.doubt(DoubtKind::AnswerElsewhere, table, vec![answers.columns[0], on], what)
}
