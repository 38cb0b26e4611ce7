//! Times: of one row in the order of its life, of rows that belong together, of days and nights.

use kampf_fill::names::{comes_after, goes_on_for_long, happened, has, is_of_machines, is_time, may_lie_ahead, says_answer, stage};
use kampf_fill::ties::{made, moment};
use kampf_schema::{ColumnId, LogicalType, TableId, Value};

use crate::look::{Cases, Looked, is_before, micros, shown};
use crate::{Doubt, DoubtKind};

const MICROS_PER_HOUR: i64 = 3_600_000_000;

/// So many rows say something about a share.
pub(crate) const ENOUGH: u64 = 50;

/// Of a day a quarter lies between midnight and six; more than this share of times there and nobody sleeps.
const NIGHT_SHARE: f64 = 0.15;

/// What is started and finished lasts no longer than this in the median.
const LONGEST: i64 = 3 * 24 * MICROS_PER_HOUR;

pub(crate) fn doubts(looked: &Looked<'_>, table: TableId, today: i64, doubts: &mut Vec<Doubt>) {
    let times: Vec<ColumnId> = (0..looked.table(table).columns.len()).filter(|&at| is_time(looked.column(table, at))).collect();
    for &later in &times {
        doubts.extend(times.iter().filter_map(|&earlier| out_of_order(looked, table, earlier, later)));
        doubts.extend(times.iter().filter_map(|&begun| lasts_long(looked, table, begun, later)));
        doubts.extend(in_the_future(looked, table, later, today));
        doubts.extend(by_night(looked, table, later));
    }
    doubts.extend((0..looked.table(table).references.len()).filter_map(|reference| before_parent(looked, table, reference)));
}

fn out_of_order(looked: &Looked<'_>, table: TableId, earlier: ColumnId, later: ColumnId) -> Option<Doubt> {
    let (first, second) = (looked.column(table, earlier), looked.column(table, later));
    if !comes_after(stage(second)?, stage(first)?) {
        return None;
    }
    let mut cases = Cases::default();
    for (one, other) in looked.values(table, earlier).iter().zip(looked.values(table, later)) {
        if *one != Value::Null && *other != Value::Null {
            cases.look(is_before(other, one), || format!("{} {}, {} {}", first.name, shown(one), second.name, shown(other)));
        }
    }
    let what = format!("have `{}` before `{}`", second.name, first.name);
    cases.doubt(DoubtKind::TimesOfRow, table, vec![earlier, later], what)
}

fn lasts_long(looked: &Looked<'_>, table: TableId, begun: ColumnId, ended: ColumnId) -> Option<Doubt> {
    let (first, second) = (looked.column(table, begun), looked.column(table, ended));
    let is_short = has(first, &["started", "begun", "began"])
        && has(second, &["finished", "ended", "completed", "stopped"])
        && first.kind == LogicalType::Timestamp
        && second.kind == LogicalType::Timestamp;
    if !is_short || goes_on_for_long(looked.table(table)) {
        return None;
    }
    let pairs = looked.values(table, begun).iter().zip(looked.values(table, ended));
    let mut lengths: Vec<i64> = pairs.filter_map(|(one, other)| Some(micros(other)?.saturating_sub(micros(one)?))).collect();
    lengths.sort_unstable();
    let median = *lengths.get(lengths.len() / 2).filter(|_| lengths.len() as u64 >= ENOUGH)?;
    if median <= LONGEST {
        return None;
    }
    let mut cases = Cases::default();
    lengths.iter().rev().for_each(|&length| cases.look(length > LONGEST, || days(length)));
    let what =
        format!("last more than {} from `{}` to `{}`, half of all more than {}", days(LONGEST), first.name, second.name, days(median));
    cases.doubt(DoubtKind::Lasting, table, vec![begun, ended], what)
}

fn days(micros: i64) -> String {
    format!("{:.0} days", micros as f64 / (24 * MICROS_PER_HOUR) as f64)
}

fn in_the_future(looked: &Looked<'_>, table: TableId, at: ColumnId, today: i64) -> Option<Doubt> {
    let column = looked.column(table, at);
    if may_lie_ahead(column) {
        return None;
    }
    let mut cases = Cases::default();
    let today = Value::Timestamp(today);
    looked.known(table, at).for_each(|value| cases.look(is_before(&today, value), || shown(value)));
    let what = format!("have `{}` after {}, the last day of the rows", column.name, &shown(&today)[..10]);
    cases.doubt(DoubtKind::Future, table, vec![at], what)
}

fn by_night(looked: &Looked<'_>, table: TableId, at: ColumnId) -> Option<Doubt> {
    let column = looked.column(table, at);
    let is_of_people = stage(column).is_some() || happened(column);
    if column.kind != LogicalType::Timestamp || !is_of_people || is_of_machines(looked.table(table), column) {
        return None;
    }
    let mut cases = Cases::default();
    for value in looked.known(table, at) {
        let hour = micros(value).unwrap_or(0).rem_euclid(24 * MICROS_PER_HOUR) / MICROS_PER_HOUR;
        cases.look(hour < 6, || shown(value));
    }
    if cases.of() < ENOUGH || cases.share() <= NIGHT_SHARE {
        return None;
    }
    cases.doubt(DoubtKind::Night, table, vec![at], format!("have `{}` between midnight and six", column.name))
}

fn before_parent(looked: &Looked<'_>, table: TableId, at: usize) -> Option<Doubt> {
    let reference = &looked.table(table).references[at];
    // Whoever is led, or comes from, another row of the table need not be younger; an answer is.
    if reference.parent == table && !reference.columns.iter().any(|&column| says_answer(looked.column(table, column))) {
        return None;
    }
    let (own, theirs) = (moment(looked.schema, table)?, made(looked.schema, reference.parent)?);
    let mut cases = Cases::default();
    for row in 0..looked.rows(table) {
        let Some(parent) = looked.parent(table, at, row) else { continue };
        let (one, other) = (looked.value(reference.parent, parent, theirs), looked.value(table, row, own));
        if *one != Value::Null && *other != Value::Null {
            cases.look(is_before(other, one), || format!("{}, and what it belongs to {}", shown(other), shown(one)));
        }
    }
    let parent = looked.table(reference.parent);
    let what = format!("have `{}` before `{}` of their `{}`", looked.column(table, own).name, parent.columns[theirs].name, parent.name);
    let mut columns = reference.columns.clone();
    columns.push(own);
    cases.doubt(DoubtKind::BeforeParent, table, columns, what)
}
