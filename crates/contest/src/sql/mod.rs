//! From a need and the choices of a contender to its plan.

mod condition;
mod flat;
mod fragment;
mod graph;
mod own;
mod scope;

use kampf_schema::Schema;

pub use own::{OwnSqlError, own_sql};

use crate::choice::{Choices, Columns, Hydration, Loading, Work};
use crate::dialect::Dialect;
use crate::need::Need;
use crate::plan::Plan;

/// The choices of a contender with those that do not apply filled in by what they come to.
#[derive(Clone, Copy)]
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
            loading: choices.loading.unwrap_or(Loading::Joined),
            work: choices.work.unwrap_or(Work::Database),
            columns: choices.columns.unwrap_or(Columns::Needed),
            hydration: choices.hydration,
        }
    }

    /// Whether every value comes with the root's own row, so that nothing else is kept.
    pub(crate) fn is_flat(&self, need: &Need) -> bool {
        match self.loading {
            Loading::Grouped | Loading::Computed => true,
            Loading::Joined => {
                let to_one = !need.has_aggregates();
                !need.has_relations() || (to_one && matches!(self.hydration, Hydration::Map | Hydration::Record | Hydration::Raw))
            }
            Loading::Lazy | Loading::Batched => !need.has_relations(),
        }
    }
}

/// The plan of a derived contender. The choices must be a valid combination for the need ([`crate::Field`] gives those).
pub fn derive(schema: &Schema, need: &Need, dialect: &Dialect, choices: &Choices) -> Plan {
    let ways = Ways::of(choices);
    if ways.is_flat(need) { flat::plan(schema, need, dialect, ways) } else { graph::plan(schema, need, dialect, ways) }
}
