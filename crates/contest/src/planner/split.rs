//! What an engine can say of a need, and what is left to the application.

use kampf_schema::LogicalType;
use kampf_schema::expr::Expr;

use super::forms::any_unsaid;
use super::frame::PlanGround;
use crate::need::{Fold, Leaf};
use crate::sql::{Leaves, Sql, Unsaid, print};

/// Leaves as they are for asking whether something can be said.
struct SayableNeed<'a>(PlanGround<'a>);

impl Leaves<Leaf> for SayableNeed<'_> {
    fn leaf(&mut self, leaf: &Leaf) -> Result<Sql, Unsaid> {
        let need = self.0.need;
        let why = match leaf {
            Leaf::Aggregate(at) => unsaid_aggregate(self.0, *at),
            Leaf::Key(at) => need.group.as_ref().and_then(|group| unsaid(self.0, &group.keys[*at].value)),
            Leaf::Total(at) => need.group.as_ref().and_then(|group| unsaid_fold(self.0, &group.totals[*at])),
            Leaf::List(_) => Some("gives no list as a value".to_owned()),
            Leaf::Column { .. } | Leaf::Parameter(_) => None,
        };
        why.map_or_else(|| Ok(Sql::text("?")), Err)
    }

    fn kind(&self, leaf: &Leaf) -> Option<LogicalType> {
        Some(self.0.need.kind(self.0.schema, leaf))
    }

    fn parameter(&self, leaf: &Leaf) -> Option<usize> {
        if let Leaf::Parameter(at) = leaf { Some(*at) } else { None }
    }

    fn digits(&self, value: &Expr<Leaf>) -> u8 {
        self.0.need.digits(self.0.schema, value)
    }
}

/// Why an engine cannot say a value or a condition, in words that follow on its name; none where it can.
pub(super) fn unsaid(ground: PlanGround<'_>, expr: &Expr<Leaf>) -> Option<Unsaid> {
    print(ground.dialect, expr, &mut SayableNeed(ground)).err()
}

fn unsaid_fold(ground: PlanGround<'_>, fold: &Fold) -> Option<Unsaid> {
    any_unsaid(ground, fold.of.iter().chain(fold.order.iter().map(|by| &by.value)))
}

/// Why it cannot say which rows lie between two sources.
fn unsaid_way(ground: PlanGround<'_>, from: usize, to: usize) -> Option<Unsaid> {
    let filters = ground.need.way(from, to).into_iter().filter_map(|source| ground.need.sources[source].filter.as_ref());
    any_unsaid(ground, filters.flat_map(Expr::conjuncts))
}

/// Why it cannot say an aggregate over related rows: for what is aggregated, or for which rows.
pub(super) fn unsaid_aggregate(ground: PlanGround<'_>, at: usize) -> Option<Unsaid> {
    let aggregate = &ground.need.aggregates[at];
    unsaid_fold(ground, &aggregate.fold).or_else(|| unsaid_way(ground, aggregate.at, aggregate.over))
}

/// Why it cannot say which rows a list has, and in which order.
pub(super) fn unsaid_list(ground: PlanGround<'_>, at: usize) -> Option<Unsaid> {
    let list = &ground.need.lists[at];
    unsaid_way(ground, list.at, list.over).or_else(|| any_unsaid(ground, list.order.iter().map(|by| &by.value)))
}

/// Why it cannot say what is given of each row of a list, or of one in it.
pub(super) fn unsaid_items(ground: PlanGround<'_>, at: usize) -> Option<Unsaid> {
    ground.need.lists[at].give.iter().find_map(|given| match given.value.as_leaf() {
        Some(Leaf::List(inner)) => unsaid_list(ground, *inner).or_else(|| unsaid_items(ground, *inner)),
        _ => unsaid(ground, &given.value),
    })
}

/// The parts of a source's condition that the application has to look at.
pub(super) fn left_of_source(ground: PlanGround<'_>, source: usize) -> Vec<Expr<Leaf>> {
    let parts = ground.need.sources[source].filter.iter().flat_map(Expr::conjuncts);
    parts.filter(|part| unsaid(ground, part).is_some()).cloned().collect()
}
