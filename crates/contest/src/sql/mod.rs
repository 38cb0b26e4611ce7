//! From a need and the choices of a contender to its plan.

mod condition;
mod flat;
mod fragment;
mod graph;
mod own;
mod scope;

use kampf_schema::{ColumnId, Schema, TableId};

pub use own::{OwnSqlError, own_sql};

use crate::choice::{Choices, Columns, Hydration, Loading, Work};
use crate::dialect::Dialect;
use crate::need::{Need, Term};
use crate::plan::Plan;

/// The choices of a contender with those that do not apply filled in by what they come to.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Ways {
    pub(crate) loading: Loading,
    pub(crate) work: Work,
    pub(crate) columns: Columns,
    pub(crate) hydration: Hydration,
}

impl Ways {
    pub(crate) fn of(choices: &Choices) -> Ways {
        Ways {
            // Without relations there is one table, and nothing to reach.
            loading: choices.get().unwrap_or(Loading::Joined),
            work: choices.get().unwrap_or(Work::Database),
            columns: choices.get().unwrap_or(Columns::Needed),
            hydration: choices.get().unwrap_or(Hydration::Record),
        }
    }
}

/// Whether every value comes with the root's own row, so that nothing else is kept.
pub(crate) fn is_flat(has_relations: bool, has_aggregates: bool, ways: &Ways) -> bool {
    match ways.loading {
        Loading::Grouped | Loading::Computed => true,
        Loading::Joined => {
            let to_one = !has_aggregates;
            !has_relations || (to_one && matches!(ways.hydration, Hydration::Map | Hydration::Record | Hydration::Raw))
        }
        Loading::Lazy | Loading::Batched => !has_relations,
    }
}

/// What is kept of the rows that come back.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Kept {
    /// Terms with their names, of one row.
    Terms(Vec<(Term, String)>),
    /// Columns of each table.
    Columns(Vec<(TableId, Vec<ColumnId>)>),
}

impl Kept {
    /// How many columns are kept.
    pub(crate) fn columns(&self) -> usize {
        match self {
            Kept::Terms(terms) => terms.len(),
            Kept::Columns(tables) => tables.iter().map(|(_, columns)| columns.len()).sum(),
        }
    }
}

/// What a contender keeps, without its statements.
pub(crate) fn kept(schema: &Schema, need: &Need, dialect: &Dialect, ways: Ways) -> Kept {
    if is_flat(need.has_relations(), need.has_aggregates(), &ways) {
        Kept::Terms(flat::kept(schema, need, ways))
    } else {
        Kept::Columns(graph::kept(schema, need, dialect, ways))
    }
}

/// The plan of a derived contender. The choices must be a valid combination for the need ([`crate::Field`] gives those).
pub fn derive(schema: &Schema, need: &Need, dialect: &Dialect, choices: &Choices) -> Plan {
    let ways = Ways::of(choices);
    let is_flat = is_flat(need.has_relations(), need.has_aggregates(), &ways);
    if is_flat { flat::plan(schema, need, dialect, ways) } else { graph::plan(schema, need, dialect, ways) }
}
