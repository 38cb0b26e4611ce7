//! Generated rows that a need is quickly evaluated over, without asking a database.

use kampf_contest::{Expect, Leaf, Need, RowSource, evaluate};
use kampf_engine::GeneratedRows;
use kampf_schema::{ColumnId, TableId, Value};

use super::Project;

/// Generated rows, over all parameter sets, that a condition is evaluated on where it needs other tables than its own.
pub(crate) const MOST_ROWS: u64 = 500_000;
/// Rows of a table that are looked at, evenly over it.
pub(crate) const SAMPLE: u64 = 20_000;

/// Every so many-th row of the root, and all rows of other tables.
pub(crate) struct Sampled<'a> {
    pub(crate) rows: GeneratedRows<'a>,
    pub(crate) root: TableId,
    pub(crate) step: u64,
}

impl Sampled<'_> {
    /// Rows that a need is quickly evaluated over: a sample where it has one table, else all of them; none where they are many.
    pub(crate) fn few<'a>(project: &'a Project, need: &Need) -> Option<Sampled<'a>> {
        let all = project.blueprint.rows(need.root());
        let read: u64 = need.tables().into_iter().map(|table| project.blueprint.rows(table)).sum();
        let is_own = need.sources.len() == 1;
        let step = if is_own { all.div_ceil(SAMPLE).max(1) } else { 1 };
        let are_few = all > 0 && (is_own || read <= MOST_ROWS);
        are_few.then(|| Sampled { rows: GeneratedRows(&project.blueprint), root: need.root(), step })
    }
}

impl RowSource for Sampled<'_> {
    fn count(&self, table: TableId) -> u64 {
        let all = self.rows.count(table);
        if table == self.root { all.div_ceil(self.step) } else { all }
    }

    fn value(&self, table: TableId, row: u64, column: ColumnId) -> Value {
        let row = if table == self.root { row * self.step } else { row };
        self.rows.value(table, row, column)
    }
}

/// The need with nothing but its condition.
pub(crate) fn bare(need: &Need) -> Need {
    let kept = need.clone();
    Need { give: Vec::new(), order: Vec::new(), limit: None, group: None, distinct: false, expect: Expect::Many, ..kept }
}

/// About how many rows a need's condition takes. None where that depends on parameters or on other tables.
pub(crate) fn rows_taken(project: &Project, need: &Need) -> Option<u64> {
    let all = project.blueprint.rows(need.root());
    let leaves = need.filter.iter().flat_map(|part| part.condition.leaves());
    if need.filter.is_empty() || all == 0 {
        return Some(all);
    }
    if !leaves.into_iter().all(|leaf| matches!(leaf, Leaf::Column { source: 0, .. })) {
        return None;
    }
    let rows = Sampled { rows: GeneratedRows(&project.blueprint), root: need.root(), step: all.div_ceil(SAMPLE).max(1) };
    let taken = evaluate(&project.schema, &bare(need), &rows, &[]).ok()?.rows.len() as u64;
    Some(all * taken / rows.count(need.root()).max(1))
}
