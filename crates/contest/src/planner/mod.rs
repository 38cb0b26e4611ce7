//! From a need and the choices of a contender to its plan: one planner, which says for each source how it is reached.
//!
//! A source's rows come to the application as rows (nodes of the plan), or its values come with the root's row, made by the root's
//! statement. Lazy and batched loading bring rows; joined loading does where a row has many, or where rows become entities; grouped
//! and computed loading bring values. What the engine cannot say comes as rows whatever the loading, and is done afterwards.

mod forms;
mod frame;
mod list;
mod rows;
mod split;

use kampf_schema::Schema;
use kampf_schema::expr::{Expr, Node};

use crate::choice::{Choices, Ways, Work};
use crate::dialect::Dialect;
use crate::need::{Leaf, Need, OrderBy};
use crate::plan::{LeftPart, LeftToApp, Plan};
use crate::resolve::make_total_at;
use forms::{Forms, aggregates_of};
pub use forms::{Reached, reached};
use frame::PlanGround;
use rows::Rows;
use split::unsaid;

/// What of a need is done where.
pub(super) struct Split {
    /// For each part of the condition, whether the database looks at it.
    pub(super) filter: Vec<bool>,
    /// Whether the database sorts.
    pub(super) order: bool,
    /// Whether the database groups.
    pub(super) group: bool,
    /// Whether the database cuts.
    pub(super) limit: bool,
    /// What the engine was meant to do and cannot.
    pub(super) left: Vec<LeftToApp>,
}

impl Split {
    fn of(ground: PlanGround<'_>, ways: Ways) -> Split {
        let need = ground.need;
        let mut left = Vec::new();
        let database = ways.work == Work::Database;
        let filter: Vec<bool> = need
            .filter
            .iter()
            .enumerate()
            .map(|(part, of)| match unsaid(ground, &of.condition) {
                Some(why) if database => {
                    left.push(LeftToApp { what: LeftPart::Condition(part), why });
                    false
                }
                _ => database,
            })
            .collect();
        let whole = database && filter.iter().all(|in_database| *in_database);
        let mut note = |what: LeftPart, why: Option<String>| {
            let said = why.is_none();
            left.extend(why.map(|why| LeftToApp { what, why }));
            said
        };
        let order_is_said = !database || note(LeftPart::Order, need.order.iter().find_map(|by| unsaid(ground, &by.value)));
        let inner = need.per_row().into_iter().any(has_aggregate);
        let forms = Forms { ground, ways };
        let per_row = aggregates_of(need, 0, need.per_row());
        let values = per_row.iter().all(|at| forms.is_computed(*at) || forms.why_rows(*at).is_some());
        let mut group = need.group.is_some() && whole && order_is_said && (!inner || values);
        if group {
            let given = need.give.iter().find_map(|given| unsaid(ground, &given.value));
            let per_row = need.per_row().into_iter().find_map(|value| unsaid(ground, value));
            group = note(LeftPart::Grouping, given.or(per_row));
        } else if need.group.is_none() {
            // What is not said is loaded as rows.
            for at in 0..need.aggregates.len() {
                note(LeftPart::Aggregate(at), forms.why_rows(at));
            }
            for at in 0..need.lists.len() {
                note(LeftPart::List(at), forms.why_rows_of_list(at));
            }
        }
        let order = database && need.group.is_none() && order_is_said;
        Split { order, group, limit: order && whole, filter, left }
    }

    /// The parts of the condition that the application looks at.
    pub(super) fn app_filter<'n>(&self, need: &'n Need) -> impl Iterator<Item = &'n crate::need::Part> + use<'n, '_> {
        need.filter.iter().zip(&self.filter).filter(|(_, in_database)| !**in_database).map(|(part, _)| part)
    }

    /// All that the application evaluates for a root row: what is wanted of each, and what selects them.
    pub(super) fn app_values<'n>(&self, need: &'n Need) -> (Vec<&'n Expr<Leaf>>, Vec<&'n Expr<Leaf>>) {
        let wanted = if self.group { Vec::new() } else { need.per_row() };
        let order = need.order.iter().filter(|_| !self.order && need.group.is_none()).map(|by| &by.value);
        (wanted, self.app_filter(need).map(|part| &part.condition).chain(order).collect())
    }
}

pub(super) fn has_aggregate(value: &Expr<Leaf>) -> bool {
    value.leaves().into_iter().any(|leaf| matches!(leaf, Leaf::Aggregate(_)))
}

/// The plan of a derived contender. The choices must be a valid combination for the need ([`crate::Field`] gives those).
pub fn derive(schema: &Schema, need: &Need, dialect: &Dialect, choices: &Choices) -> Plan {
    plan(schema, need, dialect, Ways::of(choices))
}

pub(crate) fn plan(schema: &Schema, need: &Need, dialect: &Dialect, ways: Ways) -> Plan {
    let total;
    let need = if ways.is_windowed() {
        total = in_total_order(schema, need);
        &total
    } else {
        need
    };
    let ground = PlanGround { schema, need, dialect };
    let split = Split::of(ground, ways);
    if split.group {
        return list::grouped(ground, ways, split);
    }
    Rows::new(ground, ways, split).plan()
}

/// The same need in an order in which each row has its place: portions are read in it even where the answer may come in any.
fn in_total_order(schema: &Schema, need: &Need) -> Need {
    let mut need = need.clone();
    if let Some(group) = need.group.as_ref().filter(|_| need.order.is_empty()) {
        let by = |at| OrderBy { value: Node::Leaf(Leaf::Key(at)).into(), descending: false, appended: true };
        need.order = (0..group.keys.len()).map(by).collect();
    } else if need.group.is_none() {
        make_total_at(schema.table(need.root()), 0, &mut need.order);
    }
    need
}
