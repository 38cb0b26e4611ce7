//! Steps of a history, and answers.

use kampf_fill::ties::{History, answer, history};
use kampf_schema::{TableId, Value};

use crate::look::{Cases, Looked, is_before, shown};
use crate::{Doubt, DoubtKind};

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, doubts: &mut Vec<Doubt>) {
    for reference in 0..looked.table(table).references.len() {
        doubts.extend(answer_elsewhere(looked, table, reference));
    }
    if let Some(history) = history(looked.schema, table) {
        steps(looked, table, &history, doubts);
    }
}

fn steps(looked: &Looked<'_>, table: TableId, history: &History, doubts: &mut Vec<Doubt>) {
    let &History { from, to, reference, state, at, number } = history;
    let model = looked.table(table);
    let parent = model.references[reference].parent;
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
        if let (Some(state), Some(&last), true) = (state, rows.last(), looked.is_whole(table)) {
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
    let on = model.references[answer(looked.schema, table, own)?.on].columns[0];
    let mut cases = Cases::default();
    for row in 0..looked.rows(table) {
        let Some(answered) = looked.parent(table, own, row) else { continue };
        let (one, other) = (looked.value(table, row, on), looked.value(table, answered, on));
        cases.look(one != other && *one != Value::Null, || format!("it hangs on {}, what it answers on {}", shown(one), shown(other)));
    }
    let what = format!("have another `{}` than what they answer by `{}`", model.columns[on].name, model.columns[answers.columns[0]].name);
    cases.doubt(DoubtKind::AnswerElsewhere, table, vec![answers.columns[0], on], what)
}
