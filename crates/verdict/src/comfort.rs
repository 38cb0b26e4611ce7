//! What a contender leaves to the developer.

use std::cmp::Ordering;

use kampf_contest::{ByHand, Hydration};

use crate::facts::ContenderFacts;
use crate::verdict::Placed;

/// Order of comfort: least by hand, then the form that does most by itself, then the faster.
pub(crate) fn comfort(left: (&ContenderFacts, &Placed), right: (&ContenderFacts, &Placed)) -> Ordering {
    let form = |one: &ContenderFacts| one.choices.and_then(|choices| choices.get()).unwrap_or(Hydration::Raw);
    let median = |one: &Placed| one.median.unwrap_or(f64::INFINITY);
    by_hand(left.0).cmp(&by_hand(right.0)).then(form(left.0).cmp(&form(right.0))).then(median(left.1).total_cmp(&median(right.1)))
}

/// What a contender leaves to the developer; a program leaves everything.
fn by_hand(one: &ContenderFacts) -> ByHand {
    one.by_hand.unwrap_or(ByHand { statements: usize::MAX, columns: usize::MAX, characters: usize::MAX })
}

/// Whether there are fewer statements or columns; a few characters less are no comfort.
pub(crate) fn is_less_work(left: &ContenderFacts, right: &ContenderFacts) -> bool {
    let (left, right) = (by_hand(left), by_hand(right));
    (left.statements, left.columns) < (right.statements, right.columns)
}
