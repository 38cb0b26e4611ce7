//! How many rows are in their first state, over, or all alike.

use kampf_fill::allowed;
use kampf_fill::names::{self, is_first_state, is_time, says_state};
use kampf_fill::ties::history;
use kampf_schema::{ColumnId, Default, LogicalType, TableId, Value};

use crate::lives::ENOUGH;
use crate::look::{Cases, Looked, shown};
use crate::{Doubt, DoubtKind};

/// More rows than this in the state in which rows begin, and nothing ever goes on.
const FIRST_SHARE: f64 = 0.4;

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, doubts: &mut Vec<Doubt>) {
    let model = looked.table(table);
    let allowed = allowed(model);
    let history = history(looked.schema, table);
    for (at, allowed) in allowed.into_iter().enumerate() {
        if model.columns[at].computed.is_some() {
            continue;
        }
        let words = || model.columns[at].words.iter().map(|word| Value::from(word.as_str())).collect::<Vec<_>>();
        let options = allowed.one_of.unwrap_or_else(words);
        // Of a step it is where it begins or ends.
        if !history.is_some_and(|history| [history.from, history.to].contains(&at)) {
            doubts.extend(first_state(looked, table, at, &options));
        }
        doubts.extend(over(looked, table, at));
        doubts.extend(constant(looked, table, at, &options));
    }
}

fn first_state(looked: &Looked<'_>, table: TableId, at: ColumnId, options: &[Value]) -> Option<Doubt> {
    let column = looked.column(table, at);
    if !says_state(column) || options.len() < 3 || !matches!(column.kind, LogicalType::Text { .. }) {
        return None;
    }
    let first = match &column.default {
        Some(Default::Value(value)) if *value != Value::Null => value,
        _ => &options[0],
    };
    // Of most things the state that rows have by themselves is the one in which they are at work.
    if !is_first_state(&shown(first)) {
        return None;
    }
    let mut cases = Cases::default();
    looked.known(table, at).for_each(|value| cases.look(value == first, || shown(value)));
    if cases.of() < ENOUGH || cases.share() <= FIRST_SHARE {
        return None;
    }
    cases.doubt(DoubtKind::FirstState, table, vec![at], format!("are in `{}` {} still, in which rows begin", column.name, shown(first)))
}

fn over(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let is_over: fn(&Value) -> bool = match column.kind {
        LogicalType::Boolean => |value| *value == Value::Boolean(true),
        _ if is_time(column) && column.nullable => |value| *value != Value::Null,
        _ => return None,
    };
    let word = names::over(looked.table(table), column)?;
    let mut cases = Cases::default();
    looked.values(table, at).iter().for_each(|value| cases.look(is_over(value), || shown(value)));
    if cases.of() < ENOUGH || cases.share() <= 0.5 {
        return None;
    }
    cases.doubt(DoubtKind::Over, table, vec![at], format!("are {word} by `{}`, more than half of all", column.name))
}

fn constant(looked: &Looked<'_>, table: TableId, at: ColumnId, options: &[Value]) -> Option<Doubt> {
    let values = looked.values(table, at);
    let first = values.first()?;
    if (values.len() as u64) < ENOUGH || options.len() == 1 || values.iter().any(|value| value != first) {
        return None;
    }
    let mut cases = Cases::default();
    values.iter().for_each(|_| cases.look(true, || shown(first)));
    cases.doubt(DoubtKind::Constant, table, vec![at], format!("have the same `{}`", looked.column(table, at).name))
}
